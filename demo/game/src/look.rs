//! How things look, with colours and without: every difference that a colour makes is also one of sign or weight.

use ratatui::crossterm::event::KeyCode;
use ratatui::prelude::*;
use ratatui::widgets::{Block, BorderType, Clear, Paragraph};

/// The smallest terminal.
pub(crate) const WIDTH: u16 = 80;
/// The smallest terminal.
pub(crate) const HEIGHT: u16 = 24;

/// Describes what is drawn: its colour, and its weight.
#[derive(Clone, Copy)]
pub(crate) struct Ink(Color, Modifier);

impl Ink {
    pub(crate) const PLAIN: Ink = Ink(Color::Reset, Modifier::empty());
    pub(crate) const DIM: Ink = Ink(Color::DarkGray, Modifier::DIM);
    pub(crate) const STRONG: Ink = Ink(Color::White, Modifier::BOLD);
    pub(crate) const CHOSEN: Ink = Ink(Color::Yellow, Modifier::REVERSED);
    pub(crate) const GOOD: Ink = Ink(Color::Green, Modifier::BOLD);
    pub(crate) const BAD: Ink = Ink(Color::Red, Modifier::BOLD);
    pub(crate) const ROCK: Ink = Ink(Color::Rgb(96, 100, 92), Modifier::DIM);
    pub(crate) const WATER: Ink = Ink(Color::Rgb(86, 148, 190), Modifier::empty());
    pub(crate) const WOOD: Ink = Ink(Color::Rgb(176, 128, 72), Modifier::empty());
    pub(crate) const CARRIER: Ink = Ink(Color::Yellow, Modifier::BOLD.union(Modifier::REVERSED));
    pub(crate) const LIGHT: Ink = Ink(Color::Yellow, Modifier::BOLD);
}

#[derive(Clone, Copy)]
pub(crate) struct Look {
    pub(crate) colour: bool,
}

impl Look {
    pub(crate) fn of(self, Ink(colour, weight): Ink) -> Style {
        match self.colour {
            // Dim and a colour of its own would be too dark to read.
            true => Style::new().fg(colour).add_modifier(weight.difference(Modifier::DIM)),
            false => Style::new().add_modifier(weight),
        }
    }

    pub(crate) fn text<'a>(self, ink: Ink, text: impl Into<String>) -> Span<'a> {
        Span::styled(text.into(), self.of(ink))
    }

    pub(crate) fn line<'a>(self, ink: Ink, text: impl Into<String>) -> Line<'a> {
        Line::from(self.text(ink, text))
    }

    /// A box with a title; gives the room inside.
    pub(crate) fn frame(self, frame: &mut Frame<'_>, area: Rect, title: &str) -> Rect {
        let block = Block::bordered().border_type(BorderType::Rounded).border_style(self.of(Ink::DIM));
        let block = block.title(self.text(Ink::STRONG, format!(" {title} ")));
        let inside = block.inner(area);
        frame.render_widget(block, area);
        inside
    }

    /// A box with lines, over what is there.
    pub(crate) fn note(self, frame: &mut Frame<'_>, area: Rect, size: (u16, u16), title: &str, drawn: Vec<Line<'_>>) {
        let over = area.centered(Constraint::Length(size.0), Constraint::Length(size.1));
        frame.render_widget(Clear, over);
        let inside = self.frame(frame, over, title);
        lines(frame, Rect { x: inside.x + 1, width: inside.width.saturating_sub(2), ..inside }, drawn);
    }

    /// Keys and what they do, in one line.
    pub(crate) fn keys<'a>(self, keys: &[(&str, &str)]) -> Line<'a> {
        let spans = keys.iter().flat_map(|(key, does)| {
            [self.text(Ink::STRONG, (*key).to_owned()), self.text(Ink::DIM, format!(" {does}   "))]
        });
        Line::from(spans.collect::<Vec<_>>())
    }
}

pub(crate) fn lines(frame: &mut Frame<'_>, area: Rect, lines: Vec<Line<'_>>) {
    frame.render_widget(Paragraph::new(lines).wrap(ratatui::widgets::Wrap { trim: false }), area);
}

/// Stars as signs.
pub(crate) fn stars(count: i64) -> String {
    (0..3).map(|number| if number < count { '★' } else { '☆' }).collect()
}

/// A time on the way.
pub(crate) fn clock(ms: i64) -> String {
    format!("{}:{:02}.{}", ms / 60_000, ms / 1000 % 60, ms / 100 % 10)
}

/// A line of text that is typed.
pub(crate) struct Typed {
    pub(crate) text: String,
    longest: usize,
}

impl Typed {
    pub(crate) fn new(text: &str, longest: usize) -> Typed {
        Typed { text: text.chars().take(longest).collect(), longest }
    }

    pub(crate) fn key(&mut self, key: KeyCode) {
        match key {
            KeyCode::Backspace => drop(self.text.pop()),
            KeyCode::Char(sign) if !sign.is_control() && self.text.chars().count() < self.longest => {
                self.text.push(sign);
            }
            _ => {}
        }
    }

    pub(crate) fn drawn<'a>(&self, look: Look) -> Span<'a> {
        look.text(Ink::LIGHT, format!("{}▏", self.text))
    }
}
