//! A transaction over a view, held apart from its place: written pieces go to memory or, past a size, to temporary
//! files, and nothing reaches the place until it is poured.

use bytes::Bytes;
use nut_cellar_core::store::{Generation, PieceWriter, Wanted};
use nut_cellar_core::{Error, ErrorKind, Manifest, PieceId, Result, Unit, View};
use std::cell::RefCell;
use std::collections::HashMap;
#[cfg(any(feature = "sqlite", feature = "postgres"))]
use std::fs::File;
use std::io::{Read, Seek, SeekFrom, Write};
use std::sync::Arc;
#[cfg(any(feature = "sqlite", feature = "postgres"))]
use std::sync::{Mutex, PoisonError};
#[cfg(any(feature = "sqlite", feature = "postgres"))]
use tempfile::SpooledData;
use tempfile::SpooledTempFile;

/// A piece larger than this goes to a temporary file.
const IN_MEMORY: usize = 4 << 20;
/// How much of a piece is in memory while it is poured.
const POUR_BYTES: usize = 64 << 10;

/// What a batch wrote, on top of what a view shows.
pub struct Spool<'v> {
    base: &'v dyn View,
    pieces: RefCell<HashMap<PieceId, Spooled>>,
    removed: Vec<PieceId>,
    swapped: Option<(Option<Generation>, Arc<Manifest>)>,
}

struct Spooled {
    file: SpooledTempFile,
    bytes: u64,
}

impl<'v> Spool<'v> {
    /// Nothing written yet.
    pub fn new(base: &'v dyn View) -> Self {
        Self { base, pieces: RefCell::default(), removed: Vec::new(), swapped: None }
    }

    /// Whether there is a new state.
    pub fn changed(&self) -> bool {
        self.swapped.is_some()
    }

    /// Takes what was written apart from the view it was made over.
    pub fn into_contents(self) -> Contents {
        Contents { pieces: self.pieces.into_inner(), removed: self.removed, swapped: self.swapped }
    }
}

/// What a spool held.
pub struct Contents {
    pieces: HashMap<PieceId, Spooled>,
    removed: Vec<PieceId>,
    swapped: Option<(Option<Generation>, Arc<Manifest>)>,
}

impl Contents {
    /// Whether there is a new state.
    pub fn changed(&self) -> bool {
        self.swapped.is_some()
    }

    /// The pieces, to be read from anywhere, and the new state if there is one.
    #[cfg(any(feature = "sqlite", feature = "postgres"))]
    pub(crate) fn into_parts(self) -> (Vec<(PieceId, Held)>, Option<Arc<Manifest>>) {
        let held = self.pieces.into_iter().map(|(piece, spooled)| (piece, Held::of(spooled)));
        (held.collect(), self.swapped.map(|(_, next)| next))
    }

    /// Does on `unit` what was done on the spool.
    ///
    /// # Errors
    /// [`ErrorKind::Overtaken`], before anything is written, if `unit` does not see the state that the spool was made
    /// over; or if its place can't be written.
    pub fn pour(self, unit: &mut dyn Unit) -> Result<()> {
        let Self { pieces, mut removed, swapped: Some((expected, next)) } = self else { return Ok(()) };
        unit.swap(expected, &next)?;
        // What was removed before it was poured never was.
        let lasting: Vec<_> = next.pieces().collect();
        removed.retain(|piece| !pieces.contains_key(piece));
        for (piece, Spooled { mut file, bytes }) in pieces {
            if !lasting.contains(&piece) {
                continue;
            }
            let mut writer = unit.write(piece)?;
            file.rewind().map_err(failed)?;
            let mut left = bytes;
            let mut part = vec![0; POUR_BYTES];
            while left > 0 {
                let now = usize::try_from(left).map_or(POUR_BYTES, |left| left.min(POUR_BYTES));
                file.read_exact(&mut part[..now]).map_err(failed)?;
                writer.append(&part[..now])?;
                left -= now as u64;
            }
            writer.finish()?;
        }
        unit.remove(&removed)
    }
}

