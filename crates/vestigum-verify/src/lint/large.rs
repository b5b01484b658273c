//! Fields that can make a save larger than what is written.

use vestigum_core::{Diagnostic, MOST_SAVE_BYTES, Type};
use vestigum_spec::codes;
use vestigum_spec::value::limits::Limits;

use super::warnings::Declared;

/// The memory that reading a save may take; each value has its part of it.
const MOST_MEMORY: u64 = 64 << 20;

/// Says how many characters a text has that says no limit of its own: that of a name.
const SHORT_TEXT: u64 = 64;

/// Describes what a value takes at the most: of the save, and of the memory of whoever reads it.
#[derive(Clone, Copy, Default)]
struct Room {
    bytes: u64,
    memory: u64,
}

impl Room {
    fn new(bytes: u64, memory: u64) -> Room {
        Room { bytes, memory }
    }

    fn text(characters: u64) -> Room {
        Room::new(characters.saturating_add(3), characters.saturating_add(32))
    }

    fn and(self, other: Room) -> Room {
        Room::new(self.bytes.saturating_add(other.bytes), self.memory.saturating_add(other.memory))
    }

    fn times(self, count: u64) -> Room {
        Room::new(self.bytes.saturating_mul(count), self.memory.saturating_mul(count))
    }

    /// Returns whether a save with it cannot be written: it has too many bytes, or reading takes more memory than ten times those, and more than
    /// is always granted.
    fn is_too_much(self) -> bool {
        self.bytes > MOST_SAVE_BYTES || self.memory > MOST_MEMORY.max(self.bytes.saturating_mul(10))
    }
}

/// Returns what a value of a type takes. `asked` says whether the spec itself has named the lengths.
fn room_of(ty: &Type, limits: &Limits, asked: bool) -> Room {
    let most = limits.max_len as u64;
    let text = if asked { most } else { SHORT_TEXT };
    let item = |ty: &Type| room_of(ty, &limits.of_items(), asked);
    match ty {
        Type::Bool => Room::new(6, 0),
        Type::Int => Room::new(21, 0),
        Type::Float => Room::new(25, 0),
        Type::Vec2 => Room::new(52, 96),
        Type::Vec3 => Room::new(77, 144),
        Type::Choice(_) => Room::text(SHORT_TEXT),
        Type::Text => Room::text(text),
        Type::Bytes if limits.blob => Room::new(100, 500),
        Type::Bytes => Room::text(most.saturating_mul(4) / 3),
        Type::Struct(of) => of.members.iter().fold(Room::default(), |room, member| {
            let inside = room_of(&member.ty, &limits.of_member(member), asked || member.max_len.is_some());
            room.and(inside).and(Room::new(member.name.len() as u64 + 4, 136))
        }),
        Type::List(of) | Type::Set(of) => item(of).and(Room::new(1, 48)).times(most),
        Type::Map(of) => item(of).and(Room::new(SHORT_TEXT + 4, 136 + 80 + SHORT_TEXT)).times(most),
    }
}

impl Declared<'_> {
    /// A field that can fill a save by itself.
    pub(super) fn large_save(&self) -> Option<Diagnostic> {
        let field = self.field;
        if !field.lasts.is_saved() {
            return None;
        }
        let one = room_of(&field.ty, &field.limits, self.entry.max_len.is_some());
        let entries = one.and(Room::new(16, 136)).times(field.slots as u64);
        // The value, and both marks.
        let room = entries.times(if field.rewinds { 3 } else { 1 });
        if !room.is_too_much() {
            return None;
        }
        let name = &field.name;
        let span = self.entry.max_len.as_ref().map_or_else(|| self.name_span(), |max_len| max_len.span);
        let message = format!("`{name}` can make a save larger than what is written");
        let warning = Diagnostic::warning(codes::LARGE_SAVE, span, message);
        Some(warning.help("give it a smaller `max_len`, or keep the bulk of it in a `blob`"))
    }
}
