//! What has been read so far of the shelves, so that computing needs no I/O: whoever lacks a range notes it and stops.
//!
//! What always holds: ranges are wanted and held in whole chunks, and what is held has been checked.

use crate::error::{Error, Result};
use crate::shelf::format::directory::CHUNK;
use crate::shelf::read::reader::Shelf;
use crate::store::{Near, PieceId, View, Wanted};
use bytes::{Bytes, BytesMut};
use foldhash::fast::RandomState;
use std::collections::{BTreeMap, HashMap};
use std::ops::Range;
use std::sync::Arc;

/// A shelf of at most so many bytes is read as a whole: one round trip more would cost more than the bytes.
const SMALL: u64 = 64 << 10;

/// Why a computation could not go on.
#[derive(Debug)]
pub(crate) enum Stop {
    /// A range is not at hand; it has been noted.
    Missing,
    /// It never can.
    Failed(Error),
}

impl From<Error> for Stop {
    fn from(error: Error) -> Self {
        Self::Failed(error)
    }
}

/// The result of a computation over what is at hand.
pub(crate) type Step<T> = Result<T, Stop>;

/// What could be computed, or nothing where something was missing: for whoever goes on, so that all that is missing is
/// noted in one go, and then calls [`Held::complete`].
pub(crate) fn if_held<T>(step: Step<T>) -> Step<Option<T>> {
    match step {
        Ok(done) => Ok(Some(done)),
        Err(Stop::Missing) => Ok(None),
        Err(failed) => Err(failed),
    }
}

/// The ranges at hand, and those that were missing.
#[derive(Debug, Default)]
pub(crate) struct Held {
    ranges: HashMap<PieceId, BTreeMap<u64, Bytes>, RandomState>,
    /// What was read before, by others.
    near: Option<Arc<dyn Near>>,
    bytes: u64,
    trips: u64,
    /// So many bytes are wanted at least, from where one is missing.
    ahead: u64,
    missing: Vec<(Arc<Shelf>, Range<u64>)>,
}

impl Held {
    /// The bytes of a range of a shelf, without a copy where they were read in one go.
    pub fn get(&mut self, shelf: &Arc<Shelf>, range: Range<u64>) -> Step<Bytes> {
        if range.start > range.end || range.end > shelf.body() {
            return Err(Error::damaged(format_args!("shelf {} points past its end", shelf.piece())).into());
        }
        if range.is_empty() {
            return Ok(Bytes::new());
        }
        if let Some(bytes) = shelf.at_hand(&range) {
            return Ok(bytes?);
        }
        if let Some(bytes) = self.ranges.get(&shelf.piece()).and_then(|ranges| assemble(ranges, &range)) {
            return Ok(bytes);
        }
        let chunks = match shelf.body() {
            small @ ..=SMALL => 0..small,
            body => {
                let start = range.start / CHUNK * CHUNK;
                start..(range.end.div_ceil(CHUNK) * CHUNK).max(start + self.ahead).min(body)
            }
        };
        if let Some(bytes) = self.near.as_ref().and_then(|near| near.get(shelf.piece(), &chunks)) {
            shelf.check_chunks(chunks.start, &bytes)?;
            let ranges = self.ranges.entry(shelf.piece()).or_default();
            ranges.insert(chunks.start, bytes);
            if let Some(bytes) = assemble(ranges, &range) {
                return Ok(bytes);
            }
        }
        // Whoever walks through a section asks for the same chunk many times in a row.
        let noted = |(known, range): &(Arc<Shelf>, Range<u64>)| Arc::ptr_eq(known, shelf) && *range == chunks;
        if !self.missing.last().is_some_and(noted) {
            self.missing.push((Arc::clone(shelf), chunks));
        }
        Err(Stop::Missing)
    }

    /// Has at hand what was read before, too.
    pub fn reach(&mut self, near: Option<Arc<dyn Near>>) {
        self.near = near;
    }

