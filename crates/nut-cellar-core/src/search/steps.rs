//! A search as a sequence of steps, each over what is at hand: gather the forms of words, look the terms up, count them, scan the shelves, put the
//! best in order, take their values. A step that lacks ranges is repeated when they have been supplied.

use super::find::{Find, Found, Hit};
use super::plan::{Plan, Word};
use super::scan::{Members, Part, Ranking, ShelfFound, scan};
use super::top::Scored;
use crate::catalog::Snapshot;
use crate::error::Result;
use crate::query::Query;
use crate::rank::{ColumnFactor, Formula, average_length, idf};
use crate::record::Key;
use crate::shelf::{Hand, Step, Stop, if_at_hand};
use crate::store::{View, Wanted};
use bytes::Bytes;
use std::collections::BTreeSet;
use std::sync::Arc;

/// How alike a form of a word is to the form that was typed.
pub const FORM_LIKENESS: f32 = 0.7;

/// One search on one snapshot.
///
/// ```no_run
/// # use nut_cellar_core::{Find, Memory, Opened, Progress, Query, Result, Search, Snapshot, View};
/// # fn example(snapshot: Snapshot, view: &dyn View) -> Result<()> {
/// let mut search = Search::new(snapshot, &Query::read("walnut box").query, &Find::new())?;
/// let found = loop {
///     match search.step()? {
///         Progress::Need(ranges) => search.supply(view.read(&ranges)?)?,
///         Progress::Done(found) => break found,
///     }
/// };
/// # Ok(()) }
/// ```
#[derive(Debug)]
pub struct Search {
    snapshot: Snapshot,
    plan: Plan,
    find: Find,
    formula: Formula,
    hand: Hand,
    /// For each term of the plan: itself, then its forms in any shelf, in order.
    families: Option<Vec<Vec<String>>>,
    /// For each word of the plan its terms.
    parts: Vec<Vec<Part>>,
    /// For each shelf, for each term, where the shelf has its family.
    entries: Option<Vec<Vec<Members>>>,
    /// For each word.
    idf: Option<Vec<f32>>,
    scanned: Option<Vec<ShelfFound>>,
    ranked: Option<Vec<Placed>>,
}

/// How far a search has come.
#[derive(Debug)]
pub enum Progress {
    /// It needs these ranges; [`Search::supply`] takes them in the same order.
    Need(Vec<Wanted>),
    /// It is done.
    Done(Found),
}

/// A hit whose values have not been taken yet.
#[derive(Clone, Debug)]
struct Placed {
    shelf: usize,
    scored: Scored,
    key: Vec<u8>,
}

/// The formula with what a search says and what the snapshot has.
pub(super) fn formula(snapshot: &Snapshot, find: &Find) -> Result<Formula> {
    let (k1, b) = find.settings();
    let columns = (0..).zip(find.weights(snapshot.schema())?).map(|(column, weight)| ColumnFactor {
        weight,
        b,
        average_length: average_length(snapshot.length(column), snapshot.records()),
    });
    Formula::new(k1, columns.collect())
}

impl Search {
    /// Prepares a search: binds the query to the snapshot's schema.
    ///
    /// # Errors
    /// [`BadRequest`](crate::ErrorKind::BadRequest) if `find` names a column that can't be searched, or a number is out
    /// of range.
    pub fn new(snapshot: Snapshot, query: &Query, find: &Find) -> Result<Self> {
        let schema = Arc::clone(snapshot.schema());
        let plan = Plan::new(&schema, query, find)?;
        let formula = formula(&snapshot, find)?;
        Ok(Self {
            snapshot,
            plan,
            find: find.clone(),
            formula,
            hand: Hand::default(),
            families: None,
            parts: Vec::new(),
            entries: None,
            idf: None,
            scanned: None,
            ranked: None,
        })
    }

