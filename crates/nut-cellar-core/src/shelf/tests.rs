//! Shelves against plain lists, and against bytes that nobody wrote.
#![allow(clippy::cast_possible_truncation, reason = "the shelves of tests are small")]

use crate::catalog::{Opened, Snapshot};
use crate::error::Result;
use crate::query::Query;
use crate::record::{Key, Record, Value};
use crate::schema::{Column, ColumnSet, Kind, Schema};
use crate::search::{Find, Search, Words, run};
use crate::shelf::build::builder::Builder;
use crate::shelf::build::output::Output;
use crate::shelf::check::check;
use crate::shelf::format::directory::{CHUNK, Directory, MoreSection, Section};
use crate::shelf::format::entries::Entries;
use crate::shelf::format::kept;
use crate::shelf::format::sorted::{SortedIndex, SortedWriter, first_entry, parts_of};
use crate::shelf::format::text_columns::TextColumns;
use crate::shelf::format::values::ValueColumn;
use crate::shelf::merge::{Source, merge};
use crate::shelf::read::cache::Cache;
use crate::shelf::read::held::{Held, Step, Stop};
use crate::shelf::read::reader::Shelf;
use crate::store::{Manifest, Memory, MemoryUnit, PieceId, PieceWriter, ShelfEntry, Unit, View};
use crate::text::{Pattern, Recipe, Spelling, accepts};
use crate::wire::Reader;
use bytes::Bytes;
use proptest::prelude::*;
use std::cell::RefCell;
use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet};
use std::num::NonZero;
use std::rc::Rc;
use std::sync::Arc;

fn cache() -> Arc<Cache> {
    Arc::new(Cache::new(1 << 20))
}

/// Takes what is written into a vector.
struct Collect(Rc<RefCell<Vec<u8>>>);

impl PieceWriter for Collect {
    fn append(&mut self, bytes: &[u8]) -> Result<()> {
        self.0.borrow_mut().extend_from_slice(bytes);
        Ok(())
    }

    fn finish(self: Box<Self>) -> Result<()> {
        Ok(())
    }
}

