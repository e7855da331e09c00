//! The command `nut-cellar`: full-text search over a folder or a table, for people and for programs.
//!
//! Results go to stdout and messages to stderr. It exits with 0 when it is done, 1 when it failed, 2 when it was called
//! wrongly.

mod adopt;
mod arguments;
mod care;
mod compare;
mod demo;
mod find;
mod info;
mod load;
mod paint;
mod plan;
mod propose;
mod settings;
mod source;
mod target;
mod terms;
mod time;
mod tokens;
mod why;

use arguments::{Arguments, Call};
use clap::Parser;
use nut_cellar::{Error, ErrorKind, Result};
use std::process::ExitCode;

fn main() -> ExitCode {
    let done = match Arguments::parse().call {
        Call::Demo(call) => demo::run(&call),
        Call::Load(call) => load::run(&call),
        Call::Adopt(call) => adopt::adopt(&call),
        Call::Release(call) => adopt::release(&call),
        Call::Sync(call) => adopt::sync(&call),
        Call::Find(call) => find::run(&call),
        Call::Why(call) => why::run(&call),
        Call::Compare(call) => compare::run(&call),
        Call::Time(call) => time::run(&call),
        Call::Tokens(call) => tokens::run(&call),
        Call::Terms(call) => terms::run(&call),
        Call::Info(call) => info::run(&call),
        Call::Check(call) => care::check(&call),
        Call::Repair(call) => care::repair(&call),
        Call::Compact(call) => care::compact(&call),
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            anstream::eprintln!("nut-cellar: {error}");
            exit_code(&error)
        }
    }
}

fn exit_code(error: &Error) -> ExitCode {
    match error.kind() {
        ErrorKind::BadRequest => ExitCode::from(2),
        _ => ExitCode::FAILURE,
    }
}

/// Writes to stdout. A reader that has seen enough, such as `head`, ends the program without a complaint.
fn say(text: &str) -> Result<()> {
    use std::io::Write;
    let mut out = anstream::stdout().lock();
    match out.write_all(text.as_bytes()).and_then(|()| out.flush()) {
        Err(error) if error.kind() == std::io::ErrorKind::BrokenPipe => std::process::exit(0),
        Err(error) => {
            Err(Error::caused(ErrorKind::Place, format!("Writing the answer failed: {error}."), error))
        }
        Ok(()) => Ok(()),
    }
}
