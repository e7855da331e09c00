//! Lists of terms that many of the records have, unpacked: the records as bits, and the shapes of their postings as bytes. Where such lists
//! meet, or a filter leaves a few of their records, a search asks for some postings of nearly every block, and would unpack them all.
//!
//! What always holds: a shelf never changes, so neither do its lists; and those that are kept take no more than [`PER_RECORD`] bytes
//! for each record of the shelf.

use super::postings::Postings;
use super::tables::ListKey;
use crate::bits::Bits;
use crate::error::Result;
use crate::schema::ColumnSet;
use foldhash::fast::RandomState;
use hashbrown::HashMap;
use std::ops::Range;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// Of so many records one has to have the term.
const ONE_OF: u64 = 64;
/// A list of fewer blocks is read as fast.
const FEWEST_BLOCKS: usize = 4;
/// The bytes that the lists of a shelf may take for each of its records.
const PER_RECORD: u64 = 16;
/// Stands for every shape that is as large or larger.
const LARGE: u8 = u8::MAX;

/// A list, unpacked.
#[derive(Debug)]
pub(crate) struct Dense {
    bits: Arc<Bits>,
    /// Those of them that have the term in some columns, the last that were asked for.
    inside: Mutex<Option<(ColumnSet, Arc<Bits>)>>,
    /// For each 64 records how many postings come before theirs.
    before: Vec<u32>,
    shapes: Vec<u8>,
    /// How often the term is in a posting of each shape; 0 if that can't be told.
    occurrences: Box<[u32]>,
}

impl Dense {
    /// Unpacks a list.
    fn of(mut postings: Postings, records: u32) -> Result<Self> {
        let mut bits = Bits::new(records as usize);
        let mut shapes = Vec::with_capacity(postings.records() as usize);
        for block in 0..postings.blocks() {
            postings.enter(block)?;
            postings.unpack_shapes()?;
            bits.set_all(postings.unpacked().iter().map(|ordinal| *ordinal as usize));
            shapes
                .extend(postings.unpacked_shapes().iter().map(|shape| u8::try_from(*shape).unwrap_or(LARGE)));
        }
        let before = bits.words().iter().scan(0, |before, word| {
            let here = *before;
            *before += word.count_ones();
            Some(here)
        });
        let before = before.collect();
        let kinds = postings.kinds();
        let told = (0..LARGE.into()).map(|shape| kinds.occurrences(shape).unwrap_or(0));
        let occurrences = told.chain([0]).collect();
        Ok(Self { bits: Arc::new(bits), inside: Mutex::default(), before, shapes, occurrences })
    }

    /// The records that have the term in one of these columns, if they were asked for last.
    pub fn inside(&self, columns: ColumnSet) -> Option<Arc<Bits>> {
        let inside = self.inside.lock().unwrap_or_else(PoisonError::into_inner);
        inside.as_ref().filter(|(of, _)| *of == columns).map(|(_, bits)| Arc::clone(bits))
    }

    /// The records.
    pub fn bits(&self) -> &Arc<Bits> {
        &self.bits
    }

    /// Whether a record has the term.
    #[inline]
    pub fn has(&self, ordinal: u32) -> bool {
        self.bits.has(ordinal as usize)
    }

    /// The place in the list of the posting of a record, if it has one.
    #[inline]
    pub fn place_of(&self, ordinal: u32) -> Option<usize> {
        self.has(ordinal).then(|| self.places_before(ordinal))
    }

    /// How many postings come before that of a record.
    #[inline]
    fn places_before(&self, ordinal: u32) -> usize {
        let (place, bit) = (ordinal as usize / 64, ordinal % 64);
        let below = self.bits.words()[place] & ((1 << bit) - 1);
        (self.before[place] + below.count_ones()) as usize
    }

    /// The shape of the posting of a record that has one; 255 for every shape that is as large or larger.
    #[inline]
    pub fn shape_of(&self, ordinal: u32) -> u8 {
        self.shapes[self.places_before(ordinal)]
    }

    /// The shape of the posting at a place of the list, if it is not too large.
    #[inline]
    pub fn shape(&self, place: usize) -> Option<u32> {
        Some(self.shapes[place]).filter(|shape| *shape != LARGE).map(u32::from)
    }

    /// How many occurrences some postings have together, by their places in the list; none if that can't be told.
    pub fn occurrences(&self, places: Range<usize>) -> Option<u64> {
        let (mut sum, mut all_told) = (0, true);
        for shape in &self.shapes[places] {
            let occurrences = self.occurrences[usize::from(*shape)];
            sum += u64::from(occurrences);
            all_told &= occurrences > 0;
        }
        all_told.then_some(sum)
    }
}

