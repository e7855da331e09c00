//! What SQLite does to rows without calling a trigger, and what is made on a table after it was adopted: followed, or noticed by the next
//! search of any handle.
#![cfg(feature = "sqlite")]
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use nut_cellar::sqlite::{SqlFunctions, SqliteCellar};
use nut_cellar::{Column, ErrorKind, Find, Join, Key, Schema};
use rusqlite::Connection;

fn schema() -> Schema {
    Schema::new("id").with("title", Column::text("en"))
}

fn adopted(table: &str) -> (Connection, SqliteCellar) {
    let db = Connection::open_in_memory().unwrap();
    db.execute_batch(table).unwrap();
    let cellar = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    (db, cellar)
}

/// Whether what is found is what the rows say, or the search says that it can't know.
fn agrees(db: &Connection, cellar: &SqliteCellar, word: &str, at: &str) {
    let rows: i64 = db
        .query_row("SELECT count(*) FROM items WHERE title LIKE ?1", [format!("%{word}%")], |row| row.get(0))
        .unwrap();
    let found = cellar.find(db, word, &Find::new()).unwrap();
    assert_eq!((i64::try_from(found.total), i64::try_from(found.hits.len())), (Ok(rows), Ok(rows)), "{at}");
    assert_eq!(cellar.differences(db).unwrap(), [], "{at}");
}

fn noticed(db: &Connection, cellar: &SqliteCellar, at: &str) {
    let fresh = SqliteCellar::open(db, "items").unwrap();
    for handle in [cellar, &fresh] {
        assert!(handle.find(db, "walnut", &Find::new()).unwrap_err().is_out_of_step(), "{at}");
        if db.is_autocommit() {
            assert!(handle.sync(db).unwrap_err().is_out_of_step(), "{at}");
        }
    }
}

#[test]
fn rows_that_replace_removes_for_what_fills_a_column_are_followed() {
    for (table, statements) in [
        (
            "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, slug TEXT NOT NULL DEFAULT 'x' UNIQUE)",
            &["INSERT OR REPLACE INTO items VALUES (2, 'elm', NULL)", "UPDATE OR REPLACE items SET slug = 'y'"][..],
        ),
        (
            "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, slug TEXT NOT NULL ON CONFLICT REPLACE DEFAULT 'x' UNIQUE ON CONFLICT REPLACE)",
            &[
                "INSERT INTO items(id, title, slug) VALUES (2, 'elm', NULL)",
                "INSERT INTO items VALUES (3, 'walnut tray', 'z')",
                "UPDATE items SET slug = NULL WHERE id = 3",
            ],
        ),
        (
            "CREATE TABLE items(id TEXT PRIMARY KEY, title TEXT, n NUMERIC NOT NULL DEFAULT '5', m TEXT NOT NULL DEFAULT (lower('A')), UNIQUE(n, m)) WITHOUT ROWID",
            &["INSERT OR REPLACE INTO items VALUES ('b', 'elm', NULL, NULL)"],
        ),
        (
            "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, at TEXT NOT NULL DEFAULT CURRENT_DATE UNIQUE) STRICT",
            &["INSERT OR REPLACE INTO items(id, title, at) VALUES (2, 'elm', NULL)"],
        ),
        (
            "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, slug TEXT COLLATE NOCASE NOT NULL DEFAULT 'X');
             CREATE UNIQUE INDEX by_slug ON items(slug COLLATE RTRIM) WHERE title IS NOT NULL",
            &["INSERT OR REPLACE INTO items VALUES (2, 'elm', NULL)", "REPLACE INTO items VALUES (3, 'walnut', 'X  ')"],
        ),
    ] {
        for recursive in [false, true] {
            let (db, cellar) = adopted(table);
            db.pragma_update(None, "recursive_triggers", recursive).unwrap();
            let key = if table.contains("WITHOUT") { "'a'" } else { "1" };
            db.execute_batch(&format!("INSERT INTO items(id, title) VALUES ({key}, 'walnut box')")).unwrap();
            cellar.sync(&db).unwrap();
            for statement in statements {
                db.execute_batch(statement).unwrap();
                agrees(&db, &cellar, "walnut", statement);
                agrees(&db, &cellar, "elm", statement);
            }
        }
    }
}

