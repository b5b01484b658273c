//! Which values a question can depend on.
//!
//! A field matters if the question reads it, if an opening or `over_when` does, or if a rule of a field that matters reads
//! it in a guard or an operand, or to find the key it touches. All others can be left out of what tells two states
//! apart: two states that agree on everything that matters, and in their place, go on to agree whatever is played, and
//! answer the question alike. A source matters if it gives to a field that does; the others need not be taken at all.

use rustc_hash::FxHashSet;

use crate::expression::Expression;
use crate::fate::Deed;
use crate::spec::{FieldId, Opening, Spec, SpecData};

/// The fields and sources that matter to a question.
#[derive(Clone, Debug)]
pub(super) struct Cone {
    /// All slots of the fields that matter, in order.
    pub slots: Vec<usize>,
    /// Which sources matter.
    pub sources: Vec<bool>,
}

impl Cone {
    /// `counters` are the fields that count how often a source was taken.
    pub fn of(spec: &Spec, counters: &[FieldId], asked: impl IntoIterator<Item = FieldId>) -> Cone {
        let data = &*spec.0;
        let mut matter: FxHashSet<FieldId> = asked.into_iter().chain([data.completed, data.opened]).collect();
        for level in &data.levels {
            if let Opening::When(condition) = &level.opens {
                matter.extend(condition.reads());
            }
        }
        matter.extend(data.over_when.iter().flat_map(|over_when| over_when.reads().iter().copied()));
        let currents = data.key_sets.iter().filter_map(|set| set.current.as_ref().map(|(field, _)| *field));
        matter.extend(currents);
        let mut waiting: Vec<FieldId> = matter.iter().copied().collect();
        while let Some(field) = waiting.pop() {
            for read in read_by_rules(data, spec, field) {
                if matter.insert(read) {
                    waiting.push(read);
                }
            }
        }
        let sources: Vec<bool> =
            data.sources.iter().map(|source| source.gives.iter().any(|gift| matter.contains(&gift.field))).collect();
        let taken = counters.iter().zip(&sources).filter(|(_, matters)| **matters).map(|(counter, _)| *counter);
        matter.extend(taken);
        let fields = data.fields.iter().filter(|field| matter.contains(&field.id));
        Cone { slots: fields.flat_map(|field| field.slots()).collect(), sources }
    }
}

fn read_by_rules(data: &SpecData, spec: &Spec, field: FieldId) -> Vec<FieldId> {
    let mut read = Vec::new();
    let mut add = |expression: &Expression| read.extend_from_slice(expression.reads());
    for moment in spec.moments() {
        for rule in &data.plan.fate(field, moment).rules {
            rule.when.iter().for_each(&mut add);
            if let Deed::Operation(_, operand) = &rule.does {
                add(operand);
            }
        }
    }
    read
}
