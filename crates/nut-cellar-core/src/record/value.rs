//! One value of one column, and how it is read from text, shown and packed.

use crate::error::{Error, ErrorKind, Result};
use crate::schema::Kind;
use crate::wire::{Broken, Reader, put_bytes, put_signed};
use serde::de::{Error as _, MapAccess, Visitor};
use serde::ser::SerializeStruct;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::fmt;

/// One value of one column.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum Value {
    /// A text: for the kinds `text` and `exact`.
    Text(String),
    /// A signed integer of 64 bits.
    Integer(i64),
    /// A floating-point number of 64 bits.
    Float(f64),
    /// True or false.
    Boolean(bool),
    /// A day, as days since 1970-01-01.
    Date(i32),
    /// A moment, as microseconds since 1970-01-01T00:00:00Z.
    Moment(i64),
    /// A place on the globe, in degrees (WGS 84).
    Point {
        /// Degrees north, from -90 to 90.
        lat: f64,
        /// Degrees east, from -180 to 180.
        lon: f64,
    },
}

impl Value {
    /// Reads a value of a kind from text: ISO 8601 for a date, RFC 3339 for a moment, `lat,lon` for a point.
    ///
    /// ```
    /// use nut_cellar_core::{Kind, Value};
    ///
    /// let day = Value::read(Kind::Date, "2031-04-17").unwrap();
    /// assert_eq!(day.to_string(), "2031-04-17");
    /// assert!(Value::read(Kind::Integer, "a dozen").is_err());
    /// ```
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`] if the text is not a value of that kind.
    pub fn read(kind: Kind, text: &str) -> Result<Self> {
        let trimmed = text.trim();
        let value = match kind {
            Kind::Text | Kind::Exact => Some(Self::Text(text.to_owned())),
            Kind::Integer => trimmed.parse().ok().map(Self::Integer),
            Kind::Float => trimmed.parse().ok().map(Self::Float),
            Kind::Boolean => match trimmed {
                "true" | "1" => Some(Self::Boolean(true)),
                "false" | "0" => Some(Self::Boolean(false)),
                _ => None,
            },
            Kind::Date => date(trimmed),
            Kind::Moment => moment(trimmed),
            Kind::Point => trimmed.split_once(',').and_then(|(lat, lon)| {
                Some(Self::Point { lat: lat.trim().parse().ok()?, lon: lon.trim().parse().ok()? })
            }),
        };
        value.ok_or_else(|| unreadable(kind, text))?.checked()
    }

    /// The same value as `kind` wants it, where that loses nothing: an integer for a float column, a text that reads
    /// as a date for a date column, a number for a text column.
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`] if it is not a value of that kind.
    pub fn into_kind(self, kind: Kind) -> Result<Self> {
        match (kind, self) {
            (Kind::Text | Kind::Exact, value @ Self::Text(_))
            | (Kind::Integer, value @ Self::Integer(_))
            | (Kind::Float, value @ Self::Float(_))
            | (Kind::Boolean, value @ Self::Boolean(_))
            | (Kind::Date, value @ Self::Date(_))
            | (Kind::Moment, value @ Self::Moment(_))
            | (Kind::Point, value @ Self::Point { .. }) => value.checked(),
            (Kind::Float, Self::Integer(number)) => Ok(Self::Float(number as f64)),
            (Kind::Boolean, Self::Integer(number @ 0..=1)) => Ok(Self::Boolean(number == 1)),
            (Kind::Text | Kind::Exact, other) => Ok(Self::Text(other.to_string())),
            (kind, Self::Text(text)) => Self::read(kind, &text),
            (kind, other) => Err(unreadable(kind, &other.to_string())),
        }
    }

    /// Whether it is a value of this kind as it is.
    pub(crate) fn is_of(&self, kind: Kind) -> bool {
        match (kind, self) {
            (Kind::Text | Kind::Exact, Self::Text(_))
            | (Kind::Integer, Self::Integer(_))
            | (Kind::Boolean, Self::Boolean(_))
            | (Kind::Float, Self::Float(_))
            | (Kind::Date, Self::Date(_))
            | (Kind::Moment, Self::Moment(_))
            | (Kind::Point, Self::Point { .. }) => self.is_in_range(),
            _ => false,
        }
    }

    /// The text, if this is one.
    pub fn as_text(&self) -> Option<&str> {
        match self {
            Self::Text(text) => Some(text),
            _ => None,
        }
    }

    /// The whole number, if this is one.
    pub fn as_integer(&self) -> Option<i64> {
        match self {
            Self::Integer(number) => Some(*number),
            _ => None,
        }
    }

    /// The number, if this is one, whole or not.
    pub fn as_float(&self) -> Option<f64> {
        match self {
            Self::Float(number) => Some(*number),
            Self::Integer(number) => Some(*number as f64),
            _ => None,
        }
    }

    /// Whether it is true, if it is either.
    pub fn as_boolean(&self) -> Option<bool> {
        match self {
            Self::Boolean(value) => Some(*value),
            _ => None,
        }
    }

    /// The day, if this is one.
    pub fn as_date(&self) -> Option<jiff::civil::Date> {
        match self {
            Self::Date(days) => day_of(*days),
            _ => None,
        }
    }

    /// The moment, if this is one.
    pub fn as_moment(&self) -> Option<jiff::Timestamp> {
        match self {
            Self::Moment(micros) => jiff::Timestamp::from_microsecond(*micros).ok(),
            _ => None,
        }
    }

    /// Degrees north and degrees east, if this is a point.
    pub fn as_point(&self) -> Option<(f64, f64)> {
        match self {
            Self::Point { lat, lon } => Some((*lat, *lon)),
            _ => None,
        }
    }

    /// The day, if this is one; that of a moment in UTC.
    pub(crate) fn day(&self) -> Option<jiff::civil::Date> {
        match self {
            Self::Date(days) => day_of(*days),
            Self::Moment(micros) => {
                let moment = jiff::Timestamp::from_microsecond(*micros).ok()?;
                Some(jiff::tz::TimeZone::UTC.to_datetime(moment).date())
            }
            _ => None,
        }
    }

    /// A number for the kind of value that it is.
    pub(crate) fn tag(&self) -> u8 {
        match self {
            Self::Text(_) => 0,
            Self::Integer(_) => 1,
            Self::Float(_) => 2,
            Self::Boolean(_) => 3,
            Self::Date(_) => 4,
            Self::Moment(_) => 5,
            Self::Point { .. } => 6,
        }
    }

    /// The kind that [`tag`](Self::tag) numbers.
    pub(crate) fn kind_of_tag(tag: u8) -> Option<Kind> {
        let kinds =
            [Kind::Exact, Kind::Integer, Kind::Float, Kind::Boolean, Kind::Date, Kind::Moment, Kind::Point];
        kinds.get(usize::from(tag)).copied()
    }

    /// The value of a kind that a number stands for which [`number`](Self::number) gave.
    pub(crate) fn of_number(kind: Kind, number: u64) -> Option<Self> {
        const SIGN: u64 = 1 << 63;
        let signed = (number ^ SIGN).cast_signed();
        Some(match kind {
            Kind::Integer => Self::Integer(signed),
            Kind::Moment => Self::Moment(signed),
            Kind::Date => Self::Date(i32::try_from(signed).ok()?),
            Kind::Boolean => Self::Boolean(number == 1),
            Kind::Float => {
                Self::Float(f64::from_bits(if number & SIGN == 0 { !number } else { number ^ SIGN }))
            }
            Kind::Text | Kind::Exact | Kind::Point => return None,
        })
    }

    /// A number that sorts as the values of its kind do; none for texts and points.
    pub(crate) fn number(&self) -> Option<u64> {
        const SIGN: u64 = 1 << 63;
        Some(match self {
            Self::Integer(number) | Self::Moment(number) => number.cast_unsigned() ^ SIGN,
            Self::Date(days) => i64::from(*days).cast_unsigned() ^ SIGN,
            Self::Boolean(value) => u64::from(*value),
            Self::Float(number) => {
                // Zero has one number, whatever its sign. The bits of negative floats sort the other way round.
                let bits = (number + 0.0).to_bits();
                if bits & SIGN == 0 { bits | SIGN } else { !bits }
            }
            Self::Text(_) | Self::Point { .. } => return None,
        })
    }

    fn is_in_range(&self) -> bool {
        match self {
            Self::Float(number) => number.is_finite(),
            Self::Date(days) => day_of(*days).is_some(),
            Self::Moment(micros) => jiff::Timestamp::from_microsecond(*micros).is_ok(),
            Self::Point { lat, lon } => (-90.0..=90.0).contains(lat) && (-180.0..=180.0).contains(lon),
            Self::Text(_) | Self::Integer(_) | Self::Boolean(_) => true,
        }
    }

    fn checked(self) -> Result<Self> {
        if self.is_in_range() {
            return Ok(self);
        }
        Err(Error::new(
            ErrorKind::BadRecord,
            format!("`{self}` is out of range; leave the value out or mend it."),
        ))
    }

    pub(crate) fn pack(&self, out: &mut Vec<u8>) {
        match self {
            Self::Text(text) => put_bytes(out, text.as_bytes()),
            Self::Integer(number) | Self::Moment(number) => put_signed(out, *number),
            Self::Float(number) => out.extend_from_slice(&number.to_le_bytes()),
            Self::Boolean(value) => out.push(u8::from(*value)),
            Self::Date(days) => put_signed(out, i64::from(*days)),
            Self::Point { lat, lon } => {
                out.extend_from_slice(&lat.to_le_bytes());
                out.extend_from_slice(&lon.to_le_bytes());
            }
        }
    }

    pub(crate) fn unpack(kind: Kind, from: &mut Reader<'_>) -> Result<Self, Broken> {
        let float = |from: &mut Reader<'_>| from.array().map(f64::from_le_bytes);
        Ok(match kind {
            Kind::Text | Kind::Exact => {
                let text = str::from_utf8(from.bytes()?).map_err(|_| Broken("a text"))?;
                Self::Text(text.to_owned())
            }
            Kind::Integer => Self::Integer(from.signed()?),
            Kind::Float => Self::Float(float(from)?),
            Kind::Boolean => Self::Boolean(from.u8()? != 0),
            Kind::Date => Self::Date(i32::try_from(from.signed()?).map_err(|_| Broken("a date"))?),
            Kind::Moment => Self::Moment(from.signed()?),
            Kind::Point => Self::Point { lat: float(from)?, lon: float(from)? },
        })
    }
}

