//! Who sends what when.

use crate::prompts::Prompt;
use crate::record::{RequestRecord, Sample, ServiceSample, Setup};
use crate::run::{FORM, Run};
use crate::summary::Summary;
use crate::target::{Answer, Request, Seen, Target};
use crate::waiting::reach;
use crate::workload::{Arrival, Draws, Span, Workload};
use rand::rngs::StdRng;
use rand::seq::SliceRandom;
use rand::{Rng, SeedableRng};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use tokio::sync::watch;
use tokio::task::JoinSet;
use tokio::time::{Instant, sleep, sleep_until};
use vastrelay_wire::time::milliseconds_since_1970;

/// Time between two looks at how things stand.
const LOOK_EVERY: Duration = Duration::from_millis(250);
/// How long before it is due a request's task begins.
const HEAD_START: f64 = 0.012;
/// Gaps that a run keeps one by one, over all requests.
const MOST_GAPS: usize = 1_000_000;

/// How a run is getting on.
#[derive(Clone, Debug, Default)]
pub struct RunProgress {
    /// Whether the warm-up has not ended yet.
    pub warming_up: bool,
    /// Seconds since the start.
    pub seconds: f64,
    /// Requests sent.
    pub sent: usize,
    /// Requests that are over.
    pub ended: usize,
    /// Of those, with an error.
    pub errors: usize,
    /// Tokens of answers so far.
    pub output_tokens: usize,
    /// Times to first token of the last requests that ended, in seconds.
    pub recent_ttft: Vec<f64>,
    /// The service's side, where it tells.
    pub service: Option<ServiceSample>,
}

/// What all senders share.
struct Field<T> {
    target: T,
    workload: Workload,
    prompts: Vec<Arc<Prompt>>,
    order: Vec<usize>,
    start: Instant,
    next: AtomicUsize,
    running: AtomicUsize,
    records: Mutex<Vec<RequestRecord>>,
    stop: watch::Receiver<bool>,
}

/// Sends a workload and returns what came of it. `stop` ends it early; `tell` hears four times a second how it gets on.
///
/// # Errors
/// When the workload cannot be, or there is no prompt.
pub async fn run<T: Target>(
    name: &str,
    url: &str,
    target: T,
    workload: Workload,
    prompts: Vec<Prompt>,
    stop: watch::Receiver<bool>,
    mut tell: impl FnMut(RunProgress),
) -> Result<Run, String> {
    workload.check()?;
    if prompts.is_empty() {
        return Err("no prompts to send".into());
    }
    let mut order: Vec<usize> = (0..prompts.len()).collect();
    order.shuffle(&mut workload.random(Draws::Order));
    let mut field = Field {
        target,
        workload,
        prompts: prompts.into_iter().map(Arc::new).collect(),
        order,
        start: Instant::now(),
        next: AtomicUsize::new(0),
        running: AtomicUsize::new(0),
        records: Mutex::default(),
        stop,
    };
    tell(RunProgress {
        warming_up: true,
        ..RunProgress::default()
    });
    field.warm_up().await;
    let before = field.target.look().await.served();
    let begun_ms = milliseconds_since_1970();
    field.start = Instant::now();
    let field = Arc::new(field);
    let mut samples = Vec::new();
    let mut gone = Gone::new(before.is_some());
    {
        let sending = send_all(field.clone());
        tokio::pin!(sending);
        loop {
            tokio::select! {
                () = &mut sending => break,
                () = sleep(LOOK_EVERY) => {
                    let (sample, seen) = field.look().await;
                    tell(field.progress(&sample));
                    samples.push(sample);
                    // Further requests would only be refused; dropping the senders ends those under way.
                    if gone.is_certain_with(seen) {
                        break;
                    }
                }
            }
        }
    }
    let (last, _) = field.look().await;
    tell(field.progress(&last));
    samples.push(last);
    let after = field.target.look().await.served();
    let mut requests = std::mem::take(&mut *field.records());
    requests.sort_by(|a, b| a.due.total_cmp(&b.due));
    let last_end = requests.iter().map(|request| request.ended).fold(0.0, f64::max);
    let seconds = match field.workload.span {
        Span::Seconds(seconds) => seconds.min(last_end.max(0.001)),
        Span::Requests(_) => last_end,
    };
    let setup = Setup {
        url: url.to_owned(),
        generator_cores: std::thread::available_parallelism().map_or(1, usize::from),
        before,
        after,
    };
    let summary = Summary::new(&field.workload, &setup, &requests, &samples, seconds);
    if requests.iter().map(|request| request.gaps_us.len()).sum::<usize>() > MOST_GAPS {
        requests.iter_mut().for_each(|request| request.gaps_us = Vec::new());
    }
    Ok(Run {
        form: FORM,
        id: format!("{:x}-{:04x}", begun_ms / 1000, rand::rng().random::<u16>()),
        name: name.to_owned(),
        begun_ms,
        workload: field.workload.clone(),
        setup,
        seconds,
        stopped_early: *field.stop.borrow() || gone.why.is_some(),
        ended_because: gone.why,
        requests,
        samples,
        summary,
    })
}

