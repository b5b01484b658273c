//! Devices that play, and places that they sync with. Every device and place has a save of the crate and one of the model.

use std::collections::BTreeMap;

use vestigum_core::contributing::{Contribution, Contributor};
use vestigum_core::merging::report::Side;
use vestigum_core::merging::{Meeting, meet};
use vestigum_core::{Image, Place, Progress, Spec, Value};

use super::model::{Register, Save, join};

const SPEC: &str = r#"
[game]
id = "fellpost"
[levels]
order = ["mill_lane"]
[checkpoints]
accept = "any"
[save]
resume = "checkpoint"
[merge]
run = "day"
[field.day]
type = "int"
lasts = "run"
after_failure = "keep"
[field.route]
type = "int"
lasts = "run"
after_failure = "keep"
[field.pence]
type = "int"
lasts = "profile"
after_failure = "keep"
merge = "sum"
[field.purse]
type = "int"
lasts = "profile"
after_failure = "checkpoint"
merge = "sum"
[field.best]
type = "int"
lasts = "profile"
after_failure = "keep"
merge = "max"
[field.low]
type = "int"
default = 100
lasts = "profile"
after_failure = "keep"
merge = "min"
[field.word]
type = "int"
lasts = "profile"
after_failure = "keep"
merge = "newer"
[field.flag]
type = "bool"
lasts = "profile"
after_failure = "keep"
[field.letters]
type = "int"
lasts = "visit"
after_failure = "keep"
[field.high]
type = "int"
lasts = "profile"
on.complete = { max = "letters" }
[field.things]
type = "set of int"
lasts = "profile"
after_failure = "keep"
"#;

/// Random numbers that are the same for a seed.
struct Random(u64);

impl Random {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mixed = (self.0 ^ (self.0 >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        let mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        mixed ^ (mixed >> 31)
    }

    fn below(&mut self, end: u64) -> u64 {
        self.next() % end.max(1)
    }

    fn one_of<T: Copy>(&mut self, all: &[T]) -> T {
        all[self.below(all.len() as u64) as usize]
    }
}

type Both = Option<(Image, Save)>;

/// A device or a place.
#[derive(Default)]
struct Node {
    installation: Option<String>,
    newest: Both,
    generation: u64,
    old: Vec<Both>,
    skew: i64,
    /// Whether the folder was copied or put back, so that the next save by play has another installation.
    fresh: bool,
}

impl Node {
    fn commit(&mut self, both: (Image, Save)) {
        self.old.push(self.newest.take());
        (self.newest, self.generation) = (Some(both), self.generation + 1);
    }
}

struct World {
    spec: Spec,
    random: Random,
    nodes: Vec<Node>,
    devices: usize,
    edges: Vec<(usize, usize)>,
    clock: i64,
    saves: i64,
    ids: u64,
    log: Vec<String>,
}

#[derive(Clone, Copy, Debug, PartialEq)]
enum Op {
    Gain,
    Lose,
    Best,
    Low,
    Reset,
    Word,
    Flag,
    Add,
    Remove,
    High,
    Earn,
    Bank,
    Die,
    Run,
}

pub(crate) fn history(seed: u64) {
    let mut random = Random(seed);
    let devices = random.one_of(&[2, 2, 3, 3, 4]);
    let places = random.one_of(&[0, 1, 1, 2, 3]);
    let mut edges: Vec<(usize, usize)> =
        (0..devices).flat_map(|device| (devices..devices + places).map(move |place| (device, place))).collect();
    if places == 0 || random.below(5) < 2 {
        edges.extend((0..devices).map(|device| (device, (device + 1) % devices)).filter(|(a, b)| devices > 2 || a < b));
    }
    let nodes = (0..devices + places).map(|_| Node::default()).collect();
    let spec = Spec::from_toml(SPEC).unwrap_or_else(|errors| panic!("{errors}"));
    let mut world = World {
        spec,
        random,
        nodes,
        devices,
        edges,
        clock: 1_000,
        saves: 0,
        ids: 0,
        log: vec![format!("history {seed}")],
    };
    for device in 0..devices {
        world.nodes[device].skew = world.random.one_of(&[0, 0, -50, 50]);
        world.nodes[device].fresh = true;
    }
    let steps = 6 + world.random.below(25);
    for _ in 0..steps {
        world.step();
    }
    world.settle(seed);
}

impl World {
    fn step(&mut self) {
        match self.random.below(100) {
            0..42 => self.play(),
            42..80 => {
                let (a, b) = self.edge();
                let cut = if self.random.below(100) < 15 { self.random.below(3) } else { 99 };
                self.sync(a, b, cut);
            }
            80..86 => self.sync_at_once(),
            86..92 if self.nodes.len() > self.devices => {
                let place = self.devices + self.random.below((self.nodes.len() - self.devices) as u64) as usize;
                self.put_back(place);
            }
            92..96 => {
                let device = self.random.below(self.devices as u64) as usize;
                self.put_back(device);
                self.nodes[device].fresh = true;
            }
            _ => {
                let from = self.random.below(self.devices as u64) as usize;
                let to = self.random.below(self.devices as u64) as usize;
                if from != to {
                    let newest = self.nodes[from].newest.clone();
                    self.log.push(format!("folder of {from} copied over {to}"));
                    let node = &mut self.nodes[to];
                    (node.newest, node.fresh, node.generation) = (newest, true, node.generation + 1);
                }
            }
        }
    }

