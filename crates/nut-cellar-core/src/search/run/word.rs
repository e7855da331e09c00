//! The postings of a word in one shelf: the lists of all its terms, gone through as one, with what they score and what bounds that. Terms that
//! are forms of one class have one list.
//!
//! What always holds: a cursor is asked for ascending records, or for ascending windows, and not for both.

use super::scorer::Scorer;
use crate::bits::Bits;
use crate::error::Result;
use crate::schema::ColumnSet;
use crate::shelf::{END, FORM_CODES, Held, Postings, Step};
use std::ops::Range;
use std::sync::Arc;

/// A term of a word that is a form of a list.
#[derive(Clone, Copy, Debug)]
pub(in crate::search) struct FormTerm {
    /// Which form.
    pub form: u32,
    /// How alike it is to what was typed.
    pub likeness: f32,
    /// The place of the term among those of the word.
    pub part: usize,
}

/// The terms of a word that have a list together.
#[derive(Debug)]
pub(in crate::search) struct FormTerms {
    /// In the order in which they add up.
    pub terms: Vec<FormTerm>,
    /// How alike each form is whose number is so low, 0 if it is none of them.
    pub first: [f32; FORM_CODES],
    /// The likeness of the most alike.
    pub greatest: f32,
}

impl FormTerms {
    pub fn new(terms: Vec<FormTerm>) -> Self {
        let mut first = [0.0; FORM_CODES];
        for term in &terms {
            if let Some(likeness) = first.get_mut(term.form as usize) {
                *likeness = term.likeness;
            }
        }
        let greatest = terms.iter().map(|term| term.likeness).fold(0.0, f32::max);
        Self { terms, first, greatest }
    }

    /// How alike a form is; 0 if it is none of them.
    #[inline]
    pub fn likeness(&self, form: u32) -> f32 {
        let other = || self.terms.iter().find(|term| term.form == form).map_or(0.0, |term| term.likeness);
        self.first.get(form as usize).copied().unwrap_or_else(other)
    }
}

/// A list of a word.
#[derive(Clone, Debug)]
pub(in crate::search) struct TermCursor {
    pub postings: Postings,
    /// Its terms.
    pub forms: Arc<FormTerms>,
    /// The columns in which they count, and whether they may be in others.
    pub columns: ColumnSet,
    limited: bool,
    /// Where its postings stand; [`END`] past the last.
    pub here: u32,
    begun: bool,
}

/// The terms of a word that a shelf has.
#[derive(Clone, Debug, Default)]
pub(in crate::search) struct WordCursor {
    pub terms: Vec<TermCursor>,
    here: u32,
    /// Whether a term that a record has may be in other columns than those in which it counts.
    limited: bool,
}

impl TermCursor {
    /// Before its first posting. `all` are the columns in which its terms may be.
    pub fn new(postings: Postings, terms: Vec<FormTerm>, columns: ColumnSet, all: ColumnSet) -> Self {
        let limited = columns.both(all) != all;
        Self { postings, forms: Arc::new(FormTerms::new(terms)), columns, limited, here: 0, begun: false }
    }

    /// Goes on to the first posting from a record on.
    fn seek(&mut self, ordinal: u32) -> Result<u32> {
        if self.here < ordinal || !self.begun {
            self.begun = true;
            self.here = if self.postings.seek(ordinal)? { self.postings.ordinal() } else { END };
        }
        Ok(self.here)
    }

    /// Adds the records of a window that have the term; in a column in which it counts, if it is `limited`.
    pub fn fill(&mut self, window: &Range<u32>, limited: bool, bits: &mut Bits) -> Result<()> {
        if let (Some(list), false) = (self.postings.list_unpacked(), limited) {
            bits.add_part(list.bits(), window.start as usize);
            return Ok(());
        }
        self.each_in(window, limited, |place, has| bits.put(place, has))
    }

    /// Gives the places of records in a window that have the term, and whether in a column in which it counts, if it is `limited`.
    pub fn each_in(
        &mut self,
        window: &Range<u32>,
        limited: bool,
        mut take: impl FnMut(usize, bool),
    ) -> Result<()> {
        let (place, columns) = (|ordinal: u32| (ordinal - window.start) as usize, self.columns);
        self.postings.each_block_in(window, |postings, inside| {
            if limited {
                return postings.each_in(inside, columns, |ordinal, has| take(place(ordinal), has));
            }
            postings.unpacked()[inside].iter().for_each(|ordinal| take(place(*ordinal), true));
            Ok(())
        })
    }
}

impl WordCursor {
    /// A word of some lists.
    pub fn new(terms: Vec<TermCursor>) -> Self {
        let limited = terms.iter().any(|term| term.limited);
        Self { terms, here: 0, limited }
    }

    /// About how many records have one of the terms.
    pub fn cost(&self) -> u64 {
        self.terms.iter().map(|term| u64::from(term.postings.records())).sum()
    }

    /// The list of its only term, and whether that is limited to columns.
    pub fn only_list(&mut self) -> Option<(&mut TermCursor, bool)> {
        let [only] = self.terms.as_mut_slice() else { return None };
        Some((only, self.limited))
    }

    /// Whether a term that a record has may be in other columns than those in which it counts.
    pub fn is_limited(&self) -> bool {
        self.limited
    }

    /// The first record from one on that has one of the terms, in whatever column; [`END`] if there is none.
    pub fn seek(&mut self, ordinal: u32) -> Result<u32> {
        if let [only] = self.terms.as_mut_slice() {
            return only.seek(ordinal);
        }
        if self.here < ordinal || ordinal == 0 {
            let mut least = END;
            for term in &mut self.terms {
                least = least.min(term.seek(ordinal)?);
            }
            self.here = least;
        }
        Ok(self.here)
    }

    /// Whether a record has one of the terms in a column in which it counts.
    pub fn has(&mut self, ordinal: u32) -> Result<bool> {
        if let ([only], false) = (self.terms.as_slice(), self.limited)
            && let Some(list) = only.postings.list_unpacked()
        {
            return Ok(list.has(ordinal));
        }
        if self.seek(ordinal)? != ordinal {
            return Ok(false);
        }
        if !self.limited {
            return Ok(true);
        }
        for term in self.terms.iter_mut().filter(|term| term.here == ordinal) {
            if !term.postings.columns_here()?.both(term.columns).is_empty() {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// Adds the records of a window that have one of the terms in a column in which it counts.
    pub fn fill(&mut self, window: &Range<u32>, bits: &mut Bits) -> Result<()> {
        let limited = self.limited;
        self.terms.iter_mut().try_for_each(|term| term.fill(window, limited, bits))
    }

    /// tf~ of the word in a record: lists in the order of their stemmings and keys.
    pub fn frequency(&mut self, held: &mut Held, scorer: &mut Scorer<'_>, ordinal: u32) -> Step<f32> {
        let mut sum = 0.0;
        if self.seek(ordinal)? == ordinal {
            for term in self.terms.iter_mut().filter(|term| term.here == ordinal) {
                sum += scorer.posting(held, &mut term.postings, term.columns, &term.forms)?;
            }
        }
        Ok(sum)
    }
}
