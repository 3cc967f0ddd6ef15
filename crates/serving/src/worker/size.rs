//! How many bytes a worker's news take in a message, at most.

use vastrelay_engine::Event;
use vastrelay_engine::record::{LaneRecord, StepRecord};
use vastrelay_engine::token::TokenLogprobs;

/// The fixed parts of an event or a record.
const FIXED: usize = 256;
/// A number that grows with its value, at its longest.
const NUMBER: usize = 10;

/// Returns the most bytes that an event takes.
pub(super) fn event_bytes(event: &Event) -> usize {
    FIXED
        + match event {
            Event::Admitted { .. } => 0,
            Event::Prompt { logprobs, .. } => score_bytes(logprobs),
            Event::Piece(piece) => piece.text.len() + NUMBER * piece.ids.len() + score_bytes(&piece.logprobs),
            Event::Ended { text, .. } => text.len(),
            Event::Failed(why) => why.len(),
        }
}

/// Returns the most bytes that a record takes.
pub(super) fn record_bytes(record: &StepRecord) -> usize {
    let names: usize = record.admitted.iter().map(|admitted| admitted.request.len()).sum();
    let sequences = record.admitted.len() + record.preempted.len();
    FIXED + size_of::<LaneRecord>().max(5 * NUMBER) * record.lanes.len() + 2 * NUMBER * sequences + names
}

fn score_bytes(scores: &[TokenLogprobs]) -> usize {
    let entries: usize = scores.iter().map(|(_, alternatives)| 1 + alternatives.len()).sum();
    NUMBER * (entries + scores.len())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::worker::message::encode;
    use vastrelay_engine::request::Piece;
    use vastrelay_engine::scheduler::RowKind;
    use vastrelay_engine::token::TokenLogprob;

    #[test]
    fn sizes_are_no_less_than_those_of_messages() {
        let score = (
            TokenLogprob {
                id: u32::MAX,
                logprob: -1.0,
            },
            vec![
                TokenLogprob {
                    id: u32::MAX,
                    logprob: -2.0
                };
                20
            ],
        );
        let lane = LaneRecord {
            lane: usize::MAX,
            sequence: u64::MAX,
            kind: RowKind::Prefill,
            tokens: usize::MAX,
            reused: usize::MAX,
            order: None,
        };
        for count in [0, 1, 300] {
            let piece = Event::Piece(Piece {
                choice: u32::MAX,
                text: "é".repeat(count).into(),
                ids: vec![u32::MAX; count].into(),
                logprobs: vec![score.clone(); count],
            });
            let record = StepRecord {
                number: u64::MAX,
                lanes: vec![lane; count],
                ..StepRecord::default()
            };
            let (mut event, mut of_record) = (Vec::new(), Vec::new());
            encode(&piece, &mut event);
            encode(&record, &mut of_record);
            assert!(event.len() <= event_bytes(&piece), "{} bytes", event.len());
            assert!(of_record.len() <= record_bytes(&record), "{} bytes", of_record.len());
        }
    }
}
