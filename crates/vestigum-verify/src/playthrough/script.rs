//! From the text of a script to statements, before a spec gives their names a meaning.

use vestigum_core::Diagnostic;
use vestigum_spec::diagnostic::{SourceSpan, Spanned};
use vestigum_spec::vocabulary::keyword::Keyword;

use super::levels::{self, LevelChange};
use super::statements::{
    bare, beat, code, enter, insert, list, moment_or_write, name, profiles, promise, quoted, redeem, remove, reset,
    some, tick, unknown,
};
use super::written::{Line, Statement, StatementKind, Word, WrittenPlaythrough, error};

/// A repeat may run its statements this often, and all nested repeats together.
const MAX_REPEAT: u64 = 1_000_000;

const MAX_NESTING: usize = 16;

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
                self.errors
                    .push(error.help(
                        "name it after what it proves, as in `playthrough \"a replay does not lower a record\"`",
                    ));
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
        Some(Keyword::Without) => StatementKind::Without(promise(rest, line)?),
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
        | StatementKind::Without(_)
        | StatementKind::Import(_)
        | StatementKind::Profile(_)
        | StatementKind::Device(_)
        | StatementKind::Repeat(..) => return Err(error(rest.span(), "only moments, writes and syncs can be refused")),
    }
    Ok(StatementKind::Refuse(Box::new(inner)))
}
