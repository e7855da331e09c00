//! The values of one column of the records that are being gathered.

use crate::error::Result;
use crate::record::Value;
use crate::schema::Kind;
use crate::shelf::build::arrivals::Home;
use crate::shelf::build::output::Output;
use crate::shelf::build::threads::in_threads;
use crate::shelf::build::vocabulary::{Vocabulary, unify};
use crate::shelf::format::directory::Section;
use crate::shelf::format::exact;
use crate::shelf::format::sorted::SortedWriter;
use crate::shelf::format::values::{ValueIndex, ValueWriter};

/// Values by arrival, as numbers that sort; those of kind "exact" as the numbers of their texts until they are written.
#[derive(Debug)]
pub(in crate::shelf) struct Gathered {
    exact: Option<Vocabulary>,
    numbers: Vec<u64>,
    ends: Vec<usize>,
}

impl Gathered {
    /// No values of a column of this kind.
    pub fn new(kind: Kind) -> Self {
        let exact = (kind == Kind::Exact).then(Vocabulary::default);
        Self { exact, numbers: Vec::new(), ends: Vec::new() }
    }

    /// Takes the values of the next arrival.
    pub fn push(&mut self, values: &[Value]) {
        match &mut self.exact {
            Some(texts) => {
                let texts =
                    values.iter().filter_map(Value::as_text).map(|text| u64::from(texts.number(text)));
                self.numbers.extend(texts);
            }
            None => self.numbers.extend(values.iter().filter_map(Value::number)),
        }
        self.ends.push(self.numbers.len());
    }

    /// Forgets all but the first records.
    pub fn truncate(&mut self, records: usize) {
        self.ends.truncate(records);
        self.numbers.truncate(self.ends.last().copied().unwrap_or(0));
    }

    /// The memory it takes, in bytes; an estimate.
    pub fn memory(&self) -> usize {
        let texts = self.exact.as_ref().map_or(0, Vocabulary::memory);
        texts + self.numbers.len() * size_of::<u64>() + self.ends.len() * size_of::<usize>()
    }

    /// The values of a record.
    fn of(&self, record: u32) -> &[u64] {
        let record = record as usize;
        let start = record.checked_sub(1).map_or(0, |before| self.ends[before]);
        &self.numbers[start..self.ends[record]]
    }
}

/// What the parts have of one column.
struct Column {
    parts: Vec<Gathered>,
    /// For a column of kind "exact", for each part, for each of its texts, the ordinal.
    ordinals: Option<Vec<Vec<u64>>>,
}

impl Column {
    /// Appends the exact values that records have to `entries`, and numbers them from `next` on.
    fn number(
        &mut self,
        (place, next): (usize, &mut u64),
        homes: &[Home],
        entries: &mut SortedWriter,
        out: &mut Output<'_>,
    ) -> Result<()> {
        let sort = |gathered: &mut Gathered| gathered.exact.as_mut().map(|texts| vec![0; texts.sort().len()]);
        let counts: Option<Vec<Vec<u32>>> = in_threads(self.parts.iter_mut(), sort).into_iter().collect();
        let Some(mut counts) = counts else { return Ok(()) };
        for home in homes {
            let part = home.part as usize;
            for &number in self.parts[part].of(home.record) {
                counts[part][index(number)] = 1;
            }
        }
        let texts: Vec<_> = self.parts.iter().filter_map(|gathered| gathered.exact.as_ref()).collect();
        let counted = texts.iter().copied().zip(counts.iter().map(Vec::as_slice));
        let unified = unify(&counted.collect::<Vec<_>>());
        for &(part, number) in &unified.order {
            entries.push_bare(&exact::entry(place, texts[part as usize].term(number)));
            entries.stream(out)?;
        }
        let first = *next;
        *next += unified.len() as u64;
        let ordinals = |ranks: &Vec<u32>| ranks.iter().map(|&rank| first + u64::from(rank)).collect();
        self.ordinals = Some(unified.ranks.iter().map(ordinals).collect());
        Ok(())
    }

    /// The values of a record, ascending, each once.
    fn values(&self, home: Home, values: &mut Vec<u64>) {
        let part = home.part as usize;
        let numbers = self.parts[part].of(home.record);
        values.clear();
        match &self.ordinals {
            Some(ordinals) => values.extend(numbers.iter().map(|&number| ordinals[part][index(number)])),
            None => values.extend(numbers),
        }
        values.sort_unstable();
        values.dedup();
    }
}

/// A number of a text as a place.
fn index(number: u64) -> usize {
    usize::try_from(number).expect("numbers of texts have 32 bits")
}

/// Writes the exact values and the values of all columns, of each of which every part has some, of the records that are at home there. Gives
/// the number of columns.
pub(in crate::shelf) fn write(
    columns: Vec<Vec<Gathered>>,
    homes: &[Home],
    per_block: usize,
    out: &mut Output<'_>,
) -> Result<u16> {
    let mut columns: Vec<_> = columns.into_iter().map(|parts| Column { parts, ordinals: None }).collect();
    let (mut entries, mut next) = (exact::writer(), 0);
    for (place, column) in columns.iter_mut().enumerate() {
        column.number((place, &mut next), homes, &mut entries, out)?;
    }
    entries.finish(out, Section::Exact, Section::ExactIndex)?;
    let (mut index, mut values) = (ValueIndex::default(), Vec::new());
    for column in &columns {
        let mut writer = ValueWriter::new(per_block);
        for home in homes {
            column.values(*home, &mut values);
            writer.push(out, &mut index, &values)?;
        }
        writer.finish(out, &mut index)?;
    }
    index.finish(out)?;
    Ok(u16::try_from(columns.len()).expect("the schema has been checked"))
}
