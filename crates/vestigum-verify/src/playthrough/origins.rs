//! The origins of a playthrough's saves: what sessions do by themselves.

use std::sync::Arc;

use vestigum_core::contributing::{Contribution, Contributor, Visits};
use vestigum_core::image::report::LoadError;
use vestigum_core::{Image, Progress, Spec};

use super::outcome::Why;

/// Names the device that saves, and the statement at which it does.
pub(super) struct Saving {
    /// The device. After saves of it were lost it has another number.
    pub device: Arc<str>,
    pub lines: usize,
    /// The number of the statement.
    pub statement: usize,
    /// Tells what became of visits to levels since the save before, and in which visit that stands.
    pub visits: Visits,
    pub stood_in: u64,
}

/// The first second of a playthrough: that of its timestamps.
const BEGINS: i64 = 946_684_800;

/// Gives an image its origin, as one more save by play on top of the newest one. A spec that does not merge saves needs none.
pub(super) fn played(spec: &Spec, newest: Option<&Image>, image: Image, saving: &Saving) -> Result<Image, Why> {
    let refused = |error: LoadError| Why::Refused(error.to_string());
    let Some(contributor) = Contributor::new(spec, newest).map_err(refused)? else { return Ok(image) };
    let mut contributor = contributor.standing_in(saving.stood_in);
    let saved = Progress::load(spec, Some(&image), None).map_err(refused)?.progress.suspend();
    let device: &str = if saving.device.is_empty() { "here" } else { &saving.device };
    let by = Contribution {
        by: if saving.lines > 0 { format!("{device} {}", saving.lines + 1).into() } else { device.into() },
        last: 0,
        tag: format!("{:x}", saving.statement).into(),
        at: BEGINS.saturating_add(i64::try_from(saving.statement).unwrap_or(i64::MAX)),
    };
    let origin = contributor.contribute(&saved, &saving.visits, &by);
    Ok(Image { origin: Some(Box::new(origin)), ..image })
}
