//! From tokens to a tree: precedence climbing over the operators of the language.
//!
//! From loosest to tightest: `or`, `and`, `not`, comparisons (which do not chain), `+ -`, `* /`, unary `-`.

use crate::diagnostic::SourceSpan;
use crate::syntax::token::{Token, Unreadable, tokens};
use crate::value::Value;
use crate::words;

/// A node of the tree and where it stands.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Ast {
    pub kind: AstKind,
    pub span: SourceSpan,
    height: u16,
    /// Says how many terms a row of sums has.
    terms: u16,
}

impl Ast {
    /// Returns whether both say the same, wherever they stand.
    pub(crate) fn says_as(&self, other: &Ast) -> bool {
        let all = |some: &[Ast], others: &[Ast]| {
            some.len() == others.len() && some.iter().zip(others).all(|(one, other)| one.says_as(other))
        };
        match (&self.kind, &other.kind) {
            (AstKind::Literal(one), AstKind::Literal(other)) => one == other,
            (AstKind::Name(one), AstKind::Name(other)) => one == other,
            (AstKind::Keyed(one, keys), AstKind::Keyed(other, others)) => one.says_as(other) && all(keys, others),
            (AstKind::Member(one, member), AstKind::Member(other, of)) => member == of && one.says_as(other),
            (AstKind::Call(one, items), AstKind::Call(other, others)) => one == other && all(items, others),
            (AstKind::List(items), AstKind::List(others)) => all(items, others),
            (AstKind::Not(one), AstKind::Not(other)) | (AstKind::Negative(one), AstKind::Negative(other)) => {
                one.says_as(other)
            }
            (AstKind::Binary(operator, left, right), AstKind::Binary(other, first, second)) => {
                operator == other && left.says_as(first) && right.says_as(second)
            }
            (AstKind::Struct(members), AstKind::Struct(others)) => {
                let same =
                    |((name, one), (of, other)): (&(String, Ast), &(String, Ast))| name == of && one.says_as(other);
                members.len() == others.len() && members.iter().zip(others).all(same)
            }
            _ => false,
        }
    }
}

#[derive(Clone, Debug, PartialEq)]
pub(crate) enum AstKind {
    Literal(Value),
    Name(String),
    /// `field[key]`, `field[key, key]` or `map['key']`.
    Keyed(Box<Ast>, Vec<Ast>),
    /// `struct.member`
    Member(Box<Ast>, String),
    /// `[1, 2]`
    List(Vec<Ast>),
    /// `{ weight = 2, fragile = true }`
    Struct(Vec<(String, Ast)>),
    Call(String, Vec<Ast>),
    Not(Box<Ast>),
    Negative(Box<Ast>),
    Binary(Operator, Box<Ast>, Box<Ast>),
}

words! {
    /// An operator between two operands.
    pub enum Operator {
        /// One of both holds.
        Or = "or",
        /// Both hold.
        And = "and",
        /// They are the same.
        Equal = "==",
        /// They are not the same.
        Unequal = "!=",
        /// The left one is lower.
        Below = "<",
        /// The left one is not higher.
        AtMost = "<=",
        /// The left one is higher.
        Above = ">",
        /// The left one is not lower.
        AtLeast = ">=",
        /// Their sum.
        Plus = "+",
        /// The left one less the right one.
        Minus = "-",
        /// Their product.
        Times = "*",
        /// The left one, split into this number of parts.
        Divide = "/",
    }
}

impl Operator {
    /// Returns what a comparison says where it does not hold; none of what compares nothing.
    pub fn opposite(self) -> Option<Operator> {
        match self {
            Operator::Above => Some(Operator::AtMost),
            Operator::AtLeast => Some(Operator::Below),
            Operator::Below => Some(Operator::AtLeast),
            Operator::AtMost => Some(Operator::Above),
            Operator::Unequal => Some(Operator::Equal),
            Operator::Equal => Some(Operator::Unequal),
            Operator::And | Operator::Or | Operator::Plus | Operator::Minus | Operator::Times | Operator::Divide => {
                None
            }
        }
    }

    fn from_token(token: &Token<'_>) -> Option<Operator> {
        let (Token::Name(word) | Token::Symbol(word)) = token else { return None };
        Operator::from_word(word)
    }

