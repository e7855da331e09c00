//! The yardstick's command, as it is called.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use serde_json::Value;
use std::collections::HashSet;
use std::fs;
use std::io::Write;
use std::process::{Command, Stdio};

fn call(arguments: &[&str], input: &str) -> String {
    let mut child = Command::new(env!("CARGO_BIN_EXE_nut-cellar-yardstick"))
        .args(arguments)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
    let output = child.wait_with_output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

#[test]
fn records_are_as_many_as_asked_for_and_the_same_each_time() {
    let folder = tempfile::tempdir().unwrap();
    let out = folder.path().join("records.ndjson");
    let shown = call(&["records", "500"], "");
    call(&["records", "500", "--out", out.to_str().unwrap()], "");
    assert_eq!(fs::read_to_string(&out).unwrap(), shown);
    assert_ne!(call(&["records", "500", "--seed", "2"], ""), shown);
    assert!(shown.starts_with(&call(&["records", "20"], "")), "more records do not change the first ones");
    let mut ids = HashSet::new();
    for line in shown.lines() {
        let record: Value = serde_json::from_str(line).unwrap();
        ids.insert(record["id"].as_u64().unwrap());
        for text in ["title", "description", "category", "colour", "status"] {
            assert!(!record[text].as_str().unwrap().is_empty());
        }
        assert_eq!(record["found_on"].as_str().unwrap().len(), 10);
    }
    assert_eq!(ids.len(), 500);
}

#[test]
fn stems_are_printed_word_by_word() {
    assert_eq!(call(&["stems", "en"], "umbrellas\nclosing\nBoxes\n"), "umbrella\nclose\nbox\n");
    assert_eq!(call(&["stems", "de"], "häuser\nstraßen\n"), "haus\nstrass\n");
    assert_eq!(call(&["stems", "fr"], "épées\n"), "épé\n");
}

#[test]
fn reading_is_measured_on_the_corpora_that_are_there() {
    let folder = tempfile::tempdir().unwrap();
    let line = r#"{"key": "a", "title": "Two umbrellas", "body": "left on the footbridge, dripping, with an e-mail"}"#;
    fs::write(folder.path().join("gloss.ndjson"), format!("{line}\n").repeat(50)).unwrap();
    let path = folder.path().to_str().unwrap();
    let measured: Value = serde_json::from_str(&call(&["text", path, "--json"], "")).unwrap();
    assert_eq!(measured.as_array().unwrap().len(), 1);
    assert_eq!((&measured[0]["corpus"], &measured[0]["tokens"]), (&"gloss".into(), &(50 * 12).into()));
    assert!(measured[0]["tokens_mb_s"].as_f64().unwrap() > 0.0);
    assert!(call(&["text", path], "").contains("| gloss (en) |"));
}

#[test]
fn searches_are_measured() {
    let arguments = ["search", "--records", "3000", "--queries", "3", "--json"];
    let measured: Value = serde_json::from_str(&call(&arguments, "")).unwrap();
    let measured = measured["kernels"].as_array().unwrap();
    for kind in ["one word", "five words, all", "near spelling", "two words, any, filter of 1 %"] {
        let of_kind: Vec<_> = measured.iter().filter(|one| one["kind"] == kind).collect();
        assert_eq!(of_kind.len(), 2, "{kind}, once for each language");
        assert!(of_kind.iter().all(|one| one["median_us"].as_f64().unwrap() > 0.0));
    }
    let phrase = measured.iter().find(|one| one["kind"] == "phrase of two, counted").unwrap();
    assert!(phrase["scans"][0].as_f64().unwrap() > 1.0);
    assert!(
        call(&["search", "--records", "3000", "--queries", "2", "--only", "one word"], "")
            .contains("one word, uneven")
    );
}

#[test]
fn what_a_user_waits_for_is_measured_and_beside_another_build() {
    let folder = tempfile::tempdir().unwrap();
    let drawn = folder.path().join("drawn.svg");
    let arguments = ["search", "--without-kernels", "--records", "400", "--queries", "4"];
    let plot = ["--json", "--plot", drawn.to_str().unwrap()];
    let measured: Value = serde_json::from_str(&call(&[&arguments[..], &plot].concat(), "")).unwrap();
    assert!(fs::read_to_string(drawn).unwrap().contains("What a user waits for: 400 generated"));
    assert_eq!(measured["kernels"], Value::Array(Vec::new()));
    let measured = measured["waits"].as_array().unwrap();
    // Five kinds of queries, three ways, two places.
    assert_eq!(measured.len(), 30);
    for one in measured {
        assert!(
            one["median_us"].as_f64().unwrap() > 0.0 && one["p99_us"].as_f64() >= one["median_us"].as_f64()
        );
        assert_eq!(one["first_us"].is_number(), one["way"] == "as it comes", "{one}");
    }
    let shown =
        call(&[&arguments[..], &["--beside", env!("CARGO_BIN_EXE_nut-cellar-yardstick")]].concat(), "");
    let line = shown.lines().find(|line| line.contains("| SQLite | as it comes | phrase of two |")).unwrap();
    let ratio: f64 = line.trim_end_matches(" |").rsplit("| ").next().unwrap().parse().unwrap();
    assert!(ratio > 0.01 && ratio < 100.0, "{line}");
}

#[test]
fn what_a_user_finds_is_measured_on_records_in_several_languages() {
    let folder = tempfile::tempdir().unwrap();
    let write = |name: &str, texts: &[(&str, &str)]| {
        let line =
            |(title, body): &(&str, &str)| format!("{}\n", serde_json::json!({"title": title, "body": body}));
        fs::write(folder.path().join(name), texts.iter().map(line).collect::<String>()).unwrap();
    };
    // The second text has its title far behind, the first one by chance.
    let far = "on the platform and under the seat and beside the clock and behind the gate there was";
    let (chance, known) = (format!("{far} an umbrella umbrella"), format!("the umbrella {far} none"));
    write("handbook-en-US.ndjson", &[("nothing", &chance), ("umbrella", &known)]);
    write("handbook-de-DE.ndjson", &[("nichts", "ein Schirm"), ("Schirm", "kein Schirm und kein Hut")]);
    let path = folder.path().to_str().unwrap();
    let measured: Value =
        serde_json::from_str(&call(&["finds", path, "--only", "weight 8", "--json"], "")).unwrap();
    let measured = measured.as_array().unwrap();
    assert_eq!(measured.len(), 2, "the corpus that is there, as written and with a mistake");
    let handbook = measured.iter().find(|one| one["source"] == "handbook" && one["mistakes"] == 0).unwrap();
    let half = &handbook["halves"][1];
    // In German the other record stays in front; a record in two languages is one.
    assert_eq!((&half["records"], &half["before"], &half["after"]), (&1.into(), &0.5.into(), &0.75.into()));
    assert!(call(&["finds", path, "--records", "2"], "").contains("| handbook | 1 | k1 = 0.6 |"));
}

#[test]
fn what_somebody_waits_for_who_types_is_measured() {
    let all = call(&["types", "--records", "400", "--queries", "2", "--json"], "");
    let all: Value = serde_json::from_str(&all).unwrap();
    assert_eq!(all.as_array().unwrap().len(), 5);
    for one in all.as_array().unwrap() {
        assert!(one["ratio"].as_f64() > Some(0.0) && one["queries"] == 2, "{one}");
    }
    assert!(call(&["types", "--records", "400", "--queries", "1"], "").contains("| a strict one |"));
}

#[test]
fn queries_of_strangers_are_measured_and_the_worst_told() {
    let program = env!("CARGO_BIN_EXE_nut-cellar-yardstick");
    let measure = |more: &[&str]| {
        let mut command = Command::new(program);
        let output =
            command.args(["strangers", "--queries", "40", "--records", "300"]).args(more).output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).unwrap()
    };
    let all: Value = serde_json::from_str(&measure(&["--json"])).unwrap();
    let asked: Vec<_> = all.as_array().unwrap().iter().map(|one| one["asked"].as_str().unwrap()).collect();
    assert_eq!(asked, ["as it comes", "strict", "any", "near", "loosened", "beginnings"]);
    for one in all.as_array().unwrap() {
        let worst: Vec<_> = one["worst"].as_array().unwrap().iter().map(|w| w[0].as_f64().unwrap()).collect();
        assert!(worst.is_sorted_by(|a, b| a >= b) && worst[0] >= one["p99"].as_f64().unwrap(), "{one}");
        assert!(
            one["posting_ns"].as_f64().unwrap() > 0.0 && one["worst_of_first"][0].as_f64().unwrap() > 0.0
        );
    }
    let table = measure(&[]);
    assert!(table.lines().count() == 2 + 6 * (3 + 1) && table.contains("| beginnings |"), "{table}");
}

#[test]
fn no_records_are_too_few() {
    for call in ["search", "build", "costs", "types", "strangers"] {
        let yardstick = Command::new(env!("CARGO_BIN_EXE_nut-cellar-yardstick"))
            .args([call, "--records", "0"])
            .output()
            .unwrap();
        assert_eq!(yardstick.status.code(), Some(2), "{call}");
        assert!(String::from_utf8_lossy(&yardstick.stderr).contains("1.."), "{call}");
    }
}
