//! The terms of a snapshot that fit a pattern.

use super::snapshot::{Snapshot, Standing};
use crate::bits::Bits;
use crate::error::Result;
use crate::schema::ColumnSet;
use crate::shelf::{Held, Step, TermEntry, complete, if_held};
use crate::store::View;
use crate::text::Pattern;
use serde::Serialize;
use std::collections::BTreeMap;

/// Terms that fit a pattern.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct Terms {
    /// In order, each with the number of live records that have it, in any column.
    pub terms: Vec<TermCount>,
    /// Whether there are more than were asked for.
    pub more: bool,
    /// How many terms of the shelves were looked at.
    pub visited: u64,
}

/// A term, and how many records have it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct TermCount {
    /// The term, as the index has it.
    pub term: String,
    /// How many live records have it.
    pub records: u64,
}

impl Snapshot {
    /// The first `most` terms, in order, that fit a pattern and that a live record has. Terms are what a recipe made of
    /// words: case folded, and without accents where these are taken off.
    ///
    /// What it costs grows with the terms that are found, not with all of them, if the pattern has three letters in a row:
    /// these lead to the terms that have them, wherever they stand, of which some thirty are looked at for each that is
    /// found. Where records are removed, the postings of the terms that are found are read as well.
    ///
    /// # Errors
    /// If the place can't be read or is damaged.
    pub fn terms(&self, view: &dyn View, pattern: &Pattern, most: usize) -> Result<Terms> {
        let (mut found, mut visited) = (BTreeMap::<String, u64>::new(), 0);
        for standing in self.standing() {
            // Of the first terms of a shelf some may be of removed records only; then more are looked for.
            let mut wanted = most;
            loop {
                let mut held = Held::default();
                let liked =
                    complete(view, &mut held, |held| standing.shelf.terms_like(held, pattern, wanted))?;
                let counts = complete(view, &mut held, |held| {
                    let mut counts = Vec::with_capacity(liked.terms.len());
                    for of_term in liked.terms.chunk_by(|a, b| a.0 == b.0) {
                        let records = if_held(count_any(standing, held, of_term))?;
                        counts.extend(records.map(|records| (of_term[0].0.clone(), records)));
                    }
                    held.complete()?;
                    Ok(counts)
                })?;
                visited += liked.visited;
                let live = counts.iter().filter(|(_, count)| *count > 0).count();
                if liked.terms.len() > wanted && live <= most {
                    wanted = wanted.saturating_mul(2).saturating_add(1);
                    continue;
                }
                for (term, count) in counts.into_iter().filter(|(_, count)| *count > 0) {
                    *found.entry(term).or_default() += count;
                }
                break;
            }
        }
        let more = found.len() > most;
        let counted = |(term, records)| TermCount { term, records };
        let terms = found.into_iter().take(most).map(counted).collect();
        Ok(Terms { terms, more, visited })
    }
}

/// How many live records of a shelf have a term, by whichever stemming.
fn count_any(standing: &Standing, held: &mut Held, of_term: &[(String, TermEntry)]) -> Step<u64> {
    if let [(_, entry)] = of_term {
        return standing.count_live(held, entry);
    }
    let (shelf, mut having) = (&standing.shelf, Bits::new(standing.shelf.records() as usize));
    for (_, entry) in of_term {
        let all = (ColumnSet::default(), false);
        shelf.each_record(held, entry, all, &mut Default::default(), |ordinal| {
            if !standing.removed(ordinal) {
                having.set(ordinal as usize);
            }
        })?;
    }
    Ok(having.count())
}
