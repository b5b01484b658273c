//! A visit to a path. What persists is in the session alone: a walk that begins again, after a fall or on the next evening, reads
//! everything from there.

use std::collections::BTreeSet;
use std::time::Duration;

use ratatui::crossterm::event::KeyCode;
use vestigum::{Outcome, Place, SaveTicket, Session};

use crate::path::{Path, Spot, Tile, Way};
use crate::progress::{self as p, Gate, Level, Pace};
use crate::{Go, Trouble};

/// Says what a door is worth.
const LETTERS: i64 = 10;

/// Returns what a gate costs, in stamps.
pub(crate) fn price(gate: Gate) -> i64 {
    match gate {
        Gate::MoorGate => 12,
        Gate::PassGate => 20,
    }
}

pub(crate) struct Walk {
    pub(crate) level: Level,
    pub(crate) path: Path,
    pub(crate) at: Spot,
    /// Whether the next step is a jump.
    pub(crate) ready: bool,
    pub(crate) sheep: Vec<(Spot, Way)>,
    /// Planks that have held once.
    pub(crate) broken: BTreeSet<Spot>,
    /// Says what the next step of the sheep waits for.
    until_sheep: Duration,
    /// A gate that was paid for, and the save that has to be durable before it opens.
    opening: Option<SaveTicket>,
    pub(crate) paused: bool,
    pub(crate) news: String,
}

impl Walk {
    /// The walk in which the session is: at its checkpoint, or where the path begins. `None` if it is in no level.
    pub(crate) fn of(game: &Session, news: &str) -> Option<Walk> {
        let Place::InLevel { level, .. } = game.place() else { return None };
        let level: Level = level.parse().ok()?;
        let path = Path::of(level);
        let at = reached(game, level).and_then(|number| path.checkpoint(number)).unwrap_or(path.start);
        let (sheep, broken) = (path.sheep.clone(), BTreeSet::new());
        let (until_sheep, opening) = (Duration::ZERO, None);
        let news = news.to_owned();
        Some(Walk { level, path, at, ready: false, sheep, broken, until_sheep, opening, paused: false, news })
    }

    /// Returns what is under a spot now.
    pub(crate) fn tile(&self, spot: Spot) -> Tile {
        match self.path.tile(spot) {
            Tile::Plank if self.broken.contains(&spot) => Tile::Water,
            tile => tile,
        }
    }

    /// The checkpoint to which a fall leads back.
    pub(crate) fn reached(&self, game: &Session) -> Option<usize> {
        reached(game, self.level)
    }

    /// Returns whether the gate of this path is being opened.
    pub(crate) fn waits(&self) -> bool {
        self.opening.is_some()
    }

    pub(crate) fn key(&mut self, game: &mut Session, key: KeyCode) -> Result<Go, Trouble> {
        if self.paused {
            return self.paused_key(game, key);
        }
        let way = match key {
            KeyCode::Left | KeyCode::Char('a') => Way(-1, 0),
            KeyCode::Right | KeyCode::Char('d') => Way(1, 0),
            KeyCode::Up | KeyCode::Char('w') => Way(0, -1),
            KeyCode::Down | KeyCode::Char('s') => Way(0, 1),
            key => {
                self.ready = self.ready != (key == KeyCode::Char(' '));
                self.paused = matches!(key, KeyCode::Esc | KeyCode::Char('p'));
                return Ok(Go::Stay);
            }
        };
        self.go(game, way)
    }

    fn paused_key(&mut self, game: &mut Session, key: KeyCode) -> Result<Go, Trouble> {
        match key {
            KeyCode::Esc | KeyCode::Char('p') | KeyCode::Enter => self.paused = false,
            KeyCode::Char('r') => {
                game.restart()?;
                self.begin_again(game);
            }
            KeyCode::Char('g') => {
                game.abandon()?;
                return Ok(Go::On);
            }
            KeyCode::Char('h') => return Ok(Go::Home),
            _ => {}
        }
        Ok(Go::Stay)
    }

    /// A step, or a jump over one tile, whatever is in it but rock; where there is no room behind it, a jump is a step.
    fn go(&mut self, game: &mut Session, way: Way) -> Result<Go, Trouble> {
        let near = self.at.next(way);
        let far = near.next(way);
        let blocks = |tile| matches!(tile, Tile::Rock | Tile::Gate(_) | Tile::Cellar);
        match std::mem::take(&mut self.ready) && !blocks(self.tile(near)) && !blocks(self.tile(far)) {
            true => self.step_to(game, far),
            false => self.step_to(game, near),
        }
    }

    fn step_to(&mut self, game: &mut Session, to: Spot) -> Result<Go, Trouble> {
        match self.tile(to) {
            Tile::Rock => return Ok(Go::Stay),
            Tile::Gate(_) if self.waits() => return Ok(Go::Stay),
            Tile::Gate(gate) if !game.get(p::GATE_OPEN.at(gate)) => return self.pay(game, gate),
            Tile::Water => return self.fall(game, "You fell into the water"),
            Tile::Cellar => {
                game.set(p::KNOWS_CELLAR, true)?;
                let outcome = game.complete_by(p::Exit::Cellar)?;
                return Ok(Go::Arrived(self.level, Box::new(outcome)));
            }
            Tile::Exit => return Ok(Go::Arrived(self.level, Box::new(game.complete()?))),
            Tile::Door(door) => self.deliver(game, door)?,
            Tile::Checkpoint(number) => self.reach(game, number)?,
            Tile::Lantern if !game.get(p::LANTERN_FOUND.at(self.level)) => {
                game.set(p::LANTERN_FOUND.at(self.level), true)?;
                game.add(p::LANTERNS, 1)?;
                self.news = "A lantern! It is yours for good.".into();
            }
            Tile::Gate(_) | Tile::Lantern | Tile::Ground | Tile::Plank => {}
        }
        if self.path.tile(self.at) == Tile::Plank {
            self.broken.insert(self.at);
        }
        self.at = to;
        self.meet(game)
    }

