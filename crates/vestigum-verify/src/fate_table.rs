//! The fate table: every field against every moment, and what quitting and crashing leave.
//!
//! The words and signs are the same wherever the table is shown:
//!
//! | sign | word | meaning |
//! |---|---|---|
//! | ● | `keep` | the value stays |
//! | ◑ | `checkpoint` | back to what it was at the last checkpoint |
//! | ◔ | `entry` | back to what it was when the level was entered |
//! | ○ | `reset` | back to the default |
//! | ▲ | `max` `min` | a record: the better value stays |
//! | + | `add` `set` `union` | a rule changes it |
//! | − | `add` | a rule takes from it |
//! | ◷ | `saved` | as the last save left it |
//! | · | `none` | the field has no value there |

use vestigum_core::suspension::fates::{LeftByQuitting, left_by_quitting};
use vestigum_core::{Moment, Span, Spec};
use vestigum_spec::model::fates::{Effect, Rule};
use vestigum_spec::model::field::{Counts, Field};
use vestigum_spec::model::merging::FieldMerge;
use vestigum_spec::vocabulary::fate::{Operation, PlainFate};

/// Every field against every moment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FateTable {
    /// The names of the moments, then `quit` and `crash`.
    pub columns: Vec<String>,
    /// One row for each field, the built-in ones last.
    pub rows: Vec<FateRow>,
    /// The moments at which the game saves, besides quit and reset.
    pub saves: Vec<String>,
}

/// One field.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FateRow {
    /// Its name.
    pub field: String,
    /// Its type.
    pub ty: String,
    /// Says what it is keyed by.
    pub axes: Vec<String>,
    /// Says how long it lasts.
    pub lasts: Span,
    /// Says who writes it.
    pub written_by: &'static str,
    /// Whether every game has it.
    pub built_in: bool,
    /// Whether a write of play that changes it asks for a save.
    pub saves: bool,
    /// Whether it counts time, and where.
    pub counts: Option<Counts>,
    /// Says what becomes of it when two installations changed it, if the spec says how saves are merged.
    pub merge: Option<FieldMerge>,
    /// One for each column.
    pub cells: Vec<FateCell>,
    /// Its rules in full: the moment and what happens there.
    pub rules: Vec<(String, String)>,
}

/// Describes what one moment does to one field.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FateCell {
    /// Says what happens.
    pub fate: CellFate,
    /// The operand of a rule, as it was written.
    pub operand: Option<String>,
    /// Whether it depends on a condition, or on the entry.
    pub guarded: bool,
}

/// Describes what happens to a value at a moment, or after the game has ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CellFate {
    /// The field has no value there.
    None,
    /// A plain fate.
    Plain(PlainFate),
    /// A rule with an operand.
    Rule(Operation),
    /// It is as the last save left it.
    Saved,
}

impl CellFate {
    /// The word: see the table of the module.
    pub fn word(self) -> &'static str {
        match self {
            CellFate::None => "none",
            CellFate::Plain(fate) => fate.word(),
            CellFate::Rule(operation) => operation.word(),
            CellFate::Saved => "saved",
        }
    }

    /// The sign that goes with the word.
    pub fn sign(self) -> &'static str {
        match self {
            CellFate::None => "·",
            CellFate::Plain(PlainFate::Keep) => "●",
            CellFate::Plain(PlainFate::Checkpoint) => "◑",
            CellFate::Plain(PlainFate::Entry) => "◔",
            CellFate::Plain(PlainFate::Reset) => "○",
            CellFate::Rule(Operation::Max | Operation::Min | Operation::Rank) => "▲",
            CellFate::Rule(Operation::Set | Operation::Add | Operation::Union) => "+",
            CellFate::Saved => "◷",
        }
    }
}

impl FateRow {
    /// Returns what stands behind the name of a keyed field: its axes in brackets.
    pub fn keys(&self) -> String {
        if self.axes.is_empty() { String::new() } else { format!("[{}]", self.axes.join(", ")) }
    }
}

impl FateCell {
    fn of(fate: CellFate) -> FateCell {
        FateCell { fate, operand: None, guarded: false }
    }

