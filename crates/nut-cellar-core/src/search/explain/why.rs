//! Why a record ranks where it does, and why another was not found.
//!
//! What always holds: the parts of a score, added up in `f32` in the order in which they are given, are the score to the
//! last bit.

use crate::catalog::{Snapshot, Standing};
use crate::error::Result;
use crate::filter::Bound;
use crate::query::Query;
use crate::rank::{DEFAULT_B, proximity};
use crate::record::{Key, Value};
use crate::search::find::Find;
use crate::search::plan::prepared::{LookedUp, Prepared};
use crate::search::plan::{Like, Node, Plan};
use crate::search::run::{Cursors, Walked};
use crate::search::settings::Order;
use crate::shelf::{END, Held, Step, complete, if_held};
use crate::store::View;
use serde::Serialize;

/// What there is to say about a record and a search.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Why {
    /// It is found, and this is how its score comes about.
    Found(Reckoning),
    /// It is not, for these reasons.
    NotFound(Vec<Reason>),
    /// There is no record with this key.
    NoRecord,
}

/// How a score comes about.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Reckoning {
    /// The score: the parts of the words, each times how often it was typed, and what nearness adds.
    pub score: f32,
    /// Its place among all matches, from 1, where they are ordered by score.
    pub rank: Option<u64>,
    /// The hit before it, with its score.
    pub ahead: Option<(Key, f32)>,
    /// Live records.
    pub records: u64,
    /// k1.
    pub k1: f32,
    /// b of the columns that have none of their own.
    pub b: f32,
    /// The words that it has, in query order.
    pub words: Vec<WordPart>,
    /// What nearness of words adds.
    pub proximity: Option<ProximityPart>,
}

/// What a word brings.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct WordPart {
    /// The word, as it is looked up.
    pub word: String,
    /// How often it was typed.
    pub times: u32,
    /// How many live records have it: the class of its forms, or the term in none of them, that most have.
    pub records: u64,
    /// idf.
    pub idf: f32,
    /// The terms of it that the record has.
    pub terms: Vec<TermPart>,
    /// tf~: the frequencies of the terms, each times its likeness, class by class.
    pub frequency: f32,
    /// idf · (k1 + 1) / (1 + k1 / tf~).
    pub part: f32,
}

/// What a term brings to a word.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct TermPart {
    /// The term as matched.
    pub term: String,
    /// 1 as typed, less for forms, synonyms and what is spelled nearly so.
    pub likeness: f32,
    /// Terms with the same number are forms of one class: they add up before others are added.
    pub class: usize,
    /// Where it stands.
    pub columns: Vec<ColumnPart>,
    /// The shares of the columns.
    pub frequency: f32,
}

/// What a column brings to a term: weight · tf / (1 − b + b · length / average).
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct ColumnPart {
    /// Its name.
    pub column: String,
    /// How often the term stands in it.
    pub tf: u32,
    /// How many positions it has.
    pub length: u32,
    /// How many it has in the mean of all live records.
    pub average_length: f32,
    /// Its weight.
    pub weight: f32,
    /// Its b.
    pub b: f32,
    /// The result.
    pub share: f32,
}

/// What nearness adds: weight · ln((α + e^−distance) / α).
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct ProximityPart {
    /// The least distance of two different words in one column, in positions.
    pub distance: u32,
    /// The weight.
    pub weight: f32,
    /// The result.
    pub part: f32,
}

/// Why a record was not found.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Reason {
    /// It does not have a part of the query; it has it in these columns, which were not searched for it.
    Missing {
        /// The part, as it would be typed.
        part: String,
        /// Columns that have it.
        elsewhere: Vec<String>,
    },
    /// A pattern or a near spelling that is needed stands for more terms than the search [looks at](Find::most_terms), and of those it
    /// has none.
    NotLookedAt {
        /// The part, as it would be typed.
        part: String,
    },
    /// It has what is not wanted.
    Excluded {
        /// The part, as it would be typed.
        part: String,
    },
    /// It has none of several parts of which one is needed; or too few.
    TooFew {
        /// How many it has.
        has: usize,
        /// How many it needs.
        needs: usize,
        /// What is missing.
        missing: Vec<Reason>,
    },
    /// A comparison of values does not hold.
    Value {
        /// The column.
        column: String,
        /// What it has there.
        has: Vec<Value>,
    },
    /// There is nothing to look for in the query.
    NothingToFind,
}

