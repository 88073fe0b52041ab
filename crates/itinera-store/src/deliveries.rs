//! Deliveries of notices: claimed by one process at a time, tried until they are sent or given up.

use crate::notices::tell;
use crate::receivers::{ReceiverRecord, by_ids};
use crate::timeline::{Entry, ITSELF, enter};
use crate::users::{Audited, audit};
use crate::{Store, StoreError, rows};
use itinera_model::audit::Action;
use itinera_model::id::{IncidentId, NoticeId, ReceiverId};
use itinera_model::incident::TimelineKind;
use itinera_model::notice::{DeliveryState, NoticeKind, Receiver};
use sea_orm::FromQueryResult;
use sea_orm::TransactionTrait;
use sea_orm::entity::prelude::*;
use std::collections::BTreeMap;
use std::time::Duration;
use time::OffsetDateTime;

/// A delivery that this process is to attempt.
#[derive(Debug, Clone, PartialEq)]
pub struct Claim {
    /// The delivery's id.
    pub id: Uuid,
    /// The notice's id, the same at every attempt.
    pub notice: NoticeId,
    /// The notice's short number.
    pub notice_no: i64,
    /// What the notice says.
    pub kind: NoticeKind,
    /// Everything that receivers are told.
    pub content: Json,
    /// Id of the receiver.
    pub receiver_id: ReceiverId,
    /// The receiver.
    pub receiver: Receiver,
    /// The secret that signs requests to it.
    pub secret: Option<String>,
    /// Attempts before this one.
    pub attempts: u32,
}

/// What became of an attempt.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Attempt {
    /// The receiver accepted it.
    Sent {
        /// What it answered, where that is recorded.
        answer: Option<String>,
    },
    /// It is tried again.
    Again {
        /// Why it failed.
        reason: String,
        /// When.
        at: OffsetDateTime,
    },
    /// It is given up.
    Failed {
        /// Why.
        reason: String,
    },
}

#[derive(FromQueryResult)]
struct ClaimRow {
    id: Uuid,
    notice_id: Uuid,
    no: i64,
    kind: String,
    content: Option<Json>,
    receiver_id: Uuid,
    secret: Option<String>,
    attempts: i32,
}

#[derive(FromQueryResult)]
struct EndedRow {
    notice_id: Uuid,
    no: i64,
    kind: String,
    incident_id: Option<Uuid>,
    receiver: String,
    channel: Option<String>,
}

/// Which deliveries that were given up are tried again: all where nothing is named.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Retried {
    /// Only those of the notice of this number.
    pub notice: Option<i64>,
    /// Only those to this receiver.
    pub receiver: Option<ReceiverId>,
}

impl Store {
    /// Claims deliveries that are due, oldest first and one of each receiver, for as long as an attempt
    /// may take. `busy` receivers are left out: this process is sending to them.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    ///
    /// # Cancel safety
    /// What was claimed is free again after `lasts`.
    pub async fn claim_deliveries(
        &self,
        busy: Vec<Uuid>,
        lasts: Duration,
        limit: i64,
    ) -> Result<Vec<Claim>, StoreError> {
        let claim = "UPDATE delivery d SET claimed_until = now() + make_interval(secs => $2) \
             FROM notice n, receiver r \
             WHERE d.id IN (SELECT f.id FROM delivery f WHERE f.id IN ( \
                     SELECT DISTINCT ON (o.receiver_id) o.id FROM delivery o \
                     WHERE o.state = 'waiting' AND o.next_at <= now() \
                         AND o.claimed_until < now() AND o.receiver_id <> ALL($1) \
                     ORDER BY o.receiver_id, o.next_at, o.id) \
                 AND f.state = 'waiting' AND f.claimed_until < now() \
                 ORDER BY f.next_at, f.id LIMIT $3 FOR UPDATE SKIP LOCKED) \
                 AND n.id = d.notice_id AND r.id = d.receiver_id \
             RETURNING d.id, d.notice_id, n.no, n.kind, n.content, d.receiver_id, r.secret, \
                 d.attempts";
        let values: [Value; 3] = [busy.into(), lasts.as_secs_f64().into(), limit.into()];
        let claimed: Vec<ClaimRow> = rows::all(&self.db, claim, values).await?;
        let ids: Vec<ReceiverId> =
            claimed.iter().map(|row| ReceiverId::from_uuid(row.receiver_id)).collect();
        let known: BTreeMap<Uuid, ReceiverRecord> =
            by_ids(&self.db, &ids).await?.into_iter().map(|it| (it.id.as_uuid(), it)).collect();
        // One that was removed meanwhile has had its deliveries skipped.
        let claims = claimed.into_iter().filter_map(|row| {
            let receiver = known.get(&row.receiver_id)?;
            Some(Claim {
                id: row.id,
                notice: NoticeId::from_uuid(row.notice_id),
                notice_no: row.no,
                kind: NoticeKind::of(&row.kind),
                content: row.content.unwrap_or_default(),
                receiver_id: receiver.id,
                receiver: receiver.receiver.clone(),
                secret: row.secret,
                attempts: u32::try_from(row.attempts).unwrap_or(0),
            })
        });
        Ok(claims.collect())
    }

