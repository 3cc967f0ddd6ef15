//! One pass of the model over a batch.

use super::exchange::Exchange;
use super::experts::ExpertSpace;
use super::grams::Grams;
use super::model::{GatedMlp, Linear, Mlp, Model};
use super::weights::{Rows, Scratch};
use crate::executor::{BatchRow, LogprobsWanted, RowResult, StepBatch, StepResult, Want};
use crate::phases::{Clock, StepPhase};
use crate::sampling::random::Random;
use crate::sampling::{Choice, Chosen, choose, count_seen, logprobs_of};
use crate::tables::PageTables;
use crate::token::TokenLogprobs;
use smallvec::SmallVec;
use std::time::Instant;
use vastrelay_kernels::attention::{LayerPages, PAGE_TOKENS, Spans};
use vastrelay_kernels::exponential::soft_cap;
use vastrelay_kernels::gate::{gelu_gate, silu_gate};
use vastrelay_kernels::norm::{rms_norm, rms_norm_in_place, rms_norm_rows};
use vastrelay_kernels::rotary::rotate;
use vastrelay_kernels::{Isa, ThreadPool, Write};
use vastrelay_weights::ModelDescription;
use vastrelay_weights::description::Activation;

/// How many tokens' logits are made at once where log-probabilities are wanted: a long prompt's would take more memory than all else.
const SCORED_AT_ONCE: usize = 32;

/// Weights, KV memory and workspace of one replica.
pub(super) struct Forward {
    model: Model,
    layers: Vec<LayerPages>,
    /// Which pool each layer's pages are of.
    pools: Vec<usize>,
    isa: Isa,
    threads: ThreadPool,
    exchange: Exchange,
    tables: PageTables,
    clock: Clock,
    space: Workspace,
}

/// Activations, one row for each token of a step; they grow to the largest step and stay.
#[derive(Default)]
struct Workspace {
    stream: Vec<f32>,
    normed: Vec<f32>,
    qkv: Vec<f32>,
    mixed: Vec<f32>,
    /// What attention or MLP adds to the stream, where it is not added at once.
    branch: Vec<f32>,
    experts: ExpertSpace,
    gate_up: Vec<f32>,
    gated: Vec<f32>,
    scratch: Scratch,
    last: Vec<f32>,
    /// Of the whole vocabulary, on the first shard.
    logits: Vec<f32>,
    /// Of the shard's part, where there are several.
    own_logits: Vec<f32>,
}

impl Forward {
    pub fn new(model: Model, layers: Vec<LayerPages>, isa: Isa, threads: ThreadPool, exchange: Exchange) -> Forward {
        Forward {
            pools: model.description.reach_of_layers(),
            model,
            layers,
            isa,
            threads,
            exchange,
            tables: PageTables::default(),
            clock: Clock::start(),
            space: Workspace::default(),
        }
    }

    /// Begins, or ends, to keep what matrices are applied to; returns what was kept so far. The head is left out.
    pub fn gather(&mut self, grams: Option<Grams>) -> Option<Grams> {
        std::mem::replace(&mut self.space.scratch.grams, grams)
    }

    /// Returns for how many tokens of a step there are logits at once: each row of a full batch may want a token.
    pub fn logit_rows(tokens: usize, width: usize) -> usize {
        width.max(SCORED_AT_ONCE).min(tokens)
    }

    /// Returns the bytes of the workspace for a step of so many tokens and rows.
    pub fn workspace_bytes(model: &ModelDescription, tokens: usize, width: usize) -> usize {
        let heads = model.heads * model.head_dim;
        let kv = 2 * model.kv_heads * model.head_dim;
        let experts = model
            .experts
            .as_ref()
            .map_or(0, |experts| experts.count + 3 * experts.width + 2 * model.width);
        let row = 4 * model.width + 2 * heads + kv + 3 * model.mlp_width + experts;
        // The rows of the widest product, laid out or rounded for the kernels.
        let laid_out = model.width.max(heads).max(model.mlp_width);
        let logits = Forward::logit_rows(tokens, width) * model.vocabulary;
        (tokens * (row + laid_out) + logits) * size_of::<f32>()
    }

    /// Lets the other shards know that this one has failed.
    pub fn fail(&self) {
        self.exchange.fail();
    }

