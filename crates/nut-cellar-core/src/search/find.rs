//! What one search asks.

use super::found::{DOCUMENT_VERSION, PagePlace};
use super::plan::strategy::Strategy;
use super::settings::{Beginnings, Order, Spellings, Total, Words};
use crate::counts::Count;
use crate::error::{Error, ErrorKind, Result};
use crate::filter::Filter;
use crate::query::{Expansions, Query};
use crate::rank::{DEFAULT_B, DEFAULT_K1, Lengths};
use crate::request::{Request, Said};
use crate::schema::{Column, ColumnSet, Kind, Schema};
use indexmap::IndexMap;
use std::fmt;
use std::num::NonZero;
use std::sync::Arc;

/// Which tokens of a word stand for all that begin so.
#[derive(Clone, Copy, PartialEq)]
pub(super) enum GoesOn {
    No,
    AtItsEnd,
    Everywhere,
}

/// A function that tells whether a search should end before it is done.
#[derive(Clone)]
pub struct StopWhen(Arc<dyn Fn() -> bool + Send + Sync>);

impl fmt::Debug for StopWhen {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("StopWhen")
    }
}

impl PartialEq for StopWhen {
    fn eq(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.0, &other.0)
    }
}

/// What one search asks, besides the query. Everything has a default.
///
/// ```
/// use nut_cellar_core::{Filter, Find, Words};
///
/// let find = Find::new()
///     .columns(["title"])
///     .weight("title", 4.0)
///     .words(Words::Any)
///     .only(Filter::at_least("found_on", "2031-04"))
///     .limit(20);
/// ```
#[derive(Clone, Debug, PartialEq)]
#[expect(clippy::struct_excessive_bools, reason = "they are the settings that a program turns on and off")]
pub struct Find {
    columns: Option<Vec<String>>,
    weights: IndexMap<String, f32>,
    pub(crate) strict: bool,
    enough: u64,
    pub(crate) words: Option<Words>,
    pub(crate) relaxed: Option<u64>,
    pub(crate) spellings: Option<Spellings>,
    pub(crate) first_letters: usize,
    beginnings: Beginnings,
    /// The word that [`Beginnings::Last`] is about, once the query is known.
    begun: Option<String>,
    filter: Option<Filter>,
    order: Order,
    pub(crate) total: Total,
    limit: usize,
    skip: usize,
    pub(crate) after: Option<PagePlace>,
    k1: Option<f32>,
    pub(crate) b: Lengths,
    pub(crate) proximity: Option<f32>,
    pub(crate) values: bool,
    pub(crate) marks: bool,
    counts: Vec<Count>,
    pub(crate) exact_forms: bool,
    pub(crate) expansions: Option<Arc<Expansions>>,
    pub(crate) most_terms: u64,
    most_postings: Option<u64>,
    stop: Option<StopWhen>,
    threads: NonZero<usize>,
    long: u64,
    pub(super) wished: Option<Strategy>,
}

/// The terms that the patterns and spellings of a query look at, at most, all together.
const MOST_TERMS: u64 = 1 << 19;
/// The postings that a query may go through are counted in sixteenths of the records, of these at least: for so many words and phrases
/// there is one, and for few of them no more than so many.
const FEWEST_RECORDS: u64 = 1 << 20;
const OF_SIXTEENTHS: u64 = 480;
const MOST_SIXTEENTHS: u64 = 48;

/// A lenient search makes do with so many records that have all words.
const ENOUGH: u64 = 10;

/// A request may ask for any number of threads.
const MOST_THREADS: usize = 256;
/// A search that goes through fewer postings than these in a shelf is not divided among threads.
const LONG: u64 = 500_000;

impl Default for Find {
    fn default() -> Self {
        Self {
            columns: None,
            weights: IndexMap::new(),
            strict: false,
            enough: ENOUGH,
            words: None,
            relaxed: None,
            spellings: None,
            first_letters: 0,
            beginnings: Beginnings::None,
            begun: None,
            filter: None,
            order: Order::Score,
            total: Total::Exact,
            limit: 10,
            skip: 0,
            after: None,
            k1: None,
            b: Lengths::default(),
            proximity: None,
            values: true,
            marks: false,
            counts: Vec::new(),
            exact_forms: false,
            expansions: None,
            stop: None,
            threads: NonZero::<usize>::MIN,
            long: LONG,
            wished: None,
            most_terms: MOST_TERMS,
            most_postings: None,
        }
    }
}

