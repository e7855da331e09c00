//! Folding: compatibility forms (NFKC) and letter case away, so that `ＡＢＣ`, `Abc` and `abc` are one word.
//!
//! Case folding is the full one of the Unicode Standard (section 3.13), for Turkish and Azerbaijani in the Turkic
//! variant, where I is the capital of ı. The typeset apostrophe becomes the typed one. Accents stay.

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
    // Folding a normalised text can leave a sequence that composes (Unicode 3.13, D145): normalise once more.
    let normal = NORMAL.normalize(&folded);
    // The apostrophe as it is typeset and as it is typed.
    out.extend(normal.chars().map(|letter| if matches!(letter, '’' | '‘') { '\'' } else { letter }));
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
