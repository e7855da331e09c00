//! Programs that run beside a test, and requests to them.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

/// How long an answer may take.
const PATIENCE: Duration = Duration::from_secs(30);

/// A program that ends with the test.
pub struct Running(pub Child);

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Sends a request, and gives the status and what came behind the head.
pub fn request(address: &str, method: &str, path: &str, body: &str) -> (u16, String) {
    let mut stream = TcpStream::connect(address).unwrap();
    stream.set_read_timeout(Some(PATIENCE)).unwrap();
    let length = body.len();
    write!(
        stream,
        "{method} {path} HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\ncontent-type: application/json\r\n\
         content-length: {length}\r\n\r\n{body}"
    )
    .unwrap();
    // Not every server ends the connection, so that it is the head that says how long the body is.
    let (mut answer, mut status, mut length) = (BufReader::new(stream), String::new(), 0);
    answer.read_line(&mut status).unwrap();
    loop {
        let mut line = String::new();
        answer.read_line(&mut line).unwrap();
        if line.trim().is_empty() {
            break;
        }
        if let Some(told) = line.to_lowercase().strip_prefix("content-length:") {
            length = told.trim().parse().unwrap();
        }
    }
    let mut body = vec![0; length];
    answer.read_exact(&mut body).unwrap();
    (status.split(' ').nth(1).unwrap().parse().unwrap(), String::from_utf8(body).unwrap())
}

/// Starts the page with its rows in a folder, and gives its address.
pub fn page(folder: &Path) -> (Running, String) {
    let mut child = Command::new(env!("CARGO_BIN_EXE_search_page"))
        .arg("0")
        .arg(folder.join("office.db"))
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut said = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut said).unwrap();
    (Running(child), said.trim().rsplit('/').next().unwrap().to_owned())
}
