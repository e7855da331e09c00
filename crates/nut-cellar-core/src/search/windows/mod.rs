//! Going through a shelf term by term, in windows of records.
//!
//! A window ends where the block of one of the terms ends, so that each term has one block in it, and a bound of what it can
//! add. Where the bounds together do not reach the score that has to be beaten, the window is passed over without a look at
//! its postings (S. Ding, T. Suel, "Faster Top-k Document Retrieval Using Block-Max Indexes", 2011; in windows: K. Chakrabarti,
//! S. Chaudhuri, V. Ganti, "Interval-based pruning for top-k processing over compressed lists", 2011). The terms with the least
//! bounds, as long as theirs together do not reach it, can bring no record to the front alone (`MaxScore`: H. Turtle, J. Flood,
//! "Query evaluation: strategies and optimizations", 1995). What the postings of the others add is added up; only records that
//! can reach the front are looked for in the lists of the rest, and looked at for whether they match.
//!
//! What always holds: windows ascend, but for a single term, whose best blocks come first. So a record whose score equals that of the
//! last of the best k comes after it, and is passed over.

mod all;
mod any;
mod block;
mod every;
mod exactly;
mod front;
mod given;
mod split;
mod sums;

use crate::bits::Bits;
use crate::search::cursors::Cursors;
use crate::search::filling::Filled;
use crate::search::find::Find;
use crate::search::plan::Node;
use crate::search::stream::{Common, Stream};
use crate::search::top::{Scored, Top};
use crate::shelf::{Hand, Set, Step, if_at_hand};
use exactly::Matched;
pub(super) use exactly::RowBits;
use front::{OfWord, by_known};
use std::ops::Range;
use std::sync::Arc;
use sums::Sums;

/// The most records of a window: sums for so many fit into the nearer caches.
const MOST: u32 = 1 << 15;
/// The least records of a window that is not ended by blocks, and about the postings that each term has in it.
const LEAST: u32 = 1 << 12;
const POSTINGS: u64 = 512;
/// With more terms than these, windows end too often for each to have a bound.
const FEW_STREAMS: usize = 24;
/// Where the blocks of all terms end nearer to each other than so many records for each term, windows end too often, too.
const NEAR: usize = 128;
/// With more terms than these whose records are counted, none are looked up.
const MANY_COUNTED: usize = 64;
/// Asking a record for a leaf costs about as much as filling in so many postings.
const ASKED: u64 = 8;
/// Scoring a record that is known to match costs about as much as so many postings, and one more for each term; or so many, if it has
/// to be asked what it matches.
const GIVEN: u64 = 16;
const GIVEN_LEAF: u64 = 4;
/// Of fewer postings than these none are gone through twice.
const MANY_POSTINGS: u64 = 1 << 13;
/// So many records are scored one by one, for tests.
const FEW_ROUGH: u64 = 3;
/// Looking for what has all words asks each list for it, which takes about a quarter of what a posting takes that is scored.
const ASKED_FOR_ALL: u64 = 4;
/// So many blocks with the greatest bounds are looked at first, of lists of twice as many.
const FIRST: usize = 8;
/// Between two questions whether to stop so many windows are looked at.
const BETWEEN_STOPS: u32 = 64;

/// What went through the streams.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Streamed {
    /// Postings that were scored.
    pub scored: u64,
    /// Blocks that were unpacked.
    pub unpacked: u64,
    /// How many matches were counted, if they were.
    pub counted: Option<u64>,
}

/// What is wanted of the windows.
#[derive(Clone, Copy)]
pub(super) enum Wanted {
    /// The best.
    Best,
    /// The best, after every posting has been scored.
    Every,
    /// The best, in short windows, by looking up words as soon as they may be; for tests.
    Lookups,
    /// The best of those that have all of the words, and to count so many at least.
    All(u64),
}

/// What records have to match.
pub(super) struct Sought<'w, 'c> {
    pub root: &'w Node,
    /// The live records that match, and how many they are, if they are known.
    pub matching: Option<Set>,
    /// What matches the leaves that score and are more than a word, if that is known, too.
    pub rows: Option<RowBits>,
    /// Other cursors of the same plan, which may find out window by window which records match.
    pub filler: Option<&'w mut Cursors<'c>>,
    /// Opens more of them.
    pub open: &'w mut dyn FnMut(&mut Hand) -> Step<Cursors<'c>>,
}

