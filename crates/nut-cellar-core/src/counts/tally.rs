//! Counting: the records of each shelf that match, in one go through the values of each column.
//!
//! What always holds: a record counts once for each thing that is listed, however many of its values are that.

use super::count::{BoundCount, How};
use super::counted::{Counted, Statistics, Sum, ValueCount};
use super::sum::ExactSum;
use crate::bits::Bits;
use crate::error::Result;
use crate::filter::behind;
use crate::record::Value;
use crate::schema::Kind;
use crate::shelf::{Held, Shelf, Step, ValueColumn, if_held};
use hashbrown::{HashMap, HashSet};
use std::cmp::{Ordering, Reverse};
use std::ops::Bound;
use std::sync::Arc;

/// Between two questions whether to stop so many records are looked at.
const BETWEEN_STOPS: u32 = 1 << 16;
/// So many blocks of values are read together.
const TOGETHER: u32 = 32;
/// What counts as nothing that is listed.
const NOTHING: u32 = u32::MAX;

/// What the records of one or more shelves have, for each count.
#[derive(Debug)]
pub(crate) struct Tallies<'c> {
    counts: Vec<&'c BoundCount>,
    all: Vec<Tally>,
}

/// What records have of one column.
#[derive(Debug, Default)]
struct Tally {
    /// Records with a value that could be listed, and with no value.
    having: u64,
    missing: u64,
    /// Whether a record has several things that could be listed, so that records and counts are not the same.
    has_several: bool,
    listed: Listed,
    numbers: Vec<u64>,
}

/// What could be listed, with how many records have it.
#[derive(Debug)]
enum Listed {
    Texts(HashMap<String, u64>),
    Numbers(HashMap<u64, u64>),
    /// Half-open, in order.
    Runs(Vec<(u64, u64, u64)>),
}

impl Default for Listed {
    fn default() -> Self {
        Self::Numbers(HashMap::new())
    }
}

/// How many records of a shelf have what has a place, and what they have besides.
#[derive(Default)]
struct Here {
    records: Vec<u64>,
    having: u64,
    missing: u64,
    has_several: bool,
    /// The places of the values of one record.
    seen: Vec<u32>,
}

impl Here {
    /// Takes the values of a record, by what each counts as.
    #[inline]
    fn take(&mut self, values: &[u64], mut place_of: impl FnMut(u64) -> u32) {
        match values {
            [] => self.missing += 1,
            [value] => {
                let place = place_of(*value);
                if place != NOTHING {
                    self.having += 1;
                    self.add(place);
                }
            }
            _ => {
                let mut seen = std::mem::take(&mut self.seen);
                seen.clear();
                seen.extend(values.iter().map(|value| place_of(*value)).filter(|place| *place != NOTHING));
                seen.sort_unstable();
                seen.dedup();
                self.having += u64::from(!seen.is_empty());
                self.has_several |= seen.len() > 1;
                for place in &seen {
                    self.add(*place);
                }
                self.seen = seen;
            }
        }
    }

    #[inline]
    fn add(&mut self, place: u32) {
        let place = place as usize;
        if place >= self.records.len() {
            self.records.resize(place + 1, 0);
        }
        self.records[place] += 1;
    }
}

/// Records of a shelf that match.
#[derive(Clone, Copy)]
pub(crate) struct Matches<'m> {
    pub shelf: &'m Arc<Shelf>,
    pub records: &'m Bits,
    /// Says whether to stop.
    pub go_on: &'m dyn Fn() -> Result<()>,
}

impl Matches<'_> {
    /// Gives the values that each of the records has in a column.
    fn each(self, held: &mut Held, column: usize, mut take: impl FnMut(&[u64])) -> Step<()> {
        let mut column = ValueColumn::new(self.shelf, column);
        let (per_block, all) = (column.per_block(), self.shelf.records());
        let (mut at, mut stop_at) = (0, 0);
        while let Some(first) = self.records.next(at as usize).and_then(|first| u32::try_from(first).ok()) {
            if first >= stop_at {
                (self.go_on)()?;
                stop_at = first.saturating_add(BETWEEN_STOPS);
            }
            let blocks =
                first / per_block..(first / per_block).saturating_add(TOGETHER).min(all.div_ceil(per_block));
            at = blocks.end.saturating_mul(per_block).min(all);
            if_held(column.each(held, self.records, blocks, &mut take))?;
        }
        held.complete()
    }
}

