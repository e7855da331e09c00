//! How fast text is read into tokens, beside two ways that everybody has at hand.
//!
//! Three kernels run in turn on the same part of the texts, several times; the least time of each counts, and those of
//! the parts are added up. Parts take a few milliseconds, so that a machine whose speed drifts does not favour one.

use crate::measure::word_count;
use hashbrown::HashMap;
use nut_cellar_core::text::TextSettings;
use nut_cellar_core::{Language, Recipe};
use serde::Serialize;
use serde_json::Value;
use std::error::Error;
use std::fmt::Write;
use std::fs::File;
use std::hint::black_box;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::time::{Duration, Instant};
use unicode_segmentation::UnicodeSegmentation;

/// The corpora, and the languages they are read in.
const CORPORA: [(&str, &str); 7] = [
    ("kernel", "en"),
    ("packages", "en"),
    ("gloss", "en"),
    ("handbook-de-DE", "de"),
    ("handbook-ru-RU", "ru"),
    ("handbook-ja-JP", "ja"),
    ("handbook-ar-MA", "ar"),
];
/// How often each kernel runs on each part.
const ROUNDS: usize = 5;
/// Bytes of text in a part, about.
const PART: usize = 1 << 18;

/// What was measured on one corpus; speeds in MB of text a second.
#[derive(Debug, Serialize)]
pub struct Measured {
    /// The corpus.
    pub corpus: &'static str,
    /// The language it was read in.
    pub language: &'static str,
    /// Bytes of text.
    pub bytes: usize,
    /// Tokens that were made of it.
    pub tokens: u64,
    /// Reading into tokens, stemming on.
    pub tokens_mb_s: f64,
    /// `unicode_words` alone: boundaries, and nothing done with them.
    pub unicode_words_mb_s: f64,
    /// The word count: split at what is not alphanumeric, lower case, counted in a map.
    pub word_count_mb_s: f64,
    /// Allocations a token, once every word has been read before, if they are counted (feature `allocations`).
    pub allocations_per_token: Option<f64>,
}

/// Measures the corpora that are in a folder.
///
/// # Errors
/// If none is there, or one can't be read.
pub fn measure(folder: &Path) -> Result<Vec<Measured>, Box<dyn Error>> {
    let mut all = Vec::new();
    for (corpus, language) in CORPORA {
        let path = folder.join(format!("{corpus}.ndjson"));
        if path.is_file() {
            all.push(one(corpus, language, &texts(&path)?)?);
        }
    }
    if all.is_empty() {
        return Err(format!("{}: none of the corpora is there", folder.display()).into());
    }
    Ok(all)
}

/// What was measured, as a table in Markdown.
pub fn table(all: &[Measured]) -> String {
    let mut out = "| corpus | MB | tokens MB/s | `unicode_words` MB/s | word count MB/s | to `unicode_words` | to word count \
                   | allocations a token |\n|---|---|---|---|---|---|---|---|"
        .to_owned();
    for m in all {
        let (words, counted) = (m.tokens_mb_s / m.unicode_words_mb_s, m.tokens_mb_s / m.word_count_mb_s);
        let _ = write!(
            out,
            "\n| {} ({}) | {:.1} | {:.0} | {:.0} | {:.0} | {words:.2} | {counted:.2} | {} |",
            m.corpus,
            m.language,
            m.bytes as f64 / 1e6,
            m.tokens_mb_s,
            m.unicode_words_mb_s,
            m.word_count_mb_s,
            m.allocations_per_token.map_or("–".to_owned(), |allocations| format!("{allocations:.4}"))
        );
    }
    out
}

fn texts(path: &Path) -> Result<Vec<String>, Box<dyn Error>> {
    let mut texts = Vec::new();
    for line in BufReader::new(File::open(path)?).lines() {
        let record: Value = serde_json::from_str(&line?)?;
        texts.extend(["title", "body"].iter().filter_map(|name| record[name].as_str()).map(str::to_owned));
    }
    Ok(texts)
}

fn one(corpus: &'static str, language: &'static str, texts: &[String]) -> Result<Measured, Box<dyn Error>> {
    let recipe = Recipe::of(&TextSettings::of(Language::new(language)?));
    let bytes: usize = texts.iter().map(String::len).sum();
    // Both kernels with a memory keep it from part to part, as from text to text.
    let (mut reader, mut counts) = (recipe.reader(), HashMap::new());
    let (mut tokens, mut words, mut counted) = (Duration::ZERO, Duration::ZERO, Duration::ZERO);
    for part in parts(texts) {
        tokens += least_time(|| read(&mut reader, part));
        words += least_time(|| part.iter().map(|text| text.unicode_words().count()).sum::<usize>());
        counted += least_time(|| part.iter().for_each(|text| word_count(&mut counts, text)));
    }
    let count = read(&mut reader, texts);
    // A second time, of a part that the reader can remember all words of.
    let part = &texts[..texts.len().min(200)];
    read(&mut reader, part);
    let mut again = 0;
    let allocations = allocations(|| again = read(&mut reader, part));
    let speed = |time: Duration| bytes as f64 / 1e6 / time.as_secs_f64();
    Ok(Measured {
        corpus,
        language,
        bytes,
        tokens: count,
        tokens_mb_s: speed(tokens),
        unicode_words_mb_s: speed(words),
        word_count_mb_s: speed(counted),
        allocations_per_token: allocations.map(|count| count as f64 / again.max(1) as f64),
    })
}

/// How many allocations some work makes, if they are counted.
#[cfg_attr(
    feature = "allocations",
    expect(clippy::unnecessary_wraps, reason = "they are not always counted")
)]
fn allocations(work: impl FnOnce()) -> Option<u64> {
    #[cfg(feature = "allocations")]
    return Some(allocation_counter::measure(work).count_total);
    #[cfg(not(feature = "allocations"))]
    {
        work();
        None
    }
}

/// The texts in parts of about the same size.
fn parts(texts: &[String]) -> impl Iterator<Item = &[String]> {
    let mut bytes = 0;
    texts.chunk_by(move |text, _| {
        bytes += text.len();
        let goes_on = bytes < PART;
        bytes *= usize::from(goes_on);
        goes_on
    })
}

/// The least time of several runs.
fn least_time<T>(mut work: impl FnMut() -> T) -> Duration {
    let runs = (0..ROUNDS).map(|_| {
        let started = Instant::now();
        black_box(work());
        started.elapsed()
    });
    runs.min().unwrap_or_default()
}

fn read(reader: &mut nut_cellar_core::text::Reader<'_>, texts: &[String]) -> u64 {
    let mut count = 0;
    for text in texts {
        reader.tokens(text, |token| {
            black_box(token.term);
            count += 1;
        });
    }
    count
}
