//! The recipes of one column: one for each language that its records may be in.

use super::recipe::Recipe;
use super::settings::TextSettings;
use super::{dates, detect};
use crate::record::Value;
use std::borrow::Cow;

/// The recipes of a column, the default one first.
#[derive(Clone, Debug)]
pub(crate) struct Recipes {
    /// With the codes of the languages.
    by_language: Vec<(String, Recipe)>,
    /// The column whose value says which language a record is in.
    named_by: Option<String>,
    /// How sure detection has to be, in percent, if languages are detected.
    detect: Option<u8>,
    /// The forms that the schema lists for days.
    written: Vec<String>,
}

impl Recipes {
    pub fn of(settings: &TextSettings) -> Self {
        let recipe = |one: TextSettings| (one.language().code().to_owned(), Recipe::of(&one));
        Self {
            by_language: settings.each_language().map(recipe).collect(),
            named_by: settings.language_from.clone(),
            detect: settings.detect,
            written: settings.written.clone(),
        }
    }

    /// All of them, the default one first.
    pub fn all(&self) -> impl ExactSizeIterator<Item = &Recipe> {
        self.by_language.iter().map(|(_, recipe)| recipe)
    }

    /// A recipe by its place in [`all`](Self::all).
    pub fn get(&self, place: usize) -> &Recipe {
        &self.by_language[place].1
    }

    /// The code of the language of the recipe at a place.
    pub fn language(&self, place: usize) -> &str {
        &self.by_language[place].0
    }

    /// The texts of a value, in the language of the recipe at a place: the text itself, or the day or the number as people write it.
    pub fn texts<'v>(&self, place: usize, value: &'v Value) -> Vec<Cow<'v, str>> {
        if let Some(text) = value.as_text() {
            return vec![Cow::Borrowed(text)];
        }
        let spelled = match value {
            Value::Integer(number) => vec![number.to_string()],
            // A whole number is written with a decimal, too: `12` and `12.0`, of which `12.00` is a form.
            Value::Float(number) if number.fract() == 0.0 => vec![number.to_string(), format!("{number:.1}")],
            Value::Float(number) => vec![number.to_string()],
            value => {
                let days = value.day().map(|day| dates::spellings(self.language(place), &self.written, day));
                days.unwrap_or_default()
            }
        };
        spelled.into_iter().map(Cow::Owned).collect()
    }

    /// The column whose value says which language a record is in.
    pub fn named_by(&self) -> Option<&str> {
        self.named_by.as_deref()
    }

    /// The place of the recipe for a record that says it is in a language (`de`, `DE`, `de-AT`), or has this text in the
    /// column; the default one's if neither tells one of the languages.
    pub fn place_of(&self, says: Option<&str>, text: Option<&str>) -> usize {
        let place = |language: &str| {
            let primary = language.split(['-', '_']).next().unwrap_or_default().trim();
            self.by_language.iter().position(|(code, _)| code.eq_ignore_ascii_case(primary))
        };
        says.and_then(place)
            .or_else(|| {
                let codes = self.by_language.iter().map(|(code, _)| code.as_str());
                place(detect::language_of(text?, codes, self.detect?)?)
            })
            .unwrap_or(0)
    }
}
