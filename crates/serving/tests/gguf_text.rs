//! Tokenizers out of GGUF files cut text as their makers' algorithms do.

use proptest::prelude::*;
use std::path::PathBuf;
use vastrelay_serving::models::model::texts;
use vastrelay_specimen::gguf::{Setting, file};
use vastrelay_text::Tokenizer;
use vastrelay_weights::ModelFiles;

/// Pieces with scores: unknown, start, end, all bytes, and some words.
struct TokenLogprobs {
    tokens: Vec<String>,
    scores: Vec<f32>,
    kinds: Vec<i32>,
}

fn scored() -> TokenLogprobs {
    let mut pieces = TokenLogprobs {
        tokens: vec!["<unk>".into(), "<s>".into(), "</s>".into()],
        scores: vec![0.0; 3],
        kinds: vec![2, 3, 3],
    };
    for byte in 0..=255u8 {
        pieces.tokens.push(format!("<0x{byte:02X}>"));
        pieces.scores.push(0.0);
        pieces.kinds.push(6);
    }
    let words = [
        "▁", "a", "b", "c", "ab", "bc", "▁a", "▁ab", "abc", "ca", "▁b", "▁▁", "cab", "▁abc", "aa", "aab",
    ];
    for (index, word) in words.iter().enumerate() {
        pieces.tokens.push((*word).into());
        // Neither by length nor in order, so that the score alone decides.
        pieces.scores.push(-((index * 7 % words.len()) as f32));
        pieces.kinds.push(1);
    }
    pieces
}

fn open(settings: &[(&str, Setting)]) -> Result<Tokenizer, String> {
    let folder = tempfile::tempdir().unwrap();
    let path: PathBuf = folder.path().join("model.gguf");
    std::fs::write(&path, file(settings, &[])).unwrap();
    let read = |files| texts(&files).map(|(tokenizer, _)| tokenizer);
    let files = ModelFiles::open(&path).map_err(|error| error.to_string())?;
    read(files).map_err(|error| error.to_string())
}

fn scored_tokenizer(pieces: &TokenLogprobs) -> Tokenizer {
    open(&[
        ("tokenizer.ggml.model", Setting::Text("llama".into())),
        ("tokenizer.ggml.tokens", Setting::Texts(pieces.tokens.clone())),
        ("tokenizer.ggml.scores", Setting::Numbers(pieces.scores.clone())),
        ("tokenizer.ggml.token_type", Setting::Wholes(pieces.kinds.clone())),
        ("tokenizer.ggml.bos_token_id", Setting::Whole(1)),
    ])
    .unwrap()
}

/// The published algorithm, as plainly as can be: the adjacent pair whose joined piece has the best score is joined, the
/// leftmost first, until no pair makes a piece; what is no piece then falls back to its bytes.
fn by_hand(pieces: &TokenLogprobs, text: &str) -> Vec<u32> {
    let id = |piece: &str| pieces.tokens.iter().position(|token| token == piece);
    let mut parts: Vec<String> = format!("▁{}", text.replace(' ', "▁"))
        .chars()
        .map(String::from)
        .collect();
    loop {
        let mut best: Option<(f32, usize)> = None;
        for at in 0..parts.len().saturating_sub(1) {
            if let Some(joined) = id(&format!("{}{}", parts[at], parts[at + 1]))
                && best.is_none_or(|(score, _)| pieces.scores[joined] > score)
            {
                best = Some((pieces.scores[joined], at));
            }
        }
        let Some((_, at)) = best else { break };
        let right = parts.remove(at + 1);
        parts[at].push_str(&right);
    }
    let bytes = |part: &String| part.bytes().map(|byte| 3 + u32::from(byte)).collect::<Vec<u32>>();
    parts
        .iter()
        .flat_map(|part| id(part).map_or_else(|| bytes(part), |id| vec![id as u32]))
        .collect()
}

proptest! {
    #[test]
    fn scored_pieces_are_joined_as_published(text in "[abc dé]{1,24}") {
        let pieces = scored();
        prop_assert_eq!(scored_tokenizer(&pieces).encode(&text, false).unwrap(), by_hand(&pieces, &text), "{}", text);
    }
}

#[test]
fn scored_pieces_begin_with_the_start_token_and_come_back_as_text() {
    let tokenizer = scored_tokenizer(&scored());
    let ids = tokenizer.encode("abc é", true).unwrap();
    assert_eq!(ids[0], 1);
    assert_eq!(tokenizer.pieces().text(&ids[1..]), "abc é");
}

#[test]
fn byte_level_kinds_cut_numbers_as_they_should_and_unknown_ones_are_named() {
    let mut tokens: Vec<String> = ('!'..='~').map(String::from).collect();
    tokens.extend(["Ġ", "12", "34", "1234", "123"].map(String::from));
    let merges = ["1 2", "3 4", "12 34", "12 3"].map(String::from).to_vec();
    let kind = |kind: &str| {
        let settings = [
            ("tokenizer.ggml.model", Setting::Text("gpt2".into())),
            ("tokenizer.ggml.pre", Setting::Text(kind.into())),
            ("tokenizer.ggml.tokens", Setting::Texts(tokens.clone())),
            ("tokenizer.ggml.merges", Setting::Texts(merges.clone())),
        ];
        open(&settings)
    };
    let cut = |name: &str| -> Vec<String> {
        let tokenizer = kind(name).unwrap();
        let ids = tokenizer.encode("x 1234", false).unwrap();
        ids.iter().map(|id| tokenizer.pieces().text(&[*id])).collect()
    };
    assert_eq!(cut("gpt-2"), ["x", " ", "1234"]);
    assert_eq!(cut("smollm"), ["x", " ", "1", "2", "3", "4"]);
    assert_eq!(cut("qwen2"), ["x", " ", "1", "2", "3", "4"]);
    assert_eq!(cut("llama-bpe"), ["x", " ", "123", "4"]);
    let error = kind("unheard-of").err().unwrap();
    assert!(
        error.contains("`tokenizer.ggml.pre` is \"unheard-of\"") && error.contains("llama-bpe, qwen2"),
        "{error}"
    );
}
