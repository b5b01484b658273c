//! The ways to weaken a spec in one place.

use vestigum_core::{Span, Spec, Type};
use vestigum_spec::diagnostic::Spanned;
use vestigum_spec::document::rule;
use vestigum_spec::document::{Document, EffectEntry, FieldEntry, Word};
use vestigum_spec::model::field::Field;
use vestigum_spec::model::merging::FieldMerge;
use vestigum_spec::syntax::{Token, tokens};
use vestigum_spec::value::ranking::Ranking;
use vestigum_spec::vocabulary::fate::{Operation, PlainFate};
use vestigum_spec::vocabulary::merging::MergeLaw;
use vestigum_spec::vocabulary::policy::{Accept, Respawn, Resume};
use vestigum_spec::words;

/// A spec that was weakened in one place.
#[derive(Clone, Debug)]
pub struct Weakened {
    what: String,
    pub(super) spec: Spec,
}

impl Weakened {
    /// Returns what was changed, in words.
    pub fn what(&self) -> &str {
        &self.what
    }

    /// The spec with that change.
    pub fn spec(&self) -> &Spec {
        &self.spec
    }
}

pub(super) fn weakened(spec: &Spec) -> Vec<Weakened> {
    let document = &spec.model().document;
    let mut all = Vec::new();
    let mut change = |what: String, edit: &dyn Fn(&mut Document)| {
        let mut changed = document.clone();
        edit(&mut changed);
        // What is not sound any more is no spec that could be shipped unnoticed.
        let sound = spec.of_document(&changed).or_else(|| {
            says_how_it_is_merged(spec, &mut changed);
            spec.of_document(&changed)
        });
        all.extend(sound.map(|spec| Weakened { what, spec }));
    };
    for (index, (name, field)) in document.fields.iter().enumerate() {
        rules(&mut change, index, &name.value, field);
        let known = spec.model().find_field(&name.value);
        decisions(&mut change, index, &name.value, field, known.is_some_and(|field| field.ty.is_ordered()));
        let ranking = known.and_then(Field::ranking);
        for (at, by) in ranking.map(Ranking::by).unwrap_or_default().iter().enumerate() {
            let turned = by.turned();
            change(format!("{}: by `{turned}` instead of `{by}`", name.value), &|document| {
                // What is left out means the highest.
                let by = &mut document.fields[index].1.by;
                by.resize(by.len().max(at + 1), word(""));
                by[at] = word(&turned.to_string());
            });
        }
    }
    for (index, (name, level)) in document.levels.iter().enumerate() {
        for (text, moved) in level.opens.iter().flat_map(|opens| moved(&opens.value)) {
            let what = format!("{}: opens when `{text}`", name.value);
            change(what, &|document| set(&mut document.levels[index].1.opens, &moved));
        }
        for (exit, (called, _)) in level.exits.iter().enumerate() {
            change(format!("{}: without its exit `{}`", name.value, called.value), &|document| {
                document.levels[index].1.exits.remove(exit);
            });
        }
        if level.opens.is_some() && document.order.iter().any(|level| level.value == name.value) {
            change(format!("{}: without its `opens`", name.value), &|document| document.levels[index].1.opens = None);
        }
    }
    if document.merge.as_ref().is_some_and(|merge| merge.run.is_some()) {
        change("two runs are compared by their age alone".into(), &|document| {
            document.merge.iter_mut().for_each(|merge| merge.run = None);
        });
    }
    if !document.cleared_at.is_empty() {
        change("levels begin anew with every run".into(), &|document| document.cleared_at.clear());
    }
    for (text, moved) in document.over_when.iter().flat_map(|over_when| moved(&over_when.value)) {
        change(format!("the run is over when `{text}`"), &|document| set(&mut document.over_when, &moved));
    }
    if document.over_when.is_some() {
        change("the run is never over".into(), &|document| document.over_when = None);
    }
    for (what, other) in others::<Respawn>("respawn", document.respawn.as_ref()) {
        change(what, &|document| document.respawn = Some(word(other)));
    }
    for (what, other) in others::<Accept>("accept", document.accept.as_ref()) {
        change(what, &|document| document.accept = Some(word(other)));
    }
    for (what, other) in others::<Resume>("resume", document.save.resume.as_ref()) {
        change(what, &|document| document.save.resume = Some(word(other)));
    }
    all
}

/// The other words that could stand there, and what changes.
fn others<T: words::HasWord + Default>(what: &str, now: Option<&Word>) -> Vec<(String, &'static str)> {
    let now = now.map_or(T::default().word(), |word| &word.value);
    let others = T::ALL.iter().map(|choice| choice.word()).filter(|choice| *choice != now);
    others.map(|other| (format!("{what} = \"{other}\" instead of \"{now}\""), other)).collect()
}

type Edit<'c> = dyn FnMut(String, &dyn Fn(&mut Document)) + 'c;

