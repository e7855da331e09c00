//! What is known of the postings of a word that score best changes no answer, however little it is: beside a walk through all records of
//! a shelf of which nothing is known.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use nut_cellar_core::search::{Executor, Hit, Total};
use nut_cellar_core::{
    Batch, Column, Filter, Find, Kind, Memory, Merging, Opened, Query, Record, Schema, Search, Snapshot,
    search,
};
use std::num::NonZero;

const RECORDS: i64 = 3_000;

fn mixed(number: i64) -> u64 {
    let number = number.cast_unsigned().wrapping_mul(0x9e37_79b9_7f4a_7c15);
    (number ^ number >> 29).wrapping_mul(0xbf58_476d_1ce4_e5b9) >> 32
}

/// Texts of a few lengths, in which a word stands once to three times, or other forms of it: many of them score the same.
fn text(number: i64) -> String {
    let roll = mixed(number);
    // Alone in a title, quinces all score the same.
    if number < RECORDS && roll.is_multiple_of(11) {
        return "quince".to_owned();
    }
    let word = ["oak", "box", "boxes", "elm"][(roll % 4) as usize];
    let other = ["boxes", "box", "ash", "oak"][(roll / 4 % 4) as usize];
    let rest = ["", "fir", "fir yew", "fir yew pear plum"][(roll / 16 % 4) as usize];
    format!("{} {other} {rest}", [word, ""].join(" ").repeat((roll / 64 % 3) as usize))
}

/// Shelves of which every seventh record is removed again.
fn place() -> Memory {
    let schema = Schema::new("id")
        .with("title", Column::text("en").weighing(3.0))
        .with("notes", Column::text("en"))
        .with("part", Column::of(Kind::Integer));
    let (place, opened) = (Memory::new(), Opened::new());
    let publish = |work: &dyn Fn(&mut Batch<'_>)| {
        let mut unit = place.unit();
        let mut batch = Batch::new(&mut unit, &opened, &schema).unwrap();
        batch.set_merging(Merging::Never);
        work(&mut batch);
        batch.publish().unwrap();
        unit.commit().unwrap();
    };
    for ids in [0..RECORDS / 3, RECORDS / 3..RECORDS] {
        publish(&|batch| {
            for id in ids.clone() {
                let record = Record::new(id).with("title", text(id)).with("notes", text(id + RECORDS));
                batch.put(&record.with("part", id % 50)).unwrap();
            }
        });
    }
    publish(&|batch| (0..RECORDS / 7).for_each(|id| batch.remove(&(id * 7).into()).unwrap()));
    place
}

#[test]
fn what_is_known_of_the_best_postings_changes_no_answer() {
    let place = place();
    let view = place.view();
    let hits = |snapshot: &Snapshot, query: &Query, find: &Find| -> Vec<Hit> {
        search::run(&view, &mut Search::new(snapshot.clone(), query, find).unwrap()).unwrap().hits
    };
    let find = || Find::new().total(Total::AtLeast(0));
    let asked = [
        find(),
        find().limit(1),
        find().limit(70).skip(3),
        find().only(Filter::below("part", 25)),
        find().only(Filter::below("part", 3)).limit(4),
        find().only(Filter::equal("part", 7)),
        find().weight("notes", 2.5),
        find().columns(["notes"]),
        find().exact_forms(),
        find().k1(0.3).b(0.2),
        // All score the same, however they are ordered by what is known.
        find().k1(0.0).limit(2),
        find().k1(0.0).only(Filter::below("part", 25)),
    ];
    for best in [1, 5, 40, 700] {
        let snapshot = Snapshot::open(&view, &Opened::new()).unwrap();
        for query in ["oak", "~oaak", "box", "boxes", "fir", "quince"].map(|text| Query::read(text).query) {
            for find in &asked {
                let fresh = Snapshot::open(&view, &Opened::new()).unwrap();
                let right = hits(&fresh, &query, &find.clone().executor(Executor::Walk));
                assert!(!right.is_empty() || query == Query::word("quince"), "{query}");
                let known = find.clone().front_of(best, 0);
                for threads in [1, 1, 1, 3] {
                    let known = known.clone().threads(NonZero::new(threads).unwrap()).long_from(0);
                    assert_eq!(
                        hits(&snapshot, &query, &known),
                        right,
                        "{query} by the {best} best, {find:?}"
                    );
                }
            }
        }
    }
}
