//! Types of a program's own as records: what the derive macro `Searchable` writes, and what can be written by hand as well.
//!
//! What always holds: what a type puts into a record it takes from a hit again, texts are moved both ways and not copied, and what does
//! not fit is an error that names the column.

#[cfg(any(feature = "chrono", feature = "time"))]
mod calendars;
mod keys;
mod values;

use crate::error::{Error, ErrorKind, Result};
use crate::record::{Key, Record, Value};
use crate::schema::{Kind, Schema};
use crate::search::Hit;

/// A type whose values are records: its schema, and the way there and back.
///
/// The derive macro of the same name (crate `nut-cellar`, feature `derive`) writes this. By hand it is:
///
/// ```
/// use nut_cellar_core::{Column, Hit, Record, Result, Schema, Searchable};
///
/// struct Item {
///     id: i64,
///     title: String,
///     tags: Vec<String>,
/// }
///
/// impl Searchable for Item {
///     fn schema() -> Schema {
///         Schema::new("id").with("title", Column::text("en")).with("tags", Column::text("none"))
///     }
///     fn into_record(self) -> Result<Record> {
///         let mut record = Record::named(self.id)?;
///         record.put("title", self.title)?;
///         record.put("tags", self.tags)?;
///         Ok(record)
///     }
///     fn from_hit(mut hit: Hit) -> Result<Self> {
///         Ok(Self { id: hit.take_key()?, title: hit.take("title")?, tags: hit.take("tags")? })
///     }
/// }
/// # fn main() -> Result<()> {
/// let record = Item { id: 7, title: "Walnut box".into(), tags: vec!["brass".into()] }.into_record()?;
/// assert_eq!(record, Record::new(7).with("title", "Walnut box").with("tags", "brass"));
/// # Ok(()) }
/// ```
pub trait Searchable: Sized {
    /// The columns, and what names a record.
    fn schema() -> Schema;

    /// The record that it is.
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`] if a value does not fit, such as a number above those of 64 bits.
    fn into_record(self) -> Result<Record>;

    /// What was found, made of what the hit shows. Columns whose values are not kept, and fields that are no columns, are as they are by
    /// default.
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`] if the key or a column is not what it wants, or has no value where it needs one.
    fn from_hit(hit: Hit) -> Result<Self>;
}

/// A type that is one value of a column. For a newtype the derive macro writes it.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is no value of a column",
    note = "texts, numbers, truth values, days and moments are, `Option` and `Vec` of them, and newtypes with `#[derive(Searchable)]`",
    note = "days and moments of `chrono` and `time` take the feature of that name; `#[searchable(skip)]` leaves a field out"
)]
pub trait SingleValue: Sized {
    /// What its column is of, unless the schema says otherwise.
    const KIND: Kind;

    /// The value.
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`] if there is none for it.
    fn into_value(self) -> Result<Value>;

    /// What a value stands for.
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`] if it stands for nothing of this type.
    fn from_value(value: Value) -> Result<Self>;
}

/// A type that is the values of a column: one, with [`Option`] none or one, with [`Vec`] any number.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not what a column has",
    note = "texts, numbers, truth values, days and moments are, `Option` and `Vec` of them, and newtypes with `#[derive(Searchable)]`",
    note = "days and moments of `chrono` and `time` take the feature of that name; `#[searchable(skip)]` leaves a field out"
)]
pub trait Values: Sized {
    /// What the column is of, unless the schema says otherwise.
    const KIND: Kind;

    /// Gives the values, in order.
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`] if there is none for it.
    fn put_into(self, values: &mut Vec<Value>) -> Result<()>;

    /// What values stand for.
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`] if they stand for nothing of this type, or are too many or too few.
    fn take_from(values: Vec<Value>) -> Result<Self>;
}

/// A type that names records, alone or with others. For a newtype the derive macro writes it.
#[diagnostic::on_unimplemented(
    message = "`{Self}` can't name records",
    note = "whole numbers, texts and bytes can, and newtypes of them with `#[derive(Searchable)]`"
)]
pub trait KeyValue: Sized {
    /// The key.
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`] if there is none for it.
    fn into_key(self) -> Result<Key>;

    /// What a key stands for.
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`] if it stands for nothing of this type.
    fn from_key(key: Key) -> Result<Self>;
}

impl Record {
    /// A record without values that is named by a value of the program's.
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`] if there is no key for it.
    pub fn named(by: impl KeyValue) -> Result<Self> {
        Ok(Self::new(by.into_key().map_err(|error| error.at("the key"))?))
    }

    /// Adds the values of a column, without copying texts.
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`], with the column, if there is no value for what it is.
    pub fn put(&mut self, column: &str, values: impl Values) -> Result<()> {
        values.put_into(self.values_mut(column)).map_err(|error| error.at(format_args!("column `{column}`")))
    }
}

impl Hit {
    /// Takes what names it out of it. Its key is empty bytes afterwards.
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`] if the key stands for nothing of the type.
    pub fn take_key<K: KeyValue>(&mut self) -> Result<K> {
        K::from_key(std::mem::replace(&mut self.key, Key::Bytes(Vec::new())))
            .map_err(|error| error.at("the key"))
    }

    /// Takes the values of a column out of it, without copying texts.
    ///
    /// ```
    /// # use nut_cellar_core::Hit;
    /// # let text = r#"{"rank":1,"key":7,"score":1.5,"values":{"title":"Walnut box","tags":["crack","rust"]}}"#;
    /// # let mut hit: Hit = serde_json::from_str(text).unwrap();
    /// assert_eq!(hit.take::<Vec<String>>("tags").unwrap(), ["crack", "rust"]);
    /// assert_eq!(hit.take::<Option<i64>>("value_pence").unwrap(), None);
    /// ```
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`], with the column, if the values stand for nothing of the type.
    pub fn take<V: Values>(&mut self, column: &str) -> Result<V> {
        let values = self.values.get_mut(column).map(std::mem::take).unwrap_or_default();
        V::take_from(values).map_err(|error| error.at(format_args!("column `{column}`")))
    }
}

/// What is wrong with a value that stands for nothing of a type.
fn is_not(wanted: &str, found: impl std::fmt::Display) -> Error {
    Error::new(ErrorKind::BadRecord, format!("`{found}` is not {wanted}."))
}
