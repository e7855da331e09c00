//! The tokens of the records that are being gathered, in the order in which they come.
//!
//! A token takes four bytes: the number of its term. Its position is one more than that of the token before, in the same
//! column of the same record, unless a mark in front of it says which.

use std::ops::Range;

/// Positions in a column of a record are below this.
pub(crate) const POSITIONS: u32 = 1 << 26;
/// What is no number of a term but a position has this bit.
const MARK: u32 = 1 << 31;

/// Tokens by arrival and column.
#[derive(Debug)]
pub(in crate::shelf) struct TokenLog {
    columns: usize,
    entries: Vec<u32>,
    /// For each arrival, for each column, where its tokens end.
    ends: Vec<usize>,
    next_position: u32,
}

/// Where a token stands: record, column and position, which sort in this order.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub(in crate::shelf) struct TokenPlace(u64);

impl TokenPlace {
    pub fn new(record: u32, column: u8, position: u32) -> Self {
        Self(u64::from(record) << 32 | u64::from(column) << 26 | u64::from(position))
    }

    pub fn record(self) -> u32 {
        (self.0 >> 32) as u32
    }

    pub fn column(self) -> u8 {
        (self.0 >> 26 & 63) as u8
    }

    #[expect(clippy::cast_possible_truncation, reason = "26 bits")]
    pub fn position(self) -> u32 {
        self.0 as u32 & (POSITIONS - 1)
    }
}

impl TokenLog {
    /// For so many columns.
    pub fn new(columns: usize) -> Self {
        Self { columns, entries: Vec::new(), ends: Vec::new(), next_position: 0 }
    }

    /// Takes a token; positions are below [`POSITIONS`].
    pub fn push(&mut self, term: u32, position: u32) {
        if position != self.next_position {
            self.entries.push(MARK | position);
        }
        self.entries.push(term);
        self.next_position = position + 1;
    }

    /// Ends a column of an arrival, and begins the next.
    pub fn end_column(&mut self) {
        self.ends.push(self.entries.len());
        self.next_position = 0;
    }

    /// Forgets all but the first arrivals.
    pub fn truncate(&mut self, arrivals: usize) {
        self.ends.truncate(arrivals * self.columns);
        self.entries.truncate(self.ends.last().copied().unwrap_or(0));
        self.next_position = 0;
    }

    /// How many arrivals there are.
    pub fn len(&self) -> usize {
        self.ends.len() / self.columns.max(1)
    }

    /// The memory it takes, in bytes.
    pub fn memory(&self) -> usize {
        self.entries.len() * size_of::<u32>() + self.ends.len() * size_of::<usize>()
    }

    /// The memory that the places of its tokens will take, and the lists that are made of them, in bytes; an estimate.
    pub fn memory_sorted(&self) -> usize {
        self.entries.len() * (size_of::<TokenPlace>() + size_of::<u16>() + 1)
    }

    /// Takes all tokens out of it.
    pub fn take(&mut self) -> Self {
        let columns = self.columns;
        std::mem::replace(self, Self::new(columns))
    }

    /// Gives the term, the column and the position of each token of a record.
    pub fn each(&self, record: u32, mut take: impl FnMut(u32, u8, u32)) {
        for (place, column) in (0..).zip(0..self.columns) {
            let mut position = 0;
            for &entry in &self.entries[self.range(record as usize * self.columns + column)] {
                if entry & MARK == 0 {
                    take(entry, place, position);
                    position += 1;
                } else {
                    position = entry & !MARK;
                }
            }
        }
    }

    /// How many tokens each of so many terms has, in some of the records, or in all.
    pub fn counts(&self, terms: usize, records: Option<impl Iterator<Item = u32>>) -> Vec<u32> {
        let mut counts = vec![0; terms];
        match records {
            Some(records) => {
                for record in records {
                    self.each(record, |term, _, _| counts[term as usize] += 1);
                }
            }
            None => {
                for &entry in self.entries.iter().filter(|entry| **entry & MARK == 0) {
                    counts[entry as usize] += 1;
                }
            }
        }
        counts
    }

    fn range(&self, column: usize) -> Range<usize> {
        column.checked_sub(1).map_or(0, |before| self.ends[before])..self.ends[column]
    }
}
