//! Terms that an automaton accepts: a walk through the dictionary that looks at little else.
//!
//! What every such term begins with says where the walk begins and ends; what runs of letters it has says which groups of terms
//! may have one (see `grams`); and from a beginning that the automaton rules out, the walk goes on behind all terms that
//! begin so, by way of the index.

use super::directory::Section;
use super::grams::{END, GROUP};
use super::hand::{Hand, Step, if_at_hand};
use super::reader::Shelf;
use super::sorted::{SortedIndex, first_entry};
use super::terms::{PER_BLOCK, TermEntry, TermPart, parts};
use crate::text::Automaton;
use crate::wire::Broken;
use std::collections::BTreeSet;
use std::ops::Range;
use std::sync::Arc;

/// The terms that were found, and how many were looked at.
#[derive(Debug, Default)]
pub(crate) struct Liked {
    /// In order.
    pub terms: Vec<(String, TermEntry)>,
    /// At how many terms the automaton looked.
    pub visited: u64,
}

/// How much walks may do yet, in terms that are looked at.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Effort {
    left: u64,
    spent: bool,
}

/// To go on to the next block costs about as much as looking at so many terms; so does taking a term that was found, with
/// so many of its postings for each more.
const TO_THE_NEXT_BLOCK: u64 = 4;
const TO_TAKE: u64 = 4;
const POSTINGS: u64 = 32;

impl Effort {
    /// For so many terms.
    pub fn of(terms: u64) -> Self {
        Self { left: terms, spent: false }
    }

    /// Whether there was too little for a walk to come to its end.
    pub fn is_spent(&self) -> bool {
        self.spent
    }

    /// Takes so much of it; tells whether there was as much.
    fn spend(&mut self, terms: u64) -> bool {
        self.spent |= self.left < terms;
        self.left = self.left.saturating_sub(terms);
        !self.spent
    }
}

/// With fewer groups than these to look at there is no use in fewer.
const FEW_GROUPS: usize = 2 * PER_BLOCK / GROUP;

impl Shelf {
    /// The first `most` terms that `automaton` accepts, and at most one more, which tells that there are more.
    pub(crate) fn terms_like<A: Automaton>(
        self: &Arc<Self>,
        hand: &mut Hand,
        automaton: &A,
        most: usize,
    ) -> Step<Liked> {
        let mut terms = Vec::new();
        let mut endless = Effort::of(u64::MAX);
        let visited = self.each_like(hand, automaton, &mut endless, |_, term, entry| {
            terms.push((term.to_owned(), entry));
            Ok(terms.len() <= most)
        })?;
        Ok(Liked { terms, visited })
    }

    /// Gives `take` the terms that `automaton` accepts, in order, for as long as it says to go on and the effort allows; tells at how
    /// many terms the automaton looked. Where something is not at hand, what lies behind it is given all the same, and the step fails.
    pub(crate) fn each_like<A: Automaton>(
        self: &Arc<Self>,
        hand: &mut Hand,
        automaton: &A,
        effort: &mut Effort,
        mut take: impl FnMut(&mut Hand, &str, TermEntry) -> Step<bool>,
    ) -> Step<u64> {
        let index = self.index_of(hand, Section::Terms)?;
        let beginning = automaton.beginning().as_bytes();
        let Some(first) = self.locate(Section::Terms, &index, beginning)? else {
            return Ok(0);
        };
        let end = match after(beginning) {
            Some(after) => self.locate(Section::Terms, &index, &after)?.map_or(first, |last| last + 1),
            None => index.blocks(),
        };
        let groups = self.groups_of(hand, automaton, first * PER_BLOCK / GROUP..end * PER_BLOCK / GROUP)?;
        let mut look = Look {
            automaton,
            states: vec![(0, automaton.start())],
            dead: None,
            last: Vec::new(),
            needle: needle(automaton),
            visited: 0,
            effort,
            goes_on: true,
            take: &mut take,
        };
        let mut block = first;
        while block < end && look.goes_on && look.effort.spend(TO_THE_NEXT_BLOCK) {
            let wanted =
                |group: usize| groups.as_ref().is_none_or(|groups| groups.binary_search(&group).is_ok());
            if let Some(groups) = &groups {
                // The next block that has one of the groups.
                let next = groups.partition_point(|group| *group < block * PER_BLOCK / GROUP);
                block = groups.get(next).map_or(end, |group| group * GROUP / PER_BLOCK);
                if block >= end {
                    break;
                }
            }
            let begins = index.beginning_of(block).map_err(|what| self.broken(Section::TermIndex, what))?;
            if let Some(dead) = begins.and_then(|begins| ruled_out(automaton, &begins.concat())) {
                look.dead = Some(dead.len());
                look.last = dead;
                block = look.next_block(self, &index, block)?;
                continue;
            }
            let Some(bytes) = if_at_hand(self.block_of(hand, Section::Terms, &index, block))? else {
                // So that no more is asked for than may be looked at.
                look.effort.spend(PER_BLOCK as u64);
                block += 1;
                continue;
            };
            let looked = look.at(self, hand, &bytes, |group| wanted(block * PER_BLOCK / GROUP + group));
            looked?.map_err(|what| self.broken(Section::Terms, what))?;
            block = look.next_block(self, &index, block)?;
        }
        hand.complete()?;
        Ok(look.visited)
    }

