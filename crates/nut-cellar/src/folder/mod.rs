//! A cellar in a directory of files.
//!
//! ```text
//! shed.cellar/
//!     manifest        the state that counts; replaced by renaming
//!     lock            held by the one process that writes; released by the system when it ends, however it ends
//!     pieces/<id>     shelves and masks, one file each, which never change
//! ```
//!
//! What always holds: a manifest names pieces only that were synced to disk before it, and it is itself synced before
//! it takes the place of the one before. So whatever happens in between, the folder holds the state of the last commit
//! that returned, and at most files that no manifest names, which the next writer removes. Readers never wait: a view
//! holds its files open, so they stay readable when a later state has removed them.

pub mod disk;
mod map;
mod unit;
mod view;

pub use unit::FolderUnit;
pub use view::FolderView;

use crate::cellar::{Cellar, Patience, Place};
use bytes::Bytes;
use disk::{Disk, Read, System};
use nut_cellar_core::{Error, ErrorKind, Manifest, PieceId, Result, Schema};
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

/// A directory that a cellar lives in.
#[derive(Clone, Debug)]
pub struct Folder {
    disk: Arc<dyn Disk>,
    path: PathBuf,
    /// What was read last; views share it.
    known: Arc<Mutex<Known>>,
}

#[derive(Debug, Default)]
struct Known {
    files: Files,
    /// A manifest as it was read, and what it says.
    manifest: Option<(Bytes, Arc<Manifest>)>,
}

/// Files of pieces that are open.
type Files = HashMap<PieceId, Arc<dyn Read>>;

impl Folder {
    /// The folder at a path, which need not be there yet.
    pub fn at(path: impl Into<PathBuf>) -> Self {
        Self::on(Arc::new(System { mapped: true }), path)
    }

    /// The same folder, its files read range by range and not mapped into memory: where others write into it, or where it
    /// stands on a disk that may go away.
    #[must_use]
    pub fn unmapped(self) -> Self {
        Self::on(Arc::new(System { mapped: false }), self.path)
    }

    /// The folder at a path of a disk of one's own making.
    pub fn on(disk: Arc<dyn Disk>, path: impl Into<PathBuf>) -> Self {
        Self { disk, path: path.into(), known: Arc::default() }
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

    /// The cellar in a folder.
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
