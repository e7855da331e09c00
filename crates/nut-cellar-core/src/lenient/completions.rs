//! What somebody may be going to type: the last word goes on, in the context of those before it.
//!
//! Where t is what stands before the last word, and R(q) how many records match q under the filter, with all of its words, completions are
//!
//! * *words*: of the terms that begin like the last one, those that most of the records that match t have, each form of a word but once,
//!   none that was typed before, and outside of phrases no stop word; of these twice as many as are wanted are asked for R(t term);
//! * whole *values* of chosen columns: of exact ones those that begin like the last one to four words; of texts those that have all of the
//!   last words, in the records that rank first;
//! * *earlier queries* that begin with all that was typed.
//!
//! They stand by R, what finds nothing is none, and what was typed stays as it was.

use super::words::{last_leaf, wanted, with_last};
use super::{Strict, Suggest, count, counting};
use crate::error::{Error, ErrorKind, Result};
use crate::note::Note;
use crate::query::Query;
use crate::record::Value;
use crate::schema::{ColumnSet, Kind, Schema};
use crate::search::{Beginnings, Find, Order, Search, Words};
use crate::text::{Recipe, Role, StopWords};
use serde::Serialize;
use std::collections::HashSet;

/// A value may begin with so many words.
const MOST_WORDS: usize = 4;
/// Whole texts are looked for among so many records that rank first, for each that is wanted.
const HITS_FOR_EACH: usize = 4;

/// What is completed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Completed {
    /// The last word.
    Words,
    /// The last words, to a whole value of a column.
    Value,
    /// All of it, to what was asked before.
    Earlier,
}

/// A query that somebody may be going to type.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Completion {
    /// As it would be typed, beginning as it was.
    pub text: String,
    /// What was completed.
    pub kind: Completed,
    /// How many records match it.
    pub records: u64,
}

/// The best completions of a text, and what there is to say of them.
pub(super) fn completions(
    by: &Strict<'_>,
    text: &str,
    query: &Query,
    find: &Find,
    suggest: &Suggest,
) -> Result<(Vec<Completion>, Vec<Note>)> {
    if !suggest.completes {
        return Ok((Vec::new(), Vec::new()));
    }
    let strict = find.clone().strict().words(Words::All).beginnings(Beginnings::None);
    let strict = strict.from_the_first().skip(0).order(Order::Score);
    let completing = Completing { by, text, query, strict: &strict, most: suggest.limit };
    let mut all = completing.earlier(&suggest.earlier)?;
    let mut notes = Vec::new();
    if !text.ends_with(char::is_whitespace) {
        completing.words(&mut all, &mut notes)?;
        completing.values(&suggest.values_of, &mut all)?;
    }
    all.sort_unstable_by(|a, b| b.records.cmp(&a.records).then_with(|| a.text.cmp(&b.text)));
    let mut known = HashSet::new();
    all.retain(|completion| known.insert(completion.text.clone()));
    all.truncate(suggest.limit);
    Ok((all, notes))
}

struct Completing<'c> {
    by: &'c Strict<'c>,
    text: &'c str,
    query: &'c Query,
    /// Takes all words as they are typed.
    strict: &'c Find,
    most: usize,
}

