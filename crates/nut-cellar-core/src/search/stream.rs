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
use crate::rank::{ColumnFactor, Formula};
use crate::schema::ColumnSet;
use crate::shelf::{END, Hand, LONG, LengthColumn, Most, Postings, SideBySide, Step, if_at_hand};
use crate::wire::Reader;
use std::ops::Range;
use std::rc::Rc;
use std::sync::Arc;

/// Of a list of so many blocks it is worked out beforehand what a posting adds, by its shape and for lengths below [`LONG`]: of the
/// shapes of a term that occurs once or twice, and of one more for so many blocks.
const MANY_BLOCKS: usize = 4;
const FIRST_SHAPES: u32 = 2;
const BLOCKS_PER_ROW: usize = 128;
const MOST_ROWS: u32 = 31;
const LENGTHS: usize = LONG as usize + 1;
/// Stands for what was not worked out beforehand.
const UNKNOWN: f32 = -1.0;

/// What makes a part of a score of a tf~.
#[derive(Clone, Copy)]
pub(super) struct Scale {
    /// idf · (k1 + 1), k1, and how often the word was typed.
    factor: f32,
    k1: f32,
    times: f32,
    /// Whether parts are tf~, times likeness, because the word has other terms whose tf~ comes first on top.
    in_frequencies: bool,
}

impl Scale {
    /// That of a word in the plan.
    pub fn of(cursors: &Cursors<'_>, word: usize, in_frequencies: bool) -> Self {
        let formula = cursors.ranking.formula;
        Self {
            factor: cursors.ranking.idf[word] * (formula.k1() + 1.0),
            k1: formula.k1(),
            times: cursors.most_times()[word] as f32,
            in_frequencies,
        }
    }

    pub fn part(self, frequency: f32) -> f32 {
        self.part_of(frequency, self.times)
    }

    /// What it adds in a record where the word counts so often.
    pub fn part_of(self, frequency: f32, times: f32) -> f32 {
        if frequency > 0.0 { self.factor / (1.0 + self.k1 / frequency) * times } else { 0.0 }
    }

    /// What stands for tf~ in `parts`.
    fn measured(self, frequency: f32) -> f32 {
        if self.in_frequencies { frequency } else { self.part(frequency) }
    }

    fn least_frequency(self, part: f32) -> f32 {
        let most = self.part(f32::INFINITY);
        if part >= most {
            return f32::INFINITY;
        }
        if part <= 0.0 {
            return part;
        }
        let frequency = self.k1 / (most / part - 1.0);
        // Near the most that it adds, a little less is a much smaller tf~.
        let slack = 16.0 * f32::EPSILON * (1.0 + frequency / self.k1);
        if slack < 1.0 { frequency * (1.0 - slack) } else { 0.0 }
    }
}

/// What postings are measured by.
struct Measured<'a> {
    lengths: Option<&'a SideBySide>,
    divisors: &'a [[f32; LENGTHS]],
    formula: &'a Formula,
}

impl Measured<'_> {
    /// A column's share of tf~.
    #[inline]
    fn share(
        &self,
        column: usize,
        tf: u32,
        ordinal: u32,
        lengths: &mut [LengthColumn],
        hand: &mut Hand,
    ) -> Step<f32> {
        let length = self.lengths.map_or(LONG, |lengths| lengths.get(ordinal, column));
        if length < LONG {
            let x = self.formula.columns()[column].weight * tf as f32;
            return Ok(x / self.divisors[column][usize::from(length)]);
        }
        // Going on where a length is missing, so that all that are missing are noted at once.
        let length = if_at_hand(lengths[column].get(hand, ordinal))?.unwrap_or(0);
        Ok(self.formula.frequency(column, tf, length))
    }
}

/// Where stands what postings of some shape add, for each length of the column that they are in.
#[derive(Clone, Copy)]
struct Row {
    column: u32,
    start: u32,
}

