//! One cellar shared by many threads, each with its own connection: searches agree with the rows at every moment, while
//! others write and catch up.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use nut_cellar::sqlite::SqliteCellar;
use nut_cellar::{Column, Find, Schema};
use rusqlite::Connection;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::Duration;

#[test]
fn every_search_agrees_with_a_count_in_its_transaction() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("app.db");
    let connect = || {
        let db = Connection::open(&path).unwrap();
        db.busy_timeout(Duration::from_secs(20)).unwrap();
        db
    };
    let db = connect();
    db.execute_batch(
        "PRAGMA journal_mode = WAL; PRAGMA synchronous = OFF;
         CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT)",
    )
    .unwrap();
    for id in 0..200 {
        db.execute("INSERT INTO items VALUES (?1, 'oak box')", [id]).unwrap();
    }
    let schema = Schema::new("id").with("title", Column::text("none"));
    let cellar = SqliteCellar::adopt(&db, "items", &schema).unwrap();
    let done = AtomicBool::new(false);
    thread::scope(|scope| {
        for writer in 0..2_u32 {
            let (connect, done) = (&connect, &done);
            scope.spawn(move || {
                let db = connect();
                for round in 0..60 {
                    let id = (round * 7 + writer * 3) % 220;
                    let word = ["oak", "elm"][((round / 3 + writer) % 2) as usize];
                    db.execute("INSERT OR REPLACE INTO items VALUES (?1, ?2 || ' box')", (id, word)).unwrap();
                    db.execute("DELETE FROM items WHERE id = ?1", [id / 2]).unwrap();
                }
                done.store(true, Ordering::Release);
            });
        }
        scope.spawn(|| {
            let db = connect();
            while !done.load(Ordering::Acquire) {
                cellar.sync(&db).unwrap();
                thread::sleep(Duration::from_millis(5));
            }
        });
        for _ in 0..2 {
            scope.spawn(|| {
                let db = connect();
                while !done.load(Ordering::Acquire) {
                    // Two reads of one transaction: the search and a count by SQLite itself.
                    db.execute_batch("BEGIN").unwrap();
                    let found = cellar.find(&db, "elm", &Find::new().limit(0)).unwrap().total;
                    let sql = "SELECT count(*) FROM items WHERE title LIKE 'elm%'";
                    let rows: u32 = db.query_row(sql, [], |row| row.get(0)).unwrap();
                    db.execute_batch("COMMIT").unwrap();
                    assert_eq!(found, u64::from(rows));
                }
            });
        }
    });
    let total = |query: &str| cellar.find(&db, query, &Find::new()).unwrap().total;
    let rows: u32 = db.query_row("SELECT count(*) FROM items", [], |row| row.get(0)).unwrap();
    assert_eq!(total("box"), u64::from(rows));
    assert_eq!(total("oak") + total("elm"), u64::from(rows));
}
