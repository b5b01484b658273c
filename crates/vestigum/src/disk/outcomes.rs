//! Every state in which a disk can come back from a power loss.
//!
//! Two things are free, each on its own: which of the name changes that no sync settled have reached the disk (any of
//! them, later ones without earlier ones too), and how much of each unsynced content has.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::SimDisk;
use super::sim::{Content, DiskState, Entry, FileId, Names};

/// All states in which a disk can come back, the most harmless ones first: what was seen, then contents that are torn,
/// then names that are lost.
pub struct Outcomes {
    state: Arc<DiskState>,
    /// Which name changes are lost, one set of bits for each case.
    losses: std::vec::IntoIter<u64>,
    current: Option<Current>,
}

/// The cases of one choice of names: a counter with a digit for each file whose content is open.
struct Current {
    lost: u64,
    names: Arc<Names>,
    /// The names that are there without having been synced with their content.
    open: Vec<(PathBuf, FileId)>,
    digits: Vec<usize>,
    done: bool,
}

/// One state in which a disk comes back.
pub struct PowerLoss {
    state: Arc<DiskState>,
    names: Arc<Names>,
    lost: u64,
    contents: Vec<(PathBuf, FileId, Kept)>,
}

/// How much of an unsynced content is there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Kept {
    /// All of it.
    Whole,
    /// The first bytes, and the file ends there.
    First(usize),
    /// The first bytes, and zeros to the full length: the size was written before the data.
    FirstThenZeros(usize),
    /// The first bytes, and what was there before behind them.
    FirstThenOld(usize),
}

/// Beyond so many unsettled name changes not every subset is tried, but every prefix and every single loss.
const EVERY_SUBSET: usize = 10;

/// How many unsettled name changes are considered at all: a store that leaves more has broken every promise already.
const CHANGES: usize = 63;

impl Outcomes {
    pub(super) fn of(state: DiskState) -> Outcomes {
        let count = state.pending.len().min(CHANGES);
        let losses = if count <= EVERY_SUBSET {
            (0..1u64 << count).collect::<Vec<u64>>()
        } else {
            let all = (1u64 << count) - 1;
            let prefixes = (0..=count).map(|kept| all & !((1 << kept) - 1));
            let mut losses: Vec<u64> = prefixes.chain((0..count).map(|single| 1 << single)).collect();
            losses.sort_unstable();
            losses.dedup();
            losses
        };
        let mut losses = losses;
        losses.sort_by_key(|lost| lost.count_ones());
        Outcomes { state: Arc::new(state), losses: losses.into_iter(), current: None }
    }

    fn next_names(&mut self) -> Option<Current> {
        let lost = self.losses.next()?;
        let mut names = self.state.durable.clone();
        for (index, change) in self.state.pending.iter().enumerate() {
            if index >= CHANGES || lost & (1 << index) == 0 {
                change.apply(&mut names);
            }
        }
        // What lies in a folder whose own name is lost is lost with it.
        let inside = |path: &Path, names: &Names| {
            path.ancestors().skip(1).all(|above| above.as_os_str().is_empty() || names.contains_key(above))
        };
        let kept: Names = names.iter().filter(|(path, _)| inside(path, &names)).map(|(p, e)| (p.clone(), *e)).collect();
        let open = kept.iter().filter_map(|(path, entry)| match entry {
            Entry::File(file) if self.state.files[file].is_open() => Some((path.clone(), *file)),
            _ => None,
        });
        let open: Vec<_> = open.collect();
        let digits = vec![0; open.len()];
        Some(Current { lost, names: Arc::new(kept), open, digits, done: false })
    }
}

impl Iterator for Outcomes {
    type Item = PowerLoss;

    fn next(&mut self) -> Option<PowerLoss> {
        loop {
            if self.current.as_ref().is_none_or(|current| current.done) {
                self.current = Some(self.next_names()?);
            }
            let state = self.state.clone();
            let Some(current) = self.current.as_mut().filter(|current| !current.done) else { continue };
            let contents = current.open.iter().zip(&current.digits);
            let contents = contents.map(|((path, file), digit)| (path.clone(), *file, state.files[file].kept(*digit)));
            let contents: Vec<_> = contents.collect();
            let (names, lost) = (current.names.clone(), current.lost);
            current.count_on(&state);
            return Some(PowerLoss { state, names, lost, contents });
        }
    }
}

