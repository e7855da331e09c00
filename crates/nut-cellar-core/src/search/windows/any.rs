//! Few terms score, and any of them will do: windows end where blocks end, and what can't come to the front is left out.
//!
//! The terms with the least bounds, as long as theirs together do not reach the score that has to be beaten, can bring no record
//! to the front alone. Where none of the others can, either, only records count that have two of them.

use super::sums::Sums;
use super::{BETWEEN_STOPS, FIRST, MOST, Windows};
use crate::bits::each_in;
use crate::error::Result;
use crate::search::find::Find;
use crate::search::top::Scored;
use crate::shelf::{Hand, Step, if_at_hand};
use std::ops::Range;

/// So many terms are looked at together for records that have several of them.
const MOST_TOGETHER: usize = 8;
/// From so many postings of a window on it is better to look where lists meet than to look up one after the other.
const MANY: usize = 8;

/// Room for what a window needs.
#[derive(Default)]
struct Room {
    sums: Sums,
    /// For each record of the window which of some streams have it, one bit each.
    has: Vec<u8>,
    /// Of terms that many records have, the records that have one, and those that have two, as words of 64 bits.
    once: Vec<u64>,
    twice: Vec<u64>,
    /// The records that a second one of them has.
    meetings: Vec<u32>,
    /// Records, and what a term adds to their scores.
    list: Vec<(u32, f32)>,
}

impl Windows<'_, '_> {
    /// Goes through windows that end where a block of one of the terms ends.
    pub(super) fn by_bounds(&mut self, hand: &mut Hand, find: &Find, run: &Range<u32>) -> Step<()> {
        self.raise_floor(hand)?;
        for stream in &mut self.streams {
            stream.begin(run.start)?;
        }
        let mut room = Room::default();
        let mut order: Vec<_> = (0..self.streams.len()).collect();
        let (mut start, mut until_stop) = (run.start, 0);
        while start < run.end {
            if self.is_dear() {
                self.left = Some(start);
                break;
            }
            if until_stop == 0 {
                find.go_on()?;
                until_stop = BETWEEN_STOPS;
            }
            until_stop -= 1;
            let (mut last, mut total) = (run.end - 1, 0.0);
            for (stream, bound) in self.streams.iter_mut().zip(&mut self.bounds) {
                stream.go_to(start)?;
                last = last.min(stream.last);
                *bound = stream.bound(hand, self.cursors)?;
                total += *bound;
            }
            if self.with_slack(total) <= self.top.threshold() {
                start = last + 1;
                continue;
            }
            let window = start..last + 1;
            start = window.end;
            let (mut essential, mut rest) = self.essential(&mut order);
            let threshold = self.top.threshold();
            let most = order.last().map_or(0.0, |stream| self.bounds[*stream]);
            let alone_will_do = self.can_reach(most, 0.0, threshold);
            if let [only] = order[essential..]
                && (alone_will_do || self.has_few(only, &window)?)
            {
                self.alone(hand, (only, &order[..essential]), &window, rest)?;
                continue;
            }
            // None will do alone: then it needs another, of as many as those that are left can't make up for.
            while !alone_will_do && essential > 0 && self.can_reach(most, rest, threshold) {
                essential -= 1;
                rest = order[..essential].iter().map(|stream| self.bounds[*stream]).sum();
            }
            self.together(hand, &mut order, essential, &window, rest, &mut room)?;
        }
        Ok(())
    }

    /// Looks at the best blocks of the term that can add the most, for a score that k records reach.
    pub(super) fn raise_floor(&mut self, hand: &mut Hand) -> Step<()> {
        let blocks: usize = self.streams.iter().map(|stream| stream.postings.blocks()).sum();
        if self.root.is_some() || !self.top.can_raise() || blocks < FIRST {
            return Ok(());
        }
        let mut most = None;
        for (place, stream) in self.streams.iter_mut().enumerate() {
            let greatest = stream.all_bounds(hand, self.cursors)?.iter().copied().fold(0.0, f32::max);
            if most.is_none_or(|(known, _)| greatest > known) {
                most = Some((greatest, place));
            }
        }
        let Some((_, place)) = most else { return Ok(()) };
        let (stream, standing) = (&mut self.streams[place], self.cursors.standing);
        let mut bounds: Vec<_> = stream.all_bounds(hand, self.cursors)?.iter().copied().enumerate().collect();
        let first = FIRST.min(bounds.len());
        bounds.select_nth_unstable_by(first - 1, |a, b| b.1.total_cmp(&a.1));
        let mut best = self.top.like();
        for (block, _) in bounds.drain(..first) {
            stream.reckon(hand, self.cursors, block)?;
            self.scored += stream.parts().len() as u64;
            for (ordinal, part) in stream.postings.unpacked().iter().zip(stream.parts()) {
                let part = if stream.is_in_frequencies() { stream.part(*part) } else { *part };
                let sieved = || self.sieve.as_ref().is_none_or(|sieve| sieve.has(*ordinal));
                if part > best.threshold() && sieved() && !standing.removed(*ordinal) {
                    best.offer(Scored::by_score(part, *ordinal));
                }
            }
        }
        if let Some(worst) = best.worst() {
            self.top.raise_floor(worst.score);
        }
        Ok(())
    }

