//! The tests of this crate from outside, as one program: each module is one subject.

mod cli;
mod databases;
mod lsp;
mod pictures;
mod program;
mod saves;
mod updates;
mod updates_page;
