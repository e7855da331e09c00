//! The power goes after any operation of a long run of batches: the cellar that is opened then holds the batches whose
//! commit returned, and at most the one that was under way, whole. The disk is full: nothing is lost, and it goes on when
//! there is room.
#![allow(
    clippy::unwrap_used,
    clippy::cast_possible_truncation,
    clippy::cast_possible_wrap,
    clippy::cast_sign_loss,
    reason = "a test fails by panicking, and its numbers are small"
)]

#[path = "support/disk.rs"]
mod disk;

use disk::{Dice, Replay, TestDisk};
use nut_cellar::{
    Cellar, Column, Durability, ErrorKind, Find, Folder, Merging, Place, Record, Result, Schema,
};
use std::collections::BTreeMap;
use std::sync::Arc;

/// The power goes at least so often.
const CUTS: usize = 10_000;

fn schema() -> Schema {
    Schema::new("id").with("title", Column::text("en"))
}

fn folder(disk: &TestDisk) -> Folder {
    Folder::on(Arc::new(disk.clone()), "/office/shed.cellar")
}

/// The records of a state, by key.
type Model = BTreeMap<i64, String>;

/// Puts, replaces and removes a few records, and says which batch it was.
fn publish<P: Place>(cellar: &Cellar<P>, number: usize, dice: &mut Dice, model: &mut Model) -> Result<()> {
    let words = ["oak", "elm", "brass", "box", "handle", "umbrellas"];
    let mut next = model.clone();
    cellar.publish(|batch| {
        for _ in 0..=dice.below(4) {
            let key = dice.below(40) as i64;
            if dice.below(4) == 0 {
                batch.remove(&key.into())?;
                next.remove(&key);
            } else {
                let title: Vec<_> = (0..=dice.below(4)).map(|_| words[dice.below(6) as usize]).collect();
                batch.put(&Record::new(key).with("title", title.join(" ")))?;
                next.insert(key, title.join(" "));
            }
        }
        if dice.below(12) == 0 {
            batch.set_merging(Merging::Whole);
        }
        batch.set_bookmark(number.to_le_bytes())
    })?;
    *model = next;
    Ok(())
}

/// Which batch the cellar on a disk has seen last, once everything in it has been found to be right.
fn state_of(disk: &TestDisk, models: &[Model]) -> usize {
    let cellar = Cellar::open(folder(disk)).unwrap();
    cellar.check().unwrap();
    let number =
        cellar.bookmark().unwrap().map_or(0, |bytes| usize::from_le_bytes(bytes.try_into().unwrap()));
    let model = &models[number];
    let found = cellar
        .find("box OR oak elm brass handle umbrella", &Find::new().words(nut_cellar::Words::Any).limit(99));
    let found = found.unwrap();
    let titles: Model = found
        .hits
        .iter()
        .map(|hit| (hit.key.to_string().parse().unwrap(), hit.values["title"][0].to_string()))
        .collect();
    assert_eq!(&titles, model, "batch {number}");
    number
}

#[test]
fn whenever_the_power_goes_no_committed_batch_is_lost() {
    cut_the_power(Durability::Full, CUTS / 2, 7);
}

/// Another history, beside that one on another processor.
#[test]
fn whenever_the_power_goes_another_time_no_committed_batch_is_lost() {
    cut_the_power(Durability::Full, CUTS / 2, 11);
}

#[test]
fn relaxed_batches_may_be_lost_and_never_a_part_of_one() {
    cut_the_power(Durability::Relaxed, CUTS / 4, 7);
}

fn cut_the_power(durability: Durability, wanted: usize, seed: u64) {
    let disk = TestDisk::default();
    let cellar = Cellar::create(folder(&disk).with_durability(durability), schema()).unwrap();
    let mut dice = Dice(seed);
    let mut models = vec![Model::new()];
    // For each batch how many operations had been done when its commit returned.
    let mut returned = vec![disk.done()];
    while disk.done() < 2 * wanted / 3 {
        let mut model = models[models.len() - 1].clone();
        publish(&cellar, models.len(), &mut dice, &mut model).unwrap();
        models.push(model);
        returned.push(disk.done());
    }
    let (mut replay, mut cuts, mut under_way, mut some_lost) = (Replay::default(), 0, 0, 0);
    let history = disk.history();
    for (done, operation) in (1..).zip(&history) {
        replay.step(operation);
        let committed = returned.partition_point(|end| *end <= done);
        for _ in 0..2 {
            let left = replay.cut(&mut dice);
            cuts += 1;
            if committed == 0 {
                // The first commit has not returned: there may be nothing.
                if Cellar::open(folder(&left)).is_err_and(|error| error.kind() == ErrorKind::NotACellar) {
                    continue;
                }
            }
            let seen = state_of(&left, &models);
            let lost = committed.saturating_sub(1 + seen);
            let most = if durability == Durability::Full { 0 } else { 64 };
            assert!(seen <= committed && lost <= most, "batch {seen} of {committed} after {done} operations");
            some_lost += usize::from(lost > 0 && lost < 20);
            under_way += usize::from(seen == committed);
            if cuts % 50 == 0 {
                // It goes on from there, and what was left over is removed.
                let mut model = models[seen].clone();
                let cellar = Cellar::open(folder(&left)).unwrap();
                publish(&cellar, 0, &mut Dice(1), &mut model).unwrap();
                assert_eq!(cellar.info().unwrap().records, model.len() as u64);
                cellar.check().unwrap();
            }
        }
    }
    assert!(cuts >= wanted, "{cuts} cuts");
    assert!(under_way > wanted / 100, "{under_way} times the batch under way was there");
    assert_eq!(
        some_lost > wanted / 100,
        durability == Durability::Relaxed,
        "{some_lost} times something was lost"
    );
}

