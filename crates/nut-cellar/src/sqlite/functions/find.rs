//! `cellar_find`: the hits of a search, as a table.

use super::raw::writes;
use super::table_function::{Given, TableFunction};
use super::{Shared, changes, told};
use crate::sqlite::reading::parameter;
use nut_cellar_core::{Error, ErrorKind, Request, Result};
use rusqlite::Connection;
use rusqlite::types::Value;
use std::ffi::CStr;
use std::sync::Arc;

/// The hits that are given where no limit is.
const LIMIT: i64 = 10;

pub(super) struct Find(pub Arc<Shared>);

impl TableFunction for Find {
    const NAME: &'static CStr = c"cellar_find";
    const TABLE: &'static CStr =
        c"CREATE TABLE x(key, score REAL, rank INTEGER, cellar HIDDEN, query HIDDEN, most HIDDEN, settings HIDDEN)";
    const SHOWN: usize = 3;
    const ARGUMENTS: usize = 4;
    const NEEDED: usize = 2;
    const USE: &'static str = "cellar_find needs a cellar and a query: cellar_find('items', 'walnut box')";

    fn is_sorted(column: usize, down: bool, given: Given) -> bool {
        // Settings may ask for another order than that of scores.
        (column, down) == (2, false) || ((column, down) == (1, true) && !given.has(3))
    }

    fn rows(&self, connection: &Connection, arguments: &[Value]) -> rusqlite::Result<Vec<Vec<Value>>> {
        self.search(connection, arguments).map_err(told)
    }

    fn state(&self, connection: &Connection, arguments: &[Value]) -> Option<i64> {
        changes(connection, arguments)
    }
}

impl Find {
    fn search(&self, connection: &Connection, arguments: &[Value]) -> Result<Vec<Vec<Value>>> {
        let text = |place: usize, what: &str| match arguments.get(place) {
            None | Some(Value::Null) => Ok(None),
            Some(Value::Text(text)) => Ok(Some(text.as_str())),
            Some(_) => Err(wrong(&format!("{what} is no text"))),
        };
        let (Some(cellar), Some(query)) = (text(0, "the cellar")?, text(1, "the query")?) else {
            return Ok(Vec::new());
        };
        let limit = match arguments.get(2) {
            None | Some(Value::Null) => LIMIT,
            Some(Value::Integer(limit)) if *limit >= 0 => *limit,
            Some(_) => return Err(wrong("the limit is no number of hits")),
        };
        let mut request = text(3, "what the settings say")?.map(settings).transpose()?.unwrap_or_default();
        request.query = query.into();
        request.limit = usize::try_from(limit).unwrap_or(usize::MAX);
        request.values = false;
        let found = self.0.with(connection, cellar, |cellar| {
            cellar.answer_in_statement(connection, &request, writes(connection))
        })?;
        Ok(found
            .hits
            .into_iter()
            .map(|hit| {
                let rank = i64::try_from(hit.rank).unwrap_or(i64::MAX);
                vec![parameter(&hit.key), Value::Real(hit.score.into()), Value::Integer(rank)]
            })
            .collect())
    }
}

/// A request that says all but what is said outside of it.
pub(super) fn settings(text: &str) -> Result<Request> {
    let request = Request::read(text)?;
    let usual = Request::default();
    if (&request.query, request.limit, request.values) == (&usual.query, usual.limit, usual.values) {
        return Ok(request);
    }
    Err(wrong("settings have no `query`, `limit` and `values`, which are said outside of them"))
}

fn wrong(what: &str) -> Error {
    Error::new(
        ErrorKind::BadRequest,
        format!("cellar_find: {what}; use it like cellar_find('items', 'walnut box', 10)."),
    )
}
