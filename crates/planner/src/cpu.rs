//! What a processor has, and how long a step takes there: by what was measured on it.
//!
//! A processor's caches, threads and instruction sets make its speed no matter of two peaks, so that real steps of small models are timed
//! once: how fast weights of each precision meet so many rows, from a model that lies in the near caches to one that lies in memory; how
//! fast attention is with parts of so many tokens; and what a step takes besides. Between what was measured, rates are interpolated, linear
//! in the logarithms.

use crate::cost::{CostRow, StepCost, StepTimes};
use crate::profile::{Power, Price, ProfileError};
use bytesize::ByteSize;
use serde::{Deserialize, Serialize};
use vastrelay_weights::description::{AttentionReach, ModelDescription};
use vastrelay_weights::precision::{Bits, KvPrecision, Precisions};
use vastrelay_weights::{Kind, Precision};

use crate::accelerator::Role;

/// The processor of a machine, or a part of it, as its TOML file says.
#[derive(Clone, Debug, PartialEq, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct CpuProfile {
    /// `cpu`.
    pub name: String,
    /// Cores that replicas may use; all when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cores: Option<usize>,
    /// Memory that they may use; all of the machine's when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory: Option<ByteSize>,
    /// Memory of that which the system and other programs need; three fifths when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reserve: Option<ByteSize>,
    /// Its power, where that is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub power: Option<Power>,
    /// Its price, where that is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub price: Option<Price>,
    /// How fast it is, where that was measured.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub speed: Option<CpuSpeed>,
}

/// What was measured of a processor.
#[derive(Clone, Debug, PartialEq, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct CpuSpeed {
    /// Instructions of the kernels.
    pub instructions: String,
    /// Cores that took part.
    pub cores: usize,
    /// Seconds of a step whatever is in it, for each layer.
    pub layer: f64,
    /// Seconds for each token, layer and number of the model's width.
    pub element: f64,
    /// Seconds for each token that is chosen and each of the vocabulary.
    pub choice: f64,
    /// How fast matrices are.
    pub products: Vec<Products>,
    /// How fast attention is.
    pub attention: Vec<AttentionRates>,
}

/// How fast matrices of one precision are in a model of one size.
#[derive(Clone, Debug, PartialEq, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct Products {
    /// `f32`, `bf16`, `int8` or `int4`.
    pub weights: String,
    /// Bytes of all weights of the model.
    pub bytes: f64,
    /// How many rows met the weights at once.
    pub rows: Vec<usize>,
    /// Weights times rows in a second, for each of them.
    pub rates: Vec<f64>,
}

/// How fast attention is over keys and values of one precision.
#[derive(Clone, Debug, PartialEq, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct AttentionRates {
    /// `f32`, `bf16` or `int8`.
    pub kv: String,
    /// Query heads that share each key and value head.
    pub sharing: usize,
    /// Numbers of each head.
    pub head: usize,
    /// How many tokens of one sequence were computed at once.
    pub tokens: Vec<usize>,
    /// Pairs of tokens times numbers of the queries in a second, for each of them.
    pub rates: Vec<f64>,
}

impl CpuProfile {
    /// Returns the whole processor, whose speed is not known.
    pub fn whole() -> CpuProfile {
        CpuProfile {
            name: "cpu".into(),
            cores: None,
            memory: None,
            reserve: None,
            power: None,
            price: None,
            speed: None,
        }
    }

    /// Returns it as the text of its file.
    ///
    /// # Panics
    /// Never: all that it has can be written as TOML.
    pub fn to_toml(&self) -> String {
        let head = "# The processor of this machine, as `vastrelay device measure` found it.\n";
        head.to_owned() + &toml::to_string(self).expect("a profile can be written")
    }

