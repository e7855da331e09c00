//! What somebody who types is offered: corrections and completions. What is asked for, as a program says it and as a document, and what
//! is answered.

use super::Strict;
use super::completions::{Completion, completions};
use super::corrections::{Correction, Offer, corrections};
use crate::catalog::Snapshot;
use crate::error::{Error, ErrorKind, Result};
use crate::filter::Filter;
use crate::note::Note;
use crate::query::Query;
use crate::request::Said;
use crate::schema::Schema;
use crate::search::Find;
use crate::store::View;
use serde::{Deserialize, Serialize};

/// What is to be offered. Which letters have to be right is as the search [says](Find::first_letters_right), as are its columns and its
/// filter.
///
/// ```
/// use nut_cellar_core::lenient::{Offer, Suggest};
///
/// let suggest = Suggest::new().offer(Offer::Unknown).least_letters(5).values_of(["station"]).limit(3);
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Suggest {
    pub(super) offer: Option<Offer>,
    pub(super) least_letters: usize,
    pub(super) completes: bool,
    pub(super) values_of: Vec<String>,
    pub(super) earlier: Vec<String>,
    pub(super) limit: usize,
}

impl Default for Suggest {
    fn default() -> Self {
        Self {
            offer: Some(Offer::default()),
            least_letters: 3,
            completes: true,
            values_of: Vec::new(),
            earlier: Vec::new(),
            limit: 5,
        }
    }
}

impl Suggest {
    /// Five corrections at most, of words of three letters or more that nobody has or that are doubtful; and five completions of the last
    /// word.
    pub fn new() -> Self {
        Self::default()
    }

    /// For which words corrections are offered.
    #[must_use]
    pub fn offer(mut self, offer: Offer) -> Self {
        self.offer = Some(offer);
        self
    }

    /// Offers no corrections.
    #[must_use]
    pub fn without_corrections(mut self) -> Self {
        self.offer = None;
        self
    }

    /// Offers no completions.
    #[must_use]
    pub fn without_completions(mut self) -> Self {
        self.completes = false;
        self
    }

    /// Completes the last words to whole values of these columns, too: exact ones, and texts.
    #[must_use]
    pub fn values_of<S: Into<String>>(mut self, columns: impl IntoIterator<Item = S>) -> Self {
        self.values_of = columns.into_iter().map(Into::into).collect();
        self
    }

    /// Completes what was typed to one of these queries, too, which were asked before; those first that should be tried first.
    #[must_use]
    pub fn earlier<S: Into<String>>(mut self, queries: impl IntoIterator<Item = S>) -> Self {
        self.earlier = queries.into_iter().map(Into::into).collect();
        self
    }

    /// A shorter word is not corrected.
    #[must_use]
    pub fn least_letters(mut self, letters: usize) -> Self {
        self.least_letters = letters;
        self
    }

    /// How many of each at most.
    #[must_use]
    pub fn limit(mut self, limit: usize) -> Self {
        self.limit = limit;
        self
    }
}

/// The same as a document, with what of a search it depends on. Every field has a default; names that are not known are refused.
///
/// ```
/// use nut_cellar_core::lenient::SuggestRequest;
/// use nut_cellar_core::{Column, Kind, Schema};
///
/// let schema = Schema::new("id").with("title", Column::text("en")).with("station", Column::of(Kind::Exact));
/// let request = SuggestRequest::read(r#"{"where": "station = 'Elmfold'", "offer": "unknown", "values_of": ["station"]}"#).unwrap();
/// let (find, suggest) = request.prepare(&schema).unwrap();
/// assert!(find.filter().is_some());
/// ```
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct SuggestRequest {
    /// The text columns that are looked in; all without.
    pub columns: Option<Vec<String>>,
    /// What is offered finds one of these records.
    #[serde(rename = "where")]
    pub filter: Option<Said<Filter>>,
    /// See [`Find::first_letters_right`].
    pub first_letters: usize,
    /// See [`Suggest::offer`]; null for no corrections.
    pub offer: Option<Offer>,
    /// See [`Suggest::least_letters`].
    pub least_letters: usize,
    /// Whether completions are offered.
    pub completions: bool,
    /// See [`Suggest::values_of`].
    pub values_of: Vec<String>,
    /// See [`Suggest::earlier`].
    pub earlier: Vec<String>,
    /// See [`Suggest::limit`].
    pub limit: usize,
}

impl Default for SuggestRequest {
    fn default() -> Self {
        let Suggest { offer, least_letters, completes, values_of, earlier, limit } = Suggest::new();
        Self {
            columns: None,
            filter: None,
            first_letters: 0,
            offer,
            least_letters,
            completions: completes,
            values_of,
            earlier,
            limit,
        }
    }
}

impl SuggestRequest {
    /// Reads it from JSON.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`], with the line and the column, if it is none.
    pub fn read(json: &str) -> Result<Self> {
        serde_json::from_str(json).map_err(|error| {
            let message = format!("What is to be offered is said like {{\"limit\": 3}}: {error}.");
            Error::caused(ErrorKind::BadRequest, message, error)
        })
    }

    /// What it asks for.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`] if the filter can't be read for the schema.
    pub fn prepare(self, schema: &Schema) -> Result<(Find, Suggest)> {
        let Self {
            columns,
            filter,
            first_letters,
            offer,
            least_letters,
            completions,
            values_of,
            earlier,
            limit,
        } = self;
        let mut find = Find::new().first_letters_right(first_letters);
        if let Some(columns) = columns {
            find = find.columns(columns);
        }
        match filter {
            Some(Said::Text(text)) => find = find.only(Filter::read(&text, schema)?),
            Some(Said::Tree(filter)) => find = find.only(filter),
            None => {}
        }
        Ok((find, Suggest { offer, least_letters, completes: completions, values_of, earlier, limit }))
    }
}

/// What a program may offer somebody who types.
///
/// # Errors
/// As for any search.
pub fn suggest(
    view: &dyn View,
    snapshot: &Snapshot,
    text: &str,
    find: &Find,
    suggest: &Suggest,
) -> Result<Suggested> {
    let (by, query) = (&Strict { view, snapshot }, &Query::read(text).query);
    let find = &find.clone().beginning_in(query);
    let corrections = corrections(by, query, find, suggest)?;
    let (completions, notes) = completions(by, text, query, find, suggest)?;
    Ok(Suggested { corrections, completions, notes })
}

/// What is offered to somebody who types.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Suggested {
    /// What may have been meant instead, the likeliest first.
    pub corrections: Vec<Correction>,
    /// What may be going to be typed, what most records match first.
    pub completions: Vec<Completion>,
    /// What there is to say besides.
    #[serde(rename = "noted")]
    pub notes: Vec<Note>,
}
