//! What fuzzing found worth keeping, replayed.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

#[path = "support/forge.rs"]
mod forge;
#[path = "support/typed.rs"]
mod typed;

use std::fs;
use std::path::Path;

fn replay(target: &str, run: impl Fn(&[u8])) {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/corpus").join(target);
    let mut count = 0;
    for entry in fs::read_dir(&folder).unwrap() {
        run(&fs::read(entry.unwrap().path()).unwrap());
        count += 1;
    }
    assert!(count > 10, "{count} inputs in {}", folder.display());
}

#[test]
fn shelves() {
    replay("shelf", forge::shelf);
}

#[test]
fn manifests() {
    replay("manifest", forge::manifest);
}

#[test]
fn dictionaries() {
    replay("dictionary", forge::dictionary);
}

#[test]
fn queries() {
    replay("query", typed::query);
}
