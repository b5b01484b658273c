//! Random specs and random plays, for every property test of the project.
//!
//! A [`Sketch`] is a small description of a spec that is always valid; [`Sketch::toml`] writes it as the document a
//! designer would write, so that every test goes through the reader too. A play is a list of [`Step`]s whose numbers
//! are taken modulo what the spec has; steps that are refused count as well.
#![allow(
    clippy::missing_panics_doc,
    clippy::missing_errors_doc,
    reason = "a helper of a test panics where the test fails"
)]
#![allow(missing_docs, reason = "what a test needs is said where it is used")]

pub mod asking;
pub mod browser;
pub mod hunting;
pub mod merging;
pub mod postgres_server;
pub mod promises;
/// A way to a server that tests interfere with.
pub mod proxy;
pub mod updates;
pub mod watched_store;

vestigum::spec! {
    pub mod fellpost = "../../demo/fellpost/fellpost.toml";
}

vestigum::spec! {
    pub mod kennel = "worlds/kennel.toml";
}

use std::fmt::Write;

use proptest::collection::vec;
use proptest::option;
use proptest::prelude::*;
use proptest::sample::select;

use vestigum_core::{Edit, Image, Outcome, Part, Place, Progress, Reset, Value};

pub const OWN: &str = "new_day";
/// A moment of the game's own that begins a run.
pub const OWN_RUN: &str = "new_cycle";

#[derive(Clone, Debug)]
pub struct Sketch {
    /// The number of checkpoints of each level.
    pub levels: Vec<usize>,
    pub fields: Vec<FieldSketch>,
    pub opening: &'static str,
    pub opened_last: &'static str,
    pub accept: &'static str,
    pub respawn: &'static str,
    pub resume: &'static str,
    /// The int field and the bound below which the run is over.
    pub over: Option<(usize, i64)>,
    /// The field that the last level's condition reads, with how many levels must be open besides.
    pub opens: Option<(usize, usize)>,
    /// The level that comes after the first, whatever the order says.
    pub next: Option<usize>,
    /// Exits, each from a level to one.
    pub exits: Vec<(usize, usize)>,
    /// Whether only the own moment that begins a run takes back what is completed and open.
    pub cleared: bool,
    /// Whether the last level is hidden at first.
    pub hidden: bool,
    /// Says how many levels players can make.
    pub made: usize,
}

#[derive(Clone, Debug)]
pub struct FieldSketch {
    pub ty: &'static str,
    pub lasts: &'static str,
    pub after_failure: &'static str,
    pub written_by: &'static str,
    /// The axes, with their words.
    pub per: Vec<&'static str>,
    pub optional: bool,
    pub range: bool,
    /// Whether a write asks for a save, and for an int whether it counts time instead.
    pub save: bool,
    pub rules: Vec<RuleSketch>,
}

#[derive(Clone, Debug)]
pub struct RuleSketch {
    pub moment: &'static str,
    pub effect: &'static str,
    /// The field whose value is the operand, if one of the right type can be read; else a literal made of it.
    pub operand: usize,
    pub guard: Option<usize>,
}

/// Describes which rules a sketch may have: some laws hold only without a price.
#[derive(Clone, Copy, Debug, Default)]
pub struct Allowed {
    pub launch_rules: bool,
    /// Whether rules at death and restart may have guards and operands other than `add = -1`.
    pub priced_failures: bool,
}

const MOMENTS: [&str; 12] = [
    "launch",
    "new_run",
    OWN_RUN,
    "enter",
    "checkpoint",
    "death",
    "restart",
    "complete",
    "travel",
    "abandon",
    "game_over",
    OWN,
];
const ENDS_VISIT: [&str; 4] = ["complete", "travel", "abandon", "game_over"];

