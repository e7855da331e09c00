//! What the records that match a query have: how many of them each term that begins so, and each value that begins so.
//!
//! What always holds: records are live, the filter lets them through, and each counts once.

use super::find::Find;
use super::plan::Like;
use super::plan::expand::{MOST_ALIKE, each_like};
use super::plan::read::escaped;
use super::run::{Cursors, Matching, Walked};
use super::settings::Order;
use super::steps::{Search, by_column};
use crate::bits::Bits;
use crate::catalog::Standing;
use crate::error::Result;
use crate::schema::ColumnSet;
use crate::shelf::{Effort, Held, Postings, Shelf, Step, TermEntry, ValueColumn, complete, if_held};
use crate::store::View;
use crate::text::Pattern;
use std::collections::HashMap;
use std::ops::{Bound, Range};
use std::sync::Arc;

/// So many terms are counted before it is asked whether others can be among the best; where postings are far away, they are fetched together.
const AT_ONCE: usize = 256;
/// Between two questions whether to stop so many terms or records are taken.
const BETWEEN_STOPS: usize = 1_024;
/// Of a term that more than so many times as many records have as match, those that match are looked up.
const LOOKED_UP: u64 = 32;

/// A term, how many records have it, removed ones too, and where the shelves have it.
struct Candidate {
    text: String,
    records: u64,
    entries: Vec<(usize, TermEntry)>,
}

/// The records that match, for each shelf and how many, and the columns in which they have to have a term.
struct Counting {
    matching: Vec<(u64, Bits)>,
    columns: ColumnSet,
    limited: bool,
}

impl Counting {
    fn count(&self, held: &mut Held, standing: &[Standing], entries: &[(usize, TermEntry)]) -> Step<u64> {
        let mut records = 0;
        for of_shelf in entries.chunk_by(|a, b| a.0 == b.0) {
            let [(place, entry)] = of_shelf else {
                records += self.count_any(held, &standing[of_shelf[0].0].shelf, of_shelf)?;
                continue;
            };
            let (shelf, (matching, bits)) = (&standing[*place].shelf, &self.matching[*place]);
            if matching.saturating_mul(LOOKED_UP) < u64::from(entry.records) {
                let mut postings = shelf.postings(held, entry)?;
                for ordinal in bits.iter().map(|ordinal| u32::try_from(ordinal).unwrap_or(u32::MAX)) {
                    postings.seek(ordinal)?;
                    if postings.ordinal() == ordinal && (!self.limited || self.has(&mut postings)?) {
                        records += 1;
                    }
                }
                continue;
            }
            shelf.each_record(
                held,
                entry,
                (self.columns, self.limited),
                &mut Default::default(),
                |ordinal| {
                    records += u64::from(bits.has(ordinal as usize));
                },
            )?;
        }
        Ok(records)
    }

    /// How many records of a shelf have a term by any of several stemmings.
    fn count_any(&self, held: &mut Held, shelf: &Arc<Shelf>, entries: &[(usize, TermEntry)]) -> Step<u64> {
        let mut having = Bits::new(shelf.records() as usize);
        for (_, entry) in entries {
            let columns = (self.columns, self.limited);
            shelf.each_record(held, entry, columns, &mut Default::default(), |ordinal| {
                having.set(ordinal as usize);
            })?;
        }
        having.keep(&self.matching[entries[0].0].1);
        Ok(having.count())
    }

    fn has(&self, postings: &mut Postings) -> Result<bool> {
        Ok(!postings.columns_here()?.both(self.columns).is_empty())
    }
}

/// What most have first; of equally many the first as texts.
fn most_first(counts: &mut [(String, u64)]) {
    counts.sort_unstable_by(|(a, a_records), (b, b_records)| b_records.cmp(a_records).then_with(|| a.cmp(b)));
}

/// How many of some records have each exact value whose number is in one of these ranges.
fn count_values(
    held: &mut Held,
    shelf: &Arc<Shelf>,
    column: usize,
    matching: &Bits,
    ranges: &[Range<u64>],
    find: &Find,
) -> Step<Vec<(String, u64)>> {
    let (mut values, mut counts) = (ValueColumn::new(shelf, column), HashMap::new());
    for (place, ordinal) in matching.iter().enumerate() {
        if place.is_multiple_of(BETWEEN_STOPS) {
            find.go_on()?;
        }
        let there = if_held(values.of(held, u32::try_from(ordinal).unwrap_or(u32::MAX)))?;
        let there = there.unwrap_or_default().iter();
        for value in there.filter(|value| ranges.iter().any(|range| range.contains(value))) {
            *counts.entry(*value).or_insert(0) += 1;
        }
    }
    held.complete()?;
    let mut texts = Vec::with_capacity(counts.len());
    for (ordinal, records) in counts {
        texts.extend(if_held(shelf.exact_text(held, ordinal))?.map(|text| (text, records)));
    }
    held.complete()?;
    Ok(texts)
}

impl Search {
    /// The records of a shelf that match.
    pub(super) fn matching(&mut self, view: &dyn View, shelf: usize) -> Result<Bits> {
        let Self { snapshot, prepared, held, .. } = self;
        complete(view, held, |held| prepared.prepare(snapshot, held))?;
        let standing = &snapshot.standing()[shelf];
        let Some(ranking) = prepared.ranking(shelf) else { return Ok(Bits::default()) };
        let (plan, find) = (&prepared.plan, &prepared.find);
        complete(view, held, |held| {
            let mut cursors = Cursors::open(held, standing, plan, &ranking, &mut Walked::new())?;
            let root = cursors.in_order(&plan.root);
            let statistics = cursors.statistics(held, &root)?;
            cursors.ask(held, find, &statistics)?;
            Ok(Matching::new(cursors, &root, find, 0..standing.shelf.records()).all(held)?.0)
        })
    }

