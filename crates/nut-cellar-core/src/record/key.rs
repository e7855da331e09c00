//! The identity of a record, and its one order-preserving encoding.
//!
//! What always holds: `a < b` exactly when `a.encode() < b.encode()` byte by byte, and no encoding is the beginning of
//! another, so that encodings can follow one another in a composite key without changing the order.

use crate::error::{Error, ErrorKind, Result};
use serde::{Serialize, Serializer};
use std::fmt;

/// The longest encoding of a key, in bytes.
pub const MAX_KEY_BYTES: usize = 2_048;

const INTEGER: u8 = 0x10;
const TEXT: u8 = 0x20;
const BYTES: u8 = 0x30;
/// Ends a run of bytes; a zero byte inside is written as `ESCAPED`.
const END: [u8; 2] = [0x00, 0x00];
const ESCAPED: [u8; 2] = [0x00, 0xff];

/// What names a record. Keys have one total order: integers by value, then texts by code point, then bytes.
///
/// ```
/// use nut_cellar_core::Key;
///
/// assert!(Key::from(-3) < Key::from(12));
/// assert!(Key::from(12) < Key::from("12"));
/// assert!(Key::from(-3).encode() < Key::from(12).encode());
/// assert_eq!(Key::decode(&Key::from("QLR-0042").encode()).unwrap(), Key::from("QLR-0042"));
/// ```
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Key {
    /// A signed integer of 64 bits.
    Integer(i64),
    /// A text.
    Text(String),
    /// Bytes without a meaning of their own.
    Bytes(Vec<u8>),
}

impl Key {
    /// The encoding whose byte order is the order of keys. Takes 9 bytes for an integer, and for the others their
    /// length plus 3, plus one for each zero byte inside.
    pub fn encode(&self) -> Vec<u8> {
        match self {
            Self::Integer(number) => {
                let mut out = vec![INTEGER];
                #[expect(clippy::big_endian_bytes, reason = "only big-endian bytes sort as the numbers do")]
                out.extend_from_slice(&(number.cast_unsigned() ^ (1 << 63)).to_be_bytes());
                out
            }
            Self::Text(text) => terminated(TEXT, text.as_bytes()),
            Self::Bytes(bytes) => terminated(BYTES, bytes),
        }
    }

    /// Reads an encoding back.
    ///
    /// # Errors
    /// [`ErrorKind::Damaged`] if `bytes` is not exactly one encoded key.
    pub fn decode(bytes: &[u8]) -> Result<Self> {
        decode(bytes).ok_or_else(|| Error::damaged("a key can't be read"))
    }

    /// The encoding, if it is short enough to be kept.
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`] if it takes more than [`MAX_KEY_BYTES`].
    pub(crate) fn encode_checked(&self) -> Result<Vec<u8>> {
        let encoded = self.encode();
        if encoded.len() <= MAX_KEY_BYTES {
            return Ok(encoded);
        }
        Err(Error::new(
            ErrorKind::BadRecord,
            format!(
                "A key takes {} bytes and at most {MAX_KEY_BYTES} are allowed; use a shorter column as the key.",
                encoded.len()
            ),
        ))
    }
}

fn terminated(tag: u8, bytes: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(bytes.len() + 3);
    out.push(tag);
    for &byte in bytes {
        if byte == 0 {
            out.extend_from_slice(&ESCAPED);
        } else {
            out.push(byte);
        }
    }
    out.extend_from_slice(&END);
    out
}

fn decode(bytes: &[u8]) -> Option<Key> {
    let (&tag, rest) = bytes.split_first()?;
    match tag {
        INTEGER => {
            #[expect(clippy::big_endian_bytes, reason = "the counterpart of `encode`")]
            let number = u64::from_be_bytes(rest.try_into().ok()?);
            Some(Key::Integer((number ^ (1 << 63)).cast_signed()))
        }
        TEXT => Some(Key::Text(String::from_utf8(unterminated(rest)?).ok()?)),
        BYTES => Some(Key::Bytes(unterminated(rest)?)),
        _ => None,
    }
}

fn unterminated(bytes: &[u8]) -> Option<Vec<u8>> {
    let mut out = Vec::with_capacity(bytes.len());
    let mut rest = bytes.strip_suffix(&END)?;
    while let Some((&byte, after)) = rest.split_first() {
        rest = if byte == 0 { after.strip_prefix(&[ESCAPED[1]])? } else { after };
        out.push(byte);
    }
    Some(out)
}

impl fmt::Display for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Integer(number) => number.fmt(f),
            Self::Text(text) => f.pad(text),
            Self::Bytes(bytes) => bytes.iter().try_for_each(|byte| write!(f, "{byte:02x}")),
        }
    }
}

/// An integer as a number, a text as text, bytes in hexadecimal digits.
impl Serialize for Key {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            Self::Integer(number) => serializer.serialize_i64(*number),
            Self::Text(text) => serializer.serialize_str(text),
            Self::Bytes(_) => serializer.collect_str(self),
        }
    }
}

impl From<i64> for Key {
    fn from(number: i64) -> Self {
        Self::Integer(number)
    }
}

impl From<&str> for Key {
    fn from(text: &str) -> Self {
        Self::Text(text.to_owned())
    }
}

impl From<String> for Key {
    fn from(text: String) -> Self {
        Self::Text(text)
    }
}

impl From<Vec<u8>> for Key {
    fn from(bytes: Vec<u8>) -> Self {
        Self::Bytes(bytes)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn keys() -> impl Strategy<Value = Key> {
        prop_oneof![
            any::<i64>().prop_map(Key::Integer),
            (-3_i64..3).prop_map(Key::Integer),
            "[a\u{0}\u{1}é]{0,4}".prop_map(Key::Text),
            prop::collection::vec(prop_oneof![Just(0_u8), Just(1), Just(255), any::<u8>()], 0..5)
                .prop_map(Key::Bytes),
        ]
    }

    proptest! {
        #[test]
        fn the_encoding_keeps_order_and_comes_back(a in keys(), b in keys()) {
            prop_assert_eq!(a.cmp(&b), a.encode().cmp(&b.encode()));
            prop_assert_eq!(Key::decode(&a.encode()).unwrap(), a.clone());
            prop_assert!(a == b || !b.encode().starts_with(&a.encode()));
        }

        #[test]
        fn any_bytes_can_be_tried(bytes: Vec<u8>) {
            if let Ok(key) = Key::decode(&bytes) {
                prop_assert_eq!(key.encode(), bytes);
            }
        }
    }
}
