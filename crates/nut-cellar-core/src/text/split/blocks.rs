//! Sixty-four bytes of text at a time as bit masks, so that words of plain characters are found by counting zeros.
//!
//! What always holds: bit `n` of a mask speaks of byte `n` of the window; bytes past the end of the text are plain ends
//! of words. Written so that compilers turn it into vector instructions.

use std::ops::Range;

const WINDOW: usize = 64;

/// A text, and a window of it as masks.
pub(super) struct Blocks<'t> {
    bytes: &'t [u8],
    /// Where the window begins.
    base: usize,
    /// Letters and digits of ASCII, underscores, and parts of longer characters: what is no plain end of words.
    begins: u64,
    /// Where the rules have to be asked: underscores and parts of longer characters; and where a word that ends may be
    /// joined to more, for what may join words comes next, and after it what may be joined. (A hyphen joins words as
    /// well, to compounds.)
    unsure: u64,
}

impl<'t> Blocks<'t> {
    pub fn new(bytes: &'t [u8]) -> Self {
        let mut blocks = Self { bytes, base: 0, begins: 0, unsure: 0 };
        blocks.turn_to(0);
        blocks
    }

    /// Gives the words of ASCII that are words whatever the rules say, up to the first place where the rules have to be
    /// asked, and tells where that is: at the beginning of a run of what is no plain end of words. None at the end.
    ///
    /// Words as long as a window are for the rules.
    #[inline]
    pub fn sure_words(&mut self, mut take: impl FnMut(Range<usize>)) -> Option<usize> {
        loop {
            let mut starts = self.begins & !(self.begins << 1);
            let ends = !self.begins & self.begins << 1;
            let unsure = self.unsure & (self.begins | ends);
            let mut sure = ends & unsure.wrapping_sub(1) & !unsure;
            // Neither mask waits for the other, nor for what is done with a word.
            while sure != 0 {
                let (start, end) = (starts.trailing_zeros() as usize, sure.trailing_zeros() as usize);
                take(self.base + start..self.base + end);
                starts &= starts - 1;
                sure &= sure - 1;
            }
            if starts == 0 {
                if self.bytes.len() - self.base <= WINDOW {
                    return None;
                }
                self.turn_to(self.base + WINDOW);
                continue;
            }
            let start = starts.trailing_zeros() as usize;
            // What begins in the middle may just not end in the window.
            if unsure != 0 || start == 0 {
                return Some(self.base + start);
            }
            self.turn_to(self.base + start);
        }
    }

    /// Goes on at a place further on, where a word may begin.
    pub fn go_on(&mut self, at: usize) {
        match at - self.base {
            within if within < WINDOW => self.begins &= u64::MAX << within,
            _ => self.turn_to(at),
        }
    }

    fn turn_to(&mut self, at: usize) {
        let rest = &self.bytes[at..];
        self.base = at;
        (self.begins, self.unsure) = if let Some(window) = rest.first_chunk() {
            masks(window)
        } else {
            let mut window = [0; WINDOW];
            window[..rest.len()].copy_from_slice(rest);
            masks(&window)
        };
    }
}

/// The masks of a window: what is no plain end of words, and where the rules have to be asked.
fn masks(window: &[u8; WINDOW]) -> (u64, u64) {
    let alphanumeric = mask(window, |byte| byte.is_ascii_alphanumeric());
    let other = mask(window, |byte| !byte.is_ascii() || byte == b'_');
    let joins = mask(window, |byte| matches!(byte, b',' | b'-' | b'.' | b':' | b';' | b'\''));
    let begins = alphanumeric | other;
    // Nobody knows what comes after the window.
    let before_more = begins >> 1 | 1 << (WINDOW - 1);
    (begins, other | joins & before_more)
}

/// The bytes for which `is` holds: first a byte of 0 or 1 for each, then eight at a time pushed together by a
/// multiplication that brings bit 8n to bit 56 + n. (Shifting bit by bit is six times slower: compilers do not see it.)
#[inline]
fn mask(window: &[u8; WINDOW], is: impl Fn(u8) -> bool) -> u64 {
    const TOGETHER: u64 = 0x0102_0408_1020_4080;
    let held = window.map(|byte| u8::from(is(byte)));
    let (eights, _) = held.as_chunks::<8>();
    let parts = eights.iter().map(|eight| u64::from_le_bytes(*eight).wrapping_mul(TOGETHER) >> 56);
    (0..).step_by(8).zip(parts).fold(0, |mask, (shift, part)| mask | part << shift)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn masks_find_what_a_walk_finds(text in "([a-zA-Z0-9]{0,90}|[ ._é'-]{0,70}|[a-z. ]{0,30}){0,6}") {
            let bytes = text.as_bytes();
            let is = |at: usize, what: fn(&u8) -> bool| bytes.get(at).is_some_and(what);
            let other = |at| is(at, |byte| !byte.is_ascii() || *byte == b'_');
            let more = |at| is(at, u8::is_ascii_alphanumeric) || other(at);
            let end_of = |start| start + bytes[start..].iter().take_while(|byte| byte.is_ascii_alphanumeric()).count();
            let joined = |end| other(end) || is(end, |byte| b":.,;'-".contains(byte)) && more(end + 1);
            let mut blocks = Blocks::new(bytes);
            let mut at = 0;
            let next = |at: usize| (at..bytes.len()).find(|&at| more(at));
            loop {
                let mut sure = Vec::new();
                let stop = blocks.sure_words(|word| sure.push(word));
                for word in sure {
                    prop_assert_eq!(next(at), Some(word.start), "nothing is left out");
                    prop_assert_eq!(end_of(word.start), word.end);
                    prop_assert!(!joined(word.end) && word.len() <= 63);
                    at = word.end;
                }
                prop_assert_eq!(next(at), stop);
                let Some(stop) = stop else { break };
                let end = end_of(stop);
                // At the end of a window it may ask without need.
                prop_assert!(joined(end) || end - stop >= 63 || is(end, |byte| b":.,;'-".contains(byte)));
                at = end.max(stop + 1);
                blocks.go_on(at);
            }
        }
    }
}
