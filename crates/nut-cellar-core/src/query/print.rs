//! Printing a query, as text that reads back to the same tree.

use super::signs::{OPERATORS, WITHIN, begins_part, begins_word, is_sign, plain};
use super::tree::Query;
use std::borrow::Cow;
use std::fmt::{self, Display, Formatter};

impl Display for Query {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        show(&self.clone().normal(), f)
    }
}

fn show(query: &Query, f: &mut Formatter<'_>) -> fmt::Result {
    match query {
        Query::Words(parts) => joined(parts, " ", f),
        Query::All(parts) => joined(parts, " AND ", f),
        Query::Any(parts) => joined(parts, " OR ", f),
        Query::Without(part) => {
            f.write_str("-")?;
            inside(part, f)
        }
        Query::Needed(part) => {
            f.write_str("+")?;
            inside(part, f)
        }
        Query::In(columns, part) => {
            let columns: Vec<_> = columns.iter().map(|name| word(name)).collect();
            write!(f, "{}:", columns.join(","))?;
            value(part, f)
        }
        Query::Word(text) => f.write_str(&word(text)),
        Query::Phrase(text) => phrase(text, f),
        Query::Window(text, positions) => {
            phrase(text, f)?;
            write!(f, " {WITHIN} {positions}")
        }
        Query::Pattern(text) => f.write_str(&pattern(text)),
        Query::Near(text) => f.write_str(&near(text)),
    }
}

fn joined(parts: &[Query], between: &str, f: &mut Formatter<'_>) -> fmt::Result {
    for (place, part) in parts.iter().enumerate() {
        f.write_str(if place == 0 { "" } else { between })?;
        part_of_list(part, f)?;
    }
    Ok(())
}

/// A part of a list: a list inside a list stands in brackets.
fn part_of_list(part: &Query, f: &mut Formatter<'_>) -> fmt::Result {
    match part {
        Query::Words(_) | Query::All(_) | Query::Any(_) => bracketed(part, f),
        part => show(part, f),
    }
}

/// What a sign stands in front of: anything that has a sign itself, is a list, or does not begin like a word, stands in
/// brackets.
fn inside(part: &Query, f: &mut Formatter<'_>) -> fmt::Result {
    match part {
        Query::Without(_) | Query::Needed(_) => bracketed(part, f),
        part if !begins_part(&beginning(part)) => bracketed(part, f),
        part => part_of_list(part, f),
    }
}

/// The first characters of what a part that has no sign is shown as. The whole of it would be printed once for each sign that it stands
/// behind: in time that doubles with each.
fn beginning(part: &Query) -> Cow<'_, str> {
    match part {
        Query::In(columns, _) => columns.first().map_or(Cow::Borrowed(":"), |name| word(name).into()),
        Query::Word(text) => word(text).into(),
        Query::Pattern(text) => pattern(text).into(),
        Query::Near(text) => near(text).into(),
        Query::Phrase(_) | Query::Window(..) => "\"".into(),
        Query::Words(_) | Query::All(_) | Query::Any(_) => "(".into(),
        Query::Without(_) => "-".into(),
        Query::Needed(_) => "+".into(),
    }
}

fn near(text: &str) -> String {
    let shown = word(text);
    let begins = shown.starts_with(|first| first == '\\' || begins_word(first));
    format!("~{}{shown}", if begins { "" } else { "\\" })
}

/// What stands behind columns. A word that begins with a minus sign would be taken for an exclusion, unless it is a number.
fn value(part: &Query, f: &mut Formatter<'_>) -> fmt::Result {
    match part {
        Query::In(..) | Query::Without(_) | Query::Needed(_) => bracketed(part, f),
        Query::Word(text) if is_negative(text) => f.write_str(&escaped(text)),
        part => part_of_list(part, f),
    }
}

fn bracketed(part: &Query, f: &mut Formatter<'_>) -> fmt::Result {
    f.write_str("(")?;
    show(part, f)?;
    f.write_str(")")
}

/// Whether a text begins like a negative number.
pub(super) fn is_negative(text: &str) -> bool {
    let mut characters = text.chars();
    characters.next().is_some_and(|first| plain(first) == '-')
        && characters.next().is_some_and(|second| second.is_ascii_digit())
}

fn phrase(text: &str, f: &mut Formatter<'_>) -> fmt::Result {
    f.write_str("\"")?;
    for character in text.chars() {
        if plain(character) == '"' || character == '\\' {
            f.write_str("\\")?;
        }
        write!(f, "{character}")?;
    }
    f.write_str("\"")
}

/// A word with what would mean something taken as it is.
fn word(text: &str) -> String {
    let first = text.chars().next().map(plain);
    let stands_for_more = OPERATORS.contains(&text) || text == WITHIN;
    let escaped = escaped(text);
    if stands_for_more || first.is_some_and(|first| matches!(first, '-' | '+' | '~')) {
        format!("\\{escaped}")
    } else {
        escaped
    }
}

fn escaped(text: &str) -> String {
    text.chars().fold(String::with_capacity(text.len()), |mut out, character| {
        if is_sign(character) || character.is_whitespace() {
            out.push('\\');
        }
        out.push(character);
        out
    })
}

/// A pattern: its wildcards stay, and everything else that would mean something is taken as it is.
fn pattern(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut characters = text.chars();
    while let Some(character) = characters.next() {
        match character {
            '\\' => {
                out.push('\\');
                out.extend(characters.next());
            }
            '*' | '?' => out.push(character),
            other => {
                let first = out.is_empty() && matches!(plain(other), '-' | '+' | '~');
                if first || is_sign(other) || other.is_whitespace() {
                    out.push('\\');
                }
                out.push(other);
            }
        }
    }
    out
}

/// A text as the part of a pattern that stands for itself.
pub(super) fn literal(text: &str) -> String {
    text.chars().fold(String::with_capacity(text.len()), |mut out, character| {
        if matches!(plain(character), '*' | '?' | '\\') {
            out.push('\\');
        }
        out.push(character);
        out
    })
}
