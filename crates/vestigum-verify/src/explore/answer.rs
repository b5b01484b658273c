//! How far a search goes, and what it answers.

use vestigum_core::Moment;

use super::by_rules::RuleProof;
use super::gaps::Gap;
use super::story::{Counterexample, Witness};

/// Describes how far a search goes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SearchBounds {
    /// The most steps from a fresh profile.
    pub depth: usize,
    /// The most states.
    pub states: usize,
    /// Moments that this game never says.
    pub without: Vec<Moment>,
    /// Whether a proof by the rules alone, or a play that does what is asked, is looked for first: neither needs a search.
    /// Turned off only to check that they agree with one.
    pub by_rules: bool,
    /// Whether it is tried with locks lifted before all is searched as it is. Turned off only to check that it agrees.
    pub unlocked: bool,
    /// Whether values that cannot matter are left out of what tells states apart. Turned off only to check that it
    /// changes no answer.
    pub reduce: bool,
}

impl Default for SearchBounds {
    fn default() -> SearchBounds {
        SearchBounds {
            depth: 200,
            states: 1_000_000,
            without: Vec::new(),
            by_rules: true,
            unlocked: true,
            reduce: true,
        }
    }
}

/// Describes how much a search has seen.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Seen {
    /// Different states.
    pub states: usize,
    /// Steps between them.
    pub transitions: usize,
    /// The most steps from a fresh profile.
    pub depth: usize,
    /// Whether that was all there is.
    pub all: bool,
    /// Whether more was played than there is to play: levels were entered though they were locked. What holds there holds.
    pub unlocked: bool,
    /// Whether it was stopped before it came to its bounds: because there was no time left.
    pub stopped: bool,
    /// Says whether what is asked was ever judged. A promise `after` a moment is not where no play comes to that moment.
    pub judged: bool,
}

impl Seen {
    /// Returns what two searches have seen together.
    #[must_use]
    pub(super) fn and(self, other: Seen) -> Seen {
        Seen {
            states: self.states + other.states,
            transitions: self.transitions + other.transitions,
            depth: self.depth.max(other.depth),
            judged: self.judged || other.judged,
            ..self
        }
    }
}

/// The answer of a search.
#[derive(Clone, Debug)]
pub enum Ending {
    /// It holds in every play, by the rules alone.
    Proved(Box<RuleProof>),
    /// A play does what is asked for, or each of these does a part of it.
    Played(Seen, Vec<Witness>),
    /// All of it was seen, and nothing breaks it. What was left out is named.
    Holds(Seen, Vec<Gap>),
    /// Never judged: all of it was seen, and no play comes to a moment that it is about.
    NeverHappened(Seen),
    /// Not known: nothing that was seen breaks it, and the search came to a limit before it had seen all.
    Open(Seen, Limit),
    /// The shortest way to break it.
    Broken(Box<Counterexample>),
    /// Not known: it depends on what no search can look at. Nothing that was seen breaks it.
    Unknown(Seen, Vec<Gap>),
}

/// Says what ended a search before it had seen all.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Limit {
    /// It was stopped: there was no time left.
    Time,
    /// It had seen as many states as it may.
    States,
    /// It had taken as many steps as it may.
    Depth,
}

impl Limit {
    /// Says what ended it, in a few words.
    pub fn told(self) -> &'static str {
        match self {
            Limit::Time => "not known: the time was up",
            Limit::States => "not known: up to the bound of states",
            Limit::Depth => "not known: up to the bound of steps",
        }
    }
}

impl Ending {
    /// The answer of a search that nothing has broken: the only place where it says that something holds because it was seen.
    pub(super) fn unbroken(seen: Seen, bounds: &SearchBounds, gaps: &[Gap]) -> Ending {
        match seen {
            Seen { stopped: true, .. } => Ending::Open(Seen { all: false, ..seen }, Limit::Time),
            Seen { all: false, states, .. } if states >= bounds.states => Ending::Open(seen, Limit::States),
            Seen { all: false, .. } => Ending::Open(seen, Limit::Depth),
            Seen { .. } if gaps.iter().any(Gap::withholds) => Ending::Unknown(seen, gaps.to_vec()),
            Seen { judged: false, .. } => Ending::NeverHappened(seen),
            Seen { .. } => Ending::Holds(seen, gaps.to_vec()),
        }
    }

