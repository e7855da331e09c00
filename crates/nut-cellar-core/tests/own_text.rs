//! Readings that a program brings: steps that make several tokens of a word or none, tokenisers, stemmers, and compounds.
#![allow(
    clippy::unwrap_used,
    clippy::cast_possible_truncation,
    reason = "a test fails by panicking, and its numbers are small"
)]

use nut_cellar_core::text::{
    Forms, MAX_TERM_BYTES, Role, Stemmer, Step, StepOutput, TextSettings, Tokeniser, TokeniserOutput,
    WordList, offer_stemmer, offer_step, offer_tokeniser, offer_words,
};
use nut_cellar_core::{Column, Kind, Language, Recipe, Schema};
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::ops::Range;
use std::sync::Arc;

fn language(code: &str) -> Language {
    Language::new(code).unwrap()
}

/// `term@position`, `+span` for a whole, and `=` or `<` in front for another word and for a part.
fn shown(recipe: &Recipe, text: &str) -> String {
    let mut shown = Vec::new();
    recipe.tokens(text, |token| {
        let mark = match token.role {
            Role::Also => "=",
            Role::Part => "<",
            _ => "",
        };
        let span = if token.span > 1 { format!("+{}", token.span) } else { String::new() };
        shown.push(format!("{mark}{}@{}{span}", token.term, token.position));
    });
    shown.join(" ")
}

/// A step as a table: for each word what becomes of it.
struct Table(BTreeMap<String, Vec<Out>>);

#[derive(Clone, Debug)]
enum Out {
    Word(String),
    Also(String),
    Part(String),
    Gap,
    At(Range<usize>),
}

impl Step for Table {
    fn apply(&self, word: &str, _: &str, out: &mut StepOutput) {
        let Some(all) = self.0.get(word) else {
            out.word(word);
            return;
        };
        for one in all {
            match one.clone() {
                Out::Word(term) => out.word(&term),
                Out::Also(term) => out.also(&term),
                Out::Part(term) => out.part(&term),
                Out::Gap => out.gap(),
                Out::At(range) => out.at(range),
            };
        }
    }
}

/// A recipe with a step of its own, offered under a name that no other test has.
fn with_step(name: &str, step: Arc<dyn Step>, settings: TextSettings) -> Recipe {
    offer_step(name, "1", step).unwrap();
    Recipe::of(&TextSettings { steps: vec![name.to_owned()], ..settings })
}

fn table<const N: usize>(rows: [(&str, Vec<Out>); N]) -> Arc<dyn Step> {
    Arc::new(Table(rows.into_iter().map(|(word, out)| (word.to_owned(), out)).collect()))
}

#[test]
fn words_split_drop_and_gain_others() {
    let word = |term: &str| Out::Word(term.to_owned());
    let step = table([
        ("handbag", vec![word("hand"), Out::At(0..4), word("bag"), Out::At(4..7)]),
        ("brolly", vec![word("brolly"), Out::Also("umbrella".into())]),
        ("the", vec![]),
        ("of", vec![Out::Gap]),
        ("shelf7", vec![word("shelf7"), Out::Part("shelf".into()), Out::Part("7".into())]),
    ]);
    let recipe = with_step("splits and drops", step, TextSettings::default());
    assert_eq!(shown(&recipe, "the handbag and brolly"), "hand@0 bag@1 and@2 brolly@3 =umbrella@3");
    assert_eq!(shown(&recipe, "case of the oak"), "case@0 oak@2");
    assert_eq!(shown(&recipe, "of shelf7 of"), "shelf7@1 <shelf@1 <7@1");
    assert_eq!(recipe.tokens("of shelf7 of", |_| ()), 3);
    // Wholes of hyphenated words span what became of their parts.
    assert_eq!(shown(&recipe, "old-handbag-of"), "oldhandbagof@0+4 old@0 hand@1 bag@2");
    assert_eq!(shown(&recipe, "the-oak elm"), "oak@0 =theoak@0 elm@1");
    assert_eq!(shown(&recipe, "the-the elm"), "thethe@0 elm@1");
    let mut ranges = Vec::new();
    recipe.tokens("My HandBag", |token| ranges.push(token.start..token.end));
    assert_eq!(ranges, [0..2, 3..7, 7..10]);
}

