//! `cellar_count`: what is counted of all that a search finds, as a table.

use super::find::settings;
use super::raw::writes;
use super::table_function::{Given, TableFunction};
use super::{Shared, changes, told};
use nut_cellar_core::counts::{Count, Counted, Sum};
use nut_cellar_core::{Error, ErrorKind, Result};
use rusqlite::Connection;
use rusqlite::types::Value;
use std::ffi::CStr;
use std::sync::Arc;

pub(super) struct Counting(pub Arc<Shared>);

impl TableFunction for Counting {
    const NAME: &'static CStr = c"cellar_count";
    const TABLE: &'static CStr =
        c"CREATE TABLE x(value, records INTEGER, what TEXT, begins, ends, cellar HIDDEN, query HIDDEN, counted HIDDEN, settings HIDDEN)";
    const SHOWN: usize = 5;
    const ARGUMENTS: usize = 4;
    const NEEDED: usize = 3;
    const USE: &'static str = "cellar_count needs a cellar, a query and what is counted: cellar_count('items', 'walnut box', 'station most 5')";

    fn is_sorted(_: usize, _: bool, _: Given) -> bool {
        false
    }

    fn rows(&self, connection: &Connection, arguments: &[Value]) -> rusqlite::Result<Vec<Vec<Value>>> {
        self.count(connection, arguments).map_err(told)
    }

    fn state(&self, connection: &Connection, arguments: &[Value]) -> Option<i64> {
        changes(connection, arguments)
    }
}

impl Counting {
    fn count(&self, connection: &Connection, arguments: &[Value]) -> Result<Vec<Vec<Value>>> {
        let text = |place: usize| match arguments.get(place) {
            None | Some(Value::Null) => Ok(None),
            Some(Value::Text(text)) => Ok(Some(text.as_str())),
            Some(_) => {
                Err(Error::new(ErrorKind::BadRequest, format!("{}; all of them are texts.", Self::USE)))
            }
        };
        let (Some(cellar), Some(query), Some(counted)) = (text(0)?, text(1)?, text(2)?) else {
            return Ok(Vec::new());
        };
        let mut request = text(3)?.map(settings).transpose()?.unwrap_or_default();
        request.query = query.into();
        request.counts = vec![counted.parse::<Count>()?];
        (request.limit, request.values) = (0, false);
        let found = self.0.with(connection, cellar, |cellar| {
            cellar.answer_in_statement(connection, &request, writes(connection))
        })?;
        Ok(found.counts.iter().flat_map(rows).collect())
    }
}

/// The rows of a count: its values, and behind them other values and none, as far as there are such records; or its statistics.
fn rows(counted: &Counted) -> Vec<Vec<Value>> {
    let whole = |records: u64| Value::Integer(i64::try_from(records).unwrap_or(i64::MAX));
    let row = |value: Value, records: Value, what: &str| {
        vec![value, records, Value::Text(what.to_owned()), Value::Null, Value::Null]
    };
    let mut rows: Vec<_> = counted
        .values
        .iter()
        .map(|one| {
            let [value, begins, ends] =
                [&one.value, &one.from, &one.to].map(|value| value.as_ref().map_or(Value::Null, sql));
            vec![value, whole(one.records), Value::Text("value".to_owned()), begins, ends]
        })
        .collect();
    if let Some(statistics) = &counted.statistics {
        let number = |sum: &Sum| match sum {
            Sum::Integer(sum) => {
                i64::try_from(*sum).map_or_else(|_| Value::Text(sum.to_string()), Value::Integer)
            }
            Sum::Float(sum) => Value::Real(*sum),
        };
        rows.push(row(whole(statistics.count), Value::Null, "count"));
        let known = [
            ("least", statistics.least.as_ref().map(sql)),
            ("greatest", statistics.greatest.as_ref().map(sql)),
            ("sum", statistics.sum.as_ref().map(number)),
            ("mean", statistics.mean.map(Value::Real)),
        ];
        rows.extend(known.into_iter().filter_map(|(what, value)| Some(row(value?, Value::Null, what))));
        let quantiles = statistics.quantiles.iter();
        rows.extend(quantiles.map(|(part, value)| row(sql(value), Value::Null, &format!("quantile {part}"))));
    }
    let rest = [("others", counted.others), ("missing", counted.missing)];
    rows.extend(
        rest.iter()
            .filter(|(_, records)| *records > 0)
            .map(|(what, records)| row(Value::Null, whole(*records), what)),
    );
    rows
}

/// A value as SQLite has it: days and moments are texts, as most tables keep them.
fn sql(value: &nut_cellar_core::Value) -> Value {
    use nut_cellar_core::Value as Own;
    match value {
        Own::Integer(number) => Value::Integer(*number),
        Own::Float(number) => Value::Real(*number),
        Own::Boolean(value) => Value::Integer((*value).into()),
        other => Value::Text(other.to_string()),
    }
}
