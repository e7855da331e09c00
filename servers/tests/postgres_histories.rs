//! Never out of step: whatever several programs do to a table with plain SQL, every search equals, in keys, order, totals and
//! every bit of the scores, the oracle over the rows that its own transaction sees.
#![allow(
    clippy::unwrap_used,
    clippy::cast_possible_truncation,
    clippy::cast_possible_wrap,
    clippy::cast_sign_loss,
    reason = "a test fails by panicking, and its numbers are small"
)]

mod support;

use nut_cellar::postgres::PostgresCellar;
use nut_cellar::rows::tune;
use nut_cellar::{Column, ErrorKind, Find, Key, Query, Record, Schema, Words};
use nut_cellar_servers::Server;
use postgres::error::SqlState;
use postgres::{Client, GenericClient};
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};
use support::oracle::{self, OracleColumn, OracleSearch};
use support::{Dice, connect, database};

const WORDS: [&str; 8] = ["oak", "oaks", "elm", "box", "boxes", "brass", "handle", "wi-fi"];

/// Tables with different kinds of keys; `id` is the key, `slot` is unique too, `plain` is not searched.
const TABLES: [&str; 6] = [
    "CREATE TABLE items(id bigint PRIMARY KEY, title text, notes text, slot integer UNIQUE, plain text)",
    "CREATE TABLE items(id text PRIMARY KEY, title text, notes varchar(90), slot integer UNIQUE, plain text)",
    "CREATE TABLE items(id uuid PRIMARY KEY, title text, notes text, slot integer, plain text)",
    "CREATE TABLE items(id bytea PRIMARY KEY, title text, notes text, slot integer UNIQUE, plain text)",
    "CREATE TABLE items(id integer PRIMARY KEY, title text, notes text, slot integer, plain text) PARTITION BY RANGE (id);
     CREATE TABLE low PARTITION OF items FOR VALUES FROM (MINVALUE) TO (4);
     CREATE TABLE high PARTITION OF items FOR VALUES FROM (4) TO (MAXVALUE)",
    "CREATE TABLE items(id text, part integer, title text, notes text, slot integer UNIQUE, plain text, PRIMARY KEY (part, id))",
];
/// The one whose key has two parts: `id` and `part`.
const IN_PARTS: usize = 5;

fn text(dice: &mut Dice) -> String {
    let words: Vec<_> = (0..dice.roll(6)).map(|_| dice.pick(&WORDS)).collect();
    format!("'{}'", words.join(" "))
}

fn key(dice: &mut Dice, table: usize) -> String {
    let number = dice.roll(9);
    match table {
        1 | IN_PARTS => format!("'{}{number}'", dice.pick(&["k", "K"])),
        2 => format!("'00000000-0000-0000-0000-00000000000{number}'"),
        3 => format!("'\\x0{number}'"),
        _ => number.to_string(),
    }
}

/// A statement as some program would send it.
fn statement(dice: &mut Dice, table: usize) -> String {
    let sql = statement_by_id(dice, table);
    if table != IN_PARTS {
        return sql;
    }
    let [part, other] = [0; 2].map(|_| dice.roll(3));
    let moved = if dice.roll(3) == 0 { format!("SET part = {other}, id = ") } else { "SET id = ".to_owned() };
    sql.replace("items(id,", "items(part, id,")
        .replace("VALUES (", &format!("VALUES ({part}, "))
        .replace("SELECT 'k", &format!("SELECT {part}, 'k"))
        .replace("SELECT 'K", &format!("SELECT {part}, 'K"))
        .replace("CONFLICT (id)", "CONFLICT (part, id)")
        .replace("WHERE id", &format!("WHERE part = {part} AND id"))
        .replace("SET id = ", &moved)
}

