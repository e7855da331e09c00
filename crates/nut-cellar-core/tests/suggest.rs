//! Corrections and completions, beside a slow reckoning of the same on the records themselves.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

#[path = "support/office.rs"]
#[expect(dead_code, reason = "each test program uses a part of it")]
mod office;

use nut_cellar_core::lenient::{Completed, Offer, Suggest, Typing};
use nut_cellar_core::{ErrorKind, Filter, Find, Query, Record};
use office::{Item, Office, TYPED, WORDS, item, items, office};
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};

#[test]
fn corrections_find_something_and_say_how_much() {
    let office = office();
    let offered = |text: &str, find: &Find, suggest: &Suggest| -> Vec<(String, u64)> {
        let corrections = office.suggest(text, find, suggest).corrections;
        corrections.into_iter().map(|correction| (correction.text, correction.records)).collect()
    };
    let first = |text: &str| offered(text, &Find::new(), &Suggest::new()).into_iter().next();
    for (text, expected) in [
        ("umbrela", Some(("umbrella", 1))),
        // Each word alone could be others; together they are these.
        ("wlanut bxo", Some(("walnut box", 2))),
        ("title:wlanut brass", Some(("title:walnut brass", 1))),
        ("walnutbox", Some(("\"walnut box\"", 1))),
        ("walnut box", None),
        ("walnut umbrela", None),
        ("zzzz walnut", None),
        ("", None),
    ] {
        assert_eq!(first(text), expected.map(|(text, records)| (text.to_owned(), records)), "{text}");
    }
    let unknown = office.suggest("wlanut bxo", &Find::new(), &Suggest::new()).corrections.remove(0);
    let changed: Vec<_> = unknown.changed.iter().map(|one| (one.from.as_str(), one.to.as_str())).collect();
    assert_eq!(changed, [("wlanut", "walnut"), ("bxo", "box")]);
    // Never what the filter rules out, a beginning that has to be right, or a short word.
    assert!(offered("umbrela", &Find::new().only(Filter::below("value", 5)), &Suggest::new()).is_empty());
    assert!(offered("xmbrella", &Find::new().first_letters_right(1), &Suggest::new()).is_empty());
    assert!(offered("bxo", &Find::new(), &Suggest::new().least_letters(4)).is_empty());
    assert!(offered("oak", &Find::new(), &Suggest::new().offer(Offer::Every)).is_empty());
    assert_eq!(offered("wlanut", &Find::new(), &Suggest::new().limit(0)), []);
}

#[test]
fn a_known_word_is_doubted_where_another_is_much_more_frequent() {
    let mut items = vec![item("walnt box", "")];
    items.extend((0..200).map(|_| item("walnut box", "")));
    let office = Office::of(&items, &BTreeSet::new());
    let offered = |offer| office.suggest("walnt box", &Find::new(), &Suggest::new().offer(offer)).corrections;
    assert!(offered(Offer::Unknown).is_empty());
    assert!(
        offered(Offer::Doubtful).is_empty(),
        "a letter too few costs more than 200 times as many are worth"
    );
    assert_eq!(offered(Offer::Every)[0].text, "walnut box");
    items.truncate(1);
    items.extend((0..200).map(|_| item("wlant box", "")));
    let office = Office::of(&items, &BTreeSet::new());
    let slip = office.suggest("walnt box", &Find::new(), &Suggest::new()).corrections;
    assert_eq!((slip[0].text.as_str(), slip[0].records), ("wlant box", 200));
    assert!(office.suggest("wlant box", &Find::new(), &Suggest::new()).corrections.is_empty());
}

#[test]
fn words_of_scripts_without_spaces_are_corrected_by_pairs_of_characters() {
    let items = [item("東京都の傘", ""), item("東京都の鞄", ""), item("京都駅", ""), item("紅葉", "")];
    let office = Office::of(&items, &BTreeSet::new());
    let first = |text: &str| {
        let corrections = office.suggest(text, &Find::new(), &Suggest::new()).corrections;
        corrections.into_iter().next().map(|correction| (correction.text, correction.records))
    };
    assert_eq!(first("東亰都"), Some(("東京都".into(), 2)));
    assert_eq!(first("京束都"), None, "two mistakes are too many");
    assert_eq!(first("京東"), Some(("東京".into(), 2)), "two changed places");
    assert_eq!(first("亰都駅"), Some(("京都駅".into(), 1)));
    assert_eq!(first("東京"), None);
}

/// What is offered of a text, without what may have been meant.
fn completed(office: &Office, text: &str, find: &Find, suggest: Suggest) -> Vec<(String, u64)> {
    let suggested = office.suggest(text, find, &suggest.without_corrections());
    assert!(suggested.corrections.is_empty());
    suggested.completions.into_iter().map(|completion| (completion.text, completion.records)).collect()
}

