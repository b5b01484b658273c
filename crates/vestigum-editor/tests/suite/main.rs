//! The tests of this crate from outside, as one program: each module is one subject.

mod any_text;
mod client;
mod life;
mod renaming;
mod schema;
