//! Blobs in a save folder: written once, shared, given up when nothing means them, and reported when they are gone.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

use vestigum::image::{BlobDigest, BlobError};
use vestigum::{
    DirStore, Image, MemoryStore, Owner, Profiles, Saver, Session, Spec, Store, StoreError, Value, prune_all, restore,
};

const SPEC: &str = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]\n[save]\nkeep = 2\n\
    [field.picture]\ntype = \"blob\"\nlasts = \"profile\"\nafter_failure = \"keep\"\nthumbnail = true\n\
    [field.skyline]\ntype = \"blob\"\nlasts = \"device\"\n\
    [field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n";

fn spec() -> Spec {
    Spec::from_toml(SPEC).unwrap_or_else(|errors| panic!("{errors}"))
}

fn ada() -> Owner {
    Owner::Profile("ada".into())
}

/// The names in the folder of blobs.
fn blobs(folder: &Path) -> Vec<String> {
    let Ok(entries) = fs::read_dir(folder.join("blobs")) else { return Vec::new() };
    let mut names: Vec<String> = entries.flatten().map(|entry| entry.file_name().into_string().unwrap()).collect();
    names.sort();
    names
}

fn digests(of: &[&[u8]]) -> Vec<String> {
    let mut digests: Vec<String> = of.iter().map(|bytes| BlobDigest::of(bytes).to_string()).collect();
    digests.sort();
    digests
}

fn file(folder: &Path, of: &[u8]) -> PathBuf {
    folder.join("blobs").join(BlobDigest::of(of).to_string())
}

/// One evening with that picture.
fn plays(saver: &Saver, name: &str, picture: &[u8]) {
    let mut game = Session::launch(&spec(), saver, name).unwrap();
    game.write("picture", &[], Value::bytes(picture)).unwrap();
    game.write_add("xp", &[], Value::Int(1)).unwrap();
    game.quit().unwrap();
}

fn picture(saver: &Saver, name: &str) -> (Vec<u8>, String) {
    let peek = Session::peek(&spec(), saver.store(), name).unwrap();
    (peek.value("picture", &[]).unwrap().as_bytes().to_vec(), peek.load_report().to_string())
}

#[test]
fn what_has_not_changed_is_not_written_again_and_equal_blobs_are_one() {
    let folder = tempfile::tempdir().unwrap();
    let saver = Saver::new(DirStore::open(folder.path()).unwrap());
    plays(&saver, "ada", b"dusk");
    let written = fs::metadata(file(folder.path(), b"dusk")).unwrap().modified().unwrap();
    std::thread::sleep(Duration::from_millis(20));
    plays(&saver, "bo", b"dusk");
    let mut game = Session::launch(&spec(), &saver, "ada").unwrap();
    game.write("skyline", &[], Value::bytes(*b"dusk")).unwrap();
    game.write_add("xp", &[], Value::Int(1)).unwrap();
    game.quit().unwrap();
    assert_eq!(blobs(folder.path()), digests(&[b"dusk"]));
    assert_eq!(fs::metadata(file(folder.path(), b"dusk")).unwrap().modified().unwrap(), written);
    let text = fs::read_to_string(folder.path().join("profiles/ada/2.json")).unwrap();
    assert!(text.contains(&format!("\"picture\":{{\"blob\":\"{}\",\"len\":4}}", BlobDigest::of(b"dusk"))), "{text}");
}

#[test]
fn blobs_go_when_no_generation_of_anybody_means_them() {
    let folder = tempfile::tempdir().unwrap();
    let saver = Saver::new(DirStore::open(folder.path()).unwrap());
    for picture in [b"dawn", b"noon", b"dusk"] {
        plays(&saver, "ada", picture);
    }
    plays(&saver, "bo", b"dawn");
    // Left over from a crash, and what somebody put there.
    fs::write(folder.path().join("blobs/.saving-0123"), "half").unwrap();
    fs::write(folder.path().join("blobs/notes.txt"), "mine").unwrap();
    let store = DirStore::open(folder.path());
    assert!(matches!(store, Err(StoreError::OpenAlready { .. })));
    prune_all(saver.store(), &ada(), 2).unwrap();
    let all = [digests(&[b"dawn", b"noon", b"dusk"]), vec!["notes.txt".into()]].concat();
    assert_eq!(blobs(folder.path()), all, "bo has the one of the generation that went");
    prune_all(saver.store(), &ada(), 1).unwrap();
    assert_eq!(blobs(folder.path()), [digests(&[b"dawn", b"dusk"]), vec!["notes.txt".into()]].concat());
    assert_eq!(picture(&saver, "bo").0, b"dawn");
    let profiles = Profiles::new(&spec(), &saver);
    profiles.delete("bo").unwrap();
    prune_all(saver.store(), &ada(), 1).unwrap();
    profiles.restore("bo").unwrap();
    assert_eq!(picture(&saver, "bo").0, b"dawn", "a deleted player comes back with it");
    profiles.delete("bo").unwrap();
    profiles.purge("bo").unwrap();
    assert_eq!(blobs(folder.path()), [digests(&[b"dusk"]), vec!["notes.txt".into()]].concat());
    drop(profiles);
    drop(saver);
    let strays = DirStore::open_to_read(folder.path()).unwrap().strays().unwrap();
    assert_eq!(strays.iter().map(|stray| stray.why.as_str()).collect::<Vec<_>>(), ["it is not a blob"]);
}

