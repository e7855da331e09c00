//! Words of scripts without spaces, and what they may have been meant to be.
//!
//! They are read as pairs of characters, or as the words of a dictionary, so that no term is what was typed. What a character may have been
//! is told by the pairs that records have of its neighbours: behind 東 in 東亰都 stands what 東? has, before 都 what ?都 has. Two neighbours
//! may have changed places, too.

use super::{Strict, counting};
use crate::error::Result;
use crate::query::Query;
use crate::search::Find;
use crate::text::is_unspaced;
use std::collections::HashMap;

/// Of longer words nothing is corrected.
const LONGEST: usize = 8;

/// Whether a word is of a script without spaces, and not too long.
pub(super) fn is_of_pairs(word: &str) -> bool {
    word.chars().all(is_unspaced) && (2..=LONGEST).contains(&word.chars().count())
}

/// What a word may be with another character, with how many records have the pair by which that was found; and with two neighbours swapped.
pub(super) fn others(
    by: &Strict<'_>,
    word: &str,
    strict: &Find,
) -> Result<(HashMap<String, u64>, Vec<String>)> {
    let typed: Vec<char> = word.chars().collect();
    let with = |place: usize, other: char| {
        let mut letters = typed.clone();
        letters[place] = other;
        letters.into_iter().collect::<String>()
    };
    let mut others = HashMap::new();
    for place in 0..typed.len() {
        let before = place.checked_sub(1).map(|before| (format!("{}?", typed[before]), 1));
        let behind = typed.get(place + 1).map(|behind| (format!("?{behind}"), 0));
        for (pattern, at) in before.into_iter().chain(behind) {
            for (pair, records) in by.alike(&Query::pattern(pattern), &counting(strict))? {
                let other =
                    pair.chars().nth(at).filter(|other| is_unspaced(*other) && *other != typed[place]);
                if let Some(other) = other {
                    let known = others.entry(with(place, other)).or_insert(0);
                    *known = records.max(*known);
                }
            }
        }
    }
    let swapped = (1..typed.len()).map(|place| {
        let mut letters = typed.clone();
        letters.swap(place - 1, place);
        letters.into_iter().collect()
    });
    Ok((others, swapped.collect()))
}
