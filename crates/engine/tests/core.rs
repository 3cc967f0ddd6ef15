//! The engine core in virtual time: random histories against a device that remembers tokens instead of keys and values.

use compact_str::CompactString;
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::sync::{Arc, OnceLock};
use std::time::Duration;
use vastrelay_engine::engine::core::{Effects, EngineCore, Input};
use vastrelay_engine::engine::frame::EngineCommand;
use vastrelay_engine::executor::{BatchRow, PageCopy, RowResult, StepBatch, StepResult, Want};
use vastrelay_engine::head::SequenceHead;
use vastrelay_engine::request::{Emitted, RequestKind};
use vastrelay_engine::sampling::Chosen;
use vastrelay_engine::tables::PageTables;
use vastrelay_engine::token::{TokenLogprob, TokenLogprobs};
use vastrelay_engine::{EndReason, Event, GenerationRequest, Limits, PAGE_TOKENS, PoolLimits, Refusal, Sampling};
use vastrelay_text::{StopStrings, TokenPieces, Tokenizer};

/// Tokens that are chosen among.
const VOCABULARY: u64 = 40;
const PAGES: usize = 24;
const END: u32 = 7;

fn pieces() -> Arc<TokenPieces> {
    static PIECES: OnceLock<Arc<TokenPieces>> = OnceLock::new();
    let open = || {
        let demo = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/models/pierdesk-1");
        Tokenizer::open(demo.as_ref()).unwrap().pieces().clone()
    };
    PIECES.get_or_init(open).clone()
}

/// Returns what the fake model says after tokens.
fn follows(tokens: &[u32], banned: &[u32]) -> u32 {
    let hash = tokens.iter().fold(1_469_598_103_934_665_603u64, |hash, token| {
        (hash ^ u64::from(*token)).wrapping_mul(1_099_511_628_211)
    });
    let all = (0..VOCABULARY).map(|at| 300 + ((hash >> 20) + at) % VOCABULARY);
    let ends = (hash >> 50) % 16 == 0;
    let first = ends.then_some(END).into_iter().chain(all.map(|id| id as u32));
    first.into_iter().find(|id| !banned.contains(id)).unwrap()
}

fn scored(before: &[u32], token: u32) -> TokenLogprobs {
    let logprob = -(follows(before, &[]) as f32) - token as f32 / 1_000.0;
    (TokenLogprob { id: token, logprob }, Vec::new())
}

/// A device whose pages hold tokens: whatever the engine makes of pages shows in what is said next.
struct Device {
    tables: PageTables,
    pages: Vec<[u32; PAGE_TOKENS]>,
}

impl Device {
    fn run(&mut self, batch: &StepBatch) -> Vec<RowResult> {
        for PageCopy { from, to, .. } in &batch.copies {
            self.pages[*to as usize] = self.pages[*from as usize];
        }
        batch.rows.iter().for_each(|row| self.tables.change(row));
        for row in &batch.rows {
            for (at, token) in (row.start..).zip(&row.tokens) {
                let page = self.tables.of(row.slot, 0)[at / PAGE_TOKENS];
                self.pages[page as usize][at % PAGE_TOKENS] = *token;
            }
        }
        batch.rows.iter().map(|row| self.row(row)).collect()
    }

    fn row(&self, row: &BatchRow) -> RowResult {
        let table = self.tables.of(row.slot, 0);
        let token = |at: usize| self.pages[table[at / PAGE_TOKENS] as usize][at % PAGE_TOKENS];
        let end = row.start + row.tokens.len();
        let seen: Vec<u32> = (0..end).map(token).collect();
        let mut result = RowResult::default();
        if let Want::Token(choice) = &row.want {
            result.chosen.push(Chosen {
                id: follows(&seen, choice.banned()),
                logprobs: None,
            });
        }
        if let Some(wanted) = &row.logprobs {
            let tokens = seen[row.start + 1..].iter().copied().chain(wanted.next);
            let logprobs = (row.start + 1..).zip(tokens);
            result.logprobs = logprobs.map(|(at, token)| scored(&seen[..at], token)).collect();
        }
        result
    }
}

/// What a call wants: prompts that resemble each other, so that they share pages.
#[derive(Clone, Debug)]
struct Wish {
    prompts: Vec<(usize, usize)>,
    choices: u32,
    tokens: usize,
    least: usize,
    stop: bool,
    logprobs: bool,
    priority: i8,
    time_limit: Option<u64>,
}

