//! Pieces as rows: each piece is a run of chunks of 16 KiB, numbered from 0, so a range is found by arithmetic.

use super::cellar::PostgresCellar;
use super::failure::failed;
use super::names::Names;
use super::session::{Parameter, Statements, look_at_own_names};
use crate::rows::cache::{self, ChunkCache, assembled};
use crate::rows::near::NearFolder;
use bytes::Bytes;
use nut_cellar_core::store::{Generation, Near, PieceWriter, Wanted};
use nut_cellar_core::{Error, Manifest, PieceId, Result, Unit, View};
use postgres::Row;
use postgres::types::Type;
use std::cell::{Cell, RefCell};
use std::collections::BTreeSet;
use std::ops::Range;
use std::sync::Arc;

/// The bytes of a piece that one row has.
#[expect(clippy::cast_possible_truncation, reason = "a chunk is 16 KiB")]
pub(super) const CHUNK: usize = cache::CHUNK as usize;
/// How many chunks are asked for in one round trip.
const AT_ONCE: usize = 256;
/// How many are written in one.
const WRITTEN: usize = 64;

const READING: &str = "Reading the cellar";
const WRITING: &str = "Writing the cellar";

/// What a transaction, or a single statement, has seen of a cellar.
pub(super) struct PostgresView<'c> {
    client: RefCell<&'c mut dyn Statements>,
    names: &'c Names,
    cache: &'c Arc<ChunkCache>,
    folder: Option<&'c NearFolder>,
    manifest: Arc<Manifest>,
    /// Whether a chunk was asked for that is no longer there.
    missed: Cell<bool>,
}

impl<'c> PostgresView<'c> {
    /// What a statement has seen, which read this manifest.
    pub(super) fn new(
        client: &'c mut dyn Statements,
        cellar: &'c PostgresCellar,
        manifest: Arc<Manifest>,
    ) -> Self {
        let PostgresCellar { names, cache, folder, .. } = cellar;
        let (client, folder) = (RefCell::new(client), folder.get().map(Arc::as_ref));
        Self { client, names, cache, folder, manifest, missed: Cell::new(false) }
    }

    /// Whether a chunk was asked for that is no longer there. Where each statement sees a state of its own, that is because
    /// somebody has published since the manifest was read.
    pub(super) fn missed(&self) -> bool {
        self.missed.get()
    }

    /// Runs a statement of the application's table.
    pub(super) fn query(&self, sql: &str, parameters: &[Parameter<'_>]) -> Result<Vec<Row>> {
        self.client.borrow_mut().query_typed(sql, parameters).map_err(failed("Reading the table"))
    }

    /// See [`look_at_own_names`].
    pub(super) fn look_at_own_names(&self) -> Result<()> {
        look_at_own_names(&mut **self.client.borrow_mut()).map_err(failed("Reading the table"))
    }

    /// Reads chunks that are not in the cache into `held`, in one round trip.
    fn fetch(&self, wanted: &[(PieceId, u64)], held: &mut Vec<((PieceId, u64), Bytes)>) -> Result<()> {
        let sql = format!(
            "SELECT c.piece, c.number, c.data FROM {} c
             JOIN ROWS FROM (pg_catalog.unnest($1::pg_catalog.bytea[]), pg_catalog.unnest($2::integer[])) w(piece, number)
               ON c.piece OPERATOR(pg_catalog.=) w.piece AND c.number OPERATOR(pg_catalog.=) w.number",
            self.names.inside("chunk")
        );
        let pieces: Vec<&[u8]> = wanted.iter().map(|(piece, _)| &piece.as_bytes()[..]).collect();
        let numbers: Vec<i32> =
            wanted.iter().map(|(_, number)| i32::try_from(*number).unwrap_or(i32::MAX)).collect();
        let rows = self
            .client
            .borrow_mut()
            .query_typed(&sql, &[(&pieces, Type::BYTEA_ARRAY), (&numbers, Type::INT4_ARRAY)])
            .map_err(failed(READING))?;
        for row in rows {
            let (piece, number): (&[u8], i32) = (row.get(0), row.get(1));
            let chunk = Bytes::copy_from_slice(row.get(2));
            let known = wanted.iter().find(|(known, at)| {
                known.as_bytes()[..] == *piece && i64::try_from(*at) == Ok(i64::from(number))
            });
            if let Some((piece, number)) = known {
                self.cache.insert(*piece, *number, chunk.clone());
                if let Some(folder) = self.folder {
                    folder.put(*piece, *number, &chunk);
                }
                held.push(((*piece, *number), chunk));
            }
        }
        Ok(())
    }
}

/// The chunks of a range.
fn chunks(range: &Range<u64>) -> Range<u64> {
    range.start / CHUNK as u64..range.end.div_ceil(CHUNK as u64)
}

impl View for PostgresView<'_> {
    fn near(&self) -> Option<Arc<dyn Near>> {
        Some(Arc::<ChunkCache>::clone(self.cache))
    }

    fn manifest(&self) -> Result<Option<Arc<Manifest>>> {
        Ok(Some(Arc::clone(&self.manifest)))
    }

