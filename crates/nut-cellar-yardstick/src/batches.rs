//! What small batches cost: time beside the least that a synced change of a folder takes, shelves, bytes written, and what
//! searches lose before the cellar is made one shelf.

use crate::measure::median;
use crate::records;
use bytes::Bytes;
use nut_cellar::folder::disk::{Disk, Read, System, Written};
use nut_cellar::{Cellar, Column, Find, Folder, Kind, Record, Schema, Value};
use serde::Serialize;
use std::any::Any;
use std::error::Error;
use std::ffi::OsString;
use std::fs::{self, File};
use std::io::{self, Write};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

type Failure = Box<dyn Error>;

/// How often each search is timed.
const ROUNDS: usize = 200;
/// What is searched for.
const WORDS: [&str; 8] = ["umbrella", "walnut", "brass", "handle", "scarf", "silver", "ticket", "wooden"];

/// What was measured.
#[derive(Debug, Serialize)]
pub struct Measured {
    /// Batches of one record each.
    pub batches: u64,
    /// The mean time of a batch, in microseconds.
    pub batch_us: f64,
    /// The mean time of a new file, synced, renamed, and its folder synced, in microseconds.
    pub file_us: f64,
    /// Shelves after the last batch, and the most there were.
    pub shelves: (usize, usize),
    /// Bytes written in all, and bytes of the records as JSON.
    pub written: (u64, u64),
    /// The median time of a search after the last batch, and of the same records in one shelf, in microseconds.
    pub search_us: (f64, f64),
}

/// The system's disk, and how much was written to it.
#[derive(Clone, Debug)]
struct Counting {
    system: System,
    written: Arc<AtomicU64>,
}

#[derive(Debug)]
struct CountingFile {
    file: Box<dyn Written>,
    written: Arc<AtomicU64>,
}

impl Written for CountingFile {
    fn append(&self, bytes: &[u8]) -> io::Result<()> {
        self.written.fetch_add(bytes.len() as u64, Ordering::Relaxed);
        self.file.append(bytes)
    }

    fn sync(&self) -> io::Result<()> {
        self.file.sync()
    }
}

impl Disk for Counting {
    fn make_folder(&self, path: &Path) -> io::Result<()> {
        self.system.make_folder(path)
    }

    fn names(&self, path: &Path) -> io::Result<Vec<OsString>> {
        self.system.names(path)
    }

    fn create(&self, path: &Path, replaced: bool) -> io::Result<Box<dyn Written>> {
        let file = self.system.create(path, replaced)?;
        Ok(Box::new(CountingFile { file, written: Arc::clone(&self.written) }))
    }

    fn rename(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.system.rename(from, to)
    }

    fn sync_names(&self, path: &Path) -> io::Result<()> {
        self.system.sync_names(path)
    }

    fn sync(&self, path: &Path) -> io::Result<()> {
        self.system.sync(path)
    }

    fn remove(&self, path: &Path) -> io::Result<()> {
        self.system.remove(path)
    }

    fn remove_folder(&self, path: &Path) -> io::Result<()> {
        self.system.remove_folder(path)
    }

    fn read(&self, path: &Path) -> io::Result<Bytes> {
        self.system.read(path)
    }

    fn open(&self, path: &Path, front_to_back: bool) -> io::Result<Box<dyn Read>> {
        self.system.open(path, front_to_back)
    }

    fn lock(&self, path: &Path, wait: bool) -> io::Result<Option<Box<dyn Any + Send + Sync>>> {
        self.system.lock(path, wait)
    }
}

fn schema() -> Schema {
    Schema::new("id")
        .with("title", Column::text("en").weighing(4.0))
        .with("description", Column::text("en"))
        .with("category", Column::of(Kind::Exact))
        .with("colour", Column::of(Kind::Exact))
        .with("station_id", Column::of(Kind::Integer))
        .with("found_on", Column::of(Kind::Date))
        .with("value_pence", Column::of(Kind::Integer))
        .with("status", Column::of(Kind::Exact))
        .with("updated_at", Column::of(Kind::Moment))
}

