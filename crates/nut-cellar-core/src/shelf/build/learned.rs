//! How the text columns of a schema are read, with what was learned of words and terms that were read before: from one batch to
//! the next, so that a small one need not learn it anew.

use crate::schema::Schema;
use crate::shelf::build::vocabulary::Vocabulary;
use crate::shelf::format::terms::read_name;
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
        put_name(&mut self.name, term, stemming);
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

impl Key {
    /// The key, if it is another than the term.
    fn other(&self) -> Option<&str> {
        match self {
            Self::Other(key) => Some(key),
            Self::Unknown | Self::Same => None,
        }
    }
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

    /// Lets go, when all tokens of a batch are numbered, what nobody needs after it.
    pub fn end_batch(&mut self) {
        if self.terms.vocabulary.len() > MOST_TERMS {
            self.terms.vocabulary.forget_numbers();
        }
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

    /// Of the terms with these ranks and numbers, those that have another key than themselves: the names of their classes, sorted, and for
    /// each term its rank and the number of its class.
    pub(in crate::shelf) fn keyed(&mut self, terms: &[(u32, u32)]) -> (Vocabulary, Vec<(u32, u32)>) {
        let Self { columns, stemmings, terms: Terms { vocabulary, keys, name }, .. } = self;
        let is_worth = vocabulary.len() <= MOST_TERMS;
        if is_worth {
            keys.resize(vocabulary.len(), Key::Unknown);
        }
        let (mut classes, mut keyed) = (Vocabulary::default(), Vec::new());
        for &(rank, number) in terms {
            let (text, stemming, _) =
                read_name(vocabulary.term(number).as_bytes()).expect("names of terms are made so");
            let other_key = || {
                let (column, place) = stemmings[usize::from(stemming)].1;
                columns[column].recipes.get(place).other_key(text)
            };
            let made;
            let key = if is_worth {
                let known = &mut keys[number as usize];
                if let Key::Unknown = known {
                    *known = other_key().map_or(Key::Same, |key| Key::Other(key.into_boxed_str()));
                }
                known.other()
            } else {
                made = other_key();
                made.as_deref()
            };
            if let Some(key) = key {
                put_name(name, key, stemming);
                name.push('\0');
                keyed.push((rank, classes.number(name)));
            }
        }
        classes.sort();
        (classes, keyed)
    }
}

/// Makes it the name of a term.
fn put_name(name: &mut String, term: &str, stemming: u8) {
    name.clear();
    name.push_str(term);
    if stemming > 0 {
        name.extend(['\0', char::from(stemming)]);
    }
}
