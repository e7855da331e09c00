//! A filter bound to a schema: what remains are ranges of numbers that sort as the values do, and of texts.

use super::keys::{KeyRun, is_key, runs};
use super::{Filter, Test};
use crate::error::{Error, ErrorKind, Result};
use crate::record::Value;
use crate::schema::{Kind, Schema};
use std::ops::Bound as Edge;

/// Numbers of 64 bits (see `shelf::values`), as ranges that ascend and do not touch, both ends included.
pub(crate) type Numbers = Vec<(u64, u64)>;

/// A filter whose columns are places among those whose values are compared.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Bound {
    /// A value lies in one of these ranges.
    Numbers(usize, Numbers),
    /// A text lies in one of these ranges.
    Texts(usize, Vec<Texts>),
    /// There is no value.
    Absent(usize),
    /// The key lies in one of these runs, which ascend.
    Keys(Vec<KeyRun>),
    All(Vec<Bound>),
    Any(Vec<Bound>),
    Not(Box<Bound>),
}

/// What a value stands for: the least and the greatest that it may be.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Span {
    Number(u64, u64),
    Text(String),
}

/// Binds a filter.
///
/// # Errors
/// [`ErrorKind::BadRequest`] if a column is not there or not of a kind that is compared, or a value is none of its kind.
pub(crate) fn bind(schema: &Schema, filter: &Filter) -> Result<Bound> {
    let several = |parts: &[Filter]| parts.iter().map(|part| bind(schema, part)).collect::<Result<Vec<_>>>();
    Ok(match filter {
        Filter::Column(name, test) => bind_test(schema, name, test)
            .map_err(|message| Error::new(ErrorKind::BadRequest, format!("In the filter: {message}")))?,
        Filter::All(parts) => Bound::All(several(parts)?),
        Filter::Any(parts) => Bound::Any(several(parts)?),
        Filter::Not(part) => Bound::Not(Box::new(bind(schema, part)?)),
    })
}

/// Binds the test of one column.
///
/// # Errors
/// A sentence that says what is wrong.
pub(crate) fn bind_test(schema: &Schema, name: &str, test: &Test) -> Result<Bound, String> {
    if is_key(schema, name) {
        return Ok(Bound::Keys(runs(test)?));
    }
    let (column, kind) = column(schema, name)?;
    if *test == Test::Absent {
        return Ok(Bound::Absent(column));
    }
    if kind == Kind::Exact {
        return Ok(Bound::Texts(column, texts(test)?));
    }
    let mut ranges = Numbers::new();
    let number = |value: &Value| match span(kind, value)? {
        Span::Number(low, high) => Ok::<_, String>((low, high)),
        Span::Text(_) => Err(format!("`{value}` is no number.")),
    };
    match test {
        Test::Equal(value) => ranges.push(number(value)?),
        Test::In(values) => {
            for value in values {
                ranges.push(number(value)?);
            }
        }
        Test::Below(value) => ranges.extend(number(value)?.0.checked_sub(1).map(|high| (0, high))),
        Test::AtMost(value) => ranges.push((0, number(value)?.1)),
        Test::Above(value) => ranges.extend(number(value)?.1.checked_add(1).map(|low| (low, u64::MAX))),
        Test::AtLeast(value) => ranges.push((number(value)?.0, u64::MAX)),
        Test::Between(low, high) => ranges.push((number(low)?.0, number(high)?.1)),
        Test::Under(_) => {
            return Err(format!("Column `{name}` is of kind \"{kind}\", and only exact values have levels."));
        }
        Test::Absent => {}
    }
    Ok(Bound::Numbers(column, united(ranges)))
}

/// The place of a column among those whose values are compared, and its kind.
pub(crate) fn column(schema: &Schema, name: &str) -> Result<(usize, Kind), String> {
    let columns = schema.columns().map(|(name, _)| name).collect::<Vec<_>>();
    let place = schema.value_columns().position(|(place, _)| columns[place] == name);
    match (place, schema.column(name)) {
        (Some(place), Some(column)) => Ok((place, column.kind())),
        (_, Some(column)) => {
            Err(format!("Column `{name}` is of kind \"{}\" and its values can't be compared.", column.kind()))
        }
        (_, None) => {
            let known: Vec<_> = schema.value_columns().map(|(place, _)| columns[place]).collect();
            Err(if known.is_empty() {
                format!("There is no column `{name}`, and none whose values can be compared.")
            } else {
                format!("There is no column `{name}`; values can be compared of {}.", known.join(", "))
            })
        }
    }
}

