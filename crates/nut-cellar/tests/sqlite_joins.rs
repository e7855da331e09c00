//! Records of several tables: whatever is done to any of them, searches equal the rows, joined by plain SQL.
#![cfg(feature = "sqlite")]
#![allow(
    clippy::unwrap_used,
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "a test fails by panicking"
)]

mod support;

use nut_cellar::sqlite::SqliteCellar;
use nut_cellar::{Cellar, Column, Find, Join, Key, Kind, Record, Schema, Words};
use rusqlite::Connection;
use support::{Dice, seeds};

const TABLES: &str = "
    CREATE TABLE stations(id INTEGER PRIMARY KEY, code TEXT UNIQUE, name TEXT);
    CREATE TABLE persons(id INTEGER PRIMARY KEY, name TEXT);
    CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, station COLLATE NOCASE);
    CREATE TABLE claims(id INTEGER PRIMARY KEY, item INTEGER, person, note TEXT, amount INTEGER, UNIQUE(item, note));";

fn schema() -> Schema {
    Schema::new("id")
        .with("title", Column::text("en").weighing(2.0))
        .with("station", Column::text("none").from_columns(["stations.name"]))
        .with("claims", Column::text("en").from_columns(["claims.note"]))
        .with("claimants", Column::text("none").from_columns(["persons.name"]))
        .with("amount", Column::of(Kind::Integer).from_columns(["claims.amount"]))
        .from_table("items")
        .joining(Join::one("stations", "stations.code = items.station"))
        .joining(Join::many("claims", "claims.item = items.id"))
        .joining(Join::one("persons", "claims.person = persons.id"))
}

/// Records as a query gives them.
const CARDS: &str = "
    SELECT i.id, i.title, (SELECT max(s.name) FROM stations s WHERE i.station = s.code) AS station,
      (SELECT group_concat(note, ' / ') FROM (SELECT note FROM claims WHERE item = i.id ORDER BY note)) AS claims,
      (SELECT p.name FROM claims c JOIN persons p ON c.person = p.id WHERE c.item = i.id ORDER BY c.id LIMIT 1) AS claimants,
      (SELECT max(amount) FROM claims WHERE item = i.id) AS amount
    FROM items i -- which has the keys";

/// A schema of such records: the tables are followed, and nothing is read from them directly.
fn derived() -> Schema {
    let joined = schema();
    let begun = Schema::new("id").from_table("items");
    let columns = ["title", "station", "claims", "claimants"];
    let with = |schema: Schema, name: &str| {
        schema.with(name, joined.column(name).unwrap().clone().from_columns([name]))
    };
    let begun = columns.into_iter().fold(begun, with).with("amount", Column::of(Kind::Integer));
    joined.source().unwrap().joins.iter().cloned().fold(begun, Schema::joining)
}

const WORDS: [&str; 6] = ["oak", "elm", "box", "boxes", "brass", "quill"];

fn text(dice: &mut Dice) -> String {
    let words: Vec<_> = (0..dice.roll(3)).map(|_| dice.pick(&WORDS)).collect();
    format!("'{}'", words.join(" "))
}

