//! Mistakes against the types, keys and promises of one rich spec: each alone, and what is said about it.

use vestigum_verify::lint::check;

const SPEC: &str = r#"
[game]
id = "fellpost"
[levels]
order = ["mill_lane", "tarn_steps"]
[level.tarn_steps]
checkpoints = ["jetty", "boathouse"]
[keys.gate]
names = ["upper", "lower"]
[keys.weather]
names = ["fair", "storm"]
current = "sky"
[struct.parcel]
grams = "int"
label = "text"
[table.stars]
steps = [40, 80]
[table.medals]
steps = [60, 90]
falling = true
[field.sky]
type = "choice"
of = ["fair", "storm"]
lasts = "visit"
after_failure = "keep"
[field.letters]
type = "int"
lasts = "visit"
after_failure = "checkpoint"
[field.load]
type = "parcel"
lasts = "profile"
after_failure = "keep"
[field.stops]
type = "map of int"
lasts = "profile"
after_failure = "keep"
[field.notes]
type = "set of text"
lasts = "profile"
after_failure = "keep"
[field.place]
type = "vec2"
lasts = "profile"
after_failure = "keep"
[field.passed]
type = "bool"
per = "gate"
lasts = "profile"
after_failure = "keep"
[field.wet]
type = "int"
per = "weather"
lasts = "profile"
after_failure = "keep"
[field.rested]
type = "bool"
per = "checkpoint"
lasts = "profile"
after_failure = "keep"
[field.motto]
type = "text"
lasts = "profile"
after_failure = "keep"
"#;

/// Lists the first finding about each document, a line for the message and one for the help.
fn said<'c>(cases: &[&'c str], document: impl Fn(&'c str) -> String) -> String {
    let sound = check("spec.toml", SPEC).findings;
    assert!(sound.list().is_empty(), "{sound}");
    let mut out = String::new();
    for case in cases {
        let findings = check("spec.toml", &document(case)).findings;
        let Some(finding) = findings.list().first() else { panic!("nothing is said about {case}") };
        out.push_str(&format!("{}\n  {} {}\n", case.replace('\n', "; "), finding.code, finding.message));
        finding.help.iter().for_each(|help| out.push_str(&format!("       {help}\n")));
    }
    out
}

