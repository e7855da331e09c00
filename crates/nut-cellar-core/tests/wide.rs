//! A shelf of so many records that rare words are far apart in it, and of so many terms that patterns stand for thousands:
//! every way through it gives the same hits, and counts are those of a plain look at the texts.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

#[path = "support/ways.rs"]
mod ways;

use nut_cellar_core::search::{Order, Strategy, Total};
use nut_cellar_core::{
    Batch, Column, ErrorKind, Filter, Find, Kind, Memory, Note, Opened, Query, Record, Schema, Search,
    Snapshot, Words, search,
};
use std::collections::BTreeSet;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use ways::WAYS;

const RECORDS: u64 = 40_000;

fn mixed(number: u64) -> u64 {
    let number = (number ^ number >> 31).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    number ^ number >> 29
}

/// The words of a record: of a few that many have, of some that some have, and of thousands that few have.
fn words(number: u64, column: u64) -> Vec<String> {
    let roll = |salt: u64, below: u64| mixed(number * 97 + column * 7 + salt) % below;
    let mut words = vec![format!("r{}", roll(1, 6_000)), format!("s{}", roll(2, 300))];
    words.extend((roll(3, 3) == 0).then(|| "oak".to_owned()));
    words.extend((roll(4, 20) == 0).then(|| "elm".to_owned()));
    words.extend((roll(5, 25) == 0).then(|| "ash elm".to_owned()));
    words.extend((roll(6, 9) == 0).then(|| "ash ash".to_owned()));
    words.extend((roll(7, 4_000) == 0).then(|| "yew".to_owned()));
    words.truncate(1 + usize::try_from(roll(8, 6)).unwrap());
    match column {
        // Nine firs, far from the first and from one another, score more than all others, which score the same.
        1 if number.is_multiple_of(13)
            && (10..19).contains(&(number / 13 / 128))
            && number / 13 % 128 == 5 =>
        {
            words = vec!["fir".to_owned()];
        }
        1 if number.is_multiple_of(13) => words = vec!["fir".to_owned(), words.swap_remove(0)],
        // Plums stand with no others, pears often with quinces.
        0 if number.is_multiple_of(3) => words.push("plum".to_owned()),
        // One of the last scores the most by both.
        0 if number == 39_998 => words = vec!["pear".to_owned(), "quince".to_owned()],
        0 => {
            words.extend((roll(9, 2) == 0).then(|| "pear".to_owned()));
            words.extend((roll(10, 2) == 0).then(|| "quince".to_owned()));
        }
        _ => {}
    }
    if column == 0 && number % 9_000 == 17 {
        words.extend(
            (0..800).map(|place| if place == 0 { "long oak".to_owned() } else { format!("f{place}") }),
        );
    }
    words
}

struct Wide {
    place: Memory,
    opened: Opened,
    /// For each record its columns, as the words that stand in them.
    texts: Vec<[String; 2]>,
}

impl Wide {
    fn new() -> Self {
        Self::build(RECORDS, false)
    }

    fn build(records: u64, fleeting: bool) -> Self {
        let schema = Schema::new("id")
            .with("title", Column::text("none").weighing(3.0))
            .with("notes", Column::text("none"))
            .with("part", Column::of(Kind::Integer));
        let (place, opened) = (Memory::new(), Opened::new());
        let texts = (0..records).map(|number| [words(number, 0).join(" "), words(number, 1).join(" ")]);
        let texts: Vec<_> = texts.collect();
        let mut unit = place.unit();
        let mut batch = Batch::new(&mut unit, &opened, &schema).unwrap();
        if fleeting {
            batch.set_fleeting();
        }
        for (id, [title, notes]) in (0_i64..).zip(&texts) {
            let record = Record::new(id).with("title", title.as_str()).with("notes", notes.as_str());
            batch.put(&record.with("part", id % 50)).unwrap();
        }
        batch.publish().unwrap();
        unit.commit().unwrap();
        let wide = Self { place, opened, texts };
        assert_eq!(wide.snapshot().shelves(), 1);
        wide
    }

