//! The players of one server.
//!
//! ```text
//! the server's thread            threads of the roster                  the saver's threads
//!   join(player) ───────────────▶ lease ─▶ newest save ─▶ session
//!   tick(): who has come ◀────────────────────────┘
//!   get_mut(player): play
//!   tick(): save some of them ─────────────────────────────────────────▶ batches of commits
//!   leave(player): save ───────────────────────────────────────────────▶ commit
//!                                 durable: give the lease back ◀────────────┘
//!                                 renew the leases of all
//! ```
//!
//! A [`Roster`] holds a [`Session`] for each player who is on the server. Nothing that it does on the server's thread waits for the
//! store. Each player is held with a [lease](Store::lease), so two servers never play the same player, and one that was cut off for longer
//! than its leases run cannot write over what others wrote since.
//!
//! A server has no device: fields that last a device have their initial values in a roster, and are not saved.

mod durability;
mod joining;
mod keeper;
mod options;

pub use durability::{Durability, SavingAll};
pub use joining::{JoinError, JoinTicket};
pub use options::RosterOptions;

use std::collections::{BTreeSet, HashMap};
use std::fmt;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use vestigum_core::{Owner, Spec};

use joining::{Arrival, Join};
use keeper::Shared;

use crate::saver::{SaveTicket, Saver};
use crate::session::Session;
use crate::store::{Lease, Store, StoreError, ends_at};

/// The players of one server: see the [module](self).
///
/// A roster that is dropped without [`Roster::shutdown`] is a server that died: what was not handed over is lost, and its leases run out
/// by themselves.
///
/// # Example
///
/// ```
/// use std::time::Duration;
/// use vestigum::roster::{Roster, RosterEvent, RosterOptions};
/// use vestigum::{MemoryStore, Spec};
///
/// let spec = Spec::from_toml("[game]\nid = \"fellpost\"\n[field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"")?;
/// let xp = spec.int("xp")?;
/// let mut roster = Roster::new(&spec, MemoryStore::default(), RosterOptions::new("server 1"));
/// roster.join("ada");                                     // returns at once
/// # while roster.get("ada").is_none() {
/// for event in roster.tick() {                            // once a frame
///     match event {
///         RosterEvent::Joined { player } => println!("{player} is here"),
///         RosterEvent::Refused { player, why } => println!("{player} cannot play: {why}"),
///         RosterEvent::Lost { player, why } => println!("{player} plays elsewhere: {why}"),
///     }
/// }
/// # }
/// if let Some(ada) = roster.get_mut("ada") {
///     ada.add(xp, 5)?;
/// }
/// roster.leave("ada");                                    // returns at once; saved, then free for other servers
/// let told = roster.shutdown(Duration::from_secs(10));
/// assert!(told.all_durable(), "{told:?}");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub struct Roster {
    shared: Arc<Shared>,
    arrivals: Receiver<Arrival>,
    seats: HashMap<Arc<str>, Seat>,
    joining: HashMap<Arc<str>, Joining>,
    /// When each player is saved next without being asked to.
    next_saves: BTreeSet<(Instant, Arc<str>)>,
    autosave: Duration,
    lease: Duration,
    /// Says what is told by the next tick.
    events: Vec<RosterEvent>,
    threads: Vec<JoinHandle<()>>,
    /// Whether its end waits for the threads: they have nothing left to do.
    waits: bool,
    /// The last of the fields to be dropped: whoever waits for it has what the roster shared.
    gone: Option<Sender<()>>,
}

struct Seat {
    session: Session,
    owner: Arc<Owner>,
    lease: Lease,
    /// Whether somebody may have changed something since it was saved.
    touched: bool,
    next_save: Instant,
}

struct Joining {
    ticket: JoinTicket,
    /// Whether the player has left before it came.
    called_off: bool,
}

