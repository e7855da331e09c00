//! Binding a query to a schema. It never fails for what a person typed: what can't be bound is taken as plain words, and
//! noted.

use super::leaves::{BoundPart, Leaves, Runs};
use super::limits::{DEEPEST, MOST_VALUES};
use super::nodes::{Once, all, any, at_least, share_of};
use super::read::Spelled;
use super::{Node, Plan};
use crate::error::{Error, ErrorKind, Result};
use crate::filter::{self, Bound, Test, bind_test, reads_as_value};
use crate::note::Note;
use crate::query::Query;
use crate::schema::{Column, ColumnSet, Kind, Schema};
use crate::search::find::Find;
use crate::search::settings::Words;
use std::ops::Bound as Edge;

/// Binds a query.
pub(super) fn bind(schema: &Schema, query: &Query, find: &Find) -> Result<Plan> {
    if query.is_deeper_than(DEEPEST) {
        let message =
            format!("The query is nested more than {DEEPEST} deep; say it with less inside one another.");
        return Err(Error::new(ErrorKind::BadRequest, message));
    }
    let scope = Scope { text: find.searched(schema)?, values: Vec::new() };
    let filter = find.filter().map(|filter| filter::bind(schema, filter)).transpose()?;
    let leaves = Leaves::new(schema, find);
    let mut binder = Binder { schema, leaves, known_values: Vec::new(), values: 0 };
    let part = binder.bind(query, &scope, Wanted { positive: true, outermost: true });
    let Leaves { mut plan, beyond, .. } = binder.leaves;
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

struct Binder<'a> {
    schema: &'a Schema,
    leaves: Leaves<'a>,
    /// Comparisons of values that were typed.
    known_values: Vec<(String, Test, Node)>,
    /// How many values were typed.
    values: usize,
}

