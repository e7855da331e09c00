//! The slow and obvious way to search: look at every record, count, and put the numbers into the formula as it is
//! written down in `docs/`. It shares no code with cursors, shelves or the arithmetic in `rank`; only texts are read into
//! tokens by the same recipes, which have tests of their own.

use nut_cellar_core::{Key, Language, Recipe, Record, Value};
use std::collections::{BTreeMap, BTreeSet};

/// A text column: its name, its language, and the weight of this search.
#[derive(Clone, Debug)]
pub struct OracleColumn {
    pub name: &'static str,
    pub language: &'static str,
    /// Other languages that a record may be in, and the column that says which.
    pub others: Option<(&'static str, &'static str)>,
    pub weight: f32,
}

/// A word or a phrase as typed, and the columns (by place) it is looked for in.
#[derive(Clone, Debug)]
pub struct OracleClause {
    pub text: String,
    pub columns: Vec<usize>,
}

#[derive(Clone, Debug)]
pub struct OracleSearch {
    pub columns: Vec<OracleColumn>,
    pub clauses: Vec<OracleClause>,
    /// How many different clauses have to match; 0 for all.
    pub at_least: usize,
    pub k1: f32,
    pub b: f32,
}

/// A token of a column: its term, its position, and how many it spans.
#[derive(Clone, Debug)]
struct Word {
    term: String,
    at: u32,
    span: u32,
}

/// The tokens of one column of one record.
type Tokens = Vec<Word>;

/// A term as typed, with what its forms have in common in which language; matches any of them.
#[derive(Clone, Debug, PartialEq)]
struct Typed {
    term: String,
    key: Option<String>,
    language: &'static str,
}

/// A term as typed with all that stand for it, and how alike each is.
type Family = (Typed, Vec<(String, f32)>);

/// A run of terms, each with how far it stands from the first.
type Run = Vec<(Typed, u32)>;

/// All matches, best first: keys and scores.
#[allow(clippy::too_many_lines, reason = "one plain way through, from top to bottom")]
pub fn search(records: &BTreeMap<Key, Record>, search: &OracleSearch) -> Vec<(Key, f32)> {
    let documents: Vec<(&Key, Vec<Tokens>)> = records
        .iter()
        .map(|(key, record)| {
            (key, search.columns.iter().map(|column| column_tokens(record, column)).collect())
        })
        .collect();
    let count = documents.len() as f64;
    let averages: Vec<f32> = (0..search.columns.len())
        .map(|c| {
            (documents.iter().map(|(_, columns)| length(&columns[c])).sum::<u64>() as f64 / count) as f32
        })
        .collect();

    // Each clause once, with how often it was typed: for each column the runs of terms that it may stand for there.
    let mut clauses: Vec<(Vec<Vec<Run>>, u32)> = Vec::new();
    for clause in &search.clauses {
        let read: Vec<Vec<Run>> = (0..search.columns.len())
            .map(|c| {
                let searched = clause.columns.contains(&c);
                if searched { runs(&clause.text, &search.columns[c]) } else { Vec::new() }
            })
            .collect();
        if read.iter().all(Vec::is_empty) {
            continue;
        }
        match clauses.iter_mut().find(|(known, _)| *known == read) {
            Some((_, times)) => *times += 1,
            None => clauses.push((read, 1)),
        }
    }
    // A word is, at one place of a clause, the terms that each column has there.
    let mut words: Vec<Vec<Vec<Typed>>> = Vec::new();
    let mut words_of: Vec<Vec<usize>> = Vec::new();
    for (read, _) in &clauses {
        let longest = read.iter().flatten().map(Vec::len).max().unwrap_or(0);
        let mut here = Vec::new();
        for place in 0..longest {
            let at = |runs: &Vec<Run>| {
                let mut terms: Vec<Typed> = Vec::new();
                for (term, _) in runs.iter().filter_map(|run| run.get(place)) {
                    if !terms.contains(term) {
                        terms.push(term.clone());
                    }
                }
                terms
            };
            let word: Vec<Vec<Typed>> = read.iter().map(at).collect();
            let known = words.iter().position(|known| *known == word);
            here.push(known.unwrap_or(words.len()));
            if known.is_none() {
                words.push(word);
            }
        }
        words_of.push(here);
    }
    // Every term there is.
    let all: BTreeSet<&String> =
        documents.iter().flat_map(|(_, c)| c.iter().flatten()).map(|word| &word.term).collect();
    // For each word its terms as typed, in the order of their first columns, each with its family.
    let families: Vec<Vec<Family>> = words
        .iter()
        .map(|word| {
            let mut families: Vec<Family> = Vec::new();
            for typed in word.iter().flatten() {
                if !families.iter().any(|(known, _)| known == typed) {
                    families.push((typed.clone(), family(typed, &all)));
                }
            }
            families
        })
        .collect();
    let idf: Vec<f32> = families
        .iter()
        .map(|families| {
            let with = |term: &String| {
                let has = |columns: &Vec<Tokens>| columns.iter().flatten().any(|word| word.term == *term);
                documents.iter().filter(|(_, columns)| has(columns)).count()
            };
            let members = families.iter().flat_map(|(_, family)| family);
            let n = members.map(|(term, _)| with(term)).max().unwrap_or(0) as f64;
            libm::log(1.0 + (count - n + 0.5) / (n + 0.5)) as f32
        })
        .collect();

    let mut hits = Vec::new();
    for (key, columns) in &documents {
        let matched: Vec<bool> = clauses
            .iter()
            .map(|(read, _)| {
                read.iter().zip(columns).any(|(runs, c)| runs.iter().any(|run| occurs(run, c, &families)))
            })
            .collect();
        let matching = matched.iter().filter(|m| **m).count();
        let needed = if search.at_least == 0 { clauses.len() } else { search.at_least.min(clauses.len()) };
        if matching == 0 || matching < needed {
            continue;
        }
        let mut score = 0.0_f32;
        for (w, word) in words.iter().enumerate() {
            let mut times = 0;
            for (c, (_, typed)) in clauses.iter().enumerate() {
                if matched[c] {
                    times += typed * words_of[c].iter().filter(|known| **known == w).count() as u32;
                }
            }
            if times > 0 {
                score += part(search, word, &families[w], columns, &averages, idf[w]) * times as f32;
            }
        }
        hits.push(((*key).clone(), score));
    }
    hits.sort_by(|(key_a, a), (key_b, b)| b.total_cmp(a).then(key_a.cmp(key_b)));
    hits
}