#[test]
fn a_trace_tells_what_each_step_did() {
    let step =
        table([("the", vec![]), ("brolly", vec![Out::Word("umbrella".into()), Out::Also("brolly".into())])]);
    let english = TextSettings::of(language("en"));
    let tokens = with_step("clerks", step, english).trace("The Brolly");
    let mut told = String::new();
    for token in &tokens {
        let steps: Vec<_> =
            token.steps.iter().map(|one| format!("{} {}>{}", one.step, one.before, one.after)).collect();
        let dropped = if token.dropped { " dropped" } else { "" };
        let key = token.key.as_deref().unwrap_or("-");
        writeln!(told, "{}@{} {key}{dropped}: {}", token.term, token.position, steps.join(", ")).unwrap();
    }
    let expected = "the@0 -  dropped: fold The>the, clerks the>\numbrella@0 umbrella: fold Brolly>brolly, clerks brolly>umbrella\n\
                    brolly@0 brolli: fold Brolly>brolly, stem brolly>brolli\n";
    assert_eq!(told, expected.replace("  ", " "));
}

/// Sentences between bars, with a gap after each.
struct Bars;

impl Tokeniser for Bars {
    fn cut(&self, text: &str, out: &mut TokeniserOutput<'_>) {
        let mut at = 0;
        for field in text.split('|') {
            out.word(at..at + field.len());
            out.gap();
            at += field.len() + 1;
        }
    }
}

/// Gives ranges that are none.
struct Careless(Vec<Range<usize>>);

impl Tokeniser for Careless {
    fn cut(&self, _: &str, out: &mut TokeniserOutput<'_>) {
        self.0.iter().for_each(|range| out.word(range.clone()));
    }
}

#[test]
fn a_tokeniser_stands_in_the_place_of_a_reading() {
    offer_tokeniser("bars", "1", Arc::new(Bars)).unwrap();
    let settings = TextSettings { tokeniser: Some("bars".into()), ..TextSettings::of(language("en")) };
    let recipe = Recipe::of(&settings);
    assert_eq!(shown(&recipe, "Oak chests|Two||boxes"), "oak chests@0 two@2 boxes@5");
    assert_eq!(recipe.key_of("boxes").as_deref(), Some("box"));
    let column = Column::read_as(TextSettings { symbols: true, ..settings });
    let error = Schema::new("id").with("notes", column).check().unwrap_err();
    assert!(error.to_string().contains("`tokeniser` stands in the place of"), "{error}");
    #[expect(clippy::reversed_empty_ranges, reason = "what a careless tokeniser may give")]
    let ranges = vec![1..2, 0..1, 2..2, 3..1, 3..900, 900..901, 2..4];
    offer_tokeniser("careless", "1", Arc::new(Careless(ranges))).unwrap();
    let settings = TextSettings { tokeniser: Some("careless".into()), ..TextSettings::default() };
    assert_eq!(shown(&Recipe::of(&settings), "é dé"), "é@0 é@1 dé@2");
}

struct Endings;

impl Stemmer for Endings {
    fn stem(&self, language: &Language, word: &mut String) {
        let ending = if language.code() == "de" { "en" } else { "s" };
        word.truncate(word.strip_suffix(ending).unwrap_or(word).len());
    }
}

#[test]
fn a_stemmer_makes_classes_of_its_own() {
    offer_stemmer("endings", "1", Arc::new(Endings)).unwrap();
    let of =
        |code: &str| TextSettings { stemmer: Some("endings".into()), ..TextSettings::of(language(code)) };
    let (german, none) = (Recipe::of(&of("de")), Recipe::of(&of("none")));
    assert_eq!(german.key_of("uhren").as_deref(), Some("uhr"));
    assert_eq!(none.key_of("clasps").as_deref(), Some("clasp"));
    assert_eq!(shown(&none, "Clasps"), "clasps@0");
    let same = Recipe::of(&TextSettings { forms: Some(Forms::Same), ..of("none") });
    assert_eq!(shown(&same, "Clasps"), "clasp@0");
    let off = Column::read_as(TextSettings { stem: Some(false), ..of("none") });
    assert!(Schema::new("id").with("notes", off).check().unwrap_err().to_string().contains("`stem` is off"));
}

