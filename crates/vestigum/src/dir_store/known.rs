//! What a process knows of the files of an owner.

use std::collections::BTreeMap;

use crate::store::SaveVerdict;

/// Describes what this process knows of an owner's generations. The lock of the folder keeps other processes out, so it stays true
/// until this one writes, or until somebody removes files by hand.
#[derive(Clone, Debug, Default)]
pub(super) struct Known {
    /// The newest generation, durable or read; 0 if there is none.
    pub generation: u64,
    /// Says what it holds; none if it cannot be read.
    pub digest: Option<String>,
    /// The highest number that any file has. A commit that failed may have left a higher one than `generation`.
    pub highest: u64,
    /// Whether this process has synced the folder since it found the names in it, or since a sync failed. A name that
    /// another process left may be one that was never made durable.
    pub synced: bool,
}

/// The verdicts of this process on an owner's generations: each is read to its end once.
pub(super) type FileVerdicts = BTreeMap<u64, SaveVerdict>;
