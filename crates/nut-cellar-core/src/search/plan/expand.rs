//! The terms that a lookup stands for, in any shelf: what was typed, its forms, and what looks like it.
//!
//! What always holds: terms come by likeness, then by themselves; where there are more than [`MOST_ALIKE`], the most alike
//! that a live record has are kept, so that neither removed records nor the number of shelves change a score. Walks through the
//! dictionaries end when they have looked at as many terms as a search may; those that were not looked at are missing then.

use super::{Like, Lookup, Plan, Word};
use crate::bits::Bits;
use crate::catalog::{Snapshot, Standing};
use crate::schema::ColumnSet;
use crate::search::find::Find;
use crate::shelf::{Effort, Held, Step, TermEntry, if_held};
use crate::text::{Automaton, Pattern, accepts};
use std::collections::BTreeMap;

/// How alike a form of a word is to the form that was typed.
pub const FORM_LIKENESS: f32 = 0.7;
/// How alike a word with one typing mistake is to what was typed, and with two.
pub const NEAR_LIKENESS: [f32; 2] = [0.5, 0.3];
/// How alike a word is that begins like another, at most: what it is above a near spelling is times the share of its letters that were
/// typed.
pub const BEGINNING_LIKENESS: f32 = 0.6;
/// The most terms of a lookup that score. What is found by a pattern does not depend on it.
pub const MOST_ALIKE: usize = 64;

/// So many terms that were found by walks are kept.
const MOST_FOUND: usize = 1_024;

/// So many terms may be looked at in each shelf, however small.
const LEAST_LOOKED_AT: u64 = 1_024;

/// Between two questions whether to stop so many terms are taken.
const BETWEEN_STOPS: u32 = 1_024;

/// The terms of a lookup.
#[derive(Clone, Debug, Default)]
pub(in crate::search) struct Family {
    pub terms: Vec<Alike>,
    /// Whether there are more terms, which don't score.
    pub cut: bool,
    /// If there are more, what all that were found by walks lead to.
    pub found: Found,
    /// How much its walks may do in each shelf, and whether that was too little for all that it stands for.
    pub allowed: Vec<Effort>,
    pub short: bool,
}

/// What terms that were found by walks lead to, so that nobody has to walk again.
#[derive(Clone, Debug)]
pub(in crate::search) enum Found {
    /// The terms, with the places of their shelves.
    Terms(Vec<(usize, TermEntry)>),
    /// There are too many to be kept: for each shelf the records that have one of them, in whatever column.
    Records(Vec<Bits>),
}

impl Default for Found {
    fn default() -> Self {
        Self::Terms(Vec::new())
    }
}

/// A term, and where the shelves have it.
#[derive(Clone, Debug)]
pub(in crate::search) struct Alike {
    pub term: String,
    /// 1 for the term as typed, less for the less alike.
    pub likeness: f32,
    /// For each shelf.
    pub entries: Vec<Option<TermEntry>>,
}

/// One term of a word: which one of which family, how alike it is to what was typed, and where it counts.
#[derive(Clone, Debug)]
pub(in crate::search) struct WordTerm {
    pub lookup: usize,
    pub slot: usize,
    pub likeness: f32,
    pub columns: ColumnSet,
}

/// Gathers the families of a plan, and tells how many terms the walks looked at.
pub(in crate::search) fn gather(
    snapshot: &Snapshot,
    plan: &Plan,
    find: &Find,
    held: &mut Held,
) -> Step<(Vec<Family>, u64)> {
    let shelves = snapshot.standing();
    let mut gathered = Vec::with_capacity(plan.lookups.len());
    let mut visited = 0;
    // Where forms have to be asked for, the terms as typed may be asked for in the same breath.
    for standing in shelves.iter().filter(|standing| !standing.shelf.is_at_hand()) {
        for term in plan.lookups.iter().filter_map(|lookup| lookup.term.as_ref()) {
            if_held(standing.shelf.find_term(held, term))?;
        }
    }
    let walks = plan.lookups.iter().filter(|lookup| !lookup.like.is_empty()).count();
    let allowed = allowed(shelves, find.most_terms / walks.max(1) as u64);
    for lookup in &plan.lookups {
        let mut family = Gathered::new(&allowed);
        visited += if_held(gather_one(shelves, lookup, find, &mut family, held))?.unwrap_or(0);
        gathered.push(family);
    }
    held.complete()?;
    let mut families = Vec::with_capacity(gathered.len());
    for family in gathered {
        families.push(if_held(family.into_family(shelves, held))?.unwrap_or_default());
    }
    held.complete()?;
    Ok((families, visited))
}

/// How much the walks of a lookup may do in each shelf: of so much in all, as much as the shelf has of the records.
fn allowed(shelves: &[Standing], terms: u64) -> Vec<Effort> {
    let all = shelves.iter().map(|standing| u64::from(standing.shelf.records())).sum::<u64>().max(1);
    let share = |records: u64| u64::try_from(u128::from(terms) * u128::from(records) / u128::from(all));
    let of_shelf = |standing: &Standing| share(standing.shelf.records().into()).unwrap_or(u64::MAX);
    shelves.iter().map(|standing| Effort::of(of_shelf(standing).saturating_add(LEAST_LOOKED_AT))).collect()
}

