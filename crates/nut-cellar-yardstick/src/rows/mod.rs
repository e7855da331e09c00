//! What search on the rows of a database costs: writing beside writing without it, searching beside a folder, what is pending,
//! and the first fill.

mod postgresql;
mod sqlite;

use crate::measure::median;
use crate::records::{self, Item};
use nut_cellar::text::{Pattern, Recipe, TextSettings};
use nut_cellar::{Cellar, Column, Find, Folder, Found, Info, Kind, Language, Record, Schema, Value};
use serde::Serialize;
use std::error::Error;
use std::fmt::Write;
use std::hint::black_box;
use std::path::Path;
use std::time::{Duration, Instant};

type Failure = Box<dyn Error>;

/// How often each search is timed.
const ROUNDS: usize = 300;
/// How often what takes long is.
const FEW_ROUNDS: usize = 7;
/// How often overlays are built, and what they are beside is done.
const OVERLAYS: u64 = 20;
/// Rows of a million that are written one by one, and updated.
const SINGLE: u64 = 2_000;
/// What is searched for beside a word that ten records have: words that are ever more common, and two at once.
const COMMON: [&str; 3] = ["hinged", "umbrella", "walnut brass"];
/// Changes that are pending.
const PENDING: u64 = 1_000;
/// Rows are inserted so many at a time, where how long it takes is not measured.
const CHUNK: u64 = 10_000;

/// What is to be measured.
pub struct Wanted<'a> {
    /// Rows to be searched.
    pub rows: u64,
    /// Rows to be written in one transaction.
    pub writes: u64,
    /// Where files go.
    pub folder: &'a Path,
    /// The address of an empty PostgreSQL database.
    pub postgres: Option<&'a str>,
}

/// Something that was measured, beside something else.
#[derive(Debug, Serialize)]
pub struct Figure {
    /// The database.
    pub database: &'static str,
    /// What was measured, and beside what.
    pub what: String,
    /// What it took; a time in microseconds unless `what` says otherwise.
    pub measured: f64,
    /// What it is measured beside took.
    pub beside: f64,
    /// What the one may be of the other at most.
    pub aim: Option<f64>,
}

/// Searches for a text.
type Finder<'f> = &'f mut dyn FnMut(&str) -> Result<(), Failure>;

/// A database with a table `items`, on which search may be put.
trait Rows {
    const NAME: &'static str;

    /// Inserts rows in one transaction.
    fn insert_all(&mut self, items: &[Item]) -> Result<(), Failure>;
    /// Inserts a row in a transaction of its own.
    fn insert(&mut self, item: &Item) -> Result<(), Failure>;
    /// Updates a column that is not searched, in a transaction of its own.
    fn set_note(&mut self, id: u64) -> Result<(), Failure>;
    /// Gives rows the titles of these items, in one transaction.
    fn retitle(&mut self, items: &[Item]) -> Result<(), Failure>;
    /// Reads the searched columns of rows by their keys, as fast as a program would, and gives their texts.
    fn texts(&mut self, ids: &[i64], each: &mut dyn FnMut(&str)) -> Result<(), Failure>;
    /// Reads every column of every row.
    fn scan(&mut self) -> Result<u64, Failure>;
    /// Puts search on the table.
    fn adopt(&mut self) -> Result<(), Failure>;
    /// Opens the cellar again, with nothing read yet.
    fn reopen(&mut self) -> Result<(), Failure>;
    fn find(&mut self, text: &str) -> Result<Found, Failure>;
    /// What has to be asked of the database before any search, and no more.
    fn ask(&mut self) -> Result<(), Failure>;
    /// Bytes of shelves that were read of the database since the cellar was opened, and all bytes of them.
    fn fetched(&mut self) -> Result<(u64, u64), Failure>;
    /// Puts changed rows into a shelf of their own.
    fn sync(&mut self) -> Result<(), Failure>;
    fn compact(&mut self) -> Result<(), Failure>;
    /// Gives rows the titles of these items, and gives `work` what searches them as they are then, and what searches them as they were,
    /// each in a transaction that goes on.
    fn after_and_before(
        &mut self,
        items: &[Item],
        work: &mut dyn FnMut(Finder<'_>, Finder<'_>) -> Result<(), Failure>,
    ) -> Result<(), Failure>;
}

