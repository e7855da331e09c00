//! What the records of a window score, added up term by term.

use crate::bits::each_bit;
use crate::shelf::Step;

/// Sums of what the records of a window score; 0 where nothing was added.
#[derive(Default)]
pub(super) struct Sums {
    sums: Vec<f32>,
    /// As bits, to which of them something was added.
    there: Vec<u64>,
}

/// So many sums have their bits in one word.
pub(super) const RUN: usize = 64;
/// So few of a run are looked at one by one, and not all of them at once.
const FEW_OF_RUN: u32 = 8;

impl Sums {
    /// Makes room for a window of so many records.
    pub fn for_window(&mut self, size: usize) -> &mut Self {
        let runs = size.div_ceil(RUN);
        if self.there.len() < runs {
            self.sums.resize(runs * RUN, 0.0);
            self.there.resize(runs, 0);
        }
        self
    }

    #[inline]
    pub fn add(&mut self, place: usize, part: f32) {
        self.sums[place] += part;
        self.there[place / RUN] |= 1 << (place % RUN);
    }

    /// Adds what `part` makes of the sums of another window of the same size, and of their places; it is empty then.
    pub fn add_all(&mut self, other: &mut Self, part: impl Fn(usize, f32) -> f32) {
        for (run, bits) in other.there.iter_mut().enumerate().filter(|(_, bits)| **bits != 0) {
            self.there[run] |= std::mem::take(bits);
            let start = run * RUN;
            let sums = self.sums[start..start + RUN].iter_mut().zip(&mut other.sums[start..start + RUN]);
            // All of a run at once, without a branch on which are there.
            for (place, (sum, other)) in (start..).zip(sums) {
                *sum += part(place, std::mem::take(other));
            }
        }
    }

    /// Gives `take` the records whose sum is above a threshold, ascending, and forgets all. It tells the threshold from then on.
    /// Gives the number of records that something was added to.
    pub fn drain(&mut self, mut above: f32, mut take: impl FnMut(u32, f32) -> Step<f32>) -> Step<u64> {
        let (mut count, mut result) = (0, Ok(()));
        for (run, bits) in self.there.iter_mut().enumerate().filter(|(_, bits)| **bits != 0) {
            let (bits, start) = (std::mem::take(bits), run * RUN);
            let (sums, are) = (&mut self.sums[start..start + RUN], bits.count_ones());
            count += u64::from(are);
            let is_above = |sum: f32, above: f32| above < 0.0 || sum > above;
            if are > FEW_OF_RUN && !sums.iter().fold(false, |any, sum| any | is_above(*sum, above)) {
                sums.fill(0.0);
                continue;
            }
            for place in each_bit(bits) {
                let sum = std::mem::take(&mut sums[place]);
                if result.is_ok() && is_above(sum, above) {
                    let taken = take(u32::try_from(start + place).unwrap_or(u32::MAX), sum);
                    result = taken.map(|threshold| above = threshold);
                }
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
