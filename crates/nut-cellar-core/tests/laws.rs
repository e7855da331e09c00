//! The laws that every history of writes has to keep: what a search finds, in which order, and every bit of its scores
//! are those of a plain function over the records that are there.
#![allow(
    clippy::unwrap_used,
    clippy::cast_possible_truncation,
    clippy::cast_possible_wrap,
    clippy::cast_sign_loss,
    reason = "a test fails by panicking, and its numbers are small"
)]

#[path = "support/oracle.rs"]
mod oracle;

use nut_cellar_core::text::TextSettings;
use nut_cellar_core::{
    Batch, Column, Find, Found, Key, Kind, Language, Memory, Merging, Opened, Query, Record, Result, Schema,
    Search, Snapshot, View, Words, search,
};
use oracle::{OracleClause, OracleColumn, OracleSearch};
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::num::NonZero;

const WORDS: [&str; 11] =
    ["oak", "oaks", "elm", "Box", "boxes", "wi-fi", "BOX", "handle", "Häuser", "qu'elm", "caféS"];

fn schema() -> Schema {
    Schema::new("id")
        .with("title", Column::text("en").weighing(3.0))
        .with("notes", Column::text("none"))
        .with("tags", Column::read_as(several_languages()))
        .with("lang", Column::of(Kind::Exact))
}

/// English, or French where the record says so.
fn several_languages() -> TextSettings {
    TextSettings {
        languages: vec![Language::new("fr").unwrap()],
        language_from: Some("lang".into()),
        ..TextSettings::of(Language::new("en").unwrap())
    }
}

#[derive(Clone, Debug)]
enum Step {
    Put(Record),
    Remove(Key),
    Publish,
    Tidy(Merging),
    Drop,
}

fn keys() -> impl Strategy<Value = Key> {
    prop_oneof![
        (0_i64..12).prop_map(Key::from),
        "[a-c]".prop_map(Key::from),
        (0_u8..3).prop_map(|b| vec![b, 0].into())
    ]
}

fn text() -> impl Strategy<Value = String> {
    prop::collection::vec(prop::sample::select(&WORDS), 0..7).prop_map(|words| words.join(" "))
}

fn records() -> impl Strategy<Value = Record> {
    let language = prop::option::of(prop::sample::select(&["fr", "FR", "en", "fi"][..]));
    (keys(), text(), prop::option::of(text()), prop::collection::vec(text(), 0..3), language).prop_map(
        |(key, title, notes, tags, language)| {
            let mut record = Record::new(key).with("title", title);
            if let Some(notes) = notes {
                record.add("notes", notes);
            }
            for tag in tags {
                record.add("tags", tag);
            }
            if let Some(language) = language {
                record.add("lang", language);
            }
            record
        },
    )
}

fn histories() -> impl Strategy<Value = Vec<Step>> {
    let step = prop_oneof![
        8 => records().prop_map(Step::Put),
        3 => keys().prop_map(Step::Remove),
        2 => Just(Step::Publish),
        1 => prop::sample::select(&[Merging::Due, Merging::Whole, Merging::Never][..]).prop_map(Step::Tidy),
        1 => Just(Step::Drop),
    ];
    prop::collection::vec(step, 1..60)
}

