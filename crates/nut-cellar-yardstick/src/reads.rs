//! What opening a cellar and searching for one word read.

use bytes::Bytes;
use nut_cellar::store::Wanted;
use nut_cellar::text::Pattern;
use nut_cellar::{
    Cellar, Find, Folder, Manifest, Opened, Place, Query, Result, Search, Snapshot, View, search,
};
use serde::{Deserialize, Serialize};
use std::cell::Cell;
use std::path::Path;
use std::sync::Arc;
use std::time::Instant;

/// What was read.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
pub struct Reads {
    /// How long opening takes, warm, in milliseconds.
    pub open_ms: f64,
    /// Bytes that opening reads of the shelves, by all bytes of them.
    pub open_share: f64,
    /// Ranges that a search for a word that ten records have reads then, its ten hits with their values included; how many
    /// round trips these are, and how many bytes.
    pub ranges: usize,
    /// Round trips.
    pub trips: usize,
    /// Bytes.
    pub bytes: u64,
    /// Bytes, if the hits come without their values.
    pub bytes_bare: u64,
}

/// Counts what is read of a view.
struct Counted<V> {
    view: V,
    trips: Cell<usize>,
    ranges: Cell<usize>,
    bytes: Cell<u64>,
}

impl<V: View> View for Counted<V> {
    fn manifest(&self) -> Result<Option<Arc<Manifest>>> {
        self.view.manifest()
    }

    fn read(&self, wanted: &[Wanted]) -> Result<Vec<Bytes>> {
        self.trips.set(self.trips.get() + 1);
        self.ranges.set(self.ranges.get() + wanted.len());
        self.bytes
            .set(self.bytes.get() + wanted.iter().map(|(_, range)| range.end - range.start).sum::<u64>());
        self.view.read(wanted)
    }
}

/// Opens a cellar and searches in it. None if no word is in ten records.
///
/// # Errors
/// If it can't be read.
pub fn reads(path: &Path) -> Result<Option<Reads>> {
    const OPENINGS: usize = 5;
    let mut open_ms = f64::MAX;
    for _ in 0..OPENINGS {
        let started = Instant::now();
        let view = Cellar::open(Folder::at(path))?.place().view()?;
        std::hint::black_box(Snapshot::open(&view, &Opened::new())?.records());
        open_ms = open_ms.min(started.elapsed().as_secs_f64() * 1e3);
    }
    let cellar = Cellar::open(Folder::at(path))?;
    let terms = cellar.terms(&Pattern::new("*")?, usize::MAX)?.terms;
    let Some(word) = terms.iter().find(|term| term.records == 10) else { return Ok(None) };
    let counted = Counted {
        view: cellar.place().view()?,
        trips: Cell::default(),
        ranges: Cell::default(),
        bytes: Cell::default(),
    };
    let snapshot = Snapshot::open(&counted, &Opened::new())?;
    let all: u64 = snapshot.sizes().iter().map(|(_, bytes)| bytes).sum();
    let open_share = counted.bytes.get() as f64 / all as f64;
    let opened = (counted.ranges.get(), counted.trips.get(), counted.bytes.get());
    let query = Query::word(&word.term);
    search::run(&counted, &mut Search::new(snapshot.clone(), &query, &Find::new())?)?;
    let (ranges, trips) = (counted.ranges.get() - opened.0, counted.trips.get() - opened.1);
    let bytes = counted.bytes.get() - opened.2;
    let before = counted.bytes.get();
    search::run(&counted, &mut Search::new(snapshot, &query, &Find::new().without_values())?)?;
    let bytes_bare = counted.bytes.get() - before;
    Ok(Some(Reads { open_ms, open_share, ranges, trips, bytes, bytes_bare }))
}
