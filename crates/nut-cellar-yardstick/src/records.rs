//! Records of the same kind as the demo's items, as many as wanted, in bounded memory.
//!
//! Word frequencies fall about as Zipf's law has it, with no last word: the more records, the larger the vocabulary. Words have forms
//! about as English ones do.
//! Each record depends on the seed and its number alone.

use crate::random::Random;
use serde::Serialize;
use std::io::{self, Write};

/// The word of rank r, from 1, comes up about as often as (r + SHIFT)^-EXPONENT says (Zipf's law with Mandelbrot's
/// shift). With these, a million records of 14 million words have about
/// 900,000 different ones, as many as real records of their length.
const EXPONENT: f64 = 1.25;
const SHIFT: f64 = 4.0;
/// Ranks are drawn from below this.
const RANKS: f64 = 5e8;
/// Of so many made-up words one has no other form, one has all of these, and the others the first.
const KINDS: u64 = 3;
const FORMS: [&str; 3] = ["s", "ed", "ing"];
/// In so many of a hundred places a word that has other forms is in one of them.
const IN_FORMS: u64 = 35;

/// The most frequent words, in order of rank.
const FREQUENT: [&str; 64] = [
    "the",
    "a",
    "of",
    "and",
    "in",
    "with",
    "on",
    "found",
    "by",
    "umbrella",
    "black",
    "box",
    "brass",
    "handle",
    "left",
    "walnut",
    "bag",
    "to",
    "train",
    "platform",
    "one",
    "is",
    "case",
    "small",
    "brown",
    "glove",
    "gloves",
    "scarf",
    "red",
    "old",
    "key",
    "keys",
    "blue",
    "two",
    "leather",
    "clasp",
    "hat",
    "oak",
    "no",
    "name",
    "green",
    "ticket",
    "under",
    "seat",
    "worn",
    "pair",
    "grey",
    "book",
    "silver",
    "torn",
    "tin",
    "label",
    "inside",
    "strap",
    "from",
    "wooden",
    "lid",
    "buttons",
    "coat",
    "at",
    "hinge",
    "wet",
    "umbrellas",
    "boxes",
];

const CATEGORIES: [&str; 8] =
    ["umbrellas", "bags", "clothing", "boxes", "instruments", "books", "toys", "oddities"];
const COLOURS: [&str; 8] = ["black", "navy blue", "red", "grey", "brown", "cream", "white", "silver"];
const STATUSES: [&str; 4] = ["waiting", "claimed", "sent on", "auctioned"];

/// A record.
#[derive(Serialize)]
pub struct Item {
    /// Its key.
    pub id: u64,
    /// Two to five words.
    pub title: String,
    /// Four to seventy words.
    pub description: String,
    /// One of a few.
    pub category: &'static str,
    colour: &'static str,
    station_id: u64,
    /// A day.
    pub found_on: String,
    /// What it is worth.
    pub value_pence: u64,
    status: &'static str,
    updated_at: String,
}

/// Writes `count` records as NDJSON.
///
/// # Errors
/// If `out` can't be written.
pub fn write(out: &mut impl Write, count: u64, seed: u64) -> io::Result<()> {
    for id in 1..=count {
        serde_json::to_writer(&mut *out, &item(id, seed))?;
        out.write_all(b"\n")?;
    }
    out.flush()
}

/// The record of a number.
pub fn item(id: u64, seed: u64) -> Item {
    let mut random = Random::for_record(seed, id);
    let random = &mut random;
    let title_words = 2 + random.below(4);
    // Most descriptions are short and a few are long.
    let words = 4 + random.below(8) + if random.chance(10) { random.below(60) } else { 0 };
    let day = format!("20{}-{:02}-{:02}", 31 + random.below(9), 1 + random.below(12), 1 + random.below(28));
    Item {
        id,
        title: text(random, title_words),
        description: text(random, words),
        category: random.pick(&CATEGORIES),
        colour: random.pick(&COLOURS),
        station_id: 1 + random.below(14),
        value_pence: 25 * (1 + random.below(400)),
        status: random.pick(&STATUSES),
        updated_at: format!("{day}T{:02}:{:02}:00Z", 8 + random.below(11), random.below(60)),
        found_on: day,
    }
}

