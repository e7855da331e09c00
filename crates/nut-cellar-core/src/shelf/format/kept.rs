//! Kept values: what is shown of a record, in compressed blocks (LZ4, or Zstandard where the schema says so) of about
//! 16 KiB.
//!
//! A record is the number of its columns that have values, then for each its place in the schema, how many values,
//! and the values. A block is a run of records, each preceded by its length.

use crate::error::{Error, ErrorKind, Result};
use crate::record::Value;
use crate::schema::{Packing, Schema};
use crate::shelf::build::output::Output;
use crate::shelf::build::threads::in_order;
use crate::shelf::format::directory::Section;
use crate::shelf::read::held::{Held, Step};
use crate::shelf::read::reader::Shelf;
use crate::wire::{Broken, Reader, bytes_size, put_bytes, put_varint};
use bytes::Bytes;
use indexmap::IndexMap;
use std::ops::Range;
use std::sync::Arc;

/// A block is ended when it has this many bytes before compression.
const BLOCK_BYTES: usize = 16 * 1024;
/// So many blocks are packed by one thread in one go.
const AT_ONCE: usize = 32;
/// The most bytes that the kept values of one record may take.
pub(in crate::shelf) const MAX_RECORD_BYTES: usize = 1 << 30;
/// No input of LZ4 shrinks to less than one byte in this many.
const MAX_RATIO: usize = 256;
/// In the index, with the size of a block: it is packed by Zstandard.
const SMALL: u32 = 1 << 31;

/// Appends the kept values of a record: (place in the schema, values).
pub(in crate::shelf) fn pack(out: &mut Vec<u8>, columns: &[(usize, &[Value])]) -> Result<()> {
    let start = out.len();
    put_varint(out, columns.len() as u64);
    for (column, values) in columns {
        put_varint(out, *column as u64);
        put_varint(out, values.len() as u64);
        values.iter().for_each(|value| value.pack(out));
    }
    if out.len() - start <= MAX_RECORD_BYTES {
        return Ok(());
    }
    out.truncate(start);
    Err(Error::new(
        ErrorKind::BadRecord,
        format!(
            "The values of a record take over {MAX_RECORD_BYTES} bytes; set `kept = false` for its largest column."
        ),
    ))
}

/// Reads what [`pack`] wrote: by column name, in schema order.
pub(crate) fn unpack(schema: &Schema, bytes: &[u8]) -> Result<IndexMap<String, Vec<Value>>, Broken> {
    let mut reader = Reader::new(bytes);
    let mut out = IndexMap::new();
    let columns: Vec<_> = schema.columns().collect();
    for _ in 0..reader.varint()? {
        let (name, column) = *columns.get(reader.size()?).ok_or(Broken("the column of a value"))?;
        let count = reader.size()?;
        let mut values = Vec::with_capacity(count.min(reader.left()));
        for _ in 0..count {
            values.push(Value::unpack(column.kind(), &mut reader)?);
        }
        out.insert(name.to_owned(), values);
    }
    Ok(out)
}

/// How blocks are written.
#[derive(Clone, Copy)]
struct How {
    packing: Packing,
    /// Whether they are not to be made smaller.
    stored: bool,
}

impl How {
    fn pack(self, block: &[u8]) -> Result<Vec<u8>> {
        if self.stored { Ok(stored(block)) } else { self.packing.pack(block) }
    }
}

/// Writes the kept values and their index.
pub(in crate::shelf) struct KeptWriter {
    how: How,
    /// The block that goes on, and the number of its records.
    block: Vec<u8>,
    records: u32,
    index: Vec<u8>,
    /// The first record of the block that is written next.
    first: u32,
    written: u64,
}

impl KeptWriter {
    pub fn new(packing: Packing) -> Self {
        let how = How { packing, stored: false };
        Self { how, block: Vec::new(), records: 0, index: Vec::new(), first: 0, written: 0 }
    }

    /// A writer that makes no block smaller.
    pub fn stored() -> Self {
        Self { how: How { packing: Packing::Quick, stored: true }, ..Self::new(Packing::Quick) }
    }

