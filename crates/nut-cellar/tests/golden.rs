//! A cellar that was written with this layout is read, and written again with the same bytes; one with an earlier layout is refused.
//!
//! `NUT_CELLAR_GOLDEN=DIR cargo test -p nut-cellar --test golden` writes it to DIR instead: for another layout.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use nut_cellar::{Cellar, Column, ErrorKind, Find, Folder, Kind, Place, Record, Result, Schema, Value, View};
use std::fs;
use std::path::{Path, PathBuf};

fn schema() -> Schema {
    Schema::new("id")
        .with("title", Column::text("en").weighing(4.0))
        .with("notes", Column::text("none"))
        .with("status", Column::of(Kind::Exact))
        .with("value", Column::of(Kind::Integer))
        .with("mass", Column::of(Kind::Float))
        .with("wet", Column::of(Kind::Boolean))
        .with("found_on", Column::of(Kind::Date))
        .with("updated_at", Column::of(Kind::Moment))
        .with("place", Column::of(Kind::Point))
}

fn umbrella() -> Result<Record> {
    Ok(Record::new("b")
        .with("title", "Black umbrellas, two")
        .with("notes", "brass handle")
        .with("notes", "Größe 3")
        .with("status", "waiting")
        .with("value", -450)
        .with("mass", 0.5)
        .with("wet", true)
        .with("found_on", Value::read(Kind::Date, "2031-04-17")?)
        .with("updated_at", Value::read(Kind::Moment, "2031-04-17T08:30:00Z")?)
        .with("place", Value::Point { lat: 52.5, lon: -0.25 }))
}

/// Two batches: the second replaces a record of the first, so there are two shelves and a mask. One class has a list of more
/// than a block, and two forms, which some records have both.
fn write(path: &Path) -> Result<()> {
    let cellar = Cellar::create_with(Folder::at(path), schema(), |batch| {
        batch.put(&Record::new(7).with("title", "Walnut box"))?;
        batch.put(&Record::new("b").with("title", "to be replaced"))?;
        batch.put(&Record::new(vec![0, 255]).with("notes", "an umbrella handle"))?;
        (100..250).try_for_each(|key| {
            let title = if key % 10 == 9 { "tins, tin" } else { "tin, tin" };
            batch.put(&Record::new(key).with("title", title).with("notes", "tin"))
        })
    })?;
    cellar.publish(|batch| batch.put(&umbrella()?))?;
    Ok(())
}

/// The contents of all pieces, shelves and mask, in the order of the manifest.
fn pieces(path: &Path) -> Vec<Vec<u8>> {
    let manifest = Folder::at(path).view().unwrap().manifest().unwrap().unwrap();
    manifest.pieces().map(|piece| fs::read(path.join("pieces").join(piece.to_string())).unwrap()).collect()
}

/// What was written by this version; and what the one before wrote, which is refused.
const GOLDEN: [&str; 2] = ["tests/golden-v5", "tests/golden-v4"];

fn golden(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join(name)
}

#[test]
fn what_was_written_is_read() {
    let cellar = Cellar::open_in(golden(GOLDEN[0])).unwrap();
    cellar.check().unwrap();
    let keys = |query: &str, find: &Find| -> Vec<_> {
        cellar.find(query, find).unwrap().hits.iter().map(|hit| hit.key.to_string()).collect()
    };
    let found = cellar.find("umbrella handle", &Find::new()).unwrap();
    assert_eq!(keys("umbrella handle", &Find::new()), ["b", "00ff"]);
    for (name, values) in umbrella().unwrap().columns() {
        assert_eq!(found.hits[0].values[name], values, "{name}");
    }
    // A list of several blocks, with bounds, and the ways through a dictionary.
    assert_eq!(keys("tin", &Find::new().limit(2)), ["100", "101"]);
    assert_eq!(keys("tins", &Find::new().exact_forms().limit(2)), ["109", "119"]);
    let walked = [
        ("umbrel*", &["b", "00ff"][..]),
        ("*rella", &["00ff"]),
        ("*mbrel*", &["b", "00ff"]),
        ("~umbrela", &["00ff"]),
    ];
    for (query, expected) in walked {
        assert_eq!(keys(query, &Find::new()), expected, "{query}");
    }
}

#[test]
fn an_earlier_layout_is_refused_with_what_to_do() {
    let found = Cellar::open_in(golden(GOLDEN[1])).and_then(|cellar| cellar.find("tin", &Find::new()));
    let error = found.unwrap_err();
    assert_eq!(error.kind(), ErrorKind::MadeByOlder);
    let message = error.to_string();
    assert!(message.contains("layout 4") && message.contains("make the cellar anew"), "{message}");
}

#[test]
fn this_version_writes_what_it_wrote() {
    if let Some(folder) = std::env::var_os("NUT_CELLAR_GOLDEN") {
        return write(Path::new(&folder)).unwrap();
    }
    let folder = tempfile::tempdir().unwrap();
    let fresh = folder.path().join("fresh");
    write(&fresh).unwrap();
    assert_eq!(pieces(&fresh), pieces(&golden(GOLDEN[0])), "the layout changed: give it a new version");
}
