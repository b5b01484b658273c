//! A real browser without a window, driven over its debugging protocol.

use std::io::{BufRead, BufReader, Write as _};
use std::net::TcpStream;
use std::path::Path;
use std::process::{Child, Command, Stdio};

use serde_json::{Value as Json, json};
use tungstenite::stream::MaybeTlsStream;
use tungstenite::{Message, WebSocket};

const PROGRAMS: [&str; 3] = ["chromium", "chromium-browser", "google-chrome"];

/// One page in a browser.
#[derive(Debug)]
pub struct Browser {
    process: Child,
    socket: WebSocket<MaybeTlsStream<TcpStream>>,
    session: String,
    sent: u64,
    _profile: tempfile::TempDir,
}

impl Browser {
    /// Opens a page of that size; none if no browser is installed.
    pub fn open(page: &Path, (width, height): (u32, u32)) -> Option<Browser> {
        let profile = tempfile::tempdir().unwrap();
        let started = PROGRAMS.iter().find_map(|program| {
            Command::new(program)
                .args(["--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run"])
                .args(["--disable-background-networking", "--disable-component-update", "--disable-sync"])
                .arg("--disable-dev-shm-usage")
                .args(["--remote-debugging-port=0", &format!("--window-size={width},{height}")])
                .arg(format!("--user-data-dir={}", profile.path().display()))
                .stdin(Stdio::null())
                .stdout(Stdio::null())
                .stderr(Stdio::piped())
                .spawn()
                .ok()
        });
        let Some(mut process) = started else {
            assert!(std::env::var_os("VESTIGUM_NEEDS_BROWSER").is_none(), "no browser is installed");
            let _ = writeln!(std::io::stderr(), "SKIPPED: no browser is installed, so this test tries nothing");
            return None;
        };
        let mut lines = BufReader::new(process.stderr.take().unwrap()).lines().map_while(Result::ok);
        let url = lines.find_map(|line| line.strip_prefix("DevTools listening on ").map(str::to_owned));
        let url = url.expect("the browser tells where it listens");
        // What it says besides must not fill the pipe.
        std::thread::spawn(move || lines.for_each(drop));
        let (socket, _) = tungstenite::connect(&url).unwrap();
        let mut browser = Browser { process, socket, session: String::new(), sent: 0, _profile: profile };
        let target = browser.call("Target.createTarget", json!({ "url": "about:blank" }));
        let attached =
            browser.call("Target.attachToTarget", json!({ "targetId": target["targetId"], "flatten": true }));
        browser.session = attached["sessionId"].as_str().unwrap().to_owned();
        let size = json!({ "width": width, "height": height, "deviceScaleFactor": 1, "mobile": false });
        browser.call("Emulation.setDeviceMetricsOverride", size);
        browser.call("Page.navigate", json!({ "url": format!("file://{}", page.display()) }));
        browser
            .eval("new Promise(done => document.readyState == 'complete' ? done() : addEventListener('load', done))");
        Some(browser)
    }

    /// Calls a method of the protocol.
    pub fn call(&mut self, method: &str, params: Json) -> Json {
        self.sent += 1;
        let mut message = json!({ "id": self.sent, "method": method, "params": params });
        if !self.session.is_empty() {
            message["sessionId"] = json!(self.session);
        }
        self.socket.send(Message::text(message.to_string())).unwrap();
        loop {
            let Message::Text(text) = self.socket.read().unwrap() else { continue };
            let answer: Json = serde_json::from_str(&text).unwrap();
            if answer["id"] == json!(self.sent) {
                assert!(answer["error"].is_null(), "{method}: {answer}");
                return answer["result"].clone();
            }
        }
    }

    /// The value of an expression in the page.
    pub fn eval(&mut self, script: &str) -> Json {
        let asked = json!({ "expression": script, "returnByValue": true, "awaitPromise": true });
        let answer = self.call("Runtime.evaluate", asked);
        assert!(answer["exceptionDetails"].is_null(), "{script}: {answer}");
        answer["result"]["value"].clone()
    }

    /// Presses a key, by its name in the protocol.
    pub fn press(&mut self, key: &str) {
        for kind in ["keyDown", "keyUp"] {
            self.call(
                "Input.dispatchKeyEvent",
                json!({ "type": kind, "key": key, "code": key, "windowsVirtualKeyCode": code(key) }),
            );
        }
    }

    /// Clicks into the middle of the first thing that a selector finds.
    pub fn click(&mut self, selector: &str) {
        let script = format!(
            "(() => {{ const it = document.querySelector({selector:?}); it.scrollIntoView({{block: 'center'}}); const box = it.getBoundingClientRect(); \
             return [box.x + box.width / 2, box.y + box.height / 2]; }})()"
        );
        let at = self.eval(&script);
        for kind in ["mouseMoved", "mousePressed", "mouseReleased"] {
            self.call(
                "Input.dispatchMouseEvent",
                json!({ "type": kind, "x": at[0], "y": at[1], "button": "left", "clickCount": 1 }),
            );
        }
    }

    /// Returns what programs that read a page aloud see: the role and the name of each thing.
    pub fn accessible(&mut self) -> Vec<(String, String)> {
        let tree = self.call("Accessibility.getFullAXTree", json!({}));
        let text = |node: &Json, what: &str| node[what]["value"].as_str().unwrap_or_default().to_owned();
        let nodes = tree["nodes"].as_array().unwrap().iter().filter(|node| node["ignored"] != json!(true));
        nodes.map(|node| (text(node, "role"), text(node, "name"))).collect()
    }
}

fn code(key: &str) -> u32 {
    match key {
        "Tab" => 9,
        "Enter" => 13,
        "ArrowLeft" => 37,
        "ArrowUp" => 38,
        "ArrowRight" => 39,
        "ArrowDown" => 40,
        other => panic!("no code for {other}"),
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}
