//! Save folders with things in them that no game put there, and folders that go away while a game runs.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::time::Duration;
use std::{fs, io};

use vestigum::image::Tree;
use vestigum::{
    DirStore, Disk, DiskFile, EntryKind, Image, Lock, MemoryStore, Owner, Progress, Saver, Session, SessionError, Spec,
    Store, StoreError, Value, prune_all,
};
use vestigum_verify::SimDisk;

const WORLD: &str = r#"
[game]
id = "fellpost"
[field.xp]
type = "int"
lasts = "profile"
after_failure = "keep"
[field.notes]
type = "text"
lasts = "profile"
after_failure = "keep"
[field.volume]
type = "int"
lasts = "device"
[save]
keep = 2
"#;

fn spec() -> Spec {
    Spec::from_toml(WORLD).unwrap_or_else(|errors| panic!("{errors}"))
}

fn ada() -> Owner {
    Owner::Profile("ada".into())
}

fn launch(folder: &Path) -> Result<Session, SessionError> {
    Session::launch(&spec(), DirStore::open(folder)?, "ada")
}

/// Saves `xp` as a session of its own.
fn save(folder: &Path, xp: i64) {
    let mut game = launch(folder).unwrap();
    game.write("xp", &[], Value::Int(xp)).unwrap();
    game.quit().unwrap();
}

fn xp(folder: &Path) -> i64 {
    let game = launch(folder).unwrap();
    let xp = game.value("xp", &[]).unwrap().as_int();
    game.quit().unwrap();
    xp
}

#[test]
fn a_folder_that_goes_away_before_the_first_save_is_made_again() {
    let folder = tempfile::tempdir().unwrap();
    let saves = folder.path().join("saves");
    save(&saves, 1);
    save(&saves, 2);
    for gone in [saves.clone(), saves.join("profiles/ada"), saves.join("profiles")] {
        let mut game = launch(&saves).unwrap();
        fs::remove_dir_all(&gone).unwrap();
        let before = game.value("xp", &[]).unwrap().as_int();
        game.write("xp", &[], Value::Int(before + 1)).unwrap();
        game.save().wait().unwrap();
        assert!(game.settled());
        game.quit().unwrap();
        assert_eq!(xp(&saves), before + 1, "{} went away", gone.display());
    }
}

#[test]
fn a_folder_that_goes_away_is_noticed_by_a_save_of_nothing_new_and_everyone_writes_again() {
    let folder = tempfile::tempdir().unwrap();
    let saves = folder.path().join("saves");
    let store = DirStore::open(&saves).unwrap();
    let saver = Saver::new(store.clone());
    let mut games = ["ada", "ben"].map(|name| {
        let mut game = Session::launch(&spec(), &saver, name).unwrap();
        game.write("xp", &[], Value::Int(7)).unwrap();
        game.write("volume", &[], Value::Int(40)).unwrap();
        game.save().wait().unwrap();
        game
    });
    fs::remove_dir_all(&saves).unwrap();
    games[0].save().wait().unwrap();
    for game in &games {
        game.settle(Duration::from_secs(5)).unwrap();
    }
    for owner in [ada(), Owner::Profile("ben".into()), Owner::Device] {
        assert!(!store.generations(&owner).unwrap().is_empty(), "{owner} was not written again");
    }
    // The lock was made again with the folder.
    assert!(matches!(DirStore::open(&saves).unwrap_err(), StoreError::OpenAlready { .. }));
    // One file alone goes away.
    let newest = *store.generations(&ada()).unwrap().last().unwrap();
    fs::remove_file(store.file(&ada(), newest).unwrap()).unwrap();
    let saved = games[0].save().wait().unwrap();
    assert!(saved.written && saved.generation > newest, "{saved:?}");
    for game in games {
        game.quit().unwrap();
    }
    drop((saver, store));
    assert_eq!(xp(&saves), 7);
}

#[test]
fn numbers_that_no_game_gave_are_left_alone() {
    for stray in ["18446744073709551615", "9223372036854775807", "9007199254740992", "007", "0"] {
        let folder = tempfile::tempdir().unwrap();
        save(folder.path(), 1);
        fs::write(folder.path().join(format!("profiles/ada/{stray}.json")), b"{}").unwrap();
        save(folder.path(), 2);
        assert_eq!(xp(folder.path()), 2, "{stray}");
        let store = DirStore::open(folder.path()).unwrap();
        assert_eq!(store.generations(&ada()).unwrap().last(), Some(&2), "{stray}");
        let strays = store.strays().unwrap();
        assert!(strays.len() == 1 && strays[0].why == "this store gives no such number", "{strays:?}");
    }
    // The last number that there is, under which nothing can be read, leaves room below.
    let folder = tempfile::tempdir().unwrap();
    save(folder.path(), 1);
    fs::write(folder.path().join("profiles/ada/9007199254740991.json"), b"{}").unwrap();
    save(folder.path(), 2);
    save(folder.path(), 3);
    assert_eq!(xp(folder.path()), 3);
}

