//! Filters: which records a search may find at all, by the values of their columns. They are built by method calls, or read
//! from a small language close to SQL's habits (see `docs/query-language.md`). A filter changes no score.
//!
//! ```text
//! found_on >= 2031-04 and station in ('Elmfold', 'Quill Halt') and not (value < 100 or claimed_on is absent)
//! ```
//!
//! A comparison holds for a record if it holds for one of its values, so it never holds for a record without a value;
//! `!=` and `not` are the opposite of what they stand before, for every record.

mod bound;
mod keys;
mod print;
mod read;
mod test;

pub(crate) use bound::{Bound, behind, bind, bind_test, column};
pub(crate) use keys::KeyRun;
pub(crate) use read::{Placed, Token, tokens};
pub use test::Test;
pub(crate) use test::reads_as_value;

use crate::record::Value;
use serde::{Deserialize, Serialize};

/// Which records a search may find, by their values.
///
/// ```
/// use nut_cellar_core::{Column, Filter, Kind, Schema};
///
/// let schema = Schema::new("id")
///     .with("title", Column::text("en"))
///     .with("station", Column::of(Kind::Exact))
///     .with("found_on", Column::of(Kind::Date));
/// let built = Filter::is_in("station", ["Elmfold", "Quill Halt"]).and(Filter::at_least("found_on", "2031-04"));
/// let read = Filter::read("station in ('Elmfold', 'Quill Halt') and found_on >= 2031-04", &schema).unwrap();
/// assert_eq!(read, built);
/// assert_eq!(Filter::read(&built.to_string(), &schema).unwrap(), built);
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Filter {
    /// What a value of a column is compared with.
    Column(String, Test),
    /// All of these.
    All(Vec<Filter>),
    /// One of these, or more.
    Any(Vec<Filter>),
    /// Everything but this.
    Not(Box<Filter>),
}

impl Filter {
    /// The value is this. A date as text may be a year, a month or a day: then it lies in it.
    pub fn equal(column: impl Into<String>, value: impl Into<Value>) -> Self {
        Self::Column(column.into(), Test::Equal(value.into()))
    }

    /// The value is one of these.
    pub fn is_in<V: Into<Value>>(column: impl Into<String>, values: impl IntoIterator<Item = V>) -> Self {
        Self::Column(column.into(), Test::In(values.into_iter().map(Into::into).collect()))
    }

    /// The value is less than this.
    pub fn below(column: impl Into<String>, value: impl Into<Value>) -> Self {
        Self::Column(column.into(), Test::Below(value.into()))
    }

    /// The value is this or less.
    pub fn at_most(column: impl Into<String>, value: impl Into<Value>) -> Self {
        Self::Column(column.into(), Test::AtMost(value.into()))
    }

    /// The value is greater than this.
    pub fn above(column: impl Into<String>, value: impl Into<Value>) -> Self {
        Self::Column(column.into(), Test::Above(value.into()))
    }

    /// The value is this or greater.
    pub fn at_least(column: impl Into<String>, value: impl Into<Value>) -> Self {
        Self::Column(column.into(), Test::AtLeast(value.into()))
    }

    /// The value is between these, or one of them.
    pub fn between<V: Into<Value>>(column: impl Into<String>, low: V, high: V) -> Self {
        Self::Column(column.into(), Test::Between(low.into(), high.into()))
    }

    /// The value is this path of a hierarchy, such as `tools/hand`, or goes on behind it and a slash, as `tools/hand/saws` does.
    pub fn under(column: impl Into<String>, path: impl Into<String>) -> Self {
        Self::Column(column.into(), Test::Under(Value::Text(path.into())))
    }

    /// There is no value.
    pub fn absent(column: impl Into<String>) -> Self {
        Self::Column(column.into(), Test::Absent)
    }

    /// This and the other.
    #[must_use]
    pub fn and(self, other: Self) -> Self {
        match self {
            Self::All(mut parts) => {
                parts.push(other);
                Self::All(parts)
            }
            this => Self::All(vec![this, other]),
        }
    }

    /// This or the other, or both.
    #[must_use]
    pub fn or(self, other: Self) -> Self {
        match self {
            Self::Any(mut parts) => {
                parts.push(other);
                Self::Any(parts)
            }
            this => Self::Any(vec![this, other]),
        }
    }

    /// The same without what it asks of a column, as far as that is asked for beside the rest: whole parts, joined by `and`, that name no
    /// other column. None if nothing is left.
    pub(crate) fn without(&self, column: &str) -> Option<Self> {
        if self.is_of(column) {
            return None;
        }
        let Self::All(parts) = self else { return Some(self.clone()) };
        let parts: Vec<_> = parts.iter().filter_map(|part| part.without(column)).collect();
        if parts.is_empty() { None } else { Some(Self::All(parts)) }
    }

    /// Whether it names this column and no other.
    fn is_of(&self, column: &str) -> bool {
        match self {
            Self::Column(name, _) => name == column,
            Self::All(parts) | Self::Any(parts) => {
                !parts.is_empty() && parts.iter().all(|part| part.is_of(column))
            }
            Self::Not(part) => part.is_of(column),
        }
    }

    /// Everything but this.
    #[must_use]
    #[expect(
        clippy::should_implement_trait,
        reason = "`not` is the word of the language, beside `and` and `or`"
    )]
    pub fn not(self) -> Self {
        Self::Not(Box::new(self))
    }
}
