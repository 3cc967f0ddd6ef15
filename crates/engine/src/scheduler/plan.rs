//! The planning of one step.

use super::sequence::Table;
use super::{PlannedRow, PoolLimits, PreemptionCause, PrefillOrder, RowKind, Scheduler, SequenceId, StepPlan, work_of};
use crate::executor::PageCopy;
use crate::micros::Micros;
use crate::request::EndReason;
use vastrelay_kernels::attention::PAGE_TOKENS;

impl Scheduler {
    /// Plans the next step into `plan`, whatever was in it. A plan without rows means that there is nothing to compute now; else [`Scheduler::complete`] has
    /// to follow.
    ///
    /// # Panics
    /// When the step before has not been completed.
    pub fn plan(&mut self, now: Micros, plan: &mut StepPlan) {
        assert!(self.in_flight.is_empty(), "one step at a time");
        plan.clear();
        plan.number = self.steps + 1;
        self.end_overdue(now, plan);
        let mut budget = self.limits.step_budget;
        self.plan_decoding(plan, &mut budget);
        self.order_prompts();
        // Streams leave so much room to prompts.
        let depth = self.order.first().map_or(0, |id| self.sequences[id].computed);
        let room = self.pace.prefill_room(work_of(&plan.rows), depth, self.waiting.len());
        budget = budget.min(room);
        if let Some(shortest) = self.shortest_remainder()
            && plan.preempted.is_empty()
        {
            self.admit(plan, &mut budget, Some(shortest));
        }
        self.plan_prompts(plan, &mut budget);
        if plan.preempted.is_empty() {
            self.admit(plan, &mut budget, None);
        }
        self.note_passed(plan);
        if !plan.rows.is_empty() {
            self.steps += 1;
            self.in_flight.clone_from(&plan.rows);
        }
    }

    /// Ends what was cancelled or is past its deadline.
    fn end_overdue(&mut self, now: Micros, plan: &mut StepPlan) {
        let mut over: Vec<(SequenceId, EndReason)> = Vec::new();
        over.extend(self.cancelled.iter().map(|id| (*id, EndReason::Cancelled)));
        let running = self.deadlines.iter().take_while(|(deadline, _)| *deadline <= now);
        let due = running.map(|(_, id)| *id).chain(self.waiting.overdue(now));
        let due = due.filter(|id| !self.cancelled.contains(id));
        over.extend(due.map(|id| match self.sequences[&id].deadline {
            Some(deadline) if deadline <= now => (id, EndReason::Deadline),
            _ => (id, EndReason::QueueWait),
        }));
        for (id, reason) in over {
            self.remove(id);
            plan.ended.push((id, reason));
        }
    }

    /// Plans rows for sequences in the batch that decode, oldest first.
    fn plan_decoding(&mut self, plan: &mut StepPlan, budget: &mut usize) {
        let mut order = std::mem::take(&mut self.order);
        order.clear();
        order.extend(self.running.values().copied());
        let mut decoders = order.iter().filter(|id| self.sequences[id].to_compute() == 1).count();
        for id in order.iter().copied() {
            let Some(sequence) = self.sequences.get(&id).filter(|sequence| sequence.lane.is_some()) else {
                continue;
            };
            if *budget == 0 || sequence.to_compute() != 1 {
                continue;
            }
            // Every decoding sequence gets its token before any gets room for drafts.
            let drafts = sequence.draft_room().min(budget.saturating_sub(decoders));
            decoders = decoders.saturating_sub(1);
            if self.find_pages(id, 1 + drafts, plan, budget) {
                self.add_row(id, 1, drafts, plan, budget);
            }
        }
        self.order = order;
    }

    /// Orders the sequences in the batch that have more to compute: those first that were passed too often, then those with the
    /// shortest remainder.
    fn order_prompts(&mut self) {
        let mut order = std::mem::take(&mut self.order);
        order.clear();
        let running = self.running.values().copied();
        order.extend(running.filter(|id| self.sequences[id].to_compute() > 1));
        order.sort_by_key(|id| {
            let sequence = &self.sequences[id];
            let remainder = if sequence.is_aged() { 0 } else { sequence.to_compute() };
            (remainder, sequence.rank)
        });
        self.order = order;
    }

    /// Returns the shortest remainder of a prompt in the batch; `None` without a prompt, or when one must not be passed.
    fn shortest_remainder(&self) -> Option<usize> {
        let first = &self.sequences[self.order.first()?];
        (!first.is_aged()).then(|| first.to_compute())
    }

    /// Plans rows for the sequences of [`Scheduler::order_prompts`].
    fn plan_prompts(&mut self, plan: &mut StepPlan, budget: &mut usize) {
        for at in 0..self.order.len() {
            let id = self.order[at];
            let Some(sequence) = self.sequences.get(&id).filter(|sequence| sequence.lane.is_some()) else {
                continue;
            };
            if *budget == 0 {
                break;
            }
            let tokens = sequence.to_compute().min(*budget).min(self.chunk());
            if self.find_pages(id, tokens, plan, budget) {
                self.add_row(id, tokens, 0, plan, budget);
            }
        }
    }

