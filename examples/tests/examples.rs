//! The examples do what they say.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod support;

use nut_cellar_servers::Server;
use serde_json::{Value, json};
use std::process::Command;
use support::{page, request};

#[test]
fn each_says_how_it_is_called() {
    for program in [
        env!("CARGO_BIN_EXE_search_page"),
        env!("CARGO_BIN_EXE_two_processes"),
        env!("CARGO_BIN_EXE_beside_sqlx"),
    ] {
        let said = Command::new(program).arg("--help").output().unwrap();
        let name = program.rsplit('/').next().unwrap();
        assert!(said.status.success() && String::from_utf8_lossy(&said.stdout).starts_with(name), "{name}");
    }
    let refused = Command::new(env!("CARGO_BIN_EXE_search_page")).arg("office").output().unwrap();
    assert!(
        !refused.status.success() && String::from_utf8_lossy(&refused.stderr).contains("`office` is no port")
    );
}

#[test]
fn the_page_finds_pages_marks_and_takes_in() {
    let folder = tempfile::tempdir().unwrap();
    let (_running, address) = page(folder.path());
    let address = address.as_str();
    let search = |query: &str| -> Value {
        let (status, body) = request(address, "GET", &format!("/search?q={query}"), "");
        assert_eq!(status, 200, "{body}");
        serde_json::from_str(&body).unwrap()
    };

    let (status, page) = request(address, "GET", "/", "");
    assert!(status == 200 && page.contains("role=\"search\""));
    let first = search("walnut+bo");
    assert_eq!(first["hits"][0]["title"], "<mark>Walnut</mark> <mark>box</mark>");
    let next = search(&format!("walnut+bo&after={}", first["next"].as_str().unwrap()));
    assert_eq!((&next["total"], next["hits"].as_array().unwrap().len()), (&first["total"], 10));
    assert_ne!(first["hits"][9]["id"], next["hits"][0]["id"]);
    let mended = search("umbrela+");
    assert!(mended["changed"][0].as_str().unwrap().contains("umbrella"), "{mended}");
    assert!(search("umbrela&strict=true")["total"] == 0);
    let offered = search("walnut+bo");
    assert_eq!(offered["completions"][0]["text"], "walnut box");
    assert_eq!(search("wlanut+boxx")["corrections"][0]["text"], "walnut box");
    // Of one box only the latest text counts, in whatever order the texts come.
    assert!(search("walnut&box=a&number=2")["total"].is_number());
    assert_eq!(search("walnu&box=a&number=1"), Value::Null);
    assert!(search("walnu&box=b&number=1")["total"].is_number());

    assert_eq!(search("periscope")["total"], 0);
    let item = json!({"title": "Periscope <b>", "description": "off & on"}).to_string();
    assert_eq!(request(address, "POST", "/items", &item).0, 201);
    let found = search("perisc");
    assert_eq!(found["hits"][0]["title"], "<mark>Periscope</mark> &lt;b&gt;");
    assert_eq!(request(address, "POST", "/items", r#"{"title": " "}"#).0, 400);
    let (status, said) = request(address, "GET", "/search?q=oak&after=nowhere", "");
    assert!(status == 400 && said.contains("no place"), "{said}");
}

#[test]
fn two_processes_see_each_others_rows() {
    let server = Server::start();
    let address = server.address("postgres");
    let done = Command::new(env!("CARGO_BIN_EXE_two_processes")).arg(&address).output().unwrap();
    let said = String::from_utf8_lossy(&done.stdout);
    assert!(done.status.success(), "{said}{}", String::from_utf8_lossy(&done.stderr));
    assert!(said.contains("Together: 400 found"), "{said}");
    assert!(said.contains("0 pending"), "{said}");
}

#[test]
fn rows_that_another_library_keeps_are_found() {
    let server = Server::start();
    // The folder with the socket, as a host.
    let address = server.address("postgres");
    let folder = address.split(' ').find_map(|part| part.strip_prefix("host=")).unwrap();
    let port = address.split(' ').find_map(|part| part.strip_prefix("port=")).unwrap();
    let url = format!("postgres://postgres@{}:{port}/postgres", folder.replace('/', "%2F"));
    let done = Command::new(env!("CARGO_BIN_EXE_beside_sqlx")).arg(url).output().unwrap();
    let said = String::from_utf8_lossy(&done.stdout);
    let expected = "walnut:\n  1  Walnut box\n  2  Umbrella\nwalnuts:\n  1  Walnut box\n  2  Umbrella\n\
                    walnuts:\n  4  Two walnuts\n  1  Walnut box\n  2  Umbrella\n1 and 2 found at once.\n";
    assert_eq!(said, expected, "{}", String::from_utf8_lossy(&done.stderr));
}
