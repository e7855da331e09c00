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

use bytes::Bytes;
use nut_cellar_core::rank::Lengths;
use nut_cellar_core::search::{
    Beginnings, Order, PagePlace, Reason, Reckoning, Spellings, Strategy as Way, Total, Why,
};
use nut_cellar_core::store::{Near, Wanted};
use nut_cellar_core::text::TextSettings;
use nut_cellar_core::{
    Batch, Column, Filter, Find, Found, Key, Kind, Language, Manifest, Memory, Merging, Opened, PieceId,
    Query, Record, Result, Schema, Search, Snapshot, Value, View, Words, search,
};
use oracle::{OracleColumn, OracleHit, OracleSearch, comes_after};
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::num::NonZero;
use std::ops::Range;
use std::sync::{Arc, Mutex};

const WORDS: [&str; 17] = [
    "oak",
    "oaks",
    "elm",
    "Box",
    "boxes",
    "wi-fi",
    "BOX",
    "handle",
    "Häuser",
    "qu'elm",
    "caféS",
    "handel",
    "umbrellas",
    "umbrelals",
    "Boxhandle",
    "1,000",
    "elm's",
];

const VALUES: [(&str, Kind); 6] = [
    ("lang", Kind::Exact),
    ("value", Kind::Integer),
    ("share", Kind::Float),
    ("found_on", Kind::Date),
    ("seen", Kind::Moment),
    ("claimed", Kind::Boolean),
];

fn schema() -> Schema {
    let schema = Schema::new("id")
        .with("title", Column::text("en").weighing(3.0))
        .with(
            "notes",
            Column::read_as(oracle::reading(oracle::OWN)).of_first_words(NonZero::new(20).unwrap()),
        )
        .with("tags", Column::read_as(several_languages()).with_gap(0));
    VALUES.iter().fold(schema, |schema, (name, kind)| schema.with(*name, Column::of(*kind)))
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

/// A value of a kind, as text.
fn value(kind: Kind) -> BoxedStrategy<String> {
    match kind {
        Kind::Exact => {
            prop::sample::select(&["fr", "FR", "en", "fi", "", "fr ance"][..]).prop_map(str::to_owned).boxed()
        }
        Kind::Integer => {
            prop_oneof![-3_i64..4, Just(i64::MAX), Just(i64::MIN)].prop_map(|n| n.to_string()).boxed()
        }
        Kind::Float => {
            prop::sample::select(&["-1.5", "0", "-0", "2.25", "1e300"][..]).prop_map(str::to_owned).boxed()
        }
        Kind::Boolean => any::<bool>().prop_map(|b| b.to_string()).boxed(),
        Kind::Date => (2030..2033, 1..4, 1..4).prop_map(|(y, m, d)| format!("{y}-{m:02}-{d:02}")).boxed(),
        _ => (2030..2032, 1..3, 1..3, 0..24)
            .prop_map(|(y, m, d, h)| format!("{y}-{m:02}-{d:02}T{h:02}:00:00Z"))
            .boxed(),
    }
}

/// What values of a kind are compared with, as text.
fn wanted(kind: Kind) -> BoxedStrategy<String> {
    let year = || (2029..2034).prop_map(|y: i32| y.to_string());
    let month = || (2030..2033, 1..5).prop_map(|(y, m)| format!("{y}-{m:02}"));
    match kind {
        Kind::Date => prop_oneof![year(), month(), value(Kind::Date)].boxed(),
        Kind::Moment => prop_oneof![year(), month(), value(Kind::Date), value(Kind::Moment)].boxed(),
        kind => value(kind),
    }
}

fn values_of((name, kind): (&'static str, Kind)) -> impl Strategy<Value = Vec<(&'static str, Value)>> {
    let most = if name == "lang" { 2 } else { 3 };
    prop::collection::vec(value(kind), 0..most)
        .prop_map(move |all| all.iter().map(|text| (name, Value::read(kind, text).unwrap())).collect())
}

fn records() -> impl Strategy<Value = Record> {
    let values: Vec<_> = VALUES.into_iter().map(values_of).collect();
    let texts = || prop::collection::vec(text(), 0..3);
    (keys(), text(), texts(), texts(), values).prop_map(|(key, title, notes, tags, values)| {
        let mut record = Record::new(key).with("title", title);
        for note in notes {
            record.add("notes", note);
        }
        for tag in tags {
            record.add("tags", tag);
        }
        for (name, value) in values.into_iter().flatten() {
            record.add(name, value);
        }
        record
    })
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
    query: Query,
    searched: Vec<usize>,
    weights: [f32; 3],
    words: Words,
    near: bool,
    beginnings: Beginnings,
    first_letters: usize,
    filter: Option<Filter>,
    order: Order,
    k1: f32,
    b: [f32; 3],
    proximity: f32,
    window: (usize, usize),
    at_least: Option<u64>,
    most_postings: Option<u64>,
}

const NAMES: [&str; 3] = ["title", "notes", "tags"];

fn tests() -> impl Strategy<Value = Filter> {
    prop::sample::select(&VALUES[..]).prop_flat_map(|(name, kind)| {
        let one = || wanted(kind);
        prop_oneof![
            one().prop_map(move |value| Filter::equal(name, value)),
            one().prop_map(move |value| Filter::below(name, value)),
            one().prop_map(move |value| Filter::at_most(name, value)),
            one().prop_map(move |value| Filter::above(name, value)),
            one().prop_map(move |value| Filter::at_least(name, value)),
            (one(), one()).prop_map(move |(low, high)| Filter::between(name, low, high)),
            prop::collection::vec(one(), 1..4).prop_map(move |values| Filter::is_in(name, values)),
            Just(Filter::absent(name)),
        ]
    })
}

fn filters() -> impl Strategy<Value = Filter> {
    tests().prop_recursive(3, 8, 3, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 2..4).prop_map(Filter::All),
            prop::collection::vec(inner.clone(), 2..4).prop_map(Filter::Any),
            inner.prop_map(Filter::not),
        ]
    })
}

