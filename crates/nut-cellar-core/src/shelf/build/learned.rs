//! How the text columns of a schema are read, with what was learned of words and terms that were read before: from one batch to
//! the next, so that a small one need not learn it anew.

use crate::schema::{Column, Schema};
use crate::shelf::build::vocabulary::Vocabulary;
use crate::text::{Memory, Recipe, Recipes};
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::sync::Arc;

/// More words than these are not worth keeping for the next batch.
const MOST_KEPT: usize = 1 << 15;
/// Nor are more terms than these: a batch of few records takes time for each of them.
const MOST_TERMS: usize = 1 << 14;

/// The text columns of a schema, in its order.
#[derive(Debug)]
pub(crate) struct Learned {
    schema: Arc<Schema>,
    pub columns: Vec<Words>,
    pub(in crate::shelf) terms: Terms,
}

/// The terms of batches, and what is known of them by their numbers.
#[derive(Debug, Default)]
pub(in crate::shelf) struct Terms {
    pub vocabulary: Vocabulary,
    /// For recipes by column and place, the key of each term.
    keys: BTreeMap<(usize, usize), Vec<Key>>,
}

/// What a term has in common with its forms.
#[derive(Clone, Debug, Default)]
enum Key {
    #[default]
    Unknown,
    /// The term itself.
    Same,
    Other(Box<str>),
}

impl Key {
    fn of(recipe: &Recipe, term: &str) -> Self {
        recipe.other_key(term).map_or(Self::Same, |key| Self::Other(key.into_boxed_str()))
    }
}

/// How one column is read.
#[derive(Debug)]
pub(crate) struct Words {
    pub recipes: Recipes,
    /// For each recipe the terms of words.
    pub terms: Vec<Memory>,
}

impl Words {
    fn of(column: &Column) -> Self {
        let recipes = Recipes::of(column.text_settings());
        let terms = recipes.all().map(|_| Memory::default()).collect();
        Self { recipes, terms }
    }
}

impl Learned {
    /// Nothing learned.
    pub fn of(schema: &Arc<Schema>) -> Self {
        let columns = schema.text_columns().map(|(_, column)| Words::of(column)).collect();
        Self { schema: Arc::clone(schema), columns, terms: Terms::default() }
    }

    /// What is worth knowing after a batch.
    pub fn after_batch(mut self) -> Self {
        if self.terms.vocabulary.len() > MOST_TERMS {
            self.terms = Terms::default();
        }
        self
    }

    /// Whether it is of this schema.
    pub fn is_of(&self, schema: &Arc<Schema>) -> bool {
        Arc::ptr_eq(&self.schema, schema) || self.schema == *schema
    }

    /// Whether it is worth its memory.
    pub fn is_small(&self) -> bool {
        let memories = self.columns.iter().flat_map(|words| &words.terms);
        memories.map(Memory::len).sum::<usize>() <= MOST_KEPT
    }

    /// The recipes that keep classes of forms, each once, by the beginning of their classes: the column, and which of its
    /// recipes it is.
    pub fn classes(&self) -> BTreeMap<String, (usize, usize)> {
        let of_column = |(column, words): (usize, &Words)| {
            let places = words.recipes.all().enumerate();
            places.map(move |(place, recipe)| (recipe.class(""), (column, place))).collect::<Vec<_>>()
        };
        self.columns.iter().enumerate().flat_map(of_column).collect()
    }

    /// Of the terms with these numbers, those that one of those recipes gives another key than themselves: key and term.
    pub fn keyed(&mut self, (column, place): (usize, usize), numbers: &[u32]) -> Vec<(Cow<'_, str>, &str)> {
        let recipe = self.columns[column].recipes.get(place);
        if !recipe.keeps_forms() {
            return Vec::new();
        }
        let Terms { vocabulary, keys } = &mut self.terms;
        let terms = numbers.iter().map(|number| (*number as usize, vocabulary.term(*number)));
        if vocabulary.len() > MOST_TERMS {
            let keyed = terms.filter_map(|(_, term)| Some((Cow::Owned(recipe.other_key(term)?), term)));
            return keyed.collect();
        }
        let keys = keys.entry((column, place)).or_default();
        keys.resize(vocabulary.len(), Key::Unknown);
        for (number, term) in terms.clone() {
            if let key @ Key::Unknown = &mut keys[number] {
                *key = Key::of(recipe, term);
            }
        }
        let known = |(number, term): (usize, _)| match &keys[number] {
            Key::Other(key) => Some((Cow::Borrowed(&**key), term)),
            Key::Unknown | Key::Same => None,
        };
        terms.filter_map(known).collect()
    }
}
