//! `vestigum`: check a spec, show what persists, run playthroughs.

mod commands;
mod fold;
mod input;
mod show;

use std::process::ExitCode;

use clap::{Parser, Subcommand};
use show::{ColorWhen, Output};
use tracing::Level;
use tracing_subscriber::filter::Targets;
use tracing_subscriber::prelude::*;

/// Say in one document which player progress persists, and prove it.
#[derive(Parser)]
#[command(name = "vestigum", version, disable_help_subcommand = true)]
struct Arguments {
    /// Print JSON for machines instead of text for people
    #[arg(long, global = true)]
    json: bool,
    /// Colour the output
    #[arg(long, global = true, value_enum, default_value_t = ColorWhen::Auto, value_name = "WHEN")]
    color: ColorWhen,
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Copy the demo game into a folder and run a whole example on it
    Demo,
    /// Write a commented starter spec and a first playthrough
    New(commands::new::Arguments),
    /// Find everything that is wrong with a spec
    Check(commands::check::Arguments),
    /// Show the fate table: every field against every moment
    Fate(commands::fate::Arguments),
    /// Draw the map of the levels: what opens which, what can never open, where a player stands
    Map(commands::map::Arguments),
    /// Run playthroughs
    Play(commands::play::Arguments),
    /// Prove promises by the rules, or search everything that can be played for the shortest way to break them
    Explore(commands::explore::Arguments),
    /// Write one page with everything: what persists, the map, playthroughs, findings, old versions, players
    Report(commands::report::Arguments),
    /// Weaken each rule in turn and see whether any playthrough or promise notices
    Probe(commands::probe::Arguments),
    /// Try power cuts, full disks, errors and damage under the saves of playthroughs
    Faults(commands::faults::Arguments),
    /// Show what a code carries and what each value adds to it, or read one
    Code(commands::code::Arguments),
    /// Put the shape of the spec's version into its history, when it ships
    Freeze(commands::freeze::Arguments),
    /// Show how saves of older versions come to this one, and prove that none is lost
    Migrate(commands::migrate::Arguments),
    /// Show what becomes of a JSON save that the game wrote before it had a spec, and save it
    ImportJson(commands::import_json::Arguments),
    /// Check and play again whenever a file changes
    #[cfg(feature = "watch")]
    Watch(commands::watch::Arguments),
    /// Print the JSON Schema of a spec, for editors
    #[cfg(feature = "editor")]
    Schema,
    /// Serve an editor: findings while typing, fates on hover, completion, renaming
    #[cfg(feature = "editor")]
    Lsp,
    /// Look at a save folder and repair it
    Saves(commands::saves::Arguments),
}

/// Why a command ended: the code that the process exits with.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Verdict {
    /// Everything is fine.
    Fine,
    /// The check failed.
    Failed,
    /// The input could not be read or does not make sense.
    Unusable,
}

fn main() -> ExitCode {
    let arguments = Arguments::parse();
    let wanted = std::env::var("VESTIGUM_LOG").ok().and_then(|wanted| wanted.parse::<Targets>().ok());
    let log = tracing_subscriber::fmt::layer().with_writer(std::io::stderr);
    let wanted = wanted.unwrap_or_else(|| Targets::new().with_default(Level::ERROR));
    tracing_subscriber::registry().with(log.with_filter(wanted)).init();
    let out = Output::new(arguments.json, arguments.color);
    let verdict = match &arguments.command {
        Command::Demo => commands::demo::run(&out),
        Command::New(arguments) => commands::new::run(&out, arguments),
        Command::Explore(arguments) => commands::explore::run(&out, arguments),
        Command::Probe(arguments) => commands::probe::run(&out, arguments),
        Command::Faults(arguments) => commands::faults::run(&out, arguments),
        Command::Code(arguments) => commands::code::run(&out, arguments),
        Command::Freeze(arguments) => commands::freeze::run(&out, arguments),
        Command::Migrate(arguments) => commands::migrate::run(&out, arguments),
        Command::ImportJson(arguments) => commands::import_json::run(&out, arguments),
        Command::Saves(arguments) => commands::saves::run(&out, arguments),
        Command::Check(arguments) => commands::check::run(&out, arguments),
        Command::Fate(arguments) => commands::fate::run(&out, arguments),
        Command::Report(arguments) => commands::report::run(&out, arguments),
        #[cfg(feature = "watch")]
        Command::Watch(arguments) => commands::watch::run(&out, arguments),
        #[cfg(feature = "editor")]
        Command::Schema => commands::schema::run(&out),
        #[cfg(feature = "editor")]
        Command::Lsp => commands::lsp::run(&out),
        Command::Map(arguments) => commands::map::run(&out, arguments),
        Command::Play(arguments) => commands::play::run(&out, arguments),
    };
    match verdict {
        Verdict::Fine => ExitCode::SUCCESS,
        Verdict::Failed => ExitCode::from(1),
        Verdict::Unusable => ExitCode::from(2),
    }
}
