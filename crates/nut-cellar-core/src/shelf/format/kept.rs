//! Kept values: what is shown of a record, in small compressed blocks (LZ4, or Zstandard where the schema says so).
//!
//! A record is the number of its columns that have values, then for each its place in the schema, how many values,
//! and the values. A block is a run of records, each preceded by its length. So that small blocks take no more room than large ones, a
//! shelf with many values begins its section with a *dictionary*: stretches of them, which all blocks are packed by.

use crate::error::{Error, ErrorKind, Result};
use crate::record::Value;
use crate::schema::{Packing, Schema};
use crate::shelf::build::output::Output;
use crate::shelf::build::threads::in_order;
use crate::shelf::format::directory::{KEPT_BY_DICTIONARY, Section};
use crate::shelf::read::held::{Held, Step};
use crate::shelf::read::reader::Shelf;
use crate::wire::{Broken, Reader, bytes_size, put_bytes, put_varint};
use bytes::Bytes;
use indexmap::IndexMap;
use std::ops::Range;
use std::sync::Arc;

/// The bytes of a dictionary: as many stretches of records, spread over all of them, as fit. Blocks of 1.25 KiB take 1.06 to 1.14 times the
/// room of blocks of 16 KiB without one; a longer one would be hashed anew for each block that is packed.
const DICTIONARY: usize = 16 * 1024;
pub(in crate::shelf) const STRETCH: usize = 512;
pub(in crate::shelf) const STRETCHES: usize = DICTIONARY / STRETCH;
/// Fewer bytes of values are not worth one.
pub(in crate::shelf) const WORTH_A_DICTIONARY: u64 = 8 * DICTIONARY as u64;
/// So many blocks are packed by one thread in one go.
const AT_ONCE: usize = 256;
/// The most bytes that the kept values of one record may take.
pub(in crate::shelf) const MAX_RECORD_BYTES: usize = 1 << 30;
/// No input of LZ4 shrinks to less than one byte in this many.
const MAX_RATIO: usize = 256;
/// In the index, with the size of a block: it is packed by Zstandard.
const SMALL: u32 = 1 << 31;

