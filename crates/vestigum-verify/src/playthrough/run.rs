//! Running a playthrough.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use indexmap::IndexSet;

use vestigum_core::contributing::Visits;
use vestigum_core::image::report::Origin;
use vestigum_core::{
    AccessError, Call, Edit, Image, Launched, LiveDevice, LoadError, Moment, Owner, Progress, Span, Spec, Value,
    Written,
};
use vestigum_spec::model::entry::entry_name;
use vestigum_spec::model::expression::Expression;
use vestigum_spec::model::field::FieldId;
use vestigum_spec::value::negated;

use super::action::{Action, EntryTarget, Redeems, ScriptStep};
use super::check::Playthrough;
use super::levels;
use super::origins::{self, Saving};
use super::outcome::{Failure, LastChange, PromiseFailure, Run, Why};
use super::players;
use super::promises::{Bearing, BrokenPromise, Promises, most_given};
use super::saves::{MemorySaves, Saves, SavesError};
use super::syncs::Syncs;
use super::timeline::{Row, Timeline, Watch};
use super::written::How;
use crate::explore::{Played, newcomer};

/// Runs a playthrough. It begins with nothing but what is on the shelf; no session runs before the first `launch`.
///
/// # Example
///
/// ```
/// use vestigum_verify::playthrough::{MemorySaves, Script, run};
/// # let spec = vestigum::Spec::from_toml("[game]\nid = \"fellpost\"\n[field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"")?;
/// # let script = Script::from_text("xp.play", "playthrough \"xp\"\nlaunch\nxp += 5\nquit", &spec)?;
/// for playthrough in script.playthroughs() {
///     if let Some(failure) = run(&spec, playthrough, &mut MemorySaves::default()).failure {
///         println!("{failure}");
///     }
/// }
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn run(spec: &Spec, playthrough: &Playthrough, saves: &mut dyn Saves) -> Run {
    let mut runner = Runner {
        spec,
        first: saves,
        away: BTreeMap::new(),
        syncs: Syncs::default(),
        columns: &playthrough.columns,
        installation: Installation::default(),
        active: "player".into(),
        statements: 0,
        rows: Vec::new(),
        made: BTreeMap::new(),
        promises: Promises::of(spec, &playthrough.without),
        said: None,
    };
    let failure = runner.steps(&playthrough.steps).err();
    let columns = Watch::new(playthrough.columns.clone()).headings();
    Run {
        name: playthrough.name.clone(),
        statements: runner.statements,
        failure,
        timeline: Timeline { columns, rows: runner.rows },
    }
}

/// One player: a session if one runs, and what is remembered for messages and for the timeline.
struct Player {
    progress: Option<Progress>,
    /// The version of the device's values that the progress holds.
    device_seen: u64,
    /// The visit to a level in which the newest save stands, by the session's count.
    stood_in: u64,
    watch: Watch,
    seen: Vec<Value>,
    changed: BTreeMap<usize, LastWrite>,
    /// Keeps what the player had when the last session ended, while nothing else touched the saves.
    left: Option<Progress>,
    /// The last write that gave more than any source gives, by its field and in words.
    beyond: BTreeMap<FieldId, String>,
}

#[derive(Clone)]
struct LastWrite {
    line: usize,
    statement: Arc<str>,
    before: Value,
}

/// A device: its players, and its process.
#[derive(Default)]
struct Installation {
    /// Its name, if the playthrough gives it one.
    name: Option<Arc<str>>,
    players: BTreeMap<Arc<str>, Player>,
    /// The device values of the process.
    device: LiveDevice,
    /// Counts how often saves of it were lost.
    lines: usize,
    /// Its saves; the first device has those that the playthrough was given.
    saves: Option<MemorySaves>,
}

struct Runner<'a> {
    spec: &'a Spec,
    /// The saves of the first device.
    first: &'a mut dyn Saves,
    columns: &'a [Arc<Expression>],
    /// The device on which play goes on.
    installation: Installation,
    /// The others, by name.
    away: BTreeMap<Arc<str>, Installation>,
    syncs: Syncs,
    active: Arc<str>,
    statements: usize,
    rows: Vec<Row>,
    /// The codes that were made and the levels that were exported, by the names that the script gives them.
    made: BTreeMap<String, String>,
    promises: Promises,
    /// Says whether the last moment was accepted, and whether the run was over with it.
    said: Option<Said>,
}

