//! What a query needs of a record in one shelf, told by its words: which of them it has to have, whether they decide its score,
//! and what it has to match besides. By this the way through the shelf is chosen.

use super::cursors::{Cursors, LeafCursor};
use super::word::WordCursor;
use crate::search::find::Find;
use crate::search::plan::Node;
use crate::search::plan::strategy::Statistics;
use crate::shelf::{Held, Set, Step};

impl Cursors<'_> {
    /// Whether the score of a record that matches a node is what the words that it has add, each in the columns in which it
    /// counts: each word is of one leaf, which is the word, or has to match.
    pub fn words_decide(&self, root: &Node) -> bool {
        let has_to_match = |leaf: usize| match root {
            Node::All(parts) => parts.contains(&Node::Leaf(leaf)),
            root => *root == Node::Leaf(leaf),
        };
        let mut leaves_of = vec![0; self.words.len()];
        let mut leaves = self.plan.leaves.iter().enumerate().filter(|(_, leaf)| leaf.times > 0);
        let of_one_leaf = leaves.all(|(place, leaf)| {
            let is_word = matches!(self.leaves[place], LeafCursor::Word(_));
            (is_word || has_to_match(place))
                && leaf.words.iter().all(|word| {
                    leaves_of[*word] += 1;
                    leaves_of[*word] == 1
                })
        });
        of_one_leaf && self.ranking.proximity <= 0.0
    }

    /// The set that a record has to be in, of those that are known, with its size, and what it has to match besides.
    pub fn sift(&self, root: &Node) -> (Option<Set>, Option<Node>) {
        let parts = match root {
            Node::All(parts) => parts.as_slice(),
            root => std::slice::from_ref(root),
        };
        let set = |part: &Node| match part {
            Node::Test(test) => self.tests[*test].set().cloned(),
            _ => None,
        };
        // One is enough; where there are more, they are looked at as everything else is.
        let Some(place) = parts.iter().position(|part| set(part).is_some()) else {
            return (None, Some(root.clone()));
        };
        let mut rest: Vec<_> = parts.iter().enumerate().filter(|(other, _)| *other != place).collect();
        let rest = match rest.as_mut_slice() {
            [] => None,
            [(_, only)] => Some(Node::clone(only)),
            rest => Some(Node::All(rest.iter().map(|(_, part)| Node::clone(part)).collect())),
        };
        (set(&parts[place]), rest)
    }

    /// The words that a record has to have, by their places in the plan, if they are all that score; and what else it has to
    /// match. None if there is one word only, if others score as well, or not by their terms alone.
    pub fn required(&self, root: &Node) -> Option<(Vec<usize>, Option<Node>)> {
        let parts = match root {
            Node::All(parts) => parts.as_slice(),
            root => std::slice::from_ref(root),
        };
        let (mut words, mut rest) = (Vec::new(), Vec::new());
        for part in parts {
            let needed = match part {
                Node::Leaf(leaf) => self.words_of(*leaf),
                _ => None,
            };
            words.extend(needed.into_iter().flatten());
            if self.plain_word(part).is_none() {
                rest.push(part.clone());
            }
        }
        words.sort_unstable();
        let scoring = (0..self.words.len()).filter(|word| self.most_times[*word] > 0);
        let rest = if rest.is_empty() { None } else { Some(Node::All(rest)) };
        (words.len() > 1 && self.words_decide(root) && scoring.eq(words.iter().copied()))
            .then_some((words, rest))
    }

    /// Whether phrases of common words are looked for, which are better found in many records at once.
    pub fn has_common_phrases(&self) -> bool {
        self.leaves.iter().any(|leaf| matches!(leaf, LeafCursor::Phrases(phrases) if phrases.is_common()))
    }

    /// The words that every record has which matches a leaf, if it is known that all of its words are.
    fn words_of(&self, leaf: usize) -> Option<Vec<usize>> {
        let of = &self.plan.leaves[leaf];
        match (&self.leaves[leaf], of.alternatives.as_slice()) {
            (LeafCursor::Word(word), _) => Some(vec![*word]),
            (LeafCursor::Phrases(phrases), [only]) if !phrases.has_records() => {
                let is_there = |word: &usize| {
                    let variants = &self.plan.words[*word].variants;
                    variants
                        .iter()
                        .any(|variant| only.terms.iter().any(|(lookup, _)| *lookup == variant.lookup))
                };
                of.words.iter().all(is_there).then(|| of.words.clone())
            }
            _ => None,
        }
    }

    /// The word that a node is, if a record matches it that has the word in whatever column.
    fn plain_word(&self, node: &Node) -> Option<usize> {
        let Node::Leaf(leaf) = node else { return None };
        match self.leaves[*leaf] {
            LeafCursor::Word(word) if !self.words[word].cursor.is_limited() => Some(word),
            _ => None,
        }
    }

    /// Whether a record matches a node as soon as it has one of the words that score, in whatever column.
    pub fn any_word_will_do(&self, node: &Node) -> bool {
        let parts = match node {
            Node::Any(parts) => parts.as_slice(),
            node => std::slice::from_ref(node),
        };
        let mut missing = self.most_times.iter().filter(|times| **times > 0).count();
        let mut seen = vec![false; self.words.len()];
        for part in parts {
            let Some(word) = self.plain_word(part) else { return false };
            missing -= usize::from(self.most_times[word] > 0 && !seen[word]);
            seen[word] = true;
        }
        missing == 0
    }

    /// Whether every record that matches a node has a term of a word that scores.
    pub fn words_tell_all(&self, node: &Node) -> bool {
        match node {
            Node::Nothing => true,
            Node::Test(_) | Node::Not(_) => false,
            Node::Leaf(leaf) => {
                let others =
                    matches!(&self.leaves[*leaf], LeafCursor::Phrases(phrases) if phrases.has_records());
                let leaf = &self.plan.leaves[*leaf];
                !others && leaf.times > 0 && self.plan.scores_always(leaf)
            }
            Node::All(parts) => parts.iter().any(|part| self.words_tell_all(part)),
            Node::Any(parts) => parts.iter().all(|part| self.words_tell_all(part)),
            Node::AtLeast(count, parts) => {
                parts.iter().filter(|part| !self.words_tell_all(part)).count() < *count
            }
        }
    }
}

