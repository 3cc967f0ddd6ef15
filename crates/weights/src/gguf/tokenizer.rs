//! A GGUF file's tokenizer, in the words of `tokenizer.json`.

use super::{Gguf, Setting};
use crate::error::WeightsError;
use serde_json::{Map, Value, json};
use std::collections::HashMap;

/// Kinds of tokens, as files number them.
const UNKNOWN: i128 = 2;
const CONTROL: i128 = 3;
const USER_DEFINED: i128 = 4;

/// How text is cut before its bytes are merged, by the names that files carry: a pattern, and whether whole tokens of the
/// vocabulary need no merges.
const CUTS: [(&str, Cut); 8] = [
    ("default", Cut::Words),
    ("gpt-2", Cut::Words),
    ("smollm", Cut::DigitsThenWords),
    ("starcoder", Cut::DigitsThenWords),
    ("refact", Cut::DigitsThenWords),
    ("command-r", Cut::DigitsThenWords),
    ("llama-bpe", Cut::Pattern(THREE_DIGITS, true)),
    ("qwen2", Cut::Pattern(ONE_DIGIT, false)),
];

const THREE_DIGITS: &str = r"(?i:'s|'t|'re|'ve|'m|'ll|'d)|[^\r\n\p{L}\p{N}]?\p{L}+|\p{N}{1,3}| ?[^\s\p{L}\p{N}]+[\r\n]*|\s*[\r\n]+|\s+(?!\S)|\s+";
const ONE_DIGIT: &str =
    r"(?i:'s|'t|'re|'ve|'m|'ll|'d)|[^\r\n\p{L}\p{N}]?\p{L}+|\p{N}| ?[^\s\p{L}\p{N}]+[\r\n]*|\s*[\r\n]+|\s+(?!\S)|\s+";

#[derive(Clone, Copy)]
enum Cut {
    /// Words, numbers, other signs, each with the space before.
    Words,
    /// Single digits first, then the same.
    DigitsThenWords,
    /// By a pattern; with `true`, a piece that is a token as it stands is not merged.
    Pattern(&'static str, bool),
}

/// The vocabulary as the file has it.
struct Vocabulary<'a> {
    tokens: Vec<&'a str>,
    kinds: Vec<i128>,
}

impl Gguf {
    /// Returns what `tokenizer.json` would say.
    ///
    /// # Errors
    /// When the tokenizer is of a kind that is not known.
    pub fn tokenizer(&self) -> Result<Value, WeightsError> {
        let vocabulary = self.vocabulary()?;
        match self.text("tokenizer.ggml.model") {
            Some("gpt2") => self.byte_level(&vocabulary),
            Some("llama") => self.scored(&vocabulary),
            _ => Err(self.refused(
                "tokenizer.ggml.model",
                "\"gpt2\" (byte-level) and \"llama\" (scored pieces) can be read",
            )),
        }
    }

