//! Running a playthrough on a store and writing down what was acknowledged, and when.

use std::collections::{BTreeMap, BTreeSet};

use vestigum::tools::{NewestImage, Patience, commit_making_room, newest_image, newest_readable};
use vestigum::{Store, StoreError, prune_all};
use vestigum_core::image::SavedPlace;
use vestigum_core::image::report::Origin;
use vestigum_core::{Image, Owner};
use vestigum_spec::value::tree::Tree;

use super::FaultStep;
use super::judge::FaultFinding;
use crate::playthrough::{Newest, Saves, SavesError};
use crate::sim_disk::SimDisk;
use crate::store_saves::{purge, readable_of, saves_error};

/// A save that the playthrough asked for.
#[derive(Clone, Debug)]
struct Commit {
    owner: Owner,
    image: Image,
    digest: String,
    /// Says how many disk operations there had been before and after.
    from: usize,
    to: usize,
    /// The generation, if it was acknowledged, and whether anything was written.
    acknowledged: Option<(u64, bool)>,
}

/// All saves of a run.
#[derive(Clone, Debug, Default)]
pub(super) struct Commits {
    all: Vec<Commit>,
    /// Says how many launches of the run fell back on an older image and said so.
    pub recovered: usize,
    /// A launch that fell back and did not say so.
    pub silently_older: Option<FaultFinding>,
    /// After how many operations a process was killed and the next one began.
    killed: Vec<usize>,
}

/// Describes what may be loaded of each owner.
pub(super) type Expectations = BTreeMap<Owner, Expected>;

#[derive(Clone, Debug)]
pub(super) struct Expected {
    /// The acknowledged image, and those that were being saved after it.
    pub digests: BTreeSet<String>,
    /// Nothing was acknowledged yet.
    pub may_be_missing: bool,
    /// Says which generation each image had that was ever acknowledged.
    pub known: BTreeMap<String, u64>,
    /// Some image that was saved.
    pub sample: Image,
}

impl Commits {
    /// Returns how many saves were written.
    pub(super) fn written(&self) -> usize {
        self.all.iter().filter(|commit| commit.acknowledged.is_some_and(|(_, written)| written)).count()
    }

    /// Returns what may be loaded after a number of operations: of each owner the image that was acknowledged last, or one that was
    /// being saved.
    pub(super) fn expected(&self, operations: usize) -> Expectations {
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

    /// Returns what is known after a number of operations, if the process is killed there: a save that was on its way is never
    /// acknowledged.
    pub(super) fn killed_after(&self, operations: usize) -> Commits {
        let begun = self.all.iter().filter(|commit| commit.from < operations || commit.to <= operations);
        let mut all: Vec<Commit> = begun.cloned().collect();
        for commit in all.iter_mut().filter(|commit| commit.to > operations) {
            (commit.to, commit.acknowledged) = (operations, None);
        }
        let mut killed: Vec<usize> = self.killed.iter().copied().filter(|kill| *kill <= operations).collect();
        killed.push(operations);
        Commits { all, killed, ..Commits::default() }
    }

    /// After which operations from there on a save was acknowledged.
    pub(super) fn acknowledged_after(&self, operations: usize) -> impl Iterator<Item = usize> {
        let acknowledged = self.all.iter().filter(|commit| commit.acknowledged.is_some());
        acknowledged.map(|commit| commit.to).filter(move |to| *to >= operations)
    }

    /// Everyone who ever saved.
    pub(super) fn owners(&self) -> Vec<Owner> {
        let owners: BTreeSet<&Owner> = self.all.iter().map(|commit| &commit.owner).collect();
        owners.into_iter().cloned().collect()
    }

    /// Tells what the saves say just before the operation with that number.
    pub(super) fn tell(&self, operation: usize, steps: &mut Vec<FaultStep>) {
        if self.killed.contains(&operation) {
            steps.push(FaultStep::Killed);
        }
        // Where nothing was killed, a save that did nothing tells nothing.
        let quiet = |commit: &&Commit| commit.to > commit.from || self.killed.iter().any(|kill| *kill <= commit.from);
        for commit in self.all.iter().filter(quiet) {
            if commit.to == operation && commit.to > commit.from {
                let owner = &commit.owner;
                steps.push(match commit.acknowledged {
                    Some((generation, _)) => FaultStep::Acknowledged(format!("{owner}, generation {generation}")),
                    None => FaultStep::NotSaved(owner.to_string()),
                });
            }
            if commit.from == operation {
                steps.push(FaultStep::Save(commit.owner.to_string()));
                if let Some((generation, _)) = commit.acknowledged.filter(|_| commit.to == operation) {
                    steps
                        .push(FaultStep::Acknowledged(format!("{}, generation {generation}, unchanged", commit.owner)));
                }
            }
        }
    }
}

/// Opens the store under test on a disk.
pub(super) type Open<'a, S> = &'a (dyn Fn(SimDisk) -> Result<S, StoreError> + Sync);

/// A shelf on a store, as a session uses one: a save that fails is reported and play goes on.
pub(super) struct Recorder<'a, S> {
    open: Open<'a, S>,
    /// None if it could not be opened: then nothing is saved.
    store: Option<S>,
    disk: SimDisk,
    keep: u32,
    commits: Commits,
    /// Names the place, where there are two.
    place: &'static str,
}