#[derive(Clone, Debug)]
enum Act {
    Submit(Wish),
    /// Cancels one of the calls under way.
    Cancel(usize),
    /// Lets time pass.
    Pass(u64),
    /// Ends the step under way, after so many microseconds of the device.
    Step(u64),
}

fn wish() -> impl Strategy<Value = Wish> {
    let parts = (
        proptest::collection::vec((0usize..3, 1usize..60), 1..3),
        1u32..4,
        0usize..40,
        0usize..10,
        any::<[bool; 2]>(),
        -2i8..3,
        proptest::option::weighted(0.2, 500u64..30_000),
    );
    parts.prop_map(
        |(prompts, choices, tokens, least, [stop, logprobs], priority, time_limit)| Wish {
            prompts,
            choices,
            tokens: if logprobs { tokens } else { tokens.max(1) },
            least,
            stop,
            logprobs,
            priority,
            time_limit,
        },
    )
}

fn act() -> impl Strategy<Value = Act> {
    prop_oneof![
        2 => wish().prop_map(Act::Submit),
        1 => (0usize..8).prop_map(Act::Cancel),
        1 => (1u64..5_000).prop_map(Act::Pass),
        6 => (1u64..2_000).prop_map(Act::Step),
    ]
}

impl Wish {
    fn requests(&self) -> Vec<GenerationRequest> {
        let request = |(family, length): &(usize, usize)| GenerationRequest {
            choices: self.choices,
            end_ids: vec![END],
            least_tokens: self.least,
            stop: StopStrings::new(if self.stop { &["e", "ing"][..] } else { &[] }),
            logprobs_of_prompt: self.logprobs.then_some(0),
            priority: self.priority,
            time_limit: self.time_limit.map(Duration::from_micros),
            ..GenerationRequest::new(
                (0..*length as u32).map(|at| 400 + at * 3 + *family as u32).collect(),
                self.tokens,
            )
        };
        self.prompts.iter().map(request).collect()
    }
}

/// What a completion would come to alone.
fn alone(request: &GenerationRequest, choice: u32) -> (Vec<u32>, CompactString, EndReason) {
    let mut head = SequenceHead::new(Arc::new(request.clone()), choice, pieces());
    let (mut all, mut ids, mut text) = (request.prompt.clone(), Vec::new(), CompactString::default());
    if !head.wants_more() {
        return (ids, text, EndReason::Length);
    }
    loop {
        let id = follows(&all, head.next_choice().banned());
        all.push(id);
        ids.push(id);
        let accepted = head.accept(id);
        text.push_str(&accepted.text);
        if let Some(reason) = accepted.end {
            return (ids, text, reason);
        }
    }
}

/// What has come of a call.
struct Call {
    requests: Vec<GenerationRequest>,
    arrived: u64,
    answer: Option<Result<(), Refusal>>,
    cancelled: bool,
    /// Of each completion: tokens, text, and how it ended.
    said: BTreeMap<u32, (Vec<u32>, CompactString, Option<EndReason>)>,
    logprobs: BTreeMap<u32, Vec<TokenLogprobs>>,
    /// Whether all of its output was told here.
    counts_output: bool,
}

impl Call {
    fn all(&self) -> Vec<(GenerationRequest, u32)> {
        let each = |request: &GenerationRequest| (0..request.choices).map(|choice| (request.clone(), choice)).collect();
        self.requests
            .iter()
            .flat_map(|request| -> Vec<_> { each(request) })
            .collect()
    }

    /// Whether nothing more is to come.
    fn is_over(&self) -> bool {
        match &self.answer {
            None => false,
            Some(Err(_)) => true,
            Some(Ok(())) => {
                let ended = self.said.values().filter(|(.., end)| end.is_some()).count();
                ended == self.all().len()
            }
        }
    }

