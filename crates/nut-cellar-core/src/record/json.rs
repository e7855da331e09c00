//! Records of fields by name: of JSON objects, and of whatever can be serialised as one.

use super::{Key, Record, Value};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{Kind, Schema};
use foldhash::fast::RandomState;
use serde::Serialize;
use serde::de::{DeserializeSeed, Deserializer, IgnoredAny, MapAccess, Visitor};
use serde_json::{Map, Value as Json};
use std::borrow::Cow;
use std::collections::HashMap;
use std::fmt;

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
        let mut record = Self::new(0);
        record.fill(schema, |name| fields.get(name).map(Cow::Borrowed))?;
        Ok(record)
    }

    /// Makes it the record of the fields that there are, by name. What `field` owns is moved.
    fn fill<'f>(
        &mut self,
        schema: &Schema,
        mut field: impl FnMut(&str) -> Option<Cow<'f, Json>>,
    ) -> Result<()> {
        self.begin_again(match schema.key_columns() {
            [name] => key_part(name, field(name).as_deref())?,
            names => {
                names.iter().map(|name| key_part(name, field(name).as_deref())).collect::<Result<Key>>()?
            }
        });
        for (name, column) in schema.columns() {
            for source in column.sources(name) {
                let mut add = |value: Cow<'_, Json>| -> Result<()> {
                    let value = read(value, column.kind());
                    self.add(name, value.map_err(|error| error.at(format_args!("column `{name}`")))?);
                    Ok(())
                };
                match field(source) {
                    None => {}
                    Some(value) if value.is_null() => {}
                    Some(Cow::Borrowed(Json::Array(values))) => {
                        values.iter().map(Cow::Borrowed).try_for_each(add)?;
                    }
                    Some(Cow::Owned(Json::Array(values))) => {
                        values.into_iter().map(Cow::Owned).try_for_each(add)?;
                    }
                    Some(value) => add(value)?,
                }
            }
        }
        Ok(())
    }
}

/// Makes records of one JSON object after the other, for the columns of a schema, as [`Record::from_fields`] does. It has no map of each
/// object: a field costs a look-up, and the text that is for one column is moved there.
///
/// ```
/// use nut_cellar_core::{Column, FieldReader, Kind, Record, Schema};
///
/// let schema = Schema::new("id").with("title", Column::text("en")).with("found_on", Column::of(Kind::Date));
/// let (mut reader, mut record) = (FieldReader::new(&schema), Record::new(0));
/// reader.read(r#"{"id": 7, "title": "Walnut box", "drawer": 3}"#, &mut record).unwrap();
/// assert_eq!(record, Record::new(7).with("title", "Walnut box"));
/// assert!(reader.unknown().eq(["drawer"]));
/// ```
#[derive(Debug)]
pub struct FieldReader<'s> {
    schema: &'s Schema,
    /// All names of fields that came, or are for something, and the places of these fields.
    places: HashMap<String, usize, RandomState>,
    fields: Vec<Field>,
    /// How many objects were read.
    objects: u64,
}

/// What is known of a field.
#[derive(Debug, Default)]
struct Field {
    /// For how many parts of the key and columns it is.
    uses: usize,
    /// The object that had it last.
    object: u64,
    /// What it said there, if that has not been taken.
    value: Json,
}

impl<'s> FieldReader<'s> {
    /// A reader that has read nothing.
    pub fn new(schema: &'s Schema) -> Self {
        let mut reader = Self { schema, places: HashMap::default(), fields: Vec::new(), objects: 0 };
        let columns = schema.columns().flat_map(|(name, column)| column.sources(name));
        for name in schema.key_columns().iter().map(String::as_str).chain(columns) {
            let place = place_of(&mut reader.places, &mut reader.fields, name);
            reader.fields[place].uses += 1;
        }
        reader
    }

