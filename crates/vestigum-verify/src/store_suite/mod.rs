//! What every store must do, tried on a store of one's own.
//!
//! ```
//! use vestigum::MemoryStore;
//! use vestigum_verify::store_suite::breaches;
//!
//! // How an empty place is made, and how it is opened again after the process has ended.
//! let found = breaches(&|| MemoryStore::default(), &|store| store);
//! assert!(found.is_empty(), "{found:?}");
//! ```

mod shared;

pub use shared::shared_breaches;

use std::collections::BTreeSet;
use std::fmt;
use std::time::Duration;

use vestigum::image::{SavedPlace, Tree};
use vestigum::{Commit, Committed, EncodedImage, GivenSave, Image, Line, Owner, Store, StoreError, prune_all};

/// A rule of [`Store`] that a store breaks.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Breach {
    /// Says what a store must do.
    pub rule: &'static str,
    /// Says what this one did.
    pub found: String,
    /// Says that it was trouble which may pass, such as a machine that is busy with something else.
    may_pass: bool,
}

impl fmt::Display for Breach {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.rule, self.found)
    }
}

/// Names that a store could take for something else, or for each other.
const NAMES: [&str; 12] = [
    "ada",
    "Ada",
    "ADA",
    "../ada",
    "a/b",
    "a\\b",
    "con",
    "~",
    "ada ",
    "郵便",
    "é",
    "............................................................",
];

type CheckResult = Result<(), Breach>;

/// Tries everything on stores that `empty` makes, each on a place of its own. `reopen` closes a store and opens the same
/// place again, as the next process would. Answers what is broken: of each rule the first case.
///
/// Faults of a disk are no part of it: [`crate::faults`] tries those. Of a store that several processes have open at once,
/// [`shared_breaches`] tries more.
pub fn breaches<S: Store>(empty: &dyn Fn() -> S, reopen: &dyn Fn(S) -> S) -> Vec<Breach> {
    let checks: [&dyn Fn() -> CheckResult; 17] = [
        &|| an_empty_place(&empty()),
        &|| one_after_the_other(&empty()),
        &|| unchanged(&empty()),
        &|| conflicts(&empty()),
        &|| pruning(&empty()),
        &|| deletions(&empty()),
        &|| removing(&empty()),
        &|| inserting(&empty()),
        &|| owners_apart(empty(), reopen),
        &|| large(empty(), reopen),
        &|| too_large(&empty()),
        &|| blobs(empty(), reopen),
        &|| at_once(&empty()),
        &|| newest_in_one_go(&empty()),
        &|| several_commits(&empty()),
        &|| own_lease(&empty()),
        &|| lines(empty(), reopen),
    ];
    checks.iter().filter_map(|check| check().err()).collect()
}

fn image(owner: &Owner, value: i64) -> Image {
    Image {
        game: "fellpost".into(),
        version: 1,
        owner: owner.clone(),
        generation: 0,
        saved_at: String::new(),
        place: SavedPlace::Menu,
        made: Default::default(),
        values: [("xp".into(), Tree::Int(value))].into(),
        marks: None,
        shape: None,
        moved: Default::default(),
        origin: None,
        blobs: Default::default(),
    }
}

/// An image that means some blobs.
fn with_blobs(owner: &Owner, blobs: &[&str]) -> Image {
    let mut image = image(owner, 0);
    for blob in blobs {
        let said = image.blobs.insert(blob.as_bytes().into());
        image.values.insert((*blob).into(), said.tree());
    }
    image
}

fn player(name: &str) -> Owner {
    Owner::Profile(name.to_owned())
}

fn holds(rule: &'static str, is_so: bool, found: impl FnOnce() -> String) -> CheckResult {
    if is_so { Ok(()) } else { Err(Breach { rule, found: found(), may_pass: false }) }
}

fn worked<T>(rule: &'static str, result: Result<T, StoreError>) -> Result<T, Breach> {
    result.map_err(|error| Breach { rule, found: error.to_string(), may_pass: error.may_pass() })
}

fn commit(rule: &'static str, store: &dyn Store, follows: u64, image: &Image) -> Result<Committed, Breach> {
    worked(rule, store.commit(follows, image))
}

