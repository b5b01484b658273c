//! The map of the levels: what it says, and that it can be drawn whatever the levels are.

use std::collections::BTreeSet;
use std::io::Write as _;
use std::process::{Command, Stdio};

use proptest::prelude::*;
use vestigum_core::{Progress, Spec};
use vestigum_report::level_map::{Ink, LevelMap, Standing, WayKind};
use vestigum_testing::{Allowed, hunting, sketch};

fn plain(map: &LevelMap, width: usize) -> String {
    map.as_text(width, &|_: Ink, text| text.to_owned())
}

fn demo() -> Spec {
    Spec::from_toml_with_history(
        include_str!("../../../../demo/fellpost/fellpost.toml"),
        include_str!("../../../../demo/fellpost/fellpost.history.json"),
    )
    .unwrap()
}

#[test]
fn the_demo_has_its_ways_its_conditions_and_its_secrets() {
    let map = LevelMap::of(&demo());
    let index = |id: &str| map.levels.iter().position(|level| level.id == id).unwrap();
    let between = |from: &str, to: &str| {
        let way = map.ways.iter().find(|way| (way.from, way.to) == (index(from), index(to)));
        way.map(|way| way.kind.clone())
    };
    assert_eq!(between("mill_lane", "heather_rise"), Some(WayKind::Opens));
    assert_eq!(between("mill_lane", "millrace"), Some(WayKind::Exit("cellar".into())));
    assert_eq!(between("millrace", "heather_rise"), Some(WayKind::LeadsOn));
    assert_eq!(between("heather_rise", "scree_gate"), Some(WayKind::Opens));
    assert_eq!(between("tarn_steps", "scree_gate"), Some(WayKind::LeadsOn));
    assert_eq!(between("mill_lane", "tarn_steps"), None);
    let gate = &map.levels[index("scree_gate")];
    assert_eq!(gate.needs.as_deref(), Some("4 stars"));
    assert_eq!(gate.opens.as_deref(), Some("completed[heather_rise] and total_stars >= 4"));
    assert!(map.levels[index("millrace")].hidden.is_some() && map.levels.iter().all(|level| !level.unreachable));
    // Levels that players make are on the map of who made them, and on no other.
    assert_eq!(map.levels.len(), 6);
}

#[test]
fn a_player_stands_where_they_stand_and_a_secret_is_told_to_tools() {
    let spec = demo();
    let mut game = Progress::fresh(&spec);
    game.enter("mill_lane").unwrap();
    game.checkpoint("ford").unwrap();
    game.write("letters", &[], 90.into()).unwrap();
    let map = LevelMap::with_player(&spec, &game);
    let level = |id: &str| map.levels.iter().find(|level| level.id == id).unwrap().player.clone().unwrap();
    assert_eq!(level("mill_lane").here, Some(Some("ford".to_owned())));
    assert_eq!(level("heather_rise").standing, Standing::Locked);
    assert_eq!(level("millrace").why.as_deref(), Some("leave Mill Lane by its exit `cellar`"));
    game.complete().unwrap();
    game.make_level().unwrap();
    let map = LevelMap::with_player(&spec, &game);
    let level = |id: &str| map.levels.iter().find(|level| level.id == id).unwrap().player.clone().unwrap();
    assert_eq!((level("mill_lane").standing, level("heather_rise").standing), (Standing::Completed, Standing::Open));
    assert!(level("mill_lane").values.contains(&("stars".to_owned(), "2".to_owned())));
    assert_eq!(level("made_1").standing, Standing::Open);
    assert!(plain(&map, 127).contains("✓ Mill Lane"));
}

#[test]
fn what_can_never_open_is_marked_in_every_form() {
    let spec = Spec::from_toml(
        "[game]\nid = \"fellpost\"\n[levels]\norder = [\"a\", \"b\"]\n[level.a]\nopens = \"completed[b]\"\n[level.b]\nopens = \"completed[a]\"\n",
    )
    .unwrap();
    let map = LevelMap::of(&spec);
    assert!(map.levels.iter().all(|level| level.unreachable));
    for drawn in [plain(&map, 80), map.as_svg(), map.as_dot(), map.as_mermaid()] {
        assert!(drawn.contains("can never open"), "{drawn}");
    }
}