/// What `write` writes and gives.
fn written<T>(write: impl FnOnce(&mut Output<'_>) -> T) -> (Vec<u8>, T) {
    let bytes = Rc::new(RefCell::new(Vec::new()));
    let mut out = Output::new(Box::new(Collect(Rc::clone(&bytes))));
    let given = write(&mut out);
    out.checksums().unwrap();
    drop(out);
    (Rc::into_inner(bytes).unwrap().into_inner(), given)
}

/// Does `work`, fetching what it lacks.
fn driven<T>(view: &dyn View, mut work: impl FnMut(&mut Held) -> Step<T>) -> Result<T> {
    let mut held = Held::default();
    loop {
        match work(&mut held) {
            Ok(done) => return Ok(done),
            Err(Stop::Failed(error)) => return Err(error),
            Err(Stop::Missing) => held.fetch(view)?,
        }
    }
}

proptest! {
    #[test]
    fn sorted_blocks_hold_and_find_every_entry(
        entries in prop::collection::btree_map("[abc]{0,6}", any::<u8>(), 0..60),
        missing in "[abcd]{0,6}",
        per_block in 1_usize..9,
    ) {
        let (mut written, blocks) = written(|out| {
            let mut writer = SortedWriter::new(per_block);
            for (entry, payload) in &entries {
                writer.push(entry.as_bytes(), |block, _| block.push(*payload));
                writer.stream(out).unwrap();
            }
            writer.finish(out, Section::Keys, Section::KeyIndex).unwrap();
            out.ends[Section::Keys as usize]
        });
        let index = SortedIndex::new(Bytes::from(written.split_off(blocks as usize)), blocks).unwrap();
        let bytes = written;
        prop_assert_eq!(index.blocks(), entries.len().div_ceil(per_block));
        let mut read = Vec::new();
        for block in 0..index.blocks() {
            let range = index.block(block).unwrap();
            let mut walk = Entries::new(&bytes[range.start as usize..range.end as usize]);
            while walk.advance().unwrap() {
                let entry = String::from_utf8(walk.entry().to_vec()).unwrap();
                prop_assert_eq!(index.locate(entry.as_bytes()).unwrap(), Some(block));
                read.push((entry, walk.payload().u8().unwrap()));
            }
        }
        prop_assert_eq!(read, entries.clone().into_iter().collect::<Vec<_>>());
        // All entries of the blocks before are less, and all of the blocks after are greater.
        let located = index.locate(missing.as_bytes()).unwrap();
        for first in 0..index.blocks() {
            prop_assert_eq!(index.locate_from(first, missing.as_bytes()).unwrap(), first.max(located.unwrap()));
        }
        prop_assert_eq!(located.is_some(), !entries.is_empty());
        for (place, entry) in entries.keys().enumerate() {
            let block = located.unwrap_or(0);
            prop_assert!(place / per_block >= block || *entry < missing);
            prop_assert!(place / per_block <= block || *entry > missing);
        }
        prop_assert!(index.block(index.blocks()).is_err());
    }

    /// Blocks of parts have what plain blocks have, part by part, and what is less than an entry is passed over as a walk would.
    #[test]
    fn parts_of_blocks_hold_every_entry(
        entries in prop::collection::btree_map("[abc]{1,6}", any::<u8>(), 1..60),
        wanted in "[abcd]{1,6}",
    ) {
        let (written, blocks) = written(|out| {
            let mut writer = SortedWriter::of_parts(8, 3);
            for (entry, payload) in &entries {
                writer.push(entry.as_bytes(), |part, first| part.extend([u8::from(first), *payload]));
            }
            writer.finish(out, Section::Terms, Section::TermIndex).unwrap();
            out.ends[Section::Terms as usize]
        });
        let index = SortedIndex::new(Bytes::copy_from_slice(&written[blocks as usize..]), blocks).unwrap();
        let mut read = Vec::new();
        for block in 0..index.blocks() {
            let range = index.block(block).unwrap();
            let (parts, count) = parts_of(&written[range.start as usize..range.end as usize]).unwrap();
            for (part, payloads) in &parts[..count] {
                let (mut walk, mut payloads) = (Entries::new(part), Reader::new(payloads));
                let mut here = Vec::new();
                while walk.advance().unwrap() {
                    let first = here.is_empty();
                    prop_assert!(!first || first_entry(part).unwrap() == walk.entry());
                    prop_assert_eq!(payloads.u8().unwrap(), u8::from(first));
                    here.push((String::from_utf8(walk.entry().to_vec()).unwrap(), payloads.u8().unwrap()));
                }
                prop_assert!(payloads.is_empty() && (1..=3).contains(&here.len()));
                let mut jumps = Entries::new(part);
                prop_assert!(jumps.advance().unwrap());
                for start in 0..here.len().min(2) {
                    if here[start].0 < wanted {
                        let next = here.iter().position(|(entry, _)| *entry >= wanted);
                        prop_assert_eq!(jumps.advance_over(wanted.as_bytes()).unwrap(), next.map(|next| next - start - 1));
                        prop_assert!(next.is_none_or(|next| jumps.entry() == here[next].0.as_bytes()));
                    }
                    jumps = Entries::new(part);
                    prop_assert!(jumps.advance().unwrap() && jumps.advance().is_ok());
                }
                read.extend(here);
            }
        }
        prop_assert_eq!(read, entries.into_iter().collect::<Vec<_>>());
    }

    #[test]
    fn parts_of_any_bytes_do_no_harm(block: Vec<u8>, wanted: Vec<u8>) {
        if let Ok((parts, count)) = parts_of(&block) {
            for (entries, _) in &parts[..count] {
                let _ = first_entry(entries);
                let mut walk = Entries::new(entries);
                while walk.advance_over(&wanted).is_ok_and(|passed| passed.is_some()) {}
            }
        }
    }

    #[test]
    fn keys_that_count_up_take_next_to_nothing_and_come_back(
        runs in prop::collection::vec((any::<u16>(), 1_u32..40), 1..6),
        per_block in 1_usize..40,
    ) {
        let keys: BTreeSet<Vec<u8>> = runs
            .iter()
            .flat_map(|&(start, length)| (0..length).map(move |n| Key::from(i64::from(start) - 99 + i64::from(n)).encode()))
            .collect();
        let (bytes, end) = written(|out| {
            let mut writer = SortedWriter::new(per_block);
            for key in &keys {
                writer.push_bare(key);
            }
            writer.finish(out, Section::Keys, Section::KeyIndex).unwrap();
            out.ends[Section::Keys as usize]
        });
        let index = SortedIndex::new(Bytes::copy_from_slice(&bytes[end as usize..]), end).unwrap();
        let mut read = Vec::new();
        for block in 0..index.blocks() {
            let range = index.block(block).unwrap();
            let mut walk = Entries::new(&bytes[range.start as usize..range.end as usize]);
            while walk.advance().unwrap() {
                read.push(walk.entry().to_vec());
            }
        }
        prop_assert!(read.iter().eq(&keys));
        prop_assert!(end as usize <= 13 * (runs.len() + index.blocks()));
    }

    #[test]
    fn sorted_blocks_of_any_bytes_do_no_harm(block: Vec<u8>, index: Vec<u8>, length: u32, wanted: Vec<u8>) {
        let mut walk = Entries::new(&block);
        for _ in 0..=20 * block.len() {
            if !walk.advance().is_ok_and(|more| more) {
                break;
            }
        }
        if let Ok(index) = SortedIndex::new(Bytes::from(index), u64::from(length)) {
            let _ = index.locate(&wanted);
            let _ = (0..index.blocks().min(9)).map(|block| index.block(block)).collect::<Vec<_>>();
        }
    }

    #[test]
    fn kept_values_come_back_and_any_bytes_do_no_harm(
        title in prop::collection::vec(".{0,5}", 1..4),
        number: i64,
        junk: Vec<u8>,
    ) {
        let schema = Schema::new("id").with("title", Column::text("none")).with("n", Column::of(Kind::Integer));
        let titles: Vec<Value> = title.into_iter().map(Value::from).collect();
        let numbers = [Value::from(number)];
        let mut packed = Vec::new();
        kept::pack(&mut packed, [(0, &titles[..]), (1, &numbers[..])].into_iter()).unwrap();
        let read = kept::unpack(&schema, &packed).unwrap();
        prop_assert_eq!(&read["title"], &titles);
        prop_assert_eq!(&read["n"][..], &numbers[..]);
        prop_assert!(kept::unpack(&schema, &packed[..packed.len() - 1]).is_err());
        let _ = kept::unpack(&schema, &junk);
    }

    #[test]
    fn a_directory_comes_back_and_any_flipped_bit_is_noticed(
        records in 0_u32..1_000,
        lengths in prop::collection::vec(0_u64..200_000, 15),
        more in prop::collection::vec((0_u64..9, 0_u64..9_000), 0..3),
        stemmings in prop::collection::vec("[a-zé ]{0,9}", 0..4),
        beginning in prop::option::of((0_u8..2, 1_u16..9)),
        at: prop::sample::Index,
        bit in 0_u8..8,
    ) {
        let mut ends = [0; 15];
        let mut end = crate::shelf::format::directory::HEADER_BYTES;
        for (slot, (section, length)) in ends.iter_mut().zip(Section::ALL.into_iter().zip(lengths)) {
            end += match section {
                Section::Lengths => (u64::from(records) * 3).div_ceil(8) + u64::from(records),
                Section::ValueIndex => u64::from(records.div_ceil(7)) * 2 * 25,
                _ => length,
            };
            *slot = end;
        }
        let more: Vec<_> = more.into_iter().map(|(kind, bytes)| MoreSection { kind: kind * 2, bytes }).collect();
        let end = end + more.iter().map(|more| more.bytes).sum::<u64>();
        let checksums = (0..).take(end.div_ceil(CHUNK) as usize).collect();
        let widths = vec![3, 8];
        let of_words = |(column, words): (u8, u16)| [&[1, column, 1 - column][..], &words.to_le_bytes()].concat();
        let bytes = beginning.map(of_words);
        let columns = TextColumns::get(2, bytes.as_ref().map(|bytes| Reader::new(bytes)).as_mut()).unwrap();
        let columns = Arc::new(columns);
        let directory =
            Directory { records, block: 7, columns, widths, value_columns: 2, features: 1, stemmings, more, ends, checksums };
        let mut tail = directory.encode();
        let bytes = end + tail.len() as u64;
        prop_assert_eq!(&Directory::decode(&tail, bytes, 2).unwrap(), &directory);
        prop_assert!(Directory::decode(&tail, bytes + 1, 2).is_err());
        prop_assert!(Directory::decode(&tail, bytes, 1).is_err());
        // Who does not know a section reads what it can, unless that is said to be wrong.
        let mut needed = directory.clone();
        needed.more.push(MoreSection { kind: 9, bytes: 0 });
        let needed = needed.encode();
        let refused = Directory::decode(&needed, end + needed.len() as u64, 2).unwrap_err();
        prop_assert!(refused.to_string().contains("a newer version of this program"));
        let at = at.index(tail.len());
        prop_assert!(Directory::decode(&tail[at + 1..], bytes, 2).is_err());
        prop_assert!(Directory::decode(&tail[..at], bytes, 2).is_err());
        tail[at] ^= 1 << bit;
        prop_assert!(Directory::decode(&tail, bytes, 2).is_err());
    }
}

/// Both columns are read by one stemming.
fn schema() -> Schema {
    schema_of("en")
}

/// Notes are read so.
fn schema_of(notes: &str) -> Schema {
    Schema::new("id")
        .with("title", Column::text("en"))
        .with("notes", Column::text(notes))
        .with("station", Column::of(Kind::Exact))
        .with("pence", Column::of(Kind::Integer))
        .with("weight", Column::of(Kind::Float))
        .with("lent", Column::of(Kind::Boolean).not_kept())
        .with("line", Column::of(Kind::Exact))
}

/// Words of which some are forms of each other, more than a shape can tell, and one is the key of forms that are less than it.
const WORDS: &[&str] = &[
    "oak",
    "oaks",
    "elm",
    "ash",
    "box",
    "boxes",
    "boxed",
    "boxing",
    "relate",
    "related",
    "relates",
    "relating",
    "relation",
    "relations",
    "relational",
    "relative",
    "relatives",
    "relatively",
    "lining",
    "mice",
];

/// Whether the kept values of a record are its own, but for the column that is not kept.
fn same_kept(record: &Record, kept: &indexmap::IndexMap<String, Vec<Value>>) -> bool {
    record.columns().filter(|(name, _)| *name != "lent").all(|(name, values)| kept[name] == values)
}

/// A shelf of these records in memory, with its place.
fn shelf_of(records: &[Record]) -> (MemoryUnit, ShelfEntry, Vec<Vec<u8>>) {
    shelf_by(&schema(), records)
}

/// The same by another schema.
fn shelf_by(schema: &Schema, records: &[Record]) -> (MemoryUnit, ShelfEntry, Vec<Vec<u8>>) {
    let unit = Memory::new().unit();
    let mut builder = Builder::new(Arc::new(schema.clone()));
    for record in records {
        builder.put(record).unwrap();
    }
    let sealed = builder.seal(&unit).unwrap().unwrap();
    assert!(builder.seal(&unit).unwrap().is_none());
    let keys = sealed.keys.iter().map(<[u8]>::to_vec).collect();
    (unit, sealed.entry, keys)
}

fn records() -> impl Strategy<Value = Vec<Record>> {
    let text = prop::collection::vec(prop::sample::select(WORDS), 0..6);
    let pence = prop::collection::vec(prop_oneof![0_i64..9, Just(i64::MIN), Just(i64::MAX)], 0..3);
    let station =
        prop::collection::vec(prop::sample::select(&["Quillmere", "Fennick Halt", "Ash Lane"][..]), 0..3);
    let values = (station, pence, prop::option::of(-9.5_f64..9.5), prop::option::of(any::<bool>()));
    let record = (0_i64..40, text.clone(), text, values).prop_map(|(key, title, notes, values)| {
        let mut record = Record::new(key).with("title", title.join(" ")).with("notes", notes.join(" "));
        let (stations, pence, weight, lent) = values;
        if let Some(first) = stations.first() {
            record.add("line", *first);
        }
        for station in stations {
            record.add("station", station);
        }
        for pence in pence {
            record.add("pence", pence);
        }
        if let Some(weight) = weight {
            record.add("weight", weight);
        }
        if let Some(lent) = lent {
            record.add("lent", lent);
        }
        record
    });
    prop::collection::vec(record, 1..60)
}

/// By term and stemming.
type Lists = BTreeMap<(String, u8), BTreeMap<u32, BTreeSet<(usize, u32)>>>;

proptest! {
    #[test]
    fn a_shelf_holds_the_last_put_of_each_key_and_where_its_words_are(records in records(), mixed: bool) {
        let schema = schema_of(if mixed { "none" } else { "en" });
        let last: BTreeMap<&Key, &Record> = records.iter().map(|record| (&record.key, record)).collect();
        let mut lists = Lists::new();
        let recipe = Recipe::new(&crate::text::Language::new("en").unwrap());
        for (ordinal, record) in (0..).zip(last.values()) {
            for (column, name) in ["title", "notes"].into_iter().enumerate() {
                let text = record.values(name)[0].as_text().unwrap();
                recipe.tokens(text, |token| {
                    let records = lists.entry((token.term.to_owned(), column as u8 * u8::from(mixed))).or_default();
                    records.entry(ordinal).or_default().insert((column, token.position));
                });
            }
        }

        let (unit, entry, keys) = shelf_by(&schema, &records);
        prop_assert_eq!(&keys, &last.keys().map(|key| key.encode()).collect::<Vec<_>>());
        let shelf = Arc::new(Shelf::open(&unit, &entry, &cache()).unwrap());
        for (ordinal, key) in (0..).zip(&keys) {
            prop_assert_eq!(driven(&unit, |held| shelf.find_key(held, key)).unwrap(), Some(ordinal));
            prop_assert_eq!(&driven(&unit, |held| shelf.key_of(held, ordinal)).unwrap(), key);
            let kept = driven(&unit, |held| shelf.kept(held, &schema, ordinal)).unwrap();
            let record = last[&Key::decode(key).unwrap()];
            prop_assert!(same_kept(record, &kept));
        }
        prop_assert_eq!(driven(&unit, |held| shelf.find_key(held, &Key::from(99).encode())).unwrap(), None);
        for (term, stemming) in WORDS.iter().chain(&["zzz"]).flat_map(|term| [(*term, 0), (term, 1)]) {
            let found = driven(&unit, |held| shelf.find_term(held, term, stemming)).unwrap();
            let list = lists.get(&(term.to_owned(), stemming));
            prop_assert_eq!(found.is_some(), list.is_some());
            let Some((entry, list)) = found.zip(list) else { continue };
            let mut positions = driven(&unit, |held| shelf.positions(held, &entry)).unwrap();
            let mut postings = driven(&unit, |held| shelf.postings(held, &entry)).unwrap();
            let mut read = BTreeMap::new();
            while postings.advance().unwrap() {
                postings.read().unwrap();
                let mut places = Vec::new();
                positions.of(&postings, postings.columns(), |column, at| places.push((column, at))).unwrap();
                let per_column = |column| places.iter().filter(|(known, _)| *known == column).count() as u32;
                prop_assert!(postings.frequencies().all(|(column, tf)| tf == per_column(column)));
                let mut first_column = Vec::new();
                positions.of(&postings, ColumnSet::default().with(0), |column, at| first_column.push((column, at))).unwrap();
                prop_assert!(places.iter().filter(|(column, _)| *column == 0).eq(&first_column));
                read.insert(postings.ordinal(), places.into_iter().collect());
            }
            prop_assert_eq!(entry.records as usize, read.len());
            prop_assert_eq!(&read, list);
        }
        for key in WORDS.iter().map(|term| recipe.key_of(term).unwrap()).chain(["zzz".to_owned()]) {
            let class = driven(&unit, |held| shelf.find_class(held, &key, 0)).unwrap();
            let of_class = |(term, stemming): &&(String, u8)| *stemming == 0 && recipe.key_of(term).as_ref() == Some(&key);
            let expected: BTreeSet<_> = lists.keys().filter(of_class).map(|(term, _)| term.clone()).collect();
            let Some(class) = class else {
                prop_assert!(expected.is_empty());
                continue;
            };
            prop_assert_eq!(class.forms.iter().map(|(form, _)| form.clone()).collect::<BTreeSet<_>>(), expected);
            let records = |form: &String| lists[&(form.clone(), 0)].len() as u32;
            prop_assert!(class.forms.iter().all(|(form, known)| *known == records(form)));
            prop_assert!(class.forms.is_sorted_by_key(|(form, records)| (Reverse(*records), form.clone())));
            let all: BTreeSet<_> = class.forms.iter().flat_map(|(form, _)| lists[&(form.clone(), 0)].keys()).collect();
            prop_assert_eq!(class.whole.records as usize, all.len());
        }
    }
}

/// A shelf of these records in a place, its postings in blocks of so many.
fn sealed(unit: &MemoryUnit, records: impl IntoIterator<Item = Record>, block: u8) -> ShelfEntry {
    sealed_by(&schema(), unit, records, block)
}

/// The same by another schema.
fn sealed_by(
    schema: &Schema,
    unit: &MemoryUnit,
    records: impl IntoIterator<Item = Record>,
    block: u8,
) -> ShelfEntry {
    let mut builder = Builder::new(Arc::new(schema.clone()));
    builder.set_block(block);
    records.into_iter().for_each(|record| builder.put(&record).unwrap());
    builder.seal(unit).unwrap().unwrap().entry
}

/// The bytes of a section of a shelf.
fn section(unit: &MemoryUnit, entry: &ShelfEntry, section: Section) -> Bytes {
    let shelf = Shelf::open(unit, entry, &cache()).unwrap();
    unit.read(&[(entry.piece, shelf.section(section))]).unwrap().remove(0)
}

proptest! {
    #[test]
    fn a_merged_shelf_is_the_one_that_a_builder_makes(
        records in records(),
        parts in prop::collection::vec(0_usize..4, 60),
        removed in prop::collection::vec(prop::bool::weighted(0.2), 60),
        block in prop_oneof![Just(4_u8), Just(128)],
        budget in prop_oneof![Just(0_usize), Just(1 << 20)],
        mixed: bool,
    ) {
        let start = Column::text("en").from_columns(["title"]).of_first_words(NonZero::new(2).unwrap());
        let schema = schema_of(if mixed { "none" } else { "en" }).with("start", start.not_kept());
        let records: BTreeMap<Key, Record> =
            records.into_iter().map(|record| (record.key.clone(), record)).collect();
        let unit = Memory::new().unit();
        let mut shelves = Vec::new();
        for part in 0..4 {
            let own: Vec<_> = records.values().zip(&parts).zip(&removed).filter(|((_, p), _)| **p == part).collect();
            if !own.is_empty() {
                let entry = sealed_by(&schema, &unit, own.iter().map(|((record, _), _)| (*record).clone()), block);
                let removed: Vec<bool> = own.iter().map(|(_, removed)| **removed).collect();
                shelves.push((Arc::new(Shelf::open(&unit, &entry, &cache()).unwrap()), removed));
            }
        }
        let live: Vec<_> = records.values().zip(&removed).filter(|(_, removed)| !**removed).collect();
        prop_assume!(!live.is_empty());
        let removed: Vec<_> = shelves.iter().map(|(_, removed)| |ordinal: u32| removed[ordinal as usize]).collect();
        let sources: Vec<_> =
            shelves.iter().zip(&removed).map(|((shelf, _), removed)| Source { shelf, removed }).collect();
        let merged = merge(&unit, &sources, &schema, block, budget).unwrap();
        let fresh = sealed_by(&schema, &unit, live.iter().map(|(record, _)| (*record).clone()), block);
        prop_assert_eq!((merged.records, &merged.lengths), (fresh.records, &fresh.lengths));
        for part in Section::ALL {
            if !matches!(part, Section::Kept | Section::KeptIndex) {
                prop_assert_eq!(section(&unit, &merged, part), section(&unit, &fresh, part), "{}", part);
            }
        }
        let shelf = Arc::new(Shelf::open(&unit, &merged, &cache()).unwrap());
        check(&unit, &shelf, &merged, &schema).unwrap();
        for (ordinal, (record, _)) in (0..).zip(live) {
            let kept = driven(&unit, |held| shelf.kept(held, &schema, ordinal)).unwrap();
            prop_assert!(same_kept(record, &kept));
        }
    }
}

/// Blocks of kept values that follow one another in the new shelf are copied, and others are packed again.
#[test]
fn kept_values_of_merged_shelves_are_the_records_own() {
    let record =
        |key: i64| Record::new(key).with("title", format!("oak {key}")).with("notes", "box ".repeat(300));
    for step in [1, 2, 700] {
        let unit = Memory::new().unit();
        // Runs of 1, 2 or 700 keys in turn from one shelf and the other.
        let of = |part: i64| (0..1_400).filter(move |key| key / step % 2 == part).map(record);
        let shelves = [0, 1].map(|part| sealed(&unit, of(part), 128));
        let shelves = shelves.map(|entry| Arc::new(Shelf::open(&unit, &entry, &cache()).unwrap()));
        let live = |_: u32| false;
        let sources = shelves.each_ref().map(|shelf| Source { shelf, removed: &live });
        let merged = merge(&unit, &sources, &schema(), 128, 1 << 20).unwrap();
        let shelf = Arc::new(Shelf::open(&unit, &merged, &cache()).unwrap());
        check(&unit, &shelf, &merged, &schema()).unwrap();
        for key in 0..1_400 {
            let kept = driven(&unit, |held| shelf.kept(held, &schema(), key)).unwrap();
            assert_eq!(kept["title"][0].to_string(), format!("oak {key}"));
        }
        let fresh = sealed(&unit, (0..1_400).map(record), 128);
        let size = |entry| section(&unit, entry, Section::Kept).len();
        assert!(
            size(&merged) < size(&fresh) * 3 / 2,
            "blocks do not become small: {} and {}",
            size(&merged),
            size(&fresh)
        );
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

    /// All records of a term at once, in all columns and in one of them, against a plain list; lists of one block and of many.
    #[test]
    fn each_record_of_a_term_is_given(
        there in prop::collection::vec((prop::option::of(1_usize..4), prop::option::of(1_usize..4)), 1..300),
        block in prop_oneof![Just(1_u8), Just(4), Just(128)],
    ) {
        let text = |times: Option<usize>| "oak ".repeat(times.unwrap_or(0)) + "elm";
        let records = (0_i64..).zip(&there).map(|(id, (title, notes))| {
            Record::new(id).with("title", text(*title)).with("notes", text(*notes))
        });
        let unit = Memory::new().unit();
        let entry = sealed(&unit, records, block);
        let shelf = Arc::new(Shelf::open(&unit, &entry, &cache()).unwrap());
        let Some(term) = driven(&unit, |held| shelf.find_term(held, "oak", 0)).unwrap() else {
            prop_assert!(there.iter().all(|(title, notes)| title.is_none() && notes.is_none()));
            return Ok(());
        };
        let mut spare = (vec![7], vec![7]);
        for (columns, limited) in [(ColumnSet(3), false), (ColumnSet(1), true), (ColumnSet(2), true)] {
            let mut found = Vec::new();
            driven(&unit, |held| {
                found.clear();
                shelf.each_record(held, &term, (columns, limited), &mut spare, |ordinal| found.push(ordinal))
            })
            .unwrap();
            let has = |(title, notes): &(Option<usize>, Option<usize>)| {
                (title.is_some() && columns.has(0)) || (notes.is_some() && columns.has(1))
            };
            let expected = (0_u32..).zip(&there).filter(|(_, there)| has(there)).map(|(ordinal, _)| ordinal);
            prop_assert!(expected.eq(found.iter().copied()), "{:?}", columns);
        }
    }

    /// Single values and the spans of blocks tell what unpacked values do.
    #[test]
    fn a_value_is_tested_without_its_block(
        values in prop::collection::vec(prop::collection::btree_set(-3_i64..40, 0..3), 1..200),
        single: bool,
        ranges in prop::collection::vec((-5_i64..45, 0_i64..6), 1..3),
        block in prop_oneof![Just(1_u8), Just(4), Just(128)],
    ) {
        let schema = Schema::new("id").with("title", Column::text("none")).with("value", Column::of(Kind::Integer));
        let mut builder = Builder::new(Arc::new(schema));
        builder.set_block(block);
        let values: Vec<Vec<i64>> = values.into_iter().map(|values| {
            if single { vec![values.first().copied().unwrap_or(7)] } else { values.into_iter().collect() }
        }).collect();
        for (id, values) in (0_i64..).zip(&values) {
            let mut record = Record::new(id).with("title", "oak");
            for value in values {
                record.add("value", *value);
            }
            builder.put(&record).unwrap();
        }
        let unit = Memory::new().unit();
        let entry = builder.seal(&unit).unwrap().unwrap().entry;
        let shelf = Arc::new(Shelf::open(&unit, &entry, &cache()).unwrap());
        let number = |value: i64| Value::Integer(value).number().unwrap();
        let mut wanted: Vec<_> = ranges.iter().map(|(low, more)| (number(*low), number(low + more))).collect();
        wanted.sort_unstable();
        wanted.dedup_by(|next, kept| {
            let touches = next.0 <= kept.1 + 1;
            if touches {
                kept.1 = kept.1.max(next.1);
            }
            touches
        });
        let mut column = ValueColumn::new(&shelf, 0);
        for (ordinal, values) in (0_u32..).zip(&values) {
            let expected = values.iter().any(|value| ranges.iter().any(|(low, more)| (*low..=low + more).contains(value)));
            let found = driven(&unit, |held| column.any_in(held, ordinal, &wanted)).unwrap();
            prop_assert_eq!(found, expected, "{}", ordinal);
            let ((low, high), counted) =
                driven(&unit, |held| column.block_span(held, ordinal / u32::from(block))).unwrap();
            prop_assert!(values.iter().all(|value| (low..=high).contains(&number(*value))));
            prop_assert!(counted || values.len() == 1);
        }
    }

    /// Long lists, walked with jumps of every length, against a plain list.
    #[test]
    fn seeking_is_walking_on(
        gaps in prop::collection::vec(1_u32..5, 1..400),
        jumps in prop::collection::vec(prop_oneof![3 => 0_u32..6, 1 => 0_u32..300], 1..60),
        block in prop_oneof![Just(1_u8), Just(4), Just(9), Just(128)],
    ) {
        let ordinals: Vec<u32> = gaps.iter().scan(0, |at, gap| { *at += gap; Some(*at) }).collect();
        let all = ordinals.last().unwrap() + 1;
        let record = |ordinal: u32| {
            let there = ordinals.binary_search(&ordinal).is_ok();
            let title = if there { "oak ".repeat(1 + ordinal as usize % 3) } else { "elm".to_owned() };
            let notes = if there && ordinal.is_multiple_of(5) { "box oak" } else { "box" };
            Record::new(i64::from(ordinal)).with("title", title).with("notes", notes)
        };
        let unit = Memory::new().unit();
        let entry = sealed(&unit, (0..all).map(record), block);
        let shelf = Arc::new(Shelf::open(&unit, &entry, &cache()).unwrap());
        let term = driven(&unit, |held| shelf.find_term(held, "oak", 0)).unwrap().unwrap();
        let mut postings = driven(&unit, |held| shelf.postings(held, &term)).unwrap();
        let mut positions = driven(&unit, |held| shelf.positions(held, &term)).unwrap();
        prop_assert!(postings.advance().unwrap());
        let mut wanted = 0;
        for jump in jumps {
            wanted += jump;
            let expected = ordinals.iter().copied().find(|&ordinal| ordinal >= wanted.max(postings.ordinal()));
            prop_assert_eq!(postings.seek(wanted).unwrap(), expected.is_some());
            let Some(expected) = expected else { break };
            prop_assert_eq!(postings.ordinal(), expected);
            postings.read().unwrap();
            let mut places = Vec::new();
            positions.of(&postings, postings.columns(), |column, at| places.push((column, at))).unwrap();
            let mut right: Vec<_> = (0..=expected % 3).map(|position| (0, position)).collect();
            right.extend((expected % 5 == 0).then_some((1, 1)));
            prop_assert_eq!(places, right);
        }
    }
}

proptest! {
    /// A list that was unpacked says the same as one that is walked through.
    #[test]
    fn an_unpacked_list_is_the_packed_one(
        times in prop::collection::vec(prop_oneof![3 => Just((0, 0)), 2 => (0_usize..4, 0_usize..4)], 30..300),
        block in prop_oneof![Just(3_u8), Just(9)],
    ) {
        let record = |(number, (title, notes)): (i64, &(usize, usize))| {
            Record::new(number).with("title", "oak ".repeat(*title)).with("notes", "oak ".repeat(*notes))
        };
        let unit = Memory::new().unit();
        let entry = sealed(&unit, (0..).zip(&times).map(record), block);
        let shelf = Arc::new(Shelf::open(&unit, &entry, &cache()).unwrap());
        let Some(term) = driven(&unit, |held| shelf.find_term(held, "oak", 0)).unwrap() else { return Ok(()) };
        let postings = || driven(&unit, |held| shelf.postings(held, &term)).unwrap();
        let (mut walk, mut walked) = (postings(), Vec::new());
        while walk.advance().unwrap() {
            walk.read().unwrap();
            let frequencies: Vec<_> = walk.frequencies().collect();
            walked.push((walk.ordinal(), walk.columns(), frequencies));
        }
        let mut first = postings();
        first.ask_list().unwrap();
        prop_assert!(first.list_unpacked().is_none() && postings().list_unpacked().is_none(), "asked for once");
        first.ask_list().unwrap();
        let is_long = walk.blocks() >= 4;
        prop_assert_eq!((first.list_unpacked().is_some(), postings().list_unpacked().is_some()), (is_long, is_long));
        let Some(list) = postings().list_unpacked().cloned() else { return Ok(()) };
        for ordinal in 0..shelf.records() + 70 {
            let place = walked.iter().position(|(known, ..)| *known == ordinal);
            prop_assert_eq!((list.place_of(ordinal), list.has(ordinal)), (place, place.is_some()));
            let Some(place) = place else { continue };
            let (_, columns, frequencies) = &walked[place];
            if let Some((set, tf)) = list.shape(place).and_then(|shape| walk.kinds().even(shape)) {
                prop_assert!(set == *columns && frequencies.iter().all(|(_, known)| *known == tf));
            }
        }
    }
}

/// The same shelf with bytes of its body replaced and all checksums made to fit: what the checksums cannot tell apart
/// from a good one.
fn forged(unit: &MemoryUnit, entry: &ShelfEntry, changes: &[(usize, u8)]) -> (Memory, Manifest) {
    let mut bytes = unit.read(&[(entry.piece, 0..entry.bytes)]).unwrap()[0].to_vec();
    let tail = bytes.split_off((entry.bytes - entry.tail) as usize);
    let mut directory = Directory::decode(&tail, entry.bytes, 2).unwrap();
    for (at, value) in changes {
        let at = at % bytes.len();
        bytes[at] = *value;
    }
    directory.checksums = bytes.chunks(CHUNK as usize).map(crc32fast::hash).collect();
    bytes.extend(directory.encode());

    let place = Memory::new();
    let mut unit = place.unit();
    let mut writer = unit.write(entry.piece).unwrap();
    writer.append(&bytes).unwrap();
    writer.finish().unwrap();
    let manifest =
        Manifest { generation: 0, schema: Arc::new(schema()), bookmark: None, shelves: vec![entry.clone()] };
    unit.swap(None, &manifest).unwrap();
    unit.commit().unwrap();
    (place, manifest)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 2_000, ..ProptestConfig::default() })]

    /// Whatever the bytes say: an answer or an error, never a panic, an endless loop or a huge allocation.
    #[test]
    fn a_forged_shelf_does_no_harm(
        records in records(),
        block in prop_oneof![Just(2_u8), Just(128)],
        changes in prop::collection::vec((any::<usize>(), any::<u8>()), 1..12),
        query in prop::sample::select(&["oak", "\"oak elm\"", "box notes:ash", "elm oak ash box"][..]),
    ) {
        let (_, _, keys) = shelf_of(&records);
        let unit = Memory::new().unit();
        let entry = sealed(&unit, records, block);
        let (place, manifest) = forged(&unit, &entry, &changes);
        let view = place.view();
        let snapshot = Snapshot::open(&view, &Opened::new()).unwrap();
        // Lists are unpacked the second time that a search goes through them.
        for words in [Words::Any, Words::Any, Words::Any, Words::All] {
            let find = Find::new().words(words);
            let mut search = Search::new(snapshot.clone(), &Query::read(query).query, &find).unwrap();
            match run(&view, &mut search) {
                Ok(found) => prop_assert!(found.hits.len() <= 10),
                Err(error) => prop_assert!(error.is_damaged(), "{}", error),
            }
        }
        if let Err(error) = snapshot.tally(&view) {
            prop_assert!(error.is_damaged(), "{}", error);
        }
        let shelf = Arc::new(Shelf::open(&view, &manifest.shelves[0], &cache()).unwrap());
        if let Err(error) = check(&view, &shelf, &manifest.shelves[0], &schema()) {
            prop_assert!(error.is_damaged(), "{}", error);
        }
        let removed = |ordinal: u32| ordinal == 1;
        let sources = [Source { shelf: &shelf, removed: &removed }];
        if let Err(error) = merge(&place.unit(), &sources, &schema(), 128, 1 << 20) {
            prop_assert!(error.is_damaged(), "{}", error);
        }
        for key in &keys {
            if let Err(error) = driven(&view, |held| shelf.find_key(held, key)) {
                prop_assert!(error.is_damaged(), "{}", error);
            }
        }
    }
}

