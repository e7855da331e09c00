//! Many terms score, or such as many records have: windows of a fixed size. The words that can bring no record to the front
//! together are looked up, in the records that can get there with them; what the others add is added up.

use super::every::size_of_window;
use super::sums::Sums;
use super::{Sum, Windows};
use crate::search::find::Find;
use crate::shelf::{Hand, Step, if_at_hand};
use std::ops::Range;

/// Words are looked up as long as they add no more than this share of the score that has to be beaten: with more, too many records
/// can get there with them.
const LOOKED_UP: f32 = 0.5;

/// The records of a window, for tests.
const SHORT: u32 = 5;

/// The streams of a word, and what they add together at most, in whatever record.
struct Word {
    streams: Range<usize>,
    bound: f32,
}

impl Windows<'_, '_> {
    /// Goes through windows in which words are added up or looked up; through short ones, if that is to be tried.
    pub(super) fn by_split(
        &mut self,
        hand: &mut Hand,
        find: &Find,
        run: &Range<u32>,
        tried: bool,
    ) -> Step<()> {
        if self.are_few() && !tried {
            return self.in_order(hand, run);
        }
        self.raise_floor(hand)?;
        let words = self.by_bound(hand)?;
        for stream in &mut self.streams {
            stream.begin(run.start)?;
        }
        let (mut sums, mut of_word) = (Sums::default(), Sums::default());
        let records = self.cursors.standing.shelf.records();
        let (mut looked_up, mut rest) = (0, 0.0);
        let mut added = in_query_order(&words);
        let mut start = run.start;
        while start < run.end {
            if self.is_dear() {
                self.left = Some(start);
                break;
            }
            find.go_on()?;
            let before = looked_up;
            // Half of what is just below nothing is nothing.
            let threshold = self.top.threshold();
            let most = threshold.min(LOOKED_UP * threshold);
            while let Some(word) = words.get(looked_up)
                && self.cursors.with_slack(rest + word.bound) <= most
            {
                (looked_up, rest) = (looked_up + 1, rest + word.bound);
            }
            if looked_up == words.len() {
                break;
            }
            let (others, essential) = words.split_at(looked_up);
            if looked_up > before {
                added = in_query_order(essential);
            }
            let streams = || added.iter().cloned().flatten();
            let postings = streams().map(|stream| u64::from(self.streams[stream].postings.records())).sum();
            let size = if tried { SHORT } else { size_of_window(records, postings, streams().count()) };
            let window = start..start.saturating_add(size).min(run.end);
            start = window.end;
            sums.for_window(size as usize);
            of_word.for_window(size as usize);
            for word in &added {
                self.add_word(hand, word, &window, (&mut sums, &mut of_word))?;
            }
            sums.drain(self.least_sum(rest), |place, sum| {
                self.look_up_words(hand, others, window.start + place, sum, rest)
            })?;
        }
        Ok(())
    }

    /// The words, those first that add the least.
    fn by_bound(&mut self, hand: &mut Hand) -> Step<Vec<Word>> {
        let mut words = Vec::new();
        for streams in self.words() {
            let most = self.streams[streams.start].part(f32::INFINITY);
            let mut bound = 0.0;
            for stream in &mut self.streams[streams.clone()] {
                bound += stream.all_bounds(hand, self.cursors)?.iter().copied().fold(0.0, f32::max);
            }
            words.push(Word { streams, bound: bound.min(most) });
        }
        words.sort_by(|a, b| a.bound.total_cmp(&b.bound));
        Ok(words)
    }

    /// Looks for a record in the lists of other words, which add `rest` at most, and offers it if it can beat the score that has to
    /// be beaten.
    fn look_up_words(
        &mut self,
        hand: &mut Hand,
        others: &[Word],
        ordinal: u32,
        sum: f32,
        mut rest: f32,
    ) -> Step<()> {
        if !self.passes(ordinal) {
            return Ok(());
        }
        let threshold = self.top.threshold();
        let (mut with, mut found) = (sum, false);
        for word in others.iter().rev() {
            if !self.can_reach(with, rest.max(0.0), threshold) {
                return Ok(());
            }
            rest -= word.bound;
            let mut added = 0.0;
            for place in word.streams.clone() {
                let stream = &mut self.streams[place];
                if stream.postings.dense().is_none() {
                    stream.go_to(ordinal)?;
                    if stream.is_past() {
                        continue;
                    }
                }
                if let Some(part) = if_at_hand(stream.part_of(hand, self.cursors, ordinal))?.flatten() {
                    added += part;
                    (self.scored, found) = (self.scored + 1, true);
                }
            }
            let stream = &self.streams[word.streams.start];
            with += if stream.is_in_frequencies() { stream.part(added) } else { added };
        }
        if !found {
            return self.offer_sum(hand, ordinal, sum);
        }
        if self.cursors.with_slack(with) > threshold {
            self.offer(hand, ordinal, Sum::Rough)?;
        }
        Ok(())
    }
}

/// The streams of words in the order in which scores add up.
fn in_query_order(words: &[Word]) -> Vec<Range<usize>> {
    let mut streams: Vec<_> = words.iter().map(|word| word.streams.clone()).collect();
    streams.sort_unstable_by_key(|streams| streams.start);
    streams
}
