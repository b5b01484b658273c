//! How far a search goes, and what it answers.

use vestigum_core::Moment;

use super::by_rules::RuleProof;
use super::story::{Counterexample, Witness};

/// How far a search goes.
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

/// How much a search has seen.
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
}

impl Seen {
    /// What two searches have seen together.
    #[must_use]
    pub(super) fn and(self, other: Seen) -> Seen {
        Seen {
            states: self.states + other.states,
            transitions: self.transitions + other.transitions,
            depth: self.depth.max(other.depth),
            ..self
        }
    }
}

/// The answer of a search.
#[derive(Clone, Debug)]
pub enum Ending {
    /// It holds in every play, by the rules alone.
    Proved(Box<RuleProof>),
    /// What is asked for is done in one play, or each part of it in one of these.
    Played(Seen, Vec<Witness>),
    /// No state that was seen breaks it.
    Holds(Seen),
    /// The shortest way to break it.
    Broken(Box<Counterexample>),
    /// It depends on these fields, which play writes and no source gives: what they can be is not known.
    Unknown(Seen, Vec<String>),
}

impl Ending {
    /// What the search has seen.
    pub fn seen(&self) -> Seen {
        match self {
            Ending::Proved(_) => Seen { all: true, ..Seen::default() },
            Ending::Played(seen, _) | Ending::Holds(seen) | Ending::Unknown(seen, _) => *seen,
            Ending::Broken(counterexample) => counterexample.seen(),
        }
    }

    /// How the answer is known, in a few words.
    pub fn how_known(&self) -> &'static str {
        match self {
            Ending::Broken(_) => "broken",
            Ending::Unknown(..) => "not known",
            Ending::Proved(_) => "proved by the rules",
            Ending::Played(..) => "shown by a play",
            Ending::Holds(seen) if seen.all && seen.unlocked => "all of it, without locks",
            Ending::Holds(seen) if seen.all => "all of it",
            Ending::Holds(seen) if seen.stopped => "until the time was up",
            Ending::Holds(_) => "up to the bound",
        }
    }

    /// The shortest way to break it, if it is broken.
    pub fn broken(&self) -> Option<&Counterexample> {
        match self {
            Ending::Broken(counterexample) => Some(counterexample),
            Ending::Proved(_) | Ending::Played(..) | Ending::Holds(_) | Ending::Unknown(..) => None,
        }
    }

    /// The plays that do what is asked for.
    pub fn witnesses(&self) -> &[Witness] {
        match self {
            Ending::Played(_, plays) => plays,
            Ending::Broken(_) | Ending::Proved(_) | Ending::Holds(_) | Ending::Unknown(..) => &[],
        }
    }

    /// Why it holds in every play, if that was proved.
    pub fn proof(&self) -> Option<&RuleProof> {
        match self {
            Ending::Proved(proof) => Some(proof),
            Ending::Broken(_) | Ending::Played(..) | Ending::Holds(_) | Ending::Unknown(..) => None,
        }
    }
}
