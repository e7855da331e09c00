//! The recipe: the steps that turn one column's text into tokens.
//!
//! | step | does | named in a trace |
//! | --- | --- | --- |
//! | cut | cuts pieces out of the text, as the [`Reading`](super::Reading) or a [`Tokeniser`](super::Tokeniser) says | |
//! | elide | takes off what a language puts before an apostrophe: `l'eau` | `elide` |
//! | fold | compatibility forms and letter case | `fold` |
//! | own | steps of the program's own | by their names |
//! | compound | parts of compounds beside them, by a list of words | `compound` |
//! | weigh | tells whether it is a stop word | `weak` |
//! | number | a number as it is written plainly | `number` |
//! | stem | word forms to their stem | `stem` |
//! | apostrophe | as if it had been left out | `apostrophe` |
//! | bare | accents off | `accents` |
//! | limit | at most 255 bytes | `limit` |

use super::compounds::WordList;
use super::language::Language;
use super::making::{MakingSeveral, Told};
use super::memory::Memory;
use super::offered::{Offered, Own, offered};
use super::own::{Role, Tokeniser, TokeniserOutput};
use super::pieces::{Compound, Cut, Piece, TakePieces, pieces};
use super::settings::{Reading, Stemming, StopWords, TextSettings};
use super::split::is_half_of_pairs;
use super::{accents, fold, stop, written};
use serde::Serialize;
use std::borrow::Cow;
use std::collections::HashSet;
use std::fmt;
use std::ops::Range;
use std::sync::Arc;

/// The longest term, in bytes. A longer one is cut at the last character boundary before, in texts and in queries
/// alike, so that it is still found.
pub const MAX_TERM_BYTES: usize = 255;

/// A word of a text as it is indexed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Token<'a> {
    /// What is looked up.
    pub term: &'a str,
    /// Where the word stands in the text, in bytes, at character boundaries.
    pub start: usize,
    /// Where it ends.
    pub end: usize,
    /// The how-manieth word of the text it is, from 0.
    pub position: u32,
    /// How many positions it takes: 1, or more for the whole of a hyphenated word, whose parts follow.
    pub span: u32,
    /// What it is to its position.
    pub role: Role,
    /// Whether it says little: a search leaves it out where it has other words.
    pub weak: bool,
}

impl Token<'_> {
    /// Whether it is the word at its position: neither a whole of several positions nor something that stands beside the word.
    pub fn is_word(&self) -> bool {
        self.span == 1 && self.role == Role::Word
    }
}

/// The steps that turn text into tokens.
///
/// ```
/// use nut_cellar_core::{Language, Recipe};
///
/// let recipe = Recipe::new(&Language::new("en").unwrap());
/// let mut terms = Vec::new();
/// recipe.tokens("Two Umbrellas, dripping", |token| terms.push(token.term.to_owned()));
/// assert_eq!(terms, ["two", "umbrellas", "dripping"]);
/// assert_eq!(recipe.key_of("dripping").as_deref(), Some("drip"));
/// ```
#[derive(Clone, Debug)]
pub struct Recipe {
    cut: Cut,
    tokeniser: Option<OwnTokeniser>,
    pub(super) folds: bool,
    elided: &'static [&'static str],
    pub(super) turkic: bool,
    /// Steps of the program's own.
    pub(super) own: Vec<Offered>,
    /// The words that compounds are made of.
    pub(super) compounds: Vec<Arc<WordList>>,
    language: Language,
    stemming: Option<Stemming>,
    /// The letters that stay where accents are folded.
    own_letters: Option<&'static str>,
    /// The sign before decimals, where numbers and words with an apostrophe are read in the forms that people write.
    decimal_sign: Option<char>,
    pub(super) stop: HashSet<String>,
    /// The name of its stemming, where forms are terms of their own.
    ranked: Option<String>,
}

#[derive(Clone)]
struct OwnTokeniser(Arc<dyn Tokeniser>);

/// Takes out the character that ends terms where they are kept. Only tokenisers, steps and stemmers of a program's own can leave one.
pub(super) fn without_zeros(term: &mut String) {
    if term.contains('\0') {
        term.retain(|character| character != '\0');
    }
}

