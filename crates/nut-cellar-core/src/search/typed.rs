//! Settings as people type them, in a shell, in SQL or in a request: `any`, `60%`, `few`, `found_on:down`.

use super::find;
use crate::error::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize};
use std::str::FromStr;

/// Fewer records than a page are few.
const FEW: u64 = 10;

impl FromStr for find::Words {
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

/// `"all"`, `"any"`, `2`, `"60%"`, or exactly `{"share":0.6}`.
#[derive(Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(
    untagged,
    deny_unknown_fields,
    expecting = "\"all\", \"any\", a number from 1, a share such as \"60%\", or {\"share\":0.6}"
)]
pub(super) enum Words {
    Count(usize),
    Text(String),
    Share { share: f32 },
}

impl From<find::Words> for Words {
    fn from(words: find::Words) -> Self {
        match words {
            find::Words::All => Self::Text("all".to_owned()),
            find::Words::Any => Self::Text("any".to_owned()),
            find::Words::AtLeast(count) => Self::Count(count),
            find::Words::Share(share) => Self::Share { share },
        }
    }
}

impl TryFrom<Words> for find::Words {
    type Error = Error;

    fn try_from(words: Words) -> Result<Self> {
        match words {
            Words::Text(text) => text.parse(),
            Words::Count(count) => Ok(Self::AtLeast(count)),
            Words::Share { share } => Ok(Self::Share(share)),
        }
    }
}

impl FromStr for find::Beginnings {
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

impl FromStr for find::Spellings {
    type Err = Error;

    /// Reads `never`, `few` (where fewer than ten records are found) or `always`.
    fn from_str(text: &str) -> Result<Self> {
        match text {
            "never" => Ok(Self::AsTyped),
            "few" => Ok(Self::WhenFewerThan(FEW)),
            "always" => Ok(Self::Near),
            _ => Err(wrong(text, "`never`, `few` or `always`")),
        }
    }
}

/// `"never"`, `"few"`, `"always"`, or `{"below":25}`: where fewer records are found.
#[derive(Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(untagged, deny_unknown_fields, expecting = "\"never\", \"few\", \"always\", or {\"below\":25}")]
pub(super) enum Spellings {
    Text(String),
    Below { below: u64 },
}

impl From<find::Spellings> for Spellings {
    fn from(spellings: find::Spellings) -> Self {
        match spellings {
            find::Spellings::AsTyped => Self::Text("never".to_owned()),
            find::Spellings::WhenFewerThan(FEW) => Self::Text("few".to_owned()),
            find::Spellings::WhenFewerThan(below) => Self::Below { below },
            find::Spellings::Near => Self::Text("always".to_owned()),
        }
    }
}

impl TryFrom<Spellings> for find::Spellings {
    type Error = Error;

    fn try_from(spellings: Spellings) -> Result<Self> {
        match spellings {
            Spellings::Text(text) => text.parse(),
            Spellings::Below { below } => Ok(Self::WhenFewerThan(below)),
        }
    }
}

impl FromStr for find::Order {
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

/// `"found_on"`, `"found_on:down"`, or `{"by":"score"}` and `{"by":"key"}`, which are no columns.
#[derive(Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(
    untagged,
    deny_unknown_fields,
    expecting = "a column such as \"found_on\" or \"found_on:down\", or {\"by\":\"score\"} or {\"by\":\"key\"}"
)]
pub(super) enum Order {
    Column(String),
    Other { by: By },
}

#[derive(Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
pub(super) enum By {
    Score,
    Key,
}

impl From<find::Order> for Order {
    fn from(order: find::Order) -> Self {
        match order {
            find::Order::Score => Self::Other { by: By::Score },
            find::Order::Key => Self::Other { by: By::Key },
            find::Order::Column { name, down: true } => Self::Column(format!("{name}:down")),
            find::Order::Column { name, .. } if name.contains(':') => Self::Column(format!("{name}:up")),
            find::Order::Column { name, .. } => Self::Column(name),
        }
    }
}

impl TryFrom<Order> for find::Order {
    type Error = Error;

    fn try_from(order: Order) -> Result<Self> {
        match order {
            Order::Column(text) => text.parse(),
            Order::Other { by: By::Score } => Ok(Self::Score),
            Order::Other { by: By::Key } => Ok(Self::Key),
        }
    }
}

#[cold]
fn wrong(text: &str, right: &str) -> Error {
    Error::new(ErrorKind::BadRequest, format!("`{text}` can't be used; use {right}."))
}

#[cfg(test)]
mod tests {
    use super::super::find::{Order, Spellings, Words};
    use super::FEW;

    #[test]
    fn what_is_typed_is_read() {
        assert_eq!("all".parse::<Words>().unwrap(), Words::All);
        assert_eq!("2".parse::<Words>().unwrap(), Words::AtLeast(2));
        assert_eq!("60%".parse::<Words>().unwrap(), Words::Share(0.6));
        assert_eq!("few".parse::<Spellings>().unwrap(), Spellings::WhenFewerThan(FEW));
        let down = Order::Column { name: "found_on".to_owned(), down: true };
        assert_eq!("found_on:down".parse::<Order>().unwrap(), down);
        for wrong in ["0", "", "160%", "some"] {
            assert!(wrong.parse::<Words>().unwrap_err().is_bad_request(), "{wrong}");
        }
        assert!("sometimes".parse::<Spellings>().unwrap_err().to_string().contains("`few`"));
        assert!("found_on:left".parse::<Order>().is_err());
    }
}
