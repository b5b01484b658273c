//! What a spec document says, before names have a meaning. Every piece knows where it was written.
//!
//! A member stands for the key of the document that has its name, and docs/reference.md says what each key means.
#![expect(missing_docs, reason = "each member is a key of the document, and the reference explains the keys")]

pub(crate) mod listed;
pub(crate) mod read;
pub(crate) mod write;

pub use read::syntax_errors;
pub use write::{rule, write};

use crate::diagnostic::{SourceSpan, Spanned};
use crate::value::Value;
use crate::vocabulary::fate::Operation;

/// A text and its place.
pub type Word = Spanned<String>;

/// The whole document.
#[derive(Clone, Debug, Default)]
pub struct Document {
    pub game: Game,
    pub order: Vec<Word>,
    pub opening: Option<Word>,
    pub levels_last: Option<Word>,
    /// The moments at which `completed` and `opened` begin anew, where they last a run.
    pub cleared_at: Vec<Word>,
    /// The folder in which every level has a file.
    pub assets: Option<Word>,
    /// The levels that players make.
    pub made: Option<MadeEntry>,
    pub levels: Vec<(Word, LevelEntry)>,
    pub keys: Vec<(Word, KeysEntry)>,
    /// Struct types, each with its members: of a member only the type, its limits and its default are said.
    pub structs: Vec<(Word, Vec<(Word, FieldEntry)>)>,
    pub tables: Vec<(Word, TableEntry)>,
    pub fields: Vec<(Word, FieldEntry)>,
    pub derived: Vec<(Word, DerivedEntry)>,
    pub moments: Vec<Word>,
    /// Moments of the game's own that begin a run.
    pub new_runs: Vec<Word>,
    pub over_when: Option<Word>,
    pub respawn: Option<Word>,
    pub accept: Option<Word>,
    pub save: Save,
    pub merge: Option<MergeEntry>,
    pub codes: Vec<(Word, CodeEntry)>,
    pub sources: Vec<SourceEntry>,
    pub promises: Vec<PromiseEntry>,
    pub allowed: Vec<AllowEntry>,
    pub migrations: Vec<MigrationEntry>,
}

/// `[levels] made`: levels that players make.
#[derive(Clone, Debug, Default)]
pub struct MadeEntry {
    pub max: Option<Spanned<i64>>,
    /// The field that holds their titles.
    pub title: Option<Word>,
    /// Says what goes along when a level is exported.
    pub carries: Vec<Word>,
    /// Says where to point when something is missing.
    pub span: SourceSpan,
}

/// `[code.*]`: values as a number, or as a text that a player writes down.
#[derive(Clone, Debug, Default)]
pub struct CodeEntry {
    pub carries: Vec<Word>,
    pub form: Option<Word>,
    pub max: Option<Spanned<i64>>,
    pub step: Option<Spanned<i64>>,
    pub alphabet: Option<Word>,
    pub group: Option<Spanned<i64>>,
    pub check: Option<Spanned<i64>>,
    /// The field that remembers what was redeemed.
    pub once: Option<Word>,
}

/// `[[source]]`: what play can give in a level.
#[derive(Clone, Debug)]
pub struct SourceEntry {
    pub name: Word,
    pub levels: Vec<Word>,
    pub gives: Vec<(Word, Literal)>,
    pub times: Option<Spanned<i64>>,
    pub lasts: Option<Word>,
    pub after_failure: Option<Word>,
}

/// `[[promise]]`: what must hold in every reachable state.
#[derive(Clone, Debug)]
pub struct PromiseEntry {
    pub name: Word,
    pub never_falls: Vec<Word>,
    pub holds: Option<Word>,
    pub after: Vec<Word>,
    pub can: Option<Word>,
    pub without: Vec<Word>,
}

/// `[[allow]]`: a finding that is meant, and why.
#[derive(Clone, Debug)]
pub struct AllowEntry {
    pub code: Word,
    pub of: Option<Word>,
    pub because: Word,
}

impl AllowEntry {
    /// Returns whether it allows a finding with that code about something.
    pub fn allows(&self, code: &str, subject: Option<&str>) -> bool {
        let about = self.of.as_ref().is_none_or(|of| Some(of.value.as_str()) == subject);
        about && self.code.value.eq_ignore_ascii_case(code)
    }
}

/// `[[migration]]`: what becomes of the saves of the version before.
#[derive(Clone, Debug)]
pub struct MigrationEntry {
    pub to: Spanned<i64>,
    pub steps: Vec<Spanned<StepEntry>>,
}

