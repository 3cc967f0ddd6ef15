//! What callers would see, by the cost model: predicted, not measured.

use crate::cost::{CostRow, StepTimes};
use std::str::FromStr;

/// A usual sequence.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Typical {
    /// Tokens of its prompt.
    pub prompt: usize,
    /// Tokens of its answer.
    pub output: usize,
}

/// Most tokens of a typical prompt or answer.
const MOST_TYPICAL: usize = 1 << 24;

impl FromStr for Typical {
    type Err = String;

    fn from_str(text: &str) -> Result<Typical, String> {
        let (prompt, output) = text.split_once('+').unwrap_or((text, ""));
        match (prompt.parse(), output.parse()) {
            (Ok(prompt @ 1..=MOST_TYPICAL), Ok(output @ 1..=MOST_TYPICAL)) => Ok(Typical { prompt, output }),
            _ => Err("use two numbers of tokens, prompt and answer, such as 600+200".into()),
        }
    }
}

/// Default tokens of a typical sequence, at most.
pub const USUAL_TYPICAL_TOKENS: usize = 2_048;

impl Typical {
    /// Returns the default typical sequence: 2,048 tokens, or the whole context if that is smaller; three quarters are the prompt.
    pub fn usual(context: usize) -> Typical {
        let tokens = context.min(USUAL_TYPICAL_TOKENS);
        Typical {
            prompt: (tokens * 3 / 4).max(1),
            output: (tokens / 4).max(1),
        }
    }

    /// Returns all of its tokens.
    pub fn tokens(self) -> usize {
        self.prompt + self.output
    }
}

/// How a replica is to run, as far as predictions depend on it.
#[derive(Clone, Copy, Debug)]
pub struct Running {
    /// Devices that it spans.
    pub split: usize,
    /// Maximum sequences in a batch.
    pub width: usize,
    /// Most tokens in one step.
    pub step_budget: usize,
    /// Sequences of usual length that fit at once.
    pub fits: usize,
    /// Its usual sequence.
    pub typical: Typical,
}

/// What is predicted for so many callers, each of whom asks again as soon as it has its answer.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Prediction {
    /// Callers whose sequences are in the batch.
    pub lanes: usize,
    /// Seconds to the first token of one that has a lane.
    pub ttft: f64,
    /// Seconds between two tokens, in the middle of all gaps.
    pub itl: f64,
    /// Tokens that all get in a second.
    pub rate: f64,
    /// Price of a million output tokens.
    pub million: f64,
}

impl Prediction {
    /// Predicts for so many callers at once, on devices of so much an hour each.
    pub fn new(cost: &dyn StepTimes, price: f64, running: Running, callers: usize) -> Prediction {
        let Running {
            split,
            width,
            step_budget,
            fits,
            typical,
        } = running;
        let lanes = callers.clamp(1, width.min(fits).max(1));
        // All others are on average in the middle of their answers.
        let decode = CostRow::decode(typical.prompt + typical.output / 2);
        let together = cost.step(&vec![decode; lanes]).total();
        let beside = vec![decode; lanes - 1];
        let prefill = prefill(cost, step_budget, typical.prompt, &beside);
        let gaps = typical.output.saturating_sub(1) as f64;
        // In each sequence's time the prompts of all others are read, too; what one leaves of a step, the next one uses.
        let room = step_budget.saturating_sub(beside.len()).clamp(1, typical.prompt.max(1));
        let part = CostRow {
            tokens: room,
            start: (typical.prompt - room.min(typical.prompt)) / 2,
            chooses: true,
        };
        let with_prompt = cost.step(&[&beside[..], &[part]].concat()).total();
        let full = typical.prompt as f64 / room as f64;
        let shared = (lanes - 1) as f64 * full;
        let round = if lanes == 1 {
            prefill + gaps * together
        } else {
            lanes as f64 * full * with_prompt + (gaps - shared).max(0.0) * together
        };
        let rate = (lanes * typical.output) as f64 / round;
        let hour = price * split as f64;
        Prediction {
            lanes,
            ttft: prefill + if lanes > 1 { together / 2.0 } else { 0.0 },
            itl: if shared * 2.0 > gaps { with_prompt } else { together },
            rate,
            million: hour / 3600.0 / rate * 1e6,
        }
    }
}

/// Returns how long a prompt takes to its first token beside others that decode.
fn prefill(cost: &dyn StepTimes, step_budget: usize, prompt: usize, beside: &[CostRow]) -> f64 {
    let chunk = step_budget.saturating_sub(beside.len()).max(1);
    let (mut start, mut seconds) = (0, 0.0);
    while start < prompt.max(1) {
        let tokens = chunk.min(prompt.max(1) - start);
        let own = CostRow {
            tokens,
            start,
            chooses: start + tokens >= prompt,
        };
        seconds += cost.step(&[beside, &[own]].concat()).total();
        start += tokens;
    }
    seconds
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_typical_sequence_is_two_numbers() {
        let read: Typical = "600+200".parse().unwrap();
        assert_eq!((read.prompt, read.output), (600, 200));
        for wrong in [
            "",
            "600",
            "600+",
            "0+3",
            "3+0",
            "a+b",
            "1+2+3",
            "-1+2",
            "18446744073709551615+1",
        ] {
            assert!(wrong.parse::<Typical>().unwrap_err().contains("600+200"), "{wrong}");
        }
    }
}
