//! Words and signs of the expression language, each with its place in the text.

use winnow::ascii::{digit1, multispace0};
use winnow::combinator::{alt, delimited, opt, preceded, repeat};
use winnow::error::ContextError;
use winnow::stream::AsChar;
use winnow::token::{any, literal, none_of, one_of, take_while};
use winnow::{LocatingSlice, Parser};

use crate::diagnostic::SourceSpan;

type Input<'i> = LocatingSlice<&'i str>;
type Parsed<T> = Result<T, ContextError>;

/// One word or sign.
#[derive(Clone, Debug, PartialEq)]
pub enum Token<'i> {
    /// A whole number.
    Int(i64),
    /// 9223372036854775808: an int only with a minus before it.
    Beyond,
    /// A number with a point.
    Float(f64),
    /// A text, without its quotes.
    Text(String),
    /// A name or a word of the language.
    Name(&'i str),
    /// An operator or a bracket.
    Symbol(&'static str),
}

/// Describes what the reader of an expression could not understand.
#[derive(Clone, Debug, PartialEq)]
pub struct Unreadable {
    /// Says where it is.
    pub span: SourceSpan,
    /// Says what is wrong.
    pub message: String,
    /// Says what to do about it.
    pub help: Option<String>,
}

impl Unreadable {
    /// An error at a place.
    pub fn new(span: SourceSpan, message: impl Into<String>) -> Self {
        Self { span, message: message.into(), help: None }
    }

    /// Adds what to do about it.
    #[must_use]
    pub fn help(mut self, help: impl Into<String>) -> Self {
        self.help = Some(help.into());
        self
    }
}

/// Symbols, longer ones first so that `<=` is not read as `<`.
const SIGNS: [&str; 21] =
    ["==", "!=", "<=", ">=", "+=", "-=", "<", ">", "+", "-", "*", "/", "(", ")", "[", "]", "{", "}", ",", ".", "="];

/// Splits `text` into tokens.
///
/// # Errors
/// If a text is not closed, a number is too large, or a character has no meaning.
pub fn tokens(text: &str) -> Result<Vec<(Token<'_>, SourceSpan)>, Unreadable> {
    let mut input = LocatingSlice::new(text);
    let mut out = Vec::new();
    loop {
        let _: Parsed<&str> = multispace0.parse_next(&mut input);
        let rest: &str = &input;
        if rest.is_empty() {
            return Ok(out);
        }
        let at = text.len() - rest.len();
        match token.with_span().parse_next(&mut input) {
            Ok((token, range)) => out.push((token, range.into())),
            Err(_) => return Err(stray(rest, at)),
        }
    }
}

fn token<'i>(input: &mut Input<'i>) -> Parsed<Token<'i>> {
    alt((number, text.map(Token::Text), name.map(Token::Name), sign.map(Token::Symbol))).parse_next(input)
}

fn number<'i>(input: &mut Input<'i>) -> Parsed<Token<'i>> {
    let fraction = (digit1, opt((literal("."), digit1)), opt((one_of(['e', 'E']), opt(one_of(['+', '-'])), digit1)));
    let digits = fraction.take().parse_next(input)?;
    if digits.contains(['.', 'e', 'E']) {
        let float: f64 = digits.parse().map_err(|_| ContextError::new())?;
        if float.is_finite() { Ok(Token::Float(float)) } else { Err(ContextError::new()) }
    } else {
        let beyond = || (digits.parse() == Ok(i64::MIN.unsigned_abs())).then_some(Token::Beyond);
        digits.parse().ok().map(Token::Int).or_else(beyond).ok_or_else(ContextError::new)
    }
}

/// Text stands in single quotes; a quote inside it is doubled.
fn text(input: &mut Input<'_>) -> Parsed<String> {
    let inner = repeat(0.., alt((literal("''").value('\''), none_of('\''))));
    delimited(literal("'"), inner, literal("'")).parse_next(input)
}

fn name<'i>(input: &mut Input<'i>) -> Parsed<&'i str> {
    (one_of(|c: char| c.is_alpha() || c == '_'), take_while(0.., |c: char| c.is_alphanum() || c == '_'))
        .take()
        .parse_next(input)
}

fn sign(input: &mut Input<'_>) -> Parsed<&'static str> {
    let rest: &str = input;
    let found = SIGNS.into_iter().find(|sign| rest.starts_with(sign)).ok_or_else(ContextError::new)?;
    preceded(literal(found), winnow::combinator::empty).parse_next(input)?;
    Ok(found)
}

/// Explains what stands where no token could be read.
fn stray(rest: &str, at: usize) -> Unreadable {
    let mut chars: Input<'_> = LocatingSlice::new(rest);
    let first: Parsed<char> = any.parse_next(&mut chars);
    let first = first.unwrap_or(' ');
    let span = SourceSpan::new(at, at + first.len_utf8());
    match first {
        '\'' => Unreadable::new(SourceSpan::new(at, at + rest.len()), "this text has no closing quote")
            .help("text stands in single quotes, as in 'storm'"),
        '0'..='9' => {
            let len = rest.find(|c: char| !c.is_alphanumeric() && c != '.').unwrap_or(rest.len());
            let help = if rest[..len].contains(['.', 'e', 'E']) {
                "floats go up to 1.7976931348623157e308"
            } else {
                "ints go from -9223372036854775808 to 9223372036854775807"
            };
            Unreadable::new(SourceSpan::new(at, at + len), "this number is too large").help(help)
        }
        '&' => Unreadable::new(span, "`&` is not an operator of expressions").help("write `and`"),
        '|' => Unreadable::new(span, "`|` is not an operator of expressions").help("write `or`"),
        '!' => Unreadable::new(span, "`!` is not an operator of expressions").help("write `not`"),
        '"' => Unreadable::new(span, "text stands in single quotes").help("write 'storm' instead of \"storm\""),
        other => Unreadable::new(span, format!("`{}` is not an operator of expressions", other.escape_default())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reads_every_kind_of_token() {
        let kinds: Vec<_> = tokens("a_1 >= -2.5e1 'it''s' 7").unwrap().into_iter().map(|(token, _)| token).collect();
        let expected = vec![
            Token::Name("a_1"),
            Token::Symbol(">="),
            Token::Symbol("-"),
            Token::Float(25.0),
            Token::Text("it's".into()),
            Token::Int(7),
        ];
        assert_eq!(kinds, expected);
    }
}
