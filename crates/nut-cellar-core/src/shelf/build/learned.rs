//! How the text columns of a schema are read, with what was learned of words and terms that were read before: from one batch to
//! the next, so that a small one need not learn it anew.

use crate::schema::Schema;
use crate::shelf::build::vocabulary::Vocabulary;
use crate::shelf::format::terms::{name, read_name};
use crate::text::{Memory, Recipe, Recipes};
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
    /// The stemmings by their numbers: the name of each, and the column and the place of a recipe that has it.
    stemmings: Vec<(String, (usize, usize))>,
    pub(in crate::shelf) terms: Terms,
}

/// The terms of batches by the names that the dictionary has for them, and what is known of them by their numbers.
#[derive(Debug, Default)]
pub(in crate::shelf) struct Terms {
    pub vocabulary: Vocabulary,
    /// The key of each term.
    keys: Vec<Key>,
    /// Room for a name.
    name: String,
}

impl Terms {
    /// The number of a term of a stemming.
    #[inline]
    pub fn number(&mut self, term: &str, stemming: u8) -> u32 {
        if stemming == 0 {
            return self.vocabulary.number(term);
        }
        self.name.clear();
        self.name.push_str(term);
        self.name.extend(['\0', char::from(stemming)]);
        self.vocabulary.number(&self.name)
    }
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

/// How one column is read.
#[derive(Debug)]
pub(crate) struct Words {
    pub recipes: Recipes,
    /// For each recipe the terms of words, and the number of its stemming.
    pub terms: Vec<Memory>,
    pub stemmings: Vec<u8>,
}

impl Learned {
    /// Nothing learned.
    pub fn of(schema: &Arc<Schema>) -> Self {
        let (mut columns, mut stemmings) = (Vec::new(), Vec::<(String, (usize, usize))>::new());
        for (place, (_, column)) in schema.text_columns().enumerate() {
            let recipes = Recipes::of(column.text_settings());
            let mut number = |(at, recipe): (usize, &Recipe)| {
                let name = recipe.stemming_name();
                let known = stemmings.iter().position(|(known, _)| known == name);
                let number = known.unwrap_or_else(|| {
                    stemmings.push((name.to_owned(), (place, at)));
                    stemmings.len() - 1
                });
                u8::try_from(number).expect("the schema has been checked")
            };
            let numbers = recipes.all().enumerate().map(&mut number).collect();
            let terms = recipes.all().map(|_| Memory::default()).collect();
            columns.push(Words { recipes, terms, stemmings: numbers });
        }
        Self { schema: Arc::clone(schema), columns, stemmings, terms: Terms::default() }
    }

    /// The names of the stemmings, by their numbers.
    pub fn stemmings(&self) -> Vec<String> {
        self.stemmings.iter().map(|(name, _)| name.clone()).collect()
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

    /// Of the terms with these ranks and numbers, those that have another key than themselves: the name of their class, and the rank.
    pub fn keyed(&mut self, terms: &[(u32, u32)]) -> Vec<(Vec<u8>, u32)> {
        let Self { columns, stemmings, terms: Terms { vocabulary, keys, .. }, .. } = self;
        let other_key = |stemming: u8, text: &str| {
            let (column, place) = stemmings[usize::from(stemming)].1;
            columns[column].recipes.get(place).other_key(text)
        };
        let is_worth = vocabulary.len() <= MOST_TERMS;
        if is_worth {
            keys.resize(vocabulary.len(), Key::Unknown);
        }
        let mut keyed = Vec::new();
        for &(rank, number) in terms {
            let (text, stemming, _) =
                read_name(vocabulary.term(number).as_bytes()).expect("names of terms are made so");
            if !is_worth {
                keyed.extend(
                    other_key(stemming, text).map(|key| (name(key.as_bytes(), stemming, true), rank)),
                );
                continue;
            }
            let known = &mut keys[number as usize];
            if let Key::Unknown = known {
                *known = other_key(stemming, text).map_or(Key::Same, |key| Key::Other(key.into_boxed_str()));
            }
            if let Key::Other(key) = known {
                keyed.push((name(key.as_bytes(), stemming, true), rank));
            }
        }
        keyed
    }
}
