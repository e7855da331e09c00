//! Measures equal what their definitions say, tests of pairs claim nothing that is chance, and known items are asked for as they stand.
#![allow(
    clippy::unwrap_used,
    clippy::cast_possible_truncation,
    clippy::cast_possible_wrap,
    clippy::cast_sign_loss,
    clippy::float_cmp,
    reason = "a test fails by panicking, and its numbers are small, or exactly what they should be"
)]

use nut_cellar_core::judge::{
    Asked, Assessment, Judgments, Knob, Measure, Outcome, Paired, Run, Tuning, compare, known_items,
    read_queries, record_id, with_mistake,
};
use nut_cellar_core::schema::Ranking;
use nut_cellar_core::{
    Batch, Column, Find, Found, Key, Kind, Memory, Opened, Query, Record, Result, Schema, Search, Snapshot,
    Words, search,
};
use proptest::prelude::*;
use std::collections::BTreeSet;

/// A number from 0 to 1 that follows from others, as if drawn.
fn drawn(seed: u64, number: u64) -> f64 {
    let mut mixed = (seed << 32 ^ number).wrapping_add(1).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    ((mixed ^ (mixed >> 31)) >> 11) as f64 / (1_u64 << 53) as f64
}

/// The measures by definition, each rank by itself.
fn by_definition(measure: Measure, front: &[Option<i32>], all: &[i32]) -> f64 {
    let grade = |rank: usize| front.get(rank - 1).copied().flatten().unwrap_or(0);
    let right_until = |rank: usize| (1..=rank).filter(|rank| grade(*rank) > 0).count() as f64;
    let right = all.iter().filter(|grade| **grade > 0).count() as f64;
    if right == 0.0 {
        return 0.0;
    }
    let discounted = |grades: &[i32], k: usize| -> f64 {
        (1..=k)
            .map(|rank| {
                f64::from(grades.get(rank - 1).copied().unwrap_or(0).max(0)) / (rank as f64 + 1.0).log2()
            })
            .sum()
    };
    let normed = |grades: Vec<i32>, mut best: Vec<i32>, k: usize| {
        best.sort_unstable_by(|one, other| other.cmp(one));
        discounted(&grades, k) / discounted(&best, k)
    };
    let grades: Vec<i32> = (1..=front.len()).map(grade).collect();
    let binary = |grades: &[i32]| grades.iter().map(|grade| i32::from(*grade > 0)).collect::<Vec<_>>();
    match measure {
        Measure::ReciprocalRank(k) => {
            (1..=k).find(|rank| grade(*rank) > 0).map_or(0.0, |rank| 1.0 / rank as f64)
        }
        Measure::Precision(k) => right_until(k) / k as f64,
        Measure::Recall(k) => right_until(k) / right,
        Measure::AveragePrecision(k) => {
            (1..=k).filter(|rank| grade(*rank) > 0).map(|rank| right_until(rank) / rank as f64).sum::<f64>()
                / right
        }
        Measure::Ndcg(k) => normed(grades, all.to_vec(), k),
        Measure::BinaryNdcg(k) => normed(binary(&grades), binary(all), k),
        other => panic!("{other} has no definition here"),
    }
}

const NAMES: [&str; 6] = ["rr", "p", "recall", "map", "ndcg", "ndcg_binary"];

/// Worked by hand: grades 3, 2, not judged, 0, 1 in front; of a grade of 2 one more was not found.
#[test]
fn measures_are_those_worked_by_hand() {
    let (front, all) = ([Some(3), Some(2), None, Some(0), Some(1)], [0, 1, 2, 2, 3]);
    let log3 = 3.0_f64.log2();
    let gained = 3.0 + 2.0 / log3 + 1.0 / 6.0_f64.log2();
    let best = 3.0 + 2.0 / log3 + 2.0 / 2.0 + 1.0 / 5.0_f64.log2();
    for (name, expected) in [
        ("rr@10", 1.0),
        ("p@5", 0.6),
        ("p@10", 0.3),
        ("recall@5", 0.75),
        ("recall@2", 0.5),
        ("map@10", (1.0 + 1.0 + 3.0 / 5.0) / 4.0),
        ("ndcg@10", gained / best),
        ("ndcg@1", 1.0),
        ("ndcg_binary@2", 1.0),
    ] {
        let measure: Measure = name.parse().unwrap();
        assert!((measure.of(&front, &all) - expected).abs() < 1e-12, "{name}: {}", measure.of(&front, &all));
        assert_eq!(measure.to_string(), name);
    }
    assert_eq!(Measure::Ndcg(3).of(&front, &[0, -1]), 0.0, "nothing is right");
    for bad in ["ndcg", "ndcg@0", "f@10", "p@ten", ""] {
        assert!(bad.parse::<Measure>().unwrap_err().is_bad_request(), "{bad}");
    }
}

