//! What a user waits for: searches of a program that sets nothing, where cellars are: in a folder, and on the rows of a table in SQLite and
//! in PostgreSQL.
//!
//! The same queries are asked in each way in turn, four times, and the least time of each counts; so a machine that is slow for a while is
//! so for all ways. Two builds are measured in turn, too, each in a process of its own: `--beside`.

use crate::random::Random;
use crate::records;
use crate::searching::{microseconds, texts_of};
use nut_cellar::postgres::PostgresCellar;
use nut_cellar::search::Total;
use nut_cellar::sqlite::SqliteCellar;
use nut_cellar::{Cellar, Column, Find, Folder, Found, Query, Record, Schema, Words};
use postgres::{Client, NoTls};
use rusqlite::Connection;
use serde::{Deserialize, Serialize};
use std::error::Error;
use std::fmt::Write;
use std::path::Path;
use std::process::Command;

type Failure = Box<dyn Error>;

type Asking<'a> = Box<dyn FnMut(&Query, &Find) -> Result<Found, Failure> + 'a>;
type AskingFirst<'a> = Box<dyn FnMut(&Query) -> Result<Found, Failure> + 'a>;

/// Where the same records can be searched.
struct Place<'a> {
    name: &'static str,
    /// Asks a query in one way.
    search: Asking<'a>,
    /// Opens the cellar, with nothing read yet, and asks: what a process does first.
    first: AskingFirst<'a>,
}

/// The corpora that are searched, if they are there.
const CORPORA: [&str; 2] = ["gloss", "packages"];
/// So often each query is asked in each way.
const TURNS: usize = 4;
/// So many handles are opened for first searches.
const OPENED: usize = 20;
/// So many rows are inserted at once.
const CHUNK: usize = 10_000;
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
    /// Microseconds: half of the times take less to open the cellar and search as it comes; none but as it comes.
    pub first_us: Option<f64>,
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
    /// The address of an empty PostgreSQL database.
    pub postgres: Option<&'a str>,
}

/// Measures all that is wanted.
///
/// # Errors
/// If a corpus can't be read, or a cellar can't be made.
pub fn measure(wanted: &Wanted<'_>) -> Result<Vec<Waited>, Failure> {
    let mut all = Vec::new();
    for &count in wanted.generated {
        let items = (1..=count).map(|id| records::item(id, 1));
        let texts: Vec<_> = items.map(|item| (item.title, item.description)).collect();
        one(&format!("{count} generated"), &texts, wanted, &mut all)?;
    }
    for name in CORPORA {
        let path = wanted.corpora.map(|folder| folder.join(format!("{name}.ndjson")));
        if let Some(path) = path.filter(|path| path.is_file()) {
            one(name, &texts_of(&path)?, wanted, &mut all)?;
        }
    }
    Ok(all)
}

