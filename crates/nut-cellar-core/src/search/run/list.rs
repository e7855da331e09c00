//! One posting list of a word in one shelf, block by block: what each posting brings, and what bounds that.
//!
//! What always holds: no posting of a block brings more than the bound of the block.

use super::cursors::Cursors;
use super::scorer::{Rows, SLACK, Scorer};
use super::word::{FormTerms, TermCursor};
use crate::error::Result;
use crate::rank::WordScorer;
use crate::schema::ColumnSet;
use crate::shelf::{END, Held, Most, Postings, Step, if_held};
use std::ops::Range;
use std::sync::Arc;

/// The bounds of lists of so many blocks are worth keeping for searches with the same weights.
const MANY_BLOCKS: usize = 4;
/// Stands for a bound that was not worked out yet.
const UNKNOWN: f32 = -1.0;

/// A word that scores.
#[derive(Clone, Copy, Debug)]
pub(super) struct Scale {
    pub scorer: WordScorer,
    /// How often it was typed.
    pub times: f32,
}

impl Scale {
    /// That of a word in the plan.
    pub fn of(cursors: &Cursors<'_>, word: usize) -> Self {
        let scorer = cursors.scorer.formula.word(cursors.ranking.idf[word]);
        Self { scorer, times: cursors.most_times[word] as f32 }
    }

    /// What the word adds to a score by its tf~.
    #[inline]
    pub fn part(self, frequency: f32) -> f32 {
        self.part_of(frequency, self.times)
    }

    /// The same, in a record where it counts so often.
    #[inline]
    pub fn part_of(self, frequency: f32, times: f32) -> f32 {
        self.scorer.part(frequency) * times
    }
}

/// The postings of one list, with their own place in it. What they bring, their *values*, are parts of scores where the list is alone in
/// its word, and tf~, each form's times its likeness, where others come on top.
pub(super) struct List {
    /// The place of the word in the plan.
    pub word: usize,
    pub postings: Postings,
    forms: Arc<FormTerms>,
    columns: ColumnSet,
    /// What makes parts of tf~, if values are parts.
    scale: Option<Scale>,
    /// The block in which it is, and the ordinal up to which that holds. Past the end there is no such block.
    pub block: usize,
    pub last: u32,
    /// For each block the greatest value, once that was asked; less than 0 before. And its greatest tf~, as far as others have asked.
    bounds: Vec<f32>,
    most: Option<Arc<Most>>,
    /// What each posting of a block brings, and which block; where the shape does not tell it, if only `told` was asked, what that is at most with
    /// the sign turned.
    values: Vec<f32>,
    told: Option<usize>,
    scored: Option<usize>,
    /// How its postings score by their shapes.
    rows: Option<Rows>,
}

impl List {
    pub fn new(cursors: &Cursors<'_>, word: usize, term: &TermCursor, is_alone: bool) -> Self {
        let postings = term.postings.clone();
        let factors = || cursors.scorer.formula.factor_bits();
        let most = (postings.blocks() >= MANY_BLOCKS).then(|| postings.most(term.columns, &factors()));
        Self {
            word,
            forms: Arc::clone(&term.forms),
            columns: term.columns,
            scale: is_alone.then(|| Scale::of(cursors, word)),
            block: 0,
            last: 0,
            bounds: vec![UNKNOWN; postings.blocks()],
            most,
            values: Vec::new(),
            told: None,
            scored: None,
            rows: None,
            postings,
        }
    }

    /// The value of a tf~.
    fn value(&self, frequency: f32) -> f32 {
        self.scale.map_or(frequency, |scale| scale.part(frequency))
    }

    /// Goes on to the block with the first posting from a record on.
    #[inline]
    pub fn go_to(&mut self, ordinal: u32) -> Result<()> {
        if self.last < ordinal { self.find_block(ordinal) } else { Ok(()) }
    }

    /// Begins at a record, wherever it was.
    pub fn begin(&mut self, ordinal: u32) -> Result<()> {
        self.block = 0;
        self.find_block(ordinal)
    }

