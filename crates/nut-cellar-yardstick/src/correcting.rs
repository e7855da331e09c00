//! How often a correction is the right one: of queries drawn from records, with one typing mistake, and without any.

use crate::random::Random;
use crate::searching::{microseconds, texts_of};
use crate::waiting::share;
use hashbrown::HashMap;
use nut_cellar::judge::with_mistake;
use nut_cellar::lenient::Suggest;
use nut_cellar::text::Spelling;
use nut_cellar::{Cellar, Column, Find, Query, Record, Schema, Spellings};
use serde::Serialize;
use std::collections::HashSet;
use std::error::Error;
use std::fmt::Write;
use std::path::Path;

type Failure = Box<dyn Error>;

const CORPORA: [&str; 3] = ["gloss", "packages", "kernel"];
/// A mistake is made in a word of so many letters.
const LONG: usize = 5;

/// What was measured on one corpus.
#[derive(Debug, Serialize)]
pub struct Measured {
    source: String,
    queries: usize,
    /// Of those with a mistake: the first correction is the query as it was without; it is the most frequent word that is near.
    right: f64,
    right_by_frequency: f64,
    /// Of those without one: a correction is offered all the same.
    doubted: f64,
    /// Microseconds in the median: a correction, and a search with near spellings.
    median_us: f64,
    search_us: f64,
}

/// Measures by so many queries of each corpus.
///
/// # Errors
/// If a corpus can't be read.
pub fn measure(corpora: &Path, queries: usize) -> Result<Vec<Measured>, Failure> {
    let there = CORPORA.map(|name| (name, corpora.join(format!("{name}.ndjson"))));
    there.iter().filter(|(_, path)| path.is_file()).map(|(name, path)| one(name, path, queries)).collect()
}

fn one(source: &str, path: &Path, queries: usize) -> Result<Measured, Failure> {
    let texts: Vec<_> = texts_of(path)?.into_iter().map(|(title, body)| format!("{title} {body}")).collect();
    let cellar = Cellar::in_memory(Schema::new("id").with("text", Column::text("en")))?;
    cellar.publish(|batch| {
        (1_i64..)
            .zip(&texts)
            .try_for_each(|(id, text)| batch.put(&Record::new(id).with("text", text.as_str())))
    })?;
    let mut frequency: HashMap<String, u64> = HashMap::new();
    for text in &texts {
        for word in words(text).collect::<HashSet<_>>() {
            *frequency.entry(word).or_default() += 1;
        }
    }
    let mut random = Random::new(5);
    let (mut right, mut by_frequency, mut doubted) = (0, 0, 0);
    let (mut times, mut search_times) = (Vec::new(), Vec::new());
    for number in 0..queries {
        let (query, place) = drawn(&texts, &mut random);
        let mut typed = query.clone();
        typed[place] = with_mistake(&query[place], number as u64);
        let (asked, wanted) = (typed.join(" "), query.join(" "));
        let mut offered = None;
        times.push(microseconds(|| {
            offered = Some(cellar.suggest(&asked, &Find::new(), &Suggest::new().without_completions())?);
            Ok(())
        })?);
        let near = Find::new().strict().spellings(Spellings::Near).without_values().limit(0);
        let parsed = Query::read(&asked).query;
        search_times.push(microseconds(|| Ok(cellar.search(&parsed, &near)?))?);
        let first = offered.and_then(|offered| offered.corrections.into_iter().next());
        right += usize::from(first.is_some_and(|first| first.text == wanted));
        by_frequency += usize::from(most_frequent(&frequency, &typed[place]) == Some(&query[place]));
        let none = cellar.suggest(&wanted, &Find::new(), &Suggest::new().without_completions())?.corrections;
        doubted += usize::from(!none.is_empty());
    }
    let of_all = |count: usize| count as f64 / queries as f64;
    Ok(Measured {
        source: source.to_owned(),
        queries,
        right: of_all(right),
        right_by_frequency: of_all(by_frequency),
        doubted: of_all(doubted),
        median_us: share(times, 50),
        search_us: share(search_times, 50),
    })
}

/// The words of a text that stand by themselves.
fn words(text: &str) -> impl Iterator<Item = String> {
    let bare = text.split_whitespace().map(|word| word.trim_matches(|c: char| c.is_ascii_punctuation()));
    bare.filter(|word| word.len() > 2 && word.chars().all(|c| c.is_ascii_alphabetic())).map(str::to_lowercase)
}

/// Two to four different words of a record, and the place of one that is long.
fn drawn(texts: &[String], random: &mut Random) -> (Vec<String>, usize) {
    loop {
        let all: Vec<_> = words(&texts[random.place(texts.len())]).collect();
        let wanted = 2 + random.place(3);
        if all.is_empty() {
            continue;
        }
        let mut query: Vec<String> = Vec::new();
        for _ in 0..4 * wanted {
            let word = &all[random.place(all.len())];
            if query.len() < wanted && !query.contains(word) {
                query.push(word.clone());
            }
        }
        let long: Vec<_> = (0..query.len()).filter(|place| query[*place].chars().count() >= LONG).collect();
        if query.len() > 1 && !long.is_empty() {
            return (query, random.pick(&long));
        }
    }
}

/// What anybody would try first: of the words that are near the one that most records have.
fn most_frequent<'f>(frequency: &'f HashMap<String, u64>, typed: &str) -> Option<&'f String> {
    let spelling = Spelling::of(typed, 0);
    let near = frequency.iter().filter(|(word, _)| *word != typed && spelling.distance(word).is_some());
    near.max_by_key(|(word, records)| (**records, std::cmp::Reverse(*word))).map(|(word, _)| word)
}

/// A line for each corpus.
pub fn table(all: &[Measured]) -> String {
    let mut out = String::from(
        "| source | queries | right | by frequency | errors ÷ those by frequency | doubted though right | median µs | a near search µs |\n|---|---|---|---|---|---|---|---|\n",
    );
    for one in all {
        let Measured { source, queries, right, right_by_frequency, doubted, median_us, search_us } = one;
        let errors = (1.0 - right) / (1.0 - right_by_frequency);
        let _ = writeln!(
            out,
            "| {source} | {queries} | {right:.3} | {right_by_frequency:.3} | {errors:.2} | {doubted:.4} | {median_us:.0} | {search_us:.0} |"
        );
    }
    out
}