fn statement_by_id(dice: &mut Dice, table: usize) -> String {
    let (id, other, slot) = (key(dice, table), key(dice, table), dice.roll(9));
    let (title, notes) = (text(dice), if dice.roll(5) == 0 { "NULL".to_owned() } else { text(dice) });
    let insert = format!("INSERT INTO items(id, title, notes, slot) VALUES ({id}, {title}, {notes}, {slot})");
    match dice.roll(14) {
        0..4 => insert,
        4 => format!("{insert} ON CONFLICT (id) DO UPDATE SET title = excluded.title"),
        5 => format!("{insert} ON CONFLICT DO NOTHING"),
        6 => format!("UPDATE items SET title = {title} WHERE id = {id}"),
        7 => format!("UPDATE items SET notes = {notes}, slot = {slot} WHERE id = {id}"),
        8 => format!("UPDATE items SET id = {other} WHERE id = {id}"),
        9 => format!("UPDATE items SET plain = {title} WHERE slot > {slot}"),
        10 => format!("DELETE FROM items WHERE id = {id}"),
        11 => format!("UPDATE items SET title = upper(title) WHERE slot < {slot}"),
        12 if dice.roll(4) == 0 => "TRUNCATE items".to_owned(),
        12 if table == 4 => {
            format!("INSERT INTO high(id, title) VALUES ({slot} + 4, {title}) ON CONFLICT DO NOTHING")
        }
        12 => format!(
            "WITH gone AS (DELETE FROM items WHERE id = {id} RETURNING *) INSERT INTO items(id, title) SELECT {other}, title FROM gone"
        ),
        _ => format!("UPDATE items SET title = title, notes = notes WHERE slot > {slot}"),
    }
}

fn schema(table: usize) -> Schema {
    let schema = Schema::new("id");
    let schema = if table == IN_PARTS { schema.with_key("part") } else { schema };
    schema.with("title", Column::text("en").weighing(2.0)).with("notes", Column::text("none"))
}

/// All rows as the connection sees them; none if two of them have the same key. That happens where a transaction whose snapshot is
/// older than the deletion of a row puts another one with its key.
fn rows(
    client: &mut impl GenericClient,
    table: usize,
) -> Result<Option<BTreeMap<Key, Record>>, postgres::Error> {
    let id = match table {
        0 | 4 => "id::bigint",
        3 => "id",
        _ => "id::text",
    };
    let part = if table == IN_PARTS { "part" } else { "0" };
    let rows = client.query_typed(&format!("SELECT {id}, title, notes, {part}::bigint FROM items"), &[])?;
    let all: BTreeMap<_, _> = rows
        .iter()
        .map(|row| {
            let key = match table {
                0 | 4 => Key::Integer(row.get(0)),
                3 => Key::Bytes(row.get(0)),
                IN_PARTS => [Key::Text(row.get(0)), Key::Integer(row.get(3))].into_iter().collect(),
                _ => Key::Text(row.get(0)),
            };
            let mut record = Record::new(key.clone());
            for (place, column) in [(1, "title"), (2, "notes")] {
                let value: Option<String> = row.get(place);
                if let Some(value) = value {
                    record.add(column, value);
                }
            }
            (key, record)
        })
        .collect();
    Ok((all.len() == rows.len()).then_some(all))
}

/// What alters a table behind the triggers' back, or the cellar, so that searches are refused until it is repaired.
fn behind_their_back(dice: &mut Dice, table: usize) -> String {
    match dice.roll(7) {
        0 => "ALTER TABLE items ALTER title TYPE text USING upper(title) || ' elm'".to_owned(),
        1 => format!("ALTER TABLE items ALTER notes TYPE varchar({}) USING 'oak'", 90 + dice.roll(2)),
        // Rewritten, but no value of it.
        2 => dice
            .pick(&["VACUUM FULL items", "ALTER TABLE items ALTER slot TYPE bigint", "ANALYZE items"])
            .to_owned(),
        3 if table == 4 => {
            let part = dice.pick(&["low", "high"]);
            format!("ALTER TABLE {part} DISABLE TRIGGER ALL; UPDATE {part} SET title = 'elm'")
        }
        3 | 4 => "DELETE FROM cellar_items.chunk WHERE number = 0 OR pg_catalog.random() < 0.5".to_owned(),
        5 => dice
            .pick(&[
                "UPDATE cellar_items.state SET manifest = substr(manifest, 1, 20)",
                "UPDATE cellar_items.state SET manifest = ''",
                "DELETE FROM cellar_items.state",
            ])
            .to_owned(),
        _ => format!("DROP TABLE cellar_items.{} CASCADE", dice.pick(&["log", "chunk", "state"])),
    }
}

