//! Promises that hold by the rules alone: proved for every play, without playing any.
//!
//! One step is looked at from an *arbitrary* state: every value is an unknown inside its range, and so is every mark. A guard
//! that cannot be decided takes both branches. What holds after every such step holds in every play, however long, because
//! the states that play reaches are some of those. The converse is not true: where no proof is found, the states that play
//! can reach have to be searched.

mod after;
mod always;
mod decide;
mod falls;
mod outcomes;

use std::fmt;
use std::sync::Arc;

use vestigum_core::document::Word;
use vestigum_core::document::write::rule;
use vestigum_core::model::Model;
use vestigum_core::model::field::{Field, FieldId};
use vestigum_core::vocabulary::fate::PlainFate;
use vestigum_core::vocabulary::policy::Resume;
use vestigum_core::{Moment, Spec};

use super::question::{Asked, Question};
use falls::Rising;

/// Why a promise holds in every play: what can happen, and why that does not break it.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct RuleProof {
    /// What the proof stands on, in the order in which it is told.
    pub grounds: Vec<RuleGround>,
}

/// One thing that can happen, and why it does not break the promise.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct RuleGround {
    /// When it happens: the names of moments, or in words.
    pub when: Vec<Arc<str>>,
    /// The field that it is about.
    pub field: Arc<str>,
    /// What happens to the field, in words.
    pub what: String,
    /// The rule that does it, as the spec says it.
    pub rule: Option<String>,
    /// Where the rule stands in the text of the spec, in bytes from its beginning.
    pub offset: Option<usize>,
}

/// When something can happen to a field.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
enum Occasion {
    Moment(Moment),
    /// A source is taken.
    Sources,
    /// Quitting and launching again.
    Quitting,
    /// As long as play is in a level.
    InLevels,
}

/// Why what happens breaks nothing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
enum Reason {
    Keeps,
    BringsBack,
    IsItsMarks,
    NothingIsMore,
    TakesTheHigher,
    AddsNothingNegative,
    IsNeverBelow,
    BecomesTrue,
    GivesMore,
    GivesSomething,
    Opens,
    /// A rule decides, and the condition holds then.
    Rules,
    /// No rule decides, and the condition holds then.
    Becomes(PlainFate),
}

/// What a proof stands on.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Ground {
    occasion: Occasion,
    field: FieldId,
    reason: Reason,
    /// The place of the rule in the list of the field's rules at that moment.
    rule: Option<usize>,
}

impl Ground {
    fn new(occasion: Occasion, field: &Field, reason: Reason) -> Ground {
        Ground { occasion, field: field.id, reason, rule: None }
    }
}

/// A proof that the answer to a question is yes in every play, if the rules alone give one.
pub(super) fn prove(spec: &Spec, question: &Question, without: &[Moment]) -> Option<RuleProof> {
    let model = &**spec.model();
    // Some happen though the game does not say them: a run that is over, a launch, and what such a save is like.
    let follows = |moment: &Moment| match moment {
        Moment::Launch | Moment::GameOver => true,
        Moment::Abandon => model.resume == Resume::None,
        Moment::NewRun
        | Moment::Enter
        | Moment::Checkpoint
        | Moment::Death
        | Moment::Restart
        | Moment::Complete
        | Moment::Travel
        | Moment::Quit
        | Moment::Own(_)
        | Moment::OwnRun(_) => false,
    };
    let moments: Vec<Moment> = spec.moments().filter(|moment| follows(moment) || !without.contains(moment)).collect();
    let grounds = match &question.asked {
        Asked::NeverFalls(field) => Rising { spec: model, field: model.field(*field), moments: &moments }.grounds()?,
        Asked::Holds(condition, after) if after.is_empty() => always::grounds(model, condition, &moments)?,
        Asked::Holds(condition, after) => after::grounds(model, condition, after)?,
        Asked::Reachable | Asked::NoBetterLeft(_) | Asked::NothingGained(_) => return None,
    };
    Some(RuleProof { grounds: told(model, &grounds) })
}

/// The grounds in words: moments at which the same happens are told together.
fn told(spec: &Model, grounds: &[Ground]) -> Vec<RuleGround> {
    let mut told: Vec<RuleGround> = Vec::new();
    for ground in grounds {
        let (rule, offset) = rule_of(spec, ground).unzip();
        let (when, what) = (occasion_name(spec, ground.occasion), ground.reason.to_string());
        let field = &spec.field(ground.field).name;
        let same = told.iter_mut().find(|known| {
            (known.what.as_str(), known.offset, &known.field, &known.rule) == (&what, offset, field, &rule)
        });
        match same {
            Some(known) if known.when.contains(&when) => {}
            Some(known) => known.when.push(when),
            None => told.push(RuleGround { when: vec![when], field: field.clone(), what, rule, offset }),
        }
    }
    told
}

fn occasion_name(spec: &Model, occasion: Occasion) -> Arc<str> {
    match occasion {
        Occasion::Moment(moment) => spec.moment_name(moment).into(),
        Occasion::Sources => "a source".into(),
        Occasion::Quitting => "quitting in a level".into(),
        Occasion::InLevels => "in a level".into(),
    }
}

/// What the spec says that makes it so, and where that stands.
fn rule_of(spec: &Model, ground: &Ground) -> Option<(String, usize)> {
    let Occasion::Moment(moment) = ground.occasion else { return None };
    let field = spec.field(ground.field);
    let (_, entry) = spec.document.fields.iter().find(|(name, _)| *name.value == *field.name)?;
    let said = |key: &str, word: &Option<Word>| {
        let word = word.as_ref()?;
        Some((format!("{key} = \"{}\"", word.value), word.span.start))
    };
    if let Some(index) = ground.rule {
        let (_, rules) = entry.on.iter().find(|(name, _)| name.value == spec.moment_name(moment))?;
        return rules.get(index).map(|entry| (rule(entry), entry.offset()));
    }
    match ground.reason {
        Reason::Becomes(_) if moment.ends(field.lasts) => said("lasts", &entry.lasts),
        Reason::Becomes(_) if moment.is_failure() => said("after_failure", &entry.after_failure),
        _ => None,
    }
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Reason::Keeps => "stays as it is",
            Reason::BringsBack => "goes back to a mark, which holds the same",
            Reason::IsItsMarks => "is never changed, so both marks hold the same",
            Reason::NothingIsMore => "goes back to its default, and it can be no more than that",
            Reason::TakesTheHigher => "is raised or stays",
            Reason::AddsNothingNegative => "has only added to it what is not negative",
            Reason::IsNeverBelow => "becomes something that is never below it",
            Reason::BecomesTrue => "becomes true",
            Reason::GivesMore => "is given nothing that lowers it",
            Reason::GivesSomething => "gets what a source gives, and the promise holds then",
            Reason::Opens => "becomes true where a level opens",
            Reason::Rules => "becomes",
            Reason::Becomes(PlainFate::Keep) => "stays as it was",
            Reason::Becomes(PlainFate::Reset) => "goes back to its default",
            Reason::Becomes(PlainFate::Entry) => "goes back to what it was when the level was entered",
            Reason::Becomes(PlainFate::Checkpoint) => "goes back to what it was at the last checkpoint",
        })
    }
}