    fn note(&mut self, event: Event, now: u64) {
        match event {
            Event::Admitted { .. } => {}
            Event::Prompt { choice, logprobs } => {
                assert!(
                    self.logprobs.insert(choice, logprobs).is_none(),
                    "logprobs are told once"
                );
            }
            Event::Piece(piece) => {
                let (ids, text, end) = self.said.entry(piece.choice).or_default();
                assert!(end.is_none(), "a completion goes on after its end");
                ids.extend(piece.ids);
                text.push_str(&piece.text);
            }
            Event::Ended {
                choice,
                text: last,
                reason,
                metrics,
            } => {
                let (ids, text, end) = self.said.entry(choice).or_default();
                text.push_str(&last);
                assert!(end.replace(reason).is_none(), "a completion ends once");
                assert!(!self.counts_output || metrics.output_tokens == ids.len(), "{metrics:?}");
                let total = (now - self.arrived) as f64 / 1e6;
                assert!((metrics.total - total).abs() < 1e-9, "{metrics:?} after {total} s");
                assert!(metrics.queued + metrics.prefill <= metrics.total + 1e-9, "{metrics:?}");
                assert!(
                    metrics.itl_max <= metrics.total && metrics.itl_mean <= metrics.itl_max + 1e-9,
                    "{metrics:?}"
                );
            }
            Event::Failed(reason) => panic!("{reason}"),
        }
    }

    /// Compares what was said with what each completion says alone.
    fn judge(&self) {
        let (mut first_choice, mut begun) = (0, None);
        for (number, (request, choice)) in self.all().into_iter().enumerate() {
            let (ids, text, reason) = alone(&request, choice);
            let (said, shown, end) = &self.said[&(number as u32)];
            let end = end.expect("it has ended");
            match end {
                EndReason::Cancelled => assert!(self.cancelled, "nobody cancelled it"),
                EndReason::Deadline => assert!(request.time_limit.is_some(), "it had time"),
                _ => assert_eq!((said, shown, end), (&ids, &text, reason)),
            }
            assert!(
                ids.starts_with(said) && text.starts_with(shown.as_str()),
                "{shown:?} is no part of {text:?}"
            );
            if choice == 0 {
                (first_choice, begun) = (number as u32, Some(end));
            }
            if request.logprobs_of_prompt.is_some() && choice == 0 && begun == Some(reason) {
                let told = &self.logprobs[&first_choice];
                let wanted = (1..request.prompt.len()).map(|at| scored(&request.prompt[..at], request.prompt[at]));
                assert_eq!(*told, wanted.collect::<Vec<_>>());
            }
        }
    }
}

struct World {
    core: EngineCore,
    device: Device,
    effects: Effects,
    now: u64,
    under_way: Option<Vec<RowResult>>,
    calls: Vec<Call>,
}

impl World {
    fn new(width: usize, chunk: Option<usize>) -> World {
        let limits = Limits {
            width,
            step_budget: 64,
            context: 120,
            queue_depth: 12,
            queue_wait: None,
            pools: vec![PoolLimits {
                pages: PAGES,
                window: None,
            }],
            prefill_chunk: chunk,
        };
        World {
            core: EngineCore::new(pieces(), limits, "remembers".into()),
            device: Device {
                tables: PageTables::default(),
                pages: vec![[0; PAGE_TOKENS]; PAGES],
            },
            effects: Effects::default(),
            now: 0,
            under_way: None,
            calls: Vec::new(),
        }
    }

    fn act(&mut self, act: &Act) {
        match act {
            Act::Submit(wish) => {
                let requests = wish.requests();
                requests.iter().for_each(|request| request.check(4_096).unwrap());
                self.calls.push(Call {
                    requests: requests.clone(),
                    arrived: self.now,
                    answer: None,
                    cancelled: false,
                    said: BTreeMap::new(),
                    logprobs: BTreeMap::new(),
                    counts_output: true,
                });
                self.take(Input::Command(EngineCommand::Submit {
                    call: self.calls.len() as u64 - 1,
                    requests,
                    arrived: self.now,
                }));
            }
            Act::Cancel(number) => {
                let under_way: Vec<usize> = (0..self.calls.len()).filter(|at| !self.calls[*at].is_over()).collect();
                if let Some(call) = under_way.get(*number) {
                    self.calls[*call].cancelled = true;
                    self.take(Input::Command(EngineCommand::Cancel {
                        call: *call as u64,
                        reason: EndReason::Cancelled,
                    }));
                }
            }
            Act::Pass(time) => self.now += time,
            Act::Step(took) => self.step(*took),
        }
        if self.core.has_work() || self.core.next_deadline().is_some_and(|due| due <= self.now) {
            self.take(Input::Begin);
        }
    }

