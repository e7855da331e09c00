//! The leaves of a plan: how the columns read a word, a phrase or a pattern, and what else stands for it.
//!
//! What always holds: no two leaves have the same alternatives, and what is beyond a limit is left out and counted.

use super::limits::{Beyond, MOST_LEAVES, MOST_ROWS, MOST_WIDE_WALKS};
use super::nodes::{all, any};
use super::read::{Spelled, Typed, add_run, folded, is_wide, lookup, place_of, place_of_lookup, read};
use super::{Alternative, AlternativeKey, Leaf, Like, Lookup, Node, Plan, SYNONYM_LIKENESS, Variant, Word};
use crate::note::Note;
use crate::query::{Expansions, Query, shared_forms};
use crate::schema::{ColumnSet, Schema};
use crate::search::find::Find;
use crate::text::{Pattern, Recipe, Recipes};
use std::collections::HashMap;

/// A part that was bound.
pub(super) struct BoundPart {
    pub node: Node,
    /// The text, where it is made of stop words alone.
    pub weak: Option<String>,
}

impl BoundPart {
    pub fn nothing() -> Self {
        Self { node: Node::Nothing, weak: None }
    }

    pub fn of(node: Node) -> Self {
        Self { node, weak: None }
    }

    fn weak_if(self, weak: bool, text: &str) -> Self {
        Self { weak: weak.then(|| text.to_owned()), ..self }
    }
}

/// Runs of words typed one after the other, around one of them. What stands for a run stands for each of its words, so
/// that a record with it matches; it scores once, by the first.
#[derive(Default)]
pub(super) struct Runs {
    /// Those that begin with the word.
    begun: Vec<String>,
    /// The others.
    gone_on: Vec<String>,
}

/// A plan whose leaves are gathered.
pub(super) struct Leaves<'a> {
    pub find: &'a Find,
    /// The different recipes, and for each text column which of them are its own.
    recipes: Vec<Recipes>,
    recipes_of: Vec<usize>,
    pub plan: Plan,
    /// The leaves by their alternatives.
    known: HashMap<Vec<AlternativeKey>, usize>,
    /// For each lookup the words of which it is the first, by their places in the plan.
    words_of: HashMap<usize, Vec<usize>>,
    /// How many leaves there are for which it matters where words stand.
    rows: usize,
    pub beyond: Beyond,
}

impl<'a> Leaves<'a> {
    pub fn new(schema: &Schema, find: &'a Find) -> Self {
        let (recipes, recipes_of) = recipes(schema);
        let (known, words_of) = (HashMap::new(), HashMap::new());
        let mut plan = Plan::default();
        for (column, own) in recipes_of.iter().enumerate() {
            for name in recipes[*own].all().map(Recipe::stemming_name) {
                let fresh = || (name.to_owned(), ColumnSet::default());
                let place = place_of(&mut plan.stemmings, |(known, _)| known == name, fresh);
                plan.stemmings[place].1 = plan.stemmings[place].1.with(column);
            }
        }
        Self { find, recipes, recipes_of, plan, known, words_of, rows: 0, beyond: Beyond::default() }
    }

    /// Takes back what a weak word would have scored.
    pub fn forget(&mut self, node: &Node) {
        if let Node::Leaf(leaf) = node {
            let leaf = &mut self.plan.leaves[*leaf];
            leaf.times = leaf.times.saturating_sub(1);
        }
    }

    /// The runs of words typed one after the other that the word at a place is in, as far as runs so long may stand for
    /// something else.
    pub fn runs(&self, parts: &[Query], place: usize) -> Runs {
        let word = |part: &Query| if let Query::Word(text) = part { Some(text.clone()) } else { None };
        let longest = self.find.expansions.as_deref().map_or(0, Expansions::longest);
        let mut runs = Runs::default();
        for length in 2..=longest {
            for start in (place + 1).saturating_sub(length)..=place {
                let run = parts.get(start..start + length).unwrap_or_default().iter().map(word);
                let Some(run) = run.collect::<Option<Vec<_>>>().filter(|run| !run.is_empty()) else {
                    continue;
                };
                let kind = if start == place { &mut runs.begun } else { &mut runs.gone_on };
                kind.push(run.join(" "));
            }
        }
        runs
    }

