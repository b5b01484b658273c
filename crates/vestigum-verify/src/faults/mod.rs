//! Trying what can go wrong under a store.
//!
//! A playthrough is run once on a [`SimDisk`], and every disk operation of its saves is logged. Then
//!
//! - the power fails after each of them, in every way that the operations before allow ([`crate::PowerLosses`]);
//! - the process is killed after each of them, the next one loads, saves what it loaded, prunes and saves again, and then
//!   the power fails: what was never made durable is still not so when another process finds it;
//! - each of them fails once, and each two in a row: the disk is full, or reports an error, or a read comes out short; play
//!   goes on, the process ends, the next one does the same, and the power fails in between; where the last save failed,
//!   the game also goes back to what it had saved before, and saves that;
//! - each read fails once, as if another program held the file, while the playthrough runs, in the next process, and in the launch
//!   after that; and each file and folder that it leaves cannot be read at all: a launch gives what was acknowledged, or is refused;
//! - each byte of each file that the playthrough leaves is damaged.
//!
//! Where the game merges saves, [`sync_faults`] plays it in two places and cuts their syncs short.
//!
//! After each fault the store is opened anew, as the next launch would. A save that was *acknowledged* must be there,
//! or a newer one, whole and with its blobs. Damage must be passed over and reported. And the next save must work.
//!
//! The module is no test of [`vestigum::DirStore`] alone: give [`faults`] a store of your own, or a disk of your own under a
//! store.
//!
//! ```
//! use vestigum_verify::playthrough::Script;
//! use vestigum::{DirStore, Spec};
//! use vestigum_verify::faults::faults;
//!
//! let spec = Spec::from_toml("[game]\nid = \"fellpost\"\n[field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"")?;
//! let script = Script::from_text("xp.play", "playthrough \"xp is kept\"\nlaunch\nxp += 5\nquit", &spec)?;
//! let open = |disk| DirStore::open_on(disk, "saves");
//! let report = faults(&spec, &script.playthroughs()[0], spec.keep(), &open, &|_| {})?;
//! assert!(report.violations.is_empty());
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod explain;
mod judge;
mod recorder;
mod syncs;

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::path::PathBuf;
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

pub use syncs::{OpenPlace, sync_faults};

use judge::{FaultFinding, Rotten, judge, judge_rot, judge_unavailable};
use recorder::{Commits, Open, Recorder};

use vestigum::{Store, StoreError};
use vestigum_core::Spec;

use crate::parallel::{cores, in_parts};
use crate::playthrough::{Playthrough, run};
use crate::sim_disk::{DiskOperation, Fault, PowerLoss, SimDisk};

/// A kind of fault.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
#[non_exhaustive]
pub enum FaultKind {
    /// The power fails.
    PowerLoss,
    /// The process is killed, the next one saves, and then the power fails.
    Kill,
    /// One operation finds the disk full, and later the power fails.
    DiskFull,
    /// One operation ends with an error of the disk, and later the power fails.
    DiskError,
    /// One read gives only half of the file.
    ShortRead,
    /// One read fails, or all reads of a file or folder: another program holds it, though it is whole.
    Unavailable,
    /// One byte, or one block of 512, is not what was written.
    BitRot,
    /// A sync of two places is cut short, and done again: the power fails, the process is killed, or an operation fails.
    Sync,
}

impl FaultKind {
    /// All kinds, in the order in which they are shown.
    pub const ALL: [FaultKind; 8] = [
        FaultKind::PowerLoss,
        FaultKind::Kill,
        FaultKind::DiskFull,
        FaultKind::DiskError,
        FaultKind::ShortRead,
        FaultKind::Unavailable,
        FaultKind::BitRot,
        FaultKind::Sync,
    ];

    /// Returns what is tried, in words.
    pub fn told(self) -> &'static str {
        match self {
            FaultKind::PowerLoss => "after each operation, in every way that unsynced data and names allow",
            FaultKind::Kill => "killed after each operation; the next process saves; power loss",
            FaultKind::DiskFull => "one or two operations find no space; a next process; power loss",
            FaultKind::DiskError => "one or two operations fail; a next process; power loss",
            FaultKind::ShortRead => "a launch reads half of a file",
            FaultKind::Unavailable => "each read fails once, or every read of a file or folder",
            FaultKind::BitRot => "one bit of each byte, and each block of 512 bytes",
            FaultKind::Sync => "a sync of two places is cut short by all of these, and done again",
        }
    }
}