/// Each section in the place of each other, with checksums that fit: checking notices, or nothing was changed.
#[test]
fn swapped_sections_are_noticed() {
    let record =
        |key: i64| Record::new(key * 7).with("title", format!("oak {key} oaks")).with("notes", "elm box");
    let records: Vec<_> = (0..300).map(record).collect();
    let (unit, entry, _) = shelf_of(&records);
    let shelf = Shelf::open(&unit, &entry, &cache()).unwrap();
    let whole = unit.read(&[(entry.piece, 0..entry.bytes)]).unwrap()[0].to_vec();
    let mut noticed = 0;
    for (one, other) in Section::ALL.iter().flat_map(|one| Section::ALL.map(|other| (*one, other))) {
        let [a, b] = [one, other].map(|part| shelf.section(part));
        let length = (a.end - a.start).min(b.end - b.start) as usize;
        let swapped =
            |at: usize| if at < length { whole[b.start as usize + at] } else { whole[a.start as usize + at] };
        let changes: Vec<_> = (0..length).map(|at| (a.start as usize + at, swapped(at))).collect();
        let same = changes.iter().all(|&(at, value)| whole[at] == value);
        let (place, manifest) = forged(&unit, &entry, &changes);
        let view = place.view();
        let shelf = Arc::new(Shelf::open(&view, &manifest.shelves[0], &cache()).unwrap());
        match check(&view, &shelf, &manifest.shelves[0], &schema()) {
            Ok(()) => assert!(same, "{one} with the bytes of {other}"),
            Err(error) => {
                assert!(error.is_damaged(), "{error}");
                noticed += 1;
            }
        }
    }
    assert!(noticed > 60, "{noticed}");
}

