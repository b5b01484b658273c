//! What a store that several processes have open must do besides.

use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use vestigum::{Commit, Committed, Image, Lease, Owner, Store, StoreError, prune_all};

use super::{Breach, CheckResult, commit, holds, image, newest_of, player, worked};

/// Describes what two processes do on one place.
type Check = fn(&dyn Store, &dyn Store) -> CheckResult;

/// A lease that runs on for as long as a check takes.
const LONG: Duration = Duration::from_secs(60);
/// A lease that runs out while a check waits.
const SHORT: Duration = Duration::from_millis(150);
/// Commits with an old lease are watched for 250 ms, and to the end of the commit that is under way then.
const LATE: Duration = Duration::from_millis(250);

/// Tries the leases of stores, and what two processes do to each other. `empty` makes a store on a place of its own, and `beside`
/// opens the same place once more while the first is open, as another process would. Answers what is broken: of each rule the
/// first case.
///
/// ```
/// use vestigum::MemoryStore;
/// use vestigum_verify::store_suite::shared_breaches;
///
/// let found = shared_breaches(&MemoryStore::default, &|store| store.clone());
/// assert!(found.is_empty(), "{found:?}");
/// ```
pub fn shared_breaches<S: Store>(empty: &dyn Fn() -> S, beside: &dyn Fn(&S) -> S) -> Vec<Breach> {
    let both = || {
        let first = empty();
        let second = beside(&first);
        (first, second)
    };
    let checks: [Check; 9] = [
        seen_by_the_other,
        one_holder,
        without_the_lease,
        run_out,
        taken_over,
        given_back,
        taken_again,
        taken_at_once,
        taken_under_way,
    ];
    // What waits for a lease of 150 ms has little time for an answer: trouble that may pass is tried again, three times in all.
    let run = |check: &Check| {
        let mut found = None;
        for _ in 0..3 {
            let (first, second) = both();
            found = check(&first, &second).err();
            if !found.as_ref().is_some_and(|breach: &Breach| breach.may_pass) {
                break;
            }
        }
        found
    };
    checks.iter().filter_map(run).collect()
}

fn commit_with(store: &dyn Store, follows: u64, image: &Image, lease: Option<&Lease>) -> Result<Committed, StoreError> {
    let encoded = image.encoded();
    let mut results = store.commit_all(&[Commit { follows, image: &encoded, lease }]);
    results.pop().unwrap_or(Err(StoreError::Closed))
}

fn renew(store: &dyn Store, lease: &Lease) -> Result<(), StoreError> {
    store.renew(std::slice::from_ref(lease), LONG).pop().unwrap_or(Err(StoreError::Closed))
}

fn is_held<T>(result: &Result<T, StoreError>, by: &str) -> bool {
    matches!(result, Err(StoreError::Leased { holder, left, .. }) if holder == by && !left.is_zero() && *left <= LONG)
}

fn is_lost<T>(result: &Result<T, StoreError>, to: Option<&str>) -> bool {
    matches!(result, Err(StoreError::LeaseLost { holder, .. }) if holder.as_deref() == to)
}

fn seen_by_the_other(first: &dyn Store, second: &dyn Store) -> CheckResult {
    const RULE: &str = "what one process wrote the other sees, and does not overwrite";
    let ada = player("ada");
    let one = commit(RULE, first, 0, &image(&ada, 1))?.generation;
    let read = worked(RULE, second.read(&ada, one))?;
    holds(RULE, read == (Image { generation: one, ..image(&ada, 1) }), || format!("the other reads {read:?}"))?;
    let two = commit(RULE, second, one, &image(&ada, 2))?.generation;
    let refused = first.commit(one, &image(&ada, 3));
    let conflict = matches!(&refused, Err(StoreError::Conflict { newest, .. }) if *newest == two);
    holds(RULE, conflict, || format!("behind its back it answered {refused:?}"))?;
    let found = worked(RULE, first.newest(&ada))?;
    holds(RULE, found.is_some_and(|found| found.generation == two), || "the newest is not the other's".into())
}

fn one_holder(first: &dyn Store, second: &dyn Store) -> CheckResult {
    const RULE: &str = "while a lease runs no other holder gets one, and a renewed one runs on";
    let (ada, bo) = (player("ada"), player("bo"));
    let lease = worked(RULE, first.lease(&ada, "one", SHORT))?;
    worked(RULE, renew(first, &lease))?;
    std::thread::sleep(SHORT * 2);
    let refused = second.lease(&ada, "two", LONG);
    holds(RULE, is_held(&refused, "one"), || format!("the other got {refused:?}"))?;
    worked(RULE, second.lease(&bo, "two", LONG))?;
    worked(RULE, commit_with(first, 0, &image(&ada, 1), Some(&lease))).map(drop)
}

