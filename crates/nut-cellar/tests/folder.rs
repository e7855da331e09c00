//! A cellar in a folder: batches are all or nothing, readers are never disturbed, and damage is noticed.
#![allow(
    clippy::unwrap_used,
    clippy::cast_possible_truncation,
    clippy::cast_possible_wrap,
    clippy::cast_sign_loss,
    reason = "a test fails by panicking, and its numbers are small"
)]

use nut_cellar::{
    Cellar, Column, DEFAULT_MEMORY, Durability, ErrorKind, Find, Folder, Merging, Patience, Place, Record,
    Result, Schema, View,
};
use std::fs;
use std::path::{Path, PathBuf};

fn schema() -> Schema {
    Schema::new("id").with("title", Column::text("en"))
}

fn put(cellar: &Cellar<Folder>, ids: std::ops::Range<i64>, title: &str) {
    cellar
        .publish(|batch| ids.into_iter().try_for_each(|id| batch.put(&Record::new(id).with("title", title))))
        .unwrap();
}

fn total(cellar: &Cellar<Folder>, query: &str) -> u64 {
    cellar.find(query, &Find::new()).unwrap().total
}

fn files(path: &Path) -> Vec<PathBuf> {
    let mut files: Vec<_> =
        fs::read_dir(path.join("pieces")).unwrap().map(|entry| entry.unwrap().path()).collect();
    files.sort();
    files
}

#[test]
fn a_cellar_is_made_opened_changed_and_opened_again() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("shed.cellar");
    let cellar = Cellar::create_in(&path, schema()).unwrap();
    assert_eq!(total(&cellar, "oak"), 0);
    put(&cellar, 0..5, "oak box");
    let other = Cellar::open_in(&path).unwrap();
    assert_eq!((total(&other, "oak"), other.schema()), (5, &schema()));
    put(&cellar, 3..8, "elm box");
    assert_eq!((total(&other, "oak"), total(&other, "elm"), total(&other, "box")), (3, 5, 8));
    other.publish(|batch| (0..8).try_for_each(|id| batch.remove(&id.into()))).unwrap();
    assert_eq!((total(&cellar, "box"), cellar.info().unwrap().records), (0, 0));
    assert!(files(&path).is_empty(), "shelves without a live record go");
    assert!(Cellar::create_in(&path, schema()).unwrap_err().is_bad_request());
}

#[test]
fn a_batch_that_fails_or_is_dropped_leaves_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("shed.cellar");
    let half_way = |batch: &mut nut_cellar::Batch<'_>| -> Result<()> {
        batch.set_budget(1);
        batch.put(&Record::new(1).with("title", "oak"))?;
        batch.put(&Record::new(2).with("titel", "oak"))
    };
    let error = Cellar::create_with(Folder::at(&path), schema(), half_way).unwrap_err();
    assert_eq!(error.kind(), ErrorKind::BadRecord);
    assert!(!path.exists(), "a cellar that nothing came of leaves no folder");

    let cellar = Cellar::create_in(&path, schema()).unwrap();
    put(&cellar, 0..5, "oak");
    let before = (files(&path), fs::read(path.join("manifest")).unwrap());
    assert_eq!(cellar.publish(half_way).unwrap_err().kind(), ErrorKind::BadRecord);
    assert_eq!((files(&path), fs::read(path.join("manifest")).unwrap()), before);
    assert_eq!(total(&cellar, "oak"), 5);
}

#[test]
fn what_a_killed_writer_left_is_ignored_and_removed() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("shed.cellar");
    let cellar = Cellar::create_in(&path, schema()).unwrap();
    put(&cellar, 0..5, "oak");
    let kept = files(&path);
    let leftover = path.join("pieces").join("00112233445566778899aabbccddeeff");
    fs::write(&leftover, "NUTSHELF, half of it").unwrap();
    fs::write(path.join("manifest.next"), "half a manifest").unwrap();
    let cellar = Cellar::open_in(&path).unwrap();
    assert_eq!(total(&cellar, "oak"), 5);
    put(&cellar, 9..10, "elm");
    assert!(!leftover.exists() && files(&path).len() == kept.len() + 1);
    assert_eq!((total(&cellar, "oak"), total(&cellar, "elm")), (5, 1));
}

