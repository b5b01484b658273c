//! From a tree to nodes: names get their meaning and types are checked, before anything runs.
//!
//! This room holds operators, names and literals; [`super::entries`] finds the entry that a name means, and
//! [`super::calls`] knows the functions.

use std::sync::Arc;

use crate::codes;
use crate::diagnostic::{Diagnostic, SourceSpan};
use crate::model::Readable;
use crate::model::expression::{Clause, Expression, Parts};
use crate::model::field::{Field, FieldId};
use crate::model::node::{Made, Node};
use crate::reading::items::EachItem;
use crate::syntax::parse::{Ast, AstKind, Operator, parse};
use crate::value::Value;
use crate::value::types::{Member, Type};
use crate::vocabulary::function::{Function, General};
use crate::vocabulary::moment::Moment;
use crate::vocabulary::span::Span;

/// Describes where an expression stands, which decides what it may read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Scope {
    /// `opens`: no level is meant; only run, profile and device fields.
    Opens,
    /// `over_when`: no level is meant; no session field.
    OverWhen,
    /// `run` of `[merge]`: no level is meant; only run and profile fields.
    Merge,
    /// A rule at a moment.
    Rule(Moment),
    /// A derived value: it needs a level if what it reads does.
    Derived,
    /// A derived value for one key.
    DerivedOf(DerivedKey),
    /// `expect` and the values that a playthrough writes: a level is meant where play is in one.
    Play,
    /// A promise: whether a level and its marks are there, and whether there is a state before it.
    Promise {
        /// Whether it may speak of a level.
        level: bool,
        /// Whether it may read the marks.
        marks: bool,
        /// Whether it may read the state before the moment.
        before: bool,
    },
    /// A fill of a migration, over the values of the version before: whether the entry that is filled belongs to a level,
    /// and the key sets that it has a key of.
    Fill {
        /// Whether the entry is one of a level.
        level: bool,
        /// The key sets of the entry.
        sets: [Option<u32>; 3],
    },
}

/// The key for which a derived value is worked out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DerivedKey {
    /// A level.
    Level(u32),
    /// A key set and its key.
    Key(u32, u32),
}

impl DerivedKey {
    /// The level, if it is one.
    pub fn level(self) -> Option<u32> {
        match self {
            DerivedKey::Level(level) => Some(level),
            DerivedKey::Key(..) => None,
        }
    }
}

impl Scope {
    /// The key for which a derived value is worked out, if that is what stands here.
    pub(super) fn derived_key(self) -> Option<DerivedKey> {
        match self {
            Scope::DerivedOf(key) => Some(key),
            Scope::Opens
            | Scope::OverWhen
            | Scope::Merge
            | Scope::Rule(_)
            | Scope::Derived
            | Scope::Play
            | Scope::Promise { .. }
            | Scope::Fill { .. } => None,
        }
    }

    pub(super) fn has_level(self) -> bool {
        match self {
            Scope::Opens | Scope::OverWhen | Scope::Merge => false,
            Scope::Rule(moment) => moment.has_level(),
            Scope::Derived | Scope::Play => true,
            Scope::DerivedOf(key) => key.level().is_some(),
            Scope::Promise { level, .. } | Scope::Fill { level, .. } => level,
        }
    }

    pub(super) fn has_marks(self) -> bool {
        match self {
            Scope::Rule(moment) => moment.has_marks(),
            Scope::Promise { marks, .. } => marks,
            Scope::Opens
            | Scope::OverWhen
            | Scope::Merge
            | Scope::Derived
            | Scope::DerivedOf(_)
            | Scope::Play
            | Scope::Fill { .. } => false,
        }
    }
}

/// Compiles `text` to an expression of type `wanted`, or of any type. `place` says where a piece of the text stands in
/// the document.
pub fn compile(
    spec: &Readable,
    scope: Scope,
    text: &str,
    wanted: Option<&Type>,
    place: &dyn Fn(SourceSpan) -> SourceSpan,
    errors: &mut Vec<Diagnostic>,
) -> Option<Expression> {
    compile_with(spec, scope, text, wanted, place, errors, None)
}

