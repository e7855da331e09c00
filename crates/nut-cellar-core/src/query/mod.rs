//! The query language: from what a person typed to a tree, and back; and what its words may also stand for. It knows
//! nothing of shelves. `docs/query-language.md` tells it in full.
//!
//! | what a person types | what it means |
//! | --- | --- |
//! | `walnut box` | both words, in any order, in any searched column (a search may ask for fewer) |
//! | `"brass handle"`, `"brass handle" within 4` | next to each other; within four positions, in any order |
//! | `-rusty`, `NOT rusty` | without |
//! | `oak OR walnut`, `oak AND walnut`, `(oak OR walnut) box` | either, both, grouping |
//! | `+oak walnut` | oak for certain |
//! | `umbr*`, `*ella`, `u?brella`, `~umbrela` | beginning, ending, pattern; a typing mistake or two |
//! | `title:oak`, `title,notes:(oak OR elm)` | in these columns only |
//! | `found_on:2031-04`, `value:>=100`, `value:5..9` | values |
//! | `\-5`, `\"` | a backslash takes the next character as it is |

mod expansions;
mod lex;
mod misread;
mod parse;
mod print;
mod signs;
mod tree;

pub use expansions::Expansions;
pub(crate) use expansions::shared_forms;
pub use misread::Misread;
pub use parse::ReadQuery;
pub use tree::Query;
