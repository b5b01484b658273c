//! The proof finds what is lost, and the saves in which a value shows.

use vestigum_testing::updates::*;
use vestigum_verify::proof::{Options, Proof, prove};

#[test]
fn the_proof_finds_what_is_lost_though_every_step_is_there() {
    let old = spec(
        1,
        &format!(
            "{PATHS}{}{}{}",
            field("best", "int", "per = \"level\""),
            field("coins", "int", ""),
            field("notes", "set of text", "")
        ),
    );
    let fills = |fill: &str| {
        let steps = [
            "{ drop = \"level\", name = \"attic\" }",
            "{ rename = \"field\", from = \"notes\", to = \"papers\" }",
            fill,
        ];
        let paths = PATHS.replace(", \"attic\"", "");
        let rest = format!(
            "{paths}{}{}{}{}",
            field("best", "int", "per = \"level\""),
            field("coins", "int", "range = [0, 500]"),
            field("papers", "set of text", ""),
            migration(2, &steps)
        );
        prove(&updated(2, &rest, &frozen(&[&old])), &Options { random: 20, seed: 3 })
    };
    let told = |proof: &Proof| {
        let fields = proof.versions[0].fields.iter().map(|field| {
            format!("{} → {:?} {:?} lost {:?}\n", field.field, texts(&field.now), field.verdict, texts(&field.lost))
        });
        fields.collect::<String>()
    };
    let sound = fills("{ fill = \"best[heather_rise]\", with = \"best[heather_rise] + 1\" }");
    assert!(sound.holds(), "{}", told(&sound));
    assert!(sound.versions[0].fields[1].clamped > 0, "some saves have more than 500 coins");
    let lossy = fills("{ fill = \"best\", with = \"best[old_mill]\" }");
    assert!(!lossy.holds());
    insta::assert_snapshot!(told(&lossy), @r#"
    best → ["best"] Kept lost ["best[heather_rise]"]
    coins → ["coins"] Kept lost []
    notes → ["papers"] Kept lost []
    completed → ["completed"] Kept lost []
    opened → ["opened"] Kept lost []
    "#);
}

#[test]
fn the_proof_finds_the_saves_in_which_a_value_shows() {
    let visit = |name: &str| {
        format!("[field.{name}]\ntype = \"int\"\nper = \"checkpoint\"\nlasts = \"visit\"\nafter_failure = \"keep\"\n")
    };
    let old = spec(
        1,
        &format!(
            "{PATHS}{}{}{}{}",
            visit("found"),
            visit("seen"),
            field("coins", "int", ""),
            field("title", "text", "")
        ),
    );
    let proof = |richest: &str| {
        let added = ["most", "least", "rich", "chief"].map(|name| field(name, "int", "range = [0, 60]")).concat();
        let steps = [
            "{ fill = \"most\", with = \"highest(found)\" }",
            "{ fill = \"least\", with = \"lowest(seen)\" }",
            &format!("{{ fill = \"rich\", with = \"if(coins == 4711, {richest}, 0)\" }}"),
            "{ fill = \"chief\", with = \"if(title == 'postmaster', 1, 0)\" }",
        ];
        let rest = format!("{PATHS}{added}{}", migration(2, &steps));
        prove(&updated(2, &rest, &frozen(&[&old])), &Options { random: 0, seed: 1 })
    };
    let held = proof("1");
    assert!(held.holds(), "{:#?}", held.versions[0].lost().collect::<Vec<_>>());
    let lost = proof("0");
    assert_eq!(lost.versions[0].lost().map(|field| field.field.to_string()).collect::<Vec<_>>(), ["coins"]);
}

fn texts<T: ToString>(list: &[T]) -> Vec<String> {
    list.iter().map(ToString::to_string).collect()
}
