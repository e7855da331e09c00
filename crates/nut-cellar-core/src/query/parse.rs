//! Reading what a person typed. It never fails: what makes no sense is taken as plain words and said in a note.

use super::tree::Query;

/// A query that was read, and what there is to say about it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Reading {
    /// What it means.
    pub query: Query,
    /// What was taken otherwise than it may have been meant.
    pub notes: Vec<String>,
}

impl Query {
    /// Reads a query. Takes time in proportion to the text.
    ///
    /// ```
    /// use nut_cellar_core::Query;
    ///
    /// let reading = Query::read(r#"walnut title:"brass handle"#);
    /// assert_eq!(reading.query.to_string(), r#"walnut title:"brass handle""#);
    /// assert_eq!(reading.notes, ["A quotation mark is not closed; the phrase was taken to go to the end."]);
    /// ```
    pub fn read(text: &str) -> Reading {
        let mut lexer = Lexer { rest: text, notes: Vec::new() };
        let mut parts = Vec::new();
        while let Some(part) = lexer.part() {
            parts.push(part);
        }
        let query = match parts.pop() {
            Some(only) if parts.is_empty() => only,
            last => Query::All(parts.into_iter().chain(last).collect()),
        };
        Reading { query, notes: lexer.notes }
    }
}

struct Lexer<'a> {
    rest: &'a str,
    notes: Vec<String>,
}

impl Lexer<'_> {
    /// The next word or phrase, with its columns.
    fn part(&mut self) -> Option<Query> {
        self.rest = self.rest.trim_start();
        if self.rest.is_empty() {
            return None;
        }
        let columns = self.columns();
        let query = if self.take('"') { Query::Phrase(self.phrase()) } else { Query::Word(self.word(&[]).0) };
        Some(if columns.is_empty() { query } else { query.within(columns) })
    }

    /// The columns before a colon that something follows; none if this is not the beginning of such a part.
    fn columns(&mut self) -> Vec<String> {
        let before = self.rest;
        let mut columns = Vec::new();
        loop {
            let (name, end) = self.word(&[',', ':']);
            if name.is_empty() || end.is_none() {
                break;
            }
            columns.push(name);
            if end == Some(':') {
                if self.rest.starts_with(|next: char| !next.is_whitespace()) {
                    return columns;
                }
                break;
            }
        }
        self.rest = before;
        Vec::new()
    }

    /// The characters up to white space, a quotation mark, or one of `ends`, which is taken and told.
    fn word(&mut self, ends: &[char]) -> (String, Option<char>) {
        let mut word = String::new();
        let mut characters = self.rest.char_indices();
        while let Some((at, character)) = characters.next() {
            match character {
                '\\' => word.push(characters.next().map_or('\\', |(_, escaped)| escaped)),
                _ if ends.contains(&character) => {
                    self.rest = &self.rest[at + character.len_utf8()..];
                    return (word, Some(character));
                }
                _ if character.is_whitespace() || character == '"' => {
                    self.rest = &self.rest[at..];
                    return (word, None);
                }
                _ => word.push(character),
            }
        }
        self.rest = "";
        (word, None)
    }

    /// What stands up to the closing quotation mark.
    fn phrase(&mut self) -> String {
        let mut phrase = String::new();
        let mut characters = self.rest.char_indices();
        while let Some((at, character)) = characters.next() {
            match character {
                '\\' => phrase.push(characters.next().map_or('\\', |(_, escaped)| escaped)),
                '"' => {
                    self.rest = &self.rest[at + 1..];
                    return phrase;
                }
                _ => phrase.push(character),
            }
        }
        self.rest = "";
        self.notes.push("A quotation mark is not closed; the phrase was taken to go to the end.".to_owned());
        phrase
    }

    fn take(&mut self, character: char) -> bool {
        let rest = self.rest.strip_prefix(character);
        self.rest = rest.unwrap_or(self.rest);
        rest.is_some()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn words_phrases_and_columns_are_read() {
        let words = |words: &[&str]| Query::all(words.iter().map(|word| Query::word(*word)));
        for (text, query) in [
            ("walnut", Query::word("walnut")),
            ("  walnut   box ", words(&["walnut", "box"])),
            ("", words(&[])),
            ("\"brass handle\"", Query::phrase("brass handle")),
            ("title:oak", Query::word("oak").within(["title"])),
            ("title,notes:\"a b\"", Query::phrase("a b").within(["title", "notes"])),
            ("title: oak", words(&["title:", "oak"])),
            (":oak", Query::word(":oak")),
            ("a,b", Query::word("a,b")),
            (r#"\"5\" a\:b"#, words(&["\"5\"", "a:b"])),
            ("é:ü", Query::word("ü").within(["é"])),
            ("\\", Query::word("\\")),
            ("5\"", Query::all([Query::word("5"), Query::phrase("")])),
        ] {
            assert_eq!(Query::read(text).query, query, "{text}");
        }
    }

    fn trees() -> impl Strategy<Value = Query> {
        let text = "[a-c:,\"\\\\ é]{1,4}";
        let leaf = prop_oneof![text.prop_map(Query::Word), text.prop_map(Query::Phrase)];
        let part = (leaf, prop::option::of(prop::collection::vec("[a-c:, ]{1,3}", 1..3))).prop_map(
            |(leaf, columns)| match columns {
                Some(columns) => leaf.within(columns),
                None => leaf,
            },
        );
        prop::collection::vec(part, 2..5).prop_map(Query::All)
    }

    proptest! {
        #[test]
        fn what_is_printed_reads_back(tree in trees()) {
            let reading = Query::read(&tree.to_string());
            prop_assert_eq!(reading.query, tree);
            prop_assert!(reading.notes.is_empty());
        }

        #[test]
        fn anything_can_be_read(text: String) {
            let query = Query::read(&text).query;
            prop_assert_eq!(&Query::read(&query.to_string()).query, &query);
        }
    }
}
