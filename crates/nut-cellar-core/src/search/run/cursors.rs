//! What a search has open of one shelf: for each word its postings, for each leaf what matches it, for each test its values.
//! Records are asked for in ascending order.

use super::phrase::{self, Phrase, PhraseCursor, PhraseTerm};
use super::scorer::Scorer;
use super::value_test::ValueTest;
use super::word::{FormTerm, TermCursor, WordCursor};
use crate::bits::Bits;
use crate::catalog::Standing;
use crate::error::Result;
use crate::rank::proximity;
use crate::schema::ColumnSet;
use crate::search::plan::expand::{Alike, Found, each_like, each_named};
use crate::search::plan::{Alternative, Node, Plan, Ranking};
use crate::shelf::{Chosen, END, Held, Step, TermEntry, if_held};
use std::collections::HashMap;
use std::sync::Arc;

/// What matches a leaf.
pub(in crate::search) enum LeafCursor {
    /// What has the word.
    Word(usize),
    /// What matches phrases or windows, or terms of other columns than those that score.
    Phrases(PhraseCursor),
}

/// For some leaves the records of a shelf that match them, found by walking through its dictionary.
pub(in crate::search) type Walked = HashMap<usize, Arc<Bits>>;

/// What is open of a shelf.
pub(in crate::search) struct Cursors<'a> {
    pub standing: &'a Standing,
    pub plan: &'a Plan,
    pub ranking: &'a Ranking<'a>,
    /// For each word of the plan.
    pub words: Vec<PhraseTerm>,
    pub(super) leaves: Vec<LeafCursor>,
    /// For each leaf in how many places of the query it stands.
    pub(super) places: Vec<u32>,
    /// For each leaf that stands in several the window in which it was looked for last, and what was found.
    pub(super) filled: Vec<(Option<u32>, Bits)>,
    pub(super) tests: Vec<ValueTest>,
    pub scorer: Scorer<'a>,
    /// For each word how often a record may have it at most, as typed in leaves that are wanted.
    pub(super) most_times: Vec<u32>,
    /// For each word how often the record at hand has it.
    times: Vec<u32>,
    /// How many records were scored.
    pub scored: u64,
}

impl<'a> Cursors<'a> {
    /// Opens what the shelf has. What was found by walking through its dictionary is kept in `walked`, for whoever opens it
    /// again.
    pub fn open(
        held: &mut Held,
        standing: &'a Standing,
        plan: &'a Plan,
        ranking: &'a Ranking<'a>,
        walked: &mut Walked,
    ) -> Step<Self> {
        let shelf = &standing.shelf;
        let all: ColumnSet = (0..shelf.columns()).collect();
        let mut words = Vec::with_capacity(plan.words.len());
        for parts in ranking.parts {
            let parts = parts.iter().map(|part| (&part.alike, part.columns));
            words.extend(if_held(term(held, standing, (plan, ranking), parts, vec![0]))?);
        }
        held.complete()?;
        let mut leaves = Vec::with_capacity(plan.leaves.len());
        for (place, leaf) in plan.leaves.iter().enumerate() {
            let is_cut = |alternative: &&Alternative| ranking.is_cut(alternative);
            let cursor =
                match plan.is_group(leaf).filter(|_| !leaf.alternatives.iter().any(|one| is_cut(&one))) {
                    Some(word) => Ok(LeafCursor::Word(word)),
                    None => phrases(held, standing, plan, ranking, (place, &leaf.alternatives), all, walked)
                        .map(LeafCursor::Phrases),
                };
            leaves.extend(if_held(cursor)?);
        }
        let mut tests = Vec::with_capacity(plan.tests.len());
        for test in &plan.tests {
            tests.extend(if_held(ValueTest::open(shelf, held, test))?);
        }
        held.complete()?;
        let mut most_times = vec![0; plan.words.len()];
        for leaf in &plan.leaves {
            for &word in &leaf.words {
                most_times[word] += leaf.times;
            }
        }
        let times = vec![0; plan.words.len()];
        let filled = vec![(None, Bits::default()); leaves.len()];
        let mut places = vec![0; leaves.len()];
        plan.root.each_leaf(&mut |leaf| places[leaf] += 1);
        Ok(Self {
            standing,
            plan,
            ranking,
            words,
            leaves,
            places,
            filled,
            tests,
            scorer: Scorer::new(shelf, ranking.formula),
            most_times,
            times,
            scored: 0,
        })
    }

