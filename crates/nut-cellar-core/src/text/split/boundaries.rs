//! Word boundaries as UAX #29 draws them by default, fast where text is plain.
//!
//! Words of ASCII are found by bit masks where nothing next to them has a say. Letters of the Latin, Greek and Cyrillic
//! blocks, digits and common punctuation are decided by a table of classes; a stretch with any other character is handed
//! to the crate `unicode-segmentation`, from the character before it up to a place that is surely a boundary. Every
//! character is looked at a few times at most.

use super::TakeRuns;
use super::blocks::Blocks;
use std::sync::LazyLock;
use unicode_segmentation::UnicodeSegmentation;

/// What a character is to the rules. `Complex` is whatever the table does not decide.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Class {
    Other,
    Letter,
    Digit,
    /// Connects letters and digits: the underscore.
    Connector,
    MidLetter,
    MidNumber,
    /// Stands between letters as well as between digits: full stop, apostrophe.
    MidBoth,
    Complex,
}

/// Where two-byte sequences of UTF-8 end.
const TWO_BYTES: usize = 0x800;
/// After a complex character, this many plain ones in a row end a stretch.
const PLAIN_AGAIN: usize = 24;

static CLASSES: LazyLock<[Class; TWO_BYTES]> = LazyLock::new(|| {
    let mut classes = [Class::Complex; TWO_BYTES];
    for (code, class) in (0_u32..).zip(&mut classes) {
        let Some(character) = char::from_u32(code) else { continue };
        *class = match character {
            '0'..='9' => Class::Digit,
            '_' => Class::Connector,
            ':' | '·' => Class::MidLetter,
            ',' | ';' => Class::MidNumber,
            '.' | '\'' => Class::MidBoth,
            // Marks that stand alone, and the soft hyphen: some of them are letters to the rules.
            '¨' | '\u{ad}' | '¯' | '´' | '¸' => Class::Complex,
            '\0'..='\u{24f}'
            | '\u{250}'..='\u{2af}'
            | '\u{370}'..='\u{373}'
            | '\u{376}'..='\u{37d}'
            | '\u{386}'
            | '\u{388}'..='\u{3ff}'
            | '\u{400}'..='\u{482}'
            | '\u{48a}'..='\u{52f}' => {
                match character {
                    _ if character.is_alphabetic() => Class::Letter,
                    // Superscripts and fractions: words to us, and nothing to the rules.
                    _ if character.is_alphanumeric() => Class::Complex,
                    _ => Class::Other,
                }
            }
            _ => Class::Complex,
        };
    }
    classes
});

/// The class of the character at a byte, and how many bytes it has.
fn class_at(classes: &[Class; TWO_BYTES], bytes: &[u8], at: usize) -> (Class, usize) {
    let first = bytes[at];
    match first {
        0..0x80 => (classes[usize::from(first)], 1),
        0xc2..0xe0 => {
            let code = usize::from(first & 0x1f) << 6 | usize::from(bytes[at + 1] & 0x3f);
            (classes[code], 2)
        }
        0xe0..0xf0 => {
            let class = match [bytes[at], bytes[at + 1], bytes[at + 2]] {
                // Dashes, quotation marks and the ellipsis, as people type them.
                [0xe2, 0x80, 0x93 | 0x94 | 0x9c | 0x9d | 0x9e | 0xa6] => Class::Other,
                [0xe2, 0x80, 0x98 | 0x99] => Class::MidBoth,
                _ => Class::Complex,
            };
            (class, 3)
        }
        _ => (Class::Complex, 4),
    }
}

/// Gives each run of a text to `take`: a word by UAX #29 that holds a letter or a digit, or a run of a script without
/// spaces, which has to be split by other means.
#[inline]
pub(super) fn runs(text: &str, unspaced: bool, take: &mut impl TakeRuns) {
    let mut blocks = Blocks::new(text.as_bytes());
    // The end of the last word or stretch: a boundary.
    let mut floor = 0;
    while let Some(start) = blocks.sure_words(|word| {
        floor = word.end;
        take.plain(word);
    }) {
        let at;
        (floor, at) = by_the_rules(text, floor, start, unspaced, take);
        blocks.go_on(at);
    }
}

