//! From the tokens of a query to its tree.
//!
//! ```text
//! list   = either either …          side by side
//! either = both OR both …
//! both   = part AND part …
//! part   = - part | NOT part | + part | columns: atom | atom
//! atom   = word | pattern | ~word | "phrase" | "phrase" within n | ( list )
//! ```

use super::lex::{Placed, Problem, Token, tokens};
use super::misread::Misread;
use super::tree::{DEEPEST, Query};
use crate::filter::reads_as_value;
use crate::note::Note;
use crate::schema::Schema;
use std::ops::Range;

/// `NOT` may be typed so often in a row; more are taken as words.
const MOST_SIGNS: usize = 2;
/// How deep brackets may be nested, from which on a query is read again without the inner ones if it is deeper than it may be. Each has up
/// to six parts inside one another (two signs, columns, and a list of each kind), so with the last of these no query is too deep.
const DEEPEST_BRACKETS: [usize; 4] = [DEEPEST, 30, 15, 9];

/// A query that was read, and what there is to say about it.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct ReadQuery {
    /// What it means.
    pub query: Query,
    /// What was taken otherwise than it may have been meant.
    pub notes: Vec<Note>,
}

impl Query {
    /// Reads what a person typed. It never fails: what makes no sense is taken as plain words and noted. Takes time in
    /// proportion to the text.
    ///
    /// ```
    /// use nut_cellar_core::Query;
    ///
    /// let reading = Query::read(r#"walnut title:"brass handle"#);
    /// assert_eq!(reading.query.to_string(), r#"walnut title:"brass handle""#);
    /// assert_eq!(reading.notes[0].to_string(), "A quotation mark is not closed; the phrase was taken to go to the end.");
    /// ```
    pub fn read(text: &str) -> ReadQuery {
        let (query, problems, _) = parse(text);
        let note = |(range, message): (Range<usize>, String)| Note::Misread {
            message,
            start: range.start,
            end: range.end,
        };
        ReadQuery { query, notes: problems.into_iter().map(note).collect() }
    }

    /// Reads what a program or its developer wrote, which has to make sense, with the columns of a schema.
    ///
    /// ```
    /// use nut_cellar_core::{Column, Query, Schema};
    ///
    /// let schema = Schema::new("id").with("title", Column::text("en"));
    /// assert!(Query::read_exactly("title:(oak OR elm) -rusty", &schema).is_ok());
    /// let misread = Query::read_exactly("oak colour:black", &schema).unwrap_err();
    /// assert_eq!((misread.range, misread.message.as_str()), (4..10, "There is no column `colour`."));
    /// ```
    ///
    /// # Errors
    /// The first thing that makes no sense, with where it stands: what a [reading](Self::read) would note, a column that
    /// the schema does not have, or a value that is none of its column's kind.
    pub fn read_exactly(text: &str, schema: &Schema) -> Result<Self, Misread> {
        let (query, problems, columns) = parse(text);
        let mut problems = problems;
        problems.extend(columns.iter().flat_map(|part| part.problems(schema)));
        match problems.into_iter().min_by_key(|(range, _)| range.start) {
            Some((range, message)) => Err(Misread::new(text, range, message)),
            None => Ok(query),
        }
    }
}

/// Columns in front of a colon, and the word behind it, if it is one.
struct Named {
    columns: Vec<(String, Range<usize>)>,
    value: Option<(String, Range<usize>)>,
}

impl Named {
    fn problems(&self, schema: &Schema) -> Vec<Problem> {
        let mut problems = Vec::new();
        for (name, range) in &self.columns {
            let Some(column) = schema.column(name) else {
                problems.push((range.clone(), format!("There is no column `{name}`.")));
                continue;
            };
            if column.has_words() {
                continue;
            }
            let reads = self.value.as_ref().map(|(value, _)| reads_as_value(column.kind(), value));
            if let Some(Err(what)) = reads {
                let range = self.value.as_ref().map_or(range, |(_, range)| range);
                problems.push((range.clone(), what));
            } else if reads.is_none() {
                let message =
                    format!("Column `{name}` is of kind \"{}\" and takes a value only.", column.kind());
                problems.push((range.clone(), message));
            }
        }
        problems
    }
}

