//! What somebody types into one box: only the latest text counts.
//!
//! What always holds: once a text has been told, nothing that was asked for an earlier one is given any more, whichever thread or task
//! asked, and however late its answer comes; and its search ends at its next question whether to stop.

use crate::search::Find;
use std::fmt;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// One box that somebody types into. Clones are the same box.
///
/// ```
/// use nut_cellar_core::Find;
/// use nut_cellar_core::lenient::Typing;
///
/// let typing = Typing::new();
/// let first = typing.next();
/// let find = first.stopping(Find::new());
/// let second = typing.next();
/// assert!(first.is_overtaken() && !second.is_overtaken());
/// // A search with `find` ends now, and what it found is dropped.
/// assert_eq!(first.latest(Ok::<_, ()>("what was found")), Ok(None));
/// assert_eq!(second.latest(Ok::<_, ()>("what was found")), Ok(Some("what was found")));
/// ```
#[derive(Clone, Debug, Default)]
pub struct Typing {
    latest: Arc<AtomicU64>,
}

/// One state of what is typed.
#[derive(Clone)]
pub struct Typed {
    latest: Arc<AtomicU64>,
    number: u64,
    overtaken: Option<Arc<dyn Fn() -> bool + Send + Sync>>,
}

impl fmt::Debug for Typed {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Typed").field("number", &self.number).finish_non_exhaustive()
    }
}

impl Typing {
    /// A box into which nothing was typed yet.
    pub fn new() -> Self {
        Self::default()
    }

    /// The next state: whatever was asked for others is overtaken.
    pub fn next(&self) -> Typed {
        self.typed(self.latest.fetch_add(1, Ordering::SeqCst) + 1)
    }

    /// The state of this number, for texts that come from elsewhere in any order, each with a number that is greater than those before:
    /// overtaken at once where a later one was told already.
    pub fn numbered(&self, number: u64) -> Typed {
        self.latest.fetch_max(number, Ordering::SeqCst);
        self.typed(number)
    }

    fn typed(&self, number: u64) -> Typed {
        Typed { latest: Arc::clone(&self.latest), number, overtaken: None }
    }
}

impl Typed {
    /// The same, overtaken too when this says so: for a program of one thread, that something waits to be read from the keyboard.
    #[must_use]
    pub fn or_when(mut self, overtaken: impl Fn() -> bool + Send + Sync + 'static) -> Self {
        self.overtaken = Some(Arc::new(overtaken));
        self
    }

    /// Whether something else was typed since.
    pub fn is_overtaken(&self) -> bool {
        self.latest.load(Ordering::SeqCst) > self.number || self.overtaken.as_ref().is_some_and(|is| is())
    }

    /// The same search, which ends once this is overtaken.
    #[must_use]
    pub fn stopping(&self, find: Find) -> Find {
        let this = self.clone();
        find.or_stop_when(move || this.is_overtaken())
    }

    /// An answer, unless it is overtaken.
    ///
    /// # Errors
    /// That of the answer; none if it is overtaken.
    pub fn latest<T, E>(&self, answer: Result<T, E>) -> Result<Option<T>, E> {
        if self.is_overtaken() { Ok(None) } else { answer.map(Some) }
    }
}
