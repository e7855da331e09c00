//! Patterns: `*` stands for any characters, `?` for one.
//!
//! A state is a set of places in the pattern as bits, and a step moves all of them at once (Baeza-Yates & Gonnet, "A new
//! approach to text searching", 1992).

use super::automaton::{Automaton, least, successor};
use crate::error::{Error, ErrorKind, Result};
use std::fmt;

/// The most characters and question marks in a pattern: one bit each, and one for the end.
const MOST_CHARACTERS: usize = 63;
/// The number of ASCII characters.
const ASCII: usize = 128;

/// A pattern of a whole word.
///
/// ```
/// use nut_cellar_core::text::{Pattern, accepts};
///
/// let pattern = Pattern::new("u?brel*").unwrap();
/// assert!(accepts(&pattern, "umbrella"));
/// assert!(!accepts(&pattern, "brella"));
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Pattern {
    /// The characters; none for a question mark.
    characters: Vec<Option<char>>,
    /// Before which of them, or before the end, any characters may stand.
    any: u64,
    /// For each character below [`ASCII`] where it may stand, a question mark included.
    ascii: Box<[u64; ASCII]>,
    /// The same for each different character above.
    others: Vec<(char, u64)>,
    /// Where a question mark stands.
    open: u64,
    beginning: String,
}

impl Pattern {
    /// Reads a pattern. A backslash takes the next character as it is.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`] if it has more than 63 characters and question marks, or ends in a backslash.
    pub fn new(text: &str) -> Result<Self> {
        let (mut characters, mut any) = (Vec::new(), 0);
        let mut rest = text.chars();
        while let Some(next) = rest.next() {
            match next {
                '*' if characters.len() <= MOST_CHARACTERS => any |= 1 << characters.len(),
                '?' => characters.push(None),
                '\\' => characters.push(Some(rest.next().ok_or_else(|| {
                    Error::new(
                        ErrorKind::BadRequest,
                        format!("The pattern `{text}` ends in a backslash; put one more behind it, or none."),
                    )
                })?)),
                next => characters.push(Some(next)),
            }
        }
        if characters.len() > MOST_CHARACTERS {
            let message = format!(
                "A pattern has at most {MOST_CHARACTERS} characters and question marks; this one is longer."
            );
            return Err(Error::new(ErrorKind::BadRequest, message));
        }
        let places = |wanted: Option<char>| {
            let all = characters.iter().enumerate().filter(move |(_, character)| **character == wanted);
            all.fold(0, |places, (place, _)| places | 1 << place)
        };
        let open = places(None);
        let mut ascii = Box::new([open; ASCII]);
        let mut others = Vec::new();
        for wanted in characters.iter().flatten() {
            let mask = open | places(Some(*wanted));
            match ascii.get_mut(*wanted as usize) {
                Some(known) => *known = mask,
                None => others.push((*wanted, mask)),
            }
        }
        let fixed = |(place, _): &(usize, &Option<char>)| any >> place & 1 == 0;
        let beginning =
            characters.iter().enumerate().take_while(fixed).map_while(|(_, character)| *character);
        let beginning = beginning.collect();
        Ok(Self { characters, any, ascii, others, open, beginning })
    }

    /// How many of its characters stand for themselves.
    pub(crate) fn letters(&self) -> usize {
        self.characters.iter().flatten().count()
    }

    /// Whether it stands for more than one word.
    pub fn is_open(&self) -> bool {
        self.any != 0 || self.open != 0
    }
}

impl Automaton for Pattern {
    type State = u64;

    fn start(&self) -> u64 {
        1
    }

    fn step(&self, state: &u64, next: char) -> Option<u64> {
        let mask = self.ascii.get(next as usize).copied().unwrap_or_else(|| {
            self.others.iter().find(|(known, _)| *known == next).map_or(self.open, |(_, mask)| *mask)
        });
        let moved = (state & mask) << 1 | state & self.any;
        (moved != 0).then_some(moved)
    }