/// Repairs the cellar, if nobody's lock is in the way.
fn repair(cellar: &PostgresCellar, client: &mut Client, at: &str) -> bool {
    match cellar.repair(client) {
        Ok(_) => true,
        Err(error) if error.is_busy() => false,
        Err(error) => panic!("{at}, repair: {error}"),
    }
}

/// Holds a search to the oracle; none where somebody else's lock is in the way.
fn check(
    dice: &mut Dice,
    cellar: &PostgresCellar,
    client: &mut impl GenericClient,
    (table, altered): (usize, bool),
    at: &str,
) -> Option<()> {
    let clauses: Vec<String> = (0..=dice.roll(2))
        .map(|_| (0..=dice.roll(2)).map(|_| dice.pick(&WORDS)).collect::<Vec<_>>().join(" "))
        .collect();
    let query: Vec<_> = clauses.iter().map(|clause| format!("\"{clause}\"")).collect();
    let weights = [dice.pick(&[0.0_f32, 1.0, 3.5]), dice.pick(&[1.0_f32, 0.25])];
    let columns = vec![
        OracleColumn {
            name: "title",
            language: "en",
            others: None,
            weight: weights[0],
            gap: 16,
            most: u32::MAX,
        },
        OracleColumn {
            name: "notes",
            language: "none",
            others: None,
            weight: weights[1],
            gap: 16,
            most: u32::MAX,
        },
    ];
    let search = OracleSearch::plain(columns, Query::words(clauses.iter().map(Query::phrase)), Words::Any);
    let find = Find::new()
        .strict()
        .words(Words::Any)
        .limit(100)
        .weight("title", weights[0])
        .weight("notes", weights[1]);
    let found = match cellar.find(client, &query.join(" "), &find) {
        Ok(found) => found,
        Err(error) if error.is_busy() => return None,
        Err(error) if altered && (error.is_out_of_step() || error.is_damaged()) => return None,
        Err(error) if altered && error.kind() == ErrorKind::NotFilled => return None,
        Err(error) => panic!("{at}: {error}"),
    };
    // A search asks nothing of a table of which nothing is logged, and need not wait for its lock; this does.
    let rows = match rows(client, table) {
        Err(error) if error.code() == Some(&SqlState::LOCK_NOT_AVAILABLE) => return None,
        rows => rows.unwrap_or_else(|error| panic!("{at}: {error}")),
    };
    let Some(rows) = rows else { return Some(()) };
    let expected: Vec<_> =
        oracle::search(&rows, &search).into_iter().map(|hit| (hit.key, hit.score.to_bits())).collect();
    let hits: Vec<_> = found.hits.iter().map(|hit| (hit.key.clone(), hit.score.to_bits())).collect();
    assert_eq!((found.total, hits), (expected.len() as u64, expected), "{at}: {}", query.join(" "));
    for hit in &found.hits {
        for column in ["title", "notes"] {
            let shown = hit.values.get(column).map_or(&[][..], Vec::as_slice);
            assert_eq!(shown, rows[&hit.key].values(column), "{at}: what is shown of {}", hit.key);
        }
    }
    let part = if table == IN_PARTS { "AND items.part = found.key_2" } else { "" };
    let sql = format!("SELECT 1 FROM found JOIN items ON items.id = found.key {part}");
    let joined = cellar.join(client, &found, &sql, &[]);
    assert_eq!(joined.unwrap().len(), found.hits.len(), "{at}");
    Some(())
}

/// Sends a statement. Where it fails, what the transaction had done is rolled back, or the part behind a savepoint.
fn send(client: &mut Client, dice: &mut Dice, sql: &str) {
    if client.batch_execute(sql).is_err() {
        let back = dice.pick(&["ROLLBACK TO s", "ROLLBACK"]);
        if client.batch_execute(back).is_err() {
            client.batch_execute("ROLLBACK").unwrap();
        }
    }
}