/// Describes what a server is told, once a frame.
#[derive(Clone, Debug)]
pub enum RosterEvent {
    /// A player is here.
    Joined {
        /// The player.
        player: String,
    },
    /// A player cannot play here.
    Refused {
        /// The player.
        player: String,
        /// Says why.
        why: Arc<JoinError>,
    },
    /// A player is lost: somebody else has the lease ([`StoreError::LeaseLost`]) or has written ([`StoreError::Conflict`]), and what was
    /// not saved here never will be; or the store did not answer for as long as the lease lasts ([`StoreError::LeaseRanOut`]), and the
    /// last save is still being tried, which the store refuses if somebody else has the player. The player is not on the roster any more.
    Lost {
        /// The player.
        player: String,
        /// Says why.
        why: Arc<StoreError>,
    },
}

impl RosterEvent {
    /// Returns whether it reports the arrival of a player: one who has gone before that was reported is not reported.
    fn is_joining_of(&self, name: &str) -> bool {
        matches!(self, RosterEvent::Joined { player } if player == name)
    }
}

/// Describes how a player is on a roster.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub enum PlayerState {
    /// The player is being loaded.
    Joining,
    /// The player is here.
    Playing,
    /// The player is here, and the last save failed for this reason. It is being tried again.
    Unsaved(Arc<StoreError>),
    /// The player has left, and the last save is on its way.
    Leaving,
}

impl Roster {
    /// A roster without players. All of its players play by the same spec.
    pub fn new(spec: &Spec, store: impl Store + 'static, options: RosterOptions) -> Roster {
        let saver = Saver::alone(store);
        saver.queue().set_pace(options.commits_a_second);
        saver.queue().set_longest_pause(options.lease / 4);
        let (autosave, lease) = (options.autosave, options.lease);
        let (shared, arrivals, threads) = Shared::begin(spec.clone(), saver, options);
        let (seats, joining, next_saves, events) = Default::default();
        Roster {
            shared,
            arrivals,
            seats,
            joining,
            next_saves,
            autosave,
            lease,
            events,
            threads,
            waits: false,
            gone: None,
        }
    }

