//! News as server-sent events (WHATWG HTML, "Server-sent events"), resumed by number.

use crate::problem::ApiError;
use crate::server::{Shared, said};
use axum::extract::State;
use axum::http::HeaderMap;
use axum::response::sse::{Event, KeepAlive, Sse};
use futures_util::Stream;
use itinera_store::{News, Since};
use std::collections::VecDeque;
use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::watch;
use tokio::time::Instant;

/// News read at once.
const AT_ONCE: i64 = 500;
/// How often the outbox is looked at when nobody in this process has added to it.
const GLANCE: Duration = Duration::from_secs(1);
/// A stream ends after this; the reader comes again, and whether it may is asked again.
const LONGEST: Duration = Duration::from_secs(600);

/// Follows the head of the outbox for everybody who listens here.
pub(crate) async fn present(shared: Arc<Shared>) {
    loop {
        match shared.store.news_head().await {
            Ok(head) => drop(shared.news_head.send_replace(head)),
            Err(error) => tracing::debug!(%error, "the outbox cannot be read"),
        }
        let _woken = tokio::time::timeout(GLANCE, shared.news.notified()).await;
    }
}

struct Reader {
    shared: Arc<Shared>,
    head: watch::Receiver<i64>,
    cursor: i64,
    waiting: VecDeque<News>,
    /// Said first: where the reader stands, and whether it has missed something.
    greeting: Option<&'static str>,
    until: Instant,
}

/// News from now on, or from the number in `Last-Event-ID`.
pub(crate) async fn live(
    State(shared): State<Arc<Shared>>,
    headers: HeaderMap,
) -> Result<Sse<impl Stream<Item = Result<Event, Infallible>>>, ApiError> {
    let last = headers.get("last-event-id").and_then(|value| value.to_str().ok());
    let (cursor, greeting) = match last.and_then(|text| text.parse().ok()) {
        Some(seen) => (seen, None),
        None => (shared.store.news_head().await?, Some("here")),
    };
    let head = shared.news_head.subscribe();
    let until = Instant::now() + LONGEST;
    let waiting = VecDeque::new();
    let reader = Reader { shared, head, cursor, waiting, greeting, until };
    let events = futures_util::stream::unfold(reader, |mut reader| async move {
        let event = reader.next().await?;
        Some((Ok(event), reader))
    });
    Ok(Sse::new(events).keep_alive(KeepAlive::new().interval(Duration::from_secs(15))))
}

impl Reader {
    /// The next event; nothing when the stream is to end.
    async fn next(&mut self) -> Option<Event> {
        loop {
            if let Some(greeting) = self.greeting.take() {
                let event = Event::default().event(greeting).id(self.cursor.to_string());
                return Some(event.data("{}"));
            }
            if let Some(news) = self.waiting.pop_front() {
                self.cursor = news.no;
                let event = Event::default().event(news.topic).id(news.no.to_string());
                return Some(event.data(news.body.to_string()));
            }
            match self.shared.store.news_after(self.cursor, AT_ONCE).await {
                Ok(Since::News(news)) if news.is_empty() => {
                    let cursor = self.cursor;
                    tokio::select! {
                        changed = self.head.wait_for(|head| *head != cursor) => {
                            changed.ok()?;
                        }
                        () = tokio::time::sleep_until(self.until) => return None,
                        () = said(self.shared.stop.subscribe()) => return None,
                    }
                }
                Ok(Since::News(news)) => self.waiting = news.into(),
                Ok(Since::Forgotten(head)) => {
                    self.cursor = head;
                    self.greeting = Some("missed");
                }
                // The reader comes again by itself.
                Err(_) => return None,
            }
        }
    }
}