impl Completing<'_> {
    fn count(&self, query: &Query) -> Result<u64> {
        count(self.by, query, self.strict)
    }

    fn search(&self, context: Option<Query>) -> Result<Search> {
        let context = context.unwrap_or_else(Query::everything);
        Search::new(self.by.snapshot.clone(), &context, &counting(self.strict))
    }

    fn words(&self, all: &mut Vec<Completion>, notes: &mut Vec<Note>) -> Result<()> {
        let Some((names, leaf)) = last_leaf(self.query) else { return Ok(()) };
        let (Query::Word(typed) | Query::Phrase(typed)) = leaf else { return Ok(()) };
        let schema = self.by.schema();
        let columns: Option<ColumnSet> = match names {
            Some(names) => names.iter().map(|name| schema.text_column(name)).collect(),
            None => Some(self.strict.searched(schema)?),
        };
        // Without the end of a phrase, or a bracket: then nobody goes on with the word.
        let Some(columns) = columns.filter(|_| self.text.ends_with(typed.as_str())) else { return Ok(()) };
        let Some(recipe) = columns.iter().next().and_then(|column| recipe_of(schema, column)) else {
            return Ok(());
        };
        let Some((head, beginning)) = last_token(&recipe, typed) else { return Ok(()) };
        let with =
            |text: String| if let Query::Phrase(_) = leaf { Query::phrase(text) } else { Query::word(text) };
        let context = with_last(self.query, &|| {
            let before = head.trim_end();
            (!before.is_empty()).then(|| with(before.to_owned()))
        });
        let (had, are_all) = self.search(context)?.terms_beginning(self.by.view, &beginning, columns)?;
        notes.extend((!are_all).then_some(Note::TermsMissing));
        let class = |term: &str| recipe.key_of(term).unwrap_or_else(|| term.to_owned());
        // Nobody types a word twice.
        let mut known = HashSet::new();
        let last_is_known = had.iter().any(|(term, _)| *term == beginning);
        for word in wanted(self.query).into_iter().filter(|word| word.text != *typed || last_is_known) {
            recipe.tokens(&word.text, |token| _ = known.insert(class(token.term)));
        }
        let in_phrase = matches!(leaf, Query::Phrase(_));
        let candidates = had.into_iter().map(|(term, _)| term);
        let candidates =
            candidates.filter(|term| *term != beginning && (in_phrase || !says_little(&recipe, term)));
        for term in candidates.filter(|term| known.insert(class(term))).take(self.most.saturating_mul(2)) {
            let Some(query) = with_last(self.query, &|| Some(with(format!("{head}{term}")))) else {
                continue;
            };
            let rest = term.strip_prefix(&beginning).unwrap_or_default();
            offer(all, format!("{}{rest}", self.text), Completed::Words, self.count(&query)?);
        }
        Ok(())
    }

    fn earlier(&self, earlier: &[String]) -> Result<Vec<Completion>> {
        let mut all = Vec::new();
        let typed = self.text.trim_start().to_lowercase();
        let begins = |earlier: &&String| {
            let earlier = earlier.to_lowercase();
            !typed.is_empty() && earlier.starts_with(&typed) && earlier.len() > typed.len()
        };
        for text in earlier.iter().filter(begins).take(self.most.saturating_mul(2)) {
            let records = self.count(&Query::read(text).query)?;
            offer(&mut all, text.clone(), Completed::Earlier, records);
        }
        Ok(all)
    }

    fn values(&self, chosen: &[String], all: &mut Vec<Completion>) -> Result<()> {
        let schema = self.by.schema();
        let is_exact = |name: &str| schema.column(name).is_some_and(|column| column.kind() == Kind::Exact);
        if let Some(([name], Query::Word(typed) | Query::Phrase(typed))) =
            last_leaf(self.query).and_then(|(names, leaf)| names.map(|names| (names.as_slice(), leaf)))
            && is_exact(name)
            && let Some(head) = self.text.strip_suffix(typed.as_str())
        {
            // Behind the name of its column a value stands alone.
            let context = with_last(self.query, &|| None);
            for (value, records) in self.exact_values(name, typed, context)? {
                let value = if head.ends_with('"') { value } else { quoted(&value).to_string() };
                offer(all, format!("{head}{value}"), Completed::Value, records);
            }
            return Ok(());
        }
        let words = self.last_words();
        for name in chosen {
            if is_exact(name) {
                // As many of the last words as there are values for.
                for (head, context) in words.iter().rev() {
                    let values = self.exact_values(name, &self.text[head.len()..], context.clone())?;
                    for (value, records) in &values {
                        let value = quoted(value).in_columns([name]);
                        offer(all, format!("{head}{value}"), Completed::Value, *records);
                    }
                    if !values.is_empty() {
                        break;
                    }
                }
            } else if schema.text_column(name).is_some() {
                if let Some((head, context)) = words.last() {
                    self.texts(name, head, context.as_ref(), all)?;
                }
            } else {
                let message = format!(
                    "Column `{name}` has no values to complete; name one of texts or of exact values."
                );
                return Err(Error::new(ErrorKind::BadRequest, message));
            }
        }
        Ok(())
    }

    /// The values of an exact column that begin as was typed, with a capital, or in capitals, in the records that match a context.
    fn exact_values(&self, name: &str, typed: &str, context: Option<Query>) -> Result<Vec<(String, u64)>> {
        if typed.is_empty() {
            return Ok(Vec::new());
        }
        let capital = |word: &str| {
            let mut letters = word.chars();
            letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
        };
        let capitals: Vec<_> = typed.split(' ').map(capital).collect();
        let beginnings = [typed.to_owned(), capitals.join(" "), typed.to_lowercase(), typed.to_uppercase()];
        let mut values = self.search(context)?.values_beginning(self.by.view, name, &beginnings)?;
        values.retain(|(value, _)| value != typed);
        values.truncate(self.most);
        Ok(values)
    }

    /// The values of a text column that have all of the last words.
    fn texts(
        &self,
        name: &str,
        head: &str,
        context: Option<&Query>,
        all: &mut Vec<Completion>,
    ) -> Result<()> {
        let typed = Query::read(&self.text[head.len()..]).query.in_columns([name]);
        let query = Query::words(context.cloned().into_iter().chain([typed]));
        let find = self.strict.clone().with_beginnings().limit(self.most.saturating_mul(HITS_FOR_EACH));
        let found = self.by.found(&query, &find)?;
        let mut values = Vec::new();
        for value in found.hits.iter().flat_map(|hit| hit.values.get(name).into_iter().flatten()) {
            if let Value::Text(value) = value
                && !values.contains(value)
                && values.len() < self.most
            {
                values.push(value.clone());
            }
        }
        for value in values {
            let value = Query::phrase(value).in_columns([name]);
            let text = format!("{head}{value}");
            let records = self.count(&Query::words(context.cloned().into_iter().chain([value])))?;
            offer(all, text, Completed::Value, records);
        }
        Ok(())
    }

    /// Of the last word, the last two, and so on, as long as they are plain: what stands before them, as text and as query.
    fn last_words(&self) -> Vec<(&str, Option<Query>)> {
        let parts = match self.query {
            Query::Words(parts) => parts.as_slice(),
            one => std::slice::from_ref(one),
        };
        let (mut before, mut all) = (self.text, Vec::new());
        for place in (0..parts.len()).rev().take(MOST_WORDS) {
            let Query::Word(word) = &parts[place] else { break };
            let Some(head) = before.trim_end().strip_suffix(word.as_str()) else { break };
            if !(head.is_empty() || head.ends_with(char::is_whitespace)) {
                break;
            }
            let context = (place > 0).then(|| Query::words(parts[..place].to_vec()));
            all.push((head, context));
            before = head;
        }
        all
    }
}

