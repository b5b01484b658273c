//! What the names of one version have become in the next.
//!
//! Where no step says otherwise a name stays what it is. What a step renamed has its new name, what it dropped has none.

use std::sync::Arc;

use rustc_hash::{FxHashMap, FxHashSet};

use crate::migration::plan::{Fill, MemberFill};
use crate::model::Model;
use crate::model::axis::Axis;
use crate::model::field::{Field, FieldId};
use crate::model::node::Node;
use crate::value::types::{Member, StructType, Type};
use crate::value::{Chosen, Value};

/// A name of the new version, or none for what a step drops.
type Now = Option<Arc<str>>;

/// Whose a choice is, in the old version.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum ChoiceOwner {
    /// A field.
    Field(FieldId),
    /// A struct and its member.
    Member(Arc<str>, Arc<str>),
}

/// From the names of the old version to those of the new one; `None` is dropped.
#[derive(Debug, Default)]
pub struct Renames {
    pub levels: FxHashMap<u32, Option<u32>>,
    /// By old level and the place of the checkpoint in it.
    pub checkpoints: FxHashMap<(u32, u32), Option<u32>>,
    pub sets: FxHashMap<u32, u32>,
    /// By old set and name: open sets have names that no version declares.
    pub keys: FxHashMap<(u32, Arc<str>), Now>,
    /// Old open sets where a step drops every name that has no place: `*`.
    pub rest: FxHashSet<u32>,
    /// By old field or member and choice.
    pub choices: FxHashMap<(ChoiceOwner, Arc<str>), Now>,
    /// By struct and member.
    pub members: FxHashMap<(Arc<str>, Arc<str>), Now>,
    pub fields: FxHashMap<FieldId, FieldStep>,
}

/// Describes what the steps say about a field.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FieldStep {
    Renamed(FieldId),
    Dropped,
}

/// The names of one version and what they are in the next.
#[derive(Debug)]
pub struct NameMap {
    said: Renames,
    /// For each level of the older version, the one that it is now.
    pub levels: Vec<Option<u32>>,
    /// On the axis of checkpoints.
    checkpoint_keys: Vec<Option<u32>>,
    /// For each key set of the older version, the one that it is now.
    pub sets: Vec<Option<u32>>,
    /// Says which levels, checkpoints and key sets of the old version the new ones were.
    pub old_levels: Vec<Option<u32>>,
    /// For each checkpoint of the newer version, the one that it was.
    pub old_stops: Vec<Option<u32>>,
    /// For each key set of the newer version, the one that it was.
    pub old_sets: Vec<Option<u32>>,
    /// The structs of the new version.
    structs: FxHashSet<Arc<str>>,
    /// Members that fills make.
    filled: FxHashSet<(FieldId, MemberPath)>,
    /// Members of the old version that those fills read, by the way to their struct and by name.
    read: FxHashSet<(FieldId, MemberPath, Arc<str>)>,
}

/// The way to a member or to a struct in the values of a field: names of the new version.
type MemberPath = Vec<Arc<str>>;

fn reversed(forward: &[Option<u32>], len: usize) -> Vec<Option<u32>> {
    let mut out = vec![None; len];
    for (old, new) in forward.iter().enumerate() {
        if let Some(new) = new {
            out[*new as usize] = Some(old as u32);
        }
    }
    out
}

