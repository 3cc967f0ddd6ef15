//! Threads for what takes long: JSON, templates, tokenizers.
//!
//! The threads that serve HTTP answer everybody, so none of them may work for one caller for long. There are two threads for
//! text: one takes whatever comes, short work first, the other only short work, so that short prompts never wait behind a
//! long one.

use crate::problem::Problem;
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
    jobs: [VecDeque<Job>; 2],
    is_over: bool,
}

#[derive(Default)]
struct Desk {
    waiting: Mutex<Waiting>,
    more: Condvar,
}

impl Desk {
    fn lock(&self) -> MutexGuard<'_, Waiting> {
        self.waiting.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Returns the next job of the first kinds, or `None` when there will be none.
    fn next(&self, kinds: usize) -> Option<Job> {
        let mut waiting = self.lock();
        loop {
            if let Some(job) = waiting.jobs[..kinds].iter_mut().find_map(VecDeque::pop_front) {
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
    desk: Arc<Desk>,
}

impl TextThreads {
    pub(crate) fn start(program: Option<Program>) -> TextThreads {
        let desk = Arc::new(Desk::default());
        for kinds in [1, 2] {
            let (desk, program) = (desk.clone(), program.clone());
            std::thread::Builder::new()
                .name("text".into())
                .spawn(move || {
                    let mut renderer =
                        Renderer(program.map(|program| TemplateProcess::new(program.path, program.words)));
                    while let Some(job) = desk.next(kinds) {
                        job(&mut renderer);
                    }
                })
                .expect("the system gives threads for text");
        }
        TextThreads { desk }
    }

    /// Does work on this many bytes of text, and returns what it brought.
    ///
    /// # Errors
    /// 503 when too much is waiting, 500 when the work panics.
    pub(crate) async fn run<T: Send + 'static>(
        &self,
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
        self.queue(usize::from(bytes > LONG), job)?;
        self.desk.more.notify_all();
        let panicked =
            || Problem::internal("the text could not be processed: its tokenizer or template panicked".into());
        answer.await.map_err(|_| panicked())?.map_err(|_| panicked())
    }

    fn queue(&self, kind: usize, job: Job) -> Result<(), Problem> {
        let mut waiting = self.desk.lock();
        if waiting.jobs[kind].len() >= MOST_WAITING[kind] {
            return Err(Problem::text_threads_full());
        }
        waiting.jobs[kind].push_back(job);
        Ok(())
    }
}

impl Drop for TextThreads {
    fn drop(&mut self) {
        self.desk.lock().is_over = true;
        self.desk.more.notify_all();
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
        let long = tokio::spawn(async move { long.run(LONG + 1, move |_| waits.recv().is_ok()).await });
        for n in 0..20 {
            assert_eq!(pool.run(1, move |_| n).await.unwrap(), n);
        }
        assert!(!long.is_finished());
        go_on.send(()).unwrap();
        assert!(long.await.unwrap().unwrap());
    }

    #[tokio::test]
    async fn too_much_work_is_refused_and_a_panic_is_an_error() {
        let pool = TextThreads::start(None);
        let (go_on, waits) = mpsc::channel::<()>();
        let first = pool.run(LONG + 1, move |_| waits.recv().is_err());
        let others = (0..MOST_WAITING[1] + 1).map(|_| pool.run(LONG + 1, |_| ()));
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
        let panicked = pool.run(1, |_| panic!("a broken tokenizer")).await.map(|(): ()| ());
        assert_eq!(panicked.unwrap_err().code(), "internal");
        assert_eq!(pool.run(1, |_| 7).await.unwrap(), 7);
    }
}
