//! What stands behind the first word of a statement.

use vestigum_core::{Diagnostic, Moment, Reset};
use vestigum_spec::diagnostic::{SourceSpan, Spanned};
use vestigum_spec::syntax::{Token, tokens};
use vestigum_spec::vocabulary::keyword::{Keyword, ProfileVerb, statement_words};
use vestigum_spec::vocabulary::time::TimeUnit;

use super::target::{TargetStep, target};
use super::written::{Given, How, Line, ProfileChange, StatementKind, Word, error};

/// The most milliseconds that a field can count.
const MAX_TICK: u64 = i64::MAX as u64;

/// A built-in moment, a write, or one of the game's own moments.
pub(super) fn moment_or_write(line: Line<'_>, word: Line<'_>, rest: Line<'_>) -> Result<StatementKind, Diagnostic> {
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

pub(super) fn quoted(rest: Line<'_>, line: Line<'_>) -> Result<Word, Diagnostic> {
    let inner = rest.text.strip_prefix('"').and_then(|text| text.strip_suffix('"'));
    match inner {
        Some(path) if !path.trim().is_empty() => Ok(Spanned::new(path.to_owned(), rest.span())),
        _ => {
            let at = if rest.text.is_empty() { line.span() } else { rest.span() };
            Err(error(at, "which saved image?").help("name its file in double quotes, as in `import \"v1/ada.json\"`"))
        }
    }
}

/// `without "a replay never lowers a record"`
pub(super) fn promise(rest: Line<'_>, line: Line<'_>) -> Result<Word, Diagnostic> {
    let inner = rest.text.strip_prefix('"').and_then(|text| text.strip_suffix('"'));
    let at = if rest.text.is_empty() { line.span() } else { rest.span() };
    let missing = || error(at, "which promise is not judged?").help("write its name in double quotes");
    inner.map(|name| Spanned::new(name.to_owned(), at)).ok_or_else(missing)
}

pub(super) fn bare(kind: StatementKind, rest: Line<'_>) -> Result<StatementKind, Diagnostic> {
    if rest.text.is_empty() { Ok(kind) } else { Err(error(rest.span(), "nothing stands behind this statement")) }
}

pub(super) fn some(rest: Line<'_>, line: Line<'_>, question: &str, help: &str) -> Result<Word, Diagnostic> {
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

pub(super) fn enter(word: Line<'_>, rest: Line<'_>, locked: bool) -> Result<StatementKind, Diagnostic> {
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
pub(super) fn list(rest: Line<'_>) -> Vec<Word> {
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
pub(super) fn write_or_own(line: Line<'_>, word: Line<'_>, rest: Line<'_>) -> Result<StatementKind, Diagnostic> {
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
        Some((Token::Symbol("="), sign)) => (How::Set, sign),
        Some((Token::Symbol("+="), sign)) => (How::Add, sign),
        Some((Token::Symbol("-="), sign)) => (How::Subtract, sign),
        Some((Token::Symbol("=="), sign)) => {
            let error = error(sign.shifted(line.start), "a statement does not compare");
            return Err(error.help(format!("write `expect {}` to compare, `=` to write", line.text)));
        }
        _ => return Err(unknown(line, word)),
    };
    let behind = line.text[sign.end..].trim();
    if behind.is_empty() {
        return Err(error(sign.shifted(line.start), "a value is missing after this operator"));
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

/// Returns what stands behind a number of tokens.
pub(super) fn behind(line: Line<'_>, tokens: &[(Token<'_>, SourceSpan)], used: usize) -> Option<Word> {
    let (_, span) = tokens.get(used)?;
    let start = line.start + span.start;
    Some(Spanned::new(line.text[span.start..].to_owned(), SourceSpan::new(start, line.start + line.text.len())))
}

pub(super) fn insert(rest: Line<'_>) -> Result<StatementKind, Diagnostic> {
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
pub(super) fn beat(rest: Line<'_>, higher: bool) -> Result<StatementKind, Diagnostic> {
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
pub(super) fn profiles(line: Line<'_>, rest: Line<'_>) -> Result<StatementKind, Diagnostic> {
    let verbs: Vec<&str> = ProfileVerb::ALL.iter().map(|verb| verb.word()).collect();
    let help =
        || format!("write `profiles delete ada` or `profiles copy ada to bo`; what can be done: {}", verbs.join(", "));
    let (word, behind) = rest.split();
    let at = if rest.text.is_empty() { line.span() } else { rest.span() };
    let wrong = |message: &str| error(at, message).help(help());
    let verb = ProfileVerb::from_word(word.text).ok_or_else(|| wrong("expected what to do and with which player"))?;
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
pub(super) fn code(rest: Line<'_>) -> Result<StatementKind, Diagnostic> {
    const HELP: &str = "write `code crossing as mine`, and redeem it with `redeem crossing mine`";
    let (code, behind) = rest.split();
    let (word, variable) = behind.split();
    if code.text.is_empty() || word.text != "as" {
        return Err(error(rest.span(), "which code, and what is it called here?").help(HELP));
    }
    Ok(StatementKind::Code { code: code.word(), variable: name(variable, "what is it called here?", HELP)? })
}

/// `redeem crossing mine`, `redeem crossing 'K7Q-2M'`, `redeem crossing 260`
pub(super) fn redeem(rest: Line<'_>) -> Result<StatementKind, Diagnostic> {
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
        _ => return Err(wrong(given.span(), "this is not a code")),
    };
    Ok(StatementKind::Redeem { code: code.word(), given })
}

/// `tick 90 s`
pub(super) fn tick(line: Line<'_>, rest: Line<'_>) -> Result<StatementKind, Diagnostic> {
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

pub(super) fn remove(rest: Line<'_>) -> Result<StatementKind, Diagnostic> {
    let tokens = line_tokens(rest)?;
    let help = "write `remove bag 'letter'`; out of a map, the key";
    let (target, used) = target(rest, &tokens).map_err(|error| error.help(help))?;
    let missing = || error(rest.span(), "what should be removed?").help(help);
    Ok(StatementKind::Remove { target, item: behind(rest, &tokens, used).ok_or_else(missing)? })
}

pub(super) fn reset(word: Line<'_>, rest: Line<'_>) -> Result<StatementKind, Diagnostic> {
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

pub(super) fn unknown(line: Line<'_>, word: Line<'_>) -> Diagnostic {
    let words: Vec<&str> = Keyword::ALL.iter().map(|keyword| keyword.word()).collect();
    // As a programmer would call it in the game.
    for (call, way) in [(".insert(", "insert"), (".push(", "insert"), (".remove(", "remove"), (".set(", "")] {
        if let Some((container, item)) = line.text.split_once(call) {
            let item = item.trim_end().strip_suffix(')').unwrap_or(item);
            let meant =
                if way.is_empty() { format!("{container} = {item}") } else { format!("{way} {container} {item}") };
            return error(line.span(), "expected a statement").help(format!("a playthrough says `{meant}`"));
        }
    }
    error(line.span(), "expected a statement")
        .help(format!("a statement is a moment, a write as in `score += 60`, or one of: {}", words.join(", ")))
        .suggest(word.text, statement_words())
}
