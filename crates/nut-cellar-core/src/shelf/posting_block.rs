//! A block of postings, but for its rest: the gaps between the ordinals, and the shapes.
//!
//! Of fewer than 8 postings, gap and shape stand in one varint: gap · (kinds + 1) + shape, where kinds is the number of
//! kinds of shapes, at least 2; a shape that is as large or larger is given by the number of kinds, and follows less that.

use super::pack;
use super::shapes::Shapes;
use crate::wire::{Broken, Reader, put_varint};

/// The shapes that a short block tells by one number with the gap.
fn told(kinds: Shapes) -> u32 {
    kinds.kinds().max(2)
}

/// Appends a block.
pub(super) fn put_block(out: &mut Vec<u8>, kinds: Shapes, gaps: &[u32], shapes: &[u32]) {
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
pub(super) fn get_block(
    from: &mut Reader<'_>,
    kinds: Shapes,
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
