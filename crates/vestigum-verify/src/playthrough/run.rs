//! Running a playthrough.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use indexmap::IndexSet;

use vestigum_core::evaluation::judge::Judged;
use vestigum_core::image::report::Origin;
use vestigum_core::model::entry::entry_name;
use vestigum_core::model::expression::Expression;
use vestigum_core::model::field::FieldId;
use vestigum_core::value::negated;
use vestigum_core::{
    AccessError, Call, Edit, Image, Launched, LiveDevice, LoadError, Owner, Progress, Span, Spec, Value, Written,
};

use super::action::{Action, EntryTarget, Redeems, ScriptStep};
use super::check::Playthrough;
use super::levels;
use super::outcome::{Failure, LastChange, Run, Why};
use super::players;
use super::saves::{MemorySaves, Saves, SavesError};
use super::syncs::Syncs;
use super::timeline::{Row, Timeline, Watch};
use super::written::How;

/// Runs a playthrough. It begins with nothing but what is on the shelf; no session runs before the first `launch`.
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
    watch: Watch,
    seen: Vec<Value>,
    changed: BTreeMap<usize, LastWrite>,
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
}

/// What a statement answers: a note for the timeline, or why it failed.
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
            let answer = self.action(&step.action);
            let failure = answer.as_ref().err().cloned();
            self.remember(step, answer.unwrap_or_default());
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
            watch: Watch::new(columns.to_vec()),
            seen: spec.fields().flat_map(|field| field.slots().map(|_| field.default().clone())).collect(),
            changed: BTreeMap::new(),
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

    /// Notes what changed, for the timeline and for messages.
    fn remember(&mut self, step: &ScriptStep, note: String) {
        let active = self.active.clone();
        let device_name = self.installation.name.clone();
        let player = self.player();
        let progress = player.progress.as_ref();
        if let Some(progress) = progress {
            for (slot, seen) in player.seen.iter_mut().enumerate() {
                let now = progress.state().value(slot);
                if now != seen {
                    let before = std::mem::replace(seen, now.clone());
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
                let mut texts = std::mem::take(&mut self.made);
                let told = self.session().map(|progress| levels::change(progress, &mut texts, change));
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
                players::change(self.spec, self.installation.saves(self.first), change, at)
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
                let at = timestamp(self.statements);
                let device = self.installation.name.clone().unwrap_or_default();
                let saves = self.installation.saves(self.first);
                self.syncs.sync(self.spec, saves, &device, &self.active, at)
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
        let Launched { progress, outcome, .. } = launched.map_err(refused)?;
        let place = progress.place();
        let seen = self.installation.device.join(&progress);
        let player = self.player();
        (player.progress, player.device_seen) = (Some(progress), seen);
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
        if self.player().progress.take().is_some() {
            self.installation.device.part();
        }
        Ok(note)
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
        let mut image = suspended.profile_image(&profile);
        image.saved_at = at;
        let generation =
            self.installation.saves(self.first).commit(image).map_err(|error| Why::Storage(error.to_string()))?;
        Ok(format!("saved {generation}"))
    }

    fn say(&mut self, call: Call<'_>) -> Answer {
        let outcome = self.session()?.apply(call).map_err(|refused| Why::Refused(refused.to_string()))?;
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

    /// What a write did, and the save that it asks for.
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
        let changes = self.changes(&parts);
        Err(Why::Expectation { parts, changes })
    }

    /// The last change of each field that a failing part reads.
    fn changes(&mut self, parts: &[Judged]) -> Vec<LastChange> {
        let spec = self.spec;
        let player = self.player();
        let failing = parts.iter().filter(|part| !part.holds);
        let mut reads: Vec<FieldId> = failing.flat_map(|part| part.reads.iter().copied()).collect();
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

/// A made-up time for the images of a playthrough, one minute for each statement: there is no clock here.
fn timestamp(statement: usize) -> String {
    let (day, minute) = (statement / 1440, statement % 1440);
    let (month, day) = (day / 28 % 12 + 1, day % 28 + 1);
    format!("2000-{month:02}-{day:02}T{:02}:{:02}:00Z", minute / 60, minute % 60)
}
