//! A place in memory.

use super::manifest::{Generation, Manifest};
use super::piece::PieceId;
use super::place::{PieceWriter, Unit, View, Wanted};
use crate::error::{Error, Result};
use bytes::Bytes;
use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::{Arc, Condvar, Mutex, PoisonError, RwLock};

/// A place in memory. Clones share it; each [`Unit`] works on the state at its beginning and counts when it is
/// committed.
#[derive(Clone, Debug, Default)]
pub struct Memory {
    current: Arc<RwLock<Arc<State>>>,
    writing: Arc<Mutex<()>>,
    turns: Arc<Turns>,
}

/// Lets one writer at a time have its turn.
#[derive(Debug, Default)]
struct Turns {
    taken: Mutex<bool>,
    free: Condvar,
}

/// The turn of one writer, until it is dropped.
#[derive(Debug)]
struct Turn(Arc<Turns>);

impl Turn {
    fn take(turns: &Arc<Turns>) -> Self {
        let taken = turns.taken.lock().unwrap_or_else(PoisonError::into_inner);
        *turns.free.wait_while(taken, |taken| *taken).unwrap_or_else(PoisonError::into_inner) = true;
        Self(Arc::clone(turns))
    }
}

impl Drop for Turn {
    fn drop(&mut self) {
        *self.0.taken.lock().unwrap_or_else(PoisonError::into_inner) = false;
        self.0.free.notify_one();
    }
}

#[derive(Clone, Debug, Default)]
struct State {
    manifest: Option<Arc<Manifest>>,
    pieces: HashMap<PieceId, Bytes>,
}

/// One state of a [`Memory`], which stays as it is.
#[derive(Clone, Debug)]
pub struct MemoryView(Arc<State>);

/// A transaction on a [`Memory`]. Dropped without [`commit`](MemoryUnit::commit), it leaves nothing.
#[derive(Debug)]
pub struct MemoryUnit {
    place: Memory,
    begun: Option<Generation>,
    state: State,
    /// Pieces that were written in this transaction.
    fresh: RefCell<HashMap<PieceId, Bytes>>,
    _turn: Option<Turn>,
}

impl Memory {
    /// An empty place.
    pub fn new() -> Self {
        Self::default()
    }

    /// The present state.
    pub fn view(&self) -> MemoryView {
        MemoryView(Arc::clone(&self.current.read().unwrap_or_else(PoisonError::into_inner)))
    }

    /// Begins a transaction. It is overtaken if another one is committed before it is.
    pub fn unit(&self) -> MemoryUnit {
        self.begin(None)
    }

    /// Begins a transaction when all others that were begun by this call have ended: so none of them overtakes it.
    pub fn unit_in_turn(&self) -> MemoryUnit {
        let turn = Turn::take(&self.turns);
        self.begin(Some(turn))
    }

    fn begin(&self, turn: Option<Turn>) -> MemoryUnit {
        let state = State::clone(&self.view().0);
        let begun = state.manifest.as_ref().map(|manifest| manifest.generation);
        MemoryUnit { place: self.clone(), begun, state, fresh: RefCell::default(), _turn: turn }
    }
}

impl MemoryUnit {
    /// Makes the transaction the present state.
    ///
    /// # Errors
    /// [`Overtaken`](crate::ErrorKind::Overtaken), and nothing is changed, if another transaction was committed since this one began.
    pub fn commit(mut self) -> Result<()> {
        self.state.pieces.extend(self.fresh.take());
        let _writing = self.place.writing.lock().unwrap_or_else(PoisonError::into_inner);
        check_generation(self.place.view().0.manifest.as_deref(), self.begun)?;
        *self.place.current.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(self.state);
        Ok(())
    }
}

/// The bytes of ranges of pieces that `find` knows.
fn read(wanted: &[Wanted], find: impl Fn(PieceId) -> Option<Bytes>) -> Result<Vec<Bytes>> {
    let slice = |(piece, range): &Wanted| {
        let bytes = find(*piece)?;
        let (start, end) = (usize::try_from(range.start).ok()?, usize::try_from(range.end).ok()?);
        (start <= end && end <= bytes.len()).then(|| bytes.slice(start..end))
    };
    wanted
        .iter()
        .map(|range| {
            slice(range).ok_or_else(|| Error::damaged(format_args!("piece {} is not whole", range.0)))
        })
        .collect()
}

impl View for MemoryView {
    fn manifest(&self) -> Result<Option<Arc<Manifest>>> {
        Ok(self.0.manifest.clone())
    }

    fn read(&self, wanted: &[Wanted]) -> Result<Vec<Bytes>> {
        read(wanted, |piece| self.0.pieces.get(&piece).cloned())
    }

    fn whole(&self, piece: PieceId) -> Option<Bytes> {
        self.0.pieces.get(&piece).cloned()
    }
}

impl View for MemoryUnit {
    fn manifest(&self) -> Result<Option<Arc<Manifest>>> {
        Ok(self.state.manifest.clone())
    }

    fn read(&self, wanted: &[Wanted]) -> Result<Vec<Bytes>> {
        let fresh = self.fresh.borrow();
        read(wanted, |piece| self.state.pieces.get(&piece).or_else(|| fresh.get(&piece)).cloned())
    }
}

impl Unit for MemoryUnit {
    fn write(&self, piece: PieceId) -> Result<Box<dyn PieceWriter + '_>> {
        Ok(Box::new(MemoryWriter { piece, bytes: Vec::new(), pieces: &self.fresh }))
    }

    fn swap(&mut self, expected: Option<Generation>, next: &Manifest) -> Result<()> {
        check_generation(self.state.manifest.as_deref(), expected)?;
        self.state.manifest = Some(Arc::new(next.clone()));
        Ok(())
    }

    fn remove(&mut self, pieces: &[PieceId]) -> Result<()> {
        for piece in pieces {
            self.state.pieces.remove(piece);
            self.fresh.get_mut().remove(piece);
        }
        Ok(())
    }
}

fn check_generation(manifest: Option<&Manifest>, expected: Option<Generation>) -> Result<()> {
    if manifest.map(|manifest| manifest.generation) == expected {
        return Ok(());
    }
    Err(Error::overtaken())
}

struct MemoryWriter<'a> {
    piece: PieceId,
    bytes: Vec<u8>,
    pieces: &'a RefCell<HashMap<PieceId, Bytes>>,
}

impl PieceWriter for MemoryWriter<'_> {
    fn append(&mut self, bytes: &[u8]) -> Result<()> {
        self.bytes.extend_from_slice(bytes);
        Ok(())
    }

    fn finish(self: Box<Self>) -> Result<()> {
        self.pieces.borrow_mut().insert(self.piece, Bytes::from(self.bytes));
        Ok(())
    }
}
