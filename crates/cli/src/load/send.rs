//! `vastrelay load run`.

use super::{check_forms, kept, print, write_all};
use crate::args::load::LoadRunOptions;
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{duration, json};
use crate::plain::note;
use indicatif::{ProgressBar, ProgressStyle};
use serde_json::Value;
use std::io::IsTerminal;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::watch;
use vastrelay_loadtest::order::{Prepared, prepare};
use vastrelay_loadtest::prompts::Room;
use vastrelay_loadtest::statistics::spread;
use vastrelay_loadtest::{HttpTarget, RunProgress, Span, Workload};
use vastrelay_wire::load::{LoadOrder, PromptSource};
use vastrelay_wire::text::{CountAnswer, EncodeRequest};

/// Time between two lines where there is no terminal.
const LINE_EVERY: Duration = Duration::from_secs(5);

/// Sends a workload, shows how it gets on, and reports.
pub async fn run(options: &LoadRunOptions) -> Result<(), Failure> {
    check_forms(&options.out)?;
    let client = Arc::new(Client::new(&options.connection)?);
    let model = client.model_or_only(options.model.as_ref()).await?;
    let order = options.order(model)?;
    let Prepared {
        name,
        workload,
        prompts,
    } = prepare(&order, room(&client, &order).await?).map_err(Failure::usage)?;
    let ours = client
        .get::<Value>("/openapi.json")
        .await
        .is_ok_and(|document| document["info"]["title"] == "Vast Relay");
    let (trust, key) = client.parts();
    let target = HttpTarget::new(trust, client.url(), key, &workload.model, workload.temperature, ours);
    let mut target = target.map_err(Failure::usage)?;
    if ours {
        let client = client.clone();
        target = target.looked_at_by(Box::new(move || {
            let client = client.clone();
            Box::pin(async move { client.get("/manage/status").await.ok() })
        }));
    }
    let (stop, stopped) = watch::channel(false);
    let interrupt = tokio::spawn(async move {
        if tokio::signal::ctrl_c().await.is_ok() {
            let _ = stop.send(true);
            note("stopping; press Ctrl-C again to stop at once");
        }
        if tokio::signal::ctrl_c().await.is_ok() {
            std::process::exit(1);
        }
        // Dropped only now: a run whose stop can no longer be told would take that for one.
        std::future::pending::<()>().await;
    });
    let mut show = Show::new(&workload);
    let url = client.url().to_owned();
    let run = vastrelay_loadtest::run(&name, &url, target, workload, prompts, stopped, |progress| {
        show.print_step(&progress)
    })
    .await;
    show.bar.finish_and_clear();
    interrupt.abort();
    let run = run.map_err(Failure::failed)?;
    if !options.forget && ours {
        match kept::keep(&client, &run).await {
            Ok(()) => note(format!(
                "saved as {}; `vastrelay load show {}` shows it again",
                run.id, run.id
            )),
            Err(failure) => note(format!("the run could not be saved: {failure}")),
        }
    }
    write_all(&run, &options.out)?;
    if options.json {
        json(&run.summary)?;
    } else {
        print::run(&run);
    }
    if run.summary.done == 0 {
        return Err(Failure::failed("no request was answered"));
    }
    Ok(())
}

/// Returns what the model has room for, where prompts are made for it.
async fn room(client: &Client, order: &LoadOrder) -> Result<Room, Failure> {
    if !matches!(order.prompts, PromptSource::Synthetic { .. }) {
        return Ok(Room {
            vocabulary: 0,
            context: usize::MAX,
        });
    }
    let question = EncodeRequest {
        model: order.model.clone(),
        text: Some("a".into()),
        messages: None,
    };
    let count: CountAnswer = client.post_for("/text/count", &question).await?;
    Ok(Room {
        vocabulary: count.vocabulary,
        context: count.context,
    })
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

    fn print_step(&mut self, progress: &RunProgress) {
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
            note(text);
        }
    }
}

fn line(progress: &RunProgress) -> String {
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
