//! From a [`Document`] back to TOML.

use std::fmt::Write;

use crate::document::{
    DerivedEntry, Document, EffectEntry, FieldEntry, Literal, MadeEntry, RuleEntry, StepEntry, Word,
};
use crate::value::Value;

/// The document as TOML, in the order of its sections.
pub fn write(document: &Document) -> String {
    let mut out = Writer::default();
    out.section("game");
    out.word("id", document.game.id.as_ref());
    out.text("title", document.game.title.as_deref());
    out.int("version", document.game.version.as_ref().map(|version| version.value));
    out.section("levels");
    out.words("order", &document.order);
    out.word("opening", document.opening.as_ref());
    out.word("lasts", document.levels_last.as_ref());
    out.words("cleared_at", &document.cleared_at);
    out.word("assets", document.assets.as_ref());
    if let Some(made) = &document.made {
        out.line("made", &self::made(made));
    }
    for (name, level) in &document.levels {
        out.section(&format!("level.{}", key(&name.value)));
        out.text("title", level.title.as_deref());
        out.words("checkpoints", &level.checkpoints);
        out.word("opens", level.opens.as_ref());
        out.word("next", level.next.as_ref());
        if !level.exits.is_empty() {
            let exits = level.exits.iter().map(|(name, to)| format!("{} = {}", key(&name.value), quoted(&to.value)));
            out.line("exits", &format!("{{ {} }}", exits.collect::<Vec<_>>().join(", ")));
        }
        out.word("hidden", level.hidden.as_ref());
        out.word("asset", level.asset.as_ref());
        for (table, steps) in &level.steps {
            let steps = list(steps.iter().map(|step| literal(&step.value)));
            out.line(&format!("steps.{}", key(&table.value)), &steps);
        }
    }
    for (name, keys) in &document.keys {
        out.section(&format!("keys.{}", key(&name.value)));
        out.words("names", &keys.names);
        out.flag("open", keys.open);
        out.int("max", keys.max.as_ref().map(|max| max.value));
        out.word("current", keys.current.as_ref());
    }
    for (name, members) in &document.structs {
        out.section(&format!("struct.{}", key(&name.value)));
        members.iter().for_each(|(member, entry)| out.line(&key(&member.value), &self::member(entry)));
    }
    for (name, table) in &document.tables {
        out.section(&format!("table.{}", key(&name.value)));
        if let Some(steps) = &table.steps {
            out.line("steps", &list(steps.iter().map(|step| literal(&step.value))));
        }
        for (name, number) in [("first", &table.first), ("times", &table.times), ("add", &table.add)] {
            if let Some(number) = number {
                out.line(name, &literal(&number.value));
            }
        }
        out.int("count", table.count.as_ref().map(|count| count.value));
        out.flag("falling", table.falling);
    }
    document.fields.iter().for_each(|(name, field)| out.field(name, field));
    if !document.derived.is_empty() {
        out.section("derived");
        for (name, derived) in &document.derived {
            out.line(&key(&name.value), &self::derived(derived));
        }
    }
    if !document.moments.is_empty() || !document.new_runs.is_empty() {
        out.section("moments");
        out.words("names", &document.moments);
        out.words("new_runs", &document.new_runs);
    }
    out.word_in("run", "over_when", document.over_when.as_ref());
    out.word_in("death", "respawn", document.respawn.as_ref());
    out.word_in("checkpoints", "accept", document.accept.as_ref());
    let save = &document.save;
    if save.at.is_some() || save.resume.is_some() || save.newer.is_some() || save.keep.is_some() {
        out.section("save");
        if let Some(at) = &save.at {
            out.line("at", &list(at.iter().map(|word| quoted(&word.value))));
        }
        out.word("resume", save.resume.as_ref());
        out.word("newer", save.newer.as_ref());
        out.int("keep", save.keep.as_ref().map(|keep| keep.value));
    }
    if let Some(merge) = &document.merge {
        out.section("merge");
        out.word("run", merge.run.as_ref());
    }
    for (name, code) in &document.codes {
        out.section(&format!("code.{}", key(&name.value)));
        out.words("carries", &code.carries);
        out.word("as", code.form.as_ref());
        for (name, int) in [("max", &code.max), ("step", &code.step), ("group", &code.group), ("check", &code.check)] {
            out.int(name, int.as_ref().map(|int| int.value));
        }
        out.word("alphabet", code.alphabet.as_ref());
        out.word("once", code.once.as_ref());
    }
    for source in &document.sources {
        out.section("[source]");
        out.word("name", Some(&source.name));
        out.words("in", &source.levels);
        let gives =
            source.gives.iter().map(|(field, value)| format!("{} = {}", key(&field.value), literal(&value.value)));
        out.line("gives", &format!("{{ {} }}", gives.collect::<Vec<_>>().join(", ")));
        out.int("times", source.times.as_ref().map(|times| times.value));
        out.word("lasts", source.lasts.as_ref());
        out.word("after_failure", source.after_failure.as_ref());
    }
    for promise in &document.promises {
        out.section("[promise]");
        out.word("name", Some(&promise.name));
        out.words("never_falls", &promise.never_falls);
        out.words("after", &promise.after);
        out.word("holds", promise.holds.as_ref());
        out.word("can", promise.can.as_ref());
        out.words("without", &promise.without);
    }
    for allowed in &document.allowed {
        out.section("[allow]");
        out.word("code", Some(&allowed.code));
        out.word("of", allowed.of.as_ref());
        out.word("because", Some(&allowed.because));
    }
    for migration in &document.migrations {
        out.section("[migration]");
        out.int("to", Some(migration.to.value));
        let steps: String = migration.steps.iter().map(|entry| format!("  {},\n", step(&entry.value))).collect();
        out.line("steps", &format!("[\n{steps}]"));
    }
    out.text
}