proptest! {
    #[test]
    fn measures_equal_their_definitions(
        front in prop::collection::vec(prop::option::of(-1..4), 0..12),
        others in prop::collection::vec(-1..4, 0..6),
        k in 1_usize..15,
        name in prop::sample::select(&NAMES[..]),
    ) {
        let all: Vec<i32> = front.iter().flatten().chain(&others).copied().collect();
        let measure: Measure = format!("{name}@{k}").parse().unwrap();
        let value = measure.of(&front, &all);
        prop_assert!((value - by_definition(measure, &front, &all)).abs() < 1e-9);
        prop_assert!((0.0..=1.0 + 1e-12).contains(&value));
    }

    #[test]
    fn files_come_back_as_they_were(
        lines in prop::collection::vec(("[0-9]{1,3}", "[a-zé/:-]{1,6}", -2..4), 0..20),
        found in prop::collection::vec(prop::collection::vec(-1e3_f32..1e3, 0..5), 0..4),
    ) {
        let mut judgments = Judgments::new();
        for (query, record, grade) in &lines {
            judgments.judge(query, record, *grade);
        }
        prop_assert_eq!(Judgments::read(&judgments.to_string()).unwrap(), judgments);
        let mut run = Run::new();
        for (query, scores) in found.iter().enumerate().filter(|(_, scores)| !scores.is_empty()) {
            let records = scores.iter().enumerate().map(|(place, score)| (format!("r{place}"), *score));
            run.found(query.to_string(), records.collect());
        }
        prop_assert_eq!(Run::read(&run.named("plain").to_string()).unwrap(), run);
    }

    /// The lines of a run stand in any order; the ranks count.
    #[test]
    fn a_test_of_pairs_is_the_same_both_ways_round(pairs in prop::collection::vec((0.0..1.0, 0.0..1.0), 0..30), seed: u64) {
        let swapped: Vec<_> = pairs.iter().map(|(first, second)| (*second, *first)).collect();
        let (one, other) = (Paired::of(&pairs, seed), Paired::of(&swapped, seed));
        prop_assert!((one.difference + other.difference).abs() < 1e-12 && (one.effect + other.effect).abs() < 1e-9);
        prop_assert!((one.p_value - other.p_value).abs() < 1e-9);
        prop_assert!(one.p_value > 0.0 && one.p_value <= 1.0);
    }
}

#[test]
fn what_is_no_judgment_run_or_query_is_refused_with_its_line() {
    let says = |result: Result<()>, line: &str| {
        let error = result.unwrap_err();
        assert!(error.is_bad_request() && error.to_string().starts_with(line), "{error}");
    };
    says(Judgments::read("1 0 a 1\n\n1 0 b\n").map(drop), "line 3: ");
    says(Judgments::read("1 0 a one\n").map(drop), "line 1: ");
    says(Judgments::read("1 0 a 1 2\n").map(drop), "line 1: ");
    says(Run::read("1 Q0 a 1 0.5 x\n1 Q0 a first 0.5 x\n").map(drop), "line 2: ");
    says(Run::read("1 Q0 a 1\n").map(drop), "line 1: ");
    says(read_queries("1\toak\n1\telm\n").map(drop), "line 2: ");
    says(read_queries("1\t \n").map(drop), "line 1: ");
    // Without numbers, and with a tab inside the query.
    let queries = read_queries("walnut box\n\nwalnut box\tbrass\n").unwrap();
    let told: Vec<_> = queries.iter().map(|asked| (asked.id.as_str(), asked.text.as_str())).collect();
    assert_eq!(told, [("1", "walnut box"), ("3", "walnut box\tbrass")]);
    assert_eq!(Judgments::read("1 0 a 0\n1 0 a 2\n").unwrap().grade("1", "a"), Some(2), "the last counts");
    assert_eq!(record_id(&Key::from("100 %\u{a0}x")), "100%20%25%C2%A0x");
}