/// Every bit of the directory, every 64th byte elsewhere, every length: opening or checking notices.
#[test]
fn every_flipped_bit_of_the_directory_is_noticed() {
    let record = |key: i64| Record::new(key).with("title", format!("oak {key}")).with("notes", "elm box");
    let records: Vec<_> = (0..400).map(record).collect();
    let (unit, entry, _) = shelf_of(&records);
    let whole = unit.read(&[(entry.piece, 0..entry.bytes)]).unwrap()[0].to_vec();
    let noticed = |bytes: &[u8]| {
        let unit = Memory::new().unit();
        let mut writer = unit.write(entry.piece).unwrap();
        writer.append(bytes).unwrap();
        writer.finish().unwrap();
        let checked = Shelf::open(&unit, &entry, &cache())
            .and_then(|shelf| check(&unit, &Arc::new(shelf), &entry, &schema()));
        checked.is_err_and(|error| error.is_damaged() || error.to_string().contains("layout"))
    };
    assert!(!noticed(&whole));
    let tail = (entry.bytes - entry.tail) as usize;
    for bit in (0..tail * 8).step_by(64 * 8 + 3).chain(tail * 8..whole.len() * 8) {
        let mut bytes = whole.clone();
        bytes[bit / 8] ^= 1 << (bit % 8);
        assert!(noticed(&bytes), "bit {bit}");
    }
    for length in (0..tail).step_by(61).chain(tail..whole.len()) {
        assert!(noticed(&whole[..length]), "{length} bytes");
    }
}