    /// Goes as far as what is at hand allows.
    ///
    /// # Errors
    /// [`Damaged`](crate::ErrorKind::Damaged) if something in the cellar can't be read.
    pub fn step(&mut self) -> Result<Progress> {
        match self.advance() {
            Ok(found) => Ok(Progress::Done(found)),
            Err(Stop::Missing) => Ok(Progress::Need(self.hand.wanted())),
            Err(Stop::Failed(error)) => Err(error),
        }
    }

    /// Takes the bytes of the ranges that were needed, in the same order. They are checked against their checksums.
    ///
    /// # Errors
    /// [`Damaged`](crate::ErrorKind::Damaged) if they are not what was written.
    pub fn supply(&mut self, answers: Vec<Bytes>) -> Result<()> {
        self.hand.supply(answers)
    }

    fn advance(&mut self) -> Step<Found> {
        if self.families.is_none() {
            let families = self.gather()?;
            self.parts = self.plan.words.iter().map(|word| parts(word, &families)).collect();
            self.families = Some(families);
        }
        if self.entries.is_none() {
            self.entries = Some(self.look_up()?);
        }
        if self.idf.is_none() {
            self.idf = Some(self.count()?);
        }
        if self.scanned.is_none() {
            self.scanned = Some(self.scan()?);
        }
        if self.ranked.is_none() {
            self.ranked = Some(self.rank()?);
        }
        self.take_values()
    }

    /// The families: a term as typed comes first, then its forms in any shelf, in order. What a removed record had
    /// changes nothing, since a term without a live record adds nothing.
    fn gather(&mut self) -> Step<Vec<Vec<String>>> {
        let mut families = Vec::with_capacity(self.plan.terms.len());
        for lookup in &self.plan.terms {
            let mut forms = BTreeSet::new();
            if let Some(class) = &lookup.class {
                for standing in self.snapshot.standing() {
                    forms.extend(
                        if_at_hand(standing.shelf.forms(&mut self.hand, &class.name))?.unwrap_or_default(),
                    );
                }
                forms.extend(class.own.clone());
                forms.remove(&lookup.term);
            }
            families.push([lookup.term.clone()].into_iter().chain(forms).collect());
        }
        self.hand.complete()?;
        Ok(families)
    }

    fn look_up(&mut self) -> Step<Vec<Vec<Members>>> {
        let mut entries = Vec::with_capacity(self.snapshot.standing().len());
        for standing in self.snapshot.standing() {
            let mut families = Vec::with_capacity(self.plan.terms.len());
            for family in self.families.iter().flatten() {
                let mut members = Vec::with_capacity(family.len());
                for term in family {
                    members.push(if_at_hand(standing.shelf.find_term(&mut self.hand, term))?.flatten());
                }
                families.push(members);
            }
            entries.push(families);
        }
        self.hand.complete()?;
        Ok(entries)
    }

    /// The idf of each word: of the largest number of live records that one of its terms is in.
    fn count(&mut self) -> Step<Vec<f32>> {
        let families = self.families.as_deref().unwrap_or_default();
        let mut counts: Vec<Vec<u64>> = families.iter().map(|family| vec![0; family.len()]).collect();
        for (standing, row) in self.snapshot.standing().iter().zip(self.entries.iter().flatten()) {
            for (counts, members) in counts.iter_mut().zip(row) {
                for (count, entry) in counts.iter_mut().zip(members) {
                    if let Some(entry) = entry {
                        *count += if_at_hand(standing.count_live(&mut self.hand, entry))?.unwrap_or(0);
                    }
                }
            }
        }
        self.hand.complete()?;
        let records = self.snapshot.records();
        let most =
            |word: &Word| word.variants.iter().flat_map(|variant| &counts[variant.term]).copied().max();
        Ok(self.plan.words.iter().map(|word| idf(records, most(word).unwrap_or(0))).collect())
    }