#[cfg(unix)]
#[test]
fn what_is_no_regular_file_is_passed_over_and_reported() {
    use std::os::unix::fs::symlink;
    let folder = tempfile::tempdir().unwrap();
    let saves = folder.path();
    save(saves, 2);
    let of_ada = saves.join("profiles/ada");
    let fifo = std::process::Command::new("mkfifo").arg(of_ada.join("7.json")).status().unwrap();
    assert!(fifo.success());
    fs::create_dir(of_ada.join("8.json")).unwrap();
    symlink("nowhere", of_ada.join("9.json")).unwrap();
    fs::write(saves.join("profiles/bob"), b"a file").unwrap();
    symlink("eve", saves.join("profiles/eve")).unwrap();
    symlink("/", saves.join("profiles/mallory")).unwrap();
    let game = launch(saves).unwrap();
    let report = game.load_report().to_string();
    for odd in ["generation 7", "generation 8", "generation 9", "it is not a regular file"] {
        assert!(report.contains(odd), "{odd}: {report}");
    }
    assert_eq!(game.value("xp", &[]), Ok(Value::Int(2)));
    game.quit().unwrap();
    save(saves, 3);
    assert_eq!(xp(saves), 3);
    let store = DirStore::open(saves).unwrap();
    assert_eq!(store.owners().unwrap(), [ada(), Owner::Device]);
    let strays: Vec<PathBuf> = store.strays().unwrap().into_iter().map(|stray| stray.path).collect();
    assert_eq!(strays, ["bob", "eve", "mallory"].map(|name| saves.join("profiles").join(name)));
    assert!(prune_all(&store, &ada(), 1).is_ok());
    let bob = Session::launch(&spec(), store, "bob").unwrap_err().to_string();
    assert!(bob.contains("expected a folder, found a file"), "{bob}");
}

#[cfg(unix)]
#[test]
fn nothing_outside_is_written_through_links() {
    use std::os::unix::fs::symlink;
    let folder = tempfile::tempdir().unwrap();
    let (saves, outside) = (folder.path().join("saves"), folder.path().join("outside"));
    save(&saves, 1);
    fs::write(&outside, b"precious").unwrap();
    for temporary in 2..5 {
        symlink(&outside, saves.join(format!("profiles/ada/.saving-{temporary}"))).unwrap();
    }
    let mut game = launch(&saves).unwrap();
    for xp in 2..5 {
        game.write("xp", &[], Value::Int(xp)).unwrap();
        game.save().wait().unwrap();
    }
    game.quit().unwrap();
    assert_eq!((fs::read(&outside).unwrap(), xp(&saves)), (b"precious".to_vec(), 4));
    fs::remove_file(saves.join(".lock")).unwrap();
    symlink(&outside, saves.join(".lock")).unwrap();
    assert!(DirStore::open(&saves).unwrap_err().to_string().contains("cannot lock the save folder with"));
    assert_eq!(fs::read(&outside).unwrap(), b"precious");
    // A whole folder of a player that is a link leads nowhere either.
    fs::remove_file(saves.join(".lock")).unwrap();
    fs::create_dir(folder.path().join("elsewhere")).unwrap();
    symlink(folder.path().join("elsewhere"), saves.join("profiles/ben")).unwrap();
    let refused = Session::launch(&spec(), DirStore::open(&saves).unwrap(), "ben").unwrap_err().to_string();
    assert!(refused.contains("links below a save folder are not followed"), "{refused}");
}

