//! What `load`, targets and messages make of input that is broken, doubtful or hostile.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use rusqlite::Connection;
use std::fs;
use std::path::PathBuf;
use std::process::{Command, Output};

struct Desk(tempfile::TempDir);

impl Desk {
    fn new() -> Self {
        Self(tempfile::tempdir().unwrap())
    }

    fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    fn file(&self, name: &str, text: impl AsRef<[u8]>) {
        fs::write(self.path(name), text).unwrap();
    }

    fn call(&self, arguments: &[&str]) -> Output {
        let mut command = Command::new(env!("CARGO_BIN_EXE_nut-cellar"));
        command.current_dir(self.0.path()).args(arguments).output().unwrap()
    }

    /// What it says, if it succeeds.
    fn done(&self, arguments: &[&str]) -> String {
        let output = self.call(arguments);
        assert!(output.status.success(), "{arguments:?}: {}", said(&output));
        said(&output)
    }

    /// What it says, if it fails.
    fn refused(&self, arguments: &[&str]) -> String {
        let output = self.call(arguments);
        assert!(!output.status.success(), "{arguments:?}: {}", said(&output));
        said(&output)
    }

    fn total(&self, target: &str, query: &str) -> u64 {
        let answer = String::from_utf8(self.call(&["find", target, query, "--json"]).stdout).unwrap();
        serde_json::from_str::<serde_json::Value>(&answer).unwrap()["total"].as_u64().unwrap()
    }
}

fn said(output: &Output) -> String {
    String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr)
}

const SCHEMA: &str = "key = \"id\"\n[column.title]\nkind = \"text\"\nlanguage = \"none\"\n";

#[test]
fn what_goes_on_is_what_was_loaded() {
    let lines = |words: [&str; 4]| {
        (0..).zip(words).fold(String::new(), |lines, (id, word)| {
            lines + &format!("{{\"id\": {id}, \"title\": \"{word}\"}}\n")
        })
    };
    let csv = |words: [&str; 4]| {
        (0..).zip(words).fold("id,title\n".to_owned(), |lines, (id, word)| lines + &format!("{id},{word}\n"))
    };
    for (name, of) in [("items.ndjson", &lines as &dyn Fn([&str; 4]) -> String), ("items.csv", &csv)] {
        let desk = Desk::new();
        desk.file("schema.toml", SCHEMA);
        desk.file(name, of(["oak", "elm", "oak", "elm"]));
        let load = ["load", "shed.cellar", name, "--schema", "schema.toml", "--batch", "3", "--resume"];
        desk.done(&load);
        // More behind it is what there is to go on with.
        desk.file(
            name,
            of(["oak", "elm", "oak", "elm"])
                + if name.ends_with("csv") { "4,quill\n" } else { "\n{\"id\": 4, \"title\": \"quill\"}" },
        );
        assert!(desk.done(&load).contains("Going on after 4 records"));
        assert_eq!((desk.total("shed.cellar", "oak"), desk.total("shed.cellar", "quill")), (2, 1));
        // Other contents under the same name, as many lines or fewer.
        for words in [["oak", "elm", "elm", "elm"], ["elm", "oak", "oak", "elm"]] {
            desk.file(name, of(words));
            let said = desk.refused(&load);
            assert!(said.contains("not what is in them now"), "{said}");
        }
        desk.file(
            name,
            if name.ends_with("csv") { "id,title\n0,oak\n" } else { "{\"id\": 0, \"title\": \"oak\"}\n" },
        );
        assert!(desk.refused(&load).contains("not what is in them now"));
        assert_eq!((desk.total("shed.cellar", "oak"), desk.total("shed.cellar", "elm")), (2, 2));
    }
}

#[test]
fn files_that_are_not_what_they_seem_are_told_with_their_line() {
    let desk = Desk::new();
    desk.file("schema.toml", SCHEMA);
    for (name, text, what) in [
        ("twice.csv", "id,title,title\n1,oak,elm\n", "twice.csv, line 1: two columns are called `title`"),
        ("open.csv", "id,title\n1,oak\n2,\"elm\n3,quill\n", "open.csv, line 3: a quotation is not closed"),
        ("open2.csv", "id,title\n1,\"oak\"\"\n", "open2.csv, line 2: a quotation is not closed"),
        (
            "twice.ndjson",
            "{\"id\": 1, \"title\": \"oak\"}\n{\"id\": 2, \"title\": \"oak\", \"title\": \"elm\"}\n",
            "twice.ndjson, line 2: this is no JSON object (it has two fields `title`",
        ),
        ("list.ndjson", "[1]\n", "list.ndjson, line 1: this is no JSON object"),
    ] {
        desk.file(name, text);
        let said = desk.refused(&["load", "shed.cellar", name, "--schema", "schema.toml"]);
        assert!(said.contains(what), "{said}");
        assert!(!desk.path("shed.cellar").exists(), "{name}");
    }
    // These are what they seem, and a mark in front of a text is no part of it.
    for (name, text, query) in [
        ("marked.ndjson", "\u{feff}{\"id\": 1, \"title\": \"oak\"}\n", "oak"),
        ("marked.csv", "\u{feff}id,title\n2,elm\n", "elm"),
        ("closed.csv", "id,title\n3,\"a \"\"quill\"\" of\nbrass\"", "quill"),
        ("inches.csv", "id,title\n4,a 5\" pipe\n", "pipe"),
        ("last.csv", "id,title\n5,\"tin\"", "tin"),
    ] {
        desk.file(name, text);
        desk.done(&["load", "shed.cellar", name, "--schema", "schema.toml"]);
        if !desk.path("made").exists() {
            desk.file("made", "");
            desk.file("schema.toml", SCHEMA);
        }
        assert_eq!(desk.total("shed.cellar", query), 1, "{name}");
    }
}

