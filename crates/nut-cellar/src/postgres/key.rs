//! The columns that name rows, and keys on their way to the database and back.

use super::failure::failed;
use super::names::literal;
use super::types::ColumnType;
use crate::rows::{key_of_parts, key_parts, parts_of_key};
use nut_cellar_core::{Key, Result};
use postgres::Row;
use postgres::types::{ToSql, Type};

use super::session::Parameter;

/// What kinds of values name rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum KeyKind {
    Integer,
    Text,
    Uuid,
    Bytes,
}

/// A column of the key.
#[derive(Clone, Debug)]
pub(super) struct KeyPart {
    pub kind: KeyKind,
    /// The type of the column.
    pub declared: ColumnType,
    /// Its name, quoted.
    pub column: String,
}

/// The columns of the key.
#[derive(Clone, Debug)]
pub(super) struct KeyColumns(pub Vec<KeyPart>);

impl KeyPart {
    /// See [`KeyColumns::logged`].
    pub fn logged(&self, of: &str) -> String {
        let column = format!("{of}.{}", self.column);
        format!("CASE WHEN {} THEN {column}::{} END", self.declared.still(&column), self.declared.name)
    }

    /// The same, to be compared with another, equal only if its bytes are.
    pub fn exactly(&self, of: &str) -> String {
        let exactly = if self.kind == KeyKind::Text { " COLLATE \"C\"" } else { "" };
        self.logged(of) + exactly
    }
}

impl KeyColumns {
    /// How many there are.
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// What they are called in a table of ours.
    pub fn names(&self) -> Vec<String> {
        key_parts(self.len()).collect()
    }

    /// The columns of a table that has this name, one behind the other.
    pub fn columns(&self, of: &str) -> String {
        self.listed(|part, _| format!("{of}.{}", part.column))
    }

    /// The same, under the names that tables of ours give them.
    pub fn renamed(&self, of: &str) -> String {
        self.listed(|part, name| format!("{of}.{} AS {name}", part.column))
    }

    /// How the key of the application's table is selected, under a letter and the parts' places.
    pub fn selected_as(&self, of: &str, letter: char) -> String {
        let all = self.0.iter().enumerate().map(|(place, part)| {
            format!("{} AS {letter}{place}", part.kind.selected(&format!("{of}.{}", part.column)))
        });
        all.collect::<Vec<_>>().join(", ")
    }

    /// The key of a table as it is logged; NULL if its type is no longer the one that it had, for then whatever a type's owner made of
    /// it would become a key.
    pub fn logged(&self, of: &str) -> String {
        self.listed(|part, _| part.logged(of))
    }

    /// How a key is selected of a table of ours.
    pub fn selected_of_ours(&self, of: &str) -> String {
        self.listed(|part, name| part.kind.selected(&format!("{of}.{name}")))
    }

    /// Whether the key in the application's table is that in a table of ours. Operators of that name in other schemas are not meant.
    pub fn is(&self, of: &str, ours: &str) -> String {
        let same = self
            .parts()
            .map(|(part, name)| format!("{of}.{} OPERATOR(pg_catalog.=) {ours}.{name}", part.column));
        same.collect::<Vec<_>>().join(" AND ")
    }

    /// The parts of a key of ours as they are compared with the application's table, and what they are declared as, under the same names.
    pub fn compared(&self, ours: &str) -> [String; 2] {
        [
            self.listed(|part, name| format!("{ours}.{name}::{}", part.kind.compared())),
            self.listed(|part, name| format!("{name} {}", part.kind.compared())),
        ]
    }

    /// As what the columns of a key are declared, if they are called by a letter and their place from `first` on.
    pub fn declared(&self, letter: char, first: usize) -> String {
        let declared = self
            .0
            .iter()
            .zip(first..)
            .map(|(part, place)| format!("{letter}{place} {}", part.kind.type_name()));
        declared.collect::<Vec<_>>().join(", ")
    }

    /// Arrays of parts, one for each, as parameters from this number on, put together as rows.
    pub fn unnested(&self, first: usize) -> String {
        let arrays = self.0.iter().zip(first..).map(|(part, place)| {
            let (_, array) = part.kind.array();
            format!("pg_catalog.unnest(${place}::{array})")
        });
        arrays.collect::<Vec<_>>().join(", ")
    }

    /// The condition that the key in the application's table is this one or comes behind it.
    pub fn is_not_before(&self, of: &str, key: &Key) -> String {
        let Some(parts) = parts_of_key(key, self.len()) else { return "true".to_owned() };
        let literals: Vec<_> =
            self.0.iter().zip(parts).map(|(column, part)| column.kind.literal(part)).collect();
        format!("({}) OPERATOR(pg_catalog.>=) ({})", self.columns(of), literals.join(", "))
    }

    /// Reads the key that begins at a column; none if it is NULL.
    pub fn read(&self, row: &Row, at: usize) -> Result<Option<Key>> {
        let mut parts = Vec::with_capacity(self.len());
        for (part, place) in self.0.iter().zip(at..) {
            let Some(part) = part.kind.read(row, place)? else { return Ok(None) };
            parts.push(part);
        }
        Ok(key_of_parts(parts))
    }

