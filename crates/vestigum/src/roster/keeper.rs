//! What the threads of a roster share, and the one that renews leases and gives them back.

use std::collections::{BTreeMap, HashMap, VecDeque};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use vestigum_core::{Owner, Spec};

use super::joining::{Arrival, Join, JoinError};
use super::options::RosterOptions;
use crate::saver::{SaveTicket, Saver};
use crate::store::{Lease, StoreError, ends_at};

/// Looks every 5 ms whether those who have left are durable.
const LOOK: Duration = Duration::from_millis(5);
/// At most 1,000 leases are renewed or given back at once.
const AT_ONCE: usize = 1_000;

/// Describes what the threads of a roster share.
pub(super) struct Shared {
    pub saver: Saver,
    pub spec: Spec,
    pub options: RosterOptions,
    arrivals: Sender<Arrival>,
    state: Mutex<KeeperState>,
    /// Somebody wants to come in, or may now.
    joins: Condvar,
    /// Somebody has left, or has gone.
    leaves: Condvar,
}

#[derive(Default)]
struct KeeperState {
    joins: VecDeque<Join>,
    /// Those who wait for another server, by when it is asked again.
    later: BTreeMap<(Instant, u64), Join>,
    /// Counts them.
    waits: u64,
    /// Says how many are being loaded just now.
    loading: usize,
    leases: BTreeMap<Arc<str>, HeldLease>,
    /// Before this no lease runs out.
    none_before: Option<Instant>,
    leaving: HashMap<Arc<str>, SaveTicket>,
    no_joins: bool,
    stopping: bool,
}

/// A lease, and until when it runs by the clock of this server: the store is not asked, as it may not answer.
struct HeldLease {
    lease: Lease,
    until: Instant,
}

impl KeeperState {
    /// Tells everybody who waits that nobody comes in any more.
    fn turn_away(&mut self) {
        let waiting = self.joins.drain(..).chain(std::mem::take(&mut self.later).into_values());
        waiting.for_each(|join| join.ticket.tell(Err(Arc::new(JoinError::ShuttingDown))));
    }
}

impl Shared {
    pub(super) fn begin(
        spec: Spec,
        saver: Saver,
        options: RosterOptions,
    ) -> (Arc<Shared>, Receiver<Arrival>, Vec<JoinHandle<()>>) {
        let (arrivals, receiver) = channel();
        let loaders = options.loaders;
        let (state, joins, leaves) = (Mutex::default(), Condvar::new(), Condvar::new());
        let shared = Arc::new(Shared { saver, spec, options, arrivals, state, joins, leaves });
        let mut threads = Vec::new();
        let mut spawn = |name: &str, work: fn(&Shared)| {
            let shared = shared.clone();
            let spawned = std::thread::Builder::new().name(name.into()).spawn(move || work(&shared));
            match spawned {
                Ok(thread) => threads.push(thread),
                Err(error) => tracing::error!(%error, "a thread of a roster cannot begin"),
            }
        };
        (0..loaders).for_each(|_| spawn("vestigum loader", Shared::load_players));
        spawn("vestigum leases", Shared::keep_leases);
        (shared, receiver, threads)
    }

