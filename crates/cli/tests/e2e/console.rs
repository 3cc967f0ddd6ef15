//! The console in headless Chromium.

use crate::support::Service;
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

#[tokio::test]
async fn a_question_asked_on_the_page_is_answered_and_the_chart_follows() {
    let service = Service::demo(&[]);
    let browser = Browser::start(1280, 800).await;
    browser.client.goto(&service.url).await.unwrap();
    browser.wait_for_text("@role='status'", "ready").await;
    browser.wait_for_text("self::h2", "pierdesk").await;
    let ask = browser.client.find(Locator::XPath("//button[.='Ask']")).await.unwrap();
    ask.click().await.unwrap();
    browser.wait_for_text("@data-answer", "Tolsay at 18:00").await;
    browser.wait_for_text("@data-figures", "end-token").await;
    browser.wait_for_text("self::p", "1 calls recorded").await;
    browser.end().await;
}

#[tokio::test]
async fn a_stopped_service_is_said_and_the_page_fits_a_narrow_window() {
    let service = Service::demo(&[]);
    let browser = Browser::start(390, 800).await;
    browser.client.goto(&service.url).await.unwrap();
    browser.wait_for_text("self::h2", "pierdesk").await;
    let script = "return document.documentElement.scrollWidth - document.documentElement.clientWidth";
    assert_eq!(
        browser.client.execute(script, Vec::new()).await.unwrap(),
        json!(0),
        "the page scrolls sideways"
    );
    drop(service);
    browser.wait_for_text("@role='alert'", "does not answer").await;
    browser.end().await;
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
