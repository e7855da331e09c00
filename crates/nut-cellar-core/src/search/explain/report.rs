//! How a search went: what it means, by which strategy each shelf was gone through, and what was read for it.

use super::why::word_of;
use crate::search::run::Went;
use crate::search::steps::{Search, Stage};
use serde::Serialize;

/// How a search went, or will.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Report {
    /// What the query means.
    pub query: String,
    /// The words that score.
    pub words: Vec<ReportWord>,
    /// How many terms of dictionaries were looked at to find those that look like others.
    pub dictionary: u64,
    /// How it went through each shelf.
    pub shelves: Vec<Went>,
    /// How often the place was asked for ranges of bytes that were not at hand, and for how many bytes.
    pub trips: u64,
    /// See `trips`.
    pub bytes: u64,
    /// The time of each stage, if a clock was given.
    pub stages: Vec<Stage>,
}

/// A word that scores.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct ReportWord {
    /// The word, as it is looked up.
    pub word: String,
    /// How many terms it stands for.
    pub terms: usize,
    /// How many live records have it: the class of its forms, or the term in none of them, that most have.
    pub records: u64,
}

impl Search {
    /// How the search went so far.
    pub fn report(&self) -> Report {
        let plan = &self.prepared.plan;
        let known = self.prepared.known.as_ref();
        let words = (0..plan.words.len()).map(|word| ReportWord {
            word: word_of(plan, word),
            terms: known.map_or(0, |known| known.parts[word].len()),
            records: known.map_or(0, |known| known.records[word]),
        });
        Report {
            query: self.query.to_string(),
            words: words.collect(),
            dictionary: known.map_or(0, |known| known.visited),
            shelves: self.scanned.iter().flatten().map(|found| found.went).collect(),
            trips: self.held.trips(),
            bytes: self.held.bytes(),
            stages: self.stages.clone(),
        }
    }
}