    /// Records an attempt, in the timeline of the incident too where it was the last.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    ///
    /// # Cancel safety
    /// All or nothing; what is not recorded is attempted again under the same id.
    pub async fn record_attempt(&self, id: Uuid, attempt: &Attempt) -> Result<(), StoreError> {
        let txn = self.db.begin().await?;
        let now = OffsetDateTime::now_utc();
        let (state, reason, answer, next_at) = match attempt {
            Attempt::Sent { answer } => (DeliveryState::Sent, None, answer.clone(), now),
            Attempt::Again { reason, at } => (DeliveryState::Waiting, Some(reason), None, *at),
            Attempt::Failed { reason } => (DeliveryState::Failed, Some(reason), None, now),
        };
        let ended_at = (state != DeliveryState::Waiting).then_some(now);
        let update = "UPDATE delivery d SET state = $2, attempts = d.attempts + 1, reason = $3, \
                 answer = $4, next_at = $5, ended_at = $6, claimed_until = '-infinity' \
             FROM notice n, receiver r WHERE d.id = $1 AND d.state = 'waiting' \
                 AND n.id = d.notice_id AND r.id = d.receiver_id \
             RETURNING d.notice_id, n.no, n.kind, n.incident_id, r.name AS receiver, \
                 r.content->>'channel' AS channel";
        let values: [Value; 6] = [
            id.into(),
            state.name().into(),
            reason.cloned().into(),
            answer.clone().into(),
            next_at.into(),
            ended_at.into(),
        ];
        let updated: Option<EndedRow> = rows::first(&txn, update, values).await?;
        let Some(row) = updated else { return Ok(()) };
        let kind = match state {
            DeliveryState::Sent => Some(TimelineKind::NoticeSent),
            DeliveryState::Failed => Some(TimelineKind::NoticeFailed),
            _ => None,
        };
        if let (Some(kind), Some(incident)) = (kind, row.incident_id) {
            let body = serde_json::json!({
                "notice": row.no, "says": row.kind, "receiver": row.receiver,
                "channel": row.channel, "reason": reason, "answer": answer,
            });
            let incident = IncidentId::from_uuid(incident);
            enter(&txn, Entry { incident, at: now, user: ITSELF, kind, body }).await?;
        }
        tell(&txn, row.notice_id).await?;
        txn.commit().await?;
        Ok(())
    }

    /// Has deliveries that were given up tried again; gives how many.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn retry_deliveries(&self, which: Retried, user: &str) -> Result<u64, StoreError> {
        let txn = self.db.begin().await?;
        let Retried { notice, receiver } = which;
        let update = "UPDATE delivery d SET state = 'waiting', attempts = 0, next_at = now(), \
                 ended_at = NULL FROM receiver r, notice n \
             WHERE d.state = 'failed' AND r.id = d.receiver_id AND r.removed_at IS NULL \
                 AND n.id = d.notice_id \
                 AND ($1::bigint IS NULL OR n.no = $1) AND ($2::uuid IS NULL OR r.id = $2) \
             RETURNING d.notice_id";
        let values: [Value; 2] = [notice.into(), receiver.map(ReceiverId::as_uuid).into()];
        let retried: Vec<Uuid> = rows::column(&txn, update, values).await?;
        if let Some(first) = retried.first() {
            let object = notice.map_or_else(|| "all".to_owned(), |no| no.to_string());
            let detail = serde_json::json!({ "deliveries": retried.len(), "receiver": receiver });
            let action = Action::DeliveriesRetried;
            audit(&txn, &Audited { user, action, object: &object, detail }).await?;
            tell(&txn, *first).await?;
        }
        txn.commit().await?;
        Ok(u64::try_from(retried.len()).unwrap_or(u64::MAX))
    }
}
