//! What the columns of a cellar are. A schema is plain data: it is kept with the cellar, and read from TOML.
//!
//! What always holds of a [`Schema`] made here: it has a key and at least one text column, every weight is a finite
//! number that is not negative, and languages stand at text columns only.

mod change;
mod column;
mod file;
mod ranking;
mod source;
mod tokens;

pub use change::Change;
pub use column::{Column, Kind};
pub use ranking::Ranking;
pub use source::{Condition, Join, Link, MOST_JOINS, Source};
pub use tokens::TracedText;

use crate::error::{Error, ErrorKind, Result};
use crate::text::{Recipe, Recipes};
use foldhash::fast::RandomState;
use indexmap::IndexMap;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// The most text columns a schema may have: one bit each in a posting.
pub const MAX_TEXT_COLUMNS: usize = 64;
/// At most so many different stemmings (language, stemmer, what becomes of accents) may read the text columns of a schema.
const MAX_STEMMINGS: usize = 127;

/// How the values that are shown are packed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum Packing {
    /// With LZ4, which is quick to pack and unpack.
    #[default]
    Quick,
    /// With Zstandard, which takes less room and more time. Needs the feature `zstd`.
    Small,
}

#[cfg(not(feature = "zstd"))]
pub(crate) const NO_ZSTD: &str =
    "`packing = \"small\"` needs the feature `zstd`; build with it, or leave `packing` out.";

/// The most columns a schema may have.
const MAX_COLUMNS: usize = 1_000;

/// The most columns that may name a record together.
pub const MOST_KEY_COLUMNS: usize = 8;

/// The columns of a cellar, in the order in which their scores add up, and where its rows come from.
///
/// ```
/// use nut_cellar_core::{Column, Kind, Schema};
///
/// let schema = Schema::new("id")
///     .with("title", Column::text("en").weighing(4.0))
///     .with("description", Column::text("en"))
///     .with("value_pence", Column::of(Kind::Integer));
/// assert_eq!(schema.text_columns().count(), 2);
/// schema.check().unwrap();
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(try_from = "Raw")]
pub struct Schema {
    key: KeyColumns,
    #[serde(skip_serializing_if = "is_quick")]
    packing: Packing,
    #[serde(rename = "column")]
    columns: IndexMap<String, Column, RandomState>,
    #[serde(skip_serializing_if = "Option::is_none")]
    source: Option<Source>,
    #[serde(skip_serializing_if = "is_usual")]
    ranking: Ranking,
}

fn is_usual(ranking: &Ranking) -> bool {
    *ranking == Ranking::default()
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "the shape that serde calls")]
fn is_quick(packing: &Packing) -> bool {
    *packing == Packing::Quick
}

/// The columns of the key.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(untagged)]
enum KeyColumns {
    One(String),
    Several(Vec<String>),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Raw {
    key: KeyColumns,
    #[serde(rename = "column")]
    columns: IndexMap<String, Column, RandomState>,
    #[serde(default)]
    packing: Packing,
    source: Option<Source>,
    #[serde(default)]
    ranking: Ranking,
}

impl TryFrom<Raw> for Schema {
    type Error = Error;

    fn try_from(raw: Raw) -> Result<Self> {
        let Raw { key, columns, packing, source, ranking } = raw;
        let schema = Self { key, packing, columns, source, ranking };
        schema.check()?;
        Ok(schema)
    }
}

impl Schema {
    /// A schema that a cellar kept, as JSON.
    pub(crate) fn from_kept(json: &[u8]) -> serde_json::Result<Self> {
        #[derive(Deserialize)]
        struct Kept {
            column: IndexMap<String, Said>,
        }
        #[derive(Deserialize)]
        struct Said {
            gap: Option<u16>,
            edition: Option<u8>,
        }
        let mut schema: Self = serde_json::from_slice(json)?;
        for (name, said) in serde_json::from_slice::<Kept>(json)?.column {
            let Some(column) = schema.columns.get_mut(&name) else { continue };
            if said.gap.is_none() {
                column.without_gap();
            }
            if said.edition.is_none() {
                column.of_first_edition();
            }
        }
        Ok(schema)
    }

    /// The schema with its columns read by the editions of a kept one: what was read so is asked so, until its records are read again.
    #[must_use]
    pub fn in_editions_of(mut self, kept: &Self) -> Self {
        for (name, column) in &mut self.columns {
            if let Some(kept) = kept.columns.get(name) {
                column.in_edition_of(kept);
            }
        }
        self
    }

    /// A schema without columns whose records are named by this column.
    pub fn new(key: impl Into<String>) -> Self {
        Self {
            key: KeyColumns::One(key.into()),
            columns: IndexMap::default(),
            packing: Packing::default(),
            source: None,
            ranking: Ranking::default(),
        }
    }

