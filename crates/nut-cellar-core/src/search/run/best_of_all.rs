//! Records that have all of the words: the rarest word leads, and the others are asked for what it has.

use super::list::List;
use super::scan::{BETWEEN_STOPS, Scan, Sum};
use super::top::Scored;
use super::windows::MOST_RECORDS;
use crate::bits::Bits;
use crate::error::Result;
use crate::shelf::{Held, Step};
use std::ops::Range;

/// From so many records on that are left of a window it is better to mark what a list has than to look for each of them.
const MANY_LEFT: usize = 16;

impl Scan<'_, '_> {
    /// Goes through the records of a run that have all of so many words, and counts those that match: `wanted` at least, and of the rest
    /// those that may come to the front.
    pub(super) fn best_of_all(
        &mut self,
        held: &mut Held,
        run: &Range<u32>,
        words: usize,
        wanted: u64,
    ) -> Step<u64> {
        if self.words.len() < words {
            // The shelf does not have one of them.
            return Ok(0);
        }
        let cost = |word: &usize| -> u64 {
            let lists = &self.lists[self.words[*word].lists.clone()];
            lists.iter().map(|list| u64::from(list.postings.records())).sum()
        };
        let mut order: Vec<_> = (0..self.words.len()).collect();
        order.sort_by_cached_key(cost);
        self.begin(run.start)?;
        let (mut here, mut marks) = (Vec::new(), Bits::default());
        let (mut counted, mut start, mut until_stop) = (0, run.start, 0);
        while start < run.end {
            if until_stop == 0 {
                self.find.go_on()?;
                until_stop = BETWEEN_STOPS;
            }
            until_stop -= 1;
            let (last, total) = self.go_to(held, start)?;
            if self.words.iter().any(|word| self.lists[word.lists.clone()].iter().all(List::is_past)) {
                break;
            }
            let is_hopeless = self.with_slack(total) <= self.top.threshold();
            let last = last.min(run.end - 1);
            if is_hopeless && counted >= wanted {
                start = last + 1;
                continue;
            }
            let window = start..last.min(start.saturating_add(MOST_RECORDS - 1)) + 1;
            start = self.lead(order[0], &window, &mut here)?.max(window.end);
            for word in &order[1..] {
                self.keep(*word, &window, &mut here, &mut marks)?;
            }
            counted += self.offer_here(held, &here, wanted.saturating_sub(counted), is_hopeless)?;
        }
        Ok(counted)
    }

    /// Offers records that have all of the words; counts those that match, as long as more are `wanted`.
    fn offer_here(&mut self, held: &mut Held, here: &[u32], wanted: u64, is_hopeless: bool) -> Step<u64> {
        let mut counted = 0;
        for &ordinal in here {
            let counts = counted < wanted;
            if counts && !self.matches(held, ordinal)? {
                continue;
            }
            counted += u64::from(counts);
            let threshold = self.top.threshold();
            if is_hopeless {
                continue;
            }
            match self.score_of(held, ordinal, threshold)? {
                Some(score) if counts => self.top.offer(Scored::by_score(score, ordinal)),
                // Where positions need not be read to count, they are of what comes to the front only.
                Some(score) => self.offer(held, ordinal, Sum::Exact(score))?,
                None => {}
            }
        }
        Ok(counted)
    }

    /// Puts the records of a window that have a word into `here`, ascending; gives a record before which there are no others.
    fn lead(&mut self, word: usize, window: &Range<u32>, here: &mut Vec<u32>) -> Result<u32> {
        here.clear();
        let (mut next, lists) = (u32::MAX, self.words[word].lists.clone());
        for list in self.lists[lists.clone()].iter_mut().filter(|list| !list.is_past()) {
            list.unpack(list.block)?;
            let places = list.places(window);
            let ordinals = list.postings.unpacked();
            here.extend_from_slice(&ordinals[places.clone()]);
            next = next.min(ordinals.get(places.end).copied().unwrap_or(list.last.saturating_add(1)));
        }
        if lists.len() > 1 {
            here.sort_unstable();
            here.dedup();
        }
        Ok(next)
    }

    /// Keeps those records of a window that have a word.
    fn keep(
        &mut self,
        word: usize,
        window: &Range<u32>,
        here: &mut Vec<u32>,
        marks: &mut Bits,
    ) -> Result<()> {
        let lists = self.words[word].lists.clone();
        if let [list] = &self.lists[lists.clone()]
            && let Some(list) = list.postings.list_unpacked()
        {
            keep_those(here, |ordinal| list.has(ordinal));
            return Ok(());
        }
        if here.is_empty() {
            return Ok(());
        }
        for list in self.lists[lists.clone()].iter_mut().filter(|list| !list.is_past()) {
            list.unpack(list.block)?;
        }
        let lists = || lists.clone();
        if here.len() < MANY_LEFT {
            let lists: Vec<_> = self.lists[lists()].iter().filter(|list| !list.is_past()).collect();
            here.retain(|ordinal| {
                lists.iter().any(|list| list.postings.unpacked().binary_search(ordinal).is_ok())
            });
            return Ok(());
        }
        marks.reset(window.len());
        let place = |ordinal: &u32| (ordinal - window.start) as usize;
        for list in self.lists[lists()].iter_mut().filter(|list| !list.is_past()) {
            let places = list.places(window);
            marks.set_all(list.postings.unpacked()[places].iter().map(place));
        }
        keep_those(here, |ordinal| marks.has(place(&ordinal)));
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
