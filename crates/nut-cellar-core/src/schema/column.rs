//! One column of a schema.

use crate::error::{Error, ErrorKind, Result};
use crate::record::Value;
use crate::text::{Accents, Forms, Language, Reading, Recipes, StopWords, TextSettings};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::fmt;
use std::num::NonZero;

/// What the values of a column are.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum Kind {
    /// Prose: read into tokens, and searched.
    Text,
    /// A text that is one value as a whole, such as a status.
    Exact,
    /// A whole number.
    Integer,
    /// A number with a fraction.
    Float,
    /// True or false.
    Boolean,
    /// A day.
    Date,
    /// A moment, to the microsecond.
    Moment,
    /// A place on the globe.
    Point,
}

impl fmt::Display for Kind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Text => "text",
            Self::Exact => "exact",
            Self::Integer => "integer",
            Self::Float => "float",
            Self::Boolean => "boolean",
            Self::Date => "date",
            Self::Moment => "moment",
            Self::Point => "point",
        })
    }
}

/// One column: its kind and, for text, its language and its weight.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(try_from = "Raw")]
pub struct Column {
    kind: Kind,
    #[serde(flatten)]
    text: TextSettings,
    #[serde(skip_serializing_if = "Option::is_none")]
    weight: Option<f32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    from: Option<From>,
    #[serde(skip_serializing_if = "Option::is_none")]
    gap: Option<u16>,
    #[serde(skip_serializing_if = "Option::is_none")]
    first_words: Option<NonZero<u16>>,
    #[serde(skip_serializing_if = "is_true")]
    indexed: bool,
    #[serde(skip_serializing_if = "is_true")]
    kept: bool,
}

/// The gap of a column that says none.
const GAP: u16 = 16;

/// Names of columns of the source: one, or several that are read as one.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
enum From {
    One(String),
    Several(Vec<String>),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Raw {
    kind: Kind,
    language: Option<Language>,
    #[serde(default)]
    languages: Vec<Language>,
    language_from: Option<String>,
    detect: Option<u8>,
    detector: Option<String>,
    reading: Option<Reading>,
    #[serde(default)]
    symbols: bool,
    tokeniser: Option<String>,
    elide: Option<bool>,
    fold: Option<bool>,
    accents: Option<Accents>,
    #[serde(default)]
    steps: Vec<String>,
    #[serde(default)]
    compounds: Vec<String>,
    stem: Option<bool>,
    stemmer: Option<String>,
    forms: Option<Forms>,
    stop: Option<StopWords>,
    #[serde(default)]
    written: Vec<String>,
    edition: Option<u8>,
    #[serde(default)]
    versions: BTreeMap<String, String>,
    weight: Option<f32>,
    from: Option<From>,
    gap: Option<u16>,
    first_words: Option<NonZero<u16>>,
    #[serde(default = "yes")]
    indexed: bool,
    #[serde(default = "yes")]
    kept: bool,
}

fn yes() -> bool {
    true
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "the shape that serde calls")]
fn is_true(value: &bool) -> bool {
    *value
}

impl TryFrom<Raw> for Column {
    type Error = Error;

    fn try_from(raw: Raw) -> Result<Self> {
        let Raw {
            kind,
            language,
            languages,
            language_from,
            detect,
            detector,
            reading,
            symbols,
            tokeniser,
            elide,
            fold,
            accents,
            steps,
            compounds,
            stem,
            stemmer,
            forms,
            stop,
            written,
            edition,
            versions,
            weight,
            from,
            gap,
            first_words,
            indexed,
            kept,
        } = raw;
        let text = TextSettings {
            language,
            languages,
            language_from,
            detect,
            detector,
            reading,
            symbols,
            tokeniser,
            elide,
            fold,
            accents,
            steps,
            compounds,
            stem,
            stemmer,
            forms,
            stop,
            written,
            edition,
            versions,
        };
        let column = Self { kind, text, weight, from, gap, first_words, indexed, kept };
        let column = column.naming_what_it_depends_on();
        column.check()?;
        Ok(column)
    }
}

impl Column {
    /// A column of a kind.
    pub fn of(kind: Kind) -> Self {
        Self {
            kind,
            text: TextSettings::default(),
            weight: None,
            from: None,
            gap: None,
            first_words: None,
            indexed: true,
            kept: true,
        }
    }

    /// A text column in a language, by its code: `"en"`, or `"none"` for words as they are, case folded.
    /// Whether the code is known is told by [`Schema::check`](crate::Schema::check).
    pub fn text(language: &str) -> Self {
        Self::read_as(TextSettings::of(Language::named(language)))
    }

    /// A text column that is read in a way of its own.
    ///
    /// ```
    /// use nut_cellar_core::text::{Reading, TextSettings};
    /// use nut_cellar_core::{Column, Language};
    ///
    /// let code = TextSettings { reading: Some(Reading::Code), ..TextSettings::of(Language::new("en").unwrap()) };
    /// let column = Column::read_as(code);
    /// assert_eq!(column.text_settings().reading(), Reading::Code);
    /// ```
    pub fn read_as(settings: TextSettings) -> Self {
        Self { text: settings, ..Self::of(Kind::Text) }.naming_what_it_depends_on()
    }

