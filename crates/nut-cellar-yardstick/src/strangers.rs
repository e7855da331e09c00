//! What queries of strangers cost: drawn from the grammar of the query language and from bytes, searched as a program does that sets
//! nothing, and in the ways that make it dearer.

use crate::random::Random;
use crate::records;
use crate::searching::{shelf_of, texts_of};
use nut_cellar::search::{Spellings, Strategy, Total};
use nut_cellar::text::Pattern;
use nut_cellar::{Beginnings, Find, Memory, Opened, Query, Snapshot, Words, lenient};
use serde::Serialize;
use std::error::Error;
use std::hint::black_box;
use std::path::Path;
use std::time::Instant;

type Failure = Box<dyn Error>;

/// The longest query, in bytes.
const LONGEST: usize = 4_096;
/// A query that seems dear is timed so often; the least time counts.
const TIMES: usize = 4;
/// One of so many is the first search of a handle that was just opened, too.
const FIRST_EACH: usize = 8;
/// The worst that are told.
const TOLD: usize = 3;

/// Queries that were dear once.
const KNOWN: [&str; 6] = [
    "wi-fi ** *?*?* title:python \"the python library for\" *e*",
    "-((a OR title:(-(title:(-((a OR title:(-(title:(library",
    "-(-(the OR title:-(of OR -(body:(a -(title:(in OR -to",
    "\"the a\" within 2",
    "*?* ?* *a* the",
    "the-of-a \"of the\" *s t* ~the ~of",
];

/// What queries of one source and one way to search cost, in milliseconds, in a handle that searches were made with before.
#[derive(Debug, Serialize)]
pub struct Strangers {
    /// What is searched.
    pub source: String,
    /// What is asked of the search.
    pub asked: &'static str,
    /// Of all that were drawn.
    pub median: f64,
    /// 99 of 100 take at most so long.
    pub p99: f64,
    /// The worst, with their texts.
    pub worst: Vec<(f64, String)>,
    /// The worst of those that were the first search of a handle that was just opened.
    pub worst_of_first: (f64, String),
    /// What scoring each posting of common words takes in the same run, in nanoseconds: of the sources where it takes least.
    pub posting_ns: f64,
}

/// Measures so many queries of each source: generated records, and the corpora in a folder.
///
/// # Errors
/// If a source can't be read.
pub fn measure(queries: u64, generated: u64, corpora: Option<&Path>) -> Result<Vec<Strangers>, Failure> {
    let mut all = Vec::new();
    for name in ["packages", "gloss"] {
        if let Some(folder) = corpora {
            of_source(name, &texts_of(&folder.join(format!("{name}.ndjson")))?, queries, &mut all)?;
        }
    }
    if generated > 0 {
        let texts: Vec<_> = (1..=generated)
            .map(|id| records::item(id, 1))
            .map(|item| (item.title, item.description))
            .collect();
        of_source(&format!("{generated} generated"), &texts, queries, &mut all)?;
    }
    let least = all.iter().map(|one| one.posting_ns).fold(f64::MAX, f64::min);
    for one in &mut all {
        one.posting_ns = least;
    }
    Ok(all)
}

fn of_source(
    name: &str,
    texts: &[(String, String)],
    queries: u64,
    all: &mut Vec<Strangers>,
) -> Result<(), Failure> {
    let (place, snapshot) = shelf_of(texts, "en", 2)?;
    let mut terms = snapshot.terms(&place.view(), &Pattern::new("*")?, usize::MAX)?.terms;
    terms.sort_by(|a, b| b.records.cmp(&a.records).then_with(|| a.term.cmp(&b.term)));
    let terms: Vec<_> = terms.into_iter().map(|term| term.term).collect();
    let posting_ns = posting_ns(&place, &snapshot, &terms)?;
    let drawn: Vec<_> = (0..queries)
        .map(|seed| Drawing { random: Random::for_record(11, seed), terms: &terms }.query())
        .collect();
    let asked = [
        ("as it comes", Find::new()),
        ("strict", Find::new().strict()),
        ("any", Find::new().strict().words(Words::Any)),
        ("near", Find::new().strict().spellings(Spellings::Near)),
        ("loosened", Find::new().strict().relaxed_below(10)),
        ("beginnings", Find::new().strict().beginnings(Beginnings::All)),
    ];
    for (asked, find) in asked {
        let (mut times, mut first) = (Vec::with_capacity(drawn.len()), (0.0, ""));
        for (number, text) in KNOWN.iter().copied().chain(drawn.iter().map(String::as_str)).enumerate() {
            let cold = || time(&place, &Snapshot::open(&place.view(), &Opened::new())?, text, &find);
            let warm = || time(&place, &snapshot, text, &find);
            times.push((least_of(&warm, posting_ns)?, text));
            if number % FIRST_EACH == 0 {
                let ms = least_of(&cold, posting_ns)?;
                first = if ms > first.0 { (ms, text) } else { first };
            }
        }
        times.sort_by(|a, b| b.0.total_cmp(&a.0));
        let at = |share: usize| times[times.len() / share].0;
        let worst = times.iter().take(TOLD).map(|(ms, text)| (*ms, (*text).to_owned())).collect();
        all.push(Strangers {
            source: name.to_owned(),
            asked,
            median: at(2),
            p99: at(100),
            worst,
            worst_of_first: (first.0, first.1.to_owned()),
            posting_ns,
        });
    }
    Ok(())
}

/// The time of a search; the least of several, if it seems dear.
fn least_of(search: &dyn Fn() -> Result<f64, Failure>, posting_ns: f64) -> Result<f64, Failure> {
    let mut ms = search()?;
    if ms > posting_ns * 2.0 {
        for _ in 1..TIMES {
            ms = ms.min(search()?);
        }
    }
    Ok(ms)
}