    fn find_block(&mut self, ordinal: u32) -> Result<()> {
        self.block = self.postings.block_with(self.block, ordinal);
        self.last = self.postings.last_of(self.block);
        if self.block == 0 && self.postings.blocks() == 1 {
            // No table says where it ends.
            self.unpack(0)?;
            self.last = self.postings.unpacked().last().copied().unwrap_or(0);
        }
        if self.block >= self.postings.blocks() || self.last < ordinal {
            (self.block, self.last) = (self.postings.blocks(), END);
        }
        Ok(())
    }

    /// Whether it is past its last posting.
    pub fn is_past(&self) -> bool {
        self.block >= self.postings.blocks()
    }

    /// The greatest value of the block in which it is; nothing past the end.
    #[inline]
    pub fn bound(&mut self, held: &mut Held, scorer: &mut Scorer<'_>) -> Step<f32> {
        match self.bounds.get(self.block) {
            Some(bound) if *bound >= 0.0 => Ok(*bound),
            Some(_) => self.bound_of(held, scorer, self.block),
            None => Ok(0.0),
        }
    }

    fn bound_of(&mut self, held: &mut Held, scorer: &mut Scorer<'_>, block: usize) -> Step<f32> {
        if self.bounds[block] >= 0.0 {
            return Ok(self.bounds[block]);
        }
        let known = self.most.as_ref().and_then(|most| most.get(block));
        let share = |column, tf, length| scorer.formula.frequency(column, tf, length);
        let most = match known {
            None => self.postings.most_in(block, self.columns, share)?,
            known => known,
        };
        let bound = if let Some(most) = most {
            if let (Some(all), None) = (&self.most, known) {
                all.put(block, most);
            }
            self.value(most * self.most_alike(block))
        } else {
            // The only block says it itself.
            self.score(held, scorer, block)?;
            if held.complete().is_err() {
                return Ok(f32::INFINITY);
            }
            self.values.iter().copied().fold(0.0, f32::max)
        };
        self.bounds[block] = bound;
        Ok(bound)
    }

    /// How alike the forms of a block are at most, and a little more.
    fn most_alike(&self, block: usize) -> f32 {
        if self.postings.list_forms() == 1 {
            return self.forms.first[0];
        }
        let (codes, several) = (self.postings.codes_of(block), self.postings.kinds().several());
        let greatest = if codes >> several & 1 == 1 {
            self.forms.greatest
        } else {
            (0..several)
                .filter(|code| codes >> code & 1 == 1)
                .map(|code| self.forms.likeness(code))
                .fold(0.0, f32::max)
        };
        greatest * SLACK
    }

    /// The greatest value of each block.
    pub fn all_bounds(&mut self, held: &mut Held, scorer: &mut Scorer<'_>) -> Step<&[f32]> {
        for block in 0..self.bounds.len() {
            self.bound_of(held, scorer, block)?;
        }
        Ok(&self.bounds)
    }

    /// Unpacks a block, and works out what those of its postings bring whose shapes tell it.
    pub fn score_told(&mut self, scorer: &mut Scorer<'_>, block: usize) -> Result<()> {
        self.unpack(block)?;
        if self.told == Some(block) {
            return Ok(());
        }
        self.postings.unpack_shapes()?;
        // Working out rows takes longer than a few postings.
        let rows = self.rows.get_or_insert_with(|| match self.postings.blocks() {
            ..=1 => Rows::default(),
            _ => scorer.rows(self.postings.kinds(), self.columns),
        });
        self.values.clear();
        let by = (&*rows, self.postings.kinds(), &*self.forms);
        scorer.by_rows(by, self.postings.unpacked(), self.postings.unpacked_shapes(), &mut self.values);
        if let Some(scale) = self.scale {
            let part = |value: f32| match value {
                f32::NEG_INFINITY => value,
                0.0.. => scale.part(value),
                _ => -scale.part(-value),
            };
            self.values.iter_mut().for_each(|value| *value = part(*value));
        }
        self.told = Some(block);
        Ok(())
    }

