//! Reading a folder.

use super::disk::Read;
use super::{Files, Folder, refused};
use bytes::Bytes;
use nut_cellar_core::store::Wanted;
use nut_cellar_core::{Error, ErrorKind, Manifest, PieceId, Result, Snapshot, View};
use std::collections::BTreeSet;
use std::io;
use std::ops::Range;
use std::path::Path;
use std::sync::{Arc, PoisonError};

/// One state of a folder, with the files of its pieces held open.
#[derive(Debug)]
pub struct FolderView {
    manifest: Option<Arc<Manifest>>,
    files: Files,
}

impl FolderView {
    pub(super) fn open(folder: &Folder) -> Result<Self> {
        loop {
            let Some(manifest) = read_manifest(folder)? else {
                return Ok(Self { manifest: None, files: Files::new() });
            };
            if let Some(files) = open_pieces(folder, &manifest)? {
                return Ok(Self { manifest: Some(manifest), files });
            }
            // A piece is not there. A writer that published meanwhile has removed it, unless it is lost.
            let later = read_manifest(folder)?.is_some_and(|later| later.generation != manifest.generation);
            if !later {
                return Err(Error::damaged("a piece that the manifest names is not there")
                    .at(folder.path().display()));
            }
        }
    }
}

impl View for FolderView {
    fn manifest(&self) -> Result<Option<Arc<Manifest>>> {
        Ok(self.manifest.clone())
    }

    fn read(&self, wanted: &[Wanted]) -> Result<Vec<Bytes>> {
        read_ranges(wanted, |piece| self.files.get(&piece).cloned().ok_or_else(|| unknown(piece)))
    }

    fn whole(&self, piece: PieceId) -> Option<Bytes> {
        self.files.get(&piece)?.whole()
    }
}

#[cold]
pub(super) fn unknown(piece: PieceId) -> Error {
    Error::damaged(format_args!("piece {piece} is not there"))
}

/// What a folder holds: the state that was synced last, and a later one if all of it is there.
pub(super) struct States {
    pub synced: Option<Arc<Manifest>>,
    pub loose: Option<Arc<Manifest>>,
}

impl States {
    /// Looks for the loose state first: a writer that takes it away has put a later one in the place of the synced state
    /// before. So nobody sees a state that is older than one that was seen.
    pub fn read(folder: &Folder) -> Result<Self> {
        loop {
            let bytes = loose_bytes(folder)?;
            let Some(synced) = read_synced(folder)? else { return Ok(Self { synced: None, loose: None }) };
            let Some(bytes) = bytes else { return Ok(Self { synced: Some(synced), loose: None }) };
            let loose = read_loose(folder, &bytes, &synced)?;
            // What is not there may have been removed by a writer that has published a later state.
            if loose.is_some() || loose_bytes(folder)?.is_some_and(|again| again == bytes) {
                let loose = loose.filter(|loose| loose.generation > synced.generation);
                return Ok(Self { synced: Some(synced), loose });
            }
        }
    }

    /// The state that counts.
    pub fn latest(&self) -> Option<&Arc<Manifest>> {
        self.loose.as_ref().or(self.synced.as_ref())
    }
}

/// The state that counts, if there is a cellar.
pub(super) fn read_manifest(folder: &Folder) -> Result<Option<Arc<Manifest>>> {
    Ok(States::read(folder)?.latest().cloned())
}

/// The loose manifest as it is written, if there is one.
fn loose_bytes(folder: &Folder) -> Result<Option<Bytes>> {
    let path = folder.loose_path();
    match folder.disk.read(&path) {
        Ok(bytes) => Ok(Some(bytes)),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => {
            check_kind(folder.path())?;
            Err(refused("reading", &path, error))
        }
    }
}

