//! Compounds: words written together, such as `dampfschifffahrt`, found by their parts.
//!
//! Parts are told by a list of words that the program gives, and by the linking letters of the list's language between them. A cellar's own
//! words never have a say: they change from batch to batch, and what a text becomes may not.

use super::language::Language;
use super::{fold, stem};
use crate::error::{Error, ErrorKind, Result};
use hashbrown::HashSet;
use std::ops::Range;

/// Shorter parts, in letters, are left to chance too often: `in`, `an`, `ei`.
const SHORTEST: usize = 3;

/// No form of a word has more bytes above those of the longest word.
const LONGEST_ENDING: usize = 12;

/// How a word may end before another is joined to it: what its end loses, and what it gains.
fn joints(code: &str) -> &'static [(&'static str, &'static str)] {
    match code {
        "de" => &[
            ("", "s"),
            ("", "n"),
            ("", "e"),
            ("", "es"),
            ("", "en"),
            ("", "er"),
            ("", "ns"),
            ("", "ens"),
            ("e", ""),
        ],
        "nl" => &[("", "s"), ("", "e"), ("", "n"), ("", "en"), ("", "er")],
        "sv" => &[("", "s"), ("a", ""), ("a", "u"), ("a", "e"), ("e", ""), ("e", "s")],
        "da" => &[("", "s"), ("", "e"), ("", "er")],
        _ => &[],
    }
}

/// Whether of three consonants in a row one is left out where words are joined: `glas`, `skål`, `glasskål`.
fn leaves_out_third(code: &str) -> bool {
    matches!(code, "de" | "nb" | "nn" | "sv")
}

/// Words that compounds of a language are made of.
///
/// ```
/// use nut_cellar_core::text::{TextSettings, WordList, offer_words};
/// use nut_cellar_core::{Language, Recipe};
///
/// # fn main() -> nut_cellar_core::Result<()> {
/// let words = WordList::of(&Language::new("de")?, ["Dampf", "Schiff", "Fahrt", "Gesellschaft"])?;
/// offer_words("german words", words)?;
/// let settings = TextSettings {
///     compounds: vec!["german words".into()],
///     ..TextSettings::of(Language::new("de")?)
/// };
/// let tokens = Recipe::of(&settings).trace("Dampfschifffahrtsgesellschaft");
/// let terms: Vec<_> = tokens.iter().map(|token| &*token.term).collect();
/// assert_eq!(terms, ["dampfschifffahrtsgesellschaft", "dampf", "schiff", "fahrt", "gesellschaft"]);
/// assert!(tokens.iter().all(|token| token.position == 0));
/// # Ok(()) }
/// ```
#[derive(Clone, Debug)]
pub struct WordList {
    language: Language,
    words: HashSet<String>,
    /// The stems of the words: the last part of a compound may be any form of one.
    stems: HashSet<String>,
    /// The bytes of the longest word.
    longest: usize,
    version: String,
}

impl WordList {
    /// A list of words of a language. Case does not matter, nor does their order; words of fewer than three letters, and lines that are no
    /// single word, are left out.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`] if no word is left.
    pub fn of<W: AsRef<str>>(language: &Language, words: impl IntoIterator<Item = W>) -> Result<Self> {
        let habits = language.habits();
        let folded = |word: W| {
            let mut folded = String::new();
            fold::fold(word.as_ref().trim(), habits.turkic, &mut folded);
            (folded.chars().count() >= SHORTEST && folded.chars().all(char::is_alphabetic)).then_some(folded)
        };
        let words: HashSet<String> = words.into_iter().filter_map(folded).collect();
        if words.is_empty() {
            return Err(Error::new(
                ErrorKind::BadRequest,
                format!(
                    "The list of words for \"{language}\" has no word of {SHORTEST} letters or more; write one a line."
                ),
            ));
        }
        let stemmed = |word: &String| {
            let mut stemmed = word.clone();
            habits.stemmer.map(|algorithm| stem::apply(algorithm, &mut stemmed)).map(|()| stemmed)
        };
        let mut sorted: Vec<&str> = words.iter().map(String::as_str).collect();
        sorted.sort_unstable();
        let mut hasher = crc32fast::Hasher::new();
        for word in [language.code()].iter().chain(&sorted) {
            hasher.update(word.as_bytes());
            hasher.update(b"\n");
        }
        let version = format!("{} {} words {:08x}", language.code(), words.len(), hasher.finalize());
        Ok(Self {
            language: language.clone(),
            stems: words.iter().filter_map(stemmed).collect(),
            longest: words.iter().map(String::len).max().unwrap_or(0),
            words,
            version,
        })
    }

