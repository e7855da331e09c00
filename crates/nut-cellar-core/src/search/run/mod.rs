//! One shelf: it is opened, gone through as was chosen, and gives its best and how many match.
//!
//! Which strategy is taken is chosen in `plan/strategy.rs`; each has a file of its own here, which decides nothing.

mod best_of_all;
mod by_record;
mod cursors;
mod in_order;
mod list;
mod matched;
mod matching;
mod needs;
mod of_matches;
mod phrase;
mod scan;
mod scorer;
mod sums;
mod top;
mod value_test;
mod windows;
mod with_phrases;
mod word;

use super::find::Find;
use super::plan::strategy::{Choice, Matches, Statistics, Strategy, choose};
use super::plan::{Node, Plan, Ranking};
use super::settings::{Order, Total};
use crate::catalog::Standing;
use crate::shelf::{Held, Step, ValueColumn, in_threads};
use crate::store::PieceId;
use by_record::{ByValue, Collect, by_record};
pub(in crate::search) use cursors::{Cursors, Walked};
use in_order::in_order;
pub(in crate::search) use matching::Matching;
use matching::{Allowed, PhraseBits};
use scan::Scan;
use serde::Serialize;
use std::ops::Range;
use std::sync::Arc;
pub(in crate::search) use top::Scored;
use top::Top;
use windows::{Pace, Scanned};

/// What a shelf brings to a search.
#[derive(Debug)]
pub(super) struct ShelfFound {
    /// How many of its live records match, as far as they were counted.
    pub total: u64,
    /// The best of them, best first.
    pub best: Vec<Scored>,
    pub went: Went,
}

/// How a search went through a shelf.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct Went {
    /// The shelf's piece.
    #[serde(skip)]
    pub piece: Option<PieceId>,
    /// Whether it is one of changed rows that were laid over the others for the search.
    pub overlay: bool,
    /// `count`, `by record`, `of matches`, `in order`, `best of any`, `best of all`, `some words`, `every posting` or `with phrases`; see
    /// `docs/architecture.md`.
    pub way: &'static str,
    /// The records of the shelf, the removed ones included.
    pub records: u64,
    /// How many records have to be looked at to find all that match, about.
    pub estimated: u64,
    /// The postings of all words that score.
    pub postings: u64,
    /// Postings that were scored, roughly or exactly.
    pub scored: u64,
    /// The blocks of these postings.
    pub blocks: u64,
    /// Blocks that were unpacked; one that is unpacked for two purposes counts twice.
    pub unpacked: u64,
}

/// What of a shelf is wanted.
pub(super) struct Asked<'a> {
    pub plan: &'a Plan,
    pub find: &'a Find,
    /// So many hits.
    pub k: usize,
    /// Only what comes after this.
    pub after: Option<Scored>,
    /// The column that hits are ordered by: its place among those that are compared, and whether the greatest comes first.
    pub by: Option<(usize, bool)>,
    /// The score that k records of other shelves reach.
    pub floor: Option<f32>,
    /// So many matches are counted already.
    pub counted: u64,
}

/// What a run of records brings.
#[derive(Default)]
struct RunFound {
    total: u64,
    best: Vec<Scored>,
    strategy: Option<Strategy>,
    scored: u64,
    unpacked: u64,
}

/// A shelf that is gone through, or a run of its records.
struct Run<'a> {
    standing: &'a Standing,
    ranking: &'a Ranking<'a>,
    asked: &'a Asked<'a>,
    /// What has to match, in the order in which it is best asked.
    root: &'a Node,
    statistics: &'a Statistics,
    /// How many records of the shelf match, if that is known.
    known: Option<u64>,
    records: Range<u32>,
}

