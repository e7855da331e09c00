//! What a query costs, told by how many records have its words. Past a measure that grows with the snapshot, phrases are looked for
//! in a simpler way, and the commonest words do not score: so a query that anybody may type takes a bounded time.
//!
//! What always holds: it is told by live records, so it does not depend on the shelves; and a query of a few words is not cut.

use super::plan::{Leaf, Node, Plan};

/// A query may go through as many postings as so many words that every record has, and through so many anyway.
const PASSES: u64 = 3;
const ANYWAY: u64 = 3 << 20;
/// A record that has all words of a phrase takes about as long as so many postings.
const OF_PHRASE: u64 = 10;

/// Makes a plan cheaper if it costs too much: for each word of it `counts` has how many of so many live records have its terms.
pub(super) fn economise(plan: &mut Plan, counts: &[Vec<u64>], records: u64) {
    let most = records.saturating_mul(PASSES).max(ANYWAY);
    let of_word: Vec<u64> = counts.iter().map(|counts| counts.iter().sum()).collect();
    loosen_phrases(plan, &of_word, most);
    let words = of_word.len() as u64;
    let matches = estimate(plan, &plan.root, &of_word, records);
    if matches.saturating_mul(words) > most {
        leave_out_of_scores(plan, &of_word, most);
    }
}

/// Keeps the cheapest phrases, one at least; of the others the words are looked for wherever they stand.
fn loosen_phrases(plan: &mut Plan, of_word: &[u64], most: u64) {
    let is_phrase = |leaf: &Leaf| leaf.alternatives.iter().any(|one| one.terms.len() > 1);
    let cost = |leaf: &Leaf| {
        let counts = || leaf.words.iter().map(|word| of_word[*word]);
        counts().min().unwrap_or(0) * OF_PHRASE + counts().sum::<u64>()
    };
    let phrases = plan.leaves.iter().enumerate().filter(|(_, leaf)| is_phrase(leaf));
    let mut costs: Vec<_> = phrases.map(|(place, leaf)| (cost(leaf), place)).collect();
    costs.sort_unstable();
    let mut loosened = 0;
    let mut sum = costs.first().map_or(0, |(cost, _)| *cost);
    for (cost, place) in costs.into_iter().skip(1) {
        sum = sum.saturating_add(cost);
        if sum > most {
            plan.leaves[place].loose = true;
            loosened += 1;
        }
    }
    if loosened > 0 {
        plan.notes.push(format!(
            "Of {loosened} phrases, windows or compounds the words are so common that they were looked for wherever they stand."
        ));
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
        plan.notes.push(format!("{out} of the words are so common that they do not count in scores."));
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
