//! Functions that give a table: what SQLite asks of them is answered here once, for all of them.
//!
//! Arguments are hidden columns behind those that are shown. A plan is a number: a bit for each argument that a statement gives,
//! and one that says whether it asks for rows with a certain key only, as the inner table of a join does for each row of the
//! outer one. For these the rows of the last call are remembered for as long as the statement runs.
//!
//! What always holds: remembered rows are those that asking again would give. Within one statement nobody else's changes are seen;
//! its own connection's are told by its count of changes, and rolled-back ones, which that count keeps, by the last
//! number in the change log.

use rusqlite::Connection;
use rusqlite::types::Value;
use rusqlite::vtab::{IndexConstraintOp, IndexInfo};
use std::collections::HashMap;
use std::ffi::{CStr, c_int};
use std::sync::Arc;

/// A function that gives a table.
pub(super) trait TableFunction: Send + Sync + 'static {
    /// What it is called.
    const NAME: &'static CStr;
    /// Its columns: the key first, those of the arguments last, and hidden.
    const TABLE: &'static CStr;
    /// How many columns are shown.
    const SHOWN: usize;
    /// How many arguments it takes.
    const ARGUMENTS: usize;
    /// How many of them it can't do without.
    const NEEDED: usize;
    /// What to say where one of these is missing.
    const USE: &'static str;

    /// Whether the rows are sorted by a column, up or down, for a call with some of the arguments.
    fn is_sorted(column: usize, down: bool, given: Given) -> bool;

    /// The rows; an argument that is not given is NULL.
    fn rows(&self, connection: &Connection, arguments: &[Value]) -> rusqlite::Result<Vec<Vec<Value>>>;

    /// A number that differs where what the connection's transaction has changed and not rolled back may change the rows; none
    /// if there is no such number.
    fn state(&self, connection: &Connection, arguments: &[Value]) -> Option<i64>;
}

/// Which arguments a statement gives, as bits, and above them whether it asks for a key.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Given(pub c_int);

impl Given {
    pub fn has(self, argument: usize) -> bool {
        self.0 >> argument & 1 == 1
    }

    fn with(self, argument: usize) -> Self {
        Self(self.0 | 1 << argument)
    }
}

/// How SQLite may ask for the rows of a function. False where an argument depends on what is not known yet, so
/// that another order of the tables has to be tried.
pub(super) fn plan<F: TableFunction>(info: &mut IndexInfo) -> bool {
    const EQUAL: IndexConstraintOp = IndexConstraintOp::SQLITE_INDEX_CONSTRAINT_EQ;
    let mut places = vec![None; F::ARGUMENTS];
    let mut key = None;
    for (place, constraint) in info.constraints().enumerate() {
        let column = usize::try_from(constraint.column()).unwrap_or(usize::MAX);
        let equal = constraint.operator() == EQUAL;
        if let Some(argument) = column.checked_sub(F::SHOWN).and_then(|place| places.get_mut(place)) {
            if !constraint.is_usable() {
                return false;
            }
            if equal {
                *argument = Some(place);
            }
        } else if column == 0 && equal && constraint.is_usable() {
            key = Some(place);
        }
    }
    // Keys that a collation takes for equal are not looked up.
    key = key.filter(|place| info.collation(*place).is_ok_and(|name| name == "BINARY"));
    let mut given = Given(0);
    let mut next = 0;
    for (argument, place) in places.iter().enumerate() {
        if let Some(place) = place {
            next += 1;
            given = given.with(argument);
            let mut usage = info.constraint_usage(*place);
            usage.set_argv_index(next);
            usage.set_omit(true);
        }
    }
    if let Some(place) = key {
        given = given.with(F::ARGUMENTS);
        // SQLite compares once more, by its own rules.
        info.constraint_usage(place).set_argv_index(next + 1);
    }
    let sorted = {
        let mut order = info.order_bys();
        let first = order.next().map(|order| (usize::try_from(order.column()), order.is_order_by_desc()));
        let sorted = matches!(first, Some((Ok(column), down)) if F::is_sorted(column, down, given));
        sorted && order.next().is_none()
    };
    info.set_order_by_consumed(sorted && key.is_none());
    info.set_idx_num(given.0);
    let (cost, rows) = if key.is_some() { (10.0, 1) } else { (1_000.0, 10) };
    info.set_estimated_cost(cost);
    info.set_estimated_rows(rows);
    true
}

