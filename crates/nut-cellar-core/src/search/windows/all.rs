//! Records that have all of the words: the rarest word leads, and the others are asked for what it has. Where the lists of all of them
//! are unpacked, none leads: which records have them all is told by their bits.

use super::{BETWEEN_STOPS, MOST, Sum, Windows};
use crate::bits::{Bits, each_in};
use crate::error::Result;
use crate::search::find::Find;
use crate::search::top::Scored;
use crate::shelf::{Hand, Step, if_at_hand};
use std::ops::Range;

/// From so many records on that are left of a window it is better to mark what a term has than to look for each of them.
const MANY: usize = 16;

impl Windows<'_, '_> {
    /// Goes through the records that have all of the `required` words, by their places in the plan, and counts those that match:
    /// `wanted` at least, and of the rest those that may come to the front.
    pub(super) fn by_all(
        &mut self,
        hand: &mut Hand,
        find: &Find,
        run: &Range<u32>,
        required: &[usize],
        wanted: u64,
    ) -> Step<u64> {
        let of_word = |word: &usize| {
            let place = |word| self.streams.partition_point(|stream| stream.word < word);
            place(*word)..place(*word + 1)
        };
        let mut words: Vec<Range<usize>> = required.iter().map(of_word).collect();
        let cost = |word: &Range<usize>| -> u64 {
            self.streams[word.clone()].iter().map(|stream| u64::from(stream.postings.records())).sum()
        };
        words.sort_by_cached_key(cost);
        for stream in &mut self.streams {
            stream.begin(run.start)?;
        }
        let terms: Vec<_> = (0..self.streams.len()).collect();
        let adds_up = self.adds_up();
        // A word that the shelf does not have has no stream.
        let are_there = words.len() == self.streams.len();
        let are_dense =
            adds_up && are_there && self.streams.iter().all(|stream| stream.postings.dense().is_some());
        let (mut here, mut marks) = (Vec::new(), Bits::default());
        let (mut counted, mut start, mut until_stop) = (0, run.start, 0);
        while start < run.end {
            if until_stop == 0 {
                find.go_on()?;
                until_stop = BETWEEN_STOPS;
            }
            until_stop -= 1;
            // Scoring all of them takes less than asking where they may not score.
            if are_dense && counted >= wanted {
                let window = start..start.saturating_add(MOST).min(run.end);
                start = window.end;
                self.offer_together(hand, &window, &mut here)?;
                continue;
            }
            let mut last = run.end - 1;
            for word in &words {
                let mut past = true;
                for stream in &mut self.streams[word.clone()] {
                    stream.go_to(start)?;
                    last = last.min(stream.last);
                    past &= stream.is_past();
                }
                if past {
                    return Ok(counted);
                }
            }
            // What they add at most together, once there is a score to be beaten.
            let mut total = None;
            if self.top.threshold() > f32::NEG_INFINITY {
                let mut sum = 0.0;
                for (stream, bound) in self.streams.iter_mut().zip(&mut self.bounds) {
                    *bound = stream.bound(hand, self.cursors)?;
                    sum += *bound;
                }
                total = Some(sum);
            }
            let hopeless = total.is_some_and(|total| self.with_slack(total) <= self.top.threshold());
            if hopeless && counted >= wanted {
                start = last + 1;
                continue;
            }
            let window = start..last.min(start.saturating_add(MOST - 1)) + 1;
            if are_dense {
                self.where_all_are(&window, &mut here);
                start = window.end;
            } else {
                start = self.lead(&words[0], &window, &mut here)?.max(window.end);
                for word in &words[1..] {
                    self.keep(word, &window, &mut here, &mut marks)?;
                }
            }
            for &ordinal in &here {
                if counted >= wanted
                    && let Some(total) = total.filter(|_| adds_up)
                {
                    let threshold = self.top.threshold();
                    let sum = self.sum_of(hand, &terms, ordinal, (total, 0.0), threshold)?;
                    if let Some(sum) = sum {
                        self.offer(hand, ordinal, Sum::Exact(sum))?;
                    }
                    continue;
                }
                if counted >= wanted {
                    // Where positions need not be read to count, they are of what comes to the front only.
                    let sum = self.score(hand, ordinal)?;
                    self.scored += words.len() as u64;
                    if !matches!(sum, Sum::Exact(score) if score <= self.top.threshold()) {
                        self.offer(hand, ordinal, sum)?;
                    }
                    continue;
                }
                if self.matches(hand, ordinal)? {
                    counted += 1;
                    if hopeless {
                        continue;
                    }
                    let Sum::Exact(score) = self.score(hand, ordinal)? else { continue };
                    self.scored += words.len() as u64;
                    self.top.offer(Scored::by_score(score, ordinal));
                }
            }
        }
        Ok(counted)
    }

