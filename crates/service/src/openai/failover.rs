//! A call's events, which go on when its worker does not.
//!
//! What a call has come to is kept here: the tokens of each completion. When its worker is gone, it is handed in again with them as soon as
//! a replica takes requests; what comes then goes on where it broke off, with the same bits.

mod progress;

use crate::http::problem::Problem;
use progress::AnswerProgress;
use std::future::poll_fn;
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll, ready};
use std::time::Instant;
use tokio::time::timeout;
use vastrelay_control::endpoints::endpoint::Endpoint;
use vastrelay_control::endpoints::lease::Lease;
use vastrelay_control::replicas::measured::MeasuredReplica;
use vastrelay_control::replicas::queue::{Entry, Exclusive, Turn};
use vastrelay_control::replicas::state::NotTaken;
use vastrelay_control::replicas::state::STOPPED;
use vastrelay_engine::{Event, GenerationRequest, Refusal, RequestStream};
use vastrelay_fleet::dispatch::KeyShare;
use vastrelay_fleet::survival::Survival;
use vastrelay_planner::amounts::count_of;
use vastrelay_wire::manage::{CallMove, EventKind};

/// A replica that works on a call.
type Taken = (RequestStream, Arc<MeasuredReplica>);

/// A call that a replica has taken.
struct HandedIn {
    taken: Taken,
    /// Held while the replica works on nothing else.
    exclusive: Option<Exclusive>,
    survival: Survival,
}

/// The events of a call; dropping it cancels what has not ended.
pub(crate) struct FailoverStream {
    endpoint: Lease,
    requests: Vec<GenerationRequest>,
    key: KeyShare,
    progress: AnswerProgress,
    survival: Survival,
    begun: Instant,
    state: State,
    /// Held while its replica works on nothing else.
    exclusive: Option<Exclusive>,
    moves: Moves,
}

/// How a call went from worker to worker, for whoever records it.
pub(crate) type Moves = Arc<Mutex<Vec<CallMove>>>;

enum State {
    On(Taken),
    /// It waits for another replica.
    Moving(Pin<Box<dyn Future<Output = Result<HandedIn, Refused>>>>),
    /// Nothing more comes but the word why.
    GivenUp(Option<String>),
}

impl FailoverStream {
    /// Hands the requests of a call in, all or none, as soon as a replica takes them, and waits until one of them has a lane. Times are
    /// counted from `begun`.
    ///
    /// # Errors
    /// When they are refused, or no replica will take any soon; nothing of them is left behind.
    pub async fn begin(
        endpoint: Lease,
        requests: Vec<GenerationRequest>,
        key: KeyShare,
        begun: Instant,
        moves: Moves,
    ) -> Result<FailoverStream, Refused> {
        let taking = taken(&endpoint, &requests, entry(&requests, &key, begun), Survival::default());
        let waits = [
            endpoint.limits().queue_wait,
            endpoint.answer_settings.said.longest_answer,
        ];
        let HandedIn { taken, survival, .. } = match waits.into_iter().flatten().min() {
            None => taking.await?,
            Some(longest) => match timeout(longest, taking).await {
                Ok(taken) => taken?,
                Err(_) => return Err(Refused::QueueWait),
            },
        };
        Ok(FailoverStream {
            progress: AnswerProgress::of(&requests),
            endpoint,
            requests,
            key,
            survival,
            begun,
            state: State::On(taken),
            exclusive: None,
            moves,
        })
    }

    /// Returns the replica that works on it, where one does.
    pub fn measured(&self) -> Option<&Arc<MeasuredReplica>> {
        match &self.state {
            State::On((_, measured)) => Some(measured),
            _ => None,
        }
    }

    /// Ready as soon as something has come, which [`Self::come`] then returns; with `false` when all completions have ended.
    pub fn poll_come(&mut self, context: &mut Context<'_>) -> Poll<bool> {
        loop {
            match &mut self.state {
                State::On((stream, _)) => {
                    if ready!(stream.poll_come(context)) {
                        return Poll::Ready(true);
                    }
                    if self.progress.has_ended() {
                        return Poll::Ready(false);
                    }
                    self.lost("its engine is gone".into());
                }
                State::Moving(moving) => {
                    self.state = match ready!(moving.as_mut().poll(context)) {
                        Ok(handed_in) => {
                            self.exclusive = handed_in.exclusive;
                            self.survival = handed_in.survival;
                            State::On(handed_in.taken)
                        }
                        Err(_) if self.endpoint.replicas.is_closed() => State::GivenUp(Some(STOPPED.into())),
                        Err(why) => State::GivenUp(Some(why.to_string())),
                    };
                }
                State::GivenUp(why) => return Poll::Ready(why.is_some()),
            }
        }
    }

    /// Returns the next event of those that have come.
    pub fn come(&mut self) -> Option<Event> {
        let mut event = match &mut self.state {
            State::On((stream, _)) => stream.come()?,
            State::Moving(_) => return None,
            State::GivenUp(why) => return why.take().map(Event::Failed),
        };
        match &mut event {
            Event::Failed(why) => {
                let why = std::mem::take(why);
                self.lost(why);
                return self.come();
            }
            Event::Piece(_) => {
                self.survival.token();
                self.exclusive = None;
            }
            Event::Ended { .. } => self.exclusive = None,
            Event::Admitted { .. } | Event::Prompt { .. } => {}
        }
        self.progress.note(&mut event, self.begun);
        Some(event)
    }

