//! A run, judged: each measure of each query, and in the mean.

use super::judgments::Judgments;
use super::measures::Measure;
use super::queries::Asked;
use super::runs::Run;
use serde::Serialize;

/// What a run is worth by some judgments.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Assessment {
    /// What was measured.
    pub measures: Vec<Measure>,
    /// The queries for which at least one record is right, in the order in which they were asked.
    pub queries: Vec<JudgedQuery>,
    /// The queries that were asked and for which nothing is right, so that nothing can be measured.
    pub without_right: Vec<String>,
    /// The queries that were judged and were not asked.
    pub not_asked: Vec<String>,
}

/// What a run is worth for one query.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct JudgedQuery {
    /// What the query is called.
    pub id: String,
    /// What was typed.
    pub text: String,
    /// Each measure, in order.
    pub values: Vec<f64>,
    /// How many records are right in all.
    pub right: usize,
    /// How many of the records that the deepest measure looks at were not judged. They count as not right.
    pub unjudged: usize,
    /// Whether records with the same score stand next to each other of which one is more right, so that only their keys tell which
    /// comes first.
    pub tied: bool,
}

impl Assessment {
    /// Judges a run.
    pub fn of(run: &Run, asked: &[Asked], judgments: &Judgments, measures: &[Measure]) -> Self {
        let depth = measures.iter().map(|measure| measure.depth()).max().unwrap_or(0);
        let mut all = Self {
            measures: measures.to_vec(),
            queries: Vec::new(),
            without_right: Vec::new(),
            not_asked: Vec::new(),
        };
        for Asked { id, text } in asked {
            let grades: Vec<_> = judgments.of(id).map(|(_, grade)| grade).collect();
            let right = grades.iter().filter(|grade| **grade > 0).count();
            if right == 0 {
                all.without_right.push(id.clone());
                continue;
            }
            let found = run.of(id);
            let found = &found[..found.len().min(depth)];
            let front: Vec<_> = found.iter().map(|(record, _)| judgments.grade(id, record)).collect();
            let gain = |place: usize| front[place].unwrap_or(0).max(0);
            let ties = |place: usize| {
                found[place].1.to_bits() == found[place - 1].1.to_bits() && gain(place) != gain(place - 1)
            };
            all.queries.push(JudgedQuery {
                id: id.clone(),
                text: text.clone(),
                values: measures.iter().map(|measure| measure.of(&front, &grades)).collect(),
                right,
                unjudged: front.iter().filter(|grade| grade.is_none()).count(),
                tied: (1..found.len()).any(ties),
            });
        }
        let was_asked = |id: &&str| asked.iter().any(|asked| asked.id == *id);
        all.not_asked = judgments.queries().filter(|id| !was_asked(id)).map(str::to_owned).collect();
        all
    }

    /// The mean of a measure over the queries; 0 without any.
    pub fn mean(&self, measure: usize) -> f64 {
        let count = self.queries.len().max(1) as f64;
        self.queries.iter().map(|query| query.values[measure]).sum::<f64>() / count
    }

    /// How many records were looked at and not judged, over all queries.
    pub fn unjudged(&self) -> usize {
        self.queries.iter().map(|query| query.unjudged).sum()
    }

    /// In how many queries records with the same score stand next to each other of which one is more right.
    pub fn tied(&self) -> usize {
        self.queries.iter().filter(|query| query.tied).count()
    }
}
