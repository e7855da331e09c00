//! Writing a folder.

use super::view::{open_piece, read_manifest, read_range, unknown};
use super::{Folder, refused};
use bytes::Bytes;
use nut_cellar_core::store::{Generation, PieceWriter, Wanted};
use nut_cellar_core::{Error, ErrorKind, Manifest, PieceId, Result, Unit, View};
use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fs::{self, File, OpenOptions, TryLockError};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// A transaction on a folder; holds its lock. Dropped without being committed, it leaves nothing.
#[derive(Debug)]
pub struct FolderUnit {
    folder: Folder,
    manifest: Option<Manifest>,
    changed: bool,
    /// The files of the pieces that were written, which are synced when the transaction is committed.
    written: RefCell<BTreeMap<PieceId, Arc<File>>>,
    /// The files of pieces that were read.
    read: RefCell<HashMap<PieceId, Arc<File>>>,
    removed: Vec<PieceId>,
    _lock: File,
}

impl FolderUnit {
    pub(super) fn begin(folder: &Folder) -> Result<Self> {
        // Before anything is made: what is there may be something else.
        read_manifest(folder)?;
        let pieces = folder.pieces_path();
        fs::create_dir_all(&pieces).map_err(|error| refused("making the folder", &pieces, error))?;
        let lock = lock(&folder.lock_path())?;
        let manifest = read_manifest(folder)?;
        let unit = Self {
            folder: folder.clone(),
            manifest,
            changed: false,
            written: RefCell::default(),
            read: RefCell::default(),
            removed: Vec::new(),
            _lock: lock,
        };
        unit.remove_leftovers()?;
        Ok(unit)
    }

    /// The file of a piece, for reading.
    fn file(&self, piece: PieceId) -> Result<Arc<File>> {
        let mut read = self.read.borrow_mut();
        if let Some(file) = read.get(&piece) {
            return Ok(Arc::clone(file));
        }
        let file = open_piece(&self.folder, piece)?.ok_or_else(|| unknown(piece))?;
        read.insert(piece, Arc::clone(&file));
        Ok(file)
    }

    /// Removes files that no manifest names: what a writer left that was killed.
    fn remove_leftovers(&self) -> Result<()> {
        let named: BTreeSet<_> =
            self.manifest.iter().flat_map(Manifest::pieces).map(|id| id.to_string()).collect();
        let pieces = self.folder.pieces_path();
        let entries = fs::read_dir(&pieces).map_err(|error| refused("listing", &pieces, error))?;
        for entry in entries {
            let entry = entry.map_err(|error| refused("listing", &pieces, error))?;
            let name = entry.file_name();
            let is_piece = name.to_str().is_some_and(|name| name.parse::<PieceId>().is_ok());
            if is_piece && name.to_str().is_none_or(|name| !named.contains(name)) {
                remove_file(&entry.path());
            }
        }
        Ok(())
    }

    pub(super) fn commit(mut self) -> Result<()> {
        if self.changed {
            let manifest = self.manifest.as_ref().expect("a changed unit has a manifest");
            let written = self.written.get_mut();
            for (piece, file) in written.iter().filter(|(piece, _)| !self.removed.contains(piece)) {
                file.sync_all()
                    .map_err(|error| refused("syncing", &self.folder.piece_path(*piece), error))?;
            }
            sync_folder(&self.folder.pieces_path())?;
            replace(&self.folder, &manifest.encode())?;
            written.clear();
        }
        for piece in std::mem::take(&mut self.removed) {
            remove_file(&self.folder.piece_path(piece));
        }
        Ok(())
    }
}

impl Drop for FolderUnit {
    fn drop(&mut self) {
        for piece in self.written.get_mut().keys() {
            remove_file(&self.folder.piece_path(*piece));
        }
        if !self.folder.is_cellar() {
            // Nothing came of a new cellar: what was made for it goes, as far as nothing else is in it.
            remove_file(&self.folder.lock_path());
            let _ = fs::remove_dir(self.folder.pieces_path());
            let _ = fs::remove_dir(self.folder.path());
        }
    }
}

impl View for FolderUnit {
    fn manifest(&self) -> Result<Option<Manifest>> {
        Ok(self.manifest.clone())
    }

    fn read(&self, wanted: &[Wanted]) -> Result<Vec<Bytes>> {
        wanted
            .iter()
            .map(|(piece, range)| {
                let file = self.file(*piece)?;
                read_range(&file, *piece, range.start, range.end)
            })
            .collect()
    }
}

impl Unit for FolderUnit {
    fn write(&self, piece: PieceId) -> Result<Box<dyn PieceWriter + '_>> {
        let path = self.folder.piece_path(piece);
        let file = OpenOptions::new()
            .write(true)
            .create_new(true)
            .open(&path)
            .map_err(|error| refused("making a file", &path, error))?;
        let file = Arc::new(file);
        self.written.borrow_mut().insert(piece, Arc::clone(&file));
        Ok(Box::new(FileWriter { file, path }))
    }

    fn swap(&mut self, expected: Option<Generation>, next: &Manifest) -> Result<()> {
        // The lock has kept others out since the manifest was read, so this fails only for a mistaken caller.
        if self.manifest.as_ref().map(|manifest| manifest.generation) != expected {
            return Err(Error::overtaken());
        }
        self.manifest = Some(next.clone());
        self.changed = true;
        Ok(())
    }

    fn remove(&mut self, pieces: &[PieceId]) -> Result<()> {
        self.removed.extend_from_slice(pieces);
        Ok(())
    }
}

struct FileWriter {
    file: Arc<File>,
    path: PathBuf,
}

impl PieceWriter for FileWriter {
    fn append(&mut self, bytes: &[u8]) -> Result<()> {
        (&*self.file).write_all(bytes).map_err(|error| refused("writing", &self.path, error))
    }

    fn finish(self: Box<Self>) -> Result<()> {
        Ok(())
    }
}

/// Takes the lock of a folder. The system gives it back when the file is closed, also when the process is killed.
fn lock(path: &Path) -> Result<File> {
    let file = OpenOptions::new()
        .write(true)
        .create(true)
        .truncate(false)
        .open(path)
        .map_err(|error| refused("opening the lock", path, error))?;
    match file.try_lock() {
        Ok(()) => Ok(file),
        Err(TryLockError::WouldBlock) => Err(Error::new(
            ErrorKind::Busy,
            format!("{} is held by another writer; try again when it has finished.", path.display()),
        )),
        Err(TryLockError::Error(error)) => Err(refused("locking", path, error)),
    }
}

/// Puts a manifest in the place of the one before, synced before it counts.
fn replace(folder: &Folder, manifest: &[u8]) -> Result<()> {
    let (next, path) = (folder.path().join("manifest.next"), folder.manifest_path());
    let write = || {
        let mut file = File::create(&next)?;
        file.write_all(manifest)?;
        file.sync_all()
    };
    write().map_err(|error| refused("writing", &next, error))?;
    fs::rename(&next, &path).map_err(|error| refused("replacing", &path, error))?;
    sync_folder(folder.path())
}

/// Makes the names in a folder last. Where folders can't be synced, renaming is left to the file system.
fn sync_folder(path: &Path) -> Result<()> {
    if cfg!(unix) {
        File::open(path)
            .and_then(|folder| folder.sync_all())
            .map_err(|error| refused("syncing", path, error))?;
    }
    Ok(())
}

/// Removes a file that nothing needs. If that fails the next writer tries again.
fn remove_file(path: &Path) {
    let _ = fs::remove_file(path);
}
