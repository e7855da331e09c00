//! What a user waits for: searches of a program that sets nothing, where cellars are: in a folder, and on the rows of a table.
//!
//! The same queries are asked in each way in turn, four times, and the least time of each counts; so a machine that is slow for a while is
//! so for all ways. Two builds are measured in turn, too, each in a process of its own: `--beside`.

use crate::random::Random;
use crate::records;
use crate::searching::texts_of;
use nut_cellar::search::Total;
use nut_cellar::sqlite::SqliteCellar;
use nut_cellar::{Cellar, Column, Find, Folder, Query, Record, Schema, Words};
use rusqlite::Connection;
use serde::{Deserialize, Serialize};
use std::error::Error;
use std::fmt::Write;
use std::hint::black_box;
use std::path::Path;
use std::process::Command;
use std::time::Instant;

type Failure = Box<dyn Error>;

/// Asks a query in one way at one place.
type Searching<'a> = &'a dyn Fn(&Query, &Find) -> nut_cellar::Result<()>;

/// The corpora that are searched, if they are there.
const CORPORA: [&str; 2] = ["gloss", "packages"];
/// So often each query is asked in each way.
const TURNS: usize = 4;
/// So many handles are opened for first searches.
const OPENED: usize = 20;
/// So often each build has its turn.
const ROUNDS: usize = 3;

/// What was measured of one kind of queries, asked in one way at one place.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Waited {
    /// Where the records come from.
    pub source: String,
    /// Where the cellar is.
    pub place: String,
    /// What the search leaves out.
    pub way: String,
    /// What the queries are.
    pub kind: String,
    /// How many.
    pub queries: usize,
    /// Microseconds: half of the queries take less.
    pub median_us: f64,
    /// 99 of 100 take less.
    pub p99_us: f64,
    /// Microseconds: half of the first searches of a handle that was just opened take less; none but as it comes.
    pub first_us: Option<f64>,
}

/// What to search.
pub struct Wanted<'a> {
    /// A number of generated records.
    pub generated: u64,
    /// A folder with corpora.
    pub corpora: Option<&'a Path>,
    /// Queries of each kind.
    pub queries: usize,
}

/// Measures all that is wanted.
///
/// # Errors
/// If a corpus can't be read, or a cellar can't be made.
pub fn measure(wanted: &Wanted<'_>) -> Result<Vec<Waited>, Failure> {
    let mut all = Vec::new();
    if wanted.generated > 0 {
        let items = (1..=wanted.generated).map(|id| records::item(id, 1));
        let texts: Vec<_> = items.map(|item| (item.title, item.description)).collect();
        one(&format!("{} generated", wanted.generated), &texts, wanted.queries, &mut all)?;
    }
    for name in CORPORA {
        let path = wanted.corpora.map(|folder| folder.join(format!("{name}.ndjson")));
        if let Some(path) = path.filter(|path| path.is_file()) {
            one(name, &texts_of(&path)?, wanted.queries, &mut all)?;
        }
    }
    Ok(all)
}

