//! Why a record ranks where it does, and two rankings side by side.

pub(super) mod compare;
pub(super) mod why;
