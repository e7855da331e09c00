//! Files of records: NDJSON, or CSV with a first line that names the columns. Read a record at a time, each with the
//! line it begins on.

use nut_cellar::{Error, ErrorKind, Result};
use serde_json::{Map, Value};
use std::fs::File;
use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};

/// A record as a file has it: its fields, by name.
pub type Fields = Map<String, Value>;

/// A file that is being read.
pub struct Source {
    path: PathBuf,
    lines: Lines,
}

enum Lines {
    Ndjson { reader: BufReader<File>, line: u64, text: String },
    Csv { reader: Box<csv::Reader<File>>, headings: csv::StringRecord },
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
                Lines::Csv { reader: Box::new(reader), headings }
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

    /// The next record and its line; none at the end.
    pub fn next(&mut self) -> Result<Option<(u64, Fields)>> {
        match &mut self.lines {
            Lines::Ndjson { reader, line, text } => loop {
                text.clear();
                let read = reader.read_line(text);
                *line += 1;
                match read {
                    Ok(0) => return Ok(None),
                    Ok(_) if text.trim().is_empty() => {}
                    Ok(_) => {
                        return fields(text).map(|fields| Some((*line, fields))).map_err(|m| self.wrong(&m));
                    }
                    Err(error) => {
                        let message = format!("the line can't be read as text: {error}");
                        return Err(self.wrong(&message));
                    }
                }
            },
            Lines::Csv { reader, headings } => {
                let mut record = csv::StringRecord::new();
                let more = reader.read_record(&mut record).map_err(|error| in_csv(&self.path, &error))?;
                let line = record.position().map_or(0, csv::Position::line);
                // An empty field has no value.
                let filled = headings.iter().zip(&record).filter(|(_, text)| !text.is_empty());
                let fields = filled.map(|(name, text)| (name.to_owned(), Value::from(text))).collect();
                Ok(more.then_some((line, fields)))
            }
        }
    }

    /// Whether values are texts that have to be read, as in CSV.
    pub fn is_text(&self) -> bool {
        matches!(self.lines, Lines::Csv { .. })
    }

    /// Where a line is, in words.
    pub fn at(&self, line: u64) -> String {
        format!("{}, line {line}", self.path.display())
    }

    fn wrong(&self, message: &str) -> Error {
        let line = match &self.lines {
            Lines::Ndjson { line, .. } => *line,
            Lines::Csv { .. } => 0,
        };
        Error::new(ErrorKind::BadRecord, format!("{}: {message}.", self.at(line)))
    }
}

fn fields(text: &str) -> Result<Fields, String> {
    match serde_json::from_str(text) {
        Ok(Value::Object(fields)) => Ok(fields),
        Ok(_) => Err("the line is no JSON object; give one object a line".to_owned()),
        Err(error) => {
            // The line of the error is always 1 here, and the file's line is told already.
            let said = error.to_string();
            let said = said.split(" at line ").next().unwrap_or_default();
            Err(format!("the line is no JSON object ({said} at column {})", error.column()))
        }
    }
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