    /// From which place in the order on streams are needed to beat the score that has to be beaten, and what those before can
    /// add together.
    fn essential(&self, order: &mut [usize]) -> (usize, f32) {
        let bound = |stream: usize| self.bounds[stream];
        order.sort_unstable_by(|a, b| bound(*a).total_cmp(&bound(*b)));
        let (mut place, mut rest) = (0, 0.0);
        while let Some(stream) = order.get(place) {
            let with = rest + bound(*stream);
            if self.cursors.with_slack(with) > self.top.threshold() {
                break;
            }
            (place, rest) = (place + 1, with);
        }
        (place, rest)
    }

    /// Only one term can bring a record of a window to the front.
    fn alone(
        &mut self,
        hand: &mut Hand,
        (only, others): (usize, &[usize]),
        window: &Range<u32>,
        rest: f32,
    ) -> Step<()> {
        let stream = &mut self.streams[only];
        stream.unpack(stream.block)?;
        let places = stream.places(window);
        if places.len() >= MANY && self.sieve.is_none() {
            stream.reckon(hand, self.cursors, stream.block)?;
        }
        self.scored += places.len() as u64;
        let mut least = self.least_sum(rest);
        for place in places {
            let stream = &mut self.streams[only];
            if self.sieve.as_ref().is_some_and(|sieve| !sieve.has(stream.postings.unpacked()[place])) {
                continue;
            }
            let part = if_at_hand(stream.part_at(hand, self.cursors, place))?.unwrap_or(0.0);
            if part > least || least < 0.0 {
                let ordinal = stream.postings.unpacked()[place];
                self.look_up(hand, others, ordinal, part, rest)?;
                least = self.least_sum(rest);
            }
        }
        Ok(())
    }

    /// Several terms can bring a record of a window to the front. `rest` is what the others add at most.
    fn together(
        &mut self,
        hand: &mut Hand,
        order: &mut [usize],
        essential: usize,
        window: &Range<u32>,
        rest: f32,
        room: &mut Room,
    ) -> Step<()> {
        // In query order, in which scores add up.
        order[essential..].sort_unstable();
        let (others, together) = order.split_at(essential);
        if window.len() > MOST as usize {
            return self.far_apart(hand, (together, others), window, rest, &mut room.list);
        }
        let threshold = self.top.threshold();
        let reaches = |stream: &usize| self.can_reach(self.bounds[*stream], rest, threshold);
        if together.len() <= MOST_TOGETHER && !together.iter().any(reaches) {
            return self.where_they_meet(hand, (together, others), window, rest, room);
        }
        for &place in together {
            if !self.streams[place].is_past() {
                let block = self.streams[place].block;
                self.add_up(hand, place, block, window, room.sums.for_window(window.len()))?;
            }
        }
        room.sums.drain(self.least_sum(rest), |place, sum| {
            self.look_up(hand, others, window.start + place, sum, rest)
        })
    }

    /// A window in which the postings are so far apart that they are better put in order than into sums.
    fn far_apart(
        &mut self,
        hand: &mut Hand,
        (together, others): (&[usize], &[usize]),
        window: &Range<u32>,
        rest: f32,
        list: &mut Vec<(u32, f32)>,
    ) -> Step<()> {
        list.clear();
        for &place in together {
            let stream = &mut self.streams[place];
            if !stream.is_past() {
                stream.reckon(hand, self.cursors, stream.block)?;
                let places = stream.places(window);
                self.scored += places.len() as u64;
                let ordinals = stream.postings.unpacked()[places.clone()].iter();
                list.extend(ordinals.copied().zip(stream.parts()[places].iter().copied()));
            }
        }
        // Of one record they stay in query order, in which scores add up.
        list.sort_by_key(|(ordinal, _)| *ordinal);
        for of_record in list.chunk_by(|(a, _), (b, _)| a == b) {
            let sum = of_record.iter().fold(0.0, |sum, (_, part)| sum + part);
            self.look_up(hand, others, of_record[0].0, sum, rest)?;
        }
        Ok(())
    }

