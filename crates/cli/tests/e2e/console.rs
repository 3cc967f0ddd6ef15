//! The console in headless Chromium.

use crate::support::{Service, repository};
use fantoccini::wd::Capabilities;
use fantoccini::{Client, ClientBuilder, Locator};
use serde_json::json;
use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use tempfile::TempDir;

/// A browser with a profile of its own; dropping it ends the driver.
struct Browser {
    driver: Child,
    client: Client,
    _profile: TempDir,
}

impl Browser {
    async fn start(width: u32, height: u32) -> Browser {
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
        capabilities.insert(
            "goog:chromeOptions".into(),
            json!({"args": [
                "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
                "--disable-background-networking", "--disable-component-update", "--disable-sync",
                format!("--window-size={width},{height}"), format!("--user-data-dir={}", profile.path().display()),
            ]}),
        );
        capabilities.insert("goog:loggingPrefs".into(), json!({"browser": "ALL"}));
        let client = ClientBuilder::new(hyper_connector())
            .capabilities(capabilities)
            .connect(&format!("http://127.0.0.1:{port}"))
            .await
            .unwrap();
        Browser {
            driver,
            client,
            _profile: profile,
        }
    }

    /// Waits until an element shows a text.
    async fn wait_for_text(&self, css: &str, text: &str) {
        self.client
            .wait()
            .for_element(Locator::XPath(&format!("//*[{css}][contains(., '{text}')]")))
            .await
            .unwrap_or_else(|error| panic!("`{text}` never shows: {error}"));
    }

    async fn end(mut self) {
        let _ = self.client.clone().close().await;
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}

fn hyper_connector() -> hyper_util::client::legacy::connect::HttpConnector {
    hyper_util::client::legacy::connect::HttpConnector::new()
}

impl Browser {
    /// Goes to a page of the console and waits until it shows a heading.
    async fn open(&self, service: &Service, page: &str, heading: &str) {
        self.client
            .goto(&format!("{}/console/{page}", service.url))
            .await
            .unwrap();
        self.wait_for_text("self::h2 or self::h3", heading).await;
    }

    async fn click(&self, xpath: &str) {
        let element = self.client.wait().for_element(Locator::XPath(xpath)).await;
        element
            .unwrap_or_else(|e| panic!("no {xpath}: {e}"))
            .click()
            .await
            .unwrap();
    }

    async fn type_into(&self, name: &str, text: &str) {
        let field = format!("[name='{name}']");
        self.client
            .wait()
            .for_element(Locator::Css(&field))
            .await
            .unwrap()
            .send_keys(text)
            .await
            .unwrap();
    }

    async fn run(&self, script: &str) -> serde_json::Value {
        self.client.execute(script, Vec::new()).await.unwrap()
    }
}

/// Every page, with a heading that it has.
const PAGES: [(&str, &str); 5] = [
    ("watch", "pierdesk"),
    ("strip", "Batch strip"),
    ("try", "Ask"),
    ("requests", "Requests"),
    ("keys", "Keys"),
];

#[tokio::test]
async fn a_question_asked_on_the_page_is_answered_and_its_life_is_shown() {
    let service = Service::demo(&[]);
    let browser = Browser::start(1280, 800).await;
    browser.client.goto(&service.url).await.unwrap();
    browser.wait_for_text("@role='status'", "ready").await;
    browser.wait_for_text("self::h3", "pierdesk").await;
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
    browser.wait_for_text("self::p", "1 calls").await;
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
    browser.open(&service, "watch", "pierdesk").await;
    let mut load = crate::support::vastrelay()
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
    service.ask("When is the last boat back on Sunday?").await;
    let browser = Browser::start(1280, 800).await;
    browser.open(&service, "strip", "Batch strip").await;
    browser.wait_for_text("self::button", "Pause").await;
    // Clicked from right to left until something lies there; the newest steps stand at the right.
    let click = "const c = document.querySelector('canvas'); const b = c.getBoundingClientRect(); \
        for (let x = b.right - 2; x > b.left && location.pathname.includes('strip'); x -= 2) \
          c.dispatchEvent(new MouseEvent('click', {bubbles: true, clientX: x, clientY: b.top + 5})); \
        return location.pathname";
    while !browser.run(click).await.as_str().unwrap().contains("/requests/") {}
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
    browser.open(&service, "keys", "wants a key").await;
    browser.type_into("key", "vr-wrong").await;
    browser.click("//button[.='Enter']").await;
    browser.wait_for_text("@role='alert'", "not one of this service").await;
    browser.run("document.querySelector('[name=key]').select()").await;
    browser.type_into("key", &ops).await;
    browser.click("//button[.='Enter']").await;
    browser.wait_for_text("self::td", "ops").await;
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
async fn a_service_that_was_killed_is_said_and_found_again_when_it_is_back() {
    let port = std::net::TcpListener::bind("127.0.0.1:0")
        .unwrap()
        .local_addr()
        .unwrap()
        .port();
    let words = ["--demo", "--listen", &format!("127.0.0.1:{port}")];
    let service = Service::start_in(tempfile::tempdir().unwrap(), &words);
    let browser = Browser::start(1280, 800).await;
    browser.open(&service, "watch", "pierdesk").await;
    let data = service.kill();
    browser.wait_for_text("@role='alert'", "does not answer").await;
    browser.wait_for_text("@role='status'", "not answering").await;
    let _service = Service::start_in(data, &words);
    browser.wait_for_text("@role='status'", "ready").await;
    browser.end().await;
}

#[tokio::test]
async fn every_page_fits_a_narrow_window_and_has_no_serious_fault_for_those_who_cannot_see_it() {
    let service = Service::demo(&[]);
    service.ask("Hello").await;
    service.client(&["key", "create", "--name", "desk"]);
    let axe = std::fs::read_to_string(repository().join("console/node_modules/axe-core/axe.min.js")).unwrap();
    let check = "const done = arguments[0]; \
        axe.run().then((found) => done(found.violations.filter((v) => ['serious', 'critical'].includes(v.impact)) \
          .map((v) => `${v.id}: ${v.nodes.map((n) => n.target).join(', ')}`)))";
    for width in [390, 1280] {
        let browser = Browser::start(width, 800).await;
        for (page, heading) in PAGES {
            browser.open(&service, page, heading).await;
            let script = "return document.documentElement.scrollWidth - document.documentElement.clientWidth";
            assert_eq!(
                browser.run(script).await,
                json!(0),
                "{page} scrolls sideways at {width}"
            );
            browser.run(&axe).await;
            let faults = browser.client.execute_async(check, Vec::new()).await.unwrap();
            assert_eq!(faults, json!([]), "{page} at {width}");
        }
        browser.end().await;
    }
}

#[tokio::test]
async fn the_page_keeps_to_its_own_origin() {
    let service = Service::demo(&[]);
    let response = reqwest::get(&service.url).await.unwrap();
    let policy = response.headers()["content-security-policy"]
        .to_str()
        .unwrap()
        .to_owned();
    assert!(policy.starts_with("default-src 'self'"), "{policy}");
    let page = response.text().await.unwrap();
    assert!(
        page.contains("/assets/index-") && !page.contains("http://") && !page.contains("https://"),
        "{page}"
    );
}
