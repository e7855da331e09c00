//! The identity of a record, and its one order-preserving encoding.
//!
//! What always holds: `a < b` exactly when `a.encode() < b.encode()` byte by byte, and no encoding is the beginning of
//! another, so that encodings can follow one another in a composite key without changing the order.

use crate::error::{Error, ErrorKind, Result};
use serde::de::{DeserializeSeed, Error as _, MapAccess, SeqAccess, Visitor};
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::fmt;

/// The longest encoding of a key, in bytes.
pub const MAX_KEY_BYTES: usize = 2_048;

const INTEGER: u8 = 0x10;
const TEXT: u8 = 0x20;
const BYTES: u8 = 0x30;
const SEVERAL: u8 = 0x40;
/// Ends a run of bytes; a zero byte inside is written as `ESCAPED`.
const END: [u8; 2] = [0x00, 0x00];
const ESCAPED: [u8; 2] = [0x00, 0xff];

/// What names a record. Keys have one total order: integers by value, then texts by code point, then bytes, then several
/// parts, by the first in which they differ.
///
/// ```
/// use nut_cellar_core::Key;
///
/// assert!(Key::from(-3) < Key::from(12));
/// assert!(Key::from(12) < Key::from("12"));
/// assert!(Key::from(-3).encode() < Key::from(12).encode());
/// assert_eq!(Key::decode(&Key::from("QLR-0042").encode()).unwrap(), Key::from("QLR-0042"));
/// assert!(Key::from_iter(["Elmfold".into(), 9.into()]) < Key::from_iter(["Elmfold".into(), 10.into()]));
/// ```
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Key {
    /// A signed integer of 64 bits.
    Integer(i64),
    /// A text.
    Text(String),
    /// Bytes without a meaning of their own.
    Bytes(Vec<u8>),
    /// Several parts, none of which has parts itself.
    Several(Vec<Self>),
}

impl Key {
    /// The encoding whose byte order is the order of keys. Takes 9 bytes for an integer, and for texts and bytes their
    /// length plus 3, plus one for each zero byte inside; for several parts, what they take and 2 more.
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
            Self::Several(parts) => {
                // What ends it is less than any part begins with.
                let parts = parts.iter().flat_map(Self::encode);
                [SEVERAL].into_iter().chain(parts).chain([END[0]]).collect()
            }
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
        let bad = |part: &Self| matches!(part, Self::Several(_));
        if matches!(self, Self::Several(parts) if parts.iter().any(bad)) {
            return Err(Error::new(
                ErrorKind::BadRecord,
                "A part of a key has parts itself; give them one after the other.",
            ));
        }
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
    let Some((&SEVERAL, mut rest)) = bytes.split_first() else {
        return decode_part(bytes).and_then(|(key, rest)| rest.is_empty().then_some(key));
    };
    let mut parts = Vec::new();
    while rest != [END[0]] {
        let (part, after) = decode_part(rest)?;
        parts.push(part);
        rest = after;
    }
    Some(Key::Several(parts))
}

/// The key without parts that bytes begin with, and the bytes behind it.
fn decode_part(bytes: &[u8]) -> Option<(Key, &[u8])> {
    let (&tag, rest) = bytes.split_first()?;
    match tag {
        INTEGER => {
            let (number, rest) = rest.split_first_chunk()?;
            #[expect(clippy::big_endian_bytes, reason = "the counterpart of `encode`")]
            let number = u64::from_be_bytes(*number);
            Some((Key::Integer((number ^ (1 << 63)).cast_signed()), rest))
        }
        TEXT => {
            let (text, rest) = unterminated(rest)?;
            Some((Key::Text(String::from_utf8(text).ok()?), rest))
        }
        BYTES => unterminated(rest).map(|(bytes, rest)| (Key::Bytes(bytes), rest)),
        _ => None,
    }
}

fn unterminated(bytes: &[u8]) -> Option<(Vec<u8>, &[u8])> {
    let mut out = Vec::new();
    let mut rest = bytes;
    loop {
        let (&byte, after) = rest.split_first()?;
        rest = after;
        if byte == 0 {
            let (&next, after) = rest.split_first()?;
            rest = after;
            match [byte, next] {
                END => return Some((out, rest)),
                ESCAPED => {}
                _ => return None,
            }
        }
        out.push(byte);
    }
}