pub fn sketch(allowed: Allowed) -> impl Strategy<Value = Sketch> {
    let world = (vec(0usize..4, 1..4), vec(field(), 1..7));
    let modes = (
        select(vec!["in order", "all"]),
        select(vec!["profile", "run"]),
        select(vec!["any", "forward", "next"]),
        select(vec!["checkpoint", "entry"]),
        select(vec!["none", "entry", "checkpoint"]),
        option::weighted(0.2, (0usize..7, -3i64..3)),
    );
    let ways = (
        option::weighted(0.3, (0usize..7, 1usize..3)),
        option::weighted(0.3, 0usize..4),
        vec((0usize..4, 0usize..4), 0..3),
        (any::<bool>(), any::<bool>(), select(vec![0usize, 0, 0, 1, 2])),
    );
    (world, modes, ways).prop_map(move |((levels, fields), modes, (opens, next, exits, (cleared, hidden, made)))| {
        let (opening, opened_last, accept, respawn, resume, over) = modes;
        let mut sketch = Sketch {
            levels,
            fields,
            opening,
            opened_last,
            accept,
            respawn,
            resume,
            over,
            opens,
            next,
            exits,
            cleared,
            hidden,
            made,
        };
        sketch.tidy(allowed);
        sketch
    })
}

const TYPES: [&str; 20] = [
    "int",
    "int",
    "int",
    "int",
    "bool",
    "float",
    "text",
    "bytes",
    "blob",
    "vec2",
    "vec3",
    "choice",
    "list of int",
    "set of text",
    "map of int",
    "thing",
    "being",
    "list of being",
    "ranking of being",
    "ranking of int",
];
const PER: [&[&str]; 12] = [
    &[],
    &[],
    &[],
    &["level"],
    &["level"],
    &["checkpoint"],
    &["kind"],
    &["tag"],
    &["level", "kind"],
    &["tag", "level"],
    &["spot"],
    &["spot", "level"],
];
/// Key sets of every kind, and the field that says which of one is meant.
const KEYS: &str = "[keys.kind]\nnames = [\"k0\", \"k1\"]\ncurrent = \"kind_now\"\n[keys.tag]\nnames = [\"t0\", \"t1\", \"t2\"]\n\
    [keys.spot]\nopen = true\nmax = 3\n[struct.thing]\nn = \"int\"\nname = \"text\"\n\
    [struct.being]\nlevel = { type = \"int\", range = [-30, 40], default = 3 }\n\
    kind = { type = \"choice\", of = [\"a\", \"b\", \"c\"], default = \"b\" }\n\
    note = { type = \"text\", max_len = 3 }\n\
    [field.kind_now]\ntype = \"choice\"\nof = [\"k0\", \"k1\"]\nlasts = \"run\"\nafter_failure = \"entry\"\n";

pub fn field() -> impl Strategy<Value = FieldSketch> {
    (
        select(TYPES.to_vec()),
        select(vec!["attempt", "visit", "visit", "session", "run", "run", "profile", "profile", "device"]),
        select(vec!["keep", "entry", "checkpoint"]),
        select(vec!["play", "both", "both"]),
        select(PER.to_vec()),
        (any::<bool>(), any::<bool>(), proptest::bool::weighted(0.3)),
        vec(rule(), 0..4),
    )
        .prop_map(|(ty, lasts, after_failure, written_by, per, (optional, range, save), rules)| FieldSketch {
            ty,
            lasts,
            after_failure,
            written_by,
            per: per.to_vec(),
            optional,
            range,
            save,
            rules,
        })
}

fn rule() -> impl Strategy<Value = RuleSketch> {
    let effects = vec!["keep", "reset", "entry", "checkpoint", "set", "add", "max", "min", "union", "rank", "rank"];
    (select(MOMENTS.to_vec()), select(effects), 0usize..12, option::of(0usize..12))
        .prop_map(|(moment, effect, operand, guard)| RuleSketch { moment, effect, operand, guard })
}

pub fn has_length(ty: &str) -> bool {
    matches!(ty, "text" | "bytes" | "list of int" | "set of text" | "map of int" | "thing" | "being" | "list of being")
        || ranked(ty).is_some()
}

/// Of what a type is a ranking.
pub fn ranked(ty: &str) -> Option<&str> {
    ty.strip_prefix("ranking of ")
}