    /// The groups that may have a term which the automaton accepts; none if all of these may.
    fn groups_of<A: Automaton>(
        self: &Arc<Self>,
        hand: &mut Hand,
        automaton: &A,
        all: Range<usize>,
    ) -> Step<Option<Vec<usize>>> {
        // A shelf that is soon thrown away does not say which groups have which letters.
        if all.len() <= FEW_GROUPS || self.section(Section::Grams).is_empty() {
            return Ok(None);
        }
        let mut either = BTreeSet::new();
        let sets = automaton.runs();
        // Nearly all groups have a term with whatever character.
        if sets.iter().any(|runs| runs.iter().all(|run| run.chars().nth(1).is_none())) {
            return Ok(None);
        }
        for runs in &sets {
            let mut groups: Option<Vec<usize>> = None;
            for part in threes(runs) {
                let Some(found) = if_at_hand(self.groups_with(hand, &part))? else { continue };
                let found = found.into_iter().map(|group| group as usize).filter(|group| all.contains(group));
                groups = Some(match groups {
                    None => found.collect(),
                    Some(known) => {
                        let found: Vec<_> = found.collect();
                        known.into_iter().filter(|group| found.binary_search(group).is_ok()).collect()
                    }
                });
            }
            either.extend(groups.unwrap_or_default());
        }
        hand.complete()?;
        Ok((!sets.is_empty()).then(|| either.into_iter().collect()))
    }
}

/// What runs of characters are looked up by: threes where there are any, for pairs and single characters stand in many
/// more groups.
fn threes(runs: &[String]) -> Vec<String> {
    let all: Vec<Vec<char>> = runs.iter().map(|run| run.chars().collect()).collect();
    let longest = all.iter().map(Vec::len).max().unwrap_or(0).min(3);
    let long = all.iter().filter(|run| run.len() >= longest && longest > 0);
    long.flat_map(|run| run.windows(longest).map(|part| part.iter().collect())).collect()
}

/// The least bytes that are greater than all that begin with `beginning`; none if there are none.
fn after(beginning: &[u8]) -> Option<Vec<u8>> {
    let place = beginning.iter().rposition(|byte| *byte < u8::MAX)?;
    let mut after = beginning[..=place].to_vec();
    after[place] += 1;
    Some(after)
}

/// The shortest beginning of these bytes that no word has which is looked for, if there is one.
fn ruled_out<A: Automaton>(automaton: &A, beginning: &[u8]) -> Option<Vec<u8>> {
    // The last character may be cut.
    let whole = beginning.utf8_chunks().next().map_or("", |chunk| chunk.valid());
    let mut state = automaton.start();
    for (at, next) in whole.char_indices() {
        match automaton.step(&state, next) {
            Some(after) => state = after,
            None => return Some(whole.as_bytes()[..at + next.len_utf8()].to_vec()),
        }
    }
    None
}

/// A run of several bytes that every word has which is looked for, if one is known, and whether it is at its end. Where words have a
/// beginning in common, the automaton itself rules out most others, and all that begin as they do.
fn needle<A: Automaton>(automaton: &A) -> Option<(Vec<u8>, bool)> {
    if !automaton.beginning().is_empty() {
        return None;
    }
    let sets = automaton.runs();
    let [runs] = sets.as_slice() else { return None };
    let longest = runs.iter().max_by_key(|run| run.len()).filter(|run| run.len() > 1)?;
    let run = longest.strip_suffix(END);
    Some((run.unwrap_or(longest).as_bytes().to_vec(), run.is_some()))
}

struct Look<'a, A: Automaton> {
    automaton: &'a A,
    /// What is known after each character of the entry, with the bytes so far: of beginnings that are not ruled out.
    states: Vec<(usize, A::State)>,
    /// How many bytes of the entry that was looked at last are ruled out as a beginning, and that entry.
    dead: Option<usize>,
    last: Vec<u8>,
    /// What every word has which is looked for, and whether at its end.
    needle: Option<(Vec<u8>, bool)>,
    visited: u64,
    effort: &'a mut Effort,
    /// Whether more terms are wanted.
    goes_on: bool,
    take: &'a mut dyn FnMut(&mut Hand, &str, TermEntry) -> Step<bool>,
}

