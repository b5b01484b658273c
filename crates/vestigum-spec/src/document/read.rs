//! From TOML to a [`Document`]: which keys there are and what shape their values have.
//!
//! Tables are walked by hand so that every piece keeps its place, and so that every key that is not asked for is
//! reported with a suggestion.

use toml::de::{DeTable, DeValue};

use crate::codes;
use crate::diagnostic::{Diagnostic, SourceSpan, Spanned};
use crate::document::{
    DerivedEntry, Document, EffectEntry, FieldEntry, KeysEntry, LevelEntry, Literal, MadeEntry, MergeEntry, RuleEntry,
    TableEntry, Word,
};
use crate::value::Value;
use crate::value::containers::Map;
use crate::vocabulary::fate::Operation;

pub(crate) type Spot<'i> = toml::Spanned<DeValue<'i>>;

/// TOML errors cascade; after this many the rest says nothing new.
const SYNTAX_ERRORS: usize = 10;

/// Reads the document and everything that is wrong with its shape.
pub(crate) fn read(text: &str) -> (Document, Vec<Diagnostic>) {
    let (root, toml_errors) = DeTable::parse_recoverable(text);
    let mut reader = Reader::default();
    let document = reader.document(root.get_ref());
    reader.errors.extend(syntax_errors(&toml_errors));
    (document, reader.errors)
}

/// Returns where a document is not TOML, the first places of it.
pub fn syntax_errors(errors: &[toml::de::Error]) -> Vec<Diagnostic> {
    let syntax = errors.iter().map(|error| {
        let span = error.span().map_or(SourceSpan::default(), SourceSpan::from);
        Diagnostic::error(codes::SYNTAX, span, format!("this is not TOML: {}", error.message()))
    });
    let mut syntax: Vec<Diagnostic> = syntax.collect();
    syntax.sort_by_key(|error| error.span);
    syntax.truncate(SYNTAX_ERRORS);
    syntax
}

#[derive(Default)]
pub(crate) struct Reader {
    pub errors: Vec<Diagnostic>,
}

/// A table whose keys are taken one by one.
pub(crate) struct TomlTable<'t, 'i> {
    pub name: String,
    pub table: &'t DeTable<'i>,
    known: Vec<&'static str>,
}

impl<'t, 'i> TomlTable<'t, 'i> {
    fn new(name: impl Into<String>, table: &'t DeTable<'i>) -> Self {
        TomlTable { name: name.into(), table, known: Vec::new() }
    }

    pub(super) fn take(&mut self, key: &'static str) -> Option<&'t Spot<'i>> {
        self.known.push(key);
        self.table.iter().find(|(name, _)| name.get_ref() == key).map(|(_, value)| value)
    }
}

impl Reader {
    pub(super) fn error(&mut self, span: SourceSpan, message: impl Into<String>) -> &mut Diagnostic {
        self.errors.push(Diagnostic::error(codes::SHAPE, span, message));
        let last = self.errors.len() - 1;
        &mut self.errors[last]
    }

    pub(super) fn wrong(&mut self, what: &str, wanted: &str, found: &Spot<'_>) {
        let kind = found.get_ref().type_str();
        self.error(found.span().into(), format!("`{what}` wants {wanted}")).label = format!("this is of type {kind}");
    }

    /// Reports the keys that nobody asked for.
    pub(super) fn finish(&mut self, table: TomlTable<'_, '_>) {
        for (name, _) in table.table {
            if !table.known.contains(&&**name.get_ref()) {
                let place = match &*table.name {
                    "" => "a spec".into(),
                    "on" => "a rule".into(),
                    "step" => "a step like this".into(),
                    thing @ ("member" | "derived value") => format!("a {thing}"),
                    listed @ ("source" | "promise" | "allow" | "migration") => format!("`[[{listed}]]`"),
                    name => format!("`[{name}]`"),
                };
                let message = format!("{place} has no key `{}`", name.get_ref().escape_debug());
                let error = Diagnostic::error(codes::SHAPE, name.span().into(), message);
                let error = if table.known.len() > 1 {
                    error.help(format!("it has: {}", table.known.join(", ")))
                } else {
                    error
                };
                self.errors.push(error.suggest(name.get_ref(), table.known.iter().copied()));
            }
        }
    }

