//! What a search answers.

use crate::counts::Counted;
use crate::error::{Error, ErrorKind, Result};
use crate::lenient::{Changed, Leniency};
use crate::note::Note;
use crate::record::read::{Parts, RecordPart};
use crate::record::{Key, Value, columns, from_hex, in_kind_of};
use crate::schema::Schema;
use crate::show::Marks;
use crate::wire::Reader;
use indexmap::IndexMap;
use serde::de::DeserializeOwned;
use serde::ser::SerializeMap;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::fmt;
use std::ops::Range;
use std::str::FromStr;

/// The version of the document that a [`Found`] is as JSON, and of a [`Request`](crate::Request).
pub const DOCUMENT_VERSION: u32 = 1;

/// What a search answers.
///
/// As a document it has the [notes](Self::notes) twice: as sentences in `notes`, and as data in `noted`; and [`last`](Self::last) is
/// `next`.
///
/// ```
/// # use nut_cellar_core::Found;
/// let text = r#"{"version":1,"total":1,"more":false,"notes":[],"noted":[],
///                "hits":[{"rank":1,"key":7,"score":1.5,"values":{"title":"Walnut box"}}]}"#;
/// let found: Found = serde_json::from_str(text).unwrap();
/// assert_eq!(found.hits[0].text("title"), Some("Walnut box"));
/// ```
#[derive(Clone, Debug, Default, PartialEq, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(try_from = "Document")]
#[non_exhaustive]
pub struct Found {
    /// How many records match, whatever the limit.
    pub total: u64,
    /// Whether there may be more than that: a search asked for no more than to know that there are as many, or its patterns stand for
    /// more terms than it [looks at](crate::Find::most_terms).
    pub or_more: bool,
    /// Whether there are hits behind the last of these.
    pub more: bool,
    /// What was taken otherwise than it may have been meant.
    pub notes: Vec<Note>,
    /// How many records have all words, where the search is [lenient](crate::Find::lenient): those with fewer stand behind them.
    pub total_all_words: Option<u64>,
    /// What was taken for others as well, where the search is lenient; with its first page.
    pub changed: Vec<Changed>,
    /// What was [counted](crate::Find::count) of all that match, in the order in which it was asked for.
    pub counts: Vec<Counted>,
    /// The matches that were asked for, in order.
    pub hits: Vec<Hit>,
    /// Where the last of them stands: a search [after](crate::Find::after) it gives the next ones. None without a hit.
    pub last: Option<PagePlace>,
    /// How many microseconds it took, where somebody looked at a clock; the library looks at none.
    pub time_us: Option<f64>,
}

/// A [`Found`] as it is read from a document.
#[derive(Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
struct Document {
    version: u32,
    total: u64,
    #[serde(default)]
    or_more: bool,
    more: bool,
    #[serde(rename = "notes")]
    _sentences: Vec<String>,
    noted: Vec<Note>,
    total_all_words: Option<u64>,
    #[serde(default)]
    changed: Vec<Changed>,
    #[serde(default)]
    counts: Vec<Counted>,
    hits: Vec<Hit>,
    next: Option<PagePlace>,
    time_us: Option<f64>,
}

impl TryFrom<Document> for Found {
    type Error = Error;

    fn try_from(document: Document) -> Result<Self> {
        let Document {
            version,
            total,
            or_more,
            more,
            noted,
            total_all_words,
            changed,
            counts,
            hits,
            next,
            time_us,
            ..
        } = document;
        if version != DOCUMENT_VERSION {
            return Err(Error::new(
                ErrorKind::BadRequest,
                format!(
                    "The answer is of version {version}, and this program reads {DOCUMENT_VERSION}; use one that fits."
                ),
            ));
        }
        Ok(Self {
            total,
            or_more,
            more,
            notes: noted,
            total_all_words,
            changed,
            counts,
            hits,
            last: next,
            time_us,
        })
    }
}

