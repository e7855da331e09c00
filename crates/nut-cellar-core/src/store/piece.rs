//! The identity of a piece.

use crate::error::{Error, ErrorKind, Result};
use std::fmt;
use std::str::FromStr;

/// What a shelf begins with, and what a mask does: all pieces.
pub const PIECE_LABELS: [[u8; 8]; 2] = [*b"NUTSHELF", *b"NUTMASK\0"];

/// Names a piece: 128 random bits, so that an id is never used twice, not even after a rollback.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct PieceId([u8; 16]);

impl PieceId {
    /// An id that nobody has had.
    ///
    /// # Errors
    /// [`ErrorKind::Place`] if the system has no randomness to give.
    pub fn fresh() -> Result<Self> {
        let mut bits = [0; 16];
        getrandom::fill(&mut bits).map_err(|error| {
            Error::caused(ErrorKind::Place, "The system gives no random bytes; try again later.", error)
        })?;
        Ok(Self(bits))
    }

    /// The id of these bits.
    pub(super) fn of(bits: [u8; 16]) -> Self {
        Self(bits)
    }

    /// The bits.
    pub fn as_bytes(&self) -> &[u8; 16] {
        &self.0
    }
}

/// As 32 hexadecimal digits.
impl fmt::Display for PieceId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|byte| write!(f, "{byte:02x}"))
    }
}

impl fmt::Debug for PieceId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "PieceId({self})")
    }
}

impl FromStr for PieceId {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        let wrong = || Error::damaged("a piece id is not 32 hexadecimal digits");
        if text.len() != 32 || !text.bytes().all(|byte| byte.is_ascii_hexdigit()) {
            return Err(wrong());
        }
        let number = u128::from_str_radix(text, 16).map_err(|_| wrong())?;
        let mut bits = number.to_le_bytes();
        bits.reverse();
        Ok(Self(bits))
    }
}
