//! From a tree to nodes: names get their meaning and types are checked, before anything runs.

use std::sync::Arc;

use crate::codes;
use crate::diagnostic::{Diagnostic, SourceSpan};
use crate::moment::Moment;
use crate::spec::{Field, FieldId, Span, SpecData};
use crate::value::{Type, Value};

use super::eval::{Entry, From, Node, Over};
use super::syntax::{Ast, Kind, Operator, parse};
use super::{Expression, Part};

/// Where an expression stands, which decides what it may read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Scope {
    /// `opens`: no level is meant; only run, profile and device fields.
    Opens,
    /// `over_when`: no level is meant; no session field.
    OverWhen,
    /// A rule at a moment.
    Rule(Moment),
    /// A derived value: it needs a level if what it reads does.
    Derived,
    /// `expect` and the values that a playthrough writes: a level is meant where play is in one.
    Play,
}

impl Scope {
    fn has_level(self) -> bool {
        match self {
            Scope::Opens | Scope::OverWhen => false,
            Scope::Rule(moment) => moment.has_level(),
            Scope::Derived | Scope::Play => true,
        }
    }

    fn has_marks(self) -> bool {
        matches!(self, Scope::Rule(moment) if moment.has_marks())
    }
}

/// Compiles `text` to an expression of type `wanted`, or of any type. `place` says where a piece of the text stands in
/// the document.
pub(crate) fn compile(
    spec: &SpecData,
    scope: Scope,
    text: &str,
    wanted: Option<&Type>,
    place: &dyn Fn(SourceSpan) -> SourceSpan,
    errors: &mut Vec<Diagnostic>,
) -> Option<Expression> {
    let ast = match parse(text) {
        Ok(ast) => ast,
        Err(unreadable) => {
            let error = Diagnostic::error(codes::EXPRESSION, place(unreadable.span), unreadable.message);
            errors.push(match unreadable.help {
                Some(help) => error.help(help),
                None => error,
            });
            return None;
        }
    };
    let mut compiler = Compiler { spec, scope, text, place, errors, needs_level: None, reads: Vec::new() };
    let (node, ty) = compiler.node(&ast)?;
    let (node, ty) = match wanted {
        Some(wanted) => (compiler.coerce(node, &ty, wanted, &ast)?, wanted.clone()),
        None => (node, ty),
    };
    let mut parts = Vec::new();
    if ty == Type::Bool {
        compiler.parts(&ast, &mut parts);
    }
    let Compiler { needs_level, mut reads, .. } = compiler;
    reads.sort_unstable();
    reads.dedup();
    Some(Expression { source: text.into(), node, ty, needs_level, reads, parts })
}

struct Compiler<'a> {
    spec: &'a SpecData,
    scope: Scope,
    text: &'a str,
    place: &'a dyn Fn(SourceSpan) -> SourceSpan,
    errors: &'a mut Vec<Diagnostic>,
    needs_level: Option<Arc<str>>,
    reads: Vec<FieldId>,
}

type Typed = (Node, Type);

impl<'a> Compiler<'a> {
    fn fail<T>(&mut self, error: Diagnostic) -> Option<T> {
        self.errors.push(error);
        None
    }

    fn error(&self, code: &'static str, span: SourceSpan, message: impl Into<String>) -> Diagnostic {
        Diagnostic::error(code, (self.place)(span), message)
    }

    fn wrong_type<T>(&mut self, ast: &Ast, found: &Type, wanted: &str) -> Option<T> {
        let error = self
            .error(codes::WRONG_TYPE, ast.span, format!("{wanted} is wanted here, and this is {}", a(found)))
            .label(found.to_string());
        self.fail(error)
    }

    fn coerce(&mut self, node: Node, found: &Type, wanted: &Type, ast: &Ast) -> Option<Node> {
        match (found, wanted) {
            (found, wanted) if found == wanted => Some(node),
            (Type::Int, Type::Float) => Some(Node::Wide(Box::new(node))),
            _ => self.wrong_type(ast, found, &a(wanted)),
        }
    }

    fn bool(&mut self, ast: &Ast) -> Option<Node> {
        let (node, ty) = self.node(ast)?;
        self.coerce(node, &ty, &Type::Bool, ast)
    }