/// The kinds of queries: how many words, and how they are asked for; none for phrases.
fn kinds() -> [(&'static str, usize, Option<Find>); 5] {
    let any = || Find::new().strict().words(Words::Any);
    [
        ("one word", 1, Some(Find::new())),
        ("two words", 2, Some(Find::new())),
        ("two words, any", 2, Some(any())),
        ("three words, any", 3, Some(any())),
        ("phrase of two", 2, None),
    ]
}

/// The ways to ask, the first as it comes.
fn ways(asked: Find) -> [(&'static str, Find); 3] {
    let without_values = asked.clone().without_values();
    [
        ("as it comes", asked),
        ("without values", without_values.clone()),
        ("without values and total", without_values.total(Total::AtLeast(0))),
    ]
}

impl Place<'_> {
    /// What the first search takes in the median of some queries.
    fn first_of(&mut self, queries: &[Query]) -> Result<f64, Failure> {
        let times = queries.iter().take(OPENED).map(|query| microseconds(|| (self.first)(query)));
        Ok(share(times.collect::<Result<_, _>>()?, 50))
    }
}

/// The texts as rows of a table.
const TABLE: &str = "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, body TEXT)";

fn one(
    source: &str,
    texts: &[(String, String)],
    wanted: &Wanted<'_>,
    all: &mut Vec<Waited>,
) -> Result<(), Failure> {
    let room = tempfile::tempdir()?;
    let schema = Schema::new("id").with("title", Column::text("en")).with("body", Column::text("en"));
    let (folder, file) = (room.path().join("shed.cellar"), room.path().join("app.db"));
    let mut places = vec![in_folder(&folder, texts, &schema)?, in_sqlite(&file, texts, &schema)?];
    if let Some(address) = wanted.postgres {
        places.push(in_postgresql(address, texts, &schema)?);
    }
    let (mut random, mut measured) = (Random::new(11), Vec::new());
    for (kind, words, asked) in kinds() {
        if wanted.only.is_some_and(|only| !kind.contains(only)) {
            continue;
        }
        let is_phrase = asked.is_none();
        let drawn = (0..wanted.queries).map(|_| drawn(texts, words, is_phrase, &mut random));
        let queries: Vec<_> = drawn.map(|text| Query::read(&text).query).collect();
        let ways = ways(asked.unwrap_or_default());
        for (at, (way, times)) in timed(&mut places, &ways, &queries)?.into_iter().enumerate() {
            let place = &mut places[at / ways.len()];
            let first = if at % ways.len() == 0 { Some(place.first_of(&queries)?) } else { None };
            let waited = Waited {
                source: source.to_owned(),
                place: place.name.to_owned(),
                way: way.to_owned(),
                kind: kind.to_owned(),
                queries: times.len(),
                first_us: first,
                p99_us: share(times.clone(), 99),
                median_us: share(times, 50),
            };
            measured.push((at / ways.len(), waited));
        }
    }
    measured.sort_by_key(|(place, _)| *place);
    all.extend(measured.into_iter().map(|(_, waited)| waited));
    Ok(())
}

/// The least time of each query, for each way of each place in turn.
fn timed(
    places: &mut [Place<'_>],
    ways: &[(&'static str, Find)],
    queries: &[Query],
) -> Result<Vec<(&'static str, Vec<f64>)>, Failure> {
    let names = places.iter().flat_map(|_| ways.iter().map(|(name, _)| (*name, Vec::new())));
    let mut times: Vec<_> = names.collect();
    for query in queries {
        let mut least = vec![f64::INFINITY; times.len()];
        for _ in 0..TURNS {
            let mut least = least.iter_mut();
            for place in &mut *places {
                for ((_, find), least) in ways.iter().zip(&mut least) {
                    *least = least.min(microseconds(|| (place.search)(query, find))?);
                }
            }
        }
        times.iter_mut().zip(least).for_each(|((_, times), least)| times.push(least));
    }
    Ok(times)
}

fn in_folder<'a>(
    folder: &'a Path,
    texts: &[(String, String)],
    schema: &Schema,
) -> Result<Place<'a>, Failure> {
    let fill = |batch: &mut nut_cellar::Batch<'_>| {
        (1_i64..).zip(texts).try_for_each(|(id, (title, body))| {
            batch.put(&Record::new(id).with("title", title.as_str()).with("body", body.as_str()))
        })
    };
    let cellar = Cellar::create_with(Folder::at(folder), schema.clone(), fill)?;
    Ok(Place {
        name: "folder",
        search: Box::new(move |query, find| Ok(cellar.search(query, find)?)),
        first: Box::new(move |query| Ok(Cellar::open_in(folder)?.search(query, &Find::new())?)),
    })
}

fn in_sqlite<'a>(file: &'a Path, texts: &[(String, String)], schema: &Schema) -> Result<Place<'a>, Failure> {
    let mut db = Connection::open(file)?;
    db.execute_batch(&format!("PRAGMA journal_mode = WAL; {TABLE}"))?;
    let transaction = db.transaction()?;
    {
        let mut insert = transaction.prepare("INSERT INTO items(title, body) VALUES (?1, ?2)")?;
        texts.iter().try_for_each(|(title, body)| insert.execute([title, body]).map(drop))?;
    }
    transaction.commit()?;
    let cellar = SqliteCellar::adopt(&db, "items", schema)?;
    Ok(Place {
        name: "SQLite",
        search: Box::new(move |query, find| Ok(cellar.search(&db, query, find)?)),
        first: Box::new(move |query| {
            let db = Connection::open(file)?;
            Ok(SqliteCellar::open(&db, "items")?.search(&db, query, &Find::new())?)
        }),
    })
}

