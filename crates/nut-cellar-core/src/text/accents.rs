//! Accents: folded away after stemming, since the stemmers want them, so that `cafe` finds `café` and `lodz` finds `Łódź`.
//!
//! What is taken off are the marks of Latin and Greek letters (U+0300 to U+036F); the letters in a small table have no
//! decomposition and are replaced. Letters of a language's own stay, as do the marks of every other script.

use icu_normalizer::{
    ComposingNormalizer, ComposingNormalizerBorrowed, DecomposingNormalizer, DecomposingNormalizerBorrowed,
};

const COMPOSE: ComposingNormalizerBorrowed<'static> = ComposingNormalizer::new_nfc();
const DECOMPOSE: DecomposingNormalizerBorrowed<'static> = DecomposingNormalizer::new_nfd();

/// What stands for a letter that does not decompose.
fn plain(letter: char) -> Option<&'static str> {
    Some(match letter {
        'ø' => "o",
        'ł' => "l",
        'đ' | 'ð' => "d",
        'ħ' => "h",
        'ŧ' => "t",
        'ı' => "i",
        'æ' => "ae",
        'œ' => "oe",
        'ß' => "ss",
        'þ' => "th",
        'ŋ' => "n",
        // The one accented letter of Cyrillic that people leave plain.
        'ё' => "е",
        _ => return None,
    })
}

/// Replaces a folded word by the same without accents, but for letters of the language's own.
pub(super) fn fold(word: &mut String, own_letters: &str) {
    if word.is_ascii() {
        return;
    }
    let mut out = String::with_capacity(word.len());
    for letter in word.chars() {
        if letter.is_ascii() || own_letters.contains(letter) {
            out.push(letter);
        } else if let Some(plain) = plain(letter) {
            out.push_str(plain);
        } else {
            put_bare(&mut out, letter);
        }
    }
    if *out != **word {
        *word = COMPOSE.normalize(&out).into_owned();
    }
}

/// A letter without its accent, if it has one.
pub(super) fn without_accent(letter: char) -> char {
    if letter.is_ascii() {
        return letter;
    }
    let mut word = letter.to_string();
    fold(&mut word, "");
    word.chars().next().unwrap_or(letter)
}

/// The letter without its marks, if it is Latin or Greek.
fn put_bare(out: &mut String, letter: char) {
    let mut bytes = [0; 4];
    let whole = letter.encode_utf8(&mut bytes);
    let parts = DECOMPOSE.normalize(whole);
    let base = parts.chars().next().unwrap_or(letter);
    let bare = matches!(base, 'a'..='z' | 'ı' | 'α'..='ω' | '\u{300}'..='\u{36f}');
    out.extend(parts.chars().filter(|part| !bare || !matches!(part, '\u{300}'..='\u{36f}')));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn accents_go_and_letters_of_their_own_stay() {
        for (word, own_letters, folded) in [
            ("café", "", "cafe"),
            ("łódź", "", "lodz"),
            ("smørrebrød", "", "smorrebrod"),
            ("smørrebrød", "åæø", "smørrebrød"),
            ("señorita", "ñ", "señorita"),
            ("über", "", "uber"),
            ("œuvre", "", "oeuvre"),
            ("σίσυφοσ", "", "σισυφοσ"),
            ("йод", "й", "йод"),
            ("ёлка", "й", "елка"),
            ("がぎ", "", "がぎ"),
            ("हिन्दी", "", "हिन्दी"),
            ("e\u{301}te\u{301}", "", "ete"),
            ("ệ", "", "e"),
            ("plain", "", "plain"),
        ] {
            let mut out = word.to_owned();
            fold(&mut out, own_letters);
            assert_eq!(out, folded, "{word}");
        }
    }
}
