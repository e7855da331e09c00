//! How often words count in the records of a window, where that depends on which phrases a record matches.

use super::cursors::Cursors;
use super::matching::PhraseBits;
use super::sums::RUN;
use crate::bits::each_in;
use std::ops::Range;

/// How often words count in the records of the window at hand.
pub(super) struct Matched {
    phrases: PhraseBits,
    window: Range<u32>,
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

impl Matched {
    pub fn new(cursors: &Cursors<'_>, phrases: PhraseBits) -> Self {
        let mut times = vec![Times::default(); cursors.words.len()];
        for (place, leaf) in cursors.plan.leaves.iter().enumerate().filter(|(_, leaf)| leaf.times > 0) {
            let number = phrases.iter().position(|(leaf, _)| *leaf == place);
            for &word in &leaf.words {
                match number {
                    Some(number) => times[word].with.push((number, leaf.times)),
                    None => times[word].always += leaf.times,
                }
            }
        }
        Self { phrases, window: 0..0, times, of_records: Vec::new() }
    }

    /// Goes on to a window.
    pub fn go_to(&mut self, window: Range<u32>) {
        self.window = window;
    }

    /// Whether a word counts as often in all records that have it.
    pub fn is_even(&self, word: usize) -> bool {
        self.times[word].with.is_empty()
    }

    /// How often a word counts in each record of the window; none if it counts in no record.
    pub fn times(&mut self, word: usize) -> Option<&[f32]> {
        let Times { always, with } = &self.times[word];
        let (start, mut is_nowhere) = (self.window.start, *always == 0);
        self.of_records.clear();
        self.of_records.resize(self.window.len().next_multiple_of(RUN), *always as f32);
        for (number, times) in with {
            let words = self.phrases[*number].1.words_of(&self.window).iter().copied();
            each_in(words, &self.window, |ordinal| {
                self.of_records[(ordinal - start) as usize] += *times as f32;
                is_nowhere = false;
            });
        }
        (!is_nowhere).then_some(&self.of_records)
    }
}