impl NameMap {
    /// Works out what became of every name, from what the steps say and from names that stayed.
    pub fn new(old: &Model, new: &Model, said: Renames, fills: &[MemberFill], whole: &[Fill]) -> NameMap {
        let filled = fills.iter().map(|fill| (fill.field, fill.members.clone())).collect();
        let holder = |fill: &MemberFill| fill.members[..fill.members.len().saturating_sub(1)].to_vec();
        let read =
            fills.iter().flat_map(|fill| fill.reads.iter().map(move |name| (fill.field, holder(fill), name.clone())));
        // A fill of a field takes over what it reads of a struct, wherever the struct stays.
        let successor = |was: FieldId| match said.fields.get(&was) {
            Some(FieldStep::Renamed(now)) => Some(*now),
            Some(FieldStep::Dropped) => None,
            None => new.find_field(&old.field(was).name).map(|now| now.id),
        };
        let member_now = |ty: &Arc<str>, name: &Arc<str>| match said.members.get(&(ty.clone(), name.clone())) {
            Some(now) => now.clone(),
            None => Some(name.clone()),
        };
        let mut taken = Vec::new();
        whole.iter().for_each(|fill| members_read(fill.expression.node(), &mut taken));
        let of_fields = taken.into_iter().filter_map(|(was, members)| {
            let (last, before) = members.split_last()?;
            let mut holder = MemberPath::new();
            let mut ty = &old.field(was).ty;
            for name in before {
                let structure = ty.innermost().as_struct()?;
                holder.push(member_now(&structure.name, name)?);
                ty = &structure.members[structure.position(name)?].ty;
            }
            Some((successor(was)?, holder, last.clone()))
        });
        let read: FxHashSet<_> = read.chain(of_fields).collect();
        let levels = (0..old.levels.len() as u32).map(|level| {
            let same = || new.level_ids.get(&old.level(level).id).copied();
            said.levels.get(&level).copied().unwrap_or_else(same)
        });
        let levels: Vec<Option<u32>> = levels.collect();
        let checkpoint_keys = old.checkpoint_keys.iter().map(|(level, checkpoint)| {
            let now = levels[*level as usize]?;
            let name = &old.level(*level).checkpoints[*checkpoint as usize];
            let same = || new.level(now).checkpoints.get_index_of(name).map(|index| index as u32);
            new.checkpoint_key(now, said.checkpoints.get(&(*level, *checkpoint)).copied().unwrap_or_else(same)?)
        });
        let checkpoint_keys: Vec<Option<u32>> = checkpoint_keys.collect();
        let sets = old.key_sets.iter().zip(0..).map(|(set, index)| {
            let same = || new.key_sets.iter().position(|known| known.name == set.name).map(|index| index as u32);
            said.sets.get(&index).copied().or_else(same)
        });
        let sets: Vec<Option<u32>> = sets.collect();
        NameMap {
            old_levels: reversed(&levels, new.levels.len()),
            old_stops: reversed(&checkpoint_keys, new.checkpoint_keys.len()),
            old_sets: reversed(&sets, new.key_sets.len()),
            structs: new.structs.iter().map(|ty| ty.name.clone()).collect(),
            filled,
            read,
            said,
            levels,
            checkpoint_keys,
            sets,
        }
    }

    /// Returns what the steps say about a field.
    pub fn step(&self, field: FieldId) -> Option<FieldStep> {
        self.said.fields.get(&field).copied()
    }

    /// Returns whether a step gives the level up.
    pub fn drops_level(&self, level: u32) -> bool {
        self.said.levels.get(&level) == Some(&None)
    }

    /// Returns whether a step gives the checkpoint up.
    pub fn drops_checkpoint(&self, level: u32, checkpoint: u32) -> bool {
        self.said.checkpoints.get(&(level, checkpoint)) == Some(&None)
    }

    /// Returns whether a step gives the key up.
    pub fn drops_key(&self, set: u32, key: &Arc<str>) -> bool {
        self.said.keys.get(&(set, key.clone())) == Some(&None)
    }

    /// Checks whether a step gives up the names of a set that have no place.
    pub fn drops_rest(&self, set: u32) -> bool {
        self.said.rest.contains(&set)
    }

    /// Counts the choices of a field or member that steps give up.
    pub fn dropped_choices(&self, of: &ChoiceOwner) -> usize {
        self.said.choices.iter().filter(|((known, _), now)| known == of && now.is_none()).count()
    }

