//! The map as a picture.
//!
//! The picture has no colours of its own in its shapes: classes name what a shape is, and the style sheet gives each class its colours, for light and
//! dark. A page that has the picture in it may bring a style of its own.

use std::fmt::Write as _;

use super::graph::{LevelMap, Standing, WayKind};
use super::layout::{Band, Layout, Link};
use super::lines::{LineKind, lines};
use super::wording::cut;

/// 6 columns fit side by side on a page of 1,200 pixels.
const COLUMNS: usize = 6;
const BOX: i64 = 158;
const GAP: i64 = 50;
const LINE: i64 = 16;
/// From the top of a box to its first line, and from the last to the bottom.
const PADDING: i64 = 10;
/// Between two lanes, and between two bands.
const BETWEEN: i64 = 22;
const BANDS: i64 = 34;
const MARGIN: i64 = 12;
/// Says how many characters fit into a box, in bold and else.
const BOLD: usize = 18;
const PLAIN: usize = 23;

/// The style of a picture that stands alone.
const STYLE: &str = include_str!("map.css");

impl LevelMap {
    /// The map as a whole SVG document.
    pub fn as_svg(&self) -> String {
        self.picture(Some(STYLE))
    }

    /// The map for a page that has the style sheet [`LevelMap::style`] already.
    pub fn as_inline_svg(&self) -> String {
        self.picture(None)
    }

