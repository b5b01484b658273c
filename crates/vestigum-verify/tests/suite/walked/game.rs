//! Small random games with random promises.

/// Numbers that decide what is made.
pub(crate) struct Dice<'n>(pub(crate) std::slice::Iter<'n, u16>);

impl Dice<'_> {
    pub(crate) fn roll(&mut self, sides: usize) -> usize {
        self.0.next().map_or(0, |number| usize::from(*number) % sides)
    }

    pub(crate) fn one_of<T: Copy>(&mut self, of: &[T]) -> T {
        of[self.roll(of.len())]
    }
}

/// A field of a small game.
pub(crate) struct Field {
    pub(crate) name: &'static str,
    pub(crate) has_source: bool,
    pub(crate) played: bool,
    pub(crate) keyed: bool,
}

/// A random small game with random promises, and its fields.
pub(crate) fn game(dice: &mut Dice<'_>) -> (String, Vec<Field>) {
    let (merges, makes) = (dice.roll(2) == 0, dice.roll(3) == 0);
    let made = if makes { "made = { max = 1 }\n" } else { "" };
    let mut text = format!("[game]\nid = \"fellpost\"\n[levels]\norder = [\"l0\", \"l1\"]\n{made}");
    if dice.roll(2) == 0 {
        text.push_str(&format!(
            "[level.l1]\nopens = \"{}\"\n",
            dice.one_of(&["a >= 1", "completed[l0]", "b >= 2 or c >= 1"])
        ));
    }
    if merges {
        text.push_str("[merge]\n");
    }
    let mut fields = Vec::new();
    // Two fields with the same rules are equal, until something is done to one of them that is not done to the other.
    let twins = dice.roll(2) == 0;
    let mut rules_of_first = String::new();
    for name in ["a", "b", "c"] {
        let lasts = dice.one_of(&["profile", "profile", "device", "run", "device", "profile"]);
        let is_twin = twins && name != "c";
        let (played, keyed) = (!is_twin && dice.roll(3) == 0, !is_twin && lasts == "profile" && dice.roll(4) == 0);
        let has_source = played && dice.roll(2) == 0;
        text.push_str(&format!("[field.{name}]\ntype = \"int\"\nlasts = \"{lasts}\"\n"));
        let after_failure = dice.one_of(&["keep", "keep", "entry"]);
        text.push_str(&format!("after_failure = \"{}\"\n", if is_twin { "keep" } else { after_failure }));
        text.push_str(&format!("written_by = \"{}\"\n", if played { "both" } else { "rules" }));
        if keyed {
            text.push_str("per = \"level\"\n");
        }
        if !is_twin && dice.roll(3) > 0 {
            text.push_str(&format!("range = [0, {}]\n", dice.one_of(&[1, 2, 9])));
        }
        if merges && lasts == "profile" {
            text.push_str(&format!("merge = \"{}\"\n", dice.one_of(&["max", "min", "sum", "newer"])));
        }
        let mut moments = vec!["complete", "death", "launch", "new_run", "abandon"];
        let mut rules = String::new();
        for _ in 0..=dice.roll(2) {
            let moment = moments.remove(dice.roll(moments.len()));
            let when = dice.one_of(&["", "", ", when = \"a >= 1\"", ", when = \"b < 2\""]);
            let does = dice.one_of(&["add = 1", "set = 2", "max = 1", "max = \"b\"", "min = 1", "add = -1"]);
            rules.push_str(&format!("on.{moment} = {{ {does}{when} }}\n"));
        }
        if name == "a" {
            rules_of_first = rules.replace("\"b\"", "2").replace("b < 2", "c < 2").replace("a >= 1", "c >= 1");
        }
        text.push_str(if is_twin { &rules_of_first } else { &rules });
        fields.push(Field { name, has_source, played, keyed });
    }
    for field in fields.iter().filter(|field| field.has_source) {
        let lasts = dice.one_of(&["visit", "profile"]);
        let name = field.name;
        text.push_str(&format!(
            "[[source]]\nname = \"s{name}\"\ngives = {{ {name} = 1 }}\ntimes = 2\nlasts = \"{lasts}\"\nafter_failure = \"keep\"\n"
        ));
    }
    for number in 0..6 {
        let (one, other) = (dice.one_of(&["a", "b", "c"]), dice.one_of(&["a", "b", "c"]));
        let claim = match dice.roll(11) {
            0 | 1 => format!("never_falls = [\"{one}\"]"),
            9 | 10 if twins => {
                dice.one_of(&["holds = \"a == b\"", "holds = \"a <= b\"", "holds = \"b <= a\""]).to_owned()
            }
            2 | 9 | 10 => format!("holds = \"{one} <= {other}\""),
            3 => format!("holds = \"{one} <= {}\"", dice.roll(4)),
            4 => format!("holds = \"{one} == {other} or {one} >= 1\""),
            5 => format!("holds = \"count(completed) <= {}\"", dice.roll(3)),
            6 => "holds = \"count(opened) <= 2\"".to_owned(),
            7 => format!("after = \"death\"\nholds = \"{one} >= was({one})\""),
            _ => format!(
                "after = \"{}\"\nholds = \"{one} <= {}\"",
                dice.one_of(&["launch", "complete", "enter"]),
                dice.roll(4)
            ),
        };
        text.push_str(&format!("[[promise]]\nname = \"p{number}\"\n{claim}\n"));
    }
    (text, fields)
}
