//! The tree that a query is read to. It can also be built by method calls, kept with serde, and printed as text that reads
//! back to the same tree (see `print`).

use serde::{Deserialize, Serialize};

/// So many parts may stand inside one another in what is read from a text. Kept as JSON each takes two levels, of which readers of JSON
/// take 128.
pub(super) const DEEPEST: usize = 60;

/// A query.
///
/// ```
/// use nut_cellar_core::Query;
///
/// let built = Query::words([Query::word("oak"), Query::phrase("brass handle").in_columns(["title"])])
///     .without(Query::word("rusty"));
/// assert_eq!(built.to_string(), r#"oak title:"brass handle" -rusty"#);
/// assert_eq!(Query::read(&built.to_string()).query, built);
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Query {
    /// What was typed side by side: of these a record has to match as many as the [search](crate::Words) says. None of
    /// them: nothing is found.
    Words(Vec<Query>),
    /// All of these.
    All(Vec<Query>),
    /// One of these, or more.
    Any(Vec<Query>),
    /// Everything but this.
    Without(Box<Query>),
    /// This for certain, where the search asks for some of the words only.
    Needed(Box<Query>),
    /// What stands inside, in these columns only. For columns of numbers, dates and exact values a word inside is a
    /// value or a range, as in `found_on:2031-04..2031-06`.
    In(Vec<String>, Box<Query>),
    /// A word. If it is read as several tokens, they have to follow one another.
    Word(String),
    /// Words that follow one another.
    Phrase(String),
    /// Words that stand in any order within so many positions.
    Window(String, u32),
    /// A word of which `*` stands for any characters and `?` for one; a backslash takes the next character as it is.
    Pattern(String),
    /// A word, or one that differs from it by one or two typing mistakes.
    Near(String),
}

impl Query {
    /// A word.
    pub fn word(text: impl Into<String>) -> Self {
        Self::Word(text.into())
    }

    /// Words that follow one another.
    pub fn phrase(text: impl Into<String>) -> Self {
        Self::Phrase(text.into())
    }

    /// Words in any order within so many positions of one another.
    pub fn window(text: impl Into<String>, positions: u32) -> Self {
        Self::Window(text.into(), positions)
    }

    /// Words that look like this: `*` stands for any characters, `?` for one.
    pub fn pattern(text: impl Into<String>) -> Self {
        Self::Pattern(text.into())
    }

    /// Words that begin so.
    pub fn beginning(text: &str) -> Self {
        Self::Pattern(format!("{}*", super::print::literal(text)))
    }

    /// A word, or one with a typing mistake or two.
    pub fn near(text: impl Into<String>) -> Self {
        Self::Near(text.into())
    }

    /// Several side by side, as if they had been typed so.
    pub fn words(parts: impl IntoIterator<Item = Self>) -> Self {
        Self::Words(parts.into_iter().collect()).normal()
    }

    /// All of several.
    pub fn all(parts: impl IntoIterator<Item = Self>) -> Self {
        Self::All(parts.into_iter().collect()).normal()
    }

    /// One of several, or more.
    pub fn any(parts: impl IntoIterator<Item = Self>) -> Self {
        Self::Any(parts.into_iter().collect()).normal()
    }

    /// All records.
    pub(crate) fn everything() -> Self {
        // What both has a word and has it not is nowhere.
        let nowhere = Self::All(vec![Self::word("a"), Self::Without(Box::new(Self::word("a")))]);
        Self::Without(Box::new(nowhere))
    }

    /// This and, side by side, everything but the other.
    #[must_use]
    pub fn without(self, other: Self) -> Self {
        let without = Self::Without(Box::new(other));
        match self {
            Self::Words(parts) => Self::words(parts.into_iter().chain([without])),
            this => Self::words([this, without]),
        }
    }

    /// The same, for certain.
    #[must_use]
    pub fn needed(self) -> Self {
        Self::Needed(Box::new(self))
    }