    pub(super) fn table<'t, 'i>(&mut self, name: &str, value: &'t Spot<'i>) -> Option<TomlTable<'t, 'i>> {
        match value.get_ref() {
            DeValue::Table(table) => Some(TomlTable::new(name, table)),
            _ => {
                self.wrong(name, "a table", value);
                None
            }
        }
    }

    /// The named tables below `[name.*]`.
    fn entries<'t, 'i>(&mut self, root: &mut TomlTable<'t, 'i>, name: &'static str) -> Vec<(Word, &'t Spot<'i>)> {
        let Some(value) = root.take(name) else { return Vec::new() };
        let Some(table) = self.table(name, value) else { return Vec::new() };
        let word =
            |key: &toml::Spanned<std::borrow::Cow<'_, str>>| Spanned::new(key.get_ref().to_string(), key.span().into());
        table.table.iter().map(|(key, value)| (word(key), value)).collect()
    }

    pub(super) fn text(&mut self, what: &str, value: Option<&Spot<'_>>) -> Option<Word> {
        let value = value?;
        match value.get_ref() {
            DeValue::String(text) => Some(Spanned::new(text.to_string(), value.span().into())),
            _ => {
                self.wrong(what, "a text", value);
                None
            }
        }
    }

    pub(super) fn texts(&mut self, what: &str, value: Option<&Spot<'_>>) -> Vec<Word> {
        let Some(value) = value else { return Vec::new() };
        match value.get_ref() {
            DeValue::Array(items) => items.iter().filter_map(|item| self.text(what, Some(item))).collect(),
            _ => {
                self.wrong(what, "a list of texts", value);
                Vec::new()
            }
        }
    }

    pub(super) fn int(&mut self, what: &str, value: Option<&Spot<'_>>) -> Option<Spanned<i64>> {
        let value = value?;
        match self.literal(what, Some(value))?.value {
            Value::Int(int) => Some(Spanned::new(int, value.span().into())),
            _ => {
                self.wrong(what, "a whole number", value);
                None
            }
        }
    }

    /// One text, or a list of them.
    pub(super) fn one_or_more(&mut self, what: &str, value: Option<&Spot<'_>>) -> Vec<Word> {
        match value.map(toml::Spanned::get_ref) {
            Some(DeValue::String(_)) => self.text(what, value).into_iter().collect(),
            _ => self.texts(what, value),
        }
    }

    fn literals(&mut self, what: &str, value: Option<&Spot<'_>>) -> Option<Vec<Literal>> {
        let value = value?;
        match value.get_ref() {
            DeValue::Array(items) => items.iter().map(|item| self.literal(what, Some(item))).collect(),
            _ => {
                self.wrong(what, "a list of numbers", value);
                None
            }
        }
    }

    fn bool(&mut self, what: &str, value: Option<&Spot<'_>>) -> bool {
        match value.map(|value| (value, value.get_ref())) {
            None => false,
            Some((_, DeValue::Boolean(bool))) => *bool,
            Some((value, _)) => {
                self.wrong(what, "true or false", value);
                false
            }
        }
    }

