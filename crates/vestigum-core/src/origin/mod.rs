//! The origin of a save: what each installation gave to it.
//!
//! Two devices that play for one player both begin with the same save and both change it. To join what came of it, a third save
//! that both had before would have to be kept somewhere, and every place that keeps one can lose it, or meet a save that it never
//! saw. So a save of a game that [merges](crate::merging) says itself where its values come from:
//!
//! - which saves by play it includes: of each [installation](Installation) the number of the last one, as all before it are included,
//!   too;
//! - of a value that is a sum, the amount that each installation gave;
//! - of every other value that can be lowered or taken out, the save by which it was last changed, its [`Dot`].
//!
//! [`Contributor`](crate::contributing::Contributor) writes an origin at each save by play, from the difference to the save before.
//! [`join`](crate::merging::join) reads two. Saves of games without `[merge]` have none.

pub mod amount;
mod json;
pub(crate) mod paths;

use std::collections::BTreeMap;
use std::sync::Arc;

use crate::origin::amount::Amount;
use vestigum_spec::value::tree::Tree;

/// The id of an installation: a place in which one player's game is played, such as a device.
pub type InstallationId = Arc<str>;

/// The name of an entry as origins write it: the field and its keys, with `/` between them.
pub type EntryPath = Arc<str>;

/// One save by play: the installation that made it, and its number there, counted from 1.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Dot {
    /// The installation. Empty for what was there before origins were kept.
    pub by: InstallationId,
    /// The number of the save.
    pub count: u64,
}

impl Dot {
    /// Returns the dot of values that were there before any save that has an origin. Every save includes it.
    pub fn before_all() -> Dot {
        Dot::default()
    }
}

/// Tells how far the saves of an installation are included.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Installation {
    /// The number of the last included save; 0 for what migrations wrote, which is nobody's save.
    pub count: u64,
    /// Some characters that were chosen at random for that save. Two saves of one number that have different ones were made by two
    /// copies of an installation. Empty where somebody has decided between the two.
    pub tag: Arc<str>,
}

/// The last change of a value, or of one item of a container.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Change {
    /// Gives the time of the change, in seconds since 1970, where the newest change counts; 0 elsewhere.
    pub at: i64,
    /// Counts how often an item is there because of it: 1, and more only for equal rows of a ranking.
    pub times: u32,
    /// Holds what was written, if the value of the save is another one.
    pub value: Option<Tree>,
}

/// The changes of a value that are not covered by a later one. There are several where installations made them without knowing of
/// one another.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Changes {
    /// The changes by the save that made them.
    pub by: BTreeMap<Dot, Change>,
    /// Holds what a reset took away from a value that has no changes of its own because it is only raised, only lowered or only added to:
    /// what is not better than this is covered. Null for an item that was taken out.
    pub taken: Option<Tree>,
}

/// The run: where the player stands, the marks, and what lasts a run. It is taken whole from one save.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct RunOrigin {
    /// The save by play that last changed it.
    pub dot: Dot,
    /// Gives the time of that change, in seconds since 1970.
    pub at: i64,
    /// The first save inside the visit to a level in which the player stands, if it holds something that is pending.
    pub visit: Option<Dot>,
    /// Holds what each installation has earned in that visit for sums, and would lose by giving the level up.
    pub pending: Amounts,
}

/// Of each sum, the amount that each installation gave. One that gave nothing is left out.
pub type Amounts = BTreeMap<EntryPath, BTreeMap<InstallationId, Amount>>;

/// Says which saves by play a save includes, and what each installation gave to it.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct SavedOrigin {
    /// The saves by play that are included.
    pub from: BTreeMap<InstallationId, Installation>,
    /// Holds what each installation gave to sums for good.
    pub sums: Amounts,
    /// Holds what the ends of ranges have cut off from sums, by the save that did: positive at the upper end, negative at the lower one.
    pub cut: BTreeMap<EntryPath, BTreeMap<Dot, Amount>>,
    /// The last changes of values that can be lowered or taken out.
    pub changed: BTreeMap<EntryPath, Changes>,
    /// Lists the last changes of the items of sets and rankings, in the order of the items that the player has for good.
    pub rows: BTreeMap<EntryPath, Vec<BTreeMap<Dot, Change>>>,
    /// Holds what was earned in visits that were saved before they ended, by the first save inside the visit. Whoever ends the visit banks
    /// the same claim, so it counts once.
    pub claims: BTreeMap<Dot, Amounts>,
    /// Up to which visit of an installation claims were added to its own amounts.
    pub gone: BTreeMap<InstallationId, u64>,
    /// The run.
    pub run: RunOrigin,
}

impl SavedOrigin {
    /// Returns whether a save by play is included.
    pub fn includes(&self, dot: &Dot) -> bool {
        dot.count <= self.from.get(&dot.by).map_or(0, |known| known.count)
    }

    /// Returns whether every save by play that the other includes is included.
    pub fn covers(&self, other: &SavedOrigin) -> bool {
        other.from.iter().all(|(id, known)| known.count <= self.count(id))
    }

    /// Returns the number of the last included save of an installation; 0 if there is none.
    pub fn count(&self, id: &str) -> u64 {
        self.from.get(id).map_or(0, |known| known.count)
    }

    /// Includes all that another origin does, though the values are those of this one: what somebody decided. An installation that was
    /// used twice is asked about no more.
    pub fn settle_with(&mut self, other: &SavedOrigin) {
        for (id, known) in &other.from {
            let own = self.from.entry(id.clone()).or_default();
            if own.count == known.count && own.tag != known.tag {
                own.tag = "".into();
            } else if own.count < known.count {
                own.clone_from(known);
            }
        }
    }

    /// Adds what was earned in a visit to its claim: of each installation the larger amount stays.
    pub(crate) fn claim(&mut self, visit: &Dot, amounts: &Amounts) {
        let claim = self.claims.entry(visit.clone()).or_default();
        for (path, of) in amounts {
            let claimed = claim.entry(path.clone()).or_default();
            for (id, amount) in of {
                claimed.entry(id.clone()).and_modify(|known| *known = known.further(*amount)).or_insert(*amount);
            }
        }
    }

    /// Returns an installation under whose id two saves of one number were made, if the two origins show one: then they cannot be
    /// joined.
    pub fn parted_from(&self, other: &SavedOrigin) -> Option<InstallationId> {
        let parted = self.from.iter().find(|(id, known)| {
            known.count > 0
                && !known.tag.is_empty()
                && other
                    .from
                    .get(*id)
                    .is_some_and(|of| of.count == known.count && of.tag != known.tag && !of.tag.is_empty())
        });
        parted.map(|(id, _)| id.clone())
    }
}
