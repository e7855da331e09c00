//! Requests and answers as documents: what is said comes back as it was, whatever is said; and what is not known is refused.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use nut_cellar_core::filter::Test;
use nut_cellar_core::rank::Lengths;
use nut_cellar_core::request::Said;
use nut_cellar_core::search::{Beginnings, PagePlace};
use nut_cellar_core::{
    Batch, Column, ErrorKind, Expansions, Filter, Find, Found, Hit, Key, Kind, Marks, Memory, Note, Opened,
    Order, Query, Record, Request, Schema, Search, Snapshot, Spellings, Total, Value, Words, search,
};
use proptest::prelude::*;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use serde_json::{Value as Json, json};
use std::fmt::Debug;
use std::num::NonZero;
use std::sync::Arc;

fn schema() -> Schema {
    Schema::new("id")
        .with("title", Column::text("en").weighing(3.0))
        .with("notes", Column::text("none"))
        .with("station", Column::of(Kind::Exact))
        .with("value", Column::of(Kind::Integer))
        .with("weight", Column::of(Kind::Float))
        .with("claimed", Column::of(Kind::Boolean))
        .with("found_on", Column::of(Kind::Date))
        .with("seen_at", Column::of(Kind::Moment))
        .with("at", Column::of(Kind::Point))
}

/// What JSON makes of something, and what that is read as.
fn through_json<T: Serialize + DeserializeOwned + PartialEq + Debug>(value: &T) -> (String, T) {
    let text = serde_json::to_string(value).unwrap();
    let read: T = serde_json::from_str(&text).unwrap();
    assert_eq!(serde_json::to_string(&read).unwrap(), text, "the same JSON");
    (text, read)
}

fn keys() -> impl Strategy<Value = Key> {
    let part = || {
        prop_oneof![
            any::<i64>().prop_map(Key::Integer),
            "[a-f0-9é]{0,5}".prop_map(Key::Text),
            prop::collection::vec(any::<u8>(), 0..4).prop_map(Key::Bytes),
        ]
    };
    prop_oneof![3 => part(), 1 => prop::collection::vec(part(), 0..3).prop_map(Key::Several)]
}

/// b of some columns, and of the others.
fn lengths() -> impl Strategy<Value = Lengths> {
    let columns = prop::collection::vec((prop::sample::select(&["title", "notes"][..]), 0.0_f32..=1.0), 0..3);
    (prop::option::of(0.0_f32..=1.0), columns).prop_map(|(others, columns)| {
        let all = others.map_or_else(Lengths::default, Lengths::same);
        columns.into_iter().fold(all, |all, (name, b)| all.with(name, b))
    })
}

/// Values of a kind.
fn values(kind: Kind) -> BoxedStrategy<Value> {
    match kind {
        Kind::Integer => any::<i64>().prop_map(Value::Integer).boxed(),
        Kind::Float => (-1e9_f64..1e9).prop_map(Value::Float).boxed(),
        Kind::Boolean => any::<bool>().prop_map(Value::Boolean).boxed(),
        Kind::Date => (-200_000_i32..200_000).prop_map(Value::Date).boxed(),
        Kind::Moment => (-1i64 << 50..1 << 50).prop_map(Value::Moment).boxed(),
        Kind::Point => {
            (-90.0_f64..=90.0, -180.0_f64..=180.0).prop_map(|(lat, lon)| Value::Point { lat, lon }).boxed()
        }
        _ => "[a-z0-9 :é]{0,8}".prop_map(Value::Text).boxed(),
    }
}

fn columns() -> impl Strategy<Value = Vec<(String, Vec<Value>)>> {
    let schema = schema();
    let each: Vec<_> = schema
        .columns()
        .map(|(name, column)| {
            let name = name.to_owned();
            prop::collection::vec(values(column.kind()), 0..3).prop_map(move |values| (name.clone(), values))
        })
        .collect();
    each
}

