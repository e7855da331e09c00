//! Splitting: from a text to its words.
//!
//! What always holds: words come in order of where they begin, and their ranges lie at character boundaries. Takes time
//! in proportion to the text, whatever it is.

mod boundaries;
mod unspaced;

use std::ops::Range;

/// Gives each word of a text to `take`: by UAX #29, and scripts without spaces as [`unspaced`] says.
pub(super) fn words<'t>(text: &'t str, mut take: impl FnMut(Range<usize>, &'t str)) {
    boundaries::runs(text, true, |range, run, is_unspaced| {
        if is_unspaced {
            unspaced::words(run, |within| {
                take(range.start + within.start..range.start + within.end, &run[within]);
            });
        } else {
            take(range, run);
        }
    });
}