fn parse(text: &str) -> (Query, Vec<Problem>, Vec<Named>) {
    let mut brackets = DEEPEST_BRACKETS.into_iter().peekable();
    loop {
        let (tokens, problems) = tokens(text, brackets.next().unwrap_or_default());
        let mut parser = Parser { text, tokens, at: 0, problems, named: Vec::new() };
        let query = parser.list().normal();
        if brackets.peek().is_none() || !query.is_deeper_than(DEEPEST) {
            parser.problems.sort_by_key(|(range, _)| range.start);
            return (query, parser.problems, parser.named);
        }
    }
}

struct Parser<'a> {
    text: &'a str,
    tokens: Vec<Placed>,
    at: usize,
    problems: Vec<Problem>,
    named: Vec<Named>,
}

impl Parser<'_> {
    fn peek(&self) -> Option<&Token> {
        self.tokens.get(self.at).map(|(token, _)| token)
    }

    fn take(&mut self) -> Option<Placed> {
        let taken = self.tokens.get(self.at).cloned();
        self.at += usize::from(taken.is_some());
        taken
    }

    /// Whether what stands at a token can begin a part.
    fn begins_part(&self, at: usize) -> bool {
        for at in at..=at + MOST_SIGNS {
            match self.tokens.get(at) {
                None | Some((Token::Close | Token::Or | Token::And, _)) => return false,
                Some((Token::Without | Token::Needed, _)) => {}
                Some(_) => return true,
            }
        }
        false
    }

    fn list(&mut self) -> Query {
        let mut parts = Vec::new();
        while !matches!(self.peek(), None | Some(Token::Close)) {
            parts.push(self.joined(&Token::Or));
        }
        Query::Words(parts)
    }

    /// Parts joined by an operator.
    fn joined(&mut self, operator: &Token) -> Query {
        let both = *operator == Token::Or;
        let next = |parser: &mut Self| if both { parser.joined(&Token::And) } else { parser.part(0) };
        let mut parts = vec![next(self)];
        while self.peek() == Some(operator) && self.begins_part(self.at + 1) {
            self.at += 1;
            parts.push(next(self));
        }
        if both { Query::Any(parts) } else { Query::All(parts) }
    }

    fn part(&mut self, signs: usize) -> Query {
        let Some((token, range)) = self.take() else { return Query::Words(Vec::new()) };
        match token {
            Token::Without if signs < MOST_SIGNS && self.begins_part(self.at) => {
                Query::Without(Box::new(self.part(signs + 1)))
            }
            Token::Needed if signs < MOST_SIGNS && self.begins_part(self.at) => {
                Query::Needed(Box::new(self.part(signs + 1)))
            }
            Token::Without | Token::Needed | Token::Or | Token::And => {
                let word = self.text[range.clone()].to_owned();
                let message = format!("`{word}` stands where it joins nothing; it was taken as a word.");
                self.problems.push((range, message));
                Query::Word(word)
            }
            Token::Columns(columns) => {
                let value = match self.tokens.get(self.at) {
                    Some((Token::Word(text) | Token::Phrase(text, None), range)) => {
                        Some((text.clone(), range.clone()))
                    }
                    _ => None,
                };
                let names: Vec<_> = columns.iter().map(|(name, _)| name.clone()).collect();
                self.named.push(Named { columns, value });
                let behind = self.part(MOST_SIGNS);
                Query::In(names, Box::new(behind))
            }
            Token::Open => self.group(range),
            Token::Close => Query::Words(Vec::new()),
            Token::Word(text) => Query::Word(text),
            Token::Pattern(text) => Query::Pattern(text),
            Token::Near(text) => Query::Near(text),
            Token::Phrase(text, None) => Query::Phrase(text),
            Token::Phrase(text, Some(positions)) => Query::Window(text, positions),
        }
    }

    /// What stands in brackets, of which the first was taken.
    fn group(&mut self, opened: Range<usize>) -> Query {
        let list = self.list();
        if matches!(&list, Query::Words(parts) if parts.is_empty()) {
            let message = "There is nothing in the brackets; they were left out.";
            self.problems.push((opened.clone(), message.to_owned()));
        }
        if self.take().is_none() {
            self.problems.push((opened, "A bracket is not closed.".to_owned()));
        }
        list
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn word(text: &str) -> Query {
        Query::word(text)
    }

    fn words(words: &[&str]) -> Query {
        Query::words(words.iter().map(|text| word(text)))
    }

    fn without(query: Query) -> Query {
        Query::Without(Box::new(query))
    }

    #[test]
    fn what_is_typed_is_read() {
        let [a, b, c] = ["a", "b", "c"].map(word);
        for (text, query) in [
            ("walnut", word("walnut")),
            ("  walnut   box ", words(&["walnut", "box"])),
            ("", words(&[])),
            ("\"brass handle\"", Query::phrase("brass handle")),
            ("“brass handle„", Query::phrase("brass handle")),
            ("«a» b", Query::words([Query::phrase("a"), b.clone()])),
            ("\"brass handle\" within 4 c", Query::words([Query::window("brass handle", 4), c.clone()])),
            ("\"a b\" within four", Query::words([Query::phrase("a b"), word("within"), word("four")])),
            ("\"a b\" \\within 4", Query::words([Query::phrase("a b"), word("within"), word("4")])),
            ("title:oak", word("oak").in_columns(["title"])),
            ("title：oak", word("oak").in_columns(["title"])),
            ("title,notes:\"a b\"", Query::phrase("a b").in_columns(["title", "notes"])),
            ("title,notes:(a OR b)", Query::any([a.clone(), b.clone()]).in_columns(["title", "notes"])),
            ("title: oak", words(&["title:", "oak"])),
            (":oak", word(":oak")),
            ("a,b", word("a,b")),
            (r#"\"5\" a\:b"#, words(&["\"5\"", "a:b"])),
            ("é:ü", word("ü").in_columns(["é"])),
            ("\\", word("\\")),
            ("5\"", Query::words([word("5"), Query::phrase("")])),
            ("a -b", a.clone().without(b.clone())),
            ("a −b", a.clone().without(b.clone())),
            ("a -(b c)", a.clone().without(words(&["b", "c"]))),
            ("a NOT b", a.clone().without(b.clone())),
            ("a not b", words(&["a", "not", "b"])),
            ("e-mail 5-10 - a --b", words(&["e-mail", "5-10", "-", "a", "--b"])),
            ("\\-5", word("-5")),
            ("a OR b c", Query::words([Query::any([a.clone(), b.clone()]), c.clone()])),
            ("a b OR c", Query::words([a.clone(), Query::any([b.clone(), c.clone()])])),
            ("a AND b OR c", Query::any([Query::all([a.clone(), b.clone()]), c.clone()])),
            ("(a b) OR c", Query::any([words(&["a", "b"]), c.clone()])),
            ("（a OR b） c", Query::words([Query::any([a.clone(), b.clone()]), c.clone()])),
            ("a NOT £b", a.clone().without(word("£b"))),
            ("a -£b", words(&["a", "-£b"])),
            ("a OR NOT b", Query::any([a.clone(), without(b.clone())])),
            ("+a b", Query::words([a.clone().needed(), b.clone()])),
            ("C++ 1+1", words(&["C++", "1+1"])),
            ("umbr*", Query::pattern("umbr*")),
            ("*ella u?brella", Query::words([Query::pattern("*ella"), Query::pattern("u?brella")])),
            ("\\*a", word("*a")),
            ("a\\**", Query::pattern("a\\**")),
            ("~umbrela", Query::near("umbrela")),
            ("~", word("~")),
            ("~\\£b", Query::near("£b")),
            ("a~b", word("a~b")),
            ("value:>=100", word(">=100").in_columns(["value"])),
            ("value:-5", word("-5").in_columns(["value"])),
            ("title:-oak", without(word("oak").in_columns(["title"]))),
            ("d:2031-04..2031-06", word("2031-04..2031-06").in_columns(["d"])),
            ("t:2031-04-17T08:30:00Z", word("2031-04-17T08:30:00Z").in_columns(["t"])),
            ("umbrella(s)", word("umbrella(s)")),
            ("(umbrella(s) a)", words(&["umbrella(s)", "a"])),
            ("a)", word("a)")),
            ("((a))", a.clone()),
        ] {
            let reading = Query::read(text);
            assert_eq!(reading.query, query, "{text}");
            assert_eq!(Query::read(&query.to_string()).query, query, "{text} → {query}");
            let kept = serde_json::to_string(&query).unwrap();
            assert_eq!(serde_json::from_str::<Query>(&kept).unwrap(), query, "{kept}");
        }
    }

    #[test]
    fn what_makes_no_sense_is_said_with_where_it_stands() {
        let schema = Schema::new("id")
            .with("title", crate::Column::text("en"))
            .with("found_on", crate::Column::of(crate::Kind::Date));
        for (text, query, range, message) in [
            (
                "a \"b",
                "a \"b\"",
                2..3,
                "A quotation mark is not closed; the phrase was taken to go to the end.",
            ),
            ("a (b c", "a (b c)", 2..3, "A bracket is not closed."),
            ("a ()", "a", 2..3, "There is nothing in the brackets; they were left out."),
            ("a OR", "a \\OR", 2..4, "`OR` stands where it joins nothing; it was taken as a word."),
            ("NOT", "\\NOT", 0..3, "`NOT` stands where it joins nothing; it was taken as a word."),
            ("a OR OR b", "a \\OR OR b", 2..4, "`OR` stands where it joins nothing; it was taken as a word."),
            ("colour:red", "colour:red", 0..6, "There is no column `colour`."),
            (
                "found_on:yesterday",
                "found_on:yesterday",
                9..18,
                "`yesterday` is not a date such as 2031-04-17 or 2031-04.",
            ),
            (
                "found_on:(a OR b)",
                "found_on:(a OR b)",
                0..8,
                "Column `found_on` is of kind \"date\" and takes a value only.",
            ),
        ] {
            assert_eq!(Query::read(text).query, Query::read(query).query, "{text}");
            let misread = Query::read_exactly(text, &schema).unwrap_err();
            assert_eq!((misread.range.clone(), misread.message.as_str()), (range, message), "{text}");
            assert!(crate::Error::from(misread).is_bad_request());
        }
        assert!(Query::read_exactly("title:oak found_on:2031 -(a OR b)", &schema).is_ok());
    }

    #[test]
    fn deep_and_long_queries_are_read_in_a_straight_line() {
        for text in [
            "(".repeat(4_000),
            "NOT ".repeat(4_000),
            "-(".repeat(2_000),
            "a OR ".repeat(2_000),
            "\"".repeat(999),
            "NOT ".repeat(200_000),
            "OR ".repeat(200_000),
        ] {
            let reading = Query::read(&text);
            assert!(reading.notes.len() <= 200_000);
            assert_eq!(Query::read(&reading.query.to_string()).query, reading.query);
        }
    }

    /// Any tree, also those that reading never gives.
    fn trees() -> impl Strategy<Value = Query> {
        let text = "[a-cORNT:,\"\\\\ é()~*?+£-]{0,4}|within|OR|[0-9]{1,2}";
        let leaf = prop_oneof![
            4 => text.prop_map(Query::Word),
            2 => text.prop_map(Query::Phrase),
            1 => (text, 0_u32..9).prop_map(|(text, positions)| Query::Window(text, positions)),
            1 => "[a-c:()\\- ]{0,2}[*?][a-c\"-]{0,2}".prop_map(|text| Query::Pattern(text.replace(['(', ')'], "\\\\"))),
            1 => "[a-c0-9][a-c:\"-]{0,3}".prop_map(Query::Near),
        ];
        leaf.prop_recursive(4, 24, 4, |inner| {
            let several = || prop::collection::vec(inner.clone(), 0..4);
            let columns = prop::collection::vec("[a-c:, (-]{1,3}", 0..3);
            prop_oneof![
                several().prop_map(Query::Words),
                several().prop_map(Query::All),
                several().prop_map(Query::Any),
                inner.clone().prop_map(|part| Query::Without(Box::new(part))),
                inner.clone().prop_map(|part| Query::Needed(Box::new(part))),
                (columns, inner).prop_map(|(columns, part)| Query::In(columns, Box::new(part))),
            ]
        })
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 2_000, ..ProptestConfig::default() })]

        #[test]
        fn what_is_printed_reads_back(tree in trees()) {
            let text = tree.to_string();
            let reading = Query::read(&text);
            prop_assert_eq!(&reading.query, &tree.clone().normal(), "{}", text);
            prop_assert!(reading.notes.is_empty(), "{}: {:?}", text, reading.notes);
            let kept = serde_json::to_string(&tree).unwrap();
            prop_assert_eq!(serde_json::from_str::<Query>(&kept).unwrap(), tree);
        }

        #[test]
        fn anything_can_be_read(text in "\\PC{0,40}|[a-c \"()~*?+:,\\\\ORNTAD-]{0,40}") {
            let query = Query::read(&text).query;
            prop_assert_eq!(&query.clone().normal(), &query);
            prop_assert_eq!(&Query::read(&query.to_string()).query, &query, "{}", query);
            if let Err(misread) = Query::read_exactly(&text, &Schema::new("id").with("a", crate::Column::text("en"))) {
                prop_assert!(text.get(misread.range).is_some());
            }
        }
    }
}
