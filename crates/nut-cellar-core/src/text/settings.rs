//! How one column's text is read, as plain data: what stands in a schema.

use super::dates;
use super::detect;
use super::language::Language;
use super::offered::{Offered, Own, offered};
use super::own::Stemmer;
use super::stem;
use crate::error::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt;
use std::sync::Arc;

/// How text is cut into tokens.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum Reading {
    /// Words of a language. A hyphenated word gives its parts, and the whole without hyphens.
    #[default]
    Words,
    /// Identifiers and code: `snake_case`, `camelCase`, `v1.2.3` and paths give their parts and the whole.
    Code,
    /// Words among which e-mail and web addresses give their parts and the whole.
    Web,
    /// The whole value is one token.
    Whole,
}

/// What becomes of accents.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum Accents {
    /// `café` and `cafe` are one word. Letters of a language's own, such as Swedish `å`, stay.
    Fold,
    /// They are different words.
    Keep,
}

/// Words that say little: a search leaves them out where it has others.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(untagged)]
#[non_exhaustive]
pub enum StopWords {
    /// The list of the language, or none.
    OfLanguage(bool),
    /// These words.
    Words(Vec<String>),
}

/// How the forms of a word stand to each other.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum Forms {
    /// Each form is a term of its own; a search finds all forms, and the one that was typed weighs most.
    Ranked,
    /// All forms are one term.
    Same,
}

/// How a column's text is read. What is not said follows from the language.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TextSettings {
    /// The language; `none` without.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub language: Option<Language>,
    /// Other languages that a record may be in. A query is read in each of them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub languages: Vec<Language>,
    /// The column of the schema whose value says, by its code, which of the languages a record is in.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub language_from: Option<String>,
    /// For records whose language no column says: it is detected from the start of the text, if that is at least so many
    /// percent sure, and else is the default. Takes the feature `detection`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub detect: Option<u8>,
    /// What languages are detected with, and its version; kept as the name of the stemmer is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub detector: Option<String>,
    /// How text is cut into tokens; words without.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reading: Option<Reading>,
    /// Whether symbols are words too: emoji, currency signs, arrows, the signs of arithmetic.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub symbols: bool,
    /// In the place of a reading a tokeniser of the program's own, by the name under which it [offers](super::offer_tokeniser) it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tokeniser: Option<String>,
    /// Whether what the language puts before an apostrophe is taken off; it is without.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub elide: Option<bool>,
    /// Whether compatibility forms and letter case are folded; they are without.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fold: Option<bool>,
    /// What becomes of accents.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub accents: Option<Accents>,
    /// Steps of the program's own, by the names under which it [offers](super::offer_step) them, in order.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub steps: Vec<String>,
    /// What compounds are made of, so that their parts find them: [lists of words](super::WordList), by the names under which the program
    /// [offers](super::offer_words) them. Each belongs to one of the column's languages.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub compounds: Vec<String>,
    /// Whether words are stemmed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stem: Option<bool>,
    /// The algorithm and its version that words are stemmed with. Written with every schema that is kept; a schema that
    /// names another than this program has can't be used. Or a stemmer of the program's own, by the name under which it
    /// [offers](super::offer_stemmer) it, for all languages of the column.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stemmer: Option<String>,
    /// How the forms of a word, with and without accents too, stand to each other; ranked without, for words.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub forms: Option<Forms>,
    /// Words that say little; none without.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stop: Option<StopWords>,
    /// For days: how else they are written than by ISO 8601 and as the language does, with the words `day`, `month` and
    /// `year` for the numbers, such as `day.month.year`.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub written: Vec<String>,
    /// The edition of the rules by which text is read. Written with every schema that is kept, so that what was read by an older edition is
    /// asked by it, too, until its records are read again; the newest one without. All columns of a schema have the same.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub edition: Option<u8>,
    /// The versions of what the program offers under the names above. Written with every schema that is kept, as the stemmer is.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub versions: BTreeMap<String, String>,
}

/// The newest edition of the rules by which text is read. Since the second one, numbers and words with an apostrophe have forms.
const EDITION: u8 = 2;

/// What words are stemmed with.
#[derive(Clone)]
pub(super) enum Stemming {
    Snowball(waken_snowball::Algorithm),
    Own(Arc<dyn Stemmer>),
}

impl fmt::Debug for Stemming {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Snowball(algorithm) => algorithm.as_str(),
            Self::Own(_) => "a stemmer of the program's own",
        })
    }
}

impl Stemming {
    /// Replaces a folded word by what its forms have in common.
    pub fn apply(&self, language: &Language, word: &mut String) {
        match self {
            Self::Snowball(algorithm) => stem::apply(*algorithm, word),
            Self::Own(own) => own.stem(language, word),
        }
    }
}