    pub(crate) fn check(&self) -> Result<(), ProfileError> {
        let refuse = |key, found: String, wanted| Err(ProfileError::Value { key, found, wanted });
        if self.cores == Some(0) {
            return refuse("cores", "0".into(), "use 1 or more");
        }
        if self.memory.is_some_and(|memory| memory.as_u64() < 1 << 20) {
            return refuse("memory", "less than 1 MiB".into(), "use a size such as \"8 GiB\"");
        }
        if let (Some(reserve), Some(memory)) = (self.reserve, self.memory)
            && reserve >= memory
        {
            return refuse("reserve", reserve.to_string(), "use less than `memory`");
        }
        self.price.as_ref().map_or(Ok(()), Price::check)?;
        let Some(speed) = &self.speed else { return Ok(()) };
        for (key, value) in [
            ("layer", speed.layer),
            ("element", speed.element),
            ("choice", speed.choice),
        ] {
            if !(0.0..=1.0).contains(&value) {
                return refuse(key, value.to_string(), "use seconds, such as 1e-6");
            }
        }
        let curve = |at: &[usize], rates: &[f64]| {
            !at.is_empty()
                && at.len() == rates.len()
                && at.is_sorted_by(|a, b| a < b)
                && at[0] > 0
                && rates.iter().all(|rate| (1.0..=1e21).contains(rate))
        };
        let products =
            |of: &Products| KINDS.contains(&of.weights.as_str()) && of.bytes >= 1.0 && curve(&of.rows, &of.rates);
        if !speed.products.iter().all(products) || KINDS.iter().any(|kind| speed.of_kind(kind).next().is_none()) {
            let found = "incomplete or not in order".into();
            return refuse("speed.products", found, "use what `vastrelay device measure` writes");
        }
        let attention = |of: &AttentionRates| of.sharing > 0 && of.head > 0 && curve(&of.tokens, &of.rates);
        let is_usual = |of: &AttentionRates| of.sharing == USUAL_SHARING && of.head == USUAL_HEAD;
        let has = |kv: &&str| speed.attention.iter().any(|rates| rates.kv == **kv && is_usual(rates));
        if !speed.attention.iter().all(attention) || !["f32", "bf16", "int8"].iter().all(has) {
            let found = "incomplete or not in order".into();
            return refuse("speed.attention", found, "use what `vastrelay device measure` writes");
        }
        Ok(())
    }
}

/// Query heads that share each key and value head where the size of heads is what is measured.
pub const USUAL_SHARING: usize = 3;
/// Numbers of each head where their sharing is what is measured.
pub const USUAL_HEAD: usize = 64;
/// The kinds of weights that are measured.
pub const KINDS: [&str; 4] = ["f32", "bf16", "int8", "int4"];

impl CpuSpeed {
    fn of_kind<'a>(&'a self, kind: &'a str) -> impl Iterator<Item = &'a Products> {
        self.products.iter().filter(move |products| products.weights == kind)
    }

    /// Returns how many weights times rows a second make, with weights of a kind in a model of so many bytes.
    fn products(&self, kind: &str, bytes: f64, rows: f64) -> f64 {
        let mut sizes: Vec<(f64, f64)> = self
            .of_kind(kind)
            .map(|products| (products.bytes, along(&products.rows, &products.rates, rows)))
            .collect();
        sizes.sort_by(|a, b| a.0.total_cmp(&b.0));
        interpolated(&sizes, bytes)
    }

    /// Returns how many pairs of tokens times numbers of the queries a second makes, for parts of so many tokens: how it depends on sharing
    /// and how on the size of heads are taken for independent of each other.
    fn attention(&self, kv: KvPrecision, sharing: f64, head: f64, tokens: f64) -> f64 {
        let rate = |rates: &AttentionRates| along(&rates.tokens, &rates.rates, tokens);
        let of_kv = || self.attention.iter().filter(|rates| rates.kv == kv.name());
        let curve = |points: Vec<(f64, f64)>, place: f64| {
            let mut points = points;
            points.sort_by(|a, b| a.0.total_cmp(&b.0));
            interpolated(&points, place)
        };
        let by_sharing = of_kv().filter(|rates| rates.head == USUAL_HEAD);
        let by_sharing = by_sharing.map(|rates| (rates.sharing as f64, rate(rates))).collect();
        let by_head = of_kv().filter(|rates| rates.sharing == USUAL_SHARING);
        let by_head: Vec<(f64, f64)> = by_head.map(|rates| (rates.head as f64, rate(rates))).collect();
        curve(by_sharing, sharing) * curve(by_head.clone(), head) / curve(by_head, USUAL_HEAD as f64)
    }
}

