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
use crate::shelf::{ClassEntry, Effort, Held, Step, TermEntry, if_held};
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
    /// For each shelf the class, if all of its forms are looked for and the shelf has one.
    pub classes: Vec<Option<ClassEntry>>,
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
    /// For each shelf, once for each stemming that it is found by.
    pub entries: Vec<Vec<TermEntry>>,
}

/// One term of a word: how alike it is to what was typed, where the shelves have it, and where it counts.
#[derive(Clone, Debug)]
pub(in crate::search) struct WordTerm {
    pub alike: Alike,
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
        for lookup in &plan.lookups {
            if_held(class_of(standing, lookup, held))?;
            if lookup.class.is_none() {
                if_held(typed(standing, lookup, held))?;
            }
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
    Ok((gathered.into_iter().map(Gathered::into_family).collect(), visited))
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
    for standing in shelves {
        family.classes.push(if_held(class_of(standing, lookup, held))?.flatten());
    }
    let mut named = named(lookup, &family.classes);
    if !lookup.like.is_empty() {
        // What a walk finds by another stemming is as alike as a form only if there is one.
        for (form, likeness) in &mut named {
            if lookup.term.as_ref() != Some(form) && !is_live_form(shelves, &family.classes, form, held)? {
                *likeness = 0.0;
            }
        }
        named.retain(|_, likeness| *likeness > 0.0);
    }
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
        }
        for (place, standing) in shelves.iter().enumerate() {
            let entry = match &family.classes[place] {
                Some(class) => class.find(&term),
                None if lookup.class.is_none() => if_held(typed(standing, lookup, held))?.flatten(),
                None => None,
            };
            let Some(entry) = entry else { continue };
            if all_count || if_held(standing.has_live(held, &entry))?.unwrap_or(false) {
                family.take(&term, likeness, place, Some(entry));
            }
        }
    }
    held.complete()?;
    Ok(visited)
}

/// Whether a live record has a form of a class.
fn is_live_form(
    shelves: &[Standing],
    classes: &[Option<ClassEntry>],
    form: &str,
    held: &mut Held,
) -> Step<bool> {
    for (standing, class) in shelves.iter().zip(classes) {
        if let Some(entry) = class.as_ref().and_then(|class| class.find(form))
            && if_held(standing.has_live(held, &entry))?.unwrap_or(true)
        {
            return Ok(true);
        }
    }
    Ok(false)
}

/// What a shelf has of the class of a lookup, if all of its forms are looked for.
fn class_of(standing: &Standing, lookup: &Lookup, held: &mut Held) -> Step<Option<ClassEntry>> {
    let Some((key, stemming)) = lookup.class.as_ref().zip(standing.shelf.stemming(&lookup.stemming)) else {
        return Ok(None);
    };
    standing.shelf.find_class(held, key, stemming)
}

/// What a shelf has of the term that was typed.
fn typed(standing: &Standing, lookup: &Lookup, held: &mut Held) -> Step<Option<TermEntry>> {
    let Some((term, stemming)) = lookup.term.as_ref().zip(standing.shelf.stemming(&lookup.stemming)) else {
        return Ok(None);
    };
    standing.shelf.find_term(held, term, stemming)
}

/// What a lookup stands for that is known without a walk: what was typed, and its forms in any shelf.
fn named(lookup: &Lookup, classes: &[Option<ClassEntry>]) -> BTreeMap<String, f32> {
    let forms = classes.iter().flatten().flat_map(|class| &class.forms);
    let mut named: BTreeMap<_, _> = forms.map(|(form, _)| (form.clone(), FORM_LIKENESS)).collect();
    named.extend(lookup.term.clone().map(|term| (term, 1.0)));
    named
}

/// Gives `take` what a shelf has of a lookup that is known without a walk: its class as a whole, or else the term that was typed.
pub(in crate::search) fn each_named(
    held: &mut Held,
    standing: &Standing,
    lookup: &Lookup,
    take: &mut dyn FnMut(&mut Held, &TermEntry) -> Step<bool>,
) -> Step<()> {
    let entry = match class_of(standing, lookup, held)? {
        Some(class) => Some(class.whole),
        None => typed(standing, lookup, held)?,
    };
    entry.map_or(Ok(()), |entry| take(held, &entry).map(|_| ()))
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
    classes: Vec<Option<ClassEntry>>,
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
            classes: Vec::with_capacity(allowed.len()),
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
                alike.entries.resize(self.shelves, Vec::new());
                self.kept.insert(place, alike);
                place
            }
        };
        if let Some(entry) = entry {
            let known = &mut self.kept[place].entries[shelf];
            if !known.contains(&entry) {
                known.push(entry);
            }
        }
    }

    fn into_family(self) -> Family {
        let found = if self.cut { self.found } else { Found::default() };
        let Self { kept: terms, classes, cut, allowed, short, .. } = self;
        Family { terms, classes, cut, found, allowed, short }
    }
}

/// The terms of a word, each once, by likeness and then by themselves. Languages of one column and columns of different
/// languages may have terms in common.
pub(in crate::search) fn parts(word: &Word, families: &[Family]) -> Vec<WordTerm> {
    let mut parts: Vec<WordTerm> = Vec::new();
    for variant in word.variants.iter().filter(|variant| !variant.columns.is_empty()) {
        // A family has each term once.
        let before = parts.len();
        for alike in &families[variant.lookup].terms {
            let likeness = alike.likeness * variant.likeness;
            match parts[..before].iter_mut().find(|known| known.alike.term == alike.term) {
                Some(known) => {
                    known.columns = known.columns.or(variant.columns);
                    known.alike.likeness = known.alike.likeness.max(likeness);
                    for (known, entries) in known.alike.entries.iter_mut().zip(&alike.entries) {
                        let fresh: Vec<_> =
                            entries.iter().filter(|entry| !known.contains(entry)).cloned().collect();
                        known.extend(fresh);
                    }
                }
                None => {
                    parts.push(WordTerm {
                        alike: Alike { likeness, ..alike.clone() },
                        columns: variant.columns,
                    });
                }
            }
        }
    }
    parts.sort_by(|WordTerm { alike: a, .. }, WordTerm { alike: b, .. }| {
        b.likeness.total_cmp(&a.likeness).then_with(|| a.term.cmp(&b.term))
    });
    parts
}