/// What the streams of a search have in common.
pub(super) struct Common {
    /// The lengths of all columns, if they are side by side.
    lengths: Option<Arc<SideBySide>>,
    /// The bits of the factors by which tf~ is worked out.
    factors: Vec<u32>,
    /// For each column by what weight · tf is divided, for each length.
    divisors: Rc<[[f32; LENGTHS]]>,
}

impl Common {
    pub fn new(cursors: &Cursors<'_>) -> Self {
        let formula = cursors.ranking.formula;
        let lengths = cursors.standing.shelf.side_by_side().cloned();
        let divisors = lengths.iter().flat_map(|lengths| {
            formula.columns().iter().enumerate().map(|(column, factor)| {
                let &ColumnFactor { b, average_length, .. } = factor;
                let mut divisors = [0.0; LENGTHS];
                let known = divisors.iter_mut().zip(0..=lengths.longest(column));
                for (divisor, length) in known {
                    *divisor = 1.0 - b + b * f32::from(length) / average_length;
                }
                divisors
            })
        });
        let divisors = divisors.collect();
        Self { lengths, factors: formula.factor_bits(), divisors }
    }

    /// Whether the lengths of all columns are at hand, but for the longest.
    pub fn has_lengths(&self) -> bool {
        self.lengths.is_some()
    }
}

/// One term of a word, with its own place in its list, apart from the cursors that match.
pub(super) struct Stream {
    /// The place of the word in the plan.
    pub word: usize,
    pub postings: Postings,
    likeness: f32,
    columns: ColumnSet,
    scale: Scale,
    lengths: Option<Arc<SideBySide>>,
    divisors: Rc<[[f32; LENGTHS]]>,
    /// The block in which it is, and the ordinal up to which that holds. Past the end there is no such block.
    pub block: usize,
    pub last: u32,
    /// What postings of the first shapes add, and where that stands; the last row is that of all other shapes.
    worked_out: Vec<f32>,
    rows: Vec<Row>,
    /// For each block what it adds at most, once that was asked; less than 0 before. And its greatest tf~, as far as others have asked.
    bounds: Vec<f32>,
    most: Option<Arc<Most>>,
    /// So many postings of the block that is unpacked lie before the end of the last window.
    gone: usize,
    /// What each posting of a block adds, and which block.
    parts: Vec<f32>,
    reckoned: Option<usize>,
    /// How often a posting is in each of its columns; reused.
    tf: Vec<u32>,
}

impl Stream {
    pub fn new(
        cursors: &Cursors<'_>,
        common: &Common,
        word: usize,
        member: &Member,
        in_frequencies: bool,
    ) -> Self {
        let formula = cursors.ranking.formula;
        let mut stream = Self {
            word,
            likeness: member.likeness,
            columns: member.columns,
            scale: Scale::of(cursors, word, in_frequencies),
            lengths: common.lengths.clone(),
            divisors: Rc::clone(&common.divisors),
            block: 0,
            last: 0,
            worked_out: Vec::new(),
            rows: Vec::new(),
            bounds: vec![UNKNOWN; member.postings.blocks()],
            most: None,
            gone: 0,
            parts: Vec::new(),
            reckoned: None,
            tf: Vec::new(),
            postings: member.postings.clone(),
        };
        if stream.postings.blocks() >= MANY_BLOCKS {
            stream.most = Some(member.postings.most(member.columns, &common.factors));
            if let Some(lengths) = &common.lengths {
                stream.work_out(lengths, formula.columns());
            }
        }
        stream
    }

    /// Whether parts are tf~, times likeness: what their sum adds is what [`part`](Self::part) tells.
    pub fn is_in_frequencies(&self) -> bool {
        self.scale.in_frequencies
    }

    /// What tf~ of its group adds to a score.
    pub fn part(&self, frequency: f32) -> f32 {
        self.scale.part(frequency)
    }

    /// What makes of a tf~ what it adds.
    pub fn scale(&self) -> Scale {
        self.scale
    }

    /// A tf~ below which none adds more than this.
    pub fn least_frequency(&self, part: f32) -> f32 {
        self.scale.least_frequency(part)
    }

