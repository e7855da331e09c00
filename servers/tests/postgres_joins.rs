//! Records of several tables: whatever is done to any of them, searches equal the rows, joined by plain SQL.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod support;

use nut_cellar::postgres::PostgresCellar;
use nut_cellar::rows::tune;
use nut_cellar::{Cellar, Column, Find, Join, Key, Kind, Record, Schema, Words};
use postgres::Client;
use support::{Dice, connect, database, seeds};

const TABLES: &str = "
    CREATE TABLE stations(id integer PRIMARY KEY, code varchar(5) NOT NULL UNIQUE, name text);
    CREATE TABLE persons(id bigint PRIMARY KEY, name text);
    CREATE TABLE items(id integer PRIMARY KEY, title text, station text);
    CREATE TABLE claims(id integer, item bigint, person integer, note text, amount integer) PARTITION BY RANGE (id);
    CREATE TABLE low PARTITION OF claims FOR VALUES FROM (MINVALUE) TO (3);
    CREATE TABLE high PARTITION OF claims FOR VALUES FROM (3) TO (MAXVALUE);
    CREATE TABLE marks(item integer, mark text);";

fn schema() -> Schema {
    Schema::new("id")
        .with("title", Column::text("en").weighing(2.0))
        .with("station", Column::text("none").from_columns(["stations.name"]))
        .with("claims", Column::text("en").from_columns(["claims.note"]))
        .with("claimants", Column::text("none").from_columns(["persons.name"]))
        .with("marks", Column::text("none").from_columns(["marks.mark"]))
        .with("amount", Column::of(Kind::Integer).from_columns(["claims.amount"]))
        .from_table("items")
        .joining(Join::one("stations", "stations.code = items.station"))
        .joining(Join::many("claims", "claims.item = items.id"))
        .joining(Join::one("persons", "claims.person = persons.id"))
        .joining(Join::many("marks", "items.id = marks.item"))
}

