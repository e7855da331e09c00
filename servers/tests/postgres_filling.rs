//! A first fill in parts: interrupted wherever, it goes on where it was, and loses nothing of what changed meanwhile.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod support;

use nut_cellar::postgres::PostgresCellar;
use nut_cellar::rows::tune;
use nut_cellar::{Column, ErrorKind, Find, Schema};
use postgres::Client;
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use support::{Dice, connect, database, seeds};

/// Keys of different kinds, and a view.
const TABLES: [(&str, &[&str], &str); 4] = [
    ("CREATE TABLE items(id uuid PRIMARY KEY, title text)", &["id"], "md5(($1 % 4000)::text)::uuid"),
    (
        "CREATE TABLE items(id bytea PRIMARY KEY, title text)",
        &["id"],
        "decode(lpad(to_hex($1 + 65536 * ($1 % 7 + 1)), 8, '0'), 'hex')",
    ),
    (
        "CREATE TABLE items(id text, part integer, title text, PRIMARY KEY (id, part))",
        &["id", "part"],
        "'k''' || $1 % 3, $1",
    ),
    (
        "CREATE TABLE items(id integer PRIMARY KEY, title text); CREATE VIEW cards AS SELECT * FROM items",
        &["id"],
        "$1",
    ),
];

#[test]
fn a_fill_that_is_interrupted_goes_on_where_it_was() {
    tune(|tuning| tuning.rows_in_part = 700);
    let mut interruptions = 0;
    for seed in 1..=seeds(8) {
        let (table, columns, key) = TABLES[usize::try_from(seed % 4).unwrap()];
        let mut dice = Dice(seed * 0x9e37_79b9 + 1);
        let mut db = connect(&database());
        db.batch_execute(table).unwrap();
        let columns_listed = columns.join(", ");
        let write = |db: &mut Client, numbers: String, title: &str| {
            let key = key.replace("$1", "n");
            db.batch_execute(&format!(
                "INSERT INTO items({columns_listed}, title) SELECT {key}, '{title}' FROM {numbers} n ON CONFLICT ({columns_listed})
                 DO UPDATE SET title = excluded.title"
            ))
            .unwrap();
        };
        let rows = 500 + dice.roll(3_400);
        write(&mut db, format!("generate_series(1, {rows})"), "oak");
        let schema =
            columns[1..].iter().fold(Schema::new(columns[0]), |schema, column| schema.with_key(*column));
        let schema = schema.with("title", Column::text("en")).from_table("items");
        let schema = if table.contains("VIEW") { schema.through_view("cards") } else { schema };
        let cellar = loop {
            let mut left = dice.roll(8);
            let filling = catch_unwind(AssertUnwindSafe(|| {
                PostgresCellar::adopt_with(&mut db, "items", &schema, |_| {
                    if left == 0 {
                        resume_unwind(Box::new("interrupted"));
                    }
                    left -= 1;
                })
            }));
            let cellar = match filling {
                Ok(filled) => filled.unwrap().0,
                Err(_) => PostgresCellar::open(&mut db, "items").unwrap(),
            };
            match cellar.find(&mut db, "oak", &Find::new()) {
                Ok(_) => break cellar,
                Err(error) => assert_eq!(error.kind(), ErrorKind::NotFilled),
            }
            interruptions += 1;
            let held =
                db.query_one("SELECT count(*) FROM pg_locks WHERE locktype = 'advisory'", &[]).unwrap();
            assert_eq!(held.get::<_, i64>(0), 0, "nobody is kept from going on");
            for _ in 0..dice.roll(9) {
                write(&mut db, format!("generate_series({0}, {0} + 3)", dice.roll(9_000)), "elm");
                db.batch_execute("DELETE FROM items WHERE title = 'oak' AND random() < 0.001").unwrap();
            }
            if dice.roll(4) == 0 {
                db.batch_execute("TRUNCATE items").unwrap();
                write(&mut db, "generate_series(5, 2000, 2)".to_owned(), "oak");
            }
        };
        for word in ["oak", "elm"] {
            let there = db.query_one("SELECT count(*) FROM items WHERE title = $1", &[&word]).unwrap();
            let found = cellar.find(&mut db, word, &Find::new().limit(0)).unwrap();
            assert_eq!(found.total, u64::try_from(there.get::<_, i64>(0)).unwrap(), "seed {seed}: {word}");
        }
        cellar.check(&mut db).unwrap();
        assert_eq!(cellar.differences(&mut db).unwrap(), [], "seed {seed}");
    }
    assert!(interruptions > 8, "{interruptions}");
}