/// For tests and yardsticks.
#[cfg(feature = "measuring")]
impl Find {
    /// Takes a search for long from so many postings on.
    #[must_use]
    pub fn long_from(mut self, postings: u64) -> Self {
        self.long = postings;
        self
    }

    /// Takes one way through the postings whatever it costs, where it can be had.
    #[must_use]
    pub fn strategy(mut self, strategy: Strategy) -> Self {
        self.wished = Some(strategy);
        self
    }
}

impl Find {
    /// All text columns with the weights of the schema, the [best](Self::lenient) of what was typed, the first ten hits.
    pub fn new() -> Self {
        Self::default()
    }

    /// Looks in these text columns only.
    #[must_use]
    pub fn columns<S: Into<String>>(mut self, columns: impl IntoIterator<Item = S>) -> Self {
        self.columns = Some(columns.into_iter().map(Into::into).collect());
        self
    }

    /// Gives a text column another weight than the schema's. A column of weight 0 is searched and adds nothing.
    #[must_use]
    pub fn weight(mut self, column: impl Into<String>, weight: f32) -> Self {
        self.weights.insert(column.into(), weight);
        self
    }

    /// Makes the best of what was typed where few records have all of it, as a search does that says nothing: words that hardly any record
    /// has may stand for others, and records with fewer words follow. [`words`](Self::words), [`relaxed_below`](Self::relaxed_below) and
    /// [`spellings`](Self::spellings), where they are said, stand in place of their part of that. See [`lenient`](crate::lenient).
    #[must_use]
    pub fn lenient(mut self) -> Self {
        self.strict = false;
        self
    }

    /// Takes what was typed as it is: all words, none less and none for another, unless [`words`](Self::words),
    /// [`relaxed_below`](Self::relaxed_below) or [`spellings`](Self::spellings) say otherwise.
    #[must_use]
    pub fn strict(mut self) -> Self {
        self.strict = true;
        self
    }

    /// With how many records that have all words a [lenient](Self::lenient) search makes do: so many, or as many as a page goes to, if
    /// that is more; 10 unless it is said.
    #[must_use]
    pub fn enough(mut self, records: u64) -> Self {
        self.enough = records;
        self
    }

    /// How many of the words a record must have.
    #[must_use]
    pub fn words(mut self, words: Words) -> Self {
        self.words = Some(words);
        self
    }

    /// Where fewer records than this are found with all words, those with fewer words count too: all but one, half, any; of queries with more
    /// than 64 words and phrases any at once.
    /// Notes say so.
    #[must_use]
    pub fn relaxed_below(mut self, records: u64) -> Self {
        self.relaxed = Some(records);
        self
    }

    /// The same search, which stays as it is where too few are found.
    #[must_use]
    pub fn without_attempts(mut self) -> Self {
        self.strict = true;
        self.relaxed = None;
        self.spellings = self.spellings.filter(|spellings| !matches!(spellings, Spellings::WhenFewerThan(_)));
        self
    }

    /// When words may also stand for others that are spelled nearly so, by one typing mistake from three characters on and
    /// two from eight.
    #[must_use]
    pub fn spellings(mut self, spellings: Spellings) -> Self {
        self.spellings = Some(spellings);
        self
    }

    /// The first letters of a word that have to be right where spellings may be near; 0 without. More make it faster.
    #[must_use]
    pub fn first_letters_right(mut self, letters: usize) -> Self {
        self.first_letters = letters;
        self
    }

    /// Lets the last word stand for all that begin so, too; for searching while somebody types.
    #[must_use]
    pub fn with_beginnings(self) -> Self {
        self.beginnings(Beginnings::Last)
    }

    /// Which words may stand for all that begin so, too.
    #[must_use]
    pub fn beginnings(mut self, beginnings: Beginnings) -> Self {
        self.beginnings = beginnings;
        self
    }

    /// The same, where it is known which word of the query is the last one.
    pub(crate) fn beginning_in(mut self, query: &Query) -> Self {
        if self.beginnings == Beginnings::Last {
            self.begun = self.begun.or_else(|| query.last_word().map(str::to_owned));
        }
        self
    }

    /// Finds those records only for which a filter holds. Several filters have to hold all.
    #[must_use]
    pub fn only(mut self, filter: Filter) -> Self {
        self.filter = Some(match self.filter {
            Some(before) => before.and(filter),
            None => filter,
        });
        self
    }

    /// In which order hits are given.
    #[must_use]
    pub fn order(mut self, order: Order) -> Self {
        self.order = order;
        self
    }