fn an_empty_place(store: &dyn Store) -> CheckResult {
    const RULE: &str = "an empty place has nothing";
    let owners = worked(RULE, store.owners())?;
    holds(RULE, owners.is_empty(), || format!("it has saves of {} owners", owners.len()))?;
    let generations = worked(RULE, store.generations(&player("ada")))?;
    holds(RULE, generations.is_empty(), || format!("an unknown player has {generations:?}"))?;
    let read = store.read(&player("ada"), 1);
    holds(RULE, matches!(read, Err(StoreError::NoGeneration { .. })), || format!("reading gives {read:?}"))?;
    let pruned = worked(RULE, prune_all(store, &player("ada"), 3))?;
    holds(RULE, pruned == 0, || format!("{pruned} generations were pruned"))
}

fn one_after_the_other(store: &dyn Store) -> CheckResult {
    const RULE: &str = "commits follow each other, and each can be read";
    let ada = player("ada");
    let mut newest = 0;
    let mut all = Vec::new();
    for value in 1..=5 {
        let committed = commit(RULE, store, newest, &image(&ada, value))?;
        let grows = committed.written && committed.generation > newest;
        holds(RULE, grows, || format!("commit {value} after {newest} gave {committed:?}"))?;
        newest = committed.generation;
        all.push((newest, value));
    }
    let generations = worked(RULE, store.generations(&ada))?;
    let expected: Vec<u64> = all.iter().map(|(generation, _)| *generation).collect();
    holds(RULE, generations == expected, || format!("the generations are {generations:?} and not {expected:?}"))?;
    for (generation, value) in all {
        let read = worked(RULE, store.read(&ada, generation))?;
        let same = read == (Image { generation, ..image(&ada, value) });
        holds(RULE, same, || format!("generation {generation} is {read:?}"))?;
    }
    let owners = worked(RULE, store.owners())?;
    holds(RULE, owners == [ada], || format!("the owners are {owners:?}"))
}

fn unchanged(store: &dyn Store) -> CheckResult {
    const RULE: &str = "what the newest generation holds is not written again";
    let ada = player("ada");
    let first = commit(RULE, store, 0, &image(&ada, 1))?;
    let later = Image { saved_at: "2026-11-25T18:15:14.003Z".into(), ..image(&ada, 1) };
    let again = commit(RULE, store, first.generation, &later)?;
    let same = !again.written && again.generation == first.generation;
    holds(RULE, same, || format!("the same progress gave {again:?}"))?;
    let other = commit(RULE, store, first.generation, &image(&ada, 2))?;
    let back = commit(RULE, store, other.generation, &image(&ada, 1))?;
    holds(RULE, back.written, || "what an older generation held was taken for the newest".into())
}

fn conflicts(store: &dyn Store) -> CheckResult {
    const RULE: &str = "who does not know the newest generation does not write";
    let ada = player("ada");
    let first = commit(RULE, store, 0, &image(&ada, 1))?.generation;
    let second = commit(RULE, store, first, &image(&ada, 2))?.generation;
    for follows in [0, first] {
        let refused = store.commit(follows, &image(&ada, 3));
        let conflict = matches!(refused, Err(StoreError::Conflict { newest, .. }) if newest == second);
        holds(RULE, conflict, || format!("a commit that follows {follows} of {second} gave {refused:?}"))?;
    }
    let generations = worked(RULE, store.generations(&ada))?;
    holds(RULE, generations == [first, second], || format!("after it the generations are {generations:?}"))
}

fn pruning(store: &dyn Store) -> CheckResult {
    const RULE: &str = "pruning keeps the newest generations, and no number is used twice";
    let ada = player("ada");
    let mut newest = 0;
    for value in 1..=6 {
        newest = commit(RULE, store, newest, &image(&ada, value))?.generation;
    }
    let all = worked(RULE, store.generations(&ada))?;
    for keep in [3_u32, 1, 0] {
        worked(RULE, prune_all(store, &ada, keep))?;
        let left = worked(RULE, store.generations(&ada))?;
        let expected = &all[all.len() - keep.max(1) as usize..];
        holds(RULE, left == expected, || format!("to keep {keep} of {all:?} left {left:?}"))?;
    }
    let read = worked(RULE, store.read(&ada, newest))?;
    holds(RULE, read.values == image(&ada, 6).values, || format!("the newest is {read:?}"))?;
    let next = commit(RULE, store, newest, &image(&ada, 7))?.generation;
    holds(RULE, next > newest, || format!("generation {next} came after {newest}"))
}

