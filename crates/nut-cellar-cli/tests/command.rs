//! The command as it is called: results, messages and exit codes.
#![allow(
    clippy::unwrap_used,
    clippy::cast_possible_truncation,
    clippy::cast_possible_wrap,
    clippy::cast_sign_loss,
    reason = "a test fails by panicking, and its numbers are small"
)]

#[path = "../../nut-cellar-core/tests/support/oracle.rs"]
mod oracle;

use nut_cellar::sqlite::{SqlFunctions, SqliteCellar};
use nut_cellar::{Key, Query, Record, Request, Words};
use oracle::{OracleColumn, OracleHit, OracleSearch};
use rusqlite::Connection;
use serde_json::Value;
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::fs;
use std::io::Write as _;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

struct Desk {
    folder: tempfile::TempDir,
}

impl Desk {
    fn new() -> Self {
        Self { folder: tempfile::tempdir().unwrap() }
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn file(&self, name: &str, text: &str) -> String {
        fs::write(self.path(name), text).unwrap();
        name.to_owned()
    }

    fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_nut-cellar"));
        command.current_dir(self.folder.path()).args(arguments);
        command
    }

    fn call(&self, arguments: &[&str]) -> Output {
        self.command(arguments).output().unwrap()
    }

    /// Calls it, expects that it succeeds, and gives what it answers.
    fn done(&self, arguments: &[&str]) -> String {
        let output = self.call(arguments);
        assert!(output.status.success(), "{arguments:?}: {}", said(&output));
        String::from_utf8(output.stdout).unwrap()
    }

    fn json(&self, arguments: &[&str]) -> Value {
        let mut arguments = arguments.to_vec();
        arguments.push("--json");
        serde_json::from_str(&self.done(&arguments)).unwrap()
    }

    fn keys(&self, target: &str, query: &str) -> Vec<String> {
        let hits = self.json(&["find", target, query, "--strict"])["hits"].clone();
        hits.as_array().unwrap().iter().map(|hit| hit["key"].to_string()).collect()
    }

    /// Calls it, expects this exit code and one sentence, and gives that.
    fn refused(&self, code: i32, arguments: &[&str]) -> String {
        let output = self.call(arguments);
        let said = said(&output);
        assert_eq!(output.status.code(), Some(code), "{arguments:?}: {said}");
        assert!(output.stdout.is_empty(), "{arguments:?} answered something");
        said
    }
}

fn said(output: &Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned()
}

/// Every file below a folder with its contents, to see that nothing was changed.
fn contents(folder: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    let mut all = BTreeMap::new();
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            all.extend(contents(&path));
            all.insert(path, Vec::new());
        } else {
            all.insert(path.clone(), fs::read(&path).unwrap());
        }
    }
    all
}

const SCHEMA: &str = r#"
key = "id"
[column.title]
kind = "text"
language = "en"
weight = 4.0
[column.notes]
kind = "text"
language = "none"
[column.found_on]
kind = "date"
"#;

const RECORDS: &str = r#"{"id": "b-2", "title": "Walnut boxes", "notes": ["two brass hinges", "left on platform 2"], "found_on": "2031-04-17"}
{"id": "a-1", "title": "Box of fossils", "notes": "a walnut among them"}

{"id": "a-3", "title": "Box of fossils", "notes": "a walnut among them", "found_on": null}
{"id": "c", "title": "Regenschirm", "notes": "schwarz, Größe 3", "extra": true}
"#;

fn loaded() -> Desk {
    let desk = Desk::new();
    desk.file("schema.toml", SCHEMA);
    desk.file("items.ndjson", RECORDS);
    desk.done(&["load", "shed.cellar", "items.ndjson", "--schema", "schema.toml"]);
    desk
}

#[test]
fn a_server_may_be_named_by_settings() {
    let desk = Desk::new();
    let without = desk.refused(2, &["find", "host=localhost dbname=app", "oak"]);
    assert!(without.contains("host=localhost dbname=app#items"), "{without}");
    let refused = desk.refused(1, &["find", "host=/nowhere port=1 dbname=app#items", "oak"]);
    assert!(refused.contains("PostgreSQL"), "{refused}");
}

/// A database with a write-ahead log wants files beside it, which can't be made where nothing may be written.
#[test]
fn a_database_that_can_only_be_read_is_searched() {
    let desk = Desk::new();
    desk.file("schema.toml", SCHEMA);
    let connection = Connection::open(desk.path("app.db")).unwrap();
    connection
        .execute_batch(
            "PRAGMA journal_mode = wal; CREATE TABLE items(id TEXT PRIMARY KEY, title TEXT, notes TEXT, found_on TEXT);
             INSERT INTO items VALUES ('a', 'Walnut box', '', NULL);",
        )
        .unwrap();
    drop(connection);
    desk.done(&["adopt", "sqlite:app.db#items", "--schema", "schema.toml"]);
    let found = find_without_writing(&desk, "app.db");
    assert!(found.status.success(), "{}", said(&found));
    assert!(String::from_utf8_lossy(&found.stdout).contains("Walnut box"));

    // What is in a log must not be missed: that of somebody who did not come to close the database.
    let connection = Connection::open(desk.path("app.db")).unwrap();
    connection.execute("INSERT INTO items VALUES ('b', 'Walnut tray', '', NULL)", []).unwrap();
    for end in ["", "-wal"] {
        fs::copy(desk.path(&format!("app.db{end}")), desk.path(&format!("left.db{end}"))).unwrap();
    }
    let found = find_without_writing(&desk, "left.db");
    assert!(!found.status.success(), "{}", said(&found));
    assert!(said(&found).contains("wal_checkpoint"), "{}", said(&found));
}

/// Searches a database as somebody who may only read it.
fn find_without_writing(desk: &Desk, database: &str) -> Output {
    // Whoever may do everything gives that up first.
    let program = desk.path("nut-cellar");
    if !program.exists() {
        fs::copy(env!("CARGO_BIN_EXE_nut-cellar"), &program).unwrap();
    }
    let is_root = fs::metadata("/proc/self").is_ok_and(|own| own.uid() == 0);
    let mut command = Command::new(if is_root { Path::new("setpriv") } else { &program });
    if is_root {
        command.args(["--reuid=65534", "--regid=65534", "--clear-groups"]).arg(&program);
    }
    for (name, mode) in [(database, 0o444), ("nut-cellar", 0o555), ("", 0o555)] {
        fs::set_permissions(desk.path(name), fs::Permissions::from_mode(mode)).unwrap();
    }
    let found = command
        .current_dir(desk.folder.path())
        .args(["find", &format!("sqlite:{database}#items"), "walnut"])
        .output()
        .unwrap();
    for (name, mode) in [("", 0o755), (database, 0o644)] {
        fs::set_permissions(desk.path(name), fs::Permissions::from_mode(mode)).unwrap();
    }
    found
}

#[test]
fn loading_and_finding_in_a_folder() {
    let desk = loaded();
    assert_eq!(desk.keys("shed.cellar", "walnut box"), ["\"b-2\"", "\"a-1\"", "\"a-3\""]);
    assert_eq!(desk.keys("shed.cellar", "\"brass hinges\""), ["\"b-2\""]);
    assert_eq!(desk.keys("shed.cellar", "\"hinges left\""), [""; 0]);
    assert_eq!(desk.keys("shed.cellar", "GRÖSSE notes:3"), ["\"c\""]);
    assert_eq!(desk.keys("shed.cellar", "title:walnut"), ["\"b-2\""]);

    let answer = desk.json(&["find", "shed.cellar", "walnut colour:x", "--limit", "1", "--words", "any"]);
    assert_eq!((answer["total"].as_u64(), answer["hits"].as_array().unwrap().len()), (Some(3), 1));
    assert!(answer["time_us"].as_f64().unwrap() > 0.0);
    assert!(answer["notes"][0].as_str().unwrap().contains("there is no column `colour`"));
    let values = &answer["hits"][0]["values"];
    assert_eq!((&answer["hits"][0]["rank"], &values["title"]), (&1.into(), &"Walnut boxes".into()));
    assert_eq!(values["found_on"], "2031-04-17");
    assert_eq!(values["notes"], serde_json::json!(["two brass hinges", "left on platform 2"]));

    assert_eq!(
        desk.keys("shed.cellar", "boxes"),
        ["\"b-2\"", "\"a-1\"", "\"a-3\""],
        "the form as typed comes first"
    );
    assert_eq!(desk.keys("shed.cellar", "box"), ["\"a-1\"", "\"a-3\"", "\"b-2\""]);
    let exact = desk.json(&["find", "shed.cellar", "boxes", "--exact-forms"]);
    assert_eq!((&exact["total"], &exact["hits"][0]["key"]), (&1.into(), &"b-2".into()));

    desk.file("same.txt", "chest = box\nbrolly -> Regenschirm\n");
    let expanded = desk.json(&["find", "shed.cellar", "brolly", "--expand", "same.txt"]);
    assert_eq!(expanded["hits"][0]["key"], "c");
    desk.file("wrong.txt", "chest = box\nbrolly\n");
    let said = desk.refused(2, &["find", "shed.cellar", "oak", "--expand", "wrong.txt"]);
    assert!(said.contains("wrong.txt, line 2: `brolly`"), "{said}");
    desk.refused(1, &["find", "shed.cellar", "oak", "--expand", "nowhere.txt"]);

    let table = desk.done(&["find", "shed.cellar", "walnut box", "--skip", "1"]);
    assert!(table.contains("Box of fossils") && table.contains("3 records found"), "{table}");
    assert!(!table.contains('\u{1b}'), "no colours where there is no terminal");
    let none = desk.done(&["find", "shed.cellar", "submarine", "--strict"]);
    assert!(none.contains("0 records found") && none.contains("without `--strict`"), "{none}");
    let none = desk.done(&["find", "shed.cellar", "submarine"]);
    assert!(none.contains("0 records found") && !none.contains("--strict"), "{none}");
}

