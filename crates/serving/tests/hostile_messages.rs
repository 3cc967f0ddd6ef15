//! Whatever comes over the socket, neither side panics or takes memory without bound. `ENDURE_SECONDS` makes it long.

mod support;

use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use std::io::Write;
use std::os::unix::net::UnixStream;
use std::time::{Duration, Instant};
use support::{LONG, SECRET, World};
use vastrelay_engine::engine::frame::{EngineCommand, Frame};
use vastrelay_engine::record::StepRecord;
use vastrelay_engine::request::Piece;
use vastrelay_engine::token::TokenLogprob;
use vastrelay_engine::{EndReason, Event, GenerationRequest};
use vastrelay_serving::Generate;
use vastrelay_serving::worker::Connection;
use vastrelay_serving::worker::message;
use vastrelay_serving::worker::protocol::{Handshake, HandshakeReply, MOST_TO_WORKER, PROTOCOL, ToService, ToWorker};
use vastrelay_serving::worker::serve::Over;

/// Returns the time to run: some seconds by default.
fn until() -> Instant {
    let seconds = std::env::var("ENDURE_SECONDS").map_or(4, |seconds| seconds.parse().expect("a number"));
    Instant::now() + Duration::from_secs(seconds)
}

fn seed() -> u64 {
    std::env::var("ENDURE_SEED").map_or(1, |seed| seed.parse().expect("a number"))
}

fn bytes_of(message: &impl serde::Serialize) -> Vec<u8> {
    let mut bytes = Vec::new();
    message::encode(message, &mut bytes);
    bytes
}

/// Returns a message that is a little or very different from one of those.
fn mutated(of: &[Vec<u8>], draw: &mut StdRng) -> Vec<u8> {
    let mut bytes = of[draw.random_range(0..of.len())].clone();
    for _ in 0..draw.random_range(0..6) {
        let at = draw.random_range(0..bytes.len());
        match draw.random_range(0..5) {
            0 => bytes[at] ^= 1 << draw.random_range(0..8),
            1 => bytes[at] = *[0, 1, 0x7f, 0x80, 0xff].get(draw.random_range(0..5)).unwrap(),
            2 => bytes.truncate(at.max(5)),
            3 => bytes.extend((0..draw.random_range(0..20)).map(|_| draw.random::<u8>())),
            _ => {
                let other = &of[draw.random_range(0..of.len())];
                bytes.splice(at.., other[other.len().min(at)..].iter().copied());
                bytes.resize(bytes.len().max(5), 0);
            }
        }
    }
    // Mostly the length is right, so that more than that is read.
    if draw.random_bool(0.9) {
        let length = (bytes.len() - message::LENGTH) as u32;
        bytes[..message::LENGTH].copy_from_slice(&length.to_le_bytes());
    }
    bytes
}

fn asked(world: &World) -> Vec<Vec<u8>> {
    let submit = |call, request: GenerationRequest| {
        ToWorker::Command(EngineCommand::Submit {
            call,
            requests: vec![request.clone(), request],
            arrived: 7,
        })
    };
    let many = GenerationRequest {
        choices: 3,
        top_logprobs: Some(2),
        ..world.request("When?", 6)
    };
    [
        ToWorker::Start(Box::new(world.config()), world.words(), LONG),
        submit(1, world.request("When is the last boat?", 8)),
        submit(2, many),
        ToWorker::Command(EngineCommand::Cancel {
            call: 1,
            reason: EndReason::SlowReader,
        }),
        ToWorker::Read(1 << 20),
    ]
    .iter()
    .map(bytes_of)
    .collect()
}

fn told() -> Vec<Vec<u8>> {
    let scores = vec![(TokenLogprob { id: 3, logprob: -0.5 }, Vec::new()); 5];
    let events = vec![
        (0, Event::Admitted { choice: 0 }),
        (
            0,
            Event::Prompt {
                choice: 0,
                logprobs: scores.clone(),
            },
        ),
        (
            0,
            Event::Piece(Piece {
                choice: 0,
                text: "boat".into(),
                ids: [1, 2].into_iter().collect(),
                logprobs: scores.clone(),
            }),
        ),
        (
            0,
            Event::Ended {
                choice: 0,
                text: "s".into(),
                reason: EndReason::Length,
                metrics: Box::default(),
            },
        ),
    ];
    let frame = Frame {
        answers: vec![(0, Ok(()))],
        events,
        record: Some(StepRecord::default()),
        ..Frame::default()
    };
    [
        ToService::Events(frame, vec![StepRecord::default(); 3]),
        ToService::Scores(0, 0, scores),
        ToService::Given(1 << 20),
    ]
    .iter()
    .map(bytes_of)
    .collect()
}

