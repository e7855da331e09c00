//! The forms of words: for each class (a recipe, and what the forms have in common) its terms, in order. A class whose
//! only term is its own key is left out, as most would be.

use crate::error::Result;
use crate::shelf::build::output::Output;
use crate::shelf::format::directory::Section;
use crate::shelf::format::entries::Entries;
use crate::shelf::format::sorted::SortedWriter;
use crate::shelf::read::held::{Held, Step};
use crate::shelf::read::reader::Shelf;
use crate::wire::{Broken, Reader, put_bytes, put_varint};
use std::cmp::Ordering;
use std::sync::Arc;

/// Classes in a block.
const PER_BLOCK: usize = 256;

/// What packs classes, each with its terms.
pub(in crate::shelf) struct FormWriter(SortedWriter);

impl FormWriter {
    pub fn new() -> Self {
        Self(SortedWriter::new(PER_BLOCK))
    }

    /// Whether a class is not greater than the last one, so that it can't follow.
    pub fn reached(&self, class: &[u8]) -> bool {
        self.0.reached(class)
    }

    /// Takes a class that is greater than the one before, with its terms in order.
    pub fn push<'t>(&mut self, class: &[u8], terms: impl ExactSizeIterator<Item = &'t str>) {
        self.0.push(class, |block, _| {
            put_varint(block, terms.len() as u64);
            terms.for_each(|term| put_bytes(block, term.as_bytes()));
        });
    }

    /// Writes the classes and their index.
    pub fn write(self, out: &mut Output<'_>) -> Result<()> {
        self.0.finish(out, Section::Forms, Section::FormIndex)
    }
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

fn skip_terms(from: &mut Reader<'_>) -> Result<(), Broken> {
    for _ in 0..from.size()? {
        from.bytes()?;
    }
    Ok(())
}

impl Shelf {
    /// The classes of block `block`, in order, each with its terms; none past the last.
    pub(in crate::shelf) fn forms_in(
        self: &Arc<Self>,
        held: &mut Held,
        block: usize,
    ) -> Step<Vec<(Vec<u8>, Vec<String>)>> {
        self.entries_in(held, (Section::Forms, block), |class, from| Ok((class.to_vec(), terms(from)?)))
    }

    /// The terms of a class, but for one that is its own key.
    pub(crate) fn forms(self: &Arc<Self>, held: &mut Held, class: &str) -> Step<Vec<String>> {
        let index = self.index_of(held, Section::Forms)?;
        let class = class.as_bytes();
        let Some(block) = self.locate(Section::Forms, &index, class)? else { return Ok(Vec::new()) };
        let bytes = self.block_of(held, Section::Forms, &index, block)?;
        let broken = |what| self.broken(Section::Forms, what);
        let mut entries = Entries::new(&bytes);
        while entries.advance().map_err(broken)? {
            match entries.entry().cmp(class) {
                Ordering::Less => skip_terms(entries.payload()).map_err(broken)?,
                Ordering::Equal => return Ok(terms(entries.payload()).map_err(broken)?),
                Ordering::Greater => break,
            }
        }
        Ok(Vec::new())
    }
}
