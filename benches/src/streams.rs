//! What running streams notice of the scheduler: a long prompt that comes in beside them, and the planning of a step.

use crate::alternate::{Gauge, Subject, alternate};
use crate::report::{Cell, Report};
use crate::statistics::{median, times_as_fast};
use crate::{Machine, Options};
use anyhow::{Context, Result};
use std::cell::RefCell;
use std::path::Path;
use std::time::{Duration, Instant};
use tokio::runtime::Runtime;
use vastrelay_engine::scheduler::{Arrival, RowOutcome, Scheduler, SequenceId, StepPlan};
use vastrelay_engine::{Event, GenerationRequest, Limits, PoolLimits, Sampling};
use vastrelay_serving::{CoreRequest, Cores, Device, Model, Precision, Replica, ReplicaSettings};

/// Streams that decode.
const STREAMS: usize = 16;
/// Tokens of the prompt that comes in.
const PROMPT: usize = 2_000;
/// Tokens of a stream: so many that none ends while it is measured.
const LONG: usize = 1_500;
/// Sequences in the batch, and before it, when a step is planned.
const WIDTH: usize = 256;
const WAITING: usize = 10_000;

/// Measures a long prompt beside streams.
pub fn measure_prompt(path: &Path, machine: Machine, options: &Options, report: &mut Report) -> Result<()> {
    const NAME: &str = "2000 beside 16";
    if options.work.as_ref().is_some_and(|text| !NAME.contains(text.as_str())) {
        return Ok(());
    }
    eprintln!("weights: {NAME}");
    let settings = ReplicaSettings {
        width: 32,
        step_budget: 2_048,
        context: Some(4_096),
        queue_depth: 64,
        queue_wait: None,
        prefill_chunk: None,
        isa: machine.isa,
        cores: CoreRequest::Free {
            least: 1,
            most: machine.cores,
        },
        split: 1,
        memory_share: 0.8,
        pages: Some((STREAMS + 2) * 2_300 / 16),
        typical: None,
        device: Device::cpu(8 << 30, Cores::part(machine.cores), || usize::MAX),
        weights: Precision::AsStored,
        kv: None,
    };
    let model = Model::open(path).context("the model is there")?;
    let replica = Replica::load(&model, path, &settings).context("the model loads")?;
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    let (mut quiet, mut beside, mut alone, mut first) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for round in 0..=machine.rounds {
        let fresh = round as u32;
        let alone_now = runtime.block_on(read_by_itself(&replica, 2 * fresh))?;
        let heard = runtime.block_on(beside_streams(&replica, 2 * fresh + 1))?;
        // The first round warms up.
        if round > 0 {
            alone.push(alone_now);
            quiet.push(heard.quiet);
            beside.push(heard.beside);
            first.push(heard.first);
        }
    }
    let cell = |subject: &str, seconds: &[f64], against: &str, others: &[f64], aim: f64| Cell {
        model: "weights".into(),
        work: NAME.into(),
        subject: subject.into(),
        against: against.into(),
        aim: Some(aim),
        must_hold: None,
        subject_seconds: median(seconds),
        against_seconds: median(others),
        ratios: times_as_fast(seconds, others),
        drifted: false,
        phases: Vec::new(),
    };
    report.add(cell("gap p99", &beside, "without the prompt", &quiet, 1.0 / 3.0));
    report.add(cell("ttft", &first, "alone", &alone, 0.5));
    Ok(())
}

/// Gaps and a first token, in seconds.
struct Heard {
    /// 99th percentile of the gaps before the prompt.
    quiet: f64,
    /// The same while it is read.
    beside: f64,
    /// From its arrival to its first token.
    first: f64,
}

fn request(tokens: usize, seed: u32, most: usize) -> GenerationRequest {
    let prompt = (0..tokens as u32)
        .map(|at| 1_000 + (at * 7_919 + seed * 104_729) % 30_000)
        .collect();
    GenerationRequest {
        sampling: Sampling {
            temperature: 0.0,
            ..Sampling::default()
        },
        ..GenerationRequest::new(prompt, most)
    }
}

async fn read_by_itself(replica: &Replica, seed: u32) -> Result<f64> {
    let begun = Instant::now();
    let mut stream = replica.generate.submit(vec![request(PROMPT, seed, 1)]).await?;
    while let Some(event) = stream.next().await {
        if let Event::Piece(_) = event {
            return Ok(begun.elapsed().as_secs_f64());
        }
    }
    anyhow::bail!("the prompt has no first token")
}

