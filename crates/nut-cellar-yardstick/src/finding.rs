//! What a user finds: the ranking as it comes against others, on known items of the corpora.
//!
//! A record is asked for by its title, which is not searched, with any of its words; as written, and with one typing mistake where near
//! spellings are looked for. Rankings are chosen by one half of the records and judged by the other;
//! a record that is there in several languages is one.

use crate::searching::texts_of;
use nut_cellar::judge::{KnownItem, Measure, Paired, known_items, with_mistake};
use nut_cellar::{Cellar, Column, Find, Key, Memory, Query, Record, Schema, Spellings, Words};
use serde::Serialize;
use std::collections::BTreeMap;
use std::error::Error;
use std::fmt::Write;
use std::fs;
use std::num::NonZero;
use std::path::{Path, PathBuf};

type Failure = Box<dyn Error>;

/// The corpora that are searched, if they are there; a handbook is there in several languages.
const CORPORA: [&str; 4] = ["gloss", "packages", "kernel", "handbook"];
/// So many words of a text are a column of their own, weighing nothing as it comes.
const FIRST_WORDS: NonZero<u16> = NonZero::new(12).unwrap();
const MEASURE: Measure = Measure::ReciprocalRank(10);
const SEED: u64 = 1;

/// What was found by another ranking, beside the one that comes.
#[derive(Debug, Serialize)]
pub struct Compared {
    /// Where the records come from.
    pub source: String,
    /// Typing mistakes in each query.
    pub mistakes: u64,
    /// What is another.
    pub ranking: &'static str,
    /// Of the records by which a ranking is chosen, and of those by which it is judged.
    pub halves: [Half; 2],
}

/// Half of the records.
#[derive(Debug, Serialize)]
pub struct Half {
    /// How many.
    pub records: usize,
    /// The mean reciprocal rank of the first ten as it comes.
    pub before: f64,
    /// And by the other ranking.
    pub after: f64,
    /// How likely so large a difference is by chance.
    pub p_value: f64,
}

