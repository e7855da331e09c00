//! How near the bounds of blocks come to the scores that they bound.

use super::find::Find;
use super::plan::prepared::formula;
use crate::catalog::Snapshot;
use crate::error::Result;
use crate::rank::Formula;
use crate::schema::ColumnSet;
use crate::shelf::{Bounds, Reading, Walk};
use crate::store::View;

/// How near bounds come, over all blocks of all lists that have several.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
#[non_exhaustive]
pub struct Tightness {
    /// Blocks.
    pub blocks: u64,
    /// The mean of bound ÷ best score of the block; 1 is as near as can be.
    pub mean: f64,
    /// The greatest.
    pub most: f64,
}

/// Compares each bound with the best score of its block, for the columns, weights, k1 and b of a search. Reads all postings;
/// a yardstick.
///
/// # Errors
/// [`BadRequest`](crate::ErrorKind::BadRequest) if `find` asks for what can't be; or if the place can't be read.
pub fn tightness(view: &dyn View, snapshot: &Snapshot, find: &Find) -> Result<Tightness> {
    let (formula, columns) =
        (formula(snapshot, &find.ranked_by(snapshot.schema()))?, find.searched(snapshot.schema())?);
    let (mut blocks, mut sum, mut most) = (0_u64, 0.0, 0.0_f64);
    for standing in snapshot.standing() {
        let shelf = &standing.shelf;
        let mut reading = Reading::new(view, shelf);
        let lengths =
            (0..shelf.columns()).map(|column| reading.lengths(column)).collect::<Result<Vec<_>>>()?;
        let mut walk = Walk::terms(view, shelf)?;
        while let Some((_, entry)) = walk.next()? {
            if entry.records as usize <= shelf.block() {
                continue;
            }
            let mut postings = reading.read(|shelf, hand| shelf.postings(hand, &entry))?;
            let bounds = postings.bounds().collect::<Result<Vec<_>>>()?;
            let mut more = postings.advance()?;
            for (last, bound) in &bounds {
                let mut best = 0.0_f32;
                while more && postings.ordinal() <= *last {
                    postings.read()?;
                    let ordinal = postings.ordinal() as usize;
                    let shares = postings.frequencies().filter(|(column, _)| columns.has(*column));
                    let share =
                        |(column, tf): (usize, u32)| formula.frequency(column, tf, lengths[column][ordinal]);
                    best = best.max(formula.part(1.0, shares.map(share).sum()));
                    more = postings.advance()?;
                }
                if best > 0.0 {
                    let ratio = f64::from(part_bound(&formula, bound, columns)) / f64::from(best);
                    (blocks, sum, most) = (blocks + 1, sum + ratio, most.max(ratio));
                }
            }
        }
    }
    Ok(Tightness { blocks, mean: if blocks == 0 { 1.0 } else { sum / blocks as f64 }, most })
}

/// What a term with an idf of 1 can bring to a record of a block at most.
fn part_bound(formula: &Formula, bounds: &Bounds, columns: ColumnSet) -> f32 {
    formula.part(1.0, bounds.most(columns, |column, tf, length| formula.frequency(column, tf, length)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::{Batch, Opened};
    use crate::record::Record;
    use crate::schema::{Column, Schema};
    use crate::store::Memory;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig { cases: 40, ..ProptestConfig::default() })]

        /// No bound is below a score, whatever the weights, k1 and b.
        #[test]
        fn bounds_bound_whatever_the_weights(
            texts in prop::collection::vec(("(oak |elm |box ){0,9}", "(oak |ash ){0,5}"), 20..200),
            weights in prop::array::uniform2(prop_oneof![Just(0.0_f32), Just(1.0), 0.1_f32..9.0]),
            (k1, b) in (0.0_f32..3.0, 0.0_f32..=1.0),
        ) {
            let schema = Schema::new("id").with("title", Column::text("none")).with("notes", Column::text("none"));
            let (place, opened) = (Memory::new(), Opened::new());
            let mut unit = place.unit();
            let mut batch = Batch::new(&mut unit, &opened, &schema).unwrap();
            batch.set_block(4);
            for (key, (title, notes)) in (0_i64..).zip(texts) {
                batch.put(&Record::new(key).with("title", title).with("notes", notes)).unwrap();
            }
            batch.publish().unwrap();
            unit.commit().unwrap();
            let view = place.view();
            let snapshot = Snapshot::open(&view, &opened).unwrap();
            let find = Find::new().weight("title", weights[0]).weight("notes", weights[1]).k1(k1).b(b);
            let both = tightness(&view, &snapshot, &find).unwrap();
            prop_assert!(both.blocks == 0 || (both.mean >= 1.0 && both.most >= both.mean && both.most.is_finite()), "{:?}", both);
            // One column and few pairs: nothing is given away.
            let one = tightness(&view, &snapshot, &find.columns(["title"])).unwrap();
            prop_assert!((one.mean - 1.0).abs() < 1e-6, "{:?}", one);
        }
    }
}
