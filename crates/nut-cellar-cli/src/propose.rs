//! Proposing a schema from the first records of a file, with what was seen of each column.

use crate::paint::{count, grouped};
use crate::source::{Fields, Source, at};
use crc32fast::Hasher;
use nut_cellar::text::TextSettings;
use nut_cellar::{Column, Error, ErrorKind, Kind, Language, Record, Result, Schema};
use serde_json::{Map, Value};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::num::NonZero;
use std::path::Path;

/// How many records are looked at.
const LOOKED_AT: usize = 1_000;
/// Texts longer than this, on average, are prose whatever they repeat.
const SHORT: usize = 24;
/// Texts longer than this, on average, say early what they are about: their first words are a column, too (decision 14).
const LONG: usize = 200;
/// How many these are.
const FIRST_WORDS: NonZero<u16> = NonZero::<u16>::MIN.saturating_add(11);
/// And what they weigh.
const FIRST_WEIGHT: f32 = 2.0;
/// Texts shorter than this, in bytes, say too little of their language, and are asked for it together, so many bytes of them.
const TOO_SHORT: usize = 64;
const TOGETHER: usize = 256;
/// How sure the detector has to be of a language, in percent, for it to count; and of each record's where there are several.
const SURE: u8 = 30;
const SURE_OF_RECORDS: u8 = 80;

/// A schema, with what was seen.
pub struct Proposal {
    pub schema: Schema,
    /// How many records were looked at.
    pub records: usize,
    /// Of the key, and of each column in the order of the schema.
    seen: Vec<String>,
}

impl Proposal {
    /// The schema as TOML, with what was seen as comments.
    pub fn to_toml(&self) -> String {
        let mut seen = self.seen.iter();
        let mut text = String::new();
        for line in self.schema.to_toml().lines() {
            if line.starts_with("key =") || line.starts_with("[column.") {
                seen.next()
                    .into_iter()
                    .flat_map(|seen| seen.lines())
                    .for_each(|line| _ = writeln!(text, "# {line}"));
            }
            _ = writeln!(text, "{line}");
        }
        text
    }
}

/// A schema for the records of a file.
pub fn schema(path: &Path, key: Option<&str>) -> Result<Proposal> {
    let mut source = Source::open(path)?;
    let mut records = Vec::new();
    while records.len() < LOOKED_AT {
        let Some((line, row)) = source.next(&mut Hasher::new())? else { break };
        records.push(row.fields().map_err(|error| error.at(at(path, line)))?);
    }
    let mut names: Vec<&str> = Vec::new();
    for name in records.iter().flat_map(Fields::keys) {
        if !names.contains(&name.as_str()) {
            names.push(name);
        }
    }
    if names.is_empty() {
        let message = format!("{}: there is no record to propose a schema from.", path.display());
        return Err(Error::new(ErrorKind::BadRecord, message));
    }
    let looked = Looked { records: &records, as_text: source.is_text() };
    let (key, of_key) = looked.key(&names, key).map_err(|error| error.at(path.display()))?;
    let (mut schema, mut seen) = (Schema::new(&key), vec![of_key]);
    for &name in names.iter().filter(|name| **name != key) {
        let values = looked.values(name);
        let (column, of_column) = looked.column(name, &values);
        let beginning = format!("{name}_beginning");
        let is_long = column.kind() == Kind::Text && length(&values) > LONG;
        seen.push(of_column);
        if is_long && !names.contains(&beginning.as_str()) {
            let words = column.clone().from_columns([name]).of_first_words(FIRST_WORDS).not_kept();
            schema = schema.with(name, column).with(beginning, words.weighing(FIRST_WEIGHT));
            seen.push(format!("how `{name}` begins, which says early what a record is about"));
        } else {
            schema = schema.with(name, column);
        }
    }
    schema.check().map_err(|error| error.at(path.display()))?;
    Ok(Proposal { schema, records: records.len(), seen })
}

/// The records that are looked at.
struct Looked<'a> {
    records: &'a [Fields],
    /// Whether values are texts that have to be read, as in CSV.
    as_text: bool,
}