    fn snapshot(&self) -> Snapshot {
        Snapshot::open(&self.place.view(), &self.opened).unwrap()
    }

    /// The keys and score bits of the first hits, and the total.
    fn found(&self, query: &Query, find: &Find) -> (Vec<(String, u32)>, u64) {
        let mut search = Search::new(self.snapshot(), query, find).unwrap();
        let found = search::run(&self.place.view(), &mut search).unwrap();
        let hits = found.hits.iter().map(|hit| (hit.key.to_string(), hit.score.to_bits()));
        (hits.collect(), found.total)
    }

    /// How many records have words that are `wanted`.
    fn count(&self, wanted: impl Fn(&BTreeSet<&str>, usize) -> bool) -> u64 {
        let has = |(number, texts): &(usize, &[String; 2])| {
            wanted(&texts.iter().flat_map(|text| text.split(' ')).collect(), *number)
        };
        self.texts.iter().enumerate().filter(has).count() as u64
    }
}

/// Words that many records have, and some that few have.
const COMMON: [&str; 12] =
    ["oak", "elm", "ash", "plum", "pear", "quince", "fir", "yew", "long", "s1", "s2", "s3"];

fn going(find: &Find, way: Option<Strategy>) -> Find {
    way.map_or_else(|| find.clone(), |way| find.clone().strategy(way))
}

#[test]
fn every_way_through_many_records_gives_the_same() {
    let wide = Wide::new();
    let rare: Vec<_> = (0..8_u64).map(|salt| format!("r{}", mixed(salt) % 6_000)).collect();
    let some: Vec<_> = (0..12_u64).map(|salt| format!("s{}", mixed(salt) % 300)).collect();
    for text in [
        "yew".to_owned(),
        "elm".to_owned(),
        "oak".to_owned(),
        "fir".to_owned(),
        "oak long".to_owned(),
        "plum pear quince".to_owned(),
        some[2..6].join(" "),
        format!("yew {}", rare[0]),
        format!("{} {} {}", rare[1], rare[2], rare[3]),
        format!("{} elm", rare[4]),
        format!("{} {} oak", some[0], some[1]),
        "ash elm".to_owned(),
        "oak elm ash yew".to_owned(),
        "\"ash elm\"".to_owned(),
        "\"ash ash\" yew".to_owned(),
        "title:elm oak".to_owned(),
        "r1*".to_owned(),
        "*7 elm".to_owned(),
        "p* q*".to_owned(),
        "a* e* y* s1*".to_owned(),
        "~r1234".to_owned(),
        format!("oak -{}", some.join(" -")),
        format!("-{}", some.join(" -")),
        some.join(" OR "),
        rare.iter().chain(&some).cloned().collect::<Vec<_>>().join(" "),
        // So many that it is found out window by window which records match.
        COMMON.join(" "),
        COMMON.map(|word| format!("title:{word}")).join(" "),
        COMMON.chunks(2).map(|pair| format!("({} -{})", pair[0], pair[1])).collect::<Vec<_>>().join(" OR "),
        COMMON
            .chunks(3)
            .map(|some| format!("({} \"ash elm\")", some.join(" OR ")))
            .collect::<Vec<_>>()
            .join(" "),
        format!("{} -part:3 -part:7 (part:1..20 OR part:30 OR oak)", COMMON.join(" OR ")),
    ] {
        let query = Query::read(&text).query;
        for words in [Words::Any, Words::All, Words::Share(0.25)] {
            let find = Find::new().words(words);
            let few = find.clone().limit(3).total(Total::AtLeast(0));
            let mut finds = vec![find.clone(), few.clone()];
            if !matches!(words, Words::Share(_)) {
                finds.extend([
                    find.clone().only(Filter::below("part", 5)),
                    few.weight("title", 40.0),
                    find.weight("title", 1.0).weight("notes", 0.0).only(Filter::below("part", 1)),
                ]);
            }
            for find in finds {
                let expected = wide.found(&query, &find.clone().strategy(Strategy::ByRecord));
                for way in WAYS {
                    assert_eq!(wide.found(&query, &going(&find, way)), expected, "{text} {way:?}");
                }
            }
        }
    }
}

