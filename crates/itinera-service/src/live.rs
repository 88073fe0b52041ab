//! The change feed as server-sent events (WHATWG HTML, "Server-sent events"), resumed by number.

use crate::context::Shared;
use crate::duty::Duty;
use crate::problem::ApiError;
use crate::sign_in::admitted;
use axum::extract::State;
use axum::http::{HeaderMap, Method};
use axum::response::sse::{Event, KeepAlive, Sse};
use futures_util::Stream;
use itinera_model::role::Role;
use itinera_store::{Change, Since, Topic};
use std::collections::VecDeque;
use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;
use strum::VariantArray;
use tokio::sync::watch;
use tokio::time::Instant;
use utoipa::openapi::RefOr;
use utoipa::openapi::schema::{ObjectBuilder, Schema, Type};
use utoipa::{PartialSchema, ToSchema};

/// Changes read at once.
const AT_ONCE: i64 = 500;
/// How often the change feed is read when this process has not added to it.
const GLANCE: Duration = Duration::from_secs(1);
/// A stream ends after this; the reader comes again, and whether it may is asked again.
const LONGEST: Duration = Duration::from_secs(600);

/// The topics of the change feed, for the API's description: what shows live data is checked
/// against it.
pub(crate) struct LiveTopic;

impl PartialSchema for LiveTopic {
    fn schema() -> RefOr<Schema> {
        let words: Vec<&str> = Topic::VARIANTS.iter().map(|topic| topic.name()).collect();
        ObjectBuilder::new()
            .schema_type(Type::String)
            .enum_values(Some(words))
            .description(Some("The event names of the live stream, beside `here` and `missed`."))
            .into()
    }
}

impl ToSchema for LiveTopic {}

/// Follows the head of the change feed for all streams of this process.
pub(crate) async fn present(shared: Arc<Shared>) {
    loop {
        match shared.store.last_change().await {
            Ok(head) => {
                shared.duties.done(Duty::ChangeFeed);
                let _before = shared.last_change.send_replace(head);
            }
            Err(error) => shared.duties.failed(Duty::ChangeFeed, &error),
        }
        let _woken = tokio::time::timeout(GLANCE, shared.change_added.notified()).await;
    }
}

/// The stream of a signed-out user ends after this.
const ADMITTED_FOR: Duration = Duration::from_secs(5);

struct Reader {
    shared: Arc<Shared>,
    /// What the reader came with: it is asked for again whether it still admits it.
    headers: HeaderMap,
    asked_at: Instant,
    head: watch::Receiver<i64>,
    cursor: i64,
    waiting: VecDeque<Change>,
    /// Said first: where the reader stands, and whether it has missed something.
    greeting: Option<&'static str>,
    until: Instant,
}

/// Changes from now on, or from the number in `Last-Event-ID`.
pub(crate) async fn live(
    State(shared): State<Arc<Shared>>,
    headers: HeaderMap,
) -> Result<Sse<impl Stream<Item = Result<Event, Infallible>>>, ApiError> {
    let last = headers.get("last-event-id").and_then(|value| value.to_str().ok());
    let (cursor, greeting) = match last.and_then(|text| text.parse().ok()) {
        Some(seen) => (seen, None),
        None => (shared.store.last_change().await?, Some("here")),
    };
    let head = shared.last_change.subscribe();
    let until = Instant::now() + LONGEST;
    let waiting = VecDeque::new();
    let asked_at = Instant::now();
    let reader = Reader { shared, headers, asked_at, head, cursor, waiting, greeting, until };
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
            if self.asked_at.elapsed() >= ADMITTED_FOR {
                let Self { shared, headers, .. } = self;
                admitted(&shared.store, &Method::GET, headers, Role::Viewer).await.ok()?;
                self.asked_at = Instant::now();
            }
            if let Some(greeting) = self.greeting.take() {
                let event = Event::default().event(greeting).id(self.cursor.to_string());
                return Some(event.data("{}"));
            }
            if let Some(change) = self.waiting.pop_front() {
                self.cursor = change.no;
                let event = Event::default().event(change.topic.name()).id(change.no.to_string());
                return Some(event.data(change.body.to_string()));
            }
            match self.shared.store.changes_after(self.cursor, AT_ONCE).await {
                Ok(Since::Changes(changes)) if changes.is_empty() => {
                    let cursor = self.cursor;
                    tokio::select! {
                        changed = self.head.wait_for(|head| *head != cursor) => {
                            changed.ok()?;
                        }
                        () = tokio::time::sleep_until(self.until) => return None,
                        () = tokio::time::sleep(ADMITTED_FOR) => {}
                        () = self.shared.stopped() => return None,
                    }
                }
                Ok(Since::Changes(changes)) => self.waiting = changes.into(),
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
