//! Words of phrases and windows count only in records that match these. Where what words add at most lets too many records through, it is
//! found out window by window which records match what scores; then sums are scores.

use super::cursors::Cursors;
use super::matched::Matched;
use super::matching::{PhraseBits, windows};
use super::scan::Scan;
use super::windows::Pace;
use crate::search::find::Find;
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

/// The records of a run that match phrases that score.
pub(super) fn phrases(
    held: &mut Held,
    find: &Find,
    run: &Range<u32>,
    cursors: &mut Cursors<'_>,
) -> Step<PhraseBits> {
    let mut phrases = cursors.scoring_phrases();
    for window in windows(run) {
        find.go_on()?;
        cursors.fill_phrases(held, &window, &mut phrases)?;
    }
    held.complete()?;
    Ok(phrases)
}
