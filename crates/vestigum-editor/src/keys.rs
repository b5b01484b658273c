//! Every table and key of a spec, with what stands there and what it means: what the schema says, completion offers and hovering tells.
//!
//! The reader in `vestigum-core` is what counts. A test reads a document with every key of this list, and one with a key that no table
//! has, so that the two lists cannot differ.

use vestigum_spec::migration::KINDS;
use vestigum_spec::model::table::MAX_STEPS;
use vestigum_spec::reading::{MAX_KEEP, MAX_KEYS, MAX_LEN, MAX_MADE, MAX_TIMES};
use vestigum_spec::vocabulary::fate::{Operation, PlainFate};
use vestigum_spec::vocabulary::merging::MergeLaw;
use vestigum_spec::vocabulary::policy::{Accept, CodeForm, NewerSaves, OpeningOrder, Respawn, Resume};
use vestigum_spec::vocabulary::span::{Lasts, Span, WrittenBy};
use vestigum_spec::vocabulary::time::{CountsIn, TimeUnit};

/// A table of a spec.
#[derive(Debug)]
pub struct SpecTable {
    /// Its name: `field` of `[field.xp]`.
    pub name: &'static str,
    /// Says how it stands in the document.
    pub form: Form,
    /// Says what it is.
    pub about: &'static str,
    /// Says what one in the document looks like.
    pub example: &'static str,
}

