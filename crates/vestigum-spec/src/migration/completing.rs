//! Trying the steps that are offered: pasted as a whole they have to stand, and nothing may be left to ask for.

use crate::diagnostic::Spanned;
use crate::document::{MigrationEntry, StepEntry, read};
use crate::migration::needs::{Need, needs};
use crate::migration::plan::{Pair, plan};
use crate::migration::steps::StepReader;

/// Limits how often what one answer asks for is answered, too.
const ROUNDS: usize = 8;

/// Tries the offers beside the steps that stand: one that cannot be taken gives way to its fallback, and what is asked for once they stand
/// is offered as well.
pub(super) fn completed(pair: &Pair<'_>, entry: Option<&MigrationEntry>, mut found: Vec<Need>) -> Vec<Need> {
    for _ in 0..ROUNDS {
        let offers: Vec<usize> = (0..found.len()).filter(|at| found[*at].offer.is_some()).collect();
        let offered = offers.iter().filter_map(|at| found[*at].offer.as_ref().map(|offer| offer.step.as_str()));
        let steps = parsed(&offered.collect::<Vec<_>>());
        let standing = entry.map_or(0, |entry| entry.steps.len());
        // An offer that is not a step is a fault of this program, which a test of all of them finds.
        if steps.len() != offers.len() {
            return found;
        }
        let to = Spanned::new(pair.old.version + 1, pair.at);
        let all = entry.into_iter().flat_map(|entry| entry.steps.iter().cloned()).chain(steps).collect();
        let whole = MigrationEntry { to, steps: all };
        let mut errors = Vec::new();
        let mut reader =
            StepReader { old: pair.old, new: pair.new, text: "", dropped_before: &[], errors: &mut errors };
        let read = reader.read(&whole);
        let mut changed = false;
        for (at, applied) in offers.iter().zip(&read.applied[standing..]) {
            let Need { diagnostic, offer: Some(offer), .. } = &mut found[*at] else { continue };
            if !applied && let Some(fallback) = offer.fallback.take() {
                let was = std::mem::replace(&mut offer.step, fallback);
                diagnostic.help = diagnostic.help.take().map(|help| help.replace(&was, &offer.step));
                changed = true;
            }
        }
        if changed {
            continue;
        }
        let next = Pair { raised: true, ..*pair };
        let more = needs(&next, &plan(&next, read));
        let known = |step: &str| found.iter().any(|need| need.offer.as_ref().is_some_and(|offer| offer.step == step));
        let more: Vec<Need> = more
            .into_iter()
            .filter(|need| need.offer.as_ref().is_some_and(|offer| !known(&offer.step)))
            .map(|need| Need { follows: true, ..need })
            .collect();
        if more.is_empty() {
            break;
        }
        found.extend(more);
    }
    found
}

/// Steps as a document has them.
fn parsed(steps: &[&str]) -> Vec<Spanned<StepEntry>> {
    let text = format!("[[migration]]\nto = 2\nsteps = [\n{}\n]\n", steps.join(",\n"));
    let (document, _) = read::read(&text);
    document.migrations.into_iter().flat_map(|entry| entry.steps).collect()
}
