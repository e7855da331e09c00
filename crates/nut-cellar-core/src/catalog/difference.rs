//! Two snapshots held against each other, record by record: one of what a cellar holds and one of what it should hold.

use super::snapshot::Snapshot;
use crate::error::Result;
use crate::record::Key;
use crate::shelf::{Walk, digests};
use crate::store::View;
use std::cmp::Ordering;

/// In what a record differs from what it should be.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Difference {
    /// It is not there.
    Missing,
    /// It should not be there.
    Surplus,
    /// It is made of something else.
    Altered,
}

impl Snapshot {
    /// Gives `take` the keys of the live records that differ between this snapshot and one of what should be there, in key order.
    /// Reads all of both; takes memory for eight bytes a record.
    ///
    /// # Errors
    /// If a place can't be read or is damaged, or what `take` fails with.
    pub fn differences(
        &self,
        view: &dyn View,
        (other, other_view): (&Self, &dyn View),
        mut take: impl FnMut(Key, Difference) -> Result<()>,
    ) -> Result<()> {
        let (mut here, mut there) = (Records::new(self, view)?, Records::new(other, other_view)?);
        let (mut mine, mut wanted) = (here.next()?, there.next()?);
        loop {
            let order = match (&mine, &wanted) {
                (None, None) => return Ok(()),
                (Some(_), None) => Ordering::Less,
                (None, Some(_)) => Ordering::Greater,
                (Some((mine, _)), Some((wanted, _))) => mine.cmp(wanted),
            };
            let (key, difference) = match order {
                Ordering::Less => (&mine, Some(Difference::Surplus)),
                Ordering::Greater => (&wanted, Some(Difference::Missing)),
                Ordering::Equal => (&mine, (mine != wanted).then_some(Difference::Altered)),
            };
            if let (Some((key, _)), Some(difference)) = (key, difference) {
                take(Key::decode(key)?, difference)?;
            }
            if order.is_le() {
                mine = here.next()?;
            }
            if order.is_ge() {
                wanted = there.next()?;
            }
        }
    }
}

/// Goes through the live records of a snapshot in key order, with what each is made of.
struct Records<'s, 'v> {
    snapshot: &'s Snapshot,
    keys: Vec<Walk<'v, Vec<u8>>>,
    /// For each shelf the ordinal at which its walk stands, and what its records are made of.
    at: Vec<u32>,
    digests: Vec<Vec<u64>>,
}

impl<'s, 'v> Records<'s, 'v> {
    fn new(snapshot: &'s Snapshot, view: &'v dyn View) -> Result<Self> {
        let shelves = || snapshot.standing().iter().map(|standing| &standing.shelf);
        Ok(Self {
            snapshot,
            keys: shelves().map(|shelf| Walk::keys(view, shelf)).collect::<Result<_>>()?,
            at: shelves().map(|_| 0).collect(),
            digests: shelves().map(|shelf| digests(view, shelf, snapshot.schema())).collect::<Result<_>>()?,
        })
    }

    /// The next record: its encoded key, and what it is made of.
    fn next(&mut self) -> Result<Option<(Vec<u8>, u64)>> {
        loop {
            let least = (0..self.keys.len())
                .filter_map(|place| Some((self.keys[place].here()?, place)))
                .min()
                .map(|(_, place)| place);
            let Some(place) = least else { return Ok(None) };
            let ordinal = self.at[place];
            self.at[place] += 1;
            let Some(key) = self.keys[place].next()? else { return Ok(None) };
            if !self.snapshot.standing()[place].removed(ordinal) {
                return Ok(Some((key, self.digests[place][ordinal as usize])));
            }
        }
    }
}