/// A statement as some program would send it.
fn statement(dice: &mut Dice) -> String {
    let (id, other, text) = (dice.roll(5), dice.roll(5), text(dice));
    let code = dice.pick(&["'a'", "'A'", "'7'", "7", "NULL"]);
    // As some programs write numbers.
    let person = dice.pick(&["1", "2", "'1'", "'02'", "2.0", "NULL"]);
    let insert = dice.pick(&["INSERT", "INSERT OR REPLACE", "INSERT OR IGNORE", "REPLACE"]);
    let update = dice.pick(&["UPDATE", "UPDATE OR REPLACE", "UPDATE OR IGNORE"]);
    match dice.roll(16) {
        0 | 1 => format!("{insert} INTO items VALUES ({id}, {text}, {code})"),
        2 => format!("{update} items SET station = {code} WHERE id = {id}"),
        3 => format!("{update} items SET id = {other} WHERE id = {id}"),
        4 => format!("DELETE FROM items WHERE id = {id}"),
        5 | 6 => format!("{insert} INTO stations VALUES ({id}, {code}, {text})"),
        7 => format!("{update} stations SET name = {text}, code = {code} WHERE id = {id}"),
        8 => format!("DELETE FROM stations WHERE id = {id}"),
        9 | 10 => format!("{insert} INTO claims VALUES ({id}, {other}, {person}, {text}, {id})"),
        11 => format!("{update} claims SET item = {other} WHERE id = {id}"),
        12 => {
            format!("{update} claims SET person = {person}, note = {text}, amount = {other} WHERE id = {id}")
        }
        13 => format!("DELETE FROM claims WHERE item = {id}"),
        14 => format!("{insert} INTO persons VALUES ({id}, {text})"),
        _ => format!("{update} persons SET id = {other}, name = {text} WHERE id = {id}"),
    }
}

/// All records as the connection sees them, by joins that somebody would write.
fn records(db: &Connection) -> Vec<Record> {
    let values = |sql: &str, id: i64| -> Vec<rusqlite::types::Value> {
        let mut statement = db.prepare_cached(sql).unwrap();
        statement.query_map([id], |row| row.get(0)).unwrap().map(Result::unwrap).collect()
    };
    let mut ids = db.prepare("SELECT id FROM items").unwrap();
    let ids: Vec<i64> = ids.query_map([], |row| row.get(0)).unwrap().map(Result::unwrap).collect();
    ids.into_iter()
        .map(|id| {
            let mut record = Record::new(id);
            for (column, sql) in [
                ("title", "SELECT title FROM items WHERE id = ?1"),
                ("station", "SELECT s.name FROM items i JOIN stations s ON i.station = s.code WHERE i.id = ?1 ORDER BY s.name"),
                ("claims", "SELECT note FROM claims WHERE item = ?1 ORDER BY note"),
                (
                    "claimants",
                    "SELECT p.name FROM claims c JOIN persons p ON c.person = p.id WHERE c.item = ?1 ORDER BY p.name",
                ),
                ("amount", "SELECT amount FROM claims WHERE item = ?1 ORDER BY amount"),
            ] {
                for value in values(sql, id) {
                    match value {
                        rusqlite::types::Value::Integer(number) => record.add(column, number),
                        rusqlite::types::Value::Text(text) => record.add(column, text),
                        _ => {}
                    }
                }
            }
            record
        })
        .collect()
}

/// All records as a query gives them.
fn records_of_cards(db: &Connection) -> Vec<Record> {
    let mut rows = db.prepare_cached(CARDS).unwrap();
    let mut rows = rows.query([]).unwrap();
    let mut all = Vec::new();
    while let Some(row) = rows.next().unwrap() {
        let mut record = Record::new(row.get::<_, i64>(0).unwrap());
        for (place, column) in ["title", "station", "claims", "claimants"].into_iter().enumerate() {
            let text: Option<String> = row.get(place + 1).unwrap();
            if let Some(text) = text {
                record.add(column, text);
            }
        }
        if let Some(amount) = row.get::<_, Option<i64>>(5).unwrap() {
            record.add("amount", amount);
        }
        all.push(record);
    }
    all
}

fn check(dice: &mut Dice, cellar: &SqliteCellar, db: &Connection, at: &str) {
    let fresh = Cellar::in_memory(cellar.schema().clone()).unwrap();
    let is_derived = cellar.schema().source().unwrap().is_derived();
    let records = if is_derived { records_of_cards(db) } else { records(db) };
    fresh.publish(|batch| records.iter().try_for_each(|record| batch.put(record))).unwrap();
    let words: Vec<_> = (0..=dice.roll(3)).map(|_| dice.pick(&WORDS)).collect();
    let query = format!("{} OR amount:{}", words.join(" OR "), dice.roll(5));
    let find = Find::new().strict().words(Words::Any).limit(50);
    let hits = |found: nut_cellar::Found| -> Vec<(Key, u32, Vec<_>)> {
        let hits = found.hits.into_iter();
        hits.map(|hit| (hit.key, hit.score.to_bits(), hit.values.into_iter().collect())).collect()
    };
    let (found, expected) = (cellar.find(db, &query, &find).unwrap(), fresh.find(&query, &find).unwrap());
    assert_eq!(hits(found), hits(expected), "{at}: {query}");
}

