//! The outbox: notices are written in the transaction that changes the alarms, composed when they are due,
//! and then delivered to each receiver that takes them.

use crate::change_feed::{self, Topic};
use crate::receivers::{self, ReceiverRecord};
use crate::statement::sql;
use crate::timeline::hold_alarms;
use crate::users::{Audited, audit};
use crate::{Store, StoreError, rows, severity};
use itinera_model::alarm::Severity;
use itinera_model::audit::Action;
use itinera_model::id::{IncidentId, NoticeId, ReceiverId};
use itinera_model::notice::{self, Channel, DeliveryState, NoticeKind, NoticeStep, Said, Standing};
use sea_orm::FromQueryResult;
use sea_orm::entity::prelude::*;
use sea_orm::{DatabaseTransaction, TransactionTrait};
use std::collections::BTreeMap;
use time::OffsetDateTime;

/// What has changed about alarms.
#[derive(Default)]
pub(crate) struct Touched {
    /// Alarms.
    pub(crate) alarms: Vec<Uuid>,
    /// Incidents that alarms have left.
    pub(crate) incidents: Vec<Uuid>,
}

#[derive(FromQueryResult)]
struct StandingRow {
    id: Uuid,
    said_severity: Option<String>,
    said_cleared: bool,
    waiting_id: Option<Uuid>,
    waiting: Option<String>,
    /// Of alarms that are open and not set aside: rank of the highest severity, from 1.
    worst: Option<i32>,
    /// An alarm is open, or there is none any more.
    set_aside: bool,
    cleared_before: i64,
}

impl StandingRow {
    fn said(&self) -> Said {
        match self.said_severity.as_deref().and_then(severity::of) {
            None => Said::Nothing,
            Some(severity) if self.said_cleared => Said::Cleared(severity),
            Some(severity) => Said::Open(severity),
        }
    }

    fn standing(&self) -> Standing {
        let worst = self.worst.and_then(|rank| usize::try_from(rank - 1).ok());
        match worst.and_then(|index| severity::FROM_WORST.get(index)) {
            Some(severity) => Standing::Open(*severity),
            None if self.set_aside => Standing::SetAside,
            None => Standing::Over,
        }
    }

    fn step(&self) -> Option<NoticeStep> {
        self.said().step(self.standing(), self.waiting.as_deref().map(NoticeKind::of))
    }
}

const STANDING: &str = "SELECT i.id, i.said_severity, i.said_cleared, w.id AS waiting_id, \
     w.kind AS waiting, s.worst, s.lasting OR s.alarms = 0 AS set_aside, \
     (SELECT count(*) FROM notice c WHERE c.incident_id = i.id AND c.kind = 'cleared' \
         AND c.composed_at > $3 - interval '2 hours') AS cleared_before \
     FROM incident i \
     CROSS JOIN LATERAL (SELECT count(*) AS alarms, \
             coalesce(bool_or(a.cleared_at IS NULL), false) AS lasting, \
             min(array_position($4::text[], a.severity)) FILTER (WHERE a.cleared_at IS NULL \
                 AND o.closed_at IS NULL AND coalesce(o.shelved_until <= $3, true)) AS worst \
         FROM alarm a LEFT JOIN alarm_operator o ON o.alarm_id = a.root_id \
         WHERE a.incident_id = i.id AND a.severity IS NOT NULL) s \
     LEFT JOIN notice w ON w.incident_id = i.id AND w.composed_at IS NULL \
         AND w.receiver_id IS NULL \
     WHERE i.id = ANY($2) \
         OR i.id IN (SELECT incident_id FROM alarm WHERE id = ANY($1))";