    /// Notes for each prompt that is not done how many tokens of younger ones have passed it in this step.
    fn note_passed(&mut self, plan: &StepPlan) {
        let parts = || plan.rows.iter().filter(|row| row.order.is_some());
        for id in &self.order {
            let Some(sequence) = self.sequences.get(id).filter(|sequence| sequence.lane.is_some()) else {
                continue;
            };
            let own = parts().find(|row| row.sequence == *id).map_or(0, |row| row.tokens);
            if own >= sequence.to_compute() {
                continue;
            }
            let rank = sequence.rank;
            let younger = parts().filter(|row| self.sequences[&row.sequence].rank > rank);
            let passed: usize = younger.map(|row| row.tokens).sum();
            if let Some(sequence) = self.sequences.get_mut(id) {
                sequence.passed += passed;
            }
        }
    }

    /// Returns why a part of a prompt is planned now.
    fn order_of(&self, id: SequenceId, plan: &StepPlan) -> PrefillOrder {
        let sequence = &self.sequences[&id];
        let is_done = |id: &SequenceId| plan.rows.iter().any(|row| row.sequence == *id && row.samples);
        let others = self.order.iter().filter(|id| !is_done(id));
        let mut others = others.filter_map(|id| self.sequences.get(id));
        if others.all(|other| other.lane.is_none() || other.rank >= sequence.rank) {
            PrefillOrder::Oldest
        } else if sequence.is_aged() {
            PrefillOrder::Aged
        } else {
            PrefillOrder::Shortest
        }
    }

    /// Lets waiting sequences join while there are lanes, budget and pages for all that they have to compute. With a `bound` only
    /// those come that have less to compute, before the prompts in the batch have their rows, whose pages stay theirs.
    fn admit(&mut self, plan: &mut StepPlan, budget: &mut usize, bound: Option<usize>) {
        let chunk = self.chunk();
        let mut after = None;
        let mut reserve = None;
        while *budget > 0 && self.running.len() < self.limits.width {
            let Some((rank, id)) = self.waiting.next(after) else {
                break;
            };
            after = Some(rank);
            let sequence = &self.sequences[&id];
            if sequence.awaits_constraint || self.waits_for_fork(id) {
                continue;
            }
            let reused = self.take_shared_pages(id, plan);
            let sequence = &self.sequences[&id];
            if bound.is_some_and(|bound| sequence.to_compute() >= bound) {
                self.give_back(id, plan);
                break;
            }
            let held_back = *reserve.get_or_insert_with(|| {
                let running = || self.running.values();
                let unplanned = |id: &SequenceId| {
                    let sequence = &self.sequences[id];
                    bound.map_or(0, |_| sequence.pages_for(sequence.to_compute()))
                };
                running().map(|id| self.reserve(*id) + unplanned(id)).sum::<usize>()
            });
            let fits = |pool: usize| {
                let most = self.limits.pools[pool].most_held(sequence.tokens.len(), self.limits.step_budget);
                let needed = most - sequence.tables[pool].held().len().min(most);
                needed + held_back <= self.pools[pool].available()
            };
            if !(0..self.pools.len()).all(fits) {
                // What comes behind would fit perhaps, but would take from the one that has waited longer.
                self.give_back(id, plan);
                break;
            }
            let sequence = self.sequences.get_mut(&id).expect("it waits");
            let lane = self
                .lanes
                .iter()
                .position(Option::is_none)
                .expect("the batch is not full");
            sequence.lane = Some(lane);
            let tokens = sequence.to_compute().min(*budget).min(chunk);
            self.lanes[lane] = Some(id);
            self.waiting.remove(rank);
            self.running.insert(rank, id);
            self.deadlines.extend(sequence.deadline.map(|deadline| (deadline, id)));
            plan.admitted.push((id, reused));
            let found = self.find_pages(id, tokens, plan, budget);
            assert!(found, "the pages were counted before");
            self.add_row(id, tokens, 0, plan, budget);
            reserve = Some(held_back + self.reserve(id));
        }
    }

    /// Returns how many pages a sequence in the batch is likely to need soon: half of what it will come to if it becomes as long as others
    /// did, as not all end at once; one at least, lest the next step preempts what this one admits.
    fn reserve(&self, id: SequenceId) -> usize {
        let sequence = &self.sequences[&id];
        let rest = sequence.most_tokens - sequence.tokens.len();
        let expected = self.lengths.still_to_come(sequence.output()).min(rest);
        (sequence.pages_for(expected) / 2).max(1)
    }

    /// Returns whether a sequence has to wait for the one whose prompt it shares; not when that one is held up itself.
    fn waits_for_fork(&self, id: SequenceId) -> bool {
        let parent = self.sequences[&id]
            .fork_of
            .and_then(|parent| self.sequences.get(&parent));
        parent.is_some_and(|parent| parent.computed < self.sequences[&id].prompt && !parent.awaits_constraint)
    }

