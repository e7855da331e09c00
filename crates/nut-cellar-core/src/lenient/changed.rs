//! What is told of a word that stands for others.

use serde::{Deserialize, Serialize};
use std::fmt;

/// A word, or two side by side, that a [lenient](crate::Find::lenient) search took for others as well. Its `Display` is a sentence.
///
/// ```
/// use nut_cellar_core::lenient::{Changed, WhyChanged};
///
/// let to = vec!["walnut".to_owned()];
/// let changed = Changed { from: "wlanut".to_owned(), to, why: WhyChanged::NearlySo, records: 37 };
/// assert_eq!(changed.to_string(), "Hardly any record has `wlanut`; what is spelled nearly so counts: walnut.");
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Changed {
    /// What was typed.
    pub from: String,
    /// What it stands for, too, what most records have first.
    pub to: Vec<String>,
    /// Why.
    pub why: WhyChanged,
    /// How many records have what was typed or what it stands for.
    pub records: u64,
}

/// Why words stand for others.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[non_exhaustive]
pub enum WhyChanged {
    /// They are spelled nearly so.
    #[serde(rename = "nearly so")]
    NearlySo,
    /// Two words are written as one.
    #[serde(rename = "as one word")]
    AsOneWord,
    /// One word is written as two.
    #[serde(rename = "as two words")]
    AsTwoWords,
    /// It is a day, a month or a year of a column with days.
    #[serde(rename = "as a day")]
    AsADay,
}

impl fmt::Display for Changed {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let how = match self.why {
            WhyChanged::NearlySo => "what is spelled nearly so",
            WhyChanged::AsOneWord => "what is written as one word",
            WhyChanged::AsTwoWords => "what is written as two words",
            WhyChanged::AsADay => "a value",
        };
        write!(f, "Hardly any record has `{}`; {how} counts: {}.", self.from, self.to.join(", "))
    }
}
