//! What adopting a table promises: what is read and written, what is refused and how, and what is left behind.
#![allow(
    clippy::unwrap_used,
    clippy::cast_possible_truncation,
    clippy::cast_possible_wrap,
    clippy::cast_sign_loss,
    reason = "a test fails by panicking, and its numbers are small"
)]

use nut_cellar::rows::Adopted;
use nut_cellar::schema::Change;
use nut_cellar::sqlite::{SqliteCellar, cellars};
use nut_cellar::text::Pattern;
use nut_cellar::{Column, ErrorKind, Find, Key, Kind, Marks, Query, Schema};
use rusqlite::Connection;
use rusqlite::trace::{TraceEvent, TraceEventCodes};
use std::path::Path;
use std::sync::{Arc, Mutex};
use std::time::Duration;

fn schema() -> Schema {
    Schema::new("id").with("title", Column::text("en")).with("notes", Column::text("none"))
}

fn shop(rows: u32) -> Connection {
    let db = Connection::open_in_memory().unwrap();
    fill(&db, rows);
    db
}

fn fill(db: &Connection, rows: u32) {
    db.execute_batch("CREATE TABLE items(id TEXT PRIMARY KEY, title TEXT, notes TEXT)").unwrap();
    let mut insert =
        db.prepare("INSERT INTO items VALUES ('k' || ?1, 'oak box ' || ?1, 'row ' || ?1)").unwrap();
    for row in 0..rows {
        insert.execute([row]).unwrap();
    }
}

fn total(cellar: &SqliteCellar, db: &Connection, query: &str) -> u64 {
    cellar.find(db, query, &Find::new()).unwrap().total
}

/// Everything in the schema and the tables, to see that nothing was changed.
fn everything(db: &Connection) -> Vec<String> {
    let sql = "SELECT coalesce(sql, name) FROM sqlite_schema WHERE name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY name";
    let mut all: Vec<String> =
        db.prepare(sql).unwrap().query_map([], |row| row.get(0)).unwrap().map(Result::unwrap).collect();
    let mut rows = db.prepare("SELECT id || '|' || title || '|' || notes FROM items ORDER BY id").unwrap();
    all.extend(rows.query_map([], |row| row.get::<_, String>(0)).unwrap().map(Result::unwrap));
    all
}

