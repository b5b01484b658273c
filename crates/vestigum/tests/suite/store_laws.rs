//! The laws that speak of stores: random specs, random plays, real sessions.

use proptest::prelude::*;

use vestigum::{Image, MemoryStore, Owner, Progress, Saver, Session, Spec, Store};
use vestigum_testing::hunting::config;
use vestigum_testing::{Allowed, Sketch, apply_all, play, sketch};

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
    #![proptest_config(config(150, vestigum_testing::kept_in!("store_laws")))]

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

    /// A player's saves change no image of another.
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

    /// Two players on one device, turn by turn: each sees what the other made of it, also through rules, openings, launches
    /// and quits; and playthroughs, which have their own runner, come to the same.
    #[test]
    fn sessions_of_one_process_have_one_device(
        sketch in sketch(Allowed { launch_rules: true, priced_failures: true }),
        turns in proptest::collection::vec((any::<bool>(), 0usize..9, 0usize..7, -9i64..90), 1..30),
    ) {
        let spec = spec(&sketch);
        let saver = Saver::new(MemoryStore::default());
        let names = ["ada", "ben"];
        let launch = |name: &str| Session::launch(&spec, &saver, name).expect("memory can be read");
        let mut games: [Option<Session>; 2] = names.map(|name| Some(launch(name)));
        let mut text = String::from("playthrough \"two\"\nprofile ada\nlaunch\nprofile ben\nlaunch\n");
        for (who, what, field, value) in turns {
            let who = usize::from(who);
            text.push_str(&format!("profile {}\n", names[who]));
            let Some(game) = games[who].as_mut() else {
                games[who] = Some(launch(names[who]));
                text.push_str("launch\n");
                continue;
            };
            let name = format!("f{}", field % sketch.fields.len());
            let done = match what {
                0 => game.enter_any(sketch.level(field), None).is_ok().then(|| format!("enter_any {}", sketch.level(field))),
                1 => game.death().is_ok().then(|| "death".to_owned()),
                2 => game.complete().is_ok().then(|| "complete".to_owned()),
                3 => game.travel().is_ok().then(|| "travel".to_owned()),
                4 => {
                    games[who].take().map(|game| game.quit().expect("memory takes everything"));
                    Some("quit".to_owned())
                }
                _ => game.write(&name, &[], value.into()).is_ok().then(|| format!("{name} = {value}")),
            };
            text.extend(done.map(|line| line + "\n"));
        }
        let device = |game: &Session| {
            let of_device = |name: &str| spec.fields().any(|field| field.name() == name && field.lasts() == vestigum::Span::Device);
            let entries = game.entries().into_iter().filter(|entry| of_device(&entry.field));
            entries.map(|entry| (entry.to_string(), entry.value)).collect::<Vec<_>>()
        };
        games.iter_mut().flatten().for_each(Session::sync_device);
        if let [Some(ada), Some(ben)] = &games {
            prop_assert_eq!(device(ada), device(ben));
        }
        // The same turns as a playthrough, which expects what the sessions have.
        for (name, game) in names.iter().zip(&games) {
            let Some(game) = game else { continue };
            text.push_str(&format!("profile {name}\n"));
            for entry in game.entries().iter().filter(|entry| entry.keys.is_empty()) {
                if let vestigum::Value::Int(int) = entry.value {
                    text.push_str(&format!("expect {} == {int}\n", entry.field));
                }
            }
        }
        let script = vestigum_verify::playthrough::Script::from_text("two.play", &text, &spec);
        let script = script.unwrap_or_else(|errors| panic!("{errors}"));
        let run = vestigum_verify::playthrough::run(&spec, &script.playthroughs()[0], &mut vestigum_verify::playthrough::MemorySaves::default());
        prop_assert!(run.passed(), "{:?}\n{}", run.failure, text);
    }

    /// With names made at run time, values of every kind and damage: what loads is what was saved before, whole.
    #[test]
    fn damage_falls_back_on_the_save_before(sketch in free(), first in play(20), second in play(20)) {
        let spec = spec(&sketch);
        let store = vestigum::DirStore::open_on(vestigum_verify::SimDisk::default(), "saves").expect("it is a sound disk");
        let mut game = Progress::fresh(&spec);
        let mut digests = Vec::new();
        for steps in [&first, &second] {
            apply_all(&sketch, &mut game, steps);
            let image = game.suspend().profile_image("ada");
            let follows = store.generations(&image.owner).expect("it can be read").last().copied().unwrap_or(0);
            if store.commit(follows, &image).expect("nobody else writes").written {
                digests.push(image.digest());
            }
        }
        let newest = *store.generations(&player("ada")).expect("it can be read").last().expect("it was saved");
        store.damage(&player("ada"), newest).expect("it is there");
        digests.pop();
        match (Session::peek(&spec, &store, "ada"), digests.pop()) {
            (Ok(looked), Some(before)) => {
                prop_assert_eq!(looked.suspend().profile_image("ada").digest(), before);
                prop_assert!(!looked.load_report().is_clean());
            }
            (looked, None) => prop_assert!(looked.is_err(), "there is nothing whole"),
            (Err(error), Some(_)) => prop_assert!(false, "{error}"),
        }
    }
}
