//! Counts of what a search finds, against a plain look at each record that it finds: of several shelves with removed records, merged or not.
#![allow(
    clippy::unwrap_used,
    clippy::cast_precision_loss,
    reason = "a test fails by panicking, and its numbers are small"
)]

use nut_cellar_core::counts::{Count, Counted, Period, Sum};
use nut_cellar_core::lenient;
use nut_cellar_core::{
    Batch, Column, ErrorKind, Filter, Find, Found, Key, Kind, Memory, Merging, Opened, Query, Record,
    Request, Schema, Snapshot, Value,
};
use proptest::prelude::*;
use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet};

const STATIONS: [&str; 6] = ["Elmfold", "Quill Halt", "Over Mere", "Tarn", "Ashby Road", ""];
const CATEGORIES: [&str; 9] = [
    "tools",
    "tools/hand",
    "tools/hand/saws",
    "tools/hand/files",
    "tools-old/hand",
    "tools/garden",
    "bags",
    "bags/",
    "books/maps/old",
];
const MOMENTS: [&str; 8] = [
    "2031-03-29T23:30:00Z",
    "2031-03-30T00:59:59.999999Z",
    "2031-03-30T01:00:00Z",
    "2031-10-25T22:59:00Z",
    "2031-10-25T23:00:00Z",
    "2031-12-31T23:59:59Z",
    "2032-01-01T00:00:00Z",
    "1969-12-28T12:00:00Z",
];

fn schema() -> Schema {
    Schema::new("id")
        .with("title", Column::text("en"))
        .with("station", Column::of(Kind::Exact))
        .with("category", Column::of(Kind::Exact))
        .with("lent", Column::of(Kind::Boolean))
        .with("pence", Column::of(Kind::Integer))
        .with("weight", Column::of(Kind::Float))
        .with("found_on", Column::of(Kind::Date))
        .with("seen_at", Column::of(Kind::Moment))
}

fn some<T: Clone + std::fmt::Debug + 'static>(all: &'static [T]) -> impl Strategy<Value = Vec<T>> {
    prop::collection::vec(prop::sample::select(all), 0..4)
}

fn record() -> impl Strategy<Value = Record> {
    let numbers = (
        prop::collection::vec(prop_oneof![-5_i64..5, Just(i64::MAX), Just(i64::MIN)], 0..3),
        prop::collection::vec(prop_oneof![-9.0..9.0, Just(1e300), Just(-1e300), Just(0.1)], 0..3),
        prop::collection::vec(-400_i32..400, 0..3),
        prop::option::of(any::<bool>()),
    );
    let texts =
        (some(&["oak", "oaks box", "box", "umbrella"]), some(&STATIONS), some(&CATEGORIES), some(&MOMENTS));
    (0_i64..60, texts, numbers).prop_map(
        |(key, (titles, stations, categories, moments), (pence, weights, days, lent))| {
            let mut record = Record::new(key);
            for title in titles {
                record.add("title", title);
            }
            for station in stations {
                record.add("station", station);
            }
            for category in categories {
                record.add("category", category);
            }
            for moment in moments {
                record.add("seen_at", moment);
            }
            for pence in pence {
                record.add("pence", pence);
            }
            for weight in weights {
                record.add("weight", weight);
            }
            for day in days {
                record.add("found_on", Value::Date(day));
            }
            if let Some(lent) = lent {
                record.add("lent", lent);
            }
            record
        },
    )
}

struct Cellar {
    place: Memory,
    opened: Opened,
    live: BTreeMap<Key, Record>,
}

impl Cellar {
    fn of(batches: &[(Vec<Record>, Vec<i64>)], merging: Merging) -> Self {
        let mut cellar = Self { place: Memory::new(), opened: Opened::new(), live: BTreeMap::new() };
        for (puts, removed) in batches {
            let mut unit = cellar.place.unit();
            let mut batch = Batch::new(&mut unit, &cellar.opened, &schema()).unwrap();
            batch.set_merging(merging);
            batch.set_block(8);
            for record in puts {
                batch.put(record).unwrap();
                cellar.live.insert(record.key.clone(), record.clone());
            }
            for key in removed {
                batch.remove(&Key::from(*key)).unwrap();
                cellar.live.remove(&Key::from(*key));
            }
            batch.publish().unwrap();
            unit.commit().unwrap();
        }
        cellar
    }

