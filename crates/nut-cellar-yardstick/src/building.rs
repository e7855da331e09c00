//! How fast and how small cellars are built, beside counting the words of the same texts.
//!
//! Times are those of building from records in memory into a folder, synced, kept text and positions included, with one
//! thread and with two. Each runs three times in turn with the word count, and the least times are compared. Memory is that of building from
//! a stream of records, by what the system says of a process that does nothing else.

use crate::measure::{peak_memory, word_count};
use crate::reads::{Reads, reads};
use crate::records;
use hashbrown::HashMap;
use nut_cellar::search::{Strategy, Total};
use nut_cellar::text::Pattern;
use nut_cellar::{
    Cellar, Column, Find, Folder, Opened, Place, Query, Record, Schema, Search, Snapshot, View, Words, search,
};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::error::Error;
use std::fmt::Write;
use std::fs::File;
use std::io::{BufRead, BufReader};
use std::num::NonZero;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};
use tempfile::TempDir;

type Failure = Box<dyn Error>;

/// More records than these are not held in memory, so only a stream of them is measured.
const IN_MEMORY: u64 = 2_000_000;
/// The corpora that are built, if they are there.
const CORPORA: [&str; 2] = ["packages", "kernel"];
/// How the texts are read.
const LANGUAGES: [&str; 2] = ["none", "en"];

/// What was measured on one source of records, read in one way.
#[derive(Debug, Serialize)]
pub struct Built {
    /// Where the records come from.
    pub source: String,
    /// The language they were read in.
    pub language: &'static str,
    /// Records.
    pub records: u64,
    /// Bytes of text in them.
    pub text: u64,
    /// Building with one thread, in seconds, from records in memory.
    pub seconds: Option<f64>,
    /// The same with two.
    pub seconds_of_two: Option<f64>,
    /// The word count of the same texts, in seconds.
    pub word_count: Option<f64>,
    /// Building from a stream of records, making these included, in seconds.
    pub stream_seconds: f64,
    /// The memory that this took at most, in bytes.
    pub peak: u64,
    /// The budget that it had.
    pub budget: usize,
    /// Shelves, when it was done.
    pub shelves: usize,
    /// Bytes of the cellar by section.
    pub sections: Vec<(String, u64)>,
    /// Bytes of the index, that is of everything but the kept values and the letters, by bytes of text.
    pub index_ratio: f64,
    /// The same when all shelves have become one.
    pub compacted_ratio: Option<f64>,
    /// What opening it and a search for one word read.
    pub reads: Option<Reads>,
    /// Bytes of the letters, which find terms by their middles and ends, by bytes of text.
    pub letters_ratio: f64,
    /// Bits of the postings section for each posting in it: gap, column and frequency.
    pub bits_per_posting: f64,
    /// Bits of the positions section for each position in it.
    pub bits_per_position: f64,
    /// How many of the postings of common words are scored to find the best ten that have one of two, with all weights 1, and with 4 for a
    /// title: the nearer bounds come to what they bound, the fewer.
    pub scored: [f64; 2],
}

/// What to build.
pub struct Wanted<'a> {
    /// Numbers of generated records.
    pub generated: &'a [u64],
    /// A folder with corpora.
    pub corpora: Option<&'a Path>,
    /// Where the cellars are made.
    pub folder: &'a Path,
    /// The memory that building may take.
    pub budget: usize,
}

/// Measures all that is wanted.
///
/// # Errors
/// If a corpus can't be read or a cellar not be written.
pub fn measure(wanted: &Wanted<'_>) -> Result<Vec<Built>, Failure> {
    let mut sources: Vec<_> = wanted.generated.iter().map(|&count| Source::Generated(count)).collect();
    for name in CORPORA {
        let path = wanted.corpora.map(|folder| folder.join(format!("{name}.ndjson")));
        sources.extend(path.filter(|path| path.is_file()).map(Source::Corpus));
    }
    let mut all = Vec::new();
    for source in &sources {
        for language in LANGUAGES {
            all.push(one(source, language, wanted)?);
        }
    }
    Ok(all)
}

enum Source {
    Generated(u64),
    Corpus(PathBuf),
}

