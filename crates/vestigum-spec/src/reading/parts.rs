//! A condition in parts, for messages that tell which of them failed, and with what values.

use std::sync::Arc;

use crate::model::expression::{Clause, Part};
use crate::model::node::Node;
use crate::reading::compile::Compiler;
use crate::syntax::parse::{Ast, AstKind, Operator};
use crate::vocabulary::function::{Function, General};

impl Compiler<'_> {
    /// Splits a condition at its `and` and `or`, for messages that tell which part failed.
    pub(super) fn parts(&mut self, ast: &Ast, parts: &mut Vec<Part>) -> Clause {
        if let AstKind::Binary(operator @ (Operator::And | Operator::Or), left, right) = &ast.kind {
            let both = vec![self.parts(left, parts), self.parts(right, parts)];
            return if *operator == Operator::And { Clause::All(both) } else { Clause::Any(both) };
        }
        let read_before = self.reads.len();
        let Some((node, _)) = self.node(ast) else { return Clause::All(Vec::new()) };
        let reads = self.reads[read_before..].to_vec();
        let mut leaves = Vec::new();
        self.leaves(ast, &mut leaves);
        leaves.dedup_by(|a, b| a.0 == b.0);
        parts.push(Part { source: self.slice(ast.span), node, leaves, reads });
        Clause::Part(parts.len() - 1)
    }

    fn leaves(&mut self, ast: &Ast, leaves: &mut Vec<(Arc<str>, Node)>) {
        let mut leaf = |this: &mut Self| {
            if let Some((node, _)) = this.node(ast) {
                leaves.push((this.slice(ast.span), node));
            }
        };
        match &ast.kind {
            AstKind::Literal(_) | AstKind::List(_) | AstKind::Struct(_) => {}
            AstKind::Name(_) | AstKind::Keyed(..) | AstKind::Member(..) => leaf(self),
            AstKind::Call(function, arguments) => {
                leaf(self);
                if matches!(
                    Function::named(function),
                    Some(
                        Function::General(General::If)
                            | Function::General(General::Max)
                            | Function::General(General::Min)
                            | Function::Table(_)
                            | Function::Rounded(_)
                    )
                ) {
                    for argument in arguments {
                        if !self.is_table(argument) {
                            self.leaves(argument, leaves);
                        }
                    }
                }
            }
            AstKind::Not(inner) | AstKind::Negative(inner) => self.leaves(inner, leaves),
            AstKind::Binary(..) => {
                let mut rights = Vec::new();
                let mut first = ast;
                while let AstKind::Binary(_, left, right) = &first.kind {
                    rights.push(&**right);
                    first = left;
                }
                self.leaves(first, leaves);
                rights.into_iter().rev().for_each(|right| self.leaves(right, leaves));
            }
        }
    }

    fn is_table(&self, ast: &Ast) -> bool {
        matches!(&ast.kind, AstKind::Name(name) if self.spec.tables.iter().any(|table| *table.name == **name))
    }
}
