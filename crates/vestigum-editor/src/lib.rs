//! Vestigum in editors.
//!
//! | module | what it is |
//! |---|---|
//! | [`keys`] | every table and key of a spec, with what stands there and what it means |
//! | [`schema`] | the JSON Schema of a spec |
//! | [`server`] | the language server for specs and playthroughs |

pub mod keys;
mod lines;
mod mentions;
mod play_view;
pub mod schema;
pub mod server;
mod spec_view;
mod toml_view;
