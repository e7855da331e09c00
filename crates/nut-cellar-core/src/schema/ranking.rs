//! How a cellar ranks where a search does not say otherwise.

use super::Schema;
use crate::error::{Error, ErrorKind, Result};
use crate::rank::Lengths;
use indexmap::IndexMap;
use serde::{Deserialize, Serialize};

/// What a search takes that does not say it itself. It is looked up when a search is ranked, so that another ranking reads no row again.
///
/// ```
/// use nut_cellar_core::Schema;
///
/// let schema = Schema::from_toml(r#"
///     key = "id"
///     [column.title]
///     kind = "text"
///     [column.notes]
///     kind = "text"
///     [ranking]
///     k1 = 0.9
///     b = { title = 0.4, "*" = 0.8 }
///     weights = { title = 3.5 }
/// "#).unwrap();
/// assert_eq!(schema.ranking().k1, Some(0.9));
/// assert_eq!(schema.ranking().b.of("notes"), Some(0.8));
/// ```
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
#[non_exhaustive]
pub struct Ranking {
    /// How soon more of the same word stops to matter; 1.2 without.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub k1: Option<f32>,
    /// What it adds to a score that different words stand near each other; 0 without.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub proximity: Option<f32>,
    /// How far a long column counts against itself, from 0 to 1; 0.75 without.
    #[serde(skip_serializing_if = "is_default")]
    pub b: Lengths,
    /// What a match in a column weighs, in the place of what the column itself says.
    #[serde(skip_serializing_if = "IndexMap::is_empty")]
    pub weights: IndexMap<String, f32>,
}

fn is_default(lengths: &Lengths) -> bool {
    *lengths == Lengths::default()
}

impl Ranking {
    pub(super) fn check(&self, schema: &Schema) -> Result<()> {
        let bad = |message: String| Err(Error::new(ErrorKind::BadSchema, message));
        let numbers = [("k1", self.k1), ("proximity", self.proximity)].into_iter();
        let numbers = numbers.filter_map(|(name, number)| Some((name, number?)));
        let weights = self.weights.values().map(|weight| ("a weight", *weight));
        for (name, number) in numbers.chain(weights) {
            if !(number.is_finite() && number >= 0.0) {
                return bad(format!(
                    "In `ranking` {name} is {number}; it has to be a finite number that is not negative."
                ));
            }
        }
        for b in self.b.columns().map(|(_, b)| b).chain(self.b.others()) {
            if !(0.0..=1.0).contains(&b) {
                return bad(format!("In `ranking` b is {b}; it has to be a number from 0 to 1."));
            }
        }
        let named = self.weights.keys().map(String::as_str).chain(self.b.columns().map(|(name, _)| name));
        for name in named {
            if schema.text_column(name).is_none() {
                return bad(format!(
                    "`ranking` names the column `{name}`, which is none that is searched for words."
                ));
            }
        }
        Ok(())
    }
}
