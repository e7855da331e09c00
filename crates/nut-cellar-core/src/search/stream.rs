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
use crate::shelf::{END, Hand, Most, Postings, Step, if_at_hand, length_at};
use bytes::Bytes;
use std::ops::Range;
use std::rc::Rc;
use std::sync::Arc;

/// For each set of columns so many shapes are known by heart; the last stands for all others.
const SHAPES: usize = 32;
/// Of a list of so many blocks it is worked out beforehand what a posting adds, by shape and length: of so many shapes, which are
/// those of a term that occurs once or twice, and for so many lengths.
const MANY_BLOCKS: usize = 4;
const FIRST_SHAPES: usize = 2;
const LENGTHS: usize = 256;
/// Stands for what was not worked out beforehand.
const UNKNOWN: f32 = -1.0;

/// What a posting scores by that is in one column: x / (1 − b + b · length / avglen) with x = weight · tf. Below 0, x says
/// that the posting has to be looked at more closely.
#[derive(Clone, Copy)]
struct Direct {
    x: f32,
    rest: f32,
    b: f32,
    average: f32,
}

impl Direct {
    const NOTHING: Self = Self { x: 0.0, rest: 1.0, b: 0.0, average: 1.0 };
    const UNKNOWN: Self = Self { x: UNKNOWN, ..Self::NOTHING };

    /// tf~ of a posting in a column that is so long.
    fn frequency(self, length: u32) -> f32 {
        self.x / (self.rest + self.b * length as f32 / self.average)
    }
}

/// Where the length of a column stands that a posting scores by: at which bit that of the first record, in how many bits, and
/// these as a mask.
#[derive(Clone, Copy, Default)]
struct Place {
    first: usize,
    width: usize,
    mask: u32,
}

/// What postings score by, by their shapes.
#[derive(Clone, Copy)]
struct Table {
    places: [Place; SHAPES],
    direct: [Direct; SHAPES],
}

/// What the streams of a search have in common.
pub(super) struct Common {
    /// The lengths of all columns, if they are at hand.
    lengths: Option<Bytes>,
    /// The bits of the factors by which tf~ is worked out.
    factors: Vec<u32>,
    /// For each set of columns in which a term may count what its postings score by.
    tables: Vec<(ColumnSet, Rc<Table>)>,
}

impl Common {
    pub fn new(cursors: &Cursors<'_>) -> Self {
        Self {
            lengths: cursors.standing.shelf.all_lengths(),
            factors: cursors.ranking.formula.factor_bits(),
            tables: Vec::new(),
        }
    }

