//! A process that catches up or merges in SQLite and is killed in the middle of it: nothing is lost, and nothing is there twice.
#![allow(
    clippy::unwrap_used,
    clippy::cast_sign_loss,
    reason = "a test fails by panicking, and its numbers are small"
)]

use nut_cellar::sqlite::SqliteCellar;
use nut_cellar::{Column, Find, Schema};
use rusqlite::Connection;
use std::process::{Command, Stdio};
use std::time::Duration;

const TIMES: u64 = 30;

#[test]
fn a_process_that_is_killed_loses_nothing_and_has_nothing_twice() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("office.db");
    let db = Connection::open(&file).unwrap();
    db.busy_timeout(Duration::from_secs(30)).unwrap();
    db.execute_batch(
        "PRAGMA journal_mode = wal;
         CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT);
         WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 3000)
         INSERT INTO items SELECT i, 'oak box number ' || i FROM n",
    )
    .unwrap();
    let schema = Schema::new("id").with("title", Column::text("en"));
    let cellar = SqliteCellar::adopt(&db, "items", &schema).unwrap();
    let mut done = 0;
    for time in 0..TIMES {
        db.execute_batch(&format!(
            "UPDATE items SET title = 'elm box ' || {time} WHERE id % 30 = {time};
             DELETE FROM items WHERE id = 7 + 31 * {time};
             INSERT INTO items SELECT 10000 + 100 * {time} + id, 'yew box' FROM items WHERE id < 20"
        ))
        .unwrap();
        let call = if time % 3 == 0 { "compact" } else { "sync" };
        let mut process = Command::new(env!("CARGO_BIN_EXE_nut-cellar"))
            .args([call, &format!("sqlite:{}#items", file.display())])
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        // From before it begins to after it has ended.
        std::thread::sleep(Duration::from_millis(time * 7 % 90));
        done += u64::from(process.try_wait().unwrap().is_some());
        process.kill().unwrap();
        process.wait().unwrap();

        for word in ["oak", "elm", "yew"] {
            let sql = "SELECT count(*) FROM items WHERE title LIKE ?1 || ' %'";
            let rows: i64 = db.query_row(sql, [word], |row| row.get(0)).unwrap();
            let found = cellar.find(&db, word, &Find::new().limit(0)).unwrap();
            assert_eq!(found.total, rows as u64, "{word}, killed the {time}th time");
        }
        cellar.check(&db).unwrap();
        assert_eq!(cellar.differences(&db).unwrap(), [], "killed the {time}th time");
        // What was being written when it was killed is not there.
        let sql = "SELECT (SELECT count(*) FROM cellar_items_chunk) = (SELECT sum((bytes + 16383) / 16384) FROM cellar_items_piece)";
        let whole: bool = db.query_row(sql, [], |row| row.get(0)).unwrap();
        assert!(whole, "killed the {time}th time");
    }
    assert!(done < TIMES, "none was killed before it was done");
}
