//! How fast searches are, beside scoring every posting of the same queries.
//!
//! Queries are made of words of records that were picked by chance. One of each kind is searched for in turn, twice by the way that the
//! library takes and once by the exhaustive one, then the next of each kind, and all of that three times; the least times count. So a
//! machine that is slow for a while is so for all kinds. A fixed piece of work is timed in between, by which machines and moments can be
//! compared.

use crate::random::Random;
use crate::records;
use crate::scans::scans;
use nut_cellar::search::{Strategy, Total};
use nut_cellar::{
    Batch, Column, Filter, Find, Kind, Memory, Merging, Opened, Query, Record, Schema, Search, Snapshot,
    Value, View, Words, search,
};
use serde::{Deserialize, Serialize};
use std::collections::HashSet;
use std::error::Error;
use std::fmt::Write;
use std::fs::File;
use std::hint::black_box;
use std::io::{self, BufRead, BufReader};
use std::path::Path;
use std::time::Instant;

type Failure = Box<dyn Error>;

/// The corpora that are searched, if they are there.
const CORPORA: [&str; 2] = ["packages", "kernel"];
/// So often it is each query's turn, and so often it is searched for then.
const TURNS: usize = 3;
const TIMES: usize = 2;
/// So many phrases are looked for by scanning.
const SCANNED: usize = 12;
/// Words that a larger share of the records has are not asked for alone.
const MOST_COMMON: f64 = 0.1;

/// What was measured of one kind of queries on one source.
#[derive(Debug, Serialize)]
pub struct Searched {
    /// Where the records come from.
    pub source: String,
    /// How the texts are read.
    pub language: &'static str,
    /// What the queries are.
    pub kind: String,
    /// How many.
    pub queries: usize,
    /// Microseconds: half of the queries take less.
    pub median_us: f64,
    /// Their mean.
    pub mean_us: f64,
    /// 99 of 100 take less.
    pub p99_us: f64,
    /// Postings of all words, in the mean.
    pub postings: f64,
    /// Postings that were scored, in the mean.
    pub scored: f64,
    /// The mean time ÷ that of scoring every posting.
    pub ratio: Option<f64>,
    /// Nanoseconds for each posting, where every one is scored.
    pub exhaustive_ns: Option<f64>,
    /// The median of a scan of a table, and of all texts in memory, for some of the same phrases ÷ that of the search.
    pub scans: Option<(f64, f64)>,
    /// The fixed piece of work meanwhile, in microseconds.
    pub calibration_us: f64,
}

/// What to search.
pub struct Wanted<'a> {
    /// Numbers of generated records.
    pub generated: &'a [u64],
    /// A folder with corpora.
    pub corpora: Option<&'a Path>,
    /// Queries of each kind.
    pub queries: usize,
    /// Only kinds whose names have this in them.
    pub only: Option<&'a str>,
}

struct Source {
    name: String,
    texts: Vec<(String, String)>,
}

/// Measures all that is wanted.
///
/// # Errors
/// If a corpus can't be read.
pub fn measure(wanted: &Wanted<'_>) -> Result<Vec<Searched>, Failure> {
    let mut all = Vec::new();
    for &count in wanted.generated {
        let texts = (1..=count).map(|id| records::item(id, 1)).map(|item| (item.title, item.description));
        let source = Source { name: format!("{count} generated"), texts: texts.collect() };
        one(&source, wanted, &mut all)?;
    }
    for name in CORPORA {
        let path = wanted.corpora.map(|folder| folder.join(format!("{name}.ndjson")));
        if let Some(path) = path.filter(|path| path.is_file()) {
            one(&Source { name: name.to_owned(), texts: texts_of(&path)? }, wanted, &mut all)?;
        }
    }
    Ok(all)
}

/// Title and body of each record of a corpus.
pub(crate) fn texts_of(path: &Path) -> Result<Vec<(String, String)>, Failure> {
    #[derive(Deserialize)]
    struct Text {
        title: String,
        body: String,
    }
    let text = |line: io::Result<String>| {
        let Text { title, body } = serde_json::from_str(&line?)?;
        Ok((title, body))
    };
    BufReader::new(File::open(path)?).lines().map(text).collect()
}

