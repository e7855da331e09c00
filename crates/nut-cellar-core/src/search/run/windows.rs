//! Windows of records are gone through word by word, and what can't come to the front is left out: windows end where the block of one of the
//! lists ends, so that each has one block in it, with a bound; or they have a fixed size, and each word one bound for all of them; or
//! nothing is left out.

use super::scan::{BETWEEN_STOPS, Scan, Sum};
use super::sums::Sums;
use super::top::Scored;
use crate::shelf::{Held, Step, if_held};
use std::ops::Range;

/// The most records of a window: sums for so many fit into the nearer caches.
pub(super) const MOST_RECORDS: u32 = 1 << 14;
/// The least records of a window of a fixed size, and about the postings that each list has in it.
const LEAST_RECORDS: u32 = 1 << 12;
const POSTINGS: u64 = 512;
/// In windows of a fixed size words are looked up as long as they add no more than this share of the score that has to be beaten: with
/// more, too many records can get there with them.
const LOOKED_UP: f32 = 0.5;
/// So many blocks with the greatest bounds are looked at first.
const FIRST_BLOCKS: usize = 8;

/// How windows are made.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Pace {
    /// They end where a block ends.
    Blocks,
    /// They have a fixed size, and words are looked up that bring no record to the front; so many records, for tests.
    Fixed(Option<u32>),
    /// They have a fixed size, and every posting is scored.
    Every,
}

/// What a scan found out besides the best records.
#[derive(Default)]
pub(super) struct Scanned {
    /// How many records match, if that was told.
    pub counted: Option<u64>,
    /// The first record that was not looked at, for it was dear to score them one by one.
    pub left: Option<u32>,
}

impl Scan<'_, '_> {
    /// Goes through the windows of a run.
    pub(super) fn windows(&mut self, held: &mut Held, run: &Range<u32>, pace: Pace) -> Step<Scanned> {
        let mut scanned = Scanned::default();
        if pace != Pace::Every {
            self.raise_floor(held)?;
        }
        self.begin(run.start)?;
        let size = self.prepare(held, pace)?;
        let tells_all =
            pace == Pace::Every && self.words_tell_all && self.root.is_none() && self.allowed.is_none();
        if tells_all && self.matched.is_none() && self.cursors.standing.mask.is_none() {
            scanned.counted = Some(0);
        }
        let mut order: Vec<_> = (0..self.words.len()).collect();
        let mut room = (Sums::default(), Sums::default());
        let (mut start, mut until_stop) = (run.start, 0);
        while start < run.end {
            if self.rough > self.most_rough {
                scanned.left = Some(start);
                break;
            }
            if until_stop == 0 || pace != Pace::Blocks {
                self.find.go_on()?;
                until_stop = BETWEEN_STOPS;
            }
            until_stop -= 1;
            let end = match pace {
                Pace::Blocks => self.go_to(held, start)?.0.saturating_add(1).min(run.end),
                Pace::Fixed(_) | Pace::Every => start.saturating_add(size).min(run.end),
            };
            let (essential, rest) = self.essential(&mut order, pace);
            if essential == order.len() {
                start = if pace == Pace::Blocks { end } else { run.end };
                continue;
            }
            let window = start..end.min(start.saturating_add(MOST_RECORDS));
            start = window.end;
            let (others, words) = order.split_at_mut(essential);
            if let ([only], Pace::Blocks) = (&*words, pace)
                && !self.words[*only].adds_up()
            {
                self.one_word(held, (*only, others), &window, rest)?;
                continue;
            }
            // In query order, in which scores add up.
            words.sort_unstable();
            self.several_words(
                held,
                (words, others),
                &window,
                (rest, pace),
                &mut room,
                &mut scanned.counted,
            )?;
        }
        Ok(scanned)
    }

