//! What somebody may have meant instead: corrections of one word, or of several together.
//!
//! With R(c) the records that match a correction c as a whole, under the filter, and cost(c) that of its mistakes (`text/mistakes.rs`), the
//! best has the greatest S(c) = ln R(c) − λ · cost(c), λ = 4. One that finds nothing is never offered. Words are
//!
//! * *unknown*, if no record that may be seen has them; one that is corrected has all of them replaced;
//! * *doubtful*, if what is near is much more frequent and fits the other words better: if S(c) is at least 2 above that of the best
//!   correction, or of the query as it was typed, in which no word is replaced that is known.
//!
//! Candidates are the terms that are spelled nearly so, of each word the best 16 by ln r(t) − λ · cost, those of `unspaced` among them, and
//! the ways to write it as two words; of several words that are wrong the best 4 combinations of those before are gone on with. Of more than four words that nobody
//! has nothing is offered, and of no more than eight words, these first, others are tried.

use super::unspaced::{is_of_pairs, others};
use super::words::{MOST_WORDS, Wanted, as_two, is_letters, replaced, wanted};
use super::{Strict, Suggest, count, counting};
use crate::error::{Error, ErrorKind, Result};
use crate::query::Query;
use crate::search::{Find, Words};
use crate::text::cost;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::str::FromStr;

const LAMBDA: f64 = 4.0;
const MARGIN: f64 = 2.0;
/// So many terms are tried for a word, and so many combinations gone on with.
const TRIED: usize = 16;
const BEAM: usize = 4;
/// Of more words that nobody has nothing is offered; and so many words are tried at most, these first. What is tried grows with both.
const MOST_UNKNOWN: usize = 4;
const MOST_WRONG: usize = 8;
/// What it costs that two words were written as one.
const AS_ONE: f32 = 0.5;
/// And that two characters of a script without spaces changed places.
const SWAPPED: f32 = 0.5;

/// For which words corrections are offered.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Offer {
    /// For those that no record has.
    Unknown,
    /// For those, too, beside which something near is much more frequent and fits the others better.
    #[default]
    Doubtful,
    /// For every word.
    Every,
}

impl FromStr for Offer {
    type Err = Error;

    /// Reads `unknown`, `doubtful` or `every`.
    fn from_str(text: &str) -> Result<Self> {
        match text {
            "unknown" => Ok(Self::Unknown),
            "doubtful" => Ok(Self::Doubtful),
            "every" => Ok(Self::Every),
            _ => Err(Error::new(
                ErrorKind::BadRequest,
                format!("`{text}` is none of `unknown`, `doubtful` and `every`."),
            )),
        }
    }
}

/// A query that may have been meant.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Correction {
    /// As it would be typed.
    pub text: String,
    /// The same, read.
    #[serde(skip)]
    pub query: Query,
    /// The words that are others, in the order of the query.
    pub changed: Vec<Corrected>,
    /// How many records match it.
    pub records: u64,
}

/// A word of a correction.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct Corrected {
    /// What was typed.
    pub from: String,
    /// What may have been meant.
    pub to: String,
}

/// What becomes of a word of which it is known that it is wrong.
#[derive(Clone, Debug)]
enum Choice {
    Open,
    Be(Candidate),
}

/// What a word may have been meant to be.
#[derive(Clone, Debug)]
struct Candidate {
    query: Query,
    text: String,
    cost: f32,
    /// How many live records have it in this form, whatever the filter.
    records: u64,
}

/// A choice for some of the words, by their places.
#[derive(Clone, Debug, Default)]
struct Combination {
    choices: BTreeMap<usize, Choice>,
    cost: f64,
    records: u64,
    /// Whether a word is replaced that is known.
    is_doubtful: bool,
}

impl Combination {
    fn score(&self) -> f64 {
        (self.records as f64).ln() - LAMBDA * self.cost
    }

    /// The query with these choices; words that are open are left out.
    fn query(&self, query: &Query) -> Option<Query> {
        let mut place = 0;
        replaced(query, &mut |word| {
            let choice = self.choices.get(&place);
            place += 1;
            match choice {
                None => Some(word.clone()),
                Some(Choice::Open) => None,
                Some(Choice::Be(candidate)) => Some(candidate.query.clone()),
            }
        })
    }

    fn is_open(&self) -> bool {
        self.choices.values().any(|choice| matches!(choice, Choice::Open))
    }

    fn candidates(&self) -> impl Iterator<Item = (usize, &Candidate)> {
        self.choices.iter().filter_map(|(place, choice)| match choice {
            Choice::Be(candidate) => Some((*place, candidate)),
            Choice::Open => None,
        })
    }
}

