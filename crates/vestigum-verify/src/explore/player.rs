//! A player who takes all there is and completes every level: where this one comes to the end, no search is needed to show
//! that the levels can be completed.

use vestigum_core::state::position::Position;
use vestigum_core::{Moment, Progress, Spec};

use super::act::{Act, Repertoire};

/// The most that is played.
const ACTS: usize = 20_000;

/// The most sources that are taken between two checkpoints.
const TAKEN: usize = 200;

/// Plays until every level was completed. `completed` says which need not be any more. None if this player does not get
/// there: another one may. The second number is how many levels are completed at its end.
pub(super) fn complete_all(spec: &Spec, repertoire: &Repertoire, completed: &[bool]) -> Option<(Vec<Act>, i64)> {
    complete_from(spec, repertoire, completed, Progress::fresh(spec))
}

/// Plays from another state until every level was completed.
pub(super) fn complete_from(
    spec: &Spec,
    repertoire: &Repertoire,
    completed: &[bool],
    mut game: Progress,
) -> Option<(Vec<Act>, i64)> {
    game.set_quiet(true);
    let mut player = Player { spec, repertoire, game, completed: completed.to_vec(), acts: Vec::new() };
    while player.completed.contains(&false) {
        // First what is new, then everything that is open once more: a later visit may give what a lock asks for.
        let before = player.acts.len();
        player.visit_open(|player, level| !player.completed[level as usize])?;
        if player.acts.len() == before {
            let state = player.game.suspend().profile_image("player").digest();
            player.visit_open(|_, _| true)?;
            let after = player.game.suspend().profile_image("player").digest();
            (state != after).then_some(())?;
        }
    }
    let completed = spec.model().field(spec.model().completed);
    let now = completed.slots().filter(|slot| player.game.state().value(*slot).as_bool()).count();
    Some((player.acts, now as i64))
}

struct Player<'a> {
    spec: &'a Spec,
    repertoire: &'a Repertoire,
    game: Progress,
    /// Says which levels were ever completed.
    completed: Vec<bool>,
    acts: Vec<Act>,
}

impl Player<'_> {
    /// Does one thing if it is possible.
    fn does(&mut self, act: Act) -> bool {
        let can = self.acts.len() < ACTS && self.repertoire.acts(self.spec, &self.game).contains(&act);
        let done = can && self.repertoire.apply(&mut self.game, act);
        if done {
            self.acts.push(act);
        }
        done
    }

    /// Plays the open levels that are wanted, from their beginning to their end. None if that is not possible.
    fn visit_open(&mut self, wanted: impl Fn(&Self, u32) -> bool) -> Option<()> {
        for level in 0..self.completed.len() as u32 {
            if self.game.state().position == Position::RunOver {
                self.does(Act::Moment(Moment::NewRun)).then_some(())?;
            }
            if self.game.is_open(level) && wanted(self, level) {
                self.visit(level)?;
            }
        }
        Some(())
    }

    fn visit(&mut self, level: u32) -> Option<()> {
        self.does(Act::Enter(level)).then_some(())?;
        self.take_all();
        let listed = self.spec.model().level(level).checkpoints.len() as u32;
        for checkpoint in 0..listed {
            self.does(Act::Checkpoint(checkpoint));
            self.take_all();
        }
        // By an exit whose level is still locked, if there is one: the next visit takes the next.
        let model = self.spec.model();
        let locked = model.level(level).exits.iter().position(|(_, to)| !self.game.is_open(*to));
        let leaves = locked.map_or(Act::Moment(Moment::Complete), |exit| Act::Exit(exit as u16));
        self.does(leaves).then_some(())?;
        self.completed[level as usize] |=
            self.game.state().value(self.spec.model().field(self.spec.model().completed).slot_at(&[level])).as_bool();
        Some(())
    }

    fn take_all(&mut self) {
        for source in 0..self.spec.model().sources.len() as u16 {
            for _ in 0..TAKEN {
                if !self.does(Act::Take(source)) {
                    break;
                }
            }
        }
    }
}