#[test]
fn what_replace_would_fill_with_what_nobody_knows_is_refused_when_it_happens() {
    for table in [
        "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, slug TEXT NOT NULL DEFAULT (abs(random()) % 2) UNIQUE)",
        "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, slug TEXT NOT NULL DEFAULT 'x', low TEXT AS (lower(slug)) UNIQUE)",
    ] {
        let (db, cellar) = adopted(table);
        db.execute_batch(
            "INSERT INTO items(title, slug) VALUES ('walnut', '1'), ('walnut', 'X'), ('walnut', '0')",
        )
        .unwrap();
        let error =
            db.execute_batch("INSERT OR REPLACE INTO items(title, slug) VALUES ('elm', NULL)").unwrap_err();
        assert!(error.to_string().contains("has to be given a value"), "{error}");
        assert!(db.execute_batch("UPDATE OR REPLACE items SET slug = NULL WHERE id = 1").is_err());
        db.execute_batch("INSERT OR REPLACE INTO items(title, slug) VALUES ('elm', 'x'), ('elm', '0')")
            .unwrap();
        agrees(&db, &cellar, "walnut", table);
        agrees(&db, &cellar, "elm", table);
    }
}

#[test]
fn unique_columns_that_are_worked_out_of_a_key_that_is_drawn_are_refused_and_others_are_followed() {
    for (g, refused) in [
        ("g INTEGER GENERATED ALWAYS AS (id % 3) UNIQUE", true),
        ("h INTEGER AS (id + 1), g INTEGER AS (h % 3) UNIQUE", true),
        ("g INTEGER GENERATED ALWAYS AS (id % 3) STORED UNIQUE", true),
        ("n INTEGER, g INTEGER AS (id % 3 + n), UNIQUE(n, g)", true),
        ("n INTEGER, g INTEGER AS (n % 3) STORED UNIQUE", false),
        ("n INTEGER, g INTEGER AS (n % 3) UNIQUE", false),
        ("n INTEGER, g INTEGER AS (id % 3)", false),
    ] {
        let db = Connection::open_in_memory().unwrap();
        db.execute_batch(&format!("CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, {g})")).unwrap();
        match SqliteCellar::adopt(&db, "items", &schema()) {
            Err(error) => {
                assert!(refused, "{g}: {error}");
                assert_eq!(error.kind(), ErrorKind::BadSchema);
                assert!(error.to_string().contains("is worked out of the key `id`"), "{error}");
            }
            Ok(cellar) => {
                assert!(!refused, "{g}");
                db.execute_batch("INSERT INTO items(title, n) VALUES ('walnut', 1), ('walnut', 2)").unwrap();
                db.execute_batch("INSERT OR REPLACE INTO items(title, n) VALUES ('elm', 4); REPLACE INTO items(title, n) VALUES ('elm', 2)").unwrap();
                agrees(&db, &cellar, "walnut", g);
            }
        }
    }
    // Where keys are said, they are known before.
    let (db, cellar) = adopted(
        "CREATE TABLE items(id TEXT PRIMARY KEY, title TEXT, g TEXT AS (substr(id, 1, 1)) STORED UNIQUE) WITHOUT ROWID",
    );
    db.execute_batch(
        "INSERT INTO items VALUES ('ab', 'walnut'); INSERT OR REPLACE INTO items VALUES ('ac', 'elm')",
    )
    .unwrap();
    agrees(&db, &cellar, "walnut", "generated of a text");
}

