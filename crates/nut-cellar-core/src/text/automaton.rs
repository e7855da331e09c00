//! What reads a word character by character and says whether it is one of those that are looked for.

/// An automaton over characters. It has no state of its own; a state is what it knows after a beginning of a word.
pub trait Automaton {
    /// What is known after a beginning of a word.
    type State: Clone;

    /// What is known before the first character.
    fn start(&self) -> Self::State;

    /// What is known after one character more; none if no word that begins so is looked for.
    fn step(&self, state: &Self::State, next: char) -> Option<Self::State>;

    /// Of the characters behind one the least that may follow, as far as is known: none of those in between may.
    fn next(&self, _state: &Self::State, passed: char) -> Option<char> {
        successor(passed)
    }

    /// Whether the word that ends here is looked for.
    fn accepts(&self, state: &Self::State) -> bool;

    /// Whether every word that begins so is looked for; never true where one is not.
    fn accepts_all(&self, _state: &Self::State) -> bool {
        false
    }

    /// How long it takes to read a word, beside the fastest.
    fn effort(&self) -> u64 {
        1
    }

    /// What every word that is looked for begins with; may be empty.
    fn beginning(&self) -> &str;

    /// Sets of runs of characters: every word that is looked for has all runs of one of the sets. A zero character at the
    /// end of a run stands for the end of the word. No set: nothing is known.
    fn runs(&self) -> Vec<Vec<String>>;
}

/// The character behind one.
pub(super) fn successor(character: char) -> Option<char> {
    (character..=char::MAX).nth(1)
}

/// The least of some characters behind one that may follow.
pub(super) fn least<A: Automaton>(
    automaton: &A,
    state: &A::State,
    passed: char,
    characters: impl Iterator<Item = char>,
) -> Option<char> {
    characters.filter(|next| *next > passed && automaton.step(state, *next).is_some()).min()
}

/// Whether an automaton accepts a word.
pub fn accepts<A: Automaton>(automaton: &A, word: &str) -> bool {
    let last = word.chars().try_fold(automaton.start(), |state, next| automaton.step(&state, next));
    last.is_some_and(|state| automaton.accepts(&state))
}

#[cfg(test)]
mod tests {
    use super::super::{Pattern, Spelling};
    use super::*;
    use proptest::prelude::*;

    /// Between a character and the next that an automaton names none may follow, whatever was read before.
    fn none_between<A: Automaton>(automaton: &A, read: &str, passed: char) {
        let mut state = automaton.start();
        for next in read.chars().map(Some).chain([None]) {
            let named = automaton.next(&state, passed).unwrap_or(char::MAX);
            for between in "abcdéêz\u{10fffe}".chars().filter(|between| (passed..named).contains(between)) {
                assert!(between == passed || automaton.step(&state, between).is_none(), "{between}");
            }
            match next.and_then(|next| automaton.step(&state, next)) {
                Some(after) => state = after,
                None => break,
            }
        }
    }

    proptest! {
        #[test]
        fn no_character_that_may_follow_is_passed_over(
            word in "[abcdé]{0,9}",
            pattern in "[abcdé?*]{0,6}",
            read in "[abcdé]{0,9}",
            first in 0_usize..3,
            passed in "[a-dzéê]",
        ) {
            let passed = passed.chars().next().unwrap();
            none_between(&Spelling::of(&word, first), &read, passed);
            none_between(&Pattern::new(&pattern).unwrap(), &read, passed);
        }
    }
}
