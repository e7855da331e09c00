//! From pieces to tokens where a piece may become several of them, or none: in recipes with steps of the program's own or with compounds,
//! and wherever it is told what each step did.
//!
//! What always holds: positions never fall; at each position that is no gap stands one word, and beside it what is another word for it, or
//! a part of it; no term stands there twice.

use super::offered::Own;
use super::own::{Role, StepOutput};
use super::pieces::{Piece, TakePieces};
use super::recipe::{Change, Recipe, Token, TracedToken, without_zeros};
use super::{MAX_TERM_BYTES, fold};
use hashbrown::HashMap;
use std::ops::Range;
use std::sync::Arc;

/// The words that are remembered at most.
const WORDS: usize = 1 << 15;

/// What becomes of pieces, by how they stand in the text.
pub(super) type Several = HashMap<String, Arc<Made>>;

/// What becomes of a piece.
#[derive(Debug)]
pub(super) struct Made {
    tokens: Vec<MadeToken>,
    positions: u32,
}

#[derive(Clone, Debug)]
struct MadeToken {
    term: String,
    role: Role,
    /// How many positions after the first.
    at: u32,
    /// Where it stands in the piece.
    range: Range<usize>,
    weak: bool,
    /// Whether a step dropped it, which only a trace knows.
    dropped: bool,
    /// What its forms share, where each is a term of its own; in a trace.
    key: Option<String>,
    /// What the steps did, in a trace.
    changes: Vec<Change>,
}

impl MadeToken {
    /// Notes a step, if it changed something.
    fn note(&mut self, traces: bool, step: &str, before: &str) {
        if traces && before != self.term {
            let (before, after) = (before.to_owned(), self.term.clone());
            self.changes.push(Change { step: step.to_owned().into(), before, after });
        }
    }
}

/// What becomes of a piece that stands in the text as `written`; told with what each step did if it `traces`.
fn make(recipe: &Recipe, written: &str, raw: &str, span: u32, traces: bool) -> Made {
    let bare = if span == 1 { recipe.without_elision(raw) } else { raw };
    let mut first = MadeToken {
        term: bare.to_owned(),
        role: Role::Word,
        at: 0,
        range: 0..written.len(),
        weak: false,
        dropped: false,
        key: None,
        changes: Vec::new(),
    };
    first.note(traces, "elide", raw);
    if recipe.folds {
        fold::fold(bare, recipe.turkic, &mut first.term);
        first.note(traces, "fold", bare);
    }
    let folded = first.term.clone();
    let mut made = Made { tokens: vec![first], positions: 1 };
    for step in &recipe.own {
        if let Own::Step(own) = &step.own {
            let apply = |word: &str, written: &str| {
                let mut out = StepOutput::default();
                own.apply(word, written, &mut out);
                out
            };
            made = stepped(made, &step.name, written, traces, apply);
        }
    }
    for list in recipe.compounds.iter().filter(|_| span == 1) {
        // Where what was folded to the first bytes of the word ends: at the last place for which that is so, behind what is invisible.
        let end = |at: usize, last: bool| {
            let mut prefix = String::new();
            let mut ends = bare.char_indices().map(|(at, _)| at).chain([bare.len()]).filter(|end| {
                fold::fold(&bare[..*end], recipe.turkic, &mut prefix);
                prefix == folded[..at]
            });
            if last { ends.last() } else { ends.next() }
        };
        let before = written.len() - bare.len();
        let place =
            |range: Range<usize>| Some(end(range.start, true)? + before..end(range.end, false)? + before);
        made = stepped(made, "compound", written, traces, |word, _| {
            let mut out = StepOutput::default();
            out.word(word);
            for (part, range) in list.parts(word) {
                out.part(&part);
                if word == folded
                    && let Some(range) = place(range)
                {
                    out.at(range);
                }
            }
            out
        });
    }
    for token in made.tokens.iter_mut().filter(|token| !token.dropped) {
        finish(recipe, token, traces);
    }
    without_twins(&mut made.tokens);
    made
}