    fn number(&mut self, ast: &Ast) -> Option<Typed> {
        let (node, ty) = self.node(ast)?;
        if ty.is_number() { Some((node, ty)) } else { self.wrong_type(ast, &ty, "a number") }
    }

    /// Two operands brought to one type.
    fn pair(&mut self, left: &Ast, right: &Ast) -> Option<(Node, Node, Type)> {
        let left_typed = self.node(left);
        let (b, b_ty) = self.node(right)?;
        let (a, a_ty) = left_typed?;
        match (&a_ty, &b_ty) {
            (x, y) if x == y => Some((a, b, a_ty)),
            (Type::Int, Type::Float) => Some((Node::Wide(Box::new(a)), b, Type::Float)),
            (Type::Float, Type::Int) => Some((a, Node::Wide(Box::new(b)), Type::Float)),
            _ => self.wrong_type(right, &b_ty, &self::a(&a_ty)),
        }
    }

    fn node(&mut self, ast: &Ast) -> Option<Typed> {
        match &ast.kind {
            Kind::Literal(value) => Some((Node::Const(value.clone()), value.ty()?)),
            Kind::Name(name) => self.name(name, ast),
            Kind::Keyed(name, keys) => self.keyed(From::Now, name, keys, ast.span),
            Kind::Call(function, arguments) => self.call(function, arguments, ast),
            Kind::Not(inner) => Some((Node::Not(Box::new(self.bool(inner)?)), Type::Bool)),
            Kind::Negative(inner) => {
                let (node, ty) = self.number(inner)?;
                Some((Node::Negative(Box::new(node)), ty))
            }
            Kind::Binary(operator, left, right) => self.binary(*operator, left, right),
        }
    }

    fn binary(&mut self, operator: Operator, left: &Ast, right: &Ast) -> Option<Typed> {
        let boxed = |a, b| Node::Binary(operator, Box::new(a), Box::new(b));
        match operator {
            Operator::And | Operator::Or => {
                let a = self.bool(left);
                let b = self.bool(right)?;
                Some((boxed(a?, b), Type::Bool))
            }
            Operator::Equal | Operator::Unequal => {
                let (a, b, _) = self.pair(left, right)?;
                Some((boxed(a, b), Type::Bool))
            }
            Operator::Below | Operator::AtMost | Operator::Above | Operator::AtLeast => {
                let (a, b, ty) = self.pair(left, right)?;
                if !ty.is_ordered() {
                    return self.wrong_type(left, &ty, "something that has an order");
                }
                Some((boxed(a, b), Type::Bool))
            }
            Operator::Plus | Operator::Minus | Operator::Times | Operator::Over => {
                let (a, b, ty) = self.pair(left, right)?;
                if !ty.is_number() {
                    return self.wrong_type(left, &ty, "a number");
                }
                let zero_or_unknown = match &right.kind {
                    Kind::Literal(value) => value.as_float() == 0.0,
                    _ => true,
                };
                if operator == Operator::Over && zero_or_unknown {
                    let error = self
                        .error(codes::EXPRESSION, right.span, "only a number other than zero can stand after `/`")
                        .help("nothing a spec says can fail while the game runs, so no divisor is computed");
                    return self.fail(error);
                }
                Some((boxed(a, b), ty))
            }
        }
    }

    fn name(&mut self, name: &str, ast: &Ast) -> Option<Typed> {
        let built_in = match name {
            "level" => (Node::Level, Type::Text),
            "checkpoint" => (Node::Checkpoint, Type::Text),
            "level_index" => (Node::LevelIndex, Type::Int),
            "checkpoint_index" => (Node::CheckpointIndex, Type::Int),
            _ => return self.declared(From::Now, name, ast.span),
        };
        Some(built_in)
    }

    /// A field or a derived value, without a key.
    fn declared(&mut self, from: From, name: &str, span: SourceSpan) -> Option<Typed> {
        if let Some(field) = self.spec.find_field(name) {
            let entry = if field.per_level {
                self.level_is_meant(name, span)?;
                Entry::Subject
            } else {
                Entry::Slot(field.first_slot)
            };
            return self.read(from, field, entry, span);
        }
        let Some(index) = self.spec.derived_ids.get(name).copied() else {
            return self.unknown_name(name, span);
        };
        // A derived value that could not be compiled was reported where it stands.
        let derived = self.spec.derived.get(index as usize)?;
        if derived.expression.needs_level() {
            self.level_is_meant(name, span)?;
        }
        for read in &derived.expression.reads {
            self.may_read(self.spec.field(*read), span)?;
        }
        self.reads.extend_from_slice(&derived.expression.reads);
        Some((Node::Derived(index), derived.expression.ty.clone()))
    }

