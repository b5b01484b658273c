//! Promises that hold by the rules alone: proved for every play, without playing any.
//!
//! One step is looked at from an *arbitrary* state: every value is an unknown inside its range, and so is every mark. A guard
//! that cannot be decided takes both branches. What holds after every such step holds in every play, however long, because
//! the states that play reaches are some of those. The converse is not true: where no proof is found, the states that play
//! can reach have to be searched.

mod after;
mod always;
mod decide;
pub(super) mod failing;
mod falls;
pub(super) mod lasting;
mod leaving;
mod lemmas;
mod linear;
mod moves;
mod outcomes;
mod parts;

use std::fmt;
use std::sync::Arc;

use vestigum_core::{Moment, Spec};
use vestigum_spec::analysis::monotone::Moves;
use vestigum_spec::document::Word;
use vestigum_spec::document::rule;
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::Axis;
use vestigum_spec::model::expression::Expression;
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::model::level::Opening;
use vestigum_spec::model::node::{EntryRef, Node};
use vestigum_spec::vocabulary::fate::PlainFate;
use vestigum_spec::vocabulary::policy::Resume;

use super::gaps::{Gap, names};
use super::question::{Asked, Question};
use falls::Rising;
use lemmas::Lemma;

/// Describes why a promise holds in every play: what can happen, and why that does not break it.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct RuleProof {
    /// Says what the proof stands on, in the order in which it is shown.
    pub grounds: Vec<RuleGround>,
    /// Says whether it holds from the default on, step by step; otherwise it holds from any state whatever.
    pub from_default: bool,
    /// Names the other promises that the proof takes as known; each is proved itself.
    pub promises: Vec<Arc<str>>,
    /// Lists what the proof leaves out.
    pub gaps: Vec<Gap>,
}

/// One thing that can happen, and why it does not break the promise.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct RuleGround {
    /// When it happens: the names of moments, or in words.
    pub when: Vec<Arc<str>>,
    /// The field that it is about.
    pub field: Arc<str>,
    /// Says what happens to the field, in words.
    pub what: String,
    /// The rule that does it, as the spec says it.
    pub rule: Option<String>,
    /// Says where the rule stands in the text of the spec, in bytes from its beginning.
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
    /// A level opens.
    Openings,
}

/// Describes why what happens breaks nothing.
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
    OpensWhere,
    /// A death leaves at least as much.
    KeepsNoMore,
    RunGoesOn,
    /// It is what it was at both marks, as long as play is in a level.
    Unchanged,
    /// A source gives it again only where it was taken back.
    GivenAgain,
    /// A rule decides, and the condition holds then.
    Rules,
    /// No rule decides, and the condition holds then.
    Becomes(PlainFate),
}

/// Describes what a proof stands on.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Ground {
    occasion: Occasion,
    field: FieldId,
    reason: Reason,
    /// The place of the rule in the list of the field's rules at that moment.
    rule: Option<usize>,
}

/// A proof, before it is put into words.
struct FoundProof {
    grounds: Vec<Ground>,
    from_default: bool,
    promises: Vec<Arc<str>>,
    gaps: Vec<Gap>,
}

impl FoundProof {
    /// One that leaves nothing out: it begins at any state, and so at what a code, a sync or an older save makes.
    fn from_any_state(grounds: Vec<Ground>) -> FoundProof {
        FoundProof { grounds, from_default: false, promises: Vec::new(), gaps: Vec::new() }
    }
}

impl FoundProof {
    /// One that takes these as known.
    fn with(mut self, lemmas: &[Lemma]) -> FoundProof {
        for lemma in lemmas {
            self.from_default = true;
            self.grounds.extend(lemma.grounds.iter().cloned());
            self.promises.extend(lemma.promise.clone());
            self.gaps.extend(lemma.gaps.iter().filter(|gap| !self.gaps.contains(gap)).cloned().collect::<Vec<_>>());
        }
        self
    }

    fn told(self, spec: &Model) -> RuleProof {
        let FoundProof { grounds, from_default, promises, gaps } = self;
        RuleProof { grounds: told(spec, &grounds), from_default, promises, gaps }
    }
}

impl Ground {
    fn new(occasion: Occasion, field: &Field, reason: Reason) -> Ground {
        Ground { occasion, field: field.id, reason, rule: None }
    }
}

/// A proof that the answer to a question is yes in every play, if the rules alone give one.
pub(super) fn prove(spec: &Spec, question: &Question, without: &[Moment]) -> Option<RuleProof> {
    let moments = moments(spec, without);
    let found = proved(spec, question, &moments, &[]).or_else(|| {
        let lemmas = lemmas::of(spec, question, &moments);
        if lemmas.is_empty() { None } else { proved(spec, question, &moments, &lemmas) }
    });
    Some(found?.told(spec.model()))
}

