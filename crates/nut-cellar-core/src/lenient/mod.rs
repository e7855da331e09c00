//! The best of what somebody types, where few records have all of it.
//!
//! A lenient search is a sequence of strict ones. What it does depends on what these find, so on live records that the search may see and
//! that its filter lets through, and on nothing else. In order:
//!
//! 1. Where [enough](crate::Find::enough) records have all words, that is all: it is the strict search.
//! 2. Words that hardly any record has may stand for others: `mending`. Each is told as a [`Changed`].
//! 3. Where still not enough have all words, those with fewer follow, never before: `pages`. Words that say little may be missing
//!    without that.
//!
//! Of very long queries records with any of the words are found at once.

mod changed;
mod completions;
mod corrections;
mod mending;
mod pages;
mod suggest;
mod typing;
mod unspaced;
mod words;

pub use changed::{Changed, WhyChanged};
pub use completions::{Completed, Completion};
pub use corrections::{Corrected, Correction, Offer};
pub use pages::Leniency;
pub use suggest::{Suggest, SuggestRequest, Suggested, suggest};
pub use typing::{Typed, Typing};

use crate::catalog::Snapshot;
use crate::error::Result;
use crate::note::Note;
use crate::query::Query;
use crate::schema::Schema;
use crate::search::{Find, Found, Search, Total, run};
use crate::store::View;
use mending::{Mended, mend};

/// Searches a snapshot, leniently where the search is lenient.
///
/// # Errors
/// As for any search.
pub fn search(view: &dyn View, snapshot: &Snapshot, query: &Query, find: &Find) -> Result<Found> {
    let by = &Strict { view, snapshot };
    if find.strict || find.counts().is_empty() {
        return Ok(found(by, query, find)?.0);
    }
    let (mut found, widest) = found(by, query, &find.clone().without_counts())?;
    let (query, strict) = match widest {
        Widest::Known(query, strict) => (query, strict),
        Widest::Of(leniency, strict) => leniency.widest(by, &strict, find.makes_do_with())?,
    };
    // Whether it was made looser depends on how exactly it counts.
    let counting = counting(&strict).total(strict.total);
    found.counts = by.found(&query, &find.counts().iter().cloned().fold(counting, Find::count))?.counts;
    Ok(found)
}

/// The strict search that finds all that a lenient one finds.
enum Widest {
    Known(Query, Find),
    /// What this makes of a strict search.
    Of(Leniency, Find),
}

fn found(by: &Strict<'_>, query: &Query, find: &Find) -> Result<(Found, Widest)> {
    let find = &find.clone().beginning_in(query);
    let (strict, enough) = (find.clone().strict(), find.makes_do_with());
    if find.strict {
        return Ok((by.found(query, &strict)?, Widest::Known(query.clone(), strict)));
    }
    if let Some((query, any)) = pages::any_at_once(by, query, find) {
        return Ok((by.found(&query, &any)?, Widest::Known(query, any)));
    }
    if let Some(place) = find.after.as_ref() {
        // A page goes on as the one before.
        return match &place.lenient {
            Some(leniency) => {
                let found = pages::found(by, leniency, &strict, enough, None)?;
                Ok((found, Widest::Of((**leniency).clone(), strict)))
            }
            None => Ok((by.found(query, find)?, Widest::Known(query.clone(), strict))),
        };
    }
    match decide(by, query, find)? {
        Decided::Strictly(found) => Ok((found, Widest::Known(query.clone(), strict))),
        Decided::Leniently { leniency, front, changed, notes } => {
            let mut found = pages::found(by, &leniency, &strict, enough, front)?;
            found.changed = changed;
            found.notes.extend(notes);
            Ok((found, Widest::Of(leniency, strict)))
        }
    }
}

/// How a search goes on.
enum Decided {
    /// Enough records have all words.
    Strictly(Found),
    Leniently {
        leniency: Leniency,
        /// The page of those in front, if it is known.
        front: Option<Found>,
        changed: Vec<Changed>,
        notes: Vec<Note>,
    },
}

fn decide(by: &Strict<'_>, query: &Query, find: &Find) -> Result<Decided> {
    let (strict, enough) = (find.clone().strict(), find.makes_do_with());
    let counting = match strict.total {
        Total::AtLeast(records) => strict.clone().total(Total::AtLeast(records.max(enough))),
        Total::Exact => strict.clone(),
    };
    let mut found = by.found(query, &counting)?;
    let (may_be_fewer, may_be_others) = find.leaves_open();
    if found.total >= enough || found.or_more {
        if let Total::AtLeast(records) = strict.total {
            found.or_more |= found.total >= records;
            found.total = found.total.min(records);
        }
        found.total_all_words = Some(found.total);
        return Ok(Decided::Strictly(found));
    }
    let mended = if may_be_others { mend(by, query, &strict, enough)? } else { Mended::nothing(query) };
    let is_as_typed = mended.changed.is_empty();
    let leniency = Leniency::of(by, mended.query, &strict, may_be_fewer)?;
    let is_front = is_as_typed && leniency.little.is_empty() && strict.total == Total::Exact;
    let front = Some(found).filter(|_| is_front);
    Ok(Decided::Leniently { leniency, front, changed: mended.changed, notes: mended.notes })
}

/// The strict search of a query that finds what a lenient one finds, in the order of scores: to say why a record is found, or how it went.
///
/// # Errors
/// As for any search.
pub fn decided(view: &dyn View, snapshot: &Snapshot, query: &Query, find: &Find) -> Result<(Query, Find)> {
    let find = &find.clone().beginning_in(query);
    let strict = find.clone().strict();
    let by = &Strict { view, snapshot };
    if find.strict {
        return Ok((query.clone(), strict));
    }
    if let Some(any) = pages::any_at_once(by, query, find) {
        return Ok(any);
    }
    match decide(by, query, &find.clone().from_the_first())? {
        Decided::Strictly(_) => Ok((query.clone(), strict)),
        Decided::Leniently { leniency, .. } => leniency.widest(by, &strict, find.makes_do_with()),
    }
}

/// Strict searches of the same records, one after the other.
struct Strict<'a> {
    view: &'a dyn View,
    snapshot: &'a Snapshot,
}

impl Strict<'_> {
    fn schema(&self) -> &Schema {
        self.snapshot.schema()
    }

    fn found(&self, query: &Query, find: &Find) -> Result<Found> {
        run(self.view, &mut Search::new(self.snapshot.clone(), query, find)?)
    }

    /// The terms that a query stands for beside those that are typed, with how many live records have each, the most alike first, of these
    /// what most have. The filter may let none of these records through: before a term is told, [`found`](Self::found) has to find it.
    fn alike(&self, query: &Query, find: &Find) -> Result<Vec<(String, u64)>> {
        let mut search = Search::new(self.snapshot.clone(), query, find)?;
        run(self.view, &mut search)?;
        Ok(search.alike())
    }
}

/// A search that finds nothing but how many records there are.
fn counting(strict: &Find) -> Find {
    strict.clone().from_the_first().skip(0).limit(0).total(Total::Exact).without_values()
}

/// How many records match.
fn count(by: &Strict<'_>, query: &Query, strict: &Find) -> Result<u64> {
    Ok(by.found(query, &counting(strict))?.total)
}
