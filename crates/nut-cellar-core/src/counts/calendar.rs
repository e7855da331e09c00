//! Days, weeks, months, quarters and years in a time zone, as half-open runs of the numbers that days and moments are compared by.

use crate::record::Value;
use crate::schema::Kind;
use jiff::civil::{Date, Time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use std::fmt;

/// How long a period is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Period {
    /// From midnight to midnight.
    Day,
    /// From Monday to Sunday (ISO 8601).
    Week,
    /// A month of the calendar.
    Month,
    /// Three of them, from January, April, July or October on.
    Quarter,
    /// From January to December.
    Year,
}

impl Period {
    /// All of them, with their names.
    pub(super) const ALL: [(&str, Self); 5] = [
        ("day", Self::Day),
        ("week", Self::Week),
        ("month", Self::Month),
        ("quarter", Self::Quarter),
        ("year", Self::Year),
    ];

    /// The first day of the period that has this one.
    fn first(self, day: Date) -> Date {
        let quarter = (day.month() - 1) / 3 * 3 + 1;
        match self {
            Self::Day => day,
            Self::Week => {
                day.checked_sub(i64::from(day.weekday().to_monday_zero_offset()).days()).unwrap_or(Date::MIN)
            }
            Self::Month => day.first_of_month(),
            Self::Quarter => Date::new(day.year(), quarter, 1).unwrap_or(day),
            Self::Year => day.first_of_year(),
        }
    }

    /// The first day of the next period, by the first of this one; none where the calendar ends.
    fn next(self, first: Date) -> Option<Date> {
        let span = match self {
            Self::Day => 1.day(),
            Self::Week => 1.week(),
            Self::Month => 1.month(),
            Self::Quarter => 3.months(),
            Self::Year => 1.year(),
        };
        first.checked_add(span).ok()
    }

    /// The first day of the period before; none where the calendar begins.
    fn before(self, first: Date) -> Option<Date> {
        first.yesterday().ok().map(|day| self.first(day))
    }

    /// The name of a period, by its first day: `2031-04-17`, `2031-W16`, `2031-04`, `2031-Q2`, `2031`.
    fn name(self, first: Date) -> String {
        match self {
            Self::Day => first.to_string(),
            Self::Week => {
                let week = first.iso_week_date();
                format!("{:04}-W{:02}", week.year(), week.week())
            }
            Self::Month => format!("{:04}-{:02}", first.year(), first.month()),
            Self::Quarter => format!("{:04}-Q{}", first.year(), (first.month() + 2) / 3),
            Self::Year => format!("{:04}", first.year()),
        }
    }
}

impl fmt::Display for Period {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let named = Self::ALL.iter().find(|(_, period)| period == self);
        f.write_str(named.map_or("day", |(name, _)| name))
    }
}

/// The periods of a column's values.
#[derive(Debug)]
pub(crate) struct Calendar {
    kind: Kind,
    period: Period,
    zone: TimeZone,
}

impl Calendar {
    /// Of days, or of moments in a zone.
    ///
    /// # Errors
    /// A sentence, if there is no such zone.
    pub fn new(kind: Kind, period: Period, zone: Option<&str>) -> Result<Self, String> {
        let zone = zone.map_or(Ok(TimeZone::UTC), TimeZone::get).map_err(|_| {
            format!(
                "There is no time zone `{}`; an IANA name such as `Europe/Lisbon` is one.",
                zone.unwrap_or_default()
            )
        })?;
        Ok(Self { kind, period, zone })
    }

    /// The day of a value.
    fn day(&self, number: u64) -> Option<Date> {
        match Value::of_number(self.kind, number)? {
            Value::Moment(micros) => {
                Some(self.zone.to_datetime(Timestamp::from_microsecond(micros).ok()?).date())
            }
            value => value.day(),
        }
    }

    /// Where a day begins, as a number; the least or the greatest of all where time ends.
    fn begins(&self, day: Option<Date>, end: u64) -> u64 {
        let Some(day) = day else { return end };
        if self.kind == Kind::Date {
            return Value::from(day).number().unwrap_or(end);
        }
        // Where clocks are put forward at midnight, a day begins later.
        let begun = self.zone.to_timestamp(day.to_datetime(Time::midnight())).ok();
        begun.and_then(|begun| Value::Moment(begun.as_microsecond()).number()).unwrap_or(end)
    }

    /// The period of a value: from where and to where, without that. Every number of a kind is in one.
    pub fn around(&self, number: u64) -> (u64, u64) {
        let Some(day) = self.day(number) else { return (number, number.saturating_add(1)) };
        let mut first = Some(self.period.first(day));
        loop {
            let next = first.and_then(|first| self.period.next(first));
            let (from, to) = (self.begins(first, 0), self.begins(next, u64::MAX));
            // Clocks that were put back over midnight have been at two days in turn: periods follow one another all the same.
            if number < from && from > 0 {
                first = first.and_then(|first| self.period.before(first));
            } else if number >= to && to < u64::MAX {
                first = next;
            } else {
                return (from, to);
            }
        }
    }

    /// The name of the period that begins here.
    pub fn name(&self, from: u64) -> String {
        // A moment later, where the day begins, whatever the clocks were put to.
        self.day(from).map_or_else(String::new, |day| self.period.name(self.period.first(day)))
    }
}
