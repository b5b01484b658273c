//! The line of saves that one installation writes for one player.

use std::hash::{BuildHasher, Hasher, RandomState};
use std::sync::Arc;

use vestigum_core::origin::InstallationId;

/// Holds what an installation knows of its own saves of one player. Only games that [merge](vestigum_core::merging) saves need it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Line {
    /// The id of the installation.
    pub installation: InstallationId,
    /// The saves by play that were given to another place, the newest last: the last [`Line::GIVEN`] of them.
    pub given: Vec<GivenSave>,
}

/// A save by play that was given to another place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct GivenSave {
    /// Its number among the saves of its installation.
    pub count: u64,
    /// Its [tag](vestigum_core::origin::Installation::tag).
    pub tag: Arc<str>,
}

impl Line {
    /// Limits how many saves are remembered.
    pub const GIVEN: usize = 64;

    /// Returns a line that nothing was given of yet.
    pub fn new(installation: InstallationId) -> Line {
        Line { installation, given: Vec::new() }
    }

    /// Returns the highest number that was given; 0 if none was.
    pub fn last(&self) -> u64 {
        self.given.iter().map(|save| save.count).max().unwrap_or(0)
    }

    /// Remembers a save. The oldest is forgotten where there are too many.
    pub fn give(&mut self, save: GivenSave) {
        if !self.given.contains(&save) {
            self.given.push(save);
            let surplus = self.given.len().saturating_sub(Line::GIVEN);
            self.given.drain(..surplus);
        }
    }

    /// Returns the saves in lines of text, as stores keep them.
    pub fn given_text(&self) -> String {
        self.given.iter().map(|save| format!("{} {}\n", save.count, save.tag)).collect()
    }

    /// Reads what [`Line::given_text`] gives. What is no save is passed over: a question too many is asked then, and nothing is lost.
    pub fn read_given(text: &str) -> Vec<GivenSave> {
        let saves = text.lines().filter_map(|line| {
            let (count, tag) = line.split_once(' ')?;
            Some(GivenSave { count: count.parse().ok()?, tag: tag.into() })
        });
        saves.collect()
    }
}

const SIGNS: &[u8; 64] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_";

/// Writes the first bits of a hash as that number of characters.
pub(crate) fn in_signs(hash: u64, count: u32) -> Arc<str> {
    let sign = |at: u32| char::from(SIGNS[(hash >> (6 * at) & 63) as usize]);
    (0..count).map(sign).collect::<String>().into()
}

/// Returns a number that nobody else draws: what the system gives for hash maps that must not be predicted.
pub(crate) fn random() -> u64 {
    RandomState::new().build_hasher().finish()
}

/// Returns an id for an installation, chosen at random.
pub fn random_installation() -> InstallationId {
    in_signs(random(), 6)
}

/// Returns the tag of a save, chosen at random.
pub fn random_tag() -> Arc<str> {
    in_signs(random(), 2)
}