    /// Returns how tightly it binds.
    fn power(self) -> u8 {
        match self {
            Operator::Or => 1,
            Operator::And => 2,
            Operator::Plus | Operator::Minus => 5,
            Operator::Times | Operator::Divide => 6,
            Operator::Equal
            | Operator::Unequal
            | Operator::Below
            | Operator::AtMost
            | Operator::Above
            | Operator::AtLeast => COMPARISON,
        }
    }

    /// Returns whether it calculates: `+`, `-`, `*`, `/`.
    pub fn is_arithmetic(self) -> bool {
        matches!(self, Operator::Plus | Operator::Minus | Operator::Times | Operator::Divide)
    }

    /// Returns whether it compares two values.
    pub fn is_comparison(self) -> bool {
        self.power() == COMPARISON
    }
}

const NOT: u8 = 3;
const COMPARISON: u8 = 4;
const NEGATIVE: u8 = 7;

/// Says how high a tree may grow. Trees are walked recursively, so a hostile document must not decide how deep.
const MAX_HEIGHT: u16 = 100;

/// Says how many terms a row of sums may have.
const MAX_TERMS: u16 = 2_000;

/// Reads an expression.
pub(crate) fn parse(text: &str) -> Result<Ast, Unreadable> {
    let tokens = tokens(text)?;
    let mut parser = Parser { tokens: &tokens, next: 0, end: text.len(), depth: 0 };
    let ast = parser.expression(0)?;
    match parser.peek() {
        None => Ok(ast),
        Some((token, span)) => Err(Parser::unexpected(token, *span, "the expression should end here")),
    }
}

struct Parser<'t, 'i> {
    tokens: &'t [(Token<'i>, SourceSpan)],
    next: usize,
    end: usize,
    depth: u16,
}

