//! The join as sets and numbers, without specs, levels or images: what the crate's join is held against.
//!
//! A save knows of each installation the number of its last included save, the amount that it gave, and of every value that can be
//! lowered or taken out the save that last changed it. This is the design in its shortest form, written apart from the crate.

use std::collections::{BTreeMap, BTreeSet};

pub(crate) type Dot = (String, u64);
pub(crate) type Counts = BTreeMap<String, u64>;
pub(crate) type Amounts = BTreeMap<String, i64>;

/// The newest claims on own visits that are kept; older ones become own amounts.
const CLAIMS: usize = 4;

#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Register {
    Best,
    Low,
    Word,
    Flag,
}

#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Run {
    pub number: i64,
    pub at: i64,
    pub dot: Dot,
    pub visit: Option<Dot>,
    pub value: i64,
    pub pending: Amounts,
}

/// A value, and when it was written where that counts.
pub(crate) type Written = (i64, i64);

#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Save {
    pub from: Counts,
    pub pence: Amounts,
    pub purse: Amounts,
    pub registers: BTreeMap<Register, BTreeSet<(Dot, Written)>>,
    pub things: BTreeMap<i64, BTreeSet<Dot>>,
    pub high: i64,
    pub claims: BTreeMap<Dot, Amounts>,
    pub gone: Counts,
    pub run: Run,
}

impl Register {
    pub(crate) fn first(self) -> i64 {
        match self {
            Register::Low => 100,
            Register::Best | Register::Word | Register::Flag => 0,
        }
    }
}

impl Save {
    pub(crate) fn count(&self, id: &str) -> u64 {
        self.from.get(id).copied().unwrap_or(0)
    }

    fn seen(&self, dot: &Dot) -> bool {
        self.count(&dot.0) >= dot.1
    }

    pub(crate) fn value(&self, register: Register) -> i64 {
        let written = self.registers.get(&register).into_iter().flatten();
        match register {
            Register::Best => written.map(|(_, (value, _))| *value).max(),
            Register::Low => written.map(|(_, (value, _))| *value).min(),
            Register::Word | Register::Flag => {
                written.max_by_key(|(dot, (_, at))| (*at, dot.clone())).map(|(_, (value, _))| *value)
            }
        }
        .unwrap_or(register.first())
    }

    fn written_at(&self, register: Register) -> i64 {
        self.registers.get(&register).into_iter().flatten().map(|(_, (_, at))| *at).max().unwrap_or(0)
    }

    pub(crate) fn pence(&self) -> i64 {
        self.pence.values().sum()
    }

    /// Counts what is in the purse for good.
    pub(crate) fn purse(&self) -> i64 {
        self.purse.values().sum::<i64>() + self.claims.values().flat_map(Amounts::values).sum::<i64>()
    }

    fn covers(&self, other: &Save) -> bool {
        other.from.iter().all(|(id, count)| self.count(id) >= *count)
    }

    fn is_gone(&self, visit: &Dot) -> bool {
        self.gone.get(&visit.0).is_some_and(|gone| visit.1 <= *gone)
    }

    /// Counts what the run holds beside it.
    pub(crate) fn pending(&self) -> i64 {
        let Some(visit) = self.run.visit.as_ref().filter(|visit| !self.is_gone(visit)) else { return 0 };
        let claimed = |id: &str| self.claims.get(visit).and_then(|claim| claim.get(id)).copied().unwrap_or(0);
        self.run.pending.iter().map(|(id, amount)| (amount - claimed(id)).max(0)).sum()
    }

    /// Writes a register in the save that `dot` is.
    pub(crate) fn write(&mut self, register: Register, value: i64, dot: &Dot, at: i64) {
        let at = match register {
            Register::Best | Register::Low => 0,
            Register::Word | Register::Flag => at.max(self.written_at(register) + 1),
        };
        self.registers.insert(register, [(dot.clone(), (value, at))].into());
    }

    pub(crate) fn earn(&mut self, id: &str, amount: i64, dot: &Dot, at: i64) {
        let visit = self.run.visit.get_or_insert_with(|| dot.clone());
        // What was banked of the visit on another way is not what is earned now.
        let claimed = self.claims.get(visit).and_then(|claim| claim.get(id)).copied().unwrap_or(0);
        let own = self.run.pending.entry(id.to_owned()).or_default();
        *own = claimed.max(*own) + amount;
        self.run.at = at.max(self.run.at + 1);
        self.run.dot = dot.clone();
    }

