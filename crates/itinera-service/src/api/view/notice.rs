//! Notices and receivers as the API shows them.

use crate::notices::content::NoticeContent;
use itinera_model::alarm::Severity;
use itinera_model::incident::TimelineKind;
use itinera_model::notice::{Channel, DeliveryState, NoticeKind, Receiver};
use itinera_model::role::Role;
use itinera_store::{DeliveryRecord, NoticeRecord, ReceiverRecord};
use serde::Serialize;
use time::OffsetDateTime;
use utoipa::ToSchema;
use uuid::Uuid;

/// A receiver of notices. Addresses of webhooks are complete for administrators only: they may hold secrets.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ReceiverItem {
    pub(crate) id: Uuid,
    #[serde(flatten)]
    receiver: Receiver,
    #[serde(with = "time::serde::rfc3339")]
    made_at: OffsetDateTime,
    made_by: String,
    /// The secret that signs requests to it: only in the answer that makes it.
    secret: Option<String>,
}

/// Scheme, host and port of a URL.
fn origin(url: &str) -> String {
    let parsed = url.parse::<url::Url>().map(|it| it.origin().ascii_serialization());
    format!("{}/…", parsed.unwrap_or_default())
}

impl ReceiverItem {
    pub(crate) fn new(record: ReceiverRecord, reader: Role) -> Self {
        let ReceiverRecord { id, mut receiver, made_at, made_by } = record;
        if let Channel::Webhook { url } | Channel::Action { url, .. } = &mut receiver.channel
            && reader < Role::Administrator
        {
            *url = origin(url);
        }
        Self { id: id.as_uuid(), receiver, made_at, made_by, secret: None }
    }

    /// The same with a secret that was made just now.
    pub(crate) fn with_secret(self, secret: Option<String>) -> Self {
        Self { secret, ..self }
    }
}

/// The delivery of a notice to a receiver.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct DeliveryView {
    receiver: String,
    /// `webhook`, `action`, `mail` or `syslog`.
    channel: String,
    state: DeliveryState,
    attempts: i32,
    /// When the next attempt is made; absent where none is.
    #[serde(with = "time::serde::rfc3339::option")]
    next_at: Option<OffsetDateTime>,
    /// When it was sent, or given up; absent while it waits.
    #[serde(with = "time::serde::rfc3339::option")]
    ended_at: Option<OffsetDateTime>,
    /// Why the last attempt failed, or why it is not sent.
    reason: Option<String>,
    /// What an action answered.
    answer: Option<String>,
}

impl From<DeliveryRecord> for DeliveryView {
    fn from(record: DeliveryRecord) -> Self {
        Self {
            receiver: record.receiver,
            channel: record.channel,
            state: record.state,
            attempts: record.attempts,
            next_at: record.next_at,
            ended_at: record.ended_at,
            reason: record.reason,
            answer: record.answer,
        }
    }
}

/// The words of an entry in the timeline of an incident about a delivery.
pub(crate) fn delivered(kind: TimelineKind, body: &serde_json::Value) -> String {
    let text = |field: &str| body[field].as_str().unwrap_or_default();
    let (no, says, receiver) = (&body["notice"], text("says"), text("receiver"));
    let notice = format!("Notice {no} ({says}) to {receiver} by {}", text("channel"));
    match (kind, text("answer"), text("reason")) {
        (TimelineKind::NoticeFailed, _, reason) => format!("{notice}: {reason}"),
        (_, "", _) => notice,
        (_, answer, _) => format!("{notice}; it answered {answer}"),
    }
}

/// A notice with its deliveries.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct NoticeItem {
    id: Uuid,
    /// Its short number.
    pub(crate) no: i64,
    kind: NoticeKind,
    #[serde(with = "time::serde::rfc3339")]
    at: OffsetDateTime,
    /// Absent where it is about no alarm.
    severity: Option<Severity>,
    /// Short number of the incident that it is about; absent for a test.
    incident: Option<i64>,
    /// What it says, in one line; absent until it is composed.
    subject: Option<String>,
    /// All that it says, in plain text; absent until it is composed.
    text: Option<String>,
    /// By name of the receiver. None where no receiver takes it.
    deliveries: Vec<DeliveryView>,
}

impl From<NoticeRecord> for NoticeItem {
    fn from(record: NoticeRecord) -> Self {
        let content: Option<NoticeContent> =
            record.content.and_then(|content| serde_json::from_value(content).ok());
        Self {
            id: record.id.as_uuid(),
            no: record.no,
            kind: record.kind,
            at: record.at,
            severity: record.severity,
            incident: record.incident_no,
            subject: content.as_ref().map(NoticeContent::subject),
            text: content.as_ref().map(NoticeContent::text),
            deliveries: record.deliveries.into_iter().map(DeliveryView::from).collect(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::id::ReceiverId;

    #[test]
    fn a_path_that_may_hold_a_secret_is_shown_to_administrators_only() {
        let url = "https://desk.corriven.example:8443/in/5ecret?token=x".to_owned();
        let record = ReceiverRecord {
            id: ReceiverId::from_uuid(Uuid::nil()),
            receiver: Receiver {
                name: "Desk".to_owned(),
                enabled: true,
                channel: Channel::Webhook { url: url.clone() },
                routes: Vec::new(),
            },
            made_at: OffsetDateTime::UNIX_EPOCH,
            made_by: "ailsa".to_owned(),
        };
        let shown = |role| serde_json::json!(ReceiverItem::new(record.clone(), role))["url"].take();
        assert_eq!(shown(Role::Administrator), url);
        assert_eq!(shown(Role::Analyst), "https://desk.corriven.example:8443/…");
    }
}
