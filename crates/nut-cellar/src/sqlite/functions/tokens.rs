//! `cellar_tokens`: what becomes of a text, as a table.

use super::table_function::{Given, TableFunction};
use super::told;
use nut_cellar_core::{Error, ErrorKind, Language, Recipe};
use rusqlite::Connection;
use rusqlite::types::Value;
use std::ffi::CStr;

pub(super) struct Tokens;

impl TableFunction for Tokens {
    const NAME: &'static CStr = c"cellar_tokens";
    const TABLE: &'static CStr = c"CREATE TABLE x(term TEXT, start INTEGER, \"end\" INTEGER, position INTEGER, shared TEXT, text HIDDEN, language HIDDEN)";
    const SHOWN: usize = 5;
    const ARGUMENTS: usize = 2;
    const NEEDED: usize = 1;
    const USE: &'static str = "cellar_tokens needs a text: cellar_tokens('Two umbrellas', 'en')";

    fn is_sorted(_: usize, _: bool, _: Given) -> bool {
        false
    }

    fn rows(&self, _: &Connection, arguments: &[Value]) -> rusqlite::Result<Vec<Vec<Value>>> {
        let Some(Value::Text(text)) = arguments.first() else { return Ok(Vec::new()) };
        let code = match arguments.get(1) {
            None | Some(Value::Null) => "none",
            Some(Value::Text(code)) => code,
            Some(_) => {
                let message = "cellar_tokens: the language is no code such as 'en'.";
                return Err(told(Error::new(ErrorKind::BadRequest, message)));
            }
        };
        let language = Language::new(code).map_err(told)?;
        let (recipe, mut rows) = (Recipe::new(&language), Vec::new());
        let number = |number: usize| Value::Integer(i64::try_from(number).unwrap_or(i64::MAX));
        recipe.tokens(text, |token| {
            rows.push(vec![
                Value::Text(token.term.to_owned()),
                number(token.start),
                number(token.end),
                Value::Integer(token.position.into()),
                recipe.key_of(token.term).map_or(Value::Null, Value::Text),
            ]);
        });
        Ok(rows)
    }

    fn state(&self, _: &Connection, _: &[Value]) -> Option<i64> {
        Some(0)
    }
}
