//! The best k of a stream of records, in memory for k.

use std::cmp::{Ordering, Reverse};
use std::collections::BinaryHeap;

/// A record and what it is ordered by; greater is nearer to the front: that it has a value, the value (turned round where the
/// least comes first), the score, and then the lower ordinal.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(in crate::search) struct Scored {
    pub valued: bool,
    pub front: u64,
    pub score: f32,
    pub ordinal: u32,
}

impl Scored {
    /// A record that is ordered by its score.
    pub fn by_score(score: f32, ordinal: u32) -> Self {
        Self { score, ordinal, ..Self::default() }
    }
}

impl Eq for Scored {}

impl Ord for Scored {
    fn cmp(&self, other: &Self) -> Ordering {
        (self.valued, self.front)
            .cmp(&(other.valued, other.front))
            .then(self.score.total_cmp(&other.score))
            .then(other.ordinal.cmp(&self.ordinal))
    }
}

impl PartialOrd for Scored {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

/// Keeps the best k of those that come after a place, if there is one.
#[derive(Clone)]
pub(super) struct Top {
    k: usize,
    after: Option<Scored>,
    /// Others have k records with this score already: what is below can't be among the best of all.
    floor: f32,
    worst_first: BinaryHeap<Reverse<Scored>>,
}

impl Top {
    /// None so far. `after` is the first that does not count any more: those that count are less.
    pub fn new(k: usize, after: Option<Scored>, floor: Option<f32>) -> Self {
        Self { k, after, floor: floor.unwrap_or(f32::NEG_INFINITY), worst_first: BinaryHeap::new() }
    }

    pub fn offer(&mut self, scored: Scored) {
        if self.after.is_some_and(|after| scored >= after) {
            return;
        }
        if self.worst_first.len() < self.k {
            self.worst_first.push(Reverse(scored));
        } else if let Some(mut worst) = self.worst_first.peek_mut()
            && scored > worst.0
        {
            worst.0 = scored;
        }
    }

    /// The score up to which no record counts any more that is ordered by its score and comes after all that were offered.
    pub fn threshold(&self) -> f32 {
        if self.k == 0 {
            return f32::INFINITY;
        }
        let worst = self.worst_first.peek().filter(|_| self.worst_first.len() == self.k);
        // What has the score of the floor may still count.
        worst.map_or(f32::NEG_INFINITY, |worst| worst.0.score).max(self.floor.next_down())
    }

    /// Whether a score that k records reach, whichever, may serve as floor.
    pub fn can_raise(&self) -> bool {
        self.after.is_none() && self.k > 0
    }

    /// As many, of nothing so far.
    pub fn like(&self) -> Self {
        Self::new(self.k, None, None)
    }

    /// Says that k records have this score at least.
    pub fn raise_floor(&mut self, score: f32) {
        self.floor = self.floor.max(score);
    }

    /// Whether k records are there.
    pub fn is_full(&self) -> bool {
        self.worst_first.len() >= self.k
    }

    /// The one of the k that is furthest from the front, once there are so many.
    pub fn worst(&self) -> Option<Scored> {
        self.worst_first.peek().filter(|_| self.is_full()).map(|worst| worst.0)
    }

    /// The best, best first.
    pub fn into_sorted(self) -> Vec<Scored> {
        self.worst_first.into_sorted_vec().into_iter().map(|Reverse(scored)| scored).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn the_best_are_those_of_a_sorted_list(
            scores in prop::collection::vec((0_u8..6, any::<bool>(), 0_u64..3), 0..40),
            k in 0_usize..12,
            after in prop::option::of((0_u8..6, 0_u32..40)),
        ) {
            let after = after.map(|(score, ordinal)| Scored::by_score(score.into(), ordinal));
            let mut top = Top::new(k, after, None);
            let mut all: Vec<_> = (0..)
                .zip(scores)
                .map(|(ordinal, (score, valued, front))| Scored { valued, front, score: score.into(), ordinal })
                .collect();
            for scored in &all {
                top.offer(*scored);
            }
            all.retain(|scored| after.is_none_or(|after| *scored < after));
            all.sort_unstable_by(|a, b| b.cmp(a));
            all.truncate(k);
            prop_assert_eq!(top.worst(), all.get(k.wrapping_sub(1)).copied());
            prop_assert_eq!(top.into_sorted(), all);
        }
    }
}
