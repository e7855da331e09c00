//! The postings of a term and its likenesses in one shelf, walked through as one list.

use crate::error::Result;
use crate::schema::ColumnSet;
use crate::shelf::{Positions, Postings};

/// One term of a family.
#[derive(Debug)]
pub(super) struct Member {
    pub postings: Postings,
    /// All its positions, where a phrase may ask for them.
    pub positions: Option<Positions>,
    /// Whether there are no more postings.
    done: bool,
}

/// A term as typed and its likenesses; those that the shelf does not have are none.
#[derive(Debug, Default)]
pub(super) struct Family {
    members: Vec<Option<Member>>,
    ordinal: Option<u32>,
}

impl Family {
    /// Adds the next member, which stands before its first posting.
    pub fn add(&mut self, mut postings: Postings, positions: Option<Positions>) -> Result<()> {
        let done = !postings.advance()?;
        self.members.push(Some(Member { postings, positions, done }));
        self.find_next();
        Ok(())
    }

    /// Adds a member that the shelf does not have.
    pub fn add_none(&mut self) {
        self.members.push(None);
    }

    /// The next record that has one of the terms.
    pub fn ordinal(&self) -> Option<u32> {
        self.ordinal
    }

    /// Goes on to the next record.
    pub fn advance(&mut self) -> Result<()> {
        for member in self.members.iter_mut().flatten() {
            if !member.done && Some(member.postings.ordinal()) == self.ordinal {
                member.done = !member.postings.advance()?;
            }
        }
        self.find_next();
        Ok(())
    }

    /// Goes on to the first record that is not below `ordinal`; tells whether it had to move.
    pub fn seek(&mut self, ordinal: u32) -> Result<bool> {
        if self.ordinal.is_none_or(|here| here >= ordinal) {
            return Ok(false);
        }
        for member in self.members.iter_mut().flatten() {
            if !member.done && member.postings.ordinal() < ordinal {
                member.done = !member.postings.seek(ordinal)?;
            }
        }
        self.find_next();
        Ok(true)
    }

    fn find_next(&mut self) {
        let left = self.members.iter().flatten().filter(|member| !member.done);
        self.ordinal = left.map(|member| member.postings.ordinal()).min();
    }

    /// The terms that the record has.
    pub fn here(&self) -> impl Iterator<Item = &Member> {
        self.members.iter().flatten().filter(|member| self.is_here(member))
    }

    /// A member, if the record has it.
    pub fn member_here(&self, slot: usize) -> Option<&Member> {
        self.members[slot].as_ref().filter(|member| self.is_here(member))
    }

    fn is_here(&self, member: &Member) -> bool {
        !member.done && Some(member.postings.ordinal()) == self.ordinal
    }

    /// The columns of the record that one of the terms is in.
    pub fn columns(&self) -> ColumnSet {
        self.here().fold(ColumnSet::default(), |columns, member| columns.or(member.postings.columns()))
    }

    /// Where in these columns of the record the terms stand: (column, position), ascending.
    pub fn places(&mut self, columns: ColumnSet) -> Result<Vec<(usize, u32)>> {
        let mut places = Vec::new();
        for member in self.members.iter_mut().flatten() {
            if !member.done
                && Some(member.postings.ordinal()) == self.ordinal
                && let Some(positions) = &mut member.positions
            {
                positions.of(&member.postings, columns, &mut places)?;
            }
        }
        places.sort_unstable();
        Ok(places)
    }
}
