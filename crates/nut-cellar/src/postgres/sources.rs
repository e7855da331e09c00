//! The tables that a cellar's records come from: the one with a row for each, and those that are joined to it.
//!
//! What always holds: the SQL made here compares the columns of a join in one way, so the rows that belong to a record are the same
//! when it is read and when a change of one of them is followed back to it.

use super::derived::Derived;
use super::names::{Names, literal, quoted};
use super::session::Statements;
use super::table::Table;
use super::types::ColumnType;
use nut_cellar_core::schema::{Condition, Link};
use nut_cellar_core::{Error, ErrorKind, Result, Schema};

/// The tables, checked to have what the schema names.
#[derive(Debug)]
pub(super) struct Sources<'s> {
    pub schema: &'s Schema,
    pub table: Table,
    /// What records are read from where that is not the table.
    pub derived: Option<Derived>,
    pub joins: Vec<Joined<'s>>,
    /// How often the cellar was given another schema. What one schema logs by a join's number, no other mistakes for its own.
    pub revision: i32,
}

/// How many numbers each revision has for its joins.
const NUMBERS: i32 = 100;

/// A joined table.
#[derive(Debug)]
pub(super) struct Joined<'s> {
    pub table: Table,
    pub link: Link<'s>,
}

impl<'s> Sources<'s> {
    /// Looks at the tables that are joined to a table.
    ///
    /// # Errors
    /// [`ErrorKind::BadSchema`] if a table or a column is not there, or where one row is to be joined several may be.
    pub fn new(client: &mut dyn Statements, names: &Names, table: Table, schema: &'s Schema) -> Result<Self> {
        let mut joins = Vec::new();
        if let Some(source) = schema.source() {
            for (join, link) in source.joins.iter().zip(source.links()?) {
                let joined = Table::read(client, &join.table)?;
                must_be_own(joined.type_of(link.column)?, &join.table, link.column)?;
                if !join.many && !joined.are_unique(&[link.column.to_owned()]) {
                    return Err(Error::new(
                        ErrorKind::BadSchema,
                        format!(
                            "Several rows of `{}` may have the same `{}`; write `many = true` at its join, or give the column a \
                             UNIQUE index.",
                            join.table, link.column
                        ),
                    ));
                }
                joins.push(Joined { table: joined, link });
            }
        }
        let derived = match schema.source() {
            Some(source) => Derived::read(client, source, names)?,
            None => None,
        };
        let sources = Self { schema, table, derived, joins, revision: 0 };
        // What a record has of other tables is searched whoever may see it there.
        let more = sources.derived.as_ref().map(|_| &sources.table);
        if let Some(table) =
            sources.joins.iter().map(|joined| &joined.table).chain(more).find(|table| table.secured)
        {
            let message = format!(
                "Table `{}` has row-level security, and records would be found by words of rows of it that a role may not see; join \
                 a table without it, or search it by itself.",
                table.name[1]
            );
            return Err(Error::new(ErrorKind::BadSchema, message));
        }
        for Joined { link, .. } in &sources.joins {
            let parent = sources.of(link.parent);
            must_be_own(parent.type_of(link.parent_column)?, &parent.name[1], link.parent_column)?;
        }
        for (name, column) in schema.columns() {
            for source in column.sources(name) {
                let (join, column) = sources.place_of(source);
                sources.has(join, column)?;
            }
        }
        sources.condition()?;
        for key in schema.key_columns() {
            let kept = &sources.table.type_of(key)?.name;
            let read = sources.derived.as_ref().map(|derived| derived.type_of(key)).transpose()?.flatten();
            if let Some(read) = read.map(|read| &read.name).filter(|read| *read != kept) {
                let message = format!(
                    "The key `{key}` is of type {read} where records are read from, and of type {kept} in its table."
                );
                return Err(Error::new(ErrorKind::BadSchema, message));
            }
        }
        Ok(sources)
    }

    /// Refuses a column that is not there: of a joined table, or of what records are read from.
    fn has(&self, join: Option<usize>, column: &str) -> Result<()> {
        match (&self.derived, join) {
            (Some(derived), None) => derived.type_of(column).map(|_| ()),
            _ => self.of(join).type_of(column).map(|_| ()),
        }
    }

    /// What records are selected from.
    pub fn from(&self) -> String {
        self.derived.as_ref().map_or_else(|| self.table.quoted(), |derived| derived.sql.clone())
    }

    fn only(&self) -> impl Iterator<Item = &Condition> {
        self.schema.source().into_iter().flat_map(|source| &source.conditions)
    }

    /// What rows have to be, of the records' table as `t`.
    pub fn condition(&self) -> Result<String> {
        let mut all = vec!["true".to_owned()];
        for Condition { column, absent, is, isnt } in self.only() {
            let value = format!("t.{}", quoted(column));
            let text = match &self.derived {
                None => self.table.type_of(column)?.text(&value),
                Some(derived) => derived.text(column)?,
            };
            let text = format!("{text} COLLATE \"C\"");
            let none = if *absent == Some(false) { "IS NOT NULL" } else { "IS NULL" };
            let literals = |values: &[String]| {
                let all: Vec<_> = values.iter().map(|value| literal(value)).collect();
                format!("(ARRAY[{}]::pg_catalog.text[])", all.join(", "))
            };
            all.push(match (is, isnt) {
                (Some(values), _) => format!("{text} OPERATOR(pg_catalog.=) ANY {}", literals(values)),
                (_, Some(values)) => {
                    format!("({value} IS NULL OR {text} OPERATOR(pg_catalog.<>) ALL {})", literals(values))
                }
                _ => format!("{value} {none}"),
            });
        }
        Ok(all.join(" AND "))
    }

