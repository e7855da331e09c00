//! Going through a shelf term by term, in windows of records, for queries of which any word will do.
//!
//! A window ends where the block of one of the terms ends, so that each term has one block in it, and a bound of what it can
//! add. Where the bounds together do not reach the score that has to be beaten, the window is passed over without a look at
//! its postings (S. Ding, T. Suel, "Faster Top-k Document Retrieval Using Block-Max Indexes", 2011; in windows: K. Chakrabarti,
//! S. Chaudhuri, V. Ganti, "Interval-based pruning for top-k processing over compressed lists", 2011). The terms with the least
//! bounds, as long as theirs together do not reach it, can bring no record to the front alone (`MaxScore`: H. Turtle, J. Flood,
//! "Query evaluation: strategies and optimizations", 1995). What the postings of the others add is added up; only records that
//! can reach the front are looked for in the lists of the rest, and looked at for whether they match.
//!
//! What always holds: windows ascend. So a record whose score equals that of the last of the best k comes after it.

use super::cursors::Cursors;
use super::find::Find;
use super::plan::Node;
use super::stream::{Common, Stream};
use super::top::{Scored, Top};
use crate::shelf::{Hand, Step, if_at_hand};
use std::ops::Range;

/// The most records of a window: sums for so many fit into the nearer caches.
const MOST: u32 = 1 << 14;
/// The least records and about the postings of a window that is not ended by blocks.
const LEAST: u32 = 1 << 12;
const POSTINGS: u64 = 512;
/// With more terms than these, windows end too often for each to have a bound.
const FEW_STREAMS: usize = 24;
/// So many blocks with the greatest bounds are looked at first, of lists of twice as many.
const FIRST: usize = 8;
/// Between two questions whether to stop so many windows are looked at.
const BETWEEN_STOPS: u32 = 64;

/// Sums of what the records of a window score. One that nothing was added to is the negative zero.
struct Sums {
    sums: Vec<f32>,
    /// In which lines there are any.
    there: Vec<u64>,
}

const NOTHING: f32 = -0.0;
/// So many sums are looked at together.
const LINE: usize = 16;

impl Sums {
    fn new(size: u32) -> Self {
        let lines = (size as usize).div_ceil(LINE);
        Self { sums: vec![NOTHING; lines * LINE], there: vec![0; lines.div_ceil(64)] }
    }

    #[inline]
    fn add(&mut self, place: usize, part: f32) {
        self.sums[place] += part;
        self.there[place / LINE / 64] |= 1 << (place / LINE % 64);
    }

    /// Gives `take` the records whose sum is above a threshold, ascending, and forgets all.
    fn drain(&mut self, above: f32, mut take: impl FnMut(u32, f32) -> Step<()>) -> Step<()> {
        // If nothing has to be beaten, all that something was added to.
        let wanted = |sum: f32| if above < 0.0 { sum.is_sign_positive() } else { sum > above };
        let mut result = Ok(());
        for (word, lines) in self.there.iter_mut().enumerate() {
            let mut lines = std::mem::take(lines);
            while lines != 0 {
                let start = (word * 64 + lines.trailing_zeros() as usize) * LINE;
                lines &= lines - 1;
                let sums = &mut self.sums[start..start + LINE];
                if sums.iter().fold(false, |any, sum| any | wanted(*sum)) {
                    for (place, sum) in (start..).zip(sums.iter()).filter(|(_, sum)| wanted(**sum)) {
                        if result.is_ok() {
                            result = take(u32::try_from(place).unwrap_or(u32::MAX), *sum);
                        }
                    }
                }
                sums.fill(NOTHING);
            }
        }
        result
    }
}

/// What went through the streams.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Streamed {
    /// Postings that were scored.
    pub scored: u64,
    /// Blocks that were unpacked.
    pub unpacked: u64,
}

/// Finds the best of the records of a run that match and have one of the words. With `prune` off every posting is
/// scored.
pub(super) fn windows(
    hand: &mut Hand,
    cursors: &mut Cursors<'_>,
    root: &Node,
    find: &Find,
    top: &mut Top,
    prune: bool,
    run: Range<u32>,
) -> Step<Streamed> {
    let mut common = Common::new(cursors);
    let mut streams = Vec::new();
    let mut one_term_each = true;
    for (word, term) in cursors.words.iter().enumerate().filter(|(word, _)| cursors.most_times()[*word] > 0) {
        let members = &term.group.members;
        one_term_each &= members.len() <= 1;
        streams.extend(members.iter().map(|member| Stream::new(cursors, &mut common, word, member)));
    }
    let words_decide = cursors.words_decide();
    let implied = cursors.is_implied_by_words(root);
    let mut search = Windows {
        root: (!implied).then_some(root),
        words_decide,
        exact: words_decide && one_term_each,
        cursors,
        streams,
        top,
        scored: 0,
    };
    match search.streams.len() {
        1 if prune => search.by_block(hand, find, &run)?,
        ..=FEW_STREAMS if prune => search.by_bounds(hand, find, &run)?,
        _ => search.one_and_all(hand, find, &run)?,
    }
    hand.complete()?;
    let unpacked = search.streams.iter().map(|stream| stream.postings.blocks_unpacked()).sum();
    Ok(Streamed { scored: search.scored, unpacked })
}

