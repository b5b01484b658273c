//! Every state in which a disk can come back from a power loss.
//!
//! Two things are free, each on its own: which of the name changes that no sync settled have reached the disk (any of
//! them, later ones without earlier ones too), and how much of an unsynced content has. Where several contents are
//! unsynced at once, each of them is torn in turn while the others are whole: their product would be endless.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::{Content, DiskEntry, DiskState, FileId, NameTable, SimDisk};

/// All states in which a disk can come back, the most harmless ones first: what was seen, then contents that are torn,
/// then names that are lost.
pub struct PowerLosses {
    state: Arc<DiskState>,
    /// Says which name changes are lost, one set of bits for each case.
    losses: std::vec::IntoIter<u64>,
    /// Contents are not torn at every byte, only at their ends and in the middle.
    coarse: bool,
    current: Option<Current>,
}

/// The cases of one choice of names: all contents whole, then one after the other torn at every byte.
struct Current {
    lost: u64,
    names: Arc<NameTable>,
    /// The names that are there without having been synced with their content, and the version_steps each can be torn.
    open: Vec<(PathBuf, FileId, usize)>,
    /// The file that is torn now, and how; at first none is.
    torn: Option<(usize, usize)>,
    done: bool,
}

/// One state in which a disk comes back.
pub struct PowerLoss {
    state: Arc<DiskState>,
    names: Arc<NameTable>,
    lost: u64,
    torn: Option<(PathBuf, FileId, KeptBytes)>,
}

/// Describes how much of an unsynced content is there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum KeptBytes {
    /// The first bytes, and the file ends there.
    First(usize),
    /// The first bytes, and zeros to the full length: the size was written before the data.
    FirstThenZeros(usize),
    /// The first bytes, and what was there before behind them.
    FirstThenOld(usize),
}

/// Beyond this number of unsettled name changes not every subset is tried, but every prefix and every single loss.
const EVERY_SUBSET: usize = 6;

/// Says how many unsettled name changes are considered at all: a store that leaves more has broken every promise already.
const CHANGES: usize = 63;

impl PowerLosses {
    pub(super) fn of(state: DiskState) -> PowerLosses {
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
        PowerLosses { state: Arc::new(state), losses: losses.into_iter(), coarse: false, current: None }
    }

    /// Tears contents in a few places instead of at every byte: for searches that look at many more
    /// disks.
    #[must_use]
    pub fn coarse(self) -> PowerLosses {
        PowerLosses { coarse: true, ..self }
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
        let inside = |path: &Path, names: &NameTable| {
            path.ancestors().skip(1).all(|above| above.as_os_str().is_empty() || names.contains_key(above))
        };
        let kept: NameTable =
            names.iter().filter(|(path, _)| inside(path, &names)).map(|(p, e)| (p.clone(), *e)).collect();
        let open = kept.iter().filter_map(|(path, entry)| match entry {
            DiskEntry::File(file) if self.state.files[file].is_open() => {
                Some((path.clone(), *file, self.state.files[file].version_steps()))
            }
            _ => None,
        });
        let open = open.collect();
        Some(Current { lost, names: Arc::new(kept), open, torn: None, done: false })
    }
}

impl Iterator for PowerLosses {
    type Item = PowerLoss;

    fn next(&mut self) -> Option<PowerLoss> {
        loop {
            if self.current.as_ref().is_none_or(|current| current.done) {
                self.current = Some(self.next_names()?);
            }
            let state = self.state.clone();
            let Some(current) = self.current.as_mut().filter(|current| !current.done) else { continue };
            let torn = current.torn.map(|(index, way)| {
                let (path, file, _) = &current.open[index];
                (path.clone(), *file, state.files[file].kept(way))
            });
            let (names, lost) = (current.names.clone(), current.lost);
            current.go_on(self.coarse);
            return Some(PowerLoss { state, names, lost, torn });
        }
    }
}

