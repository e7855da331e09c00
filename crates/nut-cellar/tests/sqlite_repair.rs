//! Changes that no trigger sees: they are found by comparing records with rows, and repaired.
#![cfg(feature = "sqlite")]
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use nut_cellar::sqlite::SqliteCellar;
use nut_cellar::{Column, Difference, ErrorKind, Find, Key, Kind, Schema};
use rusqlite::Connection;

fn office() -> (Connection, SqliteCellar) {
    let db = Connection::open_in_memory().unwrap();
    db.execute_batch(
        "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, notes TEXT, value INTEGER);
         WITH RECURSIVE n(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM n WHERE n < 50)
         INSERT INTO items SELECT n, 'walnut box ' || n, 'brass', n % 7 FROM n;",
    )
    .unwrap();
    let schema = Schema::new("id")
        .with("title", Column::text("en"))
        .with("notes", Column::text("en").not_kept())
        .with("value", Column::of(Kind::Integer).not_kept());
    let cellar = SqliteCellar::adopt(&db, "items", &schema).unwrap();
    (db, cellar)
}

/// Does what no trigger sees.
fn unseen(db: &Connection, sql: &str) {
    let triggers: Vec<(String, String)> = db
        .prepare("SELECT name, sql FROM sqlite_schema WHERE type = 'trigger'")
        .unwrap()
        .query_map([], |row| Ok((row.get(0)?, row.get(1)?)))
        .unwrap()
        .map(Result::unwrap)
        .collect();
    for (name, _) in &triggers {
        db.execute_batch(&format!("DROP TRIGGER \"{name}\"")).unwrap();
    }
    db.execute_batch(sql).unwrap();
    for (_, sql) in &triggers {
        db.execute_batch(sql).unwrap();
    }
}

fn total(db: &Connection, cellar: &SqliteCellar, query: &str) -> u64 {
    cellar.find(db, query, &Find::new()).unwrap().total
}

#[test]
fn what_no_trigger_saw_is_found_and_repaired() {
    let (db, cellar) = office();
    assert_eq!(cellar.differences(&db).unwrap(), []);
    unseen(
        &db,
        "UPDATE items SET notes = 'oak' WHERE id = 3; UPDATE items SET value = 9 WHERE id = 4;
         DELETE FROM items WHERE id = 5; INSERT INTO items(id, title) VALUES (60, 'elm box');",
    );
    // What a trigger sees differs from nothing, whether anybody has caught up or not.
    db.execute_batch("UPDATE items SET title = 'umbrella' WHERE id = 9; DELETE FROM items WHERE id = 10")
        .unwrap();
    let expected = vec![
        (Key::from(3), Difference::Altered),
        (Key::from(4), Difference::Altered),
        (Key::from(5), Difference::Surplus),
        (Key::from(60), Difference::Missing),
    ];
    assert_eq!(cellar.differences(&db).unwrap(), expected);
    assert_eq!((total(&db, &cellar, "oak"), total(&db, &cellar, "elm")), (0, 0));
    let repaired = cellar.repair(&db).unwrap();
    assert_eq!((repaired.records, repaired.rebuilt), (expected, false));
    assert_eq!(
        (total(&db, &cellar, "oak"), total(&db, &cellar, "elm"), total(&db, &cellar, "walnut")),
        (1, 1, 47)
    );
    assert_eq!(cellar.differences(&db).unwrap(), []);
}

#[test]
fn keys_that_a_program_names_are_read_again_inside_its_transaction() {
    let (db, cellar) = office();
    unseen(&db, "UPDATE items SET title = 'elm chest' WHERE id IN (1, 2)");
    db.execute_batch("BEGIN").unwrap();
    cellar.touch(&db, [&Key::from(1), &Key::from(777)]).unwrap();
    assert_eq!(total(&db, &cellar, "elm"), 1);
    db.execute_batch("ROLLBACK").unwrap();
    assert_eq!(total(&db, &cellar, "elm"), 0);
    cellar.touch(&db, &[Key::from(1), Key::from(2)]).unwrap();
    assert_eq!(total(&db, &cellar, "elm"), 2);
    cellar.sync(&db).unwrap();
    assert_eq!(total(&db, &cellar, "elm"), 2);
}

#[test]
fn a_damaged_cellar_is_rebuilt_from_the_rows() {
    let (db, cellar) = office();
    db.execute_batch("UPDATE cellar_items_chunk SET data = zeroblob(length(data))").unwrap();
    let opened = SqliteCellar::open(&db, "items").unwrap();
    assert!(opened.find(&db, "walnut", &Find::new()).unwrap_err().is_damaged());
    let repaired = opened.repair(&db).unwrap();
    assert!(repaired.rebuilt && repaired.records.is_empty());
    assert_eq!(total(&db, &opened, "walnut"), 50);
    assert_eq!(total(&db, &cellar, "walnut"), 50, "an older handle finds the new shelves");
    opened.check(&db).unwrap();
    let pieces: i64 = db.query_row("SELECT count(*) FROM cellar_items_piece", [], |row| row.get(0)).unwrap();
    assert_eq!(pieces, 1, "what was damaged is gone");
    unseen(&db, "DELETE FROM items");
    assert_eq!(opened.rebuild(&db).unwrap().put, 0);
    assert_eq!((total(&db, &opened, "walnut"), opened.info(&db).unwrap().shelves), (0, 0));
}