async fn beside_streams(replica: &Replica, seed: u32) -> Result<Heard> {
    const SETTLE: usize = 20;
    const QUIET: usize = 60;
    let requests = (0..STREAMS as u32)
        .map(|stream| request(64, 1_000 + stream, LONG))
        .collect();
    let mut streams = replica.generate.submit(requests).await?;
    let (mut last, mut counts) = (vec![None; STREAMS], vec![0; STREAMS]);
    let (mut quiet, mut beside): (Vec<f64>, Vec<f64>) = Default::default();
    let mut prompt = None;
    let mut first = None;
    while first.is_none() {
        let read = async {
            match &mut prompt {
                Some((_, stream)) => next_piece(stream).await,
                None => std::future::pending().await,
            }
        };
        tokio::select! {
            biased;
            () = read => first = prompt.as_ref().map(|(begun, _): &(Instant, _)| begun.elapsed()),
            event = streams.next() => {
                let event = event.context("the streams go on")?;
                let Event::Piece(piece) = event else { continue };
                let (now, choice) = (Instant::now(), piece.choice as usize);
                let before: Option<Instant> = last[choice].replace(now);
                counts[choice] += 1;
                let gap = before.map(|before| now.duration_since(before).as_secs_f64());
                if counts[choice] > SETTLE {
                    if prompt.is_some() { &mut beside } else { &mut quiet }.extend(gap);
                }
            }
        }
        if prompt.is_none() && counts.iter().all(|count| *count >= SETTLE + QUIET) {
            let begun = Instant::now();
            prompt = Some((begun, replica.generate.submit(vec![request(PROMPT, seed, 1)]).await?));
        }
    }
    Ok(Heard {
        quiet: percentile(quiet),
        beside: percentile(beside),
        first: first.unwrap_or(Duration::ZERO).as_secs_f64(),
    })
}

async fn next_piece(stream: &mut vastrelay_engine::RequestStream) {
    while let Some(event) = stream.next().await {
        if let Event::Piece(_) = event {
            return;
        }
    }
}

fn percentile(mut gaps: Vec<f64>) -> f64 {
    gaps.sort_by(f64::total_cmp);
    let at = (gaps.len() * 99).div_ceil(100).saturating_sub(1);
    gaps.get(at).copied().unwrap_or(f64::NAN)
}

/// Measures the planning of a step against the demo model's step of the same width.
pub fn measure_planning(machine: Machine, options: &Options, report: &mut Report) -> Result<()> {
    const NAME: &str = "planning 256, 10000 wait";
    if options.work.as_ref().is_some_and(|text| !NAME.contains(text.as_str())) {
        return Ok(());
    }
    eprintln!("{NAME}");
    let planner = RefCell::new(Planner::new());
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../demo/models/pierdesk-1");
    let model = RefCell::new(DemoSteps::new(&demo, machine)?);
    let failure = RefCell::new(None);
    let plan = || planner.borrow_mut().step();
    let step = || {
        model.borrow_mut().step().unwrap_or_else(|error| {
            *failure.borrow_mut() = Some(error);
            f64::NAN
        })
    };
    let mut subjects: Vec<Subject<'_>> = vec![Box::new(plan), Box::new(step)];
    let outcome = alternate(&Gauge::new(machine), machine.rounds, &mut subjects);
    drop(subjects);
    if let Some(error) = failure.into_inner() {
        return Err(error);
    }
    let [plans, steps] = &outcome.seconds[..] else {
        return Ok(());
    };
    report.add(Cell {
        model: "demo".into(),
        work: NAME.into(),
        subject: "planning".into(),
        against: "its step".into(),
        aim: Some(20.0),
        must_hold: None,
        subject_seconds: median(plans),
        against_seconds: median(steps),
        ratios: times_as_fast(plans, steps),
        drifted: outcome.drifted,
        phases: Vec::new(),
    });
    Ok(())
}

/// A scheduler with a full batch and a long queue.
struct Planner {
    scheduler: Scheduler,
    plan: StepPlan,
    outcomes: Vec<RowOutcome>,
    next: u64,
    now: u64,
}

