//! In what one schema differs from another, and whether records have to be read again for it.

use super::{Schema, Source};
use std::fmt;

/// A difference between the schema of a cellar and the one it is to have.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum Change {
    /// Another weight of a column.
    Weight {
        /// The column.
        column: String,
        /// Its weight so far.
        from: f32,
        /// What it becomes.
        to: f32,
    },
    /// A column that was not there.
    Added(String),
    /// A column that is there no more.
    Dropped(String),
    /// A column of another kind, read otherwise, or from elsewhere.
    Altered(String),
    /// The columns in another order.
    Order,
    /// Another way to pack the values that are shown.
    Packing,
    /// Another table, or other tables joined to it.
    Source,
    /// Other rows of them.
    Condition,
    /// Another column for the keys.
    Key,
    /// Another ranking.
    Ranking,
}

impl Change {
    /// Whether records have to be read again. Weights and ranking are looked up when a search is ranked; everything else is in the
    /// shelves, whose postings hold all columns together.
    pub fn needs_rebuild(&self) -> bool {
        !matches!(self, Self::Weight { .. } | Self::Ranking)
    }
}

impl fmt::Display for Change {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Weight { column, from, to } => write!(f, "column `{column}` weighs {to} instead of {from}"),
            Self::Added(column) => write!(f, "column `{column}` is new"),
            Self::Dropped(column) => write!(f, "column `{column}` is gone"),
            Self::Altered(column) => write!(f, "column `{column}` is read otherwise"),
            Self::Order => f.write_str("the columns are in another order"),
            Self::Packing => f.write_str("values are packed otherwise"),
            Self::Source => f.write_str("rows come from other tables"),
            Self::Condition => f.write_str("other rows are searched"),
            Self::Ranking => f.write_str("searches are ranked otherwise"),
            Self::Key => f.write_str("another column is the key"),
        }
    }
}

impl Schema {
    /// In what `next` differs from this schema; nothing if they are the same.
    ///
    /// ```
    /// use nut_cellar_core::{Column, Schema};
    ///
    /// let schema = Schema::new("id").with("title", Column::text("en"));
    /// let next = Schema::new("id").with("title", Column::text("en").weighing(4.0)).with("notes", Column::text("en"));
    /// let changes: Vec<_> = schema.changes_to(&next).iter().map(|change| change.to_string()).collect();
    /// assert_eq!(changes, ["column `title` weighs 4 instead of 1", "column `notes` is new"]);
    /// ```
    pub fn changes_to(&self, next: &Self) -> Vec<Change> {
        let mut changes = Vec::new();
        let known = |name: &str, schema: &Self| schema.columns.contains_key(name);
        changes.extend((self.key != next.key).then_some(Change::Key));
        let conditions =
            |schema: &Self| schema.source.as_ref().map_or(Vec::new(), |source| source.conditions.clone());
        let tables =
            |schema: &Self| schema.source.clone().map(|source| Source { conditions: Vec::new(), ..source });
        changes.extend((tables(self) != tables(next)).then_some(Change::Source));
        changes.extend((conditions(self) != conditions(next)).then_some(Change::Condition));
        changes.extend((self.packing != next.packing).then_some(Change::Packing));
        changes.extend((self.ranking != next.ranking).then_some(Change::Ranking));
        for (name, column) in self.columns() {
            let Some(other) = next.columns.get(name) else {
                changes.push(Change::Dropped(name.to_owned()));
                continue;
            };
            if !column.is_read_as(other) {
                changes.push(Change::Altered(name.to_owned()));
            }
            let (from, to) = (column.weight(), other.weight());
            if from.to_bits() != to.to_bits() {
                changes.push(Change::Weight { column: name.to_owned(), from, to });
            }
        }
        let added = next.columns().filter(|(name, _)| !known(name, self));
        changes.extend(added.map(|(name, _)| Change::Added(name.to_owned())));
        let both = |of: &Self, other: &Self| -> Vec<String> {
            of.columns().map(|(name, _)| name.to_owned()).filter(|name| known(name, other)).collect()
        };
        if both(self, next) != both(next, self) {
            changes.push(Change::Order);
        }
        changes
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::schema::{Column, Condition, Join, Kind, Packing, Ranking};

    fn schema() -> Schema {
        Schema::new("id").with("title", Column::text("en")).with("day", Column::of(Kind::Date))
    }

    #[test]
    fn each_difference_is_told_and_whether_records_are_read_again() {
        let cases = [
            (schema(), vec![]),
            (
                schema().with("title", Column::text("en").weighing(2.0)),
                vec![Change::Weight { column: "title".into(), from: 1.0, to: 2.0 }],
            ),
            (schema().with("title", Column::text("fr")), vec![Change::Altered("title".into())]),
            (schema().with("title", Column::text("en").with_gap(16)), vec![]),
            (schema().with("title", Column::text("en").with_gap(0)), vec![Change::Altered("title".into())]),
            (schema().with("day", Column::of(Kind::Exact)), vec![Change::Altered("day".into())]),
            (schema().with("notes", Column::text("en")), vec![Change::Added("notes".into())]),
            (Schema::new("id").with("title", Column::text("en")), vec![Change::Dropped("day".into())]),
            (
                Schema::new("id").with("day", Column::of(Kind::Date)).with("title", Column::text("en")),
                vec![Change::Order],
            ),
            (schema().ranked(Ranking { k1: Some(0.9), ..Ranking::default() }), vec![Change::Ranking]),
            (schema().packed(Packing::Small), vec![Change::Packing]),
            (schema().from_table("items"), vec![Change::Source]),
            (
                schema().from_table("items").joining(Join::one("stations", "stations.id = items.station_id")),
                vec![Change::Source],
            ),
            (
                schema().from_table("items").only(Condition::absent("gone")),
                vec![Change::Source, Change::Condition],
            ),
        ];
        for (next, expected) in cases {
            assert_eq!(schema().changes_to(&next), expected);
            let only_weights =
                expected.iter().all(|change| matches!(change, Change::Weight { .. } | Change::Ranking));
            assert_eq!(expected.iter().any(Change::needs_rebuild), !only_weights);
        }
    }
}
