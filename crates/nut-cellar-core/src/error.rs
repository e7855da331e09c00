//! The one error of the crate: a kind to decide by, and a sentence that says what to do.

use std::error::Error as StdError;
use std::fmt;

/// A result whose error is [`Error`].
pub type Result<T, E = Error> = std::result::Result<T, E>;

/// What went wrong, as far as a program would decide by it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum ErrorKind {
    /// A schema that can't be used: unreadable, contradictory, or not the one that is kept with the cellar.
    BadSchema,
    /// A record, key or value that the schema does not allow.
    BadRecord,
    /// A search that asks for something that is not there, or for a number out of range.
    BadRequest,
    /// Bytes that are not what was written: a checksum or an invariant of the layout does not hold.
    Damaged,
    /// There is no cellar at this place, or what is there is something else.
    NotACellar,
    /// A cellar that an older version of this program made, whose layout this one does not read. It is made anew from its source; in a
    /// database adopting or repairing it does that.
    MadeByOlder,
    /// A cellar that a newer version of this program made: only that one can read and write it.
    MadeByNewer,
    /// Somebody else published first; nothing was changed.
    Overtaken,
    /// Somebody else holds the lock; nothing was changed.
    Busy,
    /// The first fill of the cellar has not been published yet.
    NotFilled,
    /// What keeps the cellar in step with its table is gone or altered.
    OutOfStep,
    /// What is asked for would tell of rows that the asking role may not see.
    Withheld,
    /// The caller's stop function ended it.
    Stopped,
    /// The place itself (file system, database) refused.
    Place,
}

/// An error of Nut Cellar. Its `Display` is a sentence; its source, where there is one, is the cause.
#[derive(Debug)]
pub struct Error(Box<Inner>);

#[derive(Debug)]
struct Inner {
    kind: ErrorKind,
    message: String,
    source: Option<Box<dyn StdError + Send + Sync>>,
}

impl Error {
    /// An error of this kind; `message` is a sentence that says what was found and what to do.
    #[cold]
    pub fn new(kind: ErrorKind, message: impl Into<String>) -> Self {
        Self(Box::new(Inner { kind, message: message.into(), source: None }))
    }

    /// The same, with the error that caused it.
    #[cold]
    pub fn caused(
        kind: ErrorKind,
        message: impl Into<String>,
        source: impl Into<Box<dyn StdError + Send + Sync>>,
    ) -> Self {
        Self(Box::new(Inner { kind, message: message.into(), source: Some(source.into()) }))
    }

    /// The error of a place where somebody else published first.
    #[cold]
    pub fn overtaken() -> Self {
        Self::new(ErrorKind::Overtaken, "Somebody else published first; nothing was changed. Try again.")
    }

    /// The error of bytes that are not what was written; `what` says which.
    #[cold]
    pub fn damaged(what: impl fmt::Display) -> Self {
        Self::new(ErrorKind::Damaged, format!("The cellar is damaged: {what}. Rebuild it from its source."))
    }

    /// The same error with a few words in front that say where it happened.
    #[must_use]
    pub fn at(mut self, place: impl fmt::Display) -> Self {
        self.0.message = format!("{place}: {}", self.0.message);
        self
    }

    /// What went wrong, as far as a program would decide by it.
    pub fn kind(&self) -> ErrorKind {
        self.0.kind
    }

    /// Whether somebody else published first. Read again and try again.
    pub fn is_overtaken(&self) -> bool {
        self.kind() == ErrorKind::Overtaken
    }

    /// Whether bytes of the cellar are not what was written.
    pub fn is_damaged(&self) -> bool {
        self.kind() == ErrorKind::Damaged
    }

    /// Whether the cellar has to be made anew from its source, for it is damaged or of an older layout.
    pub fn needs_rebuild(&self) -> bool {
        matches!(self.kind(), ErrorKind::Damaged | ErrorKind::MadeByOlder)
    }

    /// Whether the search itself was wrong, so that the same call would fail again.
    pub fn is_bad_request(&self) -> bool {
        self.kind() == ErrorKind::BadRequest
    }

    /// Whether what is kept no longer belongs together, such as a handle that was opened before a table was adopted anew.
    pub fn is_out_of_step(&self) -> bool {
        self.kind() == ErrorKind::OutOfStep
    }

    /// Whether somebody else holds a lock that this call needed.
    pub fn is_busy(&self) -> bool {
        self.kind() == ErrorKind::Busy
    }
}

impl fmt::Display for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0.message)
    }
}

impl StdError for Error {
    fn source(&self) -> Option<&(dyn StdError + 'static)> {
        self.0.source.as_deref().map(|source| source as _)
    }
}