    /// Works out the bounds of words in windows of a fixed size, and that size.
    fn prepare(&mut self, held: &mut Held, pace: Pace) -> Step<u32> {
        if let Pace::Fixed(size) = pace {
            for word in &mut self.words {
                let mut bound = 0.0;
                for list in &mut self.lists[word.lists.clone()] {
                    bound += greatest(list.all_bounds(held, &mut self.cursors.scorer)?);
                }
                word.bound = if word.adds_up() { word.scale.part(bound) } else { bound };
            }
            if let Some(size) = size {
                return Ok(size);
            }
        }
        let postings: u64 = self.lists.iter().map(|list| u64::from(list.postings.records())).sum();
        let records = u64::from(self.cursors.standing.shelf.records());
        let wanted = records * POSTINGS * self.lists.len() as u64 / postings.max(1);
        let size = wanted.clamp(LEAST_RECORDS.into(), MOST_RECORDS.into());
        Ok(u32::try_from(size).unwrap_or(MOST_RECORDS).next_power_of_two())
    }

    /// Looks at the best blocks of the list that can add the most, for a score that k records reach.
    fn raise_floor(&mut self, held: &mut Held) -> Step<()> {
        let blocks: usize = self.lists.iter().map(|list| list.postings.blocks()).sum();
        let is_sure = self.root.is_none() && self.words_count_in_full;
        if !is_sure || !self.top.can_raise() || blocks < FIRST_BLOCKS {
            return Ok(());
        }
        let (mut most, mut best_list) = (f32::NEG_INFINITY, None);
        for word in &self.words {
            for place in word.lists.clone() {
                let bound = greatest(self.lists[place].all_bounds(held, &mut self.cursors.scorer)?);
                let part = if word.adds_up() { word.scale.part(bound) } else { bound };
                if part > most {
                    (most, best_list) = (part, Some((place, word.adds_up().then_some(word.scale))));
                }
            }
        }
        let Some((place, scale)) = best_list else { return Ok(()) };
        let (list, standing) = (&mut self.lists[place], self.cursors.standing);
        let scorer = &mut self.cursors.scorer;
        let mut bounds: Vec<_> = list.all_bounds(held, scorer)?.iter().copied().enumerate().collect();
        let first = FIRST_BLOCKS.min(bounds.len());
        bounds.select_nth_unstable_by(first - 1, |a, b| b.1.total_cmp(&a.1));
        let mut best = self.top.like();
        for (block, _) in bounds.drain(..first) {
            list.score(held, scorer, block)?;
            self.scored += list.values().len() as u64;
            for (ordinal, value) in list.postings.unpacked().iter().zip(list.values()) {
                let part = scale.map_or(*value, |scale| scale.part(*value));
                let is_allowed = || self.allowed.as_ref().is_none_or(|allowed| allowed.has(*ordinal));
                if part > best.threshold() && is_allowed() && !standing.removed(*ordinal) {
                    best.offer(Scored::by_score(part, *ordinal));
                }
            }
        }
        if let Some(worst) = best.worst() {
            self.top.raise_floor(worst.score);
        }
        Ok(())
    }

    /// Puts the words in order, those first that add the least: from which place on they are needed to beat the score that has to be beaten,
    /// and what those before can add together.
    fn essential(&self, order: &mut [usize], pace: Pace) -> (usize, f32) {
        let threshold = self.top.threshold();
        let most = match pace {
            Pace::Every => return (0, 0.0),
            Pace::Blocks => threshold,
            // Half of what is just below nothing is nothing.
            Pace::Fixed(_) => threshold.min(LOOKED_UP * threshold),
        };
        let bound = |word: usize| self.words[word].bound;
        order.sort_unstable_by(|a, b| bound(*a).total_cmp(&bound(*b)));
        let (mut place, mut rest) = (0, 0.0);
        while let Some(word) = order.get(place) {
            let with = rest + bound(*word);
            if self.cursors.with_slack(with) > most {
                break;
            }
            (place, rest) = (place + 1, with);
        }
        (place, rest)
    }