impl TextSettings {
    /// What a language asks.
    pub fn of(language: Language) -> Self {
        Self { language: Some(language), ..Self::default() }
    }

    /// The language, `none` if none is named.
    pub fn language(&self) -> Language {
        self.language.clone().unwrap_or_default()
    }

    /// How text is cut into tokens.
    pub fn reading(&self) -> Reading {
        self.reading.unwrap_or_default()
    }

    /// What words are stemmed with, as a schema names it; with its version, whoever brings it.
    pub(super) fn stemmers(&self) -> Option<String> {
        if let Some(Offered { name, version, .. }) = self.own_stemmer() {
            return Some(format!("{name} {version}"));
        }
        let mut names: Vec<_> =
            self.each_language().filter_map(|one| one.algorithm()).map(stem::name).collect();
        names.dedup();
        (!names.is_empty()).then(|| names.join(", "))
    }

    /// The stemmer of the program's own that is named.
    fn own_stemmer(&self) -> Option<Offered> {
        offered(self.stemmer.as_deref()?).filter(|offered| matches!(offered.own, Own::Stemmer(_)))
    }

    /// What words are stemmed with.
    pub(super) fn stemming(&self) -> Option<Stemming> {
        match self.own_stemmer().map(|offered| offered.own) {
            Some(Own::Stemmer(stemmer)) => Some(Stemming::Own(stemmer)),
            _ => self.algorithm().map(Stemming::Snowball),
        }
    }

    /// The names of what the program has to offer.
    fn own_names(&self) -> impl Iterator<Item = (&'static str, &'static str, &str)> {
        let steps = self.steps.iter().map(|name| ("steps", "step", name.as_str()));
        let lists = self.compounds.iter().map(|name| ("compounds", "list of words", name.as_str()));
        let tokeniser = self.tokeniser.iter().map(|name| ("tokeniser", "tokeniser", name.as_str()));
        let stemmer = self.own_stemmer().is_some().then_some(self.stemmer.as_deref()).flatten();
        steps.chain(lists).chain(tokeniser).chain(stemmer.map(|name| ("stemmer", "stemmer", name)))
    }

    /// The settings for each of the languages, the default one first. What another language has not is left out.
    pub(super) fn each_language(&self) -> impl Iterator<Item = Self> {
        let one = |language: &Language| Self {
            language: Some(language.clone()),
            languages: Vec::new(),
            language_from: None,
            detect: None,
            ..self.clone()
        };
        let first = Self { language: self.language.clone(), ..one(&self.language()) };
        [first].into_iter().chain(self.languages.iter().map(one))
    }

    pub(super) fn algorithm(&self) -> Option<waken_snowball::Algorithm> {
        let usual = matches!(self.reading(), Reading::Words | Reading::Web);
        self.language().habits().stemmer.filter(|_| self.stem.unwrap_or(usual))
    }

    pub(super) fn folds(&self) -> bool {
        self.fold != Some(false)
    }

    /// The settings with the stemmer and the detector named that this program reads with, so that a schema that is kept
    /// says it.
    pub(crate) fn naming_what_it_depends_on(mut self) -> Self {
        if self.has_forms_as_written() {
            self.edition = self.edition.or(Some(EDITION));
        }
        self.stemmer = self.stemmer.take().or_else(|| self.stemmers());
        let versions =
            self.own_names().filter_map(|(_, _, name)| Some((name.to_owned(), offered(name)?.version)));
        let versions: Vec<_> = versions.collect();
        for (name, version) in versions {
            self.versions.entry(name).or_insert(version);
        }
        if self.detect.is_some() {
            self.detector = self.detector.take().or_else(|| detect::NAME.map(str::to_owned));
        }
        self
    }

    /// The edition of the rules by which text is read.
    pub(super) fn edition(&self) -> u8 {
        self.edition.unwrap_or(EDITION)
    }

    pub(super) fn folds_accents(&self) -> bool {
        match self.accents {
            Some(accents) => accents == Accents::Fold,
            None => self.language().habits().folds_accents,
        }
    }

    /// Whether numbers and words with an apostrophe have the forms that people write: where words have forms at all.
    pub(super) fn reads_forms_as_written(&self) -> bool {
        self.edition() > 1 && self.has_forms_as_written()
    }

    fn has_forms_as_written(&self) -> bool {
        let of_words = matches!(self.reading(), Reading::Words | Reading::Web);
        of_words && (self.stemming().is_some() || self.folds_accents())
    }

    /// Whether each form of a word is a term of its own.
    pub(super) fn ranks_forms(&self) -> bool {
        let of_words = matches!(self.reading(), Reading::Words | Reading::Web);
        let usual = if of_words { Forms::Ranked } else { Forms::Same };
        let has_forms = self.stemming().is_some() || self.folds_accents();
        has_forms && self.forms.unwrap_or(usual) == Forms::Ranked
    }