#[test]
fn one_writes_at_a_time_and_views_stay_as_they_are() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("shed.cellar");
    let cellar = Cellar::create_in(&path, schema()).unwrap();
    put(&cellar, 0..5, "oak");
    let place = Folder::at(&path);
    let view = place.view().unwrap();
    let manifest = view.manifest().unwrap().unwrap();
    let shelf = (manifest.shelves[0].piece, 0..manifest.shelves[0].bytes);
    let bytes = view.read(std::slice::from_ref(&shelf)).unwrap();

    let unit = place.unit(Patience::Refuse).unwrap();
    let error = cellar.publish(|_| Ok(())).unwrap_err();
    assert!(error.is_overtaken() && error.to_string().contains("another writer"), "{error}");
    drop(unit);

    put(&cellar, 0..5, "elm");
    assert!(!path.join("pieces").join(shelf.0.to_string()).exists());
    assert_eq!(view.read(std::slice::from_ref(&shelf)).unwrap(), bytes);
    assert_eq!(view.manifest().unwrap().unwrap(), manifest);
}

/// Whether bytes were found to be others than were written, or of another version.
fn is_refused(error: &nut_cellar::Error) -> bool {
    use ErrorKind::{Damaged, MadeByNewer, MadeByOlder, NotACellar};
    [Damaged, MadeByNewer, MadeByOlder, NotACellar].contains(&error.kind())
}

#[test]
fn what_is_no_cellar_is_told_so() {
    let folder = tempfile::tempdir().unwrap();
    let nothing = folder.path().join("nothing");
    assert_eq!(Cellar::open_in(&nothing).unwrap_err().kind(), ErrorKind::NotACellar);
    assert!(!nothing.exists());
    let file = folder.path().join("notes.txt");
    fs::write(&file, "a list of umbrellas").unwrap();
    for error in [Cellar::open_in(&file).unwrap_err(), Cellar::create_in(&file, schema()).unwrap_err()] {
        assert_eq!(error.kind(), ErrorKind::NotACellar);
        assert!(error.to_string().contains("notes.txt"), "{error}");
    }
    let other = folder.path().join("other");
    fs::create_dir(&other).unwrap();
    fs::write(other.join("manifest"), "bread\nmilk").unwrap();
    let error = Cellar::create_in(&other, schema()).unwrap_err();
    assert!(error.to_string().contains("manifest"), "{error}");
    assert_eq!(fs::read_dir(&other).unwrap().count(), 1, "nothing was made beside it");
}

#[test]
fn a_cellar_that_needs_what_the_program_lacks_is_told_so() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("shed.cellar");
    let cellar = Cellar::create_in(&path, schema()).unwrap();
    put(&cellar, 0..5, "oak");
    // As another program would write it: the same manifest with another stemmer, or a step that is not offered here.
    let manifest = Folder::at(&path).view().unwrap().manifest().unwrap().unwrap();
    let schema = serde_json::to_string(&*manifest.schema).unwrap();
    let encoded = manifest.encode();
    // Label, version and checksum; generation and no bookmark; then the length of the schema, and the schema packed.
    let packed = lz4_flex::block::compress(schema.as_bytes());
    let at = encoded.windows(packed.len()).position(|some| some == packed).unwrap();
    for (from, to, says) in [
        ("snowball 3.0 english", "snowball 9.1 english", "\"snowball 9.1 english\""),
        (
            "\"kind\":\"text\"",
            "\"kind\":\"text\",\"steps\":[\"twist\"]",
            "`twist`, which this program does not offer",
        ),
        ("\"kind\":\"text\"", "\"kind\":\"sound\"", "sound"),
    ] {
        assert!(schema.contains(from), "{schema}");
        let other = schema.replace(from, to);
        let mut body = vec![1, 0];
        varint(&mut body, other.len());
        let other = lz4_flex::block::compress(other.as_bytes());
        varint(&mut body, other.len());
        body.extend(other);
        body.extend(&encoded[at + packed.len()..]);
        let mut bytes = encoded[..12].to_vec();
        bytes.extend(crc32fast::hash(&body).to_le_bytes());
        bytes.extend(body);
        fs::write(path.join("manifest"), bytes).unwrap();
        let error = Cellar::open_in(&path).unwrap_err();
        assert_eq!(error.kind(), ErrorKind::BadSchema);
        assert!(error.to_string().contains(says), "{error}");
    }
    fs::write(path.join("manifest"), manifest.encode()).unwrap();
    assert_eq!(total(&Cellar::open_in(&path).unwrap(), "oak"), 5);
}

fn varint(out: &mut Vec<u8>, mut number: usize) {
    while number > 127 {
        out.push((number & 127) as u8 | 128);
        number >>= 7;
    }
    out.push(number as u8);
}