/// Whether the endpoint is gone that the load is sent to.
struct Gone {
    was_served: bool,
    /// The reason that the last look saw.
    last: Option<String>,
    /// Why, once it is certain.
    why: Option<String>,
}

impl Gone {
    fn new(was_served: bool) -> Gone {
        Gone {
            was_served,
            last: None,
            why: None,
        }
    }

    /// Takes a look and returns whether the endpoint is gone. Two looks in a row must miss it, as a change may hide it for a moment.
    fn is_certain_with(&mut self, seen: Seen) -> bool {
        match seen {
            Seen::Served(_) => (self.was_served, self.last) = (true, None),
            Seen::Gone(why) if self.was_served => match self.last.take() {
                Some(_) => self.why = Some(why),
                None => self.last = Some(why),
            },
            Seen::Gone(_) | Seen::Nothing => {}
        }
        self.why.is_some()
    }
}

/// Sends everything and waits for all answers.
async fn send_all<T: Target>(field: Arc<Field<T>>) {
    match field.workload.arrival.clone() {
        Arrival::Closed { users } => users_in_steps(field, vec![users], f64::INFINITY).await,
        Arrival::Steps { users, seconds } => users_in_steps(field, users, seconds).await,
        Arrival::Poisson { rate } => arrivals(field, rate).await,
    }
}

/// Each user sends its next request when the last has ended, while its step lasts.
async fn users_in_steps<T: Target>(field: Arc<Field<T>>, steps: Vec<usize>, seconds: f64) {
    let steps = Arc::new(steps);
    let most = steps.iter().copied().max().unwrap_or(0);
    let mut users = JoinSet::new();
    for user in 0..most {
        let (field, steps) = (field.clone(), steps.clone());
        users.spawn(async move {
            while !field.is_over() {
                let now = field.seconds();
                let step = (now / seconds) as usize;
                match steps.get(step) {
                    None => return,
                    Some(present) if user >= *present => field.sleep_until((step + 1) as f64 * seconds).await,
                    Some(_) => match field.number() {
                        Some(number) => {
                            let ready = field.target.ready(&field.request(number));
                            let wait = field.send(ready, None).await;
                            // Whoever is refused comes back when it is told to.
                            if let Some(wait) = wait {
                                field.sleep_until(field.seconds() + wait.as_secs_f64()).await;
                            }
                        }
                        None => return,
                    },
                }
            }
        });
    }
    while users.join_next().await.is_some() {}
}

/// Requests are sent when they are due, however many are under way.
async fn arrivals<T: Target>(field: Arc<Field<T>>, rate: f64) {
    let mut requests = JoinSet::new();
    for due in field.workload.due_moments(rate) {
        if matches!(field.workload.span, Span::Seconds(seconds) if due >= seconds) {
            break;
        }
        let Some(number) = field.number() else { break };
        let ready = field.target.ready(&field.request(number));
        field.sleep_until(due - HEAD_START).await;
        if field.is_over() {
            break;
        }
        // Already under way when it is due: starting a task may take a thread's waking.
        let field = field.clone();
        requests.spawn(async move {
            reach(field.start + Duration::from_secs_f64(due)).await;
            if !*field.stop.borrow() {
                field.send(ready, Some(due)).await;
            }
        });
        while requests.try_join_next().is_some() {}
    }
    while requests.join_next().await.is_some() {}
}

impl<T: Target> Field<T> {
    async fn warm_up(&self) {
        let count = self.workload.warm_up;
        let at_once = match &self.workload.arrival {
            Arrival::Closed { users } => *users,
            Arrival::Steps { users, .. } => users.iter().copied().max().unwrap_or(1),
            Arrival::Poisson { .. } => 8,
        };
        let requests = (0..count).map(|number| self.target.send(self.target.ready(&self.warming(number))));
        let mut under_way =
            futures_util::stream::StreamExt::buffer_unordered(futures_util::stream::iter(requests), at_once);
        while futures_util::StreamExt::next(&mut under_way).await.is_some() {
            if *self.stop.borrow() {
                return;
            }
        }
    }