/// A value behind a colon.
fn value_clauses() -> impl Strategy<Value = Query> {
    prop::sample::select(&VALUES[..]).prop_flat_map(|(name, kind)| {
        let one = || wanted(kind);
        let signs = if kind == Kind::Exact { &[""][..] } else { &["", ">=", "<", "<=", ">"][..] };
        let signed = (prop::sample::select(signs), one()).prop_map(|(sign, value)| format!("{sign}{value}"));
        let range = (one(), one()).prop_map(|(low, high)| format!("{low}..{high}"));
        let text =
            if kind == Kind::Exact { signed.boxed() } else { prop_oneof![2 => signed, 1 => range].boxed() };
        text.prop_map(move |text| Query::Phrase(text).in_columns([name]))
    })
}

fn queries() -> impl Strategy<Value = Query> {
    let word = || prop::sample::select(&WORDS[..]);
    let several = || prop::collection::vec(word(), 2..4).prop_map(|words| words.join(" "));
    let pattern = prop::sample::select(&["o*", "*s", "b?x*", "*a*", "um*ls", "e?m", "el*m"][..]);
    let leaf = prop_oneof![
        8 => word().prop_map(Query::word),
        3 => several().prop_map(Query::phrase),
        2 => (several(), 1_u32..24).prop_map(|(text, window)| Query::window(text, window)),
        2 => pattern.prop_map(Query::pattern),
        2 => word().prop_map(Query::near),
        2 => value_clauses(),
    ];
    leaf.prop_recursive(3, 12, 4, |inner| {
        let several = || prop::collection::vec(inner.clone(), 1..5);
        let columns = prop::sample::subsequence(NAMES.to_vec(), 1..=3);
        prop_oneof![
            4 => several().prop_map(Query::words),
            1 => several().prop_map(Query::all),
            2 => several().prop_map(Query::any),
            1 => inner.clone().prop_map(|part| Query::Without(Box::new(part))),
            1 => inner.clone().prop_map(Query::needed),
            1 => (columns, inner).prop_map(|(columns, part)| part.in_columns(columns)),
        ]
    })
}

