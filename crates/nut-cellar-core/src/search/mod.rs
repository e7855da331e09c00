//! Searching: a plan of what a query means for a schema, carried out on the shelves of a snapshot.
//!
//! A [`Search`] does no I/O. It runs over what is at hand and says which ranges it lacks; [`run`](run()) fetches them from a
//! [`View`](crate::View) and goes on.
//!
//! | file | what it does |
//! | --- | --- |
//! | `find`, `found`, `attempts` | what is asked and answered; what is done when too little is found |
//! | `plan/` | what a query means for a schema, the terms of its words, what it may cost, and which strategy is taken |
//! | `run/` | what is open of a shelf, and one file for each strategy |
//! | `explain/` | why a record ranks where it does; two rankings side by side |
//! | `steps` | one search from beginning to end |
//! | `completing` | what the records that match have, of what begins so |

mod attempts;
mod completing;
mod counting;
mod explain;
mod find;
mod found;
pub(crate) mod plan;
mod run;
mod settings;
mod steps;

pub use attempts::Attempt;
pub use explain::compare::{Compared, Moved, compare};
pub use explain::report::{Report, ReportWord};
pub use explain::why::{ColumnPart, ProximityPart, Reason, Reckoning, TermPart, Why, WordPart, why};
pub use find::{Find, StopWhen};
pub use found::{DOCUMENT_VERSION, Found, Hit, PagePlace};
pub(crate) use plan::expand::likeness;
pub use plan::expand::{BEGINNING_LIKENESS, FORM_LIKENESS, MOST_ALIKE, NEAR_LIKENESS};
#[cfg(feature = "measuring")]
pub use plan::strategy::Strategy;
pub use plan::{PARTS_LIKENESS, SYNONYM_LIKENESS};
pub use run::Went;
pub use settings::{Beginnings, Order, Spellings, Total, Words};
pub use steps::{Progress, Search, Stage, run};
