//! `vastrelay load run`.

use super::{check_forms, kept, print, write_all};
use crate::args::{ArrivalKind, LoadRunOptions};
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{duration, json};
use indicatif::{ProgressBar, ProgressStyle};
use serde_json::Value;
use std::io::IsTerminal;
use std::time::{Duration, Instant};
use tokio::sync::watch;
use vastrelay_loadtest::prompts::{from_json_lines, synthetic};
use vastrelay_loadtest::statistics::spread;
use vastrelay_loadtest::{Arrival, HttpTarget, Progress, Prompt, Span, Workload};
use vastrelay_wire::text::{CountAnswer, EncodeRequest};

/// The demo's own questions, which its model was never trained on.
const QUESTIONS: &str = include_str!("../../../../demo/held-out/questions.jsonl");
/// The demo's conversations of two turns.
const FOLLOW_UPS: &str = include_str!("../../../../demo/held-out/follow-ups.jsonl");
/// Different synthetic prompts, at least; more requests than that begin again.
const SYNTHETIC: usize = 4_096;
/// Time between two lines where there is no terminal.
const LINE_EVERY: Duration = Duration::from_secs(5);

/// Sends a workload, shows how it gets on, and reports.
pub async fn run(options: &LoadRunOptions) -> Result<(), Failure> {
    check_forms(&options.out)?;
    let client = Client::new(&options.connection)?;
    let model = client.model_or_only(options.model.as_ref()).await?;
    let mut workload = workload(options, model);
    workload.check().map_err(Failure::usage)?;
    let prompts = prompts(options, &client, &mut workload).await?;
    let ours = client
        .get::<Value>("/openapi.json")
        .await
        .is_ok_and(|document| document["info"]["title"] == "Vast Relay");
    let (http, key) = client.parts();
    let target = HttpTarget::new(http, client.url(), key, &workload.model, workload.temperature, ours);
    let name = options
        .name
        .clone()
        .unwrap_or_else(|| format!("{} {}", workload.model, workload.arrival));
    let (stop, stopped) = watch::channel(false);
    let interrupt = tokio::spawn(async move {
        if tokio::signal::ctrl_c().await.is_ok() {
            let _ = stop.send(true);
        }
        // Dropped only now: a run whose stop can no longer be told would take that for one.
        std::future::pending::<()>().await;
    });
    let mut show = Show::new(&workload);
    let url = client.url().to_owned();
    let run = vastrelay_loadtest::run(&name, &url, target, workload, prompts, stopped, |progress| {
        show.tell(&progress)
    })
    .await;
    show.bar.finish_and_clear();
    interrupt.abort();
    let run = run.map_err(Failure::failed)?;
    if !options.forget && ours {
        match kept::keep(&client, &run).await {
            Ok(()) => eprintln!("kept as {}; `vastrelay load show {}` shows it again", run.id, run.id),
            Err(failure) => eprintln!("the run is not kept: {failure}"),
        }
    }
    write_all(&run, &options.out)?;
    if options.json {
        json(&run.summary)?;
    } else {
        print::run(&run);
    }
    if run.summary.done == 0 {
        return Err(Failure::failed("not one request was answered"));
    }
    Ok(())
}

fn workload(options: &LoadRunOptions, model: String) -> Workload {
    let arrival = match options.arrival {
        ArrivalKind::Closed => Arrival::Closed { users: options.users },
        ArrivalKind::Poisson => Arrival::Poisson { rate: options.rate },
        ArrivalKind::Steps => Arrival::Steps {
            users: options.steps.clone(),
            seconds: options.each.as_secs_f64(),
        },
    };
    let span = match (options.count, &arrival) {
        (Some(count), _) => Span::Requests(count),
        (None, Arrival::Steps { users, seconds }) => Span::Seconds(users.len() as f64 * seconds),
        (None, _) => Span::Seconds(options.duration.map_or(30.0, |time| time.as_secs_f64())),
    };
    let usual_warm_up = match &arrival {
        Arrival::Closed { users } => *users,
        Arrival::Poisson { .. } => 8,
        Arrival::Steps { users, .. } => users.iter().copied().max().unwrap_or(1),
    };
    let prompts = match &options.synthetic {
        Some(lengths) if options.shared_prefix > 0 => {
            format!(
                "synthetic, {lengths} tokens, the first {} in common",
                options.shared_prefix
            )
        }
        Some(lengths) => format!("synthetic, {lengths} tokens"),
        None => options.prompts.clone(),
    };
    Workload {
        model,
        prompts,
        arrival,
        span,
        warm_up: options.warm_up.unwrap_or(usual_warm_up),
        output: options.output,
        force_length: options.force_length,
        temperature: options.temperature,
        seed: options.seed,
        pace: options.pace,
    }
}

