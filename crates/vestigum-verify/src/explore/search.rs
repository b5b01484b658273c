//! The breadth-first search.

use std::sync::{Mutex, PoisonError};

use rustc_hash::FxHashSet;

use vestigum_core::state::State;
use vestigum_core::state::position::Position;
use vestigum_core::{Moment, Progress, Spec};
use vestigum_spec::model::field::FieldId;

use super::act::{Act, Repertoire, newcomer, says_game_over};
use super::answer::{Ending, SearchBounds, Seen};
use super::by_rules::{RuleProof, failing, lasting, moments, prove};
use super::cone::{Cone, mattering_unlocked};
use super::gaps::{Gap, names};
use super::packed::{Packed, Packing};
use super::player::complete_all;
use super::question::{Asked, Broken, Happened, Judged, Question, moment_of, questions};
use super::relaxed::Relaxation;
use super::story::{Witness, tell, witness};
use super::tally::Tally;
use super::traps::Traps;

/// A visited state: where it came from, and by what.
#[derive(Clone, Copy, Debug)]
struct Visit {
    parent: u32,
    act: Act,
}

/// A state of the frontier.
#[derive(Clone, Debug)]
struct SearchNode {
    id: u32,
    state: Packed,
    enters: u8,
    key: u128,
}

/// Describes what one thread works with: progress to write into, on a spec of its own, so that no counter is shared between threads.
struct Worker {
    spec: Spec,
    before: Progress,
    after: Progress,
    /// After a failure, before a game over that follows.
    failed: Progress,
    /// Whether `after` was `before` but for what it has tracked.
    is_near: bool,
    bytes: Vec<u8>,
    touched: Vec<usize>,
}

/// A step from the frontier to a state that was not seen in an earlier round.
#[derive(Clone, Debug)]
pub struct Expansion {
    parent: u32,
    act: Act,
    key: u128,
    next: Option<(Packed, u8)>,
    broken: Option<Box<Broken>>,
    transitions: usize,
}

/// Describes what comes of acts that were possible with locks lifted.
pub(super) enum Replayed {
    /// They break it in earnest.
    Broken(Ending),
    /// The level is locked when it is to be entered.
    LockedOut(u32),
    /// They break nothing, or something else stops them.
    Otherwise,
}

/// The most states in which a newcomer is looked for who breaks what is proved for one player.
const NEWCOMERS: usize = 20_000;

/// Says how many visits a search for gains looks at.
const VISITS: u8 = 2;

/// A search for the answer to one question.
pub struct Search<'s> {
    /// The question, as the spec with counters asks it.
    question: Question,
    /// The spec with a counter for each source.
    spec: Spec,
    plain: &'s Spec,
    cone: Cone,
    repertoire: Repertoire,
    bounds: SearchBounds,
    /// A state in which nothing was played, to unpack into.
    fresh: State,
    workers: Mutex<Vec<Worker>>,
    visited: FxHashSet<u128>,
    visits: Vec<Visit>,
    frontier: Vec<SearchNode>,
    seen: Seen,
    tally: Tally,
    /// For what can still be done: the steps between the states.
    traps: Option<Traps>,
    judged: Judged,
    /// Holds a proof that leaves other players out.
    proved: Option<Box<RuleProof>>,
    ended: Option<Ending>,
    /// The acts that have broken it.
    broken_by: Vec<Act>,
    /// For gains: the search without failing, which comes first.
    honest: Option<Box<Search<'s>>>,
}