    fn edge(&mut self) -> (usize, usize) {
        let edges = self.edges.clone();
        self.random.one_of(&edges)
    }

    fn put_back(&mut self, node: usize) {
        let olds = self.nodes[node].old.len() as u64;
        if olds > 0 {
            let at = self.random.below(olds) as usize;
            self.log.push(format!("old copy put back in {node}"));
            let node = &mut self.nodes[node];
            node.newest = node.old[at].clone();
            node.generation += 1;
        }
    }

    fn play(&mut self) {
        let device = self.random.below(self.devices as u64) as usize;
        self.clock += 1;
        if std::mem::take(&mut self.nodes[device].fresh) || self.nodes[device].installation.is_none() {
            self.ids += 1;
            self.nodes[device].installation = Some(format!("i{:03}", self.ids));
        }
        let id = self.nodes[device].installation.clone().unwrap();
        let at = self.clock + self.nodes[device].skew;
        let newest = self.nodes[device].newest.clone();
        let (image, mut save) = newest.map_or((None, Save::default()), |(image, save)| (Some(image), save));
        let mut contributor = Contributor::new(&self.spec, image.as_ref()).unwrap().expect("the spec merges");
        let mut game = Progress::launch(&self.spec, image.as_ref(), None).unwrap().progress;
        game.follow_visits();
        let dot = (id.clone(), save.count(&id) + 1);
        self.saves += 1;
        let mut done = Vec::new();
        let times = self.random.one_of(&[1, 1, 2, 3]);
        let (mut of_run, mut used) = (false, Vec::new());
        for _ in 0..times {
            use Op::*;
            let all = [Gain, Lose, Best, Reset, Low, Word, Flag, High, Add, Remove, Earn, Earn, Bank, Die, Run];
            let op = self.random.one_of(&all);
            let is_of_run = matches!(op, Earn | Bank | Die | Run | High);
            // What one save writes and takes back it has not written.
            let undoes = [[Best, Low, Reset].as_slice(), &[Add, Remove], &[Gain, Lose]];
            let again = |of: &[Op]| of.contains(&op) && used.iter().any(|used| of.contains(used));
            if used.contains(&op) || undoes.into_iter().any(again) || (is_of_run && of_run) {
                continue;
            }
            used.push(op);
            if self.act(op, &mut game, &mut save, (&id, &dot, at)) {
                of_run |= is_of_run;
                done.push(op);
            }
        }
        if done.is_empty() {
            return;
        }
        save.from.insert(id.clone(), dot.1);
        save.fold(&id);
        let by = Contribution { by: id.as_str().into(), last: 0, tag: format!("{}", self.saves).into(), at };
        let suspended = game.suspend();
        let visits = game.visits();
        let origin = contributor.contribute(&suspended, &visits, &by);
        assert_eq!(origin.count(&id), dot.1, "{done:?} changed something");
        let image = Image { origin: Some(Box::new(origin)), ..suspended.profile_image("ada") };
        // As a store writes and reads it.
        let read = Image::from_json(&image.to_json()).unwrap();
        assert_eq!(read, image);
        self.log.push(format!("play {device} as {dot:?}: {done:?}"));
        self.nodes[device].commit((read, save));
        self.check(device);
    }

