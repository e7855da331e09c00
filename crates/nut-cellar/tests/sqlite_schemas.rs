//! A cellar that gets another schema, or its triggers back: what is read again, what goes on meanwhile, what is left behind.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use nut_cellar::rows::Kept;
use nut_cellar::schema::{Change, Condition};
use nut_cellar::sqlite::SqliteCellar;
use nut_cellar::{Column, ErrorKind, Find, Join, Kind, Schema};
use rusqlite::Connection;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

fn schema() -> Schema {
    Schema::new("id").with("title", Column::text("en")).with("notes", Column::text("none"))
}

/// With a column more, and a join.
fn next() -> Schema {
    Schema::new("id")
        .with("title", Column::text("en"))
        .with("colour", Column::text("en"))
        .with("station", Column::of(Kind::Exact).from_columns(["stations.name"]))
        .from_table("items")
        .joining(Join::one("stations", "stations.id = items.station_id"))
}

const ROWS: u64 = 3_500;

fn office(path: &Path) -> Connection {
    let db = Connection::open(path).unwrap();
    db.execute_batch(
        "PRAGMA journal_mode = wal;
         CREATE TABLE stations(id INTEGER PRIMARY KEY, name TEXT);
         INSERT INTO stations VALUES (1, 'Elmfold'), (2, 'Quill Halt');
         CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, notes TEXT, colour TEXT, station_id INTEGER);
         WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 3500)
         INSERT INTO items SELECT i, 'oak box', 'brass', 'navy', 1 + i % 2 FROM n",
    )
    .unwrap();
    db
}

fn total(cellar: &SqliteCellar, db: &Connection, query: &str) -> u64 {
    cellar.find(db, query, &Find::new()).unwrap().total
}

fn triggers(db: &Connection) -> Vec<String> {
    let sql = "SELECT name FROM sqlite_schema WHERE type = 'trigger' ORDER BY 1";
    db.prepare(sql).unwrap().query_map([], |row| row.get(0)).unwrap().map(Result::unwrap).collect()
}

/// What is in the shelves, whatever the manifest says.
fn shelves(db: &Connection) -> Vec<Vec<u8>> {
    let sql = "SELECT piece FROM cellar_items_piece ORDER BY 1";
    db.prepare(sql).unwrap().query_map([], |row| row.get(0)).unwrap().map(Result::unwrap).collect()
}

#[test]
fn a_schema_that_is_the_same_and_one_with_other_weights_read_no_row() {
    let folder = tempfile::tempdir().unwrap();
    let db = office(&folder.path().join("app.db"));
    let old = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    let (before, stand) = (shelves(&db), triggers(&db));
    let (_, adopted) = SqliteCellar::adopt_with(&db, "items", &schema(), |_| ()).unwrap();
    assert_eq!((adopted.changes.len(), adopted.rebuilt, adopted.synced.put), (0, false, 0));
    assert_eq!(total(&old, &db, "oak"), ROWS);

    let heavier = schema().with("title", Column::text("en").weighing(9.0));
    db.execute_batch("INSERT INTO items VALUES (9001, 'brass', 'oak', 'navy', 1)").unwrap();
    assert_eq!(old.find(&db, "oak", &Find::new()).unwrap().hits[0].key.to_string(), "9001");
    let (cellar, adopted) = SqliteCellar::adopt_with(&db, "items", &heavier, |_| ()).unwrap();
    let weight = Change::Weight { column: "title".into(), from: 1.0, to: 9.0 };
    assert_eq!((adopted.changes, adopted.rebuilt, adopted.synced.put), (vec![weight], false, 0));
    assert_eq!(cellar.find(&db, "oak", &Find::new()).unwrap().hits[0].key.to_string(), "1");
    assert_eq!((shelves(&db), triggers(&db)), (before, stand));
    let error = old.find(&db, "oak", &Find::new()).unwrap_err();
    assert_eq!(error.kind(), ErrorKind::OutOfStep);
    assert!(error.to_string().contains("open it again"), "{error}");
}