/// Texts between two others.
pub(crate) type Texts = (Edge<String>, Edge<String>);

fn texts(test: &Test) -> Result<Vec<Texts>, String> {
    let text = |value: &Value| match value.clone().into_kind(Kind::Exact) {
        Ok(Value::Text(text)) => Ok(text),
        _ => Err(format!("`{value}` is no text.")),
    };
    Ok(match test {
        Test::Equal(value) => vec![(Edge::Included(text(value)?), Edge::Included(text(value)?))],
        Test::In(values) => {
            let mut all = values.iter().map(text).collect::<Result<Vec<_>, _>>()?;
            all.sort_unstable();
            all.dedup();
            all.into_iter().map(|text| (Edge::Included(text.clone()), Edge::Included(text))).collect()
        }
        Test::Below(value) => vec![(Edge::Unbounded, Edge::Excluded(text(value)?))],
        Test::AtMost(value) => vec![(Edge::Unbounded, Edge::Included(text(value)?))],
        Test::Above(value) => vec![(Edge::Excluded(text(value)?), Edge::Unbounded)],
        Test::AtLeast(value) => vec![(Edge::Included(text(value)?), Edge::Unbounded)],
        Test::Between(low, high) => vec![(Edge::Included(text(low)?), Edge::Included(text(high)?))],
        Test::Under(path) => {
            let path = text(path)?;
            let path = path.trim_matches('/');
            let behind = behind(path);
            if path.is_empty() {
                vec![behind]
            } else {
                vec![(Edge::Included(path.into()), Edge::Included(path.into())), behind]
            }
        }
        Test::Absent => Vec::new(),
    })
}

/// What goes on behind a path and a slash; all where the path is empty.
pub(crate) fn behind(path: &str) -> Texts {
    if path.is_empty() {
        return (Edge::Unbounded, Edge::Unbounded);
    }
    // `0` is the character after a slash.
    (Edge::Included(format!("{path}/")), Edge::Excluded(format!("{path}0")))
}

/// Ranges in order, those that overlap or touch as one, and without those that are empty.
fn united(mut ranges: Numbers) -> Numbers {
    ranges.retain(|(low, high)| low <= high);
    ranges.sort_unstable();
    ranges.dedup_by(|next, kept| {
        let touches = next.0 <= kept.1.saturating_add(1);
        if touches {
            kept.1 = kept.1.max(next.1);
        }
        touches
    });
    ranges
}

/// What a value of a kind stands for.
///
/// # Errors
/// A sentence, if it is none of the kind.
pub(super) fn span(kind: Kind, value: &Value) -> Result<Span, String> {
    if kind == Kind::Exact {
        return Ok(Span::Text(value.to_string()));
    }
    if let (Kind::Date | Kind::Moment, Some((first, last))) = (kind, days(value)) {
        let day = |day: jiff::civil::Date| Value::read(Kind::Date, &day.to_string());
        if kind == Kind::Date {
            let number = |value| day(value).ok().and_then(|value| value.number());
            if let Some((low, high)) = number(first).zip(number(last)) {
                return Ok(Span::Number(low, high));
            }
        } else if let Some((low, high)) = moments(first, last) {
            return Ok(Span::Number(low, high));
        }
    }
    let number = value.clone().into_kind(kind).ok().and_then(|value| value.number());
    number.map(|number| Span::Number(number, number)).ok_or_else(|| unreadable(kind, value))
}

/// The first and the last microsecond of a run of days in UTC, as numbers.
fn moments(first: jiff::civil::Date, last: jiff::civil::Date) -> Option<(u64, u64)> {
    const DAY: i64 = 86_400_000_000;
    let begin = |day: jiff::civil::Date| match Value::read(Kind::Date, &day.to_string()) {
        Ok(Value::Date(days)) => Some(i64::from(days) * DAY),
        _ => None,
    };
    Value::Moment(begin(first)?).number().zip(Value::Moment(begin(last)? + DAY - 1).number())
}