#[test]
fn records_that_replace_others_are_told() {
    let desk = Desk::new();
    desk.file("schema.toml", SCHEMA);
    desk.file("items.csv", "id,title\n1,oak\n2,elm\n1,quill\n1,tin\n");
    let said = desk.done(&["load", "shed.cellar", "items.csv", "--schema", "schema.toml"]);
    assert!(said.contains("2 records were replaced by later ones with the same key."), "{said}");
    desk.file("more.csv", "id,title\n3,brass\n2,oak\n");
    let said = desk.done(&["load", "shed.cellar", "more.csv"]);
    assert!(said.contains("1 record was replaced by later ones with the same key."), "{said}");
    desk.file("more.csv", "id,title\n4,brass\n");
    assert!(!desk.done(&["load", "shed.cellar", "more.csv"]).contains("replaced"));
}

#[test]
fn names_with_the_sign_that_stands_between_them_are_found() {
    let desk = Desk::new();
    desk.file("schema.toml", SCHEMA);
    for (file, table) in [("app.db", "lost#found"), ("a#b.db", "items"), ("c#d.db", "e#f#g")] {
        let db = Connection::open(desk.path(file)).unwrap();
        db.execute_batch(&format!("CREATE TABLE \"{table}\"(id INTEGER PRIMARY KEY, title TEXT); INSERT INTO \"{table}\" VALUES (1, 'oak')")).unwrap();
        let target = format!("sqlite:{file}#{table}");
        desk.done(&["adopt", &target, "--schema", "schema.toml"]);
        assert_eq!(desk.total(&target, "oak"), 1, "{target}");
        desk.done(&["release", &target]);
    }
    assert!(desk.refused(&["info", "sqlite:none.db#a#b"]).contains("none.db#a: there is no such file"));
}

#[test]
fn nothing_that_is_shown_turns_the_text_of_the_terminal() {
    let desk = Desk::new();
    desk.file("schema.toml", SCHEMA);
    let turned = "oak \u{202e}kao\u{2066} \u{200f}x\u{2028}y\u{1b}[31m";
    desk.file(
        "items.ndjson",
        format!("{}\n", serde_json::json!({"id": turned, "title": turned, "odd\u{202e}": 1})),
    );
    let turns = |text: &str| text.chars().any(|c| "\u{202e}\u{2066}\u{200f}\u{2028}\u{1b}".contains(c));
    let calls: [&[&str]; 6] = [
        &["load", "shed.cellar", "items.ndjson", "--schema", "schema.toml"],
        &["find", "shed.cellar", "oak \u{202e}"],
        &["find", "shed.cellar", "oak", "--plan"],
        &["why", "shed.cellar", "oak", turned],
        &["find", "shed.cellar", "oak", "--json"],
        &["terms", "shed.cellar", "*x*", "--json"],
    ];
    for call in calls {
        let said = desk.done(call);
        assert!(!turns(&said), "{call:?}: {said:?}");
    }
    let refused: [&[&str]; 2] =
        [&["info", "nothing\u{202e}"], &["find", "shed.cellar", "oak", "--where", "\u{202e} = 5"]];
    for call in refused {
        assert!(!turns(&desk.refused(call)), "{call:?}");
    }
    // A program that reads the document has the text as it is.
    let answer = String::from_utf8(desk.call(&["find", "shed.cellar", "oak", "--json"]).stdout).unwrap();
    let answer: serde_json::Value = serde_json::from_str(&answer).unwrap();
    assert_eq!(answer["hits"][0]["key"], turned);
}

#[test]
fn a_cellar_that_can_t_be_opened_is_repaired_with_its_schema() {
    let desk = Desk::new();
    desk.file("schema.toml", SCHEMA);
    let db = Connection::open(desk.path("app.db")).unwrap();
    db.execute_batch(
        "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT); INSERT INTO items VALUES (1, 'oak')",
    )
    .unwrap();
    let target = "sqlite:app.db#items";
    desk.done(&["adopt", target, "--schema", "schema.toml"]);
    for lost in [
        "UPDATE cellar_items_state SET manifest = x'00'",
        "DROP TABLE cellar_items_state",
        "DROP TABLE cellar_items_log",
    ] {
        db.execute_batch(lost).unwrap();
        if lost.ends_with("log") || lost.contains("manifest") || lost.ends_with("state") {
            let said = desk.refused(&["repair", target]);
            assert!(said.contains("give it with --schema"), "{lost}: {said}");
        }
        desk.done(&["repair", target, "--schema", "schema.toml"]);
        assert_eq!(desk.total(target, "oak"), 1, "{lost}");
        desk.done(&["check", target]);
    }
}