/// Adds a completion, if it finds something.
fn offer(all: &mut Vec<Completion>, text: String, kind: Completed, records: u64) {
    all.extend((records > 0).then_some(Completion { text, kind, records }));
}

/// A value as it would be typed.
fn quoted(value: &str) -> Query {
    if value.contains(char::is_whitespace) { Query::phrase(value) } else { Query::word(value) }
}

/// The recipe of a text column, with the stop words of its language where it names none.
fn recipe_of(schema: &Schema, column: usize) -> Option<Recipe> {
    let (_, column) = schema.text_columns().nth(column)?;
    let mut settings = column.text_settings().clone();
    settings.stop.get_or_insert(StopWords::OfLanguage(true));
    Some(Recipe::of(&settings))
}

/// The last token of a text as it stands in terms, and what stands before it; none if something else stands behind it.
fn last_token<'t>(recipe: &Recipe, typed: &'t str) -> Option<(&'t str, String)> {
    let (mut start, mut end) = (0, 0);
    recipe.tokens(typed, |token| {
        if token.end >= end && token.role == Role::Word {
            (start, end) = (start.max(token.start), token.end);
        }
    });
    let (head, last) = typed.split_at(start);
    let beginning = recipe.part(last);
    (end == typed.len() && !beginning.is_empty()).then_some((head, beginning))
}

/// Whether a term is a stop word.
fn says_little(recipe: &Recipe, term: &str) -> bool {
    let mut weak = true;
    recipe.tokens(term, |token| weak &= token.weak || token.role != Role::Word);
    weak
}
