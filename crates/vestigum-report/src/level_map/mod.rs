//! The map of a game's levels: which opens which, under what condition, what can never be reached, and where a player stands.
//!
//! [`LevelMap`] is the graph. It is drawn as text for a terminal ([`LevelMap::as_text`]), as a picture ([`LevelMap::as_svg`]), and for tools that
//! lay out graphs themselves ([`LevelMap::as_dot`], [`LevelMap::as_mermaid`]).

mod canvas;
mod dot;
mod graph;
mod layout;
mod lines;
mod mermaid;
mod svg;
mod text;
mod wording;

pub use graph::{LevelMap, MapLevel, PlayerLevel, Standing, Way, WayKind};
pub use text::Ink;
