//! The entries of a block of [sorted](crate::shelf::format::sorted) byte strings, one after the other: their heads, entries that count up, and the
//! walk through them.
//!
//! What always holds: bytes that nobody wrote end a walk with an error; they never make it go past their end, or in a circle.

use crate::wire::{Broken, Reader, put_varint};

/// No count is larger, so that few bytes don't stand for a huge number of entries.
pub(in crate::shelf) const MOST_COUNTED: usize = 255;

/// What stands in half a head when the number is as large or larger.
const MORE: usize = 15;

/// Appends the head of an entry: how many bytes it shares, and how many of its own it has.
pub(in crate::shelf) fn put_head(out: &mut Vec<u8>, shared: usize, own: usize) {
    let half = |number: usize| u8::try_from(number.min(MORE)).expect("at most 15");
    out.push(half(shared) << 4 | half(own));
    for number in [shared, own].into_iter().filter(|number| *number >= MORE) {
        put_varint(out, (number - MORE) as u64);
    }
}

/// Reads what [`put_head`] wrote.
pub(in crate::shelf) fn get_head(from: &mut Reader<'_>) -> Result<(usize, usize), Broken> {
    let head = usize::from(from.u8()?);
    let mut number = |half: usize| match half {
        MORE => from.size()?.checked_add(MORE).ok_or(Broken("the length of an entry")),
        few => Ok(few),
    };
    Ok((number(head >> 4)?, number(head & MORE)?))
}

/// Makes a number of bytes, the highest first, one more; tells whether it has room for that, and leaves it if not.
pub(in crate::shelf) fn count_up(number: &mut [u8]) -> bool {
    let Some(place) = number.iter().rposition(|byte| *byte < u8::MAX) else { return false };
    number[place] += 1;
    number[place + 1..].fill(0);
    true
}

/// Of a number of bytes, the highest first, where the last eight begin, and what they are.
fn low_bytes(number: &[u8]) -> (usize, u64) {
    let start = number.len().saturating_sub(size_of::<u64>());
    (start, number[start..].iter().fold(0, |low, byte| low << 8 | u64::from(*byte)))
}

/// Makes a number of bytes, the highest first, so many more; tells whether it has room for that, and leaves it if not.
fn count_up_by(number: &mut [u8], more: usize) -> bool {
    let (start, low) = low_bytes(number);
    let bits = 8 * (number.len() - start);
    let sum = low.checked_add(more as u64).filter(|sum| bits == 64 || sum >> bits == 0);
    let Some(mut sum) = sum else { return false };
    for byte in number[start..].iter_mut().rev() {
        *byte = sum.to_le_bytes()[0];
        sum >>= 8;
    }
    true
}

/// Undoes [`count_up`].
pub(in crate::shelf) fn count_down(number: &mut [u8]) {
    if let Some(place) = number.iter().rposition(|byte| *byte > 0) {
        number[place] -= 1;
        number[place + 1..].fill(u8::MAX);
    }
}

/// How many bytes, or characters, both begin with.
pub(in crate::shelf) fn common<T: PartialEq>(a: &[T], b: &[T]) -> usize {
    a.iter().zip(b).take_while(|(a, b)| a == b).count()
}

/// Walks through one block.
pub(in crate::shelf) struct Entries<'a> {
    reader: Reader<'a>,
    /// The entry, and room behind it for what is copied at once; and how long it is.
    room: Vec<u8>,
    length: usize,
    /// Whether it stands before the first.
    begins: bool,
    /// How many entries are left of those that are counted.
    counted: usize,
}

impl<'a> Entries<'a> {
    pub fn new(block: &'a [u8]) -> Self {
        Self { reader: Reader::new(block), room: Vec::new(), length: 0, begins: true, counted: 0 }
    }

    /// Goes to the next entry, if there is one. The payload of the one before has to have been read.
    pub fn advance(&mut self) -> Result<bool, Broken> {
        if self.counted > 0 {
            return self.count();
        }
        if self.reader.is_empty() {
            return Ok(false);
        }
        let (shared, own) = get_head(&mut self.reader)?;
        if own == 0 && !std::mem::take(&mut self.begins) {
            self.counted = if shared <= MOST_COUNTED { shared } else { 0 };
            return self.count();
        }
        self.begins = false;
        if shared > self.length {
            return Err(Broken("the shared part of an entry"));
        }
        // Most entries have few bytes of their own, and copying as many as a register holds is faster than counting them.
        let ahead = self.reader.ahead::<16>();
        let bytes = self.reader.take(own)?;
        match (ahead, self.room.get_mut(shared..shared + 16)) {
            (Some(ahead), Some(room)) if own <= 16 => room.copy_from_slice(ahead),
            _ => self.put(shared, bytes),
        }
        self.length = shared + own;
        Ok(true)
    }

