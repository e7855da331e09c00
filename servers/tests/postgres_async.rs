//! Asynchronous programs: the same answers, a runtime that is never blocked, and dropped futures that leave nothing half done.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod support;

use deadpool_postgres::{Manager, Pool};
use nut_cellar::postgres::{AsyncCellar, PostgresCellar};
use nut_cellar::rows::Pace;
use nut_cellar::text::Pattern;
use nut_cellar::{Column, ErrorKind, Find, Key, Kind, Query, Schema};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, mpsc};
use std::time::{Duration, Instant};
use support::{Dice, connect, database, seeds};
use tokio::runtime::{Builder, Runtime};
use tokio_postgres::types::Type;
use tokio_postgres::{Client, NoTls};

/// A runtime of one thread, which nothing may block.
fn runtime() -> Runtime {
    Builder::new_current_thread().enable_all().build().unwrap()
}

async fn connected(address: &str) -> Client {
    let (client, connection) = tokio_postgres::connect(address, NoTls).await.unwrap();
    tokio::spawn(connection);
    client
}

fn schema() -> Schema {
    Schema::new("id").with("title", Column::text("en")).with("station", Column::of(Kind::Exact))
}

/// The address of a lost-property office.
fn office() -> String {
    let address = database();
    connect(&address)
        .batch_execute(
            "CREATE TABLE items(id bigint PRIMARY KEY, title text, station text);
             INSERT INTO items VALUES (1, 'Walnut box', 'Elmfold'), (2, 'Oak box', 'Quill Halt'), (3, 'Walnut handle', 'Quill Halt')",
        )
        .unwrap();
    address
}

fn keys(hits: &[nut_cellar::Hit]) -> String {
    hits.iter().map(|hit| hit.key.to_string()).collect::<Vec<_>>().join(" ")
}

#[test]
fn each_call_answers_as_that_of_a_program_that_waits() {
    let address = office();
    runtime().block_on(async {
        let (mut client, plain) = (connected(&address).await, Find::new());
        let counted = Arc::new(AtomicUsize::new(0));
        let counting = Arc::clone(&counted);
        let (cellar, adopted) = AsyncCellar::adopt_with(&mut client, "items", &schema(), move |_| {
            counting.fetch_add(1, Ordering::Relaxed);
        })
        .await
        .unwrap();
        assert!(adopted.rebuilt && adopted.synced.put == 3 && counted.load(Ordering::Relaxed) > 0);

        let transaction = client.transaction().await.unwrap();
        transaction.execute("UPDATE items SET title = 'Walnut tray' WHERE id = 2", &[]).await.unwrap();
        cellar.touch(&transaction, &[Key::from(3)]).await.unwrap();
        assert_eq!(keys(&cellar.find(&transaction, "walnut", &plain).await.unwrap().hits), "1 2 3");
        let other = connected(&address).await;
        assert_eq!(keys(&cellar.find(&other, "walnut", &plain).await.unwrap().hits), "1 3");
        transaction.commit().await.unwrap();
        assert_eq!(cellar.info(&other).await.unwrap().pending, Some(2));
        assert_eq!(cellar.sync(&mut client).await.unwrap().put, 2);

        let again = AsyncCellar::open(&other, "items").await.unwrap();
        let query = Query::read("walnut").query;
        let found = again.search(&other, &query, &plain).await.unwrap();
        assert_eq!(keys(&found.hits), "1 2 3");
        assert_eq!(again.search_reporting(&other, &query, &plain).await.unwrap().0.hits, found.hits);
        let sql = "SELECT station FROM found JOIN items ON id = key WHERE station <> $3 ORDER BY rank";
        let rows = again.join(&other, &found, sql, &[(&"Elmfold", Type::TEXT)]).await.unwrap();
        assert_eq!(rows.iter().map(|row| row.get(0)).collect::<Vec<&str>>(), ["Quill Halt", "Quill Halt"]);
        let error = again.join(&other, &found, "SELECT nothing FROM found", &[]).await.unwrap_err();
        assert!(error.to_string().contains("nothing"), "{error}");
        let small = again.with_memory(1 << 10);
        assert_eq!(small.search(&other, &query, &plain).await.unwrap().hits, found.hits);
        assert_eq!(small.info(&other).await.unwrap().memory.budget, 1 << 10);
        again.why(&other, &query, &plain, &Key::from(2)).await.unwrap();
        again.compare(&other, &query, &plain, &plain.clone().weight("title", 2.0)).await.unwrap();
        let terms = again.terms(&other, &Pattern::new("wal*").unwrap(), 9).await.unwrap();
        assert_eq!(terms.terms.len(), 1);
        assert!(again.fetched() > 0 && again.name() == "items" && *again.schema() == schema());
        assert_eq!(
            again.highlighter("walnut", &plain).unwrap().matches("title", "Walnut box").unwrap().len(),
            1
        );

        client.execute("DELETE FROM items WHERE id = 1", &[]).await.unwrap();
        cellar.compact(&mut client).await.unwrap();
        cellar.tidy(&mut client).await.unwrap();
        cellar.rebuild(&mut client).await.unwrap();
        cellar.check(&client).await.unwrap();
        assert!(cellar.differences(&mut client).await.unwrap().is_empty());
        assert!(cellar.repair(&mut client).await.unwrap().records.is_empty());
        client.batch_execute("CREATE ROLE \"visitor's\"").await.unwrap();
        cellar.allow(&client, "visitor's").await.unwrap();
        AsyncCellar::release(&client, "items").await.unwrap();
        let error = cellar.find(&other, "walnut", &plain).await.unwrap_err();
        assert_eq!(error.kind(), ErrorKind::OutOfStep);
        assert_eq!(AsyncCellar::open(&other, "items").await.unwrap_err().kind(), ErrorKind::NotACellar);
        client.batch_execute("DROP OWNED BY \"visitor's\"; DROP ROLE \"visitor's\"").await.unwrap();
    });
}

