//! The manifest: the list of shelves, masks and totals that make one state of a cellar.
//!
//! It is written with every batch, so it is small: some 45 bytes for each shelf, and the schema packed.

use super::piece::PieceId;
use crate::error::{Error, ErrorKind, Result};
use crate::schema::Schema;
use crate::wire::{Broken, Reader, put_bytes, put_varint};
use std::sync::Arc;

/// The first bytes of an encoded manifest.
const MAGIC: [u8; 8] = *b"NUTLIST\0";
/// The version of the encoding and of what it may name.
const VERSION: u32 = 2;
/// A schema takes no more bytes than these.
const MAX_SCHEMA_BYTES: usize = 1 << 24;
/// No input of LZ4 shrinks to less than one byte in this many.
const MAX_RATIO: usize = 256;
/// A bookmark takes no more bytes than these.
pub(crate) const MAX_BOOKMARK_BYTES: usize = 1 << 16;

/// Counts the states of a cellar: each published manifest has one more than the one before.
pub type Generation = u64;

/// One state of a cellar, as plain data.
#[derive(Clone, Debug, PartialEq)]
pub struct Manifest {
    /// Which state this is; 0 is the empty cellar.
    pub generation: Generation,
    /// The columns.
    pub schema: Arc<Schema>,
    /// How far the source has been read, in the words of whoever reads it; of the last batch that said so.
    pub bookmark: Option<Vec<u8>>,
    /// The shelves, oldest first. No two live records in them have the same key.
    pub shelves: Vec<ShelfEntry>,
}

/// A shelf as the manifest knows it.
#[derive(Clone, Debug, PartialEq)]
pub struct ShelfEntry {
    /// Its piece.
    pub piece: PieceId,
    /// The length of the piece in bytes.
    pub bytes: u64,
    /// How many of them, at the end, are the directory; opening a shelf reads just these.
    pub tail: u64,
    /// Its records, the removed ones included.
    pub records: u32,
    /// For each text column the number of tokens in it, the removed records' included.
    pub lengths: Vec<u64>,
    /// Which of its records are removed, if any.
    pub mask: Option<MaskEntry>,
}

/// A mask as the manifest knows it.
#[derive(Clone, Debug, PartialEq)]
pub struct MaskEntry {
    /// Its piece.
    pub piece: PieceId,
    /// The length of the piece in bytes.
    pub bytes: u64,
    /// How many records are removed.
    pub records: u32,
    /// For each text column the number of tokens in the removed records.
    pub lengths: Vec<u64>,
}

impl Manifest {
    /// The state of a cellar that nothing has been put into.
    pub fn empty(schema: Schema) -> Self {
        Self { generation: 0, schema: Arc::new(schema), bookmark: None, shelves: Vec::new() }
    }

    /// The number of live records.
    pub fn records(&self) -> u64 {
        self.shelves.iter().map(|shelf| u64::from(shelf.live())).sum()
    }

    /// Every piece that the state is made of.
    pub fn pieces(&self) -> impl Iterator<Item = PieceId> {
        self.shelves.iter().flat_map(ShelfEntry::pieces)
    }

    /// The manifest as bytes: a label, a version and a checksum, then what `docs/shelf-layout.md` says.
    #[expect(clippy::missing_panics_doc, reason = "nothing in a schema can fail to be written as JSON")]
    pub fn encode(&self) -> Vec<u8> {
        let mut body = Vec::new();
        put_varint(&mut body, self.generation);
        match &self.bookmark {
            Some(bookmark) => {
                put_varint(&mut body, bookmark.len() as u64 + 1);
                body.extend_from_slice(bookmark);
            }
            None => put_varint(&mut body, 0),
        }
        let schema = serde_json::to_vec(&*self.schema).expect("a schema is made of texts and numbers");
        put_varint(&mut body, schema.len() as u64);
        put_bytes(&mut body, &lz4_flex::block::compress(&schema));
        put_varint(&mut body, self.shelves.len() as u64);
        self.shelves.iter().for_each(|shelf| shelf.put(&mut body));
        let mut out = MAGIC.to_vec();
        out.extend_from_slice(&VERSION.to_le_bytes());
        out.extend_from_slice(&crc32fast::hash(&body).to_le_bytes());
        out.extend_from_slice(&body);
        out
    }

    /// Reads what is kept where only a cellar's manifest can be, beside the rows that it was made of.
    ///
    /// # Errors
    /// [`ErrorKind::Damaged`] if it is none, or one of an earlier version: both are mended by reading the rows again. Otherwise as
    /// for [`decode`](Self::decode).
    pub fn decode_beside_rows(bytes: &[u8]) -> Result<Self> {
        let version = bytes.strip_prefix(&MAGIC).and_then(|rest| rest.first_chunk().copied());
        if version.is_none_or(|version| u32::from_le_bytes(version) < VERSION) {
            return Err(Error::damaged("what is kept as its manifest is none that this program reads"));
        }
        Self::decode(bytes)
    }