impl Serialize for Found {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let Self { total, or_more, more, notes, total_all_words, changed, counts, hits, last, time_us } =
            self;
        let mut document = serializer.serialize_map(None)?;
        document.serialize_entry("version", &DOCUMENT_VERSION)?;
        document.serialize_entry("total", total)?;
        if *or_more {
            document.serialize_entry("or_more", or_more)?;
        }
        document.serialize_entry("more", more)?;
        if let Some(time_us) = time_us {
            document.serialize_entry("time_us", time_us)?;
        }
        document.serialize_entry("notes", &notes.iter().map(Note::to_string).collect::<Vec<_>>())?;
        document.serialize_entry("noted", notes)?;
        if let Some(total_all_words) = total_all_words {
            document.serialize_entry("total_all_words", total_all_words)?;
        }
        if !changed.is_empty() {
            document.serialize_entry("changed", changed)?;
        }
        if !counts.is_empty() {
            document.serialize_entry("counts", counts)?;
        }
        document.serialize_entry("hits", hits)?;
        if let Some(last) = last {
            document.serialize_entry("next", last)?;
        }
        document.end()
    }
}

impl Found {
    /// The same with notes that come before its own.
    #[must_use]
    pub fn noting(mut self, notes: impl IntoIterator<Item = Note>) -> Self {
        self.notes.splice(..0, notes);
        self
    }

    /// The same with values as the columns of a schema want them: a day that was read as a text is a day then.
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`] if a value is none of its column's kind.
    pub fn in_kinds_of(mut self, schema: &Schema) -> Result<Self> {
        for hit in &mut self.hits {
            for (name, values) in &mut hit.values {
                in_kind_of(schema, name, values)?;
            }
        }
        Ok(self)
    }
}

/// With the tag of a value there is more behind it.
const LENIENT: u8 = 1 << 7;

/// Where a hit stands in the order of its search, kept as text between two pages.
///
/// ```
/// use nut_cellar_core::{Key, search::PagePlace};
///
/// let place = PagePlace { value: None, score: 1.5, key: Key::from(7), lenient: None };
/// assert_eq!(place.to_string().parse::<PagePlace>().unwrap(), place);
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(try_from = "String", into = "String")]
pub struct PagePlace {
    /// The value that it is ordered by, if it is ordered by values and has one.
    pub value: Option<Value>,
    /// Its score.
    pub score: f32,
    /// Its key.
    pub key: Key,
    /// How the search went on, if it is [lenient](crate::Find::lenient) and not all was as it was typed.
    pub lenient: Option<Box<Leniency>>,
}

impl From<PagePlace> for String {
    fn from(place: PagePlace) -> Self {
        place.to_string()
    }
}

impl TryFrom<String> for PagePlace {
    type Error = Error;

    fn try_from(text: String) -> Result<Self> {
        text.parse()
    }
}

impl fmt::Display for PagePlace {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut bytes = self.score.to_le_bytes().to_vec();
        let (tag, value) = match &self.value {
            None => (0, None),
            Some(value) => (1 + value.tag(), Some(value)),
        };
        bytes.push(tag | if self.lenient.is_some() { LENIENT } else { 0 });
        if let Some(value) = value {
            value.pack(&mut bytes);
        }
        if let Some(leniency) = &self.lenient {
            leniency.pack(&mut bytes);
        }
        bytes.extend(self.key.encode());
        bytes.iter().try_for_each(|byte| write!(f, "{byte:02x}"))
    }
}