#[test]
fn sixty_levels_and_a_thousand_in_a_row_are_drawn() {
    for count in [60, 1_000] {
        let order: Vec<String> = (0..count).map(|level| format!("\"l{level}\"")).collect();
        let spec =
            Spec::from_toml(&format!("[game]\nid = \"long\"\n[levels]\norder = [{}]", order.join(", "))).unwrap();
        let map = LevelMap::of(&spec);
        let text = plain(&map, 127);
        assert!((0..count).all(|level| text.contains(&format!("│ l{level} "))), "{text}");
        assert!(text.lines().all(|line| line.chars().count() <= 127));
        assert_eq!(map.as_svg().matches("<rect").count(), count);
    }
}

#[test]
fn titles_that_mean_something_to_a_format_are_texts() {
    let title = "<b>\\\"Mill\\\" & \\\\ lane]";
    let spec = Spec::from_toml(&format!(
        "[game]\nid = \"fellpost\"\n[levels]\norder = [\"end\"]\n[level.end]\ntitle = \"{title}\"\n"
    ))
    .unwrap();
    let map = LevelMap::of(&spec);
    assert!(map.as_svg().contains("&lt;b&gt;&quot;Mill&quot; &amp; \\ lane]"));
    assert!(map.as_dot().contains(r#"[label="<b>\"Mill\" & \\ lane]"]"#), "{}", map.as_dot());
    assert!(map.as_mermaid().contains("l0[\"#60;b#62;#34;Mill#34; #38; #92; lane#93;\"]"), "{}", map.as_mermaid());
}

/// A box is a box, whatever its title has in it.
#[test]
fn a_title_with_a_line_break_stays_in_its_box() {
    let spec = Spec::from_toml(
        "[game]\nid = \"fellpost\"\n[levels]\norder = [\"a\"]\n[level.a]\ntitle = \"Mill\\n\\tLane\"\n",
    )
    .unwrap();
    let text = plain(&LevelMap::of(&spec), 80);
    assert!(text.starts_with("╭────────────────────────╮\n│ Mill  Lane             │\n╰"), "{text}");
}

/// Graphviz reads the map, if it is installed: `.ci/run` installs it.
#[test]
fn graphviz_takes_the_dot_form() {
    let started = Command::new("dot").arg("-Tsvg").stdin(Stdio::piped()).stdout(Stdio::piped()).spawn();
    let Ok(mut dot) = started else {
        assert!(std::env::var_os("VESTIGUM_NEEDS_GRAPHVIZ").is_none(), "Graphviz is not installed");
        let _ = writeln!(std::io::stderr(), "SKIPPED: Graphviz is not installed, so this test tries nothing");
        return;
    };
    let map = LevelMap::of(&demo());
    dot.stdin.take().unwrap().write_all(map.as_dot().as_bytes()).unwrap();
    let drawn = dot.wait_with_output().unwrap();
    let drawn = String::from_utf8(drawn.stdout).unwrap();
    assert_eq!(drawn.matches("class=\"node\"").count(), map.levels.len());
    assert_eq!(drawn.matches("class=\"edge\"").count(), map.ways.len());
}

proptest! {
    #![proptest_config(hunting::config(96, file!()))]

    /// Every level has one box in every form, no line is wider than it may be, and no box covers another.
    #[test]
    fn any_levels_are_drawn(sketch in sketch(Allowed::default()), width in 40usize..160) {
        let spec = Spec::from_toml(&sketch.toml()).unwrap();
        let map = LevelMap::of(&spec);
        let text = plain(&map, width);
        prop_assert!(text.lines().filter(|line| !line.contains("──")).count() > 0);
        let boxes = text.matches('╭').count().min(text.matches('╯').count());
        prop_assert!(boxes >= map.levels.len(), "{text}");
        for line in text.lines().filter(|line| line.starts_with(['╭', '│', '╰', ' ']) && !line.contains("opens")) {
            prop_assert!(line.chars().count() <= width, "{width}: {line}");
        }
        let svg = map.as_svg();
        prop_assert_eq!(svg.matches("<rect").count(), map.levels.len());
        let corners: BTreeSet<&str> = svg.match_indices("<rect x=").map(|(at, _)| svg[at..].split(" width").next().unwrap()).collect();
        prop_assert_eq!(corners.len(), map.levels.len());
        for way in &map.ways {
            prop_assert!(way.from < map.levels.len() && way.to < map.levels.len());
        }
    }
}