fn inserting(store: &dyn Store) -> CheckResult {
    const RULE: &str = "an image is inserted under the number that it has, unless another has it";
    let ada = player("ada");
    // As a copy does it: the newest first.
    for generation in [7, 3, 5] {
        let inserted = Image { generation, ..image(&ada, generation as i64) };
        let first = worked(RULE, store.insert(&inserted))?;
        let is_so = first.written && first.generation == generation;
        holds(RULE, is_so, || format!("generation {generation} gave {first:?}"))?;
        let again = worked(RULE, store.insert(&inserted))?;
        let same = !again.written && again.generation == generation;
        holds(RULE, same, || format!("the same once more gave {again:?}"))?;
        let newest = worked(RULE, store.newest(&ada))?.map(|newest| newest.generation);
        holds(RULE, newest == Some(7), || format!("then the newest is {newest:?}"))?;
    }
    let refused = store.insert(&Image { generation: 5, ..image(&ada, 9) });
    let conflict = matches!(refused, Err(StoreError::Conflict { newest: 7, .. }));
    holds(RULE, conflict, || format!("another image under generation 5 gave {refused:?}"))?;
    let generations = worked(RULE, store.generations(&ada))?;
    holds(RULE, generations == [3, 5, 7], || format!("the generations are {generations:?}"))?;
    let bo = with_blobs(&player("bo"), &["a sketch"]);
    worked(RULE, store.insert(&Image { generation: 4, ..bo.clone() }))?;
    let read = worked(RULE, store.read(&bo.owner, 4))?;
    holds(RULE, read.blobs == bo.blobs, || "its blobs did not come along".into())?;
    let next = commit(RULE, store, 7, &image(&ada, 8))?.generation;
    holds(RULE, next == 8, || format!("the commit behind it has the number {next}"))
}

fn removing(store: &dyn Store) -> CheckResult {
    const RULE: &str = "what is below a number is removed, and nothing else";
    let (ada, bo) = (player("ada"), player("bo"));
    for owner in [&ada, &bo] {
        let mut newest = 0;
        for value in 1..=4 {
            newest = commit(RULE, store, newest, &image(owner, value))?.generation;
        }
    }
    let all = worked(RULE, store.generations(&ada))?;
    let removed = worked(RULE, store.remove_before(&ada, all[3]))?;
    let left = worked(RULE, store.generations(&ada))?;
    holds(RULE, removed == 3 && left == [all[3]], || {
        format!("{removed} of {all:?} were removed, and {left:?} are left")
    })?;
    let others = worked(RULE, store.generations(&bo))?;
    holds(RULE, others.len() == 4, || format!("another player has {others:?}"))?;
    let none = worked(RULE, store.remove_before(&ada, all[3]))?;
    holds(RULE, none == 0, || format!("once more removed {none}"))
}

fn deletions(store: &dyn Store) -> CheckResult {
    const RULE: &str = "a deletion takes the place of no save when a place is pruned";
    let ada = player("ada");
    let mut newest = 0;
    for value in 1..=3 {
        newest = commit(RULE, store, newest, &image(&ada, value))?.generation;
    }
    let deletion = image(&ada, 0).deleted("2026-11-24T18:15:14.003Z".into());
    let deleted = commit(RULE, store, newest, &deletion)?.generation;
    worked(RULE, prune_all(store, &ada, 1))?;
    let left = worked(RULE, store.generations(&ada))?;
    holds(RULE, left == [newest, deleted], || format!("of a deleted player {left:?} are left"))?;
    let back = commit(RULE, store, deleted, &image(&ada, 4))?.generation;
    worked(RULE, prune_all(store, &ada, 1))?;
    let left = worked(RULE, store.generations(&ada))?;
    holds(RULE, left == [back], || format!("of one who came back {left:?} are left"))
}

