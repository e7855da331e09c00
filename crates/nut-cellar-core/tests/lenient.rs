//! The rules of lenient searches, beside a slow reckoning of the same on the records themselves.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

#[path = "support/office.rs"]
#[expect(dead_code, reason = "each test program uses a part of it")]
mod office;

use nut_cellar_core::lenient::WhyChanged;
use nut_cellar_core::search::Order;
use nut_cellar_core::{Filter, Find, Memory, Note, Opened, Query, Record, Total, Words};
use office::{Item, Office, TYPED, item, items, keys, office};
use proptest::prelude::*;
use std::collections::BTreeSet;

fn lenient() -> Find {
    Find::new().lenient()
}

#[test]
fn what_words_stand_for() {
    let office = office();
    for (query, from, to, why, found) in [
        ("umbrela", "umbrela", &["umbrella"][..], WhyChanged::NearlySo, &[2][..]),
        ("title:wlanut", "wlanut", &["walnut"], WhyChanged::NearlySo, &[0, 1]),
        ("walnutbox", "walnutbox", &["walnut box"], WhyChanged::AsTwoWords, &[0]),
        ("um brella", "um brella", &["umbrella"], WhyChanged::AsOneWord, &[2]),
        ("2031-04", "2031-04", &["found_on:2031-04"], WhyChanged::AsADay, &[0]),
        ("2031", "2031", &["found_on:2031"], WhyChanged::AsADay, &[0]),
    ] {
        let answer = office.find(query, &lenient());
        let told: Vec<_> = answer.changed.iter().filter(|changed| changed.from == from).collect();
        assert!(told[0].to.iter().eq(to) && told[0].why == why, "{query}: {told:?}");
        assert_eq!((keys(&answer).as_slice(), told[0].records), (found, found.len() as u64), "{query}");
    }
    assert_eq!(office.find("umbrela", &Find::new().strict()).total, 0);
    assert!(office.find("umbrella", &lenient()).changed.is_empty());
    // Words of records that are gone, or that a filter rules out, are words that no record has.
    let filtered = lenient().only(Filter::below("value", 5));
    assert_eq!(office.find("umbrela", &filtered).changed, []);
    assert_eq!(office.find("gone", &lenient()).total, 0);
}

#[test]
fn records_with_fewer_words_follow() {
    let office = office();
    let answer = office.find("walnut key submarine", &lenient());
    assert_eq!((answer.total, answer.total_all_words), (3, Some(0)));
    // Two words before one.
    assert_eq!(keys(&answer)[0], 0);
    // What is needed, excluded or compared stays so.
    assert_eq!(keys(&office.find("walnut submarine -writing", &lenient())), [0]);
    assert_eq!(office.find("+submarine walnut", &lenient()).total, 0);
    assert_eq!(keys(&office.find("walnut submarine value:9", &lenient())), Vec::<i64>::new());
    assert_eq!(keys(&office.find("umbrella submarine value:9", &lenient())), [2]);
}

#[test]
fn what_says_little_may_be_missing() {
    let mut items =
        vec![item("walnut box", "with a key"), item("walnut", "of the station"), item("box", "of oak")];
    items.extend((0..6).map(|_| item("glove", "of the train")));
    let answer = Office::of(&items, &BTreeSet::new()).find("box of walnut", &lenient());
    // One has both of the words that say something; the others follow.
    assert_eq!((answer.total, answer.total_all_words, keys(&answer)[0]), (9, Some(1), 0));
}

#[test]
fn of_very_long_queries_any_part_will_do_at_once() {
    let office = office();
    let long: Vec<_> = (0..64).map(|number| format!("zz{number}")).chain(["walnut".to_owned()]).collect();
    let found = office.find(&long.join(" "), &lenient().limit(1));
    assert_eq!((found.total, found.total_all_words, found.more), (2, None, true));
    let second = office.find(&long.join(" "), &lenient().limit(1).after(found.last.clone().unwrap()));
    assert_eq!((second.total, second.hits.len(), second.more), (2, 1, false));
    assert_ne!(keys(&second), keys(&found));
    let with_all = office.find(&long[1..].join(" "), &lenient());
    assert_eq!((with_all.total, with_all.total_all_words), (2, Some(0)));
    assert_eq!(office.find(&long.join(" "), &lenient().words(Words::All)).total, 0);
}