struct Windows<'w, 'c> {
    cursors: &'w mut Cursors<'c>,
    streams: Vec<Stream>,
    top: &'w mut Top,
    /// What a record has to match, if it is more than to have one of the words.
    root: Option<&'w Node>,
    /// Whether the words that a record has decide its score.
    words_decide: bool,
    /// Whether parts that are added up in query order are the score.
    exact: bool,
    scored: u64,
}

/// A sum of what words add to a score.
#[derive(Clone, Copy)]
enum Sum {
    /// The score itself.
    Exact(f32),
    /// The score but for rounding, or more.
    Rough,
}

impl Windows<'_, '_> {
    /// Only one term scores: each block is a window. The blocks with the greatest bounds come first.
    fn by_block(&mut self, hand: &mut Hand, find: &Find, run: &Range<u32>) -> Step<()> {
        let stream = &mut self.streams[0];
        let first = stream.postings.block_with(0, run.start);
        let blocks = first..stream.postings.blocks();
        let bounds = stream.all_bounds(hand, self.cursors)?[blocks.start.min(blocks.end)..].to_vec();
        // Matching, and scoring by what matched, go through the records once, from the first to the last.
        let high = if self.root.is_none() && self.exact && bounds.len() >= 2 * FIRST {
            let mut sorted = bounds.clone();
            *sorted.select_nth_unstable_by(FIRST - 1, |a, b| b.total_cmp(a)).1
        } else {
            f32::NEG_INFINITY
        };
        let (above, below): (Vec<_>, Vec<_>) = blocks.zip(bounds).partition(|(_, bound)| *bound >= high);
        for (number, (block, bound)) in above.into_iter().chain(below).enumerate() {
            if number % BETWEEN_STOPS as usize == 0 {
                find.go_on()?;
            }
            let stream = &mut self.streams[0];
            let start = block.checked_sub(1).map_or(0, |before| stream.postings.last_of(before) + 1);
            if start >= run.end || !self.top.takes(self.with_slack(bound), start) {
                continue;
            }
            let stream = &mut self.streams[0];
            stream.reckon(hand, self.cursors, block)?;
            let places = stream.places(run);
            self.scored += places.len() as u64;
            let mut least = self.top.least();
            for place in places {
                let stream = &self.streams[0];
                let (ordinal, part) = (stream.postings.unpacked()[place], stream.parts()[place]);
                if self.with_slack(part) >= least && self.top.takes(self.with_slack(part), ordinal) {
                    let sum = if self.exact { Sum::Exact(part) } else { Sum::Rough };
                    self.offer(hand, ordinal, sum)?;
                    least = self.top.least();
                }
            }
        }
        Ok(())
    }

    /// What a sum may be for a score: itself, if it is one.
    fn with_slack(&self, sum: f32) -> f32 {
        if self.exact { sum } else { self.cursors.with_slack(sum) }
    }

    /// Offers a record if it matches.
    fn offer(&mut self, hand: &mut Hand, ordinal: u32, sum: Sum) -> Step<()> {
        if self.cursors.standing.removed(ordinal) {
            return Ok(());
        }
        if let Some(root) = self.root
            && !self.cursors.matches(hand, root, ordinal)?
        {
            return Ok(());
        }
        let score = match sum {
            Sum::Exact(sum) => Ok(sum),
            Sum::Rough => self.cursors.score(hand, ordinal),
        };
        if let Some(score) = if_at_hand(score)? {
            self.top.offer(Scored::by_score(score, ordinal));
        }
        Ok(())
    }

