//! Files of records: NDJSON, or CSV with a first line that names the columns. Read a record at a time, each with the
//! line it begins on.

use crc32fast::Hasher;
use nut_cellar::{Error, ErrorKind, FieldReader, Record, Result};
use serde::de::{Deserialize, Deserializer, Error as _, MapAccess, Visitor};
use serde_json::{Map, Value};
use std::collections::BTreeSet;
use std::fmt;
use std::fs::File;
use std::io::{BufRead, BufReader, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};

/// A record as a file has it: its fields, by name.
pub type Fields = Map<String, Value>;

/// A record as it stands in a file.
pub enum Row<'s> {
    /// A JSON object.
    Object(&'s str),
    /// The texts of a line, by the names in the first.
    Texts(&'s csv::StringRecord, &'s csv::StringRecord),
}

impl Row<'_> {
    /// How long it is, in bytes.
    pub fn len(&self) -> usize {
        match self {
            Self::Object(text) => text.len(),
            Self::Texts(_, texts) => texts.as_slice().len(),
        }
    }

    /// Makes `record` the one that it is.
    pub fn read(&self, reader: &mut FieldReader<'_>, record: &mut Record) -> Result<()> {
        match self {
            Self::Object(text) => reader.read(text, record),
            Self::Texts(headings, texts) => reader.read_texts(filled(headings, texts), record),
        }
    }

    /// Its fields.
    pub fn fields(&self) -> Result<Fields> {
        match self {
            Self::Object(text) => fields(text),
            Self::Texts(headings, texts) => {
                Ok(filled(headings, texts).map(|(name, text)| (name.to_owned(), Value::from(text))).collect())
            }
        }
    }
}

/// The fields that have a value: an empty one has none.
fn filled<'r>(
    headings: &'r csv::StringRecord,
    texts: &'r csv::StringRecord,
) -> impl Iterator<Item = (&'r str, &'r str)> {
    headings.iter().zip(texts).filter(|(_, text)| !text.is_empty())
}

/// A file that is being read.
pub struct Source {
    path: PathBuf,
    lines: Lines,
}

enum Lines {
    Ndjson {
        reader: BufReader<File>,
        line: u64,
        text: String,
    },
    Csv {
        reader: Box<csv::Reader<File>>,
        headings: csv::StringRecord,
        texts: csv::StringRecord,
        last: csv::Position,
    },
}

impl Source {
    /// Opens a file; its ending says what it is.
    pub fn open(path: &Path) -> Result<Self> {
        let failed = |error: std::io::Error| {
            Error::caused(ErrorKind::Place, format!("{}: opening failed: {error}.", path.display()), error)
        };
        let ending = path.extension().and_then(|ending| ending.to_str()).map(str::to_ascii_lowercase);
        let lines = match ending.as_deref() {
            Some("ndjson" | "jsonl") => {
                let reader = BufReader::new(File::open(path).map_err(failed)?);
                Lines::Ndjson { reader, line: 0, text: String::new() }
            }
            Some("csv") => {
                let mut reader = csv::Reader::from_reader(File::open(path).map_err(failed)?);
                let headings = reader.headers().map_err(|error| in_csv(path, &error))?.clone();
                let mut named = BTreeSet::new();
                if let Some(twice) = headings.iter().find(|name| !named.insert(*name)) {
                    let message = format!(
                        "{}, line 1: two columns are called `{twice}`; give each its own name.",
                        path.display()
                    );
                    return Err(Error::new(ErrorKind::BadRecord, message));
                }
                Lines::Csv {
                    reader: Box::new(reader),
                    headings,
                    texts: csv::StringRecord::new(),
                    last: csv::Position::new(),
                }
            }
            _ => {
                return Err(Error::new(
                    ErrorKind::BadRequest,
                    format!(
                        "{}: only files ending in .ndjson, .jsonl or .csv can be loaded.",
                        path.display()
                    ),
                ));
            }
        };
        Ok(Self { path: path.to_owned(), lines })
    }