impl OwnTokeniser {
    #[inline(never)]
    fn pieces(&self, text: &str, take: &mut impl TakePieces) -> u32 {
        let mut piece = |range: Range<usize>, position| {
            take.piece(Piece { raw: &text[range.clone()], range, position, span: 1 });
        };
        let mut out = TokeniserOutput::of(text, &mut piece);
        self.0.cut(text, &mut out);
        out.positions
    }
}

impl fmt::Debug for OwnTokeniser {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a tokeniser of the program's own")
    }
}

/// A token together with what each step made of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct TracedToken {
    /// What is looked up.
    pub term: String,
    /// What the forms of the word have in common, where each form is a term of its own.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
    /// Where the word stands in the text, in bytes.
    pub start: usize,
    /// Where it ends.
    pub end: usize,
    /// The how-manieth word of the text it is, from 0.
    pub position: u32,
    /// How many positions it takes: 1, or more for the whole of a hyphenated word, whose parts follow.
    pub span: u32,
    /// What it is to its position.
    #[serde(skip_serializing_if = "is_word")]
    pub role: Role,
    /// Whether it says little: a search leaves it out where it has other words.
    pub weak: bool,
    /// Whether the last of the steps dropped it: it is neither indexed nor looked for, and is told in a trace alone.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub dropped: bool,
    /// The steps that changed something, in order.
    pub steps: Vec<Change>,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "the shape that serde calls")]
fn is_word(role: &Role) -> bool {
    *role == Role::Word
}

/// One step that changed a token.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct Change {
    /// The name of the step.
    pub step: Cow<'static, str>,
    /// The token before.
    pub before: String,
    /// The token after; empty where it was dropped.
    pub after: String,
}

impl Recipe {
    /// The recipe for a language.
    pub fn new(language: &Language) -> Self {
        Self::of(&TextSettings::of(language.clone()))
    }

    /// The recipe that a column's settings ask for.
    pub fn of(settings: &TextSettings) -> Self {
        let habits = settings.language().habits();
        let reading = settings.reading();
        let of_words = matches!(reading, Reading::Words | Reading::Web);
        let words: Vec<&str> = match &settings.stop {
            None | Some(StopWords::OfLanguage(false)) => Vec::new(),
            Some(StopWords::OfLanguage(true)) => stop::of_language(habits.code).unwrap_or_default().to_vec(),
            Some(StopWords::Words(words)) => words.iter().map(String::as_str).collect(),
        };
        let folded = |word: &str| {
            let mut out = word.to_owned();
            if settings.folds() {
                fold::fold(word, habits.turkic, &mut out);
            }
            out
        };
        let tokeniser =
            settings.tokeniser.as_deref().and_then(offered).and_then(|offered| match offered.own {
                Own::Tokeniser(tokeniser) => Some(OwnTokeniser(tokeniser)),
                _ => None,
            });
        let language = settings.language();
        let list = |name: &String| match offered(name)?.own {
            Own::Words(list) => Some(list).filter(|list| *list.language() == language),
            _ => None,
        };
        Self {
            cut: Cut { reading, symbols: settings.symbols },
            tokeniser,
            compounds: settings.compounds.iter().filter_map(list).collect(),
            folds: settings.folds(),
            elided: if of_words && settings.elide != Some(false) { habits.elided } else { &[] },
            turkic: habits.turkic,
            own: settings.steps.iter().filter_map(|name| offered(name)).collect(),
            stemming: settings.stemming(),
            own_letters: settings.folds_accents().then_some(habits.own_letters),
            stop: words.into_iter().map(folded).collect(),
            decimal_sign: settings.reads_forms_as_written().then(|| written::decimal_sign(habits.code)),
            language: settings.language(),
            ranked: settings.ranks_forms().then(|| {
                let accents = if settings.folds_accents() { "plain" } else { "accents" };
                let written = if settings.reads_forms_as_written() { "written" } else { "read" };
                format!("{} {} {accents} {written}", habits.code, settings.stemmers().unwrap_or_default())
            }),
        }
    }