    pub(super) fn literal(&mut self, what: &str, value: Option<&Spot<'_>>) -> Option<Literal> {
        let value = value?;
        let literal = match value.get_ref() {
            DeValue::Boolean(bool) => Some(Value::Bool(*bool)),
            DeValue::String(text) => Some(Value::text(&**text)),
            DeValue::Integer(int) => {
                let digits = int.as_str().replace('_', "");
                match i64::from_str_radix(&digits, int.radix()) {
                    Ok(int) => Some(Value::Int(int)),
                    Err(_) => {
                        self.error(value.span().into(), format!("the number in `{what}` is too large"));
                        return None;
                    }
                }
            }
            DeValue::Float(float) => {
                match float.as_str().replace('_', "").parse::<f64>().ok().filter(|float| float.is_finite()) {
                    Some(float) => Some(Value::float(float)),
                    None => {
                        self.error(value.span().into(), format!("`{what}` wants a finite number"));
                        return None;
                    }
                }
            }
            DeValue::Array(items) => {
                let items: Vec<Option<Literal>> = items.iter().map(|item| self.literal(what, Some(item))).collect();
                let items = items.into_iter().map(|item| item.map(|item| item.value)).collect::<Option<Vec<_>>>()?;
                Some(Value::List(items.into()))
            }
            DeValue::Table(entries) => {
                let mut map = Map::default();
                for (key, item) in entries {
                    map.insert(key.get_ref().as_ref(), self.literal(what, Some(item))?.value);
                }
                Some(Value::Map(map))
            }
            DeValue::Datetime(_) => None,
        };
        if literal.is_none() {
            self.wrong(what, "a number, a text, true or false", value);
        }
        literal.map(|literal| Spanned::new(literal, value.span().into()))
    }

    fn document(&mut self, root: &DeTable<'_>) -> Document {
        let mut document = Document::default();
        let mut root = TomlTable::new("", root);
        if let Some(value) = root.take("game")
            && let Some(mut game) = self.table("game", value)
        {
            document.game.span = value.span().into();
            document.game.id = self.text("id", game.take("id"));
            document.game.title = self.text("title", game.take("title")).map(|title| title.value);
            document.game.version = self.int("version", game.take("version"));
            self.finish(game);
        }
        if let Some(value) = root.take("levels")
            && let Some(mut levels) = self.table("levels", value)
        {
            document.order = self.texts("order", levels.take("order"));
            document.opening = self.text("opening", levels.take("opening"));
            document.levels_last = self.text("lasts", levels.take("lasts"));
            document.cleared_at = self.one_or_more("cleared_at", levels.take("cleared_at"));
            document.assets = self.text("assets", levels.take("assets"));
            document.made = levels.take("made").and_then(|value| self.made(value));
            self.finish(levels);
        }
        for (name, value) in self.entries(&mut root, "level") {
            let level = self.level(&name, value);
            document.levels.push((name, level));
        }
        for (name, value) in self.entries(&mut root, "keys") {
            let keys = self.keys(&name, value);
            document.keys.push((name, keys));
        }
        for (name, value) in self.entries(&mut root, "struct") {
            let Some(table) = self.table(&format!("struct.{}", name.value), value) else { continue };
            let members = table.table.iter().filter_map(|(member, value)| {
                let name = Spanned::new(member.get_ref().to_string(), member.span().into());
                let entry = self.member(&name, value)?;
                Some((name, entry))
            });
            document.structs.push((name, members.collect()));
        }
        for (name, value) in self.entries(&mut root, "table") {
            let table = self.steps_table(&name, value);
            document.tables.push((name, table));
        }
        for (name, value) in self.entries(&mut root, "field") {
            let field = self.field(&name, value);
            document.fields.push((name, field));
        }
        for (name, value) in self.entries(&mut root, "derived") {
            if let Some(derived) = self.derived(&name, value) {
                document.derived.push((name, derived));
            }
        }
        if let Some(mut moments) = root.take("moments").and_then(|value| self.table("moments", value)) {
            document.moments = self.texts("names", moments.take("names"));
            document.new_runs = self.texts("new_runs", moments.take("new_runs"));
            self.finish(moments);
        }
        if let Some(mut run) = root.take("run").and_then(|value| self.table("run", value)) {
            document.over_when = self.text("over_when", run.take("over_when"));
            self.finish(run);
        }
        if let Some(mut death) = root.take("death").and_then(|value| self.table("death", value)) {
            document.respawn = self.text("respawn", death.take("respawn"));
            self.finish(death);
        }
        if let Some(mut checkpoints) = root.take("checkpoints").and_then(|value| self.table("checkpoints", value)) {
            document.accept = self.text("accept", checkpoints.take("accept"));
            self.finish(checkpoints);
        }
        if let Some(mut save) = root.take("save").and_then(|value| self.table("save", value)) {
            document.save.at = save.take("at").map(|at| self.texts("at", Some(at)));
            document.save.resume = self.text("resume", save.take("resume"));
            document.save.newer = self.text("newer", save.take("newer"));
            document.save.keep = self.int("keep", save.take("keep"));
            self.finish(save);
        }
        if let Some(mut merge) = root.take("merge").and_then(|value| self.table("merge", value)) {
            document.merge = Some(MergeEntry { run: self.text("run", merge.take("run")) });
            self.finish(merge);
        }
        for (name, value) in self.entries(&mut root, "code") {
            let code = self.code(&name, value);
            document.codes.push((name, code));
        }
        for (table, span) in self.tables(&mut root, "source") {
            document.sources.extend(self.source(table, span));
        }
        for (table, span) in self.tables(&mut root, "promise") {
            document.promises.extend(self.promise(table, span));
        }
        for (table, span) in self.tables(&mut root, "allow") {
            document.allowed.extend(self.allow(table, span));
        }
        for (table, span) in self.tables(&mut root, "migration") {
            document.migrations.extend(self.migration(table, span));
        }
        self.finish(root);
        document
    }

