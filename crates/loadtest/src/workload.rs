//! What is sent, how it arrives, and for how long.

use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use rand_distr::{Distribution, Exp, LogNormal};
use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;
pub use vastrelay_wire::load::{Arrival, Span};

/// Everything that makes a load what it is: the same workload sends the same requests in the same order.
#[derive(Clone, Debug, Serialize, Deserialize, PartialEq)]
pub struct Workload {
    /// The model that is called.
    pub model: String,
    /// Where the prompts come from, in words.
    pub prompts: String,
    /// How requests arrive.
    pub arrival: Arrival,
    /// When no more are sent.
    pub span: Span,
    /// Requests sent before, one user's worth at a time, which are not counted.
    pub warm_up: usize,
    /// Lengths of the answers in tokens; the model's own end when absent.
    pub output: Option<Lengths>,
    /// Whether answers go on until they have their full length.
    pub force_length: bool,
    /// 0 is greedy.
    pub temperature: f32,
    /// Makes arrivals, lengths and the order of prompts repeatable.
    pub seed: u64,
    /// Tokens a second that a stream should keep.
    pub pace: f64,
}

/// Lengths in tokens.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, PartialEq)]
#[serde(try_from = "String", into = "String")]
pub enum Lengths {
    /// All the same.
    Fixed(usize),
    /// Anything from the one to the other, both included.
    Between(usize, usize),
    /// Mostly short, some long.
    Lognormal {
        /// The mean.
        mean: f64,
        /// Standard deviation of the logarithm.
        sigma: f64,
    },
}

/// The description of prompts begins so where one is sent again and again.
pub(crate) const ONE_PROMPT: &str = "the same one, ";
/// Longest load test, and longest step of one, in seconds.
const MOST_SECONDS: f64 = 24.0 * 3600.0;
/// Most requests of a load test.
const MOST_REQUESTS: usize = 1_000_000;
/// Most requests before those that are counted.
const MOST_WARM_UP: usize = 10_000;
/// Most steps of users.
const MOST_STEPS: usize = 100;
/// Most tokens that a lognormal length may come to.
const LONGEST: f64 = 1e6;

impl Lengths {
    /// Draws a length of one token or more.
    pub fn draw(&self, random: &mut impl Rng) -> usize {
        match *self {
            Lengths::Fixed(length) => length,
            Lengths::Between(least, most) => random.random_range(least..=most),
            Lengths::Lognormal { mean, sigma } => {
                // The mean of a lognormal is exp(mu + sigma² / 2).
                let mu = mean.ln() - sigma * sigma / 2.0;
                let drawn = LogNormal::new(mu, sigma).map_or(mean, |spread| spread.sample(random));
                drawn.round().clamp(1.0, LONGEST) as usize
            }
        }
    }
}

impl Lengths {
    /// Returns the same lengths, none longer than `limit`.
    ///
    /// # Errors
    /// When a length that was asked for is longer; long draws of a lognormal are cut instead.
    pub fn within(self, limit: usize) -> Result<Lengths, String> {
        match self {
            Lengths::Fixed(most) | Lengths::Between(_, most) if most > limit => Err(format!(
                "lengths of {self} tokens do not work; this model's context holds {limit}"
            )),
            Lengths::Lognormal { mean, .. } if mean > limit as f64 => Err(format!(
                "a mean length of {mean} tokens does not work; this model's context holds {limit}"
            )),
            other => Ok(other),
        }
    }
}

impl FromStr for Lengths {
    type Err = String;

    fn from_str(text: &str) -> Result<Lengths, String> {
        let wrong = || format!("`{text}` is not a length; write 128, 64..256 or lognormal:128,1.0 (mean, sigma)");
        let whole = |text: &str| {
            text.trim()
                .parse::<usize>()
                .ok()
                .filter(|length| *length > 0)
                .ok_or_else(wrong)
        };
        if let Some(rest) = text.strip_prefix("lognormal:") {
            let (mean, sigma) = rest.split_once(',').ok_or_else(wrong)?;
            let (mean, sigma): (f64, f64) = mean
                .trim()
                .parse()
                .ok()
                .zip(sigma.trim().parse().ok())
                .ok_or_else(wrong)?;
            let fine = (1.0..=LONGEST).contains(&mean) && (0.0..=4.0).contains(&sigma);
            return fine.then_some(Lengths::Lognormal { mean, sigma }).ok_or_else(wrong);
        }
        match text.split_once("..") {
            None => whole(text).map(Lengths::Fixed),
            Some((least, most)) => {
                let (least, most) = (whole(least)?, whole(most)?);
                (least <= most)
                    .then_some(Lengths::Between(least, most))
                    .ok_or_else(wrong)
            }
        }
    }
}

impl fmt::Display for Lengths {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Lengths::Fixed(length) => write!(f, "{length}"),
            Lengths::Between(least, most) => write!(f, "{least}..{most}"),
            Lengths::Lognormal { mean, sigma } => write!(f, "lognormal:{mean},{sigma}"),
        }
    }
}

impl TryFrom<String> for Lengths {
    type Error = String;

    fn try_from(text: String) -> Result<Lengths, String> {
        text.parse()
    }
}

impl From<Lengths> for String {
    fn from(lengths: Lengths) -> String {
        lengths.to_string()
    }
}

