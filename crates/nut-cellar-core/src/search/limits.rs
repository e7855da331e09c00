//! What a query may ask for at most, so that one which anybody may type takes a bounded time. What is beyond that is left out, or
//! looked for in a simpler way, and said.

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
    pub fn notes(&self) -> impl Iterator<Item = String> {
        let Self { leaves, walks, rows, values } = *self;
        let of_leaves =
            || format!("The query has more than {MOST_LEAVES} different words; {leaves} were left out.");
        let of_walks = || {
            format!(
                "Of patterns a query may have {MOST_WALKS}, of which a near spelling counts as {NEAR_COUNTS}, and \
                 {MOST_WIDE_WALKS} like `*a*`; {walks} more were left out."
            )
        };
        let of_rows = || {
            format!(
                "Of phrases, windows and compound words a query may have {MOST_ROWS}; of {rows} more the words were looked for \
                 wherever they stand."
            )
        };
        let of_values = || {
            format!(
                "A query may ask for {MOST_VALUES} different values; {values} more were left out. A filter has no such limit."
            )
        };
        let said = [
            (leaves > 0).then(of_leaves),
            (walks > 0).then(of_walks),
            (rows > 0).then(of_rows),
            (values > 0).then(of_values),
        ];
        said.into_iter().flatten()
    }
}
