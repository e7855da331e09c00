//! First words of a column that is searched, too, have no positions of their own. What is found is what is found where they have.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

#[path = "support/ways.rs"]
mod ways;

use nut_cellar_core::{
    Batch, Column, ErrorKind, Find, Key, Memory, Merging, Opened, Query, Record, Schema, Search, Snapshot,
    Words, search,
};
use proptest::prelude::*;
use std::num::NonZero;
use ways::WAYS;

/// The columns of a schema and their languages; what they are filled from, and the first words of which they have.
type Columns = &'static [(&'static str, &'static str, &'static str, Option<u16>)];

/// With a kind for each set of columns and without; before the whole and behind it; several of one, and of several.
const SCHEMAS: [Columns; 4] = [
    &[("notes", "en", "notes", None), ("start", "en", "notes", Some(3))],
    &[
        ("start", "none", "notes", Some(2)),
        ("title", "none", "title", None),
        ("notes", "none", "notes", None),
    ],
    &[
        ("first", "en", "notes", Some(1)),
        ("title", "en", "title", None),
        ("notes", "en", "notes", None),
        ("start", "en", "notes", Some(5)),
    ],
    &[
        ("notes", "en", "notes", None),
        ("tags", "none", "tags", None),
        ("head", "en", "title", Some(2)),
        ("start", "en", "notes", Some(4)),
        ("title", "en", "title", None),
    ],
];

const WORDS: [&str; 9] = ["oak", "oaks", "box", "boxes", "boxing", "wi-fi", "café", "qu'elm", "駅の傘"];

const QUERIES: [&str; 12] = [
    "oak",
    "oak boxes",
    "start:oaks",
    "start:(oak box)",
    "\"oak box\"",
    "start:\"box oak\"",
    "start:\"boxes boxes\" notes:cafe",
    "box*",
    "~bxo",
    "wi-fi",
    "-start:oak box",
    "notes:oak OR start:cafe",
];

/// The schema; where `apart`, first words are read by themselves, as nobody knows that they are those of another column.
fn schema(columns: Columns, gap: u16, apart: bool) -> Schema {
    let with = |schema: Schema, (name, language, from, words): &(&str, &str, &str, Option<u16>)| {
        let column = Column::text(language).with_gap(gap).weighing(1.5);
        let column = match words {
            None => column,
            Some(words) => {
                let from = if apart { format!("{from} apart") } else { (*from).to_owned() };
                column.from_columns([from]).with_gap(gap).of_first_words(NonZero::new(*words).unwrap())
            }
        };
        schema.with(*name, column)
    };
    columns.iter().fold(Schema::new("id"), with)
}

/// The values of each text, by the columns that they are from.
type Texts = Vec<Vec<String>>;

fn texts() -> impl Strategy<Value = Texts> {
    let text = prop::collection::vec(prop::sample::select(&WORDS), 0..7).prop_map(|words| words.join(" "));
    prop::collection::vec(prop::collection::vec(text, 0..4), 3)
}

fn record(columns: Columns, key: i64, texts: &Texts, with_beginnings: bool) -> Record {
    let mut record = Record::new(key);
    for (name, _, from, words) in columns {
        let place = ["notes", "title", "tags"].iter().position(|known| known == from).unwrap();
        if words.is_none() || with_beginnings {
            texts[place].iter().for_each(|text| record.add(*name, text.clone()));
        }
    }
    record
}

struct Cellar {
    place: Memory,
    opened: Opened,
}

impl Cellar {
    fn write(&self, schema: &Schema, puts: &[Record], removed: &[Key], merging: Merging) {
        let mut unit = self.place.unit();
        let mut batch = Batch::new(&mut unit, &self.opened, schema).unwrap();
        batch.set_merging(merging);
        batch.set_block(8);
        for record in puts {
            batch.put(record).unwrap();
        }
        for key in removed {
            batch.remove(key).unwrap();
        }
        batch.publish().unwrap();
        unit.commit().unwrap();
    }

    fn snapshot(&self) -> Snapshot {
        Snapshot::open(&self.place.view(), &self.opened).unwrap()
    }