fn owners_apart<S: Store>(store: S, reopen: &dyn Fn(S) -> S) -> CheckResult {
    const RULE: &str =
        "the saves of each owner are their own, whatever the name, and stay when the place is opened again";
    let many = (0..100).map(|n| player(&format!("player {n}")));
    let owners: Vec<Owner> = NAMES.into_iter().map(player).chain(many).chain([Owner::Device]).collect();
    for (owner, value) in owners.iter().zip(1..) {
        let committed = commit(RULE, &store, 0, &image(owner, value))?;
        holds(RULE, committed.written, || format!("nothing was written for {owner}"))?;
    }
    let store = reopen(store);
    for (owner, value) in owners.iter().zip(1..) {
        let newest = worked(RULE, store.generations(owner))?.last().copied().unwrap_or(0);
        let read = worked(RULE, store.read(owner, newest))?;
        let own = read.owner == *owner && read.values == image(owner, value).values;
        holds(RULE, own, || format!("{owner} has {read:?}"))?;
    }
    let listed: BTreeSet<Owner> = worked(RULE, store.owners())?.into_iter().collect();
    let missing: Vec<String> = owners.iter().filter(|owner| !listed.contains(owner)).map(ToString::to_string).collect();
    holds(RULE, missing.is_empty() && listed.len() == owners.len(), || format!("the list leaves out {missing:?}"))?;
    for name in [String::new(), "x".repeat(61)] {
        let refused = store.commit(0, &image(&player(&name), 1));
        let bad = matches!(refused, Err(StoreError::BadProfile { .. }));
        holds(RULE, bad, || format!("a name of {} characters gave {refused:?}", name.len()))?;
    }
    Ok(())
}

fn large<S: Store>(store: S, reopen: &dyn Fn(S) -> S) -> CheckResult {
    const RULE: &str = "a large image comes back whole";
    let ada = player("ada");
    let mut large = image(&ada, 1);
    large.values.insert("notes".into(), Tree::Text("ford, stile, cairn; ".repeat(50_000).into()));
    let generation = commit(RULE, &store, 0, &large)?.generation;
    let read = worked(RULE, reopen(store).read(&ada, generation))?;
    holds(RULE, read == (Image { generation, ..large }), || "it is another image".into())
}

fn too_large(store: &dyn Store) -> CheckResult {
    const RULE: &str = "a save that is acknowledged can be read, however many values it has";
    let ada = player("ada");
    let mut newest = 0;
    // About the most that reading takes, and a little more.
    for count in [1_380_000, 1_420_000] {
        let mut image = image(&ada, 1);
        image.values.insert("xp".into(), Tree::List(vec![Tree::Int(1); count]));
        match store.commit(newest, &image) {
            Ok(committed) => {
                newest = committed.generation;
                let read = worked(RULE, store.read(&ada, newest))?;
                holds(RULE, read.values == image.values, || format!("one of {count} values is another image"))?;
            }
            Err(StoreError::TooLarge { .. }) => {}
            Err(other) => {
                return Err(Breach { rule: RULE, found: format!("{count} values gave {other}"), may_pass: false });
            }
        }
    }
    Ok(())
}

fn blobs<S: Store>(store: S, reopen: &dyn Fn(S) -> S) -> CheckResult {
    const RULE: &str = "the blobs of an image come back with it, and pruning gives up none that a generation means";
    let (ada, bo) = (player("ada"), player("bo"));
    let of_bo = with_blobs(&bo, &["shared", "old"]);
    let bos = commit(RULE, &store, 0, &of_bo)?.generation;
    let mut newest = 0;
    let saves = [&["old", "shared"][..], &["shared", "of ada"], &["of ada"], &[]];
    for blobs in saves {
        let image = with_blobs(&ada, blobs);
        newest = commit(RULE, &store, newest, &image)?.generation;
        let read = worked(RULE, store.read(&ada, newest))?;
        holds(RULE, read == (Image { generation: newest, ..image }), || format!("with {blobs:?} it is {read:?}"))?;
    }
    let last = commit(RULE, &store, newest, &with_blobs(&ada, &["shared", "last"]))?.generation;
    let store = reopen(store);
    worked(RULE, prune_all(&store, &ada, 1))?;
    worked(RULE, prune_all(&store, &bo, 1))?;
    let store = reopen(store);
    for (owner, generation, image) in [(&ada, last, with_blobs(&ada, &["shared", "last"])), (&bo, bos, of_bo)] {
        let read = worked(RULE, store.read(owner, generation))?;
        holds(RULE, read == (Image { generation, ..image }), || format!("after a prune {owner} has {read:?}"))?;
    }
    Ok(())
}

