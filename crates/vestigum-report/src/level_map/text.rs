//! The map as text, for a terminal.

use super::canvas::Canvas;
use super::graph::{LevelMap, MapLevel, Standing};
use super::layout::{Band, Layout};
use super::lines::{Line, LineKind, lines};
use super::wording::cut;

/// Describes what a piece of the text is, for whoever colours it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Ink {
    /// Says what has no colour of its own.
    #[default]
    Plain,
    /// A line between boxes.
    Line,
    /// The box of a level that is completed.
    Completed,
    /// The box of a level that is open, or of any level where no player is shown.
    Open,
    /// The box of a locked level.
    Locked,
    /// The title of a level.
    Title,
    /// Says where the player is.
    Here,
    /// Says what a level needs.
    Needs,
    /// Says what is wrong.
    Warning,
    /// Says what matters less.
    Quiet,
}

/// The width of a box with its frame, at the least and at the most.
const BOX: (usize, usize) = (18, 26);

impl LevelMap {
    /// The map in lines of at most `width` characters (40 or more; in less, boxes are cut off). `paint` colours a piece.
    ///
    /// ```
    /// # use vestigum_core::Spec;
    /// # use vestigum_report::level_map::LevelMap;
    /// # let spec = Spec::from_toml("[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\", \"tarn_steps\"]")?;
    /// let text = LevelMap::of(&spec).as_text(80, &|_, piece| piece.to_owned());
    /// assert!(text.contains("│ mill_lane"));
    /// # Ok::<(), vestigum_core::Diagnostics>(())
    /// ```
    pub fn as_text(&self, width: usize, paint: &dyn Fn(Ink, &str) -> String) -> String {
        if self.levels.is_empty() {
            return "no levels\n".into();
        }
        let layout = self.fitting(width);
        let unlinked = layout.unlinked(self);
        let columns = layout.columns();
        let channels: usize =
            layout.bands.iter().map(|band| channels(self, band).iter().sum::<usize>()).max().unwrap_or(0);
        let box_width = (width.saturating_sub(channels) / columns.max(1)).clamp(BOX.0, BOX.1);
        let mut text = String::new();
        for band in &layout.bands {
            let drawn = draw(self, &unlinked, band, box_width);
            drawn.rows(paint).iter().for_each(|row| text.push_str(&format!("{row}\n")));
            text.push('\n');
        }
        text.push_str(&self.notes(paint));
        text
    }

    /// The layout with the most columns that fits.
    fn fitting(&self, width: usize) -> Layout {
        for most in (2..=(width / BOX.0).max(2)).rev() {
            let layout = Layout::of(self, most);
            let fits = |band: &Band| band.columns.len() * BOX.0 + channels(self, band).iter().sum::<usize>() <= width;
            if layout.bands.iter().all(fits) {
                return layout;
            }
        }
        Layout::of(self, 1)
    }

    /// Returns what the boxes are too small for: the conditions as the spec says them.
    fn notes(&self, paint: &dyn Fn(Ink, &str) -> String) -> String {
        let width = self.levels.iter().map(|level| level.id.chars().count()).max().unwrap_or(0);
        let mut text = String::new();
        let mut say = |level: &MapLevel, what: &str, condition: &str| {
            text.push_str(&format!("{:width$}  {} {condition}\n", level.id, paint(Ink::Quiet, what)));
        };
        for level in &self.levels {
            if let Some(opens) = &level.opens {
                say(level, "opens when", opens);
            }
            if let Some(hidden) = &level.hidden {
                say(level, "hidden while", hidden);
            }
            if level.unreachable {
                say(level, "can never open:", "`vestigum check` tells why");
            }
        }
        let mut legend = vec!["── completing the one opens the other", "╌╌ leads on, and does not open it"];
        if self.levels.iter().any(|level| level.hidden.is_some()) {
            legend.push("╭╌ hidden at first");
        }
        if self.has_player {
            legend.push("✓ completed  ○ open  × locked");
        }
        format!("{text}{}\n", paint(Ink::Quiet, &legend.join("   ")))
    }
}

/// Returns how wide the gap behind each column is: for the names of exits, for lines up and down, for an arrow.
fn channels(map: &LevelMap, band: &Band) -> Vec<usize> {
    (0..band.columns.len().saturating_sub(1))
        .map(|column| exit_width(map, band, column) + tracks(band, column).len() + 2)
        .collect()
}

/// The room for the names of exits behind a column.
fn exit_width(map: &LevelMap, band: &Band, column: usize) -> usize {
    let links = band.links.iter().filter(|link| link.column == column);
    links
        .map(|link| link.exits(map).join(" ").chars().count())
        .max()
        .map_or(1, |width| if width > 0 { width + 2 } else { 1 })
}

