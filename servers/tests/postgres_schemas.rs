//! A cellar in PostgreSQL that gets another schema, or its triggers back: what goes on meanwhile, and what is left behind.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod support;

use nut_cellar::postgres::PostgresCellar;
use nut_cellar::rows::Kept;
use nut_cellar::schema::Condition;
use nut_cellar::{Column, ErrorKind, Find, Join, Kind, Schema};
use postgres::Client;
use std::sync::Arc;
use support::{connect, database};

fn schema() -> Schema {
    Schema::new("id")
        .with("title", Column::text("en"))
        .with("notes", Column::text("none"))
        .from_table("items")
        .joining(Join::many("claims", "claims.item_id = items.id"))
        .with("claims", Column::text("en").from_columns(["claims.says"]))
}

/// Another column, and another table joined in the place of the one before.
fn next() -> Schema {
    Schema::new("id")
        .with("title", Column::text("en"))
        .with("colour", Column::text("en"))
        .with("station", Column::of(Kind::Exact).from_columns(["stations.name"]))
        .from_table("items")
        .joining(Join::one("stations", "stations.code = items.station"))
}

const ROWS: u64 = 2_500;

fn office(client: &mut Client) {
    client
        .batch_execute(
            "CREATE TABLE stations(code text PRIMARY KEY, name text);
             INSERT INTO stations VALUES ('E', 'Elmfold'), ('Q', 'Quill Halt');
             CREATE TABLE items(id bigint PRIMARY KEY, title text, notes text, colour text, station text);
             CREATE TABLE claims(no serial PRIMARY KEY, item_id bigint, says text);
             INSERT INTO items SELECT i, 'oak box', 'brass', 'navy', CASE i % 2 WHEN 0 THEN 'E' ELSE 'Q' END
               FROM generate_series(1, 2500) i;
             INSERT INTO claims(item_id, says) SELECT i, 'mine' FROM generate_series(1, 10) i",
        )
        .unwrap();
}

fn total(cellar: &PostgresCellar, client: &mut Client, query: &str) -> u64 {
    cellar.find(client, query, &Find::new()).unwrap().total
}

/// The triggers on the tables, and the functions of ours.
fn ours(client: &mut Client) -> Vec<String> {
    let sql = "SELECT tgname::text AS name FROM pg_trigger WHERE NOT tgisinternal
               UNION ALL SELECT proname FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
               WHERE n.nspname = 'cellar_items' ORDER BY name";
    client.query(sql, &[]).unwrap().iter().map(|row| row.get(0)).collect()
}

