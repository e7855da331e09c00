//! The place makes no difference: the same records, written in whatever batches to memory, to a folder and to a table,
//! are found in the same order with the same scores, to the last bit.
#![allow(
    clippy::unwrap_used,
    clippy::cast_possible_truncation,
    clippy::cast_possible_wrap,
    clippy::cast_sign_loss,
    reason = "a test fails by panicking, and its numbers are small"
)]

mod support;

use nut_cellar::sqlite::SqliteCellar;
use nut_cellar::{Cellar, Column, Find, Folder, Found, Kind, Memory, Record, Schema, Words};
use rusqlite::Connection;
use std::collections::BTreeMap;
use support::Dice;

const WORDS: [&str; 10] = ["oak", "oaks", "elm", "box", "boxes", "brass", "handle", "e-mail", "café", "傘"];

fn schema() -> Schema {
    Schema::new("id")
        .with("title", Column::text("en").weighing(3.0))
        .with("notes", Column::text("fr"))
        .with("value", Column::of(Kind::Integer))
}

type Row = (String, Option<String>, i64);

fn record(id: i64, (title, notes, value): &Row) -> Record {
    let record = Record::new(id).with("title", title.as_str()).with("value", *value);
    match notes {
        Some(notes) => record.with("notes", notes.as_str()),
        None => record,
    }
}

/// The same cellar in three places.
struct Three {
    memory: Cellar<Memory>,
    folder: Cellar<Folder>,
    table: (Connection, SqliteCellar),
    rows: BTreeMap<i64, Row>,
    _path: tempfile::TempDir,
}

impl Three {
    fn new() -> Self {
        let path = tempfile::tempdir().unwrap();
        let db = Connection::open_in_memory().unwrap();
        db.execute_batch("CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, notes TEXT, value INTEGER)")
            .unwrap();
        let table = SqliteCellar::adopt(&db, "items", &schema()).unwrap();
        Self {
            memory: Cellar::in_memory(schema()).unwrap(),
            folder: Cellar::create_in(path.path().join("shed"), schema()).unwrap(),
            table: (db, table),
            rows: BTreeMap::new(),
            _path: path,
        }
    }

    /// One batch of changes: a row, or none where it goes. Each place gets it in its own way.
    fn change(&mut self, changes: &[(i64, Option<Row>)], budget: usize) {
        let work = |batch: &mut nut_cellar::Batch<'_>| {
            batch.set_budget(budget);
            changes.iter().try_for_each(|(id, row)| match row {
                Some(row) => batch.put(&record(*id, row)),
                None => batch.remove(&(*id).into()),
            })
        };
        self.memory.publish(work).unwrap();
        // The folder gets the same in two batches.
        let (first, second) = changes.split_at(changes.len() / 2);
        for part in [first, second] {
            let work = |batch: &mut nut_cellar::Batch<'_>| {
                part.iter().try_for_each(|(id, row)| match row {
                    Some(row) => batch.put(&record(*id, row)),
                    None => batch.remove(&(*id).into()),
                })
            };
            self.folder.publish(work).unwrap();
        }
        for (id, row) in changes {
            if let Some((title, notes, value)) = row {
                let sql = "INSERT OR REPLACE INTO items VALUES (?1, ?2, ?3, ?4)";
                self.table.0.execute(sql, (id, title, notes, value)).unwrap();
                self.rows.insert(*id, (title.clone(), notes.clone(), *value));
            } else {
                self.table.0.execute("DELETE FROM items WHERE id = ?1", [id]).unwrap();
                self.rows.remove(id);
            }
        }
    }

    fn find(&self, query: &str, find: &Find) -> [Found; 4] {
        let fresh = Cellar::in_memory(schema()).unwrap();
        fresh
            .publish(|batch| self.rows.iter().try_for_each(|(id, row)| batch.put(&record(*id, row))))
            .unwrap();
        [
            fresh.find(query, find).unwrap(),
            self.memory.find(query, find).unwrap(),
            self.folder.find(query, find).unwrap(),
            self.table.1.find(&self.table.0, query, find).unwrap(),
        ]
    }
}

