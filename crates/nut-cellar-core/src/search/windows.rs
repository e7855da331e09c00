//! Going through a shelf term by term, in windows of records, for queries of which any word will do.
//!
//! In a window each term has a bound of what it can add. The terms with the least bounds, as long as theirs together do not
//! reach the score that has to be beaten, can bring no record to the front alone (`MaxScore`: H. Turtle, J. Flood, "Query
//! evaluation: strategies and optimizations", 1995; with bounds by block: S. Ding, T. Suel, 2011; in windows: as
//! K. Chakrabarti, S. Chaudhuri, V. Ganti, "Interval-based pruning for top-k processing over compressed lists", 2011). The
//! postings of the others are added up, roughly: a sum that no score exceeds but for rounding. Only records whose sum can
//! reach the front are looked at for whether they match, and scored as everywhere else.

use super::cursors::Cursors;
use super::find::Find;
use super::group::{Measure, Member};
use super::plan::Node;
use super::top::{Scored, Top};
use crate::error::Result;
use crate::shelf::{END, Hand, Step, if_at_hand, length_at};
use bytes::Bytes;
use std::ops::Range;

/// The records of a window: as many as let a window have this many postings, between these sizes, each a power of two. The
/// sums of the largest fit into the nearer caches.
const POSTINGS: u64 = 512;
const LEAST: u32 = 1 << 12;
const MOST: u32 = 1 << 14;

/// One term of a word, with its own place in its list, ahead of the cursors that score.
struct Stream {
    word: usize,
    member: Member,
    /// The block that is next, as far as is known.
    block: usize,
    /// For each block what it can add at most, once that was asked; less than 0 before.
    bounds: Vec<f32>,
    /// What it can add at most in the window at hand.
    bound_in_window: f32,
    /// idf · (k1 + 1) · how often the word was typed.
    factor: f32,
    /// What a posting scores by, for each of the least shapes.
    shapes: Vec<Direct>,
    /// For each column the bits of a length, and all lengths, if they are at hand.
    lengths: Vec<(usize, Bytes)>,
    /// For each posting of the block that was reckoned last what it adds, roughly.
    rough: Vec<f32>,
}

/// What a posting that is in one column scores by: `factor · x / (x + a + c · length)` with x = weight · tf. A posting that can't
/// be reckoned so has an x below 0.
#[derive(Clone, Copy)]
struct Direct {
    column: usize,
    x: f32,
    a: f32,
    c: f32,
}

impl Direct {
    const NOTHING: Self = Self { column: 0, x: 0.0, a: 1.0, c: 0.0 };
    const UNKNOWN: Self = Self { column: 0, x: -1.0, a: 2.0, c: 0.0 };
}

/// With more terms than these none is kept for asking record by record.
const FEW_STREAMS: usize = 24;

/// So many shapes are known by heart; the last stands for all others.
const SHAPES: u32 = 64;
/// The most postings in a block.
const BLOCK: usize = 128;

impl Stream {
    fn new(cursors: &Cursors<'_>, word: usize, member: &Member) -> Self {
        let formula = cursors.ranking.formula;
        let lengths: Vec<_> = cursors.lengths.iter().map(|lengths| lengths.whole()).collect();
        let (_, kinds) = member.postings.unpacked_shapes();
        let direct = |shape: u32| {
            let Some((column, tf)) = kinds.alone(shape).filter(|_| shape + 1 < SHAPES) else {
                return Direct::UNKNOWN;
            };
            if !member.columns.has(column) {
                return Direct::NOTHING;
            }
            if lengths[column].is_none() {
                return Direct::UNKNOWN;
            }
            let (weight, a, c) = formula.direct(column);
            let x = weight * member.likeness * tf as f32;
            // 0 ÷ 0 is nothing here.
            if x > 0.0 { Direct { column, x, a, c } } else { Direct::NOTHING }
        };
        let whole = |whole: &Option<(&Bytes, u8)>| {
            whole.map_or((0, Bytes::new()), |(all, width)| (width.into(), all.clone()))
        };
        Self {
            word,
            block: 0,
            bounds: vec![-1.0; member.postings.blocks()],
            bound_in_window: f32::INFINITY,
            factor: cursors.ranking.idf[word] * (formula.k1() + 1.0) * cursors.most_times()[word] as f32,
            shapes: (0..SHAPES).map(direct).collect(),
            lengths: lengths.iter().map(whole).collect(),
            rough: Vec::new(),
            member: member.clone(),
        }
    }

    /// What a block can add at most.
    fn bound_of(&mut self, cursors: &Cursors<'_>, block: usize) -> Result<f32> {
        if self.bounds[block] < 0.0 {
            let most = self.member.bound_of(block, cursors.ranking.formula)?;
            self.bounds[block] = cursors.part(self.word, most * self.member.likeness);
        }
        Ok(self.bounds[block])
    }

