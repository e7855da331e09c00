//! Reading a filter from text.
//!
//! ```text
//! either = both or both …
//! both   = not and not …
//! not    = not not | ( either ) | test
//! test   = column = value | != | < | <= | > | >= | in ( value, … ) | in low..high | between value and value
//!        | under path | is absent | is not absent
//! ```
//!
//! Keywords are taken in any case. A value stands in single quotation marks, doubled inside, or as it is where it has no
//! space, bracket, comma or sign; a column's name may stand in double ones.

use super::bound::{bind_test, column};
use super::keys::is_key;
use super::{Filter, Test};
use crate::query::Misread;
use crate::record::Value;
use crate::schema::Schema;
use std::ops::Range;

/// Brackets and `not` may be nested so deep.
const DEEPEST: usize = 32;

const KEYWORDS: [&str; 8] = ["and", "or", "not", "in", "is", "absent", "between", "under"];

pub(super) fn is_keyword(name: &str) -> bool {
    KEYWORDS.iter().any(|keyword| keyword.eq_ignore_ascii_case(name))
}

impl Filter {
    /// Reads a filter for the columns of a schema. Takes time in proportion to the text.
    ///
    /// ```
    /// use nut_cellar_core::{Column, Filter, Kind, Schema};
    ///
    /// let schema = Schema::new("id").with("title", Column::text("en")).with("value", Column::of(Kind::Integer));
    /// assert!(Filter::read("value between 5 and 9 or value is absent", &schema).is_ok());
    /// let misread = Filter::read("value > lots", &schema).unwrap_err();
    /// assert_eq!(misread.to_string(), "`lots` is not a whole number such as 42.\n  value > lots\n          ^^^^");
    /// ```
    ///
    /// # Errors
    /// The first thing that makes no sense, with where it stands.
    pub fn read(text: &str, schema: &Schema) -> Result<Self, Misread> {
        let tokens = tokens(text)?;
        let mut parser = Parser { text, schema, tokens, at: 0, depth: 0 };
        let filter = parser.either()?;
        match parser.peek() {
            None => Ok(filter),
            Some((_, range)) => Err(parser.wrong(range, "This joins nothing; put `and` or `or` before it.")),
        }
    }
}

/// A piece of a text.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Token {
    /// A bracket, a comma or a comparison.
    Sign(&'static str),
    /// As it is.
    Bare(String),
    /// In double quotation marks: a column.
    Name(String),
    /// In single ones: a value.
    Text(String),
}

/// With where it stands.
pub(crate) type Placed = (Token, Range<usize>);

const SIGNS: [&str; 10] = ["<=", ">=", "!=", "<>", "=", "<", ">", "(", ")", ","];

/// Divides a text.
pub(crate) fn tokens(text: &str) -> Result<Vec<Placed>, Misread> {
    let (mut tokens, mut at) = (Vec::new(), 0);
    while let Some(first) = text[at..].chars().next() {
        let rest = &text[at..];
        if first.is_whitespace() {
            at += first.len_utf8();
        } else if let Some(sign) = SIGNS.iter().find(|sign| rest.starts_with(**sign)) {
            tokens.push((Token::Sign(sign), at..at + sign.len()));
            at += sign.len();
        } else if matches!(first, '\'' | '"') {
            let (inside, length) = quoted(rest, first)
                .ok_or_else(|| Misread::new(text, at..at + 1, "A quotation mark is not closed."))?;
            let token = if first == '"' { Token::Name(inside) } else { Token::Text(inside) };
            tokens.push((token, at..at + length));
            at += length;
        } else {
            let ends = |c: char| c.is_whitespace() || "()',\"<>=!".contains(c);
            let length = rest.find(ends).unwrap_or(rest.len()).max(first.len_utf8());
            tokens.push((Token::Bare(rest[..length].to_owned()), at..at + length));
            at += length;
        }
    }
    Ok(tokens)
}

/// What stands in quotation marks, of which two stand for one, and how many bytes it takes with them.
fn quoted(text: &str, mark: char) -> Option<(String, usize)> {
    let mut inside = String::new();
    let mut characters = text.char_indices().skip(1).peekable();
    while let Some((at, character)) = characters.next() {
        if character != mark {
            inside.push(character);
        } else if characters.peek().is_some_and(|(_, next)| *next == mark) {
            characters.next();
            inside.push(mark);
        } else {
            return Some((inside, at + 1));
        }
    }
    None
}

struct Parser<'a> {
    text: &'a str,
    schema: &'a Schema,
    tokens: Vec<Placed>,
    at: usize,
    depth: usize,
}

