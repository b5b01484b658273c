//! Traps: states from which something can never be done any more.
//!
//! A search that is asked for them keeps the steps between its states, and whether what is asked for holds in each. Backwards from the
//! states where it does, and from those that were not looked at, everything is reached from which it can still come to hold. What
//! is not reached is a trap, also where the search was cut short: all beyond it was seen.

use rustc_hash::FxHashMap;

/// The steps of a search, to be followed backwards.
#[derive(Debug, Default)]
pub(super) struct Traps {
    ids: FxHashMap<u128, u32>,
    steps: Vec<(u32, u32)>,
    /// For each state whether all that can happen there was looked at.
    looked_at: Vec<bool>,
    /// For each state whether it is asked about.
    asked: Vec<bool>,
    /// For each goal the states in which it holds.
    holds: Vec<Vec<u32>>,
}

impl Traps {
    /// Of a search for a number of goals.
    pub(super) fn of(goals: usize) -> Traps {
        Traps { holds: vec![Vec::new(); goals], ..Traps::default() }
    }

    /// Notes a new state: the next one.
    pub(super) fn add(&mut self, key: u128, is_asked: bool, goals: impl Iterator<Item = usize>) {
        let id = self.looked_at.len() as u32;
        self.ids.insert(key, id);
        self.looked_at.push(false);
        self.asked.push(is_asked);
        goals.for_each(|goal| self.holds[goal].push(id));
    }

    /// Notes a step to a known state. One to a state that nobody knows leaves open where it leads.
    pub(super) fn step(&mut self, from: u32, key: u128) {
        let to = self.ids.get(&key).copied();
        self.steps.push((from, to.unwrap_or(u32::MAX)));
    }

    /// Notes that a state was looked at.
    pub(super) fn look(&mut self, state: u32) {
        self.looked_at[state as usize] = true;
    }

    /// The first state that is a trap, and the goal that can never be reached from there. Goals that no state reaches have none: that they
    /// cannot be reached at all is another question.
    pub(super) fn first(&self) -> Option<(u32, usize)> {
        let count = self.looked_at.len();
        let before = self.steps_back();
        let traps = self.holds.iter().enumerate().filter(|(_, holds)| !holds.is_empty()).filter_map(|(goal, holds)| {
            let mut can = vec![false; count];
            let mut waiting: Vec<u32> = (0..count as u32).filter(|id| !self.looked_at[*id as usize]).collect();
            waiting.extend(holds);
            waiting.extend(&before[count]);
            while let Some(id) = waiting.pop() {
                if !std::mem::replace(&mut can[id as usize], true) {
                    waiting.extend(&before[id as usize]);
                }
            }
            let trap = (0..count).find(|id| !can[*id] && self.asked[*id])?;
            Some((trap as u32, goal))
        });
        traps.min()
    }

    /// For each state those that lead there; behind all of them, those that lead nobody knows where.
    fn steps_back(&self) -> Vec<Vec<u32>> {
        let count = self.looked_at.len();
        let mut before = vec![Vec::new(); count + 1];
        for (from, to) in &self.steps {
            before[(*to as usize).min(count)].push(*from);
        }
        before
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Returns four states in a row; the last leads back to the third, and the goal holds in the second.
    fn row(looked_at: &[u32]) -> Traps {
        let mut traps = Traps::of(1);
        for id in 0..4u32 {
            traps.add(u128::from(id), true, (id == 1).then_some(0).into_iter());
        }
        for (from, to) in [(0, 1), (1, 2), (2, 3), (3, 2)] {
            traps.step(from, to);
        }
        looked_at.iter().for_each(|id| traps.look(*id));
        traps
    }

    #[test]
    fn a_trap_is_what_leads_back_to_nowhere() {
        assert_eq!(row(&[0, 1, 2, 3]).first(), Some((2, 0)));
        assert_eq!(row(&[0, 1, 2]).first(), None, "beyond the last may be a way back");
        let mut led = row(&[0, 1, 2, 3]);
        led.step(3, 99);
        assert_eq!(led.first(), None, "it leads where nobody looked");
        let mut unreached = Traps::of(1);
        unreached.add(0, true, std::iter::empty());
        unreached.look(0);
        assert_eq!(unreached.first(), None, "that is another question");
    }
}
