//! The fate rule against a second reading of it: one that looks at the sketch, not at the plan, and keeps its marks as
//! whole copies.

use std::collections::BTreeMap;

use proptest::prelude::*;

use vestigum_core::{Place, Progress, Spec, Value};
use vestigum_testing::hunting::config;
use vestigum_testing::{Allowed, FieldSketch, OWN_RUN, RuleSketch, Sketch, Step, apply, play, sketch, values};

type Values = BTreeMap<String, Value>;

/// The operand of every rule here: no field has that number, so it is written as a literal.
const OPERAND: usize = 99;
const LITERAL: i64 = 99 * 7 - 20;

/// Ints with and without levels, rules without guards, and a run that never ends by itself.
fn plain(sketch: Sketch) -> Sketch {
    let fields = sketch.fields.into_iter().map(|field| FieldSketch {
        ty: "int",
        per: if field.per.contains(&"level") { vec!["level"] } else { Vec::new() },
        rules: field
            .rules
            .into_iter()
            .filter(|rule| !matches!(rule.effect, "union" | "rank") && rule.moment != "launch")
            .filter(|rule| !(field.per.contains(&"level") && matches!(rule.moment, "new_run" | OWN_RUN)))
            .map(|rule| RuleSketch { operand: OPERAND, guard: None, ..rule })
            .collect(),
        ..field
    });
    Sketch { fields: fields.collect(), over: None, opens: None, ..sketch }
}

struct Model<'s> {
    sketch: &'s Sketch,
    entry: Values,
    checkpoint: Values,
}

impl Model<'_> {
    /// Names what one entry of a field is after a moment.
    fn after(
        &self,
        field: &FieldSketch,
        name: &str,
        moment: &str,
        before: &Values,
        subject: Option<&str>,
        inside: bool,
    ) -> Value {
        let now = before[name].clone();
        let default = if field.optional { Value::Unfilled } else { Value::Int(0) };
        let lives_inside = matches!(field.lasts, "attempt" | "visit");
        let touched = match name.split_once('[') {
            None => true,
            // The device keeps nothing for a level that a player made.
            Some((_, key)) if field.lasts == "device" && key.starts_with("made_") => false,
            Some((_, key)) => subject.is_some_and(|level| key.trim_end_matches(']') == level),
        };
        let exists = !lives_inside || inside || moment == "enter";
        // 1. The rule of the moment, for the entry that it touches.
        if let Some(rule) = field.rules.iter().find(|rule| rule.moment == moment).filter(|_| touched && exists) {
            return match rule.effect {
                "keep" => now,
                "reset" => default,
                "entry" => self.entry[name].clone(),
                "checkpoint" => self.checkpoint[name].clone(),
                deed => limited(field, changed(deed, &now)),
            };
        }
        // 2. The end of the span.
        let failure = matches!(moment, "death" | "restart" | "abandon") || (moment == "game_over" && inside);
        let visit_ends = matches!(moment, "restart" | "complete" | "travel" | "abandon" | "game_over");
        let ends = match field.lasts {
            "attempt" => failure || visit_ends,
            "visit" => visit_ends,
            "run" => matches!(moment, "new_run" | OWN_RUN),
            _ => false,
        };
        if ends {
            let stays = matches!(moment, "death" | "restart");
            return if stays && lives_inside { self.entry[name].clone() } else { default };
        }
        // 3. A failure; device and session fields are never rewound. 4. Keep.
        let rewinds = matches!(field.lasts, "visit" | "run" | "profile");
        match field.after_failure {
            "entry" if failure && rewinds => self.entry[name].clone(),
            "checkpoint" if failure && rewinds => self.checkpoint[name].clone(),
            _ => now,
        }
    }

    fn all_after(&self, moment: &str, before: &Values, subject: Option<&str>, inside: bool) -> Values {
        let mut expected = Values::new();
        for (index, field) in self.sketch.fields.iter().enumerate() {
            for keys in self.sketch.entries(field) {
                let name = if keys.is_empty() { format!("f{index}") } else { format!("f{index}[{}]", keys[0]) };
                expected.insert(name.clone(), self.after(field, &name, moment, before, subject, inside));
            }
        }
        expected
    }
}

