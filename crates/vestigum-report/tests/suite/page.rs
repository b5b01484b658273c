//! The report page: what is on it, that it needs nothing else, and how a browser takes it.

use std::fs;

use serde_json::json;
use vestigum_core::{History, Progress, Spec};
use vestigum_report::level_map::LevelMap;
use vestigum_report::page::{PlayedRun, Report, ReportPlayer};
use vestigum_testing::browser::Browser;
use vestigum_verify::fate_table::FateTable;
use vestigum_verify::fate_words::FateWords;
use vestigum_verify::lint;
use vestigum_verify::playthrough::{MemorySaves, Run, Script, run};

const SPEC: &str = include_str!("../../../../demo/fellpost/fellpost.toml");
const HISTORY: &str = include_str!("../../../../demo/fellpost/fellpost.history.json");
const PLAYS: &str = include_str!("../../../../demo/fellpost/plays/falls.play");

fn demo() -> Spec {
    Spec::from_toml_with_history(SPEC, HISTORY).unwrap()
}

fn played(spec: &Spec) -> Vec<Run> {
    let script = Script::from_text("falls.play", PLAYS, spec).unwrap();
    script.playthroughs().iter().map(|play| run(spec, play, &mut MemorySaves::default())).collect()
}

fn player(spec: &Spec) -> Progress {
    let mut game = Progress::fresh(spec);
    game.enter("mill_lane").unwrap();
    game.write("letters", &[], 90.into()).unwrap();
    game.write("score", &[], 1_234.into()).unwrap();
    game.complete().unwrap();
    game
}

/// The page of the demo, with everything that does not take long.
fn page() -> String {
    let spec = demo();
    let (checked, runs, progress) = (
        lint::check_with_history("fellpost.toml", SPEC, History::from_json("fellpost.history.json", HISTORY).unwrap()),
        played(&spec),
        player(&spec),
    );
    let player = ReportPlayer { name: "ada", saved_at: "2026-11-01 08:00:00", place: "menu", progress: &progress };
    Report::new(&spec)
        .with_source(SPEC)
        .with_findings(&checked)
        .with_runs(runs.iter().map(|run| PlayedRun { file: "falls.play", run }).collect())
        .with_players(vec![player])
        .html()
}

#[test]
fn the_page_fetches_nothing_and_names_everything() {
    let spec = demo();
    let page = page();
    for fetching in ["http:", "src=", "@import", "url(\"", "<link", "fetch("] {
        let found = page.match_indices(fetching).map(|(at, _)| &page[at..page.len().min(at + 60)]);
        // The name of SVG's own words is no address that anybody asks.
        let found: Vec<&str> = found.filter(|found| !found.starts_with("http://www.w3.org/2000/svg")).collect();
        assert_eq!(found, Vec::<&str>::new());
    }
    for row in FateTable::of(&spec).rows {
        assert!(page.contains(&format!("<tr data-field=\"{}\">", row.field)), "{}", row.field);
    }
    for level in LevelMap::of(&spec).levels {
        assert!(page.contains(&level.title), "{}", level.title);
    }
}

#[test]
fn what_authors_write_is_text_on_the_page_and_nothing_else() {
    let hostile = "[game]\nid = \"fellpost\"\ntitle = \"</title><script>alert(1)</script>\"\n[levels]\norder = [\"a\"]\n[level.a]\n\
        title = \"<img onerror=x>\"\nopens = \"'<i>' == '<i>'\"\n";
    let spec = Spec::from_toml(hostile).unwrap();
    let script = Script::from_text("<b>.play", "playthrough \"<script>\"\nlaunch # <x>\n", &spec).unwrap();
    let runs = [run(&spec, &script.playthroughs()[0], &mut MemorySaves::default())];
    let checked = lint::check("x", hostile);
    let played = vec![PlayedRun { file: "<b>.play", run: &runs[0] }];
    let page = Report::new(&spec).with_source(hostile).with_findings(&checked).with_runs(played).html();
    for tag in ["<script>alert", "<img", "<i>'", "<b>.play", "\"<script>\""] {
        assert!(!page.contains(tag), "{tag}");
    }
    assert_eq!(page.matches("<script>").count(), 1);
}