    fn lock(&self) -> MutexGuard<'_, KeeperState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn join(&self, join: Join) {
        self.lock().joins.push_back(join);
        self.joins.notify_one();
    }

    pub(super) fn join_again(&self, join: Join, at: Instant) {
        let mut state = self.lock();
        state.loading -= 1;
        state.waits += 1;
        let number = state.waits;
        state.later.insert((at, number), Join { asked: join.asked.saturating_add(1), ..join });
        if state.no_joins {
            state.turn_away();
            self.leaves.notify_all();
        }
        drop(state);
        self.joins.notify_one();
    }

    pub(super) fn arrived(&self, arrival: Arrival) {
        // Who has ended does not listen.
        let _ = self.arrivals.send(arrival);
        self.lock().loading -= 1;
        self.leaves.notify_all();
    }

    pub(super) fn keep_lease(&self, player: &Arc<str>, lease: Lease, asked: Instant) {
        let until = self.runs_until(asked);
        let mut state = self.lock();
        state.leases.insert(player.clone(), HeldLease { lease, until });
        state.none_before = Some(state.none_before.map_or(until, |before| before.min(until)));
    }

    /// Returns until when a lease runs that was asked for then.
    fn runs_until(&self, asked: Instant) -> Instant {
        asked.checked_add(self.options.lease).unwrap_or_else(|| ends_at(self.options.lease))
    }

    /// Takes out the leases that have run out without being renewed. It asks nobody, so that a store that does not answer cannot keep
    /// it from being told.
    pub(super) fn run_out(&self) -> Vec<Lease> {
        let now = Instant::now();
        let mut state = self.lock();
        if state.none_before.is_none_or(|before| now < before) {
            return Vec::new();
        }
        let KeeperState { leases, leaving, .. } = &mut *state;
        let out: Vec<Arc<str>> = leases
            .iter()
            .filter(|(player, held)| held.until <= now && !leaving.contains_key(&**player))
            .map(|(player, _)| player.clone())
            .collect();
        let out = out.iter().filter_map(|player| Some(leases.remove(player)?.lease)).collect();
        let running = leases.iter().filter(|(player, _)| !leaving.contains_key(&***player));
        state.none_before = running.map(|(_, held)| held.until).min();
        out
    }

    /// Puts a lease back that is to be given up as soon as the last save is durable.
    pub(super) fn keep_for_the_last_save(&self, player: &Arc<str>, lease: Lease) {
        self.lock().leases.insert(player.clone(), HeldLease { lease, until: Instant::now() });
    }

    pub(super) fn forget_lease(&self, player: &str) {
        self.lock().leases.remove(player);
    }

    /// Returns who is let in next; none when the roster ends. Who is still leaving waits until that is done: the last save is loaded.
    pub(super) fn next_join(&self) -> Option<Join> {
        let mut state = self.lock();
        loop {
            if state.no_joins || state.stopping {
                return None;
            }
            let now = Instant::now();
            let KeeperState { joins, leaving, later, .. } = &mut *state;
            // Who has just come goes before those who wait for another server, however many those are.
            if let Some(next) = joins.iter().position(|join| !leaving.contains_key(&join.player))
                && let Some(join) = joins.remove(next)
            {
                state.loading += 1;
                return Some(join);
            }
            let first = later.first_key_value().map(|(key, _)| *key);
            if let Some(due) = first.filter(|(at, _)| *at <= now)
                && let Some(join) = later.remove(&due)
            {
                state.loading += 1;
                return Some(join);
            }
            let pause = first.map(|(at, _)| at.saturating_duration_since(now));
            state = match pause {
                None => self.joins.wait(state).unwrap_or_else(PoisonError::into_inner),
                Some(pause) => self.joins.wait_timeout(state, pause).unwrap_or_else(PoisonError::into_inner).0,
            };
        }
    }

    /// Lets nobody in any more, tells those who wait, and waits for those who are being loaded.
    pub(super) fn stop_joining(&self, timeout: Duration) {
        let until = Instant::now().checked_add(timeout);
        let mut state = self.lock();
        state.no_joins = true;
        state.turn_away();
        self.joins.notify_all();
        while state.loading > 0 {
            let left = until.map_or(timeout, |until| until.saturating_duration_since(Instant::now()));
            if left.is_zero() {
                return;
            }
            state = self.leaves.wait_timeout(state, left).unwrap_or_else(PoisonError::into_inner).0;
        }
    }

    pub(super) fn leave(&self, player: Arc<str>, ticket: SaveTicket) {
        self.lock().leaving.insert(player, ticket);
        self.leaves.notify_all();
    }

    pub(super) fn is_leaving(&self, player: &str) -> bool {
        self.lock().leaving.contains_key(player)
    }

    /// Those who have left and are not durable yet.
    pub(super) fn leaving(&self) -> Vec<(Arc<str>, SaveTicket)> {
        self.lock().leaving.iter().map(|(player, ticket)| (player.clone(), ticket.clone())).collect()
    }

    /// Gives the leases back of those who are durable, for as long as there is time. Answers whether there was.
    pub(super) fn release_all(&self, durable: &[String], timeout: Duration) -> bool {
        let until = Instant::now().checked_add(timeout);
        let mut state = self.lock();
        for player in durable {
            let player = Arc::<str>::from(player.as_str());
            if state.leases.contains_key(&player) {
                let owner = Owner::Profile(player.to_string());
                let ticket = self.saver.ticket_of(&Arc::new(owner));
                state.leaving.entry(player).or_insert(ticket);
            }
        }
        self.leaves.notify_all();
        // Who is leaving and not durable keeps the lease.
        while state.leaving.keys().any(|player| durable.binary_search_by(|name| name.as_str().cmp(player)).is_ok()) {
            let left = until.map_or(timeout, |until| until.saturating_duration_since(Instant::now()));
            if left.is_zero() {
                return false;
            }
            state = self.leaves.wait_timeout(state, left).unwrap_or_else(PoisonError::into_inner).0;
        }
        true
    }

    pub(super) fn stop(&self) {
        let mut state = self.lock();
        (state.stopping, state.no_joins) = (true, true);
        state.turn_away();
        drop(state);
        self.joins.notify_all();
        self.leaves.notify_all();
    }

    /// Renews the leases on a thread of its own until the roster ends.
    fn keep_leases(&self) {
        let every = self.options.lease / 3;
        let mut renews_at = ends_at(every);
        loop {
            self.let_go();
            let now = Instant::now();
            if now >= renews_at {
                // A store that does not answer is asked again soon: the leases run.
                let answered = self.renew();
                renews_at = ends_at(if answered { every } else { every / 10 });
            }
            let state = self.lock();
            if state.stopping {
                return;
            }
            let pause = renews_at.saturating_duration_since(Instant::now());
            let pause = if state.leaving.is_empty() { pause } else { pause.min(LOOK) };
            drop(self.leaves.wait_timeout(state, pause).unwrap_or_else(PoisonError::into_inner));
        }
    }

    /// Gives the leases back of those who have left and are durable.
    fn let_go(&self) {
        let mut gone = Vec::new();
        for (player, ticket) in self.leaving() {
            match ticket.poll() {
                Some(Ok(_)) => gone.push(player),
                Some(Err(error)) if error.is_someone_else() => {
                    self.saver.queue().give_up(&Owner::Profile(player.to_string()), error);
                    gone.push(player);
                }
                Some(Err(_)) | None => {}
            }
        }
        for players in gone.chunks(AT_ONCE) {
            let leases: Vec<Lease> = {
                let mut state = self.lock();
                players.iter().filter_map(|player| Some(state.leases.remove(player)?.lease)).collect()
            };
            if let Err(error) = self.saver.store().release(&leases) {
                tracing::warn!(%error, "leases could not be given back; they run out by themselves");
            }
            for player in players {
                self.saver.queue().retire(&Owner::Profile(player.to_string()));
            }
            let mut state = self.lock();
            players.iter().for_each(|player| drop(state.leaving.remove(player)));
            drop(state);
            self.joins.notify_all();
            self.leaves.notify_all();
        }
    }

    /// Returns whether the store answered.
    fn renew(&self) -> bool {
        let leases: Vec<Lease> = self.lock().leases.values().map(|held| held.lease.clone()).collect();
        let mut answered = true;
        for leases in leases.chunks(AT_ONCE) {
            let asked = Instant::now();
            let renewed = self.saver.store().renew(leases, self.options.lease);
            for (lease, renewed) in leases.iter().zip(renewed) {
                match renewed {
                    Ok(()) => self.renewed(lease, asked),
                    Err(error @ StoreError::LeaseLost { .. }) => self.lost(lease, error),
                    Err(error) => {
                        answered = false;
                        tracing::warn!(owner = %lease.owner(), %error, "a lease could not be renewed");
                    }
                }
            }
        }
        answered
    }

    fn renewed(&self, lease: &Lease, asked: Instant) {
        let Owner::Profile(name) = lease.owner() else { return };
        let until = self.runs_until(asked);
        let mut state = self.lock();
        if let Some(held) = state.leases.get_mut(name.as_str()).filter(|held| held.lease == *lease) {
            held.until = until;
        }
    }

    /// A lease that was not given back meanwhile is lost.
    fn lost(&self, lease: &Lease, error: StoreError) {
        let Owner::Profile(name) = lease.owner() else { return };
        let mut state = self.lock();
        if state.leases.get(name.as_str()).is_some_and(|held| held.lease == *lease)
            && !state.leaving.contains_key(name.as_str())
        {
            state.leases.remove(name.as_str());
            drop(state);
            self.saver.queue().lost(lease.clone(), Arc::new(error));
        }
    }
}
