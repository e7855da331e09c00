//! What a program that listens with `tracing` is told. One test only: whether somebody listens is asked of the whole process.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use nut_cellar::sqlite::SqliteCellar;
use nut_cellar::{Column, Find, Schema};
use rusqlite::Connection;
use std::fmt::{Debug, Write};
use std::sync::{Arc, Mutex};
use tracing::field::{Field, Visit};
use tracing::span::{Attributes, Id, Record};
use tracing::{Event, Metadata, Subscriber};

/// Writes down the names of spans, and their fields.
#[derive(Clone, Default)]
struct Listener(Arc<Mutex<String>>);

impl Visit for Listener {
    fn record_debug(&mut self, field: &Field, value: &dyn Debug) {
        let _ = write!(self.0.lock().unwrap(), " {field}={value:?}");
    }
}

impl Subscriber for Listener {
    fn enabled(&self, metadata: &Metadata<'_>) -> bool {
        metadata.target() == "nut_cellar"
    }

    fn new_span(&self, span: &Attributes<'_>) -> Id {
        let _ = write!(self.0.lock().unwrap(), "\n{}", span.metadata().name());
        span.record(&mut self.clone());
        Id::from_u64(1)
    }

    fn record(&self, _: &Id, values: &Record<'_>) {
        values.record(&mut self.clone());
    }

    fn record_follows_from(&self, _: &Id, _: &Id) {}

    fn event(&self, _: &Event<'_>) {}

    fn enter(&self, _: &Id) {}

    fn exit(&self, _: &Id) {}
}

fn office() -> (Connection, SqliteCellar) {
    let db = Connection::open_in_memory().unwrap();
    db.execute_batch(
        "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT); INSERT INTO items VALUES (1, 'oak')",
    )
    .unwrap();
    let cellar =
        SqliteCellar::adopt(&db, "items", &Schema::new("id").with("title", Column::text("en"))).unwrap();
    (db, cellar)
}

#[test]
fn searches_and_catching_up_are_spans() {
    let (db, cellar) = office();
    let listener = Listener::default();
    tracing::subscriber::with_default(listener.clone(), || {
        cellar.find(&db, "oak", &Find::new()).unwrap();
        db.execute_batch("INSERT INTO items VALUES (2, 'oak'); DELETE FROM items WHERE id = 1").unwrap();
        cellar.find(&db, "oak", &Find::new()).unwrap();
        cellar.sync(&db).unwrap();
        assert!(cellar.find(&db, "oak", &Find::new().columns(["nowhere"])).is_err());
    });
    let said = listener.0.lock().unwrap().clone();
    let spans: Vec<_> = said.lines().skip(1).collect();
    assert_eq!(spans[0], "search cellar=\"items\" overlay=false total=1");
    assert_eq!(spans[1], "search cellar=\"items\" overlay=true total=1");
    assert_eq!(spans[2], "catch_up cellar=\"items\" put=1 removed=1");
    assert!(spans[3].starts_with("search cellar=\"items\" overlay=false error="), "{}", spans[3]);
    assert_eq!(spans.len(), 4);
}
