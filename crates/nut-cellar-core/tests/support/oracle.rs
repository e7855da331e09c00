//! The slow and obvious way to search: look at every record, count, and put the numbers into the formula as it is
//! written down in `docs/`. It shares no code with cursors, shelves or the arithmetic in `rank`: it has its own table of
//! tokens, its own patterns, edit distance and comparisons of values. Only texts are read into tokens by the same recipes,
//! which have tests of their own.

use nut_cellar_core::filter::Test;
use nut_cellar_core::search::{Beginnings, Order, PagePlace};
use nut_cellar_core::text::{
    Role, Stemmer, Step, StepOutput, TextSettings, WordList, offer_stemmer, offer_step, offer_words,
};
use nut_cellar_core::{Filter, Key, Kind, Language, Query, Recipe, Record, Value, Words};
use std::cell::RefCell;
use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Deref;
use std::sync::Arc;

/// A text column: its name, its language, and the weight of this search.
#[derive(Clone, Debug)]
pub struct OracleColumn {
    pub name: &'static str,
    /// Its language, or [`OWN`].
    pub language: &'static str,
    /// Other languages that a record may be in, and the column that says which.
    pub others: Option<(&'static str, &'static str)>,
    pub weight: f32,
    /// The positions between two of its values.
    pub gap: u32,
    /// How many positions of it there are at most.
    pub most: u32,
}

#[derive(Clone, Debug)]
pub struct OracleSearch {
    pub columns: Vec<OracleColumn>,
    /// Columns whose values are compared.
    pub values: Vec<(&'static str, Kind)>,
    pub query: Query,
    /// The places of the columns that are searched.
    pub searched: Vec<usize>,
    pub words: Words,
    /// Whether words also stand for near spellings, and for what begins like them.
    pub near: bool,
    pub beginnings: Beginnings,
    /// The first letters that have to be right in near spellings.
    pub first_letters: usize,
    pub filter: Option<Filter>,
    pub order: Order,
    pub k1: f32,
    /// For each column.
    pub b: Vec<f32>,
    pub proximity: f32,
    /// What makes a query simpler that would go through more postings.
    pub most_postings: Option<u64>,
}

impl OracleSearch {
    /// A search of all columns with everything else as usual.
    #[allow(dead_code, reason = "each test uses a part of this file")]
    pub fn plain(columns: Vec<OracleColumn>, query: Query, words: Words) -> Self {
        Self {
            searched: (0..columns.len()).collect(),
            b: vec![0.75; columns.len()],
            columns,
            values: Vec::new(),
            query,
            words,
            near: false,
            beginnings: Beginnings::None,
            first_letters: 0,
            filter: None,
            order: Order::Score,
            k1: 1.2,
            proximity: 0.0,
            most_postings: None,
        }
    }
}

/// A match, in its place.
#[derive(Clone, Debug)]
pub struct OracleHit {
    pub key: Key,
    pub score: f32,
    pub value: Option<Value>,
}

/// A token of a column: its term, its position, how many it spans, and what it is to it.
#[derive(Clone, Debug)]
struct Word {
    term: String,
    at: u32,
    span: u32,
    role: Role,
    /// Whether it ends where the last one does.
    last: bool,
    /// The language whose forms it is one of, none if it has none, and what it has in common with them.
    stemming: &'static str,
    key: String,
}

/// The tokens of one column of one record, and how many positions there are.
#[derive(Clone, Debug, Default)]
struct Tokens(Vec<Word>, u32);

impl Deref for Tokens {
    type Target = [Word];