    /// What the forms of a term have in common, where each form is a term of its own; a function of the term alone.
    pub fn key_of(&self, term: &str) -> Option<String> {
        self.ranked.as_ref().map(|_| {
            let mut key = term.to_owned();
            self.unify(&mut key, None);
            key
        })
    }

    /// The name of its stemming: recipes with the same one give the same keys, and words read by them are forms of each other. Empty if forms
    /// are not told apart, so each term is a word of its own.
    pub(crate) fn stemming_name(&self) -> &str {
        self.ranked.as_deref().unwrap_or_default()
    }

    /// The key of a term, if that is another than the term itself.
    pub(crate) fn other_key(&self, term: &str) -> Option<String> {
        self.key_of(term).filter(|key| key != term)
    }

    /// A part of a word as it stands in terms: folded, and without accents where terms have none.
    pub(crate) fn part(&self, part: &str) -> String {
        let mut folded = part.to_owned();
        if self.folds {
            fold::fold(part, self.turkic, &mut folded);
        }
        if let (Some(own_letters), None) = (self.own_letters, &self.ranked) {
            accents::fold(&mut folded, own_letters);
        }
        folded
    }

    /// Gives each token of `text` to `take`, in order of position; tells how many positions there are. Takes time in
    /// proportion to the text.
    pub fn tokens(&self, text: &str, take: impl FnMut(Token<'_>)) -> u32 {
        self.reader().tokens(text, take)
    }

    /// Reads many texts: remembers what became of words that come again.
    pub fn reader(&self) -> Reader<'_> {
        Reader { recipe: self, memory: Memory::default() }
    }

    /// The tokens of `text`, each with what the steps made of it, and those that a step dropped.
    pub fn trace(&self, text: &str) -> Vec<TracedToken> {
        let mut tokens = Vec::new();
        let mut take = |token: Token<'_>, told: Told<'_>| tokens.push(told.traced(token));
        let mut making = MakingSeveral::new(self, None, text, &mut take);
        let positions = self.pieces(text, &mut Compound::default(), &mut making);
        making.end(positions);
        tokens
    }

    /// Cuts the pieces out of a text; tells how many positions there are.
    #[inline]
    fn pieces(&self, text: &str, compound: &mut Compound, take: &mut impl TakePieces) -> u32 {
        match &self.tokeniser {
            None => pieces(self.cut, text, compound, take),
            Some(tokeniser) => tokeniser.pieces(text, take),
        }
    }

    /// Whether a word may become several tokens, or none.
    pub(super) fn makes_several(&self) -> bool {
        !self.own.is_empty() || !self.compounds.is_empty()
    }

    /// Whether a term is one character of a script that is read in pairs: what stands in a text beside others is in no term alone.
    pub(crate) fn is_half_of_pairs(&self, term: &str) -> bool {
        self.tokeniser.is_none()
            && matches!(self.cut.reading, Reading::Words | Reading::Web)
            && is_half_of_pairs(term)
    }

    /// Whether no word and no compound reaches over white space.
    pub(crate) fn ends_at_spaces(&self) -> bool {
        self.tokeniser.is_none()
    }

    /// Makes a term of a piece and tells whether it is weak, where a word becomes one token.
    fn make(&self, raw: &str, span: u32, term: &mut String) -> bool {
        let bare = if span == 1 { self.without_elision(raw) } else { raw };
        if self.folds {
            fold::fold(bare, self.turkic, term);
        } else {
            term.clear();
            term.push_str(bare);
        }
        without_zeros(term);
        let weak = self.stop.contains(term.as_str());
        if self.ranked.is_none() {
            self.unify(term, None);
        } else {
            term.truncate(term.floor_char_boundary(MAX_TERM_BYTES));
        }
        weak
    }

