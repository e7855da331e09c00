//! The records that match are known, and few: only they are scored.

use super::{BETWEEN_STOPS, Sum, Windows};
use crate::bits::Bits;
use crate::search::find::Find;
use crate::search::top::Scored;
use crate::shelf::{Hand, Step, if_at_hand};
use std::ops::Range;

impl Windows<'_, '_> {
    /// Scores the records of a run that match, which are live.
    pub(super) fn by_given(
        &mut self,
        hand: &mut Hand,
        find: &Find,
        run: &Range<u32>,
        matching: &Bits,
    ) -> Step<()> {
        for stream in &mut self.streams {
            stream.begin(run.start)?;
        }
        let (terms, adds_up) = ((0..self.streams.len()).collect::<Vec<_>>(), self.adds_up());
        let (mut at, mut until_stop) = (run.start, 0);
        while let Some(ordinal) = matching.next(at as usize).and_then(|next| u32::try_from(next).ok())
            && ordinal < run.end
        {
            at = ordinal + 1;
            if until_stop == 0 {
                find.go_on()?;
                until_stop = BETWEEN_STOPS;
            }
            until_stop -= 1;
            let mut bound = 0.0;
            for (stream, of_stream) in self.streams.iter_mut().zip(&mut self.bounds) {
                stream.go_to(ordinal)?;
                *of_stream = stream.bound(hand, self.cursors)?;
                bound += *of_stream;
            }
            let threshold = self.top.threshold();
            if self.cursors.with_slack(bound) <= threshold {
                continue;
            }
            let score = if adds_up {
                self.sum_of(hand, &terms, ordinal, (bound, 0.0), threshold)?
            } else if self.words_decide {
                self.scored += 1;
                match self.score(hand, ordinal)? {
                    Sum::Exact(score) => Some(score),
                    Sum::Rough => None,
                }
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