    fn deref(&self) -> &[Word] {
        &self.0
    }
}

/// What is looked for at one place of a run.
#[derive(Clone, Debug, PartialEq)]
struct Typed {
    term: Option<String>,
    key: Option<String>,
    language: &'static str,
    like: Vec<Like>,
}

#[derive(Clone, Debug, PartialEq)]
enum Like {
    Pattern(String),
    Beginning(String),
    Near(String, usize),
}

/// All terms that stand for a typed one, most alike first, of which the first 64 score; each with the stemmings by which it is found.
type Family = (Typed, Vec<(String, f32, BTreeSet<&'static str>)>);

const SCORING: usize = 64;

/// A run of terms, each with how far it stands from the first.
type Run = Vec<(Typed, u32)>;

/// The reading of a column in which words become several tokens, or none, and whose stemmer is the program's.
pub const OWN: &str = "own";

/// How a column of a language is read.
pub fn reading(language: &str) -> TextSettings {
    if language != OWN {
        return TextSettings::of(Language::new(language).unwrap());
    }
    let german = Language::new("de").unwrap();
    let words = WordList::of(&german, ["Box", "Handle", "oak"]).unwrap();
    offer_words("box words", words).unwrap();
    offer_step("clerks", "1", Arc::new(Clerks)).unwrap();
    offer_stemmer("plurals", "1", Arc::new(Plurals)).unwrap();
    TextSettings {
        compounds: vec!["box words".into()],
        steps: vec!["clerks".into()],
        stemmer: Some("plurals".into()),
        ..TextSettings::of(german)
    }
}

fn recipe(language: &str) -> Recipe {
    Recipe::of(&reading(language))
}

/// Splits, drops and adds words.
struct Clerks;

impl Step for Clerks {
    fn apply(&self, word: &str, _: &str, out: &mut StepOutput) {
        match word {
            "handel" => out.word("hand").at(0..4).word("el").at(4..6),
            "oak" => out.word("oak").also("elm").also("trees"),
            "elm" => out.gap(),
            "wi" => out,
            "umbrellas" => out.word("umbrellas").part("umbrellas").part("handle"),
            word => out.word(word),
        };
    }
}

struct Plurals;

impl Stemmer for Plurals {
    fn stem(&self, _: &Language, word: &mut String) {
        word.truncate(word.trim_end_matches(['e', 's']).len().max(2).min(word.len()));
    }
}

/// A word, phrase or pattern: for each column the runs that it may stand for there.
#[derive(Clone, Debug)]
struct Leaf {
    text: String,
    runs: Vec<Vec<Run>>,
    window: Option<u32>,
    times: u32,
    words: Vec<usize>,
    /// Whether its terms may stand anywhere.
    loose: bool,
}

/// What has to match.
#[derive(Clone, Debug, PartialEq)]
enum Node {
    Nothing,
    Leaf(usize),
    Value(String, Kind, Test),
    All(Vec<Node>),
    Any(Vec<Node>),
    AtLeast(usize, Vec<Node>),
    Not(Box<Node>),
}

struct Reader<'a> {
    search: &'a OracleSearch,
    leaves: Vec<Leaf>,
    words: Vec<Vec<Vec<(Typed, f32)>>>,
    /// How columns that are not searched read each word.
    elsewhere: Vec<Vec<Typed>>,
}

/// By which stemming words of a language have forms.
fn stemming(language: &'static str) -> &'static str {
    if with_recipe(language, |recipe| recipe.key_of("oaks").is_some()) { language } else { "" }
}

/// Recipes take longer to make than all that is asked of them here.
fn with_recipe<T>(language: &'static str, ask: impl FnOnce(&Recipe) -> T) -> T {
    thread_local! {
        static KNOWN: RefCell<BTreeMap<&'static str, Recipe>> = RefCell::default();
    }
    KNOWN.with_borrow_mut(|known| ask(known.entry(language).or_insert_with(|| recipe(language))))
}

/// The stemmings, in the order of the columns, and the columns of each.
fn stemmings(search: &OracleSearch) -> Vec<(&'static str, BTreeSet<usize>)> {
    let mut all: Vec<(&str, BTreeSet<usize>)> = Vec::new();
    for (c, column) in search.columns.iter().enumerate() {
        for language in [column.language].into_iter().chain(column.others.map(|(language, _)| language)) {
            let name = stemming(language);
            match all.iter_mut().find(|(known, _)| *known == name) {
                Some((_, columns)) => drop(columns.insert(c)),
                None => all.push((name, BTreeSet::from([c]))),
            }
        }
    }
    all
}

/// What forms of a term have in common.
fn key_of(stemming: &'static str, term: &str) -> String {
    let key = if stemming.is_empty() { None } else { with_recipe(stemming, |recipe| recipe.key_of(term)) };
    key.unwrap_or_else(|| term.to_owned())
}

/// All matches, in order.
pub fn search(records: &BTreeMap<Key, Record>, search: &OracleSearch) -> Vec<OracleHit> {
    look(records, search).0
}

/// The phrases that are looked for as words, wherever these stand.
#[allow(dead_code, reason = "each test uses a part of this file")]
pub fn loosened(records: &BTreeMap<Key, Record>, search: &OracleSearch) -> Vec<String> {
    look(records, search).1
}

/// The mean length of each column.
fn averages(search: &OracleSearch, documents: &[(&Key, Vec<Tokens>)]) -> Vec<f32> {
    let sum = |c: usize| documents.iter().map(|(_, columns)| length(&columns[c])).sum::<u64>() as f64;
    (0..search.columns.len()).map(|c| (sum(c) / documents.len() as f64) as f32).collect()
}

fn look(records: &BTreeMap<Key, Record>, search: &OracleSearch) -> (Vec<OracleHit>, Vec<String>) {
    let documents: Vec<(&Key, Vec<Tokens>)> = records
        .iter()
        .map(|(key, record)| {
            (key, search.columns.iter().map(|column| column_tokens(record, column)).collect())
        })
        .collect();
    let count = documents.len() as f64;
    let averages = averages(search, &documents);
    let mut reader = Reader { search, leaves: Vec::new(), words: Vec::new(), elsewhere: Vec::new() };
    let root = reader.read(&search.query, &search.searched, &[], true, true);
    let Reader { mut leaves, words, elsewhere, .. } = reader;
    // Every term there is, with its stemming.
    let all: BTreeMap<(&str, &String), &String> = documents
        .iter()
        .flat_map(|(_, c)| c.iter().flat_map(|column| column.iter()))
        .map(|word| ((word.stemming, &word.term), &word.key))
        .collect();
    let typed = leaves.iter().flat_map(|leaf| leaf.runs.iter().flatten().flatten()).map(|(typed, _)| typed);
    let mut families: Vec<Family> = Vec::new();
    for typed in typed {
        if !families.iter().any(|(known, _)| known == typed) {
            families.push((typed.clone(), family(typed, &all)));
        }
    }
    let having = |is: &dyn Fn(&Word) -> bool| {
        let has = |columns: &Vec<Tokens>| columns.iter().flat_map(|column| column.iter()).any(is);
        documents.iter().filter(|(_, columns)| has(columns)).count() as u64
    };
    let with = |term: &String, by: &BTreeSet<&str>| {
        let of = |stemming: &&str| having(&|word| word.term == *term && word.stemming == *stemming);
        by.iter().map(of).max().unwrap_or(0)
    };
    // Of a word whose forms count, all records that have one.
    let class = |typed: &Typed| {
        let own = stemming(typed.language);
        match &typed.key {
            Some(key) => having(&|word| word.stemming == own && word.key == *key),
            None => having(&|word| word.stemming == own && Some(&word.term) == typed.term.as_ref()),
        }
    };
    let counts: Vec<Vec<u64>> = words
        .iter()
        .map(|word| scoring(word, &families).iter().map(|(term, (.., by))| with(term, by)).collect())
        .collect();
    let idf = words.iter().zip(&elsewhere).map(|(word, elsewhere)| {
        let typed = || word.iter().flatten().map(|(typed, _)| typed);
        let of_terms = typed().flat_map(|typed| {
            let (_, family) = families.iter().find(|(known, _)| known == typed).unwrap();
            family.iter().take(SCORING).map(|(term, _, by)| with(term, by)).collect::<Vec<_>>()
        });
        let of_classes = typed().filter(|typed| typed.key.is_some()).chain(elsewhere).map(class);
        let n = of_terms.chain(of_classes).max().unwrap_or(0) as f64;
        libm::log(1.0 + (count - n + 0.5) / (n + 0.5)) as f32
    });
    let idf: Vec<f32> = idf.collect();
    let mut far = false;
    if let Some(most) = search.most_postings {
        let of_word: Vec<u64> = counts.iter().map(|counts| counts.iter().sum()).collect();
        let records = documents.len() as u64;
        far = is_nearness_left_out(estimate(&root, &leaves, &of_word, records), &of_word, records, most);
        simplify(&mut leaves, &root, &of_word, records, most);
    }

    let mut hits = Vec::new();
    for (key, columns) in &documents {
        let record = &records[*key];
        let all_match = |anywhere_alone| {
            leaves.iter().map(|leaf| matches_leaf(leaf, columns, &families, anywhere_alone)).collect()
        };
        let (found, matched): (Vec<bool>, Vec<bool>) = (all_match(true), all_match(false));
        let passes = search.filter.as_ref().is_none_or(|filter| passes(filter, record, search));
        if root == Node::Nothing || !matches(&root, &found, record) || !passes {
            continue;
        }
        let times = |w: usize| -> u32 {
            let each = leaves.iter().zip(&matched).filter(|(_, matched)| **matched);
            each.map(|(leaf, _)| leaf.times * leaf.words.iter().filter(|known| **known == w).count() as u32)
                .sum()
        };
        let mut score = 0.0_f32;
        for (w, word) in words.iter().enumerate() {
            if times(w) > 0 {
                score += part(search, word, &families, columns, &averages, idf[w]) * times(w) as f32;
            }
        }
        if search.proximity > 0.0 && !far {
            let there: Vec<_> =
                words.iter().enumerate().filter(|(w, _)| times(*w) > 0).map(|(_, word)| word).collect();
            if let Some(distance) = nearest(&there, &families, columns) {
                let near = libm::log((0.3 + libm::exp(-f64::from(distance))) / 0.3) as f32;
                score += search.proximity * near;
            }
        }
        if search.order == Order::Key {
            score = 0.0;
        }
        hits.push(OracleHit { key: (*key).clone(), score, value: ordered_by(search, record) });
    }
    hits.sort_by(|a, b| in_order(search, a, b));
    let loose = leaves.into_iter().filter(|leaf| leaf.loose).map(|leaf| leaf.text);
    (hits, loose.collect())
}

/// The order of two hits.
fn in_order(search: &OracleSearch, a: &OracleHit, b: &OracleHit) -> Ordering {
    let down = matches!(search.order, Order::Column { down: true, .. });
    let values = match (&a.value, &b.value) {
        (Some(a), Some(b)) if down => compare(b, a),
        (Some(a), Some(b)) => compare(a, b),
        (a, b) => b.is_some().cmp(&a.is_some()),
    };
    values.then(b.score.total_cmp(&a.score)).then(a.key.cmp(&b.key))
}

/// Whether a hit comes after a place.
#[allow(dead_code, reason = "each test uses a part of this file")]
pub fn comes_after(search: &OracleSearch, hit: &OracleHit, place: &PagePlace) -> bool {
    let place = OracleHit { key: place.key.clone(), score: place.score, value: place.value.clone() };
    in_order(search, &place, hit) == Ordering::Less
}

fn ordered_by(search: &OracleSearch, record: &Record) -> Option<Value> {
    let Order::Column { name, down } = &search.order else { return None };
    let values = record.values(name).iter().cloned();
    if *down { values.max_by(compare) } else { values.min_by(compare) }
}

fn compare(a: &Value, b: &Value) -> Ordering {
    match (a, b) {
        (Value::Float(a), Value::Float(b)) => a.partial_cmp(b).unwrap(),
        (Value::Integer(a), Value::Integer(b)) | (Value::Moment(a), Value::Moment(b)) => a.cmp(b),
        (Value::Date(a), Value::Date(b)) => a.cmp(b),
        (Value::Boolean(a), Value::Boolean(b)) => a.cmp(b),
        (a, b) => a.to_string().cmp(&b.to_string()),
    }
}

fn matches(node: &Node, matched: &[bool], record: &Record) -> bool {
    match node {
        Node::Nothing => false,
        Node::Leaf(leaf) => matched[*leaf],
        Node::Value(column, kind, test) => holds(record.values(column), *kind, test),
        Node::All(parts) => parts.iter().all(|part| matches(part, matched, record)),
        Node::Any(parts) => parts.iter().any(|part| matches(part, matched, record)),
        Node::AtLeast(count, parts) => {
            parts.iter().filter(|part| matches(part, matched, record)).count() >= *count
        }
        Node::Not(part) => !matches(part, matched, record),
    }
}

fn passes(filter: &Filter, record: &Record, search: &OracleSearch) -> bool {
    match filter {
        Filter::Column(name, test) => {
            let kind = search.values.iter().find(|(known, _)| known == name).unwrap().1;
            holds(record.values(name), kind, test)
        }
        Filter::All(parts) => parts.iter().all(|part| passes(part, record, search)),
        Filter::Any(parts) => parts.iter().any(|part| passes(part, record, search)),
        Filter::Not(part) => !passes(part, record, search),
        _ => panic!("no other filters are made here"),
    }
}

/// Whether a test holds for one of the values.
fn holds(values: &[Value], kind: Kind, test: &Test) -> bool {
    let is = |value: &Value, wanted: &Value| against(value, wanted, kind);
    match test {
        Test::Absent => values.is_empty(),
        Test::Under(path) => {
            let path = path.to_string();
            let is_under = |value: &str| value == path || value.starts_with(&format!("{path}/"));
            values.iter().filter_map(Value::as_text).any(is_under)
        }
        Test::Equal(wanted) => values.iter().any(|value| is(value, wanted).is_eq()),
        Test::In(wanted) => values.iter().any(|value| wanted.iter().any(|wanted| is(value, wanted).is_eq())),
        Test::Below(wanted) => values.iter().any(|value| is(value, wanted).is_lt()),
        Test::AtMost(wanted) => values.iter().any(|value| is(value, wanted).is_le()),
        Test::Above(wanted) => values.iter().any(|value| is(value, wanted).is_gt()),
        Test::AtLeast(wanted) => values.iter().any(|value| is(value, wanted).is_ge()),
        Test::Between(low, high) => {
            values.iter().any(|value| is(value, low).is_ge() && is(value, high).is_le())
        }
        _ => panic!("no other tests are made here"),
    }
}

/// How a value stands to one as it was typed; a date that lies in a month that was typed is equal to it.
fn against(value: &Value, wanted: &Value, kind: Kind) -> Ordering {
    let (shown, typed) = (value.to_string(), wanted.to_string());
    match kind {
        Kind::Date | Kind::Moment if typed.len() <= 10 => shown[..typed.len()].cmp(&typed),
        _ => compare(value, &Value::read(kind, &typed).unwrap()),
    }
}

impl Reader<'_> {
    fn read(
        &mut self,
        query: &Query,
        columns: &[usize],
        values: &[String],
        positive: bool,
        outermost: bool,
    ) -> Node {
        match query {
            Query::Words(parts) => self.side_by_side(parts, columns, values, positive, outermost),
            Query::All(parts) => {
                let parts: Vec<_> =
                    parts.iter().map(|part| self.read(part, columns, values, positive, false)).collect();
                several(parts, Node::All)
            }
            Query::Any(parts) => {
                let parts: Vec<_> =
                    parts.iter().map(|part| self.read(part, columns, values, positive, false)).collect();
                several(parts, Node::Any)
            }
            Query::Without(part) => match self.read(part, columns, values, false, false) {
                Node::Nothing => Node::Nothing,
                node => Node::Not(Box::new(node)),
            },
            Query::Needed(part) => self.read(part, columns, values, positive, outermost),
            Query::In(names, part) => {
                let text = |name: &String| self.search.columns.iter().position(|column| column.name == name);
                let columns: Vec<_> = names.iter().filter_map(text).collect();
                let is_value = |name: &&String| self.search.values.iter().any(|(known, _)| known == name);
                let values: Vec<_> = names.iter().filter(is_value).cloned().collect();
                self.read(part, &columns, &values, positive, outermost)
            }
            Query::Word(text) | Query::Phrase(text) if !values.is_empty() => {
                let tests = values.iter().map(|name| {
                    let kind = self.search.values.iter().find(|(known, _)| known == name).unwrap().1;
                    Node::Value(name.clone(), kind, typed_test(kind, text))
                });
                let mut parts: Vec<_> = tests.collect();
                if !columns.is_empty() {
                    parts.push(
                        self.leaf(text, columns, None, positive, |column| {
                            runs(text, column, |_, _| Vec::new())
                        }),
                    );
                }
                several(parts, Node::Any)
            }
            Query::Word(text) => {
                let (near, first) = (self.search.near, self.search.first_letters);
                let like = |term: &str, last: bool| {
                    let goes_on = match self.search.beginnings {
                        Beginnings::All => true,
                        Beginnings::Last => last_leaf(&self.search.query) == Some(query) && last,
                        _ => false,
                    };
                    let begins = goes_on.then(|| Like::Beginning(term.to_owned()));
                    begins.into_iter().chain(nearly(term, first).filter(|_| near)).collect()
                };
                self.leaf(text, columns, None, positive, |column| runs(text, column, like))
            }
            Query::Phrase(text) | Query::Window(text, _) => {
                let window = if let Query::Window(_, positions) = query { Some(*positions) } else { None };
                let (near, first) = (self.search.near, self.search.first_letters);
                let like = |term: &str, _: bool| {
                    let goes_on = self.search.beginnings == Beginnings::All;
                    let begins = goes_on.then(|| Like::Beginning(term.to_owned()));
                    begins.into_iter().chain(nearly(term, first).filter(|_| near)).collect()
                };
                self.leaf(text, columns, window, positive, |column| runs(text, column, like))
            }
            Query::Pattern(text) => self.leaf(text, columns, None, positive, |_| {
                let like = vec![Like::Pattern(text.to_lowercase())];
                (vec![vec![(Typed { term: None, key: None, language: "", like }, 0)]], Vec::new())
            }),
            Query::Near(text) => {
                // The last word begins others wherever it is typed, here as well.
                let last = last_leaf(&self.search.query).filter(|last| **last == Query::word(text));
                let is_last = self.search.beginnings == Beginnings::Last && last.is_some();
                let first = self.search.first_letters;
                let like = |term: &str, last: bool| {
                    let begins = (is_last && last).then(|| Like::Beginning(term.to_owned()));
                    begins.into_iter().chain(nearly(term, first)).collect()
                };
                self.leaf(text, columns, None, positive, |column| runs(text, column, like))
            }
            _ => panic!("no other queries are made here"),
        }
    }

    fn side_by_side(
        &mut self,
        parts: &[Query],
        columns: &[usize],
        values: &[String],
        positive: bool,
        outermost: bool,
    ) -> Node {
        // What is needed in any case, and what of that is not excluded.
        let (mut all, mut certain, mut free) = (Vec::new(), Vec::new(), Vec::new());
        for part in parts {
            let node = self.read(part, columns, values, positive, outermost && parts.len() == 1);
            match part {
                _ if node == Node::Nothing => {}
                Query::Without(_) => all.push(node),
                Query::Needed(_) => {
                    certain.extend(Some(node.clone()).filter(|node| !matches!(node, Node::Not(_))));
                    all.push(node);
                }
                _ if free.contains(&node) => {}
                _ => free.push(node),
            }
        }
        let choice = certain.len() + free.len();
        let needed = match self.search.words {
            Words::Any => 1,
            Words::AtLeast(count) if outermost => count.clamp(1, choice.max(1)),
            Words::Share(share) if outermost => {
                ((f64::from(share) * choice as f64 - 1e-6).ceil() as usize).clamp(1, choice.max(1))
            }
            _ => choice,
        };
        if needed == choice {
            all.extend(free);
        } else if choice > 0 {
            all.push(Node::AtLeast(needed, certain.into_iter().chain(free).collect()));
        }
        several(all, Node::All)
    }

    fn leaf(
        &mut self,
        text: &str,
        columns: &[usize],
        window: Option<u32>,
        positive: bool,
        read: impl Fn(&OracleColumn) -> (Vec<Run>, Vec<Run>),
    ) -> Node {
        let of =
            |c: usize| if columns.contains(&c) { read(&self.search.columns[c]) } else { Default::default() };
        // As it was typed, and with the parts of compounds in their places.
        let (typed, parts): (Vec<_>, Vec<_>) = (0..self.search.columns.len()).map(of).unzip();
        if typed.iter().all(Vec::is_empty) {
            return Node::Nothing;
        }
        let longest = typed.iter().flatten().map(Vec::len).max().unwrap_or(0);
        let both = typed.iter().zip(&parts).map(|(typed, parts)| [&typed[..], parts].concat());
        let runs: Vec<Vec<Run>> = both.collect();
        // A window is one for several terms only.
        let window = window.filter(|_| runs.iter().flatten().any(|run| run.len() > 1));
        let times = u32::from(positive);
        if let Some(known) = self.leaves.iter().position(|leaf| leaf.runs == runs && leaf.window == window) {
            self.leaves[known].times += times;
            return Node::Leaf(known);
        }
        // A word is, at one place of a leaf, the terms that each column has there.
        let mut words = Vec::new();
        for place in 0..longest {
            let at = |(typed, parts): (&Vec<Run>, &Vec<Run>)| {
                let mut terms: Vec<(Typed, f32)> = Vec::new();
                for (runs, likeness) in [(typed, 1.0), (parts, 0.5)] {
                    for (term, _) in runs.iter().filter_map(|run| run.get(place)) {
                        if !terms.iter().any(|(known, _)| known == term) {
                            terms.push((term.clone(), likeness));
                        }
                    }
                }
                terms
            };
            let word: Vec<Vec<(Typed, f32)>> = typed.iter().zip(&parts).map(at).collect();
            let known = self.words.iter().position(|known| *known == word);
            words.push(known.unwrap_or(self.words.len()));
            if known.is_none() {
                self.elsewhere.push(self.elsewhere(&word));
                self.words.push(word);
            }
        }
        self.leaves.push(Leaf { text: text.to_owned(), runs, window, times, words, loose: false });
        Node::Leaf(self.leaves.len() - 1)
    }
}

impl Reader<'_> {
    /// How columns in which a word is not searched read it, where that is one token.
    fn elsewhere(&self, word: &[Vec<(Typed, f32)>]) -> Vec<Typed> {
        let terms = word
            .iter()
            .flatten()
            .filter(|(_, alike)| *alike >= 1.0)
            .filter_map(|(typed, _)| typed.term.clone());
        let unsearched = self.search.columns.iter().zip(word).filter(|(_, typed)| typed.is_empty());
        let languages: Vec<&'static str> = unsearched
            .flat_map(|(column, _)| {
                [column.language].into_iter().chain(column.others.map(|(language, _)| language))
            })
            .collect();
        let mut elsewhere = Vec::new();
        for term in terms {
            for language in &languages {
                let tokens = text_tokens(&term, language);
                if let [token] = &tokens[..] {
                    let key = with_recipe(language, |recipe| recipe.key_of(&token.term));
                    elsewhere.push(Typed { term: Some(token.term.clone()), key, language, like: Vec::new() });
                }
            }
        }
        elsewhere
    }
}

/// All of some parts, or any, each once; what is said in two ways is the same, so that of several parts side by side it counts once.
fn several(parts: Vec<Node>, make: fn(Vec<Node>) -> Node) -> Node {
    let mut different: Vec<Node> = Vec::new();
    for part in parts {
        let inner = match (make(Vec::new()), part) {
            (_, Node::Nothing) => continue,
            (Node::All(_), Node::All(inner)) | (Node::Any(_), Node::Any(inner)) => inner,
            (_, part) => vec![part],
        };
        for part in inner {
            if !different.contains(&part) {
                different.push(part);
            }
        }
    }
    match different.len() {
        0 => Node::Nothing,
        1 => different.remove(0),
        _ => make(different),
    }
}

/// What stands behind a colon.
fn typed_test(kind: Kind, text: &str) -> Test {
    if kind == Kind::Exact {
        return Test::Equal(text.into());
    }
    for (sign, make) in [
        (">=", Test::AtLeast as fn(Value) -> Test),
        ("<=", Test::AtMost),
        (">", Test::Above),
        ("<", Test::Below),
    ] {
        if let Some(value) = text.strip_prefix(sign) {
            return make(value.into());
        }
    }
    match text.split_once("..") {
        Some((low, "")) => Test::AtLeast(low.into()),
        Some(("", high)) => Test::AtMost(high.into()),
        Some((low, high)) => Test::Between(low.into(), high.into()),
        None => Test::Equal(text.into()),
    }
}

/// The terms of a word that score, each with how alike it is, the columns in which it counts, and the stemmings by which it is found.
type Scoring = BTreeMap<String, (f32, BTreeSet<usize>, BTreeSet<&'static str>)>;

fn scoring(word: &[Vec<(Typed, f32)>], families: &[Family]) -> Scoring {
    let mut terms = Scoring::new();
    for (c, typed) in word.iter().enumerate() {
        for (typed, of_run) in typed {
            let (_, family) = families.iter().find(|(known, _)| known == typed).unwrap();
            for (term, likeness, by) in family.iter().take(SCORING) {
                let (known, columns, known_by) = terms.entry(term.clone()).or_default();
                *known = known.max(likeness * of_run);
                columns.insert(c);
                known_by.extend(by);
            }
        }
    }
    terms
}

fn part(
    search: &OracleSearch,
    word: &[Vec<(Typed, f32)>],
    families: &[Family],
    columns: &[Tokens],
    averages: &[f32],
    idf: f32,
) -> f32 {
    // Forms of one class, which count in the same columns, add up first, and then the classes.
    let mut classes = BTreeMap::<_, Vec<(f32, String, BTreeSet<usize>, &str)>>::new();
    let stemmings = stemmings(search);
    for (term, (likeness, counting, by)) in scoring(word, families) {
        for (number, (stemming, of)) in stemmings.iter().enumerate() {
            let columns: BTreeSet<usize> = counting.intersection(of).copied().collect();
            if by.contains(stemming) && !columns.is_empty() {
                let bits: u64 = columns.iter().map(|c| 1 << c).sum();
                let class = (number, key_of(stemming, &term), bits);
                classes.entry(class).or_default().push((likeness, term.clone(), columns, *stemming));
            }
        }
    }
    let mut tf = 0.0_f32;
    for mut terms in classes.into_values() {
        terms.sort_by(|(alike, a, ..), (blike, b, ..)| blike.total_cmp(alike).then(a.cmp(b)));
        let mut of_class = 0.0_f32;
        for (likeness, term, counting, by) in terms {
            let mut of_term = 0.0_f32;
            for c in counting {
                let is = |word: &&Word| word.term == term && word.stemming == by;
                let count = columns[c].iter().filter(is).count();
                if count > 0 {
                    let (w, b, length) = (search.columns[c].weight, search.b[c], length(&columns[c]) as f32);
                    of_term += w * count as f32 / (1.0 - b + b * length / averages[c]);
                }
            }
            of_class += of_term * likeness;
        }
        tf += of_class;
    }
    if tf == 0.0 { 0.0 } else { idf * (search.k1 + 1.0) / (1.0 + search.k1 / tf) }
}

/// The least distance of two different words in one column.
fn nearest(words: &[&Vec<Vec<(Typed, f32)>>], families: &[Family], columns: &[Tokens]) -> Option<u32> {
    let mut least = None;
    let terms: Vec<_> = words.iter().map(|word| scoring(word, families)).collect();
    for (c, tokens) in columns.iter().enumerate() {
        let of = |w: usize| {
            let counts = |word: &&Word| {
                let known = terms[w].get(&word.term);
                known.is_some_and(|(_, columns, by)| columns.contains(&c) && by.contains(word.stemming))
            };
            tokens.iter().filter(counts).map(|word| word.at).collect::<Vec<_>>()
        };
        for one in 0..words.len() {
            for other in 0..one {
                for a in of(one) {
                    for b in of(other) {
                        least = Some(least.map_or(a.abs_diff(b), |least: u32| least.min(a.abs_diff(b))));
                    }
                }
            }
        }
    }
    least
}

/// All terms that stand for a typed one: the most alike first.
fn family(
    typed: &Typed,
    all: &BTreeMap<(&'static str, &String), &String>,
) -> Vec<(String, f32, BTreeSet<&'static str>)> {
    let own = if typed.language.is_empty() { None } else { Some(stemming(typed.language)) };
    // A word that was typed, and its forms, are found by the stemming that read it; what looks like it by whichever.
    let mut terms = BTreeMap::<&String, (f32, BTreeSet<&'static str>)>::new();
    for (&(by, term), key) in all {
        let is_typed = typed.term.as_ref() == Some(term);
        let is_form = own == Some(by) && typed.key.as_ref() == Some(*key);
        let alike = typed.like.iter().map(|like| how_alike(like, term)).fold(0.0, f32::max);
        let named = if is_typed {
            1.0_f32
        } else if is_form {
            0.7
        } else {
            0.0
        };
        let (known, found) = terms.entry(term).or_default();
        *known = known.max(named).max(alike);
        if alike > 0.0 || is_form || (is_typed && own == Some(by)) {
            found.insert(by);
        }
    }
    let of_term = |(term, (alike, found)): (&String, _)| (term.clone(), alike, found);
    let mut family: Vec<(String, f32, BTreeSet<&str>)> = terms.into_iter().map(of_term).collect();
    family.retain(|(_, _, by)| !by.is_empty());
    family.sort_by(|(a, alike, _), (b, blike, _)| blike.total_cmp(alike).then(a.cmp(b)));
    family
}

/// What is typed last, unless it is excluded.
fn last_leaf(query: &Query) -> Option<&Query> {
    match query {
        Query::Words(parts) | Query::All(parts) | Query::Any(parts) => parts.last().and_then(last_leaf),
        Query::Needed(part) | Query::In(_, part) => last_leaf(part),
        Query::Without(_) => None,
        leaf => Some(leaf),
    }
}

fn how_alike(like: &Like, term: &str) -> f32 {
    let letters: Vec<char> = term.chars().collect();
    match like {
        Like::Pattern(pattern) => {
            let pattern: Vec<char> = pattern.chars().collect();
            let own = pattern.iter().filter(|c| !matches!(c, '*' | '?')).count();
            if fits(&pattern, &letters) { (own as f32 / letters.len() as f32).min(1.0) } else { 0.0 }
        }
        Like::Beginning(typed) if term.starts_with(typed.as_str()) => {
            0.5 + (0.6 - 0.5) * (typed.chars().count() as f32 / letters.len() as f32).min(1.0)
        }
        Like::Beginning(_) => 0.0,
        Like::Near(typed, first) => {
            let typed: Vec<char> = typed.chars().collect();
            let most = [0, 0, 0, 1, 1, 1, 1, 1, 2][typed.len().min(8)];
            let right = if most == 0 { typed.len() } else { *first };
            let begins = letters.starts_with(&typed[..right.min(typed.len())]);
            match distance(&typed, &letters) {
                0 if most > 0 => 1.0,
                1 if most >= 1 && begins => 0.5,
                2 if most == 2 && begins => 0.3,
                _ => 0.0,
            }
        }
    }
}

/// What is spelled nearly like a term: shorter ones than three characters are taken as they are.
fn nearly(term: &str, first: usize) -> Option<Like> {
    (term.chars().count() > 2).then(|| Like::Near(term.to_owned(), first))
}

/// The rule of patterns, one character at a time.
fn fits(pattern: &[char], word: &[char]) -> bool {
    match (pattern, word) {
        ([], []) => true,
        (['*', rest @ ..], _) => fits(rest, word) || (!word.is_empty() && fits(pattern, &word[1..])),
        (['?', rest @ ..], [_, word @ ..]) => fits(rest, word),
        ([a, rest @ ..], [b, word @ ..]) => a == b && fits(rest, word),
        _ => false,
    }
}

/// The table of the textbook, with swaps of neighbours.
fn distance(a: &[char], b: &[char]) -> usize {
    let mut table = vec![vec![0; b.len() + 1]; a.len() + 1];
    for i in 0..=a.len() {
        for j in 0..=b.len() {
            table[i][j] = if i == 0 || j == 0 {
                i.max(j)
            } else {
                let change = table[i - 1][j - 1] + usize::from(a[i - 1] != b[j - 1]);
                let mut least = change.min(table[i - 1][j] + 1).min(table[i][j - 1] + 1);
                if i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1] {
                    least = least.min(table[i - 2][j - 2] + 1);
                }
                least
            };
        }
    }
    table[a.len()][b.len()]
}

/// The positions of a column: the wholes of compounds take none of their own.
fn length(column: &Tokens) -> u64 {
    column.1.into()
}

/// What a typed text may stand for, in each language of a column: its words in a row, and hyphenated words as wholes in a row, both with
/// other words for them, too; and its words with their parts in their places.
fn runs(text: &str, column: &OracleColumn, like: impl Fn(&str, bool) -> Vec<Like>) -> (Vec<Run>, Vec<Run>) {
    let (mut runs, mut with_parts) = (Vec::new(), Vec::new());
    for language in [column.language].into_iter().chain(column.others.map(|(language, _)| language)) {
        let typed = |word: &Word| Typed {
            term: Some(word.term.clone()),
            key: with_recipe(language, |recipe| recipe.key_of(&word.term)),
            language,
            like: if word.role == Role::Word { like(&word.term, word.last) } else { Vec::new() },
        };
        let tokens = text_tokens(text, language);
        let beside = |word: &Word, role| {
            let (at, span) = (word.at, word.span);
            tokens.iter().filter(move |other| other.role == role && other.at == at && other.span == span)
        };
        let is_word = |word: &&Word| word.role == Role::Word;
        let words: Vec<&Word> = tokens.iter().filter(|word| word.span == 1 && is_word(word)).collect();
        // Wholes, with how many positions are saved before each.
        let (mut wholes, mut covered, mut saved): (Vec<(&Word, u32)>, _, _) = (Vec::new(), 0, 0);
        for word in tokens.iter().filter(is_word) {
            if word.at >= covered {
                wholes.push((word, word.at - saved));
                covered = word.at + word.span;
                saved += word.span - 1;
            }
        }
        let words: Vec<(&Word, u32)> = words.into_iter().map(|word| (word, word.at)).collect();
        let from_first = |run: Run| {
            let first = run.first().map_or(0, |(_, at)| *at);
            run.into_iter().map(|(typed, at)| (typed, at - first)).collect::<Run>()
        };
        for other in 0..tokens.len().max(1) {
            for row in [&words, &wholes] {
                let chosen =
                    |word| other.checked_sub(1).and_then(|n| beside(word, Role::Also).nth(n)).unwrap_or(word);
                let run = from_first(row.iter().map(|(word, at)| (typed(chosen(word)), *at)).collect());
                if !run.is_empty() && !runs.contains(&run) {
                    runs.push(run);
                }
            }
        }
        let (mut first, mut others) = (Run::new(), Run::new());
        for (word, at) in &words {
            let mut parts = beside(word, Role::Part).map(|part| (typed(part), *at));
            first.push(parts.next().unwrap_or_else(|| (typed(word), *at)));
            others.extend(parts);
        }
        if tokens.iter().any(|word| word.role == Role::Part) {
            let run = from_first(first.into_iter().chain(others).collect());
            if !run.is_empty() && !with_parts.contains(&run) {
                with_parts.push(run);
            }
        }
    }
    (runs, with_parts)
}

/// Makes a query simpler that would go through more postings than `most`: all phrases but the cheapest are loose, and the commonest
/// words do not score.
fn simplify(leaves: &mut [Leaf], root: &Node, of_word: &[u64], records: u64, most: u64) {
    let words_of = |leaf: &Leaf| leaf.words.iter().map(|word| of_word[*word]).collect::<Vec<_>>();
    let is_costly = estimate(root, leaves, of_word, records) * of_word.len() as u64 > most;
    let is_phrase = |leaf: &Leaf| leaf.runs.iter().flatten().any(|run| run.len() > 1);
    let cost =
        |leaf: &Leaf| words_of(leaf).iter().min().unwrap_or(&0) * 10 + words_of(leaf).iter().sum::<u64>();
    let phrases: Vec<usize> = (0..leaves.len()).filter(|leaf| is_phrase(&leaves[*leaf])).collect();
    let costs: Vec<(u64, usize)> = phrases.iter().map(|leaf| (cost(&leaves[*leaf]), *leaf)).collect();
    for &(own, leaf) in &costs {
        let cheaper = costs.iter().filter(|other| **other < (own, leaf));
        let before: u64 = cheaper.clone().map(|(cost, _)| cost).sum();
        leaves[leaf].loose = (cheaper.count() > 0 || phrases.len() > 8) && before + own > most;
    }
    let wanted: BTreeSet<usize> =
        leaves.iter().filter(|leaf| leaf.times > 0).flat_map(|leaf| leaf.words.clone()).collect();
    let is_too_common = |word: &usize| {
        let rarer = wanted.iter().filter(|other| (of_word[**other], **other) < (of_word[*word], *word));
        rarer.clone().count() > 0 && rarer.map(|word| of_word[*word]).sum::<u64>() + of_word[*word] > most
    };
    for leaf in leaves.iter_mut().filter(|_| is_costly) {
        leaf.words.retain(|word| !is_too_common(word));
    }
}

/// Whether it does not count how near words stand.
fn is_nearness_left_out(matches: u64, of_word: &[u64], records: u64, most: u64) -> bool {
    let mut meetings = 0;
    for (number, one) in of_word.iter().enumerate() {
        meetings += of_word[..number].iter().map(|other| one * other).sum::<u64>();
    }
    matches.min(meetings / records.max(1)) * of_word.len() as u64 * 10 > most
}

/// About how many records match, at most.
fn estimate(node: &Node, leaves: &[Leaf], of_word: &[u64], records: u64) -> u64 {
    let each = |parts: &[Node]| -> Vec<u64> {
        parts.iter().map(|part| estimate(part, leaves, of_word, records)).collect()
    };
    let most = match node {
        Node::Nothing => 0,
        Node::Leaf(leaf) => leaves[*leaf].words.iter().map(|word| of_word[*word]).min().unwrap_or(0),
        Node::Value(..) | Node::Not(_) => records,
        Node::All(parts) => each(parts).into_iter().min().unwrap_or(0),
        Node::Any(parts) => each(parts).into_iter().sum(),
        Node::AtLeast(count, parts) => each(parts).into_iter().sum::<u64>() / *count as u64,
    };
    most.min(records)
}

/// Whether a record has a leaf. Where terms of a loose one may stand anywhere, those that stand for too many to score count if
/// `anywhere_alone`.
fn matches_leaf(leaf: &Leaf, columns: &[Tokens], families: &[Family], anywhere_alone: bool) -> bool {
    if leaf.loose {
        return leaf.runs.iter().flatten().any(|run| {
            let in_its = leaf.runs.iter().zip(columns).filter(|(runs, _)| runs.contains(run));
            run.iter().all(|(typed, _)| {
                in_its.clone().any(|(_, column)| {
                    let alone = anywhere_alone || run.len() == 1;
                    column.iter().any(|word| is(typed, word, families, alone))
                })
            })
        });
    }
    let occurs = |run: &Run, column: &Tokens| match leaf.window.filter(|_| run.len() > 1) {
        Some(window) => in_window(run, column, families, window),
        None => in_a_row(run, column, families),
    };
    leaf.runs.iter().zip(columns).any(|(runs, column)| runs.iter().any(|run| occurs(run, column)))
}

/// Whether a token is one of the terms that stand for a typed one. In a run of several only those that score count.
fn is(typed: &Typed, word: &Word, families: &[Family], alone: bool) -> bool {
    let (_, family) = families.iter().find(|(known, _)| known == typed).unwrap();
    let most = if alone { usize::MAX } else { SCORING };
    family.iter().take(most).any(|(term, _, by)| *term == word.term && by.contains(word.stemming))
}

fn in_a_row(run: &Run, column: &Tokens, families: &[Family]) -> bool {
    let alone = run.len() == 1;
    column.iter().any(|start| {
        run.iter().all(|(typed, offset)| {
            column.iter().any(|word| word.at == start.at + offset && is(typed, word, families, alone))
        })
    })
}

fn in_window(run: &Run, column: &Tokens, families: &[Family], window: u32) -> bool {
    column.iter().any(|start| {
        run.iter().all(|(typed, _)| {
            let near = |word: &&Word| word.at >= start.at && word.at - start.at < window;
            column.iter().filter(near).any(|word| is(typed, word, families, false))
        })
    })
}

fn text_tokens(text: &str, language: &'static str) -> Tokens {
    let (mut tokens, mut ends) = (Vec::new(), Vec::new());
    let own = stemming(language);
    let positions = with_recipe(language, Recipe::clone).tokens(text, |token| {
        let (at, span, role) = (token.position, token.span, token.role);
        let (term, key) = (token.term.to_owned(), key_of(own, token.term));
        tokens.push(Word { term, at, span, role, last: false, stemming: own, key });
        ends.push(token.end);
    });
    let end = ends.iter().max().copied();
    for (word, own) in tokens.iter_mut().zip(ends) {
        word.last = Some(own) == end;
    }
    Tokens(tokens, positions)
}

fn column_tokens(record: &Record, column: &OracleColumn) -> Tokens {
    let mut tokens = Tokens::default();
    let said = column.others.filter(|(other, from)| {
        record
            .values(from)
            .first()
            .and_then(Value::as_text)
            .is_some_and(|said| said.eq_ignore_ascii_case(other))
    });
    let language = said.map_or(column.language, |(language, _)| language);
    let mut base = 0;
    for value in record.values(column.name) {
        if let Value::Text(text) = value {
            let Tokens(words, positions) = text_tokens(text, language);
            tokens.0.extend(words.into_iter().map(|word| Word { at: base + word.at, ..word }));
            tokens.1 += positions.min(column.most.saturating_sub(base));
            base += positions + column.gap;
        }
    }
    tokens.0.retain(|word| word.at < column.most);
    tokens
}
