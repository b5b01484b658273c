//! The language of Vestigum: reads a spec document, checks it, and says what it means.
//!
//! Everything that is needed to judge a document stands here and nothing that runs one: values and their types, the words of the language,
//! findings with their places, the document, expressions, the model that all names resolve to, and the history with what updates ask for. `spec!`
//! links it in the compiler, and `vestigum-core` runs what it gives.
//!
//! Games use the crate `vestigum`, which re-exports what they need, by name. This crate is for tools over specs; ARCHITECTURE.md lists the
//! floors of its modules.
//!
//! ```
//! use vestigum_spec::CheckedSpec;
//!
//! let wrong = CheckedSpec::from_named_toml("fellpost.toml", "[game]\nid = \"fellpost\"\nversoin = 2").unwrap_err();
//! assert!(wrong.to_string().contains("versoin"));
//! ```

pub mod access;
pub mod analysis;
pub mod checked;
pub mod codes;
pub mod diagnostic;
pub mod document;
pub mod freezing;
pub mod history;
pub mod migration;
pub mod model;
pub mod nearest;
pub mod reading;
pub mod syntax;
pub mod value;
pub mod vocabulary;
pub mod words;

pub use access::{AccessError, AccessErrorKind};
pub use checked::{CheckedSpec, ReadSpec};
pub use diagnostic::{Diagnostic, Diagnostics, Severity};
pub use history::History;
pub use nearest::nearest;
pub use value::containers::{List, Map, Set};
pub use value::edit::Edit;
pub use value::parts::Part;
pub use value::ranking::Ranked;
pub use value::types::Type;
pub use value::{Finite, Value};
pub use vocabulary::key::{EntryName, Key, KeyAxis, Keys};
pub use vocabulary::moment::Moment;
pub use vocabulary::owner::Owner;
pub use vocabulary::place::Place;
pub use vocabulary::span::Span;
