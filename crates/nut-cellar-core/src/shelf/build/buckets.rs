//! The tokens of the records that become a shelf, by list, in two passes that each touch little memory at a time: first into
//! buckets, each for a run of terms in the order of the lists, then by list within a bucket, when it is packed. (Written straight to their places by
//! list, they would touch as many pages of memory in turn as there are frequent terms.)

use crate::shelf::build::arrivals::Home;
use crate::shelf::build::classes::Classes;
use crate::shelf::build::log::{TokenLog, TokenPlace};
use crate::shelf::build::part::Part;
use crate::shelf::build::threads::in_threads;
use crate::shelf::build::vocabulary::Unified;
use std::ops::Range;

/// A bucket ends with so many tokens: what one thread packs in one go, and has near.
const TOKENS: usize = 1 << 15;
/// There are about so many buckets at most; of more tokens each has more.
const BUCKETS: usize = 1 << 12;
/// A term of a bucket is a number of 16 bits.
const TERMS: usize = 1 << 16;

/// Tokens by bucket.
pub(in crate::shelf) struct Buckets {
    /// Those of a run of records each, in the order of the records.
    slices: Vec<Slice>,
    /// The terms of each bucket, by slot.
    terms: Vec<Range<usize>>,
    /// The buckets that have whole lists together, mostly one, and these lists.
    runs: Vec<Run>,
}

/// Buckets that have whole lists.
#[derive(Clone)]
pub(in crate::shelf) struct Run {
    buckets: Range<usize>,
    pub lists: Range<usize>,
}

/// The tokens of some records: which of the terms of its bucket each is, and where it stands.
struct Slice {
    /// Where each bucket begins, and where the last ends.
    starts: Vec<usize>,
    terms: Vec<u16>,
    places: Vec<TokenPlace>,
}

/// For each part, for each of its terms: the bucket, and which of its terms it is.
type Spots = Vec<Vec<(u32, u16)>>;

impl Buckets {
    /// Takes the tokens of all records out of the parts; for each of these it is known how many each of its terms has. One thread for
    /// each part works.
    pub fn of(
        parts: &mut [Part],
        homes: &[Home],
        (unified, classes): (&Unified, &Classes),
        tokens: &[Vec<u32>],
    ) -> Self {
        let logs: Vec<_> = parts.iter_mut().map(|part| part.log.take()).collect();
        let slot_of = classes.slot_of_each();
        let (terms, runs) = divide(tokens, unified, classes, &slot_of);
        let mut of_slot = Vec::with_capacity(unified.len());
        for (bucket, slots) in (0..).zip(&terms) {
            of_slot.extend((0..=u16::MAX).take(slots.len()).map(|term| (bucket, term)));
        }
        let spot = |&rank: &u32| {
            let slot = slot_of.get(rank as usize);
            slot.and_then(|slot| of_slot.get(*slot as usize)).copied().unwrap_or_default()
        };
        let spots: Spots = unified.ranks.iter().map(|ranks| ranks.iter().map(spot).collect()).collect();
        let each = homes.len().div_ceil(logs.len()).max(1);
        let slices = (0..).step_by(each).zip(homes.chunks(each));
        let slices = in_threads(slices, |(first, homes)| Slice::of(&logs, homes, first, &spots, terms.len()));
        Self { slices, terms, runs }
    }

    /// The runs of buckets, which are in order.
    pub fn runs(&self) -> &[Run] {
        &self.runs
    }