fn time(place: &Memory, snapshot: &Snapshot, text: &str, find: &Find) -> Result<f64, Failure> {
    let begun = Instant::now();
    let query = Query::read(text).query;
    black_box(lenient::search(&place.view(), snapshot, &query, find)?);
    Ok(begun.elapsed().as_secs_f64() * 1e3)
}

/// Three common words, of which any will do, each posting scored.
fn posting_ns(place: &Memory, snapshot: &Snapshot, terms: &[String]) -> Result<f64, Failure> {
    let find = Find::new()
        .strict()
        .words(Words::Any)
        .exact_forms()
        .without_values()
        .strategy(Strategy::EveryPosting)
        .total(Total::AtLeast(0));
    let words: Vec<_> = terms.iter().filter(|term| term.len() > 3).skip(10).take(3).cloned().collect();
    let mut postings = 0;
    for word in &words {
        postings += snapshot
            .terms(&place.view(), &Pattern::new(word)?, 1)?
            .terms
            .iter()
            .map(|term| term.records)
            .sum::<u64>();
    }
    let mut least = f64::MAX;
    for _ in 0..20 {
        least = least.min(time(place, snapshot, &words.join(" "), &find)?);
    }
    Ok(least * 1e6 / postings.max(1) as f64)
}

/// Draws a query.
struct Drawing<'t> {
    random: Random,
    /// By falling numbers of records.
    terms: &'t [String],
}

impl Drawing<'_> {
    fn query(&mut self) -> String {
        let most = self.random.pick(&[20, 60, 200, 600, LONGEST]);
        if self.random.chance(20) {
            return self.bytes(most);
        }
        let (mut text, depth) = (String::new(), self.random.pick(&[0, 1, 3, 8, 40]));
        while text.len() < most {
            if !text.is_empty() {
                text.push_str(self.random.pick(&[" ", " ", " ", " OR ", " AND "]));
            }
            self.part(&mut text, depth);
            if self.random.chance(15) {
                break;
            }
        }
        cut(text, LONGEST)
    }

    /// Signs and letters as they come.
    fn bytes(&mut self, most: usize) -> String {
        const SIGNS: &[u8] = b"  \"()*?+-~:,\\aeiorstn.'0123456789OR";
        let mut text = String::new();
        while text.len() < most {
            match self.random.below(4) {
                0 => text.push_str(&self.word()),
                1 => text.push(
                    char::from_u32(u32::try_from(self.random.below(0x3000)).unwrap_or(65)).unwrap_or('x'),
                ),
                _ => text.push(char::from(self.random.pick(SIGNS))),
            }
        }
        cut(text, LONGEST)
    }

    fn part(&mut self, text: &mut String, depth: u64) {
        if self.random.chance(25) {
            text.push_str(self.random.pick(&["-", "+", "NOT "]));
        }
        if self.random.chance(15) {
            text.push_str(self.random.pick(&["title:", "body:", "title,body:", "part:"]));
        }
        if depth > 0 && self.random.chance(60) {
            text.push('(');
            for place in 0..=self.random.below(3) {
                if place > 0 {
                    text.push_str(self.random.pick(&[" ", " OR ", " AND "]));
                }
                self.part(text, depth - 1);
                if text.len() > LONGEST {
                    return;
                }
            }
            text.push(')');
            return;
        }
        let leaf = match self.random.below(12) {
            0 => format!("\"{}\"", self.words(4)),
            1 => format!("\"{}\" within {}", self.words(5), self.random.below(5_000)),
            2 => format!("~{}", self.word()),
            3 => format!("{}-{}", self.word(), self.word()),
            4 => self.open_pattern(),
            5 => format!("{}*", cut(self.word(), 1 + self.random.place(3))),
            6 => format!("{}..{}", self.random.below(1_000), self.random.below(1_000)),
            _ => self.word(),
        };
        text.push_str(&leaf);
    }

    fn open_pattern(&mut self) -> String {
        (0..=self.random.below(4)).map(|_| self.random.pick(&["*", "?", "a", "e", "s", "*", "in"])).collect()
    }

    fn words(&mut self, most: u64) -> String {
        (0..=self.random.below(most)).map(|_| self.word()).collect::<Vec<_>>().join(" ")
    }

    /// Common ones mostly.
    fn word(&mut self) -> String {
        let among = self.random.pick(&[5, 50, 500, self.terms.len()]).min(self.terms.len());
        self.terms[self.random.place(among)].clone()
    }
}

fn cut(mut text: String, most: usize) -> String {
    let end = (0..=most.min(text.len())).rev().find(|end| text.is_char_boundary(*end)).unwrap_or(0);
    text.truncate(end);
    text
}

/// What was measured, as a table in Markdown.
pub fn table(all: &[Strangers]) -> String {
    let mut rows = vec![
        "| source | asked | median, ms | p99, ms | worst, ms | ÷ (100 ms · ns a posting / 20) | it is |"
            .to_owned(),
        "| --- | --- | --- | --- | --- | --- | --- |".to_owned(),
    ];
    for one in all {
        let first = (one.worst_of_first.0, format!("as a first search: {}", one.worst_of_first.1));
        for (ms, text) in one.worst.iter().chain([&first]) {
            let shown = cut(text.clone(), 90).replace('|', "\\|");
            rows.push(format!(
                "| {} | {} | {:.2} | {:.1} | {ms:.1} | {:.2} | `{shown}` |",
                one.source,
                one.asked,
                one.median,
                one.p99,
                ms / (100.0 * one.posting_ns / 20.0),
            ));
        }
    }
    rows.join("\n")
}