/// Which part of a workload a random number is for; each has a stream of its own.
#[derive(Clone, Copy)]
pub(crate) enum Draws {
    Arrivals,
    Order,
}

impl Workload {
    /// Returns whether it sends one prompt again and again.
    pub fn repeats_one_prompt(&self) -> bool {
        self.prompts.starts_with(ONE_PROMPT)
    }

    /// Returns the random numbers of one part.
    pub(crate) fn random(&self, part: Draws) -> StdRng {
        StdRng::seed_from_u64(self.seed.wrapping_mul(31).wrapping_add(part as u64))
    }

    /// Returns when Poisson arrivals are due, in seconds from the start, in order and without end.
    pub(crate) fn due_moments(&self, rate: f64) -> impl Iterator<Item = f64> + use<> {
        let gaps = Exp::new(rate).expect("a rate above zero was checked");
        let mut random = self.random(Draws::Arrivals);
        let mut at = 0.0;
        std::iter::repeat_with(move || {
            at += gaps.sample(&mut random);
            at
        })
    }

    /// Checks what types cannot.
    ///
    /// # Errors
    /// What is wrong and what would work.
    pub fn check(&self) -> Result<(), String> {
        let within = |users: &[usize]| !users.is_empty() && users.iter().all(|users| (1..=10_000).contains(users));
        let is_time = |seconds: f64| seconds > 0.0 && seconds <= MOST_SECONDS;
        match &self.arrival {
            Arrival::Closed { users } if !within(&[*users]) => Err("use 1 to 10,000 users".into()),
            Arrival::Poisson { rate } if !(*rate > 0.0 && *rate <= 100_000.0) => Err(format!(
                "a rate of {rate} requests a second does not work; use more than 0 and at most 100,000"
            )),
            Arrival::Steps { users, seconds } if users.len() > MOST_STEPS || !within(users) || !is_time(*seconds) => {
                Err(format!(
                    "use up to {MOST_STEPS} steps of 1 to 10,000 users, each longer than 0 s and no longer than a day"
                ))
            }
            _ if matches!(self.span, Span::Requests(count) if !(1..=MOST_REQUESTS).contains(&count)) => {
                Err(format!("use 1 to {MOST_REQUESTS} requests"))
            }
            _ if matches!(self.span, Span::Seconds(seconds) if !is_time(seconds)) => {
                Err("use a time longer than 0 s and no longer than a day".into())
            }
            _ if self.warm_up > MOST_WARM_UP => Err(format!("use up to {MOST_WARM_UP} warm-up requests")),
            _ if !(self.pace > 0.0 && self.pace.is_finite()) => Err("use a pace above 0 tokens a second".into()),
            _ if self.force_length && self.output.is_none() => {
                Err("a forced length needs lengths for the answers".into())
            }
            _ => Ok(()),
        }
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use proptest::prelude::{prop_assert, proptest};

    pub(crate) fn workload(arrival: Arrival) -> Workload {
        Workload {
            model: "m".into(),
            prompts: "p".into(),
            arrival,
            span: Span::Requests(10),
            warm_up: 0,
            output: None,
            force_length: false,
            temperature: 0.0,
            seed: 7,
            pace: 10.0,
        }
    }

    #[test]
    fn lengths_are_written_as_they_are_read() {
        for text in ["128", "64..256", "lognormal:128,1.5"] {
            assert_eq!(text.parse::<Lengths>().unwrap().to_string(), text);
        }
        for wrong in [
            "",
            "0",
            "-3",
            "9..3",
            "lognormal:",
            "lognormal:0,1",
            "lognormal:5,99",
            "0..4",
            "x",
        ] {
            assert!(wrong.parse::<Lengths>().unwrap_err().contains("64..256"), "{wrong}");
        }
    }

    #[test]
    fn poisson_arrivals_repeat_and_keep_their_rate() {
        let load = workload(Arrival::Poisson { rate: 50.0 });
        let due = |count| load.due_moments(50.0).take(count).collect::<Vec<_>>();
        assert_eq!(due(5), due(5));
        let many = due(20_000);
        assert!(many.is_sorted());
        assert!((many[19_999] / 400.0 - 1.0).abs() < 0.03, "{}", many[19_999]);
    }

    #[test]
    fn a_lognormal_length_has_its_mean() {
        let lengths = Lengths::Lognormal {
            mean: 128.0,
            sigma: 1.0,
        };
        let mut random = workload(Arrival::Closed { users: 1 }).random(Draws::Order);
        let mean = (0..50_000).map(|_| lengths.draw(&mut random)).sum::<usize>() as f64 / 50_000.0;
        assert!((mean / 128.0 - 1.0).abs() < 0.05, "{mean}");
    }

    proptest! {
        #[test]
        fn lengths_never_panic_and_draws_stay_within(text in ".{0,24}", seed: u64) {
            if let Ok(lengths) = text.parse::<Lengths>() {
                let mut random = StdRng::seed_from_u64(seed);
                let drawn = lengths.draw(&mut random);
                prop_assert!(drawn >= 1);
                if let Lengths::Between(least, most) = lengths {
                    prop_assert!((least..=most).contains(&drawn));
                }
            }
        }
    }
}
