//! Made-up data for Nut Cellar: the demo's tables, and records of the same kind in any number.

pub mod railway;
pub mod random;
pub mod records;