#[derive(Default)]
struct Writer {
    text: String,
}

impl Writer {
    fn section(&mut self, name: &str) {
        let gap = if self.text.is_empty() { "" } else { "\n" };
        let _ = writeln!(self.text, "{gap}[{name}]");
    }

    fn line(&mut self, key: &str, value: &str) {
        let _ = writeln!(self.text, "{key} = {value}");
    }

    fn text(&mut self, key: &str, text: Option<&str>) {
        if let Some(text) = text {
            self.line(key, &quoted(text));
        }
    }

    fn word(&mut self, key: &str, word: Option<&Word>) {
        self.text(key, word.map(|word| word.value.as_str()));
    }

    fn words(&mut self, key: &str, words: &[Word]) {
        if !words.is_empty() {
            self.line(key, &list(words.iter().map(|word| quoted(&word.value))));
        }
    }

    fn int(&mut self, key: &str, int: Option<i64>) {
        if let Some(int) = int {
            self.line(key, &int.to_string());
        }
    }

    fn flag(&mut self, key: &str, flag: bool) {
        if flag {
            self.line(key, "true");
        }
    }

    fn word_in(&mut self, section: &str, key: &str, word: Option<&Word>) {
        if word.is_some() {
            self.section(section);
            self.word(key, word);
        }
    }

    fn field(&mut self, name: &Word, field: &FieldEntry) {
        self.section(&format!("field.{}", key(&name.value)));
        self.word("type", field.ty.as_ref());
        self.words("of", &field.of);
        match &field.per[..] {
            [one] => self.word("per", Some(one)),
            several => self.words("per", several),
        }
        self.word("lasts", field.lasts.as_ref());
        self.word("after_failure", field.after_failure.as_ref());
        self.word("written_by", field.written_by.as_ref());
        if let Some(range) = &field.range {
            self.line("range", &self::range(&range.value));
        }
        if let Some(default) = &field.default {
            self.line("default", &literal(&default.value));
        }
        self.words("by", &field.by);
        self.int("max_len", field.max_len.as_ref().map(|len| len.value));
        self.flag("optional", field.optional);
        self.text("label", field.label.as_deref());
        self.flag("save", field.save);
        self.flag("thumbnail", field.thumbnail);
        self.word("counts", field.counts.as_ref());
        self.word("in", field.counts_in.as_ref());
        self.word("merge", field.merge.as_ref());
        for (moment, rules) in &field.on {
            let text = match &rules[..] {
                [one] => rule(one),
                several => list(several.iter().map(rule)),
            };
            self.line(&format!("on.{}", key(&moment.value)), &text);
        }
    }
}

fn range((lowest, highest): &(Literal, Literal)) -> String {
    list([literal(&lowest.value), literal(&highest.value)].into_iter())
}