impl fmt::Display for FaultKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            FaultKind::PowerLoss => "power loss",
            FaultKind::Kill => "kill",
            FaultKind::DiskFull => "disk full",
            FaultKind::DiskError => "disk error",
            FaultKind::ShortRead => "short read",
            FaultKind::Unavailable => "unavailable",
            FaultKind::BitRot => "bit rot",
            FaultKind::Sync => "sync",
        })
    }
}

/// Describes what was tried of one kind.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Tried {
    /// Says where: after which operations the power failed, which operations failed, which bytes were damaged.
    pub points: usize,
    /// Counts the states that the disk was found in there; each was launched from.
    pub outcomes: usize,
    /// Says how many launches fell back on an older image and said so.
    pub recovered: usize,
    /// Says how many broke what is promised.
    pub violations: usize,
}

impl std::ops::AddAssign for Tried {
    fn add_assign(&mut self, other: Tried) {
        self.points += other.points;
        self.outcomes += other.outcomes;
        self.recovered += other.recovered;
        self.violations += other.violations;
    }
}

/// Describes what came of trying faults under a playthrough.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct FaultReport {
    /// Says how many saves the playthrough wrote.
    pub saves: usize,
    /// Says how many disk operations it took.
    pub operations: usize,
    /// The statement at which the playthrough ended early, with its line: what comes after it was not tried. `damage` does
    /// nothing here, so a playthrough that depends on it ends there.
    pub ended_at: Option<(usize, String)>,
    /// Says what was tried.
    pub tried: BTreeMap<FaultKind, Tried>,
    /// Says what broke: of each kind and explanation the case with the fewest operations.
    pub violations: Vec<Violation>,
}

/// A broken promise.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Violation {
    /// Says what happened.
    pub kind: FaultKind,
    /// The disk operations up to then, with the saves that asked for them.
    pub steps: Vec<FaultStep>,
    /// In which state the disk was found, one line for each thing; empty if everything that was seen is there.
    pub disk: Vec<String>,
    /// Says what was loaded from it.
    pub loaded: String,
    /// Says what should have been.
    pub expected: String,
    /// Says why it came to that, and what to do.
    pub explanation: String,
}

/// One step of the way to a violation.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum FaultStep {
    /// A disk operation.
    DiskOperation(DiskOperation),
    /// A disk operation that failed.
    Failed(DiskOperation, Fault),
    /// A save began, in these words.
    Save(String),
    /// The save was acknowledged: from here on it must not be lost.
    Acknowledged(String),
    /// The process died, and the next one opened the store.
    Killed,
    /// The save failed, and was reported.
    NotSaved(String),
}

impl fmt::Display for FaultStep {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            FaultStep::DiskOperation(operation) => write!(f, "{operation}"),
            FaultStep::Failed(operation, Fault::ShortRead) => write!(f, "{operation}  (gives half of it)"),
            FaultStep::Failed(operation, _) => write!(f, "{operation}  (fails)"),
            FaultStep::Save(what) => write!(f, "save {what}"),
            FaultStep::Acknowledged(what) => write!(f, "acknowledged: {what}"),
            FaultStep::Killed => f.write_str("the process is killed; the next one opens the store"),
            FaultStep::NotSaved(what) => write!(f, "failed: {what}"),
        }
    }
}

/// Describes how far it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FaultsDone {
    /// Points tried.
    pub done: usize,
    /// Points in all.
    pub of: usize,
}

/// One thing to try.
enum Point {
    /// The power fails after this number of operations.
    Cut(usize),
    /// The process is killed after this number of operations.
    Kill(usize),
    /// These operations fail, the same fault each time.
    Fail(Vec<usize>, Fault),
    /// The reads of the launches that follow the playthrough fail, each once.
    Refuse,
    /// This file or folder cannot be read any more.
    RefuseAlways(PathBuf),
    Rot(PathBuf, Vec<u8>),
}