fn filters() -> impl Strategy<Value = Filter> {
    // Read without a schema, days and moments are texts.
    let value = || {
        prop_oneof![values(Kind::Text), values(Kind::Integer), values(Kind::Float), values(Kind::Boolean),]
    };
    let tests = prop_oneof![
        value().prop_map(Test::Equal),
        prop::collection::vec(value(), 0..3).prop_map(Test::In),
        value().prop_map(Test::Below),
        value().prop_map(Test::AtMost),
        value().prop_map(Test::Above),
        value().prop_map(Test::AtLeast),
        (value(), value()).prop_map(|(low, high)| Test::Between(low, high)),
        value().prop_map(Test::Under),
        Just(Test::Absent),
    ];
    let leaf = ("[a-z]{1,4}", tests).prop_map(|(column, test)| Filter::Column(column, test));
    leaf.prop_recursive(3, 12, 3, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..3).prop_map(Filter::All),
            prop::collection::vec(inner.clone(), 0..3).prop_map(Filter::Any),
            inner.prop_map(Filter::not),
        ]
    })
}

fn queries() -> impl Strategy<Value = Query> {
    let leaf = prop_oneof![
        "[a-z]{1,4}".prop_map(Query::word),
        "[a-z]{1,3} [a-z]{1,3}".prop_map(Query::phrase),
        ("[a-z]{1,3} [a-z]{1,3}", 0_u32..9).prop_map(|(words, near)| Query::window(words, near)),
        "[a-z]{1,3}\\*".prop_map(Query::pattern),
        "[a-z]{1,4}".prop_map(Query::near),
    ];
    leaf.prop_recursive(3, 12, 3, |inner| {
        let list = || prop::collection::vec(inner.clone(), 0..3);
        prop_oneof![
            list().prop_map(Query::Words),
            list().prop_map(Query::All),
            list().prop_map(Query::Any),
            inner.clone().prop_map(|part| Query::Without(Box::new(part))),
            inner.clone().prop_map(Query::needed),
            inner.clone().prop_map(|part| part.in_columns(["title"])),
        ]
    })
}

fn orders() -> impl Strategy<Value = Order> {
    prop_oneof![
        Just(Order::Score),
        Just(Order::Key),
        ("[a-z:]{1,5}", any::<bool>()).prop_map(|(name, down)| Order::Column { name, down }),
        Just(Order::Column { name: "score".to_owned(), down: false }),
    ]
}

prop_compose! {
    fn finds()(
        columns in prop::option::of(prop::collection::vec("[a-z]{1,4}", 0..3)),
        weights in prop::collection::vec(("[a-z]{1,4}", 0.0_f32..9.0), 0..3),
        words in prop_oneof![
            Just(Words::All), Just(Words::Any), (1_usize..9).prop_map(Words::AtLeast), (0.0_f32..=1.0).prop_map(Words::Share),
        ],
        relaxed in 0_u64..20,
        spellings in prop_oneof![
            Just(Spellings::AsTyped), (0_u64..20).prop_map(Spellings::WhenFewerThan), Just(Spellings::Near),
        ],
        (letters, beginnings, values, exact, expansions) in (0_usize..4, beginnings(), any::<(bool, bool)>(), any::<bool>(), any::<bool>()),
        filter in prop::option::of(filters()),
        order in orders(),
        total in prop_oneof![Just(Total::Exact), any::<u64>().prop_map(Total::AtLeast)],
        (limit, skip, threads) in (0_usize..30, 0_usize..30, 1_usize..5),
        after in prop::option::of((any::<f32>().prop_filter("a number", |score| !score.is_nan()), keys())),
        (k1, lengths, proximity) in (0.0_f32..3.0, lengths(), 0.0_f32..9.0),
        most in (prop::option::of(any::<u64>()), prop::option::of(any::<u64>())),
        (strict, enough) in (any::<bool>(), prop::option::of(any::<u64>())),
    ) -> Find {
        let mut find = Find::new()
            .words(words).relaxed_below(relaxed).spellings(spellings).first_letters_right(letters)
            .order(order).total(total).limit(limit).skip(skip).k1(k1).lengths(lengths).proximity(proximity)
            .threads(NonZero::new(threads).unwrap());
        for (column, weight) in weights { find = find.weight(column, weight); }
        if let Some(columns) = columns { find = find.columns(columns); }
        find = find.beginnings(beginnings);
        if strict { find = find.strict(); }
        if let Some(enough) = enough { find = find.enough(enough); }
        if !values.0 { find = find.without_values(); }
        if values.1 { find = find.with_marks(); }
        if exact { find = find.exact_forms(); }
        if expansions { find = find.expanding(&Arc::new(Expansions::read("brolly = umbrella", &schema()).unwrap())); }
        if let Some(filter) = filter { find = find.only(filter); }
        if let Some((score, key)) = after { find = find.after(PagePlace { value: None, score, key, lenient: None }); }
        if let Some(terms) = most.0 { find = find.most_terms(terms); }
        if let Some(postings) = most.1 { find = find.most_postings(postings); }
        find
    }
}

