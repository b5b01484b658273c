//! Places of a text as editors name them: a line and a column, counted in the units that the editor and the server agreed on.

use lsp_types::{Position, PositionEncodingKind, Range};
use vestigum_spec::diagnostic::SourceSpan;

/// In what columns are counted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Units {
    Utf8,
    Utf16,
    Utf32,
}

impl Units {
    /// The first of what the editor offers that is known; what every editor knows, if it offers nothing.
    pub(crate) fn agreed(offered: Option<&[PositionEncodingKind]>) -> Units {
        let known = offered.unwrap_or_default().iter().find_map(|kind| match kind.as_str() {
            "utf-8" => Some(Units::Utf8),
            "utf-16" => Some(Units::Utf16),
            "utf-32" => Some(Units::Utf32),
            _ => None,
        });
        known.unwrap_or(Units::Utf16)
    }

    pub(crate) fn kind(self) -> PositionEncodingKind {
        match self {
            Units::Utf8 => PositionEncodingKind::UTF8,
            Units::Utf16 => PositionEncodingKind::UTF16,
            Units::Utf32 => PositionEncodingKind::UTF32,
        }
    }

    fn len(self, c: char) -> usize {
        match self {
            Units::Utf8 => c.len_utf8(),
            Units::Utf16 => c.len_utf16(),
            Units::Utf32 => 1,
        }
    }
}

/// A text and where its lines begin.
#[derive(Clone, Debug)]
pub(crate) struct Lines {
    pub text: String,
    starts: Vec<usize>,
}

impl Lines {
    pub(crate) fn new(text: String) -> Lines {
        let starts = std::iter::once(0).chain(text.match_indices('\n').map(|(at, _)| at + 1)).collect();
        Lines { text, starts }
    }

    pub(crate) fn position(&self, offset: usize, units: Units) -> Position {
        let mut offset = offset.min(self.text.len());
        while !self.text.is_char_boundary(offset) {
            offset -= 1;
        }
        let line = self.starts.partition_point(|start| *start <= offset) - 1;
        let column: usize = self.text[self.starts[line]..offset].chars().map(|c| units.len(c)).sum();
        Position::new(u32::try_from(line).unwrap_or(u32::MAX), u32::try_from(column).unwrap_or(u32::MAX))
    }

    pub(crate) fn range(&self, span: SourceSpan, units: Units) -> Range {
        Range::new(self.position(span.start, units), self.position(span.end, units))
    }

    /// The byte that a place means. A column behind the end of its line means its end, a line behind the last the end of the text.
    pub(crate) fn offset(&self, position: Position, units: Units) -> usize {
        let Some(start) = self.starts.get(position.line as usize).copied() else { return self.text.len() };
        let mut rest = position.character as usize;
        for (at, c) in self.text[start..].char_indices() {
            if rest == 0 || c == '\n' || units.len(c) > rest {
                return start + at;
            }
            rest -= units.len(c);
        }
        self.text.len()
    }

    /// The end of the line in which a byte stands, without its line break.
    pub(crate) fn line_end(&self, offset: usize) -> usize {
        let offset = offset.min(self.text.len());
        self.text.as_bytes()[offset..].iter().position(|byte| *byte == b'\n').map_or(self.text.len(), |at| offset + at)
    }
}