    /// Gets the lengths ready that `matches` records, spread evenly, need.
    pub fn expect(&mut self, held: &mut Held, matches: u64) -> Step<()> {
        let terms = self.words.iter().flat_map(|word| &word.cursor.terms);
        let columns = terms.fold(ColumnSet::default(), |columns, term| columns.or(term.columns));
        self.scorer.expect(held, columns, matches)
    }

    /// How many live records match a leaf, if that is known without looking at all of them.
    pub fn records_of(&self, leaf: usize) -> Step<Option<u64>> {
        let word = match &self.leaves[leaf] {
            LeafCursor::Word(word) => *word,
            LeafCursor::Phrases(phrases) => {
                let removed = |records: &Bits| {
                    self.standing.mask.as_ref().map_or(0, |mask| records.count_both(mask.bits()))
                };
                return Ok(phrases.all().map(|(records, count)| count - removed(records)));
            }
        };
        let word = &self.words[word].cursor;
        let removed = match (&word.terms[..], &self.standing.mask) {
            _ if word.is_limited() => return Ok(None),
            ([], _) => 0,
            ([term], None) if term.postings.are_counted() => 0,
            ([term], Some(mask)) if term.postings.are_counted() => mask.count_in(term.postings.clone())?,
            _ => return Ok(None),
        };
        Ok(Some(word.cost() - removed))
    }

    /// About how many records have to be looked at to find all that match a node.
    pub fn cost(&mut self, held: &mut Held, node: &Node) -> Step<u64> {
        Ok(match node {
            Node::Nothing => 0,
            Node::Leaf(leaf) => match &self.leaves[*leaf] {
                LeafCursor::Word(word) => self.words[*word].cursor.cost(),
                LeafCursor::Phrases(phrases) => phrases.cost(),
            },
            Node::Test(test) => self.tests[*test].cost(held)?,
            Node::Not(_) => u64::from(self.standing.shelf.records()),
            Node::All(parts) => {
                let mut least = u64::MAX;
                for part in parts {
                    least = least.min(self.cost(held, part)?);
                }
                least
            }
            Node::Any(parts) | Node::AtLeast(_, parts) => {
                let mut sum = 0_u64;
                for part in parts {
                    sum = sum.saturating_add(self.cost(held, part)?);
                }
                // Who has several of them is counted as often.
                if let Node::AtLeast(count, _) = node { sum / (*count).max(1) as u64 } else { sum }
            }
        })
    }

    /// The parts of a node in the order in which they are best asked: what is known without reading more comes first, and
    /// positions last.
    pub fn in_order(&self, node: &Node) -> Node {
        let ordered = |parts: &[Node]| {
            let mut parts: Vec<_> = parts.iter().map(|part| self.in_order(part)).collect();
            parts.sort_by_key(|part| self.effort(part));
            parts
        };
        match node {
            Node::All(parts) => Node::All(ordered(parts)),
            Node::Any(parts) => Node::Any(ordered(parts)),
            Node::AtLeast(count, parts) => Node::AtLeast(*count, ordered(parts)),
            Node::Not(part) => Node::Not(Box::new(self.in_order(part))),
            other => other.clone(),
        }
    }

    fn effort(&self, node: &Node) -> (u8, u64) {
        match node {
            Node::Nothing => (0, 0),
            Node::Leaf(leaf) => match &self.leaves[*leaf] {
                LeafCursor::Word(word) => (1, self.words[*word].cursor.cost()),
                LeafCursor::Phrases(phrases) => (5, phrases.cost()),
            },
            Node::Test(_) => (3, 0),
            Node::All(parts) | Node::Any(parts) | Node::AtLeast(_, parts) => {
                parts.iter().map(|part| self.effort(part)).max().unwrap_or((0, 0)).max((4, 0))
            }
            Node::Not(part) => self.effort(part).max((4, 0)),
        }
    }

    /// The first record from one on that may match; [`END`] if there is none. No record before it matches.
    pub fn next(&mut self, held: &mut Held, node: &Node, ordinal: u32) -> Step<u32> {
        let mut wanted = ordinal;
        loop {
            let next = match node {
                // Whatever is asked next lies behind what one of the parts says.
                Node::All(parts) => {
                    let mut next = wanted;
                    for part in parts {
                        next = self.from(held, part, next)?;
                        if next == END {
                            break;
                        }
                    }
                    next
                }
                node => self.from(held, node, wanted)?,
            };
            if next == wanted || next == END {
                return Ok(next);
            }
            wanted = next;
        }
    }

