//! How a shelf is gone through: chosen by what is known of the query and the shelf, before a posting is read.
//!
//! What always holds: choosing is a pure function, and the only place where one way is weighed against another. All strategies find the
//! same, so costs decide about time alone.

use super::costs::{
    ASKED, ASKED_FOR_ALL, AT_BLOCK_ENDS, COUNTED_LISTS, FEW_LISTS, FEW_POSTINGS, MANY_LEAVES, RECORD,
    RECORD_FILLED, RECORD_WORD, SCORED, SCORED_LEAF,
};

/// A way through the postings of a shelf. All give the same hits.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Strategy {
    /// Which records match is found out window by window, and they are counted.
    Count,
    /// Records that may match are asked one by one; the rarest of what has to match leads.
    ByRecord,
    /// The records that match are known, and each of them is scored.
    OfMatches,
    /// The records that match are known, and come in another order than that of scores.
    InOrder,
    /// Windows end where blocks do, and those whose bounds are too low are passed over.
    BestOfAny,
    /// The rarest word leads, and the others are asked for what it has.
    BestOfAll,
    /// Windows of a fixed size; words that can't bring a record to the front together are looked up.
    SomeWords,
    /// Every posting is scored.
    EveryPosting,
    /// Which records match phrases is found out first; then every posting is scored.
    WithPhrases,
}

impl Strategy {
    /// What a report calls it.
    pub(in crate::search) fn name(self) -> &'static str {
        match self {
            Self::Count => "count",
            Self::ByRecord => "by record",
            Self::OfMatches => "of matches",
            Self::InOrder => "in order",
            Self::BestOfAny => "best of any",
            Self::BestOfAll => "best of all",
            Self::SomeWords => "some words",
            Self::EveryPosting => "every posting",
            Self::WithPhrases => "with phrases",
        }
    }
}

/// What choosing needs to know of a query in a shelf.
#[derive(Clone, Debug, Default)]
#[expect(clippy::struct_excessive_bools, reason = "each is a fact of its own")]
pub(in crate::search) struct Statistics {
    /// Whether scores decide about the order.
    pub by_score: bool,
    /// How many hits are wanted.
    pub limit: usize,
    /// How many matches are wanted to be counted, and whether it is known how many there are.
    pub to_count: u64,
    pub is_counted: bool,
    /// The records of the shelf, and about how many have to be looked at to find all that match.
    pub records: u64,
    pub candidates: u64,
    /// Leaves and tests of the query.
    pub leaves: usize,
    /// The words that score, the lists of their terms, the blocks and the postings of these, and those of the rarest word.
    pub words: usize,
    pub lists: usize,
    pub blocks: u64,
    pub postings: u64,
    pub rarest: u64,
    /// Whether the words that a record has decide its score.
    pub words_decide: bool,
    /// Whether a record matches as soon as it has one of the words, and whether it needs all of several.
    pub any_will_do: bool,
    pub all_are_needed: bool,
    /// Whether phrases of common words are looked for, which are better found in many records at once.
    pub has_common_phrases: bool,
    /// Whether the lists of all words are unpacked.
    pub are_unpacked: bool,
    /// Whether it counts how near words stand.
    pub has_proximity: bool,
    /// How many records match, once they are known.
    pub matches: Option<u64>,
}

/// When it is found out for many records at once which of them match.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::search) enum Matches {
    /// Never, or they are known already.
    Unknown,
    /// Before anything else; then it is chosen again.
    First,
    /// Window by window, as far as records may come to the front.
    AsNeeded,
}

/// What was chosen.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::search) struct Choice {
    pub strategy: Strategy,
    pub matches: Matches,
    /// So many records may be scored one by one though they may not come to the front, before phrases are found out first.
    pub most_rough: u64,
}

/// Chooses; takes what is wished, for tests, where it can be had.
pub(in crate::search) fn choose(statistics: &Statistics, wish: Option<Strategy>) -> Choice {
    let wish = wish.filter(|wish| statistics.allow(*wish));
    let strategy = wish.unwrap_or_else(|| statistics.cheapest());
    let are_looked_for = statistics.matches.is_none()
        && match wish {
            Some(wish) => matches!(wish, Strategy::OfMatches | Strategy::InOrder),
            None => statistics.look_for_matches(strategy),
        };
    let matches = match (are_looked_for, statistics.sees_all()) {
        (false, _) => Matches::Unknown,
        (true, true) => Matches::First,
        (true, false) => Matches::AsNeeded,
    };
    Choice { strategy, matches, most_rough: statistics.most_rough(strategy, wish) }
}