#[test]
fn a_fleeting_shelf_gives_the_same() {
    let (wide, fleeting) = (Wide::new(), Wide::build(RECORDS, true));
    for query in ["*12*", "*99", "r?2*3", "r1*", "f79*", "ash elm", "\"long oak\"", "s7 -*1", "yew~", "r100~"]
    {
        let query = Query::read(query).query;
        let both = [&wide, &fleeting].map(|wide| {
            let mut search = Search::new(wide.snapshot(), &query, &Find::new().limit(50)).unwrap();
            search::run(&wide.place.view(), &mut search).unwrap()
        });
        assert!(both[0].total > 0, "{query}");
        assert_eq!(both[0], both[1], "{query}");
    }
}

/// Lists of common words are unpacked the second time that a search goes through them.
#[test]
fn answers_are_the_same_before_and_after_lists_are_unpacked() {
    let wide = Wide::build(12_000, false);
    let by_part = |down| Order::Column { name: "part".to_owned(), down };
    for text in [
        "oak",
        "pear quince",
        "oak elm ash",
        "elm ash fir",
        "title:ash oak pear plum",
        "elm -oak",
        "\"ash elm\"",
        "\"plum pear quince\" within 9",
        "(oak elm) OR (pear quince) OR r17",
        "o* elm",
    ] {
        let query = Query::read(text).query;
        for words in [Words::Any, Words::All, Words::Share(0.5)] {
            let find = Find::new().words(words).without_values();
            let few = find.clone().total(Total::AtLeast(0));
            for find in [
                few.clone(),
                few.clone().strategy(Strategy::BestOfAny).limit(300),
                few.clone().only(Filter::below("part", 1)),
                few.clone().only(Filter::below("part", 20)).strategy(Strategy::BestOfAny),
                few.proximity(0.5),
                find.clone().order(Order::Key).skip(3),
                find.clone().order(by_part(true)),
                find.clone().order(by_part(false)),
                find,
            ] {
                let found = |snapshot: &Snapshot, query: &Query| {
                    let mut search = Search::new(snapshot.clone(), query, &find).unwrap();
                    search::run(&wide.place.view(), &mut search).unwrap()
                };
                let fresh = || Snapshot::open(&wide.place.view(), &Opened::new()).unwrap();
                let packed = found(&fresh(), &query);
                // Of one word only, and then of all.
                for word in ["oak", "elm", "ash"] {
                    let snapshot = fresh();
                    for _ in 0..2 {
                        found(&snapshot, &Query::word(word));
                    }
                    for _ in 0..3 {
                        assert_eq!(found(&snapshot, &query), packed, "{text} {find:?}");
                    }
                }
            }
        }
    }
}

/// Searches of many records are what lengths are put side by side for.
#[test]
fn scores_are_the_same_before_and_after_lengths_stand_side_by_side() {
    let wide = Wide::new();
    let find = |strategy| Find::new().words(Words::Any).strategy(strategy);
    let few = Query::read("long s7 r11").query;
    let first = wide.found(&few, &find(Strategy::EveryPosting));
    let _ = wide.found(&Query::read("pear quince").query, &find(Strategy::EveryPosting));
    assert_eq!(wide.found(&few, &find(Strategy::EveryPosting)), first);
    assert_eq!(wide.found(&few, &find(Strategy::ByRecord)), first);
    assert!(first.0.len() == 10 && first.1 > 200);
}

