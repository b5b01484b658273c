//! Where levels lead, when they begin anew, which the board hides, and the files they are in.

use std::sync::Arc;

use rustc_hash::FxHashMap;

use crate::codes;
use crate::diagnostic::Diagnostic;
use crate::document::Word;
use crate::model::expression::Expression;
use crate::model::level::Level;
use crate::model::node::Node;
use crate::model::{Names, Readable};
use crate::reading::compile::{Compiler, Scope, Typed};
use crate::reading::{Resolver, unknown_moment};
use crate::syntax::parse::{Ast, AstKind};
use crate::value::Value;
use crate::value::types::Type;
use crate::vocabulary::moment::Moment;
use crate::vocabulary::span::Lasts;

impl Compiler<'_> {
    /// The exit by which a level was completed: it is known while the rules of `complete` are judged.
    pub(super) fn exit(&mut self, ast: &Ast) -> Option<Typed> {
        let message = match self.scope {
            Scope::Rule(Moment::Complete) if self.exits().next().is_some() => return Some((Node::Exit, Type::Text)),
            Scope::Rule(Moment::Complete) => "no level has an exit".to_owned(),
            Scope::Opens
            | Scope::OverWhen
            | Scope::Merge
            | Scope::Rule(_)
            | Scope::Derived
            | Scope::DerivedOf(_)
            | Scope::Play
            | Scope::Promise { .. }
            | Scope::Fill { .. } => "an exit is taken at `complete`, and only its rules know by which one".to_owned(),
        };
        let help = "name exits in `[level.NAME]`, and keep what was taken with `on.complete = { set = \"exit\" }`";
        let error = self.error(codes::OUT_OF_REACH, ast.span, message).help(help);
        self.fail(error)
    }

    /// A text that an exit is compared with must be one: anything else would never hold, and nothing would tell.
    pub(super) fn check_exit(&mut self, left: &Ast, right: &Ast) -> Option<()> {
        let exit = |ast: &Ast| matches!(&ast.kind, AstKind::Name(name) if name == "exit");
        let (text, at) = match (&left.kind, &right.kind) {
            (_, AstKind::Literal(Value::Text(text))) if exit(left) => (text, right),
            (AstKind::Literal(Value::Text(text)), _) if exit(right) => (text, left),
            _ => return Some(()),
        };
        if text.is_empty() || self.exits().any(|known| known == &**text) {
            return Some(());
        }
        let known: Vec<&str> = self.exits().collect();
        let error = self
            .error(codes::UNKNOWN_NAME, at.span, format!("no level has an exit `{text}`"))
            .help(format!("the exits are: {}; `''` where none was named", known.join(", ")))
            .suggest(text, known);
        self.fail(error)
    }

    fn exits(&self) -> impl Iterator<Item = &'_ str> + use<'_> {
        self.spec.levels.iter().flat_map(Level::exits)
    }
}

