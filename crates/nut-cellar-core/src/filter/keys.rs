//! Tests of keys, as runs of their encodings.
//!
//! A key is compared with keys of its own sort: a whole number with whole numbers, a text with texts. What is written as a whole number
//! stands for that, and for the text that is written so.

use super::Test;
use crate::record::{Key, Value};
use crate::schema::Schema;

/// A run of encoded keys: greater than the first, up to the second.
pub(crate) type KeyRun = (Vec<u8>, Vec<u8>);

/// What begins the encodings of a sort of keys, less 1, and what is greater than all of that sort and less than any other.
const SORTS: [([u8; 1], [u8; 1]); 2] = [([0x0f], [0x1f]), ([0x1f], [0x2f])];

/// Whether a column is the key of a schema, by itself.
pub(crate) fn is_key(schema: &Schema, name: &str) -> bool {
    matches!(schema.key_columns(), [key] if key == name) && schema.column(name).is_none()
}

/// The runs of keys for which a test holds.
///
/// # Errors
/// A sentence, if no key is like that.
pub(super) fn runs(test: &Test) -> Result<Vec<KeyRun>, String> {
    // For each sort of keys what a value stands for.
    let sorts = |value: &Value| -> Result<[Option<Key>; 2], String> {
        match value {
            Value::Integer(number) => Ok([Some(Key::Integer(*number)), None]),
            Value::Text(text) => {
                Ok([text.trim().parse().ok().map(Key::Integer), Some(Key::Text(text.clone()))])
            }
            other => Err(format!("`{other}` is no key: keys that are compared are whole numbers and texts.")),
        }
    };
    let all =
        |low: Option<&Value>, high: Option<&Value>, run: &dyn Fn(Option<Key>, Option<Key>) -> KeyRun| {
            let [lows, highs] = [low, high].map(|value| value.map(sorts).transpose());
            let (lows, highs) = (lows?, highs?);
            let of_sort = |sort: usize| {
                let side = |side: &Option<[Option<Key>; 2]>| side.as_ref().map(|keys| keys[sort].clone());
                let (low, high) = (side(&lows), side(&highs));
                // A side that is asked for and that this sort of keys does not have lets none of them through.
                if matches!(low, Some(None)) || matches!(high, Some(None)) {
                    return None;
                }
                let (after, up_to) = run(low.flatten(), high.flatten());
                let (least, greatest) = &SORTS[sort];
                let or = |bytes: Vec<u8>, other: &[u8]| if bytes.is_empty() { other.to_vec() } else { bytes };
                Some((or(after, least), or(up_to, greatest)))
            };
            Ok((0..SORTS.len()).filter_map(of_sort).collect::<Vec<_>>())
        };
    let at = |key: Option<Key>| key.map(|key| key.encode()).unwrap_or_default();
    let before = |key: Option<Key>| key.map(|key| before(&key)).unwrap_or_default();
    match test {
        Test::Equal(value) => all(Some(value), Some(value), &|low, high| (before(low), at(high))),
        Test::In(values) => {
            let mut runs = Vec::with_capacity(values.len());
            for value in values {
                runs.extend(all(Some(value), Some(value), &|low, high| (before(low), at(high)))?);
            }
            runs.sort_unstable();
            Ok(runs)
        }
        Test::Below(value) => all(None, Some(value), &|_, high| (Vec::new(), before(high))),
        Test::AtMost(value) => all(None, Some(value), &|_, high| (Vec::new(), at(high))),
        Test::Above(value) => all(Some(value), None, &|low, _| (at(low), Vec::new())),
        Test::AtLeast(value) => all(Some(value), None, &|low, _| (before(low), Vec::new())),
        Test::Between(low, high) => all(Some(low), Some(high), &|low, high| (before(low), at(high))),
        Test::Under(_) => Err("Keys have no levels.".into()),
        Test::Absent => Ok(Vec::new()),
    }
}

/// What is less than the encoding of a key, and not less than any key before it.
fn before(key: &Key) -> Vec<u8> {
    match key {
        Key::Integer(number) => {
            number.checked_sub(1).map_or_else(|| SORTS[0].0.to_vec(), |before| Key::Integer(before).encode())
        }
        // Nothing goes on as it does and ends with less than two zero bytes.
        other => {
            let mut encoded = other.encode();
            encoded.pop();
            encoded
        }
    }
}