    /// Few terms score.
    fn by_bounds(&mut self, hand: &mut Hand, find: &Find, run: &Range<u32>) -> Step<()> {
        for stream in &mut self.streams {
            stream.begin(hand, self.cursors, run.start)?;
        }
        self.raise_floor(hand)?;
        for stream in &mut self.streams {
            stream.begin(hand, self.cursors, run.start)?;
        }
        let mut sums = Sums::new(MOST);
        let mut order: Vec<_> = (0..self.streams.len()).collect();
        let (mut start, mut until_stop) = (run.start, 0);
        while start < run.end {
            if until_stop == 0 {
                find.go_on()?;
                until_stop = BETWEEN_STOPS;
            }
            until_stop -= 1;
            let (mut last, mut total) = (run.end - 1, 0.0);
            for stream in &mut self.streams {
                stream.go_to(hand, self.cursors, start)?;
                last = last.min(stream.last);
                total += stream.bound;
            }
            if self.with_slack(total) <= self.top.threshold() {
                start = last + 1;
                continue;
            }
            let window = start..last.min(start.saturating_add(MOST - 1)) + 1;
            start = window.end;
            let (essential, rest) = self.essential(&mut order);
            if let [only] = order[essential..] {
                self.alone(hand, (only, &order[..essential]), &window, rest)?;
            } else {
                self.together(hand, &mut order, essential, &window, rest, &mut sums)?;
            }
        }
        Ok(())
    }