    fn read(&self, wanted: &[Wanted]) -> Result<Vec<Bytes>> {
        let known: Vec<_> = wanted.iter().map(|(piece, range)| self.cache.range(*piece, range)).collect();
        let all: BTreeSet<_> = wanted
            .iter()
            .zip(&known)
            .filter(|(_, known)| known.is_none())
            .flat_map(|((piece, range), _)| chunks(range).map(move |number| (*piece, number)))
            .collect();
        // Held apart from the cache, which may let go of them at any time.
        let (mut held, mut missing) = (Vec::new(), Vec::new());
        for (piece, number) in all {
            let near = || {
                let chunk = Bytes::from(self.folder?.get(piece, number)?);
                self.cache.insert_near(piece, number, chunk.clone());
                Some(chunk)
            };
            match self.cache.chunk(piece, number).or_else(near) {
                Some(chunk) => held.push(((piece, number), chunk)),
                None => missing.push((piece, number)),
            }
        }
        for part in missing.chunks(AT_ONCE) {
            self.fetch(part, &mut held)?;
        }
        held.sort_by_key(|(place, _)| *place);
        wanted
            .iter()
            .zip(known)
            .map(|((piece, range), known)| {
                if let Some(known) = known {
                    return Ok(known);
                }
                let chunk = |number| {
                    let at = held.binary_search_by_key(&(*piece, number), |(place, _)| *place).ok()?;
                    Some(held[at].1.clone())
                };
                let bytes = assembled(range, chunk).ok_or_else(|| {
                    self.missed.set(true);
                    Error::damaged(format_args!("a part of piece {piece} is not there"))
                })?;
                self.cache.insert_range(*piece, range, &bytes);
                Ok(bytes)
            })
            .collect()
    }
}

/// Writing a cellar inside a transaction that is open.
pub(super) struct PostgresUnit<'c>(PostgresView<'c>);

impl<'c> PostgresUnit<'c> {
    pub(super) fn new(view: PostgresView<'c>) -> Self {
        Self(view)
    }

    fn execute(&self, sql: &str, parameters: &[Parameter<'_>]) -> Result<()> {
        let done = self.0.client.borrow_mut().execute_typed(sql, parameters);
        done.map(|_| ()).map_err(failed(WRITING))
    }
}

impl View for PostgresUnit<'_> {
    fn manifest(&self) -> Result<Option<Arc<Manifest>>> {
        self.0.manifest()
    }

    fn read(&self, wanted: &[Wanted]) -> Result<Vec<Bytes>> {
        self.0.read(wanted)
    }
}

impl Unit for PostgresUnit<'_> {
    fn write(&self, piece: PieceId) -> Result<Box<dyn PieceWriter + '_>> {
        Ok(Box::new(RowWriter { unit: self, piece, number: 0, chunks: Vec::new() }))
    }

    fn swap(&mut self, expected: Option<Generation>, next: &Manifest) -> Result<()> {
        if Some(self.0.manifest.generation) != expected {
            return Err(Error::overtaken());
        }
        let sql = format!("UPDATE {} SET manifest = $1", self.0.names.inside("state"));
        self.execute(&sql, &[(&next.encode(), Type::BYTEA)])?;
        self.0.manifest = Arc::new(next.clone());
        Ok(())
    }

    fn remove(&mut self, pieces: &[PieceId]) -> Result<()> {
        let pieces: Vec<&[u8]> = pieces.iter().map(|piece| &piece.as_bytes()[..]).collect();
        let sql = format!(
            "DELETE FROM {} WHERE piece OPERATOR(pg_catalog.=) ANY ($1)",
            self.0.names.inside("chunk")
        );
        self.execute(&sql, &[(&pieces, Type::BYTEA_ARRAY)])
    }
}

struct RowWriter<'a, 'c> {
    unit: &'a PostgresUnit<'c>,
    piece: PieceId,
    /// The number of the first chunk that is not written.
    number: i32,
    /// Chunks that are not written; the last may have room.
    chunks: Vec<Vec<u8>>,
}

impl RowWriter<'_, '_> {
    fn flush(&mut self) -> Result<()> {
        let sql = format!(
            "INSERT INTO {}(piece, number, data)
             SELECT $1, $2 OPERATOR(pg_catalog.+) place::integer OPERATOR(pg_catalog.-) 1, data
             FROM pg_catalog.unnest($3::pg_catalog.bytea[]) WITH ORDINALITY chunk(data, place)",
            self.unit.0.names.inside("chunk")
        );
        let piece = &self.piece.as_bytes()[..];
        self.unit.execute(
            &sql,
            &[(&piece, Type::BYTEA), (&self.number, Type::INT4), (&self.chunks, Type::BYTEA_ARRAY)],
        )?;
        self.number += i32::try_from(self.chunks.len()).unwrap_or(i32::MAX);
        self.chunks.clear();
        Ok(())
    }
}

impl PieceWriter for RowWriter<'_, '_> {
    fn append(&mut self, mut bytes: &[u8]) -> Result<()> {
        while !bytes.is_empty() {
            let full = self.chunks.last().is_none_or(|chunk| chunk.len() == CHUNK);
            if full && self.chunks.len() == WRITTEN {
                self.flush()?;
            }
            if full {
                self.chunks.push(Vec::with_capacity(CHUNK));
            }
            let Some(chunk) = self.chunks.last_mut() else { continue };
            let (now, later) = bytes.split_at(bytes.len().min(CHUNK - chunk.len()));
            chunk.extend_from_slice(now);
            bytes = later;
        }
        Ok(())
    }

    fn finish(mut self: Box<Self>) -> Result<()> {
        if self.chunks.is_empty() { Ok(()) } else { self.flush() }
    }
}
