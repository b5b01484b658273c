//! The tables of a document: steps that are listed, steps by a formula, and the levels' own.

use rustc_hash::FxHashMap;

use crate::codes;
use crate::diagnostic::Diagnostic;
use crate::document::{Literal, TableEntry, Word};
use crate::model::Names;
use crate::model::table::{MAX_STEPS, Table};
use crate::reading::Resolver;
use crate::value::{Value, below};

impl Resolver<'_> {
    pub(super) fn tables(&mut self, spec: &mut Names) {
        for (name, entry) in &self.document.tables {
            if !self.name("table", name) {
                continue;
            }
            let steps = match (&entry.steps, &entry.first) {
                (Some(_), Some(first)) => {
                    self.error(codes::SHAPE, first.span, "a table has `steps` or a formula with `first`, not both");
                    Vec::new()
                }
                (Some(steps), None) => self.steps(steps),
                (None, Some(_)) => self.formula(name, entry),
                // A table without steps is one whose levels all have their own.
                (None, None) => Vec::new(),
            };
            let (name, falling) = (name.value.as_str().into(), entry.falling);
            spec.tables.push(Table { name, steps, of_levels: FxHashMap::default(), falling, float: false });
        }
        for (level, entry) in &self.document.levels {
            let Some(index) = spec.level_ids.get(level.value.as_str()).copied() else { continue };
            for (name, steps) in &entry.steps {
                let steps = self.steps(steps);
                match spec.tables.iter_mut().find(|table| *table.name == *name.value) {
                    Some(table) => drop(table.of_levels.insert(index, steps)),
                    None => {
                        let message = format!("no table is called `{}`", name.value);
                        let error = Diagnostic::error(codes::UNKNOWN_NAME, name.span, message);
                        let error = error.help(format!("declare it under [table.{}]", name.value));
                        self.errors.push(error.suggest(&name.value, spec.tables.iter().map(|table| &*table.name)));
                    }
                }
            }
        }
        for table in &mut spec.tables {
            table.widen();
        }
    }

    /// Steps are numbers that ascend.
    fn steps(&mut self, steps: &[Literal]) -> Vec<Value> {
        let mut out: Vec<Value> = Vec::new();
        for step in steps {
            if !matches!(step.value, Value::Int(_) | Value::Float(_)) {
                self.error(codes::WRONG_TYPE, step.span, "a step is a number");
            } else if let Some(last) = out.last().filter(|last| !below(last, &step.value)) {
                let message = format!("this step is not above the one before, {last}");
                self.error(codes::OUT_OF_RANGE, step.span, message).help =
                    Some("steps ascend; where low is good, say `falling = true`".into());
            } else {
                out.push(step.value.clone());
            }
        }
        out
    }

    fn formula(&mut self, name: &Word, entry: &TableEntry) -> Vec<Value> {
        let number = |literal: &Option<Literal>, default: f64| {
            literal.as_ref().map_or(default, |literal| literal.value.as_float())
        };
        let (first, times, add) = (number(&entry.first, 0.0), number(&entry.times, 1.0), number(&entry.add, 0.0));
        let count = entry.count.as_ref().and_then(|count| usize::try_from(count.value).ok());
        let Some(count) = count.filter(|count| (1..=MAX_STEPS).contains(count)) else {
            let span = entry.count.as_ref().map_or(name.span, |count| count.span);
            let message = format!("a formula says with `count` how many steps there are, from 1 to {MAX_STEPS}");
            self.error(codes::OUT_OF_RANGE, span, message);
            return Vec::new();
        };
        let steps = Table::formula(first, times, add, count);
        if first < 1.0 || steps.windows(2).any(|pair| !below(&pair[0], &pair[1])) {
            let span = entry.first.as_ref().map_or(name.span, |first| first.span);
            let message = format!("the steps of `{}` do not ascend", name.value);
            self.error(codes::OUT_OF_RANGE, span, message).help =
                Some("the n-th step needs first * times^(n-1) + add * (n-1) more, which must be at least 1".into());
        }
        steps
    }
}
