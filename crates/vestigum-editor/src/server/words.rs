//! What the words of the language mean, in a sentence.

use vestigum_core::Moment;
use vestigum_spec::vocabulary::function::Function;
use vestigum_spec::vocabulary::keyword::Keyword;

/// Returns what a built-in moment is.
pub(crate) fn moment(moment: Moment) -> &'static str {
    match moment {
        Moment::Launch => "The process started, and saved progress is loaded.",
        Moment::NewRun => "\"New game\".",
        Moment::Enter => {
            "A level has finished loading, and play begins in it: `enter LEVEL`, `enter LEVEL at CHECKPOINT`."
        }
        Moment::Checkpoint => "A checkpoint was reached: `checkpoint NAME`.",
        Moment::Death => "The player died, and comes back at the checkpoint, or where `respawn` says.",
        Moment::Restart => "Once more from where the level was entered.",
        Moment::Complete => "The level was passed: `complete`, `complete EXIT`.",
        Moment::Travel => "The level was left without passing it and without failing.",
        Moment::Abandon => "The level was given up.",
        Moment::GameOver => "The run is over.",
        Moment::Quit => "The session ends, and is saved.",
        Moment::Own(_) | Moment::OwnRun(_) => "A moment of the game's own.",
    }
}

/// Returns what a statement of a playthrough does.
pub(crate) fn keyword(keyword: Keyword) -> &'static str {
    match keyword {
        Keyword::EnterAny => "Enters a level whether it is open or not.",
        Keyword::Expect => "A condition must hold here.",
        Keyword::Refuse => "The statement behind it must be refused.",
        Keyword::Save => "Saves the progress.",
        Keyword::Crash => "The process dies; the next `launch` has what was saved.",
        Keyword::Damage => "Damages saved images.",
        Keyword::Without => "Does not judge a promise in this playthrough: `without \"NAME\"`.",
        Keyword::Watch => "The timeline shows these values.",
        Keyword::Import => "Brings in a saved image: `import \"FILE\"`.",
        Keyword::Profile => "Another player's session.",
        Keyword::Profiles => "Players are made, copied, renamed, deleted and brought back.",
        Keyword::Device => "Another device, with saves of its own.",
        Keyword::Sync => "The player's saves here and in the place that all devices share come to be the same.",
        Keyword::Insert => "A value comes into a container.",
        Keyword::Remove => "A value goes out of a container.",
        Keyword::Raise => "A value is written if it is higher.",
        Keyword::Lower => "A value is written if it is lower.",
        Keyword::Tick => "Time passes: `tick 5 s`.",
        Keyword::Code => "Makes a code: `code NAME as WORD`.",
        Keyword::Redeem => "Redeems a code: `redeem NAME WORD`.",
        Keyword::MakeLevel => "The player makes a level.",
        Keyword::RemoveLevel => "A level that the player made is removed.",
        Keyword::ExportLevel => "A level that the player made becomes a text for others.",
        Keyword::ImportLevel => "A level that another player made is brought in.",
        Keyword::Reset => "Puts progress back to its beginning.",
        Keyword::Board => "Shows the level overview.",
        Keyword::Repeat => "The statements up to `end` happen several times: `repeat 3`.",
        Keyword::End => "The end of a `repeat`.",
        Keyword::Playthrough => "Begins a playthrough: `playthrough \"what it proves\"`.",
    }
}

/// The names of all functions of expressions, with the words that stand beside them.
pub(crate) fn functions() -> impl Iterator<Item = &'static str> {
    let mut names: Vec<&'static str> = Function::all().map(Function::word).collect();
    names.sort_unstable();
    names.dedup();
    names.into_iter()
}
