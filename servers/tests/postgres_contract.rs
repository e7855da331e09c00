//! What adopting a table of PostgreSQL promises: what is read and written, what is refused and how, who may do what.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod support;

use nut_cellar::postgres::{PostgresCellar, Session, cellars};
use nut_cellar::{Column, Difference, ErrorKind, Filter, Find, Key, Kind, PieceId, Query, Schema};
use postgres::types::Type;
use postgres::{Client, GenericClient, IsolationLevel};
use support::{connect, database};

fn schema() -> Schema {
    Schema::new("id")
        .with("title", Column::text("en").weighing(4.0))
        .with("notes", Column::text("en"))
        .with("station", Column::of(Kind::Exact))
        .with("found_on", Column::of(Kind::Date))
        .with("value", Column::of(Kind::Float))
}

/// The lost-property office, with search on its table.
fn office() -> (String, Client, PostgresCellar) {
    let address = database();
    let mut client = connect(&address);
    client
        .batch_execute(
            "CREATE TABLE items(id bigint PRIMARY KEY, title text, notes text[], station varchar(20), found_on date,
               value numeric, plain json);
             INSERT INTO items VALUES
               (1, 'Walnut box', '{brass hinge,engraved}', 'Elmfold', '2031-04-17', 250.5, '{}'),
               (2, 'Oak box', '{smells of walnuts}', 'Quill Halt', '2031-05-02', 90, NULL),
               (3, 'Umbrella', '{walnut handle}', 'Quill Halt', NULL, 40, NULL),
               (4, 'Tin box', NULL, NULL, '2032-01-05', NULL, NULL);",
        )
        .unwrap();
    let cellar = PostgresCellar::adopt(&mut client, "items", &schema()).unwrap();
    (address, client, cellar)
}

fn keys(cellar: &PostgresCellar, client: &mut impl GenericClient, query: &str, find: &Find) -> String {
    let found = cellar.find(client, query, find).unwrap();
    assert_eq!(found.total, found.hits.len() as u64);
    found.hits.iter().map(|hit| hit.key.to_string()).collect::<Vec<_>>().join(" ")
}

#[test]
fn a_search_sees_what_its_transaction_sees() {
    let (address, mut client, cellar) = office();
    let mut other = connect(&address);
    let plain = Find::new();
    assert_eq!(keys(&cellar, &mut client, "walnut", &plain), "1 3 2");
    assert_eq!(keys(&cellar, &mut client, "engraved", &plain), "1");
    for level in [IsolationLevel::ReadCommitted, IsolationLevel::RepeatableRead, IsolationLevel::Serializable]
    {
        let mut transaction = client.build_transaction().isolation_level(level).start().unwrap();
        transaction.execute("UPDATE items SET title = 'Umbrella stand' WHERE id = 4", &[]).unwrap();
        assert_eq!(keys(&cellar, &mut transaction, "umbrella", &plain), "3 4");
        let mut inner = transaction.transaction().unwrap();
        inner.execute("DELETE FROM items WHERE id = 3", &[]).unwrap();
        assert_eq!(keys(&cellar, &mut inner, "umbrella", &plain), "4");
        inner.rollback().unwrap();
        assert_eq!(keys(&cellar, &mut transaction, "umbrella", &plain), "3 4");
        assert_eq!(keys(&cellar, &mut other, "umbrella", &plain), "3");
        transaction.rollback().unwrap();
    }
    client.execute("INSERT INTO items(id, title) VALUES (5, 'Red umbrella')", &[]).unwrap();
    let info = cellar.info(&mut other).unwrap();
    assert_eq!(info.pending, Some(1));
    assert!(info.oldest.unwrap().as_secs() < 60 && info.table > Some(0), "{info:?}");
    assert_eq!(keys(&cellar, &mut other, "umbrella", &plain), "3 5");
    assert_eq!(cellar.sync(&mut client).unwrap().put, 1);
    let info = cellar.info(&mut other).unwrap();
    assert_eq!((info.pending, info.oldest), (Some(0), None));
    assert_eq!(keys(&cellar, &mut other, "umbrella", &plain), "3 5");
    cellar.compact(&mut other).unwrap();
    cellar.check(&mut client).unwrap();
    assert_eq!(cellar.info(&mut client).unwrap().shelves, 1);
}