fn gather_one(
    shelves: &[Standing],
    lookup: &Lookup,
    find: &Find,
    family: &mut Gathered,
    held: &mut Held,
) -> Step<u64> {
    let named = named(shelves, lookup, held)?;
    let (mut visited, mut until_stop) = (0, 0);
    let mut efforts = family.allowed.clone();
    for like in &lookup.like {
        for (place, standing) in shelves.iter().enumerate() {
            let mut take = |held: &mut Held, term: &str, entry: TermEntry| {
                if until_stop == 0 {
                    find.go_on()?;
                    until_stop = BETWEEN_STOPS;
                }
                until_stop -= 1;
                if !if_held(standing.has_live(held, &entry))?.unwrap_or(false) {
                    return Ok(true);
                }
                let known = named.get(term).copied().unwrap_or(0.0);
                let others = lookup.like.iter().filter(|other| !std::ptr::eq(*other, like));
                let other = others.map(|like| likeness(like, term)).fold(known, f32::max);
                let likeness = likeness_of_accepted(like, term).max(other);
                // A mistake in what has to be right.
                if likeness > 0.0 {
                    family.find(shelves, held, place, &entry)?;
                    family.take(term, likeness, place, Some(entry));
                }
                Ok(true)
            };
            let looked = each_like(held, standing, like, &mut efforts[place], &mut take);
            visited += if_held(looked)?.unwrap_or(0);
        }
    }
    family.short = efforts.iter().any(Effort::is_spent);
    // What was typed, and its forms, are known without a walk. Only where there may be too many it matters whether a live
    // record has them.
    let all_count = lookup.like.is_empty() && named.len() <= MOST_ALIKE;
    for (term, likeness) in named {
        // As the walks tell it.
        let likeness = lookup.like.iter().map(|like| self::likeness(like, &term)).fold(likeness, f32::max);
        if all_count {
            family.take(&term, likeness, 0, None);
            continue;
        }
        for (place, standing) in shelves.iter().enumerate() {
            let Some(Some(entry)) = if_held(standing.shelf.find_term(held, &term))? else { continue };
            if if_held(standing.has_live(held, &entry))?.unwrap_or(false) {
                family.take(&term, likeness, place, Some(entry));
            }
        }
    }
    held.complete()?;
    Ok(visited)
}

/// What a lookup stands for that is known without a walk: what was typed, and its forms in any shelf.
pub(in crate::search) fn named(
    shelves: &[Standing],
    lookup: &Lookup,
    held: &mut Held,
) -> Step<BTreeMap<String, f32>> {
    let mut named = BTreeMap::new();
    if let Some(class) = &lookup.class {
        for standing in shelves {
            let forms = if_held(standing.shelf.forms(held, &class.name))?.unwrap_or_default();
            named.extend(forms.into_iter().map(|form| (form, FORM_LIKENESS)));
        }
        named.extend(class.own.clone().map(|own| (own, FORM_LIKENESS)));
    }
    named.extend(lookup.term.clone().map(|term| (term, 1.0)));
    held.complete()?;
    Ok(named)
}

/// Gives `take` the terms of a shelf that look like what is looked for, as far as the effort allows.
pub(in crate::search) fn each_like(
    held: &mut Held,
    standing: &Standing,
    like: &Like,
    effort: &mut Effort,
    take: &mut dyn FnMut(&mut Held, &str, TermEntry) -> Step<bool>,
) -> Step<u64> {
    match like {
        Like::Pattern(pattern) | Like::Beginning(pattern) => {
            standing.shelf.each_like(held, pattern, effort, take)
        }
        Like::Near(spelling) => standing.shelf.each_like(held, spelling, effort, take),
    }
}

/// How alike a term is to what is looked for; 0 if it is not.
pub(crate) fn likeness(like: &Like, term: &str) -> f32 {
    match like {
        Like::Pattern(pattern) if !accepts(pattern, term) => 0.0,
        Like::Beginning(pattern) if !term.starts_with(pattern.beginning()) => 0.0,
        like => likeness_of_accepted(like, term),
    }
}

/// How alike a term is that a walk for it accepts; still 0 if a mistake is in what has to be right.
fn likeness_of_accepted(like: &Like, term: &str) -> f32 {
    let share = |pattern: &Pattern| (pattern.letters() as f32 / term.chars().count().max(1) as f32).min(1.0);
    match like {
        Like::Pattern(pattern) => share(pattern),
        Like::Beginning(pattern) => {
            NEAR_LIKENESS[0] + (BEGINNING_LIKENESS - NEAR_LIKENESS[0]) * share(pattern)
        }
        Like::Near(spelling) => match spelling.distance(term) {
            Some(0) => 1.0,
            Some(mistakes) => NEAR_LIKENESS[mistakes.min(NEAR_LIKENESS.len()) - 1],
            None => 0.0,
        },
    }
}