    /// Appends the packed values of the next record.
    pub fn push(&mut self, out: &mut Output<'_>, record: &[u8]) -> Result<()> {
        put_bytes(&mut self.block, record);
        self.records += 1;
        if self.block.len() >= BLOCK_BYTES { self.end_block(out) } else { Ok(()) }
    }

    /// Whether a packed block may follow, so that none becomes much smaller than the others for it.
    pub fn may_copy(&self) -> bool {
        self.block.is_empty() || self.block.len() >= BLOCK_BYTES / 2
    }

    /// Appends a block as it is.
    pub fn copy(&mut self, out: &mut Output<'_>, block: &KeptBlock) -> Result<()> {
        self.end_block(out)?;
        self.write(out, (&block.packed, block.packing), block.unpacked, block.records)
    }

    /// Ends the section and appends its index.
    pub fn finish(mut self, out: &mut Output<'_>) -> Result<()> {
        self.end_block(out)?;
        out.end(Section::Kept);
        out.append(&self.index)?;
        for lines in self.index.chunks(LINE * LINES) {
            out.append(&lines[..FIRST])?;
        }
        out.end(Section::KeptIndex);
        Ok(())
    }

    /// Appends all records, of which `record` gives the values: what [`push`](Self::push) makes of one after the other. So
    /// many threads pack.
    pub fn push_all<'r>(
        &mut self,
        out: &mut Output<'_>,
        threads: usize,
        count: usize,
        record: impl Fn(usize) -> &'r [u8] + Sync,
    ) -> Result<()> {
        // Where blocks begin, every so many of them.
        let (mut shares, mut blocks, mut bytes) = (vec![0], 0, 0);
        for place in 0..count {
            bytes += bytes_size(record(place).len());
            if bytes >= BLOCK_BYTES {
                (blocks, bytes) = (blocks + 1, 0);
                if blocks % AT_ONCE == 0 {
                    shares.push(place + 1);
                }
            }
        }
        shares.push(count);
        let how = self.how;
        let work = |share: usize| -> Result<Vec<_>> {
            let (mut block, mut records, mut packed) = (Vec::new(), 0, Vec::new());
            for place in shares[share]..shares[share + 1] {
                put_bytes(&mut block, record(place));
                records += 1;
                if block.len() >= BLOCK_BYTES || place + 1 == shares[share + 1] {
                    packed.push((how.pack(&block)?, block.len(), std::mem::take(&mut records)));
                    block.clear();
                }
            }
            Ok(packed)
        };
        in_order(threads, shares.len() - 1, work, |blocks| {
            for (packed, unpacked, records) in blocks? {
                self.write(out, (&packed, how.packing), unpacked, records)?;
            }
            Ok(())
        })
    }

    fn end_block(&mut self, out: &mut Output<'_>) -> Result<()> {
        if self.records == 0 {
            return Ok(());
        }
        let packed = self.how.pack(&self.block)?;
        let records = std::mem::take(&mut self.records);
        self.write(out, (&packed, self.how.packing), self.block.len(), records)?;
        self.block.clear();
        Ok(())
    }

    fn write(
        &mut self,
        out: &mut Output<'_>,
        (packed, packing): (&[u8], Packing),
        unpacked: usize,
        records: u32,
    ) -> Result<()> {
        out.append(packed)?;
        self.written += packed.len() as u64;
        let unpacked = u32::try_from(unpacked).expect("a record has at most 1 GiB of values");
        self.index.extend_from_slice(&self.first.to_le_bytes());
        self.index.extend_from_slice(&self.written.to_le_bytes());
        let small = if packing == Packing::Small { SMALL } else { 0 };
        self.index.extend_from_slice(&(unpacked | small).to_le_bytes());
        self.first += records;
        Ok(())
    }
}

/// A block as LZ4 has it that is one run of bytes as they are: a byte whose upper half is the length, or 15 and bytes behind
/// it that add up to the rest of it, of which the last is below 255.
fn stored(bytes: &[u8]) -> Vec<u8> {
    const MORE: usize = 15;
    let mut packed = Vec::with_capacity(bytes.len() + bytes.len() / MAX_RATIO + 2);
    packed.push(u8::try_from(bytes.len().min(MORE) << 4).expect("at most 240"));
    if let Some(rest) = bytes.len().checked_sub(MORE) {
        packed.resize(1 + rest / 255, u8::MAX);
        packed.push(u8::try_from(rest % 255).expect("below 255"));
    }
    packed.extend_from_slice(bytes);
    packed
}