impl Source {
    fn name(&self) -> String {
        match self {
            Self::Generated(count) if *count > 0 && count.is_multiple_of(1_000_000) => {
                format!("{} million generated", count / 1_000_000)
            }
            Self::Generated(count) => format!("{count} generated"),
            Self::Corpus(path) => path.file_stem().unwrap_or_default().to_string_lossy().into_owned(),
        }
    }

    /// What [`stream`] takes.
    fn argument(&self) -> String {
        match self {
            Self::Generated(count) => count.to_string(),
            Self::Corpus(path) => path.to_string_lossy().into_owned(),
        }
    }

    /// Gives every record to `take`.
    fn each(&self, mut take: impl FnMut(Record) -> Result<(), Failure>) -> Result<(), Failure> {
        match self {
            Self::Generated(count) => (1..=*count).try_for_each(|id| {
                let item = records::item(id, 1);
                let record = Record::new(i64::try_from(id)?);
                take(record.with("title", item.title).with("body", item.description))
            }),
            Self::Corpus(path) => {
                for (number, line) in (1_i64..).zip(BufReader::new(File::open(path)?).lines()) {
                    let read: Value = serde_json::from_str(&line?)?;
                    let mut record = Record::new(number);
                    for name in ["title", "body"] {
                        if let Some(text) = read[name].as_str() {
                            record.add(name, text);
                        }
                    }
                    take(record)?;
                }
                Ok(())
            }
        }
    }
}

fn schema(language: &str) -> Schema {
    Schema::new("id").with("title", Column::text(language)).with("body", Column::text(language))
}

