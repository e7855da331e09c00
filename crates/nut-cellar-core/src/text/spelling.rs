//! Words that differ from one by a few typing mistakes: a character too many, one missing, another one, or two neighbours
//! swapped (Damerau 1964; Levenshtein 1966; a swap counts as one and its two characters are not changed again).
//!
//! A state has for each number of mistakes the set of places in the word that may have been reached, as bits, and a step
//! moves all of them at once (Wu & Manber, "Fast text searching allowing errors", 1992, with swaps added).

use super::automaton::{Automaton, least, successor};

/// The most mistakes.
const MOST_MISTAKES: usize = 2;
/// The longest word, in characters, in which mistakes are looked for: one bit each, and one for the end.
const LONGEST: usize = 62;
/// Shorter words are taken as they are: almost any other of their length is near.
const SHORTEST: usize = 3;
/// Words from so many characters on may have two mistakes.
const LONG: usize = 8;
/// What the dictionary finds words by has so many characters.
const RUN: usize = 3;

/// For each word that it looks at, it and the beginnings that it rules out before take about so many times as long as a pattern takes.
const EFFORT: u64 = 12;

/// A word and how many mistakes there may be in it.
///
/// ```
/// use nut_cellar_core::text::{Spelling, accepts};
///
/// let near = Spelling::of("umbrela", 0);
/// assert_eq!(near.mistakes(), 1);
/// assert!(accepts(&near, "umbrella") && accepts(&near, "umberla") && !accepts(&near, "umbrellas"));
/// assert_eq!(near.distance("umbrella"), Some(1));
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Spelling {
    characters: Vec<char>,
    mistakes: usize,
    /// For each different character where it stands.
    masks: Vec<(char, u64)>,
    /// The places at which there may be a mistake.
    open: u64,
    beginning: String,
}

/// What is known after a beginning of a word: for each number of mistakes the places that were reached, and those at which
/// the second of two swapped characters has been read.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Reached {
    places: [u64; MOST_MISTAKES + 1],
    swapping: [u64; MOST_MISTAKES + 1],
}

impl Spelling {
    /// A word with as many mistakes as its length allows: one from three characters on, two from eight. Its first `first`
    /// characters have to be right.
    pub fn of(word: &str, first: usize) -> Self {
        let mistakes = match word.chars().count() {
            ..SHORTEST => 0,
            SHORTEST..LONG => 1,
            LONG..=LONGEST => 2,
            _ => 0,
        };
        Self::with(word, mistakes, first)
    }

    fn with(word: &str, mistakes: usize, first: usize) -> Self {
        let characters: Vec<_> = word.chars().collect();
        let mut masks = Vec::<(char, u64)>::new();
        if mistakes > 0 {
            for (place, character) in characters.iter().enumerate() {
                match masks.iter_mut().find(|(known, _)| known == character) {
                    Some((_, mask)) => *mask |= 1 << place,
                    None => masks.push((*character, 1 << place)),
                }
            }
        }
        let right = if mistakes == 0 { characters.len() } else { first };
        let beginning = characters.iter().take(right).collect();
        let open = if mistakes == 0 { 0 } else { u64::MAX << first.min(LONGEST) };
        Self { characters, mistakes, masks, open, beginning }
    }

    /// How many mistakes there may be.
    pub fn mistakes(&self) -> usize {
        self.mistakes
    }

    /// How many mistakes there are in a word, if they are not too many.
    pub fn distance(&self, word: &str) -> Option<usize> {
        if self.mistakes == 0 {
            return word.chars().eq(self.characters.iter().copied()).then_some(0);
        }
        let last = word.chars().try_fold(self.start(), |state, next| self.step(&state, next))?;
        (0..=self.mistakes).find(|mistakes| last.places[*mistakes] >> self.characters.len() & 1 == 1)
    }
}

impl Automaton for Spelling {
    type State = Reached;

    fn start(&self) -> Reached {
        let mut start = Reached::default();
        for (mistakes, places) in start.places.iter_mut().enumerate().take(self.mistakes + 1) {
            // Characters that are missing at the beginning.
            *places = if self.open & 1 == 1 { (2 << mistakes) - 1 } else { u64::from(mistakes == 0) };
        }
        start
    }

    fn step(&self, state: &Reached, next: char) -> Option<Reached> {
        if self.mistakes == 0 {
            // Too long for bits, or exact: the places are a count.
            let place = usize::try_from(state.places[0] - 1).ok()?;
            let goes_on = self.characters.get(place) == Some(&next);
            return goes_on.then(|| Reached { places: [state.places[0] + 1, 0, 0], ..*state });
        }
        let mask = self.masks.iter().find(|(known, _)| *known == next).map_or(0, |(_, mask)| *mask);
        let all = (2 << self.characters.len()) - 1;
        let mut moved = Reached::default();
        let mut reached = 0;
        for mistakes in 0..=self.mistakes {
            let mut places = (state.places[mistakes] & mask) << 1;
            if mistakes > 0 {
                let before = state.places[mistakes - 1] & self.open;
                let now = moved.places[mistakes - 1] & self.open;
                // One too many, another one, one missing, and the end of a swap.
                places |= before | before << 1 | now << 1 | (state.swapping[mistakes] & mask) << 2;
                moved.swapping[mistakes] = before & mask >> 1;
            }
            moved.places[mistakes] = places & all;
            reached |= moved.places[mistakes] | moved.swapping[mistakes];
        }
        (reached != 0).then_some(moved)
    }