fn without_the_lease(first: &dyn Store, second: &dyn Store) -> CheckResult {
    const RULE: &str = "while a lease runs, a commit that does not carry it is refused";
    let ada = player("ada");
    let lease = worked(RULE, first.lease(&ada, "one", LONG))?;
    let generation = worked(RULE, commit_with(first, 0, &image(&ada, 1), Some(&lease)))?.generation;
    let plain = image(&ada, 2);
    let refused = [
        second.commit(generation, &plain),
        second.commit_encoded(generation, &plain.encoded()),
        commit_with(second, generation, &plain, None),
    ];
    holds(RULE, refused.iter().all(|refused| is_held(refused, "one")), || format!("it answered {refused:?}"))?;
    let read = worked(RULE, second.newest(&ada))?;
    holds(RULE, read.is_some_and(|read| read.generation == generation), || "something was written".into())
}

fn run_out(first: &dyn Store, second: &dyn Store) -> CheckResult {
    const RULE: &str = "a lease that has run out holds until somebody else takes one";
    let ada = player("ada");
    let lease = worked(RULE, first.lease(&ada, "one", SHORT))?;
    std::thread::sleep(SHORT * 2);
    let generation = worked(RULE, commit_with(first, 0, &image(&ada, 1), Some(&lease)))?.generation;
    worked(RULE, renew(first, &lease))?;
    let refused = second.lease(&ada, "two", LONG);
    holds(RULE, is_held(&refused, "one"), || format!("after it was renewed the other got {refused:?}"))?;
    worked(RULE, commit_with(first, generation, &image(&ada, 2), Some(&lease))).map(drop)
}

fn taken_over(first: &dyn Store, second: &dyn Store) -> CheckResult {
    const RULE: &str =
        "a holder whose lease ran out and was taken writes nothing any more, and what it wrote before is kept";
    let (ada, bo, cy) = (player("ada"), player("bo"), player("cy"));
    let lease = worked(RULE, first.lease(&ada, "one", SHORT))?;
    let of_bo = worked(RULE, first.lease(&bo, "one", LONG))?;
    // One whose first save is still to come.
    let of_cy = worked(RULE, first.lease(&cy, "one", SHORT))?;
    let mut written = 0;
    for value in 1..=2 {
        written = worked(RULE, commit_with(first, written, &image(&ada, value), Some(&lease)))?.generation;
    }
    let taken = taken_when_free(RULE, second, &ada)?;
    holds(RULE, taken.token() > lease.token(), || format!("token {} follows {}", taken.token(), lease.token()))?;
    let cy_taken = taken_when_free(RULE, second, &cy)?;
    let newest = newest_of(RULE, second, &ada)?;
    let read = worked(RULE, second.read(&ada, newest))?;
    holds(RULE, read.values == image(&ada, 2).values, || format!("the new holder reads {read:?}"))?;
    // The new holder plays on, and what is old is removed: nothing is left that the old one's saves could run into.
    let mut newest = newest;
    for value in 10..16 {
        newest = worked(RULE, commit_with(second, newest, &image(&ada, value), Some(&taken)))?.generation;
    }
    worked(RULE, prune_all(second, &ada, 1))?;
    // A batch with lost leases in it: the other is written.
    let (late, fine, first_of_cy) = (image(&ada, 3).encoded(), image(&bo, 1).encoded(), image(&cy, 1).encoded());
    let commits = [
        Commit { follows: written, image: &late, lease: Some(&lease) },
        Commit { follows: 0, image: &fine, lease: Some(&of_bo) },
        Commit { follows: 0, image: &first_of_cy, lease: Some(&of_cy) },
    ];
    let results = first.commit_all(&commits);
    let right = results.len() == 3
        && is_lost(&results[0], Some("two"))
        && results[1].is_ok()
        && is_lost(&results[2], Some("two"));
    holds(RULE, right, || format!("a batch answered {results:?}"))?;
    let renewed = first.renew(&[of_bo, lease.clone()], LONG);
    let right = renewed.len() == 2 && renewed[0].is_ok() && is_lost(&renewed[1], Some("two"));
    holds(RULE, right, || format!("renewing answered {renewed:?}"))?;
    worked(RULE, first.release(&[lease]))?;
    worked(RULE, commit_with(second, newest, &image(&ada, 4), Some(&taken)))?;
    worked(RULE, commit_with(second, 0, &image(&cy, 2), Some(&cy_taken))).map(drop)
}

fn taken_when_free(rule: &'static str, store: &dyn Store, owner: &Owner) -> Result<Lease, Breach> {
    let began = Instant::now();
    loop {
        match store.lease(owner, "two", LONG) {
            Err(StoreError::Leased { .. }) if began.elapsed() < SHORT * 20 => std::thread::sleep(SHORT / 10),
            result => return worked(rule, result),
        }
    }
}