/// The statements that some work runs.
fn statements(db: &mut Connection, work: impl FnOnce(&Connection)) -> Vec<String> {
    let statements = Arc::new(Mutex::new(Vec::new()));
    let noted = Arc::clone(&statements);
    let note = move |event: TraceEvent<'_>| {
        if let TraceEvent::Stmt(statement, _) = event {
            noted.lock().unwrap().extend(statement.expanded_sql());
        }
    };
    db.trace_v2(TraceEventCodes::SQLITE_TRACE_STMT, Some(note)).unwrap();
    work(db);
    db.trace_v2(TraceEventCodes::empty(), None::<fn(TraceEvent<'_>)>).unwrap();
    std::mem::take(&mut *statements.lock().unwrap())
}

#[test]
fn a_search_reads_the_rows_that_changed_since_the_last_and_no_others() {
    let mut db = shop(2_000);
    let cellar = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    db.execute_batch(
        "UPDATE items SET title = 'elm chest' WHERE id = 'k77'; DELETE FROM items WHERE id = 'k78'",
    )
    .unwrap();
    let statements = statements(&mut db, |db| {
        let found = cellar.find(db, "elm", &Find::new()).unwrap();
        assert_eq!((found.total, found.hits[0].key.to_string()), (1, "k77".to_owned()));
        assert_eq!(cellar.find(db, "oak box", &Find::new()).unwrap().total, 1_998);
        db.execute_batch("UPDATE items SET title = 'elm' WHERE id = 'k79'").unwrap();
        assert_eq!(cellar.find(db, "elm", &Find::new()).unwrap().total, 2);
    });
    let ours: Vec<_> = statements
        .into_iter()
        .filter(|sql| !sql.starts_with("UPDATE items") && !sql.starts_with("--"))
        .collect();
    let on_rows: Vec<_> = ours.iter().filter(|sql| sql.contains("\"items\"")).cloned().collect();
    let expected = |key: &str| {
        format!(
            "SELECT base.\"id\", base.\"title\", base.\"notes\" FROM main.\"items\" AS base WHERE true AND base.\"id\" = '{key}'"
        )
    };
    assert_eq!(on_rows, ["k77", "k78", "k79"].map(expected));
    let writes = ["INSERT", "UPDATE", "DELETE", "CREATE", "REPLACE"];
    assert!(!ours.iter().any(|sql| writes.iter().any(|write| sql.starts_with(write))), "{ours:?}");
}

#[test]
fn rows_with_keys_that_follow_one_another_are_read_at_once() {
    let mut db = Connection::open_in_memory().unwrap();
    db.execute_batch("CREATE TABLE items(id PRIMARY KEY, title TEXT, notes TEXT)").unwrap();
    let cellar = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    db.execute_batch(
        "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 40)
         INSERT INTO items SELECT i, 'oak box', 'row ' || i FROM n",
    )
    .unwrap();
    cellar.sync(&db).unwrap();
    // Texts and bytes that look like numbers are no keys of these rows.
    db.execute_batch(
        "UPDATE items SET notes = notes || ' again';
         INSERT INTO items VALUES ('7', 'oak as text', ''), (x'37', 'oak as bytes', ''), (50, 'oak alone', '');
         DELETE FROM items WHERE id IN (1, 12, 13, 40)",
    )
    .unwrap();
    let mut hits = Vec::new();
    let statements = statements(&mut db, |db| {
        hits = cellar.find(db, "oak", &Find::new().limit(100)).unwrap().hits;
    });
    let on_rows: Vec<_> =
        statements.iter().filter_map(|sql| sql.split_once("WHERE true AND ").map(|(_, rest)| rest)).collect();
    assert_eq!(
        on_rows,
        [
            "base.\"id\" >= 1 AND base.\"id\" <= 40 ORDER BY base.\"id\"",
            "base.\"id\" = 50",
            "base.\"id\" = '7'",
            "base.\"id\" = x'37'",
        ]
    );
    let mut keys: Vec<_> = hits.into_iter().map(|hit| hit.key).collect();
    keys.sort();
    let numbers = (1..=40).filter(|number| ![1, 12, 13, 40].contains(number)).chain([50]).map(Key::Integer);
    let others = [Key::Text("7".to_owned()), Key::Bytes(b"7".to_vec())];
    assert_eq!(keys, numbers.chain(others).collect::<Vec<_>>());
    assert_eq!(total(&cellar, &db, "notes:39"), 1);
    assert_eq!(total(&cellar, &db, "notes:40"), 0);
}

#[test]
fn searches_between_changes_agree_with_the_rows_and_say_when_there_are_many() {
    let db = shop(300);
    let cellar = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    for change in 1..=20 {
        db.execute("UPDATE items SET title = 'elm ' || ?1 WHERE id = 'k' || ?1", [change.to_string()])
            .unwrap();
        let found = cellar.find(&db, "elm", &Find::new()).unwrap();
        assert_eq!((found.total, found.notes.len()), (change, 0));
        assert_eq!(cellar.find(&db, "oak", &Find::new()).unwrap().total, 300 - change);
    }
    db.execute_batch(
        "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 10001)
         INSERT INTO items SELECT 'n' || i, 'yew', '' FROM n",
    )
    .unwrap();
    let found = cellar.find(&db, "yew", &Find::new()).unwrap();
    assert_eq!(found.total, 10_001);
    assert!(found.notes[0].to_string().contains("in no shelf yet"), "{:?}", found.notes);
    cellar.sync(&db).unwrap();
    assert_eq!(cellar.find(&db, "yew", &Find::new()).unwrap().notes.len(), 0);
}

#[test]
fn catching_up_changes_no_result() {
    let db = shop(300);
    let cellar = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    db.execute_batch(
        "INSERT INTO items VALUES ('new', 'oak chest', 'row'); DELETE FROM items WHERE id < 'k2';
         UPDATE items SET title = 'elm' WHERE id > 'k8'; INSERT INTO items VALUES ('gone', 'oak', ''); DELETE FROM items WHERE id = 'gone'",
    )
    .unwrap();
    let find = Find::new().limit(1_000);
    let before = cellar.find(&db, "oak row", &find).unwrap();
    assert!(cellar.info(&db).unwrap().pending > Some(100));
    let synced = cellar.sync(&db).unwrap();
    assert_eq!(cellar.find(&db, "oak row", &find).unwrap(), before);
    assert_eq!((cellar.info(&db).unwrap().pending, cellar.sync(&db).unwrap().put), (Some(0), 0));
    let fresh = SqliteCellar::open(&db, "items").unwrap();
    assert_eq!(fresh.find(&db, "oak row", &find).unwrap(), before);
    let put = "SELECT count(*) FROM items WHERE title = 'elm' OR id = 'new'";
    assert_eq!(synced.put, u64::from(db.query_row(put, [], |row| row.get::<_, u32>(0)).unwrap()));
}

#[test]
fn release_leaves_nothing_and_takes_nothing() {
    let db = shop(50);
    let before = everything(&db);
    SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    SqliteCellar::adopt(&db, "second", &schema().from_table("items")).unwrap();
    assert_eq!(cellars(&db).unwrap(), ["items", "second"]);
    SqliteCellar::release(&db, "items").unwrap();
    db.execute_batch("INSERT INTO items VALUES ('z', 'elm', '')").unwrap();
    assert_eq!(total(&SqliteCellar::open(&db, "second").unwrap(), &db, "elm"), 1);
    SqliteCellar::release(&db, "second").unwrap();
    db.execute_batch("DELETE FROM items WHERE id = 'z'").unwrap();
    assert_eq!(everything(&db), before);
    let error = SqliteCellar::release(&db, "items").unwrap_err();
    assert_eq!(error.kind(), ErrorKind::NotACellar);
}

#[test]
fn what_cannot_be_adopted_is_refused_and_nothing_is_changed() {
    let db = shop(5);
    db.execute_batch(
        "CREATE TABLE bare(id TEXT, title TEXT, notes TEXT);
         CREATE TABLE pair(id, part, title, notes, PRIMARY KEY (id, part));
         CREATE TABLE half(id TEXT, title, notes); CREATE UNIQUE INDEX half_id ON half(id) WHERE title IS NOT NULL;
         CREATE TABLE odd(id INTEGER PRIMARY KEY, title TEXT, notes TEXT); CREATE UNIQUE INDEX odd_title ON odd(lower(title));
         CREATE TABLE real(id PRIMARY KEY, title, notes); INSERT INTO real VALUES (1.5, 'a', 'b');
         CREATE VIEW seen AS SELECT * FROM items;",
    )
    .unwrap();
    let before = everything(&db);
    let missing = Schema::new("id").with("headline", Column::text("en"));
    for (table, schema, kind, says) in [
        ("nowhere", schema(), ErrorKind::BadSchema, "no table `nowhere`"),
        ("seen", schema(), ErrorKind::BadSchema, "no ordinary table"),
        ("sqlite_schema", schema(), ErrorKind::BadSchema, "no ordinary table"),
        ("bare", schema(), ErrorKind::BadSchema, "PRIMARY KEY"),
        ("pair", schema(), ErrorKind::BadSchema, "PRIMARY KEY"),
        ("half", schema(), ErrorKind::BadSchema, "PRIMARY KEY"),
        ("odd", schema(), ErrorKind::BadSchema, "odd_title"),
        ("real", schema(), ErrorKind::BadRecord, "1.5"),
        ("items", missing, ErrorKind::BadSchema, "id, title, notes"),
        ("items", Schema::new("id").with("n", Column::of(Kind::Integer)), ErrorKind::BadSchema, "text"),
    ] {
        let error = SqliteCellar::adopt(&db, table, &schema).unwrap_err();
        assert_eq!(error.kind(), kind, "{table}: {error}");
        assert!(error.to_string().contains(says), "{table}: {error}");
        assert_eq!(everything(&db), before, "{table}");
    }
    assert!(SqliteCellar::adopt(&db, "", &schema()).unwrap_err().is_bad_request());
    db.execute_batch("BEGIN").unwrap();
    assert!(SqliteCellar::adopt(&db, "items", &schema()).unwrap_err().is_bad_request());
    db.execute_batch("COMMIT").unwrap();
    let cellar = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    assert!(cellar.find(&db, "oak", &Find::new().columns(["nowhere"])).unwrap_err().is_bad_request());
    assert!(cellar.find(&db, "oak", &Find::new().weight("title", -1.0)).unwrap_err().is_bad_request());
    assert_eq!(total(&cellar, &db, "oak"), 5);
}

#[test]
fn a_rebuilt_or_renamed_table_is_noticed() {
    for change in [
        "CREATE TABLE other AS SELECT * FROM items; DROP TABLE items; ALTER TABLE other RENAME TO items",
        "ALTER TABLE items RENAME TO things",
        "DROP TRIGGER cellar_items_after_update",
        "ALTER TABLE items RENAME COLUMN title TO headline",
    ] {
        let db = shop(5);
        let cellar = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
        db.execute_batch(change).unwrap();
        let error = cellar.find(&db, "oak", &Find::new()).unwrap_err();
        assert_eq!(error.kind(), ErrorKind::OutOfStep, "{change}: {error}");
        assert_eq!(cellar.sync(&db).unwrap_err().kind(), ErrorKind::OutOfStep);
        SqliteCellar::release(&db, "items").unwrap();
        assert!(cellars(&db).unwrap().is_empty());
    }
}

#[test]
fn hostile_names_and_values_are_only_names_and_values() {
    let db = Connection::open_in_memory().unwrap();
    db.execute_batch(
        r#"CREATE TABLE "it""ems; DROP TABLE x"("ke'y" TEXT PRIMARY KEY, "ti""tle" TEXT);
           CREATE TABLE x(n); INSERT INTO "it""ems; DROP TABLE x" VALUES ('a''b"; --', 'oak'); CREATE TEMP TABLE items(id);"#,
    )
    .unwrap();
    let name = r#"it"ems; DROP TABLE x"#;
    let schema = Schema::new("ke'y").with("ti\"tle", Column::text("en")).from_table(name);
    let cellar = SqliteCellar::adopt(&db, "c\"; DROP TABLE x; --", &schema).unwrap();
    db.execute_batch(r#"UPDATE "it""ems; DROP TABLE x" SET "ti""tle" = 'elm''; DROP TABLE x'"#).unwrap();
    for query in ["elm", "'; DROP TABLE x; --", "elm\0", "\"elm' DROP\""] {
        let found = cellar.find(&db, query, &Find::new()).unwrap();
        assert_eq!(found.total, 1, "{query}");
    }
    assert_eq!(cellar.find(&db, "elm", &Find::new()).unwrap().hits[0].key.to_string(), "a'b\"; --");
    cellar.sync(&db).unwrap();
    SqliteCellar::release(&db, "c\"; DROP TABLE x; --").unwrap();
    assert_eq!(db.query_row("SELECT count(*) FROM x", [], |row| row.get::<_, i64>(0)).unwrap(), 0);
}

fn file(path: &Path) -> Connection {
    let db = Connection::open(path).unwrap();
    db.busy_timeout(Duration::ZERO).unwrap();
    db
}

#[test]
fn rows_that_change_during_the_first_fill_are_not_lost() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("app.db");
    let db = file(&path);
    db.pragma_update(None, "journal_mode", "WAL").unwrap();
    fill(&db, 1_500);
    let other = file(&path);
    let mut told = Vec::new();
    let (cellar, Adopted { synced, .. }) = SqliteCellar::adopt_with(&db, "items", &schema(), |rows| {
        told.push(rows);
        let error =
            SqliteCellar::open(&other, "items").unwrap().find(&other, "oak", &Find::new()).unwrap_err();
        assert_eq!(error.kind(), ErrorKind::NotFilled);
        other
            .execute_batch("INSERT INTO items VALUES ('late', 'elm', ''); DELETE FROM items WHERE id = 'k3'")
            .unwrap();
    })
    .unwrap();
    assert_eq!((told, synced.put), (vec![1_000], 1_500));
    assert_eq!((total(&cellar, &db, "elm"), total(&cellar, &db, "oak")), (1, 1_499));
    cellar.sync(&db).unwrap();
    assert_eq!((total(&cellar, &db, "elm"), total(&cellar, &db, "oak")), (1, 1_499));
}

#[test]
fn of_two_that_fill_at_once_one_is_overtaken_and_starts_anew() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("app.db");
    let db = file(&path);
    db.pragma_update(None, "journal_mode", "WAL").unwrap();
    fill(&db, 1_200);
    let other = file(&path);
    let (cellar, Adopted { synced, .. }) = SqliteCellar::adopt_with(&db, "items", &schema(), |_| {
        // The one that is faster takes up the fill that looks interrupted to it.
        SqliteCellar::adopt(&other, "items", &schema()).unwrap();
        other.execute_batch("UPDATE items SET title = 'elm' WHERE id = 'k5'").unwrap();
    })
    .unwrap();
    assert_eq!(synced.put, 1, "after being overtaken only the change was left to read");
    assert_eq!((total(&cellar, &db, "oak"), cellar.info(&db).unwrap().shelves), (1_199, 2));
}

