//! Codes: what they carry, how they are read, and what is reported of texts that are not codes.

use proptest::prelude::*;

use vestigum_core::{CodeError, Progress, Reset, Spec, Value};
use vestigum_testing::hunting::config;

const FIELDS: &str = "[levels]\norder = [\"mill_lane\", \"heather_rise\", \"tarn_steps\"]\n\
    [field.lamp]\ntype = \"bool\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
    [field.purse]\ntype = \"int\"\nrange = [-5, 9994]\nlasts = \"run\"\nafter_failure = \"keep\"\n\
    [field.bag]\ntype = \"choice\"\nof = [\"satchel\", \"rucksack\", \"handcart\"]\noptional = true\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
    [field.stars]\ntype = \"int\"\nrange = [0, 3]\nper = \"level\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
    [field.volume]\ntype = \"int\"\nrange = [0, 100]\nlasts = \"device\"\n\
    [field.used]\ntype = \"set of text\"\nmax_len = 20\nlasts = \"profile\"\nwritten_by = \"rules\"\n\
    [field.letters]\ntype = \"int\"\nlasts = \"visit\"\nafter_failure = \"keep\"\nrange = [0, 5]\n\
    [field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
    [keys.stone]\nopen = true\nmax = 3\n\
    [field.visits]\ntype = \"int\"\nrange = [0, 5]\nper = \"stone\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n";

fn text(code: &str) -> String {
    format!("[game]\nid = \"fellpost\"\n{FIELDS}[code.card]\n{code}\n")
}

fn spec(code: &str) -> Spec {
    Spec::from_toml(&text(code)).unwrap_or_else(|errors| panic!("{errors}"))
}

const CARD: &str = "carries = [\"lamp\", \"purse\", \"bag\", \"completed\", \"stars\", \"volume\"]\nas = \"text\"\n";

fn player(spec: &Spec, purse: i64, stars: i64) -> Progress {
    let mut game = Progress::fresh(spec);
    game.write("purse", &[], Value::Int(purse)).unwrap();
    game.write("stars", &["heather_rise"], Value::Int(stars)).unwrap();
    game.write("lamp", &[], Value::Bool(purse % 2 == 0)).unwrap();
    if purse % 3 == 0 {
        game.write("bag", &[], Value::text("handcart")).unwrap();
    }
    game
}

fn refused(game: &mut Progress, code: &str) -> CodeError {
    let before = (game.suspend().profile_image("ada"), game.suspend().device_image());
    let error = game.redeem("card", code).expect_err("it is no code");
    assert_eq!((game.suspend().profile_image("ada"), game.suspend().device_image()), before, "nothing has changed");
    error
}

/// The characters of a code, each with its place in the text.
fn places(code: &str) -> Vec<(usize, char)> {
    code.char_indices().filter(|(_, c)| *c != '-').collect()
}

fn with_character(code: &str, at: usize, character: char) -> String {
    let mut out: Vec<char> = code.chars().collect();
    out[at] = character;
    out.into_iter().collect()
}

