//! Searching: a plan of what a query means for a schema, carried out on the shelves of a snapshot.
//!
//! A [`Search`] does no I/O. It runs over what is at hand and says which ranges it lacks; [`run`] fetches them from a
//! [`View`](crate::View) and goes on.
//!
//! | file | what it does |
//! | --- | --- |
//! | `find`, `found`, `attempts` | what is asked and answered; what is done when too little is found |
//! | `plan`, `bind` | what a query means for a schema |
//! | `families`, `prepare`, `thrift` | the terms of each word, from the dictionaries, and what they cost |
//! | `group`, `rows`, `together`, `value_test`, `bits`, `cursors` | what is open of a shelf: words, phrases, values |
//! | `walk`, `windows`, `one_shelf`, `top` | the ways through a shelf, and which is taken |
//! | `steps` | one search from beginning to end |
//! | `completing` | what the records that match have, of what begins so |

mod attempts;
mod bind;
mod compare;
mod completing;
mod cursors;
mod families;
mod filling;
mod find;
mod found;
mod group;
mod limits;
mod needs;
mod nodes;
mod one_shelf;
mod ordered;
pub(crate) mod plan;
mod prepare;
mod reading;
mod rows;
mod steps;
mod stream;
mod thrift;
mod tightness;
mod together;
mod top;
mod typed;
mod united;
mod value_test;
mod walk;
mod why;
mod windows;

pub use attempts::Attempt;
pub use compare::{Compared, Moved, compare};
pub(crate) use families::likeness;
pub use families::{BEGINNING_LIKENESS, FORM_LIKENESS, MOST_ALIKE, NEAR_LIKENESS};
#[cfg(feature = "measuring")]
pub use find::Executor;
pub use find::{Beginnings, Find, Order, Spellings, StopWhen, Total, Words};
pub use found::{DOCUMENT_VERSION, Found, Hit, Place};
pub use one_shelf::Went;
pub use plan::SYNONYM_LIKENESS;
pub use steps::{Progress, Report, ReportWord, Search, Stage, run};
pub use tightness::{Tightness, tightness};
pub use why::{ColumnPart, ProximityPart, Reason, Reckoning, TermPart, Why, WordPart, why};