    fn found(&self, query: &str, find: &Find) -> (Vec<(Key, u32)>, u64) {
        let mut search = Search::new(self.snapshot(), &Query::read(query).query, find).unwrap();
        let found = search::run(&self.place.view(), &mut search).unwrap();
        (found.hits.iter().map(|hit| (hit.key.clone(), hit.score.to_bits())).collect(), found.total)
    }

    fn bytes_of_positions(&self) -> u64 {
        let sizes = self.snapshot().sizes();
        sizes.into_iter().find(|(section, _)| section == "positions").unwrap().1
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, ..ProptestConfig::default() })]
    #[test]
    fn first_words_are_found_as_if_they_stood_apart(
        columns in prop::sample::select(&SCHEMAS[..]),
        gap in 0_u16..4,
        batches in prop::collection::vec(
            (prop::collection::vec((0_i64..60, texts(), any::<bool>()), 1..40), prop::collection::vec(0_i64..60, 0..6)),
            1..4,
        ),
    ) {
        let cellars = [false, true].map(|_| Cellar { place: Memory::new(), opened: Opened::new() });
        for merging in [Merging::Never, Merging::Whole] {
            for (apart, cellar) in [false, true].into_iter().zip(&cellars) {
                for (puts, removed) in batches.iter().filter(|_| merging == Merging::Never) {
                    let record = |(key, texts, brings): &(i64, Texts, bool)| record(columns, *key, texts, *brings || apart);
                    let puts: Vec<_> = puts.iter().map(record).collect();
                    let removed: Vec<_> = removed.iter().copied().map(Key::from).collect();
                    cellar.write(&schema(columns, gap, apart), &puts, &removed, merging);
                }
                if merging == Merging::Whole {
                    cellar.write(&schema(columns, gap, apart), &[], &[], merging);
                }
                cellar.snapshot().check(&cellar.place.view()).unwrap();
            }
            for query in QUERIES.iter().filter(|query| !query.contains("start") || columns.iter().any(|column| column.0 == "start")) {
                for (words, limit) in [(Words::All, 5), (Words::Any, 1_000)] {
                    let find = Find::new().words(words).limit(limit);
                    let expected = cellars[1].found(query, &find);
                    for way in WAYS {
                        let find = way.map_or_else(|| find.clone(), |way| find.clone().strategy(way));
                        prop_assert_eq!(&cellars[0].found(query, &find), &expected, "{}, {:?}", query, way);
                    }
                    let find = find.columns(["start"]).exact_forms();
                    prop_assert_eq!(cellars[0].found(query, &find), cellars[1].found(query, &find), "{}", query);
                }
            }
        }
    }
}

#[test]
fn first_words_that_are_others_than_those_of_the_whole_are_refused() {
    let schema = schema(SCHEMAS[0], 16, false);
    let place = Memory::new();
    let mut unit = place.unit();
    let opened = Opened::new();
    let mut batch = Batch::new(&mut unit, &opened, &schema).unwrap();
    let error = batch.put(&Record::new(7).with("notes", "oak box").with("start", "elm")).unwrap_err();
    assert_eq!(error.kind(), ErrorKind::BadRecord);
    assert_eq!(
        error.to_string(),
        "record 7: Column `start` has the first words of `notes`, and other values than that; leave it out, or give it a \
         `from` of its own."
    );
    batch.put(&Record::new(7).with("notes", "oak box").with("start", "oak box")).unwrap();
}

#[test]
fn first_words_have_no_positions() {
    let [both, alone]: [Columns; 2] = [SCHEMAS[0], &SCHEMAS[0][..1]];
    let text =
        |key: i64| vec![vec![format!("oak boxes {} oak {key}", WORDS[usize::try_from(key).unwrap() % 9])]; 3];
    let bytes = [both, alone].map(|columns| {
        let cellar = Cellar { place: Memory::new(), opened: Opened::new() };
        let puts: Vec<_> = (0..500).map(|key| record(columns, key, &text(key), true)).collect();
        cellar.write(&schema(columns, 16, false), &puts, &[], Merging::Whole);
        assert_eq!(cellar.found("oak", &Find::new()).1, 500);
        cellar.bytes_of_positions()
    });
    assert_eq!(bytes[0], bytes[1]);
}