fn part(
    search: &OracleSearch,
    word: &[Vec<Typed>],
    families: &[Family],
    columns: &[Tokens],
    averages: &[f32],
    idf: f32,
) -> f32 {
    // Each term once: those that were typed, then their forms.
    let typed = families.iter().flat_map(|(_, family)| family.iter().take(1));
    let forms = families.iter().flat_map(|(_, family)| family.iter().skip(1));
    let mut seen = BTreeSet::new();
    let mut tf = 0.0_f32;
    for (term, likeness) in typed.chain(forms).filter(|(term, _)| seen.insert(term.clone())) {
        let stands_for = |typed: &Typed| {
            families
                .iter()
                .any(|(known, family)| known == typed && family.iter().any(|(form, _)| form == term))
        };
        let mut of_term = 0.0_f32;
        for c in (0..columns.len()).filter(|&c| word[c].iter().any(stands_for)) {
            let count = columns[c].iter().filter(|word| word.term == *term).count();
            if count > 0 {
                let (w, b, length) = (search.columns[c].weight, search.b, length(&columns[c]) as f32);
                of_term += w * count as f32 / (1.0 - b + b * length / averages[c]);
            }
        }
        tf += of_term * likeness;
    }
    if tf == 0.0 { 0.0 } else { idf * (search.k1 + 1.0) / (1.0 + search.k1 / tf) }
}

/// The term as typed, then its forms in order, with how alike they are.
fn family(typed: &Typed, all: &BTreeSet<&String>) -> Vec<(String, f32)> {
    let recipe = Recipe::new(&Language::new(typed.language).unwrap());
    let is_form =
        |term: &&&String| **term != &typed.term && typed.key.is_some() && recipe.key_of(term) == typed.key;
    let forms = all.iter().filter(is_form).map(|term| ((*term).clone(), 0.7));
    [(typed.term.clone(), 1.0)].into_iter().chain(forms).collect()
}

/// The positions of a column: the wholes of compounds take none of their own.
fn length(column: &Tokens) -> u64 {
    column.iter().filter(|word| word.span == 1).count() as u64
}

/// What a typed text may stand for, in each language of a column: its parts in a row, and its compounds as wholes in a
/// row.
fn runs(text: &str, column: &OracleColumn) -> Vec<Run> {
    let mut runs = Vec::new();
    for language in [column.language].into_iter().chain(column.others.map(|(language, _)| language)) {
        let recipe = Recipe::new(&Language::new(language).unwrap());
        let typed = |word: &Word| Typed { term: word.term.clone(), key: recipe.key_of(&word.term), language };
        let tokens = text_tokens(text, language);
        let parts: Run =
            tokens.iter().filter(|word| word.span == 1).map(|word| (typed(word), word.at)).collect();
        let mut wholes = Run::new();
        let mut covered = 0;
        for word in &tokens {
            if word.at >= covered {
                wholes.push((typed(word), wholes.len() as u32));
                covered = word.at + word.span;
            }
        }
        for run in [parts, wholes] {
            if !run.is_empty() && !runs.contains(&run) {
                runs.push(run);
            }
        }
    }
    runs
}

fn occurs(run: &Run, column: &Tokens, families: &[Vec<Family>]) -> bool {
    let is = |typed: &Typed, word: &Word| {
        let family = families.iter().flatten().find(|(known, _)| known == typed);
        family.is_some_and(|(_, family)| family.iter().any(|(term, _)| *term == word.term))
    };
    column.iter().any(|start| {
        run.iter()
            .all(|(typed, offset)| column.iter().any(|word| word.at == start.at + offset && is(typed, word)))
    })
}

fn text_tokens(text: &str, language: &str) -> Tokens {
    let mut tokens = Vec::new();
    Recipe::new(&Language::new(language).unwrap()).tokens(text, |token| {
        tokens.push(Word { term: token.term.to_owned(), at: token.position, span: token.span });
    });
    tokens
}

fn column_tokens(record: &Record, column: &OracleColumn) -> Tokens {
    let mut tokens = Vec::new();
    let said = column.others.filter(|(other, from)| {
        record
            .values(from)
            .first()
            .and_then(Value::as_text)
            .is_some_and(|said| said.eq_ignore_ascii_case(other))
    });
    let language = said.map_or(column.language, |(language, _)| language);
    for (place, value) in (0..).zip(record.values(column.name)) {
        // Far enough apart that no phrase reaches from one value to the next.
        let base = place * 1_000_000;
        if let Value::Text(text) = value {
            let words = text_tokens(text, language).into_iter();
            tokens.extend(words.map(|word| Word { at: base + word.at, ..word }));
        }
    }
    tokens
}
