//! Queries from a file: one on each line, with a number and a tab before it or without.

use super::bad_line;
use crate::error::Result;
use std::collections::HashSet;

/// A query, and what it is called in judgments and runs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Asked {
    /// Its number, or another name without spaces; that of its line where the file has none.
    pub id: String,
    /// What is typed.
    pub text: String,
}

/// Reads a file of queries. What stands before a first tab and has no space is a query's number; empty lines are passed over.
///
/// ```
/// use nut_cellar_core::judge::read_queries;
///
/// let queries = read_queries("401\twalnut box\n402\tbrass \"cigar case\"\n").unwrap();
/// assert_eq!((queries[1].id.as_str(), queries[1].text.as_str()), ("402", "brass \"cigar case\""));
/// assert_eq!(read_queries("walnut box\n\ncigar case\n").unwrap()[1].id, "3");
/// ```
///
/// # Errors
/// [`BadRequest`](crate::ErrorKind::BadRequest), with the line, if two queries have one number or one is empty.
pub fn read_queries(text: &str) -> Result<Vec<Asked>> {
    let mut known = HashSet::new();
    let lines = (1..).zip(text.lines()).filter(|(_, line)| !line.trim().is_empty());
    let asked = lines.map(|(number, line)| {
        let numbered =
            line.split_once('\t').filter(|(id, _)| !id.is_empty() && !id.contains(char::is_whitespace));
        let (id, text) =
            numbered.map_or_else(|| (number.to_string(), line), |(id, text)| (id.to_owned(), text));
        if text.trim().is_empty() {
            return Err(bad_line(number, format_args!("the query {id} is empty")));
        }
        if !known.insert(id.clone()) {
            return Err(bad_line(number, format_args!("there is another query {id} before it")));
        }
        Ok(Asked { id, text: text.trim().to_owned() })
    });
    asked.collect()
}
