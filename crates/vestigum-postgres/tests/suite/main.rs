//! The tests of this crate from outside, as one program: each module is one subject.

mod crashes;
mod postgres_store;
mod silent;
