//! The queue of alarms: those of paths, and those that events make up, in one order.

use crate::alarms::{AlarmRecord, alarm_record, name_of};
use crate::entity::alarm;
use crate::events::{self, EventRecord};
use crate::times::Lasting;
use crate::{Store, StoreError, rows};
use itinera_model::alarm::{AlarmClass, Severity};
use itinera_model::triage::OperatorState;
use sea_orm::FromQueryResult;
use sea_orm::entity::prelude::*;
use std::collections::BTreeMap;
use time::OffsetDateTime;

/// Which alarms, by assignment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AssigneeFilter {
    /// Those that are not assigned.
    Unassigned,
    /// Those assigned to the user of this name.
    User(String),
}

/// Which alarms, of paths and of events. By default all.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct AlarmQuery {
    /// Only those that lasted then.
    pub lasting: Lasting,
    /// Only those in these operator states.
    pub states: Option<Vec<OperatorState>>,
    /// Only those with this assignment.
    pub assignee: Option<AssigneeFilter>,
    /// Only those of these severities.
    pub severities: Option<Vec<Severity>>,
    /// Only those of these classes.
    pub classes: Option<Vec<AlarmClass>>,
}

/// The rows of one alarm.
#[derive(Debug, Clone, PartialEq)]
pub enum AlarmRows {
    /// An alarm of paths.
    Paths(Box<AlarmRecord>),
    /// Events of one cause in one incident: the root, which gives the alarm its id, then the others, oldest first.
    Events(Vec<EventRecord>),
}

#[derive(FromQueryResult)]
struct RootRow {
    id: Uuid,
    class: String,
}

impl Store {
    /// A page of alarms of paths and of events, newest first, at most `limit`, those before `before` in that
    /// order. Operator states are those at `now`.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn alarm_page(
        &self,
        which: &AlarmQuery,
        now: OffsetDateTime,
        before: Option<(OffsetDateTime, Uuid)>,
        limit: u64,
    ) -> Result<Vec<AlarmRows>, StoreError> {
        let select = "SELECT e.id, e.class FROM alarm e \
                 LEFT JOIN alarm_operator w ON w.alarm_id = e.id \
                 LEFT JOIN user_account u ON u.id = w.assignee_id \
             WHERE e.id = e.root_id \
                 AND EXISTS (SELECT FROM alarm o WHERE o.root_id = e.id AND o.severity IS NOT NULL \
                     AND (NOT $1 OR o.cleared_at IS NULL) \
                     AND ($2::timestamptz IS NULL OR o.cleared_at IS NULL OR o.cleared_at >= $2) \
                     AND ($3::timestamptz IS NULL OR o.raised_at <= $3) \
                     AND ($4::text[] IS NULL OR o.severity = ANY($4))) \
                 AND ($5::text[] IS NULL OR CASE WHEN w.closed_at IS NOT NULL THEN 'closed' \
                     WHEN w.shelved_until > $6 THEN 'shelved' \
                     WHEN w.acknowledged_at IS NOT NULL THEN 'ack' ELSE 'none' END = ANY($5)) \
                 AND (NOT $7 OR w.assignee_id IS NULL) AND ($8::text IS NULL OR u.name = $8) \
                 AND ($12::text[] IS NULL OR e.class = ANY($12)) \
                 AND ($9::timestamptz IS NULL OR (e.raised_at, e.id) < ($9, $10)) \
             ORDER BY e.raised_at DESC, e.id DESC LIMIT $11";
        let severities = which
            .severities
            .as_ref()
            .map(|severities| severities.iter().filter_map(name_of).collect::<Vec<String>>());
        let states = which.states.as_ref().map(|states| {
            states.iter().map(|state| state.name().to_owned()).collect::<Vec<String>>()
        });
        let classes = which.classes.as_ref().map(|classes| {
            classes.iter().map(|class| class.name().to_owned()).collect::<Vec<String>>()
        });
        let user = match &which.assignee {
            Some(AssigneeFilter::User(name)) => Some(name.clone()),
            Some(AssigneeFilter::Unassigned) | None => None,
        };
        let values: [Value; 12] = [
            which.lasting.open.into(),
            which.lasting.from.into(),
            which.lasting.to.into(),
            severities.into(),
            states.into(),
            now.into(),
            (which.assignee == Some(AssigneeFilter::Unassigned)).into(),
            user.into(),
            before.map(|(at, _)| at).into(),
            before.map_or(Uuid::nil(), |(_, id)| id).into(),
            i64::try_from(limit).unwrap_or(i64::MAX).into(),
            classes.into(),
        ];
        self.rows_of(rows::all(&self.db, select, values).await?).await
    }

    /// One alarm of paths or of events by its root, or by another event of its cause; absent when nothing
    /// has this id.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn alarm(&self, id: Uuid) -> Result<Option<AlarmRows>, StoreError> {
        let select = "SELECT r.id, r.class FROM alarm a JOIN alarm r ON r.id = a.root_id \
             WHERE a.id = $1 AND EXISTS (SELECT FROM alarm o \
                 WHERE o.root_id = r.id AND o.severity IS NOT NULL)";
        let found = self.rows_of(rows::all(&self.db, select, [id.into()]).await?).await?;
        Ok(found.into_iter().next())
    }

    /// The alarms of some roots, in their order.
    async fn rows_of(&self, roots: Vec<RootRow>) -> Result<Vec<AlarmRows>, StoreError> {
        let (of_paths, of_events): (Vec<&RootRow>, Vec<&RootRow>) =
            roots.iter().partition(|root| root.class == AlarmClass::Path.name());
        let records = alarm::Entity::find()
            .filter(alarm::Column::Id.is_in(of_paths.into_iter().map(|root| root.id)));
        let records = records.all(&self.db).await?.into_iter();
        let mut records: BTreeMap<Uuid, alarm::Model> =
            records.map(|record| (record.id, record)).collect();
        let of_events = of_events.into_iter().map(|root| root.id).collect();
        let mut events = events::of_roots(&self.db, of_events).await?;
        let mut all = Vec::with_capacity(roots.len());
        for RootRow { id, .. } in &roots {
            if let Some(record) = records.remove(id) {
                all.push(AlarmRows::Paths(Box::new(alarm_record(record)?)));
            } else if let Some(events) = events.remove(id) {
                all.push(AlarmRows::Events(events));
            }
        }
        Ok(all)
    }
}
