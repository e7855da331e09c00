//! What a program may bring to the reading of text: steps, tokenisers and stemmers of its own.
//!
//! All of them are functions of what they are given, and of their version: the same text gives the same tokens, always, in texts and in
//! queries alike. A program [offers](super::offer_step) them under names, which schemas name.

use std::fmt;
use std::ops::Range;

/// A step: makes of a folded word one token, several or none. It works before stop words are told and forms are found.
///
/// A function that changes a word in place is a step too, `Fn(&mut String)`; what it empties is dropped.
///
/// ```
/// use nut_cellar_core::text::{Step, StepOutput, TextSettings, offer_step};
/// use nut_cellar_core::Recipe;
/// use std::sync::Arc;
///
/// /// Numbers of shelves, `r12b4`, are found by rack and by box.
/// struct ShelfNumbers;
///
/// impl Step for ShelfNumbers {
///     fn apply(&self, word: &str, _written: &str, out: &mut StepOutput) {
///         match word.strip_prefix('r').and_then(|rest| rest.split_once('b')) {
///             Some((rack, of_rack)) => out.word(word).part(&format!("r{rack}")).part(&format!("b{of_rack}")),
///             None => out.word(word),
///         };
///     }
/// }
///
/// # fn main() -> nut_cellar_core::Result<()> {
/// offer_step("shelf numbers", "1", Arc::new(ShelfNumbers))?;
/// let settings = TextSettings { steps: vec!["shelf numbers".into()], ..TextSettings::default() };
/// let tokens = Recipe::of(&settings).trace("see R12B4");
/// let placed: Vec<_> = tokens.iter().map(|token| (&*token.term, token.position)).collect();
/// assert_eq!(placed, [("see", 0), ("r12b4", 1), ("r12", 1), ("b4", 1)]);
/// # Ok(()) }
/// ```
pub trait Step: Send + Sync {
    /// Says what becomes of a word; `written` is the stretch of the text that it was read from. Where nothing is said, the word is dropped,
    /// and leaves no gap.
    fn apply(&self, word: &str, written: &str, out: &mut StepOutput);
}

impl<F: Fn(&mut String) + Send + Sync> Step for F {
    fn apply(&self, word: &str, _: &str, out: &mut StepOutput) {
        let mut word = word.to_owned();
        self(&mut word);
        out.word(&word);
    }
}

/// What a token is to its position.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum Role {
    /// The word there, or the whole of a compound, which spans more than one.
    #[default]
    Word,
    /// Another word for the one there: a query that has one finds the other.
    Also,
    /// A part of the word there: a query that has the word finds words that have all of its parts.
    Part,
}

/// What a [`Step`] makes of a word, one token after the other. Empty tokens are none; zero characters are left out of others.
#[derive(Debug, Default)]
pub struct StepOutput {
    pub(super) tokens: Vec<StepToken>,
    /// How many positions there are.
    pub(super) positions: u32,
}

/// A token that a step made.
#[derive(Debug)]
pub(super) struct StepToken {
    pub term: String,
    pub role: Role,
    /// How many positions after the first.
    pub at: u32,
    /// Where it stands in what was written.
    pub range: Option<Range<usize>>,
}

/// Whether a term has nothing that is kept.
fn is_nothing(term: &str) -> bool {
    term.chars().all(|character| character == '\0')
}

impl StepOutput {
    /// A token at the next position.
    pub fn word(&mut self, term: &str) -> &mut Self {
        if is_nothing(term) { self } else { self.gap().put(term, Role::Word) }
    }

    /// Another word for the last one, at its position; the first token is a word.
    pub fn also(&mut self, term: &str) -> &mut Self {
        self.beside(term, Role::Also)
    }

    /// A part of the last word, at its position; the first token is a word.
    pub fn part(&mut self, term: &str) -> &mut Self {
        self.beside(term, Role::Part)
    }

    /// A position without a token: a phrase does not reach over it.
    pub fn gap(&mut self) -> &mut Self {
        self.positions = self.positions.saturating_add(1);
        self
    }

    /// Says where the last token stands, in bytes of what was written. It stands where the word does if nothing is said, if the range is
    /// empty, or if it is none of whole characters there.
    pub fn at(&mut self, range: Range<usize>) -> &mut Self {
        if let Some(last) = self.tokens.last_mut() {
            last.range = Some(range);
        }
        self
    }

