//! Two processes that write and search in one PostgreSQL database:
//! `cargo run -p nut-cellar-examples --bin two_processes -- 'host=/run/postgresql user=… dbname=…'`, with an empty database.
//!
//! Each has a connection for its rows and searches, and a keeper with one of its own. Of the keepers one catches up at a time, and the
//! other finds what it did; whoever searches sees every row that was committed before, caught up with or not.

use nut_cellar::postgres::PostgresCellar;
use nut_cellar::rows::{Keeper, Pace, Synced};
use nut_cellar::{Column, Find, Schema};
use postgres::{Client, NoTls};
use std::error::Error;
use std::process::{Child, Command};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// The rows that each process writes.
const ROWS: u64 = 200;
/// What is found on trains.
const THINGS: [&str; 4] = ["walnut box", "umbrella with a brass handle", "left glove", "oak walking stick"];

type Failure = Box<dyn Error>;

fn main() -> Result<(), Failure> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    match &arguments[..] {
        [help] if help == "--help" => {
            println!(
                "two_processes 'host=… user=… dbname=…': two programs change and search rows of an empty database"
            );
            Ok(())
        }
        [address] => office(address),
        [address, clerk] => work(address, clerk),
        _ => Err("name an empty database: two_processes 'host=… user=… dbname=…'".into()),
    }
}

/// Makes the table, puts search on it, and lets two clerks work.
fn office(address: &str) -> Result<(), Failure> {
    let mut client = Client::connect(address, NoTls)?;
    client.batch_execute(
        "CREATE TABLE items(id bigint PRIMARY KEY GENERATED ALWAYS AS IDENTITY, title text NOT NULL, clerk text NOT NULL)",
    )?;
    let schema =
        Schema::new("id").with("title", Column::text("en").weighing(2.0)).with("clerk", Column::text("none"));
    let cellar = PostgresCellar::adopt(&mut client, "items", &schema)?;
    let program = std::env::current_exe()?;
    let clerks = ["Tindlewick", "Ouselby"]
        .map(|clerk| Command::new(&program).args([address, clerk]).spawn())
        .into_iter()
        .collect::<Result<Vec<Child>, _>>()?;
    for mut clerk in clerks {
        if !clerk.wait()?.success() {
            return Err("a clerk went home early".into());
        }
    }
    cellar.sync(&mut client)?;
    let found = cellar.find(&mut client, "walnut OR umbrella OR glove OR stick", &Find::new())?;
    let info = cellar.info(&mut client)?;
    println!(
        "Together: {} found, in {} shelves, {} pending.",
        found.total,
        info.shelves,
        info.pending.unwrap_or(0)
    );
    Ok(())
}

/// What one process does.
fn work(address: &str, clerk: &str) -> Result<(), Failure> {
    let mut client = Client::connect(address, NoTls)?;
    let cellar = Arc::new(PostgresCellar::open(&mut client, "items")?);
    let caught_up = Arc::new(AtomicU64::new(0));
    let counted = Arc::clone(&caught_up);
    let told = move |done: nut_cellar::Result<&Synced>| match done {
        Ok(synced) => {
            counted.fetch_add(synced.put, Ordering::Relaxed);
        }
        Err(error) => eprintln!("{error}"),
    };
    let keeper =
        Keeper::start((Client::connect(address, NoTls)?, Arc::clone(&cellar)), Pace::default(), told);
    let insert = client.prepare("INSERT INTO items(title, clerk) VALUES ($1, $2)")?;
    let mine = format!("clerk:{clerk}");
    let mut others = 0;
    for (count, thing) in (1..=ROWS).zip(THINGS.into_iter().cycle()) {
        client.execute(&insert, &[&thing, &clerk])?;
        // What was written a moment ago is there; and nothing is there that was there before and is not now.
        let found = cellar.find(&mut client, &mine, &Find::new().limit(0))?;
        if found.total != count {
            return Err(format!("{clerk} wrote {count} rows and finds {}", found.total).into());
        }
        let all =
            cellar.find(&mut client, "walnut OR umbrella OR glove OR stick", &Find::new().limit(0))?.total;
        if all - count < others {
            return Err(format!("{clerk} found {others} rows of the other's and now {}", all - count).into());
        }
        others = all - count;
    }
    drop(keeper);
    println!(
        "{clerk}: wrote {ROWS} rows, caught up with {}, saw {others} of the other's.",
        caught_up.load(Ordering::Relaxed)
    );
    Ok(())
}