    /// Replaces a folded word by what it has in common with its forms.
    pub(super) fn unify(&self, word: &mut String, mut note: Option<Note<'_>>) {
        let mut step = |name, word: &mut String, work: &dyn Fn(&mut String)| match &mut note {
            Some(note) => {
                let before = word.clone();
                work(word);
                note(name, &before, word);
            }
            None => work(word),
        };
        let number = self.decimal_sign.and_then(|sign| written::plain_number(word, sign));
        if let Some(number) = number {
            step("number", word, &|word| word.clone_from(&number));
        }
        if let Some(stemming) = &self.stemming {
            let before = word.clone();
            step("stem", word, &|word| stemming.apply(&self.language, word));
            // A stemmer takes off what it knows: `umbrella's`. What is left, `don't`, is as if nobody had written it.
            let bare = self.decimal_sign.filter(|_| word.contains(['\'', 'ʼ']));
            if let Some(bare) = bare.and_then(|_| written::without_apostrophes(&before)) {
                step("apostrophe", word, &|word| {
                    word.clone_from(&bare);
                    stemming.apply(&self.language, word);
                });
            }
        } else if self.decimal_sign.is_some()
            && let Some(bare) = written::without_apostrophes(word)
        {
            step("apostrophe", word, &|word| word.clone_from(&bare));
        }
        if let Some(own_letters) = self.own_letters {
            step("accents", word, &|word| accents::fold(word, own_letters));
        }
        step("limit", word, &|word| word.truncate(word.floor_char_boundary(MAX_TERM_BYTES)));
        without_zeros(word);
    }

    /// The word without what its language puts before an apostrophe.
    pub(super) fn without_elision<'w>(&self, word: &'w str) -> &'w str {
        if self.elided.is_empty() {
            return word;
        }
        let Some((before, after)) = word.split_once(['\'', '’']) else { return word };
        let is_elided = |known: &str| known.eq_ignore_ascii_case(before);
        if !after.is_empty() && self.elided.iter().any(|known| is_elided(known)) { after } else { word }
    }

    /// Whether words of ASCII become terms by folding their case and nothing else.
    fn only_folds_ascii(&self) -> bool {
        let keeps_forms = self.ranked.is_some() || (self.stemming.is_none() && self.decimal_sign.is_none());
        self.tokeniser.is_none()
            && self.folds
            && keeps_forms
            && self.stop.is_empty()
            && self.elided.is_empty()
            && !self.turkic
    }
}

/// Told a step, the term before it and the term after it.
pub(super) type Note<'n> = &'n mut dyn FnMut(&'static str, &str, &str);

/// Reads texts by a recipe, and remembers what became of words.
#[derive(Clone, Debug)]
pub struct Reader<'r> {
    recipe: &'r Recipe,
    memory: Memory,
}

impl Reader<'_> {
    /// Gives each token of `text` to `take`, in order of position; tells how many positions there are.
    pub fn tokens(&mut self, text: &str, mut take: impl FnMut(Token<'_>)) -> u32 {
        read(self.recipe, &mut self.memory, text, &mut take)
    }
}

/// Gives each token of `text` to `take`, in order of position; tells how many positions there are. (A closure that is called through a pointer
/// costs less than compiling all that cuts texts once for each of them.)
pub(crate) fn read(recipe: &Recipe, memory: &mut Memory, text: &str, take: &mut dyn FnMut(Token<'_>)) -> u32 {
    let mut compound = std::mem::take(&mut memory.compound);
    let positions = if recipe.makes_several() {
        let mut take = |token: Token<'_>, _: Told<'_>| take(token);
        let mut making = MakingSeveral::new(recipe, Some(&mut memory.several), text, &mut take);
        let positions = recipe.pieces(text, &mut compound, &mut making);
        making.end(positions)
    } else {
        let small = std::mem::take(&mut memory.small);
        let only_folds = recipe.only_folds_ascii();
        let mut making = Making { recipe, memory, only_folds, text, small, folded: 0..0, take };
        let positions = recipe.pieces(text, &mut compound, &mut making);
        memory.small = making.small;
        positions
    };
    memory.compound = compound;
    positions
}

/// So many bytes of a text are folded at once.
const FOLDED: usize = 1 << 14;

/// Makes tokens of pieces.
struct Making<'m> {
    recipe: &'m Recipe,
    memory: &'m mut Memory,
    /// Whether words of ASCII become terms by folding their case and nothing else.
    only_folds: bool,
    text: &'m str,
    /// A stretch of the text with its capitals of ASCII folded: at once, and not word by word, for speed.
    small: String,
    /// Where that stretch stands.
    folded: Range<usize>,
    take: &'m mut dyn FnMut(Token<'_>),
}

