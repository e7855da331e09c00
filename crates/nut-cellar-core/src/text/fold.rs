//! Folding: compatibility forms (NFKC) and letter case away, so that `ＡＢＣ`, `Abc` and `abc` are one word.
//!
//! Case folding is the full, language-independent one of the Unicode Standard (section 3.13). Accents stay.

use icu_casemap::{CaseMapper, CaseMapperBorrowed};
use icu_normalizer::{ComposingNormalizer, ComposingNormalizerBorrowed};

const NORMAL: ComposingNormalizerBorrowed<'static> = ComposingNormalizer::new_nfkc();
const CASES: CaseMapperBorrowed<'static> = CaseMapper::new();

/// Writes the folded form of `word` to `out`, which is emptied first.
pub(super) fn fold(word: &str, out: &mut String) {
    out.clear();
    if word.is_ascii() {
        out.push_str(word);
        out.make_ascii_lowercase();
        return;
    }
    let normal = NORMAL.normalize(word);
    let folded = CASES.fold_string(&normal);
    // Folding a normalised text can leave a sequence that composes (Unicode 3.13, D145): normalise once more.
    out.push_str(&NORMAL.normalize(&folded));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn case_and_compatibility_forms_go_and_accents_stay() {
        let mut out = String::new();
        for (word, folded) in [
            ("Umbrella", "umbrella"),
            ("STRASSE", "strasse"),
            ("Straße", "strasse"),
            ("ＡＢＣ", "abc"),
            ("ﬁne", "fine"),
            ("CAFE\u{301}", "café"),
            ("Σίσυφος", "σίσυφοσ"),
            ("ｶﾞ", "ガ"),
        ] {
            fold(word, &mut out);
            assert_eq!(out, folded);
        }
    }

    proptest::proptest! {
        #[test]
        fn folding_twice_changes_nothing_more(word: String) {
            let (mut once, mut twice) = (String::new(), String::new());
            fold(&word, &mut once);
            fold(&once, &mut twice);
            proptest::prop_assert_eq!(once, twice);
        }
    }
}