impl fmt::Display for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Integer(number) => number.fmt(f),
            Self::Text(text) => f.pad(text),
            Self::Bytes(bytes) => bytes.iter().try_for_each(|byte| write!(f, "{byte:02x}")),
            Self::Several(parts) => parts.iter().enumerate().try_for_each(|(place, part)| {
                f.write_str(if place == 0 { "" } else { "/" })?;
                write!(f, "{part}")
            }),
        }
    }
}

/// An integer as a number, a text as text, bytes as `{"bytes":"00ff"}`, several parts as an array.
impl Serialize for Key {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            Self::Integer(number) => serializer.serialize_i64(*number),
            Self::Text(text) => serializer.serialize_str(text),
            Self::Bytes(_) => serializer.collect_map([("bytes", self.to_string())]),
            Self::Several(parts) => serializer.collect_seq(parts),
        }
    }
}

impl<'de> Deserialize<'de> for Key {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        deserializer.deserialize_any(AnyKey { may_have_parts: true })
    }
}

#[cfg(any(test, feature = "json-schema"))]
impl schemars::JsonSchema for Key {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Key".into()
    }

    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        let part = serde_json::json!({
            "anyOf": [
                { "type": "integer", "minimum": i64::MIN, "maximum": i64::MAX },
                { "type": "string" },
                {
                    "type": "object",
                    "properties": { "bytes": { "type": "string", "pattern": "^([0-9a-fA-F]{2})*$" } },
                    "required": ["bytes"],
                    "additionalProperties": false,
                },
            ],
        });
        schemars::json_schema!({
            "description": "A whole number, a text, bytes in hexadecimal digits, or several of these.",
            "anyOf": [part, { "type": "array", "items": part }],
        })
    }
}

struct AnyKey {
    may_have_parts: bool,
}

impl<'de> DeserializeSeed<'de> for AnyKey {
    type Value = Key;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Key, D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for AnyKey {
    type Value = Key;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a key: a whole number, a text, {\"bytes\":\"00ff\"}, or an array of such parts")
    }

    fn visit_i64<E>(self, number: i64) -> Result<Key, E> {
        Ok(Key::Integer(number))
    }

    fn visit_u64<E: serde::de::Error>(self, number: u64) -> Result<Key, E> {
        i64::try_from(number).map(Key::Integer).map_err(|_| E::custom("a whole number of more than 64 bits"))
    }

    fn visit_str<E>(self, text: &str) -> Result<Key, E> {
        Ok(Key::Text(text.to_owned()))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Key, A::Error> {
        let Some((name, digits)) = map.next_entry::<String, String>()? else {
            return Err(A::Error::missing_field("bytes"));
        };
        if name != "bytes" {
            return Err(A::Error::unknown_field(&name, &["bytes"]));
        }
        from_hex(&digits)
            .map(Key::Bytes)
            .ok_or_else(|| A::Error::custom("bytes are hexadecimal digits, two for each"))
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut parts: A) -> Result<Key, A::Error> {
        if !self.may_have_parts {
            return Err(A::Error::custom("a part of a key has no parts itself"));
        }
        let mut key = Vec::new();
        while let Some(part) = parts.next_element_seed(AnyKey { may_have_parts: false })? {
            key.push(part);
        }
        Ok(Key::Several(key))
    }
}

/// The bytes that hexadecimal digits say, two for each.
pub(crate) fn from_hex(digits: &str) -> Option<Vec<u8>> {
    let byte = |digits: &[u8]| {
        u8::from_str_radix(str::from_utf8(digits).ok()?, 16).ok().filter(|_| digits.len() == 2)
    };
    digits.as_bytes().chunks(2).map(byte).collect()
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

/// A key of several parts.
impl FromIterator<Self> for Key {
    fn from_iter<I: IntoIterator<Item = Self>>(parts: I) -> Self {
        Self::Several(parts.into_iter().collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn keys() -> impl Strategy<Value = Key> {
        prop_oneof![3 => parts(), 1 => prop::collection::vec(parts(), 0..4).prop_map(Key::Several)]
    }

    fn parts() -> impl Strategy<Value = Key> {
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
