//! Numbers of old saves: whole ones stay exact, however large they are.

use std::borrow::Cow;

use vestigum_spec::value::tree::Tree;

/// A number of an old save or of a map.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum Number {
    Int(i128),
    Float(f64),
}

impl Number {
    /// A number, or a text that stands for one.
    pub(super) fn of(tree: &Tree) -> Option<Number> {
        match tree {
            Tree::Int(int) => Some(Number::Int(i128::from(*int))),
            Tree::Float(float) => Some(Number::Float(float.get())),
            Tree::Text(text) => Number::read(text),
            Tree::Null | Tree::Bool(_) | Tree::List(_) | Tree::Map(_) => None,
        }
    }

    pub(super) fn read(text: &str) -> Option<Number> {
        let text = text.trim();
        let float = || text.parse().ok().filter(|float: &f64| !float.is_nan()).map(Number::Float);
        text.parse().ok().map(Number::Int).or_else(float)
    }

    pub(super) fn float(self) -> f64 {
        match self {
            Number::Int(int) => int as f64,
            Number::Float(float) => float,
        }
    }

    /// As a float field holds it.
    pub(super) fn finite(self) -> Result<f64, String> {
        let float = self.float();
        if float.is_finite() { Ok(float) } else { Err(format!("{self} is more than a float holds")) }
    }

    /// The nearest whole number that a field holds.
    pub(super) fn whole(self) -> Result<i64, String> {
        let whole = match self {
            Number::Int(int) => i64::try_from(int).ok(),
            // The ends themselves are no floats, and what rounds to them lies outside.
            Number::Float(float) => {
                Some(float.round()).filter(|float| float.abs() < i64::MAX as f64).map(|float| float as i64)
            }
        };
        whole.ok_or_else(|| format!("{self} is more than an int holds"))
    }

    pub(super) fn times(self, other: Number) -> Number {
        self.with(other, i128::checked_mul, |one, other| one * other)
    }

    pub(super) fn plus(self, other: Number) -> Number {
        self.with(other, i128::checked_add, |one, other| one + other)
    }

    pub(super) fn is_above(self, other: Number) -> bool {
        match (self, other) {
            (Number::Int(one), Number::Int(other)) => one > other,
            (one, other) => one.float() > other.float(),
        }
    }

    fn with(self, other: Number, ints: fn(i128, i128) -> Option<i128>, floats: fn(f64, f64) -> f64) -> Number {
        let exact = match (self, other) {
            (Number::Int(one), Number::Int(other)) => ints(one, other).map(Number::Int),
            (Number::Float(_), _) | (_, Number::Float(_)) => None,
        };
        exact.unwrap_or_else(|| Number::Float(floats(self.float(), other.float())))
    }
}

impl std::fmt::Display for Number {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Number::Int(int) => write!(f, "{int}"),
            Number::Float(float) => write!(f, "{float}"),
        }
    }
}

/// JSON in which numbers that neither an int nor a float holds are texts: one of them is a matter of its own field, and not of the whole
/// save.
pub(super) fn with_large_numbers_as_texts(json: &str) -> Cow<'_, str> {
    let bytes = json.as_bytes();
    let mut out = String::new();
    let (mut at, mut copied, mut quoted) = (0, 0, false);
    while at < bytes.len() {
        match bytes[at] {
            b'\\' if quoted => at += 2,
            b'"' => {
                quoted = !quoted;
                at += 1;
            }
            b'-' | b'0'..=b'9' if !quoted => {
                let is_part = |byte: &u8| matches!(byte, b'0'..=b'9' | b'-' | b'+' | b'.' | b'e' | b'E');
                let len = bytes[at..].iter().take_while(|byte| is_part(byte)).count();
                let number = &json[at..at + len];
                let is_int = number.bytes().all(|byte| matches!(byte, b'0'..=b'9' | b'-'));
                let fits = match is_int {
                    true => number.parse::<i64>().is_ok(),
                    false => number.parse::<f64>().map_or(true, f64::is_finite),
                };
                if !fits {
                    out.push_str(&json[copied..at]);
                    out.push('"');
                    out.push_str(number);
                    out.push('"');
                    copied = at + len;
                }
                at += len;
            }
            _ => at += 1,
        }
    }
    if copied == 0 {
        return Cow::Borrowed(json);
    }
    out.push_str(&json[copied..]);
    Cow::Owned(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whole_numbers_stay_exact_and_those_that_no_field_holds_are_told() {
        let int = |text: &str| Number::read(text).unwrap().whole();
        assert_eq!(int("9007199254740993"), Ok(9_007_199_254_740_993));
        assert_eq!(Number::Int(9_007_199_254_740_993).times(Number::Int(1)).whole(), Ok(9_007_199_254_740_993));
        assert!(int("18446744073709551615").is_err() && int("1e19").is_err() && int("1e400").is_err());
        assert_eq!(int("61.5"), Ok(62));
        let json = r#"{"a": 18446744073709551615, "b": [1e400, -3, "1e400 \" 99999999999999999999"], "c": 1.5}"#;
        let read = with_large_numbers_as_texts(json);
        assert_eq!(
            read,
            r#"{"a": "18446744073709551615", "b": ["1e400", -3, "1e400 \" 99999999999999999999"], "c": 1.5}"#
        );
        assert!(matches!(with_large_numbers_as_texts("[1, 2.5]"), Cow::Borrowed(_)));
    }
}
