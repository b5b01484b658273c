//! Exploring: every state that play can reach, and the shortest way to break a promise.
//!
//! A search begins with a fresh profile and says every moment and takes every source that is possible, breadth first, so
//! the first broken promise it finds is one with the fewest steps. States that were seen before are not looked at again.
//!
//! | room | holds |
//! |---|---|
//! | `cone` | which values a promise can depend on: the others are left out of what tells states apart |
//! | `by_rules` | promises that hold by the rules alone, proved without a search |
//! | `player` | a player who completes every level that can be |
//! | `act` | what can happen in a state |
//! | `question` | what is asked: the promises of the spec, and what is asked of every game |
//! | `search` | the breadth-first search, in steps that a caller can spread over threads |
//! | `answer` | how far a search goes, and what it answers |
//! | `relaxed` | searches of more plays than there are: locks lifted, one level at a time |
//! | `gaps` | what an answer has not looked at |
//! | `open_step` | why a promise is not proved: one step that the rules do not exclude |
//! | `traps` | states from which something can never be done any more |
//! | `tally` | what the states of a search hold together |
//! | `writes` | what play writes at will, and no source gives |
//! | `story` | a counterexample as a playthrough that fails |
//!
//! The search starts no thread. [`Search::expand`] works on a part of the frontier and changes nothing, so a caller can
//! run it on several threads; [`Search::merge`] puts what came of it together, in an order that does not depend on them.
//!
//! ```
//! use vestigum_core::Spec;
//! use vestigum_verify::explore::{SearchBounds, Ending, Search, questions};
//!
//! let spec = Spec::from_toml(r#"
//!     [game]
//!     id = "fellpost"
//!     [levels]
//!     order = ["mill_lane"]
//!     [field.letters]
//!     type = "int"
//!     lasts = "visit"
//!     after_failure = "entry"
//!     [field.best_letters]
//!     type = "int"
//!     per = "level"
//!     lasts = "profile"
//!     on.complete = { set = "letters" }          # `max` was meant
//!     [[source]]
//!     name = "letter"
//!     gives = { letters = 10 }
//!     times = 3
//!     after_failure = "entry"
//!     [[promise]]
//!     name = "a replay never lowers a record"
//!     never_falls = ["best_letters"]
//! "#)?;
//! let question = &questions(&spec)[0];
//! let ending = Search::new(&spec, question, SearchBounds::default()).run();
//! let Ending::Broken(counterexample) = ending else { panic!("it holds") };
//! assert!(counterexample.play().contains("complete"));
//! # Ok::<(), vestigum_core::Diagnostics>(())
//! ```

mod act;
mod answer;
mod by_rules;
mod cone;
mod cuts;
mod gaps;
mod open_step;
mod packed;
mod player;
mod question;
mod relaxed;
mod search;
mod story;
mod tally;
mod threads;
mod traps;
mod writes;

pub(crate) use act::{Act, Repertoire, newcomer, says_game_over, statements};
pub use answer::{Ending, Limit, SearchBounds, Seen};
pub use by_rules::{RuleGround, RuleProof};
pub(crate) use cone::closed;
pub use gaps::Gap;
pub use open_step::{OpenStep, open_step};
pub(crate) use packed::Packing;
pub(crate) use question::{Played, promises, subjects};
pub use question::{Question, questions};
pub(crate) use relaxed::Relaxation;
pub use search::{Expansion, Search};
pub use story::{Counterexample, Witness};
pub use threads::{Explored, explore_all, explore_with};
pub(crate) use writes::PlayWrites;