impl Current {
    fn count_on(&mut self, state: &DiskState) {
        for (digit, (_, file)) in self.digits.iter_mut().zip(&self.open) {
            *digit += 1;
            if *digit < state.files[file].choices() {
                return;
            }
            *digit = 0;
        }
        self.done = true;
    }
}

impl Content {
    /// Whether a power loss can find something else than what is seen.
    fn is_open(&self) -> bool {
        self.lost || self.seen != self.durable
    }

    /// In how many ways the content can be found: whole, and for each byte torn there, zeroed from there, or mixed with
    /// what was there before.
    fn choices(&self) -> usize {
        let ways = if self.durable.is_empty() { 2 } else { 3 };
        1 + ways * self.seen.len().max(1)
    }

    fn kept(&self, choice: usize) -> Kept {
        let Some(choice) = choice.checked_sub(1) else { return Kept::Whole };
        let len = self.seen.len().max(1);
        match choice / len {
            0 => Kept::First(choice % len),
            1 => Kept::FirstThenZeros(choice % len),
            _ => Kept::FirstThenOld(choice % len),
        }
    }

    fn found(&self, kept: Kept) -> Vec<u8> {
        let first = |len: usize| self.seen[..len.min(self.seen.len())].to_vec();
        match kept {
            Kept::Whole => self.seen.to_vec(),
            Kept::First(len) => first(len),
            Kept::FirstThenZeros(len) => {
                let mut bytes = first(len);
                bytes.resize(self.seen.len(), 0);
                bytes
            }
            Kept::FirstThenOld(len) => {
                let mut bytes = first(len);
                bytes.extend_from_slice(self.durable.get(len..).unwrap_or_default());
                bytes
            }
        }
    }
}

impl PowerLoss {
    /// The disk as it is found.
    pub fn disk(&self) -> SimDisk {
        let names = (*self.names).clone();
        let next = self.state.next;
        let mut state = DiskState { seen: names.clone(), durable: names, next, ..DiskState::default() };
        for entry in self.names.values() {
            if let Entry::File(file) = entry {
                let durable = self.state.files[file].durable.clone();
                state.files.insert(*file, Content { seen: durable.clone(), durable, lost: false });
            }
        }
        for (_, file, kept) in &self.contents {
            let found = Arc::new(self.state.files[file].found(*kept));
            state.files.insert(*file, Content { seen: found.clone(), durable: found, lost: false });
        }
        SimDisk::of(state)
    }

    /// The names that are there.
    pub fn names(&self) -> impl Iterator<Item = &Path> {
        self.names.keys().map(PathBuf::as_path)
    }

    /// What happened to the disk, in words, one line for each thing; empty if all that was seen is there.
    pub fn told(&self) -> Vec<String> {
        let mut told: Vec<String> = Vec::new();
        for (path, file, kept) in &self.contents {
            let path = path.display();
            let len = self.state.files[file].seen.len();
            told.extend(match kept {
                Kept::Whole => None,
                Kept::First(bytes) => Some(format!("{path} has {bytes} of its {len} bytes")),
                Kept::FirstThenZeros(bytes) => Some(format!("{path} has zeros after {bytes} of its {len} bytes")),
                Kept::FirstThenOld(bytes) => Some(format!("{path} has its old content after {bytes} new bytes")),
            });
        }
        for change in self.lost_changes() {
            told.push(match (&change.goes, &change.comes) {
                (Some(from), Some((to, _))) => format!("{} still has the name {}", to.display(), from.display()),
                (None, Some((to, _))) => format!("{} is not there", to.display()),
                (Some(from), None) => format!("{} is still there", from.display()),
                (None, None) => continue,
            });
        }
        told
    }

    /// The files whose content is not whole: the path, and whether something else was durable there before.
    pub(crate) fn torn(&self) -> impl Iterator<Item = (&Path, bool)> {
        let torn = self.contents.iter().filter(|(_, _, kept)| *kept != Kept::Whole);
        torn.map(|(path, file, _)| (path.as_path(), !self.state.files[file].durable.is_empty()))
    }

    /// The names that were made and are lost: the path, and the number of the operation.
    pub(crate) fn lost_names(&self) -> impl Iterator<Item = (&Path, usize)> {
        self.lost_changes().filter_map(|change| Some((change.comes.as_ref()?.0.as_path(), change.operation)))
    }

    fn lost_changes(&self) -> impl Iterator<Item = &super::sim::NameChange> {
        let pending = self.state.pending.iter().enumerate().take(CHANGES);
        pending.filter(|(index, _)| self.lost & (1 << index) != 0).map(|(_, change)| change)
    }
}
