//! From the text of a script to statements, before a spec gives their names a meaning.

use vestigum_core::diagnostic::{SourceSpan, Spanned};
use vestigum_core::syntax::token::{Token, tokens};
use vestigum_core::vocabulary::keyword::{Keyword, ProfileVerb, statement_words};
use vestigum_core::vocabulary::time::TimeUnit;
use vestigum_core::{Diagnostic, Moment, Reset, codes};

use super::levels::{self, LevelChange, WrittenChange};
use super::target::{TargetStep, WriteTarget, target};

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

/// What becomes of a player; of a copy and of another name, the second one.
#[derive(Clone, Debug)]
pub(super) struct ProfileChange {
    pub verb: ProfileVerb,
    pub name: String,
    pub to: String,
}

/// How a statement writes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum How {
    Set,
    Add,
    Subtract,
}

/// A repeat may run its statements this often, and all nested repeats together.
const MAX_REPEAT: u64 = 1_000_000;
const MAX_NESTING: usize = 16;

/// The most milliseconds that a field can count.
const MAX_TICK: u64 = i64::MAX as u64;

/// Reads all playthroughs of a file.
pub(super) fn read(source: &str) -> (Vec<WrittenPlaythrough>, Vec<Diagnostic>) {
    let mut reader = Reader { errors: Vec::new(), done: Vec::new(), open: Vec::new(), too_deep: 0 };
    // Some editors begin a file with a mark of its byte order.
    let mut offset = source.len() - source.trim_start_matches('\u{feff}').len();
    let source_text = &source[offset..];
    for line in source_text.split_inclusive('\n') {
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

pub(super) fn error(span: SourceSpan, message: impl Into<String>) -> Diagnostic {
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

/// A `repeat` that waits for its `end`.
struct Block {
    at: SourceSpan,
    times: u32,
    text: Word,
    outer: Vec<Statement>,
}

struct Reader {
    errors: Vec<Diagnostic>,
    done: Vec<WrittenPlaythrough>,
    open: Vec<Block>,
    too_deep: usize,
}

impl Reader {
    fn line(&mut self, line: Line<'_>) {
        let (word, rest) = line.split();
        match Keyword::from_word(word.text) {
            Some(Keyword::Playthrough) => self.playthrough(rest),
            Some(Keyword::Repeat) => self.repeat(line, rest),
            Some(Keyword::End) => self.end(line, rest),
            keyword => match statement(line, keyword) {
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
        self.done.push(WrittenPlaythrough { name, statements: Vec::new() });
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
        let digits = !rest.text.is_empty() && rest.text.bytes().all(|byte| byte.is_ascii_digit());
        // What is beyond any number is too often, too.
        let times = if digits { Some(rest.text.parse::<u32>().unwrap_or(u32::MAX)) } else { None };
        let times = times.filter(|times| *times > 0);
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
        statements.push(Statement { text: block.text, kind: StatementKind::Repeat(block.times, inner) });
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

/// A statement that begins with a keyword, or with none.
fn statement(line: Line<'_>, keyword: Option<Keyword>) -> Result<Statement, Diagnostic> {
    let (word, rest) = line.split();
    let kind = match keyword {
        None => moment_or_write(line, word, rest)?,
        Some(Keyword::EnterAny) => enter(word, rest, false)?,
        Some(Keyword::Expect) => StatementKind::Expect(some(
            rest,
            line,
            "what should hold?",
            "write a condition, as in `expect score == 0`",
        )?),
        Some(Keyword::Refuse) => refuse(line, rest)?,
        Some(Keyword::Watch) => {
            some(rest, line, "what should be watched?", "write fields, as in `watch score, letters`")?;
            StatementKind::Watch(list(rest))
        }
        Some(Keyword::Import) => StatementKind::Import(quoted(rest, line)?),
        Some(Keyword::Profile) => {
            StatementKind::Profile(name(rest, "whose?", "write the name of a player, as in `profile ada`")?)
        }
        Some(Keyword::Device) => {
            StatementKind::Device(name(rest, "which one?", "write the name of a device, as in `device laptop`")?)
        }
        Some(Keyword::Sync) => bare(StatementKind::Sync, rest)?,
        Some(Keyword::Profiles) => profiles(line, rest)?,
        Some(Keyword::Insert) => insert(rest)?,
        Some(Keyword::Raise) => beat(rest, true)?,
        Some(Keyword::Lower) => beat(rest, false)?,
        Some(Keyword::Remove) => remove(rest)?,
        Some(Keyword::Tick) => tick(line, rest)?,
        Some(Keyword::Code) => code(rest)?,
        Some(Keyword::Redeem) => redeem(rest)?,
        Some(Keyword::MakeLevel) => bare(StatementKind::Level(LevelChange::Make), rest)?,
        Some(Keyword::RemoveLevel) => {
            let help = "write `remove_level made_1`";
            StatementKind::Level(LevelChange::Remove(name(rest, "which level is removed?", help)?))
        }
        Some(Keyword::ExportLevel) => StatementKind::Level(levels::export(rest)?),
        Some(Keyword::ImportLevel) => StatementKind::Level(levels::import(line, rest)?),
        Some(Keyword::Reset) => reset(word, rest)?,
        Some(Keyword::Board) => bare(StatementKind::Board, rest)?,
        Some(Keyword::Save) => bare(StatementKind::Save, rest)?,
        Some(Keyword::Crash) => bare(StatementKind::Crash, rest)?,
        Some(Keyword::Damage) => match rest.text {
            "newest" => StatementKind::Damage(false),
            "all" => StatementKind::Damage(true),
            _ => {
                let at = if rest.text.is_empty() { line.span() } else { rest.span() };
                return Err(error(at, "which saves?").help("write `damage newest` or `damage all`"));
            }
        },
        // They hold statements together, and are none themselves.
        Some(Keyword::Playthrough | Keyword::Repeat | Keyword::End) => return Err(unknown(line, word)),
    };
    Ok(Statement { text: line.word(), kind })
}

fn refuse(line: Line<'_>, rest: Line<'_>) -> Result<StatementKind, Diagnostic> {
    some(rest, line, "which statement should be refused?", "write it behind, as in `refuse enter cloud_pass`")?;
    let keyword = Keyword::from_word(rest.split().0.text);
    if keyword == Some(Keyword::Refuse) {
        return Err(error(rest.span(), "`refuse` stands once").help("name the statement that should be refused"));
    }
    let inner = statement(rest, keyword)?;
    match inner.kind {
        StatementKind::Launch
        | StatementKind::Quit
        | StatementKind::Moment(_)
        | StatementKind::Enter { .. }
        | StatementKind::CompleteBy(_)
        | StatementKind::Tick(_)
        | StatementKind::Redeem { .. }
        | StatementKind::Profiles(_)
        | StatementKind::Sync
        | StatementKind::Level(_)
        | StatementKind::Checkpoint(_) => {}
        StatementKind::Write { .. }
        | StatementKind::Beat { .. }
        | StatementKind::Insert { .. }
        | StatementKind::Remove { .. }
        | StatementKind::Reset(..) => {}
        StatementKind::Board
        | StatementKind::Code { .. }
        | StatementKind::Expect(_)
        | StatementKind::Refuse(_)
        | StatementKind::Save
        | StatementKind::Crash
        | StatementKind::Damage(_)
        | StatementKind::Watch(_)
        | StatementKind::Import(_)
        | StatementKind::Profile(_)
        | StatementKind::Device(_)
        | StatementKind::Repeat(..) => return Err(error(rest.span(), "only moments, writes and syncs can be refused")),
    }
    Ok(StatementKind::Refuse(Box::new(inner)))
}

/// A built-in moment, a write, or one of the game's own moments.
fn moment_or_write(line: Line<'_>, word: Line<'_>, rest: Line<'_>) -> Result<StatementKind, Diagnostic> {
    match Moment::from_word(word.text) {
        None | Some(Moment::Own(_) | Moment::OwnRun(_)) => write_or_own(line, word, rest),
        Some(Moment::Launch) => bare(StatementKind::Launch, rest),
        Some(Moment::Quit) => bare(StatementKind::Quit, rest),
        Some(Moment::Enter) => enter(word, rest, true),
        // `checkpoint` is a word of expressions too, but nothing writes it.
        Some(Moment::Checkpoint) => {
            Ok(StatementKind::Checkpoint(name(rest, "which checkpoint?", "write `checkpoint ford`")?))
        }
        Some(Moment::Complete) if !rest.text.is_empty() => Ok(StatementKind::CompleteBy(name(
            rest,
            "by which exit?",
            "write `complete`, or `complete cellar` for an exit",
        )?)),
        Some(
            Moment::NewRun
            | Moment::Death
            | Moment::Restart
            | Moment::Complete
            | Moment::Travel
            | Moment::Abandon
            | Moment::GameOver,
        ) => bare(StatementKind::Moment(word.word()), rest),
    }
}

fn quoted(rest: Line<'_>, line: Line<'_>) -> Result<Word, Diagnostic> {
    let inner = rest.text.strip_prefix('"').and_then(|text| text.strip_suffix('"'));
    match inner {
        Some(path) if !path.trim().is_empty() => Ok(Spanned::new(path.to_owned(), rest.span())),
        _ => {
            let at = if rest.text.is_empty() { line.span() } else { rest.span() };
            Err(error(at, "which saved image?").help("name its file in double quotes, as in `import \"v1/ada.json\"`"))
        }
    }
}

fn bare(kind: StatementKind, rest: Line<'_>) -> Result<StatementKind, Diagnostic> {
    if rest.text.is_empty() { Ok(kind) } else { Err(error(rest.span(), "nothing stands behind this statement")) }
}

fn some(rest: Line<'_>, line: Line<'_>, question: &str, help: &str) -> Result<Word, Diagnostic> {
    if rest.text.is_empty() { Err(error(line.span(), question).help(help)) } else { Ok(rest.word()) }
}

pub(super) fn name(rest: Line<'_>, question: &str, help: &str) -> Result<Word, Diagnostic> {
    let (word, behind) = rest.split();
    if word.text.is_empty() {
        return Err(error(rest.span(), question).help(help));
    }
    if !behind.text.is_empty() {
        return Err(error(behind.span(), "nothing stands behind this name").help(help));
    }
    Ok(word.word())
}

fn enter(word: Line<'_>, rest: Line<'_>, locked: bool) -> Result<StatementKind, Diagnostic> {
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
    Ok(StatementKind::Enter { level: level.word(), checkpoint, locked })
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
fn write_or_own(line: Line<'_>, word: Line<'_>, rest: Line<'_>) -> Result<StatementKind, Diagnostic> {
    if word.text.is_empty() {
        return Err(unknown(line, word));
    }
    if rest.text.is_empty() {
        return Ok(StatementKind::Moment(word.word()));
    }
    let tokens = line_tokens(line)?;
    let (target, used) = target(line, &tokens)?;
    let next = tokens.get(used);
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
    Ok(StatementKind::Write { target, how, value })
}

pub(super) fn line_tokens(line: Line<'_>) -> Result<Vec<(Token<'_>, SourceSpan)>, Diagnostic> {
    tokens(line.text).map_err(|unreadable| {
        let error = error(unreadable.span.shifted(line.start), unreadable.message);
        Diagnostic { help: unreadable.help, ..error }
    })
}

/// What stands behind a number of tokens.
fn behind(line: Line<'_>, tokens: &[(Token<'_>, SourceSpan)], used: usize) -> Option<Word> {
    let (_, span) = tokens.get(used)?;
    let start = line.start + span.start;
    Some(Spanned::new(line.text[span.start..].to_owned(), SourceSpan::new(start, line.start + line.text.len())))
}

fn insert(rest: Line<'_>) -> Result<StatementKind, Diagnostic> {
    const HELP: &str = "write `insert bag 'letter'`, or `insert satchel 'ring' { weight = 1 }` for a map";
    let tokens = line_tokens(rest)?;
    let (target, used) = target(rest, &tokens).map_err(|error| error.help(HELP))?;
    let missing = || error(rest.span(), "what should be inserted?").help(HELP);
    let (at, used) = match (tokens.get(used), tokens.get(used + 1)) {
        (Some((Token::Text(key), _)), Some(_)) => (Some(key.clone()), used + 1),
        _ => (None, used),
    };
    let item = behind(rest, &tokens, used).ok_or_else(missing)?;
    Ok(StatementKind::Insert { target, at, item })
}

/// `raise FIELD to v` and `lower FIELD to v`
fn beat(rest: Line<'_>, higher: bool) -> Result<StatementKind, Diagnostic> {
    let (word, than) = if higher { ("raise", "higher") } else { ("lower", "lower") };
    let help = || format!("write `{word} best_time to 61500`: the value is written if it is {than}");
    let tokens = line_tokens(rest)?;
    let (target, used) = target(rest, &tokens).map_err(|error| error.help(help()))?;
    let value = match tokens.get(used) {
        Some((Token::Name("to"), _)) => behind(rest, &tokens, used + 1),
        _ => None,
    };
    let value = value.ok_or_else(|| error(rest.span(), "to which value?").help(help()))?;
    Ok(StatementKind::Beat { target, higher, value })
}

/// `profiles copy ada to bo`, `profiles delete ada`
fn profiles(line: Line<'_>, rest: Line<'_>) -> Result<StatementKind, Diagnostic> {
    let verbs: Vec<&str> = ProfileVerb::ALL.iter().map(|verb| verb.word()).collect();
    let help =
        || format!("write `profiles delete ada` or `profiles copy ada to bo`; what can be done: {}", verbs.join(", "));
    let (word, behind) = rest.split();
    let at = if rest.text.is_empty() { line.span() } else { rest.span() };
    let wrong = |message: &str| error(at, message).help(help());
    let verb = ProfileVerb::from_word(word.text).ok_or_else(|| wrong("what becomes of which player?"))?;
    let (player, behind) = behind.split();
    let to = match (verb.takes_two(), behind.split()) {
        (true, (to, other)) if to.text == "to" => name(other, "to which name?", &help())?.value,
        (true, _) => return Err(wrong("to which name?")),
        (false, _) if behind.text.is_empty() => String::new(),
        (false, _) => return Err(wrong("nothing stands behind the name of the player")),
    };
    if player.text.is_empty() {
        return Err(wrong("which player?"));
    }
    Ok(StatementKind::Profiles(ProfileChange { verb, name: player.text.to_owned(), to }))
}

/// `code crossing as mine`
fn code(rest: Line<'_>) -> Result<StatementKind, Diagnostic> {
    const HELP: &str = "write `code crossing as mine`, and redeem it with `redeem crossing mine`";
    let (code, behind) = rest.split();
    let (word, variable) = behind.split();
    if code.text.is_empty() || word.text != "as" {
        return Err(error(rest.span(), "which code, and what is it called here?").help(HELP));
    }
    Ok(StatementKind::Code { code: code.word(), variable: name(variable, "what is it called here?", HELP)? })
}

/// `redeem crossing mine`, `redeem crossing 'K7Q-2M'`, `redeem crossing 260`
fn redeem(rest: Line<'_>) -> Result<StatementKind, Diagnostic> {
    const HELP: &str = "write `redeem crossing mine` for one that `code` made, `'K7Q2'` for a text, `260` for a number";
    let (code, given) = rest.split();
    let wrong = |at: SourceSpan, message: &str| error(at, message).help(HELP);
    if code.text.is_empty() || given.text.is_empty() {
        return Err(wrong(rest.span(), "which code is redeemed?"));
    }
    let tokens = line_tokens(given)?;
    let given = match &tokens[..] {
        [(Token::Name(_), _)] => Given::Variable(given.word()),
        [(Token::Text(text), _)] => Given::Text(text.clone()),
        [(Token::Int(number), _)] => Given::Text(number.to_string()),
        _ => return Err(wrong(given.span(), "this is no code")),
    };
    Ok(StatementKind::Redeem { code: code.word(), given })
}

/// `tick 90 s`
fn tick(line: Line<'_>, rest: Line<'_>) -> Result<StatementKind, Diagnostic> {
    let units: Vec<&str> = TimeUnit::ALL.iter().map(|unit| unit.word()).collect();
    let help = || format!("write a whole number and its unit, as in `tick 90 s`; the units are: {}", units.join(", "));
    let (number, unit) = rest.split();
    let at = if rest.text.is_empty() { line.span() } else { rest.span() };
    let wrong = |message: &str| error(at, message).help(help());
    let number: u64 = number.text.replace('_', "").parse().map_err(|_| wrong("how much time passes?"))?;
    let unit = TimeUnit::from_word(unit.text).ok_or_else(|| wrong("in which unit?"))?;
    let ms = number.checked_mul(unit.ms()).filter(|ms| *ms <= MAX_TICK);
    Ok(StatementKind::Tick(ms.ok_or_else(|| wrong("this is more time than a field can count"))?))
}

fn remove(rest: Line<'_>) -> Result<StatementKind, Diagnostic> {
    let tokens = line_tokens(rest)?;
    let help = "write `remove bag 'letter'`; out of a map, the key";
    let (target, used) = target(rest, &tokens).map_err(|error| error.help(help))?;
    let missing = || error(rest.span(), "what should be removed?").help(help);
    Ok(StatementKind::Remove { target, item: behind(rest, &tokens, used).ok_or_else(missing)? })
}

fn reset(word: Line<'_>, rest: Line<'_>) -> Result<StatementKind, Diagnostic> {
    const HELP: &str = "write `reset level NAME`, `reset field NAME`, `reset run`, `profile`, `device` or `everything`";
    let (scope, behind) = rest.split();
    let plain = |reset: Reset| {
        if behind.text.is_empty() {
            Ok(reset)
        } else {
            Err(error(behind.span(), "nothing stands behind this").help(HELP))
        }
    };
    let found = match scope.text {
        "run" => plain(Reset::Run)?,
        "profile" => plain(Reset::Profile)?,
        "device" => plain(Reset::Device)?,
        "everything" => plain(Reset::Everything)?,
        "level" => Reset::Level(name(behind, "which level?", HELP)?.value),
        "field" => {
            let tokens = line_tokens(behind)?;
            let (target, used) = target(behind, &tokens).map_err(|error| error.help(HELP))?;
            let plain = || error(behind.span(), "nothing stands behind the field and its keys").help(HELP);
            let keys = match &target.steps[..] {
                [] => Some(Vec::new()),
                [TargetStep::Brackets(keys)] => keys.iter().map(|key| Some(key.key()?.value.clone())).collect(),
                _ => None,
            };
            let keys = keys.filter(|_| used == tokens.len()).ok_or_else(plain)?;
            Reset::Field { name: target.field.value, keys }
        }
        "" => return Err(error(word.span(), "what should be reset?").help(HELP)),
        _ => return Err(error(scope.span(), format!("`{}` cannot be reset", scope.text)).help(HELP)),
    };
    Ok(StatementKind::Reset(found, rest.span()))
}

fn unknown(line: Line<'_>, word: Line<'_>) -> Diagnostic {
    let words: Vec<&str> = Keyword::ALL.iter().map(|keyword| keyword.word()).collect();
    error(line.span(), "this is no statement")
        .help(format!("a statement is a moment, a write as in `score += 60`, or one of: {}", words.join(", ")))
        .suggest(word.text, statement_words())
}
