//! Why a level is locked: what is missing, as a tree that a game can put into its own words.

use std::fmt;
use std::sync::Arc;

use crate::evaluation::Env;
use crate::evaluation::NodeValue;
use crate::evaluation::judge::ExpressionValue;
use crate::evaluation::judge::Judged;
use crate::outcome::Refused;
use crate::progress::Progress;
use vestigum_spec::model::Model;
use vestigum_spec::model::expression::{Clause, Expression, Part};
use vestigum_spec::model::level::Opening;
use vestigum_spec::model::node::{EntryRef, Node, ReadAt};
use vestigum_spec::syntax::Operator;
use vestigum_spec::syntax::{Token, tokens};
use vestigum_spec::value::Value;

/// Describes what is missing before a level opens. What holds already is left out.
///
/// It is shown as a text made of titles and labels; a game that speaks another language makes its own of the parts.
///
/// ```
/// use vestigum_core::{LockReason, Progress, Spec};
///
/// let spec = Spec::from_toml(r#"
///     [game]
///     id = "fellpost"
///     [levels]
///     order = ["mill_lane"]
///     [level.mill_lane]
///     title = "Mill Lane"
///     [level.tarn]
///     opens = "completed[mill_lane] and stars >= 4"
///     [field.stars]
///     type = "int"
///     lasts = "profile"
///     after_failure = "keep"
///     label = "stars"
/// "#)?;
/// let game = Progress::fresh(&spec);
/// let lock = game.lock_reason("tarn")?.expect("it is locked");
/// assert_eq!(lock.to_string(), "complete Mill Lane; 4 stars, 0 so far");
/// assert!(matches!(lock, LockReason::All(parts) if matches!(parts[0], LockReason::Complete { .. })));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug, PartialEq)]
pub enum LockReason {
    /// All of these are missing.
    All(Vec<LockReason>),
    /// One of these suffices.
    Any(Vec<LockReason>),
    /// A level has to be completed.
    Complete {
        /// The level.
        level: Arc<str>,
        /// Its title.
        title: String,
    },
    /// A level has to be left by an exit.
    Exit {
        /// The level.
        level: Arc<str>,
        /// Its title.
        title: String,
        /// The exit.
        exit: Arc<str>,
    },
    /// A value has to be another one.
    Needs {
        /// The field or derived value, as the spec names it: `stars`, `count(completed)`.
        what: String,
        /// Says what players call it.
        label: Arc<str>,
        /// Says how the value and what is needed are compared.
        by: Comparison,
        /// Says what is needed.
        needed: Value,
        /// Says what there is.
        has: Value,
    },
    /// Something else that the spec says no label for: the condition as it was written, and the values in it.
    Condition {
        /// The condition.
        text: String,
        /// Each name in it and its value.
        values: Vec<(String, Value)>,
    },
    /// Something that names a hidden level.
    Hidden,
    /// No player has made it.
    NotMade,
    /// Nothing: it opens at the next moment outside a level.
    Soon,
}

/// Describes how a value is compared with what is needed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Comparison {
    /// It has to be at least that.
    AtLeast,
    /// It has to be more.
    Above,
    /// It may be that at the most.
    AtMost,
    /// It has to be less.
    Below,
    /// It has to be exactly that.
    Equal,
}

impl Comparison {
    /// The sign for it in expressions.
    pub const fn sign(self) -> &'static str {
        match self {
            Comparison::AtLeast => ">=",
            Comparison::Above => ">",
            Comparison::AtMost => "<=",
            Comparison::Below => "<",
            Comparison::Equal => "==",
        }
    }
}

impl fmt::Display for LockReason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            LockReason::All(locks) => joined(f, locks, "; "),
            LockReason::Any(locks) => joined(f, locks, ", or "),
            LockReason::Complete { title, .. } => write!(f, "complete {title}"),
            LockReason::Exit { title, exit, .. } => write!(f, "leave {title} by its exit `{exit}`"),
            LockReason::Needs { label, needed: Value::Bool(true), .. } => f.write_str(label),
            LockReason::Needs { label, by, needed, has, .. } => match by {
                Comparison::AtLeast => write!(f, "{needed} {label}, {has} so far"),
                Comparison::Above => write!(f, "more than {needed} {label}, {has} so far"),
                Comparison::AtMost => write!(f, "{needed} {label} at the most, now {has}"),
                Comparison::Below => write!(f, "fewer than {needed} {label}, now {has}"),
                Comparison::Equal => write!(f, "{label}: {needed}, now {has}"),
            },
            LockReason::Condition { text, values } => {
                write!(f, "needs {text}")?;
                match &values[..] {
                    // A name that is not true says so by being named.
                    [] | [(_, Value::Bool(_))] => Ok(()),
                    [(_, value)] => write!(f, ", has {value}"),
                    values => values.iter().try_for_each(|(name, value)| write!(f, ", {name} is {value}")),
                }
            }
            LockReason::Hidden => f.write_str("something that is not found yet"),
            LockReason::NotMade => f.write_str("no level is made there"),
            LockReason::Soon => f.write_str("it opens at the next moment outside a level"),
        }
    }
}