    /// Fills all KV memory with random values between −1 and 1, for measurements; so many pages at once have the same.
    pub fn fill(&mut self, seed: u64) {
        const PAGES: usize = 64;
        let kv = 2 * self.model.description.kv_heads * self.model.description.head_dim;
        let value = |at: usize| 2.0 * Random::new(seed, 0, at as u64).unit() as f32 - 1.0;
        let mut rows: Vec<f32> = (0..PAGES * PAGE_TOKENS * kv).map(value).collect();
        for layer in &mut self.layers {
            let pages: Vec<u32> = (0..layer.pages() as u32).collect();
            for pages in pages.chunks(PAGES) {
                let tokens = pages.len() * PAGE_TOKENS;
                let spans = Spans::new([(0, tokens, pages)]);
                layer.store(&self.threads, &spans, &mut rows[..tokens * kv], kv, 0, &|_, _| {});
            }
        }
    }

    /// Computes a step; only the first shard has its result.
    pub fn step(&mut self, batch: &StepBatch) -> StepResult {
        let begun = Instant::now();
        self.clock = Clock::start();
        for copy in &batch.copies {
            let layers = self.layers.iter_mut().zip(&self.pools);
            let layers = layers.filter(|(_, pool)| **pool == copy.pool);
            layers.for_each(|(layer, _)| layer.copy(copy.from, copy.to));
        }
        batch.rows.iter().for_each(|row| self.tables.change(row));
        let tables = std::mem::take(&mut self.tables);
        let tokens: Vec<u32> = batch.rows.iter().flat_map(|row| row.tokens.iter().copied()).collect();
        let pools = self.pools.iter().max().map_or(0, |last| last + 1);
        let spans: Vec<Spans<'_>> = (0..pools).map(|threads| spans(&batch.rows, &tables, threads)).collect();
        self.embed(&tokens);
        self.clock.lap(StepPhase::Begin);
        for layer in 0..self.layers.len() {
            self.attention_block(layer, &spans[self.pools[layer]]);
            self.clock.lap(StepPhase::Output);
            self.mlp_block(layer);
            self.clock.lap(StepPhase::Down);
        }
        drop(spans);
        self.tables = tables;
        let mut begin = 0;
        let logprobs_wanted = |row: &BatchRow| {
            let first = begin;
            begin += row.tokens.len();
            let wanted = row.logprobs.as_ref();
            wanted.map_or_else(Vec::new, |wanted| self.row_logprobs(first, row, wanted))
        };
        let logprobs: Vec<Vec<TokenLogprobs>> = batch.rows.iter().map(logprobs_wanted).collect();
        let positions = logit_positions(&batch.rows);
        self.head(&positions);
        self.clock.lap(StepPhase::Head);
        let vocabulary = self.model.vocabulary;
        if self.model.shard.index > 0 {
            return StepResult::default();
        }
        let mut logits = self.space.logits[..positions.len() * vocabulary].chunks_exact_mut(vocabulary);
        let mut ends: Vec<RowEnd<'_>> = batch
            .rows
            .iter()
            .map(|row| RowEnd {
                row,
                logits: logits.by_ref().take(row.logit_count()).collect(),
                result: RowResult::default(),
            })
            .collect();
        self.threads.each(&mut ends, &|end| end.finish());
        self.clock.lap(StepPhase::Choose);
        let rows = ends.into_iter().zip(logprobs);
        StepResult {
            rows: rows
                .map(|(end, logprobs)| {
                    let unknown = logprobs.iter().any(|(token, _)| token.logprob.is_nan());
                    RowResult {
                        not_finite: end.result.not_finite || unknown,
                        logprobs,
                        ..end.result
                    }
                })
                .collect(),
            phases: self.clock.times(),
            took: begun.elapsed(),
        }
    }

    /// Returns how probable a row's tokens are, whose first has its place in the step; only the first shard knows.
    fn row_logprobs(&mut self, first: usize, row: &BatchRow, wanted: &LogprobsWanted) -> Vec<TokenLogprobs> {
        let tokens = row.tokens[1..].iter().copied().chain(wanted.next);
        let tokens: Vec<(usize, u32)> = (first..).zip(tokens).collect();
        let mut logprobs = Vec::with_capacity(tokens.len());
        for tokens in tokens.chunks(SCORED_AT_ONCE) {
            let places: Vec<usize> = tokens.iter().map(|(place, _)| *place).collect();
            self.head(&places);
            if self.model.shard.index == 0 {
                let logits = self.space.logits.chunks_exact(self.model.vocabulary);
                logprobs.extend(
                    logits
                        .zip(tokens)
                        .map(|(logits, (_, token))| logprobs_of(logits, *token, wanted.top)),
                );
            }
        }
        logprobs
    }

