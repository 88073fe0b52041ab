//! When to stop: by signal, or because the parent process is gone.

use std::io;
use tokio::io::AsyncReadExt;
use tokio::signal::unix::{SignalKind, signal};

/// Ready at Ctrl-C, at a request to terminate, and (where asked) when standard input ends.
pub(crate) async fn stop_requested(with_parent: bool) -> io::Result<()> {
    let mut interrupt = signal(SignalKind::interrupt())?;
    let mut terminate = signal(SignalKind::terminate())?;
    let parent_gone = async {
        if !with_parent {
            std::future::pending::<()>().await;
        }
        let mut octets = [0; 64];
        let mut stdin = tokio::io::stdin();
        while stdin.read(&mut octets).await.is_ok_and(|read| read > 0) {}
    };
    tokio::select! {
        _ = interrupt.recv() => {}
        _ = terminate.recv() => {}
        () = parent_gone => {}
    }
    Ok(())
}
