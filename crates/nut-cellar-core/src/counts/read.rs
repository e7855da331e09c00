//! What is counted, as people write it.
//!
//! ```text
//! count  = column by? ( most N | least N | by value | by count | without own filter )…
//! by     = under path | ranges value , value … | by period [ in zone ] | statistics [ at number , number … ]
//! period = day | week | month | quarter | year
//! ```
//!
//! A column's name may stand in double quotation marks, a path and a value in single ones.

use super::calendar::Period;
use super::count::{By, Count, QUARTILES};
use crate::error::Error;
use crate::filter::{Placed, Token, tokens};
use crate::query::Misread;
use std::fmt;
use std::str::FromStr;

impl FromStr for Count {
    type Err = Error;

    /// Reads what is counted from text. See [`counts`](crate::counts) for what there is.
    fn from_str(text: &str) -> Result<Self, Error> {
        Ok(Parser { text, tokens: tokens(text)?, at: 0 }.count()?)
    }
}

impl TryFrom<String> for Count {
    type Error = Error;

    fn try_from(text: String) -> Result<Self, Error> {
        text.parse()
    }
}

impl From<Count> for String {
    fn from(count: Count) -> Self {
        count.to_string()
    }
}

struct Parser<'a> {
    text: &'a str,
    tokens: Vec<Placed>,
    at: usize,
}

impl Parser<'_> {
    fn count(&mut self) -> Result<Count, Misread> {
        let column = match self.tokens.first() {
            Some((Token::Bare(name) | Token::Name(name), _)) => name.clone(),
            _ => return Err(self.expected("a column")),
        };
        self.at = 1;
        let mut count = Count::of(column);
        while self.at < self.tokens.len() {
            let start = self.at;
            if self.word("most") {
                count = count.most(self.number("how many values to list")?);
            } else if self.word("least") {
                count = count.least(self.number("how many records a value has to have")?);
            } else if self.word("without") {
                if !(self.word("own") && self.word("filter")) {
                    return Err(self.expected("`own filter`"));
                }
                count = count.without_own_filter();
            } else if self.word("by") {
                if self.word("value") {
                    count = count.in_order();
                } else if self.word("count") {
                    count = count.most_first();
                } else {
                    let period = Period::ALL.iter().find(|(name, _)| self.word(name));
                    let Some((_, period)) = period else {
                        return Err(
                            self.expected("`value`, `count`, `day`, `week`, `month`, `quarter` or `year`")
                        );
                    };
                    let zone = if self.word("in") { Some(self.value("a time zone")?) } else { None };
                    self.become_by(&mut count, By::Periods(*period, zone), start)?;
                }
            } else if self.word("under") {
                let path = self.value("a path")?;
                self.become_by(&mut count, By::Levels(path), start)?;
            } else if self.word("ranges") {
                let ends = self.list("the end of a range")?;
                self.become_by(&mut count, By::Ranges(ends), start)?;
            } else if self.word("statistics") {
                let mut quantiles = QUARTILES.to_vec();
                if self.word("at") {
                    let first = self.at;
                    let read = self.list("a number from 0 to 1")?;
                    let read: Result<_, _> = read.iter().map(|number| number.parse()).collect();
                    quantiles = read.map_err(|_| {
                        self.at = first;
                        self.expected("numbers from 0 to 1")
                    })?;
                }
                self.become_by(&mut count, By::Statistics(quantiles), start)?;
            } else {
                return Err(self.expected(
                    "`most`, `least`, `by`, `under`, `ranges`, `statistics` or `without own filter`",
                ));
            }
        }
        Ok(count)
    }

    /// Says by what it is counted, which is said once.
    fn become_by(&self, count: &mut Count, by: By, start: usize) -> Result<(), Misread> {
        if count.by != By::Values {
            let range = self.tokens[start].1.clone();
            return Err(Misread::new(
                self.text,
                range,
                "What is counted is one of these; ask for each by itself.",
            ));
        }
        count.by = by;
        Ok(())
    }

    /// The error for what should stand here.
    fn expected(&self, what: &str) -> Misread {
        let end = self.text.len();
        let range = self.tokens.get(self.at).map_or(end..end, |(_, range)| range.clone());
        Misread::new(self.text, range, format!("Here should be {what}."))
    }

    fn word(&mut self, word: &str) -> bool {
        let known = |token: &Placed| matches!(&token.0, Token::Bare(bare) if bare.eq_ignore_ascii_case(word));
        let there = self.tokens.get(self.at).is_some_and(known);
        self.at += usize::from(there);
        there
    }

    fn value(&mut self, what: &str) -> Result<String, Misread> {
        let Some((Token::Bare(value) | Token::Text(value), _)) = self.tokens.get(self.at) else {
            return Err(self.expected(what));
        };
        let value = value.clone();
        self.at += 1;
        Ok(value)
    }

    fn number<N: FromStr>(&mut self, what: &str) -> Result<N, Misread> {
        let at = self.at;
        self.value(what)?.parse().map_err(|_| {
            self.at = at;
            self.expected(what)
        })
    }

    fn list(&mut self, what: &str) -> Result<Vec<String>, Misread> {
        let mut values = vec![self.value(what)?];
        while matches!(self.tokens.get(self.at), Some((Token::Sign(","), _))) {
            self.at += 1;
            values.push(self.value(what)?);
        }
        Ok(values)
    }
}

/// The words that say how a column is counted: a column with such a name stands in quotation marks.
fn quoted(text: &str, mark: char) -> String {
    let is_plain = |c: char| c.is_alphanumeric() || "_-./:+".contains(c);
    if !text.is_empty() && text.chars().all(is_plain) {
        return text.to_owned();
    }
    format!("{mark}{}{mark}", text.replace(mark, &format!("{mark}{mark}")))
}

impl fmt::Display for Count {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let listed = |values: Vec<String>| values.join(",");
        f.write_str(&quoted(&self.column, '"'))?;
        match &self.by {
            By::Values => {}
            By::Levels(path) => write!(f, " under {}", quoted(path, '\''))?,
            By::Ranges(ends) => {
                let ends = ends.iter().map(|end| quoted(end, '\'')).collect();
                write!(f, " ranges {}", listed(ends))?;
            }
            By::Periods(period, zone) => {
                write!(f, " by {period}")?;
                if let Some(zone) = zone {
                    write!(f, " in {}", quoted(zone, '\''))?;
                }
            }
            By::Statistics(quantiles) if *quantiles == QUARTILES => f.write_str(" statistics")?,
            By::Statistics(quantiles) => {
                let quantiles =
                    quantiles.iter().map(|quantile| quoted(&quantile.to_string(), '\'')).collect();
                write!(f, " statistics at {}", listed(quantiles))?;
            }
        }
        if let Some(most) = self.most {
            write!(f, " most {most}")?;
        }
        if self.least != 1 {
            write!(f, " least {}", self.least)?;
        }
        match self.by_value {
            Some(true) => f.write_str(" by value")?,
            Some(false) => f.write_str(" by count")?,
            None => {}
        }
        f.write_str(if self.own_filter { "" } else { " without own filter" })
    }
}