#[test]
fn connections_of_a_pool_are_as_good() {
    let address = office();
    runtime().block_on(async {
        let manager = Manager::new(address.parse().unwrap(), NoTls);
        let pool = Pool::builder(manager).max_size(4).build().unwrap();
        let cellar = AsyncCellar::adopt(&mut pool.get().await.unwrap(), "items", &schema()).await.unwrap();
        let mut client = pool.get().await.unwrap();
        let transaction = client.transaction().await.unwrap();
        transaction.execute("DELETE FROM items WHERE id = 1", &[]).await.unwrap();
        assert_eq!(keys(&cellar.find(&transaction, "walnut", &Find::new()).await.unwrap().hits), "3");
        transaction.rollback().await.unwrap();
        // More of them than there are connections.
        let searches: Vec<_> = (0..20)
            .map(|_| {
                let (cellar, pool) = (cellar.clone(), pool.clone());
                tokio::spawn(async move {
                    let client = pool.get().await.unwrap();
                    keys(&cellar.find(&client, "walnut", &Find::new()).await.unwrap().hits)
                })
            })
            .collect();
        drop(client);
        for search in searches {
            assert_eq!(search.await.unwrap(), "1 3");
        }
    });
}

#[test]
fn a_search_does_not_hold_up_the_runtime_and_ends_when_nobody_waits_for_it() {
    let address = office();
    runtime().block_on(async {
        let mut client = connected(&address).await;
        let cellar = AsyncCellar::adopt(&mut client, "items", &schema()).await.unwrap();
        let (begun, begins) = mpsc::channel();
        let (go, goes) = mpsc::channel::<()>();
        let goes = std::sync::Mutex::new(goes);
        let asked = Arc::new(AtomicUsize::new(0));
        let asks = Arc::clone(&asked);
        // Asked for the first time, the search waits for what the runtime's only thread does meanwhile.
        let find = Find::new().stop_when(move || {
            asks.fetch_add(1, Ordering::Relaxed);
            if begun.send(()).is_ok() {
                goes.lock().unwrap().recv_timeout(Duration::from_mins(1)).unwrap();
            }
            false
        });
        {
            let mut search = std::pin::pin!(cellar.find(&client, "walnut OR box", &find));
            let begins = async {
                while begins.try_recv().is_err() {
                    tokio::time::sleep(Duration::from_millis(1)).await;
                }
            };
            tokio::select! {
                done = &mut search => panic!("it is done before it may go on: {done:?}"),
                () = begins => {}
            }
        }
        let before = asked.load(Ordering::Relaxed);
        drop(find);
        go.send(()).unwrap();
        // The search's own copy goes when it has ended.
        while Arc::strong_count(&asked) > 1 {
            tokio::time::sleep(Duration::from_millis(1)).await;
        }
        assert_eq!(asked.load(Ordering::Relaxed), before, "it went on though nobody waited");
    });
}

