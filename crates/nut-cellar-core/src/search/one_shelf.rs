//! One shelf: which way through its postings is cheapest, and how many records match.

use super::bits::Bits;
use super::cursors::{Cursors, Ranking, Walked};
use super::find::{Executor, Find, Order, Total};
use super::plan::{Node, Plan};
use super::top::{Scored, Top};
use super::walk::{ByValue, Collect, walk};
use super::windows::windows;
use crate::catalog::Standing;
use crate::shelf::{Hand, Step, ValueColumn, if_at_hand};
use serde::Serialize;

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
pub struct Went {
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
const COUNTED: u32 = 1 << 12;
/// A record that is walked to costs about as much as so many postings in a window.
const WALK: u64 = 6;

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
    let can_window = by_score && !cursors.words.is_empty() && asked.k > 0;
    let wanted = match find.wanted_total() {
        Total::Exact => u64::MAX,
        Total::AtLeast(wanted) => wanted.saturating_sub(asked.counted),
    };
    let windowed = can_window
        && match find.wanted_executor() {
            Executor::Cheapest => estimated.saturating_mul(WALK) > all,
            Executor::Walk => false,
            Executor::Windows | Executor::Exhaustive => true,
        };
    let members = cursors.words.iter().flat_map(|word| &word.group.members);
    let mut went = Went {
        way: "walk",
        records: standing.shelf.records().into(),
        estimated,
        postings: all,
        blocks: members.map(|member| member.postings.blocks() as u64).sum(),
        ..Went::default()
    };
    if asked.k == 0 && find.wanted_executor() == Executor::Cheapest {
        let went = Went { way: "count", ..went };
        let total =
            if wanted == 0 { 0 } else { count(hand, standing, ranking, (asked, wanted), &mut walked)? };
        return Ok(ShelfFound { total, best: Vec::new(), went });
    }
    if by_score && asked.k > 0 {
        cursors.expect(hand, estimated.min(all))?;
    }
    let mut top = Top::new(asked.k, asked.after, asked.floor);
    let total;
    if windowed {
        let prune = find.wanted_executor() != Executor::Exhaustive;
        went.way = if prune { "windows" } else { "exhaustive" };
        let streamed =
            if_at_hand(windows(hand, &mut cursors, &root, find, &mut top, prune))?.unwrap_or_default();
        (went.scored, went.unpacked) = (streamed.scored + cursors.scored, streamed.unpacked);
        // Records without any of the words score nothing: they count where others are too few.
        if top.threshold() <= 0.0 && !cursors.words_tell_all(&root) {
            went.way = "windows, then walk";
            top = Top::new(asked.k, asked.after, asked.floor);
            let mut cursors = Cursors::open(hand, standing, plan, ranking, &mut walked)?;
            cursors.expect(hand, estimated.min(all))?;
            walk(hand, &mut cursors, &root, find, Collect { top: &mut top, count: 0, by: None })?;
        }
        total = if wanted == 0 { 0 } else { count(hand, standing, ranking, (asked, wanted), &mut walked)? };
    } else {
        let by = asked
            .by
            .map(|(column, down)| ByValue { column: ValueColumn::new(&standing.shelf, column), down });
        let collect = Collect { top: &mut top, count: wanted, by };
        total = walk(hand, &mut cursors, &root, find, collect)?;
        went.scored = cursors.scored;
    }
    hand.complete()?;
    let members = cursors.words.iter().flat_map(|word| &word.group.members);
    went.unpacked += members.map(|member| member.postings.blocks_unpacked()).sum::<u64>();
    Ok(ShelfFound { total, best: top.into_sorted(), went })
}

/// Counts the live records that match, up to `wanted` or a few more.
fn count(
    hand: &mut Hand,
    standing: &Standing,
    ranking: &Ranking<'_>,
    (asked, wanted): (&Asked<'_>, u64),
    walked: &mut Walked,
) -> Step<u64> {
    let mut cursors = Cursors::open(hand, standing, asked.plan, ranking, walked)?;
    let root = cursors.in_order(&asked.plan.root);
    if let (Node::Leaf(leaf), None) = (&root, &standing.mask)
        && let Some(records) = cursors.records_of(*leaf)
    {
        return Ok(records);
    }
    let (records, mut bits, mut total, mut start) = (standing.shelf.records(), Bits::default(), 0, 0);
    while start < records && total < wanted {
        asked.find.go_on()?;
        let window = start..start.saturating_add(COUNTED).min(records);
        bits.reset((window.end - window.start) as usize);
        if_at_hand(cursors.fill(hand, &root, &window, &mut bits))?;
        total += if standing.mask.is_none() {
            bits.count()
        } else {
            let live = |place: &usize| !standing.removed(window.start + u32::try_from(*place).unwrap_or(0));
            bits.iter().filter(live).count() as u64
        };
        start = window.end;
    }
    hand.complete()?;
    Ok(total)
}