#[test]
fn searches_and_changes_go_on_while_a_cellar_gets_another_schema() {
    let address = database();
    let (mut client, mut other) = (connect(&address), connect(&address));
    office(&mut client);
    let old = PostgresCellar::adopt(&mut client, "items", &schema()).unwrap();
    let (_, adopted) = PostgresCellar::adopt_with(&mut client, "items", &schema(), |_| ()).unwrap();
    assert_eq!((adopted.changes.len(), adopted.rebuilt), (0, false));
    let heavier = schema().with("title", Column::text("en").weighing(3.0));
    let (old_again, adopted) = PostgresCellar::adopt_with(&mut client, "items", &heavier, |_| ()).unwrap();
    assert_eq!((adopted.changes.len(), adopted.rebuilt, adopted.synced.put), (1, false, 0));
    assert_eq!(old.find(&mut client, "oak", &Find::new()).unwrap_err().kind(), ErrorKind::OutOfStep);
    let old = old_again;

    let mut told = 0;
    let (cellar, adopted) = PostgresCellar::adopt_with(&mut client, "items", &next(), |_| {
        told += 1;
        other
            .batch_execute(&format!(
                "UPDATE items SET notes = 'yew', colour = 'ochre' WHERE id = {told};
                 UPDATE items SET title = 'elm' WHERE id = 100 + {told};
                 UPDATE stations SET name = 'Nettle {told}' WHERE code = 'E';
                 INSERT INTO claims(item_id, says) VALUES (50 + {told}, 'mine');
                 DELETE FROM items WHERE id = 200 + {told}; INSERT INTO items VALUES (5000 + {told}, 'elm', 'yew', 'ochre', 'E')"
            ))
            .unwrap();
        assert_eq!(total(&old, &mut other, "yew"), 2 * told);
        assert_eq!(total(&old, &mut other, "elm"), 2 * told);
        assert_eq!(total(&old, &mut other, "mine"), 10 + told);
    })
    .unwrap();
    assert_eq!((adopted.rebuilt, adopted.synced.put), (true, ROWS));
    assert!(told > 2, "{told}");
    assert_eq!(old.find(&mut client, "oak", &Find::new()).unwrap_err().kind(), ErrorKind::OutOfStep);
    let at_elmfold: i64 =
        client.query_one("SELECT count(*) FROM items WHERE station = 'E'", &[]).unwrap().get(0);
    let mut agrees = |cellar: &PostgresCellar| {
        for (query, expected) in [
            ("ochre".to_owned(), 2 * told),
            ("elm".to_owned(), 2 * told),
            (format!("station:\"Nettle {told}\""), at_elmfold.unsigned_abs()),
            ("yew OR brass OR mine".to_owned(), 0),
        ] {
            assert_eq!(total(cellar, &mut client, &query), expected, "{query}");
        }
        assert_eq!(cellar.differences(&mut client).unwrap(), []);
    };
    agrees(&cellar);
    // A keeper that looked after the cellar before opens it again.
    let mut kept = (connect(&address), Arc::new(old));
    assert_eq!(kept.sync().unwrap_err().kind(), ErrorKind::OutOfStep);
    kept.open_again().unwrap();
    assert!(kept.sync().unwrap().put > 0);
    agrees(&cellar);
    // What only the old schema searched is no longer logged.
    client.batch_execute("UPDATE items SET notes = 'oak' WHERE id = 7; DELETE FROM claims").unwrap();
    assert_eq!(cellar.info(&mut client).unwrap().pending, Some(0));
    assert_eq!(ours(&mut client).iter().filter(|name| name.contains("join0")).count(), 8);

    // And back, as a table that was emptied.
    client.batch_execute("TRUNCATE items").unwrap();
    let cellar = PostgresCellar::adopt(&mut client, "items", &schema()).unwrap();
    assert_eq!(total(&cellar, &mut client, "oak"), 0);
    client.batch_execute("INSERT INTO items VALUES (1, 'yew', 'oak', '', 'E')").unwrap();
    assert_eq!(total(&cellar, &mut client, "oak"), 1);
    PostgresCellar::release(&mut client, "items").unwrap();
    assert_eq!(ours(&mut client), Vec::<String>::new());
}

#[test]
fn triggers_that_a_migration_took_away_are_made_again() {
    let mut client = connect(&database());
    office(&mut client);
    let cellar = PostgresCellar::adopt(&mut client, "items", &schema()).unwrap();
    client
        .batch_execute(
            "ALTER TABLE items DISABLE TRIGGER ALL; UPDATE items SET title = 'yew' WHERE id < 11;
             ALTER TABLE items ENABLE TRIGGER ALL; DROP TRIGGER cellar_update_items ON items",
        )
        .unwrap();
    let error = cellar.find(&mut client, "oak", &Find::new()).unwrap_err();
    assert!(error.to_string().contains("adopt the table again"), "{error}");
    assert!(cellar.repair(&mut client).unwrap().rebuilt);
    assert_eq!(total(&cellar, &mut client, "yew"), 10);
    client
        .batch_execute(
            "CREATE TABLE fresh(LIKE items INCLUDING ALL); INSERT INTO fresh SELECT * FROM items WHERE id > 5;
             DROP TABLE items; ALTER TABLE fresh RENAME TO items",
        )
        .unwrap();
    assert_eq!(cellar.find(&mut client, "oak", &Find::new()).unwrap_err().kind(), ErrorKind::OutOfStep);
    let (cellar, adopted) = PostgresCellar::adopt_with(&mut client, "items", &schema(), |_| ()).unwrap();
    assert_eq!((adopted.changes.len(), adopted.rebuilt), (0, true));
    client.batch_execute("UPDATE items SET title = 'oak' WHERE id = 6").unwrap();
    assert_eq!(total(&cellar, &mut client, "yew"), 4);
    assert_eq!(cellar.differences(&mut client).unwrap(), []);
}