#[test]
fn a_damaged_generation_still_holds_its_blobs() {
    let folder = tempfile::tempdir().unwrap();
    let saver = Saver::new(DirStore::open(folder.path()).unwrap());
    plays(&saver, "ada", b"dawn");
    plays(&saver, "ada", b"dusk");
    plays(&saver, "bo", b"noon");
    let path = folder.path().join("profiles/ada/1.json");
    let text = fs::read_to_string(&path).unwrap();
    fs::write(&path, text.replace("\"xp\":1", "\"xp\":9")).unwrap();
    drop(saver);
    let store = DirStore::open(folder.path()).unwrap();
    assert_eq!(store.removable_blobs(1).unwrap().files, 0);
    prune_all(&store, &ada(), 1).unwrap();
    assert_eq!(blobs(folder.path()), digests(&[b"dawn", b"dusk", b"noon"]), "somebody may fix it by hand");
    fs::remove_file(&path).unwrap();
    drop(store);
    let store = DirStore::open(folder.path()).unwrap();
    let removable = store.removable_blobs(1).unwrap();
    assert_eq!((removable.files, removable.bytes), (1, 4));
    prune_all(&store, &ada(), 1).unwrap();
    assert_eq!(blobs(folder.path()), digests(&[b"dusk", b"noon"]));
}

#[test]
fn a_blob_that_is_gone_damaged_or_no_file_refuses_no_launch() {
    type Damage = fn(&Path);
    let damages: [(Damage, &str); 4] = [
        (|path| fs::remove_file(path).unwrap(), "is gone"),
        (|path| fs::write(path, "rust").unwrap(), "was changed after it was saved"),
        (|path| fs::File::create(path).unwrap().set_len(1 << 30).unwrap(), "was changed after it was saved"),
        (
            |path| {
                fs::remove_file(path).unwrap();
                fs::create_dir(path).unwrap();
            },
            "is not a regular file",
        ),
    ];
    for (damage, why) in damages {
        let folder = tempfile::tempdir().unwrap();
        let saver = Saver::new(DirStore::open(folder.path()).unwrap());
        plays(&saver, "ada", b"dusk");
        drop(saver);
        damage(&file(folder.path(), b"dusk"));
        let saver = Saver::new(DirStore::open(folder.path()).unwrap());
        let mut game = Session::launch(&spec(), &saver, "ada").unwrap();
        let told = format!("picture is at its default: its blob {} of 4 bytes {why}", BlobDigest::of(b"dusk"));
        assert!(game.load_report().to_string().contains(&told), "{}", game.load_report());
        assert_eq!(game.value("xp", &[]).unwrap(), Value::Int(1));
        assert_eq!(Profiles::new(&spec(), &saver).list().unwrap()[0].thumbnail, None);
        game.write_add("xp", &[], Value::Int(1)).unwrap();
        game.quit().unwrap();
        // Written anew, it is there again, unless something lies in the way.
        let mut game = Session::launch(&spec(), &saver, "ada").unwrap();
        game.write("picture", &[], Value::bytes(*b"dusk")).unwrap();
        let quit = game.quit_within(Duration::from_secs(1));
        if why.ends_with("regular file") {
            assert!(quit.unwrap_err().to_string().contains("the save was not durable"));
        } else {
            quit.unwrap();
            assert_eq!(picture(&saver, "ada").0, b"dusk");
        }
    }
}