async fn prompts(options: &LoadRunOptions, client: &Client, workload: &mut Workload) -> Result<Vec<Prompt>, Failure> {
    if let Some(lengths) = options.synthetic {
        let question = EncodeRequest {
            model: workload.model.clone(),
            text: Some("a".into()),
            messages: None,
        };
        let count: CountAnswer = client.post_for("/text/count", &question).await?;
        let wanted = match workload.span {
            Span::Requests(requests) => (requests + workload.warm_up).min(100_000),
            Span::Seconds(_) => SYNTHETIC,
        };
        return Ok(synthetic(
            wanted,
            lengths,
            options.shared_prefix,
            count.vocabulary as u32,
            options.seed,
        ));
    }
    let text = match options.prompts.as_str() {
        "questions" => QUESTIONS.to_owned(),
        "follow-ups" => FOLLOW_UPS.to_owned(),
        file => std::fs::read_to_string(file).map_err(|e| {
            Failure::usage(format!(
                "cannot read {file}: {e}; questions, follow-ups or a file in JSON Lines work"
            ))
        })?,
    };
    let prompts = from_json_lines(&text).map_err(|e| Failure::usage(format!("{}: {e}", options.prompts)))?;
    // Who repeats the run can tell whether these are the same prompts.
    let hash = blake3::hash(text.as_bytes()).to_hex();
    workload.prompts = format!("{}, {} of them, BLAKE3 {}", options.prompts, prompts.len(), &hash[..12]);
    Ok(prompts)
}

/// Shows how a run gets on: a line that changes on a terminal, a new one now and then elsewhere.
struct Show {
    bar: ProgressBar,
    span: Span,
    terminal: bool,
    last_line: Option<Instant>,
}

impl Show {
    fn new(workload: &Workload) -> Show {
        let terminal = std::io::stderr().is_terminal();
        let bar = if terminal {
            ProgressBar::new(1_000)
        } else {
            ProgressBar::hidden()
        };
        let style = ProgressStyle::with_template("{bar:24} {msg}").expect("the template is right");
        bar.set_style(style.progress_chars("█▒·"));
        Show {
            bar,
            span: workload.span,
            terminal,
            last_line: None,
        }
    }

    fn tell(&mut self, progress: &Progress) {
        let part = match self.span {
            Span::Seconds(seconds) => progress.seconds / seconds,
            Span::Requests(count) => progress.ended as f64 / count as f64,
        };
        let text = line(progress);
        if self.terminal {
            self.bar.set_position((part.min(1.0) * 1_000.0) as u64);
            self.bar.set_message(text);
        } else if self.last_line.is_none_or(|last| last.elapsed() >= LINE_EVERY) {
            self.last_line = Some(Instant::now());
            eprintln!("{text}");
        }
    }
}

fn line(progress: &Progress) -> String {
    if progress.warming_up {
        return "warming up".into();
    }
    let ttft = spread(progress.recent_ttft.clone());
    let rate = progress.output_tokens as f64 / progress.seconds.max(0.001);
    let service = match progress.service {
        Some(service) => format!("  lanes {}  queue {}", service.lanes_used, service.queue_depth),
        None => String::new(),
    };
    format!(
        "{:.0} s  {} of {} ended, {} errors  {rate:.0} tokens/s  TTFT p50 {}{service}",
        progress.seconds,
        progress.ended,
        progress.sent,
        progress.errors,
        duration(ttft.p50)
    )
}