impl View for Spool<'_> {
    fn manifest(&self) -> Result<Option<Arc<Manifest>>> {
        match &self.swapped {
            Some((_, manifest)) => Ok(Some(Arc::clone(manifest))),
            None => self.base.manifest(),
        }
    }

    fn read(&self, wanted: &[Wanted]) -> Result<Vec<Bytes>> {
        let mut pieces = self.pieces.borrow_mut();
        let elsewhere: Vec<_> =
            wanted.iter().filter(|(piece, _)| !pieces.contains_key(piece)).cloned().collect();
        let mut answers =
            if elsewhere.is_empty() { Vec::new() } else { self.base.read(&elsewhere)? }.into_iter();
        let mut next = || answers.next().ok_or_else(|| Error::damaged("a place answered too few ranges"));
        wanted
            .iter()
            .map(|(piece, range)| match pieces.get_mut(piece) {
                Some(Spooled { file, bytes }) => read_range(file, *bytes, *piece, range.start, range.end),
                None => next(),
            })
            .collect()
    }
}

/// A piece that several searches may read.
#[cfg(any(feature = "sqlite", feature = "postgres"))]
#[derive(Clone)]
pub(crate) enum Held {
    InMemory(Bytes),
    OnDisk(Arc<Mutex<File>>, u64),
}

#[cfg(any(feature = "sqlite", feature = "postgres"))]
impl Held {
    fn of(Spooled { file, bytes }: Spooled) -> Self {
        match file.into_inner() {
            SpooledData::InMemory(contents) => Self::InMemory(contents.into_inner().into()),
            SpooledData::OnDisk(file) => Self::OnDisk(Arc::new(Mutex::new(file)), bytes),
        }
    }

    pub fn read(&self, piece: PieceId, start: u64, end: u64) -> Result<Bytes> {
        match self {
            Self::InMemory(bytes) => {
                let place = |at: u64| usize::try_from(at).ok().filter(|at| *at <= bytes.len());
                match (place(start), place(end)) {
                    (Some(start), Some(end)) if start <= end => Ok(bytes.slice(start..end)),
                    _ => Err(short(piece)),
                }
            }
            Self::OnDisk(file, bytes) => {
                let mut file = file.lock().unwrap_or_else(PoisonError::into_inner);
                read_range(&mut *file, *bytes, piece, start, end)
            }
        }
    }

    pub fn whole(&self) -> Option<Bytes> {
        match self {
            Self::InMemory(bytes) => Some(bytes.clone()),
            Self::OnDisk(..) => None,
        }
    }
}

/// Reads a range of a piece of so many bytes.
fn read_range(
    file: &mut (impl Read + Seek),
    bytes: u64,
    piece: PieceId,
    start: u64,
    end: u64,
) -> Result<Bytes> {
    if start > end || end > bytes {
        return Err(short(piece));
    }
    let length = usize::try_from(end - start).map_err(|error| failed(std::io::Error::other(error)))?;
    let mut bytes = vec![0; length];
    file.seek(SeekFrom::Start(start)).and_then(|_| file.read_exact(&mut bytes)).map_err(failed)?;
    Ok(bytes.into())
}

#[cold]
fn short(piece: PieceId) -> Error {
    Error::damaged(format_args!("piece {piece} is shorter than it should be"))
}

impl Unit for Spool<'_> {
    fn write(&self, piece: PieceId) -> Result<Box<dyn PieceWriter + '_>> {
        Ok(Box::new(SpoolWriter {
            piece,
            file: SpooledTempFile::new(IN_MEMORY),
            bytes: 0,
            into: &self.pieces,
        }))
    }

    fn swap(&mut self, expected: Option<Generation>, next: &Manifest) -> Result<()> {
        if self.manifest()?.map(|manifest| manifest.generation) != expected {
            return Err(Error::overtaken());
        }
        let first = self.swapped.take().map_or(expected, |(first, _)| first);
        self.swapped = Some((first, Arc::new(next.clone())));
        Ok(())
    }

    fn remove(&mut self, pieces: &[PieceId]) -> Result<()> {
        self.removed.extend_from_slice(pieces);
        Ok(())
    }
}

struct SpoolWriter<'a> {
    piece: PieceId,
    file: SpooledTempFile,
    bytes: u64,
    into: &'a RefCell<HashMap<PieceId, Spooled>>,
}

impl PieceWriter for SpoolWriter<'_> {
    fn append(&mut self, bytes: &[u8]) -> Result<()> {
        self.bytes += bytes.len() as u64;
        self.file.write_all(bytes).map_err(failed)
    }

    fn finish(self: Box<Self>) -> Result<()> {
        let Self { piece, file, bytes, into } = *self;
        into.borrow_mut().insert(piece, Spooled { file, bytes });
        Ok(())
    }
}

#[cold]
fn failed(error: std::io::Error) -> Error {
    let message =
        format!("A temporary file can't be used ({error}); make room in the system's temporary folder.");
    Error::caused(ErrorKind::Place, message, error)
}
