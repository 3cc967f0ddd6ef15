//! Is the batch strip smooth? It is opened in a browser on a made-up service whose batch has 64 lanes and 200 steps a second.
//!
//! Prints how many frames a second the page drew over ten seconds, and how long the slowest took. It needs Chromium and its
//! driver, as the tests do.

use actix_web::http::header::CONTENT_TYPE;
use actix_web::web::{self, Bytes};
use actix_web::{App, HttpRequest, HttpResponse, HttpServer};
use fantoccini::wd::Capabilities;
use fantoccini::{ClientBuilder, Locator};
use serde_json::{Value, json};
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

const LANES: u64 = 64;
const STEPS_A_SECOND: u64 = 200;
const EVENT_EVERY: Duration = Duration::from_millis(250);
/// Steps that one sequence lasts, the first of which is its prefill.
const SEQUENCE: u64 = 40;

fn status(seconds: f64) -> Value {
    json!({"version": "bench", "uptime": seconds, "state": "ready", "calls_recorded": 0, "endpoints": [{
        "name": "bench", "occupancy": {"lanes": LANES, "queue_depth": 9, "lanes_used": LANES, "pages_used": 0},
        "replicas": [{"replica": 1, "incarnation": 1, "uptime": seconds, "width": LANES}], "window": {
            "output_rate": 0, "prefill_rate": 0,
            "ttft": {"count": 0, "p50": 0, "p95": 0, "p99": 0}, "itl": {"count": 0, "p50": 0, "p95": 0, "p99": 0}}}]})
}

/// A step in which every lane works; sequences come and go, a few are preempted and a few reuse a prefix.
fn step(number: u64) -> Value {
    let lanes: Vec<Value> = (0..LANES)
        .map(|lane| {
            let sequence = (number + lane) / SEQUENCE * LANES + lane;
            let begins = (number + lane).is_multiple_of(SEQUENCE);
            let (kind, tokens) = if begins { ("prefill", 20) } else { ("decode", 1) };
            let reused = if begins && lane.is_multiple_of(3) { 16 } else { 0 };
            json!({"lane": lane, "sequence": sequence, "kind": kind, "tokens": tokens, "reused": reused})
        })
        .collect();
    let preempted = if number.is_multiple_of(50) {
        vec![number]
    } else {
        vec![]
    };
    let length = 1.0 / STEPS_A_SECOND as f64;
    json!({"number": number, "at": number as f64 * length, "duration": length * 0.9, "lanes": lanes, "admitted": [],
        "preempted": preempted, "waiting": 9, "pages_used": 100})
}

async fn live() -> HttpResponse {
    let begun = Instant::now();
    let mut number = 0;
    let events = async_stream::stream! {
        let mut ticks = tokio::time::interval(EVENT_EVERY);
        loop {
            ticks.tick().await;
            let seconds = begun.elapsed().as_secs_f64();
            let until = (seconds * STEPS_A_SECOND as f64) as u64;
            let steps: Vec<Value> = (number..until).map(step).collect();
            number = until;
            let steps = json!({"endpoint": "bench", "release": 1, "replica": 1, "incarnation": 1, "steps": steps});
            let text = format!("event: steps\ndata: {steps}\n\nevent: status\ndata: {}\n\n", status(seconds));
            yield Ok::<Bytes, actix_web::Error>(text.into());
        }
    };
    HttpResponse::Ok()
        .insert_header((CONTENT_TYPE, "text/event-stream"))
        .streaming(Box::pin(events))
}

/// The console's own files, and its first page for every other address.
async fn file(request: HttpRequest) -> HttpResponse {
    let dist = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console/dist");
    let path = request.path().trim_start_matches('/');
    let kind = match path.rsplit('.').next() {
        Some("js") => "text/javascript",
        Some("css") => "text/css",
        Some("woff2") => "font/woff2",
        _ => "text/html",
    };
    let bytes = std::fs::read(dist.join(path)).or_else(|_| std::fs::read(dist.join("index.html")));
    let bytes = bytes.expect("the console is built; `cargo xtask console` does that");
    HttpResponse::Ok().content_type(kind).body(bytes)
}

fn serve() -> String {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("loopback has a free port");
    let url = format!("http://{}", listener.local_addr().expect("it is bound"));
    std::thread::spawn(move || {
        let server = HttpServer::new(|| {
            App::new()
                .route("/manage/live", web::get().to(live))
                .route(
                    "/manage/endpoints/bench/steps",
                    web::get().to(async || {
                        let none =
                            json!({"endpoint": "bench", "release": 1, "replica": 1, "incarnation": 1, "steps": []});
                        HttpResponse::Ok().json(none)
                    }),
                )
                .default_service(web::to(file))
        });
        let server = server.workers(1).disable_signals().listen(listener);
        let server = server.expect("it listens").run();
        actix_web::rt::System::new().block_on(server).expect("the stub serves");
    });
    url
}

#[tokio::main]
async fn main() {
    let url = serve();
    let mut driver = Command::new("chromedriver")
        .arg("--port=0")
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .expect("chromedriver is installed; `cargo xtask test` does that");
    let lines = BufReader::new(driver.stdout.take().expect("it is piped")).lines();
    let port = lines
        .map_while(Result::ok)
        .find_map(|line| {
            Some(
                line.split_once("successfully on port ")?
                    .1
                    .trim_end_matches('.')
                    .to_owned(),
            )
        })
        .expect("chromedriver says its port");
    let profile = tempfile::tempdir().expect("there is room for a profile");
    let mut capabilities = Capabilities::new();
    let profile_word = format!("--user-data-dir={}", profile.path().display());
    let words = json!({"args": ["--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
        "--disable-background-networking", "--disable-component-update", "--disable-sync", "--window-size=1280,900", profile_word]});
    capabilities.insert("goog:chromeOptions".into(), words);
    let connector = hyper_util::client::legacy::connect::HttpConnector::new();
    let client = ClientBuilder::new(connector)
        .capabilities(capabilities)
        .connect(&format!("http://127.0.0.1:{port}"))
        .await
        .expect("the browser starts");
    client
        .goto(&format!("{url}/console/strip/bench"))
        .await
        .expect("the page opens");
    let busy = Locator::XPath("//*[@data-use][contains(., '9')]");
    client.wait().for_element(busy).await.expect("the strip fills");
    let measure = "const done = arguments[0]; const begun = performance.now(); let last = begun; const frames = []; \
        const next = (now) => { frames.push(now - last); last = now; \
          if (now - begun < 10000) requestAnimationFrame(next); else done(frames.slice(1)); }; requestAnimationFrame(next)";
    let frames = client.execute_async(measure, Vec::new()).await.expect("the page draws");
    let mut frames: Vec<f64> = serde_json::from_value(frames).expect("numbers");
    let _ = client.close().await;
    let _ = driver.kill();
    let _ = driver.wait();
    frames.sort_by(f64::total_cmp);
    let at = |share: f64| frames[(frames.len() as f64 * share) as usize];
    let total: f64 = frames.iter().sum();
    println!(
        "{LANES} lanes, {STEPS_A_SECOND} steps/s: {:.1} frames/s over {:.1} s; from frame to frame p50 {:.1} ms, p99 {:.1} ms, max {:.1} ms",
        frames.len() as f64 / total * 1e3,
        total / 1e3,
        at(0.5),
        at(0.99),
        frames[frames.len() - 1]
    );
}