fn date(text: &str) -> Option<Value> {
    text.parse().ok().map(|day: jiff::civil::Date| day.into())
}

/// Days since 1970-01-01.
fn days_to(day: jiff::civil::Date) -> i32 {
    const SECONDS: i64 = 24 * 60 * 60;
    let since = day.duration_since(jiff::civil::date(1970, 1, 1));
    i32::try_from(since.as_secs() / SECONDS).unwrap_or(i32::MAX)
}

fn moment(text: &str) -> Option<Value> {
    let moment: jiff::Timestamp = text.parse().ok()?;
    Some(Value::Moment(moment.as_microsecond()))
}

fn day_of(days: i32) -> Option<jiff::civil::Date> {
    let span = jiff::Span::new().try_days(days).ok()?;
    jiff::civil::date(1970, 1, 1).checked_add(span).ok()
}

#[cold]
fn unreadable(kind: Kind, text: &str) -> Error {
    let shown: String = text.chars().take(60).collect();
    let wanted = match kind {
        Kind::Text | Kind::Exact => "a text",
        Kind::Integer => "a whole number such as 42",
        Kind::Float => "a number such as 4.2",
        Kind::Boolean => "true or false",
        Kind::Date => "a date such as 2031-04-17",
        Kind::Moment => "a moment such as 2031-04-17T08:30:00Z",
        Kind::Point => "a point such as 52.1,-0.4",
    };
    Error::new(ErrorKind::BadRecord, format!("`{shown}` is not {wanted}."))
}

impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Text(text) => f.pad(text),
            Self::Integer(number) => number.fmt(f),
            Self::Float(number) => number.fmt(f),
            Self::Boolean(value) => value.fmt(f),
            Self::Date(days) => match day_of(*days) {
                Some(day) => write!(f, "{day}"),
                None => write!(f, "day {days}"),
            },
            Self::Moment(micros) => match jiff::Timestamp::from_microsecond(*micros) {
                Ok(moment) => write!(f, "{moment}"),
                Err(_) => write!(f, "microsecond {micros}"),
            },
            Self::Point { lat, lon } => write!(f, "{lat},{lon}"),
        }
    }
}

/// Numbers and truth values as such, a point as `{"lat":…,"lon":…}`, the rest as text.
impl Serialize for Value {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            Self::Text(text) => serializer.serialize_str(text),
            Self::Integer(number) => serializer.serialize_i64(*number),
            Self::Float(number) => serializer.serialize_f64(*number),
            Self::Boolean(value) => serializer.serialize_bool(*value),
            Self::Date(_) | Self::Moment(_) => serializer.collect_str(self),
            Self::Point { lat, lon } => {
                let mut point = serializer.serialize_struct("Point", 2)?;
                point.serialize_field("lat", lat)?;
                point.serialize_field("lon", lon)?;
                point.end()
            }
        }
    }
}

/// What [`Serialize`] gives. A day and a moment come back as texts, which [`into_kind`](Value::into_kind) makes what they were.
impl<'de> Deserialize<'de> for Value {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        deserializer.deserialize_any(AnyValue)
    }
}

#[cfg(any(test, feature = "json-schema"))]
impl schemars::JsonSchema for Value {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Value".into()
    }

    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({
            "description": "A text (a day and a moment, too), a number, true or false, or a point.",
            "anyOf": [
                { "type": ["string", "number", "boolean"] },
                {
                    "type": "object",
                    "properties": {
                        "lat": { "type": "number", "minimum": -90, "maximum": 90 },
                        "lon": { "type": "number", "minimum": -180, "maximum": 180 },
                    },
                    "required": ["lat", "lon"],
                    "additionalProperties": false,
                },
            ],
        })
    }
}

struct AnyValue;

