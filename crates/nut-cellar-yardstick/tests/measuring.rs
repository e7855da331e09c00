//! The measurements run, on amounts that take no time, and say what they should.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use nut_cellar_yardstick::{batches, building};
use std::process::Command;

#[test]
fn building_is_measured_in_time_memory_and_bytes() {
    let (folder, drawn) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let output = Command::new(env!("CARGO_BIN_EXE_nut-cellar-yardstick"))
        .args(["build", "--records", "300", "--records", "20", "--json", "--at"])
        .arg(folder.path())
        .arg("--plot")
        .arg(drawn.path().join("built.svg"))
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let built: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    let built = built.as_array().unwrap();
    assert_eq!(built.len(), 4, "two numbers of records, read in two ways");
    let svg = std::fs::read_to_string(drawn.path().join("built.svg")).unwrap();
    assert!(svg.starts_with("<svg") && svg.contains("300 generated, en") && svg.contains("postings"));
    for one in built {
        assert!(one["seconds_of_two"].as_f64().unwrap() > 0.0);
        let shares = one["scored"].as_array().unwrap().iter().map(|share| share.as_f64().unwrap());
        assert!(shares.into_iter().all(|share| (0.0..=1.0).contains(&share)));
        assert!(one["seconds"].as_f64().unwrap() > 0.0 && one["word_count"].as_f64().unwrap() > 0.0);
        assert_eq!(one["shelves"], 1);
        let sections: u64 =
            one["sections"].as_array().unwrap().iter().map(|section| section[1].as_u64().unwrap()).sum();
        assert!(sections > one["text"].as_u64().unwrap() / 2);
    }
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0, "nothing is left behind");
}

#[test]
fn a_source_that_is_not_there_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let error = building::stream("nowhere.ndjson", "en", folder.path(), 1 << 20).unwrap_err();
    assert!(error.to_string().contains("No such file"), "{error}");
}

#[test]
fn small_batches_are_measured() {
    let folder = tempfile::tempdir().unwrap();
    let measured = batches::measure(25, folder.path()).unwrap();
    assert!(measured.shelves.0 <= 10 && measured.shelves.1 <= 10);
    assert!(measured.written.0 > measured.written.1 && measured.batch_us > 0.0 && measured.file_us > 0.0);
    assert!(batches::table(&measured).contains("| 25 |"));
}