    fn embed(&mut self, tokens: &[u32]) {
        let width = self.model.description.width;
        self.space.stream.resize(tokens.len() * width, 0.0);
        let model = &self.model;
        self.threads.rows(&mut self.space.stream, width, &|first, rows| {
            for (token, row) in tokens[first..].iter().zip(rows.chunks_exact_mut(width)) {
                model.embed(*token, row);
            }
        });
        self.exchange.sum(&mut self.space.stream);
    }

    fn attention_block(&mut self, index: usize, spans: &Spans<'_>) {
        let Forward {
            model,
            layers,
            isa,
            threads,
            exchange,
            clock,
            space,
            ..
        } = self;
        let (isa, description, layer) = (*isa, &model.description, &model.layers[index]);
        let q_width = description.heads * description.head_dim;
        let kv_width = description.kv_heads * description.head_dim;
        let count = space.stream.len() / description.width;
        space.normed.resize(count * description.width, 0.0);
        space.qkv.resize(count * (q_width + 2 * kv_width), 0.0);
        let normed = Rows::Made {
            rows: &mut space.normed,
            make: &|row, out| {
                norm_rows(
                    isa,
                    &space.stream,
                    row,
                    &layer.attention_norm,
                    description.norm_epsilon,
                    out,
                )
            },
        };
        apply(
            &layer.qkv,
            isa,
            threads,
            &mut space.scratch,
            normed,
            &mut space.qkv,
            Write::Replace,
        );
        clock.lap(StepPhase::Qkv);
        let (rotary, stride) = (model.rotary_of(index), q_width + 2 * kv_width);
        layers[index].store(threads, spans, &mut space.qkv, stride, q_width, &|position, row| {
            let q_and_k = &mut row[..q_width + kv_width];
            if let Some((q_norm, k_norm)) = &layer.head_norms {
                let (q, k) = q_and_k.split_at_mut(q_width);
                rms_norm_in_place(isa, q, q_norm, description.norm_epsilon);
                rms_norm_in_place(isa, k, k_norm, description.norm_epsilon);
            }
            let (cos, sin) = rotary.at(position);
            rotate(isa, q_and_k, cos, sin);
        });
        clock.lap(StepPhase::Store);
        space.mixed.resize(count * q_width, 0.0);
        let (pages, rounded) = (&layers[index], &mut space.scratch.rounded);
        match layer.output.weights.group() {
            None => pages.attend(isa, threads, spans, &space.qkv, stride, &mut space.mixed),
            Some(group) => pages.attend_rounded(
                isa,
                threads,
                spans,
                &space.qkv,
                stride,
                &mut space.mixed,
                rounded,
                group,
            ),
        }
        let mixed = Rows::Rounded(&space.mixed);
        clock.lap(StepPhase::Attention);
        let after = layer.after_norms.as_ref().map(|(attention, _)| attention.as_slice());
        if adds_at_once(model, after) {
            return apply(
                &layer.output,
                isa,
                threads,
                &mut space.scratch,
                mixed,
                &mut space.stream,
                Write::Add,
            );
        }
        space.branch.resize(count * description.width, 0.0);
        apply(
            &layer.output,
            isa,
            threads,
            &mut space.scratch,
            mixed,
            &mut space.branch,
            Write::Replace,
        );
        exchange.sum(&mut space.branch);
        add_branch(isa, threads, description, after, space);
    }