    /// Unpacks a block, and works out what each of its postings brings; where something is not at hand that is noted.
    pub fn score(&mut self, held: &mut Held, scorer: &mut Scorer<'_>, block: usize) -> Step<()> {
        self.score_told(scorer, block)?;
        if self.scored == Some(block) {
            return Ok(());
        }
        for place in 0..self.values.len() {
            if self.values[place] < 0.0 {
                self.values[place] = self.work_out(held, scorer, place)?;
            }
        }
        self.scored = Some(block);
        Ok(())
    }

    fn work_out(&mut self, held: &mut Held, scorer: &mut Scorer<'_>, place: usize) -> Step<f32> {
        self.postings.stand(place);
        let frequency = scorer.posting(held, &mut self.postings, self.columns, &self.forms)?;
        Ok(self.value(frequency))
    }

    /// What a posting of the block that is unpacked brings; none if its shape tells that it is not more than so much.
    pub fn value_above(
        &mut self,
        held: &mut Held,
        scorer: &mut Scorer<'_>,
        place: usize,
        least: f32,
    ) -> Step<Option<f32>> {
        if self.told.is_some() && self.values[place] < 0.0 && -self.values[place] <= least {
            return Ok(None);
        }
        self.value_at(held, scorer, place).map(Some)
    }

    /// What the postings of the block bring that was [scored](Self::score).
    pub fn values(&self) -> &[f32] {
        &self.values
    }

    /// Unpacks a block.
    pub fn unpack(&mut self, block: usize) -> Result<()> {
        if self.postings.unpacked_block() != Some(block) {
            (self.told, self.scored) = (None, None);
            self.postings.enter(block)?;
        }
        Ok(())
    }

    /// Which postings of the block that is unpacked lie in a window.
    pub fn places(&self, window: &Range<u32>) -> Range<usize> {
        let ordinals = self.postings.unpacked();
        let first = ordinals.partition_point(|ordinal| *ordinal < window.start);
        first..first + ordinals[first..].partition_point(|ordinal| *ordinal < window.end)
    }

    /// What a posting of the block that is unpacked brings.
    pub fn value_at(&mut self, held: &mut Held, scorer: &mut Scorer<'_>, place: usize) -> Step<f32> {
        if self.told.is_some() && self.values[place] >= 0.0 {
            return Ok(self.values[place]);
        }
        self.work_out(held, scorer, place)
    }

    /// What the posting of a record brings that lies in the block at hand; none if the record does not have the term.
    pub fn value_of(&mut self, held: &mut Held, scorer: &mut Scorer<'_>, ordinal: u32) -> Step<Option<f32>> {
        let Some(list) = self.postings.list_unpacked() else {
            self.unpack(self.block)?;
            let Ok(place) = self.postings.unpacked().binary_search(&ordinal) else { return Ok(None) };
            return self.value_at(held, scorer, place).map(Some);
        };
        let Some(place) = list.place_of(ordinal) else { return Ok(None) };
        let kinds = self.postings.kinds();
        let told = list.shape(place).and_then(|shape| kinds.form(shape).zip(kinds.even(shape)));
        if let Some((form, (columns, tf))) = told {
            let frequency = scorer.even(held, ordinal, columns.both(self.columns), tf)?;
            return Ok(Some(self.value(frequency * self.forms.likeness(form))));
        }
        let per_block = self.postings.per_block();
        self.unpack(place / per_block)?;
        self.value_at(held, scorer, place % per_block).map(Some)
    }

    /// The value of a record, wherever it is; none if it does not have the term. Records ascend.
    pub fn value_from(
        &mut self,
        held: &mut Held,
        scorer: &mut Scorer<'_>,
        ordinal: u32,
    ) -> Step<Option<f32>> {
        if self.postings.list_unpacked().is_none() {
            self.go_to(ordinal)?;
            if self.is_past() {
                return Ok(None);
            }
        }
        Ok(if_held(self.value_of(held, scorer, ordinal))?.flatten())
    }
}
