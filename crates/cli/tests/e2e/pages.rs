//! The console under conditions that are not the best: slow answers, plain HTTP, hasty hands, upgrades, narrow windows.

use crate::console::{Browser, PAGES};
use crate::manage::begin_load;
use crate::support::Service;
use serde_json::json;
use std::collections::BTreeSet;

/// Makes calls of a path take a second and a half, which is longer than the page waits before it asks again, and counts them by method.
const SLOW: &str = "const plain = window.fetch; window.counted = {}; \
    window.fetch = async (address, options) => { \
        const method = options?.method ?? 'GET'; \
        if (String(address).includes(arguments[0])) { \
            window.counted[method] = (window.counted[method] ?? 0) + 1; \
            await new Promise((go) => setTimeout(go, 1500)); \
            options?.signal?.throwIfAborted(); \
        } \
        return plain(address, options); \
    }";

async fn slow_down(browser: &Browser, path: &str) {
    browser.client.execute(SLOW, vec![json!(path)]).await.unwrap();
}

#[tokio::test]
async fn answers_that_are_slower_than_the_pace_of_asking_show_all_the_same() {
    let service = Service::demo(&[]);
    let browser = Browser::start(1280, 800).await;
    browser.open(&service, "jobs", "Jobs").await;
    slow_down(&browser, "/manage/jobs").await;
    begin_load(&service, "slow").await;
    browser.wait_for_text("@data-job", "slow").await;
    browser.end().await;
}

#[tokio::test]
async fn a_key_is_copied_by_hand_where_the_browser_lets_no_page_copy() {
    let service = Service::demo(&[]);
    let browser = Browser::start(1280, 800).await;
    browser.open(&service, "keys", "Keys").await;
    browser
        .run("Object.defineProperty(navigator, 'clipboard', { value: undefined })")
        .await;
    browser.type_into("name", "ferry desk").await;
    browser.click("//button[.='Create']").await;
    browser.click("//button[@aria-label='Copy the key']").await;
    browser.wait_for_text("self::button", "Press Ctrl+C").await;
    let selected = "const area = document.querySelector('textarea[readonly]'); \
        return area.value.slice(area.selectionStart, area.selectionEnd)";
    let selected = browser.run(selected).await;
    assert!(selected.as_str().unwrap().starts_with("vr-"), "{selected}");
    browser.end().await;
}

#[tokio::test]
async fn a_button_that_is_pressed_twice_does_its_work_once() {
    let service = Service::demo(&[]);
    service.client_json(&["key", "create", "--name", "ferry desk"]);
    let browser = Browser::start(1280, 800).await;
    browser.open(&service, "keys", "Keys").await;
    slow_down(&browser, "/manage/keys/").await;
    browser.click("//button[.='Revoke']").await;
    browser.wait_for_text("self::h2", "Revoke key ferry desk?").await;
    let twice = "const button = [...document.querySelectorAll('[role=dialog] button')].find((b) => b.innerText === 'Revoke'); \
        button.click(); button.click(); button.click()";
    browser.run(twice).await;
    browser.wait_for_text("self::td", "revoked").await;
    assert_eq!(browser.run("return window.counted.DELETE").await, json!(1));
    browser.end().await;
}

#[tokio::test]
async fn selected_runs_are_removed_after_a_question() {
    let service = Service::demo(&[]);
    for name in ["narrow", "wide"] {
        let words = ["load", "run", "--users", "1", "--count", "2", "--name", name];
        assert!(service.client(&words).status.success());
    }
    let browser = Browser::start(1280, 800).await;
    browser.open(&service, "load", "Load").await;
    browser.click("//tr[contains(., 'narrow')]//input").await;
    browser.click("//button[.='Remove selected runs']").await;
    browser.wait_for_text("self::h2", "Remove this run?").await;
    browser.click("//div[@role='dialog']//button[.='Remove']").await;
    browser
        .wait_until("return !document.body.innerText.includes('narrow')")
        .await;
    let left = service.client_json(&["load", "list"]);
    assert_eq!((left.as_array().unwrap().len(), &left[0]["name"]), (1, &json!("wide")));
    browser.end().await;
}

#[tokio::test]
async fn a_page_from_before_an_upgrade_says_so_and_offers_to_reload() {
    let service = Service::demo(&[]);
    let missing = reqwest::get(format!("{}/assets/Gone-abc123.js", service.url))
        .await
        .unwrap();
    assert_eq!(missing.status(), 404);
    assert!(
        !missing.text().await.unwrap().contains("<html"),
        "the first page is no script"
    );
    let browser = Browser::start(1280, 800).await;
    browser.open(&service, "watch", "Watch").await;
    browser
        .run("window.dispatchEvent(new Event('vite:preloadError'))")
        .await;
    browser.wait_for_text("@role='alert'", "upgraded").await;
    browser.click("//button[.='Reload']").await;
    browser
        .wait_until("return !document.body.innerText.includes('upgraded')")
        .await;
    browser.end().await;
}

/// Texts that do not fit their place: placeholders wider than their field, and code that is cut without a way to scroll.
const CUT: &str = "const pen = document.createElement('canvas').getContext('2d'); const cut = []; \
    for (const field of document.querySelectorAll('input[placeholder], textarea[placeholder]')) { \
        const style = getComputedStyle(field); pen.font = style.font; \
        const room = field.clientWidth - parseFloat(style.paddingLeft) - parseFloat(style.paddingRight); \
        const lines = field.tagName === 'TEXTAREA' ? [] : [field.placeholder]; \
        if (field.clientWidth && lines.some((line) => pen.measureText(line).width > room + 1)) cut.push(field.placeholder); } \
    for (const code of document.querySelectorAll('code, pre, [data-code], [data-command]')) { \
        const scrolls = (e) => e && (['auto', 'scroll'].includes(getComputedStyle(e).overflowX) || scrolls(e.parentElement)); \
        if (code.clientWidth && code.scrollWidth > code.clientWidth + 1 && !scrolls(code)) cut.push(code.innerText.slice(0, 80)); } \
    return cut";

#[tokio::test]
async fn pages_have_titles_of_their_own_and_cut_no_text_off_at_1280() {
    let service = Service::demo(&[]);
    let browser = Browser::start(1280, 800).await;
    let (mut titles, mut all_cut) = (BTreeSet::new(), Vec::new());
    for (page, heading) in PAGES {
        browser.open(&service, page, heading).await;
        let title = browser.run("return document.title").await;
        let title = title.as_str().unwrap().to_owned();
        assert!(title.ends_with("Vast Relay"), "{page}: {title}");
        assert!(
            titles.insert(title.clone()) || page.contains('?'),
            "{page} has the title {title}, too"
        );
        let cut = browser.run(CUT).await;
        all_cut.extend(cut.as_array().unwrap().iter().map(|text| format!("{page}: {text}")));
    }
    assert!(all_cut.is_empty(), "{all_cut:?}");
    browser.end().await;
}
