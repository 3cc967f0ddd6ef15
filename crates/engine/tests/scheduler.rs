//! The scheduler under random histories: no page leaked or freed twice, budgets kept, nobody starves, and every accepted
//! sequence ends exactly once.

use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;
use vastrelay_engine::pages::chain_start;
use vastrelay_engine::request::EndReason;
use vastrelay_engine::scheduler::{
    Arrival, Limits, PlannedRow, PoolLimits, PrefillOrder, Rejection, RowKind, RowOutcome, Scheduler, SequenceId,
    StepPlan,
};

const PAGE: usize = 16;

#[derive(Clone, Debug)]
enum Act {
    Arrive {
        prompt: usize,
        output: usize,
        priority: i8,
        deadline: Option<u64>,
        fork: bool,
        constraint: bool,
        drafts: usize,
        theme: u32,
        reads_all: bool,
    },
    Cancel(usize),
    Ready(usize),
    Step {
        tokens: u8,
        ends: u8,
    },
}

fn acts() -> impl Strategy<Value = Vec<Act>> {
    let arrive = (
        1usize..70,
        1usize..40,
        -1i8..2,
        prop::option::weighted(0.1, 1u64..40_000),
        any::<bool>(),
        0u8..10,
        0usize..4,
        (0u32..3, any::<bool>()),
    )
        .prop_map(
            |(prompt, output, priority, deadline, fork, constraint, drafts, (theme, reads_all))| Act::Arrive {
                prompt,
                output,
                priority,
                deadline,
                fork,
                constraint: constraint == 0,
                drafts,
                theme,
                reads_all,
            },
        );
    let act = prop_oneof![
        3 => arrive,
        1 => (0usize..20).prop_map(Act::Cancel),
        1 => (0usize..20).prop_map(Act::Ready),
        8 => (any::<u8>(), any::<u8>()).prop_map(|(tokens, ends)| Act::Step { tokens, ends }),
    ];
    prop::collection::vec(act, 1..60)
}

fn limits() -> impl Strategy<Value = Limits> {
    (
        1usize..6,
        0usize..40,
        prop::collection::vec((1usize..14, prop::option::of(1usize..60)), 1..4),
        1usize..8,
        prop::option::of(1usize..20),
        prop::option::of((1u64..40).prop_map(Duration::from_millis)),
    )
        .prop_map(|(width, extra, pools, queue_depth, prefill_chunk, queue_wait)| Limits {
            width,
            step_budget: width + extra,
            context: 120,
            queue_depth,
            queue_wait,
            pools: pools
                .into_iter()
                .map(|(pages, window)| PoolLimits { pages, window })
                .collect(),
            prefill_chunk,
        })
}

/// A scheduler with the bookkeeping to judge it by.
struct World {
    scheduler: Scheduler,
    now: u64,
    alive: BTreeMap<SequenceId, Arrival>,
    blocked: BTreeSet<SequenceId>,
    ended: BTreeSet<SequenceId>,
    /// Tokens, from the first on, that each sequence has computed itself.
    read: BTreeMap<SequenceId, usize>,
    /// When each sequence came.
    came: BTreeMap<SequenceId, u64>,
    /// Page tables by lane, as an executor keeps them.
    tables: BTreeMap<usize, Vec<Vec<u32>>>,
    /// The last plan, as a live engine plans into its memory.
    last: StepPlan,
    accepted: usize,
    next: u64,
}

impl World {
    fn new(limits: Limits) -> World {
        World {
            scheduler: Scheduler::new(limits),
            now: 0,
            alive: BTreeMap::new(),
            blocked: BTreeSet::new(),
            ended: BTreeSet::new(),
            read: BTreeMap::new(),
            came: BTreeMap::new(),
            tables: BTreeMap::new(),
            last: StepPlan::default(),
            accepted: 0,
            next: 0,
        }
    }

