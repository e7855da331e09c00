//! Writing a folder.

use super::disk::{Read, Written};
use super::view::{States, open_piece, read_manifest, read_ranges, unknown};
use super::{Durability, Files, Folder, refused};
use crate::place::Patience;
use bytes::Bytes;
use nut_cellar_core::store::{Generation, PIECE_LABELS, PieceWriter, Wanted};
use nut_cellar_core::{Error, ErrorKind, Manifest, PieceId, Result, Unit, View};
use std::any::Any;
use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};
use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// A transaction on a folder; holds its lock. Dropped without being committed, it leaves nothing.
#[derive(Debug)]
pub struct FolderUnit {
    folder: Folder,
    /// The state that was synced last.
    synced: Option<Arc<Manifest>>,
    manifest: Option<Arc<Manifest>>,
    /// The generation of the state that there was.
    begun: Option<Generation>,
    changed: bool,
    /// The files of the pieces that were written, which are synced when the transaction is committed.
    written: RefCell<BTreeMap<PieceId, Arc<dyn Written>>>,
    /// The files of pieces that were read.
    read: RefCell<Files>,
    removed: Vec<PieceId>,
    lock: Box<dyn Any + Send + Sync>,
}

impl FolderUnit {
    pub(super) fn begin(folder: &Folder, patience: Patience) -> Result<Self> {
        // Before anything is made: what is there may be something else.
        read_manifest(folder)?;
        let pieces = folder.pieces_path();
        folder.disk.make_folder(&pieces).map_err(|error| refused("making the folder", &pieces, error))?;
        let lock = lock(folder, patience)?;
        let states = States::read(folder)?;
        let unit = Self {
            folder: folder.clone(),
            manifest: states.latest().cloned(),
            begun: states.latest().map(|manifest| manifest.generation),
            synced: states.synced,
            changed: false,
            written: RefCell::default(),
            read: RefCell::default(),
            removed: Vec::new(),
            lock,
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
        let manifests = self.synced.iter().chain(&self.manifest);
        let named: BTreeSet<_> = manifests.flat_map(|manifest| manifest.pieces()).collect();
        let pieces = self.folder.pieces_path();
        let names = self.folder.disk.names(&pieces).map_err(|error| refused("listing", &pieces, error))?;
        let piece = |name: OsString| name.to_str().and_then(|name| name.parse::<PieceId>().ok());
        let left: Vec<_> = names
            .into_iter()
            .filter_map(piece)
            .filter(|piece| !named.contains(piece) && self.is_ours(*piece))
            .collect();
        if !left.is_empty() && self.synced.is_some() {
            // They may be of the state before, if its writer ended between the rename and the sync that makes it last.
            sync_names(&self.folder, self.folder.path())?;
        }
        for piece in left {
            self.remove_piece(piece);
        }
        Ok(())
    }

    /// Whether a file begins as pieces do, as far as it goes. Others may have such names.
    fn is_ours(&self, piece: PieceId) -> bool {
        let Ok(file) = self.folder.disk.open(&self.folder.piece_path(piece), true) else { return false };
        let begun = file.length().min(PIECE_LABELS[0].len() as u64);
        let begins = |bytes: &Bytes| PIECE_LABELS.iter().any(|label| label.starts_with(bytes));
        file.read(0, begun).is_ok_and(|bytes| begins(&bytes))
    }

    /// Refuses to publish where others may have, since they were not kept out.
    fn must_be_alone(&self) -> Result<()> {
        let path = self.folder.lock_path();
        let kept = self.folder.disk.keeps_others_out(&path, &*self.lock);
        let kept = kept.map_err(|error| refused("looking at the lock", &path, error))?;
        let generation = |manifest: Option<&Arc<Manifest>>| manifest.map(|manifest| manifest.generation);
        if kept && generation(States::read(&self.folder)?.latest()) == self.begun {
            return Ok(());
        }
        let message = format!(
            "{} was removed while this writer held it, and others may have written; nothing was changed, write it again.",
            path.display()
        );
        Err(Error::new(ErrorKind::Overtaken, message))
    }

    /// Removes the file of a piece that nothing needs. If that fails the next writer tries again.
    fn remove_piece(&self, piece: PieceId) {
        let _ = self.folder.disk.remove(&self.folder.piece_path(piece));
    }

    pub(super) fn commit(mut self) -> Result<()> {
        let mut keep = BTreeSet::new();
        if self.changed {
            let manifest = Arc::clone(self.manifest.as_ref().expect("a changed unit has a manifest"));
            self.must_be_alone()?;
            if self.may_be_loose(&manifest) {
                self.publish(&manifest, &self.folder.loose_path(), Durability::Relaxed)?;
                keep.extend(self.synced.iter().flat_map(|synced| synced.pieces()));
            } else {
                self.sync_pieces(&manifest)?;
                self.publish(&manifest, &self.folder.manifest_path(), Durability::Full)?;
                sync_names(&self.folder, self.folder.path())?;
                // A loose manifest is older than this one now.
                let _ = self.folder.disk.remove(&self.folder.loose_path());
                let now: BTreeSet<_> = manifest.pieces().collect();
                let before = self.synced.iter().flat_map(|synced| synced.pieces());
                self.removed.extend(before.filter(|piece| !now.contains(piece)));
            }
        }
        for piece in std::mem::take(&mut self.removed) {
            if !keep.contains(&piece) {
                self.remove_piece(piece);
            }
        }
        Ok(())
    }

    /// Puts a manifest in the place of the one before; with full durability, synced before it counts. From then on the pieces
    /// that were written belong to it, whatever else may fail.
    fn publish(&self, manifest: &Manifest, path: &Path, durability: Durability) -> Result<()> {
        let disk = &self.folder.disk;
        let mut next = path.as_os_str().to_owned();
        next.push(".next");
        let next = PathBuf::from(next);
        let write = || {
            let file = disk.create(&next, true)?;
            file.append(&manifest.encode())?;
            if durability == Durability::Full { file.sync() } else { Ok(()) }
        };
        write().map_err(|error| refused("writing", &next, error))?;
        disk.rename(&next, path).map_err(|error| refused("replacing", path, error))?;
        self.written.borrow_mut().clear();
        Ok(())
    }

    /// Whether the state may go unsynced: it is to, there is one to fall back to, and not too much would be lost.
    fn may_be_loose(&self, manifest: &Manifest) -> bool {
        const COMMITS: u64 = 64;
        const BYTES: u64 = 64 << 20;
        let Some(synced) = self.synced.as_ref().filter(|_| self.folder.durability == Durability::Relaxed)
        else {
            return false;
        };
        let sure: BTreeSet<_> = synced.pieces().collect();
        let unsure = manifest.shelves.iter().filter(|shelf| !sure.contains(&shelf.piece));
        manifest.generation - synced.generation < COMMITS
            && unsure.map(|shelf| shelf.bytes).sum::<u64>() < BYTES
    }

    /// Makes all pieces of a manifest last.
    fn sync_pieces(&self, manifest: &Manifest) -> Result<()> {
        let sure: BTreeSet<_> = self.synced.iter().flat_map(|synced| synced.pieces()).collect();
        let written = self.written.borrow();
        for piece in manifest.pieces().filter(|piece| !sure.contains(piece)) {
            let path = self.folder.piece_path(piece);
            let synced = match written.get(&piece) {
                Some(file) => file.sync(),
                None => self.folder.disk.sync(&path),
            };
            synced.map_err(|error| refused("syncing", &path, error))?;
        }
        sync_names(&self.folder, &self.folder.pieces_path())
    }
}

impl Drop for FolderUnit {
    fn drop(&mut self) {
        for piece in self.written.take().into_keys() {
            self.remove_piece(piece);
        }
        if self.synced.is_none() && !self.folder.is_cellar() {
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
        read_ranges(wanted, |piece| self.file(piece))
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

fn sync_names(folder: &Folder, path: &Path) -> Result<()> {
    folder.disk.sync_names(path).map_err(|error| refused("syncing", path, error))
}