    fn vocabulary(&self) -> Result<Vocabulary<'_>, WeightsError> {
        let field = "tokenizer.ggml.tokens";
        let list = self.list(field).unwrap_or_default();
        let tokens: Option<Vec<&str>> = list
            .iter()
            .map(|token| match token {
                Setting::Text(text) => Some(text.as_str()),
                _ => None,
            })
            .collect();
        let tokens = tokens.filter(|tokens| !tokens.is_empty());
        let tokens = tokens.ok_or_else(|| self.refused(field, "must be a list of texts"))?;
        let kinds = self.list("tokenizer.ggml.token_type").unwrap_or_default();
        let kind = |index: usize| match kinds.get(index) {
            Some(Setting::Whole(kind)) => *kind,
            _ => 1,
        };
        Ok(Vocabulary {
            kinds: (0..tokens.len()).map(kind).collect(),
            tokens,
        })
    }

    /// Byte-level pairs ("Neural Machine Translation of Rare Words with Subword Units", Sennrich et al., 2016), over bytes.
    fn byte_level(&self, vocabulary: &Vocabulary<'_>) -> Result<Value, WeightsError> {
        let field = "tokenizer.ggml.pre";
        let kind = self.text(field).unwrap_or("default");
        let Some((_, cut)) = CUTS.iter().find(|(name, _)| *name == kind) else {
            let known: Vec<&str> = CUTS.iter().map(|(name, _)| *name).collect();
            return Err(self.refused(field, &format!("{} can be read", known.join(", "))));
        };
        let merges: Vec<&str> = self
            .list("tokenizer.ggml.merges")
            .unwrap_or_default()
            .iter()
            .filter_map(|merge| match merge {
                Setting::Text(text) => Some(text.as_str()),
                _ => None,
            })
            .collect();
        let bytes = |by_words: bool| json!({"type": "ByteLevel", "add_prefix_space": false, "trim_offsets": true, "use_regex": by_words});
        let cutting = match cut {
            Cut::Words => bytes(true),
            Cut::DigitsThenWords => json!({"type": "Sequence", "pretokenizers": [
                {"type": "Digits", "individual_digits": true}, bytes(true)]}),
            Cut::Pattern(pattern, _) => json!({"type": "Sequence", "pretokenizers": [
                {"type": "Split", "pattern": {"Regex": pattern}, "behavior": "Isolated", "invert": false}, bytes(false)]}),
        };
        Ok(json!({
            "version": "1.0", "truncation": null, "padding": null,
            "added_tokens": vocabulary.added(),
            "normalizer": null,
            "pre_tokenizer": cutting,
            "post_processor": self.start(vocabulary, false),
            "decoder": bytes(true),
            "model": {"type": "BPE", "dropout": null, "unk_token": null, "continuing_subword_prefix": null,
                "end_of_word_suffix": null, "fuse_unk": false, "byte_fallback": false,
                "ignore_merges": matches!(cut, Cut::Pattern(_, true)),
                "vocab": vocabulary.numbered(), "merges": merges},
        }))
    }

    /// Pieces with scores ("SentencePiece: A simple and language independent subword tokenizer", Kudo and Richardson, 2018):
    /// the pair whose joined piece has the best score is merged first, and unknown characters fall back to bytes.
    fn scored(&self, vocabulary: &Vocabulary<'_>) -> Result<Value, WeightsError> {
        let field = "tokenizer.ggml.scores";
        let scores: Option<Vec<f64>> = self
            .list(field)
            .unwrap_or_default()
            .iter()
            .map(|score| match score {
                Setting::Number(score) => Some(*score),
                Setting::Whole(score) => Some(*score as f64),
                _ => None,
            })
            .collect();
        let scores = scores.filter(|scores| scores.len() == vocabulary.tokens.len());
        let scores = scores.ok_or_else(|| self.refused(field, "it has to have a number for each token"))?;
        let prefix = self.flag("tokenizer.ggml.add_space_prefix").unwrap_or(true);
        let spaces = json!({"type": "Replace", "pattern": {"String": " "}, "content": "▁"});
        let normalizer = if prefix {
            json!({"type": "Sequence", "normalizers": [{"type": "Prepend", "prepend": "▁"}, spaces]})
        } else {
            spaces
        };
        let mut decoders = vec![
            json!({"type": "Replace", "pattern": {"String": "▁"}, "content": " "}),
            json!({"type": "ByteFallback"}),
            json!({"type": "Fuse"}),
        ];
        if prefix {
            decoders.push(json!({"type": "Strip", "content": " ", "start": 1, "stop": 0}));
        }
        let unknown = vocabulary.kinds.iter().position(|kind| *kind == UNKNOWN);
        Ok(json!({
            "version": "1.0", "truncation": null, "padding": null,
            "added_tokens": vocabulary.added(),
            "normalizer": normalizer,
            "pre_tokenizer": null,
            "post_processor": self.start(vocabulary, true),
            "decoder": {"type": "Sequence", "decoders": decoders},
            "model": {"type": "BPE", "dropout": null, "unk_token": unknown.map(|id| vocabulary.tokens[id]),
                "continuing_subword_prefix": null, "end_of_word_suffix": null, "fuse_unk": true, "byte_fallback": true,
                "ignore_merges": false, "vocab": vocabulary.numbered(), "merges": vocabulary.merges(&scores)},
        }))
    }

    /// Returns what puts the start token before plain text, where the file wants one.
    fn start(&self, vocabulary: &Vocabulary<'_>, usual: bool) -> Value {
        let wanted = self.flag("tokenizer.ggml.add_bos_token").unwrap_or(usual);
        let id = self.whole("tokenizer.ggml.bos_token_id").filter(|_| wanted);
        let Some((id, token)) = id.and_then(|id| Some((id, *vocabulary.tokens.get(id as usize)?))) else {
            return Value::Null;
        };
        let text = |which: &str| json!({"Sequence": {"id": which, "type_id": 0}});
        let special = json!({"SpecialToken": {"id": token, "type_id": 0}});
        json!({"type": "TemplateProcessing", "single": [special, text("A")], "pair": [special, text("A"), text("B")],
            "special_tokens": {token: {"id": token, "ids": [id], "tokens": [token]}}})
    }
}

impl Vocabulary<'_> {
    fn numbered(&self) -> Map<String, Value> {
        self.tokens
            .iter()
            .enumerate()
            .map(|(id, token)| ((*token).to_owned(), json!(id)))
            .collect()
    }

    /// Returns tokens that are found in text before anything is cut.
    fn added(&self) -> Vec<Value> {
        let added = self
            .kinds
            .iter()
            .enumerate()
            .filter(|(_, kind)| matches!(**kind, CONTROL | USER_DEFINED));
        added
            .map(|(id, kind)| {
                json!({"id": id, "content": self.tokens[id], "single_word": false, "lstrip": false, "rstrip": false,
                    "normalized": false, "special": *kind == CONTROL})
            })
            .collect()
    }

    /// Returns every pair of pieces that makes a piece, the best score first.
    fn merges(&self, scores: &[f64]) -> Vec<Value> {
        let ids: HashMap<&str, usize> = self.tokens.iter().enumerate().map(|(id, token)| (*token, id)).collect();
        let mut pairs = Vec::new();
        for (id, token) in self.tokens.iter().enumerate() {
            for (middle, _) in token.char_indices().skip(1) {
                let (left, right) = token.split_at(middle);
                if let (Some(left), Some(right)) = (ids.get(left), ids.get(right)) {
                    pairs.push((id, *left, *right));
                }
            }
        }
        pairs.sort_by(|a, b| scores[b.0].total_cmp(&scores[a.0]).then((a.1, a.2).cmp(&(b.1, b.2))));
        pairs
            .into_iter()
            .map(|(_, left, right)| json!([self.tokens[left], self.tokens[right]]))
            .collect()
    }
}
