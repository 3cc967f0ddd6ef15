//! Who takes part in the next step: a pure state machine.
//!
//! Inputs are arrivals, cancellations, step outcomes and the clock as a value; the output is the next [`StepPlan`].
//! There are no threads, channels or clocks in here, so a live engine and a run in virtual time use the same code.
//!
//! Every step is planned afresh (Yu et al., 2022, on scheduling by iteration) under a budget of tokens: decoding sequences
//! first, then prompts in chunks (Agrawal et al., 2024, on prefill beside decode), then admissions. Of several prompts the one with the
//! shortest remainder comes first ("A proof of the optimality of the shortest remaining processing time discipline", Schrage, 1968), until
//! it has passed an older one too often. When pages run out, the sequence that came last gives its pages back and computes them again later. Sequences are served in the order of the [queue](crate::queue), in the batch and before it.

mod lengths;
mod pace;
mod plan;
mod sequence;

use crate::executor::{PageCopy, TableChanges};
use crate::micros::Micros;
use crate::pages::{ChainKey, PagePool};
use crate::queue::{Queue, QueueFull, Rank};
use crate::request::EndReason;
use crate::token::Tokens;
use lengths::Lengths;
use pace::{Pace, StepWork};
use sequence::Sequence;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::time::Duration;
use vastrelay_kernels::attention::PAGE_TOKENS;
use vastrelay_weights::description::AttentionReach;

/// The name of a sequence.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub struct SequenceId(pub u64);

/// What the scheduler may spend.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Limits {
    /// Maximum sequences in a batch.
    pub width: usize,
    /// Most tokens in one step, prefill and decode together.
    pub step_budget: usize,
    /// Most tokens of one sequence, prompt and output together.
    pub context: usize,
    /// Most sequences that wait.
    pub queue_depth: usize,
    /// Longest that one waits for its first place in the batch; any time when absent.
    pub queue_wait: Option<Duration>,
    /// Pages of KV memory, one pool for all layers that see equally far; those that see farthest come first.
    pub pools: Vec<PoolLimits>,
    /// Most prompt tokens of one sequence in one step; the step budget when absent.
    pub prefill_chunk: Option<usize>,
}

/// Pages that some of a model's layers share.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PoolLimits {
    /// How many.
    pub pages: usize,
    /// How many tokens these layers see, a token's own included, where they do not see all: what lies further back is given back
    /// while the sequence goes on.
    pub window: Option<usize>,
}

impl PoolLimits {
    /// Returns how many of a sequence's first pages are not seen from a position on.
    fn unseen_pages(self, position: usize) -> usize {
        self.window
            .map_or(0, |window| (position + 1).saturating_sub(window) / PAGE_TOKENS)
    }

    /// Returns the most pages that a sequence of so many tokens holds at once, when steps are of so many tokens at most.
    pub fn most_held(self, tokens: usize, step: usize) -> usize {
        let reach = AttentionReach {
            window: self.window,
            layers: 1,
        };
        reach.most_held(tokens, step)
    }

    /// Returns the most tokens that a sequence may have.
    fn longest(self, step: usize) -> usize {
        let endless = self.most_held(usize::MAX, step) <= self.pages;
        if endless { usize::MAX } else { self.pages * PAGE_TOKENS }
    }
}

impl Limits {
    /// Returns the most tokens, prompt and output, that a sequence may have.
    pub fn longest_sequence(&self) -> usize {
        let longest = self.pools.iter().map(|pool| pool.longest(self.step_budget));
        longest.fold(self.context, usize::min)
    }
}

/// A sequence as it arrives.
#[derive(Clone, Debug)]
pub struct Arrival {
    /// Its name, not used before.
    pub id: SequenceId,
    /// Its prompt; at least one token.
    pub prompt: Vec<u32>,
    /// What it has added already, elsewhere: to be computed like a prompt, and counted like output.
    pub emitted: Vec<u32>,
    /// Most tokens it may add, those included; one more than they are at least.
    pub most_output: usize,
    /// Higher comes earlier.
    pub priority: i8,
    /// When it ends, done or not.
    pub deadline: Option<Micros>,
    /// What its pages may be shared with.
    pub scope: ChainKey,
    /// Whether each token of its prompt is to be computed once at least, so that nothing is taken from the cache that it has
    /// not computed before.
    pub reads_all: bool,
    /// A sequence with the same prompt whose pages it takes over once they are computed.
    pub fork_of: Option<SequenceId>,
    /// Whether it waits for [`Scheduler::constraint_ready`].
    pub awaits_constraint: bool,
    /// Draft tokens that each of its decode rows wants room for.
    pub drafts: usize,
}