proptest! {
    #![proptest_config(config(60, vestigum_testing::kept_in!("codes")))]

    #[test]
    fn what_a_code_carries_comes_out_of_it(purse in -5i64..=9994, stars in 0i64..=3, check in 1u8..=2) {
        let spec = spec(&format!("{CARD}check = {check}\n"));
        let ada = player(&spec, purse, stars);
        let code = ada.code("card").unwrap();
        let mut bo = Progress::fresh(&spec);
        let told = spec.read_code("card", &code).unwrap();
        bo.redeem("card", &code).unwrap();
        for (name, keys) in [("lamp", &[][..]), ("purse", &[]), ("bag", &[]), ("stars", &["heather_rise"]), ("volume", &[])] {
            let value = bo.value(name, keys).unwrap();
            prop_assert_eq!(&value, &ada.value(name, keys).unwrap(), "{}", name);
            prop_assert!(told.iter().any(|(entry, told)| entry.starts_with(name) && *told == value));
        }
        prop_assert_eq!(bo.code("card"), Ok(code.clone()));
        prop_assert_eq!(bo.redeem("card", code.to_lowercase().replace('-', " ")).unwrap().changes, []);
    }

    /// Every character that is wrong is found and named, and every two that are swapped are found.
    #[test]
    fn mistakes_in_typing_are_found(purse in -5i64..=9994, stars in 0i64..=3, check in 1u8..=2) {
        let spec = spec(&format!("{CARD}check = {check}\n"));
        let code = player(&spec, purse, stars).code("card").unwrap();
        let mut game = Progress::fresh(&spec);
        let places = places(&code);
        for (position, (at, character)) in (1..).zip(&places) {
            for other in "0123456789ABCDEFGHJKMNPQRTUWXYZ".chars().filter(|other| other != character) {
                let error = refused(&mut game, &with_character(&code, *at, other));
                if check == 2 {
                    prop_assert_eq!(error, CodeError::Mistyped { position });
                }
            }
        }
        for (one, (at, a)) in places.iter().enumerate() {
            for (other, b) in places.iter().skip(one + 1).filter(|(_, b)| a != b) {
                let swapped = with_character(&with_character(&code, *at, *b), *other, *a);
                let error = refused(&mut game, &swapped);
                // The first character tells the layout, so swapping it looks like a code of another.
                prop_assert!(check == 1 || *at == 0 || error == CodeError::Swapped, "{:?}", error);
            }
        }
    }

    /// A number is the sum of what its values add, and a gate that counts in steps holds no other.
    #[test]
    fn a_number_is_what_its_values_add_up_to(lamp in any::<bool>(), volume in 0i64..=100, step in 1u64..50) {
        let spec = spec(&format!("carries = [\"lamp\", \"volume\"]\nmax = 20000\nstep = {step}\n"));
        let mut game = Progress::fresh(&spec);
        game.write("lamp", &[], Value::Bool(lamp)).unwrap();
        game.write("volume", &[], Value::Int(volume)).unwrap();
        let sum = (u64::from(lamp) + 2 * volume as u64) * step;
        prop_assert_eq!(game.code("card").unwrap(), sum.to_string());
        prop_assert_eq!(Progress::fresh(&spec).redeem("card", sum).is_ok(), true);
        if step > 1 {
            prop_assert_eq!(refused(&mut game, &(sum + 1).to_string()), CodeError::NoStep { text: (sum + 1).to_string(), step });
        }
    }
}

#[test]
fn what_looks_alike_is_forgiven_and_the_rest_is_told() {
    let spec = spec(CARD);
    let mut game = player(&spec, 4_321, 2);
    let code = game.code("card").unwrap();
    let untidy =
        code.to_lowercase().replace('-', " . ").replace('0', "o").replace('1', "l").replace('5', "s").replace('u', "V");
    assert!(game.redeem("card", untidy).is_ok());
    assert!(matches!(refused(&mut game, &format!("{code}7")), CodeError::WrongLength { .. }));
    assert!(matches!(refused(&mut game, &code[..code.len() - 1]), CodeError::WrongLength { .. }));
    assert_eq!(
        refused(&mut game, &with_character(&code, 2, '*')),
        CodeError::BadCharacter { position: 3, character: '*' }
    );
    assert!(matches!(refused(&mut game, ""), CodeError::WrongLength { found: 0, .. }));
    assert!(matches!(refused(&mut game, &"7".repeat(1_000_000)), CodeError::WrongLength { found: 1_000_000, .. }));
    let unknown = game.redeem("crad", "").unwrap_err().to_string();
    assert_eq!(unknown, "no code is called `crad`; did you mean `card`?");
}

/// A code of another game, or of a version with another layout, is told as that: it changes nothing.
#[test]
fn a_code_of_another_layout_is_none() {
    let others = [
        CARD.replace("\"lamp\", ", ""),
        CARD.replace("\"lamp\", \"purse\"", "\"purse\", \"lamp\""),
        format!("{CARD}# the game"),
    ];
    let own = spec(CARD);
    let mut told = 0;
    for (index, other) in others.iter().enumerate() {
        let text = text(other)
            .replace("id = \"fellpost\"", if index == 2 { "id = \"fellwalk\"" } else { "id = \"fellpost\"" });
        let other = Spec::from_toml(&text).unwrap_or_else(|errors| panic!("{errors}"));
        for purse in 0..200 {
            let code = player(&other, purse, 1).code("card").unwrap();
            // One layout in 31 has the same first character: its codes look mistyped, and are refused all the same.
            told += usize::from(matches!(refused(&mut Progress::fresh(&own), &code), CodeError::Other { .. }));
        }
    }
    assert!(told > 300, "{told} of 600 were told as codes of another layout");
}

