//! Programs that load the extension: the shell of SQLite and the system's Python, on the system's own SQLite.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// The extension, built as programs load it; SQLite adds the ending itself.
fn extension() -> PathBuf {
    let manifest = Path::new(env!("CARGO_MANIFEST_DIR")).join("Cargo.toml");
    let built =
        Command::new(env!("CARGO")).args(["build", "--locked", "--manifest-path"]).arg(&manifest).output();
    let built = built.unwrap();
    assert!(built.status.success(), "{}", String::from_utf8_lossy(&built.stderr));
    manifest.with_file_name("target").join("debug").join("libnut_cellar")
}

/// The command, which the other workspace builds.
fn command() -> PathBuf {
    let target = Path::new(env!("CARGO_MANIFEST_DIR")).join("../target");
    let built = ["release", "debug"].map(|profile| target.join(profile).join("nut-cellar"));
    let built = built.into_iter().find(|path| path.exists());
    built.expect("the command is not built; run `cargo build -p nut-cellar-cli` in the folder above")
}

/// What a program prints when it is given this to read.
fn run(program: &mut Command, input: &str) -> (String, String) {
    let pipes = program.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = pipes.spawn().unwrap_or_else(|error| panic!("{program:?}: {error}"));
    child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
    let output = child.wait_with_output().unwrap();
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).unwrap();
    (text(output.stdout), text(output.stderr))
}

/// A database of the lost-property office, with search on its table, and the folder that it is in.
fn office() -> (tempfile::TempDir, PathBuf) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("office.db");
    let (out, error) = run(
        Command::new("sqlite3").arg(&path),
        "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, station TEXT);
         INSERT INTO items VALUES (1, 'Walnut box', 'Elmfold'), (2, 'Two umbrellas', 'Quill Halt'),
           (3, 'Umbrella stand of walnut', 'Elmfold');",
    );
    assert_eq!((out.as_str(), error.as_str()), ("", ""));
    let schema = folder.path().join("items.toml");
    std::fs::write(&schema, "key = \"id\"\n[column.title]\nkind = \"text\"\nlanguage = \"en\"\n").unwrap();
    let target = format!("sqlite:{}#items", path.display());
    let adopted = Command::new(command()).args(["adopt", &target, "--schema"]).arg(&schema).output().unwrap();
    assert!(adopted.status.success(), "{}", String::from_utf8_lossy(&adopted.stderr));
    (folder, path)
}

#[test]
fn the_shell_searches_and_joins() {
    let (_folder, path) = office();
    let script = format!(
        ".load {}
         BEGIN;
         INSERT INTO items VALUES (4, 'Umbrella, red', 'Elmfold');
         SELECT key, rank FROM cellar_find('items', 'umbrella');
         SELECT i.title FROM cellar_find('items', 'umbrella') f JOIN items i ON i.id = f.key
           WHERE i.station = 'Elmfold' ORDER BY f.rank;
         ROLLBACK;
         SELECT i.id, f.rank FROM items i LEFT JOIN cellar_find('items', 'umbrella') f ON f.key = i.id;
         SELECT cellar_mark('items', 'umbrella', 'title', title, '[', ']') FROM items WHERE id = 2;
         SELECT group_concat(term) FROM cellar_tokens('Two Umbrellas', 'en');
         SELECT * FROM cellar_find('attic', 'oak');
         SELECT 'still here';",
        extension().display()
    );
    let (out, error) = run(Command::new("sqlite3").arg(&path), &script);
    let expected = "4|1\n2|2\n3|3\nUmbrella, red\nUmbrella stand of walnut\n1|\n2|1\n3|2\nTwo [umbrellas]\ntwo,umbrellas\nstill here\n";
    assert_eq!(out, expected, "{error}");
    assert!(error.contains("There is no cellar `attic` in this database; here are: items."), "{error}");
}

#[test]
fn python_searches_on_several_connections() {
    let (_folder, path) = office();
    let script = format!(
        r#"
import sqlite3
def connect():
    db = sqlite3.connect({path:?})
    db.enable_load_extension(True)
    db.load_extension({extension:?})
    return db
one, other = connect(), connect()
find = "SELECT key FROM cellar_find('items', ?) ORDER BY rank"
print(one.execute(find, ("umbrella",)).fetchall())
one.execute("INSERT INTO items VALUES (4, 'Umbrella, red', NULL)")
print(one.execute(find, ("red",)).fetchall(), other.execute(find, ("red",)).fetchall())
one.commit()
print(other.execute(find, ("red",)).fetchall())
try:
    one.execute("SELECT * FROM cellar_find('items', 'oak', 10, '{{}}{{')").fetchall()
except sqlite3.Error as error:
    print(type(error).__name__, "JSON object" in str(error))
one.close()
print(other.execute("SELECT cellar_excerpt('items', 'stand', 'title', title, 8, '[', ']') FROM items WHERE id = 3").fetchall())
"#,
        extension = extension(),
    );
    let (out, error) = run(Command::new("/usr/bin/python3").arg("-"), &script);
    let expected = "[(2,), (3,)]\n[(4,)] []\n[(4,)]\nOperationalError True\n[('…[stand]…',)]\n";
    assert_eq!(out, expected, "{error}");
}
