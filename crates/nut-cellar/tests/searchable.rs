//! What the macro writes: the schema is the one that would be written by hand, and what goes into a cellar comes back.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use nut_cellar::searchable::{KeyValue, SingleValue};
use nut_cellar::text::{Accents, Forms, Reading, StopWords, TextSettings};
use nut_cellar::{
    Cellar, Column, ErrorKind, Find, Hit, Key, Kind, Language, Packing, Record, Schema, Searchable, Value,
    Words,
};
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::num::NonZero;

#[derive(Clone, Debug, PartialEq, Searchable)]
struct Number(i64);

#[derive(Clone, Debug, PartialEq, Searchable)]
struct Title(String);

/// Something handed in at a lost-property office.
#[derive(Clone, Debug, PartialEq, Searchable)]
#[searchable(table = "items", language = "en")]
struct Item {
    #[searchable(key)]
    number: Number,
    #[searchable(weight = 4)]
    title: Title,
    notes: Option<String>,
    #[searchable(language = "none", gap = 0)]
    marks: Vec<String>,
    #[searchable(kind = "exact", name = "station")]
    found_at: Box<str>,
    value_pence: Option<u32>,
    grams: f64,
    claimed: bool,
    #[searchable(language = "en", written = ["day.month.year"])]
    found_on: jiff::civil::Date,
    seen: Vec<jiff::Timestamp>,
    at: Option<(f64, f64)>,
    #[searchable(kept = false)]
    letters: String,
    #[searchable(indexed = false)]
    label: String,
    #[searchable(skip)]
    shelf: Option<u8>,
}

/// What a cellar of these finds.
fn found<T: Searchable>(items: impl IntoIterator<Item = T>, query: &str) -> Vec<Hit> {
    let cellar = Cellar::in_memory(T::schema()).unwrap();
    cellar.publish(|batch| items.into_iter().try_for_each(|item| batch.put(&item.into_record()?))).unwrap();
    cellar.find(query, &Find::new().words(Words::Any).limit(1_000)).unwrap().hits
}

#[test]
fn the_schema_is_the_one_that_would_be_written_by_hand() {
    let expected = Schema::new("number")
        .with("title", Column::text("en").weighing(4.0))
        .with("notes", Column::text("en"))
        .with("marks", Column::text("none").with_gap(0))
        .with("station", Column::of(Kind::Exact))
        .with("value_pence", Column::of(Kind::Integer))
        .with("grams", Column::of(Kind::Float))
        .with("claimed", Column::of(Kind::Boolean))
        .with("found_on", Column::of(Kind::Date).in_words("en").written(["day.month.year"]))
        .with("seen", Column::of(Kind::Moment))
        .with("at", Column::of(Kind::Point))
        .with("letters", Column::text("en").not_kept())
        .with("label", Column::of(Kind::Text).not_indexed())
        .from_table("items");
    assert_eq!(Item::schema(), expected);
    expected.check().unwrap();
}

#[derive(Searchable)]
#[searchable(packing = "quick")]
struct Everything {
    #[searchable(key)]
    depot: String,
    #[searchable(key, name = "no")]
    number: u16,
    #[searchable(
        language = "de", languages = ["en", "fr"], language_from = "spoken", detect = 80, detector = "mine", reading = "web", symbols = true, tokeniser = "mine",
        elide = false, fold = true, accents = "keep", steps = ["mine"], compounds = ["mine"], stem = false, stemmer = "none", forms = "same",
        stop = ["the"], from = ["title", "subtitle"], gap = 3, first_words = 12, weight = 0.5
    )]
    r#type: String,
    #[searchable(stop = true, from = "stations.name", kept = true)]
    station: String,
    #[searchable(kind = "exact")]
    spoken: String,
}

/// Every name that a schema has for a column, but for the kind, is said of one column here.
#[test]
fn all_that_a_schema_says_of_a_column_can_be_said() {
    let settings = TextSettings {
        language: Language::new("de").ok(),
        languages: ["en", "fr"].map(|code| Language::new(code).unwrap()).into(),
        language_from: Some("spoken".into()),
        detect: Some(80),
        detector: Some("mine".into()),
        reading: Some(Reading::Web),
        symbols: true,
        tokeniser: Some("mine".into()),
        elide: Some(false),
        fold: Some(true),
        accents: Some(Accents::Keep),
        steps: vec!["mine".into()],
        compounds: vec!["mine".into()],
        stem: Some(false),
        stemmer: Some("none".into()),
        forms: Some(Forms::Same),
        stop: Some(StopWords::Words(vec!["the".into()])),
        // The other one is said of days.
        written: Vec::new(),
        // What a kept schema says beside them.
        edition: None,
        versions: BTreeMap::new(),
    };
    let station = TextSettings { stop: Some(StopWords::OfLanguage(true)), ..TextSettings::default() };
    let expected = Schema::new("depot")
        .with_key("no")
        .with(
            "type",
            Column::read_as(settings)
                .from_columns(["title", "subtitle"])
                .with_gap(3)
                .of_first_words(NonZero::new(12).unwrap())
                .weighing(0.5),
        )
        .with("station", Column::read_as(station).from_columns(["stations.name"]))
        .with("spoken", Column::of(Kind::Exact))
        .packed(Packing::Quick);
    assert_eq!(Everything::schema(), expected);
}

