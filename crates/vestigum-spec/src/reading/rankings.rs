//! Fields that are rankings: their type, by what their entries are sorted, how many there are.

use std::sync::Arc;

use crate::codes;
use crate::diagnostic::Diagnostic;
use crate::document::{FieldEntry, Word};
use crate::model::Names;
use crate::model::field::RANKING;
use crate::reading::Resolver;
use crate::reading::blobs::is_blob;
use crate::value::limits::Limits;
use crate::value::ranking::{Better, RankedBy, Ranking};
use crate::value::types::{StructType, Type};

/// Returns what stands behind `ranking of` in the words for a type.
fn entry_words(word: &str) -> Option<&str> {
    Some(word.strip_prefix(RANKING)?.strip_prefix(" of ")?.trim_start())
}

/// Returns whether a type is a ranking.
pub(super) fn is_ranking(word: &Word) -> bool {
    entry_words(&word.value).is_some()
}

impl Resolver<'_> {
    /// The type of a field. Only a whole field can be a ranking or a blob, so this is asked of fields and not of members.
    pub(super) fn field_type(&mut self, spec: &Names, word: &Word, choice: Option<&Type>) -> Type {
        match entry_words(&word.value) {
            Some(item) => Type::List(Arc::new(self.ty(spec, &Word::new(item.to_owned(), word.span), choice))),
            None if is_blob(word) => Type::Bytes,
            None => self.ty(spec, word, choice),
        }
    }

    /// The order of a ranking and its length.
    pub(super) fn ranking(&mut self, name: &Word, entry: &FieldEntry, ty: &Type) -> Limits {
        if let Some(range) = &entry.range {
            self.error(codes::WRONG_TYPE, range.span, "only numbers have a range; give one to the member").help =
                Some("members say their own limits, as in `letters = { type = \"int\", range = [0, 60] }`".into());
        }
        let max = match &entry.max_len {
            None => Ranking::DEFAULT_MAX,
            Some(len) => match usize::try_from(len.value).ok().filter(|len| (1..=Ranking::MAX).contains(len)) {
                Some(len) => len,
                None => {
                    let message = format!("`max_len` of a ranking goes from 1 to {}", Ranking::MAX);
                    self.error(codes::OUT_OF_RANGE, len.span, message);
                    Ranking::DEFAULT_MAX
                }
            },
        };
        let item = match ty {
            Type::List(item) => item,
            other => other,
        };
        let mut by: Vec<RankedBy> = Vec::new();
        for word in &entry.by {
            let Some(one) = self.ranked_by(item, word) else { continue };
            if by.iter().any(|known| known.member == one.member) {
                let message = format!("`{}` sorts by this already", name.value);
                self.error(codes::SHAPE, word.span, message).help = Some("leave one of them out".into());
            } else {
                by.push(one);
            }
        }
        if entry.by.is_empty() {
            if item.is_ordered() {
                by.push(RankedBy { better: Better::Highest, member: None });
            } else if let Some(word) = &entry.ty {
                let message = format!("`{}` does not say by what it is sorted", name.value);
                let error = self.error(codes::SHAPE, word.span, message);
                error.help = Some(match item {
                    Type::Struct(of) => format!("add `by`, as in `by = [\"highest {}\"]`", first_ordered(of)),
                    _ => "rank numbers, or a struct that has some".into(),
                });
            }
        }
        Limits::of_ranking(Arc::new(Ranking { by, max }))
    }

    /// `highest letters`, `lowest time`, `letters`; of numbers `highest` and `lowest`.
    fn ranked_by(&mut self, item: &Type, word: &Word) -> Option<RankedBy> {
        let text = word.value.trim();
        let (better, member) = match text.split_once(' ') {
            Some((better, member)) => match Better::from_word(better) {
                Some(known) => (known, member.trim()),
                None => {
                    let message = format!("`{}` is neither `highest` nor `lowest`", better.escape_debug());
                    let words = Better::ALL.iter().map(|better| better.word());
                    let error = Diagnostic::error(codes::UNKNOWN_NAME, word.span, message);
                    self.errors.push(error.help("write `highest` or `lowest` before a member").suggest(better, words));
                    return None;
                }
            },
            None => match (item, Better::from_word(text)) {
                (Type::Struct(of), Some(_)) if of.position(text).is_some() => (Better::Highest, text),
                (_, Some(better)) => (better, ""),
                (_, None) => (Better::Highest, text),
            },
        };
        let member = match (item, member) {
            (Type::Struct(of), member) => match of.position(member) {
                Some(index) if of.members[index].ty.is_ordered() => Some((index, of.members[index].name.clone())),
                Some(index) => {
                    let message = format!("`{member}` is of type {}, which has no order", of.members[index].ty);
                    self.error(codes::WRONG_TYPE, word.span, message).help =
                        Some("rankings are sorted by ints, floats and choices".into());
                    return None;
                }
                None => {
                    let message = match member {
                        "" => format!("this does not say which member of {}", of.name),
                        member => format!("a {} has no member `{}`", of.name, member.escape_debug()),
                    };
                    let known = of.members.iter().filter(|member| member.ty.is_ordered()).map(|member| &*member.name);
                    let error = Diagnostic::error(codes::UNKNOWN_NAME, word.span, message);
                    self.errors.push(error.suggest(member, known));
                    return None;
                }
            },
            (item, "") if item.is_ordered() => None,
            (item, "") => {
                let message = format!("values of type {item} have no order");
                self.error(codes::WRONG_TYPE, word.span, message);
                return None;
            }
            (item, member) => {
                let message = format!("values of type {item} have no member `{}`", member.escape_debug());
                self.error(codes::UNKNOWN_NAME, word.span, message).help =
                    Some("write `highest` or `lowest` alone".into());
                return None;
            }
        };
        Some(RankedBy { better, member })
    }
}

/// A member by which a struct can be sorted, for an example.
fn first_ordered(of: &StructType) -> &str {
    of.members.iter().find(|member| member.ty.is_ordered()).map_or("points", |member| &member.name)
}
