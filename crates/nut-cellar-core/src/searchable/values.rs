//! The types that are values of columns.

use super::{SingleValue, Values, is_not};
use crate::error::{Error, ErrorKind, Result};
use crate::record::Value;
use crate::schema::Kind;

impl<T: SingleValue> Values for T {
    const KIND: Kind = T::KIND;

    fn put_into(self, values: &mut Vec<Value>) -> Result<()> {
        values.push(self.into_value()?);
        Ok(())
    }

    fn take_from(mut values: Vec<Value>) -> Result<Self> {
        let one = values.pop().filter(|_| values.is_empty());
        let one = one.ok_or_else(|| match values.len() {
            0 => needs("one value and has none; take an `Option`, or ask for values"),
            _ => needs("one value and has several; take a `Vec`"),
        });
        T::from_value(one?)
    }
}

impl<T: SingleValue> Values for Option<T> {
    const KIND: Kind = T::KIND;

    fn put_into(self, values: &mut Vec<Value>) -> Result<()> {
        self.map_or(Ok(()), |value| value.put_into(values))
    }

    fn take_from(values: Vec<Value>) -> Result<Self> {
        if values.is_empty() { Ok(None) } else { T::take_from(values).map(Some) }
    }
}

impl<T: SingleValue> Values for Vec<T> {
    const KIND: Kind = T::KIND;

    fn put_into(self, values: &mut Vec<Value>) -> Result<()> {
        self.into_iter().try_for_each(|value| value.put_into(values))
    }

    fn take_from(values: Vec<Value>) -> Result<Self> {
        values.into_iter().map(T::from_value).collect()
    }
}

fn needs(what: &str) -> Error {
    Error::new(ErrorKind::BadRecord, format!("It needs {what}."))
}

impl SingleValue for String {
    const KIND: Kind = Kind::Text;

    fn into_value(self) -> Result<Value> {
        Ok(Value::Text(self))
    }

    fn from_value(value: Value) -> Result<Self> {
        match value {
            Value::Text(text) => Ok(text),
            other => Err(is_not("a text", other)),
        }
    }
}

impl SingleValue for Box<str> {
    const KIND: Kind = Kind::Text;

    fn into_value(self) -> Result<Value> {
        self.into_string().into_value()
    }

    fn from_value(value: Value) -> Result<Self> {
        String::from_value(value).map(String::into_boxed_str)
    }
}

/// Whole numbers, as far as they have 64 bits and a sign.
macro_rules! integers {
    ($($integer:ty)*) => {$(
        impl SingleValue for $integer {
            const KIND: Kind = Kind::Integer;

            fn into_value(self) -> Result<Value> {
                i64::try_from(self).map(Value::Integer).map_err(|_| is_not("a whole number of 64 bits with a sign", self))
            }

            fn from_value(value: Value) -> Result<Self> {
                let number = value.as_integer().and_then(|number| Self::try_from(number).ok());
                number.ok_or_else(|| is_not(concat!("a number of type ", stringify!($integer)), value))
            }
        }
    )*};
}

integers!(i8 i16 i32 i64 isize u8 u16 u32 u64 usize);

impl SingleValue for f64 {
    const KIND: Kind = Kind::Float;

    fn into_value(self) -> Result<Value> {
        Ok(Value::Float(self))
    }

    fn from_value(value: Value) -> Result<Self> {
        value.as_float().ok_or_else(|| is_not("a number", value))
    }
}

impl SingleValue for f32 {
    const KIND: Kind = Kind::Float;

    fn into_value(self) -> Result<Value> {
        f64::from(self).into_value()
    }

    #[expect(clippy::cast_possible_truncation, reason = "it was one of these before")]
    fn from_value(value: Value) -> Result<Self> {
        f64::from_value(value).map(|number| number as Self)
    }
}

impl SingleValue for bool {
    const KIND: Kind = Kind::Boolean;

    fn into_value(self) -> Result<Value> {
        Ok(Value::Boolean(self))
    }

    fn from_value(value: Value) -> Result<Self> {
        value.as_boolean().ok_or_else(|| is_not("true or false", value))
    }
}

impl SingleValue for jiff::civil::Date {
    const KIND: Kind = Kind::Date;

    fn into_value(self) -> Result<Value> {
        Ok(self.into())
    }

    fn from_value(value: Value) -> Result<Self> {
        value.as_date().ok_or_else(|| is_not("a day", value))
    }
}

/// To the microsecond.
impl SingleValue for jiff::Timestamp {
    const KIND: Kind = Kind::Moment;

    fn into_value(self) -> Result<Value> {
        Ok(self.into())
    }

    fn from_value(value: Value) -> Result<Self> {
        value.as_moment().ok_or_else(|| is_not("a moment", value))
    }
}

/// A place on the globe: degrees north, and degrees east.
impl SingleValue for (f64, f64) {
    const KIND: Kind = Kind::Point;

    fn into_value(self) -> Result<Value> {
        Ok(Value::Point { lat: self.0, lon: self.1 })
    }

    fn from_value(value: Value) -> Result<Self> {
        value.as_point().ok_or_else(|| is_not("a place on the globe", value))
    }
}

/// The value as it is, of any kind; its column is of text unless the schema says otherwise.
impl SingleValue for Value {
    const KIND: Kind = Kind::Text;

    fn into_value(self) -> Result<Value> {
        Ok(self)
    }

    fn from_value(value: Value) -> Result<Self> {
        Ok(value)
    }
}
