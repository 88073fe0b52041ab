//! The console in a real browser, as an analyst uses it while a fault arrives.
//!
//! Whatever the browser complains of fails the test: errors in its console, reports of the
//! content security policy, requests that failed.

use crate::demonstration::{Demonstration, alarm_of, truth};
use crate::support::{PATIENCE, directory, eventually, terminate};
use serde_json::{Value, json};
use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;
use thirtyfour::prelude::*;

/// Rules of accessibility, run inside the page; `npm ci` puts them there.
const AXE: &str =
    concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/node_modules/axe-core/axe.min.js");
const SEED: u64 = 2;
/// What follows from a click.
const SOON: Duration = Duration::from_secs(30);

/// Debian's chromium behind its driver; both end when dropped.
struct Browser {
    driver: WebDriver,
    service: Child,
    _profile: TempDir,
}

impl Browser {
    async fn start() -> Self {
        // The driver's client wants to know how it would speak TLS.
        let _installed_before = rustls::crypto::ring::default_provider().install_default();
        let mut service = Command::new("chromedriver")
            .arg("--port=0")
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromium-driver is installed");
        let lines = BufReader::new(service.stdout.take().unwrap()).lines();
        let port = lines.map_while(Result::ok).find_map(|line| {
            let (_, port) = line.split_once("successfully on port ")?;
            port.trim_end_matches('.').parse::<u16>().ok()
        });
        let server = format!("http://127.0.0.1:{}", port.expect("the driver says its port"));
        let profile = tempfile::tempdir().unwrap();
        let mut wanted = DesiredCapabilities::chrome();
        for argument in [
            "--headless=new",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--disable-dev-shm-usage",
            "--window-size=1280,900",
            // Colours that fade over have no contrast to be measured meanwhile.
            "--force-prefers-reduced-motion",
            &format!("--user-data-dir={}", profile.path().display()),
        ] {
            wanted.add_arg(argument).unwrap();
        }
        wanted.set_binary("/usr/bin/chromium").unwrap();
        wanted.set("goog:loggingPrefs", json!({ "browser": "ALL" })).unwrap();
        let driver = WebDriver::new(&server, wanted).await.unwrap();
        Self { driver, service, _profile: profile }
    }

    async fn see(&self, by: By) -> WebElement {
        self.see_within(by, SOON).await
    }

    /// Waits for an element.
    async fn see_within(&self, by: By, limit: Duration) -> WebElement {
        let wait = self.driver.query(by.clone()).wait(limit, Duration::from_millis(200));
        match wait.first().await {
            Ok(element) => element,
            Err(error) => {
                let page = self.driver.find(By::Tag("body")).await.unwrap().text().await;
                panic!("{by:?} did not come: {error}\n{page:?}");
            }
        }
    }

    async fn click(&self, by: By) {
        self.see(by).await.click().await.unwrap();
    }

    /// A button, a link or an option by its words.
    fn named(tag: &str, words: &str) -> By {
        By::XPath(format!("//{tag}[contains(normalize-space(.), \"{words}\")]"))
    }

    async fn js(&self, script: &str) -> Value {
        self.driver.execute(script, vec![]).await.unwrap().json().clone()
    }

    /// No accessibility violation in this mode.
    async fn accessible(&self, what: &str) {
        let rules = std::fs::read_to_string(AXE).expect("`npm ci` has been run in console/");
        self.js(&rules).await;
        let script = "const done = arguments[arguments.length - 1]; \
            axe.run().then(r => done(r.violations \
                .filter(v => ['serious', 'critical'].includes(v.impact)) \
                .map(v => v.id + ': ' + v.nodes.map(n => n.html).slice(0, 3).join(' '))))";
        let found = self.driver.execute_async(script, vec![]).await.unwrap().json().clone();
        assert_eq!(found, json!([]), "{what}");
    }

    async fn accessible_light_and_dark(&self, what: &str) {
        self.accessible(&format!("{what}, light")).await;
        self.click(Self::named("button", "Dark")).await;
        self.see(By::Css("html[data-mode=dark]")).await;
        self.accessible(&format!("{what}, dark")).await;
        self.click(Self::named("button", "Light")).await;
        self.see(By::Css("html[data-mode=light]")).await;
    }

    /// What the browser complained of since it was asked last.
    async fn complaints(&self) -> Vec<String> {
        let entries = self.driver.browser_log().await.unwrap().into_iter();
        let loud = entries.filter(|entry| entry.level != "INFO" && entry.level != "DEBUG");
        loud.map(|entry| entry.message).collect()
    }

