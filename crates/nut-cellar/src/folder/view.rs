//! Reading a folder.

use super::{Folder, refused};
use bytes::Bytes;
use nut_cellar_core::store::Wanted;
use nut_cellar_core::{Error, ErrorKind, Manifest, PieceId, Result, View};
use std::collections::HashMap;
use std::fs::File;
use std::io;
use std::path::Path;
use std::sync::{Arc, PoisonError};

/// One state of a folder, with the files of its pieces held open.
#[derive(Debug)]
pub struct FolderView {
    manifest: Option<Manifest>,
    files: HashMap<PieceId, Arc<File>>,
}

impl FolderView {
    pub(super) fn open(folder: &Folder) -> Result<Self> {
        loop {
            let Some(manifest) = read_manifest(folder)? else {
                return Ok(Self { manifest: None, files: HashMap::new() });
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
    fn manifest(&self) -> Result<Option<Manifest>> {
        Ok(self.manifest.clone())
    }

    fn read(&self, wanted: &[Wanted]) -> Result<Vec<Bytes>> {
        wanted
            .iter()
            .map(|(piece, range)| {
                let file = self.files.get(piece).ok_or_else(|| unknown(*piece))?;
                read_range(file, *piece, range.start, range.end)
            })
            .collect()
    }
}

#[cold]
pub(super) fn unknown(piece: PieceId) -> Error {
    Error::damaged(format_args!("piece {piece} is not there"))
}

/// The manifest, if there is a cellar.
pub(super) fn read_manifest(folder: &Folder) -> Result<Option<Manifest>> {
    let path = folder.manifest_path();
    match std::fs::read(&path) {
        Ok(bytes) => Manifest::decode(&bytes).map(Some).map_err(|error| error.at(path.display())),
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
fn open_pieces(folder: &Folder, manifest: &Manifest) -> Result<Option<HashMap<PieceId, Arc<File>>>> {
    let mut shared = folder.files.lock().unwrap_or_else(PoisonError::into_inner);
    let mut files = HashMap::new();
    for piece in manifest.pieces() {
        let file = match shared.get(&piece) {
            Some(file) => Arc::clone(file),
            None => match open_piece(folder, piece)? {
                Some(file) => file,
                None => return Ok(None),
            },
        };
        files.insert(piece, file);
    }
    shared.clone_from(&files);
    Ok(Some(files))
}

pub(super) fn open_piece(folder: &Folder, piece: PieceId) -> Result<Option<Arc<File>>> {
    let path = folder.piece_path(piece);
    match File::open(&path) {
        Ok(file) => Ok(Some(Arc::new(file))),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(refused("opening", &path, error)),
    }
}

/// Reads a range of a piece's file.
pub(super) fn read_range(file: &File, piece: PieceId, start: u64, end: u64) -> Result<Bytes> {
    let short = || Error::damaged(format_args!("piece {piece} is shorter than it should be"));
    // Checked before it sizes a buffer: a range comes from bytes that may be damaged.
    let length = file.metadata().map_err(|error| failed(piece, error))?.len();
    if start > end || end > length {
        return Err(short());
    }
    let mut bytes = vec![0; usize::try_from(end - start).map_err(|_| short())?];
    read_exact_at(file, &mut bytes, start).map_err(|error| failed(piece, error))?;
    Ok(bytes.into())
}

#[cold]
fn failed(piece: PieceId, error: io::Error) -> Error {
    let message = format!("Reading piece {piece} failed: {error}.");
    Error::caused(ErrorKind::Place, message, error)
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