    /// Only one word, of one list, can bring a record of a window to the front.
    fn one_word(
        &mut self,
        held: &mut Held,
        (only, others): (usize, &[usize]),
        window: &Range<u32>,
        rest: f32,
    ) -> Step<()> {
        let place_of = self.words[only].lists.start;
        let is_dense = self.sieve().is_none_or(|allowed| allowed.are_many);
        let list = &mut self.lists[place_of];
        list.unpack(list.block)?;
        if is_dense {
            list.score_told(&mut self.cursors.scorer, list.block)?;
        }
        let places = list.places(window);
        let mut least = self.least_sum(rest);
        for place in places {
            let ordinal = self.lists[place_of].postings.unpacked()[place];
            if !is_dense && self.sieve().is_some_and(|allowed| !allowed.has(ordinal)) {
                continue;
            }
            self.scored += 1;
            let list = &mut self.lists[place_of];
            let part = if_held(list.value_above(held, &mut self.cursors.scorer, place, least))?.flatten();
            if let Some(part) = part.filter(|part| *part > least || least < 0.0) {
                self.look_up(held, others, ordinal, (part, rest), true)?;
                least = self.least_sum(rest);
            }
        }
        Ok(())
    }

    /// Several words can bring a record of a window to the front; `rest` is what the others add at most.
    fn several_words(
        &mut self,
        held: &mut Held,
        (words, others): (&[usize], &[usize]),
        window: &Range<u32>,
        (rest, pace): (f32, Pace),
        (sums, of_word): &mut (Sums, Sums),
        counted: &mut Option<u64>,
    ) -> Step<()> {
        sums.for_window(window.len());
        // Of a single word it need not be worked out what small frequencies add.
        let single = match words {
            [only] if others.is_empty() && self.words[*only].adds_up() && self.matched.is_none() => {
                Some(*only)
            }
            _ => None,
        };
        if let Some(matched) = &mut self.matched {
            matched.go_to(window.clone());
        }
        for &word in words {
            if single.is_some() {
                self.add_lists(held, word, window, sums)?;
            } else {
                self.add_word(held, word, window, (sums, of_word))?;
            }
        }
        let count = sums.drain(self.least(single, rest), |place, sum| {
            let sum = single.map_or(sum, |word| self.words[word].scale.part(sum));
            self.look_up(held, others, window.start + place, (sum, rest), pace == Pace::Blocks)?;
            Ok(self.least(single, rest))
        })?;
        if let Some(counted) = counted {
            *counted += count;
        }
        Ok(())
    }

    /// A sum above which a record is looked at; a tf~ above which it is, if that is what is added up.
    fn least(&self, single: Option<usize>, rest: f32) -> f32 {
        let least = self.least_sum(rest);
        match single {
            // As a tf~ it could become 0, which records that score nothing do not exceed.
            Some(_) if least < 0.0 => least,
            Some(word) => {
                let scale = self.words[word].scale;
                scale.scorer.least_frequency(least / scale.times)
            }
            // Where others match that have no word, what scores nothing is looked for later.
            None if self.matched.is_some() && !self.words_tell_all => least.max(0.0),
            None => least,
        }
    }

    /// Adds up what a word adds in a window. `of_word` is empty, before and after.
    fn add_word(
        &mut self,
        held: &mut Held,
        word: usize,
        window: &Range<u32>,
        (sums, of_word): (&mut Sums, &mut Sums),
    ) -> Step<()> {
        of_word.for_window(window.len());
        let (in_plan, scale) = (self.lists[self.words[word].lists.start].word, self.words[word].scale);
        let mut matched = self.matched.take_if(|matched| !matched.is_even(in_plan));
        if let Some(matched) = &mut matched {
            if let Some(times) = matched.times(in_plan) {
                self.add_lists(held, word, window, of_word)?;
                sums.add_all(of_word, |place, frequency| scale.part_of(frequency, times[place]));
            }
        } else if self.words[word].adds_up() {
            self.add_lists(held, word, window, of_word)?;
            sums.add_all(of_word, |_, frequency| scale.part(frequency));
        } else {
            self.add_lists(held, word, window, sums)?;
        }
        if matched.is_some() {
            self.matched = matched;
        }
        Ok(())
    }

