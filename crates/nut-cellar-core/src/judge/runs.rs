//! What searches found, in TREC's form: `query Q0 record rank score run` on each line.

use super::bad_line;
use crate::error::Result;
use crate::record::Key;
use indexmap::IndexMap;
use std::fmt::{self, Display, Formatter, Write};

/// What a record is called in files of judgments and runs: its key as it is shown, with white space and `%` written as `%` and two
/// hexadecimal digits for each byte, for the parts of a line stand between spaces.
///
/// ```
/// use nut_cellar_core::judge::record_id;
///
/// assert_eq!(record_id(&17.into()), "17");
/// assert_eq!(record_id(&"Quill Halt".into()), "Quill%20Halt");
/// ```
pub fn record_id(key: &Key) -> String {
    let shown = key.to_string();
    let mut id = String::with_capacity(shown.len());
    for character in shown.chars() {
        if character.is_whitespace() || character == '%' {
            for byte in character.encode_utf8(&mut [0; 4]).bytes() {
                let _ = write!(id, "%{byte:02X}");
            }
        } else {
            id.push(character);
        }
    }
    id
}

/// The records that were found for each query, best first, with their scores.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Run(IndexMap<String, Vec<(String, f32)>>);

impl Run {
    /// Nothing asked.
    pub fn new() -> Self {
        Self::default()
    }

    /// Reads a run. The records of a query are taken in the order of their ranks, whatever order they stand in.
    ///
    /// ```
    /// use nut_cellar_core::judge::Run;
    ///
    /// let run = Run::read("401 Q0 18 2 1.5 plain\n401 Q0 17 1 2.5 plain\n").unwrap();
    /// assert_eq!(run.of("401"), [("17".to_owned(), 2.5), ("18".to_owned(), 1.5)]);
    /// ```
    ///
    /// # Errors
    /// [`BadRequest`](crate::ErrorKind::BadRequest), with the line, if one is not of a run.
    pub fn read(text: &str) -> Result<Self> {
        let mut ranked: IndexMap<String, Vec<(u64, String, f32)>> = IndexMap::new();
        for (number, line) in (1..).zip(text.lines()).filter(|(_, line)| !line.trim().is_empty()) {
            let parts: Vec<_> = line.split_whitespace().collect();
            let [query, _, record, rank, score, _] = parts[..] else {
                return Err(bad_line(
                    number,
                    "a line of a run is a query, `Q0`, a record, its rank, its score and a name",
                ));
            };
            let (Ok(rank), Ok(score)) = (rank.parse(), score.parse()) else {
                return Err(bad_line(number, "the rank has to be a whole number, and the score a number"));
            };
            ranked.entry(query.to_owned()).or_default().push((rank, record.to_owned(), score));
        }
        let in_order = ranked.into_iter().map(|(query, mut records)| {
            records.sort_by_key(|(rank, _, _)| *rank);
            (query, records.into_iter().map(|(_, record, score)| (record, score)).collect())
        });
        Ok(Self(in_order.collect()))
    }

    /// Notes what was found for a query, best first.
    pub fn found(&mut self, query: impl Into<String>, records: Vec<(String, f32)>) {
        self.0.insert(query.into(), records);
    }

    /// What was found for a query; nothing if it was not asked.
    pub fn of(&self, query: &str) -> &[(String, f32)] {
        self.0.get(query).map_or(&[], Vec::as_slice)
    }

    /// Whether a query was asked.
    pub fn has(&self, query: &str) -> bool {
        self.0.contains_key(query)
    }

    /// The place of a record among what was found for a query, from 1 on.
    pub fn rank(&self, query: &str, record: &str) -> Option<usize> {
        self.of(query).iter().position(|(found, _)| found == record).map(|place| place + 1)
    }

    /// The lines of a file that [`read`](Self::read) reads, under a name for the run, which has no spaces.
    pub fn named<'r>(&'r self, name: &'r str) -> impl Display + 'r {
        struct Named<'r>(&'r Run, &'r str);

        impl Display for Named<'_> {
            fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
                for (query, records) in &self.0.0 {
                    for (rank, (record, score)) in (1..).zip(records) {
                        writeln!(f, "{query} Q0 {record} {rank} {score} {}", self.1)?;
                    }
                }
                Ok(())
            }
        }

        Named(self, name)
    }
}
