//! The same sketch through the builder.

use vestigum_core::spec::builder::{FieldBuilder, LevelBuilder, MemberBuilder, RuleBuilder, SpecBuilder};
use vestigum_core::vocabulary::fate::PlainFate;
use vestigum_core::vocabulary::policy::{Accept, Respawn, Resume};
use vestigum_core::vocabulary::span::WrittenBy;
use vestigum_core::{Span, Spec};

use super::{FieldSketch, MOMENTS, OWN, OWN_RUN, Sketch, ranked};

/// Builds the spec of a sketch in Rust.
pub fn built(sketch: &Sketch) -> Spec {
    let listed = sketch.levels.len() - usize::from(sketch.ends_aside());
    let levels = (0..listed).map(|level| sketch.level(level));
    let mut builder = Spec::builder("fellpost")
        .order(levels)
        .moments([OWN])
        .new_runs([OWN_RUN])
        .keys_by("kind", ["k0", "k1"], "kind_now")
        .keys("tag", ["t0", "t1", "t2"])
        .open_keys("spot", 3)
        .structure("thing", [("n", "int"), ("name", "text")])
        .structure(
            "being",
            [
                MemberBuilder::new("level", "int").range(-30, 40).default(3),
                MemberBuilder::new("kind", "choice").of(["a", "b", "c"]).default("b"),
                MemberBuilder::new("note", "text").max_len(3),
            ],
        )
        .field(
            FieldBuilder::new("kind_now", "choice").of(["k0", "k1"]).lasts(Span::Run).after_failure(PlainFate::Entry),
        )
        .respawn(if sketch.respawn == "entry" { Respawn::Entry } else { Respawn::Checkpoint })
        .accept(match sketch.accept {
            "any" => Accept::Any,
            "forward" => Accept::Forward,
            _ => Accept::Next,
        })
        .resume(Resume::from_word(sketch.resume).expect("a mode"));
    if sketch.made > 0 {
        builder = builder.made_levels(sketch.made as i64, None, sketch.carried());
    }
    if sketch.opening == "all" {
        builder = builder.all_open();
    }
    if sketch.opened_last == "run" {
        builder = builder.levels_last_a_run();
    }
    if sketch.cleared {
        builder = builder.cleared_at([OWN_RUN]);
    }
    for (level, count) in sketch.levels.iter().enumerate() {
        let stops = (0..*count).map(|stop| format!("stop_{stop}"));
        let mut built = LevelBuilder::new(&sketch.level(level)).checkpoints(stops);
        if let Some(condition) = sketch.condition().filter(|_| level + 1 == sketch.levels.len()) {
            built = built.opens(&condition);
        }
        if let Some(next) = sketch.next.filter(|_| level == 0) {
            built = built.next(&sketch.level(next));
        }
        for (n, (_, to)) in sketch.exits.iter().enumerate().filter(|(_, (from, _))| *from == level) {
            built = built.exit(&format!("way_{n}"), &sketch.level(*to));
        }
        if sketch.hidden && level + 1 == sketch.levels.len() {
            built = built.hidden("count(completed) < 1");
        }
        builder = builder.level(built);
    }
    for (index, field) in sketch.fields.iter().enumerate() {
        builder = with_field(builder, sketch, index, field);
    }
    if let Some((index, bound)) = sketch.over {
        builder = builder.over_when(&format!("f{index} < {bound}"));
    }
    builder.build().unwrap_or_else(|errors| panic!("the builder wrote a bad spec:\n{errors}"))
}

fn with_field(builder: SpecBuilder, sketch: &Sketch, index: usize, field: &FieldSketch) -> SpecBuilder {
    let span = match field.lasts {
        "attempt" => Span::Attempt,
        "visit" => Span::Visit,
        "session" => Span::Session,
        "run" => Span::Run,
        "profile" => Span::Profile,
        _ => Span::Device,
    };
    let writer = if field.written_by == "play" { WrittenBy::Play } else { WrittenBy::Both };
    let mut out =
        FieldBuilder::new(&format!("f{index}"), field.ty).lasts(span).written_by(writer).per(field.per.clone());
    if matches!(span, Span::Visit | Span::Run | Span::Profile) {
        out = out.after_failure(PlainFate::from_word(field.after_failure).expect("a fate"));
    }
    if field.ty == "choice" {
        out = out.of(["a", "b", "c"]);
    }
    if field.range {
        out = if field.ty == "int" { out.range(-40i64, 60i64) } else { out.max_len(2) };
    }
    if let Some(by) = field.by() {
        out = out.by(by.iter().copied());
    }
    if field.has_default() {
        out = out.default(7i64);
    }
    if field.optional {
        out = out.optional();
    }
    if field.counts() {
        out = out.counts_ms();
    } else if field.saves() {
        out = out.save();
    }
    for moment in MOMENTS {
        for rule in field.rules.iter().filter(|rule| rule.moment == moment) {
            let item = ranked(field.ty).filter(|_| rule.effect == "rank");
            let operand = || sketch.operand(item.unwrap_or(field.ty), moment, rule.operand);
            let effect = match rule.effect {
                "set" => RuleBuilder::set(&operand()),
                "add" => RuleBuilder::add(&operand()),
                "max" => RuleBuilder::max(&operand()),
                "min" => RuleBuilder::min(&operand()),
                "union" => RuleBuilder::union(&operand()),
                "rank" => RuleBuilder::rank(&operand()),
                fate => RuleBuilder::fate(PlainFate::from_word(fate).expect("a fate")),
            };
            out = out.on(
                moment,
                match rule.guard {
                    Some(guard) => effect.when(&sketch.guard(moment, guard)),
                    None => effect,
                },
            );
        }
    }
    builder.field(out)
}
