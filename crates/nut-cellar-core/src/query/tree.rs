//! The tree that a query is read to. It can also be built by hand, and prints as text that reads back to the same tree.

use std::fmt;

/// A query.
///
/// ```
/// use nut_cellar_core::Query;
///
/// let built = Query::all([Query::word("oak"), Query::phrase("brass handle").within(["title"])]);
/// assert_eq!(built.to_string(), r#"oak title:"brass handle""#);
/// assert_eq!(Query::read(&built.to_string()).query, built);
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Query {
    /// These, all of them unless a search asks for fewer. None of them: nothing is found.
    All(Vec<Query>),
    /// What stands inside, in these columns only.
    Within(Vec<String>, Box<Query>),
    /// A word. If it is read as several tokens, they have to follow one another.
    Word(String),
    /// Words that follow one another.
    Phrase(String),
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

    /// Several at once.
    pub fn all(parts: impl IntoIterator<Item = Self>) -> Self {
        Self::All(parts.into_iter().collect())
    }

    /// The same in these columns only.
    #[must_use]
    pub fn within<S: Into<String>>(self, columns: impl IntoIterator<Item = S>) -> Self {
        Self::Within(columns.into_iter().map(Into::into).collect(), Box::new(self))
    }
}

impl fmt::Display for Query {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::All(parts) => parts.iter().enumerate().try_for_each(|(place, part)| {
                f.write_str(if place == 0 { "" } else { " " })?;
                part.fmt(f)
            }),
            Self::Within(columns, part) => {
                let columns: Vec<_> = columns.iter().map(|name| escaped(name, OUTSIDE)).collect();
                write!(f, "{}:{part}", columns.join(","))
            }
            Self::Word(text) => f.write_str(&escaped(text, OUTSIDE)),
            Self::Phrase(text) => write!(f, "\"{}\"", escaped(text, &['"', '\\'])),
        }
    }
}

/// What means something outside of quotes.
const OUTSIDE: &[char] = &['"', '\\', ':', ','];

fn escaped(text: &str, special: &[char]) -> String {
    let outside = special.contains(&':');
    text.chars().fold(String::with_capacity(text.len()), |mut out, character| {
        if special.contains(&character) || (outside && character.is_whitespace()) {
            out.push('\\');
        }
        out.push(character);
        out
    })
}