fn searches() -> impl Strategy<Value = Asked> {
    let columns = prop::sample::subsequence(vec![0_usize, 1, 2], 1..=3);
    let weight = prop_oneof![Just(0.0_f32), Just(1.0), 0.1_f32..9.0];
    let words = prop_oneof![
        Just(Words::All),
        Just(Words::Any),
        (1_usize..4).prop_map(Words::AtLeast),
        (0.0_f32..=1.0).prop_map(Words::Share)
    ];
    let order = prop_oneof![
        3 => Just(Order::Score),
        2 => (prop::sample::select(&VALUES[..]), any::<bool>())
            .prop_map(|((name, _), down)| Order::Column { name: name.to_owned(), down }),
        1 => Just(Order::Key),
    ];
    let beginnings =
        prop_oneof![7 => Just(Beginnings::None), 2 => Just(Beginnings::Last), 1 => Just(Beginnings::All)];
    let wider = (prop::bool::weighted(0.2), beginnings, 0_usize..3);
    let filter = prop_oneof![2 => Just(None), 1 => filters().prop_map(Some)];
    let searches = (
        (queries(), columns, words, wider),
        (prop::array::uniform3(weight), filter, order),
        prop_oneof![Just(0.0_f32), Just(1.2), 0.0_f32..3.0],
        prop::array::uniform3(prop_oneof![Just(0.0_f32), Just(1.0), Just(0.75)]),
        prop_oneof![2 => Just(0.0_f32), 1 => Just(1.0), 1 => 0.1_f32..3.0],
        (0_usize..3, 0_usize..20),
        prop::option::of(0_u64..6),
        prop::option::weighted(0.3, 0_u64..80),
    )
        .prop_map(
            |(
                (query, searched, words, wider),
                (weights, filter, order),
                k1,
                b,
                proximity,
                window,
                at_least,
                most_postings,
            )| {
                let (near, beginnings, first_letters) = wider;
                let query = query.normal();
                Asked {
                    query,
                    searched,
                    weights,
                    words,
                    near,
                    beginnings,
                    first_letters,
                    filter,
                    order,
                    k1,
                    b,
                    proximity,
                    window,
                    at_least,
                    most_postings,
                }
            },
        );
    // A query may walk through a dictionary so often.
    searches.prop_filter("too many walks", |asked| {
        let each = 1 + usize::from(asked.near) + usize::from(asked.beginnings != Beginnings::None);
        let words = different(&asked.query);
        words.len() * each <= 16 && words.iter().filter(|word| nothing_leads_to(word)).count() <= 1
    })
}

/// The different words of a query, patterns included.
fn different(query: &Query) -> BTreeSet<String> {
    let text = query.to_string().to_lowercase();
    let words = text.split(|c: char| !(c.is_alphanumeric() || matches!(c, '*' | '?')));
    words.map(str::to_owned).collect()
}

/// Whether a pattern neither begins with a letter nor has three in a row.
fn nothing_leads_to(word: &str) -> bool {
    word.starts_with(['*', '?']) && word.split(['*', '?']).all(|run| run.chars().count() < 3)
}

impl Asked {
    /// The plainest search for a query.
    fn plain(query: Query, words: Words) -> Self {
        Self {
            query,
            searched: vec![0, 1, 2],
            weights: [4.0, 1.0, 1.0],
            words,
            near: false,
            beginnings: Beginnings::None,
            first_letters: 0,
            filter: None,
            order: Order::Score,
            k1: 1.2,
            b: [0.75; 3],
            proximity: 0.0,
            window: (0, 50),
            at_least: None,
            most_postings: None,
        }
    }

