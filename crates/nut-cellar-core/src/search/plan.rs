//! A query bound to a schema: which terms are looked up, which of them make a clause, and which make a word.
//!
//! A *clause* is what a record has to match: a word or a phrase as it was typed. Columns of different languages may
//! read it as different tokens, so it has *alternatives*, each a run of terms in a set of columns. A *word* is what
//! scores: the terms that stand for one typed word, as one group.

use super::find::{Find, Words};
use crate::error::Result;
use crate::query::{Expansions, Query, shared_forms};
use crate::schema::{ColumnSet, Schema};
use crate::text::{Recipe, Recipes};

/// What to look for.
#[derive(Debug, Default)]
pub(crate) struct Plan {
    /// The different terms as typed, each with the class of its forms.
    pub terms: Vec<Lookup>,
    /// The different words, in query order.
    pub words: Vec<Word>,
    /// The different clauses, in query order.
    pub clauses: Vec<Clause>,
    /// How many clauses a record must match.
    pub needed: usize,
    /// What was taken otherwise than it may have been meant.
    pub notes: Vec<String>,
}

/// A term as typed, and what else may stand for it.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Lookup {
    pub term: String,
    pub class: Option<Class>,
}

/// The class of a term's forms.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Class {
    /// What the shelves call it.
    pub name: String,
    /// The term that is its own key, if there is one: the shelves do not list it.
    pub own: Option<String>,
}

impl Lookup {
    fn new(recipe: &Recipe, term: &str, exact: bool) -> Self {
        let key = recipe.key_of(term).filter(|_| !exact);
        let class = key.map(|key| {
            let own = recipe.key_of(&key).is_some_and(|its_key| its_key == key);
            Class { name: recipe.class(&key), own: own.then_some(key) }
        });
        Self { term: term.to_owned(), class }
    }
}

/// The terms that stand for one typed word.
#[derive(Debug, PartialEq)]
pub(crate) struct Word {
    pub variants: Vec<Variant>,
}

/// A term (by its place in the plan) in some columns.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Variant {
    pub term: usize,
    pub columns: ColumnSet,
    /// 1 for what was typed, less for its synonyms.
    pub likeness: f32,
}

/// A word or a phrase as it was typed.
#[derive(Debug)]
pub(crate) struct Clause {
    pub alternatives: Vec<Alternative>,
    /// The words that it scores by, repeated as typed.
    pub words: Vec<usize>,
    /// How often it was typed.
    pub times: u32,
    /// The text, where it is made of stop words alone.
    weak: Option<String>,
}

/// One way to match a clause: these terms next to each other in one of these columns.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Alternative {
    pub columns: ColumnSet,
    /// Terms by their places in the plan, with their positions counted from the first's.
    pub terms: Vec<(usize, u32)>,
    /// 1 for what was typed, less for its synonyms.
    pub likeness: f32,
}

/// How alike a synonym is to what was typed.
pub const SYNONYM_LIKENESS: f32 = 0.5;

impl Plan {
    /// Binds a query. What can't be bound is taken as plain words and noted.
    ///
    /// # Errors
    /// [`BadRequest`](crate::ErrorKind::BadRequest) if `find` names columns that can't be searched.
    pub fn new(schema: &Schema, query: &Query, find: &Find) -> Result<Self> {
        let searched = find.searched(schema)?;
        let recipes = schema.text_columns().map(|(_, column)| Recipes::of(column.text_settings())).collect();
        let exact = find.wants_exact_forms();
        let mut binder =
            Binder { schema, recipes, exact, expansions: find.expansions(), plan: Self::default() };
        binder.bind(query, searched);
        let mut plan = binder.plan;
        plan.leave_out_weak();
        if plan.clauses.is_empty() {
            plan.notes.push("The query has no word to look for, so nothing is found.".to_owned());
        }
        plan.needed = match find.wanted_words() {
            Words::All => plan.clauses.len(),
            Words::Any => 1,
            Words::AtLeast(count) => count.clamp(1, plan.clauses.len().max(1)),
        };
        Ok(plan)
    }