/// One shelf in memory, with a column that says by chance which of a thousand parts a record is of.
pub(crate) fn shelf_of(
    texts: &[(String, String)],
    language: &str,
    columns: usize,
) -> Result<(Memory, Snapshot), Failure> {
    let schema = Schema::new("id").with("title", Column::text(language));
    let schema = if columns == 2 { schema.with("body", Column::text(language)) } else { schema };
    let schema = schema.with("part", Column::of(Kind::Integer));
    let (place, opened) = (Memory::new(), Opened::new());
    let mut unit = place.unit();
    let mut batch = Batch::new(&mut unit, &opened, &schema)?;
    batch.set_merging(Merging::Whole);
    let mut random = Random::new(7);
    for (id, (title, body)) in (1_i64..).zip(texts) {
        let part = i64::try_from(random.below(1_000))?;
        let record = Record::new(id).with("part", Value::Integer(part));
        batch.put(&match columns {
            2 => record.with("title", title.as_str()).with("body", body.as_str()),
            _ => record.with("title", format!("{title} {body}")),
        })?;
    }
    batch.publish()?;
    unit.commit()?;
    let snapshot = Snapshot::open(&place.view(), &opened)?;
    Ok((place, snapshot))
}

/// A kind of queries.
struct Asked {
    kind: &'static str,
    queries: Vec<Query>,
    find: Find,
    /// Whether every posting could be scored instead.
    exhaustive: bool,
}

fn one(source: &Source, wanted: &Wanted<'_>, all: &mut Vec<Searched>) -> Result<(), Failure> {
    for language in ["none", "en"] {
        let (place, snapshot) = shelf_of(&source.texts, language, 2)?;
        let view = place.view();
        let words = Picked::of(source, &view, &snapshot)?;
        let kinds = words.kinds(wanted.queries);
        let wanted: Vec<_> =
            kinds.iter().filter(|asked| wanted.only.is_none_or(|only| asked.kind.contains(only))).collect();
        let in_one_column: Vec<_> = wanted.iter().filter_map(|asked| asked.in_one_column()).collect();
        let column = match in_one_column.as_slice() {
            [] => None,
            _ => Some(shelf_of(&source.texts, language, 1)?),
        };
        let column = column.as_ref().map(|(place, snapshot)| (place.view(), snapshot));
        let mut turns: Vec<_> = wanted.into_iter().map(|asked| Turn::of(asked, &view, &snapshot)).collect();
        if let Some((view, snapshot)) = &column {
            turns.extend(in_one_column.iter().map(|asked| Turn::of(asked, view, snapshot)));
        }
        for mut searched in timed(source, language, &mut turns)? {
            if searched.kind.starts_with("phrase") && language == "none" {
                let phrases: Vec<_> =
                    words.pairs.iter().take(SCANNED).map(|(a, b)| format!("{a} {b}")).collect();
                let scans = scans(&source.texts, &phrases)?;
                searched.scans =
                    Some((scans.table_us / searched.median_us, scans.memory_us / searched.median_us));
            }
            all.push(searched);
        }
    }
    Ok(())
}

impl Asked {
    /// The same of records with one column, if it is to be compared with that.
    fn in_one_column(&self) -> Option<Self> {
        let words = self.kind.strip_suffix(", uneven")?;
        let kind =
            if words == "one word" { "one word, in one column" } else { "two words, any, in one column" };
        let find = Find::new().without_values().words(Words::Any).total(Total::AtLeast(0));
        Some(Self { kind, queries: self.queries.clone(), find, exhaustive: true })
    }
}

/// Words and pairs of words of records picked by chance.
struct Picked {
    words: Vec<String>,
    /// Those that many records have, which are not among the words.
    common: Vec<String>,
    pairs: Vec<(String, String)>,
}

