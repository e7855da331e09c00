//! What a value of a column is compared with, and how the query language writes it behind a colon.

use super::bound::{Span, span};
use crate::record::Value;
use crate::schema::Kind;
use serde::{Deserialize, Serialize};

/// What a value of a column is compared with. A text stands for what the column's kind reads it as.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Test {
    /// It is this, or lies in it, as a day lies in a month.
    Equal(Value),
    /// It is one of these.
    In(Vec<Value>),
    /// It is less.
    Below(Value),
    /// It is this or less.
    AtMost(Value),
    /// It is greater.
    Above(Value),
    /// It is this or greater.
    AtLeast(Value),
    /// It is between these, or one of them.
    Between(Value, Value),
    /// It is this path of a hierarchy, such as `tools/hand`, or goes on behind it and a slash; for exact values.
    Under(Value),
    /// There is none.
    Absent,
}

impl Test {
    /// The values that it names.
    pub(super) fn values(&self) -> Vec<&Value> {
        match self {
            Self::Equal(value)
            | Self::Below(value)
            | Self::AtMost(value)
            | Self::Above(value)
            | Self::AtLeast(value)
            | Self::Under(value) => vec![value],
            Self::In(values) => values.iter().collect(),
            Self::Between(low, high) => vec![low, high],
            Self::Absent => Vec::new(),
        }
    }
}

/// The two sides of a range such as `5..9`, `5..` or `..9`.
pub(super) fn range(text: &str) -> Option<Test> {
    let (low, high) = text.split_once("..")?;
    Some(match (low, high) {
        ("", "") => return None,
        (low, "") => Test::AtLeast(low.into()),
        ("", high) => Test::AtMost(high.into()),
        (low, high) => Test::Between(low.into(), high.into()),
    })
}

/// Makes a test of a value.
type Make = fn(Value) -> Test;

/// What stands behind a column and a colon in a query: a value, a range, or a sign and a value.
///
/// # Errors
/// A sentence, if it is no value of the kind.
pub(crate) fn reads_as_value(kind: Kind, text: &str) -> Result<Test, String> {
    if kind == Kind::Exact {
        return Ok(Test::Equal(text.into()));
    }
    let signs: [(&str, Make); 5] = [
        (">=", Test::AtLeast),
        ("<=", Test::AtMost),
        (">", Test::Above),
        ("<", Test::Below),
        ("=", Test::Equal),
    ];
    let signed = signs.iter().find_map(|(sign, make)| Some(make(text.strip_prefix(sign)?.into())));
    let test = signed.or_else(|| range(text)).unwrap_or_else(|| Test::Equal(text.into()));
    test.values().into_iter().try_for_each(|value| span(kind, value).map(|_: Span| ()))?;
    Ok(test)
}
