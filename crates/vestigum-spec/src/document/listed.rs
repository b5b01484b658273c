//! The tables of a document that stand one after the other: `[[source]]`, `[[promise]]`, `[[allow]]`, `[[migration]]`; and codes.

use toml::de::DeValue;

use crate::diagnostic::{SourceSpan, Spanned};
use crate::document::read::{Reader, Spot, TomlTable};
use crate::document::{AllowEntry, CodeEntry, MigrationEntry, PromiseEntry, SourceEntry, StepEntry, Word};

impl Reader {
    /// The tables of `[[name]]`.
    pub(super) fn tables<'t, 'i>(
        &mut self,
        root: &mut TomlTable<'t, 'i>,
        name: &'static str,
    ) -> Vec<(TomlTable<'t, 'i>, SourceSpan)> {
        let Some(value) = root.take(name) else { return Vec::new() };
        let DeValue::Array(items) = value.get_ref() else {
            self.wrong(name, "tables", value);
            let last = self.errors.len() - 1;
            self.errors[last].help = Some(format!("begin each with `[[{name}]]`"));
            return Vec::new();
        };
        items.iter().filter_map(|item| Some((self.table(name, item)?, item.span().into()))).collect()
    }

    /// A text that must be there.
    fn needed(
        &mut self,
        table: &mut TomlTable<'_, '_>,
        key: &'static str,
        span: SourceSpan,
        help: &str,
    ) -> Option<Word> {
        let value = table.take(key);
        if value.is_none() {
            self.error(span, format!("`[[{}]]` does not say `{key}`", table.name)).help = Some(help.into());
        }
        self.text(key, value)
    }

    pub(super) fn code(&mut self, name: &Word, value: &Spot<'_>) -> CodeEntry {
        let Some(mut table) = self.table(&format!("code.{}", name.value), value) else { return CodeEntry::default() };
        let code = CodeEntry {
            carries: self.one_or_more("carries", table.take("carries")),
            form: self.text("as", table.take("as")),
            max: self.int("max", table.take("max")),
            step: self.int("step", table.take("step")),
            alphabet: self.text("alphabet", table.take("alphabet")),
            group: self.int("group", table.take("group")),
            check: self.int("check", table.take("check")),
            once: self.text("once", table.take("once")),
        };
        self.finish(table);
        code
    }

    pub(super) fn source(&mut self, mut table: TomlTable<'_, '_>, span: SourceSpan) -> Option<SourceEntry> {
        let name = self.needed(&mut table, "name", span, "name what play finds, as in `name = \"letter\"`");
        let levels = self.one_or_more("in", table.take("in"));
        let mut gives = Vec::new();
        match table.take("gives").map(|value| (value, value.get_ref())) {
            Some((_, DeValue::Table(entries))) => {
                for (field, value) in entries {
                    let field = Spanned::new(field.get_ref().to_string(), field.span().into());
                    gives.extend(self.literal("gives", Some(value)).map(|value| (field, value)));
                }
            }
            Some((value, _)) => self.wrong("gives", "a table, as in `{ letters = 10 }`", value),
            None => {
                self.error(span, "`[[source]]` does not say what it `gives`").help =
                    Some("say which fields it adds to, as in `gives = { letters = 10 }`".into());
            }
        }
        let times = self.int("times", table.take("times"));
        let lasts = self.text("lasts", table.take("lasts"));
        let after_failure = self.text("after_failure", table.take("after_failure"));
        self.finish(table);
        Some(SourceEntry { name: name?, levels, gives, times, lasts, after_failure })
    }

    pub(super) fn promise(&mut self, mut table: TomlTable<'_, '_>, span: SourceSpan) -> Option<PromiseEntry> {
        let help = "name what is promised, as in `name = \"a replay never lowers a record\"`";
        let name = self.needed(&mut table, "name", span, help);
        let never_falls = self.one_or_more("never_falls", table.take("never_falls"));
        let holds = self.text("holds", table.take("holds"));
        let after = self.one_or_more("after", table.take("after"));
        let can = self.text("can", table.take("can"));
        let without = self.one_or_more("without", table.take("without"));
        self.finish(table);
        Some(PromiseEntry { name: name?, never_falls, holds, after, can, without })
    }

    pub(super) fn allow(&mut self, mut table: TomlTable<'_, '_>, span: SourceSpan) -> Option<AllowEntry> {
        let code = self.needed(&mut table, "code", span, "name the code of the finding, as in `code = \"V102\"`");
        let of = self.text("of", table.take("of"));
        let because = self.needed(&mut table, "because", span, "say why it is meant; whoever reads this next will ask");
        self.finish(table);
        Some(AllowEntry { code: code?, of, because: because? })
    }

    pub(super) fn migration(&mut self, mut table: TomlTable<'_, '_>, span: SourceSpan) -> Option<MigrationEntry> {
        let to = table.take("to");
        if to.is_none() {
            self.error(span, "`[[migration]]` does not say `to` which version it leads").help =
                Some("say it, as in `to = 2`: it takes saves of the version before it".into());
        }
        let to = self.int("to", to);
        let mut steps = Vec::new();
        match table.take("steps").map(|value| (value, value.get_ref())) {
            None => {}
            Some((_, DeValue::Array(items))) => {
                for item in items {
                    let step = self.table("step", item).and_then(|table| self.step(table, item.span().into()));
                    steps.extend(step.map(|step| Spanned::new(step, item.span().into())));
                }
            }
            Some((value, _)) => self.wrong("steps", "a list of steps", value),
        }
        self.finish(table);
        Some(MigrationEntry { to: to?, steps })
    }

    fn step(&mut self, mut table: TomlTable<'_, '_>, span: SourceSpan) -> Option<StepEntry> {
        const KINDS: [&str; 5] = ["rename", "fill", "drop", "move", "hook"];
        let kind = KINDS.into_iter().find(|kind| table.table.iter().any(|(name, _)| name.get_ref() == kind));
        let Some(kind) = kind else {
            let message = "this step does none of what a step can do";
            self.error(span, message).help = Some(format!("a step begins with one of: {}", KINDS.join(", ")));
            return None;
        };
        let first = self.text(kind, table.take(kind));
        let mut part = |this: &mut Self, key: &'static str| {
            let value = table.take(key);
            if value.is_none() {
                this.error(span, format!("this `{kind}` does not say `{key}`"));
            }
            this.text(key, value)
        };
        let step = match kind {
            "rename" => {
                let (from, to) = (part(self, "from"), part(self, "to"));
                let of = self.text("of", table.take("of"));
                first.zip(from).zip(to).map(|((what, from), to)| StepEntry::Rename { what, of, from, to })
            }
            "fill" => part(self, "with").zip(first).map(|(with, target)| StepEntry::Fill { target, with }),
            "drop" => {
                let name = part(self, "name");
                let of = self.text("of", table.take("of"));
                first.zip(name).map(|(what, name)| StepEntry::Drop { what, of, name })
            }
            "move" => part(self, "to").zip(first).map(|(to, field)| StepEntry::Move { field, to }),
            _ => first.map(|field| StepEntry::Hook { field }),
        };
        self.finish(table);
        step
    }
}
