//! A shelf that is searched: the ranges of it that were read, its lists of postings, walks through its dictionary, and what is kept of it in memory.

pub(super) mod cache;
pub(super) mod classes;
pub(super) mod dictionary_walk;
pub(super) mod digests;
pub(super) mod held;
pub(super) mod length_bytes;
pub(super) mod postings;
pub(super) mod reader;
pub(super) mod reading;
pub(super) mod table;
pub(super) mod unpacked;
