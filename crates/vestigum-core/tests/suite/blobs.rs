//! Blobs: what an image says of them, what loading makes of one that is gone, and what is refused.

use vestigum_core::image::blobs::{BlobDigest, BlobError};
use vestigum_core::{AccessErrorKind, History, Image, Progress, Spec, Value};
use vestigum_spec::value::tree::Tree;

const HEAD: &str = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\", \"heather_rise\"]\n\
    [level.mill_lane]\ncheckpoints = [\"ford\"]\n[save]\nat = [\"checkpoint\"]\n";
const WALKS: &str = "[field.letters]\ntype = \"int\"\nlasts = \"visit\"\nafter_failure = \"checkpoint\"\n\
    [field.walk]\ntype = \"blob\"\nmax_len = 8\nlasts = \"visit\"\nafter_failure = \"checkpoint\"\n\
    [field.best_letters]\ntype = \"int\"\nper = \"level\"\nlasts = \"profile\"\non.complete = { max = \"letters\" }\n\
    [field.best_walk]\ntype = \"blob\"\nmax_len = 8\nper = \"level\"\nlasts = \"profile\"\n\
    on.complete = { set = \"walk\", when = \"letters > best_letters\" }\n\
    [field.picture]\ntype = \"blob\"\noptional = true\nlasts = \"profile\"\nafter_failure = \"keep\"\nthumbnail = true\n";

fn spec(text: &str) -> Spec {
    Spec::from_toml(&format!("{HEAD}{text}")).unwrap_or_else(|errors| panic!("{errors}"))
}

fn errors(text: &str) -> String {
    Spec::from_toml(&format!("{HEAD}{text}")).expect_err("it was taken").to_string()
}

fn write(game: &mut Progress, field: &str, bytes: &[u8]) {
    game.write(field, &[], Value::bytes(bytes)).unwrap();
}

/// A walk with a better one before it, and a picture.
fn played(spec: &Spec) -> Progress {
    let mut game = Progress::fresh(spec);
    for (letters, walk) in [(20, b"best"), (10, b"late")] {
        game.enter("mill_lane").unwrap();
        game.write("letters", &[], Value::Int(letters)).unwrap();
        write(&mut game, "walk", walk);
        game.complete().unwrap();
    }
    write(&mut game, "picture", b"dusk");
    game
}

fn bytes(game: &Progress, field: &str, keys: &[&str]) -> Vec<u8> {
    game.value(field, keys).unwrap().as_bytes().to_vec()
}

