//! The tests of this crate from outside, as one program: each module is one subject.

mod keys;
mod spec;
mod terminal;
