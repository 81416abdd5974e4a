//! Work that takes long, away from the connection tasks.

/// Does what may walk through a million topics, away from the connection tasks.
pub async fn apart<R: Send + 'static>(work: impl FnOnce() -> R + Send + 'static) -> R {
    tokio::task::spawn_blocking(work).await.expect("the work does not panic, and is not cancelled")
}
