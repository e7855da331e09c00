//! Every posting is scored, in windows of many blocks: for yardsticks, and where too many terms score for each to have a bound.

use super::sums::Sums;
use super::{LEAST, MOST, POSTINGS, Sum, Windows};
use crate::search::find::Find;
use crate::search::stream::Stream;
use crate::shelf::{Hand, Step};
use std::ops::Range;

/// So few postings are put in order rather than added up in windows.
const FEW: u64 = 2_048;

impl Windows<'_, '_> {
    /// Scores every posting. Counts the records as well, if that can be told from their postings.
    pub(super) fn every(&mut self, hand: &mut Hand, find: &Find, run: &Range<u32>) -> Step<Option<u64>> {
        let records = self.cursors.standing.shelf.records();
        if self.are_few() && self.matched.is_none() {
            return self.in_order(hand, run).map(|()| None);
        }
        let postings = self.postings();
        let size = size_of_window(records, postings, self.streams.len());
        let (mut sums, mut of_word) = (Sums::default(), Sums::default());
        sums.for_window(size as usize);
        of_word.for_window(size as usize);
        let words = self.words();
        // Of a single word it need not be worked out what small frequencies add.
        let alone = words.len() == 1 && self.streams[0].is_in_frequencies() && self.matched.is_none();
        let tells_all = self.words_tell_all
            && self.root.is_none()
            && self.sieve.is_none()
            && self.cursors.standing.mask.is_none();
        let mut counted = tells_all.then_some(0);
        let mut start = run.start;
        while start < run.end {
            find.go_on()?;
            let window = start..start.saturating_add(size).min(run.end);
            start = window.end;
            if let Some(matched) = &mut self.matched {
                matched.go_to(window.clone());
            }
            for word in &words {
                if alone {
                    self.add_streams(hand, word, &window, &mut sums)?;
                } else {
                    self.add_word(hand, word, &window, (&mut sums, &mut of_word))?;
                }
            }
            if let Some(counted) = &mut counted {
                *counted += sums.count();
            }
            let least = self.least_sum(0.0);
            let least = if alone { self.streams[0].least_frequency(least) } else { least };
            // Where others match that have no word, what scores nothing is looked for later.
            let least = if self.matched.is_some() && !self.words_tell_all { least.max(0.0) } else { least };
            sums.drain(least, |place, sum| {
                let sum = if alone { self.streams[0].part(sum) } else { sum };
                self.offer_sum(hand, window.start + place, sum)
            })?;
        }
        Ok(counted)
    }

    fn postings(&self) -> u64 {
        self.streams.iter().map(|stream| u64::from(stream.postings.records())).sum()
    }

    /// Whether there are so few postings that they are better put in order.
    pub(super) fn are_few(&self) -> bool {
        self.postings() <= FEW
    }

    /// Scores all postings of a run, put in order.
    pub(super) fn in_order(&mut self, hand: &mut Hand, run: &Range<u32>) -> Step<()> {
        let mut list = Vec::new();
        for place in 0..self.streams.len() {
            for block in 0..self.streams[place].postings.blocks() {
                let stream = &mut self.streams[place];
                stream.reckon(hand, self.cursors, block)?;
                let places = stream.places(run);
                self.scored += places.len() as u64;
                let parts = &stream.parts()[places.clone()];
                let ordinals = stream.postings.unpacked()[places].iter();
                list.extend(ordinals.zip(parts).map(|(ordinal, part)| (*ordinal, place, *part)));
            }
        }
        list.sort_unstable_by_key(|(ordinal, place, _)| (*ordinal, *place));
        for of_record in list.chunk_by(|(a, ..), (b, ..)| a == b) {
            let mut sum = 0.0;
            for of_word in
                of_record.chunk_by(|(_, a, _), (_, b, _)| self.streams[*a].word == self.streams[*b].word)
            {
                let stream = &self.streams[of_word[0].1];
                let added = of_word.iter().fold(0.0, |sum, (.., part)| sum + part);
                sum += if stream.is_in_frequencies() { stream.part(added) } else { added };
            }
            self.offer_sum(hand, of_record[0].0, sum)?;
        }
        Ok(())
    }

    /// Adds up what the streams of a word add in a window. `of_word` is empty, before and after.
    pub(super) fn add_word(
        &mut self,
        hand: &mut Hand,
        streams: &Range<usize>,
        window: &Range<u32>,
        (sums, of_word): (&mut Sums, &mut Sums),
    ) -> Step<()> {
        if !self.streams[streams.start].is_in_frequencies() {
            return self.add_streams(hand, streams, window, sums);
        }
        let Stream { word, .. } = self.streams[streams.start];
        let scale = self.streams[streams.start].scale();
        let Some(mut matched) = self.matched.take_if(|matched| !matched.is_even(word)) else {
            self.add_streams(hand, streams, window, of_word)?;
            sums.add_all(of_word, |_, frequency| scale.part(frequency));
            return Ok(());
        };
        if let Some(times) = matched.times(word) {
            self.add_streams(hand, streams, window, of_word)?;
            sums.add_all(of_word, |place, frequency| scale.part_of(frequency, times[place]));
        }
        self.matched = Some(matched);
        Ok(())
    }

    /// Adds up what streams say in a window.
    fn add_streams(
        &mut self,
        hand: &mut Hand,
        streams: &Range<usize>,
        window: &Range<u32>,
        sums: &mut Sums,
    ) -> Step<()> {
        streams.clone().try_for_each(|stream| self.add_blocks(hand, stream, window, sums))
    }

    /// Offers a record with a sum that is its score, or the score but for rounding.
    pub(super) fn offer_sum(&mut self, hand: &mut Hand, ordinal: u32, sum: f32) -> Step<()> {
        if self.with_slack(sum) > self.top.threshold() {
            let sum = if self.exact { Sum::Exact(sum) } else { Sum::Rough };
            self.offer(hand, ordinal, sum)?;
        }
        Ok(())
    }

    /// Adds up what all postings of a stream in a window add.
    fn add_blocks(
        &mut self,
        hand: &mut Hand,
        place: usize,
        window: &Range<u32>,
        sums: &mut Sums,
    ) -> Step<()> {
        let postings = &self.streams[place].postings;
        let mut block = postings.block_with(self.streams[place].block, window.start);
        while block < self.streams[place].postings.blocks() {
            self.add_up(hand, place, block, window, sums)?;
            if self.streams[place].postings.last_of(block) >= window.end {
                break;
            }
            block += 1;
        }
        self.streams[place].block = block;
        Ok(())
    }
}

/// The records of a window that has enough postings of each stream to be worth it.
pub(super) fn size_of_window(records: u32, postings: u64, streams: usize) -> u32 {
    let wanted = u64::from(records) * POSTINGS * streams as u64 / postings.max(1);
    u32::try_from(wanted.clamp(u64::from(LEAST), u64::from(MOST))).unwrap_or(MOST).next_power_of_two()
}
