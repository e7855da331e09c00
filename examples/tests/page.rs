//! The page of `search_page` in a browser: what it shows while somebody types, and that keys are enough to use it.
//!
//! It needs Chromium and its driver, from the system's packages `chromium` and `chromium-driver`.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod support;

use serde_json::{Value, json};
use std::io::{BufRead, BufReader};
use std::process::{Command, Stdio};
use std::thread::sleep;
use std::time::{Duration, Instant};
use support::{Running, page, request};

/// How long something may take to be shown.
const PATIENCE: Duration = Duration::from_secs(20);
/// Between two keystrokes.
const KEYSTROKE_MS: u64 = 40;
/// Keys without a letter, as drivers name them (the standard of the W3C, 17.4.2).
const DOWN: char = '\u{e015}';
const UP: char = '\u{e013}';
const ENTER: char = '\u{e007}';
const ESCAPE: char = '\u{e00c}';

/// A browser without a window.
struct Browser {
    driver: String,
    session: String,
    _running: Running,
}

impl Browser {
    fn start() -> Self {
        let mut child =
            Command::new("chromedriver").arg("--port=0").stdout(Stdio::piped()).spawn().expect(
                "the driver of Chromium is needed; install the packages chromium and chromium-driver",
            );
        let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
        let port = lines.find_map(|line| {
            let line = line.unwrap();
            let port = line.strip_suffix('.').unwrap_or(&line).rsplit_once(" on port ")?.1;
            // First it says which port it was told, which was any.
            port.parse::<u16>().ok().filter(|port| *port > 0)
        });
        let driver = format!("127.0.0.1:{}", port.expect("the driver says on which port it is"));
        // What it says later has to go somewhere.
        std::thread::spawn(move || lines.for_each(drop));
        let arguments = ["--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage"];
        let options =
            json!({ "args": arguments.iter().chain(&["--window-size=1280,900"]).collect::<Vec<_>>() });
        let wanted = json!({ "capabilities": { "alwaysMatch": { "goog:chromeOptions": options } } });
        let mut this = Self { driver, session: String::new(), _running: Running(child) };
        let session = this.ask("", &wanted)["sessionId"].take();
        session.as_str().unwrap().clone_into(&mut this.session);
        this
    }

    fn ask(&self, command: &str, body: &Value) -> Value {
        let path = match self.session.as_str() {
            "" => "/session".to_owned(),
            session => format!("/session/{session}/{command}"),
        };
        let (status, body) = request(&self.driver, "POST", &path, &body.to_string());
        assert_eq!(status, 200, "{command}: {body}");
        serde_json::from_str::<Value>(&body).unwrap()["value"].take()
    }

    fn open(&self, url: &str) {
        self.ask("url", &json!({ "url": url }));
    }

    fn run(&self, script: &str) -> Value {
        self.ask("execute/sync", &json!({ "script": script, "args": [] }))
    }

    /// Presses keys one after the other.
    fn press(&self, keys: impl IntoIterator<Item = char>) {
        let mut actions = Vec::new();
        for key in keys {
            for kind in ["keyDown", "keyUp"] {
                actions.push(json!({ "type": kind, "value": key.to_string() }));
            }
            actions.push(json!({ "type": "pause", "duration": KEYSTROKE_MS }));
        }
        self.ask("actions", &json!({ "actions": [{ "type": "key", "id": "keys", "actions": actions }] }));
    }

    /// Waits until the page says so.
    fn wait_for(&self, condition: &str) {
        let until = Instant::now() + PATIENCE;
        while self.run(&format!("return Boolean({condition})")) != json!(true) {
            let shown = || self.run("return document.querySelector('main').innerText");
            assert!(Instant::now() < until, "never: {condition}; shown: {}", shown());
            sleep(Duration::from_millis(20));
        }
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        // Ends the browser as well; the driver ends when it is dropped.
        let _ = request(&self.driver, "DELETE", &format!("/session/{}", self.session), "");
    }
}

