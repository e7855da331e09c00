//! The values of one column of the records that are being gathered.

use super::directory::Section;
use super::exact;
use super::output::Output;
use super::values::{ValueIndex, ValueWriter, number};
use super::vocabulary::Vocabulary;
use crate::error::Result;
use crate::record::Value;
use crate::schema::Kind;

/// Values by arrival, as numbers that sort; those of kind "exact" as the numbers of their texts until they are written.
#[derive(Debug)]
pub(super) struct Gathered {
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
            None => self.numbers.extend(values.iter().filter_map(number)),
        }
        self.ends.push(self.numbers.len());
    }

    /// The memory it takes, in bytes; an estimate.
    pub fn memory(&self) -> usize {
        let texts = self.exact.as_ref().map_or(0, Vocabulary::memory);
        texts + self.numbers.len() * size_of::<u64>() + self.ends.len() * size_of::<usize>()
    }

    /// The values of an arrival.
    fn of(&self, arrival: u32) -> &[u64] {
        let arrival = arrival as usize;
        let start = arrival.checked_sub(1).map_or(0, |before| self.ends[before]);
        &self.numbers[start..self.ends[arrival]]
    }

    /// The numbers of the texts that one of these arrivals has, in the order of the texts.
    fn texts(&self, arrivals: &[u32]) -> Vec<u32> {
        let Some(texts) = &self.exact else { return Vec::new() };
        let mut used = vec![false; texts.len()];
        for &arrival in arrivals {
            for &number in self.of(arrival) {
                used[place(number)] = true;
            }
        }
        let mut sorted = texts.sorted();
        sorted.retain(|&number| used[number as usize]);
        sorted
    }
}

/// A number of a text as a place.
fn place(number: u64) -> usize {
    usize::try_from(number).expect("numbers of texts have 32 bits")
}

/// Writes the exact values and the values of all columns, of the records that these arrivals become.
pub(super) fn write(
    columns: Vec<Gathered>,
    arrivals: &[u32],
    per_block: usize,
    out: &mut Output<'_>,
) -> Result<()> {
    let mut entries = exact::writer();
    let (mut ordinals, mut next) = (Vec::new(), 0_u64);
    for (column, gathered) in columns.iter().enumerate() {
        let mut of_column = vec![0; gathered.exact.as_ref().map_or(0, Vocabulary::len)];
        for number in gathered.texts(arrivals) {
            if let Some(texts) = &gathered.exact {
                entries.push_bare(&exact::entry(column, texts.term(number)));
                entries.stream(out)?;
            }
            of_column[number as usize] = next;
            next += 1;
        }
        ordinals.push(of_column);
    }
    entries.finish(out, Section::Exact, Section::ExactIndex)?;
    let (mut index, mut values) = (ValueIndex::default(), Vec::new());
    for (gathered, ordinals) in columns.into_iter().zip(ordinals) {
        let mut writer = ValueWriter::new(per_block);
        for &arrival in arrivals {
            values.clear();
            match gathered.exact {
                Some(_) => values.extend(gathered.of(arrival).iter().map(|&number| ordinals[place(number)])),
                None => values.extend(gathered.of(arrival)),
            }
            values.sort_unstable();
            values.dedup();
            writer.push(out, &mut index, &values)?;
        }
        writer.finish(out, &mut index)?;
    }
    index.finish(out)
}