    /// A record from one on before which none matches. Nothing is asked for what lies behind the record that was given: other
    /// parts of the query may need what lies between.
    fn from(&mut self, held: &mut Held, node: &Node, ordinal: u32) -> Step<u32> {
        Ok(match node {
            Node::Leaf(leaf) => match &mut self.leaves[*leaf] {
                LeafCursor::Word(word) => self.words[*word].cursor.seek(ordinal)?,
                LeafCursor::Phrases(phrases) => phrases.seek(ordinal)?,
            },
            Node::Test(test) => self.tests[*test].next(held, ordinal)?,
            Node::Not(_) if ordinal < self.standing.shelf.records() => ordinal,
            Node::Nothing | Node::Not(_) => END,
            Node::All(parts) => {
                let mut most = ordinal;
                for part in parts {
                    most = most.max(self.from(held, part, ordinal)?);
                }
                most
            }
            Node::Any(parts) => {
                let mut least = END;
                for part in parts {
                    least = least.min(self.from(held, part, ordinal)?);
                }
                least
            }
            Node::AtLeast(count, parts) => {
                let mut nexts = Vec::with_capacity(parts.len());
                for part in parts {
                    nexts.push(self.from(held, part, ordinal)?);
                }
                match count.saturating_sub(1) {
                    last if last < nexts.len() => *nexts.select_nth_unstable(last).1,
                    _ => END,
                }
            }
        })
    }

    /// Whether a record matches. Where something is not at hand it is said to, and the step fails when it is complete.
    pub fn matches(&mut self, held: &mut Held, node: &Node, ordinal: u32) -> Step<bool> {
        Ok(match node {
            Node::Nothing => false,
            Node::Leaf(leaf) => if_held(self.has_leaf(held, *leaf, ordinal))?.unwrap_or(true),
            Node::Test(test) => if_held(self.tests[*test].holds(held, ordinal))?.unwrap_or(true),
            Node::Not(part) => !self.matches(held, part, ordinal)?,
            Node::All(parts) => {
                for part in parts {
                    if !self.matches(held, part, ordinal)? {
                        return Ok(false);
                    }
                }
                true
            }
            Node::Any(parts) => {
                for part in parts {
                    if self.matches(held, part, ordinal)? {
                        return Ok(true);
                    }
                }
                false
            }
            Node::AtLeast(count, parts) => {
                let mut matched = 0;
                for part in parts {
                    matched += usize::from(self.matches(held, part, ordinal)?);
                }
                matched >= *count
            }
        })
    }

    /// Whether a record matches a leaf.
    pub fn has_leaf(&mut self, held: &mut Held, leaf: usize, ordinal: u32) -> Step<bool> {
        Ok(match &mut self.leaves[leaf] {
            LeafCursor::Word(word) => self.words[*word].cursor.has(ordinal)?,
            LeafCursor::Phrases(phrases) => phrases.has(&self.standing.shelf, held, ordinal)?,
        })
    }

    /// Whether a test holds for a record.
    pub fn holds(&mut self, held: &mut Held, test: usize, ordinal: u32) -> Step<bool> {
        self.tests[test].holds(held, ordinal)
    }

    /// Counts for each word how often it was typed in leaves that a record matches.
    pub fn count_times(&mut self, held: &mut Held, ordinal: u32) -> Step<&[u32]> {
        self.times.fill(0);
        let plan = self.plan;
        for (place, leaf) in plan.leaves.iter().enumerate().filter(|(_, leaf)| leaf.times > 0) {
            if self.has_leaf(held, place, ordinal)? {
                for &word in &leaf.words {
                    self.times[word] += leaf.times;
                }
            }
        }
        Ok(&self.times)
    }

    /// The score of a record that matches: words in query order, each as often as it was typed.
    pub fn score(&mut self, held: &mut Held, ordinal: u32) -> Step<f32> {
        self.scored += 1;
        self.count_times(held, ordinal)?;
        let Ranking { formula, idf, .. } = *self.ranking;
        let mut score = 0.0;
        for (place, idf) in idf.iter().enumerate() {
            let times = self.times[place];
            if times > 0 {
                let frequency = self.words[place].cursor.frequency(held, &mut self.scorer, ordinal);
                score += formula.part(*idf, if_held(frequency)?.unwrap_or(0.0)) * times as f32;
            }
        }
        if self.ranking.proximity > 0.0 {
            let distance = if_held(self.distance(held, ordinal))?.flatten();
            score += self.ranking.proximity * distance.map_or(0.0, proximity::of);
        }
        held.complete()?;
        Ok(score)
    }

