//! The bytes of a shelf: one file for each of its sections, with what writes and what reads it, and for what sections share.

pub(super) mod bounds;
pub(super) mod directory;
pub(super) mod entries;
pub(super) mod exact;
pub(super) mod forms;
pub(super) mod grams;
pub(super) mod kept;
pub(super) mod keys;
pub(super) mod lengths;
pub(super) mod pack;
pub(super) mod positions;
pub(super) mod posting_block;
pub(super) mod shapes;
pub(super) mod sorted;
pub(super) mod terms;
pub(super) mod text_columns;
pub(super) mod values;
