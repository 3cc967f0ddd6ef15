//! What a call has come to: as much as is needed to go on elsewhere.

use std::time::{Duration, Instant};
use vastrelay_engine::request::Emitted;
use vastrelay_engine::{Event, GenerationRequest, RequestMetrics};

/// How far the completions of a call are.
pub(super) struct AnswerProgress {
    /// For each request its completions.
    emitted: Vec<Vec<Emitted>>,
    prompts_told: Vec<bool>,
    times: Vec<Times>,
    /// Whether it went on elsewhere, so that no engine knows all of its times.
    has_moved: bool,
}

/// When what happened to a completion, after the call began.
#[derive(Clone, Copy, Default)]
struct Times {
    admitted: Option<Duration>,
    first_token: Option<Duration>,
    last_token: Option<Duration>,
    longest_gap: Duration,
}

impl AnswerProgress {
    pub fn of(requests: &[GenerationRequest]) -> AnswerProgress {
        let completions = |request: &GenerationRequest| match request.emitted.is_empty() {
            true => vec![Emitted::default(); request.choices as usize],
            false => request.emitted.clone(),
        };
        let emitted: Vec<Vec<Emitted>> = requests.iter().map(completions).collect();
        AnswerProgress {
            times: vec![Times::default(); emitted.iter().map(Vec::len).sum()],
            prompts_told: requests.iter().map(|request| request.prompt_told).collect(),
            emitted,
            has_moved: false,
        }
    }

    /// Notes an event. The figures of a completion that went on elsewhere are those of the whole.
    pub fn note(&mut self, event: &mut Event, begun: Instant) {
        match event {
            Event::Admitted { choice } => {
                if let Some(times) = self.times.get_mut(*choice as usize) {
                    times.admitted.get_or_insert_with(|| begun.elapsed());
                }
            }
            Event::Prompt { choice, .. } => {
                if let Some((request, _)) = self.place(*choice) {
                    self.prompts_told[request] = true;
                }
            }
            Event::Piece(piece) => {
                let Some((request, completion)) = self.place(piece.choice) else {
                    return;
                };
                self.emitted[request][completion].ids.extend_from_slice(&piece.ids);
                self.times[piece.choice as usize].token(begun.elapsed());
            }
            Event::Ended { choice, metrics, .. } => {
                let Some((request, completion)) = self.place(*choice) else {
                    return;
                };
                self.emitted[request][completion].ended = true;
                if self.has_moved {
                    self.times[*choice as usize].correct(metrics, begun.elapsed());
                }
            }
            Event::Failed(_) => {}
        }
    }

    /// Returns whether all completions have ended.
    pub fn has_ended(&self) -> bool {
        self.emitted.iter().flatten().all(|emitted| emitted.ended)
    }

    /// Returns how many tokens there are.
    pub fn tokens(&self) -> usize {
        self.emitted.iter().flatten().map(|emitted| emitted.ids.len()).sum()
    }

    /// Returns the requests as they go on.
    pub fn rest(&mut self, requests: &[GenerationRequest]) -> Vec<GenerationRequest> {
        self.has_moved = true;
        let rest = |(request, (emitted, told)): (&GenerationRequest, (&Vec<Emitted>, &bool))| GenerationRequest {
            emitted: emitted.clone(),
            prompt_told: *told,
            ..request.clone()
        };
        let progress = self.emitted.iter().zip(&self.prompts_told);
        requests.iter().zip(progress).map(rest).collect()
    }

    /// Returns the request of a completion of the call, and its number there.
    fn place(&self, choice: u32) -> Option<(usize, usize)> {
        let mut left = choice as usize;
        for (request, emitted) in self.emitted.iter().enumerate() {
            if left < emitted.len() {
                return Some((request, left));
            }
            left -= emitted.len();
        }
        None
    }
}

impl Times {
    fn token(&mut self, now: Duration) {
        if let Some(last) = self.last_token {
            self.longest_gap = self.longest_gap.max(now - last);
        }
        self.first_token.get_or_insert(now);
        self.last_token = Some(now);
    }

    /// Puts the times of the whole in the place of those that the last engine knows.
    fn correct(&self, metrics: &mut RequestMetrics, now: Duration) {
        let seconds = |time: Option<Duration>| time.map_or(0.0, |time| time.as_secs_f64());
        let (admitted, first, last) = (
            seconds(self.admitted),
            seconds(self.first_token),
            seconds(self.last_token),
        );
        metrics.queued = admitted;
        metrics.ttft = first;
        metrics.prefill = (first - admitted).max(0.0);
        metrics.itl_mean = match metrics.output_tokens {
            0 | 1 => 0.0,
            tokens => (last - first) / (tokens - 1) as f64,
        };
        metrics.itl_max = metrics.itl_max.max(self.longest_gap.as_secs_f64());
        metrics.total = now.as_secs_f64();
    }
}