/// Makes the shelf of a cellar one of another layout, as far as its directory tells.
fn of_layout(db: &Connection, layout: u32) {
    let last = "SELECT id, data FROM cellar_items_chunk ORDER BY id DESC LIMIT 1";
    let (id, mut data): (i64, Vec<u8>) =
        db.query_row(last, [], |row| Ok((row.get(0)?, row.get(1)?))).unwrap();
    let end = data.len() - 16;
    let length = u32::from_le_bytes(data[end + 4..end + 8].try_into().unwrap());
    let tail = data.len() - length as usize;
    data[tail..tail + 4].copy_from_slice(&layout.to_le_bytes());
    let sum = crc32fast::hash(&data[tail..end]).to_le_bytes();
    data[end..end + 4].copy_from_slice(&sum);
    db.execute("UPDATE cellar_items_chunk SET data = ?1 WHERE id = ?2", (&data, id)).unwrap();
}

/// What an older version made is made anew, and never answers before; what a newer one made is left to it.
#[test]
fn a_cellar_of_another_layout_is_rebuilt_or_left_alone() {
    for repairs in [true, false] {
        let (db, cellar) = office();
        of_layout(&db, 4);
        let opened = SqliteCellar::open(&db, "items").unwrap();
        db.execute_batch("INSERT INTO items VALUES (51, 'walnut chair', NULL, 1)").unwrap();
        let errors = [
            opened.find(&db, "walnut", &Find::new()).unwrap_err(),
            opened.sync(&db).unwrap_err(),
            opened.check(&db).unwrap_err(),
        ];
        for error in errors {
            assert_eq!(error.kind(), ErrorKind::MadeByOlder, "{error}");
            assert!(
                error.to_string().contains("layout 4") && error.to_string().contains("adopt or repair"),
                "{error}"
            );
        }
        let rebuilt = if repairs {
            opened.repair(&db).unwrap().rebuilt
        } else {
            SqliteCellar::adopt_with(&db, "items", cellar.schema(), |_| ()).unwrap().1.rebuilt
        };
        assert!(rebuilt);
        let opened = SqliteCellar::open(&db, "items").unwrap();
        assert_eq!(total(&db, &opened, "walnut"), 51);
        opened.check(&db).unwrap();
    }
    let (db, cellar) = office();
    of_layout(&db, 9);
    db.execute_batch("INSERT INTO items VALUES (51, 'walnut chair', NULL, 1)").unwrap();
    let opened = SqliteCellar::open(&db, "items").unwrap();
    let kept = || -> Vec<u8> {
        db.query_row("SELECT data FROM cellar_items_chunk ORDER BY id DESC LIMIT 1", [], |row| row.get(0))
            .unwrap()
    };
    let before = kept();
    for error in [
        opened.find(&db, "walnut", &Find::new()).unwrap_err(),
        opened.sync(&db).unwrap_err(),
        opened.repair(&db).unwrap_err(),
        SqliteCellar::adopt(&db, "items", cellar.schema()).unwrap_err(),
    ] {
        assert_eq!(error.kind(), ErrorKind::MadeByNewer, "{error}");
        assert!(error.to_string().contains("use a newer one"), "{error}");
    }
    assert_eq!(kept(), before);
}

#[test]
fn what_is_lost_or_damaged_is_mended_by_repairing_and_by_adopting() {
    for lost in [
        "DELETE FROM cellar_items_chunk WHERE id = (SELECT max(id) FROM cellar_items_chunk)",
        "DELETE FROM cellar_items_chunk",
        "UPDATE cellar_items_chunk SET data = x''",
        "DELETE FROM cellar_items_piece",
        "UPDATE cellar_items_piece SET bytes = 7",
        "UPDATE cellar_items_piece SET first_chunk = 9",
        "UPDATE cellar_items_state SET manifest = substr(manifest, 1, length(manifest) - 1)",
        "UPDATE cellar_items_state SET manifest = x'00'",
        "DELETE FROM cellar_items_state",
        "DROP TABLE cellar_items_state",
        "DROP TABLE cellar_items_log",
        "DROP TABLE cellar_items_chunk",
        "DROP TABLE cellar_items_piece",
        "DROP TABLE cellar_items_state; DROP TABLE cellar_items_piece; DROP TABLE cellar_items_chunk; DROP TABLE cellar_items_log",
        "DROP TRIGGER cellar_items_after_update; DROP TABLE cellar_items_log",
    ] {
        for repairs in [true, false] {
            let (db, cellar) = office();
            // So that a piece is of several chunks.
            db.execute_batch("UPDATE items SET title = title || ' ' || hex(randomblob(600))").unwrap();
            cellar.compact(&db).unwrap();
            db.execute_batch(lost).unwrap();
            let schema = cellar.schema().clone();
            if repairs {
                assert!(cellar.repair(&db).unwrap().rebuilt, "{lost}");
                assert_eq!(cellar.repair(&db).unwrap().records, [], "{lost}");
            } else {
                let (_, adopted) = SqliteCellar::adopt_with(&db, "items", &schema, |_| ()).unwrap();
                let chunks_alone = lost.contains("max(id)");
                assert!(adopted.rebuilt || chunks_alone, "{lost}");
                if chunks_alone {
                    // The last of several chunks are missed by those who need them.
                    SqliteCellar::open(&db, "items").unwrap().repair(&db).unwrap();
                }
            }
            db.execute_batch("UPDATE items SET title = 'elm box' WHERE id = 7").unwrap();
            let opened = SqliteCellar::open(&db, "items").unwrap();
            assert_eq!((total(&db, &opened, "walnut"), total(&db, &opened, "elm")), (49, 1), "{lost}");
            opened.check(&db).unwrap();
            assert_eq!(opened.differences(&db).unwrap(), []);
            SqliteCellar::release(&db, "items").unwrap();
            let left: i64 = db
                .query_row("SELECT count(*) FROM sqlite_schema WHERE name LIKE 'cellar%'", [], |row| {
                    row.get(0)
                })
                .unwrap();
            assert_eq!(left, 0, "{lost}");
        }
    }
}
