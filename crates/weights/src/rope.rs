//! Rotary frequencies, with the published ways to stretch them over longer contexts.

use serde_json::{Map, Value};
use std::f64::consts::TAU;

/// The rotary positions of a model.
#[derive(Clone, Debug, PartialEq)]
pub struct Rotary {
    /// Base of the frequencies.
    pub theta: f64,
    /// How they are stretched.
    pub scaling: RopeScaling,
}

/// A published way to stretch rotary positions over a longer context than was trained on.
#[derive(Clone, Debug, PartialEq)]
pub enum RopeScaling {
    /// Frequencies as they are.
    None,
    /// All positions divided by a factor ("Extending Context Window of Large Language Models via Positional
    /// Interpolation", Chen et al., 2023).
    Linear {
        /// The divisor.
        factor: f64,
    },
    /// A larger base for contexts beyond the trained one ("dynamic NTK"). The base is fixed by the context that is served,
    /// not by each sequence's length, so that keys in the cache stay valid and results do not depend on history.
    Dynamic {
        /// The stretch beyond the trained context.
        factor: f64,
        /// The trained context.
        trained: usize,
    },
    /// Low frequencies divided, high ones kept, a smooth passage between (Llama 3.1).
    Llama3 {
        /// The divisor of low frequencies.
        factor: f64,
        /// Wavelengths longer than the trained context over this are low.
        low: f64,
        /// Wavelengths shorter than the trained context over this are high.
        high: f64,
        /// The trained context.
        trained: usize,
    },
    /// "YaRN: Efficient Context Window Extension of Large Language Models", Peng et al., 2023.
    Yarn {
        /// The divisor of low frequencies.
        factor: f64,
        /// Rotations over the trained context above which a frequency is kept.
        beta_fast: f64,
        /// Rotations below which it is divided.
        beta_slow: f64,
        /// The trained context.
        trained: usize,
        /// What cosines and sines are multiplied with.
        attention: f64,
        /// Whether the bounds of the passage are rounded to whole dimensions.
        truncate: bool,
    },
    /// A divisor for each frequency, one list for contexts as trained and one for longer ones ("LongRoPE: Extending LLM
    /// Context Window Beyond 2 Million Tokens", Ding et al., 2024). The served context picks the list, as for `Dynamic`.
    Long {
        /// Divisors within the trained context; empty for none.
        short: Vec<f64>,
        /// Divisors beyond it.
        long: Vec<f64>,
        /// The trained context.
        trained: usize,
        /// What cosines and sines are multiplied with.
        attention: f64,
    },
}

