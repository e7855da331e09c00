//! The postings of a term and its likenesses in one shelf, walked through as one list.

use crate::error::Result;
use crate::schema::ColumnSet;
use crate::shelf::{Postings, positions_in};
use bytes::Bytes;

/// One term of a family.
#[derive(Debug)]
pub(super) struct Member {
    pub postings: Postings,
    /// All its positions, where a phrase may ask for them.
    pub positions: Option<Bytes>,
    /// 1 for the term as typed, less for its likenesses.
    pub likeness: f32,
    /// Whether there are no more postings.
    done: bool,
}

/// A term as typed and its likenesses, in the order in which they add up.
#[derive(Debug, Default)]
pub(super) struct Family {
    members: Vec<Member>,
    ordinal: Option<u32>,
}

impl Family {
    /// Adds a term, which stands before its first posting.
    pub fn add(&mut self, mut postings: Postings, positions: Option<Bytes>, likeness: f32) -> Result<()> {
        let done = !postings.advance()?;
        self.members.push(Member { postings, positions, likeness, done });
        self.find_next();
        Ok(())
    }

    /// The next record that has one of the terms.
    pub fn ordinal(&self) -> Option<u32> {
        self.ordinal
    }

    /// Goes on to the next record.
    pub fn advance(&mut self) -> Result<()> {
        for member in &mut self.members {
            if !member.done && Some(member.postings.ordinal()) == self.ordinal {
                member.done = !member.postings.advance()?;
            }
        }
        self.find_next();
        Ok(())
    }

    fn find_next(&mut self) {
        let left = self.members.iter().filter(|member| !member.done);
        self.ordinal = left.map(|member| member.postings.ordinal()).min();
    }

    /// The terms that the record has.
    pub fn here(&self) -> impl Iterator<Item = &Member> {
        self.members.iter().filter(|member| !member.done && Some(member.postings.ordinal()) == self.ordinal)
    }

    /// The columns of the record that one of the terms is in.
    pub fn columns(&self) -> ColumnSet {
        self.here().fold(ColumnSet::default(), |columns, member| columns.or(member.postings.columns()))
    }

    /// Where in these columns of the record the terms stand: (column, position), ascending.
    pub fn places(&self, columns: ColumnSet) -> Result<Vec<(usize, u32)>> {
        let mut places = Vec::new();
        for member in self.here() {
            if let Some(positions) = &member.positions {
                positions_in(&member.postings, positions, columns, &mut places)?;
            }
        }
        places.sort_unstable();
        Ok(places)
    }
}
