//! The few things that a folder does to its disk. Everything goes through [`Disk`], so that a test can cut the power after
//! any of them.

use super::map;
use bytes::Bytes;
use std::any::Any;
use std::ffi::OsString;
use std::fmt;
use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::path::Path;

/// File operations. What is written lasts once it is synced; a name lasts once its folder is.
pub trait Disk: fmt::Debug + Send + Sync {
    /// Makes a folder and those above it, where they are not there.
    ///
    /// # Errors
    /// Those of the system; so for all others.
    fn make_folder(&self, path: &Path) -> io::Result<()>;

    /// The names in a folder.
    ///
    /// # Errors
    /// Those of the system.
    fn names(&self, path: &Path) -> io::Result<Vec<OsString>>;

    /// Makes an empty file to be written; one that is there already is refused, unless it may be `replaced`.
    ///
    /// # Errors
    /// Those of the system.
    fn create(&self, path: &Path, replaced: bool) -> io::Result<Box<dyn Written>>;

    /// Gives a file another name, in the place of what had it.
    ///
    /// # Errors
    /// Those of the system.
    fn rename(&self, from: &Path, to: &Path) -> io::Result<()>;

    /// Makes the names in a folder last.
    ///
    /// # Errors
    /// Those of the system.
    fn sync_names(&self, path: &Path) -> io::Result<()>;

    /// Makes what was written to a file last.
    ///
    /// # Errors
    /// Those of the system.
    fn sync(&self, path: &Path) -> io::Result<()>;

    /// Removes a file.
    ///
    /// # Errors
    /// Those of the system.
    fn remove(&self, path: &Path) -> io::Result<()>;

    /// Removes an empty folder.
    ///
    /// # Errors
    /// Those of the system.
    fn remove_folder(&self, path: &Path) -> io::Result<()>;

    /// The contents of a small file.
    ///
    /// # Errors
    /// Those of the system.
    fn read(&self, path: &Path) -> io::Result<Bytes>;

    /// Opens a file of which ranges will be read, and which nobody changes any more; ranges here and there, or from front to
    /// back.
    ///
    /// # Errors
    /// Those of the system.
    fn open(&self, path: &Path, front_to_back: bool) -> io::Result<Box<dyn Read>>;

    /// Takes a lock, which is held until what is given is dropped or the process ends; nothing if somebody else holds it and
    /// it is not to `wait`.
    ///
    /// # Errors
    /// Those of the system.
    fn lock(&self, path: &Path, wait: bool) -> io::Result<Option<Box<dyn Any + Send + Sync>>>;

    /// Whether what was [taken](Self::lock) still keeps others out: somebody may have removed its file by hand.
    ///
    /// # Errors
    /// Those of the system.
    fn keeps_others_out(&self, path: &Path, lock: &(dyn Any + Send + Sync)) -> io::Result<bool> {
        let _ = (path, lock);
        Ok(true)
    }
}

/// A file that is being written.
pub trait Written: fmt::Debug + Send + Sync {
    /// Appends bytes.
    ///
    /// # Errors
    /// Those of the system.
    fn append(&self, bytes: &[u8]) -> io::Result<()>;

    /// Makes what was written last.
    ///
    /// # Errors
    /// Those of the system.
    fn sync(&self) -> io::Result<()>;
}

/// A file that is read.
pub trait Read: fmt::Debug + Send + Sync {
    /// Its length.
    fn length(&self) -> u64;

    /// The bytes of a range, which lies in the file.
    ///
    /// # Errors
    /// Those of the system.
    fn read(&self, start: u64, end: u64) -> io::Result<Bytes>;

    /// All of it, if it is mapped into memory.
    fn whole(&self) -> Option<Bytes> {
        None
    }
}

/// The disk that the system offers.
#[derive(Clone, Copy, Debug)]
pub struct System {
    /// Whether files that are read are mapped into memory.
    pub mapped: bool,
    /// Whether files and folders get the permissions that the process gives what it makes, where that is known (its umask); otherwise
    /// they are its user's alone.
    pub shared: bool,
}

impl Disk for System {
    fn make_folder(&self, path: &Path) -> io::Result<()> {
        let mut builder = fs::DirBuilder::new();
        builder.recursive(true);
        #[cfg(unix)]
        if !self.shared {
            std::os::unix::fs::DirBuilderExt::mode(&mut builder, 0o700);
        }
        builder.create(path)
    }

    fn names(&self, path: &Path) -> io::Result<Vec<OsString>> {
        fs::read_dir(path)?.map(|entry| Ok(entry?.file_name())).collect()
    }

    fn create(&self, path: &Path, replaced: bool) -> io::Result<Box<dyn Written>> {
        let mut options = OpenOptions::new();
        options.write(true).create_new(!replaced).create(replaced).truncate(replaced);
        Ok(Box::new(self.own(&mut options).open(path)?))
    }

