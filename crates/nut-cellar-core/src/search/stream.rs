//! One term of a word in one shelf, block by block: what each posting adds to a score, and what bounds that.
//!
//! What a posting adds is reckoned for a whole block, with the operations of [`Formula`] in their order, so that it has the
//! very bits that scoring its record alone gives.
//!
//! What always holds: no posting of a block adds more than the bound of the block.
//!
//! [`Formula`]: crate::rank::Formula

use super::cursors::Cursors;
use super::group::{Measure, Member, frequency_here};
use crate::error::Result;
use crate::rank::ColumnFactor;
use crate::schema::ColumnSet;
use crate::shelf::{END, Hand, Postings, Step, if_at_hand, length_at};
use bytes::Bytes;
use std::ops::Range;
use std::rc::Rc;

/// The most postings in a block.
const BLOCK: usize = 128;
/// For each set of columns so many shapes are known by heart; the last stands for all others.
const SHAPES: usize = 32;

/// What a posting scores by that is in one column: x / (1 − b + b · length / avglen) with x = weight · tf. Below 0, x says
/// that the posting has to be looked at more closely.
#[derive(Clone, Copy)]
struct Direct {
    column: usize,
    x: f32,
    rest: f32,
    b: f32,
    average: f32,
}

impl Direct {
    const NOTHING: Self = Self { column: 0, x: 0.0, rest: 1.0, b: 0.0, average: 1.0 };
    const UNKNOWN: Self = Self { x: -1.0, ..Self::NOTHING };
}

/// For each column the bits of a length, and all lengths, if they are at hand.
type Lengths = Rc<[(usize, Bytes)]>;

/// What the streams of a search have in common.
pub(super) struct Common {
    lengths: Lengths,
    /// For each set of columns in which a term may count what its postings score by.
    tables: Vec<(ColumnSet, Rc<[Direct; SHAPES]>)>,
}

impl Common {
    pub fn new(cursors: &Cursors<'_>) -> Self {
        let whole = cursors.lengths.iter().map(|column| match column.whole() {
            Some((all, width)) => (width.into(), all.clone()),
            None => (0, Bytes::new()),
        });
        Self { lengths: whole.collect(), tables: Vec::new() }
    }

    fn table(
        &mut self,
        cursors: &Cursors<'_>,
        postings: &Postings,
        columns: ColumnSet,
    ) -> Rc<[Direct; SHAPES]> {
        if let Some((_, table)) = self.tables.iter().find(|(known, _)| *known == columns) {
            return Rc::clone(table);
        }
        let kinds = postings.kinds();
        let mut table = [Direct::UNKNOWN; SHAPES];
        for (shape, direct) in (0..).zip(table.iter_mut().take(SHAPES - 1)) {
            let Some((column, tf)) = kinds.alone(shape) else { continue };
            if !columns.has(column) {
                *direct = Direct::NOTHING;
            } else if cursors.lengths[column].whole().is_some() {
                let ColumnFactor { weight, b, average_length } = cursors.ranking.formula.columns()[column];
                let x = weight * tf as f32;
                // 0 ÷ 0 is nothing here.
                *direct = if x > 0.0 {
                    Direct { column, x, rest: 1.0 - b, b, average: average_length }
                } else {
                    Direct::NOTHING
                };
            }
        }
        let table = Rc::new(table);
        self.tables.push((columns, Rc::clone(&table)));
        table
    }
}

/// One term of a word, with its own place in its list, apart from the cursors that match.
pub(super) struct Stream {
    /// The place of the word in the plan.
    pub word: usize,
    pub postings: Postings,
    likeness: f32,
    columns: ColumnSet,
    /// idf · (k1 + 1), k1, and how often the word was typed.
    factor: f32,
    k1: f32,
    times: f32,
    table: Rc<[Direct; SHAPES]>,
    lengths: Lengths,
    /// The block in which it is, the ordinal up to which that holds, and what the block adds at most. Past the end there is no
    /// such block, and it adds nothing.
    pub block: usize,
    pub last: u32,
    pub bound: f32,
    /// For each block what it adds at most, once that was asked; less than 0 before.
    bounds: Vec<f32>,
    /// What each posting of a block adds, and which block.
    parts: Vec<f32>,
    reckoned: Option<usize>,
}

