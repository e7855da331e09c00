//! b, of all columns or of each: how far a long column counts against itself.

use crate::error::{Error, ErrorKind, Result};
use indexmap::IndexMap;
use serde::{Deserialize, Serialize};
use std::str::FromStr;

/// b of the columns that are named, and of all others. As a document it is a number, or an object in which `*` stands for all others;
/// as text `0.75` or `title=0.5,*=0.8`.
///
/// ```
/// use nut_cellar_core::rank::Lengths;
///
/// let lengths: Lengths = "title=0.5,*=0.8".parse().unwrap();
/// assert_eq!((lengths.of("title"), lengths.of("notes")), (Some(0.5), Some(0.8)));
/// assert_eq!("0.6".parse::<Lengths>().unwrap(), Lengths::same(0.6));
/// assert_eq!(Lengths::default().of("title"), None);
/// ```
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(from = "Said", into = "Said")]
pub struct Lengths {
    others: Option<f32>,
    columns: IndexMap<String, f32>,
}

/// What stands for the columns that are not named.
const OTHERS: &str = "*";

#[derive(Clone, Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(untagged, expecting = "a number, or an object with a number for each column, and for `*`")]
enum Said {
    Same(f32),
    ByColumn(IndexMap<String, f32>),
}

impl From<Said> for Lengths {
    fn from(said: Said) -> Self {
        match said {
            Said::Same(b) => Self::same(b),
            Said::ByColumn(mut columns) => Self { others: columns.shift_remove(OTHERS), columns },
        }
    }
}

impl From<Lengths> for Said {
    fn from(lengths: Lengths) -> Self {
        match lengths.others {
            Some(b) if lengths.columns.is_empty() => Self::Same(b),
            others => {
                let mut columns = lengths.columns;
                columns.extend(others.map(|b| (OTHERS.to_owned(), b)));
                Self::ByColumn(columns)
            }
        }
    }
}

impl Lengths {
    /// The same b for all columns.
    pub fn same(b: f32) -> Self {
        Self { others: Some(b), columns: IndexMap::new() }
    }

    /// Another b for one column.
    #[must_use]
    pub fn with(mut self, column: impl Into<String>, b: f32) -> Self {
        self.columns.insert(column.into(), b);
        self
    }

    /// Sets b of the columns that are not named.
    pub(crate) fn set_others(&mut self, b: f32) {
        self.others = Some(b);
    }

    /// b of a column, if anything is said of it.
    pub fn of(&self, column: &str) -> Option<f32> {
        self.columns.get(column).copied().or(self.others)
    }

    /// b of the columns that are not named, if anything is said of them.
    pub fn others(&self) -> Option<f32> {
        self.others
    }

    /// The columns that are named, with their b.
    pub fn columns(&self) -> impl ExactSizeIterator<Item = (&str, f32)> {
        self.columns.iter().map(|(name, b)| (name.as_str(), *b))
    }
}

impl FromStr for Lengths {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        if let Ok(b) = text.trim().parse() {
            return Ok(Self::same(b));
        }
        let mut columns = IndexMap::new();
        for part in text.split(',') {
            let read = part
                .split_once('=')
                .and_then(|(column, b)| Some((column.trim(), b.trim().parse::<f32>().ok()?)));
            let (column, b) = read.ok_or_else(|| {
                Error::new(
                    ErrorKind::BadRequest,
                    format!("`{part}` is no b; write `0.75`, or `title=0.5` for each column."),
                )
            })?;
            columns.insert(column.to_owned(), b);
        }
        Ok(Said::ByColumn(columns).into())
    }
}