    /// The least distance at which two different ones of the words that the record at hand has stand in one column.
    pub fn distance(&mut self, held: &mut Held, ordinal: u32) -> Step<Option<u32>> {
        let mut places = Vec::new();
        let mut own = Vec::new();
        for (word, term) in self.words.iter_mut().enumerate().filter(|(word, _)| self.times[*word] > 0) {
            own.clear();
            term.cursor.seek(ordinal)?;
            term.places(&self.standing.shelf, held, ordinal, None, &mut own)?;
            places.extend(own.iter().map(|place| (*place, word)));
        }
        held.complete()?;
        places.sort_unstable();
        Ok(phrase::least_distance(&places))
    }

    /// The first record from one on that has a word which scores; [`END`] if there is none.
    pub fn next_scoring(&mut self, ordinal: u32) -> Result<u32> {
        let mut words = self.words.iter_mut().zip(&self.most_times).filter(|(_, times)| **times > 0);
        words.try_fold(END, |least, (word, _)| Ok(least.min(word.cursor.seek(ordinal)?)))
    }

    /// A sum of what words bring at most as a bound of scores: their parts may add up in another order, and nearness comes on
    /// top.
    pub fn with_slack(&self, sum: f32) -> f32 {
        let slack = 1.0 + (self.words.len() + 8) as f32 * f32::EPSILON;
        sum * slack + self.ranking.proximity * proximity::GREATEST * slack
    }
}

/// Some of the terms of a list that count in the same columns, in the order in which they add up.
struct OfList {
    whole: TermEntry,
    columns: ColumnSet,
    /// The columns that have terms of the list.
    all: ColumnSet,
    terms: Vec<FormTerm>,
    records: u32,
}

