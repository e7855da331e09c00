//! The records that match are known: only they are scored.

use super::scan::{BETWEEN_STOPS, Scan};
use super::top::Scored;
use crate::bits::Bits;
use crate::shelf::{Hand, Step, if_at_hand};
use std::ops::Range;

impl Scan<'_, '_> {
    /// Scores the records of a run that match, which are live.
    pub(super) fn of_matches(&mut self, hand: &mut Hand, run: &Range<u32>, matches: &Bits) -> Step<()> {
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
            let (_, total) = self.go_to(hand, ordinal)?;
            let threshold = self.top.threshold();
            if self.cursors.with_slack(total) <= threshold {
                continue;
            }
            let score = if self.exact {
                self.score_of(hand, ordinal, threshold)?
            } else {
                self.scored += 1;
                if_at_hand(self.cursors.score(hand, ordinal))?
            };
            if let Some(score) = score {
                self.top.offer(Scored::by_score(score, ordinal));
            }
        }
        Ok(())
    }
}