impl Parser<'_> {
    fn peek(&self) -> Option<Placed> {
        self.tokens.get(self.at).cloned()
    }

    fn wrong(&self, range: Range<usize>, message: impl Into<String>) -> Misread {
        Misread::new(self.text, range, message)
    }

    /// The error for what should stand here.
    fn expected(&self, what: &str) -> Misread {
        let end = self.text.len();
        let range = self.peek().map_or(end..end, |(_, range)| range);
        self.wrong(range, format!("Here should be {what}."))
    }

    fn keyword(&mut self, keyword: &str) -> bool {
        let there = matches!(self.peek(), Some((Token::Bare(word), _)) if word.eq_ignore_ascii_case(keyword));
        self.at += usize::from(there);
        there
    }

    fn sign(&mut self, sign: &str) -> bool {
        let there = matches!(self.peek(), Some((Token::Sign(known), _)) if known == sign);
        self.at += usize::from(there);
        there
    }

    fn either(&mut self) -> Result<Filter, Misread> {
        let mut parts = vec![self.both()?];
        while self.keyword("or") {
            parts.push(self.both()?);
        }
        Ok(if parts.len() == 1 { parts.remove(0) } else { Filter::Any(parts) })
    }

    fn both(&mut self) -> Result<Filter, Misread> {
        let mut parts = vec![self.not()?];
        while self.keyword("and") {
            parts.push(self.not()?);
        }
        Ok(if parts.len() == 1 { parts.remove(0) } else { Filter::All(parts) })
    }

    fn not(&mut self) -> Result<Filter, Misread> {
        let start = self.peek().map_or(0..0, |(_, range)| range);
        let (negates, opens) = (self.keyword("not"), self.sign("("));
        if !negates && !opens {
            return self.test();
        }
        self.depth += 1;
        if self.depth > DEEPEST {
            return Err(self.wrong(start, "Brackets and `not` are nested too deep here."));
        }
        let inner = match (opens, negates) {
            (true, _) => {
                let inner = self.either()?;
                if !self.sign(")") {
                    return Err(self.expected("a closing bracket"));
                }
                inner
            }
            (false, _) => self.not()?,
        };
        self.depth -= 1;
        Ok(if negates { inner.not() } else { inner })
    }

    fn test(&mut self) -> Result<Filter, Misread> {
        let Some((Token::Bare(name) | Token::Name(name), range)) = self.peek() else {
            return Err(self.expected("a column"));
        };
        if !is_key(self.schema, &name) {
            column(self.schema, &name).map_err(|message| self.wrong(range, message))?;
        }
        self.at += 1;
        let (not, test) = self.comparison(&name)?;
        let test = Filter::Column(name, test);
        Ok(if not { test.not() } else { test })
    }

    /// What stands behind a column, and whether it is the opposite that holds.
    fn comparison(&mut self, name: &str) -> Result<(bool, Test), Misread> {
        type Make = fn(Value) -> Test;
        let signs: [(&str, Make, bool); 7] = [
            ("=", Test::Equal, false),
            ("!=", Test::Equal, true),
            ("<>", Test::Equal, true),
            ("<", Test::Below, false),
            ("<=", Test::AtMost, false),
            (">", Test::Above, false),
            (">=", Test::AtLeast, false),
        ];
        for (sign, make, not) in signs {
            if self.sign(sign) {
                return Ok((not, make(self.value(name)?)));
            }
        }
        if self.keyword("is") {
            let not = self.keyword("not");
            return if self.keyword("absent") {
                Ok((not, Test::Absent))
            } else {
                Err(self.expected("`absent`"))
            };
        }
        let not = self.keyword("not");
        if self.keyword("between") {
            let low = self.value(name)?;
            if !self.keyword("and") {
                return Err(self.expected("`and`"));
            }
            return Ok((not, Test::Between(low, self.value(name)?)));
        }
        if self.keyword("in") {
            return Ok((not, self.set(name)?));
        }
        if self.keyword("under") {
            let at = self.peek();
            let test = Test::Under(self.value(name)?);
            bind_test(self.schema, name, &test)
                .map_err(|message| self.wrong(at.map_or(0..0, |(_, range)| range), message))?;
            return Ok((not, test));
        }
        Err(self.expected("a comparison: =, !=, <, <=, >, >=, `in`, `between`, `under` or `is absent`"))
    }

    /// Values in brackets, or a range.
    fn set(&mut self, name: &str) -> Result<Test, Misread> {
        if !self.sign("(") {
            let Some((Token::Bare(text), range)) = self.peek() else {
                return Err(self.expected("a range such as 5..9, or values in brackets"));
            };
            let test = super::test::range(&text)
                .ok_or_else(|| self.expected("a range such as 5..9, or values in brackets"))?;
            bind_test(self.schema, name, &test).map_err(|message| self.wrong(range, message))?;
            self.at += 1;
            return Ok(test);
        }
        let mut values = vec![self.value(name)?];
        while self.sign(",") {
            values.push(self.value(name)?);
        }
        if self.sign(")") { Ok(Test::In(values)) } else { Err(self.expected("a comma or a closing bracket")) }
    }

    fn value(&mut self, name: &str) -> Result<Value, Misread> {
        let Some((Token::Bare(text) | Token::Text(text), range)) = self.peek() else {
            return Err(self.expected("a value"));
        };
        let value = Value::Text(text);
        bind_test(self.schema, name, &Test::Equal(value.clone()))
            .map_err(|message| self.wrong(range, message))?;
        self.at += 1;
        Ok(value)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::schema::{Column, Kind};
    use proptest::prelude::*;

    fn schema() -> Schema {
        Schema::new("id")
            .with("title", Column::text("en"))
            .with("value", Column::of(Kind::Integer))
            .with("found on", Column::of(Kind::Date))
            .with("station", Column::of(Kind::Exact))
    }

    #[test]
    fn filters_are_read() {
        let value = |text: &str| Filter::at_least("value", text);
        for (text, filter) in [
            ("value >= 5", value("5")),
            ("value>=-5", value("-5")),
            ("not value >= 5", value("5").not()),
            ("NOT (value >= 5 OR value >= 6)", value("5").or(value("6")).not()),
            ("value >= 5 or value >= 6 and value >= 7", value("5").or(value("6").and(value("7")))),
            ("station = 'Quill''s Halt'", Filter::equal("station", "Quill's Halt")),
            ("station != Elmfold", Filter::equal("station", "Elmfold").not()),
            ("\"found on\" in 2031-04..2031-06", Filter::between("found on", "2031-04", "2031-06")),
            ("value in 5..", value("5")),
            ("station not under tools/hand", Filter::under("station", "tools/hand").not()),
            ("value not in (1,'2')", Filter::is_in("value", ["1", "2"]).not()),
            (
                "value between 1 and 2 and value < 9",
                Filter::between("value", "1", "2").and(Filter::below("value", "9")),
            ),
            (
                "station is absent or value is not absent",
                Filter::absent("station").or(Filter::absent("value").not()),
            ),
        ] {
            assert_eq!(Filter::read(text, &schema()).unwrap(), filter, "{text}");
            assert_eq!(Filter::read(&filter.to_string(), &schema()).unwrap(), filter, "{filter}");
        }
    }

    #[test]
    fn what_makes_no_sense_is_said_with_where_it_stands() {
        for (text, range, message) in [
            ("", 0..0, "Here should be a column."),
            (
                "colour = 'red'",
                0..6,
                "There is no column `colour`; values can be compared of value, found on, station.",
            ),
            ("title = oak", 0..5, "Column `title` is of kind \"text\" and its values can't be compared."),
            ("value = lots", 8..12, "`lots` is not a whole number such as 42."),
            (
                "value 5",
                6..7,
                "Here should be a comparison: =, !=, <, <=, >, >=, `in`, `between`, `under` or `is absent`.",
            ),
            ("value = 5 station = x", 10..17, "This joins nothing; put `and` or `or` before it."),
            ("(value = 5", 10..10, "Here should be a closing bracket."),
            ("station = 'x", 10..11, "A quotation mark is not closed."),
            ("value in 5", 9..10, "Here should be a range such as 5..9, or values in brackets."),
            ("value is 5", 9..10, "Here should be `absent`."),
            (
                "value under 5",
                12..13,
                "Column `value` is of kind \"integer\", and only exact values have levels.",
            ),
        ] {
            let misread = Filter::read(text, &schema()).unwrap_err();
            assert_eq!((misread.range, misread.message.as_str()), (range, message), "{text}");
        }
        assert!(Filter::read(&format!("{}value = 1{}", "(".repeat(99), ")".repeat(99)), &schema()).is_err());
    }

    fn filters() -> impl Strategy<Value = Filter> {
        let text = "[a-z'\" ]{0,4}";
        let number = || (-9_i64..9).prop_map(|n| n.to_string());
        let leaf = prop_oneof![
            text.prop_map(|text| Filter::equal("station", text)),
            text.prop_map(|text| Filter::under("station", text)),
            number().prop_map(|n| Filter::below("value", n)),
            (number(), number()).prop_map(|(a, b)| Filter::between("value", a, b)),
            prop::collection::vec(number(), 1..3).prop_map(|all| Filter::is_in("value", all)),
            Just(Filter::absent("found on")),
        ];
        leaf.prop_recursive(4, 16, 3, |inner| {
            let several = || prop::collection::vec(inner.clone(), 2..4);
            prop_oneof![
                several().prop_map(Filter::All),
                several().prop_map(Filter::Any),
                inner.clone().prop_map(Filter::not),
            ]
        })
    }

    proptest! {
        #[test]
        fn what_is_printed_reads_back(filter in filters()) {
            prop_assert_eq!(Filter::read(&filter.to_string(), &schema()).unwrap(), filter);
        }

        #[test]
        fn anything_is_read_or_refused(text in "\\PC{0,30}|[a-z ()'\"=<>,.0-9-]{0,30}|(value |= |5 |and |not |\\( ){0,9}") {
            if let Err(misread) = Filter::read(&text, &schema()) {
                prop_assert!(text.get(misread.range).is_some());
            }
        }
    }
}