    fn table(&mut self, cursors: &Cursors<'_>, postings: &Postings, columns: ColumnSet) -> Rc<Table> {
        if let Some((_, table)) = self.tables.iter().find(|(known, _)| *known == columns) {
            return Rc::clone(table);
        }
        let kinds = postings.kinds();
        let mut table = Table { places: [Place::default(); SHAPES], direct: [Direct::UNKNOWN; SHAPES] };
        let each = table.direct.iter_mut().zip(&mut table.places).take(SHAPES - 1);
        for (shape, (direct, place)) in (0..).zip(each) {
            let Some((column, tf)) = kinds.alone(shape) else { continue };
            let ColumnFactor { weight, b, average_length } = cursors.ranking.formula.columns()[column];
            let x = weight * tf as f32;
            if !columns.has(column) || x <= 0.0 {
                // 0 ÷ 0 is nothing here.
                *direct = Direct::NOTHING;
            } else if self.lengths.is_some() {
                let (first, width) = cursors.standing.shelf.place_of_lengths(column);
                *place =
                    Place { first, width, mask: u32::try_from((1_u64 << width) - 1).unwrap_or(u32::MAX) };
                *direct = Direct { x, rest: 1.0 - b, b, average: average_length };
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
    /// Whether parts are tf~, times likeness, because the word has other terms whose tf~ comes first on top.
    in_frequencies: bool,
    table: Rc<Table>,
    lengths: Bytes,
    /// The block in which it is, and the ordinal up to which that holds. Past the end there is no such block.
    pub block: usize,
    pub last: u32,
    /// For some shapes what a posting of each length adds: where those of a shape begin, and the greatest length.
    worked_out: Vec<f32>,
    rows: [(u32, u32); SHAPES],
    /// For each block what it adds at most, once that was asked; less than 0 before. And its greatest tf~, as far as others have asked.
    bounds: Vec<f32>,
    most: Option<Arc<Most>>,
    /// So many postings of the block that is unpacked lie before the end of the last window.
    gone: usize,
    /// What each posting of a block adds, and which block.
    parts: Vec<f32>,
    reckoned: Option<usize>,
}

impl Stream {
    pub fn new(
        cursors: &Cursors<'_>,
        common: &mut Common,
        word: usize,
        member: &Member,
        in_frequencies: bool,
    ) -> Self {
        let formula = cursors.ranking.formula;
        let mut stream = Self {
            word,
            likeness: member.likeness,
            columns: member.columns,
            factor: cursors.ranking.idf[word] * (formula.k1() + 1.0),
            k1: formula.k1(),
            times: cursors.most_times()[word] as f32,
            in_frequencies,
            table: common.table(cursors, &member.postings, member.columns),
            lengths: common.lengths.clone().unwrap_or_default(),
            block: 0,
            last: 0,
            worked_out: Vec::new(),
            rows: [(0, 0); SHAPES],
            bounds: vec![UNKNOWN; member.postings.blocks()],
            most: None,
            gone: 0,
            parts: Vec::new(),
            reckoned: None,
            postings: member.postings.clone(),
        };
        if stream.postings.blocks() >= MANY_BLOCKS {
            stream.most = Some(member.postings.most(member.columns, &common.factors));
            stream.work_out();
        }
        stream
    }

    /// Whether parts are tf~, times likeness: what their sum adds is what [`part`](Self::part) tells.
    pub fn is_in_frequencies(&self) -> bool {
        self.in_frequencies
    }

    /// What stands for tf~ in `parts`.
    fn measured(&self, frequency: f32) -> f32 {
        if self.in_frequencies { frequency } else { self.part(frequency) }
    }

    /// What tf~ of its group adds to a score.
    pub fn part(&self, frequency: f32) -> f32 {
        if frequency > 0.0 { self.factor / (1.0 + self.k1 / frequency) * self.times } else { 0.0 }
    }

    /// A tf~ below which none adds more than this.
    pub fn least_frequency(&self, part: f32) -> f32 {
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
            if self.in_frequencies { self.part(most) } else { most }
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
        if self.postings.blocks() < MANY_BLOCKS {
            self.parts.resize(self.postings.unpacked().len(), UNKNOWN);
        } else {
            let mut parts = std::mem::take(&mut self.parts);
            let each = self.postings.unpacked().iter().zip(self.postings.unpacked_shapes());
            parts.extend(each.map(|(ordinal, shape)| self.look_up(*ordinal, *shape)));
            self.parts = parts;
        }
        for place in 0..self.parts.len() {
            if self.parts[place] < 0.0 {
                let frequency = if_at_hand(self.frequency_at(hand, cursors, place))?.unwrap_or(0.0);
                self.parts[place] = self.measured(frequency);
            }
        }
        self.reckoned = Some(block);
        Ok(())
    }

    /// What was worked out beforehand that a posting adds; less than 0 if it was not.
    #[inline]
    fn look_up(&self, ordinal: u32, shape: u32) -> f32 {
        let shape = (shape as usize).min(SHAPES - 1);
        let (Place { first, width, mask }, (start, longest)) = (self.table.places[shape], self.rows[shape]);
        let length = bits_at(&self.lengths, first + ordinal as usize * width) & mask;
        self.worked_out[(start + length.min(longest)) as usize]
    }

    /// Works out what postings add that are in one column.
    fn work_out(&mut self) {
        self.worked_out.push(UNKNOWN);
        let shapes = (FIRST_SHAPES * self.postings.kinds().kinds() as usize).min(SHAPES - 1);
        for shape in 0..shapes {
            let (direct, place) = (self.table.direct[shape], self.table.places[shape]);
            if direct.x < 0.0 {
                continue;
            }
            let start = u32::try_from(self.worked_out.len()).unwrap_or(0);
            let lengths = (place.mask as usize).min(LENGTHS - 1);
            for length in 0..=u32::try_from(lengths).unwrap_or(0) {
                let frequency = direct.frequency(length) * self.likeness;
                self.worked_out.push(self.measured(frequency));
            }
            if place.mask as usize > lengths
                && let Some(last) = self.worked_out.last_mut()
            {
                // It stands for all that are longer.
                *last = UNKNOWN;
            }
            self.rows[shape] = (start, u32::try_from(lengths).unwrap_or(0));
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
        if self.postings.blocks() >= MANY_BLOCKS {
            self.postings.unpack_shapes()?;
            let part = self.look_up(self.postings.unpacked()[place], self.postings.unpacked_shapes()[place]);
            if part >= 0.0 {
                return Ok(part);
            }
        }
        let frequency = self.frequency_at(hand, cursors, place)?;
        Ok(self.measured(frequency))
    }

    /// tf~ of a posting of the block that is unpacked, times its likeness.
    pub fn frequency_at(&mut self, hand: &mut Hand, cursors: &mut Cursors<'_>, place: usize) -> Step<f32> {
        self.postings.unpack_shapes()?;
        let shape = (self.postings.unpacked_shapes()[place] as usize).min(SHAPES - 1);
        let direct = self.table.direct[shape];
        if direct.x >= 0.0 {
            let Place { first, width, mask } = self.table.places[shape];
            let length =
                bits_at(&self.lengths, first + self.postings.unpacked()[place] as usize * width) & mask;
            return Ok(direct.frequency(length) * self.likeness);
        }
        self.postings.stand(place);
        let mut measure = Measure { formula: cursors.ranking.formula, lengths: &mut cursors.lengths, hand };
        Ok(frequency_here(&mut self.postings, self.columns, &mut measure)? * self.likeness)
    }
}

/// The 32 bits that begin at a bit.
#[inline]
fn bits_at(bytes: &[u8], bit: usize) -> u32 {
    let rest = bytes.get(bit / 8..).unwrap_or_default();
    match rest.first_chunk() {
        Some(whole) => {
            u32::try_from(u64::from_le_bytes(*whole) >> (bit % 8) & 0xffff_ffff).unwrap_or(u32::MAX)
        }
        None => length_at(rest, bit % 8, 32),
    }
}