/// The records that have a term in one of these columns.
fn inside(mut postings: Postings, records: u32, columns: ColumnSet) -> Result<Arc<Bits>> {
    let mut bits = Bits::new(records as usize);
    for block in 0..postings.blocks() {
        postings.enter(block)?;
        let all = 0..postings.unpacked().len();
        postings.each_in(all, columns, |ordinal, is_inside| bits.put(ordinal as usize, is_inside))?;
    }
    Ok(Arc::new(bits))
}

/// The bytes that a set of records takes, and a list.
fn size_of_set(records: u32) -> u64 {
    u64::from(records) / 8
}

fn size(records: u32, postings: u32) -> u64 {
    size_of_set(records) + u64::from(records) / 16 + u64::from(postings)
}

/// The lists of a shelf.
#[derive(Debug, Default)]
pub(super) struct DenseLists(Mutex<Known>);

#[derive(Debug, Default)]
struct Known {
    /// Those that were asked for, what they are unpacked if that was often enough, and the bytes that this takes.
    lists: HashMap<ListKey, (Option<Arc<Dense>>, u64), RandomState>,
    bytes: u64,
}

impl DenseLists {
    /// Whether a list of so many blocks is long enough, in a shelf of so many records.
    pub fn take((.., postings): ListKey, blocks: usize, records: u32) -> bool {
        blocks >= FEWEST_BLOCKS && u64::from(postings) * ONE_OF >= records.into()
    }

    /// A list, if it was unpacked.
    pub fn get(&self, key: ListKey) -> Option<Arc<Dense>> {
        self.known().lists.get(&key).and_then(|(dense, _)| dense.clone())
    }

    /// Says that a list of a shelf of so many records will be gone through: the second time it is unpacked, if there is room, which the
    /// commonest terms get.
    pub fn ask(&self, key: ListKey, postings: &Postings, records: u32) -> Result<Option<Arc<Dense>>> {
        let wanted = size(records, key.2);
        {
            let mut known = self.known();
            match known.lists.get(&key) {
                Some((Some(dense), _)) => return Ok(Some(Arc::clone(dense))),
                Some((None, _)) => {}
                None => {
                    known.lists.insert(key, (None, 0));
                    return Ok(None);
                }
            }
            if !known.make_room(wanted, key, records) {
                return Ok(None);
            }
        }
        let dense = Arc::new(Dense::of(postings.clone(), records)?);
        let mut known = self.known();
        // Another search may have unpacked it, or taken the room, meanwhile.
        if matches!(known.lists.get(&key), Some((None, _))) && known.make_room(wanted, key, records) {
            known.bytes += wanted;
            known.lists.insert(key, (Some(Arc::clone(&dense)), wanted));
        }
        Ok(Some(dense))
    }

    /// The records that have the term of a list that was unpacked in one of these columns, if there is room for them.
    pub fn ask_inside(
        &self,
        key: ListKey,
        postings: &Postings,
        columns: ColumnSet,
        records: u32,
    ) -> Result<Option<Arc<Bits>>> {
        let Some(dense) = postings.dense() else { return Ok(None) };
        if let Some(known) = dense.inside(columns) {
            return Ok(Some(known));
        }
        let is_first = dense.inside.lock().unwrap_or_else(PoisonError::into_inner).is_none();
        let wanted = if is_first { size_of_set(records) } else { 0 };
        {
            let mut known = self.known();
            if !known.make_room(wanted, key, records) {
                return Ok(None);
            }
            let Some((Some(_), bytes)) = known.lists.get_mut(&key) else { return Ok(None) };
            *bytes += wanted;
            known.bytes += wanted;
        }
        let bits = inside(postings.clone(), records, columns)?;
        *dense.inside.lock().unwrap_or_else(PoisonError::into_inner) = Some((columns, Arc::clone(&bits)));
        Ok(Some(bits))
    }

    fn known(&self) -> MutexGuard<'_, Known> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Known {
    /// Forgets lists of rarer terms than that of a list until there are so many bytes for it; whether there are.
    fn make_room(&mut self, wanted: u64, (.., postings): ListKey, records: u32) -> bool {
        let most = PER_RECORD * u64::from(records);
        let rarer = self.lists.iter().filter(|(key, (_, bytes))| *bytes > 0 && key.2 < postings);
        let mut rarer: Vec<_> = rarer.map(|(key, (_, bytes))| (key.2, *key, *bytes)).collect();
        if self.bytes + wanted > most + rarer.iter().map(|(.., bytes)| bytes).sum::<u64>() {
            return false;
        }
        rarer.sort_unstable();
        for (_, key, bytes) in rarer {
            if self.bytes + wanted <= most {
                break;
            }
            self.lists.insert(key, (None, 0));
            self.bytes -= bytes;
        }
        true
    }
}
