//! What a statement writes: a field, the keys of an entry, and the way to a part of its value.

use vestigum_core::Diagnostic;
use vestigum_spec::diagnostic::{SourceSpan, Spanned};
use vestigum_spec::syntax::Token;

use super::written::{Line, Word, error};

/// A field, the keys of an entry, and the way to a part of its value.
#[derive(Debug)]
pub(super) struct WriteTarget {
    pub field: Word,
    pub steps: Vec<TargetStep>,
}

/// Describes what stands behind the name of a field.
#[derive(Debug)]
pub(super) enum TargetStep {
    /// `[mill_lane, ford]`, `[1]`, `['ring']`
    Brackets(Vec<Bracketed>),
    /// `.health`
    Member(Word),
}

/// Describes what stands in brackets.
#[derive(Debug)]
pub(super) enum Bracketed {
    Name(Word),
    Text(Word),
    Position(Spanned<i64>),
}

impl TargetStep {
    pub(super) fn span(&self) -> SourceSpan {
        match self {
            TargetStep::Member(name) => name.span,
            TargetStep::Brackets(keys) => match &keys[..] {
                [first, .., last] => first.span().to(last.span()),
                [only] => only.span(),
                [] => SourceSpan::default(),
            },
        }
    }
}

impl Bracketed {
    pub(super) fn span(&self) -> SourceSpan {
        match self {
            Bracketed::Name(word) | Bracketed::Text(word) => word.span,
            Bracketed::Position(position) => position.span,
        }
    }

    /// The name of a key, if it can be one.
    pub(super) fn key(&self) -> Option<&Word> {
        match self {
            Bracketed::Name(word) | Bracketed::Text(word) => Some(word),
            Bracketed::Position(_) => None,
        }
    }
}

/// A field, its keys and the way to a part at the beginning of a line, and how many tokens they take.
pub(super) fn target(line: Line<'_>, tokens: &[(Token<'_>, SourceSpan)]) -> Result<(WriteTarget, usize), Diagnostic> {
    let placed = |text: &str, span: &SourceSpan| Spanned::new(text.to_owned(), span.shifted(line.start));
    let Some((Token::Name(field), span)) = tokens.first() else { return Err(error(line.span(), "which field?")) };
    let mut target = WriteTarget { field: placed(field, span), steps: Vec::new() };
    let mut at = 1;
    loop {
        match tokens.get(at) {
            Some((Token::Symbol("."), dot)) => {
                let Some((Token::Name(member), span)) = tokens.get(at + 1) else {
                    let missing = "the name of a member is missing behind this dot";
                    return Err(error(dot.shifted(line.start), missing));
                };
                target.steps.push(TargetStep::Member(placed(member, span)));
                at += 2;
            }
            Some((Token::Symbol("["), open)) => {
                let (bracketed, used) = bracketed(line, *open, &tokens[at + 1..])?;
                target.steps.push(TargetStep::Brackets(bracketed));
                at += 1 + used;
            }
            _ => return Ok((target, at)),
        }
    }
}

/// Returns what stands behind an opening bracket, and how many tokens it takes.
fn bracketed(
    line: Line<'_>,
    open: SourceSpan,
    tokens: &[(Token<'_>, SourceSpan)],
) -> Result<(Vec<Bracketed>, usize), Diagnostic> {
    let wrong = || error(open.shifted(line.start), "the names of keys or a position are wanted in these brackets");
    let mut found = Vec::new();
    let mut at = 0;
    loop {
        let (token, span) = tokens.get(at).ok_or_else(wrong)?;
        let span = span.shifted(line.start);
        found.push(match token {
            Token::Name(name) => Bracketed::Name(Spanned::new((*name).to_owned(), span)),
            Token::Text(text) => Bracketed::Text(Spanned::new(text.clone(), span)),
            Token::Int(position) => Bracketed::Position(Spanned::new(*position, span)),
            Token::Beyond | Token::Float(_) | Token::Symbol(_) => return Err(wrong()),
        });
        match tokens.get(at + 1) {
            Some((Token::Symbol("]"), _)) => return Ok((found, at + 2)),
            Some((Token::Symbol(","), _)) => at += 2,
            _ => return Err(wrong()),
        }
    }
}
