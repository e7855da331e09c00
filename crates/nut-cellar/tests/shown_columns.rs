//! Columns of text that are shown with the hits, and not searched.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use nut_cellar::sqlite::SqliteCellar;
use nut_cellar::text::Pattern;
use nut_cellar::{Cellar, Column, Filter, Find, Kind, Record, Schema};
use rusqlite::Connection;
use std::num::NonZero;

fn label() -> Column {
    Column::of(Kind::Text).not_indexed()
}

fn schema() -> Schema {
    Schema::new("id").with("title", Column::text("en")).with("label", label())
}

#[test]
fn they_come_with_the_hits_and_find_nothing() {
    let cellar = Cellar::in_memory(schema()).unwrap();
    let record = Record::new(1).with("title", "a scarf").with("label", "oak chest, scarf");
    cellar.publish(|batch| batch.put(&record)).unwrap();
    let strict = Find::new().strict().with_marks();
    assert_eq!(cellar.find("oak", &strict).unwrap().total, 0);
    let found = cellar.find("scarf", &strict).unwrap();
    assert_eq!(found.hits[0].text("label"), Some("oak chest, scarf"));
    let terms = cellar.terms(&Pattern::new("*").unwrap(), 10).unwrap().terms;
    assert_eq!(terms.iter().map(|term| term.term.as_str()).collect::<Vec<_>>(), ["a", "scarf"]);
    let found = cellar.find("label:oak", &strict).unwrap();
    assert!(
        found.notes[0].to_string().contains("column `label` is shown and not searched"),
        "{}",
        found.notes[0]
    );
    let error = cellar.find("oak", &Find::new().columns(["label"])).unwrap_err();
    assert!(error.to_string().contains("`label` is shown and not searched; use title"), "{error}");
    let misread = Filter::read("label = 'oak'", &schema()).unwrap_err();
    assert!(misread.to_string().contains("can't be compared"), "{misread}");
}

#[test]
fn a_change_of_one_is_followed_and_so_is_searching_it_after_all() {
    let db = Connection::open_in_memory().unwrap();
    db.execute_batch(
        "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, label TEXT);
         INSERT INTO items VALUES (1, 'a scarf', 'oak chest')",
    )
    .unwrap();
    let cellar = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    db.execute_batch("UPDATE items SET label = 'elm chest'").unwrap();
    let strict = Find::new().strict();
    let hit = cellar.find(&db, "scarf", &strict).unwrap().hits.remove(0);
    assert_eq!(hit.text("label"), Some("elm chest"));
    assert_eq!(cellar.find(&db, "elm", &strict).unwrap().total, 0);
    let searched = schema().with("label", Column::text("none"));
    let (cellar, adopted) = SqliteCellar::adopt_with(&db, "items", &searched, |_| ()).unwrap();
    assert!(adopted.rebuilt);
    assert_eq!(cellar.find(&db, "elm", &strict).unwrap().total, 1);
}

#[test]
fn what_makes_no_sense_of_them_is_refused() {
    for (column, says) in [
        (label().not_kept(), "that are kept"),
        (Column::of(Kind::Integer).not_indexed(), "of kind \"text\""),
        (label().weighing(2.0), "`weight` belongs to columns that are searched"),
        (label().with_gap(0), "this one is not indexed"),
        (label().of_first_words(NonZero::new(3).unwrap()), "this one is not indexed"),
        (label().in_words("en"), "searched for words"),
    ] {
        let error = schema().with("label", column).check().unwrap_err();
        assert!(error.to_string().contains(says), "{error}");
    }
    let only = Schema::new("id").with("label", label()).check().unwrap_err();
    assert!(only.to_string().contains("no column of kind \"text\""), "{only}");
}