/// Says why a record ranks where it does, or why it was not found. Searches once more, without a limit, to know its rank. What
/// a search would do if it finds too few is not done.
///
/// # Errors
/// [`BadRequest`](crate::ErrorKind::BadRequest) as for a [search](crate::Search); or if the place can't be read.
pub fn why(view: &dyn View, snapshot: &Snapshot, query: &Query, find: &Find, key: &Key) -> Result<Why> {
    let mut held = Held::default();
    let mut prepared = Prepared::new(snapshot, query, find)?;
    complete(view, &mut held, |held| prepared.prepare(snapshot, held))?;
    let encoded = key.encode();
    let located = complete(view, &mut held, |held| locate(snapshot, held, &encoded))?;
    let Some((shelf, ordinal)) = located else { return Ok(Why::NoRecord) };
    let record = Examined { snapshot, prepared: &prepared, shelf, ordinal };
    let reasons = complete(view, &mut held, |held| record.reasons(held))?;
    if let Some(mut reasons) = reasons {
        for reason in &mut reasons {
            look_elsewhere(view, snapshot, find, (shelf, ordinal), reason)?;
        }
        return Ok(Why::NotFound(reasons));
    }
    let mut reckoning = complete(view, &mut held, |held| record.reckon(held))?;
    if *find.wanted_order() == Order::Score {
        let (rank, ahead) = complete(view, &mut held, |held| record.rank(held, reckoning.score, &encoded))?;
        reckoning.rank = Some(rank);
        reckoning.ahead =
            ahead.map(|(key, score)| Ok::<_, crate::Error>((Key::decode(&key)?, score))).transpose()?;
    }
    Ok(Why::Found(reckoning))
}

/// Where a live record is.
fn locate(snapshot: &Snapshot, held: &mut Held, key: &[u8]) -> Step<Option<(usize, u32)>> {
    let mut found = None;
    for (place, standing) in snapshot.standing().iter().enumerate() {
        let ordinal = if_held(standing.shelf.find_key(held, key))?.flatten();
        found =
            found.or(ordinal.filter(|ordinal| !standing.removed(*ordinal)).map(|ordinal| (place, ordinal)));
    }
    held.complete()?;
    Ok(found)
}

/// A rank, and the key and score of the record before.
type Ranked = (u64, Option<(Vec<u8>, f32)>);

/// A record and a search.
struct Examined<'a> {
    snapshot: &'a Snapshot,
    prepared: &'a Prepared,
    shelf: usize,
    ordinal: u32,
}