    /// Says whether it holds: proved, seen in all that can be played, or shown by a play.
    pub fn holds(&self) -> bool {
        match self {
            Ending::Proved(_) | Ending::Played(..) | Ending::Holds(..) => true,
            Ending::Broken(_) | Ending::NeverHappened(_) | Ending::Open(..) | Ending::Unknown(..) => false,
        }
    }

    /// Says whether it is known: it holds, or it is broken.
    pub fn is_known(&self) -> bool {
        self.holds() || self.broken().is_some()
    }

    /// Lists what was not looked at and can affect the answer.
    pub fn gaps(&self) -> &[Gap] {
        match self {
            Ending::Proved(proof) => &proof.gaps,
            Ending::Holds(_, gaps) | Ending::Unknown(_, gaps) => gaps,
            Ending::Played(..) | Ending::NeverHappened(_) | Ending::Open(..) | Ending::Broken(_) => &[],
        }
    }

    /// Says why it is open: why it is not known, or what the answer leaves out. Nothing if neither is so.
    pub fn why_open(&self) -> Option<String> {
        let gaps = || self.gaps().iter().map(Gap::to_string).collect::<Vec<_>>().join("; ");
        match self {
            Ending::Proved(_) | Ending::Holds(..) if !self.gaps().is_empty() => Some(format!("left out: {}", gaps())),
            Ending::Proved(_) | Ending::Played(..) | Ending::Holds(..) | Ending::Broken(_) => None,
            Ending::NeverHappened(_) => Some("never happened: no play comes to the moment that it is about".to_owned()),
            Ending::Open(seen, limit) => {
                Some(format!("{} after {} states and {} steps", limit.told(), seen.states, seen.transitions))
            }
            Ending::Unknown(..) => Some(format!("not known: {}", gaps())),
        }
    }

    /// Returns what the search has seen.
    pub fn seen(&self) -> Seen {
        match self {
            Ending::Proved(_) => Seen { all: true, ..Seen::default() },
            Ending::Played(seen, _)
            | Ending::Holds(seen, _)
            | Ending::NeverHappened(seen)
            | Ending::Open(seen, _)
            | Ending::Unknown(seen, _) => *seen,
            Ending::Broken(counterexample) => counterexample.seen(),
        }
    }

    /// Says in a few words how the answer is known, as in *all of it but syncs*.
    pub fn how_known(&self) -> String {
        let but = || {
            let words: Vec<&str> = self.gaps().iter().map(Gap::word).collect();
            if words.is_empty() { String::new() } else { format!(" but {}", words.join(", ")) }
        };
        match self {
            Ending::Broken(_) => "broken".to_owned(),
            Ending::Unknown(..) => "not known".to_owned(),
            Ending::NeverHappened(_) => "never happened".to_owned(),
            Ending::Proved(_) => format!("proved by the rules{}", but()),
            Ending::Played(..) => "shown by a play".to_owned(),
            Ending::Holds(seen, _) if seen.unlocked => format!("all of it, without locks{}", but()),
            Ending::Holds(..) => format!("all of it{}", but()),
            Ending::Open(_, limit) => limit.told().to_owned(),
        }
    }

    /// The shortest way to break it, if it is broken.
    pub fn broken(&self) -> Option<&Counterexample> {
        match self {
            Ending::Broken(counterexample) => Some(counterexample),
            Ending::Proved(_)
            | Ending::Played(..)
            | Ending::Holds(..)
            | Ending::NeverHappened(_)
            | Ending::Open(..)
            | Ending::Unknown(..) => None,
        }
    }

    /// The plays that do what is asked for.
    pub fn witnesses(&self) -> &[Witness] {
        match self {
            Ending::Played(_, plays) => plays,
            Ending::Broken(_)
            | Ending::Proved(_)
            | Ending::Holds(..)
            | Ending::NeverHappened(_)
            | Ending::Open(..)
            | Ending::Unknown(..) => &[],
        }
    }

    /// Returns why it holds in every play, if that was proved.
    pub fn proof(&self) -> Option<&RuleProof> {
        match self {
            Ending::Proved(proof) => Some(proof),
            Ending::Broken(_)
            | Ending::Played(..)
            | Ending::Holds(..)
            | Ending::NeverHappened(_)
            | Ending::Open(..)
            | Ending::Unknown(..) => None,
        }
    }
}
