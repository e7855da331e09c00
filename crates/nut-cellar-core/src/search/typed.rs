//! Settings as people type them, in a shell or in SQL: `any`, `60%`, `few`, `found_on:down`.

use super::find::{Order, Spellings, Words};
use crate::error::{Error, ErrorKind, Result};
use std::str::FromStr;

/// Fewer records than a page are few.
const FEW: u64 = 10;

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

impl FromStr for Spellings {
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

#[cfg(test)]
mod tests {
    use super::*;

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