    /// Reckons what postings of the block that is unpacked add, roughly.
    fn reckon(&mut self, hand: &mut Hand, cursors: &mut Cursors<'_>, places: Range<usize>) -> Step<()> {
        let Self { shapes: known, lengths, rough, member, factor, .. } = self;
        let (shapes, _) = member.postings.unpacked_shapes();
        let (ordinals, shapes) = (&member.postings.unpacked()[places.clone()], &shapes[places.clone()]);
        let (mut above, mut below) = ([0.0_f32; BLOCK], [1.0_f32; BLOCK]);
        let known: &[Direct; SHAPES as usize] = known.first_chunk().expect("it was made so long");
        for (((ordinal, shape), above), below) in ordinals.iter().zip(shapes).zip(&mut above).zip(&mut below)
        {
            let Direct { column, x, a, c } = known[(*shape).min(SHAPES - 1) as usize];
            let (width, bytes) = &lengths[column];
            let length = length_in(bytes, *ordinal as usize * width, *width);
            *above = x;
            *below = x + a + c * length as f32;
        }
        rough.clear();
        rough.resize(places.end, 0.0);
        let mut least = 0.0_f32;
        for ((rough, above), below) in rough[places.start..].iter_mut().zip(&above).zip(&below) {
            *rough = *factor * above / below;
            least = least.min(*rough);
        }
        if least < 0.0 {
            for place in places {
                if self.rough[place] < 0.0 {
                    self.rough[place] = self.exactly(hand, cursors, place)?;
                }
            }
        }
        Ok(())
    }

    /// What a posting of the block that is unpacked adds.
    fn exactly(&mut self, hand: &mut Hand, cursors: &mut Cursors<'_>, place: usize) -> Step<f32> {
        self.member.postings.stand(place);
        self.member.here = self.member.postings.ordinal();
        let mut measure = Measure { formula: cursors.ranking.formula, lengths: &mut cursors.lengths, hand };
        let frequency = if_at_hand(self.member.frequency(&mut measure))?.unwrap_or(0.0);
        Ok(cursors.part(self.word, frequency * self.member.likeness))
    }
}

/// The length of so many bits at a bit.
#[inline]
fn length_in(bytes: &[u8], bit: usize, width: usize) -> u32 {
    match bytes.get(bit / 8..).and_then(|rest| rest.first_chunk()) {
        Some(whole) => {
            let bits = u64::from_le_bytes(*whole) >> (bit % 8) & ((1 << width) - 1);
            u32::try_from(bits).unwrap_or(u32::MAX)
        }
        None => {
            length_at(bytes.get(bit / 8..).unwrap_or_default(), bit % 8, u8::try_from(width).unwrap_or(32))
        }
    }
}

/// Sums of what the records of a window may score.
struct Sums {
    sums: Vec<f32>,
    /// Which records have one.
    there: Vec<u64>,
}

impl Sums {
    fn new(size: u32) -> Self {
        let size = size as usize;
        Self { sums: vec![0.0; size], there: vec![0; size.div_ceil(64)] }
    }

    #[inline]
    fn add(&mut self, place: usize, sum: f32) {
        self.sums[place] += sum;
        self.there[place / 64] |= 1 << (place % 64);
    }

    /// Gives `take` each record that has a sum, ascending, and forgets it.
    fn drain(&mut self, mut take: impl FnMut(usize, f32) -> Step<()>) -> Step<()> {
        let mut result = Ok(());
        for (word, bits) in self.there.iter_mut().enumerate() {
            let mut bits = std::mem::take(bits);
            while bits != 0 {
                let place = word * 64 + bits.trailing_zeros() as usize;
                bits &= bits - 1;
                let sum = std::mem::take(&mut self.sums[place]);
                if result.is_ok() {
                    result = take(place, sum);
                }
            }
        }
        result
    }
}

/// What is known of a window. What a word scores is at most what its terms score one by one, so each has a bound of its own.
struct Bounds {
    /// For each stream what it can add at most.
    of_stream: Vec<f32>,
    /// The streams, those that can add the least first.
    order: Vec<usize>,
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
    let mut streams = Vec::new();
    for (word, term) in cursors.words.iter().enumerate().filter(|(word, _)| cursors.most_times()[*word] > 0) {
        streams.extend(term.group.members.iter().map(|member| Stream::new(cursors, word, member)));
    }
    let mut search = Windows { cursors, root, top, scored: 0 };
    if let ([only], true) = (streams.as_mut_slice(), prune) {
        search.by_block(hand, find, only, &run)?;
    } else {
        search.by_window(hand, find, &mut streams, prune, &run)?;
    }
    let scored = search.scored;
    hand.complete()?;
    let unpacked = streams.iter().map(|stream| stream.member.postings.blocks_unpacked()).sum();
    Ok(Streamed { scored, unpacked })
}

