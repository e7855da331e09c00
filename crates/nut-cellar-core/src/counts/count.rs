//! What is counted.

use super::calendar::{Calendar, Period};
use crate::error::{Error, ErrorKind, Result};
use crate::filter::{Test, bind_test};
use crate::schema::{Kind, Schema};
use serde::{Deserialize, Serialize};

/// Something to be counted of the records that a search finds.
///
/// ```
/// use nut_cellar_core::counts::{Count, Period};
///
/// let stations = Count::of("station").most(5).without_own_filter();
/// assert_eq!(stations.to_string(), "station most 5 without own filter");
/// let read: Count = "seen_at by month in Europe/Lisbon".parse().unwrap();
/// assert_eq!(read, Count::periods("seen_at", Period::Month).in_zone("Europe/Lisbon"));
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(try_from = "String", into = "String")]
pub struct Count {
    pub(super) column: String,
    pub(super) by: By,
    pub(super) most: Option<usize>,
    pub(super) least: u64,
    pub(super) by_value: Option<bool>,
    pub(super) own_filter: bool,
}

/// By what the values of a column are counted.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum By {
    /// Each value.
    Values,
    /// What follows a path in values such as `tools/hand/saws`, up to the next slash; an empty path is followed by all.
    Levels(String),
    /// The ranges between these values, which ascend; what is less than the first, and what is not less than the last, has a range, too.
    Ranges(Vec<String>),
    /// The days, weeks … in a time zone by its IANA name; UTC if none is said.
    Periods(Period, Option<String>),
    /// Nothing: what is wanted is what the values are like as numbers, and these quantiles of them, from 0 to 1.
    Statistics(Vec<f64>),
}

/// So many values are listed where nothing is said.
pub(super) const MOST: usize = 10;
/// A search counts so many things at most, and of one so many quantiles: each takes as long as going through all that is found.
const MOST_COUNTS: usize = 64;
const MOST_QUANTILES: usize = 64;
/// These quantiles are told where none are named.
pub(super) const QUARTILES: [f64; 3] = [0.25, 0.5, 0.75];

impl Count {
    /// The values of a column, those that most records have first: ten, unless it is [said](Self::most).
    pub fn of(column: impl Into<String>) -> Self {
        Self::by(column, By::Values)
    }

    /// What follows a path in the values of a hierarchy: of `tools/hand/saws` it is `tools` behind the empty path, `tools/hand` behind
    /// `tools`, and so on. A record counts once for each.
    pub fn levels(column: impl Into<String>, under: impl Into<String>) -> Self {
        Self::by(column, By::Levels(under.into()))
    }

    /// The ranges between values, which ascend: each has its lower end and not its upper one. A day may be a month or a year, which
    /// begins with it.
    pub fn ranges<V: ToString>(column: impl Into<String>, ends: impl IntoIterator<Item = V>) -> Self {
        Self::by(column, By::Ranges(ends.into_iter().map(|end| end.to_string()).collect()))
    }

    /// Days, weeks, months, quarters or years of a date or a moment, in UTC unless [another zone](Self::in_zone) is said.
    pub fn periods(column: impl Into<String>, period: Period) -> Self {
        Self::by(column, By::Periods(period, None))
    }

    /// What the values are like as numbers, with their quartiles.
    pub fn statistics(column: impl Into<String>) -> Self {
        Self::by(column, By::Statistics(QUARTILES.to_vec()))
    }

    /// The values of a column by something.
    pub fn by(column: impl Into<String>, by: By) -> Self {
        Self { column: column.into(), by, most: None, least: 1, by_value: None, own_filter: true }
    }

    /// Periods as they are in a time zone, by its IANA name, summer time included. What else is counted has no time zone.
    #[must_use]
    pub fn in_zone(mut self, zone: impl Into<String>) -> Self {
        if let By::Periods(_, named) = &mut self.by {
            *named = Some(zone.into());
        }
        self
    }

    /// Other quantiles than quartiles, from 0 to 1. What is no statistic has none.
    #[must_use]
    pub fn with_quantiles(mut self, quantiles: impl IntoIterator<Item = f64>) -> Self {
        if let By::Statistics(named) = &mut self.by {
            *named = quantiles.into_iter().collect();
        }
        self
    }

    /// Lists so many values at most; ten unless it is said, and all of ranges and periods.
    #[must_use]
    pub fn most(mut self, values: usize) -> Self {
        self.most = Some(values);
        self
    }

    /// Lists values that so many records have, or more; 1 unless it is said. With 0 ranges are listed that none has, too.
    #[must_use]
    pub fn least(mut self, records: u64) -> Self {
        self.least = records;
        self
    }

    /// Lists values in their own order, as ranges and periods are.
    #[must_use]
    pub fn in_order(mut self) -> Self {
        self.by_value = Some(true);
        self
    }

    /// Lists first what most records have, as values are.
    #[must_use]
    pub fn most_first(mut self) -> Self {
        self.by_value = Some(false);
        self
    }

