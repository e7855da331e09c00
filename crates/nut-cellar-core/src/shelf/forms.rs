//! The forms of words: for each class (a recipe, and what the forms have in common) its terms, in order. A class whose
//! only term is its own key is left out, as most would be.

use super::directory::Section;
use super::hand::{Hand, Step};
use super::output::Output;
use super::reader::Shelf;
use super::sorted::{Entries, SortedIndex, SortedWriter};
use crate::error::Result;
use crate::wire::{Broken, Reader, put_bytes, put_varint};
use std::cmp::Ordering;
use std::collections::BTreeMap;
use std::sync::Arc;

/// Classes in a block.
const PER_BLOCK: usize = 64;

/// Writes the forms section; gives the form index.
pub(super) fn write(out: &mut Output<'_>, classes: &BTreeMap<String, Vec<&str>>) -> Result<Vec<u8>> {
    let mut writer = SortedWriter::new(PER_BLOCK);
    for (class, terms) in classes {
        writer.push(out, class.as_bytes(), |block, _| {
            put_varint(block, terms.len() as u64);
            for term in terms {
                put_bytes(block, term.as_bytes());
            }
        })?;
    }
    writer.finish(out)
}

fn terms(from: &mut Reader<'_>) -> Result<Vec<String>, Broken> {
    let count = from.size()?;
    let mut terms = Vec::with_capacity(count.min(from.left()));
    for _ in 0..count {
        let term = str::from_utf8(from.bytes()?).map_err(|_| Broken("a term"))?;
        terms.push(term.to_owned());
    }
    Ok(terms)
}

impl Shelf {
    /// The terms of a class, but for one that is its own key.
    pub(crate) fn forms(self: &Arc<Self>, hand: &mut Hand, class: &str) -> Step<Vec<String>> {
        let bytes = hand.get(self, self.section(Section::FormIndex))?;
        let index = SortedIndex::new(bytes).map_err(|what| self.broken(Section::FormIndex, what))?;
        let class = class.as_bytes();
        let Some(block) = index.locate(class).map_err(|what| self.broken(Section::FormIndex, what))? else {
            return Ok(Vec::new());
        };
        let range = index.block(block).map_err(|what| self.broken(Section::FormIndex, what))?;
        let bytes = hand.get(self, self.within(Section::Forms, range)?)?;
        let broken = |what| self.broken(Section::Forms, what);
        let mut entries = Entries::new(&bytes);
        while entries.advance().map_err(broken)? {
            let order = entries.entry().cmp(class);
            let terms = terms(entries.payload()).map_err(broken)?;
            match order {
                Ordering::Less => {}
                Ordering::Equal => return Ok(terms),
                Ordering::Greater => break,
            }
        }
        Ok(Vec::new())
    }
}