    /// Looks at the best blocks of the term that can add the most, for a score that k records reach.
    fn raise_floor(&mut self, hand: &mut Hand) -> Step<()> {
        if self.root.is_some() || !self.top.can_raise() {
            return Ok(());
        }
        let mut most = None;
        for (place, stream) in self.streams.iter_mut().enumerate() {
            if stream.postings.blocks() < 2 * FIRST {
                continue;
            }
            let greatest = stream.all_bounds(hand, self.cursors)?.iter().copied().fold(0.0, f32::max);
            if most.is_none_or(|(known, _)| greatest > known) {
                most = Some((greatest, place));
            }
        }
        let Some((_, place)) = most else { return Ok(()) };
        let stream = &mut self.streams[place];
        let mut bounds: Vec<_> = stream.all_bounds(hand, self.cursors)?.iter().copied().enumerate().collect();
        bounds.select_nth_unstable_by(FIRST - 1, |a, b| b.1.total_cmp(&a.1));
        let mut best = self.top.like();
        for (block, _) in bounds.drain(..FIRST) {
            stream.reckon(hand, self.cursors, block)?;
            self.scored += stream.parts().len() as u64;
            for (ordinal, part) in stream.postings.unpacked().iter().zip(stream.parts()) {
                if *part > best.threshold() && !self.cursors.standing.removed(*ordinal) {
                    best.offer(Scored::by_score(*part, *ordinal));
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
        let bound = |stream: usize| self.streams[stream].bound;
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
        stream.reckon(hand, self.cursors, stream.block)?;
        let places = stream.places(window);
        self.scored += places.len() as u64;
        let mut threshold = self.top.threshold();
        for place in places {
            let stream = &self.streams[only];
            let (ordinal, part) = (stream.postings.unpacked()[place], stream.parts()[place]);
            if self.can_reach(part, rest, threshold) {
                self.look_up(hand, others, ordinal, part, rest)?;
                threshold = self.top.threshold();
            }
        }
        Ok(())
    }

    /// Whether a sum and what others add at most may beat a threshold.
    fn can_reach(&self, sum: f32, rest: f32, threshold: f32) -> bool {
        if rest > 0.0 {
            self.cursors.with_slack(sum + rest) > threshold
        } else {
            self.with_slack(sum) > threshold
        }
    }

    /// A sum above which every one is that [can reach](Self::can_reach) the score that has to be beaten.
    fn least_sum(&self, rest: f32) -> f32 {
        let threshold = self.top.threshold();
        if threshold < 0.0 || (self.exact && rest <= 0.0) {
            return threshold;
        }
        let slack = self.cursors.with_slack(1.0) - self.cursors.with_slack(0.0);
        let sum = (threshold - self.cursors.with_slack(0.0)) / slack - rest;
        (sum - 8.0 * f32::EPSILON * threshold).max(NOTHING)
    }

    /// Several terms can bring a record of a window to the front.
    fn together(
        &mut self,
        hand: &mut Hand,
        order: &mut [usize],
        essential: usize,
        window: &Range<u32>,
        rest: f32,
        sums: &mut Sums,
    ) -> Step<()> {
        // In query order, in which scores add up.
        order[essential..].sort_unstable();
        for &place in &order[essential..] {
            let block = self.streams[place].block;
            if block < self.streams[place].postings.blocks() {
                self.add_up(hand, place, block, window, sums)?;
            }
        }
        let others = &order[..essential];
        sums.drain(self.least_sum(rest), |place, sum| {
            if self.can_reach(sum, rest, self.top.threshold()) {
                self.look_up(hand, others, window.start + place, sum, rest)?;
            }
            Ok(())
        })
    }

    /// Looks for a record in the lists of other terms, which add `rest` at most, those that can add the most first, and offers
    /// it if it can beat the score that has to be beaten.
    fn look_up(&mut self, hand: &mut Hand, others: &[usize], ordinal: u32, sum: f32, rest: f32) -> Step<()> {
        let threshold = self.top.threshold();
        let (mut with, mut rest, mut found) = (sum, rest, 0);
        for &other in others.iter().rev() {
            if !self.can_reach(with, rest.max(0.0), threshold) {
                return Ok(());
            }
            let stream = &mut self.streams[other];
            rest -= stream.bound;
            if stream.block >= stream.postings.blocks() {
                continue;
            }
            stream.unpack(stream.block)?;
            if let Ok(place) = stream.postings.unpacked().binary_search(&ordinal) {
                with += stream.part_at(hand, self.cursors, place)?;
                self.scored += 1;
                found += 1;
            }
        }
        if found == 0 && self.exact {
            if sum > threshold {
                self.offer(hand, ordinal, Sum::Exact(sum))?;
            }
        } else if self.cursors.with_slack(with) > threshold {
            let sum = if self.words_decide { self.score(hand, ordinal)? } else { Sum::Rough };
            if !matches!(sum, Sum::Exact(score) if score <= threshold) {
                self.offer(hand, ordinal, sum)?;
            }
        }
        Ok(())
    }

    /// The score of a record of the window at hand, where the words decide: as [`Cursors::score`] adds it up.
    fn score(&mut self, hand: &mut Hand, ordinal: u32) -> Step<Sum> {
        let (mut score, mut frequency) = (0.0, 0.0);
        for place in 0..self.streams.len() {
            let stream = &mut self.streams[place];
            if stream.block < stream.postings.blocks() {
                stream.unpack(stream.block)?;
                if let Ok(place) = stream.postings.unpacked().binary_search(&ordinal) {
                    frequency += if_at_hand(stream.frequency_at(hand, self.cursors, place))?.unwrap_or(0.0);
                }
            }
            let word = self.streams[place].word;
            if self.streams.get(place + 1).is_none_or(|next| next.word != word) {
                score += self.streams[place].part(std::mem::take(&mut frequency));
            }
        }
        Ok(Sum::Exact(score))
    }

    /// Adds up what the postings of a block in a window add.
    fn add_up(
        &mut self,
        hand: &mut Hand,
        stream: usize,
        block: usize,
        window: &Range<u32>,
        sums: &mut Sums,
    ) -> Step<()> {
        let stream = &mut self.streams[stream];
        if if_at_hand(stream.reckon(hand, self.cursors, block))?.is_none() {
            return Ok(());
        }
        let places = stream.places(window);
        self.scored += places.len() as u64;
        let ordinals = &stream.postings.unpacked()[places.clone()];
        for (ordinal, part) in ordinals.iter().zip(&stream.parts()[places]) {
            sums.add((ordinal - window.start) as usize, *part);
        }
        Ok(())
    }

    /// All postings are scored, in windows of many blocks.
    fn one_and_all(&mut self, hand: &mut Hand, find: &Find, run: &Range<u32>) -> Step<()> {
        let records = self.cursors.standing.shelf.records();
        let postings: u64 = self.streams.iter().map(|stream| u64::from(stream.postings.records())).sum();
        let size = size_of_window(records, postings);
        let mut sums = Sums::new(size);
        let mut start = run.start;
        while start < run.end {
            find.go_on()?;
            let window = start..start.saturating_add(size).min(run.end);
            start = window.end;
            for place in 0..self.streams.len() {
                let postings = &self.streams[place].postings;
                let mut block = postings.block_with(self.streams[place].block, window.start);
                while block < self.streams[place].postings.blocks() {
                    self.add_up(hand, place, block, &window, &mut sums)?;
                    if self.streams[place].postings.last_of(block) >= window.end {
                        break;
                    }
                    block += 1;
                }
                self.streams[place].block = block;
            }
            sums.drain(self.least_sum(0.0), |place, sum| {
                if self.with_slack(sum) > self.top.threshold() {
                    let sum = if self.exact { Sum::Exact(sum) } else { Sum::Rough };
                    self.offer(hand, window.start + place, sum)?;
                }
                Ok(())
            })?;
        }
        Ok(())
    }
}

fn size_of_window(records: u32, postings: u64) -> u32 {
    let wanted = u64::from(records) * POSTINGS / postings.max(1);
    u32::try_from(wanted.clamp(u64::from(LEAST), u64::from(MOST))).unwrap_or(MOST).next_power_of_two()
}