/// Writes a file as a careful program does, and gives its name.
fn plain_file(folder: &Path, contents: &[u8]) -> io::Result<()> {
    let (next, path) = (folder.join("next"), folder.join("state"));
    let mut file = File::create(&next)?;
    file.write_all(contents)?;
    file.sync_data()?;
    fs::rename(&next, &path)?;
    File::open(folder)?.sync_all()
}

/// Publishes so many batches of one record each, in a folder below `at`.
///
/// # Errors
/// If a folder can't be written.
pub fn measure(batches: u64, at: &Path) -> Result<Measured, Failure> {
    let (folder, beside) = (tempfile::tempdir_in(at)?, tempfile::tempdir_in(at)?);
    let written = Arc::new(AtomicU64::new(0));
    let disk = Counting { system: System { mapped: true, shared: false }, written: Arc::clone(&written) };
    let cellar = Cellar::create(Folder::on(Arc::new(disk), folder.path().join("small")), schema())?;
    let (mut batch_time, mut file_time) = (Duration::ZERO, Duration::ZERO);
    let (mut put, mut most) = (0, 0);
    for id in 1..=batches {
        let (record, json) = record(id)?;
        put += json.len() as u64;
        let started = Instant::now();
        cellar.publish(|batch| batch.put(&record))?;
        batch_time += started.elapsed();
        let started = Instant::now();
        plain_file(beside.path(), json.as_bytes())?;
        file_time += started.elapsed();
        if id % 7 == 0 || id == batches {
            most = most.max(cellar.info()?.shelves);
        }
    }
    let shelves = cellar.info()?.shelves;
    let written = written.load(Ordering::Relaxed);
    let one = Cellar::create(Folder::at(beside.path().join("one")), schema())?;
    one.publish(|batch| {
        for id in 1..=batches {
            let record = record(id).map_err(|error| {
                nut_cellar::Error::new(nut_cellar::ErrorKind::BadRecord, error.to_string())
            })?;
            batch.put(&record.0)?;
        }
        Ok(())
    })?;
    let (many, compacted) = search_times(&cellar, &one)?;
    let us = |time: Duration| time.as_secs_f64() * 1e6;
    Ok(Measured {
        batches,
        batch_us: us(batch_time) / batches as f64,
        file_us: us(file_time) / batches as f64,
        shelves: (shelves, most),
        written: (written, put),
        search_us: (us(many), us(compacted)),
    })
}

/// A record with all its columns, and the same as JSON.
fn record(id: u64) -> Result<(Record, String), Failure> {
    let item = records::item(id, 1);
    let json = serde_json::to_string(&item)?;
    let mut record = Record::new(i64::try_from(id)?);
    let fields: serde_json::Map<String, serde_json::Value> = serde_json::from_str(&json)?;
    for (name, column) in schema().columns() {
        let text = match &fields[name] {
            serde_json::Value::String(text) => text.clone(),
            other => other.to_string(),
        };
        record.add(name, Value::read(column.kind(), &text)?);
    }
    Ok((record, json))
}

/// The median times of the same searches on two cellars, in turn, because a machine's speed drifts.
fn search_times(many: &Cellar<Folder>, one: &Cellar<Folder>) -> Result<(Duration, Duration), Failure> {
    let (mut of_many, mut of_one) = (Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        for word in WORDS {
            for (cellar, times) in [(many, &mut of_many), (one, &mut of_one)] {
                let started = Instant::now();
                std::hint::black_box(cellar.find(word, &Find::new())?);
                times.push(started.elapsed());
            }
        }
    }
    Ok((median(of_many), median(of_one)))
}

/// What was measured, as a table in Markdown.
pub fn table(m: &Measured) -> String {
    format!(
        "| batches | µs a batch | µs a plain file | ratio | shelves (most) | bytes written / put | search µs | in one shelf \
         | ratio |\n|---|---|---|---|---|---|---|---|---|\n| {} | {:.0} | {:.0} | {:.2} | {} ({}) | {:.1} | {:.0} | {:.0} \
         | {:.2} |",
        m.batches,
        m.batch_us,
        m.file_us,
        m.batch_us / m.file_us,
        m.shelves.0,
        m.shelves.1,
        m.written.0 as f64 / m.written.1.max(1) as f64,
        m.search_us.0,
        m.search_us.1,
        m.search_us.0 / m.search_us.1
    )
}
