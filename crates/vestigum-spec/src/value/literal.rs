//! Values as expressions write them, in full.

use crate::value::Value;

impl Value {
    /// The value as a playthrough can write it, with nothing left out; none where the language has no way to write it: an
    /// unfilled value, bytes that are no text, and texts with a line break or another control character.
    #[doc(hidden)]
    pub fn literal(&self) -> Option<String> {
        Some(match self {
            Value::Unfilled => return None,
            Value::Bool(bool) => bool.to_string(),
            Value::Int(int) => int.to_string(),
            Value::Float(float) => format!("{:?}", float.get()),
            Value::Text(text) => quoted(text)?,
            Value::Choice(chosen) => quoted(chosen.name())?,
            Value::Bytes(bytes) => quoted(std::str::from_utf8(bytes).ok()?)?,
            Value::Vec2(_) | Value::Vec3(_) => {
                let numbers: Vec<String> =
                    self.as_vector().iter().map(|number| format!("{:?}", number.get())).collect();
                format!("[{}]", numbers.join(", "))
            }
            Value::Struct(ty, members) => {
                let members = ty.members().zip(members.iter());
                let members = members.map(|(member, value)| Some(format!("{} = {}", member.name, value.literal()?)));
                format!("{{ {} }}", members.collect::<Option<Vec<_>>>()?.join(", "))
            }
            Value::List(list) => {
                format!("[{}]", list.iter().map(Value::literal).collect::<Option<Vec<_>>>()?.join(", "))
            }
            Value::Set(set) => format!("[{}]", set.iter().map(Value::literal).collect::<Option<Vec<_>>>()?.join(", ")),
            Value::Map(map) if map.is_empty() => "{}".into(),
            Value::Map(map) => {
                let entries = map.iter().map(|(key, value)| Some(format!("{} = {}", quoted(key)?, value.literal()?)));
                format!("{{ {} }}", entries.collect::<Option<Vec<_>>>()?.join(", "))
            }
        })
    }
}

fn quoted(text: &str) -> Option<String> {
    let plain = !text.chars().any(char::is_control);
    plain.then(|| format!("'{}'", text.replace('\'', "''")))
}