#[test]
fn searches_equal_the_joined_rows() {
    for seed in 1..=seeds(40) {
        let db = Connection::open_in_memory().unwrap();
        db.execute_batch(TABLES).unwrap();
        let mut dice = Dice(seed * 0x9e37_79b9 + 1);
        db.pragma_update(None, "recursive_triggers", dice.roll(2) == 0).unwrap();
        for _ in 0..dice.roll(20) {
            let _ = db.execute_batch(&statement(&mut dice));
        }
        db.execute_batch(&format!("CREATE VIEW cards AS {CARDS}")).unwrap();
        let schema = match seed % 4 {
            0 => derived().through_view("Cards"),
            1 => derived().through_query(CARDS),
            _ => schema(),
        };
        let cellar = SqliteCellar::adopt(&db, "items", &schema).unwrap();
        for step in 0..80 {
            let sql = match dice.roll(12) {
                0 => "BEGIN".to_owned(),
                1 => "COMMIT".to_owned(),
                2 => "ROLLBACK".to_owned(),
                3 => "SAVEPOINT s".to_owned(),
                4 => "ROLLBACK TO s".to_owned(),
                _ => statement(&mut dice),
            };
            let _ = db.execute_batch(&sql);
            let at = format!("seed {seed}, step {step}, {sql}");
            check(&mut dice, &cellar, &db, &at);
            if db.is_autocommit() && dice.roll(5) == 0 {
                cellar.sync(&db).unwrap();
                check(&mut dice, &cellar, &db, &at);
                assert_eq!(cellar.differences(&db).unwrap(), [], "{at}");
            }
        }
    }
}

#[test]
fn a_joined_row_that_changes_is_one_row_in_the_log() {
    let db = Connection::open_in_memory().unwrap();
    db.execute_batch(TABLES).unwrap();
    db.execute_batch(
        "INSERT INTO stations VALUES (1, 'a', 'Elmfold'), (2, 'b', 'Quill Halt');
         WITH RECURSIVE n(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM n WHERE n < 500)
         INSERT INTO items SELECT n, 'oak box', 'a' FROM n;",
    )
    .unwrap();
    let cellar = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    let total = |query: &str| cellar.find(&db, query, &Find::new()).unwrap().total;
    assert_eq!((total("station:elmfold"), total("station:quillmere")), (500, 0));
    db.execute_batch("UPDATE stations SET name = 'Quillmere' WHERE id = 1").unwrap();
    let logged: i64 = db.query_row("SELECT count(*) FROM cellar_items_log", [], |row| row.get(0)).unwrap();
    assert_eq!(logged, 1);
    assert_eq!((total("station:elmfold"), total("station:quillmere")), (0, 500));
    assert_eq!(cellar.sync(&db).unwrap().put, 500);
    assert_eq!(total("station:quillmere"), 500);
    // What is not searched, and what is joined to nothing, touches no record.
    db.execute_batch("UPDATE stations SET name = 'Elm' WHERE id = 2").unwrap();
    assert_eq!(cellar.sync(&db).unwrap().put, 0);
    // What is unique in a row decides which row a REPLACE removes later, unseen; so it counts as searched.
    db.execute_batch("UPDATE stations SET id = 9 WHERE id = 1").unwrap();
    assert_eq!(cellar.sync(&db).unwrap().put, 500);
}

