//! Faults under stores: the store that is shipped breaks no promise, and stores with a mistake are caught and told why.

use std::path::{Path, PathBuf};

use vestigum::{
    Committed, DirStore, Disk, DiskFile, EntryKind, GivenSave, Image, Line, Lock, Owner, Pruned, Spec, Store,
    StoreError,
};
use vestigum_verify::SimDisk;
use vestigum_verify::faults::{FaultKind, FaultReport, Violation, faults, sync_faults};
use vestigum_verify::playthrough::Script;

const WORLD: &str = r#"
[game]
id = "fellpost"
[levels]
order = ["mill_lane"]
[field.xp]
type = "int"
lasts = "profile"
after_failure = "keep"
[field.volume]
type = "int"
lasts = "device"
[save]
at = ["complete"]
keep = 2
"#;

const PLAY: &str = r#"
playthrough "three evenings"
launch
enter mill_lane
  xp += 5
complete
volume = 7
quit
launch
repeat 3
  xp += 1
  save
end
crash
launch
xp += 1
quit
"#;

/// Long enough for a mistake to show, short because careless stores leave much open.
const SHORT_PLAY: &str = r#"
playthrough "two saves"
launch
xp += 1
save
xp += 1
volume = 3
save
crash
launch
"#;

fn report<S: Store>(play: &str, open: impl Fn(SimDisk) -> Result<S, StoreError> + Sync) -> FaultReport {
    report_keeping(2, play, open)
}

fn report_keeping<S: Store>(
    keep: u32,
    play: &str,
    open: impl Fn(SimDisk) -> Result<S, StoreError> + Sync,
) -> FaultReport {
    let spec = Spec::from_toml(WORLD).unwrap_or_else(|errors| panic!("{errors}"));
    let script = Script::from_text("evenings.play", play, &spec).unwrap_or_else(|errors| panic!("{errors}"));
    faults(&spec, &script.playthroughs()[0], keep, &open, &|_| {}).unwrap()
}

#[test]
fn no_fault_under_the_shipped_store_breaks_a_promise() {
    for keep in 1..=3 {
        let report = report_keeping(keep, PLAY, |disk| DirStore::open_on(disk, "saves"));
        assert!(report.violations.is_empty(), "keep {keep}: {:#?}", report.violations);
        let tried = |kind| report.tried[&kind];
        assert!(report.saves >= 7 && tried(FaultKind::PowerLoss).points > 40, "{report:?}");
        // Each byte of each file can be where it tears.
        assert!(tried(FaultKind::PowerLoss).outcomes > 3_000 && tried(FaultKind::Kill).outcomes > 300, "{report:?}");
        assert!(tried(FaultKind::DiskFull).points > 10 && tried(FaultKind::DiskError).points > 60, "{report:?}");
        if keep > 1 {
            assert!(
                tried(FaultKind::ShortRead).recovered == 0 && tried(FaultKind::BitRot).recovered > 500,
                "{report:?}"
            );
        }
    }
}

const PLAYERS: &str = r#"
playthrough "players come and go"
profiles create ada
profile ada
launch
xp += 5
quit
profiles copy ada to bo
profiles rename bo to cy
profiles delete ada
profiles restore ada
launch
xp += 1
quit
profiles delete ada
profiles purge ada
launch
xp += 2
quit
"#;

/// Making, copying, renaming, deleting, bringing back and purging players, with each fault under each of them.
#[test]
fn no_fault_under_a_change_of_players_breaks_a_promise() {
    for keep in 1..=3 {
        let report = report_keeping(keep, PLAYERS, |disk| DirStore::open_on(disk, "saves"));
        assert_eq!(report.ended_at, None, "keep {keep}");
        assert!(report.violations.is_empty(), "keep {keep}: {:#?}", report.violations);
        assert!(report.tried[&FaultKind::Unavailable].points > 100, "{report:?}");
    }
}

