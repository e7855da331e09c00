//! Tests of numbers of one column of which one has to hold, or none may, become one test: it costs as much as one of them.
//!
//! What always holds: the same records match. A record may have several values, so tests that have to hold together stay apart.

use super::nodes::Once;
use super::plan::{Node, Plan};
use crate::filter::{Bound, Numbers, united};
use std::collections::BTreeMap;

/// Unites the tests of a plan, as far as that may be.
pub(super) fn unite_tests(plan: &mut Plan) {
    if plan.tests.is_empty() {
        return;
    }
    let root = std::mem::take(&mut plan.root);
    let mut tests = Tests { old: std::mem::take(&mut plan.tests), new: Vec::new() };
    plan.root = tests.node(root);
    plan.tests = tests.new;
}

struct Tests {
    old: Vec<Bound>,
    /// Those that the nodes which were gone through name.
    new: Vec<Bound>,
}

impl Tests {
    fn node(&mut self, node: Node) -> Node {
        match node {
            Node::Test(test) => Node::Test(self.add(self.old[test].clone())),
            Node::Any(parts) => one_or(self.parts(parts, false), Node::Any),
            // None of them may hold.
            Node::All(parts) => one_or(self.parts(parts, true), Node::All),
            Node::AtLeast(count, parts) => {
                Node::AtLeast(count, parts.into_iter().map(|part| self.node(part)).collect())
            }
            Node::Not(part) => Node::Not(Box::new(self.node(*part))),
            node @ (Node::Nothing | Node::Leaf(_)) => node,
        }
    }

    /// The parts of a list, of which tests are united that stand there; or those of which each says that it may not hold.
    fn parts(&mut self, parts: Vec<Node>, excluded: bool) -> Vec<Node> {
        let mut ranges_of: BTreeMap<usize, Numbers> = BTreeMap::new();
        for (column, ranges) in parts.iter().filter_map(|part| self.numbers(part, excluded)) {
            ranges_of.entry(column).or_default().extend(ranges);
        }
        let mut done = Vec::with_capacity(parts.len());
        for part in parts {
            let Some(column) = self.numbers(&part, excluded).map(|(column, _)| column) else {
                done.push(self.node(part));
                continue;
            };
            // Where the first of them stands.
            if let Some(ranges) = ranges_of.remove(&column) {
                let test = Node::Test(self.add(Bound::Numbers(column, united(ranges))));
                done.push(if excluded { Node::Not(Box::new(test)) } else { test });
            }
        }
        done
    }

    /// The column and the ranges of a part that is such a test.
    fn numbers(&self, part: &Node, excluded: bool) -> Option<(usize, &Numbers)> {
        let test = match part {
            Node::Test(test) if !excluded => *test,
            Node::Not(inner) if excluded => match **inner {
                Node::Test(test) => test,
                _ => return None,
            },
            _ => return None,
        };
        match &self.old[test] {
            Bound::Numbers(column, ranges) => Some((*column, ranges)),
            _ => None,
        }
    }

    /// The place of a test.
    fn add(&mut self, test: Bound) -> usize {
        self.new.iter().position(|known| *known == test).unwrap_or_else(|| {
            self.new.push(test);
            self.new.len() - 1
        })
    }
}

fn one_or(parts: Vec<Node>, make: fn(Vec<Node>) -> Node) -> Node {
    let mut once = Once::default();
    for part in parts {
        once.add(part);
    }
    let mut once = once.into_parts();
    if once.len() == 1 { once.remove(0) } else { make(once) }
}
