//! Random specs that promise something, and random conditions.

use vestigum_core::Spec;

use crate::{FieldSketch, Sketch};

/// A random spec with a source for each simple int field that play writes, and promises about them.
pub fn promising(sketch: &Sketch) -> Spec {
    let text = promising_text(sketch);
    Spec::from_toml(&text).unwrap_or_else(|errors| panic!("{errors}\n{text}"))
}

/// Writes the spec of a sketch with promises, as text.
pub fn promising_text(sketch: &Sketch) -> String {
    let mut text = sketch.toml();
    // A source gives to entries with declared keys.
    let declared = |field: &&FieldSketch| {
        let has_keys = field.per.iter().all(|axis| ["level", "checkpoint", "kind"].contains(axis));
        field.ty == "int" && has_keys && !sketch.entries(field).is_empty()
    };
    let ints = sketch.fields.iter().enumerate().filter(|(_, field)| declared(field));
    for (index, field) in ints.clone().filter(|(_, field)| field.written_by != "rules") {
        let back = field.after_failure;
        let declared = sketch.entries(field).into_iter().rfind(|keys| !keys.iter().any(|key| key.starts_with("made_")));
        let keys = declared.filter(|_| !field.per.is_empty() && field.per != ["level"]);
        // Numbers that grow by one meet every bound on the way.
        let gift = if field.per.is_empty() { 1 } else { 7 };
        let entry = keys.map_or(format!("f{index}"), |keys| format!("\"f{index}[{}]\"", keys.join(", ")));
        text.push_str(&format!(
            "[[source]]\nname = \"s{index}\"\ngives = {{ {entry} = {gift} }}\ntimes = 3\nlasts = \"visit\"\nafter_failure = \"{back}\"\n"
        ));
    }
    for (index, _) in ints {
        text.push_str(&format!("[[promise]]\nname = \"f{index} never falls\"\nnever_falls = [\"f{index}\"]\n"));
    }
    // What is only compared with constants is cut at the highest of them.
    let one = |field: &FieldSketch| field.ty == "int" && field.per.is_empty();
    for (index, _) in sketch.fields.iter().enumerate().filter(|(_, field)| one(field)) {
        text.push_str(&format!("[[promise]]\nname = \"f{index} is low\"\nholds = \"f{index} <= 2\"\n"));
    }
    text.push_str("[[promise]]\nname = \"a level is open\"\nholds = \"count(opened) >= 1\"\n");
    text
}

/// Writes random expressions: numbers decide which, and the same numbers the same ones.
pub struct Dice<'s> {
    sketch: &'s Sketch,
    numbers: std::slice::Iter<'s, u16>,
    /// Whether there is a state before the moment, and whether the marks are there.
    before: bool,
    marks: bool,
}