pub(super) fn compile_with(
    spec: &Readable,
    scope: Scope,
    text: &str,
    wanted: Option<&Type>,
    place: &dyn Fn(SourceSpan) -> SourceSpan,
    errors: &mut Vec<Diagnostic>,
    each: Option<EachItem>,
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
    let mut compiler =
        Compiler { spec, scope, text, place, errors, needs_level: None, reads: Vec::new(), derived: Vec::new(), each };
    let (node, ty) = match wanted {
        Some(wanted) => (compiler.of_type(&ast, wanted)?, wanted.clone()),
        None => compiler.node(&ast)?,
    };
    let mut parts = Vec::new();
    let clause = if ty == Type::Bool { compiler.parts(&ast, &mut parts) } else { Clause::All(Vec::new()) };
    let Compiler { needs_level, mut reads, mut derived, .. } = compiler;
    reads.sort_unstable();
    reads.dedup();
    derived.sort_unstable();
    derived.dedup();
    let parts = Arc::new(Parts { all: parts, clause });
    Some(Expression { source: text.into(), node, ty, needs_level, reads, derived: derived.into(), parts })
}

pub(crate) struct Compiler<'a> {
    pub spec: &'a Readable,
    pub scope: Scope,
    pub text: &'a str,
    pub place: &'a dyn Fn(SourceSpan) -> SourceSpan,
    pub errors: &'a mut Vec<Diagnostic>,
    pub needs_level: Option<Arc<str>>,
    pub reads: Vec<FieldId>,
    pub derived: Vec<u32>,
    /// Says what the name of a container stands for inside the brackets of a function over its items.
    pub each: Option<EachItem>,
}

pub(crate) type Typed = (Node, Type);

/// Longer rows of sums and products are evaluated one after the other instead of one inside the other.
const SHORT_ROW: usize = 16;