    /// Offers the records of a window that have all terms, of which the records stand as bits, and which add up.
    fn offer_together(&mut self, hand: &mut Hand, window: &Range<u32>, here: &mut Vec<u32>) -> Step<()> {
        self.where_all_are(window, here);
        let (mut sums, mut parts) = (vec![0.0; here.len()], Vec::new());
        for stream in &mut self.streams {
            if_at_hand(stream.parts_of(hand, self.cursors, here, &mut parts))?;
            sums.iter_mut().zip(&parts).for_each(|(sum, part)| *sum += part);
        }
        hand.complete()?;
        self.scored += (here.len() * self.streams.len()) as u64;
        let mut threshold = self.top.threshold();
        for (&ordinal, sum) in here.iter().zip(sums) {
            if self.with_slack(sum) > threshold {
                self.offer(hand, ordinal, Sum::Exact(sum))?;
                threshold = self.top.threshold();
            }
        }
        Ok(())
    }

    /// Puts the records of a window that have all terms, of which the records stand as bits, into `here`, ascending.
    fn where_all_are(&self, window: &Range<u32>, here: &mut Vec<u32>) {
        here.clear();
        let dense = || self.streams.iter().filter_map(|stream| stream.postings.dense());
        let places = window.start as usize / 64..=(window.end - 1) as usize / 64;
        let words =
            places.map(|place| dense().fold(u64::MAX, |all, dense| all & dense.bits().words()[place]));
        each_in(words, window, |ordinal| here.push(ordinal));
    }

    /// Puts the records of a window that have a word into `here`, ascending; gives a record before which there are no others.
    fn lead(&mut self, word: &Range<usize>, window: &Range<u32>, here: &mut Vec<u32>) -> Result<u32> {
        here.clear();
        let mut next = u32::MAX;
        for stream in self.streams[word.clone()].iter_mut().filter(|stream| !stream.is_past()) {
            stream.unpack(stream.block)?;
            let places = stream.places(window);
            let ordinals = stream.postings.unpacked();
            here.extend_from_slice(&ordinals[places.clone()]);
            next = next.min(ordinals.get(places.end).copied().unwrap_or(stream.last.saturating_add(1)));
        }
        if word.len() > 1 {
            here.sort_unstable();
            here.dedup();
        }
        Ok(next)
    }

    /// Keeps those records of a window that have a word.
    fn keep(
        &mut self,
        word: &Range<usize>,
        window: &Range<u32>,
        here: &mut Vec<u32>,
        marks: &mut Bits,
    ) -> Result<()> {
        if here.is_empty() {
            return Ok(());
        }
        if let [stream] = &self.streams[word.clone()]
            && let Some(dense) = stream.postings.dense()
        {
            keep_those(here, |ordinal| dense.has(ordinal));
            return Ok(());
        }
        for stream in self.streams[word.clone()].iter_mut().filter(|stream| !stream.is_past()) {
            stream.unpack(stream.block)?;
        }
        let streams = || self.streams[word.clone()].iter().filter(|stream| !stream.is_past());
        if here.len() < MANY {
            here.retain(|ordinal| {
                streams().any(|stream| stream.postings.unpacked().binary_search(ordinal).is_ok())
            });
            return Ok(());
        }
        marks.reset(window.len());
        for stream in self.streams[word.clone()].iter_mut().filter(|stream| !stream.is_past()) {
            let places = stream.places(window);
            let places =
                stream.postings.unpacked()[places].iter().map(|ordinal| (ordinal - window.start) as usize);
            marks.set_all(places);
        }
        keep_those(here, |ordinal| marks.has((ordinal - window.start) as usize));
        Ok(())
    }
}

/// Keeps those of which something is true: without a branch, which few of them would take.
fn keep_those(here: &mut Vec<u32>, is_true: impl Fn(u32) -> bool) {
    let mut count = 0;
    for place in 0..here.len() {
        here[count] = here[place];
        count += usize::from(is_true(here[place]));
    }
    here.truncate(count);
}
