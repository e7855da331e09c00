//! The settings of a search, as a JSON object.

use nut_cellar_core::{Error, ErrorKind, Filter, Find, Result, Schema};
use serde::Deserialize;
use std::collections::BTreeMap;

/// What may be said; what is not said is as `Find::new` has it.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(super) struct Settings {
    columns: Option<Vec<String>>,
    weights: BTreeMap<String, f32>,
    words: Option<String>,
    relax: u64,
    near: Option<String>,
    beginnings: bool,
    #[serde(rename = "where")]
    filter: Option<String>,
    sort: Option<String>,
    k1: Option<f32>,
    b: Option<f32>,
    proximity: Option<f32>,
    most_terms: Option<u64>,
    most_postings: Option<u64>,
    exact_forms: bool,
    skip: usize,
    /// Whether a query that makes no sense is refused.
    pub exacting: bool,
}

impl Settings {
    /// Reads settings.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`], with the place, if they are not understood.
    pub fn read(text: &str) -> Result<Self> {
        serde_json::from_str(text).map_err(|error| {
            let message = format!(
                "The settings of a search are a JSON object such as {{\"words\": \"any\"}}: {error}."
            );
            Error::caused(ErrorKind::BadRequest, message, error)
        })
    }

    /// How to search by them.
    pub fn find(&self, schema: &Schema) -> Result<Find> {
        let mut find = Find::new().without_values().relaxed_below(self.relax).skip(self.skip);
        for (column, weight) in &self.weights {
            find = find.weight(column, *weight);
        }
        if let Some(columns) = &self.columns {
            find = find.columns(columns);
        }
        if let Some(words) = &self.words {
            find = find.words(words.parse()?);
        }
        if let Some(near) = &self.near {
            find = find.spellings(near.parse()?);
        }
        if let Some(filter) = &self.filter {
            find = find.only(Filter::read(filter, schema)?);
        }
        if let Some(sort) = &self.sort {
            find = find.order(sort.parse()?);
        }
        if let Some(terms) = self.most_terms {
            find = find.most_terms(terms);
        }
        if let Some(postings) = self.most_postings {
            find = find.most_postings(postings);
        }
        if self.beginnings {
            find = find.with_beginnings();
        }
        if self.exact_forms {
            find = find.exact_forms();
        }
        for (value, set) in [
            (self.k1, Find::k1 as fn(Find, f32) -> Find),
            (self.b, Find::b),
            (self.proximity, Find::proximity),
        ] {
            find = value.into_iter().fold(find, set);
        }
        Ok(find)
    }
}
