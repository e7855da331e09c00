//! Words of phrases and windows count only in records that match these. Where what words add at most lets too many records through, it is
//! found out window by window which records match what scores; then sums are scores.

use super::Windows;
use super::sums::LINE;
use crate::bits::Bits;
use crate::search::cursors::{Cursors, LeafCursor};
use crate::search::find::Find;
use crate::search::stream::{Common, Stream};
use crate::shelf::{Hand, Step, if_at_hand};
use std::ops::Range;

/// Which records of the window at hand match the leaves that are more than a word, and score.
pub(super) struct Matched<'c> {
    /// They look for these, apart from those that are asked for single records.
    cursors: Cursors<'c>,
    leaves: Vec<(usize, Bits)>,
    /// It has room for so many records.
    window: usize,
    /// For each word of the plan how often it counts.
    times: Vec<Times>,
    /// And in each record of the window, for the word at hand.
    of_records: Vec<f32>,
}

/// How often a word counts in a record that has it.
#[derive(Clone, Default)]
struct Times {
    always: u32,
    /// And with which of the leaves, by their numbers, how often more.
    with: Vec<(usize, u32)>,
}

impl<'c> Matched<'c> {
    /// Of a plan; `cursors` stand before its first record.
    fn new(cursors: Cursors<'c>) -> Self {
        let (mut leaves, mut times) = (Vec::new(), vec![Times::default(); cursors.words.len()]);
        for (place, leaf) in cursors.plan.leaves.iter().enumerate().filter(|(_, leaf)| leaf.times > 0) {
            let is_word = matches!(cursors.leaves[place], LeafCursor::Word(_));
            for &word in &leaf.words {
                if is_word {
                    times[word].always += leaf.times;
                } else {
                    times[word].with.push((leaves.len(), leaf.times));
                }
            }
            if !is_word {
                leaves.push((place, Bits::default()));
            }
        }
        Self { cursors, leaves, window: 0, times, of_records: Vec::new() }
    }

    /// Finds out which records of a window match; windows ascend.
    pub fn look(&mut self, hand: &mut Hand, window: &Range<u32>) -> Step<()> {
        self.window = window.len().next_multiple_of(LINE);
        for (leaf, bits) in &mut self.leaves {
            bits.reset(window.len());
            if_at_hand(self.cursors.fill_leaf(hand, *leaf, window, bits))?;
        }
        Ok(())
    }

    /// Whether a word counts as often in all records that have it.
    pub fn is_even(&self, word: usize) -> bool {
        self.times[word].with.is_empty()
    }

    /// How often a word counts in each record of the window; none if it counts in no record.
    pub fn times(&mut self, word: usize) -> Option<&[f32]> {
        let Times { always, with } = &self.times[word];
        let with = || with.iter().map(|(number, times)| (&self.leaves[*number].1, *times as f32));
        if *always == 0 && with().all(|(bits, _)| bits.is_empty()) {
            return None;
        }
        self.of_records.clear();
        self.of_records.resize(self.window, *always as f32);
        for (bits, times) in with() {
            bits.iter().for_each(|place| self.of_records[place] += times);
        }
        Some(&self.of_records)
    }
}

impl<'c> Windows<'_, 'c> {
    /// Whether so many records were scored one by one that scoring every posting takes less for those that are left.
    pub(super) fn is_dear(&self) -> bool {
        self.rough > self.most_rough
    }

    /// Scores every posting of a run, and what it scores in phrases and windows.
    pub(super) fn exactly(
        &mut self,
        hand: &mut Hand,
        find: &Find,
        run: &Range<u32>,
        common: &Common,
        cursors: Cursors<'c>,
    ) -> Step<()> {
        let matched = Matched::new(cursors);
        self.streams.clear();
        for (word, term) in self.cursors.words.iter().enumerate() {
            let members = if self.cursors.most_times()[word] > 0 { &term.group.members[..] } else { &[] };
            let in_frequencies = members.len() > 1 || !matched.is_even(word);
            let stream = |member| Stream::new(self.cursors, common, word, member, in_frequencies);
            self.streams.extend(members.iter().map(stream));
        }
        (self.matched, self.exact) = (Some(matched), true);
        self.every(hand, find, run).map(|_| ())
    }
}