/// What is searched, in memory, in a folder and in the databases.
fn schema() -> Schema {
    Schema::new("id")
        .with("title", Column::text("en").weighing(4.0))
        .with("description", Column::text("en"))
        .with("category", Column::of(Kind::Exact))
        .with("found_on", Column::of(Kind::Date))
        .with("value_pence", Column::of(Kind::Integer))
}

fn record(item: &Item) -> Result<Record, nut_cellar::Error> {
    let mut record = Record::new(i64::try_from(item.id).unwrap_or(i64::MAX));
    record.add("title", Value::from(item.title.as_str()));
    record.add("description", Value::from(item.description.as_str()));
    record.add("category", Value::from(item.category));
    record.add("found_on", Value::read(Kind::Date, &item.found_on)?);
    record.add("value_pence", Value::read(Kind::Integer, &item.value_pence.to_string())?);
    Ok(record)
}

/// All bytes of a cellar's shelves.
fn sum(info: &Info) -> u64 {
    info.bytes.iter().map(|(_, bytes)| bytes).sum()
}

/// Measures everything that is wanted.
///
/// # Errors
/// If a folder or a database can't be used.
pub fn measure(wanted: &Wanted<'_>) -> Result<Vec<Figure>, Failure> {
    let mut figures = Vec::new();
    let folder = tempfile::tempdir_in(wanted.folder)?;
    let (cellar, building) = build(folder.path(), wanted.rows)?;
    for journal in sqlite::JOURNALS {
        let mut place = 0;
        let mut fresh = || {
            place += 1;
            let file = folder.path().join(format!("{}-{place}.db", journal.name));
            sqlite::Sqlite::create(&file, &journal)
        };
        write_figures(&mut fresh, wanted.writes, &format!(", {}", journal.name), &mut figures)?;
        if !journal.synced {
            let plain = fresh()?;
            bare_log(plain, fresh()?.with_bare_log()?, journal.name, &mut figures)?;
        }
    }
    let sqlite = sqlite::Sqlite::create(&folder.path().join("searched.db"), &sqlite::JOURNALS[0])?;
    search_figures(sqlite, &cellar, building, wanted.rows, &mut figures)?;
    if let Some(address) = wanted.postgres {
        let mut place = 0;
        let mut fresh = || {
            place += 1;
            postgresql::PostgreSql::create(address, &format!("written_{place}"))
        };
        write_figures(&mut fresh, wanted.writes, "", &mut figures)?;
        let postgres = postgresql::PostgreSql::create(address, "searched")?;
        search_figures(postgres, &cellar, building, wanted.rows, &mut figures)?;
    }
    Ok(figures)
}

/// The cellar that the others are beside, and how long building it from records in memory takes.
fn build(folder: &Path, rows: u64) -> Result<(Cellar<Folder>, Duration), Failure> {
    let cellar = Cellar::create(Folder::at(folder.join("beside")), schema())?;
    let mut making = Duration::ZERO;
    let started = Instant::now();
    cellar.publish(|batch| {
        for first in (1..=rows).step_by(10_000) {
            let started = Instant::now();
            let items = (first..=rows.min(first + CHUNK - 1)).map(|id| record(&records::item(id, 1)));
            let records = items.collect::<Result<Vec<_>, _>>()?;
            making += started.elapsed();
            batch.put_all(records)?;
        }
        Ok(())
    })?;
    Ok((cellar, started.elapsed().saturating_sub(making)))
}

fn time(work: impl FnOnce() -> Result<(), Failure>) -> Result<Duration, Failure> {
    let started = Instant::now();
    work()?;
    Ok(started.elapsed())
}

fn us(time: Duration) -> f64 {
    time.as_secs_f64() * 1e6
}