/// The rows of a call, and by which keys they are found.
#[derive(Default)]
struct Rows {
    all: Vec<Vec<Value>>,
    by_key: HashMap<Lookup, Vec<usize>>,
}

/// Keys that may be equal have the same.
#[derive(Debug, PartialEq, Eq, Hash)]
enum Lookup {
    Null,
    Number(i64),
    Text(String),
    Bytes(Vec<u8>),
}

impl Lookup {
    fn of(key: &Value) -> Self {
        match key {
            Value::Null => Self::Null,
            Value::Integer(number) => Self::Number(*number),
            // The key of no record; what it is rounded to is compared again.
            #[expect(clippy::cast_possible_truncation, reason = "the cast saturates")]
            Value::Real(number) => Self::Number(*number as i64),
            Value::Text(text) => match text.trim().parse() {
                Ok(number) => Self::of(&Value::Real(number)),
                Err(_) => Self::Text(text.clone()),
            },
            Value::Blob(bytes) => Self::Bytes(bytes.clone()),
        }
    }
}

impl Rows {
    /// The places of the rows that may have a key.
    fn with_key(&mut self, key: &Value) -> Vec<usize> {
        if self.by_key.is_empty() {
            for (place, row) in self.all.iter().enumerate() {
                let key = row.first().unwrap_or(&Value::Null);
                self.by_key.entry(Lookup::of(key)).or_default().push(place);
            }
        }
        self.by_key.get(&Lookup::of(key)).cloned().unwrap_or_default()
    }
}

/// Answers the calls of one statement, and remembers the last answer.
pub(super) struct Caller<F> {
    function: Arc<F>,
    arguments: Vec<Value>,
    /// What told the state of the connection when the rows were made; none if they can't be used again.
    state: Option<(i64, u64)>,
    rows: Rows,
}

impl<F: TableFunction> Caller<F> {
    pub fn new(function: &Arc<F>) -> Self {
        Self { function: Arc::clone(function), arguments: Vec::new(), state: None, rows: Rows::default() }
    }

    /// Gets the rows of a call with these values; gives the places of those that are asked for.
    pub fn call(
        &mut self,
        connection: &Connection,
        given: Given,
        values: impl IntoIterator<Item = Value>,
    ) -> rusqlite::Result<Vec<usize>> {
        let mut values = values.into_iter();
        let mut arguments = vec![Value::Null; F::ARGUMENTS];
        for (argument, value) in arguments.iter_mut().enumerate() {
            if given.has(argument) {
                *value = values.next().unwrap_or(Value::Null);
            } else if argument < F::NEEDED {
                return Err(rusqlite::Error::ModuleError(format!("{}.", F::USE)));
            }
        }
        let state =
            self.function.state(connection, &arguments).map(|state| (state, connection.total_changes()));
        if state.is_none() || (state, &arguments) != (self.state, &self.arguments) {
            self.rows = Rows { all: self.function.rows(connection, &arguments)?, by_key: HashMap::new() };
            (self.state, self.arguments) = (state, arguments);
        }
        Ok(match values.next() {
            Some(key) if given.has(F::ARGUMENTS) => self.rows.with_key(&key),
            _ => (0..self.rows.all.len()).collect(),
        })
    }

    /// A value of a row.
    pub fn value(&self, row: usize, column: usize) -> Option<&Value> {
        if column < F::SHOWN {
            self.rows.all.get(row)?.get(column)
        } else {
            self.arguments.get(column - F::SHOWN)
        }
    }
}
