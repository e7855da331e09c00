//! What happens to a table where no trigger sees it is noticed by the next search of every handle; and what changes no row is not in the
//! way of any.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod support;

use nut_cellar::postgres::PostgresCellar;
use nut_cellar::{Column, ErrorKind, Find, Schema};
use postgres::{Client, GenericClient};
use std::time::Duration;
use support::{connect, database};

const PLAIN: &str =
    "CREATE TABLE items(id integer PRIMARY KEY, title text, notes varchar(40), value integer)";
const PARTED: &str = "CREATE TABLE items(id integer PRIMARY KEY, title text, notes varchar(40), value integer) PARTITION BY RANGE (id);
    CREATE TABLE low PARTITION OF items FOR VALUES FROM (MINVALUE) TO (2);
    CREATE TABLE high PARTITION OF items FOR VALUES FROM (2) TO (MAXVALUE) PARTITION BY RANGE (id);
    CREATE TABLE highest PARTITION OF high FOR VALUES FROM (2) TO (MAXVALUE)";

fn schema() -> Schema {
    Schema::new("id").with("title", Column::text("en")).with("notes", Column::text("en"))
}

fn office(table: &str) -> (String, Client, PostgresCellar) {
    let address = database();
    let mut client = connect(&address);
    let rows = "INSERT INTO items VALUES (1, 'Walnut box', 'elm', 5), (2, 'Walnut chair', 'elm', 6)";
    client.batch_execute(&format!("{table}; {rows}")).unwrap();
    let cellar = PostgresCellar::adopt(&mut client, "items", &schema()).unwrap();
    (address, client, cellar)
}

fn total(cellar: &PostgresCellar, client: &mut impl GenericClient, query: &str) -> u64 {
    cellar.find(client, query, &Find::new()).unwrap().total
}

#[test]
fn rows_that_are_rewritten_unseen_are_noticed_by_every_handle() {
    let rewritten = [
        "ALTER TABLE items ALTER title TYPE text USING replace(title, 'Walnut', 'Elm')",
        "ALTER TABLE items ALTER notes TYPE varchar(90) USING 'walnut'",
        "ALTER TABLE items ALTER notes TYPE varchar(40) USING 'walnut'",
        "VACUUM FULL items; ALTER TABLE items ALTER title TYPE text USING lower(title) || 's'; VACUUM FULL items",
        "ALTER TABLE items ALTER notes TYPE varchar(99); ALTER TABLE items ALTER notes TYPE varchar(99) USING 'walnut'",
    ];
    for table in [PLAIN, PARTED] {
        for sql in rewritten {
            let (_, mut client, cellar) = office(table);
            for statement in sql.split("; ") {
                client.batch_execute(statement).unwrap();
            }
            let opened = PostgresCellar::open(&mut client, "items").unwrap();
            for handle in [&cellar, &opened] {
                assert!(
                    handle.find(&mut client, "walnut", &Find::new()).unwrap_err().is_out_of_step(),
                    "{sql}"
                );
                assert!(handle.sync(&mut client).unwrap_err().is_out_of_step(), "{sql}");
            }
            assert!(cellar.repair(&mut client).unwrap().rebuilt);
            let rows =
                client.query_one("SELECT count(*) FROM items WHERE items::text ~* 'walnut'", &[]).unwrap();
            assert_eq!(i64::try_from(total(&cellar, &mut client, "walnut")), Ok(rows.get(0)), "{sql}");
            // Rolled back, it is as if it had never been.
            let mut transaction = client.transaction().unwrap();
            transaction.batch_execute("ALTER TABLE items ALTER title TYPE text USING 'quill'").unwrap();
            assert!(cellar.find(&mut transaction, "quill", &Find::new()).unwrap_err().is_out_of_step());
            transaction.rollback().unwrap();
            assert_eq!(total(&cellar, &mut client, "quill"), 0);
        }
    }
}

#[test]
fn what_changes_no_row_is_in_nobodys_way() {
    for table in [PLAIN, PARTED] {
        let (_, mut client, cellar) = office(table);
        for sql in [
            "VACUUM FULL items",
            "ANALYZE items",
            "ALTER TABLE items ADD colour text DEFAULT 'black'",
            "CREATE INDEX ON items(value)",
            "VACUUM FULL items",
            "ALTER TABLE items ALTER value TYPE bigint",
            "ALTER TABLE items DROP value",
            "INSERT INTO items VALUES (3, 'Walnut stool', 'oak')",
            "VACUUM items",
        ] {
            client.batch_execute(sql).unwrap();
            assert!(total(&cellar, &mut client, "walnut") > 1, "{sql}");
        }
        if table == PLAIN {
            // Files are new, columns as they were; then one is not, and files are.
            let (_, mut client, cellar) = office(table);
            client.batch_execute("ALTER TABLE items ALTER notes TYPE varchar(70)").unwrap();
            assert_eq!(total(&cellar, &mut client, "walnut"), 2);
        }
    }
}

