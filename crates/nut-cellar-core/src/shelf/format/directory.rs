//! The directory: the tail of a shelf, which says where everything else is and how to check it.

use crate::error::{Error, ErrorKind, Result};
use crate::schema::MAX_TEXT_COLUMNS;
use crate::shelf::format::pack;
use crate::shelf::format::text_columns::TextColumns;
use crate::store::PIECE_LABELS;
use crate::wire::{Broken, Reader, put_bytes, put_varint};
use std::fmt;
use std::ops::Range;
use std::sync::Arc;

/// Checksums cover runs of this many bytes, counted from the beginning of the shelf. A range is read in whole chunks.
pub const CHUNK: u64 = 4 * 1024;

/// In the index for each block: where it ends, its least and its greatest value (of none: 1 and 0), and whether it has
/// counts.
pub(in crate::shelf) const LINE: usize = 8 + 8 + 8 + 1;
/// The first bytes of a shelf, and the last.
const MAGIC: [u8; 8] = PIECE_LABELS[0];
/// The version of the layout.
pub const VERSION: u32 = 5;
/// What a shelf needs its reader to know, besides the version, one bit each: kept values are packed by a dictionary; some text
/// columns are beginnings of others.
pub(in crate::shelf) const KEPT_BY_DICTIONARY: u32 = 1;
const BEGINNINGS: u32 = 2;
/// All that this program knows.
const FEATURES: u32 = KEPT_BY_DICTIONARY | BEGINNINGS;
/// The label and the version.
pub(in crate::shelf) const HEADER_BYTES: u64 = 12;
/// Checksum and length of the tail, and the label again.
const TRAILER_BYTES: usize = 4 + 4 + MAGIC.len();

/// A part of a shelf.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub enum Section {
    /// The keys in order, front-coded in blocks.
    Keys,
    /// The first key of each block.
    KeyIndex,
    /// The values that are shown, in compressed blocks.
    Kept,
    /// The first record of each block.
    KeptIndex,
    /// For each text column the number of tokens of each record.
    Lengths,
    /// The different values of the columns of kind "exact" in order, front-coded in blocks.
    Exact,
    /// The first of each block.
    ExactIndex,
    /// For each column with values that are compared the values of each record, packed in blocks.
    Values,
    /// The least and the greatest value of each block.
    ValueIndex,
    /// For each class of terms the records it is in, and how often in which column.
    Postings,
    /// For each posting where in the columns the term stands.
    Positions,
    /// The terms and their classes in order, front-coded in blocks, each with where its list is.
    Terms,
    /// The first term of each block.
    TermIndex,
    /// For each run of three letters in a term the groups of terms that have it.
    Grams,
    /// The first run of each block.
    GramIndex,
}

impl Section {
    /// All sections, in the order in which they stand in a shelf.
    pub const ALL: [Self; 15] = [
        Self::Keys,
        Self::KeyIndex,
        Self::Kept,
        Self::KeptIndex,
        Self::Lengths,
        Self::Exact,
        Self::ExactIndex,
        Self::Values,
        Self::ValueIndex,
        Self::Postings,
        Self::Positions,
        Self::Terms,
        Self::TermIndex,
        Self::Grams,
        Self::GramIndex,
    ];
}

impl Section {
    /// The section with the index of the blocks of this one, which stands behind it.
    pub(in crate::shelf) fn index(self) -> Self {
        let next = Self::ALL.get(self as usize + 1);
        *next.expect("a section of blocks is followed by its index")
    }
}

impl fmt::Display for Section {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Keys => "keys",
            Self::KeyIndex => "key index",
            Self::Kept => "kept values",
            Self::KeptIndex => "kept index",
            Self::Lengths => "lengths",
            Self::Exact => "exact values",
            Self::ExactIndex => "exact index",
            Self::Values => "values",
            Self::ValueIndex => "value index",
            Self::Postings => "postings",
            Self::Positions => "positions",
            Self::Terms => "terms",
            Self::TermIndex => "term index",
            Self::Grams => "letters",
            Self::GramIndex => "letter index",
        })
    }
}

