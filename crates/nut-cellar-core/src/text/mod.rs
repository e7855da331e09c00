//! From a text to the tokens that are indexed and looked for.
//!
//! A [`Recipe`] is made of steps, each in a file of its own: cut into pieces, fold away the differences that do not
//! matter, stem word forms, take accents off. The same recipe reads a column's text and a query's words, and the same
//! text always gives the same tokens. [`TextSettings`] are a recipe as plain data, as a schema keeps it.

mod accents;
mod automaton;
mod compounds;
mod dates;
mod detect;
mod fold;
mod language;
mod making;
mod memory;
mod mistakes;
mod offered;
mod own;
mod pattern;
mod pieces;
mod recipe;
mod recipes;
mod settings;
mod spelling;
mod split;
mod stem;
mod stop;
mod written;

pub use automaton::{Automaton, accepts};
pub use compounds::WordList;
pub use language::Language;
pub(crate) use memory::Memory;
pub(crate) use mistakes::{LAYOUTS, cost};
pub use offered::{offer_stemmer, offer_step, offer_tokeniser, offer_words};
pub use own::{Role, Stemmer, Step, StepOutput, Tokeniser, TokeniserOutput};
pub use pattern::Pattern;
pub(crate) use recipe::read;
pub use recipe::{Change, MAX_TERM_BYTES, Reader, Recipe, Token, TracedToken};
pub(crate) use recipes::Recipes;
pub use settings::{Accents, Forms, Reading, StopWords, TextSettings};
pub use spelling::Spelling;
pub(crate) use split::is_unspaced;
