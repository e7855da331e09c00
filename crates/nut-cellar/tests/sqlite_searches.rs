//! Filters, orders, pages, reasons and rankings inside a database: they agree with rows that no shelf holds yet.
#![cfg(feature = "sqlite")]
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use nut_cellar::search::{Order, Reason, Why};
use nut_cellar::sqlite::SqliteCellar;
use nut_cellar::{Column, DEFAULT_MEMORY, Filter, Find, Kind, Query, Schema};
use rusqlite::Connection;

fn schema() -> Schema {
    Schema::new("id")
        .with("title", Column::text("en").weighing(4.0))
        .with("notes", Column::text("en"))
        .with("station", Column::of(Kind::Exact))
        .with("found_on", Column::of(Kind::Date))
        .with("value", Column::of(Kind::Integer))
}

/// A table of lost things with search on it, and two rows that changed since.
fn office() -> (Connection, SqliteCellar) {
    let db = Connection::open_in_memory().unwrap();
    db.execute_batch(
        "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, notes TEXT, station TEXT, found_on TEXT, value INTEGER);
         INSERT INTO items VALUES
           (1, 'Walnut box', 'brass hinge', 'Elmfold', '2031-04-17', 250),
           (2, 'Oak box', 'smells of walnuts', 'Quill Halt', '2031-05-02', 90),
           (3, 'Umbrella', 'walnut handle', 'Quill Halt', NULL, 40),
           (4, 'Tin box', NULL, NULL, '2032-01-05', NULL);",
    )
    .unwrap();
    let cellar = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    db.execute_batch(
        "UPDATE items SET value = 300, station = 'Quillmere' WHERE id = 2;
         INSERT INTO items VALUES (5, 'Box of walnuts', 'roasted', 'Elmfold', '2031-04-01', 5);",
    )
    .unwrap();
    (db, cellar)
}

fn keys(db: &Connection, cellar: &SqliteCellar, query: &str, find: &Find) -> String {
    let found = cellar.find(db, query, find).unwrap();
    found.hits.iter().map(|hit| hit.key.to_string()).collect::<Vec<_>>().join(" ")
}

#[test]
fn less_memory_finds_the_same() {
    let (db, cellar) = office();
    let found = keys(&db, &cellar, "walnut", &Find::new());
    assert_eq!(cellar.info(&db).unwrap().memory.budget, DEFAULT_MEMORY as u64);
    let cellar = cellar.with_memory(0);
    assert_eq!(keys(&db, &cellar, "walnut", &Find::new()), found);
    let memory = cellar.info(&db).unwrap().memory;
    assert_eq!((memory.budget, memory.kept), (0, 0));
}

#[test]
fn filters_and_orders_see_rows_that_no_shelf_holds() {
    let (db, cellar) = office();
    let by = |name: &str, down| Find::new().order(Order::Column { name: name.to_owned(), down });
    for (query, find, expected) in [
        ("walnut", by("value", true), "2 1 3 5"),
        ("walnut", by("value", false), "5 3 1 2"),
        ("box", by("station", false), "1 5 2 4"),
        ("box", by("found_on", true), "4 2 1 5"),
        ("walnut", by("value", true).only(Filter::equal("found_on", "2031-04")), "1 5"),
        ("walnut", by("value", true).only(Filter::equal("station", "Quill Halt")), "3"),
        ("walnut", by("value", true).only(Filter::absent("found_on")), "3"),
        ("walnut value:>=250", by("value", true), "2 1"),
        ("station:Quill*", by("value", false), "3 2"),
        ("box -station:Elmfold", by("value", true), "2 4"),
    ] {
        assert_eq!(keys(&db, &cellar, query, &find), expected, "{query} before catching up");
    }
    cellar.sync(&db).unwrap();
    assert_eq!(keys(&db, &cellar, "walnut", &by("value", true)), "2 1 3 5");
    cellar.compact(&db).unwrap();
    assert_eq!(keys(&db, &cellar, "box", &by("station", false)), "1 5 2 4");
}

#[test]
fn pages_go_on_over_shelf_and_overlay() {
    let (db, cellar) = office();
    let mut find = Find::new().order(Order::Column { name: "station".into(), down: false }).limit(1);
    let mut seen = Vec::new();
    loop {
        let page = cellar.find(&db, "box OR umbrella", &find).unwrap();
        assert_eq!(page.total, 5);
        seen.extend(page.hits.iter().map(|hit| hit.key.to_string()));
        match page.last {
            Some(last) => find = find.after(last),
            None => break,
        }
    }
    assert_eq!(seen.join(" "), "1 5 3 2 4");
}

#[test]
fn a_transaction_that_is_rolled_back_takes_its_matches_with_it() {
    let (db, cellar) = office();
    let rich = Find::new().only(Filter::at_least("value", 1_000_i64));
    db.execute_batch("BEGIN; UPDATE items SET value = 5000 WHERE id = 3").unwrap();
    assert_eq!(keys(&db, &cellar, "walnut", &rich), "3");
    let query = Query::read("walnut").query;
    assert!(matches!(cellar.why(&db, &query, &rich, &3.into()).unwrap(), Why::Found(_)));
    db.execute_batch("ROLLBACK").unwrap();
    assert_eq!(keys(&db, &cellar, "walnut", &rich), "");
    let Why::NotFound(reasons) = cellar.why(&db, &query, &rich, &3.into()).unwrap() else {
        panic!("ruled out")
    };
    assert_eq!(reasons, [Reason::Value { column: "value".into(), has: vec![40.into()] }]);
}

#[test]
fn reasons_rankings_and_reports_agree_with_the_rows() {
    let (db, cellar) = office();
    let (query, find) = (Query::read("walnut box").query, Find::new().strict());
    let found = cellar.search(&db, &query, &find).unwrap();
    for hit in &found.hits {
        let Why::Found(reckoning) = cellar.why(&db, &query, &find, &hit.key).unwrap() else {
            panic!("{} was found", hit.key)
        };
        assert_eq!((reckoning.score.to_bits(), reckoning.rank), (hit.score.to_bits(), Some(hit.rank as u64)));
    }
    let why = cellar.why(&db, &query, &find, &3.into()).unwrap();
    assert_eq!(why, Why::NotFound(vec![Reason::Missing { part: "box".into(), elsewhere: vec![] }]));
    db.execute("DELETE FROM items WHERE id = 3", []).unwrap();
    assert_eq!(cellar.why(&db, &query, &find, &3.into()).unwrap(), Why::NoRecord);

    // A row less, and all scores are others.
    let found = cellar.search(&db, &query, &find).unwrap();
    let other = find.clone().weight("title", 0.0);
    let compared = cellar.compare(&db, &query, &find, &other).unwrap();
    assert_eq!(compared.first.hits, found.hits);
    assert_eq!(compared.moved.len(), 3);

    let (same, report) = cellar.search_reporting(&db, &query, &find).unwrap();
    assert_eq!(same.hits, found.hits);
    assert_eq!(report.shelves.iter().map(|went| went.records).sum::<u64>(), 6, "replaced ones included");
    assert_eq!((report.trips, report.bytes), (0, 0), "what was read before is not asked for again");
    assert!(report.stages.iter().any(|stage| stage.name == "postings"));
}
