//! Highlights: the text is read by its column's recipe once more, and what a clause of the query matches is marked.
//!
//! What always holds: without its marks (and escapes) the answer is the text, or a run of it; every mark that is opened
//! is closed before the next one.

use crate::error::{Error, ErrorKind, Result};
use crate::query::Query;
use crate::record::Value;
use crate::schema::Schema;
use crate::search::Find;
use crate::search::likeness;
use crate::search::plan::{Alternative, Plan};
use crate::text::Recipes;
use indexmap::IndexMap;
use std::collections::HashMap;
use std::ops::Range;
use std::sync::Arc;

/// What stands before and after a match, and whether the text is escaped.
///
/// ```
/// use nut_cellar_core::Marks;
///
/// let for_a_page = Marks::new("<mark>", "</mark>").escaping_html();
/// let for_a_terminal = Marks::new("[", "]");
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Marks {
    before: String,
    after: String,
    html: bool,
}

impl Marks {
    /// Marks that are put into the text as they are.
    pub fn new(before: impl Into<String>, after: impl Into<String>) -> Self {
        Self { before: before.into(), after: after.into(), html: false }
    }

    /// The same marks, with the text between them escaped for HTML, inside and outside of attributes.
    #[must_use]
    pub fn escaping_html(mut self) -> Self {
        self.html = true;
        self
    }

    /// The whole text with matches marked, as a [hit](crate::Hit::marks) tells them: ranges of bytes that ascend and do not overlap. What
    /// is no range of the text is left out.
    pub fn mark(&self, text: &str, matches: &[Range<usize>]) -> String {
        marked(text, 0..text.len(), &ranges_of(text, matches), self)
    }

    /// About so many characters of the text, where the most different matches are close together, with `…` where something was left out.
    pub fn excerpt(&self, text: &str, matches: &[Range<usize>], characters: usize) -> String {
        let mut known: HashMap<String, usize> = HashMap::new();
        let found = ranges_of(text, matches).into_iter().map(|range| {
            let next = known.len();
            (*known.entry(text[range.clone()].to_lowercase()).or_insert(next), range)
        });
        excerpt(text, &found.collect::<Vec<_>>(), characters, self)
    }

    fn put(&self, out: &mut String, text: &str) {
        if !self.html {
            return out.push_str(text);
        }
        for character in text.chars() {
            match character {
                '&' => out.push_str("&amp;"),
                '<' => out.push_str("&lt;"),
                '>' => out.push_str("&gt;"),
                '"' => out.push_str("&quot;"),
                '\'' => out.push_str("&#39;"),
                _ => out.push(character),
            }
        }
    }
}

/// Marks what a query finds in texts.
///
/// ```
/// use nut_cellar_core::{Column, Find, Highlighter, Marks, Query, Schema};
///
/// let schema = Schema::new("id").with("title", Column::text("en"));
/// let query = Query::read("umbrella").query;
/// let highlighter = Highlighter::new(schema.into(), &query, &Find::new()).unwrap();
/// let marks = Marks::new("<b>", "</b>").escaping_html();
/// let shown = highlighter.mark("title", "Two umbrellas & a hat", &marks).unwrap();
/// assert_eq!(shown, "Two <b>umbrellas</b> &amp; a hat");
/// ```
#[derive(Debug)]
pub struct Highlighter {
    schema: Arc<Schema>,
    plan: Plan,
}

impl Highlighter {
    /// Prepares to mark what this search finds.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`] if `find` names columns that can't be searched.
    pub fn new(schema: Arc<Schema>, query: &Query, find: &Find) -> Result<Self> {
        let plan = Plan::new(&schema, query, &find.clone().beginning_in(query))?;
        Ok(Self { schema, plan })
    }

    /// The whole text of a text column, with the matches marked.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`] if the schema has no such text column.
    pub fn mark(&self, column: &str, text: &str, marks: &Marks) -> Result<String> {
        let matches = self.matches(column, text)?;
        Ok(marked(text, 0..text.len(), &matches, marks))
    }

    /// About `characters` characters of the text, where the most different terms of the query are close together, with
    /// the matches marked and `…` where something was left out.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`] if the schema has no such text column.
    pub fn excerpt(&self, column: &str, text: &str, characters: usize, marks: &Marks) -> Result<String> {
        Ok(excerpt(text, &self.found(column, text)?, characters, marks))
    }

