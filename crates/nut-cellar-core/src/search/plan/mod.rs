//! A query bound to a schema: what is looked up, what a record has to match, and what scores.
//!
//! A *leaf* is a word, a phrase or a pattern as it was typed. Columns of different languages may read it as different
//! tokens, so it has *alternatives*, each a run of terms in a set of columns. The *node* over the leaves says which of them
//! a record has to match. A *word* is what scores: the terms that stand for one typed word, as one group. A leaf that a
//! record matches scores, wherever it stands, unless it stands for what is not wanted.

mod bind;
mod budget;
mod costs;
pub(in crate::search) mod expand;
mod leaves;
mod limits;
mod nodes;
pub(in crate::search) mod prepared;
pub(in crate::search) mod read;
pub(in crate::search) mod strategy;

use super::find::Find;
use crate::error::Result;
use crate::filter::Bound;
use crate::note::Note;
use crate::query::Query;
use crate::rank::Formula;
use crate::schema::{ColumnSet, Schema};
use crate::text::{Pattern, Spelling};
use expand::{Family, WordTerm};
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
    /// Whether it does not count how near words stand, because they are too common.
    pub is_proximity_left_out: bool,
    /// What was taken otherwise than it may have been meant.
    pub notes: Vec<Note>,
    /// For each stemming, by its name, the columns that have terms of it.
    pub stemmings: Vec<(String, ColumnSet)>,
}

/// What a record has to match.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
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

impl Node {
    /// Gives `take` each leaf, as often as it stands there.
    pub fn each_leaf(&self, take: &mut dyn FnMut(usize)) {
        match self {
            Self::Nothing | Self::Test(_) => {}
            Self::Leaf(leaf) => take(*leaf),
            Self::All(parts) | Self::Any(parts) | Self::AtLeast(_, parts) => {
                for part in parts {
                    part.each_leaf(take);
                }
            }
            Self::Not(part) => part.each_leaf(take),
        }
    }
}

/// What is looked up in the dictionaries: a term as typed, its forms, and what looks like it.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct Lookup {
    /// A term as typed, and the name of the stemming by which it was read.
    pub term: Option<String>,
    pub stemming: String,
    /// The key of its class, if all of its forms are looked for.
    pub class: Option<String>,
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

/// The terms that stand for one typed word.
#[derive(Debug, PartialEq)]
pub(crate) struct Word {
    pub variants: Vec<Variant>,
}

/// A lookup (by its place in the plan) in some columns; in none, if it tells only how common the word is.
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
    /// How often it was typed where it is wanted; 0 if it does not score.
    pub times: u32,
    /// Whether its terms need not stand next to each other, or near.
    pub loose: bool,
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
/// How alike all parts of a compound are to it.
pub const PARTS_LIKENESS: f32 = 0.5;

impl Plan {
    /// Binds a query. What can't be bound is taken as plain words and noted.
    ///
    /// # Errors
    /// [`BadRequest`](crate::ErrorKind::BadRequest) if `find` names columns that can't be searched or compared, or a filter
    /// compares a value that is none of its column's kind.
    pub fn new(schema: &Schema, query: &Query, find: &Find) -> Result<Self> {
        bind::bind(schema, query, find)
    }

