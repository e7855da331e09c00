//! The measures: how much of what is right stands how far in front.

use crate::error::{Error, ErrorKind};
use serde::{Serialize, Serializer};
use std::fmt;
use std::str::FromStr;

/// A measure of a ranking, of its first k records.
///
/// ```
/// use nut_cellar_core::judge::Measure;
///
/// // Of three records in front the first was not judged, the second is right, the third very much so; a fourth, right one was not found.
/// let (front, all) = ([None, Some(1), Some(2)], [1, 2, 1]);
/// assert_eq!(Measure::ReciprocalRank(10).of(&front, &all), 0.5);
/// assert_eq!(Measure::Precision(5).of(&front, &all), 2.0 / 5.0);
/// assert_eq!(Measure::Recall(2).of(&front, &all), 1.0 / 3.0);
/// assert_eq!(Measure::AveragePrecision(10).of(&front, &all), (1.0 / 2.0 + 2.0 / 3.0) / 3.0);
/// assert_eq!("ndcg@10".parse::<Measure>().unwrap(), Measure::Ndcg(10));
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Measure {
    /// `rr@k`: 1 divided by the rank of the first record that is right; 0 if none is.
    ReciprocalRank(usize),
    /// `p@k`: how many of k records are right, divided by k.
    Precision(usize),
    /// `recall@k`: how many of all that are right are among the first k.
    Recall(usize),
    /// `map@k`, in the mean of queries: the precision at the rank of each record that is right, summed, divided by how many are right
    /// in all (C. Buckley, E. Voorhees, "Evaluating Evaluation Measure Stability", SIGIR 2000).
    AveragePrecision(usize),
    /// `ndcg@k`: each grade divided by log₂(rank + 1), summed, divided by what the best order would give (K. Järvelin, J. Kekäläinen,
    /// "Cumulated Gain-Based Evaluation of IR Techniques", 2002).
    Ndcg(usize),
    /// `ndcg_binary@k`: the same with 1 for every grade that is right.
    BinaryNdcg(usize),
}

/// A name, and the measure of so many records that it is of.
type Named = (&'static str, fn(usize) -> Measure);

const NAMES: [Named; 6] = [
    ("rr", Measure::ReciprocalRank),
    ("p", Measure::Precision),
    ("recall", Measure::Recall),
    ("map", Measure::AveragePrecision),
    ("ndcg", Measure::Ndcg),
    ("ndcg_binary", Measure::BinaryNdcg),
];

impl Measure {
    /// The measures that are told unless others are asked for.
    pub const USUAL: [Self; 5] = [
        Self::ReciprocalRank(10),
        Self::Ndcg(10),
        Self::Precision(10),
        Self::Recall(100),
        Self::AveragePrecision(100),
    ];

    /// How many records in front it looks at.
    pub fn depth(self) -> usize {
        let (Self::ReciprocalRank(k)
        | Self::Precision(k)
        | Self::Recall(k)
        | Self::AveragePrecision(k)
        | Self::Ndcg(k)
        | Self::BinaryNdcg(k)) = self;
        k
    }

    /// The same of the first `k` records.
    #[must_use]
    pub fn at(self, k: usize) -> Self {
        self.made()(k)
    }

    fn made(self) -> fn(usize) -> Self {
        match self {
            Self::ReciprocalRank(_) => Self::ReciprocalRank,
            Self::Precision(_) => Self::Precision,
            Self::Recall(_) => Self::Recall,
            Self::AveragePrecision(_) => Self::AveragePrecision,
            Self::Ndcg(_) => Self::Ndcg,
            Self::BinaryNdcg(_) => Self::BinaryNdcg,
        }
    }

    /// The measure of one ranking: of the grades of the records in front, best first (`None` for one that was not judged), and of all
    /// grades that there are for the query, in any order. 0 where no record is right.
    pub fn of(self, front: &[Option<i32>], all: &[i32]) -> f64 {
        let front = &front[..front.len().min(self.depth())];
        let right = |grade: &&i32| **grade > 0;
        let of_all = all.iter().filter(right).count() as f64;
        if of_all == 0.0 {
            return 0.0;
        }
        let hits = (1_usize..).zip(front).filter(|(_, grade)| grade.is_some_and(|grade| grade > 0));
        match self {
            Self::ReciprocalRank(_) => hits.map(|(rank, _)| 1.0 / rank as f64).next().unwrap_or(0.0),
            Self::Precision(k) => hits.count() as f64 / k as f64,
            Self::Recall(_) => hits.count() as f64 / of_all,
            Self::AveragePrecision(_) => {
                (1_usize..).zip(hits).map(|(before, (rank, _))| before as f64 / rank as f64).sum::<f64>()
                    / of_all
            }
            Self::Ndcg(k) => {
                let gain = |grade: i32| f64::from(grade.max(0));
                gained(front.iter().map(|grade| gain(grade.unwrap_or(0)))) / best(all, k, gain)
            }
            Self::BinaryNdcg(k) => {
                let gain = |grade: i32| f64::from(u8::from(grade > 0));
                gained(front.iter().map(|grade| gain(grade.unwrap_or(0)))) / best(all, k, gain)
            }
        }
    }
}

/// What records gain, best first, each divided by log₂(rank + 1).
fn gained(gains: impl Iterator<Item = f64>) -> f64 {
    (2_u32..).zip(gains).map(|(next, gain)| gain / libm::log2(f64::from(next))).sum()
}

/// What the best order of all records would gain.
fn best(all: &[i32], k: usize, gain: impl Fn(i32) -> f64) -> f64 {
    let mut gains: Vec<_> = all.iter().map(|grade| gain(*grade)).collect();
    gains.sort_unstable_by(|one, other| other.total_cmp(one));
    gained(gains.into_iter().take(k))
}

impl fmt::Display for Measure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let named = NAMES.iter().find(|(_, made)| made(self.depth()) == *self);
        write!(f, "{}@{}", named.map_or("", |(name, _)| name), self.depth())
    }
}

impl FromStr for Measure {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        let bad = || {
            let names: Vec<_> = NAMES.iter().map(|(name, _)| *name).collect();
            let message = format!(
                "`{text}` is no measure; write one of {} with how many records it looks at, as in `ndcg@10`.",
                names.join(", ")
            );
            Error::new(ErrorKind::BadRequest, message)
        };
        let (name, k) = text.split_once('@').ok_or_else(bad)?;
        let k = k.parse().ok().filter(|k| *k > 0).ok_or_else(bad)?;
        let (_, made) = NAMES.iter().find(|(known, _)| *known == name).ok_or_else(bad)?;
        Ok(made(k))
    }
}

impl Serialize for Measure {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}
