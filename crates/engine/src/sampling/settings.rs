//! The settings by which tokens are chosen.

use serde::{Deserialize, Serialize};

/// How tokens are chosen.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Sampling {
    /// Divides the logits; 0 takes the most probable token always.
    pub temperature: f32,
    /// Number of most probable tokens to choose among; 0 for all.
    pub top_k: usize,
    /// Least share of probability to choose among ("The Curious Case of Neural Text Degeneration", Holtzman et al., 2020).
    pub top_p: f32,
    /// Leaves out tokens less probable than this share of the most probable one ("Turning Up the Heat: Min-p Sampling for
    /// Creative and Coherent LLM Outputs", Nguyen et al., 2024).
    pub min_p: f32,
    /// Divides positive and multiplies negative logits of tokens that were there, prompt included ("CTRL: A Conditional
    /// Transformer Language Model for Controllable Generation", Keskar et al., 2019).
    pub repetition_penalty: f32,
    /// Taken from the logit of each token that the output holds.
    pub presence_penalty: f32,
    /// Taken from the logit of a token for each time that the output holds it.
    pub frequency_penalty: f32,
    /// Added to the logits of tokens.
    pub logit_bias: Vec<(u32, f32)>,
    /// Makes the choices repeatable.
    pub seed: u64,
}

impl Default for Sampling {
    fn default() -> Sampling {
        Sampling {
            temperature: 1.0,
            top_k: 0,
            top_p: 1.0,
            min_p: 0.0,
            repetition_penalty: 1.0,
            presence_penalty: 0.0,
            frequency_penalty: 0.0,
            logit_bias: Vec::new(),
            seed: 0,
        }
    }
}

impl Sampling {
    /// Checks that all settings are numbers that can be sampled with.
    ///
    /// # Errors
    /// With the one that is not.
    pub fn check(&self) -> Result<(), String> {
        let numbers = [
            ("temperature", self.temperature, self.temperature >= 0.0),
            ("top_p", self.top_p, (0.0..=1.0).contains(&self.top_p)),
            ("min_p", self.min_p, (0.0..=1.0).contains(&self.min_p)),
            (
                "repetition_penalty",
                self.repetition_penalty,
                self.repetition_penalty > 0.0,
            ),
            ("presence_penalty", self.presence_penalty, true),
            ("frequency_penalty", self.frequency_penalty, true),
        ];
        let bias = self.logit_bias.iter().map(|(_, bias)| ("logit_bias", *bias, true));
        let wrong = |(_, number, is_good): &(&str, f32, bool)| !number.is_finite() || !is_good;
        match numbers.into_iter().chain(bias).find(wrong) {
            Some((name, number, _)) => Err(format!("{name} of {number} does not work")),
            None => Ok(()),
        }
    }

    /// Returns whether tokens that were there count.
    pub fn has_penalties(&self) -> bool {
        self.repetition_penalty != 1.0 || self.presence_penalty != 0.0 || self.frequency_penalty != 0.0
    }
}