/// One history: programs write in transactions of every isolation, searches run inside and outside of them, and another
/// connection catches up in between.
fn history(seed: u64, table: usize, steps: u64) {
    let address = database();
    let impatient = || {
        let mut client = connect(&address);
        client.batch_execute("SET lock_timeout = '5ms'").unwrap();
        client
    };
    let mut first = impatient();
    first.batch_execute(TABLES[table]).unwrap();
    let mut dice = Dice(seed * 0x9e37_79b9 + 1);
    // Some searches join logged rows and some call a function for them.
    tune(|tuning| tuning.joined_from = 1 + seed % 3);
    for _ in 0..dice.roll(9) {
        let _ = first.batch_execute(&statement(&mut dice, table));
    }
    let mut cellar = PostgresCellar::adopt(&mut first, "items", &schema(table)).unwrap();
    let mut programs = [impatient(), impatient()];
    // Whether something was done behind the triggers' back since the cellar was last repaired.
    let (mut altered, mut last) = (false, String::new());
    for step in 0..steps {
        if dice.roll(25) == 0 {
            let sql = behind_their_back(&mut dice, table);
            altered |= first.batch_execute(&sql).is_ok();
            last = format!(", behind their back: {sql}");
        }
        let program = &mut programs[dice.roll(2) as usize];
        let sql = match dice.roll(14) {
            0 => dice
                .pick(&[
                    "BEGIN",
                    "BEGIN ISOLATION LEVEL REPEATABLE READ",
                    "BEGIN ISOLATION LEVEL SERIALIZABLE",
                ])
                .to_owned(),
            1 => "COMMIT".to_owned(),
            2 => "ROLLBACK".to_owned(),
            3 => "SAVEPOINT s".to_owned(),
            4 => "ROLLBACK TO s".to_owned(),
            5 => "RELEASE s".to_owned(),
            _ => statement(&mut dice, table),
        };
        send(program, &mut dice, &sql);
        let at = format!("table {table}, seed {seed}, step {step}, {sql}{last}");
        if check(&mut dice, &cellar, program, (table, altered), &at).is_none() {
            let _ = program.batch_execute("ROLLBACK");
        }
        if altered && dice.roll(3) == 0 && repair(&cellar, &mut first, &at) {
            altered = false;
            // A column may have got another type, for which handles are opened again.
            if dice.roll(2) == 0 || cellar.find(&mut first, "oak", &Find::new()).is_err() {
                cellar = PostgresCellar::open(&mut first, "items").unwrap();
            }
            // What a program's transaction has seen before is of before.
            for program in &mut programs {
                let _ = program.batch_execute("ROLLBACK");
            }
            check(&mut dice, &cellar, &mut first, (table, altered), &at).unwrap();
        }
        match dice.roll(10) {
            0 => _ = check(&mut dice, &cellar, &mut first, (table, altered), &at),
            _ if altered => {}
            1 => {
                let synced = match dice.roll(3) {
                    0 => cellar.compact(&mut first),
                    _ => cellar.sync(&mut first),
                };
                match synced {
                    Ok(_) => _ = check(&mut dice, &cellar, &mut first, (table, false), &at),
                    Err(error) => assert!(error.is_busy(), "{at}: {error}"),
                }
            }
            _ => {}
        }
    }
}

/// `NUT_CELLAR_SEEDS` says how many histories of each table; eight without.
#[test]
fn searches_equal_the_rows() {
    let seeds = std::env::var("NUT_CELLAR_SEEDS").map_or(8, |seeds| seeds.parse().unwrap());
    for table in 0..TABLES.len() {
        for seed in 0..seeds {
            history(seed, table, 150);
        }
    }
}

/// So many searches are made while others write, and in which time it has to be done.
const SEARCHES: u64 = 60;
const PATIENCE: Duration = Duration::from_secs(100);