    /// The columns that have terms of a stemming.
    pub fn columns_of(&self, stemming: &str) -> ColumnSet {
        let known = self.stemmings.iter().find(|(name, _)| name == stemming);
        known.map_or_else(ColumnSet::default, |(_, columns)| *columns)
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

/// What makes numbers of words.
pub(in crate::search) struct Ranking<'a> {
    pub formula: &'a Formula,
    /// For each word of the plan.
    pub idf: &'a [f32],
    /// For each word of the plan its terms, each once, in the order in which they add up.
    pub parts: &'a [Vec<WordTerm>],
    pub families: &'a [Family],
    /// The place of the shelf in the snapshot.
    pub shelf: usize,
    /// What nearness of words weighs.
    pub proximity: f32,
}

impl Ranking<'_> {
    /// Whether an alternative is one term that stands for more than score.
    pub fn is_cut(&self, alternative: &Alternative) -> bool {
        matches!(alternative.terms.as_slice(), [(lookup, _)] if self.families[*lookup].cut)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::filter::Filter;
    use crate::schema::{Column, Kind};
    use crate::search::Words;

    fn schema() -> Schema {
        Schema::new("id")
            .with("title", Column::text("en"))
            .with("notes", Column::text("none"))
            .with("value", Column::of(Kind::Integer))
    }

    fn plan(query: &str, find: &Find) -> Plan {
        Plan::new(&schema(), &Query::read(query).query, find).unwrap()
    }

    /// What has to match, with the leaves as they would be typed.
    fn shown(plan: &Plan, node: &Node) -> String {
        let several = |parts: &[Node], between: &str| {
            let parts: Vec<_> = parts.iter().map(|part| shown(plan, part)).collect();
            format!("({})", parts.join(between))
        };
        match node {
            Node::Nothing => "nothing".to_owned(),
            Node::Leaf(leaf) => plan.leaves[*leaf].query.to_string(),
            Node::Test(test) => format!("test {test}"),
            Node::All(parts) => several(parts, " & "),
            Node::Any(parts) => several(parts, " | "),
            Node::AtLeast(count, parts) => format!("{count} of {}", several(parts, ", ")),
            Node::Not(part) => format!("!{}", shown(plan, part)),
        }
    }

    #[test]
    fn what_has_to_match() {
        let (all, any) = (Find::new(), Find::new().words(Words::Any));
        let two = Find::new().words(Words::AtLeast(2));
        let share = Find::new().words(Words::Share(0.6));
        let only = Find::new().only(Filter::below("value", "5"));
        for (query, find, expected) in [
            ("oak box", &all, "(oak & box)"),
            ("oak box oak", &all, "(oak & box)"),
            ("oak box", &any, "(oak | box)"),
            ("+oak box", &any, "oak"),
            ("+oak box -elm", &any, "(oak & !elm)"),
            ("oak box -elm", &any, "(!elm & (oak | box))"),
            ("oak box elm", &two, "2 of (oak, box, elm)"),
            ("+oak box elm", &two, "(oak & 2 of (oak, box, elm))"),
            ("oak", &two, "oak"),
            ("oak box elm ash elm", &share, "3 of (oak, box, elm, ash)"),
            ("oak (box elm)", &two, "(oak & box & elm)"),
            ("oak (box elm) ash", &two, "2 of (oak, (box & elm), ash)"),
            ("(oak box) OR elm", &two, "((oak & box) | elm)"),
            ("(oak box)", &two, "(oak & box)"),
            ("oak AND box elm", &any, "((oak & box) | elm)"),
            ("-oak", &all, "!oak"),
            ("oak value:>3", &all, "(oak & test 0)"),
            ("oak", &only, "(oak & test 0)"),
            ("oak value:<5", &only, "(oak & test 0 & test 1)"),
            ("oak value:<7", &only, "(oak & test 0 & test 1)"),
            ("value:5 OR oak OR value:7", &all, "(test 0 | oak | test 1)"),
            ("oak -value:5 -value:7", &all, "(!test 0 & !test 1 & oak)"),
            ("oak value:5 value:5", &all, "(oak & test 0)"),
            ("", &only, "nothing"),
            ("title,value:5", &all, "(test 0 | \"5\")"),
        ] {
            let plan = plan(query, find);
            assert_eq!(shown(&plan, &plan.root).replace('"', ""), expected.replace('"', ""), "{query}");
        }
    }

    #[test]
    fn a_query_may_have_so_many_phrases_and_values() {
        let all = Find::new();
        let phrases = (0..19).map(|number| format!("\"oak w{number}\"")).collect::<Vec<_>>().join(" OR ");
        let plan_of = plan(&phrases, &Find::new().columns(["notes"]));
        let rows =
            plan_of.leaves.iter().filter(|leaf| leaf.alternatives.iter().any(|one| one.terms.len() > 1));
        assert_eq!(rows.count(), 16);
        let shown = shown(&plan_of, &plan_of.root).replace('"', "");
        assert!(shown.ends_with(" | oak w15 | (oak & w16) | (oak & w17) | (oak & w18))"), "{shown}");
        assert_eq!(plan_of.notes, [Note::TooManyPhrases { most: 16, loosened: 3 }]);

        let values = (0..20).map(|number| format!("value:{number}")).collect::<Vec<_>>();
        let plan_of = plan(&format!("oak {}", values.join(" ")), &all);
        assert_eq!(plan_of.tests.len(), 16);
        assert_eq!(plan_of.notes, [Note::TooManyValues { most: 16, left_out: 4 }]);
        let plan_of = plan(&format!("oak -{}", values[..16].join(" -")), &all);
        assert_eq!((plan_of.tests.len(), plan_of.notes.len()), (16, 0));
        // A filter may ask for as many as it likes.
        let each = (0..40).map(|number| Filter::at_most("value", number).not());
        let plan_of = plan("oak", &Find::new().only(each.reduce(Filter::and).unwrap()));
        assert_eq!((plan_of.tests.len(), plan_of.notes.len()), (40, 0));
    }

    #[test]
    fn what_is_typed_again_counts_again_and_what_is_not_wanted_does_not() {
        let times =
            |query: &str| plan(query, &Find::new()).leaves.iter().map(|leaf| leaf.times).collect::<Vec<_>>();
        assert_eq!(times("oak box OAK"), [2, 1]);
        assert_eq!(times("oak -oak"), [1]);
        assert_eq!(times("oak -(box -elm)"), [1, 0, 0]);
        assert_eq!(times("title:oak notes:oak"), [1, 1]);
    }

    #[test]
    fn a_leaf_of_single_terms_is_a_group() {
        let plan = plan("oak \"oak box\" wi-fi", &Find::new());
        let groups: Vec<_> = plan.leaves.iter().map(|leaf| plan.is_group(leaf).is_some()).collect();
        assert_eq!(groups, [true, false, false]);
        assert!(plan.leaves.iter().all(|leaf| plan.scores_always(leaf)));
    }
}
