//! Writing a folder.

use super::disk::{Read, Written};
use super::view::{open_piece, read_manifest, read_range, unknown};
use super::{Files, Folder, refused};
use crate::cellar::Patience;
use bytes::Bytes;
use nut_cellar_core::store::{Generation, PieceWriter, Wanted};
use nut_cellar_core::{Error, ErrorKind, Manifest, PieceId, Result, Unit, View};
use std::any::Any;
use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// A transaction on a folder; holds its lock. Dropped without being committed, it leaves nothing.
#[derive(Debug)]
pub struct FolderUnit {
    folder: Folder,
    manifest: Option<Arc<Manifest>>,
    changed: bool,
    /// The files of the pieces that were written, which are synced when the transaction is committed.
    written: RefCell<BTreeMap<PieceId, Arc<dyn Written>>>,
    /// The files of pieces that were read.
    read: RefCell<Files>,
    removed: Vec<PieceId>,
    _lock: Box<dyn Any + Send + Sync>,
}

impl FolderUnit {
    pub(super) fn begin(folder: &Folder, patience: Patience) -> Result<Self> {
        // Before anything is made: what is there may be something else.
        read_manifest(folder)?;
        let pieces = folder.pieces_path();
        folder.disk.make_folder(&pieces).map_err(|error| refused("making the folder", &pieces, error))?;
        let lock = lock(folder, patience)?;
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
    fn file(&self, piece: PieceId) -> Result<Arc<dyn Read>> {
        let mut read = self.read.borrow_mut();
        if let Some(file) = read.get(&piece) {
            return Ok(Arc::clone(file));
        }
        let file = open_piece(&self.folder, piece, true)?.ok_or_else(|| unknown(piece))?;
        read.insert(piece, Arc::clone(&file));
        Ok(file)
    }

    /// Removes files that no manifest names: what a writer left that was killed.
    fn remove_leftovers(&self) -> Result<()> {
        let named: BTreeSet<_> = self.manifest.iter().flat_map(|manifest| manifest.pieces()).collect();
        let pieces = self.folder.pieces_path();
        let names = self.folder.disk.names(&pieces).map_err(|error| refused("listing", &pieces, error))?;
        for name in names {
            let piece = name.to_str().and_then(|name| name.parse::<PieceId>().ok());
            if let Some(piece) = piece.filter(|piece| !named.contains(piece)) {
                self.remove_piece(piece);
            }
        }
        Ok(())
    }

    /// Removes the file of a piece that nothing needs. If that fails the next writer tries again.
    fn remove_piece(&self, piece: PieceId) {
        let _ = self.folder.disk.remove(&self.folder.piece_path(piece));
    }

    pub(super) fn commit(mut self) -> Result<()> {
        if self.changed {
            let manifest = self.manifest.as_ref().expect("a changed unit has a manifest");
            let written = self.written.get_mut();
            for (piece, file) in written.iter().filter(|(piece, _)| !self.removed.contains(piece)) {
                file.sync().map_err(|error| refused("syncing", &self.folder.piece_path(*piece), error))?;
            }
            sync_names(&self.folder, &self.folder.pieces_path())?;
            replace(&self.folder, &manifest.encode())?;
            written.clear();
        }
        for piece in std::mem::take(&mut self.removed) {
            self.remove_piece(piece);
        }
        Ok(())
    }
}

impl Drop for FolderUnit {
    fn drop(&mut self) {
        for piece in self.written.take().into_keys() {
            self.remove_piece(piece);
        }
        if !self.folder.is_cellar() {
            // Nothing came of a new cellar: what was made for it goes, as far as nothing else is in it.
            let disk = &self.folder.disk;
            let _ = disk.remove(&self.folder.lock_path());
            let _ = disk.remove_folder(&self.folder.pieces_path());
            let _ = disk.remove_folder(self.folder.path());
        }
    }
}

impl View for FolderUnit {
    fn manifest(&self) -> Result<Option<Arc<Manifest>>> {
        Ok(self.manifest.clone())
    }

    fn read(&self, wanted: &[Wanted]) -> Result<Vec<Bytes>> {
        wanted
            .iter()
            .map(|(piece, range)| {
                let file = self.file(*piece)?;
                read_range(&*file, *piece, range.start, range.end)
            })
            .collect()
    }
}

impl Unit for FolderUnit {
    fn write(&self, piece: PieceId) -> Result<Box<dyn PieceWriter + '_>> {
        let path = self.folder.piece_path(piece);
        let file = self.folder.disk.create(&path, false);
        let file: Arc<dyn Written> = file.map_err(|error| refused("making a file", &path, error))?.into();
        self.written.borrow_mut().insert(piece, Arc::clone(&file));
        Ok(Box::new(FileWriter { file, path }))
    }

    fn swap(&mut self, expected: Option<Generation>, next: &Manifest) -> Result<()> {
        // The lock has kept others out since the manifest was read, so this fails only for a mistaken caller.
        if self.manifest.as_ref().map(|manifest| manifest.generation) != expected {
            return Err(Error::overtaken());
        }
        self.manifest = Some(Arc::new(next.clone()));
        self.changed = true;
        Ok(())
    }

    fn remove(&mut self, pieces: &[PieceId]) -> Result<()> {
        self.removed.extend_from_slice(pieces);
        Ok(())
    }
}

struct FileWriter {
    file: Arc<dyn Written>,
    path: PathBuf,
}

impl PieceWriter for FileWriter {
    fn append(&mut self, bytes: &[u8]) -> Result<()> {
        self.file.append(bytes).map_err(|error| refused("writing", &self.path, error))
    }

    fn finish(self: Box<Self>) -> Result<()> {
        Ok(())
    }
}

/// Takes the lock of a folder.
fn lock(folder: &Folder, patience: Patience) -> Result<Box<dyn Any + Send + Sync>> {
    let path = folder.lock_path();
    let taken = folder.disk.lock(&path, patience == Patience::Wait);
    taken.map_err(|error| refused("locking", &path, error))?.ok_or_else(|| {
        Error::new(
            ErrorKind::Overtaken,
            format!(
                "{} is held by another writer; try again when it has finished, or wait for it.",
                path.display()
            ),
        )
    })
}

/// Puts a manifest in the place of the one before, synced before it counts.
fn replace(folder: &Folder, manifest: &[u8]) -> Result<()> {
    let (next, path) = (folder.path().join("manifest.next"), folder.manifest_path());
    let write = || {
        let file = folder.disk.create(&next, true)?;
        file.append(manifest)?;
        file.sync()
    };
    write().map_err(|error| refused("writing", &next, error))?;
    folder.disk.rename(&next, &path).map_err(|error| refused("replacing", &path, error))?;
    sync_names(folder, folder.path())
}

fn sync_names(folder: &Folder, path: &Path) -> Result<()> {
    folder.disk.sync_names(path).map_err(|error| refused("syncing", path, error))
}