/// One step of a migration.
#[derive(Clone, Debug)]
pub enum StepEntry {
    /// Says what kind of thing, of what it is a part, its name before and now.
    Rename { what: Word, of: Option<Word>, from: Word, to: Word },
    /// A field or one entry of it, and an expression over the old values.
    Fill { target: Word, with: Word },
    /// Says what kind of thing, of what it is a part, and its name.
    Drop { what: Word, of: Option<Word>, name: Word },
    /// A field, and whose it is now.
    Move { field: Word, to: Word },
    /// A field that the game's own code migrates.
    Hook { field: Word },
}

#[derive(Clone, Debug, Default)]
pub struct Game {
    pub id: Option<Word>,
    pub title: Option<String>,
    pub version: Option<Spanned<i64>>,
    /// Says where to point when something is missing.
    pub span: SourceSpan,
}

#[derive(Clone, Debug, Default)]
pub struct LevelEntry {
    pub title: Option<String>,
    pub checkpoints: Vec<Word>,
    pub opens: Option<Word>,
    pub next: Option<Word>,
    /// The exits of the level, each with the level to which it leads.
    pub exits: Vec<(Word, Word)>,
    /// The condition under which the board does not show it.
    pub hidden: Option<Word>,
    /// Its file in the folder of assets.
    pub asset: Option<Word>,
    /// The level's own steps of tables.
    pub steps: Vec<(Word, Vec<Literal>)>,
}

#[derive(Clone, Debug, Default)]
pub struct KeysEntry {
    pub names: Vec<Word>,
    pub open: bool,
    pub max: Option<Spanned<i64>>,
    pub current: Option<Word>,
}

#[derive(Clone, Debug, Default)]
pub struct TableEntry {
    pub steps: Option<Vec<Literal>>,
    pub first: Option<Literal>,
    pub times: Option<Literal>,
    pub add: Option<Literal>,
    pub count: Option<Spanned<i64>>,
    pub falling: bool,
}

/// A derived value: its expression, and what it has a value for each of.
#[derive(Clone, Debug)]
pub struct DerivedEntry {
    pub per: Option<Word>,
    pub label: Option<String>,
    pub value: Word,
}

#[derive(Clone, Debug, Default)]
pub struct FieldEntry {
    pub ty: Option<Word>,
    pub of: Vec<Word>,
    pub per: Vec<Word>,
    pub lasts: Option<Word>,
    pub after_failure: Option<Word>,
    pub written_by: Option<Word>,
    pub range: Option<Spanned<(Literal, Literal)>>,
    pub default: Option<Literal>,
    /// By what the entries of a ranking are sorted.
    pub by: Vec<Word>,
    pub max_len: Option<Spanned<i64>>,
    pub optional: bool,
    /// Says what players call it.
    pub label: Option<String>,
    /// Whether a write of play asks for a save.
    pub save: bool,
    /// Whether a list of players shows it.
    pub thumbnail: bool,
    /// The unit in which it counts time.
    pub counts: Option<Word>,
    /// Says where it counts.
    pub counts_in: Option<Word>,
    /// Says what becomes of it when two installations have changed it.
    pub merge: Option<Word>,
    pub on: Vec<(Word, Vec<RuleEntry>)>,
}

/// A value that stands in the document as itself.
pub type Literal = Spanned<Value>;

#[derive(Clone, Debug)]
pub struct RuleEntry {
    pub does: EffectEntry,
    pub when: Option<Word>,
}

impl RuleEntry {
    /// Returns where it stands in the text of the document, in bytes from its beginning.
    pub fn offset(&self) -> usize {
        match &self.does {
            EffectEntry::Bare(word) => word.span.start,
            EffectEntry::Operand(word, _) => word.span.start,
        }
    }
}

#[derive(Clone, Debug)]
pub enum EffectEntry {
    /// `"keep"`, `"reset"`, `"entry"`, `"checkpoint"`.
    Bare(Word),
    /// `set`, `add` or another operation, and the operand, an expression.
    Operand(Spanned<Operation>, Word),
}

/// `[merge]`: saves of two installations become one.
#[derive(Clone, Debug, Default)]
pub struct MergeEntry {
    /// The number by which runs are compared.
    pub run: Option<Word>,
}

#[derive(Clone, Debug, Default)]
pub struct Save {
    /// None where nothing is said; see [`Moment::SAVES`](crate::Moment::SAVES).
    pub at: Option<Vec<Word>>,
    pub resume: Option<Word>,
    pub newer: Option<Word>,
    pub keep: Option<Spanned<i64>>,
}