    /// Gives each list of a run that some record has, with its tokens: where each stands, which ascends, and the slot of its term.
    pub fn each(&self, run: &Run, classes: &Classes, mut take: impl FnMut(usize, &[(TokenPlace, u32)])) {
        let first = self.terms[run.buckets.start].start;
        // Which list of the run each slot is of.
        let mut list_of = Vec::new();
        for (place, list) in (0..).zip(run.lists.clone()) {
            list_of.resize(classes.slots(list).end - first, place);
        }
        let mut starts = vec![0_usize; run.lists.len() + 1];
        self.each_token(run, |slot, _| starts[list_of[slot - first] + 1] += 1);
        for list in 1..starts.len() {
            starts[list] += starts[list - 1];
        }
        let mut tokens = vec![(TokenPlace::default(), 0); starts[run.lists.len()]];
        self.each_token(run, |slot, place| {
            let start = &mut starts[list_of[slot - first]];
            tokens[*start] = (place, u32::try_from(slot).expect("fewer terms than tokens in memory"));
            *start += 1;
        });
        if run.buckets.len() > 1 {
            // One list, of which each bucket had some.
            tokens.sort_by_key(|(place, _)| *place);
        }
        // Each start has become the one after it.
        let mut start = 0;
        for (list, end) in run.lists.clone().zip(starts) {
            if start < end {
                take(list, &tokens[start..end]);
            }
            start = end;
        }
    }

    /// Gives the slot and the place of each token of a run: by bucket, then as they ascend.
    fn each_token(&self, run: &Run, mut take: impl FnMut(usize, TokenPlace)) {
        for bucket in run.buckets.clone() {
            let first = self.terms[bucket].start;
            for slice in &self.slices {
                let range = slice.starts[bucket]..slice.starts[bucket + 1];
                for (&term, &place) in slice.terms[range.clone()].iter().zip(&slice.places[range]) {
                    take(first + usize::from(term), place);
                }
            }
        }
    }
}

/// Runs of terms with about as many tokens each, whole lists in all but those of more terms than a bucket can have; and which of these have
/// a list together.
fn divide(
    counts: &[Vec<u32>],
    unified: &Unified,
    classes: &Classes,
    slot_of: &[u32],
) -> (Vec<Range<usize>>, Vec<Run>) {
    let mut tokens = vec![0_usize; unified.len()];
    for (counts, ranks) in counts.iter().zip(&unified.ranks) {
        for (count, &rank) in counts.iter().zip(ranks).filter(|(count, _)| **count > 0) {
            tokens[slot_of[rank as usize] as usize] += *count as usize;
        }
    }
    let enough = (tokens.iter().sum::<usize>() / BUCKETS).max(TOKENS);
    let (mut buckets, mut runs, mut first, mut sum) = (Vec::new(), Vec::<Run>::new(), 0, 0);
    let mut first_list = 0;
    for list in 0..classes.len() {
        let slots = classes.slots(list);
        sum += tokens[slots.clone()].iter().sum::<usize>();
        let next = if list + 1 < classes.len() { classes.slots(list + 1).len() } else { 0 };
        if sum >= enough || slots.end - first + next > TERMS || list + 1 == classes.len() {
            let begun = buckets.len();
            buckets
                .extend((first..slots.end).step_by(TERMS).map(|start| start..slots.end.min(start + TERMS)));
            runs.push(Run { buckets: begun..buckets.len(), lists: first_list..list + 1 });
            (first, first_list, sum) = (slots.end, list + 1, 0);
        }
    }
    (buckets, runs)
}

impl Slice {
    /// The tokens of records that are at home there, and are numbered from `first` on.
    fn of(logs: &[TokenLog], homes: &[Home], first: u32, spots: &Spots, buckets: usize) -> Self {
        let mut starts = vec![0_usize; buckets + 1];
        for home in homes {
            let spots = &spots[home.part as usize];
            logs[home.part as usize]
                .each(home.record, |term, _, _| starts[spots[term as usize].0 as usize + 1] += 1);
        }
        for bucket in 1..starts.len() {
            starts[bucket] += starts[bucket - 1];
        }
        let (mut terms, mut places) =
            (vec![0; starts[buckets]], vec![TokenPlace::default(); starts[buckets]]);
        for (record, home) in (first..).zip(homes) {
            let spots = &spots[home.part as usize];
            logs[home.part as usize].each(home.record, |term, column, position| {
                let (bucket, term) = spots[term as usize];
                let slot = &mut starts[bucket as usize];
                terms[*slot] = term;
                places[*slot] = TokenPlace::new(record, column, position);
                *slot += 1;
            });
        }
        // Each start has become the one after it.
        starts.rotate_right(1);
        starts[0] = 0;
        Self { starts, terms, places }
    }
}