#[test]
fn what_is_said_stands_in_place_of_its_part() {
    let office = office();
    let query = "walnut submarine";
    assert_eq!(office.find(query, &lenient()).total, 2);
    assert_eq!(office.find(query, &lenient().words(Words::All)).total, 0);
    assert_eq!(office.find(query, &lenient().relaxed_below(0)).total, 0);
    assert_eq!(office.find(query, &lenient().strict()).total, 0);
    let never = lenient().spellings(nut_cellar_core::Spellings::AsTyped);
    assert_eq!(office.find("wlanut", &never).total, 0);
    assert_eq!(office.find("wlanut", &lenient().words(Words::All)).total, 2);
    // Two have `walnut`, and that is enough for whoever wants two.
    let two = office.find("walnut", &lenient().enough(2).limit(1));
    assert_eq!((two.total, two.total_all_words), (2, Some(2)));
}

#[test]
fn a_near_spelling_that_was_not_looked_at_to_its_end_stands_for_nothing() {
    // More terms than are looked at in a small shelf.
    let words: Vec<String> = (0..4_000).map(|number| format!("w{number:05}")).collect();
    let office = Office { place: Memory::new(), opened: Opened::new() };
    office.change(|batch| {
        (0_i64..).zip(&words).try_for_each(|(key, word)| {
            batch.put(&Record::new(key).with("title", format!("{word} walnut")).with("notes", ""))
        })
    });
    let answer = office.find("wxlnut", &lenient().most_terms(0));
    let cut = answer.notes.contains(&Note::NotMended { word: "wxlnut".into() });
    assert!(cut || answer.total == 4_000, "{:?}", answer.notes);
    assert_eq!(answer.changed.is_empty(), cut);
}

#[test]
fn a_place_is_read_again_and_anything_else_is_refused() {
    let office = office();
    let last = office.find("walnut box of submarien", &lenient().limit(1)).last.unwrap();
    assert!(last.lenient.is_some());
    assert_eq!(last.to_string().parse::<nut_cellar_core::search::PagePlace>().unwrap(), last);
    let text = last.to_string();
    for cut in 0..text.len() {
        let _ = text[..cut].parse::<nut_cellar_core::search::PagePlace>();
    }
}

/// How many mistakes apart two words are, swaps of neighbours counted once.
fn distance(a: &str, b: &str) -> usize {
    let (a, b): (Vec<char>, Vec<char>) = (a.chars().collect(), b.chars().collect());
    let mut table = vec![vec![0; b.len() + 1]; a.len() + 1];
    for i in 0..=a.len() {
        for j in 0..=b.len() {
            table[i][j] = match (i, j) {
                (0, n) | (n, 0) => n,
                _ => {
                    let mut least = (table[i - 1][j - 1] + usize::from(a[i - 1] != b[j - 1]))
                        .min(table[i - 1][j] + 1)
                        .min(table[i][j - 1] + 1);
                    if i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1] {
                        least = least.min(table[i - 2][j - 2] + 1);
                    }
                    least
                }
            };
        }
    }
    table[a.len()][b.len()]
}

