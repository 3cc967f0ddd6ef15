//! What engines and callers say to each other arrives as it was sent.

use compact_str::CompactString;
use proptest::prelude::*;
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::fmt::Debug;
use std::time::Duration;
use vastrelay_engine::engine::frame::{EngineCommand, EngineStatus, Frame};
use vastrelay_engine::record::{AdmittedRecord, LaneRecord, StepRecord};
use vastrelay_engine::request::{Emitted, Piece, RequestKind};
use vastrelay_engine::scheduler::{Occupancy, PreemptionCause, PrefillOrder, RowKind};
use vastrelay_engine::token::{TokenLogprob, TokenLogprobs};
use vastrelay_engine::{EndReason, Event, GenerationRequest, Refusal, RequestMetrics, Sampling};
use vastrelay_text::StopStrings;

fn end_reason() -> impl Strategy<Value = EndReason> {
    prop::sample::select(vec![
        EndReason::EndToken,
        EndReason::StopString,
        EndReason::Length,
        EndReason::Cancelled,
        EndReason::Deadline,
        EndReason::QueueWait,
        EndReason::SlowReader,
        EndReason::NotFinite,
    ])
}

fn text() -> impl Strategy<Value = CompactString> {
    ".{0,40}".prop_map(CompactString::from)
}

fn ids() -> impl Strategy<Value = Vec<u32>> {
    proptest::collection::vec(any::<u32>(), 0..8)
}

fn scored() -> impl Strategy<Value = TokenLogprobs> {
    let token = || (any::<u32>(), -50f32..0.0).prop_map(|(id, logprob)| TokenLogprob { id, logprob });
    (token(), proptest::collection::vec(token(), 0..3))
}

fn metrics() -> impl Strategy<Value = RequestMetrics> {
    (proptest::array::uniform6(0f64..100.0), any::<[u16; 4]>(), any::<u32>()).prop_map(
        |([queued, prefill, ttft, itl_mean, itl_max, total], counts, preemptions)| RequestMetrics {
            queued,
            prefill,
            ttft,
            itl_mean,
            itl_max,
            total,
            prompt_tokens: counts[0].into(),
            reused_tokens: counts[1].into(),
            pages_reused: counts[2].into(),
            output_tokens: counts[3].into(),
            preemptions,
        },
    )
}

fn event() -> impl Strategy<Value = Event> {
    let logprobs = || proptest::collection::vec(scored(), 0..4);
    prop_oneof![
        any::<u32>().prop_map(|choice| Event::Admitted { choice }),
        (any::<u32>(), logprobs()).prop_map(|(choice, logprobs)| Event::Prompt { choice, logprobs }),
        (any::<u32>(), text(), ids(), logprobs()).prop_map(|(choice, text, ids, logprobs)| {
            Event::Piece(Piece {
                choice,
                text,
                ids: ids.into(),
                logprobs,
            })
        }),
        (any::<u32>(), text(), end_reason(), metrics()).prop_map(|(choice, text, reason, metrics)| Event::Ended {
            choice,
            text,
            reason,
            metrics: Box::new(metrics)
        }),
        ".{0,40}".prop_map(Event::Failed),
    ]
}

fn refusal() -> impl Strategy<Value = Refusal> {
    prop_oneof![
        (any::<u16>(), 0u64..1_000).prop_map(|(depth, seconds)| Refusal::QueueFull {
            depth: depth.into(),
            retry_after: Duration::from_secs(seconds),
        }),
        (any::<u32>(), any::<u32>()).prop_map(|(wanted, limit)| Refusal::TooLong {
            wanted: wanted as usize,
            limit: limit as usize,
        }),
        ".{0,40}".prop_map(Refusal::Invalid),
        ".{0,40}".prop_map(Refusal::Stopped),
        ".{0,40}".prop_map(Refusal::Lost),
    ]
}

fn request() -> impl Strategy<Value = GenerationRequest> {
    let emitted = (ids(), any::<bool>()).prop_map(|(ids, ended)| Emitted { ids, ended });
    let sampling = (
        any::<u64>(),
        0f32..2.0,
        proptest::collection::vec((any::<u32>(), -9f32..9.0), 0..3),
    );
    let whole = (ids(), ids(), 1u32..5, any::<[bool; 2]>(), any::<u16>(), any::<i8>());
    let parts = (
        proptest::collection::vec(emitted, 0..3),
        sampling,
        proptest::collection::vec(".{0,9}", 0..3),
        proptest::option::of(0usize..20),
        proptest::option::of(any::<u32>().prop_map(|ms| Duration::from_millis(ms.into()))),
        ".{0,12}",
    );
    (whole, parts).prop_map(
        |((prompt, end_ids, choices, [apart, told], most, priority), (emitted, sampling, stop, top, limit, name))| {
            let (seed, temperature, logit_bias) = sampling;
            GenerationRequest {
                cache_scope: name.clone(),
                name,
                kind: if apart {
                    RequestKind::Generate
                } else {
                    RequestKind::Embed
                },
                answers_apart: apart,
                choices,
                emitted,
                prompt_told: told,
                sampling: Sampling {
                    seed,
                    temperature,
                    logit_bias,
                    ..Sampling::default()
                },
                end_ids,
                stop: StopStrings::new(&stop),
                top_logprobs: top,
                logprobs_of_prompt: top,
                priority,
                time_limit: limit,
                ..GenerationRequest::new(prompt, most.into())
            }
        },
    )
}

