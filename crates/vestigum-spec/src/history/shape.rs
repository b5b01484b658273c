//! The shape of one version: what its saves hold, and nothing of what moments do to it.

use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::diagnostic::{SourceSpan, Spanned};
use crate::document::{Document, FieldEntry, KeysEntry, LevelEntry, MadeEntry, Word};
use crate::history::codes::CodeShape;
use crate::model::Model;
use crate::model::field::Field;
use crate::reading::resolve_frozen;
use crate::value::Value;
use crate::value::decode::decode;
use crate::value::limits::Limits;
use crate::value::ranking::Ranking;
use crate::value::tree::Tree;
use crate::value::types::{Member, Type};
use crate::vocabulary::span::{Lasts, Span};

/// The shape of one version, as the history file holds it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Shape {
    pub version: i64,
    /// The steps that led to it from the version before, as [`crate::migration::wording::recorded`] writes them. The first version has none, nor has one
    /// that was frozen before steps were recorded.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub migration: Option<Vec<String>>,
    /// Names the shapes of the version before that were known when those steps were recorded, by [`Shape::id`]. A history of format 1 does
    /// not say it; there each version has one shape.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub from: Vec<String>,
    /// Says how long `completed` and `opened` live.
    pub levels_last: String,
    pub resume: String,
    pub accept: String,
    pub levels: Vec<LevelShape>,
    /// Says how many levels players can make.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub made: Option<i64>,
    pub keys: Vec<KeysShape>,
    pub structs: Vec<StructShape>,
    pub fields: Vec<FieldShape>,
    /// The codes that it issues. No save holds them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub codes: Vec<CodeShape>,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LevelShape {
    pub id: String,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub checkpoints: Vec<String>,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct KeysShape {
    pub name: String,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub names: Vec<String>,
    /// For an open key set, how many names it can have.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max: Option<u32>,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct StructShape {
    pub name: String,
    pub members: Vec<MemberShape>,
}