#[test]
fn names_of_sixty_characters_of_any_script_are_profiles() {
    let folder = tempfile::tempdir().unwrap();
    let names = ["郵".repeat(60), "é".repeat(60), "🕯".repeat(60), "con".into(), "nul".into()];
    for (number, name) in (1..).zip(&names) {
        let mut game = Session::launch(&spec(), DirStore::open(folder.path()).unwrap(), name).unwrap();
        game.write("xp", &[], Value::Int(number)).unwrap();
        game.quit().unwrap();
    }
    let store = DirStore::open(folder.path()).unwrap();
    let mut owners: Vec<Owner> = names.iter().cloned().map(Owner::Profile).chain([Owner::Device]).collect();
    owners.sort();
    assert_eq!(store.owners().unwrap(), owners);
    for (number, name) in (1..).zip(&names) {
        assert_eq!(Session::peek(&spec(), &store, name).unwrap().value("xp", &[]), Ok(Value::Int(number)));
    }
    assert!(!folder.path().join("profiles/con").exists());
    // The limit is told at launch, by every store.
    for name in [String::new(), "x".repeat(61)] {
        let error = Session::launch(&spec(), MemoryStore::default(), &name).unwrap_err().to_string();
        assert!(error.contains("1 to 60 characters"), "{error}");
    }
}

#[test]
fn files_that_are_too_large_are_damage() {
    let folder = tempfile::tempdir().unwrap();
    save(folder.path(), 1);
    let mut game = launch(folder.path()).unwrap();
    game.write("notes", &[], Value::text("a long walk ".repeat(300))).unwrap();
    game.quit().unwrap();
    let store = DirStore::open(folder.path()).unwrap().reading_at_most(2_000);
    let error = store.read(&ada(), 2).unwrap_err().to_string();
    assert!(error.contains("and at most 2000 are read"), "{error}");
    let game = Session::launch(&spec(), store, "ada").unwrap();
    assert_eq!((game.value("xp", &[]), game.load_report().is_clean()), (Ok(Value::Int(1)), false));
    game.quit().unwrap();
    // Millions of tiny values are refused before they fill the memory.
    let many = format!("{{\"values\":[{}[]]}}", "[],".repeat(2_000_000));
    let error = Image::from_json(many.as_bytes()).unwrap_err().to_string();
    assert!(error.contains("more values than a save of its size can have"), "{error}");
}

/// A disk in memory with that much room, which counts what is read.
#[derive(Clone, Debug)]
struct Tight {
    disk: SimDisk,
    room: Arc<AtomicU64>,
    reads: Arc<AtomicUsize>,
}

struct TightFile {
    file: Box<dyn DiskFile>,
    disk: Tight,
}

impl DiskFile for TightFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<()> {
        let used: usize = self.disk.disk.files().iter().map(|(_, bytes)| bytes.len()).sum();
        if (used + bytes.len()) as u64 > self.disk.room.load(Ordering::Relaxed) {
            return Err(io::Error::from(io::ErrorKind::StorageFull));
        }
        self.file.write(bytes)
    }
    fn sync(&mut self) -> io::Result<()> {
        self.file.sync()
    }
}

impl Disk for Tight {
    fn make_folder(&self, path: &Path) -> io::Result<()> {
        self.disk.make_folder(path)
    }
    fn is_folder(&self, path: &Path) -> io::Result<bool> {
        self.disk.is_folder(path)
    }
    fn kind(&self, path: &Path) -> io::Result<Option<EntryKind>> {
        self.disk.kind(path)
    }
    fn list(&self, folder: &Path) -> io::Result<Vec<String>> {
        self.disk.list(folder)
    }
    fn read(&self, path: &Path, most: u64) -> io::Result<Vec<u8>> {
        self.reads.fetch_add(1, Ordering::Relaxed);
        self.disk.read(path, most)
    }
    fn create_new(&self, path: &Path) -> io::Result<Box<dyn DiskFile>> {
        Ok(Box::new(TightFile { file: self.disk.create_new(path)?, disk: self.clone() }))
    }
    fn create(&self, path: &Path) -> io::Result<Box<dyn DiskFile>> {
        self.disk.create(path)
    }
    fn rename(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.disk.rename(from, to)
    }
    fn rename_new(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.disk.rename_new(from, to)
    }
    fn remove(&self, path: &Path) -> io::Result<()> {
        self.disk.remove(path)
    }
    fn sync_folder(&self, path: &Path) -> io::Result<()> {
        self.disk.sync_folder(path)
    }
    fn lock(&self, path: &Path) -> io::Result<Lock> {
        self.disk.lock(path)
    }
}

fn tight() -> (Tight, DirStore) {
    let disk = Tight { disk: SimDisk::default(), room: Arc::new(AtomicU64::new(1 << 30)), reads: Arc::default() };
    (disk.clone(), DirStore::open_on(disk, "saves").unwrap())
}

/// Twenty generations, none of them pruned yet.
fn twenty(store: &DirStore) -> Image {
    let mut image = Progress::fresh(&spec()).suspend().profile_image("ada");
    for xp in 0..20 {
        image.values.insert("xp".into(), Tree::Int(xp));
        store.commit(xp as u64, &image).unwrap();
    }
    image
}