impl Examined<'_> {
    fn standing(&self) -> &Standing {
        &self.snapshot.standing()[self.shelf]
    }

    /// Why the record does not match; none if it does.
    fn reasons(&self, held: &mut Held) -> Step<Option<Vec<Reason>>> {
        let plan = &self.prepared.plan;
        let Some(ranking) = self.prepared.ranking(self.shelf) else { return Ok(None) };
        let mut cursors = Cursors::open(held, self.standing(), plan, &ranking, &mut Walked::new())?;
        let mut reasons = Vec::new();
        let matches = self.look(held, &mut cursors, &plan.root, true, &mut reasons)?;
        held.complete()?;
        Ok((!matches).then_some(reasons))
    }

    /// Whether a leaf stands for more terms than were looked at.
    fn is_short(&self, leaf: usize) -> bool {
        let Some(known) = &self.prepared.known else { return false };
        let terms = self.prepared.plan.leaves[leaf].alternatives.iter().flat_map(|one| &one.terms);
        terms.into_iter().any(|(lookup, _)| known.families[*lookup].short)
    }

    /// Whether the record matches a node, or does not where it is not wanted; if it is otherwise, adds why.
    fn look(
        &self,
        held: &mut Held,
        cursors: &mut Cursors<'_>,
        node: &Node,
        wanted: bool,
        reasons: &mut Vec<Reason>,
    ) -> Step<bool> {
        let plan = &self.prepared.plan;
        let is_right = |matches: bool| matches == wanted;
        Ok(match node {
            Node::Nothing => {
                reasons.push(Reason::NothingToFind);
                false
            }
            Node::Leaf(leaf) => {
                let has = if_held(cursors.has_leaf(held, *leaf, self.ordinal))?.unwrap_or(false);
                if !is_right(has) {
                    let part = plan.leaves[*leaf].query.to_string();
                    reasons.push(match (wanted, self.is_short(*leaf)) {
                        (true, true) => Reason::NotLookedAt { part },
                        (true, false) => Reason::Missing { part, elsewhere: Vec::new() },
                        (false, _) => Reason::Excluded { part },
                    });
                }
                is_right(has)
            }
            Node::Test(test) => {
                let holds = if_held(cursors.holds(held, *test, self.ordinal))?.unwrap_or(false);
                if !is_right(holds) {
                    reasons.push(self.values(held, &plan.tests[*test])?);
                }
                is_right(holds)
            }
            Node::Not(part) => self.look(held, cursors, part, !wanted, reasons)?,
            Node::All(parts) => self.look_at_several(held, cursors, (parts, parts.len()), wanted, reasons)?,
            Node::Any(parts) => self.look_at_several(held, cursors, (parts, 1), wanted, reasons)?,
            Node::AtLeast(needs, parts) => {
                self.look_at_several(held, cursors, (parts, *needs), wanted, reasons)?
            }
        })
    }

    /// The same, of several nodes of which so many are needed.
    fn look_at_several(
        &self,
        held: &mut Held,
        cursors: &mut Cursors<'_>,
        (parts, needs): (&[Node], usize),
        wanted: bool,
        reasons: &mut Vec<Reason>,
    ) -> Step<bool> {
        let (mut has, mut missing) = (0, Vec::new());
        for part in parts {
            has += usize::from(self.look(held, cursors, part, true, &mut missing)?);
        }
        let is_right = (has >= needs) == wanted;
        if !is_right && !wanted {
            for part in parts {
                self.look(held, cursors, part, false, reasons)?;
            }
        } else if !is_right && needs == parts.len() {
            reasons.append(&mut missing);
        } else if !is_right {
            reasons.push(Reason::TooFew { has, needs, missing });
        }
        Ok(is_right)
    }

    /// What the record has in the column of a test.
    fn values(&self, held: &mut Held, test: &Bound) -> Step<Reason> {
        let place = match test {
            Bound::Numbers(column, _) | Bound::Texts(column, _) | Bound::Absent(column) => *column,
            Bound::Keys(_) => {
                let has = match Key::decode(&self.standing().shelf.key_of(held, self.ordinal)?)? {
                    Key::Integer(number) => Value::Integer(number),
                    other => Value::Text(other.to_string()),
                };
                return Ok(Reason::Value { column: self.snapshot.schema().key(), has: vec![has] });
            }
            Bound::All(_) | Bound::Any(_) | Bound::Not(_) => return Ok(Reason::NothingToFind),
        };
        let schema = self.snapshot.schema();
        let names: Vec<_> = schema.columns().map(|(name, _)| name).collect();
        let column =
            schema.value_columns().nth(place).map_or_else(String::new, |(at, _)| names[at].to_owned());
        let mut values = self.standing().shelf.kept(held, schema, self.ordinal)?;
        let has = values.swap_remove(&column).unwrap_or_default();
        Ok(Reason::Value { column, has })
    }

    /// How the score of the record comes about.
    fn reckon(&self, held: &mut Held) -> Step<Reckoning> {
        let (plan, find) = (&self.prepared.plan, &self.prepared.find);
        let mut reckoning = Reckoning {
            score: 0.0,
            rank: None,
            ahead: None,
            records: self.snapshot.records(),
            k1: find.wanted_k1(),
            b: find.b.others().unwrap_or(DEFAULT_B),
            words: Vec::new(),
            proximity: None,
        };
        let (Some(ranking), Some(known)) = (self.prepared.ranking(self.shelf), &self.prepared.known) else {
            return Ok(reckoning);
        };
        let mut cursors = Cursors::open(held, self.standing(), plan, &ranking, &mut Walked::new())?;
        let times = cursors.count_times(held, self.ordinal)?.to_vec();
        for (place, times) in times.into_iter().enumerate().filter(|(_, times)| *times > 0) {
            let word = self.word(held, &mut cursors, known, (place, times))?;
            reckoning.score += word.part * times as f32;
            reckoning.words.push(word);
        }
        let weight = self.prepared.proximity();
        if weight > 0.0
            && let Some(distance) = cursors.distance(held, self.ordinal)?
        {
            let part = weight * proximity::of(distance);
            reckoning.score += part;
            reckoning.proximity = Some(ProximityPart { distance, weight, part });
        }
        held.complete()?;
        Ok(reckoning)
    }

    /// What a word brings that counts so often.
    fn word(
        &self,
        held: &mut Held,
        cursors: &mut Cursors<'_>,
        known: &LookedUp,
        (place, times): (usize, u32),
    ) -> Step<WordPart> {
        let (plan, formula) = (&self.prepared.plan, &self.prepared.formula);
        let Cursors { words, scorer, .. } = cursors;
        words[place].cursor.seek(self.ordinal)?;
        let (mut terms, mut sum) = (Vec::new(), 0.0);
        let names: Vec<_> = self.snapshot.schema().text_columns().map(|(name, _)| name).collect();
        let lists = words[place].cursor.terms.iter_mut().filter(|list| list.here == self.ordinal);
        for (class, list) in lists.enumerate() {
            list.postings.read()?;
            for part in list.forms.terms.iter().filter(|part| list.postings.has_form(part.form)) {
                let mut columns = Vec::new();
                let each = list.postings.frequencies_of(part.form);
                for (column, tf) in each.filter(|(column, _)| list.columns.has(*column)) {
                    let length = scorer.length(held, column, self.ordinal)?;
                    let factor = formula.columns()[column];
                    columns.push(ColumnPart {
                        column: names[column].to_owned(),
                        tf,
                        length,
                        average_length: factor.average_length,
                        weight: factor.weight,
                        b: factor.b,
                        share: formula.frequency(column, tf, length),
                    });
                }
                if !columns.is_empty() {
                    terms.push(TermPart {
                        term: known.parts[place][part.part].alike.term.clone(),
                        likeness: part.likeness,
                        class,
                        frequency: columns.iter().fold(0.0, |sum, column| sum + column.share),
                        columns,
                    });
                }
            }
            sum += scorer.posting(held, &mut list.postings, list.columns, &list.forms)?;
        }
        Ok(WordPart {
            word: word_of(plan, place),
            times,
            records: known.records[place],
            idf: known.idf[place],
            terms,
            frequency: sum,
            part: formula.part(known.idf[place], sum),
        })
    }

    /// The place of the record among all matches, and the key and score of the one before it.
    fn rank(&self, held: &mut Held, score: f32, key: &[u8]) -> Step<Ranked> {
        let (mut better, mut ahead): (u64, Option<(f32, Vec<u8>)>) = (0, None);
        for (shelf, standing) in self.snapshot.standing().iter().enumerate() {
            let Some(ranking) = self.prepared.ranking(shelf) else { continue };
            let mut cursors =
                Cursors::open(held, standing, &self.prepared.plan, &ranking, &mut Walked::new())?;
            let root = cursors.in_order(&self.prepared.plan.root);
            let lower_keys = standing.shelf.keys_up_to(held, key)?;
            // The one of this shelf that is just before the record.
            let mut last: Option<(f32, u32)> = None;
            let mut at = cursors.next(held, &root, 0)?;
            while at != END {
                if !standing.removed(at) && cursors.matches(held, &root, at)? {
                    let other = if_held(cursors.score(held, at))?.unwrap_or(0.0);
                    let is_self = shelf == self.shelf && at == self.ordinal;
                    if !is_self && (other > score || (other.total_cmp(&score).is_eq() && at < lower_keys)) {
                        better += 1;
                        if last.is_none_or(|(least, _)| other <= least) {
                            last = Some((other, at));
                        }
                    }
                }
                at = cursors.next(held, &root, at + 1)?;
            }
            if let Some((other, ordinal)) = last {
                let key = standing.shelf.key_of(held, ordinal)?;
                let nearer = |(least, known): &(f32, Vec<u8>)| {
                    other < *least || (other.total_cmp(least).is_eq() && key > *known)
                };
                if ahead.as_ref().is_none_or(nearer) {
                    ahead = Some((other, key));
                }
            }
        }
        held.complete()?;
        Ok((better + 1, ahead.map(|(score, key)| (key, score))))
    }
}