#[test]
fn a_locked_database_is_told_apart_and_left_as_it_is() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("app.db");
    let db = file(&path);
    fill(&db, 5);
    let before = everything(&db);
    let other = file(&path);
    other.execute_batch("BEGIN IMMEDIATE").unwrap();
    let error = SqliteCellar::adopt(&db, "items", &schema()).unwrap_err();
    assert!(error.is_busy() && error.to_string().contains("locked"), "{error}");
    assert_eq!(everything(&db), before);
    other.execute_batch("ROLLBACK").unwrap();
    let cellar = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    other.execute_batch("UPDATE items SET title = 'elm' WHERE id = 'k1'; BEGIN EXCLUSIVE").unwrap();
    assert!(cellar.sync(&db).unwrap_err().is_busy());
    assert!(cellar.find(&db, "elm", &Find::new()).unwrap_err().is_busy());
    other.execute_batch("ROLLBACK").unwrap();
    assert_eq!((total(&cellar, &db, "elm"), cellar.info(&db).unwrap().pending), (1, Some(1)));
}

#[test]
fn values_that_are_not_what_the_schema_says_are_left_out_and_counted() {
    let db = Connection::open_in_memory().unwrap();
    db.execute_batch(
        "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, n, found_on TEXT, first TEXT, last TEXT);
         INSERT INTO items VALUES (1, 'oak', 5, '2031-04-17', 'Ada', 'Quobbley'), (2, CAST(x'6fff6b' AS TEXT), 'five', 'today', NULL, 'x'),
                                  (3, 'elm', 1, NULL, 'a', 'b')",
    )
    .unwrap();
    let schema = Schema::new("id")
        .with("title", Column::text("none"))
        .with("n", Column::of(Kind::Integer))
        .with("found_on", Column::of(Kind::Date))
        .with("finder", Column::text("none").from_columns(["first", "last"]));
    let (cellar, Adopted { synced, .. }) = SqliteCellar::adopt_with(&db, "items", &schema, |_| ()).unwrap();
    assert_eq!((synced.put, synced.unreadable.count), (3, 2));
    assert!(synced.unreadable.first.unwrap().contains("row 2, column `n`: `five`"));
    let hit = |query: &str| cellar.find(&db, query, &Find::new()).unwrap().hits.pop();
    let values = hit("oak").unwrap().values;
    assert_eq!(
        (values["n"][0].to_string(), values["found_on"][0].to_string()),
        ("5".into(), "2031-04-17".into())
    );
    assert!(!hit("x").unwrap().values.contains_key("n"));
    assert_eq!(hit("finder:quobbley").unwrap().rank, 1);
    let marked = cellar.find(&db, "\"ada quobbley\"", &Find::new().with_marks()).unwrap();
    let marks = Marks::new("[", "]");
    assert_eq!(marked.hits[0].marked("finder", &marks), "[Ada]", "a phrase runs on");
    assert_eq!(marks.mark("Quobbley", &marked.hits[0].marks["finder"][1]), "[Quobbley]");
    // Each value by itself, as it was before there were gaps.
    let apart = Column::text("none").from_columns(["first", "last"]).with_gap(16);
    let (cellar, changed) =
        SqliteCellar::adopt_with(&db, "items", &schema.with("finder", apart), |_| ()).unwrap();
    assert!(changed.changes.iter().any(Change::needs_rebuild));
    let hit = |query: &str| cellar.find(&db, query, &Find::new()).unwrap().hits.pop();
    assert_eq!(hit("\"ada quobbley\""), None, "two values are no phrase");
    // 1 and 1.0 are equal to SQLite, and different for a column of whole numbers.
    db.execute_batch("UPDATE items SET n = 1.0 WHERE id = 3").unwrap();
    assert!(!hit("elm").unwrap().values.contains_key("n"));
}

