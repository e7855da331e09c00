//! A search as a sequence of steps, each over what is at hand: read the dictionaries, go through the shelves, put the best in
//! order, take their values. A step that lacks ranges is repeated when they have been supplied.

use super::attempts::{Attempt, attempts};
use super::find::Find;
use super::found::{Found, Hit, PagePlace};
use super::plan::expand::MOST_ALIKE;
use super::plan::prepared::Prepared;
use super::run::{Asked, Scored, ShelfFound, search};
use super::settings::{Order, Total};
use crate::catalog::{Snapshot, Standing};
use crate::error::{Error, ErrorKind, Result};
use crate::note::Note;
use crate::query::Query;
use crate::record::{Key, Value};
use crate::schema::Kind;
use crate::shelf::{Held, Step, Stop, if_held};
use crate::show::Highlighter;
use crate::store::{View, Wanted};
use bytes::Bytes;
use serde::Serialize;
use std::cmp::Ordering;
use std::fmt;
use std::sync::Arc;

/// One search on one snapshot.
///
/// ```no_run
/// # use nut_cellar_core::{Find, Memory, Opened, Progress, Query, Result, Search, Snapshot, View};
/// # fn example(snapshot: Snapshot, view: &dyn View) -> Result<()> {
/// let mut search = Search::new(snapshot, &Query::read("walnut box").query, &Find::new())?;
/// let found = loop {
///     match search.step()? {
///         Progress::Need(ranges) => search.supply(view.read(&ranges)?)?,
///         Progress::Done(found) => break found,
///     }
/// };
/// # Ok(()) }
/// ```
#[derive(Debug)]
pub struct Search {
    pub(super) snapshot: Snapshot,
    pub(super) prepared: Prepared,
    pub(super) held: Held,
    pub(super) query: Query,
    by: Option<ByColumn>,
    /// For each shelf, once it was gone through.
    pub(super) scanned: Vec<Option<ShelfFound>>,
    ranked: Option<Vec<Placed>>,
    /// Whether there are hits behind those that are asked for.
    more: bool,
    /// What is done if too few are found, the last first; and what was found so far.
    looser: Vec<Attempt>,
    kept: Option<Found>,
    /// By what that was found, if something is counted of it.
    pub(super) found_by: Option<Find>,
    notes: Vec<Note>,
    clock: Option<Clock>,
    pub(super) stages: Vec<Stage>,
}

/// Tells nanoseconds from any moment on.
struct Clock(Box<dyn Fn() -> u64 + Send + Sync>);

impl fmt::Debug for Clock {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Clock")
    }
}

/// What a stage of a search took.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct Stage {
    /// Its name.
    pub name: &'static str,
    /// Its time.
    pub nanoseconds: u64,
}

/// How far a search has come.
#[derive(Debug)]
pub enum Progress {
    /// It needs these ranges; [`Search::supply`] takes them in the same order.
    Need(Vec<Wanted>),
    /// It is done.
    Done(Found),
}

/// The column that hits are ordered by.
#[derive(Clone, Copy, Debug)]
pub(super) struct ByColumn {
    /// Its place among those whose values are compared.
    pub place: usize,
    kind: Kind,
    down: bool,
}

/// A hit whose values have not been taken yet.
#[derive(Clone, Debug)]
struct Placed {
    shelf: usize,
    scored: Scored,
    key: Vec<u8>,
    /// What it is ordered by, if that is a text.
    text: Option<String>,
}

impl Search {
    /// Prepares a search: binds the query to the snapshot's schema.
    ///
    /// # Errors
    /// [`BadRequest`](crate::ErrorKind::BadRequest) if `find` names a column that can't be searched or compared, or a number
    /// is out of range.
    pub fn new(snapshot: Snapshot, query: &Query, find: &Find) -> Result<Self> {
        let prepared = Prepared::new(&snapshot, query, find)?;
        crate::counts::bind(snapshot.schema(), find.counts())?;
        let by = by_column(&snapshot, find)?;
        let mut looser = attempts(find, prepared.plan.choice, prepared.plan.leaves.len());
        looser.reverse();
        let scanned = (0..snapshot.shelves()).map(|_| None).collect();
        Ok(Self {
            snapshot,
            prepared,
            held: Held::default(),
            query: query.clone(),
            by,
            scanned,
            ranked: None,
            more: false,
            looser,
            kept: None,
            found_by: None,
            notes: Vec::new(),
            clock: None,
            stages: Vec::new(),
        })
    }