    /// A leaf for a text, which may also stand for what the `runs` that it is in stand for.
    pub fn leaf(
        &mut self,
        text: &str,
        runs: &Runs,
        columns: ColumnSet,
        reading: Spelled,
        positive: bool,
    ) -> BoundPart {
        let (alternatives, scoring, weak) = self.alternatives(text, runs, columns, reading);
        let query = if reading == Spelled::Near { Query::near(text) } else { Query::word(text) };
        self.add(query, alternatives, scoring, positive).weak_if(weak, text)
    }

    /// A leaf for words that have to stand in a row, or in a window of so many positions.
    pub fn row(&mut self, text: &str, window: Option<u32>, columns: ColumnSet, positive: bool) -> BoundPart {
        let (mut alternatives, scoring, weak) =
            self.alternatives(text, &Runs::default(), columns, Spelled::Plain);
        for alternative in &mut alternatives {
            alternative.window = window.filter(|_| alternative.terms.len() > 1);
        }
        let query = match window {
            Some(positions) => Query::window(text, positions),
            None => Query::phrase(text),
        };
        self.add(query, alternatives, scoring, positive).weak_if(weak, text)
    }

    /// A leaf for a pattern.
    pub fn pattern(&mut self, text: &str, columns: ColumnSet, positive: bool) -> BoundPart {
        let (alternatives, problem) = self.pattern_alternatives(text, columns);
        self.plan.notes.extend(problem);
        let scoring = alternatives.len();
        self.add(Query::pattern(text), alternatives, scoring, positive)
    }

    /// How the columns read a pattern; or what is wrong with it. However many ways they read it, it counts as one that
    /// nothing leads to.
    fn pattern_alternatives(&mut self, text: &str, columns: ColumnSet) -> (Vec<Alternative>, Option<Note>) {
        let mut lookups: Vec<(usize, Lookup)> = Vec::new();
        for column in columns.iter() {
            for recipe in self.recipes[self.recipes_of[column]].all() {
                let pattern = match Pattern::new(&folded(recipe, text)) {
                    Ok(pattern) => pattern,
                    Err(error) => {
                        let note = Note::NotAPattern { pattern: text.to_owned(), problem: error.to_string() };
                        return (Vec::new(), Some(note));
                    }
                };
                if pattern.letters() == 0 {
                    return (Vec::new(), Some(Note::NoLetter { text: text.to_owned() }));
                }
                let like = vec![Like::Pattern(pattern)];
                lookups.push((column, Lookup { term: None, stemming: String::new(), class: None, like }));
            }
        }
        let fresh = |lookup: &Lookup| !self.plan.known_lookups.contains_key(lookup);
        let wide = lookups.iter().any(|(_, lookup)| lookup.like.iter().any(is_wide) && fresh(lookup));
        if wide && self.plan.wide_walks == MOST_WIDE_WALKS {
            self.beyond.walks += 1;
            return (Vec::new(), None);
        }
        self.plan.wide_walks += usize::from(wide);
        let mut alternatives: Vec<Alternative> = Vec::new();
        for (column, lookup) in lookups {
            let Some(lookup) = place_of_lookup(&mut self.plan, &lookup) else {
                self.beyond.walks += 1;
                return (Vec::new(), None);
            };
            add_run(&mut alternatives, &[(lookup, 0)], column, 1.0);
        }
        (alternatives, None)
    }