fn at_once(store: &dyn Store) -> CheckResult {
    const RULE: &str = "of those who follow the same generation at once, one writes";
    let ada = player("ada");
    let mut newest = commit(RULE, store, 0, &image(&ada, 0))?.generation;
    for round in 0..20 {
        let results = std::thread::scope(|scope| {
            let writers: Vec<_> = (1..=4)
                .map(|writer| {
                    let image = image(&ada, round * 10 + writer);
                    scope.spawn(move || store.commit(newest, &image))
                })
                .collect();
            writers.into_iter().map(std::thread::ScopedJoinHandle::join).collect::<Vec<_>>()
        });
        let written: Vec<u64> =
            results.iter().filter_map(|result| Some(result.as_ref().ok()?.as_ref().ok()?.generation)).collect();
        holds(RULE, written.len() == 1, || format!("{} of 4 were told that they wrote", written.len()))?;
        newest = written[0];
    }
    Ok(())
}

fn newest_in_one_go(store: &dyn Store) -> CheckResult {
    const RULE: &str = "the newest generation can be read in one go";
    let ada = player("ada");
    let found = worked(RULE, store.newest(&ada))?;
    holds(RULE, found.is_none(), || format!("an unknown player has {found:?}"))?;
    let mut newest = 0;
    for value in 1..=3 {
        newest = commit(RULE, store, newest, &image(&ada, value))?.generation;
        let found = worked(RULE, store.newest(&ada))?;
        let same = found.as_ref().is_some_and(|found| {
            let expected = Image { generation: newest, ..image(&ada, value) };
            found.generation == newest && found.image.as_ref().is_ok_and(|image| *image == expected)
        });
        holds(RULE, same, || format!("after generation {newest} it is {found:?}"))?;
    }
    Ok(())
}

fn several_commits(store: &dyn Store) -> CheckResult {
    const RULE: &str = "of several commits at once each counts by itself, and is answered in its place";
    let (ada, bo, cy, dee) = (player("ada"), player("bo"), player("cy"), player("dee"));
    let bos = commit(RULE, store, 0, &image(&bo, 1))?.generation;
    let dees = commit(RULE, store, 0, &with_blobs(&dee, &["a sketch"]))?.generation;
    let of_cy = with_blobs(&cy, &["a sketch", "a map"]);
    let images: Vec<(u64, Image)> = vec![
        (0, image(&ada, 1)),
        (bos + 7, image(&bo, 1)),
        (0, image(&player(&"x".repeat(61)), 1)),
        (0, of_cy.clone()),
        (0, image(&dee, 2)),
    ];
    let encoded: Vec<(u64, EncodedImage)> = images.iter().map(|(follows, image)| (*follows, image.encoded())).collect();
    let commits: Vec<Commit<'_>> =
        encoded.iter().map(|(follows, image)| Commit { follows: *follows, image, lease: None }).collect();
    let results = store.commit_all(&commits);
    let ok = results.len() == 5
        && matches!(&results[0], Ok(committed) if committed.written)
        && matches!(&results[2], Err(StoreError::BadProfile { .. }))
        && matches!(&results[3], Ok(committed) if committed.written)
        && matches!(&results[4], Err(StoreError::Conflict { newest, follows: 0, .. }) if *newest == dees);
    holds(RULE, ok, || format!("the answers are {results:?}"))?;
    let read = worked(RULE, store.read(&cy, results[3].as_ref().map_or(0, |committed| committed.generation)))?;
    let same = read.values == of_cy.values && read.blobs == of_cy.blobs;
    holds(RULE, same, || format!("one of them reads as {read:?}"))?;
    let again = store.commit_all(&commits[..1]);
    let unchanged = matches!(&again[..], [Ok(committed)] if !committed.written);
    holds(RULE, unchanged, || format!("the same once more gave {again:?}"))?;
    let none = store.commit_all(&[]);
    holds(RULE, none.is_empty(), || format!("of no commits the answers are {none:?}"))?;
    let size = store.batch_size();
    holds(RULE, size > 0, || "a batch holds nothing".into())
}

