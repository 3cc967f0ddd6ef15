//! Log-probabilities as plain completions have them: parallel lists over the tokens.

use super::piece::token_text;
use vastrelay_control::endpoints::endpoint::Endpoint;
use vastrelay_engine::token::TokenLogprobs;
use vastrelay_wire::completion::CompletionLogprobs;

/// Returns the lists for an echoed prompt, `text`; its first token has none, because nothing comes before it.
pub(super) fn of_prompt(
    endpoint: &Endpoint,
    ids: &[u32],
    text: &str,
    logprobs: &[TokenLogprobs],
) -> CompletionLogprobs {
    let bytes = |id: &u32| endpoint.model.tokenizer.pieces().bytes(*id);
    // A start token, or a space, that the tokenizer puts before a text is not part of it.
    let said: usize = ids.iter().map(|id| bytes(id).len()).sum();
    let mut unsaid = said.saturating_sub(text.len());
    let mut lists = Lists::begin(endpoint, 0);
    for (place, id) in ids.iter().enumerate() {
        let hidden = unsaid.min(bytes(id).len());
        unsaid -= hidden;
        let scored = place.checked_sub(1).and_then(|before| logprobs.get(before));
        lists.push(*id, scored, &bytes(id)[hidden..]);
    }
    lists.lists
}

/// Returns those of an answer's tokens, and where the next token begins; `None` when none were asked for. The first begins at
/// `offset` characters.
pub(super) fn of_answer(
    endpoint: &Endpoint,
    logprobs: &[TokenLogprobs],
    offset: usize,
) -> Option<(CompletionLogprobs, usize)> {
    let pieces = endpoint.model.tokenizer.pieces();
    let mut lists = Lists::begin(endpoint, offset);
    for scored in logprobs {
        let id = scored.0.id;
        let shown = if pieces.is_special(id) { &[] } else { pieces.bytes(id) };
        lists.push(id, Some(scored), shown);
    }
    (!logprobs.is_empty()).then_some((lists.lists, lists.offset))
}

/// Lists in the making.
struct Lists<'a> {
    endpoint: &'a Endpoint,
    lists: CompletionLogprobs,
    /// Characters of the text so far.
    offset: usize,
}

impl Lists<'_> {
    fn begin(endpoint: &Endpoint, offset: usize) -> Lists<'_> {
        let lists = CompletionLogprobs::default();
        Lists {
            endpoint,
            lists,
            offset,
        }
    }

    /// Adds a token of which the text shows some bytes.
    fn push(&mut self, id: u32, scored: Option<&TokenLogprobs>, shown: &[u8]) {
        let Lists {
            endpoint,
            lists,
            offset,
        } = self;
        lists.tokens.push(token_text(endpoint, id));
        lists.text_offset.push(*offset);
        lists.token_logprobs.push(scored.map(|(token, _)| token.logprob));
        let named = |top: &vastrelay_engine::token::TokenLogprob| (token_text(endpoint, top.id), top.logprob);
        lists
            .top_logprobs
            .push(scored.map(|(_, top)| top.iter().map(named).collect()));
        // A character counts where it begins, though its bytes may come with several tokens.
        *offset += shown.iter().filter(|byte| **byte & 0xc0 != 0x80).count();
    }
}