/// Tries every fault at every operation of a playthrough's saves, on all cores. `open` opens the store under test on a
/// disk; each owner's newest `keep` generations are kept (see [`Spec::keep`]); `watch` hears how far it is.
///
/// # Errors
/// If the store cannot be opened even on a sound disk.
pub fn faults<S: Store>(
    spec: &Spec,
    playthrough: &Playthrough,
    keep: u32,
    open: &(dyn Fn(SimDisk) -> Result<S, StoreError> + Sync),
    watch: &(dyn Fn(FaultsDone) + Sync),
) -> Result<FaultReport, StoreError> {
    let disk = SimDisk::default();
    open(SimDisk::default())?;
    let mut recorder = Recorder::new(open, disk.clone(), keep, Commits::default());
    let played = run(spec, playthrough, &mut recorder);
    let trial = Trial { spec, playthrough, keep, open, log: disk.operations(), commits: recorder.into_commits(), disk };
    let points = trial.points();
    let report = Mutex::new(FaultReport {
        saves: trial.commits.written(),
        operations: trial.log.len(),
        ended_at: played.failure.map(|failure| (failure.line, failure.statement)),
        ..FaultReport::default()
    });
    let done = AtomicUsize::new(0);
    in_parts(points.len(), cores(), &|part| {
        let (kind, tried, violations) = trial.attempt(points.get(part)?);
        let mut report = report.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        *report.tried.entry(kind).or_default() += tried;
        violations.into_iter().for_each(|violation| report.note(violation));
        watch(FaultsDone { done: done.fetch_add(1, Ordering::Relaxed) + 1, of: points.len() });
        Some(())
    });
    Ok(report.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner))
}

impl FaultReport {
    /// Takes what another one tried of the same playthrough.
    pub fn take(&mut self, other: FaultReport) {
        other.tried.iter().for_each(|(kind, tried)| *self.tried.entry(*kind).or_default() += *tried);
        other.violations.into_iter().for_each(|violation| self.note(violation));
    }

    /// Keeps the shortest case of each kind and explanation.
    fn note(&mut self, violation: Violation) {
        let alike =
            |known: &&mut Violation| (known.kind, &known.explanation) == (violation.kind, &violation.explanation);
        match self.violations.iter_mut().find(alike) {
            Some(known) if known.steps.len() > violation.steps.len() => *known = violation,
            Some(_) => {}
            None => self.violations.push(violation),
        }
        self.violations.sort_by_key(|violation| violation.kind);
    }
}

/// A playthrough that was recorded, and what to hold against what loads.
struct Trial<'a, S> {
    spec: &'a Spec,
    playthrough: &'a Playthrough,
    keep: u32,
    open: Open<'a, S>,
    disk: SimDisk,
    log: Vec<DiskOperation>,
    commits: Commits,
}

