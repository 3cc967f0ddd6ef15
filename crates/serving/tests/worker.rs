//! A worker, on a thread of this process, as services see it.

mod support;

use std::io::Write;
use std::os::unix::net::UnixStream;
use std::time::Duration;
use support::{LONG, SECRET, World};
use vastrelay_engine::engine::frame::{CallNumber, EngineCommand};
use vastrelay_engine::{EndReason, Event, GenerationRequest, Refusal};
use vastrelay_serving::Generate;
use vastrelay_serving::worker::client::WorkerError;
use vastrelay_serving::worker::message;
use vastrelay_serving::worker::protocol::{Handshake, HandshakeReply, MOST_FROM_WORKER, PROTOCOL, ToService, ToWorker};
use vastrelay_serving::worker::serve::Over;
use vastrelay_serving::worker::{Connection, Secret};

/// Returns the events of requests, without what depends on time.
async fn events(engine: &dyn Generate, requests: Vec<GenerationRequest>) -> Vec<Event> {
    let mut stream = engine.submit(requests).await.unwrap();
    let mut events = Vec::new();
    while let Some(mut event) = stream.next().await {
        if let Event::Ended { metrics, .. } = &mut event {
            **metrics = Default::default();
        }
        events.push(event);
    }
    // Completions of one call may take turns in another order.
    let choice = |event: &Event| match event {
        Event::Admitted { choice } | Event::Prompt { choice, .. } | Event::Ended { choice, .. } => *choice,
        Event::Piece(piece) => piece.choice,
        Event::Failed(_) => u32::MAX,
    };
    events.sort_by_key(choice);
    events
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_worker_answers_as_an_engine_in_this_process_does() {
    let world = World::new();
    let worker = world.worker();
    let (there, here) = (world.begin(), world.engine());
    let seeded = |seed: u64| {
        let mut request = world.request("When is the last boat back on Sunday?", 24);
        (request.sampling.temperature, request.sampling.seed) = (1.0, seed);
        request
    };
    let scored = GenerationRequest {
        top_logprobs: Some(3),
        logprobs_of_prompt: Some(2),
        ..seeded(4)
    };
    let several = GenerationRequest {
        choices: 3,
        ..seeded(5)
    };
    for requests in [vec![seeded(1)], vec![scored], vec![several, seeded(6)]] {
        let told = events(&there, requests.clone()).await;
        assert!(told.len() > 10, "{told:?}");
        assert_eq!(told, events(&here, requests).await);
    }
    assert_eq!(there.limits(), here.limits());
    assert_eq!(there.status().output_tokens, here.status().output_tokens);
    assert_eq!(there.steps_after(0, 10_000).len() as u64, there.status().steps);
    let impossible = world.request("When?", 100_000);
    let refused = there.submit(vec![impossible.clone()]).await.err().unwrap();
    assert_eq!(Some(refused), here.submit(vec![impossible]).await.err());
    drop(there);
    assert_eq!(worker.join().unwrap(), Over::Told);
}

/// Says something and returns the answer.
fn greet(world: &World, handshake: &Handshake) -> HandshakeReply {
    let mut socket = world.connect();
    let mut bytes = Vec::new();
    message::encode(handshake, &mut bytes);
    socket.write_all(&bytes).unwrap();
    message::read(&mut socket, MOST_FROM_WORKER, &mut bytes).unwrap()
}

fn handshake(protocol: u32, secret: Secret) -> Handshake {
    Handshake {
        protocol,
        program: "0.9.7".into(),
        secret,
    }
}

#[test]
fn other_versions_and_other_services_are_refused_and_told_why() {
    let world = World::new();
    let worker = world.worker();
    let refused = |handshake: &Handshake| match greet(&world, handshake) {
        HandshakeReply::Refused(why) => why,
        HandshakeReply::Accepted(identity) => panic!("{identity:?}"),
    };
    let newer = refused(&handshake(PROTOCOL + 1, SECRET));
    for part in [
        format!("speaks version {PROTOCOL}"),
        format!("version {}", PROTOCOL + 1),
        "0.9.7".into(),
    ] {
        assert!(newer.contains(&part), "{newer}");
    }
    assert!(matches!(
        greet(&world, &handshake(PROTOCOL, SECRET)),
        HandshakeReply::Accepted(_)
    ));
    let other = refused(&handshake(PROTOCOL, Secret([8; 32])));
    assert!(other.contains("another service"), "{other}");
    // A peer without a valid handshake takes no other's place.
    world.connect().write_all(&[0xff; 64]).unwrap();
    drop(world.begin());
    assert_eq!(worker.join().unwrap(), Over::Told);
}

/// Talks to a worker message by message.
struct Raw {
    socket: UnixStream,
    buffer: Vec<u8>,
}

impl Raw {
    fn say(&mut self, what: &ToWorker) {
        let mut bytes = Vec::new();
        message::encode(what, &mut bytes);
        self.socket.write_all(&bytes).unwrap();
    }

    fn hear(&mut self) -> ToService {
        message::read(&mut self.socket, MOST_FROM_WORKER, &mut self.buffer).unwrap()
    }

    /// Makes it work on a call until there is a token.
    fn begin(world: &World, call: CallNumber, stay: Duration) -> Raw {
        let mut socket = world.connect();
        let (mut bytes, mut buffer) = (Vec::new(), Vec::new());
        message::encode(&handshake(PROTOCOL, SECRET), &mut bytes);
        socket.write_all(&bytes).unwrap();
        let _: HandshakeReply = message::read(&mut socket, MOST_FROM_WORKER, &mut buffer).unwrap();
        let mut raw = Raw { socket, buffer };
        raw.say(&ToWorker::Start(Box::new(world.config()), world.words(), stay));
        while !matches!(raw.hear(), ToService::Ready(_)) {}
        let endless = GenerationRequest {
            least_tokens: 200,
            ..world.request("When is the last boat back on Sunday?", 200)
        };
        raw.say(&ToWorker::Command(EngineCommand::Submit {
            call,
            requests: vec![endless],
            arrived: 0,
        }));
        let has_token = |told: &ToService| match told {
            ToService::Events(frame, _) => frame.events.iter().any(|(_, event)| matches!(event, Event::Piece(_))),
            _ => false,
        };
        while !has_token(&raw.hear()) {}
        raw
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_worker_outlives_its_service_and_serves_the_next_one_as_it_is() {
    let world = World::new();
    let worker = world.worker();
    drop(Raw::begin(&world, 41, LONG));
    let connection = Connection::open(world.connect(), &SECRET).unwrap();
    assert_eq!(connection.identity.config, Some(world.config()));
    let held = connection.identity.held.clone();
    assert!(held == [41] || held.is_empty(), "{held:?}");
    let engine = connection.adopt(|_| ()).unwrap();
    let before = engine.status();
    assert!(before.steps > 0, "it goes on counting: {before:?}");
    let ended = events(&engine, vec![world.request("When?", 8)]).await;
    assert!(matches!(ended.last(), Some(Event::Ended { reason, .. }) if *reason != EndReason::Cancelled));
    assert!(engine.status().steps > before.steps);
    drop(engine);
    assert_eq!(worker.join().unwrap(), Over::Told);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_worker_that_is_drained_ends_its_calls_takes_no_more_and_is_gone() {
    let world = World::new();
    let worker = world.worker();
    let engine = world.begin();
    let mut long = world.request("When is the last boat back on Sunday?", 200);
    long.least_tokens = 200;
    let mut stream = engine.submit(vec![long]).await.unwrap();
    assert!(stream.next().await.is_some());
    assert!(engine.given().is_some());
    engine.drain();
    assert!(engine.is_drained() && engine.given().is_none());
    let refused = engine.submit(vec![world.request("When?", 1)]).await.err().unwrap();
    assert!(matches!(refused, Refusal::Stopped(_)), "{refused}");
    let (mut tokens, mut last) = (0, None);
    while let Some(event) = stream.next().await {
        if let Event::Piece(piece) = &event {
            tokens += piece.ids.len();
        }
        last = Some(event);
    }
    assert!(
        matches!(
            last,
            Some(Event::Ended {
                reason: EndReason::Length,
                ..
            })
        ),
        "{last:?}"
    );
    assert_eq!(tokens, 200);
    assert_eq!(worker.join().unwrap(), Over::Drained);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_worker_that_has_nothing_to_do_is_drained_at_once() {
    let world = World::new();
    let worker = world.worker();
    let engine = world.begin();
    engine.drain();
    assert_eq!(worker.join().unwrap(), Over::Drained);
    let why = engine.wait_for_end(LONG).unwrap();
    assert!(why.contains("drained"), "{why}");
}

#[test]
fn a_worker_whose_service_stays_away_ends() {
    let world = World::new();
    let worker = world.worker();
    drop(Raw::begin(&world, 1, Duration::ZERO));
    assert_eq!(worker.join().unwrap(), Over::Away);
}

#[test]
fn what_cannot_be_loaded_is_told_and_nothing_panics() {
    let world = World::new();
    let _worker = world.worker();
    let mut config = world.config();
    config.assignment.path = "/nowhere/at/all".into();
    let connection = Connection::open(world.connect(), &SECRET).unwrap();
    match connection.start(config, world.words(), LONG, |_| ()).err() {
        Some(WorkerError::Failed(why)) => assert!(why.contains("/nowhere/at/all"), "{why}"),
        other => panic!("{other:?}"),
    }
}
