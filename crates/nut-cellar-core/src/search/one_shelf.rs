//! One shelf: which way through its postings is cheapest, and how many records match.

use super::cursors::{Cursors, Ranking, Walked};
use super::filling::Filled;
use super::find::{Executor, Find, Order, Total};
use super::ordered::in_order;
use super::plan::{Node, Plan};
use super::top::{Scored, Top};
use super::walk::{ByValue, Collect, fill_up, walk};
use super::windows::{RowBits, Sought, Wanted, windows};
use crate::bits::Bits;
use crate::catalog::Standing;
use crate::shelf::{Hand, Step, ValueColumn, if_at_hand, in_threads};
use crate::store::PieceId;
use serde::Serialize;
use std::ops::Range;
use std::sync::Arc;

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
    /// `walk` (record by record), `windows` (term by term, leaving out what can't come to the front), `count` or `exhaustive`.
    pub way: &'static str,
    /// The records of the shelf, the removed ones included.
    pub records: u64,
    /// How many records a walk would have had to look at, about.
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

/// So many records of a window are counted at once.
const COUNTED: u32 = 1 << 15;
/// A record that is walked to costs about as much as so many postings in a window: if it is asked what it matches, and if records
/// are asked together.
const WALK: u64 = 24;
const WALK_FILLED: u64 = 6;
/// And for each word of which it is asked whether it has it, so as to be scored, as much as so many.
const WALK_WORD: u64 = 2;

/// Of queries with more leaves and tests than these it may be better to find out window by window which records match: if asking each
/// record for each of them comes to more, where one question costs about as much as so many postings in a window. Most records need not
/// be asked for all of them.
const MANY_ASKED: usize = 8;
const ASKED: u64 = 2;

/// How a shelf is gone through.
#[derive(Clone, Copy)]
struct Way {
    /// By windows; by a walk otherwise.
    windowed: bool,
    /// A walk finds out window by window which records match, for they would be asked for too many words.
    filled: bool,
    /// About how many records will be scored.
    expected: u64,
    /// So many matches are wanted to be counted.
    wanted: u64,
    /// How many match, if that is known already.
    known: Option<u64>,
}

/// What a run of records brings.
struct Part {
    total: u64,
    best: Vec<Scored>,
    scored: u64,
    unpacked: u64,
    /// Whether the windows did not tell all.
    walked: bool,
}

/// Finds the best matches of a shelf.
pub(super) fn search(
    hand: &mut Hand,
    standing: &Standing,
    ranking: &Ranking<'_>,
    asked: &Asked<'_>,
) -> Step<ShelfFound> {
    let Asked { plan, find, .. } = *asked;
    let mut walked = Walked::new();
    let mut cursors = Cursors::open(hand, standing, plan, ranking, &mut walked)?;
    let root = cursors.in_order(&plan.root);
    let estimated = cursors.cost(hand, &root)?;
    let all: u64 = cursors.words.iter().map(|word| word.group.cost()).sum();
    let by_score = *find.wanted_order() == Order::Score;
    let wanted = match find.wanted_total() {
        Total::Exact => u64::MAX,
        Total::AtLeast(wanted) => wanted.saturating_sub(asked.counted),
    };
    let known = match &root {
        Node::Leaf(leaf) => cursors.records_of(*leaf)?,
        _ => None,
    };
    let parts = plan.leaves.len() + plan.tests.len();
    let asked_for = estimated.saturating_mul(parts as u64);
    let in_windows = all.saturating_add(standing.shelf.records().into());
    // In another order than that of scores all that match are looked at, if they are counted.
    let is_worth = || estimated.saturating_mul(WALK_FILLED) > in_windows || cursors.has_dense_rows();
    let sees_all = !by_score && wanted == u64::MAX && is_worth();
    let filled = sees_all || parts > MANY_ASKED && asked_for.saturating_mul(ASKED) > in_windows;
    let can_window = by_score && !cursors.words.is_empty() && asked.k > 0;
    let meets = cursors.required(&root).is_some();
    let windowed = can_window
        && match find.wanted_executor() {
            Executor::Cheapest => {
                let each = if filled { WALK_FILLED } else { WALK } + WALK_WORD * cursors.words.len() as u64;
                meets || estimated.saturating_mul(each) > all
            }
            Executor::Walk => false,
            Executor::Windows | Executor::Lookups | Executor::Exhaustive => true,
        };
    if windowed {
        standing.shelf.ask_lengths(hand, estimated.min(all))?;
    }
    cursors.remember(hand, find, if windowed && !meets { all } else { estimated })?;
    cursors.ask_lists()?;
    let way = Way { windowed, filled, expected: estimated.min(all), wanted, known };
    let members = cursors.words.iter().flat_map(|word| &word.group.members);
    let mut went = Went {
        piece: Some(standing.shelf.piece()),
        way: match (windowed, find.wanted_executor()) {
            (true, Executor::Exhaustive) => "exhaustive",
            (true, _) => "windows",
            (false, _) if asked.k == 0 => "count",
            (false, _) => "walk",
        },
        records: standing.shelf.records().into(),
        estimated,
        postings: all,
        blocks: members.map(|member| member.postings.blocks() as u64).sum(),
        ..Went::default()
    };
    let records = standing.shelf.records();
    let threads = if standing.shelf.is_at_hand() { find.threads_for(all.max(estimated)) } else { 1 };
    let parts = if threads == 1 {
        vec![part(hand, cursors, &root, asked, way, 0..records, &mut walked)]
    } else {
        let bound = |number: usize| u64::from(records) * number as u64 / threads as u64;
        let bound = |number: usize| u32::try_from(bound(number)).unwrap_or(records);
        in_threads((0..threads).map(|number| bound(number)..bound(number + 1)), |run| {
            let (mut hand, mut walked) = (Hand::default(), walked.clone());
            let cursors = Cursors::open(&mut hand, standing, plan, ranking, &mut walked)?;
            part(&mut hand, cursors, &root, asked, way, run, &mut walked)
        })
    };
    let (mut total, mut best) = (0, Vec::new());
    for part in parts {
        let part = part?;
        total += part.total;
        best.extend(part.best);
        went.scored += part.scored;
        went.unpacked += part.unpacked;
        if part.walked {
            went.way = "windows, then walk";
        }
    }
    best.sort_by(|a: &Scored, b| b.cmp(a));
    best.truncate(asked.k);
    Ok(ShelfFound { total, best, went })
}

