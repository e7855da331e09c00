//! What one search asks, and what it answers.

use crate::error::{Error, ErrorKind, Result};
use crate::query::Expansions;
use crate::rank::{DEFAULT_B, DEFAULT_K1};
use crate::record::{Key, Value};
use crate::schema::{Column, ColumnSet, Schema};
use indexmap::IndexMap;
use serde::{Serialize, Serializer};
use std::sync::Arc;

/// How many of a query's words a record must have. Words in quotes or in columns of their own count as one.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Words {
    /// All of them.
    #[default]
    All,
    /// At least one.
    Any,
    /// At least this many, or all where there are fewer.
    AtLeast(usize),
}

/// What one search asks, besides the query. Everything has a default.
///
/// ```
/// use nut_cellar_core::{Find, Words};
///
/// let find = Find::new().columns(["title"]).weight("title", 4.0).words(Words::Any).limit(20);
/// ```
#[derive(Clone, Debug, PartialEq)]
pub struct Find {
    columns: Option<Vec<String>>,
    weights: IndexMap<String, f32>,
    words: Words,
    limit: usize,
    skip: usize,
    k1: f32,
    b: f32,
    values: bool,
    exact_forms: bool,
    expansions: Option<Arc<Expansions>>,
}

impl Default for Find {
    fn default() -> Self {
        Self {
            columns: None,
            weights: IndexMap::new(),
            words: Words::All,
            limit: 10,
            skip: 0,
            k1: DEFAULT_K1,
            b: DEFAULT_B,
            values: true,
            exact_forms: false,
            expansions: None,
        }
    }
}

impl Find {
    /// All text columns with the weights of the schema, all words, the first ten hits.
    pub fn new() -> Self {
        Self::default()
    }

    /// Looks in these text columns only.
    #[must_use]
    pub fn columns<S: Into<String>>(mut self, columns: impl IntoIterator<Item = S>) -> Self {
        self.columns = Some(columns.into_iter().map(Into::into).collect());
        self
    }

    /// Gives a text column another weight than the schema's. A column of weight 0 is searched and adds nothing.
    #[must_use]
    pub fn weight(mut self, column: impl Into<String>, weight: f32) -> Self {
        self.weights.insert(column.into(), weight);
        self
    }

    /// How many of the words a record must have.
    #[must_use]
    pub fn words(mut self, words: Words) -> Self {
        self.words = words;
        self
    }

    /// The most hits to give; 10 without.
    #[must_use]
    pub fn limit(mut self, limit: usize) -> Self {
        self.limit = limit;
        self
    }

    /// Leaves out the first hits.
    #[must_use]
    pub fn skip(mut self, skip: usize) -> Self {
        self.skip = skip;
        self
    }

    /// How soon more of the same word stops to matter; 1.2 without.
    #[must_use]
    pub fn k1(mut self, k1: f32) -> Self {
        self.k1 = k1;
        self
    }

    /// How far a long column counts against itself, from 0 to 1; 0.75 without.
    #[must_use]
    pub fn b(mut self, b: f32) -> Self {
        self.b = b;
        self
    }

    /// Takes words in the form in which they are typed only, where a column keeps forms apart.
    #[must_use]
    pub fn exact_forms(mut self) -> Self {
        self.exact_forms = true;
        self
    }

    /// Lets words stand for their synonyms too, which weigh less than what was typed.
    #[must_use]
    pub fn expanding(mut self, expansions: &Arc<Expansions>) -> Self {
        self.expansions = Some(Arc::clone(expansions));
        self
    }

    /// Gives hits without the kept values.
    #[must_use]
    pub fn without_values(mut self) -> Self {
        self.values = false;
        self
    }

    pub(crate) fn expansions(&self) -> Option<&Expansions> {
        self.expansions.as_deref()
    }

    pub(crate) fn wants_exact_forms(&self) -> bool {
        self.exact_forms
    }

    pub(crate) fn wanted_words(&self) -> Words {
        self.words
    }

    /// Which hits, by rank from 0.
    pub(crate) fn window(&self) -> std::ops::Range<usize> {
        self.skip..self.skip.saturating_add(self.limit)
    }

    pub(crate) fn with_values(&self) -> bool {
        self.values
    }

    pub(crate) fn settings(&self) -> (f32, f32) {
        (self.k1, self.b)
    }

    /// The columns that are searched.
    pub(crate) fn searched(&self, schema: &Schema) -> Result<ColumnSet> {
        let Some(columns) = &self.columns else {
            return Ok((0..schema.text_columns().count()).collect());
        };
        if columns.is_empty() {
            return Err(Error::new(
                ErrorKind::BadRequest,
                "No column is named to search; name one, or none at all.",
            ));
        }
        columns.iter().map(|name| place(schema, name)).collect()
    }

    /// For each text column of the schema its weight.
    pub(crate) fn weights(&self, schema: &Schema) -> Result<Vec<f32>> {
        let mut weights: Vec<_> = schema.text_columns().map(|(_, column)| Column::weight(column)).collect();
        for (name, weight) in &self.weights {
            weights[place(schema, name)?] = *weight;
        }
        Ok(weights)
    }
}

fn place(schema: &Schema, name: &str) -> Result<usize> {
    schema.text_column(name).ok_or_else(|| {
        let known: Vec<_> = schema.text_columns().map(|(name, _)| name).collect();
        let wrong = match schema.column(name) {
            Some(column) => {
                format!("Column `{name}` is of kind \"{}\" and can't be searched for words", column.kind())
            }
            None => format!("There is no column `{name}`"),
        };
        Error::new(ErrorKind::BadRequest, format!("{wrong}; use {}.", known.join(", ")))
    })
}

/// What a search answers.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Found {
    /// How many records match, whatever the limit.
    pub total: u64,
    /// What was taken otherwise than it may have been meant.
    pub notes: Vec<String>,
    /// The matches that were asked for, best first; equal scores by ascending key.
    pub hits: Vec<Hit>,
}

/// One ranked match.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Hit {
    /// Its place among all matches, from 1.
    pub rank: usize,
    /// What names the record.
    pub key: Key,
    /// See [`rank`](crate::rank).
    pub score: f32,
    /// The kept values by column, in schema order.
    #[serde(serialize_with = "columns")]
    pub values: IndexMap<String, Vec<Value>>,
}

/// A single value as itself, several as a list.
fn columns<S: Serializer>(values: &IndexMap<String, Vec<Value>>, serializer: S) -> Result<S::Ok, S::Error> {
    #[derive(Serialize)]
    #[serde(untagged)]
    enum Shown<'a> {
        One(&'a Value),
        Several(&'a [Value]),
    }
    serializer.collect_map(values.iter().map(|(name, values)| match values.as_slice() {
        [one] => (name, Shown::One(one)),
        several => (name, Shown::Several(several)),
    }))
}