    fn unknown_name<T>(&mut self, name: &str, span: SourceSpan) -> Option<T> {
        let mut error = self.error(codes::UNKNOWN_NAME, span, format!("nothing is called `{name}`"));
        error = if self.spec.level_ids.contains_key(name) {
            error.label("this is a level").help(format!("put a level in brackets, as in `completed[{name}]`"))
        } else {
            let fields = self.spec.fields.iter().map(|field| &*field.name);
            let derived = self.spec.derived_ids.keys().map(|name| &**name);
            let built_in = ["level", "checkpoint", "level_index", "checkpoint_index", "true", "false"];
            error.suggest(name, fields.chain(derived).chain(built_in))
        };
        self.fail(error)
    }

    fn level_is_meant(&mut self, name: &str, span: SourceSpan) -> Option<()> {
        if !self.scope.has_level() {
            let numbers = self.spec.find_field(name).is_some_and(|field| field.ty.is_number());
            let all = if numbers { "sum" } else { "count" };
            let example = self.spec.levels.first().map_or("LEVEL", |level| &level.id);
            let error = self
                .error(
                    codes::NO_LEVEL,
                    span,
                    format!("`{name}` has a value for each level, and no level is meant here"),
                )
                .label("which level?")
                .help(format!("name one, as in `{name}[{example}]`, or take them all, as in `{all}({name})`"));
            return self.fail(error);
        }
        self.needs_level.get_or_insert_with(|| name.into());
        Some(())
    }

    fn read(&mut self, from: From, field: &Field, entry: Entry, span: SourceSpan) -> Option<Typed> {
        self.may_read(field, span)?;
        self.reads.push(field.id);
        Some((Node::Read(from, field.id, entry), field.ty.clone()))
    }

    fn may_read(&mut self, field: &Field, span: SourceSpan) -> Option<()> {
        let name = &field.name;
        let lasts = field.lasts;
        let why = match self.scope {
            Scope::Opens if matches!(lasts, Span::Attempt | Span::Visit | Span::Session) => {
                format!("`opens` cannot read `{name}`, which lasts {} {lasts}", lasts.article())
            }
            Scope::OverWhen if lasts == Span::Session => {
                format!("`over_when` cannot read `{name}`, which lasts a session")
            }
            Scope::Rule(Moment::Launch | Moment::NewRun | Moment::Enter) if field.needs_level() => {
                format!("`{name}` lasts {} {lasts}, and there is none before this moment", lasts.article())
            }
            _ => return Some(()),
        };
        let help = match self.scope {
            Scope::Opens => "read a run, profile or device field: what was written at `complete`, say",
            Scope::OverWhen => "a launch clears session fields, so quitting would undo the game over",
            _ => "read a field that lives longer",
        };
        let error = self.error(codes::OUT_OF_REACH, span, why).help(help);
        self.fail(error)
    }

    fn keyed(&mut self, from: From, name: &str, keys: &[Ast], span: SourceSpan) -> Option<Typed> {
        let Some(field) = self.spec.find_field(name) else { return self.unknown_name(name, span) };
        let entry = self.entry(field, keys, span)?;
        self.read(from, field, entry, span)
    }

    fn entry(&mut self, field: &Field, keys: &[Ast], span: SourceSpan) -> Option<Entry> {
        let name = &field.name;
        if !field.per_level {
            let error = self
                .error(codes::WRONG_TYPE, span, format!("`{name}` has one value, so it takes no key"))
                .help("to give it a value for each level, declare it with `per = \"level\"`");
            return self.fail(error);
        }
        let [key] = keys else {
            let message = format!("`{name}` takes one key, a level; here are {}", keys.len());
            let error = self.error(codes::WRONG_TYPE, span, message);
            return self.fail(error);
        };
        let level = self.level(name, key)?;
        Some(match level {
            Some(level) => Entry::Slot(field.slot_of_level(level)),
            None => Entry::Subject,
        })
    }

