//! What becomes of a value of a column: the texts that words find it by, and their tokens.

use super::{Kind, Schema};
use crate::error::{Error, ErrorKind, Result};
use crate::record::Value;
use crate::text::{Recipes, TracedToken};
use serde::Serialize;

/// A text that a column was read from, with its tokens.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct TracedText {
    /// The text; ranges of tokens are of it. Of a day it is one of the ways in which people write it.
    pub text: String,
    /// The code of the language that it is read in.
    pub language: String,
    /// Its tokens, by position.
    pub tokens: Vec<TracedToken>,
}

impl Schema {
    /// What becomes of a value of a column, written as in a text: the texts that words find it by, each with its tokens and what each step
    /// did. A text is read in its own language where the column tells languages by their texts; in the column's first one where a record
    /// would have to say it. Takes time in proportion to the text.
    ///
    /// ```
    /// use nut_cellar_core::{Column, Kind, Schema};
    ///
    /// # fn main() -> nut_cellar_core::Result<()> {
    /// let schema = Schema::new("id")
    ///     .with("title", Column::text("en"))
    ///     .with("found_on", Column::of(Kind::Date).in_words("en"));
    /// let [title] = &schema.tokens("title", "Two Umbrellas")?[..] else { panic!("a text is read once") };
    /// assert_eq!((&*title.tokens[1].term, title.tokens[1].key.as_deref()), ("umbrellas", Some("umbrella")));
    /// let days = schema.tokens("found_on", "2031-04-17")?;
    /// assert!(days.iter().any(|day| day.text == "april 17, 2031" && day.tokens[0].term == "april"));
    /// # Ok(()) }
    /// ```
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`] if there is no such column, or if no words are looked for in it; [`ErrorKind::BadRecord`] if the text is no
    /// value of its kind.
    pub fn tokens(&self, column: &str, text: &str) -> Result<Vec<TracedText>> {
        let Some(of) = self.column(column).filter(|of| of.has_words()) else {
            let known: Vec<_> = self.text_columns().map(|(name, _)| name).collect();
            let message =
                format!("The schema has no column `{column}` with words; it has {}.", known.join(", "));
            return Err(Error::new(ErrorKind::BadRequest, message));
        };
        let recipes = Recipes::of(of.text_settings());
        let (value, place) = match of.kind() {
            Kind::Text => (Value::Text(text.to_owned()), recipes.place_of(None, Some(text))),
            kind => (Value::read(kind, text)?, 0),
        };
        let recipe = recipes.get(place);
        let traced = |text: &str| TracedText {
            text: text.to_owned(),
            language: recipes.language(place).to_owned(),
            tokens: recipe.trace(text),
        };
        Ok(recipes.texts(place, &value).iter().map(|text| traced(text)).collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Language;
    use crate::schema::Column;
    use crate::text::TextSettings;

    fn schema() -> Schema {
        let languages = vec![Language::new("de").unwrap()];
        let english = TextSettings::of(Language::new("en").unwrap());
        let either = TextSettings { languages, detect: Some(80), ..english };
        Schema::new("id")
            .with("notes", Column::read_as(either))
            .with("found_on", Column::of(Kind::Date).in_words("de"))
            .with("stars", Column::of(Kind::Integer))
    }

    #[cfg(feature = "detection")]
    #[test]
    fn a_text_is_read_in_the_language_that_it_is_taken_for() {
        for (text, code) in [
            (
                "A black umbrella with a handle of wood, found in the last carriage of the evening train.",
                "en",
            ),
            (
                "Ein schwarzer Regenschirm mit einem Griff aus Holz, gefunden im letzten Wagen des Abendzugs.",
                "de",
            ),
        ] {
            let read = schema().tokens("notes", text).unwrap();
            let tokens = crate::Recipe::new(&Language::new(code).unwrap()).trace(text);
            assert_eq!(read, [TracedText { text: text.to_owned(), language: code.to_owned(), tokens }]);
        }
    }

    #[test]
    fn a_day_is_read_in_each_of_its_texts() {
        let days = schema().tokens("found_on", "2031-04-17").unwrap();
        let column = schema();
        let column = column.column("found_on").unwrap();
        let texts = column.texts(&Value::read(Kind::Date, "2031-04-17").unwrap());
        assert!(texts.len() > 1 && days.iter().map(|day| &day.text).eq(&texts));
        assert!(days.iter().all(|day| day.language == "de" && !day.tokens.is_empty()));
    }

    #[test]
    fn what_has_no_words_is_refused() {
        for (column, text, says) in [
            ("stars", "5", "it has notes, found_on"),
            ("colour", "red", "no column `colour`"),
            ("found_on", "some day", "some day"),
        ] {
            let error = schema().tokens(column, text).unwrap_err();
            assert!(error.to_string().contains(says), "{error}");
        }
    }
}