#[test]
fn a_search_is_asked_to_stop_wherever_it_takes_long() {
    let wide = Wide::new();
    let asked = |query: &str, find: Find| {
        let count = Arc::new(AtomicU64::new(0));
        let counter = Arc::clone(&count);
        let find = find.stop_when(move || {
            counter.fetch_add(1, Ordering::Relaxed);
            false
        });
        wide.found(&Query::read(query).query, &find);
        count.load(Ordering::Relaxed)
    };
    // Many words are excluded, window by window, and no record is left.
    let excluded = (0..300).map(|number| format!("-s{number}")).collect::<Vec<_>>().join(" ");
    assert!(asked(&format!("oak -oak {excluded}"), Find::new().order(Order::Key)) >= 2);
    // More terms than these are walked through, and no record is looked at.
    let none = Find::new().limit(0).total(Total::AtLeast(0));
    assert!(asked("r*", none.clone()) >= 5);
    let stopped = none.clone().stop_when(|| true);
    let mut search = Search::new(wide.snapshot(), &Query::read("r*").query, &stopped).unwrap();
    assert!(search::run(&wide.place.view(), &mut search).unwrap_err().kind() == ErrorKind::Stopped);
}

#[test]
fn counts_are_those_of_a_look_at_the_texts() {
    let wide = Wide::new();
    let total = |text: &str, find: &Find| wide.found(&Query::read(text).query, find).1;
    let any = Find::new().words(Words::Any);
    assert_eq!(total("elm oak", &any), wide.count(|words, _| words.contains("elm") || words.contains("oak")));
    assert_eq!(
        total("elm oak", &Find::new()),
        wide.count(|words, _| words.contains("elm") && words.contains("oak"))
    );
    assert_eq!(total("r*", &any), wide.count(|words, _| words.iter().any(|word| word.starts_with('r'))));
    assert_eq!(total("*7", &any), wide.count(|words, _| words.iter().any(|word| word.ends_with('7'))));
    assert_eq!(total("*7", &any.clone().limit(0)), total("*7", &any));
    let title_only =
        wide.texts.iter().filter(|[title, _]| title.split(' ').any(|word| word.contains('4'))).count();
    assert_eq!(total("*4*", &any.clone().columns(["title"])), title_only as u64);
    let filtered = any.only(Filter::below("part", 5));
    // The first search tests values one by one or makes a set of them; the others have it.
    for _ in 0..3 {
        let expected = wide.count(|words, number| words.contains("elm") && number % 50 < 5);
        assert_eq!(total("elm", &filtered), expected);
    }
    let excluded: Vec<_> = (0..30).map(|number| format!("s{number}")).collect();
    let text = format!("oak -{}", excluded.join(" -"));
    let expected = wide.count(|words, _| {
        words.contains("oak") && !excluded.iter().any(|word| words.contains(word.as_str()))
    });
    assert_eq!(total(&text, &Find::new()), expected);
}

#[test]
fn words_near_one_another_are_counted_as_a_look_at_the_texts_counts() {
    let wide = Wide::new();
    for words in [&["pear", "quince"][..], &["oak", "pear"], &["quince", "oak", "pear"]] {
        for near in 1..7 {
            let has_all = |stretch: &[&str]| words.iter().all(|word| stretch.contains(word));
            let is_near = |text: &String| {
                let text: Vec<_> = text.split(' ').collect();
                text.windows(near.min(text.len())).any(has_all)
            };
            let expected = wide.texts.iter().filter(|columns| columns.iter().any(is_near)).count() as u64;
            let query = Query::read(&format!("\"{}\" within {near}", words.join(" "))).query;
            assert_eq!(wide.found(&query, &Find::new()).1, expected, "{words:?} within {near}");
        }
    }
}

#[test]
fn a_share_of_many_words_is_counted_as_a_look_at_the_texts_counts() {
    let wide = Wide::new();
    let total = |text: &str, share: f32| {
        let find = Find::new().words(Words::Share(share));
        wide.found(&Query::read(text).query, &find).1
    };
    for (share, needed) in [(0.1, 2), (0.25, 3), (0.5, 6)] {
        let expected =
            wide.count(|words, _| COMMON.iter().filter(|word| words.contains(*word)).count() >= needed);
        assert_eq!(total(&COMMON.join(" "), share), expected, "{share}");
        let in_title = |[title, _]: &&[String; 2]| {
            let words: BTreeSet<_> = title.split(' ').collect();
            COMMON.iter().filter(|word| words.contains(*word)).count() >= needed
        };
        let expected = wide.texts.iter().filter(in_title).count() as u64;
        assert_eq!(total(&COMMON.map(|word| format!("title:{word}")).join(" "), share), expected, "{share}");
    }
}

