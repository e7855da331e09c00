//! The postings of a word in one shelf: those of all its terms, walked through as one list, with what they score and what
//! bounds that.

use crate::bits::Bits;
use crate::error::Result;
use crate::rank::Formula;
use crate::schema::ColumnSet;
use crate::shelf::{END, Hand, LengthColumn, Postings, Step, if_at_hand};
use std::sync::Arc;

/// One term of a word.
#[derive(Clone, Debug)]
pub(super) struct Member {
    pub postings: Postings,
    /// How alike the term is to what was typed.
    pub likeness: f32,
    /// The columns in which it counts.
    pub columns: ColumnSet,
    /// Where its postings stand; [`END`] past the last.
    pub here: u32,
    begun: bool,
    /// The records that have the term in a column in which it counts, if they are at hand as bits.
    pub records: Option<Arc<Bits>>,
    /// A block, and the greatest tf~ that a posting of it may have.
    bound: Option<(usize, f32)>,
}

/// The terms of a word that a shelf has.
#[derive(Clone, Debug, Default)]
pub(super) struct Group {
    pub members: Vec<Member>,
    here: u32,
    /// Whether a term that a record has may be in other columns than those in which it counts.
    limited: bool,
}

/// What makes numbers of postings.
pub(super) struct Measure<'a> {
    pub formula: &'a Formula,
    pub lengths: &'a mut [LengthColumn],
    pub hand: &'a mut Hand,
}

impl Measure<'_> {
    /// One column's share of tf~.
    #[inline]
    fn share(&mut self, column: usize, tf: u32, ordinal: u32) -> Step<f32> {
        let length = self.lengths[column].get(self.hand, ordinal)?;
        Ok(self.formula.frequency(column, tf, length))
    }
}

/// tf~ of the posting at which postings stand, in the columns in which they count, which are taken in schema order.
pub(super) fn frequency_here(
    postings: &mut Postings,
    counted: ColumnSet,
    measure: &mut Measure<'_>,
) -> Step<f32> {
    let ordinal = postings.ordinal();
    if let Some((column, tf)) = postings.alone()? {
        return if counted.has(column) { measure.share(column, tf, ordinal) } else { Ok(0.0) };
    }
    let mut frequency = 0.0;
    let mut add = |column, tf| -> Step<()> {
        if counted.has(column) {
            // Going on where a length is missing, so that all that are missing are noted at once.
            frequency += if_at_hand(measure.share(column, tf, ordinal))?.unwrap_or(0.0);
        }
        Ok(())
    };
    if let Some(columns) = postings.once_in_each()? {
        columns.iter().try_for_each(|column| add(column, 1))?;
    } else {
        postings.read()?;
        postings.frequencies().try_for_each(|(column, tf)| add(column, tf))?;
    }
    Ok(frequency)
}

impl Member {
    /// A member standing before its first posting.
    pub fn new(postings: Postings, likeness: f32, columns: ColumnSet) -> Self {
        Self { postings, likeness, columns, here: 0, begun: false, records: None, bound: None }
    }

    /// Goes on to the first posting from a record on.
    pub fn seek(&mut self, ordinal: u32) -> Result<u32> {
        if self.here < ordinal || !self.begun {
            self.begun = true;
            self.here = if self.postings.seek(ordinal)? { self.postings.ordinal() } else { END };
        }
        Ok(self.here)
    }

    /// Whether the posting at which it stands is in a column in which it counts.
    pub fn counts(&mut self) -> Result<bool> {
        if let Some((column, _)) = self.postings.alone()? {
            return Ok(self.columns.has(column));
        }
        self.postings.read()?;
        Ok(!self.postings.columns().both(self.columns).is_empty())
    }

    /// tf~ of the posting at which it stands.
    pub fn frequency(&mut self, measure: &mut Measure<'_>) -> Step<f32> {
        frequency_here(&mut self.postings, self.columns, measure)
    }