impl FieldSketch {
    /// By what a ranking is sorted.
    pub fn by(&self) -> Option<&'static [&'static str]> {
        match self.ty {
            "ranking of being" => Some(&["highest level", "lowest kind"]),
            "ranking of int" => Some(&["lowest"]),
            _ => None,
        }
    }

    /// Returns whether it counts time: an int for which it is known what entry is meant.
    pub fn counts(&self) -> bool {
        self.save && self.ty == "int" && !self.per.iter().any(|axis| matches!(*axis, "tag" | "spot"))
    }

    /// Returns whether a write asks for a save.
    pub fn saves(&self) -> bool {
        self.save && !self.counts() && !matches!(self.lasts, "attempt" | "session")
    }

    /// Returns whether it begins at 7: entries of names that were never made must not show.
    pub fn has_default(&self) -> bool {
        self.ty == "int" && self.per.contains(&"spot") && !self.optional
    }
}

fn has_level(moment: &str) -> bool {
    !matches!(moment, "launch" | "new_run" | "game_over" | OWN | OWN_RUN)
}

impl Sketch {
    /// Takes out what a spec may not say.
    pub fn tidy(&mut self, allowed: Allowed) {
        for field in &mut self.fields {
            let number = matches!(field.ty, "int" | "float");
            let ordered = number || field.ty == "choice";
            let union = field.ty.starts_with("set") || field.ty.starts_with("map");
            if field.lasts == "device" && field.per.contains(&"spot") {
                field.per.clear();
            }
            let per_level = field.per.iter().any(|axis| matches!(*axis, "level" | "checkpoint"));
            // For what has a length, a short one.
            field.range &= field.ty == "int" || has_length(field.ty);
            let FieldSketch { lasts, ty, .. } = *field;
            field.rules.retain(|rule| {
                let at = rule.moment;
                let gone = match lasts {
                    "attempt" => {
                        matches!(at, "launch" | "new_run" | OWN_RUN | "death" | "restart") || ENDS_VISIT.contains(&at)
                    }
                    "visit" => matches!(at, "launch" | "new_run" | OWN_RUN) || ENDS_VISIT.contains(&at),
                    _ => false,
                };
                let rewinds = matches!(rule.effect, "entry" | "checkpoint");
                let free = matches!(rule.effect, "keep" | "reset" | "entry" | "checkpoint")
                    && rule.guard.is_none()
                    && !field.per.iter().any(|axis| matches!(*axis, "kind" | "checkpoint"));
                let alive = !gone;
                alive
                    && (number || rule.effect != "add")
                    && (ordered || !matches!(rule.effect, "max" | "min"))
                    && (union || rule.effect != "union")
                    && (ranked(ty).is_some() || rule.effect != "rank")
                    && !(per_level && matches!(at, "launch" | "new_run" | OWN_RUN))
                    && !(rewinds && (matches!(lasts, "session" | "device") || !has_level(at) || at == "enter"))
                    && (allowed.launch_rules || at != "launch")
                    && (allowed.priced_failures || free || !matches!(at, "death" | "restart"))
            });
        }
        for (from, to) in &mut self.exits {
            (*from, *to) = (*from % self.levels.len(), *to % self.levels.len());
        }
        self.cleared &= self.opened_last == "run";
        self.opens = self.opens.filter(|(index, _)| {
            let read = self.fields.get(*index).filter(|field| field.ty == "int" && field.per.is_empty());
            read.is_some_and(|field| matches!(field.lasts, "run" | "profile" | "device"))
        });
        self.over = self.over.filter(|(index, _)| {
            self.fields
                .get(*index)
                .is_some_and(|field| field.ty == "int" && field.per.is_empty() && field.lasts != "session")
        });
    }

    /// Returns whether only exits lead to the last level.
    pub fn ends_aside(&self) -> bool {
        let last = self.levels.len() - 1;
        last > 0 && self.opens.is_none() && self.exits.iter().any(|(from, to)| *from != last && *to == last)
    }

    /// The condition of the last level, if it has one of its own.
    pub fn condition(&self) -> Option<String> {
        self.opens.map(|(index, open)| format!("f{index} > 3 or count(opened) > {open} and f{index} > 0"))
    }

    pub fn level(&self, index: usize) -> String {
        format!("path_{}", index % self.levels.len())
    }