fn rules(change: &mut Edit<'_>, index: usize, name: &str, field: &FieldEntry) {
    for (on, (moment, list)) in field.on.iter().enumerate() {
        for (at, entry) in list.iter().enumerate() {
            let shown = format!("on.{} = {}", moment.value, rule(entry));
            change(format!("{name}: without `{shown}`"), &|document| {
                let field = &mut document.fields[index].1;
                // Without a rule it would be play that writes it.
                field.written_by.get_or_insert_with(|| word("rules"));
                let rules = &mut field.on;
                rules[on].1.remove(at);
                if rules[on].1.is_empty() {
                    rules.remove(on);
                }
            });
            if let Some(when) = &entry.when {
                change(format!("{name}: `{shown}` without its guard"), &|document| {
                    document.fields[index].1.on[on].1[at].when = None;
                });
                for (text, moved) in moved(&when.value) {
                    change(format!("{name}: `on.{}` when `{text}`", moment.value), &|document| {
                        set(&mut document.fields[index].1.on[on].1[at].when, &moved);
                    });
                }
            }
            if let EffectEntry::Operand(effect, _) = &entry.does {
                let others: &[Operation] = match effect.value {
                    Operation::Max | Operation::Min => &[Operation::Set],
                    Operation::Set => &[Operation::Max, Operation::Min],
                    Operation::Add | Operation::Union | Operation::Rank => &[],
                };
                for other in others {
                    change(format!("{name}: `{other}` in `{shown}`"), &|document| {
                        if let EffectEntry::Operand(effect, _) = &mut document.fields[index].1.on[on].1[at].does {
                            effect.value = *other;
                        }
                    });
                }
            }
        }
    }
}

fn decisions(change: &mut Edit<'_>, index: usize, name: &str, field: &FieldEntry, is_ordered: bool) {
    if field.save {
        change(format!("{name}: without `save = true`"), &|document| document.fields[index].1.save = false);
    }
    if field.counts.is_some() {
        change(format!("{name}: counts no time"), &|document| {
            let field = &mut document.fields[index].1;
            (field.counts, field.counts_in) = (None, None);
        });
    }
    if field.counts_in.is_some() {
        change(format!("{name}: counts outside of levels, too"), &|document| document.fields[index].1.counts_in = None);
    }
    if let Some(now) = &field.after_failure {
        for other in PlainFate::after_failures().filter(|other| other.word() != now.value) {
            let what = format!("{name}: after_failure = \"{other}\" instead of \"{}\"", now.value);
            change(what, &|document| document.fields[index].1.after_failure = Some(word(other.word())));
        }
    }
    // The law that is taken by those who do not think of it; for what has it, another one, if there is one.
    let newer = MergeLaw::Newer.word();
    if let Some(now) = field.merge.as_ref().filter(|now| is_ordered || now.value != newer) {
        let other = if now.value == newer { MergeLaw::Max.word() } else { newer };
        let what = format!("{name}: merge = \"{other}\" instead of \"{}\"", now.value);
        change(what, &|document| document.fields[index].1.merge = Some(word(other)));
    }
    let Some(now) = field.lasts.as_ref().and_then(|lasts| Span::from_word(&lasts.value)) else { return };
    // Spans from the shortest to the longest; the device is no step of that ladder.
    let ladder: Vec<Span> = Span::ALL.iter().copied().filter(|span| *span != Span::Device).collect();
    let Some(place) = ladder.iter().position(|span| *span == now) else { return };
    let beside = [place.checked_sub(1), Some(place + 1)].into_iter().flatten().filter_map(|place| ladder.get(place));
    for other in beside {
        let span = |span: Span| format!("{} {span}", span.article());
        change(format!("{name}: lasts {} instead of {}", span(*other), span(now)), &|document| {
            let field = &mut document.fields[index].1;
            field.lasts = Some(word(other.word()));
            // What cannot be rewound says nothing about failing, and what can must.
            if *other == Span::Attempt || !other.can_rewind() {
                field.after_failure = None;
            } else if field.after_failure.is_none() {
                field.after_failure = Some(word(PlainFate::Keep.word()));
            }
        });
    }
}

/// Lets every field say how it is merged where it must, as it is merged in the spec, and nowhere else.
fn says_how_it_is_merged(spec: &Spec, changed: &mut Document) {
    let model = spec.model();
    let Some(merging) = &model.merging else { return };
    for (name, field) in &mut changed.fields {
        let lasts = field.lasts.as_ref().map(|lasts| lasts.value.as_str());
        let merge = model.find_field(&name.value).map(|field| (field, merging.fields[field.id.0 as usize]));
        field.merge = match merge {
            Some((field, _)) if lasts != Some(Span::Profile.word()) || field.ty == Type::Bool => None,
            Some((_, FieldMerge::By(law))) => Some(word(law.word())),
            Some((_, FieldMerge::Apart | FieldMerge::WithRun | FieldMerge::Changed)) | None => {
                Some(word(MergeLaw::Newer.word()))
            }
        };
    }
}

/// The condition with each number that something is compared with moved by one: what to show, and the whole text.
fn moved(text: &str) -> Vec<(String, String)> {
    let tokens = tokens(text).unwrap_or_default();
    let compared = tokens.windows(2).filter_map(|pair| match pair {
        [(Token::Symbol("<" | "<=" | ">" | ">=" | "==" | "!="), _), (Token::Int(int), span)] => Some((*int, *span)),
        _ => None,
    });
    let moved = compared.flat_map(|(int, span)| {
        [int.saturating_add(1), int.saturating_sub(1)].map(|other| {
            let changed = format!("{}{other}{}", &text[..span.start], &text[span.end..]);
            (changed.clone(), changed)
        })
    });
    moved.collect()
}

fn word(text: &str) -> Word {
    Spanned::new(text.to_owned(), Default::default())
}

fn set(target: &mut Option<Word>, text: &str) {
    *target = Some(word(text));
}