#[test]
fn a_full_disk_loses_nothing_and_works_again_when_there_is_room() {
    let disk = TestDisk::default();
    let cellar = Cellar::create(folder(&disk), schema()).unwrap();
    let mut dice = Dice(3);
    let mut models = vec![Model::new()];
    let mut refused = 0;
    for room in (0..3_000).step_by(37) {
        let before = models[models.len() - 1].clone();
        disk.set_room(Some(room));
        let mut model = before.clone();
        match publish(&cellar, models.len(), &mut dice, &mut model) {
            Ok(()) => models.push(model),
            Err(error) => {
                refused += 1;
                assert_eq!(error.kind(), ErrorKind::Place);
                assert!(error.to_string().contains("/office/shed.cellar"), "{error}");
                assert_eq!(state_of(&disk, &models), models.len() - 1);
            }
        }
        disk.set_room(None);
        if room % 5 == 0 {
            let mut model = models[models.len() - 1].clone();
            publish(&cellar, models.len(), &mut dice, &mut model).unwrap();
            models.push(model);
        }
    }
    assert!(refused > 10, "{refused}");
    assert_eq!(state_of(&disk, &models), models.len() - 1);
}

#[test]
fn a_disk_that_refuses_to_sync_leaves_one_state_or_the_other() {
    let (mut old, mut new) = (0, 0);
    for left in 0..6 {
        let disk = TestDisk::default();
        let cellar = Cellar::create(folder(&disk), schema()).unwrap();
        let mut dice = Dice(left as u64);
        let mut models = vec![Model::new()];
        for number in 1..9 {
            let mut model = models[number - 1].clone();
            publish(&cellar, number, &mut dice, &mut model).unwrap();
            models.push(model);
        }
        disk.set_lasting_left(Some(left));
        let mut model = models[8].clone();
        // What the batch would make, on a copy of the dice.
        let mut same = Dice(dice.0);
        let failed = publish(&cellar, 9, &mut dice, &mut model);
        disk.set_lasting_left(None);
        if let Err(error) = &failed {
            assert_eq!(error.kind(), ErrorKind::Place);
            let other = Cellar::in_memory(schema()).unwrap();
            model = models[8].clone();
            publish(&other, 9, &mut same, &mut model).unwrap();
        }
        models.push(model);
        match state_of(&disk, &models) {
            8 => old += 1,
            9 => new += 1,
            other => panic!("batch {other}"),
        }
        let mut model = models[state_of(&disk, &models)].clone();
        let number = models.len();
        publish(&Cellar::open(folder(&disk)).unwrap(), number, &mut Dice(1), &mut model).unwrap();
        models.push(model);
        assert_eq!(state_of(&disk, &models), number);
    }
    assert!(old > 1 && new > 1, "{old} and {new}");
}

/// A writer is killed after any operation, which loses nothing; the next one begins, and then the power goes.
#[test]
fn a_killed_writer_and_then_a_power_cut_lose_no_committed_batch() {
    for durability in [Durability::Full, Durability::Relaxed] {
        let disk = TestDisk::default();
        let cellar = Cellar::create(folder(&disk).with_durability(durability), schema()).unwrap();
        let (mut dice, mut models, mut returned) = (Dice(5), vec![Model::new()], vec![disk.done()]);
        for number in 1..25 {
            let mut model = models[number - 1].clone();
            publish(&cellar, number, &mut dice, &mut model).unwrap();
            models.push(model);
            returned.push(disk.done());
        }
        let history = disk.history();
        let mut replay = Replay::default();
        for (done, operation) in (1..).zip(&history) {
            replay.step(operation);
            let committed = returned.partition_point(|end| *end <= done);
            if committed < 2 {
                continue;
            }
            let killed = replay.killed(&history[..done]);
            let seen = state_of(&killed, &models);
            assert!(seen + 1 >= committed, "a killed writer lost batch {committed} after {done} operations");
            let mut model = models[seen].clone();
            let next = Cellar::open(folder(&killed)).unwrap();
            publish(&next, models.len(), &mut Dice(done as u64), &mut model).unwrap();
            let mut all = models.clone();
            all.push(model);
            let mut later = Replay::default();
            for (at, operation) in (1..).zip(&killed.history()) {
                later.step(operation);
                if at > done {
                    let left = state_of(&later.cut(&mut dice), &all);
                    let relaxed = durability == Durability::Relaxed;
                    assert!(left + 1 >= committed || relaxed, "{left} of {committed} after {done} and {at}");
                }
            }
        }
    }
}