/// The table is dropped before another of the same name is made.
fn in_postgresql<'a>(
    address: &'a str,
    texts: &[(String, String)],
    schema: &Schema,
) -> Result<Place<'a>, Failure> {
    let mut client = Client::connect(address, NoTls)?;
    client.batch_execute(&format!(
        "DROP TABLE IF EXISTS items; DROP SCHEMA IF EXISTS cellar_items CASCADE; {TABLE}"
    ))?;
    for (chunk, texts) in texts.chunks(CHUNK).enumerate() {
        let ids: Vec<_> =
            (chunk * CHUNK..).zip(texts).map(|(id, _)| i32::try_from(id)).collect::<Result<_, _>>()?;
        let (titles, bodies): (Vec<_>, Vec<_>) =
            texts.iter().map(|(title, body)| (title.as_str(), body.as_str())).unzip();
        let insert = "INSERT INTO items SELECT * FROM unnest($1::integer[], $2::text[], $3::text[])";
        client.execute(insert, &[&ids, &titles, &bodies])?;
    }
    let cellar = PostgresCellar::adopt(&mut client, "items", schema)?;
    Ok(Place {
        name: "PostgreSQL",
        search: Box::new(move |query, find| Ok(cellar.search(&mut client, query, find)?)),
        first: Box::new(move |query| {
            let mut client = Client::connect(address, NoTls)?;
            Ok(PostgresCellar::open(&mut client, "items")?.search(&mut client, query, &Find::new())?)
        }),
    })
}

/// Words of a record that is picked by chance: next to each other, or wherever they stand.
fn drawn(texts: &[(String, String)], words: usize, is_phrase: bool, random: &mut Random) -> String {
    loop {
        let (title, body) = &texts[random.place(texts.len())];
        let text = if random.chance(30) { title } else { body };
        if is_phrase {
            let whole: Vec<_> = text.split_whitespace().collect();
            let start = random.place(whole.len().saturating_sub(words).max(1));
            return format!(
                "\"{}\"",
                whole[start..(start + words).min(whole.len())].join(" ").replace('"', " ")
            );
        }
        let all: Vec<_> = text.split(|c: char| !c.is_alphanumeric()).filter(|word| word.len() > 3).collect();
        if !all.is_empty() {
            return (0..words).map(|_| random.pick(&all).to_lowercase()).collect::<Vec<_>>().join(" ");
        }
    }
}

/// Of so many in a hundred the most.
pub(crate) fn share(mut times: Vec<f64>, percent: usize) -> f64 {
    times.sort_by(f64::total_cmp);
    times[(times.len() * percent / 100).min(times.len() - 1)]
}

/// What is read of the answer of a build.
#[derive(Deserialize)]
struct Both {
    waits: Vec<Waited>,
}

/// Measures by this program and by an older build of it, in turn; of each figure the least of three.
///
/// # Errors
/// If one of them fails.
pub fn beside(other: &Path, wanted: &Wanted<'_>) -> Result<Vec<(Waited, Option<f64>)>, Failure> {
    let Wanted { generated, corpora, queries, only, postgres } = wanted;
    let mut arguments = ["search", "--json", "--without-kernels"].map(str::to_owned).to_vec();
    arguments.push(format!("--queries={queries}"));
    arguments.extend(generated.iter().map(|count| format!("--records={count}")));
    arguments.extend(corpora.map(|corpora| format!("--corpora={}", corpora.display())));
    arguments.extend(only.map(|only| format!("--only={only}")));
    arguments.extend(postgres.map(|address| format!("--postgres={address}")));
    let measured = |program: &Path| -> Result<Vec<Waited>, Failure> {
        let output = Command::new(program).args(&arguments).output()?;
        if !output.status.success() {
            return Err(String::from_utf8_lossy(&output.stderr).into());
        }
        Ok(serde_json::from_slice::<Both>(&output.stdout)?.waits)
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
    Ok(ours.into_iter().zip(theirs).map(|(ours, theirs)| (ours, Some(theirs.median_us))).collect())
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