impl<'t, 'i> Parser<'t, 'i> {
    fn peek(&self) -> Option<&'t (Token<'i>, SourceSpan)> {
        self.tokens.get(self.next)
    }

    fn take(&mut self) -> Option<&'t (Token<'i>, SourceSpan)> {
        let token = self.tokens.get(self.next);
        self.next += 1;
        token
    }

    fn sign(&mut self, sign: &str) -> Option<SourceSpan> {
        match self.peek() {
            Some((Token::Symbol(found), span)) if *found == sign => {
                self.next += 1;
                Some(*span)
            }
            _ => None,
        }
    }

    fn unexpected(token: &Token<'_>, span: SourceSpan, message: &str) -> Unreadable {
        let error = Unreadable::new(span, message);
        match token {
            Token::Symbol("=") => error.help("write `==` to compare two values"),
            Token::Symbol("+=" | "-=") => error.help("an expression only reads; rules and playthroughs write"),
            Token::Name("in" | "contains") => error.help("`has(tools, 'rope')` asks whether a container has an item"),
            Token::Name("is") => error.help("write `==` to compare two values"),
            _ => error,
        }
    }

    /// Reads operators that bind more tightly than `floor`.
    fn expression(&mut self, floor: u8) -> Result<Ast, Unreadable> {
        self.depth += 1;
        if self.depth > MAX_HEIGHT {
            let span = self.peek().map_or(SourceSpan::new(self.end, self.end), |(_, span)| *span);
            return Err(too_deep(span));
        }
        let mut left = self.prefix()?;
        while let Some((token, span)) = self.peek() {
            let Some(operator) = Operator::from_token(token) else { break };
            if operator.power() <= floor {
                break;
            }
            if let AstKind::Binary(before, ..) = &left.kind
                && before.is_comparison()
                && operator.is_comparison()
                && self.tokens.get(self.next.wrapping_sub(1)).is_some_and(|(t, _)| *t != Token::Symbol(")"))
            {
                return Err(Unreadable::new(*span, "comparisons do not chain")
                    .help("join two comparisons with `and`, as in `1 <= stars and stars <= 3`"));
            }
            self.next += 1;
            let right = self.expression(operator.power())?;
            if matches!(operator, Operator::And | Operator::Or) {
                // A row of one word holds as a whole, so its halves may be joined: many conditions are no deep nesting.
                let mut row = vec![left, right];
                while self.peek().is_some_and(|(token, _)| Operator::from_token(token) == Some(operator)) {
                    self.next += 1;
                    row.push(self.expression(operator.power())?);
                }
                left = joined(operator, row)?;
                continue;
            }
            let span = left.span.to(right.span);
            left = node(AstKind::Binary(operator, Box::new(left), Box::new(right)), span)?;
        }
        self.depth -= 1;
        Ok(left)
    }

    fn prefix(&mut self) -> Result<Ast, Unreadable> {
        let end = SourceSpan::new(self.end, self.end);
        let Some((token, span)) = self.take() else {
            return Err(Unreadable::new(end, "something is missing here: a name, a number or a bracket"));
        };
        let span = *span;
        match token {
            Token::Int(int) => node(AstKind::Literal(Value::Int(*int)), span),
            Token::Float(float) => node(AstKind::Literal(Value::float(*float)), span),
            Token::Text(text) => node(AstKind::Literal(Value::text(text.as_str())), span),
            Token::Name("true") => node(AstKind::Literal(Value::Bool(true)), span),
            Token::Name("false") => node(AstKind::Literal(Value::Bool(false)), span),
            Token::Name("not") => {
                let inner = self.expression(NOT)?;
                let span = span.to(inner.span);
                node(AstKind::Not(Box::new(inner)), span)
            }
            Token::Name(word @ ("or" | "and")) => {
                Err(Unreadable::new(span, format!("`{word}` needs a condition on its left")))
            }
            Token::Name(name) => {
                let named = self.named(name, span)?;
                self.postfix(named)
            }
            Token::Symbol("[") => {
                let (items, close) = self.list("]", span)?;
                node(AstKind::List(items), span.to(close))
            }
            Token::Symbol("{") => self.members(span),
            Token::Symbol("-") if matches!(self.peek(), Some((Token::Beyond, _))) => {
                let end = self.take().map_or(span, |(_, span)| *span);
                node(AstKind::Literal(Value::Int(i64::MIN)), span.to(end))
            }
            Token::Beyond => Err(too_large(span)),
            Token::Symbol("-") => {
                let inner = self.expression(NEGATIVE)?;
                let span = span.to(inner.span);
                match inner.kind {
                    AstKind::Literal(Value::Int(int)) => node(AstKind::Literal(Value::Int(int.saturating_neg())), span),
                    AstKind::Literal(Value::Float(float)) => node(AstKind::Literal(Value::float(-float.get())), span),
                    _ => node(AstKind::Negative(Box::new(inner)), span),
                }
            }
            Token::Symbol("(") => {
                let inner = self.expression(0)?;
                match self.sign(")") {
                    Some(close) => Ok(Ast { span: span.to(close), ..inner }),
                    None => Err(Unreadable::new(span, "this bracket is never closed")),
                }
            }
            token => Err(Self::unexpected(token, span, "a name, a number or a bracket should stand here")),
        }
    }

    fn named(&mut self, name: &str, span: SourceSpan) -> Result<Ast, Unreadable> {
        if let Some(open) = self.sign("(") {
            let (arguments, close) = self.list(")", open)?;
            return node(AstKind::Call(name.to_owned(), arguments), span.to(close));
        }
        node(AstKind::Name(name.to_owned()), span)
    }

    /// Keys and members behind a name.
    fn postfix(&mut self, mut ast: Ast) -> Result<Ast, Unreadable> {
        loop {
            if let Some(open) = self.sign("[") {
                let (keys, close) = self.list("]", open)?;
                let span = ast.span.to(close);
                ast = node(AstKind::Keyed(Box::new(ast), keys), span)?;
            } else if let Some(dot) = self.sign(".") {
                let Some((Token::Name(member), end)) = self.take() else {
                    return Err(Unreadable::new(dot, "the name of a member is missing behind this dot"));
                };
                let span = ast.span.to(*end);
                ast = node(AstKind::Member(Box::new(ast), (*member).to_owned()), span)?;
            } else {
                return Ok(ast);
            }
        }
    }

    /// The members of a struct or the entries of a map, up to the closing brace.
    fn members(&mut self, open: SourceSpan) -> Result<Ast, Unreadable> {
        let mut members = Vec::new();
        if let Some(close) = self.sign("}") {
            return node(AstKind::Struct(members), open.to(close));
        }
        loop {
            let unclosed = Unreadable::new(open, "this brace is never closed");
            let name = match self.take() {
                Some((Token::Name(name), _)) => (*name).to_owned(),
                Some((Token::Text(key), _)) => key.clone(),
                Some((_, span)) => return Err(Unreadable::new(*span, "the name of a member should stand here")),
                None => return Err(unclosed),
            };
            match self.take() {
                Some((Token::Symbol("="), _)) => members.push((name, self.expression(0)?)),
                Some((_, span)) => return Err(Unreadable::new(*span, "`=` and a value should stand here")),
                None => return Err(unclosed),
            }
            if let Some(close) = self.sign("}") {
                return node(AstKind::Struct(members), open.to(close));
            }
            if self.sign(",").is_none() {
                let span = self.peek().map_or(open, |(_, span)| *span);
                return Err(Unreadable::new(span, "a comma or `}` should stand here"));
            }
        }
    }

    fn list(&mut self, close: &str, open: SourceSpan) -> Result<(Vec<Ast>, SourceSpan), Unreadable> {
        let mut items = Vec::new();
        if let Some(end) = self.sign(close) {
            return Ok((items, end));
        }
        loop {
            items.push(self.expression(0)?);
            if let Some(end) = self.sign(close) {
                return Ok((items, end));
            }
            if self.sign(",").is_none() {
                return Err(match self.peek() {
                    Some((token, span)) => {
                        Self::unexpected(token, *span, &format!("a comma or `{close}` should stand here"))
                    }
                    None => Unreadable::new(open, "this bracket is never closed"),
                });
            }
        }
    }
}

