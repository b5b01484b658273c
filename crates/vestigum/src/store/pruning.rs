//! Which old generations may go: the same for every store.

use std::collections::BTreeMap;

use vestigum_core::image::SavedPlace;
use vestigum_core::{EncodedImage, Image, Owner};

use super::{Store, StoreError};

/// Says what reading a generation gave, as far as pruning must know.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SaveVerdict {
    /// It is whole, and progress.
    Whole,
    /// It is whole, and says that the player was deleted.
    Deletion,
    /// It is damaged. It stays where it is, for whoever can repair it.
    Damaged,
    /// It could not be read when it was looked at.
    Unread,
}

impl SaveVerdict {
    /// Returns what an image is that was written just now.
    pub fn of_written(image: &EncodedImage) -> SaveVerdict {
        if image.is_deletion() { SaveVerdict::Deletion } else { SaveVerdict::Whole }
    }

    /// Returns what the answer of a store says; none if the generation is gone.
    pub fn of(read: &Result<Image, StoreError>) -> Option<SaveVerdict> {
        match read {
            Ok(image) if image.place == SavedPlace::Deleted => Some(SaveVerdict::Deletion),
            Ok(_) => Some(SaveVerdict::Whole),
            Err(StoreError::Damaged { .. }) => Some(SaveVerdict::Damaged),
            Err(StoreError::NoGeneration { .. }) => None,
            Err(_) => Some(SaveVerdict::Unread),
        }
    }
}

/// Says what a prune does next for an owner.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PruneStep {
    /// Nothing of the owner may go.
    Done,
    /// Reads a generation, to know whether it counts as kept. If it cannot be read now, nothing is removed.
    Read(u64),
    /// Reads a generation behind those that are kept. If it cannot be read now, it stays.
    ReadBehind(u64),
    /// Removes a generation.
    Remove(u64),
}

/// Returns what a prune does next: the newest `keep` saves that are known to be whole stay, and so does what is damaged. That a player
/// was deleted takes the place of no save. Nothing is removed behind a generation that could not be read, unless enough newer ones
/// are whole. The oldest goes first: a prune that a kill cuts short leaves the newest, without a gap.
///
/// `generations` are all of an owner, the oldest first; `verdicts` what this process knows of them.
pub fn prune_step(generations: &[u64], verdicts: &BTreeMap<u64, SaveVerdict>, keep: u32) -> PruneStep {
    let mut room = keep.max(1);
    // None are read for nothing.
    if generations.len() <= room as usize {
        return PruneStep::Done;
    }
    let mut behind = generations.len();
    while room > 0 && behind > 0 {
        behind -= 1;
        let generation = generations[behind];
        match verdicts.get(&generation) {
            None | Some(SaveVerdict::Unread) => return PruneStep::Read(generation),
            Some(SaveVerdict::Whole) => room -= 1,
            Some(SaveVerdict::Deletion | SaveVerdict::Damaged) => {}
        }
    }
    let step = |generation: &u64| match verdicts.get(generation) {
        None => Some(PruneStep::ReadBehind(*generation)),
        Some(SaveVerdict::Whole | SaveVerdict::Deletion) => Some(PruneStep::Remove(*generation)),
        Some(SaveVerdict::Damaged | SaveVerdict::Unread) => None,
    };
    generations[..behind].iter().find_map(step).unwrap_or(PruneStep::Done)
}

/// Returns the generations of an owner that a prune to `keep` would remove, the oldest first. Reads all of them, and removes none.
///
/// # Errors
/// If the place cannot be read, or a generation cannot be read now that may be one to keep.
pub fn removable_generations(store: &dyn Store, owner: &Owner, keep: u32) -> Result<Vec<u64>, StoreError> {
    let mut generations = store.generations(owner)?;
    let (mut verdicts, mut removable) = (BTreeMap::new(), Vec::new());
    loop {
        let (generation, needed) = match prune_step(&generations, &verdicts, keep) {
            PruneStep::Done => return Ok(removable),
            PruneStep::Remove(generation) => {
                removable.push(generation);
                generations.retain(|known| *known != generation);
                continue;
            }
            PruneStep::Read(generation) => (generation, true),
            PruneStep::ReadBehind(generation) => (generation, false),
        };
        let read = store.read(owner, generation);
        match SaveVerdict::of(&read) {
            Some(verdict) => drop(verdicts.insert(generation, verdict)),
            None => generations.retain(|known| *known != generation),
        }
        match read {
            Err(error) if needed && error.may_pass() => return Err(error),
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn step(verdicts: &[(u64, SaveVerdict)], keep: u32) -> PruneStep {
        let generations: Vec<u64> = verdicts.iter().map(|(generation, _)| *generation).collect();
        prune_step(&generations, &verdicts.iter().copied().collect(), keep)
    }

    #[test]
    fn the_newest_whole_ones_stay_and_deletions_take_no_place() {
        use SaveVerdict::{Damaged, Deletion, Unread, Whole};
        assert_eq!(step(&[(1, Whole), (2, Whole)], 1), PruneStep::Remove(1));
        assert_eq!(step(&[(1, Whole), (2, Deletion)], 1), PruneStep::Done);
        assert_eq!(step(&[(1, Whole), (2, Whole), (3, Deletion)], 1), PruneStep::Remove(1));
        assert_eq!(step(&[(1, Whole), (2, Deletion), (3, Whole)], 1), PruneStep::Remove(1));
        assert_eq!(
            step(&[(1, Damaged), (2, Whole), (3, Whole), (4, Whole)], 1),
            PruneStep::Remove(2),
            "the oldest first"
        );
        assert_eq!(step(&[(1, Whole), (2, Damaged)], 1), PruneStep::Done);
        assert_eq!(step(&[(1, Whole), (2, Unread), (3, Whole)], 2), PruneStep::Read(2));
        assert_eq!(step(&[(1, Whole), (2, Unread), (3, Whole)], 1), PruneStep::Remove(1));
        assert_eq!(prune_step(&[1, 2], &BTreeMap::from([(2, Whole)]), 1), PruneStep::ReadBehind(1));
        assert_eq!(prune_step(&[1], &BTreeMap::new(), 1), PruneStep::Done);
    }
}
