//! Where the rows of a cellar inside a database come from: a table, and others that are joined to it.
//!
//! What always holds, once a source was [checked](Source::check): every join is to the table or to a join before it.

use crate::error::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize};

/// The most tables that may be joined.
pub const MOST_JOINS: usize = 16;

/// Where the rows come from, for a cellar inside a database.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Source {
    /// The table that holds one row for each record, and its key.
    pub table: String,
    /// A view that the records are read from, by the key, in the place of the table. The joins name the other tables that it reads, so
    /// that their changes are followed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub view: Option<String>,
    /// The same as a query.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub query: Option<String>,
    /// Tables whose columns belong to a record, too: as `table.column` in what a column is [from](super::Column::from_columns).
    #[serde(default, rename = "join", skip_serializing_if = "Vec::is_empty")]
    pub joins: Vec<Join>,
    /// What rows have to be to be searched, all of it. A row that no longer is so is no longer found.
    #[serde(default, rename = "only", skip_serializing_if = "Vec::is_empty")]
    pub conditions: Vec<Condition>,
}

/// Something that rows have to be, such as not deleted. Just one of the three is given.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Condition {
    /// A column of the records' own table.
    pub column: String,
    /// Whether it has no value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub absent: Option<bool>,
    /// What it may be, as text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub is: Option<Vec<String>>,
    /// What it may not be, as text; it may have no value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub isnt: Option<Vec<String>>,
}

impl Condition {
    /// The column has no value.
    pub fn absent(column: impl Into<String>) -> Self {
        Self { column: column.into(), absent: Some(true), ..Self::default() }
    }

    /// The column is one of these, as text.
    pub fn is<S: Into<String>>(column: impl Into<String>, values: impl IntoIterator<Item = S>) -> Self {
        let values = values.into_iter().map(Into::into).collect();
        Self { column: column.into(), is: Some(values), ..Self::default() }
    }

    /// The column is none of these, as text.
    pub fn isnt<S: Into<String>>(column: impl Into<String>, values: impl IntoIterator<Item = S>) -> Self {
        let values = values.into_iter().map(Into::into).collect();
        Self { column: column.into(), isnt: Some(values), ..Self::default() }
    }

    fn check(&self) -> Result<()> {
        let given = [self.absent.is_some(), self.is.is_some(), self.isnt.is_some()];
        let values = self.is.iter().chain(&self.isnt).flatten();
        if given.into_iter().filter(|given| *given).count() == 1
            && !self.column.is_empty()
            && !values.clone().any(|value| value.contains('\0'))
            && (self.absent.is_some() || values.count() > 0)
        {
            return Ok(());
        }
        Err(Error::new(
            ErrorKind::BadSchema,
            format!(
                "What rows have to be needs a column and one of `absent = true`, `is = [\"waiting\"]` and \
                 `isnt = [\"auctioned\"]`; that of `{}` is not so.",
                self.column
            ),
        ))
    }
}

/// A table that is joined to the records' own, or to one that is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Join {
    /// The table.
    pub table: String,
    /// Which rows belong together: `stations.id = items.station_id`.
    pub on: String,
    /// Whether several of its rows may belong to one: their values are several values of the record.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub many: bool,
}

impl Join {
    /// A join to the one row that belongs to a record.
    pub fn one(table: impl Into<String>, on: impl Into<String>) -> Self {
        Self { table: table.into(), on: on.into(), many: false }
    }

    /// A join to as many rows as belong to a record.
    pub fn many(table: impl Into<String>, on: impl Into<String>) -> Self {
        Self { many: true, ..Self::one(table, on) }
    }
}

/// How a join's rows are found.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Link<'s> {
    /// The column of the joined table.
    pub column: &'s str,
    /// Which join its rows belong to, by its place; none for the records' own table.
    pub parent: Option<usize>,
    /// The column there that has the same value.
    pub parent_column: &'s str,
}

impl Source {
    /// A table without joins.
    pub fn new(table: impl Into<String>) -> Self {
        Self { table: table.into(), ..Self::default() }
    }

    /// Whether records are read from a view or by a query, whose columns they have then.
    pub fn is_derived(&self) -> bool {
        self.view.is_some() || self.query.is_some()
    }

