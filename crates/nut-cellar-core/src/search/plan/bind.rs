//! Binding a query to a schema. It never fails for what a person typed: what can't be bound is taken as plain words, and
//! noted.

use super::limits::{Beyond, DEEPEST, MOST_LEAVES, MOST_ROWS, MOST_VALUES, MOST_WIDE_WALKS};
use super::nodes::{Once, all, any, at_least, share_of};
use super::read::{Reading, Typed, add_run, folded, is_wide, place_of, place_of_lookup, read};
use super::{Alternative, AlternativeKey, Leaf, Like, Lookup, Node, Plan, SYNONYM_LIKENESS, Variant, Word};
use crate::error::{Error, ErrorKind, Result};
use crate::filter::{self, Bound, Test, bind_test, reads_as_value};
use crate::note::Note;
use crate::query::{Expansions, Query, shared_forms};
use crate::schema::{Column, ColumnSet, Kind, Schema};
use crate::search::find::Find;
use crate::search::settings::Words;
use crate::text::{Pattern, Recipes};
use std::collections::HashMap;
use std::ops::Bound as Edge;

/// Binds a query.
pub(super) fn bind(schema: &Schema, query: &Query, find: &Find) -> Result<Plan> {
    if query.is_deeper_than(DEEPEST) {
        let message =
            format!("The query is nested more than {DEEPEST} deep; say it with less inside one another.");
        return Err(Error::new(ErrorKind::BadRequest, message));
    }
    let scope = Scope { text: find.searched(schema)?, values: Vec::new() };
    let (recipes, recipes_of) = recipes(schema);
    let filter = find.filter().map(|filter| filter::bind(schema, filter)).transpose()?;
    let mut binder = Binder {
        schema,
        recipes,
        recipes_of,
        find,
        plan: Plan::default(),
        known_leaves: HashMap::new(),
        words_of: HashMap::new(),
        known_values: Vec::new(),
        rows: 0,
        values: 0,
        beyond: Beyond::default(),
    };
    let part = binder.bind(query, &scope, Wanted { positive: true, outermost: true });
    let Binder { mut plan, beyond, .. } = binder;
    plan.root = part.node;
    if plan.root == Node::Nothing {
        plan.notes.push(Note::NothingToFind);
    } else if only_excludes(query) {
        plan.notes.push(Note::OnlyExcludes);
    }
    plan.notes.extend(beyond.notes());
    if let (Some(filter), true) = (filter, plan.root != Node::Nothing) {
        let filter = node_of(&mut plan, filter);
        let root = std::mem::take(&mut plan.root);
        plan.root = all([root, filter]);
    }
    Ok(plan)
}

