//! Changed rows, as they were laid over the shelves for a search, kept for the next one.
//!
//! What always holds: an overlay is used only where the database says that state and log are those it was made of.

use super::spool::{Contents, Held};
use bytes::Bytes;
use nut_cellar_core::search::Report;
use nut_cellar_core::store::{Near, Wanted};
use nut_cellar_core::{Error, Manifest, Note, PieceId, Result, View};
use std::collections::HashMap;
use std::fmt;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// An overlay of more parts is made anew.
const MOST_PARTS: usize = 8;
/// So many overlays are remembered.
const MOST_REMEMBERED: usize = 4;
/// With more changed rows than these, searches say that they would be faster without.
const MANY_ROWS: u64 = 10_000;

/// What was laid over the shelves.
#[derive(Default)]
pub(crate) struct Overlay {
    pieces: HashMap<PieceId, Held>,
    /// The shelves with what lies over them; none if the changes come to nothing.
    manifest: Option<Arc<Manifest>>,
    parts: usize,
    rows: u64,
}

impl Overlay {
    /// What a batch wrote, over an overlay that it was made on.
    pub fn over(below: Option<&Self>, contents: Contents, rows: u64) -> Self {
        let mut overlay = match below {
            None => Self::default(),
            Some(Self { pieces, manifest, parts, rows }) => {
                Self { pieces: pieces.clone(), manifest: manifest.clone(), parts: *parts, rows: *rows }
            }
        };
        let (pieces, manifest) = contents.into_parts();
        overlay.pieces.extend(pieces);
        overlay.manifest = manifest.or(overlay.manifest);
        overlay.parts += 1;
        overlay.rows += rows;
        overlay
    }

    /// Whether more may be put over it.
    pub fn may_grow(&self) -> bool {
        self.parts < MOST_PARTS
    }

    /// Says, if so many rows lie over the shelves that searches suffer.
    fn note(&self) -> Option<Note> {
        (self.rows > MANY_ROWS).then_some(Note::RowsPending { rows: self.rows })
    }
}

/// Shelves with an overlay, if there is one.
pub(crate) struct Laid<'v> {
    base: &'v dyn View,
    overlay: Option<Arc<Overlay>>,
}

impl<'v> Laid<'v> {
    pub fn new(base: &'v dyn View, overlay: Option<Arc<Overlay>>) -> Self {
        Self { base, overlay }
    }

    /// Whether changed rows lie over the shelves.
    pub fn is_overlay(&self) -> bool {
        self.overlay.is_some()
    }

    /// Tells which shelves of a report are of changed rows.
    pub fn tell(&self, report: &mut Report) {
        let held = |piece| self.overlay.as_ref().is_some_and(|overlay| overlay.pieces.contains_key(&piece));
        for went in &mut report.shelves {
            went.overlay = went.piece.is_some_and(held);
        }
    }

    /// What searches should say.
    pub fn note(&self) -> Option<Note> {
        self.overlay.as_ref()?.note()
    }
}

impl View for Laid<'_> {
    fn manifest(&self) -> Result<Option<Arc<Manifest>>> {
        match self.overlay.as_ref().and_then(|overlay| overlay.manifest.as_ref()) {
            Some(manifest) => Ok(Some(Arc::clone(manifest))),
            None => self.base.manifest(),
        }
    }

    fn read(&self, wanted: &[Wanted]) -> Result<Vec<Bytes>> {
        let Some(overlay) = &self.overlay else { return self.base.read(wanted) };
        let (mut elsewhere, mut places) = (Vec::new(), Vec::new());
        let mut answers = vec![Bytes::new(); wanted.len()];
        for (place, (piece, range)) in wanted.iter().enumerate() {
            if let Some(held) = overlay.pieces.get(piece) {
                answers[place] = held.read(*piece, range.start, range.end)?;
            } else {
                elsewhere.push((*piece, range.clone()));
                places.push(place);
            }
        }
        if !elsewhere.is_empty() {
            let read = self.base.read(&elsewhere)?;
            if read.len() != places.len() {
                return Err(Error::damaged("a place answered too few ranges"));
            }
            for (place, bytes) in places.into_iter().zip(read) {
                answers[place] = bytes;
            }
        }
        Ok(answers)
    }

    fn near(&self) -> Option<Arc<dyn Near>> {
        self.base.near()
    }

    fn whole(&self, piece: PieceId) -> Option<Bytes> {
        match self.overlay.as_ref().and_then(|overlay| overlay.pieces.get(&piece)) {
            Some(held) => held.whole(),
            None => self.base.whole(piece),
        }
    }
}

/// The overlays that were used last, with what tells the state and the log that each was made of: a transaction that goes on sees others
/// than those that begin after it.
pub(crate) struct Remembered<K>(Mutex<Vec<(K, Arc<Overlay>)>>);

impl<K: Clone + PartialEq> Remembered<K> {
    pub fn new() -> Self {
        Self(Mutex::new(Vec::with_capacity(MOST_REMEMBERED)))
    }

    fn lock(&self) -> MutexGuard<'_, Vec<(K, Arc<Overlay>)>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// All of them, the one that was used last first.
    pub fn all(&self) -> Vec<(K, Arc<Overlay>)> {
        self.lock().clone()
    }

    /// The one that was made of this, which is used now.
    pub fn get(&self, of: &K) -> Option<Arc<Overlay>> {
        let mut overlays = self.lock();
        let place = overlays.iter().position(|(known, _)| known == of)?;
        overlays[..=place].rotate_right(1);
        overlays.first().map(|(_, overlay)| Arc::clone(overlay))
    }

    /// Remembers one that is used now, and forgets the one that was not used for longest if there are too many.
    pub fn put(&self, of: K, overlay: &Arc<Overlay>) {
        let mut overlays = self.lock();
        overlays.retain(|(known, _)| *known != of);
        overlays.truncate(MOST_REMEMBERED - 1);
        overlays.insert(0, (of, Arc::clone(overlay)));
    }
}

impl<K> fmt::Debug for Remembered<K> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Remembered")
    }
}
