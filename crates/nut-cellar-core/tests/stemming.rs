//! Stems are those of the Snowball project, word by word, in every language that there are vectors for
//! (`crates/nut-cellar-yardstick/stem_vectors.py` makes them and says how they are written).
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use nut_cellar_core::text::{Accents, TextSettings};
use nut_cellar_core::{Language, Recipe};
use std::collections::BTreeMap;

#[test]
fn every_stem_is_the_vectors_own() {
    let mut words_of: BTreeMap<String, u32> = BTreeMap::new();
    let bytes = lz4_flex::block::decompress_size_prepended(include_bytes!("data/stems.lz4")).unwrap();
    let mut recipe = None;
    let mut word = Vec::new();
    for line in str::from_utf8(&bytes).unwrap().lines() {
        let [front, rest, kept, other] = line.split('\t').collect::<Vec<_>>()[..] else {
            let settings = TextSettings {
                accents: Some(Accents::Keep),
                ..TextSettings::of(Language::new(line).unwrap())
            };
            recipe = Some((line.to_owned(), Recipe::of(&settings)));
            word.clear();
            continue;
        };
        let (code, recipe) = recipe.as_ref().unwrap();
        word.truncate(front.parse().unwrap());
        word.extend(from_hex(rest));
        let mut stem = word[..kept.parse().unwrap()].to_vec();
        stem.extend(from_hex(other));
        let key = recipe.key_of(str::from_utf8(&word).unwrap()).unwrap();
        assert_eq!(key.as_bytes(), stem, "{code}: {}", String::from_utf8_lossy(&word));
        *words_of.entry(code.clone()).or_default() += 1;
    }
    assert_eq!(words_of.len(), 17);
    assert!(words_of.values().all(|words| *words == 5_500), "{words_of:?}");
}

fn from_hex(text: &str) -> impl Iterator<Item = u8> {
    text.as_bytes().chunks(2).map(|pair| u8::from_str_radix(str::from_utf8(pair).unwrap(), 16).unwrap())
}