#[test]
fn triggers_of_partitions_and_tables_that_inherit_are_noticed() {
    let (_, mut client, cellar) = office(PARTED);
    for (off, on) in [
        ("ALTER TABLE low DISABLE TRIGGER ALL", "ALTER TABLE low ENABLE TRIGGER ALL"),
        (
            "ALTER TABLE highest DISABLE TRIGGER USER",
            "ALTER TABLE highest ENABLE ALWAYS TRIGGER cellar_update_items",
        ),
    ] {
        client.batch_execute(off).unwrap();
        assert!(cellar.find(&mut client, "walnut", &Find::new()).unwrap_err().is_out_of_step(), "{off}");
        let opened = PostgresCellar::open(&mut client, "items").unwrap();
        assert!(opened.find(&mut client, "walnut", &Find::new()).unwrap_err().is_out_of_step(), "{off}");
        client.batch_execute(on).unwrap();
        if on.ends_with("ALL") {
            assert_eq!(total(&cellar, &mut client, "walnut"), 2, "{on}");
        }
    }
    let (_, mut client, cellar) = office(PLAIN);
    client
        .batch_execute("CREATE TABLE more() INHERITS (items); INSERT INTO more VALUES (7, 'Walnut tray')")
        .unwrap();
    assert!(cellar.find(&mut client, "walnut", &Find::new()).unwrap_err().is_out_of_step());
    assert!(PostgresCellar::open(&mut client, "items").is_err());
    client.batch_execute("DROP TABLE more").unwrap();
    assert_eq!(total(&cellar, &mut client, "walnut"), 2);
}

#[test]
fn nobody_keeps_others_from_catching_up() {
    let (address, mut client, cellar) = office(PLAIN);
    // A program's own transaction, however it was begun, is left as it is.
    for end in ["ROLLBACK", "COMMIT"] {
        client.batch_execute("BEGIN; UPDATE items SET title = 'Quill' WHERE id = 1").unwrap();
        for error in [
            cellar.sync(&mut client).unwrap_err(),
            cellar.rebuild(&mut client).unwrap_err(),
            cellar.differences(&mut client).unwrap_err(),
            cellar.repair(&mut client).unwrap_err(),
            PostgresCellar::adopt(&mut client, "items", &schema()).unwrap_err(),
        ] {
            assert_eq!(error.kind(), ErrorKind::BadRequest, "{error}");
            assert!(error.to_string().contains("commit or roll back"), "{error}");
        }
        assert_eq!(total(&cellar, &mut client, "quill"), 1, "it goes on");
        client.batch_execute(end).unwrap();
        assert_eq!(total(&cellar, &mut client, "quill"), u64::from(end == "COMMIT"));
    }
    // A wait that is ended leaves nothing, whenever that is.
    let mut other = connect(&address);
    for round in 0..40 {
        client
            .batch_execute(&format!("UPDATE items SET value = value + 1, title = 'Quill {round}'"))
            .unwrap();
        std::thread::scope(|threads| {
            threads.spawn(|| {
                let mut transaction = other.transaction().unwrap();
                transaction
                    .batch_execute("LOCK TABLE cellar_items.state IN SHARE ROW EXCLUSIVE MODE")
                    .unwrap();
                std::thread::sleep(Duration::from_millis(5));
                transaction.commit().unwrap();
            });
            client.batch_execute(&format!("SET statement_timeout = {}", 3 + round % 5)).unwrap();
            let done = cellar.sync(&mut client);
            assert!(done.as_ref().map_or_else(nut_cellar::Error::is_busy, |_| true), "{done:?}");
        });
        other.batch_execute("SET lock_timeout = '2s'").unwrap();
        cellar.sync(&mut other).unwrap();
    }
    // A role that may only search takes no lock that they wait for.
    client.batch_execute("RESET statement_timeout; DROP ROLE IF EXISTS seeker; CREATE ROLE seeker").unwrap();
    cellar.allow(&mut client, "seeker").unwrap();
    let mut seeker = connect(&address);
    seeker.batch_execute("SET ROLE seeker").unwrap();
    for mode in ["SHARE ROW EXCLUSIVE", "ROW EXCLUSIVE", "SHARE", "EXCLUSIVE"] {
        let lock = format!("BEGIN; LOCK TABLE cellar_items.state IN {mode} MODE");
        assert!(seeker.batch_execute(&lock).is_err(), "{mode}");
        seeker.batch_execute("ROLLBACK").unwrap();
    }
}