    /// The name of a checkpoint in the new version.
    pub fn checkpoint(&self, old: &Model, new: &Model, level: u32, name: &str) -> Option<Arc<str>> {
        let now = self.levels[level as usize]?;
        let listed = old.level(level).checkpoints.get_index_of(name);
        match listed.and_then(|index| old.checkpoint_key(level, index as u32)) {
            Some(stop) => {
                let (_, checkpoint) = new.checkpoint_keys[self.checkpoint_keys[stop as usize]? as usize];
                Some(new.level(now).checkpoints[checkpoint as usize].clone())
            }
            // Levels that list none take any name.
            None => Some(name.into()),
        }
    }

    /// The name of a key in the new version.
    pub fn key(&self, set: u32, name: &Arc<str>) -> Option<Arc<str>> {
        match self.said.keys.get(&(set, name.clone())) {
            Some(said) => said.clone(),
            None => Some(name.clone()),
        }
    }

    /// Returns what a key of the old version was called that has this name in the new one.
    pub fn key_before(&self, set: u32, name: &Arc<str>) -> Arc<str> {
        let renamed = self.said.keys.iter().find(|((of, _), now)| *of == set && now.as_ref() == Some(name));
        renamed.map_or(name, |((_, was), _)| was).clone()
    }

    /// Returns whether both are kept by the same things, whoever names the keys.
    pub fn same_sets(&self, was: &Field, is: &Field) -> bool {
        let same = |(was, is): (&Axis, &Axis)| match (was, is) {
            (Axis::Keys(was), Axis::Keys(is)) => self.sets[*was as usize] == Some(*is),
            (was, is) => was == is,
        };
        was.axes.len() == is.axes.len() && was.axes.iter().zip(&is.axes).all(same)
    }

    /// Returns whether both axes have the same kind of keys.
    pub fn same_axes(&self, old: &Model, new: &Model, was: &Field, is: &Field) -> bool {
        let open = |spec: &Model, axis: &Axis| spec.is_open(*axis);
        self.same_sets(was, is) && was.axes.iter().zip(&is.axes).all(|(was, is)| open(old, was) == open(new, is))
    }

    /// The key of the new version, by place. Keys of open sets are where their names were made.
    pub fn key_now(
        &self,
        new: &Model,
        axis: Axis,
        key: u32,
        name: Option<&Arc<str>>,
        made: impl Fn(u32, &str) -> Option<u32>,
    ) -> Option<u32> {
        match axis {
            Axis::Level => self.levels[key as usize],
            Axis::Checkpoint => self.checkpoint_keys[key as usize],
            Axis::Keys(set) => {
                let now = self.sets[set as usize]?;
                let name = self.key(set, name?)?;
                let keys = &new.key_sets[now as usize];
                if keys.max.is_some() { made(now, &name) } else { keys.names.get_index_of(&name).map(|key| key as u32) }
            }
        }
    }

    /// A choice's name in the new version.
    pub fn choice<'n>(&'n self, of: &ChoiceOwner, name: &'n Arc<str>) -> Option<&'n Arc<str>> {
        match self.said.choices.get(&(of.clone(), name.clone())) {
            Some(said) => said.as_ref(),
            None => Some(name),
        }
    }

    /// A member's name in the new version.
    pub fn member<'n>(&'n self, structure: &Arc<str>, name: &'n Arc<str>) -> Option<&'n Arc<str>> {
        match self.said.members.get(&(structure.clone(), name.clone())) {
            Some(said) => said.as_ref(),
            None => Some(name),
        }
    }

    /// Returns whether every value of `was` has one of `is`, with the new names; what stands in the way is told.
    pub fn fits(&self, was: &Field, is: &Field, lost: &mut Vec<Lost>) -> bool {
        self.fits_of(is.id, &Vec::new(), &ChoiceOwner::Field(was.id), &was.ty, &is.ty, lost)
    }