impl Looked<'_> {
    /// The column that names a record, and what was seen of it: the one that was asked for, or one whose values are all there and all
    /// different, of the usual names first.
    fn key(&self, names: &[&str], asked: Option<&str>) -> Result<(String, String)> {
        let bad = |message: String| Err(Error::new(ErrorKind::BadRequest, message));
        let all = self.records.len();
        // How many records it names, and how many values they have.
        let named = |name: &str| {
            let one = |fields: &Fields| {
                fields.get(name).filter(|value| value.is_string() || value.is_i64()).map(Value::to_string)
            };
            let values: Vec<String> = self.records.iter().filter_map(one).collect();
            (values.len(), values.iter().collect::<BTreeSet<_>>().len())
        };
        let usual = |name: &str| match name.to_lowercase().as_str() {
            "id" | "key" => 0,
            "no" | "nr" | "number" | "code" | "uuid" => 1,
            name if name.ends_with("id") => 2,
            _ => 3,
        };
        let mut different: Vec<&str> =
            names.iter().copied().filter(|name| named(name) == (all, all)).collect();
        different.sort_by_key(|name| usual(name));
        let key = match (asked, different.first()) {
            (Some(asked), _) if !names.contains(&asked) => {
                return bad(format!("--key: there is no column `{asked}`; it has {}.", names.join(", ")));
            }
            (Some(asked), _) => asked,
            (None, Some(first)) => first,
            (None, None) => {
                return bad(format!(
                    "no column has a value of its own in each record; say with --key which one names a record: {}.",
                    names.join(", ")
                ));
            }
        };
        let (there, values) = named(key);
        let records = count(all as u64, "record", "records");
        let seen = match (there == all, values == there) {
            (true, true) => format!("in each of the first {records}, and no two have the same"),
            (true, false) => format!(
                "in each of the first {records}, with {}: of those with the same the last one stays",
                count(values as u64, "different value", "different values")
            ),
            (false, _) => format!(
                "in {} of the first {records}, and a record without it is refused",
                grouped(there as u64)
            ),
        };
        Ok((key.to_owned(), seen))
    }

    /// The values of a field: several for a list, none for null.
    fn values(&self, name: &str) -> Vec<&Value> {
        let single = |value| match value {
            &Value::Null => Vec::new(),
            Value::Array(values) => values.iter().collect(),
            value => vec![value],
        };
        self.records.iter().filter_map(|fields| fields.get(name)).flat_map(single).collect()
    }

    /// A column for values, and what was seen of them.
    fn column(&self, name: &str, values: &[&Value]) -> (Column, String) {
        let many = self.records.iter().any(|fields| fields.get(name).is_some_and(Value::is_array));
        let having = self
            .records
            .iter()
            .filter(|fields| fields.get(name).is_some_and(|value| !value.is_null()))
            .count();
        let few = if having < self.records.len() {
            format!(" in {} of the records", grouped(having as u64))
        } else {
            String::new()
        };
        let whole = if many { format!("{few}, several in one") } else { few };
        if values.is_empty() {
            return (Column::text("none"), "no value was seen; taken for text".to_owned());
        }
        for (kind, what) in [
            (Kind::Integer, "whole numbers"),
            (Kind::Float, "numbers"),
            (Kind::Boolean, "truth values"),
            (Kind::Point, "places: degrees north and east"),
            (Kind::Date, "days"),
            (Kind::Moment, "moments"),
        ] {
            if values.iter().all(|value| self.is_of(kind, value)) {
                let range = range(kind, values)
                    .map_or(String::new(), |(least, most)| format!(", from {least} to {most}"));
                return (Column::of(kind), format!("{what}{range}{whole}"));
            }
        }
        let texts: Vec<&str> = values.iter().filter_map(|value| value.as_str()).collect();
        let different: BTreeSet<_> = texts.iter().collect();
        let told = count(different.len() as u64, "different text", "different texts");
        if texts.len() >= 8 && different.len() * 4 <= texts.len() && length(values) <= SHORT {
            let some: Vec<&str> = different.iter().take(5).map(|text| **text).collect();
            let more = if different.len() > some.len() { ", …" } else { "" };
            return (
                Column::of(Kind::Exact),
                format!("{told}{whole}: {}{more}", some.join(", ").replace('\n', " ")),
            );
        }
        let (settings, language) = language(&texts);
        let bytes = count(length(values) as u64, "byte", "bytes");
        (Column::read_as(settings), format!("{told} of {bytes} in the mean{whole}\n{language}"))
    }

    /// Whether a value is one of a kind, as it will be loaded.
    fn is_of(&self, kind: Kind, value: &Value) -> bool {
        let fits = match (kind, value) {
            (Kind::Integer | Kind::Float, Value::String(_)) => self.as_text,
            (Kind::Boolean, Value::String(text)) => self.as_text && matches!(text.as_str(), "true" | "false"),
            (Kind::Boolean, value) => value.is_boolean(),
            (Kind::Date | Kind::Moment, value) => value.is_string(),
            (Kind::Point, value) => value.is_object() || self.as_text,
            (_, value) => value.is_number(),
        };
        let fields: Map<String, Value> =
            [("key".to_owned(), 0.into()), ("value".to_owned(), value.clone())].into_iter().collect();
        fits && Record::from_fields(&fields, &Schema::new("key").with("value", Column::of(kind))).is_ok()
    }
}

