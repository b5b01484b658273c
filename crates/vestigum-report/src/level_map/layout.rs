//! Where the levels of a map stand: columns from left to right, broken into bands where they are too many for the width, and lanes from top
//! to bottom. Text and SVG draw the same layout.

use std::collections::{HashMap, HashSet};

use super::graph::{LevelMap, Way, WayKind};

/// A map that is laid out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Layout {
    /// From top to bottom.
    pub bands: Vec<Band>,
}

/// A part of the map that stands in one line.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Band {
    /// For each column its levels, each with its lane.
    pub columns: Vec<Vec<(usize, usize)>>,
    /// The lines between them.
    pub links: Vec<Link>,
    /// Says how many lanes it has.
    pub lanes: usize,
}

/// A line from a level to one further right in the same band.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Link {
    /// The ways that it stands for, by their index: all lead from the same level to the same.
    pub ways: Vec<usize>,
    /// The column where it begins, and its lane in each column up to the one where it ends.
    pub column: usize,
    pub lanes: Vec<usize>,
}

impl Link {
    /// Returns whether it does nothing but lead on.
    pub(super) fn only_leads_on(&self, map: &LevelMap) -> bool {
        self.ways.iter().all(|way| map.ways[*way].kind == WayKind::LeadsOn)
    }

    /// The exits that it stands for.
    pub(super) fn exits<'m>(&self, map: &'m LevelMap) -> Vec<&'m str> {
        self.ways.iter().filter_map(|way| map.ways[*way].exit()).collect()
    }
}

impl Way {
    /// The name of the exit, if it is one.
    pub(super) fn exit(&self) -> Option<&str> {
        match &self.kind {
            WayKind::Exit(name) => Some(name),
            WayKind::Opens | WayKind::LeadsOn => None,
        }
    }
}

impl Layout {
    /// Lays a map out with at most that many columns in a band (1 or more).
    pub(super) fn of(map: &LevelMap, most: usize) -> Layout {
        let most = most.max(1);
        let mut is_tied = vec![false; map.levels.len()];
        for way in map.ways.iter().filter(|way| way.from != way.to) {
            (is_tied[way.from], is_tied[way.to]) = (true, true);
        }
        let (tied, loose): (Vec<usize>, Vec<usize>) = (0..map.levels.len()).partition(|level| is_tied[*level]);
        let layers = layers(map, &tied);
        let mut bands = Vec::new();
        if !layers.is_empty() {
            // As many columns in each band as in the others: a last band of one level looks lost.
            let count = layers.len().div_ceil(most);
            let each = layers.len().div_ceil(count);
            bands.extend(layers.chunks(each).map(|layers| band(map, layers)));
        }
        for row in loose.chunks(most) {
            bands.push(Band {
                columns: row.iter().map(|level| vec![(*level, 0)]).collect(),
                links: Vec::new(),
                lanes: 1,
            });
        }
        Layout { bands }
    }

    /// The ways that no line shows, as they lead back or into another band.
    pub(super) fn unlinked(&self, map: &LevelMap) -> Vec<usize> {
        let drawn: HashSet<usize> =
            self.bands.iter().flat_map(|band| &band.links).flat_map(|link| link.ways.iter().copied()).collect();
        (0..map.ways.len()).filter(|way| !drawn.contains(way)).collect()
    }

    /// Returns how many columns the widest band has.
    pub(super) fn columns(&self) -> usize {
        self.bands.iter().map(|band| band.columns.len()).max().unwrap_or(0)
    }
}

/// The levels in layers: each behind all from which a way leads to it, but for ways that lead back.
fn layers(map: &LevelMap, levels: &[usize]) -> Vec<Vec<usize>> {
    let mut out: Vec<Vec<usize>> = vec![Vec::new(); map.levels.len()];
    for way in &map.ways {
        out[way.from].push(way.to);
    }
    // A search in depth that keeps its own stack: maps may have thousands of levels in a row.
    let (mut state, mut finished) = (vec![Seen::No; out.len()], Vec::new());
    let mut forward: Vec<Vec<usize>> = vec![Vec::new(); out.len()];
    for root in levels {
        let mut stack = vec![(*root, 0)];
        if state[*root] != Seen::No {
            continue;
        }
        state[*root] = Seen::Open;
        while let Some((level, next)) = stack.pop() {
            let Some(target) = out[level].get(next).copied() else {
                state[level] = Seen::Done;
                finished.push(level);
                continue;
            };
            stack.push((level, next + 1));
            if state[target] == Seen::Open {
                continue;
            }
            forward[level].push(target);
            if state[target] == Seen::No {
                state[target] = Seen::Open;
                stack.push((target, 0));
            }
        }
    }
    let mut layer = vec![0; out.len()];
    for level in finished.iter().rev() {
        for target in &forward[*level] {
            layer[*target] = layer[*target].max(layer[*level] + 1);
        }
    }
    let count = levels.iter().map(|level| layer[*level] + 1).max().unwrap_or(0);
    let mut layers = vec![Vec::new(); count];
    levels.iter().for_each(|level| layers[layer[*level]].push(*level));
    layers
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Seen {
    No,
    Open,
    Done,
}

/// Describes what stands in a lane of a column: a level, or a link that goes past.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Item {
    Level(usize),
    Past(usize),
}

