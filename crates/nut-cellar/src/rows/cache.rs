//! What was read of the shelves before, for all connections. Bounded; what a chunk holds never changes, since a piece's id is
//! never used twice.

use bytes::{Bytes, BytesMut};
use nut_cellar_core::PieceId;
use nut_cellar_core::store::Near;
use quick_cache::sync::{Cache, DefaultLifecycle};
use quick_cache::{DefaultHashBuilder, OptionsBuilder, Weighter};
use std::fmt;
use std::hash::Hash;
use std::ops::Range;
use std::sync::atomic::{AtomicU64, Ordering};

/// The most bytes of chunks that are kept.
const CHUNKS: u64 = 48 << 20;
/// The most bytes of ranges.
const RANGES: u64 = 16 << 20;
/// The longest range that is kept.
const LONGEST: usize = 4 << 20;
/// What a chunk takes, but for the last of a piece; and the shortest range that is kept.
pub(crate) const CHUNK: u64 = 16 << 10;

#[derive(Clone)]
struct ByLength;

impl<K> Weighter<K, Bytes> for ByLength {
    fn weight(&self, _: &K, bytes: &Bytes) -> u64 {
        (bytes.len() as u64).max(1)
    }
}

/// Chunks by piece and number, and ranges that go over several of them: those would be put together again by each search that
/// looks at the lengths of all records, or at a long list.
pub(crate) struct ChunkCache {
    chunks: Cache<(PieceId, u64), Bytes, ByLength>,
    ranges: Cache<(PieceId, Range<u64>), Bytes, ByLength>,
    /// Bytes that were put in, ever.
    fetched: AtomicU64,
}

impl ChunkCache {
    pub fn new() -> Self {
        // The longest ranges would fit into no part of a cache that is divided among many threads.
        Self { chunks: of_bytes(CHUNKS, 8), ranges: of_bytes(RANGES, 1), fetched: AtomicU64::new(0) }
    }

    pub fn chunk(&self, piece: PieceId, number: u64) -> Option<Bytes> {
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

    /// A range that was put together before.
    pub fn range(&self, piece: PieceId, range: &Range<u64>) -> Option<Bytes> {
        // Others are parts of a chunk, or of two.
        if range.end.saturating_sub(range.start) < CHUNK {
            return None;
        }
        self.ranges.get(&(piece, range.clone()))
    }

    /// Keeps a range that had to be put together.
    pub fn insert_range(&self, piece: PieceId, range: &Range<u64>, bytes: &Bytes) {
        if (CHUNK..=LONGEST as u64).contains(&(bytes.len() as u64)) {
            self.ranges.insert((piece, range.clone()), bytes.clone());
        }
    }

    /// How many bytes were not there and had to be fetched.
    pub fn fetched(&self) -> u64 {
        self.fetched.load(Ordering::Relaxed)
    }
}

impl Near for ChunkCache {
    fn get(&self, piece: PieceId, range: &Range<u64>) -> Option<Bytes> {
        self.range(piece, range).or_else(|| {
            let bytes = assembled(range, |number| self.chunk(piece, number))?;
            self.insert_range(piece, range, &bytes);
            Some(bytes)
        })
    }
}

/// The bytes of a range, put together of chunks, if they have them.
pub(crate) fn assembled(range: &Range<u64>, mut chunk: impl FnMut(u64) -> Option<Bytes>) -> Option<Bytes> {
    let mut out = BytesMut::new();
    for number in range.start / CHUNK..range.end.div_ceil(CHUNK) {
        let chunk = chunk(number)?;
        let start = number * CHUNK;
        let from = usize::try_from(range.start.saturating_sub(start)).ok()?;
        let to = usize::try_from((range.end - start).min(CHUNK)).ok()?;
        if to > chunk.len() || from > to {
            return None;
        }
        if out.is_empty() {
            if start + to as u64 == range.end {
                return Some(chunk.slice(from..to));
            }
            out.reserve(usize::try_from(range.end - range.start).ok()?);
        }
        out.extend_from_slice(&chunk[from..to]);
    }
    Some(out.freeze())
}

/// A cache in so many parts, of which each has its share of the bytes and a lock of its own.
fn of_bytes<K: Eq + Hash + Clone>(bytes: u64, parts: usize) -> Cache<K, Bytes, ByLength> {
    let chunks = usize::try_from(bytes / CHUNK).unwrap_or(usize::MAX);
    let options = OptionsBuilder::new()
        .shards(parts)
        .weight_capacity(bytes)
        .estimated_items_capacity(chunks)
        .build()
        .expect("capacities are set");
    Cache::with_options(options, ByLength, DefaultHashBuilder::default(), DefaultLifecycle::default())
}

impl fmt::Debug for ChunkCache {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "ChunkCache({} chunks, {} ranges)", self.chunks.len(), self.ranges.len())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_longest_ranges_stay_beside_each_other() {
        let (cache, piece) = (ChunkCache::new(), PieceId::fresh().unwrap());
        let range = |number: u64| number * LONGEST as u64..(number + 1) * LONGEST as u64;
        let bytes = Bytes::from(vec![7; LONGEST]);
        for number in 0..3 {
            cache.insert_range(piece, &range(number), &bytes);
        }
        assert!((0..3).all(|number| cache.range(piece, &range(number)).is_some()));
        // Others take their places, and are kept once they are asked for again.
        for _ in 0..2 {
            for number in 3..6 {
                cache.insert_range(piece, &range(number), &bytes);
            }
        }
        assert!((3..6).any(|number| cache.range(piece, &range(number)).is_some()));
        let kept = (0..6).filter(|number| cache.range(piece, &range(*number)).is_some()).count();
        assert!(kept as u64 * LONGEST as u64 <= RANGES, "{kept}");
    }
}