impl<'c> Tallies<'c> {
    /// Nothing yet.
    pub fn new(counts: Vec<&'c BoundCount>) -> Self {
        let listed = |count: &&BoundCount| match (&count.how, count.kind) {
            (How::Ranges(starts), _) => {
                Listed::Runs(runs_of(starts).map(|(from, to)| (from, to, 0)).collect())
            }
            (How::Periods(_), _) => Listed::Runs(Vec::new()),
            (How::Levels(_), _) | (How::Values, Kind::Exact) => Listed::Texts(HashMap::new()),
            (How::Values | How::Statistics(_), _) => Listed::Numbers(HashMap::new()),
        };
        let all = counts.iter().map(|count| Tally { listed: listed(count), ..Tally::default() }).collect();
        Self { counts, all }
    }

    /// What the records of a shelf have that match.
    pub fn of_shelf(&self, held: &mut Held, matches: Matches<'_>) -> Step<Self> {
        let mut here = Self::new(self.counts.clone());
        for (count, tally) in self.counts.iter().zip(&mut here.all) {
            if let Some(counted) = if_held(count.tally(held, matches))? {
                *tally = counted;
            }
        }
        held.complete()?;
        Ok(here)
    }

    /// What was counted. Of what has several values that are listed or not `count_any` says how many records have one that is listed.
    pub fn counted(
        self,
        mut count_any: impl FnMut(&dyn Fn(&mut Held, Matches<'_>) -> Step<u64>) -> Result<u64>,
    ) -> Result<Vec<Counted>> {
        let mut all = Vec::with_capacity(self.counts.len());
        for (count, tally) in self.counts.into_iter().zip(self.all) {
            let (having, has_several) = (tally.having, tally.has_several);
            let (mut counted, things) = count.counted(tally);
            if has_several {
                let any = count_any(&|held, matches| count.count_any(held, matches, &things))?;
                counted.others = having.saturating_sub(any);
            }
            all.push(counted);
        }
        Ok(all)
    }

    /// Adds what another shelf has.
    pub fn add(&mut self, other: Self) {
        for (tally, other) in self.all.iter_mut().zip(other.all) {
            tally.having += other.having;
            tally.missing += other.missing;
            tally.has_several |= other.has_several;
            tally.numbers.extend(other.numbers);
            match (&mut tally.listed, other.listed) {
                (Listed::Texts(all), Listed::Texts(other)) => {
                    other.into_iter().for_each(|(text, records)| *all.entry(text).or_default() += records);
                }
                (Listed::Numbers(all), Listed::Numbers(other)) => {
                    other
                        .into_iter()
                        .for_each(|(number, records)| *all.entry(number).or_default() += records);
                }
                (Listed::Runs(all), Listed::Runs(other)) => {
                    for run in other {
                        match all.binary_search_by_key(&run.0, |known| known.0) {
                            Ok(place) => all[place].2 += run.2,
                            Err(place) => all.insert(place, run),
                        }
                    }
                }
                _ => debug_assert!(false, "the tallies of one count"),
            }
        }
    }
}

impl BoundCount {
    /// What the matching records of a shelf have.
    fn tally(&self, held: &mut Held, matches: Matches<'_>) -> Step<Tally> {
        let (mut here, mut numbers) = (Here::default(), Vec::new());
        let listed = match &self.how {
            How::Statistics(_) => {
                matches.each(held, self.place, |values| {
                    numbers.extend_from_slice(values);
                    if values.is_empty() { here.missing += 1 } else { here.having += 1 }
                })?;
                Listed::default()
            }
            How::Values if self.kind == Kind::Exact => {
                let there =
                    matches.shelf.exact_between(held, self.place, (&Bound::Unbounded, &Bound::Unbounded))?;
                let place = |value: u64| {
                    let place = value.wrapping_sub(there.start);
                    if place < there.end - there.start {
                        u32::try_from(place).unwrap_or(NOTHING)
                    } else {
                        NOTHING
                    }
                };
                here.records.resize(usize::try_from(there.end - there.start).unwrap_or(0), 0);
                matches.each(held, self.place, |values| here.take(values, place))?;
                let mut texts = HashMap::new();
                let counted = here.records.iter().zip(there.clone()).filter(|(records, _)| **records > 0);
                let mut counts = counted.clone().map(|(records, _)| *records);
                matches.shelf.exact_texts(held, counted.map(|(_, ordinal)| ordinal), |text| {
                    texts.insert(text.to_owned(), counts.next().unwrap_or(0));
                })?;
                Listed::Texts(texts)
            }
            How::Levels(path) => {
                let Levels { first, of_values, names } = Levels::of(held, matches.shelf, self.place, path)?;
                here.records.resize(names.len(), 0);
                matches.each(held, self.place, |values| {
                    here.take(values, |value| level(first, &of_values, value));
                })?;
                let counted = names.into_iter().zip(here.records.iter().copied());
                Listed::Texts(counted.filter(|(_, records)| *records > 0).collect())
            }
            How::Values if self.kind == Kind::Boolean => {
                matches.each(held, self.place, |values| {
                    here.take(values, |value| u32::from(value == 1));
                })?;
                Listed::Numbers(
                    (0..).zip(here.records.iter().copied()).filter(|(_, records)| *records > 0).collect(),
                )
            }
            How::Values => {
                let mut places = HashMap::new();
                matches.each(held, self.place, |values| {
                    here.take(values, |value| {
                        let next = u32::try_from(places.len()).unwrap_or(NOTHING);
                        *places.entry(value).or_insert(next)
                    });
                })?;
                Listed::Numbers(
                    places
                        .into_iter()
                        .map(|(number, place)| (number, here.records[place as usize]))
                        .collect(),
                )
            }
            How::Ranges(starts) => {
                matches.each(held, self.place, |values| {
                    here.take(values, |value| {
                        u32::try_from(starts.partition_point(|start| *start <= value)).unwrap_or(NOTHING)
                    });
                })?;
                here.records.resize(starts.len() + 1, 0);
                Listed::Runs(
                    runs_of(starts)
                        .zip(&here.records)
                        .map(|((from, to), records)| (from, to, *records))
                        .collect(),
                )
            }
            How::Periods(calendar) => {
                // Where each period begins; and where it ends, and its place.
                let (mut starts, mut runs) = (Vec::new(), Vec::new());
                matches.each(held, self.place, |values| {
                    here.take(values, |value| {
                        let behind = starts.partition_point(|start| *start <= value);
                        let before: Option<(u64, u32)> = behind.checked_sub(1).map(|at| runs[at]);
                        if let Some((_, place)) = before.filter(|(to, _)| value < *to) {
                            return place;
                        }
                        let (from, to) = calendar.around(value);
                        let place = u32::try_from(runs.len()).unwrap_or(NOTHING);
                        starts.insert(behind, from);
                        runs.insert(behind, (to, place));
                        place
                    });
                })?;
                let runs = starts.into_iter().zip(runs);
                Listed::Runs(
                    runs.map(|(from, (to, place))| (from, to, here.records[place as usize])).collect(),
                )
            }
        };
        let Here { having, missing, has_several, .. } = here;
        Ok(Tally { having, missing, has_several, listed, numbers })
    }

    /// How many records of a shelf have one of the things that are listed.
    fn count_any(&self, held: &mut Held, matches: Matches<'_>, listed: &[Thing]) -> Step<u64> {
        let mut here = Here::default();
        let place = |is_listed: bool| if is_listed { 0 } else { NOTHING };
        let mut sorted: Vec<_> = listed.iter().filter_map(Thing::run).collect();
        sorted.sort_unstable();
        let in_runs = |value: u64| {
            let behind = sorted.partition_point(|(from, _)| *from <= value);
            behind.checked_sub(1).is_some_and(|at| value <= sorted[at].1)
        };
        match &self.how {
            How::Levels(path) => {
                let Levels { first, of_values, names } = Levels::of(held, matches.shelf, self.place, path)?;
                let texts: HashSet<_> = listed.iter().filter_map(Thing::text).collect();
                let is_listed: Vec<_> = names.iter().map(|name| texts.contains(name.as_str())).collect();
                matches.each(held, self.place, |values| {
                    here.take(values, |value| {
                        let level = level(first, &of_values, value);
                        place(is_listed.get(level as usize) == Some(&true))
                    });
                })?;
            }
            _ if self.kind == Kind::Exact => {
                let mut ordinals = Vec::with_capacity(listed.len());
                for text in listed.iter().filter_map(Thing::text) {
                    let text = Bound::Included(text.to_owned());
                    ordinals.extend(
                        if_held(matches.shelf.exact_between(held, self.place, (&text, &text)))?
                            .into_iter()
                            .flatten(),
                    );
                }
                held.complete()?;
                ordinals.sort_unstable();
                matches.each(held, self.place, |values| {
                    here.take(values, |value| place(ordinals.binary_search(&value).is_ok()));
                })?;
            }
            _ => matches.each(held, self.place, |values| here.take(values, |value| place(in_runs(value))))?,
        }
        Ok(here.having)
    }

    /// What came of a count, but for how many records have others.
    fn counted(&self, tally: Tally) -> (Counted, Vec<Thing>) {
        let mut counted =
            Counted { of: self.count.column.clone(), missing: tally.missing, ..Counted::default() };
        if let How::Statistics(quantiles) = &self.how {
            counted.statistics = Some(statistics(self.kind, tally.numbers, quantiles));
            return (counted, Vec::new());
        }
        let mut things: Vec<(Thing, u64)> = match tally.listed {
            Listed::Texts(all) => {
                all.into_iter().map(|(text, records)| (Thing::Text(text), records)).collect()
            }
            Listed::Numbers(all) => {
                all.into_iter().map(|(number, records)| (Thing::Number(number), records)).collect()
            }
            Listed::Runs(all) => {
                all.into_iter().map(|(from, to, records)| (Thing::Run(from, to), records)).collect()
            }
        };
        things.retain(|(_, records)| *records >= self.count.least);
        let in_order = self.is_in_order();
        // What most have first; of equally many in their own order.
        let order = |(a, a_records): &(Thing, u64), (b, b_records): &(Thing, u64)| {
            let by_records = if in_order { Ordering::Equal } else { b_records.cmp(a_records) };
            by_records.then_with(|| a.cmp(b))
        };
        if self.most() < things.len() {
            things.select_nth_unstable_by(self.most(), order);
            things.truncate(self.most());
        }
        things.sort_unstable_by(order);
        counted.values = things.iter().map(|(thing, records)| self.value_count(thing, *records)).collect();
        counted.others =
            tally.having - things.iter().map(|(_, records)| records).sum::<u64>().min(tally.having);
        (counted, things.into_iter().map(|(thing, _)| thing).collect())
    }

    fn value_count(&self, thing: &Thing, records: u64) -> ValueCount {
        let value_of = |number: u64| Value::of_number(self.kind, number);
        let plain = ValueCount { value: None, from: None, to: None, records };
        match thing {
            Thing::Text(text) => ValueCount { value: Some(Value::Text(text.clone())), ..plain },
            Thing::Number(number) => ValueCount { value: value_of(*number), ..plain },
            Thing::Run(from, to) => ValueCount {
                value: match &self.how {
                    How::Periods(calendar) => Some(Value::Text(calendar.name(*from))),
                    _ => None,
                },
                from: if *from == 0 { None } else { value_of(*from) },
                to: if *to == u64::MAX { None } else { value_of(*to) },
                records,
            },
        }
    }
}

/// Something that is listed.
#[derive(Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Thing {
    Text(String),
    Number(u64),
    Run(u64, u64),
}

impl Thing {
    fn text(&self) -> Option<&str> {
        if let Self::Text(text) = self { Some(text) } else { None }
    }