    fn found(&self, query: &str, find: &Find) -> Found {
        let view = self.place.view();
        let snapshot = Snapshot::open(&view, &self.opened).unwrap();
        lenient::search(&view, &snapshot, &Query::read(query).query, find).unwrap()
    }

    /// The records that a search finds.
    fn all(&self, query: &str, find: &Find) -> Vec<&Record> {
        let found = self.found(query, &find.clone().limit(1_000));
        found.hits.iter().map(|hit| &self.live[&hit.key]).collect()
    }
}

/// What a value counts as, by name and in the order of its own; nothing of what is not counted.
type Named<'n> = &'n dyn Fn(&Value) -> Option<(u64, String)>;

/// A plain look at each record.
fn plain(
    records: &[&Record],
    column: &str,
    named: Named<'_>,
    (most, least, in_order): (usize, u64, bool),
) -> (Vec<(String, u64)>, u64, u64) {
    let things = |record: &Record| -> BTreeSet<(u64, String)> {
        record.values(column).iter().filter_map(named).collect()
    };
    let mut counts = BTreeMap::<(u64, String), u64>::new();
    for record in records {
        for thing in things(record) {
            *counts.entry(thing).or_default() += 1;
        }
    }
    let mut listed: Vec<_> = counts.into_iter().filter(|(_, records)| *records >= least).collect();
    if !in_order {
        listed.sort_by_key(|(_, records)| Reverse(*records));
    }
    listed.truncate(most);
    let is_listed = |thing: &(u64, String)| listed.iter().any(|(known, _)| known == thing);
    let others = records.iter().filter(|record| {
        let things = things(record);
        !things.is_empty() && !things.iter().any(is_listed)
    });
    let others = others.count() as u64;
    let missing = records.iter().filter(|record| record.values(column).is_empty()).count() as u64;
    (listed.into_iter().map(|((_, name), records)| (name, records)).collect(), others, missing)
}

/// What was counted, by the names that [`plain`] has.
fn told(counted: &Counted) -> (Vec<(String, u64)>, u64, u64) {
    let name = |value: &Option<Value>| value.as_ref().map_or_else(String::new, ToString::to_string);
    let listed = counted.values.iter().map(|one| {
        let name = if one.value.is_some() {
            name(&one.value)
        } else {
            format!("{}..{}", name(&one.from), name(&one.to))
        };
        (name, one.records)
    });
    (listed.collect(), counted.others, counted.missing)
}

/// The name of a thing that is ordered as text.
#[expect(clippy::unnecessary_wraps, reason = "other names may be none")]
fn text(value: &Value) -> Option<(u64, String)> {
    Some((0, value.to_string()))
}