/// Finds the best matches of a shelf.
pub(super) fn search(
    held: &mut Held,
    standing: &Standing,
    ranking: &Ranking<'_>,
    asked: &Asked<'_>,
) -> Step<ShelfFound> {
    let mut walked = Walked::new();
    let mut cursors = Cursors::open(held, standing, asked.plan, ranking, &mut walked)?;
    let root = cursors.in_order(&asked.plan.root);
    let known = match &root {
        Node::Leaf(leaf) => cursors.records_of(*leaf)?,
        _ => None,
    };
    let mut statistics = cursors.statistics(held, &root)?;
    statistics.by_score = *asked.find.wanted_order() == Order::Score;
    statistics.limit = asked.k;
    statistics.is_counted = known.is_some();
    statistics.to_count = match asked.find.total {
        Total::Exact => u64::MAX,
        Total::AtLeast(wanted) => wanted.saturating_sub(asked.counted),
    };
    cursors.ask(held, asked.find, &statistics)?;
    statistics.are_unpacked = cursors.are_unpacked();
    let records = standing.shelf.records();
    let run =
        |records| Run { standing, ranking, asked, root: &root, statistics: &statistics, known, records };
    let work = statistics.postings.max(statistics.candidates);
    let threads = if standing.shelf.is_at_hand() { asked.find.threads_for(work) } else { 1 };
    let parts = if threads == 1 {
        vec![run(0..records).go(held, cursors, &mut walked)]
    } else {
        let bound = |number: usize| u64::from(records) * number as u64 / threads as u64;
        let bound = |number: usize| u32::try_from(bound(number)).unwrap_or(records);
        in_threads((0..threads).map(|number| bound(number)..bound(number + 1)), |records| {
            let (mut held, mut walked) = (Held::default(), walked.clone());
            let cursors = Cursors::open(&mut held, standing, asked.plan, ranking, &mut walked)?;
            run(records).go(&mut held, cursors, &mut walked)
        })
    };
    let mut went = Went {
        piece: Some(standing.shelf.piece()),
        records: records.into(),
        estimated: statistics.candidates,
        postings: statistics.postings,
        blocks: statistics.blocks,
        ..Went::default()
    };
    let (mut total, mut best) = (0, Vec::new());
    for part in parts {
        let part = part?;
        total += part.total;
        best.extend(part.best);
        went.scored += part.scored;
        went.unpacked += part.unpacked;
        went.way = part.strategy.map_or(went.way, Strategy::name);
    }
    best.sort_unstable_by(|a: &Scored, b| b.cmp(a));
    best.truncate(asked.k);
    Ok(ShelfFound { total, best, went })
}

