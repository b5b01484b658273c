//! From the text of a script to statements, before a spec gives their names a meaning.

use crate::codes;
use crate::diagnostic::{Diagnostic, SourceSpan, Spanned};
use crate::expression::{Token, tokens};
use crate::moment::Moment;

/// A text and its place.
pub(super) type Word = Spanned<String>;

/// One playthrough as it was written.
#[derive(Debug)]
pub(super) struct Written {
    pub name: Word,
    pub statements: Vec<Statement>,
}

/// One statement as it was written.
#[derive(Debug)]
pub(super) struct Statement {
    /// The statement without its indentation and comment.
    pub text: Word,
    pub kind: Kind,
}

#[derive(Debug)]
pub(super) enum Kind {
    /// A moment without an argument; the game's own ones are told apart later.
    Moment(Word),
    Enter {
        level: Word,
        checkpoint: Option<Word>,
        locked: bool,
    },
    Checkpoint(Word),
    Write {
        field: Word,
        key: Option<Word>,
        how: How,
        value: Word,
    },
    Expect(Word),
    Refuse(Box<Statement>),
    Save,
    Crash,
    Watch(Vec<Word>),
    Profile(Word),
    Repeat(u32, Vec<Statement>),
}

/// How a statement writes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum How {
    Set,
    Add,
    Subtract,
}

const STATEMENTS: &[&str] = &[
    "launch",
    "new_run",
    "enter",
    "enter_any",
    "checkpoint",
    "death",
    "restart",
    "complete",
    "travel",
    "abandon",
    "game_over",
    "quit",
    "expect",
    "refuse",
    "save",
    "crash",
    "watch",
    "profile",
    "repeat",
    "end",
    "playthrough",
];

/// A repeat may run its statements this often, and all nested repeats together.
const MAX_REPEAT: u64 = 1_000_000;
const MAX_NESTING: usize = 16;

/// Reads all playthroughs of a file.
pub(super) fn read(source: &str) -> (Vec<Written>, Vec<Diagnostic>) {
    let mut reader = Reader { errors: Vec::new(), done: Vec::new(), open: Vec::new(), too_deep: 0 };
    let mut offset = 0;
    for line in source.split_inclusive('\n') {
        let code = without_comment(line);
        let text = code.trim();
        if !text.is_empty() {
            let start = offset + (code.len() - code.trim_start().len());
            reader.line(Line { text, start });
        }
        offset += line.len();
    }
    reader.close_all();
    if reader.done.is_empty() && reader.errors.is_empty() {
        let error = error(SourceSpan::default(), "there is no playthrough in this file");
        reader.errors.push(error.help("begin one with `playthrough \"what it proves\"`"));
    }
    (reader.done, reader.errors)
}

fn error(span: SourceSpan, message: impl Into<String>) -> Diagnostic {
    Diagnostic::error(codes::STATEMENT, span, message)
}

/// The line up to a `#` that does not stand in quotes.
fn without_comment(line: &str) -> &str {
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

#[derive(Clone, Copy)]
struct Line<'s> {
    text: &'s str,
    start: usize,
}

impl<'s> Line<'s> {
    fn span(self) -> SourceSpan {
        SourceSpan::new(self.start, self.start + self.text.len())
    }

    fn word(self) -> Word {
        Spanned::new(self.text.to_owned(), self.span())
    }

    /// The first word and what stands behind it.
    fn split(self) -> (Line<'s>, Line<'s>) {
        let end = self.text.find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(self.text.len());
        let rest = self.text[end..].trim_start();
        let start = self.start + self.text.len() - rest.len();
        (Line { text: &self.text[..end], start: self.start }, Line { text: rest, start })
    }
}

/// A `repeat` that waits for its `end`.
struct Block {
    at: SourceSpan,
    times: u32,
    text: Word,
    outer: Vec<Statement>,
}

struct Reader {
    errors: Vec<Diagnostic>,
    done: Vec<Written>,
    open: Vec<Block>,
    too_deep: usize,
}

impl Reader {
    fn line(&mut self, line: Line<'_>) {
        let (word, rest) = line.split();
        match word.text {
            "playthrough" => self.playthrough(rest),
            "repeat" => self.repeat(line, rest),
            "end" => self.end(line, rest),
            _ => match statement(line) {
                Ok(statement) => self.add(statement, line),
                Err(error) => self.errors.push(error),
            },
        }
    }

