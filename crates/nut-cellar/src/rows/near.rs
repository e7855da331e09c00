//! Chunks of shelves in a local folder, so that a process that begins has them without asking the database again.
//!
//! What always holds: nothing depends on it. A chunk never changes, and carries a checksum with its place; one that is not whole is
//! as good as not there. Several processes may use one folder.

use nut_cellar_core::{Error, ErrorKind, Manifest, PieceId, Result};
use std::collections::BTreeSet;
use std::fs::{File, OpenOptions};
use std::io::{Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};

/// What a file of chunks ends with.
const ENDING: &str = "chunks";
/// Before each chunk: its length and its checksum, four bytes each.
const HEAD: usize = 8;

/// A folder with a file for each piece. In it each chunk has a slot, by its number.
#[derive(Debug)]
pub(crate) struct NearFolder {
    folder: PathBuf,
    /// The most bytes of a chunk.
    chunk: usize,
    /// The generation whose pieces are there, plus one.
    tidied: AtomicU64,
}

impl NearFolder {
    /// A folder, made if it is not there, for chunks of at most so many bytes.
    pub fn open(folder: &Path, chunk: usize) -> Result<Self> {
        let mut builder = std::fs::DirBuilder::new();
        builder.recursive(true);
        // There are words of rows in it: it is the user's alone, unless it is made for others before.
        #[cfg(unix)]
        std::os::unix::fs::DirBuilderExt::mode(&mut builder, 0o700);
        builder.create(folder).map_err(|error| {
            let message = format!("The folder {} can't be made: {error}.", folder.display());
            Error::caused(ErrorKind::Place, message, error)
        })?;
        Ok(Self { folder: folder.to_owned(), chunk, tidied: AtomicU64::new(0) })
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.folder
    }

    /// A chunk, if it is there and whole.
    pub fn get(&self, piece: PieceId, number: u64) -> Option<Vec<u8>> {
        let mut file = File::open(self.file(piece)).ok()?;
        file.seek(SeekFrom::Start(self.slot(number)?)).ok()?;
        let mut head = [0; HEAD];
        file.read_exact(&mut head).ok()?;
        let (length, sum) = head.split_at(4);
        let length = usize::try_from(u32::from_le_bytes(length.try_into().ok()?)).ok()?;
        let mut chunk = vec![0; (1..=self.chunk).contains(&length).then_some(length)?];
        file.read_exact(&mut chunk).ok()?;
        (sum == checksum(piece, number, &chunk)).then_some(chunk)
    }

    /// Keeps a chunk. If that fails, it is not there.
    pub fn put(&self, piece: PieceId, number: u64, chunk: &[u8]) {
        let write = || {
            let length = u32::try_from(chunk.len()).ok()?.to_le_bytes();
            let slot = [&length, &checksum(piece, number, chunk), chunk].concat();
            let mut file =
                OpenOptions::new().create(true).truncate(false).write(true).open(self.file(piece)).ok()?;
            file.seek(SeekFrom::Start(self.slot(number)?)).ok()?;
            file.write_all(&slot).ok()
        };
        // The next process asks the database then.
        let _ = write();
    }

    /// Removes the pieces that a state does not have, unless that was done for it before.
    pub fn tidy(&self, manifest: &Manifest) {
        let generation = manifest.generation.saturating_add(1);
        if self.tidied.swap(generation, Ordering::Relaxed) == generation {
            return;
        }
        let there: BTreeSet<_> = manifest.pieces().map(|piece| self.file(piece)).collect();
        for entry in std::fs::read_dir(&self.folder).into_iter().flatten().flatten() {
            let path = entry.path();
            if path.extension().is_some_and(|ending| ending == ENDING) && !there.contains(&path) {
                // Another process may have been faster.
                let _ = std::fs::remove_file(path);
            }
        }
    }

    fn file(&self, piece: PieceId) -> PathBuf {
        self.folder.join(format!("{piece}.{ENDING}"))
    }

    fn slot(&self, number: u64) -> Option<u64> {
        number.checked_mul((HEAD + self.chunk) as u64)
    }
}

/// Of a chunk and its place, so that none is taken for another.
fn checksum(piece: PieceId, number: u64, chunk: &[u8]) -> [u8; 4] {
    let mut sum = crc32fast::Hasher::new();
    sum.update(piece.as_bytes());
    sum.update(&number.to_le_bytes());
    sum.update(chunk);
    sum.finalize().to_le_bytes()
}
