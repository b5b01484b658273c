//! What is to be written for one owner, and how far that is.

use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime};

use vestigum_core::device::DeviceSnapshot;
use vestigum_core::suspension::replica::{Handed, Replica};
use vestigum_core::{EncodedImage, Owner};

use super::following::Following;
use crate::clock::rfc3339;
use crate::store::{Lease, Store, StoreError};

/// After this number of failed tries of one projection its tickets answer with the error; the saver goes on trying.
const TRIES: u32 = 4;
/// The time before the second try. It doubles each time.
pub(super) const FIRST_PAUSE: Duration = Duration::from_millis(25);
pub(super) const LONGEST_PAUSE: Duration = Duration::from_secs(10);
/// A commit that takes longer is told as a failure, though it is still on its way.
const NO_ANSWER: Duration = Duration::from_secs(5);
pub(super) const LONGEST_HURRIED: Duration = Duration::from_millis(250);
/// 16 commits after the last pruning, old generations are removed when there is nothing else to do; after 32, before the next commits, so that they do not pile up while a game saves without a pause.
const PRUNE_AFTER: u32 = 16;

/// When what failed is tried again.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Retry {
    /// After a pause that grows with each try, up to this.
    Within(Duration),
    /// The saver closes.
    Never,
}

/// A save that is durable.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Saved {
    /// The generation of the profile that holds the progress; 0 once the player has left a roster, which then knows nothing of it any
    /// more.
    pub generation: u64,
    /// Whether anything had to be written.
    pub written: bool,
}

/// Describes what is to be written for one owner, and how far that is.
pub(super) struct OwnerQueue {
    pub owner: Arc<Owner>,
    pub running: bool,
    /// Whether nobody looks at it any more once it is done: it is forgotten then.
    pub retired: bool,
    /// Whether a writer is at it: no two are at the files of one owner.
    pub busy: bool,
    /// Since when a commit is on its way.
    pub since: Option<Instant>,
    /// Whether what is being written may be gone: then it is written once more.
    pub again: bool,
    /// The event at which a commit of this owner ended that found older saves gone.
    pub noticed: u64,
    pub waiting: Option<Waiting>,
    /// The number that was handed over last, and the one that is durable.
    pub handed: u64,
    pub durable: u64,
    pub saved: Saved,
    pub failure: Option<SaveFailure>,
    /// Says what was given up, because another holder has the owner: these numbers never become durable.
    pub given_up: Option<GivenUp>,
    /// Says what commits carry.
    pub lease: Option<Lease>,
    /// The digests of images whose commit failed in a way that leaves open whether they were written, since the last that did
    /// not fail. A store beyond a network can do what it was asked, and lose the answer.
    pub uncertain: Vec<String>,
    pub prune: Prune,
    pub after: After,
    /// Says what the session has handed over since a writer took it.
    pub pending: Vec<Handed>,
    /// The session's progress as of what a writer took. A writer that is busy has it.
    pub replica: Option<Box<Replica>>,
    /// The origins of the session's saves, in a game that merges. A writer that is busy has it.
    pub following: Option<Box<Following>>,
    /// The device's values as they were handed over last.
    pub device: Option<Arc<DeviceSnapshot>>,
    /// When what was written last was handed over, while sessions run: if saves turn out to be gone, it is written again.
    pub last: Option<SystemTime>,
    /// Says where the lists of all queues have it.
    pub listed: Listed,
}

/// Whether the device's queue must be ahead of a player's.
#[derive(Clone, Copy, Default)]
pub(super) enum After {
    #[default]
    Nothing,
    /// Of what is handed over next.
    Next,
    /// Of this number of the device's queue.
    Device(u64),
}

/// Describes what is written next.
pub(super) struct Waiting {
    pub number: u64,
    /// The first to come is written first.
    pub turn: u64,
    pub at: SystemTime,
}

#[derive(Default)]
pub(super) struct Prune {
    pub keep: u32,
    pub commits: u32,
    pub due: bool,
}

impl Prune {
    pub(super) fn is_pressing(&self) -> bool {
        self.commits >= 2 * PRUNE_AFTER
    }

    pub(super) fn committed(&mut self, written: bool) {
        self.commits += u32::from(written);
        self.due |= self.commits >= PRUNE_AFTER;
    }
}

