//! Forms that have a list together: the cases in which a word of one class is easily taken for another, each against the slow and
//! obvious way to search, in one shelf, in several, and merged.
#![allow(
    clippy::unwrap_used,
    clippy::cast_possible_truncation,
    clippy::cast_possible_wrap,
    clippy::cast_sign_loss,
    reason = "a test fails by panicking, and its numbers are small"
)]

#[path = "support/oracle.rs"]
mod oracle;
#[path = "support/ways.rs"]
mod ways;

use nut_cellar_core::text::{Pattern, TextSettings};
use nut_cellar_core::{
    Batch, Column, Find, Key, Kind, Language, Memory, Merging, Opened, Query, Record, Schema, Search,
    Snapshot, Words, search,
};
use oracle::{OWN, OracleColumn, OracleSearch};
use std::collections::BTreeMap;
use std::num::NonZero;
use ways::WAYS;

/// Ten forms of one class, of which the last are rare, and two words with forms of their own.
const FORMS: [&str; 10] = [
    "relate",
    "related",
    "relates",
    "relating",
    "relation",
    "relations",
    "relational",
    "relative",
    "relatives",
    "relatively",
];
const OTHERS: [&str; 8] = ["box", "boxes", "café", "cafe", "cafés", "oak", "umbrellas", "handle"];

/// The searched columns: names and languages; `notes<3` stands for the first three words of the column `notes`.
type Columns = &'static [(&'static str, &'static str)];

/// One stemming; several; more columns than shapes have kinds for; a language for each record; a stemmer of the program's; first words.
const SCHEMAS: [Columns; 6] = [
    &[("title", "en"), ("notes", "en"), ("tags", "en")],
    &[("title", "en"), ("notes", "none"), ("tags", OWN)],
    &[("title", "en"), ("notes", "en"), ("tags", "none"), ("more", "en"), ("last", "fr")],
    &[("title", "en"), ("notes", "en+fr"), ("tags", "fr")],
    &[("tags", "notes<3"), ("title", "en"), ("notes", "en")],
    &[("title", "en"), ("first", "notes<1"), ("notes", "en+fr"), ("tags", "none"), ("start", "notes<2")],
];

/// The column that a column is the beginning of, and of how many words it is.
fn whole(language: &'static str) -> Option<(&'static str, u16)> {
    language.split_once('<').map(|(whole, words)| (whole, words.parse().unwrap()))
}