    /// A level of the game, or one that players can make.
    pub fn any_level(&self, index: usize) -> String {
        let index = index % (self.levels.len() + self.made);
        if index < self.levels.len() { self.level(index) } else { format!("made_{}", index - self.levels.len() + 1) }
    }

    /// The fields that go along when a level is exported.
    pub fn carried(&self) -> Vec<String> {
        let carried = |field: &FieldSketch| field.per == ["level"] && field.lasts == "profile";
        self.fields.iter().zip(0..).filter(|(field, _)| carried(field)).map(|(_, index)| format!("f{index}")).collect()
    }

    pub fn toml(&self) -> String {
        self.toml_in_order(&(0..self.fields.len()).collect::<Vec<_>>())
    }

    /// The document with its fields in another order.
    pub fn toml_in_order(&self, order: &[usize]) -> String {
        let mut text = String::from("[game]\nid = \"fellpost\"\n");
        let listed = self.levels.len() - usize::from(self.ends_aside());
        let names: Vec<String> = (0..listed).map(|index| format!("\"{}\"", self.level(index))).collect();
        let _ = writeln!(text, "[levels]\norder = [{}]\nopening = \"{}\"", names.join(", "), self.opening);
        if self.made > 0 {
            let _ = writeln!(text, "made = {{ max = {}, carries = {:?} }}", self.made, self.carried());
        }
        let cleared = if self.cleared { format!("cleared_at = \"{OWN_RUN}\"\n") } else { String::new() };
        let _ = writeln!(text, "lasts = \"{}\"\n{cleared}[moments]\nnames = [\"{OWN}\"]", self.opened_last);
        let _ = writeln!(text, "new_runs = [\"{OWN_RUN}\"]");
        for (index, count) in self.levels.iter().enumerate() {
            let names: Vec<String> = (0..*count).map(|n| format!("\"stop_{n}\"")).collect();
            let _ = writeln!(text, "[level.{}]\ncheckpoints = [{}]", self.level(index), names.join(", "));
            if let Some(condition) = self.condition().filter(|_| index + 1 == self.levels.len()) {
                let _ = writeln!(text, "opens = \"{condition}\"");
            }
            if self.hidden && index + 1 == self.levels.len() {
                text.push_str("hidden = \"count(completed) < 1\"\n");
            }
            let exits = self.exits.iter().enumerate().filter(|(_, (from, _))| *from == index);
            let exits: Vec<String> = exits.map(|(n, (_, to))| format!("way_{n} = \"{}\"", self.level(*to))).collect();
            if !exits.is_empty() {
                let _ = writeln!(text, "exits = {{ {} }}", exits.join(", "));
            }
            if let Some(next) = self.next.filter(|_| index == 0) {
                let _ = writeln!(text, "next = \"{}\"", self.level(next));
            }
        }
        text.push_str(KEYS);
        for index in order {
            self.write_field(&mut text, *index);
        }
        if let Some((index, bound)) = self.over {
            let _ = writeln!(text, "[run]\nover_when = \"f{index} < {bound}\"");
        }
        let _ = writeln!(text, "[death]\nrespawn = \"{}\"\n[checkpoints]\naccept = \"{}\"", self.respawn, self.accept);
        let _ = writeln!(text, "[save]\nresume = \"{}\"", self.resume);
        text
    }

