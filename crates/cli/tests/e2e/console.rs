//! The console in headless Chromium.

use crate::support::{Service, repository};
use fantoccini::wd::Capabilities;
use fantoccini::{Client, ClientBuilder, Locator};
use serde_json::json;
use std::collections::HashSet;
use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::sync::Mutex;
use std::time::{Duration, Instant};
use tempfile::TempDir;

/// How long a state is waited for: what is slow is not broken, on a machine that others use as well.
const LONGEST_WAIT: Duration = Duration::from_secs(180);

/// A browser with a fresh profile; dropping it ends the driver.
pub struct Browser {
    driver: Child,
    /// The driver's address.
    port: u16,
    pub client: Client,
    /// The addresses of the services that it is signed in to.
    signed_in: Mutex<HashSet<String>>,
    _profile: TempDir,
}

/// How the reader's system is set.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Light {
    Day,
    Night,
}

impl Browser {
    pub async fn start(width: u32, height: u32) -> Browser {
        Browser::start_in(Light::Day, width, height).await
    }

    async fn start_in(light: Light, width: u32, height: u32) -> Browser {
        let mut driver = Command::new("chromedriver")
            .arg("--port=0")
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver is installed; `cargo xtask test` does that");
        let mut lines = BufReader::new(driver.stdout.take().unwrap())
            .lines()
            .map_while(Result::ok);
        let port = lines
            .find_map(|line| {
                line.split_once("successfully on port ")
                    .and_then(|(_, port)| port.trim_end_matches('.').parse::<u16>().ok())
            })
            .expect("chromedriver says its port");
        std::thread::spawn(move || lines.for_each(drop));
        let profile = tempfile::tempdir().unwrap();
        let mut capabilities = Capabilities::new();
        let mut words = vec![
            "--headless".to_owned(),
            "--no-sandbox".into(),
            "--disable-gpu".into(),
            "--disable-quic".into(),
            "--no-first-run".into(),
            "--disable-background-networking".into(),
            "--disable-component-update".into(),
            "--disable-sync".into(),
            format!("--window-size={width},{height}"),
            format!("--user-data-dir={}", profile.path().display()),
        ];
        if light == Light::Night {
            words.push("--force-dark-mode".into());
        }
        capabilities.insert("goog:chromeOptions".into(), json!({"args": words}));
        capabilities.insert("goog:loggingPrefs".into(), json!({"browser": "ALL"}));
        let client = ClientBuilder::new(hyper_connector())
            .capabilities(capabilities)
            .connect(&format!("http://127.0.0.1:{port}"))
            .await
            .unwrap();
        Browser {
            driver,
            port,
            client,
            signed_in: Mutex::default(),
            _profile: profile,
        }
    }

    /// Waits until an element shows a text.
    pub async fn wait_for_text(&self, css: &str, text: &str) {
        let mark = format!("//*[{css}][contains(., '{text}')]");
        let waiting = self.client.wait().at_most(LONGEST_WAIT);
        let found = waiting.for_element(Locator::XPath(&mark)).await;
        if let Err(error) = found {
            let page = self.run("return document.body.innerText").await;
            panic!("`{text}` never shows: {error}; the page says {page}");
        }
    }

    pub async fn end(mut self) {
        let _ = self.client.clone().close().await;
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}

fn hyper_connector() -> hyper_util::client::legacy::connect::HttpConnector {
    hyper_util::client::legacy::connect::HttpConnector::new()
}

impl Browser {
    /// Begins a session with a link that the service's own user gets.
    async fn sign_in(&self, service: &Service) {
        if self.signed_in.lock().unwrap().insert(service.url.clone()) {
            let link = service.client_json(&["console"])["url"].as_str().unwrap().to_owned();
            self.client.goto(&link).await.unwrap();
            self.wait_for_text("self::button", "Sign out").await;
        }
    }

    /// Goes to a page of the console with a session and waits until it shows a heading.
    pub async fn open(&self, service: &Service, page: &str, heading: &str) {
        self.sign_in(service).await;
        self.open_as_is(service, page, heading).await;
    }

    /// Goes to a page of the console and waits until it shows a heading.
    async fn open_as_is(&self, service: &Service, page: &str, heading: &str) {
        self.client
            .goto(&format!("{}/console/{page}", service.url))
            .await
            .unwrap();
        self.wait_for_text("self::h2 or self::h3", heading).await;
    }

    /// Clicks on an element as soon as it is there and stands still.
    pub async fn click(&self, xpath: &str) {
        let element = self
            .client
            .wait()
            .at_most(LONGEST_WAIT)
            .for_element(Locator::XPath(xpath))
            .await;
        let element = element.unwrap_or_else(|e| panic!("no {xpath}: {e}"));
        let mut place = None;
        while place != element.rectangle().await.ok() {
            place = element.rectangle().await.ok();
        }
        element.click().await.unwrap();
    }

    /// Presses keys in an element.
    async fn press(&self, xpath: &str, keys: &str) {
        let mark = Locator::XPath(xpath);
        let element = self
            .client
            .wait()
            .at_most(LONGEST_WAIT)
            .for_element(mark)
            .await
            .unwrap();
        element.send_keys(keys).await.unwrap();
    }

    /// Chooses one of a field's values.
    async fn choose(&self, name: &str, value: &str) {
        let field = format!("[name='{name}']");
        let field = self
            .client
            .wait()
            .at_most(LONGEST_WAIT)
            .for_element(Locator::Css(&field))
            .await
            .unwrap();
        field.select_by_value(value).await.unwrap();
    }

    /// Ticks a box from the keyboard: a click could meet another one where the page moves.
    async fn tick(&self, xpath: &str) {
        if !self.is_ticked(xpath).await {
            self.press(xpath, " ").await;
        }
        let begun = Instant::now();
        while !self.is_ticked(xpath).await {
            assert!(begun.elapsed() < LONGEST_WAIT, "{xpath} is never ticked");
        }
    }

    async fn is_ticked(&self, xpath: &str) -> bool {
        let found = self.client.wait().for_element(Locator::XPath(xpath)).await;
        // One that is drawn anew just now is looked for again.
        found.unwrap().is_selected().await.unwrap_or(false)
    }

