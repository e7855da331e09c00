//! Days and moments of other crates. Moments are kept to the microsecond.

use super::{SingleValue, is_not};
use crate::error::Result;
use crate::record::Value;
use crate::schema::Kind;

#[cfg(feature = "chrono")]
mod of_chrono {
    use super::{Kind, Result, SingleValue, Value, is_not};
    use chrono::{DateTime, Datelike, NaiveDate, Utc};

    /// 1970-01-01, counted from the first day of the year 1.
    const FIRST: i32 = 719_163;

    impl SingleValue for NaiveDate {
        const KIND: Kind = Kind::Date;

        fn into_value(self) -> Result<Value> {
            Ok(Value::Date(self.num_days_from_ce() - FIRST))
        }

        fn from_value(value: Value) -> Result<Self> {
            let day = match value {
                Value::Date(days) => days.checked_add(FIRST).and_then(Self::from_num_days_from_ce_opt),
                _ => None,
            };
            day.ok_or_else(|| is_not("a day", value))
        }
    }

    impl SingleValue for DateTime<Utc> {
        const KIND: Kind = Kind::Moment;

        fn into_value(self) -> Result<Value> {
            Ok(Value::Moment(self.timestamp_micros()))
        }

        fn from_value(value: Value) -> Result<Self> {
            let moment = match value {
                Value::Moment(micros) => Self::from_timestamp_micros(micros),
                _ => None,
            };
            moment.ok_or_else(|| is_not("a moment", value))
        }
    }
}

#[cfg(feature = "time")]
mod of_time {
    use super::{Kind, Result, SingleValue, Value, is_not};
    use time::{Date, OffsetDateTime};

    /// The Julian day of 1970-01-01.
    const FIRST: i32 = 2_440_588;

    impl SingleValue for Date {
        const KIND: Kind = Kind::Date;

        fn into_value(self) -> Result<Value> {
            Ok(Value::Date(self.to_julian_day() - FIRST))
        }

        fn from_value(value: Value) -> Result<Self> {
            let day = match value {
                Value::Date(days) => {
                    days.checked_add(FIRST).and_then(|days| Self::from_julian_day(days).ok())
                }
                _ => None,
            };
            day.ok_or_else(|| is_not("a day", value))
        }
    }

    /// Wherever it was noted, it comes back in UTC.
    impl SingleValue for OffsetDateTime {
        const KIND: Kind = Kind::Moment;

        fn into_value(self) -> Result<Value> {
            let micros = i64::try_from(self.unix_timestamp_nanos().div_euclid(1_000));
            micros.map(Value::Moment).map_err(|_| is_not("a moment of this calendar", self))
        }

        fn from_value(value: Value) -> Result<Self> {
            let moment = match value {
                Value::Moment(micros) => Self::from_unix_timestamp_nanos(i128::from(micros) * 1_000).ok(),
                _ => None,
            };
            moment.ok_or_else(|| is_not("a moment", value))
        }
    }
}
