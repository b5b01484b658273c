//! Fields: named, typed pieces of progress.

use std::collections::BTreeMap;
use std::fmt;
use std::ops::Range;
use std::sync::Arc;

use crate::fate::Simple;
use crate::types::Type;
use crate::value::{Value, below};

use super::Axis;

/// A field's place in its spec.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) struct FieldId(pub u32);

/// One named, typed piece of progress.
#[derive(Clone, Debug)]
pub struct Field {
    pub(crate) id: FieldId,
    pub(crate) name: Arc<str>,
    pub(crate) ty: Type,
    pub(crate) lasts: Span,
    pub(crate) after_failure: Option<Simple>,
    pub(crate) written_by: WrittenBy,
    pub(crate) limits: Limits,
    pub(crate) default: Value,
    pub(crate) optional: bool,
    pub(crate) axes: Vec<Axis>,
    /// How many keys each axis has.
    pub(crate) dims: Vec<u32>,
    pub(crate) first_slot: usize,
    pub(crate) slots: usize,
    pub(crate) rewinds: bool,
    pub(crate) built_in: bool,
    /// Whether play may write it, and whether only in a level: what every write asks.
    pub(crate) played: bool,
    pub(crate) in_level: bool,
    /// Whether some level's opening could depend on it.
    pub(crate) read_by_openings: bool,
}

impl Field {
    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Its type.
    pub fn ty(&self) -> &Type {
        &self.ty
    }

    /// How long its value lives.
    pub fn lasts(&self) -> Span {
        self.lasts
    }

    /// What a failure does to it, where the spec says so.
    pub fn after_failure(&self) -> Option<Simple> {
        self.after_failure
    }

    /// Who writes it.
    pub fn written_by(&self) -> WrittenBy {
        self.written_by
    }

    /// Its limits.
    pub fn limits(&self) -> &Limits {
        &self.limits
    }

    /// The value before anything was written.
    pub fn default(&self) -> &Value {
        &self.default
    }

    /// Whether it can have no value.
    pub fn is_optional(&self) -> bool {
        self.optional
    }

    /// Whether it is one of the two that every game has, `completed` and `opened`.
    pub fn is_built_in(&self) -> bool {
        self.built_in
    }

    /// Whether some moment can bring back what the field was at a mark.
    pub fn rewinds(&self) -> bool {
        self.rewinds
    }

    pub(crate) fn slots(&self) -> Range<usize> {
        self.first_slot..self.first_slot + self.slots
    }

    /// Whether the value can exist only inside a level.
    pub(crate) fn needs_level(&self) -> bool {
        self.in_level
    }
}

/// How long a value lives.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Span {
    /// From (re)spawn to failure.
    Attempt,
    /// From entering a level until it is completed, left or restarted.
    Visit,
    /// One process lifetime.
    Session,
    /// From "new game" to game over or the next "new game".
    Run,
    /// As long as the player's profile.
    Profile,
    /// As long as the installation, shared by all profiles.
    Device,
}

impl Span {
    pub(crate) const ALL: [Span; 6] =
        [Span::Attempt, Span::Visit, Span::Session, Span::Run, Span::Profile, Span::Device];

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Span::Attempt => "attempt",
            Span::Visit => "visit",
            Span::Session => "session",
            Span::Run => "run",
            Span::Profile => "profile",
            Span::Device => "device",
        }
    }

    /// The article that goes with the word.
    pub(crate) fn article(self) -> &'static str {
        if self == Span::Attempt { "an" } else { "a" }
    }

    /// Whether values of this span can be brought back to a mark.
    pub(crate) fn can_rewind(self) -> bool {
        !matches!(self, Span::Session | Span::Device)
    }

    /// Whether values are part of an image: visit values only while suspended in a level.
    pub(crate) fn is_saved(self) -> bool {
        !matches!(self, Span::Attempt | Span::Session)
    }
}

impl fmt::Display for Span {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.word())
    }
}

/// How long `completed` and `opened` live: `[levels] lasts`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Lasts {
    /// As long as the profile.
    #[default]
    Profile,
    /// One run.
    Run,
}

/// Who writes a field.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum WrittenBy {
    /// The game, while it is played.
    Play,
    /// Only the rules of the spec.
    Rules,
    /// Both.
    Both,
}

impl WrittenBy {
    /// Whether the game may write it.
    pub fn play(self) -> bool {
        self != WrittenBy::Rules
    }

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            WrittenBy::Play => "play",
            WrittenBy::Rules => "rules",
            WrittenBy::Both => "both",
        }
    }
}

/// What values of a field may be. Values outside are brought inside, and the outcome says so.
#[derive(Clone, Debug, PartialEq)]
pub struct Limits {
    /// Lowest and highest value, for numbers.
    pub range: Option<(Value, Value)>,
    /// The most characters of a text.
    pub max_len: usize,
    // The range of an int field once more, for the writes of play.
    lowest_int: i64,
    highest_int: i64,
}