    fn playthrough(&mut self, rest: Line<'_>) {
        self.close_all();
        let inner = rest.text.strip_prefix('"').and_then(|text| text.strip_suffix('"'));
        let name = match inner {
            Some(name) if !name.trim().is_empty() => Spanned::new(name.to_owned(), rest.span()),
            _ => {
                let error = error(rest.span(), "a playthrough needs a name in double quotes");
                self.errors.push(
                    error.help("name it after what it proves, as in `playthrough \"a replay lowers no record\"`"),
                );
                Spanned::new(String::new(), rest.span())
            }
        };
        self.done.push(Written { name, statements: Vec::new() });
    }

    fn statements(&mut self) -> Option<&mut Vec<Statement>> {
        self.done.last_mut().map(|written| &mut written.statements)
    }

    fn add(&mut self, statement: Statement, line: Line<'_>) {
        match self.statements() {
            Some(statements) => statements.push(statement),
            None => {
                if self.errors.is_empty() {
                    let error = error(line.span(), "this stands before the first playthrough");
                    self.errors.push(error.help("begin with `playthrough \"what it proves\"`"));
                }
            }
        }
    }

    fn repeat(&mut self, line: Line<'_>, rest: Line<'_>) {
        let times = rest.text.parse::<u32>().ok().filter(|times| *times > 0);
        let all = self.open.iter().map(|block| u64::from(block.times)).product::<u64>();
        let times = match times {
            Some(times) if all.saturating_mul(u64::from(times)) <= MAX_REPEAT => times,
            Some(_) => {
                self.errors.push(error(rest.span(), format!("this would repeat more than {MAX_REPEAT} times")));
                1
            }
            None => {
                let error = error(if rest.text.is_empty() { line.span() } else { rest.span() }, "how often?");
                self.errors.push(error.help("write a number, as in `repeat 3`"));
                1
            }
        };
        if self.open.len() >= MAX_NESTING {
            // Its `end` must not end another one.
            self.too_deep += 1;
            self.errors.push(error(line.span(), format!("repeats stand in each other more than {MAX_NESTING} deep")));
            return;
        }
        let outer = self.statements().map(std::mem::take).unwrap_or_default();
        self.open.push(Block { at: line.span(), times, text: line.word(), outer });
    }

    fn end(&mut self, line: Line<'_>, rest: Line<'_>) {
        if !rest.text.is_empty() {
            self.errors.push(error(rest.span(), "nothing stands behind `end`"));
        }
        if self.too_deep > 0 {
            self.too_deep -= 1;
            return;
        }
        let Some(block) = self.open.pop() else {
            self.errors.push(error(line.span(), "this `end` ends nothing"));
            return;
        };
        self.close(block);
    }

    fn close(&mut self, block: Block) {
        let Some(statements) = self.statements() else { return };
        let inner = std::mem::replace(statements, block.outer);
        statements.push(Statement { text: block.text, kind: Kind::Repeat(block.times, inner) });
    }

    /// Ends what the playthrough left open.
    fn close_all(&mut self) {
        self.too_deep = 0;
        while let Some(block) = self.open.pop() {
            self.errors.push(error(block.at, "this `repeat` has no `end`"));
            self.close(block);
        }
    }
}

fn statement(line: Line<'_>) -> Result<Statement, Diagnostic> {
    let (word, rest) = line.split();
    let kind = match word.text {
        "enter" | "enter_any" => enter(word, rest)?,
        // `checkpoint` is a word of expressions too, but nothing writes it.
        "checkpoint" => Kind::Checkpoint(name(rest, "which checkpoint?", "write `checkpoint ford`")?),
        "expect" => {
            Kind::Expect(some(rest, line, "what should hold?", "write a condition, as in `expect score == 0`")?)
        }
        "refuse" => {
            some(rest, line, "which statement should be refused?", "write it behind, as in `refuse enter cloud_pass`")?;
            let inner = statement(rest)?;
            match inner.kind {
                Kind::Moment(_) | Kind::Enter { .. } | Kind::Checkpoint(_) | Kind::Write { .. } => {}
                _ => return Err(error(rest.span(), "only moments and writes can be refused")),
            }
            Kind::Refuse(Box::new(inner))
        }
        "watch" => {
            some(rest, line, "what should be watched?", "write fields, as in `watch score, letters`")?;
            Kind::Watch(list(rest))
        }
        "profile" => Kind::Profile(name(rest, "whose?", "write the name of a player, as in `profile ada`")?),
        "save" => bare(Kind::Save, rest)?,
        "crash" => bare(Kind::Crash, rest)?,
        built_in if Moment::from_word(built_in).is_some() => bare(Kind::Moment(word.word()), rest)?,
        _ => write_or_own(line, word, rest)?,
    };
    Ok(Statement { text: line.word(), kind })
}

fn bare(kind: Kind, rest: Line<'_>) -> Result<Kind, Diagnostic> {
    if rest.text.is_empty() { Ok(kind) } else { Err(error(rest.span(), "nothing stands behind this statement")) }
}

