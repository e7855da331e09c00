//! A query bound to a schema: what is looked up, what a record has to match, and what scores.
//!
//! A *leaf* is a word, a phrase or a pattern as it was typed. Columns of different languages may read it as different
//! tokens, so it has *alternatives*, each a run of terms in a set of columns. The *node* over the leaves says which of them
//! a record has to match. A *word* is what scores: the terms that stand for one typed word, as one group. A leaf that a
//! record matches scores, wherever it stands, unless it stands for what is not wanted.

use super::find::Find;
use crate::error::Result;
use crate::filter::Bound;
use crate::query::Query;
use crate::schema::{ColumnSet, Schema};
use crate::text::{Pattern, Spelling};
use std::collections::HashMap;

/// What to look for.
#[derive(Debug, Default)]
pub(crate) struct Plan {
    /// The different terms and patterns.
    pub lookups: Vec<Lookup>,
    pub known_lookups: HashMap<Lookup, usize>,
    /// How many different walks through a dictionary there are, and how many of them nothing leads to what they look for.
    pub walks: usize,
    pub wide_walks: usize,
    /// The different words, in query order.
    pub words: Vec<Word>,
    /// The different leaves, in query order.
    pub leaves: Vec<Leaf>,
    /// What values are compared with.
    pub tests: Vec<Bound>,
    /// What a record has to match.
    pub root: Node,
    /// How many words side by side there are to choose from, where a search may ask for some of them.
    pub choice: usize,
    /// What was taken otherwise than it may have been meant.
    pub notes: Vec<String>,
}

/// What a record has to match.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) enum Node {
    /// Nothing matches.
    #[default]
    Nothing,
    /// A leaf, by its place in the plan.
    Leaf(usize),
    /// A test of values, by its place in the plan.
    Test(usize),
    All(Vec<Node>),
    Any(Vec<Node>),
    AtLeast(usize, Vec<Node>),
    Not(Box<Node>),
}

/// What is looked up in the dictionaries: a term as typed, its forms, and what looks like it.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct Lookup {
    /// A term as typed.
    pub term: Option<String>,
    /// The class of its forms.
    pub class: Option<Class>,
    /// What else is looked for in the dictionary.
    pub like: Vec<Like>,
}

/// What is looked for in a dictionary.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Like {
    /// What fits a pattern.
    Pattern(Pattern),
    /// What begins like a word that was typed.
    Beginning(Pattern),
    /// What is spelled nearly so.
    Near(Spelling),
}

/// The class of a term's forms.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct Class {
    /// What the shelves call it.
    pub name: String,
    /// The term that is its own key, if there is one: the shelves do not list it.
    pub own: Option<String>,
}

/// The terms that stand for one typed word.
#[derive(Debug, PartialEq)]
pub(crate) struct Word {
    pub variants: Vec<Variant>,
}

/// A lookup (by its place in the plan) in some columns.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Variant {
    pub lookup: usize,
    pub columns: ColumnSet,
    /// 1 for what was typed, less for its synonyms.
    pub likeness: f32,
}

/// A word, a phrase or a pattern as it was typed.
#[derive(Debug)]
pub(crate) struct Leaf {
    /// The part of the query that it is.
    pub query: Query,
    pub alternatives: Vec<Alternative>,
    /// The words that it scores by, repeated as typed.
    pub words: Vec<usize>,
    /// How often it was typed where it is wanted.
    pub times: u32,
}

/// One way to match a leaf: these terms next to each other, or in a window, in one of these columns.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Alternative {
    pub columns: ColumnSet,
    /// Lookups by their places in the plan, with their positions counted from the first's.
    pub terms: Vec<(usize, u32)>,
    /// The positions within which they have to stand, in any order; none if they have to follow one another.
    pub window: Option<u32>,
    /// 1 for what was typed, less for its synonyms.
    pub likeness: f32,
}

/// What tells alternatives apart.
pub(crate) type AlternativeKey = (u64, Vec<(usize, u32)>, Option<u32>, u32);

impl Alternative {
    /// What tells it from others.
    pub fn key(&self) -> AlternativeKey {
        (self.columns.0, self.terms.clone(), self.window, self.likeness.to_bits())
    }
}

/// How alike a synonym is to what was typed.
pub const SYNONYM_LIKENESS: f32 = 0.5;

impl Plan {
    /// Binds a query. What can't be bound is taken as plain words and noted.
    ///
    /// # Errors
    /// [`BadRequest`](crate::ErrorKind::BadRequest) if `find` names columns that can't be searched or compared, or a filter
    /// compares a value that is none of its column's kind.
    pub fn new(schema: &Schema, query: &Query, find: &Find) -> Result<Self> {
        super::bind::bind(schema, query, find)
    }

    /// Whether a leaf is one word whose group tells all: each of its alternatives is one term, and all of them score.
    pub fn is_group(&self, leaf: &Leaf) -> Option<usize> {
        let [word] = leaf.words.as_slice() else { return None };
        let alone = leaf.alternatives.iter().all(|alternative| alternative.terms.len() == 1);
        (alone && self.scores_always(leaf)).then_some(*word)
    }

    /// Whether every record that matches a leaf has a term of one of its words, if it is wanted.
    pub fn scores_always(&self, leaf: &Leaf) -> bool {
        leaf.alternatives.iter().all(|alternative| {
            let mut variants = leaf.words.iter().flat_map(|word| &self.words[*word].variants);
            variants.any(|variant| {
                alternative.terms.iter().any(|(lookup, _)| *lookup == variant.lookup)
                    && variant.columns.both(alternative.columns) == alternative.columns
            })
        })
    }
}
