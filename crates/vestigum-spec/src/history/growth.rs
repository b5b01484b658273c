//! What a spec holds that no frozen shape of its version does: a patch that was not frozen yet.

use crate::history::History;
use crate::history::shape::{FieldShape, MoreShape, Shape};
use crate::history::union::below;
use crate::model::Model;
use crate::value::tree::Tree;

impl History {
    /// Says what the saves of a model can hold beyond the shapes that were frozen under its version's number, a few words for each: `coins to
    /// 1000`, `late`. Empty if one of them is the model's, or if the version is not frozen.
    pub(crate) fn growth(&self, model: &Model) -> Vec<String> {
        let Some(frozen) = self.version(model.version) else { return Vec::new() };
        if self.shape(model.version, &model.shape).is_some() {
            return Vec::new();
        }
        let now = Shape::of(model);
        let mut grown = Growth { was: &frozen.shape, told: Vec::new() };
        grown.names(&now);
        grown.structs(&now);
        now.fields.iter().for_each(|field| grown.field(field));
        if grown.told.is_empty() {
            grown.told.push("a default, a span or a policy".into());
        }
        grown.told
    }
}

/// Lowest and highest, where there is a range.
type Range = Option<(Tree, Tree)>;

struct Growth<'a> {
    was: &'a Shape,
    told: Vec<String>,
}

impl Growth<'_> {
    fn names(&mut self, now: &Shape) {
        for level in &now.levels {
            let Some(was) = self.was.levels.iter().find(|was| was.id == level.id) else {
                self.told.push(format!("the level {}", level.id));
                continue;
            };
            let fresh = level.checkpoints.iter().filter(|name| !was.checkpoints.contains(name));
            self.told.extend(fresh.map(|name| format!("the checkpoint {name} of {}", level.id)));
        }
        if now.made > self.was.made {
            self.told.push(format!("{} levels that players make", now.made.unwrap_or_default()));
        }
        for set in &now.keys {
            let Some(was) = self.was.keys.iter().find(|was| was.name == set.name) else {
                self.told.push(format!("the key set {}", set.name));
                continue;
            };
            let fresh = set.names.iter().filter(|name| !was.names.contains(name));
            self.told.extend(fresh.map(|name| format!("the {} {name}", set.name)));
            if set.max > was.max {
                self.told.push(format!("{} names of {}", set.max.unwrap_or_default(), set.name));
            }
        }
    }

    fn structs(&mut self, now: &Shape) {
        for ty in &now.structs {
            let Some(was) = self.was.structs.iter().find(|was| was.name == ty.name) else { continue };
            for member in &ty.members {
                let called = format!("{}.{}", ty.name, member.name());
                match was.members.iter().find(|was| was.name() == member.name()) {
                    None => self.told.push(called),
                    Some(was) => {
                        let (MoreShape { of, range, max_len, .. }, was) = (member.more(), was.more());
                        self.limits(&called, (&was.of, &of), (&was.range, &range));
                        if was.max_len.is_some_and(|was| max_len.is_none_or(|len| len > was)) {
                            self.told.push(format!("{called} of more length"));
                        }
                    }
                }
            }
        }
    }

    fn field(&mut self, now: &FieldShape) {
        let Some(was) = self.was.fields.iter().find(|was| was.name == now.name) else {
            self.told.push(now.name.clone());
            return;
        };
        self.limits(&now.name, (&was.of, &now.of), (&was.range, &now.range));
        if now.len() > was.len() {
            self.told.push(format!("{} of more length", now.name));
        }
        if was.default.is_some() && now.default.is_none() {
            self.told.push(format!("{} without a value", now.name));
        }
    }

    fn limits(&mut self, name: &str, (were, are): (&[String], &[String]), (was, is): (&Range, &Range)) {
        self.told.extend(are.iter().filter(|choice| !were.contains(choice)).map(|choice| format!("{name} '{choice}'")));
        match (was, is) {
            (Some(_), None) => self.told.push(format!("{name} without a range")),
            (Some((low, high)), Some((lowest, highest))) => {
                if below(lowest, low) {
                    self.told.push(format!("{name} from {}", lowest.plain()));
                }
                if below(high, highest) {
                    self.told.push(format!("{name} to {}", highest.plain()));
                }
            }
            (None, _) => {}
        }
    }
}
