//! Snapshots held against each other: whatever histories led to them, what differs is what the records say.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use nut_cellar_core::{
    Batch, Column, Difference, Key, Kind, Memory, Merging, Opened, Record, Schema, Snapshot,
};
use proptest::prelude::*;
use std::collections::BTreeMap;

fn schema() -> Schema {
    Schema::new("id")
        .with("title", Column::text("en"))
        .with("notes", Column::text("none").not_kept())
        .with("value", Column::of(Kind::Integer).not_kept())
        .with("station", Column::of(Kind::Exact).not_kept())
}

/// A title, notes, a value and a station.
type Row = (String, String, Option<i64>, Option<&'static str>);

fn rows() -> impl Strategy<Value = Row> {
    let words = prop::collection::vec(prop::sample::select(&["oak", "elm", "box", "boxes"][..]), 0..4);
    let station = prop::option::of(prop::sample::select(&["Elmfold", "Quill Halt"][..]));
    (words.clone(), words, prop::option::of(0_i64..2), station)
        .prop_map(|(title, notes, value, station)| (title.join(" "), notes.join(" "), value, station))
}

fn record(key: i64, (title, notes, value, station): &Row) -> Record {
    let mut record = Record::new(key).with("title", title.as_str()).with("notes", notes.as_str());
    if let Some(value) = value {
        record.add("value", *value);
    }
    if let Some(station) = station {
        record.add("station", *station);
    }
    record
}

/// Changes in order; each batch is published by itself.
type History = Vec<Vec<(i64, Option<Row>)>>;

fn histories() -> impl Strategy<Value = History> {
    let change = (0_i64..6, prop::option::weighted(0.8, rows()));
    prop::collection::vec(prop::collection::vec(change, 0..6), 0..5)
}

/// A place with that history, and what is there at its end.
fn place(history: &History, merging: Merging) -> (Memory, BTreeMap<i64, Row>) {
    let (place, opened) = (Memory::new(), Opened::new());
    let mut rows = BTreeMap::new();
    for batch in [&Vec::new()].into_iter().chain(history) {
        let mut unit = place.unit();
        let mut writing = Batch::new(&mut unit, &opened, &schema()).unwrap();
        writing.set_merging(merging);
        for (key, row) in batch {
            if let Some(row) = row {
                writing.put(&record(*key, row)).unwrap();
                rows.insert(*key, row.clone());
            } else {
                writing.remove(&(*key).into()).unwrap();
                rows.remove(key);
            }
        }
        writing.publish().unwrap();
        unit.commit().unwrap();
    }
    (place, rows)
}

fn differences(one: &Memory, other: &Memory) -> Vec<(Key, Difference)> {
    let views = (one.view(), other.view());
    let open = |view| Snapshot::open(view, &Opened::new()).unwrap();
    let mut all = Vec::new();
    let (mine, wanted) = (open(&views.0), open(&views.1));
    let take = |key, difference| {
        all.push((key, difference));
        Ok(())
    };
    mine.differences(&views.0, (&wanted, &views.1), take).unwrap();
    all
}

proptest! {
    #[test]
    fn what_differs_is_what_the_records_say(one in histories(), other in histories()) {
        let ((one, mine), (other, wanted)) = (place(&one, Merging::Never), place(&other, Merging::Whole));
        let keys: std::collections::BTreeSet<_> = mine.keys().chain(wanted.keys()).collect();
        let expected: Vec<_> = keys
            .into_iter()
            .filter_map(|key| {
                let difference = match (mine.get(key), wanted.get(key)) {
                    (Some(_), None) => Difference::Surplus,
                    (None, Some(_)) => Difference::Missing,
                    (mine, wanted) if mine != wanted => Difference::Altered,
                    _ => return None,
                };
                Some((Key::from(*key), difference))
            })
            .collect();
        prop_assert_eq!(differences(&one, &other), expected);
    }

    #[test]
    fn nothing_differs_from_a_fresh_index_of_the_same(history in histories()) {
        let (one, rows) = place(&history, Merging::Due);
        let (fresh, _) = place(&vec![rows.into_iter().map(|(key, row)| (key, Some(row))).collect()], Merging::Never);
        prop_assert_eq!(differences(&one, &fresh), []);
    }
}