#[test]
fn what_can_t_be_joined_is_refused_and_triggers_on_joined_tables_are_watched_and_released() {
    let db = Connection::open_in_memory().unwrap();
    db.execute_batch(TABLES).unwrap();
    let before: i64 = db.query_row("SELECT count(*) FROM sqlite_schema", [], |row| row.get(0)).unwrap();
    let joined = |join: Join| {
        let schema = Schema::new("id")
            .with("title", Column::text("en"))
            .with("more", Column::text("en").from_columns([format!("{}.note", join.table)]));
        SqliteCellar::adopt(&db, "items", &schema.from_table("items").joining(join)).unwrap_err().to_string()
    };
    for (join, part) in [
        (Join::one("claims", "claims.item = items.id"), "many = true"),
        (Join::many("attic", "attic.item = items.id"), "no table `attic`"),
        (Join::many("claims", "claims.thing = items.id"), "no column `thing`"),
        (Join::many("claims", "claims.item = items.thing"), "no column `thing`"),
        (Join::many("stations", "stations.code = items.station"), "no column `note`"),
        (Join::many("claims", "claims.item"), "like `stations.id"),
    ] {
        let error = joined(join.clone());
        assert!(error.contains(part), "{join:?}: {error}");
    }
    let toml = schema().to_toml();
    assert_eq!(Schema::from_toml(&toml).unwrap(), schema(), "{toml}");
    let cellar = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    db.execute_batch("DROP TRIGGER cellar_items_after_update_join1").unwrap();
    assert!(cellar.find(&db, "oak", &Find::new()).unwrap_err().is_out_of_step());
    SqliteCellar::release(&db, "items").unwrap();
    let after: i64 = db
        .query_row("SELECT count(*) FROM sqlite_schema WHERE name <> 'sqlite_sequence'", [], |row| row.get(0))
        .unwrap();
    assert_eq!(after, before);
}

#[test]
fn what_records_are_read_from_has_their_keys_once_and_is_watched() {
    let db = Connection::open_in_memory().unwrap();
    db.execute_batch(TABLES).unwrap();
    db.execute_batch(
        "INSERT INTO items VALUES (1, 'Oak box', 'a'), (2, 'Elm box', 'b');
         CREATE VIEW cards AS SELECT id, title FROM items; CREATE VIEW untitled AS SELECT id FROM items;
         CREATE VIEW twice AS SELECT id, title FROM items UNION ALL SELECT id, title FROM items WHERE id = 2;",
    )
    .unwrap();
    let schema = Schema::new("id").with("title", Column::text("en")).from_table("items");
    for (schema, part) in [
        (schema.clone().through_view("attic"), "can't be read from"),
        (schema.clone().through_view("untitled"), "no column `title`; it has id"),
        (schema.clone().through_view("twice"), "several rows for the key 2"),
        (
            schema.clone().through_query("SELECT id, title FROM items); DROP TABLE claims; --"),
            "can't be read from",
        ),
    ] {
        let error = SqliteCellar::adopt(&db, "items", &schema).unwrap_err();
        assert!(error.to_string().contains(part), "{error}");
    }
    db.execute_batch("SELECT * FROM claims").unwrap();
    let cellar = SqliteCellar::adopt(&db, "items", &schema.through_view("cards")).unwrap();
    let total = || cellar.find(&db, "box", &Find::new()).map(|found| found.total);
    assert_eq!(total().unwrap(), 2);
    let become_another =
        |view: &str| db.execute_batch(&format!("DROP VIEW cards; CREATE VIEW cards AS {view}")).unwrap();
    become_another("SELECT id, 'Box ' || title AS title FROM items WHERE id = 1");
    assert!(total().unwrap_err().is_out_of_step());
    assert!(cellar.repair(&db).unwrap().rebuilt);
    assert_eq!(total().unwrap(), 1);
    become_another("SELECT id, title FROM items LEFT JOIN (SELECT 1 UNION SELECT 2) ON id = 3");
    cellar.repair(&db).unwrap();
    db.execute_batch("INSERT INTO items VALUES (3, 'Tin box', 'a')").unwrap();
    assert!(total().unwrap_err().to_string().contains("several rows for the key 3"));
    become_another("SELECT id, title FROM items");
    cellar.repair(&db).unwrap();
    assert_eq!(total().unwrap(), 3);
}
