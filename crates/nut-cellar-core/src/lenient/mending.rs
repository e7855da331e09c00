//! Words that hardly any record has, and what they may stand for.
//!
//! With r(q) the records that match q, under the filter and as far as they may be seen, and n what is enough, a word w with r(w) < n stands
//! for others as well, the first of these that applies:
//!
//! | of | where | it stands for |
//! | --- | --- | --- |
//! | two words a b side by side | r(ab) > r(a and b) | `(a AND b) OR ab` |
//! | a word with r(w) = 0 | a column of days or moments has w as a day, a month or a year | `w OR column:w` |
//! | a word with r(w) = 0 | of all ways to write it as two words x y, r("x y") is the greatest, and above 0 | `w OR "x y"` |
//! | a word without digits | r(~w) − r(w) ≥ 128 · r(w), and above 0 | `~w` |
//!
//! Only words that are wanted, that stand outside of quotation marks, and of which there are at most 16 in the query. A near spelling of
//! which not all terms were looked at stands for nothing, and a note says so.

use super::changed::{Changed, WhyChanged};
use super::words::{MOST_WORDS, as_two, is_letters, wanted};
use super::{Strict, count, counting};
use crate::error::Result;
use crate::note::Note;
use crate::query::Query;
use crate::schema::Kind;
use crate::search::{Find, Words};

/// What is spelled nearly so has to be had by so many times as many records.
const TIMES_AS_MANY: u64 = 128;
/// So many terms are told at most, and of each at least the inverse of this share of what the first one has.
const TOLD: usize = 3;
const SHARE_OF_FIRST: u64 = 8;

/// A query that was mended, and what is told of it.
pub(super) struct Mended {
    pub query: Query,
    pub changed: Vec<Changed>,
    pub notes: Vec<Note>,
}

impl Mended {
    pub fn nothing(query: &Query) -> Self {
        Self { query: query.clone(), changed: Vec::new(), notes: Vec::new() }
    }
}

/// Puts others beside words that hardly any record has.
pub(super) fn mend(by: &Strict<'_>, query: &Query, strict: &Find, enough: u64) -> Result<Mended> {
    let mut mended = Mended::nothing(query);
    if wanted(query).len() > MOST_WORDS {
        return Ok(mended);
    }
    let strict = strict.clone().words(Words::All);
    let mut mending = Mending { by, strict: &strict, enough, columns: None, mended: &mut mended };
    let query = mending.query(query)?;
    mended.query = query.normal();
    Ok(mended)
}

struct Mending<'m> {
    by: &'m Strict<'m>,
    strict: &'m Find,
    enough: u64,
    /// The columns that the words at hand are looked for in, if the query says so.
    columns: Option<Vec<String>>,
    mended: &'m mut Mended,
}

