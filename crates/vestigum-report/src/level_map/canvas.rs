//! A field of characters on which boxes and lines are drawn.

use super::text::Ink;

/// The sides of a character to which a line leads from its middle.
const UP: u8 = 1;
const RIGHT: u8 = 2;
const DOWN: u8 = 4;
const LEFT: u8 = 8;

#[derive(Clone, Copy, Debug, Default)]
struct Spot {
    /// A character that was written; lines do not change it.
    written: Option<char>,
    ink: Ink,
    lines: u8,
    /// Whether only dashed lines lead through it.
    dashed: bool,
}

#[derive(Clone, Debug, Default)]
pub(super) struct Canvas {
    rows: Vec<Vec<Spot>>,
}

impl Canvas {
    fn at(&mut self, x: usize, y: usize) -> &mut Spot {
        if self.rows.len() <= y {
            self.rows.resize(y + 1, Vec::new());
        }
        let row = &mut self.rows[y];
        if row.len() <= x {
            row.resize(x + 1, Spot::default());
        }
        &mut row[x]
    }

    pub(super) fn write(&mut self, x: usize, y: usize, text: &str, ink: Ink) {
        for (at, c) in (x..).zip(text.chars()) {
            let spot = self.at(at, y);
            // A title may have a line break in it, and a box must not.
            spot.written = Some(if c.is_control() { ' ' } else { c });
            spot.ink = ink;
        }
    }

    /// A box with rounded corners, its sides dashed or not.
    pub(super) fn frame(&mut self, x: usize, y: usize, width: usize, height: usize, dashed: bool, ink: Ink) {
        let (across, along) = if dashed { ("╌", "╎") } else { ("─", "│") };
        let side = across.repeat(width.saturating_sub(2));
        self.write(x, y, &format!("╭{side}╮"), ink);
        for row in y + 1..(y + height).saturating_sub(1) {
            self.write(x, row, along, ink);
            self.write(x + width - 1, row, along, ink);
        }
        self.write(x, y + height - 1, &format!("╰{side}╯"), ink);
    }

    fn join(&mut self, x: usize, y: usize, sides: u8, dashed: bool) {
        let spot = self.at(x, y);
        spot.dashed = dashed && (spot.lines == 0 || spot.dashed);
        spot.lines |= sides;
        spot.ink = Ink::Line;
    }

    /// A line from `from` up to and with `to`, which goes on beyond either end or not.
    pub(super) fn across(&mut self, y: usize, from: usize, to: usize, beyond: (bool, bool), dashed: bool) {
        for x in from..=to {
            let left = if x > from || beyond.0 { LEFT } else { 0 };
            let right = if x < to || beyond.1 { RIGHT } else { 0 };
            self.join(x, y, left | right, dashed);
        }
    }

    /// A line up or down.
    pub(super) fn along(&mut self, x: usize, a: usize, b: usize, dashed: bool) {
        let (top, bottom) = (a.min(b), a.max(b));
        for y in top..=bottom {
            let up = if y > top { UP } else { 0 };
            let down = if y < bottom { DOWN } else { 0 };
            self.join(x, y, up | down, dashed);
        }
    }

    /// The rows, coloured piece by piece, without the blanks at their ends.
    pub(super) fn rows(&self, paint: &dyn Fn(Ink, &str) -> String) -> Vec<String> {
        let row = |spots: &Vec<Spot>| {
            let end = spots.iter().rposition(|spot| spot.shown() != ' ').map_or(0, |last| last + 1);
            let mut line = String::new();
            let mut at = 0;
            while at < end {
                let ink = spots[at].ink;
                let piece: String = spots[at..end].iter().take_while(|spot| spot.ink == ink).map(Spot::shown).collect();
                at += piece.chars().count();
                line.push_str(&paint(ink, &piece));
            }
            line
        };
        self.rows.iter().map(row).collect()
    }
}

impl Spot {
    fn shown(&self) -> char {
        match (self.written, self.lines) {
            (Some(c), _) => c,
            (None, 0) => ' ',
            (None, lines) if lines & (UP | DOWN) == 0 => {
                if self.dashed {
                    '╌'
                } else {
                    '─'
                }
            }
            (None, lines) if lines & (LEFT | RIGHT) == 0 => {
                if self.dashed {
                    '╎'
                } else {
                    '│'
                }
            }
            (None, lines) => CORNERS[usize::from(lines)],
        }
    }
}

/// By the sides that a line leads to: up 1, right 2, down 4, left 8.
const CORNERS: [char; 16] = [' ', '│', '─', '╰', '│', '│', '╭', '├', '─', '╯', '─', '┴', '╮', '┤', '┬', '┼'];