    fn find(&self) -> Find {
        let find = Find::new().columns(self.searched.iter().map(|&c| NAMES[c])).words(self.words);
        let lengths = NAMES.iter().zip(self.b).fold(Lengths::default(), |all, (name, b)| all.with(*name, b));
        let mut find = find.k1(self.k1).lengths(lengths).skip(self.window.0).limit(self.window.1);
        find =
            find.proximity(self.proximity).order(self.order.clone()).first_letters_right(self.first_letters);
        if self.near {
            find = find.spellings(Spellings::Near);
        }
        find = find.beginnings(self.beginnings);
        if let Some(filter) = &self.filter {
            find = find.only(filter.clone());
        }
        if let Some(at_least) = self.at_least {
            find = find.total(Total::AtLeast(at_least));
        }
        if let Some(most) = self.most_postings {
            find = find.most_postings(most);
        }
        NAMES.iter().zip(self.weights).fold(find, |find, (name, weight)| find.weight(*name, weight))
    }

    fn oracle(&self) -> OracleSearch {
        let languages = ["en", oracle::OWN, "en"];
        let others = [None, None, Some(("fr", "lang"))];
        let columns = (0..3).map(|c| OracleColumn {
            name: NAMES[c],
            language: languages[c],
            others: others[c],
            weight: self.weights[c],
            gap: [16, 16, 0][c],
            most: [u32::MAX, 20, u32::MAX][c],
        });
        OracleSearch {
            columns: columns.collect(),
            values: VALUES.to_vec(),
            query: self.query.clone(),
            searched: self.searched.clone(),
            words: self.words,
            near: self.near,
            beginnings: self.beginnings,
            first_letters: self.first_letters,
            filter: self.filter.clone(),
            order: self.order.clone(),
            k1: self.k1,
            b: self.b.into(),
            proximity: self.proximity,
            most_postings: self.most_postings,
        }
    }
}

/// Each is taken where it can be had.
const WAYS: [Way; 8] = [
    Way::ByRecord,
    Way::OfMatches,
    Way::InOrder,
    Way::BestOfAny,
    Way::BestOfAll,
    Way::SomeWords,
    Way::EveryPosting,
    Way::WithPhrases,
];

/// Every way through the postings gives what the oracle does, and pages give it in pieces.
fn check(
    place: &Memory,
    live: &BTreeMap<Key, Record>,
    asked: &Asked,
) -> std::result::Result<(), TestCaseError> {
    let expected = oracle::search(live, &asked.oracle());
    let (skip, limit) = asked.window;
    let shown: Vec<_> = expected.iter().skip(skip).take(limit).cloned().collect();
    let cheapest = [None, None].into_iter().zip([1, 3]);
    let wished = WAYS.map(Some).into_iter().zip([1, 1, 1, 2, 1, 1, 1, 1]);
    for (way, threads) in cheapest.chain(wished) {
        let mut wanted = asked.find().threads(NonZero::new(threads).unwrap()).long_from(0);
        if let Some(way) = way {
            wanted = wanted.strategy(way);
        }
        let found = if threads > 1 || way == Some(Way::EveryPosting) {
            find(place, &asked.query, &wanted).unwrap()
        } else {
            find_by_asking(place, &asked.query, &wanted).unwrap()
        };
        let total = expected.len() as u64;
        if let Some(wanted) = asked.at_least {
            prop_assert_eq!(found.total, total.min(wanted), "{} {:?}", asked.query, way);
            prop_assert_eq!(found.or_more, total >= wanted);
        } else {
            prop_assert_eq!((found.total, found.or_more), (total, false), "{} {:?}", asked.query, way);
        }
        same(&found, &shown, skip, live)
            .map_err(|error| TestCaseError::fail(format!("{} by {way:?}: {error}", asked.query)))?;
    }
    // Again and again, by what the opened shelves have kept.
    let (view, opened) = (place.view(), Opened::new());
    let snapshot = Snapshot::open(&view, &opened).unwrap();
    for limit in [limit, limit, limit, 1] {
        let mut search = Search::new(snapshot.clone(), &asked.query, &asked.find().limit(limit)).unwrap();
        let found = search::run(&view, &mut search).unwrap();
        let first: Vec<_> = expected.iter().skip(skip).take(limit).cloned().collect();
        same(&found, &first, skip, live)
            .map_err(|error| TestCaseError::fail(format!("{} again: {error}", asked.query)))?;
    }
    // From the first hit on, two at a time.
    let (mut rest, mut page) = (expected.as_slice(), asked.find().skip(0).limit(2));
    for _ in 0..4 {
        let found = find(place, &asked.query, &page).unwrap();
        let (here, behind) = rest.split_at(rest.len().min(2));
        same(&found, here, 0, live)
            .map_err(|error| TestCaseError::fail(format!("{} in pages: {error}", asked.query)))?;
        let Some(last) = found.last else { break };
        let kept: PagePlace = last.to_string().parse().unwrap();
        prop_assert_eq!(&kept, &last);
        let after = expected.iter().filter(|hit| comes_after(&asked.oracle(), hit, &last)).count();
        prop_assert_eq!(after, behind.len());
        (rest, page) = (behind, page.after(last));
    }
    Ok(())
}