/// How the words are gone through, if not all of them are needed.
enum Way {
    /// Every posting is scored.
    Every,
    /// In windows of a fixed size, some words only where they can help.
    Split,
    /// In windows that end where the block of a term ends.
    Bounds,
}

/// Finds the best of the records of a run that match and have one of the words.
pub(super) fn windows<'w, 'c>(
    hand: &mut Hand,
    cursors: &'w mut Cursors<'c>,
    Sought { root, matching, rows, filler, open }: Sought<'w, 'c>,
    find: &'w Find,
    top: &'w mut Top,
    wanted: Wanted,
    run: Range<u32>,
) -> Step<Streamed> {
    let scoring = || cursors.words.iter().enumerate().filter(|(word, _)| cursors.most_times()[*word] > 0);
    let members =
        || scoring().flat_map(|(word, term)| term.group.members.iter().map(move |member| (word, member)));
    let one_term_each = scoring().all(|(_, term)| term.group.members.len() <= 1);
    let terms = members().count();
    let postings: u64 = members().map(|(_, member)| u64::from(member.postings.records())).sum();
    let way = way(cursors, wanted);
    let in_windows = !matches!(way, Way::Bounds);
    let words_decide = cursors.words_decide(root);
    let words_tell_all = cursors.words_tell_all(root);
    let exact = words_decide && (one_term_each || in_windows);
    let each = GIVEN + terms as u64 * if words_decide { 1 } else { GIVEN_LEAF };
    let given = matching.clone().filter(|(_, count)| count.saturating_mul(each) < postings);
    let given = given.filter(|_| matches!(wanted, Wanted::All(_)));
    let (sieve, root) = if matching.is_some() { (matching, None) } else { cursors.sift(root) };
    let sieve = sieve.map(|(records, count)| Sieve::new(records, count, cursors.standing.shelf.records()));
    let required = match (wanted, &root) {
        (Wanted::All(_), Some(root)) => cursors.required(root),
        _ => None,
    };
    // Many lists are gone through once rather than asked for each record that the rarest word has.
    let rarest = scoring().map(|(_, term)| term.group.cost()).min().unwrap_or(0);
    let are_asked = rarest.saturating_mul(terms as u64) <= postings.saturating_mul(ASKED_FOR_ALL);
    let (required, root) = match required.filter(|_| are_asked) {
        Some((words, rest)) => (words, rest),
        None => (Vec::new(), root.filter(|root| !cursors.is_implied_by_words(root))),
    };
    let words_are_enough = root.is_none() && required.len() < 2 && !matches!(wanted, Wanted::Every);
    let words: Vec<_> = scoring().map(|(word, _)| word).collect();
    let of_words = match &given {
        None if words_are_enough && words_decide => OfWord::all(cursors, &words, find),
        _ => Vec::new(),
    };
    if let Some(scored) = by_known(&of_words, words.len() == 1, cursors, sieve.as_ref(), top, &run) {
        return Ok(Streamed { scored, ..Streamed::default() });
    }
    let common = Common::new(cursors);
    let mut streams = Vec::with_capacity(terms);
    for (word, term) in scoring() {
        let members = &term.group.members;
        let in_frequencies = in_windows && members.len() > 1;
        let stream = |member| Stream::new(cursors, &common, word, member, in_frequencies);
        streams.extend(members.iter().map(stream));
    }
    let mut search = Windows {
        filled: filler.map(|filler| Filled::new(filler, find, run.end)),
        asks: cursors.words.iter().map(|word| word.group.unknown()).sum::<u64>() / ASKED,
        root,
        sieve,
        words_decide,
        words_tell_all,
        exact,
        cursors,
        bounds: vec![f32::INFINITY; streams.len()],
        streams,
        top,
        scored: 0,
        matched: None,
        rough: 0,
        most_rough: u64::MAX,
        left: None,
    };
    if !words_decide && search.cursors.ranking.proximity <= 0.0 {
        search.most_rough = match wanted {
            Wanted::Every => u64::MAX,
            Wanted::Lookups => FEW_ROUGH,
            _ if postings < MANY_POSTINGS => u64::MAX,
            _ => postings / (GIVEN + terms as u64 * GIVEN_LEAF),
        };
    }
    let mut counted = None;
    match wanted {
        _ if let Some((given, _)) = given => search.by_given(hand, find, &run, &given)?,
        Wanted::All(count) if required.len() > 1 => {
            counted = Some(search.by_all(hand, find, &run, &required, count)?);
        }
        _ => match way {
            _ if search.most_rough < u64::MAX && search.streams.len() == 1 => search.left = Some(run.start),
            Way::Every if search.most_rough < u64::MAX => search.left = Some(run.start),
            Way::Every => counted = search.every(hand, find, &run)?,
            Way::Split => search.by_split(hand, find, &run, matches!(wanted, Wanted::Lookups))?,
            Way::Bounds if search.streams.len() == 1 => search.by_block(hand, find, &run)?,
            Way::Bounds => search.by_bounds(hand, find, &run)?,
        },
    }
    if let Some(start) = search.left {
        search.exactly(hand, find, &(start..run.end), &common, rows, open)?;
    }
    hand.complete()?;
    // Others with other runs would find out the same.
    if run.start == 0 {
        for of_word in of_words {
            of_word.find_front(hand, search.cursors, find, &common)?;
        }
    }
    let unpacked = search.streams.iter().map(|stream| stream.postings.blocks_unpacked()).sum();
    Ok(Streamed { scored: search.scored, unpacked, counted })
}

