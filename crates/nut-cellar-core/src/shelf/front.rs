//! The postings of a list that score best, as far as their term alone decides: they come first whatever else there is, so a search for one
//! word need not look at others unless a filter leaves too few of them (lists like these are called champion lists: C. Manning, P. Raghavan,
//! H. Schütze, "Introduction to Information Retrieval", 2008, 7.1.3; here with a bound of what they leave out, so that nothing is lost).
//!
//! What always holds: a posting that is not among them has no greater tf~ than any that is, and of equal ones a greater ordinal.

use std::cmp::Ordering;

/// The records of a list with the greatest tf~.
#[derive(Debug)]
pub(crate) struct Front {
    /// Each tf~, the greatest first, with where its records end.
    classes: Box<[(f32, u32)]>,
    /// The records, by their tf~ and then ascending.
    ordinals: Box<[u32]>,
    left_out: LeftOut,
}

/// What is known of the records that are left out.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(crate) struct LeftOut {
    /// The greatest tf~, with the first record that has it.
    pub best: Option<(f32, u32)>,
    /// The greatest tf~ below that.
    pub next: Option<f32>,
}

impl LeftOut {
    fn take(&mut self, frequency: f32, ordinal: u32) {
        let Some((best, first)) = &mut self.best else {
            self.best = Some((frequency, ordinal));
            return;
        };
        match frequency.total_cmp(best) {
            Ordering::Equal => *first = ordinal.min(*first),
            Ordering::Less => self.next = Some(self.next.map_or(frequency, |next| next.max(frequency))),
            Ordering::Greater => {
                self.next = Some(*best);
                (*best, *first) = (frequency, ordinal);
            }
        }
    }
}

impl Front {
    /// How many records there are.
    pub fn len(&self) -> usize {
        self.ordinals.len()
    }

    /// The bytes that they take.
    pub fn bytes(&self) -> usize {
        size_of_val(&*self.ordinals) + size_of_val(&*self.classes)
    }

    /// Each tf~ with its records: tf~ descend, and the records of each ascend.
    pub fn classes(&self) -> impl Iterator<Item = (f32, &[u32])> {
        self.classes.iter().scan(0_usize, |start, &(frequency, end)| {
            let records = &self.ordinals[*start..end as usize];
            *start = end as usize;
            Some((frequency, records))
        })
    }

    /// What is known of the others.
    pub fn left_out(&self) -> LeftOut {
        self.left_out
    }
}

/// Picks the best of the postings that it is given.
#[derive(Debug)]
pub(crate) struct FrontPicker {
    most: usize,
    /// Those that are among the best so far, and others. The lesser, the nearer to the front.
    picked: Vec<u64>,
    /// The last of the best, once there are so many.
    last: u64,
    left_out: LeftOut,
}

impl FrontPicker {
    /// Of so many at most.
    pub fn new(most: usize) -> Self {
        Self { most, picked: Vec::with_capacity(2 * most), last: u64::MAX, left_out: LeftOut::default() }
    }

    /// Takes a posting; a tf~ is not negative.
    pub fn take(&mut self, ordinal: u32, frequency: f32) {
        // The bits of such numbers are in their order.
        let place = u64::from(!frequency.to_bits()) << 32 | u64::from(ordinal);
        if place > self.last {
            self.left_out.take(frequency, ordinal);
            return;
        }
        self.picked.push(place);
        if self.picked.len() == 2 * self.most {
            self.leave_out();
        }
    }

    /// Leaves out all but the best.
    fn leave_out(&mut self) {
        if self.picked.len() > self.most {
            self.last = *self.picked.select_nth_unstable(self.most - 1).1;
            for place in self.picked.drain(self.most..) {
                let (frequency, ordinal) = posting(place);
                self.left_out.take(frequency, ordinal);
            }
        }
    }

    pub fn finish(mut self) -> Front {
        self.leave_out();
        self.picked.sort_unstable();
        let (mut classes, mut ordinals) = (Vec::<(f32, u32)>::new(), Vec::with_capacity(self.picked.len()));
        for (place, picked) in (1..).zip(self.picked) {
            let (frequency, ordinal) = posting(picked);
            ordinals.push(ordinal);
            match classes.last_mut().filter(|(known, _)| known.total_cmp(&frequency).is_eq()) {
                Some((_, end)) => *end += 1,
                None => classes.push((frequency, place)),
            }
        }
        Front { classes: classes.into(), ordinals: ordinals.into(), left_out: self.left_out }
    }
}

#[expect(clippy::cast_possible_truncation, reason = "the lower half is the ordinal")]
fn posting(place: u64) -> (f32, u32) {
    (f32::from_bits(!((place >> 32) as u32)), place as u32)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn the_best_are_those_of_a_sorted_list_and_the_others_are_bounded(
            frequencies in prop::collection::vec(0_u8..6, 0..60),
            most in 1_usize..20,
        ) {
            let mut all: Vec<_> = (0_u32..).zip(frequencies).map(|(ordinal, f)| (f32::from(f) / 3.0, ordinal)).collect();
            let mut picker = FrontPicker::new(most);
            for &(frequency, ordinal) in &all {
                picker.take(ordinal, frequency);
            }
            let front = picker.finish();
            all.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(&b.1)));
            let others = all.split_off(most.min(all.len()));
            let each = front.classes().flat_map(|(frequency, records)| records.iter().map(move |record| (frequency, *record)));
            prop_assert!(each.eq(all.iter().copied()));
            prop_assert_eq!(front.len(), all.len());
            prop_assert!(front.classes().map(|(frequency, _)| frequency).is_sorted_by(|a, b| a > b));
            let best = others.first().copied();
            let next = others.iter().map(|other| other.0).find(|other| best.is_some_and(|best| *other < best.0));
            prop_assert_eq!(front.left_out(), LeftOut { best, next });
        }
    }
}
