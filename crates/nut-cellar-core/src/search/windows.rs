//! Going through a shelf term by term, in windows of records, for queries of which any word will do.
//!
//! In a window each word has a bound of what it can add. The words with the least bounds, as long as theirs together do not
//! reach the score that has to be beaten, can bring no record to the front alone (MaxScore: H. Turtle, J. Flood, "Query
//! evaluation: strategies and optimizations", 1995; with bounds by block: S. Ding, T. Suel, 2011; in windows: as
//! K. Chakrabarti, S. Chaudhuri, V. Ganti, "Interval-based pruning for top-k processing over compressed lists", 2011). The
//! postings of the others are added up, roughly: a sum that no score exceeds. Only records whose sum can reach the front are
//! looked at for whether they match, and scored as everywhere else.

use super::cursors::Cursors;
use super::find::Find;
use super::group::{Measure, Member};
use super::plan::Node;
use super::top::{Scored, Top};
use crate::error::Result;
use crate::shelf::{END, Hand, Step, if_at_hand};
use std::ops::Range;

/// The records of a window: as many as let a window have this many postings, between these sizes, each a power of two.
const POSTINGS: u64 = 512;
const LEAST: u32 = 1 << 12;
const MOST: u32 = 1 << 16;

/// One term of a word, with its own place in its list, ahead of the cursors that score.
struct Stream {
    word: usize,
    member: Member,
    /// The block that is next, as far as is known.
    block: usize,
}

/// Sums of what the records of a window may score.
struct Sums {
    sums: Vec<f32>,
    /// Which records have one, and which words of 64 of these have any.
    there: Vec<u64>,
    any: Vec<u64>,
}

impl Sums {
    fn new(size: u32) -> Self {
        let size = size as usize;
        Self { sums: vec![0.0; size], there: vec![0; size / 64], any: vec![0; size.div_ceil(64 * 64)] }
    }

    #[inline]
    fn add(&mut self, place: usize, sum: f32) {
        self.sums[place] += sum;
        self.there[place / 64] |= 1 << (place % 64);
        self.any[place / 4096] |= 1 << (place / 64 % 64);
    }