impl Planner {
    fn new() -> Planner {
        let scheduler = Scheduler::new(Limits {
            width: WIDTH,
            step_budget: 2_048,
            context: 2_048,
            queue_depth: WAITING,
            queue_wait: None,
            pools: vec![PoolLimits {
                pages: 16_384,
                window: None,
            }],
            prefill_chunk: None,
        });
        let mut planner = Planner {
            scheduler,
            plan: StepPlan::default(),
            outcomes: Vec::new(),
            next: 0,
            now: 0,
        };
        planner.fill();
        while planner.plan.rows.len() < WIDTH {
            planner.once();
        }
        planner.fill();
        planner
    }

    /// Has as many wait as may.
    fn fill(&mut self) {
        while self.scheduler.occupancy().queue_depth < WAITING {
            self.next += 1;
            let arrival = Arrival {
                id: SequenceId(self.next),
                prompt: (0..32).map(|at| (self.next * 32 + at) as u32).collect(),
                emitted: Vec::new(),
                most_output: 100 + (self.next * 37 % 300) as usize,
                priority: 0,
                deadline: None,
                scope: vastrelay_engine::pages::chain_start(&[]),
                reads_all: false,
                fork_of: None,
                awaits_constraint: false,
                drafts: 0,
            };
            self.scheduler.arrive(arrival, self.now).expect("the queue has room");
        }
    }

    /// Plans and completes a step; returns the seconds.
    fn once(&mut self) -> f64 {
        self.now += 10_000;
        let begun = Instant::now();
        self.scheduler.plan(self.now, &mut self.plan);
        self.outcomes.clear();
        self.outcomes.extend(self.plan.rows.iter().map(|row| RowOutcome {
            sequence: row.sequence,
            tokens: if row.samples {
                [5].as_slice().into()
            } else {
                Default::default()
            },
            ended: false,
        }));
        self.scheduler.complete(&self.outcomes, Duration::from_millis(10));
        begun.elapsed().as_secs_f64()
    }

    /// Returns the mean of many steps, in which some end and others come in.
    fn step(&mut self) -> f64 {
        const STEPS: u32 = 200;
        let sum: f64 = (0..STEPS)
            .map(|_| {
                let seconds = self.once();
                self.fill();
                seconds
            })
            .sum();
        sum / f64::from(STEPS)
    }
}

/// The demo model with a full batch.
struct DemoSteps {
    runtime: Runtime,
    replica: Replica,
}

impl DemoSteps {
    fn new(path: &Path, machine: Machine) -> Result<DemoSteps> {
        let settings = ReplicaSettings {
            width: WIDTH,
            step_budget: 4_096,
            context: Some(512),
            queue_depth: 2 * WIDTH,
            queue_wait: None,
            prefill_chunk: None,
            isa: machine.isa,
            cores: CoreRequest::Free {
                least: 1,
                most: machine.cores,
            },
            split: 1,
            memory_share: 0.8,
            pages: None,
            typical: None,
            device: Device::cpu(8 << 30, Cores::part(machine.cores), || usize::MAX),
            weights: Precision::AsStored,
            kv: None,
        };
        Ok(DemoSteps {
            runtime: tokio::runtime::Builder::new_current_thread().build()?,
            replica: Replica::load(&Model::open(path)?, path, &settings).context("the demo model loads")?,
        })
    }

    /// Returns the median of the steps in which the whole batch decodes.
    fn step(&mut self) -> Result<f64> {
        let requests = (0..WIDTH as u32)
            .map(|seed| request(16, seed, 48))
            .map(|request| GenerationRequest {
                prompt: request.prompt.iter().map(|id| id % 300).collect(),
                ..request
            });
        let before = self.replica.generate.status().steps;
        self.runtime.block_on(async {
            let mut stream = self.replica.generate.submit(requests.collect()).await?;
            while stream.next().await.is_some() {}
            anyhow::Ok(())
        })?;
        let steps = self.replica.generate.steps_after(before, usize::MAX);
        let full = steps
            .iter()
            .filter(|step| step.lanes.iter().filter(|lane| lane.tokens == 1).count() == WIDTH);
        let seconds: Vec<f64> = full.map(|step| step.duration).collect();
        anyhow::ensure!(!seconds.is_empty(), "the batch was never full");
        Ok(median(&seconds))
    }
}