/// How many shelves of changed rows a search goes through.
fn laid(cellar: &PostgresCellar, client: &mut impl GenericClient) -> usize {
    let query = Query::read("umbrella").query;
    let (_, report) = cellar.search_reporting(client, &query, &Find::new()).unwrap();
    report.shelves.iter().filter(|went| went.overlay).count()
}

#[test]
fn only_rows_that_came_later_are_read_again_and_all_if_earlier_ones_came_late() {
    let (address, mut client, cellar) = office();
    let (mut late, plain) = (connect(&address), Find::new());
    let put = |client: &mut Client, id: u32| {
        let sql = format!("INSERT INTO items(id, title) VALUES ({id}, 'Umbrella of {id}')");
        client.batch_execute(&sql).unwrap();
    };
    for (id, all) in [(5, "3 5"), (6, "3 5 6"), (7, "3 5 6 7")] {
        put(&mut client, id);
        let mut found: Vec<_> =
            keys(&cellar, &mut client, "umbrella", &plain).split(' ').map(str::to_owned).collect();
        found.sort_unstable();
        assert_eq!(
            (found.join(" ").as_str(), laid(&cellar, &mut client)),
            (all, usize::try_from(id - 4).unwrap())
        );
    }
    // A row that was logged before others, and can be seen after them.
    let mut open = late.transaction().unwrap();
    open.batch_execute("UPDATE items SET title = 'Tin umbrella' WHERE id = 4").unwrap();
    put(&mut client, 8);
    assert_eq!(cellar.find(&mut client, "umbrella", &plain).unwrap().total, 5);
    assert_eq!(laid(&cellar, &mut client), 4);
    open.commit().unwrap();
    assert_eq!(cellar.find(&mut client, "umbrella", &plain).unwrap().total, 6);
    assert_eq!(laid(&cellar, &mut client), 1);
    // What was over the shelves does not stay when it is rolled back.
    let mut open = client.transaction().unwrap();
    open.batch_execute("DELETE FROM items WHERE id = 8").unwrap();
    assert_eq!((cellar.find(&mut open, "umbrella", &plain).unwrap().total, laid(&cellar, &mut open)), (5, 1));
    open.rollback().unwrap();
    put(&mut client, 9);
    assert_eq!(cellar.find(&mut client, "umbrella", &plain).unwrap().total, 7);
    // Many parts become one.
    for id in 10..30 {
        put(&mut client, id);
        assert_eq!(cellar.find(&mut client, "umbrella", &plain).unwrap().total, u64::from(id - 2));
        assert!(laid(&cellar, &mut client) <= 8);
    }
}

/// Many rows become records while the database looks for the next ones; some are gone, and some have values that can't be read.
#[test]
fn many_changed_rows_are_found_as_few_are() {
    let (_, mut client, cellar) = office();
    client
        .batch_execute(
            "INSERT INTO items(id, title, value) SELECT n, 'Tin box of ' || n, n FROM generate_series(5, 1000) n;
             DELETE FROM items WHERE id IN (1, 5, 999);
             UPDATE items SET title = 'Umbrella', value = 'NaN' WHERE id = 7",
        )
        .unwrap();
    let all = Find::new().limit(2_000);
    let found = cellar.find(&mut client, "box", &all).unwrap();
    assert_eq!((found.total, found.hits.len()), (995, 995));
    assert_eq!(keys(&cellar, &mut client, "umbrella", &Find::new()), "3 7");
    assert_eq!(keys(&cellar, &mut client, "walnut", &Find::new()), "3 2");
    assert_eq!((laid(&cellar, &mut client), cellar.info(&mut client).unwrap().pending), (1, Some(997)));
    // Those that came later, over the others.
    client.batch_execute("UPDATE items SET title = 'Umbrella' WHERE id % 4 = 0").unwrap();
    assert_eq!(cellar.find(&mut client, "umbrella", &all).unwrap().total, 252);
    assert_eq!(laid(&cellar, &mut client), 2);
    let before = cellar.find(&mut client, "box OR umbrella", &all).unwrap();
    let synced = cellar.sync(&mut client).unwrap();
    assert_eq!((synced.put, synced.unreadable.count), (995, 1));
    assert_eq!(cellar.find(&mut client, "box OR umbrella", &all).unwrap(), before);
}

