//! The control plane: one thread that lets the decider decide, and threads that carry out what takes long.
//!
//! | module | question it answers |
//! |---|---|
//! | `terms` | what are specs and sizes to the decider? |
//! | `shell` | how are its actions carried out? |
//! | `preparation` | what does a spec name, and how large is it? |
//! | `supervisor` | how does a worker start, and when is it gone? |
//! | `panics` | what if a thread of it panics? |
//! | `exit` | how has a worker ended? |
//! | `writes` | how are its transactions written? |
//! | `change_jobs` | how does a caller follow a change? |
//! | `reasons` | which text explains an endpoint's state? |

mod change_jobs;
mod check;
mod exit;
mod panics;
mod preparation;
mod reasons;
mod shell;
mod supervisor;
mod terms;
mod turns;
mod writes;

pub use change_jobs::Accepted;
pub use panics::OnPanic;
pub use preparation::{Make, Opened, PlacementOption};
pub use supervisor::FIRST;
pub use terms::Change;
pub use terms::SpecText;

use crate::endpoints::registry::{Endpoints, NotCalled};
use crate::events::{SERVICE, START};
use crate::jobs::Jobs;
use crate::placement::loader::Loader;
use change_jobs::ChangeJob;
use exit::Exit;
use panics::guard;
use preparation::Preparation;
use shell::Shell;
use std::io;
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use terms::{Event, change_of};
use tokio::sync::oneshot;
use turns::Turns;
use vastrelay_fleet::decider::{ActionId, Desired, Failure, Generation, Incarnation, Refused, RunId, Stored};
use vastrelay_serving::worker::WorkerConfig;
use vastrelay_store::{JobRecord, Store, StoreError, StoredState};

/// Time between two looks at what has to be tried again.
const TICK: Duration = Duration::from_millis(250);
/// The same while workers of an earlier service are known and not told of yet.
const SHORT_TICK: Duration = Duration::from_millis(5);
/// Most models that are opened at the same time.
const MOST_OPENING: usize = 8;
/// How long workers may take to end with the service.
const WORKERS_END: Duration = Duration::from_secs(5);

/// The parts of a service that the control plane uses.
struct Parts {
    on_panic: OnPanic,
    loader: Arc<Loader>,
    store: Arc<Store>,
    jobs: Arc<Jobs>,
    endpoints: Arc<Endpoints>,
    opening: Turns,
    /// Held while a change gets its number and is sent.
    numbering: Mutex<()>,
}

/// An input of the control thread.
enum Message {
    /// The service begins with what is stored, and the jobs of changes that were under way.
    Began(Vec<Stored<SpecText>>, Vec<(ChangeJob, JobRecord)>),
    /// Workers of an earlier service.
    Found(Vec<WorkerConfig>),
    /// A caller wants a change.
    Requested {
        name: String,
        by: String,
        generation: Generation,
        change: Box<Change>,
        answer: oneshot::Sender<Result<Accepted, Refused>>,
    },
    /// A call for an endpoint without a replica.
    Called { name: String, by: String },
    /// An endpoint was unused for as long as its spec says.
    Idle(String),
    /// A spec was prepared.
    Prepared(ActionId, Result<Box<Preparation>, Failure>),
    /// A worker takes calls, or will not.
    Started(RunId, Incarnation, Result<(), Exit>),
    /// A worker is gone.
    Exited(RunId, Incarnation, Exit),
    /// An event that needs nothing else.
    Event(Event),
    /// The service ends.
    End(Sender<()>),
}

/// Takes changes and events for the control plane.
#[derive(Clone)]
pub struct Control {
    inbox: Sender<Message>,
    parts: Arc<Parts>,
}

