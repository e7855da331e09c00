//! Going through the records that match in another order than that of scores, window by window: by their keys, which is the order in which
//! they stand, or by a value, of which the index says what blocks of records have.

use super::cursors::Cursors;
use super::find::{Find, Order};
use super::plan::Node;
use super::top::Scored;
use super::walk::{Collect, offer};
use crate::bits::{Bits, each_in};
use crate::shelf::{Hand, Step, if_at_hand};
use std::ops::Range;

/// So many records are looked at together for which of them match.
const TOGETHER: u32 = 1 << 15;

/// Goes through the live records of a run that match, which `filler`, cursors of the same plan, finds out; gives how many were counted.
pub(super) fn in_order<'c>(
    hand: &mut Hand,
    cursors: &mut Cursors<'c>,
    filler: &mut Cursors<'c>,
    root: &Node,
    find: &Find,
    mut collect: Collect<'_>,
    run: Range<u32>,
) -> Step<u64> {
    let by_key = *find.wanted_order() == Order::Key;
    let (mut bits, mut counted, mut start) = (Bits::default(), 0, run.start);
    while start < run.end && !(by_key && collect.top.is_full() && counted >= collect.count) {
        find.go_on()?;
        let window = start..start.saturating_add(TOGETHER).min(run.end);
        start = window.end;
        bits.reset(window.len());
        if_at_hand(filler.fill(hand, root, &window, &mut bits))?;
        if let Some(mask) = &cursors.standing.mask {
            bits.take_out_part(mask.bits(), window.start as usize);
        }
        counted += bits.count();
        if by_key {
            let all = 0..window.end - window.start;
            each_in(bits.words().iter().copied(), &all, |place| {
                if !collect.top.is_full() {
                    collect.top.offer(Scored { ordinal: window.start + place, ..Scored::default() });
                }
            });
        } else {
            by_value(hand, cursors, &mut collect, &window, &bits)?;
        }
    }
    hand.complete()?;
    Ok(counted)
}

/// Offers the records of a window that match, block by block of the values, as far as these may come to the front.
fn by_value(
    hand: &mut Hand,
    cursors: &mut Cursors<'_>,
    collect: &mut Collect<'_>,
    window: &Range<u32>,
    bits: &Bits,
) -> Step<()> {
    let mut here = Vec::new();
    let mut at = window.start;
    while at < window.end {
        let Some(by) = &mut collect.by else { break };
        let per_block = by.column.per_block();
        let block = at / per_block;
        let end = (block + 1).saturating_mul(per_block).min(window.end);
        let places = at - window.start..end - window.start;
        at = end;
        if if_at_hand(by.can_come_to_front(hand, block, collect.top.worst()))? == Some(false) {
            continue;
        }
        here.clear();
        each_in(bits.words_of(&places).iter().copied(), &places, |place| here.push(window.start + place));
        for &ordinal in &here {
            offer(hand, cursors, collect, ordinal, false)?;
        }
    }
    Ok(())
}
