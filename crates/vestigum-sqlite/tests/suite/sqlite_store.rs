//! Saves in one SQLite file: the rules of every store, several processes, what is refused, what survives.

use std::path::Path;
use std::time::Duration;

use rusqlite::Connection;

use vestigum::image::{BlobDigest, BlobError, ImageError, SealKey};
use vestigum::{
    Commit, GivenSave, Image, Lease, Line, Newest, Owner, Profiles, Saver, Session, Spec, Store, StoreError, Value,
    prune_all,
};
use vestigum_sqlite::SqliteStore;
use vestigum_verify::store_suite::{breaches, shared_breaches};

const SPEC: &str = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]\n[save]\nkeep = 2\n\
    [field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
    [field.picture]\ntype = \"blob\"\nlasts = \"profile\"\nafter_failure = \"keep\"\nthumbnail = true\n\
    [field.volume]\ntype = \"int\"\nlasts = \"device\"\n";

fn spec() -> Spec {
    Spec::from_toml(SPEC).unwrap_or_else(|errors| panic!("{errors}"))
}

fn ada() -> Owner {
    Owner::Profile("ada".into())
}

fn file() -> (tempfile::TempDir, std::path::PathBuf) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("fellpost.db");
    (folder, path)
}

fn plays(store: &SqliteStore, name: &str, picture: &[u8]) {
    let mut game = Session::launch(&spec(), store.clone(), name).unwrap();
    game.write_add("xp", &[], Value::Int(5)).unwrap();
    game.write("picture", &[], Value::bytes(picture)).unwrap();
    game.quit().unwrap();
}

/// Changes the file behind the back of the store.
fn sql(path: &Path, statement: &str) {
    Connection::open(path).unwrap().execute_batch(statement).unwrap();
}

fn count(path: &Path, table: &str) -> i64 {
    let connection = Connection::open(path).unwrap();
    connection.query_row(&format!("SELECT count(*) FROM {table}"), [], |row| row.get(0)).unwrap()
}

#[test]
fn it_keeps_every_rule_of_a_store() {
    // Each place is a folder, which stays for as long as its store.
    let empty = || {
        let folder = tempfile::tempdir().unwrap();
        let store = Some(SqliteStore::open(folder.path().join("fellpost.db")).unwrap());
        Kept { store, folder: Some(folder) }
    };
    let reopen = |mut kept: Kept| {
        kept.store = None;
        let folder = kept.folder.as_ref().unwrap();
        kept.store = Some(SqliteStore::open(folder.path().join("fellpost.db")).unwrap());
        kept
    };
    assert_eq!(breaches(&empty, &reopen), []);
}

#[test]
fn several_processes_keep_the_rules_of_leases() {
    let empty = || {
        let folder = tempfile::tempdir().unwrap();
        let store = Some(SqliteStore::open(folder.path().join("fellpost.db")).unwrap());
        Kept { store, folder: Some(folder) }
    };
    let beside = |kept: &Kept| {
        let path = kept.store.as_ref().unwrap().path().to_owned();
        Kept { store: Some(SqliteStore::open(path).unwrap()), folder: None }
    };
    assert_eq!(shared_breaches(&empty, &beside), []);
}

#[test]
fn a_file_of_the_first_version_gets_its_leases() {
    let (_folder, path) = file();
    plays(&SqliteStore::open(&path).unwrap(), "ada", b"a sketch");
    sql(&path, "DROP TABLE leases; DROP TABLE lines; PRAGMA user_version = 1");
    // Who only looks changes nothing.
    let looked = Session::peek(&spec(), &SqliteStore::open_to_read(&path).unwrap(), "ada").unwrap();
    assert_eq!(looked.value("xp", &[]).unwrap(), Value::Int(5));
    assert!(Connection::open(&path).unwrap().prepare("SELECT * FROM leases").is_err());
    let store = SqliteStore::open(&path).unwrap();
    plays(&store, "ada", b"a map");
    let lease = store.lease(&ada(), "server 1", Duration::from_secs(60)).unwrap();
    assert_eq!(lease.token(), 1);
    assert_eq!(count(&path, "leases"), 1);
}

struct Kept {
    folder: Option<tempfile::TempDir>,
    store: Option<SqliteStore>,
}

