//! Terms that an automaton accepts: a walk through the dictionary that looks at little else.
//!
//! What every such term begins with says where the walk begins and ends; what runs of letters it has says which groups of terms
//! may have one (see `grams`); and from a beginning that the automaton rules out, the walk goes on at the least term that
//! it may accept behind that, by way of the index.

use crate::bits::Bits;
use crate::shelf::format::directory::Section;
use crate::shelf::format::entries::common;
use crate::shelf::format::grams::{END, GROUP};
use crate::shelf::format::sorted::{PartBytes, SortedIndex, first_entry, parts_of};
use crate::shelf::format::terms::{
    ClassEntry, Listed, PER_BLOCK, TermEntry, TermPart, name, part_with, read_name, text_of,
};
use crate::shelf::read::held::{Held, Step, if_held};
use crate::shelf::read::reader::Shelf;
use crate::text::Automaton;
use crate::wire::Broken;
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

/// Groups in a block.
const IN_BLOCK: usize = PER_BLOCK / GROUP;
/// With no more blocks than these to look at there is no use in fewer.
const FEW_BLOCKS: usize = 2;

impl Shelf {
    /// The first `most` terms that `automaton` accepts, and at most one more, which tells that there are more.
    pub(crate) fn terms_like<A: Automaton>(
        self: &Arc<Self>,
        held: &mut Held,
        automaton: &A,
        most: usize,
    ) -> Step<Liked> {
        let mut terms = Vec::new();
        let mut endless = Effort::of(u64::MAX);
        let visited = self.each_like(held, automaton, &mut endless, |_, term, entry| {
            terms.push((term.to_owned(), entry));
            Ok(terms.len() <= most)
        })?;
        Ok(Liked { terms, visited })
    }

    /// Gives `take` the terms that `automaton` accepts, in order, each as often as it is one of another stemming, for as long as it says to go on and the effort allows; tells at how
    /// many terms the automaton looked. Where something is not at hand, what lies behind it is given all the same, and the step fails.
    pub(crate) fn each_like<A: Automaton>(
        self: &Arc<Self>,
        held: &mut Held,
        automaton: &A,
        effort: &mut Effort,
        mut take: impl FnMut(&mut Held, &str, TermEntry) -> Step<bool>,
    ) -> Step<u64> {
        let index = self.index_of(held, Section::Terms)?;
        let beginning = automaton.beginning().as_bytes();
        let Some(first) = self.locate(Section::Terms, &index, beginning)? else {
            return Ok(0);
        };
        let end = match after(beginning) {
            Some(after) => self.locate(Section::Terms, &index, &after)?.map_or(first, |last| last + 1),
            None => index.blocks(),
        };
        let groups = self.groups_of(held, automaton, end - first)?;
        let mut look = Look {
            automaton,
            read: String::new(),
            states: vec![(0, automaton.start())],
            is_dead: false,
            target: beginning.to_vec(),
            is_ahead: true,
            needle: needle(automaton),
            visited: 0,
            effort,
            goes_on: true,
            class: None,
            take: &mut take,
        };
        let mut block = first;
        while block < end && look.goes_on && look.effort.spend(TO_THE_NEXT_BLOCK) {
            if let Some(groups) = &groups {
                // The next block that has one of the groups.
                block = groups.next(block * IN_BLOCK).map_or(end, |group| group / IN_BLOCK);
                if block >= end {
                    break;
                }
            }
            let ruled_out = look.rules_out_block(&index, block);
            if ruled_out.map_err(|what| self.broken(Section::TermIndex, what))? {
                block = look.next_block(self, &index, block)?;
                continue;
            }
            let Some(bytes) = if_held(self.block_of(held, Section::Terms, &index, block))? else {
                // So that no more is asked for than may be looked at.
                look.effort.spend(PER_BLOCK as u64);
                block += 1;
                continue;
            };
            let wanted =
                |group: usize| groups.as_ref().is_none_or(|groups| groups.has(block * IN_BLOCK + group));
            let looked = look.at(self, held, &bytes, wanted);
            looked?.map_err(|what| self.broken(Section::Terms, what))?;
            block = look.next_block(self, &index, block)?;
        }
        held.complete()?;
        Ok(look.visited)
    }