    /// Returns the number of the next request, or `None` when all are sent.
    fn number(&self) -> Option<usize> {
        let number = self.next.fetch_add(1, Ordering::Relaxed);
        match self.workload.span {
            Span::Requests(count) if number >= count => None,
            _ => Some(number),
        }
    }

    /// Returns a request of the warm-up: from the other end of the prompts, so that it leaves nothing to be reused.
    fn warming(&self, number: usize) -> Request {
        let last = self.order.len() - 1;
        Request {
            prompt: self.prompts[self.order[last - number % self.order.len()]].clone(),
            ..self.request(usize::MAX - number)
        }
    }

    fn request(&self, number: usize) -> Request {
        let mut random =
            StdRng::seed_from_u64(self.workload.seed ^ (number as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15));
        let prompt = self.prompts[self.order[number % self.order.len()]].clone();
        Request {
            prompt,
            most_tokens: self.workload.output.map(|lengths| lengths.draw(&mut random)),
            force_length: self.workload.force_length,
            seed: random.random(),
        }
    }

    /// Sends a request, which is due when it leaves unless a moment is given; returns how long its sender should wait before
    /// the next.
    async fn send(&self, ready: T::Ready, due: Option<f64>) -> Option<Duration> {
        self.running.fetch_add(1, Ordering::Relaxed);
        let handed_over = self.seconds();
        let answer = self.target.send(ready).await;
        self.running.fetch_sub(1, Ordering::Relaxed);
        let wait = answer.retry_after;
        let record = self.record(answer, due, handed_over);
        self.records().push(record);
        wait
    }

    fn record(&self, answer: Answer, due: Option<f64>, handed_over: f64) -> RequestRecord {
        let since = |moment: Instant| moment.duration_since(self.start).as_secs_f64();
        let sent = answer.sent.map_or(handed_over, since);
        let gap = |pair: &[Instant]| pair[1].duration_since(pair[0]).as_micros().min(u32::MAX.into()) as u32;
        RequestRecord {
            due: due.unwrap_or(sent),
            sent,
            first_token: answer.tokens.first().map(|first| since(*first)),
            ended: since(answer.ended),
            gaps_us: answer.tokens.windows(2).map(gap).collect(),
            prompt_tokens: answer.prompt_tokens,
            reused_tokens: answer.reused_tokens,
            output_tokens: answer.output_tokens,
            error: answer.error,
        }
    }

    async fn look(&self) -> (Sample, Seen) {
        // What ran is counted when the look begins: the service may be slow to tell.
        let (at, running) = (self.seconds(), self.running.load(Ordering::Relaxed));
        let seen = self.target.look().await;
        let service = seen.clone().served().map(|endpoint| ServiceSample {
            queue_depth: endpoint.occupancy.queue_depth,
            lanes_used: endpoint.occupancy.lanes_used,
            pages_used: endpoint.occupancy.pages_used,
            preemptions: endpoint.totals.preemptions,
            busy: endpoint.totals.busy,
        });
        (Sample { at, running, service }, seen)
    }

    fn progress(&self, sample: &Sample) -> RunProgress {
        let records = self.records();
        let ended = records.len();
        RunProgress {
            warming_up: false,
            seconds: sample.at,
            sent: ended + sample.running,
            ended,
            errors: records.iter().filter(|record| record.error.is_some()).count(),
            output_tokens: records.iter().map(|record| record.output_tokens).sum(),
            recent_ttft: records.iter().rev().take(50).filter_map(RequestRecord::ttft).collect(),
            service: sample.service,
        }
    }

    fn records(&self) -> MutexGuard<'_, Vec<RequestRecord>> {
        self.records.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn seconds(&self) -> f64 {
        self.start.elapsed().as_secs_f64()
    }

    fn is_over(&self) -> bool {
        *self.stop.borrow() || matches!(self.workload.span, Span::Seconds(seconds) if self.seconds() >= seconds)
    }

    /// Sleeps until a moment, or until somebody stops the run.
    async fn sleep_until(&self, seconds: f64) {
        let mut stop = self.stop.clone();
        tokio::select! {
            () = sleep_until(self.start + Duration::from_secs_f64(seconds.clamp(0.0, 1e9))) => {}
            _ = stop.wait_for(|stop| *stop) => {}
        }
    }
}