    /// Returns whether a part of a value fits. `field` is one of the new version.
    fn fits_of(
        &self,
        field: FieldId,
        path: &MemberPath,
        of: &ChoiceOwner,
        was: &Type,
        is: &Type,
        lost: &mut Vec<Lost>,
    ) -> bool {
        match (was, is) {
            (Type::Choice(was), Type::Choice(is)) => {
                for chosen in was.iter() {
                    let dropped = self.said.choices.get(&(of.clone(), chosen.name.clone())) == Some(&None);
                    let now = self.choice(of, &chosen.name);
                    if !dropped && now.is_none_or(|now| !is.iter().any(|known| known.name == *now)) {
                        lost.push(Lost::Choice {
                            of: of.clone(),
                            choice: chosen.name.clone(),
                            were: was.clone(),
                            are: is.clone(),
                        });
                    }
                }
                true
            }
            (Type::Struct(was), Type::Struct(is)) => {
                let mut fits = true;
                for Member { name, ty, .. } in &was.members {
                    let dropped = self.said.members.get(&(was.name.clone(), name.clone())) == Some(&None);
                    let now = self.member(&was.name, name).and_then(|now| is.position(now));
                    match now {
                        Some(index) => {
                            let inner = [&path[..], std::slice::from_ref(&is.members[index].name)].concat();
                            let of = ChoiceOwner::Member(was.name.clone(), name.clone());
                            fits &= self.filled.contains(&(field, inner.clone()))
                                || self.fits_of(field, &inner, &of, ty, &is.members[index].ty, lost);
                        }
                        None if self.read.contains(&(field, path.clone(), name.clone())) => {}
                        // The struct is there still, with its members, and the field is of another one: that is not a renaming.
                        None if !dropped && was.name != is.name && self.structs.contains(&was.name) => return false,
                        None if !dropped => {
                            let new =
                                is.members.iter().filter(|new| new.ty == *ty && was.position(&new.name).is_none());
                            let fresh = new.map(|new| new.name.clone()).collect();
                            lost.push(Lost::Member { of: was.name.clone(), member: name.clone(), fresh });
                        }
                        None => {}
                    }
                }
                fits
            }
            (Type::List(was), Type::List(is)) | (Type::Set(was), Type::Set(is)) | (Type::Map(was), Type::Map(is)) => {
                self.fits_of(field, path, of, was, is, lost)
            }
            (was, is) => was == is,
        }
    }

    /// Says whether a fill reads a member of the old version and so takes it over: by the new field, the way to the struct that has
    /// it, and its name.
    pub fn takes_over(&self, field: FieldId, holder: &[Arc<str>], member: &Arc<str>) -> bool {
        self.read.contains(&(field, holder.to_vec(), member.clone()))
    }

