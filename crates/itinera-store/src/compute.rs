//! Computation apart from the async runtime: its threads answer users and agents.

use crate::StoreError;

/// Runs work on a thread for blocking work.
///
/// # Errors
/// [`StoreError::Corrupt`] with `what` is worked on, where the work panics.
pub(crate) async fn compute<T: Send + 'static>(
    what: &'static str,
    work: impl FnOnce() -> T + Send + 'static,
) -> Result<T, StoreError> {
    tokio::task::spawn_blocking(work).await.map_err(|_| StoreError::corrupt(what))
}
