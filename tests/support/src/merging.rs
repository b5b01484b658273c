//! The same sketches for a game whose saves are merged.

use proptest::prelude::*;

use vestigum_core::contributing::{Contribution, Contributor};
use vestigum_core::{Image, Progress, Spec};

use super::{FieldSketch, Sketch, Step, apply_all, play, ranked, sketch};

/// A spec that says how saves are merged, and what was played before and after two places parted.
#[derive(Clone, Debug)]
pub struct Parted {
    pub sketch: Sketch,
    /// Says which of the laws that fit each field has.
    pub laws: Vec<usize>,
    pub before: Vec<Step>,
    pub here: Vec<Step>,
    pub there: Vec<Step>,
    /// Says which side was saved later; neither says that both were at the same time.
    pub later: Option<bool>,
}

pub fn parted() -> impl Strategy<Value = Parted> {
    let plays = (play(18), play(14), play(14));
    let allowed = super::Allowed { launch_rules: false, priced_failures: true };
    let sketch = prop_oneof![4 => sketch(allowed), 1 => at_checkpoints()];
    let laws = proptest::collection::vec(0usize..4, 7);
    (sketch, laws, plays, any::<Option<bool>>()).prop_map(|(sketch, laws, (before, here, there), later)| {
        let at_a_checkpoint = sketch.fields.len() == AT_CHECKPOINTS;
        let mut parted = Parted { sketch, laws, before, here, there, later };
        if at_a_checkpoint {
            // The base holds what nobody has earned for good.
            let write = |field, value| Step::Write { field, level: 0, value, add: true };
            let enter = Step::Enter { level: 0, at: None, any: true };
            parted.before.extend([Step::Moment("travel"), enter, write(0, 5), write(1, 3), Step::Checkpoint(0)]);
        }
        parted
    })
}

/// Says how many fields a sketch of [`at_checkpoints`] has.
const AT_CHECKPOINTS: usize = 8;

/// A game that is resumed at its checkpoints, to which some of its fields go back.
fn at_checkpoints() -> impl Strategy<Value = Sketch> {
    let allowed = super::Allowed { launch_rules: false, priced_failures: false };
    let fields = proptest::collection::vec(super::field(), AT_CHECKPOINTS - 2);
    (sketch(allowed), fields).prop_map(move |(sketch, fields)| {
        let number = |ty| FieldSketch {
            ty,
            lasts: "profile",
            after_failure: "checkpoint",
            written_by: "play",
            per: Vec::new(),
            optional: false,
            range: false,
            save: false,
            rules: Vec::new(),
        };
        let fields = [number("int"), number("float")].into_iter().chain(fields).collect();
        let levels = vec![2; sketch.levels.len()];
        let mut sketch =
            Sketch { levels, fields, accept: "any", respawn: "checkpoint", resume: "checkpoint", over: None, ..sketch };
        sketch.tidy(allowed);
        sketch
    })
}

/// The laws that fit a field which lasts a profile.
fn fitting(field: &FieldSketch) -> &'static [&'static str] {
    match field.ty {
        "bool" => &[],
        "int" | "float" => &["sum", "max", "min", "newer"],
        "choice" => &["max", "min", "newer"],
        "set of text" | "map of int" => &["union", "newer"],
        ty if ranked(ty).is_some() => &["union", "newer"],
        _ => &["newer"],
    }
}

impl Parted {
    /// The law of a field, if it has one.
    pub fn law(&self, field: usize) -> Option<&'static str> {
        let of = &self.sketch.fields[field];
        let fitting = fitting(of);
        if of.lasts != "profile" || fitting.is_empty() {
            return None;
        }
        Some(fitting[self.laws[field % self.laws.len()] % fitting.len()])
    }

    pub fn toml(&self) -> String {
        let mut text = self.sketch.toml();
        for field in 0..self.sketch.fields.len() {
            if let Some(law) = self.law(field) {
                let head = format!("[field.f{field}]\n");
                text = text.replace(&head, &format!("{head}merge = \"{law}\"\n"));
            }
        }
        text.push_str("[merge]\n");
        // Of the run, a number that both saves have.
        let compared = self
            .sketch
            .fields
            .iter()
            .position(|field| field.ty == "int" && field.per.is_empty() && field.lasts == "run" && !field.optional);
        if let Some(field) = compared.filter(|_| self.laws[0] > 0) {
            text.push_str(&format!("run = \"f{field}\"\n"));
        }
        text
    }

    pub fn spec(&self) -> Spec {
        let toml = self.toml();
        Spec::from_toml(&toml).unwrap_or_else(|errors| panic!("the generator wrote a bad spec:\n{errors}\n{toml}"))
    }

    /// A save by play of one installation, on top of another save.
    pub fn played(&self, spec: &Spec, from: Option<&Image>, steps: &[Step], by: &str, at: &str) -> Image {
        let mut contributor = Contributor::new(spec, from).expect("its own image loads").expect("the spec merges");
        let mut game = Progress::launch(spec, from, None).expect("its own image loads").progress;
        game.follow_visits();
        apply_all(&self.sketch, &mut game, steps);
        let seconds = at.len() as i64 + i64::from(at.as_bytes()[9]);
        let by = Contribution { by: by.into(), last: 0, tag: format!("{by}{}", steps.len()).into(), at: seconds };
        let (saved, visits) = (game.suspend(), game.visits());
        let origin = contributor.contribute(&saved, &visits, &by);
        let image = Image { saved_at: at.into(), origin: Some(Box::new(origin)), ..saved.profile_image("player") };
        let mut read = Image::from_json(&image.to_json()).expect("what is written is read");
        read.blobs = image.blobs.clone();
        assert_eq!(read, image);
        image
    }

    /// The save that both had, what became of it in either place, and in a third one.
    pub fn images(&self, spec: &Spec) -> [Image; 4] {
        let base = self.played(spec, None, &self.before, "a", "2000-01-01T00:00:00Z");
        let (early, late) = ("2000-01-02T00:00:00Z", "2000-01-02T00:00:00.5Z");
        let (of_here, of_there) = match self.later {
            None => (early, early),
            Some(true) => (late, early),
            Some(false) => (early, late),
        };
        let here = self.played(spec, Some(&base), &self.here, "a", of_here);
        let there = self.played(spec, Some(&base), &self.there, "b", of_there);
        let backwards: Vec<Step> = self.here.iter().chain(&self.there).rev().cloned().collect();
        let third = self.played(spec, Some(&base), &backwards, "c", "2000-01-03T00:00:00Z");
        [base, here, there, third]
    }
}