impl Making<'_> {
    /// Folds the stretch that begins at a word.
    #[cold]
    fn fold_from(&mut self, start: usize) {
        let end = self.text.floor_char_boundary(start + FOLDED);
        self.small.clear();
        self.small.push_str(&self.text[start..end]);
        self.small.make_ascii_lowercase();
        self.folded = start..end;
    }
}

impl TakePieces for Making<'_> {
    #[inline]
    fn plain(&mut self, range: Range<usize>, position: u32) {
        if !self.only_folds {
            return self.piece(Piece { raw: &self.text[range.clone()], range, position, span: 1 });
        }
        if range.end > self.folded.end {
            self.fold_from(range.start);
        }
        let Range { start, end } = range;
        let term = &self.small[start - self.folded.start..end - self.folded.start];
        (self.take)(Token { term, start, end, position, span: 1, role: Role::Word, weak: false });
    }

    #[inline(never)]
    fn piece(&mut self, piece: Piece<'_>) {
        let memory = &mut *self.memory;
        if self.only_folds && piece.raw.is_ascii() {
            memory.scratch.clear();
            memory.scratch.push_str(&piece.raw[..piece.raw.len().min(MAX_TERM_BYTES)]);
            memory.scratch.make_ascii_lowercase();
            return (self.take)(piece.token(&memory.scratch, false));
        }
        let remembers = piece.span == 1;
        if remembers && let Some((term, weak)) = memory.recall(piece.raw) {
            return (self.take)(piece.token(term, weak));
        }
        let weak = self.recipe.make(piece.raw, piece.span, &mut memory.scratch);
        (self.take)(piece.token(&memory.scratch, weak));
        if remembers {
            memory.learn(piece.raw, weak);
        }
    }
}

