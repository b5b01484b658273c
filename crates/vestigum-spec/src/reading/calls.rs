//! The functions of the language.

use crate::codes;
use crate::model::field::RANKING;
use crate::model::node::{Node, ReadAt};
use crate::reading::compile::{Compiler, DerivedKey, Typed};
use crate::reading::items::Container;
use crate::syntax::parse::{Ast, AstKind};
use crate::value::types::Type;
use crate::vocabulary::fate::Operation;
use crate::vocabulary::function::{Aggregate, Function, General, TableFunction};

impl Compiler<'_> {
    pub(super) fn call(&mut self, word: &str, arguments: &[Ast], ast: &Ast) -> Option<Typed> {
        let Some(function) = Function::named(word) else {
            let error = self
                .error(codes::UNKNOWN_NAME, ast.span, format!("there is no function `{word}`"))
                .suggest(word, Function::all().map(Function::word));
            return self.fail(error);
        };
        let wanted = function.takes(arguments.len());
        if arguments.len() != wanted {
            let s = if wanted == 1 { "" } else { "s" };
            let message = format!("`{word}` takes {wanted} argument{s}, found {}", arguments.len());
            let error = self.error(codes::EXPRESSION, ast.span, message);
            return self.fail(error);
        }
        match function {
            Function::Aggregate(over) => self.over(over, &arguments[0]),
            Function::Quantified(quantifier) => self.quantified(quantifier, &arguments[0]),
            Function::Table(steps) => self.steps(steps, arguments),
            Function::Rounded(whole) => {
                let (number, _) = self.number(&arguments[0])?;
                Some((Node::Rounded(whole, Box::new(number)), Type::Int))
            }
            Function::General(General::Max) => self.extreme(true, arguments),
            Function::General(General::Min) => self.extreme(false, arguments),
            Function::General(General::If) => {
                let condition = self.of_type(&arguments[0], &Type::Bool);
                let (yes, no, ty) = self.pair(&arguments[1], &arguments[2])?;
                Some((Node::If(Box::new([condition?, yes, no])), ty))
            }
            Function::General(General::Len) => {
                let (node, ty) = self.node(&arguments[0])?;
                if !ty.has_length() || matches!(ty, Type::Struct(_)) {
                    return self.wrong_type(&arguments[0], &ty, "a text, bytes or a container");
                }
                Some((Node::Len(Box::new(node)), Type::Int))
            }
            Function::General(General::Has) => {
                let (node, ty) = self.node(&arguments[0])?;
                let Some(asked) = ty.asked_item() else {
                    return self.wrong_type(&arguments[0], &ty, "a set, a map or a list");
                };
                let item = self.of_type(&arguments[1], asked)?;
                Some((Node::Has(Box::new(node), Box::new(item)), Type::Bool))
            }
            Function::General(General::PlaceIn) => self.place(&arguments[0], &arguments[1]),
            Function::General(General::Open) => {
                let level = self.level("open", &arguments[0])?;
                self.reads.push(self.spec.opened);
                Some((Node::Open(level), Type::Bool))
            }
            Function::General(General::Filled) => {
                let (field, entry) = self.field_entry("filled", &arguments[0])?;
                Some((Node::Filled(field.id, entry), Type::Bool))
            }
            Function::General(General::Was) => self.was(&arguments[0], ast.span),
            Function::General(General::Entry) => self.mark(ReadAt::Entry, word, &arguments[0], ast.span),
            Function::General(General::Checkpoint) => self.mark(ReadAt::Checkpoint, word, &arguments[0], ast.span),
        }
    }

    pub(super) fn over(&mut self, over: Aggregate, argument: &Ast) -> Option<Typed> {
        let keyed = match &argument.kind {
            AstKind::Name(name) => match self.spec.find_field(name) {
                Some(field) => field.is_keyed().then_some(field),
                None => match self.spec.derived_ids.get(name.as_str()).and_then(|id| self.spec.keyed_derived(*id)) {
                    Some(each) => return self.over_derived(over, each, argument),
                    None if self.was_reported(name) => return None,
                    None if self.spec.derived_ids.contains_key(name.as_str()) => None,
                    None => return self.unknown_name(name, argument.span),
                },
            },
            _ => None,
        };
        let Some(field) = keyed else {
            let alone = matches!(over, Aggregate::Count | Aggregate::Size) && matches!(argument.kind, AstKind::Name(_));
            // Bools are counted as they are: those that are true.
            let counts = |container: &Container| over == Aggregate::Count && container.is_of_bools();
            if let Some(container) = self.container_in(argument).filter(|of| !alone || counts(of)) {
                return self.over_items(over, container, argument);
            }
            let function = over.word();
            if let AstKind::Name(name) = &argument.kind
                && let Some(container) = self.spec.find_field(name).filter(|field| field.ty.has_length())
                && matches!(over, Aggregate::Count | Aggregate::Size)
            {
                let message =
                    format!("`{function}` counts the entries of a keyed field, and `{name}` is a {}", container.ty);
                let error = self.error(codes::WRONG_TYPE, argument.span, message);
                return self.fail(error.help(format!("`len({name})` tells how much is in it")));
            }
            let message = format!(
                "`{function}` takes a field that has a value for each level or key, or the items of a container"
            );
            let error = self.error(codes::WRONG_TYPE, argument.span, message).help(
                "write the field without a key, as in `sum(stars)`, or name the container, as in `sum(team.health)`",
            );
            return self.fail(error);
        };
        self.may_read(field, argument.span)?;
        self.reads.push(field.id);
        let ty = match over {
            Aggregate::Sum | Aggregate::Highest | Aggregate::Lowest => field.ty.clone(),
            Aggregate::Count | Aggregate::Size => Type::Int,
        };
        let fits = match over {
            Aggregate::Sum => ty.is_number(),
            Aggregate::Highest | Aggregate::Lowest => ty.is_ordered(),
            Aggregate::Count | Aggregate::Size => true,
        };
        if !fits {
            return self.wrong_type(argument, &ty, "a field of numbers");
        }
        Some((Node::Aggregate(over, field.id), ty))
    }

    /// `place_in(best_walks, { … })`: which place the entry would take, counted from 1; 0 if it would not come in.
    fn place(&mut self, ranking: &Ast, entry: &Ast) -> Option<Typed> {
        let (field, slot) = self.field_entry("place_in", ranking)?;
        let Some(order) = field.limits.ranking.clone() else {
            let message = format!("`place_in` takes a ranking, and `{}` is of type {}", field.name, field.ty);
            let error = self.error(codes::WRONG_TYPE, ranking.span, message);
            return self.fail(error.help(format!("declare it as `{RANKING} of …`, with `by`")));
        };
        let entry = self.of_type(entry, field.operand_type(Operation::Rank))?;
        let read = Node::Read(ReadAt::Now, field.id, slot);
        Some((Node::Place(Box::new(read), Box::new(entry), order), Type::Int))
    }

    fn extreme(&mut self, highest: bool, arguments: &[Ast]) -> Option<Typed> {
        let typed: Vec<Option<Typed>> = arguments.iter().map(|argument| self.number(argument)).collect();
        let typed: Vec<Typed> = typed.into_iter().collect::<Option<_>>()?;
        let float = typed.iter().any(|(_, ty)| *ty == Type::Float);
        let widen = |(node, ty): Typed| if float && ty == Type::Int { Node::Wide(Box::new(node)) } else { node };
        let nodes = typed.into_iter().map(widen).collect();
        let node = if highest { Node::Highest(nodes) } else { Node::Lowest(nodes) };
        Some((node, if float { Type::Float } else { Type::Int }))
    }

    /// `grade(x, table)` and its like.
    fn steps(&mut self, steps: TableFunction, arguments: &[Ast]) -> Option<Typed> {
        let (x, ty) = self.number(&arguments[0])?;
        let tables = &self.spec.tables;
        let named = match &arguments[1].kind {
            AstKind::Name(name) => tables.iter().position(|table| *table.name == **name).ok_or(name.as_str()),
            _ => Err(""),
        };
        let index = match named {
            Ok(index) => index,
            Err(name) => {
                let error = self
                    .error(codes::UNKNOWN_NAME, arguments[1].span, "the name of a table is wanted here")
                    .help("tables are declared under [table.NAME]")
                    .suggest(name, tables.iter().map(|table| &*table.name));
                return self.fail(error);
            }
        };
        let table = &tables[index];
        if table.falling && steps != TableFunction::Grade {
            let message = format!("`{}` falls, so there is no way from one step to the next", table.name);
            let error = self.error(codes::WRONG_TYPE, arguments[1].span, message);
            return self.fail(error.help("`grade` works on falling tables, `into` and `needed` only on rising ones"));
        }
        let float = table.float || ty == Type::Float;
        let x = if float && ty == Type::Int { Node::Wide(Box::new(x)) } else { x };
        let result = if float && steps != TableFunction::Grade { Type::Float } else { Type::Int };
        let level = self.scope.derived_key().and_then(DerivedKey::level);
        Some((Node::Table(steps, Box::new(x), index as u32, level), result))
    }
}