/// Writing with search beside writing without it, in turn.
fn write_figures<R: Rows>(
    fresh: &mut dyn FnMut() -> Result<R, Failure>,
    writes: u64,
    how: &str,
    figures: &mut Vec<Figure>,
) -> Result<(), Failure> {
    let items: Vec<_> = (1..=writes).map(|id| records::item(id, 2)).collect();
    let mut both = Vec::new();
    let (mut plain_bulk, mut bulk) = (Duration::MAX, Duration::MAX);
    for _ in 0..FEW_ROUNDS {
        let (mut plain, mut searched) = (fresh()?, fresh()?);
        searched.adopt()?;
        plain_bulk = plain_bulk.min(time(|| plain.insert_all(&items))?);
        bulk = bulk.min(time(|| searched.insert_all(&items))?);
        both = vec![plain, searched];
    }
    let [plain, searched] = &mut both[..] else { return Ok(()) };
    searched.compact()?;
    let (mut single, mut note) = ([Vec::new(), Vec::new()], [Vec::new(), Vec::new()]);
    for id in writes + 1..=writes + SINGLE {
        let item = records::item(id, 2);
        single[0].push(time(|| plain.insert(&item))?);
        single[1].push(time(|| searched.insert(&item))?);
        let old = 1 + id * 7_919 % writes;
        note[0].push(time(|| plain.set_note(old))?);
        note[1].push(time(|| searched.set_note(old))?);
    }
    let postgres = R::NAME == postgresql::PostgreSql::NAME;
    let mut add = |what: &str, measured: f64, beside: f64, aim: Option<f64>| {
        let what = format!("{what}, beside none on the table{how}");
        figures.push(Figure { database: R::NAME, what, measured, beside, aim });
    };
    let [plain_single, single] = single.map(|times| us(median(times)));
    let [plain_note, note] = note.map(|times| us(median(times)));
    add("an insert of its own", single, plain_single, Some(if postgres { 1.5 } else { 1.3 }));
    let each = writes.max(1) as f64;
    let what = format!("an insert, {writes} in one transaction");
    add(&what, us(bulk) / each, us(plain_bulk) / each, Some(if postgres { 2.0 } else { 1.8 }));
    add("an update of a column that is not searched", note, plain_note, (!postgres).then_some(1.1));
    Ok(())
}

/// What the least log costs, where a commit costs little.
fn bare_log<R: Rows>(
    mut plain: R,
    mut logged: R,
    how: &str,
    figures: &mut Vec<Figure>,
) -> Result<(), Failure> {
    let mut times = [Vec::new(), Vec::new()];
    for id in 1..=SINGLE {
        let item = records::item(id, 2);
        times[0].push(time(|| plain.insert(&item))?);
        times[1].push(time(|| logged.insert(&item))?);
    }
    let [beside, measured] = times.map(|times| us(median(times)));
    let what =
        format!("an insert of its own with a trigger that logs its key and no search, beside none, {how}");
    figures.push(Figure { database: R::NAME, what, measured, beside, aim: None });
    Ok(())
}

/// The median times of the searches in one and the other, in turn, because a machine's speed drifts.
fn both_times(
    one: &mut dyn FnMut(&str) -> Result<(), Failure>,
    other: &mut dyn FnMut(&str) -> Result<(), Failure>,
    query: &str,
) -> Result<(f64, f64), Failure> {
    let (mut of_one, mut of_other) = (Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        of_one.push(time(|| one(query))?);
        of_other.push(time(|| other(query))?);
    }
    Ok((us(median(of_one)), us(median(of_other))))
}

