//! From the characters of a query to its tokens. It never fails: what makes no sense is taken as plain words and noted.

use super::print::{is_negative, literal};
use super::signs::{WITHIN, begins_part, begins_word, plain};
use std::ops::Range;

/// A piece of a query.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Token {
    Open,
    Close,
    /// `-` and `NOT`.
    Without,
    /// `+`.
    Needed,
    Or,
    And,
    /// Names in front of a colon, each with where it stands.
    Columns(Vec<(String, Range<usize>)>),
    Word(String),
    Pattern(String),
    Near(String),
    Phrase(String, Option<u32>),
}

/// What makes no sense, and where it stands.
pub(super) type Problem = (Range<usize>, String);

/// A token and where it stands.
pub(super) type Placed = (Token, Range<usize>);

pub(super) struct Lexer<'a> {
    text: &'a str,
    at: usize,
    /// Brackets that are open, and of those more that were left out.
    open: usize,
    left_out: usize,
    /// How deep brackets may be nested; deeper ones are left out.
    deepest: usize,
    tokens: Vec<Placed>,
    problems: Vec<Problem>,
}

/// The tokens of a text without brackets that are nested deeper than so, and what made no sense. Takes time in proportion to the text.
pub(super) fn tokens(text: &str, deepest: usize) -> (Vec<Placed>, Vec<Problem>) {
    let (tokens, problems) = (Vec::new(), Vec::new());
    let mut lexer = Lexer { text, at: 0, open: 0, left_out: 0, deepest, tokens, problems };
    while lexer.next() {}
    (lexer.tokens, lexer.problems)
}

/// What a run of characters was read to.
struct Run {
    text: String,
    /// The same as a pattern, if it has a wildcard.
    pattern: Option<String>,
    /// Whether a character was taken as it is.
    escaped: bool,
    end: Option<char>,
}