impl Resolver<'_> {
    /// The exits of the levels, when all levels have their names.
    pub(super) fn exits(&mut self, spec: &mut Names) {
        let document = self.document;
        for (name, entry) in &document.levels {
            let Some(index) = spec.level_ids.get(name.value.as_str()).copied() else { continue };
            let mut exits: Vec<(Arc<str>, u32)> = Vec::new();
            for (exit, to) in &entry.exits {
                let known = self.name("exit", exit);
                let Some(to) = self.level_named(spec, &format!("the exit `{}`", exit.value.escape_debug()), to) else {
                    continue;
                };
                if known {
                    exits.push((exit.value.as_str().into(), to));
                }
            }
            for (_, to) in &exits {
                let entrances = &mut spec.levels[*to as usize].entrances;
                if entrances.last() != Some(&index) {
                    entrances.push(index);
                }
            }
            spec.levels[index as usize].exits = exits;
        }
    }

    /// The level that something leads to.
    pub(super) fn level_named(&mut self, spec: &Names, what: &str, to: &Word) -> Option<u32> {
        let found = spec.level_ids.get(to.value.as_str()).copied();
        if found.is_none() {
            let message = format!("{what} names no level: `{}`", to.value.escape_debug());
            let error = Diagnostic::error(codes::LEVEL_ORDER, to.span, message);
            self.errors.push(error.suggest(&to.value, spec.levels.iter().map(|level| &*level.id)));
        }
        found
    }

    /// The moments at which `completed` and `opened` begin anew: every one that begins a run, unless it is said.
    pub(super) fn cleared_at(&mut self, spec: &Names) -> Vec<Moment> {
        let document = self.document;
        let all: Vec<Moment> = spec.moments().filter(|moment| moment.begins_run()).collect();
        let Some(first) = document.cleared_at.first() else { return all };
        if spec.lasts != Lasts::Run {
            self.error(codes::SHAPE, first.span, "`cleared_at` is said of levels that last a run").help = Some(
                "add `lasts = \"run\"` to `[levels]`; otherwise what is completed stays so with the profile".into(),
            );
        }
        let mut cleared_at = Vec::new();
        for word in &document.cleared_at {
            match spec.moment(&word.value) {
                None => self.errors.push(unknown_moment(spec, word)),
                Some(moment) if moment.begins_run() => cleared_at.push(moment),
                Some(_) => {
                    let known: Vec<&str> = all.iter().map(|moment| spec.moment_name(*moment)).collect();
                    let message = format!("no run begins at `{}`, so levels do not begin anew there", word.value);
                    self.error(codes::SHAPE, word.span, message).help = Some(format!(
                        "runs begin at: {}; the game's own are named in `[moments] new_runs`",
                        known.join(", ")
                    ));
                }
            }
        }
        cleared_at
    }

    /// The folder of the levels' files, and the file of each.
    pub(super) fn assets(&mut self, spec: &mut Names) {
        let document = self.document;
        let mut files: FxHashMap<&str, &str> = FxHashMap::default();
        spec.assets = document.assets.as_ref().and_then(|folder| self.inner_path("assets", folder));
        for (name, entry) in &document.levels {
            let Some(file) = &entry.asset else { continue };
            if document.assets.is_none() {
                self.error(codes::SHAPE, file.span, "no folder is named in which this file is").help =
                    Some("add `assets = \"…\"` to `[levels]`, a folder beside the spec".into());
            }
            if let Some(other) = files.insert(&file.value, &name.value) {
                let message = format!("`{other}` has the same file as `{}`", name.value);
                self.error(codes::SHAPE, file.span, message).help = Some("each level has a file of its own".into());
            }
            let file = self.inner_path("asset", file);
            if let Some(index) = spec.level_ids.get(name.value.as_str()).copied() {
                spec.levels[index as usize].asset = file;
            }
        }
    }

    /// A path that leads down from where it begins.
    fn inner_path(&mut self, what: &str, word: &Word) -> Option<String> {
        let path = &word.value;
        let parts = || path.split('/');
        let sound = !path.contains(['\\', ':']) && parts().all(|part| !matches!(part.trim(), "" | "." | ".."));
        if !sound {
            let message = format!("`{what}` wants a path that leads down, with `/` between its parts");
            self.error(codes::SHAPE, word.span, message).help =
                Some("write it from the folder of the spec, as in `maps` or `maps/inner`".into());
        }
        sound.then(|| path.clone())
    }

    /// For each level, the condition under which the board does not show it.
    pub(super) fn hidden(&mut self, spec: &Readable) -> Vec<Option<Expression>> {
        let document = self.document;
        let mut hidden: Vec<Option<Expression>> = spec.levels.iter().map(|_| None).collect();
        for (name, entry) in &document.levels {
            let Some(index) = spec.level_ids.get(name.value.as_str()).copied() else { continue };
            hidden[index as usize] =
                entry.hidden.as_ref().and_then(|condition| self.condition(spec, Scope::Opens, condition));
        }
        hidden
    }
}