    async fn end(self) {
        self.driver.clone().quit().await.unwrap();
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        // The driver takes its browser with it.
        terminate(&self.service);
        let _ended = self.service.wait();
    }
}

async fn sign_in(browser: &Browser, password: &str) {
    browser.see(By::Id("name")).await.send_keys("administrator").await.unwrap();
    browser.see(By::Id("password")).await.send_keys(password).await.unwrap();
    browser.click(Browser::named("button", "Sign in")).await;
}

async fn text(browser: &Browser, by: By) -> String {
    browser.see(by).await.text().await.unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_fault_arrives_live_and_is_followed_to_its_path_and_its_incident() {
    let begun = tokio::task::spawn_blocking(|| Demonstration::start(directory(), SEED, &[]));
    let demonstration = begun.await.unwrap();
    let said = demonstration.said();
    let (_, password) = said.split_once("administrator, password ").unwrap();
    let password = password.split_whitespace().next().unwrap().to_owned();
    let browser = Browser::start().await;

    // Signing in leads to where one wanted to go.
    browser.driver.goto(format!("{}/alarms", demonstration.api)).await.unwrap();
    browser.see(By::Id("name")).await;
    browser.accessible("sign-in").await;
    sign_in(&browser, &password).await;
    browser.see(Browser::named("p", "No open alarms to work on.")).await;

    // The fault arrives while one diagnoses, and moves nothing.
    browser.click(Browser::named("a", "Now")).await;
    browser.see(By::Css("table.board td a")).await;
    browser.js("window.neverLoadedAgain = true").await;
    let place = "return document.querySelector('table.board').getBoundingClientRect().top";
    let before = browser.js(place).await;
    browser.see_within(By::Css("[data-incident]"), PATIENCE).await;
    assert_eq!(browser.js(place).await, before, "the board has moved under the reader's eyes");
    assert_eq!(browser.js("return window.neverLoadedAgain").await, true);
    // Five incidents of at most two lines and the whole board fit on a screen of 1280 by 800.
    let height = "const [row, board, room] = ['[data-incident]', 'table.board', '.reserved']
            .map((which) => document.querySelector(which).getBoundingClientRect());
        return board.bottom + window.scrollY - room.height + Math.max(room.height, 5 * row.height)";
    let height = browser.js(height).await.as_f64().unwrap();
    assert!(height <= 800.0, "{height}");
    browser.accessible_light_and_dark("now").await;

    // From the sentence to the incident, from there to a path that shows it.
    browser.click(By::Css("[data-incident] a")).await;
    let truth = truth(SEED);
    let words = format!("{} → {}", truth.from[0], truth.to[0]);
    // One path alone may name a neighbouring link first: the widest alarm stands for the incident.
    browser.see_within(Browser::named("p", &words), PATIENCE).await;
    let headline =
        text(&browser, By::Css("h1[data-code=loss-located], h1[data-code=delay-located]"));
    let headline = headline.await;
    assert!(headline.contains(&truth.owner.unwrap()), "{headline}");
    browser.accessible_light_and_dark("incident").await;
    browser.click(Browser::named("a", "a path that shows it")).await;
    browser.see(By::XPath("//*[local-name()='text'][contains(., 'it begins here')]")).await;
    browser.accessible_light_and_dark("path").await;

    // An earlier moment is in the address, and a return route.
    browser.click(By::Css("[data-row]")).await;
    browser.see(Browser::named("div", "recomputed from the stored rounds")).await;
    let url = browser.driver.current_url().await.unwrap();
    assert!(url.query().unwrap_or_default().contains("at="), "{url}");
    browser.click(Browser::named("button", "Back to now")).await;

    // The queue by keyboard, into the incident, and a note.
    browser.driver.action_chain().send_keys("a").perform().await.unwrap();
    browser.see(By::Css("[role=option][data-current=true]")).await;
    // One path alone may show another link for a few seconds: the widest alarm lasts.
    let alarm = tokio::task::block_in_place(|| alarm_of(&demonstration, SEED));
    let no = alarm["no"].to_string();
    // The link of the notice leads to an alarm of the incident.
    let notice = tokio::task::block_in_place(|| demonstration.raised(&alarm["incident_no"]));
    let link = notice["data"]["link"].as_str().unwrap();
    browser.driver.goto(link).await.unwrap();
    let linked = format!("#alarm-{}[data-current=true]", notice["data"]["alarm"]);
    browser.see(By::Css(linked)).await;
    browser.driver.goto(format!("{}/alarms?alarm={no}", demonstration.api)).await.unwrap();
    browser.see(By::Css(format!("#alarm-{no}[data-current=true]"))).await;
    triage_by_keyboard(&browser, &no, &complained(&demonstration)).await;
    work_marked_and_save_view(&browser, &demonstration).await;
    browser.driver.goto(format!("{}/alarms?alarm={no}", demonstration.api)).await.unwrap();
    note_in_the_incident(&browser).await;

    try_and_save_rules(&browser).await;
    keep_range_and_zone(&browser).await;
    complain(&browser).await;
    diagnose(&browser).await;
    see_the_fleet(&browser).await;

    // After signing out the page shows the sign-in form, and the session is over.
    browser.click(Browser::named("button", "Sign out")).await;
    browser.see(By::Id("name")).await;
    let script = "const done = arguments[arguments.length - 1]; \
        fetch('/api/v1/session').then(r => r.json()).then(s => done(s.name))";
    let name = browser.driver.execute_async(script, vec![]).await.unwrap().json().clone();
    assert_eq!(name, Value::Null);
    assert_eq!(browser.complaints().await, Vec::<String>::new());
    browser.end().await;
    tokio::task::spawn_blocking(|| demonstration.stop()).await.unwrap();
}

/// Reports a problem by the command; gives the number of its incident.
fn complained(demonstration: &Demonstration) -> String {
    let about = ["--site", "Eskerry", "--service", "Seat Booking", "--words", "bookings stall"];
    let arguments = [&["incidents", "open"], &about[..], &["--format", "json"]].concat();
    let ran = tokio::task::block_in_place(|| demonstration.run(&arguments));
    let opened: Value = serde_json::from_str(&ran.out).unwrap_or_else(|_| panic!("{ran:?}"));
    opened["no"].to_string()
}

/// Presses keys, one after the other.
async fn press(browser: &Browser, keys: impl Into<TypingData>) {
    browser.driver.action_chain().send_keys(keys).perform().await.unwrap();
}

/// A shift's work on an alarm without a mouse: acknowledged, assigned, shelved and unshelved, attached to the
/// incident of a complaint, and handed over.
async fn triage_by_keyboard(browser: &Browser, no: &str, complaint: &str) {
    let row = |words: &str| {
        By::XPath(format!("//*[@id='alarm-{no}'][contains(normalize-space(.), \"{words}\")]"))
    };
    press(browser, "y").await;
    browser.see(row("acknowledged by administrator")).await;
    press(browser, "m").await;
    browser.see(row("assigned to administrator")).await;
    browser.see(Browser::named("li", "acknowledged by administrator")).await;
    press(browser, "s").await;
    // The duration has the focus: one hour.
    browser.see(By::Css("[role=dialog] input:focus")).await;
    press(browser, Key::Tab).await;
    press(browser, "known fault").await;
    browser.accessible("shelve").await;
    press(browser, Key::Enter).await;
    browser.see(Browser::named("p", "1 alarm shelved")).await;
    // What is shelved is in a list of its own.
    press(browser, "4").await;
    browser.see(row("shelved until")).await;
    let url = browser.driver.current_url().await.unwrap();
    assert!(url.query().unwrap_or_default().contains("show=shelved"), "{url}");
    browser.see(By::Css("[role=listbox]:focus")).await;
    press(browser, "s").await;
    browser.see(Browser::named("p", "1 alarm unshelved")).await;
    browser.see(Browser::named("p", "No open alarm is shelved.")).await;
    // An empty view is left by a key, too.
    press(browser, "2").await;
    browser.see(row("assigned to administrator")).await;
    browser.see(By::Css("[role=listbox]:focus")).await;
    press(browser, "t").await;
    browser.see(By::Css("[role=dialog] input:focus")).await;
    press(browser, format!("{complaint}.")).await;
    press(browser, Key::Enter).await;
    press(browser, Key::Tab).await;
    press(browser, "the same fault").await;
    press(browser, Key::Enter).await;
    browser.see(Browser::named("p", "1 alarm attached")).await;
    browser.see(row(&format!("incident {complaint}"))).await;
    press(browser, "h").await;
    // The hand-over says who has the incident, and what was done.
    let attached = format!("alarm {no} attached to incident {complaint}");
    let main = format!("//main[contains(., 'with administrator') and contains(., '{attached}')]");
    browser.see(By::XPath(main)).await;
    browser.accessible("hand-over").await;
    press(browser, "a").await;
    browser.see(row("assigned to administrator")).await;
}

/// From the list of alarms, which shows ten, into the incident of one, which gets a note.
async fn note_in_the_incident(browser: &Browser) {
    browser.see(By::Css("[role=option]")).await;
    browser.accessible_light_and_dark("alarms").await;
    let height = "const row = document.querySelector('[role=option]').getBoundingClientRect();
        return row.top + window.scrollY + 10 * row.height";
    let height = browser.js(height).await.as_f64().unwrap();
    assert!(height <= 800.0, "ten alarms end at {height}");
    browser.click(By::Css("[role=option]")).await;
    press(browser, "j").await;
    press(browser, Key::Enter).await;
    let note = browser.see(By::Tag("textarea")).await;
    note.send_keys("Northmere called at the desk").await.unwrap();
    browser.click(Browser::named("button", "Add the note")).await;
    browser.see(Browser::named("li", "Northmere called at the desk")).await;
    assert!(browser.driver.current_url().await.unwrap().path().starts_with("/incidents/"));
}

/// Works on several alarms at once, and saves the view under a name, by keyboard.
async fn work_marked_and_save_view(browser: &Browser, demonstration: &Demonstration) {
    // The other version of IP has an alarm of its own.
    let two = || demonstration.client(&["alarms"]).as_array().is_some_and(|all| all.len() >= 2);
    tokio::task::block_in_place(|| eventually("two alarms", PATIENCE, || two().then_some(())));
    browser.driver.goto(format!("{}/alarms?show=all", demonstration.api)).await.unwrap();
    browser.see(By::Css("[role=option]:nth-child(2)")).await;
    browser.see(By::Css("[role=listbox]:focus")).await;
    press(browser, "X").await;
    browser.see(Browser::named("span", "marked alarms")).await;
    press(browser, "y").await;
    let said = "//*[@role='status'][contains(., 'acknowledged') and contains(., 'unchanged')]";
    browser.see(By::XPath(said)).await;

    press(browser, "v").await;
    browser.see(By::Css("[role=dialog] input:focus")).await;
    press(browser, "Night").await;
    browser.accessible("save view").await;
    press(browser, Key::Enter).await;
    let until = async |condition: &str| {
        let script = format!("return {condition}");
        let begun = Instant::now();
        while browser.js(&script).await != true {
            assert!(begun.elapsed() < PATIENCE, "{condition}");
        }
    };
    let named = "location.search.includes('view=Night')";
    until(&format!("{named} && document.querySelector('[role=dialog]') === null")).await;
    press(browser, "1").await;
    until(&format!("!{named}")).await;
    browser.see(By::Css("input[aria-label='Saved view']")).await.focus().await.unwrap();
    press(browser, Key::Down).await;
    browser.see(By::Css(".ant-select-item-option-active[title=Night]")).await;
    press(browser, Key::Enter).await;
    until(&format!("{named} && location.search.includes('show=all')")).await;
}

/// A rule is added, tried on the past and saved; then it is removed.
async fn try_and_save_rules(browser: &Browser) {
    browser.click(Browser::named("a", "Rules")).await;
    browser.see(Browser::named("h1", "No rules")).await;
    browser.click(Browser::named("button", "Add rule")).await;
    browser.see(By::Id("name")).await.send_keys("Half a minute").await.unwrap();
    browser.see(By::Id("hold_s")).await.send_keys("30").await.unwrap();
    browser.accessible("edit rule").await;
    browser.click(Browser::named("button", "Done")).await;
    browser.see(Browser::named("h1", "1 rule, not saved")).await;
    browser.see(Browser::named("p", "Limits: held over 30 s")).await;
    browser.click(Browser::named("button", "Try on stored findings")).await;
    browser.see(Browser::named("p", "in the last 7 days")).await;
    browser.see(By::Css("[data-raised-by=both]")).await;
    browser.accessible_light_and_dark("rules").await;
    let save = async |words: &str, then: &str| {
        browser.click(By::XPath("//main//button[normalize-space(.)='Save']")).await;
        browser.see(By::Css("[role=dialog] textarea")).await.send_keys(words).await.unwrap();
        browser.click(By::XPath("//*[@role='dialog']//button[normalize-space(.)='Save']")).await;
        browser.see(Browser::named("p", then)).await;
    };
    save("as configured", "Version 1").await;
    browser.click(By::XPath("//button[normalize-space(.)='Remove']")).await;
    browser.see(Browser::named("h1", "No rules, not saved")).await;
    save("not needed", "Version 2").await;
    browser.see(Browser::named("button", "Use version 1")).await;
}

/// A range and a zone, chosen once, hold for all pages, are in the address, and a link restores them.
async fn keep_range_and_zone(browser: &Browser) {
    let query = async || browser.driver.current_url().await.unwrap().query().unwrap().to_owned();
    browser.click(Browser::named("a", "Alarms")).await;
    browser.click(Browser::named("label", "UTC")).await;
    browser.click(Browser::named("label", "All in the range")).await;
    browser.see(By::Css("[role=option]")).await;
    // An hour ago there was no installation.
    browser.click(By::Css("[aria-label=Earlier]")).await;
    browser.see(Browser::named("p", "No alarms in this range.")).await;
    let of_alarms = query().await;
    assert!(of_alarms.contains("zone=utc") && of_alarms.contains("show=all"), "{of_alarms}");
    let range = of_alarms.split('&').find(|it| it.starts_with("range=")).unwrap().to_owned();
    assert!(range.contains("Z--"), "{range}");
    // Another page and a pasted link have them too.
    browser.click(Browser::named("a", "Fleet")).await;
    browser.see(Browser::named("p", "No events in this range.")).await;
    assert!(query().await.contains(&range));
    let mut url = browser.driver.current_url().await.unwrap();
    url.set_path("/incidents");
    url.set_query(Some(&of_alarms));
    browser.driver.goto(url.as_str()).await.unwrap();
    browser.see(Browser::named("p", "No incidents in this range.")).await;
    browser.accessible("range").await;
    assert_eq!(query().await, of_alarms);
    browser.click(By::Css("[aria-label=Later]")).await;
    browser.see(By::Css("[data-incident]")).await;
    assert!(query().await.contains("range=PT1H"));
}

/// Opens an incident from a complaint, by the form.
async fn complain(browser: &Browser) {
    browser.click(Browser::named("a", "Incidents")).await;
    browser.click(Browser::named("button", "Report a problem")).await;
    for (field, choice) in [("site", "Eskerry"), ("service", "Seat Booking")] {
        let input = browser.see(By::Id(field)).await;
        input.send_keys(choice).await.unwrap();
        input.send_keys(Key::Enter).await.unwrap();
    }
    browser.see(By::Id("words")).await.send_keys("bookings hang").await.unwrap();
    browser.accessible("complaint").await;
    browser.click(Browser::named("button", "Open the incident")).await;
    browser.see(By::Css("h1[data-code^=complaint-]")).await;
    browser.see(Browser::named("q", "bookings hang")).await;
    browser.accessible("complaint's incident").await;
}

/// From the complaint's incident with one click, step by step, to a sentence that is attached.
async fn diagnose(browser: &Browser) {
    let incident = browser.driver.current_url().await.unwrap();
    browser.click(Browser::named("button", "Run diagnosis from Eskerry")).await;
    browser.see_within(Browser::named("h1", "(target "), PATIENCE).await;
    assert!(browser.driver.current_url().await.unwrap().path().starts_with("/diagnoses/"));
    browser.see(Browser::named("pre", "Diagnosis from agent-eskerry to Seat Booking")).await;
    browser.accessible_light_and_dark("diagnosis").await;
    // Its number depends on what else occurs meanwhile.
    let of_incident = "//a[starts-with(normalize-space(.), 'incident ')]";
    browser.click(By::XPath(of_incident)).await;
    browser.see(Browser::named("a", "(target ")).await;
    assert_eq!(browser.driver.current_url().await.unwrap(), incident);
}

/// What is around the agents, and one check, asked at once.
async fn see_the_fleet(browser: &Browser) {
    browser.click(Browser::named("a", "Fleet")).await;
    browser.see(Browser::named("h2", "Carrock Pier")).await;
    browser.click(Browser::named("summary", "All host facts")).await;
    browser.see(Browser::named("p", "Routes: ")).await;
    browser.accessible_light_and_dark("fleet").await;
    browser.click(Browser::named("a", "Eskerry to Gate Scanning")).await;
    browser.see(Browser::named("h2", "Steps")).await;
    browser.click(Browser::named("button", "Run check now")).await;
    browser.see(Browser::named("span", "Asked for; what comes of it")).await;
    browser.accessible_light_and_dark("check").await;
}