    /// Leaves out what is made of stop words alone, where there is something else.
    fn leave_out_weak(&mut self) {
        if self.clauses.iter().all(|clause| clause.weak.is_some()) {
            return;
        }
        let left_out: Vec<_> = self.clauses.iter().filter_map(|clause| clause.weak.clone()).collect();
        if !left_out.is_empty() {
            self.clauses.retain(|clause| clause.weak.is_none());
            self.notes.push(format!("Left out, since they say little: {}.", left_out.join(", ")));
        }
    }

    /// Reads a text by a recipe, and notes its terms.
    fn read(&mut self, recipe: &Recipe, text: &str, exact: bool) -> Typed {
        let mut typed = Typed { tokens: Vec::new(), weak: true };
        recipe.tokens(text, |token| {
            typed.weak &= token.weak || token.span > 1;
            let term = self.term(&Lookup::new(recipe, token.term, exact));
            typed.tokens.push((term, token.position, token.span));
        });
        typed
    }

    fn term(&mut self, lookup: &Lookup) -> usize {
        place_of(&mut self.terms, |known| known == lookup, || lookup.clone())
    }
}

struct Binder<'a> {
    schema: &'a Schema,
    /// For each text column.
    recipes: Vec<Recipes>,
    /// Whether only the forms as typed are wanted.
    exact: bool,
    expansions: Option<&'a Expansions>,
    plan: Plan,
}