#[test]
fn bytes_that_are_no_utf8_are_read_with_replacement_characters() {
    let db = shop(3);
    let cellar = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    // A text that breaks off in a character, a text with a stray byte, and one with a NUL in it.
    db.execute_batch(
        "INSERT INTO items VALUES ('broken', CAST(X'656C6D20E284' AS TEXT), CAST(X'61FF62' AS TEXT));
         INSERT INTO items VALUES ('nul', 'larch' || char(0) || 'beech', NULL)",
    )
    .unwrap();
    let before = (total(&cellar, &db, "elm a b"), total(&cellar, &db, "larch beech"));
    assert_eq!(before, (1, 1), "by the overlay");
    cellar.sync(&db).unwrap();
    assert_eq!((total(&cellar, &db, "elm a b"), total(&cellar, &db, "larch beech")), (1, 1), "by the shelf");
    let found = cellar.find(&db, "elm", &Find::new()).unwrap();
    assert_eq!(found.hits[0].values["title"], ["elm \u{fffd}".into()]);
}

#[test]
fn terms_are_those_of_the_rows_that_the_transaction_sees() {
    let db = shop(300);
    let cellar = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    let terms = |pattern: &str| {
        let found = cellar.terms(&db, &Pattern::new(pattern).unwrap(), 10).unwrap();
        found.terms.into_iter().map(|one| (one.term, one.records)).collect::<Vec<_>>()
    };
    assert_eq!(terms("*ox"), [("box".to_owned(), 300)]);
    db.execute_batch(
        "BEGIN; UPDATE items SET title = 'elm foxes' WHERE id = 'k7'; DELETE FROM items WHERE id = 'k8'",
    )
    .unwrap();
    assert_eq!(terms("*ox*"), [("box".to_owned(), 298), ("foxes".to_owned(), 1)]);
    assert_eq!(terms("oak"), [("oak".to_owned(), 298)]);
    db.execute_batch("ROLLBACK").unwrap();
    assert_eq!(terms("*ox*"), [("box".to_owned(), 300)]);
}

