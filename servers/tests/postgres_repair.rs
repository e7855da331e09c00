//! Whatever is lost or damaged of a cellar, `repair` and `adopt` read it again from the rows, and say so.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod support;

use nut_cellar::postgres::PostgresCellar;
use nut_cellar::{Column, Find, Schema};
use support::{connect, database};

#[test]
fn what_is_lost_or_damaged_is_mended_by_repairing_and_by_adopting() {
    let schema = || Schema::new("id").with("title", Column::text("en"));
    let lost = [
        "DELETE FROM cellar_items.chunk",
        "DELETE FROM cellar_items.chunk WHERE number = 0",
        "UPDATE cellar_items.chunk SET data = substr(data, 1, 99)",
        "UPDATE cellar_items.state SET manifest = substr(manifest, 1, length(manifest) - 1)",
        "UPDATE cellar_items.state SET manifest = ''",
        "UPDATE cellar_items.state SET manifest = set_byte(manifest, 40, 255)",
        "DELETE FROM cellar_items.state",
        "DROP TABLE cellar_items.state CASCADE",
        "DROP TABLE cellar_items.log CASCADE",
        "DROP TABLE cellar_items.chunk CASCADE",
        "DROP FUNCTION cellar_items.state_alone(text)",
        "DROP FUNCTION cellar_items.update() CASCADE",
        "DROP SCHEMA cellar_items CASCADE",
    ];
    for lost in lost {
        for repairs in [true, false] {
            let address = database();
            let mut client = connect(&address);
            client
                .batch_execute("CREATE TABLE items(id integer PRIMARY KEY, title text); INSERT INTO items SELECT n, 'Walnut box ' || n FROM generate_series(1, 500) n")
                .unwrap();
            let cellar = PostgresCellar::adopt(&mut client, "items", &schema()).unwrap();
            client.batch_execute(lost).unwrap();
            let all_lost = lost.starts_with("DROP SCHEMA");
            if repairs && !all_lost {
                assert!(cellar.repair(&mut client).unwrap().rebuilt, "{lost}");
            } else {
                let (_, adopted) =
                    PostgresCellar::adopt_with(&mut client, "items", &schema(), |_| ()).unwrap();
                assert!(adopted.rebuilt, "{lost}");
            }
            client.batch_execute("UPDATE items SET title = 'Elm box' WHERE id = 7").unwrap();
            let opened = PostgresCellar::open(&mut client, "items").unwrap();
            assert_eq!(opened.find(&mut client, "walnut", &Find::new()).unwrap().total, 499, "{lost}");
            opened.check(&mut client).unwrap();
            assert_eq!(opened.differences(&mut client).unwrap(), []);
            opened.sync(&mut client).unwrap();
            assert_eq!(opened.find(&mut client, "elm", &Find::new()).unwrap().total, 1, "{lost}");
            PostgresCellar::release(&mut client, "items").unwrap();
            client.batch_execute("INSERT INTO items VALUES (0, 'nothing is left in the way')").unwrap();
        }
    }
}