/// Many conditions joined by one word, halved again and again.
fn joined(operator: Operator, mut row: Vec<Ast>) -> Result<Ast, Unreadable> {
    if row.len() > 1 {
        let right = joined(operator, row.split_off(row.len() / 2))?;
        let left = joined(operator, row)?;
        let span = left.span.to(right.span);
        return node(AstKind::Binary(operator, Box::new(left), Box::new(right)), span);
    }
    row.pop().ok_or_else(|| Unreadable::new(SourceSpan::default(), "a condition is missing here"))
}

fn node(kind: AstKind, span: SourceSpan) -> Result<Ast, Unreadable> {
    // A row of sums leans to the left and is walked, so it is long and not deep.
    if let AstKind::Binary(operator, left, right) = &kind
        && operator.is_arithmetic()
        && matches!(&left.kind, AstKind::Binary(before, ..) if before.is_arithmetic())
    {
        let (height, terms) = (left.height.max(right.height + 1), left.terms + 1);
        if height > MAX_HEIGHT {
            return Err(too_deep(span));
        }
        if terms > MAX_TERMS {
            return Err(Unreadable::new(span, format!("this sum has more than {MAX_TERMS} terms"))
                .help("give a part of it a name under [derived]"));
        }
        return Ok(Ast { kind, span, height, terms });
    }
    let below = match &kind {
        AstKind::Literal(_) | AstKind::Name(_) => 0,
        AstKind::Call(_, items) | AstKind::List(items) => items.iter().map(|item| item.height).max().unwrap_or(0),
        AstKind::Keyed(of, items) => items.iter().map(|item| item.height).max().unwrap_or(0).max(of.height),
        AstKind::Struct(members) => members.iter().map(|(_, item)| item.height).max().unwrap_or(0),
        AstKind::Not(inner) | AstKind::Negative(inner) | AstKind::Member(inner, _) => inner.height,
        AstKind::Binary(_, left, right) => left.height.max(right.height),
    };
    if below >= MAX_HEIGHT { Err(too_deep(span)) } else { Ok(Ast { kind, span, height: below + 1, terms: 2 }) }
}

fn too_large(span: SourceSpan) -> Unreadable {
    Unreadable::new(span, "this number is too large").help("ints go from -9223372036854775808 to 9223372036854775807")
}

fn too_deep(span: SourceSpan) -> Unreadable {
    Unreadable::new(span, format!("this expression is nested more than {MAX_HEIGHT} deep"))
        .help("give a part of it a name under [derived]")
}