#[test]
fn a_dropped_future_leaves_nothing_half_done() {
    let address = office();
    let runtime = Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
    runtime.block_on(async {
        let mut client = connected(&address).await;
        let cellar = AsyncCellar::adopt(&mut client, "items", &schema()).await.unwrap();
        let (other, watching) = (connected(&address).await, connected(&address).await);
        let process: i32 = client.query_one("SELECT pg_backend_pid()", &[]).await.unwrap().get(0);
        let mut dice = Dice(19);
        // From before a call begins to after the longest has ended, however fast the machine is, and whatever else it does meanwhile.
        let mut longest = u64::MAX;
        for _ in 0..5 {
            let begun = Instant::now();
            cellar.rebuild(&mut client).await.unwrap();
            longest = longest.min(u64::try_from(begun.elapsed().as_micros()).unwrap() * 3 / 2);
        }
        let (mut dropped, mut done) = (0, 0);
        for _ in 0..seeds(300) {
            let (id, word) = (dice.roll(50), dice.pick(&["Walnut", "Oak", "Elm"]));
            other
                .batch_execute(&format!(
                    "INSERT INTO items VALUES ({id}, '{word}') ON CONFLICT (id) DO UPDATE SET title = excluded.title"
                ))
                .await
                .unwrap();
            let call = dice.roll(7);
            let running = async {
                let ran = match call {
                    0 | 1 => cellar.sync(&mut client).await.map(|_| ()),
                    2 => cellar.compact(&mut client).await.map(|_| ()),
                    3 => cellar.rebuild(&mut client).await.map(|_| ()),
                    4 => cellar.repair(&mut client).await.map(|_| ()),
                    5 => cellar.differences(&mut client).await.map(|_| ()),
                    _ => cellar.find(&client, "walnut", &Find::new()).await.map(|_| ()),
                };
                ran.unwrap();
            };
            match tokio::time::timeout(Duration::from_micros(dice.roll(longest)), running).await {
                Ok(()) => done += 1,
                Err(_) => dropped += 1,
            }
            let found = cellar.find(&client, "walnut", &Find::new().limit(99)).await.unwrap();
            let mut found: Vec<_> = found.hits.into_iter().map(|hit| hit.key).collect();
            found.sort_unstable();
            let rows = watching.query("SELECT id FROM items WHERE title LIKE 'Walnut%' ORDER BY 1", &[]).await.unwrap();
            assert_eq!(found, rows.iter().map(|row| Key::from(row.get::<_, i64>(0))).collect::<Vec<_>>());
            // No transaction is open, and nobody is kept from catching up.
            let left = "SELECT (SELECT state FROM pg_stat_activity WHERE pid = $1), (SELECT count(*) FROM pg_locks WHERE pid = $1)";
            let left = watching.query_one(left, &[&process]).await.unwrap();
            assert_eq!((left.get(0), left.get(1)), ("idle", 0_i64), "call {call}");
        }
        assert!(dropped > 20 && done > 20, "{dropped} were dropped and {done} done");
        cellar.sync(&mut client).await.unwrap();
        cellar.check(&client).await.unwrap();
        assert!(cellar.differences(&mut client).await.unwrap().is_empty());
    });
}

#[test]
fn a_keeper_keeps_until_its_future_is_dropped() {
    let address = office();
    let mut waiting = connect(&address);
    let same = Arc::new(PostgresCellar::adopt(&mut waiting, "items", &schema()).unwrap());
    runtime().block_on(async {
        let (mut client, other) = (connected(&address).await, connected(&address).await);
        let cellar = AsyncCellar::from(same);
        other.execute("UPDATE items SET title = 'Elm box' WHERE id = 1", &[]).await.unwrap();
        let (told, tells) = mpsc::channel();
        let pace =
            Pace { every: Duration::from_millis(1), patience: Duration::ZERO, load: 1.0, ..Pace::default() };
        let keeping = cellar.keep(&mut client, pace, move |synced| {
            told.send(synced.map(|synced| synced.put).map_err(|error| error.kind())).unwrap();
        });
        let one = async {
            loop {
                if let Ok(one) = tells.try_recv() {
                    return one;
                }
                tokio::time::sleep(Duration::from_millis(1)).await;
            }
        };
        let one = tokio::select! {
            ended = keeping => panic!("{ended:?}"),
            one = one => one,
        };
        assert_eq!(one, Ok(1));
        // What it was told by is gone once its thread has ended.
        while tells.try_recv() != Err(mpsc::TryRecvError::Disconnected) {
            tokio::time::sleep(Duration::from_millis(1)).await;
        }
        assert_eq!(cellar.info(&client).await.unwrap().pending, Some(0));
    });
}