#[test]
fn unique_indexes_that_come_and_go_are_noticed() {
    let table = "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, slug TEXT, plain TEXT);
                 INSERT INTO items VALUES (1, 'walnut box', 'a', 'p'), (2, 'walnut tray', 'b', 'q')";
    for index in [
        "CREATE UNIQUE INDEX more ON items(slug)",
        "CREATE UNIQUE INDEX more ON items(slug) WHERE plain = 'p'",
        "CREATE UNIQUE INDEX more ON items(slug COLLATE NOCASE, plain)",
        "CREATE UNIQUE INDEX more ON items(lower(slug))",
    ] {
        let (db, cellar) = adopted(table);
        db.execute_batch(index).unwrap();
        db.execute_batch("INSERT OR REPLACE INTO items VALUES (3, 'elm', 'a', 'p')").unwrap();
        noticed(&db, &cellar, index);
        if index.contains("lower") {
            assert!(cellar.repair(&db).unwrap_err().to_string().contains("over an expression"));
            db.execute_batch("DROP INDEX more").unwrap();
            // Nothing tells any more that a row was missed but comparing.
            assert_eq!(cellar.repair(&db).unwrap().records.len(), 1);
        } else {
            assert!(cellar.repair(&db).unwrap().rebuilt, "{index}");
            agrees(&db, &cellar, "walnut", index);
            db.execute_batch("INSERT OR REPLACE INTO items VALUES (4, 'oak', 'a', 'p'); DROP INDEX more")
                .unwrap();
            noticed(&db, &cellar, index);
            cellar.repair(&db).unwrap();
        }
        agrees(&db, &cellar, "walnut", index);
        // In a transaction that is rolled back it has never been, and another has its number.
        db.execute_batch("BEGIN; CREATE UNIQUE INDEX again ON items(slug)").unwrap();
        noticed(&db, &cellar, index);
        db.execute_batch("ROLLBACK").unwrap();
        agrees(&db, &cellar, "walnut", index);
        db.execute_batch("CREATE UNIQUE INDEX other ON items(plain, slug)").unwrap();
        noticed(&db, &cellar, index);
    }
    // What makes no difference is in nobody's way.
    let (db, cellar) = adopted(table);
    for sql in [
        "CREATE INDEX by_slug ON items(slug)",
        "CREATE TABLE others(id INTEGER PRIMARY KEY, slug TEXT UNIQUE)",
        "ALTER TABLE items ADD COLUMN colour TEXT NOT NULL DEFAULT 'black'",
        "ALTER TABLE items RENAME COLUMN plain TO simple",
        "ALTER TABLE items DROP COLUMN simple",
        "CREATE VIEW boxes AS SELECT * FROM items",
        "CREATE TRIGGER audits AFTER UPDATE ON items BEGIN INSERT INTO others(slug) VALUES (new.id); END",
        "CREATE TRIGGER keeps BEFORE DELETE ON items WHEN old.id = 1 BEGIN SELECT RAISE(IGNORE); END",
        "UPDATE items SET title = 'walnut chest' WHERE id = 2; DELETE FROM items",
        "VACUUM",
    ] {
        db.execute_batch(sql).unwrap();
        agrees(&db, &cellar, "walnut", sql);
    }
}