/// What a step makes of tokens.
fn stepped(
    Made { tokens, positions }: Made,
    name: &str,
    written: &str,
    traces: bool,
    apply: impl Fn(&str, &str) -> StepOutput,
) -> Made {
    let mut made = Made { tokens: Vec::with_capacity(tokens.len()), positions: 0 };
    // Of the last word: the position behind it, the first position of what became of it, and whether a word is among that.
    let (mut behind, mut begins, mut stays) = (0, 0, true);
    for token in tokens {
        if token.dropped {
            made.tokens.push(token);
            continue;
        }
        let (beside, range) = (token.role != Role::Word, token.range.clone());
        // With a word that is dropped goes what stands beside it.
        let out = if beside && !stays {
            StepOutput::default()
        } else {
            apply(&token.term, &written[range.clone()])
        };
        if !beside {
            begins = made.positions.saturating_add(token.at - behind);
            behind = token.at + 1;
            stays = !out.tokens.is_empty();
            made.positions = begins.saturating_add(out.positions);
        }
        if out.tokens.is_empty() && traces {
            let mut dropped = MadeToken { term: String::new(), at: begins, dropped: true, ..token.clone() };
            dropped.note(traces, name, &token.term);
            made.tokens.push(MadeToken { term: token.term.clone(), ..dropped });
        }
        for one in out.tokens {
            let within = one
                .range
                .filter(|within| !within.is_empty() && written[range.clone()].get(within.clone()).is_some());
            let within = within.map(|within| range.start + within.start..range.start + within.end);
            let (role, ahead) = if beside { (token.role, 0) } else { (one.role, one.at) };
            let (at, range) = (begins.saturating_add(ahead), within.unwrap_or_else(|| range.clone()));
            let mut next = MadeToken { term: one.term, role, at, range, ..token.clone() };
            next.note(traces, name, &token.term);
            made.tokens.push(next);
        }
    }
    made.positions = made.positions.saturating_add(positions - behind);
    made.tokens.sort_by_key(|token| token.at);
    made
}

/// Tells whether a token is weak, and what its forms share.
fn finish(recipe: &Recipe, token: &mut MadeToken, traces: bool) {
    without_zeros(&mut token.term);
    let before = token.term.clone();
    token.weak = recipe.stop.contains(token.term.as_str());
    let mut changes = std::mem::take(&mut token.changes);
    let mut note = |step: &'static str, before: &str, after: &str| {
        if before != after {
            changes.push(Change { step: step.into(), before: before.to_owned(), after: after.to_owned() });
        }
    };
    if !recipe.stemming_name().is_empty() {
        token.term.truncate(token.term.floor_char_boundary(MAX_TERM_BYTES));
        token.key = traces.then(|| {
            let mut key = token.term.clone();
            recipe.unify(&mut key, Some(&mut note));
            key
        });
    } else if traces {
        recipe.unify(&mut token.term, Some(&mut note));
    } else {
        recipe.unify(&mut token.term, None);
    }
    if token.weak && traces {
        changes.push(Change { step: "weak".into(), before: before.clone(), after: before });
    }
    token.changes = changes;
}

/// Leaves out what stands at a position twice; the first stays.
fn without_twins(tokens: &mut Vec<MadeToken>) {
    let mut at = 0;
    while at < tokens.len() {
        let one = &tokens[at];
        let before = tokens[..at].iter().rev().take_while(|other| other.at == one.at);
        if !one.dropped && before.into_iter().any(|other| !other.dropped && other.term == one.term) {
            tokens.remove(at);
        } else {
            at += 1;
        }
    }
}

/// A piece of the text, with what became of it.
struct Placed {
    made: Arc<Made>,
    range: Range<usize>,
    position: u32,
    span: u32,
}

/// A token of a piece, where it stands.
#[derive(Clone, Copy)]
struct Standing<'g> {
    position: u32,
    span: u32,
    role: Role,
    token: &'g MadeToken,
    /// Where its piece begins in the text.
    offset: usize,
}

/// Gives the tokens of pieces to `take`. A hyphenated word, or another whole with its parts, waits until all of it is there, since steps
/// may change how many positions its parts take.
pub(super) struct MakingSeveral<'m> {
    recipe: &'m Recipe,
    /// What is remembered; nothing where each step is told.
    several: Option<&'m mut Several>,
    text: &'m str,
    /// A whole and what it spans, as far as it is there.
    group: Vec<Placed>,
    group_end: u32,
    /// How many positions more there are than pieces had, so far.
    shift: i64,
    take: &'m mut dyn FnMut(Token<'_>, Told<'_>),
}

/// What a trace tells of a token: what its forms share, what the steps did, and whether it was dropped.
#[derive(Clone, Copy)]
pub(super) struct Told<'a>(&'a MadeToken);

impl Told<'_> {
    /// The token as it is traced.
    pub fn traced(self, token: Token<'_>) -> TracedToken {
        let Token { start, end, position, span, role, weak, .. } = token;
        let MadeToken { term, key, dropped, changes, .. } = self.0.clone();
        TracedToken { term, key, start, end, position, span, role, weak, dropped, steps: changes }
    }
}

