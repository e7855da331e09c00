//! Folding: compatibility forms (NFKC) and letter case away, so that `ＡＢＣ`, `Abc` and `abc` are one word.
//!
//! Case folding is the full one of the Unicode Standard (section 3.13), for Turkish and Azerbaijani in the Turkic
//! variant, where I is the capital of ı. The typeset apostrophe becomes the typed one,
//! and what is invisible goes. Accents stay.

use icu_casemap::{CaseMapper, CaseMapperBorrowed};
use icu_normalizer::{ComposingNormalizer, ComposingNormalizerBorrowed};

const NORMAL: ComposingNormalizerBorrowed<'static> = ComposingNormalizer::new_nfkc();
const CASES: CaseMapperBorrowed<'static> = CaseMapper::new();

/// Writes the folded form of `word` to `out`, which is emptied first.
pub(super) fn fold(word: &str, turkic: bool, out: &mut String) {
    out.clear();
    if word.is_ascii() && !(turkic && word.contains('I')) {
        out.push_str(word);
        out.make_ascii_lowercase();
        return;
    }
    let normal = NORMAL.normalize(word);
    let folded = if turkic { CASES.fold_turkic_string(&normal) } else { CASES.fold_string(&normal) };
    let seen: String = folded.chars().filter(|letter| !is_ignorable(*letter)).collect();
    // Folding a normalised text can leave a sequence that composes (Unicode 3.13, D145), and so can taking characters
    // out: normalise once more.
    let normal = NORMAL.normalize(&seen);
    // The apostrophe as it is typeset and as it is typed.
    out.extend(normal.chars().map(|letter| if matches!(letter, '’' | '‘') { '\'' } else { letter }));
}

/// Whether a character is invisible and means nothing for a word: soft hyphens, joiners, marks of direction, variation
/// selectors (the property `Default_Ignorable_Code_Point`, which `NFKC_Casefold` takes out as well).
fn is_ignorable(letter: char) -> bool {
    matches!(letter,
        '\u{ad}' | '\u{34f}' | '\u{61c}' | '\u{115f}'..='\u{1160}' | '\u{17b4}'..='\u{17b5}' | '\u{180b}'..='\u{180f}'
        | '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{3164}'
        | '\u{fe00}'..='\u{fe0f}' | '\u{feff}' | '\u{ffa0}' | '\u{fff0}'..='\u{fff8}' | '\u{1bca0}'..='\u{1bca3}'
        | '\u{1d173}'..='\u{1d17a}' | '\u{e0000}'..='\u{e0fff}')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn case_and_compatibility_forms_go_and_accents_stay() {
        let mut out = String::new();
        for (word, turkic, folded) in [
            ("Umbrella", false, "umbrella"),
            ("STRASSE", false, "strasse"),
            ("Straße", false, "strasse"),
            ("ＡＢＣ", false, "abc"),
            ("ﬁne", false, "fine"),
            ("CAFE\u{301}", false, "café"),
            ("Σίσυφος", false, "σίσυφοσ"),
            ("ｶﾞ", false, "ガ"),
            ("don’t", false, "don't"),
            ("Regen\u{ad}schirm\u{202e}", false, "regenschirm"),
            ("cafe\u{34f}\u{301}", false, "café"),
            ("ISPARTA", false, "isparta"),
            ("ISPARTA", true, "ısparta"),
            ("İstanbul", true, "istanbul"),
        ] {
            fold(word, turkic, &mut out);
            assert_eq!(out, folded);
        }
    }

    proptest::proptest! {
        #[test]
        fn folding_twice_changes_nothing_more(word: String, turkic: bool) {
            let (mut once, mut twice) = (String::new(), String::new());
            fold(&word, turkic, &mut once);
            fold(&once, turkic, &mut twice);
            proptest::prop_assert_eq!(once, twice);
        }
    }
}
