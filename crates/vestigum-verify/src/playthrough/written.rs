//! A script as it was written: statements before a spec gives their names a meaning.

use vestigum_core::{Diagnostic, Reset};
use vestigum_spec::codes;
use vestigum_spec::diagnostic::{SourceSpan, Spanned};
use vestigum_spec::vocabulary::keyword::ProfileVerb;

use super::levels::WrittenChange;
use super::target::WriteTarget;

/// A text and its place.
pub(super) type Word = Spanned<String>;

/// One playthrough as it was written.
#[derive(Debug)]
pub(super) struct WrittenPlaythrough {
    pub name: Word,
    pub statements: Vec<Statement>,
}

/// One statement as it was written.
#[derive(Debug)]
pub(super) struct Statement {
    /// The statement without its indentation and comment.
    pub text: Word,
    pub kind: StatementKind,
}

#[derive(Debug)]
pub(super) enum StatementKind {
    Launch,
    Quit,
    /// Any other moment without an argument; the game's own ones are told apart later.
    Moment(Word),
    Enter {
        level: Word,
        checkpoint: Option<Word>,
        locked: bool,
    },
    Checkpoint(Word),
    /// `complete EXIT`
    CompleteBy(Word),
    /// `code NAME as VARIABLE`
    Code {
        code: Word,
        variable: Word,
    },
    /// `redeem NAME VARIABLE`, a text in quotes, or a number
    Redeem {
        code: Word,
        given: Given,
    },
    /// `tick 90 s`, in milliseconds
    Tick(u64),
    Write {
        target: WriteTarget,
        how: How,
        value: Word,
    },
    /// `raise FIELD to v`, or with `higher` false `lower FIELD to v`
    Beat {
        target: WriteTarget,
        higher: bool,
        value: Word,
    },
    /// `insert FIELD v` or `insert FIELD 'key' v`
    Insert {
        target: WriteTarget,
        at: Option<String>,
        item: Word,
    },
    /// `remove FIELD v`
    Remove {
        target: WriteTarget,
        item: Word,
    },
    Reset(Reset, SourceSpan),
    Board,
    Expect(Word),
    Refuse(Box<Statement>),
    Save,
    Crash,
    /// `damage newest` or, with true, `damage all`
    Damage(bool),
    Watch(Vec<Word>),
    /// `without "a promise"`
    Without(Word),
    /// `import "file"`
    Import(Word),
    Profile(Word),
    Device(Word),
    Sync,
    Profiles(ProfileChange),
    /// `make_level` and its like
    Level(WrittenChange),
    Repeat(u32, Vec<Statement>),
}

/// The code that is redeemed.
#[derive(Clone, Debug)]
pub(super) enum Given {
    /// The one that a statement before made.
    Variable(Word),
    /// A number, or a text in quotes.
    Text(String),
}

/// Describes what becomes of a player; of a copy and of another name, the second one.
#[derive(Clone, Debug)]
pub(super) struct ProfileChange {
    pub verb: ProfileVerb,
    pub name: String,
    pub to: String,
}

/// Describes how a statement writes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum How {
    Set,
    Add,
    Subtract,
}

#[derive(Clone, Copy)]
pub(super) struct Line<'s> {
    pub text: &'s str,
    pub start: usize,
}

impl<'s> Line<'s> {
    pub(super) fn span(self) -> SourceSpan {
        SourceSpan::new(self.start, self.start + self.text.len())
    }

    pub(super) fn word(self) -> Word {
        Spanned::new(self.text.to_owned(), self.span())
    }

    /// The first word and what stands behind it.
    pub(super) fn split(self) -> (Line<'s>, Line<'s>) {
        let end = self.text.find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(self.text.len());
        let rest = self.text[end..].trim_start();
        let start = self.start + self.text.len() - rest.len();
        (Line { text: &self.text[..end], start: self.start }, Line { text: rest, start })
    }
}

pub(super) fn error(span: SourceSpan, message: impl Into<String>) -> Diagnostic {
    Diagnostic::error(codes::STATEMENT, span, message)
}