#[test]
fn a_key_may_have_several_fields_and_what_does_not_fit_is_said_with_its_column() {
    #[derive(Debug, PartialEq, Searchable)]
    struct Shelved {
        #[searchable(key)]
        depot: String,
        #[searchable(key)]
        number: u64,
        title: String,
        pence: u64,
    }
    let shelved =
        |number, pence| Shelved { depot: "Elmfold".into(), number, title: "Walnut box".into(), pence };
    let record = shelved(9, 5).into_record().unwrap();
    assert_eq!(record.key, Key::from_iter(["Elmfold".into(), 9.into()]));
    let hit = found([shelved(9, 5)], "walnut").remove(0);
    assert_eq!(Shelved::from_hit(hit.clone()).unwrap(), shelved(9, 5));

    let says = |error: nut_cellar::Error| {
        assert_eq!(error.kind(), ErrorKind::BadRecord);
        error.to_string()
    };
    let too_much = says(shelved(9, u64::MAX).into_record().unwrap_err());
    assert_eq!(
        too_much,
        format!("column `pence`: `{}` is not a whole number of 64 bits with a sign.", u64::MAX)
    );
    assert!(says(shelved(u64::MAX, 1).into_record().unwrap_err()).starts_with("key `number`: "));
    let back = |change: fn(&mut Hit)| {
        let mut hit = hit.clone();
        change(&mut hit);
        says(Shelved::from_hit(hit).unwrap_err())
    };
    assert_eq!(back(|hit| hit.key = 7.into()), "the key: `7` is not a key of 2 parts.");
    assert_eq!(
        back(|hit| drop(hit.values.shift_remove("title"))),
        "column `title`: It needs one value and has none; take an `Option`, or ask for values."
    );
    assert_eq!(
        back(|hit| hit.values["title"].push("b".into())),
        "column `title`: It needs one value and has several; take a `Vec`."
    );
    assert_eq!(
        back(|hit| hit.values["pence"] = vec![Value::Integer(-1)]),
        "column `pence`: `-1` is not a number of type u64."
    );
}

/// What becomes of a type in a column and back.
fn through_a_column<T: SingleValue + Clone + PartialEq + std::fmt::Debug>(value: &T) {
    let kept = value.clone().into_value().unwrap();
    assert_eq!(kept.clone().into_kind(T::KIND).unwrap(), kept, "it is of its kind");
    assert_eq!(&T::from_value(kept).unwrap(), value);
}

fn through_a_key<T: KeyValue + Clone + PartialEq + std::fmt::Debug>(value: &T) {
    assert_eq!(&T::from_key(value.clone().into_key().unwrap()).unwrap(), value);
}

fn items() -> impl Strategy<Value = Item> {
    let text = || "(elm|oak|walnut box|Äpfel|, ){1,6}";
    let day = || (-100_000_i32..100_000).prop_map(|days| Value::Date(days).as_date().unwrap());
    let moment =
        (-1_i64 << 50..1 << 50).prop_map(|micros| jiff::Timestamp::from_microsecond(micros).unwrap());
    let at = prop::option::of((-90.0..=90.0, -180.0..=180.0));
    let texts = (text(), prop::option::of(text()), prop::collection::vec(text(), 0..3), text());
    let numbers = (any::<i64>(), prop::option::of(any::<u32>()), -1e9..1e9, any::<bool>());
    (texts, numbers, day(), prop::collection::vec(moment, 0..3), at).prop_map(
        |((title, notes, marks, station), (number, value_pence, grams, claimed), found_on, seen, at)| Item {
            number: Number(number),
            title: Title(format!("lost {title}")),
            notes,
            marks,
            found_at: station.into(),
            value_pence,
            grams,
            claimed,
            found_on,
            seen,
            at,
            letters: String::new(),
            label: format!("lost {number}"),
            shelf: None,
        },
    )
}