    /// Adds a leaf, of whose alternatives the first `scoring` score, unless it is there already.
    fn add(
        &mut self,
        query: Query,
        alternatives: Vec<Alternative>,
        scoring: usize,
        positive: bool,
    ) -> BoundPart {
        if alternatives.is_empty() {
            let (Query::Word(text) | Query::Phrase(text) | Query::Window(text, _) | Query::Near(text)) =
                &query
            else {
                return BoundPart::nothing();
            };
            if !text.contains(char::is_alphanumeric) {
                self.plan.notes.push(Note::NoLetter { text: text.clone() });
            }
            return BoundPart::nothing();
        }
        let times = u32::from(positive);
        let key: Vec<_> = alternatives.iter().map(Alternative::key).collect();
        if let Some(&known) = self.known.get(&key) {
            self.plan.leaves[known].times += times;
            return BoundPart::of(Node::Leaf(known));
        }
        if alternatives.iter().any(|alternative| alternative.terms.len() > 1) {
            if self.rows == MOST_ROWS {
                self.beyond.rows += 1;
                return self.anywhere(&query, &alternatives, positive);
            }
            self.rows += 1;
        }
        if self.plan.leaves.len() == MOST_LEAVES {
            self.beyond.leaves += 1;
            return BoundPart::nothing();
        }
        // A synonym of more words than were typed counts by as many of them, so that it never outweighs them.
        let typed = alternatives.iter().filter(|alternative| alternative.likeness >= 1.0);
        let longest = typed.map(|alternative| alternative.terms.len()).max().unwrap_or(0);
        let words = (0..longest).map(|place| self.word_at(&alternatives[..scoring], place)).collect();
        self.known.insert(key, self.plan.leaves.len());
        self.plan.leaves.push(Leaf { query, alternatives, words, times, loose: false });
        BoundPart::of(Node::Leaf(self.plan.leaves.len() - 1))
    }

    /// All terms of one of the alternatives, wherever they stand, each as a word of its own.
    fn anywhere(&mut self, query: &Query, alternatives: &[Alternative], positive: bool) -> BoundPart {
        let mut ways = Vec::with_capacity(alternatives.len());
        for alternative in alternatives {
            let mut words = Vec::with_capacity(alternative.terms.len());
            for &(lookup, _) in &alternative.terms {
                let term = self.plan.lookups[lookup].term.clone();
                let query = term.map_or_else(|| query.clone(), Query::word);
                let alone = Alternative { terms: vec![(lookup, 0)], window: None, ..alternative.clone() };
                words.push(self.add(query, vec![alone], 1, positive).node);
            }
            ways.push(all(words.into_iter().filter(|word| *word != Node::Nothing)));
        }
        BoundPart::of(any(ways.into_iter().filter(|way| *way != Node::Nothing)))
    }

    /// How the columns read the text: one alternative for each different run of terms, in schema order, in each column
    /// by its languages in order, and in each language words before wholes; then those with parts of compounds. Also tells how many of
    /// them, from the first, score, and whether every column takes the text for weak.
    fn alternatives(
        &mut self,
        text: &str,
        runs: &Runs,
        columns: ColumnSet,
        reading: Spelled,
    ) -> (Vec<Alternative>, usize, bool) {
        let mut alternatives: Vec<Alternative> = Vec::new();
        let mut all_weak = true;
        let (mut scoring, mut matching) = (Vec::new(), Vec::new());
        let Self { plan, find, recipes, recipes_of, beyond, .. } = self;
        let mut known: Vec<(usize, usize, Typed)> = Vec::new();
        let mut in_columns = Vec::new();
        for column in columns.iter() {
            let own = recipes_of[column];
            for (place, recipe) in recipes[own].all().enumerate() {
                let mut read =
                    |text: &str, reading| read(plan, recipe, text, find, reading, &mut beyond.walks);
                let same = known.iter().position(|(of, at, _)| (*of, *at) == (own, place));
                let same = same.unwrap_or_else(|| {
                    known.push((own, place, read(text, reading)));
                    known.len() - 1
                });
                let typed = &known[same].2;
                all_weak &= typed.weak;
                typed.add(&mut alternatives, column, 1.0);
                in_columns.push((column, same));
                let Some(expansions) = &find.expansions else { continue };
                let mut expand = |text: &str, synonyms: &mut Vec<_>| {
                    for synonym in expansions.of(column, place, &shared_forms(recipe, text)) {
                        synonyms.push((column, read(synonym, Spelled::Plain)));
                    }
                };
                expand(text, &mut scoring);
                runs.begun.iter().for_each(|run| expand(run, &mut scoring));
                runs.gone_on.iter().for_each(|run| expand(run, &mut matching));
            }
        }
        // What was typed comes first, in whatever column, and what scores before what does not.
        for (column, typed) in in_columns {
            known[typed].2.add_parts(&mut alternatives, column);
        }
        let mut add = |synonyms: Vec<(usize, Typed)>| {
            for (column, synonym) in synonyms {
                synonym.add(&mut alternatives, column, SYNONYM_LIKENESS);
            }
            alternatives.len()
        };
        let scoring = add(scoring);
        add(matching);
        (alternatives, scoring, all_weak)
    }

