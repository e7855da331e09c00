//! The records that match are known: only they are scored.

use super::scan::{BETWEEN_STOPS, Scan};
use super::top::Scored;
use crate::bits::Bits;
use crate::shelf::{Held, Step, if_held};
use std::ops::Range;

impl Scan<'_, '_> {
    /// Scores the records of a run that match, which are live.
    pub(super) fn of_matches(&mut self, held: &mut Held, run: &Range<u32>, matches: &Bits) -> Step<()> {
        self.begin(run.start)?;
        let (mut at, mut until_stop) = (run.start, 0);
        while let Some(ordinal) = matches.next(at as usize).and_then(|next| u32::try_from(next).ok())
            && ordinal < run.end
        {
            at = ordinal + 1;
            if until_stop == 0 {
                self.find.go_on()?;
                until_stop = BETWEEN_STOPS;
            }
            until_stop -= 1;
            let (_, total) = self.go_to(held, ordinal)?;
            let threshold = self.top.threshold();
            if self.cursors.with_slack(total) <= threshold {
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