impl Control {
    /// Begins to control the endpoints of a service, with what is stored of them. Its threads survive a panic; `on_panic` gets the text of each.
    ///
    /// # Errors
    /// When the system refuses a thread, or the database cannot be read.
    pub fn start(
        loader: &Arc<Loader>,
        store: &Arc<Store>,
        jobs: &Arc<Jobs>,
        endpoints: &Arc<Endpoints>,
        on_panic: OnPanic,
    ) -> io::Result<Control> {
        let parts = Arc::new(Parts {
            on_panic,
            loader: loader.clone(),
            store: store.clone(),
            jobs: jobs.clone(),
            endpoints: endpoints.clone(),
            opening: Turns::new(MOST_OPENING),
            numbering: Mutex::new(()),
        });
        let (stored, changes) = stored(store).map_err(io::Error::other)?;
        let left = loader.workers.as_ref().map_or(0, |workers| workers.last_left());
        let last_incarnation = store.last_incarnation().max(left);
        endpoints.expect_more(true);
        let (inbox, messages) = channel();
        let told = inbox.clone();
        let wrote = move |id, result| _ = told.send(Message::Event(Event::Wrote { id, result }));
        let writes = writes::start(parts.clone(), wrote)?;
        let (shell, guard) = (
            Shell::new(parts.clone(), inbox.clone(), writes, last_incarnation),
            parts.clone(),
        );
        std::thread::Builder::new()
            .name("control".into())
            .spawn(move || run(shell, &messages, &guard))?;
        let control = Control { inbox, parts };
        control.send(Message::Began(stored, changes));
        if loader.workers.is_none() {
            control.send(Message::Found(Vec::new()));
        }
        Ok(control)
    }

    /// Looks for workers that an earlier service has left, on a separate thread. No worker is started before they are known.
    ///
    /// # Errors
    /// When the system refuses a thread.
    pub fn find_workers(&self) -> io::Result<()> {
        let control = self.clone();
        let find = move || {
            let workers = control.parts.loader.workers.as_ref();
            let found = workers.map(|workers| workers.find()).unwrap_or_default();
            control.send(Message::Found(found));
        };
        std::thread::Builder::new().name("find-workers".into()).spawn(find)?;
        Ok(())
    }

    /// Asks for a change; returns when it is under way, or refused.
    ///
    /// # Errors
    /// Why it is not under way.
    pub async fn change(&self, name: &str, by: &str, change: Change) -> Result<Accepted, Refused> {
        let (answer, answered) = oneshot::channel();
        self.send_change(name, by, change, answer);
        answered.await.unwrap_or_else(|_| {
            let why = "the service ends".into();
            Err(Refused::NotStored { why })
        })
    }

    fn send_change(&self, name: &str, by: &str, change: Change, answer: oneshot::Sender<Result<Accepted, Refused>>) {
        // Wishes arrive in the order of their numbers.
        let _in_order = self.parts.numbering.lock().unwrap_or_else(PoisonError::into_inner);
        let generation = u64::try_from(self.parts.store.next_job()).unwrap_or_default();
        self.send(Message::Requested {
            name: name.to_owned(),
            by: by.to_owned(),
            generation,
            change: Box::new(change),
            answer,
        });
    }

    /// Waits until an endpoint has a place that is parked or being started, for as long as its spec lets calls wait.
    ///
    /// # Errors
    /// When it cannot be started, or is stopped or removed meanwhile.
    pub async fn wait_for(&self, name: &str, by: &str) -> Result<(), NotCalled> {
        let endpoints = &self.parts.endpoints;
        let (mut change, began) = (endpoints.changes(), Instant::now());
        let longest = endpoints.longest_wait(name);
        let until = longest.and_then(|longest| began.checked_add(longest));
        self.called(name, by);
        loop {
            if let Some(found) = endpoints.look(name, began) {
                return found;
            }
            // The sender is the endpoints' own.
            let changed = change.changed();
            match until {
                None => drop(changed.await),
                Some(until) => {
                    let waited = tokio::time::timeout_at(until.into(), changed).await;
                    waited
                        .map_err(|_| NotCalled::TooLong(longest.unwrap_or_default()))?
                        .ok();
                }
            }
        }
    }

    /// Reports a call for an endpoint without a replica.
    fn called(&self, name: &str, by: &str) {
        let (name, by) = (name.to_owned(), by.to_owned());
        self.send(Message::Called { name, by });
    }

    /// Notes that an endpoint was unused for as long as its spec says.
    pub fn is_idle(&self, name: &str) {
        self.send(Message::Idle(name.to_owned()));
    }

    /// Stops an endpoint whose time is over; its calls have so long to end.
    pub fn stop_in_time(&self, name: &str, within: Duration) {
        let (control, name) = (self.clone(), name.to_owned());
        let within = u64::try_from(within.as_millis()).unwrap_or(u64::MAX);
        tokio::spawn(async move {
            let stopped = control.change(&name, SERVICE, Change::Stop { within }).await;
            if let Err(refused) = stopped {
                tracing::debug!(endpoint = name, ?refused, "not stopped yet");
            }
        });
    }