    /// Its numbers, both ends included.
    fn run(&self) -> Option<(u64, u64)> {
        match self {
            Self::Text(_) => None,
            Self::Number(number) => Some((*number, *number)),
            Self::Run(from, to) => Some((*from, if *to == u64::MAX { *to } else { to - 1 })),
        }
    }
}

/// The levels behind a path, of the exact values of a shelf.
struct Levels {
    /// The first value behind the path; and for each from there on, as far as they are, the number of its level.
    first: u64,
    of_values: Vec<u32>,
    names: Vec<String>,
}

impl Levels {
    fn of(held: &mut Held, shelf: &Arc<Shelf>, column: usize, path: &str) -> Step<Self> {
        let (low, high) = behind(path);
        let there = shelf.exact_between(held, column, (&low, &high))?;
        let start = if path.is_empty() { 0 } else { path.len() + 1 };
        let mut levels = Self { first: there.start, of_values: Vec::new(), names: Vec::new() };
        let mut known = HashMap::new();
        shelf.exact_texts(held, there, |text| {
            let level = text[start..].find('/').map_or(text, |slash| &text[..start + slash]);
            let next = u32::try_from(levels.names.len()).unwrap_or(NOTHING);
            let number = *known.entry_ref(level).or_insert(next);
            if number == next {
                levels.names.push(level.to_owned());
            }
            levels.of_values.push(number);
        })?;
        Ok(levels)
    }
}

/// The number of the level of a value, where the first that has one and those behind it are known.
fn level(first: u64, of_values: &[u32], value: u64) -> u32 {
    let place = value.checked_sub(first).and_then(|place| usize::try_from(place).ok());
    place.and_then(|place| of_values.get(place).copied()).unwrap_or(NOTHING)
}

/// The ranges between ends, half-open, from the least number to the greatest.
fn runs_of(starts: &[u64]) -> impl Iterator<Item = (u64, u64)> {
    let from = [0].into_iter().chain(starts.iter().copied());
    from.zip(starts.iter().copied().chain([u64::MAX]))
}

/// What numbers of a kind are like.
fn statistics(kind: Kind, mut numbers: Vec<u64>, quantiles: &[f64]) -> Statistics {
    let value_of = |number: &u64| Value::of_number(kind, *number);
    let sum = match kind {
        _ if numbers.is_empty() => None,
        Kind::Integer => {
            let integers = numbers.iter().filter_map(|number| value_of(number)?.as_integer());
            Some(Sum::Integer(integers.map(i128::from).sum()))
        }
        Kind::Float => {
            let mut sum = ExactSum::default();
            numbers.iter().filter_map(|number| value_of(number)?.as_float()).for_each(|float| sum.add(float));
            Some(Sum::Float(sum.rounded()))
        }
        _ => None,
    };
    let (least, greatest) =
        (numbers.iter().min().and_then(value_of), numbers.iter().max().and_then(value_of));
    let count = numbers.len();
    // The least that is not below so large a part. What a selection has put in front is left to those that are lower.
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a part of a length")]
    let place = |part: &f64| ((part * count as f64).ceil() as usize).clamp(1, count) - 1;
    let quantiles = if count == 0 { &[] } else { quantiles };
    let mut places: Vec<_> = quantiles.iter().map(place).collect();
    places.sort_unstable_by_key(|place| Reverse(*place));
    let mut end = count;
    for place in places {
        if place < end {
            numbers[..end].select_nth_unstable(place);
            end = place;
        }
    }
    let quantile = |part: &f64| Some((*part, value_of(numbers.get(place(part))?)?));
    Statistics {
        count: count as u64,
        least,
        greatest,
        sum,
        mean: sum.map(|sum| sum.as_float() / count as f64),
        quantiles: quantiles.iter().filter_map(quantile).collect(),
    }
}