impl<A: Automaton> Look<'_, A> {
    /// Looks at those groups of terms of a block that are wanted, by their places in it.
    fn at(
        &mut self,
        shelf: &Shelf,
        hand: &mut Hand,
        block: &[u8],
        wanted: impl Fn(usize) -> bool,
    ) -> Step<Result<(), Broken>> {
        let mut failed = Ok(());
        let looked = self.look_at(shelf, hand, block, wanted, &mut failed);
        failed.map(|()| looked)
    }

    /// The same; what `take` fails with is put into `failed`.
    fn look_at(
        &mut self,
        shelf: &Shelf,
        hand: &mut Hand,
        block: &[u8],
        wanted: impl Fn(usize) -> bool,
        failed: &mut Step<()>,
    ) -> Result<(), Broken> {
        let (parts, count) = parts(shelf.version(), block)?;
        for number in 0..count {
            // A part that is alone may have several groups.
            if count > 1 && !wanted(number) {
                continue;
            }
            if number + 1 < count {
                // All of its terms lie between two that are told.
                let (first, next) = (first_entry(parts[number].0)?, first_entry(parts[number + 1].0)?);
                let shared = first.iter().zip(next).take_while(|(a, b)| a == b).count();
                if ruled_out(self.automaton, &first[..shared]).is_some() {
                    continue;
                }
            }
            let mut part = TermPart::new(shelf.columns(), parts[number]);
            let all = |_: usize| true;
            let some = |place: usize| wanted(place / GROUP);
            self.look_through(hand, &mut part, if count > 1 { &all } else { &some }, failed)?;
            if !self.goes_on || self.effort.is_spent() {
                break;
            }
        }
        Ok(())
    }

    fn look_through(
        &mut self,
        hand: &mut Hand,
        part: &mut TermPart<'_>,
        wanted: &dyn Fn(usize) -> bool,
        failed: &mut Step<()>,
    ) -> Result<(), Broken> {
        self.states.truncate(1);
        self.dead = None;
        while self.goes_on {
            let goes_on = match self.dead {
                Some(dead) => part.advance_past(dead)?,
                None => part.advance()?,
            };
            if !goes_on || !self.effort.spend(self.automaton.effort()) {
                break;
            }
            self.dead = None;
            let (term, shared) = part.term();
            while self.states.len() > 1 && self.states.last().is_some_and(|(bytes, _)| *bytes > shared) {
                self.states.pop();
            }
            if !wanted(part.place()) {
                continue;
            }
            self.visited += 1;
            let has_needle = self.needle.as_ref().is_none_or(|(needle, at_end)| match at_end {
                true => term.ends_with(needle),
                false => term.windows(needle.len()).any(|run| run == needle),
            });
            if !has_needle || !self.accepts(term)? {
                continue;
            }
            let entry = part.entry()?;
            if !self.effort.spend(TO_TAKE + u64::from(entry.records) / POSTINGS) {
                break;
            }
            let term = str::from_utf8(part.term().0).map_err(|_| Broken("a term"))?;
            match (self.take)(hand, term, entry) {
                Ok(goes_on) => self.goes_on = goes_on,
                Err(error) => {
                    self.goes_on = false;
                    *failed = Err(error);
                }
            }
        }
        Ok(())
    }

    /// Reads an entry from where it parts from the one that was read before, and tells whether it is looked for.
    fn accepts(&mut self, term: &[u8]) -> Result<bool, Broken> {
        let Some((known, state)) = self.states.last() else { return Ok(false) };
        // What begins like this is looked for, whatever follows.
        if self.automaton.accepts_all(state) {
            return Ok(true);
        }
        let known = *known;
        let rest = str::from_utf8(term.get(known..).unwrap_or_default()).map_err(|_| Broken("a term"))?;
        for (at, next) in rest.char_indices() {
            let end = known + at + next.len_utf8();
            let Some((_, state)) = self.states.last() else { break };
            let Some(state) = self.automaton.step(state, next) else {
                self.dead = Some(end);
                self.last.clear();
                self.last.extend_from_slice(&term[..end]);
                return Ok(false);
            };
            let all = self.automaton.accepts_all(&state);
            self.states.push((end, state));
            if all {
                return Ok(true);
            }
        }
        Ok(self.states.last().is_some_and(|(_, state)| self.automaton.accepts(state)))
    }

    /// The next block that may have a term, after one that was looked at.
    fn next_block(&self, shelf: &Arc<Shelf>, index: &SortedIndex, block: usize) -> Step<usize> {
        let ahead = match self.dead.and_then(|dead| after(self.last.get(..dead)?)) {
            Some(after) => shelf.locate(Section::Terms, index, &after)?.unwrap_or(block),
            None => block,
        };
        Ok(ahead.max(block + 1))
    }
}