/// The number of the newest generation, which is whole; 0 if there is none.
fn newest_of(rule: &'static str, store: &dyn Store, owner: &Owner) -> Result<u64, Breach> {
    match worked(rule, store.newest(owner))? {
        Some(newest) => worked(rule, newest.image).map(|_| newest.generation),
        None => Ok(0),
    }
}

/// A game that merges saves asks for the line of each player: it begins once, outlives the process, and remembers what was given away.
fn lines<S: Store>(store: S, reopen: &dyn Fn(S) -> S) -> CheckResult {
    let breach = |rule: &'static str, found: String| Err(Breach { rule, found, may_pass: false });
    let fails = |error: StoreError| Breach {
        rule: "a store keeps lines of saves",
        found: error.to_string(),
        may_pass: error.may_pass(),
    };
    let (ada, bo) = (Owner::Profile("ada".into()), Owner::Profile("Ada".into()));
    if let Some(line) = store.line(&ada).map_err(fails)? {
        return breach("no line is there before one begins", format!("{line:?}"));
    }
    let first = match store.begin_line(&ada) {
        // It says so, and games that do not merge saves need none.
        Err(StoreError::NoLines { .. }) => return Ok(()),
        begun => begun.map_err(fails)?,
    };
    let save = |count| GivenSave { count, tag: "x-_".into() };
    for count in 1..=Line::GIVEN as u64 + 2 {
        store.give(&ada, &save(count)).map_err(fails)?;
    }
    store.commit(0, &image(&ada, 1)).map_err(fails)?;
    prune_all(&store, &ada, 1).map_err(fails)?;
    let store = reopen(store);
    let found = store.line(&ada).map_err(fails)?;
    let kept = found.as_ref().map(|line| (line.installation.clone(), line.given.first().cloned(), line.last()));
    if kept != Some((first.installation.clone(), Some(save(3)), Line::GIVEN as u64 + 2)) {
        return breach("a line outlives the process, with the last saves that were given", format!("{found:?}"));
    }
    if let Some(line) = store.line(&bo).map_err(fails)? {
        return breach("a line is one owner's", format!("{line:?}"));
    }
    let second = store.begin_line(&ada).map_err(fails)?;
    if second.installation == first.installation || !second.given.is_empty() {
        return breach("each line has an id of its own", format!("{second:?}"));
    }
    Ok(())
}

fn own_lease(store: &dyn Store) -> CheckResult {
    const RULE: &str = "who holds the lease on an owner writes, renews it and gives it back";
    let ada = player("ada");
    let lasts = Duration::from_secs(60);
    for value in 1..=3 {
        let lease = worked(RULE, store.lease(&ada, "the only one", lasts))?;
        let holds_it = lease.owner() == &ada && lease.holder() == "the only one";
        holds(RULE, holds_it, || format!("the lease is {lease:?}"))?;
        let mut newest = newest_of(RULE, store, &ada)?;
        // The second one has been there already when the lease was taken.
        for value in [value, value + 10] {
            let encoded = image(&ada, value).encoded();
            let commits = [Commit { follows: newest, image: &encoded, lease: Some(&lease) }];
            let mut results = store.commit_all(&commits);
            newest = worked(RULE, results.pop().unwrap_or(Err(StoreError::Closed)))?.generation;
            let again = store.commit_all(&[Commit { follows: newest, ..commits[0] }]);
            let unchanged = matches!(&again[..], [Ok(committed)] if !committed.written);
            holds(RULE, unchanged, || format!("the same once more gave {again:?}"))?;
        }
        let read = worked(RULE, store.read(&ada, newest))?;
        let expected = Image { generation: newest, ..image(&ada, value + 10) };
        holds(RULE, read == expected, || format!("it is {read:?}"))?;
        let leases = [lease];
        for renewed in store.renew(&leases, lasts) {
            worked(RULE, renewed)?;
        }
        if value > 1 {
            worked(RULE, store.release(&leases))?;
        }
    }
    let newest = newest_of(RULE, store, &ada)?;
    commit(RULE, store, newest, &image(&ada, 9)).map(drop)
}
