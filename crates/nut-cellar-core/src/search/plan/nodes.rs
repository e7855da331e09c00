//! What has to match, put together: lists without lists of their kind in them, and nothing in them twice.

use super::Node;
use foldhash::fast::RandomState;
use hashbrown::HashSet;

/// Parts, each once, in the order in which they were added.
#[derive(Default)]
pub(super) struct Once {
    parts: Vec<Node>,
    /// The same, once there are more than a few.
    known: HashSet<Node, RandomState>,
}

/// Among so few it is faster to look at each.
const FEW_PARTS: usize = 16;

impl Once {
    pub fn add(&mut self, part: Node) {
        let is_fresh = if self.parts.len() < FEW_PARTS {
            !self.parts.contains(&part)
        } else {
            if self.known.is_empty() {
                self.known.extend(self.parts.iter().cloned());
            }
            self.known.insert(part.clone())
        };
        self.parts.extend(is_fresh.then_some(part));
    }

    pub fn into_parts(self) -> Vec<Node> {
        self.parts
    }
}

/// All of these, those of a list in the list as parts of it, each once.
pub(super) fn all(parts: impl IntoIterator<Item = Node>) -> Node {
    let mut flat = Once::default();
    for part in parts {
        match part {
            Node::All(inner) => inner.into_iter().for_each(|part| flat.add(part)),
            part => flat.add(part),
        }
    }
    one_or(flat.into_parts(), Node::All)
}

pub(super) fn any(parts: impl IntoIterator<Item = Node>) -> Node {
    let mut flat = Once::default();
    for part in parts {
        match part {
            Node::Any(inner) => inner.into_iter().for_each(|part| flat.add(part)),
            part => flat.add(part),
        }
    }
    one_or(flat.into_parts(), Node::Any)
}

fn one_or(mut parts: Vec<Node>, make: fn(Vec<Node>) -> Node) -> Node {
    match parts.len() {
        0 => Node::Nothing,
        1 => parts.remove(0),
        _ => make(parts),
    }
}

/// At least so many of all of these, and those that are needed in any case.
pub(super) fn at_least(count: usize, needed: Vec<Node>, others: Vec<Node>) -> Node {
    let certain: Vec<_> = needed.iter().filter(|node| !matches!(node, Node::Not(_))).cloned().collect();
    let among: Vec<_> = certain.into_iter().chain(others).collect();
    if among.is_empty() {
        return all(needed);
    }
    let count = count.clamp(1, among.len());
    let chosen = match count {
        1 => any(among),
        count if count == among.len() => all(among),
        count => Node::AtLeast(count, among),
    };
    all(needed.into_iter().chain([chosen]))
}

/// A share of so many, rounded up.
#[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "clamped to what there is")]
pub(super) fn share_of(share: f32, all: usize) -> usize {
    let share = if share.is_finite() { f64::from(share.clamp(0.0, 1.0)) } else { 1.0 };
    // A share such as 0.6 of 5 is 3, whatever its last bit.
    (share * all as f64 - 1e-6).ceil().max(0.0) as usize
}