    /// Ends the step under way.
    fn step(&mut self, took: u64) {
        let Some(rows) = self.under_way.take() else { return };
        self.now += took;
        self.take(Input::Step(StepResult {
            rows,
            took: Duration::from_micros(took),
            ..StepResult::default()
        }));
    }

    fn take(&mut self, input: Input) {
        self.core.handle(input, self.now, &mut self.effects);
        for (call, answer) in self.effects.frame.answers.drain(..) {
            let before = self.calls[call as usize].answer.replace(answer);
            assert!(before.is_none(), "a call is answered once");
        }
        for (call, event) in self.effects.frame.events.drain(..) {
            self.calls[call as usize].note(event, self.now);
        }
        if let Some(batch) = self.effects.batch.take() {
            assert!(self.under_way.is_none(), "one step at a time");
            self.under_way = Some(self.device.run(&batch));
        }
        assert_eq!(self.core.is_stepping(), self.under_way.is_some());
        self.effects.spare = self.effects.frame.record.take();
    }

    /// Goes on until nothing is left to do.
    fn finish(&mut self) {
        for _ in 0..20_000 {
            if self.calls.iter().all(Call::is_over) {
                break;
            }
            self.act(&Act::Step(100));
        }
        self.act(&Act::Step(100));
    }
}

/// A call of one completion.
fn call(world: &mut World, request: GenerationRequest) {
    let requests = vec![request];
    let (arrived, number) = (world.now, world.calls.len() as u64);
    world.calls.push(Call {
        requests: requests.clone(),
        arrived,
        answer: None,
        cancelled: false,
        said: BTreeMap::new(),
        logprobs: BTreeMap::new(),
        counts_output: true,
    });
    world.take(Input::Command(EngineCommand::Submit {
        call: number,
        requests,
        arrived,
    }));
    world.act(&Act::Pass(0));
}

#[test]
fn the_time_to_come_back_is_the_time_of_calls_that_ran() {
    let mut world = World::new(1, None);
    let expected = |world: &World| world.core.status().residence;
    let before = expected(&world);
    for _ in 0..100 {
        call(&mut world, GenerationRequest::new(vec![300], 100));
        for _ in 0..8 {
            let impatient = GenerationRequest {
                time_limit: Some(Duration::from_micros(10)),
                ..GenerationRequest::new(vec![300], 10)
            };
            call(&mut world, impatient);
        }
        while !world.calls.iter().all(Call::is_over) {
            world.act(&Act::Step(2_000_000));
        }
    }
    // Each call that runs takes two seconds at least, and eight of nine never run.
    assert!(expected(&world) > 1.9, "{} s, {before} s before", expected(&world));
}

/// A row whose logits are not numbers.
fn not_finite() -> StepResult {
    let row = RowResult {
        not_finite: true,
        ..RowResult::default()
    };
    StepResult {
        rows: vec![row],
        ..StepResult::default()
    }
}

#[test]
fn a_worker_that_only_scores_texts_outlives_a_row_of_nan_unless_nothing_was_ever_a_number() {
    let scored = || GenerationRequest {
        logprobs_of_prompt: Some(0),
        ..GenerationRequest::new(vec![300, 301, 302], 0)
    };
    for is_sound in [true, false] {
        let mut world = World::new(1, None);
        if is_sound {
            call(&mut world, scored());
            world.finish();
            assert!(world.calls[0].logprobs.contains_key(&0), "it has scores");
        }
        call(&mut world, scored());
        world.under_way = None;
        world
            .core
            .handle(Input::Step(not_finite()), world.now, &mut world.effects);
        assert_eq!(world.effects.failure.is_none(), is_sound, "{:?}", world.effects.failure);
    }
}