/// Finds the best matches of a run of records.
fn part<'a>(
    hand: &mut Hand,
    mut cursors: Cursors<'a>,
    root: &Node,
    asked: &Asked<'a>,
    way: Way,
    run: Range<u32>,
    walked: &mut Walked,
) -> Step<Part> {
    let Asked { plan, find, .. } = *asked;
    let (standing, ranking) = (cursors.standing, cursors.ranking);
    let mut open = |hand: &mut Hand| Cursors::open(hand, standing, plan, ranking, walked);
    // Told by the last run alone; others may be empty.
    let is_last = run.end == standing.shelf.records();
    let known = way.known.map(|known| if is_last { known } else { 0 });
    let mut part = Part { total: 0, best: Vec::new(), scored: 0, unpacked: 0, walked: false };
    if !way.windowed && asked.k == 0 && find.wanted_executor() == Executor::Cheapest {
        part.total = match (way.wanted, known) {
            (0, _) => 0,
            (_, Some(known)) => known,
            (wanted, None) => count(hand, &mut cursors, root, find, wanted, &run)?,
        };
        return Ok(part);
    }
    let by_score = *find.wanted_order() == Order::Score;
    if by_score && asked.k > 0 {
        cursors.expect(hand, way.expected)?;
    }
    let mut top = Top::new(asked.k, asked.after, asked.floor);
    let mut counted = None;
    if way.windowed {
        let wanted = match find.wanted_executor() {
            Executor::Exhaustive => Wanted::Every,
            Executor::Lookups => Wanted::Lookups,
            Executor::Cheapest => Wanted::All(way.wanted),
            _ => Wanted::Best,
        };
        let is_many = plan.leaves.len() + plan.tests.len() > MANY_ASKED;
        let is_dense = way.wanted == u64::MAX
            && find.wanted_executor() == Executor::Cheapest
            && cursors.has_dense_rows();
        // Where all that match are counted anyway, that is found out first, unless scoring tells it.
        let tells_all = || cursors.required(root).is_some() || cursors.is_implied_by_words(root);
        let first = way.wanted == u64::MAX
            && known.is_none()
            && find.wanted_executor() == Executor::Cheapest
            && (is_dense || !tells_all());
        let mut filler = if is_many || first { Some(open(hand)?) } else { None };
        let (mut matching, mut rows) = (None, None);
        if let Some(filler) = filler.as_mut().filter(|_| first) {
            let add_up = !cursors.words_decide(root) && ranking.proximity <= 0.0;
            let mut scoring = if add_up { filler.scoring_rows() } else { RowBits::new() };
            let bits = all_matching(hand, filler, root, find, &run, &mut scoring)?;
            counted = Some(bits.count());
            matching = counted.map(|count| (Arc::new(bits), count));
            rows = Some(scoring);
        }
        let known_to_match = matching.clone();
        let filler_of_windows = filler.as_mut().filter(|_| !first);
        let what = Sought { root, matching, rows, filler: filler_of_windows, open: &mut open };
        let streamed = windows(hand, &mut cursors, what, find, &mut top, wanted, run.clone());
        let streamed = if_at_hand(streamed)?.unwrap_or_default();
        (part.scored, part.unpacked) = (streamed.scored, streamed.unpacked);
        // Records without any of the words score nothing: they count where others are too few.
        if top.threshold() <= 0.0 && !cursors.words_tell_all(root) {
            part.walked = true;
            let mut cursors = open(hand)?;
            let mut filler = match filler {
                Some(_) if !first => Some(open(hand)?),
                filler => filler,
            };
            let filled = filler.as_mut().map(|filler| match known_to_match {
                Some((bits, _)) => Filled::known(filler, find, bits),
                None => Filled::new(filler, find, run.end),
            });
            let scored = top.into_sorted().into_iter().filter(|scored| scored.score > 0.0).collect();
            top = Top::new(asked.k, asked.after, asked.floor);
            fill_up(hand, &mut cursors, filled, root, find, (&mut top, scored), run.clone())?;
        }
        part.total = match (way.wanted, known.or(counted).or(streamed.counted)) {
            (0, _) => 0,
            (_, Some(known)) => known,
            (wanted, None) => {
                let mut cursors = open(hand)?;
                count(hand, &mut cursors, root, find, wanted, &run)?
            }
        };
    } else {
        let column = |(column, down)| ByValue { column: ValueColumn::new(&standing.shelf, column), down };
        let collect = Collect { top: &mut top, count: way.wanted, by: asked.by.map(column) };
        let mut filler = if way.filled { Some(open(hand)?) } else { None };
        part.total = match &mut filler {
            Some(filler) if !by_score => in_order(hand, &mut cursors, filler, root, find, collect, run)?,
            _ => walk(hand, &mut cursors, filler.as_mut(), root, find, collect, run)?,
        };
    }
    hand.complete()?;
    part.scored += cursors.scored;
    let members = cursors.words.iter().flat_map(|word| &word.group.members);
    part.unpacked += members.map(|member| member.postings.blocks_unpacked()).sum::<u64>();
    part.best = top.into_sorted();
    Ok(part)
}