    /// Looks for another replica, unless too many workers died of the call or the control plane starts no others.
    fn lost(&mut self, why: String) {
        let State::On((_, measured)) = &self.state else { return };
        self.exclusive = None;
        let from = measured.replica.incarnation;
        if !self.endpoint.replicas.is_supervised() {
            let why = if self.endpoint.replicas.is_closed() {
                STOPPED.into()
            } else {
                why
            };
            self.state = State::GivenUp(Some(why));
            return;
        }
        if measured.replica.generate.is_drained() {
            self.survival.left();
        } else if !self.survival.lost() {
            self.state = State::GivenUp(Some(given_up(&why)));
            return;
        }
        let tokens = self.progress.tokens();
        let after = self.begun.elapsed();
        tracing::warn!(
            from,
            tokens,
            request = self.requests[0].name,
            "a call goes on with another worker: {why}"
        );
        self.endpoint.counters.moved();
        if let Some(log) = self.endpoint.log() {
            let (name, so_far) = (&self.requests[0].name, count_of(tokens, "token"));
            let text = format!("{name}, after {so_far}: {why}");
            log.happened(measured.replica.number, EventKind::RequestMoved, text);
        }
        self.moves
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .push(CallMove {
                after: after.as_secs_f64(),
                incarnation: from,
                tokens,
                why,
            });
        let requests = self.progress.rest(&self.requests);
        let entry = Entry {
            exclusive: self.survival.is_suspect(),
            again: true,
            ..entry(&requests, &self.key, self.begun)
        };
        let (endpoint, survival) = (self.endpoint.clone(), self.survival);
        let moving = async move { taken(&endpoint, &requests, entry, survival).await };
        self.state = State::Moving(Box::pin(moving));
    }
}

/// Hands requests in as soon as it is their turn, and again when the worker dies before it has answered, unless too many have died of them.
async fn taken(
    endpoint: &Endpoint,
    requests: &[GenerationRequest],
    mut entry: Entry,
    mut survival: Survival,
) -> Result<HandedIn, Refused> {
    loop {
        let turn = endpoint.turn(&entry).await.map_err(Refused::from)?;
        let measured = turn.measured.clone();
        match hand_in(turn, requests, entry.arrived).await {
            Ok((taken, exclusive)) => {
                return Ok(HandedIn {
                    taken,
                    exclusive,
                    survival,
                });
            }
            Err(refusal @ (Refusal::Stopped(_) | Refusal::Lost(_))) if !endpoint.replicas.is_supervised() => {
                return Err(Refused::Engine(refusal));
            }
            // The worker had ended before it saw the requests.
            Err(Refusal::Stopped(_)) => {}
            Err(Refusal::Lost(_)) if measured.replica.generate.is_drained() => {
                survival.left();
                entry.again = true;
            }
            Err(Refusal::Lost(why)) if !survival.lost() => {
                return Err(Refused::Problem(Problem::internal(given_up(&why))));
            }
            Err(Refusal::Lost(_)) => {
                entry.exclusive = survival.is_suspect();
                entry.again = true;
            }
            Err(refusal) => return Err(Refused::Engine(refusal)),
        }
    }
}

/// Returns why a call is given up.
fn given_up(why: &str) -> String {
    format!("three workers in a row ended while they worked on this request, so it is given up: {why}")
}

fn entry(requests: &[GenerationRequest], key: &KeyShare, arrived: Instant) -> Entry {
    Entry {
        key: key.clone(),
        sequences: requests.iter().map(|request| request.unfinished() as usize).sum(),
        priority: requests.iter().map(|request| request.priority).max().unwrap_or(0),
        arrived,
        exclusive: false,
        again: false,
    }
}

/// Hands requests in at the replica whose turn it is, and waits until they have a lane.
async fn hand_in(
    turn: Turn,
    requests: &[GenerationRequest],
    begun: Instant,
) -> Result<(Taken, Option<Exclusive>), Refusal> {
    let waited = begun.elapsed();
    let requests = requests.iter().map(|request| GenerationRequest {
        waited,
        ..request.clone()
    });
    let measured = turn.measured.clone();
    let mut submitting = measured.replica.generate.submit(requests.collect());
    // They are on their way after the first look.
    let mut turn = Some(turn);
    let (first, exclusive) = poll_fn(|context| match turn.take() {
        Some(turn) => Poll::Ready(turn.hand_over(|| submitting.as_mut().poll(context))),
        None => Poll::Pending,
    })
    .await;
    let mut stream = match first {
        Poll::Ready(answer) => answer?,
        Poll::Pending => submitting.as_mut().await?,
    };
    drop(submitting);
    // The first event says that the call has a lane, or will never have one.
    poll_fn(|context| stream.poll_come(context)).await;
    Ok(((stream, measured), exclusive))
}

/// Why a call does not begin.
#[derive(Debug, thiserror::Error)]
pub(crate) enum Refused {
    /// It waited as long as it may.
    #[error("it waited as long as it may")]
    QueueWait,
    /// The endpoint takes none.
    #[error("{0}")]
    Problem(Problem),
    /// The engine does not take this one.
    #[error(transparent)]
    Engine(Refusal),
}

impl From<NotTaken> for Refused {
    fn from(why: NotTaken) -> Refused {
        match why {
            NotTaken::Refused(refusal) => Refused::Engine(refusal),
            NotTaken::NotReady(why) => Refused::Problem(Problem::not_ready(&why)),
        }
    }
}