/// The language of a column, which may be that of its whole.
fn language(columns: Columns, language: &'static str) -> &'static str {
    let whole = whole(language).and_then(|(whole, _)| columns.iter().find(|(name, _)| *name == whole));
    whole.map_or(language, |(_, language)| language)
}

fn settings(language: &'static str) -> TextSettings {
    match language.split_once('+') {
        None => oracle::reading(language),
        Some((first, other)) => TextSettings {
            languages: vec![Language::new(other).unwrap()],
            language_from: Some("lang".into()),
            ..TextSettings::of(Language::new(first).unwrap())
        },
    }
}

fn schema(columns: Columns) -> Schema {
    let with = |schema: Schema, (name, said): &(&str, &'static str)| {
        let column = Column::read_as(settings(language(columns, said)));
        schema.with(
            *name,
            match whole(said) {
                None => column,
                Some((whole, words)) => {
                    column.from_columns([whole]).of_first_words(NonZero::new(words).unwrap())
                }
            },
        )
    };
    columns.iter().fold(Schema::new("id"), with).with("lang", Column::of(Kind::Exact))
}

fn roll(number: u64, salt: u64, below: u64) -> u64 {
    let mixed = (number * 31 + salt).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    ((mixed ^ mixed >> 29).wrapping_mul(0xbf58_476d_1ce4_e5b9) >> 33) % below
}

/// The text of a column of a record: early forms are common, late ones rare.
fn text(number: u64, column: u64) -> String {
    let pick = |salt: u64, below: u64| roll(number, column * 101 + salt, below);
    let mut words = Vec::new();
    for salt in 0..pick(0, 4) {
        let form = (pick(salt + 10, 10) * pick(salt + 20, 10)) / 9;
        words.push(FORMS[usize::try_from(form).unwrap()]);
    }
    for salt in 0..pick(1, 3) {
        words.push(OTHERS[usize::try_from(pick(salt + 30, 8)).unwrap()]);
    }
    words.join(" ")
}

fn record(columns: Columns, number: u64, round: u64) -> Record {
    let mut record = Record::new(i64::try_from(number).unwrap());
    for (place, (name, language)) in (0..).zip(columns) {
        if whole(language).is_none() {
            record.add(*name, text(number + round * 1_000, place));
        }
    }
    if number.is_multiple_of(3) {
        record.add("lang", "fr");
    }
    record
}

/// A cellar whose shelves have different forms of their classes, of which some have only removed records.
struct Histories {
    place: Memory,
    opened: Opened,
    live: BTreeMap<Key, Record>,
}

impl Histories {
    fn new(columns: Columns) -> Self {
        let mut all = Self { place: Memory::new(), opened: Opened::new(), live: BTreeMap::new() };
        for round in 0..4_u64 {
            let put = (0..120).filter(|number| roll(*number, round, 4) <= round % 2);
            let puts: Vec<_> = put.map(|number| record(columns, number + round % 2 * 60, round)).collect();
            // Records with four forms in three columns, and with what only they have, which goes again.
            let own = columns.iter().filter(|(_, language)| whole(language).is_none()).map(|(name, _)| *name);
            let texts =
                ["relatively relation walnut", "relations relate relations walnuts", "relation relating"];
            let rare = Record::new(500 + i64::try_from(round).unwrap());
            let rare = own.zip(texts).fold(rare, |rare, (name, text)| rare.with(name, text));
            let removed: Vec<Key> = (0..200_u64)
                .filter(|number| roll(*number, round + 9, 7) == 0)
                .map(|number| Key::from(i64::try_from(number).unwrap()))
                .chain((round > 1).then(|| Key::from(498 + i64::try_from(round).unwrap())))
                .collect();
            all.write(columns, puts.into_iter().chain([rare]), &removed, Merging::Never);
        }
        assert!(all.snapshot().shelves() > 2);
        all
    }

    fn write(
        &mut self,
        columns: Columns,
        puts: impl Iterator<Item = Record>,
        removed: &[Key],
        merging: Merging,
    ) {
        let mut unit = self.place.unit();
        let mut batch = Batch::new(&mut unit, &self.opened, &schema(columns)).unwrap();
        batch.set_merging(merging);
        batch.set_block(5);
        for (place, given) in puts.enumerate() {
            let mut record = given.clone();
            for (name, language) in columns {
                for value in whole(language).iter().flat_map(|(whole, _)| given.values(whole)) {
                    record.add(*name, value.clone());
                }
            }
            // First words are brought, too, or left out.
            batch.put(if place % 2 == 0 { &given } else { &record }).unwrap();
            self.live.insert(record.key.clone(), record);
        }
        for key in removed {
            batch.remove(key).unwrap();
            self.live.remove(key);
        }
        batch.publish().unwrap();
        unit.commit().unwrap();
    }

    fn snapshot(&self) -> Snapshot {
        Snapshot::open(&self.place.view(), &self.opened).unwrap()
    }

    fn found(&self, query: &Query, find: &Find) -> (Vec<(String, u32)>, u64) {
        let mut search = Search::new(self.snapshot(), query, find).unwrap();
        let found = search::run(&self.place.view(), &mut search).unwrap();
        let hits = found.hits.iter().map(|hit| (hit.key.to_string(), hit.score.to_bits()));
        (hits.collect(), found.total)
    }
}

/// A class as a whole, typed in a common form and in a rare one; twice; with others; a pattern and a near spelling of rare forms; phrases.
const QUERIES: [&str; 16] = [
    "relation",
    "relatively",
    "relatives relatives",
    "relating box",
    "relate cafe umbrella",
    "relativ*",
    "*ly",
    "r*s",
    "~relativly",
    "~boxs",
    "\"relation box\"",
    "\"relations relate\"",
    "title:relation notes:boxes",
    "notes:related",
    "tags:handle relation",
    "walnut",
];

fn agrees(cellar: &Histories, columns: Columns) {
    let of = |(name, said): &(&'static str, &'static str)| {
        let language = language(columns, said);
        let most = whole(said).map_or(u32::MAX, |(_, words)| words.into());
        let (language, other) =
            language.split_once('+').map_or((language, None), |(one, other)| (one, Some(other)));
        let others = other.map(|other| (other, "lang"));
        OracleColumn { name, language, others, weight: 1.0, gap: 16, most }
    };
    let read: Vec<_> = columns.iter().map(of).collect();
    for typed in QUERIES {
        let query = Query::read(typed).query;
        for words in [Words::All, Words::Any] {
            let asked = OracleSearch::plain(read.clone(), query.clone(), words);
            let expected = oracle::search(&cellar.live, &asked);
            for way in WAYS {
                for limit in [7, 1_000] {
                    let find = Find::new().words(words).strict().limit(limit);
                    let find = way.map_or_else(|| find.clone(), |way| find.clone().strategy(way));
                    let (hits, total) = cellar.found(&query, &find);
                    let short = expected.iter().map(|hit| (hit.key.to_string(), hit.score.to_bits()));
                    let short: Vec<_> = short.take(limit).collect();
                    assert_eq!(hits, short, "{typed}, {words:?}, {way:?}, {columns:?}");
                    assert_eq!(total, expected.len() as u64, "{typed}");
                }
            }
        }
    }
}

#[test]
fn a_class_finds_what_a_look_at_each_record_finds() {
    for columns in SCHEMAS {
        let mut cellar = Histories::new(columns);
        agrees(&cellar, columns);
        cellar.write(columns, std::iter::empty(), &[Key::from(500)], Merging::Whole);
        assert_eq!(cellar.snapshot().shelves(), 1);
        cellar.snapshot().check(&cellar.place.view()).unwrap();
        agrees(&cellar, columns);
    }
}

/// Only the form that was typed, alone and in phrases; how many records have each; and a form whose last record goes.
#[test]
fn a_form_by_itself_is_told_from_the_others() {
    for columns in SCHEMAS {
        let mut cellar = Histories::new(columns);
        for merged in [false, true] {
            if merged {
                cellar.write(columns, std::iter::empty(), &[], Merging::Whole);
            }
            // Of columns that tell forms apart, a word is a word whatever its language here.
            let told: Vec<_> = columns
                .iter()
                .filter(|(_, said)| language(columns, said) != OWN)
                .map(|(name, _)| *name)
                .collect();
            let texts = |record: &Record| -> Vec<String> {
                told.iter().flat_map(|name| record.values(name)).map(ToString::to_string).collect()
            };
            let having = |has: &dyn Fn(&str) -> bool| {
                cellar.live.values().filter(|record| texts(record).iter().any(|text| has(text))).count()
                    as u64
            };
            for form in FORMS.iter().chain(&["box", "boxes", "umbrellas", "walnuts"]) {
                let exact = Find::new().strict().exact_forms().columns(told.iter().copied()).limit(0);
                let is_there = |text: &str| text.split(' ').any(|word| word == *form);
                assert_eq!(cellar.found(&Query::word(*form), &exact).1, having(&is_there), "{form}");
                let row = format!("{form} box");
                let in_row = |text: &str| {
                    text == row
                        || text.starts_with(&format!("{row} "))
                        || text.contains(&format!(" {row} "))
                        || text.ends_with(&format!(" {row}"))
                };
                assert_eq!(cellar.found(&Query::phrase(&row), &exact).1, having(&in_row), "{row}");
            }
            let listed =
                cellar.snapshot().terms(&cellar.place.view(), &Pattern::new("rela*").unwrap(), 100).unwrap();
            let everywhere = |form: &str| {
                let has = |record: &&Record| {
                    let mut words =
                        columns.iter().flat_map(|(name, _)| record.values(name)).map(ToString::to_string);
                    words.any(|text| text.split(' ').any(|word| word == form))
                };
                cellar.live.values().filter(has).count() as u64
            };
            let counts: Vec<_> = listed.terms.iter().map(|one| (one.term.as_str(), one.records)).collect();
            let mut right: Vec<_> = FORMS.iter().map(|form| (*form, everywhere(form))).collect();
            right.retain(|(_, records)| *records > 0);
            right.sort_unstable();
            assert_eq!(counts, right);
        }
        // The last records with these forms go: nothing is left of them, merged or not.
        let of_walnuts: Vec<Key> = (500..504).map(Key::from).collect();
        for merging in [Merging::Never, Merging::Whole] {
            cellar.write(columns, std::iter::empty(), &of_walnuts, merging);
            let terms =
                cellar.snapshot().terms(&cellar.place.view(), &Pattern::new("walnut*").unwrap(), 9).unwrap();
            assert_eq!(terms.terms, []);
            assert_eq!(cellar.found(&Query::word("walnut"), &Find::new().strict()).1, 0);
        }
    }
}
