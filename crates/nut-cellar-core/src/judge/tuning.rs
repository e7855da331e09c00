//! Tuning: the weights, k1, b and proximity by which judged queries are worth the most, and whether they are on queries that they were
//! not chosen by.
//!
//! What always holds: no query helps to choose the numbers that it is judged by, and what is told as a gain was tested on those.

use super::lots::Lots;
use super::paired::Paired;
use crate::error::{Error, ErrorKind, Result};
use crate::rank::{DEFAULT_B, DEFAULT_K1};
use crate::schema::{Ranking, Schema};
use std::collections::HashMap;

/// A number of the ranking that is tuned.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Knob {
    /// The weight of a column.
    Weight(String),
    /// k1.
    K1,
    /// b of the columns that have none of their own.
    B,
    /// b of one column.
    BOf(String),
    /// The weight of proximity.
    Proximity,
}

impl Knob {
    /// Reads one: a column of text for its weight, `k1`, `b`, `b:title` for the b of one column, `proximity`.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`] if there is no such column.
    pub fn read(text: &str, schema: &Schema) -> Result<Self> {
        let is_column = |name: &str| schema.text_column(name).is_some();
        match text {
            column if is_column(column) => Ok(Self::Weight(column.to_owned())),
            "k1" => Ok(Self::K1),
            "b" => Ok(Self::B),
            "proximity" => Ok(Self::Proximity),
            other => match other.strip_prefix("b:") {
                Some(column) if is_column(column) => Ok(Self::BOf(column.to_owned())),
                _ => {
                    let columns: Vec<_> = schema.text_columns().map(|(name, _)| name).collect();
                    let columns = columns.join(", ");
                    Err(Error::new(
                        ErrorKind::BadRequest,
                        format!(
                            "`{text}` can't be tuned; name k1, b, proximity, a column ({columns}), or `b:` and a column."
                        ),
                    ))
                }
            },
        }
    }

    /// What it is in a ranking, where the schema says what the ranking does not.
    fn of(&self, ranking: &Ranking, schema: &Schema) -> f32 {
        match self {
            Self::Weight(column) => {
                let own = schema.column(column).map_or(1.0, crate::Column::weight);
                ranking.weights.get(column).copied().unwrap_or(own)
            }
            Self::K1 => ranking.k1.unwrap_or(DEFAULT_K1),
            Self::B => ranking.b.others().unwrap_or(DEFAULT_B),
            Self::BOf(column) => ranking.b.of(column).unwrap_or(DEFAULT_B),
            Self::Proximity => ranking.proximity.unwrap_or(0.0),
        }
    }

    fn set(&self, ranking: &mut Ranking, value: f32) {
        match self {
            Self::Weight(column) => drop(ranking.weights.insert(column.clone(), value)),
            Self::K1 => ranking.k1 = Some(value),
            Self::B => ranking.b.set_others(value),
            Self::BOf(column) => ranking.b = std::mem::take(&mut ranking.b).with(column, value),
            Self::Proximity => ranking.proximity = Some(value),
        }
    }

    /// The values beside one, for steps of a size from 0 to 1.
    fn beside(&self, value: f32, size: f32) -> Vec<f32> {
        let beside = match self {
            Self::B | Self::BOf(_) => vec![value - 0.4 * size, value + 0.4 * size],
            // From nothing no factor leads away.
            Self::Weight(_) | Self::Proximity if value == 0.0 => vec![0.5 * size],
            Self::Weight(_) | Self::Proximity => {
                vec![value / (1.0 + 2.0 * size), value * (1.0 + 2.0 * size), 0.0]
            }
            Self::K1 => vec![value / (1.0 + size), value * (1.0 + size)],
        };
        beside.into_iter().map(|value| self.allowed(value)).collect()
    }

    /// A value that is drawn by lot.
    fn drawn(&self, lots: &mut Lots) -> f32 {
        let share = lots.below(1_000) as f32 / 1_000.0;
        self.allowed(match self {
            Self::Weight(_) => 0.25 * 32.0_f32.powf(share),
            Self::K1 => 0.3 * 8.0_f32.powf(share),
            Self::B | Self::BOf(_) => share,
            Self::Proximity => 2.0 * share,
        })
    }