    /// Plays one thing; says whether it did anything.
    fn act(&mut self, op: Op, game: &mut Progress, save: &mut Save, by: (&str, &(String, u64), i64)) -> bool {
        let (id, dot, at) = by;
        let in_level = matches!(game.place(), Place::InLevel { .. });
        let write = |game: &mut Progress, name: &str, value: i64| {
            game.write(name, &[], Value::Int(value)).unwrap();
        };
        match op {
            Op::Gain | Op::Lose => {
                let amount = self.random.one_of(&[10, 10, 3]) * if op == Op::Gain { 1 } else { -1 };
                *save.pence.entry(id.to_owned()).or_default() += amount;
                let pence = save.pence();
                write(game, "pence", pence);
            }
            Op::Best | Op::Low | Op::Reset | Op::Word => {
                let register = match op {
                    Op::Best => Register::Best,
                    Op::Low => Register::Low,
                    Op::Word => Register::Word,
                    _ => self.random.one_of(&[Register::Best, Register::Low]),
                };
                let (old, any) = (save.value(register), self.random.below(100) as i64);
                let value = match (op, register) {
                    (Op::Reset, _) => register.first(),
                    (_, Register::Best) => old.max(any),
                    (_, Register::Low) => old.min(any),
                    (_, Register::Word | Register::Flag) => self.saves,
                };
                if value == old {
                    return false;
                }
                save.write(register, value, dot, at);
                let name = match register {
                    Register::Best => "best",
                    Register::Low => "low",
                    Register::Word | Register::Flag => "word",
                };
                write(game, name, value);
            }
            Op::Flag => {
                let value = 1 - save.value(Register::Flag);
                save.write(Register::Flag, value, dot, at);
                game.write("flag", &[], Value::Bool(value == 1)).unwrap();
            }
            Op::Add => {
                let thing = self.random.below(6) as i64;
                if save.things.contains_key(&thing) {
                    return false;
                }
                save.things.insert(thing, [dot.clone()].into());
                game.insert("things", &[], thing.into()).unwrap();
            }
            Op::Remove => {
                let thing = self.random.below(6) as i64;
                if save.things.remove(&thing).is_none() {
                    return false;
                }
                game.remove("things", &[], thing.into()).unwrap();
            }
            Op::High => {
                let letters = self.random.below(100) as i64;
                if in_level || letters <= save.high {
                    return false;
                }
                game.enter("mill_lane").unwrap();
                write(game, "letters", letters);
                game.complete().unwrap();
                save.high = letters;
            }
            Op::Earn => {
                let amount = self.random.one_of(&[10, 10, 7]);
                if !in_level {
                    game.enter("mill_lane").unwrap();
                }
                let held = save.purse() + save.pending() + amount;
                write(game, "purse", held);
                game.checkpoint("ford").unwrap();
                save.earn(id, amount, dot, at);
            }
            Op::Bank | Op::Die => {
                if !in_level {
                    return false;
                }
                if op == Op::Bank { game.complete() } else { game.abandon() }.unwrap();
                save.leave(op == Op::Bank, dot, at);
            }
            Op::Run => {
                if in_level {
                    game.abandon().unwrap();
                }
                let day = self.random.below(4) as i64;
                write(game, "day", day);
                write(game, "route", self.saves);
                save.leave(false, dot, at);
                (save.run.number, save.run.value) = (day, self.saves);
            }
        }
        true
    }

    /// Expects the same numbers in both.
    fn check(&self, node: usize) {
        let Some((image, save)) = &self.nodes[node].newest else { return };
        let game = Progress::load(&self.spec, Some(image), None).unwrap();
        assert!(game.report.is_clean(), "{}\n{}", game.report, self.log.join("\n"));
        let game = game.progress;
        let int = |name: &str| game.value(name, &[]).unwrap().as_int();
        let left = {
            let mut left = Progress::load(&self.spec, Some(image), None).unwrap().progress;
            if matches!(left.place(), Place::InLevel { .. }) {
                left.abandon().unwrap();
            }
            left.value("purse", &[]).unwrap().as_int()
        };
        let things = game.value("things", &[]).unwrap();
        let found = [
            ("pence", int("pence"), save.pence()),
            ("purse for good", left, save.purse()),
            ("purse", int("purse"), save.purse() + save.pending()),
            ("best", int("best"), save.value(Register::Best)),
            ("low", int("low"), save.value(Register::Low)),
            ("word", int("word"), save.value(Register::Word)),
            ("flag", i64::from(game.value("flag", &[]).unwrap().as_bool()), save.value(Register::Flag)),
            ("high", int("high"), save.high),
            ("day", int("day"), save.run.number),
            ("route", int("route"), save.run.value),
            ("things", things.len() as i64, save.things.len() as i64),
            (
                "in a level",
                i64::from(matches!(game.place(), Place::InLevel { .. })),
                i64::from(save.run.visit.is_some()),
            ),
        ];
        let origin = image.origin.as_deref().unwrap();
        for (id, count) in &save.from {
            assert_eq!(origin.count(id), *count);
        }
        for (name, found, expected) in found {
            assert_eq!(
                found,
                expected,
                "{name} at {node}\n{}\n{save:?}\n{}",
                self.log.join("\n"),
                String::from_utf8_lossy(&image.to_json())
            );
        }
    }