    /// Makes `record` the one of an object.
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`] if it is no JSON object, has a field twice or none for the key, or what a field says is no value of its
    /// column's kind.
    pub fn read(&mut self, object: &str, record: &mut Record) -> Result<()> {
        self.objects += 1;
        let mut reader = serde_json::Deserializer::from_str(object);
        let read = Object(self).deserialize(&mut reader).and_then(|()| reader.end());
        read.map_err(|error| {
            // The line of the error is that of the object's text, which mostly is one.
            let said = error.to_string();
            let said = said.split(" at line ").next().unwrap_or_default();
            let message = format!("this is no JSON object ({said} at column {}).", error.column());
            Error::caused(ErrorKind::BadRecord, message, error)
        })?;
        self.fill(record)
    }

    /// Makes `record` the one of a row of texts by name, as CSV has them: where the key stands, what is written like a whole number is one.
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`] if a name comes twice, there is none for the key, or a text is no value of its column's kind.
    pub fn read_texts<'t>(
        &mut self,
        row: impl IntoIterator<Item = (&'t str, &'t str)>,
        record: &mut Record,
    ) -> Result<()> {
        self.objects += 1;
        for (name, text) in row {
            let place = place_of(&mut self.places, &mut self.fields, name);
            let field = &mut self.fields[place];
            if std::mem::replace(&mut field.object, self.objects) == self.objects {
                return Err(Error::new(ErrorKind::BadRecord, format!("two fields are called `{name}`.")));
            }
            if field.uses > 0 {
                let number = text.parse::<i64>().ok().filter(|number| number.to_string() == text);
                let number = number.filter(|_| self.schema.key_columns().iter().any(|key| key == name));
                field.value = number.map_or_else(|| text.into(), Json::from);
            }
        }
        self.fill(record)
    }

    /// The names of fields that came and are for nothing in the schema.
    pub fn unknown(&self) -> impl Iterator<Item = &str> {
        let unknown = self.places.iter().filter(|(_, place)| self.fields[**place].uses == 0);
        unknown.map(|(name, _)| name.as_str())
    }

    fn fill(&mut self, record: &mut Record) -> Result<()> {
        let Self { schema, places, fields, objects } = self;
        record.fill(schema, |name| {
            let field = &mut fields[*places.get(name)?];
            (field.object == *objects).then(|| match field.uses {
                1 => Cow::Owned(field.value.take()),
                _ => Cow::Owned(field.value.clone()),
            })
        })
    }
}

/// The place of a field.
fn place_of(places: &mut HashMap<String, usize, RandomState>, fields: &mut Vec<Field>, name: &str) -> usize {
    if let Some(place) = places.get(name) {
        return *place;
    }
    places.insert(name.to_owned(), fields.len());
    fields.push(Field::default());
    fields.len() - 1
}

/// The fields of an object, into the reader.
struct Object<'r, 's>(&'r mut FieldReader<'s>);

impl<'de> DeserializeSeed<'de> for Object<'_, '_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_map(self)
    }
}

impl<'de> Visitor<'de> for Object<'_, '_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an object")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut object: A) -> Result<(), A::Error> {
        while let Some(place) = object.next_key_seed(FieldName(self.0))? {
            if self.0.fields[place].uses > 0 {
                self.0.fields[place].value = object.next_value()?;
            } else {
                object.next_value::<IgnoredAny>()?;
            }
        }
        Ok(())
    }
}

/// The name of a field, as its place.
struct FieldName<'r, 's>(&'r mut FieldReader<'s>);

impl<'de> DeserializeSeed<'de> for FieldName<'_, '_> {
    type Value = usize;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<usize, D::Error> {
        deserializer.deserialize_str(self)
    }
}

impl Visitor<'_> for FieldName<'_, '_> {
    type Value = usize;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("the name of a field")
    }

    fn visit_str<E: serde::de::Error>(self, name: &str) -> Result<usize, E> {
        let FieldReader { places, fields, objects, .. } = self.0;
        let place = place_of(places, fields, name);
        if std::mem::replace(&mut fields[place].object, *objects) == *objects {
            return Err(E::custom(format_args!("it has two fields `{name}`")));
        }
        Ok(place)
    }
}

/// What a field says of a record's key.
fn key_part(name: &str, field: Option<&Json>) -> Result<Key> {
    let wrong = |what: &str| Err(Error::new(ErrorKind::BadRecord, format!("the key `{name}` {what}.")));
    match field {
        Some(Json::String(text)) => Ok(text.as_str().into()),
        Some(Json::Number(number)) => match number.as_i64() {
            Some(number) => Ok(number.into()),
            None => wrong("is a number with a fraction, or too large; use whole numbers or texts"),
        },
        None | Some(Json::Null) => wrong("is not there; every record needs one"),
        Some(_) => wrong("is neither a number nor a text"),
    }
}

fn read(value: Cow<'_, Json>, kind: Kind) -> Result<Value> {
    let value = match &*value {
        Json::String(_) if matches!(kind, Kind::Text | Kind::Exact) => match value.into_owned() {
            Json::String(text) => Value::Text(text),
            other => Value::Text(other.to_string()),
        },
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