    /// Stops if something was missing since it was last supplied.
    pub fn complete(&self) -> Step<()> {
        if self.missing.is_empty() { Ok(()) } else { Err(Stop::Missing) }
    }

    /// What was missing: by piece, in order, and neighbouring ranges as one.
    pub fn wanted(&mut self) -> Vec<Wanted> {
        self.missing.sort_unstable_by_key(|(shelf, range)| (shelf.piece(), range.start, range.end));
        self.missing.dedup_by(|next, kept| {
            let joins = next.0.piece() == kept.0.piece() && next.1.start <= kept.1.end;
            if joins {
                kept.1.end = kept.1.end.max(next.1.end);
            }
            joins
        });
        self.missing.iter().map(|(shelf, range)| (shelf.piece(), range.clone())).collect()
    }

    /// Takes the bytes of the ranges that [`wanted`](Self::wanted) named, in its order.
    pub fn supply(&mut self, answers: Vec<Bytes>) -> Result<()> {
        if answers.len() != self.missing.len() {
            return Err(Error::damaged("a place answered another number of ranges than it was asked for"));
        }
        self.trips += 1;
        for ((shelf, range), bytes) in self.missing.drain(..).zip(answers) {
            if bytes.len() as u64 != range.end - range.start {
                return Err(Error::damaged(format_args!("shelf {} is cut short", shelf.piece())));
            }
            shelf.check_chunks(range.start, &bytes)?;
            self.bytes += bytes.len() as u64;
            self.ranges.entry(shelf.piece()).or_default().insert(range.start, bytes);
        }
        Ok(())
    }

    /// Nothing at hand, for going through a shelf from front to back: `ahead` bytes are wanted at least.
    pub fn going_ahead(ahead: u64) -> Self {
        Self { ahead: ahead / CHUNK * CHUNK, ..Self::default() }
    }

    /// How often something was supplied.
    pub fn trips(&self) -> u64 {
        self.trips
    }

    /// How many bytes were supplied.
    pub fn bytes(&self) -> u64 {
        self.bytes
    }

    /// Fetches what was missing.
    pub fn fetch(&mut self, view: &dyn View) -> Result<()> {
        let wanted = self.wanted();
        self.supply(view.read(&wanted)?)
    }
}

/// The bytes of `range`, if these ranges cover it without a gap.
fn assemble(ranges: &BTreeMap<u64, Bytes>, range: &Range<u64>) -> Option<Bytes> {
    let offset = |from: u64, to: u64| usize::try_from(to - from).ok();
    let (&start, bytes) = ranges.range(..=range.start).next_back()?;
    let from = offset(start, range.start)?;
    let length = offset(range.start, range.end)?;
    if from + length <= bytes.len() {
        return Some(bytes.slice(from..from + length));
    }
    let mut out = BytesMut::with_capacity(length);
    out.extend_from_slice(bytes.get(from..)?);
    for (&start, bytes) in ranges.range(start + 1..range.end) {
        let reached = range.start + out.len() as u64;
        if start > reached {
            return None;
        }
        let fresh = bytes.get(offset(start, reached)?..).unwrap_or_default();
        out.extend_from_slice(&fresh[..fresh.len().min(length - out.len())]);
    }
    (out.len() == length).then(|| out.freeze())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_range_is_put_together_from_runs_that_touch_or_overlap() {
        let run = |range: Range<u8>| (u64::from(range.start), range.collect::<Vec<u8>>().into());
        let ranges = BTreeMap::from([run(0..4), run(4..9), run(8..10), run(12..20)]);
        let bytes = |range| assemble(&ranges, &range).map(|bytes| bytes.to_vec());
        assert_eq!(bytes(5..8), Some(vec![5, 6, 7]));
        assert_eq!(bytes(2..10), Some((2..10).collect()));
        assert_eq!(bytes(9..13), None);
        assert_eq!(bytes(19..21), None);
        assert_eq!(bytes(12..20), Some((12..20).collect()));
    }
}