/// Every bit of a small cellar's files, one after the other, and every length: an answer is right, or it is an error.
#[test]
fn every_flipped_bit_is_noticed_or_does_no_harm() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("shed.cellar");
    let cellar = Cellar::create_in(&path, schema()).unwrap();
    put(&cellar, 0..4, "oak box");
    put(&cellar, 3..6, "elm box");
    let right = cellar.find("\"elm box\"", &Find::new()).unwrap();
    assert_eq!(right.total, 3);
    let mut noticed = 0;
    let mut all = files(&path);
    all.push(path.join("manifest"));
    for file in all {
        let whole = fs::read(&file).unwrap();
        let flipped = (0..whole.len() * 8).map(|bit| {
            let mut bytes = whole.clone();
            bytes[bit / 8] ^= 1 << (bit % 8);
            bytes
        });
        for bytes in flipped.chain((0..whole.len()).map(|length| whole[..length].to_vec())) {
            fs::write(&file, &bytes).unwrap();
            match Cellar::open_in(&path).and_then(|cellar| cellar.find("\"elm box\"", &Find::new())) {
                Ok(found) => assert_eq!(found, right),
                Err(error) => {
                    assert!(is_refused(&error), "{error}");
                    noticed += 1;
                }
            }
        }
        fs::write(&file, &whole).unwrap();
    }
    assert!(noticed > 4_000, "{noticed}");
}

#[test]
fn a_bookmark_is_kept_with_its_batch_and_read_later() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("shed.cellar");
    let cellar = Cellar::create_in(&path, schema()).unwrap();
    assert_eq!(cellar.bookmark().unwrap(), None);
    let published = cellar.publish(|batch| batch.set_bookmark("line 7")).unwrap();
    assert!(published.changed, "a batch of nothing but a bookmark counts");
    put(&cellar, 0..3, "oak");
    assert_eq!(Cellar::open_in(&path).unwrap().bookmark().unwrap().unwrap(), b"line 7");
    let failed = cellar.publish(|batch| {
        batch.set_bookmark("line 9")?;
        batch.put(&Record::new(9).with("size", 3))
    });
    assert_eq!(failed.unwrap_err().kind(), ErrorKind::BadRecord);
    assert_eq!(cellar.bookmark().unwrap().unwrap(), b"line 7");
    let long = cellar.publish(|batch| batch.set_bookmark(vec![0; 1 << 17])).unwrap_err();
    assert_eq!(long.kind(), ErrorKind::BadRequest);
}

#[test]
fn writers_that_are_patient_wait_for_each_other() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("shed.cellar");
    let in_folder = Cellar::create_in(&path, schema()).unwrap().with_patience(Patience::Wait);
    let in_memory = Cellar::in_memory(schema()).unwrap().with_patience(Patience::Wait);
    std::thread::scope(|scope| {
        for thread in 0..4 {
            let (in_folder, in_memory) = (in_folder.clone(), in_memory.clone());
            scope.spawn(move || {
                for n in 0..10 {
                    let record = Record::new(thread * 100 + n).with("title", "oak");
                    in_folder.publish(|batch| batch.put(&record)).unwrap();
                    in_memory.publish(|batch| batch.put(&record)).unwrap();
                }
            });
        }
    });
    assert_eq!(total(&in_folder, "oak"), 40);
    assert_eq!(in_memory.find("oak", &Find::new()).unwrap().total, 40);
    in_folder.check().unwrap();
}

#[test]
fn many_small_batches_leave_few_shelves_which_become_one_when_asked() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("shed.cellar");
    let cellar = Cellar::create_in(&path, schema()).unwrap();
    for id in 0..60 {
        put(&cellar, id..id + 1, if id % 2 == 0 { "oak box" } else { "elm box" });
    }
    let info = cellar.info().unwrap();
    assert!(info.shelves <= 10 && info.shelves > 1, "{} shelves", info.shelves);
    assert_eq!(files(&path).len(), info.shelves, "merged shelves are removed");
    let never = |batch: &mut nut_cellar::Batch<'_>| {
        batch.set_merging(Merging::Never);
        batch.put(&Record::new(7).with("title", "ash box"))
    };
    cellar.publish(never).unwrap();
    let found = cellar.find("box", &Find::new().limit(60)).unwrap();
    assert_eq!(found.total, 60);
    assert!(cellar.compact().unwrap());
    assert_eq!((cellar.info().unwrap().shelves, files(&path).len()), (1, 1));
    assert_eq!(cellar.find("box", &Find::new().limit(60)).unwrap(), found);
    assert!(!cellar.compact().unwrap(), "there is nothing left to do");
    assert_eq!(
        Cellar::open(Folder::at(&path).unmapped()).unwrap().find("box", &Find::new().limit(60)).unwrap(),
        found
    );
    cellar.check().unwrap();
}