/// Returns a rate at a place between those where it was measured.
fn along(at: &[usize], rates: &[f64], place: f64) -> f64 {
    let points: Vec<(f64, f64)> = at.iter().zip(rates).map(|(at, rate)| (*at as f64, *rate)).collect();
    interpolated(&points, place)
}

/// Interpolates between points that come in order, linear in the logarithms; beyond them it stays as it is at their end.
fn interpolated(points: &[(f64, f64)], place: f64) -> f64 {
    let after = points.partition_point(|(at, _)| *at < place);
    if after == 0 || after == points.len() {
        return points[after.min(points.len() - 1)].1;
    }
    let ((x0, y0), (x1, y1)) = (points[after - 1], points[after]);
    let part = (place / x0).ln() / (x1 / x0).ln();
    (y0.ln() + part * (y1 / y0).ln()).exp()
}

/// What a replica's steps cost on a processor.
#[derive(Clone, Debug)]
pub struct CpuCost {
    speed: CpuSpeed,
    kv: KvPrecision,
    layers: f64,
    width: f64,
    query_width: f64,
    /// Query heads that share each key and value head.
    sharing: f64,
    /// Numbers of each head.
    head_dim: f64,
    vocabulary: f64,
    /// Bytes of all weights that a step reads.
    bytes: f64,
    /// Weights that every token meets, by kind.
    dense: Vec<(&'static str, f64)>,
    /// Weights of one expert in all layers, by kind, how many experts there are, and how many a token meets.
    expert: Vec<(&'static str, f64)>,
    experts: f64,
    experts_used: f64,
    head: (&'static str, f64),
    reaches: Vec<AttentionReach>,
}

impl CpuCost {
    /// Returns the cost of a model's steps in some precisions on a processor of a speed; `stored` says what its tensors are.
    pub fn new(
        model: &ModelDescription,
        stored: &dyn Fn(&str) -> Kind,
        precisions: Precisions,
        speed: &CpuSpeed,
    ) -> CpuCost {
        let (mut dense, mut expert, mut head) = (Vec::new(), Vec::new(), ("f32", 0.0));
        let mut bytes = 0.0;
        for (name, shape) in model.tensors() {
            let role = Role::of(&name, &shape);
            let precision = match role {
                Role::Vector => continue,
                Role::Embedding | Role::Head => precisions.weights.of_embeddings(),
                _ => precisions.weights,
            };
            let weights: usize = shape.iter().product();
            let kind = stored(&name).in_precision(precision);
            match role {
                Role::Embedding if !model.tied_head => continue,
                Role::Embedding | Role::Head => head = (measured_as(kind), weights as f64),
                Role::Experts if name.contains(".experts.") => add(&mut expert, kind, weights),
                _ => add(&mut dense, kind, weights),
            }
            bytes += kind.bytes(weights, size_of::<f32>()) as f64;
        }
        let experts = model.experts.as_ref().map_or(0, |experts| experts.count) as f64;
        expert.iter_mut().for_each(|(_, weights)| *weights /= experts.max(1.0));
        CpuCost {
            speed: speed.clone(),
            kv: precisions.kv,
            layers: model.layers as f64,
            width: model.width as f64,
            query_width: (model.heads * model.head_dim) as f64,
            sharing: model.heads as f64 / model.kv_heads as f64,
            head_dim: model.head_dim as f64,
            vocabulary: model.vocabulary as f64,
            bytes,
            dense,
            expert,
            experts,
            experts_used: model.experts.as_ref().map_or(0, |experts| experts.used) as f64,
            head,
            reaches: model.reaches(),
        }
    }

    /// Returns the seconds in which so many rows meet weights.
    fn meet(&self, kind: &str, weights: f64, rows: f64) -> f64 {
        weights * rows / self.speed.products(kind, self.bytes, rows)
    }

    fn matrices(&self, tokens: f64) -> f64 {
        let dense: f64 = self
            .dense
            .iter()
            .map(|(kind, weights)| self.meet(kind, *weights, tokens))
            .sum();
        if self.experts == 0.0 {
            return dense;
        }
        // As many experts as the tokens are expected to touch, each with its part of them.
        let touched = self.experts * (1.0 - (1.0 - self.experts_used / self.experts).powf(tokens));
        let each = tokens * self.experts_used / touched;
        let experts = self
            .expert
            .iter()
            .map(|(kind, weights)| self.meet(kind, weights * touched, each));
        dense + experts.sum::<f64>()
    }

    fn attention(&self, reach: &AttentionReach, rows: &[CostRow]) -> f64 {
        let of = |row: &CostRow| {
            let (tokens, start) = (row.tokens as f64, row.start as f64);
            let seen = reach.window.map_or(f64::MAX, |window| window as f64);
            // Each token sees those up to itself.
            let mean = (start + (tokens + 1.0) / 2.0).min(seen);
            tokens * mean * self.query_width / self.speed.attention(self.kv, self.sharing, self.head_dim, tokens)
        };
        reach.layers as f64 * rows.iter().map(of).sum::<f64>()
    }
}

impl StepTimes for CpuCost {
    fn step(&self, rows: &[CostRow]) -> StepCost {
        let tokens = rows.iter().map(|row| row.tokens).sum::<usize>() as f64;
        if tokens == 0.0 {
            return StepCost::default();
        }
        let chosen = rows.iter().filter(|row| row.chooses).count() as f64;
        let (kind, weights) = self.head;
        StepCost {
            matrices: self.matrices(tokens),
            attention: self.reaches.iter().map(|reach| self.attention(reach, rows)).sum(),
            head: if chosen > 0.0 {
                self.meet(kind, weights, chosen)
            } else {
                0.0
            } + chosen * self.vocabulary * self.speed.choice,
            launches: self.layers * (self.speed.layer + tokens * self.width * self.speed.element),
            sums: 0.0,
        }
    }
}

/// Returns which measurement stands for a kind of weights: narrow floats are widened as they are read, like bf16.
fn measured_as(kind: Kind) -> &'static str {
    match kind {
        Kind::F32 => "f32",
        Kind::Bf16 | Kind::F16 | Kind::F8 { .. } => "bf16",
        Kind::Groups { bits: Bits::Eight, .. } => "int8",
        Kind::Groups { bits: Bits::Four, .. } => "int4",
    }
}

fn add(sums: &mut Vec<(&'static str, f64)>, kind: Kind, weights: usize) {
    let kind = measured_as(kind);
    match sums.iter_mut().find(|(known, _)| *known == kind) {
        Some((_, sum)) => *sum += weights as f64,
        None => sums.push((kind, weights as f64)),
    }
}

/// Returns the precision of weights that a measurement is of.
///
/// # Panics
/// When it is none of [`KINDS`].
pub fn precision_of(kind: &str) -> Precision {
    Precision::of(kind, None).expect("a measured kind is a precision")
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A processor that is as fast with any rows, in a model of any size.
    fn steady() -> CpuSpeed {
        let products = |weights: &&str| Products {
            weights: (*weights).to_owned(),
            bytes: 1e6,
            rows: vec![1],
            rates: vec![1e9],
        };
        let attention = |kv: &&str| AttentionRates {
            kv: (*kv).to_owned(),
            sharing: USUAL_SHARING,
            head: USUAL_HEAD,
            tokens: vec![1],
            rates: vec![1e9],
        };
        CpuSpeed {
            instructions: "portable".into(),
            cores: 1,
            layer: 1e-6,
            element: 0.0,
            choice: 0.0,
            products: KINDS.iter().map(products).collect(),
            attention: ["f32", "bf16", "int8"].iter().map(attention).collect(),
        }
    }

    #[test]
    fn a_step_is_the_sum_of_what_meets_what() {
        let config = r#"{"architectures": ["LlamaForCausalLM"], "vocab_size": 1000, "hidden_size": 64, "intermediate_size": 100,
            "num_hidden_layers": 3, "num_attention_heads": 4, "num_key_value_heads": 2, "rms_norm_eps": 1e-5,
            "max_position_embeddings": 256, "tie_word_embeddings": true}"#;
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("config.json"), config).unwrap();
        let model = ModelDescription::open(folder.path()).unwrap();
        let cost = CpuCost::new(&model, &|_| Kind::Bf16, Precisions::default(), &steady());
        let step = cost.step(&[CostRow::decode(99), CostRow::decode(9)]);
        let layer = 64 * (64 + 32 + 32 + 64) + 3 * 64 * 100;
        let close = |seconds: f64, products: usize| (seconds * 1e9 / products as f64 - 1.0).abs() < 1e-9;
        assert!(close(step.matrices, 2 * 3 * layer), "{step:?}");
        assert!(close(step.head, 2 * 64_000), "{step:?}");
        assert!(close(step.attention, (100 + 10) * 64 * 3), "{step:?}");
        assert!((step.launches - 3e-6).abs() < 1e-12 && step.sums == 0.0, "{step:?}");
        assert_eq!(cost.step(&[]), StepCost::default());
    }

    #[test]
    fn a_token_meets_the_experts_that_it_uses_besides_all_other_matrices() {
        let config = r#"{"architectures": ["MixtralForCausalLM"], "vocab_size": 1000, "hidden_size": 64, "intermediate_size": 100,
            "num_hidden_layers": 3, "num_attention_heads": 4, "num_key_value_heads": 2, "rms_norm_eps": 1e-5,
            "max_position_embeddings": 256, "num_local_experts": 8, "num_experts_per_tok": 2}"#;
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("config.json"), config).unwrap();
        let model = ModelDescription::open(folder.path()).unwrap();
        let cost = CpuCost::new(&model, &|_| Kind::Bf16, Precisions::default(), &steady());
        let (dense, expert) = (3 * (64 * (64 + 32 + 32 + 64) + 64 * 8), 3 * 3 * 64 * 100);
        for tokens in [1, 5] {
            let step = cost.step(&vec![CostRow::decode(9); tokens]);
            let products = (tokens * (dense + 2 * expert)) as f64;
            assert!((step.matrices * 1e9 / products - 1.0).abs() < 1e-9, "{step:?}");
        }
    }

    #[test]
    fn a_profile_of_the_cpu_is_read_and_what_is_wrong_with_it_is_said() {
        use crate::profiles::Profile;
        let part = "name = \"cpu\"\ncores = 2\nmemory = \"4 GiB\"\nprice = { hour = 0.2 }\n";
        let Ok(Profile::Cpu(read)) = Profile::parse(part) else {
            panic!("it is sound")
        };
        assert_eq!((read.cores, read.memory), (Some(2), Some(ByteSize::gib(4))));
        let whole = CpuProfile {
            speed: Some(steady()),
            ..CpuProfile::whole()
        };
        assert_eq!(Profile::parse(&whole.to_toml()), Ok(Profile::Cpu(whole.clone())));
        let wrong = |text: &str| Profile::parse(text).unwrap_err().to_string();
        assert!(wrong("name = \"cpu\"\ncores = 0").contains("`cores`"));
        assert!(wrong("name = \"cpu\"\nmemory = \"1 KiB\"").contains("`memory`"));
        assert!(wrong("name = \"cpu\"\nmemory = \"1 GiB\"\nreserve = \"2 GiB\"").contains("`reserve`"));
        assert!(wrong("name = \"cpu\"\ncount = 3").contains("line 2"));
        for (from, to) in [
            ("rates = [1000000000.0]", "rates = []"),
            ("\"int4\"", "\"int8\""),
            ("\"f32\"", "\"f64\""),
            (
                "rows = [1]\nrates = [1000000000.0]",
                "rows = [1, 1]\nrates = [1e9, 1e9]",
            ),
            ("rows = [1]", "rows = [0]"),
        ] {
            let text = whole.to_toml();
            assert!(text.contains(from), "{text}");
            assert!(
                wrong(&text.replacen(from, to, 1)).contains("vastrelay device measure"),
                "{to}"
            );
        }
    }

    #[test]
    fn rates_lie_between_those_that_were_measured() {
        let points = [(1.0, 10.0), (100.0, 1000.0)];
        let at = |place| interpolated(&points, place);
        for (place, rate) in [(0.1, 10.0), (1.0, 10.0), (10.0, 100.0), (100.0, 1000.0), (1e9, 1000.0)] {
            assert!((at(place) / rate - 1.0_f64).abs() < 1e-9, "{place}");
        }
    }
}
