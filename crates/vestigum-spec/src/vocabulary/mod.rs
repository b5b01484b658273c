//! The vocabulary: words that every other module uses, and what they mean.

pub mod fate;
pub mod function;
pub mod key;
pub mod keyword;
pub mod merging;
pub mod moment;
pub mod names;
pub mod owner;
pub mod place;
pub mod policy;
pub mod shown;
pub mod span;
pub mod time;
