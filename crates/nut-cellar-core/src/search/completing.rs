//! What the records that match a query have: how many of them each term that begins so, and each value that begins so.
//!
//! What always holds: records are live, the filter lets them through, and each counts once.

use super::cursors::{Cursors, Walked};
use super::find::{Find, Order};
use super::one_shelf::all_matching;
use super::plan::Like;
use super::reading::escaped;
use super::steps::{Search, by_column};
use super::windows::RowBits;
use crate::bits::Bits;
use crate::error::Result;
use crate::schema::ColumnSet;
use crate::shelf::{Effort, Hand, Step, TermEntry, ValueColumn, complete, if_at_hand};
use crate::store::View;
use crate::text::Pattern;
use std::collections::HashMap;
use std::ops::Bound;

/// Texts, each with how many records have it; and whether these are all.
#[derive(Default)]
pub(crate) struct Had {
    pub counts: HashMap<String, u64>,
    pub are_all: bool,
}

impl Had {
    fn add(&mut self, text: &str, records: u64) {
        match self.counts.get_mut(text) {
            Some(count) => *count += records,
            None => _ = self.counts.insert(text.to_owned(), records),
        }
    }

    /// What most have, with how many; of equally many the first as texts.
    pub fn most_first(self) -> Vec<(String, u64)> {
        let mut counts: Vec<_> = self.counts.into_iter().collect();
        counts.sort_by(|(a, a_records), (b, b_records)| b_records.cmp(a_records).then_with(|| a.cmp(b)));
        counts
    }
}

impl Search {
    /// The records of a shelf that match.
    fn matching(&mut self, view: &dyn View, shelf: usize) -> Result<Bits> {
        let Self { snapshot, prepared, hand, .. } = self;
        complete(view, hand, |hand| prepared.prepare(snapshot, hand))?;
        let standing = &snapshot.standing()[shelf];
        let Some(ranking) = prepared.ranking(shelf) else { return Ok(Bits::default()) };
        let (plan, find) = (&prepared.plan, &prepared.find);
        complete(view, hand, |hand| {
            let mut cursors = Cursors::open(hand, standing, plan, &ranking, &mut Walked::new())?;
            let root = cursors.in_order(&plan.root);
            let estimated = cursors.cost(hand, &root)?;
            cursors.remember(hand, find, estimated)?;
            cursors.ask_lists()?;
            all_matching(hand, &mut cursors, &root, find, &(0..standing.shelf.records()), &mut RowBits::new())
        })
    }

    /// How many records that match have each term that begins so, in one of these text columns. As many terms are looked at as a search
    /// may look at.
    ///
    /// # Errors
    /// As for any search.
    pub(crate) fn terms_beginning(
        mut self,
        view: &dyn View,
        beginning: &str,
        columns: ColumnSet,
    ) -> Result<Had> {
        self.hand.reach(view.near());
        let limited = columns.0.count_ones() as usize != self.snapshot.schema().text_columns().count();
        let mut had = Had { are_all: true, ..Had::default() };
        let Ok(pattern) = Pattern::new(&format!("{}*", escaped(beginning))) else { return Ok(had) };
        let like = Like::Beginning(pattern);
        for shelf in 0..self.snapshot.shelves() {
            let matching = self.matching(view, shelf)?;
            let standing = self.snapshot.standing()[shelf].clone();
            let find = self.prepared.find.clone();
            let mut spare = Default::default();
            let (counts, is_short) = complete(view, &mut self.hand, |hand| {
                let (mut counts, mut effort) = (Vec::new(), Effort::of(find.most_terms_looked_at()));
                let mut take = |hand: &mut Hand, term: &str, entry: TermEntry| {
                    find.go_on()?;
                    let mut records = 0;
                    let here =
                        standing.shelf.each_record(hand, &entry, (columns, limited), &mut spare, |ordinal| {
                            records += u64::from(matching.has(ordinal as usize));
                        });
                    if_at_hand(here)?;
                    if records > 0 {
                        counts.push((term.to_owned(), records));
                    }
                    Ok(true)
                };
                if_at_hand(super::families::each_like(hand, &standing, &like, &mut effort, &mut take))?;
                hand.complete()?;
                Ok((counts, effort.is_spent()))
            })?;
            had.are_all &= !is_short;
            counts.iter().for_each(|(term, records)| had.add(term, *records));
        }
        Ok(had)
    }

    /// How many records that match have each value of an exact column that begins in one of these ways.
    ///
    /// # Errors
    /// As for any search.
    pub(crate) fn values_beginning(
        mut self,
        view: &dyn View,
        name: &str,
        beginnings: &[String],
    ) -> Result<Had> {
        self.hand.reach(view.near());
        let mut had = Had { are_all: true, ..Had::default() };
        let by = Find::new().order(Order::Column { name: name.to_owned(), down: false });
        let Some(column) = by_column(&self.snapshot, &by)?.map(|by| by.place) else { return Ok(had) };
        for shelf in 0..self.snapshot.shelves() {
            let standing = self.snapshot.standing()[shelf].clone();
            let ranges = complete(view, &mut self.hand, |hand| {
                let ranges = beginnings.iter().map(|beginning| {
                    let low = Bound::Included(beginning.clone());
                    let high = Bound::Excluded(format!("{beginning}{}", char::MAX));
                    standing.shelf.exact_between(hand, column, (&low, &high))
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
            let counts = complete(view, &mut self.hand, |hand| {
                let (mut values, mut counts) = (ValueColumn::new(&standing.shelf, column), HashMap::new());
                for ordinal in matching.iter() {
                    let Some(there) =
                        if_at_hand(values.of(hand, u32::try_from(ordinal).unwrap_or(u32::MAX)))?
                    else {
                        continue;
                    };
                    for value in there.iter().filter(|value| ranges.iter().any(|range| range.contains(value)))
                    {
                        *counts.entry(*value).or_insert(0) += 1;
                    }
                }
                hand.complete()?;
                let mut texts = Vec::with_capacity(counts.len());
                for (ordinal, records) in counts {
                    texts.extend(
                        if_at_hand(standing.shelf.exact_text(hand, ordinal))?.map(|text| (text, records)),
                    );
                }
                hand.complete()?;
                Ok(texts)
            })?;
            counts.iter().for_each(|(text, records)| had.add(text, *records));
        }
        Ok(had)
    }
}
