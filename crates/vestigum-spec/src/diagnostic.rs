//! What is wrong with a document, where, and what to do about it.
//!
//! Specs and playthroughs are read to the end before anything is said, so that a writer sees every mistake at once.
//! Each [`Diagnostic`] carries a code from [`crate::codes`], the span it speaks of and a help line. `vestigum-verify` renders
//! [`Diagnostics`] over the source text; a game that prints them sees the places and what to do.

use std::fmt;
use std::ops::Range;
use std::sync::Arc;

use crate::nearest::nearest;
use crate::words;

/// A place in a source text, in bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct SourceSpan {
    /// First byte.
    pub start: usize,
    /// One past the last byte.
    pub end: usize,
}

impl SourceSpan {
    /// A span from `start` up to `end`.
    pub fn new(start: usize, end: usize) -> Self {
        Self { start, end: end.max(start) }
    }

    /// The smallest span that holds both.
    #[must_use]
    pub fn to(self, other: SourceSpan) -> SourceSpan {
        SourceSpan::new(self.start.min(other.start), self.end.max(other.end))
    }

    /// Returns the span `by` bytes further on.
    #[must_use]
    pub fn shifted(self, by: usize) -> SourceSpan {
        SourceSpan::new(self.start + by, self.end + by)
    }
}

impl From<Range<usize>> for SourceSpan {
    fn from(range: Range<usize>) -> Self {
        SourceSpan::new(range.start, range.end)
    }
}

/// A value and where it stands in its document.
#[derive(Clone, Debug, PartialEq)]
pub struct Spanned<T> {
    /// The value.
    pub value: T,
    /// Says where it was written.
    pub span: SourceSpan,
}

impl<T> Spanned<T> {
    /// Joins a value and its place.
    pub fn new(value: T, span: SourceSpan) -> Self {
        Self { value, span }
    }
}

words! {
    /// Describes how much a diagnostic matters.
    pub enum Severity {
        /// The document cannot be used.
        Error = "error",
        /// The document works, and probably does not do what was meant.
        Warning = "warning",
    }
}

/// One thing that is wrong, with its place and the way out.
#[derive(Clone, Debug, PartialEq)]
pub struct Diagnostic {
    /// Error or warning.
    pub severity: Severity,
    /// The stable code, explained by [`crate::codes::explain`].
    pub code: &'static str,
    /// Says what is wrong, in one sentence.
    pub message: String,
    /// Says where.
    pub span: SourceSpan,
    /// A few words under the span.
    pub label: String,
    /// Says what to do.
    pub help: Option<String>,
}

impl Diagnostic {
    /// An error at `span`.
    #[doc(hidden)]
    pub fn error(code: &'static str, span: SourceSpan, message: impl Into<String>) -> Self {
        Self { severity: Severity::Error, code, message: message.into(), span, label: String::new(), help: None }
    }

    /// A warning at `span`.
    #[doc(hidden)]
    pub fn warning(code: &'static str, span: SourceSpan, message: impl Into<String>) -> Self {
        Self { severity: Severity::Warning, ..Diagnostic::error(code, span, message) }
    }

    /// Adds the words under the span.
    #[must_use]
    #[doc(hidden)]
    pub fn label(mut self, label: impl Into<String>) -> Self {
        self.label = label.into();
        self
    }

    /// Adds the help line.
    #[must_use]
    #[doc(hidden)]
    pub fn help(mut self, help: impl Into<String>) -> Self {
        self.help = Some(help.into());
        self
    }

    /// Adds a help line that suggests the name nearest to `wrong`, if one is near, or else all of a few.
    #[must_use]
    #[doc(hidden)]
    pub fn suggest<'a>(self, wrong: &str, known: impl IntoIterator<Item = &'a str>) -> Self {
        let known: Vec<&str> = known.into_iter().collect();
        match nearest(wrong, known.iter().copied()) {
            Some(name) => self.help(format!("did you mean `{name}`?")),
            None if self.help.is_none() && (1..=FEW).contains(&known.len()) => {
                self.help(format!("known here: {}", known.join(", ")))
            }
            None => self,
        }
    }
}

/// At most 6 names are listed where none is near.
const FEW: usize = 6;

/// Everything that is wrong with one document, in the order of the text.
#[derive(Clone, Debug)]
pub struct Diagnostics {
    name: Arc<str>,
    source: Arc<str>,
    list: Vec<Diagnostic>,
}

impl Diagnostics {
    /// Gathers the findings about the document `name` with the text `source`.
    #[doc(hidden)]
    pub fn new(name: &str, source: &str, mut list: Vec<Diagnostic>) -> Self {
        list.sort_by(|a, b| (a.span, a.code, &a.message).cmp(&(b.span, b.code, &b.message)));
        list.dedup();
        Self { name: name.into(), source: source.into(), list }
    }

    /// The findings, sorted by place.
    pub fn list(&self) -> &[Diagnostic] {
        &self.list
    }

    /// The name of the document, as it was given.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Returns how many of them are errors.
    pub fn errors(&self) -> usize {
        self.list.iter().filter(|d| d.severity == Severity::Error).count()
    }

    /// Returns how many of them are warnings.
    pub fn warnings(&self) -> usize {
        self.list.len() - self.errors()
    }

    /// Line and column of a finding, both from 1; the column counts characters.
    pub fn position(&self, diagnostic: &Diagnostic) -> (usize, usize) {
        position(&self.source, diagnostic.span.start)
    }

    /// The text of the document.
    pub fn source(&self) -> &str {
        &self.source
    }
}

/// Each finding with its place, in one line, and the help below it. `vestigum_verify::render` shows them over the text.
impl fmt::Display for Diagnostics {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (index, finding) in self.list.iter().enumerate() {
            let (line, column) = self.position(finding);
            let Diagnostic { code, message, .. } = finding;
            let end = if index == 0 { "" } else { "\n" };
            write!(f, "{end}{}:{line}:{column}: {}[{code}]: {message}", self.name, finding.severity)?;
            if let Some(help) = &finding.help {
                write!(f, "\n  help: {help}")?;
            }
        }
        Ok(())
    }
}

impl std::error::Error for Diagnostics {}

/// Remembers where the lines of a text begin, to find the lines of many places.
#[derive(Clone, Debug)]
pub struct LineStarts(Vec<usize>);

impl LineStarts {
    /// Finds the lines of a text.
    pub fn of(source: &str) -> LineStarts {
        LineStarts([0].into_iter().chain(source.match_indices('\n').map(|(at, _)| at + 1)).collect())
    }

    /// The line (from 1) of a byte offset.
    pub fn line(&self, offset: usize) -> usize {
        self.0.partition_point(|start| *start <= offset)
    }
}

/// Line and column (from 1, in characters) of a byte offset.
pub fn position(source: &str, offset: usize) -> (usize, usize) {
    let mut offset = offset.min(source.len());
    while !source.is_char_boundary(offset) {
        offset -= 1;
    }
    let before = &source[..offset];
    let line = before.matches('\n').count() + 1;
    let column = before.rsplit('\n').next().map_or(0, |last| last.chars().count()) + 1;
    (line, column)
}