#[test]
fn triggers_that_end_statements_before_ours_run_are_noticed() {
    let table = "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT); INSERT INTO items VALUES (1, 'walnut'), (2, 'walnut'), (3, 'walnut')";
    for trigger in [
        "CREATE TRIGGER ends AFTER UPDATE ON items BEGIN SELECT RAISE(IGNORE); END",
        "CREATE TRIGGER ends AFTER INSERT ON items BEGIN SELECT raise (  ignore ); END",
        "create trigger \"ends\" after delete on items begin select case when old.id = 2 then raise(ignore) end; end",
        "CREATE TRIGGER ends AFTER UPDATE OF title ON items WHEN new.id = 2 BEGIN SELECT RAISE(FAIL, 'no'); END",
        "CREATE TRIGGER ends AFTER INSERT ON items BEGIN INSERT OR FAIL INTO items VALUES (1, 'x'); END",
    ] {
        let (db, cellar) = adopted(table);
        db.execute_batch(trigger).unwrap();
        for statement in
            ["UPDATE items SET title = 'elm'", "INSERT INTO items VALUES (4, 'walnut')", "DELETE FROM items"]
        {
            let _ = db.execute_batch(statement);
        }
        noticed(&db, &cellar, trigger);
        // Triggers that are made again come before it.
        let again = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
        agrees(&db, &again, "walnut", trigger);
        for statement in [
            "INSERT INTO items VALUES (5, 'walnut tray'), (6, 'walnut box')",
            "UPDATE items SET title = 'oak'",
            "DELETE FROM items",
        ] {
            let _ = db.execute_batch(statement);
            agrees(&db, &again, "walnut", &format!("{trigger}; {statement}"));
            agrees(&db, &again, "oak", &format!("{trigger}; {statement}"));
        }
    }
}

#[test]
fn rows_that_other_triggers_make_conflict_are_followed() {
    for older in [true, false] {
        let trigger = "CREATE TRIGGER meddles BEFORE INSERT ON items BEGIN UPDATE items SET slug = new.slug WHERE id = 1; END";
        let table = "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, slug TEXT UNIQUE);
                     INSERT INTO items VALUES (1, 'walnut', 'a'), (2, 'walnut', 'b');";
        let (db, cellar) = adopted(&format!("{table}{}", if older { trigger } else { "" }));
        if !older {
            db.execute_batch(trigger).unwrap();
        }
        cellar.sync(&db).unwrap();
        db.execute_batch("INSERT OR REPLACE INTO items VALUES (7, 'elm', 'q')").unwrap();
        agrees(&db, &cellar, "walnut", trigger);
        agrees(&db, &cellar, "elm", trigger);
    }
}

#[test]
fn what_a_search_in_a_trigger_sees_is_not_taken_for_what_came_of_it() {
    let table = "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, slug TEXT UNIQUE); CREATE TABLE seen(n INTEGER);
         INSERT INTO items VALUES (1, 'walnut', 'a'), (2, 'walnut', 'b'), (3, 'oak', 'c')";
    for event in ["BEFORE INSERT", "BEFORE UPDATE", "BEFORE DELETE", "AFTER INSERT", "AFTER UPDATE"] {
        for later in [false, true] {
            let db = Connection::open_in_memory().unwrap();
            let functions = SqlFunctions::new();
            functions.register(&db).unwrap();
            db.execute_batch(table).unwrap();
            let looks = format!(
                "CREATE TRIGGER looks {event} ON items BEGIN INSERT INTO seen SELECT count(*) FROM cellar_find('items', 'walnut', 99); END"
            );
            if !later {
                db.execute_batch(&looks).unwrap();
            }
            SqliteCellar::adopt(&db, "items", &schema()).unwrap();
            if later {
                db.execute_batch(&looks).unwrap();
            }
            for statement in [
                "INSERT OR REPLACE INTO items VALUES (7, 'elm', 'a')",
                "UPDATE OR REPLACE items SET slug = 'b' WHERE id = 7",
                "UPDATE items SET title = 'walnut'",
                "UPDATE items SET title = 'quill' WHERE id = 3",
                "DELETE FROM items WHERE id = 3",
            ] {
                db.execute_batch(statement).unwrap();
                let counted = |sql: &str| db.query_row(sql, [], |row| row.get::<_, i64>(0)).unwrap();
                for word in ["walnut", "elm", "oak", "quill"] {
                    let found = counted(&format!("SELECT count(*) FROM cellar_find('items', '{word}', 99)"));
                    let rows = counted(&format!("SELECT count(*) FROM items WHERE title LIKE '%{word}%'"));
                    assert_eq!(found, rows, "{event}, {statement}: {word}");
                }
            }
        }
    }
}