#[test]
fn what_a_cellar_cannot_become_changes_nothing() {
    let mut client = connect(&database());
    office(&mut client);
    let cellar = PostgresCellar::adopt(&mut client, "items", &schema()).unwrap();
    let stand = ours(&mut client);
    for (schema, kind, says) in [
        (schema().with("size", Column::text("en")), ErrorKind::BadSchema, "no column `size`"),
        (
            Schema::new("code").with("name", Column::text("en")).from_table("stations"),
            ErrorKind::BadRequest,
            "another name",
        ),
    ] {
        let error = PostgresCellar::adopt(&mut client, "items", &schema).unwrap_err();
        assert_eq!(error.kind(), kind, "{error}");
        assert!(error.to_string().contains(says), "{error}");
        assert_eq!((total(&cellar, &mut client, "oak"), ours(&mut client)), (ROWS, stand.clone()));
    }
    // One that fails when all rows have been read: somebody uses a function of ours.
    let use_it = "CREATE VIEW used AS SELECT * FROM cellar_items.logged_rows(NULL, NULL, NULL)";
    client.batch_execute(use_it).unwrap();
    PostgresCellar::adopt(&mut client, "items", &next()).unwrap_err();
    assert_eq!((total(&cellar, &mut client, "oak"), ours(&mut client)), (ROWS, stand));
    client.batch_execute("DROP VIEW used; ALTER TABLE stations RENAME TO stops").unwrap();
    assert_eq!(total(&cellar, &mut client, "oak"), ROWS, "what only the other schema needed is not watched");
    client.batch_execute("ALTER TABLE stops RENAME TO stations").unwrap();
    let stopped = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
        PostgresCellar::adopt_with(&mut client, "items", &next(), |_| panic!("stopped half way"))
    }));
    assert!(stopped.is_err());
    assert_eq!(total(&cellar, &mut client, "oak"), ROWS);
    let cellar = PostgresCellar::adopt(&mut client, "items", &next()).unwrap();
    assert_eq!(total(&cellar, &mut client, "navy"), ROWS);
    assert_eq!(cellar.differences(&mut client).unwrap(), []);
}

/// Rows that come to be so, and rows that no longer are, whatever changes them.
#[test]
fn only_rows_that_are_as_they_have_to_be_are_found() {
    let mut client = connect(&database());
    client
        .batch_execute(
            "CREATE TABLE items(id integer PRIMARY KEY, title text, \"gone at\" timestamptz, status text, room integer, kept boolean,
               known integer DEFAULT 1, log integer, key text);
             INSERT INTO items VALUES (1, 'oak', NULL, 'waiting', 7, true), (2, 'oak', now(), 'waiting', 7, true),
                 (3, 'oak', NULL, 'it''s lost', 7, true), (4, 'oak', NULL, 'waiting', NULL, NULL)",
        )
        .unwrap();
    let all = Schema::new("id").with("title", Column::text("en")).from_table("items");
    let only = all
        .clone()
        .only(Condition::absent("gone at"))
        .only(Condition::isnt("status", ["it's lost", "x' OR '1'='1"]));
    let keys = |cellar: &PostgresCellar, client: &mut Client| {
        let found = cellar.find(client, "oak", &Find::new()).unwrap();
        let mut keys: Vec<_> = found.hits.iter().map(|hit| hit.key.to_string()).collect();
        keys.sort();
        keys.join(" ")
    };
    let cellar = PostgresCellar::adopt(&mut client, "items", &only).unwrap();
    assert_eq!(keys(&cellar, &mut client), "1 4");
    for (change, expected) in [
        ("UPDATE items SET \"gone at\" = now() WHERE id = 1", "4"),
        ("UPDATE items SET \"gone at\" = NULL, status = NULL", "1 2 3 4"),
        ("UPDATE items SET status = 'it''s lost' WHERE id > 3", "1 2 3"),
        (
            "INSERT INTO items VALUES (6, 'oak', now(), 'waiting', 1), (7, 'oak', NULL, 'waiting', 1)",
            "1 2 3 7",
        ),
        ("TRUNCATE items", ""),
        (
            "INSERT INTO items VALUES (6, 'oak', now(), 'waiting', 1, false), (7, 'oak', NULL, 'waiting', 7, true)",
            "7",
        ),
    ] {
        client.batch_execute(change).unwrap();
        assert_eq!(keys(&cellar, &mut client), expected, "{change}");
        assert_eq!(cellar.differences(&mut client).unwrap(), []);
        cellar.sync(&mut client).unwrap();
        assert_eq!(keys(&cellar, &mut client), expected, "{change}");
    }
    let in_room = all.only(Condition::is("room", ["7", "8"])).only(Condition::is("kept", ["true"]));
    let cellar = PostgresCellar::adopt(&mut client, "items", &in_room).unwrap();
    assert_eq!(keys(&cellar, &mut client), "7");
}
