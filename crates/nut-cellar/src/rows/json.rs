//! Values that a database gives as JSON: where there are several of them, and where no setting of a session may change them.

use super::Unreadable;
use nut_cellar_core::{Column, Error, ErrorKind, Kind, Record, Result, Value};
use serde_json::Value as Json;

/// Adds the values that a JSON text stands for, those of an array or one; notes those that are not what the column is.
pub(crate) fn add(
    record: &mut Record,
    (name, column): (&str, &Column),
    json: &str,
    unreadable: &mut Unreadable,
) -> Result<()> {
    let json: Json = serde_json::from_str(json).map_err(|error| {
        Error::caused(ErrorKind::Place, format!("The database gave no JSON: {error}."), error)
    })?;
    let all = match json {
        Json::Array(all) => all,
        one => vec![one],
    };
    for json in all {
        let value = match json {
            Json::Null => continue,
            Json::Bool(boolean) => Value::Boolean(boolean),
            Json::String(text) => Value::Text(text),
            Json::Number(number) => match number.as_i64() {
                Some(integer) => Value::Integer(integer),
                None => Value::Float(number.as_f64().unwrap_or(f64::NAN)),
            },
            other => Value::Text(other.to_string()),
        };
        match as_wanted(value, column) {
            Ok(Some(value)) => record.add(name, value),
            Ok(None) => {}
            Err(error) => unreadable.note(&record.key, name, &error),
        }
    }
    Ok(())
}

/// A value as its column wants it; none where there is none, as an empty text is none for a date or a number.
pub(crate) fn as_wanted(value: Value, column: &Column) -> Result<Option<Value>> {
    match &value {
        Value::Text(text) if text.is_empty() && !matches!(column.kind(), Kind::Text | Kind::Exact) => {
            Ok(None)
        }
        _ => value.into_kind(column.kind()).map(Some),
    }
}