#[test]
fn the_best_is_made_of_what_was_typed() {
    let desk = loaded();
    let answer = desk.json(&["find", "shed.cellar", "wlanut hinges submarine"]);
    let changed = serde_json::json!([{"from": "wlanut", "to": ["walnut"], "why": "nearly so", "records": 3}]);
    assert_eq!((&answer["changed"], &answer["total_all_words"]), (&changed, &0.into()));
    assert_eq!((&answer["total"], &answer["hits"][0]["key"]), (&3.into(), &"b-2".into()));
    let output = desk.call(&["find", "shed.cellar", "wlanut hinges"]);
    assert!(
        said(&output).contains("`wlanut`; what is spelled nearly so counts: walnut."),
        "{}",
        said(&output)
    );
    assert!(String::from_utf8_lossy(&output.stdout).contains("3 records found (1 with all words) in"));
    assert_eq!(desk.json(&["find", "shed.cellar", "wlanut", "--strict"])["total"], 0);
    assert_eq!(desk.json(&["find", "shed.cellar", "wlanut", "--strict", "--lenient"])["total"], 3);
    assert_eq!(desk.json(&["find", "shed.cellar", "wlanut", "--near", "never"])["total"], 0);
    // A record is explained as it was found, and the other ways to search are lenient as well.
    let why = desk.json(&["why", "shed.cellar", "wlanut", "b-2"]);
    assert!(why["found"]["score"].as_f64().or(why["why"]["found"]["score"].as_f64()).is_some(), "{why}");
    desk.file("request.json", r#"{"query": "wlanut", "enough": 3}"#);
    assert_eq!(desk.json(&["find", "shed.cellar", "--request", "request.json"])["total"], 3);
    desk.file("request.json", r#"{"query": "wlanut", "strict": true}"#);
    assert_eq!(desk.json(&["find", "shed.cellar", "--request", "request.json"])["total"], 0);
    // A page goes on behind the place of the one before.
    let first = desk.json(&["find", "shed.cellar", "wlanut hinges", "--limit", "2"]);
    let after = first["next"].as_str().unwrap();
    let second = desk.json(&["find", "shed.cellar", "wlanut hinges", "--limit", "2", "--after", after]);
    assert_eq!((&second["hits"].as_array().unwrap().len(), &second["total"]), (&1, &3.into()));

    let offered = desk.json(&["suggest", "shed.cellar", "wlanut hinges"]);
    let changed = serde_json::json!([{"from": "wlanut", "to": "walnut"}]);
    let correction = serde_json::json!({"text": "walnut hinges", "changed": changed, "records": 1});
    assert_eq!(offered["corrections"], serde_json::json!([correction]));
    assert!(desk.done(&["suggest", "shed.cellar", "wlanut hinges"]).contains("walnut hinges"));
    assert!(desk.done(&["suggest", "shed.cellar", "walnut box"]).contains("nothing to correct"));
    let none = desk.json(&["suggest", "shed.cellar", "wlanut", "--where", "found_on > 2031-05-01"]);
    assert_eq!(none["corrections"].as_array().unwrap().len(), 0);
    desk.refused(2, &["suggest", "shed.cellar", "wlanut", "--offer", "most"]);
}

#[test]
fn scores_equal_the_oracle_and_weights_need_no_rebuild() {
    let desk = loaded();
    let records: BTreeMap<Key, Record> = [
        Record::new("b-2")
            .with("title", "Walnut boxes")
            .with("notes", "two brass hinges")
            .with("notes", "left on platform 2"),
        Record::new("a-1").with("title", "Box of fossils").with("notes", "a walnut among them"),
        Record::new("a-3").with("title", "Box of fossils").with("notes", "a walnut among them"),
        Record::new("c").with("title", "Regenschirm").with("notes", "schwarz, Größe 3"),
    ]
    .into_iter()
    .map(|record| (record.key.clone(), record))
    .collect();
    let before = contents(&desk.path("shed.cellar"));
    for (weights, title, notes) in
        [(None, 4.0, 1.0), (Some("title=1,notes=9"), 1.0, 9.0), (Some("title=0"), 0.0, 1.0)]
    {
        let columns = vec![
            OracleColumn {
                name: "title",
                language: "en",
                others: None,
                weight: title,
                gap: 16,
                most: u32::MAX,
            },
            OracleColumn {
                name: "notes",
                language: "none",
                others: None,
                weight: notes,
                gap: 16,
                most: u32::MAX,
            },
        ];
        let search = OracleSearch::plain(columns, Query::read("walnut box").query, Words::All);
        let mut arguments = vec!["find", "shed.cellar", "walnut box"];
        arguments.extend(weights.iter().flat_map(|weights| ["--weights", weights]));
        let hits = desk.json(&arguments)["hits"].clone();
        let hits: Vec<_> = hits.as_array().unwrap().iter().collect();
        let expected = oracle::search(&records, &search);
        assert_eq!(hits.len(), expected.len());
        for (hit, OracleHit { key, score, .. }) in hits.iter().zip(expected) {
            assert_eq!(hit["key"].as_str().unwrap(), key.to_string());
            let shown: f32 = hit["score"].to_string().parse().unwrap();
            assert_eq!(shown.to_bits(), score.to_bits(), "{key} with {weights:?}");
        }
    }
    assert_eq!(contents(&desk.path("shed.cellar")), before);
}

#[test]
fn a_key_that_is_loaded_again_replaces_and_csv_is_read() {
    let desk = loaded();
    desk.file("more.csv", "id,title,notes,found_on\na-1,Elm box,,2031-05-01\n007,\"Oak, carved\",\"says \"\"walnut\"\"\",\n7,Oak,,\n");
    desk.done(&["load", "shed.cellar", "more.csv"]);
    assert_eq!(desk.keys("shed.cellar", "box"), ["\"a-1\"", "\"a-3\"", "\"b-2\""]);
    assert_eq!(desk.keys("shed.cellar", "oak"), ["7", "\"007\""]);
    let info = desk.json(&["info", "shed.cellar"]);
    assert_eq!((info["records"].as_u64(), info["memory_bytes"].as_u64()), (Some(6), Some(64 << 20)));
    desk.file("stones.csv", "no,stone,weight\n1,flint,2.5\n2,chalk,1\n");
    let output = desk.call(&["load", "stones.cellar", "stones.csv", "--key", "no"]);
    assert!(
        output.status.success() && said(&output).contains("[column.weight]\nkind = \"float\""),
        "{}",
        said(&output)
    );
    assert_eq!(desk.keys("stones.cellar", "chalk"), ["2"]);
}

#[test]
fn what_is_wrong_is_said_in_a_sentence_and_nothing_is_changed() {
    let desk = loaded();
    desk.file("broken.ndjson", "{\"id\": 1, \"title\": \"oak\"}\n{\"id\": 2, \"title\": \n");
    desk.file("list.ndjson", "[1, 2]\n");
    desk.file("keyless.ndjson", "{\"title\": \"oak\"}\n");
    desk.file("undated.ndjson", "{\"id\": 1, \"found_on\": \"17.4.2031\"}\n");
    desk.file("short.csv", "id,title\n1\n");
    desk.file("bad.toml", "key = \"id\"\n[column.title]\nkind = \"prose\"\n");
    desk.file("other.toml", "key = \"id\"\n[column.title]\nkind = \"text\"\n");
    desk.file("notes.txt", "bread");
    let db = Connection::open(desk.path("app.db")).unwrap();
    db.execute_batch("CREATE TABLE bare(id TEXT, title TEXT, notes TEXT, found_on TEXT)").unwrap();
    let before = contents(desk.folder.path());

    for (code, says, call) in [
        (1, "broken.ndjson, line 2", &["load", "shed.cellar", "broken.ndjson"][..]),
        (1, "broken.ndjson, line 2", &["load", "new.cellar", "broken.ndjson", "--schema", "schema.toml"]),
        (1, "list.ndjson, line 1", &["load", "shed.cellar", "list.ndjson"]),
        (1, "keyless.ndjson, line 1: the key `id` is not there", &["load", "shed.cellar", "keyless.ndjson"]),
        (
            1,
            "undated.ndjson, line 1: column `found_on`: `17.4.2031`",
            &["load", "shed.cellar", "undated.ndjson"],
        ),
        (1, "short.csv, line 2", &["load", "shed.cellar", "short.csv"]),
        (1, "nowhere.csv", &["load", "shed.cellar", "nowhere.csv"]),
        (2, "notes.txt", &["load", "shed.cellar", "notes.txt"]),
        (2, "--key", &["load", "new.cellar", "items.ndjson", "--key", "number"]),
        (1, "bad.toml, line 3", &["load", "new.cellar", "items.ndjson", "--schema", "bad.toml"]),
        (1, "another schema", &["load", "shed.cellar", "items.ndjson", "--schema", "other.toml"]),
        (2, "adopt", &["load", "sqlite:app.db#bare", "items.ndjson"]),
        (1, "bad.toml, line 3", &["adopt", "sqlite:app.db#bare", "--schema", "bad.toml"]),
        (1, "PRIMARY KEY", &["adopt", "sqlite:app.db#bare", "--schema", "schema.toml"]),
        (1, "no table `nowhere`", &["adopt", "sqlite:app.db#nowhere", "--schema", "schema.toml"]),
        (1, "missing.db", &["adopt", "sqlite:missing.db#items", "--schema", "schema.toml"]),
        (1, "no SQLite database", &["adopt", "sqlite:notes.txt#items", "--schema", "schema.toml"]),
        (2, "folder", &["release", "shed.cellar"]),
        (1, "no cellar `bare`", &["find", "sqlite:app.db#bare", "oak"]),
        (1, "no cellar `bare`", &["release", "sqlite:app.db#bare"]),
        (1, "no cellar `bare`", &["sync", "sqlite:app.db#bare"]),
        (1, "nowhere", &["find", "nowhere", "oak"]),
        (1, "notes.txt", &["find", "notes.txt", "oak"]),
        (2, "title, notes", &["find", "shed.cellar", "oak", "--columns", "colour"]),
        (2, "title, notes", &["find", "shed.cellar", "oak", "--weights", "colour=2"]),
        (2, "found_on", &["find", "shed.cellar", "oak", "--columns", "found_on"]),
        (2, "-1", &["find", "shed.cellar", "oak", "--weights", "title=-1"]),
        (2, "title=much", &["find", "shed.cellar", "oak", "--weights", "title=much"]),
        (2, "--words", &["find", "shed.cellar", "oak", "--words", "0"]),
        (2, "sqlite:app.db#items", &["find", "sqlite:app.db", "oak"]),
        (2, "folder", &["find", "https://example.org/#items", "oak"]),
        (2, "--language", &["tokens", "oak", "--language", "xx"]),
        (2, "app.db", &["demo", "--at", "app.db"]),
        (2, "Usage", &["find", "shed.cellar"]),
    ] {
        let said = desk.refused(code, call);
        assert!(said.contains(says), "{call:?}: {said}");
        assert!(
            said.trim_end().lines().count() == 1 || said.contains("Usage") || said.contains("--help"),
            "{said}"
        );
        assert!(!said.contains("panicked"), "{said}");
        assert_eq!(contents(desk.folder.path()), before, "{call:?} changed something");
    }
}

/// Records as NDJSON.
fn oaks(count: u32) -> String {
    let lines: Vec<_> =
        (0..count).map(|id| format!("{{\"id\": {id}, \"title\": \"oak box {id}\"}}\n")).collect();
    lines.concat()
}

#[test]
fn batches_before_a_broken_line_stay_and_the_rest_does_not() {
    let desk = Desk::new();
    desk.file("schema.toml", SCHEMA);
    let mut lines = oaks(25);
    lines.push_str("{\"id\": oak}\n");
    desk.file("items.ndjson", &lines);
    let call = ["load", "shed.cellar", "items.ndjson", "--schema", "schema.toml", "--batch", "10"];
    let said = desk.refused(1, &call);
    assert!(said.contains("line 26") && said.contains("20 records before it are there"), "{said}");
    assert_eq!(desk.json(&["info", "shed.cellar"])["records"], 20);
}

#[test]
fn a_second_process_reads_while_one_writes() {
    let desk = Desk::new();
    desk.file("schema.toml", SCHEMA);
    let lines = oaks(3_000);
    desk.file("items.ndjson", &lines);
    desk.file("first.ndjson", "{\"id\": -1, \"title\": \"oak\"}\n");
    desk.done(&["load", "shed.cellar", "first.ndjson", "--schema", "schema.toml"]);
    let mut writer = desk.command(&["load", "shed.cellar", "items.ndjson", "--batch", "100"]);
    let mut writer = writer.stderr(Stdio::null()).spawn().unwrap();
    let mut totals = Vec::new();
    while writer.try_wait().unwrap().is_none() {
        totals.push(desk.json(&["find", "shed.cellar", "oak", "--limit", "0"])["total"].as_u64().unwrap());
    }
    assert!(writer.wait().unwrap().success());
    assert!(
        totals.is_sorted() && totals.iter().all(|total| total % 100 == 1),
        "whole batches only: {totals:?}"
    );
    assert_eq!(desk.json(&["find", "shed.cellar", "oak", "--limit", "0"])["total"], 3_001);
}

#[test]
fn a_table_is_adopted_changed_by_another_program_and_released() {
    let desk = Desk::new();
    desk.file("schema.toml", SCHEMA);
    let db = Connection::open(desk.path("app.db")).unwrap();
    db.execute_batch(
        "CREATE TABLE items(id TEXT PRIMARY KEY, title TEXT, notes TEXT, found_on TEXT, price REAL);
         INSERT INTO items VALUES ('q1', 'Walnut box', 'brass hinge', '2031-04-17', 1.5), ('q2', 'Umbrella', NULL, NULL, NULL);",
    )
    .unwrap();
    let target = "sqlite:app.db#items";
    desk.done(&["adopt", target, "--schema", "schema.toml"]);
    assert_eq!(desk.keys(target, "walnut"), ["\"q1\""]);

    db.execute_batch("INSERT INTO items(id, title) VALUES ('q3', 'Walnut chest')").unwrap();
    assert_eq!(desk.keys(target, "walnuts"), ["\"q1\"", "\"q3\""]);
    db.execute_batch("BEGIN; UPDATE items SET title = 'Walnut umbrella' WHERE id = 'q2'").unwrap();
    assert_eq!(desk.keys(target, "walnut umbrella"), [""; 0], "not committed yet");
    db.execute_batch("COMMIT").unwrap();
    assert_eq!(desk.keys(target, "walnut umbrella"), ["\"q2\""]);
    db.execute_batch("BEGIN; DELETE FROM items; ROLLBACK; DELETE FROM items WHERE id = 'q1'").unwrap();
    assert_eq!(desk.keys(target, "walnut"), ["\"q2\"", "\"q3\""]);
    assert_eq!(desk.json(&["info", target])["pending"], 3);

    let mut before = desk.json(&["find", target, "walnut umbrella", "--words", "any"]);
    desk.done(&["sync", target]);
    let mut after = desk.json(&["find", target, "walnut umbrella", "--words", "any"]);
    (before["time_us"], after["time_us"]) = (0.into(), 0.into());
    assert_eq!(before, after);
    assert_eq!(desk.json(&["info", target])["pending"], 0);

    let locked = Connection::open(desk.path("app.db")).unwrap();
    locked.execute_batch("BEGIN EXCLUSIVE").unwrap();
    let said = desk.refused(1, &["sync", target]);
    assert!(said.contains("locked"), "{said}");
    drop(locked);

    desk.done(&["release", target]);
    let left: i64 = db
        .query_row("SELECT count(*) FROM sqlite_schema WHERE name LIKE '%cellar%'", [], |row| row.get(0))
        .unwrap();
    assert_eq!(left, 0);
}

#[test]
fn changes_are_followed_and_what_no_trigger_saw_is_found_and_repaired() {
    let desk = Desk::new();
    desk.file("schema.toml", SCHEMA);
    let db = Connection::open(desk.path("app.db")).unwrap();
    db.execute_batch(
        "PRAGMA journal_mode = WAL;
         CREATE TABLE items(id TEXT PRIMARY KEY, title TEXT, notes TEXT, found_on TEXT, price REAL);
         INSERT INTO items(id, title) VALUES ('q1', 'Walnut box'), ('q2', 'Umbrella');",
    )
    .unwrap();
    let target = "sqlite:app.db#items";
    desk.done(&["adopt", target, "--schema", "schema.toml"]);
    let mut follower = desk.command(&["sync", target, "--follow"]).stderr(Stdio::null()).spawn().unwrap();
    db.execute_batch("UPDATE items SET title = 'Red umbrella' WHERE id = 'q2'").unwrap();
    let caught_up = (0..200).any(|_| {
        std::thread::sleep(std::time::Duration::from_millis(50));
        desk.json(&["info", target])["pending"] == 0
    });
    follower.kill().unwrap();
    follower.wait().unwrap();
    assert!(caught_up);
    assert!(desk.done(&["check", target]).contains("everything agrees, with the rows, too"));

    let trigger: String = db
        .query_row("SELECT sql FROM sqlite_schema WHERE name = 'cellar_items_after_update'", [], |row| {
            row.get(0)
        })
        .unwrap();
    db.execute_batch(&format!(
        "DROP TRIGGER cellar_items_after_update; UPDATE items SET title = 'Elm box' WHERE id = 'q1'; {trigger}"
    ))
    .unwrap();
    let output = desk.call(&["check", target]);
    assert_eq!(output.status.code(), Some(1));
    assert_eq!(String::from_utf8_lossy(&output.stdout), "q1 is found as its row was before\n");
    assert!(said(&output).contains("`repair`"), "{}", said(&output));
    desk.done(&["repair", target]);
    assert_eq!(desk.keys(target, "elm"), ["\"q1\""]);
    desk.done(&["check", target]);
    assert!(desk.refused(2, &["repair", "shed.cellar"]).contains("folder"));
}

#[test]
fn tokens_tell_what_becomes_of_a_text() {
    let desk = Desk::new();
    let tokens = desk.json(&["tokens", "Zwei Umbrellas, café", "--language", "en"]);
    assert_eq!((&tokens[1]["term"], &tokens[1]["key"]), (&"umbrellas".into(), &"umbrella".into()));
    assert_eq!(
        (&tokens[1]["start"], &tokens[1]["end"], &tokens[1]["position"]),
        (&5.into(), &14.into(), &1.into())
    );
    assert_eq!(tokens[1]["steps"][1]["step"], "stem");
    assert_eq!((&tokens[2]["key"], &tokens[2]["end"]), (&"cafe".into(), &21.into()));
    desk.file(
        "schema.toml",
        "key = \"id\"\n[column.path]\nkind = \"text\"\nreading = \"code\"\n[column.n]\nkind = \"integer\"\n",
    );
    let path = desk.json(&["tokens", "srcMain/v1.2", "--schema", "schema.toml", "--column", "path"]);
    assert_eq!(
        (&path[0]["term"], &path[0]["span"], &path[1]["term"]),
        (&"srcmain/v1.2".into(), &4.into(), &"srcmain".into())
    );
    for (says, call) in [
        ("--column", &["--schema", "schema.toml"][..]),
        ("`nowhere`", &["--schema", "schema.toml", "--column", "nowhere"]),
        ("`n`", &["--schema", "schema.toml", "--column", "n"]),
    ] {
        let mut arguments = vec!["tokens", "oak"];
        arguments.extend(call);
        let said = desk.refused(2, &arguments);
        assert!(said.contains(says), "{said}");
    }
    let both = desk.json(&["tokens", "Häuser", "--language", "de", "--against", "none"]);
    assert_eq!((&both["de"][0]["key"], &both["none"][0]["term"]), (&"haus".into(), &"häuser".into()));
    let table = desk.done(&["tokens", "Zwei Häuser", "--language", "de", "--against", "none"]);
    assert!(table.contains("haus") && table.contains("häuser"), "{table}");
    let table = desk.done(&["tokens", "Two Umbrellas"]);
    assert!(table.contains("fold: Umbrellas → umbrellas"), "{table}");
    assert_eq!(desk.json(&["tokens", "—"]), serde_json::json!([]));
}

#[test]
fn columns_that_are_only_shown_and_days_stand_beside_the_text() {
    let desk = Desk::new();
    desk.file(
        "schema.toml",
        "key = \"id\"\n[column.title]\nkind = \"text\"\n[column.label]\nkind = \"text\"\nindexed = false\n\
         [column.found_on]\nkind = \"date\"\nlanguage = \"en\"\n",
    );
    desk.file("items.ndjson", r#"{"id":1,"title":"A walnut box","label":"shelf 4","found_on":"2031-04-17"}"#);
    desk.done(&["load", "shed.cellar", "items.ndjson", "--schema", "schema.toml"]);
    let table = desk.done(&["find", "shed.cellar", "walnut"]);
    assert!(table.contains("shelf 4") && table.contains("2031-04-17"), "{table}");
    assert!(desk.keys("shed.cellar", "shelf").is_empty());
    assert!(desk.done(&["info", "shed.cellar"]).contains("text, shown only"));
    let days = desk.json(&["tokens", "2031-04-17", "--schema", "schema.toml", "--column", "found_on"]);
    assert_eq!((&days[3]["term"], &days[3]["start"]), (&"april".into(), &14.into()));
}

#[test]
fn the_demo_walks_through_and_its_last_words_can_be_followed() {
    let desk = Desk::new();
    let shown = desk.done(&["demo", "--at", "quillmere.db"]);
    for part in [
        "LIKE '%walnut box%'",
        "nearly so counts: walnut",
        "umbrella handle",
        "clasps were closed",
        "title = 8",
        "ROLLBACK",
        "What to try next",
    ] {
        assert!(shown.contains(part), "no {part} in:\n{shown}");
    }
    let target = "sqlite:quillmere.db#items";
    assert!(!desk.keys(target, "submarine periscope").is_empty());
    assert!(desk.json(&["find", target, "Regenschirm"])["total"].as_u64() > Some(5));
    let info = desk.json(&["info", target]);
    assert_eq!((&info["records"], &info["pending"]), (&2_500.into(), &0.into()));
    desk.done(&["release", target]);
}

#[test]
fn a_proposed_schema_says_what_the_columns_look_like() {
    let desk = Desk::new();
    let record = |n: u32| {
        format!(
            "{{\"no\": {n}, \"title\": \"The umbrella of the guard, number {n}, with a handle\", \"wort\": \"Regenschirm Nummer {n}\", \
             \"status\": \"{}\", \"value\": {n}, \"mass\": {n}.5, \"wet\": true, \"found_on\": \"2031-04-{:02}\", \
             \"updated_at\": \"2031-04-17T08:30:00Z\", \"where\": {{\"lat\": 52.5, \"lon\": -0.25}}, \"tags\": [\"a {n}\", \"b {n}\"], \"none\": null, \"story\": \"It began in carriage {n}. {}\"}}\n",
            ["waiting", "claimed"][n as usize % 2],
            n % 28 + 1,
            "And then the guard said that it was with him the whole time, and so on. ".repeat(4)
        )
    };
    desk.file("items.ndjson", &(0..40).map(record).collect::<Vec<_>>().concat());
    let output = desk.call(&["load", "shed.cellar", "items.ndjson", "--key", "no"]);
    assert!(output.status.success(), "{}", said(&output));
    let schema = desk.json(&["info", "shed.cellar"])["schema"].clone();
    assert_eq!(schema["key"], "no");
    for (column, kind, language) in [
        ("title", "text", Some("en")),
        ("wort", "text", Some("none")),
        ("status", "exact", None),
        ("value", "integer", None),
        ("mass", "float", None),
        ("wet", "boolean", None),
        ("found_on", "date", None),
        ("updated_at", "moment", None),
        ("where", "point", None),
        ("tags", "text", Some("none")),
        ("none", "text", Some("none")),
        ("story", "text", Some("en")),
        ("story_beginning", "text", Some("en")),
    ] {
        let found = &schema["column"][column];
        assert_eq!((found["kind"].as_str(), found["language"].as_str()), (Some(kind), language), "{column}");
    }
    // Of a long text the first words are a column, too, which is searched and not shown.
    let beginning = &schema["column"]["story_beginning"];
    assert_eq!(
        (&beginning["from"][0], &beginning["first_words"], &beginning["weight"], &beginning["kept"]),
        (&"story".into(), &12.into(), &2.0.into(), &false.into())
    );
    assert!(schema["column"].get("title_beginning").is_none(), "{schema}");
    let total = |query: &str| desk.json(&["find", "shed.cellar", query])["total"].clone();
    assert_eq!((total("story_beginning:carriage"), total("story_beginning:time")), (40.into(), 0.into()));
    let hit = &desk.json(&["find", "shed.cellar", "guards 17"])["hits"][0];
    assert!(hit["values"].get("story_beginning").is_none(), "{hit}");
    assert_eq!((&hit["key"], &hit["values"]["where"]["lon"]), (&17.into(), &(-0.25).into()));
    assert_eq!(hit["values"]["updated_at"], "2031-04-17T08:30:00Z");
    // The proposal is written as a schema file, with what was seen: it can be given again.
    let (told, toml) = (said(&output), fs::read_to_string(desk.path("shed.cellar.toml")).unwrap());
    assert!(
        told.contains("from the first 40 records, and written to shed.cellar.toml") && told.contains(&toml),
        "{told}"
    );
    for seen in [
        "# in each of the first 40 records, and no two have the same\nkey = \"no\"\n",
        "# 40 different texts of 50 bytes in the mean\n# taken for: 40 English, of 40 texts\n[column.title]\n",
        "# 2 different texts: claimed, waiting\n[column.status]\n",
        "# whole numbers, from 0 to 39\n[column.value]\n",
        "# numbers, from 0.5 to 39.5\n[column.mass]\n",
        "# truth values\n[column.wet]\n",
        "# days, from 2031-04-01 to 2031-04-28\n[column.found_on]\n",
        "# moments, from 2031-04-17T08:30:00Z to 2031-04-17T08:30:00Z\n[column.updated_at]\n",
        "# places: degrees north and east\n[column.where]\n",
        "several in one\n# taken for: no language, of 80 texts; name the `language` if they are in one\n[column.tags]\n",
        "# no value was seen; taken for text\n[column.none]\n",
        "# how `story` begins, which says early what a record is about\n[column.story_beginning]\n",
    ] {
        assert!(toml.contains(seen), "no {seen} in:\n{toml}");
    }
    desk.done(&["load", "shed.cellar", "items.ndjson", "--schema", "shed.cellar.toml"]);
    desk.file("shed.cellar.toml", "mine");
    fs::remove_dir_all(desk.path("shed.cellar")).unwrap();
    let told = said(&desk.call(&["load", "shed.cellar", "items.ndjson", "--key", "no"]));
    assert!(told.contains("shed.cellar.toml was left as it is"), "{told}");
    assert_eq!(fs::read_to_string(desk.path("shed.cellar.toml")).unwrap(), "mine");
    // Wherever the folder is to be, there is the file.
    desk.done(&["load", "new/folders/shed.cellar", "items.ndjson", "--key", "no"]);
    assert!(
        fs::read_to_string(desk.path("new/folders/shed.cellar.toml")).unwrap().contains("# truth values")
    );
}

#[test]
fn a_proposal_finds_the_key_and_the_languages_of_the_records() {
    let desk = Desk::new();
    let german =
        "Ein schwarzer Regenschirm mit einem Griff aus Holz, gefunden im letzten Wagen des Abendzugs";
    let english = "A black umbrella with a handle of wood, found in the last carriage of the evening train";
    let line = |n: usize| {
        let (text, seat) = (if n.is_multiple_of(3) { german } else { english }, n % 7);
        format!(
            "{{\"seat\": {seat}, \"tag\": \"QLR-{n:04}\", \"text\": \"{text}, Nr. {n}\", \"price\": \"{seat}\"}}\n"
        )
    };
    desk.file("finds.ndjson", &(0..1_200).map(line).collect::<String>());
    let output = desk.call(&["load", "finds.cellar", "finds.ndjson"]);
    assert!(output.status.success(), "{}", said(&output));
    let schema = desk.json(&["info", "finds.cellar"])["schema"].clone();
    assert_eq!(schema["key"], "tag", "{schema}");
    let text = &schema["column"]["text"];
    assert_eq!(
        (&text["language"], &text["languages"][0], &text["detect"]),
        (&"en".into(), &"de".into(), &80.into())
    );
    assert!(said(&output).contains("the first 1,000 records"), "{}", said(&output));
    // CSV has texts only: what is written as a number or a truth value is one, and of those with the same key the last one stays.
    desk.file("finds.csv", "seat,open,note\n1,true,oak\n1,false,elm\n2,true,oak\n");
    let told = desk.refused(2, &["load", "csv.cellar", "finds.csv"]);
    assert!(
        told.contains("no column has a value of its own in each record") && told.contains("note, open, seat"),
        "{told}"
    );
    let told = said(&desk.call(&["load", "csv.cellar", "finds.csv", "--key", "seat"]));
    assert!(told.contains("with 2 different values: of those with the same the last one stays"), "{told}");
    assert!(told.contains("kind = \"boolean\""), "{told}");
}

#[test]
fn the_proposal_in_the_documentation_is_what_is_written() {
    let text = include_str!("../../../docs/text.md");
    let (_, section) = text.split_once("## A schema to begin with").unwrap();
    let block = |language: &str| {
        let (_, block) = section.split_once(&format!("```{language}\n")).unwrap();
        block.split_once("```").unwrap().0
    };
    let desk = Desk::new();
    let command = Path::new(env!("CARGO_BIN_EXE_nut-cellar")).parent().unwrap();
    let path = format!("{}:{}", command.display(), std::env::var("PATH").unwrap());
    let mut shell = Command::new("sh");
    let output =
        shell.current_dir(desk.path("")).env("PATH", path).args(["-ec", block("sh")]).output().unwrap();
    assert!(output.status.success(), "{}", said(&output));
    assert_eq!(fs::read_to_string(desk.path("finds.cellar.toml")).unwrap(), block("toml"));
}

#[test]
fn compounds_take_the_list_that_the_schema_names_in_the_version_that_it_was_made_with() {
    let desk = Desk::new();
    desk.file("words.txt", "# harbour\nDampf\nSchiff\nFahrt\n");
    desk.file("other.txt", "Dampf\nSchiff\n");
    desk.file(
        "schema.toml",
        "key = \"id\"\n[column.title]\nkind = \"text\"\nlanguage = \"de\"\ncompounds = [\"harbour\"]\n",
    );
    desk.file("items.ndjson", "{\"id\": 1, \"title\": \"Dampfschifffahrt\"}\n");
    let list = ["--compounds", "harbour:de=words.txt"];
    let with = |call: &[&str]| desk.done(&[call, &list].concat());
    with(&["load", "shed.cellar", "items.ndjson", "--schema", "schema.toml"]);
    assert!(with(&["find", "shed.cellar", "schiffe", "--json"]).contains("\"total\":1"));
    let shown = with(&["tokens", "Dampfschifffahrt", "--schema", "schema.toml", "--column", "title"]);
    assert!(shown.contains("also 0") && shown.contains("compound: a part of"), "{shown}");
    let told = desk.refused(1, &["find", "shed.cellar", "schiff"]);
    assert!(told.contains("`compounds` names `harbour`, which this program does not offer"), "{told}");
    assert!(told.contains("Lists of words are given with --compounds NAME:LANGUAGE=FILE."), "{told}");
    let told = desk.refused(1, &["find", "shed.cellar", "schiff", "--compounds", "harbour:de=other.txt"]);
    assert!(
        told.contains("of version \"de 3 words") && told.contains("offers version \"de 2 words"),
        "{told}"
    );
    let told = desk.refused(2, &["find", "shed.cellar", "schiff", "--compounds", "harbour=words.txt"]);
    assert!(told.contains("german words:de=words.txt"), "{told}");
    desk.refused(2, &["find", "shed.cellar", "schiff", "--compounds", "harbour:de=none.txt"]);
    // A list to begin with is made of the words of a cellar.
    assert_eq!(with(&["terms", "shed.cellar", "*", "--lines"]), "dampf\ndampfschifffahrt\nfahrt\nschiff\n");
}

#[test]
fn a_reader_that_has_seen_enough_is_no_error() {
    let desk = loaded();
    let mut child = desk
        .command(&["find", "shed.cellar", "walnut", "--json"])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    drop(child.stdout.take());
    let output = child.wait_with_output().unwrap();
    assert!(output.status.success() && output.stderr.is_empty(), "{}", said(&output));
}

#[test]
fn an_interrupted_fill_is_told_and_taken_up_by_sync() {
    let desk = Desk::new();
    let db = Connection::open(desk.path("app.db")).unwrap();
    db.execute_batch("CREATE TABLE items(id TEXT PRIMARY KEY, title TEXT, notes TEXT, found_on TEXT)")
        .unwrap();
    db.execute_batch("INSERT INTO items VALUES ('a', 'oak', '', ''), ('b', 'elm', '', 'today')").unwrap();
    desk.file("schema.toml", SCHEMA);
    let target = "sqlite:app.db#items";
    let output = desk.call(&["adopt", target, "--schema", "schema.toml"]);
    assert!(
        said(&output).contains("1 value was left out"),
        "an empty text is no value, `today` is no date: {}",
        said(&output)
    );
    // As if the process had been killed between making the tables and publishing the first fill.
    db.execute_batch("UPDATE cellar_items_state SET filled = 0").unwrap();
    let told = desk.refused(1, &["find", target, "oak"]);
    assert!(told.contains("has not ended") && told.contains("sync"), "{told}");
    desk.done(&["sync", target]);
    assert_eq!(desk.keys(target, "oak"), ["\"a\""]);
    assert_eq!(desk.json(&["info", target])["records"], 2);
}

/// A loader that is killed at any moment leaves whole batches, and nothing that is in the way of the next one.
#[cfg(unix)]
/// A number as the command shows it.
fn grouped(number: u64) -> String {
    if number < 1_000 { number.to_string() } else { format!("{},{:03}", number / 1_000, number % 1_000) }
}

#[test]
fn a_killed_loader_leaves_whole_batches_and_goes_on_where_it_stopped() {
    let desk = Desk::new();
    desk.file("schema.toml", SCHEMA);
    desk.file("items.ndjson", &oaks(2_000));
    let load =
        ["load", "shed.cellar", "items.ndjson", "--schema", "schema.toml", "--batch", "50", "--resume"];
    let mut loaded = 0;
    for delay in [5, 9, 14, 20, 31, 45, 60] {
        let mut loader = desk.command(&load);
        let mut loader = loader.stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(std::time::Duration::from_millis(delay));
        loader.kill().unwrap();
        loader.wait().unwrap();
        if desk.path("shed.cellar/manifest").exists() {
            let total = desk.json(&["find", "shed.cellar", "oak", "--limit", "0"])["total"].as_u64().unwrap();
            assert_eq!(total % 50, 0, "after {delay} ms");
            assert!(total >= loaded, "{total} after {loaded}");
            loaded = total;
            desk.done(&["check", "shed.cellar"]);
        }
    }
    let output = desk.call(&load);
    assert!(output.status.success(), "{}", said(&output));
    assert!(
        loaded == 0 || said(&output).contains(&format!("Going on after {}", grouped(loaded))),
        "{}",
        said(&output)
    );
    let info = desk.json(&["info", "shed.cellar"]);
    assert_eq!(info["records"], 2_000);
    let other = desk.file("other.ndjson", "{\"id\": -1, \"title\": \"elm\"}\n");
    let output = desk.call(&["load", "shed.cellar", &other, "--resume"]);
    assert!(output.status.code() == Some(2) && said(&output).contains("did not come from these files"));
    // One file for each shelf and mask that counts, and none besides.
    let pieces = fs::read_dir(desk.path("shed.cellar/pieces")).unwrap().count() as u64;
    let shelves = info["shelves"].as_u64().unwrap();
    assert!((shelves..=2 * shelves).contains(&pieces), "{pieces} files for {shelves} shelves");
}

#[test]
fn terms_are_shown_by_pattern_with_the_records_that_have_them() {
    let desk = Desk::new();
    let file = desk.file("items.ndjson", RECORDS);
    let schema = desk.file("shed.cellar.toml", SCHEMA);
    desk.done(&["load", "shed.cellar", &file, "--schema", &schema]);
    let all = desk.json(&["terms", "shed.cellar", "*"]);
    let all = all["terms"].as_array().unwrap();
    assert!(all.iter().any(|one| one["term"] == "walnut" && one["records"].as_u64().unwrap() > 0));
    for (pattern, term) in [("*nut", "walnut"), ("wal*", "walnut"), ("*aln*", "walnut"), ("w?lnut", "walnut")]
    {
        let found = desk.json(&["terms", "shed.cellar", pattern]);
        assert_eq!(found["terms"][0]["term"], term, "{pattern}");
        assert_eq!(found["more"], false);
    }
    assert_eq!(desk.json(&["terms", "shed.cellar", "*", "--limit", "2"])["more"], true);
    assert!(desk.done(&["terms", "shed.cellar", "walnu"]).contains("walnu*"));
    assert!(desk.done(&["terms", "shed.cellar", "*nut"]).contains("looked at"));
    let refused = desk.refused(2, &["terms", "shed.cellar", "oak\\"]);
    assert!(refused.contains("backslash"), "{refused}");
}

#[test]
fn loading_with_several_threads_makes_the_same_cellar_and_tells_the_line_that_is_wrong() {
    let desk = Desk::new();
    let schema = desk.file("shed.cellar.toml", SCHEMA);
    let line = |n: usize| {
        format!("{{\"id\": \"k-{n}\", \"title\": \"Walnut box {n}\", \"notes\": \"tin {}\"}}\n", n % 9)
    };
    let good = desk.file("good.ndjson", &(0..2_000).map(line).collect::<String>());
    let info = |target: &str, threads: &str| {
        desk.done(&["load", target, &good, "--schema", &schema, "--threads", threads]);
        let mut info = desk.json(&["info", target]);
        info.as_object_mut().unwrap().remove("generation");
        info
    };
    assert_eq!(info("one.cellar", "1"), info("three.cellar", "3"));

    let wrong = |n: usize| {
        if n == 1_200 { "{\"id\": \"k\", \"found_on\": \"yesterday\"}\n".to_owned() } else { line(n) }
    };
    let bad = desk.file("bad.ndjson", &(0..2_000).map(wrong).collect::<String>());
    let refused = desk.refused(1, &["load", "bad.cellar", &bad, "--schema", &schema, "--threads", "2"]);
    assert!(refused.contains("line 1201") && refused.contains("yesterday"), "{refused}");
    let long = "x".repeat(70_000);
    let wrong = |n: usize| if n == 700 { format!("{{\"id\": \"{long}\"}}\n") } else { line(n) };
    let bad = desk.file("long.ndjson", &(0..2_000).map(wrong).collect::<String>());
    let refused = desk.refused(1, &["load", "long.cellar", &bad, "--schema", &schema, "--threads", "2"]);
    assert!(refused.contains("line 701"), "{refused}");
    desk.refused(2, &["load", "zero.cellar", &good, "--threads", "0"]);
}

#[test]
fn kept_values_packed_smaller_are_the_same() {
    let desk = Desk::new();
    let line = |n: usize| {
        format!(
            "{{\"id\": {n}, \"title\": \"Walnut box {n}\", \"notes\": \"left on platform {}\"}}\n",
            n % 90
        )
    };
    let file = desk.file("items.ndjson", &(0..3_000).map(line).collect::<String>());
    let mut kept = Vec::new();
    for packing in ["quick", "small"] {
        let schema = desk.file("packed.toml", &format!("packing = \"{packing}\"\n{SCHEMA}"));
        let target = format!("{packing}.cellar");
        desk.done(&["load", &target, &file, "--schema", &schema]);
        desk.done(&["check", &target]);
        let found = desk.json(&["find", &target, "walnut 77"]);
        assert_eq!(found["hits"][0]["values"]["notes"], "left on platform 77");
        kept.push(desk.json(&["info", &target])["sections"]["kept values"].as_u64().unwrap());
    }
    assert!(kept[1] * 5 < kept[0] * 4, "{kept:?}");
    let schema = desk.file("odd.toml", &format!("packing = \"tiny\"\n{SCHEMA}"));
    let refused = desk.refused(1, &["load", "odd.cellar", &file, "--schema", &schema]);
    assert!(refused.contains("tiny") && refused.contains("quick"), "{refused}");
}

#[test]
fn filters_orders_and_pages_are_for_the_command_too() {
    let desk = loaded();
    let keys = |arguments: &[&str]| {
        let mut all = vec!["find", "shed.cellar"];
        all.extend(arguments);
        let answer = desk.json(&all);
        let hits = answer["hits"].as_array().unwrap().clone();
        (hits.iter().map(|hit| hit["key"].as_str().unwrap().to_owned()).collect::<Vec<_>>(), answer)
    };
    assert_eq!(keys(&["box", "--where", "found_on >= 2031-04"]).0, ["b-2"]);
    assert_eq!(keys(&["box", "--where", "found_on is absent"]).0, ["a-1", "a-3"]);
    assert_eq!(keys(&["box", "--sort", "found_on:down"]).0, ["b-2", "a-1", "a-3"]);
    let (_, counted) =
        keys(&["box", "--count", "found_on by month", "--count", "found_on statistics", "--limit", "0"]);
    assert_eq!(
        counted["counts"],
        serde_json::json!([
            {
                "of": "found_on", "others": 0, "missing": 2,
                "values": [{"value": "2031-04", "from": "2031-04-01", "to": "2031-05-01", "records": 1}],
            },
            {
                "of": "found_on", "others": 0, "missing": 2,
                "statistics": {
                    "count": 1, "least": "2031-04-17", "greatest": "2031-04-17", "sum": null, "mean": null,
                    "quantiles": [[0.25, "2031-04-17"], [0.5, "2031-04-17"], [0.75, "2031-04-17"]],
                },
            },
        ])
    );
    let shown = desk.done(&["find", "shed.cellar", "box", "--count", "found_on by year", "--limit", "1"]);
    assert!(shown.contains(" 2031                     1 \n (no value)               2 \n"), "{shown}");
    assert_eq!(keys(&["*ssils OR ~walnt -regenschirm"]).0.len(), 3);
    assert_eq!(keys(&["walnut nothing", "--words", "50%"]).0.len(), 3);
    let (first, answer) = keys(&["walnut box", "--limit", "2"]);
    let (rest, _) = keys(&["walnut box", "--after", answer["next"].as_str().unwrap()]);
    assert_eq!((first.len(), rest.len()), (2, 1));
    assert!(!first.contains(&rest[0]));
    let (_, relaxed) = keys(&["walnut nothing", "--relax", "1"]);
    assert!(relaxed["notes"][0].as_str().unwrap().contains("1 of them"), "{relaxed}");
    assert_eq!(keys(&["umbrela regenschrim", "--near", "few", "--words", "any"]).0, ["c"]);
    for (arguments, said) in [
        (&["box", "--where", "found_on > soon"][..], "^^^^"),
        (&["box", "--where", "colour = 1"], "There is no column `colour`"),
        (&["(box", "--exacting"], "A bracket is not closed."),
        (&["box", "--sort", "found_on:sideways"], "`:up` or `:down`"),
        (&["box", "--sort", "title"], "can't be compared"),
        (&["box", "--count", "found_on by moon"], "^^^^"),
        (&["box", "--count", "title"], "can't be compared"),
        (&["box", "--after", "nonsense"], "no place in an order"),
        (&["box", "--words", "120%"], "60%"),
        (&["box", "--k1", "-1"], "k1 is -1"),
    ] {
        let mut all = vec!["find", "shed.cellar"];
        all.extend(arguments);
        let refused = desk.refused(2, &all);
        assert!(refused.contains(said), "{refused}");
    }
}

#[test]
fn a_pattern_that_stands_for_too_much_says_so() {
    let desk = Desk::new();
    let line = |number| format!("{{\"id\": {number}, \"title\": \"tag w{number:03}x\"}}");
    desk.file("tags.ndjson", &(0..900).map(line).collect::<Vec<_>>().join("\n"));
    desk.file("tags.toml", "key = \"id\"\n[column.title]\nkind = \"text\"\nlanguage = \"none\"\n");
    desk.done(&["load", "tags.cellar", "tags.ndjson", "--schema", "tags.toml"]);
    let all = desk.json(&["find", "tags.cellar", "w*x"]);
    assert_eq!((&all["total"], all["or_more"].is_null()), (&900.into(), true));
    let some = desk.json(&["find", "tags.cellar", "w*x", "--most-terms", "0"]);
    assert!((1..900).contains(&some["total"].as_u64().unwrap()), "{some}");
    assert_eq!(some["or_more"], true);
    let shown = desk.done(&["find", "tags.cellar", "w*x", "--most-terms", "0"]);
    assert!(shown.contains("At least "), "{shown}");
    // The last in the order of the dictionary is not looked at.
    let why = desk.done(&["why", "tags.cellar", "w*x", "899", "--most-terms", "0"]);
    assert!(why.contains("w*x stands for more terms than were looked at"), "{why}");
    assert!(desk.done(&["why", "tags.cellar", "w*x", "899"]).contains("of all"));
}

#[test]
fn a_costly_query_is_made_simpler_and_says_so() {
    let desk = loaded();
    let asked = ["find", "shed.cellar", "\"walnut box\" OR \"brass hinges\" OR umbrella"];
    let usual = desk.json(&asked);
    let simpler = desk.json(&[&asked[..], &["--most-postings", "0"]].concat());
    assert!(usual["notes"].as_array().unwrap().is_empty(), "{usual}");
    let notes = simpler["notes"].to_string();
    assert!(
        notes.contains("looked for wherever they stand") && notes.contains("do not count in scores"),
        "{notes}"
    );
    assert!(simpler["total"].as_u64() >= usual["total"].as_u64(), "{simpler}");
}

#[test]
fn what_a_score_is_made_of_is_shown_and_why_there_is_none() {
    let desk = loaded();
    let found = desk.json(&["why", "shed.cellar", "walnut box", "b-2"]);
    let reckoning = &found["why"]["found"];
    let hit = desk.json(&["find", "shed.cellar", "walnut box"])["hits"][0].clone();
    assert_eq!((&reckoning["score"], &reckoning["rank"]), (&hit["score"], &1.into()));
    assert_eq!(reckoning["words"][1]["terms"][0]["term"], "boxes");
    let shown = desk.done(&["why", "shed.cellar", "walnut box", "a-1", "--proximity", "1"]);
    for part in ["number 2 of all", "Before it comes b-2", "once in", "nearness"] {
        assert!(shown.contains(part) || part == "nearness", "{part}: {shown}");
    }
    for (arguments, said) in [
        (&["walnut box", "c"][..], "walnut is nowhere in it"),
        (&["title:walnut", "a-1"], "is in notes, which was not searched"),
        (&["box -walnut", "b-2"], "walnut is in it, and is not wanted"),
        (&["box", "b-2", "--where", "found_on < 2031"], "Its found_on is 2031-04-17, which is ruled out"),
        (&["box", "a-1", "--where", "found_on < 2031"], "It has no found_on"),
        (&["schwarz OR (oak AND elm)", "b-2"], "1 are needed"),
        (&["box", "nobody"], "There is no record nobody"),
        (&["", "b-2"], "nothing to look for"),
    ] {
        let mut all = vec!["why", "shed.cellar"];
        all.extend(arguments);
        let shown = desk.done(&all);
        assert!(shown.contains(said), "{said}: {shown}");
    }
}

#[test]
fn rankings_are_compared_and_searches_are_timed_and_reported() {
    let desk = loaded();
    let misread = ["shed.cellar", "\"walnut box"];
    let noted = |document: &Value| {
        assert!(document["notes"][0].as_str().unwrap().contains("not closed"), "{document}");
        assert!(document["noted"][0].is_object(), "{document}");
    };
    noted(&desk.json(&["why", misread[0], misread[1], "b-2"]));
    noted(&desk.json(&["compare", misread[0], misread[1], "--against", "title=0"])["first"]);
    let compared = desk.json(&["compare", "shed.cellar", "walnut box", "--against", "title=0"]);
    assert_eq!(compared["moved"].as_array().unwrap().len(), 3);
    assert!(compared["overlap"].as_f64().unwrap() <= 1.0);
    let shown = desk.done(&["compare", "shed.cellar", "walnut box", "--against", "title=0,notes=9"]);
    assert!(shown.contains("alike") && shown.contains("Walnut boxes"), "{shown}");

    desk.file("queries.txt", "walnut box\n\n\"two brass\"\n*ssils\n");
    let timed = desk.json(&["time", "shed.cellar", "--queries", "queries.txt", "--repeat", "2"]);
    assert_eq!(timed["queries"], 3);
    assert!(timed["first_median_us"].as_f64().unwrap() >= timed["median_us"].as_f64().unwrap());
    assert!(timed["median_us"].as_f64().unwrap() <= timed["p99_us"].as_f64().unwrap());
    assert!(desk.done(&["time", "shed.cellar", "--queries", "queries.txt"]).contains("3 queries"));
    desk.file("empty.txt", "\n");
    assert!(desk.refused(2, &["time", "shed.cellar", "--queries", "empty.txt"]).contains("has no query"));
    assert!(desk.refused(1, &["time", "shed.cellar", "--queries", "none.txt"]).contains("none.txt"));

    let report = desk.json(&["find", "shed.cellar", "walnut OR *ssils", "--plan"]);
    assert_eq!(report["query"], "walnut OR *ssils");
    assert_eq!(report["shelves"][0]["records"], 4);
    assert_eq!((&report["total"], &report["words"][0]["records"]), (&3.into(), &2.into()));
    let shown = desk.done(&["find", "shed.cellar", "walnut box", "--plan", "--where", "found_on is absent"]);
    for part in ["It means walnut box", "only where found_on is absent", "postings", "2 records found"] {
        assert!(shown.contains(part), "{part}: {shown}");
    }
}

#[test]
fn a_key_of_two_columns_is_typed_with_a_slash_and_rows_come_through_a_view() {
    let desk = Desk::new();
    let db = Connection::open(desk.path("app.db")).unwrap();
    db.execute_batch(
        "CREATE TABLE stations(id INTEGER PRIMARY KEY, name TEXT);
         CREATE TABLE items(depot TEXT, number INTEGER, title TEXT, station INTEGER, PRIMARY KEY (depot, number));
         INSERT INTO stations VALUES (1, 'Elmfold'); INSERT INTO items VALUES ('North', 7, 'Walnut box', 1), ('7', 7, 'Oak box', 1);
         CREATE VIEW cards AS SELECT depot, number, title, name FROM items JOIN stations ON id = station",
    )
    .unwrap();
    let columns = "[column.title]\nkind = \"text\"\n[column.name]\nkind = \"text\"\n";
    let source = "[source]\ntable = \"items\"\nview = \"cards\"\n\
         [[source.join]]\ntable = \"stations\"\non = \"stations.id = items.station\"\n";
    desk.file("schema.toml", &format!("key = [\"depot\", \"number\"]\n{columns}{source}"));
    let target = "sqlite:app.db#items";
    desk.done(&["adopt", target, "--schema", "schema.toml"]);
    assert_eq!(desk.keys(target, "walnut elmfold"), ["[\"North\",7]"]);
    assert!(desk.done(&["find", target, "walnut"]).contains("North/7"));
    db.execute_batch("UPDATE stations SET name = 'Quill Halt'").unwrap();
    assert_eq!(desk.keys(target, "box quill").len(), 2);
    for key in ["North/7", "7/7"] {
        let why = desk.done(&["why", target, "quill", key]);
        assert!(why.contains(&format!("{key} scores")), "{why}");
    }
    assert!(desk.done(&["why", target, "quill", "North/8"]).contains("no record North/8"));
    // The same in a folder.
    desk.file("items.csv", "depot,number,title,name\nNorth,7,Walnut box,Elmfold\nSouth,7,Oak box,Elmfold\n");
    desk.file("plain.toml", &format!("key = [\"depot\", \"number\"]\n{columns}"));
    desk.done(&["load", "shed.cellar", "items.csv", "--schema", "plain.toml"]);
    desk.done(&["load", "shed.cellar", "items.csv", "--schema", "plain.toml"]);
    assert_eq!(desk.keys("shed.cellar", "elmfold"), ["[\"North\",7]", "[\"South\",7]"]);
    for (key, part) in [("[]", "key"), ("[\"depot\", \"depot\"]", "twice"), ("[\"depot\", \"\"]", "key")] {
        desk.file("bad.toml", &format!("key = {key}\n{columns}"));
        let told = desk.refused(1, &["load", "other.cellar", "items.csv", "--schema", "bad.toml"]);
        assert!(told.contains(part), "{told}");
    }
}

#[test]
fn a_request_is_answered_as_the_library_and_sql_answer_it() {
    let desk = Desk::new();
    let db = Connection::open(desk.path("app.db")).unwrap();
    db.execute_batch(
        "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, notes TEXT, found_on TEXT);
         INSERT INTO items VALUES (1, 'Walnut box', 'brass hinge', '2031-04-17'), (2, 'Oak box', 'smells of walnuts', NULL),
           (3, 'Umbrella', 'walnut handle', '2031-05-02'), (4, 'Tin box', NULL, '2031-06-30');",
    )
    .unwrap();
    desk.file("schema.toml", SCHEMA);
    desk.done(&["adopt", "sqlite:app.db#items", "--schema", "schema.toml"]);
    let cellar = SqliteCellar::open(&db, "items").unwrap();
    SqlFunctions::new().register(&db).unwrap();
    let requests: [(&str, &[&str]); 4] = [
        (r#"{"query": "walnut", "marks": true}"#, &["walnut"]),
        (
            r#"{"query": "walnut \"oak", "words": "any", "weights": {"notes": 9}, "limit": 1, "marks": true}"#,
            &["walnut \"oak", "--words", "any", "--weights", "notes=9", "--limit", "1"],
        ),
        (
            r#"{"query": "box", "where": "found_on >= 2031", "sort": "found_on:down", "columns": ["title"], "skip": 1, "marks": true}"#,
            &[
                "box",
                "--where",
                "found_on >= 2031",
                "--sort",
                "found_on:down",
                "--columns",
                "title",
                "--skip",
                "1",
            ],
        ),
        (
            r#"{"query": "walnot tin", "near": "few", "first_letters": 3, "relax": 2, "k1": 1.5, "b": 0.5, "proximity": 2.0,
                "exact_forms": true, "beginnings": "last", "marks": true}"#,
            &[
                "walnot tin",
                "--near",
                "few",
                "--first-letters",
                "3",
                "--relax",
                "2",
                "--k1",
                "1.5",
                "--b",
                "0.5",
                "--proximity",
                "2",
                "--exact-forms",
                "--beginnings",
            ],
        ),
    ];
    for (request, options) in requests {
        desk.file("request.json", request);
        let mut of_command = desk.json(&["find", "sqlite:app.db#items", "--request", "request.json"]);
        assert!(of_command.as_object_mut().unwrap().remove("time_us").unwrap().as_f64().unwrap() > 0.0);
        let of_library = cellar.answer(&db, &Request::read(request).unwrap()).unwrap();
        assert_eq!(
            of_command,
            serde_json::from_str::<Value>(&serde_json::to_string(&of_library).unwrap()).unwrap()
        );
        let sql = "SELECT cellar_response('items', ?1)";
        let of_sql: String = db.query_row(sql, [request], |row| row.get(0)).unwrap();
        assert_eq!(of_command, serde_json::from_str::<Value>(&of_sql).unwrap());
        let mut of_options = desk.json(&[&["find", "sqlite:app.db#items"], options].concat());
        of_options.as_object_mut().unwrap().remove("time_us");
        assert_eq!(of_options, of_command, "{options:?}");
        assert!(of_library.hits.iter().all(|hit| !hit.marks.is_empty()), "{request}");
    }
    desk.file("request.json", r#"{"query": "oak", "colour": "red"}"#);
    let said = desk.refused(2, &["find", "sqlite:app.db#items", "--request", "request.json"]);
    assert!(said.contains("request.json: ") && said.contains("unknown field `colour`"), "{said}");
    desk.refused(2, &["find", "sqlite:app.db#items"]);
    desk.refused(2, &["find", "sqlite:app.db#items", "oak", "--request", "request.json"]);
    desk.refused(2, &["find", "sqlite:app.db#items", "--limit", "3", "--request", "request.json"]);
    let said = desk.refused(1, &["find", "sqlite:app.db#items", "--request", "nothing.json"]);
    assert!(said.contains("nothing.json: reading the request failed"), "{said}");
}

#[test]
fn rows_are_touched_and_tables_read_again() {
    let desk = Desk::new();
    desk.file("schema.toml", SCHEMA);
    let db = Connection::open(desk.path("app.db")).unwrap();
    db.execute_batch(
        "CREATE TABLE items(id TEXT PRIMARY KEY, title TEXT, notes TEXT, found_on TEXT);
         INSERT INTO items(id, title) VALUES ('q1', 'Walnut box'), ('7', 'Umbrella'), ('q3', 'Tin');",
    )
    .unwrap();
    let target = "sqlite:app.db#items";
    desk.done(&["adopt", target, "--schema", "schema.toml"]);
    let trigger: String = db
        .query_row("SELECT sql FROM sqlite_schema WHERE name = 'cellar_items_after_update'", [], |row| {
            row.get(0)
        })
        .unwrap();
    let unseen = |sql: &str| {
        db.execute_batch(&format!("DROP TRIGGER cellar_items_after_update; {sql}; {trigger}")).unwrap();
    };
    unseen("UPDATE items SET title = 'Elm ' || title");
    assert!(desk.keys(target, "elm").is_empty());
    let output = desk.call(&["touch", target, "q1", "7", "-9"]);
    assert!(
        output.status.success() && said(&output).contains("3 rows will be read again"),
        "{}",
        said(&output)
    );
    assert_eq!(desk.keys(target, "elm"), ["\"7\"", "\"q1\""]);
    assert!(desk.keys(target, "elm tin").is_empty());
    let output = desk.call(&["rebuild", target]);
    assert!(
        output.status.success() && said(&output).contains("3 rows put into a shelf"),
        "{}",
        said(&output)
    );
    assert_eq!(desk.keys(target, "elm tin"), ["\"q3\""]);
    desk.refused(2, &["touch", target]);
    desk.refused(2, &["touch", "shed.cellar", "q1"]);
    desk.refused(1, &["rebuild", "sqlite:app.db#nothing"]);
}

#[test]
fn it_tells_shells_manuals_and_versions_of_itself() {
    let desk = Desk::new();
    for shell in ["bash", "zsh", "fish", "elvish", "powershell"] {
        let script = desk.done(&["completions", shell]);
        assert!(
            script.contains("nut-cellar") && script.contains("compare") && script.contains("first-letters"),
            "{shell}"
        );
    }
    desk.refused(2, &["completions", "csh"]);
    let page = desk.done(&["man"]);
    assert!(page.contains(".TH nut-cellar 1") && page.contains(".SH \"NUT-CELLAR FIND\""), "{page}");
    assert!(
        page.contains("\\-\\-request") && page.contains("what a match in a column weighs")
            || page.contains("What a match in a column weighs")
    );
    let version = desk.done(&["--version"]);
    assert!(
        version.contains(env!("CARGO_PKG_VERSION")) && version.contains("layout of shelves: 5"),
        "{version}"
    );
    assert!(version.contains("dictionaries"), "{version}");
    assert_eq!(desk.done(&["-V"]).lines().count(), 1);
}

#[test]
fn what_searches_find_of_what_is_right_is_measured() {
    let desk = loaded();
    desk.file("queries.tsv", "401\twalnut box\n402\thinges\n403\tnothing of the kind\n");
    desk.file("right.qrels", "401 0 a-1 2\n401 0 b-2 0\n402 0 b-2 1\n404 0 c 1\n");
    let judge =
        ["judge", "shed.cellar", "--strict", "--queries", "queries.tsv", "--judgments", "right.qrels"];
    let with = |more: &[&'static str]| [&judge[..], more].concat();

    // `walnut box` finds b-2, a-1, a-3; the second is right. `hinges` finds b-2.
    let judged = desk.json(&with(&["--run-out", "plain.run"]));
    let measures = &judged["measures"];
    assert_eq!(
        (&judged["queries"], &measures["rr@10"], &measures["recall@100"]),
        (&2.into(), &0.75.into(), &1.0.into())
    );
    assert_eq!((&judged["without_right"][0], &judged["not_asked"][0]), (&"403".into(), &"404".into()));
    assert_eq!((&judged["unjudged"], &judged["each"][0]["values"][0]), (&1.into(), &0.5.into()));
    assert!(judged.get("against").is_none() && judged.get("p_value").is_none(), "{judged}");
    let run = fs::read_to_string(desk.path("plain.run")).unwrap();
    assert!(run.starts_with("401 Q0 b-2 1 ") && run.lines().count() == 4, "{run}");

    // Two rankings: by weights, and by settings that say the same. What the call says is as it is in both.
    let against =
        desk.json(&with(&["--words", "any", "--against", "title=0,notes=9", "--measures", "rr@10,p@1"]));
    assert_eq!(against["against"]["rr@10"], 1.0, "{against}");
    assert_eq!(
        (&against["p_value"], &against["won"][0]["moved"][0]),
        (&1.0.into(), &serde_json::json!(["a-1", 2, 1]))
    );
    let said = "--weights title=0,notes=9 --words 'any'";
    let same = desk.json(&with(&["--words", "any", "--against", said, "--measures", "rr@10,p@1"]));
    assert_eq!(same, against);
    let shown = desk.done(&with(&["--against", "--k1 0", "--plot", "judged.svg"]));
    let drawn = fs::read_to_string(desk.path("judged.svg")).unwrap();
    assert!(drawn.contains("rr@10 of each query") && drawn.contains("second ranking"), "{drawn}");
    assert!(shown.contains("rr@10") && shown.contains("change") && shown.contains("2 queries"), "{shown}");
    let moved =
        desk.done(&["compare", "shed.cellar", "walnut box", "--against", "--weights title=0,notes=9"]);
    assert_eq!(moved, desk.done(&["compare", "shed.cellar", "walnut box", "--against", "title=0,notes=9"]));

    for (more, says) in [
        (&["--against", "--colour x"][..], "unexpected argument '--colour'"),
        (&["--against", "--words 'any"], "quotation mark"),
        (&["--against", "title"], "not like `title=4`"),
        (&["--against", "colour=4"], "colour"),
    ] {
        let said = desk.refused(2, &with(more));
        assert!(said.contains(says), "{said}");
    }
    desk.file("bad.qrels", "401 0 a-1 2\n401 a-1\n");
    let said =
        desk.refused(2, &["judge", "shed.cellar", "--queries", "queries.tsv", "--judgments", "bad.qrels"]);
    assert!(said.contains("bad.qrels: line 2"), "{said}");
    desk.file("none.qrels", "7 0 a-1 2\n");
    let said =
        desk.refused(2, &["judge", "shed.cellar", "--queries", "queries.tsv", "--judgments", "none.qrels"]);
    assert!(said.contains("same numbers"), "{said}");
    let timed = desk.json(&["time", "shed.cellar", "--queries", "queries.tsv", "--repeat", "1"]);
    assert_eq!(timed["queries"], 3);
}

/// Another ranking is the default of every search from then on, in a folder and in a table, and no record is read for it.
#[test]
fn a_cellar_gets_another_ranking_without_a_record_being_read() {
    let desk = loaded();
    let db = Connection::open(desk.path("app.db")).unwrap();
    db.execute_batch(
        "CREATE TABLE items(id TEXT PRIMARY KEY, title TEXT, notes TEXT, found_on TEXT);
         INSERT INTO items VALUES ('b-2', 'Walnut boxes', 'two brass hinges', NULL), ('a-1', 'Box of fossils', 'a walnut among them', NULL)",
    )
    .unwrap();
    desk.done(&["adopt", "sqlite:app.db#items", "--schema", "schema.toml"]);
    let ranking =
        "[ranking]\nk1 = 0.5\nb = { title = 0.2, notes = 0.9 }\nweights = { title = 0.5, notes = 9.0 }\n";
    desk.file("ranked.toml", &format!("{SCHEMA}{ranking}"));
    for target in ["shed.cellar", "sqlite:app.db#items"] {
        let hits =
            |more: &[&str]| desk.json(&[&["find", target, "walnut box"], more].concat())["hits"].clone();
        let (usual, asked) =
            (hits(&[]), ["--k1", "0.5", "--b", "title=0.2,notes=0.9", "--weights", "title=0.5,notes=9"]);
        let expected = hits(&asked);
        assert_ne!(usual, expected);
        let told = said(&desk.call(&["adopt", target, "--schema", "ranked.toml"]));
        assert!(told.contains("ranked otherwise") && told.contains("had to be read again"), "{told}");
        assert_eq!((hits(&[]), hits(&asked)), (expected.clone(), expected));
        let back = ["--k1", "1.2", "--b", "0.75", "--weights", "title=4,notes=1"];
        assert_eq!(hits(&back), usual);
        let why = desk.json(&["why", target, "walnut box", "a-1"]);
        assert_eq!(why["why"]["found"]["words"][1]["terms"][0]["columns"][0]["b"], 0.2_f32, "{why}");
        assert!(desk.done(&["why", target, "walnut box", "a-1"]).contains("weight 0.5, b 0.2"));
    }
    desk.file("other.toml", &SCHEMA.replace("\"en\"", "\"de\""));
    let said = desk.refused(2, &["adopt", "shed.cellar", "--schema", "other.toml"]);
    assert!(said.contains("read again") && said.contains("`title` is read otherwise"), "{said}");
    let said = desk.refused(2, &["find", "shed.cellar", "walnut", "--b", "colour=1"]);
    assert!(said.contains("colour"), "{said}");
}

#[test]
fn records_are_asked_for_by_the_words_of_a_column() {
    let desk = loaded();
    let known = ["judge", "shed.cellar", "--known", "title", "--sample", "9", "--words", "any"];
    let judged = desk.json(&known);
    // Four records have titles; the title itself is not searched.
    let asked: Vec<_> =
        judged["each"].as_array().unwrap().iter().map(|query| query["text"].as_str().unwrap()).collect();
    assert_eq!(asked.len(), 4, "{judged}");
    assert!(judged["measures"]["rr@10"].as_f64().unwrap() < 1.0, "{judged}");
    assert_eq!(desk.json(&known), judged, "the same lots");
    let mistyped = desk.json(&[&known[..], &["--mistakes", "1"]].concat());
    let texts = |judged: &Value| {
        judged["each"].as_array().unwrap().iter().map(|query| query["text"].clone()).collect::<Vec<_>>()
    };
    let differ = texts(&mistyped).iter().zip(texts(&judged)).filter(|(one, other)| *one != other).count();
    assert!(differ >= 3, "{mistyped}");
    for (column, says) in [("colour", "`colour`"), ("title", "no column to search")] {
        let said = desk.refused(2, &["judge", "shed.cellar", "--known", column, "--columns", "title"]);
        assert!(said.contains(says), "{said}");
    }
}

#[test]
fn judgments_are_made_one_by_one_and_gone_on_with() {
    let desk = loaded();
    desk.file("queries.tsv", "7\tbox\n8\tschwarz\n");
    let answer = |typed: &str| {
        let arguments =
            ["judge", "shed.cellar", "--queries", "queries.tsv", "--into", "right.qrels", "--depth", "2"];
        let mut command = desk.command(
            &[&arguments[..], &["--pool", "title=0", "--pool", "--words any --sort found_on"]].concat(),
        );
        let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
        child.stdin.take().unwrap().write_all(typed.as_bytes()).unwrap();
        let output = child.wait_with_output().unwrap();
        assert!(output.status.success());
        (String::from_utf8(output.stdout).unwrap(), fs::read_to_string(desk.path("right.qrels")).unwrap())
    };
    // The first two of each ranking, in the order of their keys; what is said a second time is appended.
    let (shown, file) = answer("2\nwhat\nw\n0\nb\n1\nq\n");
    assert!(shown.contains("1 of 4") && shown.contains("Answer 0, 1 or 2"), "{shown}");
    assert!(shown.contains("Number 2 of ranking 1.") && shown.contains("box by"), "{shown}");
    assert_eq!(file, "7 0 a-1 2\n7 0 a-3 0\n7 0 a-3 1\n");
    let (shown, file) = answer("0\n1\n");
    assert!(
        !shown.contains("a-1")
            && shown.contains("3 of 4")
            && shown.ends_with("4 records are judged, in right.qrels.\n"),
        "{shown}"
    );
    assert_eq!(file, "7 0 a-1 2\n7 0 a-3 0\n7 0 a-3 1\n7 0 b-2 0\n8 0 c 1\n");
    let judged =
        desk.json(&["judge", "shed.cellar", "--queries", "queries.tsv", "--judgments", "right.qrels"]);
    assert_eq!((&judged["measures"]["rr@10"], &judged["unjudged"]), (&1.0.into(), &0.into()));
}

/// Titles are what is asked for; notes lead astray. What is found goes into the schema as it was printed.
#[test]
fn a_ranking_is_tuned_and_given_to_the_cellar() {
    let desk = Desk::new();
    let words = ["oak", "elm", "brass", "walnut", "silver", "copper"];
    let (mut records, mut queries, mut right) = (String::new(), String::new(), String::new());
    for number in 0..36 {
        let (one, other) = (words[number % 6], words[number / 6]);
        let astray = format!("{other} {one} ").repeat(3);
        let _ =
            writeln!(records, r#"{{"id":{number},"title":"{one} {other} thing","notes":"number {number}"}}"#);
        let _ = writeln!(records, r#"{{"id":{},"title":"thing","notes":"{astray}"}}"#, 100 + number);
        let _ = writeln!(queries, "{number}\t{one} {other}");
        let _ = writeln!(right, "{number} 0 {number} 1");
    }
    desk.file("items.ndjson", &records);
    desk.file("queries.tsv", &queries);
    desk.file("right.qrels", &right);
    let schema =
        "key = \"id\"\n[column.title]\nkind = \"text\"\n[column.notes]\nkind = \"text\"\nweight = 3.0\n";
    desk.file("schema.toml", schema);
    desk.done(&["load", "shed.cellar", "items.ndjson", "--schema", "schema.toml"]);
    let set = ["--queries", "queries.tsv", "--judgments", "right.qrels", "--words", "any"];
    let tune = [
        &["tune", "shed.cellar", "--over", "title", "--measure", "rr@10", "--restarts", "0", "--folds", "3"],
        &set[..],
    ]
    .concat();
    let tuned = desk.json(&tune);
    assert_eq!(
        (&tuned["queries"], &tuned["gain"], &tuned["ended"]),
        (&36.into(), &true.into(), &false.into()),
        "{tuned}"
    );
    assert!(
        tuned["after"].as_f64() > tuned["before"].as_f64() && tuned["p_value"].as_f64() < Some(0.01),
        "{tuned}"
    );
    assert_eq!(desk.json(&tune), tuned, "the same lots");

    let shown = desk.done(&tune);
    let toml: Vec<_> = shown
        .lines()
        .skip_while(|line| !line.starts_with("[ranking"))
        .take_while(|line| !line.starts_with('#'))
        .collect();
    desk.file("tuned.toml", &format!("{schema}{}", toml.join("\n")));
    let settings = shown.lines().last().unwrap().to_owned();
    let judge = [&["judge", "shed.cellar", "--measures", "rr@10", "--against", &settings], &set[..]].concat();
    let against = desk.json(&judge);
    assert!(against["against"]["rr@10"].as_f64() > against["measures"]["rr@10"].as_f64(), "{against}");
    desk.done(&["adopt", "shed.cellar", "--schema", "tuned.toml"]);
    let now = desk.json(&judge);
    assert_eq!((&now["measures"], &now["p_value"]), (&against["against"], &1.0.into()), "{now}");
    // From there nothing is better.
    let again = desk.json(&tune);
    assert_eq!((&again["gain"], &again["before"]), (&false.into(), &now["measures"]["rr@10"]), "{again}");
    assert!(desk.done(&tune).contains("no gain that chance would not give"));
    let said = desk.refused(2, &["tune", "shed.cellar", "--known", "title", "--over", "k1,title"]);
    assert!(said.contains("`title` can't be tuned"), "{said}");
    for (over, says) in [("k2", "`k2` can't be tuned"), ("b:colour", "can't be tuned")] {
        let said = desk.refused(2, &[&["tune", "shed.cellar", "--over", over], &set[..]].concat());
        assert!(said.contains(says), "{said}");
    }
}
