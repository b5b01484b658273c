//! The commands, one module each.

pub mod check;
pub mod demo;
pub mod explore;
pub mod fate;
pub mod faults;
pub mod freeze;
pub mod migrate;
pub mod new;
pub mod play;
pub mod probe;
pub mod saves;