    fn write_field(&self, text: &mut String, index: usize) {
        let field = &self.fields[index];
        let _ = writeln!(text, "[field.f{index}]\ntype = \"{}\"\nlasts = \"{}\"", field.ty, field.lasts);
        let _ = writeln!(text, "written_by = \"{}\"", field.written_by);
        if matches!(field.lasts, "visit" | "run" | "profile") {
            let _ = writeln!(text, "after_failure = \"{}\"", field.after_failure);
        }
        if !field.per.is_empty() {
            let per: Vec<String> = field.per.iter().map(|axis| format!("\"{axis}\"")).collect();
            let _ = writeln!(text, "per = [{}]", per.join(", "));
        }
        if field.ty == "choice" {
            text.push_str("of = [\"a\", \"b\", \"c\"]\n");
        }
        if field.optional {
            text.push_str("optional = true\n");
        }
        if field.range {
            text.push_str(if field.ty == "int" { "range = [-40, 60]\n" } else { "max_len = 2\n" });
        }
        if field.counts() {
            text.push_str("counts = \"ms\"\n");
        } else if field.saves() {
            text.push_str("save = true\n");
        }
        if let Some(by) = field.by() {
            let _ = writeln!(text, "by = {by:?}");
        }
        if field.has_default() {
            text.push_str("default = 7\n");
        }
        for moment in MOMENTS {
            let rules: Vec<String> =
                field.rules.iter().filter(|rule| rule.moment == moment).map(|rule| self.rule(field, rule)).collect();
            if !rules.is_empty() {
                let _ = writeln!(text, "on.{moment} = [{}]", rules.join(", "));
            }
        }
    }

    fn rule(&self, field: &FieldSketch, rule: &RuleSketch) -> String {
        let effect = match rule.effect {
            plain @ ("keep" | "reset" | "entry" | "checkpoint") => format!("do = \"{plain}\""),
            operation => {
                let ty = ranked(field.ty).filter(|_| operation == "rank").unwrap_or(field.ty);
                format!("{operation} = \"{}\"", self.operand(ty, rule.moment, rule.operand))
            }
        };
        match rule.guard {
            None => format!("{{ {effect} }}"),
            Some(guard) => format!("{{ {effect}, when = \"{}\" }}", self.guard(rule.moment, guard)),
        }
    }

    /// Returns how a field can be read at a moment, if it can.
    fn readable(&self, index: usize, moment: &str) -> Option<String> {
        let field = self.fields.get(index)?;
        if matches!(field.lasts, "attempt" | "visit") && matches!(moment, "launch" | "new_run" | OWN_RUN | "enter") {
            return None;
        }
        let subject = |axis: &&str| match *axis {
            "level" => has_level(moment),
            axis => axis == "kind",
        };
        if field.per.is_empty() || (index.is_multiple_of(2) && field.per.iter().all(subject)) {
            return Some(format!("f{index}"));
        }
        let keys: Option<Vec<String>> = field.per.iter().map(|axis| self.key(axis, index)).collect();
        Some(format!("f{index}[{}]", keys?.join(", ")))
    }

    /// Some key of an axis, as a condition names it.
    fn key(&self, axis: &str, seed: usize) -> Option<String> {
        Some(match axis {
            "level" => self.level(seed),
            "checkpoint" => {
                let level = (0..self.levels.len()).find(|level| self.levels[*level] > 0)?;
                format!("{}, stop_{}", self.level(level), seed % self.levels[level])
            }
            "kind" => format!("k{}", seed % 2),
            "tag" => format!("t{}", seed % 3),
            _ => format!("s{}", seed % 5),
        })
    }

    /// The keys of every entry of a field, those included that open sets do not have yet.
    pub fn entries(&self, field: &FieldSketch) -> Vec<Vec<String>> {
        let mut entries: Vec<Vec<String>> = vec![Vec::new()];
        for axis in &field.per {
            let keys: Vec<Vec<String>> = match *axis {
                "level" => (0..self.levels.len() + self.made).map(|level| vec![self.any_level(level)]).collect(),
                "checkpoint" => (0..self.levels.len())
                    .flat_map(|level| (0..self.levels[level]).map(move |stop| (level, stop)))
                    .map(|(level, stop)| vec![self.level(level), format!("stop_{stop}")])
                    .collect(),
                "kind" => vec![vec!["k0".into()], vec!["k1".into()]],
                "tag" => (0..3).map(|n| vec![format!("t{n}")]).collect(),
                _ => (0..5).map(|n| vec![format!("s{n}")]).collect(),
            };
            entries = entries.iter().flat_map(|entry| keys.iter().map(|key| [&entry[..], key].concat())).collect();
        }
        entries
    }

