//! Key and values as anything that can be deserialised: a column's only value as itself or as a list of one, as it is wanted.

use super::{Key, Value};
use serde::de::value::{Error, MapDeserializer, SeqDeserializer};
use serde::de::{Deserializer, IntoDeserializer, Visitor};
use serde::forward_to_deserialize_any;

/// What is read from a record.
pub(crate) enum RecordPart<'a> {
    /// What names it.
    Key(&'a Key),
    /// What it scores.
    Score(f32),
    /// Its place among others.
    Rank(usize),
    /// The values of a column; at least one.
    Values(&'a [Value]),
}

/// The parts of a record by name. Only those are given that are asked for, where that is known.
pub(crate) struct Parts<'a>(pub Vec<(&'a str, RecordPart<'a>)>);

impl<'de> Deserializer<'de> for Parts<'_> {
    type Error = Error;

    fn deserialize_any<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Error> {
        visitor.visit_map(MapDeserializer::new(self.0.into_iter()))
    }

    fn deserialize_struct<V: Visitor<'de>>(
        self,
        _: &'static str,
        fields: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, Error> {
        let wanted = self.0.into_iter().filter(|(name, _)| fields.contains(name));
        visitor.visit_map(MapDeserializer::new(wanted))
    }

    forward_to_deserialize_any! {
        bool i8 i16 i32 i64 i128 u8 u16 u32 u64 u128 f32 f64 char str string bytes byte_buf option unit unit_struct newtype_struct
        seq tuple tuple_struct map enum identifier ignored_any
    }
}

impl IntoDeserializer<'_> for RecordPart<'_> {
    type Deserializer = Self;

    fn into_deserializer(self) -> Self {
        self
    }
}

impl<'de> Deserializer<'de> for RecordPart<'_> {
    type Error = Error;

    fn deserialize_any<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Error> {
        match self {
            Self::Score(score) => visitor.visit_f32(score),
            Self::Rank(rank) => visitor.visit_u64(rank as u64),
            Self::Key(Key::Integer(number)) | Self::Values([Value::Integer(number)]) => {
                visitor.visit_i64(*number)
            }
            Self::Key(Key::Text(text)) | Self::Values([Value::Text(text)]) => visitor.visit_str(text),
            Self::Key(Key::Bytes(bytes)) => visitor.visit_bytes(bytes),
            Self::Key(Key::Several(parts)) => {
                visitor.visit_seq(SeqDeserializer::new(parts.iter().map(RecordPart::Key)))
            }
            Self::Values([Value::Float(number)]) => visitor.visit_f64(*number),
            Self::Values([Value::Boolean(value)]) => visitor.visit_bool(*value),
            Self::Values([value @ (Value::Date(_) | Value::Moment(_))]) => {
                visitor.visit_str(&value.to_string())
            }
            Self::Values([Value::Point { lat, lon }]) => {
                visitor.visit_map(MapDeserializer::new([("lat", *lat), ("lon", *lon)].into_iter()))
            }
            Self::Values(_) => self.deserialize_seq(visitor),
        }
    }

    fn deserialize_seq<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Error> {
        match self {
            Self::Values(values) => {
                visitor.visit_seq(SeqDeserializer::new(values.chunks(1).map(RecordPart::Values)))
            }
            other => other.deserialize_any(visitor),
        }
    }

    fn deserialize_tuple<V: Visitor<'de>>(self, _: usize, visitor: V) -> Result<V::Value, Error> {
        self.deserialize_seq(visitor)
    }

    fn deserialize_option<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Error> {
        visitor.visit_some(self)
    }

    fn deserialize_newtype_struct<V: Visitor<'de>>(
        self,
        _: &'static str,
        visitor: V,
    ) -> Result<V::Value, Error> {
        visitor.visit_newtype_struct(self)
    }

    fn deserialize_enum<V: Visitor<'de>>(
        self,
        name: &'static str,
        variants: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, Error> {
        match self {
            Self::Key(Key::Text(text)) | Self::Values([Value::Text(text)]) => {
                text.as_str().into_deserializer().deserialize_enum(name, variants, visitor)
            }
            other => other.deserialize_any(visitor),
        }
    }

    forward_to_deserialize_any! {
        bool i8 i16 i32 i64 i128 u8 u16 u32 u64 u128 f32 f64 char str string bytes byte_buf unit unit_struct tuple_struct map struct
        identifier ignored_any
    }
}
