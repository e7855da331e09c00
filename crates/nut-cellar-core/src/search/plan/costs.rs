//! What going through a shelf costs, measured on generated records and on real text. The unit is a posting that is scored in a window;
//! a comment says what is weighed against it.

/// Asking a record that is walked to whether it matches, and scoring it.
pub(super) const RECORD: u64 = 24;
/// The same, where which records match is found out window by window.
pub(super) const RECORD_FILLED: u64 = 6;
/// And for each word that it is asked for so as to be scored.
pub(super) const RECORD_WORD: u64 = 2;
/// With more leaves and tests than these it is weighed whether records are better asked together.
pub(super) const MANY_LEAVES: usize = 8;
/// Asking a record for one leaf or test. Most records need not be asked for all of them.
pub(super) const ASKED: u64 = 2;
/// Scoring a record that is known to match, beside 1 for each list, or so much if it has to be asked what it matches.
pub(super) const SCORED: u64 = 16;
pub(super) const SCORED_LEAF: u64 = 4;
/// Of fewer postings than these none are gone through twice.
pub(super) const FEW_POSTINGS: u64 = 1 << 13;
/// A list is asked for a record that another word has in a quarter of the time that a posting takes that is scored.
pub(super) const ASKED_FOR_ALL: u64 = 4;
/// With more lists than these, windows that end where a block does end too often.
pub(super) const FEW_LISTS: usize = 24;
/// They do, too, where the blocks of all lists end nearer to each other than so many records for each list.
pub(super) const AT_BLOCK_ENDS: u64 = 128;
/// With more lists than these whose records are counted, none are looked up.
pub(super) const COUNTED_LISTS: usize = 64;