#[test]
fn a_run_is_judged_by_query_and_in_the_mean_and_what_is_missing_is_told() {
    let judgments = Judgments::read("1 0 a 1\n1 0 b 0\n2 0 a 2\n2 0 c 1\n3 0 a 0\n9 0 a 1\n").unwrap();
    let asked = read_queries("1\toak\n2\telm\n3\tash\n4\tyew\n").unwrap();
    let mut first = Run::new();
    first.found("1", vec![("b".into(), 2.0), ("a".into(), 2.0), ("x".into(), 1.0)]);
    first.found("2", vec![("a".into(), 3.0)]);
    let measures = [Measure::ReciprocalRank(10), Measure::Recall(10)];
    let one = Assessment::of(&first, &asked, &judgments, &measures);
    assert_eq!(
        (one.without_right.as_slice(), one.not_asked.as_slice()),
        (&["3".to_owned(), "4".into()][..], &["9".to_owned()][..])
    );
    assert_eq!(
        one.queries.iter().map(|query| query.values.clone()).collect::<Vec<_>>(),
        [[0.5, 1.0], [1.0, 0.5]]
    );
    assert_eq!((one.mean(0), one.mean(1), one.unjudged(), one.tied()), (0.75, 0.75, 1, 1));

    let mut second = Run::new();
    second.found("1", vec![("a".into(), 2.0)]);
    second.found("2", vec![]);
    let other = Assessment::of(&second, &asked, &judgments, &measures);
    let compared = compare((&first, &one), (&second, &other), &judgments, 0, 1);
    assert_eq!(compared.paired.difference, (0.5 - 1.0) / 2.0);
    let told: Vec<_> =
        compared.queries.iter().map(|query| (query.text.as_str(), query.moved.clone())).collect();
    assert_eq!(
        told,
        [("oak", vec![("a".to_owned(), Some(2), Some(1))]), ("elm", vec![("a".to_owned(), Some(1), None)])]
    );
    assert_eq!(Assessment::of(&Run::new(), &[], &judgments, &measures).mean(0), 0.0);
}

/// Where nothing differs, p-values are spread evenly: a share of about 0.05 is below 0.05, and so on.
#[test]
fn p_values_are_uniform_where_nothing_differs() {
    for (count, trials) in [(12_u64, 400_u64), (40, 100)] {
        let p_values: Vec<f64> = (0..trials)
            .map(|trial| {
                let pairs: Vec<_> =
                    (0..count).map(|pair| (drawn(trial, pair * 2), drawn(trial, pair * 2 + 1))).collect();
                Paired::of(&pairs, trial).p_value
            })
            .collect();
        for share in [0.05, 0.2, 0.5, 0.8] {
            let below = p_values.iter().filter(|p| **p <= share).count() as f64 / trials as f64;
            let deviation = (share * (1.0 - share) / trials as f64).sqrt();
            assert!(
                (below - share).abs() < 4.0 * deviation + 1.0 / 1024.0,
                "{count} pairs, {share}: {below}"
            );
        }
    }
    // And where something does, they are small.
    let pairs: Vec<_> = (0..40).map(|pair| (drawn(1, pair), drawn(1, pair) + drawn(2, pair))).collect();
    assert!(Paired::of(&pairs, 1).p_value < 1e-4);
    assert_eq!(Paired::of(&[(0.5, 0.5)], 1).p_value, 1.0);
}