/// A request of any form, sensible or not.
fn wild() -> impl Strategy<Value = GenerationRequest> {
    let ids = || proptest::collection::vec(0u32..4_200, 0..6);
    let number = || prop::sample::select(vec![0.0, 0.5, 1.0, 1.0, -1.0, f32::NAN, f32::INFINITY]);
    let emitted = (ids(), any::<bool>()).prop_map(|(ids, ended)| Emitted { ids, ended });
    let parts = (
        proptest::collection::vec(0u32..4_100, 0..40),
        proptest::collection::vec(emitted, 0..4),
        (0u32..4, 0usize..12, 0usize..14),
        proptest::option::of(0usize..3),
        (any::<[bool; 2]>(), ids(), ids()),
        proptest::array::uniform4(number()),
    );
    parts.prop_map(
        |(prompt, emitted, (choices, most, least), logprobs_of_prompt, ([told, embeds], end_ids, biased), numbers)| {
            GenerationRequest {
                kind: if embeds && told {
                    RequestKind::Embed
                } else {
                    RequestKind::Generate
                },
                choices,
                emitted,
                prompt_told: told,
                sampling: Sampling {
                    temperature: numbers[0],
                    top_p: numbers[1],
                    repetition_penalty: numbers[2],
                    logit_bias: biased.into_iter().map(|id| (id, numbers[3])).collect(),
                    ..Sampling::default()
                },
                end_ids,
                least_tokens: least,
                logprobs_of_prompt,
                ..GenerationRequest::new(prompt, most)
            }
        },
    )
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12_000))]
    #[test]
    fn whatever_passes_the_check_begins_and_ends(request in wild(), width in 1usize..4) {
        if request.check(4_096).is_err() {
            return Ok(());
        }
        let mut world = World::new(width, Some(9));
        let ended = request.emitted.iter().filter(|emitted| emitted.ended).count() as u32;
        world.calls.push(Call {
            requests: vec![GenerationRequest { choices: request.choices - ended, ..request.clone() }],
            arrived: 0,
            answer: None,
            cancelled: false,
            said: BTreeMap::new(),
            logprobs: BTreeMap::new(),
            counts_output: true,
        });
        world.calls[0].counts_output = false;
        world.take(Input::Command(EngineCommand::Submit { call: 0, requests: vec![request], arrived: 0 }));
        world.act(&Act::Pass(1));
        world.finish();
        prop_assert!(world.calls[0].is_over(), "it never ends");
    }

    #[test]
    fn every_completion_says_what_it_says_alone_and_ends_once(
        acts in proptest::collection::vec(act(), 1..40), width in 1usize..6, chunk in proptest::option::of(1usize..20),
    ) {
        let mut world = World::new(width, chunk);
        acts.iter().for_each(|act| world.act(act));
        world.finish();
        for call in &world.calls {
            prop_assert!(call.is_over(), "a call never ends");
            if call.answer == Some(Ok(())) {
                call.judge();
            } else {
                prop_assert!(call.said.is_empty(), "a refused call says something");
            }
        }
        let occupancy = world.core.status().occupancy;
        prop_assert_eq!((occupancy.lanes_used, occupancy.queue_depth, occupancy.pages_used), (0, 0, 0));
    }

    #[test]
    fn a_completion_goes_on_elsewhere_as_if_nothing_had_happened(
        wish in wish(), steps in 0usize..60, width in 1usize..6,
    ) {
        let wish = Wish { time_limit: None, ..wish };
        let mut world = World::new(width, None);
        world.act(&Act::Submit(wish));
        (0..steps).for_each(|_| world.act(&Act::Step(100)));
        let before = &world.calls[0];
        if before.answer != Some(Ok(())) || before.is_over() {
            return Ok(());
        }
        let mut requests = before.requests.clone();
        let mut number = 0;
        for request in &mut requests {
            request.prompt_told = before.logprobs.contains_key(&number);
            for _ in 0..request.choices {
                let (ids, _, end) = before.said.get(&number).cloned().unwrap_or_default();
                request.emitted.push(Emitted { ids, ended: end.is_some() });
                number += 1;
            }
            prop_assert_eq!(request.check(4_096), Ok(()));
        }
        let mut elsewhere = World::new(width, None);
        elsewhere.calls.push(Call { requests: requests.clone(), arrived: 0, answer: None, cancelled: false, said: before.said.clone(), logprobs: before.logprobs.clone(), counts_output: true });
        elsewhere.take(Input::Command(EngineCommand::Submit { call: 0, requests, arrived: 0 }));
        elsewhere.act(&Act::Pass(1));
        elsewhere.finish();
        prop_assert!(elsewhere.calls[0].is_over());
        elsewhere.calls[0].judge();
    }
}