    fn level(&mut self, name: &Word, value: &Spot<'_>) -> LevelEntry {
        let Some(mut table) = self.table(&format!("level.{}", name.value), value) else { return LevelEntry::default() };
        let mut steps = Vec::new();
        if let Some(own) = table.take("steps").and_then(|value| self.table("steps", value)) {
            for (name, value) in own.table {
                if let Some(list) = self.literals("steps", Some(value)) {
                    steps.push((Spanned::new(name.get_ref().to_string(), name.span().into()), list));
                }
            }
        }
        let level = LevelEntry {
            steps,
            title: self.text("title", table.take("title")).map(|title| title.value),
            checkpoints: self.texts("checkpoints", table.take("checkpoints")),
            opens: self.text("opens", table.take("opens")),
            next: self.text("next", table.take("next")),
            exits: self.exits(table.take("exits")),
            hidden: self.text("hidden", table.take("hidden")),
            asset: self.text("asset", table.take("asset")),
        };
        self.finish(table);
        level
    }

    /// `made = { max = 6 }`: levels that players make.
    fn made(&mut self, value: &Spot<'_>) -> Option<MadeEntry> {
        let mut table = self.table("made", value)?;
        let made = MadeEntry {
            max: self.int("max", table.take("max")),
            title: self.text("title", table.take("title")),
            carries: self.texts("carries", table.take("carries")),
            span: value.span().into(),
        };
        self.finish(table);
        Some(made)
    }

    fn keys(&mut self, name: &Word, value: &Spot<'_>) -> KeysEntry {
        let Some(mut table) = self.table(&format!("keys.{}", name.value), value) else { return KeysEntry::default() };
        let keys = KeysEntry {
            names: self.texts("names", table.take("names")),
            open: self.bool("open", table.take("open")),
            max: self.int("max", table.take("max")),
            current: self.text("current", table.take("current")),
        };
        self.finish(table);
        keys
    }

