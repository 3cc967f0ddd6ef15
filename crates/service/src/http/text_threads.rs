//! Threads for what takes long: JSON, templates, tokenizers.
//!
//! The threads that serve HTTP answer everybody, so none of them may work for one caller for long. There are two threads for
//! text: one takes whatever comes, short work first, the other only short work, so that short prompts never wait behind a
//! long one.

use crate::http::problem::Problem;
use std::collections::VecDeque;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use tokio::sync::oneshot;
use vastrelay_serving::process::Program;
use vastrelay_text::{ChatTemplate, Message, TemplateProcess, TextError};

/// Bytes of text above which work is long.
const LONG: usize = 64 << 10;
/// Most work of each kind that waits.
const MOST_WAITING: [usize; 2] = [1_024, 16];

/// Renders chat templates: in a process of its own where there is a program for that, else here.
pub struct Renderer(Option<TemplateProcess>);

impl Renderer {
    /// As [`ChatTemplate::render`].
    ///
    /// # Errors
    /// As of [`ChatTemplate::render`].
    pub(crate) fn render(
        &mut self,
        template: &ChatTemplate,
        messages: &[Message],
        answer_start: bool,
    ) -> Result<String, TextError> {
        match &mut self.0 {
            Some(process) => process.render(template, messages, answer_start),
            None => template.render(messages, answer_start),
        }
    }
}

type Job = Box<dyn FnOnce(&mut Renderer) + Send>;

/// Work that waits: short and long.
#[derive(Default)]
struct Waiting {
    jobs: [Turns; 2],
    is_over: bool,
}

/// Work of one kind. Keys go in turns, one piece each, so that one with much work does not hold up the others.
#[derive(Default)]
struct Turns {
    keys: VecDeque<(Arc<str>, VecDeque<Job>)>,
    count: usize,
}

impl Turns {
    /// Adds work of a key, unless as much waits as may, in all or of this key: half of that, where it has one.
    fn add(&mut self, key: &Arc<str>, job: Job, most: usize) -> bool {
        let place = self.keys.iter().position(|(known, _)| known == key);
        let own = place.map_or(0, |place| self.keys[place].1.len());
        let most_of_key = if key.is_empty() { most } else { most / 2 };
        if self.count >= most || own >= most_of_key {
            return false;
        }
        match place {
            Some(place) => self.keys[place].1.push_back(job),
            None => self.keys.push_back((key.clone(), VecDeque::from([job]))),
        }
        self.count += 1;
        true
    }

    fn take(&mut self) -> Option<Job> {
        let (key, mut jobs) = self.keys.pop_front()?;
        let job = jobs.pop_front();
        self.count -= usize::from(job.is_some());
        if !jobs.is_empty() {
            self.keys.push_back((key, jobs));
        }
        job
    }
}

#[derive(Default)]
struct WorkQueue {
    waiting: Mutex<Waiting>,
    more: Condvar,
}

impl WorkQueue {
    fn lock(&self) -> MutexGuard<'_, Waiting> {
        self.waiting.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Returns the next job of the first kinds, or `None` when there will be none.
    fn next(&self, kinds: usize) -> Option<Job> {
        let mut waiting = self.lock();
        loop {
            if let Some(job) = waiting.jobs[..kinds].iter_mut().find_map(Turns::take) {
                return Some(job);
            }
            if waiting.is_over {
                return None;
            }
            waiting = self.more.wait(waiting).unwrap_or_else(PoisonError::into_inner);
        }
    }
}

/// The threads.
pub struct TextThreads {
    queue: Arc<WorkQueue>,
}

impl TextThreads {
    pub(crate) fn start(program: Option<Program>) -> TextThreads {
        let queue = Arc::new(WorkQueue::default());
        for kinds in [1, 2] {
            let (queue, program) = (queue.clone(), program.clone());
            std::thread::Builder::new()
                .name("text".into())
                .spawn(move || {
                    let mut renderer =
                        Renderer(program.map(|program| TemplateProcess::new(program.path, program.words)));
                    while let Some(job) = queue.next(kinds) {
                        job(&mut renderer);
                    }
                })
                .expect("the system gives threads for text");
        }
        TextThreads { queue }
    }