    fn act(&mut self, act: &Act) {
        match act {
            Act::Arrive {
                prompt,
                output,
                priority,
                deadline,
                fork,
                constraint,
                drafts,
                theme,
                reads_all,
            } => {
                let parent = if *fork { self.alive.iter().next_back() } else { None };
                let prompt = match parent {
                    Some((_, parent)) => parent.prompt.clone(),
                    None => (0..*prompt as u32).map(|i| i / 20 * 3 + theme).collect(),
                };
                self.arrive(Arrival {
                    id: SequenceId(self.next),
                    fork_of: parent.map(|(id, _)| *id),
                    prompt,
                    emitted: Vec::new(),
                    most_output: *output,
                    priority: *priority,
                    deadline: deadline.map(|d| self.now + d),
                    scope: chain_start(&[]),
                    reads_all: *reads_all,
                    awaits_constraint: *constraint,
                    drafts: *drafts,
                });
            }
            Act::Cancel(n) => {
                if let Some(id) = self.alive.keys().nth(*n).copied() {
                    self.scheduler.cancel(id);
                }
            }
            Act::Ready(n) => {
                if let Some(id) = self.blocked.iter().nth(*n).copied() {
                    self.ready(id);
                }
            }
            Act::Step { tokens, ends } => {
                self.step(*tokens, *ends);
            }
        }
        self.scheduler.check();
    }

    fn ready(&mut self, id: SequenceId) {
        self.blocked.remove(&id);
        self.scheduler.constraint_ready(id);
    }

    fn arrive(&mut self, arrival: Arrival) {
        self.next += 1;
        let waiting = self.scheduler.occupancy().queue_depth;
        let limits = self.scheduler.limits().clone();
        let longest = limits.longest_sequence();
        match self.scheduler.arrive(arrival.clone(), self.now) {
            Ok(()) => {
                assert!(waiting < limits.queue_depth && arrival.prompt.len() + arrival.most_output <= longest);
                self.accepted += 1;
                if arrival.awaits_constraint {
                    self.blocked.insert(arrival.id);
                }
                self.came.insert(arrival.id, self.now);
                self.alive.insert(arrival.id, arrival);
            }
            Err(Rejection::QueueFull { depth }) => assert!(depth >= limits.queue_depth),
            Err(Rejection::TooLong { wanted, limit }) => assert!(wanted > limit && limit == longest),
        }
    }

    fn end(&mut self, id: SequenceId) {
        assert!(self.alive.remove(&id).is_some(), "{id:?} ended without being alive");
        self.blocked.remove(&id);
        assert!(self.ended.insert(id), "{id:?} ended twice");
    }

    /// Plans and completes a step; returns the plan.
    fn step(&mut self, tokens: u8, ends: u8) -> StepPlan {
        self.now += 1_000;
        // What is due ends whatever was steady.
        let is_due = self.scheduler.next_deadline().is_some_and(|due| due <= self.now);
        let steady = if is_due { 0 } else { self.scheduler.steady_steps() };
        let mut plan = std::mem::take(&mut self.last);
        self.scheduler.plan(self.now, &mut plan);
        self.last = plan.clone();
        self.judge(&plan, steady);
        for (id, reason) in &plan.ended {
            let overdue = self.alive[id].deadline.is_some_and(|deadline| deadline <= self.now);
            let waited = Duration::from_micros(self.now - self.came[id]);
            let too_long = self.scheduler.limits().queue_wait.is_some_and(|most| waited >= most);
            match reason {
                EndReason::Cancelled => {}
                EndReason::Deadline => assert!(overdue),
                // Who was in the batch once waits for it as long as it takes.
                EndReason::QueueWait => assert!(too_long && !overdue && !self.read.contains_key(id)),
                other => panic!("{id:?} ended with {other:?}"),
            }
            self.end(*id);
        }
        if plan.rows.is_empty() {
            return plan;
        }
        self.change_tables(&plan);
        let outcomes: Vec<RowOutcome> = plan.rows.iter().map(|row| self.outcome(row, tokens, ends)).collect();
        let of = |kind| plan.rows.iter().filter(move |row| row.kind == kind);
        let prompts: usize = of(RowKind::Prefill).map(|row| row.tokens).sum();
        let took = 100 + 30 * of(RowKind::Decode).count() + 20 * prompts;
        self.scheduler.complete(&outcomes, Duration::from_micros(took as u64));
        for (row, outcome) in plan.rows.iter().zip(&outcomes) {
            let read = self.read.entry(row.sequence).or_default();
            *read = (*read).max(row.start + row.tokens);
            let arrival = &self.alive[&row.sequence];
            let most = arrival.prompt.len() + arrival.most_output;
            let total = row.start + row.tokens + outcome.tokens.len();
            if outcome.ended || (row.samples && total == most && !outcome.tokens.is_empty()) {
                self.end(row.sequence);
            }
        }
        plan
    }

