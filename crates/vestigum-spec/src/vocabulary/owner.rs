//! Whose progress it is.

use std::fmt;

use super::shown::shown;

/// Whose progress an image holds.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Owner {
    /// One player.
    Profile(String),
    /// The installation, shared by all its players.
    Device,
}

impl fmt::Display for Owner {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Owner::Profile(name) => write!(f, "profile `{}`", shown(name)),
            Owner::Device => f.write_str("the device"),
        }
    }
}
