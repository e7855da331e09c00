//! What somebody waits for who types: a completion, beside counting what it completes, and a lenient search, beside the strict one.

use crate::random::Random;
use crate::records;
use crate::searching::microseconds;
use crate::waiting::share;
use nut_cellar::lenient::Suggest;
use nut_cellar::search::Total;
use nut_cellar::{Cellar, Column, Filter, Find, Kind, Query, Record, Schema, Value};
use serde::Serialize;
use std::error::Error;
use std::fmt::Write;

type Failure = Box<dyn Error>;

/// So many letters of a word are typed.
const LETTERS: [usize; 3] = [1, 2, 4];
/// Each is timed so often, in turn; the least time counts.
const TURNS: usize = 4;
/// A search for words that are all there finds so many.
const ALL_THERE: u64 = 10;

/// Two times, in microseconds in the median.
#[derive(Debug, Serialize)]
pub struct Beside {
    what: String,
    queries: usize,
    median_us: f64,
    other: &'static str,
    other_us: f64,
    /// The sum of the times ÷ that of those beside.
    ratio: f64,
}

/// Measures by so many queries on so many generated records.
///
/// # Errors
/// If the records can't be kept.
pub fn measure(count: u64, queries: usize) -> Result<Vec<Beside>, Failure> {
    let schema = Schema::new("id")
        .with("title", Column::text("en"))
        .with("description", Column::text("en"))
        .with("category", Column::of(Kind::Exact));
    let cellar = Cellar::in_memory(schema)?;
    cellar.publish(|batch| {
        (1..=count).map(|id| records::item(id, 1)).try_for_each(|item| {
            let record = Record::new(i64::try_from(item.id).unwrap_or(i64::MAX)).with("title", item.title);
            batch.put(&record.with("description", item.description).with("category", item.category))
        })
    })?;
    let mut random = Random::new(7);
    let mut all = Vec::new();
    for letters in LETTERS {
        let mut times = Vec::new();
        while times.len() < queries {
            let item = records::item(1 + random.below(count), 1);
            let words: Vec<_> = item.description.split_whitespace().filter(|word| word.len() > 4).collect();
            if words.is_empty() {
                continue;
            }
            let [first, second] = [0, 1].map(|_| random.pick(&words).to_lowercase());
            let begun = &second[..second.char_indices().nth(letters).map_or(second.len(), |(at, _)| at)];
            let find = Find::new().only(Filter::equal("category", Value::from(item.category)));
            let counted = find.clone().strict().with_beginnings().limit(0);
            let text = format!("{first} {begun}");
            let query = Query::read(&text).query;
            let suggest = Suggest::new().without_corrections();
            let complete = || cellar.suggest(&text, &find, &suggest);
            times.push(in_turn(complete, || cellar.search(&query, &counted))?);
        }
        let what = format!("a completion of {letters} letters behind a word, under a filter");
        all.push(Beside::of(what, "counting what begins so", times));
    }
    for words in 1..=2 {
        let mut times = Vec::new();
        while times.len() < queries {
            let item = records::item(1 + random.below(count), 1);
            let all: Vec<_> = item.description.split_whitespace().filter(|word| word.len() > 3).collect();
            if all.is_empty() {
                continue;
            }
            let text: Vec<_> = (0..words).map(|_| random.pick(&all)).collect();
            let query = Query::read(&text.join(" ")).query;
            let strict = Find::new().strict();
            if cellar.search(&query, &strict.clone().limit(0).total(Total::AtLeast(ALL_THERE)))?.total
                < ALL_THERE
            {
                continue;
            }
            times.push(in_turn(|| cellar.search(&query, &Find::new()), || cellar.search(&query, &strict))?);
        }
        all.push(Beside::of(
            format!("a lenient search of words that are all there: {words}"),
            "a strict one",
            times,
        ));
    }
    Ok(all)
}

/// The least times of two, run in turn.
pub(crate) fn in_turn<A, B>(
    one: impl Fn() -> nut_cellar::Result<A>,
    other: impl Fn() -> nut_cellar::Result<B>,
) -> Result<(f64, f64), Failure> {
    let mut least = (f64::INFINITY, f64::INFINITY);
    for _ in 0..TURNS {
        least.0 = least.0.min(microseconds(|| Ok(one()?))?);
        least.1 = least.1.min(microseconds(|| Ok(other()?))?);
    }
    Ok(least)
}

impl Beside {
    pub(crate) fn of(what: String, other: &'static str, times: Vec<(f64, f64)>) -> Self {
        let queries = times.len();
        let (times, others): (Vec<_>, Vec<_>) = times.into_iter().unzip();
        let ratio = times.iter().sum::<f64>() / others.iter().sum::<f64>();
        Self { what, queries, median_us: share(times, 50), other, other_us: share(others, 50), ratio }
    }
}

/// A line for each.
pub fn table(all: &[Beside]) -> String {
    let mut out =
        String::from("| what | queries | median µs | beside | its µs | ratio |\n|---|---|---|---|---|---|\n");
    for Beside { what, queries, median_us, other, other_us, ratio } in all {
        let _ =
            writeln!(out, "| {what} | {queries} | {median_us:.0} | {other} | {other_us:.0} | {ratio:.2} |");
    }
    out
}
