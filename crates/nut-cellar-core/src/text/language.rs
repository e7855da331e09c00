//! The languages that text can be read in, and what each asks of the steps.

use crate::error::{Error, ErrorKind, Result};
use serde::{Deserialize, Deserializer, Serialize};
use std::fmt;
use waken_snowball::Algorithm;

/// A language by its code (ISO 639-1), or `none`: words as they are, case folded.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize)]
#[serde(transparent)]
pub struct Language(String);

/// What a language asks of the steps.
#[derive(Clone, Copy, Debug)]
pub(super) struct Habits {
    pub code: &'static str,
    pub name: &'static str,
    /// The stemming algorithm, if there is one.
    pub stemmer: Option<Algorithm>,
    /// What may stand before an apostrophe and is no part of the word.
    pub elided: &'static [&'static str],
    /// Accented letters that are letters of their own, folded case.
    pub own_letters: &'static str,
    /// Whether accents are folded unless a column says otherwise.
    pub folds_accents: bool,
    /// Whether I is the capital of ı, and İ of i.
    pub turkic: bool,
}

const PLAIN: Habits = Habits {
    code: "none",
    name: "words as they are",
    stemmer: None,
    elided: &[],
    own_letters: "",
    folds_accents: false,
    turkic: false,
};

const fn stemmed(code: &'static str, name: &'static str, stemmer: Algorithm) -> Habits {
    Habits { code, name, stemmer: Some(stemmer), folds_accents: true, ..PLAIN }
}

const fn unstemmed(code: &'static str, name: &'static str) -> Habits {
    Habits { code, name, folds_accents: true, ..PLAIN }
}

const fn with_letters(habits: Habits, own_letters: &'static str) -> Habits {
    Habits { own_letters, ..habits }
}

/// What every known language asks.
static HABITS: [Habits; 50] = [
    PLAIN,
    stemmed("ar", "Arabic", Algorithm::Arabic),
    Habits { turkic: true, ..with_letters(unstemmed("az", "Azerbaijani"), "çğıöşü") },
    with_letters(unstemmed("bg", "Bulgarian"), "й"),
    Habits {
        elided: &["d", "l", "m", "n", "s", "t"],
        ..with_letters(stemmed("ca", "Catalan", Algorithm::Catalan), "ç")
    },
    unstemmed("cs", "Czech"),
    with_letters(stemmed("da", "Danish", Algorithm::Danish), "åæø"),
    stemmed("de", "German", Algorithm::German),
    stemmed("el", "Greek", Algorithm::Greek),
    stemmed("en", "English", Algorithm::English),
    stemmed("eo", "Esperanto", Algorithm::Esperanto),
    with_letters(stemmed("es", "Spanish", Algorithm::Spanish), "ñ"),
    with_letters(stemmed("et", "Estonian", Algorithm::Estonian), "äõöüšž"),
    with_letters(stemmed("eu", "Basque", Algorithm::Basque), "ñ"),
    unstemmed("fa", "Persian"),
    with_letters(stemmed("fi", "Finnish", Algorithm::Finnish), "åäö"),
    Habits {
        elided: &["c", "d", "j", "jusqu", "l", "lorsqu", "m", "n", "puisqu", "qu", "quoiqu", "s", "t"],
        ..stemmed("fr", "French", Algorithm::French)
    },
    Habits { elided: &["b", "d", "m"], ..stemmed("ga", "Irish", Algorithm::Irish) },
    unstemmed("he", "Hebrew"),
    stemmed("hi", "Hindi", Algorithm::Hindi),
    unstemmed("hr", "Croatian"),
    stemmed("hu", "Hungarian", Algorithm::Hungarian),
    stemmed("hy", "Armenian", Algorithm::Armenian),
    stemmed("id", "Indonesian", Algorithm::Indonesian),
    Habits {
        elided: &[
            "agl", "all", "c", "coll", "d", "dagl", "dall", "degl", "dell", "gl", "l", "m", "negl", "nell",
            "quell", "quest", "s", "sugl", "sull", "t", "un", "v",
        ],
        ..stemmed("it", "Italian", Algorithm::Italian)
    },
    unstemmed("ja", "Japanese"),
    unstemmed("km", "Khmer"),
    unstemmed("ko", "Korean"),
    unstemmed("lo", "Lao"),
    stemmed("lt", "Lithuanian", Algorithm::Lithuanian),
    unstemmed("my", "Burmese"),
    with_letters(stemmed("nb", "Norwegian", Algorithm::Norwegian), "åæø"),
    stemmed("ne", "Nepali", Algorithm::Nepali),
    stemmed("nl", "Dutch", Algorithm::Dutch),
    with_letters(stemmed("nn", "Norwegian (Nynorsk)", Algorithm::Norwegian), "åæø"),
    unstemmed("pl", "Polish"),
    stemmed("pt", "Portuguese", Algorithm::Portuguese),
    stemmed("ro", "Romanian", Algorithm::Romanian),
    with_letters(stemmed("ru", "Russian", Algorithm::Russian), "й"),
    unstemmed("sk", "Slovak"),
    unstemmed("sl", "Slovenian"),
    stemmed("sr", "Serbian", Algorithm::Serbian),
    with_letters(stemmed("sv", "Swedish", Algorithm::Swedish), "åäö"),
    stemmed("ta", "Tamil", Algorithm::Tamil),
    unstemmed("th", "Thai"),
    Habits { turkic: true, ..with_letters(stemmed("tr", "Turkish", Algorithm::Turkish), "çğıöşü") },
    with_letters(unstemmed("uk", "Ukrainian"), "йїґ"),
    Habits { folds_accents: false, ..unstemmed("vi", "Vietnamese") },
    stemmed("yi", "Yiddish", Algorithm::Yiddish),
    unstemmed("zh", "Chinese"),
];

/// Whether texts are the same, for constants, where they can't be compared yet.
const fn same(one: &[u8], other: &[u8]) -> bool {
    let mut place = 0;
    while place < one.len() && place < other.len() && one[place] == other[place] {
        place += 1;
    }
    place == one.len() && place == other.len()
}

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

    /// Whether there is such a language here. It can be asked while a program is compiled.
    pub const fn is_known(code: &str) -> bool {
        let mut place = 0;
        while place < HABITS.len() {
            if same(HABITS[place].code.as_bytes(), code.as_bytes()) {
                return true;
            }
            place += 1;
        }
        false
    }

    /// The code.
    pub fn code(&self) -> &str {
        &self.0
    }

    /// The languages there are: codes and English names.
    pub fn all() -> impl Iterator<Item = (&'static str, &'static str)> {
        HABITS.iter().map(|habits| (habits.code, habits.name))
    }

    pub(crate) fn check(&self) -> Result<()> {
        if Self::is_known(&self.0) {
            return Ok(());
        }
        let known: Vec<_> = HABITS.iter().map(|habits| habits.code).collect();
        Err(Error::new(
            ErrorKind::BadSchema,
            format!("there is no language \"{}\"; use one of {}", self.0, known.join(", ")),
        ))
    }

    /// What the language asks; for one that is not known, what `none` does.
    pub(super) fn habits(&self) -> &'static Habits {
        HABITS.iter().find(|habits| habits.code == self.0).unwrap_or(&PLAIN_HABITS)
    }
}

static PLAIN_HABITS: Habits = PLAIN;

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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_are_in_order_and_at_least_thirty_are_stemmed() {
        assert!(HABITS[1..].is_sorted_by(|a, b| a.code < b.code));
        assert!(HABITS.iter().filter(|habits| habits.stemmer.is_some()).count() >= 30);
    }
}
