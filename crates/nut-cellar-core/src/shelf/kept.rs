//! Kept values: what is shown of a record, in compressed blocks (LZ4) of about 16 KiB.
//!
//! A record is the number of its columns that have values, then for each its place in the schema, how many values,
//! and the values. A block is a run of records, each preceded by its length.

use super::directory::Section;
use super::hand::{Hand, Step};
use super::output::Output;
use super::reader::Shelf;
use crate::error::{Error, ErrorKind, Result};
use crate::record::Value;
use crate::schema::Schema;
use crate::wire::{Broken, Reader, put_bytes, put_varint};
use bytes::Bytes;
use indexmap::IndexMap;
use std::ops::Range;
use std::sync::Arc;

/// A block is ended when it has this many bytes before compression.
const BLOCK_BYTES: usize = 16 * 1024;
/// The most bytes that the kept values of one record may take.
pub(super) const MAX_RECORD_BYTES: usize = 1 << 30;
/// No input of LZ4 shrinks to less than one byte in this many.
const MAX_RATIO: usize = 256;

/// Appends the kept values of a record: (place in the schema, values).
pub(super) fn pack(out: &mut Vec<u8>, columns: &[(usize, &[Value])]) -> Result<()> {
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

/// Writes the kept section; gives its index: for each block its first record, where it ends, and its size unpacked.
pub(super) fn write<'r>(out: &mut Output<'_>, records: impl Iterator<Item = &'r [u8]>) -> Result<Vec<u8>> {
    let mut writer = BlockWriter::default();
    for record in records {
        put_bytes(&mut writer.block, record);
        writer.next += 1;
        if writer.block.len() >= BLOCK_BYTES {
            writer.end_block(out)?;
        }
    }
    if !writer.block.is_empty() {
        writer.end_block(out)?;
    }
    Ok(writer.index)
}

#[derive(Default)]
struct BlockWriter {
    block: Vec<u8>,
    index: Vec<u8>,
    first: u32,
    next: u32,
    written: u64,
}

impl BlockWriter {
    fn end_block(&mut self, out: &mut Output<'_>) -> Result<()> {
        let packed = lz4_flex::block::compress(&self.block);
        out.append(&packed)?;
        self.written += packed.len() as u64;
        let unpacked = u32::try_from(self.block.len()).expect("a record has at most 1 GiB of values");
        self.index.extend_from_slice(&self.first.to_le_bytes());
        self.index.extend_from_slice(&self.written.to_le_bytes());
        self.index.extend_from_slice(&unpacked.to_le_bytes());
        self.block.clear();
        self.first = self.next;
        Ok(())
    }
}

/// One line of the index: first record, end, size unpacked.
const INDEX_BYTES: usize = 4 + 8 + 4;

/// Where a record's block is.
struct Block {
    first: u32,
    range: Range<u64>,
    unpacked: usize,
}

fn find_block(index: &[u8], ordinal: u32) -> Result<Block, Broken> {
    let (lines, _) = index.as_chunks::<INDEX_BYTES>();
    let line = |at: usize| {
        let mut reader = Reader::new(lines.get(at).map_or(&[], |line| &line[..]));
        Ok::<_, Broken>((reader.u32()?, reader.u64()?, reader.u32()?))
    };
    let after = lines.partition_point(|line| Reader::new(line).u32().is_ok_and(|first| first <= ordinal));
    let at = after.checked_sub(1).ok_or(Broken("the block of a record"))?;
    let (first, end, unpacked) = line(at)?;
    let start = if at == 0 { 0 } else { line(at - 1)?.1 };
    if start > end {
        return Err(Broken("the order of the blocks"));
    }
    Ok(Block { first, range: start..end, unpacked: unpacked as usize })
}

fn record_in(block: &Block, packed: &[u8], ordinal: u32) -> Result<Vec<u8>, Broken> {
    if block.unpacked / MAX_RATIO > packed.len() {
        return Err(Broken("the size of a block"));
    }
    let unpacked =
        lz4_flex::block::decompress(packed, block.unpacked).map_err(|_| Broken("a compressed block"))?;
    let mut reader = Reader::new(&unpacked);
    for _ in block.first..ordinal {
        reader.bytes()?;
    }
    Ok(reader.bytes()?.to_vec())
}

impl Shelf {
    /// The kept values of a record.
    pub(crate) fn kept(
        self: &Arc<Self>,
        hand: &mut Hand,
        schema: &Schema,
        ordinal: u32,
    ) -> Step<IndexMap<String, Vec<Value>>> {
        let index: Bytes = hand.get(self, self.section(Section::KeptIndex))?;
        let block = find_block(&index, ordinal).map_err(|what| self.broken(Section::KeptIndex, what))?;
        let packed = hand.get(self, self.within(Section::Kept, block.range.clone())?)?;
        let values = record_in(&block, &packed, ordinal).and_then(|record| unpack(schema, &record));
        Ok(values.map_err(|what| self.broken(Section::Kept, what))?)
    }
}