    /// How exactly the matches are counted; knowing less is faster.
    #[must_use]
    pub fn total(mut self, total: Total) -> Self {
        self.total = total;
        self
    }

    /// Goes on behind a hit of a page before. Records that come or go between two pages shift nothing.
    #[must_use]
    pub fn after(mut self, place: PagePlace) -> Self {
        self.after = Some(place);
        self
    }

    /// The hits from the first on, behind no place.
    #[must_use]
    pub fn from_the_first(mut self) -> Self {
        self.after = None;
        self
    }

    /// Adds to the score of a record that has several of the words how near two different ones stand to each other, times
    /// this; as the schema [ranks](Schema::ranking), or nothing, without. See [`rank::proximity`](crate::rank::proximity).
    #[must_use]
    pub fn proximity(mut self, weight: f32) -> Self {
        self.proximity = Some(weight);
        self
    }

    /// Lets the patterns, beginnings and near spellings of a query look at about so many terms, all together; at 524,288 without. One that
    /// was found counts as five, and more if many records have it. What was not looked at is missing, and a note says so. One that
    /// is looked at because it may be spelled nearly so counts as twelve. A pattern such as `*a*` has to look at every term; so anybody may type one, however many there are.
    #[must_use]
    pub fn most_terms(mut self, terms: u64) -> Self {
        self.most_terms = terms;
        self
    }

    /// Makes a query simpler that would go through more postings than so many: of all phrases but the cheapest the words are looked for
    /// wherever they stand, of more than eight of the cheapest, too; the commonest words do not score; and it does not count how near words
    /// stand. Without, three for each record if there are up to ten words and phrases, 30 by their number if there are more, and a sixteenth at
    /// least; of fewer than 1,048,576 records so many are counted. A single word stays as it is, and so does a single phrase, but for
    /// nearness. A note says what was done.
    #[must_use]
    pub fn most_postings(mut self, postings: u64) -> Self {
        self.most_postings = Some(postings);
        self
    }

    /// Ends the search, with [`ErrorKind::Stopped`], when this says so. It is asked often.
    #[must_use]
    pub fn stop_when(mut self, stop: impl Fn() -> bool + Send + Sync + 'static) -> Self {
        self.stop = Some(StopWhen(Arc::new(stop)));
        self
    }

    /// Ends the search when this says so, too.
    #[must_use]
    pub fn or_stop_when(self, stop: impl Fn() -> bool + Send + Sync + 'static) -> Self {
        match self.stop.clone() {
            Some(StopWhen(first)) => self.stop_when(move || first() || stop()),
            None => self.stop_when(stop),
        }
    }

    /// Lets a search that is long be done by so many threads, where all of a shelf is at hand: in memory, or in a folder that is
    /// mapped; by 256 at most. It gives the same.
    #[must_use]
    pub fn threads(mut self, threads: NonZero<usize>) -> Self {
        self.threads = threads;
        self
    }

    /// The most hits to give; 10 without.
    #[must_use]
    pub fn limit(mut self, limit: usize) -> Self {
        self.limit = limit;
        self
    }

    /// Leaves out the first hits.
    #[must_use]
    pub fn skip(mut self, skip: usize) -> Self {
        self.skip = skip;
        self
    }

    /// How soon more of the same word stops to matter; as the schema [ranks](Schema::ranking), or 1.2, without.
    #[must_use]
    pub fn k1(mut self, k1: f32) -> Self {
        self.k1 = Some(k1);
        self
    }

    /// How far a long column counts against itself, from 0 to 1; as the schema [ranks](Schema::ranking), or 0.75, without.
    #[must_use]
    pub fn b(self, b: f32) -> Self {
        self.lengths(Lengths::same(b))
    }

    /// The same with a b of each column.
    #[must_use]
    pub fn lengths(mut self, b: Lengths) -> Self {
        self.b = b;
        self
    }

    /// Takes words in the form in which they are typed only, where a column keeps forms apart.
    #[must_use]
    pub fn exact_forms(mut self) -> Self {
        self.exact_forms = true;
        self
    }

    /// Lets words stand for their synonyms too, which weigh less than what was typed.
    #[must_use]
    pub fn expanding(mut self, expansions: &Arc<Expansions>) -> Self {
        self.expansions = Some(Arc::clone(expansions));
        self
    }

    /// Gives hits without the kept values.
    #[must_use]
    pub fn without_values(mut self) -> Self {
        self.values = false;
        self
    }

    /// Tells of each hit where in its values what was found stands: [`Hit::marks`](crate::Hit::marks).
    #[must_use]
    pub fn with_marks(mut self) -> Self {
        self.marks = true;
        self
    }

