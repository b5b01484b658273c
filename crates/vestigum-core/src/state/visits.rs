//! What becomes of visits to levels.

/// Tells what became of visits to levels since a session began.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Visits {
    /// The number of the visit in which the player stands, or stood last. A restart from the level's entry begins another one.
    pub(crate) current: u64,
    /// The visits that were completed, or left without failing.
    pub(crate) banked: Vec<u64>,
    /// The visits that a reset or a game over ended: the values tell what of them stays.
    pub(crate) ended: Vec<u64>,
}

impl Visits {
    /// Returns the number of the visit in which the player stands, or stood last.
    pub fn current(&self) -> u64 {
        self.current
    }

    /// Returns what is to be said where the state of a player is replaced as a whole: no visit goes on, and none was banked.
    pub fn another() -> Visits {
        Visits { current: u64::MAX, ..Visits::default() }
    }
}