/// Gives what begins at a character that is no plain end of words. Tells the last boundary, and where to go on.
#[inline(never)]
fn by_the_rules(
    text: &str,
    floor: usize,
    at: usize,
    unspaced: bool,
    take: &mut impl TakeRuns,
) -> (usize, usize) {
    let (bytes, classes) = (text.as_bytes(), &*CLASSES);
    let (class, length) = class_at(classes, bytes, at);
    let end = match class {
        Class::Letter | Class::Digit | Class::Connector => match word_end(classes, bytes, at) {
            Some((end, alphanumeric)) => {
                if alphanumeric {
                    take.word(at..end);
                }
                end
            }
            None => stretch(text, at, at, unspaced, take),
        },
        Class::Complex => stretch(text, segment_start(text, floor, at), at, unspaced, take),
        _ => return (floor, at + length),
    };
    (end, end)
}

/// Where the segment begins that a complex character may belong to: at the character before it, and at the first of
/// spaces in a row, which are one segment to the rules; not before `floor`.
fn segment_start(text: &str, floor: usize, complex: usize) -> usize {
    let before = &text[floor..complex];
    let Some(last) = before.chars().next_back() else { return floor };
    if last == ' ' { floor + before.trim_end_matches(' ').len() } else { complex - last.len_utf8() }
}

/// The end of the word that begins at a letter, digit or connector, and whether there is a letter or digit in it; none
/// if a complex character has a say.
fn word_end(classes: &[Class; TWO_BYTES], bytes: &[u8], start: usize) -> Option<(usize, bool)> {
    let (mut class, length) = class_at(classes, bytes, start);
    let mut end = start + length;
    let mut alphanumeric = class != Class::Connector;
    loop {
        // Plain letters first: they are most of most words.
        if class == Class::Letter {
            end += bytes[end..].iter().take_while(|byte| byte.is_ascii_alphabetic()).count();
        }
        if end == bytes.len() {
            break;
        }
        let (next, length) = class_at(classes, bytes, end);
        match (class, next) {
            (_, Class::Letter | Class::Digit | Class::Connector) => {
                alphanumeric |= next != Class::Connector;
                (class, end) = (next, end + length);
            }
            (Class::Letter, Class::MidLetter | Class::MidBoth)
            | (Class::Digit, Class::MidNumber | Class::MidBoth) => {
                let after = end + length;
                if after == bytes.len() {
                    break;
                }
                match class_at(classes, bytes, after) {
                    (Class::Complex, _) => return None,
                    (beyond, length) if beyond == class => end = after + length,
                    _ => break,
                }
            }
            (_, Class::Complex) => return None,
            _ => break,
        }
    }
    Some((end, alphanumeric))
}

/// Hands over from `start`, a boundary, up to a boundary after the complex character at `complex`, which it gives.
fn stretch(text: &str, start: usize, complex: usize, unspaced: bool, take: &mut impl TakeRuns) -> usize {
    let end = stretch_end(text, complex);
    let mut at = start;
    while at < end {
        let rest = &text[at..end];
        let is_run = |character| unspaced && super::unspaced::is_unspaced(character);
        let run = rest.find(|character| !is_run(character)).unwrap_or(rest.len());
        if run > 0 {
            take.unspaced(at..at + run, &rest[..run]);
            at += run;
            continue;
        }
        let spaced = rest.find(is_run).unwrap_or(rest.len());
        for (offset, word) in rest[..spaced].unicode_word_indices() {
            take.word(at + offset..at + offset + word.len());
        }
        at += spaced;
    }
    end
}

/// The first place after `from` that is surely a boundary (between a space and a plain character that is none) and is
/// in a run of plain characters.
fn stretch_end(text: &str, from: usize) -> usize {
    let (bytes, classes) = (text.as_bytes(), &*CLASSES);
    let (mut at, mut plain, mut boundary) = (from, 0, None);
    while at < bytes.len() {
        let (class, length) = class_at(classes, bytes, at);
        if class == Class::Complex {
            (plain, boundary) = (0, None);
        } else {
            plain += 1;
            if plain > 1 && boundary.is_none() && bytes[at - 1] == b' ' && !bytes[at].is_ascii_whitespace() {
                boundary = Some(at);
            }
            if plain >= PLAIN_AGAIN
                && let Some(boundary) = boundary
            {
                return boundary;
            }
        }
        at += length;
    }
    bytes.len()
}

#[cfg(test)]
mod tests {
    use super::super::TakeWords;
    use super::*;
    use proptest::prelude::*;
    use std::ops::Range;