fn order() -> impl Strategy<Value = EngineCommand> {
    prop_oneof![
        (any::<u64>(), proptest::collection::vec(request(), 0..3), any::<u64>()).prop_map(
            |(call, requests, arrived)| EngineCommand::Submit {
                call,
                requests,
                arrived
            }
        ),
        (any::<u64>(), end_reason()).prop_map(|(call, reason)| EngineCommand::Cancel { call, reason }),
    ]
}

fn record() -> impl Strategy<Value = StepRecord> {
    let lane = (any::<[u16; 3]>(), any::<u64>(), any::<bool>()).prop_map(|(counts, sequence, decodes)| LaneRecord {
        lane: counts[0].into(),
        sequence,
        kind: if decodes { RowKind::Decode } else { RowKind::Prefill },
        tokens: counts[1].into(),
        reused: counts[2].into(),
        order: (!decodes).then_some(PrefillOrder::Shortest),
    });
    let admitted = (any::<u64>(), ".{0,9}").prop_map(|(sequence, request)| AdmittedRecord { sequence, request });
    let cause = prop::sample::select(vec![PreemptionCause::PagesForOlder, PreemptionCause::NoPagesLeft]);
    (
        any::<u64>(),
        [0f64..1e6, 0f64..10.0],
        proptest::collection::vec(lane, 0..5),
        proptest::collection::vec(admitted, 0..3),
        proptest::collection::vec((any::<u64>(), cause), 0..3),
        any::<[u16; 2]>(),
    )
        .prop_map(
            |(number, [at, duration], lanes, admitted, preempted, [waiting, pages])| StepRecord {
                number,
                at,
                duration,
                lanes,
                admitted,
                preempted,
                waiting: waiting.into(),
                pages_used: pages.into(),
            },
        )
}

fn status() -> impl Strategy<Value = EngineStatus> {
    (
        any::<[u16; 6]>(),
        any::<[u32; 5]>(),
        [0f64..1e6, 0f64..1e6, 0f64..1e6],
        proptest::option::of(".{0,20}"),
    )
        .prop_map(|(now, so_far, [busy, residence, uptime], failure)| EngineStatus {
            occupancy: Occupancy {
                queue_depth: now[0].into(),
                lanes_used: now[1].into(),
                pages_used: now[2].into(),
                pages_cached: now[3].into(),
                pages_total: now[4].into(),
            },
            steps: so_far[0].into(),
            busy,
            prefill_tokens: so_far[1].into(),
            output_tokens: so_far[2].into(),
            ended: so_far[3].into(),
            step_tokens: now[5].into(),
            preemptions: so_far[4].into(),
            residence,
            uptime,
            failure,
        })
}

fn frame() -> impl Strategy<Value = Frame> {
    let answer = prop_oneof![Just(Ok(())), refusal().prop_map(Err)];
    (
        proptest::collection::vec((any::<u64>(), answer), 0..3),
        proptest::collection::vec((any::<u64>(), event()), 0..6),
        proptest::option::of(record()),
        any::<bool>(),
        status(),
    )
        .prop_map(|(answers, events, record, pong, status)| Frame {
            answers,
            events,
            record,
            pong,
            status,
        })
}

fn arrives<T: Serialize + DeserializeOwned + PartialEq + Debug>(sent: &T) {
    let bytes = postcard::to_stdvec(sent).unwrap();
    assert_eq!(&postcard::from_bytes::<T>(&bytes).unwrap(), sent);
}

proptest! {
    #[test]
    fn orders_arrive_as_they_were_sent(order in order()) {
        arrives(&order);
    }

    #[test]
    fn frames_arrive_as_they_were_sent(frame in frame()) {
        arrives(&frame);
    }

    #[test]
    fn what_is_no_frame_and_no_order_is_refused_without_a_panic(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
        let _ = postcard::from_bytes::<Frame>(&bytes);
        let _ = postcard::from_bytes::<EngineCommand>(&bytes);
    }
}
