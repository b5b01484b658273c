//! The stable codes of everything that can be wrong with a spec or a playthrough, and what each means.

/// Describes what a code stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Explanation {
    /// The code, `V` and three digits.
    pub code: &'static str,
    /// A few words.
    pub title: &'static str,
    /// Says why it is wrong and how to put it right.
    pub text: &'static str,
    /// A piece of a document that has the mistake.
    pub wrong: &'static str,
    /// The piece without the mistake.
    pub right: &'static str,
}

/// Declares the codes: the constant and what it means stand in one place, so that none is left unexplained.
macro_rules! codes {
    ($($(#[$doc:meta])* $name:ident = $code:literal { title: $title:expr, text: $text:expr, wrong: $wrong:expr, right: $right:expr, })*) => {
        $($(#[$doc])* pub const $name: &str = $code;)*

        /// Every code, in order.
        pub const ALL: &[Explanation] = &[
            $(Explanation { code: $code, title: $title, text: $text, wrong: $wrong, right: $right },)*
        ];
    };
}

codes! {
    /// The document is not TOML.
    SYNTAX = "V001" {
        title: "the document is not TOML",
        text: "The spec is a TOML document. Something in it breaks the rules of TOML itself, so what follows may not have been read.",
        wrong: "[field.score\ntype = \"int\"",
        right: "[field.score]\ntype = \"int\"",
    }
    /// A key, table or value is not one that a spec has.
    SHAPE = "V002" {
        title: "a key or value that a spec does not have",
        text: "Unknown keys are errors, because a misspelt key would silently be a rule that is never applied.",
        wrong: "[field.score]\ntype = \"int\"\nlast = \"run\"",
        right: "[field.score]\ntype = \"int\"\nlasts = \"run\"",
    }
    /// A field that play writes does not say what a failure does to it.
    UNDECIDED = "V003" {
        title: "a field that play writes does not say what a failure does to it",
        text: "A visit, run or profile field that play writes must state `after_failure`. Whether a score survives a death is the decision this document exists for, so it is never made silently. `keep` keeps the value, `checkpoint` brings back what it was at the last checkpoint, `entry` what it was when the level was entered.",
        wrong: "[field.score]\ntype = \"int\"\nlasts = \"run\"",
        right: "[field.score]\ntype = \"int\"\nlasts = \"run\"\nafter_failure = \"entry\"",
    }
    /// A name that nothing has.
    UNKNOWN_NAME = "V004" {
        title: "a name that nothing has",
        text: "A field, level, checkpoint, moment, table or derived value of that name is not declared. A record read under another name than it was written is the oldest of the silent bugs.",
        wrong: "on.complete = { max = \"leters\" }",
        right: "on.complete = { max = \"letters\" }",
    }
    /// A value of the wrong type.
    WRONG_TYPE = "V005" {
        title: "a value of the wrong type",
        text: "Expressions are checked against the types of the fields before anything runs. An int may stand where a float is wanted, and a literal takes on the type it is compared with or given to: a text the name of a choice, a list a set or a vector. Nothing else is converted.",
        wrong: "opens = \"completed[mill_lane] + 1\"",
        right: "opens = \"completed[mill_lane]\"",
    }
    /// A name that cannot be used.
    BAD_NAME = "V006" {
        title: "a name that cannot be used",
        text: "Names are made of letters, digits and underscores and begin with a letter or an underscore, so that expressions can read them. The words of statements and functions and the built-in names are reserved, and no two things that expressions read share a name.",
        wrong: "[field.level]\ntype = \"int\"",
        right: "[field.deepest_level]\ntype = \"int\"",
    }
    /// A rule at a moment where it could never do anything.
    IDLE_RULE = "V007" {
        title: "a rule at a moment where it could never do anything",
        text: "Some moments cannot have a rule for some fields: nothing may depend on `quit`, which a crash never says; attempt and visit values are gone when their span ends; device and session values are never rewound; and at `launch` and `new_run` there is no level whose entry a per-level rule could touch.",
        wrong: "[field.letters]\nlasts = \"visit\"\non.complete = { add = 1 }",
        right: "[field.letters]\nlasts = \"visit\"\non.checkpoint = { add = 1 }",
    }
    /// An expression that cannot be read.
    EXPRESSION = "V008" {
        title: "an expression that cannot be read",
        text: "Expressions are made of names, numbers, 'text', `field[key]`, the operators `or and not == != < <= > >= + - * /`, brackets and functions. Division is only by a literal that is not zero, so that nothing can fail while the game runs.",
        wrong: "over_when = \"lanterns = 0\"",
        right: "over_when = \"lanterns == 0\"",
    }
    /// A number outside the range that makes sense.
    OUT_OF_RANGE = "V009" {
        title: "a number outside the range that makes sense",
        text: "A range goes from its lowest to its highest value, and a default lies inside the field's range.",
        wrong: "range = [9, 0]",
        right: "range = [0, 9]",
    }
    /// A per-level name where no level is meant.
    NO_LEVEL = "V010" {
        title: "a per-level name where no level is meant",
        text: "A per-level field without a key means the level of the moment. `opens`, `over_when` and moments that may come in the menu have no level, so name the level in brackets.",
        wrong: "opens = \"completed\"",
        right: "opens = \"completed[mill_lane]\"",
    }
    /// A value read where it is not there any more, or may not be asked for.
    OUT_OF_REACH = "V011" {
        title: "a value read where it is not there",
        text: "`opens` reads only run, profile and device fields, `over_when` no session field; `entry(f)` and `checkpoint(f)` work in rules at moments inside a level, on fields that can be rewound; and a rule never reads a value whose span was over before its moment.",
        wrong: "[level.scree_gate]\nopens = \"letters >= 40\"      # letters lasts one visit",
        right: "[level.scree_gate]\nopens = \"best_letters[mill_lane] >= 40\"",
    }
    /// Levels that cannot be reached or do not exist.
    LEVEL_ORDER = "V012" {
        title: "levels that cannot be reached or do not exist",
        text: "Every level stands in `order` or says with `opens` when it opens, no level stands in `order` twice, and `next` names a level.",
        wrong: "[level.attic]\ntitle = \"The Attic\"",
        right: "[level.attic]\ntitle = \"The Attic\"\nopens = \"completed[mill_lane]\"",
    }
    /// Derived values that need each other.
    CYCLE = "V013" {
        title: "derived values that need each other",
        text: "A derived value is computed from others when it is read; a circle of them could never be computed.",
        wrong: "[derived]\na = \"b + 1\"\nb = \"a + 1\"",
        right: "[derived]\na = \"score + 1\"\nb = \"a + 1\"",
    }
    /// A level that can never open.
    UNREACHABLE = "V014" {
        title: "a level that can never open",
        text: "Whatever is played, the condition of this level cannot hold: it needs levels that wait for this one, more than there is to have, such as more stars than all reachable levels give, or parts that contradict each other. What a value can be is worked out from its range, the rules that write it, the steps of tables and, if a source gives it, from the sources: a field that play writes and no source gives can be anything in its range.",
        wrong: "[level.scree_gate]\nopens = \"completed[cloud_pass]\"\n[level.cloud_pass]\nopens = \"completed[scree_gate]\"",
        right: "[level.scree_gate]\nopens = \"completed[heather_rise]\"\n[level.cloud_pass]\nopens = \"completed[scree_gate]\"",
    }
    /// A condition of a level that can stop holding when other levels open.
    CLOSING_CONDITION = "V015" {
        title: "a condition that an opening level can end",
        text: "All conditions are judged together, in no order, and a level that has opened stays open. So a condition may read `open(…)`, `opened` and what is made of them only so that more open levels never make it fail: `open(x)` and `count(opened) >= 3`, but not `not open(x)` or `count(opened) < 3`. Ask for what was completed or written instead.",
        wrong: "[level.low_road]\nopens = \"not open(high_road)\"\n[level.high_road]\nopens = \"not open(low_road)\"",
        right: "[level.low_road]\nopens = \"took_low_road\"\n[level.high_road]\nopens = \"not took_low_road\"",
    }
    /// A field that does not say how it is merged, or says it where there is nothing to say.
    UNMERGED = "V016" {
        title: "a field that does not say how it is merged",
        text: "A spec with `[merge]` merges the saves of two installations, value by value. What both changed of a field that lasts a profile, its law decides: `max`, `min`, `sum` (what all installations gave), `union` (of sets, maps and rankings) or `newer` (the newer change). A field that only `max` rules or only `min` rules write has that law without saying it; sets and rankings are united, times that are counted are added, and of bools the newer change counts. Every other field must say it: a wallet that takes the newer value loses what the other device earned. What lasts a run, a visit or an attempt is taken whole from one side and says nothing, and nor do session and device fields.",
        wrong: "[merge]\n[field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"",
        right: "[merge]\n[field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\nmerge = \"sum\"",
    }
    /// A statement of a playthrough that cannot be read.
    STATEMENT = "V020" {
        title: "a statement of a playthrough that cannot be read",
        text: "A playthrough has one statement a line: a moment, a write, `insert`, `remove`, `expect`, `refuse`, `reset`, `board`, `save`, `crash`, `damage`, `watch`, `profile`, `device`, `sync`, or `repeat N` up to `end`.",
        wrong: "enter mill_lane and die",
        right: "enter mill_lane\ndeath",
    }
    /// A value that can be farmed by failing.
    FARMABLE = "V101" {
        title: "a value that can be farmed by failing",
        text: "More is left of this number after a failure, or after quitting in a level, than of what it was taken from: it survives, or goes back to the checkpoint, and a source that gives it comes back. And it feeds a record or an opening, directly or through other fields. So a player who collects, dies and collects again gets as much of it as there is patience. Let the value fall back with the source, or let the source stay taken. A value that one source takes to the end of its range is not farmed.",
        wrong: "[field.score]\nafter_failure = \"keep\"\n[[source]]\nname = \"letter\"\ngives = { score = 10 }\nafter_failure = \"entry\"      # it comes back",
        right: "[field.score]\nafter_failure = \"entry\"\n[[source]]\nname = \"letter\"\ngives = { score = 10 }\nafter_failure = \"entry\"",
    }
    /// A record that a replay can lower.
    LOWERED_RECORD = "V102" {
        title: "a replay can lower this record",
        text: "A number that lasts is `set` to what the visit brought when the level is completed. A worse replay overwrites the better one. A record takes `max`, or `min` where less is better. A `set` that provably goes only one way, such as `max(best, letters)`, is fine, and so is one whose guard asks for more than the visit; what a level hands on to the next is no record. If the last result is what is meant, and not the best, allow it.",
        wrong: "[field.best_letters]\nper = \"level\"\nlasts = \"profile\"\non.complete = { set = \"letters\" }",
        right: "[field.best_letters]\nper = \"level\"\nlasts = \"profile\"\non.complete = { max = \"letters\" }",
    }
    /// A failure that killing the game undoes.
    UNDONE_FAILURE = "V103" {
        title: "killing the game undoes this failure",
        text: "A death, a restart or an abandon changes the value by a rule, and `[save] at` does not name that moment. A player who kills the game after it comes back to the last save, where it has not happened. What is only rewound is there what it was anyway.",
        wrong: "[field.lanterns]\non.death = { add = -1 }\n[save]\nat = [\"complete\"]",
        right: "[field.lanterns]\non.death = { add = -1 }\n[save]\nat = [\"complete\", \"death\"]",
    }
    /// Lives that end nothing.
    ENDLESS_LIVES = "V104" {
        title: "lives that end nothing",
        text: "A death takes some of this value, which begins with some, and nothing ends for it: `[run] over_when` does not read it, no opening does, and no rule speaks of a game over that the game itself says. It can fall to its lowest, and nothing happens. Say when the run is over, or let the value count up if it only counts deaths.",
        wrong: "[field.lanterns]\ndefault = 3\non.death = { add = -1 }",
        right: "[field.lanterns]\ndefault = 3\non.death = { add = -1 }\n[run]\nover_when = \"lanterns == 0\"",
    }
    /// A rewind to checkpoints where there are none.
    NO_CHECKPOINT = "V105" {
        title: "a rewind to checkpoints where none can be reached",
        text: "The value goes back to the last checkpoint, by `after_failure` or by a rule, and no level lists one while `accept` takes only listed ones. Until a checkpoint is reached the mark is that of the entry, so it always goes back to the entry.",
        wrong: "[checkpoints]\naccept = \"forward\"\n[field.letters]\nafter_failure = \"checkpoint\"",
        right: "[checkpoints]\naccept = \"forward\"\n[level.mill_lane]\ncheckpoints = [\"ford\"]\n[field.letters]\nafter_failure = \"checkpoint\"",
    }
    /// A level without steps in a table whose levels have their own.
    NO_STEPS = "V106" {
        title: "a level without steps in a table",
        text: "The table has no steps for all levels, and this level has none of its own. Whatever is reached there is graded 0.",
        wrong: "[table.stars]\n[level.mill_lane]\nsteps.stars = [40, 80]\n[level.tarn_steps]",
        right: "[table.stars]\nsteps = [40, 80]\n[level.tarn_steps]\nsteps.stars = [60, 90]",
    }
    /// A sum of the device at a moment that saves.
    DEVICE_SUM = "V107" {
        title: "a sum of the device at a moment that saves",
        text: "The device and the player are two images and two commits. If the power fails between them, the one is there without the other, and the moment is played again: a sum of the device is added twice, whether `add` makes it or a rule that reads its own value. A game over that follows a saved failure is saved with it. A `max`, a `min` or a `set` of something else comes out the same.",
        wrong: "[field.all_letters]\nlasts = \"device\"\non.complete = { add = \"letters\" }",
        right: "[field.most_letters]\nlasts = \"device\"\non.complete = { max = \"letters\" }",
    }
    /// An allowed finding that is not there.
    IDLE_ALLOW = "V108" {
        title: "an allowed finding that is not there",
        text: "An `[[allow]]` names a finding that nothing has any more, or never had. Take it out, so that it cannot hide the next one.",
        wrong: "[[allow]]\ncode = \"V102\"\nof = \"best_leters\"\nbecause = \"it shows the last visit\"",
        right: "[[allow]]\ncode = \"V102\"\nof = \"last_letters\"\nbecause = \"it shows the last visit\"",
    }
    /// Migrations without a history.
    NO_HISTORY = "V109" {
        title: "migrations without a history",
        text: "The history tells the shapes of the versions that players have saves of, and the steps of migrations are checked against them. Without it nothing is known of those saves, and a game that was built so refuses them. It lies beside the spec: `fellpost.history.json` for `fellpost.toml`.",
        wrong: "Spec::from_toml(include_str!(\"fellpost.toml\"))",
        right: "Spec::from_toml_with_history(include_str!(\"fellpost.toml\"), include_str!(\"fellpost.history.json\"))",
    }
    /// A clock that a failure turns back.
    CLOCK_TURNED_BACK = "V110" {
        title: "a clock that a failure turns back",
        text: "Time that was played is played, whatever becomes of the player. A clock that outlives the run and goes back to a mark shows less than that, and the more often a player dies the less. Keep it. A time that has to begin anew with each try lasts a visit or an attempt.",
        wrong: "[field.played]\ncounts = \"ms\"\nlasts = \"profile\"\nafter_failure = \"checkpoint\"",
        right: "[field.played]\ncounts = \"ms\"\nlasts = \"profile\"\nafter_failure = \"keep\"",
    }
    /// A hidden level to which another leads by itself.
    HIDDEN_NEXT = "V111" {
        title: "a hidden level to which another leads by itself",
        text: "A level that is hidden is not on the board, and no reason of a lock names it. But completing the level before it, in the order or by `next`, leads there and gives it away. Take it out of the order and let an exit lead to it.",
        wrong: "[levels]\norder = [\"mill_lane\", \"grotto\"]\n[level.grotto]\nhidden = \"not lamp_found\"",
        right: "[levels]\norder = [\"mill_lane\"]\n[level.mill_lane]\nexits = { cellar = \"grotto\" }\n[level.grotto]\nhidden = \"not lamp_found\"",
    }
    /// A level that has no file.
    NO_ASSET = "V112" {
        title: "a level without a file",
        text: "Every level has a file in the folder that `[levels] assets` names: the one that `asset` says, or one whose name is the id of the level, with any extension. A level whose file was never added to the build opens, and strands the player who enters it. Upper and lower case count, because they do on some of the systems that a game runs on.",
        wrong: "[levels]\nassets = \"maps\"            # with mill_lane.ron and no tarn_steps.ron\norder = [\"mill_lane\", \"tarn_steps\"]",
        right: "[levels]\nassets = \"maps\"\norder = [\"mill_lane\", \"tarn_steps\"]\n[level.tarn_steps]\nasset = \"steps.ron\"",
    }
    /// A file of no level.
    UNUSED_ASSET = "V113" {
        title: "a file of no level",
        text: "A file in the folder of `[levels] assets` belongs to no level: it is the file of a level that the spec forgot, or whose name is written in another way, or it is left over. Files in folders inside it, and files whose names begin with a dot, are not looked at.",
        wrong: "[levels]\nassets = \"maps\"            # with mill_lane.ron and mill_lane_old.ron\norder = [\"mill_lane\"]",
        right: "[levels]\nassets = \"maps\"            # with mill_lane.ron\norder = [\"mill_lane\"]",
    }
    /// A ranking to whose entries nobody can put a name.
    NAMELESS_RANKING = "V114" {
        title: "a ranking whose entries nobody can name",
        text: "The entries of this ranking have a text that its rules leave empty, and only rules write the field: so the name of the player is never in it. A name that is known before goes into the rule; one that is entered afterwards is a write of play, and `after_failure` then says what a death does to it.",
        wrong: "[field.best_walks]\ntype = \"ranking of walk\"\non.complete = { rank = \"{ letters = letters }\" }        # a walk has a `carrier`, too",
        right: "[field.best_walks]\ntype = \"ranking of walk\"\nwritten_by = \"both\"\nafter_failure = \"keep\"\non.complete = { rank = \"{ letters = letters }\" }",
    }
    /// An opening that counts levels of players.
    COUNTS_MADE_LEVELS = "V115" {
        title: "levels that players make help to open another",
        text: "A level opens by something that is asked of all levels together, as `count(completed)` or `sum(stars)`. Levels that players make have entries, too, so short ones of a player's own open what levels of the game should. Ask a derived value that leaves them out.",
        wrong: "[levels]\norder = [\"mill_lane\", \"heather_rise\", \"tarn_steps\"]\nmade = { max = 6 }\n[level.tarn_steps]\nopens = \"count(completed) >= 2\"",
        right: "[level.tarn_steps]\nopens = \"count(walked) >= 2\"\n[derived]\nwalked = { per = \"level\", value = \"completed and not made\" }",
    }
    /// Bytes that every save writes again.
    HEAVY_BYTES = "V116" {
        title: "bytes that every save writes again",
        text: "A save holds the whole of every field of `bytes`, so a picture or a replay is written again at each checkpoint, though it has not changed. More than 64 KiB in one field is told. A `blob` is kept beside the save under its digest: it is written when it changes, and once, whoever has it. Saves in which the field was `bytes` still load, and no migration is needed.",
        wrong: "[field.replay]\ntype = \"bytes\"\nper = \"level\"\nmax_len = 100000",
        right: "[field.replay]\ntype = \"blob\"\nper = \"level\"\nmax_len = 100000",
    }
    /// A field that can make a save larger than what is written.
    LARGE_SAVE = "V117" {
        title: "a field that can fill a save",
        text: "A save has at most 64 MiB, and at most as many values as reading takes into ten times its size of memory: about 1.4 million numbers. A larger one could not be read, so it is not written, and play goes on unsaved. The warning names a field that can reach that by itself: every container full up to its `max_len`, a text counted in full where the field says a `max_len`, and as 64 characters where it does not; a field that can be rewound counts three times, for its marks. Give it a smaller `max_len`, or keep the bulk in a `blob`.",
        wrong: "[field.footprints]\ntype = \"list of vec2\"\nlasts = \"profile\"\nafter_failure = \"keep\"\nmax_len = 2000000",
        right: "[field.footprints]\ntype = \"list of vec2\"\nlasts = \"profile\"\nafter_failure = \"keep\"\nmax_len = 2000",
    }
    /// A code that players were given and that would be read as something else.
    ISSUED_CODE = "V118" {
        title: "a code that players have is read as something else",
        text: "When a version is frozen, the history records what its codes carry. Players have written them down. A number is in mixed radix and does not say of what: with a wider range, another order or another choice it stands for other values, and nobody is told. A text knows its layout, so one of before is refused. Let the code that shipped carry what it did, and give what it carries now another name; where nobody has such codes any more, allow it and say why.",
        wrong: "[code.crossing]                 # shipped with keys_held in [0, 9]\ncarries = [\"keys_held\", \"bag\"]  # keys_held is in [0, 99] now",
        right: "[code.crossing_two]\ncarries = [\"keys_held\", \"bag\"]",
    }
    /// A derived value per key that is the same for every key.
    SAME_FOR_EVERY_KEY = "V119" {
        title: "a derived value per key that is the same for every key",
        text: "A derived value `per` a key set is worked out for each key, and what it reads of fields keyed by that set is the key's. Where the expression reads no such field, every key has the same value: a field that was meant to be keyed is not, or is read with a fixed key.",
        wrong: "[derived]\nall_found = { per = \"region\", value = \"keys_found >= 3\" }     # keys_found has no `per`",
        right: "[field.keys_found]\nper = \"region\"",
    }
    /// A rule that writes the entries of all keys alike.
    EVERY_KEY = "V120" {
        title: "a rule that writes all keys of a set alike",
        text: "A rule of a field that is keyed by a set touches the key that `current` names. Where the set has none, it touches every key: one boss beaten is all bosses beaten. `add` is not reported, nor what happens where a run begins or ends.",
        wrong: "[keys.region]\nnames = [\"fell\", \"marsh\"]\n[field.guardian_met]\ntype = \"bool\"\nper = \"region\"\non.guardian = { set = \"true\" }",
        right: "[keys.region]\nnames = [\"fell\", \"marsh\"]\ncurrent = \"region_now\"",
    }
    /// A condition of a level that progress makes false.
    CLOSED_BY_PROGRESS = "V121" {
        title: "an opening that progress makes false",
        text: "Openings are judged outside of levels, and what is open stays open. A condition such as `total_stars == 12` or `done < 3` stops holding when more is reached: a player who comes out of a level with 13 stars never sees the level open. Use `>=`.",
        wrong: "[level.cloud_pass]\nopens = \"total_stars == 12\"",
        right: "[level.cloud_pass]\nopens = \"total_stars >= 12\"",
    }
    /// A price that a failure gives back.
    PRICE_GIVEN_BACK = "V122" {
        title: "a price that a failure gives back, while what was bought stays",
        text: "One of the game's own moments takes something from a field and gives something else, as in a shop. After a death or a restart the first goes back to its mark and the second stays: buy, fall, and the money is there again. Exploring asks whether failing gains records; what is bought need not be one.",
        wrong: "[field.coins]\nlasts = \"profile\"\nafter_failure = \"entry\"\non.buy = { add = -30 }\n[field.lamp]\nlasts = \"profile\"\non.buy = { set = \"true\" }",
        right: "[field.coins]\nlasts = \"profile\"\nafter_failure = \"keep\"\non.buy = { add = -30 }",
    }
    /// Found by exploring: a level that nothing played opens or completes.
    NEVER_COMPLETED = "V201" {
        title: "exploring: a level that is never completed",
        text: "From a fresh profile, no sequence of moments and sources opens and completes this level. `vestigum explore` has seen every state there is. An `[[allow]]` with `of` leaves one level out; `check` then does not say of it that it can never open, either.",
        wrong: "[level.tarn_steps]\nopens = \"best_letters[mill_lane] >= 40\"      # three letters of ten are all there is",
        right: "[level.tarn_steps]\nopens = \"best_letters[mill_lane] >= 30\"",
    }
    /// Found by exploring: failing gives more than playing on.
    FAILING_GAINS = "V202" {
        title: "exploring: failing gains something",
        text: "A record is higher with failures, or with quitting inside a level, than play without them can make it in as many visits. A record is a number that lasts a profile or belongs to the device, and that a rule at `complete` can raise. `vestigum explore` shows the shortest way. Let the value fall back with its source, or let the source stay taken.",
        wrong: "[field.score]\nafter_failure = \"keep\"          # and its source comes back",
        right: "[field.score]\nafter_failure = \"entry\"",
    }
    /// Found by exploring: leaving keeps what dying takes.
    LEAVING_PAYS = "V203" {
        title: "exploring: leaving keeps what dying takes",
        text: "A player who gives up, or quits, just before a death has more of this value afterwards than one who dies. `vestigum explore` shows the shortest way. Lives and other prices of a death, a game over among them, are not asked: quitting never costs a price.",
        wrong: "[field.score]\nafter_failure = \"entry\"\non.abandon = \"keep\"",
        right: "[field.score]\nafter_failure = \"entry\"",
    }
    /// Found by exploring: a state from which a level can never be completed again.
    SOFT_LOCK = "V204" {
        title: "exploring: a level that cannot be completed any more",
        text: "Play can come to a state from which no sequence of moments and sources completes this level: what it needs was spent, or a lock has closed. `vestigum explore` shows the shortest way into such a state. Let what a lock asks for be a value that does not fall, let the source come back, or keep a way to start over. Levels that the spec never opens at all are V201.",
        wrong: "[level.tarn_steps]\nopens = \"stamps >= 3\"       # and a postcard costs one of four",
        right: "[level.tarn_steps]\nopens = \"stamps_earned >= 3\"",
    }
    /// A history that cannot be used.
    HISTORY = "V301" {
        title: "a history that cannot be used",
        text: "The history file holds the shapes of the versions that players have saves of. `freeze` writes it, and it is never edited by hand: old saves are read by what it says. Put it back as it was in version control, and say in the spec what changes.",
        wrong: "{ \"name\": \"best\", \"type\": \"float\", … }   # was \"int\" when version 1 shipped",
        right: "[[migration]]\nto = 2\nsteps = [{ fill = \"best\", with = \"best\" }]",
    }
    /// A version that does not follow those that are frozen.
    VERSION = "V302" {
        title: "a version that does not follow those that are frozen",
        text: "Versions are frozen one after the other, when they ship. The spec's version is the newest frozen one or the next; a migration leads to a version from the one before it, and that one must be frozen, because its shape tells what the old values are.",
        wrong: "version = 4        # version 2 is the newest that was frozen",
        right: "version = 3",
    }
    /// A change that needs a raised version.
    NEEDS_VERSION = "V303" {
        title: "a change that needs a raised version",
        text: "A narrower range, a shorter length, fewer names of an open key set and another default of a keyed field change what saves of the frozen version mean. With a raised version, loading knows which saves are old: it brings their values inside and reports it.",
        wrong: "version = 1\n[field.stars]\nrange = [0, 3]        # was [0, 5]",
        right: "version = 2\n[field.stars]\nrange = [0, 3]",
    }
    /// A change that needs a migration.
    NEEDS_MIGRATION = "V304" {
        title: "a change that needs a migration",
        text: "Something that players have in their saves has no place in the spec any more: a field, level, checkpoint, key or choice is gone or has another name, or a field has another type, other keys or another owner. Raise the version and say what becomes of it. What is meant to be lost is dropped, so that it is never lost by accident.",
        wrong: "[field.letters]        # was coins",
        right: "[[migration]]\nto = 2\nsteps = [{ rename = \"field\", from = \"coins\", to = \"letters\" }]",
    }
    /// A step of a migration that cannot be taken.
    BAD_STEP = "V305" {
        title: "a step of a migration that cannot be taken",
        text: "`from`, `of`, `name` and everything in `with` are names of the version before; `to` and the target of `fill` are names of the version that the migration leads to. Every step reads the old values, so the order of steps never matters, and nothing is said twice. What a fill reads is not lost, so it is not dropped.",
        wrong: "{ rename = \"field\", from = \"letters\", to = \"coins\" }        # the wrong way round",
        right: "{ rename = \"field\", from = \"coins\", to = \"letters\" }",
    }
    /// Steps of a migration that were changed after it shipped.
    SHIPPED_STEPS = "V306" {
        title: "steps of a migration that were changed after it shipped",
        text: "When a version is frozen, the history records the steps that lead to it. Players have taken them. Changed or deleted afterwards, they would make something else of the saves of those who come later, and two players with the same old save would not have the same game any more. Put them back, and say in the next migration what is to be different. Their order, and the spaces in an expression, do not matter.",
        wrong: "[[migration]]\nto = 2                 # frozen with `with = \"best\"`\nsteps = [{ fill = \"best_letters[mill_lane]\", with = \"best * 2\" }]",
        right: "[[migration]]\nto = 2\nsteps = [{ fill = \"best_letters[mill_lane]\", with = \"best\" }]\n[[migration]]\nto = 3\nsteps = [{ fill = \"best_letters[mill_lane]\", with = \"best_letters[mill_lane] * 2\" }]",
    }
    /// Shapes of one version that disagree.
    SHAPES_DISAGREE = "V307" {
        title: "shapes of one version that disagree",
        text: "A version can be frozen in several shapes: for a patch, for a hotfix, on two branches. Their saves all say the same version, and are read by name as one. Where two shapes give a name another type, other keys or another owner, no migration can speak of both. The branch that has not shipped takes another number: take its line out of the history, raise its version, and freeze it again.",
        wrong: "[field.route]\ntype = \"text\"      # another branch has frozen version 2 with an int",
        right: "version = 3\n[field.route_name]\ntype = \"text\"",
    }
}

impl Explanation {
    /// Returns whether it is a warning, which a spec can allow with a reason; errors cannot be allowed.
    pub fn is_warning(&self) -> bool {
        self.code >= "V100"
    }
}

/// All codes as a Markdown document: `docs/lints.md`.
#[doc(hidden)]
pub fn as_markdown() -> String {
    let mut out = String::from(
        "# What `vestigum check` finds\n\nErrors begin with `V0`: the spec cannot be used, or part of it can never do anything. Warnings begin with `V1`: the spec\nworks, and probably does not do what was meant. What begins with `V2` is found by `vestigum explore`; `V3` are errors about
versions and the saves of earlier ones. A warning that is meant is allowed in the spec, with a reason:\n\n```toml\n[[allow]]\ncode = \"V102\"\nof = \"last_letters\"                 # left out: wherever it is found\nbecause = \"the board shows the last visit, not the best\"\n```\n\n`vestigum check --deny warnings` fails on warnings too. `vestigum check --explain CODE` shows what stands here.\n",
    );
    for entry in ALL {
        let Explanation { code, title, text, wrong, right } = entry;
        out.push_str(&format!("\n## {code}: {title}\n\n{text}\n\n"));
        out.push_str(&format!("Wrong:\n\n```toml\n{wrong}\n```\n\nRight:\n\n```toml\n{right}\n```\n"));
    }
    out
}

/// Returns what `code` means, if there is such a code. Case does not matter.
///
/// ```
/// assert_eq!(vestigum_spec::codes::explain("v003").unwrap().code, "V003");
/// ```
pub fn explain(code: &str) -> Option<&'static Explanation> {
    ALL.iter().find(|entry| entry.code.eq_ignore_ascii_case(code))
}
