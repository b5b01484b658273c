//! Fields that are blobs: how long they may be, and what is set to them.

use crate::codes;
use crate::document::{FieldEntry, Word};
use crate::model::field::BLOB;
use crate::reading::Resolver;
use crate::value::limits::Limits;
use crate::value::types::Type;
use crate::vocabulary::span::Span;

/// Returns whether a type is a blob.
pub(super) fn is_blob(word: &Word) -> bool {
    word.value == BLOB
}

impl Resolver<'_> {
    /// Returns how many bytes a blob may have.
    pub(super) fn blob(&mut self, name: &Word, entry: &FieldEntry) -> Limits {
        let limits = self.limits(name, entry, &Type::Bytes);
        if let Some(literal) = &entry.default {
            let message = format!("`{}` is a blob, and blobs begin empty", name.value);
            self.error(codes::SHAPE, literal.span, message).help =
                Some("take `default` out, or add `optional = true` to tell an empty one from none".into());
        }
        let max_len = if entry.max_len.is_some() { limits.max_len } else { Limits::DEFAULT_BLOB_LEN };
        Limits::of_blob(max_len)
    }

    /// Returns whether a list of players can show it: one blob of each profile.
    pub(super) fn thumbnail(&mut self, name: &Word, entry: &FieldEntry, lasts: Span) {
        if !entry.thumbnail {
            return;
        }
        let field = &name.value;
        let why = if !entry.ty.as_ref().is_some_and(is_blob) {
            format!("expected a {BLOB} for a thumbnail, found `{field}`")
        } else if lasts != Span::Profile {
            format!("`{field}` lasts {} {lasts}, and a thumbnail is kept as long as its player", lasts.article())
        } else if !entry.per.is_empty() {
            format!("`{field}` has a value for each {}, and a player has one thumbnail", entry.per[0].value)
        } else if self.has_earlier_thumbnail(name) {
            format!("there is a thumbnail before `{field}`, and a player has one")
        } else {
            return;
        };
        self.error(codes::SHAPE, name.span, why).help =
            Some("`thumbnail = true` is said of one blob that lasts a profile and has no `per`".into());
    }

    fn has_earlier_thumbnail(&self, name: &Word) -> bool {
        let earlier = self.document.fields.iter().take_while(|(field, _)| field.value != name.value);
        earlier.into_iter().any(|(_, entry)| entry.thumbnail)
    }
}
