//! What a program that listens with `tracing` is told, under the target `nut_cellar`.

use super::Synced;
use nut_cellar_core::{Found, Result};
use tracing::field::Empty;
use tracing::{Span, debug_span, info_span};

const TARGET: &str = "nut_cellar";

/// Around a search: how many records it found, and whether changed rows were laid over the shelves.
pub(crate) fn search(cellar: &str, work: impl FnOnce(&Span) -> Result<Found>) -> Result<Found> {
    let span = debug_span!(target: TARGET, "search", cellar, total = Empty, overlay = Empty, error = Empty);
    let _entered = span.clone().entered();
    let done = work(&span);
    match &done {
        Ok(found) => span.record("total", found.total),
        Err(error) => span.record("error", tracing::field::display(error)),
    };
    done
}

/// Around catching up, of whatever extent: how many rows were put, and how many records removed or replaced.
pub(crate) fn catch_up(cellar: &str, work: impl FnOnce() -> Result<Synced>) -> Result<Synced> {
    let span = info_span!(target: TARGET, "catch_up", cellar, put = Empty, removed = Empty, error = Empty);
    let _entered = span.clone().entered();
    let done = work();
    match &done {
        Ok(synced) => span.record("put", synced.put).record("removed", synced.removed),
        Err(error) => span.record("error", tracing::field::display(error)),
    };
    done
}