impl<'s> Search<'s> {
    /// A search that stands at a fresh profile.
    ///
    /// # Panics
    /// If the question is one of another spec.
    pub fn new(spec: &'s Spec, question: &'s Question, bounds: SearchBounds) -> Search<'s> {
        let mut search = Search::begin(spec, question, bounds.clone(), true, Relaxation::default());
        if search.ended.is_none() && bounds.by_rules {
            let proof = match &search.question.asked {
                Asked::Completable => search.lasting(),
                Asked::NothingGained(record) => search.failing(*record),
                Asked::NeverFalls(_)
                | Asked::ValueNeverFalls(_)
                | Asked::Holds(..)
                | Asked::Can(..)
                | Asked::Reachable
                | Asked::NoBetterLeft(_) => prove(spec, question, &bounds.without),
            };
            if let Some(proof) = proof {
                search.prove(Box::new(proof));
            }
            search.play();
        }
        if let Asked::NothingGained(_) = question.asked
            && search.ended.is_none()
        {
            // First what can be had without failing, by the same steps.
            search.honest = Some(Box::new(Search::begin(spec, question, bounds, false, Relaxation::default())));
            search.after_honest();
        }
        search
    }

    /// Proves that every level can still be completed, if the rules say so.
    fn lasting(&self) -> Option<RuleProof> {
        let moments = moments(self.plain, &self.bounds.without);
        lasting::proof(self.plain, &self.spec, &self.repertoire, &moments, &self.tally.completed)
    }

    /// Proves that failing gains nothing for a record, if the rules say so.
    fn failing(&self, record: FieldId) -> Option<RuleProof> {
        let moments = moments(self.plain, &self.bounds.without);
        failing::proof(self.plain, &self.spec, &self.repertoire.counters, record, &moments)
    }

    /// Takes a proof as the answer. Where it leaves other players out, a short search looks whether a newcomer breaks it.
    fn prove(&mut self, proof: Box<RuleProof>) {
        if self.cone.players && proof.gaps.iter().any(|gap| matches!(gap, Gap::Players(_))) {
            self.bounds.states = self.bounds.states.min(NEWCOMERS);
            self.proved = Some(proof);
        } else {
            self.ended = Some(Ending::Proved(proof));
        }
    }

    /// Returns whether every level can be completed is shown by a play that does.
    fn play(&mut self) {
        if !matches!(self.question.asked, Asked::Reachable) {
            return;
        }
        if let Some((acts, count)) = complete_all(&self.spec, &self.repertoire, &self.tally.completed) {
            let depth = acts.len();
            let seen = Seen { states: depth + 1, transitions: depth, depth, all: true, ..Seen::default() };
            let expect = format!("count(completed) == {count}");
            self.ended = Some(Ending::Played(seen, vec![witness(self.plain, &self.question, &acts, &expect)]));
        }
    }

    /// Once it is known what can be had without failing, the search itself begins.
    fn after_honest(&mut self) {
        let Some(honest) = self.honest.take_if(|honest| honest.ended.is_some()) else { return };
        self.seen.transitions += honest.seen.transitions;
        // What honest play was not seen to the end of may have more: then nothing can be said against failing.
        if !honest.seen.all {
            self.ended = Some(self.unbroken(honest.seen));
        }
        self.tally.best = honest.tally.best;
    }

    /// The answer where nothing has broken it.
    pub(super) fn unbroken(&self, seen: Seen) -> Ending {
        // What is not known of values may lead out of a trap.
        if let Some(traps) = self.traps.as_ref().filter(|_| !self.cone.gaps.iter().any(Gap::withholds))
            && let Some((state, goal)) = traps.first()
        {
            return self.told(&self.path(state), &self.question.asked.trapped(self.spec.model(), goal));
        }
        match &self.proved {
            Some(proof) => Ending::Proved(proof.clone()),
            None => {
                let seen = Seen { judged: seen.judged || self.judged.is_set(), ..seen };
                Ending::unbroken(seen, &self.bounds, &self.cone.gaps)
            }
        }
    }

    /// Ends the search where it is: what it has not seen is left open.
    pub fn stop(&mut self) {
        if let Some(mut honest) = self.honest.take() {
            honest.seen.stopped = true;
            self.ended = Some(self.unbroken(honest.seen));
        }
        if self.ended.is_none() {
            self.seen.stopped = true;
            self.ended = Some(self.unbroken(self.seen));
        }
    }

    /// A search of more plays than there are.
    pub(super) fn relaxed(
        spec: &'s Spec,
        question: &'s Question,
        bounds: SearchBounds,
        relaxation: Relaxation,
    ) -> Search<'s> {
        Search::begin(spec, question, bounds, true, relaxation)
    }

    fn begin(
        plain: &'s Spec,
        question: &'s Question,
        bounds: SearchBounds,
        failures: bool,
        relaxation: Relaxation,
    ) -> Search<'s> {
        let (spec, counters) = plain.with_counters();
        let question = questions(&spec).swap_remove(question.index);
        let mut cone = Cone::of(&spec, &counters, &question, &relaxation);
        if !bounds.reduce {
            cone.packing = Packing::all(spec.model());
            cone.sources.iter_mut().for_each(|matters| *matters = true);
        }
        let says_game_over = says_game_over(spec.model());
        let sources = cone.sources.clone();
        let without = bounds.without.clone();
        let (writes, players) = (cone.writes.clone(), cone.players);
        let repertoire =
            Repertoire { counters, sources, failures, says_game_over, without, writes, players, relaxation };
        let untouched = Progress::at(spec.model(), State::fresh(spec.model()));
        let game = Progress::fresh(&spec);
        let tally = Tally::of(&spec, &question);
        let mut search = Search {
            question,
            plain,
            cone,
            repertoire,
            bounds,
            fresh: State::fresh(spec.model()),
            workers: Mutex::default(),
            visited: FxHashSet::default(),
            visits: Vec::new(),
            frontier: Vec::new(),
            seen: Seen { states: 1, ..Seen::default() },
            tally,
            traps: None,
            judged: Judged::default(),
            proved: None,
            ended: None,
            broken_by: Vec::new(),
            honest: None,
            spec,
        };
        search.judged = Judged::of(&search.question.asked);
        let key = search.key(game.state(), 0);
        search.visited.insert(key);
        search.visits.push(Visit { parent: 0, act: Act::Relaunch });
        search.traps = search.question.asked.goals(search.spec.model()).map(Traps::of);
        search.note_goals(key, game.state());
        search.note(game.state(), 0, 0);
        // The first launch is a moment like any other, from everything at its default.
        let (asked, relaxation) = (&search.question.asked, &search.repertoire.relaxation);
        let launched = Happened { moment: Moment::Launch, before: &untouched, after: &game, seen: true };
        let broken = asked.judge_moment(launched, relaxation, &search.judged);
        let broken = broken.or_else(|| asked.judge_state(&untouched, Act::Relaunch, &game, relaxation, &search.judged));
        if let Some(broken) = broken {
            search.ended = Some(search.told(&[], &broken));
        }
        let state = Packed::Whole(Box::new(game.into_state()));
        search.frontier.push(SearchNode { id: 0, state, enters: 0, key });
        search
    }

    /// Returns what has been seen so far.
    pub fn seen(&self) -> Seen {
        self.honest.as_ref().map_or(self.seen, |honest| honest.seen)
    }

    /// Returns how many states wait to be looked at in this round; 0 when the search is over.
    pub fn frontier(&self) -> usize {
        match &self.honest {
            Some(honest) => honest.frontier(),
            None if self.ended.is_some() => 0,
            None => self.frontier.len(),
        }
    }

    /// Looks at a part of the frontier: everything that can happen there. Changes nothing.
    pub fn expand(&self, part: std::ops::Range<usize>) -> Vec<Expansion> {
        if let Some(honest) = &self.honest {
            return honest.expand(part);
        }
        let mut found = Vec::new();
        let mut known = FxHashSet::default();
        let mut worker = self.worker();
        for node in &self.frontier[part] {
            self.cone.packing.unpack(&node.state, worker.before.state_mut(), &self.fresh);
            worker.is_near = false;
            let before = worker.before.state();
            let sum = node.key.wrapping_sub(Packing::place(&before.position, node.enters));
            debug_assert!(sum == self.cone.packing.sum(before), "a state is unpacked as it was packed");
            let acts = self.repertoire.acts(&worker.spec, &worker.before);
            let mut transitions = acts.len();
            for act in acts {
                let Some(broken) = self.step(&mut worker, act) else { continue };
                let enters = self.count(node.enters, act);
                if enters > VISITS && self.counts_visits() {
                    continue;
                }
                let Worker { before, after, bytes, touched, .. } = &mut worker;
                let after = after.state();
                let sum = self.cone.packing.sum_after(before.state(), sum, after, touched);
                debug_assert!(sum == self.cone.packing.sum(after), "every value that a step changes is known");
                let key = sum.wrapping_add(Packing::place(&after.position, enters));
                let new = !self.visited.contains(&key) && known.insert(key);
                if new || broken.is_some() || self.traps.is_some() {
                    let next = new.then(|| {
                        bytes.clear();
                        self.cone.packing.put(bytes, after);
                        (self.cone.packing.pack(after, bytes), enters)
                    });
                    found.push(Expansion {
                        parent: node.id,
                        act,
                        key,
                        next,
                        broken: broken.map(Box::new),
                        transitions: std::mem::take(&mut transitions),
                    });
                }
            }
            if transitions > 0 {
                // Nothing new came of it, and it was looked at all the same.
                let (parent, act, key) = (node.id, Act::Relaunch, 0);
                found.push(Expansion { parent, act, key, next: None, broken: None, transitions });
            }
        }
        self.workers.lock().unwrap_or_else(PoisonError::into_inner).push(worker);
        found
    }

    fn worker(&self) -> Worker {
        let idle = self.workers.lock().unwrap_or_else(PoisonError::into_inner).pop();
        idle.unwrap_or_else(|| {
            let (spec, _) = self.plain.with_counters();
            let mut before = Progress::at(spec.model(), State::fresh(spec.model()));
            before.set_quiet(true);
            Worker {
                spec,
                after: before.clone(),
                failed: before.clone(),
                before,
                is_near: false,
                bytes: Vec::new(),
                touched: Vec::new(),
            }
        })
    }

    /// Puts together what came of a round, in the order of the frontier. Answers whether the search goes on. A round whose parts are
    /// missing, because there was no time for them, ends it: what they would have found is not known.
    pub fn merge(&mut self, rounds: impl IntoIterator<Item = Vec<Expansion>>, whole: bool) -> bool {
        if let Some(honest) = &mut self.honest {
            honest.merge(rounds, whole);
            self.after_honest();
            return self.frontier() > 0;
        }
        let mut next = Vec::new();
        let mut scratch = self.fresh.clone();
        let depth = self.seen.depth + 1;
        for found in rounds.into_iter().flatten() {
            self.seen.transitions += found.transitions;
            if let Some(broken) = found.broken {
                self.seen.depth = depth;
                self.end_broken(found.parent, found.act, &broken);
                return false;
            }
            // What another player can do is no way on for this one.
            let leads = found.act != Act::Newcomer
                && moment_of(found.act).is_none_or(|moment| !self.question.asked.without().contains(&moment));
            if let Some(traps) = &mut self.traps {
                traps.look(found.parent);
            }
            let new =
                |search: &mut Search<'_>| search.seen.states < search.bounds.states && search.visited.insert(found.key);
            let Some((state, enters)) = found.next.filter(|_| new(self)) else {
                // The expansion without a key says only that the state was looked at.
                if let Some(traps) = self.traps.as_mut().filter(|_| leads && found.key != 0) {
                    traps.step(found.parent, found.key);
                }
                continue;
            };
            let id = self.visits.len() as u32;
            self.visits.push(Visit { parent: found.parent, act: found.act });
            self.seen.states += 1;
            if self.traps.is_some() {
                self.cone.packing.unpack(&state, &mut scratch, &self.fresh);
                self.note_goals(found.key, &scratch);
                if let Some(traps) = self.traps.as_mut().filter(|_| leads) {
                    traps.step(found.parent, found.key);
                }
            }
            if self.question.asked.adds_up() {
                self.cone.packing.unpack(&state, &mut scratch, &self.fresh);
                if let Some(broken) = self.note(&scratch, enters, id) {
                    self.seen.depth = depth;
                    self.end_broken(found.parent, found.act, &broken);
                    return false;
                }
                if self.is_all_completed() {
                    self.seen = Seen { depth, all: true, ..self.seen };
                    self.ended = Some(Ending::Played(self.seen, self.completing()));
                    return false;
                }
            }
            next.push(SearchNode { id, state, enters, key: found.key });
        }
        if !whole {
            self.seen = Seen { depth, stopped: true, ..self.seen };
            self.ended = Some(self.unbroken(self.seen));
            return false;
        }
        self.frontier = next;
        if self.frontier.is_empty() {
            self.seen.all = self.seen.states < self.bounds.states;
            self.end();
            return false;
        }
        self.seen.depth = depth;
        if depth >= self.bounds.depth || self.seen.states >= self.bounds.states {
            self.end();
            return false;
        }
        true
    }

    /// One round on this thread.
    pub fn round(&mut self) -> bool {
        let found = self.expand(0..self.frontier());
        self.merge([found], true)
    }

    /// Searches to the end on this thread.
    pub fn run(mut self) -> Ending {
        while self.frontier() > 0 && self.round() {}
        self.into_ending()
    }

    /// The answer.
    pub fn into_ending(mut self) -> Ending {
        // One that nobody has run to its end was stopped.
        let seen = Seen { stopped: true, ..self.seen };
        self.ended.take().unwrap_or_else(|| self.unbroken(seen))
    }

    fn end(&mut self) {
        let missing = self.tally.completed.iter().position(|completed| !completed);
        let asked = matches!(self.question.asked, Asked::Reachable);
        // Where not all was seen, what was not found may be further on.
        self.ended = Some(match missing.filter(|_| asked && self.seen.all) {
            Some(_) if !self.cone.blind.is_empty() => {
                let blind = self.cone.blind.iter().map(|id| self.spec.model().field(*id));
                Ending::Unknown(self.seen, vec![Gap::Written(names(blind))])
            }
            Some(level) => {
                let id = self.spec.model().level(level as u32).id.clone();
                let what = format!("`{id}` is never completed, whatever is played");
                let expect = format!("completed[{id}]");
                self.told(&[], &Broken { what, expect, note: None })
            }
            None => self.unbroken(self.seen),
        });
    }

    /// Notes what of the goals holds in a new state. A run that is over is not asked about where no new one may begin.
    fn note_goals(&mut self, key: u128, state: &State) {
        let Some(traps) = &mut self.traps else { return };
        let (model, asked) = (self.spec.model(), &self.question.asked);
        // What is never reached is no goal: so is a level that the spec allows to be locked for good.
        let wanted = |goal: &usize| !matches!(asked, Asked::Completable) || !self.tally.completed[*goal];
        let goals = (0..asked.goals(model).unwrap_or(0)).filter(wanted);
        let goals = goals.filter(|goal| asked.reaches(model, state, *goal));
        let ended = state.position == Position::RunOver && asked.without().iter().any(|moment| moment.begins_run());
        traps.add(key, !ended, goals);
    }

    /// Notes a state in what all of them hold together; says what it breaks with that.
    fn note(&mut self, state: &State, enters: u8, id: u32) -> Option<Broken> {
        let model = self.spec.model();
        match self.question.asked {
            Asked::Reachable => self.tally.note_completed(model, state, id),
            Asked::NothingGained(field) if self.repertoire.failures => {
                return self.tally.gained(model, field, state, enters);
            }
            Asked::NothingGained(field) => self.tally.note_best(model, field, state, enters),
            Asked::NeverFalls(_)
            | Asked::ValueNeverFalls(_)
            | Asked::Holds(..)
            | Asked::Can(..)
            | Asked::Completable
            | Asked::NoBetterLeft(_) => {}
        }
        None
    }

    fn counts_visits(&self) -> bool {
        matches!(self.question.asked, Asked::NothingGained(_))
    }

    fn count(&self, enters: u8, act: Act) -> u8 {
        if self.counts_visits() { enters + u8::from(matches!(act, Act::Enter(_))) } else { 0 }
    }

    /// One step: the state after it, and what it breaks. Every moment that happens is judged, whoever said it: a failure
    /// may be followed by a game over. What must always hold, and what must never fall, is judged in the state that a
    /// player sees.
    fn step(&self, worker: &mut Worker, act: Act) -> Option<Option<Broken>> {
        let (asked, relaxation) = (&self.question.asked, &self.repertoire.relaxation);
        let Worker { before, after, failed, is_near, .. } = worker;
        if *is_near {
            after.state_mut().go_back_to(before.state());
        } else {
            after.state_mut().copy_from(before.state());
            after.state_mut().track();
        }
        // A relaunch makes another state, and nobody knows what was written to it.
        *is_near = !matches!(act, Act::Relaunch | Act::Newcomer);
        let mut broken = None;
        if let Act::Moment(moment @ (Moment::Death | Moment::Restart | Moment::Abandon)) = act {
            let mut outcome = after.failure(moment).ok()?;
            let over = after.is_run_over();
            if over {
                failed.state_mut().copy_from(after.state());
                after.judge_run(&mut outcome);
            }
            after.finished(outcome);
            // Without a game over the openings belong to the moment.
            let judged = if over { &*failed } else { &*after };
            broken =
                asked.judge_moment(Happened { moment, before, after: judged, seen: !over }, relaxation, &self.judged);
            if over {
                let end = Happened { moment: Moment::GameOver, before: failed, after, seen: true };
                broken = broken.or_else(|| asked.judge_moment(end, relaxation, &self.judged));
            }
        } else {
            if !self.repertoire.apply(after, act) {
                return None;
            }
            if let Some(moment) = moment_of(act) {
                let before: &Progress = if act == Act::Newcomer {
                    failed.state_mut().copy_from(&newcomer(before));
                    failed
                } else {
                    before
                };
                broken = asked.judge_moment(Happened { moment, before, after, seen: true }, relaxation, &self.judged);
            }
        }
        Some(broken.or_else(|| asked.judge_state(before, act, after, relaxation, &self.judged)))
    }

    /// Returns what tells states apart: the place, and every value that matters with its marks.
    fn key(&self, state: &State, enters: u8) -> u128 {
        self.cone.packing.sum(state).wrapping_add(Packing::place(&state.position, enters))
    }

    fn end_broken(&mut self, parent: u32, act: Act, broken: &Broken) {
        let mut acts = self.path(parent);
        acts.push(act);
        self.ended = Some(self.told(&acts, broken));
        self.broken_by = acts;
    }

    /// The spec with a counter for each source.
    pub(super) fn spec(&self) -> &Spec {
        &self.spec
    }

    pub(super) fn question(&self) -> &Question {
        &self.question
    }

    pub(super) fn repertoire(&self) -> &Repertoire {
        &self.repertoire
    }

    /// Does one thing in a state that play may never come to; the state after it and what is wrong there, if it breaks what is asked.
    pub(super) fn breaks(&self, before: &Progress, act: Act) -> Option<(Progress, String)> {
        let mut worker = self.worker();
        worker.before.state_mut().copy_from(before.state());
        worker.is_near = false;
        let broken = self.step(&mut worker, act).flatten();
        let found = broken.map(|broken| (worker.after.clone(), broken.what));
        self.workers.lock().unwrap_or_else(PoisonError::into_inner).push(worker);
        found
    }

    /// Lifts all locks of the question, if that leaves something out.
    pub(super) fn relaxation(&self) -> Option<Relaxation> {
        Relaxation::of(&self.spec, &self.question, &mattering_unlocked(&self.spec, &self.question))
    }

    /// The searches that together are one with these locks lifted.
    pub(super) fn focused(&self, relaxation: &Relaxation) -> Vec<Relaxation> {
        relaxation.focused(&self.spec, &self.question, &mattering_unlocked(&self.spec, &self.question))
    }

    /// Puts one more lock on; none if that is not better than all of them.
    pub(super) fn locked(&self, relaxation: &Relaxation, level: u32) -> Option<Relaxation> {
        relaxation.locked(&self.spec, level)
    }

    /// The acts that have broken it.
    pub(super) fn broken_by(&self) -> &[Act] {
        &self.broken_by
    }

    /// Plays acts of a search that had locks lifted, and had seen as much.
    pub(super) fn replay(&self, acts: &[Act], seen: Seen) -> Replayed {
        let mut worker = self.worker();
        let first = Progress::fresh(&self.spec);
        worker.before.state_mut().copy_from(first.state());
        for (index, act) in acts.iter().enumerate() {
            // A search with all locks on may try fewer writes than one of a single level; play can do all of them.
            let possible =
                matches!(act, Act::Write(_)) || self.repertoire.acts(&worker.spec, &worker.before).contains(act);
            if !possible {
                return if let Act::Enter(level) = act { Replayed::LockedOut(*level) } else { Replayed::Otherwise };
            }
            worker.is_near = false;
            match self.step(&mut worker, *act) {
                Some(Some(broken)) => {
                    let (acts, writes) = (&acts[..=index], &self.repertoire.writes);
                    let told = tell(self.plain, &self.question, acts, writes, &broken, seen);
                    return Replayed::Broken(Ending::Broken(Box::new(told)));
                }
                Some(None) => worker.before.state_mut().copy_from(worker.after.state()),
                None => return Replayed::Otherwise,
            }
        }
        Replayed::Otherwise
    }

    /// Returns how a state was first reached.
    fn path(&self, mut at: u32) -> Vec<Act> {
        let mut acts = Vec::new();
        while at != 0 {
            let visit = self.visits[at as usize];
            acts.push(visit.act);
            at = visit.parent;
        }
        acts.reverse();
        acts
    }

    fn is_all_completed(&self) -> bool {
        matches!(self.question.asked, Asked::Reachable) && !self.tally.completed.contains(&false)
    }

    /// For each level the shortest play that completes it.
    fn completing(&self) -> Vec<Witness> {
        let plays = self.tally.completed_by.iter().map(|(level, id)| {
            let expect = format!("completed[{}]", self.spec.model().level(*level).id);
            witness(self.plain, &self.question, &self.path(*id), &expect)
        });
        plays.collect()
    }

    fn told(&self, acts: &[Act], broken: &Broken) -> Ending {
        Ending::Broken(Box::new(tell(self.plain, &self.question, acts, &self.repertoire.writes, broken, self.seen)))
    }
}
