//! Long work, on a thread without connections.

use crate::http::problem::Problem;
use actix_web::web;

/// Does long work on a thread without connections.
///
/// # Errors
/// Those of the work, and 500 when the thread fails.
pub(crate) async fn on_thread<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, Problem> + Send + 'static,
) -> Result<T, Problem> {
    let done = web::block(work).await;
    done.map_err(|error| Problem::internal(error.to_string()))?
}