/// The loose manifest, if it is whole and all that it names is there.
fn read_loose(folder: &Folder, bytes: &Bytes, synced: &Manifest) -> Result<Option<Arc<Manifest>>> {
    let known = || folder.known.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some((_, loose)) = known().loose.as_ref().filter(|(known, _)| known == bytes) {
        return Ok(Some(Arc::clone(loose)));
    }
    // Whatever is wrong with the bytes: they were not synced, and so do not count.
    let Some(loose) = Manifest::decode(bytes).ok().map(Arc::new) else { return Ok(None) };
    if !is_there(folder, &loose, synced)? {
        return Ok(None);
    }
    known().loose = Some((bytes.clone(), Arc::clone(&loose)));
    Ok(Some(loose))
}

/// Whether all pieces of a loose manifest are there as they were written. A disk that fails to say so is another matter.
fn is_there(folder: &Folder, loose: &Arc<Manifest>, synced: &Manifest) -> Result<bool> {
    let Some(files) = open_pieces(folder, loose)? else { return Ok(false) };
    let view = FolderView { manifest: Some(Arc::clone(loose)), files };
    let sure: BTreeSet<_> = synced.pieces().collect();
    match Snapshot::verify(&view, loose, |piece| sure.contains(&piece)) {
        Ok(()) => Ok(true),
        Err(error) if error.kind() == ErrorKind::Place => Err(error),
        Err(_) => Ok(false),
    }
}

fn read_synced(folder: &Folder) -> Result<Option<Arc<Manifest>>> {
    let path = folder.manifest_path();
    match folder.disk.read(&path) {
        Ok(bytes) => {
            let mut known = folder.known.lock().unwrap_or_else(PoisonError::into_inner);
            if let Some((_, manifest)) = known.manifest.as_ref().filter(|(known, _)| *known == bytes) {
                return Ok(Some(Arc::clone(manifest)));
            }
            let manifest = Manifest::decode(&bytes).map_err(|error| error.at(path.display()))?;
            let (_, manifest) = known.manifest.insert((bytes, Arc::new(manifest)));
            Ok(Some(Arc::clone(manifest)))
        }
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            check_kind(folder.path())?;
            Ok(None)
        }
        Err(error) => {
            check_kind(folder.path())?;
            Err(refused("reading", &path, error))
        }
    }
}

/// Refuses what is no directory.
fn check_kind(path: &Path) -> Result<()> {
    if path.exists() && !path.is_dir() {
        return Err(Error::new(
            ErrorKind::NotACellar,
            format!(
                "{} is a file and no cellar; give a folder that `load` made, or a name that is free.",
                path.display()
            ),
        ));
    }
    Ok(())
}

/// The open files of all pieces of a manifest; none if one is not there.
fn open_pieces(folder: &Folder, manifest: &Manifest) -> Result<Option<Files>> {
    let shared = &mut folder.known.lock().unwrap_or_else(PoisonError::into_inner).files;
    let mut files = Files::new();
    for piece in manifest.pieces() {
        let file = match shared.get(&piece) {
            Some(file) => Arc::clone(file),
            None => match open_piece(folder, piece, false)? {
                Some(file) => file,
                None => return Ok(None),
            },
        };
        files.insert(piece, file);
    }
    shared.clone_from(&files);
    Ok(Some(files))
}

pub(super) fn open_piece(
    folder: &Folder,
    piece: PieceId,
    front_to_back: bool,
) -> Result<Option<Arc<dyn Read>>> {
    let path = folder.piece_path(piece);
    match folder.disk.open(&path, front_to_back) {
        Ok(file) => Ok(Some(file.into())),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(refused("opening", &path, error)),
    }
}

/// Reads ranges of the files that `find` finds.
pub(super) fn read_ranges(
    wanted: &[Wanted],
    find: impl Fn(PieceId) -> Result<Arc<dyn Read>>,
) -> Result<Vec<Bytes>> {
    wanted
        .iter()
        .map(|(piece, Range { start, end })| {
            let file = find(*piece)?;
            // Checked before it sizes a buffer: a range comes from bytes that may be damaged.
            if start > end || *end > file.length() {
                return Err(Error::damaged(format_args!("piece {piece} is shorter than it should be")));
            }
            file.read(*start, *end).map_err(|error| {
                let message = format!("Reading piece {piece} failed: {error}.");
                Error::caused(ErrorKind::Place, message, error)
            })
        })
        .collect()
}
