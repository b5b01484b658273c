//! The tests of this crate from outside, as one program: each module is one subject.

mod adopting;
mod blobs;
mod dir_store;
mod handles;
mod odd_folders;
mod profiles;
mod real_faults;
mod roster;
mod saver;
mod session;
mod store_laws;
mod sync;
mod unavailable;
mod updating;
