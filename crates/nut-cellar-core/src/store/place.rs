//! What reading and writing a place mean, for whoever computes.

use super::manifest::{Generation, Manifest};
use super::piece::PieceId;
use crate::error::Result;
use bytes::Bytes;
use std::fmt;
use std::ops::Range;
use std::sync::Arc;

/// A range of bytes of a piece.
pub type Wanted = (PieceId, Range<u64>);

/// What one transaction, or one open folder, sees. It asks for neither `Send` nor `Sync` nor `'static`.
pub trait View {
    /// The state that counts, or none if nothing was ever published.
    ///
    /// # Errors
    /// If the place can't be read, or holds something else.
    fn manifest(&self) -> Result<Option<Arc<Manifest>>>;

    /// The bytes of all these ranges, in the same order, in one round trip. Each answer has the length of its range.
    ///
    /// # Errors
    /// If the place can't be read, a piece is not there, or it is shorter than a range asks.
    fn read(&self, wanted: &[Wanted]) -> Result<Vec<Bytes>>;

    /// A whole piece, where that costs nothing, as in memory or in a map: then no search has to ask for its parts. It stays
    /// as it is for as long as it is held. None where parts have to be read one by one, or there is no such piece.
    fn whole(&self, _piece: PieceId) -> Option<Bytes> {
        None
    }

    /// What was read of the pieces before, where the place keeps that: a search goes on with it, and asks for nothing that is there.
    fn near(&self) -> Option<Arc<dyn Near>> {
        None
    }
}

/// Ranges that were read before. Having one costs no more than a copy of it.
pub trait Near: fmt::Debug + Send + Sync {
    /// The bytes of a range, if all of them are there.
    fn get(&self, piece: PieceId, range: &Range<u64>) -> Option<Bytes>;
}

/// Writing inside a transaction that is already open. What was written becomes true when its owner commits.
pub trait Unit: View {
    /// Begins a piece under an id that was never used.
    ///
    /// # Errors
    /// If the place can't be written.
    fn write(&self, piece: PieceId) -> Result<Box<dyn PieceWriter + '_>>;

    /// Makes `next` the state that counts.
    ///
    /// # Errors
    /// [`Overtaken`](crate::ErrorKind::Overtaken), and nothing is changed, if the state that counts has not the
    /// generation `expected` (none: there is no state yet).
    fn swap(&mut self, expected: Option<Generation>, next: &Manifest) -> Result<()>;

    /// Says that no later state needs these pieces. They stay readable as long as somebody may still read an older one.
    ///
    /// # Errors
    /// If the place can't be written.
    fn remove(&mut self, pieces: &[PieceId]) -> Result<()>;
}

/// Takes the bytes of one piece, in order.
pub trait PieceWriter {
    /// Appends bytes.
    ///
    /// # Errors
    /// If the place can't be written; the piece is then useless.
    fn append(&mut self, bytes: &[u8]) -> Result<()>;

    /// Ends the piece. A writer that is dropped instead leaves nothing that counts.
    ///
    /// # Errors
    /// If the place can't be written; the piece is then useless.
    fn finish(self: Box<Self>) -> Result<()>;
}