/// The live records of a run that match, and what matches some of the leaves.
pub(super) fn all_matching(
    hand: &mut Hand,
    cursors: &mut Cursors<'_>,
    root: &Node,
    find: &Find,
    run: &Range<u32>,
    rows: &mut RowBits,
) -> Step<Bits> {
    let mut all = Bits::new(cursors.standing.shelf.records() as usize);
    let (mut bits, mut start) = (Bits::default(), run.start);
    while start < run.end {
        find.go_on()?;
        let window = start..start.saturating_add(COUNTED).min(run.end);
        bits.reset((window.end - window.start) as usize);
        cursors.fill_rows(hand, &window, rows)?;
        if_at_hand(cursors.fill(hand, root, &window, &mut bits))?;
        bits.iter().for_each(|place| all.set(start as usize + place));
        start = window.end;
    }
    if let Some(mask) = &cursors.standing.mask {
        all.take_out_part(mask.bits(), 0);
    }
    hand.complete()?;
    Ok(all)
}

/// Counts the live records of a run that match, up to `wanted` or a few more.
fn count(
    hand: &mut Hand,
    cursors: &mut Cursors<'_>,
    root: &Node,
    find: &Find,
    wanted: u64,
    run: &Range<u32>,
) -> Step<u64> {
    let (mut bits, mut total, mut start) = (Bits::default(), 0, run.start);
    while start < run.end && total < wanted {
        find.go_on()?;
        let window = start..start.saturating_add(COUNTED).min(run.end);
        bits.reset((window.end - window.start) as usize);
        if_at_hand(cursors.fill(hand, root, &window, &mut bits))?;
        if let Some(mask) = &cursors.standing.mask {
            bits.take_out_part(mask.bits(), window.start as usize);
        }
        total += bits.count();
        start = window.end;
    }
    hand.complete()?;
    Ok(total)
}
