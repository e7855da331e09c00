//! Splitting: from a text to its words.
//!
//! What always holds: words come in order of where they begin, and their ranges lie at character boundaries. Takes time
//! in proportion to the text, whatever it is.

mod blocks;
mod boundaries;
mod symbols;
mod unspaced;

pub(super) use unspaced::is_half_of_pairs;
pub(crate) use unspaced::is_unspaced;

use std::ops::Range;

/// Told where the words of a text stand. (A trait and not a closure, so that the way of plain words, which
/// most are, is short: with closures it took twice the time.)
pub(super) trait TakeWords {
    /// A word of letters and digits of ASCII that no hyphen joins to another, shorter than 64 bytes.
    fn plain(&mut self, range: Range<usize>);

    /// Any other word.
    fn word(&mut self, range: Range<usize>);
}

/// Told words, and what has to be split further.
trait TakeRuns: TakeWords {
    /// A run of a script without spaces.
    fn unspaced(&mut self, range: Range<usize>, run: &str);
}

impl<T: TakeWords> TakeRuns for T {
    fn unspaced(&mut self, range: Range<usize>, run: &str) {
        unspaced::words(run, |within| {
            self.word(range.start + within.start..range.start + within.end);
        });
    }
}

/// Gives each word of a text to `take`: by UAX #29, scripts without spaces as [`unspaced`] says, and symbols if they are
/// wanted.
#[inline]
pub(super) fn words(text: &str, symbols: bool, take: &mut impl TakeWords) {
    if symbols {
        symbols::runs(text, take);
    } else {
        boundaries::runs(text, true, take);
    }
}