impl Picked {
    fn of(source: &Source, view: &dyn View, snapshot: &Snapshot) -> Result<Self, Failure> {
        let mut random = Random::new(11);
        let (mut words, mut pairs, mut known) = (Vec::new(), Vec::new(), HashSet::new());
        let records = source.texts.len() as u64;
        while words.len() < 12_000 {
            let (title, body) = &source.texts[usize::try_from(random.below(records))?];
            let text = if random.below(4) == 0 { title } else { body };
            let all: Vec<_> =
                text.split(|c: char| !c.is_alphanumeric()).filter(|word| word.len() > 1).collect();
            if all.len() < 2 {
                continue;
            }
            let at = usize::try_from(random.below(all.len() as u64 - 1))?;
            let (first, second) = (all[at].to_lowercase(), all[at + 1].to_lowercase());
            if is_common(&first, view, snapshot, &mut known)?
                || is_common(&second, view, snapshot, &mut known)?
            {
                continue;
            }
            if text.to_lowercase().contains(&format!("{first} {second}")) {
                pairs.push((first.clone(), second));
            }
            words.push(first);
        }
        let mut common: Vec<_> = known.into_iter().collect();
        common.sort_unstable();
        Ok(Self { words, common, pairs })
    }

    fn kinds(&self, count: usize) -> Vec<Asked> {
        let top = || Find::new().without_values().words(Words::Any).total(Total::AtLeast(0));
        let all = || top().words(Words::All);
        let of = |size: usize| -> Vec<Query> {
            let chunks = self.words.chunks(size).map(|words| Query::words(words.iter().map(Query::word)));
            chunks.take(count).collect()
        };
        let common = |size: usize| -> Vec<Query> {
            let words = |first| self.common.iter().cycle().skip(first).take(size.min(self.common.len()));
            (0..count.min(self.common.len()))
                .map(|first| Query::words(words(first).map(Query::word)))
                .collect()
        };
        let phrases = self.pairs.iter().map(|(a, b)| Query::phrase(format!("{a} {b}"))).take(count).collect();
        let like = |make: fn(&str) -> Option<String>, query: fn(String) -> Query| -> Vec<Query> {
            self.words.iter().filter_map(|word| make(word)).map(query).take(count).collect()
        };
        let prefix: fn(&str) -> Option<String> = |word| word.get(..3).map(|first| format!("{first}*"));
        let ending: fn(&str) -> Option<String> = |word| {
            (word.len() > 4).then(|| word.get(word.len() - 4..)).flatten().map(|last| format!("*{last}"))
        };
        let infix: fn(&str) -> Option<String> =
            |word| (word.len() > 5).then(|| word.get(1..5)).flatten().map(|middle| format!("*{middle}*"));
        let near: fn(&str) -> Option<String> =
            |word| (word.len() > 5 && word.len() < 8).then(|| word.replacen(['e', 'a'], "o", 1));
        let filter = |share: i64| Filter::below("part", share);
        let kind = |kind, queries, find, exhaustive| Asked { kind, queries, find, exhaustive };
        let uneven = |find: Find| find.weight("title", 4.0);
        vec![
            kind("one word", of(1), top(), true),
            kind("two words, any", of(2), top(), true),
            kind("three words, any", of(3), top(), true),
            kind("five words, any", of(5), top(), true),
            kind("three common words, any", common(3), top(), true),
            kind("ten common words, any", common(10), top(), true),
            kind("two words, all", of(2), all(), true),
            kind("three words, all", of(3), all(), true),
            kind("five words, all", of(5), all(), true),
            kind("phrase of two, counted", phrases, Find::new().without_values(), false),
            kind(
                "beginning of three, counted",
                like(prefix, Query::pattern),
                Find::new().without_values().limit(0),
                false,
            ),
            kind("beginning of three", like(prefix, Query::pattern), top(), false),
            kind("ending of four", like(ending, Query::pattern), top(), false),
            kind("middle of four", like(infix, Query::pattern), top(), false),
            kind("near spelling", like(near, Query::near), top(), false),
            kind("one word, filter of 1 %", of(1), top().only(filter(10)), false),
            kind("one word, filter of 10 %", of(1), top().only(filter(100)), false),
            kind("one word, filter of 50 %", of(1), top().only(filter(500)), false),
            kind("two words, any, filter of 1 %", of(2), top().only(filter(10)), false),
            kind("two words, any, filter of 10 %", of(2), top().only(filter(100)), false),
            kind("two words, any, filter of 50 %", of(2), top().only(filter(500)), false),
            kind("two words, all, filter of 10 %", of(2), all().only(filter(100)), false),
            kind("two words, any, in the title", of(2), top().columns(["title"]), true),
            kind("costly: *a*, 4 KB of OR, brackets", costly(&self.words), top(), false),
            kind("one word, uneven", of(1), uneven(top()), true),
            kind("two words, any, uneven", of(2), uneven(top()), true),
        ]
    }
}