    /// Adds up what the lists of a word bring in a window.
    fn add_lists(&mut self, held: &mut Held, word: usize, window: &Range<u32>, sums: &mut Sums) -> Step<()> {
        for place in self.words[word].lists.clone() {
            let list = &mut self.lists[place];
            list.block = list.postings.block_with(list.block, window.start);
            while !self.lists[place].is_past() {
                self.add_block(held, place, window, sums)?;
                let list = &mut self.lists[place];
                if list.postings.last_of(list.block) >= window.end - 1 {
                    break;
                }
                list.block += 1;
            }
        }
        Ok(())
    }

    /// Adds up what the postings of the block of a list bring that lie in a window.
    fn add_block(&mut self, held: &mut Held, place: usize, window: &Range<u32>, sums: &mut Sums) -> Step<()> {
        let (list, scorer) = (&mut self.lists[place], &mut self.cursors.scorer);
        let at = |ordinal: u32| (ordinal - window.start) as usize;
        let sieve = self.allowed.as_ref().filter(|allowed| allowed.is_known());
        if let Some(allowed) = sieve.filter(|allowed| !allowed.are_many) {
            list.unpack(list.block)?;
            for place in list.places(window) {
                let ordinal = list.postings.unpacked()[place];
                if allowed.has(ordinal) {
                    sums.add(at(ordinal), if_held(list.value_at(held, scorer, place))?.unwrap_or(0.0));
                    self.scored += 1;
                }
            }
            return Ok(());
        }
        list.score(held, scorer, list.block)?;
        let places = list.places(window);
        self.scored += places.len() as u64;
        let ordinals = &list.postings.unpacked()[places.clone()];
        let each = ordinals.iter().zip(&list.values()[places]);
        match sieve {
            None => each.for_each(|(ordinal, value)| sums.add(at(*ordinal), *value)),
            Some(allowed) => {
                let each = each.filter(|(ordinal, _)| allowed.has(**ordinal));
                each.for_each(|(ordinal, value)| sums.add(at(*ordinal), *value));
            }
        }
        Ok(())
    }

    /// Looks for a record in the lists of other words, which add `rest` at most, those that can add the most first, and offers it if it can
    /// beat the score that has to be beaten. `in_blocks` tells whether it lies in the blocks of all lists.
    fn look_up(
        &mut self,
        held: &mut Held,
        others: &[usize],
        ordinal: u32,
        (sum, rest): (f32, f32),
        in_blocks: bool,
    ) -> Step<()> {
        let threshold = self.top.threshold();
        if !self.can_reach(sum, rest, threshold) || !self.passes(held, ordinal)? {
            return Ok(());
        }
        let (mut with, mut found) = (sum, 0);
        for (left, &other) in others.iter().enumerate().rev() {
            let rest = others[..=left].iter().fold(0.0, |sum, word| sum + self.words[*word].bound);
            if found > 0 && !self.can_reach(with, rest, threshold) {
                return Ok(());
            }
            if let Some(part) = self.part_of(held, other, ordinal)? {
                (with, found) = (with + part, found + 1);
            }
        }
        if found == 0 {
            return self.offer_sum(held, ordinal, sum);
        }
        if self.cursors.with_slack(with) <= threshold {
            return Ok(());
        }
        // Two parts add up to the same in either order.
        if self.exact && self.words.len() == 2 {
            return self.offer_sum(held, ordinal, with);
        }
        if self.exact && in_blocks {
            let score = self.score_of(held, ordinal, threshold)?;
            return score.map_or(Ok(()), |score| self.offer_sum(held, ordinal, score));
        }
        self.offer(held, ordinal, Sum::Rough)
    }
}

fn greatest(bounds: &[f32]) -> f32 {
    bounds.iter().copied().fold(0.0, f32::max)
}