    /// Goes as far as what is at hand allows.
    ///
    /// # Errors
    /// [`Damaged`](crate::ErrorKind::Damaged) if something in the cellar can't be read,
    /// [`Stopped`](crate::ErrorKind::Stopped) if the caller's function says so.
    pub fn step(&mut self) -> Result<Progress> {
        match self.advance() {
            Ok(found) => Ok(Progress::Done(found)),
            Err(Stop::Missing) => Ok(Progress::Need(self.held.wanted())),
            Err(Stop::Failed(error)) => Err(error),
        }
    }

    /// Takes the bytes of the ranges that were needed, in the same order. They are checked against their checksums.
    ///
    /// # Errors
    /// [`Damaged`](crate::ErrorKind::Damaged) if they are not what was written.
    pub fn supply(&mut self, answers: Vec<Bytes>) -> Result<()> {
        self.held.supply(answers)
    }

    /// Takes the time of each stage, for [`report`](Self::report): `clock` tells nanoseconds from any moment on.
    #[must_use]
    pub fn timed(mut self, clock: impl Fn() -> u64 + Send + Sync + 'static) -> Self {
        self.clock = Some(Clock(Box::new(clock)));
        self
    }

    /// What is done where too few are found, in this order.
    pub fn attempts(&self) -> impl Iterator<Item = &Attempt> {
        self.looser.iter().rev()
    }

    /// What there is to say of the query and the search, whatever the records are; of one that has not begun.
    pub fn notes(&self) -> &[Note] {
        &self.prepared.plan.notes
    }

    /// The terms that the query stands for beside those that were typed, once they are known, with how many live records have each: the
    /// most alike first, of these what most have.
    pub(crate) fn alike(&self) -> Vec<(String, u64)> {
        let Some(known) = &self.prepared.known else { return Vec::new() };
        let words = known.parts.iter().zip(&known.counts);
        let parts = words.flat_map(|(parts, counts)| parts.iter().zip(counts));
        let mut alike: Vec<_> = parts.filter(|(part, _)| part.alike.likeness < 1.0).collect();
        alike.sort_by(|(a, a_count), (b, b_count)| {
            b.alike.likeness.total_cmp(&a.alike.likeness).then_with(|| b_count.cmp(a_count))
        });
        alike.into_iter().map(|(part, records)| (part.alike.term.clone(), *records)).collect()
    }

    /// Ends a stage that began at a time, and begins the next.
    fn stage(&mut self, name: &'static str, since: Option<u64>) -> Option<u64> {
        let now = self.clock.as_ref().map(|Clock(clock)| clock());
        if let Some((since, now)) = since.zip(now) {
            let took = now.saturating_sub(since);
            match self.stages.iter_mut().find(|stage| stage.name == name) {
                Some(stage) => stage.nanoseconds += took,
                None => self.stages.push(Stage { name, nanoseconds: took }),
            }
        }
        now
    }

    fn advance(&mut self) -> Step<Found> {
        loop {
            let (mut found, is_short) = self.attempt()?;
            let (total, or_more) = (found.total, found.or_more);
            // Looser words may find what was not looked at.
            found.or_more |= is_short;
            if self.kept.as_ref().is_none_or(|kept| total > kept.total) {
                self.kept = Some(found);
                let find = &self.prepared.find;
                self.found_by = (!find.counts().is_empty()).then(|| find.clone());
            }
            let next = loop {
                match self.looser.pop() {
                    Some(attempt) if !or_more && total < attempt.below => break Some(attempt),
                    Some(_) => {}
                    None => break None,
                }
            };
            match next {
                Some(attempt) => {
                    self.prepared.again(&self.snapshot, &self.query, &attempt.find)?;
                    self.scanned.iter_mut().for_each(|scanned| *scanned = None);
                    self.ranked = None;
                    self.notes.push(attempt.note);
                }
                None => return Ok(self.kept.take().unwrap_or_default()),
            }
        }
    }

    /// What is found, and whether that is not all because walks through the dictionaries did not come to their end.
    fn attempt(&mut self) -> Step<(Found, bool)> {
        let begun = self.stage("", None);
        let prepared = self.prepared.prepare(&self.snapshot, &mut self.held);
        let begun = self.stage("dictionaries", begun);
        prepared?;
        let scanned = self.scan();
        let begun = self.stage("postings", begun);
        scanned?;
        if self.ranked.is_none() {
            let ranked = self.rank();
            self.stage("order", begun);
            self.ranked = Some(ranked?);
        }
        let begun = self.stage("", None);
        let found = self.take_values();
        self.stage("values", begun);
        found
    }