    /// Counts what would be found if the filter said nothing of this column, so that of several values to choose from the others can
    /// still be chosen. Only what the filter asks by `and` is left out, and all of a part of it that names no other column.
    #[must_use]
    pub fn without_own_filter(mut self) -> Self {
        self.own_filter = false;
        self
    }

    /// The column that is counted.
    pub fn column(&self) -> &str {
        &self.column
    }
}

/// A count whose column is a place among those whose values are compared.
#[derive(Debug)]
pub(crate) struct BoundCount {
    pub count: Count,
    pub place: usize,
    pub kind: Kind,
    pub how: How,
}

/// How values become what is listed.
#[derive(Debug)]
pub(crate) enum How {
    Values,
    /// Behind this path, which has no slash at its ends, and may be empty.
    Levels(String),
    /// Where ranges begin, but for the first.
    Ranges(Vec<u64>),
    Periods(Calendar),
    Statistics(Vec<f64>),
}

/// Binds counts to a schema.
///
/// # Errors
/// [`ErrorKind::BadRequest`] if a column is not there or can't be counted so.
pub(crate) fn bind(schema: &Schema, counts: &[Count]) -> Result<Vec<BoundCount>> {
    if counts.len() > MOST_COUNTS {
        let message =
            format!("{} things are to be counted, and a search counts {MOST_COUNTS} at most.", counts.len());
        return Err(Error::new(ErrorKind::BadRequest, message));
    }
    let bound = |count: &Count| {
        bind_one(schema, count).map_err(|message| {
            Error::new(ErrorKind::BadRequest, format!("In what is counted, `{count}`: {message}"))
        })
    };
    counts.iter().map(bound).collect()
}

fn bind_one(schema: &Schema, count: &Count) -> std::result::Result<BoundCount, String> {
    let (place, kind) = crate::filter::column(schema, &count.column)?;
    let name = &count.column;
    let wants = |right: bool, what: &str| {
        if right { Ok(()) } else { Err(format!("Column `{name}` is of kind \"{kind}\", and {what}.")) }
    };
    let how = match &count.by {
        By::Values => How::Values,
        By::Levels(path) => {
            wants(kind == Kind::Exact, "only exact values have levels")?;
            How::Levels(path.trim_matches('/').to_owned())
        }
        By::Ranges(ends) => {
            wants(
                !matches!(kind, Kind::Exact | Kind::Boolean),
                "only numbers, days and moments have ranges",
            )?;
            let mut numbers = Vec::with_capacity(ends.len());
            for end in ends {
                // What is not less than the end, as in a filter.
                match bind_test(schema, name, &Test::AtLeast(end.as_str().into()))? {
                    crate::filter::Bound::Numbers(_, ranges) => {
                        numbers.extend(ranges.first().map(|range| range.0));
                    }
                    _ => return Err(format!("`{end}` is no number.")),
                }
            }
            if numbers.is_empty() || !numbers.is_sorted_by(|a, b| a < b) {
                return Err("The ends of ranges have to ascend, and there has to be one.".into());
            }
            How::Ranges(numbers)
        }
        By::Periods(period, zone) => {
            wants(matches!(kind, Kind::Date | Kind::Moment), "only days and moments have periods")?;
            wants(kind == Kind::Moment || zone.is_none(), "a day is the same in all time zones")?;
            How::Periods(Calendar::new(kind, *period, zone.as_deref())?)
        }
        By::Statistics(quantiles) => {
            let is_number = !matches!(kind, Kind::Exact | Kind::Boolean);
            wants(is_number, "only numbers, days and moments have statistics")?;
            if count.most.is_some() || count.by_value.is_some() || count.least != 1 {
                return Err("Statistics list no values, so there is no order and no number of them.".into());
            }
            if !quantiles.iter().all(|quantile| (0.0..=1.0).contains(quantile)) {
                return Err("Quantiles are numbers from 0 to 1.".into());
            }
            if quantiles.len() > MOST_QUANTILES {
                return Err(format!(
                    "There are {} quantiles, and at most {MOST_QUANTILES} are told.",
                    quantiles.len()
                ));
            }
            How::Statistics(quantiles.clone())
        }
    };
    Ok(BoundCount { count: count.clone(), place, kind, how })
}

impl BoundCount {
    /// The column whose filter is left out.
    pub fn left_out(&self) -> Option<&str> {
        (!self.count.own_filter).then_some(&self.count.column)
    }

    /// Whether values are listed in their own order.
    pub fn is_in_order(&self) -> bool {
        let by_itself = matches!(self.how, How::Ranges(_) | How::Periods(_));
        self.count.by_value.unwrap_or(by_itself)
    }

    /// How many values are listed at most.
    pub fn most(&self) -> usize {
        let all = matches!(self.how, How::Ranges(_) | How::Periods(_));
        self.count.most.unwrap_or(if all { usize::MAX } else { MOST })
    }
}