impl Lexer<'_> {
    /// Reads what begins where it stands; false at the end.
    fn next(&mut self) -> bool {
        let skipped = self.rest().len() - self.rest().trim_start().len();
        self.at += skipped;
        let Some(first) = self.peek() else { return false };
        let start = self.at;
        match first {
            '(' => self.open(),
            ')' if self.open + self.left_out > 0 => self.close(),
            '-' if self.begins_part() => self.sign(Token::Without),
            '+' if self.begins_part() => self.sign(Token::Needed),
            _ => {
                if let Some(columns) = self.columns() {
                    self.push(Token::Columns(columns), start);
                    // A number may be negative; anything else with a minus sign is not wanted there.
                    if self.peek() == Some('-') && !is_negative(self.rest()) && self.begins_part() {
                        let columns = self.tokens.pop();
                        let minus = self.at;
                        self.at += self.rest().chars().next().map_or(0, char::len_utf8);
                        self.push(Token::Without, minus);
                        self.tokens.extend(columns);
                    }
                }
                self.atom();
            }
        }
        true
    }

    fn rest(&self) -> &str {
        &self.text[self.at..]
    }

    fn peek(&self) -> Option<char> {
        self.rest().chars().next().map(plain)
    }

    fn push(&mut self, token: Token, start: usize) {
        self.tokens.push((token, start..self.at));
    }

    fn problem(&mut self, range: Range<usize>, message: &str) {
        self.problems.push((range, message.to_owned()));
    }

    fn sign(&mut self, token: Token) {
        let start = self.at;
        self.at += self.rest().chars().next().map_or(0, char::len_utf8);
        self.push(token, start);
    }

    fn open(&mut self) {
        let start = self.at;
        self.at += self.rest().chars().next().map_or(0, char::len_utf8);
        if self.open == self.deepest {
            if self.left_out == 0 {
                self.problem(start..self.at, "Brackets are nested too deep; the inner ones were left out.");
            }
            self.left_out += 1;
        } else {
            self.open += 1;
            self.push(Token::Open, start);
        }
    }

    fn close(&mut self) {
        let start = self.at;
        self.at += self.rest().chars().next().map_or(0, char::len_utf8);
        if self.left_out > 0 {
            self.left_out -= 1;
        } else {
            self.open -= 1;
            self.push(Token::Close, start);
        }
    }

    /// Whether a word, a quotation or a bracket follows after the sign at which it stands.
    fn begins_part(&self) -> bool {
        let mut rest = self.rest().chars();
        rest.next();
        begins_part(rest.as_str())
    }

    /// The columns in front of a colon that something follows; none, and nothing taken, if this is no such thing.
    fn columns(&mut self) -> Option<Vec<(String, Range<usize>)>> {
        let (before, mut columns) = (self.at, Vec::new());
        loop {
            let start = self.at;
            let run = self.run(&[',', ':']);
            let length =
                if run.end.is_some() { self.text[..self.at].chars().next_back()?.len_utf8() } else { 0 };
            if run.text.is_empty() || run.pattern.is_some() || run.end.is_none() {
                break;
            }
            columns.push((run.text, start..self.at - length));
            if run.end == Some(':') {
                if self.rest().starts_with(|next: char| !next.is_whitespace() && plain(next) != ')') {
                    return Some(columns);
                }
                break;
            }
        }
        self.at = before;
        None
    }

    /// A word, a pattern, a near spelling, a phrase, or a bracket behind columns.
    fn atom(&mut self) {
        let start = self.at;
        match self.peek() {
            Some('"') => return self.phrase(),
            Some('(') => return self.open(),
            Some('~')
                if self
                    .rest()
                    .chars()
                    .nth(1)
                    .is_some_and(|next| begins_word(plain(next)) || next == '\\') =>
            {
                self.at += self.rest().chars().next().map_or(0, char::len_utf8);
                let run = self.run(&[]);
                return self.push(Token::Near(run.text), start);
            }
            _ => {}
        }
        let run = self.run(&[]);
        let token = match (run.pattern, run.text) {
            (Some(pattern), _) => Token::Pattern(pattern),
            (None, text) if run.escaped => Token::Word(text),
            (None, text) => match text.as_str() {
                "OR" => Token::Or,
                "AND" => Token::And,
                "NOT" => Token::Without,
                _ => Token::Word(text),
            },
        };
        self.push(token, start);
    }

    /// The characters up to white space, a quotation mark, a bracket that closes a group, or one of `ends`, which is taken
    /// and told.
    fn run(&mut self, ends: &[char]) -> Run {
        let mut run = Run { text: String::new(), pattern: None, escaped: false, end: None };
        // Brackets that were opened inside the word.
        let mut inner = 0_usize;
        let text = self.text;
        let mut characters = text[self.at..].char_indices();
        while let Some((offset, character)) = characters.next() {
            let sign = plain(character);
            match sign {
                '\\' => {
                    let taken = characters.next().map_or('\\', |(_, escaped)| escaped);
                    run.escaped = true;
                    run.text.push(taken);
                    if let Some(pattern) = &mut run.pattern {
                        pattern.push_str(&literal(taken.encode_utf8(&mut [0; 4])));
                    }
                    continue;
                }
                _ if ends.contains(&sign) => {
                    self.at += offset + character.len_utf8();
                    run.end = Some(sign);
                    return run;
                }
                _ if character.is_whitespace() || sign == '"' => {
                    self.at += offset;
                    return run;
                }
                ')' if inner == 0 && self.open + self.left_out > 0 => {
                    self.at += offset;
                    return run;
                }
                ')' => inner = inner.saturating_sub(1),
                '(' => inner += 1,
                '*' | '?' => {
                    let so_far = literal(&run.text);
                    run.pattern.get_or_insert(so_far).push(sign);
                    run.text.push(sign);
                    continue;
                }
                _ => {}
            }
            run.text.push(character);
            if let Some(pattern) = &mut run.pattern {
                pattern.push(character);
            }
        }
        self.at = text.len();
        run
    }

    /// What stands up to the closing quotation mark, and the window behind it.
    fn phrase(&mut self) {
        let start = self.at;
        let mut phrase = String::new();
        let mut characters = self.text[self.at..].char_indices().skip(1);
        let mut end = None;
        while let Some((offset, character)) = characters.next() {
            match plain(character) {
                '\\' => phrase.push(characters.next().map_or('\\', |(_, escaped)| escaped)),
                '"' => {
                    end = Some(self.at + offset + character.len_utf8());
                    break;
                }
                _ => phrase.push(character),
            }
        }
        self.at = end.unwrap_or(self.text.len());
        if end.is_none() {
            let opened = start..start + self.text[start..].chars().next().map_or(0, char::len_utf8);
            self.problem(opened, "A quotation mark is not closed; the phrase was taken to go to the end.");
        }
        let window = self.window();
        self.push(Token::Phrase(phrase, window), start);
    }

    /// `within` and a number, behind a phrase.
    fn window(&mut self) -> Option<u32> {
        let rest = self.rest().trim_start().strip_prefix(WITHIN)?;
        let number = rest.trim_start();
        if number.len() == rest.len() {
            return None;
        }
        let digits = number.bytes().take_while(u8::is_ascii_digit).count();
        let behind = &number[digits..];
        let ends = behind.chars().next().is_none_or(|next| next.is_whitespace() || plain(next) == ')');
        let positions = number[..digits].parse().ok().filter(|_| ends)?;
        self.at = self.text.len() - behind.len();
        Some(positions)
    }
}
