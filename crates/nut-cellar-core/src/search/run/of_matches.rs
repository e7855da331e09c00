//! Only records that match are scored: they are known, or found out window by window.

use super::scan::{BETWEEN_STOPS, Scan};
use super::top::Scored;
use crate::shelf::{Held, Step, if_held};
use std::ops::Range;

impl Scan<'_, '_> {
    /// Scores the records of a run that match, which are live, as far as they may come to the front.
    pub(super) fn of_matches(&mut self, held: &mut Held, run: &Range<u32>) -> Step<()> {
        let Some(mut matches) = self.allowed.take() else { return Ok(()) };
        self.begin(run.start)?;
        let (mut at, mut until_stop) = (run.start, 0);
        while let Some(ordinal) = matches.next(held, at)?.filter(|ordinal| *ordinal < run.end) {
            at = ordinal + 1;
            if until_stop == 0 {
                self.find.go_on()?;
                until_stop = BETWEEN_STOPS;
            }
            until_stop -= 1;
            let (last, total) = self.go_to(held, ordinal)?;
            let threshold = self.top.threshold();
            if self.cursors.with_slack(total) <= threshold {
                at = last.saturating_add(1);
                continue;
            }
            let score = if self.exact {
                self.score_of(held, ordinal, threshold)?
            } else {
                self.scored += 1;
                if_held(self.cursors.score(held, ordinal))?
            };
            if let Some(score) = score {
                self.top.offer(Scored::by_score(score, ordinal));
            }
        }
        Ok(())
    }
}