#[test]
fn a_reader_whose_pieces_are_gone_in_the_middle_of_its_transaction_finds_the_same() {
    let (address, mut client, cellar) = office();
    let mut other = connect(&address);
    // Without what was read before.
    let fresh = PostgresCellar::open(&mut other, "items").unwrap();
    let mut reading =
        other.build_transaction().isolation_level(IsolationLevel::RepeatableRead).start().unwrap();
    reading.query("SELECT 1 FROM items", &[]).unwrap();
    client.execute("UPDATE items SET title = 'Elm box' WHERE id = 2", &[]).unwrap();
    cellar.compact(&mut client).unwrap();
    assert_eq!(keys(&fresh, &mut reading, "oak", &Find::new()), "2");
    reading.commit().unwrap();
    assert_eq!(keys(&fresh, &mut other, "oak", &Find::new()), "");
}

#[test]
fn transactions_of_different_ages_each_keep_what_was_laid_over_the_shelves_for_them() {
    fn laid(cellar: &PostgresCellar, session: &mut impl Session, total: u64) -> Vec<Option<PieceId>> {
        let (found, report) = cellar.search_reporting(session, &Query::word("box"), &Find::new()).unwrap();
        assert_eq!(found.total, total);
        report.shelves.iter().filter(|went| went.overlay).map(|went| went.piece).collect()
    }
    let (address, mut client, cellar) = office();
    let insert = |client: &mut Client, id: i64| {
        client.execute("INSERT INTO items(id, title) VALUES ($1, 'Tin box')", &[&id]).unwrap();
    };
    insert(&mut client, 11);
    let mut other = connect(&address);
    let mut earlier =
        other.build_transaction().isolation_level(IsolationLevel::RepeatableRead).start().unwrap();
    earlier.query("SELECT 1 FROM items", &[]).unwrap();
    insert(&mut client, 12);
    let (old, new) = (laid(&cellar, &mut earlier, 4), laid(&cellar, &mut client, 5));
    assert_ne!(old, new);
    assert_eq!((laid(&cellar, &mut earlier, 4), laid(&cellar, &mut client, 5)), (old.clone(), new));
    // More states than are remembered: the one that is used stays.
    for id in 13..20 {
        insert(&mut client, id);
        assert_ne!(laid(&cellar, &mut client, id.cast_unsigned() - 7), old);
        assert_eq!(laid(&cellar, &mut earlier, 4), old);
    }
}

#[test]
fn values_are_read_whatever_the_session_has_set() {
    let (_, mut client, cellar) = office();
    client
        .batch_execute(
            "SET DateStyle = 'SQL, DMY'; SET TimeZone = 'Asia/Kolkata'; SET extra_float_digits = -10;
             UPDATE items SET value = 250.25, found_on = '01/04/2031' WHERE id = 1",
        )
        .unwrap();
    let only = |filter| Find::new().only(filter);
    assert_eq!(keys(&cellar, &mut client, "box", &only(Filter::equal("found_on", "2031-04-01"))), "1");
    assert_eq!(keys(&cellar, &mut client, "box", &only(Filter::equal("value", "250.25"))), "1");
    assert_eq!(keys(&cellar, &mut client, "walnut", &only(Filter::equal("station", "Quill Halt"))), "3 2");
    assert_eq!(keys(&cellar, &mut client, "box", &only(Filter::absent("station"))), "4");
    let synced = cellar.sync(&mut client).unwrap();
    assert_eq!((synced.put, synced.unreadable.count), (1, 0));
    client.execute("UPDATE items SET value = 'NaN' WHERE id = 1", &[]).unwrap();
    let unreadable = cellar.sync(&mut client).unwrap().unreadable;
    assert_eq!(unreadable.count, 1, "{unreadable:?}");
    assert!(unreadable.first.unwrap().starts_with("row 1, column `value`"));
}

#[test]
fn hits_are_handed_to_sql() {
    let (_, mut client, cellar) = office();
    let found = cellar.find(&mut client, "walnut", &Find::new().skip(1)).unwrap();
    let sql = "SELECT items.id, found.rank, items.station FROM found JOIN items ON items.id = found.key
               WHERE items.station <> $3 ORDER BY found.rank";
    let rows = cellar.join(&mut client, &found, sql, &[(&"Elmfold", Type::TEXT)]).unwrap();
    let rows: Vec<(i64, i64)> = rows.iter().map(|row| (row.get(0), row.get(1))).collect();
    assert_eq!(rows, [(3, 2), (2, 3)]);
    let error = cellar.join(&mut client, &found, "SELECT nothing FROM found", &[]).unwrap_err();
    assert!(error.to_string().contains("nothing"), "{error}");
}

