//! One document with all that a search may be asked: the same for a program, the command, SQL, and whoever sends it over a wire.
//!
//! What always holds: each setting of a [`Find`] has its name here, but for functions; what is not said is as [`Find::new`] has it; and a
//! request of a search that is made into a search again is the same search.

use crate::counts::Count;
use crate::error::{Error, ErrorKind, Result};
use crate::filter::Filter;
use crate::note::Note;
use crate::query::{Expansions, Query};
use crate::rank::Lengths;
use crate::schema::Schema;
use crate::search::{Beginnings, DOCUMENT_VERSION, Find, Order, PagePlace, Spellings, Total, Words};
use indexmap::IndexMap;
use serde::{Deserialize, Serialize};
use std::num::NonZero;
use std::sync::Arc;

/// A text, or the tree that it would be read as.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(untagged, expecting = "a text, or a tree")]
pub enum Said<T> {
    /// As somebody typed it.
    Text(String),
    /// As a program built it.
    Tree(T),
}

impl<T> From<&str> for Said<T> {
    fn from(text: &str) -> Self {
        Self::Text(text.to_owned())
    }
}

impl<T> From<String> for Said<T> {
    fn from(text: String) -> Self {
        Self::Text(text)
    }
}

/// All that one search is asked, as a document. Every field has a default; names that are not known are refused.
///
/// ```
/// use nut_cellar_core::{Column, Kind, Request, Schema, Words};
///
/// let schema = Schema::new("id").with("title", Column::text("en")).with("station", Column::of(Kind::Exact));
/// let request = Request::read(r#"{"query": "walnut box", "words": "any", "where": "station = 'Elmfold'"}"#).unwrap();
/// assert_eq!(request.words, Some(Words::Any));
/// let search = request.prepare(&schema).unwrap();
/// assert_eq!(search.query.to_string(), "walnut box");
///
/// let error = Request::read(r#"{"query": "walnut", "colour": "black"}"#).unwrap_err();
/// assert!(error.to_string().contains("unknown field `colour`"), "{error}");
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[expect(clippy::struct_excessive_bools, reason = "they are the settings that people turn on and off")]
#[non_exhaustive]
pub struct Request {
    /// Which version of this document it is; 1.
    pub version: u32,
    /// What is searched for.
    pub query: Said<Query>,
    /// Whether a query that makes no sense is refused, rather than made the best of.
    #[serde(skip_serializing_if = "is_default")]
    pub exacting: bool,
    /// See [`Find::columns`].
    #[serde(skip_serializing_if = "is_default")]
    pub columns: Option<Vec<String>>,
    /// See [`Find::weight`].
    #[serde(skip_serializing_if = "is_default")]
    pub weights: IndexMap<String, f32>,
    /// See [`Find::strict`].
    #[serde(skip_serializing_if = "is_default")]
    pub strict: bool,
    /// See [`Find::enough`].
    #[serde(skip_serializing_if = "is_default")]
    pub enough: Option<u64>,
    /// See [`Find::words`].
    #[serde(skip_serializing_if = "is_default")]
    pub words: Option<Words>,
    /// See [`Find::relaxed_below`].
    #[serde(skip_serializing_if = "is_default")]
    pub relax: Option<u64>,
    /// See [`Find::spellings`].
    #[serde(skip_serializing_if = "is_default")]
    pub near: Option<Spellings>,
    /// See [`Find::first_letters_right`].
    #[serde(skip_serializing_if = "is_default")]
    pub first_letters: usize,
    /// See [`Find::beginnings`].
    #[serde(skip_serializing_if = "is_default")]
    pub beginnings: Beginnings,
    /// See [`Find::only`].
    #[serde(rename = "where", skip_serializing_if = "is_default")]
    pub filter: Option<Said<Filter>>,
    /// See [`Find::order`].
    #[serde(skip_serializing_if = "is_default")]
    pub sort: Order,
    /// See [`Find::total`].
    #[serde(skip_serializing_if = "is_default")]
    pub total: Total,
    /// See [`Find::limit`].
    pub limit: usize,
    /// See [`Find::skip`].
    #[serde(skip_serializing_if = "is_default")]
    pub skip: usize,
    /// See [`Find::after`].
    #[serde(skip_serializing_if = "is_default")]
    pub after: Option<PagePlace>,
    /// See [`Find::k1`].
    #[serde(skip_serializing_if = "is_default")]
    pub k1: Option<f32>,
    /// See [`Find::lengths`].
    #[serde(skip_serializing_if = "is_default")]
    pub b: Option<Lengths>,
    /// See [`Find::proximity`].
    #[serde(skip_serializing_if = "is_default")]
    pub proximity: Option<f32>,
    /// Whether hits come with their values; see [`Find::without_values`].
    pub values: bool,
    /// See [`Find::with_marks`].
    #[serde(skip_serializing_if = "is_default")]
    pub marks: bool,
    /// See [`Find::exact_forms`].
    #[serde(skip_serializing_if = "is_default")]
    pub exact_forms: bool,
    /// See [`Find::count`]: each as a text, such as `station most 5`.
    #[serde(rename = "count", skip_serializing_if = "is_default")]
    pub counts: Vec<Count>,
    /// Lines such as `brolly = umbrella`; see [`Expansions::read`].
    #[serde(skip_serializing_if = "is_default")]
    pub expansions: Option<String>,
    /// See [`Find::most_terms`].
    #[serde(skip_serializing_if = "is_default")]
    pub most_terms: Option<u64>,
    /// See [`Find::most_postings`].
    #[serde(skip_serializing_if = "is_default")]
    pub most_postings: Option<u64>,
    /// See [`Find::threads`].
    #[serde(skip_serializing_if = "is_default")]
    pub threads: Option<NonZero<usize>>,
}

fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

impl Default for Request {
    fn default() -> Self {
        Find::new().request("")
    }
}

/// A search that a request asked for, made ready for a schema.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Prepared {
    /// What is searched for.
    pub query: Query,
    /// And how.
    pub find: Find,
    /// What there is to say about the query as it was typed.
    pub notes: Vec<Note>,
}

impl Request {
    /// A request for what a person typed, with nothing else said.
    pub fn new(query: impl Into<Said<Query>>) -> Self {
        Find::new().request(query)
    }

    /// Reads a request from JSON.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`], with the line and the column, if it is none, or of a version that this program does not know.
    pub fn read(json: &str) -> Result<Self> {
        let request: Self = serde_json::from_str(json).map_err(|error| {
            let message =
                format!("A request is a JSON object such as {{\"query\": \"walnut box\"}}: {error}.");
            Error::caused(ErrorKind::BadRequest, message, error)
        })?;
        request.check_version()?;
        Ok(request)
    }

    fn check_version(&self) -> Result<()> {
        if self.version == DOCUMENT_VERSION {
            return Ok(());
        }
        Err(Error::new(
            ErrorKind::BadRequest,
            format!(
                "The request is of version {}, and this program knows {DOCUMENT_VERSION}; say what it knows, or use another one.",
                self.version
            ),
        ))
    }

    /// The search that it asks for.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`] if it is of another version, or if a text in it can't be read for the schema.
    pub fn prepare(&self, schema: &Schema) -> Result<Prepared> {
        self.check_version()?;
        let (query, notes) = match &self.query {
            Said::Tree(query) => (query.clone(), Vec::new()),
            Said::Text(text) if self.exacting => (Query::read_exactly(text, schema)?, Vec::new()),
            Said::Text(text) => {
                let reading = Query::read(text);
                (reading.query, reading.notes)
            }
        };
        Ok(Prepared { query, find: self.find(schema)?, notes })
    }

    /// How to search.
    fn find(&self, schema: &Schema) -> Result<Find> {
        let mut find = Find::new()
            .first_letters_right(self.first_letters)
            .beginnings(self.beginnings)
            .order(self.sort.clone())
            .total(self.total)
            .limit(self.limit)
            .skip(self.skip)
            .lengths(self.b.clone().unwrap_or_default());
        if self.strict {
            find = find.strict();
        }
        if let Some(enough) = self.enough {
            find = find.enough(enough);
        }
        if let Some(words) = self.words {
            find = find.words(words);
        }
        if let Some(records) = self.relax {
            find = find.relaxed_below(records);
        }
        if let Some(spellings) = self.near {
            find = find.spellings(spellings);
        }
        for (column, weight) in &self.weights {
            find = find.weight(column, *weight);
        }
        if let Some(columns) = &self.columns {
            find = find.columns(columns);
        }
        match &self.filter {
            Some(Said::Text(text)) => find = find.only(Filter::read(text, schema)?),
            Some(Said::Tree(filter)) => find = find.only(filter.clone()),
            None => {}
        }
        if let Some(after) = &self.after {
            find = find.after(after.clone());
        }
        if let Some(k1) = self.k1 {
            find = find.k1(k1);
        }
        if let Some(weight) = self.proximity {
            find = find.proximity(weight);
        }
        if !self.values {
            find = find.without_values();
        }
        if self.marks {
            find = find.with_marks();
        }
        if self.exact_forms {
            find = find.exact_forms();
        }
        for count in &self.counts {
            find = find.count(count.clone());
        }
        if let Some(text) = &self.expansions {
            find = find.expanding(&Arc::new(Expansions::read(text, schema)?));
        }
        if let Some(terms) = self.most_terms {
            find = find.most_terms(terms);
        }
        if let Some(postings) = self.most_postings {
            find = find.most_postings(postings);
        }
        if let Some(threads) = self.threads {
            find = find.threads(threads);
        }
        Ok(find)
    }
}

