//! What people and build servers look at, of a game whose progress `vestigum` keeps.
//!
//! | module | what comes out |
//! |---|---|
//! | [`level_map`] | the levels and what opens which, as text, SVG, DOT and Mermaid |

pub mod level_map;
