//! The languages that text can be read in.

use crate::error::{Error, ErrorKind, Result};
use serde::{Deserialize, Deserializer, Serialize};
use std::fmt;

/// A language by its code, or `none`: words as they are, case folded.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize)]
#[serde(transparent)]
pub struct Language(String);

/// The codes that can be used, with what each stands for.
const KNOWN: [(&str, &str); 2] = [("none", "words as they are"), ("en", "English")];

impl Language {
    /// A language by its code, known or not.
    pub(crate) fn named(code: &str) -> Self {
        Self(code.to_owned())
    }

    /// A language by its code.
    ///
    /// # Errors
    /// [`ErrorKind::BadSchema`] if there is no such language here; the message names those there are.
    pub fn new(code: &str) -> Result<Self> {
        let language = Self::named(code);
        language.check()?;
        Ok(language)
    }

    /// The code.
    pub fn code(&self) -> &str {
        &self.0
    }

    pub(crate) fn check(&self) -> Result<()> {
        if KNOWN.iter().any(|(code, _)| *code == self.0) {
            return Ok(());
        }
        let known: Vec<_> = KNOWN.iter().map(|(code, name)| format!("\"{code}\" ({name})")).collect();
        Err(Error::new(
            ErrorKind::BadSchema,
            format!("there is no language \"{}\"; use {}", self.0, known.join(" or ")),
        ))
    }
}

impl Default for Language {
    fn default() -> Self {
        Self::named("none")
    }
}

impl fmt::Display for Language {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl<'de> Deserialize<'de> for Language {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let code = String::deserialize(deserializer)?;
        Self::new(&code).map_err(serde::de::Error::custom)
    }
}
