//! What is measured is what happened: against a stand-in whose delays are known, in virtual time.

use std::time::Duration;
use tokio::sync::watch;
use tokio::time::{Instant, sleep, sleep_until};
use vastrelay_loadtest::target::{Answer, Request, Seen};
use vastrelay_loadtest::{Arrival, Prompt, Run, Span, Target, Workload};
use vastrelay_wire::manage::{ServiceStatus, Spread};

const FIRST: Duration = Duration::from_millis(20);
const GAP: Duration = Duration::from_millis(5);
const TOKENS: usize = 5;
const NEAR: f64 = 0.002;

fn workload(arrival: Arrival, span: Span) -> Workload {
    Workload {
        model: "stub".into(),
        prompts: "one".into(),
        arrival,
        span,
        warm_up: 0,
        output: None,
        force_length: false,
        temperature: 0.0,
        seed: 11,
        pace: 150.0,
    }
}

async fn run(target: impl Target, workload: Workload) -> Run {
    let (_keep, stop) = watch::channel(false);
    let prompts = vec![Prompt::Text("Hello".into())];
    vastrelay_loadtest::run("test", "stub", target, workload, prompts, stop, |_| {})
        .await
        .unwrap()
}

/// Answers after fixed delays, except that nothing comes before the stall ends.
struct FixedDelays {
    start: Instant,
    stall: (f64, f64),
}

impl FixedDelays {
    fn new(stall: (f64, f64)) -> FixedDelays {
        FixedDelays {
            start: Instant::now(),
            stall,
        }
    }
}

impl Target for FixedDelays {
    type Ready = ();

    fn ready(&self, _: &Request) {}

    async fn send(&self, (): ()) -> Answer {
        let now = self.start.elapsed().as_secs_f64();
        if (self.stall.0..self.stall.1).contains(&now) {
            sleep_until(self.start + Duration::from_secs_f64(self.stall.1)).await;
        }
        sleep(FIRST).await;
        let mut tokens = vec![Instant::now()];
        while tokens.len() < TOKENS {
            sleep(GAP).await;
            tokens.push(Instant::now());
        }
        Answer {
            sent: None,
            tokens,
            ended: Instant::now(),
            prompt_tokens: 3,
            reused_tokens: 0,
            output_tokens: TOKENS,
            retry_after: None,
            error: None,
        }
    }

    async fn look(&self) -> Seen {
        Seen::Nothing
    }
}

fn near(found: f64, known: f64, what: &str) {
    assert!((found - known).abs() <= NEAR, "{what}: {found} instead of {known}");
}

fn near_known(ttft: &Spread, itl: &Spread) {
    for (found, known, what) in [
        (ttft.p50, FIRST, "TTFT p50"),
        (ttft.p99, FIRST, "TTFT p99"),
        (itl.p50, GAP, "ITL p50"),
        (itl.p99, GAP, "ITL p99"),
    ] {
        near(found, known.as_secs_f64(), what);
    }
}

#[tokio::test(start_paused = true)]
async fn ten_thousand_requests_in_virtual_time_have_the_known_delays() {
    for arrival in [Arrival::Closed { users: 32 }, Arrival::Poisson { rate: 300.0 }] {
        let found = run(FixedDelays::new((0.0, 0.0)), workload(arrival, Span::Requests(10_000))).await;
        let summary = &found.summary;
        assert_eq!(
            (summary.sent, summary.done, found.requests.len()),
            (10_000, 10_000, 10_000)
        );
        near_known(&summary.ttft, &summary.itl);
        near(summary.total.p50, (FIRST + GAP * 4).as_secs_f64(), "end-to-end");
        assert_eq!(summary.kept_pace, 1.0);
    }
}