/// Every byte of a small cellar's pieces, one after the other: checking names the section, or sees that nothing is wrong.
#[test]
fn a_check_names_what_is_damaged() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("shed.cellar");
    let cellar = Cellar::create_in(&path, schema()).unwrap();
    put(&cellar, 0..20, "oak box, oak lid");
    cellar.check().unwrap();
    drop(cellar);
    let file = files(&path).remove(0);
    let whole = fs::read(&file).unwrap();
    for at in 0..whole.len() {
        let mut bytes = whole.clone();
        bytes[at] ^= 0x10;
        fs::write(&file, &bytes).unwrap();
        let error = Cellar::open_in(&path).and_then(|cellar| cellar.check()).unwrap_err();
        assert!(is_refused(&error), "{at}: {error}");
        let said = error.to_string();
        assert!(
            said.contains("checksum") || said.contains("directory") || said.contains("layout"),
            "{at}: {said}"
        );
    }
}

#[test]
fn whoever_watches_a_batch_is_told_and_may_give_up() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("shed.cellar");
    let cellar = Cellar::create_in(&path, schema()).unwrap();
    let (told, seen) = std::sync::mpsc::channel();
    let fill = |batch: &mut nut_cellar::Batch<'_>, most: u64| {
        let told = told.clone();
        batch.set_watch(move |so_far| told.send(so_far).unwrap());
        batch.set_budget(100_000);
        (0..3_000).try_for_each(|id| {
            if batch.so_far().records == most {
                return Err(nut_cellar::Error::new(ErrorKind::BadRequest, "Enough."));
            }
            batch.put(&Record::new(id).with("title", format!("oak {id}")))
        })
    };
    assert!(cellar.publish(|batch| fill(batch, 1_500)).is_err());
    assert_eq!((cellar.info().unwrap().records, files(&path).len()), (0, 0), "nothing is left of it");
    let given_up: Vec<_> = seen.try_iter().collect();
    assert!(given_up.iter().any(|so_far| so_far.records == 1_024));
    cellar.publish(|batch| fill(batch, u64::MAX)).unwrap();
    let all: Vec<_> = seen.try_iter().collect();
    assert!(all.is_sorted_by_key(|so_far| (so_far.records, so_far.shelves, so_far.bytes)));
    assert!(all.last().is_some_and(|so_far| so_far.shelves > 1 && so_far.bytes > 10_000), "{all:?}");
    assert_eq!(total(&cellar, "oak"), 3_000);
}

#[test]
fn relaxed_batches_are_seen_by_all_and_the_next_full_one_keeps_them() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("shed.cellar");
    let cellar = Cellar::create_in(&path, schema()).unwrap();
    put(&cellar, 0..3, "oak");
    let relaxed = Cellar::open(Folder::at(&path).with_durability(Durability::Relaxed)).unwrap();
    for id in 3..9 {
        put(&relaxed, id..id + 1, "oak");
    }
    assert!(path.join("manifest.loose").exists());
    assert_eq!((total(&cellar, "oak"), total(&Cellar::open_in(&path).unwrap(), "oak")), (9, 9));
    // What a power cut could leave of it: then the last synced batch counts, and all of it is still there.
    let loose = fs::read(path.join("manifest.loose")).unwrap();
    fs::write(path.join("manifest.loose"), &loose[..loose.len() - 3]).unwrap();
    assert_eq!(total(&Cellar::open_in(&path).unwrap(), "oak"), 3);
    fs::write(path.join("manifest.loose"), &loose).unwrap();
    put(&cellar, 9..10, "oak");
    assert!(!path.join("manifest.loose").exists());
    assert_eq!(total(&Cellar::open_in(&path).unwrap(), "oak"), 10);
    cellar.check().unwrap();
    assert_eq!(files(&path).len(), cellar.info().unwrap().shelves, "nothing is left over");
    for id in 0..70 {
        put(&relaxed, id..id + 1, "elm");
    }
    assert!(Folder::at(&path).is_cellar() && total(&cellar, "elm") == 70);
}