    /// Lets a player in: takes the lease, and loads or begins. It returns at once; the ticket, or [`Roster::tick`], tells what came of it.
    /// A player who has the lease elsewhere is refused with [`JoinError::Held`].
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::roster::{Roster, RosterOptions};
    /// # use vestigum::{MemoryStore, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut roster = Roster::new(&spec, MemoryStore::default(), RosterOptions::new("server 1"));
    /// roster.join("ada").wait()?;
    /// roster.tick();
    /// assert_eq!(roster.len(), 1);
    /// # roster.shutdown(std::time::Duration::from_secs(5));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn join(&mut self, player: &str) -> JoinTicket {
        self.join_within(player, Duration::ZERO)
    }

    /// As [`Roster::join`], but where another server has the player, it is tried again for as long as `patience` lasts: until that
    /// server lets go, or its lease has run out.
    ///
    /// # Example
    ///
    /// ```
    /// # use std::time::Duration;
    /// # use vestigum::roster::{JoinError, Roster, RosterOptions};
    /// # use vestigum::{MemoryStore, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// let store = MemoryStore::default();
    /// let mut first = Roster::new(&spec, store.clone(), RosterOptions::new("server 1"));
    /// let mut second = Roster::new(&spec, store, RosterOptions::new("server 2"));
    /// first.join("ada").wait()?;
    /// let told = second.join("ada").wait().unwrap_err();
    /// assert!(matches!(&*told, JoinError::Held { holder, .. } if holder == "server 1"));
    /// let waits = second.join_within("ada", Duration::from_secs(30));
    /// first.leave("ada");
    /// first.tick();
    /// waits.wait()?;
    /// # first.shutdown(Duration::from_secs(5));
    /// # second.shutdown(Duration::from_secs(5));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn join_within(&mut self, player: &str, patience: Duration) -> JoinTicket {
        self.take_in();
        if let Some(joining) = self.joining.get_mut(player) {
            joining.called_off = false;
            return joining.ticket.clone();
        }
        if self.seats.contains_key(player) {
            return JoinTicket::refused(JoinError::AlreadyHere { player: player.to_owned() });
        }
        let (player, ticket) = (Arc::<str>::from(player), JoinTicket::default());
        self.joining.insert(player.clone(), Joining { ticket: ticket.clone(), called_off: false });
        self.shared.join(Join { player, ticket: ticket.clone(), until: ends_at(patience), asked: 0 });
        ticket
    }

    /// A player who is here, to play.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::roster::{Roster, RosterOptions};
    /// # use vestigum::{MemoryStore, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut roster = Roster::new(&spec, MemoryStore::default(), RosterOptions::new("server 1"));
    /// # roster.join("ada").wait()?;
    /// if let Some(game) = roster.get_mut("ada") {
    ///     game.enter("mill_lane")?;
    /// }
    /// # roster.shutdown(std::time::Duration::from_secs(5));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn get_mut(&mut self, player: &str) -> Option<&mut Session> {
        if !self.seats.contains_key(player) {
            self.take_in();
        }
        let seat = self.seats.get_mut(player)?;
        seat.touched = true;
        Some(&mut seat.session)
    }

    /// A player who is here, to look at: as of the last [`Roster::tick`].
    pub fn get(&self, player: &str) -> Option<&Session> {
        Some(&self.seats.get(player)?.session)
    }

    /// The players who are here, in no order.
    pub fn players(&self) -> impl Iterator<Item = &str> {
        self.seats.keys().map(|player| &**player)
    }

    /// Returns how many players are here.
    pub fn len(&self) -> usize {
        self.seats.len()
    }

    /// Returns whether nobody is here.
    pub fn is_empty(&self) -> bool {
        self.seats.is_empty()
    }

    /// Returns how a player is on the roster; none for one who is not, and is not expected.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::roster::{Roster, RosterOptions};
    /// # use vestigum::{MemoryStore, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut roster = Roster::new(&spec, MemoryStore::default(), RosterOptions::new("server 1"));
    /// use vestigum::roster::PlayerState;
    /// roster.join("ada");
    /// match roster.state("ada") {
    ///     Some(PlayerState::Unsaved(why)) => println!("ada is not saved: {why}"),
    ///     other => println!("{other:?}"),
    /// }
    /// # roster.shutdown(std::time::Duration::from_secs(5));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn state(&self, player: &str) -> Option<PlayerState> {
        if let Some(seat) = self.seats.get(player) {
            let failure = self.shared.saver.queue().failure(&[&*seat.owner]);
            return Some(failure.map_or(PlayerState::Playing, PlayerState::Unsaved));
        }
        if self.joining.contains_key(player) {
            return Some(PlayerState::Joining);
        }
        self.shared.is_leaving(player).then_some(PlayerState::Leaving)
    }

    /// Takes in who has come, notices who is lost, and saves those whose time it is: call it once a frame.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::roster::{Roster, RosterOptions};
    /// # use vestigum::{MemoryStore, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut roster = Roster::new(&spec, MemoryStore::default(), RosterOptions::new("server 1"));
    /// use vestigum::roster::RosterEvent;
    /// # roster.join("ada").wait()?;
    /// for event in roster.tick() {                  // once a frame
    ///     match event {
    ///         RosterEvent::Joined { player } => println!("{player} is here"),
    ///         RosterEvent::Refused { player, why } => println!("{player} cannot play here: {why}"),
    ///         RosterEvent::Lost { player, why } => println!("{player} is on another server: {why}"),
    ///         other => println!("{other:?}"),
    ///     }
    /// }
    /// # roster.shutdown(std::time::Duration::from_secs(5));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn tick(&mut self) -> Vec<RosterEvent> {
        self.take_in();
        for (lease, why) in self.shared.saver.queue().take_lost() {
            let Some((player, seat)) = self.unseat(&lease) else { continue };
            let ticket = self.shared.saver.ticket_of(&seat.owner);
            seat.session.close();
            self.shared.saver.queue().give_up(&seat.owner, why.clone());
            match &*why {
                // The lease is held still, and is given back.
                StoreError::Conflict { .. } => self.shared.leave(player.clone(), ticket),
                _ => self.shared.forget_lease(&player),
            }
            self.events.push(RosterEvent::Lost { player: player.to_string(), why });
        }
        for lease in self.shared.run_out() {
            let Some((player, mut seat)) = self.unseat(&lease) else { continue };
            // The store refuses it if somebody else has the player by now; if nobody has, nothing is lost.
            let ticket = match seat.touched {
                true => seat.session.save(),
                false => self.shared.saver.ticket_of(&seat.owner),
            };
            seat.session.close();
            self.shared.keep_for_the_last_save(&player, lease);
            self.shared.leave(player.clone(), ticket);
            let why = Arc::new(StoreError::LeaseRanOut { owner: (*seat.owner).clone(), lasts: self.lease });
            self.events.push(RosterEvent::Lost { player: player.to_string(), why });
        }
        let now = Instant::now();
        while let Some((at, player)) = self.next_saves.first().filter(|(at, _)| *at <= now).cloned() {
            self.next_saves.remove(&(at, player.clone()));
            if let Some(seat) = self.seats.get_mut(&player) {
                seat.save();
                seat.next_save = ends_at(self.autosave);
                self.next_saves.insert((seat.next_save, player));
            }
        }
        std::mem::take(&mut self.events)
    }

    /// Takes the player off the roster who holds that lease. One who has come again since has another.
    fn unseat(&mut self, lease: &Lease) -> Option<(Arc<str>, Seat)> {
        let Owner::Profile(name) = lease.owner() else { return None };
        if self.seats.get(name.as_str())?.lease != *lease {
            return None;
        }
        let (player, seat) = self.seats.remove_entry(name.as_str())?;
        self.events.retain(|event| !event.is_joining_of(&player));
        self.next_saves.remove(&(seat.next_save, player.clone()));
        Some((player, seat))
    }

    fn take_in(&mut self) {
        while let Ok(Arrival { player, result }) = self.arrivals.try_recv() {
            let called_off = self.joining.remove(&player).is_some_and(|joining| joining.called_off);
            match result {
                Ok((session, lease)) => {
                    let owner = Arc::new(Owner::Profile(player.to_string()));
                    // The saves of those who come at the same time are spread over the interval.
                    let next_save = ends_at(self.autosave.mul_f64(spread(&player)));
                    self.next_saves.insert((next_save, player.clone()));
                    self.seats.insert(player.clone(), Seat { session, owner, lease, touched: false, next_save });
                    if called_off {
                        self.leave(&player);
                    } else {
                        self.events.push(RosterEvent::Joined { player: player.to_string() });
                    }
                }
                Err(why) => self.events.push(RosterEvent::Refused { player: player.to_string(), why }),
            }
        }
    }

    /// Saves a player and lets go of it: when the save is durable, the lease is given back. It returns at once. None for one who is not
    /// here; one who is still joining is turned back.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::roster::{Roster, RosterOptions};
    /// # use vestigum::{MemoryStore, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut roster = Roster::new(&spec, MemoryStore::default(), RosterOptions::new("server 1"));
    /// # roster.join("ada").wait()?;
    /// roster.tick();
    /// if let Some(ticket) = roster.leave("ada") {
    ///     ticket.wait()?;                           // another server can have ada now
    /// }
    /// # roster.shutdown(std::time::Duration::from_secs(5));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn leave(&mut self, player: &str) -> Option<SaveTicket> {
        if let Some(joining) = self.joining.get_mut(player) {
            joining.called_off = true;
        }
        self.take_in();
        let (player, mut seat) = self.seats.remove_entry(player)?;
        self.events.retain(|event| !event.is_joining_of(&player));
        self.next_saves.remove(&(seat.next_save, player.clone()));
        let ticket = match seat.touched {
            true => seat.session.save(),
            // Nobody has done anything since the last save, which may still be on its way.
            false => self.shared.saver.ticket_of(&seat.owner),
        };
        seat.session.close();
        self.shared.saver.queue().prune(&seat.owner);
        self.shared.leave(player, ticket.clone());
        Some(ticket)
    }

    /// Saves everyone who may have changed. It returns at once.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::roster::{Roster, RosterOptions};
    /// # use vestigum::{MemoryStore, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut roster = Roster::new(&spec, MemoryStore::default(), RosterOptions::new("server 1"));
    /// use std::time::Duration;
    /// # roster.join("ada").wait()?;
    /// let saved = roster.save_all().wait(Duration::from_secs(5));
    /// assert!(saved.all_durable());
    /// # roster.shutdown(std::time::Duration::from_secs(5));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn save_all(&mut self) -> SavingAll {
        self.take_in();
        for seat in self.seats.values_mut() {
            seat.save();
        }
        let targets = self.shared.saver.queue().targets_of(self.seats.values().map(|seat| &seat.owner));
        SavingAll::new(self.shared.saver.clone(), self.seats.keys().cloned().zip(targets).collect())
    }

    /// The store.
    pub fn store(&self) -> &dyn Store {
        self.shared.saver.store()
    }

    /// Ends the roster: lets nobody in any more, saves everyone, also those who have left and are on their way, and gives the leases back of
    /// those who are durable. It takes no longer than `timeout`, and tells who is durable by then. What is not is lost.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::roster::{Roster, RosterOptions};
    /// # use vestigum::{MemoryStore, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut roster = Roster::new(&spec, MemoryStore::default(), RosterOptions::new("server 1"));
    /// use std::time::Duration;
    /// # roster.join("ada").wait()?;
    /// let told = roster.shutdown(Duration::from_secs(10));
    /// for (player, why) in &told.not_durable {
    ///     println!("{player} is not saved: {why:?}");
    /// }
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn shutdown(mut self, timeout: Duration) -> Durability {
        let until = Instant::now().checked_add(timeout);
        let left =
            |until: Option<Instant>| until.map_or(timeout, |until| until.saturating_duration_since(Instant::now()));
        // Who is coming in has played nothing: those who have are saved first.
        self.shared.stop_joining(Duration::ZERO);
        let mut saving = self.save_all();
        self.shared.saver.queue().hurry();
        for (player, ticket) in self.shared.leaving() {
            saving.add(player, ticket.targets().clone());
        }
        let told = saving.wait(left(until));
        self.shared.stop_joining(left(until));
        self.take_in();
        // Whoever came in meanwhile has played nothing, and the lease is given back.
        let known = |name: &String| {
            told.durable.binary_search(name).is_ok() || told.not_durable.iter().any(|(known, _)| known == name)
        };
        let mut released = told.durable.clone();
        released.extend(self.seats.keys().map(ToString::to_string).filter(|name| !known(name)));
        released.sort();
        for (_, seat) in self.seats.drain() {
            seat.session.close();
            self.shared.saver.queue().prune(&seat.owner);
        }
        let released = self.shared.release_all(&released, left(until));
        self.waits = released && told.all_durable();
        told
    }
}