/// For some records the parts of the score add up to it, or the reasons why they were not found are right.
fn explain(
    place: &Memory,
    live: &BTreeMap<Key, Record>,
    asked: &Asked,
) -> std::result::Result<(), TestCaseError> {
    let expected = oracle::search(live, &asked.oracle());
    let view = place.view();
    let snapshot = Snapshot::open(&view, &Opened::new()).unwrap();
    let why = |key: &Key| search::why(&view, &snapshot, &asked.query, &asked.find(), key).unwrap();
    for key in live.keys().step_by(3) {
        match (expected.iter().position(|hit| hit.key == *key), why(key)) {
            (Some(at), Why::Found(reckoning)) => {
                adds_up(&reckoning)?;
                if asked.order != Order::Key {
                    prop_assert_eq!(reckoning.score.to_bits(), expected[at].score.to_bits());
                }
                if asked.order == Order::Score {
                    prop_assert_eq!(reckoning.rank, Some(at as u64 + 1));
                    let before = at.checked_sub(1).map(|before| expected[before].key.clone());
                    prop_assert_eq!(reckoning.ahead.map(|(key, _)| key), before);
                }
            }
            (None, Why::NotFound(reasons)) => {
                prop_assert!(!reasons.is_empty());
                for reason in &reasons {
                    is_right(live, asked, key, reason)?;
                }
            }
            (found, said) => prop_assert!(false, "{}: {:?} {:?} {:?}", asked.query, key, found, said),
        }
    }
    prop_assert_eq!(why(&Key::from("nobody")), Why::NoRecord);
    Ok(())
}

fn adds_up(reckoning: &Reckoning) -> std::result::Result<(), TestCaseError> {
    let mut score = 0.0_f32;
    for word in &reckoning.words {
        let mut frequency = 0.0_f32;
        for terms in word.terms.chunk_by(|a, b| a.class == b.class) {
            let mut of_class = 0.0_f32;
            for term in terms {
                let mut of_term = 0.0_f32;
                for column in &term.columns {
                    of_term += column.share;
                }
                prop_assert_eq!(of_term.to_bits(), term.frequency.to_bits());
                of_class += of_term * term.likeness;
            }
            frequency += of_class;
        }
        prop_assert_eq!(frequency.to_bits(), word.frequency.to_bits(), "{:?}", word);
        let k1 = reckoning.k1;
        let part = if frequency > 0.0 { word.idf * (k1 + 1.0) / (1.0 + k1 / frequency) } else { 0.0 };
        prop_assert_eq!(part.to_bits(), word.part.to_bits());
        score += part * word.times as f32;
    }
    score += reckoning.proximity.map_or(0.0, |near| near.part);
    prop_assert_eq!(score.to_bits(), reckoning.score.to_bits());
    Ok(())
}

