//! One shelf, record by record: which records match the plan, and what they score.
//!
//! Records are visited in ascending order: where all clauses are needed those that have the terms of each, and else all that
//! have a term. Positions are read for phrases only, and lengths for matches only.

use super::family::Family;
use super::plan::{Alternative, Clause, Plan};
use super::top::{Scored, Top};
use crate::catalog::Standing;
use crate::error::Result;
use crate::rank::Formula;
use crate::schema::ColumnSet;
use crate::shelf::{Hand, LengthColumn, Step, TermEntry, if_at_hand};

/// What a shelf brings to a search.
#[derive(Debug)]
pub(super) struct ShelfFound {
    /// How many of its live records match.
    pub total: u64,
    /// The best of them, best first.
    pub best: Vec<Scored>,
}

/// Where a shelf has the members of a family, the term as typed first.
pub(super) type Members = Vec<Option<TermEntry>>;

/// One term of a word: which member of which family it is, how alike it is to what was typed, and where it counts.
#[derive(Debug)]
pub(super) struct Part {
    pub family: usize,
    pub slot: usize,
    /// 1 for the term as typed, less for its likenesses.
    pub likeness: f32,
    pub columns: ColumnSet,
}

/// Finds and scores the matches of one shelf. `entries` has for each term of the plan where the shelf has its family.
pub(super) fn scan(
    hand: &mut Hand,
    standing: &Standing,
    plan: &Plan,
    entries: &[Members],
    ranking: &Ranking<'_>,
    k: usize,
) -> Step<ShelfFound> {
    let mut scan = Scan::open(hand, standing, plan, entries)?;
    let mut top = Top::new(k);
    let mut total = 0;
    while let Some(ordinal) = scan.next_record()? {
        if standing.removed(ordinal) || !scan.matches(ordinal)? {
            continue;
        }
        total += 1;
        // Going on where a length is missing, so that all that are missing are noted at once.
        if let Some(score) = if_at_hand(scan.score(hand, ordinal, ranking))? {
            top.offer(Scored { score, ordinal });
        }
    }
    hand.complete()?;
    Ok(ShelfFound { total, best: top.into_sorted() })
}

/// The numbers that a score is made of, besides those of the record.
pub(super) struct Ranking<'a> {
    pub formula: &'a Formula,
    /// For each word of the plan.
    pub idf: &'a [f32],
    /// For each word of the plan its terms, each once, in the order in which they add up.
    pub parts: &'a [Vec<Part>],
}

struct Scan<'a> {
    plan: &'a Plan,
    /// For each term of the plan its family, standing at the next record that has one of it.
    families: Vec<Family>,
    /// For each text column.
    lengths: Vec<LengthColumn>,
    current: Option<u32>,
    /// For each clause whether the current record matches it.
    matched: Vec<bool>,
    /// For each word how often it was typed in clauses that the current record matches.
    times: Vec<u32>,
}

impl<'a> Scan<'a> {
    fn open(hand: &mut Hand, standing: &Standing, plan: &'a Plan, entries: &[Members]) -> Step<Self> {
        let shelf = &standing.shelf;
        let mut families = Vec::with_capacity(entries.len());
        for (members, in_phrase) in entries.iter().zip(phrase_terms(plan, entries)) {
            let mut family = Family::default();
            for entry in members {
                let Some(entry) = entry else {
                    family.add_none();
                    continue;
                };
                let postings = if_at_hand(shelf.postings(hand, entry))?;
                let positions = if in_phrase { if_at_hand(shelf.positions(hand, entry))? } else { None };
                if let Some(postings) = postings {
                    family.add(postings, positions)?;
                }
            }
            families.push(family);
        }
        let mut lengths: Vec<_> =
            (0..shelf.columns()).map(|column| LengthColumn::new(shelf, column)).collect();
        let (columns, matches) = expected(plan, entries);
        for column in columns.iter() {
            if_at_hand(lengths[column].expect(hand, matches))?;
        }
        hand.complete()?;
        let matched = vec![false; plan.clauses.len()];
        let times = vec![0; plan.words.len()];
        Ok(Self { plan, families, lengths, current: None, matched, times })
    }

    /// Goes to the next record that may match: where all clauses are needed, one that has the terms of each.
    fn next_record(&mut self) -> Result<Option<u32>> {
        if self.current.is_some() {
            for family in self.families.iter_mut().filter(|family| family.ordinal() == self.current) {
                family.advance()?;
            }
        }
        self.current = if self.plan.needed == self.plan.clauses.len() {
            self.next_of_all()?
        } else {
            self.families.iter().filter_map(Family::ordinal).min()
        };
        Ok(self.current)
    }

    /// The next record in which every clause has the terms of one of its alternatives. Families go on to the first
    /// record that is possible for all, until none has to.
    fn next_of_all(&mut self) -> Result<Option<u32>> {
        loop {
            let mut possible = 0;
            for clause in &self.plan.clauses {
                let of_alternative = |alternative: &Alternative| {
                    let ordinals = alternative.terms.iter().map(|&(term, _)| self.families[term].ordinal());
                    ordinals.collect::<Option<Vec<_>>>()?.into_iter().max()
                };
                let Some(first) = clause.alternatives.iter().filter_map(of_alternative).min() else {
                    return Ok(None);
                };
                possible = possible.max(first);
            }
            let mut moved = false;
            for family in &mut self.families {
                moved |= family.seek(possible)?;
            }
            if !moved {
                return Ok((!self.plan.clauses.is_empty()).then_some(possible));
            }
        }
    }