/// Why an arrival was not taken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Rejection {
    /// As many wait as may.
    QueueFull {
        /// How many.
        depth: usize,
    },
    /// Prompt and output together are longer than a sequence may be, or than the whole pool.
    TooLong {
        /// Tokens asked for.
        wanted: usize,
        /// Tokens there are.
        limit: usize,
    },
}

/// What one row does in a step.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum RowKind {
    /// Processes a part of the prompt, or again what a preemption lost.
    Prefill,
    /// Produces tokens.
    Decode,
}

/// Why a row with a part of a prompt was planned before others.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum PrefillOrder {
    /// No older sequence has a prompt to compute.
    Oldest,
    /// Least of its prompt is left.
    Shortest,
    /// Younger ones have passed it as often as they may.
    Aged,
}

/// One sequence's part in a step.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct PlannedRow {
    /// Whose part.
    pub sequence: SequenceId,
    /// Its place in the batch.
    pub lane: usize,
    /// What it does.
    pub kind: RowKind,
    /// The position of its first token.
    pub start: usize,
    /// Tokens it feeds, drafts not counted.
    pub tokens: usize,
    /// Whether its last token's logits make a new token.
    pub samples: bool,
    /// Draft tokens it has room for behind those.
    pub draft_room: usize,
    /// Why it came before others, for a part of a prompt.
    pub order: Option<PrefillOrder>,
}

/// Why a sequence lost its place.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum PreemptionCause {
    /// An older sequence needed its pages.
    PagesForOlder,
    /// It needed pages itself and is the youngest.
    NoPagesLeft,
}

/// The next step.
#[derive(Clone, Default, PartialEq, Eq, Debug)]
pub struct StepPlan {
    /// Its number, from 1 on.
    pub number: u64,
    /// Who takes part, in the order of planning.
    pub rows: Vec<PlannedRow>,
    /// Pages to copy before the step.
    pub copies: Vec<PageCopy>,
    /// Who joined the batch, and how many of its tokens were found in the cache.
    pub admitted: Vec<(SequenceId, usize)>,
    /// Who lost its place.
    pub preempted: Vec<(SequenceId, PreemptionCause)>,
    /// Who ended without a step: cancelled or past its deadline.
    pub ended: Vec<(SequenceId, EndReason)>,
}

impl StepPlan {
    /// Makes it empty; it keeps its memory.
    fn clear(&mut self) {
        let StepPlan {
            number,
            rows,
            copies,
            admitted,
            preempted,
            ended,
        } = self;
        *number = 0;
        rows.clear();
        copies.clear();
        admitted.clear();
        preempted.clear();
        ended.clear();
    }
}

/// What a step brought for one of its rows.
#[derive(Clone, Debug)]
pub struct RowOutcome {
    /// Whose row.
    pub sequence: SequenceId,
    /// New tokens; may be none, and more than one after accepted drafts.
    pub tokens: Tokens,
    /// Whether it is at its end.
    pub ended: bool,
}

/// How things stand.
#[derive(Clone, Copy, Default, PartialEq, Eq, Debug, Serialize, Deserialize)]
pub struct Occupancy {
    /// Sequences accepted and not in the batch.
    pub queue_depth: usize,
    /// Sequences in the batch.
    pub lanes_used: usize,
    /// Pages held, in the first pool: that of the layers that see farthest, which runs out first.
    pub pages_used: usize,
    /// Pages kept for reuse.
    pub pages_cached: usize,
    /// Pages in all.
    pub pages_total: usize,
}

/// See the module.
pub struct Scheduler {
    limits: Limits,
    pools: Vec<PagePool>,
    sequences: HashMap<SequenceId, Sequence>,
    waiting: Queue<SequenceId>,
    /// Sequences in the batch, in the order of service as well.
    running: BTreeMap<Rank, SequenceId>,
    lanes: Vec<Option<SequenceId>>,
    steps: u64,
    cancelled: BTreeSet<SequenceId>,
    /// Of sequences in the batch.
    deadlines: BTreeSet<(Micros, SequenceId)>,
    pace: Pace,
    lengths: Lengths,
    /// The rows of the step that is under way; none where there is none.
    in_flight: Vec<PlannedRow>,
    /// Sequences in the batch, while they are planned.
    order: Vec<SequenceId>,
}