    /// Delivers once: the doors are set back together with the letters.
    fn deliver(&mut self, game: &mut Session, door: i64) -> Result<(), Trouble> {
        if game.set_of(p::DOORS).contains(&door) {
            return Ok(());
        }
        game.set_of_mut(p::DOORS).insert(door)?;
        for field in [p::LETTERS, p::SCORE, p::STREAK, p::TODAY] {
            game.add(field, LETTERS)?;
        }
        self.news = format!("Letters for door {}.", door + 1);
        Ok(())
    }

    fn reach(&mut self, game: &mut Session, number: usize) -> Result<(), Trouble> {
        let Some(name) = names(self.level).get(number).copied() else { return Ok(()) };
        if game.checkpoint(name)?.accepted {
            self.news = format!("Checkpoint: the {name}. A fall leads back here.");
        }
        Ok(())
    }

    /// A gate that opens and is closed again after a power cut has eaten the stamps: it opens when its save is durable.
    fn pay(&mut self, game: &mut Session, gate: Gate) -> Result<Go, Trouble> {
        let (price, has) = (price(gate), game.get(p::STAMPS));
        if has < price {
            self.news = format!("The gate costs {price} stamps, and you have {has}: arrive with letters to earn some.");
            return Ok(Go::Stay);
        }
        game.add(p::STAMPS, -price)?;
        game.set(p::GATE_OPEN.at(gate), true)?;
        self.opening = Some(game.save());
        self.news = "The gate waits until that is on the disk …".into();
        Ok(Go::Stay)
    }

    fn fall(&mut self, game: &mut Session, how: &str) -> Result<Go, Trouble> {
        let (letters, score) = (game.get(p::LETTERS), game.get(p::SCORE));
        let fell: Outcome = game.death()?;
        if fell.game_over {
            return Ok(Go::On);
        }
        self.begin_again(game);
        let (kept, scored) = (game.get(p::LETTERS), game.get(p::SCORE));
        self.news = format!("{how}: letters {letters} → {kept}, score {score} → {scored}, a lantern is broken.");
        Ok(Go::Stay)
    }

    /// Follows the session to where it is now. A gate that waits goes on waiting.
    fn begin_again(&mut self, game: &Session) {
        if let Some(anew) = Walk::of(game, "") {
            *self = Walk { opening: self.opening.take(), ..anew };
        }
    }

    fn meet(&mut self, game: &mut Session) -> Result<Go, Trouble> {
        match self.sheep.iter().any(|(spot, _)| *spot == self.at) {
            true => self.fall(game, "A sheep knocked you over"),
            false => Ok(Go::Stay),
        }
    }

    /// Time passes for the sheep, for a gate that waits, and for the clock of the session.
    pub(crate) fn tick(&mut self, game: &mut Session, passed: Duration) -> Result<Go, Trouble> {
        if let Some(ticket) = &self.opening {
            match ticket.poll() {
                None => {}
                Some(Ok(_)) => {
                    self.opening = None;
                    self.news = "The gate is open for good.".into();
                }
                Some(Err(why)) => {
                    self.opening = Some(game.save());
                    self.news = format!("The gate stays closed: not saved, {why}");
                }
            }
        }
        if self.paused {
            return Ok(Go::Stay);
        }
        game.tick(passed)?;
        self.until_sheep += passed;
        let pace = match game.get(p::PACE) {
            Pace::Calm => Duration::from_millis(450),
            Pace::Brisk => Duration::from_millis(240),
        };
        while self.until_sheep >= pace {
            self.until_sheep -= pace;
            let free = |spot| self.tile(spot) == Tile::Ground;
            self.sheep = self.sheep.iter().map(|(spot, way)| went(*spot, *way, free)).collect();
            let met = self.meet(game)?;
            if !matches!(met, Go::Stay) {
                return Ok(met);
            }
        }
        Ok(Go::Stay)
    }
}

/// Returns where a sheep is after its next step; in front of anything but ground it turns.
fn went(spot: Spot, way: Way, free: impl Fn(Spot) -> bool) -> (Spot, Way) {
    let ways = [way, Way(-way.0, -way.1)];
    ways.into_iter().map(|way| (spot.next(way), way)).find(|(next, _)| free(*next)).unwrap_or((spot, way))
}

/// The checkpoints of a level, in their order.
fn names(level: Level) -> Vec<&'static str> {
    let named = p::spec().levels().find(|named| named.id() == level.name());
    named.map(|named| named.checkpoints().collect()).unwrap_or_default()
}

/// The number of the session's checkpoint in a level.
fn reached(game: &Session, level: Level) -> Option<usize> {
    match game.place() {
        Place::InLevel { checkpoint: Some(name), .. } => names(level).iter().position(|named| **named == *name),
        Place::InLevel { checkpoint: None, .. } | Place::Menu | Place::RunOver => None,
    }
}