fn some(rest: Line<'_>, line: Line<'_>, question: &str, help: &str) -> Result<Word, Diagnostic> {
    if rest.text.is_empty() { Err(error(line.span(), question).help(help)) } else { Ok(rest.word()) }
}

fn name(rest: Line<'_>, question: &str, help: &str) -> Result<Word, Diagnostic> {
    let (word, behind) = rest.split();
    if word.text.is_empty() {
        return Err(error(rest.span(), question).help(help));
    }
    if !behind.text.is_empty() {
        return Err(error(behind.span(), "nothing stands behind this name").help(help));
    }
    Ok(word.word())
}

fn enter(word: Line<'_>, rest: Line<'_>) -> Result<Kind, Diagnostic> {
    const HELP: &str = "write `enter mill_lane` or `enter mill_lane at ford`";
    let (level, behind) = rest.split();
    if level.text.is_empty() {
        return Err(error(word.span(), "which level?").help(HELP));
    }
    let checkpoint = match behind.split() {
        (at, checkpoint) if at.text == "at" => Some(name(checkpoint, "at which checkpoint?", HELP)?),
        _ if behind.text.is_empty() => None,
        _ => return Err(error(behind.span(), "this is not understood behind the level").help(HELP)),
    };
    Ok(Kind::Enter { level: level.word(), checkpoint, locked: word.text == "enter" })
}

/// Splits at commas that do not stand in brackets.
fn list(rest: Line<'_>) -> Vec<Word> {
    let mut out = Vec::new();
    let mut depth = 0usize;
    let mut from = 0;
    let mut push = |from: usize, to: usize| {
        let text = rest.text[from..to].trim();
        let start = rest.start + from + rest.text[from..to].len() - rest.text[from..to].trim_start().len();
        out.push(Spanned::new(text.to_owned(), SourceSpan::new(start, start + text.len())));
    };
    for (at, c) in rest.text.char_indices() {
        match c {
            '[' | '(' => depth += 1,
            ']' | ')' => depth = depth.saturating_sub(1),
            ',' if depth == 0 => {
                push(from, at);
                from = at + 1;
            }
            _ => {}
        }
    }
    push(from, rest.text.len());
    out
}

/// `FIELD = v`, `FIELD[KEY] += v`, or the name of one of the game's own moments.
fn write_or_own(line: Line<'_>, word: Line<'_>, rest: Line<'_>) -> Result<Kind, Diagnostic> {
    if word.text.is_empty() {
        return Err(unknown(line, word));
    }
    if rest.text.is_empty() {
        return Ok(Kind::Moment(word.word()));
    }
    let tokens = tokens(line.text).map_err(|unreadable| {
        let error = error(unreadable.span.shifted(line.start), unreadable.message);
        Diagnostic { help: unreadable.help, ..error }
    })?;
    let mut tokens = tokens.iter().skip(1);
    let mut next = tokens.next();
    let mut key = None;
    if let Some((Token::Sign("["), open)) = next {
        key = match (tokens.next(), tokens.next()) {
            (Some((Token::Name(name), span)), Some((Token::Sign("]"), _))) => {
                Some(Spanned::new((*name).to_owned(), span.shifted(line.start)))
            }
            _ => return Err(error(open.shifted(line.start), "a level is wanted in these brackets")),
        };
        next = tokens.next();
    }
    let (how, sign) = match next {
        Some((Token::Sign("="), sign)) => (How::Set, sign),
        Some((Token::Sign("+="), sign)) => (How::Add, sign),
        Some((Token::Sign("-="), sign)) => (How::Subtract, sign),
        Some((Token::Sign("=="), sign)) => {
            let error = error(sign.shifted(line.start), "a statement does not compare");
            return Err(error.help(format!("write `expect {}` to compare, `=` to write", line.text)));
        }
        _ => return Err(unknown(line, word)),
    };
    let behind = line.text[sign.end..].trim();
    if behind.is_empty() {
        return Err(error(sign.shifted(line.start), "a value is missing behind this sign"));
    }
    let start = line.start + line.text.len() - behind.len();
    let value = Spanned::new(behind.to_owned(), SourceSpan::new(start, start + behind.len()));
    Ok(Kind::Write { field: word.word(), key, how, value })
}

fn unknown(line: Line<'_>, word: Line<'_>) -> Diagnostic {
    error(line.span(), "this is no statement")
        .help("a statement is a moment, a write as in `score += 60`, or one of: expect, refuse, save, crash, watch, profile, repeat")
        .suggest(word.text, STATEMENTS.iter().copied())
}
