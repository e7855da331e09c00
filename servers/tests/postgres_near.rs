//! What was read of the shelves is kept in a folder, for processes that begin later; and whoever listens is told of new shelves.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod support;

use nut_cellar::postgres::PostgresCellar;
use nut_cellar::{Column, ErrorKind, Find, Schema};
use postgres::Client;
use postgres::fallible_iterator::FallibleIterator;
use std::path::Path;
use std::time::Duration;
use support::{Dice, connect, database};

/// What a new handle finds, and how many bytes it had to fetch for it.
fn found(client: &mut Client, folder: &Path) -> (u64, u64) {
    let cellar = PostgresCellar::open(client, "items").unwrap();
    cellar.keep_in(folder).unwrap();
    let found = cellar.find(client, "oak", &Find::new()).unwrap();
    (found.total, cellar.fetched())
}

fn files(folder: &Path) -> Vec<std::path::PathBuf> {
    let mut files: Vec<_> = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    files.sort_unstable();
    files
}

#[test]
fn chunks_are_kept_near_and_taken_only_if_they_are_whole() {
    let mut client = connect(&database());
    client
        .batch_execute(
            "CREATE TABLE items(id integer PRIMARY KEY, title text);
             INSERT INTO items SELECT n, 'oak box ' || md5(n::text) FROM generate_series(1, 4000) n",
        )
        .unwrap();
    let cellar =
        PostgresCellar::adopt(&mut client, "items", &Schema::new("id").with("title", Column::text("en")))
            .unwrap();
    let folder = tempfile::tempdir().unwrap();
    let folder = folder.path().join("near").join("items");
    let (total, first) = found(&mut client, &folder);
    assert!(total == 4_000 && first > 0);
    assert_eq!(found(&mut client, &folder), (4_000, 0), "a process that begins later");
    // Whatever becomes of the files, the same is found.
    let mut dice = Dice(7);
    let mut fetched = 0;
    for _ in 0..60 {
        for file in files(&folder) {
            let mut bytes = std::fs::read(&file).unwrap();
            let at = usize::try_from(dice.roll(bytes.len() as u64)).unwrap();
            match dice.roll(3) {
                0 => bytes[at] ^= 1 << dice.roll(8),
                1 => bytes.truncate(at),
                _ => bytes.swap(at, 9),
            }
            std::fs::write(&file, bytes).unwrap();
        }
        let (total, now) = found(&mut client, &folder);
        assert_eq!(total, 4_000);
        fetched += u64::from(now > 0);
    }
    assert!(fetched > 20, "{fetched}");
    assert_eq!(found(&mut client, &folder), (4_000, 0));
    let before = files(&folder);
    std::fs::write(folder.join("readme.txt"), "of somebody else").unwrap();
    client.batch_execute("UPDATE items SET title = 'elm' WHERE id = 1; LISTEN cellar_items").unwrap();
    cellar.compact(&mut client).unwrap();
    let told = client.notifications().timeout_iter(Duration::from_mins(1)).next().unwrap().unwrap();
    assert_eq!(told.channel(), "cellar_items");
    assert_eq!(found(&mut client, &folder).0, 3_999);
    let after = files(&folder);
    assert!(before.iter().all(|file| !after.contains(file)), "{before:?} {after:?}");
    assert!(folder.join("readme.txt").exists());
    cellar.keep_in(&folder).unwrap();
    assert_eq!(cellar.keep_in(&folder).unwrap_err().kind(), ErrorKind::BadRequest);
    let fresh = PostgresCellar::open(&mut client, "items").unwrap();
    assert_eq!(fresh.keep_in(folder.join("readme.txt")).unwrap_err().kind(), ErrorKind::Place);
}
