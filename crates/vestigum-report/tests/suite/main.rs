//! The tests of this crate from outside, as one program: each module is one subject.

mod build_servers;
mod level_map;
mod page;