    /// Gives a sequence the pages that hold its beginning already; returns the tokens that need not be computed.
    ///
    /// A fork takes over its parent's pages and a copy of the one that is partly filled; others look in the cache.
    fn take_shared_pages(&mut self, id: SequenceId, plan: &mut StepPlan) -> usize {
        let sequence = &self.sequences[&id];
        let shared = sequence.prompt - 1;
        let parent = sequence.fork_of.and_then(|parent| self.sequences.get(&parent));
        // A parent that has gone on may have given back what this one still has to see.
        let sees = |table: &Table, limits: &PoolLimits| table.unseen <= limits.unseen_pages(shared);
        let from_parent = parent.filter(|parent| {
            let mut tables = parent.tables.iter().zip(&self.limits.pools);
            sequence.tokens.len() == sequence.prompt
                && sequence.may_reuse(shared)
                && parent.computed > shared
                && tables.all(|(table, limits)| sees(table, limits))
        });
        let copies = usize::from(!shared.is_multiple_of(PAGE_TOKENS));
        if let Some(parent) = from_parent
            && self.pools.iter().all(|pool| pool.available() >= copies)
        {
            let fork = |table: &Table| table.fork(shared.div_ceil(PAGE_TOKENS));
            let mut tables: Vec<Table> = parent.tables.iter().map(fork).collect();
            for (number, (table, pool)) in tables.iter_mut().zip(&mut self.pools).enumerate() {
                let partial = table.pages.split_off(shared / PAGE_TOKENS);
                table.held().iter().for_each(|page| pool.hold(*page));
                for from in partial {
                    let to = pool.take().expect("one is available");
                    plan.copies.push(PageCopy { pool: number, from, to });
                    table.pages.push(to);
                }
            }
            let sequence = self.sequences.get_mut(&id).expect("it waits");
            sequence.tables = tables;
            sequence.computed = shared;
            return shared;
        }
        let sequence = self.sequences.get_mut(&id).expect("it waits");
        sequence.reuse(&self.limits.pools, &mut self.pools);
        sequence.computed
    }

    /// Undoes [`Scheduler::take_shared_pages`].
    fn give_back(&mut self, id: SequenceId, plan: &mut StepPlan) {
        let sequence = self.sequences.get_mut(&id).expect("it waits");
        let tables = &sequence.tables;
        plan.copies.retain(|copy| !tables[copy.pool].held().contains(&copy.to));
        sequence.release_pages(&mut self.pools);
    }

    fn chunk(&self) -> usize {
        self.limits.prefill_chunk.unwrap_or(self.limits.step_budget)
    }

    /// Gives a sequence pages for `tokens` more, taking them from the youngest when none is left.
    ///
    /// Returns false when the sequence itself was the youngest and lost its place.
    fn find_pages(&mut self, id: SequenceId, tokens: usize, plan: &mut StepPlan, budget: &mut usize) -> bool {
        loop {
            let sequence = self.sequences.get_mut(&id).expect("it is in the batch");
            if sequence.room() >= sequence.computed + tokens {
                return true;
            }
            if self.pools.iter().all(|pool| pool.available() > 0) {
                for (table, pool) in sequence.tables.iter_mut().zip(&mut self.pools) {
                    table.pages.push(pool.take().expect("one is available"));
                }
                continue;
            }
            let youngest = *self
                .running
                .values()
                .next_back()
                .expect("the sequence itself is in the batch");
            if youngest == id {
                self.preempt(id, PreemptionCause::NoPagesLeft, plan, budget);
                return false;
            }
            self.preempt(youngest, PreemptionCause::PagesForOlder, plan, budget);
        }
    }

    /// Puts a sequence back into the queue and takes its row, if it has one, out of the plan.
    fn preempt(&mut self, id: SequenceId, cause: PreemptionCause, plan: &mut StepPlan, budget: &mut usize) {
        let sequence = self.sequences.get_mut(&id).expect("it is in the batch");
        let lane = sequence.lane.expect("it is in the batch");
        sequence.release_pages(&mut self.pools);
        self.lanes[lane] = None;
        self.running.remove(&sequence.rank);
        if let Some(deadline) = sequence.deadline {
            self.deadlines.remove(&(deadline, id));
        }
        self.waiting.put_back(sequence.rank, id, sequence.deadline);
        plan.preempted.push((id, cause));
        if let Some(at) = plan.rows.iter().position(|row| row.sequence == id) {
            let row = plan.rows.remove(at);
            *budget += row.tokens + row.draft_room;
        }
    }

    fn add_row(&mut self, id: SequenceId, tokens: usize, drafts: usize, plan: &mut StepPlan, budget: &mut usize) {
        let sequence = &self.sequences[&id];
        let order = (!sequence.decodes()).then(|| self.order_of(id, plan));
        *budget -= tokens + drafts;
        plan.rows.push(PlannedRow {
            sequence: id,
            lane: sequence.lane.expect("it is in the batch"),
            kind: if sequence.decodes() {
                RowKind::Decode
            } else {
                RowKind::Prefill
            },
            start: sequence.computed,
            tokens,
            samples: tokens == sequence.to_compute(),
            draft_room: drafts,
            order,
        });
    }
}
