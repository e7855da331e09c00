//! Synonyms and abbreviations, from a text file, for the words of a query.
//!
//! ```text
//! # what passengers say, and what the clerks write
//! brolly = umbrella = parasol
//! QLR -> Quillmere Light Railway
//! specs -> spectacles, glasses
//! ```
//!
//! `=` goes both ways and `->` one way; a comma separates several. A side may have several words; they are
//! looked for where they are typed one after the other, in quotation marks or not. A line that begins with `#` says nothing.

use crate::error::{Error, ErrorKind, Result};
use crate::schema::Schema;
use crate::text::{Recipe, Recipes};
use std::collections::HashMap;
use std::sync::Arc;

/// Synonyms and abbreviations, made ready for a schema.
///
/// ```
/// use nut_cellar_core::{Column, Expansions, Schema};
///
/// let schema = Schema::new("id").with("title", Column::text("en"));
/// assert!(Expansions::read("brolly = umbrella\nQLR -> Quillmere Light Railway", &schema).is_ok());
/// let error = Expansions::read("brolly = umbrella\nspecs ->", &schema).unwrap_err();
/// assert!(error.to_string().starts_with("line 2: "), "{error}");
/// ```
#[derive(Clone, Debug, PartialEq)]
pub struct Expansions {
    /// For each text column, for each of its recipes: what a text may also stand for, by what its words' forms share.
    columns: Vec<Vec<Arc<Rules>>>,
    /// The most words that stand for something else together.
    longest: usize,
    /// What they were read from.
    text: String,
}

type Rules = HashMap<Vec<String>, Vec<String>>;

impl Expansions {
    /// Reads expansions. Takes time in proportion to the text and the number of columns.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`], with the line, if one is not understood.
    pub fn read(text: &str, schema: &Schema) -> Result<Self> {
        let mut pairs = Vec::new();
        for (number, line) in (1..).zip(text.lines()) {
            let line = line.trim();
            if !line.is_empty() && !line.starts_with('#') {
                read_line(line, &mut pairs).map_err(|error| error.at(format_args!("line {number}")))?;
            }
        }
        let rules = |recipe: &Recipe| {
            let mut rules = Rules::new();
            for (from, to) in &pairs {
                let texts = rules.entry(shared_forms(recipe, from)).or_default();
                if !texts.contains(to) {
                    texts.push(to.clone());
                }
            }
            Arc::new(rules)
        };
        let columns = schema.text_columns().map(|(_, column)| {
            let recipes = Recipes::of(column.text_settings());
            recipes.all().map(rules).collect()
        });
        let columns: Vec<Vec<Arc<Rules>>> = columns.collect();
        let longest =
            columns.iter().flatten().flat_map(|rules| rules.keys()).map(Vec::len).max().unwrap_or(0);
        Ok(Self { columns, longest, text: text.to_owned() })
    }

    /// The text that they were read from.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The most words that stand for something else together.
    pub(crate) fn longest(&self) -> usize {
        self.longest
    }

    /// What a text that a column reads by this recipe, by its place, may also stand for.
    pub(crate) fn of(&self, column: usize, place: usize, shared: &[String]) -> &[String] {
        let rules = self.columns.get(column).and_then(|recipes| recipes.get(place));
        rules.and_then(|rules| rules.get(shared)).map_or(&[], Vec::as_slice)
    }
}

/// What the forms of each word of a text share, in order: two texts with the same are forms of each other.
pub(crate) fn shared_forms(recipe: &Recipe, text: &str) -> Vec<String> {
    let mut shared = Vec::new();
    recipe.tokens(text, |token| {
        if token.is_word() {
            shared.push(recipe.key_of(token.term).unwrap_or_else(|| token.term.to_owned()));
        }
    });
    shared
}

/// Adds what a line says: from what text to what other.
fn read_line(line: &str, pairs: &mut Vec<(String, String)>) -> Result<()> {
    let sides = |text: &str, separator: char| -> Result<Vec<String>> {
        let sides: Vec<_> = text.split(separator).map(|side| side.trim().to_owned()).collect();
        if sides.iter().all(|side| side.contains(char::is_alphanumeric)) {
            Ok(sides)
        } else {
            Err(wrong(line))
        }
    };
    if let Some((from, to)) = line.split_once("->") {
        for from in sides(from, ',')? {
            pairs.extend(sides(to, ',')?.into_iter().map(|to| (from.clone(), to)));
        }
        return Ok(());
    }
    let all = sides(line, '=')?;
    if all.len() < 2 {
        return Err(wrong(line));
    }
    for from in &all {
        pairs.extend(all.iter().filter(|to| *to != from).map(|to| (from.clone(), to.clone())));
    }
    Ok(())
}

#[cold]
fn wrong(line: &str) -> Error {
    let shown: String = line.chars().take(60).collect();
    Error::new(
        ErrorKind::BadRequest,
        format!("`{shown}` is neither like `brolly = umbrella` nor like `QLR -> Quillmere Light Railway`."),
    )
}