/// Queries of at most 4 KB that could take long.
fn costly(words: &[String]) -> Vec<Query> {
    let joined = |with: &str| {
        let mut text = String::new();
        for word in words {
            if text.len() + word.len() + with.len() > 4_096 {
                break;
            }
            text.push_str(word);
            text.push_str(with);
        }
        text
    };
    let letters = |with: &str| {
        let mut text = String::new();
        for first in 'a'..='z' {
            for second in 'a'..='z' {
                if text.len() + 2 + with.len() < 4_096 {
                    text.extend([first, second]);
                    text.push_str(with);
                }
            }
        }
        text
    };
    let texts = [
        "*a*".to_owned(),
        "*a* *e*".to_owned(),
        "?????".to_owned(),
        joined(" OR "),
        joined(" "),
        joined(" -"),
        letters(" OR "),
        letters("* "),
        format!("\"{}\"", joined(" ")),
        format!("\"{}\" within 4000", joined(" ")),
        format!("{}the a of and{}", "(".repeat(2_000), ")".repeat(2_000)),
        "(the OR a OR -of) AND ".repeat(180),
        "~umbrela ~wlanut ~kippres ~platfrom ~station ~handel ~brass ~leather".to_owned(),
        "-the -a -of".to_owned(),
    ];
    texts.iter().map(|text| Query::read(text).query).collect()
}

/// Whether too many records have a word.
fn is_common(
    word: &str,
    view: &dyn View,
    snapshot: &Snapshot,
    known: &mut HashSet<String>,
) -> Result<bool, Failure> {
    if known.contains(word) {
        return Ok(true);
    }
    let find = Find::new().limit(0).exact_forms();
    let found = search::run(view, &mut Search::new(snapshot.clone(), &Query::word(word), &find)?)?;
    let common = found.total as f64 > MOST_COMMON * snapshot.records() as f64;
    if common {
        known.insert(word.to_owned());
    }
    Ok(common)
}

/// The queries of a kind, which take turns with those of others, and what was measured of them.
struct Turn<'t> {
    asked: &'t Asked,
    view: &'t dyn View,
    snapshot: &'t Snapshot,
    measured: Vec<Measured>,
}

/// The least times of a query, in microseconds, and how many postings it went through.
#[derive(Clone, Copy)]
struct Measured {
    search: f64,
    exhaustive: f64,
    calibration: f64,
    postings: u64,
    scored: u64,
}

impl<'t> Turn<'t> {
    fn of(asked: &'t Asked, view: &'t dyn View, snapshot: &'t Snapshot) -> Self {
        let (never, postings, scored) = (f64::INFINITY, 0, 0);
        let none = Measured { search: never, exhaustive: never, calibration: never, postings, scored };
        Self { asked, view, snapshot, measured: vec![none; asked.queries.len()] }
    }

    /// Measures a query, if there is one of this number.
    fn take(&mut self, number: usize) -> Result<(), Failure> {
        let Self { asked, view, snapshot, measured } = self;
        let Some((query, measured)) = asked.queries.get(number).zip(measured.get_mut(number)) else {
            return Ok(());
        };
        let mut search = Search::new(snapshot.clone(), query, &asked.find)?;
        for _ in 0..TIMES {
            let took = microseconds(|| {
                search = Search::new(snapshot.clone(), query, &asked.find)?;
                black_box(search::run(*view, &mut search)?);
                Ok(())
            })?;
            measured.search = measured.search.min(took);
        }
        let shelves = search.report().shelves;
        measured.postings = shelves.iter().map(|went| went.postings).sum();
        measured.scored = shelves.iter().map(|went| went.scored).sum();
        if asked.exhaustive {
            let find = asked.find.clone().strategy(Strategy::EveryPosting);
            let took = microseconds(|| {
                black_box(search::run(*view, &mut Search::new(snapshot.clone(), query, &find)?)?);
                Ok(())
            })?;
            measured.exhaustive = measured.exhaustive.min(took);
        }
        let took = microseconds(|| {
            black_box(fixed_work(black_box(1)));
            Ok(())
        })?;
        measured.calibration = measured.calibration.min(took);
        Ok(())
    }