    /// The family of a term, if the record has one of it.
    fn at(&self, term: usize, ordinal: u32) -> Option<&Family> {
        Some(&self.families[term]).filter(|family| family.ordinal() == Some(ordinal))
    }

    /// Whether the record matches as many clauses as are needed; notes which.
    fn matches(&mut self, ordinal: u32) -> Result<bool> {
        let plan = self.plan;
        for (place, clause) in plan.clauses.iter().enumerate() {
            let mut matched = false;
            for alternative in &clause.alternatives {
                matched = matched || self.has(alternative, ordinal)?;
            }
            self.matched[place] = matched;
        }
        let count = self.matched.iter().filter(|matched| **matched).count();
        Ok(count >= self.plan.needed && count > 0)
    }

    fn has(&mut self, alternative: &Alternative, ordinal: u32) -> Result<bool> {
        let mut columns = alternative.columns;
        for &(term, _) in &alternative.terms {
            match self.at(term, ordinal) {
                Some(family) => columns = columns.both(family.columns()),
                None => return Ok(false),
            }
        }
        Ok(!columns.is_empty() && (alternative.terms.len() == 1 || self.in_a_row(alternative, columns)?))
    }

    /// Whether the terms stand next to each other in one of the columns, which all of them are in.
    fn in_a_row(&mut self, alternative: &Alternative, columns: ColumnSet) -> Result<bool> {
        // The places where the phrase could begin, narrowed down term by term.
        let mut starts: Option<Vec<(usize, u32)>> = None;
        for &(term, offset) in &alternative.terms {
            let places = self.families[term].places(columns)?;
            let here = places.iter().filter_map(|&(column, at)| Some((column, at.checked_sub(offset)?)));
            let narrowed: Vec<_> = match &starts {
                None => here.collect(),
                Some(starts) => here.filter(|place| starts.binary_search(place).is_ok()).collect(),
            };
            if narrowed.is_empty() {
                return Ok(false);
            }
            starts = Some(narrowed);
        }
        Ok(true)
    }

    /// The score of the current record: words in query order, columns in schema order. A word counts as often as it
    /// was typed in clauses that the record matches.
    fn score(&mut self, hand: &mut Hand, ordinal: u32, ranking: &Ranking<'_>) -> Step<f32> {
        self.times.fill(0);
        for (clause, _) in self.plan.clauses.iter().zip(&self.matched).filter(|(_, matched)| **matched) {
            for &word in &clause.words {
                self.times[word] += clause.times;
            }
        }
        let mut score = 0.0;
        for place in 0..self.plan.words.len() {
            let times = self.times[place];
            if times == 0 {
                continue;
            }
            let mut group = 0.0;
            for part in &ranking.parts[place] {
                let family =
                    Some(&self.families[part.family]).filter(|family| family.ordinal() == Some(ordinal));
                let Some(member) = family.and_then(|family| family.member_here(part.slot)) else { continue };
                let mut frequency = 0.0;
                for (column, tf) in member.postings.frequencies() {
                    if part.columns.has(column)
                        && let Some(length) = if_at_hand(self.lengths[column].get(hand, ordinal))?
                    {
                        frequency += ranking.formula.frequency(column, tf, length);
                    }
                }
                group += frequency * part.likeness;
            }
            score += ranking.formula.part(ranking.idf[place], group) * times as f32;
        }
        hand.complete()?;
        Ok(score)
    }
}

/// The columns whose lengths will be asked for, and about how many records will match.
fn expected(plan: &Plan, entries: &[Members]) -> (ColumnSet, u64) {
    let in_shelf = |entry: &Option<TermEntry>| entry.as_ref().map_or(0, |entry| u64::from(entry.records));
    let records = |term: usize| entries[term].iter().map(in_shelf).sum::<u64>();
    let per_word = plan.words.iter().map(|word| word.variants.iter().map(|v| records(v.term)).sum::<u64>());
    let all = plan.needed == plan.clauses.len();
    let matches = if all { per_word.min() } else { per_word.max() };
    let variants = plan.words.iter().flat_map(|word| &word.variants);
    let columns = variants.fold(ColumnSet::default(), |columns, variant| columns.or(variant.columns));
    (columns, matches.unwrap_or(0))
}

/// For each term of the plan whether a phrase of which the shelf has all terms may ask for its positions.
fn phrase_terms(plan: &Plan, entries: &[Members]) -> Vec<bool> {
    let mut wanted = vec![false; entries.len()];
    for Clause { alternatives, .. } in &plan.clauses {
        for Alternative { terms, .. } in alternatives {
            if terms.len() > 1 && terms.iter().all(|&(term, _)| entries[term].iter().any(Option::is_some)) {
                for &(term, _) in terms {
                    wanted[term] = true;
                }
            }
        }
    }
    wanted
}
