//! Terms by pattern against plain lists: any history of writes, any number of shelves, any limit.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use nut_cellar_core::text::{Pattern, accepts};
use nut_cellar_core::{Batch, Column, Key, Memory, Merging, Opened, Record, Schema, Snapshot};
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::num::NonZero;

fn schema() -> Schema {
    Schema::new("id").with("title", Column::text("none")).with("notes", Column::text("none"))
}

/// For each term that fits how many records have it.
fn expected(live: &BTreeMap<Key, Record>, pattern: &Pattern) -> Vec<(String, u64)> {
    let mut counts = BTreeMap::<String, u64>::new();
    for record in live.values() {
        let texts = record.columns().flat_map(|(_, values)| values).filter_map(|value| value.as_text());
        let words: BTreeSet<_> = texts.flat_map(str::split_whitespace).collect();
        for word in words.into_iter().filter(|word| accepts(pattern, word)) {
            *counts.entry(word.to_owned()).or_default() += 1;
        }
    }
    counts.into_iter().collect()
}

#[derive(Clone, Debug)]
enum Step {
    Put(i64, String, String),
    Remove(i64),
    Publish(Merging),
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let text = || prop::collection::vec("[abo]{1,4}", 0..5).prop_map(|words| words.join(" "));
    let step = prop_oneof![
        6 => (0_i64..20, text(), text()).prop_map(|(key, title, notes)| Step::Put(key, title, notes)),
        2 => (0_i64..20).prop_map(Step::Remove),
        1 => prop::sample::select(&[Merging::Never, Merging::Whole][..]).prop_map(Step::Publish),
    ];
    prop::collection::vec(step, 1..60)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, ..ProptestConfig::default() })]

    #[test]
    fn every_history_has_the_terms_of_its_records(
        steps in steps(),
        patterns in prop::collection::vec(
            prop_oneof!["[abo*?]{1,4}", "\\*[abo]{1,3}", "\\*[abo]{1,3}\\*", "[abo]{1,2}\\*", Just("*".to_owned())],
            1..6,
        ),
        most in prop_oneof![Just(usize::MAX), 0_usize..9],
    ) {
        let (place, opened) = (Memory::new(), Opened::new());
        let mut live = BTreeMap::new();
        for chunk in steps.split_inclusive(|step| matches!(step, Step::Publish(_))) {
            let mut unit = place.unit();
            let mut batch = Batch::new(&mut unit, &opened, &schema()).unwrap();
            batch.set_merging(Merging::Never);
            for step in chunk {
                match step {
                    Step::Put(key, title, notes) => {
                        let record = Record::new(*key).with("title", title.as_str()).with("notes", notes.as_str());
                        batch.put(&record).unwrap();
                        live.insert(record.key.clone(), record);
                    }
                    Step::Remove(key) => {
                        batch.remove(&(*key).into()).unwrap();
                        live.remove(&(*key).into());
                    }
                    Step::Publish(merging) => batch.set_merging(*merging),
                }
            }
            batch.publish().unwrap();
            unit.commit().unwrap();
        }
        let view = place.view();
        let snapshot = Snapshot::open(&view, &opened).unwrap();
        for pattern in patterns {
            let pattern = Pattern::new(&pattern).unwrap();
            let found = snapshot.terms(&view, &pattern, most).unwrap();
            let mut right = expected(&live, &pattern);
            prop_assert_eq!(found.more, right.len() > most, "{}", pattern);
            right.truncate(most);
            let terms: Vec<_> = found.terms.into_iter().map(|one| (one.term, one.records)).collect();
            prop_assert_eq!(terms, right, "{}", pattern);
        }
    }
}

/// What is looked at grows with what is found, in a dictionary of many terms.
#[test]
fn an_ending_looks_at_few_terms() {
    let consonants = ["b", "d", "f", "g", "k", "l", "m", "n", "p", "r", "s", "t"];
    let vowels = ["a", "e", "i", "o", "u"];
    let word = |n: usize| {
        let letters: [(&[&str], usize); 6] = [
            (&consonants, 1),
            (&vowels, 12),
            (&consonants, 60),
            (&vowels, 720),
            (&consonants, 3_600),
            (&vowels, 43_200),
        ];
        letters.iter().map(|(from, step)| from[n / step % from.len()]).collect::<String>()
    };
    let (place, opened) = (Memory::new(), Opened::new());
    let mut unit = place.unit();
    let mut batch = Batch::new(&mut unit, &opened, &schema()).unwrap();
    batch.set_threads(NonZero::new(2).unwrap()).unwrap();
    let records = (0_i64..400).zip((0..).step_by(100)).map(|(key, first)| {
        let words: Vec<_> = (first..first + 100).map(word).collect();
        Record::new(key).with("title", words.join(" "))
    });
    batch.put_all(records).unwrap();
    // Few terms have these letters.
    batch
        .put(&Record::new(1_000).with("title", "umbrella quagella zyzzyva").with("notes", "umbrella"))
        .unwrap();
    batch.publish().unwrap();
    unit.commit().unwrap();
    let view = place.view();
    let snapshot = Snapshot::open(&view, &opened).unwrap();
    let terms = |pattern: &str| snapshot.terms(&view, &Pattern::new(pattern).unwrap(), usize::MAX).unwrap();
    let all = terms("*");
    assert_eq!((all.terms.len() as u64, all.visited), (40_003, 40_003));
    for (pattern, found) in
        [("*ella", 2), ("*brella", 1), ("*zyz*", 1), ("um?rel*a", 1), ("quag*", 1), ("*lla*", 2)]
    {
        let terms = terms(pattern);
        assert_eq!(terms.terms.len(), found, "{pattern}");
        assert!(terms.visited <= 512, "{pattern}: {} looked at", terms.visited);
    }
    // Endings that many have.
    let many = terms("*dofa");
    assert!(
        !many.terms.is_empty() && many.visited <= 64 * many.terms.len() as u64,
        "{} of {}",
        many.terms.len(),
        many.visited
    );
}