/// Terms so far, of which the most alike are kept.
struct Gathered {
    shelves: usize,
    /// Each term once, in the order of a family.
    kept: Vec<Alike>,
    cut: bool,
    found: Found,
    allowed: Vec<Effort>,
    short: bool,
    spare: (Vec<u32>, Vec<u32>),
}

impl Gathered {
    fn new(allowed: &[Effort]) -> Self {
        Self {
            shelves: allowed.len(),
            allowed: allowed.to_vec(),
            short: false,
            kept: Vec::new(),
            cut: false,
            found: Found::default(),
            spare: (Vec::new(), Vec::new()),
        }
    }

    /// Takes note of where a shelf has a term that a walk found.
    fn find(&mut self, shelves: &[Standing], held: &mut Held, place: usize, entry: &TermEntry) -> Step<()> {
        let Self { found, spare, .. } = self;
        let mut add = |records: &mut Vec<Bits>, place: usize, entry: &TermEntry, held: &mut Held| {
            let (shelf, bits) = (&shelves[place].shelf, &mut records[place]);
            shelf.each_record(held, entry, (ColumnSet::default(), false), spare, |ordinal| {
                bits.set(ordinal as usize);
            })
        };
        match found {
            Found::Terms(terms) if terms.len() < MOST_FOUND => terms.push((place, entry.clone())),
            Found::Terms(terms) => {
                let records = |standing: &Standing| Bits::new(standing.shelf.records() as usize);
                let mut records: Vec<_> = shelves.iter().map(records).collect();
                terms.push((place, entry.clone()));
                for (place, entry) in terms {
                    if_held(add(&mut records, *place, entry, held))?;
                }
                *found = Found::Records(records);
            }
            Found::Records(records) => _ = if_held(add(records, place, entry, held))?,
        }
        Ok(())
    }

    /// Takes a term with where a shelf has it, if that is known. A term that comes again is as alike as it was before.
    fn take(&mut self, term: &str, likeness: f32, shelf: usize, entry: Option<TermEntry>) {
        let order =
            |kept: &Alike| likeness.total_cmp(&kept.likeness).then_with(|| kept.term.as_str().cmp(term));
        // Most are less alike than all that are kept.
        if self.kept.get(MOST_ALIKE - 1).is_some_and(|last| order(last).is_lt()) {
            self.cut = true;
            return;
        }
        let place = match self.kept.binary_search_by(order) {
            Ok(known) => known,
            Err(place) => {
                let mut room = None;
                if self.kept.len() == MOST_ALIKE {
                    self.cut = true;
                    room = self.kept.pop();
                }
                let mut alike = room.unwrap_or_else(|| Alike {
                    term: String::new(),
                    likeness,
                    entries: Vec::with_capacity(self.shelves),
                });
                alike.term.clear();
                alike.term.push_str(term);
                alike.likeness = likeness;
                alike.entries.clear();
                alike.entries.resize(self.shelves, None);
                self.kept.insert(place, alike);
                place
            }
        };
        if entry.is_some() {
            self.kept[place].entries[shelf] = entry;
        }
    }

    /// The family; looks up where the shelves have the terms that were found without a walk.
    fn into_family(self, shelves: &[Standing], held: &mut Held) -> Step<Family> {
        let mut terms = self.kept;
        for alike in &mut terms {
            for (entry, standing) in alike.entries.iter_mut().zip(shelves) {
                if entry.is_none() {
                    *entry = if_held(standing.shelf.find_term(held, &alike.term))?.flatten();
                }
            }
        }
        held.complete()?;
        let found = if self.cut { self.found } else { Found::default() };
        Ok(Family { terms, cut: self.cut, found, allowed: self.allowed, short: self.short })
    }
}

/// The terms of a word, each once, by likeness and then by themselves. Languages of one column and columns of different
/// languages may have terms in common.
pub(in crate::search) fn parts(word: &Word, families: &[Family]) -> Vec<WordTerm> {
    let mut parts: Vec<WordTerm> = Vec::new();
    for variant in &word.variants {
        // A family has each term once.
        let before = parts.len();
        for (slot, alike) in families[variant.lookup].terms.iter().enumerate() {
            let likeness = alike.likeness * variant.likeness;
            let term = |part: &WordTerm| &families[part.lookup].terms[part.slot].term;
            match parts[..before].iter_mut().find(|known| term(known) == &alike.term) {
                Some(known) => {
                    known.columns = known.columns.or(variant.columns);
                    known.likeness = known.likeness.max(likeness);
                }
                None => {
                    parts.push(WordTerm { lookup: variant.lookup, slot, likeness, columns: variant.columns });
                }
            }
        }
    }
    let term = |part: &WordTerm| &families[part.lookup].terms[part.slot].term;
    parts.sort_by(|a, b| b.likeness.total_cmp(&a.likeness).then_with(|| term(a).cmp(term(b))));
    parts
}