    fn mlp_block(&mut self, index: usize) {
        let Forward {
            model,
            isa,
            threads,
            exchange,
            clock,
            space,
            ..
        } = self;
        let (isa, description, layer) = (*isa, &model.description, &model.layers[index]);
        let count = space.stream.len() / description.width;
        let after = layer.after_norms.as_ref().map(|(_, mlp)| mlp.as_slice());
        let gate = Gate {
            isa,
            threads,
            activation: description.activation,
        };
        let Workspace {
            stream,
            normed,
            branch,
            gate_up,
            gated,
            scratch,
            ..
        } = space;
        let make = |row, out: &mut [f32]| norm_rows(isa, stream, row, &layer.mlp_norm, description.norm_epsilon, out);
        match &layer.mlp {
            Mlp::One(mlp) => {
                let x = Rows::Made {
                    rows: normed,
                    make: &make,
                };
                gate.widen(mlp, x, scratch, gate_up);
                clock.lap(StepPhase::GateUp);
                if adds_at_once(model, after) {
                    return gate.narrow(mlp, scratch, gate_up, gated, stream, Write::Add);
                }
                branch.resize(count * description.width, 0.0);
                gate.narrow(mlp, scratch, gate_up, gated, branch, Write::Replace);
            }
            Mlp::Experts { router, experts } => {
                threads.rows(normed, description.width, &make);
                branch.clear();
                branch.resize(count * description.width, 0.0);
                let rule = description
                    .experts
                    .as_ref()
                    .expect("a layer with experts is in a model with experts");
                let scored = &mut space.experts.logits;
                scored.resize(count * experts.len(), 0.0);
                router.apply(isa, threads, scratch, Rows::Ready(normed), scored, Write::Replace);
                space.experts.send(rule);
                for (number, mlp) in experts.iter().enumerate() {
                    space.experts.gather(number, normed, description.width);
                    let ExpertSpace { rows, out, .. } = &mut space.experts;
                    gate.widen(mlp, Rows::Ready(rows), scratch, gate_up);
                    gate.narrow(mlp, scratch, gate_up, gated, out, Write::Replace);
                    space.experts.scatter(number, branch, description.width);
                }
                clock.lap(StepPhase::GateUp);
            }
        }
        exchange.sum(&mut space.branch);
        add_branch(isa, threads, description, after, space);
    }

    /// Computes the logits of the given rows only.
    fn head(&mut self, positions: &[usize]) {
        let Forward {
            model,
            isa,
            threads,
            exchange,
            space,
            ..
        } = self;
        let width = model.description.width;
        space.last.clear();
        for row in positions {
            space
                .last
                .extend_from_slice(&space.stream[row * width..(row + 1) * width]);
        }
        let count = positions.len();
        space.normed.resize(space.normed.len().max(count * width), 0.0);
        let normed = &mut space.normed[..count * width];
        rms_norm(
            *isa,
            threads,
            &space.last,
            &model.norm,
            model.description.norm_epsilon,
            normed,
        );
        let needed = count * model.description.vocabulary;
        let split = model.shard.of > 1;
        let logits = if split {
            &mut space.own_logits
        } else {
            &mut space.logits
        };
        logits.resize(logits.len().max(needed), 0.0);
        let logits = &mut logits[..needed];
        model.head.apply(
            *isa,
            threads,
            &mut space.scratch,
            Rows::Ready(normed),
            logits,
            Write::Replace,
        );
        let ModelDescription {
            logit_scale, logit_cap, ..
        } = model.description;
        if logit_scale != 1.0 {
            logits.iter_mut().for_each(|logit| *logit *= logit_scale);
        }
        if let Some(cap) = logit_cap {
            soft_cap(*isa, cap, logits);
        }
        if split {
            let (vocabulary, rows) = (model.vocabulary, &space.own_logits[..needed]);
            let whole = if model.shard.index == 0 { count * vocabulary } else { 0 };
            space.logits.resize(space.logits.len().max(whole), 0.0);
            exchange.gather(rows, &mut space.logits[..whole], vocabulary, |shard| {
                shard.range(vocabulary)
            });
        }
    }
}

/// Returns whether attention and MLP add to the stream what they give as it is, so that it need not lie beside it first.
fn adds_at_once(model: &Model, after: Option<&[f32]>) -> bool {
    after.is_none() && model.description.residual_scale == 1.0 && model.shard.of == 1
}

/// Adds the branch to the stream, normed and scaled as the family has it.
fn add_branch(
    isa: Isa,
    threads: &ThreadPool,
    description: &ModelDescription,
    after: Option<&[f32]>,
    space: &mut Workspace,
) {
    let mut branch = space.branch.as_slice();
    if let Some(norm) = after {
        rms_norm(isa, threads, branch, norm, description.norm_epsilon, &mut space.normed);
        branch = &space.normed;
    }
    let scale = description.residual_scale;
    for (x, branch) in space.stream.iter_mut().zip(branch) {
        *x = scale.mul_add(*branch, *x);
    }
}

/// How gated MLPs are computed.
struct Gate<'a> {
    isa: Isa,
    threads: &'a ThreadPool,
    activation: Activation,
}