fn cellar(records: u64) -> (Memory, Snapshot) {
    let schema = Schema::new("id")
        .with("title", Column::text("en"))
        .with("notes", Column::text("en"))
        .with("kept_elsewhere", Column::text("en").not_kept())
        .with("value", Column::of(Kind::Integer));
    let place = Memory::new();
    let mut unit = place.unit();
    let opened = Opened::new();
    let mut batch = Batch::new(&mut unit, &opened, &schema).unwrap();
    for id in 0..records {
        let title = format!("Item no{id} \"OR\" -box");
        batch.put(&Record::new(id as i64).with("title", title).with("notes", format!("of no{id}"))).unwrap();
    }
    batch.publish().unwrap();
    unit.commit().unwrap();
    let snapshot = Snapshot::open(&place.view(), &Opened::new()).unwrap();
    (place, snapshot)
}

fn find_in(place: &Memory, query: &Query, find: &Find) -> Result<Found> {
    let snapshot = Snapshot::open(&place.view(), &Opened::new())?;
    search::run(&place.view(), &mut Search::new(snapshot, query, find)?)
}

#[test]
fn known_items_are_drawn_from_all_records_and_asked_for_by_their_words() {
    for (records, wanted) in [(0_u64, 5), (3, 5), (100, 100), (1_000, 40)] {
        let (place, snapshot) = cellar(records);
        let mut searches = 0;
        let items = known_items(snapshot.schema(), "title", wanted, 7, |query, find| {
            searches += 1;
            find_in(&place, query, find)
        })
        .unwrap();
        assert_eq!(items.len() as u64, records.min(wanted as u64));
        assert!(searches <= wanted + 2);
        let keys: BTreeSet<_> = items.iter().map(|item| item.record.clone()).collect();
        assert_eq!(keys.len(), items.len(), "each once");
        for item in &items {
            assert_eq!(item.text, format!("item no{} or box", item.record));
            let Query::Words(words) = Query::read(&item.text).query else { panic!("{}", item.text) };
            assert_eq!(words.len(), 4, "no word is an operator");
        }
        if records == 1_000 {
            // Of each share one: none of them is empty.
            let shares: BTreeSet<_> =
                items.iter().map(|item| item.record.to_string().parse::<u64>().unwrap() / 100).collect();
            assert_eq!(shares.len(), 10);
            let find = Find::new().columns(["notes"]).words(Words::Any);
            let found = find_in(&place, &Query::read(&items[0].text).query, &find).unwrap();
            assert_eq!(found.hits[0].key, items[0].record);
        }
        for column in ["kept_elsewhere", "colour"] {
            let refused = known_items(snapshot.schema(), column, 1, 1, |_, _| panic!("nothing is asked"));
            assert!(refused.unwrap_err().is_bad_request());
        }
    }
}

/// The distance of Damerau and Levenshtein in which no stretch is edited twice, by its definition.
fn distance(one: &[char], other: &[char]) -> usize {
    match (one, other) {
        ([], rest) | (rest, []) => rest.len(),
        ([a, one_rest @ ..], [b, other_rest @ ..]) => {
            let mut least = (distance(one_rest, other_rest) + usize::from(a != b))
                .min(distance(one_rest, other) + 1)
                .min(distance(one, other_rest) + 1);
            if let ([a, b, one_rest @ ..], [c, d, other_rest @ ..]) = (one, other)
                && (a, b) == (d, c)
            {
                least = least.min(distance(one_rest, other_rest) + 1);
            }
            least
        }
    }
}

proptest! {
    #[test]
    fn a_mistake_is_one_and_spares_short_words_and_first_letters(word in "[a-zé]{4,7}", short in "[a-z]{1,3}", seed: u64) {
        let text = format!("{short} {word}");
        let made = with_mistake(&text, seed);
        let (before, mistyped) = made.split_once(' ').unwrap();
        prop_assert_eq!(before, short.as_str());
        let letters = |text: &str| text.chars().collect::<Vec<_>>();
        prop_assert_eq!(distance(&letters(&word), &letters(mistyped)), 1, "{} {}", word, mistyped);
        let asked = [Asked { id: "1".into(), text: made }];
        prop_assert_eq!(asked[0].text.split(' ').count(), 2);
    }
}

