//! `tests!` with `deny_open`: the tests of a pattern that has every promise known.

vestigum_verify::tests!("../../demo/patterns/gates/gates.toml", deny_open);

#[test]
#[should_panic(expected = "p: never happened: no play comes to the moment that it is about")]
fn an_open_answer_fails() {
    let folder = tempfile::tempdir().unwrap();
    let spec = folder.path().join("progress.toml");
    let text = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]\n[[promise]]\nname = \"p\"\nafter = \"game_over\"\nholds = \"false\"\n";
    std::fs::write(&spec, text).unwrap();
    vestigum_verify::testing::assert_promise(&spec, "p");
    vestigum_verify::testing::assert_promise_known(&spec, "p");
}