/// Levels that players make.
fn made(entry: &MadeEntry) -> String {
    let mut said = Vec::new();
    said.extend(entry.max.as_ref().map(|max| format!("max = {}", max.value)));
    said.extend(entry.title.as_ref().map(|title| format!("title = {}", quoted(&title.value))));
    if !entry.carries.is_empty() {
        said.push(format!("carries = {}", list(entry.carries.iter().map(|field| quoted(&field.value)))));
    }
    format!("{{ {} }}", said.join(", "))
}

/// A derived value: its expression alone where nothing else is said.
fn derived(entry: &DerivedEntry) -> String {
    let value = quoted(&entry.value.value);
    let mut said = Vec::new();
    said.extend(entry.per.as_ref().map(|per| format!("per = {}", quoted(&per.value))));
    said.extend(entry.label.as_ref().map(|label| format!("label = {}", quoted(label))));
    if said.is_empty() { value } else { format!("{{ {}, value = {value} }}", said.join(", ")) }
}

/// A member of a struct: its type alone where nothing else is said.
fn member(entry: &FieldEntry) -> String {
    let ty = quoted(entry.ty.as_ref().map_or("", |ty| &ty.value));
    let mut said = Vec::new();
    if !entry.of.is_empty() {
        said.push(format!("of = {}", list(entry.of.iter().map(|name| quoted(&name.value)))));
    }
    said.extend(entry.range.as_ref().map(|said| format!("range = {}", range(&said.value))));
    said.extend(entry.max_len.as_ref().map(|len| format!("max_len = {}", len.value)));
    said.extend(entry.default.as_ref().map(|default| format!("default = {}", literal(&default.value))));
    if said.is_empty() { ty } else { format!("{{ type = {ty}, {} }}", said.join(", ")) }
}

/// A rule as it stands in a document.
pub fn rule(rule: &RuleEntry) -> String {
    let effect = match (&rule.does, &rule.when) {
        (EffectEntry::Bare(word), None) => return quoted(&word.value),
        (EffectEntry::Bare(word), Some(_)) => format!("do = {}", quoted(&word.value)),
        (EffectEntry::Operand(word, operand), _) => format!("{} = {}", word.value.word(), quoted(&operand.value)),
    };
    match &rule.when {
        None => format!("{{ {effect} }}"),
        Some(when) => format!("{{ {effect}, when = {} }}", quoted(&when.value)),
    }
}

/// A step of a migration as it stands in a document.
pub(crate) fn step(step: &StepEntry) -> String {
    let words: Vec<(&str, Option<&Word>)> = match step {
        StepEntry::Rename { what, of, from, to } => {
            vec![("rename", Some(what)), ("of", of.as_ref()), ("from", Some(from)), ("to", Some(to))]
        }
        StepEntry::Fill { target, with } => vec![("fill", Some(target)), ("with", Some(with))],
        StepEntry::Drop { what, of, name } => {
            vec![("drop", Some(what)), ("of", of.as_ref()), ("name", Some(name))]
        }
        StepEntry::Move { field, to } => vec![("move", Some(field)), ("to", Some(to))],
        StepEntry::Hook { field } => vec![("hook", Some(field))],
    };
    let said = words.iter().filter_map(|(key, word)| Some(format!("{key} = {}", quoted(&word.as_ref()?.value))));
    format!("{{ {} }}", said.collect::<Vec<_>>().join(", "))
}

fn list(items: impl Iterator<Item = String>) -> String {
    format!("[{}]", items.collect::<Vec<_>>().join(", "))
}

fn literal(value: &Value) -> String {
    match value {
        Value::Text(text) => quoted(text),
        Value::Float(float) => format!("{:?}", float.get()),
        Value::List(items) => list(items.iter().map(literal)),
        Value::Map(map) => {
            let entries = map.iter().map(|(name, value)| format!("{} = {}", key(name), literal(value)));
            format!("{{ {} }}", entries.collect::<Vec<_>>().join(", "))
        }
        other => other.to_string(),
    }
}

fn key(name: &str) -> String {
    let bare = !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '-'));
    if bare { name.to_owned() } else { quoted(name) }
}

fn quoted(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        match c {
            '"' => out.push_str("\\\""),
            '\\' => out.push_str("\\\\"),
            '\n' => out.push_str("\\n"),
            '\t' => out.push_str("\\t"),
            c if c.is_control() => {
                let _ = write!(out, "\\u{:04X}", u32::from(c));
            }
            c => out.push(c),
        }
    }
    out.push('"');
    out
}