fn text(dice: &mut Dice) -> String {
    let words: Vec<_> = (0..dice.roll(7)).map(|_| dice.pick(&WORDS)).collect();
    words.join(" ")
}

#[test]
fn three_places_and_a_fresh_cellar_find_the_same() {
    for seed in 1..8 {
        let mut dice = Dice(seed * 0x9e37_79b9);
        let mut three = Three::new();
        for round in 0..25 {
            let changes: Vec<_> = (0..dice.roll(9))
                .map(|_| {
                    let notes = (dice.roll(3) > 0).then(|| text(&mut dice));
                    let row = (text(&mut dice), notes, dice.roll(100) as i64);
                    (dice.roll(25) as i64, (dice.roll(4) > 0).then_some(row))
                })
                .collect();
            let budget = dice.pick(&[0, 2_000, usize::MAX]);
            three.change(&changes, budget);
            if dice.roll(4) == 0 {
                three.table.1.sync(&three.table.0).unwrap();
            }
            for _ in 0..3 {
                let query = format!("{} \"{}\"", text(&mut dice), text(&mut dice));
                let find = Find::new().words(dice.pick(&[Words::All, Words::Any, Words::AtLeast(2)]));
                let find = if dice.roll(3) == 0 { find.exact_forms() } else { find.weight("notes", 0.5) };
                let [fresh, others @ ..] = three.find(&query, &find.limit(30));
                for found in others {
                    assert_eq!(found, fresh, "seed {seed}, round {round}: {query}");
                    let bits =
                        |found: &Found| found.hits.iter().map(|hit| hit.score.to_bits()).collect::<Vec<_>>();
                    assert_eq!(bits(&found), bits(&fresh));
                }
            }
        }
        assert_eq!(three.memory.info().unwrap().records, three.rows.len() as u64);
        assert_eq!(three.folder.info().unwrap().records, three.rows.len() as u64);
    }
}

#[test]
fn what_there_is_to_know_is_counted() {
    let mut three = Three::new();
    three.change(
        &[(1, Some(("oak box".into(), None, 1))), (2, Some(("elm".into(), Some("café".into()), 2)))],
        usize::MAX,
    );
    let info = three.memory.info().unwrap();
    assert_eq!((info.records, info.tally.terms, info.shelves, info.pending), (2, 4, 1, None));
    let total: u64 = info.bytes.iter().map(|(_, bytes)| bytes).sum();
    assert!(
        total > 200 && info.bytes.iter().any(|(section, bytes)| section == "terms" && *bytes > 0),
        "{info:?}"
    );
    let of_table = three.table.1.info(&three.table.0).unwrap();
    assert_eq!((of_table.records, of_table.pending), (0, Some(2)), "nothing is on a shelf yet");
    three.table.1.sync(&three.table.0).unwrap();
    let of_table = three.table.1.info(&three.table.0).unwrap();
    assert_eq!((of_table.records, of_table.tally.terms, of_table.pending), (2, 4, Some(0)));
}

/// What a `Cellar` gives of its schema and marks is what its parts give.
#[test]
fn a_cellar_marks_what_it_finds() {
    let mut three = Three::new();
    three.change(&[(1, Some(("Oaks & boxes".into(), None, 1)))], usize::MAX);
    let marks = nut_cellar::Marks::new("<i>", "</i>").escaping_html();
    for highlighter in [
        three.memory.highlighter("oak", &Find::new()).unwrap(),
        three.folder.highlighter("title:oak", &Find::new()).unwrap(),
        three.table.1.highlighter("oak", &Find::new()).unwrap(),
    ] {
        assert_eq!(highlighter.mark("title", "Oaks & boxes", &marks).unwrap(), "<i>Oaks</i> &amp; boxes");
    }
    let exact = three.memory.highlighter("oak", &Find::new().exact_forms()).unwrap();
    assert_eq!(exact.mark("title", "Oaks, oak", &marks).unwrap(), "Oaks, <i>oak</i>");
    assert_eq!(three.memory.schema(), three.table.1.schema());
}