    /// Counts something of all records that match, whatever the page: [`Found::counts`](crate::Found::counts). May be said several times.
    /// With a [limit](Self::limit) of 0 nothing is scored. A search that is driven [step by step](crate::Search::step) counts nothing.
    ///
    /// ```
    /// use nut_cellar_core::Find;
    /// use nut_cellar_core::counts::{Count, Period};
    ///
    /// let find = Find::new().count(Count::of("station").most(5)).count(Count::periods("found_on", Period::Month));
    /// # assert_eq!(find.counts().len(), 2);
    /// ```
    #[must_use]
    pub fn count(mut self, count: Count) -> Self {
        self.counts.push(count);
        self
    }

    /// What is counted.
    pub fn counts(&self) -> &[Count] {
        &self.counts
    }

    /// The same, counting nothing.
    #[must_use]
    pub fn without_counts(mut self) -> Self {
        self.counts.clear();
        self
    }

    /// The same without what its filter asks of a column.
    pub(super) fn without_filter_on(mut self, column: &str) -> Self {
        self.filter = self.filter.and_then(|filter| filter.without(column));
        self
    }

    /// The same without its filter.
    pub(super) fn without_filter(mut self) -> Self {
        self.filter = None;
        self
    }

    /// The request that asks for this search of a query. What a function says, as [`stop_when`](Self::stop_when), is no part of it.
    pub fn request(&self, query: impl Into<Said<Query>>) -> Request {
        let find = self.clone();
        Request {
            version: DOCUMENT_VERSION,
            query: query.into(),
            exacting: false,
            columns: find.columns,
            weights: find.weights,
            strict: find.strict,
            enough: Some(find.enough).filter(|enough| *enough != ENOUGH),
            words: find.words,
            relax: find.relaxed,
            near: find.spellings,
            first_letters: find.first_letters,
            beginnings: find.beginnings,
            filter: find.filter.map(Said::Tree),
            sort: find.order,
            total: find.total,
            limit: find.limit,
            skip: find.skip,
            after: find.after,
            k1: find.k1,
            b: Some(find.b).filter(|b| *b != Lengths::default()),
            proximity: find.proximity,
            values: find.values,
            marks: find.marks,
            counts: find.counts,
            exact_forms: find.exact_forms,
            expansions: find.expansions.map(|expansions| expansions.text().to_owned()),
            most_terms: Some(find.most_terms).filter(|terms| *terms != MOST_TERMS),
            most_postings: find.most_postings,
            threads: Some(find.threads).filter(|threads| threads.get() > 1),
        }
    }

    /// Whether a word of the query stands for all that begin so. One that stands for near spellings does if it is the last.
    pub(super) fn may_go_on(&self, word: &str, is_near: bool) -> GoesOn {
        match self.beginnings {
            Beginnings::Last if self.begun.as_deref() == Some(word) => GoesOn::AtItsEnd,
            Beginnings::All if !is_near => GoesOn::Everywhere,
            _ => GoesOn::No,
        }
    }

    /// The filter, if there is one.
    pub fn filter(&self) -> Option<&Filter> {
        self.filter.as_ref()
    }

    /// In which order hits are given.
    pub fn wanted_order(&self) -> &Order {
        &self.order
    }

    /// How many threads may go through so many postings of a shelf.
    pub(super) fn threads_for(&self, postings: u64) -> usize {
        if postings >= self.long { self.threads.get().min(MOST_THREADS) } else { 1 }
    }

    /// How many postings a query of so many words and phrases may go through before it is made simpler, where there are so many
    /// records; none if it never is.
    pub(super) fn most_postings_of(&self, leaves: usize, records: u64) -> Option<u64> {
        let usual = (leaves > 1).then(|| {
            let sixteenths = (OF_SIXTEENTHS / leaves as u64).clamp(1, MOST_SIXTEENTHS);
            records.max(FEWEST_RECORDS).saturating_mul(sixteenths) / 16
        });
        self.most_postings.or(usual)
    }

    /// Fails if the caller wants the search to end.
    pub(crate) fn go_on(&self) -> Result<()> {
        match &self.stop {
            Some(stop) if (stop.0)() => Err(Error::new(
                ErrorKind::Stopped,
                "The search was stopped before it was done, as was asked.",
            )),
            _ => Ok(()),
        }
    }

    /// With how many records that have all words it makes do, if it is lenient.
    pub(crate) fn makes_do_with(&self) -> u64 {
        self.enough.max(self.window().end as u64)
    }

