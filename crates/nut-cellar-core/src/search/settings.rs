//! What a search may ask for that is more than a number, as a program says it, and as people type it, in a shell, in SQL or in a request:
//! `any`, `60%`, `few`, `found_on:down`.

use crate::error::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize};
use std::str::FromStr;

/// How many of a query's words a record must have. A phrase, a group in brackets or a word in columns of its own counts
/// as one; in brackets that are inside others all are needed, unless any will do.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(try_from = "written::Words", into = "written::Words")]
#[non_exhaustive]
pub enum Words {
    /// All of them.
    #[default]
    All,
    /// At least one.
    Any,
    /// At least this many, or all where there are fewer.
    AtLeast(usize),
    /// At least this share of them, from 0 to 1, rounded up; one at least.
    Share(f32),
}

/// When words may also stand for others that are spelled nearly so.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(try_from = "written::Spellings", into = "written::Spellings")]
#[non_exhaustive]
pub enum Spellings {
    /// Where the query says so.
    #[default]
    AsTyped,
    /// Where fewer records are found without than this.
    WhenFewerThan(u64),
    /// Always.
    Near,
}

/// Which words may also stand for all that begin so; for searching while somebody types.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Beginnings {
    /// None.
    #[default]
    None,
    /// The last one, unless it is excluded or stands in quotation marks; where it is typed before as well, with `~` or without, there, too.
    Last,
    /// All of them.
    All,
}

/// How exactly the matches are counted.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Total {
    /// All of them.
    #[default]
    Exact,
    /// As long as there are fewer than this; then it is enough to know that.
    AtLeast(u64),
}

/// In which order hits are given.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(try_from = "written::Order", into = "written::Order")]
#[non_exhaustive]
pub enum Order {
    /// The best score first; equal scores by ascending key.
    #[default]
    Score,
    /// By the values of a column, down or up; then by score, then by key. Records without a value come last. Of several
    /// values of a record the one counts that brings it furthest to the front.
    Column {
        /// The column, of a kind that is compared.
        name: String,
        /// Whether the greatest value comes first.
        down: bool,
    },
    /// By ascending key; nothing is scored.
    Key,
}

/// Fewer records than a page are few.
const FEW_RECORDS: u64 = 10;

impl FromStr for Words {
    type Err = Error;

    /// Reads `all`, `any`, a number such as `2`, or a share such as `60%`.
    fn from_str(text: &str) -> Result<Self> {
        let share = |text: &str| text.parse().ok().filter(|share: &f32| (0.0..=100.0).contains(share));
        match text {
            "all" => Ok(Self::All),
            "any" => Ok(Self::Any),
            _ => match (text.parse(), text.strip_suffix('%').and_then(share)) {
                (Ok(count), _) if count > 0 => Ok(Self::AtLeast(count)),
                (_, Some(percent)) => Ok(Self::Share(percent / 100.0)),
                _ => Err(wrong(text, "`all`, `any`, a number from 1, or a share such as `60%`")),
            },
        }
    }
}

impl FromStr for Beginnings {
    type Err = Error;

    /// Reads `none`, `last` or `all`.
    fn from_str(text: &str) -> Result<Self> {
        match text {
            "none" => Ok(Self::None),
            "last" => Ok(Self::Last),
            "all" => Ok(Self::All),
            _ => Err(wrong(text, "`none`, `last` or `all`")),
        }
    }
}

impl FromStr for Spellings {
    type Err = Error;

    /// Reads `never`, `few` (where fewer than ten records are found) or `always`.
    fn from_str(text: &str) -> Result<Self> {
        match text {
            "never" => Ok(Self::AsTyped),
            "few" => Ok(Self::WhenFewerThan(FEW_RECORDS)),
            "always" => Ok(Self::Near),
            _ => Err(wrong(text, "`never`, `few` or `always`")),
        }
    }
}

impl FromStr for Order {
    type Err = Error;

    /// Reads the name of a column, and `:down` or `:up` behind it.
    fn from_str(text: &str) -> Result<Self> {
        let (name, down) = match text.rsplit_once(':') {
            Some((name, "down")) => (name, true),
            Some((name, "up")) => (name, false),
            Some(_) => return Err(wrong(text, "a column, and behind it `:up` or `:down`")),
            None => (text, false),
        };
        Ok(Self::Column { name: name.to_owned(), down })
    }
}

#[cold]
fn wrong(text: &str, right: &str) -> Error {
    Error::new(ErrorKind::BadRequest, format!("`{text}` can't be used; use {right}."))
}

/// The same as documents.
mod written {
    use crate::error::{Error, Result};
    use crate::search::settings::{self, FEW_RECORDS};
    use serde::{Deserialize, Serialize};