    /// The schema with one more column that names a record, together with those before.
    ///
    /// ```
    /// # use nut_cellar_core::{Column, Schema};
    /// let schema = Schema::new("depot").with_key("number").with("title", Column::text("en"));
    /// assert_eq!(schema.key_columns(), ["depot", "number"]);
    /// ```
    #[must_use]
    pub fn with_key(mut self, column: impl Into<String>) -> Self {
        let mut columns = self.key_columns().to_vec();
        columns.push(column.into());
        self.key = KeyColumns::Several(columns);
        self
    }

    /// The schema with one more column, the last in order.
    #[must_use]
    pub fn with(mut self, name: impl Into<String>, column: Column) -> Self {
        self.columns.insert(name.into(), column);
        self
    }

    /// The schema with the table that its rows come from.
    #[must_use]
    pub fn from_table(mut self, table: impl Into<String>) -> Self {
        self.source.get_or_insert_default().table = table.into();
        self
    }

    /// The schema with a view that records are read from, in the place of the table that is [named](Self::from_table): it has the
    /// table's key and the columns of the schema. [Joins](Self::joining) name the other tables that it reads.
    #[must_use]
    pub fn through_view(mut self, view: impl Into<String>) -> Self {
        self.source.get_or_insert_default().view = Some(view.into());
        self
    }

    /// The same with a query in the place of a view. It is run as it is.
    #[must_use]
    pub fn through_query(mut self, query: impl Into<String>) -> Self {
        self.source.get_or_insert_default().query = Some(query.into());
        self
    }

    /// The schema with one more table joined to that of its rows, which has to be [named](Self::from_table).
    #[must_use]
    pub fn joining(mut self, join: Join) -> Self {
        self.source.get_or_insert_default().joins.push(join);
        self
    }

    /// The schema with one more thing that rows have to be to be searched, of the table that is [named](Self::from_table).
    #[must_use]
    pub fn only(mut self, condition: Condition) -> Self {
        self.source.get_or_insert_default().conditions.push(condition);
        self
    }

    /// The schema with another way to pack the values that are shown.
    #[must_use]
    pub fn packed(mut self, packing: Packing) -> Self {
        self.packing = packing;
        self
    }

    /// The schema with another ranking for searches that say nothing of it.
    #[must_use]
    pub fn ranked(mut self, ranking: Ranking) -> Self {
        self.ranking = ranking;
        self
    }

    /// How a search is ranked that does not say otherwise.
    pub fn ranking(&self) -> &Ranking {
        &self.ranking
    }

    /// How the values that are shown are packed.
    pub fn packing(&self) -> Packing {
        self.packing
    }

    /// The columns that name a record: one, or several together.
    pub fn key_columns(&self) -> &[String] {
        match &self.key {
            KeyColumns::One(column) => std::slice::from_ref(column),
            KeyColumns::Several(columns) => columns,
        }
    }

    /// The same, in words.
    pub fn key(&self) -> String {
        self.key_columns().join("/")
    }

    /// Where the rows come from, if the schema says so.
    pub fn source(&self) -> Option<&Source> {
        self.source.as_ref()
    }

    /// All columns, in order.
    pub fn columns(&self) -> impl ExactSizeIterator<Item = (&str, &Column)> + Clone {
        self.columns.iter().map(|(name, column)| (name.as_str(), column))
    }

    /// A column by its name.
    pub fn column(&self, name: &str) -> Option<&Column> {
        self.columns.get(name)
    }

    /// The columns that words are looked for in, in order. Their places in this list are what [`ColumnSet`] names.
    pub fn text_columns(&self) -> impl Iterator<Item = (&str, &Column)> {
        self.columns().filter(|(_, column)| column.has_words())
    }

    /// The columns whose values are compared, in order, each with its place among all columns: those that are neither
    /// prose nor places on the globe.
    pub(crate) fn value_columns(&self) -> impl Iterator<Item = (usize, &Column)> {
        let columns = self.columns.values().enumerate();
        columns.filter(|(_, column)| !matches!(column.kind(), Kind::Text | Kind::Point))
    }

    /// The place of a text column among the text columns.
    pub fn text_column(&self, name: &str) -> Option<usize> {
        self.text_columns().position(|(known, _)| known == name)
    }