    /// A value within bounds, to three digits.
    fn allowed(&self, value: f32) -> f32 {
        let most = match self {
            Self::B | Self::BOf(_) => 1.0,
            Self::K1 => 10.0,
            Self::Weight(_) | Self::Proximity => 1_000.0,
        };
        format!("{:.2e}", value.clamp(0.0, most)).parse().unwrap_or(value)
    }
}

/// How tuning goes about it.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Tuning {
    /// The numbers that are tuned.
    pub knobs: Vec<Knob>,
    /// Into how many parts the queries are divided, each of which is judged by what was chosen by the others; 5.
    pub folds: usize,
    /// From how many points drawn by lot the search begins again, besides where the ranking is; 2.
    pub restarts: usize,
    /// What is drawn by lot is the same for the same number.
    pub seed: u64,
}

/// How far tuning has come.
#[derive(Clone, Copy, Debug, PartialEq)]
#[non_exhaustive]
pub struct Tuned {
    /// How many rankings were tried.
    pub tried: usize,
    /// How many parts are done.
    pub done: usize,
    /// How many there are: one for each fold, and the last, which is chosen by all queries.
    pub parts: usize,
}

/// What tuning found.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Outcome {
    /// The ranking by which all queries are worth the most that was found.
    pub ranking: Ranking,
    /// What they are worth in the mean as it was.
    pub before: f64,
    /// What they are worth in the mean, each by the numbers that the other folds chose.
    pub after: f64,
    /// The test of these, query by query.
    pub paired: Paired,
    /// How many rankings were tried.
    pub tried: usize,
    /// Whether it was ended before it was done.
    pub ended: bool,
}

impl Outcome {
    /// Whether it is a gain, and not what chance gives: on queries that nothing was chosen by, with a p-value below 0.05.
    pub fn is_gain(&self) -> bool {
        self.paired.difference > 0.0 && self.paired.p_value < 0.05
    }
}

/// The steps of a search, each size until none of them helps.
const SIZES: [f32; 3] = [0.5, 0.25, 0.1];

impl Tuning {
    /// Tunes these.
    pub fn over(knobs: Vec<Knob>) -> Self {
        Self { knobs, folds: 5, restarts: 2, seed: 1 }
    }

    /// Tunes a ranking. `worth` says what each query is worth by one, always as many of them; `goes_on` is told how far it has come
    /// before each ranking is tried, and ends it with `false`. Takes one coordinate after the other, from where the ranking is and from
    /// points drawn by lot, in steps that become smaller (a pattern search: R. Hooke, T. Jeeves, "Direct Search Solution of Numerical and
    /// Statistical Problems", 1961). A ranking is tried once, whichever fold comes to it.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`] if there is nothing to tune, or there are fewer queries than folds, or fewer than two folds; whatever
    /// `worth` answers.
    pub fn run(
        &self,
        start: &Ranking,
        schema: &Schema,
        worth: impl FnMut(&Ranking) -> Result<Vec<f64>>,
        goes_on: impl FnMut(Tuned) -> bool,
    ) -> Result<Outcome> {
        let start_values: Vec<f32> = self.knobs.iter().map(|knob| knob.of(start, schema)).collect();
        let done = Tuned { tried: 0, done: 0, parts: self.folds + 1 };
        let mut tries =
            Tries { tuning: self, start, known: HashMap::new(), worth, goes_on, far: done, ended: false };
        let before = tries.of(&start_values)?.unwrap_or_default();
        let wrong = |message: &str| Err(Error::new(ErrorKind::BadRequest, message));
        if self.knobs.is_empty() {
            return wrong("Nothing is named that is to be tuned.");
        }
        if self.folds < 2 || before.len() < self.folds {
            return wrong("Tuning takes at least two folds, and a query for each.");
        }
        let mut lots = Lots(self.seed);
        let folds = self.divided(before.len(), &mut lots);
        let mut after = before.clone();
        for fold in 0..self.folds {
            let chosen = tries.best(&start_values, &|query| folds[query] != fold, &mut lots)?;
            let values = tries.of(&chosen)?.unwrap_or_else(|| before.clone());
            for query in (0..before.len()).filter(|query| folds[*query] == fold) {
                after[query] = values[query];
            }
            tries.far.done += 1;
        }
        let chosen = tries.best(&start_values, &|_| true, &mut lots)?;
        let pairs: Vec<_> = before.iter().copied().zip(after.iter().copied()).collect();
        let mean = |values: &[f64]| values.iter().sum::<f64>() / values.len() as f64;
        Ok(Outcome {
            ranking: tries.ranking(&chosen),
            before: mean(&before),
            after: mean(&after),
            paired: Paired::of(&pairs, self.seed),
            tried: tries.far.tried,
            ended: tries.ended,
        })
    }

