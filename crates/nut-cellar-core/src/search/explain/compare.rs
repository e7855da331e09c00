//! Two rankings of one query side by side, and what moved.

use crate::catalog::Snapshot;
use crate::error::Result;
use crate::lenient;
use crate::query::Query;
use crate::record::Key;
use crate::search::find::Find;
use crate::search::found::{Found, Hit};
use crate::store::View;
use serde::Serialize;

/// What became of a hit between two rankings.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Moved {
    /// The record.
    pub key: Key,
    /// Its rank and score in the one ranking, if it is among the first of that, ten times as many as are shown.
    pub first: Option<(usize, f32)>,
    /// The same of the other.
    pub second: Option<(usize, f32)>,
}

impl Moved {
    /// How many places it went up from the one ranking to the other; less than 0 if it went down. None if it is not in both.
    pub fn up(&self) -> Option<i64> {
        let (first, second) = self.first.zip(self.second)?;
        let rank = |rank: usize| i64::try_from(rank).unwrap_or(i64::MAX);
        Some(rank(first.0) - rank(second.0))
    }
}

/// Two rankings of one query.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Compared {
    /// The one.
    pub first: Found,
    /// The other.
    pub second: Found,
    /// Every hit that is shown of one of them: by its rank in the second ranking, then, of those that it lost, in the first.
    pub moved: Vec<Moved>,
    /// How alike the two are, from 0 to 1: the mean over all depths of the share of hits that both have down to there
    /// (average overlap: R. Fagin, R. Kumar, D. Sivakumar, "Comparing top k lists", 2003). 1 if there are none.
    pub overlap: f64,
}

/// Two rankings are compared so many times as deep as they are shown, to know where what moved came from or went.
const DEEPER: usize = 10;

/// Searches twice for one query, such as with two sets of weights, and puts the answers side by side.
///
/// # Errors
/// As for a [search](crate::Search).
pub fn compare(
    view: &dyn View,
    snapshot: &Snapshot,
    query: &Query,
    first: &Find,
    second: &Find,
) -> Result<Compared> {
    let search = |find: &Find| -> Result<(Found, usize)> {
        let deep = find.clone().limit(find.window().len().saturating_mul(DEEPER));
        Ok((lenient::search(view, snapshot, query, &deep)?, find.window().len()))
    };
    Ok(side_by_side(search(first)?, search(second)?))
}

/// Puts two answers side by side, of which so many hits are shown.
fn side_by_side(
    (mut first, first_shown): (Found, usize),
    (mut second, second_shown): (Found, usize),
) -> Compared {
    let place = |found: &Found, key: &Key| {
        found.hits.iter().find(|hit| hit.key == *key).map(|hit| (hit.rank, hit.score))
    };
    let of = |hit: &Hit| Moved {
        key: hit.key.clone(),
        first: place(&first, &hit.key),
        second: place(&second, &hit.key),
    };
    let shown = second.hits.iter().take(second_shown);
    let lost = first.hits.iter().take(first_shown);
    let lost = lost.filter(|hit| !shown.clone().any(|other| other.key == hit.key));
    let moved: Vec<_> = shown.clone().map(of).chain(lost.map(of)).collect();
    first.hits.truncate(first_shown);
    second.hits.truncate(second_shown);
    let depths = first.hits.len().max(second.hits.len());
    let overlap = (1..=depths).map(|depth| {
        let top =
            |found: &Found| found.hits.iter().take(depth).map(|hit| hit.key.clone()).collect::<Vec<_>>();
        let (one, other) = (top(&first), top(&second));
        one.iter().filter(|key| other.contains(key)).count() as f64 / depth as f64
    });
    let overlap = if depths == 0 { 1.0 } else { overlap.sum::<f64>() / depths as f64 };
    Compared { first, second, moved, overlap }
}
