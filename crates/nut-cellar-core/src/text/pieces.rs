//! Pieces: what a reading cuts out of a text before the other steps see it. Beside the parts of a compound stands the
//! whole, at the position of its first part, so that both are found.
//!
//! What always holds: positions never fall, each position has one part, and a whole spans at least two of them.

use super::settings::Reading;
use super::split::{self, TakeWords};
use std::ops::Range;

/// A part or a whole.
pub(super) struct Piece<'p> {
    /// As it stands in the text, but for hyphens.
    pub raw: &'p str,
    /// Where it stands.
    pub range: Range<usize>,
    /// The position of its first part.
    pub position: u32,
    /// How many positions it takes: 1 for a part.
    pub span: u32,
}

/// Told the pieces of a text.
pub(super) trait TakePieces {
    /// A part of letters and digits of ASCII, shorter than 64 bytes: where it stands, and its position.
    fn plain(&mut self, range: Range<usize>, position: u32);

    /// Any other piece.
    fn piece(&mut self, piece: Piece<'_>);
}

/// Where hyphenated words are put together; used again from text to text.
#[derive(Clone, Debug, Default)]
pub(super) struct Compound {
    parts: Vec<Range<usize>>,
    whole: String,
}

/// How pieces are cut.
#[derive(Clone, Copy, Debug)]
pub(super) struct Cut {
    pub reading: Reading,
    /// Whether symbols are words.
    pub symbols: bool,
}

/// Gives each piece of a text to `take`; tells how many positions there are. Takes time in proportion to the text.
#[inline]
pub(super) fn pieces(
    Cut { reading, symbols }: Cut,
    text: &str,
    compound: &mut Compound,
    take: &mut impl TakePieces,
) -> u32 {
    let mut cutter =
        Cutter { text, symbols, offset: 0, position: 0, compound: std::mem::take(compound), take };
    match reading {
        Reading::Words => cutter.words(0..text.len()),
        Reading::Code => cutter.code(),
        Reading::Web => cutter.web(),
        Reading::Whole => cutter.value(),
    }
    *compound = cutter.compound;
    cutter.position
}

struct Cutter<'t, T> {
    text: &'t str,
    symbols: bool,
    /// Where the words that are being read begin in the text.
    offset: usize,
    position: u32,
    compound: Compound,
    take: &'t mut T,
}

impl<T: TakePieces> TakeWords for Cutter<'_, T> {
    #[inline]
    fn plain(&mut self, range: Range<usize>) {
        if !self.compound.parts.is_empty() {
            return self.word(range);
        }
        let position = self.position;
        self.position += 1;
        self.take.plain(range.start + self.offset..range.end + self.offset, position);
    }

    fn word(&mut self, range: Range<usize>) {
        let word = range.start + self.offset..range.end + self.offset;
        if let Some(last) = self.compound.parts.last() {
            // Pairs of characters of a script without spaces overlap.
            if matches!(self.text.get(last.end..word.start), Some("-" | "‐" | "‑")) {
                return self.compound.parts.push(word);
            }
            self.end_compound();
        }
        // Only what a hyphen may follow has to wait for the next word.
        match self.text.as_bytes().get(word.end) {
            Some(b'-' | 0xe2) => self.compound.parts.push(word),
            _ => self.part(word),
        }
    }
}

