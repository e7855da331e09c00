//! Readings of a program's own, numbers in words, and editions of the reading, as a program meets them.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use nut_cellar::sqlite::SqliteCellar;
use nut_cellar::text::{TextSettings, WordList, offer_words};
use nut_cellar::{Cellar, Column, Find, Kind, Language, Marks, Record, Schema};
use rusqlite::Connection;

fn german() -> TextSettings {
    let german = Language::new("de").unwrap();
    let words = WordList::of(&german, ["Dampf", "Schiff", "Fahrt", "Karte", "Hafen"]).unwrap();
    offer_words("harbour", words).unwrap();
    TextSettings { compounds: vec!["harbour".into()], ..TextSettings::of(german) }
}

fn keys(cellar: &Cellar<impl nut_cellar::Place>, query: &str) -> Vec<String> {
    let found = cellar.find(query, &Find::new().strict()).unwrap();
    found.hits.iter().map(|hit| hit.key.to_string()).collect()
}

#[test]
fn the_whole_outranks_its_parts_and_parts_find_the_whole() {
    let cellar = Cellar::in_memory(Schema::new("id").with("title", Column::read_as(german()))).unwrap();
    cellar
        .publish(|batch| {
            batch.put(&Record::new(1).with("title", "eine Dampfschifffahrtskarte"))?;
            batch.put(&Record::new(2).with("title", "eine Dampfschifffahrt"))?;
            batch.put(&Record::new(3).with("title", "eine Fahrt"))?;
            batch.put(&Record::new(4).with("title", "eine Hafenkarte"))
        })
        .unwrap();
    assert_eq!(keys(&cellar, "Dampfschifffahrt"), ["2", "1"]);
    assert_eq!(keys(&cellar, "Fahrten"), ["1", "2", "3"]);
    assert_eq!(keys(&cellar, "\"eine Schifffahrt\""), ["1", "2"]);
    assert_eq!(keys(&cellar, "Hafenfahrt"), [""; 0]);
    let marks = cellar.highlighter("Karte", &Find::new().strict()).unwrap();
    let shown = marks.mark("title", "Hafenkarten: eine Karte", &Marks::new("<", ">")).unwrap();
    assert_eq!(shown, "Hafen<karten>: eine <Karte>");
}

#[test]
fn a_database_follows_rows_by_them() {
    let db = Connection::open_in_memory().unwrap();
    db.execute_batch(
        "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT);
         INSERT INTO items VALUES (1, 'Dampfschiff'), (2, 'Hafen')",
    )
    .unwrap();
    let schema = Schema::new("id").with("title", Column::read_as(german()));
    let cellar = SqliteCellar::adopt(&db, "items", &schema).unwrap();
    let total = |query| cellar.find(&db, query, &Find::new().strict()).unwrap().total;
    assert_eq!((total("Schiff"), total("Dampf"), total("Karte")), (1, 1, 0));
    db.execute_batch("BEGIN; UPDATE items SET title = 'Hafenkarte' WHERE id = 1").unwrap();
    assert_eq!((total("Schiff"), total("Karte"), total("Hafen")), (0, 1, 2));
    db.execute_batch("ROLLBACK").unwrap();
    assert_eq!((total("Schiff"), total("Karte")), (1, 0));
}

#[test]
fn numbers_are_found_as_words_where_a_column_says_so() {
    let schema = Schema::new("id")
        .with("title", Column::text("de"))
        .with("pieces", Column::of(Kind::Integer).in_words("de"))
        .with("metres", Column::of(Kind::Float).in_words("de"));
    schema.check().unwrap();
    assert_eq!(Schema::from_toml(&schema.to_toml()).unwrap(), schema);
    let cellar = Cellar::in_memory(schema).unwrap();
    cellar
        .publish(|batch| {
            batch.put(&Record::new(1).with("title", "Knöpfe").with("pieces", 1000).with("metres", 3.5))?;
            batch.put(&Record::new(2).with("title", "1.000 Knöpfe, 3,50 m").with("metres", 2.0))?;
            batch.put(&Record::new(3).with("title", "Seil").with("pieces", -7).with("metres", 2.25))
        })
        .unwrap();
    for (query, expected) in [
        ("1000", &["1", "2"][..]),
        ("1.000 knöpfe", &["2", "1"]),
        ("3,5", &["1", "2"]),
        ("3.5", &["1", "2"]),
        ("2", &["2"]),
        ("2,00", &["2"]),
        ("2,25", &["3"]),
        ("7", &["3"]),
        ("pieces:>=1000", &["1"]),
    ] {
        let mut found = keys(&cellar, query);
        found.sort();
        let mut expected = expected.to_vec();
        expected.sort_unstable();
        assert_eq!(found, expected, "{query}");
    }
    assert_eq!(keys(&cellar, "1.000")[0], "2", "the form that was typed counts most");
}

#[test]
fn what_was_read_by_an_older_edition_is_asked_by_it_until_it_is_read_again() {
    let db = Connection::open_in_memory().unwrap();
    db.execute_batch(
        "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT);
         INSERT INTO items VALUES (1, 'buttons that don''t match, 1,000')",
    )
    .unwrap();
    let english = TextSettings::of(Language::new("en").unwrap());
    let first = Column::read_as(TextSettings { edition: Some(1), ..english });
    let schema = |column: Column| Schema::new("id").with("title", column);
    SqliteCellar::adopt(&db, "items", &schema(first.clone())).unwrap();
    let total = |cellar: &SqliteCellar, query| cellar.find(&db, query, &Find::new().strict()).unwrap().total;
    // The program of today asks for today's reading; the rows have not been read again for it, and need not be.
    for weight in [1.0, 4.0] {
        let next = schema(Column::text("en").weighing(weight));
        let (cellar, adopted) = SqliteCellar::adopt_with(&db, "items", &next, |_| ()).unwrap();
        assert!(!adopted.rebuilt);
        assert_eq!(cellar.schema().column("title").unwrap().text_settings().edition, Some(1));
        assert_eq!((total(&cellar, "dont"), total(&cellar, "don't"), total(&cellar, "1000")), (0, 1, 0));
        db.execute_batch("UPDATE items SET title = title || '!'").unwrap();
        assert_eq!((total(&cellar, "dont"), total(&cellar, "don't")), (0, 1));
    }
    let next = schema(Column::text("en")).with("note", Column::text("en").from_columns(["title"]));
    let (cellar, adopted) = SqliteCellar::adopt_with(&db, "items", &next, |_| ()).unwrap();
    assert!(adopted.rebuilt);
    assert_eq!((total(&cellar, "dont"), total(&cellar, "1000")), (1, 1));
    // A cellar without a database is ranked anew in its own edition, too.
    let cellar = Cellar::in_memory(schema(first)).unwrap();
    cellar.publish(|batch| batch.put(&Record::new(1).with("title", "don't"))).unwrap();
    assert_eq!(cellar.rank_by(&schema(Column::text("en").weighing(2.0))).unwrap().len(), 1);
    assert_eq!((keys(&cellar, "dont").len(), keys(&cellar, "don't").len()), (0, 1));
    let mixed = schema(Column::text("en")).with(
        "note",
        Column::read_as(TextSettings { edition: Some(1), ..TextSettings::of(Language::new("en").unwrap()) }),
    );
    assert!(mixed.check().unwrap_err().to_string().contains("different editions"));
}
