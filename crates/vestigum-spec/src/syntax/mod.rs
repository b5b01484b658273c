//! The syntax of expressions: text, tokens, trees, and the names of functions.

pub(crate) mod parse;
pub(crate) mod token;

pub use parse::Operator;
pub use token::{Token, Unreadable, tokens};