/// Programs write and search while the rows are read again, and miss nothing of either schema.
#[test]
fn searches_and_changes_go_on_while_a_cellar_gets_another_schema() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("app.db");
    let db = office(&path);
    let old = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    let other = Connection::open(&path).unwrap();
    let mut told = 0;
    let (cellar, adopted) = SqliteCellar::adopt_with(&db, "items", &next(), |_| {
        told += 1;
        let sql = format!(
            "UPDATE items SET notes = 'yew', colour = 'ochre' WHERE id = {told};
             UPDATE items SET title = 'elm' WHERE id = 100 + {told};
             UPDATE stations SET name = 'Nettle {told}' WHERE id = 2;
             DELETE FROM items WHERE id = 200 + {told}; INSERT INTO items VALUES (5000 + {told}, 'elm', 'yew', 'ochre', 2)"
        );
        other.execute_batch(&sql).unwrap();
        assert_eq!((total(&old, &other, "yew"), total(&old, &other, "elm")), (2 * told, 2 * told));
        assert_eq!(total(&old, &other, "oak"), ROWS - 2 * told);
    })
    .unwrap();
    assert_eq!(told, 3);
    let changes: Vec<_> = adopted.changes.iter().map(ToString::to_string).collect();
    assert_eq!(
        changes,
        [
            "rows come from other tables",
            "column `notes` is gone",
            "column `colour` is new",
            "column `station` is new",
        ]
    );
    assert_eq!((adopted.rebuilt, adopted.synced.put), (true, ROWS));
    assert_eq!(old.find(&db, "oak", &Find::new()).unwrap_err().kind(), ErrorKind::OutOfStep);
    let agrees = |cellar: &SqliteCellar| {
        for (query, expected) in [
            ("ochre", 6),
            ("elm", 6),
            ("station:\"Nettle 3\"", 1_751),
            ("station:Elmfold", ROWS - 1_751),
            ("yew", 0),
            ("brass", 0),
        ] {
            assert_eq!(total(cellar, &db, query), expected, "{query}");
        }
        assert_eq!(cellar.differences(&db).unwrap(), []);
    };
    agrees(&cellar);
    // A keeper that looked after the cellar before opens it again.
    let mut kept = (Connection::open(&path).unwrap(), Arc::new(old));
    assert_eq!(kept.sync().unwrap_err().kind(), ErrorKind::OutOfStep);
    kept.open_again().unwrap();
    assert!(kept.sync().unwrap().put > 0);
    agrees(&cellar);
    assert_eq!(triggers(&db).iter().filter(|name| name.contains("next")).count(), 0);
    // What only the old schema searched is no longer logged.
    db.execute_batch("UPDATE items SET notes = 'oak' WHERE id = 7").unwrap();
    assert_eq!(cellar.info(&db).unwrap().pending, Some(0));

    // And back, as a table that was emptied.
    db.execute_batch("DELETE FROM items").unwrap();
    let cellar = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    assert_eq!(total(&cellar, &db, "oak"), 0);
    db.execute_batch("INSERT INTO items VALUES (1, 'yew', 'oak', '', 1)").unwrap();
    assert_eq!(total(&cellar, &db, "oak"), 1);
    SqliteCellar::release(&db, "items").unwrap();
    assert_eq!(triggers(&db).len(), 0);
}

/// A program that publishes all the time is kept out in the end.
#[test]
fn a_schema_is_changed_however_often_others_publish() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("app.db");
    let db = office(&path);
    let old = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    let other = Connection::open(&path).unwrap();
    other.busy_timeout(Duration::ZERO).unwrap();
    let (mut published, mut waited) = (0, 0);
    let mut interfere = |_| {
        let written = other.execute("UPDATE items SET title = title || ' elm' WHERE id = 5", []);
        match written.is_ok().then(|| old.sync(&other)) {
            Some(synced) => published += synced.map_or(0, |synced| synced.put),
            None => waited += 1,
        }
    };
    let (cellar, adopted) = SqliteCellar::adopt_with(&db, "items", &next(), &mut interfere).unwrap();
    assert_eq!((adopted.synced.put, cellar.differences(&db).unwrap().len()), (ROWS, 0));
    assert!(published >= 4 && waited > 0, "{published} published, {waited} waited");
    assert_eq!(total(&cellar, &db, "elm"), 1);
}

#[test]
fn triggers_that_a_migration_took_away_are_made_again() {
    let folder = tempfile::tempdir().unwrap();
    let db = office(&folder.path().join("app.db"));
    let cellar = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    let migrate = |db: &Connection| {
        db.execute_batch(
            "CREATE TABLE fresh(id INTEGER PRIMARY KEY, title TEXT, notes TEXT, colour TEXT, station_id INTEGER);
             INSERT INTO fresh SELECT id, 'yew box', notes, colour, station_id FROM items WHERE id > 10;
             DROP TABLE items; ALTER TABLE fresh RENAME TO items",
        )
        .unwrap();
    };
    migrate(&db);
    let error = cellar.find(&db, "oak", &Find::new()).unwrap_err();
    assert!(error.to_string().contains("adopt the table again"), "{error}");
    assert!(cellar.repair(&db).unwrap().rebuilt);
    assert_eq!((total(&cellar, &db, "oak"), total(&cellar, &db, "yew")), (0, ROWS - 10));
    migrate(&db);
    let (cellar, adopted) = SqliteCellar::adopt_with(&db, "items", &schema(), |_| ()).unwrap();
    assert_eq!((adopted.changes.len(), adopted.rebuilt), (0, true));
    db.execute_batch("UPDATE items SET title = 'oak' WHERE id = 11").unwrap();
    assert_eq!((total(&cellar, &db, "oak"), total(&cellar, &db, "yew")), (1, ROWS - 11));
}

