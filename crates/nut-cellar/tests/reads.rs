//! A search reads its parts of a shelf, not the whole: a place that counts says how much.
#![allow(
    clippy::unwrap_used,
    clippy::cast_possible_truncation,
    clippy::cast_possible_wrap,
    clippy::cast_sign_loss,
    reason = "a test fails by panicking, and its numbers are small"
)]

use bytes::Bytes;
use nut_cellar::store::Wanted;
use nut_cellar::{
    Batch, Column, Find, Manifest, Memory, Opened, Query, Record, Result, Schema, Search, Snapshot, View,
    search,
};
use std::cell::Cell;
use std::sync::Arc;

/// Counts what is read of the view behind it.
struct Counting<V> {
    view: V,
    bytes: Cell<u64>,
    round_trips: Cell<u64>,
}

impl<V: View> View for Counting<V> {
    fn manifest(&self) -> Result<Option<Arc<Manifest>>> {
        self.view.manifest()
    }

    fn read(&self, wanted: &[Wanted]) -> Result<Vec<Bytes>> {
        self.round_trips.set(self.round_trips.get() + 1);
        self.bytes
            .set(self.bytes.get() + wanted.iter().map(|(_, range)| range.end - range.start).sum::<u64>());
        self.view.read(wanted)
    }
}

#[test]
fn a_one_word_search_on_a_hundred_thousand_records_reads_its_parts() {
    let schema = Schema::new("id").with("title", Column::text("en")).with("notes", Column::text("none"));
    let place = Memory::new();
    let opened = Opened::new();
    let mut unit = place.unit();
    let mut batch = Batch::new(&mut unit, &opened, &schema).unwrap();
    for id in 0..100_000_i64 {
        let word = |salt: i64| format!("w{}", (id * 7_919 + salt * salt) % (97 + 1_000 * salt));
        let notes: Vec<_> = (0..12).map(word).collect();
        let title = format!("item {} {}", word(3), if id % 1_000 == 17 { "periscope" } else { "box" });
        batch.put(&Record::new(id).with("title", title).with("notes", notes.join(" "))).unwrap();
    }
    batch.publish().unwrap();
    unit.commit().unwrap();

    let view = Counting { view: place.view(), bytes: Cell::new(0), round_trips: Cell::new(0) };
    let whole: u64 = view.manifest().unwrap().unwrap().shelves.iter().map(|shelf| shelf.bytes).sum();
    let snapshot = Snapshot::open(&view, &Opened::new()).unwrap();
    let opening = view.bytes.replace(0);
    assert!(opening < whole / 100, "opening read {opening} of {whole} bytes");

    let find = |query: &str| {
        view.bytes.set(0);
        view.round_trips.set(0);
        let mut search = Search::new(snapshot.clone(), &Query::read(query).query, &Find::new()).unwrap();
        let found = search::run(&view, &mut search).unwrap();
        let (read, trips) = (view.bytes.get(), view.round_trips.get());
        println!("{query}: {read} of {whole} bytes in {trips} round trips; opening: {opening}");
        (found.total, read, trips)
    };
    let (total, read, trips) = find("periscope");
    assert_eq!(total, 100);
    assert!(read < whole / 10, "a rare word read {read} of {whole} bytes");
    assert!(trips <= 8, "{trips} round trips");
    let (total, read, _) = find("box");
    assert_eq!(total, 99_900);
    assert!(read < whole / 5, "a word that nearly all records have read {read} of {whole} bytes");
    let (total, read, _) = find("submarine");
    assert_eq!(total, 0);
    assert!(read < whole / 50, "a word that none has read {read} of {whole} bytes");
}
