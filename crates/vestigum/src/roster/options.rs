//! How a roster treats its players.

use std::time::Duration;

/// As good as for ever: ten years.
const LONGEST: Duration = Duration::from_secs(10 * 365 * 24 * 3600);

/// Describes how a [`Roster`](super::Roster) treats its players.
///
/// # Example
///
/// ```
/// use std::time::Duration;
/// use vestigum::roster::RosterOptions;
///
/// let options = RosterOptions::new("server 1")
///     .lease(Duration::from_secs(20))
///     .autosave(Duration::from_secs(120))
///     .commits_a_second(2_000);
/// # drop(options);
/// ```
#[derive(Clone, Debug)]
pub struct RosterOptions {
    pub(super) holder: String,
    pub(super) lease: Duration,
    pub(super) autosave: Duration,
    pub(super) commits_a_second: Option<u32>,
    pub(super) loaders: usize,
}

impl RosterOptions {
    /// The options of a server. `holder` names it: two servers that run at once must not have the same name. A server that is started
    /// again under its name takes its players back at once.
    pub fn new(holder: impl Into<String>) -> RosterOptions {
        RosterOptions {
            holder: holder.into(),
            lease: Duration::from_secs(30),
            autosave: Duration::from_secs(60),
            commits_a_second: None,
            loaders: 4,
        }
    }

    /// For how long a lease runs; 30 seconds by default, at least 1 millisecond. They are renewed three times in that time. When a server
    /// has died, its players can join another after that time.
    #[must_use]
    pub fn lease(mut self, lasts: Duration) -> RosterOptions {
        self.lease = lasts.clamp(Duration::from_millis(1), LONGEST);
        self
    }

    /// Sets how often each player is saved besides what the spec's `[save]` asks for; 60 seconds by default. The saves of all players are spread
    /// over that time, and one with whom nothing was done is not saved. At most that much play is lost when a server dies.
    #[must_use]
    pub fn autosave(mut self, every: Duration) -> RosterOptions {
        self.autosave = every.clamp(Duration::from_millis(1), LONGEST);
        self
    }

    /// Sets how many commits are made in a second at the most; unlimited by default. A player who is saved again before it is their turn is
    /// written once. The end of a roster does not wait for the budget.
    #[must_use]
    pub fn commits_a_second(mut self, most: u32) -> RosterOptions {
        self.commits_a_second = Some(most.max(1));
        self
    }

    /// Sets how many players are loaded at the same time; 4 by default, at least 1.
    #[must_use]
    pub fn loaders(mut self, most: usize) -> RosterOptions {
        self.loaders = most.max(1);
        self
    }
}
