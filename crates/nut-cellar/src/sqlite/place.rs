//! Pieces as rows: each piece is a run of chunks of 16 KiB with consecutive numbers, so a range is found by arithmetic.

use super::failure::failed;
use super::names::Names;
use super::state::State;
use crate::rows::cache::{CHUNK, ChunkCache, assembled};
use crate::rows::manifests::Manifests;
use bytes::Bytes;
use nut_cellar_core::store::{Generation, Near, PieceWriter, Wanted};
use nut_cellar_core::{Error, Manifest, PieceId, Result, Unit, View};
use rusqlite::{Connection, OptionalExtension, params};
use std::cell::RefCell;
use std::ops::Range;
use std::sync::Arc;

/// What the transaction of a connection sees of a cellar.
#[derive(Debug)]
pub struct SqliteView<'c> {
    connection: &'c Connection,
    names: &'c Names,
    cache: &'c Arc<ChunkCache>,
    known: Option<&'c Arc<Manifest>>,
    /// The first chunks and the lengths of the pieces that were read.
    places: RefCell<Vec<(PieceId, (i64, u64))>>,
}

/// Writing a cellar inside the transaction of a connection.
#[derive(Debug)]
pub struct SqliteUnit<'c>(SqliteView<'c>);

const READING: &str = "Reading the cellar";
const WRITING: &str = "Writing the cellar";

impl<'c> SqliteView<'c> {
    pub(super) fn new(connection: &'c Connection, names: &'c Names, cache: &'c Arc<ChunkCache>) -> Self {
        Self { connection, names, cache, known: None, places: RefCell::default() }
    }

    /// The same view, whose manifest has been read in this transaction already.
    pub(super) fn knowing(self, manifest: &'c Arc<Manifest>) -> Self {
        Self { known: Some(manifest), ..self }
    }

    /// The number of the first chunk of a piece, and the piece's length.
    fn piece(&self, piece: PieceId) -> Result<(i64, u64)> {
        self.find(piece)?.ok_or_else(|| Error::damaged(format_args!("piece {piece} is not there")))
    }

    /// The same; none if it is not there.
    fn find(&self, piece: PieceId) -> Result<Option<(i64, u64)>> {
        if let Some((_, place)) = self.places.borrow().iter().find(|(known, _)| *known == piece) {
            return Ok(Some(*place));
        }
        let sql = format!("SELECT first_chunk, bytes FROM {} WHERE piece = ?1", self.names.table("piece"));
        let read = || {
            let mut statement = self.connection.prepare_cached(&sql)?;
            statement.query_row([&piece.as_bytes()[..]], |row| Ok((row.get(0)?, row.get(1)?))).optional()
        };
        let found: Option<(i64, i64)> = read().map_err(failed(READING))?;
        let place = found.and_then(|(first, bytes)| Some((first, u64::try_from(bytes).ok()?)));
        self.places.borrow_mut().extend(place.map(|place| (piece, place)));
        Ok(place)
    }

    fn chunk(&self, piece: PieceId, first: i64, number: u64) -> Result<Bytes> {
        if let Some(chunk) = self.cache.chunk(piece, number) {
            return Ok(chunk);
        }
        let sql = format!("SELECT data FROM {} WHERE id = ?1", self.names.table("chunk"));
        let id = i64::try_from(number).ok().and_then(|number| first.checked_add(number));
        let read = || {
            let mut statement = self.connection.prepare_cached(&sql)?;
            statement.query_row([id], |row| row.get::<_, Vec<u8>>(0)).optional()
        };
        let chunk = read().map_err(failed(READING))?.map(Bytes::from);
        let chunk = chunk
            .ok_or_else(|| Error::damaged(format_args!("chunk {number} of piece {piece} is not there")))?;
        self.cache.insert(piece, number, chunk.clone());
        Ok(chunk)
    }

    fn range(&self, piece: PieceId, range: &Range<u64>) -> Result<Bytes> {
        let short = || Error::damaged(format_args!("piece {piece} is shorter than it should be"));
        if let Some(known) = self.cache.range(piece, range) {
            return Ok(known);
        }
        let (first, length) = self.piece(piece)?;
        if range.start > range.end || range.end > length {
            return Err(short());
        }
        let mut failure = None;
        let chunk = |number| self.chunk(piece, first, number).map_err(|error| failure = Some(error)).ok();
        let bytes = assembled(range, chunk).ok_or_else(|| failure.unwrap_or_else(short))?;
        self.cache.insert_range(piece, range, &bytes);
        Ok(bytes)
    }
}