/// Whether what is said of a record holds, by searching for the part alone.
fn is_right(
    live: &BTreeMap<Key, Record>,
    asked: &Asked,
    key: &Key,
    reason: &Reason,
) -> std::result::Result<(), TestCaseError> {
    let has = |part: &str, searched: &[usize]| {
        let query = Query::read(part).query;
        let alone = Asked { query, searched: searched.to_vec(), filter: None, ..asked.clone() };
        oracle::search(live, &alone.oracle()).iter().any(|hit| hit.key == *key)
    };
    // One of several phrases may have been looked for as words, wherever they stand.
    let loosened = oracle::loosened(live, &asked.oracle());
    let has_words = |part: &str, searched: &[usize]| {
        let is_loose = |words: &&str| loosened.iter().any(|text| text == words);
        let Some(words) = part.split('"').nth(1).filter(is_loose) else { return false };
        let searched = searched.to_vec();
        let alone = Asked { query: Query::read(words).query, words: Words::All, searched, ..asked.clone() };
        let alone = Asked { filter: None, at_least: None, ..alone };
        oracle::search(live, &alone.oracle()).iter().any(|hit| hit.key == *key)
    };
    match reason {
        Reason::Missing { part, elsewhere } => {
            for column in elsewhere {
                let place = NAMES.iter().position(|name| name == column).unwrap();
                prop_assert!(has(part, &[place]) || has_words(part, &[place]), "{} in {}", part, column);
            }
            for (place, name) in NAMES.iter().enumerate() {
                let is_known = elsewhere.iter().any(|known| known == name);
                prop_assert!(!has(part, &[place]) || is_known, "{} in {}", part, name);
            }
        }
        Reason::Excluded { part } => {
            prop_assert!(has(part, &[0, 1, 2]) || has_words(part, &[0, 1, 2]), "{}", part);
        }
        Reason::TooFew { has, needs, missing } => {
            prop_assert!(has < needs);
            for reason in missing {
                is_right(live, asked, key, reason)?;
            }
        }
        Reason::Value { column, has } => prop_assert_eq!(live[key].values(column).len(), has.len()),
        _ => {}
    }
    Ok(())
}