fn not_a_value(column: &str, text: &str, problem: String) -> Note {
    Note::NotAValue { column: column.to_owned(), text: text.to_owned(), problem }
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

/// Whether a query says only what is not wanted.
fn only_excludes(query: &Query) -> bool {
    match query {
        Query::Without(_) => true,
        Query::Words(parts) | Query::All(parts) => parts.iter().all(only_excludes),
        Query::In(_, part) | Query::Needed(part) => only_excludes(part),
        _ => false,
    }
}

/// The node of a test; its parts are tests of their own.
fn node_of(plan: &mut Plan, bound: Bound) -> Node {
    match bound {
        Bound::All(parts) => Node::All(parts.into_iter().map(|part| node_of(plan, part)).collect()),
        Bound::Any(parts) => Node::Any(parts.into_iter().map(|part| node_of(plan, part)).collect()),
        Bound::Not(part) => Node::Not(Box::new(node_of(plan, *part))),
        test => {
            plan.tests.push(test);
            Node::Test(plan.tests.len() - 1)
        }
    }
}

/// Where a part of a query is looked for.
#[derive(Clone, Default)]
struct Scope {
    text: ColumnSet,
    /// Columns whose values are compared.
    values: Vec<String>,
}

/// How a part of a query stands in it.
#[derive(Clone, Copy)]
struct Wanted {
    /// Whether it is wanted, so that it scores.
    positive: bool,
    /// Whether the words side by side in it are those that a search may choose from.
    outermost: bool,
}

/// A part that was bound.
struct Part {
    node: Node,
    /// The text, where it is made of stop words alone.
    weak: Option<String>,
}

impl Part {
    fn nothing() -> Self {
        Self { node: Node::Nothing, weak: None }
    }

    fn of(node: Node) -> Self {
        Self { node, weak: None }
    }
}

struct Binder<'a> {
    schema: &'a Schema,
    /// The different recipes, and for each text column which of them are its own.
    recipes: Vec<Recipes>,
    recipes_of: Vec<usize>,
    find: &'a Find,
    plan: Plan,
    /// The leaves by their alternatives.
    known_leaves: HashMap<Vec<AlternativeKey>, usize>,
    /// For each lookup the words of which it is the first, by their places in the plan.
    words_of: HashMap<usize, Vec<usize>>,
    /// Comparisons of values that were typed.
    known_values: Vec<(String, Test, Node)>,
    /// How many leaves there are for which it matters where words stand, and how many values that were typed.
    rows: usize,
    values: usize,
    beyond: Beyond,
}

