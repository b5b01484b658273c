//! The names that a playthrough uses, as far as they can be made out.

use vestigum_core::Moment;
use vestigum_spec::diagnostic::SourceSpan;
use vestigum_spec::vocabulary::keyword::Keyword;

use crate::mentions::{Kind, Mention, Where, of_expression};

/// A file of playthroughs.
#[derive(Clone, Debug, Default)]
pub(crate) struct PlayView {
    pub mentions: Vec<Mention>,
    /// Each playthrough: its name, where that stands, and where the playthrough ends.
    pub playthroughs: Vec<(String, SourceSpan, usize)>,
}

impl PlayView {
    pub(crate) fn new(text: &str) -> PlayView {
        let mut view = PlayView::default();
        let mut at = 0;
        for line in text.split_inclusive('\n') {
            let code = without_comment(line);
            view.statement(code, at);
            at += line.len();
            if let Some((_, _, end)) = view.playthroughs.last_mut().filter(|_| !code.trim().is_empty()) {
                *end = at - (line.len() - code.trim_end().len());
            }
        }
        view
    }

    fn statement(&mut self, code: &str, start: usize) {
        let (word, at) = first_word(code);
        let begin = at + word.len();
        let (rest, start_of_rest) = (&code[begin..], start + begin);
        let mut name = |text: &str, at: usize, kinds: &'static [Kind]| {
            if !text.is_empty() {
                let span = SourceSpan::new(at, at + text.len());
                self.mentions.push(Mention {
                    name: text.to_owned(),
                    span,
                    kinds,
                    declares: false,
                    place: Where::Anywhere,
                });
            }
        };
        match (Moment::from_word(word), Keyword::from_word(word)) {
            (Some(Moment::Enter), _) | (_, Some(Keyword::EnterAny)) => {
                let (level, at) = first_word(rest);
                name(level, start_of_rest + at, &[Kind::Level]);
                let behind = at + level.len();
                let (word, at) = first_word(&rest[behind..]);
                if word == "at" {
                    let behind = behind + at + word.len();
                    let (checkpoint, at) = first_word(&rest[behind..]);
                    name(checkpoint, start_of_rest + behind + at, &[Kind::Checkpoint]);
                }
            }
            (Some(Moment::Checkpoint), _) => {
                let (checkpoint, at) = first_word(rest);
                name(checkpoint, start_of_rest + at, &[Kind::Checkpoint]);
            }
            (Some(Moment::Complete), _) => {
                let (exit, at) = first_word(rest);
                name(exit, start_of_rest + at, &[Kind::Exit]);
            }
            (Some(_), _) => {}
            (None, Some(Keyword::Refuse)) => self.statement(rest, start_of_rest),
            (None, Some(Keyword::Playthrough)) => {
                let quoted = rest.trim().trim_matches('"');
                let at = start_of_rest + rest.find(quoted).unwrap_or(0);
                let span = SourceSpan::new(at, at + quoted.len());
                self.playthroughs.push((quoted.to_owned(), span, span.end));
            }
            (None, Some(Keyword::Code | Keyword::Redeem)) => {
                let (code, at) = first_word(rest);
                name(code, start_of_rest + at, &[Kind::Code]);
            }
            // What stands behind these are names of players, devices, files and numbers.
            (
                None,
                Some(
                    Keyword::Profile
                    | Keyword::Profiles
                    | Keyword::Device
                    | Keyword::Import
                    | Keyword::Without
                    | Keyword::Tick
                    | Keyword::Damage
                    | Keyword::Save
                    | Keyword::Crash
                    | Keyword::Sync
                    | Keyword::MakeLevel
                    | Keyword::ImportLevel
                    | Keyword::Board
                    | Keyword::Repeat
                    | Keyword::End,
                ),
            ) => {}
            (None, Some(Keyword::RemoveLevel | Keyword::ExportLevel)) => {
                let (level, at) = first_word(rest);
                name(level, start_of_rest + at, &[Kind::Level]);
            }
            (
                None,
                Some(
                    Keyword::Expect
                    | Keyword::Watch
                    | Keyword::Insert
                    | Keyword::Remove
                    | Keyword::Raise
                    | Keyword::Lower
                    | Keyword::Reset,
                ),
            ) => of_expression(rest, start_of_rest, None, &mut self.mentions),
            (None, None) => {
                // A write, or one of the game's own moments.
                let alone = rest.trim().is_empty();
                let kinds: &'static [Kind] =
                    if alone { &[Kind::Moment, Kind::Field] } else { &[Kind::Field, Kind::Derived] };
                name(word, start + at, kinds);
                of_expression(rest, start_of_rest, Some(word), &mut self.mentions);
            }
        }
    }
}

/// The line up to a `#` that does not stand in quotes.
pub(crate) fn without_comment(line: &str) -> &str {
    let mut quote = None;
    for (at, c) in line.char_indices() {
        match (c, quote) {
            ('#', None) => return &line[..at],
            ('"' | '\'', None) => quote = Some(c),
            (c, Some(open)) if c == open => quote = None,
            _ => {}
        }
    }
    line
}

/// The first word of a text, and where it stands. A symbol is not a word.
pub(crate) fn first_word(text: &str) -> (&str, usize) {
    let at = text.len() - text.trim_start().len();
    let rest = &text[at..];
    let len = rest.find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(rest.len());
    (&rest[..len], at)
}