#[test]
fn keys_that_are_no_utf8_are_never_taken_for_one_another() {
    let (db, cellar) = adopted(
        "CREATE TABLE items(id TEXT PRIMARY KEY, title TEXT); INSERT INTO items VALUES ('a', 'walnut')",
    );
    db.execute_batch(
        "INSERT INTO items VALUES (CAST(x'ff' AS TEXT), 'walnut box'), (CAST(x'fe' AS TEXT), 'walnut tray')",
    )
    .unwrap();
    assert_eq!(cellar.find(&db, "walnut", &Find::new()).unwrap().total, 1);
    cellar.sync(&db).unwrap();
    assert_eq!(cellar.find(&db, "walnut", &Find::new()).unwrap().total, 1);
    let error = cellar.differences(&db).unwrap_err();
    assert_eq!(error.kind(), ErrorKind::BadRecord);
    assert!(error.to_string().contains("not UTF-8"), "{error}");
    SqliteCellar::release(&db, "items").unwrap();
    assert_eq!(SqliteCellar::adopt(&db, "items", &schema()).unwrap_err().kind(), ErrorKind::BadRecord);
    // Rows that are joined by such a text are found all the same.
    db.execute_batch(
        "DELETE FROM items; CREATE TABLE things(id INTEGER PRIMARY KEY, place TEXT);
         INSERT INTO things VALUES (1, CAST(x'ff' AS TEXT)), (2, CAST(x'fe' AS TEXT)), (3, 'a');
         INSERT INTO items VALUES (CAST(x'ff' AS TEXT), 'walnut'), ('a', 'elm')",
    )
    .unwrap();
    let joined = Schema::new("id")
        .with("title", Column::text("en").from_columns(["items.title"]))
        .from_table("things")
        .joining(Join::one("items", "items.id = things.place"));
    let cellar = SqliteCellar::adopt(&db, "things", &joined).unwrap();
    db.execute_batch("UPDATE items SET title = 'quill'").unwrap();
    let found = cellar.find(&db, "quill", &Find::new()).unwrap();
    let mut keys: Vec<_> = found.hits.into_iter().map(|hit| hit.key).collect();
    keys.sort();
    assert_eq!(keys, [Key::from(1), Key::from(3)]);
}

#[test]
fn programs_that_attach_the_database_or_write_through_views_are_followed() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("app.db");
    let db = Connection::open(&path).unwrap();
    db.execute_batch(
        "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, slug TEXT UNIQUE); INSERT INTO items VALUES (1, 'walnut', 'a'), (2, 'walnut', 'b');
         CREATE VIEW boxes AS SELECT * FROM items;
         CREATE TRIGGER writes INSTEAD OF INSERT ON boxes BEGIN
           INSERT OR REPLACE INTO items VALUES (new.id, new.title, new.slug); SELECT RAISE(IGNORE); END;",
    )
    .unwrap();
    let cellar = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    let other = Connection::open_in_memory().unwrap();
    other
        .execute_batch(&format!("ATTACH '{}' AS app; CREATE TABLE items(id, title)", path.display()))
        .unwrap();
    for statement in [
        "INSERT OR REPLACE INTO app.items VALUES (3, 'elm', 'a')",
        "UPDATE app.items SET title = 'elm' WHERE id = 2",
        "INSERT INTO items VALUES (9, 'walnut')",
        "INSERT INTO app.boxes VALUES (5, 'walnut', 'b')",
        "DELETE FROM app.items WHERE id = 3",
    ] {
        other.execute_batch(statement).unwrap();
        agrees(&db, &cellar, "walnut", statement);
        agrees(&db, &cellar, "elm", statement);
    }
    other.execute_batch("CREATE UNIQUE INDEX app.more ON items(title)").unwrap();
    noticed(&db, &cellar, "an index that is made from elsewhere");
}