impl Limits {
    pub(crate) fn new(range: Option<(Value, Value)>, max_len: usize) -> Limits {
        let (lowest_int, highest_int) = match &range {
            Some((Value::Int(lowest), Value::Int(highest))) => (*lowest, *highest),
            _ => (i64::MIN, i64::MAX),
        };
        Limits { range, max_len, lowest_int, highest_int }
    }

    /// The most characters a text has if the field does not ask for more.
    pub const DEFAULT_MAX_LEN: usize = 4096;

    #[inline]
    pub(crate) fn clamp_int(&self, int: i64) -> i64 {
        int.clamp(self.lowest_int, self.highest_int)
    }

    /// Brings `value` inside. Says whether it was outside.
    pub(crate) fn clamp(&self, value: Value) -> (Value, bool) {
        if let Some((lowest, highest)) = &self.range {
            if below(&value, lowest) {
                return (lowest.clone(), true);
            }
            if below(highest, &value) {
                return (highest.clone(), true);
            }
            return (value, false);
        }
        self.shortened(value)
    }

    /// Brings an item that is put into a container inside.
    pub(crate) fn clamp_item(&self, item: Value) -> (Value, bool) {
        self.shortened(item)
    }

    /// Both sets or maps in one, as far as there is room: what `a` has stays, the entries of `b` win over those of the same
    /// key. Says whether something was cut or found no room.
    pub(crate) fn united(&self, a: &Value, b: &Value) -> (Value, bool) {
        let (b, mut cut) = self.shortened(b.clone());
        let united = match (a, &b) {
            (Value::Set(a), Value::Set(b)) => {
                let mut set = (**a).clone();
                for item in b.iter() {
                    let fits = set.len() < self.max_len || set.contains(item);
                    cut |= !fits;
                    if fits {
                        set.insert(item.clone());
                    }
                }
                Value::Set(Arc::new(set))
            }
            (Value::Map(a), Value::Map(b)) => {
                let mut map = (**a).clone();
                for (key, value) in b.iter() {
                    let fits = map.len() < self.max_len || map.contains_key(key);
                    cut |= !fits;
                    if fits {
                        map.insert(key.clone(), value.clone());
                    }
                }
                Value::Map(Arc::new(map))
            }
            _ => b,
        };
        (united, cut)
    }

    /// Whether a container has room for one more.
    pub(crate) fn has_room(&self, container: &Value) -> bool {
        container.len() < self.max_len
    }

    /// Cuts text, bytes and containers at `max_len`, those inside others too.
    fn shortened(&self, value: Value) -> (Value, bool) {
        let max = self.max_len;
        let whole = match &value {
            Value::Text(text) => text.len() <= max,
            Value::Bytes(bytes) => bytes.len() <= max,
            Value::Struct(_, members) => members.iter().all(|member| !self.is_too_long(member)),
            Value::List(_) | Value::Set(_) | Value::Map(_) => !self.is_too_long(&value),
            _ => true,
        };
        if whole {
            return (value, false);
        }
        let inner = |value: &Value| self.shortened(value.clone()).0;
        let short = match &value {
            Value::Text(text) => match text.char_indices().nth(max) {
                Some((end, _)) => Value::text(&text[..end]),
                None => return (value, false),
            },
            Value::Bytes(bytes) => Value::bytes(&bytes[..max]),
            Value::Struct(ty, members) => Value::Struct(ty.clone(), Arc::new(members.iter().map(inner).collect())),
            Value::List(list) => Value::List(Arc::new(list.iter().take(max).map(inner).collect())),
            Value::Set(set) => Value::Set(Arc::new(set.iter().take(max).map(inner).collect())),
            Value::Map(map) => {
                let mut short = BTreeMap::new();
                for (key, value) in map.iter() {
                    // Where two keys become one when they are cut, the first one stays.
                    if short.len() < max {
                        short.entry(self.shortened_key(key)).or_insert_with(|| inner(value));
                    }
                }
                Value::Map(Arc::new(short))
            }
            _ => return (value, false),
        };
        (short, true)
    }

    fn is_long_key(&self, key: &str) -> bool {
        key.len() > self.max_len && key.chars().count() > self.max_len
    }

    /// The key of a map, cut as a text is.
    pub(crate) fn shortened_key(&self, key: &Arc<str>) -> Arc<str> {
        match key.char_indices().nth(self.max_len) {
            Some((end, _)) if self.is_long_key(key) => key[..end].into(),
            _ => key.clone(),
        }
    }

    fn is_too_long(&self, value: &Value) -> bool {
        let inside = match value {
            Value::Struct(_, members) | Value::List(members) => members.iter().any(|member| self.is_too_long(member)),
            Value::Set(set) => set.iter().any(|member| self.is_too_long(member)),
            Value::Map(map) => map.iter().any(|(key, member)| self.is_long_key(key) || self.is_too_long(member)),
            _ => false,
        };
        inside || value.len() > self.max_len
    }
}