    fn scan(&mut self) -> Step<()> {
        let k = self.reach();
        let find = &self.prepared.find;
        let by_score = *find.wanted_order() == Order::Score;
        // The best scores so far, to know what is out of reach.
        let mut best: Vec<f32> = Vec::new();
        let mut counted = 0;
        for shelf in 0..self.scanned.len() {
            if self.scanned[shelf].is_none() {
                let standing = &self.snapshot.standing()[shelf];
                let Some(ranking) = self.prepared.ranking(shelf) else { continue };
                let Some(after) = if_held(after(&self.prepared.find, self.by, &mut self.held, standing))?
                else {
                    continue;
                };
                let floor = k.checked_sub(1).and_then(|last| best.get(last)).copied().filter(|_| by_score);
                let by = self.by.map(|by| (by.place, by.down));
                let asked = Asked { plan: &self.prepared.plan, find, k, after, by, floor, counted };
                self.scanned[shelf] = if_held(search(&mut self.held, standing, &ranking, &asked))?;
            }
            if let Some(found) = &self.scanned[shelf] {
                counted += found.total;
                best.extend(found.best.iter().map(|scored| scored.score));
                best.sort_unstable_by(|a, b| b.total_cmp(a));
                best.truncate(k);
            }
        }
        self.held.complete()
    }

    /// The hits that are asked for, in order. Keys are read of those only whose score reaches the last one's.
    fn rank(&mut self) -> Step<Vec<Placed>> {
        let window = self.prepared.find.window();
        let mut all: Vec<_> = self
            .scanned
            .iter()
            .flatten()
            .enumerate()
            .flat_map(|(shelf, found)| found.best.iter().map(move |&scored| (shelf, scored)))
            .collect();
        if *self.prepared.find.wanted_order() == Order::Score {
            all.sort_by(|(_, a), (_, b)| b.score.total_cmp(&a.score));
            if let Some((_, last)) = self.reach().checked_sub(1).and_then(|last| all.get(last)).copied() {
                all.retain(|(_, scored)| scored.score >= last.score);
            }
        }
        let texts = self.by.filter(|by| by.kind == Kind::Exact);
        let mut placed = Vec::with_capacity(all.len());
        for (shelf, scored) in all {
            let standing = &self.snapshot.standing()[shelf];
            let key = if_held(standing.shelf.key_of(&mut self.held, scored.ordinal))?;
            let text = match texts.filter(|_| scored.valued) {
                Some(by) => {
                    let ordinal = if by.down { scored.front } else { !scored.front };
                    if_held(standing.shelf.exact_text(&mut self.held, ordinal))?
                }
                None => None,
            };
            if let Some(key) = key {
                placed.push(Placed { shelf, scored, key, text });
            }
        }
        self.held.complete()?;
        let down = self.by.is_some_and(|by| by.down);
        placed.sort_by(|a, b| in_order(a, b, texts.is_some(), down));
        let counted: u64 = self.scanned.iter().flatten().map(|found| found.total).sum();
        self.more = if self.reach() > window.end {
            placed.len() > window.end
        } else {
            usize::try_from(counted).unwrap_or(usize::MAX) > window.end
        };
        placed.truncate(window.end);
        placed.drain(..window.start.min(placed.len()));
        Ok(placed)
    }

    /// How many of the best are looked for: one more than are asked for, where the total does not say whether there are more.
    fn reach(&self) -> usize {
        let find = &self.prepared.find;
        let window = find.window();
        let total_tells = find.after.as_ref().is_none() && find.total == Total::Exact;
        window.end.saturating_add(usize::from(!total_tells && !window.is_empty()))
    }

    fn take_values(&mut self) -> Step<(Found, bool)> {
        let find = &self.prepared.find;
        let placed = self.ranked.as_deref().unwrap_or_default();
        // Of the query as it was searched for at last, with whatever its words stood for.
        let highlighter = || Highlighter::new(Arc::clone(self.snapshot.schema()), &self.query, find);
        let wants_marks = find.marks && !placed.is_empty();
        let highlighter = wants_marks.then(highlighter).transpose()?;
        let mut hits = Vec::with_capacity(placed.len());
        for (place, Placed { shelf, scored, key, .. }) in (1..).zip(placed) {
            let rank = find.window().start + place;
            let standing = &self.snapshot.standing()[*shelf];
            let values = if find.values {
                standing.shelf.kept(&mut self.held, self.snapshot.schema(), scored.ordinal)
            } else {
                Ok(indexmap::IndexMap::new())
            };
            if let Some(values) = if_held(values)? {
                let marks = highlighter.as_ref().map(|highlighter| highlighter.marks(&values)).transpose()?;
                let (key, marks) = (Key::decode(key)?, marks.unwrap_or_default());
                hits.push(Hit { rank, key, score: scored.score, values, marks });
            }
        }
        self.held.complete()?;
        let counted: u64 = self.scanned.iter().flatten().map(|found| found.total).sum();
        let (total, or_more) = match find.total {
            Total::Exact => (counted, false),
            Total::AtLeast(wanted) => (counted.min(wanted), counted >= wanted),
        };
        let last = placed.last().map(|last| self.place_of(last)).transpose()?;
        let mut notes = self.prepared.plan.notes.clone();
        notes.extend(self.notes.iter().cloned());
        let families = || self.prepared.known.iter().flat_map(|known| &known.families);
        notes.extend(families().any(|family| family.cut).then_some(Note::TermsCut { most: MOST_ALIKE }));
        let short = families().any(|family| family.short);
        notes.extend(short.then_some(Note::TermsMissing));
        Ok((Found { total, or_more, more: self.more, notes, hits, last, ..Found::default() }, short))
    }