    pub fn operand(&self, ty: &str, moment: &str, seed: usize) -> String {
        let read = self.readable(seed, moment).filter(|_| self.fields[seed].ty == ty);
        let literal = match ty {
            "bool" => seed.is_multiple_of(2).to_string(),
            "int" => (seed as i64 * 7 - 20).to_string(),
            "float" => format!("{}.5", seed as i64 - 5),
            "vec2" => "[1, 2.5]".into(),
            "vec3" => format!("[0, {seed}, 1]"),
            "choice" => format!("'{}'", ["a", "b", "c"][seed % 3]),
            "list of int" => format!("[{seed}, 2]"),
            "set of text" => format!("['x', 'w{seed}']"),
            "map of int" => format!("{{ x = {seed} }}"),
            "thing" => format!("{{ n = {seed} }}"),
            "being" => format!("{{ level = {} }}", seed * 5),
            "ranking of int" => format!("[{seed}, 2, 9]"),
            "list of being" | "ranking of being" => {
                format!("[{{ kind = 'c', note = 'word {seed}' }}, {{ level = -{seed} }}]")
            }
            _ => format!("'word {seed}'"),
        };
        match (read, ty) {
            (Some(read), "int" | "float") if seed.is_multiple_of(3) => format!("{read} * 2 - {literal}"),
            (Some(read), _) => read,
            (None, "int") if seed % 3 == 1 => format!("if(count(completed) > 1, {literal}, 4)"),
            (None, _) => literal,
        }
    }

    fn guard(&self, moment: &str, seed: usize) -> String {
        let read = self.readable(seed, moment).map(|read| (read, self.fields[seed].ty));
        match read {
            Some((read, "bool")) => format!("not {read}"),
            Some((read, "int")) => format!("{read} > {seed}"),
            Some((read, "float")) => format!("{read} <= 1.5"),
            Some((read, "choice")) => format!("{read} >= 'b'"),
            Some((read, "vec2" | "vec3")) => format!("{read}.x > 0.5"),
            Some((read, "thing")) => format!("{read}.n > {seed}"),
            Some((read, "being")) => format!("{read}.kind >= 'b'"),
            Some((read, "ranking of being")) => format!("place_in({read}, {{ level = {seed} }}) == 1"),
            Some((read, "ranking of int")) => format!("place_in({read}, {seed}) < 2"),
            Some((read, "list of being")) => format!("any({read}.level > {seed}) or {read}[1].level < 3"),
            Some((read, "set of text")) => format!("has({read}, 'x')"),
            Some((read, "map of int")) => format!("{read}['x'] < 4"),
            Some((read, _)) => format!("len({read}) == 0"),
            None if moment == "complete" && !self.exits.is_empty() && seed.is_multiple_of(3) => {
                "exit == 'way_0'".into()
            }
            None if seed.is_multiple_of(2) => format!("level == '{}'", self.level(seed)),
            None => format!("count(completed) < {}", seed % 3),
        }
    }
}

