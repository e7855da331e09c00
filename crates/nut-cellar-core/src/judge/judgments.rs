//! Which records are right for which queries, in TREC's form: `query iteration record grade` on each line.

use super::bad_line;
use crate::error::Result;
use indexmap::IndexMap;

/// Grades of records, by query. A record with a grade of 1 or more is right; more is more so.
///
/// ```
/// use nut_cellar_core::judge::Judgments;
///
/// let judgments = Judgments::read("401 0 17 2\n401 0 18 0\n").unwrap();
/// assert_eq!((judgments.grade("401", "17"), judgments.grade("401", "18"), judgments.grade("401", "19")), (Some(2), Some(0), None));
/// assert_eq!(judgments.to_string(), "401 0 17 2\n401 0 18 0\n");
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Judgments(IndexMap<String, IndexMap<String, i32>>);

impl Judgments {
    /// None.
    pub fn new() -> Self {
        Self::default()
    }

    /// Reads a file of judgments. Of several lines for one record the last counts, so a change of mind can be appended.
    ///
    /// # Errors
    /// [`BadRequest`](crate::ErrorKind::BadRequest), with the line, if one is no judgment.
    pub fn read(text: &str) -> Result<Self> {
        let mut all = Self::new();
        for (number, line) in (1..).zip(text.lines()).filter(|(_, line)| !line.trim().is_empty()) {
            let mut parts = line.split_whitespace();
            let (Some(query), Some(_), Some(record), Some(grade), None) =
                (parts.next(), parts.next(), parts.next(), parts.next(), parts.next())
            else {
                return Err(bad_line(
                    number,
                    "a judgment is a query, a number that is not used, a record and a grade",
                ));
            };
            let grade = grade
                .parse()
                .map_err(|_| bad_line(number, format_args!("the grade `{grade}` is no whole number")))?;
            all.judge(query, record, grade);
        }
        Ok(all)
    }

    /// Gives a record a grade for a query, in the place of the one that it has.
    pub fn judge(&mut self, query: impl Into<String>, record: impl Into<String>, grade: i32) {
        self.0.entry(query.into()).or_default().insert(record.into(), grade);
    }

    /// The grade of a record for a query, if it was judged.
    pub fn grade(&self, query: &str, record: &str) -> Option<i32> {
        self.0.get(query)?.get(record).copied()
    }

    /// The queries that something was judged for, in the order in which they came.
    pub fn queries(&self) -> impl Iterator<Item = &str> {
        self.0.keys().map(String::as_str)
    }

    /// The records that were judged for a query, with their grades.
    pub fn of(&self, query: &str) -> impl Iterator<Item = (&str, i32)> {
        self.0.get(query).into_iter().flatten().map(|(record, grade)| (record.as_str(), *grade))
    }
}

impl std::fmt::Display for Judgments {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        for (query, records) in &self.0 {
            for (record, grade) in records {
                f.write_fmt(format_args!("{query} 0 {record} {grade}\n"))?;
            }
        }
        Ok(())
    }
}
