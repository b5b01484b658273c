//! Several shapes of one version as one: what a save of any of them can hold.
//!
//! A version that was patched, or frozen on two branches, has several shapes. Where they speak of the same thing in the same way
//! the union has what either has, and the wider limits; where they do not, it keeps what the first says and tells the conflict.

use crate::history::shape::{FieldShape, KeysShape, LevelShape, MemberShape, MoreShape, Shape, StructShape};
use crate::model::field::{BLOB, RANKING};
use crate::value;
use crate::value::limits::Limits;
use crate::value::ranking::Ranking;
use crate::value::tree::Tree;

/// Something that a shape names.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Named<'a> {
    Field(&'a str),
    Level(&'a str),
    /// A level and its checkpoint.
    Checkpoint(&'a str, &'a str),
    KeySet(&'a str),
    /// A key set and its key.
    Key(&'a str, &'a str),
    /// A field, or a struct and its member with a point between, and a choice.
    Choice(&'a str, &'a str),
    /// A struct and its member.
    Member(&'a str, &'a str),
}

/// Adds shapes to one.
pub(crate) struct Union<'a> {
    pub shape: Shape,
    /// Decides whether something that only the other shape names is added.
    pub takes: &'a dyn Fn(Named<'_>) -> bool,
    /// Lists what two shapes say in different ways.
    pub conflicts: Vec<String>,
}

impl Union<'_> {
    /// The union of several shapes, and what they say in different ways.
    pub(crate) fn of<'s>(shapes: impl IntoIterator<Item = &'s Shape>) -> Option<(Shape, Vec<String>)> {
        let mut shapes = shapes.into_iter();
        let mut union = Union { shape: shapes.next()?.clone(), takes: &|_| true, conflicts: Vec::new() };
        shapes.for_each(|shape| union.add(shape));
        (union.shape.migration, union.shape.from) = (None, Vec::new());
        Some((union.shape, union.conflicts))
    }

    /// Adds what another shape has.
    pub(crate) fn add(&mut self, other: &Shape) {
        self.levels(&other.levels);
        self.shape.made = self.shape.made.max(other.made);
        self.keys(&other.keys);
        self.structs(&other.structs);
        for field in &other.fields {
            self.field(field);
        }
    }

    fn levels(&mut self, other: &[LevelShape]) {
        for level in other {
            let at = self.shape.levels.iter().position(|known| known.id == level.id);
            let Some(at) = at.or_else(|| {
                (self.takes)(Named::Level(&level.id)).then(|| {
                    self.shape.levels.push(LevelShape { id: level.id.clone(), checkpoints: Vec::new() });
                    self.shape.levels.len() - 1
                })
            }) else {
                continue;
            };
            for name in &level.checkpoints {
                let known = self.shape.levels[at].checkpoints.contains(name);
                if !known && (self.takes)(Named::Checkpoint(&level.id, name)) {
                    self.shape.levels[at].checkpoints.push(name.clone());
                }
            }
        }
    }

    fn keys(&mut self, other: &[KeysShape]) {
        for set in other {
            match self.shape.keys.iter_mut().find(|known| known.name == set.name) {
                Some(known) => match (known.max, set.max) {
                    (Some(one), Some(two)) => known.max = Some(one.max(two)),
                    (None, None) => {
                        let fresh = set.names.iter().filter(|name| !known.names.contains(name));
                        let fresh: Vec<String> =
                            fresh.filter(|name| (self.takes)(Named::Key(&set.name, name))).cloned().collect();
                        known.names.extend(fresh);
                    }
                    (Some(_), None) | (None, Some(_)) => {
                        let message =
                            format!("the key set `{}` is open in one and has declared names in the other", set.name);
                        self.conflicts.push(message);
                    }
                },
                None if (self.takes)(Named::KeySet(&set.name)) => self.shape.keys.push(set.clone()),
                None => {}
            }
        }
    }

    fn structs(&mut self, other: &[StructShape]) {
        for ty in other {
            let Some(known) = self.shape.structs.iter_mut().find(|known| known.name == ty.name) else {
                self.shape.structs.push(ty.clone());
                continue;
            };
            for member in &ty.members {
                let called = format!("{}.{}", ty.name, member.name());
                match known.members.iter_mut().find(|known| known.name() == member.name()) {
                    Some(known) if known.ty() != member.ty() => self.conflicts.push(format!(
                        "`{called}` is of type {} in one and of type {} in the other",
                        known.ty(),
                        member.ty()
                    )),
                    Some(known) => {
                        let (mut one, two) = (known.more(), member.more());
                        let takes = |choice: &String| (self.takes)(Named::Choice(&called, choice));
                        add_names(&mut one.of, &two.of, &takes);
                        one.range = wider(one.range, two.range);
                        one.max_len = one.max_len.zip(two.max_len).map(|(one, two)| one.max(two));
                        *known = MemberShape::new(known.name(), known.ty(), one);
                    }
                    None if (self.takes)(Named::Member(&ty.name, member.name())) => known.members.push(member.clone()),
                    None => {}
                }
            }
        }
    }

    fn field(&mut self, other: &FieldShape) {
        let Some(known) = self.shape.fields.iter_mut().find(|known| known.name == other.name) else {
            if (self.takes)(Named::Field(&other.name)) {
                self.shape.fields.push(other.clone());
            }
            return;
        };
        if let Some(conflict) = conflict(known, other) {
            self.conflicts.push(conflict);
            return;
        }
        let takes = |choice: &String| (self.takes)(Named::Choice(&other.name, choice));
        add_names(&mut known.of, &other.of, &takes);
        known.range = wider(known.range.take(), other.range.clone());
        known.max_len = Some(known.len().max(other.len())).filter(|len| *len != known.usual_len());
        // What can be without a value in one can be so in both.
        known.default = match (known.default.take(), &other.default) {
            (Some(one), Some(two)) => Some(with_members(&one, two)),
            (None, _) | (_, None) => None,
        };
        known.rewinds |= other.rewinds;
    }
}