    pub async fn type_into(&self, name: &str, text: &str) {
        let field = format!("[name='{name}']");
        self.client
            .wait()
            .at_most(LONGEST_WAIT)
            .for_element(Locator::Css(&field))
            .await
            .unwrap()
            .send_keys(text)
            .await
            .unwrap();
    }

    /// Puts a text in the place of what a field has.
    async fn fill(&self, name: &str, text: &str) {
        self.run(&format!("document.querySelector('[name=\"{name}\"]').select()"))
            .await;
        self.type_into(name, text).await;
    }

    /// Returns what the page has complained of so far.
    async fn complaints(&self) -> Vec<String> {
        let session = self.client.session_id().await.unwrap().unwrap();
        let log = format!("http://127.0.0.1:{}/session/{session}/se/log", self.port);
        let answer = reqwest::Client::new()
            .post(log)
            .json(&json!({"type": "browser"}))
            .send()
            .await;
        let answer: serde_json::Value = answer.unwrap().json().await.unwrap();
        let entries = answer["value"].as_array().unwrap();
        entries
            .iter()
            .map(|entry| entry["message"].as_str().unwrap().to_owned())
            .collect()
    }

    /// Returns what the content security policy has kept from happening.
    async fn breaches(&self) -> Vec<String> {
        let mut all = self.complaints().await;
        all.retain(|complaint| !complaint.contains("Failed to load resource"));
        all
    }

    /// Waits until a script returns something true.
    pub async fn wait_until(&self, script: &str) -> serde_json::Value {
        let begun = Instant::now();
        loop {
            let value = self.run(script).await;
            if !value.is_null() && value != json!(false) {
                return value;
            }
            assert!(begun.elapsed() < LONGEST_WAIT, "it never comes true: {script}");
        }
    }

