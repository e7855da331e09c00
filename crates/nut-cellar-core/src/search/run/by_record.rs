//! Going through the records of a shelf one by one, by what has to match: where that is rare, or every match has to be seen.

use super::cursors::Cursors;
use super::top::{Scored, Top};
use crate::search::find::Find;
use crate::search::plan::Node;
use crate::search::settings::Order;
use crate::shelf::{Held, Step, ValueColumn, if_held};
use std::ops::Range;

/// Between two questions whether to stop so many records are looked at.
const BETWEEN_STOPS: u64 = 256;

/// What is wanted of the matches.
pub(super) struct Collect<'t> {
    pub top: &'t mut Top,
    /// So many matches have to be counted at least; those that can't come to the front are passed over from then on.
    pub count: u64,
    /// The column that they are ordered by.
    pub by: Option<ByValue>,
}

/// The column by which hits are ordered.
pub(super) struct ByValue {
    pub column: ValueColumn,
    pub down: bool,
}

impl ByValue {
    /// What a record is ordered by.
    fn of(&mut self, held: &mut Held, ordinal: u32) -> Step<(bool, u64)> {
        let values = self.column.of(held, ordinal)?;
        let front = if self.down { values.last().copied() } else { values.first().map(|value| !value) };
        Ok((front.is_some(), front.unwrap_or(0)))
    }

    /// Whether a record of a block may come before the one that is furthest from the front.
    pub fn can_come_to_front(&mut self, held: &mut Held, block: u32, worst: Option<Scored>) -> Step<bool> {
        let Some(worst) = worst else { return Ok(true) };
        let ((low, high), _) = self.column.block_span(held, block)?;
        let best = if low > high { (false, 0) } else { (true, if self.down { high } else { !low }) };
        Ok(best >= (worst.valued, worst.front))
    }
}

/// Goes through the live records of a run that match; gives how many were counted.
pub(super) fn by_record(
    held: &mut Held,
    cursors: &mut Cursors<'_>,
    root: &Node,
    find: &Find,
    mut collect: Collect<'_>,
    run: Range<u32>,
) -> Step<u64> {
    let (mut counted, mut seen) = (0, 0_u64);
    let by_score = *find.wanted_order() == Order::Score;
    let by_key = *find.wanted_order() == Order::Key;
    let mut at = run.start;
    while let Some(next) = if_held(cursors.next(held, root, at))?.filter(|next| *next < run.end) {
        seen += 1;
        if seen.is_multiple_of(BETWEEN_STOPS) {
            find.go_on()?;
        }
        at = next + 1;
        let enough = counted >= collect.count;
        // Once k records are there, only those come to the front that have a word which scores.
        let are_scored = by_score && collect.top.threshold() >= 0.0;
        let scoring = if are_scored { cursors.next_scoring(next)? } else { next };
        let can_score = scoring == next;
        if !can_score && enough {
            at = scoring;
            continue;
        }
        if by_key && enough && collect.top.is_full() {
            break;
        }
        if !cursors.standing.removed(next) && cursors.matches(held, root, next)? {
            counted += 1;
            if can_score {
                offer(held, cursors, &mut collect, next, by_key)?;
            }
        }
    }
    held.complete()?;
    Ok(counted)
}

/// Offers a record that matches.
pub(super) fn offer(
    held: &mut Held,
    cursors: &mut Cursors<'_>,
    collect: &mut Collect<'_>,
    ordinal: u32,
    by_key: bool,
) -> Step<()> {
    let mut scored = Scored { ordinal, ..Scored::default() };
    if by_key {
        collect.top.offer(scored);
        return Ok(());
    }
    if let Some(by) = &mut collect.by {
        let Some((valued, front)) = if_held(by.of(held, ordinal))? else { return Ok(()) };
        (scored.valued, scored.front) = (valued, front);
        // Scores decide only between equal values.
        let worst = collect.top.worst();
        if worst.is_some_and(|worst| (valued, front) < (worst.valued, worst.front)) {
            return Ok(());
        }
    }
    // Going on where a length is missing, so that all that are missing are noted at once.
    if let Some(score) = if_held(cursors.score(held, ordinal))? {
        scored.score = score;
        collect.top.offer(scored);
    }
    Ok(())
}
