//! `vestigum code`: what a code carries, what each value adds to it, and what one stands for.

use std::path::PathBuf;

use serde_json::{Value as Json, json};

use vestigum::spec::{Code, Digit, Form, Holds};
use vestigum::{CodeError, Progress, Spec};

use crate::show::{GOOD, Output, QUIET, STRONG, as_json, paint, table};
use crate::{Verdict, input};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The spec, a TOML document
    spec: PathBuf,
    /// The code; left out, all of them
    name: Option<String>,
    /// Tell the values of a code, as a player would type it
    #[arg(long, requires = "name", value_name = "CODE")]
    read: Option<String>,
}

pub(crate) fn run(out: &Output, arguments: &Arguments) -> Verdict {
    attempt(out, arguments).unwrap_or_else(|verdict| verdict)
}

fn attempt(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let spec = input::spec(out, &arguments.spec)?;
    let codes: Vec<&Code> = match &arguments.name {
        None => spec.codes().collect(),
        Some(name) => {
            let found = spec.model().find_code(name);
            let unknown = |nearest| out.unusable(&CodeError::UnknownCode { name: name.clone(), nearest }.to_string());
            vec![found.map_err(unknown)?]
        }
    };
    if let (Some(text), Some(name)) = (&arguments.read, &arguments.name) {
        return Ok(read(out, &spec, name, text));
    }
    if codes.is_empty() {
        return Err(out.unusable(&format!("{} declares no code: see `[code.NAME]`", arguments.spec.display())));
    }
    if out.json {
        let codes = codes.iter().map(|code| layout_as_json(&spec, code));
        out.json(&json!({ "ok": true, "codes": codes.collect::<Vec<_>>() }));
        return Ok(Verdict::Fine);
    }
    for (index, code) in codes.into_iter().enumerate() {
        if index > 0 {
            out.line("");
        }
        out.line(layout(&spec, code));
    }
    Ok(Verdict::Fine)
}

/// The values that a code stands for.
fn read(out: &Output, spec: &Spec, name: &str, text: &str) -> Verdict {
    let values = match spec.read_code(name, text) {
        Ok(values) => values,
        Err(error) if out.json => {
            out.json(&json!({ "ok": false, "error": error.to_string() }));
            return Verdict::Failed;
        }
        Err(error) => {
            out.line(error);
            return Verdict::Failed;
        }
    };
    if out.json {
        let values = values.iter().map(|(name, value)| (name.clone(), as_json(value)));
        out.json(&json!({ "ok": true, "values": Json::Object(values.collect()) }));
        return Verdict::Fine;
    }
    let rows = values.iter().map(|(name, value)| vec![name.clone(), paint(STRONG, value)]);
    out.line(table(&["value".into(), "is".into()], rows.collect(), 2).trim_end());
    Verdict::Fine
}

fn layout(spec: &Spec, code: &Code) -> String {
    let (step, text) = match code.form() {
        Form::Number { step, .. } => (u128::from(*step), false),
        Form::Text(_) => (1, true),
    };
    let once = code.once.map(|field| format!(", redeemed once: `{}` remembers", spec.model().field(field).name()));
    let mut shown = format!("{}  {}{}\n\n", paint(STRONG, code.name()), form(code), once.unwrap_or_default());
    let rows = code.digits().iter().map(|digit| {
        let adds = paint(GOOD, format_args!("{:>12}", grouped(digit.weight() * step)));
        vec![format!("{adds}{}", paint(QUIET, each(digit))), digit.entry().to_owned(), values(spec, digit)]
    });
    let heading = if text { "to the number" } else { "it adds" };
    shown.push_str(&table(&[format!("{heading:>12}"), "value".into(), "can be".into()], rows.collect(), 2));
    let fresh = Progress::fresh(spec).code(code.name()).unwrap_or_default();
    let largest = code.written(code.size().saturating_sub(1));
    shown.push_str(&format!(
        "\n{} {fresh}    {} {largest}\n",
        paint(QUIET, "a newcomer's"),
        paint(QUIET, "the largest")
    ));
    shown.push_str(&room(code));
    shown
}

fn form(code: &Code) -> String {
    match code.form() {
        Form::Number { max, step: 1 } => format!("a number from 0 to {}", grouped(u128::from(*max))),
        Form::Number { max, step } => format!("a number from 0 to {} in steps of {step}", grouped(u128::from(*max))),
        Form::Text(signs) => {
            let s = if signs.check == 1 { "" } else { "s" };
            format!("{} characters, {} of them check character{s}", signs.len(), signs.check)
        }
    }
}

/// Returns how often the weight of a value counts.
fn each(digit: &Digit) -> &'static str {
    if digit.size() == 2 { "" } else { " each" }
}

fn values(spec: &Spec, digit: &Digit) -> String {
    let own = match digit.holds() {
        Holds::Bool => "false, true".to_owned(),
        Holds::Int(lowest, highest) => format!("{lowest} to {highest}"),
        Holds::Choice(_) => choices(spec, digit).join(", "),
    };
    if digit.is_optional() { format!("none, {own}") } else { own }
}

/// The names of a choice that a code carries.
fn choices<'s>(spec: &'s Spec, digit: &Digit) -> Vec<&'s str> {
    match spec.model().field(digit.field).ty() {
        vestigum::Type::Choice(names) => names.iter().map(|name| name.name()).collect(),
        _ => Vec::new(),
    }
}

/// Returns how much of the gate is used, and how many switches would still fit.
fn room(code: &Code) -> String {
    let room = room_of(code);
    let used = code.size();
    let switches = (room / used).checked_ilog2().unwrap_or(0);
    let s = if switches == 1 { "" } else { "s" };
    let fits =
        if switches == 0 { "no room for another bool".to_owned() } else { format!("room for {switches} more bool{s}") };
    format!("{} {} of {}; {}", paint(QUIET, "used:"), grouped(used), grouped(room), paint(GOOD, fits))
}

fn room_of(code: &Code) -> u128 {
    match code.form() {
        Form::Number { max, step } => u128::from(max / step) + 1,
        Form::Text(signs) => (signs.alphabet.len() as u128).saturating_pow(signs.number as u32),
    }
}

/// A number with its thousands apart; of long ones how many digits they have.
fn grouped(number: u128) -> String {
    if number >= 1_000_000_000_000_000 {
        return format!("about 10^{}", number.ilog10());
    }
    let digits = number.to_string();
    let mut out = String::new();
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

fn layout_as_json(spec: &Spec, code: &Code) -> Json {
    let step = u128::from(code.step());
    let values = code.digits().iter().map(|digit| {
        let holds = match digit.holds() {
            Holds::Bool => json!({ "type": "bool" }),
            Holds::Int(lowest, highest) => json!({ "type": "int", "lowest": lowest, "highest": highest }),
            Holds::Choice(_) => json!({ "type": "choice", "of": choices(spec, digit) }),
        };
        json!({
            "value": digit.entry(), "holds": holds, "optional": digit.is_optional(),
            "adds": (digit.weight() * step).to_string(),
        })
    });
    let form = match code.form() {
        Form::Number { max, step } => json!({ "as": "number", "max": max, "step": step }),
        Form::Text(signs) => json!({ "as": "text", "signs": signs.len(), "check": signs.check, "group": signs.group }),
    };
    json!({
        "code": code.name(), "form": form, "values": values.collect::<Vec<_>>(), "used": code.size().to_string(),
        "room": room_of(code).to_string(), "once": code.once.map(|field| spec.model().field(field).name()),
    })
}