/// A page as a file, and a browser that has it open.
fn opened(size: (u32, u32)) -> Option<(tempfile::TempDir, Browser)> {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("report.html");
    fs::write(&file, page()).unwrap();
    let browser = Browser::open(&file, size)?;
    Some((folder, browser))
}

#[test]
fn every_number_on_the_page_is_the_librarys() {
    let Some((_folder, mut browser)) = opened((1280, 800)) else { return };
    let spec = demo();
    // The fate table: each cell's fate, sign, words and reason.
    let table = FateTable::of(&spec);
    let shown = browser.eval(
        "[...document.querySelectorAll('.fates tr[data-field]')].map(row => [row.dataset.field, [...row.querySelectorAll('.cell')].map(cell => \
         [cell.dataset.moment, cell.dataset.fate, cell.querySelector('.sign').textContent, cell.querySelector('.why').textContent])])",
    );
    assert_eq!(shown.as_array().unwrap().len(), table.rows.len());
    for row in shown.as_array().unwrap() {
        let field = row[0].as_str().unwrap();
        let words = FateWords::of(&spec, field).unwrap();
        assert_eq!(row[1].as_array().unwrap().len(), words.len());
        for (cell, words) in row[1].as_array().unwrap().iter().zip(&words) {
            assert_eq!(cell[0], json!(words.moment));
            assert_eq!((&cell[1], &cell[2]), (&json!(words.cell.word()), &json!(words.cell.sign())));
            let told = cell[3].as_str().unwrap();
            // What stands in backticks is code on the page.
            let plain = |text: &str| text.replace('`', "");
            assert!(told.contains(&plain(&words.what)) && told.contains(&plain(&words.why)), "{told}");
            for line in words.lines(SPEC) {
                assert!(told.contains(&line.to_string()), "{told}");
            }
        }
    }
    // The timelines: each value of each statement.
    let stories = browser.eval(
        "[...document.querySelectorAll('details.run')].map(run => [...run.querySelectorAll('.story tbody tr')].map(row => \
         [...row.cells].map(cell => cell.textContent)))",
    );
    let runs = played(&spec);
    assert_eq!(stories.as_array().unwrap().len(), runs.len());
    for (story, run) in stories.as_array().unwrap().iter().zip(&runs) {
        for (shown, row) in story.as_array().unwrap().iter().zip(&run.timeline.rows) {
            assert_eq!((&shown[0], &shown[1]), (&json!(row.line.to_string()), &json!(&*row.statement)));
            for (index, cell) in row.cells.iter().enumerate() {
                let text = shown[2 + index].as_str().unwrap();
                let after = cell.brief().unwrap_or_default();
                let before = cell.before.as_ref().map(vestigum_core::Value::brief).unwrap_or_default();
                assert_eq!(
                    text.split_whitespace().collect::<String>(),
                    format!("{before}{after}"),
                    "{}",
                    row.statement
                );
            }
        }
    }
    // The board of the player.
    let board = browser.eval(
        "[...document.querySelectorAll('#players table tbody tr')].map(row => [...row.cells].map(cell => cell.textContent))",
    );
    let rows = player(&spec).full_board();
    assert_eq!(board.as_array().unwrap().len(), rows.len());
    for (shown, row) in board.as_array().unwrap().iter().zip(&rows) {
        assert_eq!((&shown[0], &shown[1]), (&json!(row.title), &json!(row.standing().replace('`', ""))));
    }
    assert_eq!(board[0][2], "90");
    let score = browser.eval("[...document.querySelectorAll('.values li')].map(item => item.textContent)");
    assert!(score.as_array().unwrap().iter().any(|text| text.as_str().unwrap().contains("1234")), "{score}");
}