impl<T: TakePieces> Cutter<'_, T> {
    /// Words; those that only hyphens stand between are parts of one.
    #[inline]
    fn words(&mut self, range: Range<usize>) {
        self.offset = range.start;
        split::words(&self.text[range], self.symbols, self);
        self.end_compound();
    }

    /// Gives the parts of a hyphenated word, and the whole without hyphens unless it is all digits; empties the list.
    fn end_compound(&mut self) {
        let Compound { mut parts, mut whole } = std::mem::take(&mut self.compound);
        if let [first, .., last] = &parts[..] {
            let range = first.start..last.end;
            if self.text[range.clone()].contains(char::is_alphabetic) {
                whole.clear();
                whole.extend(parts.iter().map(|part| &self.text[part.clone()]));
                self.give(&whole, range, parts.len());
            }
        }
        for part in parts.drain(..) {
            self.part(part);
        }
        self.compound = Compound { parts, whole };
    }

    /// Identifiers, versions and paths: what white space, brackets, quotation marks and operators stand between.
    fn code(&mut self) {
        let outside = |c: char| c.is_whitespace() || "()[]{}<>\"'`,;=|&!*?%^~".contains(c);
        for chunk in chunks(self.text, outside) {
            let chunk = trimmed(self.text, chunk, |c| !c.is_alphanumeric() && c != '_');
            let mut parts = Vec::new();
            for run in chunks(&self.text[chunk.clone()], |c| !c.is_alphanumeric()) {
                let run = run.start + chunk.start..run.end + chunk.start;
                humps(self.text, run, &mut parts);
            }
            self.whole_and_parts(chunk, &parts, |text, whole| chunks(&text[whole], |c| c == '/').collect());
        }
    }

    /// Words, and addresses among them.
    fn web(&mut self) {
        let outside = |c: char| c.is_whitespace() || "()[]{}<>\"',;".contains(c);
        let mut plain = 0;
        for chunk in chunks(self.text, outside) {
            let chunk = trimmed(self.text, chunk, |c| !c.is_alphanumeric() && c != '/');
            if !is_address(&self.text[chunk.clone()]) {
                continue;
            }
            self.words(plain..chunk.start);
            plain = chunk.end;
            let parts = chunks(&self.text[chunk.clone()], |c| !c.is_alphanumeric());
            let parts: Vec<_> = parts.map(|part| part.start + chunk.start..part.end + chunk.start).collect();
            self.whole_and_parts(chunk, &parts, |text, whole| host(&text[whole]).into_iter().collect());
        }
        self.words(plain..self.text.len());
    }

    /// The value as one piece.
    fn value(&mut self) {
        let value = trimmed(self.text, 0..self.text.len(), char::is_whitespace);
        if !value.is_empty() {
            self.part(value);
        }
    }

    /// Gives a compound as it stands, what `inner` finds in it (counted from its beginning), and its parts.
    fn whole_and_parts(
        &mut self,
        whole: Range<usize>,
        parts: &[Range<usize>],
        inner: impl Fn(&str, Range<usize>) -> Vec<Range<usize>>,
    ) {
        let text = self.text;
        if parts.len() > 1 {
            self.give(&text[whole.clone()], whole.clone(), parts.len());
        }
        let inner: Vec<_> = inner(text, whole.clone())
            .into_iter()
            .map(|range| range.start + whole.start..range.end + whole.start)
            .filter(|range| *range != whole)
            .collect();
        let mut inner = inner.into_iter().peekable();
        for (place, part) in parts.iter().enumerate() {
            while let Some(range) = inner.next_if(|range| range.start <= part.start) {
                let span = parts[place..].iter().take_while(|part| part.end <= range.end).count();
                if span > 1 {
                    self.give(&text[range.clone()], range, span);
                }
            }
            self.part(part.clone());
        }
    }

    fn part(&mut self, range: Range<usize>) {
        self.give(&self.text[range.clone()], range, 1);
        self.position += 1;
    }

    fn give(&mut self, raw: &str, range: Range<usize>, span: usize) {
        let span = u32::try_from(span).unwrap_or(u32::MAX);
        self.take.piece(Piece { raw, range, position: self.position, span });
    }
}

/// The runs of a text in which `outside` holds for no character.
fn chunks(text: &str, outside: impl Fn(char) -> bool) -> impl Iterator<Item = Range<usize>> {
    let mut at = 0;
    std::iter::from_fn(move || {
        let start = at + text[at..].find(|c| !outside(c))?;
        at = text[start..].find(&outside).map_or(text.len(), |length| start + length);
        Some(start..at)
    })
}

/// The range without characters at its ends for which `outside` holds.
fn trimmed(text: &str, range: Range<usize>, outside: impl Fn(char) -> bool) -> Range<usize> {
    let inside = &text[range.clone()];
    let end = range.start + inside.trim_end_matches(&outside).len();
    end - text[range.start..end].trim_start_matches(&outside).len()..end
}

/// The parts of a run of letters and digits in camel case: `parseHTTPHeader2` has `parse`, `HTTP` and `Header2`.
fn humps(text: &str, run: Range<usize>, parts: &mut Vec<Range<usize>>) {
    let mut start = run.start;
    let mut before: Option<char> = None;
    let mut letters = text[run.clone()].char_indices().peekable();
    while let Some((offset, letter)) = letters.next() {
        let next_is_lower = letters.peek().is_some_and(|(_, next)| next.is_lowercase());
        let after_lower = before.is_some_and(|before| before.is_lowercase() || before.is_numeric());
        let ends_capitals = before.is_some_and(char::is_uppercase) && next_is_lower;
        if letter.is_uppercase() && (after_lower || ends_capitals) {
            parts.push(start..run.start + offset);
            start = run.start + offset;
        }
        before = Some(letter);
    }
    parts.push(start..run.end);
}

/// Whether a chunk is an e-mail or web address.
fn is_address(chunk: &str) -> bool {
    let mail = chunk.split_once('@').is_some_and(|(name, host)| !name.is_empty() && host.contains('.'));
    mail || chunk.contains("://") || chunk.starts_with("www.")
}

