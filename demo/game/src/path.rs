//! The tiles of a path.

use crate::progress::{Gate, Level};

/// Describes where something stands, in tiles from the upper left corner.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub(crate) struct Spot {
    pub(crate) x: usize,
    pub(crate) y: usize,
}

/// A way to go: by how many tiles to the right, and down.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) struct Way(pub(crate) isize, pub(crate) isize);

impl Spot {
    /// The next spot in a direction. Every path is closed by rock, so a spot that can be stood on has four neighbours.
    pub(crate) fn next(self, way: Way) -> Spot {
        Spot { x: self.x.saturating_add_signed(way.0), y: self.y.saturating_add_signed(way.1) }
    }
}

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Tile {
    Ground,
    Rock,
    Water,
    /// Holds once.
    Plank,
    /// Says where a letter goes; doors are counted from the upper left.
    Door(i64),
    /// One of the level's checkpoints, in their declared order.
    Checkpoint(usize),
    Gate(Gate),
    Lantern,
    /// The way out.
    Exit,
    /// A way out that looks like rock until the carrier knows it.
    Cellar,
}

/// A path as it is when nobody has walked it.
pub(crate) struct Path {
    rows: Vec<Vec<Tile>>,
    pub(crate) start: Spot,
    /// Says where the sheep stand, and where they go first.
    pub(crate) sheep: Vec<(Spot, Way)>,
    pub(crate) doors: i64,
}

fn drawn(level: Level) -> &'static str {
    match level {
        Level::MillLane => include_str!("../paths/mill_lane.txt"),
        Level::Millrace => include_str!("../paths/millrace.txt"),
        Level::HeatherRise => include_str!("../paths/heather_rise.txt"),
        Level::TarnSteps => include_str!("../paths/tarn_steps.txt"),
        Level::ScreeGate => include_str!("../paths/scree_gate.txt"),
        Level::CloudPass => include_str!("../paths/cloud_pass.txt"),
    }
}

/// The gate on a path that has one in its drawing.
fn gate(level: Level) -> Gate {
    match level {
        Level::CloudPass => Gate::PassGate,
        Level::MillLane | Level::Millrace | Level::HeatherRise | Level::TarnSteps | Level::ScreeGate => Gate::MoorGate,
    }
}

impl Path {
    /// Reads the drawing of a level: `#` rock, `~` water, `=` a rotten plank, `D` a door, `1` to `9` the checkpoints, `G` the gate,
    /// `L` the lantern, `E` the way out, `S` the cellar, `P` where the carrier begins, `r` and `u` sheep that walk across and
    /// up.
    pub(crate) fn of(level: Level) -> Path {
        let mut path = Path { rows: Vec::new(), start: Spot { x: 1, y: 1 }, sheep: Vec::new(), doors: 0 };
        for (y, line) in drawn(level).lines().enumerate() {
            let mut row = Vec::new();
            for (x, sign) in line.chars().enumerate() {
                let spot = Spot { x, y };
                match sign {
                    'P' => path.start = spot,
                    'D' => path.doors += 1,
                    'r' => path.sheep.push((spot, Way(1, 0))),
                    'u' => path.sheep.push((spot, Way(0, -1))),
                    _ => {}
                }
                row.push(match sign {
                    '#' => Tile::Rock,
                    '~' => Tile::Water,
                    '=' => Tile::Plank,
                    'D' => Tile::Door(path.doors - 1),
                    'G' => Tile::Gate(gate(level)),
                    'L' => Tile::Lantern,
                    'E' => Tile::Exit,
                    'S' => Tile::Cellar,
                    sign => sign.to_digit(10).map_or(Tile::Ground, |number| Tile::Checkpoint(number as usize - 1)),
                });
            }
            path.rows.push(row);
        }
        path
    }

    pub(crate) fn tile(&self, spot: Spot) -> Tile {
        self.rows.get(spot.y).and_then(|row| row.get(spot.x)).copied().unwrap_or(Tile::Rock)
    }

    /// All tiles with their spots, row by row.
    pub(crate) fn tiles(&self) -> impl Iterator<Item = (Spot, Tile)> + '_ {
        self.rows
            .iter()
            .enumerate()
            .flat_map(|(y, row)| row.iter().enumerate().map(move |(x, tile)| (Spot { x, y }, *tile)))
    }

    pub(crate) fn checkpoint(&self, number: usize) -> Option<Spot> {
        self.tiles().find(|(_, tile)| *tile == Tile::Checkpoint(number)).map(|(spot, _)| spot)
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;

    const WAYS: [Way; 4] = [Way(-1, 0), Way(1, 0), Way(0, -1), Way(0, 1)];

    /// Every spot to which steps and jumps lead, with all gates open and all planks whole.
    fn reached(path: &Path) -> BTreeSet<Spot> {
        let stands = |spot| !matches!(path.tile(spot), Tile::Rock | Tile::Water);
        let passes = |spot| !matches!(path.tile(spot), Tile::Rock | Tile::Gate(_) | Tile::Cellar);
        let mut reached = BTreeSet::from([path.start]);
        let mut open = vec![path.start];
        while let Some(spot) = open.pop() {
            for way in WAYS {
                let (near, far) = (spot.next(way), spot.next(way).next(way));
                let next = [(near, stands(near)), (far, passes(near) && stands(far) && passes(far))];
                open.extend(next.into_iter().filter(|(spot, can)| *can && reached.insert(*spot)).map(|(spot, _)| spot));
            }
        }
        reached
    }

    #[test]
    fn every_path_can_be_walked_to_its_end_and_every_letter_delivered() {
        for level in Level::ALL {
            let path = Path::of(level);
            let reached = reached(&path);
            let named = crate::progress::spec().levels().find(|named| named.id() == level.name()).unwrap();
            for (spot, tile) in path.tiles() {
                let must = !matches!(tile, Tile::Ground | Tile::Rock | Tile::Water);
                assert!(!must || reached.contains(&spot), "{level}: {tile:?} at {spot:?}");
            }
            let checkpoints = path.tiles().filter(|(_, tile)| matches!(tile, Tile::Checkpoint(_))).count();
            assert_eq!(checkpoints, named.checkpoints().len(), "{level}");
            assert!(path.tiles().any(|(_, tile)| tile == Tile::Exit), "{level} has no way out");
            assert_eq!(path.tiles().any(|(_, tile)| tile == Tile::Cellar), level == Level::MillLane, "{level}");
            assert!((10..=12).contains(&path.doors), "{level}: {} doors", path.doors);
            assert!(path.tiles().all(|(spot, _)| spot.x < 60 && spot.y < 12), "{level} is too large for the terminal");
        }
    }
}