fn given_back(first: &dyn Store, second: &dyn Store) -> CheckResult {
    const RULE: &str = "a lease that was given back is another's at once, and is worth nothing";
    let ada = player("ada");
    let lease = worked(RULE, first.lease(&ada, "one", LONG))?;
    let written = worked(RULE, commit_with(first, 0, &image(&ada, 1), Some(&lease)))?.generation;
    worked(RULE, first.release(std::slice::from_ref(&lease)))?;
    let late = commit_with(first, written, &image(&ada, 2), Some(&lease));
    holds(RULE, is_lost(&late, None), || format!("a commit that carries it answered {late:?}"))?;
    commit(RULE, first, written, &image(&ada, 3))?;
    let next = worked(RULE, second.lease(&ada, "two", LONG))?;
    holds(RULE, next.token() > lease.token(), || format!("token {} follows {}", next.token(), lease.token()))
}

fn taken_again(first: &dyn Store, second: &dyn Store) -> CheckResult {
    const RULE: &str = "a holder that takes its running lease anew loses the old one";
    let ada = player("ada");
    let old = worked(RULE, first.lease(&ada, "one", LONG))?;
    let written = worked(RULE, commit_with(first, 0, &image(&ada, 1), Some(&old)))?.generation;
    let new = worked(RULE, second.lease(&ada, "one", LONG))?;
    let late = commit_with(first, written, &image(&ada, 2), Some(&old));
    holds(RULE, is_lost(&late, Some("one")), || format!("the old one answered {late:?}"))?;
    worked(RULE, first.release(&[old]))?;
    let newest = newest_of(RULE, second, &ada)?;
    worked(RULE, commit_with(second, newest, &image(&ada, 3), Some(&new))).map(drop)
}

fn taken_at_once(first: &dyn Store, second: &dyn Store) -> CheckResult {
    const RULE: &str = "of those who take a lease at once, one gets it";
    for round in 0..10 {
        let owner = player(&format!("carrier {round}"));
        let stores = [first, second, first, second];
        let taken: Vec<bool> = std::thread::scope(|scope| {
            let takers: Vec<_> = stores
                .iter()
                .enumerate()
                .map(|(taker, store)| {
                    let owner = &owner;
                    scope.spawn(move || store.lease(owner, &format!("taker {taker}"), LONG).is_ok())
                })
                .collect();
            takers.into_iter().map(|taker| taker.join().unwrap_or(false)).collect()
        });
        let got = taken.iter().filter(|taken| **taken).count();
        holds(RULE, got == 1, || format!("{got} of 4 got it"))?;
    }
    Ok(())
}

/// A commit is under way while the lease is taken: a store that reads the lease and then writes, in two steps, writes after it.
fn taken_under_way(first: &dyn Store, second: &dyn Store) -> CheckResult {
    const RULE: &str =
        "nothing is written with an old lease once a new one was given, not even by a commit that was under way";
    for round in 0..20_u32 {
        let owner = player(&format!("runner {round}"));
        let old = worked(RULE, first.lease(&owner, "one", LONG))?;
        let mut written = worked(RULE, commit_with(first, 0, &image(&owner, 0), Some(&old)))?.generation;
        let stop = AtomicBool::new(false);
        let (seen, last) = std::thread::scope(|scope| {
            let writer = scope.spawn(|| {
                let mut value = 0;
                while !stop.load(Ordering::Relaxed) {
                    value += 1;
                    match commit_with(first, written, &image(&owner, value), Some(&old)) {
                        Ok(committed) => written = committed.generation,
                        Err(_) => break,
                    }
                    // The other gets a turn, also where the place has one lock for all.
                    std::thread::sleep(Duration::from_millis(1));
                }
                written
            });
            // A little later each time, so that it falls into every part of a commit.
            std::thread::sleep(Duration::from_micros(u64::from(round) * 131));
            let seen = second.lease(&owner, "one", LONG).and_then(|_| second.newest(&owner));
            // It is refused now; one that is not has had time enough to show it.
            let taken = Instant::now();
            while !writer.is_finished() && taken.elapsed() < LATE {
                std::thread::sleep(Duration::from_millis(1));
            }
            stop.store(true, Ordering::Relaxed);
            (seen, writer.join())
        });
        let seen = worked(RULE, seen)?.map_or(0, |newest| newest.generation);
        let now = newest_of(RULE, second, &owner)?;
        let late = last.is_ok_and(|last| last > seen);
        holds(RULE, now == seen && !late, || {
            format!("the new holder read generation {seen}, and the old one wrote generation {now} afterwards")
        })?;
    }
    Ok(())
}