    /// The name that a member of the new version had before.
    pub fn member_before<'t>(&self, was: &'t StructType, now: &str) -> Option<&'t Member> {
        was.members.iter().find(|member| self.member(&was.name, &member.name).is_some_and(|name| **name == *now))
    }

    /// The member of a struct, however deep, whose type is another one now.
    pub fn changed_member<'t>(&self, was: &'t Field, is: &'t Field) -> Option<Changed<'t>> {
        self.changed_inside(is.id, &Vec::new(), &was.ty, &is.ty)
    }

    fn changed_inside<'t>(
        &self,
        field: FieldId,
        path: &MemberPath,
        was: &'t Type,
        is: &'t Type,
    ) -> Option<Changed<'t>> {
        match (was, is) {
            (Type::Struct(was), Type::Struct(is)) => was.members.iter().find_map(|Member { name, ty, .. }| {
                let now = &is.members[self.member(&was.name, name).and_then(|now| is.position(now))?];
                let inner = [&path[..], std::slice::from_ref(&now.name)].concat();
                if self.filled.contains(&(field, inner.clone())) {
                    return None;
                }
                self.changed_inside(field, &inner, ty, &now.ty).or_else(|| {
                    let of = ChoiceOwner::Member(was.name.clone(), name.clone());
                    let fits = self.fits_of(field, &inner, &of, ty, &now.ty, &mut Vec::new());
                    (!fits).then(|| Changed { of: &was.name, member: name, path: inner, was: ty, is: &now.ty })
                })
            }),
            (Type::List(was), Type::List(is)) | (Type::Set(was), Type::Set(is)) | (Type::Map(was), Type::Map(is)) => {
                self.changed_inside(field, path, was, is)
            }
            _ => None,
        }
    }

    /// A value of the old type as one of the new; none if it was dropped.
    pub fn convert(&self, field: FieldId, value: &Value, was: &Type, is: &Type) -> Option<Value> {
        self.convert_of(&ChoiceOwner::Field(field), value, was, is)
    }

    /// Converts a value inside another.
    pub fn convert_of(&self, of: &ChoiceOwner, value: &Value, was: &Type, is: &Type) -> Option<Value> {
        Some(match (value, was, is) {
            (Value::Unfilled, ..) => Value::Unfilled,
            (Value::Choice(chosen), _, Type::Choice(names)) => Type::chosen(names, self.choice(of, &chosen.name)?)?,
            (Value::Struct(_, members), Type::Struct(was), Type::Struct(is)) => {
                let mut now: Vec<Value> = is.members.iter().map(|member| member.default.clone()).collect();
                for (Member { name, ty, .. }, value) in was.members.iter().zip(members.iter()) {
                    let Some(index) = self.member(&was.name, name).and_then(|now| is.position(now)) else { continue };
                    let of = ChoiceOwner::Member(was.name.clone(), name.clone());
                    if let Some(value) = self.convert_of(&of, value, ty, &is.members[index].ty) {
                        now[index] = value;
                    }
                }
                Value::Struct(is.clone(), Arc::new(now))
            }
            (Value::List(items), Type::List(was), Type::List(is)) => {
                Value::List(items.iter().filter_map(|item| self.convert_of(of, item, was, is)).collect())
            }
            (Value::Set(items), Type::Set(was), Type::Set(is)) => {
                Value::Set(items.iter().filter_map(|item| self.convert_of(of, item, was, is)).collect())
            }
            (Value::Map(entries), Type::Map(was), Type::Map(is)) => {
                let entries =
                    entries.iter().filter_map(|(key, item)| Some((key.clone(), self.convert_of(of, item, was, is)?)));
                Value::Map(entries.collect())
            }
            (value, was, is) if was == is => value.clone(),
            (Value::Int(int), _, Type::Float) => Value::float(*int as f64),
            _ => return None,
        })
    }
}

/// The members of fields that an expression reads: the field, and the names on the way.
fn members_read(node: &Node, found: &mut Vec<(FieldId, Vec<Arc<str>>)>) {
    let (mut names, mut at) = (Vec::new(), node);
    while let Node::Member(inner, name, _) = at {
        names.push(name.clone());
        at = inner;
    }
    if let (Node::Read(_, field, _), false) = (at, names.is_empty()) {
        names.reverse();
        found.push((*field, names));
        return;
    }
    node.any_part(&mut |part| {
        members_read(part, found);
        false
    });
}

/// A member of a struct that is of another type than before.
pub struct Changed<'t> {
    pub of: &'t str,
    pub member: &'t str,
    /// The names on the way to it, in the new version, and its own.
    pub path: Vec<Arc<str>>,
    pub was: &'t Type,
    pub is: &'t Type,
}

/// Describes what a type of the new version has no place for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Lost {
    /// A choice, and those there were and are.
    Choice { of: ChoiceOwner, choice: Arc<str>, were: Arc<[Arc<Chosen>]>, are: Arc<[Arc<Chosen>]> },
    /// A member of a struct, and those of its type that the struct did not have before.
    Member { of: Arc<str>, member: Arc<str>, fresh: Vec<Arc<str>> },
}

/// Returns whether a value of one type becomes one of the other under new names: what differs is only how choices and members
/// are called.
pub(crate) fn alike(was: &Type, is: &Type) -> bool {
    match (was, is) {
        (Type::Choice(_), Type::Choice(_)) | (Type::Struct(_), Type::Struct(_)) => true,
        (Type::List(was), Type::List(is)) | (Type::Set(was), Type::Set(is)) | (Type::Map(was), Type::Map(is)) => {
            alike(was, is)
        }
        (was, is) => was == is,
    }
}