#[test]
fn a_table_that_is_emptied_at_once_is_empty() {
    let (address, mut client, cellar) = office();
    let mut other = connect(&address);
    let mut transaction = client.transaction().unwrap();
    transaction.batch_execute("TRUNCATE items; INSERT INTO items(id, title) VALUES (3, 'Elm box')").unwrap();
    assert_eq!(keys(&cellar, &mut transaction, "walnut OR elm", &Find::new()), "3");
    transaction.rollback().unwrap();
    assert_eq!(keys(&cellar, &mut other, "walnut OR elm", &Find::new()), "1 3 2");
    client.batch_execute("TRUNCATE items").unwrap();
    assert_eq!(keys(&cellar, &mut other, "walnut OR elm", &Find::new()), "");
    cellar.sync(&mut client).unwrap();
    assert_eq!(
        (cellar.info(&mut other).unwrap().records, cellar.info(&mut other).unwrap().pending),
        (0, Some(0))
    );
    let chunks: i64 = client.query_one("SELECT count(*) FROM cellar_items.chunk", &[]).unwrap().get(0);
    assert_eq!(chunks, 0, "the pieces of what was there are gone");
    client.batch_execute("INSERT INTO items(id, title) VALUES (1, 'Oak box'); TRUNCATE items; INSERT INTO items(id, title) VALUES (2, 'Elm')").unwrap();
    assert_eq!(cellar.sync(&mut other).unwrap().put, 1);
    assert_eq!(keys(&cellar, &mut client, "oak OR elm", &Find::new()), "2");
}

#[test]
fn a_role_that_may_only_search_changes_nothing_and_writers_need_no_rights_on_the_log() {
    let (address, mut client, cellar) = office();
    client
        .batch_execute(
            "DROP ROLE IF EXISTS reader; DROP ROLE IF EXISTS writer; CREATE ROLE reader; CREATE ROLE writer;
             GRANT SELECT ON items TO reader; GRANT SELECT, INSERT, UPDATE, DELETE, TRUNCATE ON items TO writer",
        )
        .unwrap();
    let mut role = connect(&address);
    role.batch_execute("SET ROLE reader").unwrap();
    let error = PostgresCellar::open(&mut role, "items").unwrap_err();
    assert!(error.to_string().contains("permission denied"), "{error}");
    cellar.allow(&mut client, "reader").unwrap();
    let opened = PostgresCellar::open(&mut role, "items").unwrap();
    assert_eq!(keys(&opened, &mut role, "walnut", &Find::new()), "1 3 2");
    assert!(opened.sync(&mut role).is_err(), "nobody keeps those waiting who catch up");
    client.execute("UPDATE items SET title = 'Walnut case' WHERE id = 1", &[]).unwrap();
    assert_eq!(keys(&opened, &mut role, "case", &Find::new()), "1");
    assert!(opened.sync(&mut role).is_err());
    assert!(PostgresCellar::release(&mut role, "items").is_err());
    for table in ["state", "chunk", "log"] {
        assert!(role.batch_execute(&format!("DELETE FROM cellar_items.{table}")).is_err());
    }
    role.batch_execute("RESET ROLE; SET ROLE writer; SET search_path = pg_temp, public").unwrap();
    // What stands in front in the writer's search path is nothing to the triggers.
    role.batch_execute(
        "RESET ROLE; CREATE TEMP TABLE log(key bigint); GRANT ALL ON log TO writer; SET ROLE writer;
         INSERT INTO public.items(id, title) VALUES (9, 'Elm case'); DELETE FROM public.items WHERE id = 3",
    )
    .unwrap();
    assert_eq!(keys(&cellar, &mut client, "case OR umbrella", &Find::new()), "1 9");
}

#[test]
fn hostile_names_and_queries_change_nothing() {
    for backslashes in ["on", "off"] {
        hostile_names_change_nothing(backslashes);
    }
}