    /// Puts bytes behind the first ones that stay.
    fn put(&mut self, shared: usize, bytes: &[u8]) {
        self.room.truncate(shared);
        self.room.extend_from_slice(bytes);
        self.length = self.room.len();
        self.room.resize(self.length + 16, 0);
    }

    /// Goes to the first entry that is no less than `wanted`, which the one at which it stands is, if there is one; only in blocks
    /// without payloads and counts. Those in between are not put together. Tells how many were passed over.
    pub fn advance_over(&mut self, wanted: &[u8]) -> Result<Option<usize>, Broken> {
        let (mut same, mut passed) = (common(self.entry(), wanted), 0);
        while !self.reader.is_empty() {
            let mut rest = self.reader.clone();
            let (shared, own) = get_head(&mut rest)?;
            let bytes = rest.take(own)?;
            // What shares more with the one before parts from what is wanted where that one does.
            if shared <= same {
                let more = if shared == same { common(bytes, &wanted[same..]) } else { 0 };
                if shared < same || bytes.get(more) >= wanted.get(same + more) {
                    self.put(0, &wanted[..shared]);
                    self.put(shared, bytes);
                    self.reader = rest;
                    return Ok(Some(passed));
                }
                same += more;
            }
            self.reader = rest;
            passed += 1;
        }
        Ok(None)
    }

    /// Goes to the entry so many behind the next one, if there is one; only in blocks without payloads. Entries that are
    /// counted are passed over at once.
    pub fn advance_by(&mut self, mut steps: usize) -> Result<bool, Broken> {
        loop {
            let counted = steps.min(self.counted);
            if counted > 0 && count_up_by(&mut self.room[..self.length], counted) {
                self.counted -= counted;
                steps -= counted;
            }
            if steps == 0 {
                return self.advance();
            }
            if !self.advance()? {
                return Ok(false);
            }
            steps -= 1;
        }
    }

    /// Goes to the first entry that is no less than `wanted`, from where it stands, if there is one; only in blocks without
    /// payloads. Gives how many steps that is; of entries that are counted few are put together.
    pub fn advance_to(&mut self, wanted: &[u8]) -> Result<Option<usize>, Broken> {
        let mut steps = 0;
        while self.begins || self.entry() < wanted {
            let less = self.counted_below(wanted);
            if less > 0 && count_up_by(&mut self.room[..self.length], less) {
                self.counted -= less;
                steps += less;
            }
            if !self.advance()? {
                return Ok(None);
            }
            steps += 1;
        }
        Ok(Some(steps))
    }

    /// How many of the counted entries that follow are known to be less than this, which the one at which it stands is.
    fn counted_below(&self, wanted: &[u8]) -> usize {
        let ((start, here), (_, there)) = (low_bytes(self.entry()), low_bytes(wanted));
        if self.counted == 0 || self.length != wanted.len() || self.room[..start] != wanted[..start] {
            return 0;
        }
        let less = there.saturating_sub(here).saturating_sub(1);
        usize::try_from(less).unwrap_or(usize::MAX).min(self.counted)
    }

    fn count(&mut self) -> Result<bool, Broken> {
        self.counted = self.counted.checked_sub(1).ok_or(Broken("a count of entries"))?;
        if count_up(&mut self.room[..self.length]) { Ok(true) } else { Err(Broken("a counted entry")) }
    }

    /// The entry.
    pub fn entry(&self) -> &[u8] {
        &self.room[..self.length]
    }

    /// The entry, and where its payload is read from.
    pub fn with_payload(&mut self) -> (&[u8], &mut Reader<'a>) {
        (&self.room[..self.length], &mut self.reader)
    }

    /// Where the payload of the entry is read from.
    pub fn payload(&mut self) -> &mut Reader<'a> {
        &mut self.reader
    }
}