    fn next(&self, state: &u64, passed: char) -> Option<char> {
        if state & (self.open | self.any) != 0 {
            return successor(passed);
        }
        least(self, state, passed, self.characters.iter().flatten().copied())
    }

    fn accepts(&self, state: &u64) -> bool {
        state >> self.characters.len() & 1 == 1
    }

    fn accepts_all(&self, state: &u64) -> bool {
        self.accepts(state) && self.any >> self.characters.len() & 1 == 1
    }

    fn beginning(&self) -> &str {
        &self.beginning
    }

    fn runs(&self) -> Vec<Vec<String>> {
        let mut runs = vec![String::new()];
        for place in 0..=self.characters.len() {
            if self.any >> place & 1 == 1 {
                runs.push(String::new());
            }
            match (self.characters.get(place), runs.last_mut()) {
                (Some(Some(character)), Some(run)) => run.push(*character),
                (Some(None), _) => runs.push(String::new()),
                // The end of the word, if nothing may stand before it.
                (None, Some(run)) if !run.is_empty() => run.push('\0'),
                _ => {}
            }
        }
        runs.retain(|run| !run.is_empty());
        if runs.is_empty() { Vec::new() } else { vec![runs] }
    }
}

impl fmt::Display for Pattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for place in 0..=self.characters.len() {
            if self.any >> place & 1 == 1 {
                f.write_str("*")?;
            }
            match self.characters.get(place) {
                Some(Some(special @ ('*' | '?' | '\\'))) => write!(f, "\\{special}")?,
                Some(Some(character)) => write!(f, "{character}")?,
                Some(None) => f.write_str("?")?,
                None => {}
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::super::automaton::accepts;
    use super::*;
    use proptest::prelude::*;

    /// The rule, one character at a time.
    fn fits(pattern: &[char], word: &[char]) -> bool {
        match (pattern, word) {
            ([], []) => true,
            (['*', rest @ ..], _) => fits(rest, word) || (!word.is_empty() && fits(pattern, &word[1..])),
            (['?', rest @ ..], [_, word @ ..]) => fits(rest, word),
            (['\\', a, rest @ ..] | [a, rest @ ..], [b, word @ ..]) => a == b && fits(rest, word),
            _ => false,
        }
    }

    proptest! {
        #[test]
        fn a_pattern_accepts_what_the_rule_says(pattern in r"([abé*?]|\\[*?\\]){0,7}", words in prop::collection::vec("[abé*?]{0,7}", 20)) {
            let read = Pattern::new(&pattern).unwrap();
            let characters: Vec<_> = pattern.chars().collect();
            for word in &words {
                let expected = fits(&characters, &word.chars().collect::<Vec<_>>());
                prop_assert_eq!(accepts(&read, word), expected, "{} {}", pattern, word);
                if expected {
                    let marked = format!("{word}\0");
                    prop_assert!(word.starts_with(read.beginning()));
                    prop_assert!(read.runs().iter().flatten().all(|run| marked.contains(run)), "{:?} {}", read.runs(), word);
                }
            }
            prop_assert_eq!(Pattern::new(&read.to_string()).unwrap(), read);
        }
    }

    #[test]
    fn runs_are_what_stands_together() {
        let runs = |pattern| Pattern::new(pattern).unwrap().runs().concat();
        assert_eq!(runs("u?brel*lla"), ["u", "brel", "lla\0"]);
        assert_eq!(runs("*ella"), ["ella\0"]);
        assert_eq!(runs("*rel*"), ["rel"]);
        assert!(runs("*?*").is_empty());
    }

    #[test]
    fn what_is_too_long_or_ends_in_a_backslash_is_refused() {
        assert!(Pattern::new(&"a".repeat(63)).is_ok());
        assert!(Pattern::new(&"a*".repeat(64)).unwrap_err().is_bad_request());
        assert!(Pattern::new("oak\\").unwrap_err().is_bad_request());
    }
}