/// Writes the notices that follow from a change of alarms at a time; `now` is the wall clock.
pub(crate) async fn note(
    txn: &DatabaseTransaction,
    touched: Touched,
    (at, now): (OffsetDateTime, OffsetDateTime),
) -> Result<(), StoreError> {
    if touched.alarms.is_empty() && touched.incidents.is_empty() {
        return Ok(());
    }
    let values: [Value; 4] =
        [touched.alarms.into(), touched.incidents.into(), now.into(), severity::ranks().into()];
    for row in rows::all::<StandingRow>(txn, STANDING, values).await? {
        let Some(NoticeStep { said, withdraw, add }) = row.step() else { continue };
        let (severity, cleared) = match said {
            Said::Nothing => (None, false),
            Said::Open(severity) => (Some(severity), false),
            Said::Cleared(severity) => (Some(severity), true),
        };
        let severity = severity.map(severity::name).map(str::to_owned);
        let update = "UPDATE incident SET said_severity = $2, said_cleared = $3 WHERE id = $1";
        let values = [row.id.into(), severity.clone().into(), cleared.into()];
        txn.execute_raw(sql(update, values)).await?;
        if withdraw {
            let delete = "DELETE FROM notice WHERE id = $1";
            txn.execute_raw(sql(delete, [row.waiting_id.into()])).await?;
        }
        if let Some(kind) = add {
            let behind = (now - at).try_into().unwrap_or_default();
            let before = u32::try_from(row.cleared_before).unwrap_or(u32::MAX);
            let due_at = now + notice::wait(kind, behind, before);
            let new = NewNotice { incident: Some(row.id), receiver: None, kind, severity };
            insert(txn, new, (at, due_at)).await?;
        }
    }
    Ok(())
}

struct NewNotice {
    incident: Option<Uuid>,
    receiver: Option<ReceiverId>,
    kind: NoticeKind,
    severity: Option<String>,
}

async fn insert(
    txn: &DatabaseTransaction,
    new: NewNotice,
    (at, due_at): (OffsetDateTime, OffsetDateTime),
) -> Result<(NoticeId, i64), StoreError> {
    let NewNotice { incident, receiver, kind, severity } = new;
    let id = Uuid::now_v7();
    let insert = "INSERT INTO notice (id, incident_id, receiver_id, kind, at, due_at, severity) \
         VALUES ($1, $2, $3, $4, $5, $6, $7) RETURNING no";
    let values: [Value; 7] = [
        id.into(),
        incident.into(),
        receiver.map(ReceiverId::as_uuid).into(),
        kind.name().into(),
        at.into(),
        due_at.into(),
        severity.into(),
    ];
    let no: Option<i64> = rows::value(txn, insert, values).await?;
    tell(txn, id).await?;
    Ok((NoticeId::from_uuid(id), no.unwrap_or_default()))
}

pub(crate) async fn tell(txn: &DatabaseTransaction, notice: Uuid) -> Result<(), StoreError> {
    change_feed::add(txn, Topic::Notice, serde_json::json!({ "id": notice })).await
}

/// A notice that is to be composed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DueNotice {
    /// Its id.
    pub id: NoticeId,
    /// Its short number.
    pub no: i64,
    /// The incident that it is about; absent for a test.
    pub incident: Option<IncidentId>,
    /// The only receiver, where a user named one.
    pub receiver: Option<ReceiverId>,
    /// What it says.
    pub kind: NoticeKind,
    /// When that came to be.
    pub at: OffsetDateTime,
    /// The highest severity of the incident so far; absent without one.
    pub severity: Option<Severity>,
}

#[derive(FromQueryResult)]
struct DueRow {
    id: Uuid,
    no: i64,
    incident_id: Option<Uuid>,
    receiver_id: Option<Uuid>,
    kind: String,
    at: OffsetDateTime,
    severity: Option<String>,
}

/// A notice, composed.
#[derive(Debug, Clone, PartialEq)]
pub struct Composed {
    /// Its id.
    pub id: NoticeId,
    /// Severity, where it is about alarms.
    pub severity: Option<Severity>,
    /// Everything that receivers are told.
    pub content: Json,
    /// The receivers that take it.
    pub receivers: Vec<ReceiverId>,
}