/// What the tail of a shelf says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in crate::shelf) struct Directory {
    /// The number of records.
    pub records: u32,
    /// The number of postings in a block, and of positions in a chunk, from 1 to 128.
    pub block: u8,
    /// The text columns.
    pub columns: Arc<TextColumns>,
    /// For each text column the bits that one length takes, at most 32.
    pub widths: Vec<u8>,
    /// The number of columns whose values are compared.
    pub value_columns: u16,
    /// What else its reader needs to know, one bit each.
    pub features: u32,
    /// The names of the stemmings, by their numbers.
    pub stemmings: Vec<String>,
    /// The sections that not every shelf has: they stand behind the others.
    pub more: Vec<MoreSection>,
    /// Where each section ends; the next one begins there.
    pub ends: [u64; Section::ALL.len()],
    /// The checksum of each chunk of what stands before the tail.
    pub checksums: Vec<u32>,
}

/// A section that not every shelf has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::shelf) struct MoreSection {
    /// What it is: twice a number, and 1 more if who does not know it can't read the shelf.
    pub kind: u64,
    /// Its length in bytes.
    pub bytes: u64,
}

/// The first bytes of a shelf.
pub(in crate::shelf) fn header() -> Vec<u8> {
    let mut out = MAGIC.to_vec();
    out.extend_from_slice(&VERSION.to_le_bytes());
    out
}

/// The bytes of the lengths.
pub(in crate::shelf) fn size_of_lengths(widths: &[u8], records: u32) -> u64 {
    widths.iter().map(|&width| (u64::from(width) * u64::from(records)).div_ceil(8)).sum()
}

/// The size of the index.
pub(in crate::shelf) fn index_size(blocks: u32, columns: u16) -> u64 {
    u64::from(blocks) * u64::from(columns) * LINE as u64
}

impl Directory {
    /// The range of a section.
    pub fn section(&self, section: Section) -> Range<u64> {
        let place = section as usize;
        let start = if place == 0 { HEADER_BYTES } else { self.ends[place - 1] };
        start..self.ends[place]
    }

    /// Where the tail begins: everything before is covered by the chunk checksums.
    pub fn body(&self) -> u64 {
        self.ends[Section::ALL.len() - 1] + self.more.iter().map(|more| more.bytes).sum::<u64>()
    }

    /// The tail as bytes.
    pub fn encode(&self) -> Vec<u8> {
        let mut out = VERSION.to_le_bytes().to_vec();
        out.extend_from_slice(&self.records.to_le_bytes());
        out.push(self.block);
        out.push(u8::try_from(self.widths.len()).expect("a schema has at most 64 text columns"));
        out.extend_from_slice(&self.widths);
        out.extend_from_slice(&self.value_columns.to_le_bytes());
        let has_beginnings = !self.columns.beginnings().is_empty();
        let features = self.features | if has_beginnings { BEGINNINGS } else { 0 };
        out.extend_from_slice(&features.to_le_bytes());
        for section in Section::ALL {
            let range = self.section(section);
            put_varint(&mut out, range.end - range.start);
        }
        put_varint(&mut out, self.more.len() as u64);
        for MoreSection { kind, bytes } in &self.more {
            put_varint(&mut out, *kind);
            put_varint(&mut out, *bytes);
        }
        put_varint(&mut out, self.stemmings.len() as u64);
        for stemming in &self.stemmings {
            put_bytes(&mut out, stemming.as_bytes());
        }
        if has_beginnings {
            self.columns.put_beginnings(&mut out);
        }
        for checksum in &self.checksums {
            out.extend_from_slice(&checksum.to_le_bytes());
        }
        let checksum = crc32fast::hash(&out);
        let length = u32::try_from(out.len() + TRAILER_BYTES).expect("4 bytes of checksum for each 4 KiB");
        out.extend_from_slice(&checksum.to_le_bytes());
        out.extend_from_slice(&length.to_le_bytes());
        out.extend_from_slice(&MAGIC);
        out
    }