pub(super) struct SaveFailure {
    pub error: Arc<StoreError>,
    pub number: u64,
    tries: u32,
    /// When to try again; never, if trying cannot help.
    pub again: Option<Instant>,
}

/// Numbers that never become durable, and why.
pub(super) struct GivenUp {
    after: u64,
    to: u64,
    error: Arc<StoreError>,
}

impl GivenUp {
    pub(super) fn error_of(&self, number: u64) -> Option<&Arc<StoreError>> {
        (number > self.after && number <= self.to).then_some(&self.error)
    }
}

/// In which lists of the queues an owner is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Listed {
    /// Says what is to be written, by its turn.
    pub turn: Option<u64>,
    /// When a save that failed is tried again, and its turn.
    pub later: Option<(Instant, u64)>,
    pub due: bool,
    pub pressing: bool,
}

/// A projection that is being written.
pub(super) struct Job {
    pub owner: Arc<Owner>,
    pub follows: u64,
    pub at: SystemTime,
    pub content: Content,
    pub lease: Option<Lease>,
    pub uncertain: Vec<String>,
    pub number: u64,
    pub turn: u64,
    pub began: u64,
}

/// Describes what is written for an owner.
pub(super) enum Content {
    /// Of a player the copy of the session's progress, what it has not heard of yet, and the origins of its saves.
    Profile(Option<Box<Replica>>, Vec<Handed>, Option<Box<Following>>),
    Device(Option<Arc<DeviceSnapshot>>),
}

impl Job {
    /// Brings the copy up to date, and encodes what is to be written; none if there is nothing.
    ///
    /// # Errors
    /// If the first save by play begins a line, and the store cannot write it.
    pub(super) fn encode(&mut self, store: &dyn Store) -> Result<Option<EncodedImage>, StoreError> {
        let saved_at = rfc3339(self.at);
        match &mut self.content {
            Content::Profile(replica, pending, following) => {
                for handed in pending.drain(..) {
                    *replica = Replica::after(replica.take(), handed);
                }
                let Some(replica) = replica else { return Ok(None) };
                let suspended = replica.suspended();
                let Some(following) = following else {
                    return Ok(Some(suspended.encoded(&self.owner, saved_at)));
                };
                let visits = replica.visits();
                let origin = following.contribute(store, &self.owner, &suspended, &visits, self.at)?;
                let image = suspended.encoded_with(&self.owner, saved_at, Some(&origin));
                replica.visits_are_told();
                Ok(Some(image))
            }
            Content::Device(snapshot) => Ok(snapshot.as_ref().map(|snapshot| snapshot.encoded(saved_at))),
        }
    }
}

impl OwnerQueue {
    /// A queue that begins when that number was the last: all before it count as durable.
    pub(super) fn new(owner: Arc<Owner>, number: u64) -> OwnerQueue {
        OwnerQueue {
            owner,
            running: false,
            retired: false,
            busy: false,
            since: None,
            again: false,
            noticed: 0,
            waiting: None,
            handed: number,
            durable: number,
            saved: Saved::default(),
            failure: None,
            given_up: None,
            lease: None,
            uncertain: Vec::new(),
            prune: Prune::default(),
            after: After::default(),
            pending: Vec::new(),
            replica: None,
            following: None,
            device: None,
            last: None,
            listed: Listed::default(),
        }
    }

    pub(super) fn is_settled(&self) -> bool {
        self.durable == self.handed
    }

    /// Takes what is to be written next.
    pub(super) fn take(&mut self, began: u64) -> Option<Job> {
        let Waiting { number, turn, at } = self.waiting.take()?;
        (self.busy, self.since) = (true, Some(Instant::now()));
        let content = match *self.owner {
            Owner::Profile(_) => {
                Content::Profile(self.replica.take(), std::mem::take(&mut self.pending), self.following.take())
            }
            Owner::Device => Content::Device(self.device.clone()),
        };
        let uncertain = std::mem::take(&mut self.uncertain);
        let (owner, lease) = (self.owner.clone(), self.lease.clone());
        Some(Job { owner, follows: self.saved.generation, at, content, lease, uncertain, number, turn, began })
    }

    /// Takes back what a writer had.
    pub(super) fn give_back(&mut self, content: Content) {
        (self.busy, self.since) = (false, None);
        if let Content::Profile(replica, mut spare, following) = content {
            self.replica = replica;
            // A session that began meanwhile has its own.
            self.following = self.following.take().or(following);
            // The memory of the list is used again.
            if self.pending.is_empty() {
                spare.clear();
                self.pending = spare;
            }
        }
    }