    /// The word: see the table of the module.
    pub fn word(&self) -> &'static str {
        self.fate.word()
    }

    /// The sign that goes with the word; of a sum that takes away, a minus.
    pub fn sign(&self) -> &'static str {
        match (self.fate, &self.operand) {
            (CellFate::Rule(Operation::Add), Some(operand)) if operand.starts_with('-') => "−",
            (CellFate::None | CellFate::Plain(_) | CellFate::Rule(_) | CellFate::Saved, _) => self.fate.sign(),
        }
    }

    /// Says whether [`FateCell::short`] is the whole rule: an operand that has room there, without a condition.
    pub fn tells_all(&self) -> bool {
        let has_room = self.operand.as_ref().is_some_and(|operand| operand.len() <= OPERAND);
        self.fate == CellFate::Rule(Operation::Add) && !self.guarded && has_room
    }

    /// As [`FateCell::short`]; of a value that simply stays the sign alone, as what happens to the others is what one looks for.
    pub fn brief(&self) -> String {
        let stays = self.fate == CellFate::Plain(PlainFate::Keep) && !self.guarded;
        if stays { self.sign().to_owned() } else { self.short() }
    }

    /// The cell in a few characters: the sign, a word where the sign says too little, and `?` for a condition.
    pub fn short(&self) -> String {
        let guard = if self.guarded { "?" } else { "" };
        let text = match (self.fate, &self.operand) {
            (CellFate::None, _) => return self.sign().into(),
            (CellFate::Rule(Operation::Add), Some(operand)) if operand.len() <= OPERAND => {
                let operand = operand.strip_prefix('-').unwrap_or(operand);
                return format!("{} {operand}{guard}", self.sign());
            }
            (CellFate::Plain(PlainFate::Checkpoint), _) => "check",
            (CellFate::Plain(_) | CellFate::Rule(_) | CellFate::Saved, _) => self.word(),
        };
        format!("{} {text}{guard}", self.sign())
    }
}

/// A cell has room for an operand of 5 characters.
const OPERAND: usize = 5;

/// Says what the signs mean, in the order of what they take.
pub const LEGEND: [(&str, &str); 9] = [
    ("●", "stays"),
    ("◑ check", "back to the last checkpoint"),
    ("◔ entry", "back to the level's entry"),
    ("○ reset", "back to the default"),
    ("▲ max", "record: the better stays"),
    ("+", "a rule changes it"),
    ("−", "a rule takes from it"),
    ("◷ saved", "as last saved"),
    ("?", "on a condition"),
];

/// Returns what a span means, in the words of the table: "lasts" goes before it.
pub fn meaning_of(span: Span) -> &'static str {
    match span {
        Span::Attempt => "until the next failure",
        Span::Visit => "until the level is left or restarted",
        Span::Session => "until the game is started again",
        Span::Run => "until the next new game",
        Span::Profile => "as long as the player's profile",
        Span::Device => "as long as the installation, for all its players",
    }
}

/// The place of a moment among the columns: the order in which play meets them. Quitting has a column of its own, behind
/// all others.
fn column(moment: Moment) -> Option<u32> {
    match moment {
        Moment::Enter => Some(0),
        Moment::Checkpoint => Some(1),
        Moment::Death => Some(2),
        Moment::Restart => Some(3),
        Moment::Complete => Some(4),
        Moment::Travel => Some(5),
        Moment::Abandon => Some(6),
        Moment::GameOver => Some(7),
        Moment::NewRun => Some(8),
        Moment::Launch => Some(9),
        Moment::Own(n) | Moment::OwnRun(n) => Some(10 + u32::from(n)),
        Moment::Quit => None,
    }
}

impl FateTable {
    /// Works out the table of a spec.
    ///
    /// ```
    /// use vestigum_core::Spec;
    /// use vestigum_verify::fate_table::FateTable;
    ///
    /// let spec = Spec::from_toml(r#"
    ///     [game]
    ///     id = "fellpost"
    ///     [levels]
    ///     order = ["mill_lane"]
    ///     [field.score]
    ///     type = "int"
    ///     lasts = "run"
    ///     after_failure = "entry"
    /// "#)?;
    /// let table = FateTable::of(&spec);
    /// let death = table.columns.iter().position(|column| column == "death").unwrap();
    /// assert_eq!(table.rows[0].cells[death].short(), "◔ entry");
    /// # Ok::<(), vestigum_core::Diagnostics>(())
    /// ```
    pub fn of(spec: &Spec) -> FateTable {
        let moments = columns(spec);
        let names = moments.iter().map(|moment| spec.moment_name(*moment).to_owned());
        FateTable {
            columns: names.chain(["quit".to_owned(), "crash".to_owned()]).collect(),
            rows: spec.fields().map(|field| row(spec, field, &moments)).collect(),
            saves: spec.save_at().iter().map(|moment| spec.moment_name(*moment).to_owned()).collect(),
        }
    }

