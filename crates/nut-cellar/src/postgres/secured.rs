//! Searching by a role that row-level security keeps from seeing some rows.
//!
//! What always holds: of a row that the role may not see, no hit, no value, no number and no note is told; and whether a search is made
//! looser depends on the rows that the role sees. Records are ranked among all, so a score depends on the others.

use super::place::PostgresView;
use super::reading::Rows;
use crate::rows::Laid;
use nut_cellar_core::{
    Error, ErrorKind, Find, Found, Key, Note, Query, Result, Search, Snapshot, lenient, search,
};
use std::collections::BTreeSet;

/// How many hits are asked for at a time, the fewest.
const AT_ONCE: usize = 100;

/// What a role may see of the table.
pub(super) enum Sight<'v, 'c> {
    /// All of its rows.
    All,
    /// Those that it is given when it reads them.
    Some(&'v PostgresView<'c>, &'v Rows),
}

impl Sight<'_, '_> {
    /// Refuses what tells of all rows, to a role that may not see them.
    pub fn must_be_all(&self) -> Result<()> {
        match self {
            Self::All => Ok(()),
            Self::Some(_, rows) => Err(withheld(rows)),
        }
    }

    /// Searches, and tells the hits whose rows the role may see.
    pub fn search(&self, view: &Laid<'_>, snapshot: &Snapshot, query: &Query, find: &Find) -> Result<Found> {
        let Self::Some(through, rows) = self else { return lenient::search(view, snapshot, query, find) };
        // What words may stand for, and how many records have them, can't be told of some rows alone in the time of a search.
        let search = Search::new(snapshot.clone(), query, find)?;
        let is_counted = !find.counts().is_empty();
        let find = &find.clone().without_counts();
        let told = Told { through, rows, view, snapshot, query };
        let mut notes = search.notes().to_vec();
        let mut chosen = find.clone().without_attempts();
        if let Some(most) = search.attempts().map(|attempt| attempt.below).max() {
            let mut last = told.count(&chosen, most)?;
            let mut best = last;
            for attempt in search.attempts() {
                if last >= attempt.below {
                    continue;
                }
                notes.push(attempt.note.clone());
                last = told.count(&attempt.find, most)?;
                if last > best {
                    (chosen, best) = (attempt.find.clone(), last);
                }
            }
        }
        let mut found = told.search(&chosen)?;
        found.notes = notes;
        found.notes.push(Note::RowsWithheld);
        found.notes.extend(is_counted.then_some(Note::CountsWithheld));
        Ok(found)
    }
}

/// A search whose hits are told to a role that may not see all.
struct Told<'t, 'c> {
    through: &'t PostgresView<'c>,
    rows: &'t Rows,
    view: &'t Laid<'t>,
    snapshot: &'t Snapshot,
    query: &'t Query,
}

impl Told<'_, '_> {
    fn run(&self, find: &Find) -> Result<Found> {
        search::run(self.view, &mut Search::new(self.snapshot.clone(), self.query, find)?)
    }

    /// How many hits there are, from the first on, as far as so many.
    fn count(&self, find: &Find, most: u64) -> Result<u64> {
        let most = usize::try_from(most).unwrap_or(usize::MAX);
        self.search(&find.clone().from_the_first().skip(0).limit(most)).map(|found| found.total)
    }

    fn search(&self, find: &Find) -> Result<Found> {
        let window = find.window();
        let mut told = Found::default();
        let mut seen = 0;
        let mut part = find.clone().skip(0).limit(window.end.saturating_add(1).clamp(AT_ONCE, 10 * AT_ONCE));
        while !told.or_more {
            let Found { hits, last, .. } = self.run(&part)?;
            let visible = visible(self.through, self.rows, hits.iter().map(|hit| &hit.key))?;
            let count = hits.len();
            let mut last_told = None;
            for (place, mut hit) in hits.into_iter().enumerate().filter(|(_, hit)| visible.contains(&hit.key))
            {
                if seen == window.end {
                    told.or_more = true;
                    break;
                }
                if window.contains(&seen) {
                    hit.rank = seen + 1;
                    told.hits.push(hit);
                    last_told = Some(place);
                }
                seen += 1;
            }
            // Where a hit stands is told of the last one of a search.
            match last_told {
                Some(place) if place + 1 == count => told.last.clone_from(&last),
                Some(place) => told.last = self.run(&part.clone().limit(place + 1))?.last,
                None => {}
            }
            match last {
                Some(last) => part = part.after(last),
                None => break,
            }
        }
        told.total = seen as u64;
        told.more = told.or_more;
        Ok(told)
    }
}

/// The keys whose rows the role may see.
fn visible<'k>(
    view: &PostgresView<'_>,
    rows: &Rows,
    keys: impl IntoIterator<Item = &'k Key>,
) -> Result<BTreeSet<Key>> {
    let keys = super::key::Keys::of(&rows.key, keys);
    let sql = format!(
        "SELECT {} FROM ROWS FROM ({}) k({}) JOIN LATERAL ({} OFFSET 0) t ON true",
        rows.key_names(),
        rows.key.unnested(1),
        rows.key.names().join(", "),
        rows.select(&rows.key.is("t", "k")),
    );
    let mut visible = BTreeSet::new();
    for row in view.query(&sql, &keys.parameters().collect::<Vec<_>>())? {
        visible.extend(rows.key.read(&row, 0)?);
    }
    Ok(visible)
}

/// The error for what a role may not be told.
#[cold]
pub(super) fn withheld(rows: &Rows) -> Error {
    Error::new(
        ErrorKind::Withheld,
        format!(
            "Row-level security keeps this role from seeing all rows of table {}, and this would tell of them; let a role that sees \
             all do it, such as the table's owner.",
            rows.table
        ),
    )
}
