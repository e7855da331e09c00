//! Steps of a program's own: functions under names, which schemas may name.
//!
//! They are offered to the whole process, before a schema that names them is read, so that no schema is ever used without
//! a step that its terms were made with.

use crate::error::{Error, ErrorKind, Result};
use std::collections::BTreeMap;
use std::sync::{PoisonError, RwLock};

/// A step: changes a folded word in place. It has to give the same for the same word, always.
pub type OwnStep = fn(&mut String);

static OFFERED: RwLock<BTreeMap<String, OwnStep>> = RwLock::new(BTreeMap::new());

/// Offers a step under a name, for schemas to name in `steps`. It works on folded words, before stop words are told and
/// forms are found.
///
/// ```
/// use nut_cellar_core::text::{TextSettings, offer_step};
/// use nut_cellar_core::{Column, Schema};
///
/// # fn main() -> nut_cellar_core::Result<()> {
/// // Tags of the office are written with and without their letters.
/// offer_step("plain tag", |word| {
///     if let Some(rest) = word.strip_prefix("qlr").filter(|rest| !rest.is_empty()) {
///         *word = rest.to_owned();
///     }
/// })?;
/// let tags = TextSettings { steps: vec!["plain tag".into()], ..TextSettings::default() };
/// let recipe = nut_cellar_core::Recipe::of(&tags);
/// assert_eq!(recipe.trace("QLR0042")[0].term, "0042");
/// Schema::new("id").with("tag", Column::read_as(tags)).check()?;
/// # Ok(()) }
/// ```
///
/// # Errors
/// [`ErrorKind::BadRequest`] if another function was offered under that name before.
pub fn offer_step(name: impl Into<String>, step: OwnStep) -> Result<()> {
    let name = name.into();
    let mut offered = OFFERED.write().unwrap_or_else(PoisonError::into_inner);
    let known = *offered.entry(name.clone()).or_insert(step);
    if std::ptr::fn_addr_eq(known, step) {
        return Ok(());
    }
    Err(Error::new(
        ErrorKind::BadRequest,
        format!("Another step is offered as `{name}` already; choose another name."),
    ))
}

/// The step with this name, if it is offered.
pub(super) fn offered(name: &str) -> Option<OwnStep> {
    OFFERED.read().unwrap_or_else(PoisonError::into_inner).get(name).copied()
}