#[test]
fn reading_a_message_takes_memory_only_as_it_is_long() {
    let (world, mut draw) = (World::new(), StdRng::seed_from_u64(seed()));
    let (asked, told) = (asked(&world), told());
    let (until, mut read) = (until(), [0; 2]);
    while Instant::now() < until {
        let (to_worker, to_service) = (mutated(&asked, &mut draw), mutated(&told, &mut draw));
        let taken = allocation_counter::measure(|| {
            read[0] += usize::from(message::decode::<ToWorker>(&to_worker[message::LENGTH..]).is_ok());
            read[1] += usize::from(message::decode::<ToService>(&to_service[message::LENGTH..]).is_ok());
        });
        let most = 200 * (to_worker.len() + to_service.len()) as u64 + (4 << 20);
        assert!(
            taken.bytes_max <= most,
            "{} bytes for {to_worker:?} and {to_service:?}",
            taken.bytes_max
        );
    }
    assert!(read.iter().all(|count| *count > 10), "{read:?}");
}

/// Returns whether somebody who reads these bytes is told to end.
fn ends(mut said: &[u8]) -> bool {
    let mut buffer = Vec::new();
    loop {
        match message::read(&mut said, MOST_TO_WORKER, &mut buffer) {
            Ok(ToWorker::End | ToWorker::Drain) => return true,
            Ok(_) => {}
            Err(_) => return false,
        }
    }
}

#[test]
fn a_worker_lives_whatever_it_is_told() {
    let (world, mut draw) = (World::new(), StdRng::seed_from_u64(seed()));
    let worker = world.worker();
    let messages = asked(&world);
    let (until, mut number) = (until(), 0);
    while Instant::now() < until {
        let mut socket = world.connect();
        let handshake = Handshake {
            protocol: PROTOCOL,
            program: "fuzz".into(),
            secret: SECRET,
        };
        let mut said: Vec<u8> = (0..draw.random_range(1..8))
            .flat_map(|_| mutated(&messages, &mut draw))
            .collect();
        // Whoever is told to end, or is drained, ends.
        if ends(&said) {
            continue;
        }
        // The first one is told what to be, so that orders reach its engine.
        if number == 0 {
            said.splice(0..0, messages[0].iter().copied());
        }
        let _ = socket.write_all(&bytes_of(&handshake));
        let _ = socket.write_all(&said);
        number += 1;
    }
    let connection = Connection::open(world.connect(), &SECRET).expect("it lives");
    assert_eq!(
        connection.identity.config,
        Some(world.config()),
        "after {number} connections"
    );
    let engine = connection.adopt(|_| ()).unwrap();
    assert!(engine.given().is_some());
    drop(engine);
    assert_eq!(worker.join().unwrap(), Over::Told);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_service_lives_whatever_a_worker_tells() {
    let (world, mut draw) = (World::new(), StdRng::seed_from_u64(seed()));
    let (messages, ready) = (told(), bytes_of(&ToService::Ready(world.ready())));
    let (until, mut number) = (until(), 0);
    while Instant::now() < until {
        let (ours, mut theirs) = UnixStream::pair().unwrap();
        theirs
            .write_all(&bytes_of(&HandshakeReply::Accepted(Box::default())))
            .unwrap();
        theirs.write_all(&ready).unwrap();
        let engine = Connection::open(ours, &SECRET).unwrap().adopt(|_| ()).unwrap();
        let stream = engine.submit(vec![world.request("When?", 4)]);
        let telling = async {
            for _ in 0..draw.random_range(1..8) {
                // Who has heard nonsense listens no more.
                let _ = theirs.write_all(&mutated(&messages, &mut draw));
            }
            drop(theirs);
        };
        let (stream, ()) = tokio::join!(stream, telling);
        if let Ok(mut stream) = stream {
            while stream.next().await.is_some() {}
        }
        assert!(engine.wait_for_end(LONG).is_some());
        number += 1;
    }
    assert!(number > 10, "{number}");
}
