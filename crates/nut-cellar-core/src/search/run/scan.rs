//! What the strategies have in common that go through the posting lists of words: which records count, and what they score.
//!
//! Where bounds together do not reach the score that has to be beaten, a window of records is passed over without a look at its postings
//! (S. Ding, T. Suel, "Faster Top-k Document Retrieval Using Block-Max Indexes", 2011; in windows: K. Chakrabarti, S. Chaudhuri, V. Ganti,
//! "Interval-based pruning for top-k processing over compressed lists", 2011). The words with the least bounds, as long as theirs together
//! do not reach it, can bring no record to the front alone (`MaxScore`: H. Turtle, J. Flood, "Query evaluation: strategies and
//! optimizations", 1995). What the postings of the others add is added up; only records that can reach the front are looked for in the
//! lists of the rest, and looked at for whether they match.
//!
//! What always holds: records come in ascending order, so one whose score equals that of the last of the best k comes after it, and is
//! passed over.

use super::cursors::Cursors;
use super::list::{List, Scale};
use super::matched::Matched;
use super::matching::Allowed;
use super::top::{Scored, Top};
use crate::search::find::Find;
use crate::search::plan::Node;
use crate::shelf::{Held, Step, if_held};
use std::ops::Range;

/// Between two questions whether to stop so many windows are looked at.
pub(super) const BETWEEN_STOPS: u32 = 64;

/// A word that scores, with its lists.
pub(super) struct Word {
    pub scale: Scale,
    pub lists: Range<usize>,
    /// What it adds in the window at hand at most.
    pub bound: f32,
}

impl Word {
    /// Whether what its lists bring is tf~, which makes a part of a score when it is added up.
    pub fn adds_up(&self) -> bool {
        self.lists.len() != 1
    }
}

/// A sum of what words add to a score.
#[derive(Clone, Copy)]
pub(super) enum Sum {
    /// The score itself.
    Exact(f32),
    /// The score but for rounding, or more.
    Rough,
}

/// Words that are gone through by their lists.
pub(super) struct Scan<'w, 'c> {
    pub find: &'w Find,
    pub cursors: &'w mut Cursors<'c>,
    /// In query order, in which scores add up.
    pub words: Vec<Word>,
    pub lists: Vec<List>,
    pub top: &'w mut Top,
    /// What a record has to match besides, if it is more than to have one of the words, or all of them; and the set that it has
    /// to be in.
    pub root: Option<Node>,
    pub allowed: Option<Allowed<'c>>,
    /// Whether the words that a record has decide its score; then their parts in query order are the score.
    pub exact: bool,
    /// Whether every record that matches has a word that scores, and whether each word counts in full in every record that has it and matches.
    pub words_tell_all: bool,
    pub words_count_in_full: bool,
    /// Postings that were scored.
    pub scored: u64,
    /// Which records of the window match what scores, if that is found out for all of them.
    pub matched: Option<Matched>,
    /// How many records were scored one by one though they may not have come to the front, and how many of them are enough.
    pub rough: u64,
    pub most_rough: u64,
}

impl<'w, 'c> Scan<'w, 'c> {
    /// Of records that match `root`, or of those of a set; of those that have all of the words, if `all_are_needed`.
    pub fn new(
        cursors: &'w mut Cursors<'c>,
        (root, matches, all_are_needed): (&Node, Option<Allowed<'c>>, bool),
        find: &'w Find,
        top: &'w mut Top,
        most_rough: u64,
    ) -> Self {
        let (exact, words_tell_all) = (cursors.words_decide(root), cursors.words_tell_all(root));
        let words_count_in_full = exact || cursors.any_word_will_do(root);
        let records = u64::from(cursors.standing.shelf.records());
        let (allowed, root) = if matches.is_some() {
            (matches, None)
        } else {
            let (set, root) = cursors.sift(root);
            (set.map(|set| Allowed::known(set, records)), root)
        };
        let mut scan = Self {
            find,
            words: Vec::new(),
            lists: Vec::new(),
            top,
            root: if all_are_needed {
                root.and_then(|root| cursors.required(&root)?.1)
            } else {
                root.filter(|root| !cursors.any_word_will_do(root))
            },
            allowed,
            exact,
            words_tell_all,
            words_count_in_full,
            cursors,
            scored: 0,
            matched: None,
            rough: 0,
            most_rough,
        };
        scan.open_lists();
        scan
    }

    /// Opens the lists of the words that score, before their first postings.
    pub fn open_lists(&mut self) {
        self.words.clear();
        self.lists.clear();
        for (word, term) in self.cursors.words.iter().enumerate() {
            let (start, terms) = (self.lists.len(), &term.cursor.terms);
            if self.cursors.most_times[word] > 0 && !terms.is_empty() {
                let is_even = self.matched.as_ref().is_none_or(|matched| matched.is_even(word));
                let is_alone = terms.len() == 1 && is_even;
                self.lists.extend(terms.iter().map(|term| List::new(self.cursors, word, term, is_alone)));
                let (scale, lists) = (Scale::of(self.cursors, word), start..self.lists.len());
                self.words.push(Word { scale, lists, bound: f32::INFINITY });
            }
        }
    }

    /// Begins all lists at a record.
    pub fn begin(&mut self, ordinal: u32) -> Step<()> {
        self.lists.iter_mut().try_for_each(|list| list.begin(ordinal))?;
        Ok(())
    }

    /// Goes on to a record: the bounds of words are those of the blocks that begin there or later. Gives the last record up to which they
    /// hold, and what they add together at most.
    pub fn go_to(&mut self, held: &mut Held, ordinal: u32) -> Step<(u32, f32)> {
        let (mut last, mut total) = (u32::MAX, 0.0);
        for word in &mut self.words {
            let mut bound = 0.0;
            for list in &mut self.lists[word.lists.clone()] {
                list.go_to(ordinal)?;
                last = last.min(list.last);
                bound += list.bound(held, &mut self.cursors.scorer)?;
            }
            word.bound = if word.adds_up() { word.scale.part(bound) } else { bound };
            total += word.bound;
        }
        Ok((last, total))
    }

    /// A sum as a bound of scores: itself, if it is one.
    pub fn with_slack(&self, sum: f32) -> f32 {
        if self.exact { sum } else { self.cursors.with_slack(sum) }
    }

    /// Whether a sum and what others add at most may beat a threshold.
    pub fn can_reach(&self, sum: f32, rest: f32, threshold: f32) -> bool {
        if rest > 0.0 {
            self.cursors.with_slack(sum + rest) > threshold
        } else {
            self.with_slack(sum) > threshold
        }
    }

    /// A sum above which every one is that [can reach](Self::can_reach) the score that has to be beaten; below 0 if all can.
    pub fn least_sum(&self, rest: f32) -> f32 {
        let threshold = self.top.threshold();
        if threshold < 0.0 || (self.exact && rest <= 0.0) {
            return threshold;
        }
        let slack = self.cursors.with_slack(1.0) - self.cursors.with_slack(0.0);
        let sum = (threshold - self.cursors.with_slack(0.0)) / slack - rest;
        sum - 8.0 * f32::EPSILON * threshold
    }

    /// The set that records have to be in, if it is known.
    pub fn sieve(&self) -> Option<&Allowed<'c>> {
        self.allowed.as_ref().filter(|allowed| allowed.is_known())
    }