#[test]
fn what_a_cellar_cannot_become_changes_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let db = office(&folder.path().join("app.db"));
    let cellar = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    let stand = triggers(&db);
    let with_notes = |schema: Schema| schema.with("name", Column::text("en"));
    for (schema, kind, says) in [
        (schema().with("size", Column::text("en")), ErrorKind::BadSchema, "no column `size`"),
        (with_notes(Schema::new("id").from_table("stations")), ErrorKind::BadRequest, "another name"),
        (Schema::new("station_id").with("title", Column::text("en")), ErrorKind::BadRequest, "another key"),
    ] {
        let error = SqliteCellar::adopt(&db, "items", &schema).unwrap_err();
        assert_eq!(error.kind(), kind, "{error}");
        assert!(error.to_string().contains(says), "{error}");
        assert_eq!((total(&cellar, &db, "oak"), triggers(&db)), (ROWS, stand.clone()));
    }
    // One that is stopped half way.
    let stopped = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
        SqliteCellar::adopt_with(&db, "items", &next(), |_| panic!("stopped half way"))
    }));
    assert!(stopped.is_err());
    assert_eq!(total(&cellar, &db, "oak"), ROWS);
    let cellar = SqliteCellar::adopt(&db, "items", &next()).unwrap();
    assert_eq!(total(&cellar, &db, "navy"), ROWS);
    assert_eq!(triggers(&db).iter().filter(|name| name.contains("next")).count(), 0);
}

/// Rows that come to be so, and rows that no longer are, whatever changes them.
#[test]
fn only_rows_that_are_as_they_have_to_be_are_found() {
    let db = Connection::open_in_memory().unwrap();
    db.execute_batch(
        "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, \"gone at\" TEXT, status TEXT COLLATE NOCASE, room INTEGER);
         INSERT INTO items VALUES (1, 'oak', NULL, 'waiting', 7), (2, 'oak', 'today', 'waiting', 7),
             (3, 'oak', NULL, 'it''s lost', 7), (4, 'oak', NULL, 'waiting', NULL), (5, 'oak', NULL, 'WAITING', 7)",
    )
    .unwrap();
    let all = Schema::new("id").with("title", Column::text("en"));
    let only = all
        .clone()
        .from_table("items")
        .only(Condition::absent("gone at"))
        .only(Condition::isnt("status", ["it's lost", "x' OR '1'='1"]));
    let keys = |cellar: &SqliteCellar| {
        let found = cellar.find(&db, "oak", &Find::new()).unwrap();
        let mut keys: Vec<_> = found.hits.iter().map(|hit| hit.key.to_string()).collect();
        keys.sort();
        keys.join(" ")
    };
    let cellar = SqliteCellar::adopt(&db, "items", &only).unwrap();
    assert_eq!(keys(&cellar), "1 4 5");
    for (change, expected) in [
        ("UPDATE items SET \"gone at\" = 'now' WHERE id = 1", "4 5"),
        ("UPDATE items SET \"gone at\" = NULL, status = NULL", "1 2 3 4 5"),
        ("UPDATE items SET status = 'it''s lost' WHERE id > 3", "1 2 3"),
        (
            "INSERT INTO items VALUES (6, 'oak', 'now', 'waiting', 1), (7, 'oak', NULL, 'waiting', 1)",
            "1 2 3 7",
        ),
        ("DELETE FROM items WHERE id = 2", "1 3 7"),
    ] {
        db.execute_batch(change).unwrap();
        assert_eq!(keys(&cellar), expected, "{change}");
        assert_eq!(cellar.differences(&db).unwrap(), []);
        cellar.sync(&db).unwrap();
        assert_eq!(keys(&cellar), expected, "{change}");
    }
    let in_room = all
        .from_table("items")
        .only(Condition::is("room", ["7", "8"]))
        .only(Condition::is("status", ["waiting"]));
    db.execute_batch("UPDATE items SET status = 'waiting' WHERE id < 4").unwrap();
    assert_eq!(keys(&SqliteCellar::adopt(&db, "items", &in_room).unwrap()), "1 3");
    let nowhere = in_room.only(Condition::absent("shelf"));
    let error = SqliteCellar::adopt(&db, "items", &nowhere).unwrap_err();
    assert!(error.to_string().contains("no column `shelf`"), "{error}");
}
