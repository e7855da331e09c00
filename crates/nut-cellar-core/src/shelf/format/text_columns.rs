//! The text columns of a shelf: which are beginnings of others, and which sets of them a shape tells by a number.
//!
//! The tokens of a *beginning* are those of another column, its *whole*, below some position. So a posting in it is one in the whole, no
//! more often than there, and its occurrences are the first of those of the whole: it has no positions of its own.

use crate::schema::{Column, ColumnSet, MAX_TEXT_COLUMNS, Schema};
use crate::wire::{Broken, Reader, put_varint};

/// A column with the first words of another one. Columns are told by their places among the text columns.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Beginning {
    pub column: u8,
    pub whole: u8,
    /// Its tokens are those of the whole below this position.
    pub words: u16,
}

/// The text columns of a shelf.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct TextColumns {
    count: usize,
    /// By their columns.
    beginnings: Vec<Beginning>,
    /// Those that are no beginnings.
    own: ColumnSet,
    /// The sets that a number tells, by it.
    sets: Vec<ColumnSet>,
}

/// Of more columns not each set has a number.
const COLUMNS_WITH_SETS: usize = 3;

impl TextColumns {
    /// Those of a schema. A column is a beginning where another one that is not is filled from the same and read alike.
    pub fn of(schema: &Schema) -> Self {
        let narrow = |place| u8::try_from(place).expect("a schema has at most 64 text columns");
        let beginning = |(place, (name, column)): (usize, (&str, &Column))| {
            let words = column.first_words()?.get();
            let whole = schema.text_columns().position(|(whole_name, whole)| {
                whole.first_words().is_none()
                    && whole.kind() == column.kind()
                    && whole.sources(whole_name).eq(column.sources(name))
                    && whole.gap() == column.gap()
                    && whole.text_settings() == column.text_settings()
            })?;
            Some(Beginning { column: narrow(place), whole: narrow(whole), words })
        };
        let count = schema.text_columns().count();
        Self::new(count, schema.text_columns().enumerate().filter_map(beginning).collect())
    }

    fn new(count: usize, beginnings: Vec<Beginning>) -> Self {
        let mut own: ColumnSet = (0..count).collect();
        for beginning in &beginnings {
            own.0 &= !(1 << beginning.column);
        }
        let mut columns = Self { count, beginnings, own, sets: Vec::new() };
        columns.sets = if columns.all_have_kinds() {
            let mut sets: Vec<_> =
                (1..1 << count).map(ColumnSet).filter(|set| columns.may_be(*set)).collect();
            sets.sort_by_key(|set| (set.both(own).0, set.0));
            sets
        } else {
            (0..count)
                .map(|column| [Some(column), columns.whole_of(column)].into_iter().flatten().collect())
                .collect()
        };
        columns
    }

    /// How many there are.
    pub fn count(&self) -> usize {
        self.count
    }

    /// Those that are beginnings of others.
    pub fn beginnings(&self) -> &[Beginning] {
        &self.beginnings
    }

    /// The beginnings of a column.
    pub fn beginnings_of(&self, whole: usize) -> impl Iterator<Item = &Beginning> {
        self.beginnings.iter().filter(move |beginning| usize::from(beginning.whole) == whole)
    }

    /// Those that have positions of their own: all others are beginnings.
    pub fn own(&self) -> ColumnSet {
        self.own
    }

    /// The column that a column is a beginning of.
    pub fn whole_of(&self, column: usize) -> Option<usize> {
        if self.own.has(column) {
            return None;
        }
        let beginning = self.beginnings.iter().find(|beginning| usize::from(beginning.column) == column)?;
        Some(beginning.whole.into())
    }

    /// The columns that have a token which a column has at a position.
    pub fn with_beginnings(&self, column: u8, position: u32) -> ColumnSet {
        let has = |beginning: &&Beginning| position < beginning.words.into();
        let also = self.beginnings_of(column.into()).filter(has).map(|beginning| beginning.column);
        also.chain([column]).map(usize::from).collect()
    }

    /// Whether a posting may be in these: in some column, and in no beginning without its whole.
    pub fn may_be(&self, set: ColumnSet) -> bool {
        let wholes = self.beginnings.iter().filter(|beginning| set.has(beginning.column.into()));
        let mut wholes = wholes.map(|beginning| usize::from(beginning.whole));
        set.0 > 0 && u128::from(set.0) >> self.count == 0 && wholes.all(|whole| set.has(whole))
    }

    /// How many numbers tell sets: one for each set that has one, and with more than three columns the last for all others.
    pub fn kinds(&self) -> usize {
        self.sets.len() + usize::from(!self.all_have_kinds())
    }

    /// Whether each set that may be has a number of its own.
    pub fn all_have_kinds(&self) -> bool {
        self.count <= COLUMNS_WITH_SETS
    }

    /// The set that has a number, if that has one.
    #[inline]
    pub fn set(&self, kind: u32) -> Option<ColumnSet> {
        self.sets.get(kind as usize).copied()
    }

    /// The number of a set.
    pub fn kind(&self, set: ColumnSet) -> usize {
        self.sets.iter().position(|known| *known == set).unwrap_or(self.sets.len())
    }

    /// Appends which are beginnings.
    pub fn put_beginnings(&self, out: &mut Vec<u8>) {
        put_varint(out, self.beginnings.len() as u64);
        for Beginning { column, whole, words } in &self.beginnings {
            out.extend_from_slice(&[*column, *whole]);
            out.extend_from_slice(&words.to_le_bytes());
        }
    }

    /// So many columns, and, if some are, which are beginnings.
    pub fn get(count: usize, beginnings: Option<&mut Reader<'_>>) -> Result<Self, Broken> {
        const WRONG: Broken = Broken("the columns of first words");
        let mut all = Vec::new();
        if let Some(reader) = beginnings {
            for _ in
                0..reader.size().ok().filter(|count| (1..=MAX_TEXT_COLUMNS).contains(count)).ok_or(WRONG)?
            {
                let (column, whole) = (reader.u8()?, reader.u8()?);
                all.push(Beginning { column, whole, words: u16::from_le_bytes(reader.array()?) });
            }
        }
        let is_beginning = |place: u8| all.iter().any(|beginning| beginning.column == place);
        let is_right = |beginning: &Beginning| {
            let Beginning { column, whole, words } = *beginning;
            usize::from(column.max(whole)) < count && !is_beginning(whole) && words > 0
        };
        if !all.iter().all(is_right) || !all.is_sorted_by(|a, b| a.column < b.column) {
            return Err(WRONG);
        }
        Ok(Self::new(count, all))
    }
}