    /// Refuses to run what is in a view or a query with rights that its owner does not have.
    pub fn must_be_trusted(&self, client: &mut dyn Statements) -> Result<()> {
        self.derived.as_ref().map_or(Ok(()), |derived| derived.must_be_trusted(client))
    }

    /// The number by which rows of a join are logged.
    pub fn number(&self, join: usize) -> i32 {
        let join = i32::try_from(join).unwrap_or(i32::MAX - 1);
        self.revision.saturating_mul(NUMBERS).saturating_add(join + 1)
    }

    /// The records' own table, and that of each join.
    pub fn places(&self) -> impl Iterator<Item = Option<usize>> {
        [None].into_iter().chain((0..self.joins.len()).map(Some))
    }

    /// The table of a join, or of the records themselves.
    pub fn of(&self, join: Option<usize>) -> &Table {
        join.map_or(&self.table, |join| &self.joins[join].table)
    }

    /// The join and the column that a source names.
    pub fn place_of<'n>(&self, source: &'n str) -> (Option<usize>, &'n str) {
        self.schema.source().map_or((None, source), |known| known.place_of(source))
    }

    /// The columns of a table on which records depend beside their key: what is searched, and what joins go by.
    pub fn watched(&self, of: Option<usize>) -> Vec<&str> {
        if self.derived.is_some() {
            // Which of them it reads is not known.
            return self.of(of).columns().collect();
        }
        let sources = self.schema.columns().flat_map(|(name, column)| column.sources(name));
        let mut watched: Vec<_> = sources
            .map(|source| self.place_of(source))
            .filter(|(join, _)| *join == of)
            .map(|(_, column)| column)
            .collect();
        watched.extend(of.map(|join| self.joins[join].link.column));
        let children = self.joins.iter().filter(|join| join.link.parent == of);
        watched.extend(children.map(|join| join.link.parent_column));
        watched.extend(self.only().filter(|_| of.is_none()).map(|condition| condition.column.as_str()));
        watched.sort_unstable();
        watched.dedup();
        watched
    }

    /// What is selected of a joined table for a column of it, of the records' table as `t`: a JSON array of the values, in the order
    /// of their bytes, so that it does not depend on how the table is stored.
    pub fn array(&self, join: usize, column: &str) -> Result<String> {
        let value = format!("t{join}.{}", quoted(column));
        Ok(format!(
            "(SELECT {} FROM {} WHERE {} AND {value} IS NOT NULL)::pg_catalog.text",
            self.of(Some(join)).type_of(column)?.all(&value),
            self.tables(join),
            self.conditions(join)
        ))
    }

    /// What gives the keys of the records to which logged rows of a join belong.
    pub fn expansion(&self, join: usize, log: &str) -> Result<String> {
        let Joined { table, link } = &self.joins[join];
        let (parent, mut tables, mut conditions) = ("t".to_owned(), String::new(), String::new());
        let parent = match link.parent {
            None => parent,
            Some(parent) => {
                tables = format!(", {}", self.tables(parent));
                conditions = format!("{} AND ", self.conditions(parent));
                format!("t{parent}")
            }
        };
        Ok(format!(
            "SELECT k.* FROM (SELECT DISTINCT joined FROM {log} WHERE source = {number}) g
             CROSS JOIN LATERAL (SELECT {key} FROM {base} t{tables}
               WHERE {gate} AND {conditions}{parent}.{parent_column} OPERATOR(pg_catalog.=) g.joined::{kind} OFFSET 0) k",
            gate = self.gate(),
            number = self.number(join),
            key = self.table.key(self.schema)?.renamed("t"),
            base = self.table.quoted(),
            parent_column = quoted(link.parent_column),
            kind = table.type_of(link.column)?.under,
        ))
    }

    /// A join and those between it and the records' table.
    fn path(&self, join: usize) -> impl Iterator<Item = usize> {
        std::iter::successors(Some(join), |join| self.joins[*join].link.parent)
    }

    fn tables(&self, join: usize) -> String {
        let tables = self.path(join).map(|join| format!("{} t{join}", self.joins[join].table.quoted()));
        tables.collect::<Vec<_>>().join(", ")
    }

    fn conditions(&self, join: usize) -> String {
        let conditions = self.path(join).map(|join| {
            let link = &self.joins[join].link;
            let parent = link.parent.map_or("t".to_owned(), |parent| format!("t{parent}"));
            format!(
                "{parent}.{} OPERATOR(pg_catalog.=) t{join}.{}",
                quoted(link.parent_column),
                quoted(link.column)
            )
        });
        conditions.collect::<Vec<_>>().join(" AND ")
    }
}

/// Refuses a column that rows would be joined by with somebody else's comparison.
fn must_be_own(kind: &ColumnType, table: &str, column: &str) -> Result<()> {
    if kind.is_own() {
        return Ok(());
    }
    let message = format!(
        "Column `{column}` of table `{table}` is of type {}, whose comparison is its owner's to make; rows are joined by PostgreSQL's own types.",
        kind.name
    );
    Err(Error::new(ErrorKind::BadSchema, message))
}
