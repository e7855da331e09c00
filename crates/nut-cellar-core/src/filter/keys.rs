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

/// An end of a run: a value, and whether its key is in the run.
type End<'v> = Option<(&'v Value, bool)>;

/// The runs of keys for which a test holds, ascending.
///
/// # Errors
/// A sentence, if no key is like that.
pub(super) fn runs(test: &Test) -> Result<Vec<KeyRun>, String> {
    let is = |value| (Some((value, true)), Some((value, true)));
    let ends: Vec<(End<'_>, End<'_>)> = match test {
        Test::Equal(value) => vec![is(value)],
        Test::In(values) => values.iter().map(is).collect(),
        Test::Below(value) => vec![(None, Some((value, false)))],
        Test::AtMost(value) => vec![(None, Some((value, true)))],
        Test::Above(value) => vec![(Some((value, false)), None)],
        Test::AtLeast(value) => vec![(Some((value, true)), None)],
        Test::Between(low, high) => vec![(Some((low, true)), Some((high, true)))],
        Test::Under(_) => return Err("Keys have no levels.".into()),
        Test::Absent => Vec::new(),
    };
    let mut runs = Vec::with_capacity(ends.len());
    for (low, high) in ends {
        for (sort, (least, greatest)) in SORTS.iter().enumerate() {
            // An end that keys of this sort can't have lets none of them through.
            let after = end(low, sort, (least, true))?;
            let up_to = end(high, sort, (greatest, false))?;
            runs.extend(after.zip(up_to));
        }
    }
    runs.sort_unstable();
    Ok(runs)
}

/// What the keys of a sort are greater than, at a lower end, or go up to; without an end, `open`. None if the end is no key of the sort.
fn end(end: End<'_>, sort: usize, (open, is_low): (&[u8], bool)) -> Result<Option<Vec<u8>>, String> {
    let Some((value, is_in)) = end else { return Ok(Some(open.to_vec())) };
    let key = match (value, sort) {
        (Value::Integer(number), 0) => Some(Key::Integer(*number)),
        (Value::Integer(_), _) => None,
        (Value::Text(text), 0) => text.trim().parse().ok().map(Key::Integer),
        (Value::Text(text), _) => Some(Key::Text(text.clone())),
        (other, _) => {
            return Err(format!("`{other}` is no key: keys that are compared are whole numbers and texts."));
        }
    };
    Ok(key.map(|key| if is_in == is_low { before(&key) } else { key.encode() }))
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