    fn parts(&self) -> impl Iterator<Item = (&KeyPart, String)> {
        self.0.iter().zip(key_parts(self.len()))
    }

    fn listed(&self, one: impl Fn(&KeyPart, &str) -> String) -> String {
        self.parts().map(|(part, name)| one(part, &name)).collect::<Vec<_>>().join(", ")
    }
}

impl KeyKind {
    /// How a part is selected.
    fn selected(self, column: &str) -> String {
        match self {
            Self::Integer => format!("{column}::bigint"),
            Self::Text | Self::Uuid => format!("{column}::pg_catalog.text"),
            Self::Bytes => column.to_owned(),
        }
    }

    /// The type as which it is compared with the column.
    fn compared(self) -> &'static str {
        match self {
            Self::Uuid => "pg_catalog.uuid",
            other => other.type_name(),
        }
    }

    /// The type as which it is selected.
    fn type_name(self) -> &'static str {
        match self {
            Self::Integer => "bigint",
            Self::Text | Self::Uuid => "pg_catalog.text",
            Self::Bytes => "pg_catalog.bytea",
        }
    }

    /// How an array of parts is handed over, and what becomes of it.
    fn array(self) -> (Type, &'static str) {
        match self {
            Self::Integer => (Type::INT8_ARRAY, "bigint[]"),
            Self::Text => (Type::TEXT_ARRAY, "pg_catalog.text[]"),
            Self::Uuid => (Type::TEXT_ARRAY, "pg_catalog.uuid[]"),
            Self::Bytes => (Type::BYTEA_ARRAY, "pg_catalog.bytea[]"),
        }
    }

    /// A part as SQL, where no parameter can stand.
    fn literal(self, part: &Key) -> String {
        let text = literal(&part.to_string());
        match self {
            Self::Integer => format!("{text}::bigint"),
            Self::Text => format!("{text}::pg_catalog.text"),
            Self::Uuid => format!("{text}::pg_catalog.uuid"),
            Self::Bytes => format!("pg_catalog.decode({text}, 'hex')"),
        }
    }

    fn read(self, row: &Row, at: usize) -> Result<Option<Key>> {
        let read = match self {
            Self::Integer => row.try_get(at).map(|key: Option<i64>| key.map(Key::Integer)),
            Self::Text | Self::Uuid => row.try_get(at).map(|key: Option<String>| key.map(Key::Text)),
            Self::Bytes => row.try_get(at).map(|key: Option<Vec<u8>>| key.map(Key::Bytes)),
        };
        read.map_err(failed("Reading a key"))
    }

    /// Whether the column may have such a value.
    fn takes(self, part: &Key) -> bool {
        match part {
            Key::Integer(_) => self == Self::Integer,
            Key::Text(_) => matches!(self, Self::Text | Self::Uuid),
            Key::Bytes(_) => self == Self::Bytes,
            Key::Several(_) => false,
        }
    }
}

/// Keys as parameters: an array for each part, of the types that [`KeyColumns::unnested`] takes. Those of other kinds are left
/// out: they are no keys of the table.
pub(super) struct Keys<'k>(Vec<(Parts<'k>, Type)>);

enum Parts<'k> {
    Integers(Vec<i64>),
    Texts(Vec<&'k str>),
    Bytes(Vec<&'k [u8]>),
}

impl<'k> Keys<'k> {
    pub fn of(columns: &KeyColumns, keys: impl IntoIterator<Item = &'k Key>) -> Self {
        let mut all: Vec<_> = columns
            .0
            .iter()
            .map(|part| {
                let parts = match part.kind {
                    KeyKind::Integer => Parts::Integers(Vec::new()),
                    KeyKind::Text | KeyKind::Uuid => Parts::Texts(Vec::new()),
                    KeyKind::Bytes => Parts::Bytes(Vec::new()),
                };
                (parts, part.kind.array().0)
            })
            .collect();
        for key in keys {
            let Some(parts) = parts_of_key(key, columns.len()) else { continue };
            if !columns.0.iter().zip(parts).all(|(column, part)| column.kind.takes(part)) {
                continue;
            }
            for ((column, _), part) in all.iter_mut().zip(parts) {
                match (column, part) {
                    (Parts::Integers(all), Key::Integer(number)) => all.push(*number),
                    (Parts::Texts(all), Key::Text(text)) => all.push(text),
                    (Parts::Bytes(all), Key::Bytes(bytes)) => all.push(bytes),
                    _ => {}
                }
            }
        }
        Self(all)
    }

    /// One for each part.
    pub fn parameters(&self) -> impl Iterator<Item = Parameter<'_>> {
        self.0.iter().map(|(parts, kind)| {
            let parts: &(dyn ToSql + Sync) = match parts {
                Parts::Integers(parts) => parts,
                Parts::Texts(parts) => parts,
                Parts::Bytes(parts) => parts,
            };
            (parts, kind.clone())
        })
    }
}
