//! The syntax of expressions: text, tokens, trees, and the names of functions.

pub mod parse;
pub mod token;