    /// The byte ranges of the matches in a text of a text column; they ascend and do not overlap.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`] if the schema has no such text column.
    pub fn matches(&self, column: &str, text: &str) -> Result<Vec<Range<usize>>> {
        Ok(self.found(column, text)?.into_iter().map(|(_, range)| range).collect())
    }

    /// For each text column in which something matches, for each of its values: the byte ranges of the matches.
    ///
    /// # Errors
    /// If a column can't be read.
    pub(crate) fn marks(
        &self,
        values: &IndexMap<String, Vec<Value>>,
    ) -> Result<IndexMap<String, Vec<Vec<Range<usize>>>>> {
        let mut marks = IndexMap::new();
        for (name, values) in values.iter().filter(|(name, _)| self.schema.text_column(name).is_some()) {
            let texts: Vec<_> = values.iter().map(|value| value.as_text().unwrap_or_default()).collect();
            let found = self.found_in(name, &texts)?;
            if found.iter().any(|matches| !matches.is_empty()) {
                let bare = |matches: Vec<_>| matches.into_iter().map(|(_, range)| range).collect();
                marks.insert(name.clone(), found.into_iter().map(bare).collect());
            }
        }
        Ok(marks)
    }

    /// The matches in a text, each with its term's place in the plan.
    fn found(&self, column: &str, text: &str) -> Result<Vec<Match>> {
        Ok(self.found_in(column, &[text])?.pop().unwrap_or_default())
    }

    /// The matches in each value of a column, which stand as far apart as its schema says.
    fn found_in(&self, column: &str, texts: &[&str]) -> Result<Vec<Vec<Match>>> {
        let place = self.schema.text_column(column).zip(self.schema.column(column));
        let (place, column) = place.ok_or_else(|| {
            Error::new(
                ErrorKind::BadRequest,
                format!("There is no text column `{column}` to mark matches in."),
            )
        })?;
        let mut tokens = Vec::new();
        let most = column.first_words().map_or(u32::MAX, |words| words.get().into());
        let has_forms = self.plan.lookups.iter().any(|lookup| lookup.class.is_some());
        // Which language the text is in is not known here: what any of them finds is marked.
        for recipe in Recipes::of(column.text_settings()).all() {
            let mut base = 0;
            for (value, text) in texts.iter().enumerate() {
                let positions = recipe.tokens(text, |token| {
                    if base + token.position >= most {
                        return;
                    }
                    let key = if has_forms { recipe.key_of(token.term) } else { None };
                    for (place, lookup) in self.plan.lookups.iter().enumerate() {
                        let same_class =
                            key.is_some() && lookup.class == key && lookup.stemming == recipe.stemming_name();
                        let same = lookup.term.as_deref() == Some(token.term);
                        if same
                            || same_class
                            || lookup.like.iter().any(|like| likeness(like, token.term) > 0.0)
                        {
                            let range = token.start..token.end;
                            tokens.push(Looked {
                                term: place,
                                position: base + token.position,
                                value,
                                range,
                            });
                        }
                    }
                });
                base += positions + u32::from(column.gap());
            }
        }
        let mut marked = vec![false; tokens.len()];
        let wanted = self.plan.leaves.iter().filter(|leaf| leaf.times > 0);
        let alternatives = wanted.flat_map(|leaf| &leaf.alternatives);
        for alternative in alternatives.filter(|alternative| alternative.columns.has(place)) {
            match alternative.window {
                None => mark_rows(alternative, &tokens, &mut marked),
                Some(window) => mark_windows(alternative, window, &tokens, &mut marked),
            }
        }
        let mut found = vec![Vec::new(); texts.len()];
        for (token, _) in tokens.into_iter().zip(marked).filter(|(_, marked)| *marked) {
            found[token.value].push((token.term, token.range));
        }
        Ok(found.into_iter().map(without_overlaps).collect())
    }
}

/// A match: the place of its term in the plan, and where it stands in the text.
type Match = (usize, Range<usize>);

/// A token that a lookup stands for.
struct Looked {
    /// The place of the lookup in the plan.
    term: usize,
    position: u32,
    /// The value that it stands in, and where.
    value: usize,
    range: Range<usize>,
}

/// Marks the terms of an alternative where they follow one another.
fn mark_rows(alternative: &Alternative, tokens: &[Looked], marked: &mut [bool]) {
    let by_place: HashMap<_, _> =
        tokens.iter().enumerate().map(|(at, token)| ((token.term, token.position), at)).collect();
    let first = alternative.terms[0].0;
    for start in tokens.iter().filter(|token| token.term == first) {
        let run =
            alternative.terms.iter().map(|&(term, offset)| by_place.get(&(term, start.position + offset)));
        if let Some(run) = run.collect::<Option<Vec<_>>>() {
            for &at in run {
                marked[at] = true;
            }
        }
    }
}