    /// Changes the tables as an executor would, which makes them what the scheduler has.
    fn change_tables(&mut self, plan: &StepPlan) {
        for row in &plan.rows {
            let wanted = self.scheduler.pages(row.sequence);
            let tables = self.tables.entry(row.lane).or_default();
            tables.resize(wanted.len(), Vec::new());
            let changes = self.scheduler.table_changes(row.sequence);
            for (table, change) in tables.iter_mut().zip(changes) {
                assert!(change.keep <= table.len(), "pages that the executor has not");
                table.truncate(change.keep);
                table.extend(change.pages);
            }
            assert_eq!(*tables, wanted, "the tables of lane {}", row.lane);
            assert!(self.scheduler.table_changes(row.sequence).is_empty());
        }
    }

    /// Between no token and all there is room for, now and then an end.
    fn outcome(&self, row: &PlannedRow, tokens: u8, ends: u8) -> RowOutcome {
        let dice = u64::from(tokens) + row.sequence.0 * 7;
        let count = if row.samples {
            (dice as usize % 5).min(1 + row.draft_room)
        } else {
            0
        };
        let tokens = (0..count as u32).map(|i| i + tokens as u32).collect();
        RowOutcome {
            sequence: row.sequence,
            tokens,
            ended: row.samples && (u64::from(ends) + row.sequence.0).is_multiple_of(37),
        }
    }

    fn judge(&self, plan: &StepPlan, steady: usize) {
        let limits = self.scheduler.limits();
        let spent: usize = plan.rows.iter().map(|row| row.tokens + row.draft_room).sum();
        assert!(spent <= limits.step_budget, "{spent} tokens of {}", limits.step_budget);
        assert!(plan.rows.len() <= limits.width);
        let lanes: BTreeSet<usize> = plan.rows.iter().map(|row| row.lane).collect();
        assert_eq!(lanes.len(), plan.rows.len(), "a lane has two rows");
        assert!(lanes.iter().all(|lane| *lane < limits.width));
        for row in &plan.rows {
            let arrival = &self.alive[&row.sequence];
            let read = self.read.get(&row.sequence).copied().unwrap_or(0);
            assert!(
                !arrival.reads_all || row.start.min(arrival.prompt.len()) <= read,
                "a token of a prompt that is to be read whole was taken from the cache"
            );
            assert!(row.tokens > 0 && !self.blocked.contains(&row.sequence));
            assert!(row.kind == RowKind::Decode || row.tokens <= limits.prefill_chunk.unwrap_or(usize::MAX));
            for table in self.scheduler.pages(row.sequence) {
                assert!(
                    table.len() * PAGE >= row.start + row.tokens + row.draft_room,
                    "no page for a planned token"
                );
            }
        }
        let preempted: BTreeSet<SequenceId> = plan.preempted.iter().map(|(id, _)| *id).collect();
        assert!(plan.rows.iter().all(|row| !preempted.contains(&row.sequence)));
        if steady > 0 {
            assert!(
                plan.rows
                    .iter()
                    .all(|row| row.kind == RowKind::Decode && row.tokens == 1)
            );
            assert!(plan.admitted.is_empty() && plan.preempted.is_empty() && plan.ended.is_empty());
        }
        let gone: BTreeSet<SequenceId> = plan.ended.iter().map(|(id, _)| *id).collect();
        let ready = self
            .alive
            .keys()
            .any(|id| !self.blocked.contains(id) && !gone.contains(id));
        assert!(!ready || !plan.rows.is_empty(), "somebody could run and nobody does");
    }