    fn place_of(&self, placed: &Placed) -> Result<PagePlace> {
        let value = match self.by.filter(|_| placed.scored.valued) {
            None => None,
            Some(by) => placed.text.clone().map(Value::Text).or_else(|| {
                let number = if by.down { placed.scored.front } else { !placed.scored.front };
                Value::of_number(by.kind, number)
            }),
        };
        Ok(PagePlace { value, score: placed.scored.score, key: Key::decode(&placed.key)?, lenient: None })
    }
}

/// The first in the order of a shelf that does not come after the place that a page before ended at; none if all do.
fn after(find: &Find, by: Option<ByColumn>, held: &mut Held, standing: &Standing) -> Step<Option<Scored>> {
    let Some(place) = find.after.as_ref() else { return Ok(None) };
    let key = place.key.encode();
    let up_to = standing.shelf.keys_up_to(held, &key)?;
    // Records with a key up to this one have the ordinals below.
    let mut after = Scored { score: place.score, ordinal: up_to.saturating_sub(1), ..Scored::default() };
    if up_to == 0 {
        after.score = after.score.next_up();
        after.ordinal = u32::MAX;
    }
    let Some(by) = by else {
        return Ok(if *find.wanted_order() == Order::Key {
            up_to.checked_sub(1).map(|ordinal| Scored { ordinal, ..Scored::default() })
        } else {
            Some(after)
        });
    };
    let Some(value) = &place.value else { return Ok(Some(after)) };
    after.valued = true;
    let number = if by.kind == Kind::Exact {
        let text = std::ops::Bound::Included(value.to_string());
        let there = standing.shelf.exact_between(held, by.place, (&text, &text))?;
        if there.is_empty() {
            // Between two values: all of the next one are after it.
            let next = if by.down { there.start.checked_sub(1) } else { Some(there.start) };
            let Some(next) = next else { return Ok(Some(Scored { valued: true, score: -1.0, ..after })) };
            after.score = f32::INFINITY;
            next
        } else {
            there.start
        }
    } else {
        value.number().unwrap_or(0)
    };
    after.front = if by.down { number } else { !number };
    Ok(Some(after))
}

/// The column that hits are ordered by, if they are.
pub(super) fn by_column(snapshot: &Snapshot, find: &Find) -> Result<Option<ByColumn>> {
    let Order::Column { name, down } = find.wanted_order() else { return Ok(None) };
    let (place, kind) = crate::filter::column(snapshot.schema(), name)
        .map_err(|message| Error::new(ErrorKind::BadRequest, format!("In the order: {message}")))?;
    Ok(Some(ByColumn { place, kind, down: *down }))
}

/// The order of two hits of different shelves.
fn in_order(a: &Placed, b: &Placed, by_text: bool, down: bool) -> Ordering {
    let values = if by_text {
        let texts = if down { b.text.cmp(&a.text) } else { a.text.cmp(&b.text) };
        // Without a value a hit comes last, whatever the direction.
        b.scored.valued.cmp(&a.scored.valued).then(if a.scored.valued && b.scored.valued {
            texts
        } else {
            Ordering::Equal
        })
    } else {
        (b.scored.valued, b.scored.front).cmp(&(a.scored.valued, a.scored.front))
    };
    values.then(b.scored.score.total_cmp(&a.scored.score)).then_with(|| a.key.cmp(&b.key))
}

/// Runs a search to its end, reading from `view` what it needs.
///
/// # Errors
/// If the place can't be read, or something in the cellar is damaged.
pub fn run(view: &dyn View, search: &mut Search) -> Result<Found> {
    search.held.reach(view.near());
    loop {
        match search.step()? {
            Progress::Need(wanted) => search.supply(view.read(&wanted)?)?,
            Progress::Done(found) if search.found_by.is_none() => return Ok(found),
            Progress::Done(found) => return Ok(Found { counts: search.counted(view)?, ..found }),
        }
    }
}