#[derive(Clone, Debug)]
struct Asked {
    clauses: Vec<(Vec<&'static str>, Vec<usize>)>,
    searched: Vec<usize>,
    weights: [f32; 3],
    at_least: usize,
    k1: f32,
    b: f32,
    window: (usize, usize),
}

fn searches() -> impl Strategy<Value = Asked> {
    let columns = || prop::sample::subsequence(vec![0_usize, 1, 2], 1..=3);
    let clause =
        (prop::collection::vec(prop::sample::select(&WORDS), 1..4), prop_oneof![Just(vec![]), columns()]);
    let weight = prop_oneof![Just(0.0_f32), Just(1.0), 0.1_f32..9.0];
    (
        prop::collection::vec(clause, 1..4),
        columns(),
        prop::array::uniform3(weight),
        0_usize..4,
        prop_oneof![Just(0.0_f32), Just(1.2), 0.0_f32..3.0],
        prop_oneof![Just(0.0_f32), Just(1.0), Just(0.75)],
        (0_usize..3, 0_usize..20),
    )
        .prop_map(|(clauses, searched, weights, at_least, k1, b, window)| Asked {
            clauses,
            searched,
            weights,
            at_least,
            k1,
            b,
            window,
        })
}

const NAMES: [&str; 3] = ["title", "notes", "tags"];

impl Asked {
    fn query(&self) -> Query {
        Query::words(self.clauses.iter().map(|(words, columns)| {
            let part = if words.len() == 1 { Query::word(words[0]) } else { Query::phrase(words.join(" ")) };
            if columns.is_empty() { part } else { part.in_columns(columns.iter().map(|&c| NAMES[c])) }
        }))
    }

    fn find(&self) -> Find {
        let words = if self.at_least == 0 { Words::All } else { Words::AtLeast(self.at_least) };
        let find =
            Find::new().columns(self.searched.iter().map(|&c| NAMES[c])).words(words).k1(self.k1).b(self.b);
        let find = find.skip(self.window.0).limit(self.window.1);
        NAMES.iter().zip(self.weights).fold(find, |find, (name, weight)| find.weight(*name, weight))
    }

    fn oracle(&self) -> OracleSearch {
        let languages = ["en", "none", "en"];
        let others = [None, None, Some(("fr", "lang"))];
        let columns = (0..3).map(|c| OracleColumn {
            name: NAMES[c],
            language: languages[c],
            others: others[c],
            weight: self.weights[c],
        });
        let clauses = self.clauses.iter().map(|(words, columns)| OracleClause {
            text: words.join(" "),
            columns: if columns.is_empty() { self.searched.clone() } else { columns.clone() },
        });
        OracleSearch {
            columns: columns.collect(),
            clauses: clauses.collect(),
            at_least: self.at_least,
            k1: self.k1,
            b: self.b,
        }
    }
}

/// Plays a history on a place and on a plain map; `budget` is small where shelves should be many, `block` where blocks
/// should. With several `threads` puts that follow one another are one call.
fn play(
    steps: &[Step],
    (budget, block): (usize, u8),
    threads: NonZero<usize>,
) -> Result<(Memory, BTreeMap<Key, Record>)> {
    let place = Memory::new();
    let opened = Opened::new();
    let mut live = BTreeMap::new();
    for chunk in steps.split_inclusive(|step| matches!(step, Step::Publish | Step::Tidy(_) | Step::Drop)) {
        let mut unit = place.unit();
        let mut batch = Batch::new(&mut unit, &opened, &schema())?;
        batch.set_budget(budget);
        batch.set_block(block);
        batch.set_threads(threads)?;
        let mut next = live.clone();
        let mut together = Vec::new();
        for step in chunk {
            if !matches!(step, Step::Put(_)) {
                batch.put_all(together.drain(..))?;
            }
            match step {
                Step::Put(record) => {
                    if threads.get() > 1 {
                        together.push(record.clone());
                    } else {
                        batch.put(record)?;
                    }
                    next.insert(record.key.clone(), record.clone());
                }
                Step::Remove(key) => {
                    batch.remove(key)?;
                    next.remove(key);
                }
                Step::Tidy(merging) => batch.set_merging(*merging),
                Step::Publish | Step::Drop => {}
            }
        }
        batch.put_all(together)?;
        if !matches!(chunk.last(), Some(Step::Drop)) {
            let published = batch.publish()?;
            let gone = live.iter().filter(|(key, record)| {
                let replaced = chunk.iter().any(|step| matches!(step, Step::Put(put) if put.key == **key));
                next.get(key) != Some(record) || replaced
            });
            assert_eq!(published.removed, gone.count() as u64);
            unit.commit()?;
            live = next;
        }
    }
    Ok((place, live))
}

fn find(place: &Memory, query: &Query, find: &Find) -> Result<Found> {
    let view = place.view();
    let snapshot = Snapshot::open(&view, &Opened::new())?;
    search::run(&view, &mut Search::new(snapshot, query, find)?)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, ..ProptestConfig::default() })]

    #[test]
    fn every_history_finds_what_the_oracle_finds(
        steps in histories(),
        searches in prop::collection::vec(searches(), 1..6),
        budget in prop_oneof![Just(0_usize), Just(3_000), Just(usize::MAX)],
        block in prop_oneof![Just(4_u8), Just(1), Just(128)],
        threads in 1_usize..4,
    ) {
        let (place, live) = play(&steps, (budget, block), NonZero::new(threads).unwrap()).unwrap();
        prop_assume!(place.view().manifest().unwrap().is_some());
        Snapshot::open(&place.view(), &Opened::new()).unwrap().check(&place.view()).unwrap();
        for asked in searches {
            let found = find(&place, &asked.query(), &asked.find()).unwrap();
            let expected = oracle::search(&live, &asked.oracle());
            prop_assert_eq!(found.total, expected.len() as u64, "{}", asked.query());
            let (skip, limit) = asked.window;
            let expected: Vec<_> = expected.into_iter().skip(skip).take(limit).collect();
            prop_assert_eq!(found.hits.len(), expected.len());
            for ((place, hit), (key, score)) in (1..).zip(&found.hits).zip(expected) {
                prop_assert_eq!((&hit.key, hit.score.to_bits()), (&key, score.to_bits()), "{}", asked.query());
                prop_assert_eq!(hit.rank, skip + place);
                for (column, values) in live[&key].columns() {
                    let shown = hit.values.get(column).map_or(&[][..], Vec::as_slice);
                    prop_assert_eq!(shown, values);
                }
            }
        }
    }
}

