//! What programs bring to the reading of text, under the names that schemas say.
//!
//! It is offered to the whole process, before a schema that names it is made or read, so that no schema is ever used without what its
//! terms were made with. Each has a version, which is kept with the schema: a program that offers another one refuses the cellar.

use super::compounds::WordList;
use super::own::{Stemmer, Step, Tokeniser};
use crate::error::{Error, ErrorKind, Result};
use std::collections::BTreeMap;
use std::fmt;
use std::sync::{Arc, PoisonError, RwLock};

/// Something that a program offers.
#[derive(Clone)]
pub(super) enum Own {
    Step(Arc<dyn Step>),
    Tokeniser(Arc<dyn Tokeniser>),
    Stemmer(Arc<dyn Stemmer>),
    Words(Arc<WordList>),
}

/// It, with its name and its version.
#[derive(Clone)]
pub(super) struct Offered {
    pub name: String,
    pub version: String,
    pub own: Own,
}

impl fmt::Debug for Offered {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {:?} {}", self.own.what(), self.name, self.version)
    }
}

impl Own {
    /// What it is, in words.
    pub fn what(&self) -> &'static str {
        match self {
            Self::Step(_) => "step",
            Self::Tokeniser(_) => "tokeniser",
            Self::Stemmer(_) => "stemmer",
            Self::Words(_) => "list of words",
        }
    }
}

static OFFERED: RwLock<BTreeMap<String, Offered>> = RwLock::new(BTreeMap::new());

/// Offers a step under a name, for schemas to name in `steps`.
///
/// ```
/// use nut_cellar_core::text::{TextSettings, offer_step};
/// use nut_cellar_core::{Column, Schema};
/// use std::sync::Arc;
///
/// # fn main() -> nut_cellar_core::Result<()> {
/// // Tags of the office are written with and without their letters.
/// let plain = |word: &mut String| {
///     if let Some(rest) = word.strip_prefix("qlr").filter(|rest| !rest.is_empty()) {
///         *word = rest.to_owned();
///     }
/// };
/// offer_step("plain tag", "1", Arc::new(plain))?;
/// let tags = TextSettings { steps: vec!["plain tag".into()], ..TextSettings::default() };
/// assert_eq!(nut_cellar_core::Recipe::of(&tags).trace("QLR0042")[0].term, "0042");
/// let schema = Schema::new("id").with("tag", Column::read_as(tags));
/// schema.check()?;
/// assert!(schema.to_toml().contains("\"plain tag\" = \"1\""));
/// # Ok(()) }
/// ```
///
/// # Errors
/// [`ErrorKind::BadRequest`] if something else, or another version, was offered under that name before. The same version again is the
/// same step, and changes nothing.
pub fn offer_step(name: impl Into<String>, version: impl Into<String>, step: Arc<dyn Step>) -> Result<()> {
    offer(&name.into(), &version.into(), Own::Step(step))
}

/// Offers a tokeniser under a name, for schemas to name in `tokeniser`.
///
/// # Errors
/// Those of [`offer_step`].
pub fn offer_tokeniser(
    name: impl Into<String>,
    version: impl Into<String>,
    tokeniser: Arc<dyn Tokeniser>,
) -> Result<()> {
    offer(&name.into(), &version.into(), Own::Tokeniser(tokeniser))
}

/// Offers a stemmer under a name, for schemas to name in `stemmer`.
///
/// # Errors
/// Those of [`offer_step`].
pub fn offer_stemmer(
    name: impl Into<String>,
    version: impl Into<String>,
    stemmer: Arc<dyn Stemmer>,
) -> Result<()> {
    offer(&name.into(), &version.into(), Own::Stemmer(stemmer))
}

/// Offers a list of words under a name, for schemas to name in `compounds`. Its version follows from its words.
///
/// # Errors
/// Those of [`offer_step`].
pub fn offer_words(name: impl Into<String>, words: WordList) -> Result<()> {
    let words = Arc::new(words);
    offer(&name.into(), words.version(), Own::Words(Arc::clone(&words)))
}

fn offer(name: &str, version: &str, own: Own) -> Result<()> {
    let what = own.what();
    let mut offered = OFFERED.write().unwrap_or_else(PoisonError::into_inner);
    let first = || Offered { name: name.to_owned(), version: version.to_owned(), own };
    let known = offered.entry(name.to_owned()).or_insert_with(first);
    if known.version == version && known.own.what() == what {
        return Ok(());
    }
    let message = format!(
        "A {} of version \"{}\" is offered as `{name}` already; choose another name for the {what} of version \"{version}\".",
        known.own.what(),
        known.version,
    );
    Err(Error::new(ErrorKind::BadRequest, message))
}

/// What is offered under a name.
pub(super) fn offered(name: &str) -> Option<Offered> {
    OFFERED.read().unwrap_or_else(PoisonError::into_inner).get(name).cloned()
}