/// Makes a cellar of what `fill` puts.
fn build(
    folder: &Path,
    budget: usize,
    language: &str,
    fill: impl FnOnce(&mut nut_cellar::Batch<'_>) -> nut_cellar::Result<()>,
) -> Result<(Duration, Cellar<Folder>, TempDir), Failure> {
    let folder = tempfile::tempdir_in(folder)?;
    let started = Instant::now();
    let cellar = Cellar::create_with(Folder::at(folder.path().join("built")), schema(language), |batch| {
        batch.set_budget(budget);
        fill(batch)
    })?;
    cellar.tidy()?;
    Ok((started.elapsed(), cellar, folder))
}

/// What building from a stream took.
#[derive(Debug, Serialize, Deserialize)]
pub struct Streamed {
    records: u64,
    text: u64,
    seconds: f64,
    peak: u64,
    shelves: usize,
    sections: Vec<(String, u64)>,
    /// Postings and positions that are in lists.
    in_lists: (u64, u64),
    /// The share of postings that are scored with all weights 1, and with 4 for a title.
    scored: [f64; 2],
    reads: Option<Reads>,
    /// Bytes by section when all shelves have become one.
    compacted: Vec<(String, u64)>,
}

/// Builds from a stream of records. Memory is that of the whole process, so this is for one that does nothing else.
///
/// # Errors
/// If the source can't be read or the cellar not be written.
pub fn stream(source: &str, language: &str, folder: &Path, budget: usize) -> Result<Streamed, Failure> {
    let source = match source.parse() {
        Ok(count) => Source::Generated(count),
        Err(_) => Source::Corpus(source.into()),
    };
    let (mut records, mut text) = (0, 0);
    let (built, peak) = peak_memory(|| {
        build(folder, budget, language, |batch| {
            let put = source.each(|record| {
                records += 1;
                text += texts(&record).map(str::len).sum::<usize>() as u64;
                Ok(batch.put(&record)?)
            });
            put.map_err(|error| nut_cellar::Error::new(nut_cellar::ErrorKind::Place, error.to_string()))
        })
    })?;
    let (took, cellar, folder) = built?;
    let info = cellar.info()?;
    let view = cellar.place().view()?;
    let snapshot = Snapshot::open(&view, &Opened::new())?;
    let scored = [scored_share(&view, &snapshot, 1.0)?, scored_share(&view, &snapshot, 4.0)?];
    let in_lists = |count: u64| count - info.tally.alone;
    let compacted = match records {
        0..=IN_MEMORY => {
            cellar.compact()?;
            cellar.info()?.bytes
        }
        _ => Vec::new(),
    };
    let reads = reads(&folder.path().join("built"))?;
    Ok(Streamed {
        records,
        text,
        seconds: took.as_secs_f64(),
        peak,
        shelves: info.shelves,
        in_lists: (in_lists(info.tally.postings), in_lists(info.tally.occurrences)),
        sections: info.bytes,
        scored,
        reads,
        compacted,
    })
}

fn one(source: &Source, language: &'static str, wanted: &Wanted<'_>) -> Result<Built, Failure> {
    // In a process of its own, because of the memory.
    let child = Command::new(std::env::current_exe()?)
        .args(["stream", &source.argument(), language, &wanted.budget.to_string()])
        .arg(wanted.folder)
        .output()?;
    if !child.status.success() {
        return Err(String::from_utf8_lossy(&child.stderr).into());
    }
    let streamed: Streamed = serde_json::from_slice(&child.stdout)?;
    let timed = match streamed.records {
        0..=IN_MEMORY => Some(timed(source, language, wanted)?),
        _ => None,
    };
    let Streamed {
        records,
        text,
        seconds: stream_seconds,
        peak,
        shelves,
        sections,
        in_lists,
        scored,
        reads,
        compacted,
    } = streamed;
    let section =
        |name: &str| sections.iter().find(|(known, _)| known == name).map_or(0, |(_, bytes)| *bytes);
    let bits = |name: &str, count: u64| 8.0 * section(name) as f64 / count.max(1) as f64;
    let letters = section("letters") + section("letter index");
    let index_ratio = |sections: &[(String, u64)]| {
        let left_out = ["kept values", "kept index", "letters", "letter index"];
        let index = sections.iter().filter(|(name, _)| !left_out.contains(&name.as_str()));
        index.map(|(_, bytes)| bytes).sum::<u64>() as f64 / text.max(1) as f64
    };
    Ok(Built {
        source: source.name(),
        language,
        records,
        text,
        seconds: timed.map(|timed| timed.alone.as_secs_f64()),
        seconds_of_two: timed.map(|timed| timed.two.as_secs_f64()),
        word_count: timed.map(|timed| timed.counting.as_secs_f64()),
        stream_seconds,
        peak,
        budget: wanted.budget,
        shelves,
        index_ratio: index_ratio(&sections),
        compacted_ratio: Some(index_ratio(&compacted)).filter(|_| !compacted.is_empty()),
        reads,
        letters_ratio: letters as f64 / text.max(1) as f64,
        bits_per_posting: bits("postings", in_lists.0),
        bits_per_position: bits("positions", in_lists.1),
        scored,
        sections,
    })
}

fn texts(record: &Record) -> impl Iterator<Item = &str> {
    record.columns().flat_map(|(_, values)| values).filter_map(nut_cellar::Value::as_text)
}

/// What one run took.
#[derive(Clone, Copy)]
struct Timed {
    alone: Duration,
    two: Duration,
    counting: Duration,
}

/// So often each is run; the least counts.
const RUNS: usize = 3;

/// How long building with one thread and with two, and the word count, take.
fn timed(source: &Source, language: &str, wanted: &Wanted<'_>) -> Result<Timed, Failure> {
    let mut records = Vec::new();
    source.each(|record| {
        records.push(record);
        Ok(())
    })?;
    let count = || {
        let started = Instant::now();
        let mut counts = HashMap::new();
        records.iter().flat_map(texts).for_each(|text| word_count(&mut counts, text));
        std::hint::black_box(counts.len());
        started.elapsed()
    };
    let building = |threads| {
        let built = build(wanted.folder, wanted.budget, language, |batch| {
            batch.set_threads(threads)?;
            batch.put_all(&records)
        });
        built.map(|(took, ..)| took)
    };
    let [one, two] = [1, 2].map(|threads| NonZero::new(threads).expect("not zero"));
    let mut least = Timed { alone: Duration::MAX, two: Duration::MAX, counting: Duration::MAX };
    for _ in 0..RUNS {
        least.counting = least.counting.min(count());
        least.alone = least.alone.min(building(one)?);
        least.counting = least.counting.min(count());
        least.two = least.two.min(building(two)?);
    }
    Ok(least)
}

/// Of the postings of common words, two at a time, the share that is scored to find the best ten records that have one of them.
fn scored_share(view: &dyn View, snapshot: &Snapshot, weight: f32) -> Result<f64, Failure> {
    let mut common = Vec::new();
    for letter in 'a'..='z' {
        let terms = snapshot.terms(view, &Pattern::new(&format!("{letter}*"))?, 10_000)?.terms;
        common.extend(terms.into_iter().max_by_key(|term| term.records));
    }
    let find = Find::new().strict().words(Words::Any).weight("title", weight).total(Total::AtLeast(0));
    let find = find.without_values().strategy(Strategy::BestOfAny);
    let (mut scored, mut postings) = (0, 0);
    for pair in common.chunks(2) {
        let text = pair.iter().map(|term| term.term.as_str()).collect::<Vec<_>>().join(" ");
        let mut search = Search::new(snapshot.clone(), &Query::read(&text).query, &find)?;
        search::run(view, &mut search)?;
        for went in search.report().shelves {
            (scored, postings) = (scored + went.scored, postings + went.postings);
        }
    }
    Ok(scored as f64 / postings.max(1) as f64)
}

/// What was measured, as two tables in Markdown.
pub fn tables(all: &[Built]) -> String {
    let mut out = "| records | language | MB of text | MB/s | to word count | two threads | stream MB/s | peak MiB | shelves | index / text \
                   | letters / text | bits a posting | bits a position | scored of the postings | 4:1 |\n|---|---|---|---|---|---|---|---|---|---|---|---|---|---|---|"
        .to_owned();
    for m in all {
        let mb = m.text as f64 / 1e6;
        let speed = m.seconds.map_or_else(String::new, |seconds| format!("{:.1}", mb / seconds));
        let ratio = |seconds: Option<f64>| {
            seconds.zip(m.word_count).map_or_else(String::new, |(a, b)| format!("{:.2}", a / b))
        };
        let _ = write!(
            out,
            "\n| {} | {} | {mb:.1} | {speed} | {} | {} | {:.1} | {:.0} | {} | {:.3} | {:.3} | {:.1} | {:.1} | {:.3} | {:.3} |",
            m.source,
            m.language,
            ratio(m.seconds),
            ratio(m.seconds_of_two),
            mb / m.stream_seconds,
            m.peak as f64 / f64::from(1 << 20),
            m.shelves,
            m.index_ratio,
            m.letters_ratio,
            m.bits_per_posting,
            m.bits_per_position,
            m.scored[0],
            m.scored[1]
        );
    }
    out.push_str(
        "\n\n| records | language | in one shelf: index / text | opening, ms | reads of it | then a word of ten records: ranges \
         | in trips | KiB | without values, KiB |\n|---|---|---|---|---|---|---|---|---|",
    );
    for m in all {
        let ratio = m.compacted_ratio.map_or_else(String::new, |ratio| format!("{ratio:.3}"));
        let _ = write!(out, "\n| {} | {} | {ratio} |", m.source, m.language);
        if let Some(Reads { open_ms, open_share, ranges, trips, bytes, bytes_bare }) = m.reads {
            let share = 100.0 * open_share;
            let [kib, bare] = [bytes, bytes_bare].map(|bytes| bytes as f64 / 1024.0);
            let _ = write!(out, " {open_ms:.2} | {share:.2} % | {ranges} | {trips} | {kib:.0} | {bare:.0} |");
        }
    }
    out.push_str("\n\n| MB |");
    out.extend(all.iter().map(|m| format!(" {} {} |", m.source, m.language)));
    let _ = write!(out, "\n|---|{}", "---|".repeat(all.len()));
    for (place, (section, _)) in all.first().map_or(&[][..], |first| &first.sections).iter().enumerate() {
        let _ = write!(out, "\n| {section} |");
        out.extend(all.iter().map(|m| format!(" {:.2} |", m.sections[place].1 as f64 / 1e6)));
    }
    out
}