struct Windows<'w, 'c> {
    cursors: &'w mut Cursors<'c>,
    root: &'w Node,
    top: &'w mut Top,
    scored: u64,
}

impl Windows<'_, '_> {
    /// Only one term scores: each block is a window.
    fn by_block(&mut self, hand: &mut Hand, find: &Find, stream: &mut Stream, run: &Range<u32>) -> Step<()> {
        let first = stream.member.postings.block_with(0, run.start);
        for block in first..stream.member.postings.blocks() {
            if self.cursors.with_slack(stream.bound_of(self.cursors, block)?) <= self.top.threshold() {
                continue;
            }
            find.go_on()?;
            let places = stream.places(block, run)?;
            if places.is_empty() {
                break;
            }
            self.one_by_one(hand, stream, places)?;
        }
        Ok(())
    }

    /// Offers the records of postings of the block that is unpacked.
    fn one_by_one(&mut self, hand: &mut Hand, stream: &mut Stream, places: Range<usize>) -> Step<()> {
        self.scored += places.len() as u64;
        stream.reckon(hand, self.cursors, places.clone())?;
        let mut threshold = self.top.threshold();
        for place in places {
            let sum = stream.rough[place];
            if self.cursors.with_slack(sum) > threshold {
                self.offer(hand, stream.member.postings.unpacked()[place])?;
                threshold = self.top.threshold();
            }
        }
        Ok(())
    }

    /// Offers a record if it matches.
    fn offer(&mut self, hand: &mut Hand, ordinal: u32) -> Step<()> {
        if self.cursors.standing.removed(ordinal) || !self.cursors.matches(hand, self.root, ordinal)? {
            return Ok(());
        }
        if let Some(score) = if_at_hand(self.cursors.score(hand, ordinal))? {
            self.top.offer(Scored::by_score(score, ordinal));
        }
        Ok(())
    }

    fn by_window(
        &mut self,
        hand: &mut Hand,
        find: &Find,
        streams: &mut [Stream],
        prune: bool,
        run: &Range<u32>,
    ) -> Step<()> {
        let records = self.cursors.standing.shelf.records();
        let postings: u64 = streams.iter().map(|stream| u64::from(stream.member.postings.records())).sum();
        let size = size_of_window(records, postings);
        let mut sums = Sums::new(size);
        let mut bounds =
            Bounds { of_stream: vec![f32::INFINITY; streams.len()], order: (0..streams.len()).collect() };
        let mut start = run.start;
        while start < run.end {
            find.go_on()?;
            let window = start..start.saturating_add(size).min(run.end);
            start = window.end;
            let (mut essential, mut rest) = (0, 0.0);
            if prune {
                let total = bound_window(self.cursors, streams, &window, &mut bounds)?;
                if self.cursors.with_slack(total) <= self.top.threshold() {
                    continue;
                }
                if streams.len() <= FEW_STREAMS {
                    (essential, rest) = self.essential(&mut bounds);
                }
            }
            if let ([place], true) = (&bounds.order[essential..], prune) {
                self.alone(hand, streams, (*place, &bounds.order[..essential]), &window, rest)?;
                continue;
            }
            for &place in &bounds.order[essential..] {
                self.add_up(hand, &mut streams[place], &window, &mut sums)?;
            }
            let others = &bounds.order[..essential];
            sums.drain(|place, sum| {
                let ordinal = window.start + u32::try_from(place).unwrap_or(END);
                if self.can_reach(hand, streams, others, ordinal, sum, rest)? {
                    self.offer(hand, ordinal)?;
                }
                Ok(())
            })?;
        }
        Ok(())
    }

    /// Whether a record with a sum can beat the score that has to be beaten, with what other streams add to it, `rest` at
    /// most together. Those that can add the most are asked first.
    fn can_reach(
        &mut self,
        hand: &mut Hand,
        streams: &mut [Stream],
        others: &[usize],
        ordinal: u32,
        mut sum: f32,
        rest: f32,
    ) -> Step<bool> {
        let threshold = self.top.threshold();
        let mut rest = rest;
        for &other in others.iter().rev() {
            if self.cursors.with_slack(sum + rest) <= threshold {
                return Ok(false);
            }
            let stream = &mut streams[other];
            let block = stream.member.postings.block_with(stream.block, ordinal);
            stream.block = block;
            rest -= stream.bound_in_window;
            if block >= stream.member.postings.blocks() {
                continue;
            }
            // The block may say that it is too little.
            let bound = stream.bound_of(self.cursors, block)?;
            if self.cursors.with_slack(sum + rest.max(0.0) + bound) <= threshold {
                return Ok(false);
            }
            if stream.member.postings.unpacked_block() != Some(block) {
                stream.member.postings.enter(block)?;
            }
            let here = stream.member.postings.unpacked().binary_search(&ordinal);
            if let Ok(place) = here {
                sum += stream.exactly(hand, self.cursors, place)?;
                self.scored += 1;
            }
        }
        Ok(self.cursors.with_slack(sum) > threshold)
    }