impl<S: Store> Trial<'_, S> {
    fn points(&self) -> Vec<Point> {
        let mut points = Vec::new();
        for (number, operation) in self.log.iter().enumerate() {
            if operation.changes() {
                points.push(Point::Cut(number + 1));
                points.push(Point::Kill(number + 1));
            }
            let strike = |fault: &Fault| fault.strikes(operation);
            for fault in [Fault::Full, Fault::Broken, Fault::ShortRead, Fault::Unavailable].into_iter().filter(strike) {
                points.push(Point::Fail(vec![number], fault));
                if !matches!(fault, Fault::ShortRead | Fault::Unavailable) {
                    points.push(Point::Fail(vec![number, number + 1], fault));
                }
            }
        }
        points.push(Point::Refuse);
        let files = self.disk.files();
        let mut paths: BTreeSet<PathBuf> = files.iter().map(|(path, _)| path.clone()).collect();
        paths.extend(files.iter().flat_map(|(path, _)| path.ancestors().skip(1)).map(PathBuf::from));
        paths.remove(std::path::Path::new(""));
        points.extend(paths.into_iter().map(Point::RefuseAlways));
        points.extend(files.into_iter().map(|(path, bytes)| Point::Rot(path, bytes)));
        points
    }

    fn attempt(&self, point: &Point) -> (FaultKind, Tried, Vec<Violation>) {
        let (kind, tried, violations) = match point {
            Point::Cut(operations) => self.cut(*operations),
            Point::Kill(operations) => self.kill(*operations),
            Point::Fail(operations, fault) => self.fail(operations, *fault),
            Point::Refuse => return self.refuse(),
            Point::RefuseAlways(path) => self.refuse_always(path),
            Point::Rot(path, bytes) => return self.rot(path, bytes),
        };
        (kind, Tried { points: 1, ..tried }, violations)
    }

    fn cut(&self, operations: usize) -> (FaultKind, Tried, Vec<Violation>) {
        let losses = self.disk.power_loss_after(operations);
        let (log, commits) = (&self.log, &self.commits);
        let case = Case { kind: FaultKind::PowerLoss, log, cut: operations, commits, failed: None };
        let (tried, violations) = self.launches(&case, losses, true);
        (case.kind, tried, violations)
    }

    fn kill(&self, operations: usize) -> (FaultKind, Tried, Vec<Violation>) {
        let disk = self.disk.killed_after(operations);
        let (tried, violations) = self.next_life(FaultKind::Kill, &disk, &self.commits, None);
        (FaultKind::Kill, tried, violations)
    }

    fn fail(&self, operations: &[usize], fault: Fault) -> (FaultKind, Tried, Vec<Violation>) {
        let kind = match fault {
            Fault::Full => FaultKind::DiskFull,
            Fault::Broken => FaultKind::DiskError,
            Fault::ShortRead => FaultKind::ShortRead,
            Fault::Unavailable => FaultKind::Unavailable,
        };
        let disk = SimDisk::default();
        operations.iter().for_each(|operation| disk.fail(*operation, fault));
        // A store that cannot be opened refuses; what is on the disk must be as good as before.
        let mut recorder = Recorder::new(self.open, disk.clone(), self.keep, Commits::default());
        run(self.spec, self.playthrough, &mut recorder);
        let (commits, log) = (recorder.commits().clone(), disk.operations());
        let failed = Some((operations, fault));
        let case = Case { kind, log: &log, cut: log.len(), commits: &commits, failed };
        let (mut tried, mut violations) = self.launches(&case, disk.power_loss(), true);
        case.unreported(&mut tried, &mut violations);
        tried.recovered += commits.recovered;
        let (after, more) = self.next_life(kind, &disk.killed_after(log.len()), &commits, failed);
        tried += after;
        violations.extend(more);
        if recorder.go_back() {
            let (commits, log) = (recorder.into_commits(), disk.operations());
            let case = Case { kind, log: &log, cut: log.len(), commits: &commits, failed };
            let (after, more) = self.launches(&case, disk.power_loss().coarse(), false);
            tried += after;
            violations.extend(more);
        }
        (kind, tried, violations)
    }

    /// Another process finds the disk as the one before left it, saves and prunes; the power fails after each save that
    /// is acknowledged, and after each file that is removed.
    fn next_life(
        &self,
        kind: FaultKind,
        disk: &SimDisk,
        commits: &Commits,
        failed: Option<(&[usize], Fault)>,
    ) -> (Tried, Vec<Violation>) {
        let begins = disk.count();
        let mut recorder = Recorder::new(self.open, disk.clone(), self.keep, commits.killed_after(begins));
        recorder.next_life(&commits.owners());
        let (commits, log) = (recorder.into_commits(), disk.operations());
        let removed = log.iter().enumerate().skip(begins);
        let removed = removed.filter(|(_, operation)| matches!(operation, DiskOperation::Remove(_)));
        let cuts: BTreeSet<usize> =
            commits.acknowledged_after(begins).chain(removed.map(|(number, _)| number + 1)).collect();
        let (mut tried, mut violations) = (Tried::default(), Vec::new());
        for cut in cuts {
            let case = Case { kind, log: &log, cut, commits: &commits, failed };
            let (one, broken) = self.launches(&case, disk.power_loss_after(cut).coarse(), false);
            tried += one;
            violations.extend(broken);
        }
        Case { kind, log: &log, cut: log.len(), commits: &commits, failed }.unreported(&mut tried, &mut violations);
        (tried, violations)
    }

    /// Launches from every state in which the disk can be found.
    fn launches(
        &self,
        case: &Case<'_>,
        losses: impl Iterator<Item = PowerLoss>,
        then_save: bool,
    ) -> (Tried, Vec<Violation>) {
        let expected = case.commits.expected(case.cut);
        let mut tried = Tried::default();
        let mut violations = Vec::new();
        let mut names_seen = Vec::new();
        for loss in losses {
            tried.outcomes += 1;
            // Whether the next save works depends on the names that are there, so each set of names is tried once.
            let names: Vec<PathBuf> = loss.names().map(PathBuf::from).collect();
            let save_again = then_save && !names_seen.contains(&names);
            if save_again {
                names_seen.push(names);
            }
            let judged = judge(self.spec, self.open, &loss.disk(), &expected, save_again);
            match judged {
                Ok(recovered) => tried.recovered += usize::from(recovered),
                Err(finding) => {
                    tried.violations += 1;
                    if violations.is_empty() {
                        let explanation = explain::power_loss(case.log, case.cut, &loss, &finding);
                        violations.push(case.violation(loss.told(), finding, explanation));
                    }
                }
            }
        }
        (tried, violations)
    }

    /// Lets each read of the launches that follow fail once. What was acknowledged loads, or the launch is refused; nothing is passed
    /// over, and nothing begins anew.
    fn refuse(&self) -> (FaultKind, Tried, Vec<Violation>) {
        let kind = FaultKind::Unavailable;
        let ends = self.log.len();
        let expected = self.commits.expected(ends);
        let (mut tried, mut violations) = (Tried::default(), Vec::new());
        for ahead in 0.. {
            let disk = self.disk.killed_after(ends);
            disk.fail(ends + ahead, Fault::Unavailable);
            let judged = judge_unavailable(self.open, &disk, &expected);
            if disk.count() <= ends + ahead {
                break;
            }
            tried.points += 1;
            self.note_refusal(judged, &disk, &mut tried, &mut violations);
        }
        (kind, tried, violations)
    }

    /// Lets nothing be read of a file or folder any more.
    fn refuse_always(&self, path: &std::path::Path) -> (FaultKind, Tried, Vec<Violation>) {
        let disk = self.disk.killed_after(self.log.len());
        disk.fail_always(path, Fault::Unavailable);
        let (mut tried, mut violations) = (Tried::default(), Vec::new());
        let judged = judge_unavailable(self.open, &disk, &self.commits.expected(self.log.len()));
        self.note_refusal(judged, &disk, &mut tried, &mut violations);
        (FaultKind::Unavailable, tried, violations)
    }

    fn note_refusal(
        &self,
        judged: Result<(), FaultFinding>,
        disk: &SimDisk,
        tried: &mut Tried,
        violations: &mut Vec<Violation>,
    ) {
        tried.outcomes += 1;
        let Err(finding) = judged else { return };
        tried.violations += 1;
        if violations.is_empty() {
            let log = disk.operations();
            let case =
                Case { kind: FaultKind::Unavailable, log: &log, cut: log.len(), commits: &self.commits, failed: None };
            violations.push(case.violation(Vec::new(), finding, explain::UNAVAILABLE.into()));
        }
    }

    /// Damages each byte of a file, and each block of 512.
    fn rot(&self, path: &std::path::Path, bytes: &[u8]) -> (FaultKind, Tried, Vec<Violation>) {
        let kind = FaultKind::BitRot;
        let expected = self.commits.expected(self.log.len());
        let case = Case { kind, log: &self.log, cut: self.log.len(), commits: &self.commits, failed: None };
        let (mut tried, mut violations) = (Tried { points: bytes.len(), ..Tried::default() }, Vec::new());
        let flips = (0..bytes.len()).map(|at| {
            let mut rotten = bytes.to_vec();
            rotten[at] ^= 1 << (at % 8);
            (rotten, format!("{}: bit {} of byte {at} is not what was written", path.display(), at % 8))
        });
        let blocks = (0..bytes.len()).step_by(512).map(|from| {
            let mut rotten = bytes.to_vec();
            let to = (from + 512).min(bytes.len());
            rotten[from..to].fill(0);
            (rotten, format!("{}: bytes {from} to {to} are zeros", path.display()))
        });
        for (rotten, told) in flips.chain(blocks) {
            tried.outcomes += 1;
            match judge_rot(self.open, &self.disk.with_content(path, rotten), &expected) {
                Ok(Rotten::Harmless) => {}
                Ok(Rotten::Reported) => tried.recovered += 1,
                Err(finding) => {
                    tried.violations += 1;
                    if violations.is_empty() {
                        violations.push(case.violation(vec![told], finding, explain::ROTTEN.into()));
                    }
                }
            }
        }
        (kind, tried, violations)
    }
}