#[derive(Clone, Debug)]
pub enum Step {
    Enter {
        level: usize,
        at: Option<usize>,
        any: bool,
    },
    Checkpoint(usize),
    Write {
        field: usize,
        level: usize,
        value: i64,
        add: bool,
    },
    Moment(&'static str),
    /// `complete` by an exit, and one that is not there now and then.
    Exit(usize),
    /// Time passes, in milliseconds: what is left of one is not saved.
    Tick(u64),
    Reset(usize, usize),
    /// A level is made, removed, or handed from the player to themselves.
    Made(usize),
}

pub fn play(len: usize) -> impl Strategy<Value = Vec<Step>> {
    let moment = select(vec![
        "death",
        "death",
        "death",
        "restart",
        "complete",
        "complete",
        "travel",
        "abandon",
        "game_over",
        "new_run",
        "new_run",
        OWN,
        OWN_RUN,
    ]);
    let step = prop_oneof![
        4 => (0usize..6, option::weighted(0.2, 0usize..3), proptest::bool::weighted(0.7))
            .prop_map(|(level, at, any)| Step::Enter { level, at, any }),
        3 => (0usize..12).prop_map(Step::Checkpoint),
        6 => (0usize..7, 0usize..4, -50i64..70, any::<bool>())
            .prop_map(|(field, level, value, add)| Step::Write { field, level, value, add }),
        4 => moment.prop_map(Step::Moment),
        1 => (0usize..4).prop_map(Step::Exit),
        1 => (0u64..70).prop_map(Step::Tick),
        1 => (0usize..9, 0usize..7).prop_map(|(what, which)| Step::Reset(what, which)),
        1 => (0usize..6).prop_map(Step::Made),
    ];
    vec(step, 0..len)
}

/// Returns what a step did, or the words in which it was refused.
pub fn apply(sketch: &Sketch, game: &mut Progress, step: &Step) -> Result<Option<Outcome>, String> {
    let moment = |result: Result<Outcome, vestigum_core::Refused>| result.map(Some).map_err(|error| error.to_string());
    match step {
        Step::Enter { level, at, any } => {
            let level = sketch.any_level(*level);
            let at = at.map(|at| format!("stop_{at}"));
            moment(match (any, &at) {
                (true, at) => game.enter_any(&level, at.as_deref()),
                (false, None) => game.enter(&level),
                (false, Some(at)) => game.enter_at(&level, at),
            })
        }
        Step::Checkpoint(at) => {
            // One more than there are: a checkpoint that is not there is asked for now and then.
            let listed = match game.place() {
                Place::InLevel { level, .. } => (0..sketch.levels.len()).find(|index| sketch.level(*index) == *level),
                Place::Menu | Place::RunOver => None,
            };
            let count = listed.map_or(0, |index| sketch.levels[index]);
            moment(game.checkpoint(format!("stop_{}", at % (count + 1))))
        }
        Step::Write { field, level, value, add } => {
            let index = field % (sketch.fields.len() + 1);
            let Some(field) = sketch.fields.get(index) else {
                let kind = Value::text(format!("k{}", value.rem_euclid(2)));
                return game.write("kind_now", &[], kind).map(|_| None).map_err(|error| error.to_string());
            };
            let entries = sketch.entries(field);
            // Without entries, as with no checkpoint anywhere, the write is refused.
            let keys: Vec<&str> = match entries.get((level * 7 + *value as usize % 5) % entries.len().max(1)) {
                Some(keys) => keys.iter().map(String::as_str).collect(),
                None => vec!["nowhere", "at all"],
            };
            write(game, &format!("f{index}"), &keys, field.ty, *value, *add)
        }
        Step::Reset(what, which) => {
            let field = || format!("f{}", which % sketch.fields.len());
            let entries = || sketch.entries(&sketch.fields[which % sketch.fields.len()]);
            let reset = match what {
                0 | 1 => Reset::Level(sketch.any_level(*which)),
                2 => Reset::Run,
                3 => Reset::Profile,
                4 => Reset::Device,
                5 => Reset::Everything,
                6 => Reset::Field { name: field(), keys: entries().into_iter().last().unwrap_or_default() },
                _ => Reset::Field { name: field(), keys: Vec::new() },
            };
            game.reset(&reset).map(|_| None).map_err(|error| error.to_string())
        }
        Step::Made(n) => {
            let level = format!("made_{}", n % 2 + 1);
            let done = match n {
                0..3 => game.make_level().map(|_| ()),
                3..5 => game.remove_level(&level).map(|_| ()),
                _ => game.export_level(&level).and_then(|text| game.import_level(&text)).map(|_| ()),
            };
            done.map(|()| None).map_err(|error| error.to_string())
        }
        Step::Exit(exit) => moment(game.complete_by(format!("way_{exit}"))),
        Step::Tick(passed) => {
            let passed = std::time::Duration::from_millis(*passed);
            game.tick(passed).map(|_| None).map_err(|error| error.to_string())
        }
        Step::Moment(name) => moment(match *name {
            "death" => game.death(),
            "restart" => game.restart(),
            "complete" => game.complete(),
            "travel" => game.travel(),
            "abandon" => game.abandon(),
            "game_over" => game.game_over(),
            "new_run" => game.new_run(),
            own => game.own_moment(own),
        }),
    }
}

/// Plays all steps; what is refused is passed over.
pub fn apply_all(sketch: &Sketch, game: &mut Progress, steps: &[Step]) {
    for step in steps {
        let _ = apply(sketch, game, step);
    }
}

fn write(
    game: &mut Progress,
    name: &str,
    keys: &[&str],
    ty: &str,
    n: i64,
    add: bool,
) -> Result<Option<Outcome>, String> {
    let floats = |count: i64| Value::List((0..count).map(|k| Value::from((n + k) as f64 / 4.0)).collect());
    let text = || Value::text(format!("w{}", n.rem_euclid(6)));
    let value = match ty {
        "bool" => Value::Bool(n % 2 == 0),
        "int" => Value::Int(n),
        "float" => Value::from(match n.rem_euclid(29) {
            0 => f64::NAN,
            1 => f64::INFINITY,
            2 => -0.0,
            _ => n as f64 / 4.0,
        }),
        "vec2" => floats(2),
        "vec3" => floats(3),
        "choice" => Value::text(["a", "b", "c"][n.rem_euclid(3) as usize]),
        "list of int" | "ranking of int" => Value::List(vec![Value::Int(n), Value::Int(1)].into()),
        "set of text" => Value::List(vec![text()].into()),
        "map of int" => Value::Map([("x".into(), Value::Int(n))].into_iter().collect()),
        "thing" => Value::Map([("n".into(), Value::Int(n)), ("name".into(), text())].into_iter().collect()),
        _ => text(),
    };
    let being = || {
        Value::Map(
            [
                ("level".into(), Value::Int(n)),
                ("kind".into(), Value::text(["a", "b", "c"][n.rem_euclid(3) as usize])),
                ("note".into(), text()),
            ]
            .into_iter()
            .collect(),
        )
    };
    let value = match ty {
        "being" => being(),
        "list of being" | "ranking of being" => Value::List(vec![being(), being()].into()),
        _ => value,
    };
    let level = [Part::member("level")];
    let of_item = [Part::Item(n.rem_euclid(3) as usize), Part::member("level")];
    let written = match (ty, add) {
        ("being", true) => game.edit(name, keys, &level, Edit::Add(Value::Int(n))),
        ("list of being" | "ranking of being", true) if n % 2 == 0 => game.insert(name, keys, being()),
        ("list of being" | "ranking of being", true) => game.edit(name, keys, &of_item, Edit::Raise(Value::Int(n))),
        ("list of int" | "ranking of int", true) => game.insert(name, keys, Value::Int(n)),
        ("set of text", true) if n % 3 == 0 => game.remove(name, keys, text()),
        ("set of text", true) => game.insert(name, keys, text()),
        ("map of int", true) => game.insert_at(name, keys, "y", Value::Int(n)),
        (_, true) => game.write_add(name, keys, value),
        (_, false) => game.write(name, keys, value),
    };
    written.map(|_| None).map_err(|error| error.to_string())
}

/// An image as a store gives it back: through its bytes, with its blobs.
pub fn written_and_read(image: &Image) -> Image {
    let mut read = Image::from_json(&image.to_json()).expect("what was written can be read");
    read.find_blobs(|blob| image.blobs.get(&blob.digest).cloned());
    read
}

/// Every value of the game by name, `completed` and `opened` included.
pub fn values(sketch: &Sketch, game: &Progress) -> Vec<(String, Value)> {
    let mut out = Vec::new();
    let mut read = |name: String, keys: &[String]| {
        let keys: Vec<&str> = keys.iter().map(String::as_str).collect();
        let value = game.value(&name, &keys).unwrap_or_default();
        out.push((if keys.is_empty() { name } else { format!("{name}[{}]", keys.join(", ")) }, value));
    };
    for (index, field) in sketch.fields.iter().enumerate() {
        for keys in sketch.entries(field) {
            read(format!("f{index}"), &keys);
        }
    }
    read("kind_now".into(), &[]);
    for level in 0..sketch.levels.len() + sketch.made {
        let of = [sketch.any_level(level)];
        read("completed".into(), &of);
        read("opened".into(), &of);
        if sketch.made > 0 {
            read("made".into(), &of);
        }
    }
    out
}