impl Current {
    fn go_on(&mut self, coarse: bool) {
        let step = |version_steps: usize| if coarse { (version_steps / 6).max(1) } else { 1 };
        let next = |(index, way): (usize, usize)| (index, way + self.open.get(index).map_or(1, |open| step(open.2)));
        let (mut index, mut way) = self.torn.map_or((0, 0), next);
        if self.open.get(index).is_some_and(|(_, _, version_steps)| way >= *version_steps) {
            (index, way) = (index + 1, 0);
        }
        self.done = index >= self.open.len();
        self.torn = Some((index, way));
    }
}

impl Content {
    /// Returns whether a power loss can find something else than what is seen.
    fn is_open(&self) -> bool {
        self.lost || self.seen != self.durable
    }

    /// In how many version_steps the content can be torn: at each byte it can end, or be zeros from there, or be what was there
    /// before.
    fn version_steps(&self) -> usize {
        let kinds = if self.durable.is_empty() { 2 } else { 3 };
        kinds * self.seen.len().max(1)
    }

    fn kept(&self, way: usize) -> KeptBytes {
        let len = self.seen.len().max(1);
        match way / len {
            0 => KeptBytes::First(way % len),
            1 => KeptBytes::FirstThenZeros(way % len),
            _ => KeptBytes::FirstThenOld(way % len),
        }
    }

    fn found(&self, kept: KeptBytes) -> Vec<u8> {
        let (KeptBytes::First(len) | KeptBytes::FirstThenZeros(len) | KeptBytes::FirstThenOld(len)) = kept;
        let mut bytes = self.seen[..len.min(self.seen.len())].to_vec();
        match kept {
            KeptBytes::First(_) => {}
            KeptBytes::FirstThenZeros(_) => bytes.resize(self.seen.len(), 0),
            KeptBytes::FirstThenOld(_) => bytes.extend_from_slice(self.durable.get(len..).unwrap_or_default()),
        }
        bytes
    }
}

impl PowerLoss {
    /// The disk as it is found.
    pub fn disk(&self) -> SimDisk {
        let names = (*self.names).clone();
        let next = self.state.next;
        let mut state = DiskState { seen: names.clone(), durable: names, next, ..DiskState::default() };
        for entry in self.names.values() {
            if let DiskEntry::File(file) = entry {
                let found = match &self.torn {
                    Some((_, torn, kept)) if torn == file => Arc::new(self.state.files[file].found(*kept)),
                    _ => self.state.files[file].seen.clone(),
                };
                state.files.insert(*file, Content { seen: found.clone(), durable: found, lost: false });
            }
        }
        SimDisk::of(state)
    }

    /// The names that are there.
    pub fn names(&self) -> impl Iterator<Item = &Path> {
        self.names.keys().map(PathBuf::as_path)
    }

    /// Returns what happened to the disk, in words, one line for each thing; empty if all that was seen is there.
    pub fn told(&self) -> Vec<String> {
        let mut told: Vec<String> = Vec::new();
        if let Some((path, file, kept)) = &self.torn {
            let (path, len) = (path.display(), self.state.files[file].seen.len());
            told.push(match kept {
                KeptBytes::First(bytes) => format!("{path} has {bytes} of its {len} bytes"),
                KeptBytes::FirstThenZeros(bytes) => format!("{path} has zeros after {bytes} of its {len} bytes"),
                KeptBytes::FirstThenOld(bytes) => format!("{path} has its old content after {bytes} new bytes"),
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

    /// The file whose content is not whole: the path, and whether something else was durable there before.
    pub(crate) fn torn(&self) -> Option<(&Path, bool)> {
        let (path, file, _) = self.torn.as_ref()?;
        Some((path, !self.state.files[file].durable.is_empty()))
    }

    /// The names that were made and are lost: the path, and the number of the operation.
    pub(crate) fn lost_names(&self) -> impl Iterator<Item = (&Path, usize)> {
        self.lost_changes().filter_map(|change| Some((change.comes.as_ref()?.0.as_path(), change.operation)))
    }

    fn lost_changes(&self) -> impl Iterator<Item = &super::NameChange> {
        let pending = self.state.pending.iter().enumerate().take(CHANGES);
        pending.filter(|(index, _)| self.lost & (1 << index) != 0).map(|(_, change)| change)
    }
}