    /// Leaves the level, with what was earned in it or without.
    pub(crate) fn leave(&mut self, banks: bool, dot: &Dot, at: i64) {
        let pending = std::mem::take(&mut self.run.pending);
        if let Some(visit) = self.run.visit.take().filter(|visit| banks && !self.is_gone(visit)) {
            let claim = self.claims.entry(visit).or_default();
            for (id, amount) in pending {
                let known = claim.entry(id).or_default();
                *known = (*known).max(amount);
            }
        }
        self.run.at = at.max(self.run.at + 1);
        self.run.dot = dot.clone();
    }

    pub(crate) fn fold(&mut self, id: &str) {
        let own: Vec<Dot> = self.claims.keys().filter(|visit| visit.0 == id).cloned().collect();
        for visit in own.iter().take(own.len().saturating_sub(CLAIMS)) {
            let amounts = self.claims.remove(visit).unwrap_or_default();
            *self.purse.entry(id.to_owned()).or_default() += amounts.values().sum::<i64>();
            let gone = self.gone.entry(id.to_owned()).or_default();
            *gone = (*gone).max(visit.1);
        }
    }
}

fn alive<T: Ord + Clone>(a: (&Save, &BTreeSet<T>), b: (&Save, &BTreeSet<T>), dot: impl Fn(&T) -> &Dot) -> BTreeSet<T> {
    let stays = |what: &&T, other: (&Save, &BTreeSet<T>)| other.1.contains(*what) || !other.0.seen(dot(what));
    a.1.iter().filter(|what| stays(what, b)).chain(b.1.iter().filter(|what| stays(what, a))).cloned().collect()
}

pub(crate) fn join(a: &Save, b: &Save) -> Save {
    match (a.covers(b), b.covers(a)) {
        (true, false) => return a.clone(),
        (false, true) => return b.clone(),
        (true, true) | (false, false) => {}
    }
    let mut joined = Save::default();
    let ids: BTreeSet<&String> = a.from.keys().chain(b.from.keys()).collect();
    for id in ids {
        let (later, count) = if a.count(id) >= b.count(id) { (a, a.count(id)) } else { (b, b.count(id)) };
        joined.from.insert(id.clone(), count);
        for (to, of) in [(&mut joined.pence, &later.pence), (&mut joined.purse, &later.purse)] {
            to.extend(of.get(id).map(|amount| (id.clone(), *amount)));
        }
    }
    let (no_writes, no_dots) = (BTreeSet::new(), BTreeSet::new());
    for register in [Register::Best, Register::Low, Register::Word, Register::Flag] {
        let of = |save: &Save| save.registers.get(&register).cloned().unwrap_or(no_writes.clone());
        let writes = alive((a, &of(a)), (b, &of(b)), |(dot, _)| dot);
        if !writes.is_empty() {
            joined.registers.insert(register, writes);
        }
    }
    for thing in a.things.keys().chain(b.things.keys()) {
        let of = |save: &Save| save.things.get(thing).cloned().unwrap_or(no_dots.clone());
        let dots = alive((a, &of(a)), (b, &of(b)), |dot| dot);
        if !dots.is_empty() {
            joined.things.insert(*thing, dots);
        }
    }
    joined.high = a.high.max(b.high);
    for (id, gone) in a.gone.iter().chain(&b.gone) {
        let known = joined.gone.entry(id.clone()).or_default();
        *known = (*known).max(*gone);
    }
    for (visit, amounts) in a.claims.iter().chain(&b.claims) {
        if !joined.is_gone(visit) {
            let claim = joined.claims.entry(visit.clone()).or_default();
            for (id, amount) in amounts {
                let known = claim.entry(id.clone()).or_default();
                *known = (*known).max(*amount);
            }
        }
    }
    let (seen_a, seen_b) = (b.seen(&a.run.dot), a.seen(&b.run.dot));
    joined.run = match (seen_a, seen_b) {
        (true, false) => &b.run,
        (false, true) => &a.run,
        (true, true) | (false, false) => (&a.run).max(&b.run),
    }
    .clone();
    joined
}