proptest! {
    #[test]
    fn what_goes_in_comes_back(items in prop::collection::vec(items(), 1..5)) {
        let mut expected: Vec<Item> = Vec::new();
        for item in &items {
            expected.retain(|before| before.number != item.number);
            expected.push(item.clone());
        }
        let hits = found(items, "lost");
        let mut back: Vec<Item> = hits.into_iter().map(|hit| Item::from_hit(hit).unwrap()).collect();
        back.sort_by_key(|item| item.number.0);
        expected.sort_by_key(|item| item.number.0);
        prop_assert_eq!(back, expected);
    }

    #[test]
    fn days_and_moments_of_other_crates_are_the_same_ones(days in -200_000_i32..200_000, micros in -1_i64 << 50..1 << 50) {
        let day = Value::Date(days).to_string();
        let (year, month, date) = (&day[..day.len() - 6], &day[day.len() - 5..day.len() - 3], &day[day.len() - 2..]);
        let (year, month, date) = (year.parse().unwrap(), month.parse::<u8>().unwrap(), date.parse().unwrap());
        let of_time = time::Date::from_calendar_date(year, month.try_into().unwrap(), date).unwrap();
        let of_chrono = chrono::NaiveDate::from_ymd_opt(year, month.into(), date.into()).unwrap();
        prop_assert_eq!(of_time.into_value().unwrap(), Value::Date(days));
        prop_assert_eq!(of_chrono.into_value().unwrap(), Value::Date(days));
        through_a_column(&of_time);
        through_a_column(&of_chrono);
        let of_time = time::OffsetDateTime::from_unix_timestamp_nanos(i128::from(micros) * 1_000).unwrap();
        let of_chrono = chrono::DateTime::from_timestamp_micros(micros).unwrap();
        prop_assert_eq!(of_time.into_value().unwrap(), Value::Moment(micros));
        prop_assert_eq!(of_chrono.into_value().unwrap(), Value::Moment(micros));
        through_a_column(&of_time);
        through_a_column(&of_chrono);
    }
}

#[test]
fn types_that_are_values_or_name_records_are_what_they_were() {
    through_a_column(&Title("elm".into()));
    through_a_column(&u8::MAX);
    through_a_column(&1.5_f32);
    through_a_key(&Number(-7));
    through_a_key(&Title("QLR-0042".into()));
    through_a_key(&vec![0_u8, 255]);
    through_a_key(&[0_u8, 1, 2, 3]);
    through_a_key(&Key::from_iter(["Elmfold".into(), 9.into()]));
    assert!(<[u8; 4]>::from_key(vec![1_u8].into()).unwrap_err().to_string().contains("4 bytes"));
    assert!(i8::from_key(400.into()).is_err() && i8::from_value(Value::Integer(400)).is_err());
    assert!(
        String::from_value(Value::Integer(4)).is_err()
            && chrono::NaiveDate::from_value(Value::Date(i32::MAX)).is_err()
    );
}

/// Texts are moved into the record and out of the hit.
#[test]
fn texts_are_not_copied() {
    #[derive(Searchable)]
    struct Note {
        #[searchable(key)]
        id: i64,
        text: String,
        more: Vec<String>,
    }
    let note = Note { id: 1, text: "walnut".into(), more: vec!["brass".into()] };
    let places = [note.text.as_ptr(), note.more[0].as_ptr()];
    let record = note.into_record().unwrap();
    let text = |column: &str| record.values(column)[0].as_text().unwrap().as_ptr();
    assert_eq!([text("text"), text("more")], places);

    let hit = found([Note { id: 1, text: "walnut".into(), more: vec!["brass".into()] }], "walnut").remove(0);
    let places = ["text", "more"].map(|column| hit.text(column).unwrap().as_ptr());
    let note = Note::from_hit(hit).unwrap();
    assert_eq!(([note.text.as_ptr(), note.more[0].as_ptr()], note.id), (places, 1));
}

/// Whoever gives the library again says where it is, and types may have parameters.
mod given_again {
    pub use nut_cellar as search;

    #[derive(search::Searchable)]
    #[searchable(crate = "crate::given_again::search")]
    pub struct Held<'a, T: search::searchable::Values>
    where
        T: Default,
    {
        #[searchable(key)]
        pub id: i64,
        pub what: T,
        #[searchable(skip)]
        pub by: Option<&'a str>,
    }
}

#[test]
fn the_library_may_be_elsewhere() {
    use given_again::Held;
    let schema = Schema::new("id").with("what", Column::of(Kind::Text));
    assert_eq!(Held::<Vec<String>>::schema(), schema);
    let held = Held { id: 3, what: Some("oak".to_owned()), by: Some("Ada") };
    assert_eq!(held.by, Some("Ada"));
    assert_eq!(held.into_record().unwrap(), Record::new(3).with("what", "oak"));
}