/// What follows a path, up to the next slash.
fn level(path: &'static str) -> impl Fn(&Value) -> Option<(u64, String)> {
    move |value| {
        let rest = value.as_text()?.strip_prefix(path)?;
        Some((0, format!("{path}{}", rest.split('/').next()?)))
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 96, ..ProptestConfig::default() })]
    #[test]
    fn counts_are_those_of_a_look_at_each_record(
        batches in prop::collection::vec((prop::collection::vec(record(), 1..40), prop::collection::vec(0_i64..60, 0..9)), 1..4),
        query in prop::sample::select(&["-zzz", "oak", "box oaks", "-oak", "umbrella walnut"][..]),
        merging in prop::sample::select(&[Merging::Never, Merging::Whole][..]),
        (most, least, in_order) in (0_usize..5, 0_u64..4, any::<bool>()),
        filtered in any::<bool>(),
        strict in any::<bool>(),
        relaxed_below in 0_u64..12,
    ) {
        let cellar = Cellar::of(&batches, merging);
        // However long a page is, a lenient search does the same.
        let mut find = Find::new().limit(3).enough(1_000).relaxed_below(relaxed_below);
        if strict {
            find = find.strict();
        }
        let own = Filter::is_in("station", ["Tarn", "Elmfold"]);
        let rest = find.clone();
        if filtered {
            find = find.only(own);
        }
        let settle = |count: Count| {
            let count = count.most(most).least(least);
            if in_order { count.in_order() } else { count.most_first() }
        };
        let month = |value: &Value| Some((0, value.to_string().get(..7)?.to_owned()));
        let calendar = |value: &Value| if value.to_string().starts_with('-') { None } else { month(value) };
        let fair = |value: &Value| Some((u64::from(value.as_boolean()?), value.to_string()));
        let range = |value: &Value| {
            let place = [-2, 0, 4].iter().filter(|end| **end <= value.as_integer().unwrap()).count();
            Some((place as u64, ["..-2", "-2..0", "0..4", "4.."][place].to_owned()))
        };
        let (top, tools, hand) = (level(""), level("tools/"), level("tools/hand/"));
        let cases: Vec<(Count, &str, Named<'_>)> = vec![
            (Count::of("station"), "station", &text),
            (Count::of("station").without_own_filter(), "station", &text),
            (Count::of("lent"), "lent", &fair),
            (Count::levels("category", ""), "category", &top),
            (Count::levels("category", "tools").without_own_filter(), "category", &tools),
            (Count::levels("category", "/tools/hand/"), "category", &hand),
            (Count::ranges("pence", [-2_i64, 0, 4]), "pence", &range),
            (Count::periods("found_on", Period::Month), "found_on", &calendar),
            (Count::periods("seen_at", Period::Month), "seen_at", &month),
        ];
        let cases: Vec<_> = cases.into_iter().map(|(count, column, named)| (settle(count), column, named)).collect();
        let counting = cases.iter().fold(find.clone(), |find, (count, ..)| find.count(count.clone()));
        let found = cellar.found(query, &counting);
        prop_assert_eq!(found.counts.len(), cases.len());
        // Whatever is counted, what is found is the same.
        let mut uncounted = found.clone();
        uncounted.counts.clear();
        prop_assert_eq!(&uncounted, &cellar.found(query, &find));
        let records = cellar.all(query, &find);
        prop_assert_eq!(records.len() as u64, found.total);
        for ((count, column, named), counted) in cases.iter().zip(&found.counts) {
            let is_wide = filtered && count.to_string().contains("without own filter") && *column == "station";
            // A search that may be made looser decides by what its filter lets through.
            if is_wide && (!strict || relaxed_below > 0) {
                continue;
            }
            let wide = is_wide.then(|| cellar.all(query, &rest));
            let (listed, others, missing) = plain(wide.as_ref().unwrap_or(&records), column, named, (most, least, in_order));
            let (told_listed, told_others, told_missing) = told(counted);
            // Ranges that nothing has are listed where that is asked for.
            let told_listed: Vec<_> = told_listed.into_iter().filter(|(_, records)| *records > 0 || least > 0).collect();
            if least > 0 || *column != "pence" {
                prop_assert_eq!(told_listed, listed, "{}", count);
                prop_assert_eq!(told_others, others, "{}", count);
            }
            prop_assert_eq!(told_missing, missing, "{}", count);
        }
        // Whoever opens a level finds as many as it was told.
        let find_all = find.clone().strict().relaxed_below(0);
        for level in &cellar.found(query, &find_all.clone().count(Count::levels("category", "tools").most(99))).counts[0].values {
            let opened = find_all.clone().only(Filter::under("category", level.value.as_ref().unwrap().to_string()));
            prop_assert_eq!(cellar.found(query, &opened).total, level.records);
        }
        let read = Request::read(&serde_json::to_string(&counting.request(query)).unwrap()).unwrap();
        prop_assert_eq!(read.prepare(&schema()).unwrap().find, counting);
        let document = serde_json::to_string(&found).unwrap();
        prop_assert_eq!(serde_json::to_string(&serde_json::from_str::<Found>(&document).unwrap()).unwrap(), document);
    }

    #[test]
    fn statistics_are_those_of_all_values(records in prop::collection::vec(record(), 0..60), quantile in 0.0..=1.0_f64) {
        let cellar = Cellar::of(&[(records, Vec::new())], Merging::Never);
        let columns = ["pence", "weight", "found_on", "seen_at"];
        let counts = columns.iter().map(|name| Count::statistics(*name).with_quantiles([quantile, 0.0, 1.0]));
        let found = cellar.found("-zzz", &counts.fold(Find::new().limit(0), Find::count));
        for (name, counted) in columns.iter().zip(&found.counts) {
            let kind = schema().column(name).unwrap().kind();
            let distinct = |record: &Record| {
                let mut values: Vec<Value> = Vec::new();
                for value in record.values(name) {
                    let value = value.clone().into_kind(kind).unwrap();
                    if !values.contains(&value) {
                        values.push(value);
                    }
                }
                values
            };
            let mut values: Vec<Value> = cellar.live.values().flat_map(distinct).collect();
            let order = |value: &Value| match value {
                Value::Integer(number) | Value::Moment(number) => (i128::from(*number), 0.0),
                Value::Date(days) => (i128::from(*days), 0.0),
                other => (0, other.as_float().unwrap()),
            };
            values.sort_by(|a, b| order(a).partial_cmp(&order(b)).unwrap());
            let statistics = counted.statistics.as_ref().unwrap();
            prop_assert_eq!(statistics.count, values.len() as u64);
            prop_assert_eq!(&statistics.least, &values.first().cloned());
            prop_assert_eq!(&statistics.greatest, &values.last().cloned());
            match kind {
                Kind::Integer if !values.is_empty() => {
                    let sum: i128 = values.iter().map(|value| i128::from(value.as_integer().unwrap())).sum();
                    prop_assert_eq!(statistics.sum, Some(Sum::Integer(sum)));
                    prop_assert_eq!(statistics.mean, Some(sum as f64 / values.len() as f64));
                }
                Kind::Float if !values.is_empty() => prop_assert!(statistics.sum.is_some()),
                _ => prop_assert_eq!(statistics.sum, None),
            }
            for (part, value) in &statistics.quantiles {
                let not_above = |limit: &Value| values.iter().filter(|value| order(value) <= order(limit)).count() as f64;
                prop_assert!(not_above(value) >= part * values.len() as f64);
                let below = values.iter().filter(|other| order(other) < order(value)).count() as f64;
                prop_assert!(below == 0.0 || below < part * values.len() as f64, "the least such");
            }
            prop_assert_eq!(statistics.quantiles.len(), if values.is_empty() { 0 } else { 3 });
        }
    }
}

