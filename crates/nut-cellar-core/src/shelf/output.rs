//! Writing a shelf from front to back: bytes are counted, gathered into chunks and summed on their way out.

use super::directory::CHUNK;
use crate::error::Result;
use crate::store::PieceWriter;

/// A piece that is being written.
pub(super) struct Output<'a> {
    writer: Box<dyn PieceWriter + 'a>,
    chunk: Vec<u8>,
    checksums: Vec<u32>,
    written: u64,
}

impl<'a> Output<'a> {
    pub fn new(writer: Box<dyn PieceWriter + 'a>) -> Self {
        Self { writer, chunk: Vec::with_capacity(Self::CAPACITY), checksums: Vec::new(), written: 0 }
    }

    #[expect(clippy::cast_possible_truncation, reason = "a chunk is 64 KiB")]
    const CAPACITY: usize = CHUNK as usize;

    /// How many bytes were appended.
    pub fn written(&self) -> u64 {
        self.written
    }

    pub fn append(&mut self, mut bytes: &[u8]) -> Result<()> {
        self.written += bytes.len() as u64;
        while !bytes.is_empty() {
            let room = Self::CAPACITY - self.chunk.len();
            let (now, later) = bytes.split_at(room.min(bytes.len()));
            self.chunk.extend_from_slice(now);
            bytes = later;
            if self.chunk.len() == Self::CAPACITY {
                self.flush()?;
            }
        }
        Ok(())
    }

    /// Ends the chunk that is being gathered; gives the checksums of all.
    pub fn checksums(&mut self) -> Result<Vec<u32>> {
        if !self.chunk.is_empty() {
            self.flush()?;
        }
        Ok(std::mem::take(&mut self.checksums))
    }

    /// Appends the tail, which carries its own checksum, and ends the piece. Gives its length.
    pub fn finish(mut self, tail: &[u8]) -> Result<u64> {
        self.writer.append(tail)?;
        self.writer.finish()?;
        Ok(self.written + tail.len() as u64)
    }

    fn flush(&mut self) -> Result<()> {
        self.checksums.push(crc32fast::hash(&self.chunk));
        self.writer.append(&self.chunk)?;
        self.chunk.clear();
        Ok(())
    }
}