/// A save that cannot be read now is not damaged: a store that says so loses what was acknowledged.
#[test]
fn a_store_that_takes_what_it_cannot_read_for_nothing_is_caught() {
    caught(Mistake::TakesUnreadForNothing, FaultKind::Unavailable, "what could not be read now was taken for");
}

#[derive(Clone, Copy, Debug, PartialEq)]
enum Mistake {
    /// One file that is replaced by a rename: sound, if not as good at recovering.
    None,
    SkipsTheSync,
    RenamesBeforeTheSync,
    SkipsTheFolder,
    OverwritesInPlace,
    WritesUnderItsName,
    TakesDamageForNothing,
    TakesUnreadForNothing,
}

/// A store with one file for each owner, and a mistake.
struct Careless {
    disk: SimDisk,
    mistake: Mistake,
}

impl Careless {
    fn path(owner: &Owner) -> PathBuf {
        PathBuf::from(match owner {
            Owner::Profile(name) => format!("{name}.json"),
            Owner::Device => "device.json".into(),
        })
    }

    fn image(&self, owner: &Owner) -> Result<Option<Result<Image, vestigum::image::ImageError>>, StoreError> {
        let path = Careless::path(owner);
        let bytes = match self.disk.read(&path, 1 << 20) {
            Ok(bytes) => bytes,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
            Err(_) if self.mistake == Mistake::TakesUnreadForNothing => return Ok(None),
            Err(cause) => return Err(StoreError::Io { action: "read", path, cause }),
        };
        let image = Image::from_json(&bytes);
        Ok(if self.mistake == Mistake::TakesDamageForNothing { image.ok().map(Ok) } else { Some(image) })
    }

    fn write(&self, path: &Path, bytes: &[u8]) -> std::io::Result<()> {
        if matches!(self.mistake, Mistake::OverwritesInPlace | Mistake::WritesUnderItsName) {
            if self.mistake == Mistake::WritesUnderItsName {
                let _ = self.disk.remove(path);
            }
            let mut file = self.disk.create(path)?;
            file.write(bytes)?;
            file.sync()?;
            return self.disk.sync_folder(Path::new(""));
        }
        let temporary = path.with_extension("new");
        let mut file = self.disk.create(&temporary)?;
        file.write(bytes)?;
        if !matches!(self.mistake, Mistake::SkipsTheSync | Mistake::RenamesBeforeTheSync) {
            file.sync()?;
        }
        self.disk.rename(&temporary, path)?;
        if self.mistake == Mistake::RenamesBeforeTheSync {
            file.sync()?;
        }
        if self.mistake == Mistake::SkipsTheFolder { Ok(()) } else { self.disk.sync_folder(Path::new("")) }
    }
}

impl Store for Careless {
    fn owners(&self) -> Result<Vec<Owner>, StoreError> {
        Ok(Vec::new())
    }
    fn generations(&self, owner: &Owner) -> Result<Vec<u64>, StoreError> {
        // What is damaged is still there, under whatever number.
        Ok(self.image(owner)?.map(|image| image.map_or(1, |image| image.generation)).into_iter().collect())
    }
    fn read(&self, owner: &Owner, generation: u64) -> Result<Image, StoreError> {
        let owner = owner.clone();
        match self.image(&owner)? {
            None => Err(StoreError::NoGeneration { owner, generation }),
            Some(image) => image.map_err(|damaged| StoreError::Damaged { owner, generation, damaged }),
        }
    }
    fn commit(&self, _: u64, image: &Image) -> Result<Committed, StoreError> {
        let newest = self.image(&image.owner)?.and_then(Result::ok);
        let digest = image.digest();
        let generation = newest.as_ref().map_or(0, |image| image.generation);
        if newest.is_some_and(|newest| newest.digest() == digest) {
            return Ok(Committed::unchanged(generation));
        }
        let path = Careless::path(&image.owner);
        let bytes = image.encoded().bytes(generation + 1, None);
        self.write(&path, &bytes).map_err(|cause| StoreError::Io { action: "write", path, cause })?;
        Ok(Committed::written(generation + 1))
    }
    fn insert(&self, image: &Image) -> Result<Committed, StoreError> {
        self.commit(0, image)
    }
    fn remove_before(&self, _: &Owner, _: u64) -> Result<usize, StoreError> {
        Ok(0)
    }
    fn prune(&self, _: &Owner, _: u32) -> Result<Pruned, StoreError> {
        Ok(Pruned::default())
    }
}

