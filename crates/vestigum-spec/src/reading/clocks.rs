//! What a field says of time and of saving: `counts`, `in` and `save`.

use crate::codes;
use crate::document::{FieldEntry, Word};
use crate::model::Names;
use crate::model::axis::Axis;
use crate::model::field::Counts;
use crate::reading::Resolver;
use crate::value::types::Type;
use crate::vocabulary::span::{Span, WrittenBy};
use crate::vocabulary::time::{CountsIn, TimeUnit};

impl Resolver<'_> {
    /// Returns whether a field counts time, and where.
    pub(super) fn counts(
        &mut self,
        spec: &Names,
        name: &Word,
        entry: &FieldEntry,
        ty: &Type,
        written_by: WrittenBy,
        axes: &[Axis],
    ) -> Option<Counts> {
        let place = self.choose::<CountsIn>("in", entry.counts_in.as_ref());
        let Some(word) = &entry.counts else {
            if let Some(word) = &entry.counts_in {
                self.error(codes::SHAPE, word.span, "`in` is said of a field that counts time").help =
                    Some("add `counts = \"ms\"`".into());
            }
            return None;
        };
        self.choose_of::<TimeUnit>("counts", Some(word), TimeUnit::is_counted)?;
        let field = &name.value;
        if *ty != Type::Int {
            let message = format!("`{field}` is of type {ty}, and time is counted in whole milliseconds");
            self.error(codes::WRONG_TYPE, word.span, message).help = Some("write `type = \"int\"`".into());
        }
        if written_by == WrittenBy::Rules {
            let message = format!("only rules write `{field}`, so no time is counted in it");
            self.error(codes::SHAPE, word.span, message).help =
                Some("write `written_by = \"both\"`, or leave `written_by` out".into());
        }
        for axis in axes {
            let Axis::Keys(set) = axis else { continue };
            let set = &spec.key_sets[*set as usize];
            let declared = self.document.keys.iter().find(|(name, _)| *name.value == *set.name);
            if declared.is_none_or(|(_, entry)| entry.current.is_none()) {
                let message = format!("`{field}` counts for each {}, and nothing says for which one now", set.name);
                self.error(codes::SHAPE, word.span, message).help =
                    Some(format!("give `[keys.{}]` the `current` choice field, or count per level", set.name));
            }
        }
        Some(match place {
            None => Counts::Everywhere,
            Some(CountsIn::Level) => Counts::InLevel,
        })
    }

    /// Returns whether `save` can mean something.
    pub(super) fn saves(&mut self, name: &Word, entry: &FieldEntry, lasts: Span, written_by: WrittenBy) {
        if !entry.save {
            return;
        }
        let field = &name.value;
        if !lasts.is_saved() {
            let message = format!(
                "`{field}` lasts {} {lasts}, which no save holds, so a write of it saves nothing",
                lasts.article()
            );
            self.error(codes::IDLE_RULE, name.span, message).help = Some("take `save = true` out".into());
        } else if !written_by.play() {
            let message = format!("only rules write `{field}`, and `save = true` is about writes of play");
            self.error(codes::IDLE_RULE, name.span, message).help =
                Some("name the moments of its rules in `[save] at`".into());
        } else if entry.counts.is_some() {
            let message = format!("`{field}` counts time, so it would be saved at every frame");
            self.error(codes::IDLE_RULE, name.span, message).help =
                Some("take `save = true` out: every save holds the time so far".into());
        }
    }
}
