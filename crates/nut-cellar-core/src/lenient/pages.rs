//! Pages of a lenient search: records that have all words in front, those with fewer behind them.
//!
//! With r(p) the records that match a part p of the query, N all records, and idf(p) = ln(1 + (N − r(p) + ½) / (r(p) + ½)), a part
//! may be missing without counting as missing if idf(p) < ¼ of the mean idf of the parts. In front are the records that have all others;
//! behind them those that have any. Both are ordered by score, which is that of all parts. In another order, all of them stand in that.

use super::{Strict, count};
use crate::error;
use crate::query::Query;
use crate::rank::idf;
use crate::record::Key;
use crate::search::{Find, Found, Order, PagePlace, Total, Words};
use crate::wire::{Broken, Reader, put_bytes};
use std::collections::HashSet;

/// A part may be missing whose idf is below this share of the mean.
const LITTLE: f32 = 0.25;
/// Of more parts none may be missing without counting as missing.
const MOST_PARTS: usize = 32;
/// Of more parts any will do at once: that a record has all of them is not to be expected, and to find out is dear.
const AT_ONCE: usize = 64;

/// How a lenient search went on, so that another page can.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Leniency {
    /// What is searched for.
    pub query: Query,
    /// Whether records with fewer words follow.
    pub fewer: bool,
    /// Which of the parts side by side may be missing without counting as missing, by their places.
    pub little: Vec<u8>,
    /// Whether the place is among those with fewer words.
    pub behind: bool,
}

impl Leniency {
    /// Decides about parts that say little, and whether records with fewer follow.
    pub(super) fn of(
        by: &Strict<'_>,
        query: Query,
        strict: &Find,
        may_be_fewer: bool,
    ) -> error::Result<Self> {
        let mut this = Self { query, fewer: false, little: Vec::new(), behind: false };
        let Query::Words(parts) = &this.query else { return Ok(this) };
        let chosen: Vec<_> = parts.iter().enumerate().filter(|(_, part)| is_choice(by, part)).collect();
        if !may_be_fewer || chosen.len() < 2 {
            return Ok(this);
        }
        this.fewer = true;
        if chosen.len() > MOST_PARTS {
            return Ok(this);
        }
        let all = strict.clone().words(Words::All);
        let records = count(by, &Query::everything(), &all)?;
        let mut idfs = Vec::with_capacity(chosen.len());
        for (place, part) in chosen {
            let matching = count(by, part, &all)?;
            idfs.push((place, idf(records.max(matching), matching)));
        }
        let mean = idfs.iter().map(|(_, idf)| idf).sum::<f32>() / idfs.len() as f32;
        let little = idfs.iter().filter(|(_, idf)| *idf < LITTLE * mean);
        this.little = little.filter_map(|(place, _)| u8::try_from(*place).ok()).collect();
        Ok(this)
    }

    /// Appends it as bytes.
    pub(crate) fn pack(&self, out: &mut Vec<u8>) {
        out.push(u8::from(self.fewer) | u8::from(self.behind) << 1);
        put_bytes(out, &self.little);
        put_bytes(out, self.query.to_string().as_bytes());
    }

    /// Reads what [`pack`](Self::pack) wrote, or anything.
    pub(crate) fn unpack(reader: &mut Reader<'_>) -> Result<Self, Broken> {
        let flags = reader.u8()?;
        let little = reader.bytes()?.to_vec();
        let query = str::from_utf8(reader.bytes()?).map_err(|_| Broken("a text"))?;
        let query = Query::read(query).query;
        Ok(Self { query, little, fewer: flags & 1 > 0, behind: flags & 2 > 0 })
    }

    /// All parts, or all but those that say little.
    fn in_front(&self, strict: &Find) -> (Query, Find) {
        let Query::Words(parts) = &self.query else { return (self.query.clone(), strict.clone()) };
        if self.little.is_empty() {
            return (self.query.clone(), strict.clone());
        }
        let is_little = |place: usize| self.little.iter().any(|little| usize::from(*little) == place);
        let needed = |(place, part): (usize, &Query)| match part {
            Query::Needed(_) | Query::Without(_) => part.clone(),
            part if is_little(place) => part.clone(),
            part => part.clone().needed(),
        };
        let parts = parts.iter().enumerate().map(needed).collect();
        (Query::Words(parts), strict.clone().words(Words::Any))
    }

    /// The search that finds all that is found, whatever the order.
    pub(super) fn widest(&self, by: &Strict<'_>, strict: &Find, enough: u64) -> error::Result<(Query, Find)> {
        let (query, find) = self.in_front(strict);
        if !self.fewer || count(by, &query, &find)? >= enough {
            return Ok((query, find));
        }
        Ok(self.any(by, strict))
    }