fn tuned(
    knobs: &[&str],
    queries: usize,
    seed: u64,
    mut worth: impl FnMut(&Ranking, usize) -> f64,
) -> Outcome {
    let schema =
        Schema::new("id").with("title", Column::text("en").weighing(3.0)).with("notes", Column::text("en"));
    let knobs = knobs.iter().map(|knob| Knob::read(knob, &schema).unwrap()).collect();
    let mut tuning = Tuning::over(knobs);
    tuning.seed = seed;
    let each = |ranking: &Ranking| Ok((0..queries).map(|query| worth(ranking, query)).collect());
    tuning.run(&Ranking::default(), &schema, each, |_| true).unwrap()
}

/// Each query is worth the more the nearer the numbers are to planted ones, besides what chance gives and takes.
#[test]
fn tuning_finds_planted_numbers() {
    let log = |value: f32| f64::from(value.max(1e-3)).ln();
    let outcome = tuned(&["title", "notes", "k1", "b:notes", "proximity"], 60, 3, |ranking, query| {
        let notes = ranking.weights.get("notes").copied().unwrap_or(1.0);
        let title = ranking.weights.get("title").copied().unwrap_or(3.0);
        let far = (log(title) - log(8.0)).powi(2)
            + (log(notes) - log(0.5)).powi(2)
            + (log(ranking.k1.unwrap_or(1.2)) - log(0.7)).powi(2)
            + f64::from(ranking.b.of("notes").unwrap_or(0.75) - 0.2).powi(2)
            + f64::from(ranking.proximity.unwrap_or(0.0) - 0.4).powi(2);
        0.5 - 0.05 * far + 0.1 * drawn(query as u64, 1)
    });
    let near = |value: f32, planted: f32| (value / planted).ln().abs() < 0.15;
    let ranking = &outcome.ranking;
    assert!(near(ranking.weights["title"], 8.0) && near(ranking.weights["notes"], 0.5), "{ranking:?}");
    assert!(near(ranking.k1.unwrap(), 0.7) && near(ranking.proximity.unwrap(), 0.4), "{ranking:?}");
    assert!(
        (ranking.b.of("notes").unwrap() - 0.2).abs() < 0.05 && ranking.b.of("title").is_none(),
        "{ranking:?}"
    );
    assert!(outcome.is_gain() && outcome.after > outcome.before && !outcome.ended, "{outcome:?}");
}

/// Where a query is worth what chance gives, whatever the ranking, what was chosen is no gain on queries that it was not chosen by.
#[test]
fn tuning_does_not_call_noise_a_gain() {
    let mut gains = 0;
    for seed in 0..40 {
        let outcome = tuned(&["title", "k1"], 30, seed, |ranking, query| {
            let bits = u64::from(ranking.k1.unwrap_or(1.2).to_bits()) << 20
                ^ u64::from(ranking.weights.get("title").copied().unwrap_or(3.0).to_bits());
            drawn(bits, seed << 8 | query as u64)
        });
        gains += u32::from(outcome.is_gain());
    }
    // By chance one of forty is, for half of those below 0.05 are losses.
    assert!(gains <= 4, "{gains} of 40");
}

#[test]
fn tuning_ends_when_it_is_told_to_and_refuses_what_can_not_be() {
    let schema = Schema::new("id").with("title", Column::text("en"));
    let tuning =
        |knobs: &[&str]| Tuning::over(knobs.iter().map(|knob| Knob::read(knob, &schema).unwrap()).collect());
    let worth =
        |queries: usize| move |ranking: &Ranking| Ok(vec![f64::from(ranking.k1.unwrap_or(1.2)); queries]);
    let start = Ranking::default();
    let outcome = tuning(&["k1"]).run(&start, &schema, worth(9), |far| far.tried < 3).unwrap();
    assert!(outcome.ended && outcome.tried == 3, "{outcome:?}");
    assert!(outcome.after >= outcome.before);
    // At most 10 is a k1, and more is worth more here.
    assert_eq!(tuning(&["k1"]).run(&start, &schema, worth(9), |_| true).unwrap().ranking.k1, Some(10.0));
    for (knobs, queries) in [(&[][..], 9), (&["k1"][..], 4)] {
        assert!(tuning(knobs).run(&start, &schema, worth(queries), |_| true).unwrap_err().is_bad_request());
    }
    for wrong in ["k2", "b:colour", "notes", ""] {
        assert!(Knob::read(wrong, &schema).unwrap_err().is_bad_request(), "{wrong}");
    }
}