    /// Of the terms that begin so those that most records that match have, in one of these text columns, with how many have each: as many
    /// as [`MOST_ALIKE`], and whether all terms were looked at. As many are as a search may look at.
    ///
    /// Terms are gone through from the one that most records have, whether these match or not, until no other can be among the best.
    ///
    /// # Errors
    /// As for any search.
    pub(crate) fn terms_beginning(
        mut self,
        view: &dyn View,
        beginning: &str,
        columns: ColumnSet,
    ) -> Result<(Vec<(String, u64)>, bool)> {
        self.held.reach(view.near());
        let Ok(pattern) = Pattern::new(&format!("{}*", escaped(beginning))) else {
            return Ok((Vec::new(), true));
        };
        let (terms, are_all) = self.terms_like(view, &Like::Beginning(pattern))?;
        let matching: Vec<_> =
            (0..self.snapshot.shelves()).map(|shelf| self.matching(view, shelf)).collect::<Result<_>>()?;
        let counting = Counting {
            limited: columns.0.count_ones() as usize != self.snapshot.schema().text_columns().count(),
            columns,
            matching: matching.into_iter().map(|bits| (bits.count(), bits)).collect(),
        };
        let mut best: Vec<(String, u64)> = Vec::new();
        for terms in terms.chunks(AT_ONCE) {
            let least = best.get(MOST_ALIKE - 1).map_or(0, |(_, records)| *records);
            if terms[0].records < least.max(1) {
                break;
            }
            self.prepared.find.go_on()?;
            let standing = self.snapshot.standing();
            let counts = complete(view, &mut self.held, |held| {
                let counts = terms.iter().map(|term| if_held(counting.count(held, standing, &term.entries)));
                let counts = counts.collect::<Step<Vec<_>>>()?;
                held.complete()?;
                Ok(counts)
            })?;
            let counts = terms.iter().zip(counts.into_iter().map(Option::unwrap_or_default));
            best.extend(
                counts
                    .filter(|(_, records)| *records > 0)
                    .map(|(term, records)| (term.text.clone(), records)),
            );
            most_first(&mut best);
            best.truncate(MOST_ALIKE);
        }
        Ok((best, are_all))
    }

    /// The terms that look so, what most records have first, and whether these are all.
    fn terms_like(&mut self, view: &dyn View, like: &Like) -> Result<(Vec<Candidate>, bool)> {
        let (mut terms, mut are_all) = (HashMap::<String, Vec<(usize, TermEntry)>>::new(), true);
        for (shelf, standing) in self.snapshot.standing().iter().enumerate() {
            let find = &self.prepared.find;
            let (here, is_short) = complete(view, &mut self.held, |held| {
                let (mut here, mut effort) = (Vec::new(), Effort::of(find.most_terms));
                let mut take = |_: &mut Held, term: &str, entry: TermEntry| {
                    if here.len().is_multiple_of(BETWEEN_STOPS) {
                        find.go_on()?;
                    }
                    here.push((term.to_owned(), entry));
                    Ok(true)
                };
                if_held(each_like(held, standing, like, &mut effort, &mut take))?;
                held.complete()?;
                Ok((here, effort.is_spent()))
            })?;
            are_all &= !is_short;
            for (term, entry) in here {
                terms.entry(term).or_default().push((shelf, entry));
            }
        }
        let records =
            |entries: &[(usize, TermEntry)]| entries.iter().map(|(_, entry)| u64::from(entry.records)).sum();
        let mut terms: Vec<_> = terms
            .into_iter()
            .map(|(text, entries)| Candidate { records: records(&entries), text, entries })
            .collect();
        terms.sort_unstable_by(|a, b| b.records.cmp(&a.records).then_with(|| a.text.cmp(&b.text)));
        Ok((terms, are_all))
    }

    /// How many records that match have each value of an exact column that begins in one of these ways, what most have first.
    ///
    /// # Errors
    /// As for any search.
    pub(crate) fn values_beginning(
        mut self,
        view: &dyn View,
        name: &str,
        beginnings: &[String],
    ) -> Result<Vec<(String, u64)>> {
        self.held.reach(view.near());
        let mut all = HashMap::<String, u64>::new();
        let by = Find::new().order(Order::Column { name: name.to_owned(), down: false });
        let Some(column) = by_column(&self.snapshot, &by)?.map(|by| by.place) else {
            return Ok(Vec::new());
        };
        for shelf in 0..self.snapshot.shelves() {
            let standing = self.snapshot.standing()[shelf].clone();
            let ranges = complete(view, &mut self.held, |held| {
                let ranges = beginnings.iter().map(|beginning| {
                    let low = Bound::Included(beginning.clone());
                    let high = Bound::Excluded(format!("{beginning}{}", char::MAX));
                    standing.shelf.exact_between(held, column, (&low, &high))
                });
                ranges.collect::<Step<Vec<_>>>()
            })?;
            let mut ranges: Vec<_> = ranges.into_iter().filter(|range| !range.is_empty()).collect();
            ranges.sort_by_key(|range| range.start);
            ranges.dedup();
            if ranges.is_empty() {
                continue;
            }
            let matching = self.matching(view, shelf)?;
            let find = &self.prepared.find;
            let counts = complete(view, &mut self.held, |held| {
                count_values(held, &standing.shelf, column, &matching, &ranges, find)
            })?;
            for (text, records) in counts {
                *all.entry(text).or_default() += records;
            }
        }
        let mut all: Vec<_> = all.into_iter().collect();
        most_first(&mut all);
        Ok(all)
    }
}
