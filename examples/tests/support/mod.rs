//! Programs that run beside a test, and requests to them.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::process::{Child, Command, Stdio};

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
