//! The ways through the postings of a shelf that any search can take.

use nut_cellar_core::search::Strategy;

/// The cheapest way, and each that can be had.
pub const WAYS: [Option<Strategy>; 8] = [
    None,
    Some(Strategy::ByRecord),
    Some(Strategy::OfMatches),
    Some(Strategy::BestOfAny),
    Some(Strategy::BestOfAll),
    Some(Strategy::SomeWords),
    Some(Strategy::EveryPosting),
    Some(Strategy::WithPhrases),
];
