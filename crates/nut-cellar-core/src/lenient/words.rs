//! The words of a query that may stand for others: those that are wanted, outside of quotation marks.

use crate::query::Query;

/// Of more words nothing is put in any one's place.
pub(super) const MOST_WORDS: usize = 16;
/// Longer words are not taken for two, each of which has so many letters at least.
const LONGEST: usize = 40;
const SHORTEST: usize = 2;

/// A word, and the columns that it is looked for in, if the query says so.
pub(super) struct Wanted {
    pub columns: Option<Vec<String>>,
    pub text: String,
}

impl Wanted {
    /// A query in the same columns.
    pub fn query(&self, query: Query) -> Query {
        match &self.columns {
            Some(columns) => query.in_columns(columns),
            None => query,
        }
    }
}

/// The words of a query, in its order.
pub(super) fn wanted(query: &Query) -> Vec<Wanted> {
    let mut words = Vec::new();
    gather(query, None, &mut words);
    words
}

fn gather(query: &Query, columns: Option<&Vec<String>>, words: &mut Vec<Wanted>) {
    match query {
        Query::Word(text) => words.push(Wanted { columns: columns.cloned(), text: text.clone() }),
        Query::Words(parts) | Query::All(parts) | Query::Any(parts) => {
            for part in parts {
                gather(part, columns, words);
            }
        }
        Query::Needed(part) => gather(part, columns, words),
        Query::In(columns, part) => gather(part, Some(columns), words),
        _ => {}
    }
}

/// The query with something else for each of these words, in the same order; without those for which there is nothing. None if nothing is
/// left.
pub(super) fn replaced(query: &Query, with: &mut dyn FnMut(&Query) -> Option<Query>) -> Option<Query> {
    let mut each = |parts: &[Query]| -> Option<Vec<Query>> {
        let parts: Vec<_> = parts.iter().filter_map(|part| replaced(part, with)).collect();
        (!parts.is_empty()).then_some(parts)
    };
    Some(match query {
        Query::Word(_) => return with(query),
        Query::Words(parts) => Query::words(each(parts)?),
        Query::All(parts) => Query::all(each(parts)?),
        Query::Any(parts) => Query::any(each(parts)?),
        Query::Needed(part) => replaced(part, with)?.needed(),
        Query::In(columns, part) => replaced(part, with)?.in_columns(columns),
        other => other.clone(),
    })
}

/// What is typed last, unless that is excluded, and the columns that it is looked for in, if the query says so.
pub(super) fn last_leaf(query: &Query) -> Option<(Option<&Vec<String>>, &Query)> {
    match query {
        Query::Words(parts) | Query::All(parts) | Query::Any(parts) => last_leaf(parts.last()?),
        Query::Needed(part) => last_leaf(part),
        Query::In(columns, part) => {
            let (inner, leaf) = last_leaf(part)?;
            Some((inner.or(Some(columns)), leaf))
        }
        Query::Without(_) => None,
        leaf => Some((None, leaf)),
    }
}

/// The query with something else for that, or without it. None if nothing is left.
pub(super) fn with_last(query: &Query, with: &dyn Fn() -> Option<Query>) -> Option<Query> {
    let list = |parts: &[Query]| {
        let (last, before) = parts.split_last()?;
        let parts: Vec<_> = before.iter().cloned().chain(with_last(last, with)).collect();
        (!parts.is_empty()).then_some(parts)
    };
    match query {
        Query::Words(parts) => list(parts).map(Query::words),
        Query::All(parts) => list(parts).map(Query::all),
        Query::Any(parts) => list(parts).map(Query::any),
        Query::Needed(part) => with_last(part, with).map(Query::needed),
        Query::In(columns, part) => Some(with_last(part, with)?.in_columns(columns)),
        _ => with(),
    }
}

/// Whether something that was typed is letters alone.
pub(super) fn is_letters(word: &str) -> bool {
    word.chars().all(char::is_alphabetic)
}

/// The ways to write a word as two.
pub(super) fn as_two(word: &str) -> impl Iterator<Item = (&str, &str)> {
    let letters = word.chars().count();
    let may_be = letters <= LONGEST && is_letters(word);
    let last = letters.saturating_sub(SHORTEST);
    let cuts = word
        .char_indices()
        .enumerate()
        .filter(move |(number, _)| may_be && (SHORTEST..=last).contains(number));
    cuts.map(|(_, (at, _))| word.split_at(at))
}