    /// Lets everything come to its end.
    fn drain(&mut self) {
        while let Some(id) = self.blocked.iter().next().copied() {
            self.ready(id);
        }
        for round in 0.. {
            if self.alive.is_empty() {
                break;
            }
            assert!(round < 200_000, "{:?} starve", self.alive.keys());
            self.step(round as u8 % 3 + 1, 1);
        }
        self.scheduler.check();
        assert!(self.scheduler.is_idle());
        assert!(
            self.scheduler.pages_used().iter().all(|used| *used == 0),
            "pages leaked"
        );
        assert_eq!(self.ended.len(), self.accepted);
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 12_000, max_shrink_iters: 20_000, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn random_histories_keep_every_promise(limits in limits(), acts in acts()) {
        let mut world = World::new(limits);
        for act in &acts {
            world.act(act);
        }
        world.drain();
    }
}

fn arrival(id: u64, prompt: usize, output: usize) -> Arrival {
    Arrival {
        id: SequenceId(id),
        prompt: (0..prompt as u32).map(|i| i + id as u32 * 1000).collect(),
        emitted: Vec::new(),
        most_output: output,
        priority: 0,
        deadline: None,
        scope: chain_start(&[]),
        reads_all: false,
        fork_of: None,
        awaits_constraint: false,
        drafts: 0,
    }
}

fn limits_of(width: usize, pages: usize) -> Limits {
    Limits {
        width,
        step_budget: 64,
        context: 512,
        queue_depth: 1000,
        queue_wait: None,
        pools: vec![PoolLimits { pages, window: None }],
        prefill_chunk: None,
    }
}

/// Layers that see all, and layers that see twenty tokens.
fn mixed(far: usize, near: usize) -> Vec<PoolLimits> {
    let pool = |(pages, window)| PoolLimits { pages, window };
    [(far, None), (near, Some(20))].into_iter().map(pool).collect()
}

#[test]
fn a_pool_with_a_window_holds_a_sequence_that_is_longer_than_it() {
    let mut world = World::new(Limits {
        step_budget: 16,
        pools: mixed(30, 5),
        ..limits_of(1, 0)
    });
    // Twenty tokens that are seen and sixteen that are computed lie in four pages at most.
    assert_eq!(world.scheduler.limits().longest_sequence(), 480);
    world.arrive(arrival(0, 300, 180));
    while !world.alive.is_empty() {
        assert!(world.step(1, 1).preempted.is_empty());
    }
    let limits = Limits {
        step_budget: 16,
        pools: mixed(30, 3),
        ..limits_of(1, 0)
    };
    assert_eq!(limits.longest_sequence(), 48);
}

#[test]
fn only_what_is_still_seen_has_to_be_in_the_cache() {
    let mut world = World::new(Limits {
        pools: mixed(40, 8),
        ..limits_of(1, 0)
    });
    let prompt = Arrival {
        most_output: 1,
        ..arrival(0, 200, 1)
    };
    let run = |world: &mut World, arrival: Arrival| {
        let (id, mut reused) = (arrival.id, None);
        world.arrive(arrival);
        while world.alive.contains_key(&id) {
            reused = reused.or(world.step(2, 1).admitted.first().map(|(_, reused)| *reused));
        }
        reused.unwrap()
    };
    assert_eq!(run(&mut world, prompt.clone()), 0);
    // The near layers' first pages were taken for the later ones, and nobody needs them.
    let again = Arrival {
        id: SequenceId(1),
        ..prompt.clone()
    };
    assert_eq!(run(&mut world, again), 192);
    // Another sequence takes the near layers' pages; the far ones are still there, and of no use alone.
    run(&mut world, arrival(2, 200, 1));
    let late = Arrival {
        id: SequenceId(3),
        ..prompt
    };
    assert_eq!(run(&mut world, late), 0);
}

#[test]
fn pages_that_a_window_has_left_are_given_back_while_the_sequence_goes_on() {
    let mut world = World::new(Limits {
        pools: vec![PoolLimits {
            pages: 40,
            window: Some(20),
        }],
        ..limits_of(1, 40)
    });
    world.arrive(arrival(0, 10, 300));
    let mut most = 0;
    while world.alive.contains_key(&SequenceId(0)) {
        world.step(1, 0);
        most = most.max(world.scheduler.occupancy().pages_used);
    }
    // Twenty tokens lie in three pages at most.
    assert!(most <= 3, "{most} pages");
}

#[test]
fn a_low_priority_is_late_but_never_starved_by_a_stream_of_higher_ones() {
    let mut world = World::new(limits_of(2, 8));
    world.arrive(arrival(0, 20, 10));
    world.arrive(arrival(1, 20, 10));
    world.step(1, 1);
    world.arrive(Arrival {
        priority: -2,
        ..arrival(2, 30, 30)
    });
    let mut steps = 0;
    while world.alive.contains_key(&SequenceId(2)) {
        if world.scheduler.occupancy().queue_depth < 5 {
            let id = world.next;
            world.arrive(arrival(id, 20, 10));
        }
        world.step((steps % 5) as u8, 1);
        steps += 1;
        assert!(steps < 20_000, "starved");
    }
    assert!(steps > 1_000, "it was not late at all: {steps}");
}

#[test]
fn a_finished_sequence_makes_room_at_the_very_next_step() {
    let mut world = World::new(limits_of(1, 8));
    world.arrive(arrival(0, 4, 1));
    world.arrive(arrival(1, 4, 1));
    let (first, second) = (world.step(1, 1), world.step(1, 1));
    assert_eq!(first.rows[0].sequence, SequenceId(0));
    assert_eq!(second.rows[0].sequence, SequenceId(1));
}

#[test]
fn when_pages_run_out_the_youngest_goes_and_comes_back() {
    let mut world = World::new(limits_of(2, 4));
    world.arrive(arrival(0, 16, 40));
    world.arrive(arrival(1, 16, 40));
    let mut preempted = Vec::new();
    while !world.alive.is_empty() {
        preempted.extend(world.step(1, 1).preempted.into_iter().map(|(id, _)| id));
    }
    assert!(
        !preempted.is_empty() && preempted.iter().all(|id| *id == SequenceId(1)),
        "{preempted:?}"
    );
}

#[test]
fn an_equal_prompt_is_found_in_the_cache_but_not_across_scopes() {
    let mut world = World::new(limits_of(2, 20));
    let prompt = arrival(0, 50, 1);
    let reused = |world: &mut World, arrival: Arrival| {
        world.arrive(arrival);
        world.step(1, 1).admitted[0].1
    };
    assert_eq!(reused(&mut world, prompt.clone()), 0);
    assert_eq!(
        reused(
            &mut world,
            Arrival {
                id: SequenceId(1),
                ..prompt.clone()
            }
        ),
        48
    );
    let other = Arrival {
        id: SequenceId(2),
        scope: chain_start(&[b"another cache_scope"]),
        ..prompt
    };
    assert_eq!(reused(&mut world, other), 0);
}

#[test]
fn a_fork_copies_the_partly_filled_page_only() {
    let mut world = World::new(limits_of(2, 20));
    world.arrive(arrival(0, 40, 10));
    let parent = arrival(0, 40, 10);
    world.arrive(Arrival {
        id: SequenceId(1),
        fork_of: Some(SequenceId(0)),
        ..parent
    });
    let first = world.step(1, 1);
    assert_eq!(first.admitted, [(SequenceId(0), 0)]);
    let second = world.step(1, 1);
    assert_eq!(second.admitted, [(SequenceId(1), 39)]);
    assert_eq!(second.copies.len(), 1);
    let [one, other] = [0, 1].map(|id| world.scheduler.pages(SequenceId(id)).remove(0));
    assert_eq!(one[..2], other[..2]);
    assert_ne!(one[2], other[2]);
}

/// Returns the tokens of a plan's row of a sequence, and why it came before others.
fn part(plan: &StepPlan, id: u64) -> Option<(usize, Option<PrefillOrder>)> {
    let row = plan.rows.iter().find(|row| row.sequence == SequenceId(id))?;
    Some((row.tokens, row.order))
}

#[test]
fn a_short_prompt_behind_a_long_one_is_computed_in_the_very_next_step() {
    let limits = || Limits {
        context: 4_096,
        ..limits_of(4, 400)
    };
    let alone = {
        let mut world = World::new(limits());
        world.arrive(arrival(0, 2_000, 1));
        (1..).find(|_| world.step(1, 1).rows[0].samples).unwrap()
    };
    let mut world = World::new(limits());
    world.arrive(arrival(0, 2_000, 1));
    assert_eq!(part(&world.step(1, 1), 0), Some((64, Some(PrefillOrder::Oldest))));
    world.arrive(arrival(1, 20, 1));
    let plan = world.step(1, 1);
    assert_eq!(part(&plan, 1), Some((20, Some(PrefillOrder::Shortest))));
    assert_eq!(part(&plan, 0), Some((44, Some(PrefillOrder::Oldest))));
    let rest = (3..).find(|_| part(&world.step(1, 1), 0).is_none()).unwrap();
    assert!(rest <= alone + 2, "{rest} steps instead of {alone}");
}

#[test]
fn a_long_prompt_that_shorter_ones_pass_without_end_loses_a_small_part_of_its_steps() {
    let mut world = World::new(Limits {
        context: 4_096,
        ..limits_of(4, 400)
    });
    world.arrive(arrival(0, 3_000, 1));
    let (mut steps, mut aged) = (0, false);
    while world.alive.contains_key(&SequenceId(0)) {
        while world.scheduler.occupancy().queue_depth < 2 {
            let id = world.next;
            world.arrive(arrival(id, 60, 1));
        }
        let plan = world.step(1, 1);
        aged |= matches!(
            part(&plan, 0),
            Some((_, Some(PrefillOrder::Aged | PrefillOrder::Oldest)))
        );
        steps += 1;
        assert!(steps < 1_000, "starved");
    }
    // The prompt alone takes 47 steps; a burst of 256 tokens and an eighth of its length may pass it.
    assert!(aged && steps <= 47 * 9 / 8 + 8, "{steps}");
}

/// The time of a step on a device where a row that decodes takes 1 ms, a token of a prompt 0.1 ms, and attention 0.1 ms for a thousand
/// positions.
fn time_of(rows: &[PlannedRow]) -> Duration {
    let seconds = |row: &PlannedRow| {
        let each = if row.kind == RowKind::Decode { 1e-3 } else { 1e-4 };
        row.tokens as f64 * (each + (row.start + row.tokens / 2) as f64 * 1e-7)
    };
    Duration::from_secs_f64(0.004 + rows.iter().map(seconds).sum::<f64>())
}

/// Plans and completes a step on that device; each row that samples has a token.
fn step_of(scheduler: &mut Scheduler) -> StepPlan {
    let mut plan = StepPlan::default();
    scheduler.plan(0, &mut plan);
    let outcome = |row: &PlannedRow| RowOutcome {
        sequence: row.sequence,
        tokens: (0..u32::from(row.samples)).collect(),
        ended: false,
    };
    let outcomes: Vec<RowOutcome> = plan.rows.iter().map(outcome).collect();
    scheduler.complete(&outcomes, time_of(&plan.rows));
    plan
}

#[test]
fn parts_of_a_prompt_get_shorter_where_attention_has_more_to_read() {
    let mut scheduler = Scheduler::new(Limits {
        step_budget: 512,
        context: 8_192,
        ..limits_of(8, 2_000)
    });
    (0..4).for_each(|id| scheduler.arrive(arrival(id, 1, 8_000), 0).unwrap());
    (0..50).for_each(|_| drop(step_of(&mut scheduler)));
    scheduler.arrive(arrival(9, 6_000, 1), 0).unwrap();
    let mut parts: Vec<(usize, usize)> = Vec::new();
    while parts.iter().map(|(_, tokens)| tokens).sum::<usize>() < 6_000 {
        let plan = step_of(&mut scheduler);
        let row = plan.rows.iter().find(|row| row.sequence == SequenceId(9)).unwrap();
        assert!(
            plan.rows.len() == 5 && row.tokens < 512,
            "the streams decode beside the prompt"
        );
        parts.push((row.start, row.tokens));
    }
    let mean = |from: usize, to: usize| {
        let tokens: Vec<usize> = parts
            .iter()
            .filter(|(start, _)| (from..to).contains(start))
            .map(|part| part.1)
            .collect();
        tokens.iter().sum::<usize>() as f64 / tokens.len() as f64
    };
    let (early, late) = (mean(1_000, 2_000), mean(4_500, 5_500));
    assert!(late < 0.7 * early, "{late} tokens instead of {early}");
}