impl<'a> Run<'a> {
    /// Opens what the shelf has once more.
    fn open(&self, held: &mut Held, walked: &mut Walked) -> Step<Cursors<'a>> {
        Cursors::open(held, self.standing, self.asked.plan, self.ranking, walked)
    }

    /// Finds the best matches of the run.
    fn go(&self, held: &mut Held, mut cursors: Cursors<'a>, walked: &mut Walked) -> Step<RunFound> {
        let find = self.asked.find;
        let mut choice = choose(self.statistics, find.wished);
        let (mut matches, mut counted, mut known_phrases) = (None, None, PhraseBits::new());
        match choice.matches {
            Matches::Unknown => {}
            Matches::First => {
                let mut matching = self.matching(held, walked)?;
                // What scores in phrases is found in the same go.
                if self.statistics.has_phrases() {
                    matching.look_for_phrases();
                }
                let (all, phrases) = matching.all(held)?;
                let count = all.count();
                (known_phrases, counted) = (phrases, Some(count));
                matches = Some(Allowed::known((Arc::new(all), count), self.statistics.records));
                choice = choose(&Statistics { matches: counted, ..self.statistics.clone() }, find.wished);
            }
            Matches::AsNeeded => matches = Some(Allowed::as_needed(self.matching(held, walked)?)),
        }
        if self.statistics.by_score && self.asked.k > 0 {
            cursors.expect(held, self.statistics.candidates.min(self.statistics.postings))?;
        }
        let mut top = self.top();
        let mut part = RunFound { strategy: Some(choice.strategy), ..RunFound::default() };
        match choice.strategy {
            Strategy::Count => {}
            Strategy::ByRecord => {
                let collect = self.collect(&mut top);
                counted =
                    Some(by_record(held, &mut cursors, self.root, find, collect, self.records.clone())?);
            }
            Strategy::InOrder => {
                let collect = self.collect(&mut top);
                in_order(held, &mut cursors, matches.unwrap_or_default(), find, collect, &self.records)?;
            }
            _ => {
                let told =
                    self.scan(held, &mut cursors, (choice, matches, known_phrases), &mut top, walked)?;
                counted = counted.or(told.0);
                (part.scored, part.unpacked) = told.1;
            }
        }
        held.complete()?;
        // Told by the last run alone; others may be empty.
        let is_last = self.records.end == self.standing.shelf.records();
        let known = self.known.map(|known| if is_last { known } else { 0 });
        part.total = match (self.statistics.to_count, known.or(counted)) {
            (0, _) => 0,
            (_, Some(total)) => total,
            (wanted, None) => self.matching(held, walked)?.count(held, wanted)?,
        };
        part.scored += cursors.scored;
        part.unpacked += cursors.blocks_unpacked();
        part.best = top.into_sorted();
        Ok(part)
    }

    fn matching(&self, held: &mut Held, walked: &mut Walked) -> Step<Matching<'a>> {
        Ok(Matching::new(self.open(held, walked)?, self.root, self.asked.find, self.records.clone()))
    }

    fn collect<'t>(&self, top: &'t mut Top) -> Collect<'t> {
        let column =
            |(column, down)| ByValue { column: ValueColumn::new(&self.standing.shelf, column), down };
        Collect { top, count: self.statistics.to_count, by: self.asked.by.map(column) }
    }

    /// Goes through the lists of words. Gives how many records match, if that was told, and the postings that were scored and the blocks that
    /// were unpacked.
    fn scan(
        &self,
        held: &mut Held,
        cursors: &mut Cursors<'a>,
        (choice, matches, known_phrases): (Choice, Option<Allowed<'a>>, PhraseBits),
        top: &mut Top,
        walked: &mut Walked,
    ) -> Step<(Option<u64>, (u64, u64))> {
        let (find, records) = (self.asked.find, &self.records);
        let needed = cursors.required(self.root).filter(|_| choice.strategy == Strategy::BestOfAll);
        let sought = (self.root, matches, needed.is_some());
        let mut scan = Scan::new(cursors, sought, find, top, choice.most_rough);
        let mut told = Scanned::default();
        match choice.strategy {
            Strategy::OfMatches => scan.of_matches(held, records)?,
            Strategy::BestOfAll => {
                let words = needed.map_or(0, |(words, _)| words.len());
                told.counted = Some(scan.best_of_all(held, records, words, self.statistics.to_count)?);
            }
            Strategy::BestOfAny => told = scan.windows(held, records, Pace::Blocks)?,
            Strategy::SomeWords => {
                let size = find.wished.map(|_| SHORT_WINDOW);
                told = scan.windows(held, records, Pace::Fixed(size))?;
            }
            Strategy::WithPhrases => told.left = Some(records.start),
            _ => told = scan.windows(held, records, Pace::Every)?,
        }
        if let Some(left) = told.left {
            let mut found = known_phrases;
            if found.is_empty() {
                let cursors = self.open(held, walked)?;
                let mut matching = Matching::new(cursors, &Node::Nothing, find, left..records.end);
                matching.look_for_phrases();
                found = matching.all(held)?.1;
            }
            scan.with_phrases(held, &(left..records.end), found)?;
        }
        held.complete()?;
        let unpacked = scan.lists.iter().map(|list| list.postings.blocks_unpacked()).sum();
        let (scored, words_tell_all) = (scan.scored, scan.words_tell_all);
        // Records without any of the words score nothing: they count where others are too few, and then are looked for one by one.
        if top.threshold() <= 0.0 && !words_tell_all && choice.strategy != Strategy::OfMatches {
            *top = self.top();
            let mut cursors = self.open(held, walked)?;
            let collect = Collect { count: 0, ..self.collect(top) };
            by_record(held, &mut cursors, self.root, find, collect, records.clone())?;
        }
        Ok((told.counted, (scored, unpacked)))
    }

    fn top(&self) -> Top {
        Top::new(self.asked.k, self.asked.after, self.asked.floor)
    }
}

/// The records of a window, where a strategy is tried in tests: so few that words are looked up in most of them.
const SHORT_WINDOW: u32 = 5;
