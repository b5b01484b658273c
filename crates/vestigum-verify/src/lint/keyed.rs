//! Finds what was meant for one key of a set, and goes to all of them.

use vestigum_core::{Diagnostic, Moment};
use vestigum_spec::codes;
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::{Axis, KeySet};
use vestigum_spec::model::fates::{Effect, Rule};
use vestigum_spec::vocabulary::fate::Operation;

use super::Finding;
use super::warnings::Declared;

impl Declared<'_> {
    /// A rule that gives every key of a set the same value, because nothing says which key the moment is about.
    pub(super) fn every_key(&self) -> Option<Diagnostic> {
        let Declared { spec, field, .. } = *self;
        let meant = |axis: &Axis| match axis {
            Axis::Keys(set) => Some(&spec.key_sets[*set as usize]),
            Axis::Level | Axis::Checkpoint => None,
        };
        let unnamed = |set: &&KeySet| set.current.is_none() && set.max.is_none() && set.names.len() > 1;
        let set = field.axes.iter().filter_map(meant).find(unnamed)?;
        // What begins anew begins with all keys.
        let begins = |moment: Moment| match moment {
            Moment::Launch | Moment::NewRun | Moment::GameOver | Moment::OwnRun(_) => true,
            Moment::Enter
            | Moment::Checkpoint
            | Moment::Death
            | Moment::Restart
            | Moment::Complete
            | Moment::Travel
            | Moment::Abandon
            | Moment::Quit
            | Moment::Own(_) => false,
        };
        let writes = |rule: &Rule| match &rule.does {
            // More for all of them is something that games do.
            Effect::Operation(Operation::Set | Operation::Max | Operation::Min | Operation::Union, operand) => {
                !operand.is_literal(&field.default)
            }
            Effect::Operation(Operation::Add | Operation::Rank, _) | Effect::Plain(_) => false,
        };
        let moments = spec.moments().filter(|moment| !begins(*moment));
        let (moment, index) = moments.into_iter().find_map(|moment| Some((moment, self.rule(moment, writes)?)))?;
        let message = format!(
            "the rule at `{}` writes `{}` for every {}: nothing says which one is meant",
            spec.moment_name(moment),
            field.name,
            set.name
        );
        Some(
            Diagnostic::warning(codes::EVERY_KEY, self.rule_span(moment, index), message)
                .label(format!("this goes to all {} entries", set.names.len()))
                .help(format!("name a choice field in `[keys.{}] current`, or let play write the entry", set.name)),
        )
    }
}

/// Derived values per key set that have the same value for every key.
pub(super) fn same_for_every_key(spec: &Model) -> Vec<Finding> {
    let mut found = Vec::new();
    for (name, entry) in &spec.document.derived {
        let of = spec.derived.iter().zip(0..).find(|(derived, _)| *derived.name == *name.value && !derived.is_of_key);
        let Some((derived, index)) = of else { continue };
        let Some(Axis::Keys(set)) = derived.axis else { continue };
        let keys = index as usize - derived.keys as usize..index as usize;
        let mut nodes = spec.derived[keys].iter().map(|of_key| of_key.expression.node());
        let Some(first) = nodes.next() else { continue };
        if derived.keys < 2 || !nodes.all(|node| node == first) {
            continue;
        }
        let set = &spec.key_sets[set as usize].name;
        let message = format!("`{}` is the same for every {set}: its expression reads nothing of the key", name.value);
        let diagnostic = Diagnostic::warning(codes::SAME_FOR_EVERY_KEY, entry.value.span, message)
            .label(format!("no field that is read here is keyed by {set}"))
            .help("read a field `per` that set without a key, or leave `per` out");
        found.push(Finding { subject: name.value.clone(), diagnostic });
    }
    found
}