fn beginnings() -> impl Strategy<Value = Beginnings> {
    prop_oneof![Just(Beginnings::None), Just(Beginnings::Last), Just(Beginnings::All)]
}

proptest! {
    /// A search becomes a request, the request becomes JSON, and all of that comes back.
    #[test]
    fn a_search_comes_back_from_its_request(find in finds(), query in queries()) {
        let request = find.request(query.clone());
        let (json, read) = through_json(&request);
        prop_assert_eq!(&read, &request, "{}", json);
        let prepared = Request::read(&json).unwrap().prepare(&schema()).unwrap();
        prop_assert_eq!(prepared.find, find);
        prop_assert_eq!(prepared.query, query);
    }

    #[test]
    fn what_is_asked_and_answered_comes_back_from_json(
        key in keys(), columns in columns(), filter in filters(), query in queries(), order in orders(), score in -9.0_f32..9.0,
    ) {
        prop_assert_eq!(through_json(&key).1, key.clone());
        prop_assert_eq!(through_json(&filter).1, filter);
        prop_assert_eq!(through_json(&query).1, query);
        prop_assert_eq!(through_json(&order).1, order);
        let mut record = Record::new(key.clone());
        for (name, values) in &columns {
            for value in values {
                record.add(name.as_str(), value.clone());
            }
        }
        // Kinds that JSON does not have come back where the schema says so.
        prop_assert_eq!(through_json(&record).1.in_kinds_of(&schema()).unwrap(), record);
        let hit = json!({ "rank": 3, "key": key, "score": score, "values": {} });
        let mut hit: Hit = serde_json::from_value(hit).unwrap();
        hit.values = columns.into_iter().collect();
        let mut found = Found::default();
        found.total = 7;
        found.more = true;
        found.notes = vec![Note::OnlyExcludes, Note::FewerWords { words: 3, needed: 2 }];
        found.last = Some(PagePlace { value: None, score, key, lenient: None });
        found.hits = vec![hit];
        let (text, read) = through_json(&found);
        let json: Json = serde_json::from_str(&text).unwrap();
        prop_assert_eq!(&json["notes"][1], "Few have all 3 words, so those with 2 of them count too.");
        prop_assert_eq!(&json["noted"][1], &json!({ "note": "fewer_words", "words": 3, "needed": 2 }));
        prop_assert_eq!(read.in_kinds_of(&schema()).unwrap(), found);
    }
}