    fn next(&self, state: &Reached, passed: char) -> Option<char> {
        // Where there may be one mistake more, it may be any character.
        if state.places[..self.mistakes].iter().any(|places| places & self.open != 0) {
            return successor(passed);
        }
        least(self, state, passed, self.characters.iter().copied())
    }

    fn accepts(&self, state: &Reached) -> bool {
        if self.mistakes == 0 {
            return state.places[0] == self.characters.len() as u64 + 1;
        }
        state.places.iter().any(|places| places >> self.characters.len() & 1 == 1)
    }

    fn effort(&self) -> u64 {
        if self.mistakes == 0 { 1 } else { EFFORT }
    }

    fn beginning(&self) -> &str {
        &self.beginning
    }

    /// A mistake touches two neighbours at most. So of parts of the word with a character between them, one more than there
    /// may be mistakes, one is as it was.
    fn runs(&self) -> Vec<Vec<String>> {
        let parts = self.mistakes + 1;
        let letters = self.characters.len().saturating_sub(self.mistakes);
        if self.mistakes == 0 || letters < parts * RUN {
            return Vec::new();
        }
        let mut start = 0;
        (0..parts)
            .map(|part| {
                let length = letters / parts + usize::from(part < letters % parts);
                let run: String = self.characters[start..start + length].iter().collect();
                start += length + 1;
                vec![run]
            })
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::super::automaton::accepts;
    use super::*;
    use proptest::prelude::*;

    /// The table of the textbook.
    fn distance(a: &[char], b: &[char]) -> usize {
        let mut table = vec![vec![0; b.len() + 1]; a.len() + 1];
        for i in 0..=a.len() {
            for j in 0..=b.len() {
                table[i][j] = match (i, j) {
                    (0, _) => j,
                    (_, 0) => i,
                    _ => {
                        let change = table[i - 1][j - 1] + usize::from(a[i - 1] != b[j - 1]);
                        let mut least = change.min(table[i - 1][j] + 1).min(table[i][j - 1] + 1);
                        if i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1] {
                            least = least.min(table[i - 2][j - 2] + 1);
                        }
                        least
                    }
                };
            }
        }
        table[a.len()][b.len()]
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 2_000, ..ProptestConfig::default() })]

        #[test]
        fn what_is_accepted_is_what_the_table_says(
            word in "[abcé]{0,14}",
            others in prop::collection::vec("[abcé]{0,14}", 8),
            edits in prop::collection::vec((0_usize..14, 0_usize..4, "[abé]"), 0..3),
            first in 0_usize..3,
        ) {
            let near = Spelling::of(&word, first);
            let letters: Vec<char> = word.chars().collect();
            let mut edited = letters.clone();
            for (place, kind, letter) in edits {
                let letter = letter.chars().next().unwrap();
                let place = if edited.is_empty() { 0 } else { place % edited.len() };
                match kind {
                    0 => edited.insert(place, letter),
                    1 if !edited.is_empty() => drop(edited.remove(place)),
                    2 if place + 1 < edited.len() => edited.swap(place, place + 1),
                    _ if !edited.is_empty() => edited[place] = letter,
                    _ => {}
                }
            }
            let right: String = if near.mistakes() == 0 { word.clone() } else { letters.iter().take(first).collect() };
            for other in others.into_iter().chain([edited.into_iter().collect()]) {
                let real = distance(&letters, &other.chars().collect::<Vec<_>>());
                let expected = (real <= near.mistakes() && other.starts_with(&right)).then_some(real);
                prop_assert_eq!(near.distance(&other), expected, "{} {}", word, other);
                prop_assert_eq!(accepts(&near, &other), expected.is_some());
                if expected.is_some() {
                    let runs = near.runs();
                    let has = |set: &Vec<String>| set.iter().all(|run| other.contains(run));
                    prop_assert!(runs.is_empty() || runs.iter().any(has), "{:?} {}", runs, other);
                }
            }
        }
    }

    #[test]
    fn very_long_words_are_taken_as_they_are() {
        let word = "é".repeat(80);
        let near = Spelling::of(&word, 0);
        assert_eq!((near.mistakes(), near.distance(&word)), (0, Some(0)));
        assert!(accepts(&near, &word) && !accepts(&near, &word[2..]));
    }
}
