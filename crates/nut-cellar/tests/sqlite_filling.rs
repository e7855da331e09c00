//! A first fill in parts: interrupted wherever, it goes on where it was, and loses nothing of what changed meanwhile.
#![cfg(feature = "sqlite")]
#![allow(
    clippy::unwrap_used,
    clippy::cast_possible_truncation,
    clippy::cast_possible_wrap,
    clippy::cast_sign_loss,
    reason = "a test fails by panicking, and its numbers are small"
)]

mod support;

use nut_cellar::rows::tune;
use nut_cellar::sqlite::SqliteCellar;
use nut_cellar::{Column, Error, ErrorKind, Find, Schema};
use rusqlite::Connection;
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use support::{Dice, seeds};

/// Keys of different kinds: one whose collation takes two for equal, one of two parts, one through a view.
const TABLES: [(&str, &[&str], &str); 4] = [
    ("CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT)", &["id"], "?1"),
    (
        "CREATE TABLE items(id TEXT COLLATE NOCASE, title TEXT); CREATE UNIQUE INDEX u ON items(id COLLATE BINARY)",
        &["id"],
        "iif(?1 % 2, 'k', 'K') || ?1 / 12",
    ),
    (
        "CREATE TABLE items(id TEXT, part INTEGER, title TEXT, PRIMARY KEY (id, part)) WITHOUT ROWID",
        &["id", "part"],
        "'k' || (?1 % 3), ?1",
    ),
    (
        "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT); CREATE VIEW cards AS SELECT * FROM items",
        &["id"],
        "?1",
    ),
];

/// Ends a fill after so many calls of its progress function, as a process that is killed ends it.
fn interrupted(db: &Connection, schema: &Schema, calls: u64) -> Result<SqliteCellar, Error> {
    let mut left = calls;
    let filling = catch_unwind(AssertUnwindSafe(|| {
        SqliteCellar::adopt_with(db, "items", schema, |_| {
            if left == 0 {
                resume_unwind(Box::new("interrupted"));
            }
            left -= 1;
        })
    }));
    match filling {
        Ok(filled) => filled.map(|(cellar, _)| cellar),
        Err(_) => SqliteCellar::open(db, "items"),
    }
}

#[test]
fn a_fill_that_is_interrupted_goes_on_where_it_was() {
    tune(|tuning| tuning.rows_in_part = 1_000);
    let mut interruptions = 0;
    for seed in 1..=seeds(12) {
        let (table, columns, key) = TABLES[(seed % 4) as usize];
        let mut dice = Dice(seed * 0x9e37_79b9 + 1);
        let db = Connection::open_in_memory().unwrap();
        db.execute_batch(table).unwrap();
        let write = |number: u64, title: &str| {
            let sql =
                format!("INSERT OR REPLACE INTO items({}, title) VALUES ({key}, ?2)", columns.join(", "));
            db.execute(&sql, rusqlite::params![number as i64, title]).unwrap();
        };
        db.execute_batch("BEGIN").unwrap();
        let rows = 2_500 + dice.roll(4_000);
        for _ in 0..rows {
            write(dice.roll(40_000), "oak");
        }
        db.execute_batch("COMMIT").unwrap();
        let schema = Schema::new(columns[0]);
        let schema = columns[1..].iter().fold(schema, |schema, column| schema.with_key(*column));
        let schema = schema.with("title", Column::text("en")).from_table("items");
        let schema = if table.contains("VIEW") { schema.through_view("cards") } else { schema };
        let cellar = loop {
            let cellar = interrupted(&db, &schema, dice.roll(4)).unwrap();
            match cellar.find(&db, "oak", &Find::new()) {
                Ok(_) => break cellar,
                Err(error) => assert_eq!(error.kind(), ErrorKind::NotFilled),
            }
            interruptions += 1;
            for _ in 0..dice.roll(20) {
                write(dice.roll(40_000), "elm");
                db.execute("DELETE FROM items WHERE title = 'oak' AND random() % 500 = 0", []).unwrap();
            }
        };
        for word in ["oak", "elm"] {
            let sql = "SELECT count(*) FROM items WHERE title = ?1";
            let there: i64 = db.query_row(sql, [word], |row| row.get(0)).unwrap();
            let found = cellar.find(&db, word, &Find::new().limit(0)).unwrap();
            assert_eq!(found.total, there as u64, "seed {seed}: {word}");
        }
        cellar.check(&db).unwrap();
        assert_eq!(cellar.differences(&db).unwrap(), [], "seed {seed}");
    }
    assert!(interruptions > 10, "{interruptions}");

    // Each row is read once, but for those that changed, and what is told counts on.
    let db = Connection::open_in_memory().unwrap();
    db.execute_batch(TABLES[0].0).unwrap();
    db.execute_batch("WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 3500) INSERT INTO items SELECT i, 'oak' FROM n")
        .unwrap();
    let schema = Schema::new("id").with("title", Column::text("en"));
    let cellar = interrupted(&db, &schema, 2).unwrap();
    let error = cellar.find(&db, "oak", &Find::new()).unwrap_err();
    assert!(error.to_string().contains("(2998 rows are read)"), "{error}");
    let mut told = Vec::new();
    let (cellar, adopted) = SqliteCellar::adopt_with(&db, "items", &schema, |rows| told.push(rows)).unwrap();
    assert_eq!((adopted.synced.put, cellar.info(&db).unwrap().shelves), (502, 4));
    assert_eq!(told, [3_000]);
}

#[test]
fn of_keys_that_a_collation_takes_for_equal_none_is_lost_between_two_parts() {
    tune(|tuning| tuning.rows_in_part = 1_000);
    let db = Connection::open_in_memory().unwrap();
    db.execute_batch(TABLES[1].0).unwrap();
    db.execute_batch(
        "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 999)
         INSERT INTO items SELECT 'a' || i, 'oak' FROM n;
         INSERT INTO items VALUES ('b', 'elm'), ('B', 'elm'), ('c', 'elm')",
    )
    .unwrap();
    let schema = Schema::new("id").with("title", Column::text("en"));
    let (cellar, adopted) = SqliteCellar::adopt_with(&db, "items", &schema, |_| ()).unwrap();
    assert_eq!(adopted.synced.put, 1_002);
    assert_eq!(cellar.find(&db, "elm", &Find::new()).unwrap().total, 3);
    SqliteCellar::release(&db, "items").unwrap();
    // So many of them that a part has no others: the rest is one part then.
    tune(|tuning| tuning.rows_in_part = 1);
    assert_eq!(SqliteCellar::adopt_with(&db, "items", &schema, |_| ()).unwrap().1.synced.put, 1_002);
}
