//! What a query costs, told by how many records have its words. Past a measure that grows with the snapshot, phrases are looked for
//! in a simpler way, the commonest words do not score, and it does not count how near words stand: so a query that anybody may type
//! takes a bounded time.
//!
//! What always holds: it is told by live records, so it does not depend on the shelves.

use super::nodes;
use super::{Alternative, Leaf, Node, Plan};
use crate::note::Note;
use crate::query::Query;

/// A record that has all words of a phrase takes about as long as so many postings.
const OF_PHRASE: u64 = 10;

/// Of more phrases than these none is kept that costs too much.
const FEW_PHRASES: usize = 8;
/// Finding out how near two words of a record stand takes, for each of the query's words, about as long as so many postings.
const OF_PROXIMITY: u64 = 10;

/// What counts besides which records match.
#[derive(Clone, Copy)]
pub(super) struct Counts {
    pub scores: bool,
    pub proximity: bool,
}

/// Makes a plan cheaper that would go through more than `most` postings: for each word of it `counts` has how many of so many live
/// records have its terms.
pub(super) fn economise(plan: &mut Plan, counts: &[Vec<u64>], records: u64, most: u64, wanted: Counts) {
    let of_word: Vec<u64> = counts.iter().map(|counts| counts.iter().sum()).collect();
    let words = of_word.len() as u64;
    let matches = estimate(plan, &plan.root, &of_word, records);
    loosen_phrases(plan, &of_word, most);
    // Where few match, they are what is looked at.
    if wanted.scores && matches.saturating_mul(words) > most {
        leave_out_of_scores(plan, &of_word, most);
    }
    let near = matches.min(meetings(&of_word, records)).saturating_mul(words);
    if wanted.proximity && near.saturating_mul(OF_PROXIMITY) > most {
        plan.is_proximity_left_out = true;
        plan.notes.push(Note::ProximityNotScored);
    }
}

/// How often two words would be in one record if they had nothing to do with each other.
fn meetings(of_word: &[u64], records: u64) -> u64 {
    let square = |count: u64| u128::from(count).pow(2);
    let pairs = (square(of_word.iter().sum()) - of_word.iter().copied().map(square).sum::<u128>()) / 2;
    u64::try_from(pairs / u128::from(records.max(1))).unwrap_or(u64::MAX)
}

/// Keeps the cheapest phrases, of a few one at least; of the others the words are looked for wherever they stand.
fn loosen_phrases(plan: &mut Plan, of_word: &[u64], most: u64) {
    let is_phrase = |leaf: &Leaf| leaf.alternatives.iter().any(|one| one.terms.len() > 1);
    let cost = |leaf: &Leaf| {
        let counts = || leaf.words.iter().map(|word| of_word[*word]);
        counts().min().unwrap_or(0) * OF_PHRASE + counts().sum::<u64>()
    };
    let phrases = plan.leaves.iter().enumerate().filter(|(_, leaf)| is_phrase(leaf));
    let mut costs: Vec<_> = phrases.map(|(place, leaf)| (cost(leaf), place)).collect();
    costs.sort_unstable();
    let kept = usize::from(costs.len() <= FEW_PHRASES);
    let (mut loosened, mut sum) = (0, 0_u64);
    for (number, (cost, place)) in costs.into_iter().enumerate() {
        sum = sum.saturating_add(cost);
        if sum > most && number >= kept {
            plan.leaves[place].loose = true;
            let looser = wherever_they_stand(plan, place);
            replace(&mut plan.root, place, &looser);
            loosened += 1;
        }
    }
    if loosened > 0 {
        plan.notes.push(Note::PhrasesLoosened { count: loosened });
    }
}

/// What has all terms of one of a leaf's alternatives in its columns. Each term is a leaf, so that what several phrases have is looked
/// for once, and is called by its own name.
fn wherever_they_stand(plan: &mut Plan, leaf: usize) -> Node {
    let mut ways = Vec::new();
    for Alternative { columns, terms, likeness, .. } in plan.leaves[leaf].alternatives.clone() {
        let mut all = Vec::new();
        for (lookup, _) in terms {
            let alternatives =
                vec![Alternative { columns, terms: vec![(lookup, 0)], window: None, likeness }];
            let known = plan.leaves.iter().position(|leaf| leaf.alternatives == alternatives);
            all.push(Node::Leaf(known.unwrap_or(plan.leaves.len())));
            if known.is_none() {
                let query = match &plan.lookups[lookup].term {
                    Some(term) => Query::word(term),
                    None => plan.leaves[leaf].query.clone(),
                };
                plan.leaves.push(Leaf { query, alternatives, words: Vec::new(), times: 0, loose: false });
            }
        }
        ways.push(nodes::all(all));
    }
    nodes::any(ways)
}

fn replace(node: &mut Node, leaf: usize, by: &Node) {
    match node {
        Node::Leaf(place) if *place == leaf => *node = by.clone(),
        Node::Nothing | Node::Test(_) | Node::Leaf(_) => {}
        Node::All(parts) | Node::Any(parts) | Node::AtLeast(_, parts) => {
            for part in parts {
                replace(part, leaf, by);
            }
        }
        Node::Not(part) => replace(part, leaf, by),
    }
}

/// Lets the rarest words score, one at least; the others are still looked for.
fn leave_out_of_scores(plan: &mut Plan, of_word: &[u64], most: u64) {
    let mut scores = vec![false; of_word.len()];
    for leaf in plan.leaves.iter().filter(|leaf| leaf.times > 0) {
        leaf.words.iter().for_each(|word| scores[*word] = true);
    }
    let mut words: Vec<usize> = (0..of_word.len()).filter(|word| scores[*word]).collect();
    words.sort_by_key(|word| of_word[*word]);
    let mut sum = words.first().map_or(0, |word| of_word[*word]);
    let mut out = 0;
    for word in words.into_iter().skip(1) {
        sum = sum.saturating_add(of_word[word]);
        if sum > most {
            scores[word] = false;
            out += 1;
        }
    }
    for leaf in plan.leaves.iter_mut().filter(|leaf| leaf.times > 0) {
        match leaf.words.as_slice() {
            [only] if !scores[*only] => leaf.times = 0,
            [_] => {}
            _ => leaf.words.retain(|word| scores[*word]),
        }
    }
    if out > 0 {
        plan.notes.push(Note::WordsNotScored { count: out });
    }
}

/// About how many records match a node, at most.
fn estimate(plan: &Plan, node: &Node, of_word: &[u64], records: u64) -> u64 {
    let estimate = |part| estimate(plan, part, of_word, records);
    let most = match node {
        Node::Nothing => 0,
        Node::Leaf(leaf) => plan.leaves[*leaf].words.iter().map(|word| of_word[*word]).min().unwrap_or(0),
        Node::Test(_) | Node::Not(_) => records,
        Node::All(parts) => parts.iter().map(estimate).min().unwrap_or(0),
        Node::Any(parts) => parts.iter().map(estimate).fold(0, u64::saturating_add),
        Node::AtLeast(count, parts) => {
            parts.iter().map(estimate).fold(0, u64::saturating_add) / (*count).max(1) as u64
        }
    };
    most.min(records)
}
