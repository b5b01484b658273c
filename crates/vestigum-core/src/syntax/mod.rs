//! The syntax of expressions: text, tokens, trees, and the names of functions.

pub mod function;
pub mod names;
pub mod parse;
pub mod token;