    /// How many different stemmings read its text columns, where they may be too many.
    fn count_stemmings(&self) -> usize {
        let settings = || self.text_columns().map(|(_, column)| column.text_settings());
        let most = settings().map(|settings| settings.languages.len() + 1).sum();
        if most <= MAX_STEMMINGS {
            return most;
        }
        let recipes: Vec<_> = settings().map(Recipes::of).collect();
        let names: BTreeSet<_> =
            recipes.iter().flat_map(|recipes| recipes.all().map(Recipe::stemming_name)).collect();
        names.len()
    }

    /// Tells whether the schema can be used. Schemas that were read from a file or a cellar have been checked.
    ///
    /// # Errors
    /// [`ErrorKind::BadSchema`] if there is no key or no text column, too many text columns, or a name is empty.
    pub fn check(&self) -> Result<()> {
        let bad = |message: String| Err(Error::new(ErrorKind::BadSchema, message));
        let columns = self.key_columns();
        if columns.len() > MOST_KEY_COLUMNS {
            return bad(format!(
                "The schema has {} key columns and at most {MOST_KEY_COLUMNS} are allowed.",
                columns.len()
            ));
        }
        if let Some(twice) =
            columns.iter().enumerate().find(|(place, column)| columns[..*place].contains(column))
        {
            return bad(format!("The column `{}` is twice among those of the key.", twice.1));
        }
        if columns.is_empty() || columns.iter().any(String::is_empty) {
            return bad("The schema names no key column; set `key` to the column that names a record.".into());
        }
        if self.columns.keys().any(String::is_empty) {
            return bad("A column of the schema has an empty name; give it one.".into());
        }
        #[cfg(not(feature = "zstd"))]
        if self.packing == Packing::Small {
            return bad(NO_ZSTD.into());
        }
        if self.columns.len() > MAX_COLUMNS {
            return bad(format!(
                "The schema has {} columns and at most {MAX_COLUMNS} are allowed.",
                self.columns.len()
            ));
        }
        if let Some(source) = &self.source {
            source.check()?;
        }
        match self.text_columns().count() {
            0 => bad("The schema has no column of kind \"text\" that is searched, so nothing could be found; add one.".into()),
            count if count > MAX_TEXT_COLUMNS => bad(format!(
                "The schema has {count} text columns and at most {MAX_TEXT_COLUMNS} are allowed."
            )),
            _ => self.columns.values().try_for_each(Column::check),
        }?;
        let stemmings = self.count_stemmings();
        if stemmings > MAX_STEMMINGS {
            return bad(format!(
                "Columns of the schema are read by {stemmings} different stemmings and at most {MAX_STEMMINGS} are allowed."
            ));
        }
        let editions = || self.text_columns().filter_map(|(_, column)| column.text_settings().edition);
        if editions().min() != editions().max() {
            return bad(
                "Columns of the schema are read by different editions; give all of them the same `edition`."
                    .into(),
            );
        }
        for (name, column) in self.text_columns() {
            let from = column.text_settings().language_from.as_ref();
            let named = from.map(|from| (from, self.column(from).map(Column::kind)));
            if let Some((from, kind)) = named
                && !matches!(kind, Some(Kind::Exact | Kind::Text))
            {
                return bad(format!(
                    "Column `{name}` takes its language from `{from}`, which has to be a column of the schema of kind \
                     \"exact\"."
                ));
            }
        }
        self.ranking.check(self)
    }
}

/// A set of text columns, by their places in [`Schema::text_columns`].
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct ColumnSet(pub(crate) u64);

impl ColumnSet {
    /// The set with one more column.
    #[must_use]
    pub fn with(self, column: usize) -> Self {
        debug_assert!(column < MAX_TEXT_COLUMNS, "a schema has at most {MAX_TEXT_COLUMNS} text columns");
        Self(self.0 | 1 << column)
    }

    /// Whether the column is in the set.
    pub fn has(self, column: usize) -> bool {
        column < MAX_TEXT_COLUMNS && self.0 >> column & 1 == 1
    }

    /// The columns that are in both sets.
    #[must_use]
    pub fn both(self, other: Self) -> Self {
        Self(self.0 & other.0)
    }

    /// The columns that are in one of the sets.
    #[must_use]
    pub fn or(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    /// Whether no column is in the set.
    pub fn is_empty(self) -> bool {
        self.0 == 0
    }

    /// The columns of the set, in schema order.
    pub fn iter(self) -> impl Iterator<Item = usize> {
        let mut rest = self.0;
        std::iter::from_fn(move || {
            let column = rest.trailing_zeros() as usize;
            (rest != 0).then(|| {
                rest &= rest - 1;
                column
            })
        })
    }
}

impl FromIterator<usize> for ColumnSet {
    fn from_iter<I: IntoIterator<Item = usize>>(columns: I) -> Self {
        columns.into_iter().fold(Self::default(), Self::with)
    }
}