/// Marks the terms of an alternative where they stand within so many positions.
fn mark_windows(alternative: &Alternative, window: u32, tokens: &[Looked], marked: &mut [bool]) {
    let mut last: HashMap<usize, Option<usize>> =
        alternative.terms.iter().map(|(term, _)| (*term, None)).collect();
    let mut order: Vec<usize> = (0..tokens.len()).collect();
    order.sort_by_key(|at| tokens[*at].position);
    for at in order {
        let Looked { term, position, .. } = &tokens[at];
        let Some(seen) = last.get_mut(term) else { continue };
        *seen = Some(at);
        let near = |seen: &Option<usize>| seen.is_some_and(|seen| position - tokens[seen].position < window);
        if last.values().all(near) {
            for seen in last.values().flatten() {
                marked[*seen] = true;
            }
        }
    }
}

/// The matches in order; those that overlap, as a compound and its parts do, as one.
fn without_overlaps(mut found: Vec<Match>) -> Vec<Match> {
    found.sort_by_key(|(_, range)| (range.start, std::cmp::Reverse(range.end)));
    found.dedup_by(|(_, next), (_, kept)| {
        let overlaps = next.start < kept.end;
        if overlaps {
            kept.end = kept.end.max(next.end);
        }
        overlaps
    });
    found
}

/// Those of some ranges that lie in a text and behind one another.
fn ranges_of(text: &str, ranges: &[Range<usize>]) -> Vec<Range<usize>> {
    let mut end = 0;
    let mut follows = |range: &&Range<usize>| {
        let follows = range.start >= end && text.get(Range::clone(range)).is_some();
        end = if follows { range.end } else { end };
        follows
    };
    ranges.iter().filter(&mut follows).cloned().collect()
}

/// About so many characters of a text around its matches, each of which has the number of its term.
fn excerpt(text: &str, found: &[Match], characters: usize, marks: &Marks) -> String {
    let matches: Vec<_> = found.iter().map(|(_, range)| range.clone()).collect();
    let window = window(text, densest(found, characters), characters);
    let mut out = String::new();
    if window.start > 0 {
        out.push('…');
    }
    out.push_str(&marked(text, window.clone(), &matches, marks));
    if window.end < text.len() {
        out.push('…');
    }
    out
}

fn marked(text: &str, window: Range<usize>, matches: &[Range<usize>], marks: &Marks) -> String {
    let mut out =
        String::with_capacity(window.len() + matches.len() * (marks.before.len() + marks.after.len()));
    let mut at = window.start;
    for found in matches.iter().filter(|found| found.start >= window.start && found.end <= window.end) {
        marks.put(&mut out, &text[at..found.start]);
        out.push_str(&marks.before);
        marks.put(&mut out, &text[found.clone()]);
        out.push_str(&marks.after);
        at = found.end;
    }
    marks.put(&mut out, &text[at..window.end]);
    out
}

/// The first of the matches from which on the most different terms are within `reach` bytes.
fn densest(found: &[Match], reach: usize) -> Option<&Range<usize>> {
    let terms = found.iter().map(|(term, _)| term + 1).max()?;
    let mut counts = vec![0_u32; terms];
    let (mut next, mut different, mut best) = (0, 0, (0, &found[0].1));
    for (term, range) in found {
        while let Some((ahead, _)) = found.get(next).filter(|(_, ahead)| ahead.end <= range.start + reach) {
            different += u32::from(counts[*ahead] == 0);
            counts[*ahead] += 1;
            next += 1;
        }
        if different > best.0 {
            best = (different, range);
        }
        if counts[*term] > 0 {
            counts[*term] -= 1;
            different -= u32::from(counts[*term] == 0);
        } else {
            // Longer than the reach by itself.
            next += 1;
        }
    }
    Some(best.1)
}

/// What is longer than this is no word that would have to stay whole, but a script without spaces.
const LONG_WORD: usize = 24;