#[test]
fn a_full_disk_is_relieved_at_once() {
    let (disk, store) = tight();
    twenty(&store);
    let removable = store.removable(&ada(), 2).unwrap();
    assert!(removable.files == 18 && removable.bytes > 18 * 200, "{removable:?}");
    let used: usize = disk.disk.files().iter().map(|(_, bytes)| bytes.len()).sum();
    disk.room.store(used as u64 + 10, Ordering::Relaxed);
    let mut game = Session::launch(&spec(), store.clone(), "ada").unwrap();
    game.write("xp", &[], Value::Int(99)).unwrap();
    let saved = game.save().wait_timeout(Duration::from_secs(1)).expect("it is not put off").unwrap();
    assert_eq!(saved.generation, 21);
    game.quit().unwrap();
    assert_eq!(prune_all(&store, &ada(), 2).unwrap(), 0, "there is nothing left to remove");
}

#[test]
fn pruning_reads_each_file_once_and_none_for_nothing() {
    let (disk, store) = tight();
    let image = twenty(&store);
    let reads = || disk.reads.swap(0, Ordering::Relaxed);
    reads();
    assert_eq!((prune_all(&store, &ada(), 20).unwrap(), reads()), (0, 0), "nothing can go");
    assert_eq!((prune_all(&store, &ada(), 5).unwrap(), reads()), (15, 0), "this process wrote them all");
    drop(store);
    // Another process reads what it has to know, once; what is damaged is not read again and again.
    let store = DirStore::open_on(disk.clone(), "saves").unwrap();
    store.damage(&ada(), 19).unwrap();
    reads();
    let mut steps = 0;
    while store.prune(&ada(), 2).unwrap().more {
        steps += 1;
        assert!(reads() <= 2, "a step reads one file, and looks once at the newest");
    }
    assert_eq!((store.generations(&ada()).unwrap(), steps), (vec![18, 19, 20], 7));
    for xp in 30..40 {
        let mut next = image.clone();
        next.values.insert("xp".into(), Tree::Int(xp));
        let follows = *store.generations(&ada()).unwrap().last().unwrap();
        store.commit(follows, &next).unwrap();
        prune_all(&store, &ada(), 2).unwrap();
    }
    assert_eq!(reads(), 0);
    assert_eq!(store.generations(&ada()).unwrap(), [19, 29, 30]);
}

/// A hundred folders under the names that files have while they are written stopped a player's saves for good.
#[test]
fn names_that_somebody_has_taken_stop_no_save() {
    let folder = tempfile::tempdir().unwrap();
    save(folder.path(), 1);
    let of_ada = folder.path().join("profiles/ada");
    fs::create_dir(of_ada.join(".saving-2")).unwrap();
    for number in 1..200 {
        fs::create_dir(of_ada.join(format!(".saving-2-{number}"))).unwrap();
    }
    save(folder.path(), 2);
    assert_eq!(xp(folder.path()), 2);
}

/// Of a lock file only as much is read as a number of a process has, and one that has another name elsewhere is not written into.
#[cfg(unix)]
#[test]
fn a_lock_file_that_somebody_has_made_is_neither_read_whole_nor_written() {
    use std::os::unix::fs::symlink;
    let folder = tempfile::tempdir().unwrap();
    let (saves, precious) = (folder.path().join("saves"), folder.path().join("precious"));
    fs::create_dir(&saves).unwrap();
    fs::write(&precious, b"a letter").unwrap();
    fs::hard_link(&precious, saves.join(".lock")).unwrap();
    save(&saves, 1);
    assert_eq!(fs::read(&precious).unwrap(), b"a letter");
    fs::remove_file(saves.join(".lock")).unwrap();
    symlink(&precious, saves.join(".lock")).unwrap();
    let refused = DirStore::open(&saves).unwrap_err().to_string();
    assert!(refused.contains("it is a link, and links below a save folder are not followed"), "{refused}");
    fs::remove_file(saves.join(".lock")).unwrap();
    let held = DirStore::open(&saves).unwrap();
    // 3 GB of nothing: reading it would take as much memory.
    fs::File::options().write(true).open(saves.join(".lock")).unwrap().set_len(3 << 30).unwrap();
    let refused = DirStore::open(&saves).unwrap_err();
    assert!(matches!(refused, StoreError::InUse { .. } | StoreError::OpenAlready { .. }), "{refused}");
    drop(held);
}