/// Asks the rules, with what is known already of every state.
fn proved(spec: &Spec, question: &Question, moments: &[Moment], lemmas: &[Lemma]) -> Option<FoundProof> {
    let model = &**spec.model();
    match &question.asked {
        Asked::ValueNeverFalls(values) => value_never_falls(model, values, moments),
        Asked::NeverFalls(field) => Rising { spec: model, field: model.field(*field), moments }.proof(),
        Asked::Holds(condition, after) if after.is_empty() => always::proof(spec, condition, moments, lemmas),
        Asked::Holds(condition, after) => after::proof(model, condition, after, lemmas),
        Asked::NoBetterLeft(field) => leaving::proof(spec, model.field(*field), moments),
        Asked::Reachable | Asked::Can(..) | Asked::Completable | Asked::NothingGained(_) => None,
    }
}

/// Lists the conditions under which levels open.
fn opening_conditions(spec: &Model) -> impl Iterator<Item = &Expression> {
    spec.openings.iter().filter_map(|opening| match opening {
        Opening::When(condition) => Some(condition),
        Opening::Always | Opening::After(_) | Opening::ByExit | Opening::Made => None,
    })
}

/// Names older saves where a version was frozen: what is proved of this version alone need not hold of them.
fn frozen<'a>(spec: &Spec, fields: impl IntoIterator<Item = &'a Field>) -> Vec<Gap> {
    let any = spec.updates().history.as_ref().is_some_and(|history| history.versions().next().is_some());
    if any { vec![Gap::OlderSaves(names(fields.into_iter()))] } else { Vec::new() }
}

/// Proves that values never fall: what they read does not, and they only rise with it.
fn value_never_falls(spec: &Model, values: &[Expression], moments: &[Moment]) -> Option<FoundProof> {
    let mut proof = FoundProof::from_any_state(Vec::new());
    let mut known: Vec<FieldId> = Vec::new();
    for value in values {
        only_rises(spec, value).then_some(())?;
        for id in value.reads().iter().filter(|id| !spec.is_made_field(**id)) {
            if !known.contains(id) {
                known.push(*id);
                let found = Rising { spec, field: spec.field(*id), moments }.proof()?;
                proof.grounds.extend(found.grounds);
                proof.gaps.extend(found.gaps);
            }
        }
    }
    // What a removed level had is no part of the whole any more.
    let whole = values.iter().any(|value| {
        let derived = value.derived().iter().map(|index| spec.derived[*index as usize].expression.node());
        derived.chain([value.node()]).any(|node| speaks_of_all(spec, node))
    });
    let of_levels = known.iter().map(|id| spec.field(*id)).filter(|field| field.axes.contains(&Axis::Level));
    let of_levels = names(of_levels);
    if !spec.made_levels.is_empty() && whole && !of_levels.is_empty() {
        proof.gaps.push(Gap::MadeLevels(of_levels));
    }
    Some(proof)
}

/// Says whether a value can only rise where no field that it reads falls. A value that is filled, and a name that play makes, bring an
/// entry that may be lower than zero or than all that there were.
fn only_rises(spec: &Model, value: &Expression) -> bool {
    let comes = |id: &FieldId| {
        let field = spec.field(*id);
        field.optional || field.axes.iter().any(|axis| spec.is_open(*axis))
    };
    let moves = value.moves_with(spec, &|_| Moves::Up);
    matches!(moves, Moves::Not | Moves::Up) && !value.reads().iter().any(comes)
}

/// Says whether a node reads the entries of levels that players make: all of them together, or one by its place.
fn speaks_of_all(spec: &Model, node: &Node) -> bool {
    match node {
        Node::Aggregate(_, field) => spec.field(*field).axes.contains(&Axis::Level),
        Node::Read(_, field, EntryRef::Slot(slot)) => {
            spec.field(*field).level_of(spec, *slot).is_some_and(|level| spec.is_made_level(level))
        }
        _ => node.any_part(&mut |part| speaks_of_all(spec, part)),
    }
}

/// The moments that can happen.
pub(super) fn moments(spec: &Spec, without: &[Moment]) -> Vec<Moment> {
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
    spec.moments().filter(|moment| follows(moment) || !without.contains(moment)).collect()
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
        Occasion::Openings => "a level that opens".into(),
    }
}

/// Returns what the spec says that makes it so, and where that stands.
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
            Reason::OpensWhere => "becomes true where its condition holds, which then never stops holding",
            Reason::RunGoesOn => "is such that the run is not over: that is judged after every failure",
            Reason::KeepsNoMore => "is left with no more than a death in its place leaves",
            Reason::Unchanged => "does not change",
            Reason::GivenAgain => "is given once more only where a failure has taken back what it gave",
            Reason::Rules => "becomes",
            Reason::Becomes(PlainFate::Keep) => "stays as it was",
            Reason::Becomes(PlainFate::Reset) => "goes back to its default",
            Reason::Becomes(PlainFate::Entry) => "goes back to what it was when the level was entered",
            Reason::Becomes(PlainFate::Checkpoint) => "goes back to what it was at the last checkpoint",
        })
    }
}