    /// The same from a text with a word a line; what follows a `#`, or white space behind a word, is not read.
    ///
    /// # Errors
    /// Those of [`of`](Self::of).
    pub fn from_text(language: &Language, text: &str) -> Result<Self> {
        let bare = |line: &str| {
            line.split('#').next().and_then(|line| line.split_whitespace().next().map(str::to_owned))
        };
        Self::of(language, text.lines().filter_map(bare))
    }

    /// The language of the words.
    pub fn language(&self) -> &Language {
        &self.language
    }

    /// The version, which follows from the words: another list has another one.
    pub fn version(&self) -> &str {
        &self.version
    }

    /// The parts of a folded word: the words of the list as it has them, the last one as it stands, each with where it stands without the
    /// letters that link it to the next; none if it is no compound. It is cut into as few words as can be, then with as few joints that
    /// change a word, then with as long a last word; and words are cut again as long as they are compounds. The number of stretches that
    /// are looked up grows with the square of the word's length, which is bounded.
    pub(super) fn parts(&self, word: &str) -> Vec<(String, Range<usize>)> {
        let mut parts = Vec::new();
        if word.len() <= super::MAX_TERM_BYTES {
            self.add_parts(word, 0, &mut parts);
        }
        parts
    }

    /// Adds the parts of a word that begins at `offset`.
    fn add_parts(&self, word: &str, offset: usize, parts: &mut Vec<(String, Range<usize>)>) {
        for (part, range) in self.cut(word) {
            let (before, range) = (parts.len(), range.start + offset..range.end + offset);
            self.add_parts(&part, range.start, parts);
            if parts.len() == before {
                parts.push((part, range));
            } else if let Some((_, last)) = parts.last_mut() {
                // Where the end of a word was changed, that of its last part was.
                last.end = last.end.min(range.end);
            }
        }
    }

    /// The best cut of a word into two or more.
    fn cut(&self, word: &str) -> Vec<(String, Range<usize>)> {
        let mut best: Vec<Option<Cut>> = vec![None; word.len() + 1];
        for (start, _) in word.char_indices().rev() {
            let last = &word[start..];
            if start > 0
                && last.chars().count() >= SHORTEST
                && (self.words.contains(last) || self.is_form(last))
            {
                let cost = Cost { words: 1, joints: 0, before_last: start };
                best[start] = Some(Cut { cost, end: word.len(), word: last.to_owned(), next: word.len() });
            }
            let ends = start + 1..word.len().min(start + self.longest + 1);
            for end in ends.filter(|end| word.is_char_boundary(*end)) {
                let stretch = &word[start..end];
                self.each_joint(word, start..end, |known, next| {
                    if let Some(Cut { cost: rest, .. }) = best[next] {
                        let joints = rest.joints + usize::from(next != end || known.len() != stretch.len());
                        let cost = Cost { words: rest.words + 1, joints, ..rest };
                        better(&mut best[start], Cut { cost, end, word: known.to_owned(), next });
                    }
                });
            }
        }
        let (mut cut, mut at) = (Vec::new(), 0);
        while let Some(Cut { end, word, next, .. }) = best[at].take() {
            cut.push((word, at..end));
            at = next;
        }
        cut
    }

    /// Gives the words of the list that a stretch of a word may be, each with where the next one begins.
    fn each_joint(&self, word: &str, stretch: Range<usize>, mut take: impl FnMut(&str, usize)) {
        let (stood, rest) = (&word[stretch.clone()], &word[stretch.end..]);
        let mut known = |word: &str, next| {
            if stood.chars().count() >= SHORTEST && self.words.contains(word) {
                take(word, next);
            }
        };
        known(stood, stretch.end);
        for (lost, gained) in joints(self.language.code()) {
            if rest.starts_with(gained) {
                known(&format!("{stood}{lost}"), stretch.end + gained.len());
            }
        }
        let mut last = stood.chars().rev();
        if leaves_out_third(self.language.code())
            && let (Some(one), Some(other)) = (last.next(), last.next())
            && one == other
            && !"aeiouyäöüåæø".contains(one)
        {
            known(stood, stretch.end - one.len_utf8());
        }
    }

    fn is_form(&self, word: &str) -> bool {
        let algorithm =
            self.language.habits().stemmer.filter(|_| word.len() <= self.longest + LONGEST_ENDING);
        let Some(algorithm) = algorithm else { return false };
        let mut stemmed = word.to_owned();
        stem::apply(algorithm, &mut stemmed);
        self.stems.contains(&stemmed)
    }
}

/// What a cut costs, by what counts first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct Cost {
    words: usize,
    joints: usize,
    before_last: usize,
}

/// The best cut of what stands behind a place: its first word, where that ends, and where the next one begins.
#[derive(Clone, Debug)]
struct Cut {
    cost: Cost,
    end: usize,
    word: String,
    next: usize,
}

fn better(best: &mut Option<Cut>, other: Cut) {
    if best.as_ref().is_none_or(|best| other.cost < best.cost) {
        *best = Some(other);
    }
}
