//! What makes no sense in a query, and where.

use crate::error::{Error, ErrorKind};
use std::fmt;
use std::ops::Range;

/// Something in a text that makes no sense, with where it stands. Its `Display` shows the line with carets under it.
///
/// ```
/// use nut_cellar_core::{Column, Query, Schema};
///
/// let schema = Schema::new("id").with("title", Column::text("en"));
/// let misread = Query::read_exactly("oak (box", &schema).unwrap_err();
/// assert_eq!(misread.range, 4..5);
/// assert_eq!(misread.to_string(), "A bracket is not closed.\n  oak (box\n      ^");
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Misread {
    /// Where it stands in the text, in bytes.
    pub range: Range<usize>,
    /// A sentence that says what is wrong.
    pub message: String,
    /// The text.
    pub text: String,
}

impl Misread {
    pub(crate) fn new(text: &str, range: Range<usize>, message: impl Into<String>) -> Self {
        Self { range, message: message.into(), text: text.to_owned() }
    }
}

impl fmt::Display for Misread {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let shown = |text: &str| text.replace(char::is_control, " ");
        let columns = |range: Range<usize>| self.text.get(range).map_or(0, |text| text.chars().count());
        let before = columns(0..self.range.start);
        let under = columns(self.range.clone()).max(1);
        write!(f, "{}\n  {}\n  {}{}", self.message, shown(&self.text), " ".repeat(before), "^".repeat(under))
    }
}

impl std::error::Error for Misread {}

impl From<Misread> for Error {
    fn from(misread: Misread) -> Self {
        Self::caused(ErrorKind::BadRequest, misread.to_string(), misread)
    }
}
