//! Records of fields by name: of JSON objects, and of whatever can be serialised as one.

use super::{Key, Record, Value};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{Kind, Schema};
use serde::Serialize;
use serde_json::{Map, Value as Json};

impl Record {
    /// A record of the fields of a struct or a map, for the columns of a schema: fields that the schema does not have are left out, and a
    /// list has a value for each of its elements.
    ///
    /// ```
    /// use nut_cellar_core::{Column, Kind, Record, Schema};
    ///
    /// #[derive(serde::Serialize)]
    /// struct Item<'a> { id: u32, title: &'a str, found_on: Option<&'a str>, drawer: u8 }
    ///
    /// let schema = Schema::new("id").with("title", Column::text("en")).with("found_on", Column::of(Kind::Date));
    /// let item = Item { id: 7, title: "Walnut box", found_on: None, drawer: 3 };
    /// assert_eq!(Record::of(&item, &schema).unwrap(), Record::new(7).with("title", "Walnut box"));
    /// ```
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`] if there is no field for the key, or what a field says is no value of its column's kind.
    pub fn of(value: &impl Serialize, schema: &Schema) -> Result<Self> {
        match serde_json::to_value(value) {
            Ok(Json::Object(fields)) => Self::from_fields(&fields, schema),
            Ok(_) => {
                Err(Error::new(ErrorKind::BadRecord, "A record is made of something with named fields."))
            }
            Err(error) => Err(Error::caused(
                ErrorKind::BadRecord,
                format!("This can't become a record: {error}."),
                error,
            )),
        }
    }

    /// The same, of a JSON object.
    ///
    /// # Errors
    /// As for [`of`](Self::of).
    pub fn from_fields(fields: &Map<String, Json>, schema: &Schema) -> Result<Self> {
        let key = match schema.key_columns() {
            [name] => key_part(name, fields)?,
            names => names.iter().map(|name| key_part(name, fields)).collect::<Result<Key>>()?,
        };
        let mut record = Self::new(key);
        for (name, column) in schema.columns() {
            for value in column.sources(name).filter_map(|source| fields.get(source)) {
                let values = match value {
                    Json::Null => &[][..],
                    Json::Array(values) => values,
                    value => std::slice::from_ref(value),
                };
                for value in values {
                    let value = read(value, column.kind());
                    record.add(name, value.map_err(|error| error.at(format_args!("column `{name}`")))?);
                }
            }
        }
        Ok(record)
    }
}

/// What a field says of a record's key.
fn key_part(name: &str, fields: &Map<String, Json>) -> Result<Key> {
    let wrong = |what: &str| Err(Error::new(ErrorKind::BadRecord, format!("the key `{name}` {what}.")));
    match fields.get(name) {
        Some(Json::String(text)) => Ok(text.as_str().into()),
        Some(Json::Number(number)) => match number.as_i64() {
            Some(number) => Ok(number.into()),
            None => wrong("is a number with a fraction, or too large; use whole numbers or texts"),
        },
        None | Some(Json::Null) => wrong("is not there; every record needs one"),
        Some(_) => wrong("is neither a number nor a text"),
    }
}

fn read(value: &Json, kind: Kind) -> Result<Value> {
    let value = match value {
        Json::String(text) => return Value::read(kind, text),
        Json::Bool(value) => Value::Boolean(*value),
        Json::Number(number) => match (number.as_i64(), number.as_f64()) {
            (Some(number), _) => Value::Integer(number),
            (None, Some(number)) => Value::Float(number),
            (None, None) => Value::Text(number.to_string()),
        },
        Json::Object(point) => {
            match (point.get("lat").and_then(Json::as_f64), point.get("lon").and_then(Json::as_f64)) {
                (Some(lat), Some(lon)) => Value::Point { lat, lon },
                _ => Value::Text(value.to_string()),
            }
        }
        Json::Null | Json::Array(_) => Value::Text(value.to_string()),
    };
    value.into_kind(kind)
}