/// The way that seems cheapest, if none is to be tried.
fn way(cursors: &Cursors<'_>, wanted: Wanted) -> Way {
    let words = cursors.words.iter().zip(cursors.most_times()).filter(|(_, times)| **times > 0);
    let members: Vec<_> = words.clone().map(|(term, _)| &term.group.members).collect();
    let (several, terms) = (members.len() > 1, members.iter().map(|members| members.len()).sum::<usize>());
    let blocks: usize = members.into_iter().flatten().map(|member| member.postings.blocks()).sum();
    let are_near =
        || blocks.saturating_mul(terms).saturating_mul(NEAR) > cursors.standing.shelf.records() as usize;
    match wanted {
        Wanted::Every => Way::Every,
        Wanted::Lookups if several => Way::Split,
        Wanted::Best if terms <= FEW_STREAMS => Way::Bounds,
        // Going through all of many words' postings counts them, too.
        Wanted::All(count) if count > 0 && terms > MANY_COUNTED => Way::Every,
        _ if several && (terms > FEW_STREAMS || are_near()) => Way::Split,
        _ if terms > FEW_STREAMS => Way::Every,
        _ => Way::Bounds,
    }
}

/// The set that a record has to be in.
struct Sieve {
    records: Arc<Bits>,
    /// Whether many records are in it, so that postings are better scored before they are tested.
    passes_many: bool,
    /// Of so many records it has one.
    one_of: usize,
}

impl Sieve {
    /// Of so many of the records of a shelf.
    fn new(set: Arc<Bits>, count: u64, records: u32) -> Self {
        let records = u64::from(records);
        Self {
            records: set,
            passes_many: count > records / 4,
            one_of: usize::try_from(records / count.max(1)).unwrap_or(usize::MAX),
        }
    }

    #[inline]
    fn has(&self, ordinal: u32) -> bool {
        self.records.has(ordinal as usize)
    }
}