impl FromStr for PagePlace {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        let wrong = || Error::new(ErrorKind::BadRequest, "This is no place in an order that a search gave.");
        let bytes = from_hex(text).ok_or_else(wrong)?;
        let mut reader = Reader::new(&bytes);
        let score = reader.array().map(f32::from_le_bytes).map_err(|_| wrong())?;
        let tag = reader.u8().map_err(|_| wrong())?;
        let value = match tag & !LENIENT {
            0 => None,
            tag => {
                let kind = Value::kind_of_tag(tag - 1).ok_or_else(wrong)?;
                Some(Value::unpack(kind, &mut reader).map_err(|_| wrong())?)
            }
        };
        let lenient = match tag & LENIENT {
            0 => None,
            _ => Some(Box::new(Leniency::unpack(&mut reader).map_err(|_| wrong())?)),
        };
        let key = Key::decode(&bytes[bytes.len() - reader.left()..]).map_err(|_| wrong())?;
        Ok(Self { value, score, key, lenient })
    }
}

/// One ranked match.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct Hit {
    /// Its place among all matches, from 1.
    pub rank: usize,
    /// What names the record.
    pub key: Key,
    /// See [`rank`](crate::rank).
    pub score: f32,
    /// The kept values by column, in schema order.
    #[serde(serialize_with = "given", deserialize_with = "read")]
    #[cfg_attr(any(test, feature = "json-schema"), schemars(with = "IndexMap<String, columns::Read>"))]
    pub values: IndexMap<String, Vec<Value>>,
    /// For each text column in which something was found, for each of its values: the ranges of bytes, ascending and apart from one
    /// another. Where they were [asked for](crate::Find::with_marks).
    #[serde(default, skip_serializing_if = "IndexMap::is_empty", with = "marks")]
    #[cfg_attr(any(test, feature = "json-schema"), schemars(with = "IndexMap<String, marks::Shown>"))]
    pub marks: IndexMap<String, Vec<Vec<Range<usize>>>>,
}

impl Hit {
    /// The kept values of a column; none if it has none.
    pub fn values(&self, column: &str) -> &[Value] {
        self.values.get(column).map_or(&[], Vec::as_slice)
    }

    /// Of the value of a text column in which something was found, or of its first: the whole text with that marked.
    pub fn marked(&self, column: &str, marks: &Marks) -> String {
        let (text, matches) = self.text_with_matches(column);
        marks.mark(text, matches)
    }

    /// About so many characters of it, where the most different matches are close together, with `…` where something was left out.
    pub fn excerpt(&self, column: &str, characters: usize, marks: &Marks) -> String {
        let (text, matches) = self.text_with_matches(column);
        marks.excerpt(text, matches, characters)
    }

    /// That text, and where in it what was found stands.
    pub fn text_with_matches(&self, column: &str) -> (&str, &[Range<usize>]) {
        let marks = self.marks.get(column).map_or(&[][..], Vec::as_slice);
        let place = marks.iter().position(|ranges| !ranges.is_empty()).unwrap_or(0);
        let text = self.values(column).get(place).and_then(Value::as_text).unwrap_or_default();
        (text, marks.get(place).map_or(&[], Vec::as_slice))
    }

    /// The first value of a column as people read it; nothing if there is none.
    pub fn shown(&self, column: &str) -> String {
        self.values(column).first().map_or_else(String::new, Value::to_string)
    }