impl Gate<'_> {
    /// Computes gate and up: `gate_up` has rows of twice the MLP's width then.
    fn widen(&self, mlp: &GatedMlp, x: Rows<'_>, scratch: &mut Scratch, gate_up: &mut Vec<f32>) {
        let rows = x.values() / mlp.gate_up.weights.inputs();
        gate_up.resize(rows * 2 * mlp.width, 0.0);
        apply(
            &mlp.gate_up,
            self.isa,
            self.threads,
            scratch,
            x,
            gate_up,
            Write::Replace,
        );
    }

    /// Leads what passes the gate back to the stream.
    fn narrow(
        &self,
        mlp: &GatedMlp,
        scratch: &mut Scratch,
        gate_up: &[f32],
        gated: &mut Vec<f32>,
        out: &mut [f32],
        write: Write,
    ) {
        gated.resize(gate_up.len() / 2, 0.0);
        let (isa, activation) = (self.isa, self.activation);
        let make = |row: usize, out: &mut [f32]| {
            let pairs = &gate_up[2 * row * mlp.width..][..2 * out.len()];
            match activation {
                Activation::Silu => silu_gate(isa, pairs, mlp.width, out),
                Activation::GeluTanh => gelu_gate(isa, pairs, mlp.width, out),
            }
        };
        let x = Rows::Made {
            rows: gated,
            make: &make,
        };
        apply(&mlp.down, self.isa, self.threads, scratch, x, out, write);
    }
}

/// Computes the norms of some rows of the stream, from one of them on.
fn norm_rows(isa: Isa, stream: &[f32], row: usize, weights: &[f32], epsilon: f32, out: &mut [f32]) {
    rms_norm_rows(isa, &stream[row * weights.len()..][..out.len()], weights, epsilon, out);
}

fn apply(
    linear: &Linear,
    isa: Isa,
    threads: &ThreadPool,
    scratch: &mut Scratch,
    x: Rows<'_>,
    out: &mut [f32],
    write: Write,
) {
    linear.weights.apply(isa, threads, scratch, x, out, write);
    if let Some(bias) = &linear.bias {
        for row in out.chunks_exact_mut(bias.len()) {
            row.iter_mut().zip(bias).for_each(|(out, bias)| *out += bias);
        }
    }
}

/// Returns where the tokens of the step stand and where their sequences' keys and values are in a pool.
fn spans<'a>(rows: &[BatchRow], tables: &'a PageTables, threads: usize) -> Spans<'a> {
    Spans::new(
        rows.iter()
            .map(|row| (row.start, row.tokens.len(), tables.of(row.slot, threads))),
    )
}

/// Returns which tokens of the step need logits: the last ones of each row.
fn logit_positions(rows: &[BatchRow]) -> Vec<usize> {
    let mut end = 0;
    let mut positions = Vec::new();
    for row in rows {
        end += row.tokens.len();
        positions.extend(end - row.logit_count()..end);
    }
    positions
}

impl BatchRow {
    /// Returns how many tokens, at the end, need logits: the last, where it wants them, and one for each of its drafts.
    fn logit_count(&self) -> usize {
        match self.want {
            Want::Nothing => 0,
            Want::Logits => 1,
            Want::Token(_) => 1 + self.drafts,
        }
    }
}

/// What a row wants back, and what it is made of.
struct RowEnd<'a> {
    row: &'a BatchRow,
    logits: SmallVec<[&'a mut [f32]; 1]>,
    result: RowResult,
}

impl RowEnd<'_> {
    /// Makes the result.
    fn finish(&mut self) {
        let logits = std::mem::take(&mut self.logits);
        match &self.row.want {
            Want::Nothing => {}
            Want::Logits => self.result.logits = logits[0].to_vec(),
            Want::Token(choice) => {
                let drafts = &self.row.tokens[self.row.tokens.len() - self.row.drafts..];
                self.result.chosen = verify(choice, drafts, logits);
                self.result.not_finite = self.result.chosen.is_empty();
            }
        }
    }
}

/// Chooses a token after each position as long as the drafts turn out to be the tokens that are chosen anyway.
fn verify(choice: &Choice, drafts: &[u32], logits: SmallVec<[&mut [f32]; 1]>) -> SmallVec<[Chosen; 1]> {
    let mut choice = choice.clone();
    let mut chosen = SmallVec::new();
    for (index, logits) in logits.into_iter().enumerate() {
        let Some(token) = choose(logits, &choice) else { break };
        let id = token.id;
        chosen.push(token);
        if drafts.get(index) != Some(&id) {
            break;
        }
        choice.position += 1;
        if choice.sampling.has_penalties() {
            count_seen(&mut choice.seen, id);
        }
    }
    chosen
}