#[test]
fn removed_records_are_neither_found_nor_counted() {
    let wide = Wide::build(5_000, false);
    let schema = wide.snapshot().schema().clone();
    let mut unit = wide.place.unit();
    let mut batch = Batch::new(&mut unit, &wide.opened, &schema).unwrap();
    let is_removed = |number: usize| number % 11 == 1;
    for number in (0..wide.texts.len()).filter(|number| is_removed(*number)) {
        batch.remove(&i64::try_from(number).unwrap().into()).unwrap();
    }
    batch.publish().unwrap();
    unit.commit().unwrap();
    let expected = wide.count(|words, number| {
        !is_removed(number) && COMMON.iter().filter(|word| words.contains(*word)).count() >= 3
    });
    let query = Query::read(&COMMON.join(" ")).query;
    let find = Find::new().words(Words::Share(0.25)).limit(5_000);
    for way in WAYS {
        let (hits, total) = wide.found(&query, &going(&find, way));
        assert_eq!((hits.len() as u64, total), (expected, expected), "{way:?}");
        assert!(hits.iter().all(|(key, _)| !is_removed(key.parse().unwrap())), "{way:?}");
    }
    // Of so many words the set of records is kept, the removed ones included.
    let expected =
        wide.count(|words, number| !is_removed(number) && words.iter().any(|word| word.starts_with('r')));
    let query = Query::read("r*").query;
    assert_eq!(wide.found(&query, &Find::new().limit(0)).1, expected);
    assert_eq!(wide.found(&query, &Find::new()).1, expected);
}

/// Of a query that would go through too much the commonest words do not score, and still decide what matches.
#[test]
fn the_commonest_words_of_a_costly_query_do_not_score() {
    let wide = Wide::build(8_000, false);
    let any = Find::new().words(Words::Any);
    let count = |word: &str| wide.count(|words, _| words.contains(word));
    let of_common = wide.count(|words, _| COMMON.iter().any(|word| words.contains(word)));
    let mut by_count = COMMON;
    by_count.sort_by_key(|word| count(word));
    for kept in [1, 3, 7, 11] {
        let most = by_count[..kept].iter().map(|word| count(word)).sum::<u64>();
        let rarest = COMMON.iter().copied().filter(|word| by_count[..kept].contains(word));
        let expected = wide.found(&Query::read(&rarest.collect::<Vec<_>>().join(" ")).query, &any);
        for way in WAYS {
            let find = going(&any, way).most_postings(most);
            let (mut hits, total) = wide.found(&Query::read(&COMMON.join(" ")).query, &find);
            // The others score nothing.
            let others = hits.split_off(expected.0.len());
            assert_eq!((&hits, total, expected.0.len() + others.len()), (&expected.0, of_common, 10));
            assert!(others.iter().all(|(_, score)| *score == 0), "{kept} {way:?}");
        }
    }
    // Where all are needed, the rarest tells what has to be looked at, and all score.
    let all = Find::new();
    let oak = "oak elm pear quince";
    let few = wide.found(&Query::read(oak).query, &all);
    assert_eq!(wide.found(&Query::read(oak).query, &all.most_postings(4 * count("elm"))), few);
}

