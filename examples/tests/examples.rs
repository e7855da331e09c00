//! The examples do what they say.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use nut_cellar_servers::Server;
use serde_json::{Value, json};
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::process::{Child, Command, Stdio};

/// A program that ends with the test.
struct Running(Child);

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Sends a request, and gives the status and what came behind the head.
fn request(address: &str, method: &str, path: &str, body: &str) -> (u16, String) {
    let mut stream = TcpStream::connect(address).unwrap();
    let length = body.len();
    write!(
        stream,
        "{method} {path} HTTP/1.1\r\nhost: office\r\nconnection: close\r\ncontent-type: application/json\r\n\
         content-length: {length}\r\n\r\n{body}"
    )
    .unwrap();
    let mut answer = String::new();
    stream.read_to_string(&mut answer).unwrap();
    let (head, body) = answer.split_once("\r\n\r\n").unwrap();
    (head.split(' ').nth(1).unwrap().parse().unwrap(), body.to_owned())
}

#[test]
fn the_page_finds_pages_marks_and_takes_in() {
    let folder = tempfile::tempdir().unwrap();
    let mut child = Command::new(env!("CARGO_BIN_EXE_search_page"))
        .arg("0")
        .arg(folder.path().join("office.db"))
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut said = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut said).unwrap();
    let _running = Running(child);
    let address = said.trim().rsplit('/').next().unwrap();
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
    assert!(search("umbrela")["notes"][0].as_str().unwrap().contains("spelled"));

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