impl Scheduler {
    /// Returns a scheduler with nothing to do.
    ///
    /// # Panics
    /// When the width, budget, context, a window or all pages are zero, or the step budget is below the width, so that a full batch could
    /// not decode.
    pub fn new(limits: Limits) -> Scheduler {
        assert!(
            limits.width > 0 && limits.context > 0 && !limits.pools.is_empty(),
            "limits of {limits:?}"
        );
        assert!(
            limits.pools.iter().all(|pool| pool.pages > 0 && pool.window != Some(0)),
            "pools of {limits:?}"
        );
        assert!(
            limits.step_budget >= limits.width,
            "the step budget covers one token for each lane"
        );
        Scheduler {
            pools: limits.pools.iter().map(|pool| PagePool::new(pool.pages)).collect(),
            sequences: HashMap::new(),
            waiting: Queue::new(limits.queue_depth),
            running: BTreeMap::new(),
            lanes: vec![None; limits.width],
            steps: 0,
            cancelled: BTreeSet::new(),
            deadlines: BTreeSet::new(),
            pace: Pace::default(),
            lengths: Lengths::default(),
            in_flight: Vec::new(),
            order: Vec::new(),
            limits,
        }
    }

    /// Returns what it may spend.
    pub fn limits(&self) -> &Limits {
        &self.limits
    }

    /// Returns how things stand.
    pub fn occupancy(&self) -> Occupancy {
        Occupancy {
            queue_depth: self.waiting.len(),
            lanes_used: self.running.len(),
            pages_used: self.pools[0].in_use(),
            pages_cached: self.pools[0].cached(),
            pages_total: self.pools[0].total(),
        }
    }

    /// Returns how many pages of each pool are held.
    pub fn pages_used(&self) -> Vec<usize> {
        self.pools.iter().map(PagePool::in_use).collect()
    }

    /// Returns whether no sequence is there.
    pub fn is_idle(&self) -> bool {
        self.sequences.is_empty()
    }

    /// Takes a sequence into the queue.
    ///
    /// # Errors
    /// When the queue is full or the sequence could never fit.
    pub fn arrive(&mut self, arrival: Arrival, now: Micros) -> Result<(), Rejection> {
        let (wanted, limit) = (
            arrival.prompt.len() + arrival.most_output,
            self.limits.longest_sequence(),
        );
        if wanted > limit {
            return Err(Rejection::TooLong { wanted, limit });
        }
        let id = arrival.id;
        // One that goes on from elsewhere has had its first place.
        let wait = self.limits.queue_wait.filter(|_| arrival.emitted.is_empty());
        let longest = wait.map(|wait| now + wait.as_micros() as Micros);
        let until = arrival.deadline.into_iter().chain(longest).min();
        let entered = self.waiting.arrive(id, arrival.priority, until, now);
        let rank = entered.map_err(|QueueFull { depth }| Rejection::QueueFull { depth })?;
        let before = self
            .sequences
            .insert(id, Sequence::new(arrival, rank, self.pools.len()));
        assert!(before.is_none(), "sequence {id:?} arrived twice");
        Ok(())
    }

    /// Ends a sequence: at once, or with the step that is under way. Unknown ones are ended already.
    pub fn cancel(&mut self, id: SequenceId) {
        if self.sequences.contains_key(&id) {
            self.cancelled.insert(id);
        }
    }

    /// Lets a sequence take part that waited for its output constraint.
    pub fn constraint_ready(&mut self, id: SequenceId) {
        if let Some(sequence) = self.sequences.get_mut(&id) {
            sequence.awaits_constraint = false;
        }
    }

    /// Returns all tokens of a sequence, prompt first.
    ///
    /// # Panics
    /// When it is not there.
    pub fn tokens(&self, id: SequenceId) -> &[u32] {
        &self.sequences[&id].tokens
    }

    /// Returns the pages of a sequence in each pool, in order of position; those that it cannot see any more belong to others.
    ///
    /// # Panics
    /// When it is not there.
    pub fn pages(&self, id: SequenceId) -> Vec<Vec<u32>> {
        let tables = self.sequences[&id].tables.iter();
        tables.map(|table| table.pages.clone()).collect()
    }

    /// Returns how the page tables of a sequence have changed since the last time, one for each pool, or nothing where none has. To be
    /// asked for each planned row, as executors keep tables by lane.
    ///
    /// # Panics
    /// When it is not there.
    pub fn table_changes(&mut self, id: SequenceId) -> TableChanges {
        let sequence = self.sequences.get_mut(&id).expect("a sequence that is there");
        sequence.table_changes()
    }

    /// Returns the earliest deadline of any sequence.
    pub fn next_deadline(&self) -> Option<Micros> {
        let running = self.deadlines.first().map(|(deadline, _)| *deadline);
        running.into_iter().chain(self.waiting.next_deadline()).min()
    }