impl Binder<'_> {
    /// Binds a part; one that says nothing is [`Node::Nothing`].
    fn bind(&mut self, query: &Query, scope: &Scope, wanted: Wanted) -> Part {
        let inner = Wanted { outermost: false, ..wanted };
        match query {
            Query::Words(parts) => self.words(parts, scope, wanted),
            Query::All(parts) => {
                let parts: Vec<_> = parts.iter().map(|part| self.bind(part, scope, inner).node).collect();
                Part::of(all(parts.into_iter().filter(|node| *node != Node::Nothing)))
            }
            Query::Any(parts) => {
                let parts: Vec<_> = parts.iter().map(|part| self.bind(part, scope, inner).node).collect();
                Part::of(any(parts.into_iter().filter(|node| *node != Node::Nothing)))
            }
            Query::Without(part) => {
                match self.bind(part, scope, Wanted { positive: false, outermost: false }).node {
                    Node::Nothing => Part::nothing(),
                    node => Part::of(Node::Not(Box::new(node))),
                }
            }
            Query::Needed(part) => Part::of(self.bind(part, scope, wanted).node),
            Query::In(names, part) => self.within(names, part, scope, wanted),
            Query::Word(text) => self.word(text, &Runs::default(), scope, wanted.positive),
            Query::Phrase(text) => self.text(text, None, scope, wanted.positive),
            Query::Window(text, positions) => self.text(text, Some(*positions), scope, wanted.positive),
            Query::Pattern(text) => self.pattern(text, scope, wanted.positive),
            Query::Near(text) => {
                let leaf = |binder: &mut Self| {
                    binder.leaf(text, &Runs::default(), scope.text, Reading::Near, wanted.positive)
                };
                self.values_or(text, scope, leaf)
            }
        }
    }

    /// Words side by side.
    fn words(&mut self, parts: &[Query], scope: &Scope, wanted: Wanted) -> Part {
        let inner = Wanted { outermost: wanted.outermost && parts.len() == 1, ..wanted };
        let (mut needed, mut others, mut weak) = (Vec::new(), Vec::new(), Vec::new());
        for (place, part) in parts.iter().enumerate() {
            let bound = match part {
                Query::Word(text) => self.word(text, &self.runs(parts, place), scope, wanted.positive),
                part => self.bind(part, scope, inner),
            };
            match (part, bound) {
                (_, Part { node: Node::Nothing, .. }) => {}
                (Query::Needed(_) | Query::Without(_), bound) => needed.push(bound.node),
                (_, Part { node, weak: Some(text) }) => weak.push((place, node, text)),
                (_, bound) => others.push((place, bound.node)),
            }
        }
        if needed.is_empty() && others.is_empty() {
            // Nothing but stop words: then they count.
            others.extend(weak.drain(..).map(|(place, node, _)| (place, node)));
        }
        if !weak.is_empty() {
            let words = weak.iter().map(|(_, _, text)| text.clone()).collect();
            self.plan.notes.push(Note::SayLittle { words });
            for (_, node, _) in &weak {
                self.forget(node);
            }
        }
        let mut different = Once::default();
        for (_, node) in others {
            different.add(node);
        }
        let different = different.into_parts();
        let certain = needed.iter().filter(|node| !matches!(node, Node::Not(_))).count();
        if wanted.outermost {
            self.plan.choice = self.plan.choice.max(certain + different.len());
        }
        Part::of(match self.find.words.unwrap_or_default() {
            Words::Any if certain > 0 => all(needed),
            Words::Any if different.is_empty() => all(needed),
            Words::Any => all(needed.into_iter().chain([any(different)])),
            Words::AtLeast(count) if wanted.outermost => at_least(count, needed, different),
            Words::Share(share) if wanted.outermost => {
                at_least(share_of(share, certain + different.len()), needed, different)
            }
            _ => all(needed.into_iter().chain(different)),
        })
    }

    /// Takes back what a weak word would have scored.
    fn forget(&mut self, node: &Node) {
        if let Node::Leaf(leaf) = node {
            let leaf = &mut self.plan.leaves[*leaf];
            leaf.times = leaf.times.saturating_sub(1);
        }
    }

    fn within(&mut self, names: &[String], part: &Query, scope: &Scope, wanted: Wanted) -> Part {
        let value = match part {
            Query::Word(text) | Query::Phrase(text) | Query::Pattern(text) => Some(text),
            _ => None,
        };
        let (mut inner, mut others) = (Scope::default(), Vec::new());
        for name in names {
            let kind = self.schema.column(name).map(Column::kind);
            let compared = kind.filter(|kind| !matches!(kind, Kind::Text | Kind::Point));
            let reads = compared.is_some_and(|kind| {
                kind == Kind::Exact || value.is_none_or(|value| reads_as_value(kind, value).is_ok())
            });
            match (self.schema.text_column(name), reads) {
                (_, true) => inner.values.push(name.clone()),
                (Some(place), false) => inner.text = inner.text.with(place),
                (None, false) => others.push(name),
            }
        }
        let found = !inner.text.is_empty() || !inner.values.is_empty();
        for name in &others {
            let problem = match (self.schema.column(name).map(Column::kind), value) {
                (None, _) => format!("there is no column `{name}`"),
                (Some(kind @ (Kind::Text | Kind::Point)), _) => {
                    format!("column `{name}` is of kind \"{kind}\" and has no words")
                }
                (Some(kind), Some(value)) => match reads_as_value(kind, value) {
                    Err(what) => what.trim_end_matches('.').to_owned(),
                    Ok(_) => format!("column `{name}` can't be searched so"),
                },
                (Some(kind), None) => format!("column `{name}` is of kind \"{kind}\" and has no words"),
            };
            let column = String::clone(name);
            self.plan.notes.push(Note::NotAColumn { column, problem, taken_as_word: !found });
        }
        if found {
            return self.bind(part, &inner, wanted);
        }
        // Of a column that is not there the name is a word, and so is what stands behind it.
        let unknown = names
            .iter()
            .filter(|name| self.schema.column(name).is_none())
            .map(|name| Query::word(name.as_str()));
        let parts: Vec<_> = unknown.chain([part.clone()]).collect();
        self.words(&parts, scope, wanted)
    }

    fn word(&mut self, text: &str, runs: &Runs, scope: &Scope, positive: bool) -> Part {
        self.values_or(text, scope, |binder| binder.leaf(text, runs, scope.text, Reading::Plain, positive))
    }

    fn text(&mut self, text: &str, window: Option<u32>, scope: &Scope, positive: bool) -> Part {
        self.values_or(text, scope, |binder| {
            let (mut alternatives, scoring, weak) =
                binder.alternatives(text, &Runs::default(), scope.text, Reading::Plain);
            for alternative in &mut alternatives {
                alternative.window = window.filter(|_| alternative.terms.len() > 1);
            }
            let query = match window {
                Some(positions) => Query::window(text, positions),
                None => Query::phrase(text),
            };
            binder.add(query, alternatives, scoring, positive).weak_if(weak, text)
        })
    }

    /// A value of the columns whose values are compared, or what `otherwise` looks for in the text columns.
    fn values_or(&mut self, text: &str, scope: &Scope, otherwise: impl FnOnce(&mut Self) -> Part) -> Part {
        let mut nodes = Vec::new();
        for name in &scope.values {
            let kind = self.schema.column(name).map_or(Kind::Exact, Column::kind);
            let test = match reads_as_value(kind, text) {
                Ok(test) => test,
                Err(problem) => {
                    self.plan.notes.push(not_a_value(name, text, problem));
                    continue;
                }
            };
            // What is typed twice counts once.
            let known = self.known_values.iter().find(|(column, known, _)| column == name && *known == test);
            if let Some((_, _, node)) = known {
                nodes.push(node.clone());
                continue;
            }
            match bind_test(self.schema, name, &test) {
                Ok(_) if self.values == MOST_VALUES => self.beyond.values += 1,
                Ok(bound) => {
                    self.values += 1;
                    let node = node_of(&mut self.plan, bound);
                    self.known_values.push((name.clone(), test, node.clone()));
                    nodes.push(node);
                }
                Err(problem) => self.plan.notes.push(not_a_value(name, text, problem)),
            }
        }
        if nodes.is_empty() || !scope.text.is_empty() {
            let words = if scope.text.is_empty() { Part::nothing() } else { otherwise(self) };
            if nodes.is_empty() {
                return words;
            }
            nodes.extend(Some(words.node).filter(|node| *node != Node::Nothing));
        }
        Part::of(any(nodes))
    }

    fn pattern(&mut self, text: &str, scope: &Scope, positive: bool) -> Part {
        let mut nodes = Vec::new();
        for name in &scope.values {
            match self.beginning_of_value(name, text) {
                Some(_) if self.values == MOST_VALUES => self.beyond.values += 1,
                Some(bound) => {
                    self.values += 1;
                    nodes.push(node_of(&mut self.plan, bound));
                }
                None => {
                    let (column, pattern) = (name.clone(), text.to_owned());
                    self.plan.notes.push(Note::NotABeginning { column, pattern });
                }
            }
        }
        if !scope.text.is_empty() {
            let (alternatives, problem) = self.pattern_alternatives(text, scope.text);
            if let Some(problem) = problem {
                self.plan.notes.push(problem);
            } else {
                let scoring = alternatives.len();
                let part = self.add(Query::pattern(text), alternatives, scoring, positive);
                nodes.extend(Some(part.node).filter(|node| *node != Node::Nothing));
            }
        }
        Part::of(any(nodes))
    }

    /// What begins like a pattern that ends in its only wildcard, in a column of exact values.
    fn beginning_of_value(&self, name: &str, text: &str) -> Option<Bound> {
        let beginning = text.strip_suffix('*')?;
        if beginning.contains(['*', '?', '\\']) || self.schema.column(name)?.kind() != Kind::Exact {
            return None;
        }
        let Bound::Texts(column, _) = bind_test(self.schema, name, &Test::Equal(beginning.into())).ok()?
        else {
            return None;
        };
        let mut after: Vec<char> = beginning.chars().collect();
        let end = loop {
            let Some(last) = after.pop() else { break Edge::Unbounded };
            // The next character there is; surrogates are none.
            if let Some(next) = (u32::from(last) + 1..=u32::from(char::MAX)).find_map(char::from_u32) {
                after.push(next);
                break Edge::Excluded(after.iter().collect());
            }
        };
        Some(Bound::Texts(column, vec![(Edge::Included(beginning.to_owned()), end)]))
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
                lookups.push((column, Lookup { term: None, class: None, like }));
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

    /// The runs of words typed one after the other that the word at a place is in, as far as runs so long may stand for
    /// something else.
    fn runs(&self, parts: &[Query], place: usize) -> Runs {
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
    fn leaf(
        &mut self,
        text: &str,
        runs: &Runs,
        columns: ColumnSet,
        reading: Reading,
        positive: bool,
    ) -> Part {
        let (alternatives, scoring, weak) = self.alternatives(text, runs, columns, reading);
        let query = if reading == Reading::Near { Query::near(text) } else { Query::word(text) };
        self.add(query, alternatives, scoring, positive).weak_if(weak, text)
    }

    /// Adds a leaf, of whose alternatives the first `scoring` score, unless it is there already.
    fn add(&mut self, query: Query, alternatives: Vec<Alternative>, scoring: usize, positive: bool) -> Part {
        if alternatives.is_empty() {
            let (Query::Word(text) | Query::Phrase(text) | Query::Window(text, _) | Query::Near(text)) =
                &query
            else {
                return Part::nothing();
            };
            if !text.contains(char::is_alphanumeric) {
                self.plan.notes.push(Note::NoLetter { text: text.clone() });
            }
            return Part::nothing();
        }
        let times = u32::from(positive);
        let key: Vec<_> = alternatives.iter().map(Alternative::key).collect();
        if let Some(&known) = self.known_leaves.get(&key) {
            self.plan.leaves[known].times += times;
            return Part::of(Node::Leaf(known));
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
            return Part::nothing();
        }
        // A synonym of more words than were typed counts by as many of them, so that it never outweighs them.
        let typed = alternatives.iter().filter(|alternative| alternative.likeness >= 1.0);
        let longest = typed.map(|alternative| alternative.terms.len()).max().unwrap_or(0);
        let words = (0..longest).map(|place| self.word_at(&alternatives[..scoring], place)).collect();
        self.known_leaves.insert(key, self.plan.leaves.len());
        self.plan.leaves.push(Leaf { query, alternatives, words, times, loose: false });
        Part::of(Node::Leaf(self.plan.leaves.len() - 1))
    }

    /// All terms of one of the alternatives, wherever they stand, each as a word of its own.
    fn anywhere(&mut self, query: &Query, alternatives: &[Alternative], positive: bool) -> Part {
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
        Part::of(any(ways.into_iter().filter(|way| *way != Node::Nothing)))
    }

    /// How the columns read the text: one alternative for each different run of terms, in schema order, in each column
    /// by its languages in order, and in each language the parts of compounds before the wholes. Also tells how many of
    /// them, from the first, score, and whether every column takes the text for weak.
    fn alternatives(
        &mut self,
        text: &str,
        runs: &Runs,
        columns: ColumnSet,
        reading: Reading,
    ) -> (Vec<Alternative>, usize, bool) {
        let mut alternatives: Vec<Alternative> = Vec::new();
        let mut all_weak = true;
        let (mut scoring, mut matching) = (Vec::new(), Vec::new());
        let Self { plan, find, recipes, recipes_of, beyond, .. } = self;
        let mut known: Vec<(usize, usize, Typed)> = Vec::new();
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
                let Some(expansions) = &find.expansions else { continue };
                let mut expand = |text: &str, synonyms: &mut Vec<_>| {
                    for synonym in expansions.of(column, place, &shared_forms(recipe, text)) {
                        synonyms.push((column, read(synonym, Reading::Plain)));
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
}

impl Part {
    fn weak_if(self, weak: bool, text: &str) -> Self {
        Self { weak: weak.then(|| text.to_owned()), ..self }
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
