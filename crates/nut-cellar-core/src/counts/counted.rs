//! What came of a count.

use crate::record::Value;
use serde::{Deserialize, Serialize};

/// What was counted of a column.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct Counted {
    /// The column.
    pub of: String,
    /// The values that are listed, in the order that was asked for, each with how many records have it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub values: Vec<ValueCount>,
    /// How many records have values that could be listed, and none that is.
    pub others: u64,
    /// How many records have no value.
    pub missing: u64,
    /// What the values are like as numbers, if that was asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub statistics: Option<Statistics>,
}

/// A value, or a range of values, and how many records have it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct ValueCount {
    /// The value; of a hierarchy the path; of a period its name, such as `2031-04` or `2031-Q2`; none of a range.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value: Option<Value>,
    /// Where a range or a period begins; none if it has no beginning.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<Value>,
    /// Where it ends, without that; none if it has no end.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<Value>,
    /// How many records have it. A record with several such values counts once.
    pub records: u64,
}

/// What values are like as numbers: all values of all records that were counted.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct Statistics {
    /// How many values there are.
    pub count: u64,
    /// The least of them; none if there is none.
    pub least: Option<Value>,
    /// The greatest of them.
    pub greatest: Option<Value>,
    /// All of them together, of integers and floats; none if there are no values.
    pub sum: Option<Sum>,
    /// The sum through their number.
    pub mean: Option<f64>,
    /// Quantiles, in the order in which they were asked for: each with the least value that so large a part of the values is not above.
    pub quantiles: Vec<(f64, Value)>,
}

/// A sum. Of integers it is exact; of floats it is the exact one, rounded once, so their order does not matter.
///
/// As JSON it is a number, or a text where it has more than 64 bits or is infinite.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(try_from = "written::Sum", into = "written::Sum")]
pub enum Sum {
    /// Of integers.
    Integer(i128),
    /// Of floats.
    Float(f64),
}

impl Sum {
    /// The nearest float.
    pub fn as_float(self) -> f64 {
        match self {
            Self::Integer(sum) => sum as f64,
            Self::Float(sum) => sum,
        }
    }
}

/// The same as documents.
mod written {
    use serde::{Deserialize, Serialize};

    #[derive(Serialize, Deserialize)]
    #[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
    #[serde(untagged)]
    pub enum Sum {
        Integer(i64),
        Float(f64),
        Text(String),
    }

    impl From<super::Sum> for Sum {
        fn from(sum: super::Sum) -> Self {
            match sum {
                super::Sum::Integer(sum) => {
                    i64::try_from(sum).map_or_else(|_| Self::Text(sum.to_string()), Self::Integer)
                }
                super::Sum::Float(sum) if sum.is_finite() => Self::Float(sum),
                super::Sum::Float(sum) => Self::Text(sum.to_string()),
            }
        }
    }

    impl TryFrom<Sum> for super::Sum {
        type Error = String;

        fn try_from(sum: Sum) -> Result<Self, String> {
            match sum {
                Sum::Integer(sum) => Ok(Self::Integer(sum.into())),
                Sum::Float(sum) => Ok(Self::Float(sum)),
                Sum::Text(text) => {
                    let float = || text.parse().map(Self::Float).map_err(|_| format!("`{text}` is no sum"));
                    text.parse().map(Self::Integer).or_else(|_| float())
                }
            }
        }
    }
}