/// A run of records, packed.
#[derive(Clone, Debug)]
pub(crate) struct KeptBlock {
    /// Its first record.
    pub first: u32,
    /// How many it has.
    pub records: u32,
    packed: Bytes,
    packing: Packing,
    unpacked: usize,
}

impl KeptBlock {
    /// The packed values of its records, each preceded by its length.
    pub fn unpack(&self) -> Result<Vec<u8>, Broken> {
        self.packing.unpack(&self.packed, self.unpacked)
    }
}

impl Packing {
    fn pack(self, bytes: &[u8]) -> Result<Vec<u8>> {
        match self {
            Self::Quick => Ok(lz4_flex::block::compress(bytes)),
            #[cfg(feature = "zstd")]
            Self::Small => zstd::bulk::compress(bytes, LEVEL)
                .map_err(|error| Error::new(ErrorKind::Place, format!("Values can't be packed: {error}."))),
            #[cfg(not(feature = "zstd"))]
            Self::Small => Err(Error::new(ErrorKind::BadSchema, crate::schema::NO_ZSTD)),
        }
    }

    fn unpack(self, packed: &[u8], size: usize) -> Result<Vec<u8>, Broken> {
        const WRONG: Broken = Broken("a compressed block");
        let unpacked = match self {
            Self::Quick if size / MAX_RATIO > packed.len() => return Err(Broken("the size of a block")),
            Self::Quick => lz4_flex::block::decompress(packed, size).map_err(|_| WRONG)?,
            #[cfg(feature = "zstd")]
            Self::Small => {
                use std::io::Read;
                let frame = zstd::stream::read::Decoder::with_buffer(packed).map_err(|_| WRONG)?;
                // What a block says of its size is not believed: no more is taken than comes out of it.
                let mut bytes = Vec::new();
                frame.take(size as u64 + 1).read_to_end(&mut bytes).map_err(|_| WRONG)?;
                bytes
            }
            #[cfg(not(feature = "zstd"))]
            Self::Small => return Err(Broken("a block that needs the feature `zstd`")),
        };
        if unpacked.len() == size { Ok(unpacked) } else { Err(WRONG) }
    }
}

/// How hard Zstandard tries; measured, more takes much longer and gains little in 16 KiB.
#[cfg(feature = "zstd")]
const LEVEL: i32 = 9;

/// Where the index has what: for each block a line, with its first record, its end and its size unpacked; and for every so
/// many lines the first record again, so that a record is found with a few bytes of a long index.
struct Index {
    /// How many blocks there are.
    blocks: usize,
}

const LINE: usize = 4 + 8 + 4;
/// Lines between two that are named again.
const LINES: usize = 64;
const FIRST: usize = 4;

impl Index {
    /// The index that takes so many bytes.
    fn of(length: u64) -> Result<Self, Broken> {
        const WHOLE: usize = LINES * LINE + FIRST;
        let length = usize::try_from(length).map_err(|_| Broken("the end"))?;
        let (whole, rest) = (length / WHOLE, length % WHOLE);
        match rest.checked_sub(FIRST) {
            None if rest == 0 => Ok(Self { blocks: whole * LINES }),
            Some(lines) if lines > 0 && lines.is_multiple_of(LINE) => {
                Ok(Self { blocks: whole * LINES + lines / LINE })
            }
            _ => Err(Broken("the end")),
        }
    }

    /// Where lines stand.
    fn lines(&self, lines: &Range<usize>) -> Range<u64> {
        (lines.start * LINE) as u64..(lines.end.min(self.blocks) * LINE) as u64
    }

    /// Where those stand that are named again.
    fn named(&self) -> Range<u64> {
        let start = self.blocks * LINE;
        start as u64..(start + self.blocks.div_ceil(LINES) * FIRST) as u64
    }
}