    /// The groups that may have a term which the automaton accepts; none if all of these may.
    fn groups_of<A: Automaton>(
        self: &Arc<Self>,
        held: &mut Held,
        automaton: &A,
        blocks: usize,
    ) -> Step<Option<Bits>> {
        // A shelf that is soon thrown away does not say which groups have which letters.
        if blocks <= FEW_BLOCKS || self.section(Section::Grams).is_empty() {
            return Ok(None);
        }
        let sets = automaton.runs();
        // Nearly all groups have a term with whatever character.
        if sets.iter().any(|runs| runs.iter().all(|run| run.chars().nth(1).is_none())) {
            return Ok(None);
        }
        let mut either: Option<Bits> = None;
        for runs in &sets {
            let mut groups: Option<Bits> = None;
            for part in threes(runs) {
                let Some(found) = if_held(self.groups_with(held, &part))? else { continue };
                match &mut groups {
                    None => groups = Some(found),
                    Some(known) => known.keep(&found),
                }
            }
            match (&mut either, groups) {
                (Some(known), Some(groups)) => known.add(&groups),
                (known, groups) => *known = known.take().or(groups),
            }
        }
        held.complete()?;
        Ok(either)
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
    /// What was read last: as much of an entry as was needed. What comes next is read from where it parts from this.
    read: String,
    /// What is known before its first character and after each, with the bytes so far: of beginnings that are not ruled out.
    states: Vec<(usize, A::State)>,
    /// Whether no term that begins so is looked for; no shorter beginning says so.
    is_dead: bool,
    /// No lesser term is looked for, of those that come yet.
    target: Vec<u8>,
    /// Whether the walk has not come to it.
    is_ahead: bool,
    /// What every word has which is looked for, and whether at its end.
    needle: Option<(Vec<u8>, bool)>,
    visited: u64,
    effort: &'a mut Effort,
    /// Whether more terms are wanted.
    goes_on: bool,
    /// The class that a term led to last, by its name: the next is often one of its forms.
    class: Option<(Vec<u8>, ClassEntry)>,
    take: &'a mut dyn FnMut(&mut Held, &str, TermEntry) -> Step<bool>,
}

impl<A: Automaton> Look<'_, A> {
    /// Looks at those groups of terms of a block that are wanted, by their places in it.
    fn at(
        &mut self,
        shelf: &Arc<Shelf>,
        held: &mut Held,
        block: &[u8],
        wanted: impl Fn(usize) -> bool,
    ) -> Step<Result<(), Broken>> {
        let mut failed = Ok(());
        let looked = self.look_at(shelf, held, block, wanted, &mut failed);
        failed.map(|()| looked)
    }

    /// The same; what `take` fails with is put into `failed`.
    fn look_at(
        &mut self,
        shelf: &Arc<Shelf>,
        held: &mut Held,
        block: &[u8],
        wanted: impl Fn(usize) -> bool,
        failed: &mut Step<()>,
    ) -> Result<(), Broken> {
        let (parts, count) = parts_of(block)?;
        let parts = &parts[..count];
        let mut number = 0;
        while number < count && self.goes_on && !self.effort.is_spent() {
            if self.is_ahead {
                number = part_with(parts, number, &self.target)?;
            }
            if wanted(number) && !self.rules_out_part(number, parts)? {
                let mut part = TermPart::new(shelf.columns(), parts[number]);
                self.look_through(shelf, held, &mut part, failed)?;
            }
            number += 1;
        }
        Ok(())
    }

    /// Whether all terms of a block are ruled out by what they begin with, as far as the index tells.
    fn rules_out_block(&mut self, index: &SortedIndex, block: usize) -> Result<bool, Broken> {
        // A needle rules out more.
        if self.needle.is_some() {
            return Ok(false);
        }
        Ok(index.beginning_of(block)?.is_some_and(|begins| self.rules_out(&begins.concat())))
    }

