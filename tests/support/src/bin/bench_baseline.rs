//! Compares the last run of the benches with the figures that the repository keeps in docs/benches.json.
//!
//! Another machine is faster or slower as a whole, and that says nothing. So what counts is how far a bench is off the middle of
//! all of them: 30 per cent slower than the others have become is a loss.
//!
//! ```text
//! scripts/bench          runs the benches and compares
//! scripts/bench --write  runs the benches and keeps their figures
//! ```

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

/// Medians in nanoseconds, by the name of the bench.
type Medians = BTreeMap<String, f64>;

const BASELINE: &str = "docs/benches.json";

/// Says how much slower than the middle of all benches one may be.
const TOLERATED: f64 = 1.3;

fn main() -> ExitCode {
    let mut arguments = std::env::args().skip(1);
    let target = PathBuf::from(arguments.next().unwrap_or_else(|| "target".into()));
    let write = arguments.next().is_some_and(|argument| argument == "--write");
    let mut now = Medians::new();
    collect(&target.join("criterion"), &mut now);
    if write {
        let text = serde_json::to_string_pretty(&now).expect("numbers can be written") + "\n";
        fs::write(BASELINE, text).unwrap_or_else(|error| panic!("cannot write {BASELINE}: {error}"));
        return ExitCode::SUCCESS;
    }
    let text = fs::read_to_string(BASELINE).unwrap_or_else(|error| panic!("cannot read {BASELINE}: {error}"));
    let before: Medians = serde_json::from_str(&text).unwrap_or_else(|error| panic!("{BASELINE}: {error}"));
    let lost = compare(&before, &now);
    if lost == 0 { ExitCode::SUCCESS } else { ExitCode::FAILURE }
}

/// Prints a line for each bench, and answers how many were lost.
fn compare(before: &Medians, now: &Medians) -> usize {
    let ratios: Vec<(&String, f64)> =
        before.iter().filter_map(|(name, median)| Some((name, now.get(name)? / median))).collect();
    let mut sorted: Vec<f64> = ratios.iter().map(|(_, ratio)| *ratio).collect();
    sorted.sort_by(f64::total_cmp);
    let Some(middle) = sorted.get(sorted.len() / 2).copied() else {
        println!("no bench of {BASELINE} was run");
        return 1;
    };
    println!("this machine takes {middle:.2} times as long as the one of the recorded figures");
    let mut lost = 0;
    for (name, ratio) in ratios {
        let relative = ratio / middle;
        let slower = relative > TOLERATED;
        lost += usize::from(slower);
        println!("{} {relative:>6.2}x  {name}", if slower { "✗" } else { " " });
    }
    for name in before.keys().filter(|name| !now.contains_key(*name)) {
        println!("✗  gone   {name}");
        lost += 1;
    }
    for name in now.keys().filter(|name| !before.contains_key(*name)) {
        println!("   new    {name}");
    }
    lost
}

/// Finds what the benches wrote: a folder `new` with estimates for each of them.
fn collect(folder: &Path, medians: &mut Medians) {
    let Ok(entries) = fs::read_dir(folder) else { return };
    for path in entries.flatten().map(|entry| entry.path()).filter(|path| path.is_dir()) {
        let Some(median) = median(&path.join("new")) else {
            collect(&path, medians);
            continue;
        };
        // Tenths of a nanosecond are as much as a bench can tell.
        medians.insert(median.0, (median.1 * 10.0).round() / 10.0);
    }
}

fn median(new: &Path) -> Option<(String, f64)> {
    let read = |name: &str| -> Option<serde_json::Value> {
        serde_json::from_str(&fs::read_to_string(new.join(name)).ok()?).ok()
    };
    let name = read("benchmark.json")?.get("full_id")?.as_str()?.to_owned();
    let median = read("estimates.json")?.get("median")?.get("point_estimate")?.as_f64()?;
    Some((name, median))
}
