//! What a typing mistake costs: slips of the fingers less than others.
//!
//! The least cost of all ways from what was typed to what was meant, each letter changed once (the table of R. Wagner and M. Fischer,
//! "The String-to-String Correction Problem", 1974, with swaps):
//!
//! | mistake | costs |
//! | --- | --- |
//! | two neighbours in each other's place; a letter twice, or a double one once; an accent; an apostrophe | ½ |
//! | a letter that is beside the right one on a keyboard, instead or as well | ¾ |
//! | any other | 1 |
//! | if it is in the first letter, besides | ½ |

use super::accents::without_accent;

const SLIP: f32 = 0.5;
const BESIDE: f32 = 0.75;
const ANY: f32 = 1.0;
const FIRST: f32 = 0.5;

/// The rows of keyboards. Which one somebody has is not known.
pub(crate) const LAYOUTS: [[&str; 3]; 5] = [
    ["qwertyuiop", "asdfghjkl", "zxcvbnm"],
    ["qwertzuiopü", "asdfghjklöä", "yxcvbnm"],
    ["azertyuiop", "qsdfghjklm", "wxcvbn"],
    ["йцукенгшщзхъ", "фывапролджэ", "ячсмитьбю"],
    ["ςερτυθιοπ", "ασδφγηξκλ", "ζχψωβνμ"],
];

/// Whether two letters are side by side in a row of a keyboard.
fn are_beside(a: char, b: char) -> bool {
    let place = |row: &str, letter: char| row.chars().position(|other| other == letter);
    LAYOUTS.iter().flatten().any(|row| {
        place(row, a).zip(place(row, b)).is_some_and(|(first, second)| first.abs_diff(second) == 1)
    })
}

/// What it costs that one letter stands for another.
fn other(typed: char, meant: char) -> f32 {
    match () {
        () if typed == meant => 0.0,
        () if without_accent(typed) == without_accent(meant) => SLIP,
        () if are_beside(typed, meant) => BESIDE,
        () => ANY,
    }
}

/// What it costs that a letter is there and should not be, or should be and is not: `text` is the one that has it, at a place.
fn one_more(text: &[char], at: usize) -> f32 {
    let letter = text[at];
    let neighbours = || [at.checked_sub(1), Some(at + 1)].into_iter().flatten().filter_map(|at| text.get(at));
    match () {
        () if matches!(letter, '\'' | '’') || neighbours().any(|other| *other == letter) => SLIP,
        () if neighbours().any(|other| are_beside(*other, letter)) => BESIDE,
        () => ANY,
    }
}

/// What the mistakes cost of somebody who typed one word and meant another.
pub(crate) fn cost(typed: &str, meant: &str) -> f32 {
    let [typed, meant] = [typed, meant].map(|word| word.chars().collect::<Vec<_>>());
    let first = |i: usize, j: usize| if i == 0 || j == 0 { FIRST } else { 0.0 };
    let width = meant.len() + 1;
    let mut table = vec![0.0_f32; (typed.len() + 1) * width];
    for i in 0..=typed.len() {
        for j in 0..=meant.len() {
            let mut least = if i == 0 && j == 0 { 0.0 } else { f32::INFINITY };
            if i > 0 {
                least = least.min(table[(i - 1) * width + j] + one_more(&typed, i - 1) + first(i - 1, 1));
            }
            if j > 0 {
                least = least.min(table[i * width + j - 1] + one_more(&meant, j - 1) + first(1, j - 1));
            }
            if i > 0 && j > 0 {
                let cost = other(typed[i - 1], meant[j - 1]);
                let first = if cost > 0.0 { first(i - 1, j - 1) } else { 0.0 };
                least = least.min(table[(i - 1) * width + j - 1] + cost + first);
            }
            if i > 1 && j > 1 && typed[i - 1] == meant[j - 2] && typed[i - 2] == meant[j - 1] {
                least = least.min(table[(i - 2) * width + j - 2] + SLIP + first(i - 2, j - 2));
            }
            table[i * width + j] = least;
        }
    }
    table[typed.len() * width + meant.len()]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn slips_cost_less() {
        for (typed, meant, expected) in [
            ("walnut", "walnut", 0.0),
            ("wlanut", "walnut", 0.5),
            ("walnutt", "walnut", 0.5),
            ("umbrela", "umbrella", 0.5),
            ("cafe", "café", 0.5),
            ("dont", "don't", 0.5),
            ("walnit", "walnut", 0.75),
            ("walnuit", "walnut", 0.75),
            ("walnxt", "walnut", 1.0),
            ("walnt", "walnut", 1.0),
            ("awlnut", "walnut", 1.0),
            ("qalnut", "walnut", 1.25),
            ("palnut", "walnut", 1.5),
            ("alnut", "walnut", 1.5),
            ("wxlnxt", "walnut", 2.0),
        ] {
            assert_eq!(cost(typed, meant).to_bits(), f32::to_bits(expected), "{typed} for {meant}");
        }
    }
}
