//! A cellar in a directory of files.
//!
//! ```text
//! shed.cellar/
//!     manifest        the state that counts; replaced by renaming
//!     manifest.loose  a later state that was not synced, if there is one and all of it is there
//!     lock            held by the one process that writes; released by the system when it ends, however it ends
//!     pieces/<id>     shelves and masks, one file each, which never change
//! ```
//!
//! What always holds: a manifest names pieces only that were synced to disk before it, and it is itself synced before
//! it takes the place of the one before. So whatever happens in between, the folder holds the state of the last commit
//! that returned, and at most files that no manifest names, which the next writer removes. Readers never wait: a view
//! holds its files open, so they stay readable when a later state has removed them.
//!
//! Commits that are [relaxed](Durability::Relaxed) are not synced. Their state is a second manifest beside the first, which
//! stays whole, with all its pieces. Whoever reads the second checks the pieces that the first does not name against their
//! checksums before it counts. So a power cut loses the last relaxed commits, or some of them, and never a part of one.

pub mod disk;
mod map;
mod unit;
mod view;

pub use unit::FolderUnit;
pub use view::FolderView;

use crate::cellar::Cellar;
use crate::place::{Patience, Place};
use bytes::Bytes;
use disk::{Disk, Read, System};
use nut_cellar_core::{Error, ErrorKind, Manifest, PieceId, Result, Schema};
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

/// How much of what was committed a power cut may take away.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub enum Durability {
    /// Nothing: a commit returns when all of it has reached the disk.
    #[default]
    Full,
    /// The last commits, whole, up to 64 of them or 64 MiB. Programs that end lose nothing, however they end.
    Relaxed,
}

/// A directory that a cellar lives in.
#[derive(Clone, Debug)]
pub struct Folder {
    disk: Arc<dyn Disk>,
    /// How the system's own disk is used, if it is that.
    system: System,
    path: PathBuf,
    durability: Durability,
    /// What was read last; views share it.
    known: Arc<Mutex<LastRead>>,
}

#[derive(Debug, Default)]
struct LastRead {
    files: Files,
    /// A manifest as it was read, and what it says.
    manifest: Option<(Bytes, Arc<Manifest>)>,
    /// The same of a loose manifest, of which all is there.
    loose: Option<(Bytes, Arc<Manifest>)>,
}

/// Files of pieces that are open.
type Files = HashMap<PieceId, Arc<dyn Read>>;

impl Folder {
    /// The folder at a path, which need not be there yet. What is made in it is the user's alone; see [`shared`](Self::shared).
    ///
    /// Its files are mapped into memory. If somebody truncates one of them, which no writer of ours ever does, the system ends the
    /// process when it reads there (SIGBUS). Where that may happen, take it [`unmapped`](Self::unmapped): then it is an error.
    pub fn at(path: impl Into<PathBuf>) -> Self {
        Self::on(Arc::new(System { mapped: true, shared: false }), path)
    }

    /// The same folder, on the system's own disk, its files read range by range and not mapped into memory: where others write into
    /// it, or where it stands on a disk that may go away.
    #[must_use]
    pub fn unmapped(self) -> Self {
        self.on_system(|system| System { mapped: false, ..system })
    }

    /// The same folder, on the system's own disk. What is made in it gets the permissions that the process gives whatever it makes (its
    /// umask), so that other users may read it, who can read there all words of all records. Without, it is the user's alone.
    #[must_use]
    pub fn shared(self) -> Self {
        self.on_system(|system| System { shared: true, ..system })
    }

    fn on_system(self, change: impl FnOnce(System) -> System) -> Self {
        let system = change(self.system);
        Self { disk: Arc::new(system), system, known: Arc::default(), ..self }
    }

    /// The same folder, with commits that are synced or not.
    #[must_use]
    pub fn with_durability(self, durability: Durability) -> Self {
        Self { durability, ..self }
    }

    /// The folder at a path of a disk of one's own making.
    pub fn on(disk: Arc<dyn Disk>, path: impl Into<PathBuf>) -> Self {
        let (system, durability) = (System { mapped: true, shared: false }, Durability::default());
        Self { disk, system, path: path.into(), durability, known: Arc::default() }
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Whether there is a cellar.
    pub fn is_cellar(&self) -> bool {
        self.disk.read(&self.manifest_path()).is_ok()
    }

    fn manifest_path(&self) -> PathBuf {
        self.path.join("manifest")
    }

    fn loose_path(&self) -> PathBuf {
        self.path.join("manifest.loose")
    }

    fn lock_path(&self) -> PathBuf {
        self.path.join("lock")
    }

    fn pieces_path(&self) -> PathBuf {
        self.path.join("pieces")
    }

    fn piece_path(&self, piece: PieceId) -> PathBuf {
        self.pieces_path().join(piece.to_string())
    }
}

impl Place for Folder {
    type View = FolderView;
    type Unit = FolderUnit;

    fn view(&self) -> Result<FolderView> {
        FolderView::open(self)
    }

    fn unit(&self, patience: Patience) -> Result<FolderUnit> {
        FolderUnit::begin(self, patience)
    }

    fn commit(unit: FolderUnit) -> Result<()> {
        unit.commit()
    }
}

impl Cellar<Folder> {
    /// A new cellar in a folder, which is made if it is not there.
    ///
    /// # Errors
    /// As for [`create`](Self::create), or if the folder can't be written.
    pub fn create_in(path: impl Into<PathBuf>, schema: Schema) -> Result<Self> {
        Self::create(Folder::at(path), schema)
    }

    /// The cellar in a folder, whose files are mapped into memory; see [`Folder::at`].
    ///
    /// ```no_run
    /// use nut_cellar::{Cellar, Find};
    ///
    /// # fn main() -> nut_cellar::Result<()> {
    /// let cellar = Cellar::open_in("shed.cellar")?;
    /// println!("{} found", cellar.find("walnut", &Find::new())?.total);
    /// # Ok(()) }
    /// ```
    ///
    /// # Errors
    /// [`ErrorKind::NotACellar`] if there is none.
    pub fn open_in(path: impl Into<PathBuf>) -> Result<Self> {
        Self::open(Folder::at(path))
    }
}

/// The error for something that the file system refused.
#[cold]
fn refused(doing: &str, path: &Path, error: std::io::Error) -> Error {
    let message = format!("{}: {doing} failed: {error}.", path.display());
    Error::caused(ErrorKind::Place, message, error)
}