fn changed(deed: &str, now: &Value) -> i64 {
    match (deed, now) {
        ("add", now) => now.as_int() + LITERAL,
        ("max", Value::Int(now)) => LITERAL.max(*now),
        ("min", Value::Int(now)) => LITERAL.min(*now),
        _ => LITERAL,
    }
}

fn limited(field: &FieldSketch, int: i64) -> Value {
    Value::Int(if field.range { int.clamp(-40, 60) } else { int })
}

fn moment_of(step: &Step) -> Option<&'static str> {
    match step {
        Step::Enter { .. } => Some("enter"),
        Step::Checkpoint(_) => Some("checkpoint"),
        Step::Moment(name) => Some(name),
        Step::Exit(_) => Some("complete"),
        Step::Write { .. } | Step::Tick(_) | Step::Reset(..) | Step::Made(_) => None,
    }
}

proptest! {
    #![proptest_config(config(400, vestigum_testing::kept_in!("fate_rule")))]

    #[test]
    fn every_moment_does_what_the_rule_says(
        sketch in sketch(Allowed { launch_rules: false, priced_failures: true }).prop_map(plain),
        steps in play(40),
    ) {
        let spec = Spec::from_toml(&sketch.toml()).unwrap_or_else(|errors| panic!("{errors}"));
        let mut game = Progress::fresh(&spec);
        let ours = |game: &Progress| -> Values {
            values(&sketch, game).into_iter().filter(|(name, _)| name.starts_with('f')).collect()
        };
        let mut model = Model { sketch: &sketch, entry: ours(&game), checkpoint: ours(&game) };
        // What a reset does to the marks is no moment.
        for step in steps.iter().filter(|step| !matches!(step, Step::Reset(..))) {
            let before = ours(&game);
            let level = |game: &Progress| match game.place() {
                Place::InLevel { level, .. } => Some(level),
                _ => None,
            };
            let stood = level(&game);
            // Nor is what removing a level does to them.
            if stood.is_some() && matches!(step, Step::Made(_)) {
                continue;
            }
            let outcome = apply(&sketch, &mut game, step);
            let (Some(moment), Ok(Some(outcome))) = (moment_of(step), outcome) else { continue };
            if !outcome.accepted {
                continue;
            }
            let at_entry = moment == "death" && sketch.respawn == "entry";
            if matches!(moment, "restart" | "abandon" | "game_over") || at_entry {
                model.checkpoint = model.entry.clone();
            }
            if stood.is_none() {
                // Outside a level both marks equal the current state.
                (model.entry, model.checkpoint) = (before.clone(), before.clone());
            }
            let subject = if moment == "enter" { level(&game) } else { stood.clone() };
            let expected = model.all_after(moment, &before, subject.as_deref(), stood.is_some());
            prop_assert_eq!(&ours(&game), &expected, "after {}", moment);
            match moment {
                "enter" => (model.entry, model.checkpoint) = (expected.clone(), expected),
                "checkpoint" => model.checkpoint = expected,
                _ => {}
            }
        }
    }

    /// The table says what the moments do: a field that it shows as staying is not changed.
    #[test]
    fn what_the_table_shows_as_staying_stays(
        sketch in sketch(Allowed { launch_rules: false, priced_failures: true }),
        steps in play(30),
    ) {
        let spec = Spec::from_toml(&sketch.toml()).unwrap_or_else(|errors| panic!("{errors}"));
        let table = vestigum_verify::fate_table::FateTable::of(&spec);
        let mut game = Progress::fresh(&spec);
        for step in &steps {
            let Ok(Some(outcome)) = apply(&sketch, &mut game, step) else { continue };
            let name = spec.moment_name(outcome.moment);
            let column = table.columns.iter().position(|column| *column == name).expect("a column for every moment");
            let over = table.columns.iter().position(|column| column == "game_over").expect("a column for game over");
            for change in &outcome.changes {
                let row = table.rows.iter().find(|row| row.field == *change.field).expect("a row for every field");
                let stays = |column: usize| row.cells[column].word() == "keep" && !row.cells[column].guarded;
                let opened = row.field == "opened";
                prop_assert!(opened || !stays(column) || (outcome.game_over && !stays(over)), "{} at {}", change, name);
            }
        }
    }
}