    /// The hit as anything that can be deserialised, of columns by name: one value as itself or as a list, as it is wanted. `key`,
    /// `score` and `rank` are what they are where no column has that name.
    ///
    /// ```
    /// # use nut_cellar_core::Hit;
    /// # let text = r#"{"rank":1,"key":7,"score":1.5,"values":{"title":"Walnut box","marks":["crack","rust"]}}"#;
    /// # let hit: Hit = serde_json::from_str(text).unwrap();
    /// #[derive(serde::Deserialize)]
    /// struct Item { key: i64, title: String, marks: Vec<String>, found_on: Option<String> }
    ///
    /// let item: Item = hit.read().unwrap();
    /// assert_eq!((item.key, item.title.as_str(), item.marks.len()), (7, "Walnut box", 2));
    /// assert_eq!(item.found_on, None);
    /// ```
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`] if the columns are not what it wants.
    pub fn read<T: DeserializeOwned>(&self) -> Result<T> {
        let own = [
            ("key", RecordPart::Key(&self.key)),
            ("score", RecordPart::Score(self.score)),
            ("rank", RecordPart::Rank(self.rank)),
        ];
        let own = own.into_iter().filter(|(name, _)| !self.values.contains_key(*name));
        let columns = self.values.iter().filter(|(_, values)| !values.is_empty());
        let columns = columns.map(|(name, values)| (name.as_str(), RecordPart::Values(values)));
        T::deserialize(Parts(own.chain(columns).collect())).map_err(|error| {
            Error::caused(
                ErrorKind::BadRecord,
                format!("The hit {} is not what is wanted: {error}.", self.key),
                error,
            )
        })
    }

    /// The first value of a column, if it is a text.
    pub fn text(&self, column: &str) -> Option<&str> {
        self.values(column).first()?.as_text()
    }

    /// The first value of a column, if it is a whole number.
    pub fn integer(&self, column: &str) -> Option<i64> {
        self.values(column).first()?.as_integer()
    }

    /// The first value of a column, if it is a number, whole or not.
    pub fn float(&self, column: &str) -> Option<f64> {
        self.values(column).first()?.as_float()
    }

    /// The first value of a column, if it is true or false.
    pub fn boolean(&self, column: &str) -> Option<bool> {
        self.values(column).first()?.as_boolean()
    }

    /// The first value of a column, if it is a day.
    pub fn date(&self, column: &str) -> Option<jiff::civil::Date> {
        self.values(column).first()?.as_date()
    }

    /// The first value of a column, if it is a moment.
    pub fn moment(&self, column: &str) -> Option<jiff::Timestamp> {
        self.values(column).first()?.as_moment()
    }

    /// The first value of a column, if it is a point: degrees north, and degrees east.
    pub fn point(&self, column: &str) -> Option<(f64, f64)> {
        self.values(column).first()?.as_point()
    }
}

fn given<S: Serializer>(values: &IndexMap<String, Vec<Value>>, serializer: S) -> Result<S::Ok, S::Error> {
    columns::serialize(values.iter().map(|(name, values)| (name.as_str(), values.as_slice())), serializer)
}

fn read<'de, D: Deserializer<'de>>(deserializer: D) -> Result<IndexMap<String, Vec<Value>>, D::Error> {
    columns::deserialize(deserializer).map(|columns| columns.into_iter().collect())
}

/// Ranges as pairs; of a column with one value they are not in a list of their own.
mod marks {
    use super::{IndexMap, Range};
    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    type Ranges = Vec<Range<usize>>;

    #[derive(Serialize, Deserialize)]
    #[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
    #[serde(untagged, expecting = "pairs of places, or a list of pairs for each value")]
    pub(super) enum Shown {
        One(Vec<(usize, usize)>),
        Several(Vec<Vec<(usize, usize)>>),
    }

    pub fn serialize<S: Serializer>(
        columns: &IndexMap<String, Vec<Ranges>>,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        let pairs = |ranges: &Ranges| ranges.iter().map(|range| (range.start, range.end)).collect::<Vec<_>>();
        serializer.collect_map(columns.iter().map(|(name, values)| match values.as_slice() {
            [only] => (name, Shown::One(pairs(only))),
            several => (name, Shown::Several(several.iter().map(pairs).collect())),
        }))
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(
        deserializer: D,
    ) -> Result<IndexMap<String, Vec<Ranges>>, D::Error> {
        let ranges = |pairs: Vec<(usize, usize)>| pairs.into_iter().map(|(start, end)| start..end).collect();
        let columns = IndexMap::<String, Shown>::deserialize(deserializer)?;
        let values = |shown| match shown {
            Shown::One(pairs) => vec![ranges(pairs)],
            Shown::Several(values) => values.into_iter().map(ranges).collect(),
        };
        Ok(columns.into_iter().map(|(name, shown)| (name, values(shown))).collect())
    }
}
