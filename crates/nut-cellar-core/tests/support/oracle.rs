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

/// The tokens of one column of one record, as (term, position, how many positions it spans).
type Tokens = Vec<(String, u32, u32)>;

/// A run of terms, each with how far it stands from the first.
type Run = Vec<(String, u32)>;

/// All matches, best first: keys and scores.
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
                if searched {
                    runs(&text_tokens(&clause.text, search.columns[c].language))
                } else {
                    Vec::new()
                }
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
    let mut words: Vec<Vec<Vec<String>>> = Vec::new();
    let mut words_of: Vec<Vec<usize>> = Vec::new();
    for (read, _) in &clauses {
        let longest = read.iter().flatten().map(Vec::len).max().unwrap_or(0);
        let mut here = Vec::new();
        for place in 0..longest {
            let at = |runs: &Vec<Run>| {
                let mut terms: Vec<String> = Vec::new();
                for (term, _) in runs.iter().filter_map(|run| run.get(place)) {
                    if !terms.contains(term) {
                        terms.push(term.clone());
                    }
                }
                terms
            };
            let word: Vec<Vec<String>> = read.iter().map(at).collect();
            let known = words.iter().position(|known| *known == word);
            here.push(known.unwrap_or(words.len()));
            if known.is_none() {
                words.push(word);
            }
        }
        words_of.push(here);
    }
    let idf: Vec<f32> = words
        .iter()
        .map(|word| {
            let with = |term: &String| {
                let has = |columns: &Vec<Tokens>| columns.iter().flatten().any(|(known, _, _)| known == term);
                documents.iter().filter(|(_, columns)| has(columns)).count()
            };
            let n = word.iter().flatten().map(with).max().unwrap_or(0) as f64;
            libm::log(1.0 + (count - n + 0.5) / (n + 0.5)) as f32
        })
        .collect();

    let mut hits = Vec::new();
    for (key, columns) in &documents {
        let matched: Vec<bool> = clauses
            .iter()
            .map(|(read, _)| read.iter().zip(columns).any(|(runs, c)| runs.iter().any(|run| occurs(run, c))))
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
                score += part(search, word, columns, &averages, idf[w]) * times as f32;
            }
        }
        hits.push(((*key).clone(), score));
    }
    hits.sort_by(|(key_a, a), (key_b, b)| b.total_cmp(a).then(key_a.cmp(key_b)));
    hits
}

fn part(search: &OracleSearch, word: &[Vec<String>], columns: &[Tokens], averages: &[f32], idf: f32) -> f32 {
    // Each different term of the word, in the order of its first column.
    let mut seen = BTreeSet::new();
    let mut tf = 0.0_f32;
    for term in word.iter().flatten() {
        if !seen.insert(term) {
            continue;
        }
        let mut of_term = 0.0_f32;
        for c in (0..columns.len()).filter(|&c| word[c].contains(term)) {
            let count = columns[c].iter().filter(|(known, _, _)| known == term).count();
            if count > 0 {
                let (w, b, length) = (search.columns[c].weight, search.b, length(&columns[c]) as f32);
                of_term += w * count as f32 / (1.0 - b + b * length / averages[c]);
            }
        }
        tf += of_term;
    }
    if tf == 0.0 { 0.0 } else { idf * (search.k1 + 1.0) / (1.0 + search.k1 / tf) }
}

/// The positions of a column: the wholes of compounds take none of their own.
fn length(column: &Tokens) -> u64 {
    column.iter().filter(|(_, _, span)| *span == 1).count() as u64
}

/// What a typed text may stand for: its parts in a row, and its compounds as wholes in a row.
fn runs(typed: &Tokens) -> Vec<Run> {
    let parts: Run = typed.iter().filter(|t| t.2 == 1).map(|(term, at, _)| (term.clone(), *at)).collect();
    let mut wholes = Run::new();
    let mut covered = 0;
    for (term, at, span) in typed {
        if *at >= covered {
            wholes.push((term.clone(), wholes.len() as u32));
            covered = at + span;
        }
    }
    let mut runs = Vec::new();
    for run in [parts, wholes] {
        if !run.is_empty() && !runs.contains(&run) {
            runs.push(run);
        }
    }
    runs
}

fn occurs(run: &Run, column: &Tokens) -> bool {
    column.iter().any(|(_, start, _)| {
        let at =
            |(term, offset): &(String, u32)| column.iter().any(|(t, p, _)| t == term && *p == start + offset);
        run.iter().all(at)
    })
}

fn text_tokens(text: &str, language: &str) -> Tokens {
    let mut tokens = Vec::new();
    Recipe::new(&Language::new(language).unwrap())
        .tokens(text, |token| tokens.push((token.term.to_owned(), token.position, token.span)));
    tokens
}

fn column_tokens(record: &Record, column: &OracleColumn) -> Tokens {
    let mut tokens = Vec::new();
    for (place, value) in (0..).zip(record.values(column.name)) {
        // Far enough apart that no phrase reaches from one value to the next.
        let base = place * 1_000_000;
        if let Value::Text(text) = value {
            tokens.extend(
                text_tokens(text, column.language)
                    .into_iter()
                    .map(|(term, at, span)| (term, base + at, span)),
            );
        }
    }
    tokens
}