/// A notice as recorded.
#[derive(Debug, Clone, PartialEq)]
pub struct NoticeRecord {
    /// Its id.
    pub id: NoticeId,
    /// Its short number.
    pub no: i64,
    /// Short number of the incident that it is about; absent for a test.
    pub incident_no: Option<i64>,
    /// What it says.
    pub kind: NoticeKind,
    /// When that came to be.
    pub at: OffsetDateTime,
    /// Severity, where it is about alarms.
    pub severity: Option<Severity>,
    /// Everything that receivers are told; absent until it is composed.
    pub content: Option<Json>,
    /// Its deliveries, by name of the receiver.
    pub deliveries: Vec<DeliveryRecord>,
}

/// A delivery as recorded.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeliveryRecord {
    /// Its id.
    pub id: Uuid,
    /// The receiver's id.
    pub receiver_id: ReceiverId,
    /// The receiver's name.
    pub receiver: String,
    /// Name of the receiver's channel.
    pub channel: String,
    /// State.
    pub state: DeliveryState,
    /// Attempts so far.
    pub attempts: i32,
    /// When the next attempt is made; absent where none is.
    pub next_at: Option<OffsetDateTime>,
    /// When it was sent, or given up; absent while it waits.
    pub ended_at: Option<OffsetDateTime>,
    /// Why the last attempt failed, or why it is not sent.
    pub reason: Option<String>,
    /// What an action answered.
    pub answer: Option<String>,
}

/// Which notices.
#[derive(Debug, Clone, Copy, Default)]
pub struct NoticeQuery {
    /// Only those with a delivery in this state.
    pub state: Option<DeliveryState>,
    /// Only those about this incident.
    pub incident: Option<IncidentId>,
    /// Only those before this number.
    pub before: Option<i64>,
}

#[derive(FromQueryResult)]
struct NoticeRow {
    id: Uuid,
    no: i64,
    incident_no: Option<i64>,
    kind: String,
    at: OffsetDateTime,
    severity: Option<String>,
    content: Option<Json>,
}

#[derive(FromQueryResult)]
struct DeliveryRow {
    id: Uuid,
    notice_id: Uuid,
    receiver_id: Uuid,
    name: String,
    channel: Option<String>,
    state: String,
    attempts: i32,
    next_at: OffsetDateTime,
    ended_at: Option<OffsetDateTime>,
    reason: Option<String>,
    answer: Option<String>,
}

impl From<DeliveryRow> for DeliveryRecord {
    fn from(row: DeliveryRow) -> Self {
        let state = DeliveryState::of(&row.state);
        Self {
            id: row.id,
            receiver_id: ReceiverId::from_uuid(row.receiver_id),
            receiver: row.name,
            channel: row.channel.unwrap_or_default(),
            state,
            attempts: row.attempts,
            next_at: (state == DeliveryState::Waiting).then_some(row.next_at),
            ended_at: row.ended_at,
            reason: row.reason,
            answer: row.answer,
        }
    }
}

impl Store {
    /// Notes alarms with a shelf that has expired since a time.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    ///
    /// # Cancel safety
    /// All or nothing.
    pub async fn note_expired_shelves(
        &self,
        since: OffsetDateTime,
        now: OffsetDateTime,
    ) -> Result<(), StoreError> {
        let select = "SELECT a.id FROM alarm a JOIN alarm_operator o ON o.alarm_id = a.root_id \
             WHERE a.cleared_at IS NULL AND o.shelved_until > $1 AND o.shelved_until <= $2";
        let alarms: Vec<Uuid> = rows::column(&self.db, select, [since.into(), now.into()]).await?;
        if alarms.is_empty() {
            return Ok(());
        }
        let txn = self.db.begin().await?;
        hold_alarms(&txn).await?;
        note(&txn, Touched { alarms, incidents: Vec::new() }, (now, now)).await?;
        txn.commit().await?;
        Ok(())
    }

