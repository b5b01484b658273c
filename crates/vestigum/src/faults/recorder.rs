//! Running a playthrough on a store and writing down what was acknowledged, and when.

use std::collections::{BTreeMap, BTreeSet};

use vestigum_core::image::Origin;
use vestigum_core::playthrough::{OnShelf, Shelf, ShelfError};
use vestigum_core::{Image, Owner};

use crate::disk::SimDisk;
use crate::recovery::newest_readable;
use crate::store::Store;
use crate::store_shelf::shelf_error;

use super::Step;
use super::judge::Finding;

/// A save that the playthrough asked for.
#[derive(Clone, Debug)]
struct Commit {
    owner: Owner,
    image: Image,
    digest: String,
    /// How many disk operations there had been before and after.
    from: usize,
    to: usize,
    /// The generation, if it was acknowledged, and whether anything was written.
    acknowledged: Option<(u64, bool)>,
}

/// All saves of a run.
#[derive(Clone, Debug, Default)]
pub(super) struct Commits {
    all: Vec<Commit>,
    /// How many launches of the run fell back on an older image and said so.
    pub recovered: usize,
    /// A launch that fell back and did not say so.
    pub silently_older: Option<Finding>,
}

/// What may be loaded of each owner.
pub(super) type Expectations = BTreeMap<Owner, Expected>;

#[derive(Clone, Debug)]
pub(super) struct Expected {
    /// The acknowledged image, and those that were being saved after it.
    pub digests: BTreeSet<String>,
    /// Nothing was acknowledged yet.
    pub may_be_missing: bool,
    /// Which generation each image had that was ever acknowledged.
    pub known: BTreeMap<String, u64>,
    /// Some image that was saved.
    pub sample: Image,
}

impl Commits {
    /// How many saves were written.
    pub fn written(&self) -> usize {
        self.all.iter().filter(|commit| commit.acknowledged.is_some_and(|(_, written)| written)).count()
    }

    /// What may be loaded after so many operations: of each owner the image that was acknowledged last, or one that was
    /// being saved.
    pub fn expected(&self, operations: usize) -> Expectations {
        let mut all = Expectations::new();
        for commit in self.all.iter().filter(|commit| commit.from < operations || commit.to <= operations) {
            let expected = all.entry(commit.owner.clone()).or_insert_with(|| Expected {
                digests: BTreeSet::new(),
                may_be_missing: true,
                known: BTreeMap::new(),
                sample: commit.image.clone(),
            });
            if let Some((generation, _)) = commit.acknowledged.filter(|_| commit.to <= operations) {
                expected.digests.clear();
                expected.may_be_missing = false;
                expected.known.insert(commit.digest.clone(), generation);
            }
            expected.digests.insert(commit.digest.clone());
        }
        all
    }

    /// Tells what the saves say just before the operation with that number.
    pub fn tell(&self, operation: usize, steps: &mut Vec<Step>) {
        for commit in self.all.iter().filter(|commit| commit.to > commit.from) {
            if commit.to == operation {
                let owner = &commit.owner;
                steps.push(match commit.acknowledged {
                    Some((generation, _)) => Step::Acknowledged(format!("{owner}, generation {generation}")),
                    None => Step::NotSaved(owner.to_string()),
                });
            }
            if commit.from == operation {
                steps.push(Step::Save(commit.owner.to_string()));
            }
        }
    }
}

/// A shelf on a store, as a session uses one: a save that fails is reported and play goes on.
pub(super) struct Recorder<S> {
    store: S,
    disk: SimDisk,
    keep: u32,
    commits: Commits,
}

impl<S: Store> Recorder<S> {
    pub fn new(store: S, disk: SimDisk, keep: u32) -> Recorder<S> {
        Recorder { store, disk, keep, commits: Commits::default() }
    }

    pub fn into_commits(self) -> Commits {
        self.commits
    }
}

impl<S: Store> Shelf for Recorder<S> {
    fn newest(&mut self, owner: &Owner) -> Result<OnShelf, ShelfError> {
        let found = newest_readable(&self.store, owner).map_err(shelf_error)?;
        if let Some(expected) = self.commits.expected(self.disk.count()).get(owner) {
            let digest = found.image.as_ref().map(Image::digest);
            let right = digest.as_ref().map_or(expected.may_be_missing, |digest| expected.digests.contains(digest));
            match &found.origin {
                Origin::Recovered { .. } => self.commits.recovered += 1,
                _ if !right => self.commits.silently_older = Some(expected.finding(found.image.as_ref())),
                _ => {}
            }
        }
        // A session prunes when it has launched, and only reports what goes wrong with that.
        let _ = self.store.prune(owner, self.keep);
        Ok(OnShelf { image: found.image, origin: found.origin })
    }

    fn commit(&mut self, image: Image) -> Result<u64, String> {
        let from = self.disk.count();
        let owner = image.owner.clone();
        let follows = self.store.generations(&owner).map(|all| all.last().copied().unwrap_or(0));
        let committed = follows.and_then(|follows| self.store.commit(follows, &image));
        let acknowledged = committed.as_ref().ok().map(|committed| (committed.generation, committed.written));
        let (digest, to) = (image.digest(), self.disk.count());
        self.commits.all.push(Commit { owner, image, digest, from, to, acknowledged });
        Ok(acknowledged.map_or(0, |(generation, _)| generation))
    }

    /// What a script damages is left alone: damage is tried at every byte anyway.
    fn damage(&mut self, _: &Owner, _: bool) -> Result<usize, String> {
        Ok(0)
    }
}