impl FieldShape {
    /// The greatest length where the shape says none.
    fn usual_len(&self) -> usize {
        if !self.by.is_empty() || self.ty.starts_with(RANKING) {
            Ranking::DEFAULT_MAX
        } else if self.ty == BLOB {
            Limits::DEFAULT_BLOB_LEN
        } else {
            Limits::DEFAULT_MAX_LEN
        }
    }

    /// Returns how much a value holds at most.
    pub(super) fn len(&self) -> usize {
        self.max_len.unwrap_or_else(|| self.usual_len())
    }

    fn is_devices(&self) -> bool {
        self.lasts == "device"
    }
}

/// Says what keeps two shapes of a field from being one.
fn conflict(one: &FieldShape, two: &FieldShape) -> Option<String> {
    let name = &one.name;
    let axes = |field: &FieldShape| match &field.per[..] {
        [] => "one value".to_owned(),
        axes => format!("one for each {}", axes.join(" and ")),
    };
    if one.ty != two.ty {
        return Some(format!("`{name}` is of type {} in one and of type {} in the other", one.ty, two.ty));
    }
    if one.per != two.per {
        return Some(format!("`{name}` has {} in one and {} in the other", axes(one), axes(two)));
    }
    if one.is_devices() != two.is_devices() {
        return Some(format!("`{name}` belongs to the player in one and to the device in the other"));
    }
    if one.by != two.by {
        return Some(format!(
            "`{name}` is sorted by {} in one and by {} in the other",
            one.by.join(", "),
            two.by.join(", ")
        ));
    }
    let agree = one.default.as_ref().zip(two.default.as_ref()).is_none_or(|(one, two)| agree(one, two));
    if !one.per.is_empty() && !agree {
        return Some(format!("`{name}` has two defaults, and saves leave out the entries that are at it"));
    }
    None
}

/// Compares two defaults, but for members that only one of them has.
fn agree(one: &Tree, two: &Tree) -> bool {
    match (one, two) {
        (Tree::Map(one), Tree::Map(two)) => {
            one.iter().all(|(name, tree)| two.get(name).is_none_or(|other| agree(tree, other)))
        }
        (one, two) => one == two,
    }
}

/// A default with the members that only the other has.
fn with_members(one: &Tree, two: &Tree) -> Tree {
    match (one, two) {
        (Tree::Map(one), Tree::Map(two)) => {
            let mut members = two.clone();
            for (name, tree) in one {
                let tree = two.get(name).map_or_else(|| tree.clone(), |other| with_members(tree, other));
                members.insert(name.clone(), tree);
            }
            Tree::Map(members)
        }
        (one, _) => one.clone(),
    }
}

fn add_names(to: &mut Vec<String>, from: &[String], takes: &dyn Fn(&String) -> bool) {
    let fresh: Vec<String> = from.iter().filter(|name| !to.contains(name) && takes(name)).cloned().collect();
    to.extend(fresh);
}

/// The range that holds both. Without a range a number can be any.
fn wider(one: Option<(Tree, Tree)>, two: Option<(Tree, Tree)>) -> Option<(Tree, Tree)> {
    let ((low, high), (lowest, highest)) = one.zip(two)?;
    Some((if below(&lowest, &low) { lowest } else { low }, if below(&high, &highest) { highest } else { high }))
}

pub(super) fn below(one: &Tree, two: &Tree) -> bool {
    value::below(&one.plain(), &two.plain())
}

impl MemberShape {
    pub(super) fn name(&self) -> &str {
        let (MemberShape::Plain(name, _) | MemberShape::More(name, ..)) = self;
        name
    }

    pub(super) fn ty(&self) -> &str {
        let (MemberShape::Plain(_, ty) | MemberShape::More(_, ty, _)) = self;
        ty
    }

    pub(super) fn more(&self) -> MoreShape {
        match self {
            MemberShape::Plain(..) => MoreShape::default(),
            MemberShape::More(_, _, more) => more.clone(),
        }
    }

    pub(super) fn new(name: &str, ty: &str, more: MoreShape) -> MemberShape {
        let (name, ty) = (name.to_owned(), ty.to_owned());
        if more == MoreShape::default() { MemberShape::Plain(name, ty) } else { MemberShape::More(name, ty, more) }
    }
}

impl Shape {
    /// Takes the limits of numbers and lengths away, as far as they are not what a model sets aside memory for.
    pub fn lift_limits(&mut self) {
        /// More characters, bytes or items than a save of the largest size holds.
        const ANY_LEN: usize = 64 << 20;
        for field in &mut self.fields {
            field.range = None;
            field.max_len = Some(if field.by.is_empty() { ANY_LEN } else { Ranking::MAX });
        }
        for member in self.structs.iter_mut().flat_map(|ty| &mut ty.members) {
            let more = MoreShape { range: None, max_len: None, ..member.more() };
            *member = MemberShape::new(member.name(), member.ty(), more);
        }
    }
}
