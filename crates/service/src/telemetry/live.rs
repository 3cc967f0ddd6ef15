//! The one stream of live events: `GET /manage/live`.
//!
//! A loop looks at every engine four times a second. It counts the steps since its last look and sends them to listeners; without
//! listeners nothing is encoded.

use actix_web::web::Bytes;
use serde::Serialize;
use tokio::sync::broadcast;
use vastrelay_wire::load::LoadStatus;
use vastrelay_wire::manage::RecordedCall;

/// Events that a listener may be behind.
const MOST_BEHIND: usize = 1_024;

/// The stream of live events.
pub struct Live {
    pub(crate) frames: broadcast::Sender<Bytes>,
}

impl Default for Live {
    fn default() -> Live {
        Live {
            frames: broadcast::channel(MOST_BEHIND).0,
        }
    }
}

impl Live {
    /// Tells a call that has ended.
    pub(crate) fn call(&self, call: impl FnOnce() -> RecordedCall) {
        if self.has_listeners() {
            self.send("call", &call());
        }
    }

    /// Sends the progress of a load test.
    pub(crate) fn load(&self, status: &LoadStatus) {
        if self.has_listeners() {
            self.send("load", status);
        }
    }

    pub(crate) fn has_listeners(&self) -> bool {
        self.frames.receiver_count() > 0
    }

    pub(crate) fn send(&self, event: &str, value: &impl Serialize) {
        // The last listener may have left by now.
        let _ = self.frames.send(frame(event, value));
    }
}

pub(crate) fn frame(event: &str, value: &impl Serialize) -> Bytes {
    let json = serde_json::to_string(value).expect("wire types are JSON");
    format!("event: {event}\ndata: {json}\n\n").into()
}