    /// The exits of a level: names, each with a level.
    fn exits(&mut self, value: Option<&Spot<'_>>) -> Vec<(Word, Word)> {
        let Some(value) = value else { return Vec::new() };
        let DeValue::Table(table) = value.get_ref() else {
            self.wrong("exits", "a table of names and levels, as in `{ secret = \"grotto\" }`", value);
            return Vec::new();
        };
        let exits = table.iter().filter_map(|(name, level)| {
            let name = Spanned::new(name.get_ref().to_string(), name.span().into());
            Some((name, self.text("exits", Some(level))?))
        });
        exits.collect()
    }

    fn steps_table(&mut self, name: &Word, value: &Spot<'_>) -> TableEntry {
        let Some(mut table) = self.table(&format!("table.{}", name.value), value) else { return TableEntry::default() };
        let entry = TableEntry {
            steps: self.literals("steps", table.take("steps")),
            first: self.literal("first", table.take("first")),
            times: self.literal("times", table.take("times")),
            add: self.literal("add", table.take("add")),
            count: self.int("count", table.take("count")),
            falling: self.bool("falling", table.take("falling")),
        };
        self.finish(table);
        entry
    }

    fn field(&mut self, name: &Word, value: &Spot<'_>) -> FieldEntry {
        let Some(mut table) = self.table(&format!("field.{}", name.value), value) else { return FieldEntry::default() };
        let field = FieldEntry {
            ty: self.text("type", table.take("type")),
            of: self.texts("of", table.take("of")),
            per: self.one_or_more("per", table.take("per")),
            lasts: self.text("lasts", table.take("lasts")),
            after_failure: self.text("after_failure", table.take("after_failure")),
            written_by: self.text("written_by", table.take("written_by")),
            range: self.range(table.take("range")),
            default: self.literal("default", table.take("default")),
            by: self.one_or_more("by", table.take("by")),
            max_len: self.int("max_len", table.take("max_len")),
            optional: self.bool("optional", table.take("optional")),
            label: self.text("label", table.take("label")).map(|label| label.value),
            save: self.bool("save", table.take("save")),
            thumbnail: self.bool("thumbnail", table.take("thumbnail")),
            counts: self.text("counts", table.take("counts")),
            counts_in: self.text("in", table.take("in")),
            merge: self.text("merge", table.take("merge")),
            on: self.on(table.take("on")),
        };
        self.finish(table);
        field
    }

    /// A derived value: an expression, or a table with one and what it is kept for.
    fn derived(&mut self, name: &Word, value: &Spot<'_>) -> Option<DerivedEntry> {
        match value.get_ref() {
            DeValue::Table(_) => {
                let mut table = self.table("derived value", value)?;
                let per = self.text("per", table.take("per"));
                let said = table.take("value");
                if said.is_none() {
                    self.error(value.span().into(), format!("`{}` does not say what it is", name.value)).help =
                        Some("add `value`, an expression, as in `{ per = \"level\", value = \"stars >= 3\" }`".into());
                }
                let text = self.text("value", said);
                let label = self.text("label", table.take("label")).map(|label| label.value);
                self.finish(table);
                Some(DerivedEntry { per, label, value: text? })
            }
            DeValue::String(_) => {
                Some(DerivedEntry { per: None, label: None, value: self.text(&name.value, Some(value))? })
            }
            _ => {
                self.wrong(&name.value, "an expression, or a table with `per` and `value`", value);
                None
            }
        }
    }

    /// A member of a struct: its type alone, or a table of what is to be said of it.
    fn member(&mut self, name: &Word, value: &Spot<'_>) -> Option<FieldEntry> {
        let said = match value.get_ref() {
            DeValue::String(_) => FieldEntry { ty: self.text(&name.value, Some(value)), ..FieldEntry::default() },
            DeValue::Table(_) => {
                let mut table = self.table("member", value)?;
                let entry = FieldEntry {
                    ty: self.text("type", table.take("type")),
                    of: self.texts("of", table.take("of")),
                    range: self.range(table.take("range")),
                    default: self.literal("default", table.take("default")),
                    max_len: self.int("max_len", table.take("max_len")),
                    ..FieldEntry::default()
                };
                self.finish(table);
                entry
            }
            _ => {
                self.wrong(&name.value, "a type, or a table with a `type`", value);
                return None;
            }
        };
        Some(said)
    }

