//! The order of a ranking: a list that is sorted, and keeps only the best entries.

use std::cmp::Ordering;
use std::fmt;
use std::sync::Arc;

use crate::value::containers::List;
use crate::value::{Value, below};
use crate::words;

words! {
    /// Describes which values come first.
    pub enum Better {
        /// The highest.
        Highest = "highest",
        /// The lowest.
        Lowest = "lowest",
    }
}

/// By what the entries of a ranking are sorted.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct RankedBy {
    pub(crate) better: Better,
    /// The member that is compared; none where the entries are numbers or choices themselves.
    pub(crate) member: Option<(usize, Arc<str>)>,
}

impl RankedBy {
    /// Returns which values come first.
    pub fn better(&self) -> Better {
        self.better
    }

    /// The member that is compared; none where the entries are numbers or choices themselves.
    pub fn member(&self) -> Option<&str> {
        self.member.as_ref().map(|(_, name)| &**name)
    }

    /// Returns the word for the opposite order, as a document says it.
    #[must_use]
    pub fn turned(&self) -> RankedBy {
        let better = match self.better {
            Better::Highest => Better::Lowest,
            Better::Lowest => Better::Highest,
        };
        RankedBy { better, ..self.clone() }
    }

    fn of<'a>(&self, item: &'a Value) -> &'a Value {
        match (&self.member, item) {
            (Some((index, _)), Value::Struct(_, members)) => members.get(*index).unwrap_or(item),
            _ => item,
        }
    }

    fn compared(&self, one: &Value, other: &Value) -> Ordering {
        let (one, other) = (self.of(one), self.of(other));
        let (higher, lower) = match self.better {
            Better::Highest => (Ordering::Less, Ordering::Greater),
            Better::Lowest => (Ordering::Greater, Ordering::Less),
        };
        if below(other, one) {
            higher
        } else if below(one, other) {
            lower
        } else {
            Ordering::Equal
        }
    }
}

/// `highest letters`
impl fmt::Display for RankedBy {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.member() {
            Some(member) => write!(f, "{} {member}", self.better),
            None => write!(f, "{}", self.better),
        }
    }
}

/// The order of a ranking and how many entries it has at most.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Ranking {
    pub(crate) by: Vec<RankedBy>,
    pub(crate) max: usize,
}

impl Ranking {
    /// Says how many entries a ranking has if the field does not say.
    pub const DEFAULT_MAX: usize = 10;
    /// Says how many it may have.
    pub const MAX: usize = 10_000;

    /// Returns what is compared first, and then.
    pub fn by(&self) -> &[RankedBy] {
        &self.by
    }

    /// Returns which of two entries stands before the other.
    fn compared(&self, one: &Value, other: &Value) -> Ordering {
        self.by.iter().map(|by| by.compared(one, other)).find(|order| order.is_ne()).unwrap_or(Ordering::Equal)
    }

    /// Returns where an entry comes, counted from 0: behind those that are as good, which were there before. None if it does not come in.
    pub(crate) fn place(&self, list: &List, item: &Value) -> Option<usize> {
        let place = list.iter().filter(|known| self.compared(known, item).is_le()).count();
        (place < self.max).then_some(place)
    }

    /// The list with the entry in its place, and that place.
    pub(crate) fn with(&self, list: &List, item: Value) -> (List, Option<usize>) {
        let place = self.place(list, &item);
        let Some(at) = place else { return (list.clone(), None) };
        let behind = list.iter().skip(at).cloned();
        (list.iter().take(at).cloned().chain([item]).chain(behind).take(self.max).collect(), place)
    }

    /// Returns whether a list is in order and no longer than it may be.
    pub(crate) fn fits(&self, list: &List) -> bool {
        list.len() <= self.max
            && list.iter().zip(list.iter().skip(1)).all(|(one, next)| self.compared(one, next).is_le())
    }

    /// The list in order, the earlier of equals first, and no longer than it may be.
    pub(crate) fn sorted(&self, list: &List) -> List {
        let mut items: Vec<Value> = list.iter().cloned().collect();
        items.sort_by(|one, other| self.compared(one, other));
        items.into_iter().take(self.max).collect()
    }
}

/// `by highest letters, lowest time; the best 10`
impl fmt::Display for Ranking {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let by: Vec<String> = self.by.iter().map(ToString::to_string).collect();
        write!(f, "by {}; the best {}", by.join(", "), self.max)
    }
}

/// Describes where an entry came in a ranking.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Ranked {
    // Nearly every write ranks nothing, and writes are frequent: both fit beside the rest of what a write says.
    place: u16,
    of: std::num::NonZeroU16,
}

impl Ranked {
    /// `at` counts from 0.
    pub(crate) fn new(at: Option<usize>, of: usize) -> Ranked {
        let small = |number: usize| u16::try_from(number).unwrap_or(u16::MAX);
        let of = std::num::NonZeroU16::new(small(of)).unwrap_or(std::num::NonZeroU16::MIN);
        Ranked { place: at.map_or(0, |at| small(at + 1)), of }
    }

    /// Its place, counted from 1; none if it was not good enough to come in.
    pub fn place(self) -> Option<usize> {
        (self.place > 0).then_some(usize::from(self.place))
    }

    /// Returns how many entries there are now.
    pub fn of(self) -> usize {
        usize::from(self.of.get())
    }
}

/// `place 2 of 7`, or `not among the 10 best`
impl fmt::Display for Ranked {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.place() {
            Some(place) => write!(f, "place {place} of {}", self.of),
            None => write!(f, "not among the {} best", self.of),
        }
    }
}
