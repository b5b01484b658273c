//! The vocabulary: words that every other module uses, and what they mean.

pub mod fate;
pub mod keyword;
pub mod moment;
pub mod owner;
pub mod place;
pub mod policy;
pub mod span;
