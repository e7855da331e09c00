//! What the records of a window score, added up term by term.

use crate::shelf::Step;

/// Sums of what the records of a window score. One that nothing was added to is the negative zero.
#[derive(Default)]
pub(super) struct Sums {
    sums: Vec<f32>,
    /// In which lines there are any.
    there: Vec<u64>,
}

const NOTHING: f32 = -0.0;
/// So many sums are looked at together.
pub(super) const LINE: usize = 16;

impl Sums {
    /// Makes room for a window of so many records.
    pub fn for_window(&mut self, size: usize) -> &mut Self {
        let lines = size.div_ceil(LINE);
        if self.there.len() < lines.div_ceil(64) {
            self.sums.resize(lines.next_multiple_of(64) * LINE, NOTHING);
            self.there.resize(lines.div_ceil(64), 0);
        }
        self
    }

    #[inline]
    pub fn add(&mut self, place: usize, part: f32) {
        self.sums[place] += part;
        self.there[place / LINE / 64] |= 1 << (place / LINE % 64);
    }

    /// Adds parts to sums; their places ascend.
    pub fn add_each(&mut self, parts: impl Iterator<Item = (usize, f32)>) {
        // Lines are noted in a register, as far as they lie in one word: one note would wait for the other.
        let (mut word, mut lines) = (0, 0);
        for (place, part) in parts {
            self.sums[place] += part;
            let line = place / LINE;
            if line / 64 != word {
                self.there[word] |= lines;
                (word, lines) = (line / 64, 0);
            }
            lines |= 1 << (line % 64);
        }
        self.there[word] |= lines;
    }

    /// Adds what `part` makes of the sums of another window of the same size, and of their places; it is empty then.
    pub fn add_all(&mut self, other: &mut Self, part: impl Fn(usize, f32) -> f32) {
        for (word, lines) in other.there.iter_mut().enumerate() {
            let mut lines = std::mem::take(lines);
            self.there[word] |= lines;
            while lines != 0 {
                let start = (word * 64 + lines.trailing_zeros() as usize) * LINE;
                lines &= lines - 1;
                let sums =
                    self.sums[start..start + LINE].iter_mut().zip(&mut other.sums[start..start + LINE]);
                // All of a line at once, without a branch on which are there.
                for (place, (sum, other)) in (start..).zip(sums) {
                    let more = *sum + part(place, *other);
                    *sum = if other.is_sign_positive() { more } else { *sum };
                    *other = NOTHING;
                }
            }
        }
    }

    /// Gives `take` the records whose sum is above a threshold, ascending, and forgets all. It tells the threshold from then on.
    /// Gives the number of records that something was added to.
    pub fn drain(&mut self, mut above: f32, mut take: impl FnMut(u32, f32) -> Step<f32>) -> Step<u64> {
        // If nothing has to be beaten, all that something was added to.
        let wanted = |sum: f32, above: f32| if above < 0.0 { sum.is_sign_positive() } else { sum > above };
        let (mut count, mut result) = (0, Ok(()));
        for (word, lines) in self.there.iter_mut().enumerate() {
            let mut lines = std::mem::take(lines);
            while lines != 0 {
                let start = (word * 64 + lines.trailing_zeros() as usize) * LINE;
                lines &= lines - 1;
                let sums = &mut self.sums[start..start + LINE];
                let none: u32 = sums.iter().map(|sum| sum.to_bits() >> 31).sum();
                count += LINE as u64 - u64::from(none);
                if sums.iter().fold(false, |any, sum| any | wanted(*sum, above)) {
                    for (place, sum) in (start..).zip(sums.iter()) {
                        if result.is_ok() && wanted(*sum, above) {
                            let taken = take(u32::try_from(place).unwrap_or(u32::MAX), *sum);
                            result = taken.map(|threshold| above = threshold);
                        }
                    }
                }
                sums.fill(NOTHING);
            }
        }
        result.map(|()| count)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeMap;

    proptest! {
        /// Window after window, sums are those of a plain map: all of them, or those above a threshold.
        #[test]
        fn sums_are_those_of_a_map(
            windows in prop::collection::vec(
                (prop::collection::vec((0_u16..1_500, 0_u8..4), 0..40), prop::option::of(0_u8..6), any::<bool>()),
                1..4,
            ),
        ) {
            let (mut sums, mut of_word) = (Sums::default(), Sums::default());
            sums.for_window(1_500);
            of_word.for_window(1_500);
            for (parts, above, apart) in windows {
                let mut expected = BTreeMap::<u32, f32>::new();
                for &(place, part) in &parts {
                    *expected.entry(place.into()).or_default() += f32::from(part);
                    if apart { &mut of_word } else { &mut sums }.add(place.into(), part.into());
                }
                if apart {
                    sums.add_all(&mut of_word, |_, sum| sum * 2.0);
                    for sum in expected.values_mut() {
                        *sum *= 2.0;
                    }
                }
                let above = above.map_or(f32::NEG_INFINITY, f32::from);
                let mut drained = Vec::new();
                let result = sums.drain(above, |place, sum| { drained.push((place, sum)); Ok(above) });
                prop_assert_eq!(result.unwrap(), expected.len() as u64);
                prop_assert!(drained.into_iter().eq(expected.into_iter().filter(|(_, sum)| *sum > above)));
                prop_assert!(sums.there.iter().all(|lines| *lines == 0));
            }
        }
    }
}
