//! What a search has to know before it goes through the shelves: the plan, the terms of each word, and in how many records
//! they are.

use super::budget::{Counts, economise};
use super::expand::{Alike, Family, WordTerm, gather, parts};
use super::{Plan, Ranking, Word};
use crate::catalog::Snapshot;
use crate::error::{Error, ErrorKind, Result};
use crate::query::Query;
use crate::rank::{ColumnFactor, DEFAULT_B, Formula, average_length, idf};
use crate::search::find::Find;
use crate::search::settings::Order;
use crate::shelf::{Held, Step, if_held};
use std::collections::BTreeMap;

/// A search that is bound to a snapshot.
#[derive(Debug)]
pub(in crate::search) struct Prepared {
    pub find: Find,
    pub plan: Plan,
    pub formula: Formula,
    /// Known once the dictionaries have been read.
    pub known: Option<LookedUp>,
}

/// What the dictionaries say.
#[derive(Debug, Default)]
pub(in crate::search) struct LookedUp {
    /// For each lookup of the plan.
    pub families: Vec<Family>,
    /// For each word of the plan its terms.
    pub parts: Vec<Vec<WordTerm>>,
    /// For each term of each word how many live records have it.
    pub counts: Vec<Vec<u64>>,
    /// For each word how many live records have the one of its classes, or of its terms that stand by themselves, that most have; and its idf.
    pub records: Vec<u64>,
    pub idf: Vec<f32>,
    /// At how many terms was looked to find those that look like others.
    pub visited: u64,
}

/// The formula with what a search says, as the schema [ranks](Find::ranked_by) it, and what the snapshot has.
pub(in crate::search) fn formula(snapshot: &Snapshot, find: &Find) -> Result<Formula> {
    let schema = snapshot.schema();
    let named = schema.text_columns().zip(find.weights(schema)?);
    let columns = (0..).zip(named).map(|(place, ((name, _), weight))| ColumnFactor {
        weight,
        b: find.b.of(name).unwrap_or(DEFAULT_B),
        average_length: average_length(snapshot.length(place), snapshot.records()),
    });
    Formula::new(find.wanted_k1(), columns.collect())
}

impl Prepared {
    /// Binds a query to a snapshot.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`] if `find` names a column that is not there, or a number is out of range.
    pub fn new(snapshot: &Snapshot, query: &Query, find: &Find) -> Result<Self> {
        find.check_lengths(snapshot.schema())?;
        let find = find.ranked_by(snapshot.schema()).beginning_in(query);
        let proximity = find.proximity.unwrap_or(0.0);
        if !(proximity.is_finite() && proximity >= 0.0) {
            return Err(Error::new(
                ErrorKind::BadRequest,
                format!(
                    "The weight of proximity is {proximity}; it has to be a finite number that is not negative."
                ),
            ));
        }
        let plan = Plan::new(snapshot.schema(), query, &find)?;
        let formula = formula(snapshot, &find)?;
        Ok(Self { find, plan, formula, known: None })
    }

    /// The same query, looked for in another way. What the dictionaries say is kept if the words are the same.
    ///
    /// # Errors
    /// As [`new`](Self::new).
    pub fn again(&mut self, snapshot: &Snapshot, query: &Query, find: &Find) -> Result<()> {
        let before = std::mem::replace(self, Self::new(snapshot, query, find)?);
        if self.plan.lookups == before.plan.lookups && self.plan.words == before.plan.words {
            self.known = before.known;
            self.economise(snapshot);
        }
        Ok(())
    }

    /// How many postings the query may go through, if it has several words.
    fn most_postings(&self, snapshot: &Snapshot) -> Option<u64> {
        let several = self.plan.words.len().min(2);
        self.find.most_postings_of(self.plan.leaves.len().max(several), snapshot.records())
    }

    /// Makes the plan simpler if it costs too much.
    fn economise(&mut self, snapshot: &Snapshot) {
        let most = self.most_postings(snapshot);
        if let (Some(known), Some(most)) = (&self.known, most) {
            let wanted = Counts {
                scores: *self.find.wanted_order() != Order::Key,
                proximity: self.find.proximity.unwrap_or(0.0) > 0.0,
            };
            economise(&mut self.plan, &known.counts, snapshot.records(), most, wanted);
        }
    }

    /// What the proximity of words weighs; a word alone is near no other.
    pub fn proximity(&self) -> f32 {
        if self.plan.words.len() > 1 && !self.plan.is_proximity_left_out {
            self.find.proximity.unwrap_or(0.0)
        } else {
            0.0
        }
    }

    /// Reads the dictionaries.
    pub fn prepare(&mut self, snapshot: &Snapshot, held: &mut Held) -> Step<()> {
        if self.known.is_some() {
            return Ok(());
        }
        let (families, visited) = gather(snapshot, &self.plan, &self.find, held)?;
        let parts: Vec<_> = self.plan.words.iter().map(|word| parts(word, &families)).collect();
        let most = self.most_postings(snapshot);
        let scores = *self.find.wanted_order() != Order::Key;
        let counted = scores || most.is_some();
        let (mut counts, mut records) = (Vec::with_capacity(parts.len()), Vec::with_capacity(parts.len()));
        for (word, parts) in self.plan.words.iter().zip(&parts) {
            let mut of_word = vec![0; parts.len()];
            for (count, part) in of_word.iter_mut().zip(parts).filter(|_| counted) {
                *count = count_live(snapshot, held, &part.alike)?;
            }
            let of_classes = if counted { most_of_classes(snapshot, held, word, &families)? } else { 0 };
            records.push(of_word.iter().copied().fold(of_classes, u64::max));
            counts.push(of_word);
        }
        held.complete()?;
        let idf = records.iter().map(|records| idf(snapshot.records(), *records)).collect();
        self.known = Some(LookedUp { families, parts, counts, records, idf, visited });
        self.economise(snapshot);
        Ok(())
    }

    /// What makes numbers of words in a shelf, by its place in the snapshot.
    pub fn ranking(&self, shelf: usize) -> Option<Ranking<'_>> {
        let known = self.known.as_ref()?;
        Some(Ranking {
            formula: &self.formula,
            idf: &known.idf,
            parts: &known.parts,
            families: &known.families,
            shelf,
            proximity: self.proximity(),
        })
    }
}

/// How many live records have a term, by the stemming by which most have it.
fn count_live(snapshot: &Snapshot, held: &mut Held, alike: &Alike) -> Step<u64> {
    let mut counts = BTreeMap::<u8, u64>::new();
    for (entries, standing) in alike.entries.iter().zip(snapshot.standing()) {
        for entry in entries {
            let live = if_held(standing.count_live(held, entry))?.unwrap_or(0);
            *counts.entry(entry.stemming).or_default() += live;
        }
    }
    Ok(counts.into_values().max().unwrap_or(0))
}

/// How many live records have one of the classes that a word stands for, or one that columns have which are not searched: the one that most
/// have. A form of a class has no more records than that.
fn most_of_classes(snapshot: &Snapshot, held: &mut Held, word: &Word, families: &[Family]) -> Step<u64> {
    let mut most = 0;
    for variant in &word.variants {
        let family = &families[variant.lookup];
        let mut live = 0;
        for (class, standing) in family.classes.iter().zip(snapshot.standing()) {
            if let Some(class) = class {
                live += if_held(standing.count_live(held, &class.whole))?.unwrap_or(0);
            }
        }
        most = most.max(live);
        if variant.columns.is_empty() {
            for alike in &family.terms {
                most = most.max(count_live(snapshot, held, alike)?);
            }
        }
    }
    Ok(most)
}