impl Stream {
    pub fn new(cursors: &Cursors<'_>, common: &mut Common, word: usize, member: &Member) -> Self {
        let formula = cursors.ranking.formula;
        Self {
            word,
            likeness: member.likeness,
            columns: member.columns,
            factor: cursors.ranking.idf[word] * (formula.k1() + 1.0),
            k1: formula.k1(),
            times: cursors.most_times()[word] as f32,
            table: common.table(cursors, &member.postings, member.columns),
            lengths: Rc::clone(&common.lengths),
            block: 0,
            last: 0,
            bound: 0.0,
            bounds: vec![-1.0; member.postings.blocks()],
            parts: Vec::new(),
            reckoned: None,
            postings: member.postings.clone(),
        }
    }

    /// What tf~ of its group adds to a score.
    pub fn part(&self, frequency: f32) -> f32 {
        if frequency > 0.0 { self.factor / (1.0 + self.k1 / frequency) * self.times } else { 0.0 }
    }

    /// Goes on to the block with the first posting from a record on.
    #[inline]
    pub fn go_to(&mut self, hand: &mut Hand, cursors: &mut Cursors<'_>, ordinal: u32) -> Step<()> {
        if self.last < ordinal {
            self.enter_range(hand, cursors, ordinal)?;
        }
        Ok(())
    }

    /// Begins at a record, wherever it was.
    pub fn begin(&mut self, hand: &mut Hand, cursors: &mut Cursors<'_>, ordinal: u32) -> Step<()> {
        self.block = 0;
        self.enter_range(hand, cursors, ordinal)
    }

    fn enter_range(&mut self, hand: &mut Hand, cursors: &mut Cursors<'_>, ordinal: u32) -> Step<()> {
        self.block = self.postings.block_with(self.block, ordinal);
        if self.block < self.postings.blocks() {
            self.bound = self.bound_of(hand, cursors, self.block)?;
            self.last = match (self.postings.blocks(), self.postings.unpacked().last()) {
                // No table says where it ends.
                (1, Some(last)) => *last,
                _ => self.postings.last_of(self.block),
            };
        }
        if self.block >= self.postings.blocks() || self.last < ordinal {
            (self.block, self.last, self.bound) = (self.postings.blocks(), END, 0.0);
        }
        Ok(())
    }

    /// What a posting of a block adds at most.
    pub fn bound_of(&mut self, hand: &mut Hand, cursors: &mut Cursors<'_>, block: usize) -> Step<f32> {
        if self.bounds[block] >= 0.0 {
            return Ok(self.bounds[block]);
        }
        let formula = cursors.ranking.formula;
        let share = |column, tf, length| formula.frequency(column, tf, length);
        let bound = match self.postings.most_in(block, self.columns, share)? {
            Some(most) => self.part(most * self.likeness),
            // The only block says it itself.
            None => match if_at_hand(self.reckon(hand, cursors, block))? {
                Some(()) => self.parts.iter().copied().fold(0.0, f32::max),
                None => return Ok(f32::INFINITY),
            },
        };
        self.bounds[block] = bound;
        Ok(bound)
    }

    /// The bounds of all blocks.
    pub fn all_bounds(&mut self, hand: &mut Hand, cursors: &mut Cursors<'_>) -> Step<&[f32]> {
        for block in 0..self.bounds.len() {
            self.bound_of(hand, cursors, block)?;
        }
        Ok(&self.bounds)
    }