#[test]
fn periods_follow_summer_time() {
    let records: Vec<_> =
        (0..).zip(MOMENTS).map(|(key, moment)| Record::new(key).with("seen_at", moment)).collect();
    let cellar = Cellar::of(&[(records, Vec::new())], Merging::Never);
    let counted = |text: &str| {
        let found = cellar.found("-zzz", &Find::new().limit(0).count(text.parse().unwrap()));
        let shown = |value: &Option<Value>| value.as_ref().map_or_else(String::new, ToString::to_string);
        let shown = found.counts[0].values.iter().map(|one| {
            format!("{} {} {} {}", shown(&one.value), shown(&one.from), shown(&one.to), one.records)
        });
        shown.collect::<Vec<_>>()
    };
    assert_eq!(
        counted("seen_at by day in Europe/Lisbon"),
        [
            "1969-12-28 1969-12-27T23:00:00Z 1969-12-28T23:00:00Z 1",
            "2031-03-29 2031-03-29T00:00:00Z 2031-03-30T00:00:00Z 1",
            "2031-03-30 2031-03-30T00:00:00Z 2031-03-30T23:00:00Z 2",
            "2031-10-25 2031-10-24T23:00:00Z 2031-10-25T23:00:00Z 1",
            "2031-10-26 2031-10-25T23:00:00Z 2031-10-27T00:00:00Z 1",
            "2031-12-31 2031-12-31T00:00:00Z 2032-01-01T00:00:00Z 1",
            "2032-01-01 2032-01-01T00:00:00Z 2032-01-02T00:00:00Z 1",
        ]
    );
    assert_eq!(
        counted("seen_at by week")[..2],
        [
            "1969-W52 1969-12-22T00:00:00Z 1969-12-29T00:00:00Z 1",
            "2031-W13 2031-03-24T00:00:00Z 2031-03-31T00:00:00Z 3"
        ]
    );
    assert_eq!(
        counted("seen_at by quarter in 'America/St_Johns' by count most 2"),
        [
            "2031-Q1 2031-01-01T03:30:00Z 2031-04-01T02:30:00Z 3",
            "2031-Q4 2031-10-01T02:30:00Z 2032-01-01T03:30:00Z 4"
        ]
        .into_iter()
        .rev()
        .collect::<Vec<_>>()
    );
    assert_eq!(counted("seen_at by year").len(), 3);
}

