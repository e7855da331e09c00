//! The best k of a stream of scored records, in memory for k.

use std::cmp::Ordering;
use std::collections::BinaryHeap;

/// A scored record; greater is better: a higher score, then a lower ordinal.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Scored {
    pub score: f32,
    pub ordinal: u32,
}

impl Eq for Scored {}

impl Ord for Scored {
    fn cmp(&self, other: &Self) -> Ordering {
        self.score.total_cmp(&other.score).then(other.ordinal.cmp(&self.ordinal))
    }
}

impl PartialOrd for Scored {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

/// Keeps the best k.
pub(super) struct Top {
    k: usize,
    worst_first: BinaryHeap<std::cmp::Reverse<Scored>>,
}

impl Top {
    pub fn new(k: usize) -> Self {
        Self { k, worst_first: BinaryHeap::new() }
    }

    pub fn offer(&mut self, scored: Scored) {
        if self.worst_first.len() < self.k {
            self.worst_first.push(std::cmp::Reverse(scored));
        } else if let Some(mut worst) = self.worst_first.peek_mut()
            && scored > worst.0
        {
            worst.0 = scored;
        }
    }

    /// The best, best first.
    pub fn into_sorted(self) -> Vec<Scored> {
        self.worst_first.into_sorted_vec().into_iter().map(|std::cmp::Reverse(scored)| scored).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn the_best_are_those_of_a_sorted_list(scores in prop::collection::vec(0_u8..6, 0..40), k in 0_usize..12) {
            let mut top = Top::new(k);
            let mut all: Vec<_> = (0..).zip(scores).map(|(ordinal, score)| Scored { score: score.into(), ordinal }).collect();
            for scored in &all {
                top.offer(*scored);
            }
            all.sort_by(|a, b| b.cmp(a));
            all.truncate(k);
            prop_assert_eq!(top.into_sorted(), all);
        }
    }
}