    /// Reads the tail of a shelf of `bytes` bytes with `columns` text columns. Checks, in this order: label, length,
    /// checksum, version, the number of columns, features, that the sections follow one another up to the tail, that there is a
    /// checksum for each chunk, and that the lengths and the value index fill their sections.
    pub fn decode(tail: &[u8], bytes: u64, columns: usize) -> Result<Self> {
        let damaged =
            |Broken(what)| Error::damaged(format_args!("{what} in the directory of a shelf can't be read"));
        let wrong = |what: &'static str| Err(damaged(Broken(what)));
        let Some(end) = tail.len().checked_sub(TRAILER_BYTES) else { return wrong("the end") };
        let mut trailer = Reader::new(&tail[end..]);
        let (checksum, length) = (trailer.u32().map_err(damaged)?, trailer.u32().map_err(damaged)?);
        if trailer.array() != Ok(MAGIC) {
            return wrong("the label");
        }
        if length as usize != tail.len() {
            return wrong("the length");
        }
        if crc32fast::hash(&tail[..end]) != checksum {
            return wrong("the checksum");
        }
        let mut reader = Reader::new(&tail[..end]);
        let version = reader.u32().map_err(damaged)?;
        if version != VERSION {
            let (kind, advice) = if version > VERSION {
                (ErrorKind::MadeByNewer, "use a newer one")
            } else {
                (
                    ErrorKind::MadeByOlder,
                    "make the cellar anew from its source; in a database, adopt or repair it",
                )
            };
            return Err(Error::new(
                kind,
                format!("A shelf has layout {version} and this program reads layout {VERSION}; {advice}."),
            ));
        }
        let fields = Self::fields(&mut reader, bytes, tail.len() as u64).map_err(damaged)?;
        let Some(directory) = fields else {
            let message = "A shelf was written by a newer version of this program; use that one.";
            return Err(Error::new(ErrorKind::MadeByNewer, message));
        };
        if directory.widths.len() != columns {
            return wrong("the number of columns");
        }
        let size = |section| {
            let range = directory.section(section);
            range.end - range.start
        };
        if size(Section::Lengths) != size_of_lengths(&directory.widths, directory.records) {
            return wrong("the size of the lengths");
        }
        let blocks = directory.records.div_ceil(directory.block.into());
        if size(Section::ValueIndex) != index_size(blocks, directory.value_columns) {
            return wrong("the size of the value index");
        }
        Ok(directory)
    }

    /// None if this program does not know all that it needs to.
    fn fields(reader: &mut Reader<'_>, bytes: u64, tail: u64) -> Result<Option<Self>, Broken> {
        let records = reader.u32()?;
        let block = reader.u8()?;
        if block == 0 || usize::from(block) > pack::LONGEST {
            return Err(Broken("the length of the blocks"));
        }
        let columns = usize::from(reader.u8()?);
        let widths = reader.take(columns)?.to_vec();
        if columns > MAX_TEXT_COLUMNS || !widths.iter().all(|width| *width <= 32) {
            return Err(Broken("the width of the lengths"));
        }
        let value_columns = u16::from_le_bytes(reader.array()?);
        let features = reader.u32()?;
        if features & !FEATURES != 0 {
            return Ok(None);
        }
        let mut ends = [0; Section::ALL.len()];
        let mut before = HEADER_BYTES;
        for end in &mut ends {
            *end = before.checked_add(reader.varint()?).ok_or(Broken("the length of a section"))?;
            before = *end;
        }
        let mut more = Vec::new();
        for _ in 0..reader.varint()? {
            let section = MoreSection { kind: reader.varint()?, bytes: reader.varint()? };
            before = before.checked_add(section.bytes).ok_or(Broken("the length of a section"))?;
            more.push(section);
        }
        // No section of that sort is known yet.
        if more.iter().any(|more| more.kind % 2 == 1) {
            return Ok(None);
        }
        let mut stemmings = Vec::new();
        for _ in 0..reader.varint()? {
            let name = str::from_utf8(reader.bytes()?).map_err(|_| Broken("the name of a stemming"))?;
            stemmings.push(name.to_owned());
        }
        let has_beginnings = features & BEGINNINGS != 0;
        let columns = Arc::new(TextColumns::get(widths.len(), has_beginnings.then_some(&mut *reader))?);
        let features = features & !BEGINNINGS;
        if before.checked_add(tail) != Some(bytes) || before.div_ceil(CHUNK) * 4 != reader.left() as u64 {
            return Err(Broken("the number of chunks"));
        }
        let mut checksums = Vec::with_capacity(reader.left() / 4);
        while !reader.is_empty() {
            checksums.push(reader.u32()?);
        }
        Ok(Some(Self {
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
        }))
    }
}