impl View for SqliteView<'_> {
    fn near(&self) -> Option<Arc<dyn Near>> {
        Some(Arc::<ChunkCache>::clone(self.cache))
    }

    fn manifest(&self) -> Result<Option<Arc<Manifest>>> {
        if let Some(manifest) = self.known {
            return Ok(Some(Arc::clone(manifest)));
        }
        let state = State::read(self.connection, self.names, &Manifests::default())?;
        Ok(state.map(|state| state.manifest))
    }

    fn read(&self, wanted: &[Wanted]) -> Result<Vec<Bytes>> {
        wanted.iter().map(|(piece, range)| self.range(*piece, range)).collect()
    }
}

impl<'c> SqliteUnit<'c> {
    pub(super) fn new(view: SqliteView<'c>) -> Self {
        Self(view)
    }

    fn execute(&self, sql: &str, parameters: impl rusqlite::Params) -> Result<usize> {
        let write = || self.0.connection.prepare_cached(sql)?.execute(parameters);
        write().map_err(failed(WRITING))
    }
}

impl View for SqliteUnit<'_> {
    fn manifest(&self) -> Result<Option<Arc<Manifest>>> {
        self.0.manifest()
    }

    fn read(&self, wanted: &[Wanted]) -> Result<Vec<Bytes>> {
        self.0.read(wanted)
    }
}

impl Unit for SqliteUnit<'_> {
    fn write(&self, piece: PieceId) -> Result<Box<dyn PieceWriter + '_>> {
        // The transaction keeps other writers out, so the numbers that follow the last one are free; and none is of a piece that has lost
        // chunks, with which it would be removed.
        let sql = format!(
            "SELECT max(coalesce((SELECT max(id) FROM {}), 0),
                        coalesce((SELECT max(first_chunk + (bytes + {CHUNK} - 1) / {CHUNK}) FROM {}), 0)) + 1",
            self.0.names.table("chunk"),
            self.0.names.table("piece")
        );
        let next = self.0.connection.query_row(&sql, [], |row| row.get(0)).map_err(failed(WRITING))?;
        Ok(Box::new(RowWriter { unit: self, piece, first: next, next, bytes: 0, chunk: Vec::new() }))
    }

    fn swap(&mut self, expected: Option<Generation>, next: &Manifest) -> Result<()> {
        if self.manifest()?.map(|manifest| manifest.generation) != expected {
            return Err(Error::overtaken());
        }
        let sql = format!("UPDATE {} SET manifest = ?1", self.0.names.table("state"));
        self.execute(&sql, [next.encode()]).map(|_| ())
    }

    fn remove(&mut self, pieces: &[PieceId]) -> Result<()> {
        for piece in pieces {
            // One that was lost need not be removed.
            let Some((first, bytes)) = self.0.find(*piece)? else { continue };
            let chunks = i64::try_from(bytes.div_ceil(CHUNK)).unwrap_or(i64::MAX - first);
            let sql = format!("DELETE FROM {} WHERE id >= ?1 AND id < ?2", self.0.names.table("chunk"));
            self.execute(&sql, [first, first + chunks])?;
            let sql = format!("DELETE FROM {} WHERE piece = ?1", self.0.names.table("piece"));
            self.execute(&sql, [&piece.as_bytes()[..]])?;
        }
        Ok(())
    }
}

struct RowWriter<'a, 'c> {
    unit: &'a SqliteUnit<'c>,
    piece: PieceId,
    first: i64,
    next: i64,
    bytes: i64,
    chunk: Vec<u8>,
}

#[expect(clippy::cast_possible_truncation, reason = "a chunk is 16 KiB")]
const CHUNK_BYTES: usize = CHUNK as usize;

impl RowWriter<'_, '_> {
    fn flush(&mut self) -> Result<()> {
        let sql = format!("INSERT INTO {}(id, data) VALUES (?1, ?2)", self.unit.0.names.table("chunk"));
        self.unit.execute(&sql, params![self.next, &self.chunk])?;
        self.next += 1;
        self.bytes += i64::try_from(self.chunk.len()).unwrap_or(i64::MAX);
        self.chunk.clear();
        Ok(())
    }
}

impl PieceWriter for RowWriter<'_, '_> {
    fn append(&mut self, mut bytes: &[u8]) -> Result<()> {
        while !bytes.is_empty() {
            let (now, later) = bytes.split_at(bytes.len().min(CHUNK_BYTES - self.chunk.len()));
            self.chunk.extend_from_slice(now);
            bytes = later;
            if self.chunk.len() == CHUNK_BYTES {
                self.flush()?;
            }
        }
        Ok(())
    }

    fn finish(mut self: Box<Self>) -> Result<()> {
        if !self.chunk.is_empty() {
            self.flush()?;
        }
        let sql = format!(
            "INSERT INTO {}(piece, first_chunk, bytes) VALUES (?1, ?2, ?3)",
            self.unit.0.names.table("piece")
        );
        self.unit.execute(&sql, params![&self.piece.as_bytes()[..], self.first, self.bytes]).map(|_| ())
    }
}