/// The days of a date, or of a text that names a year, a month or a day.
fn days(value: &Value) -> Option<(jiff::civil::Date, jiff::civil::Date)> {
    if let Value::Date(_) = value {
        return value.day().map(|day| (day, day));
    }
    let text = value.as_text()?.trim();
    let numbers = text
        .split('-')
        .map(|part| part.bytes().all(|b| b.is_ascii_digit()).then(|| part.parse::<i16>().ok())?);
    let widths: Vec<_> = text.split('-').map(str::len).collect();
    match (numbers.collect::<Option<Vec<_>>>()?.as_slice(), widths.as_slice()) {
        ([year], [4]) => {
            Some((jiff::civil::Date::new(*year, 1, 1).ok()?, jiff::civil::Date::new(*year, 12, 31).ok()?))
        }
        ([year, month], [4, 2]) => {
            let first = jiff::civil::Date::new(*year, i8::try_from(*month).ok()?, 1).ok()?;
            Some((first, first.last_of_month()))
        }
        ([year, month, day], [4, 2, 2]) => {
            let day =
                jiff::civil::Date::new(*year, i8::try_from(*month).ok()?, i8::try_from(*day).ok()?).ok()?;
            Some((day, day))
        }
        _ => None,
    }
}

fn unreadable(kind: Kind, value: &Value) -> String {
    let shown: String = value.to_string().chars().take(60).collect();
    let wanted = match kind {
        Kind::Integer => "a whole number such as 42",
        Kind::Float => "a number such as 4.2",
        Kind::Boolean => "true or false",
        Kind::Date => "a date such as 2031-04-17 or 2031-04",
        Kind::Moment => "a moment such as 2031-04-17T08:30:00Z or a day such as 2031-04-17",
        Kind::Text | Kind::Exact | Kind::Point => "a value that can be compared",
    };
    format!("`{shown}` is not {wanted}.")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn schema() -> Schema {
        use crate::schema::Column;
        Schema::new("id")
            .with("title", Column::text("en"))
            .with("value", Column::of(Kind::Integer))
            .with("found_on", Column::of(Kind::Date))
            .with("seen", Column::of(Kind::Moment))
            .with("station", Column::of(Kind::Exact))
    }

    fn day(text: &str) -> u64 {
        Value::read(Kind::Date, text).unwrap().number().unwrap()
    }

    #[test]
    fn a_month_is_its_days_and_a_year_its_months() {
        let bound = |test| bind_test(&schema(), "found_on", &test).unwrap();
        let month = (day("2032-02-01"), day("2032-02-29"));
        assert_eq!(bound(Test::Equal("2032-02".into())), Bound::Numbers(1, vec![month]));
        assert_eq!(bound(Test::AtLeast("2032-02".into())), Bound::Numbers(1, vec![(month.0, u64::MAX)]));
        assert_eq!(bound(Test::Above("2032-02".into())), Bound::Numbers(1, vec![(month.1 + 1, u64::MAX)]));
        assert_eq!(bound(Test::Below("2032-02".into())), Bound::Numbers(1, vec![(0, month.0 - 1)]));
        assert_eq!(bound(Test::AtMost("2032".into())), Bound::Numbers(1, vec![(0, day("2032-12-31"))]));
        let touching = Test::In(vec!["2032-02".into(), "2032-03-01".into(), "2031".into()]);
        let year = (day("2031-01-01"), day("2031-12-31"));
        assert_eq!(bound(touching), Bound::Numbers(1, vec![year, (month.0, month.1 + 1)]));
        assert_eq!(bound(Test::Between("2032".into(), "2031".into())), Bound::Numbers(1, vec![]));
    }

    #[test]
    fn a_day_of_moments_is_all_its_microseconds() {
        let Bound::Numbers(2, ranges) =
            bind_test(&schema(), "seen", &Test::Equal("2031-04-17".into())).unwrap()
        else {
            panic!("moments are numbers");
        };
        let moment = |text| Value::read(Kind::Moment, text).unwrap().number().unwrap();
        assert_eq!(ranges, [(moment("2031-04-17T00:00:00Z"), moment("2031-04-17T23:59:59.999999Z"))]);
    }

    #[test]
    fn what_cannot_be_compared_is_said() {
        for (name, value, said) in [
            (
                "colour",
                "red",
                "There is no column `colour`; values can be compared of value, found_on, seen, station.",
            ),
            ("title", "oak", "Column `title` is of kind \"text\" and its values can't be compared."),
            ("value", "4.5", "`4.5` is not a whole number such as 42."),
            ("found_on", "2031-13", "`2031-13` is not a date such as 2031-04-17 or 2031-04."),
        ] {
            assert_eq!(bind_test(&schema(), name, &Test::Equal(value.into())).unwrap_err(), said);
        }
    }
}