fn search_figures<R: Rows>(
    mut database: R,
    cellar: &Cellar<Folder>,
    building: Duration,
    rows: u64,
    figures: &mut Vec<Figure>,
) -> Result<(), Failure> {
    let mut add = |what: String, measured: f64, beside: f64, aim: Option<f64>| {
        figures.push(Figure { database: R::NAME, what, measured, beside, aim });
    };
    for first in (1..=rows).step_by(10_000) {
        let items: Vec<_> = (first..=rows.min(first + CHUNK - 1)).map(|id| records::item(id, 1)).collect();
        database.insert_all(&items)?;
    }
    let reading = time(|| database.scan().map(|count| assert_eq!(count, rows, "every row is read")))?;
    let filling = time(|| database.adopt())?;
    let what = "the first fill, beside building from memory and reading the rows";
    add(what.to_owned(), us(filling), us(building + reading), Some(1.5));
    database.compact()?;

    let terms = cellar.terms(&Pattern::new("*")?, usize::MAX)?.terms;
    let rare = terms.into_iter().find(|term| term.records == 10).map(|rare| rare.term);
    let queries: Vec<String> = rare.into_iter().chain(COMMON.map(str::to_owned)).collect();
    let mut first = Duration::ZERO;
    for query in queries.iter().rev() {
        database.reopen()?;
        first = time(|| database.find(query).map(drop))?;
        let (fetched, all) = database.fetched()?;
        let what = format!("bytes read by a first search for `{query}`, beside all of the shelves");
        add(what, fetched as f64, all as f64, Some(0.02));
    }
    let mut folder = |query: &str| {
        black_box(cellar.find(query, &Find::new())?);
        Ok(())
    };
    let asking = {
        let mut times = Vec::new();
        for _ in 0..ROUNDS {
            times.push(time(|| database.ask())?);
        }
        us(median(times))
    };
    let mut warm = Vec::new();
    for query in &queries {
        let found = (cellar.find(query, &Find::new())?.total, database.find(query)?.total);
        assert_eq!(found.0, found.1, "both find the same");
        let (beside, took) = both_times(&mut folder, &mut |query| database.find(query).map(drop), query)?;
        warm.push(took);
        let what = format!("`{query}` ({} found), beside a folder and {asking:.0} µs of asking", found.0);
        add(what, took, beside + asking, Some(1.3));
    }
    add("the first search after opening, beside the same warm".to_owned(), us(first), warm[0], None);

    let recipe = Recipe::of(&TextSettings::of(Language::new("en")?));
    for (how, apart) in [("side by side", 1), ("far apart", (rows / PENDING).max(1))] {
        let items = |round: u64| -> Vec<_> {
            (0..PENDING.min(rows)).map(|row| records::item(1 + row * apart, 3 + round)).collect()
        };
        let ids: Vec<_> = items(0).iter().map(|item| i64::try_from(item.id)).collect::<Result<_, _>>()?;
        database.compact()?;
        let mut best = [f64::MAX; 2];
        // In turn, each after the same: neither finds rows or words near that the other has just read.
        for round in 0..2 * OVERLAYS {
            // In the first round the shelves are read for the first time, which is measured above.
            database.sync()?;
            database.find(&queries[0])?;
            database.retitle(&items(round))?;
            let took = if round % 2 == 0 {
                let mut tokens = 0;
                time(|| {
                    database.texts(&ids, &mut |text| {
                        recipe.tokens(text, |_| tokens += 1);
                    })?;
                    assert!(black_box(tokens) > 0, "rows have words");
                    Ok(())
                })?
            } else {
                time(|| database.find(&queries[0]).map(drop))?
            };
            let best = &mut best[usize::from(round % 2 == 1)];
            *best = best.min(us(took));
        }
        let [reading, overlay] = best;
        let what = format!(
            "the first search with {PENDING} changed rows, {how}, beside reading them by their keys and tokenising them"
        );
        add(what, overlay - warm[0], reading, Some(2.0));
    }
    database.compact()?;
    let items: Vec<_> = (1..=PENDING.min(rows)).map(|id| records::item(id, 2)).collect();
    database.after_and_before(&items, &mut |after, before| {
        for query in &queries {
            let (none, changed) = both_times(before, after, query)?;
            add(
                format!("`{query}` with {PENDING} changed rows, beside none in a transaction begun before"),
                changed,
                none,
                Some(2.0),
            );
        }
        Ok(())
    })
}

/// What was measured, as a table in Markdown.
pub fn table(figures: &[Figure]) -> String {
    let mut out = String::from("| | | µs | beside | ratio | aim |\n|---|---|---|---|---|---|");
    for Figure { database, what, measured, beside, aim } in figures {
        let ratio = measured / beside;
        let aim = aim.map_or(String::new(), |aim| aim.to_string());
        // Writing to a string never fails.
        let _ = write!(out, "\n| {database} | {what} | {measured:.1} | {beside:.1} | {ratio:.3} | {aim} |");
    }
    out
}
