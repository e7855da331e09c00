//! One server for all tests of a program, and a database for each.
#![allow(dead_code, unused_imports, reason = "each test program uses a part of this")]

#[path = "../../../crates/nut-cellar/tests/support/mod.rs"]
#[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "numbers of tests are small")]
mod of_places;

use nut_cellar_servers::Server;
pub use of_places::{Dice, oracle, seeds};
use postgres::{Client, NoTls};
use std::sync::{Arc, LazyLock, Mutex, Weak};

/// Kept by the tests that run, so that it ends with the last of them.
static SERVER: LazyLock<Mutex<Weak<Server>>> = LazyLock::new(Mutex::default);

thread_local! {
    static KEPT: std::cell::RefCell<Vec<Arc<Server>>> = const { std::cell::RefCell::new(Vec::new()) };
}

/// The server.
pub fn server() -> Arc<Server> {
    let mut known = SERVER.lock().unwrap();
    let server = known.upgrade().unwrap_or_else(|| Arc::new(Server::start()));
    *known = Arc::downgrade(&server);
    KEPT.with_borrow_mut(|kept| kept.push(Arc::clone(&server)));
    server
}

/// How to connect to a database of its own.
pub fn database() -> String {
    let server = server();
    let name = server.fresh_name();
    connect(&server.address("postgres")).batch_execute(&format!("CREATE DATABASE {name}")).unwrap();
    server.address(&name)
}

/// Connects to a database.
pub fn connect(address: &str) -> Client {
    Client::connect(address, NoTls).unwrap()
}