/// Appends the kept values of a record: (place in the schema, values).
pub(in crate::shelf) fn pack<'v>(
    out: &mut Vec<u8>,
    columns: impl Iterator<Item = (usize, &'v [Value])> + Clone,
) -> Result<()> {
    let start = out.len();
    put_varint(out, columns.clone().count() as u64);
    for (column, values) in columns {
        put_varint(out, column as u64);
        put_varint(out, values.len() as u64);
        for value in values {
            value.pack(out);
        }
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
#[derive(Clone)]
struct How {
    packing: Packing,
    /// Whether they are not to be made smaller.
    stored: bool,
    /// What they are packed by; empty without.
    dictionary: Bytes,
}

impl How {
    /// What packs one block after the other.
    fn packer(&self) -> Result<Packer> {
        if self.stored {
            return Ok(Packer::Stored);
        }
        match self.packing {
            Packing::Quick => Ok(Packer::Quick(self.dictionary.clone())),
            #[cfg(feature = "zstd")]
            Packing::Small => zstd::bulk::Compressor::with_dictionary(LEVEL, &self.dictionary)
                .map(Packer::Small)
                .map_err(|error| Error::new(ErrorKind::Place, format!("Values can't be packed: {error}."))),
            #[cfg(not(feature = "zstd"))]
            Packing::Small => Err(Error::new(ErrorKind::BadSchema, crate::schema::NO_ZSTD)),
        }
    }

    /// A block is ended when it has this many bytes before compression.
    fn block_bytes(&self) -> usize {
        match self.packing {
            Packing::Quick if !self.dictionary.is_empty() => 1_280,
            _ => 4 * 1024,
        }
    }
}

/// Packs blocks. One for Zstandard is dear to make, and is used for many.
enum Packer {
    Stored,
    Quick(Bytes),
    #[cfg(feature = "zstd")]
    Small(zstd::bulk::Compressor<'static>),
}

impl Packer {
    #[cfg_attr(not(feature = "zstd"), expect(clippy::unnecessary_wraps, reason = "Zstandard can fail"))]
    fn pack(&mut self, block: &[u8]) -> Result<Vec<u8>> {
        match self {
            Self::Stored => Ok(stored(block)),
            Self::Quick(dictionary) => Ok(lz4_flex::block::compress_with_dict(block, dictionary)),
            #[cfg(feature = "zstd")]
            Self::Small(packer) => packer
                .compress(block)
                .map_err(|error| Error::new(ErrorKind::Place, format!("Values can't be packed: {error}."))),
        }
    }
}

/// A dictionary of so many records; none of none.
pub(in crate::shelf) fn dictionary_of<'r>(count: usize, record: impl Fn(usize) -> &'r [u8]) -> Bytes {
    let mut dictionary = Vec::with_capacity(DICTIONARY);
    for stretch in 0..if count == 0 { 0 } else { STRETCHES } {
        // Short records are followed by others.
        let mut place = stretch * count / STRETCHES;
        while dictionary.len() < (stretch + 1) * STRETCH {
            let room = (stretch + 1) * STRETCH - dictionary.len();
            let bytes = record(place % count);
            dictionary.extend_from_slice(&bytes[..bytes.len().min(room)]);
            place += 1;
        }
    }
    dictionary.into()
}

/// Writes the kept values and their index.
pub(in crate::shelf) struct KeptWriter {
    how: How,
    /// Made when it is needed.
    packer: Option<Packer>,
    /// The block that goes on, and the number of its records.
    block: Vec<u8>,
    records: u32,
    index: Vec<u8>,
    /// The first record of the block that is written next.
    first: u32,
    written: u64,
}

impl KeptWriter {
    /// A writer of blocks that are packed by a dictionary, unless that is empty.
    pub fn new(out: &mut Output<'_>, packing: Packing, dictionary: Bytes) -> Result<Self> {
        out.append(&dictionary)?;
        let written = dictionary.len() as u64;
        let how = How { packing, stored: false, dictionary };
        Ok(Self { how, packer: None, block: Vec::new(), records: 0, index: Vec::new(), first: 0, written })
    }

    /// A writer that makes no block smaller.
    pub fn stored() -> Self {
        let how = How { packing: Packing::Quick, stored: true, dictionary: Bytes::new() };
        Self { how, packer: None, block: Vec::new(), records: 0, index: Vec::new(), first: 0, written: 0 }
    }

    /// Appends the packed values of the next record.
    pub fn push(&mut self, out: &mut Output<'_>, record: &[u8]) -> Result<()> {
        put_bytes(&mut self.block, record);
        self.records += 1;
        if self.block.len() >= self.how.block_bytes() { self.end_block(out) } else { Ok(()) }
    }

    /// Whether a packed block may follow: it is packed by the same dictionary, and none becomes much smaller than the others for it.
    pub fn may_copy(&self, block: &KeptBlock) -> bool {
        block.dictionary == self.how.dictionary
            && (self.block.is_empty() || self.block.len() >= self.how.block_bytes() / 2)
    }

    /// Appends a block as it is.
    pub fn copy(&mut self, out: &mut Output<'_>, block: &KeptBlock) -> Result<()> {
        self.end_block(out)?;
        self.write(out, (&block.packed, block.packing), block.unpacked, block.records)
    }

    /// Ends the section and appends its index.
    pub fn finish(mut self, out: &mut Output<'_>) -> Result<()> {
        self.end_block(out)?;
        if !self.how.dictionary.is_empty() {
            out.need(KEPT_BY_DICTIONARY);
        }
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
            if bytes >= self.how.block_bytes() {
                (blocks, bytes) = (blocks + 1, 0);
                if blocks % AT_ONCE == 0 {
                    shares.push(place + 1);
                }
            }
        }
        shares.push(count);
        let how = self.how.clone();
        let work = |share: usize| -> Result<Vec<_>> {
            let (mut block, mut records, mut packed, mut packer) = (Vec::new(), 0, Vec::new(), how.packer()?);
            for place in shares[share]..shares[share + 1] {
                put_bytes(&mut block, record(place));
                records += 1;
                if block.len() >= how.block_bytes() || place + 1 == shares[share + 1] {
                    packed.push((packer.pack(&block)?, block.len(), std::mem::take(&mut records)));
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
        let mut packer = self.packer.take().map_or_else(|| self.how.packer(), Ok)?;
        let packed = packer.pack(&self.block)?;
        self.packer = Some(packer);
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
    dictionary: Bytes,
    unpacked: usize,
}

impl KeptBlock {
    /// The packed values of its records, each preceded by its length.
    pub fn unpack(&self) -> Result<Vec<u8>, Broken> {
        self.packing.unpack(&self.packed, &self.dictionary, self.unpacked)
    }
}

impl Packing {
    fn unpack(self, packed: &[u8], dictionary: &[u8], size: usize) -> Result<Vec<u8>, Broken> {
        const WRONG: Broken = Broken("a compressed block");
        let unpacked = match self {
            Self::Quick if size / MAX_RATIO > packed.len() => return Err(Broken("the size of a block")),
            Self::Quick => {
                lz4_flex::block::decompress_with_dict(packed, size, dictionary).map_err(|_| WRONG)?
            }
            #[cfg(feature = "zstd")]
            Self::Small => {
                use std::io::Read;
                let frame =
                    zstd::stream::read::Decoder::with_dictionary(packed, dictionary).map_err(|_| WRONG)?;
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

/// How hard Zstandard tries; measured, more takes much longer and gains little.
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
            let start = if block == 0 { self.kept_dictionary().end } else { line(block - 1)?.1 };
            let (first, end, unpacked) = line(block)?;
            let next = if block + 1 < index.blocks { line(block + 1)?.0 } else { self.records() };
            if start > end || first >= next {
                return Err(Broken("the order of the blocks"));
            }
            Ok((first, next - first, start..end, unpacked))
        };
        let (first, records, range, unpacked) =
            read().map_err(|what| self.broken(Section::KeptIndex, what))?;
        let packed = held.get(self, self.within(Section::Kept, range)?);
        let dictionary = self.dictionary(held);
        let (packed, dictionary) = (packed?, dictionary?);
        let packing = if unpacked & SMALL == 0 { Packing::Quick } else { Packing::Small };
        let unpacked = (unpacked & !SMALL) as usize;
        Ok(Some(KeptBlock { first, records, packed, packing, dictionary, unpacked }))
    }

    /// How many blocks of kept values there are.
    pub(in crate::shelf) fn kept_blocks(&self) -> Result<usize> {
        Ok(self.kept_index()?.blocks)
    }

    /// Whether the index names again what it should.
    pub(in crate::shelf) fn kept_index_holds(self: &Arc<Self>, held: &mut Held) -> Step<bool> {
        let index = self.kept_index()?;
        let named = held.get(self, self.within(Section::KeptIndex, index.named())?)?;
        let lines = held.get(self, self.within(Section::KeptIndex, index.lines(&(0..index.blocks)))?)?;
        let again = lines.chunks(LINE * LINES).map(|lines| &lines[..FIRST]);
        Ok(named.chunks(FIRST).eq(again))
    }

    /// Where the dictionary of kept values stands in their section.
    fn kept_dictionary(&self) -> Range<u64> {
        0..if self.has_feature(KEPT_BY_DICTIONARY) { DICTIONARY as u64 } else { 0 }
    }

    /// The dictionary of kept values; empty without.
    pub(in crate::shelf) fn dictionary(self: &Arc<Self>, held: &mut Held) -> Step<Bytes> {
        held.get(self, self.within(Section::Kept, self.kept_dictionary())?)
    }

    fn kept_index(&self) -> Result<Index> {
        let section = self.section(Section::KeptIndex);
        Index::of(section.end - section.start).map_err(|what| self.broken(Section::KeptIndex, what))
    }
}
