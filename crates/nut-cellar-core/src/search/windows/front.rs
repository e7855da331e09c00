//! Of the postings of a word those that score best are known: if no other word scores they are the best of all, and else no record scores
//! less than they do that comes to the front.

use super::Sieve;
use super::every::size_of_window;
use super::sums::Sums;
use crate::search::cursors::Cursors;
use crate::search::find::Find;
use crate::search::group::Member;
use crate::search::stream::{Common, Scale, Stream};
use crate::search::top::{Scored, Top};
use crate::shelf::{FrontPicker, Hand, LeftOut, Step};
use std::ops::Range;

/// With more terms a word is seldom asked for again.
const MOST_TERMS: usize = 64;
/// Of more words than these it is not worked out which postings are the best: it would cost more than the search.
const MOST_WORDS: usize = 8;

/// A word that a record may have without anything else, but that it has to be in a set, if there is one.
pub(super) struct OfWord {
    word: usize,
    /// Its lists, how their postings count, and what tf~ is worked out by.
    of: Vec<u64>,
    /// How many of the best are known.
    most: usize,
}

/// Offers the best records of a run, if no other word scores and what is known of it is enough: gives how many were looked at. Takes what is
/// known of several words as a floor.
pub(super) fn by_known(
    of_words: &[OfWord],
    is_alone: bool,
    cursors: &Cursors<'_>,
    sieve: Option<&Sieve>,
    top: &mut Top,
    run: &Range<u32>,
) -> Option<u64> {
    if is_alone {
        return of_words.first()?.by_front(cursors, sieve, top, run);
    }
    if top.can_raise() {
        for of_word in of_words {
            if let Some(floor) = of_word.floor(cursors, sieve, top.wanted()) {
                top.raise_floor(floor);
            }
        }
    }
    None
}

impl OfWord {
    /// The words of a plan of which something may be known.
    pub fn all(cursors: &Cursors<'_>, words: &[usize], find: &Find) -> Vec<Self> {
        let few = if words.len() <= MOST_WORDS { words } else { &[] };
        few.iter().filter_map(|word| Self::of(cursors, *word, find)).collect()
    }

    /// A word of the plan; none if it has too many or too few postings to be worth it.
    fn of(cursors: &Cursors<'_>, word: usize, find: &Find) -> Option<Self> {
        let (fewest, most) = find.wanted_front();
        let group = &cursors.words[word].group;
        if group.cost() < fewest || group.members.len() > MOST_TERMS {
            return None;
        }
        let member = |member: &Member| {
            let (start, end, records) = member.postings.list();
            [start, end, u64::from(records) << 32 | u64::from(member.likeness.to_bits()), member.columns.0]
        };
        let factors = cursors.ranking.formula.factor_bits();
        let of = group.members.iter().flat_map(member).chain(factors.into_iter().map(u64::from));
        Some(Self { word, of: of.collect(), most })
    }

    /// Offers the best records of a run, if those that are known are enough to tell which they are: gives how many were looked at.
    fn by_front(
        &self,
        cursors: &Cursors<'_>,
        sieve: Option<&Sieve>,
        top: &mut Top,
        run: &Range<u32>,
    ) -> Option<u64> {
        let front = cursors.standing.shelf.fronts().get(&self.of)?;
        let LeftOut { best, next } = front.left_out();
        let enough = top.wanted().saturating_mul(sieve.map_or(1, |sieve| sieve.one_of));
        if best.is_some() && front.len() < enough {
            return None;
        }
        let scale = Scale::of(cursors, self.word, false);
        let (before, mut looked_at) = (top.clone(), 0);
        for (frequency, records) in front.classes() {
            let part = scale.part(frequency);
            if part < top.least() {
                break;
            }
            for &ordinal in records {
                // Those that follow have the same score, and come after it.
                if !top.takes(part, ordinal) {
                    break;
                }
                looked_at += 1;
                let passes = sieve.is_none_or(|sieve| sieve.has(ordinal));
                if passes && run.contains(&ordinal) && !cursors.standing.removed(ordinal) {
                    top.offer(Scored::by_score(part, ordinal));
                }
            }
        }
        let may_count = |(frequency, ordinal)| top.takes(scale.part(frequency), ordinal);
        if best.is_some_and(may_count) || next.is_some_and(|next| may_count((next, 0))) {
            *top = before;
            return None;
        }
        Some(looked_at)
    }

    /// A score that so many live records of the set have at least, if so many are known.
    fn floor(&self, cursors: &Cursors<'_>, sieve: Option<&Sieve>, wanted: usize) -> Option<f32> {
        let front = cursors.standing.shelf.fronts().get(&self.of)?;
        let passes = |ordinal: &u32| {
            sieve.is_none_or(|sieve| sieve.has(*ordinal)) && !cursors.standing.removed(*ordinal)
        };
        let passing = front.classes().flat_map(|(frequency, records)| {
            records.iter().filter(|ordinal| passes(ordinal)).map(move |_| frequency)
        });
        passing
            .take(wanted)
            .nth(wanted - 1)
            .map(|frequency| Scale::of(cursors, self.word, false).part(frequency))
    }

    /// Finds out which postings score best, if they were gone through before.
    pub fn find_front(
        &self,
        hand: &mut Hand,
        cursors: &mut Cursors<'_>,
        find: &Find,
        common: &Common,
    ) -> Step<()> {
        let (shelf, records) = (&cursors.standing.shelf, cursors.standing.shelf.records());
        if !common.has_lengths() || !shelf.fronts().ask(&self.of, records) {
            return Ok(());
        }
        let group = &cursors.words[self.word].group;
        let (postings, stream) =
            (group.cost(), |member| Stream::new(cursors, common, self.word, member, true));
        let mut streams: Vec<_> = group.members.iter().map(stream).collect();
        let mut picker = FrontPicker::new(usize::try_from(postings).unwrap_or(usize::MAX).min(self.most));
        let size = size_of_window(records, postings, streams.len());
        let mut sums = Sums::default();
        sums.for_window(size as usize);
        for start in (0..records).step_by(size as usize) {
            find.go_on()?;
            let window = start..start.saturating_add(size).min(records);
            for stream in &mut streams {
                add_up(hand, cursors, stream, &window, &mut sums)?;
            }
            sums.drain(-1.0, |place, frequency| {
                picker.take(start + place, frequency);
                Ok(())
            })?;
        }
        hand.complete()?;
        shelf.fronts().keep(&self.of, picker.finish(), records);
        Ok(())
    }
}

/// Adds up what the postings of a window have for tf~; windows ascend.
fn add_up(
    hand: &mut Hand,
    cursors: &mut Cursors<'_>,
    stream: &mut Stream,
    window: &Range<u32>,
    sums: &mut Sums,
) -> Step<()> {
    stream.block = stream.postings.block_with(stream.block, window.start);
    while !stream.is_past() {
        stream.reckon(hand, cursors, stream.block)?;
        let places = stream.places(window);
        let each = stream.postings.unpacked()[places.clone()].iter().zip(&stream.parts()[places]);
        sums.add_each(each.map(|(ordinal, frequency)| ((ordinal - window.start) as usize, *frequency)));
        if stream.postings.last_of(stream.block) >= window.end {
            break;
        }
        stream.block += 1;
    }
    Ok(())
}
