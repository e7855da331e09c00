//! Chunks that were read before, for all connections. Bounded; what a chunk holds never changes, since a piece's id is
//! never used twice.

use bytes::Bytes;
use nut_cellar_core::PieceId;
use quick_cache::{Weighter, sync::Cache};
use std::fmt;
use std::sync::atomic::{AtomicU64, Ordering};

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
pub(crate) struct ChunkCache {
    chunks: Cache<(PieceId, u64), Bytes, ByLength>,
    /// Bytes that were put in, ever.
    fetched: AtomicU64,
}

impl ChunkCache {
    pub fn new() -> Self {
        let estimated = usize::try_from(CAPACITY).unwrap_or(usize::MAX) / CHUNK;
        Self { chunks: Cache::with_weighter(estimated, CAPACITY, ByLength), fetched: AtomicU64::new(0) }
    }

    pub fn get(&self, piece: PieceId, number: u64) -> Option<Bytes> {
        self.chunks.get(&(piece, number))
    }

    pub fn insert(&self, piece: PieceId, number: u64, chunk: Bytes) {
        self.fetched.fetch_add(chunk.len() as u64, Ordering::Relaxed);
        self.chunks.insert((piece, number), chunk);
    }

    /// The same with a chunk that did not have to be fetched.
    #[cfg(feature = "postgres")]
    pub fn insert_near(&self, piece: PieceId, number: u64, chunk: Bytes) {
        self.chunks.insert((piece, number), chunk);
    }

    /// How many bytes were not there and had to be fetched.
    pub fn fetched(&self) -> u64 {
        self.fetched.load(Ordering::Relaxed)
    }
}

impl fmt::Debug for ChunkCache {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "ChunkCache({} chunks)", self.chunks.len())
    }
}
