//! Writing a shelf from front to back: bytes are counted, gathered into chunks and summed on their way out.

use crate::error::Result;
use crate::shelf::format::directory::{CHUNK, Directory, Section, header};
use crate::shelf::format::text_columns::TextColumns;
use crate::store::{PieceId, PieceWriter, ShelfEntry};
use std::sync::Arc;

/// A piece that is being written.
pub(in crate::shelf) struct Output<'a> {
    writer: Box<dyn PieceWriter + 'a>,
    /// Whole chunks but for the last, and as many as are worth writing at once.
    buffer: Vec<u8>,
    checksums: Vec<u32>,
    written: u64,
    /// Where the sections end that have been written.
    pub(in crate::shelf) ends: [u64; Section::ALL.len()],
    /// What a reader needs to know of them.
    features: u32,
}

/// What a directory and a manifest have to say of a shelf, besides where its sections are.
pub(in crate::shelf) struct Said {
    pub piece: PieceId,
    pub records: u32,
    /// The number of postings in a block.
    pub block: u8,
    pub columns: Arc<TextColumns>,
    /// For each text column the width of its lengths.
    pub widths: Vec<u8>,
    /// For each text column the sum of its lengths.
    pub lengths: Vec<u64>,
    /// The number of columns whose values are compared.
    pub value_columns: u16,
    /// The names of the stemmings, by their numbers.
    pub stemmings: Vec<String>,
}

impl<'a> Output<'a> {
    pub fn new(writer: Box<dyn PieceWriter + 'a>) -> Self {
        let ends = [0; Section::ALL.len()];
        let buffer = Vec::with_capacity(Self::CAPACITY);
        Self { writer, buffer, checksums: Vec::new(), written: 0, ends, features: 0 }
    }

    /// Begins a shelf.
    pub fn begin(writer: Box<dyn PieceWriter + 'a>) -> Result<Self> {
        let mut out = Self::new(writer);
        out.append(&header())?;
        Ok(out)
    }

    #[expect(clippy::cast_possible_truncation, reason = "a chunk is 4 KiB")]
    const CHUNK_BYTES: usize = CHUNK as usize;
    const CAPACITY: usize = 16 * Self::CHUNK_BYTES;
    /// So many bytes are worth appending at once.
    pub const WORTH: u64 = 16 * CHUNK;

    pub fn append(&mut self, mut bytes: &[u8]) -> Result<()> {
        self.written += bytes.len() as u64;
        while !bytes.is_empty() {
            let room = Self::CAPACITY - self.buffer.len();
            let (now, later) = bytes.split_at(room.min(bytes.len()));
            self.buffer.extend_from_slice(now);
            bytes = later;
            if self.buffer.len() == Self::CAPACITY {
                self.flush()?;
            }
        }
        Ok(())
    }

    /// Ends the chunk that is being gathered; gives the checksums of all. They cover everything but the directory, which
    /// carries its own.
    pub fn checksums(&mut self) -> Result<Vec<u32>> {
        if !self.buffer.is_empty() {
            self.flush()?;
        }
        Ok(std::mem::take(&mut self.checksums))
    }

    /// Says that a reader needs to know of a feature.
    pub fn need(&mut self, feature: u32) {
        self.features |= feature;
    }

    /// Ends a section, and begins the next.
    pub fn end(&mut self, section: Section) {
        self.ends[section as usize] = self.written;
    }

    /// Ends the shelf: appends its directory and ends the piece. Gives what the manifest has to say of it.
    pub fn seal(mut self, said: Said) -> Result<ShelfEntry> {
        let Said { piece, records, block, columns, widths, lengths, value_columns, stemmings } = said;
        let checksums = self.checksums()?;
        let (features, ends) = (self.features, self.ends);
        let more = Vec::new();
        let tail = Directory {
            records,
            block,
            columns,
            widths,
            value_columns,
            features,
            stemmings,
            more,
            ends,
            checksums,
        }
        .encode();
        self.writer.append(&tail)?;
        self.writer.finish()?;
        let (bytes, tail) = (self.written + tail.len() as u64, tail.len() as u64);
        Ok(ShelfEntry { piece, bytes, tail, records, lengths, mask: None })
    }

    fn flush(&mut self) -> Result<()> {
        self.checksums.extend(self.buffer.chunks(Self::CHUNK_BYTES).map(crc32fast::hash));
        self.writer.append(&self.buffer)?;
        self.buffer.clear();
        Ok(())
    }
}
