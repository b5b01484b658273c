//! Origins as the member `origin` of an image.
//!
//! Installations are listed once, in the order of their ids, and meant by their place in that list from then on; what was there before
//! all saves has the place -1. So a save of four installations takes some hundred bytes more.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use crate::origin::amount::Amount;
use crate::origin::{Amounts, Change, Changes, Dot, Installation, InstallationId, RunOrigin, SavedOrigin};
use vestigum_spec::value::tree::{Tree, Values};

impl SavedOrigin {
    /// The origin as an image writes it. Equal origins give equal trees.
    pub(crate) fn to_tree(&self) -> Tree {
        let writer = Writer { ids: self.named() };
        let from = writer.ids.iter().map(|id| {
            let Installation { count, tag } = self.from.get(id).cloned().unwrap_or_default();
            Tree::List(vec![Tree::Text(id.clone()), number(count), Tree::Text(tag)])
        });
        let mut map = Values::new();
        let mut put = |name: &str, tree: Tree| {
            let is_empty = matches!(&tree, Tree::List(items) if items.is_empty())
                || matches!(&tree, Tree::Map(entries) if entries.is_empty());
            if !is_empty {
                map.insert(name.into(), tree);
            }
        };
        put("from", Tree::List(from.collect()));
        put("sums", writer.amounts(&self.sums));
        put("cut", Tree::Map(self.cut.iter().map(|(path, cut)| (path.clone(), writer.cut(cut))).collect()));
        let changed = self.changed.iter().filter(|(_, changes)| !changes.by.is_empty());
        put("changed", Tree::Map(changed.map(|(path, changes)| (path.clone(), writer.changes(changes))).collect()));
        put("rows", Tree::Map(self.rows.iter().map(|(path, rows)| (path.clone(), writer.rows(rows))).collect()));
        let taken = self.changed.iter().filter_map(|(path, changes)| Some((path.clone(), changes.taken.clone()?)));
        put("taken", Tree::Map(taken.collect()));
        let claims = self.claims.iter().map(|(visit, amounts)| {
            let [at, count] = writer.dot(visit);
            Tree::List(vec![at, count, writer.amounts(amounts)])
        });
        put("claims", Tree::List(claims.collect()));
        let gone = self.gone.iter().map(|(id, count)| Tree::List(vec![writer.place(id), number(*count)]));
        put("gone", Tree::List(gone.collect()));
        let [at, count] = writer.dot(&self.run.dot);
        let mut run = vec![at, count, Tree::Int(self.run.at)];
        run.extend(self.run.visit.iter().flat_map(|visit| writer.dot(visit)));
        put("run", Tree::List(run));
        put("pending", writer.amounts(&self.run.pending));
        Tree::Map(map)
    }

    /// Every installation that is meant anywhere, in the order of the ids.
    fn named(&self) -> Vec<InstallationId> {
        let mut ids: BTreeSet<&InstallationId> =
            self.from.iter().filter(|(_, known)| known.count > 0).map(|(id, _)| id).collect();
        let amounts = [&self.sums, &self.run.pending].into_iter().chain(self.claims.values());
        ids.extend(amounts.flat_map(|amounts| amounts.values()).flat_map(BTreeMap::keys));
        ids.extend(self.gone.keys());
        let dots = self.cut.values().flat_map(BTreeMap::keys);
        let dots = dots.chain(self.rows.values().flatten().flat_map(BTreeMap::keys));
        let dots = dots.chain(self.changed.values().flat_map(|changes| changes.by.keys()));
        let dots = dots.chain(self.claims.keys()).chain([&self.run.dot]).chain(&self.run.visit);
        ids.extend(dots.filter(|dot| !dot.by.is_empty()).map(|dot| &dot.by));
        ids.into_iter().cloned().collect()
    }

