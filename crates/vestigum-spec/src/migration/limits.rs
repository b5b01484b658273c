//! Finds what can hold less than before: a raised version is enough, and older saves are brought inside.

use crate::diagnostic::SourceSpan;
use crate::migration::needs::Finder;
use crate::model::field::Field;
use crate::value::types::{Member, Type};
use crate::value::{Value, below};

/// Says what becomes of values that have no room any more.
const INSIDE: &str = "older saves are then brought inside and reported";

impl Finder<'_> {
    pub(super) fn limits(&mut self, was: &Field, now: &Field, place: SourceSpan) {
        let name = &was.name;
        let mut narrower_members = Vec::new();
        self.members(&was.ty, &now.ty, &mut narrower_members);
        for (member, what) in narrower_members {
            // Of a struct that several fields have, once.
            if self.asked.insert((member.clone(), what.into())) {
                let message = format!("`{member}` has {what} {}", self.now());
                self.version(place, message, INSIDE);
            }
        }
        if narrower(was.limits.range.as_ref(), now.limits.range.as_ref()) {
            let range = |field: &Field| match &field.limits.range {
                Some((lowest, highest)) => format!("[{lowest}, {highest}]"),
                None => "any number".into(),
            };
            let message = format!("the range of `{name}` is {} {}, and was {}", range(now), self.now(), range(was));
            self.version(place, message, INSIDE);
        }
        let (len, before) = (now.limits.max_len, was.limits.max_len);
        if len < before && was.ty.has_length() {
            let message = format!("`{name}` holds {len} at most {}, and could hold {before}", self.now());
            self.version(place, message, INSIDE);
        }
        // Under new names, and with the members that are new at their defaults.
        let default = self.plan.names.convert(was.id, &was.default, &was.ty, &now.ty);
        if was.is_keyed() && default.as_ref() != Some(&now.default) && !was.optional {
            let message = format!(
                "the default of `{name}` is {} {}, and was {}: saves leave out the entries that are at it",
                now.default,
                self.now(),
                was.default
            );
            self.version(place, message, "older saves are then read by the default that they were written with");
        }
    }

    /// The members of structs that can hold less than before.
    fn members(&self, was: &Type, is: &Type, found: &mut Vec<(String, &'static str)>) {
        match (was, is) {
            (Type::Struct(was), Type::Struct(is)) => {
                for member in &was.members {
                    let now = self.plan.names.member(&was.name, &member.name).and_then(|now| is.position(now));
                    let Some(now) = now.map(|at| &is.members[at]) else { continue };
                    let called = format!("{}.{}", is.name, now.name);
                    if narrower(member.range.as_ref(), now.range.as_ref()) {
                        found.push((called.clone(), "a narrower range"));
                    }
                    let len = |of: &Member| of.max_len.unwrap_or(usize::MAX);
                    if len(now) < len(member) {
                        found.push((called, "a lower `max_len`"));
                    }
                    self.members(&member.ty, &now.ty, found);
                }
            }
            (Type::List(was), Type::List(is)) | (Type::Set(was), Type::Set(is)) | (Type::Map(was), Type::Map(is)) => {
                self.members(was, is, found);
            }
            _ => {}
        }
    }
}

/// Checks whether some value of the one range is outside the other.
fn narrower(was: Option<&(Value, Value)>, is: Option<&(Value, Value)>) -> bool {
    match (was, is) {
        (_, None) => false,
        (None, Some(_)) => true,
        (Some((low, high)), Some((lowest, highest))) => below(low, lowest) || below(highest, high),
    }
}