    /// The row of one field.
    pub(crate) fn row_of(spec: &Spec, field: &Field) -> FateRow {
        row(spec, field, &columns(spec))
    }
}

/// The moments that have a column, in the order of the columns.
pub(crate) fn columns(spec: &Spec) -> Vec<Moment> {
    let mut moments: Vec<Moment> = spec.moments().filter(|moment| column(*moment).is_some()).collect();
    moments.sort_by_key(|moment| column(*moment));
    moments
}

fn row(spec: &Spec, field: &Field, moments: &[Moment]) -> FateRow {
    let mut cells: Vec<FateCell> = moments.iter().map(|moment| at_moment(spec, field, *moment)).collect();
    cells.push(at_quit(spec, field));
    cells.push(at_crash(spec, field, moments));
    let rules = moments.iter().flat_map(|moment| {
        let name = spec.moment_name(*moment);
        spec.fate(field, *moment).rules.iter().map(move |rule| (name.to_owned(), in_full(rule)))
    });
    FateRow {
        field: field.name().to_owned(),
        ty: field.ty().to_string(),
        axes: field.axes().iter().map(|axis| spec.model().axis_word(*axis).to_owned()).collect(),
        lasts: field.lasts(),
        written_by: field.written_by().word(),
        built_in: field.is_built_in(),
        saves: field.saves(),
        counts: field.counts(),
        merge: spec.merge_of(field),
        cells,
        rules: rules.collect(),
    }
}

fn at_moment(spec: &Spec, field: &Field, moment: Moment) -> FateCell {
    let fate = spec.fate(field, moment);
    let outside = (moment == Moment::Launch || moment.begins_run()) && field.needs_level();
    if outside {
        return FateCell::of(CellFate::None);
    }
    // Of a list the first rule that changes something tells most; the rules in full stand below the table.
    let keeps = |rule: &&Rule| matches!(rule.does, Effect::Plain(PlainFate::Keep));
    let telling = fate.rules.iter().find(|rule| !keeps(rule)).or(fate.rules.first());
    match telling {
        None => FateCell::of(CellFate::Plain(spec.model().meant(moment, fate.fallback))),
        Some(Rule { when, does }) => FateCell {
            fate: match does {
                Effect::Plain(fate) => CellFate::Plain(spec.model().meant(moment, *fate)),
                Effect::Operation(operation, _) => CellFate::Rule(*operation),
            },
            operand: match does {
                Effect::Plain(_) => None,
                Effect::Operation(_, operand) => Some(operand.source().to_owned()),
            },
            // The entries of a keyed field that the rule does not touch have a fate of their own.
            guarded: when.is_some() || fate.rules.len() > 1 || (field.is_keyed() && fate.fallback != PlainFate::Keep),
        },
    }
}

/// Returns what is left after quitting in a level and launching again.
fn at_quit(spec: &Spec, field: &Field) -> FateCell {
    match left_by_quitting(spec.model(), field) {
        LeftByQuitting::As(moment) => at_moment(spec, field, moment),
        LeftByQuitting::Fate(fate) => FateCell::of(CellFate::Plain(fate)),
    }
}

/// Returns what a crash leaves: what the last save left, which is everything if the field changes only where the game saves.
fn at_crash(spec: &Spec, field: &Field, moments: &[Moment]) -> FateCell {
    if !field.lasts().is_saved() {
        return at_quit(spec, field);
    }
    let changes_unsaved = |moment: &Moment| {
        let fate = spec.fate(field, *moment);
        let changes = !fate.rules.is_empty() || (fate.fallback != PlainFate::Keep && !fate.fallback.rewinds());
        changes && !spec.save_at().contains(moment)
    };
    // A level opens when another is completed or something else is written; it opens again after the crash if that
    // was saved, so only its own rules count.
    // What play writes is safe where each write asks for a save, if nothing else changes it between the saves.
    let safe =
        (!field.written_by().play() || (field.saves() && !field.rewinds())) && !moments.iter().any(changes_unsaved);
    FateCell::of(if safe { CellFate::Plain(PlainFate::Keep) } else { CellFate::Saved })
}

/// A rule in full, as the table's notes show it.
fn in_full(rule: &Rule) -> String {
    let does = match &rule.does {
        Effect::Plain(simple) => simple.word().to_owned(),
        Effect::Operation(Operation::Add, operand) => format!("add {}", operand.source()),
        Effect::Operation(operation, operand) => format!("{} {}", operation.word(), operand.source()),
    };
    match &rule.when {
        None => does,
        Some(when) => format!("{does} when {}", when.source()),
    }
}