impl Mending<'_> {
    fn query(&mut self, query: &Query) -> Result<Query> {
        Ok(match query {
            Query::Word(word) => self.word(word)?,
            Query::Words(parts) => Query::Words(self.side_by_side(parts)?),
            Query::All(parts) => Query::All(self.each(parts)?),
            Query::Any(parts) => Query::Any(self.each(parts)?),
            Query::Needed(part) => Query::Needed(Box::new(self.query(part)?)),
            Query::In(columns, part) => {
                let is_text = |name: &String| self.by.schema().text_column(name).is_some();
                if !columns.iter().all(is_text) {
                    return Ok(query.clone());
                }
                let outer = self.columns.replace(columns.clone());
                let part = self.query(part);
                self.columns = outer;
                Query::In(columns.clone(), Box::new(part?))
            }
            other => other.clone(),
        })
    }

    fn each(&mut self, parts: &[Query]) -> Result<Vec<Query>> {
        parts.iter().map(|part| self.query(part)).collect()
    }

    /// How many records match, in the columns at hand.
    fn count(&mut self, query: Query) -> Result<u64> {
        let query = self.here(query);
        count(self.by, &query, self.strict)
    }

    fn here(&self, query: Query) -> Query {
        match &self.columns {
            Some(columns) => query.in_columns(columns),
            None => query,
        }
    }

    fn tell(&mut self, from: &str, to: Vec<String>, why: WhyChanged, records: u64) {
        self.mended.changed.push(Changed { from: from.to_owned(), to, why, records });
    }

    /// Words side by side, of which two may be one.
    fn side_by_side(&mut self, parts: &[Query]) -> Result<Vec<Query>> {
        let mut mended = Vec::with_capacity(parts.len());
        let mut rest = parts;
        while let [part, behind @ ..] = rest {
            if let (Query::Word(a), Some(Query::Word(b))) = (part, behind.first())
                && let Some(one) = self.as_one(a, b)?
            {
                mended.push(one);
                rest = &behind[1..];
                continue;
            }
            mended.push(self.query(part)?);
            rest = behind;
        }
        Ok(mended)
    }

    fn as_one(&mut self, a: &str, b: &str) -> Result<Option<Query>> {
        let one = format!("{a}{b}");
        if !is_letters(&one) {
            return Ok(None);
        }
        let records = self.count(Query::word(&one))?;
        let both = Query::all([Query::word(a), Query::word(b)]);
        if records == 0 || records <= self.count(both.clone())? {
            return Ok(None);
        }
        let either = Query::any([both, Query::word(&one)]);
        let records = self.count(either.clone())?;
        self.tell(&format!("{a} {b}"), vec![one], WhyChanged::AsOneWord, records);
        Ok(Some(either))
    }

    fn word(&mut self, word: &str) -> Result<Query> {
        let plain = Query::word(word);
        let records = self.count(plain.clone())?;
        if records >= self.enough {
            return Ok(plain);
        }
        if records == 0 {
            if let Some(day) = self.as_day(word)? {
                return Ok(day);
            }
            if let Some(two) = self.as_two(word)? {
                return Ok(two);
            }
        }
        if word.chars().any(char::is_numeric) {
            return Ok(plain);
        }
        let near = self.here(Query::near(word));
        let found = self.by.found(&near, &counting(self.strict))?;
        if found.notes.contains(&Note::TermsMissing) {
            self.mended.notes.push(Note::NotMended { word: word.to_owned() });
            return Ok(plain);
        }
        let more = found.total.saturating_sub(records);
        if more == 0 || more < records.saturating_mul(TIMES_AS_MANY) {
            return Ok(plain);
        }
        let to = self.told(&near)?;
        self.tell(word, to, WhyChanged::NearlySo, found.total);
        Ok(Query::near(word))
    }

    /// The terms that a near spelling brings, as far as there are records with them that may be seen.
    fn told(&mut self, near: &Query) -> Result<Vec<String>> {
        let mut told: Vec<(String, u64)> = Vec::new();
        let exactly = self.strict.clone().exact_forms();
        for (term, _) in self.by.alike(near, &counting(self.strict))? {
            if told.len() == TOLD {
                break;
            }
            let exact = self.here(Query::word(&term));
            let records = count(self.by, &exact, &exactly)?;
            let first = told.first().map_or(0, |(_, records)| *records);
            if records > 0 && records.saturating_mul(SHARE_OF_FIRST) >= first {
                told.push((term, records));
            }
        }
        told.sort_by_key(|(_, records)| std::cmp::Reverse(*records));
        Ok(told.into_iter().map(|(term, _)| term).collect())
    }

    /// A word that is a day, a month or a year of a column.
    fn as_day(&mut self, word: &str) -> Result<Option<Query>> {
        if self.columns.is_some() || !word.starts_with(|c: char| c.is_ascii_digit()) {
            return Ok(None);
        }
        let is_of_days = |kind: Kind| matches!(kind, Kind::Date | Kind::Moment);
        let columns = self.by.schema().columns().filter(|(_, column)| is_of_days(column.kind()));
        let columns: Vec<_> = columns
            .filter(|(_, column)| crate::filter::reads_as_value(column.kind(), word).is_ok())
            .map(|(name, _)| name.to_owned())
            .collect();
        let (mut ways, mut to) = (vec![Query::word(word)], Vec::new());
        for column in columns {
            let value = Query::word(word).in_columns([column.as_str()]);
            if self.count(value.clone())? > 0 {
                to.push(value.to_string());
                ways.push(value);
            }
        }
        if to.is_empty() {
            return Ok(None);
        }
        let either = Query::any(ways);
        let records = self.count(either.clone())?;
        self.tell(word, to, WhyChanged::AsADay, records);
        Ok(Some(either))
    }

    /// A word that is two.
    fn as_two(&mut self, word: &str) -> Result<Option<Query>> {
        let mut best: Option<(u64, String)> = None;
        for (first, second) in as_two(word) {
            if self.count(Query::word(first))? == 0 || self.count(Query::word(second))? == 0 {
                continue;
            }
            let two = format!("{first} {second}");
            let records = self.count(Query::phrase(&two))?;
            if records > best.as_ref().map_or(0, |(most, _)| *most) {
                best = Some((records, two));
            }
        }
        let Some((records, two)) = best else { return Ok(None) };
        self.tell(word, vec![two.clone()], WhyChanged::AsTwoWords, records);
        Ok(Some(Query::any([Query::word(word), Query::phrase(two)])))
    }
}
