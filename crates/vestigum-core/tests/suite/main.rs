//! The tests of this crate from outside, as one program: each module is one subject.

mod blobs;
mod clocks;
mod codes;
mod containers;
mod expressions;
mod growing;
mod hostile;
mod images;
mod joining;
mod made_and_listed;
mod made_levels;
mod members;
mod merging;
mod moments;
mod rankings;
mod suspending;
mod types;
mod ways;
