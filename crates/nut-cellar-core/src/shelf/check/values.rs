//! Checking what is compared: against its own index, the exact values, and the values that are kept.

use super::Check;
use crate::error::Result;
use crate::record::Value;
use crate::schema::{Column, Kind, Schema};
use crate::shelf::format::directory::Section;
use crate::shelf::format::exact;
use crate::shelf::format::values::ValueColumn;
use crate::shelf::read::reader::Shelf;
use crate::shelf::read::reading::{ShelfReading, Walk};
use indexmap::IndexMap;
use std::sync::Arc;

impl Check<'_> {
    /// The columns are those of the schema; each block has the least and the greatest value that the index says; each exact
    /// value is one of its column and some record has it.
    pub(super) fn values(&mut self, schema: &Schema) -> Result<()> {
        let kinds: Vec<_> = schema.value_columns().map(|(_, column)| column.kind()).collect();
        if kinds.len() != self.shelf.value_columns() {
            return self.wrong(Section::ValueIndex, "the number of columns");
        }
        // For each exact value its column, and whether a record has it.
        let (walk, mut exact) = (Walk::exact(self.view, self.shelf)?, Vec::new());
        self.sorted(Section::Exact, walk, Vec::as_slice, |check, value| {
            let column = exact::column_and_text(&value).map(|(column, _)| column);
            let column = column.filter(|column| kinds.get(*column) == Some(&Kind::Exact));
            let Some(column) = column else { return check.wrong(Section::Exact, "a value") };
            exact.push((column, false));
            check.exact.push(value);
            Ok(())
        })?;
        let mut end = 0;
        for (place, kind) in kinds.iter().enumerate() {
            let mut column = ValueColumn::new(self.shelf, place);
            let of_column = exact.iter_mut().map(|(known, used)| (*known == place, used));
            let of_column = of_column.filter(|_| *kind == Kind::Exact).collect();
            end = self.column(&mut column, of_column, end)?;
        }
        let whole = self.shelf.section(Section::Values);
        if end != whole.end - whole.start {
            return self.wrong(Section::Values, "the end of the last block");
        }
        if exact.iter().all(|(_, used)| *used) {
            Ok(())
        } else {
            self.wrong(Section::Exact, "a value that no record has")
        }
    }

    /// Checks the blocks of a column, the first of which begins at `end`; gives where the last ends. `exact` has for each exact
    /// value whether it is one of the column's, and notes which are used; nothing for a column of another kind.
    fn column(
        &mut self,
        column: &mut ValueColumn,
        mut exact: Vec<(bool, &mut bool)>,
        end: u64,
    ) -> Result<u64> {
        let (records, mut end) = (self.shelf.records(), end);
        for first in (0..records).step_by(self.shelf.block()) {
            let block =
                first..records.min(first.saturating_add(u32::try_from(self.shelf.block()).unwrap_or(1)));
            self.reading.read(|_, held| column.of(held, first).map(|_| ()))?;
            let all = || block.clone().flat_map(|ordinal| column.here(ordinal));
            let is_exact = !exact.is_empty();
            for &value in all().filter(|_| is_exact) {
                match usize::try_from(value).ok().and_then(|value| exact.get_mut(value)) {
                    Some((true, used)) => **used = true,
                    _ => return self.wrong(Section::Values, "an exact value"),
                }
            }
            let span = all().min().copied().zip(all().max().copied());
            if column.span() != span.unwrap_or((1, 0)) {
                return self.wrong(Section::ValueIndex, "the least or the greatest value of a block");
            }
            if column.range().start != end {
                return self.wrong(Section::ValueIndex, "where a block is");
            }
            end = column.range().end;
        }
        Ok(end)
    }
}

/// The columns that are compared and kept.
pub(super) struct Compared<'s> {
    /// Each with its place among those that are compared.
    columns: Vec<(usize, &'s str, ValueColumn)>,
}

impl<'s> Compared<'s> {
    pub fn new(shelf: &Arc<Shelf>, schema: &'s Schema) -> Self {
        let named: Vec<_> = schema.columns().collect();
        let columns = schema.value_columns().enumerate();
        let kept = columns.filter(|(_, (_, column))| Column::kept(column));
        let columns =
            kept.map(|(place, (column, _))| (place, named[column].0, ValueColumn::new(shelf, place)));
        Self { columns: columns.collect() }
    }

    /// Whether the values of a record are those that are kept.
    pub fn are(
        &mut self,
        kept: &IndexMap<String, Vec<Value>>,
        exact: &[Vec<u8>],
        ordinal: u32,
        reading: &mut ShelfReading<'_>,
    ) -> Result<bool> {
        for (place, name, column) in &mut self.columns {
            reading.read(|_, held| column.of(held, ordinal).map(|_| ()))?;
            let numbers = kept.get(*name).into_iter().flatten().map(|value| match value {
                Value::Text(text) => {
                    exact.binary_search(&exact::entry(*place, text)).ok().map(|at| at as u64)
                }
                value => value.number(),
            });
            let mut numbers: Vec<_> = numbers.collect();
            numbers.sort_unstable();
            numbers.dedup();
            if !numbers.into_iter().eq(column.here(ordinal).iter().copied().map(Some)) {
                return Ok(false);
            }
        }
        Ok(true)
    }
}
