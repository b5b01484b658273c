//! The laws that speak of stores: random specs, random plays, real sessions.

#[path = "../../vestigum-core/tests/support/mod.rs"]
mod support;

use proptest::prelude::*;
use support::hunting::config;
use support::{Allowed, Sketch, apply_all, play, sketch};
use vestigum::{Image, MemoryStore, Owner, Progress, Session, Spec, Store};

fn free() -> impl Strategy<Value = Sketch> {
    sketch(Allowed { launch_rules: false, priced_failures: true })
}

fn spec(sketch: &Sketch) -> Spec {
    Spec::from_toml(&sketch.toml()).unwrap_or_else(|errors| panic!("the generator wrote a bad spec:\n{errors}"))
}

fn newest(store: &MemoryStore, owner: &Owner) -> Option<Image> {
    let generation = store.generations(owner).expect("memory can be read").last().copied()?;
    Some(store.read(owner, generation).expect("memory keeps what it has"))
}

fn player(name: &str) -> Owner {
    Owner::Profile(name.into())
}

/// Commits what a save of this progress writes.
fn save(store: &MemoryStore, game: &Progress, name: &str) {
    let suspended = game.suspend();
    for image in [suspended.profile_image(name), suspended.device_image()] {
        let follows = store.generations(&image.owner).expect("memory can be read").last().copied().unwrap_or(0);
        store.commit(follows, &image).expect("nobody else writes");
    }
}

proptest! {
    #![proptest_config(config(150, kept_in!("store_laws")))]

    #[test]
    fn quitting_is_saving_and_crashing(sketch in free(), steps in play(25)) {
        let spec = spec(&sketch);
        let mut game = Progress::fresh(&spec);
        apply_all(&sketch, &mut game, &steps);
        let (quit, crashed) = (MemoryStore::default(), MemoryStore::default());
        save(&quit, &game, "ada");
        save(&crashed, &game, "ada");
        // One session quits, the other is dropped after a save.
        let one = Session::launch(&spec, quit.clone(), "ada").expect("it was saved");
        let mut other = Session::launch(&spec, crashed.clone(), "ada").expect("it was saved");
        one.quit().expect("memory takes everything");
        other.save().wait().expect("memory takes everything");
        drop(other);
        let digest = |store: &MemoryStore| newest(store, &player("ada")).map(|image| image.digest());
        prop_assert_eq!(digest(&quit), digest(&crashed));
        let again = Session::launch(&spec, quit, "ada").expect("it was saved");
        let after = Session::launch(&spec, crashed, "ada").expect("it was saved");
        prop_assert_eq!(again.entries(), after.entries());
        prop_assert_eq!(again.place(), after.place());
        prop_assert!(again.load_report().is_clean());
    }

    /// What one player does changes no image of another.
    #[test]
    fn profiles_are_isolated(sketch in free(), first in play(20), second in play(20)) {
        let spec = spec(&sketch);
        let store = MemoryStore::default();
        let mut ada = Progress::fresh(&spec);
        apply_all(&sketch, &mut ada, &first);
        save(&store, &ada, "ada");
        let before = newest(&store, &player("ada"));
        let alone = {
            let mut ben = Progress::launch(&spec, None, newest(&store, &Owner::Device).as_ref()).expect("his own").progress;
            apply_all(&sketch, &mut ben, &second);
            save(&store, &ben, "ben");
            ben.suspend().profile_image("ben").digest()
        };
        prop_assert_eq!(newest(&store, &player("ada")), before);
        let ben = newest(&store, &player("ben")).map(|image| image.digest());
        prop_assert_eq!(ben, Some(alone));
    }

    /// Loading and quitting any number of times writes nothing once everything is saved.
    #[test]
    fn loading_again_and_again_writes_nothing(sketch in free(), steps in play(25)) {
        let spec = spec(&sketch);
        let store = MemoryStore::default();
        let mut game = Progress::fresh(&spec);
        apply_all(&sketch, &mut game, &steps);
        save(&store, &game, "ada");
        let session = Session::launch(&spec, store.clone(), "ada").expect("it was saved");
        session.quit().expect("memory takes everything");
        let before = (store.generations(&player("ada")).ok(), store.generations(&Owner::Device).ok());
        for _ in 0..3 {
            Session::launch(&spec, store.clone(), "ada").expect("it was saved").quit().expect("nothing to write");
        }
        prop_assert_eq!((store.generations(&player("ada")).ok(), store.generations(&Owner::Device).ok()), before);
    }
}