/// Enough records for many blocks of keys, terms and values, and lengths that need more than a byte.
#[test]
fn a_large_index_of_several_shelves_agrees_with_the_oracle() {
    let word = |n: u64| format!("w{}", n.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 50);
    let records: BTreeMap<Key, Record> = (0..3_000_u64)
        .map(|n| {
            let long = if n % 500 == 0 { 400 } else { 5 };
            let title: Vec<_> = (0..long).map(|i| word(n * 31 + i * i % 97)).collect();
            let record = Record::new(n as i64 * 3).with("title", title.join(" ")).with("notes", word(n % 11));
            (record.key.clone(), record)
        })
        .collect();
    let place = Memory::new();
    let opened = Opened::new();
    // Three batches; the second and third replace a part of the ones before.
    for part in [0, 1, 2] {
        let mut unit = place.unit();
        let mut batch = Batch::new(&mut unit, &opened, &schema()).unwrap();
        batch.set_budget(400_000);
        for (n, record) in records.values().enumerate().filter(|(n, _)| n % 3 >= part || n % 7 == 0) {
            let stale = Record::new(record.key.clone()).with("title", format!("stale {}", word(n as u64)));
            batch.put(if n % 3 == part || part == 2 || n % 7 == 0 { record } else { &stale }).unwrap();
        }
        batch.publish().unwrap();
        unit.commit().unwrap();
    }
    let view = place.view();
    let snapshot = Snapshot::open(&view, &opened).unwrap();
    assert!(snapshot.shelves() > 3, "{} shelves", snapshot.shelves());
    assert_eq!(snapshot.records(), 3_000);
    assert!(snapshot.tally(&view).unwrap().terms > 1_000);
    for n in (0..3_000).step_by(37) {
        let clauses = vec![(vec!["none"], vec![])];
        let asked = Asked {
            clauses,
            searched: vec![0, 1, 2],
            weights: [4.0, 1.0, 1.0],
            at_least: 1,
            k1: 1.2,
            b: 0.75,
            window: (0, 50),
        };
        let text = word(n);
        let oracle = OracleSearch {
            clauses: vec![
                OracleClause { text: text.clone(), columns: vec![0, 1, 2] },
                OracleClause { text: word(n % 11), columns: vec![0, 1, 2] },
            ],
            ..asked.oracle()
        };
        let query = Query::words([Query::word(text), Query::word(word(n % 11))]);
        let found = find(&place, &query, &asked.find()).unwrap();
        let expected = oracle::search(&records, &oracle);
        assert_eq!(found.total, expected.len() as u64);
        let hits: Vec<_> = found.hits.iter().map(|hit| (hit.key.clone(), hit.score.to_bits())).collect();
        let expected: Vec<_> =
            expected.into_iter().take(50).map(|(key, score)| (key, score.to_bits())).collect();
        assert_eq!(hits, expected);
    }
}

