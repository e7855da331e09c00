//! Printing a filter, as text that reads back to the same filter.

use super::{Filter, Test};
use crate::record::Value;
use std::fmt::{self, Display, Formatter};

impl Display for Filter {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Self::Column(name, test) => show_test(name, test, f),
            Self::All(parts) => joined(parts, " and ", f),
            Self::Any(parts) => joined(parts, " or ", f),
            Self::Not(part) => {
                f.write_str("not ")?;
                inside(part, f)
            }
        }
    }
}

fn joined(parts: &[Filter], between: &str, f: &mut Formatter<'_>) -> fmt::Result {
    for (place, part) in parts.iter().enumerate() {
        f.write_str(if place == 0 { "" } else { between })?;
        inside(part, f)?;
    }
    Ok(())
}

fn inside(part: &Filter, f: &mut Formatter<'_>) -> fmt::Result {
    match part {
        Filter::All(_) | Filter::Any(_) => write!(f, "({part})"),
        part => part.fmt(f),
    }
}

fn show_test(name: &str, test: &Test, f: &mut Formatter<'_>) -> fmt::Result {
    let plain = name.chars().all(|c| c.is_alphanumeric() || c == '_') && !super::read::is_keyword(name);
    if plain && !name.is_empty() {
        f.write_str(name)?;
    } else {
        write!(f, "\"{}\"", name.replace('"', "\"\""))?;
    }
    let signed = |f: &mut Formatter<'_>, sign: &str, value: &Value| write!(f, " {sign} {}", Quoted(value));
    match test {
        Test::Equal(value) => signed(f, "=", value),
        Test::Below(value) => signed(f, "<", value),
        Test::AtMost(value) => signed(f, "<=", value),
        Test::Above(value) => signed(f, ">", value),
        Test::AtLeast(value) => signed(f, ">=", value),
        Test::Between(low, high) => write!(f, " between {} and {}", Quoted(low), Quoted(high)),
        Test::Under(path) => signed(f, "under", path),
        Test::Absent => f.write_str(" is absent"),
        Test::In(values) => {
            let values: Vec<_> = values.iter().map(|value| Quoted(value).to_string()).collect();
            write!(f, " in ({})", values.join(", "))
        }
    }
}

/// A value in quotation marks, with those inside doubled.
struct Quoted<'a>(&'a Value);

impl Display for Quoted<'_> {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "'{}'", self.0.to_string().replace('\'', "''"))
    }
}