    fn beside(&mut self, term: &str, role: Role) -> &mut Self {
        let follows = self.tokens.last().is_some_and(|last| last.at + 1 == self.positions);
        match term {
            term if is_nothing(term) => self,
            _ if follows => self.put(term, role),
            _ => self.word(term),
        }
    }

    fn put(&mut self, term: &str, role: Role) -> &mut Self {
        let at = self.positions - 1;
        self.tokens.push(StepToken { term: term.to_owned(), role, at, range: None });
        self
    }
}

/// A tokeniser: cuts the words out of a text, in the place of the [`Reading`](super::Reading)s.
///
/// ```
/// use nut_cellar_core::text::{TextSettings, Tokeniser, TokeniserOutput, offer_tokeniser};
/// use nut_cellar_core::Recipe;
/// use std::sync::Arc;
///
/// /// Fields of a consignment note, between bars.
/// struct Fields;
///
/// impl Tokeniser for Fields {
///     fn cut(&self, text: &str, out: &mut TokeniserOutput) {
///         for field in text.split('|').map(str::trim).filter(|field| !field.is_empty()) {
///             let start = field.as_ptr() as usize - text.as_ptr() as usize;
///             out.word(start..start + field.len());
///         }
///     }
/// }
///
/// # fn main() -> nut_cellar_core::Result<()> {
/// offer_tokeniser("fields", "1", Arc::new(Fields))?;
/// let settings = TextSettings { tokeniser: Some("fields".into()), ..TextSettings::default() };
/// let tokens = Recipe::of(&settings).trace("Oak chest | 2 handles");
/// assert_eq!(tokens.iter().map(|token| &*token.term).collect::<Vec<_>>(), ["oak chest", "2 handles"]);
/// # Ok(()) }
/// ```
pub trait Tokeniser: Send + Sync {
    /// Says where the words of a text stand, in order.
    fn cut(&self, text: &str, out: &mut TokeniserOutput);
}

/// Takes the words that a [`Tokeniser`] cuts out of a text.
#[derive(Debug)]
pub struct TokeniserOutput<'t> {
    text: &'t str,
    /// Told where each word stands, and its position.
    take: Take<'t>,
    /// Where the last word begins.
    last: usize,
    pub(super) positions: u32,
}

struct Take<'t>(&'t mut dyn FnMut(Range<usize>, u32));

impl fmt::Debug for Take<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("takes words")
    }
}

impl<'t> TokeniserOutput<'t> {
    pub(super) fn of(text: &'t str, take: &'t mut dyn FnMut(Range<usize>, u32)) -> Self {
        Self { text, take: Take(take), last: 0, positions: 0 }
    }

    /// A word at the next position, by its range of bytes. A range is widened to whole characters and ends with the text; what is empty
    /// then, or begins before the word before, is no word.
    pub fn word(&mut self, range: Range<usize>) {
        let start = self.text.floor_char_boundary(range.start);
        let end = self.text.ceil_char_boundary(range.end.min(self.text.len()));
        if start < end && self.last <= start {
            (self.take.0)(start..end, self.positions);
            self.last = start;
            self.gap();
        }
    }

    /// A position without a word: a phrase does not reach over it.
    pub fn gap(&mut self) {
        self.positions = self.positions.saturating_add(1);
    }
}

/// A stemmer: tells what the forms of a word have in common. They make a class, as those of the built-in stemmers do: each form is a term
/// of its own, a search finds them all, and the one that was typed weighs most.
///
/// ```
/// use nut_cellar_core::text::{Stemmer, TextSettings, offer_stemmer};
/// use nut_cellar_core::{Language, Recipe};
/// use std::sync::Arc;
///
/// /// English as far as `-s`.
/// struct Plurals;
///
/// impl Stemmer for Plurals {
///     fn stem(&self, _language: &Language, word: &mut String) {
///         if word.len() > 3 && word.ends_with('s') {
///             word.pop();
///         }
///     }
/// }
///
/// # fn main() -> nut_cellar_core::Result<()> {
/// offer_stemmer("plurals", "1", Arc::new(Plurals))?;
/// let settings = TextSettings { stemmer: Some("plurals".into()), ..TextSettings::default() };
/// let recipe = Recipe::of(&settings);
/// assert_eq!(recipe.trace("Saws")[0].term, "saws");
/// assert_eq!(recipe.key_of("saws").as_deref(), Some("saw"));
/// # Ok(()) }
/// ```
pub trait Stemmer: Send + Sync {
    /// Replaces a folded word, its accents kept, by what its forms have in common; in the language of the column or record.
    fn stem(&self, language: &super::Language, word: &mut String);
}