/// The bytes of texts, in the mean.
fn length(values: &[&Value]) -> usize {
    let texts = values.iter().filter_map(|value| value.as_str());
    texts.map(str::len).sum::<usize>() / values.len().max(1)
}

/// The least and the greatest of values that are in order.
fn range(kind: Kind, values: &[&Value]) -> Option<(String, String)> {
    let shown = |value: &Value| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
    let mut all: Vec<String> = values.iter().map(|value| shown(value)).collect();
    match kind {
        Kind::Integer | Kind::Float => {
            let number = |text: &String| text.parse::<f64>().unwrap_or_default();
            all.sort_by(|a, b| number(a).total_cmp(&number(b)));
        }
        Kind::Date | Kind::Moment => all.sort(),
        _ => return None,
    }
    Some((all.first()?.clone(), all.last()?.clone()))
}

/// How texts are read, by the language that most of them are taken for, and why.
fn language(texts: &[&str]) -> (TextSettings, String) {
    let is_word = |word: &&str| word.chars().filter(|letter| letter.is_alphabetic()).count() > 2;
    let words =
        texts.iter().flat_map(|text| text.split(|c: char| !c.is_alphanumeric())).filter(is_word).count();
    // How many texts are taken for each; short ones are asked together.
    let mut votes = BTreeMap::<String, usize>::new();
    let mut vote = |text: &str, voters: usize| {
        if let Some(language) = Language::detected(text, SURE).filter(|_| words * 3 >= texts.len() * 2) {
            *votes.entry(language.code().to_owned()).or_default() += voters;
        }
    };
    let (mut together, mut voters) = (String::new(), 0);
    for text in texts {
        if text.len() >= TOO_SHORT {
            vote(text, 1);
            continue;
        }
        _ = writeln!(together, "{text}");
        voters += 1;
        if together.len() >= TOGETHER {
            vote(&together, voters);
            (together, voters) = (String::new(), 0);
        }
    }
    vote(&together, voters);
    let voters = texts.len();
    let mut votes: Vec<(String, usize)> = votes.into_iter().collect();
    votes.sort_by_key(|(code, count)| (usize::MAX - count, code.clone()));
    let name = |code: &str| Language::all().find(|(known, _)| *known == code).map_or("", |(_, name)| name);
    let told: Vec<_> =
        votes.iter().map(|(code, count)| format!("{} {}", grouped(*count as u64), name(code))).collect();
    let told = if told.is_empty() { "no language".to_owned() } else { told.join(", ") };
    let said = format!("taken for: {told}, of {}", count(voters as u64, "text", "texts"));
    let settings =
        |code: &str| TextSettings { language: Language::new(code).ok(), ..TextSettings::default() };
    let others = votes.iter().skip(1).filter(|(_, count)| count * 10 >= voters);
    let languages: Vec<_> = others.filter_map(|(code, _)| Language::new(code).ok()).collect();
    match votes.first() {
        Some((code, _)) if !languages.is_empty() => {
            (TextSettings { languages, detect: Some(SURE_OF_RECORDS), ..settings(code) }, said)
        }
        Some((code, count)) if count * 2 >= voters => (settings(code), said),
        _ => (settings("none"), format!("{said}; name the `language` if they are in one")),
    }
}