proptest! {
    /// Looking a term up in its block finds what is there and nothing else.
    #[test]
    fn terms_are_found_among_their_like(
        terms in prop::collection::btree_set("[ab]{1,5}", 1..40),
        others in prop::collection::vec("[abc]{0,6}", 20),
    ) {
        let texts: Vec<_> = terms.iter().map(String::as_str).collect();
        let records = [Record::new(1).with("title", texts.join(" ")).with("notes", texts[0])];
        let (unit, entry, _) = shelf_of(&records);
        let shelf = Arc::new(Shelf::open(&unit, &entry, &cache()).unwrap());
        for wanted in terms.iter().chain(&others) {
            let found = driven(&unit, |held| shelf.find_term(held, wanted, 0)).unwrap();
            prop_assert_eq!(found.is_some(), terms.contains(wanted), "{}", wanted);
            let Some(found) = found else { continue };
            prop_assert_eq!(found.occurrences(), 1 + u64::from(wanted == texts[0]));
        }
    }
}

#[test]
fn a_shelf_of_another_manifest_is_refused() {
    let (unit, entry, _) =
        shelf_of(&[Record::new(1).with("title", "oak"), Record::new(2).with("title", "elm")]);
    for wrong in [
        ShelfEntry { records: 3, ..entry.clone() },
        ShelfEntry { lengths: vec![1], ..entry.clone() },
        ShelfEntry { tail: entry.tail - 1, ..entry.clone() },
        ShelfEntry { bytes: entry.bytes - 1, ..entry.clone() },
        ShelfEntry { piece: PieceId::fresh().unwrap(), ..entry.clone() },
    ] {
        assert!(Shelf::open(&unit, &wrong, &cache()).unwrap_err().is_damaged(), "{wrong:?}");
    }
    assert_eq!(Shelf::open(&unit, &entry, &cache()).unwrap().records(), 2);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]
    #[test]
    fn keys_are_found_together_wherever_their_blocks_are(
        some in prop::collection::btree_set(0_i64..4_000, 1..1_500),
        wanted in prop::collection::btree_set(-9_i64..4_009, 0..300),
        texts: bool,
        counted_up: bool,
    ) {
        let there: BTreeSet<_> = if counted_up { (0..4_000).filter(|at| !some.contains(at)).collect() } else { some };
        let key = |number: i64| if texts { Key::from(format!("item {number}")) } else { Key::from(number) };
        let records: Vec<_> = there.iter().map(|number| Record::new(key(*number))).collect();
        let (unit, entry, keys) = shelf_of(&records);
        let shelf = Arc::new(Shelf::open(&unit, &entry, &cache()).unwrap());
        let wanted: BTreeSet<_> = wanted.into_iter().map(|number| key(number).encode()).collect();
        let asked: Vec<_> = wanted.iter().map(Vec::as_slice).collect();
        let found = driven(&unit, |held| shelf.find_keys(held, &asked)).unwrap();
        let expected: Vec<_> = (0..).zip(&keys).filter(|(_, key)| wanted.contains(*key)).map(|(at, _)| at).collect();
        prop_assert_eq!(found, expected);
    }
}