/// The best corrections of a query.
pub(super) fn corrections(
    by: &Strict<'_>,
    query: &Query,
    find: &Find,
    suggest: &Suggest,
) -> Result<Vec<Correction>> {
    let Suggest { offer: Some(offer), least_letters, limit: most, .. } = *suggest else {
        return Ok(Vec::new());
    };
    let strict = find.clone().strict().words(Words::All);
    let words = wanted(query);
    if words.len() > MOST_WORDS {
        return Ok(Vec::new());
    }
    let (mut typed, mut wrong) = (Combination::default(), Vec::new());
    for (place, word) in words.iter().enumerate() {
        let records = count(by, &word.query(Query::word(&word.text)), &strict)?;
        let is_text = word.columns.iter().flatten().all(|name| by.schema().text_column(name).is_some());
        let least = if is_of_pairs(&word.text) { least_letters.min(2) } else { least_letters };
        let may_be_other = is_text && is_letters(&word.text) && word.text.chars().count() >= least;
        if records == 0 {
            typed.choices.insert(place, Choice::Open);
        }
        if may_be_other && (records == 0 || offer != Offer::Unknown) {
            wrong.push((place, records));
        } else if records == 0 {
            // With this word nothing is found, whatever the others are.
            return Ok(Vec::new());
        }
    }
    if wrong.iter().filter(|(_, records)| *records == 0).count() > MOST_UNKNOWN {
        return Ok(Vec::new());
    }
    // Of words that nobody has, one or the other is certain to be wrong.
    wrong.sort_by_key(|(_, records)| *records > 0);
    wrong.truncate(MOST_WRONG);
    typed.records = match typed.query(query) {
        Some(others) => count(by, &others, &strict)?,
        None => 1,
    };
    let mut combinations = vec![typed];
    for (place, records) in wrong {
        let tried = tried(by, &words[place], &strict)?;
        let mut next = if records > 0 { combinations.clone() } else { Vec::new() };
        for before in &combinations {
            for candidate in &tried {
                // A known word is not tried against what so few records have.
                let most = (candidate.records as f64).ln() - LAMBDA * f64::from(candidate.cost);
                if records > 0 && offer != Offer::Every && most < (before.records as f64).ln() + MARGIN {
                    continue;
                }
                let mut with = before.clone();
                with.cost += f64::from(candidate.cost);
                with.is_doubtful |= records > 0;
                with.choices.insert(place, Choice::Be(candidate.clone()));
                let Some(together) = with.query(query) else { continue };
                with.records = count(by, &together, &strict)?;
                next.extend((with.records > 0).then_some(with));
            }
        }
        next.sort_by(|a, b| b.score().total_cmp(&a.score()));
        next.truncate(BEAM.max(most));
        combinations = next;
    }
    combinations.retain(|combination| combination.records > 0 && !combination.is_open());
    let certain = combinations.iter().filter(|combination| !combination.is_doubtful);
    let least = certain.map(|combination| combination.score() + MARGIN).fold(f64::NEG_INFINITY, f64::max);
    combinations.retain(|combination| {
        let is_better = !combination.is_doubtful || offer == Offer::Every || combination.score() >= least;
        is_better && combination.candidates().next().is_some()
    });
    let told = |combination: Combination| {
        let query = combination.query(query)?;
        let changed = combination.candidates().map(|(place, candidate)| Corrected {
            from: words[place].text.clone(),
            to: candidate.text.clone(),
        });
        let changed = changed.collect();
        Some(Correction { text: query.to_string(), query, changed, records: combination.records })
    };
    Ok(combinations.into_iter().take(most).filter_map(told).collect())
}

/// What a word may have been meant to be, as far as it is tried.
fn tried(by: &Strict<'_>, word: &Wanted, strict: &Find) -> Result<Vec<Candidate>> {
    let mut tried = nearly_so(by, word, strict)?;
    if is_of_pairs(&word.text) {
        let (others, swapped) = others(by, &word.text, strict)?;
        let candidate =
            |text: String, cost, records| Candidate { query: Query::word(&text), text, cost, records };
        tried.extend(others.into_iter().map(|(text, records)| candidate(text, 1.0, records)));
        for text in swapped {
            let records = count(by, &word.query(Query::word(&text)), strict)?;
            tried.push(candidate(text, SWAPPED, records));
        }
    }
    let prior = |one: &Candidate| (one.records.max(1) as f64).ln() - LAMBDA * f64::from(one.cost);
    tried.sort_unstable_by(|a, b| prior(b).total_cmp(&prior(a)).then_with(|| a.text.cmp(&b.text)));
    tried.truncate(TRIED);
    for (first, second) in as_two(&word.text) {
        let [one, other] = [first, second].map(|part| word.query(Query::word(part)));
        let most = count(by, &one, strict)?;
        if most > 0 && count(by, &other, strict)? > 0 {
            let text = format!("{first} {second}");
            tried.push(Candidate { query: Query::phrase(&text), text, cost: AS_ONE, records: most });
        }
    }
    Ok(tried)
}

/// The terms that are spelled nearly so.
fn nearly_so(by: &Strict<'_>, word: &Wanted, strict: &Find) -> Result<Vec<Candidate>> {
    let near = by.alike(&word.query(Query::near(&word.text)), &counting(strict))?;
    let candidate = |(term, records): (String, u64)| {
        let cost = cost(&word.text.to_lowercase(), &term);
        Candidate { query: Query::word(&term), text: term, cost, records }
    };
    Ok(near.into_iter().filter(|(term, _)| is_letters(term)).map(candidate).collect())
}
