//! The types that name records.

use super::{KeyValue, is_not};
use crate::error::Result;
use crate::record::Key;

macro_rules! integers {
    ($($integer:ty)*) => {$(
        impl KeyValue for $integer {
            fn into_key(self) -> Result<Key> {
                i64::try_from(self).map(Key::Integer).map_err(|_| is_not("a whole number of 64 bits with a sign", self))
            }

            fn from_key(key: Key) -> Result<Self> {
                let Key::Integer(number) = key else {
                    return Err(is_not("a whole number", key));
                };
                Self::try_from(number).map_err(|_| is_not(concat!("a number of type ", stringify!($integer)), number))
            }
        }
    )*};
}

integers!(i8 i16 i32 i64 isize u8 u16 u32 u64 usize);

impl KeyValue for String {
    fn into_key(self) -> Result<Key> {
        Ok(Key::Text(self))
    }

    fn from_key(key: Key) -> Result<Self> {
        match key {
            Key::Text(text) => Ok(text),
            other => Err(is_not("a text", other)),
        }
    }
}

impl KeyValue for Vec<u8> {
    fn into_key(self) -> Result<Key> {
        Ok(Key::Bytes(self))
    }

    fn from_key(key: Key) -> Result<Self> {
        match key {
            Key::Bytes(bytes) => Ok(bytes),
            other => Err(is_not("bytes", other)),
        }
    }
}

impl<const N: usize> KeyValue for [u8; N] {
    fn into_key(self) -> Result<Key> {
        Ok(Key::Bytes(self.into()))
    }

    fn from_key(key: Key) -> Result<Self> {
        let bytes = Vec::from_key(key)?;
        Self::try_from(bytes)
            .map_err(|bytes| is_not(&format!("{N} bytes"), format_args!("{} bytes", bytes.len())))
    }
}

/// Any key as it is.
impl KeyValue for Key {
    fn into_key(self) -> Result<Key> {
        Ok(self)
    }

    fn from_key(key: Key) -> Result<Self> {
        Ok(key)
    }
}

/// Several parts, in order.
impl<const N: usize> KeyValue for [Key; N] {
    fn into_key(self) -> Result<Key> {
        Ok(Key::Several(self.into()))
    }

    fn from_key(key: Key) -> Result<Self> {
        let wanted = || format!("a key of {N} parts");
        match key {
            Key::Several(parts) => {
                Self::try_from(parts).map_err(|parts| is_not(&wanted(), Key::Several(parts)))
            }
            other => Err(is_not(&wanted(), other)),
        }
    }
}