#[tokio::test(start_paused = true)]
async fn arrivals_that_are_due_during_a_stall_show_it_and_closed_users_hide_it() {
    let open = workload(Arrival::Poisson { rate: 100.0 }, Span::Seconds(10.0));
    let found = run(FixedDelays::new((4.0, 9.0)), open).await.summary;
    // Half of all requests were due during the stall and waited for its end, 2.5 s on average.
    assert!((4.9..5.03).contains(&found.ttft.max), "{:?}", found.ttft);
    assert!(found.ttft.p90 > 3.5 && found.ttft.p50 < 1.0, "{:?}", found.ttft);
    let closed = workload(Arrival::Closed { users: 4 }, Span::Seconds(10.0));
    let found = run(FixedDelays::new((4.0, 9.0)), closed).await.summary;
    near(found.ttft.p95, FIRST.as_secs_f64(), "four users are stalled once each");
    assert!(found.ttft.max > 4.9, "{:?}", found.ttft);
}

#[tokio::test(start_paused = true)]
async fn steps_send_as_many_users_as_each_step_has() {
    let steps = Arrival::Steps {
        users: vec![1, 4],
        seconds: 2.0,
    };
    let found = run(FixedDelays::new((0.0, 0.0)), workload(steps, Span::Seconds(4.0))).await;
    let during = |from: f64, to: f64| found.requests.iter().filter(|r| (from..to).contains(&r.due)).count() as f64;
    let (first, second) = (during(0.0, 2.0), during(2.0, 4.0));
    assert!((second / first - 4.0).abs() < 0.3, "{first} and {second}");
}

#[tokio::test(start_paused = true)]
async fn a_run_that_is_stopped_keeps_what_it_has() {
    let (stop, stopped) = watch::channel(false);
    let endless = workload(Arrival::Poisson { rate: 50.0 }, Span::Requests(1_000_000));
    let target = FixedDelays::new((0.0, 0.0));
    let prompts = vec![Prompt::Text("Hello".into())];
    let tell = |progress: vastrelay_loadtest::RunProgress| {
        if progress.seconds > 2.0 {
            let _ = stop.send(true);
        }
    };
    let found = vastrelay_loadtest::run("test", "stub", target, endless, prompts, stopped, tell)
        .await
        .unwrap();
    assert!(found.stopped_early && found.summary.done > 50 && found.summary.sent < 1_000);
}

/// Answers nothing, and is an endpoint that goes after a while, having been changed for another one before.
struct Leaves {
    start: Instant,
}

impl Target for Leaves {
    type Ready = ();

    fn ready(&self, _: &Request) {}

    async fn send(&self, (): ()) -> Answer {
        std::future::pending().await
    }

    async fn look(&self) -> Seen {
        let seconds = self.start.elapsed().as_secs_f64();
        let mut service: ServiceStatus = serde_json::from_str(STATUS).unwrap();
        let mut status = service.endpoints.remove(0);
        // The counters of the second release begin at zero.
        let since = if seconds < 5.0 { seconds } else { seconds - 5.0 };
        status.totals.preemptions = 10 * since as u64;
        status.totals.busy = since;
        match seconds {
            ..10.0 => Seen::Served(Box::new(status)),
            _ => Seen::Gone("the endpoint `stub` is stopped: by ops".into()),
        }
    }
}

const STATUS: &str = include_str!("../../cli/src/watch/status.json");

#[tokio::test(start_paused = true)]
async fn an_endpoint_that_goes_ends_the_test_within_a_second_and_counters_that_begin_again_add_up() {
    let target = Leaves { start: Instant::now() };
    let begun = Instant::now();
    let found = run(target, workload(Arrival::Closed { users: 3 }, Span::Seconds(600.0))).await;
    assert!(begun.elapsed().as_secs_f64() < 11.0, "{:?}", begun.elapsed());
    assert_eq!(
        found.ended_because.as_deref(),
        Some("the endpoint `stub` is stopped: by ops")
    );
    assert!(found.stopped_early);
    let preemptions = found.summary.preemptions.unwrap();
    assert!((70..=90).contains(&preemptions), "{preemptions}");
}