/// Programs that write, catch up and search at the same time.
#[test]
fn searches_equal_the_rows_while_others_write_and_catch_up() {
    for table in [0, 4] {
        let address = database();
        let mut first = connect(&address);
        first.batch_execute(TABLES[table]).unwrap();
        let cellar = PostgresCellar::adopt(&mut first, "items", &schema(table)).unwrap();
        let (done, searches) = (AtomicBool::new(false), AtomicU64::new(0));
        std::thread::scope(|threads| {
            let writers = [1, 2, 3].map(|seed| {
                let (address, searches) = (&address, &searches);
                threads.spawn(move || {
                    let (mut client, mut dice) = (connect(address), Dice(seed));
                    client.batch_execute("SET lock_timeout = '100ms'").unwrap();
                    let begun = Instant::now();
                    while searches.load(Ordering::Relaxed) < SEARCHES && begun.elapsed() < PATIENCE {
                        let statements: Vec<_> =
                            (0..=dice.roll(3)).map(|_| statement(&mut dice, table)).collect();
                        let end = dice.pick(&["COMMIT", "COMMIT", "ROLLBACK"]);
                        send(&mut client, &mut dice, &format!("BEGIN; {}; {end}", statements.join("; ")));
                    }
                })
            });
            for seed in [11, 12] {
                let (address, cellar, done) = (&address, &cellar, &done);
                threads.spawn(move || {
                    let (mut client, mut dice) = (connect(address), Dice(seed));
                    while !done.load(Ordering::Relaxed) {
                        match dice.roll(4) {
                            0 => cellar.compact(&mut client).unwrap(),
                            _ => cellar.sync(&mut client).unwrap(),
                        };
                    }
                });
            }
            {
                let (address, cellar, done, searches) = (&address, &cellar, &done, &searches);
                threads.spawn(move || {
                    let (mut client, mut dice) = (connect(address), Dice(21));
                    while !done.load(Ordering::Relaxed) {
                        // A fresh handle has nothing in its cache, so that pieces that are gone are asked for.
                        let fresh = PostgresCellar::open(&mut client, "items").unwrap();
                        let handle = dice.pick(&[cellar, &fresh]);
                        let begin = client.build_transaction();
                        let mut transaction =
                            begin.isolation_level(postgres::IsolationLevel::RepeatableRead).start().unwrap();
                        // To an older snapshot a table that was truncated looks empty, which no search can know of.
                        transaction.batch_execute("LOCK TABLE items IN ACCESS SHARE MODE").unwrap();
                        check(&mut dice, handle, &mut transaction, (table, false), "at once");
                        transaction.commit().unwrap();
                        let outside = handle.find(&mut client, "oak OR elm", &Find::new());
                        outside.unwrap();
                        searches.fetch_add(1, Ordering::Relaxed);
                    }
                });
            }
            let failed = writers.into_iter().any(|writer| writer.join().is_err());
            done.store(true, Ordering::Relaxed);
            assert!(!failed);
        });
        assert!(searches.load(Ordering::Relaxed) >= SEARCHES);
        let mut dice = Dice(31);
        for _ in 0..20 {
            check(&mut dice, &cellar, &mut first, (table, false), "after all").unwrap();
        }
        cellar.check(&mut first).unwrap();
    }
}

/// The server ends in the middle of whatever is going on, and starts again.
#[test]
fn a_server_that_is_killed_loses_nothing_and_has_nothing_twice() {
    let server = Server::start();
    let address = server.address("postgres");
    connect(&address).batch_execute(TABLES[0]).unwrap();
    let cellar = PostgresCellar::adopt(&mut connect(&address), "items", &schema(0)).unwrap();
    let mut dice = Dice(5);
    for round in 0..8 {
        std::thread::scope(|threads| {
            for seed in [1, 2] {
                let address = &address;
                threads.spawn(move || {
                    let (mut client, mut dice) = (connect(address), Dice(seed + 10 * round));
                    // Until the server is gone.
                    while !client.is_closed() {
                        let _ = client.batch_execute(&statement(&mut dice, 0));
                    }
                });
            }
            let (address, cellar) = (&address, &cellar);
            threads.spawn(move || {
                let mut client = connect(address);
                while cellar.sync(&mut client).is_ok() {
                    if cellar.compact(&mut client).is_err() {
                        break;
                    }
                }
            });
            std::thread::sleep(Duration::from_millis(50 + dice.roll(150)));
            server.kill();
        });
        server.launch();
        let mut client = connect(&address);
        for _ in 0..5 {
            check(&mut dice, &cellar, &mut client, (0, false), &format!("round {round}")).unwrap();
        }
        cellar.check(&mut client).unwrap();
        assert!(cellar.sync(&mut client).is_ok());
        check(&mut dice, &cellar, &mut client, (0, false), &format!("round {round}, caught up")).unwrap();
    }
}