struct Windows<'w, 'c> {
    cursors: &'w mut Cursors<'c>,
    /// Cursors that find out window by window which records match, and how many leaves may be asked for before that is better.
    filled: Option<Filled<'w, 'c>>,
    asks: u64,
    streams: Vec<Stream>,
    top: &'w mut Top,
    /// What a record has to match besides, if it is more than to have one of the words, or all of them; and the set that it has
    /// to be in.
    root: Option<Node>,
    sieve: Option<Sieve>,
    /// Whether the words that a record has decide its score.
    words_decide: bool,
    /// Whether every record that matches has a word that scores.
    words_tell_all: bool,
    /// Whether parts that are added up in query order are the score.
    exact: bool,
    /// For each stream what it adds in the window at hand at most.
    bounds: Vec<f32>,
    scored: u64,
    /// Which records of the window match what scores, if that is found out for all of them.
    matched: Option<Matched>,
    /// How many records were scored one by one though they may not have come to the front, and how many of them are enough.
    rough: u64,
    most_rough: u64,
    /// From this record on they are left to be scored [exactly](Self::exactly).
    left: Option<u32>,
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
    /// What a sum may be for a score: itself, if it is one.
    fn with_slack(&self, sum: f32) -> f32 {
        if self.exact { sum } else { self.cursors.with_slack(sum) }
    }

    /// The streams of each word, in query order.
    fn words(&self) -> Vec<Range<usize>> {
        let mut next = 0;
        let words = self.streams.chunk_by(|a, b| a.word == b.word);
        let range = |streams: &[Stream]| {
            next += streams.len();
            next - streams.len()..next
        };
        words.map(range).collect()
    }

    /// Whether a record is live, and in the set that it has to be in.
    fn passes(&self, ordinal: u32) -> bool {
        self.sieve.as_ref().is_none_or(|sieve| sieve.has(ordinal)) && !self.cursors.standing.removed(ordinal)
    }

    /// Whether a record matches that has the words.
    fn matches(&mut self, hand: &mut Hand, ordinal: u32) -> Step<bool> {
        if !self.passes(ordinal) {
            return Ok(false);
        }
        let Some(root) = &self.root else { return Ok(true) };
        match &mut self.filled {
            Some(filled) if self.asks == 0 => filled.has(hand, root, ordinal),
            _ => {
                let plan = self.cursors.plan;
                self.asks = self.asks.saturating_sub((plan.leaves.len() + plan.tests.len()) as u64);
                self.cursors.matches(hand, root, ordinal)
            }
        }
    }