    /// How each join's rows are found.
    ///
    /// # Errors
    /// [`ErrorKind::BadSchema`] if a join is not like `stations.id = items.station_id`, or names what is not there.
    pub fn links(&self) -> Result<Vec<Link<'_>>> {
        (0..self.joins.len()).map(|place| self.link(place)).collect()
    }

    fn link(&self, place: usize) -> Result<Link<'_>> {
        let join = &self.joins[place];
        let wrong = || {
            let message = format!(
                "The join of `{}` is on `{}`; it has to be like `stations.id = items.station_id`, with a column of the joined \
                 table and one of the table itself or of a join before.",
                join.table, join.on
            );
            Error::new(ErrorKind::BadSchema, message)
        };
        let side = |side: &'_ str| {
            let (table, column) = side.trim().rsplit_once('.')?;
            (!column.is_empty()).then_some((table.len(), column.len()))
        };
        let (left, right) = join.on.split_once('=').ok_or_else(wrong)?;
        let mut sides = [left, right].into_iter().map(|whole| {
            let (table, column) = side(whole)?;
            let whole = whole.trim();
            Some((&whole[..table], &whole[whole.len() - column..]))
        });
        let (Some(Some(one)), Some(Some(other))) = (sides.next(), sides.next()) else { return Err(wrong()) };
        let (mine, parent) = if one.0 == join.table { (one, other) } else { (other, one) };
        if mine.0 != join.table || parent.0 == join.table {
            return Err(wrong());
        }
        let before = self.joins[..place].iter().position(|known| known.table == parent.0);
        if before.is_none() && parent.0 != self.table {
            return Err(wrong());
        }
        Ok(Link { column: mine.1, parent: before, parent_column: parent.1 })
    }

    /// The join and the column of it that a column's source names; no join for a column of the records' own table.
    pub fn place_of<'n>(&self, source: &'n str) -> (Option<usize>, &'n str) {
        if self.is_derived() {
            return (None, source);
        }
        let joined = self.joins.iter().position(|join| {
            source
                .strip_prefix(join.table.as_str())
                .is_some_and(|rest| rest.len() > 1 && rest.starts_with('.'))
        });
        if let Some(join) = joined {
            return (Some(join), &source[self.joins[join].table.len() + 1..]);
        }
        let own = source.strip_prefix(self.table.as_str()).and_then(|rest| rest.strip_prefix('.'));
        (None, own.filter(|_| !self.joins.is_empty()).unwrap_or(source))
    }

    /// Tells whether the joins can be used.
    ///
    /// # Errors
    /// [`ErrorKind::BadSchema`] if not.
    pub(super) fn check(&self) -> Result<()> {
        let bad = |message: String| Err(Error::new(ErrorKind::BadSchema, message));
        if self.joins.len() > MOST_JOINS {
            return bad(format!(
                "The schema joins {} tables and at most {MOST_JOINS} are allowed.",
                self.joins.len()
            ));
        }
        for (place, join) in self.joins.iter().enumerate() {
            let before = self.joins[..place].iter().any(|known| known.table == join.table);
            if before || join.table == self.table || join.table.is_empty() {
                return bad(format!("The table `{}` is joined twice, or to itself.", join.table));
            }
        }
        let derived = [&self.view, &self.query].into_iter().flatten();
        if derived.clone().count() > 1
            || derived.clone().any(|from| from.trim().is_empty() || from.contains('\0'))
        {
            return bad("Records are read from a `view` or by a `query`, not both; it can't be empty.".into());
        }
        self.conditions.iter().try_for_each(Condition::check)?;
        self.links().map(|_| ())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_condition_says_one_thing() {
        let good = [
            Condition::absent("gone"),
            Condition { absent: Some(false), ..Condition::absent("gone") },
            Condition::is("status", ["waiting"]),
            Condition::isnt("status", ["lost"]),
        ];
        for condition in good {
            condition.check().unwrap();
        }
        let bad = [
            Condition { column: "status".into(), ..Condition::default() },
            Condition { isnt: Some(vec!["lost".into()]), ..Condition::absent("status") },
            Condition::is("status", Vec::<String>::new()),
            Condition::is("status", ["a\0b"]),
            Condition::absent(""),
        ];
        for condition in bad {
            assert!(condition.check().is_err(), "{condition:?}");
        }
    }

    #[test]
    fn records_come_from_a_view_or_a_query_with_their_columns() {
        let view = Source { view: Some("cards".into()), ..Source::new("items") };
        view.check().unwrap();
        assert_eq!(view.place_of("items.title"), (None, "items.title"));
        for bad in [
            Source { query: Some("SELECT 1".into()), ..view.clone() },
            Source { view: Some(" ".into()), ..view.clone() },
            Source { view: Some("car\0ds".into()), ..view },
        ] {
            assert!(bad.check().is_err(), "{bad:?}");
        }
    }

    #[test]
    fn joins_are_read_and_what_can_t_be_joined_is_refused() {
        let source = |joins: &[Join]| Source { joins: joins.to_vec(), ..Source::new("items") };
        let good = source(&[
            Join::one("stations", "stations.id = items.station_id"),
            Join::many("claims", "items.id=claims.item_id"),
            Join::one("persons", "persons.id = claims.person_id"),
        ]);
        good.check().unwrap();
        let links: Vec<_> =
            good.links().unwrap().iter().map(|link| (link.column, link.parent, link.parent_column)).collect();
        assert_eq!(
            links,
            [("id", None, "station_id"), ("item_id", None, "id"), ("id", Some(1), "person_id")]
        );
        assert_eq!(good.place_of("persons.name"), (Some(2), "name"));
        assert_eq!(good.place_of("items.title"), (None, "title"));
        assert_eq!(good.place_of("title"), (None, "title"));
        for bad in [
            Join::one("stations", "stations.id"),
            Join::one("stations", "id = items.station_id"),
            Join::one("stations", "stations.id = lines.station"),
            Join::one("stations", "stations.id = stations.line"),
            Join::one("stations", "stations. = items.station"),
            Join::one("items", "items.id = items.station_id"),
        ] {
            assert!(source(std::slice::from_ref(&bad)).check().is_err(), "{bad:?}");
        }
        let twice = Join::one("stations", "stations.id = items.station_id");
        assert!(source(&[twice.clone(), twice]).check().is_err());
    }
}