    /// Goes on to the block with the first posting from a record on.
    #[inline]
    pub fn go_to(&mut self, ordinal: u32) -> Result<()> {
        if self.last < ordinal { self.find_block(ordinal) } else { Ok(()) }
    }

    /// Begins at a record, wherever it was.
    pub fn begin(&mut self, ordinal: u32) -> Result<()> {
        self.block = 0;
        self.find_block(ordinal)
    }

    fn find_block(&mut self, ordinal: u32) -> Result<()> {
        self.block = self.postings.block_with(self.block, ordinal);
        self.last = self.postings.last_of(self.block);
        if self.block == 0 && self.postings.blocks() == 1 {
            // No table says where it ends.
            self.unpack(0)?;
            self.last = self.postings.unpacked().last().copied().unwrap_or(0);
        }
        if self.block >= self.postings.blocks() || self.last < ordinal {
            (self.block, self.last) = (self.postings.blocks(), END);
        }
        Ok(())
    }

    /// Whether it is past its last posting.
    pub fn is_past(&self) -> bool {
        self.block >= self.postings.blocks()
    }

    /// What a posting of the block in which it is adds at most; nothing past the end.
    #[inline]
    pub fn bound(&mut self, hand: &mut Hand, cursors: &mut Cursors<'_>) -> Step<f32> {
        match self.bounds.get(self.block) {
            Some(bound) if *bound >= 0.0 => Ok(*bound),
            Some(_) => self.bound_of(hand, cursors, self.block),
            None => Ok(0.0),
        }
    }