#[test]
fn what_a_place_answers_is_checked() {
    let (unit, entry, keys) = shelf_of(&[Record::new(1).with("title", "oak")]);
    let shelf = Arc::new(Shelf::open(&unit, &entry, &cache()).unwrap());
    let mut held = Held::default();
    let ask = |held: &mut Held| matches!(shelf.find_key(held, &keys[0]), Err(Stop::Missing));
    assert!(ask(&mut held));
    let wanted = held.wanted();
    assert_eq!(wanted.len(), 1);
    assert!(held.supply(Vec::new()).unwrap_err().is_damaged(), "too few answers");
    let right = unit.read(&wanted).unwrap();
    let mut short = right.clone();
    short[0].truncate(3);
    assert!(held.supply(short).unwrap_err().is_damaged(), "a short answer");
    assert!(ask(&mut held));
    let mut wrong = right[0].to_vec();
    wrong[20] ^= 1;
    assert!(held.supply(vec![wrong.into()]).unwrap_err().to_string().contains("checksum"), "a wrong answer");
    assert!(ask(&mut held));
    held.supply(right).unwrap();
    assert!(!ask(&mut held));
}

/// The least of thousands of words, so that blocks, groups and runs of letters come into play.
fn many_words() -> impl Iterator<Item = String> {
    let parts = ["um", "brel", "la", "oak", "el", "box", "é", "qu", "ash", "ry", "tt"];
    (0_usize..4_000).map(move |n| {
        let letters = [n % 11, n / 11 % 11, n / 121 % 11, n / 1_331];
        letters.iter().map(|&part| parts[part]).collect()
    })
}