#[test]
fn blobs_that_somebody_removes_while_the_game_runs_are_written_again() {
    let folder = tempfile::tempdir().unwrap();
    let saver = Saver::new(DirStore::open(folder.path()).unwrap());
    let mut game = Session::launch(&spec(), &saver, "ada").unwrap();
    game.write("picture", &[], Value::bytes(*b"dusk")).unwrap();
    game.save();
    game.settle(Duration::from_secs(5)).unwrap();
    fs::remove_dir_all(folder.path().join("blobs")).unwrap();
    // The image itself has not changed.
    game.quit().unwrap();
    assert_eq!(blobs(folder.path()), digests(&[b"dusk"]));
}

#[test]
fn players_have_thumbnails_and_older_generations_bring_theirs_back() {
    let folder = tempfile::tempdir().unwrap();
    for saver in [Saver::new(MemoryStore::default()), Saver::new(DirStore::open(folder.path()).unwrap())] {
        plays(&saver, "ada", b"dawn");
        plays(&saver, "ada", b"dusk");
        plays(&saver, "ada", b"");
        let profiles = Profiles::new(&spec(), &saver);
        let thumbnail = || profiles.list().unwrap()[0].thumbnail.as_deref().map(<[u8]>::to_vec);
        assert_eq!(thumbnail(), None);
        restore(saver.store(), None, &ada(), 2).unwrap();
        assert_eq!(thumbnail(), Some(b"dusk".to_vec()));
        profiles.copy("ada", "bo").unwrap();
        prune_all(saver.store(), &ada(), 1).unwrap();
        assert_eq!(picture(&saver, "bo").0, b"dusk");
    }
}

#[test]
fn a_store_that_keeps_the_bytes_of_images_elsewhere_is_given_the_blobs_too() {
    /// Takes only images.
    struct Plain(MemoryStore);
    impl Store for Plain {
        fn owners(&self) -> Result<Vec<Owner>, StoreError> {
            self.0.owners()
        }
        fn generations(&self, owner: &Owner) -> Result<Vec<u64>, StoreError> {
            self.0.generations(owner)
        }
        fn read(&self, owner: &Owner, generation: u64) -> Result<Image, StoreError> {
            self.0.read(owner, generation)
        }
        fn commit(&self, follows: u64, image: &Image) -> Result<vestigum::Committed, StoreError> {
            self.0.commit(follows, image)
        }
        fn insert(&self, image: &Image) -> Result<vestigum::Committed, StoreError> {
            self.0.insert(image)
        }
        fn remove_before(&self, owner: &Owner, generation: u64) -> Result<usize, StoreError> {
            self.0.remove_before(owner, generation)
        }
        fn prune(&self, owner: &Owner, keep: u32) -> Result<vestigum::Pruned, StoreError> {
            self.0.prune(owner, keep)
        }
    }
    let saver = Saver::new(Plain(MemoryStore::default()));
    plays(&saver, "ada", b"dusk");
    assert_eq!(picture(&saver, "ada").0, b"dusk");
}

#[test]
fn a_blob_larger_than_what_is_read_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let saver = Saver::new(DirStore::open(folder.path()).unwrap());
    plays(&saver, "ada", &[7; 2000]);
    drop(saver);
    let store = DirStore::open(folder.path()).unwrap().reading_at_most(1000);
    let image = store.read(&ada(), 1).unwrap();
    assert_eq!(image.lost_blobs()[0].1, BlobError::TooLarge { most: 1000 });
    prune_all(&store, &ada(), 1).unwrap();
    assert_eq!(blobs(folder.path()).len(), 1);
}

#[test]
fn many_players_save_blobs_at_once_while_others_are_pruned() {
    let folder = tempfile::tempdir().unwrap();
    let saver = Saver::new(DirStore::open(folder.path()).unwrap());
    std::thread::scope(|scope| {
        for player in 0..6 {
            let saver = &saver;
            scope.spawn(move || {
                let name = format!("player_{player}");
                for evening in 0..12u8 {
                    // Some share a picture, and come back to one that others have given up.
                    plays(saver, &name, &[evening % 3 + player % 2; 100]);
                    prune_all(saver.store(), &Owner::Profile(name.clone()), 1).unwrap();
                    assert_eq!(picture(saver, &name).0, [evening % 3 + player % 2; 100]);
                }
            });
        }
    });
    prune_all(saver.store(), &ada(), 1).unwrap();
    assert_eq!(blobs(folder.path()), digests(&[&[2; 100], &[3; 100]]));
}
