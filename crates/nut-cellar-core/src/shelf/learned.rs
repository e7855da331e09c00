//! How the text columns of a schema are read, with what was learned of words that were read before: from one batch to the
//! next, so that a small one need not learn it anew.

use crate::schema::{Column, Schema};
use crate::text::{Memory, Recipe, Recipes};
use std::collections::BTreeMap;
use std::sync::Arc;

/// More words than these are not worth keeping for the next batch.
const MOST_KEPT: usize = 1 << 15;
/// Room for more terms than these is not made before they come.
const MOST_ROOM: usize = 1 << 13;

/// The text columns of a schema, in its order.
#[derive(Debug)]
pub(crate) struct Learned {
    schema: Arc<Schema>,
    pub columns: Vec<Words>,
    /// For how many terms the next batch has room: for as many as the last one had, if these were few.
    pub terms: usize,
}

/// How one column is read.
#[derive(Debug)]
pub(crate) struct Words {
    pub recipes: Recipes,
    /// For each recipe the terms of words.
    pub terms: Vec<Memory>,
    /// For each recipe what the forms of terms have in common.
    keys: Vec<Memory>,
}

impl Words {
    fn of(column: &Column) -> Self {
        let recipes = Recipes::of(column.text_settings());
        let none = || recipes.all().map(|_| Memory::default()).collect();
        Self { terms: none(), keys: none(), recipes }
    }
}

impl Learned {
    /// Nothing learned.
    pub fn of(schema: &Arc<Schema>) -> Self {
        let columns = schema.text_columns().map(|(_, column)| Words::of(column)).collect();
        Self { schema: Arc::clone(schema), columns, terms: 0 }
    }

    /// The same, after a batch of so many different terms.
    pub fn with_terms(self, terms: usize) -> Self {
        Self { terms: terms.min(MOST_ROOM), ..self }
    }

    /// Whether it is of this schema.
    pub fn is_of(&self, schema: &Arc<Schema>) -> bool {
        Arc::ptr_eq(&self.schema, schema) || self.schema == *schema
    }

    /// Whether it is worth its memory.
    pub fn is_small(&self) -> bool {
        let memories = self.columns.iter().flat_map(|words| words.terms.iter().chain(&words.keys));
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

    /// A recipe, with the keys of terms that are known.
    pub fn keys(&mut self, (column, place): (usize, usize)) -> (&Recipe, &mut Memory) {
        let words = &mut self.columns[column];
        (words.recipes.get(place), &mut words.keys[place])
    }
}