    /// The word at a place of a leaf: what each alternative has there, as one group.
    fn word_at(&mut self, alternatives: &[Alternative], place: usize) -> usize {
        let mut variants: Vec<Variant> = Vec::new();
        for alternative in alternatives {
            let Some(&(lookup, _)) = alternative.terms.get(place) else { continue };
            let likeness = alternative.likeness;
            let same = place_of(
                &mut variants,
                |known| known.lookup == lookup,
                || Variant { lookup, columns: ColumnSet::default(), likeness },
            );
            variants[same].columns = variants[same].columns.or(alternative.columns);
        }
        self.add_elsewhere(&mut variants);
        let word = Word { variants };
        let first = word.variants.first().map_or(0, |variant| variant.lookup);
        let alike = self.words_of.entry(first).or_default();
        let known = alike.iter().copied().find(|known| self.plan.words[*known] == word);
        known.unwrap_or_else(|| {
            alike.push(self.plan.words.len());
            self.plan.words.push(word);
            self.plan.words.len() - 1
        })
    }

    /// Adds how columns in which a word is not searched read it, if as one term: how common a word is is told by all columns.
    fn add_elsewhere(&mut self, variants: &mut Vec<Variant>) {
        let searched = variants.iter().fold(ColumnSet::default(), |all, variant| all.or(variant.columns));
        let typed = variants.iter().filter(|variant| variant.likeness >= 1.0);
        let terms: Vec<String> = typed.filter_map(|one| self.plan.lookups[one.lookup].term.clone()).collect();
        let elsewhere = (0..self.recipes_of.len()).filter(|column| !searched.has(*column));
        let mut recipes: Vec<usize> = elsewhere.map(|column| self.recipes_of[column]).collect();
        recipes.sort_unstable();
        recipes.dedup();
        for recipe in recipes.into_iter().flat_map(|own| self.recipes[own].all()) {
            for term in &terms {
                let mut tokens = Vec::new();
                recipe.tokens(term, |token| tokens.push(token.term.to_owned()));
                let [token] = &tokens[..] else { continue };
                let lookup = lookup(recipe, token, self.find.exact_forms);
                let lookup = place_of_lookup(&mut self.plan, &lookup);
                if let Some(lookup) =
                    lookup.filter(|lookup| variants.iter().all(|known| known.lookup != *lookup))
                {
                    variants.push(Variant { lookup, columns: ColumnSet::default(), likeness: 1.0 });
                }
            }
        }
    }
}

/// The different recipes of the text columns, and for each column which of them are its own. Many columns are read alike.
fn recipes(schema: &Schema) -> (Vec<Recipes>, Vec<usize>) {
    let (mut settings, mut recipes, mut recipes_of) = (Vec::new(), Vec::new(), Vec::new());
    for (_, column) in schema.text_columns() {
        let own = column.text_settings();
        let known = settings.iter().position(|known| *known == own);
        recipes_of.push(known.unwrap_or(settings.len()));
        if known.is_none() {
            settings.push(own);
            recipes.push(Recipes::of(own));
        }
    }
    (recipes, recipes_of)
}
