//! When levels open, and when the game saves.

use crate::analysis::monotone::Moves;
use crate::codes;
use crate::diagnostic::Spanned;
use crate::document::Word;
use crate::model::expression::Expression;
use crate::model::level::Opening;
use crate::model::{Names, Readable};
use crate::reading::compile::{Scope, compile};
use crate::reading::{Resolver, place_of, unknown_moment};
use crate::value::types::Type;
use crate::vocabulary::moment::Moment;
use crate::vocabulary::policy::OpeningOrder;

/// The most generations of a save that can be kept.
pub const MAX_KEEP: u32 = 1_000;

/// 3 older generations are kept where the spec says nothing.
const KEEP: u32 = 3;

impl Resolver<'_> {
    pub(super) fn condition(&mut self, spec: &Readable, scope: Scope, text: &Word) -> Option<Expression> {
        compile(spec, scope, &text.value, Some(&Type::Bool), &place_of(self.text, text), self.errors)
    }

    /// When each level opens: those of `order` one after the other, unless it is said otherwise.
    pub(super) fn openings(&mut self, spec: &Readable) -> Vec<Opening> {
        let order: OpeningOrder = self.choose("opening", self.document.opening.as_ref()).unwrap_or_default();
        let by_order = |level: usize| match order {
            // What is not in the order and says no condition is reached by an exit: anything else was refused.
            _ if spec.is_made_level(level as u32) => Opening::Made,
            _ if level >= spec.in_order => Opening::ByExit,
            OpeningOrder::InOrder if level > 0 => Opening::After(level as u32 - 1),
            OpeningOrder::InOrder | OpeningOrder::All => Opening::Always,
        };
        let mut openings: Vec<Opening> = (0..spec.levels.len()).map(by_order).collect();
        for (name, entry) in &self.document.levels {
            let (Some(opens), Some(index)) = (&entry.opens, spec.level_ids.get(name.value.as_str()).copied()) else {
                continue;
            };
            if let Some(condition) = self.condition(spec, Scope::Opens, opens) {
                if !matches!(condition.moves(spec), Moves::Not | Moves::Up) {
                    let message =
                        format!("an opening level may lock `{}`: this may stop holding when others open", name.value);
                    self.error(codes::CLOSING_CONDITION, opens.span, message).help = Some(
                        "conditions are judged together, in no order; ask with `open(…)` only for levels that must be open".into(),
                    );
                }
                openings[index as usize] = Opening::When(condition);
            }
        }
        openings
    }

    /// The moments at which the game saves. Where none are named, a crash must not take the evening.
    pub(super) fn save_at(&mut self, spec: &Names) -> Vec<Moment> {
        let Some(named) = &self.document.save.at else { return Moment::SAVES.to_vec() };
        let mut save_at = Vec::new();
        for word in named {
            match spec.moment(&word.value) {
                None => self.errors.push(unknown_moment(spec, word)),
                Some(Moment::Quit) => {
                    let message = "`quit` needs no mention: quitting always saves";
                    self.error(codes::IDLE_RULE, word.span, message);
                }
                Some(moment) => save_at.push(moment),
            }
        }
        save_at
    }

    /// Returns how many older generations are kept.
    pub(super) fn keep(&mut self) -> u32 {
        let Some(Spanned { value, span }) = &self.document.save.keep else { return KEEP };
        u32::try_from(*value).ok().filter(|keep| (1..=MAX_KEEP).contains(keep)).unwrap_or_else(|| {
            self.error(codes::OUT_OF_RANGE, *span, format!("`keep` goes from 1 to {MAX_KEEP}"));
            KEEP
        })
    }
}

/// For each field, whether some level's opening reads it.
pub(super) fn opens_levels(spec: &Readable, openings: &[Opening]) -> Vec<bool> {
    let mut read = vec![false; spec.fields.len()];
    for opening in openings {
        match opening {
            Opening::Always | Opening::ByExit | Opening::Made => {}
            Opening::After(_) => read[spec.completed.0 as usize] = true,
            Opening::When(condition) => condition.reads().iter().for_each(|id| read[id.0 as usize] = true),
        }
    }
    read
}
