//! Versions that grew: patches that were frozen and that were not, hotfixes that were frozen late, branches that were merged.

use proptest::collection::vec;
use proptest::prelude::*;
use proptest::sample::select;

use vestigum_core::{History, Launched, Progress, Spec, Value};
use vestigum_testing::{play, sketch, values};

use super::cases;
use super::edits::*;

/// A change that loses nothing without a step, whatever the spec is.
fn growth() -> impl Strategy<Value = Edit> {
    prop_oneof![
        4 => vestigum_testing::field().prop_map(Edit::AddField),
        2 => Just(Edit::AddLevel),
        1 => (0usize..4, select(vec![3usize, 4])).prop_map(|(level, count)| Edit::Checkpoints(level, count)),
        1 => Just(Edit::Words(GROWN_STRUCT)),
        1 => (0usize..7).prop_map(Edit::Range),
    ]
}

/// A patch of a spec, if it is one: a spec that has every place that the frozen one has.
fn patch(base: &Draft, edits: &[Edit], history: &History) -> Option<(Draft, Spec)> {
    let grown = changed(base, edits);
    let spec = check(&versioned(&grown, 1, ""), history).spec?;
    Some((grown, spec))
}

/// Returns the progress as a save would have it, to compare two loads.
fn progress(launched: &Launched) -> (String, String) {
    let suspended = launched.progress.suspend();
    (suspended.profile_image("player").digest(), suspended.device_image().digest())
}