fn joined(f: &mut fmt::Formatter<'_>, locks: &[LockReason], between: &str) -> fmt::Result {
    for (index, lock) in locks.iter().enumerate() {
        let (open, close) = match lock {
            LockReason::All(_) | LockReason::Any(_) => ("(", ")"),
            LockReason::Complete { .. }
            | LockReason::Exit { .. }
            | LockReason::Needs { .. }
            | LockReason::Condition { .. }
            | LockReason::Hidden
            | LockReason::NotMade
            | LockReason::Soon => ("", ""),
        };
        write!(f, "{}{open}{lock}{close}", if index == 0 { "" } else { between })?;
    }
    Ok(())
}

/// Describes who is told why a level is locked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Audience {
    /// Players, who are not to hear of what is hidden.
    Players,
    Tools,
}

impl Progress {
    /// Returns what is missing before a level opens; none if it is open.
    ///
    /// # Errors
    /// If there is no such level.
    pub fn lock_reason(&self, level: &str) -> Result<Option<LockReason>, Refused> {
        self.lock_told_to(Audience::Players, level)
    }

    /// Says why a level is locked and names hidden levels, too: for tools.
    ///
    /// # Errors
    /// If there is no such level.
    pub fn full_lock_reason(&self, level: &str) -> Result<Option<LockReason>, Refused> {
        self.lock_told_to(Audience::Tools, level)
    }

    fn lock_told_to(&self, audience: Audience, level: &str) -> Result<Option<LockReason>, Refused> {
        let found = self.model.find_level(level);
        let index = found.map_err(|nearest| Refused::UnknownLevel { name: level.to_owned(), nearest })?;
        Ok((!self.is_open(index)).then(|| self.lock_of(audience, index)))
    }

    /// Returns whether the board leaves a level out.
    pub(crate) fn is_hidden(&self, level: u32) -> bool {
        let hidden = self.model.hidden.get(level as usize).and_then(Option::as_ref);
        hidden.is_some_and(|condition| condition.holds(&self.env()))
    }

    fn is_secret(&self, audience: Audience, level: u32) -> bool {
        match audience {
            Audience::Players => self.is_hidden(level),
            Audience::Tools => false,
        }
    }

    /// Returns what is missing before a locked level opens.
    pub(crate) fn lock_of(&self, audience: Audience, level: u32) -> LockReason {
        let spec = &*self.model;
        let own = match spec.opening(level) {
            Opening::Always => LockReason::Soon,
            Opening::After(before) => self.completing(audience, *before),
            Opening::When(condition) => self.missing(audience, condition).unwrap_or(LockReason::Soon),
            Opening::ByExit => return any_of(self.exits_to(audience, level)),
            Opening::Made if !self.state.has_level(spec, level) => return LockReason::NotMade,
            Opening::Made => LockReason::Soon,
        };
        let ways = match own {
            LockReason::Soon => return own,
            LockReason::Any(ways) => ways,
            own => vec![own],
        };
        any_of(ways.into_iter().chain(self.exits_to(audience, level)).collect())
    }

    fn completing(&self, audience: Audience, level: u32) -> LockReason {
        if self.is_secret(audience, level) {
            return LockReason::Hidden;
        }
        let of = self.model.level(level);
        LockReason::Complete { level: of.id.clone(), title: self.title_of(level) }
    }

    /// The exits that lead to a level, each once, and something hidden once for all that are.
    fn exits_to(&self, audience: Audience, level: u32) -> Vec<LockReason> {
        let mut locks: Vec<LockReason> = Vec::new();
        for index in self.model.level(level).entrances.iter().copied() {
            let from = self.model.level(index);
            for (exit, _) in from.exits.iter().filter(|(_, to)| *to == level) {
                let lock = if self.is_secret(audience, index) {
                    LockReason::Hidden
                } else {
                    LockReason::Exit { level: from.id.clone(), title: from.title().to_owned(), exit: exit.clone() }
                };
                if !locks.contains(&lock) {
                    locks.push(lock);
                }
            }
        }
        locks
    }

    /// Returns what is missing before a condition holds; nothing if it holds.
    fn missing(&self, audience: Audience, condition: &Expression) -> Option<LockReason> {
        let env = self.env();
        let judged = condition.judge(&env);
        let locks: Vec<Option<LockReason>> = condition
            .parts
            .all
            .iter()
            .zip(judged)
            .map(|(part, judged)| (!judged.holds).then(|| self.part_missing(audience, &env, part, judged)))
            .collect();
        missing(&condition.parts.clause, &locks)
    }