/// A ranking, made of the one that comes.
type Ranking = (&'static str, fn(Find) -> Find);

/// The rankings that are tried.
const RANKINGS: [Ranking; 13] = [
    ("k1 = 0.4", |find| find.k1(0.4)),
    ("k1 = 0.6", |find| find.k1(0.6)),
    ("k1 = 0.8", |find| find.k1(0.8)),
    ("k1 = 0.6, b = 0.6", |find| find.k1(0.6).b(0.6)),
    ("b = 0.4", |find| find.b(0.4)),
    ("b = 0.6", |find| find.b(0.6)),
    ("b = 0.9", |find| find.b(0.9)),
    ("proximity = 0.5", |find| find.proximity(0.5)),
    ("proximity = 2", |find| find.proximity(2.0)),
    ("first words, weight 1", |find| find.weight("beginning", 1.0)),
    ("first words, weight 2", |find| find.weight("beginning", 2.0)),
    ("first words, weight 4", |find| find.weight("beginning", 4.0)),
    ("first words, weight 8", |find| find.weight("beginning", 8.0)),
];

/// A cellar, and what is asked of it.
struct Asked {
    cellar: Cellar<Memory>,
    items: Vec<KnownItem>,
}

/// Compares on all corpora in a folder, by so many records of each; only rankings whose names have `only` in them.
///
/// # Errors
/// If a corpus can't be read.
pub fn measure(corpora: &Path, records: usize, only: Option<&str>) -> Result<Vec<Compared>, Failure> {
    let is_wanted = |name: &str| only.is_none_or(|only| name.contains(only));
    let mut all = Vec::new();
    for source in CORPORA {
        let asked = asked_of(corpora, source, records)?;
        if asked.is_empty() {
            continue;
        }
        for mistakes in 0..=1 {
            let usual = usual(mistakes);
            let before = found(&asked, mistakes, &usual)?;
            for (ranking, change) in RANKINGS.iter().filter(|(name, _)| is_wanted(name)) {
                let after = found(&asked, mistakes, &change(usual.clone()))?;
                let halves = [0, 1].map(|half| Half::of(half, &before, &after));
                all.push(Compared { source: source.to_owned(), mistakes, ranking, halves });
            }
        }
    }
    Ok(all)
}

/// The search as it comes, of any of the words.
fn usual(mistakes: u64) -> Find {
    let find = Find::new().strict().columns(["body", "beginning"]).words(Words::Any).weight("beginning", 0.0);
    let find = find.without_values().limit(MEASURE.depth());
    if mistakes > 0 { find.spellings(Spellings::Near).first_letters_right(1) } else { find }
}

/// A cellar of each file of a corpus, and the same records of each.
fn asked_of(corpora: &Path, source: &str, records: usize) -> Result<Vec<Asked>, Failure> {
    let mut files = Vec::new();
    for file in fs::read_dir(corpora)? {
        let path = file?.path();
        let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        let Some((corpus, tag)) =
            name.strip_suffix(".ndjson").map(|name| name.split_once('-').unwrap_or((name, "en")))
        else {
            continue;
        };
        if corpus == source {
            files.push((tag.split('-').next().unwrap_or(tag).to_owned(), path));
        }
    }
    files.sort_unstable();
    let asked = |(language, path): (String, PathBuf)| {
        let text = Column::text(&language);
        let schema = Schema::new("id")
            .with("title", text.clone())
            .with("body", text.clone())
            .with("beginning", text.from_columns(["body"]).of_first_words(FIRST_WORDS).not_kept());
        let cellar = Cellar::in_memory(schema)?;
        let texts = texts_of(&path)?;
        cellar.publish(|batch| {
            (1_i64..).zip(&texts).try_for_each(|(id, (title, body))| {
                batch.put(&Record::new(id).with("title", title.as_str()).with("body", body.as_str()))
            })
        })?;
        let items =
            known_items(cellar.schema(), "title", records, SEED, |query, find| cellar.search(query, find))?;
        Ok(Asked { cellar, items })
    };
    files.into_iter().map(asked).collect()
}

/// The measure of each record, in the mean of the languages in which it is asked for.
fn found(all: &[Asked], mistakes: u64, find: &Find) -> Result<Vec<f64>, Failure> {
    let mut of_records: BTreeMap<&Key, Vec<f64>> = BTreeMap::new();
    for Asked { cellar, items } in all {
        for (number, item) in (1..).zip(items) {
            let text = (0..mistakes).fold(item.text.clone(), |text, at| with_mistake(&text, number + at));
            let hits = cellar.search(&Query::read(&text).query, find)?.hits;
            let front: Vec<_> = hits.iter().map(|hit| (hit.key == item.record).then_some(1)).collect();
            of_records.entry(&item.record).or_default().push(MEASURE.of(&front, &[1]));
        }
    }
    Ok(of_records
        .into_values()
        .map(|measured| measured.iter().sum::<f64>() / measured.len() as f64)
        .collect())
}

impl Half {
    /// Of every second record, the first of which is at `half`.
    fn of(half: usize, before: &[f64], after: &[f64]) -> Self {
        let pairs: Vec<_> = before.iter().copied().zip(after.iter().copied()).skip(half).step_by(2).collect();
        let mean = |of: fn(&(f64, f64)) -> f64| pairs.iter().map(of).sum::<f64>() / pairs.len().max(1) as f64;
        Self {
            records: pairs.len(),
            before: mean(|pair| pair.0),
            after: mean(|pair| pair.1),
            p_value: Paired::of(&pairs, SEED).p_value,
        }
    }
}

/// A line for each corpus and ranking.
pub fn table(all: &[Compared]) -> String {
    let mut out = String::from(
        "| source | mistakes | ranking | records | chosen by: as it comes | so | p | judged by: as it comes | so | p |\n|---|---|---|---|---|---|---|---|---|---|\n",
    );
    for Compared { source, mistakes, ranking, halves } in all {
        let _ = write!(
            out,
            "| {source} | {mistakes} | {ranking} | {} + {} |",
            halves[0].records, halves[1].records
        );
        for Half { before, after, p_value, .. } in halves {
            let _ = write!(out, " {before:.3} | {after:.3} | {p_value:.4} |");
        }
        out.push('\n');
    }
    out
}