    /// Ends all workers and waits for their end, for a few seconds at most. Afterwards the control plane is inactive.
    pub fn end(&self) {
        let (done, is_done) = channel();
        self.send(Message::End(done));
        let _ = is_done.recv_timeout(WORKERS_END);
        if let Some(workers) = &self.parts.loader.workers {
            workers.wait_for_end(WORKERS_END);
        }
    }

    fn send(&self, message: Message) {
        // It is not read any more once the service ends.
        let _ = self.inbox.send(message);
    }
}

impl Parts {
    fn guard<T>(&self, what: &str, work: impl FnOnce() -> T) -> Option<T> {
        guard(what, &self.on_panic, work)
    }
}

fn run(mut shell: Shell, messages: &Receiver<Message>, parts: &Parts) {
    let mut ticked = Instant::now();
    loop {
        shell.take_found();
        let longest_wait = match shell.holds_found() {
            true => SHORT_TICK,
            false => TICK.saturating_sub(ticked.elapsed()),
        };
        match messages.recv_timeout(longest_wait) {
            Ok(Message::End(done)) => {
                shell.end();
                let _ = done.send(());
                return;
            }
            Ok(message) => parts
                .guard("a message", || take(&mut shell, message))
                .unwrap_or_default(),
            Err(RecvTimeoutError::Timeout) => {}
            Err(RecvTimeoutError::Disconnected) => return,
        }
        if ticked.elapsed() >= TICK {
            ticked = Instant::now();
            parts
                .guard("a tick", || shell.handle(Event::Ticked))
                .unwrap_or_default();
        }
    }
}

fn take(shell: &mut Shell, message: Message) {
    match message {
        Message::Began(stored, changes) => shell.start_with(stored, changes),
        Message::Found(duties) => shell.finds(duties),
        Message::Requested {
            name,
            by,
            generation,
            change,
            answer,
        } => shell.requested((name, by), generation, *change, answer),
        Message::Called { name, by } => shell.is_called(name, by),
        Message::Idle(name) => shell.is_idle(&name),
        Message::Prepared(id, result) => shell.is_prepared(id, result.map(|prepared| *prepared)),
        Message::Started(run, incarnation, result) => shell.is_started(run, incarnation, result),
        Message::Exited(run, incarnation, exit) => shell.has_exited(run, incarnation, &exit),
        Message::Event(event) => shell.handle(event),
        // It ends the loop.
        Message::End(_) => {}
    }
}

type StoredChanges = (Vec<Stored<SpecText>>, Vec<(ChangeJob, JobRecord)>);

/// Returns what is stored of all endpoints.
fn stored(store: &Store) -> Result<StoredChanges, StoreError> {
    let mut all: Vec<Stored<SpecText>> = Vec::new();
    for kept in store.stored_endpoints()? {
        let (last_release, identity) = store.release_of(&kept.name, kept.release)?;
        let desired = Desired {
            generation: 0,
            spec: SpecText::of_kept(&kept, START),
            release: kept.release,
            identity: identity.unwrap_or_default(),
            serving: kept.state != StoredState::Stopped,
        };
        all.push(Stored {
            name: kept.name.clone(),
            desired: Some(desired),
            last_release,
            parked: kept.state == StoredState::Parked,
            change: None,
        });
    }
    let mut jobs = Vec::new();
    for record in store.changes()? {
        let generation = u64::try_from(record.number).unwrap_or_default();
        // Jobs of changes are kept as long as these are under way.
        let job = store.job(record.number)?.unwrap_or_else(|| JobRecord {
            number: record.number,
            ..JobRecord::default()
        });
        let Some(change) = change_of(&record, &job.who) else {
            tracing::warn!(
                job = record.number,
                endpoint = record.endpoint,
                "this version does not know such a change"
            );
            continue;
        };
        jobs.push((ChangeJob::new(&record.endpoint, &job.who, &change, false, None), job));
        let change = Some((generation, change));
        match all.iter_mut().find(|stored| stored.name == record.endpoint) {
            Some(stored) => stored.change = change,
            None => all.push(Stored {
                last_release: store.release_of(&record.endpoint, 0)?.0,
                name: record.endpoint,
                desired: None,
                parked: false,
                change,
            }),
        }
    }
    Ok((all, jobs))
}