/// Where the host stands in an address that has more than it.
fn host(address: &str) -> Option<Range<usize>> {
    let start = match (address.find("://"), address.find('@')) {
        (Some(scheme), _) => scheme + 3,
        (None, Some(at)) => at + 1,
        (None, None) => 0,
    };
    let length = address[start..].find(['/', '?', '#', ':']).unwrap_or(address.len() - start);
    (length > 0).then_some(start..start + length)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// What a test does with each piece of a text.
    struct Each<'t, F>(&'t str, F);

    impl<F: FnMut(Piece<'_>)> TakePieces for Each<'_, F> {
        fn plain(&mut self, range: Range<usize>, position: u32) {
            self.1(Piece { raw: &self.0[range.clone()], range, position, span: 1 });
        }

        fn piece(&mut self, piece: Piece<'_>) {
            self.1(piece);
        }
    }

    /// Each piece as `raw@position`, and `+span` for a whole.
    fn cut(reading: Reading, text: &str) -> Vec<String> {
        let mut all = Vec::new();
        let mut each = Each(text, |piece: Piece<'_>| {
            let span = if piece.span > 1 { format!("+{}", piece.span) } else { String::new() };
            all.push(format!("{}@{}{span}", piece.raw, piece.position));
        });
        let count = pieces(Cut { reading, symbols: false }, text, &mut Compound::default(), &mut each);
        assert_eq!(all.iter().filter(|piece| !piece.contains('+')).count(), count as usize);
        all
    }

    #[test]
    fn words_and_hyphens() {
        assert_eq!(
            cut(Reading::Words, "an e-mail, 5-10"),
            ["an@0", "email@1+2", "e@1", "mail@2", "5@3", "10@4"]
        );
        assert_eq!(cut(Reading::Words, "state-of-the-art")[0], "stateoftheart@0+4");
        // Without dictionaries the run is pairs that overlap, and none of them is behind the one before it.
        let run = cut(Reading::Words, "oak-傘が傘が-elm");
        assert!(run[0].starts_with("oak傘") && run.iter().any(|piece| piece.starts_with("elm@")), "{run:?}");
        assert_eq!(cut(Reading::Words, "a - b -c d-"), ["a@0", "b@1", "c@2", "d@3"]);
        assert_eq!(cut(Reading::Words, "v1.2.3 and 3.14"), ["v1.2.3@0", "and@1", "3.14@2"]);
    }

    #[test]
    fn code_and_paths() {
        assert_eq!(cut(Reading::Code, "snake_case"), ["snake_case@0+2", "snake@0", "case@1"]);
        assert_eq!(
            cut(Reading::Code, "parseHTTPHeader2(x)"),
            ["parseHTTPHeader2@0+3", "parse@0", "HTTP@1", "Header2@2", "x@3"]
        );
        assert_eq!(cut(Reading::Code, "v1.2.3"), ["v1.2.3@0+3", "v1@0", "2@1", "3@2"]);
        assert_eq!(
            cut(Reading::Code, "see src/main_loop.rs."),
            ["see@0", "src/main_loop.rs@1+4", "src@1", "main_loop.rs@2+3", "main@2", "loop@3", "rs@4"]
        );
        assert_eq!(cut(Reading::Code, "plain"), ["plain@0"]);
    }

    #[test]
    fn addresses() {
        assert_eq!(
            cut(Reading::Web, "To jane.doe@mail.example.org, e-mail"),
            [
                "To@0",
                "jane.doe@mail.example.org@1+5",
                "jane@1",
                "doe@2",
                "mail.example.org@3+3",
                "mail@3",
                "example@4",
                "org@5",
                "email@6+2",
                "e@6",
                "mail@7"
            ]
        );
        assert_eq!(
            cut(Reading::Web, "(https://www.example.org/a?q=1)")[..3],
            ["https://www.example.org/a?q=1@0+7", "https@0", "www.example.org@1+3"]
        );
    }

    #[test]
    fn a_whole_value() {
        assert_eq!(cut(Reading::Whole, "  QLR 42/a "), ["QLR 42/a@0"]);
        assert_eq!(cut(Reading::Whole, "  "), [""; 0]);
    }

    proptest! {
        #[test]
        fn pieces_slice_the_text_and_positions_never_fall(text in "([a-zA-Z0-9é傘]{1,3}|[-_./@: '‐]|://|www\\.){0,20}", which in 0_usize..4) {
            let reading = [Reading::Words, Reading::Code, Reading::Web, Reading::Whole][which];
            let mut last = 0;
            let mut each = Each(&text, |piece: Piece<'_>| {
                let slice = &text[piece.range.clone()];
                assert!(slice == piece.raw || slice.replace(['-', '‐', '‑'], "") == piece.raw);
                assert!(piece.position >= last && piece.span >= 1);
                last = piece.position;
            });
            let count = pieces(Cut { reading, symbols: false }, &text, &mut Compound::default(), &mut each);
            prop_assert!(count == 0 && last == 0 || last < count);
        }
    }
}