impl<'m> MakingSeveral<'m> {
    pub fn new(
        recipe: &'m Recipe,
        several: Option<&'m mut Several>,
        text: &'m str,
        take: &'m mut dyn FnMut(Token<'_>, Told<'_>),
    ) -> Self {
        Self { recipe, several, text, group: Vec::new(), group_end: 0, shift: 0, take }
    }

    /// Gives what still waits; tells how many positions there are where pieces had so many.
    pub fn end(mut self, positions: u32) -> u32 {
        self.give();
        self.place(positions)
    }

    /// The position in which a piece's one is.
    fn place(&self, position: u32) -> u32 {
        u32::try_from(i64::from(position) + self.shift).unwrap_or(u32::MAX)
    }

    fn made(&mut self, raw: &str, range: Range<usize>, span: u32) -> Arc<Made> {
        let written = &self.text[range];
        let Some(several) = &mut self.several else {
            return Arc::new(make(self.recipe, written, raw, span, true));
        };
        if let Some(made) = several.get(written) {
            return Arc::clone(made);
        }
        let made = Arc::new(make(self.recipe, written, raw, span, false));
        if several.len() < WORDS && span == 1 && written.len() <= MAX_TERM_BYTES {
            several.insert(written.to_owned(), Arc::clone(&made));
        }
        made
    }

    /// Gives the tokens of the pieces that wait.
    fn give(&mut self) {
        let group = std::mem::take(&mut self.group);
        let Some(first) = group.first().map(|piece| piece.position) else { return };
        // Where what became of each part begins, and where the last ends.
        let mut begins = vec![self.place(first)];
        for part in group.iter().filter(|piece| piece.span == 1) {
            begins.push(begins[begins.len() - 1].saturating_add(part.made.positions));
        }
        let (parts, all) = (begins.len() - 1, begins[begins.len() - 1] - begins[0]);
        // Of parts that are all dropped the whole is left.
        let lone = parts > 1 && all == 0;
        let mut tokens: Vec<Standing> = Vec::new();
        for piece in &group {
            let place = (piece.position - first) as usize;
            let behind = (place + piece.span as usize).min(parts);
            let (begin, span) = (begins[place], begins[behind] - begins[place]);
            for token in &piece.made.tokens {
                let whole = piece.span > 1;
                let role = if whole && span == 1 { token.role.max(Role::Also) } else { token.role };
                let stands = !whole
                    || (token.at == 0 && token.role != Role::Part && (span > 0 || (lone && place == 0)));
                if stands {
                    let span = if whole { span.max(1) } else { 1 };
                    let position = begin.saturating_add(token.at);
                    tokens.push(Standing { position, span, role, token, offset: piece.range.start });
                }
            }
        }
        tokens.sort_by_key(|token| (token.position, u32::MAX - token.span, token.role));
        let is_twin = |at: usize| {
            let Standing { position, span, token: one, .. } = tokens[at];
            let like = |(place, other): &(usize, &Standing<'_>)| {
                // The narrowest stays, and of equally wide ones the first.
                let stays = other.span < span || (other.span == span && *place < at);
                stays && !other.token.dropped && other.token.term == one.term
            };
            let here = |(_, other): &(usize, &Standing<'_>)| other.position == position;
            let mut before = tokens.iter().enumerate().take(at).rev().take_while(here);
            let mut behind = tokens.iter().enumerate().skip(at + 1).take_while(here);
            !one.dropped && (before.any(|other| like(&other)) || behind.any(|other| like(&other)))
        };
        for (at, &Standing { position, span, role, token, offset }) in tokens.iter().enumerate() {
            if self.recipe.makes_several() && is_twin(at) {
                continue;
            }
            let MadeToken { term, range, weak, .. } = token;
            let (start, end) = (range.start + offset, range.end + offset);
            (self.take)(Token { term, start, end, position, span, role, weak: *weak }, Told(token));
        }
        self.shift += i64::from(if lone { 1 } else { all }) - i64::try_from(parts).unwrap_or(0);
    }
}

impl TakePieces for MakingSeveral<'_> {
    fn plain(&mut self, range: Range<usize>, position: u32) {
        self.piece(Piece { raw: &self.text[range.clone()], range, position, span: 1 });
    }

    fn piece(&mut self, Piece { raw, range, position, span }: Piece<'_>) {
        if position >= self.group_end {
            self.give();
        }
        self.group_end = self.group_end.max(position.saturating_add(span));
        let made = self.made(raw, range.clone(), span);
        self.group.push(Placed { made, range, position, span });
    }
}
