//! The recipe: the steps that turn one column's text into tokens.

use super::language::Language;
use super::stem::Stemmer;
use super::{fold, split};
use serde::Serialize;
use std::ops::Range;

/// The longest term, in bytes. A longer one is cut at the last character boundary before, in texts and in queries
/// alike, so that it is still found.
pub const MAX_TERM_BYTES: usize = 255;

/// A word of a text as it is indexed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Token<'a> {
    /// What is looked up.
    pub term: &'a str,
    /// Where the word stands in the text, in bytes, at character boundaries.
    pub start: usize,
    /// Where it ends.
    pub end: usize,
    /// The how-manieth word of the text it is, from 0.
    pub position: u32,
}

/// The steps that turn text into tokens.
///
/// ```
/// use nut_cellar_core::{Language, Recipe};
///
/// let recipe = Recipe::new(&Language::new("en").unwrap());
/// let mut terms = Vec::new();
/// recipe.tokens("Two Umbrellas, dripping", |token| terms.push(token.term.to_owned()));
/// assert_eq!(terms, ["two", "umbrella", "drip"]);
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Recipe {
    stemmer: Option<Stemmer>,
}

/// A token together with what each step made of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct TracedToken {
    /// What is looked up.
    pub term: String,
    /// Where the word stands in the text, in bytes.
    pub start: usize,
    /// Where it ends.
    pub end: usize,
    /// The how-manieth word of the text it is, from 0.
    pub position: u32,
    /// The steps that changed something, in order.
    pub steps: Vec<Change>,
}

/// One step that changed a token.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Change {
    /// The name of the step.
    pub step: &'static str,
    /// The token before.
    pub before: String,
    /// The token after.
    pub after: String,
}

impl Recipe {
    /// The recipe for a language: words, folded, and stemmed where the language is.
    pub fn new(language: &Language) -> Self {
        Self { stemmer: Stemmer::for_code(language.code()) }
    }

    /// Gives each token of `text` to `take`, in order. Takes time in proportion to the text.
    pub fn tokens(&self, text: &str, mut take: impl FnMut(Token<'_>)) {
        let mut term = String::new();
        let mut position = 0;
        split::words(text, |Range { start, end }, word| {
            for step in self.steps() {
                step.apply(word, &mut term);
            }
            take(Token { term: &term, start, end, position });
            position += 1;
        });
    }

    /// The tokens of `text`, each with what the steps made of it.
    #[expect(clippy::missing_panics_doc, reason = "a text in memory has fewer tokens than that")]
    pub fn trace(&self, text: &str) -> Vec<TracedToken> {
        let mut tokens = Vec::new();
        split::words(text, |Range { start, end }, word| {
            let (mut term, mut steps) = (word.to_owned(), Vec::new());
            for step in self.steps() {
                let before = term.clone();
                step.apply(word, &mut term);
                if term != before {
                    steps.push(Change { step: step.name(), before, after: term.clone() });
                }
            }
            let position = u32::try_from(tokens.len()).expect("fewer tokens than bytes in memory");
            tokens.push(TracedToken { term, start, end, position, steps });
        });
        tokens
    }

    fn steps(&self) -> impl Iterator<Item = Step> {
        [Some(Step::Fold), self.stemmer.map(Step::Stem), Some(Step::Cut)].into_iter().flatten()
    }
}

/// What happens to a word after it has been split off.
#[derive(Clone, Copy)]
enum Step {
    Fold,
    Stem(Stemmer),
    Cut,
}

impl Step {
    fn name(self) -> &'static str {
        match self {
            Self::Fold => "fold",
            Self::Stem(_) => "stem",
            Self::Cut => "cut",
        }
    }

    /// Folding starts from the word as it stands in the text, the others from the term so far.
    fn apply(self, word: &str, term: &mut String) {
        match self {
            Self::Fold => fold::fold(word, term),
            Self::Stem(stemmer) => stemmer.apply(term),
            Self::Cut => term.truncate(term.floor_char_boundary(MAX_TERM_BYTES)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn terms(language: &str, text: &str) -> Vec<String> {
        Recipe::new(&Language::new(language).unwrap()).trace(text).into_iter().map(|t| t.term).collect()
    }

    #[test]
    fn words_are_split_folded_and_stemmed() {
        assert_eq!(
            terms("none", "The CLASPS weren't closed: 3.5 mm"),
            ["the", "clasps", "weren't", "closed", "3.5", "mm"]
        );
        assert_eq!(terms("en", "clasp clasps clasped"), ["clasp"; 3]);
        let without_spaces =
            if cfg!(feature = "dictionaries") { vec!["駅", "の", "傘"] } else { vec!["駅の", "の傘"] };
        assert_eq!(terms("en", "駅の傘"), without_spaces);
    }

    #[test]
    fn a_trace_names_the_steps_that_changed_something() {
        let traced = Recipe::new(&Language::new("en").unwrap()).trace("a Gloves");
        assert!(traced[0].steps.is_empty());
        let steps: Vec<_> = traced[1].steps.iter().map(|c| (c.step, &*c.before, &*c.after)).collect();
        assert_eq!(steps, [("fold", "Gloves", "gloves"), ("stem", "gloves", "glove")]);
    }

    #[test]
    fn a_very_long_word_is_cut_at_a_character() {
        let long = terms("none", &"é".repeat(400));
        assert_eq!(long, ["é".repeat(127)]);
        assert_eq!(terms("none", ""), [""; 0]);
    }

    proptest! {
        #[test]
        fn ranges_slice_the_text_and_tokens_equal_the_trace(text: String) {
            let recipe = Recipe::new(&Language::new("en").unwrap());
            let traced = recipe.trace(&text);
            let mut at = 0;
            recipe.tokens(&text, |token| {
                assert!(token.start <= token.end && text.get(token.start..token.end).is_some());
                assert!(token.term.len() <= MAX_TERM_BYTES);
                assert_eq!((token.term, token.position as usize), (&*traced[at].term, at));
                at += 1;
            });
            prop_assert_eq!(at, traced.len());
        }
    }
}
