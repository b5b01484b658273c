//! Rankings whose entries nobody can put a name to.

use vestigum_core::{Diagnostic, Moment, Type, Value};
use vestigum_spec::codes;
use vestigum_spec::model::fates::{Effect, Rule};
use vestigum_spec::model::node::{Made, Node};
use vestigum_spec::vocabulary::fate::Operation;

use super::warnings::Declared;

impl Declared<'_> {
    /// A text member that every rule leaves empty, in a ranking that play may not write.
    pub(super) fn nameless_ranking(&self) -> Option<Diagnostic> {
        let (Type::List(item), false) = (&self.field.ty, self.field.written_by.play()) else { return None };
        let Type::Struct(of) = &**item else { return None };
        let moments: Vec<Moment> = self.spec.moments().collect();
        let ranks: Vec<(Moment, usize, &Rule)> = moments
            .iter()
            .flat_map(|moment| self.rules(*moment).map(|(index, rule)| (*moment, index, rule)))
            .filter(|(_, _, rule)| matches!(rule.does, Effect::Operation(Operation::Rank, _)))
            .collect();
        let (moment, index, _) = *ranks.first()?;
        let texts = of.members().filter(|member| *member.ty() == Type::Text);
        let empty = texts
            .map(vestigum_spec::value::types::Member::name)
            .find(|name| ranks.iter().all(|(_, _, rule)| leaves(rule, name)))?;
        let name = self.field.name();
        let message =
            format!("nobody can enter `{empty}` of `{name}`: the rules leave it as it is, and play writes nothing");
        Some(
            Diagnostic::warning(codes::NAMELESS_RANKING, self.rule_span(moment, index), message)
                .label(format!("`{empty}` is not said here"))
                .help(format!("say `{empty}` in the rule, or let play enter it afterwards: `written_by = \"both\"`")),
        )
    }
}

/// Returns whether a rule gives a member no value of its own.
fn leaves(rule: &Rule, member: &str) -> bool {
    let Effect::Operation(_, operand) = &rule.does else { return true };
    let Node::Make(parts, Made::Named(_, names)) = operand.node() else { return false };
    let said = names.iter().zip(parts).find(|(name, _)| &***name == member);
    said.is_none_or(|(_, part)| matches!(part, Node::Const(Value::Text(text)) if text.is_empty()))
}