/// Terms end with a zero character where they are kept, so none is left in them.
#[test]
fn zero_characters_are_left_out() {
    struct Zeros;
    impl Step for Zeros {
        fn apply(&self, word: &str, _: &str, out: &mut StepOutput) {
            out.word(&format!("{word}\0s")).also("\0");
        }
    }
    impl Stemmer for Zeros {
        fn stem(&self, _: &Language, word: &mut String) {
            word.push('\0');
        }
    }
    offer_step("zeros", "1", Arc::new(Zeros)).unwrap();
    offer_stemmer("zero ends", "1", Arc::new(Zeros)).unwrap();
    let settings = TextSettings {
        steps: vec!["zeros".into()],
        stemmer: Some("zero ends".into()),
        ..TextSettings::of(language("none"))
    };
    let recipe = Recipe::of(&settings);
    assert_eq!(shown(&recipe, "Oak"), "oaks@0");
    assert_eq!(recipe.key_of("oaks").as_deref(), Some("oaks"));
}

/// Each dictionary has a number for the stemming, of one byte.
#[test]
fn so_many_stemmings_may_read_a_schema() {
    let schema = |columns: usize| {
        (0..columns).fold(Schema::new("id"), |schema, number| {
            let name = format!("endings {number}");
            offer_stemmer(&name, "1", Arc::new(Endings)).unwrap();
            let languages = vec![language("de"), language("fr")];
            let english = TextSettings::of(language("en"));
            let settings = TextSettings {
                stemmer: Some(name),
                languages,
                language_from: Some("lang".into()),
                ..english
            };
            schema.with(format!("c{number}"), Column::read_as(settings))
        })
    };
    let with_language = |schema: Schema| schema.with("lang", Column::of(Kind::Exact));
    with_language(schema(42)).check().unwrap();
    let error = with_language(schema(43)).check().unwrap_err();
    assert!(error.to_string().contains("129 different stemmings"), "{error}");
}

#[test]
fn what_is_offered_is_kept_with_its_version_and_another_is_refused() {
    fn plain(word: &mut String) {
        word.retain(|letter| letter != 'q');
    }
    offer_step("no q", "7", Arc::new(plain)).unwrap();
    let words = WordList::of(&language("de"), ["Dampf", "Schiff"]).unwrap();
    let version = words.version().to_owned();
    assert_eq!(
        version,
        WordList::from_text(&language("de"), "# ships\nschiff 12\ndampf\n\nei\n").unwrap().version()
    );
    assert_ne!(version, WordList::of(&language("de"), ["Dampf", "Schiffe"]).unwrap().version());
    offer_words("ships", words).unwrap();
    let settings = TextSettings {
        steps: vec!["no q".into()],
        compounds: vec!["ships".into()],
        ..TextSettings::of(language("de"))
    };
    let schema = Schema::new("id").with("notes", Column::read_as(settings));
    schema.check().unwrap();
    let text = schema.to_toml();
    assert_eq!(Schema::from_toml(&text).unwrap(), schema);
    for (kept, other, says) in [
        (
            "\"no q\" = \"7\"",
            "\"no q\" = \"6\"",
            "`steps` names `no q` of version \"6\" and this program offers version \"7\"",
        ),
        (
            &format!("\"{version}\""),
            "\"de 3 words 00000000\"",
            "`compounds` names `ships` of version \"de 3 words",
        ),
        ("[\"no q\"]", "[\"ships\"]", "`steps` names `ships`, which this program does not offer as a step"),
        ("[\"no q\"]", "[\"no z\"]", "`steps` names `no z`, which this program does not offer"),
        ("language = \"de\"", "language = \"nl\"", "whose words are of \"de\""),
        ("[\"no q\"]", "[]", "`versions` has `no q`"),
    ] {
        assert!(text.contains(kept), "{text}");
        let text = text.replace(kept, other).replace(
            "snowball 3.0 german",
            if other.contains("nl") { "snowball 3.0 dutch" } else { "snowball 3.0 german" },
        );
        let error = Schema::from_toml(&text).unwrap_err().to_string();
        assert!(error.contains(says), "{error}");
    }
    // What is offered too late is no part of a column that was made before.
    let late = Column::read_as(TextSettings { steps: vec!["late".into()], ..TextSettings::default() });
    offer_step("late", "1", Arc::new(plain)).unwrap();
    let error = Schema::new("id").with("notes", late).check().unwrap_err().to_string();
    assert!(error.contains("offered after the column was made"), "{error}");
    assert!(
        offer_stemmer("late", "1", Arc::new(Endings))
            .unwrap_err()
            .to_string()
            .contains("A step of version \"1\"")
    );
}