fn same(
    found: &Found,
    expected: &[OracleHit],
    skipped: usize,
    live: &BTreeMap<Key, Record>,
) -> std::result::Result<(), TestCaseError> {
    let short = |key: &Key, score: f32| (key.to_string(), score.to_bits());
    let hits: Vec<_> = found.hits.iter().map(|hit| short(&hit.key, hit.score)).collect();
    let right: Vec<_> = expected.iter().map(|hit| short(&hit.key, hit.score)).collect();
    prop_assert_eq!(hits, right);
    for (place, hit) in (1..).zip(&found.hits) {
        prop_assert_eq!(hit.rank, skipped + place);
        for (column, values) in live[&hit.key].columns() {
            prop_assert_eq!(hit.values.get(column).map_or(&[][..], Vec::as_slice), values);
        }
    }
    Ok(())
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

/// A place that has to be asked for every range, as a database has to be.
struct Asking<V>(V);

impl<V: View> View for Asking<V> {
    fn manifest(&self) -> Result<Option<Arc<Manifest>>> {
        self.0.manifest()
    }

    fn read(&self, wanted: &[Wanted]) -> Result<Vec<Bytes>> {
        assert!(!wanted.is_empty(), "a search that needs nothing goes on");
        self.0.read(wanted)
    }
}

/// A place that has to be asked, and keeps what was read before, but for some of it.
struct Keeping<V> {
    place: V,
    kept: Arc<Kept>,
}

#[derive(Debug, Default)]
struct Kept(Mutex<Vec<(Wanted, Bytes)>>);

impl Near for Kept {
    fn get(&self, piece: PieceId, range: &Range<u64>) -> Option<Bytes> {
        let kept = self.0.lock().unwrap();
        let covers = |((known, held), _): &&(Wanted, Bytes)| {
            *known == piece && held.start <= range.start && range.end <= held.end
        };
        let ((_, held), bytes) = kept.iter().find(covers)?;
        let place = |at: u64| usize::try_from(at - held.start).unwrap();
        Some(bytes.slice(place(range.start)..place(range.end)))
    }
}

impl<V: View> View for Keeping<V> {
    fn manifest(&self) -> Result<Option<Arc<Manifest>>> {
        self.place.manifest()
    }

    fn read(&self, wanted: &[Wanted]) -> Result<Vec<Bytes>> {
        let read = self.place.read(wanted)?;
        let kept = wanted.iter().cloned().zip(read.iter().cloned());
        // Every third is let go of.
        self.kept
            .0
            .lock()
            .unwrap()
            .extend(kept.enumerate().filter(|(place, _)| place % 3 < 2).map(|(_, kept)| kept));
        Ok(read)
    }

    fn near(&self) -> Option<Arc<dyn Near>> {
        Some(Arc::<Kept>::clone(&self.kept))
    }
}

/// The same where not everything is at hand; with nothing that was read before, and then with some of it.
fn find_by_asking(place: &Memory, query: &Query, find: &Find) -> Result<Found> {
    let view = Asking(place.view());
    let snapshot = Snapshot::open(&view, &Opened::new())?;
    let found = search::run(&view, &mut Search::new(snapshot, query, find)?)?;
    let view = Keeping { place: Asking(place.view()), kept: Arc::default() };
    for _ in 0..2 {
        let snapshot = Snapshot::open(&view, &Opened::new())?;
        let again = search::run(&view, &mut Search::new(snapshot, query, find)?)?;
        assert_eq!(again, found);
    }
    Ok(found)
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
            check(&place, &live, &asked)?;
            explain(&place, &live, &asked)?;
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
    for n in (0..3_000).step_by(211) {
        let query = Query::words([Query::word(word(n)), Query::word(word(n % 11))]);
        check(&place, &records, &Asked::plain(query, Words::Any)).unwrap();
    }
    // Patterns and spellings that stand for far more terms than score.
    for query in ["w1*", "*7", "~w1234 w12*", "title:w1* -*9", "+w2* OR \"w1* w2\"", "notes:w* title:*55*"] {
        let mut asked = Asked::plain(Query::read(query).query, Words::Any);
        check(&place, &records, &asked).unwrap();
        asked.words = Words::All;
        asked.filter = Some(Filter::absent("value"));
        check(&place, &records, &asked).unwrap();
    }
}

/// Lists of thousands of postings in several shelves, a tenth of them removed, in blocks of 4 and of 128: every kind of
/// query, and what is skipped on the way changes nothing.
#[test]
fn long_lists_of_several_shelves_agree_with_the_oracle() {
    const RECORDS: i64 = 4_500;
    let record = |n: i64| {
        let mut title = vec![if n % 10 == 0 { "elm" } else { "oak" }];
        title.extend((n % 3 == 0).then_some("box"));
        title.extend((n % 97 == 0).then_some("handle"));
        title.extend(std::iter::repeat_n("oak", (n % 7 / 5) as usize));
        let notes = if n % 300 == 3 { "elm box" } else { "box" };
        let record = Record::new(n).with("title", title.join(" ")).with("notes", notes);
        if n % 4 == 0 { record } else { record.with("value", n / 300 % 7) }
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
        for (query, words) in [
            ("oak", Words::All),
            ("oak handle", Words::All),
            ("handle box oak", Words::All),
            ("elm handle", Words::Any),
            ("oak box", Words::Any),
            ("oak elm handle box", Words::Any),
            ("\"oak box\"", Words::All),
            ("\"oak box\" handle", Words::All),
            ("\"oak box\" handle", Words::Any),
            ("\"elm box\" handle boxes", Words::AtLeast(2)),
            ("oak -box", Words::All),
            ("-box", Words::All),
            ("(oak AND handle) OR elm", Words::All),
            ("+handle oak elm", Words::Any),
            ("bo* OR handle", Words::All),
            ("~boxs elm", Words::Any),
            ("notes:(elm box)", Words::All),
        ] {
            let mut asked = Asked::plain(Query::read(query).query, words);
            check(&place, &live, &asked).unwrap();
            asked.filter = Some(Filter::below("value", "3"));
            check(&place, &live, &asked).unwrap();
            asked.order = Order::Column { name: "value".to_owned(), down: true };
            check(&place, &live, &asked).unwrap();
        }
    }
}