    /// Does work of a key on this many bytes of text, and returns what it brought.
    ///
    /// # Errors
    /// 503 when too much is waiting, 500 when the work panics.
    pub(crate) async fn run<T: Send + 'static>(
        &self,
        key: &Arc<str>,
        bytes: usize,
        work: impl FnOnce(&mut Renderer) -> T + Send + 'static,
    ) -> Result<T, Problem> {
        let (done, answer) = oneshot::channel();
        let job: Job = Box::new(move |renderer| {
            // Who asked may be gone; then nobody needs the work.
            if !done.is_closed() {
                let _ = done.send(catch_unwind(AssertUnwindSafe(|| work(renderer))));
            }
        });
        self.queue(key, usize::from(bytes > LONG), job)?;
        self.queue.more.notify_all();
        let panicked =
            || Problem::internal("the text could not be processed: its tokenizer or template panicked".into());
        answer.await.map_err(|_| panicked())?.map_err(|_| panicked())
    }

    fn queue(&self, key: &Arc<str>, kind: usize, job: Job) -> Result<(), Problem> {
        let mut waiting = self.queue.lock();
        match waiting.jobs[kind].add(key, job, MOST_WAITING[kind]) {
            true => Ok(()),
            false => Err(Problem::text_threads_full()),
        }
    }
}

impl Drop for TextThreads {
    fn drop(&mut self) {
        self.queue.lock().is_over = true;
        self.queue.more.notify_all();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::mpsc;

    #[tokio::test]
    async fn short_work_does_not_wait_for_long_work() {
        let pool = Arc::new(TextThreads::start(None));
        let (go_on, waits) = mpsc::channel::<()>();
        let long = pool.clone();
        let long = tokio::spawn(async move { long.run(&"".into(), LONG + 1, move |_| waits.recv().is_ok()).await });
        for n in 0..20 {
            assert_eq!(pool.run(&"".into(), 1, move |_| n).await.unwrap(), n);
        }
        assert!(!long.is_finished());
        go_on.send(()).unwrap();
        assert!(long.await.unwrap().unwrap());
    }

    #[tokio::test]
    async fn a_key_with_much_long_work_holds_up_no_other_key() {
        let pool = TextThreads::start(None);
        let (go_on, waits) = mpsc::channel::<()>();
        let (many, one): (Arc<str>, Arc<str>) = ("many".into(), "one".into());
        let order = Arc::new(Mutex::new(Vec::new()));
        let note = |who: &'static str| {
            let order = order.clone();
            move |_: &mut Renderer| order.lock().unwrap().push(who)
        };
        let blocks = pool.run(&many, LONG + 1, move |_| {
            let _ = waits.recv();
        });
        let others = (0..MOST_WAITING[1]).map(|_| pool.run(&many, LONG + 1, note("many")));
        let late = pool.run(&one, LONG + 1, note("one"));
        let all = futures_util::future::join_all(others);
        let (_, others, late, ()) = tokio::join!(blocks, all, late, async { drop(go_on) });
        assert!(late.is_ok(), "there is a place for it");
        assert!(others.iter().any(Result::is_err), "one key does not get all places");
        let order = order.lock().unwrap();
        assert!(order[..2].contains(&"one"), "{order:?}");
    }

    #[tokio::test]
    async fn too_much_work_is_refused_and_a_panic_is_an_error() {
        let (pool, nobody) = (TextThreads::start(None), Arc::from(""));
        let (go_on, waits) = mpsc::channel::<()>();
        let first = pool.run(&nobody, LONG + 1, move |_| waits.recv().is_err());
        let others = (0..MOST_WAITING[1] + 1).map(|_| pool.run(&nobody, LONG + 1, |_| ()));
        let all = futures_util::future::join_all(others);
        let (first, others, ()) = tokio::join!(first, all, async { drop(go_on) });
        assert!(first.is_ok());
        let refused: Vec<String> = others
            .into_iter()
            .filter_map(Result::err)
            .map(|p| p.code().to_owned())
            .collect();
        assert!(
            !refused.is_empty() && refused.iter().all(|code| code == "text_threads_full"),
            "{refused:?}"
        );
        let panicked = pool
            .run(&nobody, 1, |_| panic!("a broken tokenizer"))
            .await
            .map(|(): ()| ());
        assert_eq!(panicked.unwrap_err().code(), "internal");
        assert_eq!(pool.run(&nobody, 1, |_| 7).await.unwrap(), 7);
    }
}