/// The same records, as a query gives them.
const CARDS: &str = "
    SELECT i.id, i.title, (SELECT s.name FROM public.stations s WHERE s.code = i.station) AS station,
      array(SELECT c.note FROM public.claims c WHERE c.item = i.id ORDER BY c.note COLLATE \"C\") AS claims,
      array(SELECT p.name FROM public.claims c JOIN public.persons p ON p.id = c.person WHERE c.item = i.id
            ORDER BY p.name COLLATE \"C\") AS claimants,
      array(SELECT m.mark FROM public.marks m WHERE m.item = i.id ORDER BY m.mark COLLATE \"C\") AS marks,
      array(SELECT c.amount FROM public.claims c WHERE c.item = i.id ORDER BY c.amount) AS amount
    FROM public.items i -- which has the keys";

/// The schemas by which records are read: from the tables, from a view of them, by a query.
fn schemas() -> [Schema; 3] {
    let derived = |begun: Schema| {
        let tables = ["title", "station", "claims", "claimants", "marks"];
        let columns = tables.map(|name| (name, schema().column(name).unwrap().clone()));
        let with =
            |schema: Schema, (name, column): (&str, Column)| schema.with(name, column.from_columns([name]));
        let joins = schema().source().unwrap().joins.clone();
        let begun = columns.into_iter().fold(begun, with).with("amount", Column::of(Kind::Integer));
        joins.into_iter().fold(begun, Schema::joining)
    };
    [
        schema(),
        derived(Schema::new("id").from_table("items").through_view("cards")),
        derived(Schema::new("id").from_table("items").through_query(CARDS)),
    ]
}

const WORDS: [&str; 6] = ["oak", "elm", "box", "boxes", "brass", "quill"];

fn text(dice: &mut Dice) -> String {
    let words: Vec<_> = (0..dice.roll(3)).map(|_| dice.pick(&WORDS)).collect();
    format!("'{}'", words.join(" "))
}

/// A statement as some program would send it.
fn statement(dice: &mut Dice) -> String {
    let (id, other, text) = (dice.roll(5), dice.roll(5), text(dice));
    let code = dice.pick(&["'a'", "'A'", "'b'", "'c'"]);
    match dice.roll(20) {
        0 | 1 => format!(
            "INSERT INTO items VALUES ({id}, {text}, {code}) ON CONFLICT (id) DO UPDATE SET station = {code}"
        ),
        2 => format!("UPDATE items SET station = nullif({code}, 'c') WHERE id = {id}"),
        3 => format!("UPDATE items SET id = {other} WHERE id = {id}"),
        4 => format!("DELETE FROM items WHERE id = {id}"),
        5 | 6 => format!("INSERT INTO stations VALUES ({id}, {code}, {text}) ON CONFLICT DO NOTHING"),
        7 => format!("UPDATE stations SET name = {text}, code = {code} WHERE id = {id}"),
        8 => format!("DELETE FROM stations WHERE id = {id}"),
        9 | 10 => format!("INSERT INTO claims VALUES ({id}, {other}, {id}, {text}, {id})"),
        11 => format!("UPDATE claims SET item = {other}, id = {other} WHERE id = {id}"),
        12 => format!("UPDATE claims SET person = {other}, note = {text}, amount = {other} WHERE id = {id}"),
        13 => format!("DELETE FROM claims WHERE item = {id}"),
        14 => format!(
            "INSERT INTO persons VALUES ({id}, {text}) ON CONFLICT (id) DO UPDATE SET name = excluded.name"
        ),
        15 => format!("UPDATE persons SET id = {other}, name = {text} WHERE id = {id}"),
        16 => format!("INSERT INTO marks VALUES ({id}, {text}), ({id}, {text}), ({other}, 'oak')"),
        17 => format!("UPDATE marks SET item = (item + 1) % 5, mark = {text} WHERE item = {id}"),
        18 => format!("DELETE FROM marks WHERE item = {id} AND mark = {text}"),
        _ => dice
            .pick(&["TRUNCATE marks", "TRUNCATE claims", "UPDATE marks SET mark = mark", "TRUNCATE items"])
            .to_owned(),
    }
}

/// All records as the connection sees them, by joins that somebody would write.
fn records(client: &mut Client) -> Vec<Record> {
    let ids = client.query("SELECT id FROM items", &[]).unwrap();
    let ids: Vec<i32> = ids.iter().map(|row| row.get(0)).collect();
    ids.into_iter()
        .map(|id| {
            let mut record = Record::new(i64::from(id));
            for (column, sql) in [
                ("title", "SELECT title FROM items WHERE id = $1"),
                ("station", "SELECT s.name FROM items i JOIN stations s ON s.code = i.station WHERE i.id = $1"),
                ("claims", "SELECT note FROM claims WHERE item = $1 ORDER BY note COLLATE \"C\""),
                (
                    "claimants",
                    "SELECT p.name FROM claims c JOIN persons p ON p.id = c.person WHERE c.item = $1 ORDER BY p.name COLLATE \"C\"",
                ),
                ("marks", "SELECT mark FROM marks WHERE item = $1 ORDER BY mark COLLATE \"C\""),
            ] {
                for row in client.query(&sql.replace("$1", "$1::integer"), &[&id]).unwrap() {
                    let value: Option<String> = row.get(0);
                    if let Some(value) = value {
                        record.add(column, value);
                    }
                }
            }
            for row in client.query("SELECT amount FROM claims WHERE item = $1::integer", &[&id]).unwrap() {
                let value: Option<i32> = row.get(0);
                if let Some(value) = value {
                    record.add("amount", i64::from(value));
                }
            }
            record
        })
        .collect()
}

fn check(dice: &mut Dice, cellar: &PostgresCellar, client: &mut Client, at: &str) {
    let fresh = Cellar::in_memory(schema()).unwrap();
    let records = records(client);
    fresh.publish(|batch| records.iter().try_for_each(|record| batch.put(record))).unwrap();
    let words: Vec<_> = (0..=dice.roll(3)).map(|_| dice.pick(&WORDS)).collect();
    let query = format!("{} OR amount:{}", words.join(" OR "), dice.roll(5));
    let find = Find::new().strict().words(Words::Any).limit(50).without_values();
    let hits = |found: nut_cellar::Found| -> Vec<(Key, u32)> {
        found.hits.into_iter().map(|hit| (hit.key, hit.score.to_bits())).collect()
    };
    let (found, expected) = (cellar.find(client, &query, &find).unwrap(), fresh.find(&query, &find).unwrap());
    assert_eq!(hits(found), hits(expected), "{at}: {query}");
}

#[test]
fn searches_equal_the_joined_rows() {
    for seed in 1..=seeds(12) {
        let mut client = connect(&database());
        client.batch_execute(TABLES).unwrap();
        client.batch_execute(&format!("CREATE VIEW cards AS {CARDS}")).unwrap();
        let schema = &schemas()[usize::try_from(seed % 3).unwrap()];
        let mut dice = Dice(seed * 0x9e37_79b9 + 1);
        tune(|tuning| tuning.joined_from = 1 + seed % 2 * 200);
        for _ in 0..dice.roll(20) {
            let _ = client.batch_execute(&statement(&mut dice));
        }
        let cellar = PostgresCellar::adopt(&mut client, "items", schema).unwrap();
        let mut inside = false;
        for step in 0..80 {
            let sql = match dice.roll(10) {
                0 if !inside => "BEGIN".to_owned(),
                1 if inside => "COMMIT".to_owned(),
                2 if inside => "ROLLBACK".to_owned(),
                _ => statement(&mut dice),
            };
            let at = format!("seed {seed}, step {step}, {sql}");
            if client.batch_execute(&sql).is_ok() {
                inside = (inside || sql == "BEGIN") && sql != "COMMIT" && sql != "ROLLBACK";
            } else {
                client.batch_execute("ROLLBACK").unwrap();
                inside = false;
            }
            check(&mut dice, &cellar, &mut client, &at);
            if !inside && dice.roll(5) == 0 {
                cellar.sync(&mut client).unwrap();
                check(&mut dice, &cellar, &mut client, &at);
                assert_eq!(cellar.differences(&mut client).unwrap(), [], "{at}");
            }
        }
        PostgresCellar::release(&mut client, "items").unwrap();
        let left = "SELECT count(*) FROM pg_trigger WHERE tgname LIKE 'cellar%'";
        assert_eq!(client.query_one(left, &[]).unwrap().get::<_, i64>(0), 0);
    }
}

#[test]
fn a_joined_row_that_changes_is_one_row_in_the_log_and_its_triggers_are_watched() {
    let mut client = connect(&database());
    client.batch_execute(TABLES).unwrap();
    client
        .batch_execute(
            "INSERT INTO stations VALUES (1, 'a', 'Elmfold'), (2, 'b', 'Quill Halt');
             INSERT INTO items SELECT n, 'oak box', 'a' FROM generate_series(1, 500) n",
        )
        .unwrap();
    let schema_of_one = schema();
    let cellar = PostgresCellar::adopt(&mut client, "items", &schema_of_one).unwrap();
    let total = |client: &mut Client, query: &str| cellar.find(client, query, &Find::new()).unwrap().total;
    client.batch_execute("UPDATE stations SET name = 'Quillmere' WHERE id = 1").unwrap();
    let logged: i64 = client.query_one("SELECT count(*) FROM cellar_items.log", &[]).unwrap().get(0);
    assert!(logged <= 2, "{logged}");
    assert_eq!((total(&mut client, "station:elmfold"), total(&mut client, "station:quillmere")), (0, 500));
    assert_eq!(cellar.sync(&mut client).unwrap().put, 500);
    // What belongs to no record does not stay in the log.
    client.batch_execute("UPDATE stations SET name = 'Elm' WHERE id = 2").unwrap();
    assert_eq!(cellar.sync(&mut client).unwrap().put, 0);
    let logged: i64 = client.query_one("SELECT count(*) FROM cellar_items.log", &[]).unwrap().get(0);
    assert_eq!(logged, 0);
    // A row that is joined to joined rows touches the records behind these, and no others.
    client
        .batch_execute(
            "INSERT INTO persons VALUES (1, 'Wren'), (2, 'Finch');
             INSERT INTO claims VALUES (1, 7, 1, 'mine', 0), (2, 8, 2, 'mine', 0)",
        )
        .unwrap();
    assert_eq!(cellar.sync(&mut client).unwrap().put, 2);
    client.batch_execute("UPDATE persons SET name = 'Rook' WHERE id = 1").unwrap();
    assert_eq!(cellar.sync(&mut client).unwrap().put, 1);
    // Of two rows that are the same, one goes to another record in a statement that leaves the other where it is.
    client.batch_execute("INSERT INTO marks VALUES (9, 'torn'), (9, 'torn')").unwrap();
    assert_eq!(cellar.sync(&mut client).unwrap().put, 1);
    let moved = "CASE WHEN ctid = (SELECT ctid FROM marks LIMIT 1) THEN 8 ELSE item END";
    client.batch_execute(&format!("UPDATE marks SET item = {moved}")).unwrap();
    assert_eq!(cellar.sync(&mut client).unwrap().put, 2);
    assert_eq!(cellar.differences(&mut client).unwrap(), []);
    // What is not searched touches no record.
    client.batch_execute("UPDATE stations SET id = 9 WHERE id = 1; UPDATE claims SET id = id").unwrap();
    assert_eq!(cellar.sync(&mut client).unwrap().put, 0);
    client.batch_execute("ALTER TABLE stations DISABLE TRIGGER cellar_update_join0_items").unwrap();
    assert!(cellar.find(&mut client, "oak", &Find::new()).unwrap_err().is_out_of_step());
    for (join, part) in [
        (Join::one("claims", "claims.item = items.id"), "many = true"),
        (Join::many("attic", "attic.item = items.id"), "no table `attic`"),
        (Join::many("claims", "claims.thing = items.id"), "no column `thing`"),
    ] {
        let schema = Schema::new("id").with("title", Column::text("en")).from_table("items").joining(join);
        let error = PostgresCellar::adopt(&mut client, "others", &schema).unwrap_err();
        assert!(error.to_string().contains(part), "{error}");
    }
}

#[test]
fn what_records_are_read_from_has_their_keys_once_and_is_watched() {
    let mut client = connect(&database());
    client.batch_execute(TABLES).unwrap();
    client
        .batch_execute(
            "INSERT INTO items VALUES (1, 'Oak box', 'a'), (2, 'Elm box', 'b');
             CREATE VIEW cards AS SELECT id, title FROM items; CREATE MATERIALIZED VIEW stored AS SELECT id, title FROM items;
             CREATE VIEW twice AS SELECT id, title FROM items UNION ALL SELECT id, title FROM items WHERE id = 2;
             CREATE VIEW others AS SELECT id::text AS id, title FROM items; CREATE VIEW untitled AS SELECT id FROM items",
        )
        .unwrap();
    let schema = Schema::new("id").with("title", Column::text("en")).from_table("items");
    for (schema, part) in [
        (schema.clone().through_view("attic"), "no view"),
        (schema.clone().through_view("items"), "no view"),
        (schema.clone().through_view("stored"), "refreshed"),
        (schema.clone().through_view("others"), "of type text where"),
        (schema.clone().through_view("untitled"), "no column `title`; it has id"),
        (schema.clone().through_view("twice"), "several rows for the key 2"),
        (
            schema.clone().through_query("SELECT id, title FROM public.items) t; DROP TABLE marks; --"),
            "syntax",
        ),
        (schema.clone().through_query("SELECT id, title FROM items"), "named with their schemas"),
    ] {
        let error = PostgresCellar::adopt(&mut client, "items", &schema).unwrap_err();
        assert!(error.to_string().contains(part), "{error}");
    }
    client.batch_execute("SELECT * FROM marks").unwrap();
    let cellar = PostgresCellar::adopt(&mut client, "items", &schema.through_view("cards")).unwrap();
    let total = |client: &mut Client| cellar.find(client, "box", &Find::new()).map(|found| found.total);
    assert_eq!(total(&mut client).unwrap(), 2);
    client
        .batch_execute(
            "CREATE OR REPLACE VIEW cards AS SELECT id, 'Box ' || title AS title FROM items WHERE id = 1",
        )
        .unwrap();
    assert!(total(&mut client).unwrap_err().is_out_of_step());
    assert!(cellar.repair(&mut client).unwrap().rebuilt);
    assert_eq!(total(&mut client).unwrap(), 1);
    client.batch_execute("CREATE OR REPLACE VIEW cards AS SELECT id, title FROM twice").unwrap();
    assert!(cellar.repair(&mut client).unwrap_err().to_string().contains("several rows"));
    client.batch_execute("CREATE OR REPLACE VIEW cards AS SELECT id, title FROM items").unwrap();
    cellar.repair(&mut client).unwrap();
    client.batch_execute("INSERT INTO items VALUES (3, 'Tin box')").unwrap();
    assert_eq!(total(&mut client).unwrap(), 3);
}