proptest! {
    #![proptest_config(cases(250))]

    /// Returns whether a patch was frozen or not, what its saves hold is carried, or told.
    #[test]
    fn a_patch_loses_nothing_in_silence(
        base in sketch(ALLOWED), grow in vec(growth(), 1..4), edits in vec(edit(), 0..4), steps in play(40), freezes in any::<bool>(),
    ) {
        let base = Draft::from(&base);
        let first = Spec::from_toml(&versioned(&base, 1, "")).expect("a sound spec");
        let history = frozen(&History::default(), &first);
        let Some((grown, patched)) = patch(&base, &grow, &history) else { return Ok(()) };
        let images = saved(&grown, &patched, &steps);
        prop_assert_eq!(history.grown(&patched).is_empty(), patched.model().shape == first.model().shape);
        let history = if freezes { frozen(&history, &patched) } else { history };
        prop_assert!(!freezes || history.grown(&patched).is_empty());
        let second = changed(&grown, &edits);
        let (spec, migrations) = with_steps(&second, 2, &history, "");
        let (before, after) = (load(&patched, &images), load(&spec, &images));
        if after.report.place.is_none() && !migrations.contains("\"level\"") && !migrations.contains("\"checkpoint\"") {
            let told = |name: &str| {
                // A field is told as a whole, and an entry by its keys.
                let field = name.split('[').next().unwrap_or_default();
                let dropped = after.report.dropped.iter().map(|dropped| dropped.what.to_string());
                let clamped = after.report.clamped.iter().map(|clamped| clamped.name.to_string());
                dropped.chain(clamped).any(|told| {
                    // A place in a value is told as the later version reads it, which may have other keys.
                    let inside = |of: &str| told.strip_prefix(of).is_some_and(|rest| rest.starts_with(['[', '.']));
                    told == name || told == field || inside(name) || inside(field)
                })
            };
            // What is at its default is nothing that a level or a key which is gone could take along.
            let defaults = Progress::fresh(&patched);
            let values: Vec<(String, Value)> = values(&grown, &defaults).into_iter().collect();
            let at_default = |name: &str, value: &Value| values.iter().any(|(known, default)| known == name && default == value);
            let held = vestigum_testing::values(&grown, &before.progress);
            let empty = |name: &str| held.iter().any(|(known, value)| known == name && at_default(name, value));
            let named = |name: &str| empty(name) || told(name) || said_of(&grown, &migrations, name);
            prop_assert_eq!(lost(&grown, &before.progress, &after.progress, named), None);
        }
        let suspended = after.progress.suspend();
        let again = load(&spec, &(suspended.profile_image("player"), suspended.device_image()));
        prop_assert!(again.report.is_clean(), "{}", again.report);
    }

    /// A hotfix that is frozen late changes nothing for the saves of before, and its own are carried.
    #[test]
    fn a_hotfix_changes_nothing_for_others(
        base in sketch(ALLOWED), edits in vec(edit(), 1..4), grow in vec(growth(), 1..3), steps in play(40),
    ) {
        let base = Draft::from(&base);
        let first = Spec::from_toml(&versioned(&base, 1, "")).expect("a sound spec");
        let one = frozen(&History::default(), &first);
        let second = changed(&base, &edits);
        let (before_hotfix, migrations) = with_steps(&second, 2, &one, "");
        let two = frozen(&one, &before_hotfix);
        let Some((grown, hotfix)) = patch(&base, &grow, &one) else { return Ok(()) };
        let history = frozen(&two, &hotfix);
        let text = versioned(&second, 2, &migrations);
        let checked = check(&text, &history);
        // Two meanings of one name, and a step that the saves of before would take as well, need somebody to decide.
        if checked.spec.is_none() && checked.missing.is_empty() {
            return Ok(());
        }
        let (after_hotfix, migrations) = with_steps(&second, 2, &history, &migrations);
        let old = saved(&base, &first, &steps);
        prop_assert_eq!(progress(&load(&before_hotfix, &old)), progress(&load(&after_hotfix, &old)));
        let images = saved(&grown, &hotfix, &steps);
        let (before, after) = (load(&hotfix, &images), load(&after_hotfix, &images));
        if after.report.place.is_none() && !migrations.contains("\"level\"") && !migrations.contains("\"checkpoint\"") {
            let told = |name: &str| after.report.dropped.iter().any(|dropped| dropped.what.to_string() == name);
            let named = |name: &str| told(name) || said_of(&grown, &migrations, name);
            prop_assert_eq!(lost(&grown, &before.progress, &after.progress, named), None);
        }
    }

    /// Two branches that froze one number come together, and the saves of both load.
    #[test]
    fn branches_come_together(
        base in sketch(ALLOWED), fields in vec(vestigum_testing::field(), 1..3), levels in 1usize..3, steps in play(40),
    ) {
        let base = Draft::from(&base);
        let first = Spec::from_toml(&versioned(&base, 1, "")).expect("a sound spec");
        let one = frozen(&History::default(), &first);
        let fields: Vec<Edit> = fields.into_iter().map(Edit::AddField).collect();
        let levels: Vec<Edit> = std::iter::repeat_n(Edit::AddLevel, levels).collect();
        let branch = |edits: &[Edit]| {
            let draft = changed(&base, edits);
            let spec = check(&versioned(&draft, 2, ""), &one).spec;
            spec.map(|spec| (draft, spec))
        };
        let (Some((left, of_left)), Some((right, of_right))) = (branch(&fields), branch(&levels)) else { return Ok(()) };
        // As version control merges them: the lines of both.
        let (left_text, right_text) = (frozen(&one, &of_left).to_json(), frozen(&one, &of_right).to_json());
        let more = right_text.lines().filter(|line| !left_text.contains(line)).collect::<Vec<_>>().join("\n");
        let both = left_text.replacen("\n  ]\n}", &format!("\n{more}\n  ]\n}}"), 1);
        let history = History::from_json("history", &both).unwrap_or_else(|error| panic!("{error}"));
        prop_assert_eq!(history.shapes(2), 2);
        let merged = changed(&changed(&base, &fields), &levels);
        for version in [2, 3] {
            let checked = check(&versioned(&merged, version, ""), &history);
            let Some(spec) = checked.spec else { panic!("{}", checked.findings) };
            for (draft, of_branch) in [(&left, &of_left), (&right, &of_right)] {
                let images = saved(draft, of_branch, &steps);
                let (before, after) = (load(of_branch, &images), load(&spec, &images));
                prop_assert!(!after.report.unfrozen && after.report.dropped.is_empty(), "{}", after.report);
                prop_assert_eq!(lost(draft, &before.progress, &after.progress, |_| false), None);
            }
        }
    }
}