fn text(random: &mut Random, words: u64) -> String {
    let mut text = String::new();
    for place in 0..words {
        if place > 0 {
            text.push(' ');
        }
        let rank = rank(random);
        put_word(&mut text, rank);
        let forms = match rank % KINDS {
            _ if rank < FREQUENT.len() as u64 => &[],
            0 => &[],
            1 => &FORMS[..],
            _ => &FORMS[..1],
        };
        if !forms.is_empty() && random.chance(IN_FORMS) {
            text.push_str(random.pick(forms));
        }
    }
    text
}

/// A rank from 0, by the inverse of the distribution of a power law with bounds.
fn rank(random: &mut Random) -> u64 {
    let flat = 1.0 - EXPONENT;
    let (low, high) = ((1.0 + SHIFT).powf(flat), (RANKS + SHIFT).powf(flat));
    let drawn = (low + random.unit() * (high - low)).powf(1.0 / flat) - SHIFT;
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "between 1 and RANKS")]
    let rank = drawn as u64;
    rank.saturating_sub(1)
}

/// The word of a rank: a frequent one, or at least three syllables that no other rank has. So a word and the space behind it
/// take 5.8 bytes on average, a little less than in real descriptions.
fn put_word(out: &mut String, rank: u64) {
    let frequent = usize::try_from(rank).ok().and_then(|rank| FREQUENT.get(rank));
    if let Some(word) = frequent {
        return out.push_str(word);
    }
    let mut rest = rank;
    for syllable in 0.. {
        if syllable > 2 && rest == 0 {
            return;
        }
        let [consonant, vowel] = [rest % 20, rest / 20 % 5].map(|place| usize::try_from(place).unwrap_or(0));
        out.push(char::from(b"bcdfghjklmnprstvwxyz"[consonant]));
        out.push(char::from(b"aeiou"[vowel]));
        rest /= 100;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use nut_cellar_core::text::{Reading, TextSettings};
    use nut_cellar_core::{Language, Recipe};
    use std::collections::HashMap;

    fn words(count: u64) -> HashMap<String, u64> {
        let mut words = HashMap::new();
        for id in 1..=count {
            for word in item(id, 7).description.split(' ') {
                *words.entry(word.to_owned()).or_default() += 1;
            }
        }
        words
    }

    #[test]
    fn the_vocabulary_grows_and_frequencies_fall() {
        let (small, large) = (words(1_000), words(20_000));
        assert!(large.len() > 4 * small.len(), "{} and {} words", small.len(), large.len());
        assert!(large["the"] > 3 * large["left"]);
        assert!(large["left"] > large["boxes"]);
    }

    /// A word that is drawn from the texts has almost two forms in the mean, as in English (more in more records); a frequent one more
    /// than a rare one.
    #[test]
    fn words_have_forms() {
        let english =
            TextSettings { reading: Some(Reading::Whole), ..TextSettings::of(Language::new("en").unwrap()) };
        let recipe = Recipe::of(&TextSettings { stem: Some(true), ..english });
        let mut forms: HashMap<String, (u64, u64)> = HashMap::new();
        for (word, count) in words(20_000).iter().filter(|(word, _)| word.len() > 3) {
            let (different, all) = forms.entry(recipe.trace(word)[0].term.clone()).or_default();
            *different += 1;
            *all += count;
        }
        let mean = |of: &dyn Fn(u64) -> bool| {
            let of = forms.values().filter(|(_, all)| of(*all));
            let (forms, words) =
                of.fold((0, 0), |sum, (different, all)| (sum.0 + different * all, sum.1 + all));
            forms as f64 / words as f64
        };
        let (of_all, rare, frequent) =
            (mean(&|_| true), mean(&|all| all <= 5), mean(&|all| (50..500).contains(&all)));
        assert!((1.5..2.1).contains(&of_all), "{of_all}");
        assert!(rare < 1.3 && frequent > 2.0, "{rare} and {frequent}");
    }

    #[test]
    fn a_record_depends_on_seed_and_number_alone() {
        let mut all = Vec::new();
        write(&mut all, 50, 3).unwrap();
        let lines: Vec<_> = str::from_utf8(&all).unwrap().lines().collect();
        assert_eq!(lines.len(), 50);
        assert_eq!(lines[41], serde_json::to_string(&item(42, 3)).unwrap());
        assert_ne!(lines[41], serde_json::to_string(&item(42, 4)).unwrap());
    }
}
