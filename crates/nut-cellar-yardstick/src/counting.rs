//! What counts by value cost, beside what a program would do without them: reading all values of a column, visiting the matches in
//! another order, and `GROUP BY` over the hits in SQL.

use crate::completing::{Beside, in_turn};
use nut_cellar::counts::{Count, Period};
use nut_cellar::search::Total;
use nut_cellar::sqlite::{SqlFunctions, SqliteCellar};
use nut_cellar::{Cellar, Column, Filter, Find, Kind, Memory, Order, Query, Record, Schema, Value};
use rusqlite::Connection;
use std::cell::Cell;
use std::error::Error;

type Failure = Box<dyn Error>;

/// So many different values has the column that is counted.
const VALUES: u64 = 1_000;
/// So many records have each of the words that are searched for.
const MATCHING: u64 = 20_000;
/// A table of a database has so many rows at most.
const ROWS: u64 = 100_000;
/// Each is measured so often.
const TIMES: usize = 15;

/// Numbers that have nothing to do with each other.
fn scattered(number: u64, salt: u64) -> u64 {
    let mixed = (number ^ salt << 32).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    (mixed ^ mixed >> 31).wrapping_mul(0xbf58_476d_1ce4_e5b9) >> 20
}

fn station(number: u64) -> String {
    format!("Halt {:04}", scattered(number, 1) % VALUES)
}

fn status(number: u64) -> &'static str {
    match scattered(number, 4) % 3 {
        0 => "waiting",
        1 => "claimed",
        _ => "sent on",
    }
}

/// What measures two things, each time anew.
type Both<'a> = Box<dyn FnMut(u64) -> Result<(f64, f64), Failure> + 'a>;

/// Measures by so many generated records.
///
/// # Errors
/// If the records can't be kept.
pub fn measure(records: u64) -> Result<Vec<Beside>, Failure> {
    let words = (records / MATCHING).max(1);
    let cellar = cellar(records, words)?;
    let counting = || Find::new().strict().limit(0).total(Total::AtLeast(0));
    let one = counting().count(Count::of("station"));
    let everything = Query::read("thing").query;
    let mut all = Vec::new();
    let mut several = |what: &str, other: &'static str, mut both: Both<'_>| {
        let times = (0..TIMES as u64).map(&mut both).collect::<Result<Vec<_>, _>>()?;
        all.push(Beside::of(what.to_owned(), other, times));
        Ok::<_, Failure>(())
    };
    // Another filter each time, of which nothing is known from the one before. It lets half of the records through.
    let asked = Cell::new(0);
    let read_all = || {
        asked.set(asked.get() + 1);
        let filter = Filter::between("station", format!("Halt {:04}", asked.get()), "Halt 0500".to_owned());
        cellar.search(&everything, &Find::new().strict().limit(0).only(filter))
    };
    several(
        "a column of 1,000 values, of all records",
        "a filter that reads all its values",
        Box::new(|_| in_turn(|| cellar.search(&everything, &one), read_all)),
    )?;
    let word = |number: u64| Query::read(&format!("w{}", number % words)).query;
    let in_order =
        Find::new().strict().without_values().order(Order::Column { name: "pence".into(), down: true });
    several(
        "the same, of the records of a word",
        "visiting them in the order of a column",
        Box::new(|number| {
            in_turn(|| cellar.search(&word(number), &one), || cellar.search(&word(number), &in_order))
        }),
    )?;
    let five = one
        .clone()
        .count(Count::of("status"))
        .count(Count::ranges("pence", [100, 500, 2_000]))
        .count(Count::of("lent"))
        .count(Count::periods("seen_at", Period::Month).in_zone("Europe/Lisbon"));
    for (what, query) in [
        ("five counts, of all records", everything.clone()),
        ("five counts, of the records of a word", word(1)),
    ] {
        several(
            what,
            "one of them",
            Box::new(|_| in_turn(|| cellar.search(&query, &five), || cellar.search(&query, &one))),
        )?;
    }
    let statistics = counting().count(Count::statistics("weight"));
    several(
        "statistics of a column of floats, of all records",
        "a count",
        Box::new(|_| {
            in_turn(|| cellar.search(&everything, &statistics), || cellar.search(&everything, &one))
        }),
    )?;
    let connection = table(records.min(ROWS))?;
    let run = |sql: &str| {
        let mut statement = connection.prepare_cached(sql)?;
        let rows = statement.query_map([], |row| row.get::<_, i64>(1))?;
        rows.sum::<rusqlite::Result<i64>>()
    };
    let counted = |column: &str| {
        format!("SELECT value, records FROM cellar_count('items', 'w1', '{column} most 5000')")
    };
    let grouped = |column: &str| {
        format!(
            "SELECT {column}, count(*) FROM cellar_find('items', 'w1', 1000000, '{{\"strict\":true}}') found
             JOIN items ON items.id = found.key GROUP BY {column} ORDER BY 2 DESC"
        )
    };
    let both = |sql: &dyn Fn(&str) -> String| -> nut_cellar::Result<i64> {
        let all = ["station", "status"].iter().map(|column| run(&sql(column))).sum::<rusqlite::Result<i64>>();
        all.map_err(|error| nut_cellar::Error::new(nut_cellar::ErrorKind::Place, error.to_string()))
    };
    several(
        "two counts from SQL",
        "GROUP BY over the hits",
        Box::new(|_| in_turn(|| both(&counted), || both(&grouped))),
    )?;
    Ok(all)
}