    fn range(&mut self, value: Option<&Spot<'_>>) -> Option<Spanned<(Literal, Literal)>> {
        let value = value?;
        if let DeValue::Array(items) = value.get_ref()
            && let [lowest, highest] = &items.iter().collect::<Vec<_>>()[..]
        {
            let lowest = self.literal("range", Some(lowest));
            let highest = self.literal("range", Some(highest));
            return Some(Spanned::new((lowest?, highest?), value.span().into()));
        }
        self.error(value.span().into(), "`range` wants the lowest and the highest value, as in `[0, 9]`");
        None
    }

    fn on(&mut self, value: Option<&Spot<'_>>) -> Vec<(Word, Vec<RuleEntry>)> {
        let Some(table) = value.and_then(|value| self.table("on", value)) else { return Vec::new() };
        let mut on = Vec::new();
        for (moment, value) in table.table {
            let rules = match value.get_ref() {
                DeValue::Array(items) => items.iter().filter_map(|item| self.rule(item)).collect(),
                _ => self.rule(value).into_iter().collect(),
            };
            on.push((Spanned::new(moment.get_ref().to_string(), moment.span().into()), rules));
        }
        on
    }

    fn rule(&mut self, value: &Spot<'_>) -> Option<RuleEntry> {
        match value.get_ref() {
            DeValue::String(word) => {
                let word = Spanned::new(word.to_string(), value.span().into());
                Some(RuleEntry { does: EffectEntry::Bare(word), when: None })
            }
            DeValue::Table(table) => {
                let mut table = TomlTable::new("on", table);
                let when = self.text("when", table.take("when"));
                let bare = self.text("do", table.take("do")).map(EffectEntry::Bare);
                let mut effects: Vec<EffectEntry> = bare.into_iter().collect();
                for operation in Operation::ALL.iter().copied() {
                    let name = operation.word();
                    if let Some(operand) = table.take(name) {
                        let key = table.table.keys().find(|key| key.get_ref() == name);
                        let span = key.map_or(SourceSpan::default(), |key| key.span().into());
                        effects.extend(
                            self.operand(name, operand)
                                .map(|operand| EffectEntry::Operand(Spanned::new(operation, span), operand)),
                        );
                    }
                }
                let errors = self.errors.len();
                self.finish(table);
                match (effects.pop(), effects.is_empty()) {
                    (Some(does), true) => return Some(RuleEntry { does, when }),
                    (Some(_), false) => {
                        let error = self.error(value.span().into(), "a rule does one thing, and this one does several");
                        error.help = Some("write a list of rules; the first whose `when` holds decides".into());
                    }
                    (None, _) if errors == self.errors.len() => {
                        let words: Vec<&str> = Operation::ALL.iter().map(|operation| operation.word()).collect();
                        let error = self.error(value.span().into(), "this rule does nothing");
                        error.help = Some(format!("write one of: do, {}", words.join(", ")));
                    }
                    (None, _) => {}
                }
                None
            }
            _ => {
                self.wrong("on", "a fate or a table, as in `\"keep\"` or `{ add = 1 }`", value);
                None
            }
        }
    }

    /// An operand is an expression; a bare number or bool is one too.
    fn operand(&mut self, name: &str, value: &Spot<'_>) -> Option<Word> {
        let literal = self.literal(name, Some(value))?;
        let text = match literal.value {
            Value::Text(text) => text.to_string(),
            other @ (Value::Bool(_) | Value::Int(_) | Value::Float(_)) => other.to_string(),
            _ => {
                self.wrong(name, "an expression in quotes, or a bare number", value);
                return None;
            }
        };
        Some(Spanned::new(text, literal.span))
    }
}