    /// Reads what an image says.
    ///
    /// # Errors
    /// In words, if it is not an origin.
    pub(crate) fn of_tree(tree: Tree) -> Result<SavedOrigin, String> {
        let Tree::Map(mut map) = tree else { return Err(format!("`origin` is {}, and a map is wanted", tree.kind())) };
        let mut part = |name: &str| map.remove(name);
        let mut origin = SavedOrigin::default();
        let mut ids = Vec::new();
        for known in list("from", part("from"))? {
            let Tree::List(known) = known else { return Err(wrong("from")) };
            let [Tree::Text(id), count, Tree::Text(tag)] = &known[..] else { return Err(wrong("from")) };
            let count = counted(count).ok_or_else(|| wrong("from"))?;
            if id.is_empty() || ids.last().is_some_and(|last: &InstallationId| last >= id) {
                return Err("`origin.from` is not in the order of its ids".to_owned());
            }
            ids.push(id.clone());
            if count > 0 {
                origin.from.insert(id.clone(), Installation { count, tag: tag.clone() });
            }
        }
        let reader = Reader { ids };
        origin.sums = reader.amounts("sums", part("sums"))?;
        for (path, cut) in entries("cut", part("cut"))? {
            let mut of_path = BTreeMap::new();
            for item in list("cut", Some(cut))? {
                let Tree::List(item) = item else { return Err(wrong("cut")) };
                let [at, count, amount] = &item[..] else { return Err(wrong("cut")) };
                let amount = Amount::of_tree(amount).ok_or_else(|| wrong("cut"))?;
                of_path.insert(reader.dot("cut", at, count)?, amount);
            }
            origin.cut.insert(path, of_path);
        }
        for (path, changes) in entries("changed", part("changed"))? {
            let by = reader.changes(changes)?;
            origin.changed.insert(path, Changes { by, taken: None });
        }
        for (path, rows) in entries("rows", part("rows"))? {
            origin.rows.insert(path, reader.rows(rows)?);
        }
        for (path, taken) in entries("taken", part("taken"))? {
            origin.changed.entry(path).or_default().taken = Some(taken);
        }
        for claim in list("claims", part("claims"))? {
            let Tree::List(claim) = claim else { return Err(wrong("claims")) };
            let [at, count, amounts] = <[Tree; 3]>::try_from(claim).map_err(|_| wrong("claims"))?;
            origin.claims.insert(reader.dot("claims", &at, &count)?, reader.amounts("claims", Some(amounts))?);
        }
        for gone in list("gone", part("gone"))? {
            let Tree::List(gone) = gone else { return Err(wrong("gone")) };
            let [at, count] = &gone[..] else { return Err(wrong("gone")) };
            origin.gone.insert(reader.id("gone", at)?, counted(count).ok_or_else(|| wrong("gone"))?);
        }
        origin.run = reader.run(part("run"), part("pending"))?;
        match map.first_key_value() {
            None => Ok(origin),
            Some((name, _)) => Err(format!("`origin.{}` is not part of an image", name.escape_default())),
        }
    }
}

fn number(count: u64) -> Tree {
    Tree::Int(i64::try_from(count).unwrap_or(i64::MAX))
}

fn counted(tree: &Tree) -> Option<u64> {
    if let Tree::Int(int) = tree { u64::try_from(*int).ok() } else { None }
}

fn wrong(part: &str) -> String {
    format!("`origin.{part}` is not as an image writes it")
}

fn list(part: &str, tree: Option<Tree>) -> Result<Vec<Tree>, String> {
    match tree {
        None => Ok(Vec::new()),
        Some(Tree::List(items)) => Ok(items),
        Some(_) => Err(wrong(part)),
    }
}

fn entries(part: &str, tree: Option<Tree>) -> Result<Values, String> {
    match tree {
        None => Ok(Values::new()),
        Some(Tree::Map(entries)) => Ok(entries),
        Some(_) => Err(wrong(part)),
    }
}

struct Writer {
    ids: Vec<InstallationId>,
}

impl Writer {
    fn place(&self, id: &str) -> Tree {
        let place = self.ids.binary_search_by(|known| (**known).cmp(id));
        Tree::Int(place.map_or(-1, |place| place as i64))
    }

    fn dot(&self, dot: &Dot) -> [Tree; 2] {
        [self.place(&dot.by), number(dot.count)]
    }

    fn short(&self, dot: &Dot) -> Tree {
        let place = self.ids.binary_search(&dot.by).map_or(0, |place| place as u64 + 1);
        number(dot.count.saturating_mul(self.ids.len() as u64 + 1).saturating_add(place))
    }

    fn amounts(&self, amounts: &Amounts) -> Tree {
        let list = |of: &BTreeMap<InstallationId, Amount>| {
            let mut list: Vec<Tree> =
                self.ids.iter().map(|id| of.get(id).copied().unwrap_or(Amount::Int(0)).tree()).collect();
            let used = list.iter().rposition(|amount| *amount != Tree::Int(0)).map_or(0, |last| last + 1);
            list.truncate(used);
            Tree::List(list)
        };
        Tree::Map(amounts.iter().map(|(path, of)| (path.clone(), list(of))).collect())
    }

    fn cut(&self, cut: &BTreeMap<Dot, Amount>) -> Tree {
        let items = cut.iter().map(|(dot, amount)| {
            let [at, count] = self.dot(dot);
            Tree::List(vec![at, count, amount.tree()])
        });
        Tree::List(items.collect())
    }

    /// Writes one number for each row where each has one change: the number of the save times one more than there are installations, and
    /// the place of the installation, counted from 1.
    fn rows(&self, rows: &[BTreeMap<Dot, Change>]) -> Tree {
        let plain = |row: &BTreeMap<Dot, Change>| row.len() == 1 && row.values().all(|change| change.times == 1);
        if rows.iter().all(plain) {
            return Tree::List(rows.iter().flat_map(BTreeMap::keys).map(|dot| self.short(dot)).collect());
        }
        let row = |row: &BTreeMap<Dot, Change>| {
            Tree::List(row.iter().map(|(dot, change)| self.change(dot, change)).collect())
        };
        Tree::List(rows.iter().map(row).collect())
    }