    /// Tells whether text can be read so.
    pub(crate) fn check(&self) -> Result<()> {
        let bad = |message: String| Err(Error::new(ErrorKind::BadSchema, message));
        self.language().check()?;
        if !(1..=EDITION).contains(&self.edition()) {
            return bad(format!(
                "`edition` is {}, and this program reads by the editions 1 to {EDITION}; use a newer version of it",
                self.edition()
            ));
        }
        self.check_stemmer()?;
        self.check_own()?;
        if self.stop == Some(StopWords::OfLanguage(true))
            && super::stop::of_language(self.language().code()).is_none()
        {
            return bad(format!(
                "`stop` is set, and there is no list of stop words for \"{}\"",
                self.language()
            ));
        }
        if self.symbols && !matches!(self.reading(), Reading::Words | Reading::Web) {
            return bad("`symbols` belongs to the readings \"words\" and \"web\"".into());
        }
        if (self.language_from.is_some() || self.detect.is_some()) == self.languages.is_empty() {
            return bad("`languages` belongs together with `language_from` or `detect`: name what a record may be in, and \
                        the column that says which, or how sure detection has to be"
                .into());
        }
        self.check_detection()?;
        self.written.iter().try_for_each(|form| dates::check(form))?;
        self.languages.iter().try_for_each(Language::check)
    }

    /// Tells whether words can be stemmed so.
    fn check_stemmer(&self) -> Result<()> {
        let bad = |message: String| Err(Error::new(ErrorKind::BadSchema, message));
        if self.own_stemmer().is_some() {
            return match self.stem {
                Some(false) => bad("`stem` is off and `stemmer` names one; leave out one of them".into()),
                _ => Ok(()),
            };
        }
        if self.stem == Some(true) && self.algorithm().is_none() {
            return bad(format!("`stem` is set, and there is no stemmer for \"{}\"", self.language()));
        }
        match &self.stemmer {
            Some(named) if self.stemmers().as_ref() != Some(named) => {
                let ours = self.stemmers().unwrap_or_else(|| "none".to_owned());
                bad(format!(
                    "`stemmer` is \"{named}\" and this program has \"{ours}\"; rebuild the cellar with it, or offer that one before"
                ))
            }
            _ => Ok(()),
        }
    }

    /// Tells whether the program offers what is named, in the version that is named.
    fn check_own(&self) -> Result<()> {
        let bad = |message: String| Err(Error::new(ErrorKind::BadSchema, message));
        for (setting, what, name) in self.own_names() {
            let Some(Offered { version, own, .. }) =
                offered(name).filter(|offered| offered.own.what() == what)
            else {
                return bad(format!(
                    "`{setting}` names `{name}`, which this program does not offer as a {what}; offer it before"
                ));
            };
            match self.versions.get(name) {
                Some(kept) if *kept != version => {
                    return bad(format!(
                        "`{setting}` names `{name}` of version \"{kept}\" and this program offers version \"{version}\"; \
                         rebuild the cellar with it"
                    ));
                }
                Some(_) => {}
                None => {
                    return bad(format!(
                        "`{setting}` names `{name}`, which was offered after the column was made; offer it before"
                    ));
                }
            }
            if let Own::Words(list) = own
                && !self.each_language().any(|one| one.language() == *list.language())
            {
                return bad(format!(
                    "`compounds` names `{name}`, whose words are of \"{}\", and the column is not",
                    list.language()
                ));
            }
        }
        if self.tokeniser.is_some() && (self.reading.is_some() || self.symbols) {
            return bad("`tokeniser` stands in the place of `reading` and `symbols`; leave them out".into());
        }
        if let Some(unknown) =
            self.versions.keys().find(|name| !self.own_names().any(|(_, _, own)| own == *name))
        {
            return bad(format!("`versions` has `{unknown}`, which nothing names"));
        }
        Ok(())
    }

    /// Tells whether languages can be detected so.
    fn check_detection(&self) -> Result<()> {
        let bad = |message: String| Err(Error::new(ErrorKind::BadSchema, message));
        let Some(percent) = self.detect else { return Ok(()) };
        let Some(ours) = detect::NAME else {
            return bad("`detect` is set, and this program was built without the feature `detection`".into());
        };
        if percent > 100 {
            return bad(format!("`detect` is {percent}; it is a percentage, from 0 to 100"));
        }
        if let Some(named) = self.detector.as_ref().filter(|named| *named != ours) {
            return bad(format!(
                "`detector` is \"{named}\" and this program has \"{ours}\"; rebuild the cellar with it"
            ));
        }
        let languages = self.languages.iter().chain(&self.language);
        match languages.map(Language::code).find(|code| *code != "none" && !detect::knows(code)) {
            Some(unknown) => bad(format!("`detect` is set, and \"{unknown}\" can't be told from its text")),
            None => Ok(()),
        }
    }
}