impl RopeScaling {
    /// Reads a `rope_scaling` object; `context` is the model's own, for objects that do not name the trained one.
    ///
    /// # Errors
    /// The field that cannot be used and what would work.
    pub fn parse(object: &Map<String, Value>, context: usize) -> Result<RopeScaling, (String, String)> {
        let number = |field: &str, default: Option<f64>| match object.get(field).filter(|value| !value.is_null()) {
            None => default.ok_or_else(|| (field.to_owned(), "a number is needed here".to_owned())),
            Some(value) => value
                .as_f64()
                .filter(|number| number.is_finite() && *number > 0.0)
                .ok_or_else(|| (field.to_owned(), "must be a number above 0".to_owned())),
        };
        let kind = object
            .get("rope_type")
            .or_else(|| object.get("type"))
            .and_then(Value::as_str);
        let trained = number("original_max_position_embeddings", Some(context as f64))? as usize;
        match kind {
            Some("default") => Ok(RopeScaling::None),
            Some("linear") => Ok(RopeScaling::Linear {
                factor: number("factor", None)?,
            }),
            Some("dynamic") => Ok(RopeScaling::Dynamic {
                factor: number("factor", None)?,
                trained,
            }),
            Some("llama3") => Ok(RopeScaling::Llama3 {
                factor: number("factor", None)?,
                low: number("low_freq_factor", None)?,
                high: number("high_freq_factor", None)?,
                trained,
            }),
            Some("yarn") => {
                let factor = number("factor", None)?;
                let magnitude = |m: f64| {
                    if factor <= 1.0 {
                        1.0
                    } else {
                        0.1 * m * factor.ln() + 1.0
                    }
                };
                let attention = match (number("mscale", Some(0.0))?, number("mscale_all_dim", Some(0.0))?) {
                    (m, all) if m > 0.0 && all > 0.0 => magnitude(m) / magnitude(all),
                    _ => magnitude(1.0),
                };
                Ok(RopeScaling::Yarn {
                    factor,
                    beta_fast: number("beta_fast", Some(32.0))?,
                    beta_slow: number("beta_slow", Some(1.0))?,
                    trained,
                    attention: number("attention_factor", Some(attention))?,
                    truncate: object.get("truncate").and_then(Value::as_bool).unwrap_or(true),
                })
            }
            Some("longrope" | "su") => {
                let list = |field: &str| {
                    let numbers = object.get(field).and_then(Value::as_array);
                    let numbers = numbers.map(|list| list.iter().map(Value::as_f64).collect::<Option<Vec<f64>>>());
                    numbers
                        .flatten()
                        .filter(|list| list.iter().all(|number| number.is_finite() && *number > 0.0))
                        .ok_or_else(|| (field.to_owned(), "must be a list of numbers above 0".to_owned()))
                };
                let stretch = context as f64 / trained as f64;
                let attention = if stretch <= 1.0 {
                    1.0
                } else {
                    (1.0 + stretch.ln() / (trained as f64).ln()).sqrt()
                };
                Ok(RopeScaling::Long {
                    short: list("short_factor")?,
                    long: list("long_factor")?,
                    trained,
                    attention: number("attention_factor", Some(attention))?,
                })
            }
            _ => Err((
                "rope_type".into(),
                "default, linear, dynamic, llama3, yarn and longrope can be run".into(),
            )),
        }
    }
}