/// The lanes from which a line goes up or down behind a column.
fn tracks(band: &Band, column: usize) -> Vec<usize> {
    let mut lanes: Vec<usize> =
        steps(band, column).filter(|(_, from, to)| from != to).map(|(_, from, _)| from).collect();
    lanes.sort_unstable();
    lanes.dedup();
    lanes
}

/// The steps of links from a column to the next: the link, the lane there and the lane here.
fn steps(band: &Band, column: usize) -> impl Iterator<Item = (usize, usize, usize)> {
    band.links.iter().enumerate().filter_map(move |(index, link)| {
        let at = column.checked_sub(link.column)?;
        Some((index, *link.lanes.get(at)?, *link.lanes.get(at + 1)?))
    })
}

fn draw(map: &LevelMap, unlinked: &[usize], band: &Band, box_width: usize) -> Canvas {
    let mut canvas = Canvas::default();
    let texts: Vec<Vec<(usize, usize, Vec<Line>)>> = band
        .columns
        .iter()
        .map(|levels| {
            levels.iter().map(|(level, lane)| (*level, *lane, lines(map, unlinked, *level, box_width - 4))).collect()
        })
        .collect();
    // The top row of each lane, and the row at which lines meet what stands in it.
    let mut tops = Vec::with_capacity(band.lanes);
    let mut row = 0;
    for lane in 0..band.lanes {
        let boxes = texts.iter().flatten().filter(|(_, at, _)| *at == lane);
        let height = boxes.map(|(_, _, lines)| lines.len() + 2).max();
        tops.push((row, row + usize::from(height.is_some())));
        row += height.unwrap_or(1);
    }
    let gaps = channels(map, band);
    let mut x = 0;
    for (column, levels) in texts.iter().enumerate() {
        for (level, lane, lines) in levels {
            draw_level(&mut canvas, &map.levels[*level], lines, (x, tops[*lane].0, box_width));
        }
        // A link that goes past draws through the room of a box.
        for link in &band.links {
            let last = link.column + link.lanes.len() - 1;
            if link.column < column && column < last {
                let y = tops[link.lanes[column - link.column]].1;
                canvas.across(y, x, x + box_width - 1, (true, true), link.only_leads_on(map));
            }
        }
        let begin = x + box_width;
        x = begin + gaps.get(column).copied().unwrap_or(0);
        let lanes = tracks(band, column);
        let exits = exit_width(map, band, column);
        for (index, from, to) in steps(band, column) {
            let link = &band.links[index];
            let dashed = link.only_leads_on(map);
            let (here, there) = (tops[from].1, tops[to].1);
            let track = lanes.iter().position(|lane| *lane == from).map_or(begin + exits, |at| begin + exits + at);
            if here == there {
                canvas.across(here, begin, x - 1, (true, true), dashed);
            } else {
                canvas.across(here, begin, track, (true, false), dashed);
                canvas.along(track, here, there, dashed);
                canvas.across(there, track, x - 1, (false, true), dashed);
            }
            if link.column + link.lanes.len() == column + 2 {
                canvas.write(x - 1, there, "▸", Ink::Line);
            }
            // The name of an exit stands where only this link passes: at its end, or at its beginning if it goes straight on.
            let name = link.exits(map).join(" ");
            if link.column == column && !name.is_empty() {
                canvas.write(begin + 1, if here == there { here } else { there.max(here) }, &name, Ink::Quiet);
            }
        }
    }
    canvas
}

fn draw_level(canvas: &mut Canvas, level: &MapLevel, lines: &[Line], (x, y, width): (usize, usize, usize)) {
    let ink = match level.player.as_ref().map(|player| player.standing) {
        _ if level.unreachable => Ink::Warning,
        Some(Standing::Completed) => Ink::Completed,
        Some(Standing::Open) | None => Ink::Open,
        Some(Standing::Locked) => Ink::Locked,
    };
    canvas.frame(x, y, width, lines.len() + 2, level.hidden.is_some(), ink);
    for (row, line) in (y + 1..).zip(lines) {
        let ink = match line.kind {
            LineKind::Title => Ink::Title,
            LineKind::Here => Ink::Here,
            LineKind::Needs => Ink::Needs,
            LineKind::Warning => Ink::Warning,
            LineKind::Quiet | LineKind::Elsewhere => Ink::Quiet,
        };
        canvas.write(x + 2, row, &cut(&line.text, width - 4), ink);
    }
}