#[test]
fn cells_are_reached_by_keys_and_say_why() {
    let Some((_folder, mut browser)) = opened((1280, 800)) else { return };
    let focused = |browser: &mut Browser| {
        browser.eval("[document.activeElement.closest('tr')?.dataset.field, document.activeElement.dataset.moment]")
    };
    browser.eval("document.querySelector('.fates .cell[tabindex=\"0\"]').focus()");
    assert_eq!(focused(&mut browser), json!(["streak", "enter"]));
    browser.press("ArrowRight");
    browser.press("ArrowRight");
    browser.press("ArrowDown");
    assert_eq!(focused(&mut browser), json!(["letters", "death"]));
    let shown = browser.eval(
        "[...document.querySelectorAll('.why')].filter(why => getComputedStyle(why).display != 'none').map(why => why.textContent)",
    );
    assert_eq!(shown.as_array().unwrap().len(), 1);
    assert!(shown[0].as_str().unwrap().contains("goes back to what it was at the last checkpoint"), "{shown}");
    // One Tab leaves the table.
    browser.press("Tab");
    assert_ne!(focused(&mut browser), json!(["letters", "restart"]));
    // At a glance: a click shows another moment.
    let left = "[...document.querySelectorAll('.left')].filter(left => getComputedStyle(left).display != 'none').map(left => left.dataset.moment)";
    assert_eq!(browser.eval(left), json!(["death"]));
    browser.click("label[for=glance-5]");
    assert_eq!(browser.eval(left), json!(["complete"]));
    // The filter leaves the fields that are named so.
    browser.eval("(() => { const box = document.querySelector('.filter input'); box.value = 'best'; box.dispatchEvent(new Event('input')); })()");
    let fields = browser.eval("[...document.querySelectorAll('.fates tr[data-field]')].filter(row => row.offsetParent).map(row => row.dataset.field)");
    assert!(fields.as_array().unwrap().iter().all(|field| field.as_str().unwrap().contains("best")), "{fields}");
    // What is read aloud has names.
    let told = browser.accessible();
    let has = |role: &str, name: &str| told.iter().any(|(of, text)| of == role && text.contains(name));
    assert!(has("heading", "What persists") && has("navigation", "Parts of this page"));
    assert!(has("image", "The levels of Fellpost") && has("radio", "death") && has("columnheader", "checkpoint"));
    assert!(has("rowheader", "best_letters"), "{told:?}");
}

#[test]
fn a_narrow_window_scrolls_tables_and_nothing_else() {
    for width in [400, 1280] {
        let Some((_folder, mut browser)) = opened((width, 800)) else { return };
        let wide = browser.eval("document.documentElement.scrollWidth");
        assert!(wide.as_u64().unwrap() <= u64::from(width), "{width}: {wide}");
    }
}