impl Rotary {
    /// Returns the inverse frequencies of a head (half its size) for a served context, and the factor on sines and cosines.
    pub fn frequencies(&self, head_dim: usize, context: usize) -> (Vec<f64>, f64) {
        let size = head_dim as f64;
        let plain = |theta: f64| (0..head_dim / 2).map(move |i| theta.powf(-2.0 * i as f64 / size));
        match self.scaling.clone() {
            RopeScaling::None => (plain(self.theta).collect(), 1.0),
            RopeScaling::Linear { factor } => (plain(self.theta).map(|f| f / factor).collect(), 1.0),
            RopeScaling::Dynamic { factor, trained } => {
                let stretch = factor * context.max(trained) as f64 / trained as f64 - (factor - 1.0);
                (plain(self.theta * stretch.powf(size / (size - 2.0))).collect(), 1.0)
            }
            RopeScaling::Llama3 {
                factor,
                low,
                high,
                trained,
            } => {
                let trained = trained as f64;
                let scaled = plain(self.theta).map(|f| {
                    let rotations = trained * f / TAU;
                    let keep = ((rotations - low) / (high - low)).clamp(0.0, 1.0);
                    (1.0 - keep) * f / factor + keep * f
                });
                (scaled.collect(), 1.0)
            }
            RopeScaling::Yarn {
                factor,
                beta_fast,
                beta_slow,
                trained,
                attention,
                truncate,
            } => {
                let dimension =
                    |rotations: f64| size * (trained as f64 / (rotations * TAU)).ln() / (2.0 * self.theta.ln());
                let (mut low, mut high) = (dimension(beta_fast), dimension(beta_slow));
                if truncate {
                    (low, high) = (low.floor(), high.ceil());
                }
                let low = low.max(0.0);
                let high = high.min(size - 1.0);
                let span = if high == low { 0.001 } else { high - low };
                let scaled = plain(self.theta).enumerate().map(|(i, f)| {
                    let divided = ((i as f64 - low) / span).clamp(0.0, 1.0);
                    f / factor * divided + f * (1.0 - divided)
                });
                (scaled.collect(), attention)
            }
            RopeScaling::Long {
                short,
                long,
                trained,
                attention,
            } => {
                let divisors = if context > trained { long } else { short };
                let scaled = plain(self.theta).zip(divisors).map(|(f, divisor)| f / divisor);
                (scaled.collect(), attention)
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn rotary(scaling: Value) -> Rotary {
        Rotary {
            theta: 10_000.0,
            scaling: RopeScaling::parse(scaling.as_object().unwrap(), 128).unwrap(),
        }
    }

    #[test]
    fn linear_divides_every_frequency() {
        let (plain, _) = Rotary {
            theta: 10_000.0,
            scaling: RopeScaling::None,
        }
        .frequencies(8, 128);
        let (scaled, _) = rotary(json!({"type": "linear", "factor": 4.0})).frequencies(8, 128);
        assert!(plain.iter().zip(&scaled).all(|(p, s)| (p / s - 4.0).abs() < 1e-12));
    }

    #[test]
    fn dynamic_changes_nothing_within_the_trained_context() {
        let scaled = rotary(json!({"rope_type": "dynamic", "factor": 2.0}));
        let plain = Rotary {
            theta: 10_000.0,
            scaling: RopeScaling::None,
        };
        assert_eq!(scaled.frequencies(8, 100), plain.frequencies(8, 100));
        assert!(scaled.frequencies(8, 512).0[3] < plain.frequencies(8, 512).0[3]);
    }

    #[test]
    fn llama3_keeps_high_and_divides_low_frequencies() {
        let scaled = rotary(json!({
            "rope_type": "llama3", "factor": 8.0, "low_freq_factor": 1.0, "high_freq_factor": 4.0,
            "original_max_position_embeddings": 128,
        }));
        let (scaled, plain) = (
            scaled.frequencies(32, 1024).0,
            rotary(json!({"rope_type": "default"})).frequencies(32, 1024).0,
        );
        assert_eq!(scaled[0], plain[0]);
        assert!((scaled[15] - plain[15] / 8.0).abs() < 1e-15);
        assert!(scaled.iter().zip(&plain).any(|(s, p)| s < p && *s > p / 8.0));
    }

    #[test]
    fn yarn_interpolates_between_its_bounds_and_scales_attention() {
        let yarn = rotary(json!({"rope_type": "yarn", "factor": 4.0, "original_max_position_embeddings": 2048}));
        let (scaled, attention) = yarn.frequencies(64, 8192);
        let plain = rotary(json!({"rope_type": "default"})).frequencies(64, 8192).0;
        assert!((attention - (0.1 * 4f64.ln() + 1.0)).abs() < 1e-12);
        assert_eq!(scaled[0], plain[0]);
        assert!((scaled[31] - plain[31] / 4.0).abs() < 1e-15);
    }

    #[test]
    fn long_takes_the_divisors_of_the_served_context() {
        let long = rotary(json!({
            "type": "longrope", "short_factor": [1.0, 2.0], "long_factor": [4.0, 8.0], "original_max_position_embeddings": 64,
        }));
        let plain = rotary(json!({"rope_type": "default"})).frequencies(4, 64).0;
        let (short, attention) = long.frequencies(4, 64);
        assert_eq!(short, [plain[0], plain[1] / 2.0]);
        assert!((attention - (1.0 + 2f64.ln() / 64f64.ln()).sqrt()).abs() < 1e-12);
        assert_eq!(long.frequencies(4, 128).0, [plain[0] / 4.0, plain[1] / 8.0]);
    }

    #[test]
    fn an_unknown_kind_and_a_missing_factor_are_named() {
        let parse = |v: Value| RopeScaling::parse(v.as_object().unwrap(), 128).unwrap_err().0;
        assert_eq!(parse(json!({"rope_type": "spiral"})), "rope_type");
        assert_eq!(parse(json!({"rope_type": "linear"})), "factor");
        assert_eq!(parse(json!({"rope_type": "linear", "factor": -1})), "factor");
    }
}