#[test]
fn a_code_is_redeemed_once_where_the_spec_says_so_and_in_the_menu() {
    let spec = spec(&format!("{CARD}once = \"used\"\n"));
    let codes: Vec<String> = (0..21).map(|purse| player(&spec, purse, 1).code("card").unwrap()).collect();
    let mut game = Progress::fresh(&spec);
    game.enter("mill_lane").unwrap();
    assert!(matches!(refused(&mut game, &codes[0]), CodeError::NotInMenu { .. }));
    game.travel().unwrap();
    let redeemed = game.redeem("card", &codes[0]).unwrap();
    assert!(redeemed.changes.iter().any(|change| &*change.field == "used"));
    assert_eq!(refused(&mut game, &codes[0].to_lowercase()), CodeError::RedeemedBefore);
    codes[1..20].iter().for_each(|code| assert!(game.redeem("card", code).is_ok()));
    assert_eq!(refused(&mut game, &codes[20]), CodeError::NoRoom { field: "used".into() });
    game.reset(&Reset::Field { name: "used".into(), keys: Vec::new() }).unwrap();
    assert!(game.redeem("card", &codes[0]).is_ok(), "the tester starts anew");
    game.quit().unwrap();
    assert_eq!(game.redeem("card", &codes[0]), Err(CodeError::Closed));
}

#[test]
fn a_code_that_completes_levels_opens_what_follows() {
    let spec = spec("carries = [\"completed\"]\nmax = 7\n");
    let mut game = Progress::fresh(&spec);
    let redeemed = game.redeem("card", " 3 ").unwrap();
    assert_eq!(redeemed.opened.iter().map(|level| &**level).collect::<Vec<_>>(), ["heather_rise", "tarn_steps"]);
    assert!(matches!(refused(&mut game, "8"), CodeError::OutOfRange { .. }));
    assert!(matches!(refused(&mut game, "three"), CodeError::NoNumber { .. }));
    assert!(matches!(refused(&mut game, "-1"), CodeError::NoNumber { .. }));
    assert!(matches!(refused(&mut game, &"9".repeat(400)), CodeError::OutOfRange { .. }));
}

#[test]
fn what_a_code_cannot_be_is_told_with_its_price() {
    let cases = [
        ("max = 10", "`card` carries nothing"),
        ("carries = [\"lmap\"]\nmax = 10", "did you mean `lamp`?"),
        ("carries = [\"lamp\", \"lamp\"]\nmax = 10", "`lamp` is carried twice"),
        ("carries = [\"letters\"]\nmax = 10", "a code is redeemed in the menu"),
        ("carries = [\"xp\"]\nmax = 10", "`xp` has no range"),
        ("carries = [\"used\"]\nmax = 10", "a code carries bools, choices and ints with a range"),
        ("carries = [\"visits\"]\nmax = 10", "a code has a certain number"),
        ("carries = [\"lamp\"]", "does not say how large its number can be"),
        ("carries = [\"lamp\"]\nmax = 0", "`max` and `step` are whole numbers from 1"),
        ("carries = [\"lamp\"]\nmax = 10\nstep = 0", "`max` and `step` are whole numbers from 1"),
        (
            "carries = [\"lamp\", \"stars\"]\nmax = 1000\nstep = 10",
            "needs 128 numbers, and a gate of 1000 in steps of 10 holds 101",
        ),
        ("carries = [\"lamp\", \"stars\"]\nmax = 100", "carry less: `stars` alone takes 64, `lamp` alone takes 2"),
        ("carries = [\"lamp\"]\nmax = 10\ncheck = 2", "a number has no `check`"),
        ("carries = [\"lamp\"]\nas = \"text\"\nmax = 10", "a text has no `max`"),
        ("carries = [\"lamp\"]\nas = \"texts\"", "`as` is one of: number, text"),
        ("carries = [\"lamp\"]\nas = \"text\"\ncheck = 3", "`check` goes from 1 to 2"),
        ("carries = [\"lamp\"]\nas = \"text\"\nalphabet = \"AABCDE\"", "the character `A` is there twice"),
        ("carries = [\"lamp\"]\nas = \"text\"\nalphabet = \"ABC-DE\"", "`-` separates groups"),
        ("carries = [\"lamp\"]\nas = \"text\"\nalphabet = \"AB\"", "expected at least 5 characters"),
        ("carries = [\"stars\", \"purse\"]\nas = \"text\"\nalphabet = \"ABCDE\"", "would have more than 4 characters"),
        ("carries = [\"lamp\"]\nmax = 9\nonce = \"xp\"", "cannot remember which codes were redeemed"),
        ("carries = [\"lamp\"]\nmax = 9\nonce = \"usde\"", "did you mean `used`?"),
        ("carries = [\"lamp\"]\nmax = 9\nonce = true", "`once` wants a text"),
    ];
    for (code, wanted) in cases {
        let said = Spec::from_toml(&text(code)).expect_err(code).to_string();
        assert!(said.contains(wanted), "{code}\n{said}");
    }
    let empty = Spec::from_toml("[game]\nid = \"fellpost\"\n[code.card]\ncarries = [\"completed\"]\nmax = 9\n");
    assert!(empty.unwrap_err().to_string().contains("what it names has no entries"));
}