    fn scan(&mut self) -> Step<Vec<ShelfFound>> {
        let idf = self.idf.as_deref().unwrap_or_default();
        let ranking = Ranking { formula: &self.formula, idf, parts: &self.parts };
        let k = self.find.window().end;
        let mut scanned = Vec::new();
        for (standing, row) in self.snapshot.standing().iter().zip(self.entries.iter().flatten()) {
            scanned.extend(if_at_hand(scan(&mut self.hand, standing, &self.plan, row, &ranking, k))?);
        }
        self.hand.complete()?;
        Ok(scanned)
    }

    /// The hits that are asked for, in order. Keys are read of those only whose score reaches the last one's.
    fn rank(&mut self) -> Step<Vec<Placed>> {
        let window = self.find.window();
        let mut all: Vec<_> = self
            .scanned
            .iter()
            .flatten()
            .enumerate()
            .flat_map(|(shelf, found)| found.best.iter().map(move |&scored| (shelf, scored)))
            .collect();
        all.sort_by(|(_, a), (_, b)| b.score.total_cmp(&a.score));
        if let Some((_, last)) = window.end.checked_sub(1).and_then(|last| all.get(last)).copied() {
            all.retain(|(_, scored)| scored.score >= last.score);
        }
        let mut placed = Vec::with_capacity(all.len());
        for (shelf, scored) in all {
            let standing = &self.snapshot.standing()[shelf];
            if let Some(key) = if_at_hand(standing.shelf.key_of(&mut self.hand, scored.ordinal))? {
                placed.push(Placed { shelf, scored, key });
            }
        }
        self.hand.complete()?;
        placed.sort_by(|a, b| b.scored.score.total_cmp(&a.scored.score).then_with(|| a.key.cmp(&b.key)));
        placed.truncate(window.end);
        placed.drain(..window.start.min(placed.len()));
        Ok(placed)
    }

    fn take_values(&mut self) -> Step<Found> {
        let placed = self.ranked.as_deref().unwrap_or_default();
        let mut hits = Vec::with_capacity(placed.len());
        for (place, Placed { shelf, scored, key }) in (1..).zip(placed) {
            let rank = self.find.window().start + place;
            let standing = &self.snapshot.standing()[*shelf];
            let values = if self.find.with_values() {
                standing.shelf.kept(&mut self.hand, self.snapshot.schema(), scored.ordinal)
            } else {
                Ok(indexmap::IndexMap::new())
            };
            if let Some(values) = if_at_hand(values)? {
                hits.push(Hit { rank, key: Key::decode(key)?, score: scored.score, values });
            }
        }
        self.hand.complete()?;
        let total = self.scanned.iter().flatten().map(|found| found.total).sum();
        Ok(Found { total, notes: self.plan.notes.clone(), hits })
    }
}

/// The terms of a word, each once, the most alike first: those that were typed, then their forms, then synonyms.
/// Languages of one column and columns of different languages may have terms in common.
fn parts(word: &Word, families: &[Vec<String>]) -> Vec<Part> {
    let typed = word.variants.iter().map(|variant| (variant, 0..1, variant.likeness));
    let forms = word
        .variants
        .iter()
        .map(|variant| (variant, 1..families[variant.term].len(), variant.likeness * FORM_LIKENESS));
    let mut all: Vec<_> = typed.chain(forms).collect();
    all.sort_by(|(_, _, a), (_, _, b)| b.total_cmp(a));
    let mut parts: Vec<Part> = Vec::new();
    for (variant, slots, likeness) in all {
        for slot in slots {
            let term = &families[variant.term][slot];
            match parts.iter_mut().find(|known| families[known.family][known.slot] == *term) {
                Some(known) => known.columns = known.columns.or(variant.columns),
                None => parts.push(Part { family: variant.term, slot, likeness, columns: variant.columns }),
            }
        }
    }
    parts
}

/// Runs a search to its end, reading from `view` what it needs.
///
/// # Errors
/// If the place can't be read, or something in the cellar is damaged.
pub fn run(view: &dyn View, search: &mut Search) -> Result<Found> {
    loop {
        match search.step()? {
            Progress::Need(wanted) => search.supply(view.read(&wanted)?)?,
            Progress::Done(found) => return Ok(found),
        }
    }
}