#[test]
fn a_plan_tells_changed_rows_from_shelves_and_info_how_old_they_are() {
    let db = shop(1);
    let cellar = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    assert_eq!(cellar.info(&db).unwrap().oldest, None);
    db.execute_batch("INSERT INTO items VALUES ('new', 'oak', '')").unwrap();
    let (_, report) = cellar.search_reporting(&db, &Query::word("oak"), &Find::new()).unwrap();
    assert_eq!(report.shelves.iter().map(|went| went.overlay).collect::<Vec<_>>(), [false, true]);
    let info = cellar.info(&db).unwrap();
    assert!(info.oldest.unwrap() < Duration::from_mins(1), "{info:?}");
    // The table is one page.
    assert_eq!(info.table, Some(4096));
    cellar.sync(&db).unwrap();
    assert_eq!(cellar.info(&db).unwrap().oldest, None);
}

#[test]
fn transactions_of_different_ages_each_keep_what_was_laid_over_the_shelves_for_them() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("office.db");
    let db = Connection::open(&file).unwrap();
    db.execute_batch("PRAGMA journal_mode = wal").unwrap();
    fill(&db, 20);
    let cellar = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    let insert = |row: u32| db.execute("INSERT INTO items VALUES ('new' || ?1, 'oak', '')", [row]).unwrap();
    let laid = |db: &Connection, total: u64| {
        let (found, report) = cellar.search_reporting(db, &Query::word("oak"), &Find::new()).unwrap();
        assert_eq!(found.total, total);
        report.shelves.iter().filter(|went| went.overlay).map(|went| went.piece).collect::<Vec<_>>()
    };
    insert(1);
    let earlier = Connection::open(&file).unwrap();
    earlier.execute_batch("BEGIN; SELECT 1 FROM items").unwrap();
    insert(2);
    let (old, new) = (laid(&earlier, 21), laid(&db, 22));
    assert_ne!(old, new);
    assert_eq!((laid(&earlier, 21), laid(&db, 22)), (old.clone(), new));
    // More states than are remembered: the one that is used stays.
    for row in 3..10 {
        insert(row);
        assert_ne!(laid(&db, 20 + u64::from(row)), old);
        assert_eq!(laid(&earlier, 21), old);
    }
    // What a transaction wrote and took back is in no other.
    db.execute_batch("BEGIN; INSERT INTO items VALUES ('taken back', 'oak', '')").unwrap();
    laid(&db, 30);
    db.execute_batch("ROLLBACK; INSERT INTO items VALUES ('other', 'elm', '')").unwrap();
    laid(&db, 29);
    assert_eq!(laid(&earlier, 21), old);
}