    /// None of the terms can bring a record of a window to the front alone: looks at those that have two of them, or more.
    fn where_they_meet(
        &mut self,
        hand: &mut Hand,
        (together, others): (&[usize], &[usize]),
        window: &Range<u32>,
        rest: f32,
        room: &mut Room,
    ) -> Step<()> {
        self.find_meetings(together, window, room)?;
        let Room { has, meetings, .. } = room;
        let mut threshold = self.top.threshold();
        let all = together.iter().map(|stream| self.bounds[*stream]).fold(0.0, |sum, bound| sum + bound);
        for &ordinal in meetings.iter() {
            let mut still = all;
            if together.len() > 2 {
                let marks = has.get((ordinal - window.start) as usize).copied().unwrap_or(0);
                let is_here =
                    |(number, stream): &(usize, &usize)| match self.streams[**stream].postings.dense() {
                        Some(dense) => dense.has(ordinal),
                        None => marks >> number & 1 == 1,
                    };
                let here = together.iter().enumerate().filter(is_here);
                still = here.map(|(_, stream)| self.bounds[*stream]).fold(0.0, |sum, bound| sum + bound);
            }
            if let Some(sum) = self.sum_of(hand, together, ordinal, (still, rest), threshold)? {
                self.look_up(hand, others, ordinal, sum, rest)?;
                threshold = self.top.threshold();
            }
        }
        Ok(())
    }

    /// Whether so few postings of a term are in a window that they are better looked up one after the other than where lists meet. Of one
    /// that is unpacked as bits that is not asked.
    fn has_few(&mut self, only: usize, window: &Range<u32>) -> Result<bool> {
        let stream = &mut self.streams[only];
        if stream.postings.dense().is_some() {
            return Ok(false);
        }
        stream.unpack(stream.block)?;
        Ok(stream.places(window).len() < MANY)
    }

    /// Puts the records of a window that have two of some terms or more into the room, ascending.
    fn find_meetings(&mut self, together: &[usize], window: &Range<u32>, room: &mut Room) -> Result<()> {
        let Room { has, once, twice, meetings, .. } = room;
        meetings.clear();
        let is_dense = |stream: &&usize| self.streams[**stream].postings.dense().is_some();
        let dense = together.iter().filter(is_dense).count();
        let first = window.start as usize / 64;
        if dense > 0 {
            once.clear();
            twice.clear();
            for stream in together.iter().filter(is_dense) {
                let Some(dense) = self.streams[*stream].postings.dense() else { continue };
                let words = dense.bits().words_of(window);
                if once.is_empty() {
                    once.extend_from_slice(words);
                    twice.resize(words.len(), 0);
                    continue;
                }
                for ((once, twice), word) in once.iter_mut().zip(twice.iter_mut()).zip(words) {
                    *twice |= *once & word;
                    *once |= word;
                }
            }
            if let Some(sieve) = &self.sieve {
                let words = sieve.records.words_of(window);
                twice.iter_mut().zip(words).for_each(|(twice, word)| *twice &= word);
            }
            each_in(twice.iter().copied(), window, |ordinal| meetings.push(ordinal));
        }
        if dense == together.len() {
            return Ok(());
        }
        has.clear();
        has.resize(window.len(), 0);
        for (number, &place) in together.iter().enumerate() {
            let stream = &mut self.streams[place];
            if stream.is_past() || stream.postings.dense().is_some() {
                continue;
            }
            stream.unpack(stream.block)?;
            let sieved = |ordinal: &&u32| self.sieve.as_ref().is_none_or(|sieve| sieve.has(**ordinal));
            let places = stream.places(window);
            for ordinal in stream.postings.unpacked()[places].iter().filter(sieved) {
                let has = &mut has[(ordinal - window.start) as usize];
                let (word, bit) = (*ordinal as usize / 64 - first, ordinal % 64);
                let is_second = if dense > 0 && once[word] >> bit & 1 == 1 {
                    *has == 0 && twice[word] >> bit & 1 == 0
                } else {
                    has.is_power_of_two()
                };
                if is_second {
                    meetings.push(*ordinal);
                }
                *has |= 1 << number;
            }
        }
        if together.len() > 2 {
            meetings.sort_unstable();
        }
        Ok(())
    }
}
