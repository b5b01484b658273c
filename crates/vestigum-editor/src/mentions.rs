//! Names in a text: where each stands, and of what it is the name.
//!
//! Documents are broken most of the time while somebody writes them, so nothing here needs one that can be read.

use vestigum_spec::diagnostic::SourceSpan;
use vestigum_spec::vocabulary::function::TableFunction;

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

    /// Says what a value in an expression can be the name of, the likeliest first. Tables stand in their functions only.
    pub(crate) const VALUES: &'static [Kind] = &[Kind::Field, Kind::Derived, Kind::Level, Kind::Struct];
    /// Says what can stand in brackets behind something that nothing else is known about.
    pub(crate) const KEYS: &'static [Kind] = &[Kind::Level, Kind::Key, Kind::Checkpoint];
}

/// Says which of several things of one name is meant.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) enum Where {
    /// The first of the mention's kinds that the spec has.
    #[default]
    Anywhere,
    /// In brackets behind that field, as the key with that number: the field's axes say of what.
    Key(String, usize),
    /// A text that is compared with that field, or set to it: a name only if the field holds texts.
    Text(String),
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
    pub place: Where,
}

/// Names what is open around a place in an expression.
enum Open<'t> {
    /// `field[`, with the number of the key.
    Keys { of: &'t str, key: usize },
    /// `{`: names before a `=` are members.
    Members,
    /// `function(`, with the number of the argument: the second one of a table's function is the table.
    Call { of_table: bool, argument: usize },
}

/// Gathers the names in an expression that begins at `start` of its document. `before` is the field that the text is compared with or set to where the
/// expression begins with that: `came_from` of the statement `came_from = 'mill_lane'`.
pub(crate) fn of_expression<'t>(text: &'t str, start: usize, before: Option<&'t str>, out: &mut Vec<Mention>) {
    let mut open: Vec<Open<'_>> = Vec::new();
    // The name before this place, and whether a `==`, `!=` or `=` stands between.
    let (mut last, mut compares) = (before, false);
    let mut at = 0;
    while let Some(c) = text[at..].chars().next() {
        let begin = at;
        at += c.len_utf8();
        match c {
            '[' => open.push(Open::Keys { of: last.take().unwrap_or_default(), key: 0 }),
            '{' => open.push(Open::Members),
            '(' => {
                let of_table = last.take().is_some_and(|name| TableFunction::from_word(name).is_some());
                open.push(Open::Call { of_table, argument: 0 });
            }
            ']' | '}' | ')' => {
                // What stands behind brackets is about the field before them: `came_from[ford] == 'mill_lane'`.
                last = match open.pop() {
                    Some(Open::Keys { of, .. }) => Some(of),
                    Some(Open::Members | Open::Call { .. }) | None => None,
                };
            }
            ',' => {
                last = None;
                match open.last_mut() {
                    Some(Open::Keys { key, .. }) => *key += 1,
                    Some(Open::Call { argument, .. }) => *argument += 1,
                    Some(Open::Members) | None => {}
                }
            }
            '\'' => {
                let len = text[at..].find('\'').unwrap_or(text.len() - at);
                let (name, place) = (&text[at..at + len], start + at);
                at = (at + len + 1).min(text.len());
                match open.last() {
                    Some(Open::Keys { of, key }) => {
                        push(out, name, place, Kind::KEYS, Where::Key((*of).to_owned(), *key));
                    }
                    Some(Open::Members | Open::Call { .. }) | None => {
                        let other = last.take().filter(|_| compares).or_else(|| compared_behind(&text[at..]));
                        if let Some(other) = other {
                            push(out, name, place, &[Kind::Level], Where::Text(other.to_owned()));
                        }
                    }
                }
            }
            c if c.is_alphabetic() || c == '_' => {
                let len = text[begin..].find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(text.len() - begin);
                at = begin + len;
                let (name, rest) = (&text[begin..at], text[at..].trim_start());
                (last, compares) = (Some(name), false);
                let is_set = rest.starts_with('=') && !rest.starts_with("==");
                if text[..begin].ends_with('.') || rest.starts_with('(') {
                    continue;
                }
                let (kinds, place): (&'static [Kind], Where) = match open.last() {
                    Some(Open::Keys { of, key }) => (Kind::KEYS, Where::Key((*of).to_owned(), *key)),
                    Some(Open::Members) if is_set => continue,
                    Some(Open::Call { of_table: true, argument: 1 }) => (&[Kind::Table], Where::Anywhere),
                    Some(Open::Members | Open::Call { .. }) | None => (Kind::VALUES, Where::Anywhere),
                };
                push(out, name, start + begin, kinds, place);
            }
            c if c.is_ascii_digit() => {
                let len = text[begin..].find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(text.len() - begin);
                at = begin + len;
                last = None;
            }
            '=' => compares = true,
            '!' | '.' => {}
            c if c.is_whitespace() => {}
            _ => last = None,
        }
    }
}

/// The name that a text before it is compared with: `level` of `'mill_lane' == level`.
fn compared_behind(rest: &str) -> Option<&str> {
    let rest = rest.trim_start();
    let rest = rest.strip_prefix("==").or_else(|| rest.strip_prefix("!="))?;
    names(rest).next().filter(|(_, at)| rest[..*at].trim().is_empty()).map(|(name, _)| name)
}

fn push(out: &mut Vec<Mention>, name: &str, at: usize, kinds: &'static [Kind], place: Where) {
    if !name.is_empty() {
        let span = SourceSpan::new(at, at + name.len());
        out.push(Mention { name: name.to_owned(), span, kinds, declares: false, place });
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
