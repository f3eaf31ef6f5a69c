//! Waiting for servers, as long as the user wants to.

use decanter_core::{Error, Result, watch};
use std::time::Duration;
use tokio::runtime::{Builder, Runtime};

/// What requests run on.
pub(crate) fn runtime() -> std::result::Result<Runtime, String> {
    Builder::new_multi_thread().worker_threads(2).enable_all().build().map_err(|e| e.to_string())
}

/// Comes back once the user wants to stop.
pub(crate) async fn stopped() {
    while watch::going_on().is_ok() {
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

/// Waits for an answer, or for the user.
pub(crate) fn wait<T>(runtime: &Runtime, answer: impl Future<Output = Result<T>>) -> Result<T> {
    runtime.block_on(async {
        tokio::select! {
            answer = answer => answer,
            () = stopped() => Err(Error::Cancelled),
        }
    })
}

/// The first cause, which says most.
pub(crate) fn innermost(error: &dyn std::error::Error) -> String {
    let mut at = error;
    while let Some(next) = at.source() {
        at = next;
    }
    at.to_string()
}