#[test]
fn what_is_written_is_read_and_what_makes_no_sense_is_said() {
    for text in [
        "station",
        "station most 5",
        "station least 3 by value",
        "category under tools/hand",
        "category under ''",
        "category under 'tools/old hand'",
        "station without own filter",
        "pence statistics",
        "pence statistics at 0.1,0.9",
        "seen_at by month in Europe/Lisbon",
        "pence ranges 100,500,2000",
        "pence ranges -5,0",
        "found_on by month",
        "found_on by week most 3 by count",
        "\"a column\" most 2",
    ] {
        assert_eq!(text.parse::<Count>().unwrap().to_string(), text);
    }
    for (text, said) in [
        ("", "Here should be a column.\n  \n  ^"),
        ("station most", "Here should be how many values to list.\n  station most\n              ^"),
        (
            "station most many",
            "Here should be how many values to list.\n  station most many\n               ^^^^",
        ),
        (
            "found_on by fortnight",
            "Here should be `value`, `count`, `day`, `week`, `month`, `quarter` or `year`.\n  found_on by fortnight\n              ^^^^^^^^^",
        ),
        (
            "station without filter",
            "Here should be `own filter`.\n  station without filter\n                  ^^^^^^",
        ),
        (
            "pence statistics ranges 1",
            "What is counted is one of these; ask for each by itself.\n  pence statistics ranges 1\n                   ^^^^^^",
        ),
    ] {
        let error = text.parse::<Count>().unwrap_err();
        assert_eq!((error.kind(), error.to_string().as_str()), (ErrorKind::BadRequest, said), "{text}");
    }
    let cellar = Cellar::of(&[(vec![Record::new(1)], Vec::new())], Merging::Never);
    let view = cellar.place.view();
    let snapshot = Snapshot::open(&view, &cellar.opened).unwrap();
    for (text, said) in [
        ("title", "Column `title` is of kind \"text\" and its values can't be compared."),
        (
            "colour",
            "There is no column `colour`; values can be compared of station, category, lent, pence, weight, found_on, seen_at.",
        ),
        ("pence under a/b", "Column `pence` is of kind \"integer\", and only exact values have levels."),
        ("station by day", "Column `station` is of kind \"exact\", and only days and moments have periods."),
        (
            "found_on by day in Europe/Lisbon",
            "Column `found_on` is of kind \"date\", and a day is the same in all time zones.",
        ),
        (
            "seen_at by day in Atlantis",
            "There is no time zone `Atlantis`; an IANA name such as `Europe/Lisbon` is one.",
        ),
        ("pence ranges 5,5", "The ends of ranges have to ascend, and there has to be one."),
        ("pence ranges lots", "`lots` is not a whole number such as 42."),
        (
            "lent statistics",
            "Column `lent` is of kind \"boolean\", and only numbers, days and moments have statistics.",
        ),
        ("pence statistics most 3", "Statistics list no values, so there is no order and no number of them."),
        ("pence statistics at 1.5", "Quantiles are numbers from 0 to 1."),
    ] {
        let find = Find::new().count(text.parse().unwrap());
        let error = lenient::search(&view, &snapshot, &Query::read("oak").query, &find).unwrap_err();
        assert_eq!(error.to_string(), format!("In what is counted, `{text}`: {said}"));
        assert!(error.is_bad_request());
    }
    let many = (0..65).fold(Find::new(), |find, _| find.count(Count::of("station")));
    let error = lenient::search(&view, &snapshot, &Query::read("oak").query, &many).unwrap_err();
    assert_eq!(error.to_string(), "65 things are to be counted, and a search counts 64 at most.");
}