/// The kinds of queries: how many words, and what is asked of them.
fn kinds() -> [(&'static str, usize, Option<Words>); 5] {
    [
        ("one word", 1, Some(Words::All)),
        ("two words, all", 2, Some(Words::All)),
        ("two words, any", 2, Some(Words::Any)),
        ("three words, any", 3, Some(Words::Any)),
        ("phrase of two", 2, None),
    ]
}

/// The ways to ask, the first as it comes.
fn ways() -> [(&'static str, Find); 3] {
    let without_values = Find::new().without_values();
    [
        ("as it comes", Find::new()),
        ("without values", without_values.clone()),
        ("without values and total", without_values.total(Total::AtLeast(0))),
    ]
}

fn one(
    source: &str,
    texts: &[(String, String)],
    queries: usize,
    all: &mut Vec<Waited>,
) -> Result<(), Failure> {
    let room = tempfile::tempdir()?;
    let schema = Schema::new("id").with("title", Column::text("en")).with("body", Column::text("en"));
    let (folder, file) = (room.path().join("shed.cellar"), room.path().join("app.db"));
    let fill = |batch: &mut nut_cellar::Batch<'_>| {
        (1_i64..).zip(texts).try_for_each(|(id, (title, body))| {
            batch.put(&Record::new(id).with("title", title.as_str()).with("body", body.as_str()))
        })
    };
    let cellar = Cellar::create_with(Folder::at(&folder), schema.clone(), fill)?;
    let mut db = Connection::open(&file)?;
    db.execute_batch(
        "PRAGMA journal_mode = WAL; CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, body TEXT)",
    )?;
    let transaction = db.transaction()?;
    {
        let mut insert = transaction.prepare("INSERT INTO items(title, body) VALUES (?1, ?2)")?;
        texts.iter().try_for_each(|(title, body)| insert.execute([title, body]).map(drop))?;
    }
    transaction.commit()?;
    let on_rows = SqliteCellar::adopt(&db, "items", &schema)?;

    let in_folder = |query: &Query, find: &Find| cellar.search(query, find).map(drop);
    let in_table = |query: &Query, find: &Find| on_rows.search(&db, query, find).map(drop);
    let opened_folder = |query: &Query| {
        let cellar = Cellar::open_in(&folder)?;
        let started = Instant::now();
        cellar.search(query, &Find::new())?;
        Ok::<_, Failure>(started.elapsed().as_secs_f64() * 1e6)
    };
    let opened_table = |query: &Query| {
        let db = Connection::open(&file)?;
        let cellar = SqliteCellar::open(&db, "items")?;
        let started = Instant::now();
        cellar.search(&db, query, &Find::new())?;
        Ok::<_, Failure>(started.elapsed().as_secs_f64() * 1e6)
    };
    let mut random = Random::new(11);
    for (kind, words, asked) in kinds() {
        let drawn: Vec<_> = (0..queries).map(|_| drawn(texts, words, asked.is_none(), &mut random)).collect();
        let drawn: Vec<_> = drawn.iter().map(|text| Query::read(text).query).collect();
        let by = |find: &Find| find.clone().words(asked.unwrap_or(Words::All));
        let mut firsts = [Vec::new(), Vec::new()];
        for query in drawn.iter().take(OPENED) {
            firsts[0].push(opened_folder(query)?);
            firsts[1].push(opened_table(query)?);
        }
        let places: [(&str, Searching<'_>); 2] = [("folder", &in_folder), ("SQLite", &in_table)];
        let ways = ways().map(|(name, find)| (name, by(&find)));
        let mut times = vec![Vec::with_capacity(drawn.len()); places.len() * ways.len()];
        for query in &drawn {
            let mut least = vec![f64::INFINITY; times.len()];
            for _ in 0..TURNS {
                for (at, (_, search)) in places.iter().enumerate() {
                    for (way, (_, find)) in ways.iter().enumerate() {
                        let started = Instant::now();
                        black_box(search(query, find))?;
                        let place = &mut least[at * ways.len() + way];
                        *place = place.min(started.elapsed().as_secs_f64() * 1e6);
                    }
                }
            }
            times.iter_mut().zip(least).for_each(|(times, least)| times.push(least));
        }
        for (at, (place, _)) in places.iter().enumerate() {
            for (way, (name, _)) in ways.iter().enumerate() {
                let times = &mut times[at * ways.len() + way];
                all.push(Waited {
                    source: source.to_owned(),
                    place: (*place).to_owned(),
                    way: (*name).to_owned(),
                    kind: kind.to_owned(),
                    queries: times.len(),
                    median_us: share(times, 50),
                    p99_us: share(times, 99),
                    first_us: (way == 0).then(|| share(&mut firsts[at], 50)),
                });
            }
        }
    }
    Ok(())
}

/// Words of a record that is picked by chance: next to each other, or wherever they stand.
fn drawn(texts: &[(String, String)], words: usize, is_phrase: bool, random: &mut Random) -> String {
    loop {
        let (title, body) = &texts[random.place(texts.len())];
        let text = if random.chance(30) { title } else { body };
        let all: Vec<_> = text.split(|c: char| !c.is_alphanumeric()).filter(|word| word.len() > 3).collect();
        if all.len() < words {
            continue;
        }
        if is_phrase {
            let whole: Vec<_> = text.split_whitespace().collect();
            let start = random.place(whole.len().saturating_sub(words).max(1));
            return format!(
                "\"{}\"",
                whole[start..(start + words).min(whole.len())].join(" ").replace('"', " ")
            );
        }
        return (0..words).map(|_| random.pick(&all).to_lowercase()).collect::<Vec<_>>().join(" ");
    }
}

/// Of so many in a hundred the most.
fn share(times: &mut [f64], percent: usize) -> f64 {
    times.sort_by(f64::total_cmp);
    times[(times.len() * percent / 100).min(times.len() - 1)]
}

/// Measures by this program and by an older build of it, in turn; of each figure the least of three.
///
/// # Errors
/// If one of them fails.
pub fn beside(other: &Path, wanted: &Wanted<'_>) -> Result<Vec<(Waited, f64)>, Failure> {
    let Wanted { generated, corpora, queries } = wanted;
    let mut arguments = vec!["waits".to_owned(), "--json".to_owned()];
    arguments.extend([format!("--records={generated}"), format!("--queries={queries}")]);
    arguments.extend(corpora.map(|corpora| format!("--corpora={}", corpora.display())));
    let measured = |program: &Path| -> Result<Vec<Waited>, Failure> {
        let output = Command::new(program).args(&arguments).output()?;
        if !output.status.success() {
            return Err(String::from_utf8_lossy(&output.stderr).into());
        }
        Ok(serde_json::from_slice(&output.stdout)?)
    };
    let own = std::env::current_exe()?;
    let (mut ours, mut theirs) = (measured(&own)?, measured(other)?);
    for _ in 1..ROUNDS {
        for (kept, next) in [(&mut ours, measured(&own)?), (&mut theirs, measured(other)?)] {
            for (kept, next) in kept.iter_mut().zip(next) {
                kept.median_us = kept.median_us.min(next.median_us);
                kept.p99_us = kept.p99_us.min(next.p99_us);
            }
        }
    }
    Ok(ours.into_iter().zip(theirs).map(|(ours, theirs)| (ours, theirs.median_us)).collect())
}

/// A line for each place, way and kind; behind each the median of another build, if there is one, and the ratio to it.
pub fn table(all: &[(Waited, Option<f64>)]) -> String {
    let mut out = String::from(
        "| source | place | way | queries | median µs | p99 µs | first µs | ÷ the other |\n|---|---|---|---|---|---|---|---|\n",
    );
    for (Waited { source, place, way, kind, median_us, p99_us, first_us, .. }, other) in all {
        let first = first_us.map_or(String::new(), |first| format!("{first:.0}"));
        let ratio = other.map_or(String::new(), |other| format!("{:.2}", median_us / other));
        let _ = writeln!(
            out,
            "| {source} | {place} | {way} | {kind} | {median_us:.0} | {p99_us:.0} | {first} | {ratio} |"
        );
    }
    out
}