/// Whether texts take backslashes as they are is a setting of the session.
fn hostile_names_change_nothing(backslashes: &str) {
    let address = database();
    let mut client = connect(&address);
    client.batch_execute(&format!("SET standard_conforming_strings = {backslashes}")).unwrap();
    let name = "it\"e'm\\s; DROP TABLE kept; --$body$";
    let quoted = format!("\"{}\"", name.replace('"', "\"\""));
    client
        .batch_execute(&format!(
            "CREATE TABLE kept(id integer); CREATE TABLE {quoted}({quoted} text PRIMARY KEY, \"ti'tle\" text);
             INSERT INTO {quoted} VALUES ('a''; DROP TABLE kept; --', 'oak')"
        ))
        .unwrap();
    let schema = Schema::new(name).with("title", Column::text("none").from_columns(["ti'tle"]));
    let cellar = PostgresCellar::adopt(&mut client, name, &schema).unwrap();
    client.batch_execute(&format!("INSERT INTO {quoted} VALUES ('b\"', 'oak')")).unwrap();
    for query in ["oak", "'; DROP TABLE kept; --", "\"oak", "oak\0", "$1", "\\"] {
        let found = cellar.find(&mut client, query, &Find::new()).unwrap();
        let rows = cellar.join(&mut client, &found, "SELECT key FROM found", &[]).unwrap();
        assert_eq!(rows.len(), found.hits.len(), "{query}");
    }
    assert_eq!(keys(&cellar, &mut client, "oak", &Find::new()).len(), "a'; DROP TABLE kept; -- b\"".len());
    cellar.sync(&mut client).unwrap();
    assert_eq!(cellars(&mut client).unwrap(), [name]);
    PostgresCellar::release(&mut client, name).unwrap();
    client.batch_execute("SELECT * FROM kept").unwrap();
    let left: i64 = client
        .query_one("SELECT count(*) FROM pg_namespace WHERE nspname LIKE 'cellar%'", &[])
        .unwrap()
        .get(0);
    assert_eq!(left, 0);
}

#[test]
fn what_can_t_be_followed_is_refused_and_leaves_nothing_behind() {
    let address = database();
    let mut client = connect(&address);
    client
        .batch_execute(
            "CREATE TABLE keyless(id integer, title text); CREATE TABLE parent(id integer PRIMARY KEY, title text);
             CREATE TABLE child() INHERITS (parent); CREATE VIEW seen AS SELECT * FROM parent;
             CREATE TABLE money(id numeric PRIMARY KEY, title text); CREATE TABLE items(id integer PRIMARY KEY, name text);
             CREATE COLLATION loose (provider = icu, locale = 'und-u-ks-level2', deterministic = false);
             CREATE TABLE loosely(id text COLLATE loose PRIMARY KEY, title text)",
        )
        .unwrap();
    let schema = Schema::new("id").with("title", Column::text("en"));
    for (table, part) in [
        ("keyless", "not declared to be its key"),
        ("parent", "inherit"),
        ("seen", "no table"),
        ("money", "numeric"),
        ("items", "no column `title`; it has id, name"),
        ("attic", "There is no table `attic`"),
        ("loosely", "collation"),
        ("", "needs a name"),
        (&"x".repeat(60), "at most 56 bytes"),
    ] {
        let error = PostgresCellar::adopt(&mut client, table, &schema).unwrap_err();
        assert!(error.to_string().contains(part), "{table}: {error}");
    }
    assert!(cellars(&mut client).unwrap().is_empty());
    let error = PostgresCellar::open(&mut client, "items").unwrap_err();
    assert_eq!(error.kind(), ErrorKind::NotACellar);
}