#[test]
fn the_last_word_goes_on_and_what_was_typed_stays() {
    let office = office();
    let all = Find::new();
    let texts = |text: &str| {
        let completed = completed(&office, text, &all, Suggest::new());
        completed.into_iter().map(|(text, records)| format!("{text} {records}")).collect::<Vec<_>>()
    };
    assert_eq!(texts("w"), ["walnut 2", "with 1", "writing 1"]);
    assert_eq!(texts("walnut B"), ["walnut Box 2", "walnut Brass 1"]);
    assert_eq!(texts("title:Wal"), ["title:Walnut 2"]);
    assert_eq!(texts("\"walnut w"), ["\"walnut writing 1"]);
    assert_eq!(texts("(oak OR brass) sig"), ["(oak OR brass) signal 1"]);
    assert_eq!(texts("walnut -writing b"), ["walnut -writing box 1", "walnut -writing brass 1"]);
    assert_eq!(texts("walnut w"), ["walnut with 1", "walnut writing 1"], "nobody types a word twice");
    // What nobody goes on with.
    for text in [
        "",
        "walnut ",
        "walnut -b",
        "\"walnut w\"",
        "(walnut w)",
        "walnut",
        "zzz w",
        "value:1",
        "wal*",
        "~wal",
    ] {
        assert_eq!(texts(text), Vec::<String>::new(), "{text}");
    }
    // Under the filter, and in the columns.
    let old = Find::new().only(Filter::below("value", 5));
    assert_eq!(completed(&office, "um", &old, Suggest::new()), []);
    assert_eq!(completed(&office, "sta", &Find::new().columns(["title"]), Suggest::new()), []);
    assert_eq!(completed(&office, "g", &all, Suggest::new()), [], "records that are gone have it");
}

#[test]
fn of_many_terms_those_that_most_matching_records_have_are_found() {
    let office = Office::of(&[], &BTreeSet::new());
    let (mut key, mut counts) = (0_i64, BTreeMap::new());
    // Terms that many records have and few of those that match, and the other way round; twice as a shelf.
    for _ in 0..2 {
        office.change(|batch| {
            for number in 0..400_usize {
                let (oaks, elms) = if number % 3 == 0 { (number * 7 % 13, 0) } else { (0, 14) };
                for wood in std::iter::repeat_n("oak", oaks).chain(std::iter::repeat_n("elm", elms)) {
                    let here = if key == 7 { " brass" } else { "" };
                    let title = format!("{wood} w{number:03}{here}");
                    let notes = if key == 7 { "walnut bad bag bar" } else { "bad bag bar" };
                    batch.put(&Record::new(key).with("title", title).with("notes", notes))?;
                    key += 1;
                }
                *counts.entry(format!("oak w{number:03}")).or_insert(0) += oaks as u64;
            }
            Ok(())
        });
    }
    let mut expected: Vec<_> = counts.into_iter().collect();
    expected.sort_by(|(a, a_records), (b, b_records)| b_records.cmp(a_records).then_with(|| a.cmp(b)));
    expected.truncate(8);
    assert_eq!(completed(&office, "oak w", &Find::new(), Suggest::new().limit(8)), expected);
    // One record of thousands that have the words, looked up in each of them; in one column, however often they are in the other.
    let one = |text: &str| completed(&office, text, &Find::new(), Suggest::new().limit(1));
    assert_eq!(one("walnut b"), [("walnut bad".into(), 1)]);
    assert_eq!(one("walnut title:b"), [("walnut title:brass".into(), 1)]);
    assert_eq!(one("walnut notes:br"), []);
}

#[test]
fn values_and_earlier_queries_are_completions_too() {
    let mut items = vec![item("walnut box", "brass"), item("walnut stick", ""), item("oak box", "")];
    items[0].station = Some("Quill Halt");
    items[1].station = Some("Quill Halt");
    items[2].station = Some("Quilton");
    let office = Office::of(&items, &BTreeSet::new());
    let suggest = || Suggest::new().values_of(["station"]);
    let all = Find::new();
    let station = |text: &str, of| (text.to_owned(), of);
    assert_eq!(
        completed(&office, "qui", &all, suggest()),
        [station("station:\"Quill Halt\"", 2), station("station:Quilton", 1)]
    );
    assert_eq!(
        completed(&office, "box quill h", &all, suggest()),
        [station("box station:\"Quill Halt\"", 1)]
    );
    assert_eq!(
        completed(&office, "oak station:qu", &all, Suggest::new()),
        [station("oak station:Quilton", 1)]
    );
    assert_eq!(
        completed(&office, "station:\"Quill", &all, Suggest::new()),
        [station("station:\"Quill Halt", 2)]
    );
    let titles = Suggest::new().values_of(["title"]);
    let titles = office.suggest("brass walnut b", &all, &titles.clone()).completions;
    assert!(titles.iter().any(|title| title.kind == Completed::Words), "{titles:?}");
    let titles = completed(&office, "walnut s", &all, Suggest::new().values_of(["title"]));
    assert_eq!(titles, [station("title:\"walnut stick\"", 1), station("walnut stick", 1)]);
    for (text, _) in titles {
        assert_eq!(office.find(&text, &Find::new().strict()).total, 1, "{text}");
    }
    let earlier = ["Walnut box", "walnut", "walnut spoon", "oak box", "walnut stick -brass"];
    let earlier = Suggest::new().earlier(earlier);
    let offered = office.suggest("walnut", &all, &earlier).completions;
    let offered: Vec<_> = offered.iter().map(|one| (one.text.as_str(), one.kind, one.records)).collect();
    assert_eq!(
        offered,
        [("Walnut box", Completed::Earlier, 1), ("walnut stick -brass", Completed::Earlier, 1)]
    );
}

