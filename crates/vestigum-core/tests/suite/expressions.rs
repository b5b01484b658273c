//! What expressions are worth, at the edges too.

use vestigum_core::{Progress, Spec};

/// The value of an expression in a little world, as it prints.
fn worth(expression: &str) -> String {
    let spec = Spec::from_toml(&format!(
        r#"
[game]
id = "fellpost"
[levels]
order = ["mill_lane", "heather_rise", "tarn_steps"]
[level.mill_lane]
checkpoints = ["ford", "stile"]
[struct.parcel]
weight = "int"
fragile = "bool"
[table.stars]
steps = [40, 80, 120]
[table.times]
steps = [60.5, 90.0]
falling = true
[field.n]
type = "int"
default = 7
lasts = "profile"
after_failure = "keep"
[field.x]
type = "float"
default = 2.5
lasts = "profile"
after_failure = "keep"
[field.name]
type = "text"
default = "Ada"
lasts = "profile"
after_failure = "keep"
[field.best]
type = "int"
per = "level"
optional = true
lasts = "profile"
after_failure = "keep"
[field.bag]
type = "map of parcel"
default = {{ ring = {{ weight = 3, fragile = true }} }}
lasts = "profile"
after_failure = "keep"
[field.tools]
type = "set of text"
default = ["rope", "hook"]
lasts = "profile"
after_failure = "keep"
[field.at]
type = "vec3"
default = [1, 2, 3.5]
lasts = "profile"
after_failure = "keep"
[field.mood]
type = "choice"
of = ["low", "fair", "high"]
default = "fair"
lasts = "profile"
after_failure = "keep"
[derived]
it = "{expression}"
"#
    ))
    .unwrap_or_else(|errors| panic!("{errors}"));
    let mut game = Progress::fresh(&spec);
    game.write("best", &["mill_lane"], 30.into()).unwrap();
    game.write("best", &["tarn_steps"], 12.into()).unwrap();
    game.enter("mill_lane").unwrap();
    game.checkpoint("stile").unwrap();
    game.derived("it").unwrap().to_string()
}

#[test]
fn operators_bind_as_one_expects() {
    for (expression, expected) in [
        ("1 + 2 * 3", "7"),
        ("(1 + 2) * 3", "9"),
        ("10 - 2 - 3", "5"),
        ("-n + 1", "-6"),
        ("- 2 * 3", "-6"),
        ("not n == 7 or x > 2", "true"),
        ("not (n == 7 or x > 2)", "false"),
        ("true or false and false", "true"),
        ("7 / 2", "3"),
        ("-7 / 2", "-3"),
        ("x / 2", "1.25"),
        ("n + x", "9.5"),
        ("1 < 2 and 2 <= 2 and 3 >= 3 and 3 > 2 and 1 != 2", "true"),
        ("'it''s' == 'it''s'", "true"),
    ] {
        assert_eq!(worth(expression), expected, "{expression}");
    }
}

#[test]
fn nothing_overflows() {
    for (expression, expected) in [
        ("9223372036854775807 + 1", "9223372036854775807"),
        ("-9223372036854775807 - 5", "-9223372036854775808"),
        ("9223372036854775807 * 3", "9223372036854775807"),
        ("-(-9223372036854775807 - 1)", "9223372036854775807"),
        ("(-9223372036854775807 - 1) / -1", "9223372036854775807"),
        ("x * 1e308 * 1e308", "1.7976931348623157e308"),
        ("x / 1e-308 / 1e-308", "1.7976931348623157e308"),
        ("0.0 * -1.0", "0.0"),
    ] {
        assert_eq!(worth(expression), expected, "{expression}");
    }
}

#[test]
fn functions_over_axes_skip_what_is_not_filled() {
    for (expression, expected) in [
        ("sum(best)", "42"),
        ("highest(best)", "30"),
        ("lowest(best)", "12"),
        ("count(best)", "2"),
        ("size(best)", "3"),
        ("best[heather_rise]", "0"),
        ("filled(best[heather_rise])", "false"),
        ("filled(best)", "true"),
        ("best", "30"),
        ("best[level]", "30"),
        ("count(completed)", "0"),
        ("open(mill_lane) and not open(heather_rise) and open(level)", "true"),
    ] {
        assert_eq!(worth(expression), expected, "{expression}");
    }
}

#[test]
fn places_have_names_and_numbers_from_one() {
    for (expression, expected) in
        [("level", "'mill_lane'"), ("checkpoint", "'stile'"), ("level_index", "1"), ("checkpoint_index", "2")]
    {
        assert_eq!(worth(expression), expected, "{expression}");
    }
}

#[test]
fn containers_structs_vectors_and_choices_are_read_in_parts() {
    for (expression, expected) in [
        ("bag['ring'].weight", "3"),
        ("bag['clock'].weight", "0"),
        ("bag['ring'] == { weight = 3, fragile = true }", "true"),
        ("has(bag, 'ring') and not has(bag, 'clock')", "true"),
        ("has(tools, 'rope') and not has(tools, 'axe')", "true"),
        ("len(tools) + len(bag) + len(name)", "6"),
        ("tools == ['hook', 'rope']", "true"),
        ("at.x + at.z", "4.5"),
        ("at == [1, 2, 3.5]", "true"),
        ("mood == 'fair' and mood > 'low' and mood <= 'high'", "true"),
        ("if(mood == 'high', 'up', 'down')", "'down'"),
    ] {
        assert_eq!(worth(expression), expected, "{expression}");
    }
}

#[test]
fn tables_grade_from_either_side() {
    for (expression, expected) in [
        ("grade(39, stars)", "0"),
        ("grade(40, stars)", "1"),
        ("grade(1000, stars)", "3"),
        ("grade(79.5, stars)", "1"),
        ("into(100, stars)", "20"),
        ("needed(100, stars)", "40"),
        ("needed(120, stars)", "0"),
        ("into(100.5, stars)", "20.5"),
        ("grade(60, times)", "2"),
        ("grade(61, times)", "1"),
        ("grade(91, times)", "0"),
        ("max(1, n, 3) + min(4, 2)", "9"),
        ("max(1, x)", "2.5"),
    ] {
        assert_eq!(worth(expression), expected, "{expression}");
    }
}