#[derive(Clone, Copy)]
struct Said {
    accepted: bool,
    game_over: bool,
}

/// Describes what a statement answers: a note for the timeline, or why it failed.
type Answer = Result<String, Why>;

impl Installation {
    fn saves<'s>(&'s mut self, first: &'s mut dyn Saves) -> &'s mut dyn Saves {
        match &mut self.saves {
            Some(saves) => saves,
            None => first,
        }
    }
}

impl Runner<'_> {
    fn steps(&mut self, steps: &[ScriptStep]) -> Result<(), Failure> {
        for step in steps {
            if let Action::Repeat(times, inner) = &step.action {
                for _ in 0..*times {
                    self.steps(inner)?;
                }
                continue;
            }
            self.statements += 1;
            self.share_device();
            let before = self.before(&step.action);
            let answer = self.action(&step.action);
            let failure = answer.as_ref().err().cloned();
            self.remember(step, answer.unwrap_or_default());
            let failure = failure.or_else(|| self.judge(&step.action, before));
            if let Some(why) = failure {
                return Err(Failure { line: step.line, statement: step.text.to_string(), why });
            }
        }
        Ok(())
    }

    fn player(&mut self) -> &mut Player {
        let (spec, columns) = (self.spec, self.columns);
        self.installation.players.entry(self.active.clone()).or_insert_with(|| Player {
            progress: None,
            device_seen: 0,
            stood_in: 0,
            watch: Watch::new(columns.to_vec()),
            seen: spec.fields().flat_map(|field| field.slots().map(|_| field.default().clone())).collect(),
            changed: BTreeMap::new(),
            left: None,
            beyond: BTreeMap::new(),
        })
    }

    fn session(&mut self) -> Result<&mut Progress, Why> {
        let none = || Why::Refused("no session runs; `launch` begins one".into());
        self.player().progress.as_mut().ok_or_else(none)
    }

    /// One process has one device state: the player who acts now goes on with what the last one left.
    fn share_device(&mut self) {
        let device = &self.installation.device;
        if let Some(player) = self.installation.players.get_mut(&self.active)
            && let Some(progress) = &mut player.progress
        {
            device.take_values(progress, &mut player.device_seen);
        }
    }

    /// The state before a moment, where promises are judged after it.
    fn before(&mut self, action: &Action) -> Option<Progress> {
        self.said = None;
        if self.promises.is_empty() {
            return None;
        }
        let bearing = Bearing::of(action);
        if bearing == Bearing::FromElsewhere {
            self.installation.players.values_mut().for_each(|player| player.left = None);
        }
        let player = self.player();
        match bearing.moment()? {
            Moment::Launch => player.left.take(),
            _ => player.progress.clone(),
        }
    }

    /// Judges the promises after a moment.
    fn judge(&mut self, action: &Action, before: Option<Progress>) -> Option<Why> {
        let moment = Bearing::of(action).moment().filter(|_| !self.promises.is_empty())?;
        let said = self.said.filter(|said| said.accepted)?;
        let player = self.player();
        let after = player.progress.clone()?;
        let fresh = player.left.take().filter(|_| moment == Moment::Launch);
        let before = before.or(fresh);
        let failed = before.as_ref().filter(|_| said.game_over && moment.is_failure()).and_then(|before| {
            let mut failed = before.clone();
            failed.failure(moment).ok()?;
            Some(failed)
        });
        let played = Played { moment, before: before.as_ref(), failed: failed.as_ref(), after: &after };
        let broken = self.promises.broken(&played)?;
        let changes = self.changes(broken.reads.clone());
        let beyond = broken.reads.iter().find_map(|field| self.player().beyond.get(field).cloned());
        let BrokenPromise { name, what, .. } = broken;
        Some(Why::Promise(Box::new(PromiseFailure { name: name.to_string(), what, changes, beyond })))
    }

    /// Notes what changed, for the timeline and for messages.
    fn remember(&mut self, step: &ScriptStep, note: String) {
        let active = self.active.clone();
        let device_name = self.installation.name.clone();
        let (spec, is_write) = (self.spec, Bearing::of(&step.action) == Bearing::Write);
        let player = self.player();
        let progress = player.progress.as_ref();
        if let Some(progress) = progress {
            for (slot, seen) in player.seen.iter_mut().enumerate() {
                let now = progress.state().value(slot);
                if now != seen {
                    let before = std::mem::replace(seen, now.clone());
                    if is_write && let Some((field, told)) = beyond_sources(spec, slot, &before, now) {
                        player.beyond.insert(field, format!("line {} {told}", step.line));
                    }
                    player.changed.insert(slot, LastWrite { line: step.line, statement: step.text.clone(), before });
                }
            }
        }
        let row = Row {
            line: step.line,
            profile: active.clone(),
            device: device_name,
            depth: step.depth,
            statement: step.text.clone(),
            place: progress.map(|progress| progress.place().to_string()).unwrap_or_default(),
            cells: player.watch.cells(progress),
            note,
            board: match step.action {
                Action::Board => progress.map(Progress::full_board).unwrap_or_default(),
                Action::Launch
                | Action::Quit
                | Action::Moment(_)
                | Action::Enter { .. }
                | Action::Checkpoint(_)
                | Action::CompleteBy(_)
                | Action::Code { .. }
                | Action::Redeem { .. }
                | Action::Tick(_)
                | Action::Write { .. }
                | Action::Beat { .. }
                | Action::Insert { .. }
                | Action::Remove { .. }
                | Action::Reset(_)
                | Action::Expect(_)
                | Action::Refuse(_)
                | Action::NeverAccepted(_)
                | Action::Save
                | Action::Crash
                | Action::Damage { .. }
                | Action::Import(_)
                | Action::Profile(_)
                | Action::Device(_)
                | Action::Sync
                | Action::Profiles(_)
                | Action::Level(_)
                | Action::Repeat(..) => Vec::new(),
            },
        };
        let device = &mut self.installation.device;
        if let Some(player) = self.installation.players.get_mut(&active)
            && let Some(progress) = &player.progress
        {
            player.device_seen = device.leave_values(progress);
        }
        self.rows.push(row);
    }

    fn action(&mut self, action: &Action) -> Answer {
        match action {
            Action::Launch => self.launch(),
            Action::Quit => self.quit(),
            Action::Moment(moment) => {
                let name = self.spec.moment_name(*moment).to_owned();
                let impossible = || Why::Refused(format!("{name} needs more than its name"));
                self.say(Call::plain(*moment, &name).ok_or_else(impossible)?)
            }
            Action::Enter { level, checkpoint, locked } => {
                self.say(Call::Enter { level, checkpoint: checkpoint.as_deref(), locked: *locked })
            }
            Action::Checkpoint(name) => self.say(Call::Checkpoint(name)),
            Action::CompleteBy(exit) => self.say(Call::CompleteBy(exit)),
            Action::Code { code, variable } => {
                let made = self.session()?.code(code).map_err(|error| Why::Refused(error.to_string()))?;
                self.made.insert(variable.clone(), made.clone());
                Ok(format!("{variable} is {made}"))
            }
            Action::Redeem { code, given } => {
                let text = match given {
                    Redeems::Text(text) => text.clone(),
                    Redeems::Variable(variable) => self.made.get(variable).cloned().unwrap_or_default(),
                };
                let redeemed = self.session()?.redeem(code, text).map_err(|error| Why::Refused(error.to_string()))?;
                let mut notes: Vec<String> = redeemed.opened.iter().map(|level| format!("{level} opens")).collect();
                notes.push(self.save()?);
                Ok(notes.join(", "))
            }
            Action::Tick(ms) => {
                let ms = Duration::from_millis(*ms);
                let written = self.session()?.tick(ms).map_err(|error| Why::Refused(error.to_string()))?;
                self.wrote(&written, false)
            }
            Action::Write { entry, how, value } => self.edit(entry, value, |value| match how {
                How::Set => Edit::Set(value),
                How::Add => Edit::Add(value),
                How::Subtract => Edit::Add(negated(&value)),
            }),
            Action::Beat { entry, higher: true, value } => self.edit(entry, value, Edit::Raise),
            Action::Beat { entry, higher: false, value } => self.edit(entry, value, Edit::Lower),
            Action::Insert { entry, at, item } => self.edit(entry, item, |item| match at {
                None => Edit::Insert(item),
                Some(at) => Edit::InsertAt(at.as_str().into(), item),
            }),
            Action::Remove { entry, item } => self.edit(entry, item, Edit::Remove),
            Action::Reset(reset) => {
                let changes = self.session()?.reset(reset).map_err(|error| Why::Refused(error.to_string()))?;
                let note = self.save()?;
                let s = if changes.len() == 1 { "" } else { "s" };
                Ok(format!("{} value{s} reset, {note}", changes.len()))
            }
            Action::Board => {
                self.session()?;
                Ok(String::new())
            }
            Action::Expect(condition) => self.expect(condition),
            Action::Refuse(inner) => match self.action(inner) {
                Ok(_) => Err(Why::NotRefused),
                Err(Why::Refused(why)) => Ok(format!("refused: {why}")),
                Err(why) => Err(why),
            },
            Action::NeverAccepted(why) => Err(Why::Refused(why.clone())),
            Action::Save => {
                self.session()?;
                self.save()
            }
            Action::Crash => {
                self.installation.players.values_mut().for_each(|player| player.progress = None);
                self.installation.device = LiveDevice::default();
                self.installation.saves(self.first).crash();
                Ok("nothing more was saved".into())
            }
            Action::Damage { all } => {
                let owner = Owner::Profile(self.active.to_string());
                let damaged = self
                    .installation
                    .saves(self.first)
                    .damage(&owner, *all)
                    .map_err(|error| Why::Storage(error.to_string()))?;
                let s = if damaged == 1 { "" } else { "s" };
                Ok(format!("{damaged} save{s} damaged"))
            }
            Action::Import(image) => self.import(image),
            Action::Level(change) => {
                let (mut texts, spec) = (std::mem::take(&mut self.made), self.spec);
                let told = self.session().map(|progress| levels::change(spec, progress, &mut texts, change));
                self.made = texts;
                let mut told = told?.map_err(|error| Why::Refused(error.to_string()))?;
                if change.is_saved() {
                    told = format!("{told}, {}", self.save()?);
                }
                Ok(told)
            }
            Action::Profiles(change) => {
                for name in [&change.name, &change.to].into_iter().filter(|name| !name.is_empty()) {
                    if self.installation.players.get(name.as_str()).is_some_and(|player| player.progress.is_some()) {
                        return Err(Why::Refused(format!("a session of {name} runs; quit or crash first")));
                    }
                }
                let at = timestamp(self.statements);
                let saving = self.saving(Visits::another(), 0);
                players::change(self.spec, self.installation.saves(self.first), change, at, &saving)
            }
            Action::Profile(name) => {
                self.active = name.as_str().into();
                self.share_device();
                Ok(String::new())
            }
            Action::Device(name) => {
                self.change_device(name);
                Ok(String::new())
            }
            Action::Sync => {
                if self.player().progress.is_some() {
                    return Err(Why::Refused("a session runs; quit or crash before a sync".into()));
                }
                let saves = self.installation.saves(self.first);
                self.syncs.sync(self.spec, saves, &self.active)
            }
            Action::Repeat(..) => Ok(String::new()),
        }
    }

    /// Play goes on elsewhere. What runs here goes on running.
    fn change_device(&mut self, name: &str) {
        match &self.installation.name {
            None => self.installation.name = Some(name.into()),
            Some(here) if **here == *name => {}
            Some(here) => {
                let here = here.clone();
                let new = || Installation {
                    name: Some(name.into()),
                    saves: Some(MemorySaves::default()),
                    ..Installation::default()
                };
                let there = self.away.remove(name).unwrap_or_else(new);
                let left = std::mem::replace(&mut self.installation, there);
                self.away.insert(here, left);
            }
        }
        self.share_device();
    }

    fn launch(&mut self) -> Answer {
        if self.player().progress.is_some() {
            return Err(Why::Refused("a session runs already; quit or crash first".into()));
        }
        let owner = Owner::Profile(self.active.to_string());
        let why = |error| match error {
            SavesError::Refused(why) => Why::Refused(why),
            SavesError::Failed(why) => Why::Storage(why),
        };
        let profile = self.installation.saves(self.first).newest(&owner).map_err(why)?;
        let device = self.installation.saves(self.first).newest(&Owner::Device).map_err(why)?;
        let refused = |error: LoadError| Why::Refused(error.to_string());
        let device = self.installation.device.image(self.spec, device.image.as_ref()).map_err(refused)?;
        let launched = Progress::launch(self.spec, profile.image.as_ref(), device.as_ref());
        let Launched { mut progress, outcome, .. } = launched.map_err(refused)?;
        progress.follow_visits();
        self.installation.lines += usize::from(matches!(profile.origin, Origin::Recovered { .. }));
        let place = progress.place();
        let seen = self.installation.device.join(&progress);
        let player = self.player();
        (player.progress, player.device_seen, player.stood_in) = (Some(progress), seen, 0);
        // A newcomer had nothing before; what any other player had is known only from the session before.
        if matches!(profile.origin, Origin::Fresh) && !self.promises.is_empty() {
            let fresh =
                self.player().progress.as_ref().map(|launched| Progress::at(launched.model(), newcomer(launched)));
            self.player().left = fresh;
        }
        self.said = Some(Said { accepted: true, game_over: false });
        let saved = if outcome.save_due { format!(", {}", self.save()?) } else { String::new() };
        let loaded = match profile.origin {
            Origin::Fresh => "a fresh profile".into(),
            Origin::Loaded { generation } => format!("loaded {generation}: {place}"),
            Origin::Recovered { generation, passed_over } => {
                let damaged: Vec<String> = passed_over.iter().map(|(number, _)| number.to_string()).collect();
                format!("recovered {generation}: {place}; {} damaged", damaged.join(", "))
            }
        };
        Ok(loaded + &saved)
    }

    /// Puts a saved image on the shelf, as this player's newest, or as the device's.
    fn import(&mut self, image: &Image) -> Answer {
        let mut image = image.clone();
        let version = image.version;
        let running = match &mut image.owner {
            Owner::Profile(name) => {
                *name = self.active.to_string();
                self.player().progress.is_some()
            }
            Owner::Device => self.installation.players.values().any(|player| player.progress.is_some()),
        };
        if running {
            return Err(Why::Refused("a session runs; quit or crash before a save is imported".into()));
        }
        let generation =
            self.installation.saves(self.first).commit(image).map_err(|error| Why::Storage(error.to_string()))?;
        Ok(format!("version {version} as save {generation}"))
    }

    fn quit(&mut self) -> Answer {
        self.session()?;
        let note = self.save()?;
        let player = self.player();
        player.left = player.progress.take();
        if player.left.is_some() {
            self.installation.device.part();
        }
        Ok(note)
    }

    /// Returns what the origin of the next save of this device says.
    fn saving(&self, visits: Visits, stood_in: u64) -> Saving {
        let named = self.installation.name.as_deref().unwrap_or_default();
        let device = match self.first.place() {
            "" => named.into(),
            place => format!("{place} {named}").into(),
        };
        Saving { device, lines: self.installation.lines, statement: self.statements, visits, stood_in }
    }

    fn save(&mut self) -> Answer {
        let profile = self.active.to_string();
        let suspended = self.session()?.suspend();
        let at = timestamp(self.statements);
        // The device first, as a session does it: what a migration moves there is never gone from both.
        if self.spec.fields().any(|field| field.lasts() == Span::Device) {
            let mut device = suspended.device_image();
            device.saved_at.clone_from(&at);
            self.installation.saves(self.first).commit(device).map_err(|error| Why::Storage(error.to_string()))?;
        }
        let visits = self.session()?.visits();
        let (stood_in, stands_in) = (self.player().stood_in, visits.current());
        let saving = self.saving(visits, stood_in);
        let mut image = suspended.profile_image(&profile);
        image.saved_at = at;
        if self.spec.merges() {
            let failed = |error: SavesError| Why::Storage(error.to_string());
            let readable = self.installation.saves(self.first).readable(&image.owner).map_err(failed)?;
            image = origins::played(self.spec, readable.first(), image, &saving)?;
            self.player().stood_in = stands_in;
            self.session()?.visits_are_told();
        }
        let generation =
            self.installation.saves(self.first).commit(image).map_err(|error| Why::Storage(error.to_string()))?;
        Ok(format!("saved {generation}"))
    }

    fn say(&mut self, call: Call<'_>) -> Answer {
        let outcome = self.session()?.apply(call).map_err(|refused| Why::Refused(refused.to_string()))?;
        self.said = Some(Said { accepted: outcome.accepted, game_over: outcome.game_over });
        let mut notes = Vec::new();
        if !outcome.accepted {
            notes.push("ignored".to_owned());
        }
        if outcome.game_over {
            notes.push("the run is over".to_owned());
        }
        if let Some(at) = &outcome.respawn {
            let place = at.checkpoint.as_deref().unwrap_or("the entry");
            notes.push(format!("back at {place}"));
        }
        if !outcome.opened.is_empty() {
            notes.push(format!("opens {}", outcome.opened.join(" and ")));
        }
        notes.extend(outcome.ranked.iter().map(ToString::to_string));
        notes.extend(outcome.next.iter().map(ToString::to_string));
        if outcome.save_due {
            notes.push(self.save()?);
        }
        Ok(notes.join(", "))
    }

    fn edit(&mut self, entry: &EntryTarget, value: &Expression, edit: impl FnOnce(Value) -> Edit) -> Answer {
        let progress = self.session()?;
        let refused = |error: AccessError| Why::Refused(error.to_string());
        let edit = edit(progress.evaluate(value).map_err(refused)?);
        let beats = matches!(edit, Edit::Raise(_) | Edit::Lower(_));
        let written = progress.edit(&entry.field, &entry.keys(), &entry.path, edit).map_err(refused)?;
        self.wrote(&written, beats)
    }

    /// Returns what a write did, and the save that it asks for.
    fn wrote(&mut self, written: &Written, beats: bool) -> Answer {
        let mut notes: Vec<String> = written.opened().iter().map(|level| format!("{level} opens")).collect();
        if beats {
            notes.push(if written.beaten() { "beaten".into() } else { "not beaten".into() });
        }
        notes.extend(written.ranked().map(|ranked| ranked.to_string()));
        if written.clamped() {
            notes.push("brought into its limits".into());
        }
        if written.save_due() {
            notes.push(self.save()?);
        }
        Ok(notes.join(", "))
    }

    fn expect(&mut self, condition: &Expression) -> Answer {
        let refused = |error: AccessError| Why::Unjudged(error.to_string());
        let progress = self.session()?;
        if progress.evaluate(condition).map_err(refused)?.as_bool() {
            return Ok(String::new());
        }
        let parts = progress.judge(condition).map_err(refused)?;
        let failing = parts.iter().filter(|part| !part.holds);
        let changes = self.changes(failing.flat_map(|part| part.reads.iter().copied()).collect());
        Err(Why::Expectation { parts, changes })
    }

    /// The last change of each of these fields.
    fn changes(&mut self, mut reads: Vec<FieldId>) -> Vec<LastChange> {
        let spec = self.spec;
        let player = self.player();
        reads.sort_unstable();
        reads.dedup();
        let none_made = vec![IndexSet::new(); spec.model().key_sets.len()];
        let latest = reads.iter().filter_map(|id| {
            let field = spec.model().field(*id);
            let (slot, changed) = player.changed.range(field.slots()).max_by_key(|(_, changed)| changed.line)?;
            let made = player.progress.as_ref().map(|progress| &progress.state().made).unwrap_or(&none_made);
            Some(LastChange {
                name: entry_name(spec.model(), field, *slot, made).to_string(),
                line: changed.line,
                statement: changed.statement.to_string(),
                before: changed.before.clone(),
                after: player.seen[*slot].clone(),
            })
        });
        latest.collect()
    }
}

/// Says in words by how much a write gave more than any source gives.
fn beyond_sources(spec: &Spec, slot: usize, before: &Value, now: &Value) -> Option<(FieldId, String)> {
    let (Value::Int(before), Value::Int(now)) = (before, now) else { return None };
    let field = spec.model().fields.iter().find(|field| field.slots().contains(&slot))?;
    let most = most_given(spec, field.id)?;
    let given = now.saturating_sub(*before);
    let told = || format!("gives {given} `{}` at once; no [[source]] gives more than {most}", field.name);
    (given > most).then(|| (field.id, told()))
}

/// A made-up time for the images of a playthrough, one minute for each statement: there is no clock here.
fn timestamp(statement: usize) -> String {
    let (day, minute) = (statement / 1440, statement % 1440);
    let (month, day) = (day / 28 % 12 + 1, day % 28 + 1);
    format!("2000-{month:02}-{day:02}T{:02}:{:02}:00Z", minute / 60, minute % 60)
}
