//! Filters by key, against a plain look at each key: of whole numbers and texts, in several shelves and merged, whatever way is taken.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

#[path = "support/ways.rs"]
mod ways;

use nut_cellar_core::filter::Test;
use nut_cellar_core::{
    Batch, Column, Filter, Find, Key, Kind, Memory, Merging, Opened, Order, Query, Record, Schema, Search,
    Snapshot, Value, search,
};
use proptest::prelude::*;
use std::collections::BTreeSet;
use ways::WAYS;

fn schema() -> Schema {
    Schema::new("id").with("title", Column::text("en")).with("pence", Column::of(Kind::Integer))
}

fn key() -> impl Strategy<Value = Key> {
    prop_oneof![
        prop_oneof![-9_i64..9, Just(i64::MIN), Just(i64::MAX)].prop_map(Key::from),
        "[a-c0-9]{0,2}".prop_map(Key::from),
        Just(Key::from("a\0")),
        Just(Key::from(vec![b'a'])),
    ]
}

fn value() -> impl Strategy<Value = Value> {
    prop_oneof![
        prop_oneof![-9_i64..9, Just(i64::MIN), Just(i64::MAX)].prop_map(Value::Integer),
        "[a-c0-9]{0,2}|-?[0-9]|a\0".prop_map(Value::Text),
    ]
}

fn test() -> impl Strategy<Value = Test> {
    prop_oneof![
        value().prop_map(Test::Equal),
        prop::collection::vec(value(), 0..6).prop_map(Test::In),
        value().prop_map(Test::Below),
        value().prop_map(Test::AtMost),
        value().prop_map(Test::Above),
        value().prop_map(Test::AtLeast),
        (value(), value()).prop_map(|(low, high)| Test::Between(low, high)),
        Just(Test::Absent),
    ]
}

/// How a key compares with a value, if it is of a sort that this stands for.
fn against(key: &Key, value: &Value) -> Option<std::cmp::Ordering> {
    match (key, value) {
        (Key::Integer(key), Value::Integer(value)) => Some(key.cmp(value)),
        (Key::Integer(key), Value::Text(text)) => Some(key.cmp(&text.parse().ok()?)),
        (Key::Text(key), Value::Text(text)) => Some(key.cmp(text)),
        _ => None,
    }
}

fn holds(key: &Key, test: &Test) -> bool {
    let is = |value: &Value, right: fn(std::cmp::Ordering) -> bool| against(key, value).is_some_and(right);
    match test {
        Test::Equal(value) => is(value, std::cmp::Ordering::is_eq),
        Test::In(values) => values.iter().any(|value| is(value, std::cmp::Ordering::is_eq)),
        Test::Below(value) => is(value, std::cmp::Ordering::is_lt),
        Test::AtMost(value) => is(value, std::cmp::Ordering::is_le),
        Test::Above(value) => is(value, std::cmp::Ordering::is_gt),
        Test::AtLeast(value) => is(value, std::cmp::Ordering::is_ge),
        Test::Between(low, high) => is(low, std::cmp::Ordering::is_ge) && is(high, std::cmp::Ordering::is_le),
        _ => false,
    }
}

proptest! {
    #[test]
    fn a_filter_by_key_is_a_look_at_each_key(
        batches in prop::collection::vec((prop::collection::vec(key(), 1..40), prop::collection::vec(key(), 0..9)), 1..4),
        tests in prop::collection::vec((test(), any::<bool>()), 1..6),
        merging in prop::sample::select(&[Merging::Never, Merging::Whole][..]),
    ) {
        let (place, opened, mut live) = (Memory::new(), Opened::new(), BTreeSet::new());
        for (puts, removed) in &batches {
            let mut unit = place.unit();
            let mut batch = Batch::new(&mut unit, &opened, &schema()).unwrap();
            batch.set_merging(merging);
            batch.set_block(8);
            for key in puts {
                batch.put(&Record::new(key.clone()).with("title", "oak box").with("pence", 5_i64)).unwrap();
                live.insert(key.clone());
            }
            for key in removed {
                batch.remove(key).unwrap();
                live.remove(key);
            }
            batch.publish().unwrap();
            unit.commit().unwrap();
        }
        let snapshot = Snapshot::open(&place.view(), &opened).unwrap();
        for (test, negated) in tests {
            let expected: Vec<_> = live.iter().filter(|key| holds(key, &test) != negated).cloned().collect();
            let filter = Filter::Column("id".into(), test);
            let filter = if negated { filter.not() } else { filter };
            for order in [Order::Score, Order::Key, Order::Column { name: "pence".into(), down: true }] {
                for way in WAYS {
                    let find = Find::new().strict().limit(1_000).order(order.clone()).only(filter.clone());
                    let find = way.map_or_else(|| find.clone(), |way| find.clone().strategy(way));
                    let mut search = Search::new(snapshot.clone(), &Query::read("oak box").query, &find).unwrap();
                    let found = search::run(&place.view(), &mut search).unwrap();
                    let keys: Vec<_> = found.hits.iter().map(|hit| hit.key.clone()).collect();
                    prop_assert_eq!((&keys, found.total), (&expected, expected.len() as u64), "{:?} {:?}", filter, way);
                }
            }
        }
    }
}

#[test]
fn keys_are_written_in_filters_as_values_are() {
    let schema = schema();
    let read = Filter::read("id in (7, 'QLR-0042') and id >= 5", &schema).unwrap();
    assert_eq!(read, Filter::is_in("id", ["7", "QLR-0042"]).and(Filter::at_least("id", "5")));
    let said = |text: &str| Filter::read(text, &schema).unwrap_err().message;
    assert_eq!(said("id under a/b"), "Keys have no levels.");
    let several = Schema::new("depot").with_key("number").with("title", Column::text("en"));
    assert!(Filter::read("depot = 'North'", &several).unwrap_err().message.contains("no column `depot`"));
}