/// A part of a query as the rules make it.
#[derive(Clone, Debug)]
enum Part {
    Word(&'static str),
    Near(&'static str),
    Day(&'static str),
    Two(&'static str, String, String),
    One(&'static str, &'static str),
}

impl Part {
    fn matches(&self, item: &Item) -> bool {
        match self {
            Self::Word(word) => item.has(word),
            Self::Near(word) => {
                let allowed = match word.len() {
                    ..3 => 0,
                    3..8 => 1,
                    _ => 2,
                };
                item.title.iter().chain(&item.notes).any(|own| distance(word, own) <= allowed)
            }
            Self::Day(day) => item.has(day) || item.month.is_some_and(|month| month.starts_with(day)),
            Self::Two(word, first, second) => item.has(word) || item.has_phrase(first, second),
            Self::One(first, second) => {
                item.has(first) && item.has(second) || item.has(&format!("{first}{second}"))
            }
        }
    }

    fn query(&self) -> Query {
        match self {
            Self::Word(word) => Query::word(*word),
            Self::Near(word) => Query::near(*word),
            Self::Day(day) => Query::any([Query::word(*day), Query::word(*day).in_columns(["found_on"])]),
            Self::Two(word, first, second) => {
                Query::any([Query::word(*word), Query::phrase(format!("{first} {second}"))])
            }
            Self::One(first, second) => Query::any([
                Query::all([Query::word(*first), Query::word(*second)]),
                Query::word(format!("{first}{second}")),
            ]),
        }
    }
}

/// The rules, from the tables in which they are written, for words side by side.
fn mended(items: &[&Item], words: &[&'static str], enough: usize) -> Vec<Part> {
    let count = |part: &Part| items.iter().filter(|item| part.matches(item)).count();
    let has = |word: &str| items.iter().filter(|item| item.has(word)).count();
    let mut parts = Vec::new();
    let mut at = 0;
    while at < words.len() {
        let word = words[at];
        if let Some(&next) = words.get(at + 1)
            && word.chars().chain(next.chars()).all(char::is_alphabetic)
        {
            let both = items.iter().filter(|item| item.has(word) && item.has(next)).count();
            if has(&format!("{word}{next}")) > both {
                parts.push(Part::One(word, next));
                at += 2;
                continue;
            }
        }
        at += 1;
        let own = has(word);
        if own >= enough {
            parts.push(Part::Word(word));
            continue;
        }
        let is_day = word.starts_with("203");
        if own == 0 && is_day && count(&Part::Day(word)) > 0 {
            parts.push(Part::Day(word));
            continue;
        }
        let ways = (2..word.len().saturating_sub(1)).map(|cut| word.split_at(cut));
        let phrase = |(a, b): (&str, &str)| items.iter().filter(|item| item.has_phrase(a, b)).count();
        let best = ways.rev().max_by_key(|way| phrase(*way)).filter(|way| phrase(*way) > 0);
        if let Some((first, second)) = best.filter(|_| own == 0 && word.chars().all(char::is_alphabetic)) {
            parts.push(Part::Two(word, first.to_owned(), second.to_owned()));
            continue;
        }
        let more = count(&Part::Near(word)) - own;
        let near = !word.chars().any(char::is_numeric) && more > 0 && more >= 128 * own;
        parts.push(if near { Part::Near(word) } else { Part::Word(word) });
    }
    parts
}

/// Which parts may be missing without counting as missing.
fn little(items: &[&Item], parts: &[Part]) -> Vec<bool> {
    let idf = |part: &Part| {
        let matching = items.iter().filter(|item| part.matches(item)).count() as f64;
        (1.0 + (items.len() as f64 - matching + 0.5) / (matching + 0.5)).ln()
    };
    let idfs: Vec<f64> = parts.iter().map(idf).collect();
    let mean = idfs.iter().sum::<f64>() / idfs.len() as f64;
    idfs.iter().map(|idf| parts.len() > 1 && *idf < 0.25 * mean - 1e-6).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 120, ..ProptestConfig::default() })]

    #[test]
    fn a_lenient_search_is_what_the_rules_say(
        items in items(),
        gone in prop::collection::btree_set(0_usize..9, 0..3),
        words in prop::collection::vec(prop::sample::select(&TYPED[..]), 1..5),
        filtered: bool,
        limit in 1_usize..6,
        enough in 0_u64..8,
    ) {
        let mut seen = BTreeSet::new();
        let words: Vec<_> = words.into_iter().filter(|word| seen.insert(*word)).collect();
        let office = Office::of(&items, &gone);
        let mut find = lenient().limit(limit).enough(enough);
        if filtered {
            find = find.only(Filter::below("value", 3));
        }
        let enough = usize::try_from(enough).unwrap().max(limit);
        let live: Vec<_> = items.iter().filter(|item| !filtered || item.value < 3).collect();
        let query = Query::words(words.iter().map(|word| Query::word(*word)));
        let first = office.search(&query, &find);

        let all_typed = live.iter().filter(|item| words.iter().all(|word| item.has(word))).count();
        if all_typed >= enough {
            let strict = office.search(&query, &find.clone().strict());
            prop_assert_eq!(keys(&first), keys(&strict));
            prop_assert_eq!((first.total, first.total_all_words), (strict.total, Some(strict.total)));
            prop_assert!(first.changed.is_empty());
            return Ok(());
        }
        let parts = mended(&live, &words, enough);
        let changed = parts.iter().filter(|part| !matches!(part, Part::Word(_))).count();
        prop_assert_eq!(first.changed.len(), changed, "{:?} {:?}", parts, first.changed);
        let little = little(&live, &parts);
        let matching = |item: &Item| parts.iter().map(|part| part.matches(item)).collect::<Vec<_>>();
        let is_front = |item: &Item| matching(item).iter().zip(&little).all(|(has, little)| *has || *little);
        let is_any = |item: &Item| matching(item).contains(&true);
        let of = |test: &dyn Fn(&Item) -> bool| -> BTreeSet<i64> {
            let all = (0_i64..).zip(&items).filter(|(_, item)| !filtered || item.value < 3);
            all.filter(|(_, item)| test(item)).map(|(key, _)| key).collect()
        };
        let (front, any) = (of(&is_front), of(&is_any));
        prop_assert_eq!(first.total_all_words, Some(front.len() as u64), "{:?} {:?}", parts, little);
        let fewer = parts.len() > 1 && front.len() < enough;
        let total = if fewer { any.len() } else { front.len() };
        prop_assert_eq!(first.total, total as u64, "{:?}", parts);

        // The order: those in front, then the others, each by score.
        let text = Query::words(parts.iter().map(Part::query));
        let scored = office.search(&text, &find.clone().strict().words(Words::Any).limit(100));
        let ranked: Vec<i64> = keys(&scored);
        let in_front = ranked.iter().filter(|key| front.contains(key));
        let behind = ranked.iter().filter(|key| fewer && !front.contains(key));
        let expected: Vec<i64> = in_front.chain(behind).copied().collect();

        // All pages, each behind the place of the one before.
        let (mut paged, mut page) = (Vec::new(), first);
        loop {
            let before = paged.len();
            paged.extend(keys(&page));
            prop_assert!(paged.len() - before <= limit);
            let Some(last) = page.last.filter(|_| page.more) else { break };
            let after = last.to_string().parse().unwrap();
            page = office.search(&query, &find.clone().after(after));
            prop_assert_eq!(page.total, total as u64, "a page goes on as the one before");
        }
        prop_assert_eq!(&paged, &expected, "{:?}", parts);

        // By what is skipped, where as many are enough for each page.
        let deep = find.clone().enough(100).limit(limit);
        let whole = office.search(&query, &find.clone().enough(100).limit(100));
        let mut skipped = Vec::new();
        while skipped.len() < whole.hits.len() {
            let page = office.search(&query, &deep.clone().skip(skipped.len()));
            prop_assert!(page.hits.iter().map(|hit| hit.rank).eq((skipped.len() + 1..).take(page.hits.len())));
            prop_assert_eq!(page.more, skipped.len() + page.hits.len() < whole.hits.len());
            prop_assert!(!page.hits.is_empty());
            skipped.extend(keys(&page));
        }
        prop_assert_eq!(skipped, keys(&whole));

        // In another order all stand in that, and counts are the same.
        let by_value = find.clone().limit(100).enough(enough as u64).order(Order::Column { name: "value".into(), down: true });
        let by_value = office.search(&query, &by_value);
        let values: Vec<_> = by_value.hits.iter().map(|hit| hit.integer("value")).collect();
        prop_assert!(values.is_sorted_by(|a, b| a >= b));
        let few = office.search(&query, &find.total(Total::AtLeast(1)));
        prop_assert_eq!(few.total, (total as u64).min(1));
    }
}
