//! The manifest: the list of shelves, masks and totals that make one state of a cellar.

use super::piece::PieceId;
use crate::error::{Error, ErrorKind, Result};
use crate::schema::Schema;
use crate::wire::Reader;
use serde::{Deserialize, Serialize};

/// The first bytes of an encoded manifest.
const MAGIC: [u8; 8] = *b"NUTLIST\0";
/// The version of the encoding and of what it may name.
const VERSION: u32 = 1;

/// Counts the states of a cellar: each published manifest has one more than the one before.
pub type Generation = u64;

/// One state of a cellar, as plain data.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Manifest {
    /// Which state this is; 0 is the empty cellar.
    pub generation: Generation,
    /// The columns.
    pub schema: Schema,
    /// The shelves, oldest first. No two live records in them have the same key.
    pub shelves: Vec<ShelfEntry>,
}

/// A shelf as the manifest knows it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
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
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
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
        Self { generation: 0, schema, shelves: Vec::new() }
    }

    /// The number of live records.
    pub fn records(&self) -> u64 {
        self.shelves.iter().map(|shelf| u64::from(shelf.live())).sum()
    }

    /// Every piece that the state is made of.
    pub fn pieces(&self) -> impl Iterator<Item = PieceId> {
        self.shelves.iter().flat_map(ShelfEntry::pieces)
    }

    /// The manifest as bytes: a label, a version and a checksum, then JSON.
    #[expect(clippy::missing_panics_doc, reason = "nothing in a manifest can fail to be written as JSON")]
    pub fn encode(&self) -> Vec<u8> {
        let body = serde_json::to_vec(self).expect("a manifest is made of texts and numbers");
        let mut out = MAGIC.to_vec();
        out.extend_from_slice(&VERSION.to_le_bytes());
        out.extend_from_slice(&crc32fast::hash(&body).to_le_bytes());
        out.extend_from_slice(&body);
        out
    }

    /// Reads a manifest; checks label, version, checksum and that its numbers agree with each other.
    ///
    /// # Errors
    /// [`ErrorKind::NotACellar`] if it is something else or of a later version, [`ErrorKind::Damaged`] if its bytes
    /// were altered, [`ErrorKind::BadSchema`] if its schema names what this program lacks, such as a step or a stemmer.
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
            return Err(Error::new(
                ErrorKind::NotACellar,
                format!(
                    "The cellar has version {version} and this program reads version {VERSION}; use a newer one."
                ),
            ));
        }
        let checksum = reader.u32().map_err(cut)?;
        let body = &bytes[bytes.len() - reader.left()..];
        if crc32fast::hash(body) != checksum {
            return Err(Error::damaged("the checksum of the manifest does not fit"));
        }
        // The checksum fits, so this is what was written: by a program that has what this one lacks.
        let manifest: Self = serde_json::from_slice(body).map_err(|error| {
            let said = error.to_string();
            let said = said.split(" at line ").next().unwrap_or_default();
            Error::new(
                ErrorKind::BadSchema,
                format!("This program can't use the cellar as it was made: {said}."),
            )
        })?;
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

impl ShelfEntry {
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