/// What a request and an answer are, as JSON Schemas (2020-12), which `docs/request.md` explains: by these whoever sends and reads them without this library can check what
/// it does. They are kept as `docs/request.schema.json` and `docs/answer.schema.json`.
#[cfg(any(test, feature = "json-schema"))]
pub fn json_schemas() -> [(&'static str, schemars::Schema); 2] {
    use schemars::transform::{RecursiveTransform, Transform};
    // What the documentation of a library says to its reader, who knows the types.
    let mut plain = RecursiveTransform(|schema: &mut schemars::Schema| {
        schema.remove("description");
    });
    [("request", schemars::schema_for!(Request)), ("answer", schemars::schema_for!(crate::search::Found))]
        .map(|(name, mut schema)| {
            plain.transform(&mut schema);
            (name, schema)
        })
}

impl From<Query> for Said<Query> {
    fn from(query: Query) -> Self {
        Self::Tree(query)
    }
}

impl From<Filter> for Said<Filter> {
    fn from(filter: Filter) -> Self {
        Self::Tree(filter)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lenient::{SuggestRequest, Suggested};
    use crate::search::Found;
    use serde_json::Value as Json;
    use std::path::Path;

    /// The schemas that are kept are those of the types; where they are not, they are written anew, and the test fails once.
    #[test]
    fn the_schemas_are_those_that_are_kept() {
        for (name, schema) in json_schemas() {
            let path = format!("{}/../../docs/{name}.schema.json", env!("CARGO_MANIFEST_DIR"));
            let made = serde_json::to_string_pretty(&schema).unwrap() + "\n";
            let kept = std::fs::read_to_string(Path::new(&path)).unwrap_or_default();
            if kept != made {
                std::fs::write(&path, made).unwrap();
                panic!("docs/{name}.schema.json was not what the types are; it is now");
            }
        }
    }

    /// What the chapter shows, and what is wrong, is so by the schemas as well as by the types.
    #[test]
    fn schemas_and_types_agree() {
        let [request, answer] =
            json_schemas().map(|(_, schema)| jsonschema::validator_for(schema.as_value()).unwrap());
        let chapter = include_str!("../../../docs/request.md");
        let mut shown = 0;
        for block in chapter.split("```json\n").skip(1) {
            let json: Json = serde_json::from_str(block.split("```").next().unwrap()).unwrap();
            if json.get("values_of").is_some() {
                assert!(serde_json::from_value::<SuggestRequest>(json.clone()).is_ok(), "{json}");
                continue;
            }
            if json.get("corrections").is_some() {
                let made = serde_json::to_value(Suggested::default()).unwrap();
                assert!(made.as_object().unwrap().keys().eq(json.as_object().unwrap().keys()), "{made}");
                continue;
            }
            let is_answer = json.get("hits").is_some();
            assert!(if is_answer { &answer } else { &request }.is_valid(&json), "{json}");
            assert!(is_answer || serde_json::from_value::<Request>(json.clone()).is_ok(), "{json}");
            shown += 1;
        }
        assert!(shown >= 2);
        let right = [
            "{}",
            r#"{"query": {"words": [{"word": "oak"}, {"in": [["title"], {"window": ["a b", 4]}]}, {"without": {"near": "elm"}}]}}"#,
            r#"{"query": "oak", "words": 2, "near": {"below": 3}, "total": {"at_least": 5}, "sort": {"by": "key"}, "weights": {"a": 1.5}}"#,
            r#"{"query": "oak", "where": {"all": [{"column": ["v", {"between": [1, 2.5]}]}, {"not": {"column": ["d", "absent"]}}]}}"#,
            r#"{"query": "oak", "where": "v > 5", "words": {"share": 0.5}, "sort": "v:down", "threads": 2, "k1": null, "b": null}"#,
        ];
        for text in right {
            let json: Json = serde_json::from_str(text).unwrap();
            assert!(
                request.is_valid(&json),
                "{text}: {:?}",
                request.validate(&json).err().map(|error| error.to_string())
            );
            let read: Request = serde_json::from_str(text).unwrap();
            assert!(request.is_valid(&serde_json::to_value(&read).unwrap()), "{text}");
        }
        let wrong = [
            r#"{"query": "oak", "colour": "red"}"#,
            r#"{"query": 7}"#,
            r#"{"query": {"wrod": "oak"}}"#,
            r#"{"query": "oak", "words": {"share": 0.5, "of": 3}}"#,
            r#"{"query": "oak", "sort": {"by": "chance"}}"#,
            r#"{"query": "oak", "where": {"column": ["value", {"near": 5}]}}"#,
            r#"{"query": "oak", "limit": -1}"#,
            r#"{"query": "oak", "threads": 0}"#,
            r#"["oak"]"#,
        ];
        for text in wrong {
            let json: Json = serde_json::from_str(text).unwrap();
            assert!(!request.is_valid(&json) && serde_json::from_value::<Request>(json).is_err(), "{text}");
        }
        let hit = |more: &str| {
            format!(
                r#"{{"version":1,"total":1,"more":false,"notes":[],"noted":[],"hits":[{{"rank":1,"key":[7,{{"bytes":"00ff"}}],
                    "score":1.5,"values":{{"title":["a","b"],"at":{{"lat":1,"lon":2}}}},"marks":{{"title":[[[0,1]],[]]}}{more}}}]}}"#
            )
        };
        for (text, fits) in [(hit(""), true), (hit(",\"colour\":1"), false)] {
            let json: Json = serde_json::from_str(&text).unwrap();
            assert_eq!(
                (answer.is_valid(&json), serde_json::from_str::<Found>(&text).is_ok()),
                (fits, fits),
                "{text}"
            );
        }
    }
}
