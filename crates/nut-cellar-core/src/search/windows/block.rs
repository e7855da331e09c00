//! Only one term scores: each of its blocks is a window.

use super::{BETWEEN_STOPS, FIRST, Sum, Windows};
use crate::search::find::Find;
use crate::shelf::{Hand, Step, if_at_hand};
use std::ops::Range;

impl Windows<'_, '_> {
    /// Goes through the blocks of the only term, those with the greatest bounds first.
    pub(super) fn by_block(&mut self, hand: &mut Hand, find: &Find, run: &Range<u32>) -> Step<()> {
        let stream = &mut self.streams[0];
        let first = stream.postings.block_with(0, run.start);
        let blocks = first..stream.postings.blocks();
        let bounds = stream.all_bounds(hand, self.cursors)?[blocks.start.min(blocks.end)..].to_vec();
        // Matching, and scoring by what matched, go through the records once, from the first to the last.
        let high = if self.root.is_none() && self.exact && bounds.len() >= 2 * FIRST {
            let mut sorted = bounds.clone();
            *sorted.select_nth_unstable_by(FIRST - 1, |a, b| b.total_cmp(a)).1
        } else {
            f32::NEG_INFINITY
        };
        let (above, below): (Vec<_>, Vec<_>) = blocks.zip(bounds).partition(|(_, bound)| *bound >= high);
        for (number, (block, bound)) in above.into_iter().chain(below).enumerate() {
            if number % BETWEEN_STOPS as usize == 0 {
                find.go_on()?;
            }
            let stream = &mut self.streams[0];
            let start = block.checked_sub(1).map_or(0, |before| stream.postings.last_of(before) + 1);
            if start >= run.end || !self.top.takes(self.with_slack(bound), start) {
                continue;
            }
            let stream = &mut self.streams[0];
            stream.unpack(block)?;
            if self.sieve.is_none() {
                stream.reckon(hand, self.cursors, block)?;
            }
            let places = stream.places(run);
            let mut least = self.top.least();
            for place in places {
                let stream = &mut self.streams[0];
                let ordinal = stream.postings.unpacked()[place];
                let part = match &self.sieve {
                    None => stream.parts()[place],
                    Some(sieve) if !sieve.has(ordinal) => continue,
                    Some(_) => if_at_hand(stream.part_at(hand, self.cursors, place))?.unwrap_or(0.0),
                };
                self.scored += 1;
                if self.with_slack(part) >= least && self.top.takes(self.with_slack(part), ordinal) {
                    let sum = if self.exact { Sum::Exact(part) } else { Sum::Rough };
                    self.offer(hand, ordinal, sum)?;
                    least = self.top.least();
                }
            }
        }
        Ok(())
    }
}