    /// A level by name; `level` itself means the moment's.
    fn level(&mut self, of: &str, ast: &Ast) -> Option<Option<u32>> {
        let Kind::Name(name) = &ast.kind else {
            let error = self.error(codes::WRONG_TYPE, ast.span, "the name of a level is wanted here");
            return self.fail(error);
        };
        if name == "level" {
            self.level_is_meant(of, ast.span)?;
            return Some(None);
        }
        match self.spec.level_ids.get(name.as_str()) {
            Some(level) => Some(Some(*level)),
            None => {
                let error = self
                    .error(codes::UNKNOWN_NAME, ast.span, format!("no level is called `{name}`"))
                    .suggest(name, self.spec.levels.iter().map(|level| &*level.id));
                self.fail(error)
            }
        }
    }

    /// A field that stands alone or with a key, as `filled(f)` and `entry(f)` take it.
    fn field_entry(&mut self, function: &str, ast: &Ast) -> Option<(&'a Field, Entry)> {
        let (name, keys) = match &ast.kind {
            Kind::Name(name) => (name, None),
            Kind::Keyed(name, keys) => (name, Some(keys)),
            _ => {
                let error = self.error(codes::WRONG_TYPE, ast.span, format!("`{function}` takes a field"));
                return self.fail(error);
            }
        };
        let spec = self.spec;
        let Some(field) = spec.find_field(name) else { return self.unknown_name(name, ast.span) };
        let entry = match keys {
            Some(keys) => self.entry(field, keys, ast.span)?,
            None if field.per_level => {
                self.level_is_meant(name, ast.span)?;
                Entry::Subject
            }
            None => Entry::Slot(field.first_slot),
        };
        self.may_read(field, ast.span)?;
        self.reads.push(field.id);
        Some((field, entry))
    }

    fn call(&mut self, function: &str, arguments: &[Ast], ast: &Ast) -> Option<Typed> {
        let count = |this: &mut Self, wanted: usize| {
            if arguments.len() == wanted {
                return Some(());
            }
            let s = if wanted == 1 { "" } else { "s" };
            let message = format!("`{function}` takes {wanted} argument{s}, here are {}", arguments.len());
            let error = this.error(codes::EXPRESSION, ast.span, message);
            this.fail(error)
        };
        match function {
            "sum" | "highest" | "lowest" | "count" => {
                count(self, 1)?;
                self.over(function, &arguments[0])
            }
            "max" | "min" => {
                if arguments.len() < 2 {
                    return count(self, 2).and(None);
                }
                self.extreme(function == "max", arguments)
            }
            "if" => {
                count(self, 3)?;
                let condition = self.bool(&arguments[0]);
                let (yes, no, ty) = self.pair(&arguments[1], &arguments[2])?;
                Some((Node::If(Box::new([condition?, yes, no])), ty))
            }
            "len" => {
                count(self, 1)?;
                let (node, ty) = self.node(&arguments[0])?;
                if ty != Type::Text {
                    return self.wrong_type(&arguments[0], &ty, "a text");
                }
                Some((Node::Len(Box::new(node)), Type::Int))
            }
            "open" => {
                count(self, 1)?;
                let level = self.level("open", &arguments[0])?;
                self.reads.push(self.spec.opened);
                Some((Node::Open(level), Type::Bool))
            }
            "filled" => {
                count(self, 1)?;
                let (field, entry) = self.field_entry("filled", &arguments[0])?;
                Some((Node::Filled(field.id, entry), Type::Bool))
            }
            "entry" | "checkpoint" => {
                count(self, 1)?;
                self.mark(function, &arguments[0], ast.span)
            }
            _ => {
                let known = [
                    "sum",
                    "highest",
                    "lowest",
                    "count",
                    "max",
                    "min",
                    "if",
                    "len",
                    "open",
                    "filled",
                    "entry",
                    "checkpoint",
                ];
                let error = self
                    .error(codes::UNKNOWN_NAME, ast.span, format!("there is no function `{function}`"))
                    .suggest(function, known);
                self.fail(error)
            }
        }
    }