    /// `"all"`, `"any"`, `2`, `"60%"`, or exactly `{"share":0.6}`.
    #[derive(Serialize, Deserialize)]
    #[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
    #[serde(
        untagged,
        deny_unknown_fields,
        expecting = "\"all\", \"any\", a number from 1, a share such as \"60%\", or {\"share\":0.6}"
    )]
    pub enum Words {
        Count(usize),
        Text(String),
        Share { share: f32 },
    }

    impl From<settings::Words> for Words {
        fn from(words: settings::Words) -> Self {
            match words {
                settings::Words::All => Self::Text("all".to_owned()),
                settings::Words::Any => Self::Text("any".to_owned()),
                settings::Words::AtLeast(count) => Self::Count(count),
                settings::Words::Share(share) => Self::Share { share },
            }
        }
    }

    impl TryFrom<Words> for settings::Words {
        type Error = Error;

        fn try_from(words: Words) -> Result<Self> {
            match words {
                Words::Text(text) => text.parse(),
                Words::Count(count) => Ok(Self::AtLeast(count)),
                Words::Share { share } => Ok(Self::Share(share)),
            }
        }
    }

    /// `"never"`, `"few"`, `"always"`, or `{"below":25}`: where fewer records are found.
    #[derive(Serialize, Deserialize)]
    #[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
    #[serde(untagged, deny_unknown_fields, expecting = "\"never\", \"few\", \"always\", or {\"below\":25}")]
    pub enum Spellings {
        Text(String),
        Below { below: u64 },
    }

    impl From<settings::Spellings> for Spellings {
        fn from(spellings: settings::Spellings) -> Self {
            match spellings {
                settings::Spellings::AsTyped => Self::Text("never".to_owned()),
                settings::Spellings::WhenFewerThan(FEW_RECORDS) => Self::Text("few".to_owned()),
                settings::Spellings::WhenFewerThan(below) => Self::Below { below },
                settings::Spellings::Near => Self::Text("always".to_owned()),
            }
        }
    }

    impl TryFrom<Spellings> for settings::Spellings {
        type Error = Error;

        fn try_from(spellings: Spellings) -> Result<Self> {
            match spellings {
                Spellings::Text(text) => text.parse(),
                Spellings::Below { below } => Ok(Self::WhenFewerThan(below)),
            }
        }
    }

    /// `"found_on"`, `"found_on:down"`, or `{"by":"score"}` and `{"by":"key"}`, which are no columns.
    #[derive(Serialize, Deserialize)]
    #[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
    #[serde(
        untagged,
        deny_unknown_fields,
        expecting = "a column such as \"found_on\" or \"found_on:down\", or {\"by\":\"score\"} or {\"by\":\"key\"}"
    )]
    pub enum Order {
        Column(String),
        Other { by: By },
    }

    #[derive(Serialize, Deserialize)]
    #[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
    #[serde(rename_all = "snake_case")]
    pub enum By {
        Score,
        Key,
    }

    impl From<settings::Order> for Order {
        fn from(order: settings::Order) -> Self {
            match order {
                settings::Order::Score => Self::Other { by: By::Score },
                settings::Order::Key => Self::Other { by: By::Key },
                settings::Order::Column { name, down: true } => Self::Column(format!("{name}:down")),
                settings::Order::Column { name, .. } if name.contains(':') => {
                    Self::Column(format!("{name}:up"))
                }
                settings::Order::Column { name, .. } => Self::Column(name),
            }
        }
    }

    impl TryFrom<Order> for settings::Order {
        type Error = Error;

        fn try_from(order: Order) -> Result<Self> {
            match order {
                Order::Column(text) => text.parse(),
                Order::Other { by: By::Score } => Ok(Self::Score),
                Order::Other { by: By::Key } => Ok(Self::Key),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_typed_is_read() {
        assert_eq!("all".parse::<Words>().unwrap(), Words::All);
        assert_eq!("2".parse::<Words>().unwrap(), Words::AtLeast(2));
        assert_eq!("60%".parse::<Words>().unwrap(), Words::Share(0.6));
        assert_eq!("few".parse::<Spellings>().unwrap(), Spellings::WhenFewerThan(FEW_RECORDS));
        let down = Order::Column { name: "found_on".to_owned(), down: true };
        assert_eq!("found_on:down".parse::<Order>().unwrap(), down);
        for wrong in ["0", "", "160%", "some"] {
            assert!(wrong.parse::<Words>().unwrap_err().is_bad_request(), "{wrong}");
        }
        assert!("sometimes".parse::<Spellings>().unwrap_err().to_string().contains("`few`"));
        assert!("found_on:left".parse::<Order>().is_err());
    }
}
