//! Made-up data for Nut Cellar (the demo's tables, and records of the same kind in any number), and measurements.

pub mod batches;
pub mod building;
pub mod completing;
pub mod correcting;
pub mod costs;
pub mod counting;
pub mod finding;
pub mod measure;
pub mod plot;
pub mod railway;
pub mod random;
pub mod reading;
pub mod reads;
pub mod records;
pub mod rows;
pub mod scans;
pub mod searching;
pub mod strangers;
pub mod waiting;