/// Lays out the layers of one band.
fn band(map: &LevelMap, layers: &[Vec<usize>]) -> Band {
    // The links, each with the level where it begins and the one where it ends.
    let mut links: Vec<(usize, usize, Link)> = Vec::new();
    let mut known: HashMap<(usize, usize), usize> = HashMap::default();
    let mut columns = vec![None; map.levels.len()];
    for (column, layer) in layers.iter().enumerate() {
        layer.iter().for_each(|level| columns[*level] = Some(column));
    }
    let aside = asides(map);
    for (index, way) in map.ways.iter().enumerate() {
        let (Some(from), Some(to)) = (columns[way.from], columns[way.to]) else { continue };
        if from >= to {
            continue;
        }
        match known.get(&(way.from, way.to)) {
            Some(at) => links[*at].2.ways.push(index),
            None => {
                known.insert((way.from, way.to), links.len());
                let link = Link { ways: vec![index], column: from, lanes: Vec::with_capacity(to - from + 1) };
                links.push((way.from, way.to, link));
            }
        }
    }
    let mut lane_of = vec![0usize; map.levels.len()];
    let mut placed = Vec::with_capacity(layers.len());
    let mut lanes = 0;
    for (column, layer) in layers.iter().enumerate() {
        let past = links
            .iter()
            .enumerate()
            .filter(|(_, (_, end, link))| link.column < column && columns[*end].is_some_and(|end| column < end));
        let items = layer.iter().copied().map(Item::Level).chain(past.map(|(index, _)| Item::Past(index)));
        // Each wants the lane of what leads to it; of those that want the same, what goes the main way comes first.
        let mut wanting: Vec<(usize, bool, usize, Item)> = items
            .map(|item| match item {
                Item::Level(level) => {
                    let mut from: Vec<usize> = links
                        .iter()
                        .filter(|(_, end, _)| *end == level)
                        .filter_map(|(_, _, link)| link.lanes.last().copied())
                        .collect();
                    from.sort_unstable();
                    let wanted = from.get(from.len().saturating_sub(1) / 2).copied().unwrap_or(0);
                    (wanted, aside[level], level, item)
                }
                Item::Past(link) => {
                    let (_, end, link) = &links[link];
                    (link.lanes.last().copied().unwrap_or(0), aside[*end], *end, item)
                }
            })
            .collect();
        wanting.sort_by_key(|(wanted, aside, level, _)| (*wanted, *aside, *level));
        let mut free = 0;
        let mut levels = Vec::new();
        for (wanted, _, _, item) in wanting {
            let lane = wanted.max(free);
            free = lane + 1;
            match item {
                Item::Level(level) => {
                    lane_of[level] = lane;
                    levels.push((level, lane));
                }
                Item::Past(link) => links[link].2.lanes.push(lane),
            }
        }
        lanes = lanes.max(free);
        for (from, to, link) in &mut links {
            if columns[*from] == Some(column) {
                link.lanes.push(lane_of[*from]);
            } else if columns[*to] == Some(column) {
                link.lanes.push(lane_of[*to]);
            }
        }
        placed.push(levels);
    }
    Band { columns: placed, links: links.into_iter().map(|(_, _, link)| link).collect(), lanes }
}

/// For each level whether it stands beside the main way: only exits lead to it.
fn asides(map: &LevelMap) -> Vec<bool> {
    let mut led = vec![(false, true); map.levels.len()];
    for way in &map.ways {
        let (is_led_to, by_exits) = &mut led[way.to];
        (*is_led_to, *by_exits) = (true, *by_exits && way.exit().is_some());
    }
    led.into_iter().map(|(is_led_to, by_exits)| is_led_to && by_exits).collect()
}
