//! Words of phrases and windows count only in records that match these. Where what words add at most lets too many records through, it is
//! found out window by window which records match what scores; then sums are scores.

use super::sums::LINE;
use super::{MOST, Windows};
use crate::bits::{Bits, each_in};
use crate::search::cursors::{Cursors, LeafCursor};
use crate::search::find::Find;
use crate::search::stream::{Common, Stream};
use crate::shelf::{Hand, Step, if_at_hand};
use std::ops::Range;

/// The leaves of a plan that score and are more than a word, with the records of a run that match them.
pub(in crate::search) type RowBits = Vec<(usize, Bits)>;

/// How often words count in the records of the window at hand.
pub(super) struct Matched {
    rows: RowBits,
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
    fn new(cursors: &Cursors<'_>, rows: RowBits) -> Self {
        let mut times = vec![Times::default(); cursors.words.len()];
        for (place, leaf) in cursors.plan.leaves.iter().enumerate().filter(|(_, leaf)| leaf.times > 0) {
            let number = rows.iter().position(|(row, _)| *row == place);
            for &word in &leaf.words {
                match number {
                    Some(number) => times[word].with.push((number, leaf.times)),
                    None => times[word].always += leaf.times,
                }
            }
        }
        Self { rows, window: 0..0, times, of_records: Vec::new() }
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
        self.of_records.resize(self.window.len().next_multiple_of(LINE), *always as f32);
        for (number, times) in with {
            let words = self.rows[*number].1.words_of(&self.window).iter().copied();
            each_in(words, &self.window, |ordinal| {
                self.of_records[(ordinal - start) as usize] += *times as f32;
                is_nowhere = false;
            });
        }
        (!is_nowhere).then_some(&self.of_records)
    }
}

impl Cursors<'_> {
    /// The leaves that score and are more than a word, of which no record is known yet. What matches them is found once in each window,
    /// wherever they stand.
    pub(in crate::search) fn scoring_rows(&mut self) -> RowBits {
        let mut rows = RowBits::new();
        for (place, leaf) in self.plan.leaves.iter().enumerate() {
            if leaf.times > 0 && matches!(self.leaves[place], LeafCursor::Rows(_)) {
                self.places[place] += 1;
                rows.push((place, Bits::new(self.standing.shelf.records() as usize)));
            }
        }
        rows
    }

    /// Adds the records of a window that match these leaves; windows ascend.
    pub(in crate::search) fn fill_rows(
        &mut self,
        hand: &mut Hand,
        window: &Range<u32>,
        rows: &mut RowBits,
    ) -> Step<()> {
        for (leaf, records) in rows {
            if_at_hand(self.fill_again(hand, *leaf, window))?;
            self.filled[*leaf].1.iter().for_each(|place| records.set(window.start as usize + place));
        }
        Ok(())
    }
}

impl<'c> Windows<'_, 'c> {
    /// Whether so many records were scored one by one that scoring every posting takes less for those that are left.
    pub(super) fn is_dear(&self) -> bool {
        self.rough > self.most_rough
    }

    /// Scores every posting of a run, and what it scores in phrases and windows: `rows` if they are known, or what `open` looks for.
    pub(super) fn exactly(
        &mut self,
        hand: &mut Hand,
        find: &Find,
        run: &Range<u32>,
        common: &Common,
        rows: Option<RowBits>,
        open: &mut dyn FnMut(&mut Hand) -> Step<Cursors<'c>>,
    ) -> Step<()> {
        let rows = if let Some(rows) = rows {
            rows
        } else {
            let mut cursors = open(hand)?;
            all_rows(hand, find, run, &mut cursors)?
        };
        let matched = Matched::new(self.cursors, rows);
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

fn all_rows(hand: &mut Hand, find: &Find, run: &Range<u32>, cursors: &mut Cursors<'_>) -> Step<RowBits> {
    let mut rows = cursors.scoring_rows();
    for start in run.clone().step_by(MOST as usize) {
        find.go_on()?;
        cursors.fill_rows(hand, &(start..start.saturating_add(MOST).min(run.end)), &mut rows)?;
    }
    hand.complete()?;
    Ok(rows)
}