    /// The next record and its line; none at the end. What the file has of it goes into a checksum.
    pub fn next(&mut self, checksum: &mut Hasher) -> Result<Option<(u64, Row<'_>)>> {
        let path = &self.path;
        match &mut self.lines {
            Lines::Ndjson { reader, line, text } => loop {
                text.clear();
                let read = reader.read_line(text);
                *line += 1;
                if *line == 1 && text.starts_with('\u{feff}') {
                    // A byte-order mark is no part of the text (RFC 8259, 8.1).
                    text.drain(..'\u{feff}'.len_utf8());
                }
                match read {
                    Ok(0) => return Ok(None),
                    Ok(_) if text.trim().is_empty() => {}
                    Ok(_) => {
                        checksum.update(text.trim_end().as_bytes());
                        checksum.update(b"\n");
                        return Ok(Some((*line, Row::Object(text))));
                    }
                    Err(error) => {
                        let message =
                            format!("{}: the line can't be read as text: {error}.", at(path, *line));
                        return Err(Error::new(ErrorKind::BadRecord, message));
                    }
                }
            },
            Lines::Csv { reader, headings, texts, last } => {
                let more = reader.read_record(texts).map_err(|error| in_csv(path, &error))?;
                if !more {
                    return ends_in_quotation(path, last)
                        .map_or(Ok(None), |message| Err(Error::new(ErrorKind::BadRecord, message)));
                }
                if let Some(position) = texts.position() {
                    last.clone_from(position);
                }
                for field in &*texts {
                    checksum.update(field.as_bytes());
                    checksum.update(b"\0");
                }
                Ok(Some((last.line(), Row::Texts(headings, texts))))
            }
        }
    }

    /// Whether values are texts that have to be read, as in CSV.
    pub fn is_text(&self) -> bool {
        matches!(self.lines, Lines::Csv { .. })
    }
}

/// Where a line is, in words.
pub fn at(path: &Path, line: u64) -> String {
    format!("{}, line {line}", path.display())
}

/// What is wrong if the last record of a CSV file, which begins at a position, ends inside a quotation: all lines behind have become a
/// part of it then.
fn ends_in_quotation(path: &Path, last: &csv::Position) -> Option<String> {
    let mut file = File::open(path).ok()?;
    file.seek(SeekFrom::Start(last.byte())).ok()?;
    let (mut quoted, mut before) = (false, b',');
    for byte in BufReader::new(file).bytes() {
        let byte = byte.ok()?;
        // Inside, a quotation mark ends the quotation; another one right behind it goes on with it (RFC 4180, 2).
        if byte == b'"' {
            quoted = if quoted { false } else { matches!(before, b',' | b'\n' | b'\r' | b'"') };
        }
        before = byte;
    }
    quoted.then(|| format!("{}, line {}: a quotation is not closed.", path.display(), last.line()))
}

/// The fields of an object, each once.
struct Once(Fields);

impl<'de> Deserialize<'de> for Once {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Object;
        impl<'de> Visitor<'de> for Object {
            type Value = Once;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("an object")
            }

            fn visit_map<A: MapAccess<'de>>(self, mut object: A) -> Result<Once, A::Error> {
                let mut fields = Fields::new();
                while let Some((name, value)) = object.next_entry::<String, Value>()? {
                    if fields.contains_key(&name) {
                        return Err(A::Error::custom(format_args!("it has two fields `{name}`")));
                    }
                    fields.insert(name, value);
                }
                Ok(Once(fields))
            }
        }
        deserializer.deserialize_map(Object)
    }
}

fn fields(text: &str) -> Result<Fields> {
    serde_json::from_str(text).map(|Once(fields)| fields).map_err(|error| {
        // The line of the error is always 1 here, and the file's line is told already.
        let said = error.to_string();
        let said = said.split(" at line ").next().unwrap_or_default();
        let message = format!("this is no JSON object ({said} at column {}).", error.column());
        Error::caused(ErrorKind::BadRecord, message, error)
    })
}

fn in_csv(path: &Path, error: &csv::Error) -> Error {
    let line = error.position().map_or(1, csv::Position::line);
    let what = match error.kind() {
        csv::ErrorKind::UnequalLengths { expected_len, len, .. } => {
            format!("there are {len} fields and the first line names {expected_len}")
        }
        csv::ErrorKind::Utf8 { .. } => "the line is not UTF-8".to_owned(),
        _ => error.to_string(),
    };
    Error::new(ErrorKind::BadRecord, format!("{}, line {line}: {what}.", path.display()))
}