#[test]
fn an_answer_that_is_overtaken_is_dropped_and_its_search_stops() {
    let office = office();
    let typing = Typing::new();
    let first = typing.next();
    let found = office.find("walnut", &first.stopping(Find::new()));
    assert_eq!(first.latest(Ok::<_, ()>(found.total)), Ok(Some(2)));
    let second = typing.next();
    let stopped = office.try_find("walnut b", &first.stopping(Find::new())).unwrap_err();
    assert_eq!(stopped.kind(), ErrorKind::Stopped);
    assert_eq!(first.latest(Err::<(), _>(stopped)).unwrap(), None);
    assert!(!second.is_overtaken());
    // A stop of the program's own goes on to count.
    let find = second.stopping(Find::new().stop_when(|| true));
    assert_eq!(office.try_find("walnut", &find).unwrap_err().kind(), ErrorKind::Stopped);
    // One thread: something waits at the keyboard.
    let waits = std::sync::Arc::new(std::sync::atomic::AtomicBool::new(false));
    let asked = waits.clone();
    let third = typing.next().or_when(move || asked.load(std::sync::atomic::Ordering::Relaxed));
    assert!(!third.is_overtaken() && second.is_overtaken());
    waits.store(true, std::sync::atomic::Ordering::Relaxed);
    assert!(third.is_overtaken());
}

/// Whatever the threads do, nobody is given an older answer after a newer one.
#[test]
fn no_thread_gives_an_older_answer_after_a_newer_one() {
    let (office, typing) = (office(), Typing::new());
    let given = std::sync::Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        for number in 1..=25_u64 {
            let (office, typing, given) = (&office, &typing, &given);
            scope.spawn(move || {
                let typed = typing.numbered(number);
                let found = office.try_find("walnut box", &typed.stopping(Find::new()));
                let mut given = given.lock().unwrap();
                if typed.latest(found).unwrap().is_some() {
                    given.push(number);
                }
            });
        }
    });
    let given = given.into_inner().unwrap();
    assert!(given.is_sorted() && given.last() == Some(&25), "{given:?}");
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 150, ..ProptestConfig::default() })]

    /// What is offered is another query, finds what it says, and the more the fewer mistakes; nobody is told of what is not there.
    #[test]
    fn what_is_offered_is_found(
        items in items(),
        gone in prop::collection::btree_set(0_usize..9, 0..3),
        words in prop::collection::vec(prop::sample::select(&TYPED[..]), 1..4),
        filtered: bool,
        offer in prop::sample::select(&[Offer::Unknown, Offer::Doubtful, Offer::Every][..]),
    ) {
        let office = Office::of(&items, &gone);
        let find = if filtered { Find::new().only(Filter::below("value", 3)) } else { Find::new() };
        let text = words.join(" ");
        let corrections = office.suggest(&text, &find, &Suggest::new().offer(offer).limit(20)).corrections;
        let live: Vec<_> = items.iter().filter(|item| !filtered || item.value < 3).collect();
        let known = |word: &str| live.iter().any(|item| item.has(word));
        let mut seen = BTreeSet::new();
        for correction in &corrections {
            prop_assert!(correction.text != text && seen.insert(correction.text.clone()), "{}", correction.text);
            let found = office.find(&correction.text, &find.clone().strict());
            prop_assert_eq!((found.total, found.total > 0), (correction.records, true), "{}", correction.text);
            let changed: BTreeSet<_> = correction.changed.iter().map(|changed| changed.from.as_str()).collect();
            for word in words.iter().filter(|word| !changed.contains(**word)) {
                prop_assert!(known(word), "{word} is kept in {}", correction.text);
            }
            prop_assert!(offer != Offer::Unknown || changed.iter().all(|word| !known(word)), "{changed:?}");
        }
    }
}