/// All that a request may say; `docs/request.md` explains each.
#[test]
fn every_setting_can_be_said_and_is_explained() {
    let text = r#"{
        "version": 1, "query": "walnut", "exacting": true, "strict": true, "enough": 3, "columns": ["title"], "weights": {"title": 4.0}, "words": "60%",
        "relax": 3, "near": "few", "first_letters": 1, "beginnings": "last", "where": "value > 5", "sort": "found_on:down",
        "marks": true, "total": {"at_least": 100}, "limit": 5, "skip": 2, "after": "0000c03f001080000000000000070000", "k1": 1.0, "b": 0.5,
        "proximity": 2.0, "values": false, "exact_forms": true, "expansions": "brolly = umbrella", "most_terms": 1000,
        "most_postings": 1000, "threads": 2}"#;
    let place = PagePlace { value: None, score: 1.5, key: Key::from(7), lenient: None };
    let text = text.replace("0000c03f001080000000000000070000", &place.to_string());
    let request = Request::read(&text).unwrap();
    let json = serde_json::to_value(&request).unwrap();
    let names = |json: &Json| json.as_object().unwrap().keys().cloned().collect::<Vec<_>>();
    let (said, mut all) = (names(&json), names(&serde_json::from_str(&text).unwrap()));
    all.sort();
    let mut sorted = said.clone();
    sorted.sort();
    assert_eq!(sorted, all, "nothing that was said is as if it had not been, and nothing else can be");
    let manual = include_str!("../../../docs/request.md");
    for name in &said {
        assert!(manual.contains(&format!("| `{name}` |")), "docs/request.md says nothing of `{name}`");
    }
    // Where nothing is said it is as it is without a request.
    let prepared = Request::read("{}").unwrap().prepare(&schema()).unwrap();
    assert_eq!((prepared.query, prepared.find), (Query::Words(Vec::new()), Find::new()));
}

