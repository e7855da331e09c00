//! Proposing a schema from the first records of a file.

use crate::source::{Fields, Source};
use crc32fast::Hasher;
use nut_cellar::{Column, Error, ErrorKind, Kind, Result, Schema};
use serde_json::Value;
use std::collections::BTreeSet;
use std::num::NonZero;
use std::path::Path;

/// How many records are looked at.
const LOOKED_AT: usize = 500;
/// Texts longer than this, on average, are prose whatever they repeat.
const SHORT: usize = 24;
/// Texts longer than this, on average, say early what they are about: their first words are a column, too (decision 14).
const LONG: usize = 200;
/// How many these are.
const FIRST_WORDS: NonZero<u16> = NonZero::<u16>::MIN.saturating_add(11);
/// And what they weigh.
const FIRST_WEIGHT: f32 = 2.0;
/// Words that hardly a sentence of English does without.
const ENGLISH: [&str; 8] = ["the", "and", "with", "of", "in", "is", "it", "to"];

/// A schema for the records of a file.
pub fn schema(path: &Path, key: Option<&str>) -> Result<Schema> {
    let mut source = Source::open(path)?;
    let mut records = Vec::new();
    while records.len() < LOOKED_AT {
        let Some((_, fields)) = source.next(&mut Hasher::new())? else { break };
        records.push(fields);
    }
    let mut names: Vec<&str> = Vec::new();
    for name in records.iter().flat_map(Fields::keys) {
        if !names.contains(&name.as_str()) {
            names.push(name);
        }
    }
    let first = names.first().ok_or_else(|| {
        Error::new(
            ErrorKind::BadRecord,
            format!("{}: there is no record to propose a schema from.", path.display()),
        )
    })?;
    let usual = ["id", "key"].into_iter().find(|usual| names.contains(usual));
    let key = key.or(usual).unwrap_or(first).to_owned();
    if !names.contains(&key.as_str()) {
        return Err(Error::new(
            ErrorKind::BadRequest,
            format!("--key: there is no column `{key}` in {}; it has {}.", path.display(), names.join(", ")),
        ));
    }
    let mut schema = Schema::new(key.clone());
    for &name in names.iter().filter(|name| **name != key) {
        let values: Vec<&Value> =
            records.iter().filter_map(|fields| fields.get(name)).flat_map(single).collect();
        let column = column(&values, source.is_text());
        let beginning = format!("{name}_beginning");
        if column.kind() == Kind::Text && length(&values) > LONG && !names.contains(&beginning.as_str()) {
            let words = column.clone().from_columns([name]).of_first_words(FIRST_WORDS).not_kept();
            schema = schema.with(name, column).with(beginning, words.weighing(FIRST_WEIGHT));
        } else {
            schema = schema.with(name, column);
        }
    }
    schema.check().map_err(|error| error.at(path.display()))?;
    Ok(schema)
}

/// The values of a field: several for a list, none for null.
fn single(value: &Value) -> Vec<&Value> {
    match value {
        Value::Null => Vec::new(),
        Value::Array(values) => values.iter().collect(),
        value => vec![value],
    }
}

/// The bytes of texts, in the mean.
fn length(values: &[&Value]) -> usize {
    let texts = values.iter().filter_map(|value| value.as_str());
    texts.map(str::len).sum::<usize>() / values.len().max(1)
}

fn column(values: &[&Value], as_text: bool) -> Column {
    let all = |fits: &dyn Fn(&Value) -> bool| !values.is_empty() && values.iter().all(|value| fits(value));
    let reads =
        |kind| move |value: &Value| value.as_str().is_some_and(|t| nut_cellar::Value::read(kind, t).is_ok());
    let number = |kind| move |value: &Value| as_text && reads(kind)(value);
    if all(&|value| value.is_i64() || number(Kind::Integer)(value)) {
        return Column::of(Kind::Integer);
    }
    if all(&|value| value.is_number() || number(Kind::Float)(value)) {
        return Column::of(Kind::Float);
    }
    if all(&Value::is_boolean) {
        return Column::of(Kind::Boolean);
    }
    if all(&Value::is_object) {
        return Column::of(Kind::Point);
    }
    if all(&reads(Kind::Date)) {
        return Column::of(Kind::Date);
    }
    if all(&reads(Kind::Moment)) {
        return Column::of(Kind::Moment);
    }
    let texts: Vec<&str> = values.iter().filter_map(|value| value.as_str()).collect();
    let different = texts.iter().collect::<BTreeSet<_>>().len();
    let length: usize = texts.iter().map(|text| text.len()).sum();
    if texts.len() >= 8 && different * 4 <= texts.len() && length <= SHORT * texts.len() {
        return Column::of(Kind::Exact);
    }
    Column::text(if is_english(&texts) { "en" } else { "none" })
}

fn is_english(texts: &[&str]) -> bool {
    let words =
        texts.iter().flat_map(|text| text.split(|c: char| !c.is_alphanumeric())).filter(|w| !w.is_empty());
    let (mut all, mut common) = (0, 0);
    for word in words {
        all += 1;
        common += usize::from(ENGLISH.contains(&&*word.to_lowercase()));
    }
    common * 25 >= all && all > 0
}
