//! What receivers have received.

use serde::Serialize;
use std::collections::VecDeque;
use std::sync::{Arc, Mutex, PoisonError};
use time::OffsetDateTime;
use tokio::sync::Notify;

/// Notices that are kept.
const KEPT: usize = 2_000;

/// A notice that was received.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Received {
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// `webhook`, `action`, `mail` or `syslog`.
    pub channel: &'static str,
    /// Id of the notice, where the receiver can read it.
    pub id: Option<String>,
    /// Whether its signature is right; absent where none is looked for.
    pub signed: Option<bool>,
    /// Whether it was taken.
    pub taken: bool,
    /// All of it.
    pub text: String,
}

#[derive(Debug, Default)]
struct Inner {
    received: Mutex<VecDeque<Received>>,
    added: Notify,
}

/// What some receivers have received, newest last.
#[derive(Debug, Clone, Default)]
pub struct Inbox(Arc<Inner>);

impl Inbox {
    /// Adds a notice.
    pub fn add(&self, received: Received) {
        let mut all = self.0.received.lock().unwrap_or_else(PoisonError::into_inner);
        if all.len() == KEPT {
            all.pop_front();
        }
        all.push_back(received);
        drop(all);
        self.0.added.notify_waiters();
    }

    /// Everything that is kept.
    pub fn all(&self) -> Vec<Received> {
        self.0.received.lock().unwrap_or_else(PoisonError::into_inner).iter().cloned().collect()
    }

    /// Waits until everything that was received fits a condition.
    pub async fn wait_until(&self, fits: impl Fn(&[Received]) -> bool) -> Vec<Received> {
        loop {
            let added = self.0.added.notified();
            tokio::pin!(added);
            added.as_mut().enable();
            let all = self.all();
            if fits(&all) {
                return all;
            }
            added.await;
        }
    }

    /// Everything as text for a reader, newest first.
    pub fn text(&self) -> String {
        let mut text = String::new();
        for one in self.all().iter().rev() {
            let time = one.at.time();
            let signed = match one.signed {
                None => "",
                Some(true) => ", signature valid",
                Some(false) => ", SIGNATURE WRONG",
            };
            let taken = if one.taken { "" } else { ", refused" };
            text.push_str(&format!(
                "--- {:02}:{:02}:{:02} UTC, {}{signed}{taken}\n\n{}\n\n",
                time.hour(),
                time.minute(),
                time.second(),
                one.channel,
                one.text.trim_end()
            ));
        }
        if text.is_empty() { "No notice has been received.\n".to_owned() } else { text }
    }
}
