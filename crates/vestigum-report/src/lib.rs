//! What people and build servers look at, of a game whose progress `vestigum` keeps.
//!
//! | module | what comes out |
//! |---|---|
//! | [`page`] | one HTML page with everything that is known of a spec |
//! | [`level_map`] | the levels and what opens which, as text, SVG, DOT and Mermaid |
//! | [`sarif`] | findings for forges |
//! | [`junit`] | playthroughs and answers for build servers |

pub mod junit;
pub mod level_map;
pub mod page;
pub mod sarif;

/// An input that a command could not use.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unusable {
    /// The name of the file where it is known, or the reason.
    pub name: String,
    /// The reason, with the findings if there are any.
    pub why: String,
}
