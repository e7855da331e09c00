//! Where a term stands in many records, as numbers that sort: what most postings say in their shape alone is read without a branch,
//! which would be taken as often as not.

use super::directory::Section;
use super::positions::Positions;
use super::postings::{Frequencies, TakePostings};
use super::reader::Shelf;
use super::shapes::Shapes;
use crate::error::Result;
use crate::schema::ColumnSet;
use crate::wire::Broken;

/// Where a term stands: a number of the record in the highest bits, then the column, then the position.
pub(crate) type Place = u64;
/// Where the column begins, and where the record does.
pub(crate) const COLUMN: u32 = 32;
pub(crate) const RECORD: u32 = 38;

/// Of so many shapes, the smallest, it is known what they say of positions.
const SHAPES: usize = 16;

/// For each of the smallest shapes where the term stands.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Pairs {
    columns: ColumnSet,
    of: [Option<Pair>; SHAPES],
}

/// The one or two occurrences of a posting.
#[derive(Clone, Copy, Debug, Default)]
struct Pair {
    /// How many are in the columns that count, which of the two is the first of these, and their columns.
    count: usize,
    first: usize,
    columns: [u64; 2],
    /// All bits, if the second number counts from the first.
    follows: u64,
}

impl Pairs {
    /// For postings of a shelf, of which the occurrences in some columns count.
    pub fn new(shelf: &Shelf, columns: ColumnSet) -> Self {
        let kinds = Shapes::new(shelf.columns());
        let mut pairs = Self { columns, of: [None; SHAPES] };
        for (shape, pair) in (0..).zip(&mut pairs.of) {
            *pair = Pair::of(shape, kinds, columns);
        }
        pairs
    }
}

impl Pair {
    /// None if there are more, or if the shape does not tell.
    fn of(shape: u32, kinds: Shapes, counted: ColumnSet) -> Option<Self> {
        let (columns, follows) = match kinds.even(shape)? {
            (set, tf @ 1..=2) if set.0.is_power_of_two() => {
                (set.iter().flat_map(|column| vec![column; tf as usize]).collect::<Vec<_>>(), u64::MAX)
            }
            (set, 1) if set.0.count_ones() == 2 => (set.iter().collect(), 0),
            _ => return None,
        };
        let is_counted = |column: &usize| counted.has(*column);
        let first = columns.iter().position(is_counted).unwrap_or(0);
        let mut pair = Self { first, follows, ..Self::default() };
        for (place, column) in pair.columns.iter_mut().zip(columns.into_iter().filter(is_counted)) {
            *place = (column as u64) << COLUMN;
            pair.count += 1;
        }
        Some(pair)
    }
}

/// Takes postings of a term and appends where in the columns that count it stands, ascending.
pub(crate) struct Places<'p> {
    positions: &'p mut Positions,
    pairs: &'p Pairs,
    /// The record whose number is 0.
    start: u32,
    out: &'p mut Vec<Place>,
    /// Has a bit above those of a position if one was too large.
    too_large: u64,
}

impl<'p> Places<'p> {
    /// Appends to `out`; records are numbered from `start`.
    pub fn new(positions: &'p mut Positions, pairs: &'p Pairs, start: u32, out: &'p mut Vec<Place>) -> Self {
        Self { positions, pairs, start, out, too_large: 0 }
    }

    /// Ends it.
    ///
    /// # Errors
    /// If a position that was appended is none.
    pub fn finish(self) -> Result<()> {
        if self.too_large >> COLUMN == 0 {
            return Ok(());
        }
        Err(self.positions.shelf().broken(Section::Positions, Broken("a position")))
    }
}

impl TakePostings for Places<'_> {
    #[inline]
    fn take_shape(&mut self, ordinal: u32, shape: u32, first: u64) -> bool {
        let Some(Some(pair)) = self.pairs.of.get(shape as usize) else { return false };
        let Some([one, two]) = self.positions.at_hand(first) else { return false };
        let one = u64::from(one);
        let both = [one, u64::from(two) + (one & pair.follows)];
        let record = u64::from(ordinal - self.start) << RECORD;
        let [first, second] = pair.columns;
        self.out.extend_from_slice(&[record | first | both[pair.first], record | second | both[1]]);
        self.out.truncate(self.out.len() - 2 + pair.count);
        self.too_large |= both[1];
        true
    }

    fn take(&mut self, ordinal: u32, frequencies: Frequencies<'_>, first: u64) -> Result<()> {
        let record = u64::from(ordinal - self.start) << RECORD;
        let Self { positions, pairs, out, .. } = self;
        positions.of_posting(first, frequencies.iter(), pairs.columns, |column, position| {
            out.push(record | (column as u64) << COLUMN | u64::from(position));
        })
    }
}
