//! `vestigum map`: the levels, what opens which, and where a player stands.

use std::path::PathBuf;

use anstyle::Style;
use clap::ValueEnum;
use serde_json::{Value as Json, json};

use vestigum_report::level_map::{Ink, LevelMap, WayKind};

use super::saves::{Shown, ShownPlayer, moment_of};
use crate::show::{self, BAD, GOOD, Output, QUIET, RULE, STRONG, paint};
use crate::{Verdict, input};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The spec, a TOML document
    spec: PathBuf,
    /// The form of the map
    #[arg(long, value_enum, default_value_t = Format::Text)]
    format: Format,
    #[command(flatten)]
    shown: Shown,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Format {
    /// For a terminal
    Text,
    /// A picture
    Svg,
    /// For Graphviz
    Dot,
    /// A flowchart for Markdown
    Mermaid,
}

pub(crate) fn run(out: &Output, arguments: &Arguments) -> Verdict {
    attempt(out, arguments).unwrap_or_else(|verdict| verdict)
}

fn attempt(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let spec = input::spec(out, &arguments.spec)?;
    let player = arguments.shown.one(out, &spec)?;
    let map = match &player {
        None => LevelMap::of(&spec),
        Some(player) => LevelMap::with_player(&spec, &player.progress),
    };
    if let Some(player) = player.filter(|_| arguments.format == Format::Text && !out.json) {
        let ShownPlayer { name, place, .. } = player;
        let saved = format!("saved {} UTC, stands at:", moment_of(&player.saved_at));
        out.line(format_args!("{} {} {}\n", paint(STRONG, name), paint(QUIET, saved), paint(STRONG, place)));
    }
    match arguments.format {
        _ if out.json => out.json(&as_json(&map)),
        Format::Text => out.line(map.as_text(show::width(), &|ink, text| paint(style_of(ink), text)).trim_end()),
        Format::Svg => out.document(map.as_svg().trim_end()),
        Format::Dot => out.document(map.as_dot().trim_end()),
        Format::Mermaid => out.document(map.as_mermaid().trim_end()),
    }
    Ok(Verdict::Fine)
}

fn style_of(ink: Ink) -> Style {
    match ink {
        Ink::Plain | Ink::Open => Style::new(),
        Ink::Line | Ink::Quiet | Ink::Locked => QUIET,
        Ink::Completed => GOOD,
        Ink::Title => STRONG,
        Ink::Here => RULE.bold(),
        Ink::Needs => RULE,
        Ink::Warning => BAD,
    }
}

fn as_json(map: &LevelMap) -> Json {
    let levels = map.levels.iter().map(|level| {
        let player = level.player.as_ref().map(|player| {
            json!({
                "standing": player.standing.word(), "why": player.why, "here": player.here.is_some(),
                "checkpoint": player.here.clone().flatten(),
            })
        });
        json!({
            "level": level.id, "title": level.title, "checkpoints": level.checkpoints, "opens": level.opens, "needs": level.needs,
            "hidden": level.hidden, "can_open": !level.unreachable, "player": player,
        })
    });
    let ways = map.ways.iter().map(|way| {
        let (kind, exit) = match &way.kind {
            WayKind::Opens => ("opens", None),
            WayKind::Exit(exit) => ("exit", Some(exit)),
            WayKind::LeadsOn => ("leads on", None),
        };
        json!({ "from": map.levels[way.from].id, "to": map.levels[way.to].id, "is": kind, "exit": exit, "or_another": way.either })
    });
    json!({ "levels": levels.collect::<Vec<_>>(), "ways": ways.collect::<Vec<_>>() })
}
