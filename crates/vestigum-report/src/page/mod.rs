//! One page with everything that is known of a spec: what persists, the map, playthroughs with their charts, findings, what became of old saves,
//! and the boards of players.
//!
//! The page is one HTML document without anything to fetch. It can be read without scripts; a script adds the arrow keys and the filters.
//!
//! ```
//! use vestigum_core::Spec;
//! use vestigum_report::page::Report;
//!
//! let spec = Spec::from_toml("[game]\nid = \"fellpost\"\n[field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"")?;
//! let page = Report::new(&spec).html();
//! assert!(page.starts_with("<!DOCTYPE html>") && page.contains("xp"));
//! # Ok::<(), vestigum_core::Diagnostics>(())
//! ```

mod boards;
mod charts;
mod fates;
mod findings;
mod stories;
mod versions;

use minijinja::syntax::SyntaxConfig;
use minijinja::value::Serde;
use minijinja::{Environment, HtmlEscape};
use serde::Serialize;
use vestigum_core::{Progress, Spec};
use vestigum_verify::explore::{Ending, Question};
use vestigum_verify::lint::Checked;
use vestigum_verify::playthrough::Run;
use vestigum_verify::probe::{ProbeVerdict, Weakened};
use vestigum_verify::proof::Proof;

use crate::level_map::LevelMap;

const PAGE: &str = include_str!("page.html");
const STYLE: &str = include_str!("page.css");
const SCRIPT: &str = include_str!("page.js");

/// Describes what is to be on the page. Every part but the fate table and the map may be left out.
pub struct Report<'s> {
    spec: &'s Spec,
    source: Option<&'s str>,
    checked: Option<&'s Checked>,
    runs: Vec<PlayedRun<'s>>,
    answers: Option<Vec<(&'s Question, &'s Ending)>>,
    probed: Option<&'s [(Weakened, ProbeVerdict)]>,
    proof: Option<&'s Proof>,
    players: Vec<ReportPlayer<'s>>,
}

/// A playthrough that ran.
#[derive(Clone, Copy, Debug)]
pub struct PlayedRun<'s> {
    /// The file in which it stands, as it was named.
    pub file: &'s str,
    /// Says what came of it.
    pub run: &'s Run,
}

/// A player and their saved progress.
#[derive(Clone, Copy)]
pub struct ReportPlayer<'s> {
    /// The player's name.
    pub name: &'s str,
    /// When the progress was saved, for people.
    pub saved_at: &'s str,
    /// Says where the player stands, for people.
    pub place: &'s str,
    /// The progress.
    pub progress: &'s Progress,
}