impl<'de> Visitor<'de> for AnyValue {
    type Value = Value;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a text, a number, true, false, or a point such as {\"lat\":52.1,\"lon\":-0.4}")
    }

    fn visit_str<E>(self, text: &str) -> Result<Value, E> {
        Ok(Value::Text(text.to_owned()))
    }

    fn visit_string<E>(self, text: String) -> Result<Value, E> {
        Ok(Value::Text(text))
    }

    fn visit_i64<E>(self, number: i64) -> Result<Value, E> {
        Ok(Value::Integer(number))
    }

    fn visit_u64<E: serde::de::Error>(self, number: u64) -> Result<Value, E> {
        i64::try_from(number)
            .map(Value::Integer)
            .map_err(|_| E::custom("a whole number of more than 64 bits"))
    }

    fn visit_f64<E>(self, number: f64) -> Result<Value, E> {
        Ok(Value::Float(number))
    }

    fn visit_bool<E>(self, boolean: bool) -> Result<Value, E> {
        Ok(Value::Boolean(boolean))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Value, A::Error> {
        let (mut lat, mut lon) = (None, None);
        while let Some(name) = map.next_key::<String>()? {
            match name.as_str() {
                "lat" if lat.is_none() => lat = Some(map.next_value()?),
                "lon" if lon.is_none() => lon = Some(map.next_value()?),
                _ => return Err(A::Error::unknown_field(&name, &["lat", "lon"])),
            }
        }
        match (lat, lon) {
            (Some(lat), Some(lon)) => Value::Point { lat, lon }.checked().map_err(A::Error::custom),
            _ => Err(A::Error::custom("a point has `lat` and `lon`")),
        }
    }
}

impl From<&str> for Value {
    fn from(text: &str) -> Self {
        Self::Text(text.to_owned())
    }
}

impl From<String> for Value {
    fn from(text: String) -> Self {
        Self::Text(text)
    }
}

impl From<i64> for Value {
    fn from(number: i64) -> Self {
        Self::Integer(number)
    }
}

impl From<f64> for Value {
    fn from(number: f64) -> Self {
        Self::Float(number)
    }
}

impl From<jiff::civil::Date> for Value {
    fn from(day: jiff::civil::Date) -> Self {
        Self::Date(days_to(day))
    }
}

impl From<jiff::Timestamp> for Value {
    fn from(moment: jiff::Timestamp) -> Self {
        Self::Moment(moment.as_microsecond())
    }
}

impl From<bool> for Value {
    fn from(value: bool) -> Self {
        Self::Boolean(value)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn every_kind_is_read_shown_packed_and_unpacked() {
        let cases = [
            (Kind::Text, "Ein roter Schal"),
            (Kind::Exact, "WAITING"),
            (Kind::Integer, "-42"),
            (Kind::Float, "2.5"),
            (Kind::Boolean, "true"),
            (Kind::Date, "2031-04-17"),
            (Kind::Date, "1931-12-31"),
            (Kind::Moment, "2031-04-17T08:30:00.25Z"),
            (Kind::Point, "52.5,-0.25"),
        ];
        for (kind, text) in cases {
            let value = Value::read(kind, text).unwrap();
            assert_eq!(value.to_string(), text);
            let mut packed = Vec::new();
            value.pack(&mut packed);
            assert_eq!(Value::unpack(kind, &mut Reader::new(&packed)).unwrap(), value);
            assert!(Value::unpack(kind, &mut Reader::new(&packed[..packed.len() - 1])).is_err());
        }
    }

    #[test]
    fn what_is_no_value_of_the_kind_is_refused_with_an_example() {
        for (kind, text) in [
            (Kind::Integer, "4.5"),
            (Kind::Float, "NaN"),
            (Kind::Boolean, "perhaps"),
            (Kind::Date, "17.4.2031"),
            (Kind::Moment, "2031-04-17"),
            (Kind::Point, "91,0"),
        ] {
            let error = Value::read(kind, text).unwrap_err();
            assert_eq!(error.kind(), ErrorKind::BadRecord);
            assert!(error.to_string().contains(text), "{error}");
        }
    }

    proptest! {
        #[test]
        fn numbers_sort_as_their_values_do(a: i64, b: i64, x: f64, y: f64) {
            let integer = |n| Value::Integer(n).number().unwrap();
            prop_assert_eq!(integer(a).cmp(&integer(b)), a.cmp(&b));
            let float = |x| Value::Float(x).number().unwrap();
            if let Some(order) = x.partial_cmp(&y) {
                prop_assert_eq!(float(x).cmp(&float(y)), order);
            }
            prop_assert_eq!(float(0.0), float(-0.0));
            prop_assert_eq!(Value::of_number(Kind::Integer, integer(a)), Some(Value::Integer(a)));
            if !x.is_nan() {
                prop_assert_eq!(Value::of_number(Kind::Float, float(x)), Some(Value::Float(x)));
            }
        }
    }
}
