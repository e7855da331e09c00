//! Which language a text is in, where a column asks for it and the feature `detection` is on (the crate `whatlang`,
//! after Cavnar & Trenkle, 1994: the commonest runs of three letters).
//!
//! Only a text is asked, from its start, and never a query; the same text always gives the same answer, since the crate is
//! pinned and its version stands in the schema.

use super::Language;

/// The detector and its version, as a schema names it; none without the feature.
pub(super) const NAME: Option<&str> = if cfg!(feature = "detection") { Some("whatlang 0.18") } else { None };

/// Shorter texts, in bytes, say too little.
#[cfg(feature = "detection")]
const SHORTEST: usize = 64;
/// This much of a text is looked at, in bytes.
#[cfg(feature = "detection")]
const START: usize = 2048;

/// Which of several languages, by code, the text is in, if that is at least `percent` % sure.
#[cfg(feature = "detection")]
pub(super) fn language_of<'c>(
    text: &str,
    codes: impl Iterator<Item = &'c str>,
    percent: u8,
) -> Option<&'c str> {
    let start = &text[..text.floor_char_boundary(START)];
    if start.len() < SHORTEST {
        return None;
    }
    let among: Vec<_> = codes.filter_map(|code| Some((lang(code)?, code))).collect();
    let detector = whatlang::Detector::with_allowlist(among.iter().map(|(lang, _)| *lang).collect());
    let found = detector.detect(start).filter(|info| info.confidence() * 100.0 >= f64::from(percent))?;
    among.into_iter().find(|(lang, _)| *lang == found.lang()).map(|(_, code)| code)
}

#[cfg(not(feature = "detection"))]
pub(super) fn language_of<'c>(_: &str, _: impl Iterator<Item = &'c str>, _: u8) -> Option<&'c str> {
    None
}

impl Language {
    /// The language of a text, told from its first 2,048 bytes, if the detector is at least so many percent sure; none for texts of less than
    /// 64 bytes. Takes the feature `detection`; without it there is never one.
    pub fn detected(text: &str, percent: u8) -> Option<Self> {
        language_of(text, Self::all().map(|(code, _)| code), percent).map(Self::named)
    }
}

/// Whether a language can be told from others.
#[cfg(feature = "detection")]
pub(super) fn knows(code: &str) -> bool {
    lang(code).is_some()
}

#[cfg(not(feature = "detection"))]
pub(super) fn knows(_: &str) -> bool {
    false
}

/// The crate's name of a language.
#[cfg(feature = "detection")]
fn lang(code: &str) -> Option<whatlang::Lang> {
    use whatlang::Lang;
    Some(match code {
        "ar" => Lang::Ara,
        "az" => Lang::Aze,
        "bg" => Lang::Bul,
        "ca" => Lang::Cat,
        "cs" => Lang::Ces,
        "da" => Lang::Dan,
        "de" => Lang::Deu,
        "el" => Lang::Ell,
        "en" => Lang::Eng,
        "eo" => Lang::Epo,
        "es" => Lang::Spa,
        "et" => Lang::Est,
        "fa" => Lang::Pes,
        "fi" => Lang::Fin,
        "fr" => Lang::Fra,
        "he" => Lang::Heb,
        "hi" => Lang::Hin,
        "hr" => Lang::Hrv,
        "hu" => Lang::Hun,
        "hy" => Lang::Hye,
        "id" => Lang::Ind,
        "it" => Lang::Ita,
        "ja" => Lang::Jpn,
        "km" => Lang::Khm,
        "ko" => Lang::Kor,
        "lt" => Lang::Lit,
        "my" => Lang::Mya,
        "nb" => Lang::Nob,
        "ne" => Lang::Nep,
        "nl" => Lang::Nld,
        "pl" => Lang::Pol,
        "pt" => Lang::Por,
        "ro" => Lang::Ron,
        "ru" => Lang::Rus,
        "sk" => Lang::Slk,
        "sl" => Lang::Slv,
        "sr" => Lang::Srp,
        "sv" => Lang::Swe,
        "ta" => Lang::Tam,
        "th" => Lang::Tha,
        "tr" => Lang::Tur,
        "uk" => Lang::Ukr,
        "vi" => Lang::Vie,
        "yi" => Lang::Yid,
        "zh" => Lang::Cmn,
        _ => return None,
    })
}

#[cfg(all(test, feature = "detection"))]
mod tests {
    use super::*;

    #[test]
    fn a_long_text_tells_its_language_and_a_short_one_does_not() {
        let among = || ["en", "de", "fr"].into_iter();
        let german =
            "Ein schwarzer Regenschirm mit einem Griff aus Holz, gefunden im letzten Wagen des Abendzugs.";
        let french =
            "Un parapluie noir avec une poignée en bois, trouvé dans la dernière voiture du train du soir.";
        assert_eq!(language_of(german, among(), 80), Some("de"));
        assert_eq!(language_of(french, among(), 80), Some("fr"));
        assert_eq!(language_of("Ein schwarzer Regenschirm", among(), 80), None);
        assert_eq!(language_of(&"1031 ".repeat(50), among(), 0), None);
        assert_eq!(language_of(&german.repeat(10_000), among(), 80), Some("de"));
        assert_eq!(language_of(german, ["ga"].into_iter(), 0), None);
    }

    #[test]
    fn no_two_languages_are_told_as_one() {
        let known: Vec<_> = Language::all().filter_map(|(code, _)| lang(code)).collect();
        let different: std::collections::HashSet<_> = known.iter().collect();
        assert!(known.len() == different.len() && known.len() >= 44, "{}", known.len());
    }
}
