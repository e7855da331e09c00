//! Why a record ranks where it does, two rankings side by side, and how a search went.

pub(super) mod compare;
pub(super) mod report;
pub(super) mod why;