    /// Whether all terms of a part, which lie between its first and the next one's, are ruled out by what both begin with.
    fn rules_out_part(&mut self, number: usize, parts: &[PartBytes<'_>]) -> Result<bool, Broken> {
        if self.needle.is_some() || number + 1 >= parts.len() {
            return Ok(false);
        }
        let (first, next) = (first_entry(parts[number].0)?, first_entry(parts[number + 1].0)?);
        Ok(self.rules_out(&first[..common(first, next)]))
    }

    fn look_through(
        &mut self,
        shelf: &Arc<Shelf>,
        held: &mut Held,
        part: &mut TermPart<'_>,
        failed: &mut Step<()>,
    ) -> Result<(), Broken> {
        let mut goes_on = part.advance()?;
        if goes_on && self.is_ahead && part.name() < self.target.as_slice() {
            goes_on = part.advance_over(&self.target)?;
        }
        while goes_on && self.goes_on && self.effort.spend(self.automaton.effort()) {
            self.is_ahead = false;
            let (term, _, is_class) = read_name(part.name())?;
            if !is_class {
                self.visited += 1;
                if self.has_needle(term.as_bytes()) && self.accepts(term)? {
                    self.take(shelf, held, part, failed)?;
                }
            }
            goes_on = if self.is_ahead { part.advance_over(&self.target)? } else { part.advance()? };
        }
        Ok(())
    }

    fn has_needle(&self, term: &[u8]) -> bool {
        // Two bytes, or four, are compared at once, and with one branch that is foreseen.
        self.needle.as_ref().is_none_or(|(needle, at_end)| match (needle.len(), at_end) {
            (4.., true) => term.last_chunk::<4>() == needle.last_chunk() && term.ends_with(needle),
            (_, true) => term.ends_with(needle),
            (length, false) => {
                let same = |run: &[u8]| run.first_chunk::<2>() == needle.first_chunk() && run == needle;
                term.windows(length).any(same)
            }
        })
    }

    /// Gives a term to whoever wants it.
    fn take(
        &mut self,
        shelf: &Arc<Shelf>,
        held: &mut Held,
        part: &mut TermPart<'_>,
        failed: &mut Step<()>,
    ) -> Result<(), Broken> {
        let listed = part.listed()?;
        let (term, stemming, _) = read_name(part.name())?;
        let entry = match listed {
            Listed::Own(entry) => Ok(Some(entry)),
            Listed::Form(key) => self.form(shelf, held, term, &name(&key, stemming, true)),
            Listed::Class(_) => return Err(Broken("a term")),
        };
        let taken = entry.and_then(|entry| {
            // What is not at hand was noted.
            let Some(entry) = entry else { return Ok(true) };
            if !self.effort.spend(TO_TAKE + u64::from(entry.records) / POSTINGS) {
                return Ok(true);
            }
            (self.take)(held, term, entry)
        });
        match taken {
            Ok(goes_on) => self.goes_on = goes_on,
            Err(error) => {
                self.goes_on = false;
                *failed = Err(error);
            }
        }
        Ok(())
    }

    /// A term of a class; none if that is not at hand.
    fn form(
        &mut self,
        shelf: &Arc<Shelf>,
        held: &mut Held,
        term: &str,
        class: &[u8],
    ) -> Step<Option<TermEntry>> {
        if self.class.as_ref().is_none_or(|(known, _)| known != class) {
            let Some(found) = if_held(shelf.find_listed(held, class))? else { return Ok(None) };
            let Some(Listed::Class(found)) = found else {
                return Err(shelf.broken(Section::Terms, Broken("the class of a term")).into());
            };
            self.class = Some((class.to_vec(), found));
        }
        let entry = self.class.as_ref().and_then(|(_, class)| class.find(term));
        Ok(Some(entry.ok_or_else(|| shelf.broken(Section::Terms, Broken("the class of a term")))?))
    }

    /// Keeps of what was read as much as lies in its first bytes, of which something else has as many.
    fn keep(&mut self, shared: usize) {
        if self.is_dead && self.read.len() <= shared {
            return;
        }
        self.is_dead = false;
        while self.states.len() > 1 && self.states.last().is_some_and(|(bytes, _)| *bytes > shared) {
            self.states.pop();
        }
        self.read.truncate(self.states.last().map_or(0, |(bytes, _)| *bytes));
    }

    /// Reads what follows; not what is ruled out, nor where whatever follows is looked for.
    fn read(&mut self, rest: &str) {
        let known = self.read.len();
        let mut end = known;
        for next in rest.chars() {
            let Some((_, state)) = self.states.last().filter(|_| !self.is_dead) else { break };
            if self.automaton.accepts_all(state) {
                break;
            }
            end += next.len_utf8();
            match self.automaton.step(state, next) {
                Some(state) => self.states.push((end, state)),
                None => self.is_dead = true,
            }
        }
        self.read.push_str(&rest[..end - known]);
        if self.is_dead {
            self.go_on_behind();
        }
    }

    /// Notes where the walk goes on behind what was read, which is ruled out: with another character at its end, or, if none may stand
    /// there, in the place of one before.
    fn go_on_behind(&mut self) {
        self.is_ahead = true;
        let mut rest = self.read.as_str();
        for (bytes, state) in self.states.iter().rev() {
            let (before, passed) = rest.split_at(*bytes);
            let next = passed.chars().next().and_then(|passed| self.automaton.next(state, passed));
            if let Some(next) = next {
                self.target.clear();
                self.target.extend_from_slice(before.as_bytes());
                self.target.extend_from_slice(next.encode_utf8(&mut [0; 4]).as_bytes());
                return;
            }
            rest = before;
        }
        self.goes_on = false;
    }

    /// Whether no term that begins so is looked for.
    fn rules_out(&mut self, beginning: &[u8]) -> bool {
        // What tells names of one term apart is none of it.
        let beginning = text_of(beginning);
        self.keep(common(self.read.as_bytes(), beginning));
        if !self.is_dead {
            // The last character may be cut.
            let rest = beginning.get(self.read.len()..).and_then(|rest| rest.utf8_chunks().next());
            self.read(rest.map_or("", |chunk| chunk.valid()));
        }
        self.is_dead
    }

    /// Whether a term is looked for.
    fn accepts(&mut self, term: &str) -> Result<bool, Broken> {
        self.keep(common(self.read.as_bytes(), term.as_bytes()));
        if !self.is_dead {
            self.read(term.get(self.read.len()..).ok_or(Broken("a term"))?);
        }
        let last = self.states.last().filter(|_| !self.is_dead);
        // Unless whatever follows is looked for, all of it was read.
        Ok(last.is_some_and(|(_, state)| self.automaton.accepts_all(state) || self.automaton.accepts(state)))
    }

    /// The next block that may have a term, after one that was looked at.
    fn next_block(&self, shelf: &Arc<Shelf>, index: &SortedIndex, block: usize) -> Step<usize> {
        if !self.is_ahead {
            return Ok(block + 1);
        }
        let ahead = index.locate_from(block + 1, &self.target);
        Ok(ahead.map_err(|what| shelf.broken(Section::TermIndex, what))?)
    }
}