    fn searched(&self, source: &Source, language: &'static str) -> Searched {
        let count = self.measured.len();
        let mean = |of: fn(&Measured) -> f64| self.measured.iter().map(of).sum::<f64>() / count.max(1) as f64;
        let mut times: Vec<_> = self.measured.iter().map(|measured| measured.search).collect();
        times.sort_by(f64::total_cmp);
        let at = |share: f64| {
            #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a place in a list")]
            let place = (share * count as f64) as usize;
            times.get(place.min(count.saturating_sub(1))).copied().unwrap_or(0.0)
        };
        let (mean_us, exhaustive_us) =
            (mean(|measured| measured.search), mean(|measured| measured.exhaustive));
        let postings = mean(|measured| measured.postings as f64);
        let asked = self.asked;
        Searched {
            source: source.name.clone(),
            language,
            kind: asked.kind.to_owned(),
            queries: count,
            median_us: at(0.5),
            mean_us,
            p99_us: at(0.99),
            postings,
            scored: mean(|measured| measured.scored as f64),
            ratio: asked.exhaustive.then(|| mean_us / exhaustive_us),
            scans: None,
            exhaustive_ns: asked.exhaustive.then(|| exhaustive_us * 1_000.0 / postings.max(1.0)),
            calibration_us: mean(|measured| measured.calibration),
        }
    }
}

/// Measures the queries of all kinds, one of each in turn.
fn timed(source: &Source, language: &'static str, turns: &mut [Turn<'_>]) -> Result<Vec<Searched>, Failure> {
    let most = turns.iter().map(|turn| turn.measured.len()).max().unwrap_or(0);
    for _ in 0..TURNS {
        for number in 0..most {
            for turn in &mut *turns {
                turn.take(number)?;
            }
        }
    }
    Ok(turns.iter().map(|turn| turn.searched(source, language)).collect())
}

/// What work takes.
pub(crate) fn microseconds<T>(work: impl FnOnce() -> Result<T, Failure>) -> Result<f64, Failure> {
    let started = Instant::now();
    black_box(work()?);
    Ok(started.elapsed().as_secs_f64() * 1e6)
}

/// Work that depends on nothing but the machine: a chain of multiplications.
fn fixed_work(seed: u64) -> u64 {
    (0..4_096).fold(seed, |state, step| (state ^ step).wrapping_mul(0x9e37_79b9_7f4a_7c15).rotate_left(23))
}

/// The figures as a table.
pub fn table(all: &[Searched]) -> String {
    let mut out = String::new();
    let mut before = String::new();
    for one in all {
        let title = format!("{}, language = \"{}\"", one.source, one.language);
        if title != before {
            let _ = writeln!(out, "\n{title}");
            let _ = writeln!(
                out,
                "{:<34}{:>10}{:>10}{:>10}{:>12}{:>11}{:>13}{:>13}{:>10}",
                "kind",
                "median µs",
                "mean",
                "p99",
                "postings",
                "scored",
                "÷ exhaustive",
                "exh. ns/post",
                "fixed µs"
            );
            before = title;
        }
        let or_dash = |number: Option<f64>| number.map_or("–".to_owned(), |number| format!("{number:.2}"));
        let _ = writeln!(
            out,
            "{:<34}{:>10.1}{:>10.1}{:>10.1}{:>12.0}{:>11.0}{:>13}{:>13}{:>10.2}",
            one.kind,
            one.median_us,
            one.mean_us,
            one.p99_us,
            one.postings,
            one.scored,
            or_dash(one.ratio),
            or_dash(one.exhaustive_ns),
            one.calibration_us
        );
        if let Some((table, memory)) = one.scans {
            let _ = writeln!(
                out,
                "    scanning a table takes {table:.0} times as long, scanning memory {memory:.0} times"
            );
        }
    }
    out
}
