//! Only one term scores: each of its blocks is a window.

use super::{BETWEEN_STOPS, FIRST, MOST, Sum, Windows};
use crate::bits::each_in;
use crate::search::find::Find;
use crate::shelf::{Hand, Step, if_at_hand};
use std::ops::Range;

/// A set that has fewer than one of so many records leaves so few of a block that its bound is not worth a look.
const FEW: usize = 32;

impl Windows<'_, '_> {
    /// Goes through the blocks of the only term, those with the greatest bounds first.
    pub(super) fn by_block(&mut self, hand: &mut Hand, find: &Find, run: &Range<u32>) -> Step<()> {
        let stream = &mut self.streams[0];
        let is_dense = stream.postings.dense().is_some();
        let one_of = self.sieve.as_ref().map_or(1, |sieve| sieve.one_of);
        let mut here = (Vec::new(), Vec::new());
        if is_dense && one_of >= FEW {
            let mut start = run.start;
            while start < run.end {
                find.go_on()?;
                let window = start..start.saturating_add(MOST).min(run.end);
                start = window.end;
                self.offer_sieved(hand, &window, &mut here)?;
            }
            return Ok(());
        }
        let first = stream.postings.block_with(0, run.start);
        let blocks = first..stream.postings.blocks();
        let bounds = stream.all_bounds(hand, self.cursors)?[blocks.start.min(blocks.end)..].to_vec();
        // Matching, and scoring by what matched, go through the records once, from the first to the last. As many records of a set stand
        // in more blocks.
        let first = FIRST.saturating_mul(one_of).min(bounds.len() / 2);
        let high = if self.root.is_none() && self.exact && first >= FIRST {
            let mut sorted = bounds.clone();
            *sorted.select_nth_unstable_by(first - 1, |a, b| b.total_cmp(a)).1
        } else {
            f32::NEG_INFINITY
        };
        let (above, below): (Vec<_>, Vec<_>) = blocks.zip(bounds).partition(|(_, bound)| *bound >= high);
        for (number, (block, bound)) in above.into_iter().chain(below).enumerate() {
            if number % BETWEEN_STOPS as usize == 0 {
                find.go_on()?;
            }
            let postings = &self.streams[0].postings;
            let start = block.checked_sub(1).map_or(0, |before| postings.last_of(before) + 1);
            if start >= run.end || !self.top.takes(self.with_slack(bound), start) {
                continue;
            }
            if is_dense && self.sieve.as_ref().is_some_and(|sieve| !sieve.passes_many) {
                let window = start.max(run.start)..postings.last_of(block).saturating_add(1).min(run.end);
                self.offer_sieved(hand, &window, &mut here)?;
            } else {
                self.offer_block(hand, block, run)?;
            }
        }
        Ok(())
    }

    /// Offers those of a block that lie in a run, and in the set that they have to be in. Where many do they are better scored before they
    /// are looked for there.
    fn offer_block(&mut self, hand: &mut Hand, block: usize, run: &Range<u32>) -> Step<()> {
        let stream = &mut self.streams[0];
        if let Some(sieve) = self.sieve.as_ref().filter(|sieve| !sieve.passes_many) {
            stream.unpack(block)?;
            let places = stream.places(run);
            let ordinals = &stream.postings.unpacked()[places.clone()];
            let passing = places.zip(ordinals).filter(|(_, ordinal)| sieve.has(**ordinal));
            let passing: Vec<_> = passing.map(|(place, ordinal)| (place, *ordinal)).collect();
            for (place, ordinal) in passing {
                let part = if_at_hand(self.streams[0].part_at(hand, self.cursors, place))?.unwrap_or(0.0);
                self.scored += 1;
                self.offer_part(hand, ordinal, part)?;
            }
            return Ok(());
        }
        stream.reckon(hand, self.cursors, block)?;
        let mut least = self.top.least();
        for place in stream.places(run) {
            let stream = &self.streams[0];
            let (ordinal, part) = (stream.postings.unpacked()[place], stream.parts()[place]);
            self.scored += 1;
            if self.with_slack(part) >= least && self.sieve.as_ref().is_none_or(|sieve| sieve.has(ordinal)) {
                self.offer_part(hand, ordinal, part)?;
                least = self.top.least();
            }
        }
        Ok(())
    }

    /// Offers those records of a window that have the term, whose records stand as bits, and are in the set that they have to be in.
    fn offer_sieved(
        &mut self,
        hand: &mut Hand,
        window: &Range<u32>,
        (here, parts): &mut (Vec<u32>, Vec<f32>),
    ) -> Step<()> {
        let (Some(dense), Some(sieve)) = (self.streams[0].postings.dense(), &self.sieve) else {
            return Ok(());
        };
        if window.is_empty() {
            return Ok(());
        }
        here.clear();
        let words = dense.bits().words_of(window).iter().zip(sieve.records.words_of(window));
        each_in(words.map(|(word, sieve)| word & sieve), window, |ordinal| here.push(ordinal));
        if_at_hand(self.streams[0].parts_of(hand, self.cursors, here, parts))?;
        self.scored += here.len() as u64;
        let mut least = self.top.least();
        for (&ordinal, &part) in here.iter().zip(&*parts) {
            if self.with_slack(part) >= least {
                self.offer_part(hand, ordinal, part)?;
                least = self.top.least();
            }
        }
        Ok(())
    }

    /// Offers a record with what the only term adds to its score, if that counts.
    fn offer_part(&mut self, hand: &mut Hand, ordinal: u32, part: f32) -> Step<()> {
        if self.top.takes(self.with_slack(part), ordinal) {
            let sum = if self.exact { Sum::Exact(part) } else { Sum::Rough };
            self.offer(hand, ordinal, sum)?;
        }
        Ok(())
    }
}
