//! Values by column as a document has them: a single one as itself, none or several as a list.

use super::Value;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

#[derive(Serialize)]
#[serde(untagged)]
enum Shown<'a> {
    One(&'a Value),
    Several(&'a [Value]),
}

#[derive(Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(untagged, expecting = "a value, or a list of values")]
pub(crate) enum Read {
    One(Value),
    Several(Vec<Value>),
}

/// Columns with their values, in order.
pub(crate) fn serialize<'a, S: Serializer>(
    columns: impl IntoIterator<Item = (&'a str, &'a [Value])>,
    serializer: S,
) -> Result<S::Ok, S::Error> {
    serializer.collect_map(columns.into_iter().map(|(name, values)| match values {
        [one] => (name, Shown::One(one)),
        several => (name, Shown::Several(several)),
    }))
}

/// Columns with their values, in the order in which they stand.
pub(crate) fn deserialize<'de, D: Deserializer<'de>>(
    deserializer: D,
) -> Result<Vec<(String, Vec<Value>)>, D::Error> {
    let columns = indexmap::IndexMap::<String, Read>::deserialize(deserializer)?;
    let list = |values| match values {
        Read::One(value) => vec![value],
        Read::Several(values) => values,
    };
    Ok(columns.into_iter().map(|(name, values)| (name, list(values))).collect())
}