    /// Expects what both have to have, by the crate and by the model.
    fn joined(&self, a: usize, b: usize) -> Option<(Both, bool, bool)> {
        let (here, there) = (&self.nodes[a].newest, &self.nodes[b].newest);
        let images = [here, there].map(|both| both.as_ref().map(|(image, _)| image));
        let saves = match (here, there) {
            (None, None) => return None,
            (Some((_, one)), None) | (None, Some((_, one))) => one.clone(),
            (Some((_, one)), Some((_, other))) => join(one, other),
        };
        let meeting = meet(&self.spec, images[0], images[1]);
        let told = |why: String| format!("{why}\n{}", self.log.join("\n"));
        Some(match meeting.unwrap_or_else(|error| panic!("{}", told(error.to_string()))) {
            Meeting::Nothing => return None,
            Meeting::InSync => (Some((images[0].unwrap().clone(), saves)), false, false),
            Meeting::Takes(Side::Here) => (Some((images[0].unwrap().clone(), saves)), false, true),
            Meeting::Takes(Side::There) => (Some((images[1].unwrap().clone(), saves)), true, false),
            Meeting::Merged(merged) => {
                let read = Image::from_json(&merged.image.to_json()).unwrap();
                assert_eq!(read, merged.image);
                (Some((read, saves)), true, true)
            }
        })
    }

    fn sync(&mut self, a: usize, b: usize, cut: u64) {
        self.log.push(format!("sync {a} {b}, cut after {cut}"));
        let follows = (self.nodes[a].generation, self.nodes[b].generation);
        let Some((both, writes_here, writes_there)) = self.joined(a, b).filter(|_| cut > 0) else { return };
        self.write(a, &both, writes_here, follows.0);
        if cut > 1 {
            self.write(b, &both, writes_there, follows.1);
        }
    }

    fn write(&mut self, node: usize, both: &Both, writes: bool, follows: u64) {
        if writes && self.nodes[node].generation == follows {
            self.nodes[node].commit(both.clone().unwrap());
            self.check(node);
        }
    }

    /// Two syncs whose reads and writes are interleaved.
    fn sync_at_once(&mut self) {
        let (one, other) = (self.edge(), self.edge());
        self.log.push(format!("at once {one:?} {other:?}"));
        let mut live = Vec::new();
        for (a, b) in [one, other] {
            let follows = (self.nodes[a].generation, self.nodes[b].generation);
            if let Some((both, here, there)) = self.joined(a, b) {
                live.push(vec![(b, both.clone(), there, follows.1), (a, both, here, follows.0)]);
            }
        }
        while !live.is_empty() {
            let at = self.random.below(live.len() as u64) as usize;
            match live[at].pop() {
                None => drop(live.remove(at)),
                Some((node, both, writes, follows)) => {
                    if writes && self.nodes[node].generation != follows {
                        live.remove(at);
                    } else {
                        self.write(node, &both, writes, follows);
                    }
                }
            }
        }
    }

    /// Without play, everybody comes to one save that includes all.
    fn settle(&mut self, seed: u64) {
        let mut wanted: BTreeMap<String, u64> = BTreeMap::new();
        for (_, save) in self.nodes.iter().filter_map(|node| node.newest.as_ref()) {
            for (id, count) in &save.from {
                let known = wanted.entry(id.clone()).or_default();
                *known = (*known).max(*count);
            }
        }
        self.log.push("-- quiet".into());
        for _ in 0..2 * self.nodes.len() + 2 {
            for (a, b) in self.edges.clone() {
                self.sync(a, b, 99);
            }
        }
        let all: Vec<&(Image, Save)> = self.nodes.iter().filter_map(|node| node.newest.as_ref()).collect();
        for (image, save) in &all {
            assert_eq!(save.from, wanted, "history {seed}: somebody's play was lost\n{}", self.log.join("\n"));
            assert_eq!(
                image.digest(),
                all[0].0.digest(),
                "history {seed}: two saves in the end\n{}",
                self.log.join("\n")
            );
        }
    }
}
