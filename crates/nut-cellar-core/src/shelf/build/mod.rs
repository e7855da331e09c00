//! How a shelf comes about: tokens are logged in parts, sorted by term, and sealed front to back.

pub(super) mod arrivals;
pub(super) mod buckets;
pub(super) mod builder;
pub(super) mod classes;
pub(super) mod gathered;
pub(super) mod learned;
pub(super) mod log;
pub(super) mod output;
pub(super) mod part;
pub(super) mod posting_writer;
pub(super) mod sealing;
pub(super) mod threads;
pub(super) mod vocabulary;