/// Lists of thousands of postings in several shelves, a tenth of them removed, in blocks of 4 and of 128: every kind of
/// query, and what is skipped on the way changes nothing.
#[test]
fn long_lists_of_several_shelves_agree_with_the_oracle() {
    const RECORDS: i64 = 18_000;
    let record = |n: i64| {
        let mut title = vec![if n % 10 == 0 { "elm" } else { "oak" }];
        title.extend((n % 3 == 0).then_some("box"));
        title.extend((n % 97 == 0).then_some("handle"));
        title.extend(std::iter::repeat_n("oak", (n % 7 / 5) as usize));
        let notes = if n % 1_000 == 3 { "elm box" } else { "box" };
        Record::new(n).with("title", title.join(" ")).with("notes", notes)
    };
    for block in [4, 128] {
        let place = Memory::new();
        let opened = Opened::new();
        let mut live = BTreeMap::new();
        for part in 0..3 {
            let mut unit = place.unit();
            let mut batch = Batch::new(&mut unit, &opened, &schema()).unwrap();
            batch.set_block(block);
            batch.set_merging(Merging::Never);
            for n in (0..RECORDS).filter(|n| n % 3 == part || n % 11 == part) {
                batch.put(&record(n)).unwrap();
                live.insert(Key::from(n), record(n));
            }
            for n in (0..RECORDS).filter(|n| n % 3 < part && n % 10 == 7) {
                batch.remove(&n.into()).unwrap();
                live.remove(&Key::from(n));
            }
            batch.publish().unwrap();
            unit.commit().unwrap();
        }
        let view = place.view();
        let snapshot = Snapshot::open(&view, &opened).unwrap();
        assert_eq!((snapshot.shelves(), snapshot.records()), (3, live.len() as u64));
        snapshot.check(&view).unwrap();
        for (clauses, at_least) in [
            (vec![vec!["oak"]], 0),
            (vec![vec!["oak"], vec!["handle"]], 0),
            (vec![vec!["handle"], vec!["box"], vec!["oak"]], 0),
            (vec![vec!["elm"], vec!["handle"]], 1),
            (vec![vec!["oak", "box"]], 0),
            (vec![vec!["oak", "box"], vec!["handle"]], 0),
            (vec![vec!["elm", "box"], vec!["handle"], vec!["boxes"]], 2),
        ] {
            let asked = Asked {
                clauses: clauses.into_iter().map(|words| (words, vec![])).collect(),
                searched: vec![0, 1, 2],
                weights: [4.0, 1.0, 1.0],
                at_least,
                k1: 1.2,
                b: 0.75,
                window: (0, 30),
            };
            let found = find(&place, &asked.query(), &asked.find()).unwrap();
            let expected = oracle::search(&live, &asked.oracle());
            assert_eq!(found.total, expected.len() as u64, "{}", asked.query());
            let hits: Vec<_> = found.hits.iter().map(|hit| (hit.key.clone(), hit.score.to_bits())).collect();
            let expected: Vec<_> =
                expected.into_iter().take(30).map(|(key, score)| (key, score.to_bits())).collect();
            assert_eq!(hits, expected, "{}", asked.query());
        }
    }
}