/// Of a query that would go through too much the cheapest phrases are looked for as such.
#[test]
fn the_words_of_costly_phrases_may_stand_anywhere() {
    let wide = Wide::build(8_000, false);
    let query =
        Query::read("\"ash elm\" OR \"pear quince\" OR \"oak fir\" within 3 OR title:\"oak s1\"").query;
    let both = |words: &[&str; 2], texts: &[String; 2]| {
        words.iter().all(|word| texts.iter().any(|text| text.split(' ').any(|known| known == *word)))
    };
    let in_title = |texts: &[String; 2]| {
        let words: BTreeSet<_> = texts[0].split(' ').collect();
        words.contains("s1") && words.contains("oak")
    };
    let next = |text: &String, a: &str, b: &str| {
        let words: Vec<_> = text.split(' ').collect();
        words.windows(2).any(|pair| pair == [a, b])
    };
    // Only the cheapest, which is the one with the rarest word, is left as it is.
    let matches = |texts: &&[String; 2]| {
        next(&texts[0], "oak", "s1")
            || both(&["ash", "elm"], texts)
            || both(&["pear", "quince"], texts)
            || both(&["oak", "fir"], texts)
    };
    let expected = wide.texts.iter().filter(matches).count() as u64;
    let in_any_order = wide.texts.iter().filter(|texts| in_title(texts) && !matches(texts)).count();
    assert!(in_any_order > 0, "it matters that it stays as it is");
    let mut bits = Vec::new();
    for way in WAYS {
        let find = going(&Find::new(), way).most_postings(0);
        let (hits, total) = wide.found(&query, &find);
        assert_eq!(total, expected, "{way:?}");
        bits.push(hits);
    }
    bits.dedup();
    assert_eq!(bits.len(), 1);
    let mut search = Search::new(wide.snapshot(), &query, &Find::new().most_postings(0)).unwrap();
    let notes = search::run(&wide.place.view(), &mut search).unwrap().notes;
    assert_eq!(notes, [Note::PhrasesLoosened { count: 3 }, Note::WordsNotScored { count: 7 }]);
}

/// Of a pattern that stands for too many terms those are looked at that come first, whatever columns it is looked for in.
#[test]
fn patterns_look_at_as_many_terms_as_they_may() {
    let wide = Wide::build(2_000, false);
    for (text, columns) in
        [("*1*", vec![0, 1]), ("title:*1*", vec![0]), ("r*", vec![0, 1]), ("notes:s*", vec![1])]
    {
        let fits = |word: &str| match text.trim_start_matches("title:").trim_start_matches("notes:") {
            "*1*" => word.contains('1'),
            pattern => word.starts_with(pattern.trim_end_matches('*')),
        };
        // For each record that has such a word the first of them.
        let first_of = |texts: &[String; 2]| {
            let words = columns.iter().flat_map(|column| texts[*column].split(' ')).filter(|word| fits(word));
            words.min().map(str::to_owned)
        };
        let first: Vec<_> = wide.texts.iter().map(first_of).collect();
        let all = first.iter().flatten().count() as u64;
        let query = Query::read(text).query;
        let mut before = 0;
        for most in [0, 100, 1_000, 4_000, 1_000_000] {
            let find = Find::new().limit(2_000).most_terms(most);
            let mut search = Search::new(wide.snapshot(), &query, &find).unwrap();
            let found = search::run(&wide.place.view(), &mut search).unwrap();
            let looked_at = search.report().dictionary;
            let says = found.notes.contains(&Note::TermsMissing);
            assert_eq!((says, found.or_more), (found.total < all, found.total < all), "{text} {most}");
            assert!(looked_at <= most + 1_024, "{text} {most}: {looked_at}");
            let hits: BTreeSet<_> =
                found.hits.iter().map(|hit| hit.key.to_string().parse::<usize>().unwrap()).collect();
            assert_eq!(hits.len() as u64, found.total);
            let last = hits.iter().map(|hit| first[*hit].as_ref().unwrap()).max();
            let earlier =
                first.iter().filter(|first| first.as_ref().is_some_and(|first| Some(first) < last)).count();
            assert!(earlier <= hits.len(), "{text} {most}: nothing that comes earlier is left out");
            assert!(found.total >= before, "{text} {most}");
            before = found.total;
        }
        assert_eq!(before, all, "{text}");
    }
}