/// The postings of terms in a shelf, those of them that it has, each with the columns in which it counts.
fn term<'t>(
    held: &mut Held,
    standing: &Standing,
    (plan, ranking): (&Plan, &Ranking<'_>),
    parts: impl Iterator<Item = (&'t Alike, ColumnSet)>,
    offsets: Vec<u32>,
) -> Step<PhraseTerm> {
    let shelf = &standing.shelf;
    let mut lists: Vec<OfList> = Vec::new();
    for (part, (alike, columns)) in parts.enumerate() {
        for entry in &alike.entries[ranking.shelf] {
            let all = shelf.stemmings().get(usize::from(entry.stemming));
            let all = all.map_or_else(ColumnSet::default, |stemming| plan.columns_of(stemming));
            let columns = columns.both(all);
            if columns.is_empty() {
                continue;
            }
            let term = FormTerm { form: entry.form.unwrap_or(0), likeness: alike.likeness, part };
            let known = lists.iter_mut().find(|of| of.columns == columns && of.whole.is_of_list(entry));
            if let Some(of) = known {
                of.terms.push(term);
                of.records = of.records.saturating_add(entry.records).min(entry.in_list);
            } else {
                let whole = TermEntry { records: entry.in_list, form: None, ..entry.clone() };
                lists.push(OfList { whole, columns, all, terms: vec![term], records: entry.records });
            }
        }
    }
    // So that they add up in the same order in every shelf.
    lists.sort_by(|a, b| {
        let order = |of: &OfList| (of.whole.stemming, Arc::clone(&of.whole.key), of.columns.0);
        order(a).cmp(&order(b))
    });
    let (mut terms, mut entries, mut positions) = (Vec::new(), Vec::new(), Vec::new());
    for OfList { whole, columns, all, terms: of_list, records } in lists {
        let Some(mut postings) = if_held(shelf.postings(held, &whole))? else { continue };
        if of_list.len() < whole.forms as usize {
            let mut forms: Vec<_> = of_list.iter().map(|term| term.form).collect();
            forms.sort_unstable();
            postings.choose(Arc::new(Chosen::new(forms)), records);
        }
        terms.push(TermCursor::new(postings, of_list, columns, all));
        entries.push(whole);
        positions.push(None);
    }
    held.complete()?;
    Ok(PhraseTerm { cursor: WordCursor::new(terms), entries, positions, offsets })
}

/// The phrases of a leaf that the shelf has all terms of; of single terms that stand for too many the records. Where not all of
/// a shelf is at hand, positions are read at once.
fn phrases(
    held: &mut Held,
    standing: &Standing,
    plan: &Plan,
    ranking: &Ranking<'_>,
    (leaf, alternatives): (usize, &[Alternative]),
    all: ColumnSet,
    walked: &mut Walked,
) -> Step<PhraseCursor> {
    let mut phrases = Vec::new();
    let mut records = walked.get(&leaf).cloned();
    if records.is_none() && alternatives.iter().any(|alternative| ranking.is_cut(alternative)) {
        let mut bits = Bits::new(standing.shelf.records() as usize);
        for alternative in alternatives.iter().filter(|alternative| ranking.is_cut(alternative)) {
            if_held(add_records(held, standing, plan, ranking, alternative, all, &mut bits))?;
        }
        held.complete()?;
        records = Some(Arc::clone(walked.entry(leaf).or_insert(Arc::new(bits))));
    }
    for alternative in alternatives.iter().filter(|alternative| !ranking.is_cut(alternative)) {
        let has = |lookup: usize| {
            ranking.families[lookup].terms.iter().any(|alike| !alike.entries[ranking.shelf].is_empty())
        };
        if !alternative.terms.iter().all(|(lookup, _)| has(*lookup)) {
            continue;
        }
        // Of a term that comes again one list is enough.
        let mut offsets_of: Vec<(usize, Vec<u32>)> = Vec::with_capacity(alternative.terms.len());
        for &(lookup, offset) in &alternative.terms {
            match offsets_of.iter_mut().find(|(known, _)| *known == lookup) {
                Some((_, offsets)) => offsets.push(offset),
                None => offsets_of.push((lookup, vec![offset])),
            }
        }
        let mut terms = Vec::with_capacity(offsets_of.len());
        for (lookup, offsets) in offsets_of {
            let parts = ranking.families[lookup].terms.iter().map(|alike| (alike, alternative.columns));
            let Some(mut term) = if_held(term(held, standing, (plan, ranking), parts, offsets))? else {
                continue;
            };
            let are_needed = alternative.terms.len() > 1 && !plan.leaves[leaf].loose;
            if are_needed && !standing.shelf.is_at_hand() {
                for (entry, positions) in term.entries.iter().zip(&mut term.positions) {
                    *positions = if_held(standing.shelf.positions(held, entry))?;
                }
            }
            terms.push(term);
        }
        // The rarest leads.
        terms.sort_by_key(|term| term.cursor.cost());
        phrases.push(Phrase::new(terms, alternative.columns, alternative.window, plan.leaves[leaf].loose));
    }
    held.complete()?;
    Ok(PhraseCursor::new(phrases, records))
}

/// Adds the records of a shelf that match an alternative of one term that stands for too many to be walked.
fn add_records(
    held: &mut Held,
    standing: &Standing,
    plan: &Plan,
    ranking: &Ranking<'_>,
    alternative: &Alternative,
    all: ColumnSet,
    bits: &mut Bits,
) -> Step<()> {
    let Some(&(lookup, _)) = alternative.terms.first() else { return Ok(()) };
    let (family, lookup) = (&ranking.families[lookup], &plan.lookups[lookup]);
    let limited = alternative.columns.both(all) != all;
    let mut spare = (Vec::new(), Vec::new());
    let mut add = |held: &mut Held, entry: &TermEntry| {
        let counts = (alternative.columns, limited);
        let set = |ordinal: u32| bits.set(ordinal as usize);
        if_held(standing.shelf.each_record(held, entry, counts, &mut spare, set))?;
        Ok(true)
    };
    each_named(held, standing, lookup, &mut add)?;
    match &family.found {
        Found::Terms(terms) => {
            for (_, entry) in terms.iter().filter(|(shelf, _)| *shelf == ranking.shelf) {
                add(held, entry)?;
            }
            return held.complete();
        }
        Found::Records(records) if !limited => {
            bits.add(&records[ranking.shelf]);
            return held.complete();
        }
        Found::Records(_) => {}
    }
    let mut effort = family.allowed[ranking.shelf];
    for like in &lookup.like {
        let mut take = |held: &mut Held, _: &str, entry: TermEntry| add(held, &entry);
        if_held(each_like(held, standing, like, &mut effort, &mut take))?;
    }
    held.complete()
}