/// Describes what led to a state of the disk.
struct Case<'a> {
    kind: FaultKind,
    log: &'a [DiskOperation],
    cut: usize,
    commits: &'a Commits,
    failed: Option<(&'a [usize], Fault)>,
}

impl Case<'_> {
    /// A launch on the way here that fell back and did not say so.
    fn unreported(&self, tried: &mut Tried, violations: &mut Vec<Violation>) {
        if let Some(silent) = &self.commits.silently_older {
            tried.violations += 1;
            violations.push(self.violation(Vec::new(), silent.clone(), explain::UNREPORTED.into()));
        }
    }

    fn violation(&self, disk: Vec<String>, finding: FaultFinding, explanation: String) -> Violation {
        let mut steps = Vec::new();
        for (number, operation) in self.log.iter().enumerate().take(self.cut) {
            self.commits.tell(number, &mut steps);
            match self.failed {
                Some((failed, fault)) if failed.contains(&number) && fault.strikes(operation) => {
                    steps.push(FaultStep::Failed(operation.clone(), fault));
                }
                _ if operation.changes() => steps.push(FaultStep::DiskOperation(operation.clone())),
                _ => {}
            }
        }
        self.commits.tell(self.cut, &mut steps);
        let FaultFinding { loaded, expected } = finding;
        Violation { kind: self.kind, steps, disk, loaded, expected, explanation }
    }
}