impl Compiler<'_> {
    pub(crate) fn fail<T>(&mut self, error: Diagnostic) -> Option<T> {
        self.errors.push(error);
        None
    }

    pub(crate) fn error(&self, code: &'static str, span: SourceSpan, message: impl Into<String>) -> Diagnostic {
        Diagnostic::error(code, (self.place)(span), message)
    }

    pub(crate) fn wrong_type<T>(&mut self, ast: &Ast, found: &Type, wanted: &str) -> Option<T> {
        let error = self
            .error(codes::WRONG_TYPE, ast.span, format!("{wanted} is wanted here, and this is {}", a(found)))
            .label(found.to_string());
        self.fail(error)
    }

    /// Compiles to a value of one type. Literals take it on: a list becomes a set, a text the name of a choice.
    pub(crate) fn of_type(&mut self, ast: &Ast, wanted: &Type) -> Option<Node> {
        match (&ast.kind, wanted) {
            (AstKind::List(items), _) => return self.items(ast, items, wanted),
            (AstKind::Struct(members), _) => return self.members(ast, members, wanted),
            (AstKind::Literal(text @ Value::Text(_)), Type::Bytes) => {
                return text.clone().fitted(wanted).map(Node::Const);
            }
            (AstKind::Literal(Value::Text(name)), Type::Choice(names)) => {
                if let Some(chosen) = Type::chosen(names, name) {
                    return Some(Node::Const(chosen));
                }
                let error = self.error(codes::UNKNOWN_NAME, ast.span, format!("this choice has no `{name}`"));
                let known: Vec<&str> = names.iter().map(|chosen| &*chosen.name).collect();
                let error = error.help(format!("it has: {}", known.join(", "))).suggest(name, known);
                return self.fail(error);
            }
            // The branches take on the type, so that texts can be the names of a choice.
            (AstKind::Call(function, arguments), _)
                if Function::named(function) == Some(Function::General(General::If)) && wanted.is_taken_on() =>
            {
                if let [condition, yes, no] = &arguments[..] {
                    let condition = self.of_type(condition, &Type::Bool);
                    let (yes, no) = (self.of_type(yes, wanted), self.of_type(no, wanted));
                    return Some(Node::If(Box::new([condition?, yes?, no?])));
                }
            }
            _ => {}
        }
        let (node, found) = self.node(ast)?;
        match (&found, wanted) {
            (found, wanted) if found == wanted => Some(node),
            (Type::Int, Type::Float) => Some(Node::Wide(Box::new(node))),
            _ => self.wrong_type(ast, &found, &a(wanted)),
        }
    }

    fn items(&mut self, ast: &Ast, items: &[Ast], wanted: &Type) -> Option<Node> {
        let (inner, count) = match wanted {
            Type::List(inner) | Type::Set(inner) => (inner.clone(), items.len()),
            Type::Vec2 => (Arc::new(Type::Float), 2),
            Type::Vec3 => (Arc::new(Type::Float), 3),
            Type::Bool
            | Type::Int
            | Type::Float
            | Type::Text
            | Type::Bytes
            | Type::Choice(_)
            | Type::Struct(_)
            | Type::Map(_) => {
                let error = self.error(
                    codes::WRONG_TYPE,
                    ast.span,
                    format!("{} is wanted here, and this is a list", a(wanted)),
                );
                return self.fail(error);
            }
        };
        if items.len() != count {
            let message = format!("{} has {count} numbers, found {}", a(wanted), items.len());
            let error = self.error(codes::WRONG_TYPE, ast.span, message);
            return self.fail(error);
        }
        let nodes: Vec<Option<Node>> = items.iter().map(|item| self.of_type(item, &inner)).collect();
        let nodes: Vec<Node> = nodes.into_iter().collect::<Option<_>>()?;
        Some(Node::Make(nodes, Made::Items(wanted.clone())))
    }

    fn members(&mut self, ast: &Ast, members: &[(String, Ast)], wanted: &Type) -> Option<Node> {
        let mut nodes = Vec::new();
        for (name, item) in members {
            let ty = match wanted {
                Type::Map(inner) => (**inner).clone(),
                Type::Struct(ty) => match ty.position(name) {
                    Some(index) => ty.members[index].ty.clone(),
                    None => {
                        let error = self
                            .error(codes::UNKNOWN_NAME, item.span, format!("a {} has no member `{name}`", ty.name))
                            .suggest(name, ty.members.iter().map(|member| &*member.name));
                        return self.fail(error);
                    }
                },
                Type::Bool
                | Type::Int
                | Type::Float
                | Type::Text
                | Type::Bytes
                | Type::Vec2
                | Type::Vec3
                | Type::Choice(_)
                | Type::List(_)
                | Type::Set(_) => {
                    let message = format!("{} is wanted here, and this is a struct or a map", a(wanted));
                    let error = self.error(codes::WRONG_TYPE, ast.span, message);
                    return self.fail(error);
                }
            };
            nodes.push(self.of_type(item, &ty)?);
        }
        if members.is_empty() && !matches!(wanted, Type::Map(_) | Type::Struct(_)) {
            let error = self.error(codes::WRONG_TYPE, ast.span, format!("{} is wanted here", a(wanted)));
            return self.fail(error);
        }
        let mut names: Vec<Arc<str>> = members.iter().map(|(name, _)| name.as_str().into()).collect();
        // What a document leaves out of a struct is at its default.
        if let Type::Struct(ty) = wanted {
            let said = |name: &str| members.iter().any(|(said, _)| said == name);
            for member in ty.members.iter().filter(|member| !said(&member.name)) {
                nodes.push(Node::Const(member.default.clone()));
                names.push(member.name.clone());
            }
        }
        Some(Node::Make(nodes, Made::Named(wanted.clone(), names.into())))
    }

    pub(crate) fn number(&mut self, ast: &Ast) -> Option<Typed> {
        let (node, ty) = self.node(ast)?;
        if ty.is_number() { Some((node, ty)) } else { self.wrong_type(ast, &ty, "a number") }
    }

    /// Two operands brought to one type. A literal takes on the type of the other side.
    pub(crate) fn pair(&mut self, left: &Ast, right: &Ast) -> Option<(Node, Node, Type)> {
        if takes_on(left) && !takes_on(right) {
            let (b, ty) = self.node(right)?;
            return Some((self.of_type(left, &ty)?, b, ty));
        }
        let left_typed = self.node(left);
        if takes_on(right) {
            let (a, ty) = left_typed?;
            return Some((a, self.of_type(right, &ty)?, ty));
        }
        let right_typed = self.node(right)?;
        self.widened(right, left_typed?, right_typed)
    }

    /// Two values of one type; an int beside a float becomes one.
    fn widened(&mut self, right: &Ast, (a, a_ty): Typed, (b, b_ty): Typed) -> Option<(Node, Node, Type)> {
        match (&a_ty, &b_ty) {
            (x, y) if x == y => Some((a, b, a_ty)),
            (Type::Int, Type::Float) => Some((Node::Wide(Box::new(a)), b, Type::Float)),
            (Type::Float, Type::Int) => Some((a, Node::Wide(Box::new(b)), Type::Float)),
            _ => self.wrong_type(right, &b_ty, &self::a(&a_ty)),
        }
    }

    pub(crate) fn node(&mut self, ast: &Ast) -> Option<Typed> {
        if let Some(each) = self.each.as_ref().filter(|each| each.stands_for(ast)) {
            return Some((Node::Each, each.ty.clone()));
        }
        match &ast.kind {
            AstKind::Literal(value) => {
                let ty = match value {
                    Value::Bool(_) => Type::Bool,
                    Value::Int(_) => Type::Int,
                    Value::Float(_) => Type::Float,
                    _ => Type::Text,
                };
                Some((Node::Const(value.clone()), ty))
            }
            AstKind::Name(name) => self.name(name, ast),
            AstKind::Keyed(of, keys) => self.keyed(of, keys, ast),
            AstKind::Member(of, member) => self.member(of, member, ast),
            AstKind::Call(function, arguments) => self.call(function, arguments, ast),
            AstKind::Not(inner) => Some((Node::Not(Box::new(self.of_type(inner, &Type::Bool)?)), Type::Bool)),
            AstKind::Negative(inner) => {
                let (node, ty) = self.number(inner)?;
                Some((Node::Negative(Box::new(node)), ty))
            }
            AstKind::Binary(operator, ..) if operator.is_arithmetic() => self.arithmetic(ast),
            AstKind::Binary(operator, left, right) => self.binary(*operator, left, right),
            // Without a type to take on, two or three numbers are a vector.
            AstKind::List(items) => {
                let ty = match items.len() {
                    2 => Type::Vec2,
                    3 => Type::Vec3,
                    _ => {
                        let error = self.error(codes::WRONG_TYPE, ast.span, "it is not clear what this is a list of");
                        return self.fail(error.help("compare it with a field, or give it to one"));
                    }
                };
                Some((self.of_type(ast, &ty)?, ty))
            }
            AstKind::Struct(_) => {
                let error = self.error(codes::WRONG_TYPE, ast.span, "it is not clear which struct this is");
                self.fail(error.help("compare it with a field, or give it to one"))
            }
        }
    }

    fn member(&mut self, of: &Ast, member: &str, ast: &Ast) -> Option<Typed> {
        let (node, ty) = self.node(of)?;
        let component = |node| (Node::Member(Box::new(node), member.into(), None), Type::Float);
        let found = match &ty {
            Type::Struct(ty) => ty.position(member).map(|index| member_of(node, &ty.members[index])),
            Type::Vec2 => ["x", "y"].contains(&member).then(|| component(node)),
            Type::Vec3 => ["x", "y", "z"].contains(&member).then(|| component(node)),
            Type::List(_) | Type::Set(_) | Type::Map(_) => return self.member_of_all(of, member, &ty),
            Type::Bool | Type::Int | Type::Float | Type::Text | Type::Bytes | Type::Choice(_) => {
                return self.wrong_type(of, &ty, "something with members");
            }
        };
        match found {
            Some(found) => Some(found),
            None => {
                let known: Vec<&str> = match &ty {
                    Type::Struct(ty) => ty.members.iter().map(|member| &*member.name).collect(),
                    Type::Vec2 => vec!["x", "y"],
                    Type::Bool
                    | Type::Int
                    | Type::Float
                    | Type::Text
                    | Type::Bytes
                    | Type::Vec3
                    | Type::Choice(_)
                    | Type::List(_)
                    | Type::Set(_)
                    | Type::Map(_) => vec!["x", "y", "z"],
                };
                let error = self
                    .error(codes::UNKNOWN_NAME, ast.span, format!("{} has no member `{member}`", a(&ty)))
                    .help(format!("it has: {}", known.join(", ")))
                    .suggest(member, known);
                self.fail(error)
            }
        }
    }

    /// The member of a container: of one of its items, or of all of them, but not of the whole.
    fn member_of_all<T>(&mut self, of: &Ast, member: &str, ty: &Type) -> Option<T> {
        let name = self.slice(of.span);
        let (kind, one) = match ty {
            Type::Map(_) => ("map", format!("`{name}['ring'].{member}` is that of one entry, ")),
            Type::List(_) => ("list", format!("`{name}[1].{member}` is that of the first item, ")),
            _ => ("set", String::new()),
        };
        let error = self
            .error(
                codes::WRONG_TYPE,
                of.span,
                format!("`{name}` is a {kind}, and each of its items has its own `{member}`"),
            )
            .help(format!("{one}`sum({name}.{member})` or `any({name}.{member} …)` asks all of them"));
        self.fail(error)
    }

    fn binary(&mut self, operator: Operator, left: &Ast, right: &Ast) -> Option<Typed> {
        let boxed = |a, b| Node::Binary(operator, Box::new(a), Box::new(b));
        match operator {
            Operator::And | Operator::Or => {
                let a = self.of_type(left, &Type::Bool);
                let b = self.of_type(right, &Type::Bool)?;
                Some((boxed(a?, b), Type::Bool))
            }
            Operator::Equal | Operator::Unequal => {
                self.check_exit(left, right)?;
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
            Operator::Plus | Operator::Minus | Operator::Times | Operator::Divide => {
                let left_typed = self.node(left);
                let (a, b, ty) = self.operands(operator, (left, left_typed), right)?;
                Some((boxed(a, b), ty))
            }
        }
    }

    /// A row of sums and products. It leans to the left, as deep as it is long, so it is walked and not descended.
    fn arithmetic(&mut self, ast: &Ast) -> Option<Typed> {
        let mut row = Vec::new();
        let mut first = ast;
        while let AstKind::Binary(operator, left, right) = &first.kind
            && operator.is_arithmetic()
        {
            row.push((*operator, &**left, &**right));
            first = left;
        }
        let mut typed = self.node(first);
        let mut chain: Option<(Node, Vec<(Operator, Node)>)> = None;
        for (index, (operator, left, right)) in row.iter().rev().enumerate() {
            if chain.is_none() && index >= SHORT_ROW {
                let (node, ty) = typed?;
                chain = Some((node, Vec::new()));
                typed = Some((Node::Const(Value::Unfilled), ty));
            }
            let (a, b, ty) = self.operands(*operator, (left, typed), right)?;
            typed = Some(match &mut chain {
                // What came before is an int, and from here on floats are meant.
                Some((sum, row)) => {
                    if matches!(a, Node::Wide(_)) {
                        let before = std::mem::replace(sum, Node::Const(Value::Unfilled));
                        let rest = std::mem::take(row).into();
                        *sum = Node::Wide(Box::new(Node::Chain(Box::new(before), rest)));
                    }
                    row.push((*operator, b));
                    (Node::Const(Value::Unfilled), ty)
                }
                None => (Node::Binary(*operator, Box::new(a), Box::new(b)), ty),
            });
        }
        match chain {
            Some((first, rest)) => Some((Node::Chain(Box::new(first), rest.into()), typed?.1)),
            None => typed,
        }
    }

    /// The operands of a sum or a product, brought to one type.
    fn operands(
        &mut self,
        operator: Operator,
        (left, typed): (&Ast, Option<Typed>),
        right: &Ast,
    ) -> Option<(Node, Node, Type)> {
        let (a, b, ty) = if takes_on(right) || takes_on(left) {
            self.pair(left, right)?
        } else {
            let (b, b_ty) = self.node(right)?;
            let (a, a_ty) = typed?;
            self.widened(right, (a, a_ty), (b, b_ty))?
        };
        if !ty.is_number() {
            return self.wrong_type(left, &ty, "a number");
        }
        let zero_or_unknown = match &right.kind {
            AstKind::Literal(value) => value.as_float() == 0.0,
            _ => true,
        };
        if operator == Operator::Divide && zero_or_unknown {
            let error = self
                .error(codes::EXPRESSION, right.span, "only a number other than zero can stand after `/`")
                .help("nothing a spec says can fail while the game runs, so no divisor is computed");
            return self.fail(error);
        }
        Some((a, b, ty))
    }

    fn name(&mut self, name: &str, ast: &Ast) -> Option<Typed> {
        if let Some(each) = &self.each
            && each.container.is_none()
            && let Type::Struct(ty) = &each.ty
            && let Some(index) = ty.position(name)
        {
            return Some(member_of(Node::Each, &ty.members[index]));
        }
        let built_in = match name {
            "level" | "level_index" if self.scope.derived_key().is_some() => {
                return self.key_of_derived(name, ast.span);
            }
            "checkpoint" | "checkpoint_index" if self.scope.derived_key().is_some() => {
                let message =
                    format!("`{name}` is not the same for a key wherever play stands, and this value is kept per key");
                let error = self.error(codes::OUT_OF_REACH, ast.span, message);
                return self.fail(error);
            }
            "level" => (Node::Level, Type::Text),
            "checkpoint" => (Node::Checkpoint, Type::Text),
            "exit" => self.exit(ast)?,
            "level_index" => (Node::LevelIndex, Type::Int),
            "checkpoint_index" => (Node::CheckpointIndex, Type::Int),
            _ => return self.declared(name, ast.span),
        };
        Some(built_in)
    }

    pub(crate) fn unknown_name<T>(&mut self, name: &str, span: SourceSpan) -> Option<T> {
        let mut error = self.error(codes::UNKNOWN_NAME, span, format!("nothing is called `{name}`"));
        error = if self.spec.level_ids.contains_key(name) {
            error.label("this is a level").help(format!("put a level in brackets, as in `completed[{name}]`"))
        } else {
            let fields = self.spec.fields.iter().map(|field| &*field.name);
            let derived = self.spec.derived_ids.keys().map(|name| &**name);
            let built_in = ["level", "checkpoint", "exit", "level_index", "checkpoint_index", "true", "false"];
            error.suggest(name, fields.chain(derived).chain(built_in))
        };
        self.fail(error)
    }

    /// Returns whether an expression here may read the field.
    pub(crate) fn may_read(&mut self, field: &Field, span: SourceSpan) -> Option<()> {
        let name = &field.name;
        let lasts = field.lasts;
        let why = match self.scope {
            Scope::Opens if matches!(lasts, Span::Attempt | Span::Visit | Span::Session) => {
                format!("`opens` cannot read `{name}`, which lasts {} {lasts}", lasts.article())
            }
            Scope::Merge if !matches!(lasts, Span::Run | Span::Profile) => {
                format!("`run` of `[merge]` cannot read `{name}`, which lasts {} {lasts}", lasts.article())
            }
            Scope::OverWhen if lasts == Span::Session => {
                format!("`over_when` cannot read `{name}`, which lasts a session")
            }
            Scope::Rule(Moment::Launch | Moment::NewRun | Moment::OwnRun(_) | Moment::Enter) if field.needs_level() => {
                format!("`{name}` lasts {} {lasts}, and there is none before this moment", lasts.article())
            }
            Scope::Opens
            | Scope::OverWhen
            | Scope::Merge
            | Scope::Rule(_)
            | Scope::Derived
            | Scope::DerivedOf(_)
            | Scope::Play
            | Scope::Promise { .. }
            | Scope::Fill { .. } => return Some(()),
        };
        let help = match self.scope {
            Scope::Opens => "read a run, profile or device field: what was written at `complete`, say",
            Scope::Merge => "both saves are compared, and they hold run and profile fields",
            Scope::OverWhen => "a launch clears session fields, so quitting would undo the game over",
            Scope::Rule(_)
            | Scope::Derived
            | Scope::DerivedOf(_)
            | Scope::Play
            | Scope::Promise { .. }
            | Scope::Fill { .. } => "read a field that lives longer",
        };
        let error = self.error(codes::OUT_OF_REACH, span, why).help(help);
        self.fail(error)
    }

    pub(crate) fn slice(&self, span: SourceSpan) -> Arc<str> {
        self.text.get(span.start..span.end).unwrap_or_default().into()
    }
}

fn member_of(of: Node, member: &Member) -> Typed {
    let range = member.range.clone().map(Arc::new);
    (Node::Member(Box::new(of), member.name.clone(), range), member.ty.clone())
}

/// Returns whether an expression takes on the type of the other side: a literal, or a choice between two.
fn takes_on(ast: &Ast) -> bool {
    match &ast.kind {
        AstKind::List(_) | AstKind::Struct(_) | AstKind::Literal(Value::Text(_)) => true,
        AstKind::Call(function, arguments) if Function::named(function) == Some(Function::General(General::If)) => {
            arguments.iter().skip(1).all(takes_on)
        }
        _ => false,
    }
}

/// A type with its article.
pub(crate) fn a(ty: &Type) -> String {
    let word = ty.to_string();
    let article = if word.starts_with(['a', 'e', 'i', 'o', 'u']) { "an" } else { "a" };
    if word == "bytes" { word } else { format!("{article} {word}") }
}