#[test]
fn two_hundred_german_compounds_have_the_parts_that_a_person_wrote_down() {
    let words = WordList::from_text(&language("de"), include_str!("data/german-words.txt")).unwrap();
    offer_words("german words", words).unwrap();
    let settings =
        TextSettings { compounds: vec!["german words".into()], ..TextSettings::of(language("de")) };
    let recipe = Recipe::of(&settings);
    let (mut compounds, mut wrong) = (0, Vec::new());
    let lines = include_str!("data/german-compounds.txt").lines();
    for line in lines.filter(|line| !line.is_empty() && !line.starts_with('#')) {
        let (compound, parts) = line.split_once(':').unwrap();
        compounds += usize::from(!parts.is_empty());
        let mut found = String::new();
        recipe.tokens(compound, |token| {
            assert_eq!(token.position, 0);
            match token.role {
                Role::Part => _ = write!(found, " {}", token.term),
                _ => assert_eq!(token.term, compound),
            }
        });
        if found != parts {
            wrong.push(format!("{compound}:{found}, and not{parts}"));
        }
    }
    assert!(compounds >= 200, "{compounds}");
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn compounds_are_joined_as_each_language_does() {
    for (code, words, compound, parts) in [
        ("nl", "station chef hond hok", "Stationschef", "station chef"),
        ("nl", "station chef hond hok", "hondenhok", "hond hok"),
        ("sv", "järnväg station gata lampa glas skål", "järnvägsstation", "järnväg station"),
        ("sv", "järnväg station gata lampa glas skål", "gatulampor", "gata lampor"),
        ("sv", "järnväg station gata lampa glass skål", "glasskål", "glass skål"),
        ("da", "station leder barn vogn", "stationsleder", "station leder"),
        ("da", "station leder barn vogn", "barnevogn", "barn vogn"),
        ("fi", "rauta tie", "rautatie", "rauta tie"),
        ("de", "straße bau", "STRASSENBAU", "strasse bau"),
        ("de", "straße bau", "Straßenbau", "strasse bau"),
        ("de", "zug abteil", "zug", ""),
        // A form may be longer than the longest word of the list.
        ("de", "dampf schiff", "Dampfschiffen", "dampf schiffen"),
        ("de", "dampf schiff hafen", "Hafendampfschiffes", "hafen dampf schiffes"),
    ] {
        let list = WordList::of(&language(code), words.split(' ')).unwrap();
        let name = format!("{code} {words}");
        offer_words(&name, list).unwrap();
        let recipe = Recipe::of(&TextSettings { compounds: vec![name], ..TextSettings::of(language(code)) });
        let mut found = Vec::new();
        recipe.tokens(compound, |token| {
            found.extend((token.role == Role::Part).then(|| token.term.to_owned()));
        });
        assert_eq!(found.join(" "), parts, "{compound}");
    }
    assert!(WordList::of(&language("de"), ["ei", "!"]).unwrap_err().is_bad_request());
}

#[test]
fn parts_stand_where_they_are_written() {
    let list = WordList::of(&language("de"), ["Straße", "Bau", "Größe", "Plan"]).unwrap();
    offer_words("where parts stand", list).unwrap();
    let settings =
        TextSettings { compounds: vec!["where parts stand".into()], ..TextSettings::of(language("de")) };
    let text = "der Straßen\u{ad}bauplan";
    let mut found = Vec::new();
    Recipe::of(&settings).tokens(text, |token| found.push(&text[token.start..token.end]));
    assert_eq!(found, ["der", "Straßen\u{ad}bauplan", "Straße", "bau", "plan"]);
}

/// What the tokens are by the rules as they are told: what the plain recipe gives, word by word through the table, counted anew.
fn slow(
    plain: &Recipe,
    table: &BTreeMap<String, Vec<Out>>,
    text: &str,
) -> (Vec<(u32, u32, Role, String)>, u32) {
    let mut base = Vec::new();
    plain.tokens(text, |token| base.push((token.position, token.span, token.term.to_owned())));
    // For each term what stands at its first position, at its second, and so on.
    let made = |term: &str| {
        let mut made: Vec<Vec<(Role, String)>> = Vec::new();
        let own = vec![Out::Word(term.to_owned())];
        for out in table.get(term).unwrap_or(&own) {
            let beside = made.last().is_some_and(|last| !last.is_empty());
            match out {
                Out::Word(term) | Out::Also(term) | Out::Part(term) if term.is_empty() => {}
                Out::Also(term) if beside => made.last_mut().unwrap().push((Role::Also, term.clone())),
                Out::Part(term) if beside => made.last_mut().unwrap().push((Role::Part, term.clone())),
                Out::Word(term) | Out::Also(term) | Out::Part(term) => {
                    made.push(vec![(Role::Word, term.clone())]);
                }
                Out::Gap => made.push(Vec::new()),
                Out::At(_) => {}
            }
        }
        // What is said twice of a position counts as it was said first.
        for here in &mut made {
            let mut known = BTreeSet::new();
            here.retain(|(_, term)| known.insert(term.clone()));
        }
        made
    };
    let mut begins = BTreeMap::new();
    let mut next = 0;
    let mut tokens: Vec<(u32, u32, Role, String)> = Vec::new();
    let mut lone = Vec::new();
    let wholes: Vec<_> = base.iter().filter(|(_, span, _)| *span > 1).collect();
    for (position, _, term) in base.iter().filter(|(_, span, _)| *span == 1) {
        begins.insert(*position, next);
        for here in made(term) {
            for (role, term) in here {
                let twin = tokens.iter().any(|(at, _, _, known)| *at == next && *known == term);
                if !twin {
                    tokens.push((next, 1, role, term));
                }
            }
            next += 1;
        }
        // A hyphenated word of which nothing is left is a word itself.
        for (first, span, term) in &wholes {
            if first + span == position + 1 && begins[first] == next {
                let first_word = made(term).into_iter().next().unwrap_or_default();
                for (role, term) in first_word.into_iter().filter(|(role, _)| *role != Role::Part) {
                    if !tokens.iter().any(|(at, _, _, known)| *at == next && *known == term) {
                        tokens.push((next, 1, role, term));
                    }
                }
                lone.push(*first);
                next += 1;
            }
        }
    }
    begins.insert(base.iter().map(|(at, ..)| at + 1).max().unwrap_or(0), next);
    for (position, span, term) in wholes.into_iter().filter(|(position, ..)| !lone.contains(position)) {
        let (begin, span) = (begins[position], begins[&(position + span)] - begins[position]);
        for (role, term) in made(term).into_iter().next().unwrap_or_default() {
            let twin = tokens.iter_mut().find(|(at, _, _, known)| *at == begin && *known == term);
            match twin {
                _ if role == Role::Part => {}
                // What is another word for it is not told as a part of it as well.
                Some((_, 1, known, _)) if span == 1 && *known == Role::Part => *known = Role::Also,
                Some(_) => {}
                None => tokens.push((begin, span, if span == 1 { Role::Also } else { role }, term)),
            }
        }
    }
    tokens.sort();
    (tokens, next)
}

fn outs() -> impl Strategy<Value = Vec<Out>> {
    let term = || prop::sample::select(&["oak", "elm", "é", "fir", ""][..]).prop_map(str::to_owned);
    let out = prop_oneof![
        3 => term().prop_map(Out::Word),
        2 => term().prop_map(Out::Also),
        2 => term().prop_map(Out::Part),
        1 => Just(Out::Gap),
        2 => (0_usize..5, 0_usize..5).prop_map(|(start, end)| Out::At(start..end)),
    ];
    prop::collection::vec(out, 0..5)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 1_000, ..ProptestConfig::default() })]

    #[test]
    fn tokens_of_a_step_are_those_of_a_slow_reckoning(
        rows in prop::collection::btree_map(prop::sample::select(&["a", "é", "oak", "aé", "oaké", "elm"][..]), outs(), 0..6),
        words in prop::collection::vec(prop::sample::select(&["A", "É", "oak", "-oak", "a-é", "oak-É", "elm", "a-a-a", "(é)"][..]), 0..8),
    ) {
        let rows: BTreeMap<String, Vec<Out>> = rows.into_iter().map(|(word, outs)| (word.to_owned(), outs)).collect();
        // A name for each table, since a version stands for what a step does.
        let name = format!("{rows:?}");
        let recipe = with_step(&name, Arc::new(Table(rows.clone())), TextSettings::default());
        let text = words.join(" ");
        let (expected, positions) = slow(&Recipe::of(&TextSettings::default()), &rows, &text);
        let mut reader = recipe.reader();
        for _ in 0..2 {
            let (mut tokens, mut before) = (Vec::new(), 0);
            let count = reader.tokens(&text, |token| {
                assert!(!text[token.start..token.end].is_empty() && token.term.len() <= MAX_TERM_BYTES);
                assert!(token.position >= before && token.span >= 1);
                before = token.position;
                tokens.push((token.position, token.span, token.role, token.term.to_owned()));
            });
            tokens.sort();
            prop_assert_eq!(&tokens, &expected);
            prop_assert_eq!(count, positions);
        }
        let traced = recipe.trace(&text).into_iter().filter(|token| !token.dropped);
        let mut traced: Vec<_> = traced.map(|token| (token.position, token.span, token.role, token.term)).collect();
        traced.sort();
        prop_assert_eq!(traced, expected);
    }

    #[test]
    fn whatever_is_done_offsets_are_inside_and_positions_ascend(
        rows in prop::collection::btree_map("[a-cé傘]{1,3}", outs(), 0..6),
        parts in prop::collection::vec("[a-cé]{3,4}", 1..4),
        text in "([a-céÉ傘ß]{1,9}|[-' .|\u{ad}]|\\PC){0,24}",
        own in any::<bool>(),
    ) {
        offer_tokeniser("bars", "1", Arc::new(Bars)).unwrap();
        let (step, list) = (format!("{rows:?}"), parts.join(" "));
        offer_step(&step, "1", Arc::new(Table(rows))).unwrap();
        offer_words(&list, WordList::of(&language("de"), &parts).unwrap()).unwrap();
        let settings = TextSettings {
            steps: vec![step],
            compounds: vec![list],
            tokeniser: own.then(|| "bars".to_owned()),
            ..TextSettings::of(language("de"))
        };
        let recipe = Recipe::of(&settings);
        let mut tokens = Vec::new();
        let count = recipe.tokens(&text, |token| tokens.push((token.position, token.start..token.end, token.term.to_owned())));
        prop_assert!(tokens.is_sorted_by_key(|(position, ..)| *position));
        prop_assert!(tokens.iter().all(|(position, range, _)| *position < count && text.get(range.clone()).is_some()));
        let mut twins: Vec<_> = tokens.iter().map(|(position, _, term)| (position, term)).collect();
        twins.sort();
        prop_assert!(twins.is_sorted_by(|a, b| a < b));
    }
}