/// Describes how a table stands in the document.
#[derive(Debug)]
pub enum Form {
    /// `[game]`: there is one.
    One(&'static [SpecKey]),
    /// `[field.xp]`: there is one for each name.
    Named(&'static [SpecKey]),
    /// `[[source]]`: there may be several.
    Several(&'static [SpecKey]),
    /// `[derived]`: the names are the author's; what each is.
    Free(&'static Holds),
    /// `[struct.walk]`: one for each name, with names in it.
    NamedFree(&'static Holds),
}

/// A key of a table.
#[derive(Debug)]
pub struct SpecKey {
    /// Its name.
    pub name: &'static str,
    /// Says what stands there.
    pub holds: Holds,
    /// Says what it means, in a sentence.
    pub about: &'static str,
    /// Says whether it must be there.
    pub stands: Stands,
}

/// Describes when a key stands in its table.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stands {
    /// It stands where the author wants it.
    Freely,
    /// It always stands.
    Always,
    /// Exactly one of the keys that say this stands in a table.
    AsOneOf,
}

/// Describes what stands behind a key.
#[derive(Debug)]
pub enum Holds {
    /// A text for people.
    Text,
    /// A new name.
    NewName,
    /// A list of new names.
    NewNames,
    /// A name of something that the spec has.
    Name(NameOf),
    /// A list of such names.
    Names(NameOf),
    /// One such name, or a list.
    OneOrMore(NameOf),
    /// One of these words.
    Words(fn() -> Vec<&'static str>),
    /// The type of a field.
    Type,
    /// An expression.
    Expression,
    /// A whole number.
    Int,
    /// A whole number from the first to the second of these.
    Count(i64, i64),
    /// A number.
    Number,
    /// A list of numbers.
    Numbers,
    /// `true` or `false`.
    Bool,
    /// Any value that a field can have.
    Value,
    /// The lowest and the highest number.
    Range,
    /// A table of values by the names of fields.
    Values(NameOf),
    /// A table of names of the author's, each with the name of something.
    NewNamesTo(NameOf),
    /// A table of lists of numbers, by the names of something.
    NumbersOf(NameOf),
    /// By what a ranking is sorted.
    SortedBy,
    /// A table with keys.
    Table(&'static [SpecKey]),
    /// One of these.
    Either(&'static [Holds]),
    /// A list.
    List(&'static Holds),
    /// A table of rules, by moments.
    Rules(&'static Holds),
    /// The code of a finding.
    Code,
}

impl Holds {
    /// Returns what can stand there: itself, or each of several.
    pub(crate) fn alternatives(&self) -> &[Holds] {
        if let Holds::Either(either) = self { either } else { std::slice::from_ref(self) }
    }

    /// The keys of the table that can stand there.
    pub fn keys(&self) -> Option<&'static [SpecKey]> {
        match self {
            Holds::Table(keys) => Some(keys),
            Holds::Either(either) => either.iter().find_map(Holds::keys),
            Holds::List(of) | Holds::Rules(of) => of.keys(),
            Holds::Text
            | Holds::NewName
            | Holds::NewNames
            | Holds::Name(_)
            | Holds::Names(_)
            | Holds::OneOrMore(_)
            | Holds::Words(_)
            | Holds::Type
            | Holds::Expression
            | Holds::Int
            | Holds::Count(..)
            | Holds::Number
            | Holds::Numbers
            | Holds::Bool
            | Holds::Value
            | Holds::Range
            | Holds::Values(_)
            | Holds::NewNamesTo(_)
            | Holds::NumbersOf(_)
            | Holds::SortedBy
            | Holds::Code => None,
        }
    }
}

/// Of what a name is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NameOf {
    /// A level.
    Level,
    /// A field.
    Field,
    /// A moment.
    Moment,
    /// `level`, `checkpoint` or a key set.
    Axis,
    /// A table of steps.
    Table,
    /// Whatever a step of a migration or an allowance is about.
    Anything,
}

const fn key(name: &'static str, holds: Holds, about: &'static str) -> SpecKey {
    SpecKey { name, holds, about, stands: Stands::Freely }
}

const fn needed(name: &'static str, holds: Holds, about: &'static str) -> SpecKey {
    SpecKey { name, holds, about, stands: Stands::Always }
}

const fn one_of(name: &'static str, holds: Holds, about: &'static str) -> SpecKey {
    SpecKey { name, holds, about, stands: Stands::AsOneOf }
}

/// The words of an enum, as a function that gives them.
macro_rules! words {
    ($of:ty) => {
        Holds::Words(|| <$of>::ALL.iter().map(|one| one.word()).collect())
    };
}

fn plain_fates() -> Vec<&'static str> {
    PlainFate::ALL.iter().map(|fate| fate.word()).collect()
}

fn after_failures() -> Vec<&'static str> {
    PlainFate::after_failures().map(PlainFate::word).collect()
}

fn units() -> Vec<&'static str> {
    TimeUnit::ALL.iter().filter(|unit| unit.is_counted()).map(|unit| unit.word()).collect()
}

fn merge_words() -> Vec<&'static str> {
    MergeLaw::ALL.iter().map(|law| law.word()).collect()
}

const SPAN: Holds = words!(Span);

/// A source is found in a level, and no level is of the device.
fn source_spans() -> Vec<&'static str> {
    Span::ALL.iter().filter(|span| **span != Span::Device).map(|span| span.word()).collect()
}

/// All tables, in the order of the documentation.
pub const TABLES: &[SpecTable] = &[
    SpecTable { name: "game", form: Form::One(GAME), about: "Which game it is.", example: "[game]\nid = \"fellpost\"" },
    SpecTable {
        name: "levels",
        form: Form::One(LEVELS),
        about: "The levels in their order, and what is true of all of them.",
        example: "[levels]\norder = [\"mill_lane\", \"heather_rise\"]",
    },
    SpecTable {
        name: "level",
        form: Form::Named(LEVEL),
        about: "What is to be said of one level.",
        example: "[level.mill_lane]\ntitle = \"Mill Lane\"\ncheckpoints = [\"ford\"]",
    },
    SpecTable {
        name: "keys",
        form: Form::Named(KEYS),
        about: "A key set: names by which a field can have several values.",
        example: "[keys.gate]\nnames = [\"mill_gate\", \"upper_gate\"]",
    },
    SpecTable {
        name: "struct",
        form: Form::NamedFree(&MEMBER),
        about: "A type of several members.",
        example: "[struct.walk]\ncarrier = \"text\"\nletters = \"int\"",
    },
    SpecTable {
        name: "table",
        form: Form::Named(TABLE),
        about: "Steps that `grade`, `into` and `needed` measure a number by.",
        example: "[table.stars]\nsteps = [40, 80, 120]",
    },
    SpecTable {
        name: "field",
        form: Form::Named(FIELD),
        about: "A value that the game keeps: how long it lasts, and what each moment does to it.",
        example: "[field.score]\ntype = \"int\"\nlasts = \"run\"\nafter_failure = \"entry\"",
    },
    SpecTable {
        name: "derived",
        form: Form::Free(&DERIVED),
        about: "Values that are computed when they are read, and never saved.",
        example: "[derived]\ntotal_stars = \"sum(stars)\"",
    },
    SpecTable {
        name: "moments",
        form: Form::One(MOMENTS),
        about: "Moments of the game's own.",
        example: "[moments]\nnames = [\"sleep\"]",
    },
    SpecTable {
        name: "run",
        form: Form::One(RUN),
        about: "When a run is over.",
        example: "[run]\nover_when = \"lanterns == 0\"",
    },
    SpecTable {
        name: "death",
        form: Form::One(DEATH),
        about: "Where a death puts the player.",
        example: "[death]\nrespawn = \"checkpoint\"",
    },
    SpecTable {
        name: "checkpoints",
        form: Form::One(CHECKPOINTS),
        about: "Which checkpoints count.",
        example: "[checkpoints]\naccept = \"forward\"",
    },
    SpecTable {
        name: "save",
        form: Form::One(SAVE),
        about: "When the game saves, and where play goes on.",
        example: "[save]\nat = [\"checkpoint\", \"complete\"]\nresume = \"checkpoint\"",
    },
    SpecTable {
        name: "merge",
        form: Form::One(MERGE),
        about: "Saves of two installations become one.",
        example: "[merge]\nrun = \"score\"",
    },
    SpecTable {
        name: "code",
        form: Form::Named(CODE),
        about: "Values as a number, or as a text that a player writes down.",
        example: "[code.postcard]\ncarries = [\"gate_open\"]\nas = \"text\"",
    },
    SpecTable {
        name: "source",
        form: Form::Several(SOURCE),
        about: "What play can give in a level, for exploring.",
        example: "[[source]]\nname = \"letter\"\ngives = { letters = 10 }",
    },
    SpecTable {
        name: "promise",
        form: Form::Several(PROMISE),
        about: "What must hold in every play, for exploring.",
        example: "[[promise]]\nname = \"a replay never lowers a record\"\nnever_falls = [\"best_letters\"]",
    },
    SpecTable {
        name: "allow",
        form: Form::Several(ALLOW),
        about: "A finding that is meant, and why.",
        example: "[[allow]]\ncode = \"V102\"\nof = \"best_letters\"\nbecause = \"the last walk counts\"",
    },
    SpecTable {
        name: "migration",
        form: Form::Several(MIGRATION),
        about: "What becomes of the saves of the version before.",
        example: "[[migration]]\nto = 2\nsteps = [\n  { rename = \"field\", from = \"lives\", to = \"lanterns\" },\n]",
    },
];

const GAME: &[SpecKey] = &[
    needed("id", Holds::NewName, "The name of the game in its saves: lower case letters, digits and underscores."),
    key("title", Holds::Text, "What players call the game."),
    key("version", Holds::Count(1, i64::MAX), "Raised when saved data changes shape; 1 if left out."),
];

const LEVELS: &[SpecKey] = &[
    key("order", Holds::NewNames, "The levels in the order in which they are played."),
    key(
        "opening",
        words!(OpeningOrder),
        "When levels of `order` open: each when the one before it is completed, or all at once.",
    ),
    key("lasts", words!(Lasts), "How long `completed` and `opened` last."),
    key("cleared_at", Holds::OneOrMore(NameOf::Moment), "The moments at which they begin anew, where they last a run."),
    key("assets", Holds::Text, "The folder in which every level has a file, from where the spec is."),
    key("made", Holds::Table(MADE), "Levels that players make."),
];

const MADE: &[SpecKey] = &[
    needed("max", Holds::Count(1, MAX_MADE), "How many a player can have, 1 to 1,000."),
    key("title", Holds::Name(NameOf::Field), "The field that holds their titles."),
    key("carries", Holds::Names(NameOf::Field), "The fields that go along when a level is exported."),
];

const LEVEL: &[SpecKey] = &[
    key("title", Holds::Text, "What players call it."),
    key("checkpoints", Holds::NewNames, "Its checkpoints, in the order of the way."),
    key("opens", Holds::Expression, "The condition under which it opens."),
    key("next", Holds::Name(NameOf::Level), "The level to which completing it leads."),
    key("exits", Holds::NewNamesTo(NameOf::Level), "Other ways out, each with the level to which it leads."),
    key("hidden", Holds::Expression, "The condition under which the board does not show it."),
    key("asset", Holds::Text, "Its file in the folder of assets; the id if left out."),
    key("steps", Holds::NumbersOf(NameOf::Table), "Steps of its own for tables."),
];

const KEYS: &[SpecKey] = &[
    key("names", Holds::NewNames, "The keys."),
    key("open", Holds::Bool, "Whether play makes more of them."),
    key("max", Holds::Count(1, MAX_KEYS as i64), "How many there can be, where it is open: 1 to 100,000."),
    key("current", Holds::Name(NameOf::Field), "The field that holds the key that is meant where none is named."),
];

const MEMBER: Holds = Holds::Either(&[Holds::Type, Holds::Table(MEMBER_KEYS)]);
const MEMBER_KEYS: &[SpecKey] = &[
    needed("type", Holds::Type, "The type of its value."),
    key("of", Holds::NewNames, "The names of a choice, in their order."),
    key("range", Holds::Range, "The lowest and the highest number."),
    key("default", Holds::Value, "The value it begins with."),
    key("max_len", Holds::Count(1, MAX_LEN), "The most characters, bytes or values."),
];

const TABLE: &[SpecKey] = &[
    key("steps", Holds::Numbers, "The steps, rising, or falling where `falling` says so."),
    key("first", Holds::Number, "The first step of a row that is made."),
    key("times", Holds::Number, "By what each further step is multiplied."),
    key("add", Holds::Number, "How much is added for each further step."),
    key("count", Holds::Count(1, MAX_STEPS as i64), "How many steps there are: 1 to 10,000."),
    key("falling", Holds::Bool, "Whether less is better, as with times."),
];

const FIELD: &[SpecKey] = &[
    needed(
        "type",
        Holds::Type,
        "`bool`, `int`, `float`, `text`, `bytes`, `vec2`, `vec3`, `choice`, a struct's name, `list of T`, `set of T`, `map of T`, `ranking of T`, `blob`.",
    ),
    key("of", Holds::NewNames, "The names of a choice, in their order."),
    key(
        "per",
        Holds::OneOrMore(NameOf::Axis),
        "What it has a value for each of: levels, checkpoints, the keys of a key set.",
    ),
    needed("lasts", SPAN, "How long a value lives."),
    key(
        "after_failure",
        Holds::Words(after_failures),
        "What a failure leaves of it. Must be said of visit, run and profile fields that play writes.",
    ),
    key("written_by", words!(WrittenBy), "Who writes it; rules for a field with an `on` table, play for any other."),
    key("range", Holds::Range, "The lowest and the highest number; values outside are brought inside."),
    key("default", Holds::Value, "The value it begins with."),
    key("by", Holds::SortedBy, "Of a ranking: by what it is sorted, as in `[\"highest letters\", \"lowest time\"]`."),
    key("max_len", Holds::Count(1, MAX_LEN), "The most characters, bytes or values."),
    key("optional", Holds::Bool, "Whether it begins without a value; `max` and `min` take the first one."),
    key("label", Holds::Text, "What players call it, in the reasons of locks."),
    key("save", Holds::Bool, "Whether a write of play that changes it asks for a save at once."),
    key("thumbnail", Holds::Bool, "Whether a list of players shows it: one blob of a profile."),
    key("counts", Holds::Words(units), "The unit in which it counts time."),
    key("in", words!(CountsIn), "Where it counts; everywhere if left out."),
    key("merge", Holds::Words(merge_words), "What becomes of it when two installations changed it."),
    key(
        "on",
        Holds::Rules(&RULE),
        "What moments do to it: a fate, a change, or a list of rules: the first one that holds decides.",
    ),
];

const RULE: Holds = Holds::Either(&[
    Holds::Words(plain_fates),
    Holds::Table(RULE_KEYS),
    Holds::List(&Holds::Either(&[Holds::Words(plain_fates), Holds::Table(RULE_KEYS)])),
]);
const OPERAND: Holds = Holds::Either(&[Holds::Expression, Holds::Number, Holds::Bool]);
const RULE_KEYS: &[SpecKey] = &[
    key("when", Holds::Expression, "The condition under which it happens."),
    one_of("do", Holds::Words(plain_fates), "A fate, where there is a condition."),
    one_of(Operation::Set.word(), OPERAND, "The value becomes this."),
    one_of(Operation::Add.word(), OPERAND, "This is added to it."),
    one_of(Operation::Max.word(), OPERAND, "It becomes this if that is higher: a record."),
    one_of(Operation::Min.word(), OPERAND, "It becomes this if that is lower: a record of times."),
    one_of(Operation::Union.word(), OPERAND, "It takes in what is in this."),
    one_of(Operation::Rank.word(), OPERAND, "This comes into the ranking where it belongs."),
];

const DERIVED: Holds = Holds::Either(&[Holds::Expression, Holds::Table(DERIVED_KEYS)]);
const DERIVED_KEYS: &[SpecKey] = &[
    key("per", Holds::Name(NameOf::Axis), "What it has a value for each of."),
    needed("value", Holds::Expression, "What it is."),
    key("label", Holds::Text, "What players call it, in the reasons of locks."),
];

const MOMENTS: &[SpecKey] = &[
    key("names", Holds::NewNames, "Moments of the game's own."),
    key("new_runs", Holds::NewNames, "Moments of the game's own that begin a run."),
];
const RUN: &[SpecKey] = &[key("over_when", Holds::Expression, "The condition under which the run is over.")];
const DEATH: &[SpecKey] = &[key("respawn", words!(Respawn), "Where a death puts the player.")];
const CHECKPOINTS: &[SpecKey] =
    &[key("accept", words!(Accept), "Which checkpoints count: those further on, the latest, or the next.")];
const SAVE: &[SpecKey] = &[
    key("at", Holds::Names(NameOf::Moment), "The moments at which the game saves; quit and a reset always do."),
    key("resume", words!(Resume), "Where play goes on after quitting in a level."),
    key(
        "newer",
        words!(NewerSaves),
        "What a launch does with a save of its own version that holds values it has no place for.",
    ),
    key("keep", Holds::Count(1, MAX_KEEP as i64), "How many saves of each player are kept, 1 to 1,000."),
];
const MERGE: &[SpecKey] =
    &[key("run", Holds::Expression, "The number by which runs are compared: the higher one goes on.")];

const CODE: &[SpecKey] = &[
    needed("carries", Holds::OneOrMore(NameOf::Field), "The fields whose values it carries."),
    key("as", words!(CodeForm), "Whether it is a number or a text."),
    key("max", Holds::Int, "Of one int: the highest value."),
    key("step", Holds::Int, "Of one int: the step between its values."),
    key("alphabet", Holds::Text, "The characters of a text."),
    key("group", Holds::Int, "How many characters stand in a group."),
    key("check", Holds::Int, "How many check characters reveal a mistake."),
    key("once", Holds::Name(NameOf::Field), "The field that remembers what was redeemed."),
];

const SOURCE: &[SpecKey] = &[
    needed("name", Holds::Text, "What play finds."),
    key("in", Holds::OneOrMore(NameOf::Level), "The levels in which it is found; all if left out."),
    needed("gives", Holds::Values(NameOf::Field), "What it adds to fields."),
    key("times", Holds::Count(1, MAX_TIMES), "How often it is found, 1 to 1,000,000."),
    key("lasts", Holds::Words(source_spans), "How long it stays found."),
    key("after_failure", Holds::Words(after_failures), "Whether a failure brings it back."),
];

const PROMISE: &[SpecKey] = &[
    needed("name", Holds::Text, "What is promised."),
    one_of("never_falls", Holds::OneOrMore(NameOf::Field), "Fields that never become lower."),
    one_of("holds", Holds::Expression, "What holds in every state, or after the moments that `after` names."),
    key("after", Holds::OneOrMore(NameOf::Moment), "The moments after which it holds."),
    one_of("can", Holds::Expression, "What some play can still make so, from every state."),
    key("without", Holds::OneOrMore(NameOf::Moment), "The moments that a play to what `can` says does not say."),
];

const ALLOW: &[SpecKey] = &[
    needed("code", Holds::Code, "The code of the finding."),
    key("of", Holds::Name(NameOf::Anything), "What the finding is about; everything if left out."),
    needed("because", Holds::Text, "Why it is meant."),
];

const MIGRATION: &[SpecKey] = &[
    needed("to", Holds::Count(1, i64::MAX), "The version that it leads to."),
    key("steps", Holds::List(&Holds::Table(STEP)), "What becomes of the old values, step by step."),
];
const STEP: &[SpecKey] = &[
    one_of("rename", Holds::Words(things), "What kind of thing has another name now; with `from` and `to`."),
    one_of("fill", Holds::Name(NameOf::Anything), "A field or an entry that takes old values; with `with`."),
    one_of("drop", Holds::Words(things), "What kind of thing is gone; with `name`."),
    one_of(
        "move",
        Holds::Name(NameOf::Anything),
        "A field that belongs to the device or to the player now; with `to`.",
    ),
    one_of("hook", Holds::Name(NameOf::Anything), "A field that the game's own code migrates."),
    key("of", Holds::Name(NameOf::Anything), "Of what it is a part."),
    key("from", Holds::Name(NameOf::Anything), "Its name before."),
    key("to", Holds::Name(NameOf::Anything), "Its name now, or whose it is."),
    key("name", Holds::Name(NameOf::Anything), "Its name before."),
    key("with", Holds::Expression, "An expression over the old values."),
];

/// Returns what a step of a migration can be about.
fn things() -> Vec<&'static str> {
    KINDS.to_vec()
}

/// The table of that name.
pub fn table(name: &str) -> Option<&'static SpecTable> {
    TABLES.iter().find(|table| table.name == name)
}