impl Store for Kept {
    fn owners(&self) -> Result<Vec<Owner>, StoreError> {
        self.store.as_ref().unwrap().owners()
    }
    fn generations(&self, owner: &Owner) -> Result<Vec<u64>, StoreError> {
        self.store.as_ref().unwrap().generations(owner)
    }
    fn read(&self, owner: &Owner, generation: u64) -> Result<Image, StoreError> {
        self.store.as_ref().unwrap().read(owner, generation)
    }
    fn commit(&self, follows: u64, image: &Image) -> Result<vestigum::Committed, StoreError> {
        self.store.as_ref().unwrap().commit(follows, image)
    }
    fn newest(&self, owner: &Owner) -> Result<Option<Newest>, StoreError> {
        self.store.as_ref().unwrap().newest(owner)
    }
    fn commit_all(&self, commits: &[Commit<'_>]) -> Vec<Result<vestigum::Committed, StoreError>> {
        self.store.as_ref().unwrap().commit_all(commits)
    }
    fn batch_size(&self) -> usize {
        self.store.as_ref().unwrap().batch_size()
    }
    fn lease(&self, owner: &Owner, holder: &str, lasts: Duration) -> Result<Lease, StoreError> {
        self.store.as_ref().unwrap().lease(owner, holder, lasts)
    }
    fn renew(&self, leases: &[Lease], lasts: Duration) -> Vec<Result<(), StoreError>> {
        self.store.as_ref().unwrap().renew(leases, lasts)
    }
    fn release(&self, leases: &[Lease]) -> Result<(), StoreError> {
        self.store.as_ref().unwrap().release(leases)
    }
    fn insert(&self, image: &Image) -> Result<vestigum::Committed, StoreError> {
        self.store.as_ref().unwrap().insert(image)
    }
    fn line(&self, owner: &Owner) -> Result<Option<Line>, StoreError> {
        self.store.as_ref().unwrap().line(owner)
    }
    fn begin_line(&self, owner: &Owner) -> Result<Line, StoreError> {
        self.store.as_ref().unwrap().begin_line(owner)
    }
    fn give(&self, owner: &Owner, save: &GivenSave) -> Result<(), StoreError> {
        self.store.as_ref().unwrap().give(owner, save)
    }
    fn remove_before(&self, owner: &Owner, generation: u64) -> Result<usize, StoreError> {
        self.store.as_ref().unwrap().remove_before(owner, generation)
    }
    fn prune(&self, owner: &Owner, keep: u32) -> Result<vestigum::Pruned, StoreError> {
        self.store.as_ref().unwrap().prune(owner, keep)
    }
}

#[test]
fn players_play_quit_and_come_back() {
    let (_folder, path) = file();
    let store = SqliteStore::open(&path).unwrap();
    for picture in [b"dawn", b"noon", b"dusk"] {
        plays(&store, "ada", picture);
    }
    plays(&store, "Ada", b"dawn");
    let profiles = Profiles::new(&spec(), Saver::new(store.clone()));
    let listed = profiles.list().unwrap();
    assert_eq!(listed.iter().map(|profile| profile.name.as_str()).collect::<Vec<_>>(), ["Ada", "ada"]);
    assert_eq!(listed[1].thumbnail.as_deref(), Some(&b"dusk"[..]));
    profiles.rename("ada", "bo").unwrap();
    assert_eq!(Session::peek(&spec(), &store, "bo").unwrap().value("xp", &[]).unwrap(), Value::Int(15));
    prune_all(&store, &ada(), 1).unwrap();
    // Of the pictures those are left that somebody has.
    assert_eq!(count(&path, "blobs"), 2);
    drop((store, profiles));
    let store = SqliteStore::open_to_read(&path).unwrap();
    assert_eq!(Session::peek(&spec(), &store, "bo").unwrap().value("picture", &[]).unwrap(), Value::bytes(*b"dusk"));
    let refused = store.commit(0, &store.read(&Owner::Profile("bo".into()), 1).unwrap()).unwrap_err();
    assert!(matches!(refused, StoreError::ReadOnly { .. }), "{refused}");
    assert!(matches!(store.prune(&ada(), 1), Err(StoreError::ReadOnly { .. })));
}

#[test]
fn two_that_play_one_player_do_not_overwrite_each_other() {
    let (_folder, path) = file();
    // Two connections of their own, as two processes have them.
    let (here, there) = (SqliteStore::open(&path).unwrap(), SqliteStore::open(&path).unwrap());
    let mut first = Session::launch(&spec(), here.clone(), "ada").unwrap();
    let mut second = Session::launch(&spec(), there, "ada").unwrap();
    first.write_add("xp", &[], Value::Int(1)).unwrap();
    first.save().wait().unwrap();
    second.write_add("xp", &[], Value::Int(100)).unwrap();
    let refused = second.save().wait().unwrap_err();
    assert!(matches!(&*refused, StoreError::Conflict { newest: 1, follows: 0, .. }), "{refused}");
    first.write_add("xp", &[], Value::Int(1)).unwrap();
    first.quit().unwrap();
    assert_eq!(Session::peek(&spec(), &here, "ada").unwrap().value("xp", &[]).unwrap(), Value::Int(2));
}

#[test]
fn what_is_no_file_of_saves_is_refused_and_not_changed() {
    let (folder, path) = file();
    sql(&path, "CREATE TABLE letters (text TEXT)");
    let refused = SqliteStore::open(&path).unwrap_err().to_string();
    assert!(refused.contains("it is a database of something else; nothing was changed"), "{refused}");
    assert_eq!(count(&path, "sqlite_schema"), 1);
    let text = folder.path().join("notes.txt");
    std::fs::write(&text, "a long letter about the weather in the fells".repeat(100)).unwrap();
    let refused = SqliteStore::open(&text).unwrap_err();
    assert!(refused.to_string().contains("file is not a database"), "{refused}");
    let newer = folder.path().join("newer.db");
    drop(SqliteStore::open(&newer).unwrap());
    sql(&newer, "PRAGMA user_version = 99");
    let refused = SqliteStore::open(&newer).unwrap_err().to_string();
    assert!(refused.contains("version 99, and this program knows versions up to 4; a newer one made it"), "{refused}");
    assert!(SqliteStore::open(folder.path()).is_err(), "a folder");
    let missing = SqliteStore::open_to_read(folder.path().join("none.db")).unwrap_err().to_string();
    assert!(
        missing.starts_with("cannot open the file of saves") && !folder.path().join("none.db").exists(),
        "{missing}"
    );
}

#[test]
fn damage_is_passed_over_and_told() {
    let (_folder, path) = file();
    let store = SqliteStore::open(&path).unwrap();
    plays(&store, "ada", b"dawn");
    plays(&store, "ada", b"dusk");
    sql(&path, "UPDATE images SET image = replace(image, '\"xp\":10', '\"xp\":99') WHERE generation = 2");
    let game = Session::launch(&spec(), store.clone(), "ada").unwrap();
    assert!(game.load_report().to_string().contains("passed over generation 2"), "{}", game.load_report());
    game.quit().unwrap();
    // It stays where it is, and holds its blob; what goes is counted without it.
    prune_all(&store, &ada(), 1).unwrap();
    assert_eq!(store.generations(&ada()).unwrap(), [2, 3]);
    assert_eq!(count(&path, "blobs"), 2);
    sql(&path, "UPDATE images SET generation = 7 WHERE generation = 3");
    let misplaced = store.read(&ada(), 7).unwrap_err();
    assert!(matches!(misplaced, StoreError::Damaged { damaged: ImageError::Misplaced(..), .. }), "{misplaced}");
}

#[test]
fn a_blob_that_is_lost_is_told_and_written_again() {
    let (_folder, path) = file();
    let store = SqliteStore::open(&path).unwrap();
    plays(&store, "ada", b"dusk");
    let digest = BlobDigest::of(b"dusk");
    for (damage, why) in
        [("UPDATE blobs SET bytes = x'72757374'", BlobError::Damaged), ("DELETE FROM blobs", BlobError::Missing)]
    {
        sql(&path, damage);
        let store = SqliteStore::open(&path).unwrap();
        assert_eq!(store.read(&ada(), 1).unwrap().lost_blobs()[0].1, why);
        let mut image = store.read(&ada(), 1).unwrap();
        image.blobs.insert((*b"dusk").into());
        // The image is unchanged, and its blob is there again.
        assert!(!store.commit(1, &image).unwrap().written);
        assert!(store.read(&ada(), 1).unwrap().blobs.get(&digest).is_ok());
    }
}

#[test]
fn sealed_saves_are_told_from_edited_ones() {
    let (_folder, path) = file();
    let key = || SealKey::from_text("a key of the game");
    let store = SqliteStore::open(&path).unwrap().sealed(key());
    plays(&store, "ada", b"dusk");
    assert!(store.read(&ada(), 1).is_ok());
    let without = SqliteStore::open(&path).unwrap();
    assert!(matches!(without.read(&ada(), 1), Err(StoreError::Damaged { damaged: ImageError::Sealed, .. })));
}

#[test]
fn sql_reads_the_saves() {
    let (_folder, path) = file();
    let store = SqliteStore::open(&path).unwrap();
    for name in ["ada", "bo", "cara"] {
        plays(&store, name, b"dusk");
        let mut game = Session::launch(&spec(), store.clone(), name).unwrap();
        game.enter("mill_lane").unwrap();
        if name != "bo" {
            game.complete().unwrap();
        }
        game.quit().unwrap();
    }
    // As the documentation of the crate says it.
    let documented = include_str!("../../src/lib.rs").split("```sql").nth(1).and_then(|rest| rest.split("```").next());
    let query = documented.unwrap().replace("//!", "");
    let connection = Connection::open(&path).unwrap();
    let row = |row: &rusqlite::Row<'_>| Ok((row.get::<_, String>(0)?, row.get::<_, i64>(1)?));
    let found: Vec<(String, i64)> =
        connection.prepare(&query.replace(';', "")).unwrap().query_map([], row).unwrap().map(Result::unwrap).collect();
    assert_eq!(found, [("mill_lane".to_owned(), 2)]);
}

#[test]
fn rows_that_no_store_wrote_stop_neither_a_launch_nor_a_prune() {
    let (_folder, path) = file();
    let store = SqliteStore::open(&path).unwrap();
    for picture in [b"dawn", b"noon", b"dusk"] {
        plays(&store, "ada", picture);
    }
    drop(store);
    // A row that holds bytes where text is wanted, and one of a name that no player can have.
    let long = "x".repeat(61);
    sql(
        &path,
        &format!(
            "INSERT INTO images VALUES ('ada', 7, '', '', x'ff00');
             INSERT INTO images SELECT '{long}', 1, digest, saved_at, image FROM images WHERE generation = 1"
        ),
    );
    let store = SqliteStore::open(&path).unwrap();
    assert_eq!(store.owners().unwrap(), [ada(), Owner::Device]);
    assert_eq!(prune_all(&store, &ada(), 1).unwrap(), 1);
    assert_eq!(store.generations(&ada()).unwrap(), [3, 7]);
    let game = Session::launch(&spec(), store, "ada").unwrap();
    assert!(game.load_report().to_string().contains("passed over generation 7"), "{}", game.load_report());
    game.quit().unwrap();
}

#[test]
fn many_can_make_the_file_at_once() {
    for _ in 0..25 {
        let (_folder, path) = file();
        let start = std::sync::Barrier::new(6);
        std::thread::scope(|scope| {
            for player in 0..6 {
                let (path, start) = (&path, &start);
                scope.spawn(move || {
                    start.wait();
                    let store = SqliteStore::open(path).unwrap_or_else(|error| panic!("{error}"));
                    plays(&store, &format!("carrier {player}"), b"dawn");
                });
            }
        });
        assert_eq!(SqliteStore::open(&path).unwrap().owners().unwrap().len(), 7, "six players and the device");
    }
}

/// A row with a number that no store gives, and one of another type, made everything fail for everybody.
#[test]
fn rows_that_somebody_else_wrote_are_named_and_stop_nobody() {
    let (_folder, path) = file();
    let store = SqliteStore::open(&path).unwrap();
    plays(&store, "ada", b"dusk");
    plays(&store, "bo", b"dawn");
    sql(&path, "INSERT INTO images SELECT profile, -5, digest, saved_at, image FROM images WHERE profile = 'ada'");
    sql(&path, "INSERT INTO images VALUES (x'00ff', 1, 'd', 's', 'i')");
    sql(&path, "UPDATE images SET image = x'00ff' WHERE profile = 'bo'");
    let store = SqliteStore::open(&path).unwrap();
    assert_eq!(store.owners().unwrap(), [ada(), Owner::Profile("bo".into()), Owner::Device]);
    assert_eq!(store.generations(&ada()).unwrap(), [1]);
    assert!(store.read(&ada(), 1).is_ok());
    let damaged = store.read(&Owner::Profile("bo".into()), 1).unwrap_err();
    assert!(matches!(damaged, StoreError::Damaged { .. }), "{damaged}");
    let strays: Vec<String> = store.strays().unwrap().into_iter().map(|stray| stray.why).collect();
    assert_eq!(strays.len(), 2, "{strays:?}");
    plays(&store, "ada", b"noon");
    assert_eq!(store.generations(&ada()).unwrap(), [1, 2]);
}

/// A clock that is set back by an hour kept a player out for as long, with a lease of a moment.
#[test]
fn a_lease_runs_out_however_the_clock_of_the_machine_is_set() {
    // Long enough that a busy machine does not end it between two calls.
    const LASTS: Duration = Duration::from_millis(900);
    let (_folder, path) = file();
    let (first, second) = (SqliteStore::open(&path).unwrap(), SqliteStore::open(&path).unwrap());
    first.lease(&ada(), "server 1", LASTS).unwrap();
    sql(&path, "UPDATE leases SET until_ms = until_ms + 3600000");
    let held = second.lease(&ada(), "server 2", LASTS).unwrap_err();
    let StoreError::Leased { left, .. } = held else { panic!("{held}") };
    assert!(left <= LASTS, "{left:?}");
    std::thread::sleep(LASTS + Duration::from_millis(10));
    second.lease(&ada(), "server 2", LASTS).unwrap();
    // One that is renewed is not taken.
    let lease = second.lease(&ada(), "server 2", LASTS).unwrap();
    sql(&path, "UPDATE leases SET until_ms = until_ms + 3600000");
    for _ in 0..5 {
        assert!(first.lease(&ada(), "server 1", LASTS).is_err());
        std::thread::sleep(LASTS / 3);
        assert!(second.renew(std::slice::from_ref(&lease), LASTS).iter().all(Result::is_ok));
        sql(&path, "UPDATE leases SET until_ms = until_ms + 3600000");
    }
}

/// While another process held the write lock, each save of a batch waited for it by itself, and nobody heard why.
#[test]
fn a_file_that_another_process_writes_is_waited_for_once() {
    let (_folder, path) = file();
    let store = SqliteStore::open(&path).unwrap();
    let other = Connection::open(&path).unwrap();
    other.execute_batch("BEGIN IMMEDIATE").unwrap();
    let saver = Saver::new(store);
    let mut games: Vec<Session> =
        (0..8).map(|number| Session::launch(&spec(), &saver, &format!("player {number}")).unwrap()).collect();
    let tickets: Vec<_> = games.iter_mut().map(Session::save).collect();
    let began = std::time::Instant::now();
    while games.iter().any(|game| game.save_failure().is_none()) {
        assert!(began.elapsed() < Duration::from_secs(60), "nobody is told");
        std::thread::sleep(Duration::from_millis(10));
    }
    let why = games[0].save_failure().unwrap();
    assert!(why.to_string().contains("locked"), "{why}");
    other.execute_batch("ROLLBACK").unwrap();
    for (game, ticket) in games.into_iter().zip(tickets) {
        game.settle(Duration::from_secs(20)).unwrap();
        drop(ticket);
    }
}

/// The tables of version 2, as they were shipped.
#[test]
fn a_file_of_an_older_version_is_brought_to_this_one() {
    let (_folder, path) = file();
    let store = SqliteStore::open(&path).unwrap();
    plays(&store, "ada", b"dusk");
    drop(store);
    sql(
        &path,
        "CREATE TABLE old (profile TEXT NOT NULL, generation INTEGER NOT NULL, digest TEXT NOT NULL, saved_at TEXT NOT NULL,
             image TEXT NOT NULL, PRIMARY KEY (profile, generation)) WITHOUT ROWID;
         INSERT INTO old SELECT profile, generation, digest, saved_at, image FROM images;
         DROP TABLE images; ALTER TABLE old RENAME TO images;
         CREATE TABLE old (digest TEXT NOT NULL PRIMARY KEY, bytes BLOB NOT NULL) WITHOUT ROWID;
         INSERT INTO old SELECT digest, bytes FROM blobs; DROP TABLE blobs; ALTER TABLE old RENAME TO blobs;
         ALTER TABLE leases DROP COLUMN lasts_ms; ALTER TABLE leases DROP COLUMN written;
         DROP TABLE lines; PRAGMA user_version = 2;",
    );
    let looks = SqliteStore::open_to_read(&path).unwrap();
    assert!(looks.read(&ada(), 1).is_ok(), "who only looks needs no update");
    drop(looks);
    let store = SqliteStore::open(&path).unwrap();
    let image = store.read(&ada(), 1).unwrap();
    assert!(image.lost_blobs().is_empty());
    store.lease(&ada(), "server", Duration::from_secs(1)).unwrap();
    assert_eq!(count(&path, "images"), 2, "hers and the device's");
}