    /// Returns for how many steps the batch stays as it is: only decoding, nobody admitted or preempted, no end by length.
    ///
    /// Zero when the next step may differ. It holds until the next deadline, while nothing arrives, is cancelled or ends by what it says.
    pub fn steady_steps(&self) -> usize {
        let is_full = self.running.len() == self.limits.width;
        if !self.cancelled.is_empty() || self.running.is_empty() || !(is_full || self.waiting.is_empty()) {
            return 0;
        }
        let to_end = |id: &SequenceId| {
            let sequence = &self.sequences[id];
            match sequence.decodes() && sequence.drafts == 0 {
                true => sequence.most_tokens - sequence.tokens.len(),
                false => 0,
            }
        };
        let most = self.running.values().map(to_end).min().unwrap_or(0);
        let available = self.pools.iter().map(PagePool::available).min().unwrap_or(0);
        let pages = |steps: usize| {
            let more = self.running.values().map(|id| self.sequences[id].pages_for(steps));
            more.sum::<usize>()
        };
        // The most steps whose pages there are, between none and `most`.
        let (mut fits, mut beyond) = (0, most + 1);
        while fits + 1 < beyond {
            let middle = fits.midpoint(beyond);
            if pages(middle) <= available {
                fits = middle;
            } else {
                beyond = middle;
            }
        }
        fits
    }

    /// Takes the outcome of the step that was planned last, and how long the device took for it.
    ///
    /// # Panics
    /// When the rows are not those of the plan, or a sequence got more tokens than it has room for.
    pub fn complete(&mut self, outcomes: &[RowOutcome], took: Duration) {
        let mut rows = std::mem::take(&mut self.in_flight);
        assert!(!rows.is_empty(), "a step is under way");
        assert_eq!(rows.len(), outcomes.len(), "each planned row has its outcome");
        self.pace.learn(work_of(&rows), took.as_secs_f64());
        for (row, outcome) in rows.iter().zip(outcomes) {
            self.complete_row(row, outcome);
        }
        rows.clear();
        self.in_flight = rows;
    }

    fn complete_row(&mut self, row: &PlannedRow, outcome: &RowOutcome) {
        assert_eq!(row.sequence, outcome.sequence, "outcomes come in the order of the rows");
        assert!(
            outcome.tokens.len() <= if row.samples { 1 + row.draft_room } else { 0 },
            "tokens beyond the plan"
        );
        let sequence = self
            .sequences
            .get_mut(&row.sequence)
            .expect("a planned sequence lives through its step");
        sequence.advance(row, &outcome.tokens);
        sequence.publish_full_pages(&mut self.pools);
        sequence.trim_pages(&mut self.pools);
        sequence.give_back_unseen(&self.limits.pools, &mut self.pools);
        assert!(
            sequence.tokens.len() <= sequence.most_tokens,
            "{:?} has outgrown its limit",
            row.sequence
        );
        if outcome.ended || sequence.tokens.len() == sequence.most_tokens {
            self.lengths.learn(sequence.output());
            self.remove(row.sequence);
        }
    }

    /// Takes a sequence out, wherever it is, and gives back its pages and lane.
    fn remove(&mut self, id: SequenceId) {
        let mut sequence = self.sequences.remove(&id).expect("a sequence to remove");
        self.waiting.remove(sequence.rank);
        self.running.remove(&sequence.rank);
        self.cancelled.remove(&id);
        if let Some(deadline) = sequence.deadline {
            self.deadlines.remove(&(deadline, id));
        }
        if let Some(lane) = sequence.lane {
            self.lanes[lane] = None;
        }
        sequence.release_pages(&mut self.pools);
    }

    /// Checks everything that has to hold between two calls.
    ///
    /// # Panics
    /// When something does not.
    pub fn check(&self) {
        self.pools.iter().for_each(PagePool::check);
        assert_eq!(self.waiting.len() + self.running.len(), self.sequences.len());
        assert!(self.running.len() <= self.limits.width);
        assert!(
            self.waiting
                .iter()
                .all(|id| self.sequences[&id].lane.is_none() && self.sequences[&id].room() == 0)
        );
        for id in self.running.values() {
            let sequence = &self.sequences[id];
            assert_eq!(
                self.lanes[sequence.lane.expect("a running sequence has a lane")],
                Some(*id)
            );
            assert!(sequence.room() >= sequence.computed);
            assert_eq!(sequence.tables.len(), self.pools.len());
            for ((table, pool), limits) in sequence.tables.iter().zip(&self.pools).zip(&self.limits.pools) {
                assert_eq!(table.pages.len() * PAGE_TOKENS, sequence.room());
                assert!(table.unseen <= limits.unseen_pages(sequence.computed));
                assert!(table.held().iter().all(|page| pool.is_held(*page)));
            }
            assert!(sequence.tokens.len() <= sequence.most_tokens);
        }
        assert_eq!(self.lanes.iter().flatten().count(), self.running.len());
    }
}

/// Returns what rows compute.
fn work_of(rows: &[PlannedRow]) -> StepWork {
    let mut work = StepWork::default();
    for row in rows {
        match row.kind {
            RowKind::Decode => work.add_decoding(row.start),
            RowKind::Prefill => work.add_prefill(row.start, row.tokens),
        }
    }
    work
}