    /// The same in these columns only.
    #[must_use]
    pub fn in_columns<S: Into<String>>(self, columns: impl IntoIterator<Item = S>) -> Self {
        Self::In(columns.into_iter().map(Into::into).collect(), Box::new(self))
    }

    /// The same query in its plainest shape, which is what reading gives: a list of one is that one, what has to match all or
    /// any in a list of its kind is part of that, and what is empty is left out.
    #[must_use]
    pub fn normal(self) -> Self {
        match self {
            // A list in brackets counts as one where a search asks for some of the words.
            Self::Words(parts) => list(parts, Self::Words, Err),
            Self::All(parts) => list(parts, Self::All, |part| match part {
                Self::All(parts) => Ok(parts),
                other => Err(other),
            }),
            Self::Any(parts) => list(parts, Self::Any, |part| match part {
                Self::Any(parts) => Ok(parts),
                other => Err(other),
            }),
            Self::Without(part) => around(*part, Self::Without),
            Self::Needed(part) => around(*part, Self::Needed),
            Self::In(columns, part) if columns.is_empty() => part.normal(),
            Self::In(columns, part) => around(*part, |part| Self::In(columns, part)),
            Self::Word(text) | Self::Near(text) if text.is_empty() => Self::Words(Vec::new()),
            Self::Pattern(text) => pattern(&text),
            leaf => leaf,
        }
    }

    /// The word at its end, unless that is excluded or stands in quotation marks.
    pub(crate) fn last_word(&self) -> Option<&str> {
        match self {
            Self::Word(text) => Some(text),
            Self::Words(parts) | Self::All(parts) | Self::Any(parts) => parts.last()?.last_word(),
            Self::Needed(part) | Self::In(_, part) => part.last_word(),
            _ => None,
        }
    }

    /// Whether more than so many parts stand inside one another.
    pub(crate) fn is_deeper_than(&self, most: usize) -> bool {
        match self {
            Self::Words(parts) | Self::All(parts) | Self::Any(parts) => {
                most == 0 || parts.iter().any(|part| part.is_deeper_than(most - 1))
            }
            Self::Without(part) | Self::Needed(part) | Self::In(_, part) => {
                most == 0 || part.is_deeper_than(most - 1)
            }
            _ => false,
        }
    }

    fn is_nothing(&self) -> bool {
        matches!(self, Self::Words(parts) if parts.is_empty())
    }
}

fn list(
    parts: Vec<Query>,
    make: fn(Vec<Query>) -> Query,
    inside: fn(Query) -> Result<Vec<Query>, Query>,
) -> Query {
    let mut flat = Vec::with_capacity(parts.len());
    for part in parts {
        match inside(part.normal()) {
            Ok(parts) => flat.extend(parts),
            Err(part) if part.is_nothing() => {}
            Err(part) => flat.push(part),
        }
    }
    match flat.len() {
        0 => Query::Words(flat),
        1 => flat.remove(0),
        _ => make(flat),
    }
}

fn around(part: Query, make: impl FnOnce(Box<Query>) -> Query) -> Query {
    let part = part.normal();
    if part.is_nothing() { part } else { make(Box::new(part)) }
}

/// A pattern with a backslash only where one is needed; a word, if it has no wildcard.
fn pattern(text: &str) -> Query {
    let (mut pattern, mut word, mut open) = (String::new(), String::new(), false);
    let mut characters = text.chars();
    while let Some(character) = characters.next() {
        let taken = match character {
            '*' | '?' => {
                open = true;
                pattern.push(character);
                continue;
            }
            '\\' => characters.next().unwrap_or('\\'),
            other => other,
        };
        pattern.push_str(&super::print::literal(taken.encode_utf8(&mut [0; 4])));
        word.push(taken);
    }
    if open { Query::Pattern(pattern) } else { Query::Word(word).normal() }
}
