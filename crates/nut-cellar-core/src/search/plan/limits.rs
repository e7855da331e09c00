//! What a query may ask for at most, so that one which anybody may type takes a bounded time. What is beyond that is left out, or
//! looked for in a simpler way, and said.

use crate::note::Note;

/// How deep a query may be nested: what is read from a text is no deeper, and what a program builds has to fit on a thread's stack.
pub(super) const DEEPEST: usize = 200;
/// The most different words, phrases and patterns of a query; more are left out.
pub(super) const MOST_LEAVES: usize = 4_096;
/// The most different walks through a dictionary, for patterns, beginnings and near spellings, which count more; more are left out. Of
/// those that nothing leads to, such as `*a*`, one: it has to look at every term.
pub(super) const MOST_WALKS: usize = 16;
pub(super) const NEAR_COUNTS: usize = 2;
pub(super) const MOST_WIDE_WALKS: usize = 1;
/// The most leaves for which it matters where words stand. Each goes through the lists of its words by itself; for more their words are
/// looked for wherever they stand.
pub(super) const MOST_ROWS: usize = 16;
/// The most different values that the words of a query may ask for; more are left out. A filter may ask for as many as it likes.
pub(super) const MOST_VALUES: usize = 16;

/// How much of a query was beyond the limits.
#[derive(Debug, Default)]
pub(super) struct Beyond {
    pub leaves: usize,
    pub walks: usize,
    pub rows: usize,
    pub values: usize,
}

impl Beyond {
    /// What is said of it.
    pub fn notes(&self) -> impl Iterator<Item = Note> {
        let Self { leaves, walks, rows, values } = *self;
        let said = [
            (leaves > 0).then_some(Note::TooManyWords { most: MOST_LEAVES, left_out: leaves }),
            (walks > 0).then_some(Note::TooManyPatterns {
                most: MOST_WALKS,
                near_counts: NEAR_COUNTS,
                most_wide: MOST_WIDE_WALKS,
                left_out: walks,
            }),
            (rows > 0).then_some(Note::TooManyPhrases { most: MOST_ROWS, loosened: rows }),
            (values > 0).then_some(Note::TooManyValues { most: MOST_VALUES, left_out: values }),
        ];
        said.into_iter().flatten()
    }
}
