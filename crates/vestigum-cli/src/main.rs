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
    #[arg(long, global = true, help_heading = "Output options")]
    json: bool,
    /// Colour the output
    #[arg(long, global = true, help_heading = "Output options", value_enum, default_value_t = ColorWhen::Auto, value_name = "WHEN")]
    color: ColorWhen,
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Copy the demo game into a folder and run a whole example on it
    #[command(after_help = "Examples:\n  vestigum demo\n  vestigum demo --color never")]
    Demo,
    /// Write a commented starter spec and a first playthrough
    #[command(after_help = "Examples:\n  vestigum new\n  vestigum new my_game")]
    New(commands::new::Arguments),
    /// Find everything that is wrong with a spec
    #[command(
        after_help = "Examples:\n  vestigum check progress.toml --deny warnings\n  vestigum check --explain V101"
    )]
    Check(commands::check::Arguments),
    /// Show the fate table: every field against every moment
    #[command(after_help = "Examples:\n  vestigum fate progress.toml\n  vestigum fate progress.toml --only score")]
    Fate(commands::fate::Arguments),
    /// Draw the map of the levels: what opens which, what can never open, where a player stands
    #[command(
        after_help = "Examples:\n  vestigum map progress.toml\n  vestigum map progress.toml --saves saves --profile ada"
    )]
    Map(commands::map::Arguments),
    /// Run playthroughs
    #[command(
        after_help = "Examples:\n  vestigum play progress.toml plays --trace\n  vestigum play progress.toml first.play --on-disk"
    )]
    Play(commands::play::Arguments),
    /// Prove promises by the rules, or search everything that can be played for the shortest way to break them
    #[command(
        after_help = "Examples:\n  vestigum explore progress.toml --time 10\n  vestigum explore progress.toml --only \"stars\" --out plays"
    )]
    Explore(commands::explore::Arguments),
    /// Write one page with everything: what persists, the map, playthroughs, findings, old versions, players
    #[command(
        after_help = "Examples:\n  vestigum report progress.toml plays --out report.html\n  vestigum report progress.toml --saves saves --quick"
    )]
    Report(commands::report::Arguments),
    /// Weaken each rule in turn and see whether any playthrough or promise notices
    #[command(
        after_help = "Examples:\n  vestigum probe progress.toml plays\n  vestigum probe progress.toml first.play --out missing.play"
    )]
    Probe(commands::probe::Arguments),
    /// Try power cuts, full disks, errors and damage under the saves of playthroughs
    #[command(
        after_help = "Examples:\n  vestigum faults progress.toml\n  vestigum faults progress.toml plays --keep 1"
    )]
    Faults(commands::faults::Arguments),
    /// Show what a code carries and what each value adds to it, or read one
    #[command(
        after_help = "Examples:\n  vestigum code progress.toml\n  vestigum code progress.toml postcard --read K7QF-03XM"
    )]
    Code(commands::code::Arguments),
    /// Put the shape of the spec's version into its history, when it ships
    #[command(after_help = "Examples:\n  vestigum freeze progress.toml\n  vestigum freeze progress.toml --json")]
    Freeze(commands::freeze::Arguments),
    /// Show how saves of older versions come to this one, and prove that none is lost
    #[command(after_help = "Examples:\n  vestigum migrate progress.toml\n  vestigum migrate progress.toml --prove")]
    Migrate(commands::migrate::Arguments),
    /// Show what becomes of a JSON save that the game wrote before it had a spec, and save it
    #[command(
        after_help = "Examples:\n  vestigum import-json progress.toml map.toml old.json\n  vestigum import-json progress.toml map.toml old.json --saves saves --profile ada"
    )]
    ImportJson(commands::import_json::Arguments),
    /// Check and play again whenever a file changes
    #[cfg(feature = "watch")]
    #[command(after_help = "Examples:\n  vestigum watch progress.toml\n  vestigum watch progress.toml plays")]
    Watch(commands::watch::Arguments),
    /// Print the JSON Schema of a spec, for editors
    #[cfg(feature = "editor")]
    #[command(after_help = "Examples:\n  vestigum schema\n  vestigum schema --json")]
    Schema,
    /// Serve an editor: findings while typing, fates on hover, completion, renaming
    #[cfg(feature = "editor")]
    #[command(after_help = "Examples:\n  vestigum lsp\n  VESTIGUM_LOG=debug vestigum lsp")]
    Lsp,
    /// Look at a save folder and repair it
    Saves(commands::saves::Arguments),
}

/// Describes why a command ended: the code that the process exits with.
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
    let arguments = match Arguments::try_parse() {
        Ok(arguments) => arguments,
        Err(error) => return misused(&error),
    };
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

/// Says that the arguments make no sense, as JSON where that is asked for; or shows the help that is asked for.
fn misused(error: &clap::Error) -> ExitCode {
    let asks = |argument: std::ffi::OsString| argument == "--json";
    if !error.use_stderr() || !std::env::args_os().skip(1).take_while(|argument| argument != "--").any(asks) {
        // Where nobody reads it, nobody misses it.
        let _ = error.print();
        return ExitCode::from(if error.use_stderr() { 2 } else { 0 });
    }
    let said = error.render().to_string();
    let said = said.trim_start_matches("error: ").trim_end();
    let _ = Output::new(true, ColorWhen::Never).unusable(said);
    ExitCode::from(2)
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;

    /// The commands that are run, with the words that name them.
    fn commands(words: &[String], command: &clap::Command, found: &mut Vec<(String, Option<String>)>) {
        let mut inner = command.get_subcommands().peekable();
        if inner.peek().is_none() || command.get_positionals().next().is_some() {
            found.push((words.join(" "), command.get_after_help().map(ToString::to_string)));
            return;
        }
        for command in inner {
            commands(&[words, &[command.get_name().to_owned()]].concat(), command, found);
        }
    }

    /// Checks that a command understands the examples in its help.
    #[test]
    fn every_command_has_two_examples_that_it_understands() {
        let mut found = Vec::new();
        commands(&["vestigum".to_owned()], &Arguments::command(), &mut found);
        assert!(found.len() > 25, "{found:?}");
        for (name, help) in found {
            let help = help.unwrap_or_else(|| panic!("`{name}` has no examples"));
            let lines: Vec<&str> = help.lines().filter_map(|line| line.strip_prefix("  ")).collect();
            assert!(help.starts_with("Examples:\n") && lines.len() >= 2, "{help}");
            for line in lines {
                // A variable of the environment may stand before the program.
                let at = line.find(&name).unwrap_or_else(|| panic!("`{line}` is not about `{name}`"));
                let words = line[at..].split(' ').map(|word| word.trim_matches('"'));
                if let Err(error) = Arguments::try_parse_from(words) {
                    panic!("{line}\n{error}");
                }
            }
        }
    }
}