#[test]
fn what_is_not_known_is_refused_with_its_place() {
    let cases = [
        (r#"{"query": "oak", "colour": "red"}"#, "unknown field `colour`"),
        (r#"{"query": {"wrod": "oak"}}"#, "a text, or a tree"),
        (r#"{"query": "oak", "words": "some"}"#, "`some` can't be used"),
        (r#"{"query": "oak", "words": {"share": 0.5, "of": 3}}"#, "60%"),
        (r#"{"query": "oak", "near": "sometimes"}"#, "`never`, `few` or `always`"),
        (r#"{"query": "oak", "sort": "value:left"}"#, "`:up` or `:down`"),
        (r#"{"query": "oak", "sort": {"by": "chance"}}"#, "a column such as"),
        (r#"{"query": "oak", "where": {"column": ["value", {"near": 5}]}}"#, "a text, or a tree"),
        (r#"{"query": "oak", "total": "about"}"#, "unknown variant `about`"),
        (r#"{"query": "oak", "after": "xyz"}"#, "no place in an order"),
        (r#"{"query": "oak", "limit": -1}"#, "line 1 column 28"),
        (r#"{"query": "oak""#, "line 1 column 15"),
        (r#"["oak"]"#, "A request is a JSON object"),
        (r#"{"query": "oak", "b": "much"}"#, "for each column"),
        (r#"{"version": 2, "query": "oak"}"#, "The request is of version 2, and this program knows 1"),
    ];
    for (text, says) in cases {
        let error = Request::read(text).unwrap_err();
        assert!(error.is_bad_request() && error.to_string().contains(says), "{text}: {error}");
    }
    for (text, says) in [
        (r#"{"query": "oak", "where": "colour = 'red'"}"#, "There is no column `colour`"),
        (r#"{"query": "oak (elm", "exacting": true}"#, "A bracket is not closed"),
        (r#"{"query": "oak", "expansions": "specs ->"}"#, "line 1: `specs ->`"),
    ] {
        let error = Request::read(text).unwrap().prepare(&schema()).unwrap_err();
        assert!(error.is_bad_request() && error.to_string().contains(says), "{text}: {error}");
    }
    let notes = Request::new("oak \"elm").prepare(&schema()).unwrap().notes;
    assert!(matches!(notes.as_slice(), [Note::Misread { start: 4, .. }]), "{notes:?}");
    // So are parts of answers.
    let hit = r#"{"rank": 1, "key": 7, "score": 1.0, "values": {}, "colour": "red"}"#;
    assert!(serde_json::from_str::<Hit>(hit).unwrap_err().to_string().contains("unknown field `colour`"));
    let found = r#"{"version": 3, "total": 0, "more": false, "notes": [], "noted": [], "hits": []}"#;
    assert!(serde_json::from_str::<Found>(found).unwrap_err().to_string().contains("version 3"));
    for key in ["[[1]]", r#"{"bytes": "0"}"#, r#"{"digits": "00"}"#, "1.5", "18446744073709551615"] {
        assert!(serde_json::from_str::<Key>(key).is_err(), "{key}");
    }
    for value in [r#"{"lat": 1}"#, r#"{"lat": 1, "lon": 2, "up": 3}"#, r#"{"lat": 91, "lon": 2}"#, "null"] {
        assert!(serde_json::from_str::<Value>(value).is_err(), "{value}");
    }
}

/// So many records with the word `oak`, and days from the first of April on.
fn oaks(records: i64) -> (Memory, Opened) {
    let (place, opened) = (Memory::new(), Opened::new());
    let mut unit = place.unit();
    let mut batch = Batch::new(&mut unit, &opened, &schema()).unwrap();
    for id in 0..records {
        let day = Value::Date(22_371 + i32::try_from(id % 5).unwrap());
        batch
            .put(
                &Record::new(id)
                    .with("title", "oak ".repeat(if id % 3 == 0 { 1 } else { 2 }))
                    .with("found_on", day),
            )
            .unwrap();
    }
    batch.publish().unwrap();
    unit.commit().unwrap();
    (place, opened)
}

#[test]
fn whether_there_is_another_page_is_said_on_every_page() {
    let (place, opened) = oaks(23);
    let find = |find: &Find| {
        let snapshot = Snapshot::open(&place.view(), &opened).unwrap();
        search::run(&place.view(), &mut Search::new(snapshot, &Query::word("oak"), find).unwrap()).unwrap()
    };
    let by_day = Order::Column { name: "found_on".to_owned(), down: true };
    for order in [Order::Score, Order::Key, by_day] {
        for total in [Total::Exact, Total::AtLeast(0), Total::AtLeast(5), Total::AtLeast(1_000)] {
            for limit in [1, 4, 5, 22, 23, 24] {
                let page = Find::new().order(order.clone()).total(total).limit(limit);
                let (mut seen, mut next) = (Vec::new(), page.clone());
                loop {
                    let found = find(&next);
                    seen.extend(found.hits.iter().map(|hit| hit.key.clone()));
                    assert_eq!(found.more, seen.len() < 23, "{page:?}, {} seen", seen.len());
                    assert_eq!(find(&page.clone().skip(seen.len() - found.hits.len())).more, found.more);
                    match found.last {
                        Some(last) if found.more => next = page.clone().after(last),
                        _ => break,
                    }
                }
                seen.sort();
                seen.dedup();
                assert_eq!(seen.len(), 23);
            }
        }
    }
    assert!(!find(&Find::new().skip(23)).more && find(&Find::new().limit(0)).more);
}

#[derive(Debug, PartialEq, Serialize, Deserialize)]
struct Item {
    id: i64,
    title: String,
    notes: Vec<String>,
    station: Option<Station>,
    value: Option<u32>,
    weight: f32,
    claimed: bool,
    found_on: String,
    at: Option<Point>,
}

#[derive(Debug, PartialEq, Serialize, Deserialize)]
enum Station {
    Elmfold,
    Ferrow,
}

#[derive(Debug, PartialEq, Serialize, Deserialize)]
struct Point {
    lat: f64,
    lon: f64,
}

#[derive(Deserialize)]
struct Keyed {
    key: i64,
    score: f64,
    rank: u8,
}

#[derive(Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
struct Shown {
    #[serde(rename = "key")]
    id: i64,
    title: (String,),
    station: Option<Station>,
    at: Option<Point>,
}

#[derive(Debug, Deserialize)]
struct Wrong {
    #[serde(rename = "title")]
    _title: u8,
}

#[test]
fn records_are_made_of_structs_and_hits_become_structs() {
    let item = |id, station, at| Item {
        id,
        title: "Walnut box".to_owned(),
        notes: vec!["two hinges".to_owned()],
        station,
        value: Some(450),
        weight: 0.5,
        claimed: true,
        found_on: "2031-04-17".to_owned(),
        at,
    };
    for item in [item(7, Some(Station::Ferrow), Some(Point { lat: 52.5, lon: -0.25 })), item(8, None, None)] {
        let record = Record::of(&item, &schema()).unwrap();
        assert_eq!(record.key, Key::from(item.id));
        assert_eq!(record.values("found_on"), [Value::read(Kind::Date, "2031-04-17").unwrap()]);
        let values: serde_json::Map<_, _> =
            record.columns().map(|(name, values)| (name.to_owned(), json!(values))).collect();
        let hit = json!({ "rank": 1, "key": item.id, "score": 1.25, "values": values });
        let found =
            json!({ "version": 1, "total": 1, "more": false, "notes": [], "noted": [], "hits": [hit] });
        let found: Found = serde_json::from_value(found).unwrap();
        let hit = found.in_kinds_of(&schema()).unwrap().hits.remove(0);
        assert_eq!(
            (hit.text("title"), hit.integer("value"), hit.float("value")),
            (Some("Walnut box"), Some(450), Some(450.0))
        );
        assert_eq!((hit.boolean("claimed"), hit.shown("found_on").as_str()), (Some(true), "2031-04-17"));
        assert_eq!(
            (hit.text("value"), hit.integer("nothing"), hit.shown("nothing").as_str()),
            (None, None, "")
        );
        assert_eq!(hit.date("found_on").map(|day| (day.year(), day.month(), day.day())), Some((2031, 4, 17)));
        assert_eq!(hit.point("at"), item.at.as_ref().map(|at| (at.lat, at.lon)));

        let keyed: Keyed = hit.read().unwrap();
        assert_eq!((keyed.key, keyed.score, keyed.rank), (item.id, 1.25, 1));

        let shown: Shown = hit.read().unwrap();
        assert_eq!(
            (shown.id, &shown.title.0, &shown.station, &shown.at),
            (item.id, &item.title, &item.station, &item.at)
        );

        let error = hit.read::<Wrong>().unwrap_err();
        assert_eq!(error.kind(), ErrorKind::BadRecord);
        assert!(error.to_string().contains("invalid type: string \"Walnut box\", expected u8"), "{error}");
    }
    let error = Record::of(&json!({ "title": "no key" }), &schema()).unwrap_err();
    assert_eq!(error.to_string(), "the key `id` is not there; every record needs one.");
    let error = Record::of(&json!({ "id": 1, "found_on": "soon" }), &schema()).unwrap_err();
    assert!(error.to_string().starts_with("column `found_on`: `soon` is not a date"), "{error}");
    assert!(Record::of(&7, &schema()).unwrap_err().to_string().contains("named fields"));
}

#[test]
fn a_request_asks_for_a_text_or_a_tree() {
    let tree = Query::words([Query::word("walnut"), Query::phrase("two hinges").in_columns(["notes"])]);
    for query in [Said::from("walnut notes:\"two hinges\""), tree.clone().into()] {
        assert_eq!(Request::new(query).prepare(&schema()).unwrap().query, tree);
    }
    let mut request = Request::new("walnut");
    let filter = Filter::at_least("value", 5).and(Filter::equal("station", "Elmfold"));
    for said in [Said::from("value >= 5 and station = 'Elmfold'"), filter.clone().into()] {
        request.filter = Some(said);
        // Numbers in a text are texts until the column says what they are.
        let found = request.prepare(&schema()).unwrap().find;
        assert_eq!(found.filter().unwrap().to_string(), filter.to_string());
    }
}

/// Records with these titles and notes.
fn with_texts(texts: &[(&str, &[&str])]) -> (Memory, Opened) {
    let (place, opened) = (Memory::new(), Opened::new());
    let mut unit = place.unit();
    let mut batch = Batch::new(&mut unit, &opened, &schema()).unwrap();
    for (id, (title, notes)) in (1_i64..).zip(texts) {
        let mut record = Record::new(id).with("title", *title).with("station", "walnut");
        notes.iter().for_each(|note| record.add("notes", *note));
        batch.put(&record).unwrap();
    }
    batch.publish().unwrap();
    unit.commit().unwrap();
    (place, opened)
}

/// Marks are of what was found, whatever the words stood for in the end.
#[test]
fn marks_are_of_what_was_found() {
    let (place, opened) = with_texts(&[
        ("Two walnut boxes & a <box>", &["an oak box", "no match", "box, box"]),
        ("Black umbrella", &["brass handle"]),
        ("", &[]),
    ]);
    let brolly = Arc::new(Expansions::read("brolly = umbrella", &schema()).unwrap());
    let marked = |query: &str, find: &Find| {
        let snapshot = Snapshot::open(&place.view(), &opened).unwrap();
        let query = Query::read(query).query;
        let mut search = Search::new(snapshot, &query, &find.clone().with_marks()).unwrap();
        let found = search::run(&place.view(), &mut search).unwrap();
        assert_eq!(through_json(&found).1, found);
        let first = found.hits.into_iter().next().unwrap();
        (first.marked("title", &Marks::new("[", "]")), first)
    };
    let any = Find::new().words(Words::Any);
    for (query, find, title) in [
        ("walnut box", Find::new(), "Two [walnut] [boxes] & a <[box]>"),
        ("wallnut", Find::new().spellings(Spellings::WhenFewerThan(1)), "Two [walnut] boxes & a <box>"),
        ("walnut handle submarine", Find::new().relaxed_below(1), "Two [walnut] boxes & a <box>"),
        ("brolly", Find::new().expanding(&brolly), "Black [umbrella]"),
        ("umbr", Find::new().with_beginnings(), "Black [umbrella]"),
        ("\"walnut box\"", Find::new(), "Two [walnut] [boxes] & a <box>"),
        ("notes:handle umbrella", any.clone(), "Black [umbrella]"),
        // Both words are too common to score where no posting may be gone through; they are found all the same.
        ("black umbrella", any.most_postings(0), "[Black] [umbrella]"),
    ] {
        assert_eq!(marked(query, &find).0, title, "{query}");
    }
    let (_, hit) = marked("box", &Find::new());
    let json = serde_json::to_value(&hit).unwrap();
    assert_eq!(
        json["marks"],
        json!({ "title": [[11, 16], [22, 25]], "notes": [[[7, 10]], [], [[0, 3], [5, 8]]] })
    );
    assert_eq!(hit.marked("notes", &Marks::new("[", "]")), "an oak [box]");
    let html = Marks::new("<b>", "</b>").escaping_html();
    assert_eq!(hit.marked("title", &html), "Two walnut <b>boxes</b> &amp; a &lt;<b>box</b>&gt;");
    assert_eq!(hit.excerpt("title", 14, &html), "…<b>boxes</b> &amp; a…");
    assert_eq!(
        (hit.marked("station", &html), hit.marked("nothing", &html)),
        ("walnut".to_owned(), String::new())
    );
    // Ranges that are none of a text, as when it was changed since, are left out.
    let marks = Marks::new("[", "]");
    assert_eq!(marks.mark("één box", &[0..1, 0..2, 1..4, 4..5, 6..99, 6..9]), "[é]é[n] [box]");
}
