//! The codes that a version issued, as the history records them, and what the spec makes of them now.
//!
//! A code is a number in mixed radix, and nothing in it says of what. A text code has a first sign and sums that belong to one layout: one
//! of another layout is refused. A number has nothing of the kind, so it is read as whatever it means now.

use serde::{Deserialize, Serialize};

use crate::document::{MigrationEntry, StepEntry};
use crate::model::Model;
use crate::model::code::{Code, Digit, Form, Holds};
use crate::value::Value;
use crate::value::types::Type;

/// A code as a version that shipped issued it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CodeShape {
    pub name: String,
    /// For a number, in which steps it counts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub step: Option<u64>,
    /// For a text, what tells its layout from others.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub layout: Option<String>,
    pub values: Vec<CodeValue>,
}

/// A value that a code carries: its entry, and what it can be.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CodeValue {
    pub entry: String,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub optional: bool,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub of: Vec<String>,
    /// Lowest and highest, of an int.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub range: Option<(i64, i64)>,
}

impl CodeShape {
    pub(super) fn of(model: &Model, code: &Code) -> CodeShape {
        let value = |digit: &Digit| CodeValue {
            entry: digit.entry().to_owned(),
            optional: digit.is_optional(),
            of: match &model.field(digit.field).ty {
                Type::Choice(names) => names.iter().map(|name| name.name().to_owned()).collect(),
                Type::Bool | Type::Int | Type::Float | Type::Text | Type::Bytes | Type::Vec2 | Type::Vec3 => Vec::new(),
                Type::Struct(_) | Type::List(_) | Type::Set(_) | Type::Map(_) => Vec::new(),
            },
            range: match digit.holds() {
                Holds::Int(lowest, highest) => Some((lowest, highest)),
                Holds::Bool | Holds::Choice(_) => None,
            },
        };
        let (step, layout) = match code.form() {
            Form::Number { step, .. } => (Some(*step), None),
            Form::Text(signs) => (None, Some(signs.layout())),
        };
        CodeShape { name: code.name().to_owned(), step, layout, values: code.digits().iter().map(value).collect() }
    }

    /// Says what the spec makes of codes that were issued when this was recorded, if it is not what they meant: `are refused`, `73 (a = 3, b = 7)
    /// is read as a = 73`. `steps` are the migrations since.
    pub fn misread(&self, model: &Model, steps: &[&MigrationEntry]) -> Option<String> {
        let code = model.find_code(&self.name).ok()?;
        match (code.form(), &self.layout) {
            (Form::Text(signs), Some(layout)) if signs.layout() == *layout => None,
            (Form::Text(_), _) | (Form::Number { .. }, Some(_)) => Some("are refused".into()),
            (Form::Number { .. }, None) => {
                self.samples().into_iter().find_map(|sample| self.differs(model, code, steps, &sample))
            }
        }
    }

    /// Values to try: all the first, all the last, and one after the other the last.
    fn samples(&self) -> Vec<Vec<u128>> {
        let last: Vec<u128> = self.values.iter().map(|value| value.size() - 1).collect();
        let mut samples = vec![vec![0; last.len()]];
        for at in 0..last.len() {
            let mut sample = vec![0; last.len()];
            sample[at] = last[at];
            samples.push(sample);
        }
        // What shows only beside another value.
        samples.extend(
            (0..last.len()).map(|at| {
                last.iter().enumerate().map(|(i, place)| place.saturating_sub(u128::from(i == at))).collect()
            }),
        );
        samples.push(last);
        samples
    }

    fn differs(&self, model: &Model, code: &Code, steps: &[&MigrationEntry], places: &[u128]) -> Option<String> {
        let mut weight = 1u128;
        let mut number = 0u128;
        for (value, place) in self.values.iter().zip(places) {
            number = number.saturating_add(place.saturating_mul(weight));
            weight = weight.saturating_mul(value.size());
        }
        let written = number.saturating_mul(u128::from(self.step.unwrap_or(1))).to_string();
        let meant: Vec<(String, String)> =
            self.values.iter().zip(places).map(|(value, place)| value.shown(*place, steps)).collect();
        let told = |values: &[(String, String)]| {
            /// As many tell enough.
            const FEW: usize = 6;
            let mut told: Vec<String> =
                values.iter().take(FEW).map(|(entry, value)| format!("{entry} = {value}")).collect();
            if values.len() > FEW {
                told.push("…".into());
            }
            told.join(", ")
        };
        let Ok((number, _)) = code.read(&written) else {
            return Some(format!("are read as others: {written} ({}) is refused", told(&meant)));
        };
        let is: Vec<(String, String)> = code
            .values(&model.fields, number)
            .map(|(digit, value)| (digit.entry().to_owned(), shown(&value)))
            .collect();
        // A value that is new and at its first is what a player without the code has.
        let fresh = |entry: &(String, String)| meant.iter().all(|(known, _)| *known != entry.0);
        let first = |entry: &(String, String)| {
            let digit = code.digits().iter().find(|digit| digit.entry() == entry.0);
            digit.is_some_and(|digit| {
                code.values(&model.fields, 0).any(|(of, value)| of.slot == digit.slot && shown(&value) == entry.1)
            })
        };
        let same = meant.iter().all(|value| is.contains(value)) && is.iter().filter(|value| fresh(value)).all(first);
        (!same).then(|| format!("are read as others: {written} ({}) is read as {}", told(&meant), told(&is)))
    }
}

impl CodeValue {
    fn size(&self) -> u128 {
        let values = match self.range {
            Some((lowest, highest)) => (i128::from(highest) - i128::from(lowest) + 1).unsigned_abs(),
            None if self.of.is_empty() => 2,
            None => self.of.len() as u128,
        };
        (values + u128::from(self.optional)).max(1)
    }

    /// The entry as it is called now, and the value at a place.
    fn shown(&self, place: u128, steps: &[&MigrationEntry]) -> (String, String) {
        let (field, keys) = self.entry.split_once('[').map_or((&*self.entry, ""), |(field, keys)| (field, keys));
        let mut field = field.to_owned();
        let mut keys: Vec<String> =
            keys.trim_end_matches(']').split(", ").filter(|key| !key.is_empty()).map(str::to_owned).collect();
        let value = match place.checked_sub(u128::from(self.optional)) {
            None => Value::Unfilled.to_string(),
            Some(place) => match self.range {
                Some((lowest, _)) => (i128::from(lowest) + place as i128).to_string(),
                None if self.of.is_empty() => (place == 1).to_string(),
                None => self.of.get(place as usize).cloned().unwrap_or_default(),
            },
        };
        let mut value = value;
        for entry in steps {
            let was = field.clone();
            for step in entry.steps.iter().map(|step| &step.value) {
                let StepEntry::Rename { what, of, from, to } = step else { continue };
                match what.value.as_str() {
                    "field" if from.value == was => field.clone_from(&to.value),
                    "level" | "key" => {
                        keys.iter_mut().filter(|key| **key == from.value).for_each(|key| key.clone_from(&to.value));
                    }
                    "choice" if of.as_ref().is_some_and(|of| of.value == was) && value == from.value => {
                        value.clone_from(&to.value);
                    }
                    _ => {}
                }
            }
        }
        let entry = if keys.is_empty() { field } else { format!("{field}[{}]", keys.join(", ")) };
        (entry, value)
    }
}

/// A value as [`CodeValue::shown`] writes it.
fn shown(value: &Value) -> String {
    match value {
        Value::Choice(chosen) => chosen.name().to_owned(),
        value => value.to_string(),
    }
}