#[test]
fn what_is_altered_behind_its_back_is_noticed() {
    for (alter, restore) in [
        (
            "ALTER TABLE items DISABLE TRIGGER cellar_update_items",
            "ALTER TABLE items ENABLE TRIGGER cellar_update_items",
        ),
        ("DROP TRIGGER cellar_delete_items ON items", ""),
        ("ALTER TABLE items DROP COLUMN title", ""),
        ("ALTER TABLE items ALTER COLUMN title TYPE varchar(9) USING 'changed'", ""),
        ("ALTER TABLE items RENAME TO things", "ALTER TABLE things RENAME TO items"),
        ("ALTER TABLE items ENABLE ROW LEVEL SECURITY", "ALTER TABLE items DISABLE ROW LEVEL SECURITY"),
        ("DROP TABLE items", ""),
    ] {
        let (_, mut client, cellar) = office();
        client.batch_execute(alter).unwrap();
        let error = cellar.find(&mut client, "walnut", &Find::new()).unwrap_err();
        assert!([ErrorKind::OutOfStep, ErrorKind::Place].contains(&error.kind()), "{alter}: {error}");
        assert!(cellar.sync(&mut client).is_err(), "{alter}");
        if !restore.is_empty() {
            client.batch_execute(restore).unwrap();
            assert_eq!(keys(&cellar, &mut client, "walnut", &Find::new()), "1 3 2", "{restore}");
        }
        PostgresCellar::release(&mut client, "items").unwrap();
    }
}

#[test]
fn a_cellar_that_is_released_leaves_the_table_as_it_was_and_can_be_adopted_anew() {
    let (address, mut client, cellar) = office();
    client.batch_execute("CREATE TABLE cellar_items.mine(id integer)").unwrap();
    assert!(
        PostgresCellar::release(&mut client, "items").is_err(),
        "something of somebody else's is in there"
    );
    assert_eq!(keys(&cellar, &mut client, "walnut", &Find::new()), "1 3 2", "and nothing is gone");
    client.batch_execute("DROP TABLE cellar_items.mine").unwrap();
    PostgresCellar::release(&mut client, "items").unwrap();
    client.batch_execute("UPDATE items SET title = 'Elm box' WHERE id = 1").unwrap();
    let mut other = connect(&address);
    let again = PostgresCellar::adopt(&mut other, "items", &schema()).unwrap();
    assert_eq!(keys(&again, &mut client, "elm", &Find::new()), "1");
    assert_eq!(keys(&cellar, &mut client, "elm", &Find::new()), "1", "an older handle goes on");
}

#[test]
fn what_no_trigger_saw_is_found_and_repaired() {
    let (address, mut client, cellar) = office();
    assert_eq!(cellar.differences(&mut client).unwrap(), []);
    // As a restore or a replication would write.
    client
        .batch_execute(
            "SET session_replication_role = replica; UPDATE items SET title = 'Elm box' WHERE id = 2;
             DELETE FROM items WHERE id = 3; INSERT INTO items(id, title) VALUES (9, 'Elm chest'); RESET session_replication_role;
             UPDATE items SET title = 'Oak chest' WHERE id = 4",
        )
        .unwrap();
    let expected = vec![
        (Key::from(2), Difference::Altered),
        (Key::from(3), Difference::Surplus),
        (Key::from(9), Difference::Missing),
    ];
    assert_eq!(cellar.differences(&mut client).unwrap(), expected);
    assert_eq!(keys(&cellar, &mut client, "elm OR chest", &Find::new()), "4");
    cellar.touch(&mut client, [&Key::from(2)]).unwrap();
    assert_eq!(keys(&cellar, &mut client, "elm", &Find::new()), "2");
    assert_eq!(cellar.repair(&mut client).unwrap().records, expected[1..]);
    assert_eq!(keys(&cellar, &mut client, "elm OR chest", &Find::new()), "9 2 4");
    assert_eq!(cellar.differences(&mut client).unwrap(), []);

    client.batch_execute("UPDATE cellar_items.chunk SET data = 'gone'").unwrap();
    let mut other = connect(&address);
    let opened = PostgresCellar::open(&mut other, "items").unwrap();
    assert!(opened.find(&mut other, "elm", &Find::new()).unwrap_err().is_damaged());
    assert!(opened.repair(&mut other).unwrap().rebuilt);
    assert_eq!(keys(&opened, &mut other, "elm OR chest", &Find::new()), "9 2 4");
    assert_eq!(keys(&cellar, &mut client, "elm OR chest", &Find::new()), "9 2 4");
    opened.check(&mut other).unwrap();
    // Even what can't be read can be taken away.
    client.batch_execute("UPDATE cellar_items.state SET manifest = 'gone'").unwrap();
    assert!(cellar.find(&mut client, "elm", &Find::new()).is_err());
    PostgresCellar::release(&mut client, "items").unwrap();
    assert_eq!(cellars(&mut client).unwrap(), [""; 0]);
}