#[test]
fn what_does_not_fit_in_an_expression() {
    let conditions = [
        "rested[jetty]",
        "rested[tarn_steps, jety]",
        "rested[tarn_steps, 3]",
        "rested[level, jetty]",
        "rested[level, checkpoint]",
        "passed[uper]",
        "passed[3]",
        "passed[upper, lower]",
        "wet[upper] > 1",
        "stops['a', 'b'] > 1",
        "stops[3] > 1",
        "stops",
        "sum(letters) > 1",
        "sum(passed) > 1",
        "sum(3) > 1",
        "highest(motto) > 1",
        "len(letters) > 1",
        "has(motto, 'a')",
        "has(notes, 3)",
        "filled(letters + 1)",
        "entry(letters + 1) > 1",
        "grade(letters) > 1",
        "grade(letters, bars) > 1",
        "into(letters, medals) > 1",
        "open(letters)",
        "load == { grms = 3 }",
        "letters == { grams = 3 }",
        "load.grms > 3",
        "letters.x > 3",
        "place.z > 3",
        "notes > 3",
        "motto + 1 > 3",
        "-motto == 'a'",
        "[1, 2, 3, 4] == [1]",
        "if(letters, 1, 2) > 1",
        "if(true, 1, 'a') > 1",
        "sky == 'snow'",
        "place < [1, 2]",
    ];
    let over = |condition: &str| format!("{SPEC}[run]\nover_when = \"{condition}\"\n");
    insta::assert_snapshot!(said(&conditions, over), @"
    rested[jetty]
      V005 `rested` takes a level and a checkpoint, found 1
    rested[tarn_steps, jety]
      V004 `tarn_steps` has no checkpoint `jety`
           did you mean `jetty`?
    rested[tarn_steps, 3]
      V005 the name of a checkpoint is wanted here
    rested[level, jetty]
      V010 `rested` has a value for each checkpoint, and none is meant here
           name one, as in `rested[tarn_steps, jetty]`, or take them all, as in `count(rested)`
    rested[level, checkpoint]
      V010 `rested` has a value for each checkpoint, and none is meant here
           name one, as in `rested[tarn_steps, jetty]`, or take them all, as in `count(rested)`
    passed[uper]
      V004 no gate is called `uper`
           did you mean `upper`?
    passed[3]
      V005 the name of a gate is wanted here
           a name that is not a plain word stands in quotes, as in `['Bob''s mill']`
    passed[upper, lower]
      V005 `passed` takes a gate, found 2
    wet[upper] > 1
      V004 no weather is called `upper`
           known here: fair, storm
    stops['a', 'b'] > 1
      V005 a map takes one key, a text
    stops[3] > 1
      V005 a text is wanted here, and this is an int
    stops
      V005 a bool is wanted here, and this is a map of int
    sum(letters) > 1
      V005 `sum` takes a field that has a value for each level or key, or the items of a container
           write the field without a key, as in `sum(stars)`, or name the container, as in `sum(team.health)`
    sum(passed) > 1
      V005 a field of numbers is wanted here, and this is a bool
    sum(3) > 1
      V005 `sum` takes a field that has a value for each level or key, or the items of a container
           write the field without a key, as in `sum(stars)`, or name the container, as in `sum(team.health)`
    highest(motto) > 1
      V005 `highest` takes a field that has a value for each level or key, or the items of a container
           write the field without a key, as in `sum(stars)`, or name the container, as in `sum(team.health)`
    len(letters) > 1
      V005 a text, bytes or a container is wanted here, and this is an int
    has(motto, 'a')
      V005 a set, a map or a list is wanted here, and this is a text
    has(notes, 3)
      V005 a text is wanted here, and this is an int
    filled(letters + 1)
      V005 `filled` takes a field
    entry(letters + 1) > 1
      V011 `entry(…)` means something only in rules and promises inside a level
           use it at checkpoint, death, restart, complete, travel or abandon
    grade(letters) > 1
      V008 `grade` takes 2 arguments, found 1
    grade(letters, bars) > 1
      V004 the name of a table is wanted here
           tables are declared under [table.NAME]
    into(letters, medals) > 1
      V005 `medals` falls, so there is no way from one step to the next
           `grade` works on falling tables, `into` and `needed` only on rising ones
    open(letters)
      V004 no level is called `letters`
           known here: mill_lane, tarn_steps
    load == { grms = 3 }
      V004 a parcel has no member `grms`
           did you mean `grams`?
    letters == { grams = 3 }
      V005 an int is wanted here, and this is a struct or a map
    load.grms > 3
      V004 a parcel has no member `grms`
           did you mean `grams`?
    letters.x > 3
      V005 something with members is wanted here, and this is an int
    place.z > 3
      V004 a vec2 has no member `z`
           it has: x, y
    notes > 3
      V005 a set of text is wanted here, and this is an int
    motto + 1 > 3
      V005 a text is wanted here, and this is an int
    -motto == 'a'
      V005 a number is wanted here, and this is a text
    [1, 2, 3, 4] == [1]
      V005 it is not clear what this is a list of
           compare it with a field, or give it to one
    if(letters, 1, 2) > 1
      V005 a bool is wanted here, and this is an int
    if(true, 1, 'a') > 1
      V005 an int is wanted here, and this is a text
    sky == 'snow'
      V004 this choice has no `snow`
           it has: fair, storm
    place < [1, 2]
      V005 something that has an order is wanted here, and this is a vec2
    ");
}

#[test]
fn what_does_not_fit_in_a_declaration() {
    let declarations = [
        "[field.x]\ntype = \"text\"\nlasts = \"device\"\nrange = [0, 1]",
        "[field.x]\ntype = \"text\"\nlasts = \"device\"\nmax_len = 0",
        "[field.x]\ntype = \"int\"\nlasts = \"attempt\"\nafter_failure = \"keep\"",
        "[field.x]\ntype = \"int\"\nlasts = \"device\"\nafter_failure = \"entry\"",
        "[field.x]\ntype = \"int\"\nlasts = \"device\"\nper = [\"level\", \"gate\", \"weather\", \"checkpoint\"]",
        "[field.x]\ntype = \"int\"\nlasts = \"device\"\nper = \"gates\"",
        "[moments]\nnames = [\"death\"]",
        "[derived]\nletters = \"1\"",
        "[derived]\nstars = \"1\"",
        "[save]\nat = [\"quit\"]",
        "[save]\nat = [\"dusk\"]",
        "[[source]]\nname = \"bag\"\ngives = { letters = 10 }\nin = \"mill_lane\"\nlasts = \"profile\"",
        "[[source]]\nname = \"bag\"\ngives = { letters = 10 }\nlasts = \"device\"\nafter_failure = \"keep\"",
        "[[source]]\nname = \"bag\"\ngives = { rested = true }\nlasts = \"attempt\"",
        "[[source]]\nname = \"bag\"\ngives = { passed = true }\nlasts = \"attempt\"",
        "[[source]]\nname = \"bag\"\ngives = { leters = 10 }\nlasts = \"attempt\"",
        "[[source]]\nname = \"bag\"\ngives = { \"passed[uper]\" = true }\nlasts = \"attempt\"",
        "[[source]]\nname = \"bag\"\ngives = { \"letters + 1\" = 10 }\nlasts = \"attempt\"",
        "[[source]]\nname = \"bag\"\ngives = { \"stops['mill']\" = 10 }\nlasts = \"attempt\"",
        "[[source]]\nname = \"bag\"\ngives = { letters = 10 }\nin = \"mil_lane\"\nlasts = \"attempt\"",
        "[[source]]\nname = \"bag\"\ngives = { letters = 10 }\nlasts = \"attempt\"\n[[source]]\nname = \"bag\"\ngives = { letters = 1 }\nlasts = \"attempt\"",
        "[[source]]\nname = \"bag\"\ngives = { letters = 10 }\nwhere = \"mill_lane\"",
        "[[promise]]\nname = \"kept\"\nnever_falls = \"motto\"",
        "[[promise]]\nname = \"kept\"\nnever_falls = \"notes\"",
        "[[promise]]\nname = \"kept\"\nholds = \"letters >= 0\"\nafter = \"quit\"",
        "[[promise]]\nname = \"kept\"\nholds = \"letters >= 0\"\nafter = \"deth\"",
        "[[promise]]\nname = \"kept\"\nholds = \"true\"\n[[promise]]\nname = \"kept\"\nholds = \"true\"",
        "[[promise]]\nname = \"kept\"\nalways = \"letters >= 0\"",
        "[[promise]]\nname = \"kept\"",
        "[[migration]]\nto = 1\nsteps = [{ renam = \"field\" }]",
        "[[migration]]\nto = 1\nsteps = [{ rename = \"field\", from = \"a\", into = \"b\" }]",
        "[[migration]]\nto = 1\nsteps = [{ hook = \"load\", with = \"a\" }]",
        "[[migration]]\nto = 1\nsteps = \"all\"",
        "[[migration]]\nsteps = []",
        "[field.x]\ntype = \"int\"\nlasts = \"profile\"\non.death = { add = 1, if = \"true\" }",
        "[[allow]]\ncode = \"V999\"\nbecause = \"it is meant\"",
        "[[allow]]\ncode = \"V003\"\nbecause = \"it is meant\"",
    ];
    insta::assert_snapshot!(said(&declarations, |more| format!("{SPEC}{more}\n")), @r#"
    [field.x]; type = "text"; lasts = "device"; range = [0, 1]
      V005 `x` is of type text; only numbers have a range
    [field.x]; type = "text"; lasts = "device"; max_len = 0
      V009 `max_len` goes from 1 to 67108864
    [field.x]; type = "int"; lasts = "attempt"; after_failure = "keep"
      V007 an attempt ends at every failure, so `after_failure` would never be asked
           leave `after_failure` out
    [field.x]; type = "int"; lasts = "device"; after_failure = "entry"
      V007 device fields are never rewound
           leave `after_failure` out
    [field.x]; type = "int"; lasts = "device"; per = ["level", "gate", "weather", "checkpoint"]
      V002 a checkpoint belongs to its level, so `checkpoint` alone is enough
           write `per = "checkpoint"`
    [field.x]; type = "int"; lasts = "device"; per = "gates"
      V004 there is no axis `gates`
           did you mean `gate`?
    [moments]; names = ["death"]
      V006 there is a moment `death` already
    [derived]; letters = "1"
      V006 `letters` is the name of a field already
    [derived]; stars = "1"
      V006 `stars` is the name of a table already
    [save]; at = ["quit"]
      V007 `quit` needs no mention: quitting always saves
    [save]; at = ["dusk"]
      V004 there is no moment `dusk`
           the game's own moments are named in `[moments] names`
    [[source]]; name = "bag"; gives = { letters = 10 }; in = "mill_lane"; lasts = "profile"
      V003 the source `bag` does not say whether it comes back after a failure
           say `after_failure = "keep"` if it stays taken, `"checkpoint"` or `"entry"` if it comes back
    [[source]]; name = "bag"; gives = { letters = 10 }; lasts = "device"; after_failure = "keep"
      V002 a source is of a level, and no level is of the device
    [[source]]; name = "bag"; gives = { rested = true }; lasts = "attempt"
      V005 it is not clear which entry of `rested` is given
           name the entry by its keys, as in `"rested[tarn_steps, jetty]"`
    [[source]]; name = "bag"; gives = { passed = true }; lasts = "attempt"
      V010 `passed` has a value for each gate
           name one, as in `passed[upper]`, or give `[keys.gate]` a `current`
    [[source]]; name = "bag"; gives = { leters = 10 }; lasts = "attempt"
      V004 no field is called `leters`
           did you mean `letters`?
    [[source]]; name = "bag"; gives = { "passed[uper]" = true }; lasts = "attempt"
      V004 no gate is called `uper`
           did you mean `upper`?
    [[source]]; name = "bag"; gives = { "letters + 1" = 10 }; lasts = "attempt"
      V004 no field is called `letters + 1`
           did you mean `letters`?
    [[source]]; name = "bag"; gives = { "stops['mill']" = 10 }; lasts = "attempt"
      V005 `stops['mill']` is neither a field nor an entry of one
    [[source]]; name = "bag"; gives = { letters = 10 }; in = "mil_lane"; lasts = "attempt"
      V004 no level is called `mil_lane`
           did you mean `mill_lane`?
    [[source]]; name = "bag"; gives = { letters = 10 }; lasts = "attempt"; [[source]]; name = "bag"; gives = { letters = 1 }; lasts = "attempt"
      V006 there is a source `bag` already
    [[source]]; name = "bag"; gives = { letters = 10 }; where = "mill_lane"
      V003 the source `bag` does not say whether it comes back after a failure
           say `after_failure = "keep"` if it stays taken, `"checkpoint"` or `"entry"` if it comes back
    [[promise]]; name = "kept"; never_falls = "motto"
      V005 `motto` is of type text, which has no order to fall in
    [[promise]]; name = "kept"; never_falls = "notes"
      V005 `notes` is of type set of text, which has no order to fall in
    [[promise]]; name = "kept"; holds = "letters >= 0"; after = "quit"
      V007 after `quit` there is nothing left to judge
           `launch` comes after it
    [[promise]]; name = "kept"; holds = "letters >= 0"; after = "deth"
      V004 there is no moment `deth`
           did you mean `death`?
    [[promise]]; name = "kept"; holds = "true"; [[promise]]; name = "kept"; holds = "true"
      V006 two promises have this name
    [[promise]]; name = "kept"; always = "letters >= 0"
      V002 this promises nothing
           say `never_falls = ["FIELD"]`, `holds = "CONDITION"` with or without `after`, or `can = "CONDITION"`
    [[promise]]; name = "kept"
      V002 this promises nothing
           say `never_falls = ["FIELD"]`, `holds = "CONDITION"` with or without `after`, or `can = "CONDITION"`
    [[migration]]; to = 1; steps = [{ renam = "field" }]
      V002 this step does none of what a step can do
           a step begins with one of: rename, fill, drop, move, hook
    [[migration]]; to = 1; steps = [{ rename = "field", from = "a", into = "b" }]
      V002 this `rename` does not say `to`
    [[migration]]; to = 1; steps = [{ hook = "load", with = "a" }]
      V002 a step like this has no key `with`
           known here: hook
    [[migration]]; to = 1; steps = "all"
      V002 `steps` wants a list of steps
    [[migration]]; steps = []
      V002 `[[migration]]` does not say `to` which version it leads
           say it, as in `to = 2`: it takes saves of the version before it
    [field.x]; type = "int"; lasts = "profile"; on.death = { add = 1, if = "true" }
      V002 a rule has no key `if`
           it has: when, do, set, add, max, min, union, rank
    [[allow]]; code = "V999"; because = "it is meant"
      V004 there is no code `V999`
    [[allow]]; code = "V003"; because = "it is meant"
      V002 `V003` is an error, and no error is allowed
    "#);
}
