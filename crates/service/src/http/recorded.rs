//! Records of calls, as they go over the wire.

use vastrelay_store::CallRecord;
use vastrelay_wire::manage::{CallMove, RecordedCall};

/// Returns how a call went from worker to worker.
pub(crate) fn moves_of(call: &CallRecord) -> Vec<CallMove> {
    serde_json::from_str(&call.moves).unwrap_or_default()
}

/// Returns a call as it goes over the wire.
pub(crate) fn recorded(call: CallRecord, now: i64) -> RecordedCall {
    let moves = moves_of(&call).len();
    RecordedCall {
        moves,
        seconds_ago: (now - call.at_ms) as f64 / 1000.0,
        id: call.id,
        given_id: Some(call.given_id).filter(|given| !given.is_empty()),
        at_ms: call.at_ms,
        operation: call.operation,
        caller: call.caller,
        endpoint: call.endpoint,
        release: call.release,
        replica: call.replica,
        incarnation: call.incarnation,
        device: call.device,
        simulated: call.simulated,
        status: call.status,
        outcome: call.outcome,
        client_gone: call.client_gone,
        streamed: call.streamed,
        prompt_tokens: call.prompt_tokens,
        reused_tokens: call.reused_tokens,
        output_tokens: call.output_tokens,
        preemptions: call.preemptions,
        waiting_for_start: call.waiting_for_start,
        error: Some(call.error).filter(|error| !error.is_empty()),
        queued: call.queued,
        prefill: call.prefill,
        ttft: call.ttft,
        itl_mean: call.itl_mean,
        itl_p50: call.itl_p50,
        itl_p90: call.itl_p90,
        itl_p99: call.itl_p99,
        itl_max: call.itl_max,
        total: call.total,
    }
}
