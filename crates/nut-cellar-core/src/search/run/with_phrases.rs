//! Words of phrases and windows count only in records that match these. Where what words add at most lets too many records through, it is
//! found out window by window which records match what scores; then sums are scores.

use super::matched::Matched;
use super::matching::PhraseBits;
use super::scan::Scan;
use super::windows::Pace;
use crate::shelf::{Held, Step};
use std::ops::Range;

impl Scan<'_, '_> {
    /// Scores every posting of a run, and what it scores in phrases and windows.
    pub(super) fn with_phrases(
        &mut self,
        held: &mut Held,
        run: &Range<u32>,
        phrases: PhraseBits,
    ) -> Step<()> {
        self.matched = Some(Matched::new(self.cursors, phrases));
        (self.exact, self.most_rough) = (true, u64::MAX);
        self.open_lists();
        self.windows(held, run, Pace::Every).map(|_| ())
    }
}