impl Seat {
    fn save(&mut self) {
        if std::mem::take(&mut self.touched) {
            self.session.save();
        }
    }
}

impl Drop for Roster {
    fn drop(&mut self) {
        self.shared.stop();
        let threads = std::mem::take(&mut self.threads);
        let join = move || {
            for thread in threads {
                // What a panic said, it has said.
                let _ = thread.join();
            }
        };
        if self.waits {
            return join();
        }
        // A store that does not answer holds nobody up: what is shared is dropped elsewhere, and the saver with it.
        let (gone, is_gone) = channel();
        self.gone = Some(gone);
        let shared = self.shared.clone();
        let waits = move || {
            join();
            let _ = is_gone.recv();
            drop(shared);
        };
        if let Err(error) = std::thread::Builder::new().name("vestigum roster".into()).spawn(waits) {
            tracing::warn!(%error, "the threads of a roster are not waited for");
        }
    }
}

impl fmt::Debug for Roster {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (here, joining) = (self.seats.len(), self.joining.len());
        f.debug_struct("Roster").field("here", &here).field("joining", &joining).finish_non_exhaustive()
    }
}

/// A share of an interval, from 0 to 1, that is the player's own.
fn spread(player: &str) -> f64 {
    let hash = player
        .bytes()
        .fold(0xcbf2_9ce4_8422_2325_u64, |hash, byte| (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3));
    (hash >> 11) as f64 / (1_u64 << 53) as f64
}
