//! The types of columns, and how their values are read without a line of anybody else's code.
//!
//! What always holds: a cast, an operator and a conversion to JSON may each be a function of whoever owns a type, and would run with the
//! rights of whoever searches, writes or catches up. So these are asked of PostgreSQL's own types only, and where a column may have got
//! another type since, behind a [gate](Sources::gate). Of all other types a value is what its output function says, as for a plain
//! SELECT: only a superuser makes such functions.

use super::names::quoted;
use super::sources::Sources;
use postgres::Row;
use postgres::types::Type;

/// The least number that something has which is not PostgreSQL's own (`FirstNormalObjectId` in its `access/transam.h`).
const FIRST_FOREIGN: u32 = 16_384;

/// The type of a column.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct ColumnType {
    pub oid: u32,
    /// Its name, without its length, as the search path of the session needs it.
    pub name: String,
    /// The name of what it is under its domains.
    pub under: String,
    /// Whether that is PostgreSQL's own.
    own: bool,
    /// Whether that is a type of arrays.
    array: bool,
}

/// How a value comes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum ValueForm {
    /// As it is.
    Text,
    /// As the digits of a whole number.
    Integer,
    /// As JSON, which no setting of the session changes.
    Json,
}

impl ColumnType {
    /// What is selected of a type's number for [`read`](Self::read).
    pub fn selected(oid: &str) -> String {
        format!(
            "{oid}, pg_catalog.format_type({oid}, NULL),
             (WITH RECURSIVE under(oid) AS (SELECT {oid} UNION ALL
                SELECT d.typbasetype FROM under u JOIN pg_catalog.pg_type d ON d.oid OPERATOR(pg_catalog.=) u.oid AND d.typtype OPERATOR(pg_catalog.=) 'd')
              SELECT ARRAY[u.oid::pg_catalog.text, pg_catalog.format_type(u.oid, NULL), d.typcategory::pg_catalog.text]
              FROM under u JOIN pg_catalog.pg_type d ON d.oid OPERATOR(pg_catalog.=) u.oid AND d.typtype OPERATOR(pg_catalog.<>) 'd')"
        )
    }

    /// Reads what was selected, from a column on.
    pub fn read(row: &Row, at: usize) -> Self {
        let [base, under, category]: [String; 3] =
            row.get::<_, Vec<String>>(at + 2).try_into().unwrap_or_default();
        let own = base.parse().is_ok_and(|base: u32| base < FIRST_FOREIGN);
        Self { oid: row.get(at), name: row.get(at + 1), under, own, array: category == "A" }
    }

    /// Whether it is PostgreSQL's own, or a domain over such a type: a domain's casts are never used.
    pub fn is_own(&self) -> bool {
        self.own
    }

    /// The condition that an expression is of this type still.
    pub fn still(&self, of: &str) -> String {
        format!("pg_catalog.pg_typeof({of})::pg_catalog.oid OPERATOR(pg_catalog.=) {}", self.oid)
    }

    /// A value as text; NULL as NULL.
    pub fn text(&self, value: &str) -> String {
        if self.is_own() { format!("({value})::pg_catalog.text") } else { output(value) }
    }

    /// The SQL that gives a value for [`Rows`](super::reading::Rows).
    pub fn value(&self, value: &str) -> (String, ValueForm) {
        match Type::from_oid(self.oid) {
            Some(Type::TEXT | Type::VARCHAR | Type::BPCHAR | Type::NAME) => {
                (self.text(value), ValueForm::Text)
            }
            Some(Type::INT2 | Type::INT4 | Type::INT8) => (self.text(value), ValueForm::Integer),
            _ if self.is_own() || self.array => (self.json(value), ValueForm::Json),
            _ => (self.text(value), ValueForm::Text),
        }
    }

    /// The same, as JSON whatever the type is.
    pub fn json(&self, value: &str) -> String {
        let of = match Type::from_oid(self.oid) {
            // A time of no zone is taken for one of the zone in which it does not depend on the session.
            Some(Type::TIMESTAMP) => format!("{value} AT TIME ZONE 'UTC'"),
            _ if self.is_own() => value.to_owned(),
            _ if self.array => format!(
                "(SELECT pg_catalog.jsonb_agg({} ORDER BY place) FROM pg_catalog.unnest({value}) WITH ORDINALITY all_of(one, place))",
                output("one")
            ),
            _ => output(value),
        };
        format!("pg_catalog.to_jsonb({of})::pg_catalog.text")
    }

    /// The values of a column of several rows, as a JSON array in the order of their bytes.
    pub fn all(&self, value: &str) -> String {
        let one = if self.is_own() { value.to_owned() } else { output(value) };
        format!("pg_catalog.jsonb_agg({one} ORDER BY {} COLLATE \"C\")", self.text(value))
    }
}

/// What a value's output function says; NULL for NULL.
pub(super) fn output(value: &str) -> String {
    format!(
        "CASE WHEN pg_catalog.num_nulls({value}) OPERATOR(pg_catalog.=) 0 THEN pg_catalog.format('%s', {value}) END"
    )
}

/// Whether rows are the same, image by image: no comparison of any type is asked. What is `of` both is a list of columns, quoted.
pub(super) fn same_image([old, new]: [&str; 2], columns: &[String]) -> String {
    let row = |of: &str| {
        let all: Vec<_> = columns.iter().map(|column| format!("{of}.{column}")).collect();
        format!("ROW({})", all.join(", "))
    };
    // Two rows as they stand would be compared column by column.
    format!("{}::record OPERATOR(pg_catalog.*=) {}::record", row(old), row(new))
}

impl Sources<'_> {
    /// The condition that columns still have the types that they had, to stand in front of whatever looks at them. It depends on no row,
    /// so it is decided once, before any row is looked at (as a one-time filter of the plan); and in the same statement, whose locks keep
    /// the types as they are.
    pub fn gate(&self) -> String {
        let gates = self.places().map(|place| {
            let still: Vec<_> = self
                .typed(place)
                .map(|(column, kind)| kind.still(&format!("x.{}", quoted(column))))
                .collect();
            format!(
                "(SELECT {} FROM (SELECT) one LEFT JOIN {} x ON false)",
                if still.is_empty() { "true".to_owned() } else { still.join(" AND ") },
                self.of(place).quoted()
            )
        });
        gates.collect::<Vec<_>>().join(" AND ")
    }

    /// The types of all these columns, as one text.
    pub fn types(&self) -> String {
        let all = self.places().flat_map(|place| self.typed(place));
        all.map(|(_, kind)| kind.oid.to_string()).collect::<Vec<_>>().join(" ")
    }

    /// The columns of a table that records depend on, with their types.
    fn typed(&self, place: Option<usize>) -> impl Iterator<Item = (&str, &ColumnType)> {
        let table = self.of(place);
        let key = self.schema.key_columns().iter().map(String::as_str).filter(move |_| place.is_none());
        let columns = self.watched(place).into_iter().chain(key);
        columns.filter_map(|column| Some((column, table.type_of(column).ok()?)))
    }
}