    /// Offers a record if it matches.
    fn offer(&mut self, hand: &mut Hand, ordinal: u32, sum: Sum) -> Step<()> {
        if !self.matches(hand, ordinal)? {
            return Ok(());
        }
        let score = match sum {
            Sum::Exact(sum) => Ok(sum),
            Sum::Rough => {
                self.rough += 1;
                self.cursors.score(hand, ordinal)
            }
        };
        if let Some(score) = if_at_hand(score)? {
            self.top.offer(Scored::by_score(score, ordinal));
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

    /// A sum above which every one is that [can reach](Self::can_reach) the score that has to be beaten; below 0 if all can.
    fn least_sum(&self, rest: f32) -> f32 {
        let threshold = self.top.threshold();
        if threshold < 0.0 || (self.exact && rest <= 0.0) {
            return threshold;
        }
        let slack = self.cursors.with_slack(1.0) - self.cursors.with_slack(0.0);
        let sum = (threshold - self.cursors.with_slack(0.0)) / slack - rest;
        sum - 8.0 * f32::EPSILON * threshold
    }

    /// Looks for a record in the lists of other terms, which add `rest` at most, those that can add the most first, and offers
    /// it if it can beat the score that has to be beaten.
    fn look_up(&mut self, hand: &mut Hand, others: &[usize], ordinal: u32, sum: f32, rest: f32) -> Step<()> {
        let threshold = self.top.threshold();
        if !self.can_reach(sum, rest, threshold) {
            return Ok(());
        }
        let (mut with, mut rest, mut found) = (sum, rest, 0);
        for &other in others.iter().rev() {
            if found > 0 && !self.can_reach(with, rest.max(0.0), threshold) {
                return Ok(());
            }
            rest -= self.bounds[other];
            let stream = &mut self.streams[other];
            if stream.is_past() {
                continue;
            }
            if let Some(part) = if_at_hand(stream.part_of(hand, self.cursors, ordinal))?.flatten() {
                with += part;
                self.scored += 1;
                found += 1;
            }
        }
        if found == 0 && self.exact {
            if sum > threshold {
                self.offer(hand, ordinal, Sum::Exact(sum))?;
            }
        } else if self.cursors.with_slack(with) > threshold {
            // Two parts add up to the same in either order.
            if self.exact && self.streams.len() == 2 {
                return self.offer(hand, ordinal, Sum::Exact(with));
            }
            let sum = if self.words_decide { self.score(hand, ordinal)? } else { Sum::Rough };
            if !matches!(sum, Sum::Exact(score) if score <= threshold) {
                self.offer(hand, ordinal, sum)?;
            }
        }
        Ok(())
    }

    /// Whether a score is what the terms of a record add, in their order: each word is one term.
    fn adds_up(&self) -> bool {
        let words = self.streams.chunk_by(|a, b| a.word == b.word);
        self.exact
            && words.count() == self.streams.len()
            && !self.streams.iter().any(Stream::is_in_frequencies)
    }

    /// What some terms add for a record of the window at hand, in their order; none as soon as that and the rest can't beat a threshold.
    /// Those that it has add `still` at most together, and others `rest`.
    fn sum_of(
        &mut self,
        hand: &mut Hand,
        terms: &[usize],
        ordinal: u32,
        (still, rest): (f32, f32),
        threshold: f32,
    ) -> Step<Option<f32>> {
        if !self.can_reach(still, rest, threshold) {
            return Ok(None);
        }
        let mut sum = 0.0;
        for (number, &place) in terms.iter().enumerate() {
            let part = self.streams[place].part_of(hand, self.cursors, ordinal);
            let Some(part) = if_at_hand(part)?.flatten() else { continue };
            sum += part;
            self.scored += 1;
            // Added up anew: what is left of a difference may be less than a small bound.
            let others = terms[number + 1..].iter().fold(rest, |sum, other| sum + self.bounds[*other]);
            if !self.can_reach(sum, others, threshold) {
                return Ok(None);
            }
        }
        Ok(Some(sum))
    }

    /// The score of a record of the window at hand, where the words decide: as [`Cursors::score`] adds it up.
    fn score(&mut self, hand: &mut Hand, ordinal: u32) -> Step<Sum> {
        let (mut score, mut frequency) = (0.0, 0.0);
        for place in 0..self.streams.len() {
            let word = self.streams[place].word;
            let is_last = self.streams.get(place + 1).is_none_or(|next| next.word != word);
            let is_first = place == 0 || self.streams[place - 1].word != word;
            let stream = &mut self.streams[place];
            if !stream.is_past() {
                if is_first && is_last && !stream.is_in_frequencies() {
                    let part = if_at_hand(stream.part_of(hand, self.cursors, ordinal))?.flatten();
                    score += part.unwrap_or(0.0);
                    continue;
                }
                stream.unpack(stream.block)?;
                if let Ok(place) = stream.postings.unpacked().binary_search(&ordinal) {
                    frequency += if_at_hand(stream.frequency_at(hand, self.cursors, place))?.unwrap_or(0.0);
                }
            }
            if is_last {
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
        if let Some(sieve) = self.sieve.as_ref().filter(|sieve| !sieve.passes_many) {
            stream.unpack(block)?;
            for place in stream.places(window) {
                let ordinal = stream.postings.unpacked()[place];
                if sieve.has(ordinal) {
                    let part = if_at_hand(stream.part_at(hand, self.cursors, place))?.unwrap_or(0.0);
                    sums.add((ordinal - window.start) as usize, part);
                    self.scored += 1;
                }
            }
            return Ok(());
        }
        stream.reckon(hand, self.cursors, block)?;
        let places = stream.places(window);
        self.scored += places.len() as u64;
        let ordinals = &stream.postings.unpacked()[places.clone()];
        let place = |ordinal: u32| (ordinal - window.start) as usize;
        let each = ordinals.iter().zip(&stream.parts()[places]);
        match &self.sieve {
            None => sums.add_each(each.map(|(ordinal, part)| (place(*ordinal), *part))),
            Some(sieve) => {
                let pass = each.filter(|(ordinal, _)| sieve.has(**ordinal));
                sums.add_each(pass.map(|(ordinal, part)| (place(*ordinal), *part)));
            }
        }
        Ok(())
    }
}
