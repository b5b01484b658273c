//! The tests of this crate from outside, as one program: each module is one subject.

mod demo;
mod floors;
mod typed;
mod typed_mistakes;
mod words;