#[test]
fn who_lost_the_lock_publishes_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("shed.cellar");
    let cellar = Cellar::create_in(&path, schema()).unwrap();
    put(&cellar, 0..3, "oak");
    // Somebody removes the file while a batch is under way, and another writer gets in.
    for others_write in [true, false] {
        let other = Cellar::open_in(&path).unwrap();
        let before = total(&other, "elm");
        let error = cellar
            .publish(|batch| {
                batch.put(&Record::new(7).with("title", "quill"))?;
                fs::remove_file(path.join("lock")).unwrap();
                if others_write {
                    put(&other, 10..12, "elm");
                }
                Ok(())
            })
            .unwrap_err();
        assert!(error.is_overtaken(), "{error}");
        assert!(error.to_string().contains("was removed"), "{error}");
        let opened = Cellar::open_in(&path).unwrap();
        assert_eq!((total(&opened, "quill"), total(&opened, "oak")), (0, 3));
        assert_eq!(total(&opened, "elm"), if others_write { 2 } else { before });
        opened.check().unwrap();
    }
    put(&cellar, 7..8, "quill");
    assert_eq!(total(&cellar, "quill"), 1);
}

#[test]
fn less_memory_finds_the_same() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("shed.cellar");
    put(&Cellar::create_in(&path, schema()).unwrap(), 0..300, "oak");
    for bytes in [0, DEFAULT_MEMORY] {
        let cellar = Cellar::open_in(&path).unwrap().with_memory(bytes);
        for _ in 0..3 {
            assert_eq!(total(&cellar, "oak"), 300);
        }
        let memory = cellar.info().unwrap().memory;
        assert_eq!((memory.budget, memory.kept > 0), (bytes as u64, bytes > 0));
    }
}

#[test]
fn files_of_others_stay_and_leftovers_of_writers_go() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("shed.cellar");
    let cellar = Cellar::create_in(&path, schema()).unwrap();
    let name = |digit: &str| path.join("pieces").join(digit.repeat(32));
    fs::write(name("a"), "somebody's notes").unwrap();
    fs::write(name("b"), b"NUTSHELF and the half of a shelf").unwrap();
    fs::write(name("c"), b"NUTMA").unwrap();
    fs::write(name("d"), b"").unwrap();
    put(&cellar, 0..3, "oak");
    let there = ["a", "b", "c", "d"].map(|digit| name(digit).exists());
    assert_eq!(there, [true, false, false, false]);
}

#[cfg(unix)]
#[test]
fn what_is_made_is_the_users_alone_unless_it_is_to_be_shared() {
    use std::os::unix::fs::PermissionsExt;
    let folder = tempfile::tempdir().unwrap();
    let modes = |path: &Path| {
        let mut all = vec![path.to_owned(), path.join("pieces"), path.join("manifest"), path.join("lock")];
        all.extend(files(path));
        all.iter().map(|path| fs::metadata(path).unwrap().permissions().mode() & 0o777).collect::<Vec<_>>()
    };
    let path = folder.path().join("shed.cellar");
    put(&Cellar::create_in(&path, schema()).unwrap(), 0..3, "oak");
    assert_eq!(modes(&path), [0o700, 0o700, 0o600, 0o600, 0o600]);
    let path = folder.path().join("shared.cellar");
    put(&Cellar::create(Folder::at(&path).shared(), schema()).unwrap(), 0..3, "oak");
    // What it is then depends on the umask of the process: of a directory of this very process.
    let umask = 0o777 & !fs::metadata(make(&folder.path().join("any"))).unwrap().permissions().mode();
    assert_eq!(
        modes(&path),
        [0o777 & !umask, 0o777 & !umask, 0o666 & !umask, 0o666 & !umask, 0o666 & !umask]
    );
    // A reader that takes it unmapped reads the same.
    let unmapped = Cellar::open(Folder::at(&path).shared().unmapped()).unwrap();
    assert_eq!(total(&unmapped, "oak"), 3);
}

#[cfg(unix)]
fn make(path: &Path) -> &Path {
    fs::create_dir(path).unwrap();
    path
}

#[test]
fn a_truncated_piece_is_an_error_where_it_is_not_mapped() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("shed.cellar");
    put(&Cellar::create_in(&path, schema()).unwrap(), 0..500, "oak box of brass");
    let unmapped = Cellar::open(Folder::at(&path).unmapped()).unwrap();
    assert_eq!(total(&unmapped, "oak"), 500);
    fs::OpenOptions::new().write(true).open(&files(&path)[0]).unwrap().set_len(100).unwrap();
    let fresh = Cellar::open(Folder::at(&path).unmapped());
    let read = fresh.and_then(|cellar| cellar.check());
    assert!(read.is_err_and(|error| error.is_damaged() || error.kind() == ErrorKind::Place));
    assert!(unmapped.check().is_err());
}