impl Statistics {
    /// Whether a strategy can be had.
    fn allow(&self, strategy: Strategy) -> bool {
        let scores = self.by_score && self.limit > 0 && self.words > 0;
        match strategy {
            Strategy::Count => self.limit == 0,
            Strategy::ByRecord => self.limit > 0,
            Strategy::OfMatches => self.by_score && self.limit > 0,
            Strategy::InOrder => !self.by_score && self.limit > 0,
            Strategy::BestOfAll => scores && self.all_are_needed && self.matches.is_none(),
            Strategy::WithPhrases => scores && self.has_phrases(),
            Strategy::BestOfAny | Strategy::SomeWords | Strategy::EveryPosting => scores,
        }
    }

    /// Whether words count only in records that match a phrase, which can be found out first.
    pub fn has_phrases(&self) -> bool {
        !self.words_decide && !self.has_proximity
    }

    fn cheapest(&self) -> Strategy {
        if self.limit == 0 {
            return Strategy::Count;
        }
        let by_words = self.by_score && self.words > 0 && (self.all_are_needed || self.pays_by_words());
        if !by_words {
            return match self.matches.is_some() || self.is_filled() {
                true if self.by_score => Strategy::OfMatches,
                true => Strategy::InOrder,
                false => Strategy::ByRecord,
            };
        }
        let (each, lists) = (if self.words_decide { 1 } else { SCORED_LEAF }, self.lists as u64);
        match self.matches {
            Some(matches) if matches.saturating_mul(SCORED + lists * each) < self.postings => {
                Strategy::OfMatches
            }
            // Scoring all of them takes less than asking where they may not score.
            _ if self.all_are_needed
                && self.are_unpacked
                && self.words_decide
                && (self.sees_all() || !self.has_common_phrases) =>
            {
                Strategy::OfMatches
            }
            // Many lists are gone through once rather than asked for each record that the rarest word has.
            None if self.all_are_needed
                && self.rarest.saturating_mul(lists) <= self.postings.saturating_mul(ASKED_FOR_ALL) =>
            {
                Strategy::BestOfAll
            }
            _ => self.of_words(),
        }
    }

    /// The cheapest way to go through lists of which any will do.
    fn of_words(&self) -> Strategy {
        let many = self.lists > FEW_LISTS;
        let ends_near =
            self.blocks.saturating_mul(self.lists as u64).saturating_mul(AT_BLOCK_ENDS) > self.records;
        // Going through all postings of a word, or of many, counts the records, too.
        let counts = self.to_count > 0 && !self.is_counted && self.matches.is_none();
        let strategy = if counts && (self.words == 1 || self.lists > COUNTED_LISTS) {
            Strategy::EveryPosting
        } else if self.words > 1 && (many || ends_near) {
            Strategy::SomeWords
        } else if many {
            Strategy::EveryPosting
        } else {
            Strategy::BestOfAny
        };
        let all_at_once = strategy == Strategy::EveryPosting || self.lists == 1;
        if all_at_once && self.has_phrases() && self.postings >= FEW_POSTINGS {
            return Strategy::WithPhrases;
        }
        strategy
    }

    /// Whether going through the postings of the words takes less than asking the records that may match.
    fn pays_by_words(&self) -> bool {
        let each = if self.is_filled() { RECORD_FILLED } else { RECORD } + RECORD_WORD * self.words as u64;
        self.candidates.saturating_mul(each) > self.postings
    }

    /// Whether all that match are counted.
    fn sees_all(&self) -> bool {
        self.to_count == u64::MAX
    }

    /// Whether it takes less to find out window by window which records match than to ask each of them.
    fn is_filled(&self) -> bool {
        let in_windows = self.postings.saturating_add(self.records);
        // In another order than that of scores, and where no word scores, all that match are looked at, if they are counted.
        let sees_all = (!self.by_score || self.words == 0)
            && self.sees_all()
            && (self.candidates.saturating_mul(RECORD_FILLED) > in_windows || self.has_common_phrases);
        let asked = self.candidates.saturating_mul(self.leaves as u64).saturating_mul(ASKED);
        sees_all || self.leaves > MANY_LEAVES && asked > in_windows
    }

    fn look_for_matches(&self, strategy: Strategy) -> bool {
        match strategy {
            Strategy::Count | Strategy::ByRecord => false,
            Strategy::OfMatches | Strategy::InOrder => true,
            // Where all that match are counted anyway, that is found out first, unless scoring tells it.
            _ => {
                let is_told = self.is_counted || self.all_are_needed || self.any_will_do;
                // And where each record would be asked for many words.
                let is_wide = self.leaves > MANY_LEAVES && !self.all_are_needed && !self.any_will_do;
                is_wide || self.sees_all() && (self.has_common_phrases || !is_told)
            }
        }
    }