/// How many of these numbers, of which one stands in front of so many bytes each, are at most `ordinal`, less 1.
fn last_before(bytes: &[u8], step: usize, ordinal: u32) -> Result<usize, Broken> {
    let (mut low, mut high) = (0, bytes.len() / step);
    while low < high {
        let middle = usize::midpoint(low, high);
        if Reader::new(&bytes[middle * step..]).u32()? <= ordinal {
            low = middle + 1;
        } else {
            high = middle;
        }
    }
    low.checked_sub(1).ok_or(Broken("the block of a record"))
}

impl Shelf {
    /// The kept values of a record.
    pub(crate) fn kept(
        self: &Arc<Self>,
        held: &mut Held,
        schema: &Schema,
        ordinal: u32,
    ) -> Step<IndexMap<String, Vec<Value>>> {
        let broken = |what| self.broken(Section::KeptIndex, what);
        let index = self.kept_index()?;
        let named = held.get(self, self.within(Section::KeptIndex, index.named())?)?;
        let first = last_before(&named, FIRST, ordinal).map_err(broken)? * LINES;
        let lines = self.within(Section::KeptIndex, index.lines(&(first..first + LINES)))?;
        let lines = held.get(self, lines)?;
        let block = first + last_before(&lines, LINE, ordinal).map_err(broken)?;
        let block = self.kept_block(held, block)?.ok_or_else(|| broken(Broken("a block")))?;
        let values = block.unpack().and_then(|unpacked| {
            let mut reader = Reader::new(&unpacked);
            for _ in block.first..ordinal {
                reader.bytes()?;
            }
            unpack(schema, reader.bytes()?)
        });
        Ok(values.map_err(|what| self.broken(Section::Kept, what))?)
    }

    /// A block of kept values; none past the last.
    pub(in crate::shelf) fn kept_block(
        self: &Arc<Self>,
        held: &mut Held,
        block: usize,
    ) -> Step<Option<KeptBlock>> {
        let index = self.kept_index()?;
        if block >= index.blocks {
            return Ok(None);
        }
        // With the line before, which says where it begins, and the one behind, which says how many records it has.
        let first = block.saturating_sub(1);
        let lines = self.within(Section::KeptIndex, index.lines(&(first..block + 2)))?;
        let lines = held.get(self, lines)?;
        let read = || {
            let line = |place: usize| -> Result<(u32, u64, u32), Broken> {
                let mut reader = Reader::new(lines.get((place - first) * LINE..).unwrap_or_default());
                Ok((reader.u32()?, reader.u64()?, reader.u32()?))
            };
            let start = if block == 0 { 0 } else { line(block - 1)?.1 };
            let (first, end, unpacked) = line(block)?;
            let next = if block + 1 < index.blocks { line(block + 1)?.0 } else { self.records() };
            if start > end || first >= next {
                return Err(Broken("the order of the blocks"));
            }
            Ok((first, next - first, start..end, unpacked))
        };
        let (first, records, range, unpacked) =
            read().map_err(|what| self.broken(Section::KeptIndex, what))?;
        let packed = held.get(self, self.within(Section::Kept, range)?)?;
        let packing = if unpacked & SMALL == 0 { Packing::Quick } else { Packing::Small };
        let unpacked = (unpacked & !SMALL) as usize;
        Ok(Some(KeptBlock { first, records, packed, packing, unpacked }))
    }

    /// Whether the index names again what it should.
    pub(in crate::shelf) fn kept_index_holds(self: &Arc<Self>, held: &mut Held) -> Step<bool> {
        let index = self.kept_index()?;
        let named = held.get(self, self.within(Section::KeptIndex, index.named())?)?;
        let lines = held.get(self, self.within(Section::KeptIndex, index.lines(&(0..index.blocks)))?)?;
        let again = lines.chunks(LINE * LINES).map(|lines| &lines[..FIRST]);
        Ok(named.chunks(FIRST).eq(again))
    }

    fn kept_index(&self) -> Result<Index> {
        let section = self.section(Section::KeptIndex);
        Index::of(section.end - section.start).map_err(|what| self.broken(Section::KeptIndex, what))
    }
}