/// About `characters` characters around a match: a third of them before it, more where the text ends soon after,
/// cut between words where there are some.
fn window(text: &str, first: Option<&Range<usize>>, characters: usize) -> Range<usize> {
    let (from, keep) = first.map_or((0, 0), |found| (found.start, found.end));
    let after = text[from..].chars().take(characters).count();
    let before = (characters / 3).max(characters - after);
    let mut start = text[..from].char_indices().rev().take(before).last().map_or(from, |(at, _)| at);
    if !text[..start].ends_with(char::is_whitespace)
        && start > 0
        && let Some(space) = text[start..from].find(char::is_whitespace)
    {
        start = from - text[start + space..from].trim_start().len();
    }
    let mut end =
        text[start..].char_indices().nth(characters).map_or(text.len(), |(at, _)| start + at).max(keep);
    if end < text.len()
        && let Some(space) = text[keep..end].rfind(char::is_whitespace)
        && text[keep + space..end].chars().count() <= LONG_WORD
    {
        end = keep + text[keep..keep + space].trim_end().len();
    }
    start..end
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::schema::Column;
    use proptest::prelude::*;

    fn highlighter(query: &str) -> Highlighter {
        let schema = Schema::new("id").with("title", Column::text("en")).with("notes", Column::text("none"));
        Highlighter::new(schema.into(), &Query::read(query).query, &Find::new()).unwrap()
    }

    fn marked(query: &str, column: &str, text: &str) -> String {
        highlighter(query).mark(column, text, &Marks::new("[", "]")).unwrap()
    }

    #[test]
    fn words_are_marked_as_their_column_reads_them() {
        assert_eq!(marked("boxes", "title", "A box, two Boxes"), "A [box], two [Boxes]");
        assert_eq!(marked("boxes", "notes", "A box, two Boxes"), "A box, two [Boxes]");
        assert_eq!(marked("title:box", "notes", "a box"), "a box");
        assert!(
            highlighter("box").mark("colour", "a box", &Marks::new("", "")).unwrap_err().is_bad_request()
        );
    }

    #[test]
    fn a_phrase_is_marked_only_where_its_words_are_in_a_row() {
        let text = "handle of brass, brass handles, Brass-handle";
        assert_eq!(
            marked("\"brass handle\"", "title", text),
            "handle of brass, [brass] [handles], [Brass]-[handle]"
        );
        assert_eq!(marked("brass-handle", "title", "brass handle handle"), "[brass] [handle] handle");
    }

    #[test]
    fn an_excerpt_shows_where_the_most_words_are_together() {
        let marks = Marks::new("[", "]");
        let text = "an elm stood here once, and much later an oak, an elm and an ash stood there together";
        let excerpt = highlighter("elm ash oak").excerpt("notes", text, 30, &marks).unwrap();
        assert_eq!(excerpt, "…later an [oak], an [elm] and an…");
        let first = highlighter("elm").excerpt("notes", text, 20, &marks).unwrap();
        assert_eq!(first, "an [elm] stood here…");
    }

    #[test]
    fn an_excerpt_is_cut_between_words_around_the_first_match() {
        let marks = Marks::new("[", "]");
        let excerpt =
            |text, characters| highlighter("elm").excerpt("notes", text, characters, &marks).unwrap();
        let text = "one two three four five elm six seven eight nine ten";
        assert_eq!(excerpt(text, 20), "…five [elm] six seven…");
        assert_eq!(excerpt(text, 500), text.replace("elm", "[elm]"));
        assert_eq!(excerpt("one two three four five six elm", 16), "…five six [elm]");
        assert_eq!(excerpt("one two three four five", 9), "one two…");
        assert_eq!(excerpt("", 9), "");
        assert_eq!(excerpt("elm", 0), "[elm]");
    }

    proptest! {
        #[test]
        fn taking_the_marks_out_gives_the_text(text in "([a-c<&\"é ]|elm){0,40}", characters in 0_usize..60) {
            let highlighter = highlighter("elm a \"b c\"");
            let marks = Marks::new("\u{1}", "\u{2}");
            let bare = |marked: String| marked.replace(['\u{1}', '\u{2}'], "");
            prop_assert_eq!(bare(highlighter.mark("notes", &text, &marks).unwrap()), text.clone());
            let excerpt = bare(highlighter.excerpt("notes", &text, characters, &marks).unwrap());
            prop_assert!(text.contains(excerpt.trim_matches('…')));
            let html = highlighter.mark("notes", &text, &marks.escaping_html()).unwrap();
            prop_assert!(!html.contains(['<', '"']));
            let unescaped = bare(html).replace("&lt;", "<").replace("&quot;", "\"").replace("&amp;", "&");
            prop_assert_eq!(unescaped, text);
        }
    }
}