/// A cellar of so many records, with so many different words.
fn cellar(records: u64, words: u64) -> Result<Cellar<Memory>, Failure> {
    const DAY: i64 = 86_400_000_000;
    let schema = Schema::new("id")
        .with("title", Column::text("none").not_kept())
        .with("station", Column::of(Kind::Exact).not_kept())
        .with("status", Column::of(Kind::Exact).not_kept())
        .with("pence", Column::of(Kind::Integer).not_kept())
        .with("weight", Column::of(Kind::Float).not_kept())
        .with("lent", Column::of(Kind::Boolean).not_kept())
        .with("seen_at", Column::of(Kind::Moment).not_kept());
    let cellar = Cellar::in_memory(schema)?;
    cellar.publish(|batch| {
        (0..records).try_for_each(|number| {
            let seen = i64::try_from(scattered(number, 2) % 1_000).unwrap_or(0) * DAY;
            let record = Record::new(i64::try_from(number).unwrap_or(0))
                .with("title", format!("thing w{}", scattered(number, 3) % words))
                .with("station", station(number))
                .with("status", status(number))
                .with("pence", i64::try_from(scattered(number, 5) % 9_000).unwrap_or(0))
                .with("lent", scattered(number, 7).is_multiple_of(2))
                .with("weight", scattered(number, 6) as f64 / 1e6)
                .with("seen_at", Value::Moment(seen));
            batch.put(&record)
        })
    })?;
    Ok(cellar)
}

/// A table whose rows are searched, of which 5,000 have each word.
fn table(rows: u64) -> Result<Connection, Failure> {
    let connection = Connection::open_in_memory()?;
    connection.execute_batch(
        "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, station TEXT, status TEXT); BEGIN;",
    )?;
    for number in 0..rows {
        let title = format!("thing w{}", scattered(number, 3) % (rows / 5_000).max(1));
        let status = status(number);
        let number_of_row = i64::try_from(number)?;
        connection.prepare_cached("INSERT INTO items VALUES (?, ?, ?, ?)")?.execute((
            number_of_row,
            title,
            station(number),
            status,
        ))?;
    }
    connection.execute_batch("COMMIT")?;
    let schema = Schema::new("id")
        .with("title", Column::text("none").not_kept())
        .with("station", Column::of(Kind::Exact).not_kept())
        .with("status", Column::of(Kind::Exact).not_kept());
    SqliteCellar::adopt(&connection, "items", &schema)?;
    SqlFunctions::new().register(&connection)?;
    Ok(connection)
}