    fn rename(&self, from: &Path, to: &Path) -> io::Result<()> {
        fs::rename(from, to)
    }

    fn sync_names(&self, path: &Path) -> io::Result<()> {
        // Where folders can't be synced, names are left to the file system.
        if cfg!(unix) { File::open(path)?.sync_all() } else { Ok(()) }
    }

    fn sync(&self, path: &Path) -> io::Result<()> {
        OpenOptions::new().append(true).open(path)?.sync_all()
    }

    fn remove(&self, path: &Path) -> io::Result<()> {
        fs::remove_file(path)
    }

    fn remove_folder(&self, path: &Path) -> io::Result<()> {
        fs::remove_dir(path)
    }

    fn read(&self, path: &Path) -> io::Result<Bytes> {
        fs::read(path).map(Bytes::from)
    }

    fn open(&self, path: &Path, front_to_back: bool) -> io::Result<Box<dyn Read>> {
        let file = File::open(path)?;
        if self.mapped && !front_to_back {
            return Ok(Box::new(map::map(&file)?));
        }
        let length = file.metadata()?.len();
        Ok(Box::new(Plain { file, length }))
    }

    fn lock(&self, path: &Path, wait: bool) -> io::Result<Option<Box<dyn Any + Send + Sync>>> {
        loop {
            let mut options = OpenOptions::new();
            options.write(true).create(true).truncate(false);
            let file = self.own(&mut options).open(path)?;
            // The system gives the lock back when the file is closed, also when the process is killed.
            if wait {
                file.lock()?;
            } else {
                match file.try_lock() {
                    Ok(()) => {}
                    Err(fs::TryLockError::WouldBlock) => return Ok(None),
                    Err(fs::TryLockError::Error(error)) => return Err(error),
                }
            }
            // Whoever held it may have removed the file meanwhile, or somebody else.
            if is_at(&file, path)? {
                return Ok(Some(Box::new(file)));
            }
        }
    }

    fn keeps_others_out(&self, path: &Path, lock: &(dyn Any + Send + Sync)) -> io::Result<bool> {
        lock.downcast_ref::<File>().map_or(Ok(true), |file| is_at(file, path))
    }
}

impl System {
    /// The permissions of a new file.
    #[cfg_attr(not(unix), expect(clippy::unused_self, reason = "only there are permissions of this kind"))]
    fn own(self, options: &mut OpenOptions) -> &mut OpenOptions {
        #[cfg(unix)]
        if !self.shared {
            std::os::unix::fs::OpenOptionsExt::mode(options, 0o600);
        }
        options
    }
}

/// Whether an open file is the one at a path.
#[cfg(unix)]
fn is_at(file: &File, path: &Path) -> io::Result<bool> {
    use std::os::unix::fs::MetadataExt;
    let held = file.metadata()?;
    match fs::metadata(path) {
        Ok(there) => Ok((there.dev(), there.ino()) == (held.dev(), held.ino())),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(false),
        Err(error) => Err(error),
    }
}

/// An open file can't be removed there.
#[cfg(not(unix))]
fn is_at(_: &File, _: &Path) -> io::Result<bool> {
    Ok(true)
}

impl Written for File {
    fn append(&self, bytes: &[u8]) -> io::Result<()> {
        (&mut &*self).write_all(bytes)
    }

    fn sync(&self) -> io::Result<()> {
        self.sync_all()
    }
}

/// A mapped file.
impl Read for Bytes {
    fn length(&self) -> u64 {
        self.len() as u64
    }

    fn read(&self, start: u64, end: u64) -> io::Result<Bytes> {
        let place = |offset: u64| usize::try_from(offset).unwrap_or(usize::MAX);
        Ok(self.slice(place(start)..place(end)))
    }

    fn whole(&self) -> Option<Bytes> {
        Some(self.clone())
    }
}

/// A file that is read range by range.
#[derive(Debug)]
struct Plain {
    file: File,
    length: u64,
}

impl Read for Plain {
    fn length(&self) -> u64 {
        self.length
    }

    fn read(&self, start: u64, end: u64) -> io::Result<Bytes> {
        let mut bytes = vec![0; usize::try_from(end - start).map_err(io::Error::other)?];
        read_exact_at(&self.file, &mut bytes, start)?;
        Ok(bytes.into())
    }
}

#[cfg(unix)]
fn read_exact_at(file: &File, bytes: &mut [u8], offset: u64) -> io::Result<()> {
    std::os::unix::fs::FileExt::read_exact_at(file, bytes, offset)
}

#[cfg(windows)]
fn read_exact_at(file: &File, mut bytes: &mut [u8], mut offset: u64) -> io::Result<()> {
    while !bytes.is_empty() {
        let read = std::os::windows::fs::FileExt::seek_read(file, bytes, offset)?;
        if read == 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        bytes = &mut bytes[read..];
        offset += read as u64;
    }
    Ok(())
}
