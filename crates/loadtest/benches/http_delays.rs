//! Is what is measured what happened? Over real HTTP, against a stub with known delays that notes when it wrote what.
//!
//! Prints the known delays, those that the stub noted (its timers may fire late) and those that were measured, over 10,000
//! requests for each kind of arrival, and whether the last two agree within 2 ms at the median and the 99th percentile.

use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::sync::watch;
use tokio::time::{Instant, sleep};
use vastrelay_loadtest::statistics::spread;
use vastrelay_loadtest::{Arrival, HttpTarget, Prompt, Span, Workload};
use vastrelay_wire::manage::Spread;

const FIRST: Duration = Duration::from_millis(20);
const GAP: Duration = Duration::from_millis(5);
const TOKENS: usize = 3;
const NEAR: f64 = 0.002;
const WARM_UP: usize = 32;

fn workload(arrival: Arrival) -> Workload {
    Workload {
        model: "stub".into(),
        prompts: "one".into(),
        arrival,
        span: Span::Requests(10_000),
        warm_up: WARM_UP,
        output: None,
        force_length: false,
        temperature: 0.0,
        seed: 11,
        pace: 150.0,
    }
}

/// When a stub wrote each piece of one answer.
type Written = Arc<Mutex<Vec<Vec<Instant>>>>;

/// A service over real HTTP with fixed delays, which notes when it wrote what.
fn http_stub() -> (String, Written) {
    use actix_web::{App, HttpResponse, HttpServer, web};
    let written = Written::default();
    let shared = written.clone();
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    std::thread::spawn(move || {
        let answer = move |written: web::Data<Mutex<Vec<Vec<Instant>>>>| async move {
            let arrived = Instant::now();
            let pieces = futures_util::stream::unfold(vec![arrived], move |mut moments| {
                let written = written.clone();
                async move {
                    let count = moments.len() - 1;
                    if count > TOKENS {
                        return None;
                    }
                    if count == TOKENS {
                        written.lock().unwrap().push(moments.clone());
                        moments.push(Instant::now());
                        return Some((Ok::<_, actix_web::Error>(web::Bytes::from("data: [DONE]\n\n")), moments));
                    }
                    sleep(if count == 0 { FIRST } else { GAP }).await;
                    moments.push(Instant::now());
                    let piece = "data: {\"choices\": [{\"text\": \"x\"}]}\n\n";
                    Some((Ok(web::Bytes::from(piece)), moments))
                }
            });
            HttpResponse::Ok()
                .content_type("text/event-stream")
                .streaming(Box::pin(pieces))
        };
        let server = HttpServer::new(move || {
            App::new()
                .app_data(web::Data::from(shared.clone()))
                .route("/v1/completions", web::post().to(answer))
        });
        let server = server.workers(1).disable_signals().listen(listener).unwrap().run();
        actix_web::rt::System::new().block_on(server).unwrap();
    });
    (url, written)
}

#[tokio::main]
async fn main() {
    for arrival in [Arrival::Closed { users: 8 }, Arrival::Poisson { rate: 300.0 }] {
        let (url, written) = http_stub();
        let target = HttpTarget::new(reqwest::Client::new(), &url, None, "stub", 0.0, false);
        let (_keep, stop) = watch::channel(false);
        let prompts = vec![Prompt::Text("Hello".into())];
        let load = workload(arrival.clone());
        let run = vastrelay_loadtest::run("bench", &url, target, load, prompts, stop, |_| {}).await;
        let found = run.expect("the workload is right").summary;
        assert_eq!((found.sent, found.done), (10_000, 10_000), "{:?}", found.errors);
        let written = written.lock().expect("the stub does not panic").split_off(WARM_UP);
        let between = |pair: &[Instant]| (pair[1] - pair[0]).as_secs_f64();
        let ttft = spread(written.iter().map(|moments| between(&moments[..2])).collect());
        let itl = spread(
            written
                .iter()
                .flat_map(|moments| moments[1..].windows(2).map(between))
                .collect(),
        );
        println!("{arrival}");
        tell("TTFT", FIRST, &ttft, &found.ttft);
        tell("ITL", GAP, &itl, &found.itl);
    }
}

fn tell(name: &str, known: Duration, written: &Spread, measured: &Spread) {
    for (at, written, measured) in [("p50", written.p50, measured.p50), ("p99", written.p99, measured.p99)] {
        let apart = (measured - written) * 1e3;
        let verdict = if apart.abs() <= NEAR * 1e3 {
            "within 2 ms"
        } else {
            "FURTHER than 2 ms"
        };
        println!(
            "  {name:<5}{at}  known {known:>5?}  noted {:>6.2} ms  measured {:>6.2} ms  apart {apart:>5.2} ms, {verdict}",
            written * 1e3,
            measured * 1e3
        );
    }
}