/// A member: its name and its type, and the rest where there is more to say.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum MemberShape {
    Plain(String, String),
    More(String, String, MoreShape),
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct MoreShape {
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub of: Vec<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub range: Option<(Tree, Tree)>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_len: Option<usize>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub default: Option<Tree>,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FieldShape {
    pub name: String,
    #[serde(rename = "type")]
    pub ty: String,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub of: Vec<String>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub per: Vec<String>,
    pub lasts: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub range: Option<(Tree, Tree)>,
    /// By what the entries of a ranking are sorted.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub by: Vec<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_len: Option<usize>,
    /// Nothing for an optional field, which begins without a value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub default: Option<Tree>,
    /// Whether saves made in a level hold its marks.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub rewinds: bool,
}

impl Shape {
    /// The shape of what a spec saves. Session fields are never saved, so they are no part of it.
    pub fn of(data: &Model) -> Shape {
        let levels = data.shipped_levels().iter().map(|level| LevelShape {
            id: level.id.to_string(),
            checkpoints: level.checkpoints.iter().map(ToString::to_string).collect(),
        });
        let keys = data.key_sets.iter().map(|set| KeysShape {
            name: set.name.to_string(),
            names: set.names.iter().map(ToString::to_string).collect(),
            max: set.max,
        });
        let structs = data.structs.iter().map(|ty| StructShape {
            name: ty.name.to_string(),
            members: ty.members.iter().map(MemberShape::of).collect(),
        });
        let saved = data.fields.iter().filter(|field| field.lasts != Span::Session && !field.built_in);
        Shape {
            version: data.version,
            migration: None,
            from: Vec::new(),
            levels_last: match data.lasts {
                Lasts::Profile => "profile".into(),
                Lasts::Run => "run".into(),
            },
            resume: data.resume.word().into(),
            accept: data.accept.word().into(),
            levels: levels.collect(),
            made: Some(data.made_levels.len() as i64).filter(|made| *made > 0),
            keys: keys.collect(),
            structs: structs.collect(),
            fields: saved.map(|field| FieldShape::of(data, field)).collect(),
            codes: data.codes.iter().map(|code| CodeShape::of(data, code)).collect(),
        }
    }

    /// Hashes all of it, the steps that led to it among it: 32 hexadecimal digits, by which a history finds edits of itself.
    pub fn digest(&self) -> String {
        // A shape is made of texts, numbers and lists: writing it does not fail.
        let bytes = serde_json::to_vec(self).unwrap_or_default();
        blake3::hash(&bytes).to_hex().as_str()[..32].to_owned()
    }

    /// Hashes what its saves hold, whatever steps led to it and in whatever order it is declared: 16 hexadecimal digits, by which an image
    /// says its shape.
    pub fn id(&self) -> String {
        let mut saved = Shape { migration: None, from: Vec::new(), codes: Vec::new(), ..self.clone() };
        saved.levels.iter_mut().for_each(|level| level.checkpoints.sort_unstable());
        saved.levels.sort_by(|one, other| one.id.cmp(&other.id));
        saved.keys.iter_mut().for_each(|set| set.names.sort_unstable());
        saved.keys.sort_by(|one, other| one.name.cmp(&other.name));
        for ty in &mut saved.structs {
            for member in &mut ty.members {
                let mut more = member.more();
                more.of.sort_unstable();
                *member = MemberShape::new(member.name(), member.ty(), more);
            }
            ty.members.sort_by(|one, other| one.name().cmp(other.name()));
        }
        saved.structs.sort_by(|one, other| one.name.cmp(&other.name));
        saved.fields.iter_mut().for_each(|field| field.of.sort_unstable());
        saved.fields.sort_by(|one, other| one.name.cmp(&other.name));
        saved.digest()[..16].to_owned()
    }

    /// A model of that shape, without rules: images are read by it and expressions are checked against it.
    ///
    /// # Errors
    /// What is not sound about it: a history that the tool wrote has nothing of the kind.
    pub fn model(&self, game: &str) -> Result<Model, String> {
        let mut errors = Vec::new();
        let model = resolve_frozen(&self.document(game), &mut errors);
        if let Some(error) = errors.first() {
            return Err(error.message.clone());
        }
        let mut model = model.ok_or("it has too many values")?;
        for shape in &self.fields {
            let Some(id) = model.field_ids.get(shape.name.as_str()).copied() else { continue };
            shape.complete(&mut model.readable.types.fields[id.0 as usize])?;
        }
        model.shape = self.id().into();
        Ok(model)
    }

    fn document(&self, game: &str) -> Document {
        let mut document = Document::default();
        document.game.id = Some(word(game));
        document.game.version = Some(at(self.version));
        document.order = self.levels.iter().map(|level| word(&level.id)).collect();
        document.opening = Some(word("all"));
        document.made = self.made.map(|max| MadeEntry { max: Some(at(max)), ..MadeEntry::default() });
        document.levels_last = Some(word(&self.levels_last));
        document.accept = Some(word(&self.accept));
        document.save.resume = Some(word(&self.resume));
        for level in &self.levels {
            let checkpoints = level.checkpoints.iter().map(|name| word(name)).collect();
            document.levels.push((word(&level.id), LevelEntry { checkpoints, ..LevelEntry::default() }));
        }
        for set in &self.keys {
            let entry = KeysEntry {
                names: set.names.iter().map(|name| word(name)).collect(),
                open: set.max.is_some(),
                max: set.max.map(|max| at(i64::from(max))),
                current: None,
            };
            document.keys.push((word(&set.name), entry));
        }
        for ty in &self.structs {
            let members = ty.members.iter().map(MemberShape::entry).collect();
            document.structs.push((word(&ty.name), members));
        }
        for field in &self.fields {
            let entry = FieldEntry {
                ty: Some(word(&field.ty)),
                of: field.of.iter().map(|name| word(name)).collect(),
                by: field.by.iter().map(|by| word(by)).collect(),
                per: field.per.iter().map(|axis| word(axis)).collect(),
                lasts: Some(word(&field.lasts)),
                written_by: Some(word("rules")),
                optional: field.default.is_none(),
                ..FieldEntry::default()
            };
            document.fields.push((word(&field.name), entry));
        }
        document
    }
}

impl MemberShape {
    fn of(member: &Member) -> MemberShape {
        let (name, ty) = (member.name.to_string(), member.ty.to_string());
        let tree = |(lowest, highest): &(Value, Value)| (Tree::of(lowest), Tree::of(highest));
        let more = MoreShape {
            of: names(&member.ty),
            range: member.range.as_ref().map(tree),
            max_len: member.max_len,
            default: (member.default != member.ty.zero()).then(|| Tree::of(&member.default)),
        };
        MemberShape::new(&name, &ty, more)
    }

    /// As a document says it. What stands there as a literal is read by the type of the member.
    fn entry(&self) -> (Word, FieldEntry) {
        match self {
            MemberShape::Plain(name, ty) => (word(name), FieldEntry { ty: Some(word(ty)), ..FieldEntry::default() }),
            MemberShape::More(name, ty, more) => {
                let entry = FieldEntry {
                    ty: Some(word(ty)),
                    of: more.of.iter().map(|name| word(name)).collect(),
                    range: more.range.as_ref().map(|(lowest, highest)| at((at(lowest.plain()), at(highest.plain())))),
                    max_len: more.max_len.map(|len| at(len as i64)),
                    default: more.default.as_ref().map(|tree| at(tree.plain())),
                    ..FieldEntry::default()
                };
                (word(name), entry)
            }
        }
    }
}

impl FieldShape {
    fn of(spec: &Model, field: &Field) -> FieldShape {
        let Limits { range, max_len, .. } = &field.limits;
        let default_len = match field.ranking() {
            Some(_) => Ranking::DEFAULT_MAX,
            None if field.is_blob() => Limits::DEFAULT_BLOB_LEN,
            None => Limits::DEFAULT_MAX_LEN,
        };
        FieldShape {
            name: field.name.to_string(),
            ty: field.type_name(),
            by: field.ranking().map(Ranking::by).unwrap_or_default().iter().map(ToString::to_string).collect(),
            of: names(&field.ty),
            per: field.axes.iter().map(|axis| spec.axis_word(*axis).to_owned()).collect(),
            lasts: field.lasts.word().into(),
            range: range.as_ref().map(|(lowest, highest)| (Tree::of(lowest), Tree::of(highest))),
            max_len: (*max_len != default_len).then_some(*max_len),
            default: field.default.is_filled().then(|| Tree::of(&field.default)),
            rewinds: field.rewinds,
        }
    }

    /// Puts in what the document of a spec would say with literals and rules.
    fn complete(&self, field: &mut Field) -> Result<(), String> {
        let value = |tree: &Tree| {
            let mut fits = true;
            let value = decode(tree, &field.ty, "", &mut |_, _| fits = false);
            value
                .filter(|_| fits)
                .ok_or_else(|| format!("`{}` has a value that is not of type {}", self.name, field.ty))
        };
        let range = match &self.range {
            Some((lowest, highest)) => Some((value(lowest)?, value(highest)?)),
            None => None,
        };
        let default = self.default.as_ref().map_or(Ok(Value::Unfilled), value)?;
        field.limits = match field.ranking() {
            Some(ranking) => {
                let max = self.max_len.unwrap_or(Ranking::DEFAULT_MAX);
                Limits::of_ranking(Arc::new(Ranking { max, ..ranking.clone() }))
            }
            None if field.is_blob() => Limits::of_blob(self.max_len.unwrap_or(Limits::DEFAULT_BLOB_LEN)),
            None => Limits::new(range, self.max_len.unwrap_or(Limits::DEFAULT_MAX_LEN)),
        };
        field.default = default;
        field.rewinds = self.rewinds;
        Ok(())
    }
}

fn names(ty: &Type) -> Vec<String> {
    choices(ty).unwrap_or_default().iter().map(|name| name.name().to_owned()).collect()
}

/// The names of a choice, however deep it stands.
pub fn choices(ty: &Type) -> Option<&[Arc<crate::value::Chosen>]> {
    match ty {
        Type::Choice(names) => Some(names),
        Type::List(inner) | Type::Set(inner) | Type::Map(inner) => choices(inner),
        Type::Bool | Type::Int | Type::Float | Type::Text | Type::Bytes | Type::Vec2 | Type::Vec3 | Type::Struct(_) => {
            None
        }
    }
}

fn word(text: &str) -> Word {
    at(text.to_owned())
}

fn at<T>(value: T) -> Spanned<T> {
    Spanned::new(value, SourceSpan::default())
}