    fn most_rough(&self, strategy: Strategy, wish: Option<Strategy>) -> u64 {
        match wish {
            _ if !self.has_phrases() => u64::MAX,
            Some(Strategy::SomeWords) => 3,
            Some(_) => u64::MAX,
            None if self.postings < FEW_POSTINGS || strategy == Strategy::EveryPosting => u64::MAX,
            None => self.postings / (SCORED + self.lists as u64 * SCORED_LEAF),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Two words of a large shelf, ten hits of which are wanted, and all that match are counted.
    fn two_words() -> Statistics {
        Statistics {
            by_score: true,
            limit: 10,
            to_count: u64::MAX,
            records: 1 << 20,
            candidates: 50_000,
            leaves: 2,
            words: 2,
            lists: 2,
            blocks: 400,
            postings: 50_000,
            rarest: 10_000,
            words_decide: true,
            any_will_do: true,
            ..Statistics::default()
        }
    }

    fn chosen(statistics: &Statistics) -> (Strategy, Matches) {
        let choice = choose(statistics, None);
        (choice.strategy, choice.matches)
    }

    #[test]
    fn what_is_asked_decides() {
        let any = two_words();
        assert_eq!(chosen(&any), (Strategy::BestOfAny, Matches::Unknown));
        let all = Statistics { all_are_needed: true, any_will_do: false, candidates: 10_000, ..any.clone() };
        assert_eq!(chosen(&all), (Strategy::BestOfAll, Matches::Unknown));
        assert_eq!(chosen(&Statistics { are_unpacked: true, ..all }), (Strategy::OfMatches, Matches::First));
        assert_eq!(chosen(&Statistics { limit: 0, ..any.clone() }), (Strategy::Count, Matches::Unknown));
        assert_eq!(
            chosen(&Statistics { by_score: false, ..any.clone() }),
            (Strategy::ByRecord, Matches::Unknown)
        );
        let each = Statistics { by_score: false, candidates: 1 << 19, ..any.clone() };
        assert_eq!(chosen(&each), (Strategy::InOrder, Matches::First));
        assert_eq!(
            chosen(&Statistics { candidates: 10, ..any.clone() }),
            (Strategy::ByRecord, Matches::Unknown)
        );
        assert_eq!(chosen(&Statistics { lists: 40, ..any.clone() }), (Strategy::SomeWords, Matches::Unknown));
        let none = Statistics { words: 0, postings: 0, candidates: 1 << 20, ..any.clone() };
        assert_eq!(chosen(&none), (Strategy::OfMatches, Matches::First));
        let forms = Statistics { words: 1, lists: 3, ..any.clone() };
        assert_eq!(chosen(&forms), (Strategy::EveryPosting, Matches::Unknown));
        assert_eq!(chosen(&Statistics { to_count: 0, ..forms }), (Strategy::BestOfAny, Matches::Unknown));
    }

    #[test]
    fn what_matches_is_found_first_where_it_is_counted_anyway() {
        let filtered = Statistics { any_will_do: false, ..two_words() };
        assert_eq!(choose(&filtered, None).matches, Matches::First);
        let not_counted = Statistics { to_count: 5, ..filtered.clone() };
        assert_eq!(choose(&not_counted, None).matches, Matches::Unknown);
        let wide = Statistics { leaves: 40, ..not_counted };
        assert_eq!(choose(&wide, None).matches, Matches::AsNeeded);
        let few = Statistics { matches: Some(20), ..filtered.clone() };
        assert_eq!(chosen(&few), (Strategy::OfMatches, Matches::Unknown));
        let many = Statistics { matches: Some(40_000), ..filtered };
        assert_eq!(chosen(&many), (Strategy::BestOfAny, Matches::Unknown));
    }

    #[test]
    fn a_wish_is_granted_where_it_can_be() {
        let wished = |statistics: &Statistics, wish| choose(statistics, Some(wish)).strategy;
        assert_eq!(wished(&two_words(), Strategy::EveryPosting), Strategy::EveryPosting);
        assert_eq!(wished(&two_words(), Strategy::BestOfAll), Strategy::BestOfAny, "not all are needed");
        assert_eq!(wished(&two_words(), Strategy::WithPhrases), Strategy::BestOfAny, "there are none");
        assert_eq!(choose(&two_words(), Some(Strategy::OfMatches)).matches, Matches::First);
        let phrases = Statistics { words_decide: false, ..two_words() };
        assert_eq!(wished(&phrases, Strategy::WithPhrases), Strategy::WithPhrases);
        assert_eq!(choose(&phrases, Some(Strategy::SomeWords)).most_rough, 3);
        assert!((1..u64::MAX).contains(&choose(&phrases, None).most_rough));
    }
}