/// Words of every length with mistakes of every kind: what the walk finds is what a look at each term finds, led by runs of
/// letters or not.
#[test]
fn spellings_find_the_terms_that_are_near() {
    let words: BTreeSet<String> = many_words().collect();
    let texts: Vec<_> = words.iter().map(String::as_str).collect();
    let (unit, entry, _) = shelf_of(&[Record::new(1).with("title", texts.join(" ")).with("notes", "elm")]);
    let shelf = Arc::new(Shelf::open(&unit, &entry, &cache()).unwrap());
    let all: Vec<_> = words.iter().map(String::as_str).chain(["elm"]).collect();
    let mut found_others = 0;
    for (number, word) in all.iter().enumerate().step_by(all.len() / 60 + 1) {
        let mut letters: Vec<char> = word.chars().collect();
        let place = number % letters.len();
        match number % 4 {
            0 => letters.insert(place, 'q'),
            1 if letters.len() > 1 => drop(letters.remove(place)),
            2 if place + 1 < letters.len() => letters.swap(place, place + 1),
            _ => letters[place] = 'é',
        }
        let typed: String = letters.into_iter().collect();
        for first in [0, 1, 3] {
            let near = Spelling::of(&typed, first);
            let liked = driven(&unit, |held| shelf.terms_like(held, &near, usize::MAX)).unwrap();
            let found: BTreeSet<_> = liked.terms.iter().map(|(term, _)| term.as_str()).collect();
            let expected: BTreeSet<_> =
                all.iter().copied().filter(|term| near.distance(term).is_some()).collect();
            assert_eq!(found, expected, "{typed} for {word}");
            found_others += expected.len();
        }
    }
    assert!(found_others > 60, "{found_others} terms were near");
}

#[test]
fn patterns_find_the_terms_that_fit_and_look_at_few_others() {
    let words: BTreeSet<String> = many_words().collect();
    let texts: Vec<_> = words.iter().map(String::as_str).collect();
    let (unit, entry, _) = shelf_of(&[Record::new(1).with("title", texts.join(" ")).with("notes", "elm")]);
    let shelf = Arc::new(Shelf::open(&unit, &entry, &cache()).unwrap());
    let all: BTreeSet<_> = words.iter().map(String::as_str).chain(["elm"]).collect();
    let read = |pattern: &str, most: usize| {
        let pattern = Pattern::new(pattern).unwrap();
        let liked = driven(&unit, |held| shelf.terms_like(held, &pattern, most)).unwrap();
        let found: Vec<_> = liked.terms.iter().map(|(term, _)| term.clone()).collect();
        let expected = all.iter().filter(|term| accepts(&pattern, term)).take(most.saturating_add(1));
        assert!(expected.eq(&found), "{pattern}: {found:?}");
        for (term, entry) in &liked.terms {
            let known = driven(&unit, |held| shelf.find_term(held, term, entry.stemming)).unwrap();
            assert_eq!(known.as_ref(), Some(entry));
        }
        (found.len() as u64, liked.visited)
    };
    for pattern in [
        "umbrel*",
        "*tt",
        "*la*",
        "*brella",
        "u?brel*",
        "*",
        "oak",
        "elm",
        "nothing",
        "*nothing*",
        "é*",
        "*é",
        "*é?u*",
        "q*y",
        "*rya*h",
        "?",
        "*?",
        "*quash*",
        "oak*oak",
        "zz*",
        "",
    ] {
        for most in [usize::MAX, 7, 0] {
            read(pattern, most);
        }
    }
    // What begins so stands together; what three letters lead to are the groups that have them.
    for (pattern, most) in [("umbrella*", 64), ("umbrel*é?l*", 256), ("*zzz", 0), ("*ééé", 64)] {
        let (found, visited) = read(pattern, usize::MAX);
        assert!(visited <= found + most, "{pattern}: {found} of {visited}");
    }
}

proptest! {
    #[test]
    fn patterns_find_what_a_plain_list_finds(
        pattern in prop_oneof!["[aboé*?]{1,6}", "\\*[aboé]{1,4}", "\\*[aboé]{1,3}\\*"],
        words in prop::collection::btree_set("[aboé]{1,5}", 1..300),
    ) {
        let pattern = Pattern::new(&pattern).unwrap();
        let texts: Vec<_> = words.iter().map(String::as_str).collect();
        let (unit, entry, _) = shelf_of(&[Record::new(1).with("title", texts.join(" "))]);
        let shelf = Arc::new(Shelf::open(&unit, &entry, &cache()).unwrap());
        check(&unit, &shelf, &entry, &schema()).unwrap();
        let liked = driven(&unit, |held| shelf.terms_like(held, &pattern, usize::MAX)).unwrap();
        let recipe = Recipe::new(&crate::text::Language::default());
        let mut all = BTreeSet::new();
        for text in &texts {
            recipe.tokens(text, |token| { all.insert(token.term.to_owned()); });
        }
        let expected = all.iter().filter(|term| accepts(&pattern, term));
        prop_assert!(expected.eq(liked.terms.iter().map(|(term, _)| term)));
    }
}