    /// Unpacks a block, and reckons what each of its postings adds.
    pub fn reckon(&mut self, hand: &mut Hand, cursors: &mut Cursors<'_>, block: usize) -> Step<()> {
        self.unpack(block)?;
        if self.reckoned == Some(block) {
            return Ok(());
        }
        self.reckoned = None;
        let (ordinals, shapes) = (self.postings.unpacked(), self.postings.unpacked_shapes());
        let (mut xs, mut rests) = ([0.0_f32; BLOCK], [1.0_f32; BLOCK]);
        let (mut bs, mut averages, mut lengths) = ([0.0_f32; BLOCK], [1.0_f32; BLOCK], [0.0_f32; BLOCK]);
        let count = ordinals.len().min(shapes.len()).min(BLOCK);
        for place in 0..count {
            let Direct { column, x, rest, b, average } = self.table[(shapes[place] as usize).min(SHAPES - 1)];
            let (width, bytes) = &self.lengths[column];
            (xs[place], rests[place], bs[place], averages[place]) = (x, rest, b, average);
            lengths[place] = length_in(bytes, ordinals[place] as usize * width, *width) as f32;
        }
        self.parts.clear();
        self.parts.resize(count, 0.0);
        let (likeness, factor, k1, times) = (self.likeness, self.factor, self.k1, self.times);
        let mut signs = 0;
        for (place, part) in self.parts.iter_mut().enumerate() {
            let frequency =
                xs[place] / (rests[place] + bs[place] * lengths[place] / averages[place]) * likeness;
            let full = factor / (1.0 + k1 / frequency) * times;
            *part = if frequency > 0.0 { full } else { frequency };
            signs |= part.to_bits();
        }
        if f32::from_bits(signs).is_sign_negative() {
            for place in 0..count {
                if self.parts[place] < 0.0 {
                    self.parts[place] = if_at_hand(self.part_at(hand, cursors, place))?.unwrap_or(0.0);
                }
            }
            hand.complete()?;
        }
        self.reckoned = Some(block);
        Ok(())
    }

    /// What the postings of the block add that was reckoned.
    pub fn parts(&self) -> &[f32] {
        &self.parts
    }

    /// Unpacks a block.
    pub fn unpack(&mut self, block: usize) -> Result<()> {
        if self.postings.unpacked_block() != Some(block) {
            self.reckoned = None;
            self.postings.enter(block)?;
        }
        Ok(())
    }

    /// Which postings of the block that is unpacked lie in a window.
    pub fn places(&self, window: &Range<u32>) -> Range<usize> {
        let ordinals = self.postings.unpacked();
        let first = ordinals.partition_point(|ordinal| *ordinal < window.start);
        let end = first + ordinals[first..].partition_point(|ordinal| *ordinal < window.end);
        first..end
    }

    /// tf~ of a posting of the block that is unpacked, times its likeness.
    pub fn frequency_at(&mut self, hand: &mut Hand, cursors: &mut Cursors<'_>, place: usize) -> Step<f32> {
        self.postings.stand(place);
        let mut measure = Measure { formula: cursors.ranking.formula, lengths: &mut cursors.lengths, hand };
        Ok(frequency_here(&mut self.postings, self.columns, &mut measure)? * self.likeness)
    }

    /// What a posting of the block that is unpacked adds.
    pub fn part_at(&mut self, hand: &mut Hand, cursors: &mut Cursors<'_>, place: usize) -> Step<f32> {
        let frequency = self.frequency_at(hand, cursors, place)?;
        Ok(self.part(frequency))
    }
}

/// The length of so many bits at a bit.
#[inline]
fn length_in(bytes: &[u8], bit: usize, width: usize) -> u32 {
    match bytes.get(bit / 8..).and_then(|rest| rest.first_chunk()) {
        Some(whole) => {
            let bits = u64::from_le_bytes(*whole) >> (bit % 8) & ((1 << width) - 1);
            u32::try_from(bits).unwrap_or(u32::MAX)
        }
        None => {
            length_at(bytes.get(bit / 8..).unwrap_or_default(), bit % 8, u8::try_from(width).unwrap_or(32))
        }
    }
}
