//! A block of postings, but for its rest: the gaps between the ordinals, and the shapes.
//!
//! Of fewer than 8 postings, gap and shape stand in one varint: gap · (kinds + 1) + shape, where kinds is the number of
//! kinds of shapes, at least 2; a shape that is as large or larger is given by the number of kinds, and follows less that.

use crate::shelf::format::pack;
use crate::shelf::format::shapes::Shapes;
use crate::wire::{Broken, Reader, put_varint};

/// The shapes that a short block tells by one number with the gap.
fn told(kinds: &Shapes) -> u32 {
    kinds.kinds().max(2)
}

/// Appends a block.
pub(in crate::shelf) fn put_block(out: &mut Vec<u8>, kinds: &Shapes, gaps: &[u32], shapes: &[u32]) {
    if gaps.len() >= pack::SHORTEST {
        pack::put(out, gaps);
        return pack::put(out, shapes);
    }
    let told = told(kinds);
    for (&gap, &shape) in gaps.iter().zip(shapes) {
        put_varint(out, u64::from(gap) * u64::from(told + 1) + u64::from(shape.min(told)));
        if shape >= told {
            put_varint(out, u64::from(shape - told));
        }
    }
}

/// Reads a block of so many postings.
pub(in crate::shelf) fn get_block(
    from: &mut Reader<'_>,
    kinds: &Shapes,
    count: usize,
    gaps: &mut Vec<u32>,
    shapes: &mut Vec<u32>,
) -> Result<(), Broken> {
    if count >= pack::SHORTEST {
        pack::get(from, count, gaps)?;
        return pack::get(from, count, shapes);
    }
    gaps.clear();
    shapes.clear();
    let told = told(kinds);
    for _ in 0..count {
        let both = from.varint()?;
        let gap = u32::try_from(both / u64::from(told + 1)).map_err(|_| Broken("the record of a posting"))?;
        let mut shape = u32::try_from(both % u64::from(told + 1)).unwrap_or(told);
        if shape == told {
            shape = from.varint_u32()?.checked_add(told).ok_or(Broken("a frequency"))?;
        }
        gaps.push(gap);
        shapes.push(shape);
    }
    Ok(())
}

/// Makes ordinals of the gaps between them, from `next` on; all of them have to be below `records`. Gaps and ordinals are added up in
/// fours, so that of each four only one addition waits for those before.
pub(in crate::shelf) fn add_up(gaps: &mut [u32], next: u32, records: u32) -> Result<(), Broken> {
    let (mut before, mut bits) = (next.wrapping_sub(1), 0);
    let mut fours = gaps.chunks_exact_mut(4);
    for four in &mut fours {
        let Ok(&mut [a, b, c, d]) = <&mut [u32; 4]>::try_from(&mut *four) else { unreachable!("fours") };
        bits |= a | b | c | d;
        let (ab, cd) = (a.wrapping_add(b).wrapping_add(2), c.wrapping_add(d).wrapping_add(2));
        let sums = [a.wrapping_add(1), ab, ab.wrapping_add(c).wrapping_add(1), ab.wrapping_add(cd)];
        four.copy_from_slice(&sums.map(|sum| before.wrapping_add(sum)));
        before = four[3];
    }
    for gap in fours.into_remainder() {
        bits |= *gap;
        before = before.wrapping_add(*gap).wrapping_add(1);
        *gap = before;
    }
    // So few numbers that are so small can't have wrapped; others have ascended then.
    let is_small = bits >> 24 == 0 && next >> 31 == 0 && gaps.len() <= pack::LONGEST;
    let ascends = || gaps.first().is_none_or(|first| *first >= next) && gaps.is_sorted_by(|a, b| a < b);
    if gaps.last().is_some_and(|last| *last < records) && (is_small || ascends()) {
        Ok(())
    } else {
        Err(Broken("the record of a posting"))
    }
}