    /// Whether records with fewer words may follow, and whether words may stand for others, if it is lenient.
    pub(crate) fn leaves_open(&self) -> (bool, bool) {
        (self.words.is_none() && self.relaxed.is_none(), self.spellings.is_none())
    }

    /// Which hits are asked for, by rank from 0: those behind what is skipped, up to the limit.
    pub fn window(&self) -> std::ops::Range<usize> {
        self.skip..self.skip.saturating_add(self.limit)
    }

    /// The same search with what the schema says of ranking where it says nothing itself.
    pub(crate) fn ranked_by(&self, schema: &Schema) -> Self {
        let usual = schema.ranking();
        let mut weights = usual.weights.clone();
        weights.extend(self.weights.clone());
        let b = |name| self.b.of(name).or_else(|| usual.b.of(name)).unwrap_or(DEFAULT_B);
        let others = self.b.others().or(usual.b.others()).unwrap_or(DEFAULT_B);
        Self {
            weights,
            k1: Some(self.k1.or(usual.k1).unwrap_or(DEFAULT_K1)),
            b: schema.text_columns().fold(Lengths::same(others), |all, (name, _)| all.with(name, b(name))),
            proximity: Some(self.proximity.or(usual.proximity).unwrap_or(0.0)),
            ..self.clone()
        }
    }

    /// k1, if this was [ranked](Self::ranked_by).
    pub(crate) fn wanted_k1(&self) -> f32 {
        self.k1.unwrap_or(DEFAULT_K1)
    }

    /// Tells whether the columns that have a b of their own are there.
    pub(crate) fn check_lengths(&self, schema: &Schema) -> Result<()> {
        self.b.columns().try_for_each(|(name, _)| place(schema, name).map(drop))
    }

    /// The columns that are searched.
    pub(crate) fn searched(&self, schema: &Schema) -> Result<ColumnSet> {
        let Some(columns) = &self.columns else {
            return Ok((0..schema.text_columns().count()).collect());
        };
        if columns.is_empty() {
            return Err(Error::new(
                ErrorKind::BadRequest,
                "No column is named to search; name one, or none at all.",
            ));
        }
        columns.iter().map(|name| place(schema, name)).collect()
    }

    /// For each text column of the schema its weight.
    pub(crate) fn weights(&self, schema: &Schema) -> Result<Vec<f32>> {
        let mut weights: Vec<_> = schema.text_columns().map(|(_, column)| Column::weight(column)).collect();
        for (name, weight) in &self.weights {
            weights[place(schema, name)?] = *weight;
        }
        Ok(weights)
    }
}

fn place(schema: &Schema, name: &str) -> Result<usize> {
    schema.text_column(name).ok_or_else(|| {
        let known: Vec<_> = schema.text_columns().map(|(name, _)| name).collect();
        let wrong = match schema.column(name) {
            Some(column) if column.kind() == Kind::Text => {
                format!("Column `{name}` is shown and not searched")
            }
            Some(column) => {
                format!("Column `{name}` is of kind \"{}\" and can't be searched for words", column.kind())
            }
            None => format!("There is no column `{name}`"),
        };
        Error::new(ErrorKind::BadRequest, format!("{wrong}; use {}.", known.join(", ")))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_request_for_any_number_of_threads_gets_a_few() {
        let find = |threads| Find::new().threads(NonZero::new(threads).unwrap());
        assert_eq!(find(usize::MAX).threads_for(LONG), MOST_THREADS);
        assert_eq!((find(3).threads_for(LONG), find(3).threads_for(LONG - 1)), (3, 1));
    }

    #[test]
    fn the_more_words_a_query_has_the_fewer_postings_it_may_go_through() {
        const RECORDS: u64 = 2 << 20;
        let most = |leaves| Find::new().most_postings_of(leaves, RECORDS);
        assert_eq!(most(1), None);
        for leaves in 2..=10 {
            assert_eq!(most(leaves), Some(3 * RECORDS));
        }
        assert_eq!((most(15), most(30)), (Some(2 * RECORDS), Some(RECORDS)));
        assert_eq!((most(60), most(240)), (Some(RECORDS / 2), Some(RECORDS / 8)));
        assert_eq!((most(480), most(4_096)), (Some(RECORDS / 16), Some(RECORDS / 16)));
        assert_eq!(Find::new().most_postings_of(2, 10), Some(3 << 20), "a small cellar never cuts anything");
        assert_eq!(Find::new().most_postings(7).most_postings_of(2, RECORDS), Some(7));
    }
}