/// A word as it is looked up.
pub(in crate::search) fn word_of(plan: &Plan, word: usize) -> String {
    let lookup = plan.words[word].variants.first().map(|variant| &plan.lookups[variant.lookup]);
    let Some(lookup) = lookup else { return String::new() };
    match (&lookup.term, lookup.like.first()) {
        (Some(term), _) => term.clone(),
        (None, Some(Like::Pattern(pattern) | Like::Beginning(pattern))) => pattern.to_string(),
        (None, _) => String::new(),
    }
}

/// Adds to what is missing the columns that have it although they were not searched for it.
fn look_elsewhere(
    view: &dyn View,
    snapshot: &Snapshot,
    find: &Find,
    (shelf, ordinal): (usize, u32),
    reason: &mut Reason,
) -> Result<()> {
    match reason {
        Reason::TooFew { missing, .. } => missing
            .iter_mut()
            .try_for_each(|reason| look_elsewhere(view, snapshot, find, (shelf, ordinal), reason)),
        Reason::Missing { part, elsewhere } => {
            let query = Query::read(part).query;
            for (name, _) in snapshot.schema().text_columns() {
                let find = find.clone().without_filter().columns([name]);
                let mut prepared = Prepared::new(snapshot, &query, &find)?;
                let mut held = Held::default();
                complete(view, &mut held, |held| prepared.prepare(snapshot, held))?;
                let record = Examined { snapshot, prepared: &prepared, shelf, ordinal };
                if complete(view, &mut held, |held| record.reasons(held))?.is_none() {
                    elsewhere.push(name.to_owned());
                }
            }
            Ok(())
        }
        _ => Ok(()),
    }
}