impl<'s> Dice<'s> {
    /// `before`: whether there is a state before the moment, and `marks`: whether the marks are there.
    pub fn new(sketch: &'s Sketch, numbers: &'s [u16], before: bool, marks: bool) -> Dice<'s> {
        Dice { sketch, numbers: numbers.iter(), before, marks }
    }

    /// A number below `sides`.
    pub fn roll(&mut self, sides: usize) -> usize {
        self.numbers.next().map_or(0, |number| usize::from(*number) % sides)
    }

    /// A field of a type, as an expression may read it: with or without keys, as it is or was.
    pub fn read(&mut self, ty: &str) -> Option<String> {
        let fields: Vec<usize> =
            (0..self.sketch.fields.len()).filter(|index| self.sketch.fields[*index].ty == ty).collect();
        let index = *fields.get(self.roll(fields.len().max(1)))?;
        let entries = self.sketch.entries(&self.sketch.fields[index]);
        let keys = entries.get(self.roll(entries.len().max(1)))?;
        let name = if keys.is_empty() || self.roll(3) == 0 {
            format!("f{index}")
        } else {
            format!("f{index}[{}]", keys.join(", "))
        };
        Some(match self.roll(6) {
            0 | 1 if self.before => format!("was({name})"),
            2 if self.marks => format!("entry({name})"),
            3 if self.marks => format!("checkpoint({name})"),
            _ => name,
        })
    }

    /// A field of a type that has keys, by its name.
    fn keyed(&mut self, ty: &str) -> Option<String> {
        let all = self.sketch.fields.iter().enumerate();
        let found: Vec<usize> =
            all.filter(|(_, field)| field.ty == ty && !field.per.is_empty()).map(|(index, _)| index).collect();
        found.get(self.roll(found.len().max(1))).map(|index| format!("f{index}"))
    }

    /// A number.
    pub fn int(&mut self, depth: usize) -> String {
        let literal = |dice: &mut Self| (dice.roll(21) as i64 - 10).to_string();
        let made = match self.roll(if depth == 0 { 4 } else { 17 }) {
            0 => Some(literal(self)),
            1 | 2 => self.read("int"),
            3 => Some(["level_index", "checkpoint_index", "count(completed)", "count(opened)"][self.roll(4)].into()),
            4 => Some(format!("{} + {}", self.int(depth - 1), self.int(depth - 1))),
            5 => Some(format!("{} - ({})", self.int(depth - 1), self.int(depth - 1))),
            6 => Some(format!("({}) * {}", self.int(depth - 1), self.int(0))),
            7 => Some(format!("-({}) / 3", self.int(depth - 1))),
            8 => Some(format!("if({}, {}, {})", self.bool(depth - 1), self.int(depth - 1), self.int(0))),
            9 => Some(format!("{}({}, {})", ["max", "min"][self.roll(2)], self.int(depth - 1), self.int(0))),
            10 => self
                .keyed("int")
                .map(|name| format!("{}({name})", ["sum", "highest", "lowest", "count"][name.len() % 4])),
            11 => self.read("map of int").map(|map| format!("{map}['{}']", ["x", "y", "zz"][map.len() % 3])),
            12 => self.read("thing").map(|thing| format!("{thing}.n")),
            13 => self.read("being").map(|being| format!("{being}.level")),
            14 => self.read("list of being").map(|beings| format!("{beings}[{}].level", beings.len() % 3 + 1)),
            15 => {
                let over = ["sum", "highest", "lowest"][self.roll(3)];
                self.read("list of being").map(|beings| format!("{over}({beings}.level * 2)"))
            }
            _ => {
                let ty = ["text", "list of int", "set of text", "map of int", "bytes"][self.roll(5)];
                self.read(ty).map(|container| format!("len({container})"))
            }
        };
        made.unwrap_or_else(|| literal(self))
    }

    /// A condition.
    pub fn bool(&mut self, depth: usize) -> String {
        let compared = |dice: &mut Self| ["<", "<=", ">", ">=", "==", "!="][dice.roll(6)];
        let made = match self.roll(if depth == 0 { 6 } else { 16 }) {
            0 => self.read("bool"),
            1 => Some(format!("open(path_0) {} true", ["==", "!="][self.roll(2)])),
            2 => Some(format!(
                "level {} '{}'",
                ["==", "!="][self.roll(2)],
                ["path_0", "f1", "", "was(f0)"][self.roll(4)]
            )),
            3 => self.read("int").map(|read| format!("filled({read})")),
            4 => self.keyed("bool").map(|name| format!("count({name}) < 1")),
            5 => Some(["true", "false", "completed[path_0]", "checkpoint == ''"][self.roll(4)].into()),
            6 => Some(format!("({}) and {}", self.bool(depth - 1), self.bool(depth - 1))),
            7 => Some(format!("({} or {})", self.bool(depth - 1), self.bool(depth - 1))),
            8 => Some(format!("not ({})", self.bool(depth - 1))),
            9 => {
                let sign = compared(self);
                Some(format!("{} {sign} {}", self.int(depth - 1), self.int(depth - 1)))
            }
            10 => {
                let sign = compared(self);
                let other = if self.roll(2) == 0 { self.read("choice") } else { Some("'b'".into()) };
                self.read("choice").zip(other).map(|(a, b)| format!("{a} {sign} {b}"))
            }
            11 => {
                let sign = compared(self);
                let other = if self.roll(2) == 0 { self.read("float") } else { Some("1.5".into()) };
                self.read("float").zip(other).map(|(a, b)| format!("{a} * 2 {sign} {b} - 0.5"))
            }
            12 => {
                let ty = ["text", "bytes", "vec2", "list of int", "set of text", "map of int", "thing"][self.roll(7)];
                let sign = ["==", "!="][self.roll(2)];
                self.read(ty).zip(self.read(ty)).map(|(a, b)| format!("{a} {sign} {b}"))
            }
            13 => {
                let over = ["any", "all", "0 < count"][self.roll(3)];
                self.read("list of being").map(|beings| format!("{over}({beings}.level > 4 or {beings}.kind == 'c')"))
            }
            14 => self.read("being").map(|being| format!("{being}.kind == 'b'")),
            _ => {
                let set = self.read("set of text");
                let item = self.read("text").unwrap_or_else(|| "'w1'".into());
                set.map(|set| format!("has({set}, {item})"))
            }
        };
        made.unwrap_or_else(|| "count(completed) == 0".into())
    }
}