impl Piece<'_> {
    fn token<'t>(&self, term: &'t str, weak: bool) -> Token<'t> {
        let Range { start, end } = self.range;
        Token { term, start, end, position: self.position, span: self.span, role: Role::Word, weak }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::text::{Accents, Forms};
    use proptest::prelude::*;

    /// What the tokens have in common with their forms.
    fn keys(recipe: &Recipe, text: &str) -> Vec<String> {
        recipe.trace(text).into_iter().map(|token| token.key.unwrap_or(token.term)).collect()
    }

    fn terms(language: &str, text: &str) -> Vec<String> {
        keys(&Recipe::new(&Language::new(language).unwrap()), text)
    }

    #[test]
    fn words_are_split_folded_stemmed_and_freed_of_accents() {
        assert_eq!(
            terms("none", "The CLASPS weren't closed: 3.5 mm, Café"),
            ["the", "clasps", "weren't", "closed", "3.5", "mm", "café"]
        );
        assert_eq!(
            terms("en", "clasp clasps clasped café cafés"),
            ["clasp", "clasp", "clasp", "cafe", "cafe"]
        );
        assert_eq!(terms("fr", "l'eau d’une qu'il aujourd'hui"), ["eau", "une", "il", "aujourdhui"]);
        assert_eq!(terms("de", "Häuser Haus STRASSE"), ["haus", "haus", "strass"]);
        assert_eq!(terms("sv", "färg farg"), ["färg", "farg"]);
        assert_eq!(terms("tr", "ISPARTA İstanbul"), ["ıspar", "istanbul"]);
        assert_eq!(terms("ru", "ёлка йод"), ["елк", "йод"]);
        assert_eq!(terms("pl", "Łódź"), ["lodz"]);
        let without_spaces =
            if cfg!(feature = "dictionaries") { vec!["駅", "の", "傘"] } else { vec!["駅の", "の傘"] };
        assert_eq!(terms("en", "駅の傘"), without_spaces);
    }

    #[test]
    fn steps_can_be_switched_one_by_one() {
        let english = TextSettings::of(Language::new("en").unwrap());
        let terms = |settings: TextSettings, text: &str| {
            settings.check().unwrap();
            let same = TextSettings { forms: Some(Forms::Same), ..settings.clone() };
            assert_eq!(keys(&Recipe::of(&settings), text), keys(&Recipe::of(&same), text));
            Recipe::of(&same).trace(text).into_iter().map(|token| token.term).collect::<Vec<_>>()
        };
        let text = "Cafés a_b e-mails";
        assert_eq!(terms(english.clone(), text), ["cafe", "a_b", "email", "e", "mail"]);
        let keep = TextSettings { accents: Some(Accents::Keep), ..english.clone() };
        assert_eq!(terms(keep, text), ["café", "a_b", "email", "e", "mail"]);
        let forms = TextSettings { stem: Some(false), ..english.clone() };
        assert_eq!(terms(forms, text), ["cafes", "a_b", "emails", "e", "mails"]);
        let code = TextSettings { reading: Some(Reading::Code), ..english.clone() };
        assert_eq!(terms(code, "fooBars"), ["foobars", "foo", "bars"]);
        let whole = TextSettings { reading: Some(Reading::Whole), ..english };
        assert_eq!(terms(whole, " Two Bars "), ["two bars"]);
    }

    #[test]
    fn forms_are_terms_of_their_own_with_one_key() {
        let english = Recipe::new(&Language::new("en").unwrap());
        let all = |text: &str| {
            let tokens = english.trace(text).into_iter();
            tokens.map(|token| (token.term, token.key.unwrap())).collect::<Vec<_>>()
        };
        let pair = |term: &str, key: &str| (term.to_owned(), key.to_owned());
        assert_eq!(all("Boxes box cafés"), [pair("boxes", "box"), pair("box", "box"), pair("cafés", "cafe")]);
        assert_eq!(english.key_of("boxes").unwrap(), "box");
        assert_eq!(Recipe::new(&Language::new("none").unwrap()).key_of("boxes"), None);
        assert_ne!(english.stemming_name(), Recipe::new(&Language::new("de").unwrap()).stemming_name());
    }

    #[test]
    fn numbers_and_words_with_apostrophes_have_forms_since_the_second_edition() {
        let english = TextSettings::of(Language::new("en").unwrap());
        let first = TextSettings { edition: Some(1), ..english.clone() };
        let keys = |settings: &TextSettings, text: &str| keys(&Recipe::of(settings), text);
        let text = "1,000 3.50 don't umbrella's o'clock's";
        assert_eq!(keys(&english, text), ["1000", "3.5", "dont", "umbrella", "oclock"]);
        assert_eq!(keys(&first, text), ["1,000", "3.50", "don't", "umbrella", "o'clock"]);
        let none = TextSettings { forms: Some(Forms::Same), ..TextSettings::default() };
        assert_eq!(keys(&none, text), ["1,000", "3.50", "don't", "umbrella's", "o'clock's"]);
        let polish =
            TextSettings { forms: Some(Forms::Same), ..TextSettings::of(Language::new("pl").unwrap()) };
        assert_eq!(keys(&polish, "1,000 1.000 l'ód"), ["1.0", "1000", "lod"]);
        for (edition, says) in [(0, "`edition` is 0"), (3, "`edition` is 3")] {
            let settings = TextSettings { edition: Some(edition), ..english.clone() };
            assert!(settings.check().unwrap_err().to_string().contains(says));
        }
    }

    #[test]
    fn stop_words_are_marked_whatever_their_case() {
        let english = TextSettings::of(Language::new("en").unwrap());
        let weak = |stop: StopWords, text: &str| {
            let recipe = Recipe::of(&TextSettings { stop: Some(stop), ..english.clone() });
            recipe
                .trace(text)
                .into_iter()
                .filter(|token| token.weak)
                .map(|token| token.term)
                .collect::<Vec<_>>()
        };
        assert_eq!(weak(StopWords::OfLanguage(true), "The handle OF an umbrella"), ["the", "of", "an"]);
        assert_eq!(weak(StopWords::OfLanguage(false), "The handle"), [""; 0]);
        assert_eq!(weak(StopWords::Words(vec!["Handle".into()]), "The handle, handles"), ["handle"]);
    }

    #[test]
    fn a_trace_names_the_steps_that_changed_something() {
        let traced = Recipe::new(&Language::new("fr").unwrap()).trace("a L'Épées");
        assert!(traced[0].steps.is_empty());
        let steps: Vec<_> = traced[1].steps.iter().map(|c| (&*c.step, &*c.before, &*c.after)).collect();
        assert_eq!(
            steps,
            [
                ("elide", "L'Épées", "Épées"),
                ("fold", "Épées", "épées"),
                ("stem", "épées", "épé"),
                ("accents", "épé", "epe")
            ]
        );
    }

    #[test]
    fn what_contradicts_itself_or_the_program_is_refused() {
        let of = |code| TextSettings::of(Language::new(code).unwrap());
        for (settings, says) in [
            (TextSettings { stem: Some(true), ..of("ja") }, "no stemmer"),
            (TextSettings { stop: Some(StopWords::OfLanguage(true)), ..of("ja") }, "no list"),
            (TextSettings { stemmer: Some("snowball 9 english".into()), ..of("en") }, "snowball 9 english"),
            (TextSettings { stemmer: Some("snowball 3.0 english".into()), ..of("none") }, "none"),
        ] {
            assert!(settings.check().unwrap_err().to_string().contains(says));
        }
        assert_eq!(of("en").stemmers().unwrap(), "snowball 3.0 english");
    }

    #[test]
    fn steps_of_the_programs_own_are_taken_and_those_it_lacks_are_told() {
        use crate::text::offer_step;
        fn without_vowels(word: &mut String) {
            word.retain(|letter| !"aeiou".contains(letter));
        }
        let settings = TextSettings { steps: vec!["no vowels".into()], ..TextSettings::default() };
        let error = settings.check().unwrap_err();
        assert!(error.to_string().contains("`no vowels`, which this program does not offer"), "{error}");
        offer_step("no vowels", "1", Arc::new(without_vowels)).unwrap();
        offer_step("no vowels", "1", Arc::new(without_vowels)).unwrap();
        assert!(offer_step("no vowels", "2", Arc::new(String::clear)).unwrap_err().is_bad_request());
        let settings = settings.naming_what_it_depends_on();
        settings.check().unwrap();
        let traced = Recipe::of(&settings).trace("Umbrella");
        assert_eq!(traced[0].term, "mbrll");
        assert_eq!(traced[0].steps.last().map(|change| &*change.step), Some("no vowels"));
        let english =
            TextSettings { steps: settings.steps, ..TextSettings::of(Language::new("en").unwrap()) };
        assert_eq!(terms_of(&english, "umbrellas"), ["mbrlls"]);
    }

    fn terms_of(settings: &TextSettings, text: &str) -> Vec<String> {
        let mut terms = Vec::new();
        Recipe::of(settings).tokens(text, |token| terms.push(token.term.to_owned()));
        terms
    }

    #[test]
    fn a_very_long_word_is_cut_at_a_character() {
        let long = terms("none", &"é".repeat(400));
        assert_eq!(long, ["é".repeat(127)]);
        assert_eq!(terms("none", ""), [""; 0]);
        assert_eq!(terms("none", "a\0b"), ["a", "b"]);
    }

    proptest! {
        #[test]
        fn ranges_slice_the_text_and_what_is_remembered_equals_the_trace(
            texts in prop::collection::vec("([a-zA-Z]{1,5}|[ '’é傘ß-]|\\PC){0,12}", 1..5),
            code in prop::sample::select(&["none", "en", "fr", "tr", "ja", "ru"][..]),
        ) {
            let recipe = Recipe::new(&Language::new(code).unwrap());
            let mut reader = recipe.reader();
            for text in texts.iter().chain(&texts) {
                let traced = recipe.trace(text);
                let mut at = 0;
                let count = reader.tokens(text, |token| {
                    let expected = &traced[at];
                    assert!(token.start <= token.end && text.get(token.start..token.end).is_some());
                    assert!(token.term.len() <= MAX_TERM_BYTES);
                    assert_eq!((token.term, token.position, token.span), (&*expected.term, expected.position, expected.span));
                    at += 1;
                });
                prop_assert_eq!(at, traced.len());
                prop_assert!(traced.iter().all(|token| token.position < count));
            }
        }
    }
}