    fn over(&mut self, function: &str, argument: &Ast) -> Option<Typed> {
        let keyed = match &argument.kind {
            Kind::Name(name) => match self.spec.find_field(name) {
                Some(field) => field.per_level.then_some(field),
                None => return self.unknown_name(name, argument.span),
            },
            _ => None,
        };
        let Some(field) = keyed else {
            let error = self
                .error(
                    codes::WRONG_TYPE,
                    argument.span,
                    format!("`{function}` takes a field that has a value for each level"),
                )
                .help("write the field without a key, as in `sum(stars)`");
            return self.fail(error);
        };
        self.may_read(field, argument.span)?;
        self.reads.push(field.id);
        let (over, ty) = match function {
            "sum" => (Over::Sum, field.ty.clone()),
            "highest" => (Over::Highest, field.ty.clone()),
            "lowest" => (Over::Lowest, field.ty.clone()),
            _ => (Over::Count, Type::Int),
        };
        if over != Over::Count && !ty.is_number() {
            return self.wrong_type(argument, &ty, "a field of numbers");
        }
        Some((Node::Over(over, field.id), ty))
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

    fn mark(&mut self, function: &str, argument: &Ast, span: SourceSpan) -> Option<Typed> {
        if !self.scope.has_marks() {
            let error = self
                .error(
                    codes::OUT_OF_REACH,
                    span,
                    format!("`{function}(…)` means something only in rules inside a level"),
                )
                .help("use it in `on` rules of checkpoint, death, restart, complete, travel or abandon");
            return self.fail(error);
        }
        let (field, entry) = self.field_entry(function, argument)?;
        if !field.rewinds {
            let message = format!("`{}` is never rewound, so no mark holds it", field.name);
            let error = self
                .error(codes::OUT_OF_REACH, argument.span, message)
                .help("give it `after_failure = \"entry\"` or `\"checkpoint\"`, or read it as it is now");
            return self.fail(error);
        }
        let from = if function == "entry" { From::Entry } else { From::Checkpoint };
        Some((Node::Read(from, field.id, entry), field.ty.clone()))
    }

    /// Splits a condition at its `and` and `or`, for messages that tell which part failed.
    fn parts(&mut self, ast: &Ast, parts: &mut Vec<Part>) {
        if let Kind::Binary(Operator::And | Operator::Or, left, right) = &ast.kind {
            self.parts(left, parts);
            self.parts(right, parts);
            return;
        }
        let read_before = self.reads.len();
        let Some((node, _)) = self.node(ast) else { return };
        let reads = self.reads[read_before..].to_vec();
        let mut leaves = Vec::new();
        self.leaves(ast, &mut leaves);
        leaves.dedup_by(|a, b| a.0 == b.0);
        parts.push(Part { source: self.slice(ast.span), node, leaves, reads });
    }

    fn leaves(&mut self, ast: &Ast, leaves: &mut Vec<(Arc<str>, Node)>) {
        match &ast.kind {
            Kind::Literal(_) => {}
            Kind::Name(_) | Kind::Keyed(..) => {
                if let Some((node, _)) = self.node(ast) {
                    leaves.push((self.slice(ast.span), node));
                }
            }
            Kind::Call(function, arguments) => {
                if let Some((node, _)) = self.node(ast) {
                    leaves.push((self.slice(ast.span), node));
                }
                if matches!(function.as_str(), "if" | "max" | "min" | "len") {
                    arguments.iter().for_each(|argument| self.leaves(argument, leaves));
                }
            }
            Kind::Not(inner) | Kind::Negative(inner) => self.leaves(inner, leaves),
            Kind::Binary(_, left, right) => {
                self.leaves(left, leaves);
                self.leaves(right, leaves);
            }
        }
    }

    fn slice(&self, span: SourceSpan) -> Arc<str> {
        self.text.get(span.start..span.end).unwrap_or_default().into()
    }
}

fn article(word: &str) -> &'static str {
    if word.starts_with(['a', 'e', 'i', 'o', 'u']) { "an" } else { "a" }
}

fn a(ty: &Type) -> String {
    let word = ty.to_string();
    format!("{} {word}", article(&word))
}

/// How a literal of a document reads as a value of `ty`, if it does.
pub(crate) fn literal_of(ty: &Type, value: Value) -> Option<Value> {
    match (ty, value) {
        (Type::Float, value @ Value::Int(_)) => Some(value.widened()),
        (ty, value) if value.ty().as_ref() == Some(ty) => Some(value),
        _ => None,
    }
}
