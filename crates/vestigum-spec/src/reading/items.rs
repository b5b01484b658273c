//! What is asked of the items of a container: `sum(team.health)`, `any(team.health > 0)`.
//!
//! Inside the brackets the name of the container stands for each of its items.

use crate::codes;
use crate::model::node::Node;
use crate::reading::compile::{Compiler, Typed};
use crate::syntax::parse::{Ast, AstKind, Operator};
use crate::value::Value;
use crate::value::types::Type;
use crate::vocabulary::function::{Aggregate, Function, General, Quantifier};

/// Describes what a name stands for inside the brackets of a function over items.
#[derive(Clone)]
pub(crate) struct EachItem {
    /// The container as it was written; none where the names of the item's members stand alone.
    pub container: Option<Ast>,
    pub ty: Type,
}

impl EachItem {
    /// Returns whether an expression names the container.
    pub(crate) fn stands_for(&self, ast: &Ast) -> bool {
        self.container.as_ref().is_some_and(|container| container.says_as(ast))
    }
}

/// The container that the brackets name.
pub(crate) struct Container {
    ast: Ast,
    item: Type,
}

impl Container {
    /// Says whether its items are true or false.
    pub(super) fn is_of_bools(&self) -> bool {
        self.item == Type::Bool
    }
}

impl Compiler<'_> {
    /// `sum(team.health)` and its like.
    pub(super) fn over_items(&mut self, over: Aggregate, container: Container, argument: &Ast) -> Option<Typed> {
        let Container { ast, item } = container;
        let (node, _) = self.node(&ast)?;
        let name = self.slice(ast.span);
        let outside = self.each.replace(EachItem { container: Some(ast), ty: item });
        let another = self.container_in(argument);
        let typed = match over {
            _ if another.is_some() => another.and_then(|other| {
                let message = format!("`{}` is a container as well as `{name}`", self.slice(other.ast.span));
                let error = self.error(codes::WRONG_TYPE, other.ast.span, message);
                self.fail(error.help("the items of one container are asked at a time; join two such calls with `and`"))
            }),
            Aggregate::Count => self.of_type(argument, &Type::Bool).map(|each| (each, Type::Bool)),
            Aggregate::Sum | Aggregate::Highest | Aggregate::Lowest | Aggregate::Size => self.node(argument),
        };
        self.each = outside;
        let (each, ty) = typed?;
        let (fits, result) = match over {
            Aggregate::Sum => (ty.is_number(), ty.clone()),
            Aggregate::Highest | Aggregate::Lowest => (ty.is_ordered(), ty.clone()),
            Aggregate::Count => (true, Type::Int),
            Aggregate::Size => {
                let error = self.error(codes::WRONG_TYPE, argument.span, "`size` counts the entries of a keyed field");
                return self.fail(error.help(format!("`len({name})` tells how many items there are")));
            }
        };
        if !fits {
            return self.wrong_type(argument, &ty, "a number of each item");
        }
        Some((Node::Items(over, Box::new(node), Box::new(each), result.clone()), result))
    }

    /// `any(…)` and `all(…)`: of the items of a container, or of the entries of a field or derived value.
    pub(super) fn quantified(&mut self, quantifier: Quantifier, argument: &Ast) -> Option<Typed> {
        let compared = |operator, left, right| Node::Binary(operator, Box::new(left), Box::new(right));
        let none = || Node::Const(Value::Int(0));
        if let AstKind::Name(name) = &argument.kind
            && self.is_keyed_name(name)
        {
            let (count, _) = self.over(Aggregate::Count, argument)?;
            let (size, _) = self.over(Aggregate::Size, argument)?;
            if self.type_of_entries(name) != Some(Type::Bool) {
                let message = format!("`{}` asks what is true or false, and `{name}` is neither", quantifier.word());
                let error = self.error(codes::WRONG_TYPE, argument.span, message);
                return self.fail(error.help("give the condition a name under [derived], with the same `per`"));
            }
            let node = match quantifier {
                Quantifier::Any => compared(Operator::Above, count, none()),
                Quantifier::All => compared(Operator::Equal, count, size),
            };
            return Some((node, Type::Bool));
        }
        if matches!(&argument.kind, AstKind::Name(name) if self.was_reported(name)) {
            return None;
        }
        let Some(container) = self.container_in(argument) else {
            let word = quantifier.word();
            let message = format!("`{word}` asks the items of a list, a set or a map, and none is named here");
            let error = self.error(codes::WRONG_TYPE, argument.span, message);
            return self.fail(error.help("name it where one of its items is meant, as in `any(team.health > 0)`"));
        };
        let (count, _) = self.over_items(Aggregate::Count, container, argument)?;
        let node = match (quantifier, count) {
            (Quantifier::All, Node::Items(over, container, each, ty)) => {
                let fails = Box::new(Node::Not(each));
                compared(Operator::Equal, Node::Items(over, container, fails, ty), none())
            }
            (_, count) => compared(Operator::Above, count, none()),
        };
        Some((node, Type::Bool))
    }

    /// The first container whose items an expression speaks of.
    pub(super) fn container_in(&self, ast: &Ast) -> Option<Container> {
        match &ast.kind {
            AstKind::Literal(_) => None,
            AstKind::Name(_) => self.as_container(ast),
            AstKind::Keyed(..) => self.as_container(ast).or_else(|| self.container_below(ast)),
            AstKind::Member(of, _) => self.container_in(of).or_else(|| self.as_container(ast)),
            AstKind::Not(inner) | AstKind::Negative(inner) => self.container_in(inner),
            AstKind::Binary(_, left, right) => self.container_in(left).or_else(|| self.container_in(right)),
            AstKind::List(items) => items.iter().find_map(|item| self.container_in(item)),
            AstKind::Struct(members) => members.iter().find_map(|(_, item)| self.container_in(item)),
            AstKind::Call(function, arguments) => match Function::named(function)? {
                Function::General(General::If | General::Max | General::Min)
                | Function::Table(_)
                | Function::Rounded(_) => arguments.iter().find_map(|argument| self.container_in(argument)),
                // What these take is meant as a whole.
                Function::General(General::Len) => self.container_below(arguments.first()?),
                Function::General(General::Has | General::PlaceIn) => {
                    let [container, item] = &arguments[..] else { return None };
                    self.container_below(container).or_else(|| self.container_in(item))
                }
                // The container as it was.
                Function::General(General::Was | General::Entry | General::Checkpoint) => self.as_container(ast),
                Function::General(General::Open | General::Filled)
                | Function::Aggregate(_)
                | Function::Quantified(_) => None,
            },
        }
    }

    /// The container on the way to something that is itself meant as a whole.
    fn container_below(&self, ast: &Ast) -> Option<Container> {
        match &ast.kind {
            AstKind::Member(of, _) => self.container_in(of),
            AstKind::Keyed(of, _) => self.container_below(of),
            AstKind::Literal(_)
            | AstKind::Name(_)
            | AstKind::Not(_)
            | AstKind::Negative(_)
            | AstKind::Binary(..)
            | AstKind::List(_)
            | AstKind::Struct(_)
            | AstKind::Call(..) => None,
        }
    }

    /// The container that a name means, if it means one.
    fn as_container(&self, ast: &Ast) -> Option<Container> {
        let item = self.type_of(ast)?.inner()?.clone();
        Some(Container { ast: ast.clone(), item })
    }

    /// The type of what a name, its keys and its members lead to. Nothing is compiled for it, so looking costs no more than the
    /// text is long; what is wrong is said where it is compiled.
    fn type_of(&self, ast: &Ast) -> Option<Type> {
        if let Some(each) = self.each.as_ref().filter(|each| each.stands_for(ast)) {
            return Some(each.ty.clone());
        }
        match &ast.kind {
            AstKind::Name(name) => self.type_of_entries(name),
            AstKind::Keyed(of, keys) => {
                let ty = self.type_of(of)?;
                let is_entry = match &of.kind {
                    AstKind::Name(name) => self.names_an_entry(name, keys),
                    _ => false,
                };
                match ty {
                    ty if is_entry => Some(ty),
                    Type::List(item) | Type::Map(item) => Some((*item).clone()),
                    _ => None,
                }
            }
            AstKind::Member(of, member) => match self.type_of(of)? {
                Type::Struct(of) => Some(of.members[of.position(member)?].ty.clone()),
                _ => None,
            },
            AstKind::Call(function, arguments) => match (Function::named(function)?, &arguments[..]) {
                (Function::General(General::Was | General::Entry | General::Checkpoint), [of]) => self.type_of(of),
                _ => None,
            },
            AstKind::Literal(_)
            | AstKind::List(_)
            | AstKind::Struct(_)
            | AstKind::Not(_)
            | AstKind::Negative(_)
            | AstKind::Binary(..) => None,
        }
    }
}
