//! Good cellars with bytes changed, and everything that reads them: an answer or an error, never a panic. Fuzzing and the
//! tests that replay what it found call the same functions.

use nut_cellar_core::store::{MemoryUnit, ShelfEntry};
use nut_cellar_core::text::{Pattern, accepts};
use nut_cellar_core::{
    Batch, Column, Error, ErrorKind, Find, Kind, Manifest, Memory, Merging, Opened, Query, Record, Result,
    Schema, Search, Snapshot, Unit, View, search,
};
use std::collections::BTreeSet;
use std::sync::{Arc, LazyLock};

const CHUNK: usize = 4_096;
/// Checksum, length and label at the end of a shelf.
const TRAILER: usize = 16;

fn schema() -> Schema {
    Schema::new("id")
        .with("title", Column::text("en"))
        .with("notes", Column::text("none"))
        .with("station", Column::of(Kind::Exact))
        .with("pence", Column::of(Kind::Integer))
}

/// A cellar of one shelf of these texts, its lists in short blocks, so that there are many.
fn cellar(texts: &[String]) -> (MemoryUnit, Arc<Manifest>) {
    let mut unit = Memory::new().unit();
    let opened = Opened::new();
    let mut batch = Batch::new(&mut unit, &opened, &schema()).unwrap();
    batch.set_block(4);
    for (id, text) in (0_i64..).zip(texts) {
        let mut record = Record::new(id * 3).with("title", text.as_str()).with("notes", "oak box");
        for pence in 0..id % 3 {
            record.add("pence", pence * 90 - id);
        }
        batch.put(&record.with("station", ["Quillmere", "Ash Lane"][text.len() % 2])).unwrap();
    }
    batch.publish().unwrap();
    let manifest = unit.manifest().unwrap().unwrap();
    (unit, manifest)
}

/// A cellar that is there from the start.
static GOOD: LazyLock<(Vec<u8>, Arc<Manifest>)> = LazyLock::new(|| {
    let text = |n: usize| format!("oak {} elms boxes {}", "oak ".repeat(n % 4), ["tin", "brass", "é"][n % 3]);
    let (unit, manifest) = cellar(&(0..60).map(text).collect::<Vec<_>>());
    let shelf = &manifest.shelves[0];
    (unit.read(&[(shelf.piece, 0..shelf.bytes)]).unwrap()[0].to_vec(), manifest)
});

/// Changes bytes: each four of the input are a place, in three bytes, and a value.
fn change(bytes: &mut [u8], input: &[u8]) {
    for edit in input.chunks_exact(4) {
        let place = usize::from(edit[0]) << 16 | usize::from(edit[1]) << 8 | usize::from(edit[2]);
        let place = place % bytes.len();
        bytes[place] = edit[3];
    }
}

/// A shelf with bytes changed, and checksums that fit.
pub fn shelf(input: &[u8]) {
    let (good, manifest) = &*GOOD;
    let entry = &manifest.shelves[0];
    let mut bytes = good.clone();
    change(&mut bytes, input);
    let tail = bytes.len() - usize::try_from(entry.tail).unwrap();
    let sums = bytes.len() - TRAILER - 4 * tail.div_ceil(CHUNK);
    let of_chunks: Vec<u8> =
        bytes[..tail].chunks(CHUNK).flat_map(|chunk| crc32fast::hash(chunk).to_le_bytes()).collect();
    bytes[sums..sums + of_chunks.len()].copy_from_slice(&of_chunks);
    let end = bytes.len() - TRAILER;
    let sum = crc32fast::hash(&bytes[tail..end]).to_le_bytes();
    bytes[end..end + 4].copy_from_slice(&sum);
    bytes[end + 4..].copy_from_slice(&good[end + 4..]);
    read_all(entry, &bytes, manifest);
}

/// Opens, checks, counts, searches and merges what is there.
fn read_all(entry: &ShelfEntry, bytes: &[u8], manifest: &Manifest) {
    let place = Memory::new();
    let mut unit = place.unit();
    let mut writer = unit.write(entry.piece).unwrap();
    writer.append(bytes).unwrap();
    writer.finish().unwrap();
    unit.swap(None, manifest).unwrap();
    unit.commit().unwrap();
    let view = place.view();
    let Some(snapshot) = fair(Snapshot::open(&view, &Opened::new())) else { return };
    fair(snapshot.check(&view));
    fair(snapshot.tally(&view));
    for query in ["oak", "\"oak elm\"", "boxes brass notes:box"] {
        let mut search = Search::new(snapshot.clone(), &Query::read(query).query, &Find::new()).unwrap();
        fair(search::run(&view, &mut search));
    }
    for pattern in ["*ox*", "*s", "e?m*", "*"] {
        fair(snapshot.terms(&view, &Pattern::new(pattern).unwrap(), 100));
    }
    let mut unit = place.unit();
    let opened = Opened::new();
    let Some(mut batch) = fair(Batch::new(&mut unit, &opened, &schema())) else { return };
    batch.set_merging(Merging::Whole);
    fair(batch.remove(&6.into()).and_then(|()| batch.publish()));
}

/// What came of it, if the error is one that bytes may cause.
fn fair<T>(result: Result<T>) -> Option<T> {
    let right = |error: &Error| {
        use ErrorKind::{BadSchema, Damaged, MadeByNewer, MadeByOlder, NotACellar};
        [BadSchema, Damaged, MadeByNewer, MadeByOlder, NotACellar].contains(&error.kind())
    };
    result.inspect_err(|error| assert!(right(error), "{error}")).ok()
}

/// A manifest with bytes changed, and a checksum that fits.
pub fn manifest(input: &[u8]) {
    fair(Manifest::decode(input));
    let mut bytes = GOOD.1.encode();
    change(&mut bytes[16..], input);
    let sum = crc32fast::hash(&bytes[16..]).to_le_bytes();
    bytes[12..16].copy_from_slice(&sum);
    if let Some(read) = fair(Manifest::decode(&bytes)) {
        assert_eq!(Manifest::decode(&read.encode()).unwrap(), read);
    }
}

/// Terms of any letters: each is found, and no other.
pub fn dictionary(input: &[u8]) {
    let text = String::from_utf8_lossy(input);
    let texts: Vec<String> = text.split('\n').map(str::to_owned).collect();
    let (unit, _) = cellar(&texts);
    let snapshot = Snapshot::open(&unit, &Opened::new()).unwrap();
    snapshot.check(&unit).unwrap();
    let recipe = nut_cellar_core::Recipe::new(&nut_cellar_core::Language::new("en").unwrap());
    let mut terms: BTreeSet<String> = ["oak", "box"].map(str::to_owned).into();
    for text in &texts {
        recipe.tokens(text, |token| {
            terms.insert(token.term.to_owned());
        });
    }
    assert_eq!(snapshot.tally(&unit).unwrap().terms, terms.len() as u64);
    // Patterns made of a term find it, and what else fits.
    for term in terms.iter().take(20) {
        let some: String = term.chars().take(4).collect();
        let escaped = some.replace('\\', "\\\\").replace('*', "\\*").replace('?', "\\?");
        for pattern in [format!("{escaped}*"), format!("*{escaped}*"), format!("*{escaped}")] {
            let pattern = Pattern::new(&pattern).unwrap();
            let found = snapshot.terms(&unit, &pattern, usize::MAX).unwrap().terms;
            let expected = terms.iter().filter(|term| accepts(&pattern, term));
            assert!(expected.eq(found.iter().map(|one| &one.term)), "{pattern}");
        }
    }
}
