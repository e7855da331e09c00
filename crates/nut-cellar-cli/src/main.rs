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
mod judge;
mod load;
mod paint;
mod plan;
mod plot;
mod pool;
mod propose;
mod settings;
mod shells;
mod source;
mod suggest;
mod target;
mod terms;
mod time;
mod tokens;
mod tune;
mod why;

use arguments::{Arguments, Call, Compounds};
use clap::Parser;
use nut_cellar::text::{WordList, offer_words};
use nut_cellar::{Error, ErrorKind, Result};
use std::fmt::Write as _;
use std::process::ExitCode;

fn main() -> ExitCode {
    let Arguments { call, compounds } = Arguments::parse();
    match offer(&compounds).and_then(|()| run(&call)) {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            tell(format_args!("nut-cellar: {error}"));
            if error.to_string().contains("`compounds` names") {
                tell("Lists of words are given with --compounds NAME:LANGUAGE=FILE.");
            }
            exit_code(&error)
        }
    }
}

/// Offers lists of words, so that schemas may name them.
fn offer(lists: &[Compounds]) -> Result<()> {
    for Compounds { name, language, file } in lists {
        let words = std::fs::read_to_string(file).map_err(|error| {
            Error::caused(ErrorKind::BadRequest, format!("--compounds: {}: {error}.", file.display()), error)
        })?;
        WordList::from_text(language, &words)
            .and_then(|words| offer_words(name, words))
            .map_err(|error| error.at(format_args!("--compounds: {}", file.display())))?;
    }
    Ok(())
}

fn run(call: &Call) -> Result<()> {
    match call {
        Call::Demo(call) => demo::run(call),
        Call::Load(call) => load::run(call),
        Call::Adopt(call) => adopt::adopt(call),
        Call::Release(call) => adopt::release(call),
        Call::Sync(call) => adopt::sync(call),
        Call::Find(call) => find::run(call),
        Call::Suggest(call) => suggest::run(call),
        Call::Why(call) => why::run(call),
        Call::Compare(call) => compare::run(call),
        Call::Judge(call) => judge::run(call),
        Call::Tune(call) => tune::run(call),
        Call::Time(call) => time::run(call),
        Call::Tokens(call) => tokens::run(call),
        Call::Terms(call) => terms::run(call),
        Call::Info(call) => info::run(call),
        Call::Check(call) => care::check(call),
        Call::Repair(call) => care::repair(call),
        Call::Rebuild(call) => adopt::rebuild(call),
        Call::Touch(call) => care::touch(call),
        Call::Compact(call) => care::compact(call),
        Call::Completions(call) => shells::completions(call),
        Call::Man => shells::manual(),
    }
}

fn exit_code(error: &Error) -> ExitCode {
    match error.kind() {
        ErrorKind::BadRequest => ExitCode::from(2),
        _ => ExitCode::FAILURE,
    }
}

/// Writes a line to stderr, whatever is in the names and texts of which it tells.
fn tell(line: impl std::fmt::Display) {
    anstream::eprintln!("{}", paint::plain(&line.to_string()));
}

/// Writes a document to stdout. What a terminal would obey is escaped.
fn say_json(answer: &impl serde::Serialize) -> Result<()> {
    let text = serde_json::to_string(answer).expect("an answer is made of numbers and texts");
    let shown = text.chars().fold(String::with_capacity(text.len()), |mut shown, character| {
        if paint::turns_text(character) {
            let _ = write!(shown, "\\u{:04x}", u32::from(character));
        } else {
            shown.push(character);
        }
        shown
    });
    say(&(shown + "\n"))
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
