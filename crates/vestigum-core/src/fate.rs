//! Fate: what a moment does to a field. This is the one place that decides it.
//!
//! For every field and moment there is exactly one fate, found in this order:
//!
//! 1. `on.<moment>` of the field: a rule, or a list of which the first whose `when` holds;
//! 2. if the moment ends the field's span: inside a level back to the entry mark, else to the default;
//! 3. if the moment is a failure: what the field's `after_failure` says;
//! 4. keep.
//!
//! [`FieldFate`] holds step 1 as [`FieldFate::rules`] and what is left of steps 2 to 4 as [`FieldFate::otherwise`]. The
//! runtime, the fate table and the checks all read the same `Plan`, which is worked out once when the spec is built.

use std::fmt;

use crate::expression::Expression;
use crate::moment::Moment;
use crate::spec::{Field, FieldId, Limits, Span};
use crate::value::{self, Value};

/// A fate without a price: it needs no operand.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Simple {
    /// The value stays.
    Keep,
    /// Back to the default.
    Reset,
    /// Back to what it was when the level was entered.
    Entry,
    /// Back to what it was at the last checkpoint; at the entry, until one was reached.
    Checkpoint,
}

impl Simple {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Simple::Keep => "keep",
            Simple::Reset => "reset",
            Simple::Entry => "entry",
            Simple::Checkpoint => "checkpoint",
        }
    }

    /// The fate that `word` names.
    pub fn from_word(word: &str) -> Option<Simple> {
        [Simple::Keep, Simple::Reset, Simple::Entry, Simple::Checkpoint].into_iter().find(|s| s.word() == word)
    }

    /// Whether it brings back a mark.
    pub fn rewinds(self) -> bool {
        matches!(self, Simple::Entry | Simple::Checkpoint)
    }
}

/// How an operand changes a value.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Operation {
    /// The operand replaces the value.
    Set,
    /// The operand is added.
    Add,
    /// The operand replaces the value if it is higher.
    Max,
    /// The operand replaces the value if it is lower.
    Min,
    /// The operand's values or entries are added to a set or map; its entries win.
    Union,
}

impl Operation {
    pub(crate) const ALL: [Operation; 5] =
        [Operation::Set, Operation::Add, Operation::Max, Operation::Min, Operation::Union];

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Operation::Set => "set",
            Operation::Add => "add",
            Operation::Max => "max",
            Operation::Min => "min",
            Operation::Union => "union",
        }
    }

    /// The new value, and whether a sum was cut at the end of what a number can be. `zero` is what an unfilled value
    /// counts as, where it must count as something.
    pub(crate) fn apply(self, old: &Value, operand: &Value, zero: &Value, limits: &Limits) -> (Value, bool) {
        let new = match self {
            Operation::Set => operand.clone(),
            Operation::Add => return value::sum(if old.is_filled() { old } else { zero }, operand),
            Operation::Max if !old.is_filled() || value::below(old, operand) => operand.clone(),
            Operation::Min if !old.is_filled() || value::below(operand, old) => operand.clone(),
            Operation::Max | Operation::Min => old.clone(),
            Operation::Union => return limits.united(if old.is_filled() { old } else { zero }, operand),
        };
        (new, false)
    }
}

/// What a rule does.
#[derive(Clone, Debug)]
pub enum Deed {
    /// A fate without an operand.
    Simple(Simple),
    /// A change by an operand.
    Operation(Operation, Expression),
}

impl Deed {
    /// The word for it.
    pub fn word(&self) -> &'static str {
        match self {
            Deed::Simple(simple) => simple.word(),
            Deed::Operation(change, _) => change.word(),
        }
    }
}

/// One rule of an `on` table.
#[derive(Clone, Debug)]
pub struct Rule {
    /// The condition under which it applies; without one it always does.
    pub when: Option<Expression>,
    /// What it does.
    pub does: Deed,
}