    pub async fn run(&self, script: &str) -> serde_json::Value {
        self.client.execute(script, Vec::new()).await.unwrap()
    }
}

/// Every page, with a heading that it has.
pub const PAGES: [(&str, &str); 12] = [
    ("watch", "Watch"),
    ("endpoints/pierdesk", "How it came up"),
    ("deploy", "Deploy an endpoint"),
    ("strip", "Batch strip"),
    ("devices", "cpu"),
    ("fit?context=1024", "pierdesk@1 fits"),
    ("try", "Ask"),
    ("try?panes=2", "Ask"),
    ("load", "Load"),
    ("requests", "Requests"),
    ("jobs", "Jobs"),
    ("keys", "Keys"),
];

#[tokio::test]
async fn a_question_asked_on_the_page_is_answered_and_its_life_is_shown() {
    let service = Service::demo(&[]);
    let browser = Browser::start(1280, 800).await;
    browser.sign_in(&service).await;
    browser.client.goto(&service.url).await.unwrap();
    browser.wait_for_text("@role='status'", "ready").await;
    browser.wait_for_text("self::th", "pierdesk").await;
    browser.click("//nav//a[.='Try']").await;
    browser.click("//button[.='Ask']").await;
    browser.wait_for_text("@data-answer", "Tolsay at 18:00").await;
    browser.wait_for_text("@data-figures", "end-token").await;
    browser.wait_for_text("self::figcaption", "Gaps between tokens").await;
    browser.wait_for_text("self::p", "The model ended it").await;
    browser.wait_for_text("@data-code", "curl http://127.0.0.1").await;
    browser.click("//button[.='vastrelay']").await;
    browser.wait_for_text("@data-code", "vastrelay ask --url").await;
    browser.click("//button[.='Show']").await;
    browser.wait_for_text("@data-rendered", "When is the last boat").await;
    browser.wait_for_text("self::p", "1 call").await;
    browser.click("//nav//a[.='Requests']").await;
    browser.click("//table//a").await;
    browser.wait_for_text("self::figcaption", "prefill").await;
    let life = browser
        .run("return document.querySelector('[data-life]').ariaLabel")
        .await;
    assert!(life.as_str().unwrap().contains("tokens"), "{life}");
    browser.end().await;
}

#[tokio::test]
async fn load_shows_in_the_figures_and_lanes_fill_in_the_strip() {
    let service = Service::demo(&["--width", "4"]);
    let browser = Browser::start(1280, 800).await;
    browser.open(&service, "watch", "Watch").await;
    browser.click("//th//a[.='pierdesk']").await;
    let mut load = service
        .command()
        .args([
            "load",
            "run",
            "--users",
            "24",
            "--duration",
            "10m",
            "--forget",
            "--url",
            &service.url,
        ])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    browser.wait_for_text("self::dd", "4 of 4").await;
    browser.wait_for_text("self::dd", "20 of 400").await;
    browser.click("//a[.='batch strip']").await;
    browser.wait_for_text("@data-use", "9").await;
    // The strip is drawn: not all of it has the colour of its ground.
    let colours = "const c = document.querySelector('canvas'); \
        const d = c.getContext('2d').getImageData(0, 0, c.width, c.height).data; \
        const seen = new Set(); for (let i = 0; i < d.length; i += 4) seen.add(d[i] << 16 | d[i+1] << 8 | d[i+2]); \
        return seen.size";
    assert!(browser.run(colours).await.as_u64().unwrap() > 8);
    load.kill().unwrap();
    load.wait().unwrap();
    browser.end().await;
}

#[tokio::test]
async fn a_lane_of_the_strip_opens_its_request() {
    let service = Service::demo(&["--width", "1"]);
    let browser = Browser::start(1280, 800).await;
    browser.open(&service, "strip", "Batch strip").await;
    browser.wait_for_text("self::button", "Pause").await;
    // Clicked from right to left until something lies there; the newest steps stand at the right.
    let click = "const c = document.querySelector('canvas'); const b = c.getBoundingClientRect(); \
        for (let x = b.right - 2; x > b.left && location.pathname.includes('strip'); x -= 2) \
          c.dispatchEvent(new MouseEvent('click', {bubbles: true, clientX: x, clientY: b.top + 5})); \
        return location.pathname";
    // Asked anew each time: on a slow machine an answer may have left the picture before it is clicked.
    loop {
        service.ask("When is the last boat back on Sunday?").await;
        if browser.run(click).await.as_str().unwrap().contains("/requests/") {
            break;
        }
    }
    browser.wait_for_text("self::figcaption", "prefill").await;
    browser.end().await;
}

#[tokio::test]
async fn where_a_key_is_wanted_it_is_asked_for_made_used_and_revoked() {
    let data = tempfile::tempdir().unwrap();
    let made = crate::support::vastrelay()
        .args(["key", "create", "--name", "ops", "--scope", "manage", "--data"])
        .arg(data.path())
        .output()
        .unwrap();
    let ops = String::from_utf8(made.stdout).unwrap().trim().to_owned();
    let mut service = Service::start_in(data, &["--demo", "--listen", "127.0.0.1:0", "--require-key"]);
    let browser = Browser::start(1280, 800).await;
    browser.open_as_is(&service, "keys", "Sign in to manage").await;
    browser.type_into("key", "vr-wrong").await;
    browser.click("//button[.='Enter']").await;
    browser.wait_for_text("@role='alert'", "unknown here").await;
    browser.run("document.querySelector('[name=key]').select()").await;
    browser.type_into("key", &ops).await;
    browser.click("//button[.='Enter']").await;
    browser.wait_for_text("self::td", "ops").await;
    // The key began a session; nothing of it is left in the browser.
    let stored = "return JSON.stringify([{...localStorage}, {...sessionStorage}, document.cookie])";
    let stored = browser.run(stored).await.as_str().unwrap().to_owned();
    assert!(!stored.contains(ops.rsplit('-').next().unwrap()), "{stored}");
    browser.type_into("name", "ferry desk").await;
    browser.click("//button[.='Create']").await;
    browser.wait_for_text("@data-key", "vr-").await;
    let key = browser
        .run("return document.querySelector('[data-key]').textContent")
        .await;
    service.key = Some(key.as_str().unwrap().to_owned());
    assert!(service.ask("Hello").await.contains("passenger desk"));
    browser.click("//tr[td='ferry desk']//button[.='Revoke']").await;
    browser.click("//*[@role='dialog']//button[.='Revoke']").await;
    browser.wait_for_text("self::td", "revoked").await;
    assert_eq!(service.get("/v1/models").await.0, 401);
    browser.end().await;
}

#[tokio::test]
async fn a_link_signs_in_once_and_a_session_ends_with_its_sign_out() {
    let service = Service::demo(&[]);
    let browser = Browser::start(1280, 800).await;
    browser.open_as_is(&service, "watch", "Sign in to manage").await;
    browser.wait_for_text("self::pre", "vastrelay console").await;
    browser.click("//button[.='Try a model without signing in']").await;
    browser.wait_for_text("self::h2", "Ask").await;
    browser.click("//button[.='Sign in']").await;
    browser.wait_for_text("self::h2", "Sign in to manage").await;
    let link = service.client_json(&["console"])["url"].as_str().unwrap().to_owned();
    browser.client.goto("about:blank").await.unwrap();
    browser.client.goto(&link).await.unwrap();
    browser.wait_for_text("self::th", "pierdesk").await;
    let address = browser.client.current_url().await.unwrap();
    assert_eq!(address.fragment(), None, "the code is still in the address");
    let cookies = browser.client.get_all_cookies().await.unwrap();
    assert!(
        cookies.iter().all(|cookie| cookie.http_only() == Some(true)),
        "{cookies:?}"
    );
    browser.click("//button[.='Sign out']").await;
    browser.wait_for_text("self::h2", "Sign in to manage").await;
    browser.client.goto("about:blank").await.unwrap();
    browser.client.goto(&link).await.unwrap();
    browser.wait_for_text("@role='alert'", "used already").await;
    browser.end().await;
}

#[tokio::test]
async fn a_service_that_was_killed_is_said_and_found_again_when_it_is_back() {
    let port = std::net::TcpListener::bind("127.0.0.1:0")
        .unwrap()
        .local_addr()
        .unwrap()
        .port();
    let words = ["--demo", "--listen", &format!("127.0.0.1:{port}")];
    let service = Service::start_in(tempfile::tempdir().unwrap(), &words);
    let browser = Browser::start(1280, 800).await;
    browser.open(&service, "watch", "Watch").await;
    let data = service.kill();
    browser.wait_for_text("@role='alert'", "not responding").await;
    browser.wait_for_text("@role='status'", "not answering").await;
    browser.click("//nav//a[.='Keys']").await;
    browser
        .wait_for_text("@role='alert'", "The service did not answer.")
        .await;
    let service = Service::start_in(data, &words);
    // Sessions end with the service.
    browser.wait_for_text("self::h2", "Sign in to manage").await;
    let link = service.client_json(&["console"])["url"].as_str().unwrap().to_owned();
    browser.client.goto(&link).await.unwrap();
    browser.wait_for_text("@role='status'", "ready").await;
    browser.click("//nav//a[.='Keys']").await;
    browser.wait_for_text("self::p", "No keys yet").await;
    browser.end().await;
}

/// What makes a page sound: nothing serious for those who cannot see it, nothing beyond its window or its origin, and the
/// chart of the hour.
async fn check_page(browser: &Browser, axe: &str, light: Light, page: &str) {
    let script = "return document.documentElement.scrollWidth - document.documentElement.clientWidth";
    assert_eq!(browser.run(script).await, json!(0), "{page} scrolls sideways");
    let elsewhere = "return performance.getEntriesByType('resource').map((r) => r.name) \
        .filter((name) => !name.startsWith(location.origin + '/') && !name.startsWith('data:'))";
    assert_eq!(browser.run(elsewhere).await, json!([]), "{page} calls elsewhere");
    let brightness = "const c = document.createElement('canvas').getContext('2d'); \
        c.fillStyle = getComputedStyle(document.body).backgroundColor; c.fillRect(0, 0, 1, 1); \
        return c.getImageData(0, 0, 1, 1).data[0]";
    let bright = browser.run(brightness).await.as_u64().unwrap() > 128;
    assert_eq!(bright, light == Light::Day, "{page} by {light:?}");
    let check = "const done = arguments[0]; \
        axe.run({preload: false, resultTypes: ['violations']}).then((found) => done(found.violations.filter((v) => ['serious', 'critical'].includes(v.impact)) \
          .map((v) => `${v.id}: ${v.nodes.map((n) => n.target).join(', ')}`)))";
    browser.run(axe).await;
    let faults = browser.client.execute_async(check, Vec::new()).await.unwrap();
    assert_eq!(faults, json!([]), "{page} by {light:?}");
}

#[tokio::test]
async fn every_page_is_sound_by_day_and_night_wide_and_narrow() {
    let service = Service::demo(&[]);
    service.ask("Hello").await;
    service.client(&["key", "create", "--name", "desk"]);
    service.client(&["load", "run", "--count", "8", "--users", "2"]);
    let first = async |path: &str| service.get(path).await.1[0]["id"].as_str().unwrap().to_owned();
    let report = format!("load?runs={}", first("/manage/runs").await);
    let life = format!("requests/{}", first("/manage/requests").await);
    let empty = Service::start(&[]);
    let locked = Service::demo(&["--require-key"]);
    let axe = std::fs::read_to_string(repository().join("console/node_modules/axe-core/axe.min.js")).unwrap();
    for (light, width) in [
        (Light::Day, 390),
        (Light::Day, 1280),
        (Light::Night, 390),
        (Light::Night, 1280),
    ] {
        let browser = Browser::start_in(light, width, 800).await;
        for (page, heading) in PAGES.into_iter().chain([(life.as_str(), "chat to pierdesk")]) {
            browser.open(&service, page, heading).await;
            check_page(&browser, &axe, light, page).await;
        }
        browser.open(&service, &report, "Load").await;
        browser.wait_for_text("self::figcaption", "Throughput").await;
        check_page(&browser, &axe, light, "the report").await;
        browser.open(&service, "try", "Ask").await;
        browser.click("//button[.='JSON']").await;
        let editor = "const place = document.querySelector('[data-editor]'); \
            return place && place.shadowRoot && place.shadowRoot.querySelector('.cm-line') !== null";
        browser.wait_until(editor).await;
        check_page(&browser, &axe, light, "the editor").await;
        browser.open(&empty, "watch", "Three steps").await;
        check_page(&browser, &axe, light, "the first visit").await;
        // Among them would be whatever the content security policy had kept from happening.
        assert_eq!(browser.complaints().await, [""; 0]);
        browser.open_as_is(&locked, "watch", "Sign in to manage").await;
        check_page(&browser, &axe, light, "the key entry").await;
        browser.end().await;
    }
}

#[tokio::test]
async fn the_first_page_is_small_and_keeps_to_its_own_origin() {
    let service = Service::demo(&[]);
    let get = async |path: &str| {
        let request = reqwest::Client::new().get(format!("{}{path}", service.url));
        request.header("accept-encoding", "gzip").send().await.unwrap()
    };
    let response = reqwest::get(&service.url).await.unwrap();
    let policy = response.headers()["content-security-policy"]
        .to_str()
        .unwrap()
        .to_owned();
    assert!(
        policy.starts_with("default-src 'self'") && !policy.contains("unsafe"),
        "{policy}"
    );
    let page = response.text().await.unwrap();
    assert!(!page.contains("http://") && !page.contains("https://"), "{page}");
    let scripts: Vec<&str> = page.split('"').filter(|word| word.ends_with(".js")).collect();
    assert!(!scripts.is_empty(), "{page}");
    let mut bytes = 0;
    for script in scripts {
        let answer = get(script).await;
        assert_eq!(answer.headers()["content-encoding"], "gzip", "{script}");
        bytes += answer.bytes().await.unwrap().len();
    }
    assert!(bytes <= 300_000, "{bytes} bytes of compressed script");
}

#[tokio::test]
async fn the_first_visit_leads_to_an_answer_and_a_report() {
    let service = Service::start(&[]);
    let browser = Browser::start(1280, 800).await;
    browser.open(&service, "watch", "Three steps").await;
    browser.click("//button[.='Deploy the demo']").await;
    browser.click("//button[.='Ask' and not(@disabled)]").await;
    browser.wait_for_text("@data-answer", "Tolsay at 18:00").await;
    browser.click("//button[.='Start load test' and not(@disabled)]").await;
    browser.click("//a[.='Watch the load test']").await;
    browser.wait_for_text("@data-load-state", "sending").await;
    browser.click("//button[.='Stop load test']").await;
    browser.wait_for_text("@data-load-state", "ended and kept").await;
    browser.click("//button[.='Open report']").await;
    browser.wait_for_text("self::th", "limited by").await;
    browser.click("//nav//a[.='Watch']").await;
    browser.wait_for_text("self::th", "pierdesk").await;
    browser.end().await;
}

#[tokio::test]
async fn the_first_visit_deploys_a_folder_of_ones_own() {
    let service = Service::start(&[]);
    let browser = Browser::start(1280, 800).await;
    browser.open(&service, "watch", "Three steps").await;
    browser.type_into("path", "/nowhere/at-all").await;
    browser.click("//button[.='Deploy']").await;
    browser.wait_for_text("@role='alert'", "/nowhere/at-all").await;
    let model = repository().join("demo/models/pierdesk-1").display().to_string();
    browser.fill("path", &model).await;
    browser.wait_for_text("self::code", "endpoint deploy pierdesk-1=").await;
    browser.click("//button[.='Deploy' and not(@disabled)]").await;
    browser.click("//button[.='Ask' and not(@disabled)]").await;
    browser.wait_for_text("@data-answer", "Tolsay at 18:00").await;
    browser.click("//button[.='Go to Watch']").await;
    browser.click("//th//a[.='pierdesk-1']").await;
    // What its settings cost, and what others would.
    let costs = "@aria-label='Settings and what they cost'";
    for part in [
        "precision.weights",
        "int8, groups of 32",
        "batch.width",
        "−",
        "+",
        "now",
    ] {
        browser.wait_for_text(costs, part).await;
    }
    let complaints = browser.complaints().await;
    let is_of_the_path = |complaint: &String| complaint.contains("/manage/endpoints - Failed to load resource");
    assert!(complaints.iter().all(is_of_the_path), "{complaints:?}");
    browser.end().await;
}

#[tokio::test]
async fn load_sent_from_the_page_shows_a_growing_queue_full_lanes_and_preemptions() {
    // Four answers of 120 tokens want some forty pages. Few may wait, as those who do are answered before the load has ended.
    let few = ["--pages", "20", "--queue-depth", "30"];
    let service = Service::demo(&[&["--width", "4", "--context", "256"][..], &few].concat());
    let browser = Browser::start(1280, 800).await;
    browser.open(&service, "load", "Load").await;
    let kind = "const s = document.querySelector('[name=kind]'); \
        Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(s, 'poisson'); \
        s.dispatchEvent(new Event('change', {bubbles: true}))";
    browser.run(kind).await;
    browser.fill("rate", "60").await;
    browser.fill("seconds", "600").await;
    browser.type_into("output", "120").await;
    browser.click("//*[@name='force']").await;
    browser.click("//button[.='Start load test']").await;
    browser.wait_for_text("@data-load-state", "sending").await;
    browser.click("//nav//a[.='Watch']").await;
    browser.click("//th//a[.='pierdesk']").await;
    browser.wait_for_text("self::dd", "4 of 4").await;
    let depth = "const name = [...document.querySelectorAll('dt')].find((dt) => dt.textContent === 'queue depth'); \
        return name && Number(name.nextSibling.textContent.split(' ')[0])";
    browser.wait_until(&format!("{depth} > 0")).await;
    browser.wait_until(&format!("{depth} > 20")).await;
    browser.click("//a[.='batch strip']").await;
    browser.wait_for_text("@data-use", "9").await;
    let preempted = "return parseInt(document.querySelector('[data-preempted]').textContent) > 0";
    browser.wait_until(preempted).await;
    browser.click("//nav//a[.='Load']").await;
    browser.click("//button[.='Stop load test']").await;
    browser.wait_for_text("@data-load-state", "ended and kept").await;
    browser.end().await;
}

#[tokio::test]
async fn tokens_come_one_by_one_after_the_phases_that_were_waited_for() {
    let service = Service::demo(&["--width", "1"]);
    let browser = Browser::start(1280, 800).await;
    browser.open(&service, "try", "Ask").await;
    // Somebody else has the only place.
    let endless = crate::support::with(
        crate::support::chat("Hello"),
        json!({"stream": true, "min_tokens": 1900}),
    );
    let mut other = service.send("/v1/chat/completions", &endless).await;
    other.chunk().await.unwrap();
    let watch = "window.lengths = []; new MutationObserver(() => \
        window.lengths.push(document.querySelector('[data-answer]').textContent.length)) \
        .observe(document.querySelector('[data-answer]'), {subtree: true, childList: true, characterData: true})";
    browser.run(watch).await;
    browser.click("//button[.='Ask']").await;
    browser.wait_for_text("@data-phase", "Queued for").await;
    drop(other);
    browser.wait_for_text("@data-figures", "end-token").await;
    let grew = "return window.lengths.every((length, i) => i === 0 || length >= window.lengths[i - 1]) \
        && new Set(window.lengths).size";
    // An answer takes some twenty milliseconds; a browser that was busy meanwhile is given another.
    let mut steps = browser.run(grew).await.as_u64().unwrap();
    for _ in 0..20 {
        if steps > 10 {
            break;
        }
        browser.run("window.lengths = []").await;
        browser.click("//button[.='Ask']").await;
        browser.wait_until("return window.lengths.at(-1) > 0").await;
        browser.wait_for_text("@data-figures", "end-token").await;
        steps = browser.run(grew).await.as_u64().unwrap_or(0);
    }
    assert!(steps > 10, "the answer came in a few lumps");
    browser.end().await;
}

#[tokio::test]
async fn an_answer_goes_on_when_its_worker_is_killed_and_its_life_shows_it() {
    let spec = crate::support::repository().join("demo/lighthouse.toml");
    let service = Service::start(&["--spec", spec.to_str().unwrap()]);
    let browser = Browser::start(1280, 800).await;
    browser.open(&service, "try", "Ask").await;
    browser.click("//button[.='Ask']").await;
    let length = "return document.querySelector('[data-answer]').textContent.length";
    browser.wait_until(&format!("{length} > 40")).await;
    let before = browser.run(length).await.as_u64().unwrap();
    service.kill_worker();
    browser.wait_until(&format!("{length} > {}", before + 40)).await;
    browser.wait_for_text("@data-figures", "tokens").await;
    browser.click("//nav//a[.='Requests']").await;
    browser.click("//table//tbody//a").await;
    browser
        .wait_for_text("@data-moves", "it went on with another worker")
        .await;
    browser.end().await;
}

#[tokio::test]
async fn two_answers_stand_side_by_side_with_their_first_difference_marked() {
    let service = Service::demo(&[]);
    let browser = Browser::start(1280, 800).await;
    browser.open(&service, "try?panes=2", "Ask").await;
    browser.click("//button[.='Ask both']").await;
    browser
        .wait_for_text("@data-difference", "the same, token by token")
        .await;
    browser.type_into("second-temperature", "2").await;
    browser.type_into("second-top_p", "1").await;
    browser.type_into("second-seed", "5").await;
    browser.click("//button[.='Ask both' and not(@disabled)]").await;
    browser
        .wait_for_text("@data-difference", "The answers differ from token")
        .await;
    let marks = "return [...document.querySelectorAll('[data-differs]')].map((mark) => mark.textContent)";
    let marks = browser.run(marks).await;
    assert!(marks[0] != marks[1], "{marks}");
    browser.end().await;
}

#[tokio::test]
async fn a_request_written_as_json_is_marked_where_it_is_wrong() {
    let service = Service::demo(&[]);
    let browser = Browser::start(1280, 800).await;
    browser.open(&service, "try", "Ask").await;
    browser.click("//button[.='JSON']").await;
    let focus = "const place = document.querySelector('[data-editor]'); \
        const content = place && place.shadowRoot && place.shadowRoot.querySelector('.cm-content'); \
        if (!content) return false; content.focus(); return true";
    browser.wait_until(focus).await;
    let type_keys = async |text: &str| {
        use fantoccini::actions::{InputSource, KeyAction, KeyActions};
        let mut keys = KeyActions::new("keys".into());
        for value in text.chars() {
            keys = keys.then(KeyAction::Down { value }).then(KeyAction::Up { value });
        }
        browser.client.perform_actions(keys).await.unwrap();
    };
    // To the end of the first line, and a new one.
    type_keys("\u{e010}\u{e007}").await;
    type_keys("\"temprature\": 2,").await;
    browser
        .wait_for_text("@data-problem", "line 2, character 3: There is no field")
        .await;
    browser
        .wait_for_text("@data-problem", "did you mean “temperature”?")
        .await;
    let marked = "const marks = document.querySelector('[data-editor]').shadowRoot.querySelectorAll('.cm-lintRange-error'); \
        return marks.length > 0 && [...marks].map((mark) => mark.textContent).join('')";
    assert_eq!(browser.wait_until(marked).await, "\"temprature\"");
    type_keys(" oops").await;
    browser
        .wait_for_text("@data-problem", "line 2, character 20: “oops” needs double quotes")
        .await;
    assert_eq!(
        browser
            .run("return document.querySelector('[type=submit]').disabled")
            .await,
        json!(true)
    );
    // All of it is taken back. What only the service knows to be wrong is marked as well.
    type_keys(&"\u{e003}".repeat("\"temprature\": 2, oops".len())).await;
    type_keys("\"top_p\": 9,").await;
    browser.click("//button[.='Ask' and not(@disabled)]").await;
    browser.wait_for_text("@data-problem", "line 2, character").await;
    browser.wait_for_text("@data-problem", "top_p").await;
    assert_eq!(browser.wait_until(marked).await, "9");
    browser.wait_until(focus).await;
    type_keys("\u{e003}\u{e003}0.9,").await;
    browser.click("//button[.='Ask' and not(@disabled)]").await;
    browser.wait_for_text("@data-answer", "Tolsay at 18:00").await;
    browser.end().await;
}

#[tokio::test]
async fn runs_are_laid_over_each_other_and_compared() {
    let service = Service::demo(&[]);
    for users in ["1", "4"] {
        let words = [
            "load",
            "run",
            "--count",
            "24",
            "--users",
            users,
            "--name",
            &format!("by {users}"),
        ];
        assert!(service.client(&words).status.success());
    }
    let browser = Browser::start(1280, 800).await;
    browser.open(&service, "load", "Load").await;
    browser.tick("//tr[td='by 1']//input").await;
    browser.wait_for_text("self::th", "by 1").await;
    browser.tick("//tr[td='by 4']//input").await;
    browser.wait_for_text("self::h3", "“by 4” ÷ “by 1”").await;
    browser.wait_for_text("self::th", "TTFT p50").await;
    browser.wait_for_text("self::p", "arrival").await;
    // The address alone shows the same again.
    let address = browser.client.current_url().await.unwrap();
    browser.client.goto("about:blank").await.unwrap();
    browser.client.goto(address.as_str()).await.unwrap();
    browser.wait_for_text("self::h3", "“by 4” ÷ “by 1”").await;
    browser.end().await;
}

#[tokio::test]
async fn the_watch_knows_what_was_before_it_was_opened() {
    let service = Service::demo(&[]);
    service.ask("Hello").await;
    let path = "/manage/endpoints/pierdesk/history?seconds=600";
    // With two of them, the first ended seconds before the page opens.
    let kept = loop {
        let history = service.get(path).await.1;
        if history["points"].as_array().unwrap().len() > 1 {
            break history;
        }
    };
    let first = kept["points"][0]["at_ms"].as_i64().unwrap() + kept["span"].as_i64().unwrap() * 1000;
    let browser = Browser::start(1280, 800).await;
    browser
        .open(&service, "endpoints/pierdesk?seconds=3600", "pierdesk")
        .await;
    let earlier = format!(
        "const chart = document.querySelector('[aria-label^=\"Throughput\"]'); \
        const first = new Date({first}).toLocaleTimeString('en-GB'); \
        return chart && chart.ariaLabel.includes(`from ${{first}} to `)"
    );
    browser.wait_until(&earlier).await;
    browser.end().await;
}

#[tokio::test]
async fn devices_show_who_holds_what_and_how_busy_they_are() {
    let large = format!("big={}", repository().join("demo/shapes/lighthouse-70b").display());
    let words = [
        "--model",
        &large,
        "--device",
        "sim-48g",
        "--split",
        "4",
        "--context",
        "8192",
        "--step-budget",
        "512",
    ];
    let service = Service::start(&words);
    let browser = Browser::start(1280, 800).await;
    browser.open(&service, "devices", "sim-48g (simulated)").await;
    browser.wait_for_text("self::p", "big, release 1, replica 1").await;
    let endless = json!({"model": "big", "max_tokens": 2000, "min_tokens": 2000, "stream": true, "prompt": "Hello"});
    let answer = service.send("/v1/completions", &endless).await;
    let busy = "return [...document.querySelectorAll('li p')].some((p) => /^busy (100|[5-9][0-9]) %/.test(p.innerText)) \
        && document.body.innerText.includes('KV used')";
    browser.wait_until(busy).await;
    drop(answer);
    browser
        .wait_until("return document.querySelector('[aria-label=\"Device 5 to 8: 48.0 GiB free of 48.0 GiB\"]')")
        .await;
    // What it was like over time comes with the history that is kept.
    browser.wait_for_text("self::figcaption", "Busy with big").await;
    browser
        .wait_for_text("self::figcaption", "Power of its 4 devices")
        .await;
    browser.end().await;
}

#[tokio::test]
async fn a_model_is_fitted_on_sliders_served_by_the_command_and_loaded() {
    let service = Service::demo(&[]);
    let browser = Browser::start(1280, 800).await;
    let large = repository().join("demo/shapes/lighthouse-70b");
    let page = format!("fit?model={}&context=32768", large.display());
    browser.open(&service, &page, "lighthouse-70b fits 4 ×").await;
    let fits = |sequences: &str| {
        format!("return document.querySelector('[aria-label=Capacity] span')?.innerText.startsWith('{sequences} ')")
    };
    browser.wait_until(&fits("6")).await;
    // Two steps down are a quarter of the context, and so four times the sequences.
    browser
        .press("//*[@data-field='context']//*[@role='slider']", "\u{e012}\u{e012}")
        .await;
    browser.wait_until(&fits("24")).await;
    browser
        .press("//*[@data-field='width']//*[@role='slider']", "\u{e012}\u{e012}")
        .await;
    browser.choose("weights", "int8").await;
    browser.wait_for_text("self::h3", "lighthouse-70b fits 2 ×").await;
    let width = "return document.querySelector('[data-command]').innerText.includes('--width 16 ')";
    browser.wait_until(width).await;
    let bar = "const parts = [...document.querySelectorAll('[aria-label=Verdict] [role=img] span')]; \
        return Math.abs(parts.reduce((sum, part) => sum + parseFloat(part.style.width), 0) - 100) < 0.01";
    browser.wait_until(bar).await;
    let command = browser
        .run("return document.querySelector('[data-command]').innerText")
        .await;
    let command = command.as_str().unwrap().to_owned();
    let words = command
        .strip_prefix("vastrelay start ")
        .expect("a command that starts the service");
    drop(service);
    let served = Service::start(&words.split_whitespace().collect::<Vec<_>>());
    assert!(
        served.greeting.contains("on 2 × sim-48g (simulated)"),
        "{}",
        served.greeting
    );
    browser.open(&served, "load", "Load").await;
    browser.fill("users", "8").await;
    browser.fill("seconds", "120").await;
    browser.fill("output", "500").await;
    browser.tick("//input[@name='force']").await;
    browser.click("//button[.='Start load test' and not(@disabled)]").await;
    browser.open(&served, "devices", "sim-48g (simulated)").await;
    let busy = "return [...document.querySelectorAll('li p')].filter((p) => /^busy (100|[5-9][0-9]) %/.test(p.innerText)).length === 2 \
        && document.body.innerText.includes('KV used')";
    browser.wait_until(busy).await;
    browser.end().await;
}

#[tokio::test]
async fn an_endpoint_is_stopped_started_parked_and_removed_on_the_page() {
    let service = Service::demo(&[]);
    let browser = Browser::start(1280, 800).await;
    browser.open(&service, "watch", "Watch").await;
    browser.wait_for_text("@aria-label='Events'", "worker ready").await;
    browser.click("//th//a[.='pierdesk']").await;
    browser.wait_for_text("@aria-label='Starts'", "loading weights").await;
    browser.click("//button[.='Stop']").await;
    browser.click("//button[.='Stop pierdesk']").await;
    browser.wait_for_text("@role='status'", "stopped for").await;
    browser.click("//button[.='Start']").await;
    browser.wait_for_text("@aria-label='Events'", "started").await;
    browser.wait_for_text("@aria-label='Figures'", "release 1").await;
    let (status, answer) = service.get("/health/ready/pierdesk").await;
    assert_eq!(status, 200, "{answer}");
    browser.click("//button[.='Park']").await;
    browser.click("//button[.='Park pierdesk']").await;
    browser.wait_for_text("@role='status'", "parked for").await;
    // A question starts it again.
    browser.open(&service, "try", "Ask").await;
    browser
        .wait_for_text("@data-standing='parked'", "A question starts it")
        .await;
    browser.click("//button[.='Ask']").await;
    browser.wait_for_text("@data-answer", "Tolsay at 18:00").await;
    browser.open(&service, "endpoints/pierdesk", "pierdesk").await;
    browser.wait_for_text("@aria-label='Events'", "unparked").await;
    browser.click("//button[.='Remove']").await;
    browser.click("//button[.='Remove pierdesk']").await;
    browser.wait_for_text("self::h2", "Three steps").await;
    assert_eq!(service.get("/v1/models").await.1["data"], json!([]));
    assert_eq!(browser.complaints().await, [""; 0]);
    browser.end().await;
}

#[tokio::test]
async fn an_endpoint_is_deployed_and_changed_on_the_page_as_text_and_by_form() {
    let files = TempDir::new().unwrap();
    let service = Service::start(&[]);
    let browser = Browser::start(1280, 800).await;
    browser.open(&service, "watch", "Three steps").await;
    browser.click("//a[.='More settings']").await;
    browser.type_into("name", "desk").await;
    browser
        .wait_for_text("@data-problem", "line 2, character 9: `model`: write the path")
        .await;
    let marked = "const marks = document.querySelector('[data-editor]').shadowRoot.querySelectorAll('.cm-lintRange-error'); \
        return marks.length > 0 && [...marks].map((mark) => mark.textContent).join('')";
    assert_eq!(browser.wait_until(marked).await, "\"\"");
    let wrong =
        browser.run("return [...document.querySelectorAll('button')].find((b) => b.innerText === 'Deploy').disabled");
    assert_eq!(wrong.await, json!(true));
    browser.click("//button[.='Form']").await;
    let model = repository().join("demo/models/pierdesk-1").display().to_string();
    browser.type_into("model", &format!("{model}\u{e004}")).await;
    browser
        .wait_for_text("@aria-label='What will happen'", "desk will be served")
        .await;
    browser.click("//button[.='Deploy' and not(@disabled)]").await;
    browser.wait_for_text("@aria-label='Figures'", "release 1").await;
    browser.wait_for_text("@aria-label='Starts'", "starting worker").await;
    browser.click("//button[.='Form']").await;
    browser.type_into("queue.depth", "7\u{e004}").await;
    browser.choose("mode", "chat").await;
    let plan = "@aria-label='What will happen'";
    browser.wait_for_text(plan, "queue.depth").await;
    browser.wait_for_text(plan, "Takes over from release 1").await;
    browser.click("//button[.='Deploy' and not(@disabled)]").await;
    browser.wait_for_text("@aria-label='Figures'", "release 2").await;
    let endpoint = service.endpoint().await;
    assert_eq!(endpoint["occupancy"]["queue_limit"], 7);
    assert_eq!(service.get("/v1/models").await.1["data"][0]["modes"], json!(["chat"]));
    browser.click("//button[.='Serve 1 again']").await;
    browser.wait_for_text("@aria-label='Figures'", "release 3").await;
    assert_eq!(service.endpoint().await["occupancy"]["queue_limit"], 400);
    // Who is overtaken by somebody else is told.
    browser.click("//button[.='Form']").await;
    browser.type_into("queue.depth", "9\u{e004}").await;
    browser.wait_for_text(plan, "Takes over from release 3").await;
    let other = files.path().join("desk.toml");
    std::fs::write(&other, format!("model = {model:?}\nqueue.wait = \"9s\"\n")).unwrap();
    service.client_json(&["endpoint", "deploy", other.to_str().unwrap()]);
    browser
        .wait_for_text("@role='status'", "Somebody else has deployed release 4")
        .await;
    browser.click("//button[.='Deploy' and not(@disabled)]").await;
    browser
        .wait_for_text("@role='alert'", "`queue.wait` was not said and is")
        .await;
    browser.click("//button[.='Take theirs']").await;
    let taken = "return document.querySelector('[name=\"queue.wait\"]').value === '9s'";
    browser.wait_until(taken).await;
    assert_eq!(browser.breaches().await, [""; 0]);
    browser.end().await;
}

#[tokio::test]
async fn a_conversation_goes_on_and_a_key_for_calls_opens_nothing_else() {
    let data = tempfile::tempdir().unwrap();
    let ops = crate::support::first_key(&data, &["--scope", "manage"]);
    let words = ["--demo", "--listen", "127.0.0.1:0", "--require-key"];
    let mut service = Service::start_in(data, &words);
    service.key = Some(ops);
    let model = repository().join("demo/models/pierdesk-1");
    let other = format!("harbour={}", model.display());
    service.client_json(&["endpoint", "deploy", &other]);
    let made = service.client_json(&["key", "create", "--name", "desk", "--endpoint", "pierdesk"]);
    let browser = Browser::start(1280, 800).await;
    browser.open_as_is(&service, "watch", "Sign in to manage").await;
    browser.type_into("key", made["key"].as_str().unwrap()).await;
    browser.click("//button[.='Enter']").await;
    browser.wait_for_text("self::h2", "Ask").await;
    let pages = "return [...document.querySelectorAll('nav a')].map((a) => a.innerText)";
    assert_eq!(browser.run(pages).await, json!(["Try"]));
    let shown = browser.run("return document.body.innerText").await;
    assert!(!shown.as_str().unwrap().contains("harbour"), "{shown}");
    browser
        .wait_for_text("self::code", &format!("{}/v1", service.url))
        .await;
    browser.click("//button[.='Ask']").await;
    browser.wait_for_text("@data-figures", "end-token").await;
    let first = browser
        .run("return document.querySelector('[data-answer]').textContent")
        .await;
    browser.fill("question", "And on Saturday?").await;
    browser.click("//button[.='Ask' and not(@disabled)]").await;
    browser
        .wait_for_text("@data-turn='assistant'", first.as_str().unwrap())
        .await;
    browser.wait_for_text("@data-turn='user'", "And on Saturday?").await;
    browser.wait_for_text("@data-figures", "tokens").await;
    browser.wait_for_text("@data-code", "\"role\":\"assistant\"").await;
    // Whole, and as a text that is continued.
    browser.click("//button[.='Plain text']").await;
    browser.fill("question", "The last boat").await;
    browser.fill("max_tokens", "5").await;
    browser.tick("//input[@name='stream']").await;
    browser.wait_for_text("@data-code", "/v1/completions").await;
    browser.click("//button[.='Ask' and not(@disabled)]").await;
    browser.wait_for_text("@data-figures", "· 3 tokens in").await;
    browser.click("//button[.='Remove it and sign in']").await;
    browser.wait_for_text("self::h2", "Sign in to manage").await;
    assert_eq!(browser.breaches().await, [""; 0]);
    browser.end().await;
}

#[tokio::test]
async fn a_build_and_a_load_test_are_followed_and_cancelled_on_the_page() {
    let (files, model) = (
        TempDir::new().unwrap(),
        crate::taken::specimen(512, 8, 8, 4, 1536, 2_048),
    );
    let service = Service::demo(&[]);
    let browser = Browser::start(1280, 800).await;
    browser.open(&service, "jobs", "Jobs").await;
    browser.wait_for_text("@data-job='1'", "deploy").await;
    browser.wait_for_text("@data-job='2'", "as stored").await;
    let order = json!({"model": "pierdesk", "name": "rush", "arrival": {"kind": "closed", "users": 2},
        "span": {"seconds": 600.0}, "prompts": {"kind": "set", "name": "questions"}});
    assert_eq!(service.post("/manage/load", &order).await.0, 202);
    browser.wait_for_text("@data-job='3'", "rush").await;
    browser.wait_for_text("@data-job='3'", "%").await;
    browser.click("//*[@data-job='3']//button[.='Cancel']").await;
    browser.click("//button[.='Cancel job 3']").await;
    browser.wait_for_text("@data-job='3'", "stopped early").await;
    let file = crate::deployed::spec(files.path(), "desk", &crate::jobs::large(&model));
    let mut deploying = service.client_later(&["endpoint", "deploy", &file]);
    // It may be done before the page shows that it runs.
    browser.wait_for_text("@data-job='4'", "deploy").await;
    browser.wait_for_text("@data-job='5'", "in int4").await;
    browser.click("//*[@data-job='5']//button[.='Log']").await;
    browser.wait_for_text("@aria-label='Log of job 5'", "converting").await;
    assert!(deploying.wait().unwrap().success());
    browser.wait_for_text("@data-job='5'", "done after").await;
    browser.wait_for_text("@aria-label='Builds'", "desk").await;
    assert_eq!(browser.complaints().await, [""; 0]);
    browser.end().await;
}