    /// The column with its words read in a way of its own, whatever its kind is.
    #[must_use]
    pub fn reading(mut self, settings: TextSettings) -> Self {
        self.text = settings;
        self.naming_what_it_depends_on()
    }

    /// A column of days, moments or numbers that words find as well, as the language writes them: `2031`, `april 2031`; `1,000`. A moment
    /// is found by its day in UTC.
    ///
    /// ```
    /// use nut_cellar_core::{Column, Kind, Value};
    ///
    /// let found_on = Column::of(Kind::Date).in_words("de").written(["day.month.year"]);
    /// let texts = found_on.texts(&Value::read(Kind::Date, "2031-04-17").unwrap());
    /// assert_eq!(texts, ["2031-04-17", "17. april 2031", "17. apr. 2031", "17.4.2031", "17.04.2031"]);
    /// ```
    #[must_use]
    pub fn in_words(mut self, language: &str) -> Self {
        self.text.language = Some(Language::named(language));
        self.naming_what_it_depends_on()
    }

    /// The column of days or moments with other forms in which words find them: with `day`, `month` and `year` for the
    /// numbers.
    #[must_use]
    pub fn written<S: Into<String>>(mut self, forms: impl IntoIterator<Item = S>) -> Self {
        self.text.written = forms.into_iter().map(Into::into).collect();
        self
    }

    /// The column with what its reading depends on named, so that a schema that is kept says it.
    fn naming_what_it_depends_on(mut self) -> Self {
        if self.has_words() {
            self.text = self.text.naming_what_it_depends_on();
        }
        let several = self.is_searched_text() && self.from().is_some_and(|names| names.len() > 1);
        self.gap = self.gap.or(several.then_some(0));
        self
    }

    /// The column as a cellar kept it that said no gap: one from before a column made of several ran on.
    pub(super) fn without_gap(&mut self) {
        self.gap = None;
    }

    /// The column as a cellar kept it that said no edition: one from before there was a second.
    pub(super) fn of_first_edition(&mut self) {
        self.text.edition = self.text.edition.map(|_| 1);
    }

    /// The column, read by the edition of the same one that was kept.
    pub(super) fn in_edition_of(&mut self, kept: &Self) {
        self.text.edition = kept.text.edition;
    }

    /// The column with a weight of its own; 1 without.
    #[must_use]
    pub fn weighing(mut self, weight: f32) -> Self {
        self.weight = Some(weight);
        self
    }

    /// The column filled from columns of the source with these names, read as several values of one. Where there is more than one
    /// name, a phrase runs on from value to value, unless the column has another [gap](Self::with_gap).
    ///
    /// ```
    /// use nut_cellar_core::Column;
    ///
    /// assert_eq!(Column::text("none").from_columns(["first", "last"]).gap(), 0);
    /// assert_eq!(Column::text("none").from_columns(["claims.note"]).gap(), 16);
    /// ```
    #[must_use]
    pub fn from_columns<S: Into<String>>(mut self, names: impl IntoIterator<Item = S>) -> Self {
        self.from = Some(From::Several(names.into_iter().map(Into::into).collect()));
        self.naming_what_it_depends_on()
    }

    /// The column with its values so many positions apart: with 0 a phrase runs on from one to the next, with 16 neither it nor most
    /// windows reach that far. It is 0 for a column made of several and 16 for others, unless it is said.
    #[must_use]
    pub fn with_gap(mut self, positions: u16) -> Self {
        self.gap = Some(positions);
        self
    }

    /// The column with the first so many words of its values searched alone: filled [from](Self::from_columns) a long column and
    /// [not kept](Self::not_kept), it weighs by itself what a text begins with.
    ///
    /// Where another column is filled from the same and read alike, this one takes next to no room: it has no positions of its own. A
    /// program that makes records by itself leaves it out then; with other values than those of the other column a record is refused. Where
    /// there is none, it is given its text as any other.
    ///
    /// ```
    /// use nut_cellar_core::{Column, Schema};
    /// use std::num::NonZero;
    ///
    /// let beginning = Column::text("en").from_columns(["notes"]).of_first_words(NonZero::new(12).unwrap()).not_kept();
    /// let schema = Schema::new("id").with("notes", Column::text("en")).with("beginning", beginning.weighing(4.0));
    /// assert!(schema.to_toml().contains("first_words = 12"));
    /// ```
    #[must_use]
    pub fn of_first_words(mut self, words: NonZero<u16>) -> Self {
        self.first_words = Some(words);
        self
    }

    /// The column without its values being kept for showing: it can be searched, and hits come without it.
    #[must_use]
    pub fn not_kept(mut self) -> Self {
        self.kept = false;
        self
    }

