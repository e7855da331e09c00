//! Records that match come in another order than that of scores: by their keys, which is the order in which they stand, or by a value, of
//! which the index says what blocks of records have.

use super::by_record::{Collect, offer};
use super::cursors::Cursors;
use super::matching::Allowed;
use super::top::Scored;
use crate::bits::each_in;
use crate::search::find::Find;
use crate::shelf::{Held, Step, if_held};
use std::ops::Range;

/// Offers the records of a run that match, block by block of the values, as far as these may come to the front.
pub(super) fn in_order(
    held: &mut Held,
    cursors: &mut Cursors<'_>,
    mut matches: Allowed<'_>,
    find: &Find,
    mut collect: Collect<'_>,
    run: &Range<u32>,
) -> Step<()> {
    let (mut here, mut at) = (Vec::new(), run.start);
    while let Some(first) = matches.next(held, at)?.filter(|first| *first < run.end) {
        find.go_on()?;
        let Some(by) = &mut collect.by else {
            if collect.top.is_full() {
                break;
            }
            collect.top.offer(Scored { ordinal: first, ..Scored::default() });
            at = first + 1;
            continue;
        };
        let per_block = by.column.per_block();
        let block = first / per_block;
        let places = first..(block + 1).saturating_mul(per_block).min(run.end);
        at = places.end;
        if if_held(by.can_come_to_front(held, block, collect.top.worst()))? == Some(false) {
            continue;
        }
        here.clear();
        matches.look_at(held, &places)?;
        each_in(matches.records.words_of(&places).iter().copied(), &places, |ordinal| here.push(ordinal));
        for &ordinal in &here {
            offer(held, cursors, &mut collect, ordinal, false)?;
        }
    }
    held.complete()
}
