//! What reads a word character by character and says whether it is one of those that are looked for.

/// An automaton over characters. It has no state of its own; a state is what it knows after a beginning of a word.
pub trait Automaton {
    /// What is known after a beginning of a word.
    type State: Clone;

    /// What is known before the first character.
    fn start(&self) -> Self::State;

    /// What is known after one character more; none if no word that begins so is looked for.
    fn step(&self, state: &Self::State, next: char) -> Option<Self::State>;

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

/// Whether an automaton accepts a word.
pub fn accepts<A: Automaton>(automaton: &A, word: &str) -> bool {
    let last = word.chars().try_fold(automaton.start(), |state, next| automaton.step(&state, next));
    last.is_some_and(|state| automaton.accepts(&state))
}