    /// From which place in the order on streams are needed to beat the score that has to be beaten, and what those before can
    /// add together.
    fn essential(&self, bounds: &mut Bounds) -> (usize, f32) {
        let of_stream = &bounds.of_stream;
        bounds.order.sort_unstable_by(|a, b| of_stream[*a].total_cmp(&of_stream[*b]));
        let (mut place, mut rest) = (0, 0.0);
        while let Some(stream) = bounds.order.get(place) {
            let with = rest + bounds.of_stream[*stream];
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
        streams: &mut [Stream],
        (only, others): (usize, &[usize]),
        window: &Range<u32>,
        rest: f32,
    ) -> Step<()> {
        let stream = &mut streams[only];
        let mut block = stream.member.postings.block_with(stream.block, window.start);
        while block < streams[only].member.postings.blocks() {
            let stream = &mut streams[only];
            let bound = stream.bound_of(self.cursors, block)?;
            if self.cursors.with_slack(bound + rest) > self.top.threshold() {
                let places = stream.places(block, window)?;
                self.scored += places.len() as u64;
                stream.reckon(hand, self.cursors, places.clone())?;
                for place in places {
                    let sum = streams[only].rough[place];
                    if self.cursors.with_slack(sum + rest) > self.top.threshold() {
                        let ordinal = streams[only].member.postings.unpacked()[place];
                        if self.can_reach(hand, streams, others, ordinal, sum, rest)? {
                            self.offer(hand, ordinal)?;
                        }
                    }
                }
            }
            if streams[only].member.postings.last_of(block) >= window.end {
                break;
            }
            block += 1;
        }
        streams[only].block = block;
        Ok(())
    }

    /// Adds up what the postings of a term in a window may score.
    fn add_up(
        &mut self,
        hand: &mut Hand,
        stream: &mut Stream,
        window: &Range<u32>,
        sums: &mut Sums,
    ) -> Step<()> {
        let mut block = stream.member.postings.block_with(stream.block, window.start);
        while block < stream.member.postings.blocks() {
            let places = stream.places(block, window)?;
            self.scored += places.len() as u64;
            stream.reckon(hand, self.cursors, places.clone())?;
            let ordinals = &stream.member.postings.unpacked()[places.clone()];
            for (ordinal, rough) in ordinals.iter().zip(&stream.rough[places]) {
                sums.add((ordinal - window.start) as usize, *rough);
            }
            if stream.member.postings.last_of(block) >= window.end {
                break;
            }
            block += 1;
        }
        stream.block = block;
        Ok(())
    }
}

impl Stream {
    /// Unpacks a block, and tells which of its postings lie in a window.
    fn places(&mut self, block: usize, window: &Range<u32>) -> Result<Range<usize>> {
        if self.member.postings.unpacked_block() != Some(block) {
            self.member.postings.enter(block)?;
        }
        let ordinals = self.member.postings.unpacked();
        let first = ordinals.partition_point(|ordinal| *ordinal < window.start);
        let end = first + ordinals[first..].partition_point(|ordinal| *ordinal < window.end);
        Ok(first..end)
    }
}

fn size_of_window(records: u32, postings: u64) -> u32 {
    let wanted = u64::from(records) * POSTINGS / postings.max(1);
    u32::try_from(wanted.clamp(u64::from(LEAST), u64::from(MOST))).unwrap_or(MOST).next_power_of_two()
}

/// What each stream can add in a window; gives the sum.
fn bound_window(
    cursors: &Cursors<'_>,
    streams: &mut [Stream],
    window: &Range<u32>,
    bounds: &mut Bounds,
) -> Result<f32> {
    let mut total = 0.0;
    for (stream, bound) in streams.iter_mut().zip(&mut bounds.of_stream) {
        stream.block = stream.member.postings.block_with(stream.block, window.start);
        let (mut block, mut most) = (stream.block, 0.0_f32);
        while block < stream.member.postings.blocks() {
            most = most.max(stream.bound_of(cursors, block)?);
            if stream.member.postings.last_of(block) >= window.end {
                break;
            }
            block += 1;
        }
        stream.bound_in_window = most;
        *bound = most;
        total += most;
    }
    Ok(total)
}