fn caught(mistake: Mistake, kind: FaultKind, explanation: &str) -> FaultReport {
    let report = report(SHORT_PLAY, |disk| Ok(Careless { disk, mistake }));
    assert!(report.tried[&kind].violations > 0, "{mistake:?} was not caught: {report:#?}");
    let of_kind = report.violations.iter().filter(|violation| violation.kind == kind);
    let told: Vec<&str> = of_kind.map(|violation| violation.explanation.as_str()).collect();
    assert!(told.iter().any(|told| told.contains(explanation)), "{mistake:?}: {told:#?}");
    report
}

#[test]
fn a_store_that_replaces_one_file_soundly_passes() {
    let report = report(PLAY, |disk| Ok(Careless { disk, mistake: Mistake::None }));
    assert_eq!(report.tried[&FaultKind::PowerLoss].violations, 0, "{:#?}", report.violations);
}

#[test]
fn a_store_that_skips_the_sync_is_caught() {
    let report = caught(Mistake::SkipsTheSync, FaultKind::PowerLoss, "the content of device.json was never synced");
    let shown: Vec<String> = report.violations[0].steps.iter().map(ToString::to_string).collect();
    let Violation { disk, loaded, expected, .. } = &report.violations[0];
    let told = format!("{}\npower loss: {}\nloaded: {loaded}\nexpected: {expected}", shown.join("\n"), disk.join(", "));
    insta::assert_snapshot!(told, @"
    save the device
    create       device.new
    write        device.new, 320 bytes
    rename       device.new to device.json
    power loss: device.json has 0 of its 320 bytes
    loaded: nothing: no save of the device can be read
    expected: nothing of the device, or the image that was being saved, whole
    ");
}

#[test]
fn a_store_that_renames_before_the_sync_is_caught() {
    caught(
        Mistake::RenamesBeforeTheSync,
        FaultKind::PowerLoss,
        "player.json got its name before its content was synced: sync the file first, then rename it",
    );
}

#[test]
fn a_store_that_skips_the_folder_is_caught() {
    let told = "player.json got its name and its folder was not synced, so the name can be lost with the power";
    caught(Mistake::SkipsTheFolder, FaultKind::PowerLoss, told);
}

#[test]
fn a_store_that_overwrites_in_place_is_caught() {
    caught(Mistake::OverwritesInPlace, FaultKind::PowerLoss, "player.json was overwritten in place");
}

#[test]
fn a_store_that_writes_under_the_name_it_reads_is_caught() {
    caught(Mistake::WritesUnderItsName, FaultKind::PowerLoss, "is written under the name by which it is read");
}

#[test]
fn a_store_that_takes_damage_for_a_fresh_start_is_caught() {
    caught(Mistake::TakesDamageForNothing, FaultKind::BitRot, "the damage was not noticed, or not reported");
    caught(Mistake::TakesDamageForNothing, FaultKind::ShortRead, "did not say so");
}

const BLOBS: &str = r#"
[game]
id = "fellpost"
[levels]
order = ["mill_lane"]
[field.path_walked]
type = "blob"
lasts = "visit"
after_failure = "entry"
[field.best_path]
type = "blob"
per = "level"
lasts = "profile"
on.complete = { set = "path_walked" }
[field.skyline]
type = "blob"
lasts = "device"
[field.walks]
type = "int"
lasts = "profile"
after_failure = "keep"
[save]
at = ["complete"]
keep = 2
"#;

const BLOBS_PLAY: &str = r#"
playthrough "blobs come, change, come back and go"
launch
enter mill_lane
  path_walked = 'over the ford'
complete
skyline = 'over the ford'
save
enter mill_lane
  path_walked = 'by the stile'
  save
crash
launch
  path_walked = 'over the ford'
complete
reset field best_path
skyline = ''
repeat 2
  walks += 1
  save
end
expect count(completed) == 1
quit
launch
expect best_path[mill_lane] == ''
quit
"#;

/// A disk on which something about blobs is never made durable.
#[derive(Clone, Debug)]
struct Forgetful {
    disk: SimDisk,
    names: bool,
}

/// A file whose content is never synced.
struct Unsynced(Box<dyn DiskFile>);

impl DiskFile for Unsynced {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<()> {
        self.0.write(bytes)
    }
    fn sync(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

impl Disk for Forgetful {
    fn pause(&self, _: std::time::Duration) {}
    fn is_folder(&self, path: &Path) -> std::io::Result<bool> {
        self.disk.is_folder(path)
    }
    fn kind(&self, path: &Path) -> std::io::Result<Option<EntryKind>> {
        self.disk.kind(path)
    }
    fn make_folder(&self, path: &Path) -> std::io::Result<()> {
        self.disk.make_folder(path)
    }
    fn list(&self, path: &Path) -> std::io::Result<Vec<String>> {
        self.disk.list(path)
    }
    fn read(&self, path: &Path, most: u64) -> std::io::Result<Vec<u8>> {
        self.disk.read(path, most)
    }
    fn create_new(&self, path: &Path) -> std::io::Result<Box<dyn DiskFile>> {
        let file = self.disk.create_new(path)?;
        let is_blob = path.starts_with("saves/blobs");
        Ok(if is_blob && !self.names { Box::new(Unsynced(file)) } else { file })
    }
    fn create(&self, path: &Path) -> std::io::Result<Box<dyn DiskFile>> {
        self.disk.create(path)
    }
    fn rename(&self, from: &Path, to: &Path) -> std::io::Result<()> {
        self.disk.rename(from, to)
    }
    fn rename_new(&self, from: &Path, to: &Path) -> std::io::Result<()> {
        self.disk.rename_new(from, to)
    }
    fn remove(&self, path: &Path) -> std::io::Result<()> {
        self.disk.remove(path)
    }
    fn sync_folder(&self, path: &Path) -> std::io::Result<()> {
        if self.names && path == Path::new("saves/blobs") { Ok(()) } else { self.disk.sync_folder(path) }
    }
    fn lock(&self, path: &Path) -> std::io::Result<Lock> {
        self.disk.lock(path)
    }
}

fn blobs_report<S: Store>(
    keep: u32,
    play: &str,
    open: impl Fn(SimDisk) -> Result<S, StoreError> + Sync,
) -> FaultReport {
    let spec = Spec::from_toml(BLOBS).unwrap_or_else(|errors| panic!("{errors}"));
    let script = Script::from_text("blobs.play", play, &spec).unwrap_or_else(|errors| panic!("{errors}"));
    faults(&spec, &script.playthroughs()[0], keep, &open, &|_| {}).unwrap()
}

#[test]
fn no_fault_leaves_an_image_without_its_blobs() {
    for keep in 1..=2 {
        let report = blobs_report(keep, BLOBS_PLAY, |disk| DirStore::open_on(disk, "saves"));
        assert_eq!(report.ended_at, None);
        assert!(report.violations.is_empty(), "keep {keep}: {:#?}", report.violations);
        assert!(report.saves >= 8 && report.tried[&FaultKind::PowerLoss].outcomes > 3_000, "{report:?}");
    }
}

#[test]
fn blobs_that_are_not_made_durable_are_missed() {
    let short = "playthrough \"one walk\"\nlaunch\nenter mill_lane\npath_walked = 'over the ford'\ncomplete\nquit\n";
    for (names, explanation) in [(true, "sync the folder saves/blobs"), (false, "sync the file before the rename")] {
        let report = blobs_report(2, short, |disk| DirStore::open_on(Forgetful { disk, names }, "saves"));
        let mut found = report.violations.iter().filter(|violation| violation.kind == FaultKind::PowerLoss);
        let found = found.find(|violation| violation.explanation.contains(explanation));
        assert!(found.is_some_and(|found| found.loaded.contains("without its blob")), "{:#?}", report.violations);
    }
}

const MERGING: &str = "[game]\nid = \"fellpost\"\n[merge]\n[field.xp]\ntype = \"int\"\nlasts = \"profile\"\n\
    after_failure = \"keep\"\nmerge = \"sum\"\n";

/// A save folder that says that a second save was written, and writes nothing: what a sync brings is never there.
struct Forgets(DirStore);

impl Store for Forgets {
    fn owners(&self) -> Result<Vec<Owner>, StoreError> {
        self.0.owners()
    }
    fn generations(&self, owner: &Owner) -> Result<Vec<u64>, StoreError> {
        self.0.generations(owner)
    }
    fn read(&self, owner: &Owner, generation: u64) -> Result<Image, StoreError> {
        self.0.read(owner, generation)
    }
    fn commit(&self, follows: u64, image: &Image) -> Result<Committed, StoreError> {
        if follows > 0 { Ok(Committed::written(follows + 1)) } else { self.0.commit(follows, image) }
    }
    fn insert(&self, image: &Image) -> Result<Committed, StoreError> {
        self.0.insert(image)
    }
    fn remove_before(&self, owner: &Owner, generation: u64) -> Result<usize, StoreError> {
        self.0.remove_before(owner, generation)
    }
    fn prune(&self, owner: &Owner, keep: u32) -> Result<Pruned, StoreError> {
        self.0.prune(owner, keep)
    }
    fn line(&self, owner: &Owner) -> Result<Option<Line>, StoreError> {
        self.0.line(owner)
    }
    fn begin_line(&self, owner: &Owner) -> Result<Line, StoreError> {
        self.0.begin_line(owner)
    }
    fn give(&self, owner: &Owner, save: &GivenSave) -> Result<(), StoreError> {
        self.0.give(owner, save)
    }
}

#[test]
fn syncs_are_cut_short_and_a_store_that_forgets_one_is_caught() {
    let synced = |toml: &str, forgets: bool| {
        let spec = Spec::from_toml(toml).unwrap_or_else(|errors| panic!("{errors}"));
        let play = "playthrough \"a gain\"\nlaunch\nxp += 5\nquit\n";
        let script = Script::from_text("gain.play", play, &spec).unwrap_or_else(|errors| panic!("{errors}"));
        let playthrough = &script.playthroughs()[0];
        let open = |disk: SimDisk, place: &str| DirStore::open_on(disk, place);
        match forgets {
            false => sync_faults(&spec, playthrough, 3, &open),
            true => sync_faults(&spec, playthrough, 3, &|disk, place| open(disk, place).map(Forgets)),
        }
        .unwrap()
    };
    let sound = synced(MERGING, false);
    let tried = sound.tried[&FaultKind::Sync];
    assert!(tried.points > 20 && tried.outcomes > tried.points, "{tried:?}");
    assert!(sound.violations.is_empty(), "{:#?}", sound.violations);
    let forgets = synced(MERGING, true);
    assert!(forgets.tried[&FaultKind::Sync].violations > 0, "{forgets:?}");
    assert!(forgets.violations[0].explanation.contains("on a sound disk"), "{forgets:?}");
    // Without `[merge]` nothing is synced.
    let plain = MERGING.replace("[merge]\n", "").replace("merge = \"sum\"\n", "");
    assert!(synced(&plain, false).tried.is_empty());
}