    /// What a posting of a block adds at most.
    pub fn bound_of(&mut self, hand: &mut Hand, cursors: &mut Cursors<'_>, block: usize) -> Step<f32> {
        if self.bounds[block] >= 0.0 {
            return Ok(self.bounds[block]);
        }
        let known = self.most.as_ref().and_then(|most| most.get(block));
        let formula = cursors.ranking.formula;
        let share = |column, tf, length| formula.frequency(column, tf, length);
        let most = match known {
            None => self.postings.most_in(block, self.columns, share)?,
            known => known,
        };
        let bound = if let Some(most) = most {
            if let (Some(all), None) = (&self.most, known) {
                all.put(block, most);
            }
            self.part(most * self.likeness)
        } else {
            // The only block says it itself.
            self.reckon(hand, cursors, block)?;
            if hand.complete().is_err() {
                return Ok(f32::INFINITY);
            }
            let most = self.parts.iter().copied().fold(0.0, f32::max);
            if self.scale.in_frequencies { self.part(most) } else { most }
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

    /// Unpacks a block, and reckons what each of its postings adds; where something is not at hand that is noted.
    pub fn reckon(&mut self, hand: &mut Hand, cursors: &mut Cursors<'_>, block: usize) -> Step<()> {
        self.unpack(block)?;
        if self.reckoned == Some(block) {
            return Ok(());
        }
        self.reckoned = None;
        self.postings.unpack_shapes()?;
        self.parts.clear();
        if let (Some(lengths), Some(last)) = (&self.lengths, self.rows.len().checked_sub(1)) {
            let each = self.postings.unpacked().iter().zip(self.postings.unpacked_shapes());
            let (lengths, rows, worked_out) = (&**lengths, &self.rows[..], &self.worked_out[..]);
            self.parts.extend(each.map(|(ordinal, shape)| {
                let Row { column, start } = rows[last.min(*shape as usize)];
                let length = u32::from(lengths.get(*ordinal, column as usize));
                worked_out[(start + length) as usize]
            }));
        } else {
            self.parts.resize(self.postings.unpacked().len(), UNKNOWN);
        }
        if self.parts.iter().any(|part| *part < 0.0) {
            self.reckon_others(hand, cursors)?;
        }
        self.reckoned = Some(block);
        Ok(())
    }

    /// Reckons what those postings of the block add for which that was not worked out beforehand: among them all that are in
    /// several columns.
    fn reckon_others(&mut self, hand: &mut Hand, cursors: &mut Cursors<'_>) -> Step<()> {
        let kinds = self.postings.kinds();
        let mut rest = Reader::new(self.postings.rest());
        let formula = cursors.ranking.formula;
        let measured = Measured { lengths: self.lengths.as_deref(), divisors: &self.divisors, formula };
        let mut share = |column, tf, ordinal| measured.share(column, tf, ordinal, &mut cursors.lengths, hand);
        let each = self.postings.unpacked().iter().zip(self.postings.unpacked_shapes());
        for ((&ordinal, &shape), part) in each.zip(&mut self.parts).filter(|(_, part)| **part < 0.0) {
            let mut frequency = 0.0;
            if let Some((column, tf)) = kinds.alone(shape) {
                if self.columns.has(column) {
                    frequency = share(column, tf, ordinal)?;
                }
            } else {
                let there = kinds.get(shape, &mut rest, &mut self.tf);
                let there = there.map_err(|what| self.postings.broken(what))?;
                for (column, &tf) in
                    there.iter().zip(&self.tf).filter(|(column, _)| self.columns.has(*column))
                {
                    frequency += share(column, tf, ordinal)?;
                }
            }
            *part = self.scale.measured(frequency * self.likeness);
        }
        Ok(())
    }

    /// Works out what postings add that are in one column.
    fn work_out(&mut self, lengths: &SideBySide, factors: &[ColumnFactor]) {
        let kinds = self.postings.kinds();
        let more = u32::try_from(self.postings.blocks() / BLOCKS_PER_ROW).unwrap_or(MOST_ROWS);
        let shapes = (FIRST_SHAPES * kinds.kinds() + more).min(MOST_ROWS);
        let first = (0..shapes).map(|shape| kinds.alone(shape));
        for alone in first.chain([None]) {
            let column = alone.map_or(0, |(column, _)| column);
            let start = u32::try_from(self.worked_out.len()).unwrap_or(0);
            self.rows.push(Row { column: u32::try_from(column).unwrap_or(0), start });
            let x = match alone {
                Some((column, tf)) if self.columns.has(column) => factors[column].weight * tf as f32,
                _ => 0.0,
            };
            for length in 0..=lengths.longest(column) {
                // 0 ÷ 0 is nothing here.
                let frequency = if x > 0.0 { x / self.divisors[column][usize::from(length)] } else { 0.0 };
                let part = self.scale.measured(frequency * self.likeness);
                self.worked_out.push(if alone.is_some() && length < LONG { part } else { UNKNOWN });
            }
        }
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

    /// Which postings of the block that is unpacked lie in a window; most windows begin where the one before ended.
    pub fn places(&mut self, window: &Range<u32>) -> Range<usize> {
        let ordinals = self.postings.unpacked();
        let before = |place: usize| ordinals.get(place).is_some_and(|ordinal| *ordinal < window.start);
        let goes_on =
            self.gone <= ordinals.len() && !before(self.gone) && (self.gone == 0 || before(self.gone - 1));
        let first =
            if goes_on { self.gone } else { ordinals.partition_point(|ordinal| *ordinal < window.start) };
        let end = match ordinals.last() {
            Some(last) if *last < window.end => ordinals.len(),
            _ => first + ordinals[first..].partition_point(|ordinal| *ordinal < window.end),
        };
        self.gone = end;
        first..end
    }

    /// What a posting of the block that is unpacked adds.
    pub fn part_at(&mut self, hand: &mut Hand, cursors: &mut Cursors<'_>, place: usize) -> Step<f32> {
        if self.reckoned.is_some() {
            return Ok(self.parts[place]);
        }
        if let (Some(lengths), Some(last)) = (&self.lengths, self.rows.len().checked_sub(1)) {
            self.postings.unpack_shapes()?;
            let Row { column, start } = self.rows[last.min(self.postings.unpacked_shapes()[place] as usize)];
            let length = u32::from(lengths.get(self.postings.unpacked()[place], column as usize));
            let part = self.worked_out[(start + length) as usize];
            if part >= 0.0 {
                return Ok(part);
            }
        }
        let frequency = self.frequency_at(hand, cursors, place)?;
        Ok(self.scale.measured(frequency))
    }

    /// What the posting of a record adds that lies in the block at hand; none if the record does not have the term.
    pub fn part_of(&mut self, hand: &mut Hand, cursors: &mut Cursors<'_>, ordinal: u32) -> Step<Option<f32>> {
        let Some(dense) = self.postings.dense() else {
            self.unpack(self.block)?;
            let Ok(place) = self.postings.unpacked().binary_search(&ordinal) else { return Ok(None) };
            return self.part_at(hand, cursors, place).map(Some);
        };
        let Some(place) = dense.place_of(ordinal) else { return Ok(None) };
        if let (Some(lengths), Some(last), Some(shape)) =
            (&self.lengths, self.rows.len().checked_sub(1), dense.shape(place))
        {
            let Row { column, start } = self.rows[last.min(shape as usize)];
            let length = u32::from(lengths.get(ordinal, column as usize));
            let part = self.worked_out[(start + length) as usize];
            if part >= 0.0 {
                return Ok(Some(part));
            }
            if let Some(columns) = self.postings.kinds().once_in_each(shape) {
                let measured = Measured {
                    lengths: self.lengths.as_deref(),
                    divisors: &self.divisors,
                    formula: cursors.ranking.formula,
                };
                let mut frequency = 0.0;
                for column in columns.both(self.columns).iter() {
                    frequency += measured.share(column, 1, ordinal, &mut cursors.lengths, hand)?;
                }
                return Ok(Some(self.scale.measured(frequency * self.likeness)));
            }
        }
        let per_block = cursors.standing.shelf.block();
        self.unpack(place / per_block)?;
        self.part_at(hand, cursors, place % per_block).map(Some)
    }

    /// What the postings of some records add, all of which have the term; its list is unpacked.
    pub fn parts_of(
        &mut self,
        hand: &mut Hand,
        cursors: &mut Cursors<'_>,
        ordinals: &[u32],
        parts: &mut Vec<f32>,
    ) -> Step<()> {
        parts.clear();
        let dense = self.postings.dense();
        if let (Some(dense), Some(lengths), Some(last)) =
            (dense, &self.lengths, self.rows.len().checked_sub(1))
        {
            // Without branches, so that a record need not wait for what is read of the one before.
            parts.extend(ordinals.iter().map(|ordinal| {
                let shape = dense.shape_of(*ordinal);
                let Row { column, start } = self.rows[last.min(usize::from(shape))];
                let length = u32::from(lengths.get(*ordinal, column as usize));
                self.worked_out[(start + length) as usize]
            }));
        } else {
            parts.resize(ordinals.len(), UNKNOWN);
        }
        for (ordinal, part) in ordinals.iter().zip(parts).filter(|(_, part)| **part < 0.0) {
            // Going on where something is missing, so that all that is missing is noted at once.
            *part = if_at_hand(self.part_of(hand, cursors, *ordinal))?.flatten().unwrap_or(0.0);
        }
        hand.complete()
    }

    /// tf~ of a posting of the block that is unpacked, times its likeness.
    pub fn frequency_at(&mut self, hand: &mut Hand, cursors: &mut Cursors<'_>, place: usize) -> Step<f32> {
        self.postings.unpack_shapes()?;
        let formula = cursors.ranking.formula;
        if let Some((column, tf)) = self.postings.kinds().alone(self.postings.unpacked_shapes()[place]) {
            if !self.columns.has(column) {
                return Ok(0.0);
            }
            let measured = Measured { lengths: self.lengths.as_deref(), divisors: &self.divisors, formula };
            let ordinal = self.postings.unpacked()[place];
            let share = measured.share(column, tf, ordinal, &mut cursors.lengths, hand);
            return share.map(|share| share * self.likeness);
        }
        self.postings.stand(place);
        let mut measure = Measure { formula, lengths: &mut cursors.lengths, hand };
        Ok(frequency_here(&mut self.postings, self.columns, &mut measure)? * self.likeness)
    }
}