/// What many records are packed by comes of those that are there, whatever was there before.
#[test]
fn a_dictionary_has_nothing_of_removed_records() {
    let told = |key: i64| if key % 4 == 0 { "the letter of the guard" } else { "an umbrella, black" };
    let record = |key: i64| Record::new(key).with("title", format!("{key}: {}", told(key).repeat(20)));
    let unit = Memory::new().unit();
    let entry = sealed(&unit, (0..2_000).map(record), 128);
    let holds = |entry: &ShelfEntry| {
        let kept = section(&unit, entry, Section::Kept);
        kept.windows(20).any(|bytes| bytes == b"the letter of the gu")
    };
    assert!(holds(&entry), "stretches of records stand in it as they are");
    let shelf = Arc::new(Shelf::open(&unit, &entry, &cache()).unwrap());
    assert!(!driven(&unit, |held| shelf.dictionary(held)).unwrap().is_empty());
    let removed = |ordinal: u32| ordinal.is_multiple_of(4);
    let merged =
        merge(&unit, &[Source { shelf: &shelf, removed: &removed }], &schema(), 128, 1 << 20).unwrap();
    assert!(!holds(&merged));
    let merged = Arc::new(Shelf::open(&unit, &merged, &cache()).unwrap());
    assert!(!driven(&unit, |held| merged.dictionary(held)).unwrap().is_empty());
    for (ordinal, key) in (0..2_000).filter(|key| key % 4 > 0).enumerate().step_by(97) {
        let kept = driven(&unit, |held| merged.kept(held, &schema(), ordinal as u32)).unwrap();
        assert!(kept["title"][0].to_string().starts_with(&format!("{key}: an umbrella")));
    }
    // Few values have none.
    let few = Arc::new(Shelf::open(&unit, &sealed(&unit, (0..50).map(record), 128), &cache()).unwrap());
    assert!(driven(&unit, |held| few.dictionary(held)).unwrap().is_empty());
}

/// Blocks packed in one way and in the other stand in one shelf, as merging leaves them.
#[cfg(feature = "zstd")]
#[test]
fn kept_values_are_packed_as_the_schema_says_and_all_are_read() {
    let small = Schema::clone(&schema()).packed(crate::schema::Packing::Small);
    let record = |key: i64| Record::new(key).with("title", format!("oak {key} elm box")).with("pence", key);
    let unit = Memory::new().unit();
    let of = |schema: &Schema, keys: std::ops::Range<i64>| {
        let mut builder = Builder::new(Arc::new(schema.clone()));
        keys.for_each(|key| builder.put(&record(key)).unwrap());
        builder.seal(&unit).unwrap().unwrap().entry
    };
    let quick = of(&schema(), 0..2_000);
    let packed = of(&small, 0..2_000);
    let size = |entry| section(&unit, entry, Section::Kept).len();
    assert!(size(&packed) < size(&quick) * 4 / 5, "{} and {}", size(&packed), size(&quick));
    let more = of(&small, 2_000..4_000);
    let shelves = [&quick, &more].map(|entry| Arc::new(Shelf::open(&unit, entry, &cache()).unwrap()));
    let live = |_: u32| false;
    let sources = shelves.each_ref().map(|shelf| Source { shelf, removed: &live });
    let merged = merge(&unit, &sources, &small, 128, 1 << 20).unwrap();
    let shelf = Arc::new(Shelf::open(&unit, &merged, &cache()).unwrap());
    check(&unit, &shelf, &merged, &small).unwrap();
    for key in [0, 1_999, 2_000, 3_999_u32] {
        let kept = driven(&unit, |held| shelf.kept(held, &small, key)).unwrap();
        assert_eq!(kept["pence"][0], Value::Integer(key.into()));
    }
}

#[derive(Clone, Debug)]
enum Arrival {
    Together(Vec<Record>),
    Alone(Record),
    Refused(Vec<Record>),
    Removed(i64),
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]

    /// Whoever gathers and packs, and whatever was gathered before: the bytes are the same.
    #[test]
    fn a_shelf_does_not_depend_on_threads_or_on_shelves_before(
        arrivals in prop::collection::vec(
            prop_oneof![
                // So many that several threads have some.
                3 => (records(), 1_usize..900)
                    .prop_map(|(some, count)| Arrival::Together(some.iter().cycle().take(count).cloned().collect())),
                1 => records().prop_map(|mut records| Arrival::Alone(records.remove(0))),
                1 => records().prop_map(Arrival::Refused),
                1 => (0_i64..40).prop_map(Arrival::Removed),
            ],
            1..8,
        ),
        block in prop_oneof![Just(4_u8), Just(128)],
    ) {
        let english = Schema::new("id")
            .with("title", Column::text("en"))
            .with("notes", Column::text("none"))
            .with("station", Column::of(Kind::Exact))
            .with("pence", Column::of(Kind::Integer))
            .with("weight", Column::of(Kind::Float))
            .with("lent", Column::of(Kind::Boolean).not_kept())
            .with("line", Column::of(Kind::Exact));
        let mut all = Vec::new();
        for threads in [1, 2, 5] {
            let mut builder = Builder::new(Arc::new(english.clone()));
            builder.set_block(block);
            builder.set_threads(NonZero::new(threads).unwrap());
            // Once more after shelves were sealed, one of them with other terms, which the builder knows then.
            for again in [false, true] {
                if again {
                    builder.put(&Record::new(1).with("title", "Oaks, lined with elms and a lining")).unwrap();
                    builder.seal(&Memory::new().unit()).unwrap();
                }
                for arrival in &arrivals {
                    match arrival {
                        Arrival::Together(records) => {
                            let mut left = records.iter();
                            while builder.put_some(&mut left).unwrap() > 0 {}
                        }
                        Arrival::Alone(record) => builder.put(record).unwrap(),
                        Arrival::Refused(records) => {
                            let mut records: Vec<_> = records.iter().cycle().take(700).cloned().collect();
                            records[500] = Record::new(1).with("tilte", "oak");
                            records[300] = Record::new(1).with("tilte", "oak");
                            let refused = builder.put_some(&mut records.iter()).unwrap_err();
                            assert!(refused.to_string().contains("tilte"));
                        }
                        Arrival::Removed(key) => builder.remove(&Key::from(*key)),
                    }
                }
                let unit = Memory::new().unit();
                let bytes = builder.seal(&unit).unwrap().map(|sealed| {
                    let shelf = Arc::new(Shelf::open(&unit, &sealed.entry, &cache()).unwrap());
                    check(&unit, &shelf, &sealed.entry, &english).unwrap();
                    unit.read(&[(sealed.entry.piece, 0..sealed.entry.bytes)]).unwrap().remove(0)
                });
                all.push(bytes);
            }
        }
        prop_assert!(all.iter().all(|bytes| *bytes == all[0]));
    }
}