    /// The fold of each query: as many in each, but for one.
    fn divided(&self, queries: usize, lots: &mut Lots) -> Vec<usize> {
        let mut folds: Vec<_> = (0..queries).map(|query| query % self.folds).collect();
        for place in (1..queries).rev() {
            folds.swap(place, lots.place(place + 1));
        }
        folds
    }
}

/// What was tried, and what comes of it.
struct Tries<'t, W, G> {
    tuning: &'t Tuning,
    start: &'t Ranking,
    /// What each query is worth, by the bits of the numbers.
    known: HashMap<Vec<u32>, Vec<f64>>,
    worth: W,
    goes_on: G,
    far: Tuned,
    ended: bool,
}

impl<W: FnMut(&Ranking) -> Result<Vec<f64>>, G: FnMut(Tuned) -> bool> Tries<'_, W, G> {
    /// The ranking with these numbers.
    fn ranking(&self, values: &[f32]) -> Ranking {
        let mut ranking = self.start.clone();
        for (knob, value) in self.tuning.knobs.iter().zip(values) {
            knob.set(&mut ranking, *value);
        }
        ranking
    }

    /// What each query is worth by these numbers; nothing if that is not known and tuning is to end.
    fn of(&mut self, values: &[f32]) -> Result<Option<Vec<f64>>> {
        let bits: Vec<_> = values.iter().map(|value| value.to_bits()).collect();
        if !self.known.contains_key(&bits) {
            self.ended = self.ended || !(self.goes_on)(self.far);
            if self.ended && !self.known.is_empty() {
                return Ok(None);
            }
            let ranking = self.ranking(values);
            let worth = (self.worth)(&ranking)?;
            self.far.tried += 1;
            self.known.insert(bits.clone(), worth);
        }
        Ok(self.known.get(&bits).cloned())
    }

    /// What the queries that count are worth, all together; nothing if tuning is to end.
    fn sum(&mut self, values: &[f32], counts: &dyn Fn(usize) -> bool) -> Result<Option<f64>> {
        let all = self.of(values)?;
        Ok(all.map(|all| {
            all.iter().enumerate().filter(|(query, _)| counts(*query)).map(|(_, worth)| worth).sum()
        }))
    }

    /// The best numbers that are found for the queries that count.
    fn best(&mut self, start: &[f32], counts: &dyn Fn(usize) -> bool, lots: &mut Lots) -> Result<Vec<f32>> {
        let mut starts = vec![start.to_vec()];
        for _ in 0..self.tuning.restarts {
            starts.push(self.tuning.knobs.iter().map(|knob| knob.drawn(lots)).collect());
        }
        let mut best = (start.to_vec(), f64::NEG_INFINITY);
        for start in starts {
            let (values, sum) = self.climb(start, counts)?;
            // What is no better does not move the numbers from where they are.
            if sum > best.1 + f64::EPSILON {
                best = (values, sum);
            }
        }
        Ok(best.0)
    }

    /// Goes from a point to better ones until no step helps.
    fn climb(&mut self, mut values: Vec<f32>, counts: &dyn Fn(usize) -> bool) -> Result<(Vec<f32>, f64)> {
        let Some(mut sum) = self.sum(&values, counts)? else { return Ok((values, f64::NEG_INFINITY)) };
        for size in SIZES {
            loop {
                let before = sum;
                for (place, knob) in self.tuning.knobs.iter().enumerate() {
                    for value in knob.beside(values[place], size) {
                        let mut next = values.clone();
                        next[place] = value;
                        let Some(worth) = self.sum(&next, counts)? else { return Ok((values, sum)) };
                        if worth > sum + f64::EPSILON {
                            (values, sum) = (next, worth);
                        }
                    }
                }
                if sum <= before {
                    break;
                }
            }
        }
        Ok((values, sum))
    }
}
