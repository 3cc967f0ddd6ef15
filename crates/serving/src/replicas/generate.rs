//! One request in, a stream of events out.

use futures_util::future::BoxFuture;
use vastrelay_engine::record::StepRecord;
use vastrelay_engine::{Engine, EngineStatus, GenerationRequest, Limits, Refusal, RequestStream};

/// Whatever runs requests of one model: the engine in this process, or one elsewhere.
pub trait Generate: Send + Sync {
    /// Hands in the requests of a call, all or none; they are in the queue when the future is ready. Completions are numbered over all of
    /// them. Dropping the stream cancels what has not ended.
    ///
    /// # Errors
    /// When they are refused; nothing of them is left behind.
    fn submit(&self, requests: Vec<GenerationRequest>) -> BoxFuture<'_, Result<RequestStream, Refusal>>;

    /// Returns how many sequences have not ended of those that were handed in; nothing when it takes no more.
    fn given(&self) -> Option<usize>;

    /// Returns whether it takes no more, and ends when the last call has.
    fn is_drained(&self) -> bool {
        false
    }

    /// Lets somebody know, from any thread, whenever sequences have ended or the engine has; only the first who asks.
    fn when_room(&self, tell: Box<dyn Fn() + Send + Sync>);

    /// Returns how things stand.
    fn status(&self) -> EngineStatus;

    /// Returns the newest step records after a number, oldest first.
    fn steps_after(&self, number: u64, most: usize) -> Vec<StepRecord>;

    /// Returns what it may spend.
    fn limits(&self) -> &Limits;
}

impl Generate for Engine {
    fn submit(&self, requests: Vec<GenerationRequest>) -> BoxFuture<'_, Result<RequestStream, Refusal>> {
        Box::pin(Engine::submit(self, requests))
    }

    fn given(&self) -> Option<usize> {
        Engine::given(self)
    }

    fn when_room(&self, tell: Box<dyn Fn() + Send + Sync>) {
        Engine::when_room(self, tell);
    }

    fn status(&self) -> EngineStatus {
        Engine::status(self)
    }

    fn steps_after(&self, number: u64, most: usize) -> Vec<StepRecord> {
        Engine::steps_after(self, number, most)
    }

    fn limits(&self) -> &Limits {
        Engine::limits(self)
    }
}