    /// The style sheet of the picture.
    pub fn style() -> &'static str {
        STYLE
    }

    fn picture(&self, style: Option<&str>) -> String {
        let layout = Layout::of(self, COLUMNS);
        let unlinked = layout.unlinked(self);
        let columns = layout.columns() as i64;
        let width = 2 * MARGIN + columns * BOX + (columns - 1).max(0) * GAP;
        let mut body = String::new();
        let mut top = MARGIN;
        for band in &layout.bands {
            top = self.band(&mut body, band, &unlinked, top) + BANDS;
        }
        let height = (top - BANDS + MARGIN).max(2 * MARGIN);
        let style = style.map(|style| format!("<style>{style}</style>\n")).unwrap_or_default();
        let title = escaped(&format!("The levels of {}", self.title));
        format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" class=\"level-map\" viewBox=\"0 0 {width} {height}\" width=\"{width}\" \
             height=\"{height}\" role=\"img\" aria-label=\"{title}\">\n{style}<defs><marker id=\"map-arrow\" viewBox=\"0 0 8 8\" refX=\"7\" \
             refY=\"4\" markerWidth=\"7\" markerHeight=\"7\" orient=\"auto\"><path class=\"head\" d=\"M0 0 8 4 0 8z\"/></marker></defs>\n{body}</svg>\n"
        )
    }

    /// Draws a band below `top` and gives its bottom.
    fn band(&self, body: &mut String, band: &Band, unlinked: &[usize], top: i64) -> i64 {
        let texts: Vec<Vec<_>> = band
            .columns
            .iter()
            .map(|levels| {
                levels.iter().map(|(level, lane)| (*level, *lane, lines(self, unlinked, *level, PLAIN))).collect()
            })
            .collect();
        let mut lanes = Vec::with_capacity(band.lanes);
        let mut y = top;
        for lane in 0..band.lanes {
            let boxes = texts.iter().flatten().filter(|(_, at, _)| *at == lane);
            let rows = boxes.map(|(_, _, lines)| lines.len() as i64).max();
            lanes.push((y, y + PADDING + LINE / 2));
            y += rows.map_or(LINE, |rows| rows * LINE + 2 * PADDING) + BETWEEN;
        }
        for link in &band.links {
            self.link(body, link, &lanes);
        }
        for (column, levels) in texts.iter().enumerate() {
            for (index, lane, lines) in levels {
                let (x, y) = (left(column), lanes[*lane].0);
                let level = &self.levels[*index];
                let standing = match level.player.as_ref().map(|player| player.standing) {
                    _ if level.unreachable => "never",
                    Some(Standing::Completed) => "completed",
                    Some(Standing::Locked) => "locked",
                    Some(Standing::Open) | None => "open",
                };
                let hidden = if level.hidden.is_some() { " hidden" } else { "" };
                let height = lines.len() as i64 * LINE + 2 * PADDING;
                let _ = write!(
                    body,
                    "<g class=\"level {standing}{hidden}\"><title>{}</title><rect x=\"{x}\" y=\"{y}\" width=\"{BOX}\" height=\"{height}\" rx=\"9\"/>",
                    escaped(&self.told(*index))
                );
                for (row, line) in (0i64..).zip(lines) {
                    let (class, room) = match line.kind {
                        LineKind::Title => ("title", BOLD),
                        LineKind::Here => ("here", PLAIN),
                        LineKind::Needs => ("needs", PLAIN),
                        LineKind::Warning => ("warning", PLAIN),
                        LineKind::Quiet => ("quiet", PLAIN),
                        LineKind::Elsewhere => ("quiet", PLAIN),
                    };
                    let baseline = y + PADDING + row * LINE + 12;
                    let text = escaped(&cut(&line.text, room));
                    let _ = write!(body, "<text class=\"{class}\" x=\"{}\" y=\"{baseline}\">{text}</text>", x + 11);
                }
                body.push_str("</g>\n");
            }
        }
        y - BETWEEN
    }

    fn link(&self, body: &mut String, link: &Link, lanes: &[(i64, i64)]) {
        let at = |step: usize| lanes[link.lanes[step]].1;
        let begin = left(link.column) + BOX;
        let mut path = format!("M{begin} {}", at(0));
        for step in 1..link.lanes.len() {
            let (from, to) = (left(link.column + step - 1) + BOX, left(link.column + step));
            let middle = i64::midpoint(from, to);
            let _ = write!(path, " C{middle} {} {middle} {} {to} {}", at(step - 1), at(step), at(step));
            // Past a box there is no need to bend.
            if step + 1 < link.lanes.len() {
                let _ = write!(path, " L{} {}", to + BOX, at(step));
            }
        }
        let class = if link.only_leads_on(self) { "way leads-on" } else { "way" };
        let either = link.ways.iter().any(|way| self.ways[*way].either);
        let _ = write!(body, "<g><path class=\"{class}\" marker-end=\"url(#map-arrow)\" d=\"{path}\"/>");
        let exits = link.exits(self).join(", ");
        let label = match (exits.is_empty(), either) {
            (false, _) => exits,
            (true, true) => "or".to_owned(),
            (true, false) => String::new(),
        };
        if !label.is_empty() {
            let (x, y) = (begin + GAP / 2, i64::midpoint(at(0), at(1)));
            let _ = write!(body, "<text class=\"exit\" x=\"{x}\" y=\"{}\">{}</text>", y - 5, escaped(&cut(&label, 12)));
        }
        body.push_str("</g>\n");
    }

    /// Everything about a level in words, for whoever points at it or has it read aloud.
    fn told(&self, index: usize) -> String {
        let level = &self.levels[index];
        let mut told = vec![format!("{} ({})", level.title, level.id)];
        if level.unreachable {
            told.push("It can never open.".into());
        }
        if let Some(opens) = &level.opens {
            told.push(format!("Opens when {opens}."));
        }
        if let Some(hidden) = &level.hidden {
            told.push(format!("Hidden while {hidden}."));
        }
        for way in &self.ways {
            let (from, to) = (&self.levels[way.from].title, &self.levels[way.to].title);
            told.extend(match &way.kind {
                WayKind::Opens if way.to == index => Some(format!("Completing {from} opens it.")),
                WayKind::Exit(exit) if way.to == index => Some(format!("The exit {exit} of {from} leads here.")),
                WayKind::LeadsOn if way.from == index => Some(format!("Completing it leads to {to}.")),
                WayKind::Opens | WayKind::Exit(_) | WayKind::LeadsOn => None,
            });
        }
        if !level.checkpoints.is_empty() {
            told.push(format!("Checkpoints: {}.", level.checkpoints.join(", ")));
        }
        if let Some(player) = &level.player {
            let why = player.why.as_ref().map(|why| format!(": {why}")).unwrap_or_default();
            told.push(format!("For this player: {}{why}.", player.standing.word()));
            told.extend(player.values.iter().map(|(name, value)| format!("{name} {value}")));
        }
        told.join("\n")
    }
}

fn left(column: usize) -> i64 {
    MARGIN + column as i64 * (BOX + GAP)
}

/// A text between tags or in an attribute.
fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\n' | '\t' => out.push(c),
            // XML has no way to write these.
            c if c.is_control() || c == '\u{fffe}' || c == '\u{ffff}' => out.push('\u{fffd}'),
            c => out.push(c),
        }
    }
    out
}