/// What stands before the last word, and how that begins.
const BEGUN: [&str; 8] = ["w", "wal", "Wall", "l", "lost", "o", "umbrella", "p"];

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, ..ProptestConfig::default() })]

    /// Of the words that begin so, those that most of the records with the words before have, each with how many.
    #[test]
    fn completions_are_what_the_rules_say(
        items in items(),
        gone in prop::collection::btree_set(0_usize..9, 0..3),
        before in prop::collection::vec(prop::sample::select(&WORDS[..]), 0..3),
        begun in prop::sample::select(&BEGUN[..]),
        in_title: bool,
        filtered: bool,
        limit in 1_usize..5,
    ) {
        let office = Office::of(&items, &gone);
        let find = if filtered { Find::new().only(Filter::below("value", 3)) } else { Find::new() };
        let column = if in_title { "title:" } else { "" };
        let typed: String = before.iter().map(|word| format!("{word} ")).chain([format!("{column}{begun}")]).collect();
        let live = |item: &&Item| !filtered || item.value < 3;
        let live: Vec<_> = items.iter().filter(live).filter(|item| before.iter().all(|word| item.has(word))).collect();
        let mut counts = BTreeMap::new();
        for item in &live {
            let texts = if in_title { vec![&item.title] } else { vec![&item.title, &item.notes] };
            let words: BTreeSet<_> = texts.into_iter().flatten().copied().collect();
            for word in words {
                if word.starts_with(&begun.to_lowercase()) && word != begun && !before.contains(&word) {
                    *counts.entry(word).or_insert(0_u64) += 1;
                }
            }
        }
        let mut expected: Vec<_> = counts.into_iter().collect();
        expected.sort_by_key(|(word, records)| (std::cmp::Reverse(*records), *word));
        expected.truncate(limit);
        let text = |word: &str| format!("{typed}{}", &word[begun.len()..]);
        let expected: Vec<_> = expected.into_iter().map(|(word, records)| (text(word), records)).collect();
        let offered = completed(&office, &typed, &find, Suggest::new().limit(limit));
        prop_assert_eq!(&offered, &expected);
        for (text, records) in offered {
            prop_assert_eq!(office.find(&text, &find.clone().strict()).total, records);
        }
    }

    /// The same of whole values, and whatever is offered finds what it says.
    #[test]
    fn completed_values_are_what_the_rules_say(
        items in items(),
        before in prop::option::of(prop::sample::select(&WORDS[..])),
        begun in prop::sample::select(&["e", "Elm", "elm h", "ELM", "q", "quill ha", "x"][..]),
    ) {
        let office = Office::of(&items, &BTreeSet::new());
        let typed: String = before.iter().map(|word| format!("{word} ")).chain([begun.to_owned()]).collect();
        // As typed, with capitals, in small letters, in capitals.
        let capitals = begun.split(' ').map(|word| word[..1].to_uppercase() + &word[1..]).collect::<Vec<_>>().join(" ");
        let ways = [begun.to_owned(), capitals, begun.to_lowercase(), begun.to_uppercase()];
        let mut counts = BTreeMap::new();
        for item in items.iter().filter(|item| before.is_none_or(|word| item.has(word))) {
            let begins = |station: &&str| {
                ways.iter().any(|way| station.starts_with(way.as_str())) && *station != begun
            };
            if let Some(station) = item.station.filter(begins) {
                *counts.entry(station).or_insert(0_u64) += 1;
            }
        }
        let expected: BTreeMap<_, _> = counts
            .into_iter()
            .map(|(station, records)| {
                let value = if station.contains(' ') { Query::phrase(station) } else { Query::word(station) };
                let value = value.in_columns(["station"]);
                (before.iter().map(|word| format!("{word} ")).chain([value.to_string()]).collect::<String>(), records)
            })
            .collect();
        let suggest = Suggest::new().without_corrections().values_of(["station"]).limit(50);
        let offered = office.suggest(&typed, &Find::new(), &suggest).completions;
        let values = offered.iter().filter(|completion| completion.kind == Completed::Value);
        let values: BTreeMap<_, _> = values.map(|completion| (completion.text.clone(), completion.records)).collect();
        prop_assert_eq!(values, expected);
        for completion in offered {
            prop_assert_eq!(office.find(&completion.text, &Find::new().strict()).total, completion.records);
        }
    }

    /// Anything at all may be typed.
    #[test]
    fn whatever_is_typed_is_completed_to_what_is_found(typed in "[a-z \"():~*?+~-]{0,12}|\\PC{0,8}") {
        let office = office();
        let suggest = Suggest::new().values_of(["station", "title"]).earlier(["walnut box"]);
        let offered = office.suggest(&typed, &Find::new(), &suggest);
        for completion in offered.completions {
            prop_assert_eq!(office.find(&completion.text, &Find::new().strict()).total, completion.records);
        }
    }
}
