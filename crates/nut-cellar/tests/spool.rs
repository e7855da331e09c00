//! A spool is a transaction laid over a view: it shows what would be, changes nothing, and can be poured.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use nut_cellar::rows::Spool;
use nut_cellar::{
    Batch, Column, Find, Found, Memory, Opened, Query, Record, Schema, Search, Snapshot, Unit, View, search,
};

fn schema() -> Schema {
    Schema::new("id").with("title", Column::text("en"))
}

fn put(unit: &mut dyn Unit, ids: std::ops::Range<i64>, title: &str) {
    let (opened, schema) = (Opened::new(), schema());
    let mut batch = Batch::new(unit, &opened, &schema).unwrap();
    for id in ids {
        batch.put(&Record::new(id).with("title", format!("{title} {id}"))).unwrap();
    }
    batch.publish().unwrap();
}

fn find(view: &dyn View, query: &str) -> Found {
    let snapshot = Snapshot::open(view, &Opened::new()).unwrap();
    search::run(view, &mut Search::new(snapshot, &Query::read(query).query, &Find::new()).unwrap()).unwrap()
}

fn place() -> Memory {
    let place = Memory::new();
    let mut unit = place.unit();
    put(&mut unit, 0..50, "oak box");
    unit.commit().unwrap();
    place
}

#[test]
fn what_a_spool_shows_is_what_pouring_makes() {
    let place = place();
    let view = place.view();
    let mut spool = Spool::new(&view);
    assert!(!spool.changed());
    assert_eq!(find(&spool, "oak").total, 50);
    put(&mut spool, 40..60, "elm box");
    put(&mut spool, 55..58, "ash box");
    assert!(spool.changed());
    let shown: Vec<_> = ["oak", "elm", "ash", "box", "\"box 56\""].map(|query| find(&spool, query)).into();
    assert_eq!(shown.iter().map(|found| found.total).collect::<Vec<_>>(), [40, 17, 3, 60, 1]);
    assert_eq!(find(&view, "elm").total, 0, "the place itself is not changed");

    let mut unit = place.unit();
    spool.into_contents().pour(&mut unit).unwrap();
    unit.commit().unwrap();
    let poured: Vec<_> =
        ["oak", "elm", "ash", "box", "\"box 56\""].map(|query| find(&place.view(), query)).into();
    assert_eq!(poured, shown);
    let manifest = place.view().manifest().unwrap().unwrap();
    for piece in manifest.pieces() {
        assert!(place.view().read(&[(piece, 0..1)]).is_ok());
    }
}

#[test]
fn a_spool_over_a_state_that_has_gone_is_overtaken() {
    let place = place();
    let view = place.view();
    let mut spool = Spool::new(&view);
    put(&mut spool, 0..1, "elm");
    let mut unit = place.unit();
    put(&mut unit, 1..2, "ash");
    unit.commit().unwrap();
    let mut unit = place.unit();
    assert!(spool.into_contents().pour(&mut unit).unwrap_err().is_overtaken());
    drop(unit);
    assert_eq!(find(&place.view(), "ash").total, 1);
    assert_eq!(find(&place.view(), "elm").total, 0);
}

#[test]
fn a_spool_that_changed_nothing_pours_nothing() {
    let place = place();
    let before = place.view().manifest().unwrap();
    let view = place.view();
    let mut unit = place.unit();
    Spool::new(&view).into_contents().pour(&mut unit).unwrap();
    unit.commit().unwrap();
    assert_eq!(place.view().manifest().unwrap(), before);
}

#[test]
fn large_pieces_go_through_temporary_files() {
    let place = place();
    let view = place.view();
    let mut spool = Spool::new(&view);
    let (opened, schema) = (Opened::new(), schema());
    let mut batch = Batch::new(&mut spool, &opened, &schema).unwrap();
    // Over the 4 MiB that stay in memory: letters that hardly compress.
    let mut seed = 7_u64;
    for id in 100..3_100 {
        let word = |seed: &mut u64| {
            *seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            format!("{:x}", *seed)
        };
        let words: Vec<_> = (0..60).map(|_| word(&mut seed)).collect();
        batch.put(&Record::new(id).with("title", words.join(" "))).unwrap();
    }
    batch.put(&Record::new(9_999).with("title", "periscope")).unwrap();
    batch.publish().unwrap();
    let manifest = spool.manifest().unwrap().unwrap();
    assert!(manifest.shelves[1].bytes > 5 << 20, "{} bytes", manifest.shelves[1].bytes);
    assert_eq!(find(&spool, "periscope").total, 1);
    let mut unit = place.unit();
    spool.into_contents().pour(&mut unit).unwrap();
    unit.commit().unwrap();
    assert_eq!(find(&place.view(), "periscope").total, 1);
    assert_eq!(find(&place.view(), "oak").total, 50);
}