#[test]
fn somebody_types_and_never_sees_an_older_answer_after_a_newer_one() {
    const TYPED: &str = "walnut writing box of oak";
    assert_eq!(TYPED.len(), 25);
    let folder = tempfile::tempdir().unwrap();
    let (_running, address) = page(folder.path());
    let browser = Browser::start();
    browser.open(&format!("http://{address}/"));

    // Every other answer comes late, none is given up, and whatever is shown is noted.
    browser.run(
        "const real = fetch, wait = ms => new Promise(done => setTimeout(done, ms));
         let turn = 0;
         window.fetch = async (url) => {
             const late = turn++ % 2 ? 0 : 250, answer = await real(url);
             await wait(late);
             return answer;
         };
         window.shown = [];
         new MutationObserver(() => shown.push(document.getElementById('status').dataset.of))
             .observe(document.getElementById('status'), { attributes: true });",
    );
    browser.press(TYPED.chars());
    browser.wait_for(&format!("shown.at(-1) === '{TYPED}'"));
    let shown = browser.run("return shown");
    let shown: Vec<_> = shown.as_array().unwrap().iter().map(|text| text.as_str().unwrap()).collect();
    assert!(shown.iter().all(|text| TYPED.starts_with(text)), "{shown:?}");
    assert!(shown.is_sorted_by_key(|text| text.len()), "{shown:?}");
    // Nothing comes later.
    sleep(Duration::from_millis(400));
    assert_eq!(browser.run("return shown.at(-1)"), TYPED);
}

#[test]
fn completions_and_corrections_are_taken_by_keys() {
    let folder = tempfile::tempdir().unwrap();
    let (_running, address) = page(folder.path());
    let browser = Browser::start();
    browser.open(&format!("http://{address}/"));
    let typed = || browser.run("return document.getElementById('q').value");
    let chosen =
        || browser.run("return document.querySelector('[aria-selected=true]')?.dataset.text ?? null");

    browser.press("Walnut b".chars());
    browser.wait_for("document.getElementById('status').dataset.of === 'Walnut b'");
    assert_eq!(chosen(), Value::Null);
    browser.press([DOWN]);
    assert_eq!(chosen(), "Walnut box", "no stop word");
    browser.press([DOWN, UP, UP]);
    assert_eq!(chosen(), Value::Null, "above the first is what was typed");
    browser.press([UP, DOWN, DOWN, ENTER]);
    assert_eq!(typed(), "Walnut box");
    browser.wait_for("document.getElementById('status').dataset.of === 'Walnut box'");
    assert_eq!(browser.run("return document.querySelector('#hits mark').textContent"), "Walnut");
    browser.press(" u".chars());
    browser.wait_for("document.getElementById('status').dataset.of === 'Walnut box u'");
    browser.wait_for("!document.getElementById('offers').hidden");
    browser.press([ESCAPE]);
    browser.wait_for("document.getElementById('offers').hidden");
    assert_eq!(typed(), "Walnut box u");

    // A station's name, whole.
    browser.open(&format!("http://{address}/?q="));
    browser.press("quillm".chars());
    browser.wait_for(
        "[...document.querySelectorAll('#offers li')].some(li => li.dataset.text.startsWith('station:'))",
    );

    // What was put in a word's place is told, and can be taken back.
    browser.open(&format!("http://{address}/?q=wlanut+hinge+"));
    browser.wait_for("document.querySelector('#notes button')");
    assert!(
        browser.run("return document.getElementById('notes').innerText").as_str().unwrap().contains("walnut")
    );
    browser.run("document.querySelector('#notes button').click()");
    browser.wait_for("document.getElementById('status').innerText.startsWith('0 found')");

    // Where nothing begins so, what may have been meant is offered.
    browser.open(&format!("http://{address}/?q=wlanut+umbrellaa+"));
    browser.wait_for("document.querySelector('#notes button')");
    browser.run("document.querySelector('#notes button').click()");
    browser.wait_for("[...document.querySelectorAll('#notes button')].some(button => button.innerText.includes('umbrella ('))");

    // A status is chosen of the counts: as many are found as it said, and what else could be chosen stays in sight.
    browser.open(&format!("http://{address}/?q=umbrella+handle"));
    browser.wait_for("document.querySelectorAll('#counts p:first-child button').length === 4");
    let said =
        browser.run("return document.querySelector('#counts small').innerText").as_str().unwrap().to_owned();
    browser.run("document.querySelector('#counts button').click()");
    browser.wait_for("document.querySelector('#counts [aria-pressed=true]')");
    browser.wait_for(&format!("document.getElementById('status').innerText.startsWith('{said} found')"));
    assert_eq!(
        browser.run("return document.querySelectorAll('#counts p:first-child button').length"),
        json!(4)
    );
}