    /// Gives `take` each record that has a sum, ascending, and forgets it.
    fn drain(&mut self, mut take: impl FnMut(usize, f32) -> Step<()>) -> Step<()> {
        let mut result = Ok(());
        for outer in 0..self.any.len() {
            let mut words = std::mem::take(&mut self.any[outer]);
            while words != 0 {
                let word = outer * 64 + words.trailing_zeros() as usize;
                words &= words - 1;
                let mut bits = std::mem::take(&mut self.there[word]);
                while bits != 0 {
                    let place = word * 64 + bits.trailing_zeros() as usize;
                    bits &= bits - 1;
                    let sum = std::mem::take(&mut self.sums[place]);
                    if result.is_ok() {
                        result = take(place, sum);
                    }
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

/// Finds the best of the records that match; every one of them has one of the words. With `prune` off every posting is
/// scored. Gives how many postings were.
pub(super) fn windows(
    hand: &mut Hand,
    cursors: &mut Cursors<'_>,
    root: &Node,
    find: &Find,
    top: &mut Top,
    prune: bool,
) -> Step<u64> {
    let records = cursors.standing.shelf.records();
    let mut streams = Vec::new();
    for (word, term) in cursors.words.iter().enumerate().filter(|(word, _)| cursors.most_times()[*word] > 0) {
        for member in &term.group.members {
            streams.push(Stream { word, member: member.clone(), block: 0 });
        }
    }
    let postings: u64 = streams.iter().map(|stream| u64::from(stream.member.postings.records())).sum();
    let size = size_of_window(records, postings);
    let mut sums = Sums::new(size);
    let mut bounds = Bounds { of_stream: vec![0.0; streams.len()], order: (0..streams.len()).collect() };
    let mut scored = 0;
    let mut start = 0;
    while start < records {
        find.go_on()?;
        let window = start..start.saturating_add(size).min(records);
        start = window.end;
        let total = if prune {
            bound_window(cursors, &mut streams, &window, &mut bounds)?
        } else {
            bounds.of_stream.fill(f32::INFINITY);
            f32::INFINITY
        };
        if cursors.with_slack(total) <= top.threshold() {
            continue;
        }
        let (essential, rest) = if prune { essential(cursors, &mut bounds, top.threshold()) } else { (0, 0.0) };
        // What blocks that were left out could add.
        let mut left_out = rest;
        for &place in &bounds.order[essential..] {
            // With what the subtraction may lose.
            let others = total - bounds.of_stream[place] + total * 4.0 * f32::EPSILON;
            let beaten = if prune { Some((top.threshold(), others)) } else { None };
            left_out += add_up(hand, cursors, &mut streams[place], &window, &mut sums, beaten, &mut scored)?;
        }
        sums.drain(|place, sum| {
            if cursors.with_slack(sum + left_out) <= top.threshold() {
                return Ok(());
            }
            let ordinal = window.start + u32::try_from(place).unwrap_or(END);
            if cursors.standing.removed(ordinal) || !cursors.matches(hand, root, ordinal)? {
                return Ok(());
            }
            if let Some(score) = if_at_hand(cursors.score(hand, ordinal))? {
                top.offer(Scored::by_score(score, ordinal));
            }
            Ok(())
        })?;
    }
    hand.complete()?;
    Ok(scored)
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
    let formula = cursors.ranking.formula;
    let mut total = 0.0;
    for (stream, bound) in streams.iter_mut().zip(&mut bounds.of_stream) {
        stream.block = stream.member.postings.block_with(stream.block, window.start);
        let (mut block, mut most) = (stream.block, 0.0_f32);
        while block < stream.member.postings.blocks() {
            most = most.max(stream.member.bound_of(block, formula)?);
            if stream.member.postings.last_of(block) >= window.end {
                break;
            }
            block += 1;
        }
        *bound = cursors.part(stream.word, most * stream.member.likeness);
        total += *bound;
    }
    Ok(total)
}

/// From which place in the order on streams are needed to beat a score, and what those before can add together.
fn essential(cursors: &Cursors<'_>, bounds: &mut Bounds, threshold: f32) -> (usize, f32) {
    let of_stream = &bounds.of_stream;
    bounds.order.sort_by(|a, b| of_stream[*a].total_cmp(&of_stream[*b]));
    let (mut place, mut rest) = (0, 0.0);
    while let Some(stream) = bounds.order.get(place) {
        let with = rest + bounds.of_stream[*stream];
        if cursors.with_slack(with) > threshold {
            break;
        }
        (place, rest) = (place + 1, with);
    }
    (place, rest)
}

/// Adds up what the postings of a term in a window may score; gives what those of blocks that were left out may at most.
/// `beaten` is the score to beat, and what all other terms can add.
fn add_up(
    hand: &mut Hand,
    cursors: &mut Cursors<'_>,
    stream: &mut Stream,
    window: &Range<u32>,
    sums: &mut Sums,
    beaten: Option<(f32, f32)>,
    scored: &mut u64,
) -> Step<f32> {
    let formula = cursors.ranking.formula;
    let mut left_out = 0.0_f32;
    let (word, member) = (stream.word, &mut stream.member);
    let mut block = member.postings.block_with(stream.block, window.start);
    while block < member.postings.blocks() {
        let mut wanted = true;
        if let Some((threshold, others)) = beaten {
            let bound = cursors.part(word, member.bound_of(block, formula)? * member.likeness);
            if cursors.with_slack(bound + others) <= threshold {
                left_out = left_out.max(bound);
                wanted = false;
            }
        }
        if wanted {
            if member.postings.unpacked_block() != Some(block) {
                member.postings.enter(block)?;
            }
            let ordinals = member.postings.unpacked();
            let first = ordinals.partition_point(|ordinal| *ordinal < window.start);
            let end = first + ordinals[first..].partition_point(|ordinal| *ordinal < window.end);
            for place in first..end {
                member.postings.stand(place);
                member.here = member.postings.ordinal();
                let mut measure = Measure { formula, lengths: &mut cursors.lengths, hand };
                let frequency = if_at_hand(member.frequency(&mut measure))?.unwrap_or(0.0) * member.likeness;
                sums.add((member.here - window.start) as usize, cursors.part(word, frequency));
            }
            *scored += (end - first) as u64;
        }
        if member.postings.last_of(block) >= window.end {
            break;
        }
        block += 1;
    }
    stream.block = block;
    Ok(left_out)
}