    /// The text column without its words being looked for: its values are kept and shown, and take no room in the index. What says how a
    /// text is read is forgotten.
    ///
    /// ```
    /// use nut_cellar_core::{Column, Kind, Schema};
    ///
    /// let label = Column::of(Kind::Text).not_indexed();
    /// let schema = Schema::new("id").with("title", Column::text("en")).with("label", label);
    /// schema.check().unwrap();
    /// assert!(schema.to_toml().contains("indexed = false"));
    /// assert_eq!(schema.text_columns().count(), 1);
    /// ```
    #[must_use]
    pub fn not_indexed(self) -> Self {
        Self { indexed: false, text: TextSettings::default(), gap: None, ..self }
    }

    /// What its values are.
    pub fn kind(&self) -> Kind {
        self.kind
    }

    /// Whether words are looked for in it: in text that is indexed, and in days and numbers that are read in a language.
    pub fn has_words(&self) -> bool {
        match self.kind {
            Kind::Text => self.is_searched_text(),
            Kind::Date | Kind::Moment | Kind::Integer | Kind::Float => self.text.language.is_some(),
            _ => false,
        }
    }

    fn is_searched_text(&self) -> bool {
        self.kind == Kind::Text && self.indexed
    }

    /// The texts that words find a value by, in the column's language: the text itself, or the day or number as people write it.
    pub fn texts(&self, value: &Value) -> Vec<String> {
        Recipes::of(&self.text).texts(0, value).into_iter().map(Cow::into_owned).collect()
    }

    /// The positions that are left out between two of its values.
    pub fn gap(&self) -> u16 {
        self.gap.unwrap_or(GAP)
    }

    /// How many words of its values are searched, if not all.
    pub fn first_words(&self) -> Option<NonZero<u16>> {
        self.first_words
    }

    /// The language its text is read in.
    pub fn language(&self) -> Language {
        self.text.language()
    }

    /// How its text is read.
    pub fn text_settings(&self) -> &TextSettings {
        &self.text
    }

    /// What a match in it weighs, unless a search says otherwise.
    pub fn weight(&self) -> f32 {
        self.weight.unwrap_or(1.0)
    }

    /// Whether it is the same but for its weight, and for the edition by which text is read.
    pub(super) fn is_read_as(&self, other: &Self) -> bool {
        let text = |column: &Self| TextSettings { edition: None, ..column.text.clone() };
        let bare = |column: &Self| Self { weight: None, gap: None, text: text(column), ..column.clone() };
        bare(self) == bare(other) && self.gap() == other.gap()
    }

    /// The columns of the source that it is filled from, where they are not just the one of the same name.
    pub fn from(&self) -> Option<&[String]> {
        match self.from.as_ref()? {
            From::One(name) => Some(std::slice::from_ref(name)),
            From::Several(names) => Some(names),
        }
    }

    /// The columns of the source that it is filled from: those it names, or the one of its own name.
    pub fn sources<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a str> {
        let from = self.from();
        let own = from.is_none().then_some(name);
        own.into_iter().chain(from.into_iter().flatten().map(String::as_str))
    }

    /// Whether its values are kept for showing.
    pub fn kept(&self) -> bool {
        self.kept
    }

    pub(super) fn check(&self) -> Result<()> {
        let bad = |message: String| Err(Error::new(ErrorKind::BadSchema, message));
        if self.has_words() {
            self.text.check()?;
        } else if self.text != TextSettings::default() {
            let days = matches!(self.kind, Kind::Date | Kind::Moment | Kind::Integer | Kind::Float);
            let rather = if days { "; give the column a `language` as well" } else { "" };
            return bad(format!(
                "What says how text is read belongs to columns that are searched for words, which this one of kind \"{}\" \
                 is not{rather}",
                self.kind
            ));
        }
        if !self.indexed && (self.kind != Kind::Text || !self.kept) {
            return bad(
                "`indexed = false` belongs to columns of kind \"text\" that are kept, to be shown only"
                    .into(),
            );
        }
        let of_text = [("gap", self.gap.is_some()), ("first_words", self.first_words.is_some())];
        if let Some((name, _)) = of_text.into_iter().find(|(_, said)| *said && !self.is_searched_text()) {
            let but =
                if self.indexed { format!("is of kind \"{}\"", self.kind) } else { "is not indexed".into() };
            return bad(format!(
                "`{name}` belongs to columns of kind \"text\" that are searched, and this one {but}"
            ));
        }
        if !matches!(self.kind, Kind::Date | Kind::Moment) && !self.text.written.is_empty() {
            return bad(
                "`written` says how days are written, and belongs to columns of kind \"date\" and \"moment\""
                    .into(),
            );
        }
        if let Some(weight) = self.weight {
            if !self.has_words() {
                return bad(format!(
                    "`weight` belongs to columns that are searched for words, which this one of kind \"{}\" is not",
                    self.kind
                ));
            }
            if !(weight.is_finite() && weight >= 0.0) {
                return bad(format!(
                    "`weight` is {weight}; it has to be a finite number that is not negative"
                ));
            }
        }
        if self.from().is_some_and(|names| names.is_empty() || names.iter().any(String::is_empty)) {
            return bad("`from` names no column; name one, or leave it out".into());
        }
        Ok(())
    }
}
