//! How texts of a query are read: by the recipes of the columns, into what is looked up in the dictionaries.

use super::limits::{MOST_WALKS, NEAR_COUNTS};
use super::{Alternative, Like, Lookup, PARTS_LIKENESS, Plan};
use crate::schema::ColumnSet;
use crate::search::find::{Find, GoesOn};
use crate::search::settings::Spellings;
use crate::text::{Automaton, Pattern, Recipe, Role, Spelling, Token};

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
        typed.weak &= token.weak || !token.is_word();
        let mut lookup = lookup(recipe, token.term, find.exact_forms);
        // What stands beside a word stands for it as it is.
        let as_typed = token.role == Role::Word;
        if token.end >= end
            && goes_on != GoesOn::No
            && as_typed
            && let Ok(pattern) = Pattern::new(&format!("{}*", escaped(token.term)))
        {
            lookup.like.push(Like::Beginning(pattern));
        }
        if as_typed && recipe.is_half_of_pairs(token.term) {
            let pairs = Pattern::new(&format!("*{}*", escaped(token.term)));
            lookup.like.extend(pairs.ok().map(Like::Pattern));
        }
        let spelling = (near && as_typed).then(|| Spelling::of(token.term, find.first_letters));
        lookup.like.extend(spelling.filter(|spelling| spelling.mistakes() > 0).map(Like::Near));
        let place = place_of_lookup(plan, &lookup).or_else(|| {
            *walks_left_out += 1;
            lookup.like.clear();
            place_of_lookup(plan, &lookup)
        });
        let Token { position, span, role, .. } = token;
        typed.tokens.extend(place.map(|lookup| TypedToken { lookup, position, span, role }));
    });
    typed
}

/// A term as a pattern of itself.
pub(in crate::search) fn escaped(term: &str) -> String {
    term.chars().flat_map(|c| matches!(c, '*' | '?' | '\\').then_some('\\').into_iter().chain([c])).collect()
}

/// What a term as typed is looked up as: with its forms, unless only the `exact` one is wanted.
pub(super) fn lookup(recipe: &Recipe, term: &str, exact: bool) -> Lookup {
    let (class, stemming) = (recipe.key_of(term).filter(|_| !exact), recipe.stemming_name().to_owned());
    Lookup { term: Some(term.to_owned()), stemming, class, like: Vec::new() }
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
    tokens: Vec<TypedToken>,
    /// Whether there are stop words only.
    pub weak: bool,
}

/// A token of it: its lookup by its place in the plan, its position, how many of them it spans, and what it is to it.
#[derive(Clone, Copy)]
struct TypedToken {
    lookup: usize,
    position: u32,
    span: u32,
    role: Role,
}

/// Terms that stand in a row: lookups, and how far each stands from the first position.
type Row = Vec<(usize, u32)>;

impl Typed {
    /// Adds the rows of terms that the text may stand for in a column: its words, and its hyphenated words as wholes; then the same with
    /// other words for them.
    pub fn add(&self, alternatives: &mut Vec<Alternative>, column: usize, likeness: f32) {
        let others = self.all_words().map(|(place, _)| self.beside(place, Role::Also).count());
        for other in 0..=others.max().unwrap_or(0) {
            for row in [self.words(other), self.wholes(other)] {
                add_row(alternatives, row, column, likeness);
            }
        }
    }

    /// Adds the row with all parts of compounds in their places, if there are any.
    pub fn add_parts(&self, alternatives: &mut Vec<Alternative>, column: usize) {
        if self.tokens.iter().any(|token| token.role == Role::Part) {
            add_row(alternatives, self.parts(), column, PARTS_LIKENESS);
        }
    }

    /// The words; for each the so-manieth other word that stands beside it, if there are so many, with 0 for itself.
    fn words(&self, other: usize) -> Row {
        let words = self.all_words().filter(|(_, word)| word.span == 1);
        words.map(|(place, word)| (self.instead_of(place, other), word.position)).collect()
    }

    /// The same with hyphenated words as wholes, each at a position of its own.
    fn wholes(&self, other: usize) -> Row {
        let mut row = Row::new();
        // What follows a whole, and how many positions there are less than in the text.
        let (mut next, mut less) = (0, 0);
        for (place, word) in self.all_words() {
            // The widest whole at a position comes first; what it spans is skipped.
            if word.position >= next {
                row.push((self.instead_of(place, other), word.position - less));
                next = word.position + word.span;
                less += word.span - 1;
            }
        }
        row
    }

    /// The words, with their parts in the place of those that have some: the first part where the word was, so that words that were typed
    /// side by side stay so, and the others at the end.
    fn parts(&self) -> Row {
        let (mut row, mut rest) = (Row::new(), Row::new());
        for (place, word) in self.all_words().filter(|(_, word)| word.span == 1) {
            let mut parts = self.beside(place, Role::Part).map(|part| (part.lookup, part.position));
            row.push(parts.next().unwrap_or((word.lookup, word.position)));
            rest.extend(parts);
        }
        row.extend(rest);
        row
    }

    /// The words and wholes, with their places.
    fn all_words(&self) -> impl Iterator<Item = (usize, &TypedToken)> {
        self.tokens.iter().enumerate().filter(|(_, token)| token.role == Role::Word)
    }

    /// What stands beside the word at a place: it follows.
    fn beside(&self, place: usize, role: Role) -> impl Iterator<Item = &TypedToken> {
        let TypedToken { position, span, .. } = self.tokens[place];
        let here = self.tokens[place + 1..].iter().take_while(move |token| token.position == position);
        here.filter(move |token| token.role == role && token.span == span)
    }

    /// The lookup of the so-manieth other word for the one at a place, or its own.
    fn instead_of(&self, place: usize, other: usize) -> usize {
        let instead = other.checked_sub(1).and_then(|other| self.beside(place, Role::Also).nth(other));
        instead.unwrap_or(&self.tokens[place]).lookup
    }
}

/// Adds a row of terms in a column; a gap in front is none of it.
fn add_row(alternatives: &mut Vec<Alternative>, mut row: Row, column: usize, likeness: f32) {
    let first = row.first().map_or(0, |(_, first)| *first);
    for (_, at) in &mut row {
        *at -= first;
    }
    if !row.is_empty() {
        add_run(alternatives, &row, column, likeness);
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