    /// One change is a list of numbers, several are a list of those.
    fn changes(&self, changes: &Changes) -> Tree {
        let mut all: Vec<Tree> = changes.by.iter().map(|(dot, change)| self.change(dot, change)).collect();
        if all.len() == 1 { all.remove(0) } else { Tree::List(all) }
    }

    fn change(&self, dot: &Dot, Change { at, times, value }: &Change) -> Tree {
        let mut list = Vec::from(self.dot(dot));
        if *at != 0 || *times != 1 || value.is_some() {
            list.push(Tree::Int(*at));
        }
        if *times != 1 || value.is_some() {
            list.push(Tree::Int(i64::from(*times)));
        }
        list.extend(value.clone());
        Tree::List(list)
    }
}

struct Reader {
    ids: Vec<InstallationId>,
}

impl Reader {
    fn id(&self, part: &str, at: &Tree) -> Result<InstallationId, String> {
        let place = if let Tree::Int(place) = at { usize::try_from(*place).ok() } else { None };
        place.and_then(|place| self.ids.get(place)).cloned().ok_or_else(|| wrong(part))
    }

    fn dot(&self, part: &str, at: &Tree, count: &Tree) -> Result<Dot, String> {
        let by: Arc<str> = if *at == Tree::Int(-1) { "".into() } else { self.id(part, at)? };
        Ok(Dot { by, count: counted(count).ok_or_else(|| wrong(part))? })
    }

    fn amounts(&self, part: &str, tree: Option<Tree>) -> Result<Amounts, String> {
        let mut amounts = Amounts::new();
        for (path, of) in entries(part, tree)? {
            let items = list(part, Some(of))?;
            if items.len() > self.ids.len() {
                return Err(wrong(part));
            }
            let mut known = BTreeMap::new();
            for (id, item) in self.ids.iter().zip(&items) {
                let amount = Amount::of_tree(item).ok_or_else(|| wrong(part))?;
                if !amount.is_zero() {
                    known.insert(id.clone(), amount);
                }
            }
            amounts.insert(path, known);
        }
        Ok(amounts)
    }

    fn changes(&self, tree: Tree) -> Result<BTreeMap<Dot, Change>, String> {
        let items = list("changed", Some(tree))?;
        let is_one = matches!(items.first(), Some(Tree::Int(_)));
        let lists = if is_one { vec![Tree::List(items)] } else { items };
        let mut by = BTreeMap::new();
        for item in lists {
            let items = list("changed", Some(item))?;
            let (at, times, value) = match &items[..] {
                [_, _] => (0, 1, None),
                [_, _, Tree::Int(at)] => (*at, 1, None),
                [_, _, Tree::Int(at), Tree::Int(times)] => (*at, *times, None),
                [_, _, Tree::Int(at), Tree::Int(times), value] => (*at, *times, Some(value.clone())),
                _ => return Err(wrong("changed")),
            };
            let times = u32::try_from(times).map_err(|_| wrong("changed"))?;
            by.insert(self.dot("changed", &items[0], &items[1])?, Change { at, times, value });
        }
        Ok(by)
    }

    fn rows(&self, tree: Tree) -> Result<Vec<BTreeMap<Dot, Change>>, String> {
        let items = list("rows", Some(tree))?;
        if matches!(items.first(), Some(Tree::Int(_))) {
            let row = |short: &Tree| {
                let short = counted(short).ok_or_else(|| wrong("rows"))?;
                let each = self.ids.len() as u64 + 1;
                let by = match usize::try_from(short % each).ok().and_then(|place| place.checked_sub(1)) {
                    Some(place) => self.ids[place].clone(),
                    None => "".into(),
                };
                let dot = Dot { by, count: short / each };
                Ok(BTreeMap::from([(dot, Change { at: 0, times: 1, value: None })]))
            };
            return items.iter().map(row).collect();
        }
        items.into_iter().map(|row| self.changes(row)).collect()
    }

    fn run(&self, run: Option<Tree>, pending: Option<Tree>) -> Result<RunOrigin, String> {
        let items = list("run", run)?;
        let (visit, at) = match &items[..] {
            [] => return Ok(RunOrigin::default()),
            [_, _, Tree::Int(at)] => (None, *at),
            [_, _, Tree::Int(at), by, count] => (Some(self.dot("run", by, count)?), *at),
            _ => return Err(wrong("run")),
        };
        let dot = self.dot("run", &items[0], &items[1])?;
        Ok(RunOrigin { dot, at, visit, pending: self.amounts("pending", pending)? })
    }
}
