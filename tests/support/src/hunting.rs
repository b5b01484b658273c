//! How many cases the random tests take, and where a failure is kept.

use proptest::test_runner::{Config, FileFailurePersistence};

/// The configuration of a random test. `VESTIGUM_HUNT=20` takes twenty times as many cases: `scripts/hunt` sets it. The seed
/// of a case that fails is kept in `file`, so that every later run tries it first.
pub fn config(cases: u32, file: &'static str) -> Config {
    let times = std::env::var("VESTIGUM_HUNT").ok().and_then(|times| times.parse().ok()).unwrap_or(1);
    let failure_persistence = Some(Box::new(FileFailurePersistence::Direct(file)) as Box<_>);
    Config { cases: cases.saturating_mul(times), failure_persistence, ..Config::default() }
}

/// The file in which the failures of a test file are kept: `tests/regressions/NAME.txt` of its crate.
#[macro_export]
macro_rules! kept_in {
    ($name:literal) => {
        concat!(env!("CARGO_MANIFEST_DIR"), "/tests/regressions/", $name, ".txt")
    };
}
