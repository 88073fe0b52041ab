//! Names of single things on the command line.

use std::fmt;
use std::str::FromStr;
use uuid::Uuid;

/// A short number as lists show it, or an id as the API gives it. Both name the same thing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum NumberOrId {
    Number(i64),
    Id(Uuid),
}

impl FromStr for NumberOrId {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let id = || text.parse().map(Self::Id);
        text.parse()
            .map(Self::Number)
            .or_else(|_| id())
            .map_err(|_| "give a number as the list shows it, or an id".to_owned())
    }
}

impl fmt::Display for NumberOrId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Number(number) => number.fmt(f),
            Self::Id(id) => id.fmt(f),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_thing_is_named_by_its_number_or_its_id() {
        let id = "018f3c1e-7b1a-7cc3-98c4-dc0c0c07398f";
        for text in ["7", id] {
            let named: NumberOrId = text.parse().unwrap();
            assert_eq!(named.to_string(), text);
        }
        for text in ["", "seven", "7/close", "018f3c1e"] {
            assert!(text.parse::<NumberOrId>().is_err(), "{text}");
        }
    }
}
