//! The examples run, and say what they are there to say.
#![allow(
    clippy::unwrap_used,
    clippy::cast_possible_truncation,
    clippy::cast_possible_wrap,
    clippy::cast_sign_loss,
    reason = "a test fails by panicking, and its numbers are small"
)]

use std::path::PathBuf;
use std::process::Command;

fn example(name: &str) -> String {
    // Cargo builds the examples beside the tests.
    let tests = std::env::current_exe().unwrap();
    let target: PathBuf = tests.ancestors().nth(2).unwrap().join("examples").join(name);
    let output = Command::new(target.with_extension(std::env::consts::EXE_EXTENSION)).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

#[test]
fn in_memory() {
    let said = example("in_memory");
    assert!(said.contains("<mark>dripping</mark> &lt;since&gt; Tuesday"), "{said}");
}

#[test]
fn lost_property() {
    let said = example("lost_property");
    assert!(said.contains("Submarine [periscope]"), "{said}");
    assert!(said.trim_end().ends_with("And after a rollback:\n  0 found"), "{said}");
}