impl Binder<'_> {
    /// Binds a part; one that says nothing is [`Node::Nothing`].
    fn bind(&mut self, query: &Query, scope: &Scope, wanted: Wanted) -> BoundPart {
        let inner = Wanted { outermost: false, ..wanted };
        match query {
            Query::Words(parts) => self.words(parts, scope, wanted),
            Query::All(parts) => {
                let parts: Vec<_> = parts.iter().map(|part| self.bind(part, scope, inner).node).collect();
                BoundPart::of(all(parts.into_iter().filter(|node| *node != Node::Nothing)))
            }
            Query::Any(parts) => {
                let parts: Vec<_> = parts.iter().map(|part| self.bind(part, scope, inner).node).collect();
                BoundPart::of(any(parts.into_iter().filter(|node| *node != Node::Nothing)))
            }
            Query::Without(part) => {
                match self.bind(part, scope, Wanted { positive: false, outermost: false }).node {
                    Node::Nothing => BoundPart::nothing(),
                    node => BoundPart::of(Node::Not(Box::new(node))),
                }
            }
            Query::Needed(part) => BoundPart::of(self.bind(part, scope, wanted).node),
            Query::In(names, part) => self.within(names, part, scope, wanted),
            Query::Word(text) => self.word(text, &Runs::default(), scope, wanted.positive),
            Query::Phrase(text) => self.text(text, None, scope, wanted.positive),
            Query::Window(text, positions) => self.text(text, Some(*positions), scope, wanted.positive),
            Query::Pattern(text) => self.pattern(text, scope, wanted.positive),
            Query::Near(text) => {
                let runs = Runs::default();
                self.values_or(text, scope, |leaves| {
                    leaves.leaf(text, &runs, scope.text, Spelled::Near, wanted.positive)
                })
            }
        }
    }

    /// Words side by side.
    fn words(&mut self, parts: &[Query], scope: &Scope, wanted: Wanted) -> BoundPart {
        let inner = Wanted { outermost: wanted.outermost && parts.len() == 1, ..wanted };
        let (mut needed, mut others, mut weak) = (Vec::new(), Vec::new(), Vec::new());
        for (place, part) in parts.iter().enumerate() {
            let bound = match part {
                Query::Word(text) => self.word(text, &self.leaves.runs(parts, place), scope, wanted.positive),
                part => self.bind(part, scope, inner),
            };
            match (part, bound) {
                (_, BoundPart { node: Node::Nothing, .. }) => {}
                (Query::Needed(_) | Query::Without(_), bound) => needed.push(bound.node),
                (_, BoundPart { node, weak: Some(text) }) => weak.push((place, node, text)),
                (_, bound) => others.push((place, bound.node)),
            }
        }
        if needed.is_empty() && others.is_empty() {
            // Nothing but stop words: then they count.
            others.extend(weak.drain(..).map(|(place, node, _)| (place, node)));
        }
        if !weak.is_empty() {
            let words = weak.iter().map(|(_, _, text)| text.clone()).collect();
            self.leaves.plan.notes.push(Note::SayLittle { words });
            for (_, node, _) in &weak {
                self.leaves.forget(node);
            }
        }
        let mut different = Once::default();
        for (_, node) in others {
            different.add(node);
        }
        let different = different.into_parts();
        let certain = needed.iter().filter(|node| !matches!(node, Node::Not(_))).count();
        if wanted.outermost {
            self.leaves.plan.choice = self.leaves.plan.choice.max(certain + different.len());
        }
        BoundPart::of(match self.leaves.find.words.unwrap_or_default() {
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

    fn within(&mut self, names: &[String], part: &Query, scope: &Scope, wanted: Wanted) -> BoundPart {
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
                (Some(Kind::Text), _) => format!("column `{name}` is shown and not searched"),
                (Some(kind @ Kind::Point), _) | (Some(kind), None) => {
                    format!("column `{name}` is of kind \"{kind}\" and has no words")
                }
                (Some(kind), Some(value)) => match reads_as_value(kind, value) {
                    Err(what) => what.trim_end_matches('.').to_owned(),
                    Ok(_) => format!("column `{name}` can't be searched so"),
                },
            };
            let column = String::clone(name);
            self.leaves.plan.notes.push(Note::NotAColumn { column, problem, taken_as_word: !found });
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

    fn word(&mut self, text: &str, runs: &Runs, scope: &Scope, positive: bool) -> BoundPart {
        self.values_or(text, scope, |leaves| leaves.leaf(text, runs, scope.text, Spelled::Plain, positive))
    }

    fn text(&mut self, text: &str, window: Option<u32>, scope: &Scope, positive: bool) -> BoundPart {
        self.values_or(text, scope, |leaves| leaves.row(text, window, scope.text, positive))
    }

    /// A value of the columns whose values are compared, or what `otherwise` looks for in the text columns.
    fn values_or(
        &mut self,
        text: &str,
        scope: &Scope,
        otherwise: impl FnOnce(&mut Leaves<'_>) -> BoundPart,
    ) -> BoundPart {
        let mut nodes = Vec::new();
        for name in &scope.values {
            let kind = self.schema.column(name).map_or(Kind::Exact, Column::kind);
            let test = match reads_as_value(kind, text) {
                Ok(test) => test,
                Err(problem) => {
                    self.leaves.plan.notes.push(not_a_value(name, text, problem));
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
                Ok(_) if self.values == MOST_VALUES => self.leaves.beyond.values += 1,
                Ok(bound) => {
                    self.values += 1;
                    let node = node_of(&mut self.leaves.plan, bound);
                    self.known_values.push((name.clone(), test, node.clone()));
                    nodes.push(node);
                }
                Err(problem) => self.leaves.plan.notes.push(not_a_value(name, text, problem)),
            }
        }
        if nodes.is_empty() || !scope.text.is_empty() {
            let words =
                if scope.text.is_empty() { BoundPart::nothing() } else { otherwise(&mut self.leaves) };
            if nodes.is_empty() {
                return words;
            }
            nodes.extend(Some(words.node).filter(|node| *node != Node::Nothing));
        }
        BoundPart::of(any(nodes))
    }

    fn pattern(&mut self, text: &str, scope: &Scope, positive: bool) -> BoundPart {
        let mut nodes = Vec::new();
        for name in &scope.values {
            match self.beginning_of_value(name, text) {
                Some(_) if self.values == MOST_VALUES => self.leaves.beyond.values += 1,
                Some(bound) => {
                    self.values += 1;
                    nodes.push(node_of(&mut self.leaves.plan, bound));
                }
                None => {
                    let (column, pattern) = (name.clone(), text.to_owned());
                    self.leaves.plan.notes.push(Note::NotABeginning { column, pattern });
                }
            }
        }
        if !scope.text.is_empty() {
            let part = self.leaves.pattern(text, scope.text, positive);
            nodes.extend(Some(part.node).filter(|node| *node != Node::Nothing));
        }
        BoundPart::of(any(nodes))
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
}