impl Cursors<'_> {
    /// What is known of the query in the shelf, for choosing a strategy; what is asked for is left open.
    pub fn statistics(&mut self, held: &mut Held, root: &Node) -> Step<Statistics> {
        let candidates = self.cost(held, root)?;
        let scoring = || {
            let words = self.words.iter().zip(&self.most_times).filter(|(_, times)| **times > 0);
            words.map(|(term, _)| &term.cursor)
        };
        let lists = || scoring().flat_map(|word| &word.terms);
        Ok(Statistics {
            records: self.standing.shelf.records().into(),
            candidates,
            leaves: self.plan.leaves.len() + self.plan.tests.len(),
            words: scoring().count(),
            lists: lists().count(),
            blocks: lists().map(|term| term.postings.blocks() as u64).sum(),
            postings: lists().map(|term| u64::from(term.postings.records())).sum(),
            rarest: scoring().map(WordCursor::cost).min().unwrap_or(0),
            words_decide: self.words_decide(root),
            any_will_do: self.any_word_will_do(root),
            all_are_needed: self.required(root).is_some(),
            has_common_phrases: self.has_common_phrases(),
            has_proximity: self.ranking.proximity > 0.0,
            ..Statistics::default()
        })
    }

    /// Whether the lists of all words that score are unpacked.
    pub fn are_unpacked(&self) -> bool {
        let words = self.words.iter().zip(&self.most_times).filter(|(_, times)| **times > 0);
        words.flat_map(|(term, _)| &term.cursor.terms).all(|term| term.postings.list_unpacked().is_some())
    }

    /// Says what a search will ask for, so that what is asked for again and again is kept.
    pub fn ask(&mut self, held: &mut Held, find: &Find, statistics: &Statistics) -> Step<()> {
        let scored = statistics.candidates.min(statistics.postings);
        if statistics.by_score && statistics.limit > 0 {
            self.scorer.ask_lengths(held, scored)?;
        }
        for test in &mut self.tests {
            test.ask(held, find, statistics.candidates)?;
        }
        let mut terms = self.words.iter_mut().flat_map(|word| &mut word.cursor.terms);
        Ok(terms.try_for_each(|term| term.postings.ask_list())?)
    }

    /// How many blocks were unpacked so far.
    pub fn blocks_unpacked(&self) -> u64 {
        let terms = self.words.iter().flat_map(|word| &word.cursor.terms);
        terms.map(|term| term.postings.blocks_unpacked()).sum()
    }
}
