//! What tells families of models apart, as data.

/// The function inside an MLP's gate.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Activation {
    /// x / (1 + e⁻ˣ).
    Silu,
    /// "Gaussian Error Linear Units (GELUs)", Hendrycks and Gimpel, 2016, in its form with tanh.
    GeluTanh,
}

/// Which layers see only the last tokens.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Windowed {
    /// None; a config that asks for windows is refused.
    Never,
    /// All, where `sliding_window` is set.
    Every,
    /// Those from `max_window_layers` on, where `use_sliding_window` is true.
    Later,
    /// All but each n-th, which `sliding_window_pattern` may say otherwise.
    AllButEach(usize),
}

/// How the tensors of experts are called.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ExpertNames {
    /// The part of a layer that holds router and experts.
    pub block: &'static str,
    /// Gate, up and down of each expert.
    pub parts: [&'static str; 3],
    /// The field with the number of experts.
    pub(super) count: &'static str,
    /// The field with their inner width.
    pub(super) width: &'static str,
}

/// What tells a family of models from the common layout.
pub(super) struct Family {
    /// The name that `config.json` carries.
    pub name: &'static str,
    /// Whether queries, keys and values have biases; as `attention_bias` says when absent.
    pub attention_bias: Option<bool>,
    /// Whether the projection out of attention has one; as `attention_bias` says when absent.
    pub output_bias: Option<bool>,
    /// Whether heads are normed.
    pub head_norm: bool,
    /// Whether queries, keys and values are one tensor, and gate and up another.
    pub fused: bool,
    /// Whether norms scale by one plus their weight.
    pub norms_from_one: bool,
    /// Whether what attention and MLP give is normed before it is added.
    pub after_norms: bool,
    /// Whether embeddings are scaled by the root of the width.
    pub scaled_embedding: bool,
    /// The gate's function where the config names none.
    pub activation: Activation,
    /// Whether the head is the embedding where the config does not say.
    pub tied_head: bool,
    /// Which layers have windows.
    pub windowed: Windowed,
    /// The window where the config names none.
    pub window: Option<u64>,
    /// The size whose root divides scores where the config names none; else that of a head.
    pub score_size: Option<f64>,
    /// The soft caps on scores and on logits where the config does not say.
    pub caps: (Option<f64>, Option<f64>),
    /// The base of rotary positions where the config names none.
    pub theta: f64,
    /// The base of rotary positions in layers with windows where the config names none.
    pub local_theta: Option<f64>,
    /// Experts.
    pub experts: Option<ExpertNames>,
    /// Fields beyond the common ones that it reads.
    pub reads: &'static [&'static str],
}

/// The common layout, as the first of these models had it.
const COMMON: Family = Family {
    name: "LlamaForCausalLM",
    attention_bias: None,
    output_bias: None,
    head_norm: false,
    fused: false,
    norms_from_one: false,
    after_norms: false,
    scaled_embedding: false,
    activation: Activation::Silu,
    tied_head: false,
    windowed: Windowed::Never,
    window: None,
    score_size: None,
    caps: (None, None),
    theta: 10_000.0,
    local_theta: None,
    experts: None,
    reads: &[],
};

/// The families that can be run. Another is added by an entry, as long as the arithmetic there is all it needs.
pub(super) const FAMILIES: [Family; 10] = [
    COMMON,
    Family {
        name: "MistralForCausalLM",
        attention_bias: Some(false),
        output_bias: Some(false),
        windowed: Windowed::Every,
        ..COMMON
    },
    Family {
        name: "Qwen2ForCausalLM",
        attention_bias: Some(true),
        output_bias: Some(false),
        windowed: Windowed::Later,
        ..COMMON
    },
    Family {
        name: "Qwen3ForCausalLM",
        head_norm: true,
        windowed: Windowed::Later,
        ..COMMON
    },
    Family {
        name: "Gemma2ForCausalLM",
        windowed: Windowed::AllButEach(2),
        caps: (Some(50.0), Some(30.0)),
        ..GEMMA
    },
    Family {
        name: "Gemma3ForCausalLM",
        head_norm: true,
        windowed: Windowed::AllButEach(6),
        theta: 1_000_000.0,
        local_theta: Some(10_000.0),
        ..GEMMA
    },
    Family {
        name: "Phi3ForCausalLM",
        fused: true,
        windowed: Windowed::Every,
        ..COMMON
    },
    Family {
        name: "GraniteForCausalLM",
        reads: &[
            "embedding_multiplier",
            "residual_multiplier",
            "attention_multiplier",
            "logits_scaling",
        ],
        ..COMMON
    },
    Family {
        name: "MixtralForCausalLM",
        attention_bias: Some(false),
        output_bias: Some(false),
        windowed: Windowed::Every,
        experts: Some(ExpertNames {
            block: "block_sparse_moe",
            parts: ["w1", "w3", "w2"],
            count: "num_local_experts",
            width: "intermediate_size",
        }),
        reads: &["num_local_experts"],
        ..COMMON
    },
    Family {
        name: "Qwen3MoeForCausalLM",
        head_norm: true,
        windowed: Windowed::Later,
        experts: Some(ExpertNames {
            block: "mlp",
            parts: ["gate_proj", "up_proj", "down_proj"],
            count: "num_experts",
            width: "moe_intermediate_size",
        }),
        reads: &["num_experts"],
        ..COMMON
    },
];

const GEMMA: Family = Family {
    norms_from_one: true,
    after_norms: true,
    scaled_embedding: true,
    activation: Activation::GeluTanh,
    tied_head: true,
    window: Some(4096),
    score_size: Some(256.0),
    reads: &[
        "query_pre_attn_scalar",
        "attn_logit_softcapping",
        "final_logit_softcapping",
    ],
    ..COMMON
};