    /// Reads a manifest; checks label, version, checksum and that its numbers agree with each other.
    ///
    /// # Errors
    /// [`ErrorKind::NotACellar`] if it is something else, [`ErrorKind::MadeByOlder`] or [`ErrorKind::MadeByNewer`] if it is of another
    /// version, [`ErrorKind::Damaged`] if its bytes were altered, [`ErrorKind::BadSchema`] if its schema names what this program lacks, such as a step or a stemmer.
    pub fn decode(bytes: &[u8]) -> Result<Self> {
        let mut reader = Reader::new(bytes);
        if reader.array() != Ok(MAGIC) {
            return Err(Error::new(
                ErrorKind::NotACellar,
                "This is not a cellar's manifest; give the place of a cellar, or make a new one elsewhere.",
            ));
        }
        let cut = |_| Error::damaged("the manifest is cut short");
        let version = reader.u32().map_err(cut)?;
        if version != VERSION {
            let (kind, what) = if version > VERSION {
                (ErrorKind::MadeByNewer, "use a newer one")
            } else {
                (ErrorKind::MadeByOlder, "make the cellar anew from its source")
            };
            return Err(Error::new(
                kind,
                format!("The cellar has version {version} and this program reads version {VERSION}; {what}."),
            ));
        }
        let checksum = reader.u32().map_err(cut)?;
        if crc32fast::hash(&bytes[bytes.len() - reader.left()..]) != checksum {
            return Err(Error::damaged("the checksum of the manifest does not fit"));
        }
        let broken = |Broken(what)| Error::damaged(format_args!("{what} in the manifest can't be read"));
        let (generation, bookmark) = beginning(&mut reader).map_err(broken)?;
        // The checksum fits, so this is what was written: by a program that has what this one lacks.
        let schema = Schema::from_kept(&schema(&mut reader).map_err(broken)?).map_err(|error| {
            let said = error.to_string();
            let said = said.split(" at line ").next().unwrap_or_default();
            Error::new(
                ErrorKind::BadSchema,
                format!("This program can't use the cellar as it was made: {said}."),
            )
        })?;
        let shelves = shelves(&mut reader, &schema).map_err(broken)?;
        let manifest = Self { generation, schema: Arc::new(schema), bookmark, shelves };
        manifest.check()?;
        Ok(manifest)
    }

    fn check(&self) -> Result<()> {
        let columns = self.schema.text_columns().count();
        let agrees = self.shelves.iter().all(|shelf| {
            shelf.lengths.len() == columns
                && shelf.tail <= shelf.bytes
                && shelf.mask.as_ref().is_none_or(|mask| {
                    mask.lengths.len() == columns
                        && mask.records <= shelf.records
                        && mask.lengths.iter().zip(&shelf.lengths).all(|(removed, all)| removed <= all)
                })
        });
        if agrees { Ok(()) } else { Err(Error::damaged("the numbers in the manifest contradict each other")) }
    }
}

fn beginning(from: &mut Reader<'_>) -> Result<(Generation, Option<Vec<u8>>), Broken> {
    let generation = from.varint()?;
    let bookmark = match from.size()?.checked_sub(1) {
        Some(length) => Some(from.take(length)?.to_vec()),
        None => None,
    };
    Ok((generation, bookmark))
}

/// The schema as JSON.
fn schema(from: &mut Reader<'_>) -> Result<Vec<u8>, Broken> {
    let length = from.size()?;
    let packed = from.bytes()?;
    if length > MAX_SCHEMA_BYTES || length / MAX_RATIO > packed.len() {
        return Err(Broken("the size of the schema"));
    }
    lz4_flex::block::decompress(packed, length).map_err(|_| Broken("the schema"))
}

fn shelves(from: &mut Reader<'_>, schema: &Schema) -> Result<Vec<ShelfEntry>, Broken> {
    let columns = schema.text_columns().count();
    let mut shelves = Vec::new();
    for _ in 0..from.varint()? {
        shelves.push(ShelfEntry::get(from, columns)?);
    }
    if from.is_empty() { Ok(shelves) } else { Err(Broken("the end")) }
}

fn put_piece(out: &mut Vec<u8>, piece: PieceId, bytes: u64, records: u32, lengths: &[u64]) {
    out.extend_from_slice(piece.as_bytes());
    put_varint(out, bytes);
    put_varint(out, u64::from(records));
    for length in lengths {
        put_varint(out, *length);
    }
}

/// A piece, its length, records, and a length for each of the columns.
fn get_piece(from: &mut Reader<'_>, columns: usize) -> Result<(PieceId, u64, u32, Vec<u64>), Broken> {
    let piece = PieceId::of(from.array()?);
    let (bytes, records) = (from.varint()?, from.varint_u32()?);
    let lengths = (0..columns).map(|_| from.varint()).collect::<Result<_, _>>()?;
    Ok((piece, bytes, records, lengths))
}

impl ShelfEntry {
    fn put(&self, out: &mut Vec<u8>) {
        put_piece(out, self.piece, self.bytes, self.records, &self.lengths);
        put_varint(out, self.tail);
        out.push(u8::from(self.mask.is_some()));
        if let Some(mask) = &self.mask {
            put_piece(out, mask.piece, mask.bytes, mask.records, &mask.lengths);
        }
    }

    fn get(from: &mut Reader<'_>, columns: usize) -> Result<Self, Broken> {
        let (piece, bytes, records, lengths) = get_piece(from, columns)?;
        let tail = from.varint()?;
        let mask = match from.u8()? {
            0 => None,
            1 => {
                let (piece, bytes, records, lengths) = get_piece(from, columns)?;
                Some(MaskEntry { piece, bytes, records, lengths })
            }
            _ => return Err(Broken("the mask of a shelf")),
        };
        Ok(Self { piece, bytes, tail, records, lengths, mask })
    }

    /// Its piece, and the one of its mask.
    pub fn pieces(&self) -> impl Iterator<Item = PieceId> {
        [Some(self.piece), self.mask.as_ref().map(|mask| mask.piece)].into_iter().flatten()
    }

    /// The records that are not removed.
    pub fn live(&self) -> u32 {
        self.records - self.mask.as_ref().map_or(0, |mask| mask.records)
    }

    /// The number of tokens in a text column of the live records.
    pub fn live_length(&self, column: usize) -> u64 {
        self.lengths[column] - self.mask.as_ref().map_or(0, |mask| mask.lengths[column])
    }
}
