//! What different tired people write: each clerk has a manner, and some of them misspell.

use super::grammar::{Given, Grammar};
use crate::random::Random;

/// A clerk: the rule of the grammar, how often of a hundred items they write, and how often of a thousand words they
/// get wrong.
struct Clerk {
    rule: &'static str,
    share: u64,
    slips: u64,
}

const CLERKS: [Clerk; 10] = [
    Clerk { rule: "wordy", share: 34, slips: 2 },
    Clerk { rule: "terse", share: 20, slips: 8 },
    Clerk { rule: "lists", share: 14, slips: 2 },
    Clerk { rule: "sleepy", share: 12, slips: 40 },
    Clerk { rule: "loud", share: 6, slips: 15 },
    Clerk { rule: "de", share: 4, slips: 0 },
    Clerk { rule: "fr", share: 3, slips: 0 },
    Clerk { rule: "es", share: 3, slips: 0 },
    Clerk { rule: "fi", share: 2, slips: 0 },
    Clerk { rule: "ja", share: 2, slips: 0 },
];

/// What one of the clerks writes about an item.
pub fn description(grammar: &Grammar, random: &mut Random, given: &Given<'_>) -> String {
    let mut draw = random.below(CLERKS.iter().map(|clerk| clerk.share).sum());
    let clerk = CLERKS.iter().find(|clerk| {
        let chosen = draw < clerk.share;
        draw = draw.wrapping_sub(clerk.share);
        chosen
    });
    let clerk = clerk.unwrap_or(&CLERKS[0]);
    let text = with_articles(&grammar.expand(random, given, clerk.rule));
    with_slips(random, &text, clerk.slips)
}

/// The text with `an` for `a` where English wants it.
pub fn with_articles(text: &str) -> String {
    let mut words = text.split(' ').peekable();
    let mut out = String::with_capacity(text.len());
    while let Some(word) = words.next() {
        out.push_str(word);
        let Some(next) = words.peek() else { break };
        let vowel = next.starts_with(['a', 'e', 'i', 'o', 'u']) && !next.starts_with("uk");
        out.push_str(if vowel && matches!(word, "a" | "A") { "n " } else { " " });
    }
    out
}

/// The text with some words misspelt: two letters swapped, one doubled, or one left out.
fn with_slips(random: &mut Random, text: &str, per_thousand: u64) -> String {
    let slip = |random: &mut Random, word: &str| {
        let mut letters: Vec<char> = word.chars().collect();
        if letters.len() < 5 || !letters.iter().all(|letter| letter.is_alphabetic()) {
            return word.to_owned();
        }
        let at = 1 + random.place(letters.len() - 3);
        match random.below(3) {
            0 => letters.swap(at, at + 1),
            1 => letters.insert(at, letters[at]),
            _ => {
                letters.remove(at);
            }
        }
        letters.into_iter().collect()
    };
    let words = text
        .split(' ')
        .map(|word| if random.below(1_000) < per_thousand { slip(random, word) } else { word.to_owned() });
    words.collect::<Vec<_>>().join(" ")
}
