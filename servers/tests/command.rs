//! The command on a PostgreSQL database.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod support;

use std::path::Path;
use std::process::Command;
use support::{connect, database};

/// The command, built from the same workspace.
fn built() -> std::path::PathBuf {
    let manifest = Path::new(env!("CARGO_MANIFEST_DIR")).join("../Cargo.toml");
    let build = Command::new(env!("CARGO"))
        .args(["build", "--locked", "-p", "nut-cellar-cli", "--manifest-path"])
        .arg(&manifest)
        .output()
        .unwrap();
    assert!(build.status.success(), "{}", String::from_utf8_lossy(&build.stderr));
    let folder = std::env::current_exe().unwrap();
    folder.ancestors().nth(2).unwrap().join("nut-cellar")
}

/// What a call prints, and how it ends.
fn call(command: &Path, arguments: &[&str]) -> (i32, String, String) {
    let output = Command::new(command).args(arguments).output().unwrap();
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).unwrap();
    (output.status.code().unwrap(), text(output.stdout), text(output.stderr))
}

#[test]
fn a_table_is_adopted_searched_and_released() {
    let command = built();
    let address = database();
    connect(&address)
        .batch_execute(
            "CREATE TABLE items(id bigint PRIMARY KEY, title text, found_on date);
             INSERT INTO items SELECT n, 'walnut box ' || n, date '2031-04-01' + n FROM generate_series(1, 30) n",
        )
        .unwrap();
    // The words of the address as a URL has them.
    let part = |name: &str| {
        let part = address.split(' ').find_map(|part| part.strip_prefix(name)?.strip_prefix('='));
        part.unwrap().to_owned()
    };
    let host = part("host").replace('/', "%2F");
    let target = format!("postgres://postgres@{host}:{}/{}#items", part("port"), part("dbname"));
    let folder = tempfile::tempdir().unwrap();
    let schema = folder.path().join("items.toml");
    std::fs::write(
        &schema,
        "key = \"id\"\n[column.title]\nkind = \"text\"\nlanguage = \"en\"\n[column.found_on]\nkind = \"date\"\n",
    )
    .unwrap();

    let (code, _, error) = call(&command, &["find", &target, "walnut"]);
    assert_eq!(code, 1);
    assert!(error.contains("There is no cellar `items` in this database; there is none here"), "{error}");
    let (code, _, said) = call(&command, &["adopt", &target, "--schema", schema.to_str().unwrap()]);
    assert_eq!(code, 0, "{said}");
    assert!(said.contains("30 rows can be searched now"), "{said}");
    connect(&address).execute("UPDATE items SET title = 'Two umbrellas' WHERE id = 7", &[]).unwrap();
    let (_, out, _) = call(&command, &["find", &target, "umbrella", "--json"]);
    assert!(out.contains("\"total\":1") && out.contains("Two umbrellas"), "{out}");
    let (_, out, _) = call(
        &command,
        &["find", &target, "box", "--where", "found_on < 2031-04-05", "--sort", "found_on:down"],
    );
    assert!(out.contains("2031-04-04") && !out.contains("2031-04-05"), "{out}");
    let (_, out, _) = call(&command, &["info", &target]);
    assert!(out.contains("30"), "{out}");
    let (_, out, _) = call(&command, &["why", &target, "umbrella", "7"]);
    assert!(out.contains("umbrella"), "{out}");
    let (code, _, said) = call(&command, &["sync", &target]);
    assert_eq!((code, said.contains("1 row put into a shelf")), (0, true), "{said}");
    connect(&address)
        .batch_execute("SET session_replication_role = replica; DELETE FROM items WHERE id = 8")
        .unwrap();
    let (code, out, error) = call(&command, &["check", &target]);
    assert_eq!((code, out.as_str()), (1, "8 is found, and has no row\n"), "{error}");
    assert!(error.contains("1 record differs from the rows") && error.contains("`repair`"), "{error}");
    let (code, _, said) = call(&command, &["repair", &target]);
    assert_eq!((code, said.as_str()), (0, "1 row was read again.\n"));
    for ending in ["compact", "check", "release"] {
        let (code, _, error) = call(&command, &[ending, &target]);
        assert_eq!(code, 0, "{ending}: {error}");
    }
    let (code, _, error) = call(&command, &["find", "postgres://localhost:1/app#items", "walnut"]);
    assert_eq!(code, 1);
    assert!(error.contains("Connecting to the PostgreSQL server failed"), "{error}");
    let (code, _, error) = call(&command, &["find", "postgres://localhost/app", "walnut"]);
    assert!(code != 0 && error.contains("#items"), "{error}");
}
