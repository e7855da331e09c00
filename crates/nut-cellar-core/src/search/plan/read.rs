//! How texts of a query are read: by the recipes of the columns, into what is looked up in the dictionaries.

use super::limits::{MOST_WALKS, NEAR_COUNTS};
use super::{Alternative, Class, Like, Lookup, Plan};
use crate::schema::ColumnSet;
use crate::search::find::{Find, GoesOn};
use crate::search::settings::Spellings;
use crate::text::{Automaton, Pattern, Recipe, Spelling};

/// How a word is read into lookups.
#[derive(Clone, Copy, PartialEq)]
pub(super) enum Spelled {
    Plain,
    Near,
}

/// A pattern as it stands in terms: what stands for itself is folded, and what no word has at its ends goes.
pub(super) fn folded(recipe: &Recipe, text: &str) -> String {
    let (mut out, mut part) = (String::new(), String::new());
    let put = |out: &mut String, part: &mut String| {
        for character in recipe.part(part).chars() {
            if matches!(character, '*' | '?' | '\\') {
                out.push('\\');
            }
            out.push(character);
        }
        part.clear();
    };
    let mut characters = text.chars();
    while let Some(character) = characters.next() {
        match character {
            '*' | '?' => {
                put(&mut out, &mut part);
                out.push(character);
            }
            '\\' => part.extend(characters.next()),
            other => part.push(other),
        }
    }
    let ends = |c: char| c.is_ascii_punctuation();
    part.truncate(part.trim_end_matches(ends).len());
    put(&mut out, &mut part);
    out.trim_start_matches(|c: char| c.is_ascii_punctuation() && !matches!(c, '*' | '?' | '\\')).to_owned()
}

/// Reads a text by a recipe, and notes its terms.
pub(super) fn read(
    plan: &mut Plan,
    recipe: &Recipe,
    text: &str,
    find: &Find,
    reading: Spelled,
    walks_left_out: &mut usize,
) -> Typed {
    let mut typed = Typed { tokens: Vec::new(), weak: true };
    let near = reading == Spelled::Near || find.spellings.unwrap_or_default() == Spellings::Near;
    let goes_on = find.may_go_on(text, reading == Spelled::Near);
    let mut end = 0;
    if goes_on == GoesOn::AtItsEnd {
        recipe.tokens(text, |token| end = end.max(token.end));
    }
    recipe.tokens(text, |token| {
        typed.weak &= token.weak || token.span > 1;
        let mut lookup = lookup(recipe, token.term, find.exact_forms);
        if token.end >= end
            && goes_on != GoesOn::No
            && let Ok(pattern) = Pattern::new(&format!("{}*", escaped(token.term)))
        {
            lookup.like.push(Like::Beginning(pattern));
        }
        let spelling = near.then(|| Spelling::of(token.term, find.first_letters));
        lookup.like.extend(spelling.filter(|spelling| spelling.mistakes() > 0).map(Like::Near));
        let place = place_of_lookup(plan, &lookup).or_else(|| {
            *walks_left_out += 1;
            lookup.like.clear();
            place_of_lookup(plan, &lookup)
        });
        typed.tokens.extend(place.map(|place| (place, token.position, token.span)));
    });
    typed
}

/// A term as a pattern of itself.
pub(in crate::search) fn escaped(term: &str) -> String {
    term.chars().flat_map(|c| matches!(c, '*' | '?' | '\\').then_some('\\').into_iter().chain([c])).collect()
}

fn lookup(recipe: &Recipe, term: &str, exact: bool) -> Lookup {
    let key = recipe.key_of(term).filter(|_| !exact);
    let class = key.map(|key| {
        let own = recipe.key_of(&key).is_some_and(|its_key| its_key == key);
        Class { name: recipe.class(&key), own: own.then_some(key) }
    });
    Lookup { term: Some(term.to_owned()), class, like: Vec::new() }
}

/// The place of a lookup; none if it would walk through a dictionary and there are too many that do.
pub(super) fn place_of_lookup(plan: &mut Plan, lookup: &Lookup) -> Option<usize> {
    if let Some(known) = plan.known_lookups.get(lookup) {
        return Some(*known);
    }
    let known = |like: &Like| plan.lookups.iter().any(|known| known.like.contains(like));
    let fresh: Vec<_> = lookup.like.iter().filter(|like| !known(like)).collect();
    let counts = |like: &&Like| if let Like::Near(_) = like { NEAR_COUNTS } else { 1 };
    let walks: usize = fresh.iter().map(counts).sum();
    if plan.walks + walks > MOST_WALKS && walks > 0 {
        return None;
    }
    plan.walks += walks;
    plan.known_lookups.insert(lookup.clone(), plan.lookups.len());
    plan.lookups.push(lookup.clone());
    Some(plan.lookups.len() - 1)
}

/// Whether nothing leads a walk to what it looks for: neither a beginning nor three letters in a row.
pub(super) fn is_wide(like: &Like) -> bool {
    let Like::Pattern(pattern) = like else { return false };
    let leads = pattern.runs().iter().flatten().any(|run| run.chars().count() > 2);
    pattern.beginning().is_empty() && !leads
}

/// How one recipe reads a text.
pub(super) struct Typed {
    /// Lookups by their places in the plan, positions, and how many of them each spans.
    tokens: Vec<(usize, u32, u32)>,
    /// Whether there are stop words only.
    pub weak: bool,
}

impl Typed {
    /// Adds the runs of terms that the text may stand for in a column: its parts, and its compounds as wholes.
    pub fn add(&self, alternatives: &mut Vec<Alternative>, column: usize, likeness: f32) {
        let parts = self.tokens.iter().filter(|(_, _, span)| *span == 1).map(|&(term, at, _)| (term, at));
        for terms in [parts.collect(), wholes(&self.tokens)] {
            if !terms.is_empty() {
                add_run(alternatives, &terms, column, likeness);
            }
        }
    }
}

/// Adds a run of terms in a column.
pub(super) fn add_run(
    alternatives: &mut Vec<Alternative>,
    terms: &[(usize, u32)],
    column: usize,
    likeness: f32,
) {
    let make =
        || Alternative { columns: ColumnSet::default(), terms: terms.to_vec(), window: None, likeness };
    let same = place_of(alternatives, |known| known.terms == terms, make);
    alternatives[same].columns = alternatives[same].columns.with(column);
}

/// The tokens of a text with compounds as wholes, each at a position of its own.
fn wholes(typed: &[(usize, u32, u32)]) -> Vec<(usize, u32)> {
    let mut terms = Vec::new();
    let mut next = 0;
    for &(term, position, span) in typed {
        // The widest whole at a position comes first; what it spans is skipped.
        if position >= next {
            terms.push((term, u32::try_from(terms.len()).unwrap_or(u32::MAX)));
            next = position + span;
        }
    }
    terms
}

/// The place of the first item that is `same`, made if there is none.
pub(super) fn place_of<T>(
    items: &mut Vec<T>,
    same: impl FnMut(&T) -> bool,
    make: impl FnOnce() -> T,
) -> usize {
    items.iter().position(same).unwrap_or_else(|| {
        items.push(make());
        items.len() - 1
    })
}
