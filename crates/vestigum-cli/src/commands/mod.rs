//! The commands, one module each.

pub(crate) mod check;
pub(crate) mod code;
pub(crate) mod demo;
pub(crate) mod explore;
pub(crate) mod fate;
pub(crate) mod faults;
pub(crate) mod freeze;
pub(crate) mod import_json;
#[cfg(feature = "editor")]
pub(crate) mod lsp;
pub(crate) mod map;
pub(crate) mod migrate;
pub(crate) mod new;
pub(crate) mod play;
pub(crate) mod probe;
pub(crate) mod report;
pub(crate) mod saves;
#[cfg(feature = "editor")]
pub(crate) mod schema;
#[cfg(feature = "watch")]
pub(crate) mod watch;