    /// Whether a record is live, and in the set that it has to be in. Records ascend.
    pub fn passes(&mut self, held: &mut Held, ordinal: u32) -> Step<bool> {
        if let Some(allowed) = &mut self.allowed {
            allowed.look_at(held, &(ordinal..ordinal.saturating_add(1)))?;
            if !allowed.has(ordinal) {
                return Ok(false);
            }
        }
        Ok(!self.cursors.standing.removed(ordinal))
    }

    /// Whether a record matches that has the words.
    pub fn matches(&mut self, held: &mut Held, ordinal: u32) -> Step<bool> {
        if !self.passes(held, ordinal)? {
            return Ok(false);
        }
        match &self.root {
            Some(root) => self.cursors.matches(held, root, ordinal),
            None => Ok(true),
        }
    }

    /// Offers a record if it matches.
    pub fn offer(&mut self, held: &mut Held, ordinal: u32, sum: Sum) -> Step<()> {
        if !self.matches(held, ordinal)? {
            return Ok(());
        }
        let score = match sum {
            Sum::Exact(sum) => Ok(sum),
            Sum::Rough => {
                self.rough += 1;
                self.cursors.score(held, ordinal)
            }
        };
        if let Some(score) = if_held(score)? {
            self.top.offer(Scored::by_score(score, ordinal));
        }
        Ok(())
    }

    /// Offers a record with a sum that is its score, or the score but for rounding.
    pub fn offer_sum(&mut self, held: &mut Held, ordinal: u32, sum: f32) -> Step<()> {
        if self.with_slack(sum) > self.top.threshold() {
            let sum = if self.exact { Sum::Exact(sum) } else { Sum::Rough };
            self.offer(held, ordinal, sum)?;
        }
        Ok(())
    }

    /// What a word adds to the score of a record; none if the record does not have it. Records ascend.
    pub fn part_of(&mut self, held: &mut Held, word: usize, ordinal: u32) -> Step<Option<f32>> {
        let Word { scale, lists, .. } = &self.words[word];
        let (mut sum, mut has) = (0.0, false);
        for list in &mut self.lists[lists.clone()] {
            if let Some(value) = list.value_from(held, &mut self.cursors.scorer, ordinal)? {
                (sum, has) = (sum + value, true);
                self.scored += 1;
            }
        }
        let sum = if self.words[word].adds_up() { scale.part(sum) } else { sum };
        Ok(has.then_some(sum))
    }

    /// The score of a record, where the words that it has decide it; none as soon as it can't beat a threshold. Records ascend.
    pub fn score_of(&mut self, held: &mut Held, ordinal: u32, threshold: f32) -> Step<Option<f32>> {
        let mut sum = 0.0;
        for word in 0..self.words.len() {
            let Some(part) = self.part_of(held, word, ordinal)? else { continue };
            sum += part;
            // Added up anew: what is left of a difference may be less than a small bound.
            let rest = self.words[word + 1..].iter().fold(0.0, |sum, word| sum + word.bound);
            if !self.can_reach(sum, rest, threshold) {
                return Ok(None);
            }
        }
        Ok(Some(sum))
    }
}