#[test]
fn the_page_can_be_read_without_scripts() {
    let Some((folder, mut browser)) = opened((1280, 800)) else { return };
    browser.call("Emulation.setScriptExecutionDisabled", json!({ "value": true }));
    browser.call("Page.navigate", json!({ "url": format!("file://{}", folder.path().join("report.html").display()) }));
    let loaded = "document.readyState == 'complete' && document.querySelector('#players') != null";
    while browser.eval(loaded) != json!(true) {
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    // No script ran: the filters are its work.
    assert_eq!(browser.eval("document.querySelectorAll('.filter').length"), 0);
    let text = browser.eval("document.body.innerText");
    for part in ["What persists", "stays", "Scree Gate opens when", "enter mill_lane", "ada"] {
        assert!(text.as_str().unwrap().contains(part), "{part}");
    }
    browser.click("label[for=glance-4]");
    let left = "[...document.querySelectorAll('.left')].filter(left => getComputedStyle(left).display != 'none').map(left => left.dataset.moment)";
    assert_eq!(browser.eval(left), json!(["restart"]));
    browser.eval("document.querySelector('tr[data-field=letters] [data-moment=death]').focus()");
    let shown = "getComputedStyle(document.activeElement.querySelector('.why')).display";
    assert_eq!(browser.eval(shown), "block");
}

/// Texts were drawn at 2.5 to 1 in light and 3.7 to 1 in dark, and tables that scroll could not be reached by keys.
#[test]
fn an_accessibility_checker_finds_nothing() {
    let Some(checker) = std::env::var_os("VESTIGUM_AXE") else {
        println!("SKIPPED: VESTIGUM_AXE does not name an accessibility checker, so this test tries nothing");
        return;
    };
    let checker = fs::read_to_string(checker).unwrap();
    let long = "Mill Lane ".repeat(300);
    let hostile = SPEC.replace("title = \"Mill Lane\"", &format!("title = \"{long}\""));
    assert_ne!(hostile, SPEC);
    let spec = Spec::from_toml_with_history(&hostile, HISTORY).unwrap();
    let runs = played(&spec);
    let runs = runs.iter().map(|run| PlayedRun { file: "falls.play", run }).collect();
    let hostile = Report::new(&spec).with_source(&hostile).with_runs(runs).html();
    let folder = tempfile::tempdir().unwrap();
    for (name, html) in [("demo.html", page()), ("long.html", hostile)] {
        let path = folder.path().join(name);
        fs::write(&path, html).unwrap();
        for width in [1280, 400, 320] {
            let Some(mut browser) = Browser::open(&path, (width, 900)) else { return };
            for scheme in ["light", "dark"] {
                let features = json!([{ "name": "prefers-color-scheme", "value": scheme }]);
                browser.call("Emulation.setEmulatedMedia", json!({ "features": features }));
                browser.eval(&format!("{checker}; 0"));
                let found = browser.eval(
                    "axe.run().then(found => found.violations.map(one => one.id + ': ' + one.nodes.map(node => node.html.slice(0, 99)).slice(0, 3)))",
                );
                assert_eq!(found, json!([]), "{name}, {width} px, {scheme}");
            }
        }
    }
}

/// The contrast of two colours, as the guidelines for the web define it.
fn contrast(one: &str, other: &str) -> f64 {
    let light = |colour: &str| {
        let digits = colour.trim_start_matches('#');
        let digits: String =
            if digits.len() == 3 { digits.chars().flat_map(|c| [c, c]).collect() } else { digits.to_owned() };
        let part = |at: usize| {
            let part = f64::from(u8::from_str_radix(&digits[at..at + 2], 16).unwrap()) / 255.0;
            if part <= 0.040_45 { part / 12.92 } else { ((part + 0.055) / 1.055).powf(2.4) }
        };
        0.2126 * part(0) + 0.7152 * part(2) + 0.0722 * part(4)
    };
    let (one, other) = (light(one), light(other));
    (one.max(other) + 0.05) / (one.min(other) + 0.05)
}

#[test]
fn every_text_colour_can_be_read_on_every_paper() {
    let css = include_str!("../../src/page/page.css");
    let roots = css.split(":root {").skip(1).filter_map(|rest| rest.split('}').next());
    // On paper only two of them are other ones.
    let roots: Vec<&str> = roots.filter(|root| root.contains("--rule: ")).collect();
    assert_eq!(roots.len(), 2, "light and dark");
    for root in roots {
        let said = root.split(';').filter_map(|said| said.trim().strip_prefix("--")?.split_once(": "));
        let colours: std::collections::BTreeMap<&str, &str> = said.collect();
        for text in ["ink", "soft", "faint", "good", "back", "bad", "rule"] {
            let own = format!("{text}-paper");
            for paper in ["paper", "sheet", &own] {
                let Some(paper_colour) = colours.get(paper) else { continue };
                let found = contrast(colours[text], paper_colour);
                assert!(found >= 4.5, "expected 4.5 to 1, found {found:.2}: {text} on {paper}");
            }
        }
    }
}
