//! What a user or a token may do.

use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;

/// A role; each may do what those before it may.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// Reads everything and changes only its own settings.
    Viewer,
    /// Works on alarms and incidents.
    Analyst,
    /// Manages users, configuration and agents.
    Administrator,
}

/// A role that does not exist.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("unknown role {0:?}: use viewer, analyst or administrator")]
pub struct UnknownRole(pub String);

impl FromStr for Role {
    type Err = UnknownRole;
    fn from_str(text: &str) -> Result<Self, Self::Err> {
        match text {
            "viewer" => Ok(Self::Viewer),
            "analyst" => Ok(Self::Analyst),
            "administrator" => Ok(Self::Administrator),
            other => Err(UnknownRole(other.to_owned())),
        }
    }
}

impl fmt::Display for Role {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Viewer => "viewer",
            Self::Analyst => "analyst",
            Self::Administrator => "administrator",
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn roles_are_ordered_and_read_as_they_are_written() {
        assert!(Role::Viewer < Role::Analyst && Role::Analyst < Role::Administrator);
        for role in [Role::Viewer, Role::Analyst, Role::Administrator] {
            assert_eq!(role.to_string().parse(), Ok(role));
        }
        assert!("root".parse::<Role>().is_err());
    }
}