    /// Returns why the commit that is on its way counts as failed though it has not: the store has not answered for longer than anybody expects.
    pub(super) fn stuck(&self, now: Instant) -> Option<StoreError> {
        let waited = now.saturating_duration_since(self.since?);
        (waited >= NO_ANSWER).then_some(StoreError::TimedOut { waited, last: None })
    }

    /// Nobody needs the copies once the session has ended and everything is written.
    pub(super) fn forget_copies(&mut self) {
        if !self.running && !self.busy && self.waiting.is_none() {
            (self.pending, self.replica, self.following) = (Vec::new(), None, None);
        }
    }

    /// Gives up what is not durable: it can never be written, and is told to those who wait for it.
    pub(super) fn give_up(&mut self, error: Arc<StoreError>) {
        self.given_up = Some(GivenUp { after: self.durable, to: self.handed, error });
        (self.waiting, self.failure, self.durable) = (None, None, self.handed);
        self.uncertain.clear();
        self.forget_copies();
    }

    /// Returns whether nobody misses it.
    pub(super) fn is_over(&self) -> bool {
        self.retired
            && !self.running
            && !self.busy
            && self.waiting.is_none()
            && self.is_settled()
            && !self.prune.due
            && self.given_up.is_none()
    }

    /// Returns whether the device's queue is as far as this one needs it.
    pub(super) fn may_follow(&self, device: u64) -> bool {
        !matches!(self.after, After::Device(number) if device < number)
    }

    /// In which lists it belongs. What waits and failed is tried again at a time, or never if trying cannot help.
    pub(super) fn wanted(&self) -> Listed {
        let idle = !self.busy;
        let (due, pressing) = (idle && self.prune.due, idle && self.prune.is_pressing());
        let mut listed = Listed { turn: None, later: None, due, pressing };
        if let Some(waiting) = self.waiting.as_ref().filter(|_| idle) {
            let failure = self.failure.as_ref().filter(|failure| failure.number == waiting.number);
            match failure.map(|failure| failure.again) {
                None => listed.turn = Some(waiting.turn),
                Some(Some(again)) => listed.later = Some((again, waiting.turn)),
                Some(None) => {}
            }
        }
        listed
    }

    pub(super) fn failed(&mut self, tried: Waiting, error: StoreError, retry: Retry) {
        let tries = self.failure.take().map_or(0, |failure| failure.tries) + 1;
        let pause = FIRST_PAUSE.saturating_mul(1 << tries.min(20));
        let longest = match retry {
            Retry::Within(longest) => Some(longest),
            Retry::Never => None,
        };
        let again = longest.filter(|_| error.may_pass()).map(|longest| Instant::now() + pause.min(longest));
        self.failure = Some(SaveFailure { error: Arc::new(error), number: tried.number, tries, again });
        if self.waiting.is_none() {
            self.waiting = Some(tried);
        }
    }
}

impl SaveFailure {
    /// Returns whether tickets answer with it: trying again cannot help, or has not helped for a while.
    pub(super) fn is_told(&self) -> bool {
        self.again.is_none() || self.tries >= TRIES
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A server ends while the store is away: a try that was on its way when that began must not wait as long as one before it did.
    #[test]
    fn a_try_that_fails_while_somebody_waits_is_made_again_soon() {
        let mut queue = OwnerQueue::new(Arc::new(Owner::Device), 0);
        let mut pause_of = |retry| {
            let error =
                StoreError::Io { action: "", path: std::path::PathBuf::new(), cause: std::io::Error::other("away") };
            queue.failed(Waiting { number: 1, turn: 1, at: SystemTime::UNIX_EPOCH }, error, retry);
            let again = queue.failure.as_ref().and_then(|failure| failure.again);
            again.map(|again| again.saturating_duration_since(Instant::now()))
        };
        let patient = (0..12).map(|_| pause_of(Retry::Within(LONGEST_PAUSE))).last().flatten().unwrap();
        assert!(patient > Duration::from_secs(5), "{patient:?}");
        assert!(pause_of(Retry::Within(LONGEST_HURRIED)).unwrap() <= LONGEST_HURRIED);
        assert_eq!(pause_of(Retry::Never), None);
    }
}
