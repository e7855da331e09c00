//! The query language: from what a person typed to a tree, and back. It knows nothing of shelves or schemas.
//!
//! | what a person types | what it means |
//! | --- | --- |
//! | `walnut box` | both words, in any order, in any searched column (a search may ask for fewer) |
//! | `"brass handle"` | these words next to each other |
//! | `title:oak`, `title,notes:"brass handle"` | in these columns only |
//! | `\"`, `\:` | a backslash takes the next character as it is |

mod parse;
mod tree;

pub use parse::Reading;
pub use tree::Query;
