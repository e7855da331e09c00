//! The query language: from what a person typed to a tree, and back; and what its words may also stand for. It knows
//! nothing of shelves.
//!
//! | what a person types | what it means |
//! | --- | --- |
//! | `walnut box` | both words, in any order, in any searched column (a search may ask for fewer) |
//! | `"brass handle"` | these words next to each other |
//! | `title:oak`, `title,notes:"brass handle"` | in these columns only |
//! | `\"`, `\:` | a backslash takes the next character as it is |

mod expansions;
mod parse;
mod tree;

pub use expansions::Expansions;
pub(crate) use expansions::shared_forms;
pub use parse::Reading;
pub use tree::Query;