impl Binder<'_> {
    fn bind(&mut self, query: &Query, columns: ColumnSet) {
        match query {
            Query::All(parts) => {
                for (place, part) in parts.iter().enumerate() {
                    match part {
                        Query::Word(text) => self.clause(text, &self.runs(parts, place), columns),
                        part => self.bind(part, columns),
                    }
                }
            }
            Query::Word(text) | Query::Phrase(text) => self.clause(text, &Runs::default(), columns),
            Query::Within(names, part) => {
                let known = self.known(names);
                if known.is_empty() {
                    for name in names {
                        self.clause(name, &Runs::default(), columns);
                    }
                    self.bind(part, columns);
                } else {
                    self.bind(part, known);
                }
            }
        }
    }

    /// The runs of words typed one after the other that the word at a place is in, as far as runs so long may stand for
    /// something else.
    fn runs(&self, parts: &[Query], place: usize) -> Runs {
        let word = |part: &Query| if let Query::Word(text) = part { Some(text.clone()) } else { None };
        let longest = self.expansions.map_or(0, Expansions::longest);
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

    /// Those of the names that are text columns; the others are noted.
    fn known(&mut self, names: &[String]) -> ColumnSet {
        let mut known = ColumnSet::default();
        let mut others = Vec::new();
        for name in names {
            match self.schema.text_column(name) {
                Some(place) => known = known.with(place),
                None => others.push(name),
            }
        }
        for name in others {
            let what = match self.schema.column(name) {
                Some(column) => format!("column `{name}` is of kind \"{}\" and has no words", column.kind()),
                None => format!("there is no column `{name}`"),
            };
            let taken = if known.is_empty() { "it was taken as a word" } else { "it was left out" };
            self.plan.notes.push(format!("In front of the colon: {what}; {taken}."));
        }
        known
    }

    /// Adds a clause for a text, which may also stand for what the `runs` that it is in stand for.
    fn clause(&mut self, text: &str, runs: &Runs, columns: ColumnSet) {
        let (alternatives, scoring, weak) = self.alternatives(text, runs, columns);
        if alternatives.is_empty() {
            self.plan.notes.push(format!("`{text}` has no letter or digit; it was left out."));
            return;
        }
        if let Some(known) = self.plan.clauses.iter_mut().find(|clause| clause.alternatives == alternatives) {
            known.times += 1;
            return;
        }
        // A synonym of more words than were typed counts by as many of them, so that it never outweighs them.
        let typed = alternatives.iter().filter(|alternative| alternative.likeness >= 1.0);
        let longest = typed.map(|alternative| alternative.terms.len()).max().unwrap_or(0);
        let words = (0..longest).map(|place| self.word(&alternatives[..scoring], place)).collect();
        self.plan.clauses.push(Clause { alternatives, words, times: 1, weak: weak.then(|| text.to_owned()) });
    }

    /// How the columns read the text: one alternative for each different run of terms, in schema order, in each column
    /// by its languages in order, and in each language the parts of compounds before the wholes. Also tells how many of
    /// them, from the first, score, and whether every column takes the text for weak.
    fn alternatives(
        &mut self,
        text: &str,
        runs: &Runs,
        columns: ColumnSet,
    ) -> (Vec<Alternative>, usize, bool) {
        let mut alternatives: Vec<Alternative> = Vec::new();
        let mut all_weak = true;
        let (plan, exact) = (&mut self.plan, self.exact);
        let (mut scoring, mut matching) = (Vec::new(), Vec::new());
        for column in columns.iter() {
            for (place, recipe) in self.recipes[column].all().enumerate() {
                let typed = plan.read(recipe, text, exact);
                all_weak &= typed.weak;
                typed.add(&mut alternatives, column, 1.0);
                let Some(expansions) = self.expansions else { continue };
                let mut expand = |text: &str, synonyms: &mut Vec<_>| {
                    for synonym in expansions.of(column, place, &shared_forms(recipe, text)) {
                        synonyms.push((column, plan.read(recipe, synonym, exact)));
                    }
                };
                expand(text, &mut scoring);
                runs.begun.iter().for_each(|run| expand(run, &mut scoring));
                runs.gone_on.iter().for_each(|run| expand(run, &mut matching));
            }
        }
        // What was typed comes first, in whatever column, and what scores before what does not.
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

    /// The word at a place of a clause: what each alternative has there, as one group.
    fn word(&mut self, alternatives: &[Alternative], place: usize) -> usize {
        let mut variants: Vec<Variant> = Vec::new();
        for alternative in alternatives {
            let Some(&(term, _)) = alternative.terms.get(place) else { continue };
            let likeness = alternative.likeness;
            let same = place_of(
                &mut variants,
                |known| known.term == term,
                || Variant { term, columns: ColumnSet::default(), likeness },
            );
            variants[same].columns = variants[same].columns.or(alternative.columns);
        }
        let word = Word { variants };
        let known = self.plan.words.iter().position(|known| *known == word);
        known.unwrap_or_else(|| {
            self.plan.words.push(word);
            self.plan.words.len() - 1
        })
    }
}

/// Runs of words typed one after the other, around one of them. What stands for a run stands for each of its words, so
/// that a record with it matches; it scores once, by the first.
#[derive(Default)]
struct Runs {
    /// Those that begin with the word.
    begun: Vec<String>,
    /// The others.
    gone_on: Vec<String>,
}

/// How one recipe reads a text.
struct Typed {
    /// Terms by their places in the plan, positions, and how many of them each spans.
    tokens: Vec<(usize, u32, u32)>,
    /// Whether there are stop words only.
    weak: bool,
}

impl Typed {
    /// Adds the runs of terms that the text may stand for in a column: its parts, and its compounds as wholes.
    fn add(&self, alternatives: &mut Vec<Alternative>, column: usize, likeness: f32) {
        let parts = self.tokens.iter().filter(|(_, _, span)| *span == 1).map(|&(term, at, _)| (term, at));
        for terms in [parts.collect(), wholes(&self.tokens)] {
            if terms.is_empty() {
                continue;
            }
            let same = place_of(
                alternatives,
                |known| known.terms == terms,
                || Alternative { columns: ColumnSet::default(), terms: terms.clone(), likeness },
            );
            alternatives[same].columns = alternatives[same].columns.with(column);
        }
    }
}

/// The tokens of a text with compounds as wholes, each at a position of its own.
fn wholes(typed: &[(usize, u32, u32)]) -> Vec<(usize, u32)> {
    let mut terms = Vec::new();
    let mut next = 0;
    for &(term, position, span) in typed {
        // The widest whole at a position comes first; what it spans is skipped.
        if position >= next {
            terms.push((term, u32::try_from(terms.len()).unwrap_or(u32::MAX)));
            next = position + span;
        }
    }
    terms
}

/// The place of the first item that is `same`, made if there is none.
fn place_of<T>(items: &mut Vec<T>, same: impl FnMut(&T) -> bool, make: impl FnOnce() -> T) -> usize {
    items.iter().position(same).unwrap_or_else(|| {
        items.push(make());
        items.len() - 1
    })
}
