//! Names in a text: where each stands, and of what it is the name.
//!
//! Documents are broken most of the time while somebody writes them, so nothing here needs one that can be read.

use vestigum_spec::diagnostic::SourceSpan;

/// Of what something is the name.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) enum Kind {
    Field,
    Derived,
    Level,
    Checkpoint,
    Exit,
    KeySet,
    Key,
    Moment,
    Table,
    Struct,
    Code,
}

impl Kind {
    /// The word for it.
    pub(crate) fn word(self) -> &'static str {
        match self {
            Kind::Field => "field",
            Kind::Derived => "derived value",
            Kind::Level => "level",
            Kind::Checkpoint => "checkpoint",
            Kind::Exit => "exit",
            Kind::KeySet => "key set",
            Kind::Key => "key",
            Kind::Moment => "moment",
            Kind::Table => "table",
            Kind::Struct => "struct",
            Kind::Code => "code",
        }
    }

    /// The article that goes with the word.
    pub(crate) fn article(self) -> &'static str {
        match self {
            Kind::Exit => "an",
            Kind::Field
            | Kind::Derived
            | Kind::Level
            | Kind::Checkpoint
            | Kind::KeySet
            | Kind::Key
            | Kind::Moment
            | Kind::Table
            | Kind::Struct
            | Kind::Code => "a",
        }
    }

    /// Says what a value in an expression can be the name of, the likeliest first.
    pub(crate) const VALUES: &'static [Kind] = &[Kind::Field, Kind::Derived, Kind::Table, Kind::Level, Kind::Struct];
    /// Says what can stand in brackets behind a field.
    pub(crate) const KEYS: &'static [Kind] = &[Kind::Level, Kind::Key, Kind::Checkpoint];
}

/// A name where it stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Mention {
    pub name: String,
    pub span: SourceSpan,
    /// Says what it can be the name of; the first that the spec has is meant.
    pub kinds: &'static [Kind],
    /// Whether it is here that the name is given.
    pub declares: bool,
}

/// The names in an expression that begins at `start` of its document.
pub(crate) fn of_expression(text: &str, start: usize, out: &mut Vec<Mention>) {
    let speaks_of_level = names(text).any(|(name, _)| name == "level");
    let mut depth = 0usize;
    let mut at = 0;
    while let Some(c) = text[at..].chars().next() {
        let begin = at;
        at += c.len_utf8();
        match c {
            '[' => depth += 1,
            ']' => depth = depth.saturating_sub(1),
            '\'' => {
                let len = text[at..].find('\'').unwrap_or(text.len() - at);
                let kinds = if depth > 0 { Kind::KEYS } else { &[Kind::Level] };
                // `level == 'mill_lane'` names a level; any other text is a text.
                if depth > 0 || speaks_of_level {
                    push(out, &text[at..at + len], start + at, kinds);
                }
                at = (at + len + 1).min(text.len());
            }
            c if c.is_alphabetic() || c == '_' => {
                let len = text[begin..].find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(text.len() - begin);
                at = begin + len;
                let member = text[..begin].ends_with('.');
                let called = text[at..].trim_start().starts_with('(');
                if !member && !called {
                    push(out, &text[begin..at], start + begin, if depth > 0 { Kind::KEYS } else { Kind::VALUES });
                }
            }
            c if c.is_ascii_digit() => {
                let len = text[begin..].find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(text.len() - begin);
                at = begin + len;
            }
            _ => {}
        }
    }
}

fn push(out: &mut Vec<Mention>, name: &str, at: usize, kinds: &'static [Kind]) {
    if !name.is_empty() {
        out.push(Mention { name: name.to_owned(), span: SourceSpan::new(at, at + name.len()), kinds, declares: false });
    }
}

/// The names of a text, each with its place.
pub(crate) fn names(text: &str) -> impl Iterator<Item = (&str, usize)> {
    let mut at = 0;
    std::iter::from_fn(move || {
        let begin = at + text[at..].find(|c: char| c.is_alphabetic() || c == '_')?;
        let len = text[begin..].find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(text.len() - begin);
        at = begin + len;
        Some((&text[begin..at], begin))
    })
}
