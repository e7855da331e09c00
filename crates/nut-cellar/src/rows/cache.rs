//! Chunks that were read before, for all connections. Bounded; what a chunk holds never changes, since a piece's id is
//! never used twice.

use bytes::Bytes;
use nut_cellar_core::PieceId;
use quick_cache::{Weighter, sync::Cache};
use std::fmt;

/// The most bytes that are kept.
const CAPACITY: u64 = 64 << 20;
/// About what a chunk takes.
const CHUNK: usize = 64 << 10;

#[derive(Clone)]
struct ByLength;

impl Weighter<(PieceId, u64), Bytes> for ByLength {
    fn weight(&self, _: &(PieceId, u64), bytes: &Bytes) -> u64 {
        (bytes.len() as u64).max(1)
    }
}

/// Chunks by piece and number.
pub(crate) struct ChunkCache(Cache<(PieceId, u64), Bytes, ByLength>);

impl ChunkCache {
    pub fn new() -> Self {
        let estimated = usize::try_from(CAPACITY).unwrap_or(usize::MAX) / CHUNK;
        Self(Cache::with_weighter(estimated, CAPACITY, ByLength))
    }

    pub fn get(&self, piece: PieceId, number: u64) -> Option<Bytes> {
        self.0.get(&(piece, number))
    }

    pub fn insert(&self, piece: PieceId, number: u64, chunk: Bytes) {
        self.0.insert((piece, number), chunk);
    }
}

impl fmt::Debug for ChunkCache {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "ChunkCache({} chunks)", self.0.len())
    }
}