impl<'a, S: Store> Recorder<'a, S> {
    /// A process that opens the store after what is known of the processes before.
    pub(super) fn new(open: Open<'a, S>, disk: SimDisk, keep: u32, commits: Commits) -> Recorder<'a, S> {
        Recorder { open, store: open(disk.clone()).ok(), disk, keep, commits, place: "" }
    }

    /// Returns the same process in one of two places.
    pub(super) fn at(self, place: &'static str) -> Self {
        Recorder { place, ..self }
    }

    pub(super) fn commits(&self) -> &Commits {
        &self.commits
    }

    pub(super) fn into_commits(self) -> Commits {
        self.commits
    }

    fn store(&self) -> Result<&S, SavesError> {
        self.store.as_ref().ok_or_else(|| SavesError::Failed("the store cannot be opened".to_owned()))
    }

    /// Returns what loads, and whether it is what must be there.
    fn look(&mut self, owner: &Owner) -> Result<NewestImage, SavesError> {
        let found = newest_image(&Patience::with(self.store()?), owner, &[]).map_err(saves_error)?;
        if let Some(expected) = self.commits.expected(self.disk.count()).get(owner) {
            let digest = found.image.as_ref().map(Image::digest);
            let right = digest.as_ref().map_or(expected.may_be_missing, |digest| expected.digests.contains(digest));
            match &found.origin {
                Origin::Recovered { .. } => self.commits.recovered += 1,
                _ if !right => self.commits.silently_older = Some(expected.finding(found.image.as_ref())),
                _ => {}
            }
        }
        Ok(found)
    }

    /// A session prunes when there is time, and only reports what goes wrong with that.
    fn prune(&self, owner: &Owner) {
        if let Some(store) = &self.store {
            let _ = prune_all(store, owner, self.keep);
        }
    }

    /// Goes back to what was acknowledged where an owner's last save failed, and saves that. Answers
    /// whether there was any such.
    pub(super) fn go_back(&mut self) -> bool {
        let mut back = Vec::new();
        for owner in self.commits.owners() {
            let mut saves = self.commits.all.iter().rev().filter(|commit| commit.owner == owner);
            if saves.next().is_some_and(|last| last.acknowledged.is_none()) {
                back.extend(saves.find(|commit| commit.acknowledged.is_some()).map(|commit| commit.image.clone()));
            }
        }
        let any = !back.is_empty();
        for image in back {
            let _ = self.commit(image);
        }
        any
    }

    /// Does what the next process does after a crash, for each owner: it loads, saves what it loaded, prunes, saves something
    /// new, and prunes again.
    pub(super) fn next_life(&mut self, owners: &[Owner]) {
        for owner in owners {
            let Ok(Some(image)) = self.look(owner).map(|found| found.image) else { continue };
            let _ = self.commit(image.clone());
            self.prune(owner);
            let _ = self.commit(changed(&image));
            self.prune(owner);
        }
    }
}

/// Returns the image with something new in it.
pub(super) fn changed(image: &Image) -> Image {
    let mut next = image.clone();
    next.values.insert("the next save".into(), Tree::Int(image.generation as i64));
    next
}

impl<S: Store> Saves for Recorder<'_, S> {
    fn place(&self) -> &'static str {
        self.place
    }

    fn newest(&mut self, owner: &Owner) -> Result<Newest, SavesError> {
        let found = self.look(owner)?;
        if found.image.as_ref().is_some_and(|image| image.place == SavedPlace::Deleted) {
            let deleted = newest_readable(&Patience::with(self.store()?), owner, &[]).map_err(saves_error)?;
            return Ok(Newest { image: deleted.image, origin: deleted.origin });
        }
        self.prune(owner);
        Ok(Newest { image: found.image, origin: found.origin })
    }

    fn commit(&mut self, image: Image) -> Result<u64, SavesError> {
        let from = self.disk.count();
        let owner = image.owner.clone();
        let store = self.store()?;
        let follows = store.generations(&owner).map(|all| all.last().copied().unwrap_or(0));
        let owners: Vec<(Owner, u32)> = self.commits.owners().into_iter().map(|owner| (owner, self.keep)).collect();
        let committed = follows.and_then(|follows| commit_making_room(store, follows, &image, &owners));
        let acknowledged = committed.as_ref().ok().map(|committed| (committed.generation, committed.written));
        let (digest, to) = (image.digest(), self.disk.count());
        self.commits.all.push(Commit { owner, image, digest, from, to, acknowledged });
        Ok(acknowledged.map_or(0, |(generation, _)| generation))
    }

    fn readable(&mut self, owner: &Owner) -> Result<Vec<Image>, SavesError> {
        readable_of(self.store()?, owner)
    }

    fn purge(&mut self, owner: &Owner) -> Result<(), SavesError> {
        purge(self.store()?, owner).map_err(|error| SavesError::Failed(error.to_string()))
    }

    /// The next process opens the store anew.
    fn crash(&mut self) {
        self.store = None;
        self.commits.killed.push(self.disk.count());
        self.store = (self.open)(self.disk.clone()).ok();
    }

    /// Leaves alone what a script damages: damage is tried at every byte anyway.
    fn damage(&mut self, _: &Owner, _: bool) -> Result<usize, SavesError> {
        Ok(0)
    }
}