/// What one moment does to one field.
#[derive(Clone, Debug)]
pub struct FieldFate {
    /// The rules, of which the first whose condition holds decides.
    pub rules: Vec<Rule>,
    /// The fate where no rule decides, and of the entries that no rule touches.
    pub otherwise: Simple,
}

impl FieldFate {
    /// Whether nothing ever happens to the field here.
    pub fn is_keep(&self) -> bool {
        self.rules.is_empty() && self.otherwise == Simple::Keep
    }

    /// The fate if only rules without a price count: of a list the first rule, if it has no guard and no operand.
    /// `None` says that the rules have a price.
    pub(crate) fn without_price(&self) -> Option<Simple> {
        match self.rules.first() {
            None => Some(self.otherwise),
            Some(Rule { when: None, does: Deed::Simple(simple) }) => Some(*simple),
            Some(_) => None,
        }
    }
}

/// Steps 2 to 4 of the order: what happens where no rule decides.
pub(crate) fn otherwise(lasts: Span, after_failure: Option<Simple>, moment: Moment) -> Simple {
    if moment.ends(lasts) {
        if moment.stays_in_level() { Simple::Entry } else { Simple::Reset }
    } else if moment.is_failure() {
        after_failure.unwrap_or(Simple::Keep)
    } else {
        Simple::Keep
    }
}

/// The fates of all fields at all moments, worked out once.
#[derive(Debug, Default)]
pub(crate) struct Plan {
    fields: usize,
    /// Moment × field.
    fates: Vec<FieldFate>,
    /// For each moment the fields to which something can happen.
    busy: Vec<Vec<FieldId>>,
    /// For each moment the attempt and visit fields that are set back, in the order of the spec.
    set_back: Vec<Vec<FieldId>>,
}

impl Plan {
    /// Lays out the plan. `rules` takes the rules of a field at a moment.
    pub fn new(
        fields: &[Field],
        moments: impl Iterator<Item = Moment>,
        mut rules: impl FnMut(FieldId, Moment) -> Vec<Rule>,
    ) -> Plan {
        let mut plan = Plan { fields: fields.len(), ..Plan::default() };
        for moment in moments {
            let mut busy = Vec::new();
            let mut set_back = Vec::new();
            for field in fields {
                let fate = FieldFate {
                    rules: rules(field.id, moment),
                    otherwise: otherwise(field.lasts, field.after_failure, moment),
                };
                if !fate.is_keep() {
                    busy.push(field.id);
                }
                if field.needs_level() && fate.without_price().is_some_and(|simple| simple != Simple::Keep) {
                    set_back.push(field.id);
                }
                plan.fates.push(fate);
            }
            plan.busy.push(busy);
            plan.set_back.push(set_back);
        }
        plan
    }

    pub fn fate(&self, field: FieldId, moment: Moment) -> &FieldFate {
        // Nothing happens to a field that the spec does not have, or at a moment that it does not have.
        static KEEP: FieldFate = FieldFate { rules: Vec::new(), otherwise: Simple::Keep };
        let known = (field.0 as usize) < self.fields;
        let at = moment.index() * self.fields + field.0 as usize;
        self.fates.get(at).filter(|_| known).unwrap_or(&KEEP)
    }

    pub fn busy(&self, moment: Moment) -> impl Iterator<Item = (FieldId, &FieldFate)> {
        self.busy[moment.index()].iter().map(move |id| (*id, self.fate(*id, moment)))
    }

    pub fn set_back(&self, moment: Moment) -> &[FieldId] {
        &self.set_back[moment.index()]
    }
}

/// The fate that a change in an outcome came from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Fate {
    /// A fate without an operand: the end of a span, `after_failure`, or a plain rule.
    Simple(Simple),
    /// A rule with an operand.
    Operation(Operation),
    /// A level opened.
    Opened,
}

impl Fate {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Fate::Simple(simple) => simple.word(),
            Fate::Operation(change) => change.word(),
            Fate::Opened => "opened",
        }
    }
}

impl fmt::Display for Fate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.word())
    }
}