    /// The greatest tf~ that a posting of a block may have.
    pub fn bound_of(&mut self, block: usize, formula: &Formula) -> Result<f32> {
        if let Some((known, bound)) = self.bound
            && known == block
        {
            return Ok(bound);
        }
        let share = |column, tf, length| formula.frequency(column, tf, length);
        let bound = self.postings.most_in(block, self.columns, share)?.unwrap_or(f32::INFINITY);
        self.bound = Some((block, bound));
        Ok(bound)
    }
}

impl Group {
    /// A group of members. `all` are the columns of the schema.
    pub fn new(mut members: Vec<Member>, all: ColumnSet) -> Self {
        let limited = members.iter().any(|member| member.columns.both(all) != all);
        for member in &mut members {
            member.records = match member.postings.dense() {
                Some(_) if limited => member.postings.records_inside(member.columns),
                dense => dense.map(|dense| Arc::clone(dense.bits())),
            };
        }
        Self { members, here: 0, limited }
    }

    /// Says that the lists will be gone through; those of terms that many records have may be worth unpacking.
    pub fn ask_lists(&mut self) -> Result<()> {
        for Member { postings, columns, records, .. } in &mut self.members {
            postings.ask_dense()?;
            *records = match postings.dense() {
                Some(_) if self.limited => postings.ask_records_inside(*columns)?,
                dense => dense.map(|dense| Arc::clone(dense.bits())),
            };
        }
        Ok(())
    }

    /// About how many records have one of the terms.
    pub fn cost(&self) -> u64 {
        self.members.iter().map(|member| u64::from(member.postings.records())).sum()
    }

    /// Whether a term that a record has may be in other columns than those in which it counts.
    pub fn is_limited(&self) -> bool {
        self.limited
    }

    /// How many postings have to be read to find out which records have one of the terms.
    pub fn unknown(&self) -> u64 {
        let unknown = self.members.iter().filter(|member| member.records.is_none());
        unknown.map(|member| u64::from(member.postings.records())).sum()
    }

    /// Whether it is at hand as bits which records have one of the terms in a column in which it counts.
    pub fn is_dense(&self) -> bool {
        self.members.iter().all(|member| member.records.is_some())
    }

    /// The first record from one on that has one of the terms, in whatever column; [`END`] if there is none.
    pub fn seek(&mut self, ordinal: u32) -> Result<u32> {
        if let [only] = self.members.as_mut_slice() {
            return only.seek(ordinal);
        }
        if self.here < ordinal || ordinal == 0 {
            let mut least = END;
            for member in &mut self.members {
                least = least.min(member.seek(ordinal)?);
            }
            self.here = least;
        }
        Ok(self.here)
    }

    /// Whether a record has one of the terms in a column in which it counts.
    pub fn has(&mut self, ordinal: u32) -> Result<bool> {
        if let [only] = self.members.as_slice()
            && let Some(records) = &only.records
        {
            return Ok(records.has(ordinal as usize));
        }
        if self.seek(ordinal)? != ordinal {
            return Ok(false);
        }
        if !self.limited {
            return Ok(true);
        }
        for member in self.members.iter_mut().filter(|member| member.here == ordinal) {
            if member.counts()? {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// tf~ of the group in a record at which it stands, or which it does not have: members in their order.
    pub fn frequency(&mut self, ordinal: u32, measure: &mut Measure<'_>) -> Step<f32> {
        let mut group = 0.0;
        if self.seek(ordinal)? == ordinal {
            for member in self.members.iter_mut().filter(|member| member.here == ordinal) {
                group += member.frequency(measure)? * member.likeness;
            }
        }
        Ok(group)
    }

    /// The greatest tf~ that a record may have from `ordinal` on, up to a record that is told with it.
    pub fn bound_at(&mut self, ordinal: u32, formula: &Formula) -> Result<(f32, u32)> {
        let (mut sum, mut until) = (0.0, END);
        for member in &mut self.members {
            if member.begun && member.here > ordinal {
                until = until.min(member.here - 1);
                continue;
            }
            let block = member.postings.block_with(member.postings.block(), ordinal);
            if block >= member.postings.blocks() {
                continue;
            }
            sum += member.bound_of(block, formula)? * member.likeness;
            until = until.min(member.postings.last_of(block));
        }
        Ok((sum, until))
    }
}
