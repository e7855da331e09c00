//! The recipes of one column: one for each language that its records may be in.

use super::recipe::Recipe;
use super::settings::TextSettings;

/// The recipes of a column, the default one first.
#[derive(Clone, Debug)]
pub(crate) struct Recipes {
    /// By language code.
    recipes: Vec<(String, Recipe)>,
    /// The column whose value says which language a record is in.
    named_by: Option<String>,
}

impl Recipes {
    pub fn of(settings: &TextSettings) -> Self {
        let recipe = |one: TextSettings| (one.language().code().to_owned(), Recipe::of(&one));
        Self {
            recipes: settings.each_language().map(recipe).collect(),
            named_by: settings.language_from.clone(),
        }
    }

    /// All of them, the default one first.
    pub fn all(&self) -> impl ExactSizeIterator<Item = &Recipe> {
        self.recipes.iter().map(|(_, recipe)| recipe)
    }

    /// A recipe by its place in [`all`](Self::all).
    pub fn get(&self, place: usize) -> &Recipe {
        &self.recipes[place].1
    }

    /// The column whose value says which language a record is in.
    pub fn named_by(&self) -> Option<&str> {
        self.named_by.as_deref()
    }

    /// The place of the recipe for a record that says it is in this language (`de`, `DE`, `de-AT`); the default one's for
    /// a language that is not among them.
    pub fn place_of(&self, language: &str) -> usize {
        let primary = language.split(['-', '_']).next().unwrap_or_default().trim();
        self.recipes.iter().position(|(code, _)| code.eq_ignore_ascii_case(primary)).unwrap_or(0)
    }
}
