//! Which forms of its class a posting has, where its shape does not tell: in the rest of its block, behind the frequencies.
//!
//! A varint has, in its lowest seven bits, which of the first seven forms there are, and above them how many others; these follow as
//! varints, each less what is behind the one before. Of several forms it is then told for each occurrence, in the order of
//! the positions, which of them it is: its place among them, in as many bits as the last place takes, lowest bit first, and what is left
//! of the last byte is 0.

use crate::wire::{Broken, Reader, put_varint};

/// So many forms have a bit.
const WITH_BITS: u32 = 7;

/// The forms of one posting.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct FormsHere {
    /// The numbers of the forms, ascending.
    pub forms: Vec<u32>,
    /// For each occurrence the place of its form among these; nothing of only one form.
    pub places: Vec<u32>,
}

/// How many bits say one of so many places.
fn width(forms: usize) -> u32 {
    usize::BITS - forms.saturating_sub(1).leading_zeros()
}

impl FormsHere {
    /// One form, and nothing to say of occurrences.
    pub fn set_one(&mut self, form: u32) {
        self.places.clear();
        self.forms.clear();
        self.forms.push(form);
    }

    /// The forms of occurrences, which each are of one.
    pub fn set(&mut self, occurrences: &[u32]) {
        self.forms.clear();
        self.forms.extend_from_slice(occurrences);
        self.forms.sort_unstable();
        self.forms.dedup();
        self.places.clear();
        if self.forms.len() > 1 {
            let place = |form: &u32| self.forms.partition_point(|known| known < form);
            self.places.extend(occurrences.iter().map(|form| u32::try_from(place(form)).unwrap_or(u32::MAX)));
        }
    }

    /// Appends them.
    pub fn put(&self, out: &mut Vec<u8>) {
        let first = self.forms.iter().take_while(|form| **form < WITH_BITS);
        let bits = first.fold(0_u64, |bits, form| bits | 1 << form);
        let others = &self.forms[bits.count_ones() as usize..];
        put_varint(out, bits | (others.len() as u64) << WITH_BITS);
        let mut next = WITH_BITS;
        for form in others {
            put_varint(out, u64::from(form - next));
            next = form + 1;
        }
        let (width, mut held, mut bits) = (width(self.forms.len()), 0_u64, 0);
        for place in &self.places {
            held |= u64::from(*place) << bits;
            bits += width;
            while bits >= 8 {
                out.push((held & 0xff) as u8);
                held >>= 8;
                bits -= 8;
            }
        }
        if bits > 0 {
            out.push((held & 0xff) as u8);
        }
    }

    /// Passes over those of a posting with so many occurrences.
    pub fn pass(from: &mut Reader<'_>, occurrences: u64) -> Result<(), Broken> {
        let first = from.varint()?;
        let others = first >> WITH_BITS;
        for _ in 0..others {
            from.varint()?;
        }
        let forms = u64::from((first & ((1 << WITH_BITS) - 1)).count_ones()).saturating_add(others);
        let width = width(usize::try_from(forms).unwrap_or(usize::MAX));
        let bytes = occurrences.saturating_mul(width.into()).div_ceil(8);
        from.take(usize::try_from(bytes).unwrap_or(usize::MAX)).map(|_| ())
    }

    /// Reads those of a posting of a list of so many forms, with so many occurrences.
    pub fn get(&mut self, from: &mut Reader<'_>, forms: u32, occurrences: u64) -> Result<(), Broken> {
        const WRONG: Broken = Broken("the forms of a posting");
        let first = from.varint()?;
        self.forms.clear();
        self.forms.extend((0..WITH_BITS).filter(|form| first >> form & 1 == 1));
        let mut next = WITH_BITS;
        for _ in 0..first >> WITH_BITS {
            let form = next.checked_add(from.varint_u32()?).ok_or(WRONG)?;
            self.forms.push(form);
            next = form.checked_add(1).ok_or(WRONG)?;
        }
        if self.forms.last().is_none_or(|last| *last >= forms) {
            return Err(WRONG);
        }
        self.places.clear();
        if self.forms.len() == 1 {
            return Ok(());
        }
        let width = width(self.forms.len());
        let bytes = occurrences.checked_mul(width.into()).ok_or(WRONG)?.div_ceil(8);
        let mut bytes = from.take(usize::try_from(bytes).map_err(|_| WRONG)?)?.iter();
        let (mut held, mut bits) = (0_u64, 0);
        for _ in 0..occurrences {
            while bits < width {
                held |= u64::from(*bytes.next().ok_or(WRONG)?) << bits;
                bits += 8;
            }
            let place = u32::try_from(held & ((1 << width) - 1)).map_err(|_| WRONG)?;
            if place as usize >= self.forms.len() {
                return Err(WRONG);
            }
            self.places.push(place);
            held >>= width;
            bits -= width;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn forms_come_back(
            postings in prop::collection::vec(prop::collection::vec(prop_oneof![0_u32..9, 0_u32..3_000], 1..40), 1..6),
        ) {
            let (mut bytes, mut forms) = (Vec::new(), FormsHere::default());
            for occurrences in &postings {
                forms.set(occurrences);
                forms.put(&mut bytes);
            }
            let mut reader = Reader::new(&bytes);
            for occurrences in &postings {
                forms.get(&mut reader, 3_000, occurrences.len() as u64).unwrap();
                let form = |place: usize| forms.forms[forms.places.get(place).map_or(0, |place| *place as usize)];
                prop_assert!((0..occurrences.len()).map(form).eq(occurrences.iter().copied()));
                let mut expected = FormsHere::default();
                expected.set(occurrences);
                prop_assert_eq!(&forms, &expected);
            }
            prop_assert!(reader.is_empty());
            let mut reader = Reader::new(&bytes);
            for occurrences in &postings {
                FormsHere::pass(&mut reader, occurrences.len() as u64).unwrap();
            }
            prop_assert!(reader.is_empty());
        }

        #[test]
        fn any_bytes_do_no_harm(bytes: Vec<u8>, forms in 1_u32..20, occurrences: u64) {
            let mut here = FormsHere::default();
            if here.get(&mut Reader::new(&bytes), forms, occurrences).is_ok() {
                prop_assert!(here.forms.is_sorted() && here.forms.iter().all(|form| *form < forms));
                prop_assert!(here.forms.len() == 1 || here.places.len() as u64 == occurrences);
            }
        }
    }
}