    /// Any of the parts that may be missing, and all others.
    fn any(&self, by: &Strict<'_>, strict: &Find) -> (Query, Find) {
        let any = strict.clone().words(Words::Any);
        let Query::Words(parts) = &self.query else { return (self.query.clone(), any) };
        let (choices, certain): (Vec<_>, Vec<_>) =
            parts.iter().cloned().partition(|part| is_choice(by, part));
        let is_value = |part: &Query| matches!(part, Query::In(..));
        if !certain.iter().any(is_value) {
            return (self.query.clone(), any);
        }
        // Beside values that are needed the words could be missing all together.
        let certain = certain.into_iter().map(|part| if is_value(&part) { part.needed() } else { part });
        (Query::words([Query::any(choices).needed()].into_iter().chain(certain)), any)
    }
}

/// Whether a part is one of those that may be missing: neither excluded nor needed, and no comparison of values.
fn is_choice(by: &Strict<'_>, part: &Query) -> bool {
    match part {
        Query::Without(_) | Query::Needed(_) => false,
        Query::In(columns, _) => columns.iter().all(|name| by.schema().text_column(name).is_some()),
        _ => true,
    }
}

/// The search of any of its parts, if a query has so many that it is made at once.
pub(super) fn any_at_once(by: &Strict<'_>, query: &Query, find: &Find) -> Option<(Query, Find)> {
    let Query::Words(parts) = query else { return None };
    let (may_be_fewer, _) = find.leaves_open();
    let is_long = || parts.iter().filter(|part| is_choice(by, part)).count() > AT_ONCE;
    let leniency = || Leniency { query: query.clone(), fewer: true, little: Vec::new(), behind: false };
    (may_be_fewer && is_long()).then(|| leniency().any(by, &find.clone().strict()))
}

/// The page that `strict` asks for, where so many records with all words would be enough; with the page of those in front, if it is known.
pub(super) fn found(
    by: &Strict<'_>,
    leniency: &Leniency,
    strict: &Find,
    enough: u64,
    known: Option<Found>,
) -> error::Result<Found> {
    let (front_query, front) = leniency.in_front(strict);
    let known = known.filter(|found| found.hits.len() as u64 == found.total);
    let keys_of = |found: &Found| found.hits.iter().map(|hit| hit.key.clone()).collect::<HashSet<Key>>();
    let (keys, in_front) = if let Some(found) = &known {
        (keys_of(found), found.total)
    } else {
        let keys = front.clone().from_the_first().skip(0).without_values().total(Total::Exact);
        let keys = by.found(&front_query, &keys.limit(usize::try_from(enough).unwrap_or(usize::MAX)))?;
        (keys_of(&keys), keys.total)
    };
    let page_in_front = || match known {
        Some(found) => Ok(found),
        None => by.found(&front_query, &front),
    };
    let place = |place: PagePlace, behind: bool| {
        let lenient = Some(Box::new(Leniency { behind, ..leniency.clone() }));
        PagePlace { lenient, ..place }
    };
    if !leniency.fewer || (in_front >= enough && !leniency.behind) {
        let mut found = page_in_front()?;
        found.total_all_words = Some(found.total);
        found.last = found.last.map(|last| place(last, false));
        return Ok(found);
    }
    let (any_query, any) = leniency.any(by, strict);
    if *strict.wanted_order() != Order::Score {
        let mut found = by.found(&any_query, &any)?;
        found.total_all_words = Some(in_front);
        found.last = found.last.map(|last| place(last, true));
        return Ok(found);
    }
    let window = strict.window();
    let mut found = if leniency.behind { Found::default() } else { page_in_front()? };
    let missing = window.len() - found.hits.len();
    // Behind a place nothing is skipped a second time by those in front.
    let skipped = match (leniency.behind, strict.after.as_ref()) {
        (false, Some(_)) => 0,
        (true, _) => window.start,
        (false, None) => window.start.saturating_sub(keys.len()),
    };
    let mut behind = any.skip(0).limit(skipped.saturating_add(missing).saturating_add(keys.len()));
    if !leniency.behind {
        behind = behind.from_the_first();
    }
    let Found { total, or_more, more, notes, hits, .. } = by.found(&any_query, &behind)?;
    let before = window.start + found.hits.len();
    let fresh = hits.into_iter().filter(|hit| !keys.contains(&hit.key)).skip(skipped);
    let mut fresh = fresh.enumerate().map(|(at, mut hit)| {
        hit.rank = before + at + 1;
        hit
    });
    let added: Vec<_> = fresh.by_ref().take(missing).collect();
    let more = found.more || more || fresh.next().is_some();
    if let Some(last) = added.last() {
        let last = PagePlace { value: None, score: last.score, key: last.key.clone(), lenient: None };
        found.last = Some(place(last, true));
    } else {
        found.last = found.last.map(|last| place(last, false));
    }
    found.hits.extend(added);
    Ok(Found { total, or_more, more, notes, total_all_words: Some(in_front), ..found })
}