    fn part_missing(&self, audience: Audience, env: &Env<'_>, part: &Part, judged: Judged) -> LockReason {
        let spec = &*self.model;
        if let Node::Read(ReadAt::Now, field, EntryRef::Slot(slot)) = &part.node
            && *field == spec.completed
        {
            return self.completing(audience, (slot - spec.field(*field).first_slot) as u32);
        }
        if self.names_hidden(audience, &part.source) {
            return LockReason::Hidden;
        }
        needed(spec, env, part).unwrap_or(LockReason::Condition { text: judged.part, values: judged.values })
    }

    /// Returns whether a text names a level that is hidden.
    fn names_hidden(&self, audience: Audience, text: &str) -> bool {
        let hidden = |name: &str| self.model.find_level(name).is_ok_and(|level| self.is_secret(audience, level));
        tokens(text).unwrap_or_default().iter().any(|(token, _)| match token {
            Token::Name(name) => hidden(name),
            Token::Text(text) => hidden(text),
            Token::Int(_) | Token::Beyond | Token::Float(_) | Token::Symbol(_) => false,
        })
    }
}

/// One of several ways, or the only one there is.
fn any_of(mut locks: Vec<LockReason>) -> LockReason {
    if locks.len() == 1 { locks.remove(0) } else { LockReason::Any(locks) }
}

fn missing(clause: &Clause, parts: &[Option<LockReason>]) -> Option<LockReason> {
    match clause {
        Clause::Part(index) => parts.get(*index).cloned().flatten(),
        Clause::All(clauses) => {
            let mut locks: Vec<LockReason> = Vec::new();
            for lock in clauses.iter().filter_map(|clause| missing(clause, parts)) {
                match lock {
                    LockReason::All(inner) => locks.extend(inner),
                    lock => locks.push(lock),
                }
            }
            locks.dedup();
            match locks.len() {
                0 => None,
                1 => locks.pop(),
                _ => Some(LockReason::All(locks)),
            }
        }
        Clause::Any(clauses) => {
            let mut locks = Vec::new();
            for clause in clauses {
                match missing(clause, parts)? {
                    LockReason::Any(inner) => locks.extend(inner),
                    lock => locks.push(lock),
                }
            }
            locks.dedup();
            Some(any_of(locks))
        }
    }
}

/// A value that is compared with a certain one, or a truth value that has to hold, where a label says what it is.
fn needed(spec: &Model, env: &Env<'_>, part: &Part) -> Option<LockReason> {
    let (value, by, needed) = match &part.node {
        Node::Binary(operator, left, right) => match (&**left, &**right) {
            (value, Node::Const(needed)) => (value, comparison(*operator)?, needed.clone()),
            (Node::Const(needed), value) => (value, turned(comparison(*operator)?), needed.clone()),
            _ => return None,
        },
        value => (value, Comparison::Equal, Value::Bool(true)),
    };
    let label = label(spec, value)?;
    let what = part.leaves.first().map_or_else(|| part.source.to_string(), |(name, _)| name.to_string());
    Some(LockReason::Needs { what, label, by, needed, has: value.value(env) })
}

fn comparison(operator: Operator) -> Option<Comparison> {
    match operator {
        Operator::AtLeast => Some(Comparison::AtLeast),
        Operator::Above => Some(Comparison::Above),
        Operator::AtMost => Some(Comparison::AtMost),
        Operator::Below => Some(Comparison::Below),
        Operator::Equal => Some(Comparison::Equal),
        Operator::Unequal
        | Operator::And
        | Operator::Or
        | Operator::Plus
        | Operator::Minus
        | Operator::Times
        | Operator::Divide => None,
    }
}

/// Returns the comparison with its sides changed.
fn turned(by: Comparison) -> Comparison {
    match by {
        Comparison::AtLeast => Comparison::AtMost,
        Comparison::Above => Comparison::Below,
        Comparison::AtMost => Comparison::AtLeast,
        Comparison::Below => Comparison::Above,
        Comparison::Equal => Comparison::Equal,
    }
}

/// Returns what players call a value: the label of its field or of the derived value. Of one entry a label says too little: "3 stars" are
/// those of all levels, not of the one that is meant.
fn label(spec: &Model, node: &Node) -> Option<Arc<str>> {
    match node {
        Node::Read(ReadAt::Now, field, _) => Some(spec.field(*field)).filter(|of| !of.is_keyed())?.label.clone(),
        Node::Aggregate(_, field) => spec.field(*field).label.clone(),
        Node::Derived(index) => Some(&spec.derived[*index as usize]).filter(|of| !of.is_of_key)?.label.clone(),
        Node::Wide(inner) => label(spec, inner),
        _ => None,
    }
}