    /// Notices that are due to be composed, oldest first.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn due_notices(
        &self,
        now: OffsetDateTime,
        limit: i64,
    ) -> Result<Vec<DueNotice>, StoreError> {
        let select = "SELECT n.id, n.no, n.incident_id, n.receiver_id, n.kind, n.at, \
                 coalesce(i.said_severity, n.severity) AS severity \
             FROM notice n LEFT JOIN incident i ON i.id = n.incident_id \
             WHERE n.composed_at IS NULL AND n.due_at <= $1 ORDER BY n.no LIMIT $2";
        let found: Vec<DueRow> = rows::all(&self.db, select, [now.into(), limit.into()]).await?;
        let due = found.into_iter().map(|row| DueNotice {
            id: NoticeId::from_uuid(row.id),
            no: row.no,
            incident: row.incident_id.map(IncidentId::from_uuid),
            receiver: row.receiver_id.map(ReceiverId::from_uuid),
            kind: NoticeKind::of(&row.kind),
            at: row.at,
            severity: row.severity.as_deref().and_then(severity::of),
        });
        Ok(due.collect())
    }

    /// Records the content of a notice, and a delivery for each receiver that takes it. An action that has
    /// had its requests of this hour is skipped. Nothing where the notice was withdrawn or composed
    /// meanwhile.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    ///
    /// # Cancel safety
    /// All or nothing.
    pub async fn record_composed(
        &self,
        composed: &Composed,
        now: OffsetDateTime,
    ) -> Result<(), StoreError> {
        let txn = self.db.begin().await?;
        let id = composed.id.as_uuid();
        let update = "UPDATE notice SET composed_at = $2, content = $3, severity = $4 \
             WHERE id = $1 AND composed_at IS NULL";
        let severity = composed.severity.map(severity::name);
        let values: [Value; 4] =
            [id.into(), now.into(), composed.content.clone().into(), severity.into()];
        if txn.execute_raw(sql(update, values)).await?.rows_affected() == 0 {
            return Ok(());
        }
        for receiver in receivers::by_ids(&txn, &composed.receivers).await? {
            let skipped = skip_reason(&txn, &receiver, now).await?;
            let state = match skipped {
                None => DeliveryState::Waiting,
                Some(_) => DeliveryState::Skipped,
            };
            let insert = "INSERT INTO delivery \
                     (id, notice_id, receiver_id, state, next_at, ended_at, reason) \
                 VALUES ($1, $2, $3, $4, $5, $6, $7)";
            let values: [Value; 7] = [
                Uuid::now_v7().into(),
                id.into(),
                receiver.id.as_uuid().into(),
                state.name().into(),
                now.into(),
                skipped.as_ref().map(|_| now).into(),
                skipped.into(),
            ];
            txn.execute_raw(sql(insert, values)).await?;
        }
        tell(&txn, id).await?;
        txn.commit().await?;
        Ok(())
    }

    /// Makes a test notice for a receiver; gives its id and number.
    ///
    /// # Errors
    /// [`StoreError::Receiver`] for an unknown receiver; [`StoreError::Database`].
    pub async fn test_receiver(
        &self,
        receiver: ReceiverId,
        user: &str,
    ) -> Result<(NoticeId, i64), StoreError> {
        self.request(receiver, None, user).await
    }

    /// Makes a notice about an incident for a receiver; gives its id and number.
    ///
    /// # Errors
    /// [`StoreError::Receiver`] for an unknown receiver; [`StoreError::Database`].
    pub async fn request_notice(
        &self,
        receiver: ReceiverId,
        incident: IncidentId,
        user: &str,
    ) -> Result<(NoticeId, i64), StoreError> {
        self.request(receiver, Some(incident), user).await
    }

    async fn request(
        &self,
        receiver: ReceiverId,
        incident: Option<IncidentId>,
        user: &str,
    ) -> Result<(NoticeId, i64), StoreError> {
        let txn = self.db.begin().await?;
        let name = receivers::known(&txn, receiver).await?.receiver.name;
        let now = OffsetDateTime::now_utc();
        let (kind, action) = match incident {
            Some(_) => (NoticeKind::Requested, Action::NoticeRequested),
            None => (NoticeKind::Test, Action::ReceiverTested),
        };
        let incident_id = incident.map(IncidentId::as_uuid);
        let new =
            NewNotice { incident: incident_id, receiver: Some(receiver), kind, severity: None };
        let made = insert(&txn, new, (now, now)).await?;
        let detail = serde_json::json!({ "incident": incident, "notice": made.1 });
        audit(&txn, &Audited { user, action, object: &name, detail }).await?;
        txn.commit().await?;
        Ok(made)
    }

    /// Notices with their deliveries, newest first.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn notices(
        &self,
        which: NoticeQuery,
        limit: i64,
    ) -> Result<Vec<NoticeRecord>, StoreError> {
        let select = "SELECT n.id, n.no, i.no AS incident_no, n.kind, n.at, n.severity, n.content \
             FROM notice n LEFT JOIN incident i ON i.id = n.incident_id \
             WHERE n.no < $1 AND ($2::uuid IS NULL OR n.incident_id = $2) \
                 AND ($3::text IS NULL OR EXISTS (SELECT FROM delivery d \
                     WHERE d.notice_id = n.id AND d.state = $3)) \
             ORDER BY n.no DESC LIMIT $4";
        let values: [Value; 4] = [
            which.before.unwrap_or(i64::MAX).into(),
            which.incident.map(IncidentId::as_uuid).into(),
            which.state.map(DeliveryState::name).into(),
            limit.into(),
        ];
        let found: Vec<NoticeRow> = rows::all(&self.db, select, values).await?;
        let ids: Vec<Uuid> = found.iter().map(|row| row.id).collect();
        let select = "SELECT d.id, d.notice_id, d.receiver_id, r.name, \
                 r.content->>'channel' AS channel, d.state, d.attempts, d.next_at, d.ended_at, \
                 d.reason, d.answer \
             FROM delivery d JOIN receiver r ON r.id = d.receiver_id \
             WHERE d.notice_id = ANY($1) ORDER BY r.name, d.id";
        let mut deliveries: BTreeMap<Uuid, Vec<DeliveryRecord>> = BTreeMap::new();
        for row in rows::all::<DeliveryRow>(&self.db, select, [ids.into()]).await? {
            deliveries.entry(row.notice_id).or_default().push(row.into());
        }
        let record = |row: NoticeRow| NoticeRecord {
            id: NoticeId::from_uuid(row.id),
            no: row.no,
            incident_no: row.incident_no,
            kind: NoticeKind::of(&row.kind),
            at: row.at,
            severity: row.severity.as_deref().and_then(severity::of),
            content: row.content,
            deliveries: deliveries.remove(&row.id).unwrap_or_default(),
        };
        Ok(found.into_iter().map(record).collect())
    }
}

/// Why a receiver is not sent a notice that it takes.
async fn skip_reason(
    txn: &DatabaseTransaction,
    receiver: &ReceiverRecord,
    now: OffsetDateTime,
) -> Result<Option<String>, StoreError> {
    let Channel::Action { per_hour, .. } = receiver.receiver.channel else { return Ok(None) };
    // Two notices that are composed at one time must not both take the last request.
    let lock = "SELECT 1 FROM receiver WHERE id = $1 FOR UPDATE";
    txn.execute_raw(sql(lock, [receiver.id.as_uuid().into()])).await?;
    let select = "SELECT count(*) FROM delivery d JOIN notice n ON n.id = d.notice_id \
         WHERE d.receiver_id = $1 AND d.state <> $2 AND n.composed_at > $3 - interval '1 hour'";
    let values: [Value; 3] =
        [receiver.id.as_uuid().into(), DeliveryState::Skipped.name().into(), now.into()];
    let requests: i64 = rows::value(txn, select, values).await?.unwrap_or_default();
    let reached = requests >= i64::from(per_hour);
    Ok(reached.then(|| format!("{requests} requests within an hour: the limit is {per_hour}")))
}