#[test]
fn an_image_says_which_blobs_are_meant_and_holds_none() {
    let spec = spec(WALKS);
    let game = played(&spec);
    assert_eq!(bytes(&game, "best_walk", &["mill_lane"]), b"best");
    let image = game.suspend().profile_image("ada");
    let said = |field: &str| serde_json::to_string(&image.values[field]).unwrap();
    let digest = BlobDigest::of(b"best");
    assert_eq!(said("best_walk"), format!(r#"{{"mill_lane":{{"blob":"{digest}","len":4}}}}"#));
    assert_eq!(image.blob_refs().len(), 2);
    assert_eq!(image.blobs.iter().count(), 2);
    // One that goes without an image in between says the same, and brings the same blobs.
    let direct = game.suspend().encoded(&image.owner, String::new());
    assert_eq!(direct, image.encoded());
    // Equal bytes are one blob, and none are none.
    let mut twice = played(&spec);
    write(&mut twice, "picture", b"best");
    assert_eq!(twice.suspend().profile_image("ada").blob_refs().len(), 1);
    write(&mut twice, "picture", b"");
    let empty = twice.suspend().profile_image("ada");
    assert_eq!(empty.values["picture"], Tree::Text("".into()));
    let loaded = Progress::load(&spec, Some(&empty), None).unwrap().progress;
    assert_eq!(loaded.value("picture", &[]).unwrap(), Value::bytes(*b""), "an empty one is no missing one");
}

#[test]
fn marks_bring_blobs_back_as_anything_else() {
    let spec = spec(WALKS);
    let mut game = Progress::fresh(&spec);
    game.enter("mill_lane").unwrap();
    write(&mut game, "walk", b"to ford");
    game.checkpoint("ford").unwrap();
    write(&mut game, "walk", b"astray");
    let image = game.suspend().profile_image("ada");
    let read = Image::from_json(&image.to_json()).unwrap();
    assert_eq!(read.blob_refs(), image.blob_refs());
    let mut loaded =
        Progress::launch(&spec, Some(&Image { blobs: image.blobs.clone(), ..read }), None).unwrap().progress;
    assert_eq!(bytes(&loaded, "walk", &[]), b"to ford", "play goes on at the checkpoint");
    write(&mut loaded, "walk", b"away");
    loaded.death().unwrap();
    assert_eq!(bytes(&loaded, "walk", &[]), b"to ford");
}

#[test]
fn a_blob_that_is_gone_or_damaged_is_told_and_refuses_nothing() {
    let spec = spec(WALKS);
    let image = played(&spec).suspend().profile_image("ada");
    let mut read = Image::from_json(&image.to_json()).unwrap();
    let load = |image: &Image| Progress::load(&spec, Some(image), None).unwrap();
    // Nobody has looked for them.
    assert_eq!(load(&read).report.lost_blobs.len(), 2);
    read.find_blobs(|blob| match blob.digest == BlobDigest::of(b"best") {
        true => Ok((*b"rest").into()),
        false => image.blobs.get(&blob.digest).cloned(),
    });
    assert_eq!(read.lost_blobs().into_iter().map(|(_, why)| why).collect::<Vec<_>>(), [BlobError::Damaged]);
    let loaded = load(&read);
    assert!(!loaded.report.is_clean());
    let digest = BlobDigest::of(b"best");
    let told = format!(
        "\n  best_walk[mill_lane] is at its default: its blob {digest} of 4 bytes was changed after it was saved"
    );
    assert!(loaded.report.to_string().contains(&told), "{}", loaded.report);
    assert_eq!(bytes(&loaded.progress, "best_walk", &["mill_lane"]), b"");
    assert_eq!(bytes(&loaded.progress, "picture", &[]), b"dusk");
    assert_eq!(loaded.progress.value("best_letters", &["mill_lane"]).unwrap(), Value::Int(20));
    // The image still says which one it was.
    assert_eq!(read.encoded().digest(), image.encoded().digest());
    read.find_blobs(|blob| image.blobs.get(&blob.digest).cloned());
    assert_eq!(read, image);
}

#[test]
fn a_blob_that_is_too_long_is_refused_and_never_cut() {
    let spec = spec(WALKS);
    let mut game = played(&spec);
    game.enter("mill_lane").unwrap();
    write(&mut game, "walk", b"12345678");
    let refused = game.write("walk", &[], Value::bytes(*b"123456789")).unwrap_err();
    assert_eq!(refused.to_string(), "`walk` holds at most 8 bytes, and these are more");
    let walk = spec.field::<[u8]>("walk").unwrap();
    let refused = game.set(walk, b"123456789").unwrap_err();
    assert!(matches!(refused.kind(), AccessErrorKind::BlobTooLong { most: 8, .. }), "{refused}");
    assert_eq!(game.get(walk), b"12345678");
    assert!(
        game.write("picture", &[], Value::bytes(vec![7; (1 << 20) + 1])).is_err(),
        "1 MiB is the most if nothing is said"
    );
    // A spec that holds less takes none of a longer one.
    let shorter = Spec::from_toml(&format!("{HEAD}{WALKS}").replace("max_len = 8", "max_len = 3")).unwrap();
    let loaded = Progress::load(&shorter, Some(&played(&spec).suspend().profile_image("ada")), None).unwrap();
    assert_eq!(bytes(&loaded.progress, "best_walk", &["mill_lane"]), b"");
    let told = "dropped best_walk[mill_lane]: it has 4 bytes, and the field holds at most 3";
    assert!(loaded.report.to_string().contains(told), "{}", loaded.report);
}

#[test]
fn what_cannot_be_a_blob_is_an_error_of_the_spec() {
    let field = |said: &str| format!("[field.f]\nlasts = \"profile\"\nafter_failure = \"keep\"\n{said}\n");
    for (text, wanted) in [
        (field("type = \"list of blob\""), "only a whole field is a blob"),
        ("[struct.walk]\nshape = \"blob\"\n".into(), "only a whole field is a blob"),
        ("[struct.blob]\nshape = \"int\"\n".into(), "there is a type `blob` already"),
        (field("type = \"blob\"\ndefault = \"abc\""), "`f` is a blob, and blobs begin empty"),
        (field("type = \"blob\"\nrange = [0, 1]"), "only numbers have a range"),
        (field("type = \"blob\"\nmax_len = 0"), "`max_len` goes from 1 to 67108864"),
        (field("type = \"bytes\"\nthumbnail = true"), "expected a blob for a thumbnail, found `f`"),
        (field("type = \"blob\"\nper = \"level\"\nthumbnail = true"), "a player has one thumbnail"),
        (
            field("type = \"blob\"\nthumbnail = true").replace("profile", "run"),
            "a thumbnail is kept as long as its player",
        ),
        (
            format!("{WALKS}{}", field("type = \"blob\"\nthumbnail = true")),
            "there is a thumbnail before `f`, and a player has one",
        ),
        (WALKS.replacen("max_len = 8", "max_len = 9", 1), "`walk` may have 9 bytes, and `best_walk` holds at most 8"),
    ] {
        let errors = errors(&text);
        assert!(errors.contains(wanted), "{text} gives\n{errors}");
    }
}

#[test]
fn bytes_become_a_blob_without_a_step_and_a_lost_one_is_told_once() {
    let version = |n: i64, ty: &str, more: &str| {
        format!(
            "[game]\nid = \"fellpost\"\nversion = {n}\n[field.skyline]\ntype = \"{ty}\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n{more}"
        )
    };
    let first = Spec::from_toml(&version(1, "bytes", "")).unwrap();
    let history = History::default().freeze(&first).unwrap().history;
    let second = Spec::from_toml_with_history(&version(2, "blob", ""), &history.to_json()).unwrap();
    let mut game = Progress::fresh(&first);
    write(&mut game, "skyline", b"fells");
    let old = game.suspend().profile_image("ada");
    let loaded = Progress::load(&second, Some(&old), None).unwrap();
    assert_eq!(bytes(&loaded.progress, "skyline", &[]), b"fells");
    let image = loaded.progress.suspend().profile_image("ada");
    assert_eq!(image.blob_refs().len(), 1);
    let history = history.freeze(&second).unwrap().history;
    let step = "[[migration]]\nto = 3\nsteps = [{ rename = \"field\", from = \"skyline\", to = \"view\" }]\n";
    let third = version(3, "blob", step).replace("[field.skyline]", "[field.view]");
    let third = Spec::from_toml_with_history(&third, &history.to_json()).unwrap();
    let loaded = Progress::load(&third, Some(&image), None).unwrap();
    assert_eq!(bytes(&loaded.progress, "view", &[]), b"fells");
    let lost = Image::from_json(&image.to_json()).unwrap();
    let loaded = Progress::load(&third, Some(&lost), None).unwrap();
    assert_eq!(loaded.report.lost_blobs.len(), 1, "{}", loaded.report);
    assert_eq!(bytes(&loaded.progress, "view", &[]), b"");
}

#[test]
fn a_level_that_is_exported_brings_its_blobs_along() {
    let spec = Spec::from_toml(
        "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]\nmade = { max = 2, carries = [\"layout\"] }\n\
        [field.layout]\ntype = \"blob\"\nmax_len = 8\nper = \"level\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n",
    )
    .unwrap();
    let mut game = Progress::fresh(&spec);
    let level = game.make_level().unwrap();
    game.write("layout", &[&level], Value::bytes(*b"\x00bog")).unwrap();
    let text = game.export_level(&level).unwrap();
    let second = game.import_level(&text).unwrap();
    assert_eq!(bytes(&game, "layout", &[&second]), b"\x00bog");
    let longer = Spec::from_toml(&spec.to_toml().replace("max_len = 8", "max_len = 3")).unwrap();
    let refused = Progress::fresh(&longer).import_level(&text).unwrap_err().to_string();
    assert!(refused.contains("lies outside the limits"), "{refused}");
}