    struct Words<'t>(&'t str, Vec<(Range<usize>, &'t str)>);

    impl TakeWords for Words<'_> {
        fn plain(&mut self, range: Range<usize>) {
            assert!(self.0[range.clone()].bytes().all(|byte| byte.is_ascii_alphanumeric()));
            self.word(range);
        }

        fn word(&mut self, range: Range<usize>) {
            self.1.push((range.clone(), &self.0[range]));
        }
    }

    fn words(text: &str) -> Vec<(Range<usize>, &str)> {
        let mut words = Words(text, Vec::new());
        runs(text, false, &mut words);
        words.1
    }

    fn plain(text: &str) -> Vec<(Range<usize>, &str)> {
        text.unicode_word_indices().map(|(at, word)| (at..at + word.len(), word)).collect()
    }

    /// Characters of every class, and of those that the rules treat in a way of their own.
    fn texts() -> impl Strategy<Value = String> {
        let character = prop_oneof![
            4 => prop::sample::select(vec!['a', 'Z', '0', '9', '_', '.', ',', ':', ';', '\'', '"', '-', ' ', '\n', '\r']),
            2 => prop::sample::select(vec!['é', 'ß', 'Ж', 'й', 'λ', '·', '×', '’', '‘', '“', '–', '…', '\u{a0}', '\u{ad}']),
            1 => prop::sample::select(vec![
                '\u{301}', '\u{200d}', '\u{200b}', '\u{feff}', '傘', 'カ', 'の', 'ก', 'א', '״', '😀', '🇩', '🇪', '\u{fe0f}', '٣',
                '،', '한', '\u{2060}', '\u{e000}', 'ﬁ', '\u{387}', '\u{345}', '\u{483}', '\u{2024}', '\u{37a}', '\u{37e}',
            ]),
            1 => any::<char>(),
            1 => (0_u32..0x800).prop_filter_map("a character", char::from_u32),
        ];
        let word = "[a-zäöü]{1,9}|[0-9]{1,4}[.,][0-9]{1,2}";
        let piece = prop_oneof![2 => prop::collection::vec(character, 0..12).prop_map(|c| c.into_iter().collect::<String>()), 1 => word];
        prop::collection::vec(piece, 0..9).prop_map(|pieces| pieces.join(" "))
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 4_000, ..ProptestConfig::default() })]

        #[test]
        fn words_are_those_of_the_slow_way(text in texts()) {
            prop_assert_eq!(words(&text), plain(&text));
        }
    }

    /// Each character of the table, in every neighbourhood that the rules know.
    #[test]
    fn every_plain_character_is_classed_as_the_slow_way_does() {
        for character in ('\0'..'\u{800}').chain('\u{2000}'..'\u{2070}') {
            for (left, right) in [
                ("a", "b"),
                ("1", "2"),
                ("a", "1"),
                (" ", " "),
                ("_", "_"),
                ("a.", "b"),
                ("1,", "2"),
                ("", ""),
            ] {
                for tail in ["", " and a run of plain characters behind"] {
                    let text = format!("{left}{character}{right}{tail}");
                    assert_eq!(words(&text), plain(&text), "{text:?}");
                }
            }
        }
    }

    /// The Unicode Consortium's own test. It speaks of all segments; words are those with a letter or a digit in them.
    #[test]
    fn words_are_those_of_the_unicode_test_file() {
        let file = include_str!("../../../tests/data/WordBreakTest-15.0.0.txt");
        let mut tested = 0;
        for line in file.lines().filter(|line| line.starts_with('÷')) {
            let (rule, _) = line.split_once('#').unwrap();
            let (mut text, mut ends) = (String::new(), Vec::new());
            for part in rule.split_whitespace() {
                match part {
                    "÷" => ends.push(text.len()),
                    "×" => {}
                    code => text.push(char::from_u32(u32::from_str_radix(code, 16).unwrap()).unwrap()),
                }
            }
            let segments = ends.windows(2).map(|ends| ends[0]..ends[1]);
            let expected: Vec<_> = segments
                .map(|range| (range.clone(), &text[range]))
                .filter(|(_, segment)| segment.contains(char::is_alphanumeric))
                .collect();
            // The one deviation: U+2701 has not been a pictograph since version 15.1 of the standard.
            if !text.contains("a\u{200d}\u{2701}") {
                assert_eq!(words(&text), expected, "{line}");
            }
            tested += 1;
        }
        assert_eq!(tested, 1_823);
    }
}