impl<'s> Report<'s> {
    /// A page with the fate table and the map of a spec.
    pub fn new(spec: &'s Spec) -> Report<'s> {
        Report {
            spec,
            source: None,
            checked: None,
            runs: Vec::new(),
            answers: None,
            probed: None,
            proof: None,
            players: Vec::new(),
        }
    }

    /// The text of the spec, so that the page can name lines of it.
    #[must_use]
    pub fn with_source(mut self, source: &'s str) -> Report<'s> {
        self.source = Some(source);
        self
    }

    /// Adds what `check` finds.
    #[must_use]
    pub fn with_findings(mut self, checked: &'s Checked) -> Report<'s> {
        self.checked = Some(checked);
        self
    }

    /// Adds playthroughs that ran, with their timelines.
    #[must_use]
    pub fn with_runs(mut self, runs: Vec<PlayedRun<'s>>) -> Report<'s> {
        self.runs = runs;
        self
    }

    /// Adds the questions that were explored, and their answers.
    #[must_use]
    pub fn with_answers(mut self, answers: Vec<(&'s Question, &'s Ending)>) -> Report<'s> {
        self.answers = Some(answers);
        self
    }

    /// Adds what noticed each way to weaken the spec.
    #[must_use]
    pub fn with_probe(mut self, probed: &'s [(Weakened, ProbeVerdict)]) -> Report<'s> {
        self.probed = Some(probed);
        self
    }

    /// Adds what becomes of saves of older versions.
    #[must_use]
    pub fn with_proof(mut self, proof: &'s Proof) -> Report<'s> {
        self.proof = Some(proof);
        self
    }

    /// Players and their saved progress.
    #[must_use]
    pub fn with_players(mut self, players: Vec<ReportPlayer<'s>>) -> Report<'s> {
        self.players = players;
        self
    }

    /// The page.
    pub fn html(&self) -> String {
        render(&self.page(LevelMap::of(self.spec)))
    }

    /// A page with the fate table alone.
    pub fn fates_html(&self) -> String {
        let alone = Report { source: self.source, ..Report::new(self.spec) };
        let no_map =
            LevelMap { title: self.spec.title().to_owned(), levels: Vec::new(), ways: Vec::new(), has_player: false };
        render(&alone.page(no_map))
    }

    fn page(&self, map: LevelMap) -> Page {
        let spec = self.spec;
        let findings = findings::view(self.checked, self.answers.as_deref(), self.probed);
        Page {
            title: spec.title().to_owned(),
            version: spec.version(),
            facts: Facts {
                fields: spec.fields().filter(|field| !field.is_built_in()).count(),
                levels: spec.model().shipped_levels().len(),
                playthroughs: self.runs.len(),
                failed: self.runs.iter().filter(|played| !played.run.passed()).count(),
                has_findings: self.checked.is_some() || self.answers.is_some() || self.probed.is_some(),
                findings: findings.count,
            },
            fates: fates::view(spec, self.source),
            has_map: !map.levels.is_empty(),
            conditions: conditions(&map),
            map: map.as_inline_svg(),
            stories: stories::view(&self.runs),
            findings,
            versions: self.proof.map(|proof| versions::view(spec, proof)).unwrap_or_default(),
            players: self.players.iter().map(|player| boards::view(spec, player)).collect(),
            style: format!("{STYLE}{}", LevelMap::style()),
            script: SCRIPT,
        }
    }
}

/// Fills the page in. The page is part of the crate, so it can always be filled in.
fn render(page: &Page) -> String {
    let mut environment = Environment::new();
    environment.add_filter("coded", coded);
    let rendered = SyntaxConfig::builder().trim_blocks(true).lstrip_blocks(true).build().and_then(|syntax| {
        environment.set_syntax(syntax);
        environment.template_from_named_str("page.html", PAGE)?.render(Serde(page))
    });
    rendered.unwrap_or_else(|error| format!("<!DOCTYPE html><title>the page cannot be made</title><p>{error:#}"))
}

/// A sentence whose pieces between backticks are code.
fn coded(text: &str) -> minijinja::Value {
    let pieces: Vec<&str> = text.split('`').collect();
    // A backtick without another one is a backtick.
    if pieces.len().is_multiple_of(2) {
        return minijinja::Value::from_safe_string(HtmlEscape(text).to_string());
    }
    let piece = |(index, piece): (usize, &&str)| match index % 2 {
        0 => HtmlEscape(piece).to_string(),
        _ => format!("<code>{}</code>", HtmlEscape(piece)),
    };
    minijinja::Value::from_safe_string(pieces.iter().enumerate().map(piece).collect())
}

/// Everything that the page shows.
#[derive(Serialize)]
struct Page {
    title: String,
    version: i64,
    facts: Facts,
    fates: fates::FatesView,
    has_map: bool,
    map: String,
    conditions: Vec<ConditionView>,
    stories: Vec<stories::FileView>,
    findings: findings::FindingsView,
    versions: Vec<versions::VersionView>,
    players: Vec<boards::PlayerView>,
    style: String,
    script: &'static str,
}

/// The figures at the top.
#[derive(Serialize)]
struct Facts {
    fields: usize,
    levels: usize,
    playthroughs: usize,
    failed: usize,
    has_findings: bool,
    findings: usize,
}

/// A condition of a level, for below the map.
#[derive(Serialize)]
struct ConditionView {
    title: String,
    what: &'static str,
    text: String,
}

fn conditions(map: &LevelMap) -> Vec<ConditionView> {
    let mut conditions = Vec::new();
    for level in &map.levels {
        let mut say = |what, text: &Option<String>| {
            conditions.extend(text.clone().map(|text| ConditionView { title: level.title.clone(), what, text }));
        };
        say("opens when", &level.opens);
        say("is hidden while", &level.hidden);
    }
    conditions
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_stands_in_backticks_is_code_and_nothing_is_a_tag() {
        let html = |text: &str| coded(text).to_string();
        assert_eq!(html("`a < b` & c"), "<code>a &lt; b</code> &amp; c");
        assert_eq!(html("a ` b <i>"), "a ` b &lt;i&gt;");
        assert_eq!(html(""), "");
    }
}
