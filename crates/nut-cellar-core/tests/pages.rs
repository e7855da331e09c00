//! Pages that go on behind the last hit of the one before, while records come and go in between.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use nut_cellar_core::search::{Order, PagePlace};
use nut_cellar_core::{
    Batch, Column, Filter, Find, Found, Key, Kind, Memory, Opened, Query, Record, Schema, Search, Snapshot,
    search,
};
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};

fn schema() -> Schema {
    Schema::new("id")
        .with("title", Column::text("en"))
        .with("value", Column::of(Kind::Integer))
        .with("station", Column::of(Kind::Exact))
}

/// A value and a station, or none of either.
type Row = (Option<i64>, Option<&'static str>);

fn rows() -> impl Strategy<Value = Row> {
    let station = prop::sample::select(&["Elmfold", "Quill Halt", "Quillmere", ""][..]);
    (prop::option::of(-2_i64..3), prop::option::of(station))
}

fn record(key: i64, (value, station): Row) -> Record {
    let mut record = Record::new(key).with("title", "oak box");
    if let Some(value) = value {
        record.add("value", value);
    }
    if let Some(station) = station {
        record.add("station", station);
    }
    record
}

struct Office {
    place: Memory,
    opened: Opened,
}

impl Office {
    fn change(&self, changes: &BTreeMap<i64, Option<Row>>) {
        let mut unit = self.place.unit();
        let mut batch = Batch::new(&mut unit, &self.opened, &schema()).unwrap();
        for (key, row) in changes {
            match row {
                Some(row) => batch.put(&record(*key, *row)).unwrap(),
                None => batch.remove(&(*key).into()).unwrap(),
            }
        }
        batch.publish().unwrap();
        unit.commit().unwrap();
    }

    fn find(&self, find: &Find) -> Found {
        let view = self.place.view();
        let snapshot = Snapshot::open(&view, &self.opened).unwrap();
        let query = Query::read("oak").query;
        search::run(&view, &mut Search::new(snapshot, &query, find).unwrap()).unwrap()
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 120, ..ProptestConfig::default() })]

    /// Whoever leafs through sees each record that stays as it is once, whatever happens to the others.
    #[test]
    fn what_stays_is_seen_once(
        rows in prop::collection::btree_map(0_i64..40, rows(), 1..30),
        changes in prop::collection::vec(prop::collection::btree_map(0_i64..40, prop::option::of(rows()), 0..5), 12),
        order in prop_oneof![
            Just(Order::Key),
            (prop::sample::select(&["value", "station"][..]), any::<bool>())
                .prop_map(|(name, down)| Order::Column { name: name.to_owned(), down }),
        ],
        size in 1_usize..5,
        filtered: bool,
    ) {
        let office = Office { place: Memory::new(), opened: Opened::new() };
        office.change(&rows.iter().map(|(key, row)| (*key, Some(*row))).collect());
        // Scores move when records come and go, so here they say nothing.
        let mut find = Find::new().order(order).limit(size).weight("title", 0.0);
        if filtered {
            find = find.only(Filter::equal("station", "").not());
        }
        let wanted = |row: &Row| !filtered || row.1 != Some("");
        let touched: BTreeSet<i64> = changes.iter().flat_map(BTreeMap::keys).copied().collect();
        let stays = rows.iter().filter(|(key, row)| !touched.contains(key) && wanted(row));
        let stays: BTreeSet<Key> = stays.map(|(key, _)| Key::from(*key)).collect();
        let mut seen = Vec::new();
        for change in changes.iter().cycle() {
            let page = office.find(&find);
            seen.extend(page.hits.iter().map(|hit| hit.key.clone()));
            let Some(last) = page.last else { break };
            // Kept as text, as in a link.
            find = find.after(last.to_string().parse::<PagePlace>().unwrap());
            if seen.len() < 60 {
                office.change(change);
            }
        }
        let once: Vec<_> = seen.iter().filter(|key| stays.contains(key)).collect();
        prop_assert_eq!(once.len(), stays.len(), "{:?}", seen);
        prop_assert_eq!(once.into_iter().collect::<BTreeSet<_>>().len(), stays.len());
    }
}

#[test]
fn the_pages_of_a_ranking_are_its_pieces() {
    let office = Office { place: Memory::new(), opened: Opened::new() };
    office.change(&(0..23).map(|key| (key, Some((Some(key % 3), None)))).collect());
    let all: Vec<_> = office.find(&Find::new().limit(100)).hits.into_iter().map(|hit| hit.key).collect();
    let (mut find, mut pieces) = (Find::new().limit(4), Vec::new());
    loop {
        let page = office.find(&find);
        assert_eq!(page.total, 23, "a page counts what all pages have");
        pieces.extend(page.hits.into_iter().map(|hit| hit.key));
        match page.last {
            Some(last) => find = find.after(last),
            None => break,
        }
    }
    assert_eq!(pieces, all);
}
